//go:build !race

package cycle_test

import (
	"context"
	"fmt"
	"os"
	"runtime"
	"testing"
	"time"

	"github.com/google/uuid"
	"github.com/stretchr/testify/require"

	"kestrel/internal/cycle"
	"kestrel/internal/points"
)

// Five hundred cycles leave as many goroutines and open files behind as twenty.
// It says nothing about races, and runs without their detector for its length.
func TestNothingLeaksOverManyCycles(t *testing.T) {
	r := newRig(t)
	s := newSite(t, nil)
	group := points.SealGroup{ID: uuid.NewString(), Name: "pair"}
	files := func() int {
		fds, err := os.ReadDir("/proc/self/fd")
		require.NoError(t, err)
		return len(fds)
	}
	var goroutines, open int
	var base, point, before string
	for n := range 500 {
		require.NoError(t, r.Step(time.Unix(int64(n), 0)))
		job := cycle.Job{ID: uuid.NewString(), Checkpoint: fmt.Sprintf("cp-%d", n), Group: group, Machines: []string{"vm-101", "vm-102"}, BaseCheckpoint: base, BasePoint: point, Encoding: points.EncodingS2}
		x := r.run(t, s, job, nil)
		clear(r.source)
		if before != "" {
			require.NoError(t, s.store.Drop(before))
		}
		if base != "" {
			require.NoError(t, r.driver.Forget(context.Background(), base))
		}
		before, base, point = point, job.Checkpoint, x.Point
		if n == 20 {
			goroutines, open = runtime.NumGoroutine(), files()
		}
	}
	require.Eventually(t, func() bool { return runtime.NumGoroutine() <= goroutines+2 && files() <= open+2 }, 10*time.Second, 20*time.Millisecond,
		"%d goroutines and %d files after 20 cycles, %d and %d after 500", goroutines, open, runtime.NumGoroutine(), files())
	require.Len(t, s.store.Points(group.ID), 2)
	require.Empty(t, s.store.Intakes(group.ID))
}
