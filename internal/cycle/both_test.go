package cycle_test

import (
	"context"
	"fmt"
	"math/rand/v2"
	"testing"
	"time"

	"github.com/google/uuid"
	"github.com/stretchr/testify/require"

	"kestrel/internal/clock"
	"kestrel/internal/cycle"
	"kestrel/internal/points"
)

// near is a site whose changes are counted from the point of the same checkpoint.
type near struct {
	*site
	base string
}

func (n near) Open(ctx context.Context, r cycle.OpenRequest) (cycle.Opened, error) {
	r.BasePoint = uuid.Nil.String()
	for _, x := range n.store.Points(r.Group.ID) {
		if x.Checkpoint == n.base {
			r.BasePoint = x.Point
		}
	}
	return n.site.Open(ctx, r)
}

// Two sites that fail at every step, each for itself: the far one gets all of
// the points, the near one some, and whatever either lists is as the source was.
func TestCyclesToBothThroughFaults(t *testing.T) {
	for seed := range uint64(2) {
		t.Run(fmt.Sprintf("seed %d", seed), func(t *testing.T) {
			r := newRig(t)
			sites := [2]*site{}
			for i := range sites {
				sites[i] = newSite(t, rand.New(rand.NewPCG(seed, uint64(i))))
			}
			far, close := sites[0], sites[1]
			group := points.SealGroup{ID: uuid.NewString(), Name: "g", Term: 1}
			base, point := "", ""
			for n := range 8 {
				for i := range 3 {
					require.NoError(t, r.Step(time.Unix(int64(n*10+i), 0)))
				}
				if n == 4 {
					close.faults = nil // one time it gets all
				}
				job := cycle.Job{ID: uuid.NewString(), Checkpoint: fmt.Sprintf("cp-%d", n), Group: group, Machines: []string{"vm-101", "vm-102"}, BaseCheckpoint: base, BasePoint: point}
				var x *points.Seal
				for try := 0; x == nil; try++ {
					require.Less(t, try, 400)
					var last cycle.Progress
					var err error
					to := cycle.Both(far, near{close, base}, func(error) {})
					x, err = cycle.Run(context.Background(), r.driver, to, clock.Wall{}, job, func(p cycle.Progress) { last = p })
					if err != nil {
						require.ErrorIs(t, err, errCut)
						job.Resumed, job.Captured = true, last.Captured()
						require.NoError(t, r.Step(time.Unix(int64(try), 0)))
						sites[try%2].restart()
					}
				}
				require.NoError(t, r.driver.Release(context.Background(), job.Checkpoint))
				if base != "" {
					require.NoError(t, r.driver.Forget(context.Background(), base))
				}
				base, point = job.Checkpoint, x.Point
			}
			require.Len(t, far.store.Points(group.ID), 8)
			require.NotEmpty(t, close.store.Points(group.ID))
			for _, s := range sites {
				s.faults = nil
				for _, x := range s.store.Points(group.ID) {
					r.compare(t, s, x)
				}
			}
		})
	}
}
