package schedule

import (
	"cmp"
	"fmt"
	"slices"
	"strings"
	"time"
)

// Early is a start before a group falls due, since it would find no place then in time.
type Early struct {
	At  time.Time
	Why string // in words, such as "because Pier cameras hold the link from 14:30"
}

// lead is how long before the last place is taken a group begins that needs it.
const lead = time.Second

// span of time in which a cycle is expected to run.
type stretch struct {
	from, to time.Time
	of       *Facts
}

// Ahead finds the groups whose cadence allows sooner starts and which would fall due when
// all places that they need are taken, by cycles that run or are to begin before, until it
// is too late for their targets. They begin before the last of those places is taken, but
// not before half of what may pass from start to start has passed. Zone is that of the
// times in the words.
func Ahead(now time.Time, groups []Facts, limits Limits, zone *time.Location) map[string]*Early {
	out := map[string]*Early{}
	if !slices.ContainsFunc(groups, func(f Facts) bool { return f.Cadence.Sooner && !f.Paused && !f.Running }) {
		return out
	}
	coming := foresee(now, groups, limits)
	for i := range groups {
		f := &groups[i]
		if !f.Cadence.Sooner || f.Paused || f.Running || f.Last.IsZero() || f.Captured.IsZero() || f.Spilled {
			continue
		}
		due, ok := f.following(now)
		latest := f.Deadline(now)
		soonest := f.Last.Add(f.Cadence.Every / 2)
		if !ok || !due.After(now) || !due.After(soonest) || latest.Before(due) {
			continue
		}
		if taker := f.shutOut(due, latest, coming); taker != nil && taker.from.After(now) {
			at := taker.from.Add(-lead)
			if at.Before(soonest) {
				at = soonest
			}
			if at.Before(due) {
				out[f.ID] = &Early{at, fmt.Sprintf("because %s will hold %s from %s", taker.of.Name, f.shared(taker.of), taker.from.In(zone).Format("15:04:05 MST"))}
			}
		}
	}
	return out
}

// begins is when the cycle that runs has begun, or the next one is expected to.
func (f *Facts) begins(now time.Time) (time.Time, bool) {
	switch {
	case f.Running:
		return f.Last, !f.Last.IsZero()
	case f.Paused || f.Spilled:
		return time.Time{}, false
	}
	next, ok := f.next(now)
	if ok && next.Before(now) {
		next = now
	}
	return next, ok
}

// lane is the cycles that are expected on something that is limited, by when they begin.
type lane struct {
	limit int
	all   []stretch
	most  []time.Time // the latest end of those up to each
}

// foresee sorts out the next cycles of groups by what they use that is limited.
func foresee(now time.Time, groups []Facts, limits Limits) map[thing]*lane {
	out := map[thing]*lane{}
	var load Load
	for i := range groups {
		f := &groups[i]
		from, ok := f.begins(now)
		if !ok || f.Length <= 0 {
			continue
		}
		put := func(t thing, limit int) bool {
			if out[t] == nil {
				out[t] = &lane{limit: limit}
			}
			out[t].all = append(out[t].all, stretch{from, from.Add(f.Length), f})
			return true
		}
		if limits.Site > 0 {
			put(thing{}, limits.Site)
		}
		limits.each(load.Of(f), put)
	}
	for _, x := range out {
		slices.SortFunc(x.all, func(a, b stretch) int { return cmp.Or(a.from.Compare(b.from), strings.Compare(a.of.ID, b.of.ID)) })
		var most time.Time
		for _, c := range x.all {
			if c.to.After(most) {
				most = c.to
			}
			x.most = append(x.most, most)
		}
	}
	return out
}

// taker finds the cycle that takes the last place, if all are taken from before an instant
// until after another, by others than a group's own.
func (x *lane) taker(f *Facts, due, latest time.Time) *stretch {
	n, _ := slices.BinarySearchFunc(x.all, due, func(c stretch, t time.Time) int {
		if c.from.After(t) {
			return 1
		}
		return -1
	})
	if n == 0 || !x.most[n-1].After(latest) {
		return nil
	}
	taken := 0
	for i := range x.all[:n] {
		if c := &x.all[i]; c.of != f && c.to.After(latest) {
			if taken++; taken == x.limit {
				return c
			}
		}
	}
	return nil
}

// shutOut finds, if a group finds no place from when it falls due until it is too late, the
// cycle that takes the last one.
func (f *Facts) shutOut(due, latest time.Time, coming map[thing]*lane) (found *stretch) {
	if x := coming[thing{}]; x != nil {
		found = x.taker(f, due, latest)
	}
	var load Load
	all := Limits{Link: 1, Platform: 1, Datastore: 1}
	all.each(load.Of(f), func(t thing, _ int) bool {
		if x := coming[t]; x != nil && found == nil {
			found = x.taker(f, due, latest)
		}
		return found == nil
	})
	return found
}

// shared says what two groups need alike.
func (f *Facts) shared(o *Facts) string {
	switch {
	case f.Link == o.Link:
		return "the link"
	case f.Platform == o.Platform:
		return f.Platform
	}
	return "the last place of this site"
}
