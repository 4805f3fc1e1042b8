package forecast

import (
	"math"
	"time"

	"kestrel/internal/core/schedule"
)

const (
	planEvery  = int64(time.Hour)
	calmEvery  = 6 * planEvery // where all links carry what is promised
	aheadEvery = int64(time.Minute)
)

// use enters what a cycle takes while it runs, and its weight on its link.
func (r *run) use(s *state, u schedule.Use, share float64) {
	s.uses = u
	r.load.Add(u)
	s.heft, s.most = share, s.bound()/share
}

// replan looks again, now and then, at which groups are more than their links carry, and at
// which have to begin before they fall due: as the service does.
func (r *run) replan() {
	if r.now >= r.planned {
		r.spill()
		if r.planned == 0 {
			r.recount()
		}
		if r.planned = r.now + planEvery; !r.spilling {
			r.planned = r.now + calmEvery
		}
	}
	if r.sooner && r.now >= r.ahead {
		r.ahead = r.now + aheadEvery
		r.hasten()
	}
}

// recount enters anew what the cycles take that are under way at the beginning: it was not
// known yet from when on one is long.
func (r *run) recount() {
	for _, s := range r.active {
		r.load.Remove(s.uses)
		s.uses = r.load.Of(r.look(s))
		r.load.Add(s.uses)
	}
}

func (r *run) spill() {
	for _, s := range r.groups {
		if s.facts.Paused = r.held(s); s.sealed {
			s.facts.Still, s.facts.Work = s.Lead+s.Tail, r.work(s)
		}
	}
	look := schedule.Plan(r.at, r.facts, r.outlook)
	r.outlook = look
	spilled := look.Spilled
	r.load.Short = look.Short
	if len(spilled) == 0 && !r.spilling {
		return
	}
	r.spilling = len(spilled) > 0
	var waiting []*state // that wait, and are queued anew
	for len(r.ready) > 0 {
		waiting = append(waiting, r.ready.pop())
	}
	for i := range r.slow {
		for len(r.slow[i]) > 0 {
			waiting = append(waiting, r.slow[i].pop())
		}
	}
	for _, s := range r.groups {
		s.facts.Spilled = spilled[s.ID]
	}
	for _, s := range waiting {
		r.wait(s)
	}
}

// wait puts a group that is due where it waits for its turn.
func (r *run) wait(s *state) {
	if s.facts.Spilled {
		r.slow[s.link+1].push(s.deadline, s)
	} else {
		r.ready.push(s.deadline, s)
	}
}

// work is how long its link would be taken by what changes in the longest time between two
// captures that keeps a group's target; zero if that is not known.
func (r *run) work(s *state) time.Duration {
	if s.link < 0 || s.strange || s.Target <= 0 || len(s.Change) == 0 {
		return 0
	}
	rate := r.links[s.link].rate
	if rate <= 0 || math.IsInf(rate, 1) {
		return 0
	}
	if s.workAt != rate { // it follows from what does not change but for that
		s.workAt, s.worked = rate, schedule.Work(s.Target, s.Lead+s.Tail, func(gap time.Duration) time.Duration {
			return time.Duration(s.Change.Within(gap) * s.wire() / rate * 1e9)
		})
	}
	return s.worked
}

// copying is how long its link would be taken by the cycle that begins now; zero if that is
// not known.
func (r *run) copying(s *state) time.Duration {
	if s.link < 0 || s.strange || !r.links[s.link].known || r.links[s.link].rate <= 0 || len(s.Change) == 0 {
		return 0
	}
	bytes := s.Change.Within(time.Duration(r.now-s.captured)) * s.wire()
	return time.Duration(bytes / r.links[s.link].rate * 1e9)
}

// hasten moves starts that would come too late.
func (r *run) hasten() {
	for _, s := range r.groups {
		s.facts.Paused = r.held(s)
		r.look(s)
	}
	early := schedule.Ahead(r.at, r.facts, r.in.Limits, time.UTC)
	if len(early) == 0 {
		return
	}
	var again queue
	for _, x := range r.coming {
		key := x.key
		if e := early[x.s.ID]; e != nil {
			x.s.facts.Early = e
			key = min(key, max(r.now, r.since(e.At)))
		}
		again.push(key, x.s)
	}
	r.coming = again
}
