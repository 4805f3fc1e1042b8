// Package history keeps how exposure went: one row for every point's arrival, from
// which the curve follows exactly, and which target was promised when.
package history

import (
	"context"
	"errors"
	"time"

	"kestrel/internal/api"
	"kestrel/internal/clock"
	"kestrel/internal/core/exposure"
	"kestrel/internal/core/span"
	"kestrel/internal/directory"
	"kestrel/internal/problem"
	"kestrel/internal/records"
)

// kept is how long the past is kept.
const kept = 400 * span.Day

// Store is where it is kept; *records.DB is one.
type Store interface {
	AddArrival(ctx context.Context, group string, a records.Arrival) error
	TrimArrivals(ctx context.Context, before time.Time) error
	Arrivals(ctx context.Context, group string, from, to time.Time) ([]records.Arrival, error)
	Crests(ctx context.Context, group string, from, to time.Time, n int) ([]records.Crest, error)
	ArrivalsOf(ctx context.Context, groups []string, from, to time.Time) ([]records.GroupArrival, error)
	Targets(ctx context.Context, group string) ([]records.Target, error)
	AllTargets(ctx context.Context) ([]records.Target, error)
	Tallies(ctx context.Context, step string, from, to time.Time) ([]records.Tally, error)
	AddAttained(ctx context.Context, day time.Time, sums []records.Attained) error
	AttainedDays(ctx context.Context, from, to time.Time) ([]time.Time, error)
	Attained(ctx context.Context, from, to time.Time) ([]records.Attained, error)
	AttainedOf(ctx context.Context, group string, from, to time.Time) ([]records.Attained, error)
	TrimAttained(ctx context.Context, before time.Time) error
}

// History is that of one site.
type History struct {
	store Store
	clk   clock.Clock
}

// New makes it.
func New(store Store, clk clock.Clock) *History { return &History{store, clk} }

// Arrived notes a point's arrival, both instants on this site's clock. An arrival
// before its capture, which clocks that differ can make, counts as at once.
func (h *History) Arrived(ctx context.Context, group string, captured, sealed time.Time) error {
	now := h.clk.Now()
	if sealed.After(now) || sealed.Before(captured) {
		sealed = now // the clocks' difference is not known well enough
	}
	return h.store.AddArrival(ctx, group, records.Arrival{CaptureAt: captured.UTC(), SealedAt: sealed.UTC()})
}

// Tidy forgets what is too old.
func (h *History) Tidy(ctx context.Context) error {
	before := h.clk.Now().Add(-kept)
	return errors.Join(h.store.TrimArrivals(ctx, before), h.store.TrimAttained(ctx, before))
}

// Targets lists what was promised for a group when, oldest first.
func (h *History) Targets(ctx context.Context, r directory.Record) ([]exposure.Target, error) {
	recs, err := h.store.Targets(ctx, r.ID)
	if err != nil {
		return nil, err
	}
	var out []exposure.Target
	for _, t := range recs {
		out = append(out, targetOf(t))
	}
	if out == nil {
		out = []exposure.Target{{Since: r.CreatedAt, Target: r.Spec.Promise.Target}}
	}
	return out, nil
}

func targetOf(t records.Target) exposure.Target {
	out := exposure.Target{Since: t.Since, Target: time.Duration(t.Seconds) * time.Second, Tier: t.Tier, Paused: t.Paused != nil}
	if t.PausedUntil != nil {
		out.Until = *t.PausedUntil
	}
	return out
}

// Exposure gives the sawtooth of a group over a stretch of time (the last day if it
// is left open) and how its promise was kept, each moment judged by the target of
// the time.
func (h *History) Exposure(ctx context.Context, r directory.Record, from, to *time.Time) (api.Exposure, error) {
	end := h.clk.Now()
	if to != nil && to.Before(end) {
		end = *to
	}
	begin := end.Add(-span.Day)
	if from != nil {
		begin = *from
	}
	if !begin.Before(end) {
		return api.Exposure{}, problem.Invalid("from", "The stretch ends before it begins; give an earlier time.")
	}
	if oldest := h.clk.Now().Add(-kept - span.Day); begin.Before(oldest) {
		begin = oldest // there is nothing before
		if !begin.Before(end) {
			return api.Exposure{}, problem.Invalid("to", "What was is kept for %s; give a later time.", span.Format(kept))
		}
	}
	targets, err := h.Targets(ctx, r)
	if err != nil {
		return api.Exposure{}, err
	}
	curve, k, err := h.curve(ctx, r, targets, begin, end)
	if err != nil {
		return api.Exposure{}, err
	}
	v := api.Exposure{From: begin.UTC(), To: end.UTC(), TargetSeconds: int64(r.Spec.Promise.Target / time.Second), Targets: []api.TargetSince{}, Vertices: Vertices(exposure.Thin(curve, 2000)),
		KeptShare: k.Share(), WorstSeconds: int64(k.Worst / time.Second), OverSeconds: int64(k.Over / time.Second)}
	if !k.WorstAt.IsZero() {
		v.WorstAt = new(k.WorstAt.UTC())
	}
	for _, t := range targets {
		v.Targets = append(v.Targets, api.TargetSince{Since: t.Since.UTC(), Seconds: int64(t.Target / time.Second)})
	}
	return v, nil
}

const (
	// long is from what length on a curve is drawn by its crests.
	long = 40 * span.Day
	// crests is how many of them.
	crests = 500
)

// curve is a group's exposure over a stretch of time, and how its promise was kept. Of a long
// one, days that are summed up say how, and crests and the falls after them draw it: what lies
// between is lower, and closer together than can be seen.
func (h *History) curve(ctx context.Context, r directory.Record, targets []exposure.Target, begin, end time.Time) ([]exposure.Vertex, exposure.Kept, error) {
	if end.Sub(begin) < long {
		arrivals, err := h.store.Arrivals(ctx, r.ID, begin, end)
		curve := exposure.Sawtooth(arrivalsOf(arrivals), begin, end)
		return curve, exposure.Judge(curve, targets), err
	}
	cs, err := h.store.Crests(ctx, r.ID, begin, end, crests)
	if err != nil {
		return nil, exposure.Kept{}, err
	}
	var curve []exposure.Vertex
	for _, c := range cs {
		curve = append(curve, exposure.Vertex{At: c.SealedAt, Exposure: max(0, c.SealedAt.Sub(c.Before))}, exposure.Vertex{At: c.SealedAt, Exposure: max(0, c.SealedAt.Sub(c.CaptureAt))})
	}
	// Its end is as it is now.
	last, err := h.store.Arrivals(ctx, r.ID, end, end)
	if err != nil {
		return nil, exposure.Kept{}, err
	}
	if tail := exposure.Sawtooth(arrivalsOf(last), end, end); len(tail) > 0 {
		curve = append(curve, tail[len(tail)-1])
	}
	var k exposure.Kept
	parts, err := h.parts(ctx, []directory.Record{r}, map[string][]exposure.Target{r.ID: targets}, begin, end)
	for _, p := range parts {
		if p.GroupID == r.ID {
			k = k.Plus(keptOf(p))
		}
	}
	return curve, k, err
}

// Strips gives the arrivals of groups since an instant, by group, in one
// question.
func (h *History) Strips(ctx context.Context, groups []string, from time.Time) (map[string][]exposure.Arrival, error) {
	return h.arrivals(ctx, groups, from, h.clk.Now())
}

func (h *History) arrivals(ctx context.Context, groups []string, from, to time.Time) (map[string][]exposure.Arrival, error) {
	recs, err := h.store.ArrivalsOf(ctx, groups, from, to)
	out := map[string][]exposure.Arrival{}
	for _, r := range recs {
		out[r.GroupID] = append(out[r.GroupID], exposure.Arrival{Capture: r.CaptureAt, Sealed: r.SealedAt})
	}
	return out, err
}

func arrivalsOf(recs []records.Arrival) []exposure.Arrival {
	out := make([]exposure.Arrival, len(recs))
	for i, r := range recs {
		out[i] = exposure.Arrival{Capture: r.CaptureAt, Sealed: r.SealedAt}
	}
	return out
}

// Vertices puts a curve into the contract's form.
func Vertices(curve []exposure.Vertex) []api.Vertex {
	out := make([]api.Vertex, len(curve))
	for i, v := range curve {
		out[i] = api.Vertex{At: v.At.UTC(), Seconds: v.Exposure.Seconds()}
	}
	return out
}
