// Package simsite runs two sites on a virtual clock: the real directory, mover,
// keeper, history and health, over records in memory, a file system in memory, and
// platforms and a link that fail by a seed. The same seed gives the same weeks. It
// runs inside a bubble of testing/synctest, whose clock moves when all wait.
package simsite

import (
	"cmp"
	"context"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"hash/fnv"
	"math/rand/v2"
	"slices"
	"sync"
	"time"

	"github.com/google/uuid"

	"kestrel/internal/audit"
	"kestrel/internal/clock"
	"kestrel/internal/core/actor"
	"kestrel/internal/core/cadence"
	"kestrel/internal/core/exposure"
	"kestrel/internal/core/group"
	"kestrel/internal/core/ladder"
	"kestrel/internal/core/promise"
	"kestrel/internal/core/schedule"
	"kestrel/internal/core/span"
	"kestrel/internal/cycle"
	"kestrel/internal/directory"
	"kestrel/internal/events"
	"kestrel/internal/keeper"
	"kestrel/internal/mover"
	"kestrel/internal/points"
	"kestrel/internal/support/rooms"
)

// Plan is what a history is made of.
type Plan struct {
	Seed   uint64
	Groups int
	For    time.Duration
	// Careless plants a fault: writes of settings forget to compare revisions.
	Careless bool
	// AnyOrder plants a fault: of the cycles that are due, any begin first.
	AnyOrder bool
	Log      func(format string, a ...any)
}

// Outcome counts what was met, so that a run in which nothing happened shows.
type Outcome struct {
	Sealed, Failed, Resumed, Crowded     int
	Edits, Overtaken, Pauses, Pins       int
	Cuts, Outages, Restarts, LostAnswers int
	Dropped                              int
	Kept                                 float64 // share of group-time within target
	// Story is a digest of what every group went through.
	Story string
}

const (
	slots     = 4 // as the mover has
	platforms = 3
	beatEvery = 5 * time.Minute
	// offGrid keeps what the run does from falling on an instant at which cycles
	// fall due.
	offGrid = 123457 * time.Nanosecond
	// patience is how long a group may wait that is due and could begin, beside
	// twice its target.
	patience = 6 * time.Hour
)

const wayID = rooms.Link

// world is one history.
type world struct {
	Plan
	ctx            context.Context // until calm comes
	end            context.Context // until all ends
	home, recovery *rooms.Side
	mover          *mover.Mover
	stopMover      func()

	mu    sync.Mutex
	out   Outcome
	fault error // the first that was found
	cut   bool
	cuts  int // counted, to know of a cut that came and went
	down  [platforms]bool
	// since when the link and the platforms are there
	linkedSince time.Time
	upSince     [platforms]time.Time
	calm        bool
	tries       map[string]int           // of cycles, by group
	captured    map[string]time.Time     // by checkpoint
	left        map[string]time.Duration // of copying it
	arrived     map[string][]exposure.Arrival
	targets     map[string][]exposure.Target
	wish        map[string]*wish
	sent        map[string]directory.Record // as the other site read them
	rival       func()                      // what comes between the next look and its write
	story       map[string][]string
	pinned      map[string]string // point by group
	road        *road             // that cycles really cross; nil: they only take their time
	crowd       *Crowd            // nil but for one
}

// draw gives random numbers that depend on the seed and on what they are for, and
// not on who asked first.
func (w *world) draw(parts ...any) *rand.Rand {
	h := fnv.New64a()
	fmt.Fprintln(h, parts...)
	return rand.New(rand.NewPCG(w.Seed, h.Sum64()))
}

// wait is a length of time about a mean, to the nanosecond, so that hardly two
// things happen at one instant.
func wait(r *rand.Rand, mean time.Duration) time.Duration {
	return time.Duration(float64(mean) * (0.2 + 1.6*r.Float64()))
}

// found notes a fault that the run has to report.
func (w *world) found(format string, a ...any) {
	w.mu.Lock()
	defer w.mu.Unlock()
	if w.fault == nil {
		w.fault = fmt.Errorf("%s: %w", time.Now().UTC().Format(time.DateTime), fmt.Errorf(format, a...))
	}
}

func (w *world) tell(id, format string, a ...any) {
	text := time.Now().UTC().Format("02 15:04:05.000000000 ") + fmt.Sprintf(format, a...)
	w.mu.Lock()
	w.story[id] = append(w.story[id], text)
	w.mu.Unlock()
	w.Log("%s %s", id[:8], text)
}

// newWorld is one in which nothing has happened yet.
func newWorld(ctx, end context.Context, plan Plan) *world {
	if plan.Log == nil {
		plan.Log = func(string, ...any) {}
	}
	return &world{Plan: plan, ctx: ctx, end: end, tries: map[string]int{}, captured: map[string]time.Time{}, left: map[string]time.Duration{}, arrived: map[string][]exposure.Arrival{}, targets: map[string][]exposure.Target{},
		wish: map[string]*wish{}, sent: map[string]directory.Record{}, story: map[string][]string{}, pinned: map[string]string{}}
}

// Run goes through a history. The error is the first thing that did not hold.
func Run(plan Plan) (Outcome, error) {
	ctx, calm := context.WithCancel(context.Background())
	end, stop := context.WithCancel(context.Background())
	defer stop()
	defer calm()
	w := newWorld(ctx, end, plan)
	if err := w.begin(); err != nil {
		return w.out, err
	}
	var wg sync.WaitGroup
	for _, f := range []func(){w.beats, w.cutting, w.edits, w.pins, w.restarts} {
		wg.Go(f)
	}
	for p := range platforms {
		wg.Go(func() { w.outages(p) })
	}
	wg.Go(func() { w.recovery.Keeper.Run(end) })
	time.Sleep(plan.For + offGrid)
	w.mu.Lock()
	w.calm, w.cut, w.down = true, false, [platforms]bool{}
	w.mu.Unlock()
	calm()
	// Whatever was cut off goes on, and both sites agree again.
	time.Sleep(6*time.Hour + offGrid)
	w.mu.Lock()
	stopMover := w.stopMover
	w.mu.Unlock()
	stopMover()
	time.Sleep(2 * beatEvery)
	stop()
	wg.Wait()
	w.end = context.Background()
	w.beat(0)
	w.check()
	w.out.Story = w.digest()
	for _, s := range []*rooms.Side{w.home, w.recovery} {
		if err := s.Store.Close(); err != nil {
			return w.out, err
		}
	}
	return w.out, w.fault
}

// begin makes both sites and the groups.
func (w *world) begin() (err error) {
	if w.home, err = rooms.New(rooms.HomeID, rooms.HomeName, w.Seed); err != nil {
		return err
	}
	if w.recovery, err = rooms.New(rooms.RecoveryID, rooms.RecoveryName, w.Seed+1); err != nil {
		return err
	}
	for n := range w.Groups {
		r := w.draw("group", n)
		every := []time.Duration{15 * time.Minute, 30 * time.Minute, time.Hour, 4 * time.Hour, span.Day}[r.IntN(5)]
		rec := directory.Record{ID: uuid.Must(uuid.NewRandomFromReader(source{r})).String(), Link: wayID, HomeID: rooms.HomeID, HomeName: rooms.HomeName, RecoveryName: rooms.RecoveryName,
			Spec: group.Spec{Name: fmt.Sprintf("group %03d", n), Platform: fmt.Sprint(n % platforms), Priority: group.Normal, NewDisks: group.CopyNew, Destinations: []group.Destination{{SiteID: rooms.RecoveryID, Site: rooms.RecoveryName}},
				Machines: []group.Machine{{ID: fmt.Sprint("m", n), Name: fmt.Sprint("m", n), Disks: []group.Disk{{Key: "d", Label: "disk 1", SizeBytes: points.BlockSize}}}},
				Promise:  promise.Promise{Target: 3 * every, Cadence: cadence.Cadence{Every: every}, Keep: ladders[r.IntN(len(ladders))]}}}
		if w.crowd != nil {
			rec.Spec.Promise.Target, rec.Spec.Promise.Cadence = w.crowd.promises(r)
		} else if w.road != nil {
			time.Sleep(wait(w.draw("made", n), 7*time.Minute)) // people make groups one by one
		}
		rec, err = w.home.Groups.Create(w.end, anna, rec)
		if err != nil {
			return fmt.Errorf("make group %d: %w", n, err)
		}
		w.targets[rec.ID] = []exposure.Target{{Since: rec.CreatedAt, Target: rec.Spec.Promise.Target}}
		w.wish[rec.ID] = &wish{}
	}
	if w.crowd != nil {
		sum := 0.0
		for _, r := range w.home.Groups.All() {
			sum += w.changes(r)
		}
		w.road.rate = int64(sum / w.crowd.Load)
	}
	w.home.DB.Careless = w.Careless
	w.home.DB.Before = w.between
	w.beat(0)
	return w.startMover()
}

var anna = actor.Actor{Kind: actor.Person, Name: "anna", Role: actor.Administrator}

var ladders = []ladder.Ladder{
	{{For: 2 * time.Hour}},
	{{For: time.Hour}, {Each: time.Hour, For: span.Day}},
	{{For: 30 * time.Minute}, {Each: 4 * time.Hour, For: 2 * span.Day}, {Each: span.Day, For: span.Week}},
}

// source makes drawn numbers the source of an identifier's randomness.
type source struct{ r *rand.Rand }

func (s source) Read(p []byte) (int, error) {
	for i := range p {
		p[i] = byte(s.r.Uint32())
	}
	return len(p), nil
}

// startMover starts the home site's mover, as a start of the service does.
func (w *world) startMover() error {
	s := w.home
	m, err := mover.New(w.end, mover.Config{Owner: "sim-", Groups: s.Groups, Records: s.DB, Points: s.Keeper, Arrived: s.History.Arrived, Source: w.platform, Way: w.way, Platforms: func() []string { return nil },
		Pass: w.pass, Decide: w.decide, Limits: w.limits(), Trail: audit.New(s.DB, clock.Wall{}, events.NewHub(), s.Log), Clock: clock.Wall{}, Hub: events.NewHub(), Log: s.Log, Pulse: 10 * time.Minute})
	if err != nil {
		return err
	}
	ctx, cancel := context.WithCancel(w.end)
	done := make(chan struct{})
	go func() { m.Run(ctx); close(done) }()
	w.mu.Lock()
	w.mover, w.stopMover = m, func() { cancel(); <-done }
	w.mu.Unlock()
	return nil
}

// limits are those of a site of its size.
func (w *world) limits() schedule.Limits {
	if w.crowd != nil {
		return schedule.Limits{Site: max(slots, w.Groups/30)}
	}
	return schedule.Limits{Site: slots}
}

// rooms are the home site's as they are now.
func (w *world) rooms() (*directory.Directory, *keeper.Keeper, *mover.Mover) {
	w.mu.Lock()
	defer w.mu.Unlock()
	return w.home.Groups, w.home.Keeper, w.mover
}

// decide is the real decision, held against what has to be true of it.
func (w *world) decide(now time.Time, fs []schedule.Facts, busy schedule.Load) schedule.Decision {
	if w.crowd != nil {
		return w.crowding(now, fs, busy)
	}
	d := schedule.Decide(now, fs, busy)
	if w.AnyOrder {
		d = anyOrder(now, fs, busy)
	}
	running := 0
	for _, f := range fs {
		if f.Running {
			running++
		}
	}
	w.judge(now, fs, slots-running, d)
	return d
}

// judge finds cycles that begin while others wait that need it more. It says
// afresh what that means, and asks nothing of the code that decided.
func (w *world) judge(now time.Time, fs []schedule.Facts, free int, d schedule.Decision) {
	latest := func(f schedule.Facts) time.Time {
		from := cmp.Or(f.Captured, f.DueSince, now)
		if f.Captured.IsZero() && !f.DueSince.IsZero() {
			from = f.DueSince
		}
		return from.Add(f.Target).Add(-f.Length)
	}
	// The last place of a site is for cycles that make nobody late, which first copies and
	// long ones might.
	short := time.Duration(0)
	for _, f := range fs {
		took := f.Length
		if f.Work > 0 {
			took = f.Still + f.Work
		}
		if slack := f.Target - f.Cadence.Every - took; !f.Paused && !f.Spilled && !f.Captured.IsZero() && slack > 0 && (short == 0 || slack < short) {
			short = slack
		}
	}
	long := func(f schedule.Facts) bool {
		return f.AskedAt.IsZero() && !f.CutOff && (f.Captured.IsZero() || short > 0 && f.Length > short)
	}
	started := map[string]bool{}
	for _, s := range d.Start {
		started[s.ID] = true
	}
	if len(started) > max(free, 0) {
		w.found("%d cycles begin where %d may", len(started), free)
	}
	var last time.Time
	for _, f := range fs {
		if started[f.ID] {
			if f.Paused || f.Running || !f.PlatformUp || !f.LinkUp || now.Before(f.RetryAt) {
				w.found("%s begins and must not: %+v", f.Name, f)
			}
			if l := latest(f); l.After(last) && f.AskedAt.IsZero() {
				last = l
			}
		}
	}
	crowded := false
	for _, f := range fs {
		if started[f.ID] || f.DueSince.IsZero() || f.Paused || f.Running || !f.PlatformUp || !f.LinkUp || now.Before(f.RetryAt) {
			continue
		}
		crowded = true
		if f.Spilled {
			continue // its turn comes in the slow lane
		}
		if long(f) && free-len(started) == 1 {
			continue
		}
		if long(f) {
			before := 0 // that begin by right, and leave it the last place
			for _, o := range fs {
				if started[o.ID] && !latest(o).After(latest(f)) {
					before++
				}
			}
			if free-before <= 1 {
				continue
			}
		}
		if len(started) > 0 && latest(f).Before(last) {
			w.found("%s waits, which has to begin by %s, and one begins that has until %s", f.Name, latest(f).Format(time.DateTime), last.Format(time.DateTime))
		}
		if len(started) < free {
			w.found("%s waits beside a free place", f.Name)
		}
	}
	if crowded {
		w.mu.Lock()
		w.out.Crowded++
		w.mu.Unlock()
	}
}

// anyOrder decides as if by map order.
func anyOrder(now time.Time, fs []schedule.Facts, busy schedule.Load) schedule.Decision {
	whole := schedule.Decide(now, fs, schedule.Load{})
	return inOrder(whole, busy, func(a, b schedule.Start) int { return cmp.Compare(a.ID, b.ID) })
}

// inOrder begins, of all that could, those for which there is room, in some order.
func inOrder(whole schedule.Decision, busy schedule.Load, order func(a, b schedule.Start) int) schedule.Decision {
	slices.SortFunc(whole.Start, order)
	var out []schedule.Start
	for _, s := range whole.Start {
		if busy.Room(s.Uses) {
			busy.Add(s.Uses)
			out = append(out, s)
		}
	}
	whole.Start = out
	return whole
}

// digest sums up what every group went through.
func (w *world) digest() string {
	var ids []string
	for id := range w.story {
		ids = append(ids, id)
	}
	slices.Sort(ids)
	h := sha256.New()
	for _, id := range ids {
		fmt.Fprintln(h, id)
		slices.Sort(w.story[id]) // of one instant in any order
		for _, line := range w.story[id] {
			fmt.Fprintln(h, line)
		}
	}
	return hex.EncodeToString(h.Sum(nil)[:8])
}

// errSaid are what goes wrong by the plan.
var (
	errPlatform = errors.New("the platform refused")
	errLink     = errors.New("the link was cut")
	errAnswer   = errors.New("the answer did not come")
)

// kindOf is a cycle's kind, for its progress.
func kindOf(job cycle.Job) string {
	switch {
	case job.BasePoint == "":
		return cycle.KindSeed
	case job.Compare:
		return cycle.KindCompare
	}
	return cycle.KindChanges
}

// Plus adds up what two histories met.
func (o Outcome) Plus(p Outcome) Outcome {
	return Outcome{Sealed: o.Sealed + p.Sealed, Failed: o.Failed + p.Failed, Resumed: o.Resumed + p.Resumed, Crowded: o.Crowded + p.Crowded, Edits: o.Edits + p.Edits, Overtaken: o.Overtaken + p.Overtaken,
		Pauses: o.Pauses + p.Pauses, Pins: o.Pins + p.Pins, Cuts: o.Cuts + p.Cuts, Outages: o.Outages + p.Outages, Restarts: o.Restarts + p.Restarts, LostAnswers: o.LostAnswers + p.LostAnswers, Dropped: o.Dropped + p.Dropped}
}
