package schedule

import (
	"cmp"
	"slices"
	"strings"
	"time"
)

const (
	// fullLink is the share of a link's time that can be planned with: cycles are not begun
	// to the millisecond, and what is measured varies.
	fullLink = 0.98
	// SlowLane is the share of a link's time, beside cycles that keep targets, that one cycle
	// at a time of a spilled group gets: enough to get on, and too little to cost others
	// theirs. What others do not use it gets as well.
	SlowLane = 0.01
	// catchUp is fullLink while much is late: with hardly any of the link to spare, what is
	// late stays late for days. That is so from where lateFrom of what keeping the targets
	// takes is of groups that are late, until it is lateTo.
	catchUp          = 0.8
	lateFrom, lateTo = 0.25, 0.05
)

// Outlook is what is seen of all groups together, and counts until it is looked at again.
type Outlook struct {
	// Spilled groups are more than their links can carry, by their IDs.
	Spilled map[string]bool
	// Catching are the links on which much is late.
	Catching map[string]bool
	// Short is from what expected length on a cycle is long, as Load has it.
	Short time.Duration
}

// Plan looks at all groups of a site, before being what it saw last.
//
// Spilled are those that are more than their link can carry. A group that is copied as late
// as its target allows takes the burden Work / (Target − Still − Work) of its link; a link
// carries groups whose burdens sum up to no more than its time.
// If those of all do not, the ones are kept that cost least for what they are worth, by the
// weights of their priorities; the others are copied one at a time in the slow lane, and
// when nobody else needs the link: to be late everywhere would keep nobody's promise. This
// is the greedy solution of the fractional knapsack problem (G. B. Dantzig,
// Discrete-variable extremum problems, Operations Research 5, 1957). Groups of which Work is
// not known are not spilled, and neither are those that start nothing by themselves.
//
// Short is the least time that a group that is not spilled can be kept waiting without
// missing its target: if all places of a site were taken for longer, by first copies or
// somebody's large cycles, it could find none in time.
func Plan(now time.Time, groups []Facts, before Outlook) Outlook {
	byLink := map[string][]*Facts{}
	for i := range groups {
		f := &groups[i]
		if f.Work > 0 && !f.Paused && !f.Cadence.ByHand() {
			byLink[f.Link] = append(byLink[f.Link], f)
		}
	}
	spilled, catching := map[string]bool{}, map[string]bool{}
	for l, fs := range byLink {
		most := fullLink
		if catching[l] = late(now, fs, before.Spilled, before.Catching[l]); catching[l] {
			most = catchUp
		}
		spill(fs, most, spilled)
	}
	out := Outlook{Spilled: spilled, Catching: catching}
	for i := range groups {
		f := &groups[i]
		if f.Paused || f.Captured.IsZero() || f.Cadence.Every <= 0 || spilled[f.ID] {
			continue
		}
		if slack := f.Target - f.Cadence.Every - f.alone(); slack > 0 && (out.Short == 0 || slack < out.Short) {
			out.Short = slack
		}
	}
	return out
}

// alone is how long a cycle takes that has the link to itself, at most. How long it took
// lately says nothing of that if others shared the link, or if it had the slow lane.
func (f *Facts) alone() time.Duration {
	if f.Work <= 0 {
		return f.Length
	}
	return f.Still + f.Work
}

// gap is the longest time between two captures that keeps the target.
func (f *Facts) gap() time.Duration { return f.Target - f.alone() }

// burden is the share of its link's time that keeping a group's target takes; more than all
// of it if that cannot be.
func (f *Facts) burden() float64 {
	if f.gap() <= 0 {
		return 1e9
	}
	return float64(f.Work) / float64(f.gap())
}

// late tells whether much is late of what is meant to keep its targets.
func late(now time.Time, fs []*Facts, spilled map[string]bool, already bool) bool {
	all, behind := 0.0, 0.0
	for _, f := range fs {
		if spilled[f.ID] || f.Captured.IsZero() {
			continue
		}
		b := min(f.burden(), 1)
		if all += b; now.Sub(f.Captured) > f.Target {
			behind += b
		}
	}
	if already {
		return behind > lateTo*all
	}
	return behind > lateFrom*all
}

func spill(fs []*Facts, most float64, spilled map[string]bool) {
	total := 0.0
	type cost struct {
		burden, worth float64
		*Facts
	}
	costs := make([]cost, 0, len(fs))
	for _, f := range fs {
		b := f.burden()
		total += b
		costs = append(costs, cost{b, b / f.weight(), f})
	}
	if total <= most {
		return
	}
	slices.SortFunc(costs, func(a, b cost) int {
		switch {
		case a.worth < b.worth:
			return -1
		case a.worth > b.worth:
			return 1
		}
		return strings.Compare(a.ID, b.ID)
	})
	used := SlowLane
	for _, c := range costs {
		if used+c.burden > most {
			spilled[c.ID] = true // a smaller one may still fit
			continue
		}
		used += c.burden
	}
}

// Bound is the most that any order of starts could keep within their targets, of the time of
// groups that share links: the same reckoning over all of the links' time, with every group
// worth the same, and the last one that fits in part. It is no plan: it needs cycles that
// can be cut up at will, and take nothing but their Work.
func Bound(groups []Facts) float64 {
	if len(groups) == 0 {
		return 1
	}
	byLink := map[string][]*Facts{}
	for i := range groups {
		f := groups[i]
		f.Length, f.Still = f.Work, 0
		byLink[f.Link] = append(byLink[f.Link], &f)
	}
	kept := 0.0
	for _, fs := range byLink {
		slices.SortFunc(fs, func(a, b *Facts) int { return cmp.Compare(a.burden(), b.burden()) })
		left := 1.0
		for _, f := range fs {
			b := f.burden()
			if b <= left {
				left -= b
				kept++
				continue
			}
			kept += left / b
			left = 0
		}
	}
	return kept / float64(len(groups))
}
