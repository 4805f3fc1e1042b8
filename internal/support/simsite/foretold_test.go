package simsite_test

import (
	"math"
	"testing"
	"testing/synctest"
	"time"

	"github.com/stretchr/testify/require"

	"kestrel/internal/support/simsite"
)

// What is foretold comes: hours of two sites whose cycles share a link. Where more groups
// than there are places fall due at once, the worst wait of a day hangs on who was a second
// earlier; that cannot be foretold, and is not held to here.
func TestWhatIsForetoldComes(t *testing.T) {
	t.Parallel()
	for _, c := range []struct {
		name   string
		seed   uint64
		groups int
		rate   int64
	}{{"twelve", 3, 12, 400_000}, {"four", 5, 4, 60_000}, {"four others", 6, 4, 50_000}} {
		t.Run(c.name, func(t *testing.T) {
			var all []simsite.Compared
			var err error
			synctest.Test(t, func(*testing.T) { all, err = simsite.Foretold(c.seed, c.groups, c.rate, 40*time.Hour, 24*time.Hour) })
			require.NoError(t, err)
			require.Len(t, all, c.groups)
			seeded, worst, bytes, cycles := 0, 0, 0, 0
			for _, g := range all {
				if g.SeedFinish > 0 && g.CameSeeded > 0 {
					seeded++
					require.InEpsilon(t, g.CameSeeded.Seconds(), g.SeedFinish.Seconds(), 0.10, "%s is copied for the first time: %+v", g.Name, g)
				}
				if g.CameCycles < 2 {
					continue // a day has hardly more than one of those
				}
				worst++
				cycles += g.CameCycles
				require.InEpsilon(t, g.CameWorst.Seconds(), g.Worst.Seconds(), 0.15, "worst exposure: %+v", g)
				if math.Abs(g.CameBytes) > 0 {
					bytes++
					require.InEpsilon(t, g.CameBytes, g.Bytes, 0.10, "bytes: %+v", g)
				}
				require.InDelta(t, g.CameWithin, g.Within, 0.03, "within: %+v", g)
			}
			require.GreaterOrEqual(t, min(seeded, worst, bytes), c.groups/2)
			require.Greater(t, cycles, 50)
		})
	}
}
