// Package recovery tries recoveries: a drill lets machines of a point arrive in isolated
// networks, checks them, keeps what came of it, and removes every trace. Each is an operation,
// and so goes on after a restart.
package recovery

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"golang.org/x/sync/errgroup"
	"log/slog"
	"net"
	"sync"
	"time"

	"kestrel/internal/api"
	"kestrel/internal/audit"
	"kestrel/internal/clock"
	"kestrel/internal/core/actor"
	"kestrel/internal/core/drill"
	"kestrel/internal/core/runbook"
	"kestrel/internal/cycle"
	"kestrel/internal/directory"
	"kestrel/internal/events"
	"kestrel/internal/inventory"
	"kestrel/internal/keeper"
	"kestrel/internal/landing"
	"kestrel/internal/mover"
	"kestrel/internal/operation"
	"kestrel/internal/peering"
	"kestrel/internal/platform"
	"kestrel/internal/points"
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
	Plan(ctx context.Context, who actor.Actor, in api.NewLanding, old []landing.Old) (machines []landing.Planned, open []string, err error)
	Recover(ctx context.Context, who actor.Actor, in api.NewLanding, id string, old []landing.Old) error
	OfRecovery(id string) []landing.Standing
	Screen(ctx context.Context, id string) ([]byte, error)
	Remove(ctx context.Context, who actor.Actor, id string) error
	Skip(ctx context.Context, who actor.Actor, id, reason string) error
	Release(ctx context.Context, who actor.Actor, id string) error
	Up(recovery string, wave int) bool
	Driver(id string) (platform.Lander, error)
}

// Names has DNS servers change what names say; *nameserver.Servers is one.
type Names interface {
	Look(ctx context.Context, server, name, kind string) ([]string, error)
	Set(ctx context.Context, server, name, kind string, say []string) error
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
	Peering     *peering.Peering
	Mover       *mover.Mover
	// Steps are those of a group's runbook, by its ID.
	Steps func(group string) []runbook.Step
	// Needs are the names of groups that have to be up before one starts, by its ID.
	Needs func(group string) []string
	// WayBack is the berth by which a group's machines return to where they are home, and
	// FillThere has the other site take it for somebody once this one is their home, unless it
	// has one.
	WayBack   func(ctx context.Context, group string) (json.RawMessage, error)
	FillThere func(ctx context.Context, group, who string, berth json.RawMessage) error
	// NamesFreed hears that machines of a group are gone here, whose names others may have.
	NamesFreed func(ctx context.Context, who actor.Actor, group string, names []string) error
	// Commands runs commands of this host, and Dial connects to what a step looks at.
	Commands landing.Commands
	Names    Names
	Dial     func(ctx context.Context, network, address string) (net.Conn, error)
	// Tell has people told of something by channels of these names. The ID makes sure that
	// they are told once.
	Tell func(ctx context.Context, channels []string, id, title string, lines []string) error
	// Read reads disks as a cycle does, and Owner marks the checkpoints that it takes.
	Read       Pass
	Owner      string
	Operations *operation.Operations
	Trail      *audit.Trail
	Clock      clock.Clock
	Hub        *events.Hub
	Log        *slog.Logger
	Every      time.Duration // between two looks at a drill
}

// Pass reads and seals as a cycle does; cycle.Run is one.
type Pass func(ctx context.Context, d platform.Driver, to cycle.Remote, clk clock.Clock, job cycle.Job, told func(cycle.Progress)) (*points.Seal, error)

// Recovery is that of one site.
type Recovery struct {
	Config

	mu         sync.Mutex
	byID       map[string]*state   // drills
	failovers  map[string]*failing // failovers
	flotillas  map[string]*sailing
	performing map[string]*performing // steps that are being done, by the IDs of what they are of
	wg         sync.WaitGroup         // of what is done beside, without being waited for
	ctx        context.Context        // of Run; nil before it
	// preparing says which groups that were home here are being read, as they were left, before
	// a cycle of them is taken; by their IDs.
	preparing map[string]bool
}

// state is one drill.
type state = kept[detail]

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
	tale
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
	Keep   bool      `json:"keep,omitempty"` // its machines
}

// keeps tells whether a drill's machines stay when it is over.
func (d *detail) keeps() bool { return d.Ended != nil && d.Ended.Keep }

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

// remembered is how far back drills are in memory.
const remembered = 3 * 366 * 24 * time.Hour

// Open reads the drills.
func Open(ctx context.Context, cfg Config) (*Recovery, error) {
	r := &Recovery{Config: cfg, byID: map[string]*state{}, failovers: map[string]*failing{}, flotillas: map[string]*sailing{}, performing: map[string]*performing{}, preparing: map[string]bool{}}
	recs, err := cfg.DB.Recoveries(ctx, cfg.Clock.Now().Add(-remembered))
	if err != nil {
		return nil, err
	}
	for _, x := range recs {
		if x.Kind == FlotillaKind {
			s, err := read[squad](x)
			if err != nil {
				return nil, err
			}
			r.flotillas[x.ID] = s
			continue
		}
		if x.Kind == FailoverKind {
			s, err := read[passage](x)
			if err != nil {
				return nil, err
			}
			r.failovers[x.ID] = s
			continue
		}
		s, err := read[detail](x)
		if err != nil {
			return nil, err
		}
		r.byID[x.ID] = s
	}
	cfg.Operations.Register(operation.Kind{Name: Kind, Run: r.run, Keep: "A drill ends with its clean-up. To end it, end the drill."})
	cfg.Operations.Register(operation.Kind{Name: FailoverKind, Run: r.runFailover, Keep: "A failover ends when it is accepted or backed out."})
	cfg.Operations.Register(operation.Kind{Name: FlotillaKind, Run: r.runFlotilla, Keep: "It goes on until each of its groups is decided upon. To begin no more, stop it."})
	cfg.Operations.Register(operation.Kind{Name: baseKind, Run: r.runBase})
	cfg.Operations.Register(operation.Kind{Name: backKind, Run: r.runBack})
	cfg.Groups.Watch(r.changed)
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
	var passing []*failing
	for _, s := range r.failovers {
		if s.rec.State != over {
			passing = append(passing, s)
		}
	}
	var sailing []records.Recovery
	for _, s := range r.flotillas {
		if s.rec.State != over {
			sailing = append(sailing, s.rec)
		}
	}
	r.mu.Unlock()
	var errs []error
	for _, x := range sailing {
		errs = append(errs, r.Operations.Ensure(ctx, x.ID, FlotillaKind, x.GroupName, input{x.ID}))
	}
	for _, s := range open {
		errs = append(errs, r.Operations.Ensure(ctx, s.rec.ID, Kind, s.rec.GroupName, input{s.rec.ID}))
	}
	for _, s := range passing {
		errs = append(errs, r.Operations.Ensure(ctx, s.rec.ID, FailoverKind, s.rec.GroupName, input{s.rec.ID}))
	}
	for _, g := range r.Groups.All() {
		if g.Direction == directory.In && len(g.Former) > 0 {
			errs = append(errs, r.readBase(ctx, g))
		}
	}
	return errors.Join(errs...)
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
	if err := drive(ctx, r, s, func(ctx context.Context) error { return r.further(ctx, s) }); err != nil {
		return "", err
	}
	_, d := look(r, s)
	return d.Summary, nil
}

// further takes a drill one step further.
func (r *Recovery) further(ctx context.Context, s *state) (err error) {
	rec, d := look(r, s)
	state := drill.State(rec.State)
	if state == drill.Starting && !d.Made && d.Ended == nil {
		if err = r.make(ctx, s); err != nil {
			err = fmt.Errorf("make its machines: %w", err)
		}
	}
	if state == drill.Starting || state == drill.Open {
		m := manner[*detail]{drill: true, number: d.PointNumber, made: d.Made, held: d.Ended != nil, alone: d.Alone, stop: func(d *detail, by string, at time.Time) {
			d.Ended = &ending{By: by, At: at}
		}}
		if stepped := doSteps(ctx, r, s, m); !errors.Is(stepped, errAgain) {
			err = errors.Join(err, stepped)
		}
		_, d = look(r, s)
	} else {
		r.halt(rec.ID)
	}
	left := r.Landings.OfRecovery(rec.ID)
	if state == drill.Clearing {
		if err := r.clear(ctx, left, d.keeps()); err != nil {
			return err
		}
		left = r.Landings.OfRecovery(rec.ID)
	}
	traces, known := 0, true
	if !d.keeps() {
		traces, known = r.traces(d.Stood)
	}
	_, d = look(r, s)
	f := drill.Facts{Now: r.Clock.Now(), State: state, Began: rec.StartedAt, Made: d.Made, Asked: d.Ended != nil, Alone: d.Alone, Stepping: d.stepping(), Left: len(left) + traces, Known: known}
	if d.Until != nil {
		f.Until = *d.Until
	}
	for _, x := range left {
		f.Machines = append(f.Machines, x.Machine)
	}
	next := drill.Next(f)
	if next == state {
		return err
	}
	switch next {
	case drill.Open:
		r.shoot(ctx, rec.ID, left)
		return r.enter(ctx, s, next, func(d *detail) { d.OpenAt, d.Error = r.Clock.Now().UTC(), "" }, "All of its machines have started and are checked.")
	case drill.Clearing:
		return r.judge(ctx, s, left)
	case drill.Over:
		if err := r.testify(ctx, s); err != nil {
			return fmt.Errorf("keep the evidence: %w", err)
		}
		text := "Nothing of it is left."
		if d.keeps() {
			text = "Its machines were kept."
		}
		return r.enter(ctx, s, next, func(d *detail) { d.Untraced, d.Error = !d.keeps(), "" }, text)
	}
	return nil
}

// make asks for its machines.
func (r *Recovery) make(ctx context.Context, s *state) error {
	rec, d := look(r, s)
	r.lookAnew(ctx)
	if err := r.Landings.Recover(ctx, actor.System(), landingOf(rec.Point, d.Machines, d.NotWhole), rec.ID, nil); err != nil {
		return err
	}
	return r.enter(ctx, s, drill.Starting, func(d *detail) { d.Made, d.Error = true, "" }, "Its machines are being made.")
}

const (
	// pictureLimit is how long a picture is waited for: it must not hold a recovery up.
	pictureLimit = 15 * time.Second
	// pictures is how many are taken at a time.
	pictures = 8
)

// shoot keeps what machines show. One that shows nothing is no fault.
func (r *Recovery) shoot(ctx context.Context, id string, all []landing.Standing) {
	var g errgroup.Group
	g.SetLimit(pictures)
	for _, x := range all {
		g.Go(func() error {
			within, cancel := context.WithTimeout(ctx, pictureLimit)
			defer cancel()
			png, err := r.Landings.Screen(within, x.ID)
			if err == nil {
				err = r.DB.PutScreen(ctx, id, x.Name, png)
			}
			if err != nil {
				r.Log.Info("no picture of a machine", "machine", x.Name, "err", err)
			}
			return nil
		})
	}
	_ = g.Wait() // nothing fails
}

// judge notes what came of it before it is cleared.
func (r *Recovery) judge(ctx context.Context, s *state, all []landing.Standing) error {
	rec, was := look(r, s)
	if was.OpenAt.IsZero() {
		r.shoot(ctx, rec.ID, all)
	}
	ms, stands := r.stands(ctx, rec.ID, all)
	arrived := 0
	for _, p := range r.Keeper.Seals(rec.GroupID) {
		if p.CaptureAt.After(was.NewestAt) {
			arrived++
		}
	}
	text := ""
	err := amend(ctx, r, s, func(rec *records.Recovery, d *detail) (string, error) {
		var verdict *bool
		if e := d.Ended; e != nil {
			verdict = e.Passed
		}
		o := drill.Judge(rec.StartedAt, ms, d.judged(), verdict)
		text = o.Summary(len(ms), d.RTO)
		rec.State, rec.Result = string(drill.Clearing), string(o.Result)
		d.Stood, d.Why, d.Took, d.Summary, d.Arrived = stands, o.Why, o.Took, text, arrived
		if d.keeps() {
			return text + " Its machines are kept, with what was changed in them, as landings of their own.", nil
		}
		return text + " What it made is removed.", nil
	})
	if err != nil {
		return err
	}
	r.Trail.Note(ctx, actor.System(), object(rec), "The drill of %s, from point %d: %s", rec.GroupName, was.PointNumber, text)
	return nil
}

// stands is how machines stand, as it is kept.
func (r *Recovery) stands(ctx context.Context, id string, all []landing.Standing) (ms []drill.Machine, out []stood) {
	for _, x := range all {
		_, err := r.DB.Screen(ctx, id, x.Name)
		ms = append(ms, x.Machine)
		out = append(out, stood{Machine: x.Machine, ID: x.ID, Platform: x.Platform, Home: x.Home, Checked: x.Checked, Came: x.Came, Networks: x.Networks, Screen: err == nil})
	}
	return ms, out
}

// clear removes its machines, or lets them stay.
func (r *Recovery) clear(ctx context.Context, left []landing.Standing, keep bool) error {
	var errs []error
	for _, x := range left {
		if keep {
			errs = append(errs, r.Landings.Release(ctx, actor.System(), x.ID))
			continue
		}
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

// enter changes a drill, to another state if one is given.
func (r *Recovery) enter(ctx context.Context, s *state, to drill.State, change func(d *detail), text string) error {
	return amend(ctx, r, s, func(rec *records.Recovery, d *detail) (string, error) {
		change(d)
		if to != "" {
			rec.State = string(to)
		}
		return text, nil
	})
}

func objectOf(g directory.Record) audit.Object {
	return audit.Object{Kind: "group", Name: g.Spec.Name, ID: g.ID}
}

func object(rec records.Recovery) audit.Object {
	return audit.Object{Kind: "group", Name: rec.GroupName, ID: rec.GroupID}
}

// find resolves an ID, or a group's name or ID to its newest drill.
func (r *Recovery) find(text string) (*state, error) { return found(r, r.byID, Kind, text) }

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

// InUse tells whether a drill or failover that is open is made from a point.
func (r *Recovery) InUse(point string) bool {
	r.mu.Lock()
	defer r.mu.Unlock()
	for _, s := range r.byID {
		if s.rec.Point == point && s.rec.State != over {
			return true
		}
	}
	for _, s := range r.failovers {
		if s.rec.Point == point && s.rec.State != over {
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
