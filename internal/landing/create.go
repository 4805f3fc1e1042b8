package landing

import (
	"cmp"
	"context"
	"encoding/json"
	"fmt"
	"slices"
	"strings"

	"github.com/google/uuid"

	"kestrel/internal/api"
	"kestrel/internal/berths"
	"kestrel/internal/core/actor"
	"kestrel/internal/core/berth"
	"kestrel/internal/core/group"
	"kestrel/internal/core/span"
	"kestrel/internal/inventory"
	"kestrel/internal/keeper"
	"kestrel/internal/platform"
	"kestrel/internal/points"
	"kestrel/internal/problem"
	"kestrel/internal/records"
	"kestrel/internal/serving"
)

const (
	maxName  = 200     // characters of a landed machine's name
	minLimit = 1 << 20 // bytes a second
)

// plan is what is to be made, with what is wrong with it.
type plan struct {
	seal   *points.Seal
	place  inventory.Platform
	all    []*state
	faults []problem.Field
	coming *berths.Arriving // nil: it is asked for
	// together marks those that are started together, in waves.
	together string
	waves    []berth.Wave
	recovery string // that they belong to
	old      []Old  // in whose places they come
}

func (x *plan) fault(field, format string, a ...any) {
	x.faults = append(x.faults, problem.Field{Field: field, Message: fmt.Sprintf(format, a...)})
}

// Create makes machines from a point and starts them. Everything is checked before
// anything is made; with checkOnly that is all.
func (l *Landings) Create(ctx context.Context, who actor.Actor, in api.NewLanding, checkOnly bool) ([]api.Landing, error) {
	return l.create(ctx, who, in, checkOnly, "", nil)
}

func (l *Landings) create(ctx context.Context, who actor.Actor, in api.NewLanding, checkOnly bool, recovery string, old []Old) ([]api.Landing, error) {
	if _, err := l.Keeper.Mine(ctx, in.Point); err != nil {
		return nil, err
	}
	seal, err := l.Keeper.Seal(in.Point)
	if err != nil {
		return nil, problem.NotFound("point", in.Point)
	}
	x := &plan{recovery: recovery, old: old}
	l.fill(x, who, seal, in)
	if len(x.faults) > 0 {
		return nil, problem.InvalidFields(x.faults...)
	}
	out := []api.Landing{}
	if checkOnly {
		return out, nil
	}
	for _, s := range x.all {
		if s.rec.Detail, err = json.Marshal(s.detail); err != nil {
			return out, err
		}
		if err := l.lend(s); err != nil {
			return out, problem.NotFound("point", in.Point)
		}
		err := l.Trail.Do(ctx, who, object(s), func(ctx context.Context) error { return l.DB.AddLanding(ctx, s.rec) }, "%s starts %s from point %d of %s on %s", who, s.detail.MachineName, seal.Number, seal.Group.Name, x.place.Name)
		if err != nil {
			l.release(s)
			return out, err
		}
		l.mu.Lock()
		l.byID[s.rec.ID] = s
		l.mu.Unlock()
		if _, err := l.Operations.StartAs(ctx, s.rec.ID, who, kind, s.detail.Name, input{s.rec.ID}); err != nil {
			return out, err
		}
		l.mu.Lock()
		out = append(out, l.view(s, x.place.Name, platform.Machine{}))
		l.mu.Unlock()
	}
	return out, nil
}

// Refusals tells why the machines of a point could not be started live as their group's
// berth says, beside what the berth says itself and whether the platform answers.
// coming is how its group arrives.
func (l *Landings) Refusals(seal *points.Seal, coming berths.Arriving) []string {
	x := &plan{coming: &coming}
	l.fill(x, actor.System(), seal, api.NewLanding{Point: seal.Point, Berth: new(string(berth.Live)), HomeNetwork: new(true), NotWhole: new(true)})
	var out []string
	for _, f := range x.faults {
		if f.Field != "berth" && f.Field != "platform" {
			out = append(out, f.Message)
		}
	}
	return out
}

// Live lists the machines that were made from a group's points, run now, and are not in a
// drill: they are attached to something.
func (l *Landings) Live(group string) []string {
	seen := l.seen()
	l.mu.Lock()
	defer l.mu.Unlock()
	var out []string
	for _, s := range l.byID {
		a := s.detail.Arrival
		attached := slices.ContainsFunc(s.detail.NICs, func(c card) bool { return c.Network != "" })
		if s.detail.GroupID == group && seen[s.rec.ID].Power == platform.PowerOn && attached && a != nil && a.Kind == berth.Live {
			out = append(out, s.detail.Name)
		}
	}
	slices.Sort(out)
	return out
}

func (l *Landings) fill(x *plan, who actor.Actor, seal *points.Seal, in api.NewLanding) {
	x.seal, x.together = seal, cmp.Or(x.recovery, uuid.NewString())
	how := atOnce
	if in.How != nil && *in.How != "" {
		how = *in.How
	}
	if how != atOnce && how != copiedFirst {
		x.fault("how", "%q is neither %s nor %s.", how, atOnce, copiedFirst)
	}
	if in.LocalBytesPerSecond != nil && *in.LocalBytesPerSecond < minLimit {
		x.fault("localBytesPerSecond", "A limit is at least 1 MiB a second; leave it out for none.")
	}
	machines, faults := keeper.Choose(seal, in.Machines)
	x.faults = append(x.faults, faults...)
	for m, lost := range l.Keeper.LostByMachine(seal) {
		if (in.NotWhole == nil || !*in.NotWhole) && slices.ContainsFunc(machines, func(c points.SealMachine) bool { return c.ID == m.ID }) {
			x.fault("notWhole", "%s of the disks of %s cannot be read from point %d. Choose another point, or allow it with notWhole.", span.Bytes(float64(lost)), m.Name, seal.Number)
		}
	}
	kind := ""
	if in.Berth != nil {
		kind = *in.Berth
	}
	arrivals := l.arrivals(x, machines, kind)
	if len(x.faults) > 0 {
		return
	}
	lander, ok := l.place(x, wishOf(in.Platform, machines, arrivals, func(a berth.Arrival) string { return a.Platform.Text }))
	if !ok {
		return
	}
	networks := map[string]string{}
	if in.Networks != nil {
		networks = *in.Networks
	}
	x.checkNetworks(machines, networks)
	prefix := ""
	if in.Prefix != nil {
		prefix = *in.Prefix
	}
	need := map[string]int64{} // bytes by datastore
	stores := map[string]platform.Datastore{}
	for _, m := range machines {
		a := arrivals[m.ID]
		if !strings.EqualFold(a.Platform.Text, x.place.Name) {
			a.Pool, a.Datastore, a.Format = berth.Value{}, berth.Value{}, berth.Value{} // they are of the platform that the berth names
		}
		wish := a.Datastore.Text
		if in.Datastore != nil && *in.Datastore != "" {
			wish = *in.Datastore
		}
		store, ok := x.datastore(wish)
		if !ok {
			return
		}
		stores[store.ID] = store
		s := newState(records.Landing{ID: uuid.NewString(), Point: seal.Point, Platform: x.place.ID, Machine: m.ID, Token: serving.NewToken(), State: preparing, CreatedBy: who.String(), CreatedAt: l.Clock.Now().UTC()})
		s.detail = detail{Name: m.Name, MachineName: m.Name, GroupID: seal.Group.ID, Recovery: x.recovery, GroupName: seal.Group.Name, PointNumber: seal.Number, CaptureAt: seal.CaptureAt, Datastore: store.ID, Store: store.Name, How: how, Sizes: map[string]int64{}}
		if in.LocalBytesPerSecond != nil {
			s.detail.Limit = *in.LocalBytesPerSecond
		}
		if kind != "" {
			x.berthed(s, berth.Kind(kind), a)
		}
		s.detail.Name = prefix + s.detail.Name
		x.comeInPlace(s, m)
		if err := lander.Fits(m.Config); err != nil {
			x.fault("machines", "%s cannot be started on %s: %v. It has to come from a platform of the kind %s.", m.Name, x.place.Name, err, x.place.Kind)
		}
		x.attach(s, m, networks, a, in.HomeNetwork != nil && *in.HomeNetwork)
		for _, d := range m.Disks {
			s.detail.TotalBytes += d.Size
			s.detail.Sizes[d.Key] = d.Size
		}
		need[store.ID] += s.detail.TotalBytes
		l.checkName(x, s.detail.Name, s.detail.InPlaceOf)
		x.all = append(x.all, s)
	}
	for id, size := range need {
		if used := shareOf(seal, size); len(x.faults) == 0 && stores[id].FreeBytes < used {
			x.fault("datastore", "%s has %d MiB free, and the disks hold about %d MiB.", stores[id].Name, stores[id].FreeBytes>>20, used>>20)
		}
	}
}

// wishOf is what was asked for, or what the berth says of the first machine: all arrive on
// one platform.
func wishOf(asked *string, machines []points.SealMachine, arrivals map[string]berth.Arrival, of func(berth.Arrival) string) string {
	if asked != nil && *asked != "" {
		return *asked
	}
	for _, m := range machines {
		if a, ok := arrivals[m.ID]; ok {
			return of(a)
		}
	}
	return ""
}

// checkName refuses names that the platform has, or that are being made there, but that of the
// machine in whose place it comes.
func (l *Landings) checkName(x *plan, name, old string) {
	if group.CheckName(name, maxName) != "" || strings.ContainsAny(name, "/\\") {
		x.fault("prefix", "%q is no name for a machine; give a prefix of letters and digits.", name)
		return
	}
	taken := slices.ContainsFunc(x.place.Held().Machines, func(o platform.Machine) bool { return o.ID != old && strings.EqualFold(o.Name, name) })
	l.mu.Lock()
	for _, s := range l.byID {
		taken = taken || s.rec.ID != old && s.rec.Platform == x.place.ID && s.rec.State != gone && strings.EqualFold(s.detail.Name, name)
	}
	l.mu.Unlock()
	if taken {
		x.fault("prefix", "%s has a machine %s already. Give a prefix for the names.", x.place.Name, name)
	}
}

// place finds the platform of a landing.
func (l *Landings) place(x *plan, wish string) (platform.Lander, bool) {
	if wish == "" {
		x.fault("platform", "Name the platform to start them on, here or in the berth.")
		return nil, false
	}
	p, err := l.Inventory.Find(wish)
	if err != nil {
		detail := ""
		if pr, is := problem.Of(err); is {
			_, detail, _ = strings.Cut(pr.Detail, " here.")
		}
		x.fault("platform", "%s has no platform %q.%s", l.Site, wish, detail)
		return nil, false
	}
	x.place = p
	lander, can := p.Lander()
	switch {
	case !can:
		x.fault("platform", "Machines cannot be started on %s, a platform of the kind %s; choose another.", p.Name, p.Kind)
		return nil, false
	case !p.Up:
		x.fault("platform", "%s cannot be reached now.", p.Name)
		return nil, false
	}
	if err := l.Serving.Reachable(p); err != nil {
		x.fault("platform", "%s", err)
	}
	return lander, true
}

// datastore finds the datastore that is wished for; nothing needs to be where there is one.
func (x *plan) datastore(wish string) (store platform.Datastore, ok bool) {
	var names []string
	stores := x.place.Held().Datastores
	for _, d := range stores {
		names = append(names, d.Name)
		if wish != "" && (d.ID == wish || strings.EqualFold(d.Name, wish)) || wish == "" && len(stores) == 1 {
			store = d
		}
	}
	switch {
	case store.ID != "":
		return store, true
	case len(names) == 0:
		x.fault("datastore", "%s has no datastore. Define and start a storage pool there.", x.place.Name)
	case wish == "":
		x.fault("datastore", "%s has more than one datastore; say which: %s.", x.place.Name, strings.Join(names, ", "))
	default:
		x.fault("datastore", "%s has no datastore %q; choose one of %s.", x.place.Name, wish, strings.Join(names, ", "))
	}
	return store, false
}

// checkNetworks refuses networks at home that no chosen machine is on.
func (x *plan) checkNetworks(machines []points.SealMachine, networks map[string]string) {
	known := map[string]bool{}
	for _, m := range machines {
		for _, n := range keeper.MachineConfig(m).NICs {
			known[n.Network] = true
		}
	}
	for home := range networks {
		if !known[home] {
			x.fault("networks", "No chosen machine is on %q at home.", home)
		}
	}
}

// attach decides what the cards of a machine are attached to, and what its guest is told.
func (x *plan) attach(s *state, m points.SealMachine, networks map[string]string, a berth.Arrival, homeAllowed bool) {
	here := x.place.Held().Networks
	old, _ := x.place.Machine(s.detail.InPlaceOf)
	for i, n := range keeper.MachineConfig(m).NICs {
		c := card{MAC: n.MAC, Home: n.Network, Network: networks[n.Network]}
		var at berth.Attached
		if s.detail.Arrival != nil {
			at = arrivalOf(a, i, n.MAC).As(s.detail.Arrival.Kind)
			if c.Network == "" && at.Network.Text != berth.Unconnected {
				c.Network = at.Network.Text
			}
		}
		if c.Network != "" {
			at := slices.IndexFunc(here, func(o platform.Network) bool { return o.ID == c.Network || strings.EqualFold(o.Name, c.Network) })
			if at < 0 {
				x.fault("networks", "%s has no network %q; it has %s.", x.place.Name, c.Network, networkNames(here))
				continue
			}
			c.Network, c.Name = here[at].ID, here[at].Name
			if strings.EqualFold(here[at].Name, n.Network) && c.Network != "user" {
				if !homeAllowed {
					x.fault("networks", "%s would be on %q, the network that it is on at home: if home still runs, two machines have the same addresses. Choose another network, or allow it with homeNetwork.", m.Name, n.Network)
				}
				c.As = freshMAC()
			}
		}
		if i < len(old.NICs) {
			c.As = old.NICs[i].MAC
		}
		// What is told is for the network of the berth.
		if at.Address.IsValid() && c.Network != "" && networks[n.Network] == "" {
			c.Address = at.Address.Addr()
		}
		if g, told := at.Guest(c.here()); told && networks[n.Network] == "" && s.detail.Arrival.Way != berth.Leave {
			c.Guest = &g
		}
		s.detail.NICs = append(s.detail.NICs, c)
	}
}

// arrivalOf finds a card of a machine by its address, or by its place.
func arrivalOf(a berth.Arrival, i int, mac string) berth.Card {
	at := slices.IndexFunc(a.Cards, func(c berth.Card) bool { return strings.EqualFold(c.Home.MAC, mac) })
	if at < 0 && i < len(a.Cards) && a.Cards[i].Home.MAC == "" {
		at = i
	}
	if at < 0 {
		return berth.Card{}
	}
	return a.Cards[at]
}

func networkNames(here []platform.Network) string {
	var names []string
	for _, n := range here {
		names = append(names, n.Name)
	}
	if names == nil {
		return "none; define one there, or leave the card unconnected"
	}
	return strings.Join(names, ", ")
}

// shareOf is about what disks of a total size hold of a point.
func shareOf(x *points.Seal, size int64) int64 {
	var all int64
	for _, m := range x.Machines {
		for _, d := range m.Disks {
			all += d.Size
		}
	}
	if all == 0 {
		return 0
	}
	return int64(float64(x.UsedBytes) * float64(size) / float64(all))
}
