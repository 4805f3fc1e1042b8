package recovery

import (
	"context"
	"fmt"
	"strings"
	"time"

	"kestrel/internal/api"
	"kestrel/internal/core/actor"
	"kestrel/internal/core/drill"
	"kestrel/internal/core/runbook"
	"kestrel/internal/core/span"
	"kestrel/internal/core/words"
	"kestrel/internal/problem"
	"kestrel/internal/records"
)

// course is a recovery's runbook: its steps as the berth said them when it began, in the
// order in which they are done, and how far each is.
type course struct {
	Runbook  []runbook.Step     `json:"runbook,omitempty"`
	Progress []runbook.Progress `json:"progress,omitempty"`
}

// of finds how far a step is, to be changed.
func (c *course) of(name string) *runbook.Progress {
	for i := range c.Progress {
		if c.Progress[i].Name == name {
			return &c.Progress[i]
		}
	}
	c.Progress = append(c.Progress, runbook.Progress{Name: name, State: runbook.Ahead})
	return &c.Progress[len(c.Progress)-1]
}

// anew has all steps done once more, as for another point. What names said before the first
// change stays known.
func (c *course) anew() {
	for i, p := range c.Progress {
		c.Progress[i] = runbook.Progress{Name: p.Name, State: runbook.Ahead, Tries: p.Tries, Before: p.Before, Changed: p.Changed}
	}
}

func (c course) stepping() bool {
	_, over := runbook.Over(c.Runbook, c.Progress)
	return !over
}

// judged is what came of the steps.
func (c course) judged() drill.Steps {
	faults, open := runbook.Faults(c.Runbook, c.Progress)
	at, _ := runbook.Over(c.Runbook, c.Progress)
	return drill.Steps{Faults: faults, Open: open, Ended: at}
}

// steps gives the runbook of a recovery that begins. Nobody is there to be asked in one that
// is alone.
func (r *Recovery) steps(group string, inDrill, alone bool) []runbook.Step {
	var out []runbook.Step
	for _, s := range runbook.For(r.Steps(group), inDrill) {
		if !alone || s.Kind != runbook.Person {
			out = append(out, s)
		}
	}
	return out
}

// performing is a step that is being done.
type performing struct {
	step   string
	cancel func()
	came   chan came
}

// came is what came of a step.
type came struct {
	said string
	err  error
}

// halt ends what is being done of a recovery's steps.
func (r *Recovery) halt(id string) {
	r.mu.Lock()
	p := r.performing[id]
	delete(r.performing, id)
	r.mu.Unlock()
	if p != nil {
		p.cancel()
	}
}

// manner is how a kind of recovery does its steps.
type manner[P any] struct {
	drill  bool
	number int64 // of its point
	made   bool  // its machines are there or on their way
	held   bool  // nothing more is begun
	alone  bool  // nobody is there to be asked
	// stop ends or stops it on behalf of a step.
	stop func(d P, by string, at time.Time)
}

// doSteps takes the steps of a recovery further: it begins the one whose turn it is, beside,
// and notes what came of it.
func doSteps[D any, P telling[D]](ctx context.Context, r *Recovery, s *kept[D], m manner[P]) error {
	rec, d := look(r, s)
	c := P(&d).story().course
	if len(c.Runbook) == 0 {
		return nil
	}
	at := runbook.Turn(c.Runbook, c.Progress, func(wave int) bool {
		return wave == 0 || m.made && r.Landings.Up(rec.ID, wave)
	})
	r.mu.Lock()
	now := r.performing[rec.ID]
	r.mu.Unlock()
	if now != nil && (at < 0 || c.Runbook[at].Name != now.step || runbook.Of(c.Progress, now.step).State != runbook.Running) { // somebody has decided on it
		r.halt(rec.ID)
		now = nil
	}
	if at < 0 {
		return nil
	}
	step, p := c.Runbook[at], runbook.Of(c.Progress, c.Runbook[at].Name)
	if p.State == runbook.Asking {
		return fmt.Errorf("the step %s failed (%s): have it done again, or go on without it", step.Name, strings.TrimSuffix(p.Said, "."))
	}
	if now != nil {
		select {
		case x := <-now.came:
			if ctx.Err() != nil {
				return ctx.Err()
			}
			r.halt(rec.ID)
			return noteStep(ctx, r, s, m, step, x)
		default:
			return nil
		}
	}
	if m.held {
		return nil
	}
	began, err := beginStep[D, P](ctx, r, s, step)
	if err != nil {
		return err
	}
	limit := step.Until()
	if step.Kind == runbook.Wait || step.Kind == runbook.Person {
		// What is waited for goes by while a service is down; anything else has all of its
		// time once more.
		limit = max(0, limit-r.Clock.Now().Sub(began.Began))
	}
	ctx, cancel := context.WithTimeout(ctx, limit)
	x := &performing{step: step.Name, cancel: cancel, came: make(chan came, 1)}
	r.mu.Lock()
	r.performing[rec.ID] = x
	r.mu.Unlock()
	e := errand{r: r, rec: rec, number: m.number, step: step, progress: began, drill: m.drill, keep: func(before []string) error {
		return amend(ctx, r, s, func(_ *records.Recovery, d P) (string, error) {
			if p := d.story().of(step.Name); !p.Changed {
				p.Changed, p.Before = true, before
			}
			return "", nil
		})
	}}
	r.wg.Go(func() {
		defer cancel()
		x.came <- e.do(ctx)
	})
	return nil
}

// beginStep notes that a step is begun, or goes on after a start of the service.
func beginStep[D any, P telling[D]](ctx context.Context, r *Recovery, s *kept[D], step runbook.Step) (out runbook.Progress, err error) {
	err = amend(ctx, r, s, func(_ *records.Recovery, d P) (string, error) {
		p := d.story().of(step.Name)
		text := fmt.Sprintf("The step %s begins. %s", step.Name, step.Words())
		if p.State == runbook.Running {
			text = fmt.Sprintf("The step %s goes on: the service was started anew meanwhile.", step.Name)
		} else {
			p.Began = r.Clock.Now().UTC()
		}
		p.State, p.Ended, p.By = runbook.Running, time.Time{}, ""
		p.Tries++
		out = *p
		return text, nil
	})
	return out, err
}

// noteStep notes what came of a step.
func noteStep[D any, P telling[D]](ctx context.Context, r *Recovery, s *kept[D], m manner[P], step runbook.Step, x came) error {
	now := r.Clock.Now().UTC()
	return amend(ctx, r, s, func(rec *records.Recovery, d P) (string, error) {
		p := d.story().of(step.Name)
		if p.State != runbook.Running {
			return "", errAgain // somebody has decided on it meanwhile
		}
		p.Ended, p.Said = now, words.Sentence(x.said)
		if x.err == nil {
			p.State = runbook.Passed
			return fmt.Sprintf("The step %s is done: %s", step.Name, p.Said), nil
		}
		p.Said = words.Sentence(x.err.Error())
		return fail(d, p, step, m, now), nil
	})
}

// fail settles what comes of a step that failed, and tells it.
func fail[P interface{ story() *tale }](d P, p *runbook.Progress, step runbook.Step, m manner[P], now time.Time) string {
	text := fmt.Sprintf("The step %s failed: %s", step.Name, p.Said)
	switch how := step.Fails(); {
	case how == runbook.GoOn:
		p.State = runbook.Failed
		return text + " It goes on."
	case m.drill && (how == runbook.Stop || m.alone):
		p.State = runbook.Failed
		m.stop(d, "the step "+step.Name, now)
		return text + " The drill ends."
	case how == runbook.Stop:
		p.State = runbook.Ahead
		m.stop(d, "the step "+step.Name, now)
		return text + " It is stopped; when it goes on, the step is done again."
	}
	p.State = runbook.Asking
	return text + " Somebody has to say what now."
}

// onStep decides on a step.
func onStep[D any, P telling[D]](ctx context.Context, r *Recovery, s *kept[D], who actor.Actor, in api.StepDecision, m manner[P], may func(rec *records.Recovery, d P) error) error {
	note := ""
	if in.Action == "skip" || in.Action == "failed" || value(in.Note) != "" {
		var err error
		if note, err = checkNote(value(in.Note), map[string]string{"skip": "the step is left out", "failed": "the step failed"}[in.Action]); err != nil {
			return err
		}
	}
	did := map[string]string{"done": "says that the step %s is done", "failed": "says that the step %s failed", "again": "has the step %s done again", "skip": "goes on without the step %s"}[in.Action]
	line := fmt.Sprintf("%s "+did, who, in.Step)
	if note != "" {
		line += ": " + note
	}
	rec, _ := look(r, s)
	return decide(ctx, r, s, who, func(rec *records.Recovery, d P) (string, error) {
		if err := may(rec, d); err != nil {
			return "", err
		}
		c := &d.story().course
		var names []string
		for _, x := range c.Runbook {
			names = append(names, x.Name)
			if x.Name != in.Step {
				continue
			}
			return decideStep(c, d, x, who, in.Action, note, m, r.Clock.Now().UTC())
		}
		if len(names) == 0 {
			return "", problem.Invalid("step", "Its runbook has no steps.")
		}
		return "", problem.Invalid("step", "It has no step %q; name one of %s.", in.Step, words.Joined(names, 8))
	}, fmt.Sprintf("%s, in the %s of %s", line, rec.Kind, rec.GroupName))
}

func decideStep[P interface{ story() *tale }](c *course, d P, step runbook.Step, who actor.Actor, action, note string, m manner[P], now time.Time) (string, error) {
	p := c.of(step.Name)
	asked := step.Kind == runbook.Person && p.State == runbook.Running
	said := note
	if said == "" {
		said = "It was said to be done."
	}
	switch action {
	case "done", "failed":
		if !asked {
			return "", problem.Conflict("The step %s waits for nobody's word: it is %s.", step.Name, p.State)
		}
		p.By, p.Ended, p.Said = who.String(), now, words.Sentence(said)
		if action == "done" {
			p.State = runbook.Passed
			return fmt.Sprintf("%s says that the step %s is done: %s", who, step.Name, p.Said), nil
		}
		return fmt.Sprintf("%s says so. ", who) + fail(d, p, step, m, now), nil
	case "again":
		if p.State == runbook.Ahead || p.State == runbook.Running {
			return "", problem.Conflict("The step %s is %s: it is done when its turn comes.", step.Name, p.State)
		}
		p.State, p.By, p.Ended = runbook.Ahead, who.String(), time.Time{}
		return fmt.Sprintf("%s has the step %s done again.", who, step.Name), nil
	}
	if p.State.Over() {
		return "", problem.Conflict("The step %s is over: it %s.", step.Name, p.State)
	}
	p.State, p.By, p.Ended, p.Said = runbook.Skipped, who.String(), now, words.Sentence(note)
	if p.Began.IsZero() {
		p.Began = now
	}
	return fmt.Sprintf("%s goes on without the step %s: %s", who, step.Name, p.Said), nil
}

func checkNote(text, what string) (string, error) {
	if what == "" {
		what = "in the note what the record is to keep"
	}
	out, err := checkReason(text, what)
	if p, is := problem.Of(err); is {
		for i := range p.Errors {
			p.Errors[i].Field = "note"
		}
		return "", p
	}
	return out, err
}

// gateOf says why machines of a wave wait for the steps of a recovery; the lock is held.
func (c course) gate(wave int) string { return runbook.Gate(c.Runbook, c.Progress, wave) }

// expected is how long each step of a group took the last time that it passed.
func (r *Recovery) expected(group string) map[string]time.Duration {
	r.mu.Lock()
	defer r.mu.Unlock()
	out, at := map[string]time.Duration{}, map[string]time.Time{}
	enter := func(rec records.Recovery, c course) {
		if rec.GroupID != group {
			return
		}
		for _, p := range c.Progress {
			if p.State == runbook.Passed && p.Began.After(at[p.Name]) {
				out[p.Name], at[p.Name] = p.Took(), p.Began
			}
		}
	}
	for _, s := range r.byID {
		enter(s.rec, s.detail.course)
	}
	for _, s := range r.failovers {
		enter(s.rec, s.detail.course)
	}
	return out
}

// stepsView shows steps, with how far they are if some progress is given.
func stepsView(c course, expected map[string]time.Duration, planned bool) []api.RunbookStep {
	out := []api.RunbookStep{}
	seconds := func(d time.Duration) int64 { return int64(d.Round(time.Second) / time.Second) }
	for _, s := range c.Runbook {
		v := api.RunbookStep{Name: s.Name, After: s.After, Kind: string(s.Kind), Text: s.Words(), OnFailure: string(s.Fails()), LimitSeconds: seconds(s.Until())}
		if took, known := expected[s.Name]; known {
			v.ExpectedSeconds = new(seconds(took))
		}
		if !planned {
			p := runbook.Of(c.Progress, s.Name)
			v.State, v.BeganAt, v.EndedAt, v.Said, v.By = new(string(p.State)), orNil(p.Began), orNil(p.Ended), text(p.Said), text(p.By)
			if p.Tries > 0 {
				v.Tries = &p.Tries
			}
			if p.State.Over() {
				v.TookSeconds = new(seconds(p.Took()))
			}
		}
		out = append(out, v)
	}
	return out
}

// setBack sets names back to what they said before a failover changed them. What cannot be
// set back within a time is told, and left to people.
func (r *Recovery) setBack(ctx context.Context, s *failing, since time.Time) error {
	_, d := look(r, s)
	for i := len(d.Runbook) - 1; i >= 0; i-- {
		step := d.Runbook[i]
		p := runbook.Of(d.Progress, step.Name)
		if !p.Changed {
			continue
		}
		within, cancel := context.WithTimeout(ctx, toldWithin/4)
		err := r.Names.Set(within, step.Server, step.Record, step.Type, p.Before)
		cancel()
		if err != nil && r.Clock.Now().Sub(since) < toldWithin {
			return fmt.Errorf("set %s back to what it said before: %w", step.Record, err)
		}
		text := fmt.Sprintf("%s says again what it said before the step %s.", step.Record, step.Name)
		if err != nil {
			text = fmt.Sprintf("%s could not be set back within %s (%s): do it by hand.", step.Record, span.Format(toldWithin), err.Error())
		}
		if err := amend(ctx, r, s, func(_ *records.Recovery, d *passage) (string, error) {
			d.of(step.Name).Changed = false
			return text, nil
		}); err != nil {
			return err
		}
	}
	return nil
}
