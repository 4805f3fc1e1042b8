// Package lookout keeps looking at whether the groups that come to this site would recover
// right now, and knows what other recovery sites say of the groups that are home here.
package lookout

import (
	"cmp"
	"context"
	"encoding/json"
	"log/slog"
	"maps"
	"reflect"
	"slices"
	"strings"
	"sync"
	"time"

	"kestrel/internal/berths"
	"kestrel/internal/clock"
	"kestrel/internal/core/drill"
	"kestrel/internal/core/readiness"
	"kestrel/internal/directory"
	"kestrel/internal/events"
	"kestrel/internal/inventory"
	"kestrel/internal/keeper"
	"kestrel/internal/peering"
	"kestrel/internal/platform"
	"kestrel/internal/points"
)

// Berths tells how machines of groups arrive; *berths.Berths is one.
type Berths interface {
	Everyone() map[string]berths.Arriving
}

// Landings tells what could not be started, and what runs; *landing.Landings is one.
type Landings interface {
	Refusals(seal *points.Seal, coming berths.Arriving) []string
	Live(group string) []string
}

// Serving tells how disks of points are served; *serving.Serving is it.
type Serving interface {
	CertificateEnds() time.Time
	Reachable(p inventory.Platform) error
}

// Config is what it is made of.
type Config struct {
	Groups    *directory.Directory
	Berths    Berths
	Landings  Landings
	Keeper    *keeper.Keeper
	Inventory *inventory.Inventory
	Serving   Serving
	Peering   *peering.Peering
	Clock     clock.Clock
	Hub       *events.Hub
	Log       *slog.Logger
	// Drill is when a drill of a group passed last here, and when one falls due; zero where
	// there is none. Nil is none at all.
	Drill func(r directory.Record) (last, due time.Time)
	Every time.Duration // between two looks
}

// Lookout is that of one site.
type Lookout struct {
	Config

	mu    sync.Mutex
	by    map[string]Seen
	heard map[string]Seen            // of other sites
	texts map[string]json.RawMessage // what is told of what was seen, as long as that stays
}

// Seen is what was seen of a group when it was last looked at. Its JSON form is sent over
// the link; fields may be added.
type Seen struct {
	At       time.Time `json:"at"`
	Ready    bool      `json:"ready"`
	On       string    `json:"-"` // the platform here that it arrives on; empty if none is chosen
	Findings []Finding `json:"findings"`
	// Drilled is when a drill of it passed last, DrillDue when one falls due; zero where there
	// is none.
	Drilled  time.Time `json:"drilled,omitzero"`
	DrillDue time.Time `json:"drillDue,omitzero"`
}

// Finding is one with since when it has been seen, by this service since its start.
type Finding struct {
	Kind    string    `json:"kind"`
	Stops   bool      `json:"stops"`
	Machine string    `json:"machine,omitempty"`
	What    string    `json:"what"`
	Mend    string    `json:"mend"`
	Page    string    `json:"page"`
	Since   time.Time `json:"since"`
}

// most is how many findings of a group are told of; what stops it comes first.
const most = 50

// New makes one.
func New(cfg Config) *Lookout {
	if cfg.Drill == nil {
		cfg.Drill = func(directory.Record) (last, due time.Time) { return }
	}
	return &Lookout{Config: cfg, by: map[string]Seen{}, heard: map[string]Seen{}, texts: map[string]json.RawMessage{}}
}

// Run looks again and again until ctx ends.
func (l *Lookout) Run(ctx context.Context) {
	for {
		began := l.Clock.Now()
		l.Look()
		// A look over very many groups takes no more than a tenth of one processor.
		if clock.Sleep(ctx, l.Clock, max(l.Every, 9*l.Clock.Now().Sub(began))) != nil {
			return
		}
	}
}

// Look looks at every group that comes here.
func (l *Lookout) Look() {
	all := l.Groups.All()
	arrivals := l.Berths.Everyone()
	room := l.room(arrivals)
	now := l.Clock.Now().UTC()
	there := map[string]bool{}
	for _, r := range all {
		there[r.ID] = true
		x, comes := arrivals[r.ID]
		if p, err := l.Inventory.Find(on(x)); !comes || r.Held() || err == nil && on(x) != "" && !p.Seen() && p.Err == nil {
			continue // the platform has not been asked yet, so nothing is known
		}
		f := l.facts(r, x, room, now)
		last, due := l.Drill(r)
		f.DrillOverdue = drill.Overdue(now, last, due, r.Spec.DrillEvery)
		l.note(r.ID, Seen{At: now, On: on(x), Drilled: last, DrillDue: due}, readiness.Check(f))
	}
	l.mu.Lock()
	defer l.mu.Unlock()
	for _, m := range []map[string]Seen{l.by, l.heard} {
		maps.DeleteFunc(m, func(id string, _ Seen) bool { return !there[id] })
	}
	maps.DeleteFunc(l.texts, func(id string, _ json.RawMessage) bool { return !there[id] })
}

// on is the platform on which a group arrives.
func on(a berths.Arriving) string {
	if len(a.Arrivals) == 0 {
		return ""
	}
	return a.Arrivals[0].Platform.Text
}

// note keeps what was found, with since when, and tells clients if it is something else.
func (l *Lookout) note(id string, x Seen, fs []readiness.Finding) {
	l.mu.Lock()
	was, known := l.by[id]
	since := map[string]time.Time{}
	for _, f := range was.Findings {
		since[f.key()] = f.Since
	}
	x.Ready, x.Findings = readiness.Ready(fs), []Finding{}
	changed := !known || len(fs) != len(was.Findings) || !x.Drilled.Equal(was.Drilled)
	for _, f := range fs[:min(len(fs), most)] {
		from, before := since[f.Key()]
		if !before {
			from, changed = x.At, true
		}
		x.Findings = append(x.Findings, Finding{f.Kind, f.Stops, f.Machine, f.What, f.Mend, f.Page, from})
	}
	was.At, l.by[id] = x.At, x
	if !reflect.DeepEqual(was, x) {
		delete(l.texts, id)
	}
	l.mu.Unlock()
	if changed {
		l.Hub.Send(events.Event{Type: "group", ID: id})
	}
}

func (f Finding) key() string {
	return readiness.Finding{Kind: f.Kind, Machine: f.Machine, What: f.What}.Key()
}

func (l *Lookout) facts(r directory.Record, x berths.Arriving, room map[string][]readiness.Shortage, now time.Time) readiness.Facts {
	f := readiness.Facts{Now: now, Home: r.HomeName, Berth: x.Findings, Room: room[on(x)], Here: l.Landings.Live(r.ID), CertificateEnds: l.Serving.CertificateEnds()}
	for _, m := range r.Spec.Machines {
		y := readiness.Machine{ID: m.ID, Name: m.Name}
		for _, d := range m.Disks {
			y.Disks = append(y.Disks, readiness.Disk{Key: d.Key, Label: d.Label, Size: d.SizeBytes, Boot: d.Boot, Left: d.LeftOut})
		}
		f.Machines = append(f.Machines, y)
	}
	if w, ok := l.Peering.Get(r.Link); ok {
		f.Ahead = w.Ahead
	}
	f.Platform.Name = on(x)
	p, err := l.Inventory.Find(f.Platform.Name)
	if known := err == nil && f.Platform.Name != ""; known {
		_, lands := p.Lander()
		f.Platform = readiness.Platform{Name: p.Name, Kind: p.Kind, Known: true, Up: p.Up, Lands: lands}
		if err := l.Serving.Reachable(p); err != nil {
			f.Unreachable = err.Error()
		}
	}
	held := l.Keeper.Seals(r.ID)
	if len(held) == 0 {
		return f
	}
	newest := held[len(held)-1]
	f.Point = l.point(newest)
	if f.Platform.Known && f.Platform.Up && f.Platform.Lands {
		f.Refusals = l.Landings.Refusals(newest, x)
	}
	return f
}

func (l *Lookout) point(x *points.Seal) *readiness.Point {
	p := &readiness.Point{Number: x.Number, Lost: map[string]int64{}}
	for m, lost := range l.Keeper.LostByMachine(x) {
		p.Lost[m.Name] = lost
	}
	for _, m := range x.Machines {
		p.Kind = cmp.Or(p.Kind, platform.KindOf(m.Config))
		y := readiness.Machine{ID: m.ID, Name: m.Name}
		for _, d := range m.Disks {
			y.Disks = append(y.Disks, readiness.Disk{Key: d.Key, Size: d.Size})
		}
		for _, d := range m.Left {
			y.Disks = append(y.Disks, readiness.Disk{Key: d.Key, Label: d.Label, Size: d.Size, Left: true})
		}
		p.Machines = append(p.Machines, y)
	}
	return p
}

// room finds what does not suffice for all groups that arrive on a platform together.
func (l *Lookout) room(all map[string]berths.Arriving) map[string][]readiness.Shortage {
	type need struct{ on, of, name string }
	needs := map[need]int64{}
	for _, x := range all {
		for _, a := range x.Arrivals {
			needs[need{on(x), "memory", a.Pool.Text}] += a.Memory
			needs[need{on(x), "space", a.Datastore.Text}] += a.Machine.SizeBytes
		}
	}
	out := map[string][]readiness.Shortage{}
	for n, bytes := range needs {
		p, err := l.Inventory.Find(n.on)
		if err != nil || n.on == "" || n.name == "" {
			continue
		}
		inv := p.Held()
		have := int64(-1)
		switch n.of {
		case "memory":
			for _, x := range inv.Pools {
				if strings.EqualFold(x.Name, n.name) && x.MemoryBytes > 0 {
					have = x.MemoryFreeBytes
				}
			}
		default:
			for _, x := range inv.Datastores {
				if strings.EqualFold(x.Name, n.name) {
					have = x.FreeBytes
				}
			}
		}
		if have >= 0 && bytes > have {
			out[n.on] = append(out[n.on], readiness.Shortage{Of: n.of + " on " + n.name, Need: bytes, Have: have})
		}
	}
	for _, s := range out {
		slices.SortFunc(s, func(a, b readiness.Shortage) int { return strings.Compare(a.Of, b.Of) })
	}
	return out
}

// Tell is what is told to the home site of a group that comes here; nil before it was
// looked at.
func (l *Lookout) Tell(group string) json.RawMessage {
	l.mu.Lock()
	defer l.mu.Unlock()
	x, ok := l.by[group]
	if !ok {
		return nil
	}
	if b := l.texts[group]; b != nil {
		return b
	}
	x.At = time.Time{} // that it was looked at again is no news
	b, err := json.Marshal(x)
	if err != nil {
		panic(err) // plain structs always marshal
	}
	l.texts[group] = b
	return b
}

// Hear takes what the recovery site of a group that is home here says.
func (l *Lookout) Hear(group string, text json.RawMessage) {
	var x Seen
	if len(text) > 256<<10 || json.Unmarshal(text, &x) != nil {
		l.Log.Warn("what a recovery site says of a group's readiness cannot be read", "group", group)
		return
	}
	if len(x.Findings) > most {
		x.Findings = x.Findings[:most]
	}
	// When it was said counts on our own clock; since when something is so is theirs.
	x.At = l.Clock.Now().UTC()
	l.mu.Lock()
	was := l.heard[group]
	l.heard[group] = x
	l.mu.Unlock()
	if was.Ready != x.Ready || len(was.Findings) != len(x.Findings) {
		l.Hub.Send(events.Event{Type: "group", ID: group})
	}
}

// Of tells what was seen of a group; known is false if nothing was, or too long ago to be
// said of now, and then at is when.
func (l *Lookout) Of(r directory.Record) (x Seen, known bool) {
	if r.Held() || r.Away() {
		return Seen{}, false // its machines are being recovered, or were
	}
	l.mu.Lock()
	defer l.mu.Unlock()
	switch r.Direction {
	case directory.In:
		x, known = l.by[r.ID]
	case directory.Out:
		x, known = l.heard[r.ID]
		if at := l.Peering.HeardAt(r.Link); at.After(x.At) {
			x.At = at.UTC() // nothing else has been said since
		}
	}
	return x, known && l.Clock.Now().Sub(x.At) < max(4*l.Every, stale)
}

// stale is how old what was seen may be.
const stale = time.Minute
