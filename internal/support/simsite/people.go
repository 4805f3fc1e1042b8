package simsite

import (
	"context"
	"fmt"
	"math/rand/v2"
	"slices"
	"time"

	"kestrel/internal/core/actor"
	"kestrel/internal/core/group"
	"kestrel/internal/core/ladder"
	"kestrel/internal/core/span"
	"kestrel/internal/directory"
	"kestrel/internal/records"
	"kestrel/internal/support/memory"
	"kestrel/internal/support/rooms"
)

var ben = actor.Actor{Kind: actor.Person, Name: "ben", Role: actor.Operator}

// wish is what people were told holds of a group: what each setting was last set
// to.
type wish struct {
	target, compare *time.Duration
	priority        *group.Priority
	keep            *ladder.Ladder
	pause           *group.Pause
}

// edits are people who change settings, some between another's look and write.
func (w *world) edits() {
	for n := 0; ; n++ {
		r := w.draw("edit", n)
		if !w.sleep(wait(r, 20*time.Minute)) {
			return
		}
		w.edit(n)
	}
}

// edit changes one setting of one group.
func (w *world) edit(n int) {
	r := w.draw("edit", n, "what")
	groups, _, _ := w.rooms()
	all := groups.All()
	id, kind := all[r.IntN(len(all))].ID, r.IntN(kinds)
	if w.draw("rival", n).IntN(3) == 0 {
		// Somebody else's edit of the same group comes between look and write.
		w.mu.Lock()
		w.rival = func() { w.change(w.draw("between", n), id, (kind+1+w.draw("rival", n, "kind").IntN(kinds-1))%kinds) }
		w.mu.Unlock()
	}
	w.change(r, id, kind)
	w.mu.Lock()
	w.rival = nil // what was set as it was is not written
	w.mu.Unlock()
}

// kinds is how many sorts of edits there are.
const kinds = 5

// change sets one setting, and holds the records against what people were told.
func (w *world) change(r *rand.Rand, id string, kind int) {
	groups, _, _ := w.rooms()
	rec, _ := groups.Get(id)
	every := rec.Spec.Promise.Cadence.Every
	var p group.Patch
	next := wish{}
	switch kind {
	case 0:
		p.Target = new(time.Duration(2+r.IntN(4)) * every)
		next.target = p.Target
	case 1:
		p.Priority = new([]group.Priority{group.Normal, group.High, group.Low}[r.IntN(3)])
		next.priority = p.Priority
	case 2:
		p.Keep = new(ladders[r.IntN(len(ladders))])
		next.keep = p.Keep
	case 3:
		p.CompareEvery = new(time.Duration(r.IntN(3)) * span.Week)
		next.compare = p.CompareEvery
	case 4:
		until := time.Now().Add(wait(r, 2*every)).UTC()
		p.Pause = &group.Pause{Since: time.Now().UTC(), Until: until, By: ben.Name, Reason: "the pier is dredged"}
		next.pause = p.Pause
	}
	who := []actor.Actor{anna, ben}[r.IntN(2)]
	_, cs, err := groups.Update(w.end, who, rec.ID, p, nil, func(_ directory.Record, cs []group.Change) string {
		return fmt.Sprintf("%s changed %s", who, group.Words(cs))
	})
	if err != nil {
		w.found("an edit of %s was refused: %w", rec.Spec.Name, err)
		return
	}
	w.tell(rec.ID, "edited: %s", group.Words(cs))
	w.mu.Lock()
	w.out.Edits++
	if kind == 4 {
		w.out.Pauses++
	}
	w.wish[rec.ID].take(next)
	if len(cs) > 0 && (next.target != nil || next.pause != nil) {
		ts := w.targets[rec.ID]
		x := ts[len(ts)-1]
		x.Since = time.Now()
		if next.target != nil {
			x.Target = *next.target
		}
		if next.pause != nil {
			x.Paused, x.Until = true, next.pause.Until
		}
		w.targets[rec.ID] = append(ts, x)
	}
	wanted := *w.wish[rec.ID]
	w.mu.Unlock()
	// Asked of the records, as the next start of the service will.
	if is, ok := w.recorded(rooms.HomeID, rec.ID); ok {
		if lost := wanted.missing(is.Spec); lost != "" {
			w.found("an edit of %s was lost: %s", rec.Spec.Name, lost)
		}
	}
}

func (x *wish) take(n wish) {
	if n.target != nil {
		x.target = n.target
	}
	if n.compare != nil {
		x.compare = n.compare
	}
	if n.priority != nil {
		x.priority = n.priority
	}
	if n.keep != nil {
		x.keep = n.keep
	}
	if n.pause != nil {
		x.pause = n.pause
	}
}

// missing says which wish does not hold.
func (x wish) missing(s group.Spec) string {
	switch {
	case x.target != nil && *x.target != s.Promise.Target:
		return fmt.Sprintf("target %s, not %s", s.Promise.Target, *x.target)
	case x.compare != nil && *x.compare != s.CompareEvery:
		return fmt.Sprintf("comparison every %s, not %s", s.CompareEvery, *x.compare)
	case x.priority != nil && *x.priority != s.Priority:
		return fmt.Sprintf("priority %v, not %v", s.Priority, *x.priority)
	case x.keep != nil && !slices.Equal(*x.keep, s.Promise.Keep):
		return fmt.Sprintf("ladder %s, not %s", s.Promise.Keep, *x.keep)
	case x.pause != nil && x.pause.Until.After(time.Now()) && !s.PausedAt(time.Now()):
		return fmt.Sprintf("a pause until %s", x.pause.Until)
	}
	return ""
}

// between is called before each write of a group.
func (w *world) between(method string) error {
	w.mu.Lock()
	var rival func()
	if method == "SwapGroup" {
		rival, w.rival = w.rival, nil
	}
	if rival != nil {
		w.out.Overtaken++
	}
	w.mu.Unlock()
	if rival != nil {
		rival()
	}
	return nil
}

// only gives one group of all that are recorded.
type only struct {
	*memory.DB
	id string
}

// Groups implements directory.Store.
func (o only) Groups(ctx context.Context) ([]records.Group, error) {
	all, err := o.DB.Groups(ctx)
	return slices.DeleteFunc(all, func(g records.Group) bool { return g.ID != o.id }), err
}

// recorded reads a group from a site's records.
func (w *world) recorded(site, id string) (directory.Record, bool) {
	w.mu.Lock()
	s := w.home
	if site == rooms.RecoveryID {
		s = w.recovery
	}
	w.mu.Unlock()
	fresh, err := directory.Open(w.end, only{s.DB, id}, nil, nil, nil)
	if err != nil {
		w.found("read the groups of %s: %w", s.Name, err)
		return directory.Record{}, false
	}
	return fresh.Get(id)
}
