// Package berths is how machines arrive at this site: the defaults of its links and
// platforms, and what is said of each group whose points are kept here. It is the recovery
// site that decides, since it is its networks and stores, and since home may be gone; home
// looks and changes through it.
package berths

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"log/slog"
	"net/http"
	"net/netip"
	"slices"
	"strings"
	"sync"

	"kestrel/internal/audit"
	"kestrel/internal/core/actor"
	"kestrel/internal/core/berth"
	"kestrel/internal/core/group"
	"kestrel/internal/core/runbook"
	"kestrel/internal/directory"
	"kestrel/internal/events"
	"kestrel/internal/inventory"
	"kestrel/internal/keeper"
	"kestrel/internal/link"
	"kestrel/internal/peering"
	"kestrel/internal/platform"
	"kestrel/internal/points"
	"kestrel/internal/problem"
	"kestrel/internal/records"
)

// Records is where berths are kept; *records.DB is one.
type Records interface {
	Berths(ctx context.Context) ([]records.Berth, error)
	PutBerth(ctx context.Context, b records.Berth) error
}

// Config is what it is made of.
type Config struct {
	Site      string // name
	DB        Records
	Groups    *directory.Directory
	Inventory *inventory.Inventory
	Peering   *peering.Peering
	// Seals are the points of a group that this site holds, oldest first.
	Seals func(group string) []*points.Seal
	// Commands are those of this host that may run before a machine starts.
	Commands func() []string
	// Servers are this site's DNS servers that steps may have changed, and Channels those by
	// which they may tell people.
	Servers, Channels func() []string
	// Keep keeps what is said of a group with its points, nil if nothing is.
	Keep  func(group string, settings []byte) error
	Trail *audit.Trail
	Hub   *events.Hub
	Log   *slog.Logger
}

// Kinds of what a berth is said of.
const (
	OfGroup    = "group"
	OfLink     = "link"
	OfPlatform = "platform"
)

// Berths is those of one site.
type Berths struct {
	Config

	kick chan struct{} // a default has changed
	mu   sync.Mutex
	all  map[key]entry
}

type key struct{ kind, subject string }

// entry is a berth at a revision. It is a value.
type entry struct {
	revision int64
	berth.Berth
}

// Open reads them.
func Open(ctx context.Context, cfg Config) (*Berths, error) {
	b := &Berths{Config: cfg, kick: make(chan struct{}, 1), all: map[key]entry{}}
	recs, err := cfg.DB.Berths(ctx)
	if err != nil {
		return nil, err
	}
	for _, r := range recs {
		x, faults, err := Decode(r.Settings)
		if err != nil {
			return nil, fmt.Errorf("berth of %s %s: %w", r.Kind, r.Subject, err)
		}
		for _, f := range faults {
			cfg.Log.Warn("a setting of a berth cannot be read any more", "kind", r.Kind, "subject", r.Subject, "field", f.Field, "why", f.Message)
		}
		b.all[key{r.Kind, r.Subject}] = entry{r.Revision, x}
	}
	return b, nil
}

// Kept is what was said of something, in the form of files; nothing if nothing was.
func (b *Berths) Kept(kind, subject string) json.RawMessage {
	e := b.get(kind, subject)
	if e.revision == 0 {
		return nil
	}
	return Encode(e.Berth)
}

func (b *Berths) get(kind, subject string) entry {
	b.mu.Lock()
	defer b.mu.Unlock()
	return b.all[key{kind, subject}]
}

// put writes a revision that follows the one that was looked at.
func (b *Berths) put(ctx context.Context, who actor.Actor, k key, o audit.Object, revision int64, x berth.Berth, text string) error {
	rec := records.Berth{Kind: k.kind, Subject: k.subject, Revision: revision + 1, Settings: Encode(x)}
	stale := &problem.Problem{Status: http.StatusPreconditionFailed, Title: "Changed meanwhile; nothing was written", Detail: "Somebody else has changed this berth since you looked at it. Look again, and change it then."}
	if b.get(k.kind, k.subject).revision != revision {
		return stale
	}
	err := b.Trail.Do(ctx, who, o, func(ctx context.Context) error { return b.DB.PutBerth(ctx, rec) }, "%s", text)
	if errors.Is(err, records.ErrStale) {
		return stale
	}
	if err != nil {
		return err
	}
	b.mu.Lock()
	b.all[k] = entry{rec.Revision, x}
	b.mu.Unlock()
	if k.kind == OfGroup {
		b.keep(k.subject)
	} else {
		select {
		case b.kick <- struct{}{}: // groups arrive by it
		default:
		}
	}
	b.Hub.Send(events.Event{Type: "group", ID: k.subject})
	return nil
}

// keep keeps how machines of a group arrive with its points: what is said of it and, where it says
// nothing, of its link and platform, of which nothing is known where the points are adopted. What
// fails is tried again at the next start: the database has it.
func (b *Berths) keep(group string) {
	r, ok := b.Groups.Get(group)
	if b.Keep == nil || !ok || r.Direction == directory.Out {
		return
	}
	x := b.get(OfGroup, group).Berth
	x.Settings = berth.Merge(b.defaults(r, x), x.Settings)
	text := Encode(x)
	if string(text) == "{}" {
		text = nil
	}
	if err := b.Keep(group, text); err != nil {
		b.Log.Error("keep a berth with the points", "group", r.Spec.Name, "err", err)
	}
}

// KeepAll keeps how machines of groups arrive with their points, at the start and whenever a
// default has changed, until ctx ends.
func (b *Berths) KeepAll(ctx context.Context) {
	for {
		for _, r := range b.Groups.All() {
			if ctx.Err() != nil {
				return
			}
			b.keep(r.ID)
		}
		select {
		case <-ctx.Done():
			return
		case <-b.kick:
		}
	}
}

// machinesOf is what is known of a group's machines: of its newest point, or what home
// has said where there is none, or their names.
func (b *Berths) machinesOf(r directory.Record, said []berth.Machine) ([]berth.Machine, string) {
	if held := b.Seals(r.ID); len(held) > 0 {
		newest := held[len(held)-1]
		var out []berth.Machine
		for _, m := range newest.Machines {
			if !r.Spec.Has(m.ID) {
				continue // it has left the group since
			}
			c := keeper.MachineConfig(m)
			if c.Name = m.Name; c.ID == "" {
				c.ID = m.ID
			}
			x := Machine(c)
			x.SizeBytes = 0
			for _, d := range m.Disks {
				x.SizeBytes += d.Size
			}
			out = append(out, x)
		}
		for _, m := range r.Spec.Machines {
			if !slices.ContainsFunc(out, func(o berth.Machine) bool { return o.ID == m.ID }) {
				out = append(out, named(m))
			}
		}
		return out, fmt.Sprintf("as in point %d", newest.Number)
	}
	if len(said) > 0 {
		return said, "as at home now"
	}
	var out []berth.Machine
	for _, m := range r.Spec.Machines {
		out = append(out, named(m))
	}
	return out, "by name only: there is no point yet"
}

func named(m group.Machine) berth.Machine {
	return berth.Machine{ID: m.ID, Name: m.Name, SizeBytes: m.SizeBytes()}
}

// Machine is a machine of a platform as berths need it.
func Machine(m platform.Machine) berth.Machine {
	x := berth.Machine{ID: m.ID, Name: m.Name, CPUs: m.CPUs, MemoryBytes: m.MemoryBytes, Agent: m.Agent == platform.AgentAnswers}
	for _, d := range m.Disks {
		x.SizeBytes += d.SizeBytes
	}
	for _, n := range m.NICs {
		c := berth.HomeCard{MAC: n.MAC, Network: n.Network, VLAN: n.VLAN}
		if a, err := netip.ParseAddr(n.Address); err == nil {
			c.Address = a
		}
		x.Cards = append(x.Cards, c)
	}
	return x
}

// place gives a platform of this site as berths need it.
func (b *Berths) place(name string) (berth.Place, bool) {
	p, err := b.Inventory.Find(name)
	if err != nil || name == "" {
		return berth.Place{}, false
	}
	inv := p.Held()
	_, lands := p.Lander()
	out := berth.Place{Name: p.Name, Kind: p.Kind, Seen: p.Seen(), Lands: lands, Folders: inv.Folders, Names: inv.Names, Ways: inv.Ways, Formats: inv.Formats, Commands: b.Commands(), Servers: b.Servers(), Channels: b.Channels()}
	for _, x := range inv.Pools {
		out.Pools = append(out.Pools, berth.Pool{Name: x.Name, MemoryBytes: x.MemoryBytes})
	}
	for _, x := range inv.Datastores {
		out.Datastores = append(out.Datastores, berth.Datastore{Name: x.Name, FreeBytes: x.FreeBytes})
	}
	for _, x := range inv.Networks {
		n := berth.Network{Name: x.Name, Isolated: x.Isolated, DHCP: x.DHCP}
		for _, text := range []string{x.Subnet, x.Subnet6} {
			if s, err := netip.ParsePrefix(text); err == nil {
				n.Subnets = append(n.Subnets, s.Masked())
			}
		}
		if g, err := netip.ParseAddr(x.Gateway); err == nil {
			n.Gateway = g
		}
		out.Networks = append(out.Networks, n)
	}
	for _, m := range inv.Machines {
		if _, home := b.Groups.Guards(p.ID, m.ID); m.Landed && !home {
			continue // made from a point, and removed again
		}
		out.Machines = append(out.Machines, m.Name)
		for _, n := range m.NICs {
			if a, err := netip.ParseAddr(n.Address); err == nil {
				out.Used = append(out.Used, berth.Used{Address: a, Network: n.Network, By: m.Name + " has it", Idle: idle(p.ID, m)})
			}
		}
	}
	return out, true
}

// idle names a machine that is off; empty if it is not.
func idle(platformID string, m platform.Machine) string {
	if m.Power != platform.PowerOff {
		return ""
	}
	return platformID + "/" + m.ID
}

// defaults are the layers below a group's own, those that count least first.
func (b *Berths) defaults(r directory.Record, x berth.Berth) []berth.Level {
	var out []berth.Level
	over := b.get(OfLink, r.Link).Settings
	link := "the link's default"
	if l, ok := b.Peering.Get(r.Link); ok {
		link = "the default of the link with " + l.Peer
	}
	name := x.Platform
	if name == "" {
		name = over.Platform
	}
	if name == "" {
		// Where there is one platform that machines could arrive on, it need not be named.
		if all := b.Inventory.All(); len(all) == 1 {
			name = all[0].Name
			out = append(out, berth.Level{From: "the only one here", Settings: berth.Settings{Platform: name}})
		}
	}
	if over.Platform != "" && !strings.EqualFold(name, over.Platform) {
		// What the link's default says of places is of the platform that it names.
		over.Pool, over.Datastore, over.Folder, over.Networks = "", "", "", nil
	}
	if p, err := b.Inventory.Find(name); err == nil && name != "" {
		s := b.get(OfPlatform, p.ID).Settings
		s.Platform = ""
		out = append(out, berth.Level{From: "the default of " + p.Name, Settings: s})
	}
	return append(out, berth.Level{From: link, Settings: over})
}

// resolve tells how machines of a group arrive by a berth.
func (b *Berths) resolve(r directory.Record, x berth.Berth, said []berth.Machine) (arrivals []berth.Arrival, from string) {
	ms, from := b.machinesOf(r, said)
	return x.Resolve(ms, b.defaults(r, x), b.place), from
}

// Waves is what is said of the waves in which machines of a group that comes here start.
func (b *Berths) Waves(r directory.Record) []berth.Wave { return b.get(OfGroup, r.ID).Waves }

// Steps is what is done besides in a recovery of a group that comes here.
func (b *Berths) Steps(id string) []runbook.Step { return b.get(OfGroup, id).Steps }

// Needs are the names of groups that have to be up before one starts.
func (b *Berths) Needs(id string) []string { return b.get(OfGroup, id).Needs }

// view is what is told of a group's berth.
func (b *Berths) view(r directory.Record, revision int64, x berth.Berth, said []berth.Machine, faults []problem.Field) View {
	arrivals, from := b.resolve(r, x, said)
	v := View{Site: b.Site, Revision: revision, Berth: Encode(x), Machines: from, Arrivals: []ArrivalView{}, Faults: []FindingView{}, Warnings: []FindingView{}}
	for _, f := range faults {
		v.Faults = append(v.Faults, FindingView(f))
	}
	for _, f := range b.newPass().survey(r, x, arrivals) {
		if f.Warning {
			v.Warnings = append(v.Warnings, FindingView{f.Field, f.Message})
		} else {
			v.Faults = append(v.Faults, FindingView{f.Field, f.Message})
		}
	}
	name := ""
	for _, a := range arrivals {
		v.Arrivals = append(v.Arrivals, arrivalView(a))
		name = a.Platform.Text
	}
	v.Choices = b.choices(name, arrivals)
	return v
}

func (b *Berths) choices(name string, arrivals []berth.Arrival) Choices {
	c := Choices{Platforms: []string{}, Pools: []string{}, Datastores: []string{}, Folders: []string{}, Networks: []NetworkChoice{}, HomeNetworks: []string{}, Ways: []string{string(berth.Leave)}, Formats: []string{}, Commands: b.Commands(), Servers: append([]string{}, b.Servers()...), Channels: append([]string{}, b.Channels()...)}
	for _, p := range b.Inventory.All() {
		c.Platforms = append(c.Platforms, p.Name)
	}
	for _, a := range arrivals {
		for _, x := range a.Cards {
			if !slices.Contains(c.HomeNetworks, x.Home.Network) {
				c.HomeNetworks = append(c.HomeNetworks, x.Home.Network)
			}
		}
	}
	p, err := b.Inventory.Find(name)
	if err != nil || name == "" {
		return c
	}
	inv := p.Held()
	for _, x := range inv.Pools {
		c.Pools = append(c.Pools, x.Name)
	}
	for _, x := range inv.Datastores {
		c.Datastores = append(c.Datastores, x.Name)
	}
	c.Folders = append(c.Folders, inv.Folders...)
	for _, w := range inv.Ways {
		c.Ways = append(c.Ways, string(w))
	}
	for _, f := range inv.Formats {
		c.Formats = append(c.Formats, f.Name)
	}
	for _, x := range inv.Networks {
		c.Networks = append(c.Networks, NetworkChoice{x.Name, x.Note(), x.Isolated})
	}
	return c
}

// group finds one; far says that its recovery site has to be asked.
func (b *Berths) group(text string) (r directory.Record, far bool, err error) {
	r, err = b.Groups.Find(text)
	return r, r.Direction == directory.Out, err
}

// facts is the machines of a group that is home here, as their platform shows them.
func (b *Berths) facts(r directory.Record) json.RawMessage {
	var out []berth.Machine
	p, _ := b.Inventory.Get(r.Spec.Platform)
	for _, m := range r.Spec.Machines {
		x := named(m)
		if now, ok := p.Machine(m.ID); ok {
			x = Machine(now)
			x.SizeBytes = m.SizeBytes()
		}
		out = append(out, x)
	}
	text, err := json.Marshal(out)
	if err != nil {
		panic(err) // plain structs always marshal
	}
	return text
}

func (b *Berths) ask(ctx context.Context, r directory.Record, a link.BerthAsk) (View, error) {
	var v View
	l, ok := b.Peering.Get(r.Link)
	if !ok {
		return v, problem.Conflict("%s is linked to no site.", r.Spec.Name)
	}
	a.Machines = b.facts(r)
	text, err := l.Berth(ctx, r.ID, a)
	if errors.Is(err, link.ErrDown) {
		return v, problem.Unreachable("%s decides how machines arrive there, and cannot be reached: %v", l.Peer, err)
	}
	if err != nil {
		return v, err
	}
	if err := json.Unmarshal(text, &v); err != nil {
		return v, fmt.Errorf("read what %s says of the berth: %w", l.Peer, err)
	}
	return v, nil
}

// Show tells how the machines of a group arrive.
func (b *Berths) Show(ctx context.Context, who actor.Actor, text string) (View, error) {
	r, far, err := b.group(text)
	if err != nil {
		return View{}, err
	}
	if far {
		return b.ask(ctx, r, link.BerthAsk{Who: who.String()})
	}
	e := b.get(OfGroup, r.ID)
	return b.view(r, e.revision, e.Berth, nil, nil), nil
}

// Preview tells what a berth would make of a group's machines. What is wrong with it is in
// the answer.
func (b *Berths) Preview(ctx context.Context, who actor.Actor, text string, wish json.RawMessage) (View, error) {
	r, far, err := b.group(text)
	if err != nil {
		return View{}, err
	}
	if far {
		return b.ask(ctx, r, link.BerthAsk{Who: who.String(), Berth: wish})
	}
	return b.preview(r, wish, nil)
}

func (b *Berths) preview(r directory.Record, wish json.RawMessage, said []berth.Machine) (View, error) {
	x, faults, err := Decode(wish)
	if err != nil {
		return View{}, err
	}
	return b.view(r, b.get(OfGroup, r.ID).revision, x, said, faults), nil
}

// Write changes a group's berth, if nobody has since the revision that was looked at.
func (b *Berths) Write(ctx context.Context, who actor.Actor, text string, revision int64, wish json.RawMessage) (View, error) {
	r, far, err := b.group(text)
	if err != nil {
		return View{}, err
	}
	if far {
		return b.ask(ctx, r, link.BerthAsk{Who: who.String(), Berth: wish, Write: true, Revision: revision})
	}
	return b.write(ctx, who, r, revision, wish, nil)
}

func (b *Berths) write(ctx context.Context, who actor.Actor, r directory.Record, revision int64, wish json.RawMessage, said []berth.Machine) (View, error) {
	v, err := b.preview(r, wish, said)
	if err != nil {
		return v, err
	}
	if len(v.Faults) > 0 {
		var fs []problem.Field
		for _, f := range v.Faults {
			fs = append(fs, problem.Field(f))
		}
		return v, problem.InvalidFields(fs...)
	}
	x, _, err := Decode(wish)
	if err != nil {
		return v, err
	}
	was := b.get(OfGroup, r.ID)
	before, _ := b.resolve(r, was.Berth, said)
	after, _ := b.resolve(r, x, said)
	moved := berth.Diff(before, after)
	what := "no machine arrives otherwise"
	if len(moved) > 0 {
		what = strings.Join(moved[:min(len(moved), 12)], "; ")
	}
	err = b.put(ctx, who, key{OfGroup, r.ID}, audit.Object{Kind: "group", Name: r.Spec.Name, ID: r.ID}, revision, x, fmt.Sprintf("%s changed the berth of %s: %s", who, r.Spec.Name, what))
	if err == nil {
		v.Revision = revision + 1
	}
	return v, err
}

// Asked answers home, or writes for it.
func (b *Berths) Asked(ctx context.Context, who actor.Actor, id string, a link.BerthAsk) (json.RawMessage, error) {
	r, ok := b.Groups.Get(id)
	if !ok {
		return nil, problem.NotFound("group", id)
	}
	var said []berth.Machine
	if len(a.Machines) > 0 {
		if err := json.Unmarshal(a.Machines, &said); err != nil || len(said) > group.MaxMachines {
			return nil, problem.Invalid("machines", "The machines cannot be read, or are too many.")
		}
	}
	var v View
	var err error
	switch {
	case a.Fill:
		v, err = b.fill(ctx, who, r, a.Berth, said)
	case a.Write:
		v, err = b.write(ctx, who, r, a.Revision, a.Berth, said)
	case len(a.Berth) > 0:
		v, err = b.preview(r, a.Berth, said)
	default:
		e := b.get(OfGroup, id)
		v = b.view(r, e.revision, e.Berth, said, nil)
	}
	if err != nil {
		return nil, err
	}
	return json.Marshal(v)
}
