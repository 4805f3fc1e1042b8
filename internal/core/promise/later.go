package promise

import (
	"slices"
	"time"

	"kestrel/internal/core/ladder"
	"kestrel/internal/core/span"
)

// Later is which points there would be a while from now, if all goes as it should.
type Later struct {
	After time.Duration
	// Points are those that the ladder keeps then, oldest first: of the ones that exist
	// today, and of those that come.
	Points []ladder.Point
	// SpaceBytes is what they take before compression: the first copy and what changed
	// from each to the next, a block that changes twice in between counted once. Zero if
	// it is not known how much changes.
	SpaceBytes int64
}

// horizons are how far ahead it is looked.
func horizons() []time.Duration {
	return []time.Duration{span.Day, span.Week, 30 * span.Day, span.Year}
}

// perStretch is how finely starts are looked at within a stretch of a rung: of each stretch
// one point stays, and where in its last eighth it lies makes no difference to a drawing.
const perStretch = 8

// Foresee tells which points there would be after a day, a week, a month and a year.
func (p Promise) Foresee(anchor, now time.Time, have []ladder.Point, load Load) []Later {
	if p.Cadence.ByHand() || p.Cadence.BackToBack && load.CycleLength == 0 {
		return nil
	}
	var out []Later
	for _, after := range horizons() {
		then := now.Add(after)
		all := append(slices.Clone(have), p.coming(anchor, now, then, load.CycleLength)...)
		l := Later{After: after}
		for _, v := range p.Keeping().Judge(all, then) {
			if v.Keep {
				l.Points = append(l.Points, v.Point)
			}
		}
		slices.Reverse(l.Points) // newest first before
		if len(load.Change) > 0 {
			l.SpaceBytes = load.UsedBytes
			for i := 1; i < len(l.Points); i++ {
				l.SpaceBytes += int64(min(float64(load.UsedBytes), load.Change.Within(l.Points[i].Capture.Sub(l.Points[i-1].Capture))))
			}
		}
		out = append(out, l)
	}
	return out
}

// coming are points that will come, as many as decide what the ladder keeps at then.
func (p Promise) coming(anchor, now, then time.Time, length time.Duration) []ladder.Point {
	c := p.Cadence
	if c.BackToBack {
		c.Every, c.BackToBack = max(length, time.Second), false
	}
	at := map[int64]bool{}
	var younger time.Duration
	for _, r := range p.Keep {
		from, to := then.Add(-r.For), then.Add(-younger)
		younger = r.For
		if from.Before(now) {
			from = now
		}
		if !to.After(from) {
			continue
		}
		coarse := c
		if n := r.Each / perStretch; c.Calendar.IsZero() && n > c.Every {
			coarse.Every = n / c.Every * c.Every // on the same grid
		}
		for _, s := range coarse.Between(anchor, from, to, MaxPoints*perStretch) {
			at[s.At.UnixNano()] = true
		}
	}
	out := make([]ladder.Point, 0, len(at))
	for n := range at {
		out = append(out, ladder.Point{Capture: time.Unix(0, n)})
	}
	slices.SortFunc(out, func(a, b ladder.Point) int { return b.Capture.Compare(a.Capture) })
	return out
}

// Space is what a group's points take before compression once they go back so far: the
// first copy, and for each point of each rung what has changed since the one before.
func (p Promise) Space(age time.Duration, now time.Time, load Load) float64 {
	interval := p.Cadence.Interval(now)
	if p.Cadence.BackToBack {
		interval = max(load.CycleLength, time.Second)
	}
	total := float64(load.UsedBytes)
	if interval <= 0 {
		return total
	}
	var from time.Duration
	for _, r := range p.Keep {
		to := min(r.For, age)
		if to <= from {
			continue
		}
		apart := max(r.Each, interval)
		total += min(float64(load.UsedBytes), load.Change.Within(apart)) * float64(to-from) / float64(apart)
		from = to
	}
	return total
}
