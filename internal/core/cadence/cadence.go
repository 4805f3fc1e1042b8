// Package cadence says when the cycles of a group start.
package cadence

import (
	"time"

	"kestrel/internal/core/span"
)

// Cadence is how often cycles start. The zero value starts none by itself:
// cycles are then run by hand.
type Cadence struct {
	// Every is the time from one start to the next; zero means by hand.
	Every time.Duration
}

// ByHand reports whether no cycle starts by itself.
func (c Cadence) ByHand() bool { return c.Every <= 0 }

// String says it in words.
func (c Cadence) String() string {
	if c.ByHand() {
		return "by hand"
	}
	return "every " + span.Format(c.Every)
}

// Next gives the start that follows a cycle begun at last, as seen at now.
// Starts lie on the grid anchor + n·Every, so that they can be foretold and a
// slow cycle does not shift the later ones. Starts that passed while a cycle
// ran, or while the service was down, are not made up one by one: the first
// one due is given, once. A zero last means that no cycle has begun yet, and
// the first is due at once. The second result is false if none is ever due.
func (c Cadence) Next(anchor, last, now time.Time) (time.Time, bool) {
	if c.ByHand() {
		return time.Time{}, false
	}
	if last.IsZero() {
		return now, true
	}
	return c.gridAfter(anchor, last), true
}

// Starts lists the next n starts after from, for a forecast.
func (c Cadence) Starts(anchor, from time.Time, n int) []time.Time {
	if c.ByHand() {
		return nil
	}
	out := make([]time.Time, 0, n)
	for t := c.gridAfter(anchor, from); len(out) < n; t = t.Add(c.Every) {
		out = append(out, t)
	}
	return out
}

// gridAfter is the first instant of the grid that is later than t.
func (c Cadence) gridAfter(anchor, t time.Time) time.Time {
	since := t.Sub(anchor)
	steps := since / c.Every
	if since < 0 && since%c.Every != 0 {
		steps--
	}
	return anchor.Add((steps + 1) * c.Every)
}
