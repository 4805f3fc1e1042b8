package recovery_test

import (
	"context"
	"crypto/ed25519"
	"errors"
	"fmt"
	"net"
	"sync"
	"testing"
	"testing/synctest"
	"time"

	"github.com/google/uuid"
	"github.com/stretchr/testify/require"

	"kestrel/internal/api"
	"kestrel/internal/clock"
	"kestrel/internal/core/actor"
	"kestrel/internal/core/drill"
	"kestrel/internal/core/ladder"
	"kestrel/internal/core/runbook"
	"kestrel/internal/directory"
	"kestrel/internal/evidence"
	"kestrel/internal/inventory"
	"kestrel/internal/landing"
	"kestrel/internal/platform"
	"kestrel/internal/points"
	"kestrel/internal/problem"
	"kestrel/internal/recovery"
	"kestrel/internal/support/rooms"
)

// yard makes machines that are nothing but what is said of them.
type yard struct {
	mu      sync.Mutex
	stands  []landing.Standing
	fails   error // of making
	held    error // of removing
	open    []string
	removed int
	guest   *guest
}

func (y *yard) Plan(context.Context, actor.Actor, api.NewLanding, []landing.Old) ([]landing.Planned, []string, error) {
	y.mu.Lock()
	defer y.mu.Unlock()
	return []landing.Planned{{Machine: "gate", Name: "gate-drill", Wave: 1}}, y.open, nil
}

func (y *yard) Recover(context.Context, actor.Actor, api.NewLanding, string, []landing.Old) error {
	y.mu.Lock()
	defer y.mu.Unlock()
	if y.fails == nil && len(y.stands) == 0 {
		y.stands = []landing.Standing{{ID: "l1", Home: "gate", Machine: drill.Machine{Name: "gate-drill", Wave: 1}, Platform: "p"}}
	}
	return y.fails
}

// Up tells whether its machine has started.
func (y *yard) Up(string, int) bool {
	y.mu.Lock()
	defer y.mu.Unlock()
	return len(y.stands) > 0 && !y.stands[0].Passed.IsZero()
}

func (y *yard) Driver(string) (platform.Lander, error) { return y.guest, nil }

func (y *yard) Release(context.Context, actor.Actor, string) error {
	y.set(func() { y.stands = nil })
	return nil
}

func (y *yard) Skip(context.Context, actor.Actor, string, string) error { return nil }

func (y *yard) OfRecovery(string) []landing.Standing {
	y.mu.Lock()
	defer y.mu.Unlock()
	return append([]landing.Standing(nil), y.stands...)
}

func (y *yard) Screen(context.Context, string) ([]byte, error) { return nil, platform.ErrNoScreen }

func (y *yard) Remove(context.Context, actor.Actor, string) error {
	y.mu.Lock()
	defer y.mu.Unlock()
	if y.held != nil {
		return y.held
	}
	y.stands, y.removed = nil, y.removed+1
	return nil
}

func (y *yard) set(f func()) {
	y.mu.Lock()
	defer y.mu.Unlock()
	f()
}

// up says that the machine has started, and what came of its check.
func (y *yard) up(missed bool) {
	y.set(func() {
		y.stands[0].Started, y.stands[0].Passed, y.stands[0].Missed = time.Now(), time.Now().Add(time.Minute), missed
	})
}

// site is a recovery site with a group of four points: crash, application, odd, crash.
type site struct {
	*rooms.Side
	*yard
	t        *testing.T
	recovery *recovery.Recovery
	group    directory.Record
	points   []string
	key      ed25519.PrivateKey
	stop     func()
	around   *around
}

func newSite(t *testing.T) *site {
	t.Helper()
	side, err := rooms.New(rooms.RecoveryID, rooms.RecoveryName, 1)
	require.NoError(t, err)
	_, key, err := ed25519.GenerateKey(nil)
	require.NoError(t, err)
	s := &site{Side: side, yard: &yard{guest: &guest{}}, t: t, key: key, around: &around{}}
	s.group = rooms.Record(uuid.NewString(), rooms.Spec("Gates"))
	s.group.Term, s.group.Revision = 1, 1
	s.group.Spec.Promise.Keep = ladder.Ladder{{For: 48 * time.Hour}}
	s.group.CreatedAt, s.group.Spec.DrillEvery = time.Now(), 90*24*time.Hour
	require.NoError(t, side.Mirror(t.Context(), s.group))
	for i := range 4 {
		x, err := side.Seal(t.Context(), s.group, fmt.Sprintf("%08d-0000-4000-8000-000000000000", i), time.Now().Add(time.Duration(i-5)*time.Hour), append([]byte{byte(i + 1)}, make([]byte, points.BlockSize-1)...))
		require.NoError(t, err)
		s.points = append(s.points, x.Point)
	}
	s.open()
	return s
}

func (s *site) sign(payload []byte) ([]byte, error) { return evidence.Sign(s.key, payload) }

// open makes the room anew from what is recorded, and lets it run.
func (s *site) open() {
	s.t.Helper()
	inv, err := inventory.Open(s.t.Context(), inventory.Config{DB: s.DB, Groups: s.Groups, Trail: s.Trail, Clock: clock.Wall{}, Hub: s.Hub, Log: s.Log, StateDir: s.t.TempDir(), Every: time.Hour})
	require.NoError(s.t, err)
	s.recovery, err = recovery.Open(s.t.Context(), recovery.Config{SiteID: rooms.RecoveryID, Sign: s.sign, Site: rooms.RecoveryName, DB: s.DB, Groups: s.Groups, Keeper: s.Keeper, Inventory: inv, Landings: s.yard, Operations: s.Operations, Trail: s.Trail, Clock: clock.Wall{}, Hub: s.Hub, Log: s.Log, Every: time.Second,
		Needs: func(string) []string { return nil }, Steps: func(string) []runbook.Step { return s.around.steps }, Commands: s.around, Names: s.around, Tell: s.around.tell, Dial: new(net.Dialer).DialContext})
	require.NoError(s.t, err)
	ctx, cancel := context.WithCancel(context.Background())
	var wg sync.WaitGroup
	wg.Go(func() { s.Operations.Run(ctx) })
	wg.Go(func() { s.recovery.Run(ctx) })
	require.NoError(s.t, s.recovery.Resume(ctx))
	s.stop = func() { cancel(); wg.Wait() }
}

func (s *site) start(in api.NewDrill) api.Drill {
	s.t.Helper()
	d, err := s.recovery.Start(s.t.Context(), rooms.Anna(), "Gates", in)
	require.NoError(s.t, err)
	return d
}

// after is the drill some time later.
func (s *site) after(id string, d time.Duration) api.Drill {
	s.t.Helper()
	time.Sleep(d)
	synctest.Wait()
	x, err := s.recovery.Get(id)
	require.NoError(s.t, err)
	return x
}

func (s *site) refused(in api.NewDrill, field, what string) {
	s.t.Helper()
	_, err := s.recovery.Plan(s.t.Context(), rooms.Anna(), "Gates", in)
	p, ok := problem.Of(err)
	require.True(s.t, ok, "%v", err)
	require.ErrorContains(s.t, err, what)
	if field != "" {
		require.Equal(s.t, field, p.Errors[0].Field)
	}
}

func TestChoosingAPoint(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		s := newSite(t)
		defer s.stop()
		chosen := func(in api.NewDrill) int64 {
			t.Helper()
			p, err := s.recovery.Plan(t.Context(), rooms.Anna(), "Gates", in)
			require.NoError(t, err)
			return p.PointNumber
		}
		require.EqualValues(t, 4, chosen(api.NewDrill{}))
		require.EqualValues(t, 2, chosen(api.NewDrill{Point: new("2")}))
		require.EqualValues(t, 1, chosen(api.NewDrill{Point: &s.points[0], Choose: new("newest")}), "a point counts before a way to choose one")
		require.EqualValues(t, 3, chosen(api.NewDrill{Choose: new("before"), Before: new(time.Now().Add(-2 * time.Hour))}))
		require.EqualValues(t, 4, chosen(api.NewDrill{Choose: new("calm")}), "nothing was unusual")
		s.refused(api.NewDrill{Point: new("9")}, "point", "no point 9")
		s.refused(api.NewDrill{Choose: new("application")}, "choose", "application-consistent")
		s.refused(api.NewDrill{Choose: new("proved")}, "choose", "has proved")
		s.refused(api.NewDrill{Choose: new("before")}, "before", "Give the time")
		s.refused(api.NewDrill{Choose: new("before"), Before: new(time.Now().Add(-9 * time.Hour))}, "choose", "no point here")
		s.refused(api.NewDrill{Choose: new("oldest")}, "choose", "none of newest")
		for _, n := range []int64{0, -1, 59, 15 * 86400} {
			s.refused(api.NewDrill{ForSeconds: &n}, "forSeconds", "open for 1 min to 14 d")
		}
		s.set(func() { s.yard.open = []string{"The gate runs there."} })
		s.refused(api.NewDrill{}, "insist", "The gate runs there.")
		require.EqualValues(t, 4, chosen(api.NewDrill{Insist: &api.Insist{Group: "Gates", Reason: "it is off"}}))

		d := s.start(api.NewDrill{Point: new("2"), Once: new(true), Insist: &api.Insist{Group: "Gates", Reason: "it is off"}})
		require.Equal(t, "it is off", *d.Reason, "the record keeps it")
		require.True(t, s.recovery.InUse(s.points[1]))
		s.refused(api.NewDrill{}, "", "under way")
		s.after(d.ID, 2*time.Second)
		s.up(false)
		x := s.after(d.ID, 5*time.Second)
		require.Equal(t, []string{"over", "passed"}, []string{x.State, *x.Result})
		require.False(t, s.recovery.InUse(s.points[1]))
		require.False(t, s.recovery.Proved(s.points[1]).IsZero())
		require.True(t, s.recovery.Proved(s.points[3]).IsZero())
		s.set(func() { s.yard.open = nil })
		require.EqualValues(t, 2, chosen(api.NewDrill{Choose: new("proved")}))
		last, due := s.recovery.Due(s.group)
		require.Equal(t, last.Add(90*24*time.Hour), due)
	})
}

// A drill that never starts ends by itself; what cannot be removed is tried again until it is;
// a restart in between changes nothing.
func TestADrillThatGoesWrong(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		s := newSite(t)
		s.set(func() { s.fails = errors.New("the hypervisor is being mended") })
		d := s.start(api.NewDrill{})
		x := s.after(d.ID, time.Minute)
		require.Equal(t, "starting", x.State)
		require.Contains(t, *x.Error, "is being mended")
		require.Len(t, x.Steps, 2, "what goes wrong again and again is told once")
		x = s.after(d.ID, drill.StartLimit)
		require.Equal(t, []string{"over", "stopped"}, []string{x.State, *x.Result})
		require.True(t, s.recovery.Last(s.group.ID).IsZero())

		s.set(func() { s.fails = nil })
		d = s.start(api.NewDrill{ForSeconds: new(int64(600))})
		s.after(d.ID, 3*time.Second)
		s.up(true)
		require.Equal(t, "open", s.after(d.ID, 3*time.Second).State)
		s.stop()
		require.NoError(t, s.Open(t.Context()))
		s.open()
		defer func() { s.stop() }()
		s.set(func() { s.held = errors.New("the datastore is busy") })
		x = s.after(d.ID, time.Hour)
		require.Equal(t, "clearing", x.State, "its time was over")
		require.Equal(t, "failed", *x.Result, "its check did not pass")
		require.Contains(t, *x.Error, "is busy")
		require.False(t, x.NothingLeft)
		_, err := s.recovery.End(t.Context(), rooms.Anna(), d.ID, api.DrillEnd{Passed: new(true)})
		require.ErrorContains(t, err, "has ended already")
		s.set(func() { s.held = nil })
		x = s.after(d.ID, 10*time.Second)
		require.Equal(t, "over", x.State)
		require.True(t, x.NothingLeft)
		require.Nil(t, x.Error)
		require.Equal(t, 1, s.removed)
		// Of each there is evidence, and each follows on the one before.
		var before evidence.Signed
		for n := int64(1); n <= 2; n++ {
			e, err := s.DB.EvidenceNumber(t.Context(), n)
			require.NoError(t, err)
			signed, err := evidence.Read(e.File)
			require.NoError(t, err)
			require.Equal(t, []string{"Gates", []string{"stopped", "failed"}[n-1], rooms.RecoveryName}, []string{signed.Group, signed.Result, signed.Site})
			require.Equal(t, e.Hash, signed.Hash)
			if n > 1 {
				require.NoError(t, signed.Follows(before))
			}
			before = signed
			pdf, err := recovery.Paper(e.File)
			require.NoError(t, err)
			require.Equal(t, "%PDF", string(pdf[:4]))
		}
		all, err := s.recovery.List("Gates", func(string) bool { return true })
		require.NoError(t, err)
		require.Len(t, all, 2)
		require.Equal(t, d.ID, all[0].ID, "the newest first")
		none, err := s.recovery.List("", func(string) bool { return false })
		require.NoError(t, err)
		require.Empty(t, none)
	})
}

// Drills of a round begin by themselves at their time, one after the other, over restarts; what
// is refused is told and holds up no other, and nothing begins when the hours are over.
func TestDrillsByThemselves(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		time.Sleep(2 * 366 * 24 * time.Hour) // calendars begin in 2001, and the clock of a test before that
		s := newSite(t)
		defer func() { s.stop() }()
		other := rooms.Record(uuid.NewString(), rooms.Spec("Empty")) // it has no point
		other.Term, other.Revision, other.CreatedAt = 1, 1, time.Now()
		require.NoError(t, s.Mirror(t.Context(), other))
		add := func(in api.NewDrillRound) error {
			_, err := s.recovery.AddRound(t.Context(), rooms.Anna(), in)
			return err
		}
		for field, in := range map[string]api.NewDrillRound{"name": {Name: "", At: "sun at 03:00"}, "at": {Name: "night", At: "now and then"}, "choose": {Name: "night", At: "sun at 03:00", Choose: new("before")}, "hoursSeconds": {Name: "night", At: "sun at 03:00", HoursSeconds: new(int64(5))}} {
			p, ok := problem.Of(add(in))
			require.True(t, ok)
			require.Equal(t, field, p.Errors[0].Field)
		}
		for _, in := range []api.NewDrillRound{{Name: "night", At: "03:00", Group: new("Nobody")}, {Name: "night", At: "03:00", Group: new("Gates"), Tag: new("gold")}, {Name: "night", At: "03:00", Zone: new("Nowhere/Land")}} {
			require.Error(t, add(in))
		}
		now := time.Now().UTC()
		soon := now.Add(time.Hour)
		require.NoError(t, add(api.NewDrillRound{Name: "night", At: fmt.Sprintf("daily at %02d:%02d", soon.Hour(), soon.Minute()), HoursSeconds: new(int64(7200))}))
		require.ErrorContains(t, add(api.NewDrillRound{Name: "Night", At: "sun at 03:00"}), "already")
		drills := func() []api.Drill {
			t.Helper()
			synctest.Wait()
			all, err := s.recovery.List("", func(string) bool { return true })
			require.NoError(t, err)
			return all
		}
		time.Sleep(30 * time.Minute)
		require.Empty(t, drills(), "it is not time yet")
		time.Sleep(31 * time.Minute)
		require.Len(t, drills(), 1)
		s.stop()
		// As if it had been killed after the drill began and before that was noted.
		kept, err := s.DB.DrillRounds(t.Context())
		require.NoError(t, err)
		kept[0].Pending = fmt.Appendf(nil, "[%q]", s.group.ID)
		require.NoError(t, s.DB.SaveDrillRound(t.Context(), kept[0]))
		require.NoError(t, s.Open(t.Context()))
		s.open()
		time.Sleep(time.Minute)
		synctest.Wait()
		s.up(false)
		time.Sleep(time.Minute)
		all := drills()
		require.Len(t, all, 1, "the other was refused, and this one is not drilled twice")
		require.Equal(t, []string{"over", "passed", "Gates"}, []string{all[0].State, *all[0].Result, all[0].GroupName})
		rounds, err := s.recovery.Rounds(t.Context())
		require.NoError(t, err)
		require.Len(t, rounds, 1)
		require.Zero(t, rounds[0].Pending)
		require.Len(t, rounds[0].Refused, 1)
		require.Equal(t, "Empty", rounds[0].Refused[0].Group)
		require.Contains(t, rounds[0].Refused[0].Why, "There is no point of Empty")
		require.Equal(t, []string{"Empty", "Gates"}, rounds[0].Groups)

		// The service is down at its time and for longer than its hours: nothing begins by day.
		s.stop()
		time.Sleep(26 * time.Hour)
		require.NoError(t, s.Open(t.Context()))
		s.open()
		time.Sleep(10 * time.Minute)
		require.Len(t, drills(), 1)
		require.NoError(t, s.recovery.RemoveRound(t.Context(), rooms.Anna(), "NIGHT"))
		time.Sleep(48 * time.Hour)
		require.Len(t, drills(), 1)
		require.Error(t, s.recovery.RemoveRound(t.Context(), rooms.Anna(), "night"))
	})
}
