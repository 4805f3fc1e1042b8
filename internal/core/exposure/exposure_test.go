package exposure_test

import (
	"testing"
	"time"

	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"kestrel/internal/core/exposure"
)

var noon = time.Date(2026, 11, 23, 12, 0, 0, 0, time.UTC)

func at(s float64) time.Time { return noon.Add(time.Duration(s * float64(time.Second))) }

func drop(capture, sealed float64) exposure.Drop {
	return exposure.Drop{Capture: at(capture), Sealed: at(sealed)}
}

func TestExposureCountsFromTheCapture(t *testing.T) {
	for name, c := range map[string]struct {
		drops []exposure.Drop
		at    float64
		want  float64
		none  bool
	}{
		"nothing sealed":                           {nil, 10, 0, true},
		"captured but not sealed yet":              {[]exposure.Drop{drop(0, 60)}, 59, 0, true},
		"at the seal it is the age of the capture": {[]exposure.Drop{drop(0, 60)}, 60, 60, false},
		"it rises one second a second":             {[]exposure.Drop{drop(0, 60)}, 100, 100, false},
		"the newest capture counts":                {[]exposure.Drop{drop(0, 10), drop(50, 55)}, 70, 20, false},
		"an older capture sealed later is no gain": {[]exposure.Drop{drop(50, 55), drop(0, 60)}, 70, 20, false},
		"a cycle longer than its cadence":          {[]exposure.Drop{drop(0, 90), drop(90, 180)}, 179, 179, false},
		"a capture ahead by clock error is zero":   {[]exposure.Drop{drop(100, 50)}, 60, 0, false},
	} {
		t.Run(name, func(t *testing.T) {
			got, ok := exposure.At(c.drops, at(c.at))
			require.Equal(t, !c.none, ok)
			require.InDelta(t, c.want, got.Seconds(), 1e-9)
		})
	}
}

func TestShiftAllowsForTheClocksDifference(t *testing.T) {
	// Home's clock is 40 s ahead of ours; it captured at 12:01:00 of its own.
	capture := exposure.Shift(at(60), 40*time.Second)
	got, _ := exposure.At([]exposure.Drop{{Capture: capture, Sealed: at(25)}}, at(30))
	require.Equal(t, 10*time.Second, got)
}

func genDrops(t *rapid.T) []exposure.Drop {
	var out []exposure.Drop
	now := 0.0
	for range rapid.IntRange(0, 30).Draw(t, "drops") {
		capture := now + rapid.Float64Range(0, 100).Draw(t, "wait")
		now = capture + rapid.Float64Range(0.001, 200).Draw(t, "length")
		out = append(out, drop(capture, now))
	}
	return out
}

// The corners and straight lines between them are the exposure at every instant.
func TestSawtoothIsTheExposure(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		drops := genDrops(t)
		from, to := at(rapid.Float64Range(0, 1000).Draw(t, "from")), at(1000+rapid.Float64Range(1, 3000).Draw(t, "to"))
		curve := exposure.Sawtooth(drops, from, to)
		for range 20 {
			probe := from.Add(time.Duration(rapid.Float64Range(0, 1).Draw(t, "probe") * float64(to.Sub(from))))
			want, any := exposure.At(drops, probe)
			got, ok := interpolate(curve, probe)
			require.Equal(t, any, ok)
			if any {
				require.InDelta(t, want.Seconds(), got.Seconds(), 0.01)
			}
		}
	})
}

func interpolate(curve []exposure.Vertex, t time.Time) (time.Duration, bool) {
	for i := len(curve) - 1; i >= 0; i-- {
		if !curve[i].At.After(t) {
			return curve[i].Exposure + t.Sub(curve[i].At), true
		}
	}
	return 0, false
}

func TestJudgeMeasuresTimeOverTarget(t *testing.T) {
	// Rises 0..100 s twice; with a target of 80 s it is over for 20 s each time.
	curve := exposure.Sawtooth([]exposure.Drop{drop(0, 0), drop(100, 100)}, at(0), at(200))
	k := exposure.Judge(curve, 80*time.Second)
	require.Equal(t, 200*time.Second, k.Covered)
	require.Equal(t, 40*time.Second, k.Over)
	require.Equal(t, 100*time.Second, k.Worst)
	require.InDelta(t, 0.8, k.Share(), 1e-9)
}

// Thinning for drawing never hides the worst.
func TestThinKeepsThePeaks(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		curve := exposure.Sawtooth(genDrops(t), at(0), at(6000))
		thin := exposure.Thin(curve, 16)
		require.LessOrEqual(t, len(thin), max(20, 0))
		target := time.Minute
		require.Equal(t, exposure.Judge(curve, target).Worst, exposure.Judge(thin, target).Worst)
		if len(curve) > 0 {
			require.Equal(t, curve[0], thin[0])
			require.Equal(t, curve[len(curve)-1], thin[len(thin)-1])
		}
	})
}
