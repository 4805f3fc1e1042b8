package lab_test

import (
	"context"
	"encoding/json"
	"net"
	"net/http/httptest"
	"net/netip"
	"os"
	"path/filepath"
	"strconv"
	"sync"
	"testing"
	"time"

	"github.com/google/uuid"
	"github.com/stretchr/testify/require"

	"kestrel/internal/clock"
	"kestrel/internal/core/berth"
	"kestrel/internal/lab"
	"kestrel/internal/nbd"
	"kestrel/internal/platform"
	labdriver "kestrel/internal/platform/lab"
	"kestrel/internal/platform/platformtest"
)

// running is a lab with its interfaces, until stop.
type running struct {
	l    *lab.Lab
	url  string
	d    *labdriver.Driver
	stop func()
}

// driver makes another driver for it, as a service does when it starts.
func (r running) driver(t *testing.T) *labdriver.Driver {
	t.Helper()
	d, err := labdriver.New(r.url, "lab", "x", clock.Wall{}, nil)
	require.NoError(t, err)
	t.Cleanup(d.Close)
	return d
}

func run(t *testing.T, dir string, sc lab.Scenario) running {
	t.Helper()
	nl, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	l, err := lab.Open(dir, sc, clock.Wall{}, nl.Addr().String())
	require.NoError(t, err)
	srv := httptest.NewServer(l.Handler("lab", "x"))
	ctx, cancel := context.WithCancel(context.Background())
	done := make(chan error, 1)
	go func() { done <- nbd.Serve(ctx, nl, l) }()
	r := running{l: l, url: srv.URL, stop: sync.OnceFunc(func() {
		srv.Close()
		cancel()
		require.NoError(t, <-done)
		require.NoError(t, l.Close())
	})}
	t.Cleanup(r.stop)
	r.d = r.driver(t)
	return r
}

// A machine lands on another lab: in the size and with the card that it is to have, made
// local, with its guest going on where the point has it; its agent gives it another address;
// a restart in between loses nothing, and nothing is left when it is removed.
func TestLandingOnALab(t *testing.T) {
	ctx := t.Context()
	disks := []lab.ScenarioDisk{{Label: "root", SizeMiB: 9.5, UsedMiB: 4, Datastore: "fast", Template: "base", Noise: 0.4}, {Label: "data", SizeMiB: 12, Datastore: "fast"}}
	place := lab.Scenario{Hosts: []platform.Host{{ID: "h", Name: "h", CPUs: 4, MemoryBytes: 8 << 30}}, Datastores: []lab.ScenarioDatastore{{Name: "fast", CapacityGiB: 64}}, Networks: []platform.Network{{ID: "n1", Name: "pier-lan", Subnet: "10.20.4.0/24"}}}
	from := place
	from.Machines = []lab.ScenarioMachine{{Name: "gangway", MemGiB: 0.5, CPUs: 2, Host: "h", Folder: "/pier", Network: "pier-lan", Address: "10.20.4.11", Disks: disks,
		Workload: lab.Workload{Seed: 3, HotPages: 5, HotPerSecond: 20, AppendKiBps: 100, RecordsPerS: 6}, Agent: &lab.Agent{Commands: map[string]int{"settle": 0, "spill": 3}}, Ports: []int{5432}}}
	home := run(t, t.TempDir(), from)
	now := time.Now()
	for range 20 {
		now = now.Add(lab.Tick)
		require.NoError(t, home.l.Step(now))
	}
	inv, err := home.d.Inventory(ctx)
	require.NoError(t, err)
	id := inv.Machines[0].ID
	c, err := home.d.Capture(ctx, platform.CaptureRequest{Name: "kt-1", Machines: []string{id}})
	require.NoError(t, err)
	require.NoError(t, home.d.Fits(c.Configs[id]))
	require.ErrorIs(t, home.d.Fits(json.RawMessage(`{"id":"x"}`)), platform.ErrConfig)

	dir := t.TempDir()
	away := run(t, dir, place)
	land := platform.Landing{ID: uuid.NewString(), Name: "gangway-drill", Config: c.Configs[id], Datastore: "ds-1", CPUs: 1, MemoryBytes: 256 << 20, NICs: []platform.LandingNIC{{MAC: inv.Machines[0].NICs[0].MAC, Network: "n1"}}}
	for _, f := range c.Disks {
		host, port, err := net.SplitHostPort(f.Address)
		require.NoError(t, err)
		n, err := strconv.Atoi(port)
		require.NoError(t, err)
		land.Disks = append(land.Disks, platform.LandingDisk{Key: f.Disk, Size: f.Size, Host: host, Port: n, Export: f.Export})
	}
	bad := land
	bad.Datastore = "ds-9"
	require.ErrorIs(t, away.d.Land(ctx, bad), platform.ErrConfig)
	bad = land
	bad.NICs = []platform.LandingNIC{{MAC: "02:00:00:00:00:01", Network: "n7"}}
	require.ErrorIs(t, away.d.Land(ctx, bad), platform.ErrConfig)
	bad = land
	bad.Disks = append([]platform.LandingDisk(nil), land.Disks...)
	bad.Disks[1].Export = "nothing/of/it"
	bad.ID, bad.Name = uuid.NewString(), "other"
	require.NoError(t, away.d.Land(ctx, bad))
	require.Error(t, away.d.StartLanded(ctx, bad.ID, false), "an export that does not answer")
	require.NoError(t, away.d.RemoveLanded(ctx, bad.ID))

	require.NoError(t, away.d.Land(ctx, land))
	require.NoError(t, away.d.Land(ctx, land), "again, as after a crash")
	require.ErrorIs(t, away.d.RunIn(ctx, land.ID, "settle", time.Second), platform.ErrSilent, "it is off")
	require.NoError(t, away.d.StartLanded(ctx, land.ID, true))
	x, err := away.d.Landed(ctx, land.ID)
	require.NoError(t, err)
	require.Equal(t, platform.PowerSuspended, x.Power)
	require.NoError(t, away.d.MakeLocal(ctx, land.ID, 4<<20))
	away.stop() // in the midst of copying
	away = run(t, dir, place)
	require.Eventually(t, func() bool {
		require.NoError(t, away.d.MakeLocal(ctx, land.ID, 0))
		x, err = away.d.Landed(ctx, land.ID)
		require.NoError(t, err)
		return x.Disks[0].Local && x.Disks[1].Local
	}, time.Minute, 20*time.Millisecond)
	for i, f := range c.Disks {
		want, got := readAll(t, f), readFile(t, filepath.Join(dir, "disks", land.ID, f.Disk, "data.raw"))
		require.Equal(t, want, got, "disk %d is what the point has", i)
	}
	require.NoError(t, away.d.ResumeLanded(ctx, land.ID))
	require.NoError(t, away.l.Step(now.Add(lab.Tick)))
	require.NotEqual(t, readAll(t, c.Disks[0]), readFile(t, filepath.Join(dir, "disks", land.ID, c.Disks[0].Disk, "data.raw")), "its guest writes")

	card := berth.GuestCard{MAC: land.NICs[0].MAC, Address: netip.MustParsePrefix("10.60.4.21/24")}
	require.NoError(t, away.d.RunIn(ctx, land.ID, berth.Script([]berth.GuestCard{card}, nil, ""), time.Second))
	require.NoError(t, away.d.RunIn(ctx, land.ID, "settle", time.Second))
	require.ErrorContains(t, away.d.RunIn(ctx, land.ID, "spill", time.Second), "code 3")
	inv, err = away.d.Inventory(ctx)
	require.NoError(t, err)
	require.Len(t, inv.Machines, 1)
	m := inv.Machines[0]
	require.True(t, m.Landed)
	require.Equal(t, 1, m.CPUs)
	require.EqualValues(t, 256<<20, m.MemoryBytes)
	require.Equal(t, []platform.NIC{{MAC: card.MAC, Network: "pier-lan", Address: "10.60.4.21"}}, m.NICs)
	require.NoError(t, away.d.PortOpen(ctx, land.ID, 5432), "as at home")
	require.NoError(t, away.d.Switch(ctx, land.ID, platform.SwitchOff))
	platformtest.Landed(ctx, t, away.d, land.ID, 5433)
	bad = land
	bad.ID, bad.Name, bad.Format = uuid.NewString(), "other", "qcow2"
	require.ErrorIs(t, away.d.Land(ctx, bad), platform.ErrConfig)
	require.NoError(t, away.d.RemoveLanded(ctx, land.ID))
	require.NoError(t, away.d.RemoveLanded(ctx, land.ID), "twice is once")
	_, err = away.d.Landed(ctx, land.ID)
	require.ErrorIs(t, err, platform.ErrGone)
	require.NoDirExists(t, filepath.Join(dir, "disks", land.ID))
}

// A machine comes in the place of another, and a lab that is started again knows which is which.
func TestLandingInPlaceOnALab(t *testing.T) {
	ctx := t.Context()
	sc := lab.Scenario{Hosts: []platform.Host{{ID: "h", Name: "h", CPUs: 4, MemoryBytes: 8 << 30}}, Datastores: []lab.ScenarioDatastore{{Name: "fast", CapacityGiB: 64}}, Networks: []platform.Network{{ID: "n1", Name: "pier-lan", Subnet: "10.20.4.0/24"}},
		Machines: []lab.ScenarioMachine{{Name: "gangway", MemGiB: 0.5, CPUs: 2, Host: "h", Folder: "/pier", Network: "pier-lan", Disks: []lab.ScenarioDisk{{Label: "root", SizeMiB: 8, Datastore: "fast"}}}}}
	dir := t.TempDir()
	at := run(t, dir, sc)
	inv, err := at.d.Inventory(ctx)
	require.NoError(t, err)
	old := inv.Machines[0].ID
	c, err := at.d.Capture(ctx, platform.CaptureRequest{Name: "kt-1", Machines: []string{old}})
	require.NoError(t, err)
	require.NoError(t, at.d.Forget(ctx, "kt-1"))
	land := platform.Landing{ID: uuid.NewString(), Config: c.Configs[old], Datastore: "ds-1", Disks: []platform.LandingDisk{{Key: "disk-0", Size: 8 << 20, Empty: true}}}
	require.NoError(t, at.d.Switch(ctx, old, platform.SwitchOff))
	aside := land
	aside.ID, aside.Name, aside.InPlaceOf = uuid.NewString(), "gangway", old
	require.NoError(t, at.d.Land(ctx, aside))
	at.stop()
	at = run(t, dir, sc)
	require.NoError(t, at.d.RemoveLanded(ctx, aside.ID))
	require.NoError(t, at.d.Switch(ctx, old, platform.SwitchOn))
	platformtest.InPlace(ctx, t, at.d, old, land)
	at.stop()
	at = run(t, dir, sc)
	inv, err = at.d.Inventory(ctx)
	require.NoError(t, err)
	require.Empty(t, inv.Machines, "what was discarded does not come back")
}

func readAll(t *testing.T, f platform.FrozenDisk) []byte {
	t.Helper()
	c, err := nbd.Dial(t.Context(), f.Network, f.Address, f.Export, nbd.Options{})
	require.NoError(t, err)
	defer func() { _ = c.Close() }()
	b := make([]byte, f.Size)
	_, err = c.ReadAt(b, 0)
	require.NoError(t, err)
	return b
}

func readFile(t *testing.T, path string) []byte {
	t.Helper()
	b, err := os.ReadFile(path)
	require.NoError(t, err)
	return b
}
