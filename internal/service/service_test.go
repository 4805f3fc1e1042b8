package service_test

import (
	"context"
	"fmt"
	"log/slog"
	"net"
	"net/http/httptest"
	"os"
	"path/filepath"
	"testing"
	"time"

	"github.com/google/uuid"
	"github.com/stretchr/testify/require"

	"kestrel/internal/api"
	"kestrel/internal/clock"
	"kestrel/internal/cycle"
	"kestrel/internal/lab"
	"kestrel/internal/nbd"
	"kestrel/internal/pgcluster"
	"kestrel/internal/points"
	"kestrel/internal/problem"
	"kestrel/internal/records"
	"kestrel/internal/service"
)

var cluster *pgcluster.Cluster

func TestMain(m *testing.M) { os.Exit(run(m)) }

func run(m *testing.M) int {
	dir, err := os.MkdirTemp("/var/tmp", "kestrel-service")
	if err != nil {
		panic(err)
	}
	defer func() { _ = os.RemoveAll(dir) }()
	_ = os.Chmod(dir, 0o711) // the cluster's user has to pass
	if cluster, err = pgcluster.Start(context.Background(), filepath.Join(dir, "pg"), 0); err != nil {
		fmt.Fprintln(os.Stderr, err)
		return 1
	}
	defer func() { _ = cluster.Stop() }()
	return m.Run()
}

// skewed is a clock that is wrong by a fixed amount.
type skewed struct {
	clock.Wall
	by time.Duration
}

func (s skewed) Now() time.Time { return time.Now().Add(s.by) }

// start runs a service in this process until the test ends.
func start(t *testing.T, name string, clk clock.Clock) *service.Service {
	t.Helper()
	db, err := cluster.Database(context.Background(), "s"+uuid.NewString())
	require.NoError(t, err)
	svc, err := service.New(context.Background(), service.Config{Name: name, StateDir: t.TempDir(), DatabaseURL: db, LinkListen: "127.0.0.1:0", NBDListen: "127.0.0.1:0", StoreFloor: 1 << 20,
		Clock: clk, Log: slog.New(slog.DiscardHandler), Pulse: 100 * time.Millisecond})
	require.NoError(t, err)
	ctx, cancel := context.WithCancel(context.Background())
	done := make(chan error, 1)
	go func() { done <- svc.Run(ctx) }()
	t.Cleanup(func() { cancel(); require.NoError(t, <-done); require.NoError(t, svc.Close()) })
	require.Eventually(t, func() bool { return svc.Ready(ctx) == nil }, 10*time.Second, 10*time.Millisecond)
	return svc
}

func startLab(t *testing.T) string {
	t.Helper()
	nl, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	sc := lab.Scenario{Machines: []lab.ScenarioMachine{{Name: "db", Disks: []lab.ScenarioDisk{{SizeMiB: 9, UsedMiB: 3}}, Workload: lab.Workload{Seed: 1, RecordsPerS: 10, AppendKiBps: 50}}}}
	l, err := lab.Open(t.TempDir(), sc, clock.Wall{}, nl.Addr().String())
	require.NoError(t, err)
	srv := httptest.NewServer(l.Handler("lab", "x"))
	ctx, cancel := context.WithCancel(context.Background())
	done := make(chan error, 2)
	go func() { done <- nbd.Serve(ctx, nl, l) }()
	go func() { done <- l.Run(ctx, lab.Tick) }()
	t.Cleanup(func() {
		cancel()
		srv.Close()
		require.NoError(t, <-done)
		require.NoError(t, <-done)
		require.NoError(t, l.Close())
	})
	return srv.URL
}

// joined pairs two services and protects a machine.
func joined(t *testing.T, home, recovery *service.Service, p api.Promise) api.Group {
	t.Helper()
	ctx := context.Background()
	_, err := home.CreatePlatform(ctx, "admin", api.NewPlatform{Name: "lab", Kind: "lab", Address: startLab(t), User: new("lab"), Password: new("x")})
	require.NoError(t, err)
	inv, err := home.Invite(ctx, "admin", api.NewInvitation{})
	require.NoError(t, err)
	_, err = recovery.Accept(ctx, "admin", api.AcceptInvitation{Invitation: inv.Text})
	require.NoError(t, err)
	g, err := home.CreateGroup(ctx, "admin", api.NewGroup{Name: "Ticketing", Machines: []string{"db"}, Link: "Eastmole", Promise: p})
	require.NoError(t, err)
	require.Eventually(t, func() bool {
		g, err = home.Group(g.ID)
		return err == nil && g.NewestCaptureAt != nil
	}, 20*time.Second, 20*time.Millisecond)
	return g
}

// The home site's clock is 90 s ahead. Both sites show the same exposure, the
// recovery site shows captures on its own clock, and the link says that the
// clocks differ.
func TestExposureAllowsForClockDifference(t *testing.T) {
	home, recovery := start(t, "Norhaven", skewed{by: 90 * time.Second}), start(t, "Eastmole", clock.Wall{})
	g := joined(t, home, recovery, api.Promise{RpoTargetSeconds: 60, CadenceSeconds: 2, Keep: []api.Rung{{ForSeconds: 3600}}})
	ctx := context.Background()
	require.Eventually(t, func() bool {
		l := recovery.Links()[0]
		return l.ClockAheadMillis != nil && *l.ClockAheadMillis > 89_000 && *l.ClockAheadMillis < 91_000
	}, 10*time.Second, 20*time.Millisecond)
	differ := false
	for _, c := range recovery.Links()[0].Checks {
		differ = differ || c.Name == "Clocks agree" && !c.Ok && c.Mend != nil
	}
	require.True(t, differ)
	// The next point is captured with the difference known.
	n := 0
	require.Eventually(t, func() bool {
		ps, err := recovery.Points(ctx, g.ID)
		n = len(ps)
		return err == nil && n >= 3
	}, 20*time.Second, 50*time.Millisecond)
	a, err := home.Group(g.ID)
	require.NoError(t, err)
	b, err := recovery.Group(g.ID)
	require.NoError(t, err)
	require.InDelta(t, *a.ExposureSeconds, *b.ExposureSeconds, 2)
	require.Less(t, *b.ExposureSeconds, int64(20))
	ps, err := recovery.Points(ctx, g.ID)
	require.NoError(t, err)
	require.WithinDuration(t, time.Now(), ps[0].CaptureAt, 15*time.Second, "captures are shown on our own clock")
	require.False(t, ps[0].SealedAt.Before(ps[0].CaptureAt.Add(-time.Second)))
	for _, s := range []*service.Service{home, recovery} {
		e, err := s.Exposure(ctx, g.ID, nil, nil)
		require.NoError(t, err)
		require.Less(t, e.WorstSeconds, int64(30))
		require.InDelta(t, 1, e.KeptShare, 1e-9)
	}
}

// The ladder thins points at the recovery site and the home site follows; the
// newest, pinned and served points stay.
func TestLadderPrunesAndPinsHold(t *testing.T) {
	home, recovery := start(t, "Norhaven", clock.Wall{}), start(t, "Eastmole", clock.Wall{})
	g := joined(t, home, recovery, api.Promise{RpoTargetSeconds: 60, CadenceSeconds: 1, Keep: []api.Rung{{ForSeconds: 3}}})
	ctx := context.Background()
	ps, err := recovery.Points(ctx, g.ID)
	require.NoError(t, err)
	pinned := ps[len(ps)-1].ID
	_, err = recovery.PinPoint(ctx, "admin", pinned, api.PointPatch{Pinned: true})
	require.NoError(t, err)
	require.Eventually(t, func() bool { ps, err := recovery.Points(ctx, g.ID); return err == nil && len(ps) >= 2 }, 10*time.Second, 20*time.Millisecond)
	ps, err = recovery.Points(ctx, g.ID)
	require.NoError(t, err)
	sh, err := recovery.CreateShare(ctx, "admin", api.NewShare{Point: ps[0].ID})
	require.NoError(t, err)
	var last int64
	require.Eventually(t, func() bool {
		ps, err := recovery.Points(ctx, g.ID)
		last = ps[0].Number
		return err == nil && last >= 9
	}, 30*time.Second, 50*time.Millisecond)
	ps, err = recovery.Points(ctx, g.ID)
	require.NoError(t, err)
	have := map[string]bool{}
	for _, p := range ps {
		have[p.ID] = true
	}
	require.Less(t, len(ps), 8, "points beyond the ladder are gone")
	require.True(t, have[pinned], "a pinned point stays")
	require.True(t, have[sh.Point], "a served point stays")
	require.Eventually(t, func() bool {
		hs, err := home.Points(ctx, g.ID)
		return err == nil && len(hs) < 10 && len(hs) > 0 && !hs[0].Held
	}, 20*time.Second, 50*time.Millisecond, "the home site follows")
	require.NoError(t, recovery.DeleteShare(ctx, "admin", sh.ID))
	require.Eventually(t, func() bool {
		ps, err := recovery.Points(ctx, g.ID)
		for _, p := range ps {
			if p.ID == sh.Point {
				return false
			}
		}
		return err == nil
	}, 20*time.Second, 50*time.Millisecond, "it goes when it is no longer served")
}

// Blocks are taken from a group's home site only, and with the term it has here.
func TestOnlyTheHomeSiteBringsBlocks(t *testing.T) {
	home, recovery := start(t, "Norhaven", clock.Wall{}), start(t, "Eastmole", clock.Wall{})
	g := joined(t, home, recovery, api.Promise{RpoTargetSeconds: 3600, Keep: []api.Rung{{ForSeconds: 3600}}})
	ctx := context.Background()
	req := cycle.OpenRequest{ID: uuid.NewString(), Group: points.SealGroup{ID: g.ID, Term: 1}, Disks: []cycle.OpenRequestDisk{{Machine: "m", Key: "d", Size: 1 << 20}}}
	for name, pin := range map[string][]byte{"a stranger": make([]byte, 32), "nobody": nil} {
		_, err := recovery.OpenIntake(ctx, pin, req)
		p, ok := problem.Of(err)
		require.True(t, ok, name)
		require.Equal(t, 403, p.Status, name)
		_, err = recovery.HeldPoints(ctx, pin, g.ID)
		require.Error(t, err, name)
	}
	connect, known := recovery.Allow(make([]byte, 32))
	require.False(t, connect || known)
}

// A database that was used by another site is not taken for ours, and opening
// one twice changes nothing: migrations only go forward.
func TestRecordsKeepTheirSite(t *testing.T) {
	ctx := context.Background()
	url, err := cluster.Database(ctx, "s"+uuid.NewString())
	require.NoError(t, err)
	var id string
	for range 2 {
		db, err := records.Open(ctx, url)
		require.NoError(t, err)
		s, err := db.Site(ctx, "Norhaven", time.Now())
		require.NoError(t, err)
		if id == "" {
			id = s.ID
		}
		require.Equal(t, id, s.ID)
		require.NoError(t, db.Close())
	}
	_, err = service.New(ctx, service.Config{Name: "Eastmole", StateDir: t.TempDir(), DatabaseURL: url, LinkListen: "127.0.0.1:0", NBDListen: "127.0.0.1:0", StoreFloor: 1 << 20, Clock: clock.Wall{}, Log: slog.New(slog.DiscardHandler)})
	require.ErrorContains(t, err, `belongs to site "Norhaven"`)
}

// An edit and a cycle of one group end at the same moment, each with the record
// as it was before: neither undoes what the other wrote.
func TestEditsAndCyclesKeepEachOthersRecords(t *testing.T) {
	ctx := context.Background()
	url, err := cluster.Database(ctx, "s"+uuid.NewString())
	require.NoError(t, err)
	db, err := records.Open(ctx, url)
	require.NoError(t, err)
	defer func() { require.NoError(t, db.Close()) }()
	now := time.Now().UTC().Truncate(time.Millisecond)
	before := records.Group{ID: uuid.NewString(), Name: "Ticketing", Direction: "out", HomeID: uuid.NewString(), Term: 1, Revision: 1, Settings: []byte(`{}`), Anchor: now, CreatedAt: now}
	require.NoError(t, db.AddGroup(ctx, before))
	c := records.Cycle{ID: uuid.NewString(), GroupID: before.ID, Number: 1, State: "running", StartedAt: now, Detail: []byte(`{}`)}
	require.NoError(t, db.PutCycle(ctx, c))

	edited, sealed := before, before
	edited.Name, edited.Revision, edited.Paused = "Tickets", 2, true
	sealed.BaseCheckpoint, sealed.BasePoint = "kt-1", "point-1"
	c.State, c.EndedAt = "sealed", &now
	require.NoError(t, db.NoteStart(ctx, before.ID, now))
	require.NoError(t, db.SaveGroup(ctx, edited))
	require.NoError(t, db.EndCycle(ctx, c, sealed))
	require.NoError(t, db.NoteStart(ctx, before.ID, now.Add(time.Second)))
	require.NoError(t, db.SaveGroup(ctx, edited))

	gs, err := db.Groups(ctx)
	require.NoError(t, err)
	require.Len(t, gs, 1)
	require.Equal(t, "Tickets", gs[0].Name)
	require.True(t, gs[0].Paused)
	require.Equal(t, int64(2), gs[0].Revision)
	require.Equal(t, "kt-1", gs[0].BaseCheckpoint)
	require.Equal(t, "point-1", gs[0].BasePoint)
	require.WithinDuration(t, now.Add(time.Second), *gs[0].LastStart, 0)
	_, err = db.OpenCycle(ctx, before.ID)
	require.ErrorIs(t, err, records.ErrNotFound, "the cycle and its base were written together")
}
