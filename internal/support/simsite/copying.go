package simsite

import (
	"context"
	"errors"
	"fmt"
	"time"

	"kestrel/internal/clock"
	"kestrel/internal/core/exposure"
	"kestrel/internal/cycle"
	"kestrel/internal/mover"
	"kestrel/internal/platform"
	"kestrel/internal/points"
	"kestrel/internal/support/rooms"
)

// driver is a platform that holds no disks: cycles here copy nothing but time.
type driver struct{ platform.Driver }

func (driver) Release(context.Context, string) error         { return nil }
func (driver) Forget(context.Context, string) error          { return nil }
func (driver) Checkpoints(context.Context) ([]string, error) { return nil, nil }
func (driver) Changed(context.Context, string) (map[string]int64, error) {
	return nil, errors.New("it does not count what changes")
}

func (w *world) platform(id string) (mover.Source, bool) {
	w.mu.Lock()
	defer w.mu.Unlock()
	n := int(id[0] - '0')
	return mover.Source{Driver: driver{}, Up: !w.down[n]}, true
}

func (w *world) way(string) (mover.Way, bool) {
	w.mu.Lock()
	defer w.mu.Unlock()
	limit := int64(0)
	if w.road != nil {
		limit = w.road.rate
	}
	return mover.Way{Name: rooms.RecoveryName, Limit: limit, Reached: !w.cut, Ours: func(t time.Time) time.Time { return t }, Remote: func(_ string, weight float64) cycle.Remote { return far{w: w, weight: weight} },
		Abandon: func(context.Context, string) error { return nil }}, true
}

// far is the recovery site as cycles see it.
type far struct {
	cycle.Remote
	w      *world
	weight float64 // its share of the road
}

func (f far) Open(ctx context.Context, r cycle.OpenRequest) (cycle.Opened, error) {
	return f.w.recovery.Keeper.OpenIntake(ctx, rooms.HomeID, r)
}

func (f far) Seal(ctx context.Context, intake string, x points.Seal) (*points.Seal, error) {
	return f.w.recovery.Keeper.SealIntake(ctx, rooms.HomeID, 0, intake, x)
}

// pass is a cycle without disks: it takes its time, may be cut off or fail, and
// seals with the real keeper.
func (w *world) pass(ctx context.Context, _ platform.Driver, to cycle.Remote, clk clock.Clock, job cycle.Job, report func(cycle.Progress)) (*points.Seal, error) {
	id := job.Group.ID
	groups, _, _ := w.rooms()
	rec, _ := groups.Get(id)
	w.mu.Lock()
	w.tries[id]++
	r := w.draw("pass", id, w.tries[id])
	cuts, calm := w.cuts, w.calm
	at, again := w.captured[job.Checkpoint]
	if !again {
		at = clk.Now().UTC()
		w.captured[job.Checkpoint] = at
		// With these lengths about two thirds of the places are taken.
		w.left[job.Checkpoint] = wait(r, time.Duration(2.6/float64(w.Groups)*float64(rec.Spec.Promise.Cadence.Every)))
	}
	length := w.left[job.Checkpoint]
	w.mu.Unlock()
	if w.road != nil {
		return w.carry(ctx, to, clk, job, rec, report)
	}
	w.mu.Lock()
	if job.Resumed {
		w.out.Resumed++
	}
	w.mu.Unlock()
	kind := kindOf(job)
	w.tell(id, "%s captured %s takes %s", kind, at.Format(time.TimeOnly), length)
	p := cycle.Progress{Kind: kind, Phase: "ship", CaptureAt: at, TotalBytes: points.BlockSize}
	report(p)
	began := clk.Now()
	fails := func(err error) (*points.Seal, error) {
		w.mu.Lock()
		w.out.Failed++
		w.mu.Unlock()
		w.tell(id, "%v", err)
		return nil, err
	}
	if !calm && r.IntN(60) == 0 {
		return fails(errPlatform)
	}
	err := clock.Sleep(ctx, clk, length)
	// What was copied before a stop or a cut need not be copied again.
	w.mu.Lock()
	w.left[job.Checkpoint] = max(time.Second, length-clk.Now().Sub(began))
	w.mu.Unlock()
	if err != nil {
		return fails(err)
	}
	w.mu.Lock()
	broken := w.cuts != cuts || w.cut
	w.mu.Unlock()
	if broken {
		return fails(errLink)
	}
	m := rec.Spec.Machines[0]
	opened, err := to.Open(ctx, cycle.OpenRequest{ID: job.ID, Group: job.Group, BasePoint: job.BasePoint, Disks: []cycle.OpenRequestDisk{{Machine: m.ID, Key: "d", Size: m.SizeBytes(), UseBase: job.BasePoint != ""}}})
	switch {
	case err != nil:
		return fails(fmt.Errorf("open the intake: %w", err))
	case opened.Sealed != nil:
		w.tell(id, "was sealed before, as %d", opened.Sealed.Number)
		return opened.Sealed, nil
	}
	seal, err := to.Seal(ctx, opened.Intake, points.Seal{CaptureAt: at, Consistency: "crash", Checkpoint: job.Checkpoint, Machines: []points.SealMachine{{ID: m.ID, Name: m.Name, Disks: []points.SealDisk{{Key: "d", Size: m.SizeBytes()}}}}})
	if err != nil {
		return fails(fmt.Errorf("seal: %w", err))
	}
	w.tell(id, "sealed as %d", seal.Number)
	w.mu.Lock()
	w.out.Sealed++
	w.arrived[id] = append(w.arrived[id], exposure.Arrival{Capture: seal.CaptureAt, Sealed: seal.SealedAt})
	delete(w.captured, job.Checkpoint)
	delete(w.left, job.Checkpoint)
	lost := !w.calm && r.IntN(80) == 0
	if lost {
		w.out.LostAnswers++
	}
	w.mu.Unlock()
	if lost {
		return fails(errAnswer)
	}
	return seal, nil
}
