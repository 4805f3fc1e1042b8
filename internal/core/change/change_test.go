package change_test

import (
	"math"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"kestrel/internal/core/change"
)

var monday = time.Date(2026, 11, 23, 0, 0, 0, 0, time.UTC)

func TestCurves(t *testing.T) {
	all := []change.Sample{
		{From: monday, After: time.Minute, Bytes: 60}, {From: monday, After: 5 * time.Minute, Bytes: 200}, {From: monday, After: time.Hour, Bytes: 1200},
		{From: monday.Add(time.Hour), After: time.Minute, Bytes: 20}, {From: monday.Add(time.Hour), After: 5 * time.Minute, Bytes: 100}, {From: monday.Add(time.Hour), After: time.Hour, Bytes: 400},
	}
	c := change.Typical(all)
	require.Equal(t, change.Curve{{Within: time.Minute, Bytes: 40}, {Within: 5 * time.Minute, Bytes: 150}, {Within: time.Hour, Bytes: 800}}, c)
	require.InDelta(t, 20, c.Within(30*time.Second), 1e-9)
	require.InDelta(t, 95, c.Within(3*time.Minute), 1e-9, "half the way from the one to the other")
	require.InDelta(t, 800+650.0/55*60, c.Within(2*time.Hour), 1e-6, "beyond what was seen at the last rate")
	require.InDelta(t, 0.5, c.Rate(5*time.Minute), 1e-9)
	require.EqualValues(t, 1200, change.Busiest(all).Within(time.Hour))
	require.Zero(t, change.Curve(nil).Within(time.Hour))
	require.Equal(t, []change.Hour{{Hour: 0, Share: 1.5}, {Hour: 1, Share: 0.5}}, change.Week(all, time.UTC))
	require.Equal(t, 2, change.Week(all, time.FixedZone("", 2*3600))[0].Hour)
}

// Whatever was seen: more time never changes less, the busiest is never below the typical
// where it was seen, and a sum is what its parts are together.
func TestCurvesRise(t *testing.T) {
	sample := rapid.Custom(func(t *rapid.T) change.Sample {
		return change.Sample{From: monday, After: time.Duration(rapid.IntRange(1, 5).Draw(t, "after")) * time.Minute, Bytes: rapid.Int64Range(0, 1000).Draw(t, "bytes")}
	})
	rapid.Check(t, func(t *rapid.T) {
		a, b := rapid.SliceOfN(sample, 1, 20).Draw(t, "a"), rapid.SliceOfN(sample, 1, 20).Draw(t, "b")
		x, y := change.Typical(a), change.Typical(b)
		short, more := time.Duration(rapid.IntRange(0, 600).Draw(t, "short"))*time.Second, time.Duration(rapid.IntRange(0, 600).Draw(t, "more"))*time.Second
		require.LessOrEqual(t, x.Within(short), x.Within(short+more)+1e-6)
		for i, s := range change.Busiest(a) {
			require.GreaterOrEqual(t, s.Bytes, x[i].Bytes)
		}
		sum := change.Sum(x, y)
		for _, s := range sum {
			require.InDelta(t, x.Within(s.Within)+y.Within(s.Within), s.Bytes, 1e-6)
		}
	})
}

// What writes the same pages again and again is learned to grow flatter, and what has been
// seen once only does not count.
func TestLearning(t *testing.T) {
	pages := func(after time.Duration) int64 { return int64(1e6 * (1 - math.Exp(-after.Seconds()/20))) }
	var l change.Learned
	require.Empty(t, l.Curve())
	l.See(10*time.Second, pages(10*time.Second))
	l.See(time.Millisecond, 5)
	require.Empty(t, l.Curve())
	for i := range 2000 {
		after := time.Duration(1+i%180) * time.Second
		l.See(after, pages(after))
	}
	c := l.Curve()
	for _, after := range []time.Duration{5 * time.Second, 20 * time.Second, time.Minute, 2 * time.Minute} {
		require.InEpsilon(t, float64(pages(after)), c.Within(after), 0.15, after)
	}
	require.InEpsilon(t, 1e6, c.Within(time.Hour), 0.2, "beyond what was seen there is hardly more")
}
