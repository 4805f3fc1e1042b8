package landing

import (
	"context"
	"fmt"
	"net/netip"
	"slices"
	"strings"
	"time"

	"kestrel/internal/api"
	"kestrel/internal/core/actor"
	"kestrel/internal/core/berth"
	"kestrel/internal/core/drill"
	"kestrel/internal/platform"
	"kestrel/internal/problem"
)

// Planned is a machine as it would arrive.
type Planned struct {
	Machine, Name string
	Wave          int
	CPUs          int   // 0 is as at home
	Memory        int64 // the same, in bytes
	Networks      []string
	Check         string // what its wave waits for, in words; empty is nothing
	InPlace       bool   // of an old one
}

// Plan tells how machines would arrive, in the places of old ones if there are any, what bars it, and which of the networks that they
// would be on are no place for a drill, with why. It changes nothing.
func (l *Landings) Plan(ctx context.Context, who actor.Actor, in api.NewLanding, old []Old) (machines []Planned, open []string, err error) {
	if _, err := l.Keeper.Mine(ctx, in.Point); err != nil {
		return nil, nil, err
	}
	seal, err := l.Keeper.Seal(in.Point)
	if err != nil {
		return nil, nil, problem.NotFound("point", in.Point)
	}
	x := &plan{old: old}
	l.fill(x, who, seal, in)
	if len(x.faults) > 0 {
		return nil, nil, problem.InvalidFields(x.faults...)
	}
	seen := map[string]bool{}
	for _, s := range x.all {
		p := Planned{Machine: s.detail.MachineName, Name: s.detail.Name, InPlace: s.detail.InPlaceOf != ""}
		if a := s.detail.Arrival; a != nil {
			p.Wave, p.CPUs, p.Memory = a.Wave, a.CPUs, a.Memory
			if c := a.check().Check; c != berth.CheckNone {
				p.Check = c.Words()
			}
		}
		for _, c := range s.detail.NICs {
			name := c.Name
			if c.Network == "" {
				name = "not connected"
			}
			p.Networks = append(p.Networks, name)
			if c.Network != "" && !seen[c.Network] {
				seen[c.Network] = true
				if why := l.populated(x, c); why != "" {
					open = append(open, why)
				}
			}
		}
		machines = append(machines, p)
	}
	slices.SortStableFunc(machines, func(a, b Planned) int { return a.Wave - b.Wave })
	return machines, open, nil
}

// populated says why a network is no place for a drill; empty if it is one.
func (l *Landings) populated(x *plan, c card) string {
	inv := x.place.Held()
	var there []string
	for _, m := range inv.Machines {
		if m.Power == platform.PowerOn && !m.Landed && slices.ContainsFunc(m.NICs, func(n platform.NIC) bool { return strings.EqualFold(n.Network, c.Name) }) {
			there = append(there, m.Name)
		}
	}
	at := slices.IndexFunc(inv.Networks, func(n platform.Network) bool { return n.ID == c.Network })
	switch {
	case len(there) > 0:
		return fmt.Sprintf("%s runs on the network %s: a machine of the drill could be taken for one that is live.", strings.Join(there[:min(3, len(there))], ", "), c.Name)
	case at >= 0 && !inv.Networks[at].Isolated:
		return fmt.Sprintf("The network %s is not known to be isolated: machines of the drill could be reached from outside, and reach out.", c.Name)
	}
	return ""
}

// Standing is how a machine of a drill or failover stands.
type Standing struct {
	drill.Machine
	ID        string
	Home      string // its name there
	State     string
	Checked   string // what came of its check, in words
	Came      string // of what its guest was told
	Error     string
	Platform  string // ID
	InPlaceOf string // ID of the machine in whose place it came; empty is none
	Networks  []string
	// Addresses that it has, as far as is known: what the berth says, and what is seen.
	Addresses []netip.Addr
	// LocalBytes of TotalBytes of its disks are local.
	LocalBytes, TotalBytes int64
}

// Recover makes the machines of a drill or failover that are not there yet; it may be called again.
func (l *Landings) Recover(ctx context.Context, who actor.Actor, in api.NewLanding, id string, old []Old) error {
	have := map[string]bool{}
	for _, s := range l.OfRecovery(id) {
		have[s.Home] = true
	}
	if len(have) > 0 { // it was cut off between two machines
		seal, err := l.Keeper.Seal(in.Point)
		if err != nil {
			return problem.NotFound("point", in.Point)
		}
		lacking := []string{}
		for _, m := range seal.Machines {
			if !have[m.Name] && (in.Machines == nil || slices.ContainsFunc(*in.Machines, func(t string) bool { return t == m.ID || strings.EqualFold(t, m.Name) })) {
				lacking = append(lacking, m.ID)
			}
		}
		if len(lacking) == 0 {
			return nil
		}
		in.Machines = &lacking
	}
	_, err := l.create(ctx, who, in, false, id, old)
	return err
}

// OfRecovery lists how the machines of a drill or failover stand, by wave and name.
func (l *Landings) OfRecovery(id string) []Standing {
	out := l.ofRecovery(id)
	for i, x := range out {
		p, _ := l.Inventory.Get(x.Platform)
		m, _ := p.Machine(x.ID)
		for _, n := range m.NICs {
			if a, err := netip.ParseAddr(n.Address); err == nil && !slices.Contains(x.Addresses, a) {
				out[i].Addresses = append(out[i].Addresses, a)
			}
		}
	}
	return out
}

func (l *Landings) ofRecovery(id string) (out []Standing) {
	l.mu.Lock()
	defer l.mu.Unlock()
	for _, s := range l.byID {
		if s.detail.Recovery != id {
			continue
		}
		x := Standing{ID: s.rec.ID, Home: s.detail.MachineName, State: s.rec.State, Error: s.detail.Error, Platform: s.rec.Platform, LocalBytes: s.detail.LocalBytes, TotalBytes: s.detail.TotalBytes, InPlaceOf: s.detail.InPlaceOf}
		x.Name, x.Lost = s.detail.Name, s.rec.State == gone
		x.Started = or(s.detail.StartedAt)
		if a := s.detail.Arrival; a != nil {
			x.Wave, x.Passed, x.Missed, x.Checked, x.Came = a.Wave, or(a.Passed), a.Missed, a.Checked, a.Came
		}
		for _, c := range s.detail.NICs {
			if c.Name != "" {
				x.Networks = append(x.Networks, c.Name)
			}
			if c.Address.IsValid() {
				x.Addresses = append(x.Addresses, c.Address)
			}
		}
		out = append(out, x)
	}
	slices.SortFunc(out, func(a, b Standing) int {
		if a.Wave != b.Wave {
			return a.Wave - b.Wave
		}
		return strings.Compare(a.Name, b.Name)
	})
	return out
}

func or(t *time.Time) time.Time {
	if t == nil {
		return time.Time{}
	}
	return *t
}
