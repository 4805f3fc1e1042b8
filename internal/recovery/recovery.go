// Package recovery tries recoveries: a drill lets machines of a point arrive in isolated
// networks, checks them, keeps what came of it, and removes every trace. Each is an operation,
// and so goes on after a restart.
package recovery

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"log/slog"
	"slices"
	"sync"
	"time"

	"kestrel/internal/api"
	"kestrel/internal/audit"
	"kestrel/internal/clock"
	"kestrel/internal/core/actor"
	"kestrel/internal/core/drill"
	"kestrel/internal/core/words"
	"kestrel/internal/directory"
	"kestrel/internal/events"
	"kestrel/internal/inventory"
	"kestrel/internal/keeper"
	"kestrel/internal/landing"
	"kestrel/internal/operation"
	"kestrel/internal/problem"
	"kestrel/internal/records"
)

// Usual is how often a service looks at a drill.
const Usual = 500 * time.Millisecond

// Kind is that of the operations, and of the records.
const Kind = "drill"

// Records is where drills are kept; *records.DB is one.
type Records interface {
	Recoveries(ctx context.Context, since time.Time) ([]records.Recovery, error)
	AddRecovery(ctx context.Context, r records.Recovery) error
	SaveRecovery(ctx context.Context, r records.Recovery) error
	PutScreen(ctx context.Context, recovery, machine string, png []byte) error
	Screen(ctx context.Context, recovery, machine string) ([]byte, error)
	AddEvidence(ctx context.Context, e records.Evidence) error
	AllEvidence(ctx context.Context) ([]records.Evidence, error)
	EvidenceNumber(ctx context.Context, number int64) (records.Evidence, error)
	DrillRounds(ctx context.Context) ([]records.DrillRound, error)
	AddDrillRound(ctx context.Context, r records.DrillRound) error
	BeginDrillRound(ctx context.Context, r records.DrillRound) error
	SaveDrillRound(ctx context.Context, r records.DrillRound) error
	DeleteDrillRound(ctx context.Context, id string) error
}

// Landings is by whom machines are made; *landing.Landings is it.
type Landings interface {
	Plan(ctx context.Context, who actor.Actor, in api.NewLanding) (machines []landing.Planned, open []string, err error)
	Drill(ctx context.Context, who actor.Actor, in api.NewLanding, id string) error
	OfDrill(id string) []landing.Standing
	Screen(ctx context.Context, id string) ([]byte, error)
	Remove(ctx context.Context, who actor.Actor, id string) error
}

// Config is what it is made of.
type Config struct {
	SiteID string
	Site   string // name of this site
	// Sign makes a signed file of what it is given, with this site's key, of which Fingerprint
	// is told to people.
	Sign        func(payload []byte) ([]byte, error)
	Fingerprint string
	DB          Records
	Groups      *directory.Directory
	Keeper      *keeper.Keeper
	Inventory   *inventory.Inventory
	Landings    Landings
	Operations  *operation.Operations
	Trail       *audit.Trail
	Clock       clock.Clock
	Hub         *events.Hub
	Log         *slog.Logger
	Every       time.Duration // between two looks at a drill
}

// Recovery is that of one site.
type Recovery struct {
	Config

	mu   sync.Mutex
	byID map[string]*state
}

// state is one drill.
type state struct {
	rec    records.Recovery
	detail detail
}

// detail is what its record holds beside its columns.
type detail struct {
	Home        string    `json:"home"`
	PointNumber int64     `json:"pointNumber"`
	CaptureAt   time.Time `json:"captureAt"`
	Consistency string    `json:"consistency"`
	Chosen      string    `json:"chosen"` // how the point was, in words
	// Machines are the IDs of those that it is of; nil is all.
	Machines []string      `json:"machines,omitempty"`
	NotWhole bool          `json:"notWhole,omitempty"`
	Until    *time.Time    `json:"until,omitempty"`
	Alone    bool          `json:"alone,omitempty"`
	Round    string        `json:"round,omitempty"`  // that began it; its ID
	Reason   string        `json:"reason,omitempty"` // why in networks that are not isolated
	Open     []string      `json:"open,omitempty"`   // why those are not
	RTO      time.Duration `json:"rto,omitempty"`
	Made     bool          `json:"made,omitempty"`
	// Points is how many points the group had here when it began, of the newest the capture.
	NewestAt time.Time `json:"newestAt"`
	OpenAt   time.Time `json:"openAt"`
	// Ended is who ended it, with what they say.
	Ended *ending `json:"ended,omitempty"`
	Steps []step  `json:"steps,omitempty"`
	Error string  `json:"error,omitempty"`
	// What came of it, from when it is being cleared.
	Stood    []stood       `json:"stood,omitempty"`
	Why      []string      `json:"why,omitempty"`
	Took     time.Duration `json:"took,omitempty"`
	Summary  string        `json:"summary,omitempty"`
	Arrived  int           `json:"arrived"`            // points meanwhile
	Untraced bool          `json:"untraced,omitempty"` // nothing was left, and it was looked for
}

type ending struct {
	By     string    `json:"by"`
	At     time.Time `json:"at"`
	Passed *bool     `json:"passed,omitempty"`
	Note   string    `json:"note,omitempty"`
}

type step struct {
	At   time.Time `json:"at"`
	Text string    `json:"text"`
}

// stood is how a machine stood when the drill ended.
type stood struct {
	drill.Machine
	ID       string   `json:"id"` // of the landing
	Platform string   `json:"platform"`
	Home     string   `json:"home"`
	Checked  string   `json:"checked,omitempty"`
	Came     string   `json:"came,omitempty"`
	Networks []string `json:"networks,omitempty"`
	Screen   bool     `json:"screen,omitempty"`
}

// maxSteps bounds what is told of one drill.
const maxSteps = 400

// remembered is how far back drills are in memory.
const remembered = 3 * 366 * 24 * time.Hour

// Open reads the drills.
func Open(ctx context.Context, cfg Config) (*Recovery, error) {
	r := &Recovery{Config: cfg, byID: map[string]*state{}}
	recs, err := cfg.DB.Recoveries(ctx, cfg.Clock.Now().Add(-remembered))
	if err != nil {
		return nil, err
	}
	for _, x := range recs {
		s := &state{rec: x}
		if err := json.Unmarshal(x.Detail, &s.detail); err != nil {
			return nil, fmt.Errorf("record of drill %s: %w", x.ID, err)
		}
		r.byID[x.ID] = s
	}
	cfg.Operations.Register(operation.Kind{Name: Kind, Run: r.run, Keep: "A drill ends with its clean-up. To end it, end the drill."})
	return r, nil
}

// Resume sees to it that every drill that is open is driven.
func (r *Recovery) Resume(ctx context.Context) error {
	r.mu.Lock()
	var open []*state
	for _, s := range r.byID {
		if drill.State(s.rec.State) != drill.Over {
			open = append(open, s)
		}
	}
	r.mu.Unlock()
	var errs []error
	for _, s := range open {
		errs = append(errs, r.Operations.Ensure(ctx, s.rec.ID, Kind, s.rec.GroupName, input{s.rec.ID}))
	}
	return errors.Join(errs...)
}

// input is what the operation of a drill is asked for with.
type input struct {
	Drill string `json:"drill"` // ID
}

// run drives a drill until nothing of it is left.
func (r *Recovery) run(ctx context.Context, w *operation.Work) (string, error) {
	var in input
	if err := w.Input(&in); err != nil {
		return "", err
	}
	r.mu.Lock()
	s := r.byID[in.Drill]
	r.mu.Unlock()
	if s == nil {
		return "The drill is not known here.", nil
	}
	for {
		over, err := r.look(ctx, s)
		if ctx.Err() != nil {
			return "", ctx.Err()
		}
		if over {
			r.mu.Lock()
			defer r.mu.Unlock()
			return s.detail.Summary, nil
		}
		if err != nil {
			r.trouble(ctx, s, words.Upper(err.Error()))
		}
		if err := clock.Sleep(ctx, r.Clock, r.Every); err != nil {
			return "", err
		}
	}
}

// look takes a drill one step further.
func (r *Recovery) look(ctx context.Context, s *state) (over bool, err error) {
	r.mu.Lock()
	state, d := drill.State(s.rec.State), s.detail
	r.mu.Unlock()
	if state == drill.Over {
		return true, nil
	}
	if state == drill.Starting && !d.Made && d.Ended == nil {
		if err = r.make(ctx, s); err != nil {
			err = fmt.Errorf("make its machines: %w", err)
		}
	}
	left := r.Landings.OfDrill(s.rec.ID)
	if state == drill.Clearing {
		if err := r.clear(ctx, left); err != nil {
			return false, err
		}
		left = r.Landings.OfDrill(s.rec.ID)
	}
	traces, known := r.traces(d.Stood)
	r.mu.Lock()
	f := drill.Facts{Now: r.Clock.Now(), State: state, Began: s.rec.StartedAt, Made: s.detail.Made, Asked: s.detail.Ended != nil, Alone: s.detail.Alone, Left: len(left) + traces, Known: known}
	if s.detail.Until != nil {
		f.Until = *s.detail.Until
	}
	r.mu.Unlock()
	for _, x := range left {
		f.Machines = append(f.Machines, x.Machine)
	}
	next := drill.Next(f)
	if next == state {
		return false, err
	}
	switch next {
	case drill.Open:
		r.shoot(ctx, s, left)
		r.enter(ctx, s, next, func(d *detail) { d.OpenAt, d.Error = r.Clock.Now().UTC(), "" }, "All of its machines have started and are checked.")
	case drill.Clearing:
		r.judge(ctx, s, left)
	case drill.Over:
		if err := r.testify(ctx, s); err != nil {
			return false, fmt.Errorf("keep the evidence: %w", err)
		}
		r.enter(ctx, s, next, func(d *detail) { d.Untraced, d.Error = true, "" }, "Nothing of it is left.")
		return true, nil
	}
	return false, nil
}

// make asks for its machines.
func (r *Recovery) make(ctx context.Context, s *state) error {
	r.mu.Lock()
	in := landingOf(s.rec.Point, s.detail.Machines, s.detail.NotWhole)
	r.mu.Unlock()
	if err := r.Landings.Drill(ctx, actor.System(), in, s.rec.ID); err != nil {
		return err
	}
	r.enter(ctx, s, drill.Starting, func(d *detail) { d.Made, d.Error = true, "" }, "Its machines are being made.")
	return nil
}

// shoot keeps what machines show. One that shows nothing is no fault.
func (r *Recovery) shoot(ctx context.Context, s *state, all []landing.Standing) {
	for _, x := range all {
		png, err := r.Landings.Screen(ctx, x.ID)
		if err == nil {
			err = r.DB.PutScreen(ctx, s.rec.ID, x.Name, png)
		}
		if err != nil {
			r.Log.Info("no picture of a machine in a drill", "machine", x.Name, "err", err)
		}
	}
}

// judge notes what came of it before it is cleared.
func (r *Recovery) judge(ctx context.Context, s *state, all []landing.Standing) {
	r.mu.Lock()
	opened := !s.detail.OpenAt.IsZero()
	r.mu.Unlock()
	if !opened {
		r.shoot(ctx, s, all)
	}
	var ms []drill.Machine
	var stands []stood
	for _, x := range all {
		_, err := r.DB.Screen(ctx, s.rec.ID, x.Name)
		ms = append(ms, x.Machine)
		stands = append(stands, stood{Machine: x.Machine, ID: x.ID, Platform: x.Platform, Home: x.Home, Checked: x.Checked, Came: x.Came, Networks: x.Networks, Screen: err == nil})
	}
	arrived := 0
	for _, p := range r.Keeper.Seals(s.rec.GroupID) {
		if p.CaptureAt.After(s.detail.NewestAt) {
			arrived++
		}
	}
	var verdict *bool
	r.mu.Lock()
	if e := s.detail.Ended; e != nil {
		verdict = e.Passed
	}
	o := drill.Judge(s.rec.StartedAt, ms, verdict)
	s.rec.Result = string(o.Result)
	r.mu.Unlock()
	text := o.Summary(len(ms), s.detail.RTO)
	r.enter(ctx, s, drill.Clearing, func(d *detail) {
		d.Stood, d.Why, d.Took, d.Summary, d.Arrived = stands, o.Why, o.Took, text, arrived
	}, text+" What it made is removed.")
	r.Trail.Note(ctx, actor.System(), object(s), "The drill of %s, from point %d: %s", s.rec.GroupName, s.detail.PointNumber, text)
}

// clear removes its machines.
func (r *Recovery) clear(ctx context.Context, left []landing.Standing) error {
	var errs []error
	for _, x := range left {
		errs = append(errs, r.Landings.Remove(ctx, actor.System(), x.ID))
	}
	return errors.Join(errs...)
}

// traces counts the machines that their platforms still show, if these answer.
func (r *Recovery) traces(all []stood) (n int, known bool) {
	known = true
	for _, x := range all {
		p, ok := r.Inventory.Get(x.Platform)
		if !ok {
			continue // it was taken away from this site, which it could not be with one of its machines here
		}
		known = known && p.Up
		if _, there := p.Machine(x.ID); there {
			n++
		}
	}
	return n, known
}

// trouble notes what holds a drill up, once.
func (r *Recovery) trouble(ctx context.Context, s *state, text string) {
	r.mu.Lock()
	same := s.detail.Error == text
	r.mu.Unlock()
	if !same {
		r.enter(ctx, s, "", func(d *detail) { d.Error = text }, text)
	}
}

// enter changes a drill, to another state if one is given, and keeps it.
func (r *Recovery) enter(ctx context.Context, s *state, to drill.State, change func(d *detail), text string) {
	now := r.Clock.Now().UTC()
	r.mu.Lock()
	change(&s.detail)
	if text != "" && len(s.detail.Steps) < maxSteps {
		s.detail.Steps = append(slices.Clone(s.detail.Steps), step{now, text})
	}
	if to != "" {
		s.rec.State = string(to)
	}
	if to == drill.Over {
		s.rec.EndedAt = &now
	}
	b, err := json.Marshal(s.detail)
	if err != nil {
		panic(err) // plain structs always marshal
	}
	s.rec.Detail = b
	rec := s.rec
	r.mu.Unlock()
	if err := r.DB.SaveRecovery(context.WithoutCancel(ctx), rec); err != nil {
		r.Log.Error("save drill", "group", s.rec.GroupName, "err", err)
	}
	r.Hub.Send(events.Event{Type: "drill", ID: s.rec.ID})
}

func object(s *state) audit.Object {
	return audit.Object{Kind: "group", Name: s.rec.GroupName, ID: s.rec.GroupID}
}

// find resolves an ID, or a group's name or ID to its open drill, or its newest.
func (r *Recovery) find(text string) (*state, error) {
	r.mu.Lock()
	defer r.mu.Unlock()
	if s := r.byID[text]; s != nil {
		return s, nil
	}
	id := text
	if g, err := r.Groups.Find(text); err == nil {
		id = g.ID
	}
	var best *state
	for _, s := range r.byID {
		if s.rec.GroupID == id && (best == nil || s.rec.StartedAt.After(best.rec.StartedAt)) {
			best = s
		}
	}
	if best == nil {
		return nil, problem.NotFound("drill", text)
	}
	return best, nil
}

// GroupOf tells of which group a drill is.
func (r *Recovery) GroupOf(text string) (string, error) {
	s, err := r.find(text)
	if err != nil {
		return "", err
	}
	return s.rec.GroupID, nil
}

// Last is when the newest drill of a group ended that passed; zero if none did.
func (r *Recovery) Last(group string) time.Time {
	r.mu.Lock()
	defer r.mu.Unlock()
	var last time.Time
	for _, s := range r.byID {
		if s.rec.GroupID == group && s.rec.Result == string(drill.Passed) && s.rec.StartedAt.After(last) {
			last = s.rec.StartedAt
		}
	}
	return last
}

// Proved tells when a drill of a point passed; zero if none did.
func (r *Recovery) Proved(point string) time.Time {
	r.mu.Lock()
	defer r.mu.Unlock()
	var last time.Time
	for _, s := range r.byID {
		if s.rec.Point == point && s.rec.Result == string(drill.Passed) && s.rec.StartedAt.After(last) {
			last = s.rec.StartedAt
		}
	}
	return last
}

// InUse tells whether a drill that is open is made from a point.
func (r *Recovery) InUse(point string) bool {
	r.mu.Lock()
	defer r.mu.Unlock()
	for _, s := range r.byID {
		if s.rec.Point == point && drill.State(s.rec.State) != drill.Over {
			return true
		}
	}
	return false
}

// Due is when a drill of a group that comes here falls due, and when the last passed; zero
// where there is none.
func (r *Recovery) Due(g directory.Record) (last, due time.Time) {
	last = r.Last(g.ID)
	return last, drill.Due(last, g.CreatedAt, g.Spec.DrillEvery)
}
