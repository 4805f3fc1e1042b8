// Package schedule decides which cycles begin now. It is a function of what is
// known and of the time, and of nothing else, so that every decision can be
// replayed and explained; the runtime, the simulation and forecasts call it alike.
package schedule

import (
	"cmp"
	"fmt"
	"slices"
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
	// Work is how long the link would have to itself what changes in the longest time
	// between two captures that keeps the target; zero if that is not known.
	Work  time.Duration
	Still time.Duration // of a cycle, what is not copying
	// Copy is how long the next cycle's bytes would have the link to themselves; zero if that
	// is not known.
	Copy   time.Duration
	Weight float64 // of its priority; 0 counts as 1

	// What a cycle uses, by name, for people as well.
	Link, Platform string
	Datastores     []string

	Paused  bool
	Running bool
	AskedAt time.Time // when somebody asked for a cycle; zero if nobody did
	CutOff  bool      // a cycle was cut off and is to go on
	RetryAt time.Time // not before, after a failure
	// DueSince is when the group fell due and did not begin; zero if it is not due.
	DueSince time.Time
	// Spilled groups are more than their link can carry: Plan says which.
	Spilled bool
	// Early is when it should begin before it falls due; nil if there is no need to.
	Early *Early

	PlatformUp bool
	LinkUp     bool
}

// Start is a cycle that begins now.
type Start struct {
	ID string
	// Deadline is the latest start with which the target is kept.
	Deadline time.Time
	// Uses is what the cycle takes.
	Uses Use
	// Share is its weight where it shares a limited link with others.
	Share float64
	now   time.Time
	of    *Facts
}

// Why says in a sentence why it begins now. It is asked before the facts that were decided
// upon are changed.
func (s Start) Why() string { return s.of.why(s.now) }

// Waiting is a group that is due and does not begin now.
type Waiting struct {
	ID  string
	Why string // in words, as after "it waits: "
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
	case f.Early != nil && !f.Last.IsZero() && !f.Early.At.After(now) && f.Cadence.Quiet.End(now).Equal(now):
		return true
	}
	next, ok := f.next(now)
	return ok && !next.After(now)
}

// next is when the next cycle falls due by itself. Even a group whose cycles run
// by hand is copied for the first time by itself.
func (f *Facts) next(now time.Time) (time.Time, bool) {
	if (f.Foretold == nil || f.Last.IsZero()) && f.Cadence.ByHand() {
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
	if f.Early != nil && f.Early.At.Before(next) {
		return f.Early.At
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

// patience is how many times its lateness a late cycle is let wait behind others.
const patience = 8

// turn is what cycles begin in the order of: their deadlines, while those are to come. Of
// those that are late whatever is done, the ones come first that are short for what they are
// worth, which makes their lateness together the least (W. E. Smith, Various optimizers for
// single-stage production, Naval Research Logistics 3, 1956); a long one comes as it gets
// later. By deadlines alone each late one would make the next late, for good.
func (f *Facts) turn(now, deadline time.Time) time.Time {
	late := now.Sub(deadline)
	if late <= 0 || f.Copy <= 0 {
		return deadline
	}
	return now.Add(time.Duration(float64(f.Copy)/f.weight()) - late/patience)
}

// behind tells whether a group comes after all others.
func (f *Facts) behind() bool { return f.Spilled && f.AskedAt.IsZero() }

func (f *Facts) weight() float64 {
	if f.Weight <= 0 {
		return 1
	}
	return f.Weight
}

// Decide gives what begins now: of the groups that are due and can begin, those with the
// earliest deadlines, and of the same deadline those of higher priority, as far as the
// limits leave room beside what is busy. One that has to wait for a place of its own does
// not hold up those that need another. Spilled groups come after all others, one at a time
// over a link: so each has its turn in the end, and costs others little.
func Decide(now time.Time, groups []Facts, busy Load) Decision {
	among := make([]*Facts, len(groups))
	for i := range groups {
		among[i] = &groups[i]
	}
	return Among(now, among, busy, nil)
}

// Among is Decide for facts that are kept elsewhere, and stay as they are while it decides.
// Its starts take the place of those in old, which may be nil.
func Among(now time.Time, groups []*Facts, busy Load, old []Start) Decision {
	d := Decision{Start: old[:0]}
	soonest := func(t time.Time) {
		if t.After(now) && (d.Next.IsZero() || t.Before(d.Next)) {
			d.Next = t
		}
	}
	type contender struct {
		deadline, turn time.Time
		*Facts
	}
	var few [4]contender // forecasts ask of few at a time, very often
	ready := few[:0]
	for _, f := range groups {
		if !f.Due(now) {
			if f.Paused || f.Running {
				continue
			}
			if next, ok := f.next(now); ok {
				soonest(next)
			}
			if f.Early != nil {
				soonest(f.Early.At)
			}
			continue
		}
		switch {
		case !f.PlatformUp:
			d.Waiting = append(d.Waiting, Waiting{f.ID, "the platform cannot be reached"})
		case !f.LinkUp:
			d.Waiting = append(d.Waiting, Waiting{f.ID, "the recovery site does not answer"})
		case now.Before(f.RetryAt):
			d.Waiting = append(d.Waiting, Waiting{f.ID, "the last attempt failed; the next is at " + f.RetryAt.UTC().Format("15:04:05 MST")})
			soonest(f.RetryAt)
		default:
			deadline := f.Deadline(now)
			ready = append(ready, contender{deadline, f.turn(now, deadline), f})
		}
	}
	slices.SortFunc(ready, func(a, b contender) int {
		if a.behind() != b.behind() {
			if b.behind() {
				return -1
			}
			return 1
		}
		return cmp.Or(a.turn.Compare(b.turn), a.deadline.Compare(b.deadline), cmp.Compare(b.weight(), a.weight()), strings.Compare(a.ID, b.ID))
	})
	taken := busy.Clone()
	for _, f := range ready {
		uses := taken.Of(f.Facts)
		if full := taken.full(uses); full != "" {
			d.Waiting = append(d.Waiting, Waiting{f.ID, full})
			continue
		}
		taken.Add(uses)
		d.Start = append(d.Start, Start{f.ID, f.deadline, uses, f.share(now, busy.Short), now, f.Facts})
	}
	return d
}

// why says in a sentence why a cycle begins now.
func (f *Facts) why(now time.Time) string {
	next, ok := f.next(now)
	switch left := f.Deadline(now).Sub(now); {
	case f.CutOff:
		return "it was cut off and goes on"
	case !f.AskedAt.IsZero():
		return "somebody asked for it"
	case f.Captured.IsZero():
		return "nothing is at the recovery site yet"
	case f.Early != nil && ok && next.After(now):
		return fmt.Sprintf("%s early, %s", span.Format(next.Sub(now).Round(time.Second)), f.Early.Why)
	case f.Spilled:
		return "it is due and has its turn in the slow lane: more is promised over its link than that carries"
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

// CompareDue tells whether the next cycle is to read all of the disks: every is
// the wish (0: never by itself), last when that last happened.
func CompareDue(every time.Duration, last, now time.Time) bool {
	return every > 0 && now.Sub(last) >= every
}
