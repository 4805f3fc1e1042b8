package mover_test

import (
	"context"
	"errors"
	"fmt"
	"sync"
	"sync/atomic"
	"testing"
	"testing/synctest"
	"time"

	"github.com/google/uuid"
	"github.com/stretchr/testify/require"

	"kestrel/internal/clock"
	"kestrel/internal/core/cadence"
	"kestrel/internal/core/group"
	"kestrel/internal/core/schedule"
	"kestrel/internal/cycle"
	"kestrel/internal/directory"
	"kestrel/internal/mover"
	"kestrel/internal/platform"
	"kestrel/internal/points"
	"kestrel/internal/problem"
	"kestrel/internal/records"
	"kestrel/internal/support/rooms"
)

// recovery is the other site as a mover sees it.
type recovery struct {
	mu      sync.Mutex
	known   bool
	newest  map[string]time.Time
	shipped []string // points, in their order
}

func (r *recovery) Newest(group string) (time.Time, bool) {
	r.mu.Lock()
	defer r.mu.Unlock()
	return r.newest[group], r.known
}

func (r *recovery) set(known bool) {
	r.mu.Lock()
	defer r.mu.Unlock()
	r.known = known
}

func (r *recovery) HomePoints(string) int { return 0 }

func (r *recovery) Numbered(string) int64 { return 0 }

func (r *recovery) Shipped(_ context.Context, g directory.Record, x *points.Seal) error {
	r.mu.Lock()
	defer r.mu.Unlock()
	r.newest[g.ID] = x.CaptureAt
	r.shipped = append(r.shipped, x.Point)
	return nil
}

func (r *recovery) WithHome(_ directory.Record, far cycle.Remote, _ string, _ func(string)) cycle.Remote {
	return far
}

// source is a platform that notes what it is told to let go of.
type source struct {
	platform.Driver
	mu          sync.Mutex
	released    []string
	forgotten   []string
	checkpoints []string
	hangs       atomic.Bool
}

func (s *source) Release(_ context.Context, name string) error {
	s.mu.Lock()
	defer s.mu.Unlock()
	s.released = append(s.released, name)
	return nil
}

func (s *source) Forget(_ context.Context, name string) error {
	s.mu.Lock()
	defer s.mu.Unlock()
	s.forgotten = append(s.forgotten, name)
	return nil
}

func (s *source) Checkpoints(context.Context) ([]string, error) {
	s.mu.Lock()
	defer s.mu.Unlock()
	return s.checkpoints, nil
}

func (s *source) Changed(ctx context.Context, _ string) (map[string]int64, error) {
	if s.hangs.Load() {
		<-ctx.Done()
		return nil, ctx.Err()
	}
	return map[string]int64{"m": 4096}, nil
}

// slowRecords take their time to note that a cycle does not go on.
type slowRecords struct {
	mover.Records
	by    *atomic.Int64 // nanoseconds
	peaks func() []records.Peak
}

func (s slowRecords) Peaks(context.Context, time.Time) ([]records.Peak, error) { return s.peaks(), nil }

func (s slowRecords) PutCycle(ctx context.Context, c records.Cycle) error {
	if c.State != cycle.Running {
		time.Sleep(time.Duration(s.by.Load()))
	}
	return s.Records.PutCycle(ctx, c)
}

// rig is a mover at home with a platform p, over a virtual clock.
type rig struct {
	t         *testing.T
	home      *rooms.Side
	far       *recovery
	src       *source
	m         *mover.Mover
	stop      func()
	slow      atomic.Int64 // what records take to note an end, in nanoseconds
	up        bool
	mu        sync.Mutex
	jobs      []cycle.Job
	abandoned []string
	limit     int64     // of the link
	weights   []float64 // that cycles were given
	limits    schedule.Limits
	peaks     []records.Peak // that are known when the mover starts
	does      func(ctx context.Context, job cycle.Job, report func(cycle.Progress)) error
}

func newRig(t *testing.T) *rig {
	r := &rig{t: t, up: true, far: &recovery{known: true, newest: map[string]time.Time{}}, src: &source{}}
	r.does = func(ctx context.Context, _ cycle.Job, _ func(cycle.Progress)) error {
		return clock.Sleep(ctx, clock.Wall{}, time.Second)
	}
	var err error
	r.home, err = rooms.New(rooms.HomeID, rooms.HomeName, 1)
	require.NoError(t, err)
	r.start()
	return r
}

// start starts the mover, as a start of the service does.
func (r *rig) start() {
	var err error
	r.m, err = mover.New(r.t.Context(), mover.Config{Owner: "kt-", Groups: r.home.Groups, Records: slowRecords{r.home.DB, &r.slow, func() []records.Peak { return r.peaks }}, Points: r.far, Arrived: r.home.History.Arrived,
		Source: func(string) (mover.Source, bool) {
			r.mu.Lock()
			defer r.mu.Unlock()
			return mover.Source{Name: "quay", Driver: r.src, Up: r.up, Datastores: func([]group.Machine) []string { return []string{"array-a"} }}, true
		},
		Way: func(string) (mover.Way, bool) {
			r.mu.Lock()
			defer r.mu.Unlock()
			return mover.Way{Name: rooms.RecoveryName, Limit: r.limit, Reached: true, Ours: func(t time.Time) time.Time { return t }, Remote: func(_ string, weight float64) cycle.Remote {
				r.mu.Lock()
				defer r.mu.Unlock()
				r.weights = append(r.weights, weight)
				return nil
			},
				Abandon: func(_ context.Context, intake string) error {
					r.mu.Lock()
					defer r.mu.Unlock()
					r.abandoned = append(r.abandoned, intake)
					return nil
				}}, true
		},
		Platforms: func() []string { return []string{"p"} }, Limits: r.limits, Pass: r.pass, Trail: r.home.Trail, Clock: clock.Wall{}, Hub: r.home.Hub, Log: r.home.Log, Pulse: time.Second})
	require.NoError(r.t, err)
	ctx, cancel := context.WithCancel(context.Background())
	done := make(chan struct{})
	go func() { r.m.Run(ctx); close(done) }()
	r.stop = func() { cancel(); <-done }
}

func (r *rig) pass(ctx context.Context, _ platform.Driver, _ cycle.Remote, clk clock.Clock, job cycle.Job, report func(cycle.Progress)) (*points.Seal, error) {
	r.mu.Lock()
	r.jobs = append(r.jobs, job)
	n := len(r.jobs)
	r.mu.Unlock()
	at := clk.Now().UTC()
	kind := cycle.KindChanges
	if job.BasePoint == "" {
		kind = cycle.KindSeed
	} else if job.Compare {
		kind = cycle.KindCompare
	}
	report(cycle.Progress{Kind: kind, Phase: "ship", CaptureAt: at, TotalBytes: 1 << 20})
	r.mu.Lock()
	does := r.does
	r.mu.Unlock()
	if err := does(ctx, job, report); err != nil {
		return nil, err
	}
	unusual := job.Unusual(cycle.Progress{})
	return &points.Seal{Unusual: unusual, Point: uuid.NewString(), Number: int64(n), Cycle: job.ID, Group: job.Group, CaptureAt: at, SealedAt: clk.Now().UTC(), Checkpoint: job.Checkpoint}, nil
}

// set says what cycles do from now on; a second's work, if nothing is said.
func (r *rig) set(does func(ctx context.Context, job cycle.Job, report func(cycle.Progress)) error) {
	r.mu.Lock()
	defer r.mu.Unlock()
	r.does = does
}

// reach makes the platform answer, or not.
func (r *rig) reach(up bool) {
	r.mu.Lock()
	defer r.mu.Unlock()
	r.up = up
}

func (r *rig) ran() []cycle.Job {
	r.mu.Lock()
	defer r.mu.Unlock()
	return append([]cycle.Job(nil), r.jobs...)
}

func (r *rig) create(s group.Spec) directory.Record {
	r.t.Helper()
	group := rooms.Record(uuid.NewString(), s)
	group.Anchor = time.Now() // its starts lie on the minutes from now on
	rec, err := r.home.Groups.Create(r.t.Context(), rooms.Anna(), group)
	require.NoError(r.t, err)
	return rec
}

// after lets virtual time pass until all rests.
func after(d time.Duration) {
	time.Sleep(d)
	synctest.Wait()
}

// machines adds one to a group.
func (r *rig) machines(g directory.Record, name string) {
	r.t.Helper()
	more := append(g.Spec.Machines, group.Machine{ID: name, Name: name, Disks: []group.Disk{{Key: "d", Label: "disk 1", SizeBytes: points.BlockSize}}})
	_, _, err := r.home.Groups.Update(r.t.Context(), rooms.Anna(), g.ID, group.Patch{Machines: &more}, nil, func(directory.Record, []group.Change) string { return "machines" })
	require.NoError(r.t, err)
}

func (r *rig) lines(words string) int {
	r.t.Helper()
	lines, err := r.home.Trail.Lines(r.t.Context(), records.Sought{Limit: 100, Text: words})
	require.NoError(r.t, err)
	return len(lines)
}

// virtual runs a test on a mover over virtual time.
func virtual(t *testing.T, f func(t *testing.T, r *rig)) {
	t.Helper()
	synctest.Test(t, func(t *testing.T) {
		r := newRig(t)
		defer func() {
			r.stop()
			require.NoError(t, r.home.Store.Close())
		}()
		f(t, r)
	})
}

// Cycles follow one another at their cadence, each on the one before, and only what
// is needed stays on the platform.
func TestEachCycleBuildsOnTheOneBefore(t *testing.T) {
	virtual(t, func(t *testing.T, r *rig) {
		g := r.create(rooms.Spec("Ticketing"))
		after(3*time.Minute + 30*time.Second)
		jobs := r.ran()
		require.Len(t, jobs, 4, "at once, and then every minute")
		require.Empty(t, jobs[0].BasePoint)
		for i := 1; i < len(jobs); i++ {
			require.Equal(t, r.far.shipped[i-1], jobs[i].BasePoint)
			require.Equal(t, jobs[i-1].Checkpoint, jobs[i].BaseCheckpoint)
			require.Equal(t, jobs[i].Checkpoint, r.src.released[i])
			require.Equal(t, jobs[i-1].Checkpoint, r.src.forgotten[i-1])
		}
		as, err := r.m.Accounts(t.Context(), g.ID, 0, 0)
		require.NoError(t, err)
		require.Len(t, as, 4)
		require.EqualValues(t, 4, as[0].Number)
		require.Equal(t, cycle.KindSeed, as[3].Kind)
		bytes, length := r.m.ChangeRate(g.ID)
		require.Zero(t, bytes, "nothing changed")
		require.Equal(t, time.Second, length)
	})
}

// No cycle begins before the recovery site knows its group: its first one would be
// refused there.
func TestAGroupThatTheOtherSiteDoesNotKnowWaits(t *testing.T) {
	virtual(t, func(t *testing.T, r *rig) {
		r.far.set(false)
		r.create(rooms.Spec("Ticketing"))
		after(time.Minute)
		require.Empty(t, r.ran())
		r.far.set(true)
		after(2 * time.Second)
		require.Len(t, r.ran(), 1)
		require.Zero(t, r.lines("cut off"))
	})
}

// A cycle that is cut off goes on as itself, later each time, and is told of once.
func TestACutCycleGoesOnLaterAndLater(t *testing.T) {
	virtual(t, func(t *testing.T, r *rig) {
		var at []time.Time
		r.set(func(context.Context, cycle.Job, func(cycle.Progress)) error {
			if at = append(at, time.Now()); len(at) < 5 {
				return errors.New("the link was cut")
			}
			return nil
		})
		g := r.create(rooms.Spec("Ticketing"))
		after(30 * time.Minute)
		jobs := r.ran()
		for i := 1; i < 5; i++ {
			require.Equal(t, jobs[0].ID, jobs[i].ID, "the same cycle")
			require.Equal(t, jobs[0].Checkpoint, jobs[i].Checkpoint, "of the same capture")
			require.True(t, jobs[i].Resumed)
			require.NotNil(t, jobs[i].Captured)
			if i > 1 {
				require.Greater(t, at[i].Sub(at[i-1]), at[i-1].Sub(at[i-2]), "backs off")
			}
		}
		require.NotEqual(t, jobs[0].ID, jobs[5].ID)
		require.Equal(t, 1, r.lines("cut off"), "said once, not at each attempt")
		as, err := r.m.Accounts(t.Context(), g.ID, 0, 0)
		require.NoError(t, err)
		first := as[len(as)-1]
		require.Equal(t, cycle.Sealed, first.State)
		require.Equal(t, 5, first.Attempts)
		require.Empty(t, r.m.Live(g.ID).Failure)
	})
}

// The answer to a seal may be lost: the next attempt has nothing to read, and what the cycle
// found is what the one before it found.
func TestASealWhoseAnswerIsLostKeepsItsFigures(t *testing.T) {
	virtual(t, func(t *testing.T, r *rig) {
		n := 0
		r.set(func(_ context.Context, _ cycle.Job, report func(cycle.Progress)) error {
			if n++; n == 1 {
				report(cycle.Progress{Kind: cycle.KindSeed, Phase: "seal", CaptureAt: time.Now(), TotalBytes: 900, ReadBytes: 900, ChangedBytes: 800, ZeroedBytes: 70, UsedBytes: 1000, ShippedBytes: 600, WireBytes: 500})
				return errors.New("the answer was lost")
			}
			report(cycle.Progress{Kind: cycle.KindSeed, Phase: "seal", CaptureAt: time.Now()})
			return nil
		})
		g := r.create(rooms.Spec("Ticketing"))
		after(20 * time.Second)
		as, err := r.m.Accounts(t.Context(), g.ID, 0, 0)
		require.NoError(t, err)
		a := as[len(as)-1]
		require.Equal(t, []any{cycle.Sealed, 2}, []any{a.State, a.Attempts})
		require.Equal(t, []int64{900, 900, 800, 70, 600, 500}, []int64{a.TotalBytes, a.ReadBytes, a.ChangedBytes, a.ZeroedBytes, a.ShippedBytes, a.WireBytes})
	})
}

// One that cannot go on is ended, and another begins at once.
func TestACycleThatCannotGoOnStartsAnew(t *testing.T) {
	virtual(t, func(t *testing.T, r *rig) {
		n := 0
		r.set(func(context.Context, cycle.Job, func(cycle.Progress)) error {
			if n++; n == 1 {
				return fmt.Errorf("the frozen disks are gone: %w", cycle.ErrStartAnew)
			}
			return nil
		})
		g := r.create(rooms.Spec("Ticketing"))
		after(5 * time.Second)
		jobs := r.ran()
		require.Len(t, jobs, 2)
		require.NotEqual(t, jobs[0].ID, jobs[1].ID)
		as, err := r.m.Accounts(t.Context(), g.ID, 0, 0)
		require.NoError(t, err)
		require.Equal(t, cycle.Failed, as[1].State)
		require.Contains(t, as[1].Error, "frozen disks are gone")
	})
}

// A pause stops a cycle where it is, without calling it a failure; when it is over
// the cycle goes on.
func TestAPauseStopsACycleWhereItIs(t *testing.T) {
	virtual(t, func(t *testing.T, r *rig) {
		r.set(func(ctx context.Context, _ cycle.Job, _ func(cycle.Progress)) error {
			return clock.Sleep(ctx, clock.Wall{}, 10*time.Second)
		})
		g := r.create(rooms.Spec("Ticketing"))
		after(3 * time.Second)
		require.True(t, r.m.Busy(g.ID))
		_, _, err := r.home.Groups.Update(t.Context(), rooms.Anna(), g.ID, group.Patch{Pause: &group.Pause{By: "anna", Since: time.Now(), Until: time.Now().Add(time.Hour)}}, nil, func(directory.Record, []group.Change) string { return "paused" })
		require.NoError(t, err)
		after(time.Second)
		require.False(t, r.m.Busy(g.ID))
		require.Empty(t, r.m.Live(g.ID).Failure)
		now, _ := r.home.Groups.Get(g.ID)
		require.True(t, refused(r.m.Ask(now, false)), "a paused group runs on nobody's word")
		after(58 * time.Minute)
		require.Len(t, r.ran(), 1, "nothing begins while it is paused")
		after(3 * time.Minute)
		jobs := r.ran()
		require.Equal(t, jobs[0].ID, jobs[1].ID)
		require.Zero(t, r.lines("cut off"))
	})
}

// A cycle over other machines than the group now has must not be sealed as the
// group's: it ends, its intake is given up, and another begins.
func TestOtherMachinesEndACycle(t *testing.T) {
	virtual(t, func(t *testing.T, r *rig) {
		r.set(func(ctx context.Context, _ cycle.Job, _ func(cycle.Progress)) error {
			return clock.Sleep(ctx, clock.Wall{}, 10*time.Second)
		})
		g := r.create(rooms.Spec("Ticketing"))
		after(3 * time.Second)
		r.machines(g, "m-2")
		after(20 * time.Second)
		jobs := r.ran()
		require.Len(t, jobs, 2)
		require.NotEqual(t, jobs[0].ID, jobs[1].ID)
		require.Len(t, jobs[1].Machines, 2)
		require.Equal(t, []string{jobs[0].ID}, r.abandoned)
	})
}

// Its end is recorded before another begins, however slow the database is: else the
// other one would take it up.
func TestNothingBeginsBeforeTheEndOfACycleIsRecorded(t *testing.T) {
	virtual(t, func(t *testing.T, r *rig) {
		r.slow.Store(int64(3 * time.Second))
		r.set(func(ctx context.Context, _ cycle.Job, _ func(cycle.Progress)) error {
			return clock.Sleep(ctx, clock.Wall{}, 10*time.Second)
		})
		g := r.create(rooms.Spec("Ticketing"))
		after(8 * time.Second)
		r.machines(g, "m-2")
		after(40 * time.Second)
		jobs := r.ran()
		require.Len(t, jobs, 2)
		require.NotEqual(t, jobs[0].ID, jobs[1].ID)
		require.Equal(t, []string{jobs[0].ID}, r.abandoned)
	})
}

// A service that was killed between the edit and the end of the cycle finds an open
// cycle of other machines than the group has: it is not taken up either.
func TestACycleOfOtherMachinesIsNotTakenUpAfterAKill(t *testing.T) {
	virtual(t, func(t *testing.T, r *rig) {
		r.set(func(ctx context.Context, _ cycle.Job, _ func(cycle.Progress)) error {
			return clock.Sleep(ctx, clock.Wall{}, 10*time.Second)
		})
		g := r.create(rooms.Spec("Ticketing"))
		after(3 * time.Second)
		r.stop()
		r.machines(g, "m-2")
		require.NoError(t, r.home.Open(t.Context()))
		r.start()
		after(20 * time.Second)
		jobs := r.ran()
		require.Len(t, jobs, 2)
		require.NotEqual(t, jobs[0].ID, jobs[1].ID)
		require.Len(t, jobs[1].Machines, 2)
		require.Equal(t, []string{jobs[0].ID}, r.abandoned)
		as, err := r.m.Accounts(t.Context(), g.ID, 0, 0)
		require.NoError(t, err)
		require.Equal(t, cycle.Failed, as[1].State)
		require.Equal(t, "Its machines changed", as[1].Error)
	})
}

// Four cycles at a time; what has the least time left goes first, and a group that
// is asked for goes before all.
func TestPlacesGoToThoseWhoNeedThemMost(t *testing.T) {
	virtual(t, func(t *testing.T, r *rig) {
		r.reach(false)
		byID := map[string]string{}
		for i := range 12 {
			s := rooms.Spec(fmt.Sprintf("group %02d", i))
			s.Promise.Cadence = cadence.Cadence{Every: time.Hour}
			s.Promise.Target = time.Duration(12-i) * 3 * time.Hour
			byID[r.create(s).ID] = s.Name
		}
		after(time.Minute)
		require.Empty(t, r.ran())
		asked, err := r.home.Groups.Find("group 00")
		require.NoError(t, err)
		require.NoError(t, r.m.Ask(asked, false))
		r.reach(true)
		after(30 * time.Second)
		var order []string
		for _, j := range r.ran() {
			order = append(order, byID[j.Group.ID])
		}
		require.Len(t, order, 12)
		first := map[string]bool{}
		for _, name := range order[:4] {
			first[name] = true
		}
		require.Equal(t, map[string]bool{"group 00": true, "group 11": true, "group 10": true, "group 09": true}, first)
	})
}

// After a restart in the middle of a cycle the same one goes on, and a second copy
// of what was sealed before is not begun.
func TestARestartGoesOnWithTheSameCycle(t *testing.T) {
	virtual(t, func(t *testing.T, r *rig) {
		r.create(rooms.Spec("Ticketing"))
		after(5 * time.Second)
		r.set(func(ctx context.Context, _ cycle.Job, _ func(cycle.Progress)) error {
			return clock.Sleep(ctx, clock.Wall{}, 10*time.Second)
		})
		after(58 * time.Second)
		require.Len(t, r.ran(), 2)
		r.stop()
		r.start()
		after(20 * time.Second)
		jobs := r.ran()
		require.Len(t, jobs, 3)
		require.Equal(t, jobs[1].ID, jobs[2].ID)
		require.Equal(t, r.far.shipped[0], jobs[2].BasePoint)
		require.True(t, jobs[2].Resumed)
	})
}

// A fault in one cycle ends neither the service nor the other groups' cycles.
func TestAPanicInACycleIsItsOwn(t *testing.T) {
	virtual(t, func(t *testing.T, r *rig) {
		r.set(func(_ context.Context, job cycle.Job, _ func(cycle.Progress)) error {
			if job.Group.Name == "Bad" {
				panic("nil map")
			}
			return nil
		})
		bad := r.create(rooms.Spec("Bad")).ID
		good := r.create(rooms.Spec("Good")).ID
		after(10 * time.Second)
		require.Contains(t, r.m.Live(bad).Failure, "fault of the service")
		require.Contains(t, r.far.newest, good)
	})
}

// A platform that hangs when it is asked for changes holds up only what is asked of
// it: cycles go on, and the count is marked as not known.
func TestAHangingPlatformHoldsUpOnlyItsCounts(t *testing.T) {
	virtual(t, func(t *testing.T, r *rig) {
		g := r.create(rooms.Spec("Ticketing"))
		after(25 * time.Second)
		require.True(t, r.m.Live(g.ID).BacklogKnown)
		r.src.hangs.Store(true)
		after(5 * time.Minute)
		require.False(t, r.m.Live(g.ID).BacklogKnown)
		require.GreaterOrEqual(t, len(r.ran()), 5)
	})
}

// Checkpoints of this site that nobody needs are forgotten; those of others and
// those that the next cycle counts from stay.
func TestLeftoversAreForgotten(t *testing.T) {
	virtual(t, func(t *testing.T, r *rig) {
		r.create(rooms.Spec("Ticketing"))
		after(5 * time.Second)
		base := r.ran()[0].Checkpoint
		r.stop()
		r.src.checkpoints = []string{"kt-left-over", base, "others-1"}
		r.start()
		after(5 * time.Second)
		require.Equal(t, []string{"kt-left-over"}, r.src.forgotten)
	})
}

// Stopping a group waits for its cycle, and gives what is to be forgotten; undone,
// its cycles run again.
func TestStoppingAGroupCanBeUndone(t *testing.T) {
	virtual(t, func(t *testing.T, r *rig) {
		g := r.create(rooms.Spec("Ticketing"))
		after(5 * time.Second)
		base, undo := r.m.Stop(g.ID)
		require.Equal(t, r.ran()[0].Checkpoint, base)
		after(5 * time.Minute)
		require.Len(t, r.ran(), 1)
		undo()
		after(2 * time.Second)
		require.Len(t, r.ran(), 2)
	})
}

// To compare is asked for once, and is done once.
func TestACompareIsDoneOnce(t *testing.T) {
	virtual(t, func(t *testing.T, r *rig) {
		g := r.create(rooms.Spec("Ticketing"))
		after(5 * time.Second)
		require.NoError(t, r.m.Ask(g, true))
		after(3 * time.Minute)
		jobs := r.ran()
		require.True(t, jobs[1].Compare)
		require.False(t, jobs[2].Compare)
		require.Equal(t, 1, r.lines("full comparison"))
		require.False(t, r.m.Live(g.ID).ComparedAt.IsZero())
	})
}

func refused(err error) bool {
	p, ok := problem.Of(err)
	return ok && p.Status == 409
}

// Where file systems have to be at rest and are not, there is no point; it is tried again
// with growing pauses, said once, and what is due at one of several captures is not lost.
func TestRestThatIsRequired(t *testing.T) {
	virtual(t, func(t *testing.T, r *rig) {
		s := rooms.Spec("Ticketing")
		s.Machines[0].Rest = group.Rest{Mode: group.RestRequired, Nth: 3, Limit: 10 * time.Second, Before: "flush"}
		var restless atomic.Bool
		restless.Store(true)
		r.set(func(ctx context.Context, job cycle.Job, _ func(cycle.Progress)) error {
			if len(job.Required) > 0 && restless.Load() {
				return fmt.Errorf("%w: tick-db has to be at rest", cycle.ErrNotAtRest)
			}
			return clock.Sleep(ctx, clock.Wall{}, time.Second)
		})
		r.create(s)
		after(2 * time.Minute)
		jobs := r.ran()
		require.Greater(t, len(jobs), 4, "it is tried again and again")
		require.Less(t, len(jobs), 20, "with growing pauses")
		require.Empty(t, r.far.shipped)
		ids := map[string]bool{}
		for _, j := range jobs {
			require.Equal(t, []platform.Rest{{Machine: s.Machines[0].ID, Limit: 10 * time.Second, Before: "flush"}}, j.Quiesce)
			ids[j.ID] = true
		}
		require.Len(t, ids, len(jobs), "a new cycle each time")
		require.Equal(t, 1, r.lines("has to be at rest"))
		restless.Store(false)
		after(5 * time.Hour)
		var rested []bool
		for _, j := range r.ran()[len(jobs):] {
			rested = append(rested, len(j.Quiesce) > 0)
		}
		require.GreaterOrEqual(t, len(rested), 4)
		require.Equal(t, []bool{true, false, false, true}, rested[:4], "at one of three captures")
	})
}

// A group that waits for a place says for which, to its recovery site as well, and no longer
// once it begins.
func TestWhoWaitsSaysWhy(t *testing.T) {
	virtual(t, func(t *testing.T, r *rig) {
		r.stop()
		r.limits = schedule.Limits{Site: 8, Datastore: 1}
		r.start()
		free := make(chan struct{})
		r.set(func(ctx context.Context, _ cycle.Job, _ func(cycle.Progress)) error {
			select {
			case <-free:
			case <-ctx.Done():
			}
			return ctx.Err()
		})
		first := r.create(rooms.Spec("Ticketing"))
		after(time.Second)
		second := r.create(rooms.Spec("Crew rota"))
		after(2 * time.Second)
		require.Len(t, r.ran(), 1)
		require.Empty(t, r.m.Live(first.ID).Waiting)
		require.Equal(t, "one cycle runs on array-a", r.m.Live(second.ID).Waiting)
		close(free)
		after(2 * time.Second)
		require.Len(t, r.ran(), 2)
		require.Empty(t, r.m.Live(second.ID).Waiting)
	})
}

// Where more is promised over a link than that carries, one group keeps its target, and the
// other has the slow lane.
func TestTheSlowLane(t *testing.T) {
	virtual(t, func(t *testing.T, r *rig) {
		r.mu.Lock()
		r.limit = 1 << 20
		r.mu.Unlock()
		r.src.hangs.Store(true) // it does not count what changes; cycles tell
		r.set(func(ctx context.Context, job cycle.Job, report func(cycle.Progress)) error {
			at := time.Now().UTC()
			report(cycle.Progress{Kind: cycle.KindChanges, Phase: "ship", CaptureAt: at, ReadBytes: 45 << 20, ChangedBytes: 45 << 20, WireBytes: 45 << 20, Phases: []cycle.Phase{{Name: "ship", From: at, To: new(at.Add(time.Second))}}})
			return clock.Sleep(ctx, clock.Wall{}, time.Second)
		})
		a, b := r.create(rooms.Spec("Ticketing")), r.create(rooms.Spec("Crew rota")) // 45 MiB a minute each, of 60 that the link carries
		after(10 * time.Minute)
		r.mu.Lock()
		slow := 0
		for _, w := range r.weights {
			if w < 0.5 {
				slow++
			}
		}
		all := len(r.weights)
		r.mu.Unlock()
		require.Positive(t, slow)
		require.Less(t, slow, all)
		whys := ""
		for _, g := range []directory.Record{a, b} {
			as, err := r.m.Accounts(t.Context(), g.ID, 0, 5)
			require.NoError(t, err)
			for _, x := range as {
				whys += x.Why + "\n"
			}
		}
		require.Contains(t, whys, "has its turn in the slow lane")
		require.Contains(t, whys, "it is due, ")
	})
}

// A group that is given away has no cycle any more, and nothing of one is left on the platform:
// its machines are held open by none. Home again, it goes on with changes; home elsewhere for
// good, all that its cycles came to is forgotten.
func TestAGroupThatIsGivenAway(t *testing.T) {
	virtual(t, func(t *testing.T, r *rig) {
		g := r.create(rooms.Spec("Ticketing"))
		after(30 * time.Second)
		r.set(func(ctx context.Context, _ cycle.Job, _ func(cycle.Progress)) error {
			return clock.Sleep(ctx, clock.Wall{}, time.Hour)
		})
		after(35 * time.Second)
		cut := r.ran()[1]
		turn := func(to directory.Turned) {
			t.Helper()
			_, err := r.home.Groups.Turn(t.Context(), rooms.Anna(), g.ID, func(x *directory.Record) (string, error) {
				x.Turned = to
				return "turned", nil
			})
			require.NoError(t, err)
			synctest.Wait()
		}
		turn(directory.Ceded)
		require.Contains(t, r.src.forgotten, cut.Checkpoint, "its capture is let go of at once")
		_, err := r.home.DB.OpenCycle(t.Context(), g.ID)
		require.ErrorIs(t, err, records.ErrNotFound)
		require.ErrorContains(t, r.m.Ask(away(r, g), false), "not home here", "nobody has one begin")
		after(10 * time.Minute)
		require.Len(t, r.ran(), 2)

		r.set(func(context.Context, cycle.Job, func(cycle.Progress)) error { return nil })
		turn("")
		after(5 * time.Second)
		jobs := r.ran()
		require.Len(t, jobs, 3)
		require.NotEqual(t, cut.ID, jobs[2].ID)
		require.Equal(t, jobs[0].Checkpoint, jobs[2].BaseCheckpoint, "with changes only")

		turn(directory.Away)
		elsewhere, ok := r.home.Groups.Get(g.ID)
		require.True(t, ok)
		elsewhere.HomeID, elsewhere.HomeName, elsewhere.RecoveryName, elsewhere.Term = rooms.RecoveryID, rooms.RecoveryName, rooms.HomeName, 2
		_, err = r.home.Groups.Mirror(t.Context(), rooms.Anna(), elsewhere)
		require.NoError(t, err)
		reps, err := r.home.DB.Replications(t.Context())
		require.NoError(t, err)
		require.Empty(t, reps)
		_, err = r.home.Groups.Turn(t.Context(), rooms.Anna(), g.ID, func(x *directory.Record) (string, error) {
			x.Direction, x.Term = directory.Out, 3
			return "home once more", nil
		})
		require.NoError(t, err)
		after(5 * time.Second)
		jobs = r.ran()
		require.Empty(t, jobs[len(jobs)-1].BasePoint, "what it was before says nothing of what is there now")
	})
}

// away is a group as it is now.
func away(r *rig, g directory.Record) directory.Record {
	now, _ := r.home.Groups.Get(g.ID)
	return now
}
