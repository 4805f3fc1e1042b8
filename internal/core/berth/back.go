package berth

import (
	"fmt"
	"net/netip"
	"slices"
	"strconv"
	"strings"
)

// Origin is a machine with where it runs today.
type Origin struct {
	Machine
	// There is its name where it lands, by which the way back finds it.
	There                  string
	Wave                   int
	Platform, Pool, Folder string
	Datastores             []string // of its disks, that of the one it boots from first
}

// Back is the berth by which machines return to where they run today, and what of it could
// not be filled. Waves are those of the way there; networks are those of today's platform,
// none if they are not known.
func Back(origins []Origin, waves []Wave, networks []Network) (b Berth, notes []string) {
	b.Waves = slices.Clone(waves)
	for _, o := range origins {
		m := MachineSettings{Machine: o.There, Wave: o.Wave}
		m.Pool, m.Folder, m.Name = o.Pool, o.Folder, o.Name
		if len(o.Datastores) > 0 {
			m.Datastore = o.Datastores[0]
		}
		if at := slices.IndexFunc(o.Datastores, func(d string) bool { return d != m.Datastore }); at >= 0 {
			notes = append(notes, fmt.Sprintf("The disks of %s are on %s and %s; all of them would arrive on %s.", o.Name, m.Datastore, o.Datastores[at], m.Datastore))
		}
		m.CPUs, m.MemoryBytes = o.CPUs, o.MemoryBytes
		for i, c := range o.Cards {
			x, note := cardBack(c, networks)
			if note != "" {
				notes = append(notes, fmt.Sprintf("The card of %s on %s: %s", o.Name, orNothing(c.Network), note))
			}
			x.Card = strconv.Itoa(i + 1)
			m.Cards = append(m.Cards, x)
		}
		b.Machines = append(b.Machines, m)
		b.Platform = o.Platform
	}
	for _, of := range []func(*Settings) *string{
		func(s *Settings) *string { return &s.Pool }, func(s *Settings) *string { return &s.Datastore }, func(s *Settings) *string { return &s.Folder },
	} {
		b.together(of)
	}
	return b, notes
}

// FreeNames gives machines whose names are taken another: what they had before is there still.
func (b *Berth) FreeNames(taken []string) {
	has := func(name string) bool {
		return slices.ContainsFunc(taken, func(t string) bool { return strings.EqualFold(t, name) }) ||
			slices.ContainsFunc(b.Machines, func(m MachineSettings) bool { return strings.EqualFold(m.Name, name) })
	}
	for i := range b.Machines {
		m := &b.Machines[i]
		if !slices.ContainsFunc(taken, func(t string) bool { return strings.EqualFold(t, m.Name) }) {
			continue
		}
		name := m.Name
		for n := 2; has(name); n++ {
			name = fmt.Sprintf("%s-%d", m.Name, n)
		}
		m.Name = name
	}
}

// TakeNames gives machines the names that FreeNames could not, of those that are free by now, and
// tells whether any has one.
func (b *Berth) TakeNames(free []string) (changed bool) {
	b.Machines = slices.Clone(b.Machines)
	for i := range b.Machines {
		m := &b.Machines[i]
		if base, ok := numbered(m.Name); ok && slices.ContainsFunc(free, func(t string) bool { return strings.EqualFold(t, base) }) {
			m.Name, changed = base, true
		}
	}
	return changed
}

func cardBack(c HomeCard, networks []Network) (x CardSettings, note string) {
	x.Live = c.Network
	if c.Network == "" {
		x.Live = Unconnected
		return x, ""
	}
	if !c.Address.IsValid() {
		return x, "its address is not known, so it has to be set by hand, or an agent in the guest to tell it."
	}
	at := slices.IndexFunc(networks, func(n Network) bool { return strings.EqualFold(n.Name, c.Network) })
	var within netip.Prefix
	if at >= 0 {
		for _, p := range networks[at].Subnets {
			if p.Contains(c.Address) {
				within = p
			}
		}
	}
	if !within.IsValid() {
		return x, fmt.Sprintf("it has %s, and the mask of that is not known here.", c.Address)
	}
	x.Address = netip.PrefixFrom(c.Address, within.Bits()).String()
	if g := networks[at].Gateway; g.IsValid() && within.Contains(g) && g != c.Address {
		x.Gateway = g.String()
	} else {
		x.Gateway = Unconnected
	}
	return x, ""
}

// together says once for the group what is said of each of its machines alike.
func (b *Berth) together(of func(*Settings) *string) {
	if len(b.Machines) == 0 {
		return
	}
	text := *of(&b.Machines[0].Settings)
	if slices.ContainsFunc(b.Machines, func(m MachineSettings) bool { return *of(&m.Settings) != text }) {
		return
	}
	*of(&b.Settings) = text
	for i := range b.Machines {
		*of(&b.Machines[i].Settings) = ""
	}
}
