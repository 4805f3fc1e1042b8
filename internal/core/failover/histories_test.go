package failover_test

import (
	"fmt"
	"math/rand/v2"
	"testing"

	"github.com/stretchr/testify/require"

	"kestrel/internal/core/drill"
	"kestrel/internal/core/failover"
	"kestrel/internal/core/term"
)

// place is one of two sites in a history: what it keeps, whatever is lost on the way.
type place struct {
	term.State
	machines int  // of the group that run here
	made     int  // that a failover has made here
	accepted bool // it is home because a failover was accepted, or since the beginning
}

// world is two sites and what is between them.
type world struct {
	t      *testing.T
	rnd    *rand.Rand
	seed   uint64
	sites  [2]place
	points [2]int // the newest that is kept at each
	cut    bool
	dark   int // the site that is dark, or -1

	from, to int // of the failover
	run      *failover.Facts
	planned  bool
	told     []string
	ended    map[string]int // failovers, by what came of them
}

// histories go through failovers with cuts of the link, sites that go dark and come back,
// answers that are lost, and people who decide at any moment.
func TestHistories(t *testing.T) {
	ended := map[string]int{}
	for seed := range uint64(1000) {
		w := &world{ended: ended, t: t, rnd: rand.New(rand.NewPCG(seed, 7)), seed: seed, dark: -1}
		w.sites[0] = place{State: term.New(), machines: 2, accepted: true}
		w.sites[1] = place{State: term.State{Role: term.Recovery, Term: 1}}
		w.points[1] = 1
		for range 150 {
			w.people()
			w.weather()
			w.drive()
			w.beat()
			w.invariants()
		}
		w.calm()
	}
	for _, kind := range []string{"planned, accepted", "planned, backed out", "unplanned, accepted", "unplanned, backed out"} {
		require.Greater(t, ended[kind], 50, kind)
	}
}

func (w *world) say(format string, a ...any) { w.told = append(w.told, fmt.Sprintf(format, a...)) }

func (w *world) fail(why string) {
	require.FailNow(w.t, why, "seed %d: %v\n%+v\nterms %+v", w.seed, w.told[max(0, len(w.told)-25):], w.run, w.sites)
}

func (w *world) reach() bool { return !w.cut && w.dark < 0 }

// home is the site that is home by an accepted failover, or since the beginning.
func (w *world) home() int {
	if w.sites[1].accepted {
		return 1
	}
	return 0
}

func (w *world) people() {
	if w.run == nil {
		at := 1 - w.home()
		if w.dark == at || w.rnd.IntN(4) > 0 || w.sites[at].Role != term.Recovery || w.points[at] == 0 {
			return
		}
		w.from, w.to, w.planned = 1-at, at, w.reach() && w.rnd.IntN(2) == 0
		w.run = &failover.Facts{State: failover.Turning}
		if w.planned {
			w.run.State = failover.Draining
		}
		w.say("failover to %d, planned %v", at, w.planned)
		return
	}
	switch w.rnd.IntN(12) {
	case 0:
		w.run.Stopped = !w.run.Stopped
	case 1:
		if w.run.State != failover.Accepting && !w.run.Accept {
			w.run.BackOut = true
			w.say("backed out in %s", w.run.State)
		}
	case 2:
		if !w.run.BackOut && !w.run.Accept && (w.run.State == failover.Open || w.run.State == failover.Starting) {
			w.run.Replace = true
		}
	case 3, 4:
		if w.run.State == failover.Open && !w.run.BackOut && !w.run.Replace {
			w.run.Accept, w.run.Stopped = true, false
		}
	case 5: // somebody starts one at home again
		if w.sites[w.from].Role == term.Home && w.dark != w.from {
			w.sites[w.from].machines = 2
		}
	}
}

func (w *world) weather() {
	switch w.rnd.IntN(10) {
	case 0:
		w.cut = !w.cut
	case 1:
		if w.dark >= 0 {
			w.dark = -1
		} else {
			w.dark = w.rnd.IntN(2)
		}
	}
}

// lost tells whether an answer is lost on its way: what was asked for was done.
func (w *world) lost() bool { return w.rnd.IntN(5) == 0 }

// drive takes the failover one look further, as its room does: it does what its state asks
// for, and goes on to the next.
func (w *world) drive() {
	if w.run == nil || w.dark == w.to {
		return
	}
	f, home, here := w.run, &w.sites[w.from], &w.sites[w.to]
	f.OffKnown = w.reach()
	f.Off = w.reach() && home.machines == 0
	switch f.State {
	case failover.Draining:
		f.Drained = w.reach()
	case failover.Stopping:
		if w.reach() && home.Role == term.Home {
			home.machines = 0
		}
	case failover.Sealing:
		f.Sealed = false
		if w.reach() && home.machines == 0 {
			w.points[w.to]++
			f.Sealed = true
		}
	case failover.Turning:
		w.turn()
	case failover.Starting:
		if !f.Stopped {
			here.made = 2
			f.Made, f.Machines = true, []drill.Machine{{Lost: true}}
		}
	case failover.Replacing, failover.Clearing:
		here.made = 0
	case failover.Accepting:
		f.Local, f.Settled = true, true
	case failover.Returning:
		if !f.Returned {
			s, g, err := here.Return()
			if err != nil {
				w.fail(err.Error())
			}
			here.State, f.Returned = s, true
			if w.reach() {
				w.resume(home, g)
			}
		}
	}
	f.Held = here.Role == term.Home
	f.Left, f.LeftKnown = here.made, true
	next := failover.Next(*f)
	if next == failover.Starting {
		f.Made, f.Machines, f.Replace = false, nil, false
	}
	if next != f.State {
		w.say("%s", next)
	}
	f.State = next
	if next == failover.Over {
		if f.Accept && !f.BackOut {
			home.accepted, here.accepted = false, true
			here.machines, here.made = here.made, 0
		}
		w.ended[fmt.Sprintf("%s, %s", map[bool]string{true: "planned", false: "unplanned"}[w.planned], map[bool]string{true: "accepted", false: "backed out"}[f.Accept])]++
		w.run = nil
	}
}

func (w *world) turn() {
	home, here := &w.sites[w.from], &w.sites[w.to]
	if here.Role == term.Home || w.run.Stopped || w.run.BackOut {
		return
	}
	if !w.planned {
		here.State, _ = here.Seize()
		return
	}
	if !w.reach() || home.machines > 0 {
		return // it is refused while one runs
	}
	s, g, err := home.Cede()
	if err != nil {
		return
	}
	home.State = s
	if w.lost() {
		return
	}
	if here.State, err = here.Take(g); err != nil {
		w.fail(err.Error())
	}
}

func (w *world) resume(home *place, g term.Grant) {
	if s, err := home.Resume(g); err == nil {
		home.State = s
		home.machines = 2
	}
}

// beat is what two sites tell each other: who is home, who holds it, and who has returned it.
func (w *world) beat() {
	if !w.reach() {
		return
	}
	for i := range w.sites {
		me, other := &w.sites[i], &w.sites[1-i]
		switch {
		case me.Role == term.Home:
			was := other.Role
			other.State, _ = other.Hear(term.Report{Term: me.Term})
			if was == term.Home && other.Role != term.Home {
				other.machines = 0 // somebody shuts them down, as it asks for
			}
		case me.Role == term.Recovery && other.accepted && other.Term < me.Term:
			w.resume(other, term.Grant{Term: me.Term})
		}
	}
}

func (w *world) invariants() {
	a, b := w.sites[0], w.sites[1]
	switch {
	case a.accepted == b.accepted:
		w.fail("at most, and at least, one accepted home")
	case a.Role == term.Home && b.Role == term.Home && a.Term == b.Term:
		w.fail("two homes in one term")
	case w.run == nil && (a.made > 0 || b.made > 0):
		w.fail("a machine was forgotten")
	case w.planned && w.run != nil && w.run.State.Turned() && w.run.State != failover.Clearing && w.sites[w.from].machines > 0 && w.sites[w.from].Role == term.Home:
		w.fail("home runs while a planned failover is turned")
	}
}

// calm lets all be well again: whoever is home by right is home in the end, alone.
func (w *world) calm() {
	w.cut, w.dark = false, -1
	if w.run != nil {
		w.run.Stopped, w.run.BackOut = false, !w.run.Accept
	}
	for range 20 {
		w.drive()
		w.beat()
	}
	if w.run != nil {
		w.fail("it never ended")
	}
	home, other := w.sites[w.home()], w.sites[1-w.home()]
	if home.Role != term.Home || other.Role != term.Recovery || home.Term != other.Term {
		w.fail("the sites do not agree in the end")
	}
	if home.machines == 0 || other.machines > 0 {
		w.fail("the group does not run, or runs twice")
	}
}
