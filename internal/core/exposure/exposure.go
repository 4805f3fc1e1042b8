// Package exposure computes the tide: how much time would be lost if the home
// site went dark. Exposure is the time since the capture instant of the newest
// point that was sealed at the recovery site; it rises one second a second and
// arrivals when a point lands, to the age of that point's capture and not to zero.
package exposure

import (
	"sort"
	"time"
)

// Arrival is one point: captured at Capture, sealed at Sealed. Both must be on one
// clock; Shift brings a remote clock's instants over.
type Arrival struct {
	Capture time.Time
	Sealed  time.Time
}

// Shift converts an instant read from another site's clock to ours, given how
// far that clock is ahead of ours.
func Shift(remote time.Time, ahead time.Duration) time.Time { return remote.Add(-ahead) }

// At is the exposure at t, counted from the newest capture among the arrivals
// sealed by then. It is false while nothing was sealed. An exposure is never
// negative: a capture later than t by clock error counts as t.
func At(arrivals []Arrival, t time.Time) (time.Duration, bool) {
	var newest time.Time
	found := false
	for _, d := range arrivals {
		if !d.Sealed.After(t) && (!found || d.Capture.After(newest)) {
			newest, found = d.Capture, true
		}
	}
	if !found {
		return 0, false
	}
	return max(0, t.Sub(newest)), true
}

// Vertex is a corner of the sawtooth.
type Vertex struct {
	At       time.Time
	Exposure time.Duration
}

// Sawtooth gives the corners of the curve from from to to: straight lines
// between consecutive corners draw it exactly. Where a point arrives, two corners
// share an instant: before and after the drop. The curve begins at the first
// arrival if nothing was sealed at from. Arrivals may come in any order.
func Sawtooth(arrivals []Arrival, from, to time.Time) []Vertex {
	ds := append([]Arrival(nil), arrivals...)
	sort.Slice(ds, func(i, j int) bool { return ds[i].Sealed.Before(ds[j].Sealed) })
	var out []Vertex
	var newest time.Time
	have := false
	add := func(t time.Time) { out = append(out, Vertex{t, max(0, t.Sub(newest))}) }
	started := false
	for _, d := range ds {
		if d.Sealed.After(to) {
			break
		}
		better := !have || d.Capture.After(newest)
		if d.Sealed.Before(from) {
			if better {
				newest, have = d.Capture, true
			}
			continue
		}
		if have && !started {
			add(from)
		}
		if have && better {
			add(d.Sealed)
		}
		if better {
			newest, have = d.Capture, true
			add(d.Sealed)
		}
		started = true
	}
	if !have {
		return nil
	}
	if len(out) == 0 {
		add(from)
	}
	add(to)
	return out
}

// Thin reduces a curve to at most about n corners for drawing: it keeps, for
// each of n/4 equal stretches of time, the first, lowest, highest and last
// corner, so that peaks over the target never vanish.
func Thin(curve []Vertex, n int) []Vertex {
	if len(curve) <= n || n < 8 {
		return curve
	}
	first, last := curve[0].At, curve[len(curve)-1].At
	width := last.Sub(first) / time.Duration(n/4)
	if width <= 0 {
		return curve
	}
	var out []Vertex
	for i := 0; i < len(curve); {
		slot := curve[i].At.Sub(first) / width
		lo, hi, j := i, i, i
		for ; j < len(curve) && curve[j].At.Sub(first)/width == slot; j++ {
			if curve[j].Exposure < curve[lo].Exposure {
				lo = j
			}
			if curve[j].Exposure > curve[hi].Exposure {
				hi = j
			}
		}
		keep := []int{i, lo, hi, j - 1}
		sort.Ints(keep)
		for k, x := range keep {
			if k == 0 || x != keep[k-1] {
				out = append(out, curve[x])
			}
		}
		i = j
	}
	return out
}

// Kept sums up a curve against what was promised.
type Kept struct {
	Covered time.Duration // length of the curve
	Over    time.Duration // part of it spent above the target while cycles were not held
	Worst   time.Duration // highest exposure
	WorstAt time.Time
	// Paused is the part in which cycles were held on purpose, PausedOver how much of that
	// was spent above the target: it counts apart.
	Paused, PausedOver time.Duration
}

// Share is the part of the time, 0 to 1, in which the target was kept, of that in which
// cycles were not held. It is 1 for an empty curve.
func (k Kept) Share() float64 {
	counts := k.Covered - k.Paused
	if counts <= 0 {
		return 1
	}
	return 1 - float64(k.Over)/float64(counts)
}

// Plus is two together.
func (k Kept) Plus(o Kept) Kept {
	out := Kept{Covered: k.Covered + o.Covered, Over: k.Over + o.Over, Paused: k.Paused + o.Paused, PausedOver: k.PausedOver + o.PausedOver, Worst: k.Worst, WorstAt: k.WorstAt}
	if k.WorstAt.IsZero() || o.Worst > k.Worst {
		out.Worst, out.WorstAt = o.Worst, o.WorstAt
	}
	return out
}

// Target is an RPO target and since when it was promised.
type Target struct {
	Since  time.Time
	Target time.Duration
	Tier   string // by which tier; empty is none
	// Paused tells that cycles were held on purpose, until Until or, if that is zero, until
	// the next one.
	Paused bool
	Until  time.Time
}

// TargetAt gives what was promised at an instant; before the first one known, that one.
// Targets are in order. It is the zero value if none is known.
func TargetAt(targets []Target, t time.Time) Target {
	var out Target
	for i, x := range targets {
		if i == 0 || !x.Since.After(t) {
			out = x
		}
	}
	if out.Paused && !out.Until.IsZero() && !t.Before(out.Until) {
		out.Paused = false
	}
	return out
}

// Judge measures a curve, each moment against what was promised then: no later edit makes a
// kept promise broken, or a broken one kept. Between corners exposure rises one second a
// second, so the time over target within a rise is exactly the part of it above the mark.
func Judge(curve []Vertex, targets []Target) Kept {
	var all Kept
	for _, k := range JudgeByTier(curve, targets) {
		all = all.Plus(k)
	}
	return all
}

// JudgeByTier is Judge by the tier that was followed at each moment.
func JudgeByTier(curve []Vertex, targets []Target) map[string]Kept {
	out := map[string]Kept{}
	for i, v := range curve {
		if i == 0 || !v.At.After(curve[i-1].At) {
			t := TargetAt(targets, v.At)
			out[t.Tier] = out[t.Tier].Plus(Kept{Worst: v.Exposure, WorstAt: v.At})
			continue
		}
		// A rise is cut where something else was promised.
		for from := curve[i-1].At; from.Before(v.At); {
			to := v.At
			for j, x := range targets {
				for _, at := range []time.Time{x.Since, x.Until} {
					if (j > 0 || !at.Equal(x.Since)) && at.After(from) && at.Before(to) {
						to = at
					}
				}
			}
			end := v.Exposure - v.At.Sub(to) // exposure at to
			t := TargetAt(targets, from)
			k := Kept{Covered: to.Sub(from), Worst: end, WorstAt: to}
			if t.Target > 0 && end > t.Target {
				k.Over = min(k.Covered, end-t.Target)
			}
			if t.Paused {
				k.Paused, k.PausedOver, k.Over = k.Covered, k.Over, 0
			}
			out[t.Tier] = out[t.Tier].Plus(k)
			from = to
		}
	}
	return out
}
