package history

import (
	"context"
	"maps"
	"slices"
	"time"

	"kestrel/internal/api"
	"kestrel/internal/core/exposure"
	"kestrel/internal/core/span"
	"kestrel/internal/directory"
	"kestrel/internal/records"
)

const (
	// settle is how long after its end a day is summed up: what arrives is noted at once.
	settle = time.Hour
	// atOnce is how many days are summed up at a time.
	atOnce = 5
)

func keptOf(a records.Attained) exposure.Kept {
	return exposure.Kept{Covered: a.Covered, Over: a.Over, Worst: a.Worst, WorstAt: a.WorstAt, Paused: a.Paused, PausedOver: a.PausedOver}
}

// exact reckons how promises were kept from arrivals, in one stretch of time.
func (h *History) exact(ctx context.Context, groups []directory.Record, targets map[string][]exposure.Target, from, to time.Time) ([]records.Attained, error) {
	if !from.Before(to) {
		return nil, nil
	}
	var arrivals map[string][]exposure.Arrival
	var err error
	if len(groups) == 1 {
		var of []records.Arrival
		of, err = h.store.Arrivals(ctx, groups[0].ID, from, to)
		arrivals = map[string][]exposure.Arrival{groups[0].ID: arrivalsOf(of)}
	} else {
		ids := make([]string, len(groups))
		for i, g := range groups {
			ids[i] = g.ID
		}
		arrivals, err = h.arrivals(ctx, ids, from, to)
	}
	if err != nil {
		return nil, err
	}
	var out []records.Attained
	for _, r := range groups {
		ts := targets[r.ID]
		if ts == nil {
			ts = []exposure.Target{{Since: r.CreatedAt, Target: r.Spec.Promise.Target}}
		}
		for tier, k := range exposure.JudgeByTier(exposure.Sawtooth(arrivals[r.ID], from, to), ts) {
			out = append(out, records.Attained{At: from, GroupID: r.ID, Tier: tier, Covered: k.Covered, Over: k.Over, Paused: k.Paused, PausedOver: k.PausedOver, Worst: k.Worst, WorstAt: k.WorstAt.UTC()})
		}
	}
	return out, nil
}

// parts is how promises were kept from an instant to another, cut by days of UTC: from the
// sums of whole days where there are some, and from arrivals else.
func (h *History) parts(ctx context.Context, groups []directory.Record, targets map[string][]exposure.Target, from, to time.Time) ([]records.Attained, error) {
	// A microsecond is the least that PostgreSQL tells apart.
	days, err := h.store.AttainedDays(ctx, from, to.Add(-span.Day).Add(time.Microsecond))
	if err != nil {
		return nil, err
	}
	summed := map[int64]bool{}
	for _, d := range days {
		summed[d.Unix()] = true
	}
	var out []records.Attained
	for at := from; at.Before(to); {
		day := at.Truncate(span.Day)
		next := day.Add(span.Day)
		if at.Equal(day) && summed[day.Unix()] {
			at = next
			continue
		}
		end := to
		if next.Before(to) {
			end = next
		}
		some, err := h.exact(ctx, groups, targets, at, end)
		if err != nil {
			return nil, err
		}
		out, at = append(out, some...), end
	}
	if len(days) == 0 {
		return out, nil
	}
	first, last := days[0], days[len(days)-1].Add(time.Microsecond)
	var sums []records.Attained
	if len(groups) == 1 {
		sums, err = h.store.AttainedOf(ctx, groups[0].ID, first, last)
	} else {
		sums, err = h.store.Attained(ctx, first, last)
	}
	return append(out, sums...), err
}

// daily sums up parts and tallies by days, for groups that are known.
func daily(parts []records.Attained, tallies []records.Tally, known map[string]directory.Record) []api.ReportDay {
	sums := map[int64]*sum{}
	of := func(t time.Time) *sum {
		day := t.UTC().Truncate(span.Day).Unix()
		if sums[day] == nil {
			sums[day] = &sum{}
		}
		return sums[day]
	}
	for _, p := range parts {
		if r, ok := known[p.GroupID]; ok {
			of(p.At).add(r.Spec.Name, keptOf(p))
		}
	}
	for _, t := range tallies {
		if _, ok := known[t.GroupID]; ok {
			of(t.At).count(t)
		}
	}
	out := []api.ReportDay{}
	for _, day := range slices.Sorted(maps.Keys(sums)) {
		v := sums[day].view("")
		out = append(out, api.ReportDay{At: time.Unix(day, 0).UTC(), KeptShare: v.KeptShare, CoveredSeconds: v.CoveredSeconds, OverSeconds: v.OverSeconds, WorstSeconds: v.WorstSeconds, Sealed: v.Sealed, Failed: v.Failed, Missed: v.Missed, ChangedBytes: v.ChangedBytes, WireBytes: v.WireBytes})
	}
	return out
}

// CloseDays sums up days that are over, a few at a time, the oldest first, and those that are
// over for long first of all. Groups are all of them.
func (h *History) CloseDays(ctx context.Context, groups []directory.Record) error {
	now := h.clk.Now().UTC()
	last := now.Add(-settle).Truncate(span.Day) // the first day that is not over
	first := last
	for _, r := range groups {
		if day := r.CreatedAt.UTC().Truncate(span.Day); day.Before(first) {
			first = day
		}
	}
	if oldest := now.Add(-kept).Truncate(span.Day); first.Before(oldest) {
		first = oldest.Add(span.Day)
	}
	days, err := h.store.AttainedDays(ctx, first, last)
	if err != nil {
		return err
	}
	done := map[int64]bool{}
	for _, d := range days {
		done[d.Unix()] = true
	}
	var targets map[string][]exposure.Target
	n := 0
	for day := first; day.Before(last) && n < atOnce; day = day.Add(span.Day) {
		if done[day.Unix()] {
			continue
		}
		n++
		if targets == nil {
			if targets, err = h.allTargets(ctx); err != nil {
				return err
			}
		}
		sums, err := h.exact(ctx, groups, targets, day, day.Add(span.Day))
		if err != nil {
			return err
		}
		if err := h.store.AddAttained(ctx, day, sums); err != nil {
			return err
		}
	}
	return nil
}
