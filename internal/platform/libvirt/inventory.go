package libvirt

import (
	"context"
	"encoding/hex"
	"encoding/xml"
	"errors"
	"fmt"
	"path"
	"slices"
	"strings"

	rpc "github.com/digitalocean/go-libvirt"

	"kestrel/internal/core/berth"
	"kestrel/internal/platform"
)

// uuidText writes a UUID as libvirt does.
func uuidText(u rpc.UUID) string {
	h := hex.EncodeToString(u[:])
	return h[:8] + "-" + h[8:12] + "-" + h[12:16] + "-" + h[16:20] + "-" + h[20:]
}

func parseUUID(text string) (u rpc.UUID, err error) {
	b, err := hex.DecodeString(strings.ReplaceAll(text, "-", ""))
	if err != nil || len(b) != len(u) {
		return u, fmt.Errorf("%q is not a machine's ID", text)
	}
	copy(u[:], b)
	return u, nil
}

// Inventory implements platform.Driver. A machine that several hosts know, as
// after a migration, is listed where it runs. A host that does not answer keeps
// the others from nothing.
func (d *Driver) Inventory(ctx context.Context) (platform.Inventory, error) {
	var all platform.Inventory
	var failed error
	for _, h := range d.hosts {
		inv, err := d.inventoryOf(ctx, h)
		d.mu.Lock()
		if err != nil {
			failed = errors.Join(failed, err)
			inv = d.seen[h]
		} else {
			d.seen[h] = inv
		}
		d.mu.Unlock()
		all.Hosts, all.Pools = append(all.Hosts, inv.Hosts...), append(all.Pools, inv.Pools...)
		all.Datastores = append(all.Datastores, inv.Datastores...)
		for _, n := range inv.Networks {
			all.Networks = addNetwork(all.Networks, n)
		}
		for _, m := range inv.Machines {
			if at := slices.IndexFunc(all.Machines, func(x platform.Machine) bool { return x.ID == m.ID }); at < 0 {
				all.Machines = append(all.Machines, m)
			} else if m.Power != platform.PowerOff {
				all.Machines[at] = m
			}
		}
	}
	if failed != nil {
		if len(all.Hosts) == 0 || len(d.hosts) == 1 {
			return platform.Inventory{}, failed
		}
		all.Trouble = failed.Error()
	}
	all.Names, all.Ways, all.Formats = nameRule(), []berth.Way{berth.DHCP, berth.Agent, berth.Seed}, formats()
	slices.SortFunc(all.Machines, func(a, b platform.Machine) int { return strings.Compare(a.Name, b.Name) })
	d.settleSoon()
	d.askAddressesSoon(all.Machines)
	for i := range all.Machines {
		for k, c := range all.Machines[i].NICs {
			if at := slices.IndexFunc(all.Networks, func(n platform.Network) bool { return n.Name == c.Network }); at >= 0 && c.VLAN == 0 {
				all.Machines[i].NICs[k].VLAN = all.Networks[at].VLAN
			}
		}
	}
	return all, nil
}

// pool is a storage pool that is active.
type pool struct {
	ref      rpc.StoragePool
	name     string
	path     string // of a folder, empty for other kinds
	capacity int64
	free     int64
}

func pools(l *rpc.Libvirt) ([]pool, error) {
	all, _, err := l.ConnectListAllStoragePools(1, 0)
	if err != nil {
		return nil, err
	}
	var out []pool
	for _, p := range all {
		state, capacity, _, free, err := l.StoragePoolGetInfo(p)
		if err != nil || state != uint8(rpc.StoragePoolRunning) {
			continue
		}
		text, err := l.StoragePoolGetXMLDesc(p, 0)
		if err != nil {
			continue // it went away meanwhile
		}
		var x struct {
			Type   string `xml:"type,attr"`
			Target struct {
				Path string `xml:"path"`
			} `xml:"target"`
		}
		if err := xml.Unmarshal([]byte(text), &x); err != nil {
			return nil, fmt.Errorf("read pool %s: %w", p.Name, err)
		}
		o := pool{ref: p, name: p.Name, capacity: int64(capacity), free: int64(free)}
		if x.Type == "dir" || x.Type == "fs" || x.Type == "netfs" {
			o.path = x.Target.Path
		}
		out = append(out, o)
	}
	return out, nil
}

func poolOf(ps []pool, file string) (pool, bool) {
	for _, p := range ps {
		if p.path != "" && path.Dir(file) == path.Clean(p.path) {
			return p, true
		}
	}
	return pool{}, false
}

func (d *Driver) inventoryOf(ctx context.Context, h *host) (platform.Inventory, error) {
	return call(ctx, h, callLimit, func(l *rpc.Libvirt) (inv platform.Inventory, err error) {
		_, memory, cpus, _, _, _, _, _, err := l.NodeGetInfo()
		if err != nil {
			return inv, fmt.Errorf("ask host %s: %w", h.name(), err)
		}
		id := h.name()
		inv.Hosts = append(inv.Hosts, platform.Host{ID: id, Name: h.name(), CPUs: int(cpus), MemoryBytes: int64(memory) << 10})
		ps, err := pools(l)
		if err != nil {
			return inv, fmt.Errorf("storage pools of host %s: %w", h.name(), err)
		}
		for _, p := range ps {
			inv.Datastores = append(inv.Datastores, platform.Datastore{ID: d.scoped(h, p.name), Name: d.scoped(h, p.name), CapacityBytes: p.capacity, FreeBytes: p.free})
		}
		nets, _, err := l.ConnectListAllNetworks(1, 0)
		if err != nil {
			return inv, fmt.Errorf("networks of host %s: %w", h.name(), err)
		}
		for _, n := range nets {
			text, err := l.NetworkGetXMLDesc(n, 0)
			if is(err, rpc.ErrNoNetwork) {
				continue // undefined meanwhile
			}
			if err != nil {
				return inv, fmt.Errorf("network %s: %w", n.Name, err)
			}
			x, err := networkOf(n.Name, text)
			if err != nil {
				return inv, err
			}
			inv.Networks = addNetwork(inv.Networks, x)
		}
		domains, _, err := l.ConnectListAllDomains(1, 0)
		if err != nil {
			return inv, fmt.Errorf("machines of host %s: %w", h.name(), err)
		}
		var used int64
		for _, dom := range domains {
			m, running, err := d.machine(l, h, ps, dom)
			if is(err, rpc.ErrNoDomain) {
				continue // undefined meanwhile
			}
			if err != nil {
				return inv, fmt.Errorf("machine %s: %w", dom.Name, err)
			}
			if running {
				used += m.MemoryBytes
			}
			for _, n := range m.NICs {
				inv.Networks = addNetwork(inv.Networks, unmanaged(n.Network))
			}
			inv.Machines = append(inv.Machines, m)
		}
		inv.Pools = append(inv.Pools, platform.Pool{ID: id, Name: h.name(), MemoryBytes: int64(memory) << 10, MemoryFreeBytes: int64(memory)<<10 - used})
		return inv, nil
	})
}

// scoped names something of one host: several hosts may use the same names.
func (d *Driver) scoped(h *host, name string) string {
	if len(d.hosts) == 1 {
		return name
	}
	return h.name() + "/" + name
}

func (d *Driver) machine(l *rpc.Libvirt, h *host, ps []pool, dom rpc.Domain) (platform.Machine, bool, error) {
	text, err := l.DomainGetXMLDesc(dom, 0)
	if err != nil {
		return platform.Machine{}, false, err
	}
	x, err := parseDomain(text)
	if err != nil {
		return platform.Machine{}, false, err
	}
	state, _, err := l.DomainGetState(dom, 0)
	if err != nil {
		return platform.Machine{}, false, err
	}
	m := platform.Machine{ID: uuidText(dom.UUID), Name: x.Name, Folder: "/" + h.name(), Host: h.name(), Pool: h.name(), Power: power(state),
		Guest: x.OS.Type.Arch, CPUs: x.VCPU, MemoryBytes: x.memoryBytes(), Tags: []string{}}
	if x.Metadata.Hold != nil && x.Metadata.Hold.Started {
		m.Power = platform.PowerOff // it is only open for us to read
	}
	switch channel, connected := x.agent(); {
	case !channel:
		m.Agent = platform.AgentNone
	case connected:
		m.Agent = platform.AgentAnswers
	default:
		m.Agent = platform.AgentSilent
	}
	remote := slices.ContainsFunc(x.copied(), diskXML.remote)
	for _, k := range x.copied() {
		p, known := poolOf(ps, k.Source.File)
		disk := platform.Disk{Key: k.Target.Dev, Label: k.Target.Dev, Boot: k.Target.Dev == x.boot()}
		if known {
			disk.Datastore = d.scoped(h, p.name)
		}
		compat := ""
		disk.SizeBytes, disk.UsedBytes = diskSize(l, dom, k, state != int32(rpc.DomainShutoff), remote)
		if k.Driver.Type == "qcow2" && known {
			compat = d.compat(l, k.Source.File)
		}
		disk.Untrackable, disk.Mend = k.untrackable(compat)
		m.Disks = append(m.Disks, disk)
	}
	for _, n := range x.Devices.NICs {
		m.NICs = append(m.NICs, d.nic(m.ID, n))
	}
	if len(x.Devices.Hostdevs) > 0 {
		m.Tags = append(m.Tags, "passthrough")
	}
	if x.Metadata.Landed != nil {
		m.Tags, m.Landed = append(m.Tags, "landed"), true
	}
	return m, state == 1, nil
}

func (d *Driver) nic(machine string, n nicXML) platform.NIC {
	c := platform.NIC{MAC: n.MAC.Address, Network: n.network(), Address: d.addressOf(machine, n.MAC.Address)}
	if len(n.VLAN.Tags) == 1 {
		c.VLAN = n.VLAN.Tags[0].ID
	}
	return c
}

// diskSize is a disk's size and what it takes up. Its pool is asked first: to be
// asked for sizes makes QEMU walk the layers of all disks, and QEMU 7.2 crashes
// if they change at that moment. It is asked only for what is in no pool, and
// not while a job runs or one of the machine's disks is on the network.
func diskSize(l *rpc.Libvirt, dom rpc.Domain, k diskXML, active, remote bool) (size, used int64) {
	if v, err := l.StorageVolLookupByPath(k.where()); err == nil {
		if _, capacity, allocation, err := l.StorageVolGetInfo(v); err == nil {
			return int64(capacity), int64(min(allocation, capacity))
		}
	}
	if active {
		if found, _, _, _, _, err := l.DomainGetBlockJobInfo(dom, k.Target.Dev, 0); remote || err != nil || found == 1 {
			return 0, 0
		}
	}
	allocation, capacity, _, err := l.DomainGetBlockInfo(dom, k.Target.Dev, 0)
	if err != nil {
		return 0, 0
	}
	return int64(capacity), int64(min(allocation, capacity))
}

// compat is the version of a qcow2 file's format, "0.10" or "1.1", if its pool
// knows. A file keeps its version, so it is asked for once.
func (d *Driver) compat(l *rpc.Libvirt, file string) string {
	d.mu.Lock()
	c, ok := d.compats[file]
	d.mu.Unlock()
	if ok {
		return c
	}
	v, err := l.StorageVolLookupByPath(file)
	if err != nil {
		return ""
	}
	text, err := l.StorageVolGetXMLDesc(v, 0)
	if err != nil {
		return ""
	}
	var x struct {
		Target struct {
			Compat string `xml:"compat"`
		} `xml:"target"`
	}
	if xml.Unmarshal([]byte(text), &x) != nil || x.Target.Compat == "0.10" {
		return x.Target.Compat // it may be amended: ask again next time
	}
	d.mu.Lock()
	d.compats[file] = x.Target.Compat
	d.mu.Unlock()
	return x.Target.Compat
}

// find looks for a machine on all hosts: it may have moved. One that several
// hosts know is taken where it runs.
func (d *Driver) find(ctx context.Context, id string) (*host, rpc.Domain, error) {
	u, err := parseUUID(id)
	if err != nil {
		return nil, rpc.Domain{}, err
	}
	var at *host
	var found rpc.Domain
	var failed error
	for _, h := range d.hosts {
		type answer struct {
			dom   rpc.Domain
			state int32
		}
		a, err := call(ctx, h, callLimit, func(l *rpc.Libvirt) (a answer, err error) {
			if a.dom, err = l.DomainLookupByUUID(u); err == nil {
				a.state, _, err = l.DomainGetState(a.dom, 0)
			}
			return a, err
		})
		switch {
		case is(err, rpc.ErrNoDomain):
		case err != nil:
			failed = errors.Join(failed, err)
		case at == nil || power(a.state) != platform.PowerOff:
			at, found = h, a.dom
		}
	}
	if at == nil {
		if failed != nil {
			return nil, rpc.Domain{}, failed
		}
		return nil, rpc.Domain{}, fmt.Errorf("machine %s is on none of the hosts: %w", id, platform.ErrGone)
	}
	return at, found, nil
}
