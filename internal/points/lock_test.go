package points_test

import (
	"math/rand/v2"
	"path/filepath"
	"testing"
	"testing/synctest"
	"time"

	"github.com/google/uuid"
	"github.com/stretchr/testify/require"

	"kestrel/internal/files/faulty"
	"kestrel/internal/points"
)

// locking is a store on a simulated disk, opened at a time of the host's clock that may
// be anything.
type locking struct {
	t     *testing.T
	fs    *faulty.FS
	s     *points.Store
	ahead time.Duration // of the host's clock
}

func (l *locking) open() {
	l.t.Helper()
	var err error
	l.s, err = points.Open("store", points.Options{Now: func() time.Time { return time.Now().Add(l.ahead) }, Files: l.fs, Later: func(f func()) { f() }})
	require.NoError(l.t, err)
}

// away closes the store for a while, in which the host's clock is set forward besides.
func (l *locking) away(d, jump time.Duration) {
	l.t.Helper()
	require.NoError(l.t, l.s.KeepClock())
	require.NoError(l.t, l.s.Close())
	time.Sleep(d)
	l.ahead += jump
	l.open()
}

func (l *locking) seal() *points.Seal {
	l.t.Helper()
	in, _, err := l.s.OpenIntake(points.IntakeSpec{ID: uuid.NewString(), Group: points.SealGroup{ID: groupID, Name: "ticketing"}, Disks: []points.IntakeDisk{{Machine: "m", Key: "d", Size: points.BlockSize}}})
	require.NoError(l.t, err)
	x, err := in.Seal(points.Seal{CaptureAt: time.Now(), Consistency: "crash", Machines: []points.SealMachine{{ID: "m", Name: "m", Disks: []points.SealDisk{{Key: "d", Size: points.BlockSize}}}}})
	require.NoError(l.t, err)
	return x
}

func locked(t *testing.T, f func(t *testing.T, l *locking)) {
	t.Helper()
	synctest.Test(t, func(t *testing.T) {
		l := &locking{t: t, fs: faulty.New(rand.New(rand.NewPCG(1, 2)))}
		l.open()
		defer func() { require.NoError(t, l.s.Close()) }()
		f(t, l)
	})
}

const day = 24 * time.Hour

// A locked point is dropped by nobody before its time; the lock grows and never
// shrinks, over restarts too.
func TestALockedPointStays(t *testing.T) {
	locked(t, func(t *testing.T, l *locking) {
		x, free := l.seal(), l.seal()
		until := time.Now().Add(10 * day)
		_, err := l.s.SetLock(x.Point, points.Lock{Until: until, By: "anna"})
		require.NoError(t, err)
		got, err := l.s.SetLock(x.Point, points.Lock{Until: until.Add(-5 * day), By: "mallory"})
		require.NoError(t, err)
		require.True(t, got.Until.Equal(until), "shorter changes nothing")
		require.ErrorIs(t, l.s.Drop(x.Point), points.ErrLocked)
		require.NoError(t, l.s.Drop(free.Point))
		l.away(5*day, 0)
		require.ErrorIs(t, l.s.Drop(x.Point), points.ErrLocked)
		_, err = l.s.SetLock(x.Point, points.Lock{Until: until.Add(2 * day)})
		require.NoError(t, err)
		time.Sleep(6 * day)
		l.away(0, 0)
		_, holds := l.s.Locked(x.Point)
		require.True(t, holds, "it was made longer")
		time.Sleep(day + time.Second)
		_, holds = l.s.Locked(x.Point)
		require.False(t, holds)
		require.NoError(t, l.s.Drop(x.Point))
		l.away(0, 0)
		require.Empty(t, l.s.Points(""))
		_, err = l.s.SetLock(x.Point, points.Lock{Until: until})
		require.ErrorIs(t, err, points.ErrNotFound)
	})
}

// The host's clock frees nothing: set forward while the store is open it means nothing,
// and while it is not, no more than a week, however often; set back, locks last longer.
func TestClocksFreeNothing(t *testing.T) {
	locked(t, func(t *testing.T, l *locking) {
		x := l.seal()
		_, err := l.s.SetLock(x.Point, points.Lock{Until: time.Now().Add(30 * day)})
		require.NoError(t, err)
		l.ahead = 3650 * day
		require.ErrorIs(t, l.s.Drop(x.Point), points.ErrLocked, "while it is open")
		for range 50 {
			l.away(time.Second, 300*day)
			require.ErrorIs(t, l.s.Drop(x.Point), points.ErrLocked, "a year in a second")
		}
		l.away(0, -20000*day)
		require.ErrorIs(t, l.s.Drop(x.Point), points.ErrLocked)
		time.Sleep(22 * day)
		require.ErrorIs(t, l.s.Drop(x.Point), points.ErrLocked, "a week was believed, and these are past")
		time.Sleep(2 * day)
		require.NoError(t, l.s.Drop(x.Point), "time that passes while it is open is believed")
	})
}

// A store that was away for some days, as for a repair, takes the host's word for it.
func TestTimeAwayCounts(t *testing.T) {
	locked(t, func(t *testing.T, l *locking) {
		x := l.seal()
		_, err := l.s.SetLock(x.Point, points.Lock{Until: time.Now().Add(6 * day)})
		require.NoError(t, err)
		l.away(5*day, 0)
		require.ErrorIs(t, l.s.Drop(x.Point), points.ErrLocked)
		l.away(day, 0)
		require.NoError(t, l.s.Drop(x.Point))
		y := l.seal()
		_, err = l.s.SetLock(y.Point, points.Lock{Until: time.Now().Add(45 * day)})
		require.NoError(t, err)
		time.Sleep(40 * day) // trust grows again
		l.away(6*day, 0)
		require.NoError(t, l.s.Drop(y.Point))
	})
}

// A lock that was damaged holds; one that a crash left half written is none.
func TestADamagedLockHolds(t *testing.T) {
	locked(t, func(t *testing.T, l *locking) {
		x := l.seal()
		_, err := l.s.SetLock(x.Point, points.Lock{Until: time.Now().Add(time.Hour)})
		require.NoError(t, err)
		require.NoError(t, l.s.Close())
		for l.fs.Rot(filepath.Join("store", "seals", "*", "*.lock")) && func() bool { l.open(); _, holds := l.s.Locked(x.Point); return holds }() {
			time.Sleep(2 * time.Hour)
			if _, holds := l.s.Locked(x.Point); holds { // only what cannot be read holds still
				require.ErrorIs(t, l.s.Drop(x.Point), points.ErrLocked)
				return
			}
			require.NoError(t, l.s.Close())
		}
		l.open()
	})
}
