// Package cadence says when the cycles of a group start.
package cadence

import (
	"fmt"
	"strings"
	"time"

	"kestrel/internal/core/calendar"
	"kestrel/internal/core/span"
)

// Cadence is how often cycles start. The zero value starts none by itself:
// cycles are then run by hand.
type Cadence struct {
	// Every is the time from one start to the next.
	Every time.Duration
	// Sooner makes Every the most that may pass: a cycle begins before that where it would
	// otherwise come too late for its target.
	Sooner bool
	// BackToBack starts a cycle as soon as the one before has ended.
	BackToBack bool
	// Calendar starts them at recurring times. At most one of the three is set.
	Calendar calendar.Calendar
	// Quiet is when no cycle starts by itself. One that runs goes on.
	Quiet Quiet
}

// breath is how long after the start of a cycle the next one may begin, back to back: a
// platform needs a moment between two captures.
const breath = time.Second

// ByHand reports whether no cycle starts by itself.
func (c Cadence) ByHand() bool { return c.Every <= 0 && !c.BackToBack && c.Calendar.IsZero() }

// Equal tells whether two are the same.
func (c Cadence) Equal(o Cadence) bool {
	return c.Every == o.Every && c.Sooner == o.Sooner && c.BackToBack == o.BackToBack && c.Calendar.Equal(o.Calendar) && c.Quiet.Equal(o.Quiet)
}

// Zone is the time zone that its times are of; UTC if they are of none.
func (c Cadence) Zone() *time.Location {
	zone := c.Calendar.Zone
	if c.Calendar.IsZero() {
		zone = c.Quiet.Zone
	}
	return Quiet{Zone: zone}.location()
}

// In puts its times into a zone.
func (c Cadence) In(zone string) Cadence {
	if !c.Calendar.IsZero() {
		c.Calendar.Zone = zone
	}
	if !c.Quiet.IsZero() {
		c.Quiet.Zone = zone
	}
	return c
}

// String says it in words, without quiet times.
func (c Cadence) String() string {
	switch {
	case c.BackToBack:
		return "back to back"
	case !c.Calendar.IsZero() && c.Calendar.Zone != "":
		return c.Calendar.Words() + " (" + c.Calendar.Zone + ")"
	case !c.Calendar.IsZero():
		return c.Calendar.Words()
	case c.ByHand():
		return "by hand"
	}
	if c.Sooner {
		return "every " + span.Format(c.Every) + orSooner
	}
	return "every " + span.Format(c.Every)
}

const orSooner = " or sooner"

// Parse reads a cadence as people write it: a length of time, with or without the word
// every, and at will "or sooner"; "back to back"; "by hand"; or recurring times in a zone, as calendar.Parse reads
// them.
func Parse(text, zone string) (Cadence, error) {
	t := strings.ToLower(strings.TrimSpace(text))
	switch t {
	case "hand", "by hand":
		return Cadence{}, nil
	case "back to back", "back-to-back":
		return Cadence{BackToBack: true}, nil
	}
	length, sooner := strings.CutSuffix(t, orSooner)
	d, err := span.Parse(strings.TrimPrefix(length, "every "))
	switch {
	case t == "0":
		return Cadence{}, nil
	case err == nil:
		return Cadence{Every: d, Sooner: sooner}, nil
	case !strings.Contains(t, " at ") && !strings.HasPrefix(t, "at ") && !strings.Contains(t, "freq="):
		return Cadence{}, fmt.Errorf(`%w; a cadence may also be "back to back", "by hand", or times such as "weekdays at 02:00"`, err)
	}
	c, err := calendar.Parse(text, zone)
	return Cadence{Calendar: c}, err
}

// Next gives the start that follows a cycle begun at last, as seen at now.
// Starts lie on the grid anchor + n·Every, so that they can be foretold and a
// slow cycle does not shift the later ones. Starts that passed while a cycle
// ran, or while the service was down, are not made up one by one: the first
// one due is given, once. So is one that falls into a quiet time, at its end. A
// cadence that allows sooner starts has no grid: its next is Every after last. A
// zero last means that no cycle has begun yet, and the first is due at once. The
// second result is false if none is ever due.
func (c Cadence) Next(anchor, last, now time.Time) (time.Time, bool) {
	if c.ByHand() {
		return time.Time{}, false
	}
	if last.IsZero() {
		return c.Quiet.End(now), true
	}
	next, ok := c.after(anchor, last)
	if !ok {
		return time.Time{}, false
	}
	return c.Quiet.End(next), true
}

// after is the first start later than t, quiet or not.
func (c Cadence) after(anchor, t time.Time) (time.Time, bool) {
	switch {
	case c.BackToBack:
		return t.Add(breath), true
	case c.Sooner:
		return t.Add(c.Every), true
	case !c.Calendar.IsZero():
		s, ok, err := c.Calendar.After(t)
		return s.At, ok && err == nil
	}
	return c.gridAfter(anchor, t), true
}

// Start is a start that is foretold.
type Start struct {
	At time.Time
	// Note says what a change of the clock or a quiet time made of it.
	Note string
}

// Starts lists the next n starts after from, for a forecast. Back to back they cannot be
// foretold.
func (c Cadence) Starts(anchor, from time.Time, n int) []Start {
	return c.list(anchor, from, time.Time{}, n)
}

// Between lists the starts from an instant to another, most at most.
func (c Cadence) Between(anchor, from, to time.Time, most int) []Start {
	return c.list(anchor, from.Add(-time.Nanosecond), to, most)
}

func (c Cadence) list(anchor, from, to time.Time, n int) []Start {
	if c.ByHand() || c.BackToBack {
		return nil
	}
	out := []Start{}
	for len(out) < n {
		var s Start
		if !c.Calendar.IsZero() {
			next, ok, err := c.Calendar.After(from)
			if err != nil || !ok {
				break
			}
			s = Start{next.At, next.Note}
		} else {
			s.At = c.gridAfter(anchor, from)
		}
		from = s.At
		if end := c.Quiet.End(s.At); end.After(s.At) {
			// Those that fall into the same quiet time are one, at its end; on a grid none
			// of the others has to be looked at.
			s = Start{end, "held back by a quiet time, from " + s.At.In(c.Quiet.location()).Format("15:04")}
			if from = end.Add(-time.Nanosecond); !c.Calendar.IsZero() {
				from = end
			}
			if len(out) > 0 && out[len(out)-1].At.Equal(s.At) {
				from = end
				continue
			}
		} else if len(out) > 0 && !s.At.After(out[len(out)-1].At) {
			continue
		}
		if !to.IsZero() && !s.At.Before(to) {
			break
		}
		out = append(out, s)
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

// gapHorizon is how far ahead the longest time between two starts is looked for: a year
// has all its months and changes of the clock.
const gapHorizon = 370 * span.Day

// Gap is the longest time between two starts within a year from an instant, and where it
// begins; zero if none is foretold. Because tells whether a quiet time makes it.
func (c Cadence) Gap(from time.Time) (gap time.Duration, at time.Time, quiet bool) {
	switch {
	case c.ByHand():
		return 0, time.Time{}, false
	case c.Calendar.IsZero():
		// A quiet time and one more start.
		stretch, begins := c.Quiet.Longest(from, gapHorizon)
		return stretch + max(c.Every, breath), begins, stretch > 0
	}
	all, err := c.Calendar.Between(from, from.Add(gapHorizon))
	if err != nil {
		return 0, time.Time{}, false
	}
	var before time.Time
	for _, s := range all {
		start := c.Quiet.End(s.At)
		if !before.IsZero() && start.Sub(before) > gap {
			gap, at, quiet = start.Sub(before), before, !start.Equal(s.At)
		}
		before = start
	}
	if len(all) == 1 {
		return gapHorizon, all[0].At, false
	}
	return gap, at, quiet
}

// Interval is about how long it is from one start to the next, for what is reckoned from
// it: of a calendar the mean over a year.
func (c Cadence) Interval(from time.Time) time.Duration {
	if c.Calendar.IsZero() {
		return max(c.Every, 0)
	}
	all, err := c.Calendar.Between(from, from.Add(gapHorizon))
	if err != nil || len(all) < 2 {
		return gapHorizon
	}
	return all[len(all)-1].At.Sub(all[0].At) / time.Duration(len(all)-1)
}
