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
	var all []*row
	by := strings.TrimPrefix(f.Page.Sort, "-")
	for _, p := range v.All() {
		machines := p.Held().Machines
		for i := range machines {
			if x := v.row(&p, &machines[i], f.Coverage != "" || by == "coverage"); f.matches(x) {
				all = append(all, x)
			}
		}
	}
	page, err := machineOrders().Of(all, byFolder, f.Page)
	out := []api.Machine{}
	for _, x := range page {
		out = append(out, v.machineView(*x.p, *x.m))
	}
	return out, len(all), err
}

// row is what a machine is found and ordered by; only what is in a page is shown whole.
type row struct {
	p                          *Platform
	m                          *platform.Machine
	group, groupName, coverage string // no group: empty; coverage only where it is asked for
}

func (v *Inventory) row(p *Platform, m *platform.Machine, coverage bool) *row {
	x := &row{p: p, m: m}
	if coverage {
		x.coverage = v.Coverage(*p, *m)
	}
	if g, ok := v.Groups.Guards(p.ID, m.ID); ok {
		x.group, x.groupName = g.ID, g.Spec.Name
	}
	return x
}

// machineOrders are the orders of a list of machines.
func machineOrders() listing.Orders[*row] {
	size := func(m *row) (n int64) {
		for _, d := range m.m.Disks {
			n += d.SizeBytes
		}
		return n
	}
	return listing.Orders[*row]{
		"name":   func(a, b *row) int { return listing.Fold(a.m.Name, b.m.Name) },
		"folder": func(a, b *row) int { return strings.Compare(a.m.Folder, b.m.Folder) },
		"host":   func(a, b *row) int { return strings.Compare(a.m.Host, b.m.Host) },
		"power":  func(a, b *row) int { return strings.Compare(a.m.Power, b.m.Power) },
		"coverage": func(a, b *row) int {
			return cmp.Compare(slices.Index(scope.States(), a.coverage), slices.Index(scope.States(), b.coverage))
		},
		"group":  func(a, b *row) int { return listing.Fold(a.groupName, b.groupName) },
		"memory": func(a, b *row) int { return cmp.Compare(a.m.MemoryBytes, b.m.MemoryBytes) },
		"size":   func(a, b *row) int { return cmp.Compare(size(a), size(b)) },
	}
}

// byFolder is the order of machines for whom no other is asked for.
func byFolder(a, b *row) int {
	return cmp.Or(strings.Compare(a.m.Folder, b.m.Folder), listing.Fold(a.m.Name, b.m.Name), strings.Compare(a.m.ID, b.m.ID))
}

func (f MachineFilter) matches(x *row) bool {
	if f.Platform != "" && f.Platform != x.p.ID && !strings.EqualFold(f.Platform, x.p.Name) ||
		f.Folder != "" && !strings.HasPrefix(x.m.Folder+"/", strings.TrimSuffix(f.Folder, "/")+"/") ||
		f.Power != "" && f.Power != x.m.Power ||
		f.Tag != "" && !slices.ContainsFunc(x.m.Tags, func(t string) bool { return strings.EqualFold(t, f.Tag) }) {
		return false
	}
	if f.See != nil && !f.See(x.group) {
		return false
	}
	switch f.Coverage {
	case "", x.coverage:
	case covered:
		if x.group == "" {
			return false
		}
	case open:
		if x.coverage != scope.Unprotected && x.coverage != scope.Impossible {
			return false
		}
	default:
		return false
	}
	if f.Query == "" {
		return true
	}
	texts := append([]string{x.m.Name, x.m.Folder, x.m.Guest, x.m.Host, x.groupName}, x.m.Tags...)
	for _, n := range x.m.NICs {
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
