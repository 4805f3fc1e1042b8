package berths

import (
	"net/netip"
	"slices"

	"kestrel/internal/core/berth"
	"kestrel/internal/directory"
)

// Arriving is how the machines of a group arrive, and what is wrong with it.
type Arriving struct {
	Arrivals []berth.Arrival
	Findings []berth.Finding
}

// pass looks at the groups that come here, once at each: at all of them, or at one and at
// what the others are given.
type pass struct {
	*Berths
	places map[string]place
	by     map[string][]berth.Arrival // by group
	given  map[spot][]given
}

type place struct {
	berth.Place
	known bool
}

// spot is an address on a platform.
type spot struct {
	platform string
	address  netip.Addr
}

// given is an address that a machine of a group gets.
type given struct {
	used  berth.Used // its By left open
	to    directory.Record
	named string
}

func (b *Berths) newPass() *pass {
	p := &pass{b, map[string]place{}, map[string][]berth.Arrival{}, map[spot][]given{}}
	for _, r := range b.Groups.All() {
		if r.Direction != directory.In {
			continue
		}
		x := b.get(OfGroup, r.ID).Berth
		ms, _ := b.machinesOf(r, nil)
		p.by[r.ID] = x.Resolve(ms, b.defaults(r, x), p.place)
		for _, a := range p.by[r.ID] {
			p.gives(r, a)
		}
	}
	return p
}

func (p *pass) place(name string) (berth.Place, bool) {
	x, seen := p.places[name]
	if !seen {
		x.Place, x.known = p.Berths.place(name)
		p.places[name] = x
	}
	return x.Place, x.known
}

// gives notes what a machine is given. What is kept because nothing was said is no decision
// that others have to mind.
func (p *pass) gives(r directory.Record, a berth.Arrival) {
	for _, k := range berth.Kinds() {
		for _, c := range a.Cards {
			if at := c.As(k); at.Address.IsValid() && at.Mode != berth.Keep {
				s := spot{a.Platform.Text, at.Address.Addr()}
				p.given[s] = append(p.given[s], given{berth.Used{Address: s.address, Network: at.Network.Text, Drill: k == berth.Drill}, r, a.Machine.Name})
			}
		}
	}
}

// survey finds what is wrong with arrivals, other groups' included: what others are given
// is taken.
func (p *pass) survey(r directory.Record, x berth.Berth, arrivals []berth.Arrival) []berth.Finding {
	var used []berth.Used
	mine := map[netip.Addr]bool{}
	for _, a := range arrivals {
		for _, k := range berth.Kinds() {
			for _, c := range a.Cards {
				ip := c.As(k).Address.Addr()
				if !ip.IsValid() || mine[ip] {
					continue
				}
				mine[ip] = true
				for _, g := range p.given[spot{arrivals[0].Platform.Text, ip}] {
					if g.to.ID == r.ID {
						continue
					}
					if g.used.By = g.named + " of " + g.to.Spec.Name + " is given it"; g.to.HomeID != r.HomeID {
						g.used.By = "a machine of another site's group is given it" // whose names are nothing to this one
					}
					used = append(used, g.used)
				}
			}
		}
	}
	return append(x.Check(), x.Survey(arrivals, func(name string) (berth.Place, bool) {
		at, ok := p.place(name)
		// What the group had here before, and is off, makes room for what comes back.
		at.Used = slices.DeleteFunc(slices.Concat(at.Used, used), func(u berth.Used) bool {
			return u.Idle != "" && slices.ContainsFunc(r.Former, func(f directory.Former) bool { return f.Platform+"/"+f.ID == u.Idle })
		})
		return at, ok
	})...)
}

// Arrivals tells how the machines of a group that comes here arrive, and what is wrong
// with it.
func (b *Berths) Arrivals(r directory.Record) Arriving {
	x := b.get(OfGroup, r.ID).Berth
	p := b.newPass()
	arrivals, _ := b.resolve(r, x, nil)
	return Arriving{arrivals, p.survey(r, x, arrivals)}
}

// Everyone tells it of all groups that come here, by their IDs.
func (b *Berths) Everyone() map[string]Arriving {
	p := b.newPass()
	out := map[string]Arriving{}
	for _, r := range b.Groups.All() {
		if arrivals, comes := p.by[r.ID]; comes {
			out[r.ID] = Arriving{arrivals, p.survey(r, b.get(OfGroup, r.ID).Berth, arrivals)}
		}
	}
	return out
}
