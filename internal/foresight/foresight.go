// Package foresight foretells how this site's groups fare in the days to come, by what was
// measured of them, and remembers what it foretold, so that everybody sees how much it is
// worth.
package foresight

import (
	"context"
	"log/slog"
	"slices"
	"sync"
	"time"

	"kestrel/internal/api"
	"kestrel/internal/clock"
	"kestrel/internal/core/change"
	"kestrel/internal/core/forecast"
	"kestrel/internal/core/group"
	"kestrel/internal/core/span"
	"kestrel/internal/cycle"
	"kestrel/internal/directory"
	"kestrel/internal/history"
	"kestrel/internal/inventory"
	"kestrel/internal/keeper"
	"kestrel/internal/mover"
	"kestrel/internal/peering"
	"kestrel/internal/records"
)

// Records is what is kept; *records.DB is one.
type Records interface {
	PutForecast(ctx context.Context, f records.Forecast) error
	DueForecasts(ctx context.Context, now time.Time) ([]records.Forecast, error)
	Forecasts(ctx context.Context, group string, limit int) ([]records.Forecast, error)
	NewestForecasts(ctx context.Context) (map[string]time.Time, error)
	TrimForecasts(ctx context.Context, before time.Time) error
	ChangedByHour(ctx context.Context, since time.Time) ([]records.ChangedInHour, error)
	ShippedBetween(ctx context.Context, group string, from, to time.Time) (int64, error)
}

// Config is what it is made of.
type Config struct {
	DB        Records
	Groups    *directory.Directory
	Inventory *inventory.Inventory
	Peering   *peering.Peering
	Mover     *mover.Mover
	Keeper    *keeper.Keeper
	History   *history.History
	Clock     clock.Clock
	Log       *slog.Logger
	// Surveyed is what a survey has seen of machines.
	Surveyed func(ctx context.Context, platform string, machines []string) (change.Curve, bool, error)
	// Draft is a group as it would be made, with what is wrong with it.
	Draft func(in api.NewGroup) (group.Spec, peering.Link, error)
	// Edited is a group as an edit would leave it.
	Edited func(id string, in api.GroupPatch) (group.Spec, error)
	// Every is how often it is looked whether something is to be foretold or judged.
	Every time.Duration
}

// Foresight foretells at one site.
type Foresight struct {
	Config

	mu      sync.Mutex
	weeks   map[string][]change.Hour // by group
	weeksAt time.Time

	tried map[string]time.Time // of Run alone: when a forecast to remember was last tried, by group
}

// New makes one.
func New(cfg Config) *Foresight { return &Foresight{Config: cfg} }

// weekOld is how far back busy hours are looked for, and hourly how often.
const (
	weekOld = 28 * span.Day
	hourly  = time.Hour
	// enoughHours of a week have to have been seen, before one is called busier than
	// another.
	enoughHours = 24
)

// Hourly tells how much of a group changes at an instant, as a share of the usual: by what
// was seen when it was last looked for, 1 where that is nothing.
func (f *Foresight) Hourly(group string, at time.Time) float64 {
	f.mu.Lock()
	hours := f.weeks[group]
	f.mu.Unlock()
	return change.Share(hours, at)
}

// busy tells which hours of the week are busier, for all groups.
func (f *Foresight) busy(ctx context.Context, now time.Time) (map[string][]change.Hour, error) {
	f.mu.Lock()
	weeks, at := f.weeks, f.weeksAt
	f.mu.Unlock()
	if weeks != nil && now.Sub(at) < hourly {
		return weeks, nil
	}
	seen, err := f.DB.ChangedByHour(ctx, now.Add(-weekOld))
	if err != nil {
		return nil, err
	}
	weeks = map[string][]change.Hour{}
	by := map[string][]records.ChangedInHour{}
	for _, s := range seen {
		by[s.GroupID] = append(by[s.GroupID], s)
	}
	for id, all := range by {
		if len(all) < enoughHours {
			continue
		}
		total, n := 0.0, 0
		for _, s := range all {
			total, n = total+s.Bytes, n+s.Cycles
		}
		mean := total / float64(n)
		for _, s := range all {
			if mean > 0 {
				weeks[id] = append(weeks[id], change.Hour{Hour: s.Hour, Share: s.Bytes / float64(s.Cycles) / mean})
			}
		}
	}
	f.mu.Lock()
	f.weeks, f.weeksAt = weeks, now
	f.mu.Unlock()
	return weeks, nil
}

// known is where what is known of a group's change comes from.
type known string

// Where from.
const (
	fromCycles known = "cycles"
	fromSurvey known = "survey"
	fromNone   known = "none"
)

// Measure enters into a group what its newest cycles tell of it, and what was seen of its
// change between them.
func Measure(g *forecast.Group, cycles []cycle.Account, seen change.Curve) {
	measured(g, cycles)
	g.Change = joint(g.Change, seen)
}

// Underway enters the cycle that is under way. A first copy tells by itself how fast it is.
func Underway(g *forecast.Group, x mover.Standing, now time.Time) {
	p := x.Running
	switch {
	case !x.Facts.Running || g.Last.IsZero():
		return
	case p == nil:
		g.Under = &forecast.Under{Share: x.Share}
		return
	}
	g.Under = &forecast.Under{Capture: p.CaptureAt, Left: float64(max(0, p.TotalBytes-p.ReadBytes)), Known: p.TotalBytes > 0, Share: x.Share}
	if !g.Captured.IsZero() {
		return
	}
	if p.ReadBytes > 0 && p.WireBytes > 0 {
		g.Wire = float64(p.WireBytes) / float64(p.ReadBytes)
	}
	if d := now.Sub(p.CaptureAt).Seconds(); d > 5 && p.ReadBytes > 0 {
		g.ReadRate = float64(p.ReadBytes) / d
	}
}

func measured(g *forecast.Group, cycles []cycle.Account) {
	var samples []change.Sample
	var lead, tail, copying time.Duration
	var read, wire, changed float64
	n := 0
	bound := false
	for i, a := range cycles {
		if a.State != cycle.Sealed || a.Kind != cycle.KindChanges || a.CaptureAt.IsZero() || a.Attempts > 1 {
			continue
		}
		n++
		lead += max(0, a.CaptureAt.Sub(a.StartedAt))
		ship := max(a.Lasted("ship"), a.Lasted("read"))
		tail += max(0, a.EndedAt.Sub(a.CaptureAt)-ship)
		copying += ship
		read, wire, changed = read+float64(a.ReadBytes), wire+float64(a.WireBytes), changed+float64(a.ChangedBytes)
		if a.LinkLimit > 0 && ship > 0 && float64(a.WireBytes)/ship.Seconds() > 0.7*float64(a.LinkLimit) {
			bound = true // it is the link that held it up
		}
		if i+1 < len(cycles) && !cycles[i+1].CaptureAt.IsZero() {
			samples = append(samples, change.Sample{From: cycles[i+1].CaptureAt, After: a.CaptureAt.Sub(cycles[i+1].CaptureAt).Round(time.Second), Bytes: a.ReadBytes})
		}
	}
	if n == 0 {
		return
	}
	g.Lead, g.Tail = lead/time.Duration(n), tail/time.Duration(n)
	if len(samples) > 0 {
		g.Change = typical(samples)
	}
	if read > 0 {
		g.Wire = max(wire/read, 1e-3)
	}
	if s := copying.Seconds(); s > 0.05 && read > 0 && !bound {
		g.ReadRate = read / s
	}
}

// joint takes together what cycles found and what was seen between them: the one tells how
// much has to be read, the other how that grows.
func joint(cycles, seen change.Curve) change.Curve {
	if len(cycles) == 0 || len(seen) < 2 {
		return cycles
	}
	at := cycles[0]
	if last := seen[len(seen)-1]; last.Within < at.Within*8/10 || seen.Within(at.Within) <= 0 {
		return cycles
	}
	// What is read is a little more than what is reported, and by about the same share.
	share := at.Bytes / seen.Within(at.Within)
	out := slices.Clone(seen)
	for i := range out {
		out[i].Bytes *= share
	}
	return out
}

// typical is the curve through the mean of what cycles found: their gaps are about the same,
// and what one of them happened to find says nothing of another length.
func typical(all []change.Sample) change.Curve {
	var bytes float64
	var gap time.Duration
	for _, s := range all {
		bytes += float64(s.Bytes)
		gap += s.After
	}
	if gap <= 0 {
		return nil
	}
	n := float64(len(all))
	return change.Curve{{Within: gap / time.Duration(len(all)), Bytes: max(bytes/n, 1)}}
}

// group is one as forecasts need it, and where what is known of its change comes from.
func (f *Foresight) group(ctx context.Context, r directory.Record, s group.Spec, now time.Time, weeks map[string][]change.Hour) (forecast.Group, known, error) {
	g := forecast.Group{ID: r.ID, Name: s.Name, Link: r.Link, Target: s.Promise.Target, Cadence: s.Promise.Cadence, Anchor: r.Anchor, Weight: s.Priority.Weight(), Busy: weeks[r.ID], Zone: time.UTC, Platform: s.Platform}
	if p := s.Pause; p != nil && s.PausedAt(now) {
		g.Paused, g.Until = true, p.Until
	}
	for _, m := range s.Machines {
		g.SeedBytes += m.SizeBytes()
	}
	if p, ok := f.Inventory.Get(s.Platform); ok {
		used := int64(0)
		for _, m := range s.Machines {
			if pm, ok := p.Machine(m.ID); ok {
				used += inventory.Used(pm, func(disk string) bool { return s.Leaves(m.ID, disk) })
			}
		}
		if used > 0 {
			g.SeedBytes = used
		}
	}
	from := fromNone
	if _, there := f.Groups.Get(r.ID); there {
		x := f.Mover.Standing(r)
		g.Last, g.Captured = x.Last, x.Captured
		Measure(&g, x.Cycles, x.Change)
		g.Length = x.Length
		if len(g.Change) > 0 {
			from = fromCycles
		}
		Underway(&g, x, now)
	}
	if len(g.Change) == 0 && f.Surveyed != nil {
		c, ok, err := f.Surveyed(ctx, s.Platform, s.IDs())
		if err != nil {
			return g, from, err
		}
		if ok {
			g.Change, from = c, fromSurvey
		}
	}
	return g, from, nil
}
