package sim_test

import (
	"flag"
	"runtime"
	"sync"
	"sync/atomic"
	"testing"

	"github.com/stretchr/testify/require"

	"kestrel/internal/support/sim"
)

var (
	runs = flag.Int("sim.runs", 0, "how many histories to go through; 100, or 5 under the race detector, if 0")
	seed = flag.Uint64("sim.seed", 1, "seed of the first one")
)

// Histories of faults: whatever the disk, the link and the host do, no sealed
// point is missing and every listed point reads back exactly.
func TestSimulation(t *testing.T) {
	if *runs == 0 {
		if *runs = 100; raceDetector {
			*runs = 5
		}
	}
	var next atomic.Uint64
	var mu sync.Mutex
	var sum sim.Outcome
	var wg sync.WaitGroup
	for range runtime.NumCPU() {
		wg.Go(func() {
			for n := next.Add(1) - 1; n < uint64(*runs); n = next.Add(1) - 1 {
				log := func(string, ...any) {}
				if *runs == 1 {
					log = t.Logf
				}
				out, err := sim.Run(*seed+n, log)
				mu.Lock()
				if err != nil {
					t.Errorf("seed %d: %v\n%+v\nagain: ./dev sim --runs 1 --seed %d", *seed+n, err, out, *seed+n)
				}
				sum = sum.Plus(out)
				mu.Unlock()
			}
		})
	}
	wg.Wait()
	t.Logf("%d runs: %+v", *runs, sum)
	if *runs >= 100 {
		require.Positive(t, min(sum.Sealed, sum.Dropped, sum.Swept, sum.PowerCuts, sum.Kills, sum.Restarts, sum.FailedAttempts, sum.Full, sum.LateRequests, sum.Rotted, sum.Healed), "every fault has to be met")
	}
}

// A seed stands for one history.
func TestASeedRepeats(t *testing.T) {
	n := uint64(5)
	if raceDetector {
		n = 2
	}
	for n := range n {
		a, errA := sim.Run(n, func(string, ...any) {})
		b, errB := sim.Run(n, func(string, ...any) {})
		require.Equal(t, errA, errB)
		require.Equal(t, a, b)
	}
}
