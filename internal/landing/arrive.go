package landing

import (
	"context"
	"crypto/rand"
	"errors"
	"fmt"
	"net/netip"
	"slices"
	"strings"
	"time"

	"kestrel/internal/berths"
	"kestrel/internal/core/actor"
	"kestrel/internal/core/berth"
	"kestrel/internal/core/words"
	"kestrel/internal/directory"
	"kestrel/internal/nocloud"
	"kestrel/internal/platform"
	"kestrel/internal/points"
)

// Berths tells how the machines of a group arrive here; *berths.Berths is one.
type Berths interface {
	Arrivals(r directory.Record) berths.Arriving
	Waves(r directory.Record) []berth.Wave
}

// arrival is what a landing's record holds of how it arrives by a berth.
type arrival struct {
	Kind   berth.Kind   `json:"kind"`
	Way    berth.Way    `json:"way"`
	Pool   string       `json:"pool,omitempty"`
	CPUs   int          `json:"cpus,omitempty"` // 0 is as at home
	Memory int64        `json:"memory,omitempty"`
	DNS    []netip.Addr `json:"dns,omitempty"`
	Suffix string       `json:"suffix,omitempty"`
	Before string       `json:"before,omitempty"` // command of this host
	After  string       `json:"after,omitempty"`
	turn
	// Told says that all that is told by the agent was, or that it was given up.
	Told bool   `json:"told,omitempty"`
	Came string `json:"came,omitempty"` // in words
}

// arrivals finds how the machines of a point arrive by their group's berth, by their IDs.
// What is wrong with the berth is wrong with the landing.
func (l *Landings) arrivals(x *plan, machines []points.SealMachine, kind string) map[string]berth.Arrival {
	out := map[string]berth.Arrival{}
	if kind == "" {
		return out
	}
	if k := berth.Kind(kind); !slices.Contains(berth.Kinds(), k) {
		x.fault("berth", "%q is neither live nor drill.", kind)
		return out
	}
	at := slices.IndexFunc(l.Groups.All(), func(r directory.Record) bool { return r.ID == x.seal.Group.ID })
	if at < 0 {
		x.fault("berth", "%s is no group of this site any more, so there is no berth of it. Give platform, datastore and networks instead.", x.seal.Group.Name)
		return out
	}
	if x.coming == nil {
		x.coming = new(l.Berths.Arrivals(l.Groups.All()[at]))
	}
	for _, f := range x.coming.Findings {
		if !f.Warning && berth.Concerns(f.Field, berth.Kind(kind)) {
			x.fault("berth", "The berth of %s: %s", x.seal.Group.Name, f.Message)
		}
	}
	x.waves = l.Berths.Waves(l.Groups.All()[at])
	for _, a := range x.coming.Arrivals {
		out[a.Machine.ID] = a
	}
	for _, m := range machines {
		if _, found := out[m.ID]; !found {
			x.fault("berth", "The berth of %s says nothing of %s, which has left the group since. Choose other machines.", x.seal.Group.Name, m.Name)
		}
	}
	return out
}

// berthed settles what a machine gets by the berth.
func (x *plan) berthed(s *state, kind berth.Kind, a berth.Arrival) {
	s.detail.Name = a.Name.Text
	cpus, memory := a.CPUs, a.Memory
	if kind == berth.Drill {
		s.detail.Name, cpus, memory = a.DrillName.Text, a.DrillCPUs, a.DrillMemory
	}
	d := &arrival{Kind: kind, Way: berth.Way(a.Way.Text), Pool: a.Pool.Text, Suffix: a.Suffix.Text, Before: a.Before.Text, After: a.After.Text,
		turn: turn{Together: x.together, Wave: a.Wave, Waves: x.waves}}
	s.detail.Format = a.Format.Text
	if cpus != a.Machine.CPUs {
		d.CPUs = cpus
	}
	if memory != a.Machine.MemoryBytes {
		d.Memory = memory
	}
	for text := range strings.SplitSeq(a.DNS.Text, ", ") {
		if ip, err := netip.ParseAddr(text); err == nil {
			d.DNS = append(d.DNS, ip)
		}
	}
	s.detail.Arrival = d
}

// freshMAC is an address of a card that no other has, locally administered (IEEE 802,
// section 8.2).
func freshMAC() string {
	b := make([]byte, 5)
	_, _ = rand.Read(b)
	return fmt.Sprintf("52:%02x:%02x:%02x:%02x:%02x", b[0], b[1], b[2], b[3], b[4])
}

func (c card) here() string {
	return platform.LandingNIC{MAC: c.MAC, As: c.As}.Here()
}

// guest is what the guest of a landing is told of its cards.
func (d detail) guest() []berth.GuestCard {
	var out []berth.GuestCard
	for _, c := range d.NICs {
		if c.Guest != nil {
			out = append(out, *c.Guest)
		}
	}
	return out
}

// settle completes what the platform is asked for by how a machine arrives.
func (a *arrival) settle(r *platform.Landing, d detail, dir string) error {
	if a == nil {
		return nil
	}
	r.Pool, r.CPUs, r.MemoryBytes = a.Pool, a.CPUs, a.Memory
	switch a.Way {
	case berth.DHCP:
		for i, c := range d.NICs {
			if c.Guest != nil && c.Guest.Address.IsValid() {
				r.NICs[i].Reserve = c.Guest.Address.Addr()
			}
		}
	case berth.Seed:
		x := nocloud.Seed{Instance: r.ID, Hostname: d.MachineName, DNS: a.DNS, Suffix: a.Suffix}
		for _, c := range d.guest() {
			x.Cards = append(x.Cards, nocloud.Card(c))
		}
		var err error
		if r.Seed, err = x.Image(dir); err != nil {
			return err
		}
	}
	return nil
}

// commands are what the agent of a landed guest is to run, in this order.
func (a *arrival) commands(d detail) []string {
	var out []string
	if a.Way == berth.Agent && len(d.guest()) > 0 {
		out = append(out, berth.Script(d.guest(), a.DNS, a.Suffix))
	}
	if a.After != "" {
		out = append(out, a.After)
	}
	return out
}

const (
	agentLimit    = 30 * time.Second // for a command in a guest
	agentPatience = 10 * time.Minute // for a guest's agent to answer after its start
)

// untold reports whether something is still to be told to a landing's guest; the lock is
// held.
func (s *state) untold() bool {
	a := s.detail.Arrival
	return a != nil && !a.Told && len(a.commands(s.detail)) > 0
}

// tell has the agent of a running guest run what it is to run. While it is silent, it is
// asked again later.
func (l *Landings) tell(ctx context.Context, d platform.Lander, s *state) error {
	l.mu.Lock()
	pending, started := s.untold(), s.detail.StartedAt
	var commands []string
	if pending {
		commands = s.detail.Arrival.commands(s.detail)
	}
	setting := pending && s.detail.Arrival.Way == berth.Agent && len(s.detail.guest()) > 0
	l.mu.Unlock()
	if !pending || started == nil {
		return nil
	}
	came := "Its guest was told its addresses."
	if !setting {
		came = "The command ran in its guest."
	} else if len(commands) > 1 {
		came = "Its guest was told its addresses, and the command ran in it."
	}
	for i, c := range commands {
		err := d.RunIn(ctx, s.rec.ID, c, agentLimit)
		if err == nil {
			continue
		}
		if ctx.Err() != nil {
			return ctx.Err()
		}
		if errors.Is(err, platform.ErrSilent) && l.Clock.Now().Sub(*started) < agentPatience {
			l.came(s, false, "Its guest agent does not answer yet.")
			return nil
		}
		what := "The command in its guest failed"
		if setting && i == 0 {
			what = "Its guest could not be told its addresses"
		}
		came = fmt.Sprintf("%s: %s.", what, words.Upper(err.Error()))
		break
	}
	l.came(s, true, came)
	l.Trail.Note(ctx, actor.System(), object(s), "%s: %s", s.detail.Name, came)
	l.Inventory.Refresh(ctx, s.rec.Platform)
	return nil
}

func (l *Landings) came(s *state, told bool, text string) {
	l.mu.Lock()
	defer l.mu.Unlock()
	s.detail.Arrival.Told, s.detail.Arrival.Came = told, text
}
