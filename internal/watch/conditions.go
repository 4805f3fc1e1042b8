package watch

import (
	"kestrel/internal/core/health"
	"kestrel/internal/directory"
	"kestrel/internal/events"
)

// Kinds of things that have a condition, or that an alert is about.
const (
	Group    = "group"
	Link     = "link"
	Peer     = "site" // the other one of a link; its ID is the link's
	Platform = "platform"
	Store    = "store" // its ID is the folder
	Site     = "own site"
)

// Thing is one of them.
type Thing struct{ Kind, ID string }

// judge gives the condition of everything now, as the facts have it.
func (w *Watch) judge(groups []standing) map[Thing]health.Condition {
	now := w.Clock.Now().UTC()
	out := map[Thing]health.Condition{}
	late := map[string]int{}
	for _, g := range groups {
		if g.rec.Direction == directory.Out && (g.state == health.Over || g.state == health.Tight) {
			late[g.rec.Link]++
		}
	}
	for _, l := range w.Peering.All() {
		f := health.LinkFacts{Now: now, Peer: l.Peer, Reached: l.Reached, Called: l.Called, Seen: l.SeenAt, Looked: w.began, Apart: l.Ahead, Room: !l.Reached || l.Free > l.Floor, Carries: l.Sends, Limit: l.Limit, Late: late[l.ID]}
		out[Thing{Link, l.ID}], out[Thing{Peer, l.ID}] = health.OfLink(f), health.OfPeer(f)
	}
	for _, p := range w.Inventory.All() {
		f := health.PlatformFacts{Now: now, Name: p.Name, Up: p.Up, Seen: p.SeenAt, Trouble: p.Held().Trouble}
		if p.Err != nil {
			f.Err = p.Err.Error()
		}
		out[Thing{Platform, p.ID}] = health.OfPlatform(f)
	}
	for _, s := range w.Keeper.Rooms() {
		out[Thing{Store, s.Dir}] = health.OfStore(health.StoreFacts{Now: now, Free: s.Free, Floor: s.Floor, Fills: s.Fills, Bad: s.Bad})
	}
	return out
}

// settle takes what things count as one look further, and tells clients of what changed.
func (w *Watch) settle(now map[Thing]health.Condition) {
	at := w.Clock.Now().UTC()
	var changed []Thing
	w.mu.Lock()
	for t, c := range now {
		was := w.steady[t]
		w.steady[t] = was.Next(c, at)
		if w.steady[t].Word != was.Word {
			changed = append(changed, t)
		}
	}
	for t := range w.steady {
		if _, there := now[t]; !there {
			delete(w.steady, t)
		}
	}
	w.mu.Unlock()
	for _, t := range changed {
		kind := t.Kind
		if kind == Peer {
			kind = Link
		}
		w.Hub.Send(events.Event{Type: kind, ID: t.ID})
	}
}

// Condition tells how something is; false before it was looked at.
func (w *Watch) Condition(t Thing) (health.Condition, bool) {
	w.mu.Lock()
	defer w.mu.Unlock()
	s, ok := w.steady[t]
	return s.Condition, ok
}

// Machine tells how a protected machine of a platform here is; false if no group of this
// site has it.
func (w *Watch) Machine(platform, id string) (health.Condition, bool) {
	r, ok := w.Groups.Guards(platform, id)
	if !ok {
		return health.Condition{}, false
	}
	x := w.Overview.Stand(r)
	f := health.MachineFacts{Group: x.State, GroupName: r.Spec.Name}
	f.Platform, _ = w.Condition(Thing{Platform, platform})
	if p, known := w.Inventory.Get(platform); known {
		pm, there := p.Machine(id)
		f.There, f.Name = there, pm.Name
		for _, d := range pm.Disks {
			if r.Spec.Undecided(id, d.Key) {
				f.Undecided++
			}
		}
	}
	for _, m := range x.Restless {
		if m.Machine == f.Name {
			f.Restless = m.Why
		}
	}
	return health.OfMachine(f), true
}
