package operation_test

import (
	"context"
	"errors"
	"log/slog"
	"sync"
	"testing"
	"testing/synctest"
	"time"

	"github.com/google/uuid"
	"github.com/stretchr/testify/require"

	"kestrel/internal/api"
	"kestrel/internal/audit"
	"kestrel/internal/clock"
	"kestrel/internal/core/actor"
	"kestrel/internal/events"
	"kestrel/internal/operation"
	"kestrel/internal/support/memory"
)

var anna = actor.Actor{Kind: actor.Person, Name: "anna", Role: actor.Administrator}

// host is one run of the service's operations, over records that outlive it.
type host struct {
	*operation.Operations
	stop func()
}

func run(t *testing.T, db *memory.DB, kinds ...operation.Kind) host {
	t.Helper()
	return runAs(t, db, uuid.NewString(), kinds...)
}

// runAs is run as a holder.
func runAs(t *testing.T, db *memory.DB, holder string, kinds ...operation.Kind) host {
	t.Helper()
	hub := events.NewHub()
	log := slog.New(slog.DiscardHandler)
	o := operation.New(db, audit.New(db, clock.Wall{}, hub, log), clock.Wall{}, hub, log, holder)
	for _, k := range kinds {
		o.Register(k)
	}
	ctx, cancel := context.WithCancel(context.Background())
	done := make(chan struct{})
	go func() { defer close(done); o.Run(ctx) }()
	synctest.Wait()
	return host{o, func() { cancel(); <-done }}
}

func state(t *testing.T, o *operation.Operations, id string) api.Operation {
	t.Helper()
	v, err := o.Get(context.Background(), id)
	require.NoError(t, err)
	return v
}

// Work that is cut off by a stop goes on in the next run of the service, with the
// first step that is not done, and no step is done again.
func TestWorkGoesOnAfterARestart(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		db := memory.New()
		var mu sync.Mutex
		did := map[string]int{}
		kind := operation.Kind{Name: "export", Run: func(ctx context.Context, w *operation.Work) (string, error) {
			var in struct{ Steps []string }
			if err := w.Input(&in); err != nil {
				return "", err
			}
			for i, s := range in.Steps {
				if err := w.Step(ctx, s, func(ctx context.Context) error {
					if err := clock.Sleep(ctx, clock.Wall{}, time.Minute); err != nil {
						return err
					}
					mu.Lock()
					defer mu.Unlock()
					did[s]++
					return nil
				}); err != nil {
					return "", err
				}
				w.Progress(int64(i+1), int64(len(in.Steps)))
			}
			return "all steps", nil
		}}
		first := run(t, db, kind)
		op, err := first.Start(context.Background(), anna, "export", "point 4", map[string][]string{"steps": {"a", "b", "c"}})
		require.NoError(t, err)
		time.Sleep(90 * time.Second)
		require.Equal(t, []string{"a"}, state(t, first.Operations, op.ID).Steps)
		first.stop()
		require.Equal(t, "running", string(state(t, first.Operations, op.ID).State), "it waits; it has not failed")
		second := run(t, db, kind)
		time.Sleep(5 * time.Minute)
		v := state(t, second.Operations, op.ID)
		require.Equal(t, "done", string(v.State))
		require.Equal(t, "all steps", *v.Message)
		require.Equal(t, []string{"a", "b", "c"}, v.Steps)
		require.Equal(t, 2, v.Attempts)
		require.Equal(t, map[string]int{"a": 1, "b": 1, "c": 1}, did)
		second.stop()
	})
}

// A holder that is gone without a word is waited for until its lease is over. If it
// is there after all, it can write nothing any more.
func TestALostHolderWritesNothing(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		db := memory.New()
		var mu sync.Mutex
		var wrote []string
		kind := func(name string, hang bool) operation.Kind {
			return operation.Kind{Name: "job", Run: func(ctx context.Context, w *operation.Work) (string, error) {
				if hang {
					// Not even the end of its context moves it, as in a process that stands
					// still; then it goes on.
					time.Sleep(time.Hour)
				}
				err := w.Step(ctx, "write", func(context.Context) error {
					mu.Lock()
					defer mu.Unlock()
					wrote = append(wrote, name)
					return nil
				})
				return name, err
			}}
		}
		first := run(t, db, kind("first", true))
		op, err := first.Start(context.Background(), anna, "job", "x", struct{}{})
		require.NoError(t, err)
		// The lease is taken away, as if it had run out while the process stood still.
		taken, err := db.Operation(context.Background(), op.ID)
		require.NoError(t, err)
		taken.LeaseUntil = new(time.Now().Add(-time.Second))
		_, err = db.HoldOperation(context.Background(), taken)
		require.NoError(t, err)
		second := run(t, db, kind("second", false))
		time.Sleep(time.Minute)
		require.Equal(t, "done", string(state(t, second.Operations, op.ID).State))
		time.Sleep(2 * time.Hour)
		v := state(t, second.Operations, op.ID)
		require.Equal(t, "second", *v.Message)
		require.Equal(t, []string{"write"}, v.Steps)
		first.stop()
		second.stop()
	})
}

// A process that was killed goes on at once when it is started anew: its own lease is in nobody's
// way, and another's is.
func TestAProcessDoesNotWaitForItsOwnLease(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		db := memory.New()
		kind := func(long time.Duration) operation.Kind {
			return operation.Kind{Name: "job", Run: func(context.Context, *operation.Work) (string, error) {
				time.Sleep(long) // not even the end of its context moves it, as if it was killed
				return "done", nil
			}}
		}
		killed := runAs(t, db, "mover a", kind(time.Hour))
		op, err := killed.Start(context.Background(), anna, "job", "x", struct{}{})
		require.NoError(t, err)
		other := runAs(t, db, "mover b", kind(0))
		time.Sleep(2 * time.Second)
		require.Equal(t, "running", string(state(t, other.Operations, op.ID).State))
		again := runAs(t, db, "mover a", kind(0))
		time.Sleep(time.Second)
		require.Equal(t, "done", string(state(t, again.Operations, op.ID).State))
		killed.stop()
		other.stop()
		again.stop()
	})
}

func TestStopAndFailAndPanic(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		db := memory.New()
		h := run(t, db,
			operation.Kind{Name: "long", Run: func(ctx context.Context, _ *operation.Work) (string, error) {
				return "", clock.Sleep(ctx, clock.Wall{}, time.Hour)
			}},
			operation.Kind{Name: "bad", Run: func(context.Context, *operation.Work) (string, error) { return "", errors.New("the disk is gone") }},
			operation.Kind{Name: "worse", Run: func(context.Context, *operation.Work) (string, error) { panic("oh") }},
			operation.Kind{Name: "kept", Keep: "Remove it instead.", Run: func(ctx context.Context, _ *operation.Work) (string, error) {
				return "", clock.Sleep(ctx, clock.Wall{}, time.Hour)
			}})
		start := func(kind string) api.Operation {
			op, err := h.Start(context.Background(), anna, kind, "x", struct{}{})
			require.NoError(t, err)
			return op
		}
		long, bad, worse, kept := start("long"), start("bad"), start("worse"), start("kept")
		require.NoError(t, h.Stop(context.Background(), anna, long.ID))
		require.ErrorContains(t, h.Stop(context.Background(), anna, kept.ID), "Remove it instead")
		time.Sleep(time.Second)
		require.Equal(t, "stopped", string(state(t, h.Operations, long.ID).State))
		require.Equal(t, "The disk is gone", *state(t, h.Operations, bad.ID).Message)
		require.Contains(t, *state(t, h.Operations, worse.ID).Message, "fault of the service: oh")
		require.ErrorContains(t, h.Stop(context.Background(), anna, bad.ID), "ended already")
		_, err := h.Get(context.Background(), "no such")
		require.ErrorContains(t, err, "no operation")
		list, err := h.List(context.Background(), 2, 1)
		require.NoError(t, err)
		require.Len(t, list, 2)
		h.stop()
	})
}
