// Package exposure computes the tide: how much time would be lost if the home
// site went dark. Exposure is the time since the capture instant of the newest
// point that was sealed at the recovery site; it rises one second a second and
// drops when a point lands, to the age of that point's capture and not to zero.
package exposure

import (
	"sort"
	"time"
)

// Drop is one landing of a point: captured at Capture, sealed at Sealed. Both
// must be on one clock; Shift brings a remote clock's instants over.
type Drop struct {
	Capture time.Time
	Sealed  time.Time
}

// Shift converts an instant read from another site's clock to ours, given how
// far that clock is ahead of ours.
func Shift(remote time.Time, ahead time.Duration) time.Time { return remote.Add(-ahead) }

// At is the exposure at t, counted from the newest capture among the drops
// sealed by then. It is false while nothing was sealed. An exposure is never
// negative: a capture later than t by clock error counts as t.
func At(drops []Drop, t time.Time) (time.Duration, bool) {
	var newest time.Time
	found := false
	for _, d := range drops {
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
// between consecutive corners draw it exactly. Where a point lands, two corners
// share an instant: before and after the drop. The curve begins at the first
// landing if nothing was sealed at from. Drops may come in any order.
func Sawtooth(drops []Drop, from, to time.Time) []Vertex {
	ds := append([]Drop(nil), drops...)
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

// Kept sums up a curve against a target.
type Kept struct {
	Covered time.Duration // length of the curve
	Over    time.Duration // part of it spent above the target
	Worst   time.Duration // highest exposure
	WorstAt time.Time
}

// Share is the part of the time, 0 to 1, in which the target was kept. It is 1
// for an empty curve.
func (k Kept) Share() float64 {
	if k.Covered <= 0 {
		return 1
	}
	return 1 - float64(k.Over)/float64(k.Covered)
}

// Judge measures a curve against a target. Between corners exposure rises one
// second a second, so the time over target within a rise is exactly the part
// of it above the mark.
func Judge(curve []Vertex, target time.Duration) Kept {
	var k Kept
	for i, v := range curve {
		if v.Exposure > k.Worst || k.WorstAt.IsZero() {
			k.Worst, k.WorstAt = v.Exposure, v.At
		}
		if i == 0 {
			continue
		}
		length := v.At.Sub(curve[i-1].At)
		k.Covered += length
		if v.Exposure > target {
			k.Over += min(length, v.Exposure-target)
		}
	}
	return k
}
