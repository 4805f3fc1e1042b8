package series_test

import (
	"math"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"kestrel/internal/core/series"
	"kestrel/internal/core/span"
)

// A chart is as fine as what is kept allows, and never more than it can show.
func TestChoose(t *testing.T) {
	now := time.Date(2026, 11, 26, 12, 0, 0, 0, time.UTC)
	for want, backs := range map[string][][2]time.Duration{
		"quarter": {{time.Hour, 0}, {8 * span.Day, 0}, {8 * span.Day, 7 * span.Day}},
		"hour":    {{9 * span.Day, 0}, {8*span.Day + 1, 8 * span.Day}, {33 * span.Day, 0}, {92 * span.Day, 70 * span.Day}},
		"day":     {{34 * span.Day, 0}, {93 * span.Day, 92 * span.Day}, {400 * span.Day, 0}, {4000 * span.Day, 0}},
	} {
		for _, b := range backs {
			require.Equal(t, want, series.Choose(now.Add(-b[0]), now.Add(-b[1]), now).Name, "%v", b)
		}
	}
	for i, s := range series.Steps()[1:] {
		require.Zero(t, s.Long%series.Steps()[i].Long, "%s is made of whole %ss", s.Name, series.Steps()[i].Name)
		require.Greater(t, s.Kept, series.Steps()[i].Kept)
	}
}

func TestBucket(t *testing.T) {
	var b series.Bucket
	require.Zero(t, b.Mean())
	for _, v := range []float64{-4, math.NaN(), 10, math.Inf(1), 3} {
		b.Add(v)
	}
	require.Equal(t, series.Bucket{N: 3, Sum: 9, Least: -4, Most: 10}, b)
	require.Equal(t, 3.0, b.Mean())
}
