package landing_test

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"net"
	"net/http"
	"net/netip"
	"sync"
	"testing"
	"testing/synctest"
	"time"

	"github.com/google/uuid"
	"github.com/stretchr/testify/require"

	"kestrel/internal/api"
	"kestrel/internal/berths"
	"kestrel/internal/clock"
	"kestrel/internal/core/berth"
	"kestrel/internal/cycle"
	"kestrel/internal/directory"
	"kestrel/internal/inventory"
	"kestrel/internal/landing"
	"kestrel/internal/listing"
	"kestrel/internal/platform"
	"kestrel/internal/points"
	"kestrel/internal/problem"
	"kestrel/internal/records"
	"kestrel/internal/serving"
	"kestrel/internal/support/rooms"
)

// hypervisor is a platform on which machines can land, and nothing is real.
type hypervisor struct {
	platform.Driver
	mu      sync.Mutex
	landed  map[string]*platform.Landed
	asked   []platform.Landing
	did     []string
	fails   error // of everything
	silent  bool  // its guests' agents
	ran     []string
	unfit   error
	stopped bool            // its copying does not get on
	ports   map[string]bool // of landed machines that take connections, as ID:PORT
	fitted  []string        // commands of the host that ran
	broken  error           // of those
}

func (h *hypervisor) AgentAnswers(context.Context, string) error {
	h.mu.Lock()
	defer h.mu.Unlock()
	if h.silent {
		return platform.ErrSilent
	}
	return nil
}

func (h *hypervisor) PortOpen(_ context.Context, id string, port int) error {
	h.mu.Lock()
	defer h.mu.Unlock()
	if !h.ports[fmt.Sprint(id, ":", port)] {
		return fmt.Errorf("%w: connection refused", platform.ErrClosed)
	}
	return nil
}

func (h *hypervisor) Switch(_ context.Context, _, to string) error {
	h.mu.Lock()
	defer h.mu.Unlock()
	return h.note("switch " + to)
}

func (h *hypervisor) Screen(context.Context, string) ([]byte, error) {
	return nil, platform.ErrNoScreen
}

// Run runs commands of the host.
func (h *hypervisor) Discard(context.Context, string) ([]string, error) {
	return nil, errors.New("nobody asked for it")
}

func (h *hypervisor) Dial(context.Context, string, int) (net.Conn, error) {
	return nil, platform.ErrClosed
}

func (h *hypervisor) Serial(context.Context, string) ([]byte, error) {
	return nil, platform.ErrNoSerial
}

func (h *hypervisor) Run(_ context.Context, name string, told map[string]string, _ time.Duration) error {
	h.mu.Lock()
	defer h.mu.Unlock()
	h.fitted = append(h.fitted, name+" for "+told["KESTREL_MACHINE"]+" as "+told["KESTREL_NAME"])
	return h.broken
}

func (h *hypervisor) note(what string) error {
	h.did = append(h.did, what)
	return h.fails
}

func (h *hypervisor) Check(context.Context) []platform.Step { return nil }
func (h *hypervisor) Close()                                {}

func (h *hypervisor) Inventory(context.Context) (platform.Inventory, error) {
	h.mu.Lock()
	defer h.mu.Unlock()
	return platform.Inventory{Machines: []platform.Machine{{ID: "x", Name: "resident"}}, Datastores: []platform.Datastore{{ID: "d1", Name: "disks", FreeBytes: 1 << 40}},
		Networks: []platform.Network{{ID: "n-drill", Name: "drill-lan"}, {ID: "n-quay", Name: "quay-lan"}}}, h.fails
}

func (h *hypervisor) Fits(json.RawMessage) error { return h.unfit }

func (h *hypervisor) Land(_ context.Context, l platform.Landing) error {
	h.mu.Lock()
	defer h.mu.Unlock()
	if err := h.note("land"); err != nil {
		return err
	}
	h.asked = append(h.asked, l)
	if h.landed[l.ID] != nil {
		return nil // it was made before a restart
	}
	x := &platform.Landed{Power: platform.PowerOff}
	for _, d := range l.Disks {
		x.Disks = append(x.Disks, platform.LandedDisk{Key: d.Key})
	}
	h.landed[l.ID] = x
	return nil
}

func (h *hypervisor) StartLanded(_ context.Context, id string, waiting bool) error {
	h.mu.Lock()
	defer h.mu.Unlock()
	if err := h.note(map[bool]string{true: "start waiting", false: "start"}[waiting]); err != nil {
		return err
	}
	h.landed[id].Power, h.landed[id].Crashed = platform.PowerOn, false
	return nil
}

func (h *hypervisor) ResumeLanded(_ context.Context, id string) error {
	h.mu.Lock()
	defer h.mu.Unlock()
	h.landed[id].Starved = false
	return h.note("resume")
}

func (h *hypervisor) MakeLocal(_ context.Context, id string, _ int64) error {
	h.mu.Lock()
	defer h.mu.Unlock()
	for i := range h.landed[id].Disks {
		h.landed[id].Disks[i].Busy = true
	}
	return h.note("make local")
}

func (h *hypervisor) RunIn(_ context.Context, _, command string, _ time.Duration) error {
	h.mu.Lock()
	defer h.mu.Unlock()
	switch {
	case h.silent:
		return fmt.Errorf("%w within 30s", platform.ErrSilent)
	case command == "exit 3":
		return errors.New("it ended with code 3")
	}
	h.ran = append(h.ran, command)
	return nil
}

// hush makes the agents of its guests silent, or lets them answer.
func (h *hypervisor) hush(silent bool) {
	h.mu.Lock()
	defer h.mu.Unlock()
	h.silent = silent
}

// Landed copies some more each time it is asked.
func (h *hypervisor) Landed(_ context.Context, id string) (platform.Landed, error) {
	h.mu.Lock()
	defer h.mu.Unlock()
	x, ok := h.landed[id]
	if h.fails != nil {
		return platform.Landed{}, h.fails
	}
	if !ok {
		return platform.Landed{}, fmt.Errorf("machine %s: %w", id, platform.ErrGone)
	}
	for i, d := range x.Disks {
		if d.Busy && !h.stopped {
			x.Disks[i].Total, x.Disks[i].Done = 10, d.Done+1
			x.Disks[i].Local = x.Disks[i].Done == 10
			x.Disks[i].Busy = !x.Disks[i].Local
		}
	}
	return platform.Landed{Power: x.Power, Starved: x.Starved, Crashed: x.Crashed, Disks: append([]platform.LandedDisk(nil), x.Disks...)}, nil
}

func (h *hypervisor) RemoveLanded(_ context.Context, id string) error {
	h.mu.Lock()
	defer h.mu.Unlock()
	if err := h.note("remove"); err != nil {
		return err
	}
	delete(h.landed, id)
	return nil
}

// change is what happens to a landed machine on the platform.
func (h *hypervisor) change(id string, f func(x *platform.Landed)) {
	h.mu.Lock()
	defer h.mu.Unlock()
	f(h.landed[id])
}

func (h *hypervisor) times(what string) (n int) {
	h.mu.Lock()
	defer h.mu.Unlock()
	for _, d := range h.did {
		if d == what {
			n++
		}
	}
	return n
}

// address is where points are served, as far as anybody asks here.
type address struct{ net.Listener }

func (address) Addr() net.Addr { return &net.TCPAddr{IP: net.IPv4(127, 0, 0, 1), Port: 10809} }

// rig is a recovery site with a point and a platform to land on.
type rig struct {
	*rooms.Side
	t     *testing.T
	dir   string
	h     *hypervisor
	place api.Platform
	point *points.Seal
	l     *landing.Landings
	inv   *inventory.Inventory
	// arrivals and findings are what the group's berth says.
	arrivals []berth.Arrival
	findings []berth.Finding
	waves    []berth.Wave
	stop     func()
	stopped  bool
}

func virtual(t *testing.T, f func(t *testing.T, r *rig)) {
	t.Helper()
	synctest.Test(t, func(t *testing.T) {
		s, err := rooms.New(rooms.RecoveryID, rooms.RecoveryName, 1)
		require.NoError(t, err)
		r := &rig{Side: s, t: t, dir: t.TempDir(), h: &hypervisor{landed: map[string]*platform.Landed{}}}
		spec := rooms.Spec("Ticketing")
		g := rooms.Record(uuid.NewString(), spec)
		g.Term, g.Revision, g.CreatedAt = 1, 1, time.Now()
		require.NoError(t, s.Mirror(t.Context(), g))
		r.point = r.seal(g)
		r.start()
		defer func() {
			r.halt()
			require.NoError(t, s.Store.Close())
		}()
		r.place, err = r.inv.Create(t.Context(), rooms.Anna(), api.NewPlatform{Name: "quay", Kind: "libvirt", Address: "qemu:///session"})
		require.NoError(t, err)
		f(t, r)
	})
}

// seal makes a point of two machines, each with a card.
func (r *rig) seal(g directory.Record) *points.Seal {
	r.t.Helper()
	open := cycle.OpenRequest{ID: uuid.NewString(), Group: points.SealGroup{ID: g.ID, Name: g.Spec.Name, HomeSite: g.HomeID, HomeName: g.HomeName, Term: 1, Settings: directory.Encode(g.Spec)}}
	x := points.Seal{CaptureAt: time.Now(), Consistency: "crash", Checkpoint: "kt-1"}
	for _, name := range []string{"tick-db", "tick-app"} {
		config, err := json.Marshal(platform.Machine{ID: name, Name: name, NICs: []platform.NIC{{MAC: "52:54:00:00:00:01", Network: "quay-lan"}}})
		require.NoError(r.t, err)
		open.Disks = append(open.Disks, cycle.OpenRequestDisk{Machine: name, Key: "vda", Size: 10 * points.BlockSize})
		x.Machines = append(x.Machines, points.SealMachine{ID: name, Name: name, Config: config, Disks: []points.SealDisk{{Key: "vda", Size: 10 * points.BlockSize}}})
	}
	opened, err := r.Keeper.OpenIntake(r.t.Context(), g.HomeID, open)
	require.NoError(r.t, err)
	seal, err := r.Keeper.SealIntake(r.t.Context(), g.HomeID, 0, opened.Intake, x)
	require.NoError(r.t, err)
	return seal
}

// start starts the rooms, as a start of the service does.
func (r *rig) start() {
	r.t.Helper()
	require.NoError(r.t, r.Open(r.t.Context()))
	var err error
	r.inv, err = inventory.Open(r.t.Context(), inventory.Config{DB: r.DB, Groups: r.Groups, Trail: r.Trail, Clock: clock.Wall{}, Hub: r.Hub, Log: r.Log, StateDir: r.dir, Owner: "kt-", Every: 5 * time.Second,
		Connect: func(string, string) (platform.Driver, error) { return r.h, nil }})
	require.NoError(r.t, err)
	serve, err := serving.Open(r.t.Context(), serving.Config{DB: r.DB, Keeper: r.Keeper, Trail: r.Trail, Clock: clock.Wall{}, Log: r.Log, StateDir: r.dir, Listener: address{}})
	require.NoError(r.t, err)
	r.l, err = landing.Open(r.t.Context(), landing.Config{Site: r.Name, DB: r.DB, Keeper: r.Keeper, Serving: serve, Inventory: r.inv, Groups: r.Groups, Berths: r, Commands: r.h, Work: r.dir, Operations: r.Operations, Trail: r.Trail, Clock: clock.Wall{}, Hub: r.Hub, Log: r.Log})
	require.NoError(r.t, err)
	require.NoError(r.t, r.l.Resume(r.t.Context()))
	ctx, cancel := context.WithCancel(context.Background())
	var wg sync.WaitGroup
	for _, run := range []func(context.Context){r.inv.Run, r.Operations.Run} {
		wg.Go(func() { run(ctx) })
	}
	r.stopped = false
	r.stop = func() { cancel(); wg.Wait(); serve.Close() }
}

// Arrivals tells how tick-db and tick-app arrive, as the rig was told.
func (r *rig) Arrivals(directory.Record) berths.Arriving {
	return berths.Arriving{Arrivals: r.arrivals, Findings: r.findings}
}

// Waves is what the rig was told of them.
func (r *rig) Waves(directory.Record) []berth.Wave { return r.waves }

func (r *rig) halt() {
	if !r.stopped {
		r.stopped = true
		r.stop()
	}
}

func (r *rig) ask() api.NewLanding {
	return api.NewLanding{Point: r.point.Point, Platform: new("quay"), Machines: &[]string{"tick-db"}}
}

func (r *rig) land(in api.NewLanding) api.Landing {
	r.t.Helper()
	ls, err := r.l.Create(r.t.Context(), rooms.Anna(), in, false)
	require.NoError(r.t, err)
	require.NotEmpty(r.t, ls)
	return ls[0]
}

func (r *rig) get(id string) api.Landing {
	r.t.Helper()
	l, err := r.l.Get(id)
	require.NoError(r.t, err)
	return l
}

func after(d time.Duration) {
	time.Sleep(d)
	synctest.Wait()
}

// What cannot be is refused before anything is made, with the field and the mend.
func TestLandingsAreCheckedBefore(t *testing.T) {
	virtual(t, func(t *testing.T, r *rig) {
		after(6 * time.Second)
		for name, c := range map[string]struct {
			change func(in *api.NewLanding)
			field  string
			says   string
		}{
			"unknown platform":  {func(in *api.NewLanding) { in.Platform = new("qay") }, "platform", `Did you mean "quay"?`},
			"unknown datastore": {func(in *api.NewLanding) { in.Datastore = new("fast") }, "datastore", "choose one of disks"},
			"unknown machine":   {func(in *api.NewLanding) { in.Machines = &[]string{"tick-web"} }, "machines[0]", "has no machine"},
			"unknown way":       {func(in *api.NewLanding) { in.How = new("slowly") }, "how", "neither"},
			"unknown network":   {func(in *api.NewLanding) { in.Networks = &map[string]string{"quay-lan": "moon"} }, "networks", "it has drill-lan, quay-lan"},
			"network elsewhere": {func(in *api.NewLanding) { in.Networks = &map[string]string{"pier-lan": "drill-lan"} }, "networks", "No chosen machine"},
			"home network":      {func(in *api.NewLanding) { in.Networks = &map[string]string{"quay-lan": "quay-lan"} }, "networks", "the same addresses"},
			"no name":           {func(in *api.NewLanding) { in.Prefix = new("a/b") }, "prefix", "no name"},
			"tiny limit":        {func(in *api.NewLanding) { in.LocalBytesPerSecond = new(int64(1)) }, "localBytesPerSecond", "at least 1 MiB"},
		} {
			in := r.ask()
			c.change(&in)
			_, err := r.l.Create(t.Context(), rooms.Anna(), in, false)
			p, ok := problem.Of(err)
			require.True(t, ok, "%s: %v", name, err)
			require.Equal(t, c.field, p.Errors[0].Field, name)
			require.Contains(t, p.Errors[0].Message, c.says, name)
		}
		r.h.unfit = errors.New("it was described by another kind")
		_, err := r.l.Create(t.Context(), rooms.Anna(), r.ask(), false)
		require.ErrorContains(t, err, "machines")
		r.h.unfit = nil
		in := r.ask()
		in.Point = uuid.NewString()
		_, err = r.l.Create(t.Context(), rooms.Anna(), in, false)
		p, _ := problem.Of(err)
		require.Equal(t, http.StatusNotFound, p.Status)
		ls, err := r.l.Create(t.Context(), rooms.Anna(), r.ask(), true)
		require.NoError(t, err)
		require.Empty(t, ls)
		after(time.Minute)
		require.Empty(t, r.h.did, "nothing was made, nor by the check that all is well")
		all, total, err := r.l.List(func(string) bool { return true }, "", listing.Page{})
		require.NoError(t, err)
		require.Zero(t, total+len(all))
	})
}

// At once: it runs off the point, is left alone while it starts, and is made local;
// then it needs the point no longer.
func TestAMachineRunsAtOnceAndBecomesLocal(t *testing.T) {
	virtual(t, func(t *testing.T, r *rig) {
		after(6 * time.Second)
		l := r.land(r.ask())
		after(2 * time.Second)
		require.Equal(t, api.LandingStateRunning, r.get(l.ID).State)
		require.Equal(t, []string{"land", "start"}, r.h.did)
		require.Equal(t, "tick-db", r.h.asked[0].Name)
		require.Equal(t, 10809, r.h.asked[0].Disks[0].Port)
		require.Equal(t, platform.NotConnected, r.h.asked[0].NICs[0].Network, "on no network unless somebody says so")
		require.True(t, r.Store.InUse(r.point.Point))
		_, err := r.l.Create(t.Context(), rooms.Anna(), r.ask(), false)
		require.ErrorContains(t, err, "prefix", "the name is taken while it is there")
		after(11 * time.Second)
		require.Zero(t, r.h.times("make local"))
		after(5 * time.Second)
		v := r.get(l.ID)
		require.Equal(t, 1, r.h.times("make local"))
		require.Positive(t, v.LocalBytes)
		require.Less(t, v.LocalBytes, v.TotalBytes)
		after(10 * time.Second)
		v = r.get(l.ID)
		require.Equal(t, api.LandingStateLocal, v.State)
		require.Equal(t, v.TotalBytes, v.LocalBytes)
		require.NotNil(t, v.LocalAt)
		require.False(t, r.Store.InUse(r.point.Point))
	})
}

// Copied first: the guest waits until its disks are local.
func TestAMachineWaitsForItsDisks(t *testing.T) {
	virtual(t, func(t *testing.T, r *rig) {
		after(6 * time.Second)
		in := r.ask()
		in.How, in.Prefix = new("copied"), new("drill-")
		l := r.land(in)
		after(2 * time.Second)
		require.Equal(t, api.LandingStateCopying, r.get(l.ID).State)
		require.Equal(t, []string{"land", "start waiting"}, r.h.did[:2])
		require.Equal(t, "drill-tick-db", r.h.asked[0].Name)
		require.Zero(t, r.h.times("resume"))
		after(20 * time.Second)
		require.Equal(t, api.LandingStateLocal, r.get(l.ID).State)
		require.Equal(t, 1, r.h.times("resume"))
	})
}

// What may happen to a machine before it is local.
func TestWhatHappensBeforeItIsLocal(t *testing.T) {
	for name, c := range map[string]struct {
		happens func(r *rig, id string)
		check   func(t *testing.T, r *rig, v api.Landing)
	}{
		"its hypervisor crashes": {
			func(r *rig, id string) {
				r.h.change(id, func(x *platform.Landed) { x.Power, x.Crashed = platform.PowerOff, true })
			},
			func(t *testing.T, r *rig, v api.Landing) {
				require.Equal(t, 2, r.h.times("start"), "it is started again")
				require.Contains(t, *v.Note, "crashed")
			}},
		"it crashes again and again": {
			func(r *rig, id string) {
				for range 6 {
					r.h.change(id, func(x *platform.Landed) { x.Power, x.Crashed = platform.PowerOff, true })
					after(2 * time.Second)
				}
			},
			func(t *testing.T, r *rig, v api.Landing) {
				require.Equal(t, 4, r.h.times("start"), "not for ever")
				require.Equal(t, api.LandingStateOff, v.State)
			}},
		"somebody turns it off": {
			func(r *rig, id string) { r.h.change(id, func(x *platform.Landed) { x.Power = platform.PowerOff }) },
			func(t *testing.T, r *rig, v api.Landing) {
				require.Equal(t, 1, r.h.times("start"), "that is their business")
				require.Equal(t, api.LandingStateOff, v.State)
				require.True(t, r.Store.InUse(r.point.Point), "it still reads from the point")
			}},
		"its export did not answer": {
			func(r *rig, id string) { r.h.change(id, func(x *platform.Landed) { x.Starved = true }) },
			func(t *testing.T, r *rig, v api.Landing) {
				require.Equal(t, 1, r.h.times("resume"))
				require.Equal(t, api.LandingStateRunning, v.State)
			}},
		"somebody removes it there": {
			func(r *rig, id string) { r.h.mu.Lock(); delete(r.h.landed, id); r.h.mu.Unlock() },
			func(t *testing.T, r *rig, v api.Landing) {
				require.Equal(t, api.LandingStateGone, v.State)
				require.False(t, r.Store.InUse(r.point.Point))
			}},
		"the platform does not answer": {
			func(r *rig, _ string) { r.h.mu.Lock(); r.h.fails = errors.New("no route to host"); r.h.mu.Unlock() },
			func(t *testing.T, r *rig, v api.Landing) {
				require.Equal(t, "No route to host", *v.Error)
				require.Equal(t, api.LandingStateRunning, v.State)
				r.h.mu.Lock()
				r.h.fails = nil
				r.h.mu.Unlock()
				after(12 * time.Second)
				require.Nil(t, r.get(v.ID).Error, "it goes on by itself")
			}},
	} {
		t.Run(name, func(t *testing.T) {
			virtual(t, func(t *testing.T, r *rig) {
				after(6 * time.Second)
				r.h.stopped = true
				l := r.land(r.ask())
				after(2 * time.Second)
				c.happens(r, l.ID)
				after(3 * time.Second)
				c.check(t, r, r.get(l.ID))
			})
		})
	}
}

// A restart at any moment goes on where it was; what the disks read from is served
// again before anything else.
func TestALandingGoesOnAfterARestart(t *testing.T) {
	for _, when := range []time.Duration{0, 100 * time.Millisecond, 3 * time.Second, 17 * time.Second} {
		virtual(t, func(t *testing.T, r *rig) {
			after(6 * time.Second)
			l := r.land(r.ask())
			time.Sleep(when)
			r.halt()
			after(time.Minute)
			r.start()
			require.True(t, r.Store.InUse(r.point.Point))
			after(2 * time.Minute)
			require.Equal(t, api.LandingStateLocal, r.get(l.ID).State, "%s", when)
			require.Len(t, r.h.landed, 1, "%s", when)
			_, total, err := r.l.List(func(string) bool { return true }, "tick local", listing.Page{})
			require.NoError(t, err)
			require.Equal(t, 1, total)
		})
	}
}

// Removing stops what is under way and leaves nothing; if the platform refuses, the
// landing goes on.
func TestRemovingALanding(t *testing.T) {
	virtual(t, func(t *testing.T, r *rig) {
		after(6 * time.Second)
		l := r.land(r.ask())
		after(2 * time.Second)
		require.Error(t, r.inv.Delete(t.Context(), rooms.Anna(), "quay"), "a machine has landed there")
		r.h.mu.Lock()
		r.h.fails = errors.New("locked by another")
		r.h.mu.Unlock()
		require.ErrorContains(t, r.l.Remove(t.Context(), rooms.Anna(), "tick-db"), "locked by another")
		r.h.mu.Lock()
		r.h.fails = nil
		r.h.mu.Unlock()
		after(30 * time.Second)
		require.Equal(t, api.LandingStateLocal, r.get(l.ID).State, "it went on")
		require.NoError(t, r.l.Remove(t.Context(), rooms.Anna(), "TICK-DB"))
		require.Empty(t, r.h.landed)
		require.False(t, r.Store.InUse(r.point.Point))
		_, err := r.l.Get(l.ID)
		p, _ := problem.Of(err)
		require.Equal(t, http.StatusNotFound, p.Status)
		require.NoError(t, r.inv.Delete(t.Context(), rooms.Anna(), "quay"))
		lines, err := r.Trail.Lines(t.Context(), records.Sought{Limit: 10, Text: "removed tick-db"})
		require.NoError(t, err)
		require.Len(t, lines, 1)
	})
}

// arrives is how a machine of the rig arrives, by an agent.
func arrives(name string, way berth.Way) berth.Arrival {
	card := func(network, address, gateway string) berth.Attached {
		return berth.Attached{Network: berth.Value{Text: network}, Address: netip.MustParsePrefix(address), Gateway: netip.MustParseAddr(gateway)}
	}
	return berth.Arrival{Machine: berth.Machine{ID: name, Name: name, CPUs: 4, MemoryBytes: 4 << 30}, Platform: berth.Value{Text: "quay"}, Pool: berth.Value{Text: "pool"}, Datastore: berth.Value{Text: "disks"},
		Name: berth.Value{Text: name + "-em"}, DrillName: berth.Value{Text: name + "-drill"}, CPUs: 4, DrillCPUs: 2, Memory: 4 << 30, DrillMemory: 2 << 30, Way: berth.Value{Text: string(way)}, DNS: berth.Value{Text: "10.60.0.2, 10.60.0.3"},
		Cards: []berth.Card{{Home: berth.HomeCard{MAC: "52:54:00:00:00:01", Network: "quay-lan"}, Live: card("drill-lan", "10.60.4.21/24", "10.60.4.1"), Drill: card("drill-lan", "10.99.4.21/24", "10.99.4.1")}}}
}

// Machines arrive as the berth says, unless something else is asked for; what they are told
// gets to them by the way that it says.
func TestLandingByABerth(t *testing.T) {
	virtual(t, func(t *testing.T, r *rig) {
		after(6 * time.Second)
		drill := func(way berth.Way) (api.NewLanding, api.Landing, platform.Landing) {
			r.arrivals = []berth.Arrival{arrives("tick-db", way), arrives("tick-app", way)}
			in := r.ask()
			in.Platform, in.Berth = nil, new("drill")
			l := r.land(in)
			after(time.Second)
			return in, r.get(l.ID), r.h.asked[len(r.h.asked)-1]
		}
		in, l, asked := drill(berth.Leave)
		require.Equal(t, "tick-db-drill", l.Name)
		require.Equal(t, 2, asked.CPUs)
		require.EqualValues(t, 2<<30, asked.MemoryBytes)
		require.Equal(t, "pool", asked.Pool)
		require.Equal(t, []platform.LandingNIC{{MAC: "52:54:00:00:00:01", Network: "n-drill"}}, asked.NICs)
		require.Nil(t, l.Nics[0].Address, "its guest is told nothing")
		require.NoError(t, r.l.Remove(t.Context(), rooms.Anna(), l.ID))

		_, l, asked = drill(berth.DHCP)
		require.Equal(t, "10.99.4.21", asked.NICs[0].Reserve.String())
		require.Nil(t, asked.Seed)
		require.NoError(t, r.l.Remove(t.Context(), rooms.Anna(), l.ID))

		_, l, asked = drill(berth.Seed)
		require.False(t, asked.NICs[0].Reserve.IsValid())
		require.Contains(t, string(asked.Seed), "10.99.4.21/24")
		require.Equal(t, "10.99.4.21/24", *l.Nics[0].Address)
		require.NoError(t, r.l.Remove(t.Context(), rooms.Anna(), l.ID))

		r.h.hush(true)
		_, l, _ = drill(berth.Agent)
		require.Equal(t, "Its guest agent does not answer yet.", *l.Guest)
		r.halt()
		require.NoError(t, r.Store.Close())
		r.start() // what was not told is told after a restart
		r.h.hush(false)
		after(2 * time.Minute)
		l = r.get(l.ID)
		require.Equal(t, api.LandingStateLocal, l.State)
		require.Equal(t, "Its guest was told its addresses.", *l.Guest)
		require.Len(t, r.h.ran, 1)
		require.Contains(t, r.h.ran[0], "ip addr add 10.99.4.21/24")
		require.NoError(t, r.l.Remove(t.Context(), rooms.Anna(), l.ID))

		// Live, with a command that fails in the end; and what is asked for counts before.
		r.arrivals[0].After.Text = "exit 3"
		in.Berth, in.Prefix, in.Networks, in.HomeNetwork = new("live"), new("x-"), &map[string]string{"quay-lan": "quay-lan"}, new(true)
		l = r.land(in)
		after(3 * time.Minute)
		l = r.get(l.ID)
		require.Equal(t, "x-tick-db-em", l.Name)
		require.Equal(t, "quay-lan", l.Nics[0].Network)
		require.NotEqual(t, l.Nics[0].Mac, *l.Nics[0].MacHere, "a card of its own, since home is on that network too")
		require.Nil(t, l.Nics[0].Address, "the address is for the berth's network")
		require.Nil(t, l.Cpus, "as at home")
		require.Equal(t, "The command in its guest failed: It ended with code 3.", *l.Guest)

		// Places that the berth names are of its own platform.
		r.arrivals[0].Platform.Text, r.arrivals[0].Datastore.Text = "elsewhere", "theirs"
		in.Platform, in.Prefix = new("quay"), new("y-")
		l = r.land(in)
		after(time.Second)
		require.Empty(t, r.h.asked[len(r.h.asked)-1].Pool)
		require.Equal(t, "disks", r.get(l.ID).Datastore)
		r.arrivals[0] = arrives("tick-db", berth.Agent)
		in.Platform, in.Prefix = nil, new("x-")

		refused := func(change func(), field, part string) {
			t.Helper()
			change()
			_, err := r.l.Create(t.Context(), rooms.Anna(), in, true)
			p, ok := problem.Of(err)
			require.True(t, ok, "%v", err)
			require.Equal(t, field, p.Errors[0].Field)
			require.Contains(t, p.Errors[0].Message, part)
		}
		refused(func() { r.findings = []berth.Finding{{Field: "pool", Message: "No pool."}} }, "berth", "The berth of Ticketing: No pool.")
		refused(func() { r.findings, r.arrivals = nil, r.arrivals[1:] }, "berth", "says nothing of tick-db")
		refused(func() { in.Berth = new("test") }, "berth", "neither live nor drill")
		refused(func() { in.Berth, in.Platform = nil, nil }, "platform", "Name the platform")
	})
}

// An agent that never answers is not waited for for ever.
func TestAnAgentThatNeverAnswers(t *testing.T) {
	virtual(t, func(t *testing.T, r *rig) {
		after(6 * time.Second)
		r.h.hush(true)
		r.arrivals = []berth.Arrival{arrives("tick-db", berth.Agent)}
		in := r.ask()
		in.Berth = new("live")
		l := r.land(in)
		after(9 * time.Minute)
		require.Equal(t, "Its guest agent does not answer yet.", *r.get(l.ID).Guest)
		after(2 * time.Minute)
		require.Equal(t, "Its guest could not be told its addresses: Its guest agent does not answer within 30s.", *r.get(l.ID).Guest)
	})
}
