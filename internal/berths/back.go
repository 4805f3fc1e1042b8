package berths

import (
	"context"
	"encoding/json"
	"fmt"
	"slices"
	"strings"

	"kestrel/internal/core/actor"
	"kestrel/internal/core/berth"
	"kestrel/internal/directory"
	"kestrel/internal/keeper"
	"kestrel/internal/link"
	"kestrel/internal/platform"
	"kestrel/internal/problem"
)

// BackView is the berth for the way back of a group.
type BackView struct {
	Site  string          `json:"site"` // where the machines run today
	From  string          `json:"from"` // where what is known of them comes from, in words
	Berth json.RawMessage `json:"berth"`
	Notes []string        `json:"notes"` // what could not be filled
}

// Back fills the berth by which a group's machines return to where they run today. At home
// it is told by the platform that they run on; at the recovery site, which may have to do
// without home, by the newest point.
func (b *Berths) Back(ctx context.Context, who actor.Actor, text string) (BackView, error) {
	r, far, err := b.group(text)
	if err != nil {
		return BackView{}, err
	}
	v := BackView{Site: b.Site}
	var there View
	if far {
		if there, err = b.Show(ctx, who, text); err != nil {
			return v, err
		}
	} else {
		e := b.get(OfGroup, r.ID)
		there = b.view(r, e.revision, e.Berth, nil, nil)
	}
	x, _, err := Decode(there.Berth)
	if err != nil {
		return v, err
	}
	var origins []berth.Origin
	var networks []berth.Network
	if far {
		v.From = "as they run now"
		origins, networks = b.originsHere(r)
	} else {
		l, _ := b.Peering.Get(r.Link)
		v.Site = l.Peer
		origins, v.From = b.originsKept(r)
	}
	for i, o := range origins {
		if at := slices.IndexFunc(there.Arrivals, func(a ArrivalView) bool { return a.ID == o.ID }); at >= 0 {
			origins[i].There, origins[i].Wave = there.Arrivals[at].Name.Value, there.Arrivals[at].Wave
		}
	}
	back, notes := berth.Back(origins, x.Waves, networks)
	v.Berth, v.Notes = Encode(back), append([]string{}, notes...)
	return v, nil
}

// WayBack is the berth by which the machines of a group that comes here return to where they
// are home today.
func (b *Berths) WayBack(ctx context.Context, id string) (json.RawMessage, error) {
	v, err := b.Back(ctx, actor.System(), id)
	return v.Berth, err
}

// FillThere has the recovery site of a group that is home here take a berth, unless somebody
// has said how its machines arrive there.
func (b *Berths) FillThere(ctx context.Context, id, who string, wish json.RawMessage) error {
	r, ok := b.Groups.Get(id)
	if !ok {
		return problem.NotFound("group", id)
	}
	_, err := b.ask(ctx, r, link.BerthAsk{Who: who, Berth: wish, Fill: true})
	return err
}

// fill writes a group's berth if nobody has.
func (b *Berths) fill(ctx context.Context, who actor.Actor, r directory.Record, wish json.RawMessage, said []berth.Machine) (View, error) {
	if e := b.get(OfGroup, r.ID); e.revision > 0 {
		return b.view(r, e.revision, e.Berth, said, nil), nil
	}
	x, _, err := Decode(wish)
	if err != nil {
		return View{}, err
	}
	for _, f := range r.Former {
		if p, ok := b.Inventory.Get(f.Platform); ok && !p.Up {
			return View{}, problem.Unreachable("%s, which the machines ran on, does not answer.", p.Name)
		}
	}
	if origins, networks := b.originsFormer(r, x); len(origins) > 0 {
		x, _ = berth.Back(origins, x.Waves, networks)
	}
	at, _ := b.place(x.Platform)
	x.FreeNames(at.Machines)
	return b.write(ctx, who, r, 0, Encode(x), said)
}

// NamesFreed has machines return under names that were taken when their berth was filled.
func (b *Berths) NamesFreed(ctx context.Context, who actor.Actor, id string, free []string) error {
	r, ok := b.Groups.Get(id)
	e := b.get(OfGroup, id)
	if !ok || e.revision == 0 {
		return nil
	}
	x := e.Berth
	if !x.TakeNames(free) {
		return nil
	}
	_, err := b.write(ctx, who, r, e.revision, Encode(x), nil)
	return err
}

// originsHere is where the machines of a group that is home here run.
func (b *Berths) originsHere(r directory.Record) (out []berth.Origin, networks []berth.Network) {
	p, _ := b.Inventory.Get(r.Spec.Platform)
	for _, m := range r.Spec.Machines {
		if now, ok := p.Machine(m.ID); ok {
			out = append(out, origin(now, p.Name))
		} else {
			out = append(out, berth.Origin{Machine: named(m), There: m.Name, Platform: p.Name})
		}
	}
	if here, known := b.place(p.Name); known {
		networks = here.Networks
	}
	return out, networks
}

// originsFormer is where the machines of a group ran here that returns as a berth says; none
// unless each is still there.
func (b *Berths) originsFormer(r directory.Record, x berth.Berth) (out []berth.Origin, networks []berth.Network) {
	for _, m := range x.Machines {
		at := slices.IndexFunc(r.Former, func(f directory.Former) bool { return strings.EqualFold(f.Name, m.Name) })
		if at < 0 {
			return nil, nil
		}
		p, _ := b.Inventory.Get(r.Former[at].Platform)
		now, there := p.Machine(r.Former[at].ID)
		if !there {
			return nil, nil
		}
		o := origin(now, p.Name)
		o.There, o.Wave = m.Machine, m.Wave
		out = append(out, o)
		if here, known := b.place(p.Name); known {
			networks = here.Networks
		}
	}
	return out, networks
}

// originsKept is where the machines of a group that comes here ran at its newest point.
func (b *Berths) originsKept(r directory.Record) (out []berth.Origin, from string) {
	held := b.Seals(r.ID)
	if len(held) == 0 {
		return nil, "unknown here: there is no point yet, so ask at home"
	}
	newest := held[len(held)-1]
	for _, m := range newest.Machines {
		c := keeper.MachineConfig(m)
		if c.Name = m.Name; c.ID == "" {
			c.ID = m.ID
		}
		out = append(out, origin(c, "")) // what home calls its platform is not in the point
	}
	return out, fmt.Sprintf("as in point %d", newest.Number)
}

func origin(m platform.Machine, place string) berth.Origin {
	o := berth.Origin{Machine: Machine(m), There: m.Name, Platform: place, Pool: m.Pool, Folder: m.Folder}
	for _, d := range m.Disks {
		if d.Boot {
			o.Datastores = slices.Insert(o.Datastores, 0, d.Datastore)
		} else {
			o.Datastores = append(o.Datastores, d.Datastore)
		}
	}
	return o
}
