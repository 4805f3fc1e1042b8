package history

import (
	"context"
	"time"

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
	arrivals, err := h.arrivals(ctx, from, to)
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

// parts is how promises were kept from an instant to another: from the sums of whole days
// where there are some, and from arrivals before, between and after.
func (h *History) parts(ctx context.Context, groups []directory.Record, targets map[string][]exposure.Target, from, to time.Time) ([]records.Attained, error) {
	// A microsecond is the least that PostgreSQL tells apart.
	days, err := h.store.AttainedDays(ctx, from, to.Add(-span.Day).Add(time.Microsecond))
	if err != nil {
		return nil, err
	}
	var out []records.Attained
	at := from
	for _, d := range append(days, to) {
		some, err := h.exact(ctx, groups, targets, at, d)
		if err != nil {
			return nil, err
		}
		out = append(out, some...)
		at = d.Add(span.Day)
	}
	if len(days) == 0 {
		return out, nil
	}
	sums, err := h.store.Attained(ctx, days[0], days[len(days)-1].Add(time.Microsecond))
	return append(out, sums...), err
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
