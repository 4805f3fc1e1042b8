package recovery

import (
	"cmp"
	"context"
	"encoding/json"
	"fmt"
	"slices"
	"strings"
	"sync"
	"time"

	"kestrel/internal/clock"
	"kestrel/internal/core/actor"
	"kestrel/internal/core/words"
	"kestrel/internal/events"
	"kestrel/internal/problem"
	"kestrel/internal/records"
)

// over is the state of a recovery that has ended, of whatever kind it is.
const over = "over"

// kept is a drill or failover: its record, and what that holds beside its columns. What changes
// of both is guarded by the lock of the room.
type kept[D any] struct {
	rec    records.Recovery
	detail D
	// writing is held while a change is written, so that each is made of the one before.
	writing sync.Mutex
}

// tale is what is told of a recovery step by step.
type tale struct {
	course
	Steps []step `json:"steps,omitempty"`
	// Error is what holds it up, in a sentence.
	Error string `json:"error,omitempty"`
}

type step struct {
	At   time.Time `json:"at"`
	Text string    `json:"text"`
}

func (t *tale) story() *tale { return t }

// telling is a detail that holds a tale.
type telling[D any] interface {
	*D
	story() *tale
}

// maxSteps bounds what is told of one recovery.
const maxSteps = 400

// read gives what a record holds beside its columns.
func read[D any](x records.Recovery) (*kept[D], error) {
	s := &kept[D]{rec: x}
	if err := json.Unmarshal(x.Detail, &s.detail); err != nil {
		return nil, fmt.Errorf("record of the %s %s: %w", x.Kind, x.ID, err)
	}
	return s, nil
}

// look gives a recovery as it is now.
func look[D any](r *Recovery, s *kept[D]) (records.Recovery, D) {
	r.mu.Lock()
	defer r.mu.Unlock()
	return s.rec, s.detail
}

// found resolves an ID, or a group's name or ID to its newest recovery of a kind.
func found[D any](r *Recovery, all map[string]*kept[D], kind, text string) (*kept[D], error) {
	r.mu.Lock()
	best := all[text]
	r.mu.Unlock()
	if best != nil {
		return best, nil
	}
	id := text
	if g, err := r.Groups.Find(text); err == nil {
		id = g.ID
	}
	r.mu.Lock()
	defer r.mu.Unlock()
	for _, s := range all {
		if s.rec.GroupID == id && (best == nil || s.rec.StartedAt.After(best.rec.StartedAt)) {
			best = s
		}
	}
	if best == nil {
		return nil, problem.NotFound(kind, text)
	}
	return best, nil
}

// listed lists recoveries of a kind, of groups that see lets pass, newest first; of one group
// if it is given.
func listed[D any](r *Recovery, all map[string]*kept[D], group string, see func(id string) bool) ([]*kept[D], error) {
	id := ""
	if group != "" {
		g, err := r.Groups.Find(group)
		if err != nil {
			return nil, err
		}
		id = g.ID
	}
	r.mu.Lock()
	defer r.mu.Unlock()
	var out []*kept[D]
	for _, s := range all {
		if see(s.rec.GroupID) && (id == "" || s.rec.GroupID == id) {
			out = append(out, s)
		}
	}
	slices.SortFunc(out, func(a, b *kept[D]) int {
		return cmp.Or(b.rec.StartedAt.Compare(a.rec.StartedAt), strings.Compare(a.rec.ID, b.rec.ID))
	})
	return out, nil
}

// amend changes a recovery. Change is given a copy of it as it is and makes of it what it is
// to be, with a step to tell of it if there is one; its error ends it. Only what PostgreSQL
// has is so: if it cannot be written, nothing has changed.
func amend[D any, P telling[D]](ctx context.Context, r *Recovery, s *kept[D], change func(rec *records.Recovery, d P) (text string, err error)) error {
	return amended(ctx, r, s, change, r.DB.SaveRecovery)
}

// decide is amend on somebody's word, of which the trail gets a line, with it or not at all.
func decide[D any, P telling[D]](ctx context.Context, r *Recovery, s *kept[D], who actor.Actor, change func(rec *records.Recovery, d P) (text string, err error), line string) error {
	rec, _ := look(r, s)
	return amended(ctx, r, s, change, func(ctx context.Context, next records.Recovery) error {
		return r.Trail.Do(ctx, who, object(rec), func(ctx context.Context) error { return r.DB.SaveRecovery(ctx, next) }, "%s", line)
	})
}

func amended[D any, P telling[D]](ctx context.Context, r *Recovery, s *kept[D], change func(rec *records.Recovery, d P) (text string, err error), save func(ctx context.Context, rec records.Recovery) error) error {
	s.writing.Lock()
	defer s.writing.Unlock()
	rec, _ := look(r, s)
	var d D
	if err := json.Unmarshal(rec.Detail, &d); err != nil {
		return fmt.Errorf("record of the %s of %s: %w", rec.Kind, rec.GroupName, err)
	}
	text, err := change(&rec, &d)
	if err != nil {
		return err
	}
	now := r.Clock.Now().UTC()
	if t := P(&d).story(); text != "" && len(t.Steps) < maxSteps {
		t.Steps = append(t.Steps, step{now, text})
	}
	if rec.State == over {
		rec.EndedAt = &now
	}
	if rec.Detail, err = json.Marshal(d); err != nil {
		return fmt.Errorf("record of the %s of %s: %w", rec.Kind, rec.GroupName, err)
	}
	rec.Saves++
	if err := save(context.WithoutCancel(ctx), rec); err != nil {
		return fmt.Errorf("keep how the %s of %s goes on: %w", rec.Kind, rec.GroupName, err)
	}
	r.mu.Lock()
	// What a recovery is of never changes, and is read without the lock.
	s.rec.State, s.rec.Point, s.rec.Result, s.rec.EndedAt, s.rec.Detail, s.rec.Saves = rec.State, rec.Point, rec.Result, rec.EndedAt, rec.Detail, rec.Saves
	s.detail = d
	r.mu.Unlock()
	r.Hub.Send(events.Event{Type: rec.Kind, ID: rec.ID})
	return nil
}

// input is what the operation of a recovery is asked for with.
type input struct {
	Drill string `json:"drill"` // ID of the recovery
}

// drive takes a recovery further until it is over, and tells what holds it up.
func drive[D any, P telling[D]](ctx context.Context, r *Recovery, s *kept[D], further func(ctx context.Context) error) error {
	for {
		rec, d := look(r, s)
		if rec.State == over {
			return nil
		}
		err := further(ctx)
		if ctx.Err() != nil {
			return ctx.Err()
		}
		text := ""
		if err != nil {
			text = words.Upper(err.Error())
		}
		if text != P(&d).story().Error {
			// What cannot be kept now is told again with the next look.
			_ = amend(ctx, r, s, func(_ *records.Recovery, d P) (string, error) {
				d.story().Error = text
				return text, nil
			})
		}
		if err := clock.Sleep(ctx, r.Clock, r.Every); err != nil {
			return err
		}
	}
}
