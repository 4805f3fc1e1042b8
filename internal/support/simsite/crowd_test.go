package simsite_test

import (
	"testing"
	"testing/synctest"
	"time"

	"github.com/stretchr/testify/require"

	"kestrel/internal/support/simsite"
)

// On a link that carries what is promised, all keep their targets; on one that does not, as
// many keep theirs as could, near to what no order could exceed, and many more than where
// cycles start at fixed times, or as they come.
func TestACrowdedLink(t *testing.T) {
	t.Parallel()
	loads, learn, long := []float64{0.95, 1.15}, 24*time.Hour, 8*time.Hour
	if raceDetector && !*whole { // which makes it many times slower
		loads, learn = loads[1:], 12*time.Hour
	}
	if *whole {
		loads, learn, long = []float64{0.9, 0.97, 1.05, 1.2}, 8*time.Hour, 12*time.Hour
		if *load > 0 {
			loads = []float64{*load}
		}
	}
	for _, load := range loads {
		kept := map[string]float64{}
		var bound float64
		for _, order := range []string{simsite.ByTarget, simsite.ByGrid, simsite.ByArrival} {
			c := simsite.Crowd{Seed: *seed, Groups: *crowded, Load: load, Order: order, Learn: learn, For: long}
			var cycles int
			var err error
			began := time.Now()
			synctest.Test(t, func(*testing.T) { kept[order], bound, cycles, err = simsite.Crowded(c) })
			require.NoError(t, err)
			require.Positive(t, cycles)
			t.Logf("%s: within %.2f %%, at most %.2f %%, %d cycles, in %s", c, 100*kept[order], 100*bound, cycles, time.Since(began).Round(time.Millisecond))
		}
		if load < 1 {
			require.Greater(t, kept[simsite.ByTarget], 0.99)
			for _, other := range []string{simsite.ByGrid, simsite.ByArrival} {
				require.GreaterOrEqual(t, kept[simsite.ByTarget], kept[other]-0.0005, "beside starts %s", other)
			}
			continue
		}
		for _, other := range []string{simsite.ByGrid, simsite.ByArrival} {
			require.Greater(t, kept[simsite.ByTarget], kept[other]+0.05, "beside starts %s", other)
		}
		// Of few groups, one that does not fit whole counts for much.
		require.Greater(t, kept[simsite.ByTarget], bound-0.02-1/float64(*crowded))
	}
}
