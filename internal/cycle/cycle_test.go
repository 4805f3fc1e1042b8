package cycle_test

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"math/rand/v2"
	"net"
	"net/http/httptest"
	"sync"
	"testing"
	"time"

	"github.com/google/uuid"
	"github.com/stretchr/testify/require"
	"go.uber.org/goleak"

	"kestrel/internal/clock"
	"kestrel/internal/cycle"
	"kestrel/internal/lab"
	"kestrel/internal/nbd"
	"kestrel/internal/platform"
	labdriver "kestrel/internal/platform/lab"
	"kestrel/internal/points"
)

func TestMain(m *testing.M) { goleak.VerifyTestMain(m) }

var errCut = errors.New("the link was cut")

// site is a recovery site without a network: the store itself, behind a Remote
// that fails now and then, before or after the work was done.
type site struct {
	t     *testing.T
	dir   string
	store *points.Store

	mu      sync.Mutex
	faults  *rand.Rand // nil: none
	shipped map[points.Name]int
}

func newSite(t *testing.T, faults *rand.Rand) *site {
	t.Helper()
	s := &site{t: t, dir: t.TempDir(), shipped: map[points.Name]int{}, faults: faults}
	var err error
	s.store, err = points.Open(s.dir, points.Options{Now: time.Now})
	require.NoError(t, err)
	t.Cleanup(func() { require.NoError(t, s.store.Close()) })
	return s
}

func (s *site) cut() bool {
	s.mu.Lock()
	defer s.mu.Unlock()
	return s.faults != nil && s.faults.IntN(7) == 0
}

// guard fails before the work, does it, and fails after it.
func (s *site) guard(work func() error) error {
	if s.cut() {
		return errCut
	}
	if err := work(); err != nil {
		return err
	}
	if s.cut() {
		return errCut
	}
	return nil
}

func (s *site) Open(ctx context.Context, r cycle.OpenRequest) (out cycle.Opened, err error) {
	err = s.guard(func() (err error) {
		out, err = cycle.At{Store: s.store}.Open(ctx, r)
		return err
	})
	return out, err
}

func (s *site) Missing(ctx context.Context, intake string, names []points.Name) (out []bool, err error) {
	err = s.guard(func() (err error) {
		out, err = cycle.At{Store: s.store}.Missing(ctx, intake, names)
		return err
	})
	return out, err
}

func (s *site) Ship(ctx context.Context, intake string, blocks []cycle.Block, entries []points.Entry) (sent cycle.Sent, err error) {
	err = s.guard(func() error {
		if _, err := (cycle.At{Store: s.store}).Ship(ctx, intake, blocks, entries); err != nil {
			return err
		}
		s.mu.Lock()
		defer s.mu.Unlock()
		for _, b := range blocks {
			sent.Blocks++
			sent.WireBytes += int64(len(b.Stored))
			s.shipped[b.Name]++
		}
		return nil
	})
	return sent, err
}

func (s *site) Seal(ctx context.Context, intake string, seal points.Seal) (out *points.Seal, err error) {
	err = s.guard(func() (err error) {
		out, err = cycle.At{Store: s.store}.Seal(ctx, intake, seal)
		return err
	})
	return out, err
}

// restart closes and opens the store, as a restarted service does.
func (s *site) restart() {
	require.NoError(s.t, s.store.Close())
	var err error
	s.store, err = points.Open(s.dir, points.Options{Now: time.Now})
	require.NoError(s.t, err)
}

type rig struct {
	*lab.Lab
	driver *labdriver.Driver
	source map[string][]byte // checkpoint/machine/disk → bytes at the instant
}

func newRig(t *testing.T) *rig {
	t.Helper()
	nl, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	m := func(name, after string) lab.ScenarioMachine {
		return lab.ScenarioMachine{Name: name, Disks: []lab.ScenarioDisk{{SizeMiB: 9.5, UsedMiB: 4, Template: "base", Noise: 0.4}},
			Workload: lab.Workload{Seed: 3, HotPages: 10, HotPerSecond: 20, AppendKiBps: 300, RecordsPerS: 6, After: after}}
	}
	l, err := lab.Open(t.TempDir(), lab.Scenario{Machines: []lab.ScenarioMachine{m("db", ""), m("app", "db")}}, clock.Wall{}, nl.Addr().String())
	require.NoError(t, err)
	srv := httptest.NewServer(l.Handler("lab", "x"))
	ctx, cancel := context.WithCancel(context.Background())
	done := make(chan error, 1)
	go func() { done <- nbd.Serve(ctx, nl, l) }()
	d, err := labdriver.New(srv.URL, "lab", "x", clock.Wall{}, nil)
	require.NoError(t, err)
	r := &rig{l, d, map[string][]byte{}}
	l.OnRelease(func(cp, machine, disk string, c *lab.FrozenDisk) {
		b := make([]byte, c.Size)
		if _, err := c.ReadAt(b, 0); err != nil {
			panic(err)
		}
		r.source[cp+"/"+machine+"/"+disk] = b
	})
	t.Cleanup(func() { d.Close(); cancel(); require.NoError(t, <-done); srv.Close(); require.NoError(t, l.Close()) })
	return r
}

// run does one cycle as the service would: again and again until it seals.
func (r *rig) run(t *testing.T, s *site, job cycle.Job, between func(try int)) *points.Seal {
	t.Helper()
	for try := 0; ; try++ {
		require.Less(t, try, 400, "a cycle has to end some time")
		var last cycle.Progress
		x, err := cycle.Run(context.Background(), r.driver, s, clock.Wall{}, job, func(p cycle.Progress) {
			last = p
			var parts cycle.Part
			for _, x := range p.Parts {
				require.Contains(t, job.Machines, x.Machine)
				parts.ReadBytes, parts.ChangedBytes, parts.ShippedBytes, parts.WireBytes = parts.ReadBytes+x.ReadBytes, parts.ChangedBytes+x.ChangedBytes, parts.ShippedBytes+x.ShippedBytes, parts.WireBytes+x.WireBytes
			}
			require.Equal(t, []int64{p.ReadBytes, p.ChangedBytes, p.ShippedBytes, p.WireBytes}, []int64{parts.ReadBytes, parts.ChangedBytes, parts.ShippedBytes, parts.WireBytes}, "what came of the disks is what came of all")
		})
		if err == nil {
			require.NoError(t, r.driver.Release(context.Background(), job.Checkpoint))
			return x
		}
		require.ErrorIs(t, err, errCut)
		job.Resumed, job.Captured = true, last.Captured()
		between(try)
	}
}

func (r *rig) compare(t *testing.T, s *site, x *points.Seal) {
	t.Helper()
	for _, m := range x.Machines {
		for _, d := range m.Disks {
			b := make([]byte, d.Size)
			_, err := s.store.Disk(d.Root, d.Size).ReadAt(b, 0)
			require.NoError(t, err)
			require.True(t, bytes.Equal(r.source[x.Checkpoint+"/"+m.ID+"/"+d.Key], b), "point %d, %s %s differs", x.Number, m.Name, d.Key)
		}
	}
}

// Cycles whose link fails at every step, on either side of the work, while the
// guests write and the other site restarts: each seals once, as the source was,
// and hardly a block is shipped twice.
func TestCyclesThroughFaults(t *testing.T) {
	for seed := range uint64(4) {
		t.Run(fmt.Sprintf("seed %d", seed), func(t *testing.T) {
			r := newRig(t)
			s := newSite(t, rand.New(rand.NewPCG(seed, 1)))
			group := points.SealGroup{ID: uuid.NewString(), Name: "g", Term: 1}
			var seals []*points.Seal
			base, point := "", ""
			for n := range 6 {
				for i := range 3 {
					require.NoError(t, r.Step(time.Unix(int64(n*10+i), 0)))
				}
				job := cycle.Job{ID: uuid.NewString(), Checkpoint: fmt.Sprintf("cp-%d", n), Group: group, Machines: []string{"vm-101", "vm-102"}, BaseCheckpoint: base, BasePoint: point}
				x := r.run(t, s, job, func(try int) {
					require.NoError(t, r.Step(time.Unix(int64(try), 0))) // the guests do not wait
					if try%9 == 4 {
						s.restart()
					}
				})
				require.Equal(t, int64(n+1), x.Number, "one cycle, one point")
				if base != "" {
					require.NoError(t, r.driver.Forget(context.Background(), base))
				}
				base, point = job.Checkpoint, x.Point
				seals = append(seals, x)
			}
			for _, x := range seals {
				r.compare(t, s, x)
			}
			total, twice := 0, 0
			for _, n := range s.shipped {
				total += n
				twice += n - 1
			}
			require.Less(t, float64(twice), 0.01*float64(total), "%d of %d blocks were shipped twice", twice, total)
			rep, err := s.store.Verify(context.Background(), nil)
			require.NoError(t, err)
			require.Empty(t, rep.Faults)
		})
	}
}

// What earlier attempts shipped of a disk counts on, also of one of which nothing is left to
// ship.
func TestPartsOfSeveralAttempts(t *testing.T) {
	now := []cycle.Part{{Machine: "db", Disk: "d1", ReadBytes: 5, ChangedBytes: 9, ShippedBytes: 2, WireBytes: 1}}
	got := cycle.Joined(now, []cycle.Part{{Machine: "db", Disk: "d1", ReadBytes: 4, ChangedBytes: 9, ShippedBytes: 3, WireBytes: 2}, {Machine: "db", Name: "db-1", Disk: "d2", ReadBytes: 7, ShippedBytes: 6, WireBytes: 4}})
	require.Equal(t, []cycle.Part{{Machine: "db", Disk: "d1", ReadBytes: 5, ChangedBytes: 9, ShippedBytes: 5, WireBytes: 3}, {Machine: "db", Name: "db-1", Disk: "d2", ShippedBytes: 6, WireBytes: 4}}, got)
}

// A capture that is gone ends the cycle for good: it has to begin anew.
func TestLostCaptureStartsAnew(t *testing.T) {
	r := newRig(t)
	s := newSite(t, nil)
	job := cycle.Job{ID: uuid.NewString(), Checkpoint: "cp", Group: points.SealGroup{ID: uuid.NewString()}, Machines: []string{"vm-101"}, Resumed: true}
	_, err := cycle.Run(context.Background(), r.driver, s, clock.Wall{}, job, func(cycle.Progress) {})
	require.ErrorIs(t, err, cycle.ErrStartAnew)
	job.Resumed = false
	var phases []string
	x, err := cycle.Run(context.Background(), r.driver, s, clock.Wall{}, job, func(p cycle.Progress) {
		if n := len(phases); n == 0 || phases[n-1] != p.Phase {
			phases = append(phases, p.Phase)
		}
		require.LessOrEqual(t, p.ReadBytes, max(p.TotalBytes, 0))
	})
	require.NoError(t, err)
	require.Equal(t, []string{"capture", "read", "ship", "seal"}, phases)
	require.NoError(t, r.driver.Release(context.Background(), "cp"))
	r.compare(t, s, x)
	// The base point is lost at the other side: the next cycle reads all and
	// says so, and is right.
	require.NoError(t, r.Step(time.Unix(1, 0)))
	next := cycle.Job{ID: uuid.NewString(), Checkpoint: "cp2", Group: job.Group, Machines: job.Machines, BaseCheckpoint: "cp", BasePoint: uuid.NewString()}
	var kind string
	x, err = cycle.Run(context.Background(), r.driver, s, clock.Wall{}, next, func(p cycle.Progress) { kind = p.Kind })
	require.NoError(t, err)
	require.Equal(t, cycle.KindCompare, kind)
	require.NoError(t, r.driver.Release(context.Background(), "cp2"))
	r.compare(t, s, x)
}

// hiding is a disk whose platform leaves changes out.
type hiding struct{ cycle.Source }

func (h hiding) Extents(name string, off, length int64) ([]nbd.Extent, error) {
	out, err := h.Source.Extents(name, off, length)
	for i := range out {
		if name != nbd.AllocationContext {
			out[i].Flags &^= nbd.StateDirty
		}
	}
	return out, err
}

// What the platform did not report as changed is found by a comparison, told,
// and right from then on.
func TestComparisonFindsWhatWasNotReported(t *testing.T) {
	r := newRig(t)
	s := newSite(t, nil)
	group := points.SealGroup{ID: uuid.NewString()}
	base, point := "", ""
	pass := func(name string, lie, compare bool) *points.Seal {
		for i := range 3 {
			require.NoError(t, r.Step(time.Unix(int64(len(r.source)*10+i), 0)))
		}
		job := cycle.Job{ID: uuid.NewString(), Checkpoint: name, Group: group, Machines: []string{"vm-101"}, BaseCheckpoint: base, BasePoint: point, Compare: compare}
		o := cycle.Options{Dial: func(ctx context.Context, d platform.FrozenDisk, contexts []string) (cycle.Source, error) {
			c, err := nbd.Dial(ctx, d.Network, d.Address, d.Export, nbd.Options{Contexts: contexts})
			if err != nil || !lie {
				return c, err
			}
			return hiding{c}, nil
		}}
		x, err := o.Run(context.Background(), r.driver, s, clock.Wall{}, job, func(cycle.Progress) {})
		require.NoError(t, err)
		require.NoError(t, r.driver.Release(context.Background(), name))
		base, point = name, x.Point
		return x
	}
	pass("first", false, false)
	hidden := pass("hidden", true, false)
	require.Zero(t, hidden.MissedBytes, "what was not read is not known")
	x := pass("compared", false, true)
	require.Positive(t, x.MissedBytes)
	r.compare(t, s, x)
	x = pass("again", false, true)
	require.Zero(t, x.MissedBytes)
	r.compare(t, s, x)
}
