package survey_test

import (
	"context"
	"errors"
	"maps"
	"slices"
	"sync"
	"testing"
	"testing/synctest"
	"time"

	"github.com/stretchr/testify/require"

	"kestrel/internal/api"
	"kestrel/internal/clock"
	"kestrel/internal/inventory"
	"kestrel/internal/platform"
	"kestrel/internal/problem"
	"kestrel/internal/support/rooms"
	"kestrel/internal/survey"
)

// driver is a platform whose machines write the same thousand bytes each second, and sixty
// new ones a minute. It copies nothing: reading is a fault.
type driver struct {
	platform.Driver
	mu    sync.Mutex
	has   []platform.Machine
	since map[string]time.Time // by checkpoint
	of    map[string]string
	fails error
}

func (d *driver) Check(context.Context) []platform.Step {
	return []platform.Step{{Name: "address", Tried: true, OK: true}}
}

func (d *driver) Inventory(context.Context) (platform.Inventory, error) {
	d.mu.Lock()
	defer d.mu.Unlock()
	return platform.Inventory{Machines: d.has}, d.fails
}

func (d *driver) Capture(_ context.Context, r platform.CaptureRequest) (*platform.Capture, error) {
	d.mu.Lock()
	defer d.mu.Unlock()
	if d.fails != nil {
		return nil, d.fails
	}
	d.since[r.Name], d.of[r.Name] = time.Now(), r.Machines[0]
	return &platform.Capture{Name: r.Name}, nil
}

func (d *driver) Release(context.Context, string) error { return nil }
func (d *driver) Close()                                {}

func (d *driver) Forget(_ context.Context, name string) error {
	d.mu.Lock()
	defer d.mu.Unlock()
	delete(d.since, name)
	return nil
}

func (d *driver) Changed(_ context.Context, name string) (map[string]int64, error) {
	d.mu.Lock()
	defer d.mu.Unlock()
	at, ok := d.since[name]
	if !ok {
		return nil, platform.ErrGone
	}
	return map[string]int64{d.of[name]: 1000 + 60*int64(time.Since(at)/time.Minute)}, d.fails
}

func (d *driver) Checkpoints(context.Context) ([]string, error) {
	d.mu.Lock()
	defer d.mu.Unlock()
	return slices.Collect(maps.Keys(d.since)), d.fails
}

type rig struct {
	*rooms.Side
	t       *testing.T
	d       *driver
	v       *inventory.Inventory
	surveys *survey.Surveys
	stop    func()
}

func run(t *testing.T, f func(t *testing.T, r *rig)) {
	t.Helper()
	synctest.Test(t, func(t *testing.T) {
		s, err := rooms.New(rooms.HomeID, rooms.HomeName, 1)
		require.NoError(t, err)
		r := &rig{Side: s, t: t, d: &driver{since: map[string]time.Time{}, of: map[string]string{}}}
		for _, name := range []string{"kiosk", "printer"} {
			r.d.has = append(r.d.has, platform.Machine{ID: "m-" + name, Name: name, Disks: []platform.Disk{{Key: "d", Label: "disk 1", SizeBytes: 1 << 30, UsedBytes: 1 << 20}}})
		}
		r.d.has = append(r.d.has, platform.Machine{ID: "m-bare", Name: "bare"})
		r.v, err = inventory.Open(t.Context(), inventory.Config{DB: r.DB, Groups: r.Groups, Trail: r.Trail, Clock: clock.Wall{}, Hub: r.Hub, Log: r.Log, StateDir: t.TempDir(), Every: 10 * time.Second,
			Connect: func(string, string) (platform.Driver, error) { return r.d, nil }})
		require.NoError(t, err)
		_, err = r.v.Create(t.Context(), rooms.Anna(), api.NewPlatform{Name: "quay", Kind: "lab", Address: "there", User: new("svc"), Password: new("x")})
		require.NoError(t, err)
		r.start()
		defer func() {
			r.stop()
			r.v.Close()
			require.NoError(t, s.Store.Close())
		}()
		f(t, r)
	})
}

// start is the service as it begins, again after a restart.
func (r *rig) start() {
	r.t.Helper()
	var err error
	r.surveys, err = survey.Open(r.t.Context(), survey.Config{DB: r.DB, Groups: r.Groups, Inventory: r.v, Trail: r.Trail, Clock: clock.Wall{}, Hub: r.Hub, Log: r.Log, Owner: "kts-1-", Every: 10 * time.Second})
	require.NoError(r.t, err)
	ctx, cancel := context.WithCancel(context.Background())
	var wg sync.WaitGroup
	wg.Go(func() { r.v.Run(ctx) })
	wg.Go(func() { r.surveys.Run(ctx) })
	r.stop = func() { cancel(); wg.Wait() }
	synctest.Wait()
}

func (r *rig) faults(err error) map[string]string {
	r.t.Helper()
	p, ok := problem.Of(err)
	require.True(r.t, ok, "%v", err)
	out := map[string]string{}
	for _, f := range p.Errors {
		out[f.Field] = f.Message
	}
	return out
}

// What changes again and again counts once in each window, hours are watched one after
// another through a restart and a lost record, and nothing is left on the platform.
func TestASurveyCountsWhatChangesOnce(t *testing.T) {
	run(t, func(t *testing.T, r *rig) {
		id, err := r.surveys.Start(t.Context(), rooms.Anna(), "Kiosks", []string{"kiosk", "PRINTER"}, 5*time.Hour)
		require.NoError(t, err)
		time.Sleep(2*time.Hour + time.Minute)
		v, err := r.surveys.Show(t.Context(), "kiosks")
		require.NoError(t, err)
		require.Equal(t, id, v.ID)
		require.EqualValues(t, 2<<20, v.UsedBytes)
		require.GreaterOrEqual(t, v.Machines[0].Samples, 10, "five an hour")
		got := map[int64]int64{}
		for _, x := range *v.Curve {
			got[x.WithinSeconds] = x.TypicalBytes
			require.Equal(t, x.TypicalBytes, x.BusiestBytes)
		}
		require.Len(t, got, 5)
		require.InDelta(t, 2*(1000+60*5), got[300], 121)
		require.InDelta(t, 2*(1000+60*60), got[3600], 121, "the thousand bytes that are written all the time count once")
		rates := map[int64]float64{}
		for _, n := range *v.Needs {
			rates[n.CadenceSeconds] = n.TypicalBytesPerSecond
		}
		require.Greater(t, rates[60], 4*rates[3600], "the rarer the cycles, the less has to be copied")
		require.NotEmpty(t, rates[6*3600])

		// A restart, and a record that the platform lost, cost a window at most.
		r.stop()
		r.d.mu.Lock()
		clear(r.d.since)
		r.d.since["kts-1-leftover"] = time.Now()
		r.d.since["kt-1-of a cycle"] = time.Now()
		r.d.mu.Unlock()
		r.start()
		time.Sleep(3*time.Hour + time.Minute)
		v, err = r.surveys.Show(t.Context(), id)
		require.NoError(t, err)
		require.NotNil(t, v.EndedAt)
		require.GreaterOrEqual(t, v.Machines[0].Samples, 20)
		names, _ := r.d.Checkpoints(t.Context())
		require.Equal(t, []string{"kt-1-of a cycle"}, names, "nothing of it is left, and nothing of others is touched")

		c, ok, err := r.surveys.Change(t.Context(), v.Machines[0].ID[:36], []string{"m-kiosk", "m-printer"})
		require.NoError(t, err)
		require.True(t, ok)
		require.InDelta(t, 2*(1000+60*5), c.Within(5*time.Minute), 121)
		_, ok, err = r.surveys.Change(t.Context(), v.Machines[0].ID[:36], []string{"m-kiosk", "m-bare"})
		require.NoError(t, err)
		require.False(t, ok, "of one that was not surveyed nothing is known")
		require.NoError(t, r.surveys.Delete(t.Context(), rooms.Anna(), "Kiosks"))
		require.Empty(t, r.surveys.List())
	})
}

// What cannot be surveyed is refused by its field; a platform that fails is told and asked
// again; a survey is stopped before it is deleted.
func TestSurveysThatAreRefused(t *testing.T) {
	run(t, func(t *testing.T, r *rig) {
		long := make([]string, survey.MaxMachines+1)
		for _, c := range []struct {
			name, field, says string
			machines          []string
			length            time.Duration
		}{
			{"", "name", "1 to 80", []string{"kiosk"}, time.Hour},
			{"x", "forSeconds", "10 min", []string{"kiosk"}, time.Minute},
			{"x", "machines", "1 to 256", nil, time.Hour},
			{"x", "machines", "1 to 256", long, time.Hour},
			{"x", "machines[0]", "did you mean", []string{"kioks"}, time.Hour},
			{"x", "machines[0]", "no disks", []string{"bare"}, time.Hour},
			{"x", "machines[1]", "is watched by", []string{"kiosk", "kiosk"}, time.Hour},
		} {
			_, err := r.surveys.Start(t.Context(), rooms.Anna(), c.name, c.machines, c.length)
			require.Contains(t, r.faults(err)[c.field], c.says)
		}
		require.Empty(t, r.surveys.List())
		r.d.mu.Lock()
		r.d.fails = errors.New("the door is shut")
		r.d.mu.Unlock()
		_, err := r.surveys.Start(t.Context(), rooms.Anna(), "Kiosks", []string{"kiosk"}, time.Hour)
		require.NoError(t, err)
		time.Sleep(5 * time.Minute)
		r.d.mu.Lock()
		r.d.fails = nil
		r.d.mu.Unlock()
		time.Sleep(10 * time.Minute)
		v, err := r.surveys.Show(t.Context(), "Kiosks")
		require.NoError(t, err)
		require.Positive(t, v.Machines[0].Samples, "it goes on by itself")
		require.Nil(t, v.Machines[0].Note)
		require.ErrorContains(t, r.surveys.Delete(t.Context(), rooms.Anna(), "Kiosks"), "under way")
		require.NoError(t, r.surveys.Stop(t.Context(), rooms.Anna(), "Kiosks"))
		time.Sleep(time.Minute)
		require.ErrorContains(t, r.surveys.Stop(t.Context(), rooms.Anna(), "Kiosks"), "has ended")
		require.NoError(t, r.surveys.Delete(t.Context(), rooms.Anna(), "Kiosks"))
	})
}
