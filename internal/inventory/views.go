package inventory

import (
	"cmp"
	"fmt"
	"slices"
	"strings"
	"time"

	"kestrel/internal/api"
	"kestrel/internal/core/scope"
	"kestrel/internal/core/words"
	"kestrel/internal/listing"
	"kestrel/internal/platform"
	"kestrel/internal/problem"
)

// platformView is a platform as the contract shows it; the lock is held.
func platformView(p *state) api.Platform {
	now := p.now()
	v := api.Platform{ID: p.rec.ID, Name: p.rec.Name, Kind: p.rec.Kind, Address: p.rec.Address, User: p.rec.Username, Reachable: now.Up, Machines: len(now.Held().Machines)}
	if !p.seenAt.IsZero() {
		v.SeenAt = new(p.seenAt) // of its own: it is read when the lock is long let go
	}
	_, v.Lands = now.Lander()
	if p.rec.Kind == "libvirt" {
		v.Libvirt = p.set.view()
	}
	switch trouble := now.Held().Trouble; {
	case p.err != nil:
		v.Error = new(words.Upper(p.err.Error()))
	case trouble != "":
		v.Error = new(words.Upper(trouble))
	}
	for _, address := range strings.Fields(p.rec.Address) {
		if host := Host(address); ShortName(host) {
			v.Warning = new(fmt.Sprintf("%q is a short name: it works only while this host's search domain fits. Use the full name or an IP address.", host))
		}
	}
	return v
}

// Platforms lists all.
func (v *Inventory) Platforms() []api.Platform {
	v.mu.Lock()
	out := make([]api.Platform, 0, len(v.byID))
	for _, p := range v.byID {
		out = append(out, platformView(p))
	}
	v.mu.Unlock()
	slices.SortFunc(out, func(a, b api.Platform) int { return strings.Compare(a.Name, b.Name) })
	return out
}

// Resources lists what a platform has besides machines.
func (v *Inventory) Resources(id string) (api.Inventory, error) {
	p, err := v.Find(id)
	if err != nil {
		return api.Inventory{}, err
	}
	if p.seen == nil {
		if p.Err == nil {
			return api.Inventory{}, problem.Unreachable("%s has not answered yet.", p.Name)
		}
		return api.Inventory{}, problem.Unreachable("%v", p.Err)
	}
	inv := p.Held()
	out := api.Inventory{Hosts: []api.Resource{}, Pools: []api.Resource{}, Datastores: []api.Resource{}, Networks: []api.Named{}}
	used := map[string]int64{}
	for _, m := range inv.Machines {
		used[m.Host] += m.MemoryBytes
	}
	for _, h := range inv.Hosts {
		out.Hosts = append(out.Hosts, api.Resource{ID: h.ID, Name: h.Name, TotalBytes: h.MemoryBytes, FreeBytes: h.MemoryBytes - used[h.Name]})
	}
	for _, x := range inv.Pools {
		out.Pools = append(out.Pools, api.Resource{ID: x.ID, Name: x.Name, TotalBytes: x.MemoryBytes, FreeBytes: x.MemoryFreeBytes})
	}
	for _, x := range inv.Datastores {
		out.Datastores = append(out.Datastores, api.Resource{ID: x.ID, Name: x.Name, TotalBytes: x.CapacityBytes, FreeBytes: x.FreeBytes})
	}
	for _, x := range inv.Networks {
		out.Networks = append(out.Networks, api.Named{ID: x.ID, Name: x.Name, Note: new(x.Note())})
	}
	return out, nil
}

// MachineFilter narrows, sorts and cuts a list of machines; empty fields let all
// pass.
type MachineFilter struct {
	Query, Platform, Folder, Tag, Power string
	// Coverage is a word of scope, "covered" for what a group protects, or "open" for
	// what nobody has decided about.
	Coverage string
	Page     listing.Page
	// See tells by a machine's group (empty if it has none) whether it may be seen;
	// nil lets all pass.
	See func(group string) bool
}

// What several words are asked for by.
const (
	covered = "covered"
	open    = "open"
)

// Machines lists machines of all platforms, and tells how many there are in all.
func (v *Inventory) Machines(f MachineFilter) ([]api.Machine, int, error) {
	if f.Coverage != "" && f.Coverage != covered && f.Coverage != open && !slices.Contains(scope.States(), f.Coverage) {
		return nil, 0, problem.Invalid("coverage", "%q is none of %s, %s, %s.", f.Coverage, strings.Join(scope.States(), ", "), covered, open)
	}
	out := []api.Machine{}
	for _, p := range v.All() {
		for _, m := range p.Held().Machines {
			if x := v.machineView(p, m); f.matches(x) {
				out = append(out, x)
			}
		}
	}
	page, err := machineOrders().Of(out, byFolder, f.Page)
	return page, len(out), err
}

// machineOrders are the orders of a list of machines.
func machineOrders() listing.Orders[api.Machine] {
	size := func(m api.Machine) (n int64) {
		for _, d := range m.Disks {
			n += d.SizeBytes
		}
		return n
	}
	return listing.Orders[api.Machine]{
		"name":   func(a, b api.Machine) int { return listing.Fold(a.Name, b.Name) },
		"folder": func(a, b api.Machine) int { return strings.Compare(a.Folder, b.Folder) },
		"host":   func(a, b api.Machine) int { return strings.Compare(a.Host, b.Host) },
		"power":  func(a, b api.Machine) int { return strings.Compare(a.Power, b.Power) },
		"coverage": func(a, b api.Machine) int {
			return cmp.Compare(slices.Index(scope.States(), a.Coverage), slices.Index(scope.States(), b.Coverage))
		},
		"group":  func(a, b api.Machine) int { return listing.Fold(value(a.GroupName), value(b.GroupName)) },
		"memory": func(a, b api.Machine) int { return cmp.Compare(a.MemoryBytes, b.MemoryBytes) },
		"size":   func(a, b api.Machine) int { return cmp.Compare(size(a), size(b)) },
	}
}

// byFolder is the order of machines for whom no other is asked for.
func byFolder(a, b api.Machine) int {
	return cmp.Or(strings.Compare(a.Folder, b.Folder), listing.Fold(a.Name, b.Name), strings.Compare(a.ID, b.ID))
}

func (f MachineFilter) matches(v api.Machine) bool {
	if f.Platform != "" && f.Platform != v.Platform && !strings.EqualFold(f.Platform, v.PlatformName) ||
		f.Folder != "" && !strings.HasPrefix(v.Folder+"/", strings.TrimSuffix(f.Folder, "/")+"/") ||
		f.Power != "" && f.Power != v.Power ||
		f.Tag != "" && !slices.ContainsFunc(v.Tags, func(t string) bool { return strings.EqualFold(t, f.Tag) }) {
		return false
	}
	if f.See != nil && !f.See(value(v.Group)) {
		return false
	}
	switch f.Coverage {
	case "", v.Coverage:
	case covered:
		if v.Group == nil {
			return false
		}
	case open:
		if v.Coverage != scope.Unprotected && v.Coverage != scope.Impossible {
			return false
		}
	default:
		return false
	}
	texts := append([]string{v.Name, v.Folder, v.Guest, v.Host, value(v.GroupName)}, v.Tags...)
	for _, n := range v.Nics {
		texts = append(texts, n.Address, n.Network)
	}
	return listing.Matches(f.Query, texts...)
}

func (v *Inventory) machineView(p Platform, m platform.Machine) api.Machine {
	x := api.Machine{ID: MachineID(p.ID, m.ID), Platform: p.ID, PlatformName: p.Name, Name: m.Name, Folder: m.Folder, Tags: append([]string{}, m.Tags...),
		Host: m.Host, Power: m.Power, Guest: m.Guest, Cpus: m.CPUs, MemoryBytes: m.MemoryBytes, Disks: []api.MachineDisk{}, Nics: []api.Nic{}, Agent: orNil(m.Agent), Coverage: v.Coverage(p, m)}
	for _, d := range m.Disks {
		k := api.MachineDisk{Key: d.Key, Label: d.Label, SizeBytes: d.SizeBytes, UsedBytes: d.UsedBytes, Datastore: d.Datastore, Untrackable: orNil(d.Untrackable), Mend: orNil(d.Mend)}
		if d.Boot {
			k.Boot = &d.Boot
		}
		k.Suggest = orNil(scope.Suggest(scope.Disk{Label: d.Label, SizeBytes: d.SizeBytes, Boot: d.Boot}, m.MemoryBytes))
		x.Disks = append(x.Disks, k)
	}
	for _, n := range m.NICs {
		x.Nics = append(x.Nics, api.Nic{Mac: n.MAC, Network: n.Network, Address: n.Address})
	}
	if l, ok := v.LeftOut(p.ID, m.ID); ok {
		x.LeftOut = &api.LeftOutMachine{Reason: l.Reason, By: l.LeftBy, At: l.At.UTC()}
	}
	if g, ok := v.Groups.Guards(p.ID, m.ID); ok {
		x.Group, x.GroupName = &g.ID, &g.Spec.Name
	} else if why, mend := m.Barrier(nil); why != "" {
		x.Barrier, x.Mend = &why, &mend
	}
	return x
}

// SeenAt tells when a platform last answered; zero if it never did.
func (v *Inventory) SeenAt(id string) time.Time {
	v.mu.Lock()
	defer v.mu.Unlock()
	if p := v.byID[id]; p != nil {
		return p.seenAt
	}
	return time.Time{}
}

// Used is what the disks of a machine that are not left out hold at the source, in bytes.
func Used(m platform.Machine, leaves func(disk string) bool) int64 {
	var n int64
	for _, d := range m.Disks {
		if !leaves(d.Key) {
			n += d.UsedBytes
		}
	}
	return n
}
