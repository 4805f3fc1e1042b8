package recovery

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"slices"
	"strings"
	"sync"
	"time"

	"kestrel/internal/api"
	"kestrel/internal/core/actor"
	"kestrel/internal/core/berth"
	"kestrel/internal/core/drill"
	"kestrel/internal/core/exposure"
	"kestrel/internal/core/failover"
	"kestrel/internal/core/group"
	"kestrel/internal/core/runbook"
	"kestrel/internal/core/span"
	"kestrel/internal/core/term"
	"kestrel/internal/core/words"
	"kestrel/internal/directory"
	"kestrel/internal/inventory"
	"kestrel/internal/landing"
	"kestrel/internal/link"
	"kestrel/internal/operation"
	"kestrel/internal/platform"
	"kestrel/internal/points"
	"kestrel/internal/problem"
	"kestrel/internal/records"
)

// FailoverKind is that of the operations, and of the records.
const FailoverKind = "failover"

// passage is what a failover's record holds beside its columns. Instants of home's clock are
// said to be.
type passage struct {
	Home        string    `json:"home"`
	Planned     bool      `json:"planned"`
	PointNumber int64     `json:"pointNumber"`
	CaptureAt   time.Time `json:"captureAt"` // home's clock
	Captured    time.Time `json:"captured"`  // the same on ours
	Consistency string    `json:"consistency"`
	Chosen      string    `json:"chosen"`
	NotWhole    bool      `json:"notWhole,omitempty"`
	// Machines are the IDs of those that start here, nil for all; LeftOut are the names of the
	// others.
	Machines []string `json:"machines,omitempty"`
	LeftOut  []string `json:"leftOut,omitempty"`
	// Old are the machines that the group had here before, if others come in their places, and
	// InPlace the names of those in whose places some do.
	Old        []landing.Old `json:"old,omitempty"`
	InPlace    []string      `json:"inPlace,omitempty"`
	RTO        time.Duration `json:"rto,omitempty"`
	RPO        time.Duration `json:"rpo,omitempty"`
	Reason     string        `json:"reason,omitempty"`
	Known      []string      `json:"known,omitempty"` // of home, when it began
	LosesBytes *int64        `json:"losesBytes,omitempty"`
	Force      bool          `json:"force,omitempty"`
	DownLimit  time.Duration `json:"downLimit,omitempty"`

	From      time.Time  `json:"from"`             // home's clock, when it began
	WereOn    []string   `json:"wereOn,omitempty"` // IDs of home's machines that it found on
	Looked    bool       `json:"looked,omitempty"` // WereOn is what was found
	AskedDown *time.Time `json:"askedDown,omitempty"`
	Pressed   *time.Time `json:"pressed,omitempty"` // when they were asked the last time
	AskedOff  bool       `json:"askedOff,omitempty"`
	OffAt     time.Time  `json:"offAt"` // home's clock, when all were seen off
	TurnedAt  time.Time  `json:"turnedAt"`
	BeganAt   time.Time  `json:"beganAt"` // when its machines began to be made, the last time
	Made      bool       `json:"made,omitempty"`
	OpenAt    time.Time  `json:"openAt"`

	Stopped *decision `json:"stopped,omitempty"`
	Replace *decision `json:"replace,omitempty"`
	Accept  *decision `json:"accept,omitempty"`
	BackOut *decision `json:"backOut,omitempty"`
	Alone   bool      `json:"alone,omitempty"` // it was accepted unprotected
	// WayBack is the berth for the way back, once it was Reckoned.
	WayBack  json.RawMessage `json:"wayBack,omitempty"`
	Reckoned bool            `json:"reckoned,omitempty"`
	Returned int64           `json:"returned,omitempty"` // the term in which home is home again
	Told     bool            `json:"told,omitempty"`     // home has heard of it
	ToldBy   *time.Time      `json:"toldBy,omitempty"`   // from when on home was tried to be told
	Entered  []entered       `json:"entered,omitempty"`

	Took     time.Duration `json:"took,omitempty"`
	Lost     time.Duration `json:"lost,omitempty"`
	Stood    []stood       `json:"stood,omitempty"`
	Untraced []stood       `json:"untraced,omitempty"` // what is being removed
	Summary  string        `json:"summary,omitempty"`
	tale
}

// decision is what somebody decided.
type decision struct {
	By     string    `json:"by"`
	At     time.Time `json:"at"`
	Reason string    `json:"reason,omitempty"`
}

// entered is when a state was.
type entered struct {
	State failover.State `json:"state"`
	At    time.Time      `json:"at"`
}

type failing = kept[passage]

// runFailover drives a failover until it is over.
func (r *Recovery) runFailover(ctx context.Context, w *operation.Work) (string, error) {
	var in input
	if err := w.Input(&in); err != nil {
		return "", err
	}
	r.mu.Lock()
	s := r.failovers[in.Drill]
	r.mu.Unlock()
	if s == nil {
		return "The failover is not known here.", nil
	}
	if err := drive(ctx, r, s, func(ctx context.Context) error { return r.proceed(ctx, s) }); err != nil {
		return "", err
	}
	_, d := look(r, s)
	return d.Summary, nil
}

// proceed takes a failover one look further: it does what its state asks for, and goes on to
// the next.
func (r *Recovery) proceed(ctx context.Context, s *failing) error {
	rec, d := look(r, s)
	g, ok := r.Groups.Get(rec.GroupID)
	if !ok {
		return fmt.Errorf("the group %s is not known here any more", rec.GroupName)
	}
	f := failover.Facts{State: failover.State(rec.State)}
	err := r.work(ctx, s, g, rec, d, &f)
	if errors.Is(err, errAgain) {
		return nil // what it changed is looked at anew
	}
	_, d = look(r, s)
	d.said(&f)
	if g, ok = r.Groups.Get(rec.GroupID); ok {
		f.Held = g.Held()
	}
	next := failover.Next(f)
	if next == f.State {
		return err
	}
	if err := r.pass(ctx, s, f, next); !errors.Is(err, errAgain) {
		return err
	}
	return nil
}

// said enters what people have decided.
func (d *passage) said(f *failover.Facts) {
	f.Stepping = d.stepping()
	f.Stopped, f.BackOut, f.Replace, f.Accept = d.Stopped != nil, d.BackOut != nil, d.Replace != nil, d.Accept != nil
}

// errAgain says that something was noted, and that all is to be looked at again.
var errAgain = errors.New("look again")

// note changes a failover, without a step to be told of.
func (r *Recovery) note(ctx context.Context, s *failing, change func(d *passage)) error {
	err := amend(ctx, r, s, func(_ *records.Recovery, d *passage) (string, error) {
		change(d)
		return "", nil
	})
	if err == nil {
		err = errAgain
	}
	return err
}

// work does what a state asks for, and finds out what there is to know.
func (r *Recovery) work(ctx context.Context, s *failing, g directory.Record, rec records.Recovery, d passage, f *failover.Facts) error {
	switch f.State {
	case failover.Draining, failover.Stopping, failover.Sealing:
		if d.BackOut != nil {
			return nil
		}
		return r.workAtHome(ctx, s, g, d, f)
	case failover.Turning:
		if d.BackOut != nil || d.Stopped != nil || g.Held() {
			return nil
		}
		return r.turn(ctx, s, g, rec, d)
	case failover.Starting:
		if !d.Made && d.BackOut == nil && d.Stopped == nil {
			r.lookAnew(ctx)
			if err := r.Landings.Recover(ctx, actor.System(), liveOf(rec.Point, d.Machines, d.NotWhole), rec.ID, d.Old); err != nil {
				return fmt.Errorf("make its machines: %w", err)
			}
			var places []string
			for _, x := range r.Landings.OfRecovery(rec.ID) {
				if x.InPlaceOf != "" {
					places = append(places, x.Name)
				}
			}
			return r.note(ctx, s, func(d *passage) { d.Made, d.InPlace = true, places })
		}
		f.Made = d.Made
		if err := r.stepFurther(ctx, s, d); err != nil {
			return err
		}
	case failover.Open:
		if err := r.stepFurther(ctx, s, d); err != nil {
			return err
		}
	case failover.Replacing, failover.Clearing:
		r.halt(rec.ID)
		if f.State == failover.Clearing && d.BackOut != nil {
			if err := r.setBack(ctx, s, d.BackOut.At); err != nil {
				return err
			}
		}
		left := r.Landings.OfRecovery(rec.ID)
		if err := r.clear(ctx, left, false); err != nil {
			return err
		}
		traces, known := r.traces(d.Untraced)
		f.Left, f.LeftKnown = len(r.Landings.OfRecovery(rec.ID))+traces, known
	case failover.Accepting:
		f.Local = true
		var off []string
		for _, x := range r.Landings.OfRecovery(rec.ID) {
			f.Local = f.Local && (x.State == string(api.LandingStateLocal) || x.Lost)
			if x.State == string(api.LandingStateOff) {
				off = append(off, x.Name)
			}
		}
		if len(off) > 0 {
			return fmt.Errorf("%s off, and disks are made local while their machine runs: switch on what is off", either(off, " is", " are"))
		}
		if f.Local {
			if err := r.settle(ctx, s, g, rec, d); err != nil {
				return err
			}
			f.Settled = true
		}
	case failover.Returning:
		return r.giveBack(ctx, s, g, rec, d, f)
	}
	for _, x := range r.Landings.OfRecovery(rec.ID) {
		f.Machines = append(f.Machines, x.Machine)
	}
	return nil
}

// stepFurther takes the steps of a failover further.
func (r *Recovery) stepFurther(ctx context.Context, s *failing, d passage) error {
	held := d.Stopped != nil || d.BackOut != nil || d.Replace != nil
	return doSteps(ctx, r, s, manner[*passage]{number: d.PointNumber, made: d.Made, held: held, stop: func(d *passage, by string, at time.Time) {
		d.Stopped = &decision{By: by, At: at}
	}})
}

// liveOf is how machines of a failover arrive: as the berth of their group says. A network of
// the same name as at home is where they belong.
func liveOf(point string, machines []string, notWhole bool) api.NewLanding {
	in := api.NewLanding{Point: point, Berth: new(string(berth.Live)), NotWhole: &notWhole, HomeNetwork: new(true)}
	if machines != nil {
		in.Machines = &machines
	}
	return in
}

// chosenOf are the IDs of those of a point's machines that are asked for, and the names of
// the others; nil for all of them.
func chosenOf(x *points.Seal, asked *[]string) (ids, left []string, err error) {
	if asked == nil {
		return nil, nil, nil
	}
	var names []string
	for _, m := range x.Machines {
		names = append(names, m.Name)
	}
	for _, t := range *asked {
		if !slices.ContainsFunc(x.Machines, func(m points.SealMachine) bool { return m.ID == t || strings.EqualFold(m.Name, t) }) {
			return nil, nil, problem.Invalid("machines", "Point %d has no machine %q; name some of %s.", x.Number, t, words.Joined(names, 8))
		}
	}
	for _, m := range x.Machines {
		if slices.ContainsFunc(*asked, func(t string) bool { return m.ID == t || strings.EqualFold(m.Name, t) }) {
			ids = append(ids, m.ID)
		} else {
			left = append(left, m.Name)
		}
	}
	switch {
	case len(ids) == 0:
		return nil, nil, problem.Invalid("machines", "Name at least one of %s.", words.Joined(names, 8))
	case len(left) == 0:
		return nil, nil, nil // of all, it needs not be said
	}
	return ids, left, nil
}

// ask asks a group's home site.
func (r *Recovery) ask(ctx context.Context, g directory.Record, by string, h link.HandOver) (link.HandedOver, error) {
	l, ok := r.Peering.Get(g.Link)
	if !ok {
		return link.HandedOver{}, fmt.Errorf("there is no link to %s any more", g.HomeName)
	}
	h.Who = by
	out, err := l.HandOver(ctx, g.ID, h)
	if p, is := problem.Of(err); is {
		return out, fmt.Errorf("%s refuses: %s", g.HomeName, words.Sentence(p.Detail))
	}
	if err != nil {
		return out, fmt.Errorf("%s cannot be asked: %w", g.HomeName, err)
	}
	return out, nil
}

// workAtHome is what a planned failover does before home has given the group away.
func (r *Recovery) workAtHome(ctx context.Context, s *failing, g directory.Record, d passage, f *failover.Facts) error {
	rec, _ := look(r, s)
	home, err := r.ask(ctx, g, rec.StartedBy, link.HandOver{Action: link.Look})
	if err != nil {
		return err
	}
	if d.From.IsZero() {
		return r.note(ctx, s, func(d *passage) { d.From = home.Now })
	}
	var on []link.HandedMachine
	for _, m := range home.Machines {
		if m.Power != platform.PowerOff && m.Power != "" {
			on = append(on, m)
		}
	}
	f.OffKnown, f.Off = home.Known, len(on) == 0
	if d.Stopped != nil {
		return nil
	}
	switch f.State {
	case failover.Draining:
		if f.Drained = failover.Drained(r.passes(g.ID, d.From)); !f.Drained {
			return r.cycle(ctx, g, rec.StartedBy, home)
		}
	case failover.Stopping:
		return r.stopHome(ctx, s, g, d, on, home)
	case failover.Sealing:
		if !home.Known {
			return fmt.Errorf("the platform of %s does not answer", g.HomeName)
		}
		if !f.Off {
			return nil
		}
		if d.OffAt.IsZero() {
			return r.note(ctx, s, func(d *passage) { d.OffAt = home.Now })
		}
		if f.Sealed = r.newest(g.ID).After(d.OffAt); !f.Sealed && f.Off {
			return r.cycle(ctx, g, rec.StartedBy, home)
		}
	}
	return nil
}

// passes are the cycles of a group whose capture came after an instant of home's clock.
func (r *Recovery) passes(id string, from time.Time) (out []failover.Pass) {
	for _, x := range r.Keeper.Seals(id) {
		if x.CaptureAt.After(from) {
			out = append(out, failover.Pass{Took: x.SealedAt.Sub(exposure.Shift(x.CaptureAt, x.HomeAhead)), Bytes: x.HeldBytes})
		}
	}
	return out
}

// newest is the capture of the newest point of a group here, on home's clock.
func (r *Recovery) newest(id string) (at time.Time) {
	for _, x := range r.Keeper.Seals(id) {
		if x.CaptureAt.After(at) {
			at = x.CaptureAt
		}
	}
	return at
}

// cycle has home begin a cycle, unless one runs; and says why none seals.
func (r *Recovery) cycle(ctx context.Context, g directory.Record, by string, home link.HandedOver) error {
	switch {
	case home.Running:
		return nil
	case home.Paused:
		return fmt.Errorf("%s is paused, so nothing is copied: resume it", g.Spec.Name)
	}
	if _, err := r.ask(ctx, g, by, link.HandOver{Action: link.Cycle}); err != nil {
		return err
	}
	if home.Failure != "" {
		return fmt.Errorf("no cycle seals: %s", words.Sentence(home.Failure))
	}
	return nil
}

// pressAgain is after what time machines that are still on are asked again to shut down.
const pressAgain = 15 * time.Second

// stopHome shuts home's machines down, by force where that is allowed and needed.
func (r *Recovery) stopHome(ctx context.Context, s *failing, g directory.Record, d passage, on []link.HandedMachine, home link.HandedOver) error {
	rec, _ := look(r, s)
	now := r.Clock.Now().UTC()
	var names, ids []string
	for _, m := range on {
		names, ids = append(names, m.Name), append(ids, m.ID)
	}
	switch {
	case !home.Known:
		return fmt.Errorf("the platform of %s does not answer", g.HomeName)
	case !d.Looked:
		return r.note(ctx, s, func(d *passage) { d.Looked, d.WereOn = true, ids })
	case len(on) == 0:
		return nil
	case d.AskedDown == nil:
		if _, err := r.ask(ctx, g, rec.StartedBy, link.HandOver{Action: link.ShutDown}); err != nil {
			return err
		}
		return r.note(ctx, s, func(d *passage) { d.AskedDown, d.Pressed = &now, &now })
	case now.Sub(*d.AskedDown) < d.DownLimit && !d.AskedOff && now.Sub(value(d.Pressed)) >= pressAgain:
		// A guest that was asked while it started has not heard it.
		if _, err := r.ask(ctx, g, rec.StartedBy, link.HandOver{Action: link.ShutDown}); err != nil {
			return err
		}
		return r.note(ctx, s, func(d *passage) { d.Pressed = &now })
	case now.Sub(*d.AskedDown) < d.DownLimit && !d.AskedOff:
		return nil
	case d.Force || d.AskedOff:
		_, err := r.ask(ctx, g, rec.StartedBy, link.HandOver{Action: link.SwitchOff})
		return err
	}
	return fmt.Errorf("%s still not down at %s after %s: shut down what runs there, have it switched off, or back out", either(names, " is", " are"), g.HomeName, span.Format(d.DownLimit))
}

func either(names []string, one, many string) string {
	if len(names) == 1 {
		return names[0] + one
	}
	return words.Joined(names, 4) + many
}

// turn makes this site the group's home: with home's leave if it is planned, and without
// asking if it is not.
func (r *Recovery) turn(ctx context.Context, s *failing, g directory.Record, rec records.Recovery, d passage) error {
	take := func(t term.State) (term.State, error) { return t.Seize() }
	if d.Planned {
		home, err := r.ask(ctx, g, rec.StartedBy, link.HandOver{Action: link.Cede})
		if err != nil {
			return err
		}
		take = func(t term.State) (term.State, error) { return t.Take(term.Grant{Term: home.Grant}) }
	}
	_, err := r.Groups.Turn(ctx, actor.System(), g.ID, func(x *directory.Record) (string, error) {
		if x.Held() {
			return "", nil
		}
		is, err := take(x.Role())
		if err != nil {
			return "", fmt.Errorf("turn the group: %w", err)
		}
		x.Turned, x.Term = directory.Held, is.Term
		return fmt.Sprintf("%s runs at %s from now on, in term %d: a failover that %s began", x.Spec.Name, r.Site, is.Term, rec.StartedBy), nil
	})
	if err == nil {
		r.beat(g.Link)
	}
	return err
}

// beat has the other site hear of what has changed, without waiting for it.
func (r *Recovery) beat(id string) {
	r.beside(func(ctx context.Context) { r.Peering.Beat(ctx, id) })
}

const (
	// anewWithin is how long platforms are waited for that are asked once more.
	anewWithin = 3 * time.Second
	// anewAfter is how old what they said may be: what is held up is tried again all the time.
	anewAfter = time.Second
)

// lookAnew asks the platforms here how they are now: what is planned is to be so.
func (r *Recovery) lookAnew(ctx context.Context) {
	var asked sync.WaitGroup
	for _, p := range r.Inventory.All() {
		if p.Up && r.Clock.Now().Sub(p.SeenAt) > anewAfter {
			asked.Add(1)
			if !r.beside(func(ctx context.Context) { r.Inventory.Refresh(ctx, p.ID); asked.Done() }) {
				asked.Done()
			}
		}
	}
	all := make(chan struct{})
	go func() { asked.Wait(); close(all) }()
	select {
	case <-all:
	case <-r.Clock.After(anewWithin): // as it was seen last will do
	case <-ctx.Done():
	}
}

// besideLimit bounds what is done beside.
const besideLimit = 30 * time.Second

// beside does something without being waited for, while the site runs, and tells whether it does.
func (r *Recovery) beside(f func(ctx context.Context)) bool {
	r.mu.Lock()
	defer r.mu.Unlock()
	ctx := r.ctx
	if ctx == nil {
		return false // it is done at the next start, or with the next beat
	}
	r.wg.Go(func() {
		ctx, cancel := context.WithTimeout(ctx, besideLimit)
		defer cancel()
		f(ctx)
	})
	return true
}

// pass goes on to another state, unless somebody has decided otherwise meanwhile.
func (r *Recovery) pass(ctx context.Context, s *failing, f failover.Facts, to failover.State) error {
	from := f.State
	rec, _ := look(r, s)
	left := r.Landings.OfRecovery(rec.ID)
	if to == failover.Open || from == failover.Starting {
		r.shoot(ctx, rec.ID, left)
	}
	ms, stands := r.stands(ctx, rec.ID, left)
	var final *points.Seal
	if to == failover.Starting {
		final = r.final(rec)
	}
	_, was := look(r, s)
	o := r.outcome(was, ms)
	summary := o.Summary(len(was.Stood), r.Site, was.RTO)
	if to == failover.Over {
		if err := r.conclude(ctx, s, o, summary); err != nil {
			return fmt.Errorf("keep the evidence: %w", err)
		}
	}
	now := r.Clock.Now().UTC()
	return amend(ctx, r, s, func(rec *records.Recovery, d *passage) (string, error) {
		if d.said(&f); failover.Next(f) != to {
			return "", errAgain
		}
		rec.State, d.Error = string(to), ""
		d.Entered = append(d.Entered, entered{to, now})
		switch to {
		case failover.Stopping:
			d.OffAt = time.Time{}
			if from == failover.Sealing { // somebody has started one again
				d.AskedDown = nil
				return "A machine at " + d.Home + " runs again: they are shut down once more.", nil
			}
			return "Little is left to copy. The machines at " + d.Home + " are shut down.", nil
		case failover.Sealing:
			return "All machines at " + d.Home + " are off. What they wrote last is copied.", nil
		case failover.Turning:
			return "What they wrote last is here. " + d.Home + " gives the group away.", nil
		case failover.Starting:
			if from == failover.Turning {
				d.TurnedAt = now
			}
			if final != nil && d.Planned && from == failover.Turning {
				d.point(rec, final, "the last, captured after all machines at "+d.Home+" were off")
			}
			d.Made, d.Replace, d.BeganAt, d.OpenAt, d.Untraced = false, nil, now, time.Time{}, nil
			d.anew()
			d.lose(rec)
			return fmt.Sprintf("Its machines are made from point %d.", d.PointNumber), nil
		case failover.Open:
			d.OpenAt = now
			if d.Took, _ = failover.Judge(d.BeganAt, ms); d.Took > 0 {
				d.Took = max(d.Took, d.judged().Ended.Sub(d.BeganAt))
			}
			return "All of its machines have started and are checked. Accept it, or back out.", nil
		case failover.Replacing:
			d.Untraced = stands
			return "Its machines are removed, and made anew.", nil
		case failover.Accepting:
			d.Stood = stands
			return "It waits until all disks are local.", nil
		case failover.Clearing:
			d.Untraced = stands
			return "Its machines are removed.", nil
		case failover.Returning:
			return "The group is given back to " + d.Home + ".", nil
		case failover.Over:
			rec.Result, d.Summary = string(o.Result), summary
			if o.Result == failover.BackedOut && !d.Told {
				return d.Summary + " " + d.Home + " has not heard of it yet: it is told when it can be reached.", nil
			}
			return d.Summary, nil
		}
		return "", nil
	})
}

// outcome sums a failover up that is about to end.
func (r *Recovery) outcome(d passage, ms []drill.Machine) failover.Outcome {
	if d.BackOut != nil {
		return failover.Outcome{Result: failover.BackedOut}
	}
	if len(ms) == 0 {
		for _, x := range d.Stood {
			ms = append(ms, x.Machine)
		}
	}
	_, unready := failover.Judge(d.BeganAt, ms)
	for _, x := range d.Progress {
		if x.State == runbook.Failed || x.State == runbook.Skipped {
			unready = append(unready, "the step "+x.Name)
		}
	}
	return failover.Outcome{Result: failover.Accepted, Took: d.Took, Loses: d.Lost, Unready: unready}
}

// final is the newest point of a group.
func (r *Recovery) final(rec records.Recovery) (out *points.Seal) {
	for _, x := range r.Keeper.Seals(rec.GroupID) {
		if out == nil || x.CaptureAt.After(out.CaptureAt) {
			out = x
		}
	}
	return out
}

// point has it start from a point.
func (d *passage) point(rec *records.Recovery, x *points.Seal, how string) {
	rec.Point = x.Point
	d.PointNumber, d.CaptureAt, d.Captured, d.Consistency, d.Chosen = x.Number, x.CaptureAt, exposure.Shift(x.CaptureAt, x.HomeAhead), x.Consistency, how
}

// lose reckons what is lost in time.
func (d *passage) lose(rec *records.Recovery) {
	if d.Planned {
		d.Lost = max(0, d.OffAt.Sub(d.CaptureAt))
		return
	}
	d.Lost = max(0, rec.StartedAt.Sub(d.Captured))
}

// toldWithin is how long home is tried to be told that it is home again, where machines are to
// be started there.
const toldWithin = 2 * time.Minute

// giveBack has the group's home be where it was.
func (r *Recovery) giveBack(ctx context.Context, s *failing, g directory.Record, rec records.Recovery, d passage, f *failover.Facts) error {
	if g.Direction == directory.Ended { // there is nobody to give it to
		_, err := r.Groups.Turn(ctx, actor.System(), g.ID, func(x *directory.Record) (string, error) {
			if !x.Held() {
				return "", nil
			}
			x.Turned = ""
			return fmt.Sprintf("%s runs at %s no more", x.Spec.Name, r.Site), nil
		})
		f.Returned = err == nil
		return err
	}
	if d.Returned == 0 {
		now, err := r.Groups.Turn(ctx, actor.System(), g.ID, func(x *directory.Record) (string, error) {
			if x.Turned == directory.Returned {
				return "", nil
			}
			is, grant, err := x.Role().Return()
			if err != nil {
				return "", fmt.Errorf("give the group back: %w", err)
			}
			x.Turned, x.Term = directory.Returned, is.Term
			return fmt.Sprintf("%s was given back to %s, for term %d", x.Spec.Name, x.HomeName, grant.Term), nil
		})
		if err != nil {
			return err
		}
		return r.note(ctx, s, func(d *passage) { d.Returned = now.Term; d.ToldBy = new(r.Clock.Now().UTC()) })
	}
	if !d.Told {
		_, err := r.ask(ctx, g, rec.StartedBy, link.HandOver{Action: link.Resume, Term: d.Returned, Machines: d.WereOn})
		if err == nil {
			return r.note(ctx, s, func(d *passage) { d.Told = true })
		}
		if len(d.WereOn) > 0 && d.ToldBy != nil && r.Clock.Now().Sub(*d.ToldBy) < toldWithin {
			return err
		}
	}
	f.Returned = true
	return nil
}

// settle makes this site the home of a group for good.
func (r *Recovery) settle(ctx context.Context, s *failing, g directory.Record, rec records.Recovery, d passage) error {
	if g.Home() {
		return r.ensureBack(ctx, g, rec, d) // a crash came after it
	}
	if !d.Reckoned {
		back, err := r.WayBack(ctx, g.ID)
		if err != nil {
			r.Log.Warn("fill the berth for the way back", "group", g.Spec.Name, "err", err)
		}
		return r.note(ctx, s, func(d *passage) { d.WayBack, d.Reckoned = back, true })
	}
	if err := r.endOld(ctx, s, d); err != nil {
		return err
	}
	spec, err := r.here(g, rec, d)
	if err != nil {
		return err
	}
	_, err = r.Groups.Turn(ctx, actor.System(), g.ID, func(x *directory.Record) (string, error) {
		if x.Home() {
			return "", nil
		}
		if !x.Held() {
			return "", fmt.Errorf("the group is not held here any more")
		}
		spec.Destinations = []group.Destination{{SiteID: x.HomeID, Site: x.HomeName}}
		x.RecoveryName = x.HomeName
		x.Direction, x.Turned, x.HomeID, x.HomeName, x.Spec, x.Former = directory.Out, "", r.SiteID, r.Site, spec, nil
		x.Revision++
		return fmt.Sprintf("%s is home at %s: the failover was accepted by %s", x.Spec.Name, r.Site, d.Accept.By), nil
	})
	if err == nil {
		r.beat(g.Link)
		err = r.ensureBack(ctx, g, rec, d)
	}
	return err
}

// here is the specification of a group that is home here from now on: of the machines that
// were started here, on the platform where they run.
func (r *Recovery) here(g directory.Record, rec records.Recovery, d passage) (group.Spec, error) {
	spec := g.Spec.Clone()
	spec.Machines, spec.Rule, spec.Pause, spec.Tier, spec.Platform = nil, nil, nil, nil, ""
	for _, x := range r.Landings.OfRecovery(rec.ID) {
		if x.Lost {
			continue
		}
		p, _ := r.Inventory.Get(x.Platform)
		m, ok := p.Machine(x.ID)
		if !ok {
			return spec, fmt.Errorf("%s is not seen on %s yet", x.Name, p.Name)
		}
		spec.Platform = x.Platform
		now := inventory.Chosen(m)
		for _, was := range g.Spec.Machines {
			if strings.EqualFold(was.Name, x.Home) {
				now.Rest = was.Rest
				for i := range now.Disks {
					for _, k := range was.Disks {
						if k.Key == now.Disks[i].Key {
							now.Disks[i].LeftOut = k.LeftOut
						}
					}
				}
			}
		}
		spec.Machines = append(spec.Machines, now)
	}
	if len(spec.Machines) == 0 {
		return spec, errors.New("none of its machines is left: back out, or choose another point")
	}
	if d.Alone {
		spec.Pause = &group.Pause{By: d.Accept.By, Reason: "It runs unprotected since a failover was accepted.", Since: r.Clock.Now().UTC()}
	}
	return spec, nil
}
