package history

import (
	"cmp"
	"context"
	"slices"
	"strings"
	"time"

	"kestrel/internal/api"
	"kestrel/internal/core/exposure"
	"kestrel/internal/core/span"
	"kestrel/internal/directory"
	"kestrel/internal/problem"
	"kestrel/internal/records"
)

// By what attainment is summed up.
const (
	ByGroup = "group"
	ByTier  = "tier"
	ByTag   = "tag"
	BySite  = "site" // the other site
)

// past is how far back attainment is looked at if nothing is said.
const past = 30 * span.Day

// sum is the attainment of some groups.
type sum struct {
	exposure.Kept
	worst  string // the group that was worst
	groups map[string]bool
	tally  records.Tally
}

func (s *sum) add(group string, k exposure.Kept) {
	if s.groups == nil {
		s.groups = map[string]bool{}
	}
	if s.WorstAt.IsZero() || k.Worst > s.Worst {
		s.worst = group
	}
	s.Kept, s.groups[group] = s.Plus(k), true
}

func (s *sum) count(t records.Tally) {
	x := &s.tally
	x.Sealed, x.Failed, x.Missed = x.Sealed+t.Sealed, x.Failed+t.Failed, x.Missed+t.Missed
	x.Changed, x.Wire = x.Changed+t.Changed, x.Wire+t.Wire
	x.TookMost, x.WaitedMost = max(x.TookMost, t.TookMost), max(x.WaitedMost, t.WaitedMost)
}

func (s *sum) view(name string) api.AttainmentRow {
	v := api.AttainmentRow{Name: name, Groups: len(s.groups), KeptShare: s.Share(), OverSeconds: int64(s.Over / time.Second), WorstSeconds: int64(s.Worst / time.Second), CoveredSeconds: int64(s.Covered / time.Second),
		PausedSeconds: int64(s.Paused / time.Second), PausedOverSeconds: int64(s.PausedOver / time.Second), Sealed: s.tally.Sealed, Failed: s.tally.Failed, Missed: s.tally.Missed, ChangedBytes: s.tally.Changed, WireBytes: s.tally.Wire,
		LongestCycleSeconds: float64(s.tally.TookMost) / 1000, LongestWaitSeconds: float64(s.tally.WaitedMost) / 1000}
	if !s.WorstAt.IsZero() {
		v.WorstAt, v.WorstGroup = new(s.WorstAt.UTC()), &s.worst
	}
	return v
}

// Attainment sums up how promises of groups were kept over a stretch of time, each moment
// judged by the promise of the time, by group, by the tier that was followed then, or by tag.
// Cycles are counted at the home site, by whole hours or, further back, by whole days.
func (h *History) Attainment(ctx context.Context, groups []directory.Record, by string, from, to *time.Time) (api.Attainment, error) {
	v, _, err := h.Days(ctx, groups, by, from, to)
	return v, err
}

// Days is Attainment, and how it went by days of UTC.
func (h *History) Days(ctx context.Context, groups []directory.Record, by string, from, to *time.Time) (api.Attainment, []api.ReportDay, error) {
	now := h.clk.Now().UTC()
	end := now
	if to != nil && to.Before(now) {
		end = to.UTC()
	}
	begin := end.Add(-past)
	if from != nil {
		begin = from.UTC()
	}
	switch {
	case !begin.Before(end):
		return api.Attainment{}, nil, problem.Invalid("from", "The stretch ends before it begins; give an earlier time.")
	case now.Sub(begin) > kept+span.Day && from == nil:
		return api.Attainment{}, nil, problem.Invalid("to", "What was is kept for %s; give a later time.", span.Format(kept))
	case now.Sub(begin) > kept+span.Day:
		return api.Attainment{}, nil, problem.Invalid("from", "What was is kept for %s; give a later time.", span.Format(kept))
	case !slices.Contains([]string{"", ByGroup, ByTier, ByTag, BySite}, by):
		return api.Attainment{}, nil, problem.Invalid("by", "%q is none of group, tier, tag, site.", by)
	}
	targets, err := h.allTargets(ctx)
	if err != nil {
		return api.Attainment{}, nil, err
	}
	parts, err := h.parts(ctx, groups, targets, begin, end)
	if err != nil {
		return api.Attainment{}, nil, err
	}
	all := sum{}
	sums := map[string]*sum{}
	of := func(key string) *sum {
		if sums[key] == nil {
			sums[key] = &sum{}
		}
		return sums[key]
	}
	known := map[string]directory.Record{}
	for _, r := range groups {
		known[r.ID] = r
	}
	for _, p := range parts {
		r, ok := known[p.GroupID]
		if !ok {
			continue
		}
		all.add(r.Spec.Name, keptOf(p))
		for _, key := range keys(by, r, p.Tier) {
			of(key).add(r.Spec.Name, keptOf(p))
		}
	}
	tallies, err := h.tallies(ctx, begin, end, now)
	if err != nil {
		return api.Attainment{}, nil, err
	}
	for _, t := range tallies {
		r, ok := known[t.GroupID]
		if !ok {
			continue
		}
		all.count(t)
		for _, key := range keys(by, r, exposure.TargetAt(targets[r.ID], t.At).Tier) {
			of(key).count(t)
		}
	}
	v := api.Attainment{From: begin, To: end, Total: all.view("all"), Rows: []api.AttainmentRow{}}
	for key, s := range sums {
		v.Rows = append(v.Rows, s.view(key))
	}
	slices.SortFunc(v.Rows, func(a, b api.AttainmentRow) int {
		return cmp.Or(cmp.Compare(a.KeptShare, b.KeptShare), strings.Compare(strings.ToLower(a.Name), strings.ToLower(b.Name)))
	})
	return v, daily(parts, tallies, known), nil
}

// hourly is how far back cycles are counted by hours.
const hourly = 90 * span.Day

// tallies are those of whole days, and of hours before the first and after the last of them;
// of the whole first day if its hours are not kept any more.
func (h *History) tallies(ctx context.Context, begin, end, now time.Time) ([]records.Tally, error) {
	hour, first, last := begin.Truncate(time.Hour), begin.Truncate(span.Day), end.Truncate(span.Day)
	if now.Sub(begin) <= hourly && first.Before(hour) {
		first = first.Add(span.Day)
	} else {
		hour = first
	}
	if !first.Before(last) {
		return h.store.Tallies(ctx, records.ByHour, hour, end)
	}
	var out []records.Tally
	for _, x := range []struct {
		step     string
		from, to time.Time
	}{{records.ByHour, hour, first}, {records.ByDay, first, last}, {records.ByHour, last, end}} {
		if !x.from.Before(x.to) {
			continue
		}
		some, err := h.store.Tallies(ctx, x.step, x.from, x.to)
		if err != nil {
			return nil, err
		}
		out = append(out, some...)
	}
	return out, nil
}

// keys are what a group is summed up under.
func keys(by string, r directory.Record, tier string) []string {
	switch by {
	case ByTier:
		if tier == "" {
			tier = "no tier"
		}
		return []string{tier}
	case ByTag:
		if len(r.Spec.Tags) == 0 {
			return []string{"no tag"}
		}
		return r.Spec.Tags
	case BySite:
		return []string{r.Other()}
	}
	return []string{r.Spec.Name}
}

func (h *History) allTargets(ctx context.Context) (map[string][]exposure.Target, error) {
	recs, err := h.store.AllTargets(ctx)
	out := map[string][]exposure.Target{}
	for _, t := range recs {
		out[t.GroupID] = append(out[t.GroupID], targetOf(t))
	}
	return out, err
}
