// Package drill decides how a drill goes on, what came of it, and when the next falls due.
package drill

import (
	"fmt"
	"maps"
	"slices"
	"time"

	"kestrel/internal/core/span"
	"kestrel/internal/core/words"
)

// State is how far a drill is.
type State string

// The states.
const (
	Starting State = "starting" // its machines are made, started and checked
	Open     State = "open"     // all has started, and somebody looks at it
	Clearing State = "clearing" // what it made is removed
	Over     State = "over"     // nothing of it is left
)

// Result is what came of a drill.
type Result string

// The results.
const (
	Passed  Result = "passed"
	Failed  Result = "failed"
	Stopped Result = "stopped" // before it could tell
)

// StartLimit is how long machines may take until they have started; their checks have limits
// of their own.
const StartLimit = 2 * time.Hour

// Machine is one of a drill.
type Machine struct {
	Name    string
	Wave    int       // from 1 on; 0 is none
	Started time.Time // zero: not yet
	Passed  time.Time // when its check passed, or was given up; zero: not yet
	Missed  bool      // its check was given up
	Lost    bool      // it was removed by somebody, or is gone
}

func (m Machine) settled() bool { return m.Lost || !m.Started.IsZero() && !m.Passed.IsZero() }

// Facts is what is known of a drill at a moment.
type Facts struct {
	Now   time.Time
	State State
	Began time.Time
	// Made says that its machines are there or on their way.
	Made     bool
	Machines []Machine
	Stepping bool      // a step of its runbook is waited for
	Until    time.Time // when it ends by itself; zero is never
	Asked    bool      // somebody wants it to end
	Alone    bool      // nobody looks at it: it ends when all is checked
	Left     int       // machines of it that are still there
	Known    bool      // Left is known
}

// Next is the state that follows.
func Next(f Facts) State {
	switch f.State {
	case Starting:
		settled := f.Made && !f.Stepping && !slices.ContainsFunc(f.Machines, func(m Machine) bool { return !m.settled() })
		switch {
		case f.Asked, f.Now.Sub(f.Began) >= StartLimit, settled && f.Alone:
			return Clearing
		case settled:
			return Open
		}
	case Open:
		if f.Asked || !f.Until.IsZero() && !f.Now.Before(f.Until) {
			return Clearing
		}
	case Clearing:
		if f.Known && f.Left == 0 {
			return Over
		}
	}
	return f.State
}

// Outcome sums a drill up.
type Outcome struct {
	Result Result
	Why    []string // in sentences, where it did not pass
	// Took is from the beginning until the last machine had started and was checked; zero if
	// that never came.
	Took time.Duration
}

// Steps is what came of the steps of a runbook, in sentences, and when the last ended.
type Steps struct {
	Faults, Open []string
	Ended        time.Time
}

// Judge tells what came of a drill. Verdict is what a person says of it, nil if nobody does:
// they may find fault with what no check sees, but not pass what did not start.
func Judge(began time.Time, ms []Machine, steps Steps, verdict *bool) Outcome {
	out := Outcome{Result: Passed}
	open := len(steps.Open) > 0
	for _, m := range ms {
		switch {
		case m.Lost:
			out.Why = append(out.Why, m.Name+" was removed before the drill ended.")
		case m.Started.IsZero():
			open = true
			out.Why = append(out.Why, m.Name+" had not started.")
		case m.Passed.IsZero():
			open = true
			out.Why = append(out.Why, m.Name+" had started, and its check had not passed yet.")
		case m.Missed:
			out.Why = append(out.Why, fmt.Sprintf("The check of %s did not pass.", m.Name))
		}
		if took := m.Passed.Sub(began); !open && !m.Passed.IsZero() {
			out.Took = max(out.Took, took)
		}
	}
	out.Took = max(out.Took, steps.Ended.Sub(began))
	if open || len(ms) == 0 {
		out.Took = 0
	}
	out.Why = append(append(out.Why, steps.Faults...), steps.Open...)
	missed := len(steps.Faults) > 0 || slices.ContainsFunc(ms, func(m Machine) bool { return m.Missed })
	switch {
	case verdict != nil && !*verdict:
		out.Result = Failed
		out.Why = append(out.Why, "Whoever looked at it says that it failed.")
	case missed:
		out.Result = Failed
	case len(out.Why) > 0 || len(ms) == 0:
		out.Result = Stopped
	}
	return out
}

// Due is when a drill of a group falls due: so long after the last that passed, or after its
// first point where none has. Zero is never.
func Due(last, first time.Time, every time.Duration) time.Time {
	switch {
	case every <= 0:
		return time.Time{}
	case !last.IsZero():
		return last.Add(every)
	case first.IsZero():
		return time.Time{}
	}
	return first.Add(every)
}

// Overdue says in a sentence that a drill is due; empty if it is not.
func Overdue(now, last, due time.Time, every time.Duration) string {
	switch {
	case due.IsZero() || now.Before(due):
		return ""
	case last.IsZero():
		return fmt.Sprintf("No drill of it has passed yet; one was due %s ago.", span.Format(now.Sub(due)))
	}
	return fmt.Sprintf("The last drill that passed was %s ago, and one is promised every %s.", span.Format(now.Sub(last)), span.Format(every))
}

// Summary says in a sentence what came of a drill of so many machines.
func (o Outcome) Summary(machines int, target time.Duration) string {
	switch {
	case o.Result == Stopped:
		return "It was ended before it could tell."
	case o.Took == 0:
		return fmt.Sprintf("It %s.", o.Result)
	}
	after := "within a second"
	if o.Took >= time.Second {
		after = "after " + span.Format(o.Took.Round(time.Second))
	}
	text := fmt.Sprintf("It %s: %s ran %s", o.Result, words.Count(machines, "machine"), after)
	switch {
	case target <= 0:
		return text + "."
	case o.Took <= target:
		return fmt.Sprintf("%s, within the RTO target of %s.", text, span.Format(target))
	}
	return fmt.Sprintf("%s, %s more than the RTO target of %s.", text, span.Format((o.Took - target).Round(time.Second)), span.Format(target))
}

// Wave is how the machines of a wave came up.
type Wave struct {
	Number   int
	Machines int
	Started  time.Time     // when the first of them did; zero: not yet
	Up       time.Time     // when the last was checked; zero: not yet, or not all of them
	Took     time.Duration // from the beginning until it was up
	Own      time.Duration // of that, from when the wave before was up
}

// Waves are those of machines that began to be made at an instant, in order. A wave with a
// machine that was lost, or whose check was given up, was not up.
func Waves(began time.Time, ms []Machine) []Wave {
	by := map[int]*Wave{}
	short := map[int]bool{}
	for _, m := range ms {
		w := by[m.Wave]
		if w == nil {
			w = &Wave{Number: m.Wave}
			by[m.Wave] = w
		}
		w.Machines++
		if !m.Started.IsZero() && (w.Started.IsZero() || m.Started.Before(w.Started)) {
			w.Started = m.Started
		}
		if m.Lost || m.Missed || !m.settled() {
			short[m.Wave] = true
		}
		if m.Passed.After(w.Up) {
			w.Up = m.Passed
		}
	}
	out := make([]Wave, 0, len(by))
	before := began
	for _, n := range slices.Sorted(maps.Keys(by)) {
		w := *by[n]
		if short[n] {
			w.Up = time.Time{}
		} else {
			w.Took, w.Own = w.Up.Sub(began), max(0, w.Up.Sub(before))
			before = w.Up
		}
		out = append(out, w)
	}
	return out
}
