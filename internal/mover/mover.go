// Package mover runs the cycles of the groups that are home here: it decides when
// each begins, runs it, and knows how each group stands. Decisions are made in
// core/schedule.
package mover

import (
	"context"
	"encoding/json"
	"fmt"
	"log/slog"
	"slices"
	"sync"
	"time"

	"kestrel/internal/audit"
	"kestrel/internal/clock"
	"kestrel/internal/core/actor"
	"kestrel/internal/core/change"
	"kestrel/internal/core/group"
	"kestrel/internal/core/schedule"
	"kestrel/internal/core/words"
	"kestrel/internal/cycle"
	"kestrel/internal/directory"
	"kestrel/internal/events"
	"kestrel/internal/link"
	"kestrel/internal/platform"
	"kestrel/internal/points"
	"kestrel/internal/problem"
	"kestrel/internal/records"
)

const (
	// UsualCycles is how many cycles of a site run at the same time if nothing is said.
	UsualCycles = 4
	// reckonEvery is how often it is reckoned anew what a group's next cycle will take.
	reckonEvery = 15 * time.Second
	// KeptCycles of a group are in the database, keptAccounts in memory.
	KeptCycles   = 500
	keptAccounts = 24
	// toldAccounts of a group are told at each beat.
	toldAccounts = 6
	// backlogAnswer is how long a platform may take to count one group's changes.
	backlogAnswer = 5 * time.Second
	// otherMachines is why a cycle ends that does not copy what the group is made of
	// any more.
	otherMachines = "its machines changed"
)

// Records is where cycles are kept; *records.DB is one.
type Records interface {
	Replications(ctx context.Context) ([]records.Replication, error)
	ForgetReplication(ctx context.Context, group string) error
	NewestCycles(ctx context.Context, each int) ([]records.Cycle, error)
	Cycles(ctx context.Context, group string, before int64, limit int) ([]records.Cycle, error)
	OpenCycle(ctx context.Context, group string) (records.Cycle, error)
	OpenCycles(ctx context.Context) ([]records.Cycle, error)
	PutCycle(ctx context.Context, c records.Cycle) error
	EndCycle(ctx context.Context, c records.Cycle, r records.Replication) error
	AddTally(ctx context.Context, t records.Tally) error
	Peaks(ctx context.Context, since time.Time) ([]records.Peak, error)
	NoteStart(ctx context.Context, group string, at time.Time) error
	TrimCycles(ctx context.Context, group string, newest, keep int64) error
}

// Source is a platform as cycles need it.
type Source struct {
	Name   string
	Driver platform.Driver
	Up     bool
	Err    error // why it is not up, if that is known
	// Datastores lists the names of those that machines' disks are on; nil knows none.
	Datastores func(machines []group.Machine) []string
}

// Way is a link as cycles need it.
type Way struct {
	Name     string // of the other site
	Reached  bool
	Limit    int64 // bytes a second now; 0 for none
	Encoding points.Encoding
	Remote   func(group string, weight float64) cycle.Remote
	Abandon  func(ctx context.Context, intake string) error
	Ours     func(t time.Time) time.Time // of the other site's clock
}

// Points is what a mover asks of whoever keeps points.
type Points interface {
	// Newest is the capture instant of the newest point at the recovery site, zero if
	// there is none, and whether that site has said that it knows the group.
	Newest(group string) (captured time.Time, known bool)
	// HomePoints is how many points home keeps as well.
	HomePoints(group string) int
	// Numbered is the number of the newest of those, 0 if there is none.
	Numbered(group string) int64
	Shipped(ctx context.Context, r directory.Record, x *points.Seal) error
	WithHome(r directory.Record, far cycle.Remote, base string, failed func(why string)) cycle.Remote
}

// Config is what a mover is made of.
type Config struct {
	// Owner marks this site's checkpoints on a platform.
	Owner   string
	Groups  *directory.Directory
	Records Records
	Points  Points
	Arrived func(ctx context.Context, group string, captured, sealed time.Time) error
	Source  func(platform string) (Source, bool)
	Way     func(link string) (Way, bool)
	// Platforms lists the IDs of all platforms of this site.
	Platforms func() []string
	// Pass runs one cycle; cycle.Run if nil.
	Pass func(ctx context.Context, d platform.Driver, r cycle.Remote, clk clock.Clock, job cycle.Job, report func(cycle.Progress)) (*points.Seal, error)
	// Decide gives what begins now; schedule.Decide if nil.
	Decide func(now time.Time, groups []schedule.Facts, busy schedule.Load) schedule.Decision
	// Limits is how many cycles may run at once.
	Limits schedule.Limits
	// Preparing says why no cycle of a group is taken at the other site yet; empty if it is. Nil
	// is never.
	Preparing func(group string) string
	// Hourly tells how much of a group changes at an instant, as a share of the usual; nil
	// is as usual at all times.
	Hourly func(group string, at time.Time) float64
	// Ended is told of each cycle that has ended; nil is nobody.
	Ended func(r directory.Record, a cycle.Account)
	Trail *audit.Trail
	Clock clock.Clock
	Hub   *events.Hub
	Log   *slog.Logger
	// Pulse is the longest time between two looks at what is due.
	Pulse time.Duration
}

// Mover runs the cycles of one site.
type Mover struct {
	Config

	mu      sync.Mutex
	by      map[string]*state
	ahead   time.Time        // when starts before they fall due were looked for
	outlook schedule.Outlook // as it was seen last
	ctx     context.Context  // of Run; nil before it
	wg      sync.WaitGroup
	kick    chan struct{}
	asking  map[string]bool // platforms that are being asked for backlogs

	deciding []schedule.Facts // used anew at each step
}

// state is how a group stands.
type state struct {
	rep         records.Replication
	run         *running
	askedAt     time.Time
	compareNow  bool // the next cycle reads all of the disks
	ending      bool
	dueSince    time.Time
	peaks       []records.Peak // of hours of the day
	resumedAt   time.Time      // when a pause ended last
	retryAt     time.Time
	failures    int
	failure     string // why the last attempt failed
	backlog     map[string]int64
	backlogOK   bool
	changeRate  float64 // bytes a second, smoothed
	learned     change.Learned
	homeFailure string // why points are not kept at home as well
	accounts    []cycle.Account
	length      time.Duration // expected of the next cycle
	still, work time.Duration // as schedule.Facts has them
	copying     time.Duration // schedule.Facts.Copy
	reckoned    time.Time     // when these were; zero if they are to be
	datastores  []string
	waiting     string // why it is due and does not begin, in words
	spilled     bool
	early       *schedule.Early
	foretold    foretold
	machinesAt  int64 // the revision of the group that last changed its machines
}

// running is a cycle under way.
type running struct {
	cancel   context.CancelFunc
	why      string // of the stop, if it was stopped
	abandon  bool   // it must not go on later
	done     chan struct{}
	rec      records.Cycle
	detail   detail
	savedAt  time.Time
	resumeAt int64 // bytes read when this attempt began
	began    time.Time
	start    string        // why it began
	waited   time.Duration // since it was due, before it began
	missed   int           // starts of the cadence that passed without one
	uses     schedule.Use
	share    float64 // of its link, as a weight
}

// stop ends a cycle where it is; the lock is held.
func (r *running) stop(why string) {
	if r.why == "" {
		r.why = why
	}
	r.cancel()
}

// rate is the bytes read a second in this attempt, and when the rest is done.
func (r *running) rate(now time.Time) (int64, time.Time) {
	p := r.detail.Progress
	d := now.Sub(r.began)
	moved := p.ReadBytes - r.resumeAt
	if d < time.Second/2 || moved <= 0 {
		return 0, time.Time{}
	}
	perSecond := float64(moved) / d.Seconds()
	return int64(perSecond), now.Add(time.Duration(float64(p.TotalBytes-p.ReadBytes) / perSecond * float64(time.Second)))
}

// New makes a mover from what is recorded.
func New(ctx context.Context, cfg Config) (*Mover, error) {
	if cfg.Pass == nil {
		cfg.Pass = cycle.Run
	}
	if cfg.Decide == nil {
		cfg.Decide = schedule.Decide
	}
	m := &Mover{Config: cfg, by: map[string]*state{}, kick: make(chan struct{}, 1), asking: map[string]bool{}}
	reps, err := cfg.Records.Replications(ctx)
	if err != nil {
		return nil, err
	}
	for _, r := range reps {
		m.of(r.GroupID).rep = r
	}
	cycles, err := cfg.Records.NewestCycles(ctx, keptAccounts)
	if err != nil {
		return nil, err
	}
	for _, c := range cycles {
		a, err := accountOf(c)
		if err != nil {
			return nil, err
		}
		s := m.of(c.GroupID)
		s.accounts = append(s.accounts, a)
	}
	if m.Limits == (schedule.Limits{}) {
		m.Limits.Site = UsualCycles
	}
	cfg.Groups.Watch(m.changed)
	return m, nil
}

// of is a group's state; the lock is held, or nobody else is here yet.
func (m *Mover) of(group string) *state {
	s, ok := m.by[group]
	if !ok {
		s = &state{rep: records.Replication{GroupID: group}}
		m.by[group] = s
	}
	return s
}

// changed follows what is decided about groups: a pause stops a cycle where it is,
// other machines end it.
func (m *Mover) changed(c directory.Change) {
	defer m.Wake()
	if c.After == nil {
		m.mu.Lock()
		delete(m.by, c.Before.ID)
		m.mu.Unlock()
		return
	}
	if c.Before == nil {
		return
	}
	if c.Before.Home() && !c.After.Home() {
		m.leave(*c.After)
	}
	if c.Before.Direction == directory.Out && c.After.Direction != directory.Out {
		m.mu.Lock()
		delete(m.by, c.After.ID) // what its cycles came to says nothing of what it is elsewhere
		m.mu.Unlock()
	}
	if !c.After.Home() {
		return
	}
	now := m.Clock.Now()
	m.mu.Lock()
	defer m.mu.Unlock()
	s := m.of(c.After.ID)
	if was, is := c.Before.Spec.PausedAt(now), c.After.Spec.PausedAt(now); was != is {
		s.retryAt, s.dueSince = time.Time{}, time.Time{}
		if !is {
			s.resumedAt = now
		}
		if is && s.run != nil {
			s.run.stop("paused")
		}
	}
	if group.SameMachines(c.Before.Spec, c.After.Spec) {
		return
	}
	s.machinesAt = max(s.machinesAt, c.After.Revision)
	s.learned = change.Learned{} // of other machines
	switch {
	case s.run != nil:
		s.run.stop(otherMachines)
		s.run.abandon = true
	case len(s.accounts) > 0 && s.accounts[0].State == cycle.Waiting:
		s.askedAt, s.retryAt = now, time.Time{} // it is given up, and another begins
	}
}

// leave ends the cycle of a group that is home here no longer: its machines must not be held
// open for one. What its next cycle begins with stays, for it may be home here again.
func (m *Mover) leave(r directory.Record) {
	m.mu.Lock()
	defer m.mu.Unlock()
	s := m.of(r.ID)
	switch {
	case s.run != nil:
		s.run.stop("the group is home elsewhere")
		s.run.abandon = true
	case len(s.accounts) > 0 && s.accounts[0].State == cycle.Waiting:
		s.accounts = slices.Clone(s.accounts)
		s.accounts[0].State = cycle.Failed // as the records have it; its capture goes with the leftovers
	}
}

// Wake has the mover look at what is due now.
func (m *Mover) Wake() {
	select {
	case m.kick <- struct{}{}:
	default:
	}
}

// Run starts cycles as they fall due until ctx ends, and then waits for those under
// way to stop where they are.
func (m *Mover) Run(ctx context.Context) {
	m.mu.Lock()
	m.ctx = ctx
	m.mu.Unlock()
	m.wg.Go(func() { m.measure(ctx) })
	m.wg.Go(func() { m.tidy(ctx) })
	for {
		next := m.step()
		wait := m.Pulse
		if !next.IsZero() {
			wait = min(wait, max(next.Sub(m.Clock.Now()), time.Millisecond))
		}
		select {
		case <-ctx.Done():
			m.wg.Wait()
			return
		case <-m.kick:
		case <-m.Clock.After(wait):
		}
	}
}

// facts are what is known of a group for deciding; the lock is held.
func (m *Mover) facts(r *directory.Record, s *state, now time.Time) schedule.Facts {
	f := schedule.Facts{ID: r.ID, Name: r.Spec.Name, Target: r.Spec.Promise.Target, Cadence: r.Spec.Promise.Cadence, Anchor: r.Anchor,
		Paused: r.Spec.PausedAt(now), Running: s.run != nil || s.ending, AskedAt: s.askedAt, RetryAt: s.retryAt, DueSince: s.dueSince, Length: s.length, Still: s.still, Work: s.work, Copy: s.copying, Weight: r.Spec.Priority.Weight(), Datastores: s.datastores, Spilled: s.spilled, Early: s.early,
		CutOff: len(s.accounts) > 0 && s.accounts[0].State == cycle.Waiting}
	if s.rep.LastStart != nil {
		f.Last = *s.rep.LastStart
	}
	if c := &r.Spec.Promise.Cadence; !f.Last.IsZero() && (!c.Calendar.IsZero() || !c.Quiet.IsZero()) {
		if s.foretold.revision != r.Revision || !s.foretold.last.Equal(f.Last) {
			next, due := c.Next(r.Anchor, f.Last, now)
			s.foretold = foretold{r.Revision, f.Last, schedule.Foretold{At: next, Due: due}}
		}
		at := s.foretold.Foretold // a copy: it is read without the lock
		f.Foretold = &at
	}
	return f
}

// foretold is the start that follows the last one by a revision of a group: it is
// reckoned once, not at each look.
type foretold struct {
	revision int64
	last     time.Time
	schedule.Foretold
}

// looked is what other rooms know of a group that is home here.
type looked struct {
	captured time.Time
	known    bool
	source   Source
	way      Way
	// preparing says why no cycle of it is taken there yet.
	preparing string
}

// look asks other rooms about the groups that are home here. What many groups have
// in common is asked once.
func (m *Mover) look(all []directory.Record) (home []*directory.Record, seen []looked) {
	home, seen = make([]*directory.Record, 0, len(all)), make([]looked, 0, len(all))
	sources, ways := map[string]Source{}, map[string]Way{}
	for i := range all {
		r := &all[i]
		if !r.Home() {
			continue
		}
		src, ok := sources[r.Spec.Platform]
		if !ok {
			src, _ = m.Source(r.Spec.Platform)
			sources[r.Spec.Platform] = src
		}
		way, ok := ways[r.Link]
		if !ok {
			way, _ = m.Way(r.Link)
			ways[r.Link] = way
		}
		captured, known := m.Points.Newest(r.ID)
		x := looked{captured: captured, known: known, source: src, way: way}
		if m.Preparing != nil {
			x.preparing = m.Preparing(r.ID)
		}
		home, seen = append(home, r), append(seen, x)
	}
	return home, seen
}

// step decides once and begins what is to begin. It gives when to look again.
func (m *Mover) step() time.Time {
	now := m.Clock.Now()
	// What other rooms know is asked before our own lock is taken.
	home, seen := m.look(m.Groups.All())
	m.mu.Lock()
	defer m.mu.Unlock()
	if m.ctx == nil || m.ctx.Err() != nil {
		return time.Time{}
	}
	facts := m.deciding[:0]
	for i, r := range home {
		s := m.of(r.ID)
		s.reckon(m, r, seen[i], now)
		f := m.facts(r, s, now)
		f.Captured, f.PlatformUp, f.LinkUp = seen[i].captured, seen[i].source.Up, seen[i].way.Reached && seen[i].known
		f.Platform, f.Link = seen[i].source.Name, seen[i].way.Name
		if seen[i].preparing != "" {
			f.RetryAt = now.Add(m.Pulse)
		}
		if due := f.Due(now); due && s.dueSince.IsZero() {
			s.dueSince = now
			f.DueSince = now
		} else if !due {
			s.dueSince = time.Time{}
		}
		facts = append(facts, f)
	}
	m.deciding = facts
	m.plan(facts, now)
	d := m.Decide(now, facts, m.busy())
	for i, f := range facts {
		m.of(f.ID).waiting = seen[i].preparing
	}
	for _, x := range d.Waiting {
		m.of(x.ID).waiting = x.Why
	}
	for _, st := range d.Start {
		i := slices.IndexFunc(home, func(r *directory.Record) bool { return r.ID == st.ID })
		s := m.of(st.ID)
		if home[i].Revision < s.machinesAt {
			continue // other machines since we looked, and another look follows
		}
		m.begin(*home[i], s, seen[i].source, seen[i].way, st)
	}
	return d.Next
}

// begin sets a cycle going; the lock is held.
func (m *Mover) begin(r directory.Record, s *state, src Source, way Way, st schedule.Start) {
	ctx, cancel := context.WithCancel(m.ctx)
	waited, missed := time.Duration(0), s.missed(r, m.Clock.Now())
	if !s.dueSince.IsZero() {
		waited = m.Clock.Now().Sub(s.dueSince)
	}
	run := &running{cancel: cancel, done: make(chan struct{}), began: m.Clock.Now(), start: st.Why(), waited: waited, missed: missed, uses: st.Uses, share: st.Share}
	s.run, s.askedAt, s.dueSince, s.early = run, time.Time{}, time.Time{}, nil
	m.wg.Go(func() {
		defer cancel()
		err := m.guarded(ctx, r, s, run, src, way)
		m.after(r, s, run, err)
		close(run.done)
		m.Wake()
	})
}

// missed is how many starts of a cadence passed since the last one, this one aside.
func (s *state) missed(r directory.Record, now time.Time) int {
	every := r.Spec.Promise.Cadence.Every
	if every <= 0 || s.rep.LastStart == nil {
		return 0
	}
	from := *s.rep.LastStart
	if s.resumedAt.After(from) {
		from = s.resumedAt
	}
	return max(0, int(now.Sub(from)/every)-1)
}

// guarded keeps a fault in one group's cycle from ending the service.
func (m *Mover) guarded(ctx context.Context, r directory.Record, s *state, run *running, src Source, way Way) (err error) {
	defer func() {
		if x := recover(); x != nil {
			m.Log.Error("a cycle", "group", r.Spec.Name, "panic", x)
			err = fmt.Errorf("a fault of the service: %v", x)
		}
	}()
	return m.pass(ctx, r, s, run, src, way)
}

// Ask wants a cycle of a group as soon as it can be; to compare is to read all of
// the disks and not only what the platform reports as changed.
func (m *Mover) Ask(r directory.Record, compare bool) error {
	now := m.Clock.Now()
	m.mu.Lock()
	defer m.mu.Unlock()
	s := m.of(r.ID)
	switch {
	case !r.Home():
		return problem.Conflict("%s is not home here.", r.Spec.Name)
	case r.Spec.PausedAt(now):
		return problem.Conflict("%s is paused. Resume it first.", r.Spec.Name)
	case s.run != nil && (s.run.rec.State == "" || s.run.rec.State == cycle.Running):
		return problem.Conflict("A cycle of %s is running already.", r.Spec.Name)
	}
	s.askedAt, s.retryAt, s.compareNow = now, time.Time{}, s.compareNow || compare
	m.Wake()
	return nil
}

// Stop ends a group's cycles for good; undo lets them run again. It gives the
// checkpoint that the next cycle would have been told changes from.
func (m *Mover) Stop(id string) (base string, undo func()) {
	m.mu.Lock()
	s := m.of(id)
	s.ending = true
	base = s.rep.BaseCheckpoint
	run := s.run
	if run != nil {
		run.stop("the group is deleted")
	}
	m.mu.Unlock()
	if run != nil {
		<-run.done
	}
	return base, func() {
		m.mu.Lock()
		s.ending = false
		m.mu.Unlock()
		m.Wake()
	}
}

// Anew has a group, whose cycles were stopped, be copied as at first: at once, and whole.
func (m *Mover) Anew(ctx context.Context, id string) error {
	if err := m.Records.ForgetReplication(ctx, id); err != nil {
		return err
	}
	m.mu.Lock()
	defer m.mu.Unlock()
	m.of(id).rep = records.Replication{GroupID: id}
	return nil
}

// Busy tells whether a cycle of a group is under way.
func (m *Mover) Busy(id string) bool {
	m.mu.Lock()
	defer m.mu.Unlock()
	return m.of(id).run != nil
}

// ChangeRate is how many bytes of a group change a second, and how long its cycles
// take; both 0 if that is not known.
func (m *Mover) ChangeRate(id string) (bytes float64, length time.Duration) {
	m.mu.Lock()
	defer m.mu.Unlock()
	s := m.of(id)
	return s.changeRate, s.length
}

// Standing is how a group that is home here stands: what is decided upon, its newest
// cycles, and how far the one under way is.
type Standing struct {
	schedule.Facts
	Cycles  []cycle.Account
	Running *cycle.Progress
	// Share is the weight on its link of the one under way; 0 if none is.
	Share float64
	// Change is what was seen of how much changes since a capture.
	Change change.Curve
}

// Standing tells how a group stands.
func (m *Mover) Standing(r directory.Record) Standing {
	now := m.Clock.Now()
	captured, _ := m.Points.Newest(r.ID)
	m.mu.Lock()
	defer m.mu.Unlock()
	s := m.of(r.ID)
	out := Standing{Facts: m.facts(&r, s, now), Cycles: slices.Clone(s.accounts), Change: s.learned.Curve()}
	out.Captured = captured
	if s.run != nil {
		out.Share = s.run.share
	}
	if s.run != nil && s.run.detail.Progress.Phase != "" {
		p := s.run.detail.Progress
		out.Running = &p
	}
	return out
}

// Live is what only the home site can see of a group.
func (m *Mover) Live(id string) link.Live {
	now := m.Clock.Now()
	r, ok := m.Groups.Get(id)
	if !ok {
		return link.Live{}
	}
	src, known := m.Source(r.Spec.Platform)
	way, _ := m.Way(r.Link)
	homePoints := m.Points.HomePoints(id)
	m.mu.Lock()
	defer m.mu.Unlock()
	s := m.of(id)
	f := m.facts(&r, s, now)
	f.Running = s.run != nil
	v := link.Live{PlatformUp: known && src.Up, DueSince: s.dueSince, NextStart: f.NextStart(now), Waiting: s.waiting, Backlog: s.backlog, BacklogKnown: s.backlogOK, ChangeRate: s.changeRate, Failure: s.failure,
		LinkLimit: way.Limit, Cycles: slices.Clone(s.accounts[:min(toldAccounts, len(s.accounts))]), HomePoints: homePoints}
	if r.Spec.HomePoints {
		v.HomePointsFailure = s.homeFailure
	}
	if src.Err != nil {
		v.Failure = words.Upper(src.Err.Error())
	}
	if s.run != nil && s.run.detail.Progress.Phase != "" {
		p := s.run.detail.Progress
		v.Running = &p
		v.Rate, v.FinishAt = s.run.rate(now)
	}
	if s.rep.ComparedAt != nil {
		v.ComparedAt = *s.rep.ComparedAt
	}
	return v
}

// Accounts lists a group's cycles, newest first, those with numbers below before (0:
// all).
func (m *Mover) Accounts(ctx context.Context, id string, before int64, limit int) ([]cycle.Account, error) {
	if limit <= 0 || limit > KeptCycles {
		limit = 50
	}
	recs, err := m.Records.Cycles(ctx, id, before, limit)
	if err != nil {
		return nil, err
	}
	m.mu.Lock()
	memory := slices.Clone(m.of(id).accounts)
	m.mu.Unlock()
	out := []cycle.Account{}
	for _, r := range recs {
		a, err := accountOf(r)
		if err != nil {
			return nil, err
		}
		for _, x := range memory {
			if x.ID == a.ID {
				a = x
			}
		}
		out = append(out, a)
	}
	return out, nil
}

// Object names a group for the trail.
func (m *Mover) Object(r directory.Record) audit.Object {
	return audit.Object{Kind: "group", Name: r.Spec.Name, ID: r.ID}
}

func (m *Mover) note(ctx context.Context, r directory.Record, format string, a ...any) {
	m.Trail.Note(ctx, actor.System(), m.Object(r), format, a...)
}

// told tells clients to ask for a group anew.
func (m *Mover) told(id string) { m.Hub.Send(events.Event{Type: "group", ID: id}) }

// mustJSON writes what always can be written.
func mustJSON(v any) []byte {
	b, err := json.Marshal(v)
	if err != nil {
		panic(err) // plain structs always marshal
	}
	return b
}
