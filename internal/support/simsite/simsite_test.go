package simsite_test

import (
	"flag"
	"fmt"
	"sync"
	"testing"
	"testing/synctest"
	"time"

	"github.com/stretchr/testify/require"

	"kestrel/internal/core/span"
	"kestrel/internal/support/simsite"
)

var (
	runs   = flag.Int("simsite.runs", 2, "how many histories to go through")
	seed   = flag.Uint64("simsite.seed", 1, "seed of the first one")
	groups = flag.Int("simsite.groups", 24, "how many groups")
	days   = flag.Int("simsite.days", 2, "how many days")

	crowded = flag.Int("simsite.crowd", 30, "how many groups share a link")
	load    = flag.Float64("simsite.load", 0, "how much of it changes need, as a share; 0 for several")
	whole   = flag.Bool("simsite.whole", false, "share it for a day, at more loads")
)

func run(t *testing.T, plan simsite.Plan) (out simsite.Outcome, err error) {
	synctest.Test(t, func(*testing.T) { out, err = simsite.Run(plan) })
	return out, err
}

// Days of two sites with faults: no edit is lost, cycles begin in the order of
// their deadlines, nobody starves, nothing is believed that is not so, both sites
// agree in the end, and the history adds up.
func TestSimulatedSite(t *testing.T) {
	if raceDetector && *runs == 2 { // which makes it many times slower
		*runs, *groups = 1, 12
	}
	var mu sync.Mutex
	var sum simsite.Outcome
	t.Run("histories", func(t *testing.T) {
		for n := range uint64(*runs) {
			plan := simsite.Plan{Seed: *seed + n, Groups: *groups, For: time.Duration(*days) * span.Day}
			t.Run(fmt.Sprintf("seed %d", plan.Seed), func(t *testing.T) {
				t.Parallel()
				if *runs == 1 && !raceDetector {
					plan.Log = t.Logf
				}
				began := time.Now()
				out, err := run(t, plan)
				if err != nil {
					t.Errorf("%v\nagain: ./dev sim --site --runs 1 --seed %d --groups %d --days %d", err, plan.Seed, *groups, *days)
				}
				t.Logf("in %s: %+v", time.Since(began).Round(10*time.Millisecond), out)
				mu.Lock()
				defer mu.Unlock()
				sum = sum.Plus(out)
			})
		}
	})
	require.Positive(t, min(sum.Sealed, sum.Failed, sum.Resumed, sum.Crowded, sum.Edits, sum.Overtaken, sum.Pauses, sum.Pins, sum.Cuts, sum.Outages, sum.Restarts, sum.LostAnswers, sum.Dropped), "everything has to be met: %+v", sum)
}

// A seed stands for one history.
func TestASeedRepeats(t *testing.T) {
	t.Parallel()
	plan := simsite.Plan{Seed: 7, Groups: 12, For: 18 * time.Hour}
	a, errA := run(t, plan)
	b, errB := run(t, plan)
	require.NoError(t, errA)
	require.NoError(t, errB)
	// How often it was looked at is no part of the story.
	a.Crowded, b.Crowded = 0, 0
	require.Equal(t, a, b)
	plan.Seed = 8
	c, err := run(t, plan)
	require.NoError(t, err)
	require.NotEqual(t, a.Story, c.Story)
}

// What was found once is found again when it is put back.
func TestPlantedFaultsAreFound(t *testing.T) {
	t.Parallel()
	for name, plan := range map[string]simsite.Plan{
		"an edit of .* was lost":       {Careless: true},
		"waits, which has to begin by": {AnyOrder: true},
	} {
		plan.Seed, plan.Groups, plan.For = 3, 24, 18*time.Hour
		_, err := run(t, plan)
		require.Error(t, err)
		require.Regexp(t, name, err.Error())
	}
}
