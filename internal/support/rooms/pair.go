package rooms

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"net"
	"os"
	"path/filepath"
	"slices"
	"sync"
	"testing"
	"time"

	"kestrel/internal/api"
	"kestrel/internal/berths"
	"kestrel/internal/clock"
	"kestrel/internal/core/actor"
	"kestrel/internal/core/berth"
	"kestrel/internal/core/scope"
	"kestrel/internal/coverage"
	"kestrel/internal/cycle"
	"kestrel/internal/inventory"
	"kestrel/internal/link"
	"kestrel/internal/lookout"
	"kestrel/internal/mover"
	"kestrel/internal/overview"
	"kestrel/internal/peering"
	"kestrel/internal/platform"
	"kestrel/internal/points"
	"kestrel/internal/protection"
	"kestrel/internal/records"
	"kestrel/internal/tiers"
)

// House is a site with all that groups need, on the real clock: a platform whose
// machines have no disks to copy, and a link over loopback.
type House struct {
	*Side
	Shed       *Shed
	PlatformID string // of the shed, at home
	Inventory  *inventory.Inventory
	Peering    *peering.Peering
	Mover      *mover.Mover
	Protection *protection.Protection
	Coverage   *coverage.Coverage
	Tiers      *tiers.Tiers
	Berths     *berths.Berths
	Overview   *overview.Overview
	Lookout    *lookout.Lookout // looks when it is asked to
	Yard       Yard

	id   *link.Identity
	to   net.Listener
	stop func()
}

// Pair makes two sites that are paired, of which home has a platform named shed. Dir
// is an empty folder for their keys.
func Pair(ctx context.Context, dir string) (home, recovery *House, err error) {
	if home, err = newHouse(ctx, HomeID, HomeName, filepath.Join(dir, "home")); err != nil {
		return nil, nil, err
	}
	if recovery, err = newHouse(ctx, RecoveryID, RecoveryName, filepath.Join(dir, "recovery")); err != nil {
		return nil, nil, errors.Join(err, home.Close())
	}
	place, err := home.Inventory.Create(ctx, Anna(), api.NewPlatform{Name: "shed", Kind: "lab", Address: "http://127.0.0.1:1"})
	if err == nil {
		home.PlatformID = place.ID
		err = invite(ctx, recovery, home)
	}
	if err != nil {
		return nil, nil, errors.Join(err, home.Close(), recovery.Close())
	}
	return home, recovery, nil
}

func invite(ctx context.Context, by, of *House) error {
	v, err := by.Peering.Invite(ctx, Anna(), api.NewInvitation{})
	if err != nil {
		return fmt.Errorf("invite: %w", err)
	}
	if _, err = of.Peering.Accept(ctx, Anna(), api.AcceptInvitation{Invitation: v.Text}); err != nil {
		return fmt.Errorf("accept: %w", err)
	}
	return nil
}

func newHouse(ctx context.Context, id, name, dir string) (*House, error) {
	s, err := New(id, name, 1)
	if err != nil {
		return nil, err
	}
	if err := os.MkdirAll(dir, 0o700); err != nil {
		return nil, fmt.Errorf("make the folder of %s: %w", name, err)
	}
	h := &House{Side: s, Shed: NewShed()}
	if h.id, err = link.LoadIdentity(dir, time.Now()); err != nil {
		return nil, err
	}
	if h.Inventory, err = inventory.Open(ctx, inventory.Config{DB: s.DB, Groups: s.Groups, Trail: s.Trail, Clock: clock.Wall{}, Hub: s.Hub, Log: s.Log, StateDir: dir, Owner: "kt-", Every: time.Hour,
		Connect: func(string, string) (platform.Driver, error) { return h.Shed, nil }}); err != nil {
		return nil, err
	}
	if h.to, err = net.Listen("tcp", "127.0.0.1:0"); err != nil {
		return nil, err
	}
	self := records.Site{ID: id, Name: name}
	if h.Peering, err = peering.Open(ctx, peering.Config{Site: self, Identity: h.id, DB: s.DB, Groups: s.Groups, Keeper: s.Keeper, Trail: s.Trail, Clock: s.Clock, Hub: s.Hub, Log: s.Log, BeatEvery: time.Second, Address: h.to.Addr().String(),
		Platforms: func() (int, int) { return 1, len(h.Shed.machines) }, Coverage: func() scope.Counts { return h.Coverage.Lately() }, Live: func(id string) link.Live { return h.Mover.Live(id) },
		Act: func(ctx context.Context, who actor.Actor, id, action string, body []byte) error {
			return h.Protection.Act(ctx, who, id, action, body)
		},
		Ready: func(id string) json.RawMessage {
			return h.Lookout.Tell(id)
		},
		Heard: func(id string, ready json.RawMessage) {
			h.Lookout.Hear(id, ready)
		},
		Berth: func(ctx context.Context, who actor.Actor, id string, a link.BerthAsk) (json.RawMessage, error) {
			return h.Berths.Asked(ctx, who, id, a)
		}}); err != nil {
		return nil, err
	}
	if h.Mover, err = mover.New(ctx, mover.Config{Owner: "kt-", Groups: s.Groups, Records: s.DB, Points: s.Keeper, Arrived: s.History.Arrived, Source: h.source, Way: h.way, Platforms: func() []string { return nil },
		Pass: h.Shed.pass, Trail: s.Trail, Clock: clock.Wall{}, Hub: s.Hub, Log: s.Log, Pulse: 100 * time.Millisecond}); err != nil {
		return nil, err
	}
	h.Coverage = coverage.New(coverage.Config{DB: s.DB, Groups: s.Groups, Inventory: h.Inventory, Trail: s.Trail, Clock: clock.Wall{}, Log: s.Log, Every: time.Hour})
	if h.Tiers, err = tiers.Open(ctx, tiers.Config{DB: s.DB, Groups: s.Groups, Trail: s.Trail, Clock: clock.Wall{}, Hub: s.Hub, Log: s.Log, WouldDrop: s.Keeper.WouldDrop, Every: time.Hour}); err != nil {
		return nil, err
	}
	h.Protection = protection.New(protection.Config{Tiers: h.Tiers.Follow, Site: self, DB: s.DB, Groups: s.Groups, Inventory: h.Inventory, Peering: h.Peering, Mover: h.Mover, Keeper: s.Keeper, Clock: clock.Wall{}})
	if h.Berths, err = berths.Open(ctx, berths.Config{Site: name, DB: s.DB, Groups: s.Groups, Inventory: h.Inventory, Peering: h.Peering, Seals: s.Keeper.Seals, Commands: func() []string { return []string{"open-gate"} }, Servers: func() []string { return nil }, Channels: func() []string { return nil }, Trail: s.Trail, Hub: s.Hub, Log: s.Log}); err != nil {
		return nil, err
	}
	h.Overview = overview.New(overview.Config{Site: name, Groups: s.Groups, Inventory: h.Inventory, Peering: h.Peering, Mover: h.Mover, Keeper: s.Keeper, History: s.History, Clock: clock.Wall{}, Leavers: h.Coverage.Leavers})
	h.Lookout = lookout.New(lookout.Config{Groups: s.Groups, Berths: h.Berths, Landings: &h.Yard, Keeper: s.Keeper, Inventory: h.Inventory, Serving: &h.Yard, Peering: h.Peering, Clock: clock.Wall{}, Hub: s.Hub, Log: s.Log, Every: time.Hour})
	h.run()
	return h, nil
}

// Yard is where machines would land and what they would read from, for who only looks.
type Yard struct {
	mu   sync.Mutex
	live []string
	ends time.Time
}

// Set says which machines run live, and when the certificate ends with which points are
// served.
func (y *Yard) Set(live []string, ends time.Time) {
	y.mu.Lock()
	defer y.mu.Unlock()
	y.live, y.ends = live, ends
}

// Refusals implements lookout.Landings: there are none.
func (y *Yard) Refusals(*points.Seal, berths.Arriving) []string { return nil }

// Live implements lookout.Landings.
func (y *Yard) Live(string) []string {
	y.mu.Lock()
	defer y.mu.Unlock()
	return y.live
}

// CertificateEnds implements lookout.Serving.
func (y *Yard) CertificateEnds() time.Time {
	y.mu.Lock()
	defer y.mu.Unlock()
	return y.ends
}

// Reachable implements lookout.Serving.
func (y *Yard) Reachable(inventory.Platform) error { return nil }

func (h *House) source(id string) (mover.Source, bool) {
	p, ok := h.Inventory.Get(id)
	return mover.Source{Driver: p.Driver, Up: p.Up, Err: p.Err}, ok
}

func (h *House) way(id string) (mover.Way, bool) {
	l, ok := h.Peering.Get(id)
	return mover.Way{Reached: l.Reached, Limit: l.Limit, Encoding: l.Encoding(), Ours: l.Ours, Remote: l.Remote, Abandon: l.Abandon}, ok
}

func (h *House) run() {
	ctx, cancel := context.WithCancel(context.Background())
	var wg sync.WaitGroup
	for _, run := range []func(context.Context){h.Inventory.Run, h.Peering.Run, h.Mover.Run, h.Keeper.Run} {
		wg.Go(func() { run(ctx) })
	}
	done := make(chan error, 1)
	go func() { done <- link.Serve(ctx, h.to, h.id, h.Peering, h.Log) }()
	h.stop = func() { cancel(); wg.Wait(); <-done }
}

// Leave takes the site off the network; what runs there stops.
func (h *House) Leave() {
	if h.stop != nil {
		h.stop()
		h.stop = nil
	}
}

// Return brings it back.
func (h *House) Return() (err error) {
	if h.to, err = net.Listen("tcp", h.to.Addr().String()); err != nil {
		return fmt.Errorf("return: %w", err)
	}
	h.run()
	return nil
}

// Close ends the site.
func (h *House) Close() error {
	h.Leave()
	h.Inventory.Close()
	return h.Store.Close()
}

// Until waits until something holds that this site tells of.
func (h *House) Until(ctx context.Context, holds func() bool) error {
	news, stop := h.Hub.Listen()
	defer stop()
	for !holds() {
		select {
		case <-ctx.Done():
			return fmt.Errorf("wait at %s: %w", h.Name, ctx.Err())
		case <-news:
		case <-time.After(100 * time.Millisecond): // what the clock brings is told by nobody
		}
	}
	return nil
}

// Shed is a platform whose machines hold nothing: cycles copy no blocks, and seal.
type Shed struct {
	platform.Driver
	platform.Lander // machines could be started on it; nobody does

	mu       sync.Mutex
	machines []platform.Machine
	fails    error
	restless string
	strange  string
	holds    chan struct{} // closed when cycles may go on; nil: at once
}

// NewShed makes one with the machines tick-db, tick-app, gate and a router without
// disks.
func NewShed() *Shed {
	s := &Shed{}
	for i, name := range []string{"tick-db", "tick-app", "gate"} {
		s.machines = append(s.machines, platform.Machine{ID: "m-" + name, Name: name, Folder: "/pier", Power: platform.PowerOn, CPUs: 2, MemoryBytes: 1 << 30, Agent: platform.AgentNone,
			Disks: []platform.Disk{{Key: "d", Label: "disk 1", SizeBytes: points.BlockSize, UsedBytes: 4096, Datastore: "racks"}},
			NICs:  []platform.NIC{{MAC: fmt.Sprintf("02:00:00:00:00:%02x", i+1), Network: "pier-lan", Address: fmt.Sprintf("10.40.9.%d", i+11)}}})
	}
	s.machines = append(s.machines, platform.Machine{ID: "m-router", Name: "router", Folder: "/pier"})
	return s
}

// Change changes its machines.
func (s *Shed) Change(change func([]platform.Machine) []platform.Machine) {
	s.mu.Lock()
	defer s.mu.Unlock()
	next := slices.Clone(s.machines)
	for i := range next {
		next[i].Disks = slices.Clone(next[i].Disks)
	}
	s.machines = change(next)
}

// Fail has everything that is asked of it fail from now on; nil mends it.
func (s *Shed) Fail(err error) {
	s.mu.Lock()
	defer s.mu.Unlock()
	s.fails = err
}

// Restless says why its guests cannot be brought to rest from now on; empty lets them be.
func (s *Shed) Restless(why string) {
	s.mu.Lock()
	defer s.mu.Unlock()
	s.restless = why
}

// Strange says what is unusual of what cycles find from now on; empty: nothing is.
func (s *Shed) Strange(what string) {
	s.mu.Lock()
	defer s.mu.Unlock()
	s.strange = what
}

// Hold keeps cycles from sealing until let is called.
func (s *Shed) Hold() (let func()) {
	s.mu.Lock()
	defer s.mu.Unlock()
	c := make(chan struct{})
	s.holds = c
	return sync.OnceFunc(func() {
		s.mu.Lock()
		defer s.mu.Unlock()
		close(c)
		s.holds = nil
	})
}

func (s *Shed) failing() error {
	s.mu.Lock()
	defer s.mu.Unlock()
	return s.fails
}

// Check implements platform.Driver.
func (s *Shed) Check(context.Context) []platform.Step {
	if err := s.failing(); err != nil {
		return []platform.Step{{Name: "address", Tried: true, Note: err.Error(), Mend: "Open the door."}}
	}
	return []platform.Step{{Name: "address", Tried: true, OK: true}}
}

// Inventory implements platform.Driver.
func (s *Shed) Inventory(context.Context) (platform.Inventory, error) {
	s.mu.Lock()
	defer s.mu.Unlock()
	return platform.Inventory{Machines: s.machines, Datastores: []platform.Datastore{{ID: "racks", Name: "racks", FreeBytes: 1 << 40}}, Names: berth.Names{Most: 20}, Ways: []berth.Way{berth.Seed},
		Networks: []platform.Network{{ID: "n-1", Name: "pier-lan", Subnet: "10.40.9.0/24", Gateway: "10.40.9.1"}, {ID: "n-2", Name: "pier-dark", Subnet: "10.40.9.0/24", Isolated: true}}}, s.fails
}

// Release implements platform.Driver.
func (s *Shed) Release(context.Context, string) error { return s.failing() }

// Forget implements platform.Driver.
func (s *Shed) Forget(context.Context, string) error { return s.failing() }

// Checkpoints implements platform.Driver.
func (s *Shed) Checkpoints(context.Context) ([]string, error) { return nil, s.failing() }

// Changed implements platform.Driver.
func (s *Shed) Changed(context.Context, string) (map[string]int64, error) {
	return map[string]int64{}, s.failing()
}

// Close implements platform.Driver.
func (s *Shed) Close() {}

// pass is a cycle that copies nothing and seals over the real link.
func (s *Shed) pass(ctx context.Context, _ platform.Driver, to cycle.Remote, clk clock.Clock, job cycle.Job, report func(cycle.Progress)) (*points.Seal, error) {
	s.mu.Lock()
	holds, fails, restless, strange := s.holds, s.fails, s.restless, s.strange
	s.mu.Unlock()
	if fails != nil {
		return nil, fails
	}
	at := clk.Now().UTC()
	p := cycle.Progress{Kind: cycle.KindChanges, Phase: "ship", CaptureAt: at, MovedAt: at, TotalBytes: int64(len(job.Machines)) * points.BlockSize}
	if job.BasePoint == "" {
		p.Kind = cycle.KindSeed
	} else if job.Compare {
		p.Kind = cycle.KindCompare
	}
	for _, q := range job.Quiesce {
		p.Quiet = append(p.Quiet, platform.Quiet{Machine: q.Machine, Done: restless == "", Why: restless})
	}
	report(p)
	if holds != nil {
		select {
		case <-holds:
		case <-ctx.Done():
			return nil, ctx.Err()
		}
	}
	open := cycle.OpenRequest{ID: job.ID, Group: job.Group, BasePoint: job.BasePoint}
	x := points.Seal{CaptureAt: at, Consistency: "crash", Checkpoint: job.Checkpoint, Unusual: strange}
	for _, m := range job.Machines {
		open.Disks = append(open.Disks, cycle.OpenRequestDisk{Machine: m, Key: "d", Size: points.BlockSize, UseBase: job.BasePoint != ""})
		x.Machines = append(x.Machines, points.SealMachine{ID: m, Name: m[len("m-"):], Config: s.config(m), Disks: []points.SealDisk{{Key: "d", Size: points.BlockSize}}})
	}
	opened, err := to.Open(ctx, open)
	if err != nil || opened.Sealed != nil {
		return opened.Sealed, err
	}
	p.ReadBytes = p.TotalBytes
	report(p)
	return to.Seal(ctx, opened.Intake, x)
}

// config is a machine as points keep it.
func (s *Shed) config(id string) json.RawMessage {
	s.mu.Lock()
	defer s.mu.Unlock()
	for _, m := range s.machines {
		if m.ID == id {
			out, err := json.Marshal(m)
			if err != nil {
				panic(err) // plain structs always marshal
			}
			return out
		}
	}
	return json.RawMessage(`{}`)
}

// NewGroup is Ticketing of tick-db, kept at the recovery site, a cycle an hour.
func NewGroup() api.NewGroup {
	return api.NewGroup{Name: "Ticketing", Link: RecoveryName, Machines: []string{"tick-db"}, Promise: &api.Promise{RpoTargetSeconds: 7200, CadenceSeconds: 3600, Keep: []api.Rung{{ForSeconds: 3600}}}}
}

// Sealed gives a group of home's that is sealed for the first time at the recovery
// site.
func (h *House) Sealed(ctx context.Context, in api.NewGroup) (api.Group, error) {
	id, err := h.Protection.Create(ctx, Anna(), in)
	if err != nil {
		return api.Group{}, err
	}
	var g api.Group
	err = h.Until(ctx, func() bool {
		var failed error
		g, failed = h.Overview.Group(id)
		return failed == nil && g.LastCycle != nil && g.LastCycle.State == cycle.Sealed && g.Points > 0
	})
	return g, err
}

// patience is for machines that are busy: it ends what hangs.
const patience = 2 * time.Minute

// Paired is Pair for a test, at whose end both sites close.
func Paired(t testing.TB) (ctx context.Context, home, recovery *House) {
	t.Helper()
	ctx, cancel := context.WithTimeout(t.Context(), patience)
	t.Cleanup(cancel)
	home, recovery, err := Pair(ctx, t.TempDir())
	if err != nil {
		t.Fatalf("make two sites: %v", err)
	}
	t.Cleanup(func() {
		if err := errors.Join(home.Close(), recovery.Close()); err != nil {
			t.Errorf("close two sites: %v", err)
		}
	})
	return ctx, home, recovery
}
