// Package schedule decides which cycles begin now. It is a function of what is
// known and of the time, and of nothing else, so that every decision can be
// replayed and explained; the runtime, the simulation and forecasts call it alike.
package schedule

import (
	"fmt"
	"slices"
	"strconv"
	"strings"
	"time"

	"kestrel/internal/core/cadence"
	"kestrel/internal/core/span"
)

// Facts is what is known of a group that is home here. All instants are on this
// site's clock.
type Facts struct {
	ID      string
	Name    string
	Target  time.Duration // RPO target
	Cadence cadence.Cadence
	Anchor  time.Time // of the cadence's grid
	// Foretold is the start that follows Last, if it was reckoned before: calendars take
	// their time.
	Foretold *Foretold
	Last     time.Time // start of the newest cycle; zero if none began
	// Captured is the capture instant of the newest point at the recovery site;
	// zero if there is none.
	Captured time.Time
	// Length is how long a cycle is expected to take, from the newest ones; zero
	// if that is not known.
	Length time.Duration

	Paused  bool
	Running bool
	AskedAt time.Time // when somebody asked for a cycle; zero if nobody did
	CutOff  bool      // a cycle was cut off and is to go on
	RetryAt time.Time // not before, after a failure
	// DueSince is when the group fell due and did not begin; zero if it is not due.
	DueSince time.Time

	PlatformUp bool
	LinkUp     bool
}

// Start is a cycle that begins now.
type Start struct {
	ID string
	// Deadline is the latest start with which the target is kept.
	Deadline time.Time
	now      time.Time
	of       *Facts
}

// Why says in a sentence why it begins now. It is asked before the facts that were decided
// upon are changed.
func (s Start) Why() string { return s.of.why(s.now) }

// Waiting is a group that is due and does not begin now.
type Waiting struct {
	ID  string
	Why string
}

// Decision is what is to happen at an instant.
type Decision struct {
	Start   []Start
	Waiting []Waiting
	// Next is when to look again if nothing else happens; zero if nothing will
	// ever fall due by itself.
	Next time.Time
}

// askedPatience is how long somebody who asked for a cycle is let wait behind
// groups that are nearer to missing their targets.
const askedPatience = time.Minute

// Due tells whether a cycle should begin or go on.
func (f *Facts) Due(now time.Time) bool {
	switch {
	case f.Paused || f.Running:
		return false
	case !f.AskedAt.IsZero() || f.CutOff:
		return true
	}
	next, ok := f.next(now)
	return ok && !next.After(now)
}

// next is when the next cycle falls due by itself. Even a group whose cycles run
// by hand is copied for the first time by itself.
func (f *Facts) next(now time.Time) (time.Time, bool) {
	if f.Cadence.ByHand() {
		return now, f.Last.IsZero()
	}
	return f.following(now)
}

// Foretold is a start that was reckoned; without one if none ever falls due.
type Foretold struct {
	At  time.Time
	Due bool
}

// following is the start that follows Last.
func (f *Facts) following(now time.Time) (time.Time, bool) {
	if f.Foretold != nil && !f.Last.IsZero() {
		return f.Foretold.At, f.Foretold.Due
	}
	return f.Cadence.Next(f.Anchor, f.Last, now)
}

// NextStart is when the next cycle will begin by itself, for people; zero if none
// will, or as soon as the one under way ends.
func (f *Facts) NextStart(now time.Time) time.Time {
	if f.Paused || f.Running && f.Last.IsZero() {
		return time.Time{}
	}
	next, ok := f.following(now)
	if !ok || f.Running && !next.After(now) {
		return time.Time{}
	}
	return next
}

// Deadline is the latest start that still keeps the target: exposure is highest
// just before the point lands, one length of a cycle after the start. A group
// without a point has been over since it fell due, and competes as if a point had
// been captured then.
func (f *Facts) Deadline(now time.Time) time.Time {
	from := f.Captured
	if from.IsZero() {
		from = f.DueSince
	}
	if from.IsZero() {
		from = now
	}
	d := from.Add(f.Target - f.Length)
	if !f.AskedAt.IsZero() {
		if asked := f.AskedAt.Add(askedPatience); asked.Before(d) {
			d = asked
		}
	}
	return d
}

// Decide gives what begins now with so many free slots: of the groups that are due
// and can begin, those with the earliest deadlines.
func Decide(now time.Time, groups []Facts, slots int) Decision {
	var d Decision
	soonest := func(t time.Time) {
		if t.After(now) && (d.Next.IsZero() || t.Before(d.Next)) {
			d.Next = t
		}
	}
	type contender struct {
		deadline time.Time
		*Facts
	}
	var ready []contender
	for i := range groups {
		f := &groups[i]
		if !f.Due(now) {
			if f.Paused || f.Running {
				continue
			}
			if next, ok := f.next(now); ok {
				soonest(next)
			}
			continue
		}
		switch {
		case !f.PlatformUp:
			d.Waiting = append(d.Waiting, Waiting{f.ID, "the platform cannot be reached"})
		case !f.LinkUp:
			d.Waiting = append(d.Waiting, Waiting{f.ID, "the recovery site does not answer"})
		case now.Before(f.RetryAt):
			d.Waiting = append(d.Waiting, Waiting{f.ID, "the last attempt failed; the next is at " + f.RetryAt.UTC().Format(time.RFC3339)})
			soonest(f.RetryAt)
		default:
			ready = append(ready, contender{f.Deadline(now), f})
		}
	}
	slices.SortFunc(ready, func(a, b contender) int {
		if c := a.deadline.Compare(b.deadline); c != 0 {
			return c
		}
		return strings.Compare(a.ID, b.ID)
	})
	for i, f := range ready {
		if i >= slots {
			d.Waiting = append(d.Waiting, Waiting{f.ID, "all places are taken by other cycles; " + strconv.Itoa(i-max(slots, 0)) + " go before it"})
			continue
		}
		d.Start = append(d.Start, Start{f.ID, f.deadline, now, f.Facts})
	}
	return d
}

// why says in a sentence why a cycle begins now.
func (f *Facts) why(now time.Time) string {
	switch left := f.Deadline(now).Sub(now); {
	case f.CutOff:
		return "it was cut off and goes on"
	case !f.AskedAt.IsZero():
		return "somebody asked for it"
	case f.Captured.IsZero():
		return "nothing is at the recovery site yet"
	case left < 0:
		return fmt.Sprintf("it is due, and %s late for its target", span.Format(-left))
	default:
		return fmt.Sprintf("it is due, %s before it would miss its target", span.Format(left))
	}
}

// Backoff is how long to wait after so many failures in a row, 1 or more: from a
// second, doubled each time, to half a minute.
func Backoff(failures int) time.Duration {
	return min(30*time.Second, time.Second<<min(max(failures, 1)-1, 5))
}

// Expect smooths the lengths of the newest cycles, newest first, to what the next
// is expected to take: the longest of the last three, so that one that was short
// by chance does not make the next start too late.
func Expect(newest []time.Duration) time.Duration {
	var out time.Duration
	for _, d := range newest[:min(3, len(newest))] {
		out = max(out, d)
	}
	return out
}

// CompareDue tells whether the next cycle is to read all of the disks: every is
// the wish (0: never by itself), last when that last happened.
func CompareDue(every time.Duration, last, now time.Time) bool {
	return every > 0 && now.Sub(last) >= every
}
