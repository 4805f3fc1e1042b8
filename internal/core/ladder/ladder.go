// Package ladder decides which recovery points are kept: a ladder of rungs,
// such as "everything for 6 h, then hourly for 2 d, daily for 14 d".
package ladder

import (
	"fmt"
	"sort"
	"strings"
	"time"

	"kestrel/internal/core/span"
)

// Rung keeps one point out of each stretch of length Each, up to the age For.
// Each zero keeps every point.
type Rung struct {
	Each time.Duration
	For  time.Duration
}

// Ladder is a list of rungs from the finest and youngest to the coarsest and
// oldest.
type Ladder []Rung

// Point is what the ladder needs to know of a recovery point.
type Point struct {
	ID      string
	Capture time.Time
	Pinned  bool // pinned points are out of the ladder's reach
	InUse   bool // being read: exported, served or recovered from
}

// Verdict says what becomes of one point.
type Verdict struct {
	Point Point
	Keep  bool
	// Rung is the index of the rung that keeps the point, or -1 where it is
	// kept for another reason or not at all.
	Rung int
	// Why is one of "rung", "newest", "pinned", "in use", "past the ladder"
	// and "thinned".
	Why string
}

// Judge gives a verdict for every point at the instant now, newest first. The
// newest point, pinned points and points in use are always kept. Within a
// rung, time is cut into stretches aligned to the Unix epoch and the newest
// point of each stretch is kept, so a verdict never depends on when the
// pruning happened to run.
func (l Ladder) Judge(points []Point, now time.Time) []Verdict {
	sorted := append([]Point(nil), points...)
	sort.SliceStable(sorted, func(i, j int) bool { return sorted[i].Capture.After(sorted[j].Capture) })
	out := make([]Verdict, len(sorted))
	taken := make([]map[int64]bool, len(l))
	for i := range taken {
		taken[i] = map[int64]bool{}
	}
	for i, p := range sorted {
		v := Verdict{Point: p, Rung: -1, Why: "past the ladder"}
		age := now.Sub(p.Capture)
		for r, rung := range l {
			if age > rung.For {
				continue
			}
			if rung.Each <= 0 {
				v.Keep, v.Rung, v.Why = true, r, "rung"
				break
			}
			// A point may be the newest of its stretch on a coarser rung
			// although a younger rung holds it already; mark all of them.
			stretch := p.Capture.UnixNano() / int64(rung.Each)
			if !taken[r][stretch] {
				taken[r][stretch] = true
				if !v.Keep {
					v.Keep, v.Rung, v.Why = true, r, "rung"
				}
			} else if !v.Keep {
				v.Why = "thinned"
			}
		}
		switch {
		case v.Keep:
		case i == 0:
			v.Keep, v.Why = true, "newest"
		case p.Pinned:
			v.Keep, v.Why = true, "pinned"
		case p.InUse:
			v.Keep, v.Why = true, "in use"
		}
		out[i] = v
	}
	return out
}

// Count foretells how many points each rung holds in the steady state when
// cycles start every cadence. A zero cadence (by hand) counts nothing.
func (l Ladder) Count(cadence time.Duration) []int {
	out := make([]int, len(l))
	if cadence <= 0 {
		return out
	}
	var younger time.Duration
	for i, r := range l {
		each := max(r.Each, cadence)
		if r.For > younger {
			out[i] = int((r.For - younger) / each)
			if i == 0 {
				out[i]++ // the newest, of age zero
			}
			younger = r.For
		}
	}
	return out
}

// Reach is the age of the oldest point that the ladder keeps.
func (l Ladder) Reach() time.Duration {
	var reach time.Duration
	for _, r := range l {
		reach = max(reach, r.For)
	}
	return reach
}

// String writes the ladder as it is typed: "all 6h, 1h 2d, 1d 14d".
func (l Ladder) String() string {
	parts := make([]string, len(l))
	for i, r := range l {
		each := "all"
		if r.Each > 0 {
			each = short(r.Each)
		}
		parts[i] = each + " " + short(r.For)
	}
	return strings.Join(parts, ", ")
}

func short(d time.Duration) string {
	for _, u := range []struct {
		d time.Duration
		n string
	}{{span.Week, "w"}, {span.Day, "d"}, {time.Hour, "h"}, {time.Minute, "min"}} {
		if d >= u.d && d%u.d == 0 {
			return fmt.Sprintf("%d%s", d/u.d, u.n)
		}
	}
	return fmt.Sprintf("%ds", d/time.Second)
}

// Parse reads what String writes: rungs apart by commas, each "all SPAN" or
// "SPAN SPAN" (one point per the first, up to the age of the second).
func Parse(s string) (Ladder, error) {
	var out Ladder
	for _, part := range strings.Split(s, ",") {
		f := strings.Fields(part)
		if len(f) != 2 {
			return nil, fmt.Errorf(`%q is not a rung; write "all 6h" or "1h 2d" (one an hour up to two days), rungs apart by commas`, strings.TrimSpace(part))
		}
		var r Rung
		var err error
		if f[0] != "all" {
			if r.Each, err = span.Parse(f[0]); err != nil {
				return nil, err
			}
		}
		if r.For, err = span.Parse(f[1]); err != nil {
			return nil, err
		}
		out = append(out, r)
	}
	return out, nil
}
