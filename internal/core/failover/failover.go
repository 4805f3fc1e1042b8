// Package failover decides how a failover goes on, when little enough is left to shut home
// down, and what came of it.
package failover

import (
	"fmt"
	"slices"
	"strings"
	"time"

	"kestrel/internal/core/drill"
	"kestrel/internal/core/span"
	"kestrel/internal/core/words"
)

// State is how far a failover is.
type State string

// The states. A planned one begins with the first, any other with Turning.
const (
	Draining  State = "draining"  // cycles run until little is left to copy
	Stopping  State = "stopping"  // home's machines are shut down
	Sealing   State = "sealing"   // what they wrote last is copied
	Turning   State = "turning"   // this site becomes the group's home
	Starting  State = "starting"  // its machines are made, started and checked
	Open      State = "open"      // all has started, and somebody decides
	Replacing State = "replacing" // its machines are removed, to be made from another point
	Accepting State = "accepting" // it was accepted, and disks are made local
	Clearing  State = "clearing"  // it is backed out, and its machines are removed
	Returning State = "returning" // the group is given back, and home's machines start
	Over      State = "over"
)

// Result is what came of a failover.
type Result string

// The results.
const (
	Accepted  Result = "accepted"
	BackedOut Result = "backed out"
)

// Turned tells whether a state comes after home has given the group away.
func (s State) Turned() bool {
	return slices.Contains([]State{Starting, Open, Replacing, Accepting, Clearing}, s)
}

// Facts is what is known of a failover at a moment.
type Facts struct {
	State   State
	Stopped bool // somebody wants it to go no further for now
	BackOut bool // somebody backs out
	Replace bool // somebody wants another point
	Accept  bool // somebody accepts it
	// Of a planned one: little is left to copy; all of home's machines are off, if that is
	// known; and a point was captured after they were.
	Drained, Off, OffKnown, Sealed bool
	Held                           bool // the group is held here
	Made                           bool // its machines are there or on their way
	Machines                       []drill.Machine
	Stepping                       bool // a step of its runbook is waited for
	Left                           int  // machines of it that are still there
	LeftKnown                      bool
	Local                          bool // none of its machines needs the point any more
	Settled                        bool // what accepting asks for is done
	Returned                       bool // the group was given back
}

// Next is the state that follows. Backing out is possible in each but where it was accepted.
// What was stopped goes no further, but back.
func Next(f Facts) State {
	if f.BackOut {
		switch f.State {
		case Draining, Stopping, Sealing:
			return Returning
		case Turning:
			if f.Held {
				return Clearing
			}
			return Returning
		case Starting, Open, Replacing:
			return Clearing
		}
	}
	switch f.State {
	case Clearing:
		if f.LeftKnown && f.Left == 0 {
			return Returning
		}
		return Clearing
	case Returning:
		if f.Returned {
			return Over
		}
		return Returning
	}
	if f.Replace && (f.State == Starting || f.State == Open) {
		return Replacing
	}
	if f.Stopped {
		return f.State
	}
	switch f.State {
	case Draining:
		if f.Drained {
			return Stopping
		}
	case Stopping:
		if f.Off && f.OffKnown {
			return Sealing
		}
	case Sealing:
		switch {
		case f.OffKnown && !f.Off:
			return Stopping // somebody has started one again: what it writes would be lost
		case f.Sealed:
			return Turning
		}
	case Turning:
		if f.Held {
			return Starting
		}
	case Starting:
		if f.Made && !f.Stepping && !slices.ContainsFunc(f.Machines, func(m drill.Machine) bool { return !settled(m) }) {
			return Open
		}
	case Replacing:
		if f.LeftKnown && f.Left == 0 {
			return Starting
		}
	case Open:
		if f.Accept && !f.Stepping {
			return Accepting
		}
	case Accepting:
		if f.Local && f.Settled {
			return Over
		}
	}
	return f.State
}

func settled(m drill.Machine) bool {
	return m.Lost || !m.Started.IsZero() && !m.Passed.IsZero()
}

// Pass is a cycle that was run before home is shut down.
type Pass struct {
	Took  time.Duration // from capture to seal
	Bytes int64         // that arrived
}

const (
	// quick is how long a cycle may take while home stands still: with less, more cycles
	// before gain nothing.
	quick = 20 * time.Second
	// shrinks is by how much a cycle has to be shorter than the one before for one more to
	// be worth it.
	shrinks = 0.7
	// mostPasses bounds them, where home writes as fast as can be copied.
	mostPasses = 5
)

// Drained tells from the cycles since a planned failover began, the oldest first, whether one
// more would make the last one shorter, while which home stands still.
func Drained(ps []Pass) bool {
	n := len(ps)
	switch {
	case n == 0:
		return false
	case ps[n-1].Took <= quick, n >= mostPasses:
		return true
	}
	return n > 1 && float64(ps[n-1].Took) > shrinks*float64(ps[n-2].Took)
}

// Outcome sums a failover up.
type Outcome struct {
	Result Result
	// Loses is what was lost in time: from the capture of the point until home wrote its last,
	// or, where that is not known, until it began; negative is nothing.
	Loses time.Duration
	// Took is from the beginning of the start until the last machine had started and was
	// checked; zero if that never came.
	Took    time.Duration
	Unready []string // machines whose check did not pass, or that never started
}

// Judge tells how machines of a failover came up since they began to start.
func Judge(began time.Time, ms []drill.Machine) (took time.Duration, unready []string) {
	for _, m := range ms {
		if m.Missed || !settled(m) || m.Lost {
			unready = append(unready, m.Name)
		}
		if !m.Passed.IsZero() {
			took = max(took, m.Passed.Sub(began))
		}
		if !settled(m) {
			began = time.Time{}
		}
	}
	if began.IsZero() {
		took = 0
	}
	return took, unready
}

// Summary says in a sentence what came of it, of so many machines at a site.
func (o Outcome) Summary(machines int, site string, rto time.Duration) string {
	var text strings.Builder
	switch {
	case o.Result == BackedOut:
		return "It was backed out."
	case o.Took <= 0:
		fmt.Fprintf(&text, "It was accepted, with %s at %s", words.Count(machines, "machine"), site)
	default:
		fmt.Fprintf(&text, "It was accepted: %s ran at %s after %s", words.Count(machines, "machine"), site, span.Format(max(time.Second, o.Took.Round(time.Second))))
		switch over := (o.Took - rto).Round(time.Second); {
		case rto <= 0:
		case over <= 0:
			fmt.Fprintf(&text, ", within the RTO target of %s", span.Format(rto))
		default:
			fmt.Fprintf(&text, ", %s more than the RTO target of %s", span.Format(over), span.Format(rto))
		}
	}
	if o.Loses > 0 {
		fmt.Fprintf(&text, "; %s of changes are lost", span.Format(max(time.Second, o.Loses.Round(time.Second))))
	} else {
		text.WriteString("; nothing is lost")
	}
	if len(o.Unready) > 0 {
		fmt.Fprintf(&text, "; not as it should be: %s", words.Joined(o.Unready, 5))
	}
	return text.String() + "."
}
