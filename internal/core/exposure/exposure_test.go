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

func arrival(capture, sealed float64) exposure.Arrival {
	return exposure.Arrival{Capture: at(capture), Sealed: at(sealed)}
}

func TestExposureCountsFromTheCapture(t *testing.T) {
	for name, c := range map[string]struct {
		arrivals []exposure.Arrival
		at       float64
		want     float64
		none     bool
	}{
		"nothing sealed":                           {nil, 10, 0, true},
		"captured but not sealed yet":              {[]exposure.Arrival{arrival(0, 60)}, 59, 0, true},
		"at the seal it is the age of the capture": {[]exposure.Arrival{arrival(0, 60)}, 60, 60, false},
		"it rises one second a second":             {[]exposure.Arrival{arrival(0, 60)}, 100, 100, false},
		"the newest capture counts":                {[]exposure.Arrival{arrival(0, 10), arrival(50, 55)}, 70, 20, false},
		"an older capture sealed later is no gain": {[]exposure.Arrival{arrival(50, 55), arrival(0, 60)}, 70, 20, false},
		"a cycle longer than its cadence":          {[]exposure.Arrival{arrival(0, 90), arrival(90, 180)}, 179, 179, false},
		"a capture ahead by clock error is zero":   {[]exposure.Arrival{arrival(100, 50)}, 60, 0, false},
	} {
		t.Run(name, func(t *testing.T) {
			got, ok := exposure.At(c.arrivals, at(c.at))
			require.Equal(t, !c.none, ok)
			require.InDelta(t, c.want, got.Seconds(), 1e-9)
		})
	}
}

func TestShiftAllowsForTheClocksDifference(t *testing.T) {
	// Home's clock is 40 s ahead of ours; it captured at 12:01:00 of its own.
	capture := exposure.Shift(at(60), 40*time.Second)
	got, _ := exposure.At([]exposure.Arrival{{Capture: capture, Sealed: at(25)}}, at(30))
	require.Equal(t, 10*time.Second, got)
}

func genArrivals(t *rapid.T) []exposure.Arrival {
	var out []exposure.Arrival
	now := 0.0
	for range rapid.IntRange(0, 30).Draw(t, "arrivals") {
		capture := now + rapid.Float64Range(0, 100).Draw(t, "wait")
		now = capture + rapid.Float64Range(0.001, 200).Draw(t, "length")
		out = append(out, arrival(capture, now))
	}
	return out
}

// The corners and straight lines between them are the exposure at every instant.
func TestSawtoothIsTheExposure(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		arrivals := genArrivals(t)
		from, to := at(rapid.Float64Range(0, 1000).Draw(t, "from")), at(1000+rapid.Float64Range(1, 3000).Draw(t, "to"))
		curve := exposure.Sawtooth(arrivals, from, to)
		for range 20 {
			probe := from.Add(time.Duration(rapid.Float64Range(0, 1).Draw(t, "probe") * float64(to.Sub(from))))
			want, any := exposure.At(arrivals, probe)
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
	curve := exposure.Sawtooth([]exposure.Arrival{arrival(0, 0), arrival(100, 100)}, at(0), at(200))
	k := exposure.Judge(curve, always(80*time.Second))
	require.Equal(t, 200*time.Second, k.Covered)
	require.Equal(t, 40*time.Second, k.Over)
	require.Equal(t, 100*time.Second, k.Worst)
	require.InDelta(t, 0.8, k.Share(), 1e-9)
}

// Thinning for drawing never hides the worst.
func TestThinKeepsThePeaks(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		curve := exposure.Sawtooth(genArrivals(t), at(0), at(6000))
		thin := exposure.Thin(curve, 16)
		require.LessOrEqual(t, len(thin), max(20, 0))
		target := always(time.Minute)
		require.Equal(t, exposure.Judge(curve, target).Worst, exposure.Judge(thin, target).Worst)
		if len(curve) > 0 {
			require.Equal(t, curve[0], thin[0])
			require.Equal(t, curve[len(curve)-1], thin[len(thin)-1])
		}
	})
}

func always(d time.Duration) []exposure.Target { return []exposure.Target{{Target: d}} }

// Every moment is judged by what was promised then: a target that is tightened or
// loosened later changes nothing of the past.
func TestThePastIsJudgedByThePromiseOfTheTime(t *testing.T) {
	// Rises 0..100 s twice, sealed at 0, 100 and 200.
	curve := exposure.Sawtooth([]exposure.Arrival{arrival(0, 0), arrival(100, 100)}, at(0), at(200))
	for name, c := range map[string]struct {
		targets []exposure.Target
		over    time.Duration
	}{
		"never changed":                {always(80 * time.Second), 40 * time.Second},
		"tightened at the end":         {[]exposure.Target{{Since: at(0), Target: 120 * time.Second}, {Since: at(200), Target: time.Second}}, 0},
		"loosened at the end":          {[]exposure.Target{{Since: at(0), Target: 80 * time.Second}, {Since: at(200), Target: time.Hour}}, 40 * time.Second},
		"tightened between the rises":  {[]exposure.Target{{Since: at(0), Target: 120 * time.Second}, {Since: at(100), Target: 80 * time.Second}}, 20 * time.Second},
		"tightened within a rise":      {[]exposure.Target{{Since: at(0), Target: 120 * time.Second}, {Since: at(150), Target: 20 * time.Second}}, 50 * time.Second},
		"loosened within a rise":       {[]exposure.Target{{Since: at(0), Target: 20 * time.Second}, {Since: at(50), Target: 120 * time.Second}}, 30 * time.Second},
		"first known after the start":  {[]exposure.Target{{Since: at(100), Target: 80 * time.Second}}, 40 * time.Second},
		"nothing was promised":         {nil, 0},
		"twice within the second rise": {[]exposure.Target{{Since: at(0), Target: time.Hour}, {Since: at(120), Target: 10 * time.Second}, {Since: at(140), Target: time.Hour}}, 20 * time.Second},
	} {
		t.Run(name, func(t *testing.T) {
			require.Equal(t, c.over, exposure.Judge(curve, c.targets).Over)
		})
	}
	require.Equal(t, 80*time.Second, exposure.TargetAt(always(80*time.Second), at(-50)).Target)
	require.Zero(t, exposure.TargetAt(nil, at(0)))
}

// Time in which cycles were held on purpose counts apart, and what is of a tier is what it
// followed then.
func TestPausesAndTiers(t *testing.T) {
	curve := exposure.Sawtooth([]exposure.Arrival{arrival(0, 0), arrival(100, 100)}, at(0), at(200))
	sec := time.Second
	for name, c := range map[string]struct {
		targets                  []exposure.Target
		over, paused, pausedOver time.Duration
	}{
		"held for all of it":       {[]exposure.Target{{Since: at(0), Target: 80 * sec, Paused: true}}, 0, 200 * sec, 40 * sec},
		"held in the second rise":  {[]exposure.Target{{Since: at(0), Target: 80 * sec}, {Since: at(150), Target: 80 * sec, Paused: true}}, 20 * sec, 50 * sec, 20 * sec},
		"resumed":                  {[]exposure.Target{{Since: at(0), Target: 80 * sec, Paused: true}, {Since: at(90), Target: 80 * sec}}, 30 * sec, 90 * sec, 10 * sec},
		"until a time":             {[]exposure.Target{{Since: at(0), Target: 80 * sec, Paused: true, Until: at(90)}}, 30 * sec, 90 * sec, 10 * sec},
		"until a time that is far": {[]exposure.Target{{Since: at(0), Target: 80 * sec, Paused: true, Until: at(9000)}, {Since: at(100), Target: 80 * sec}}, 20 * sec, 100 * sec, 20 * sec},
	} {
		t.Run(name, func(t *testing.T) {
			k := exposure.Judge(curve, c.targets)
			require.Equal(t, []time.Duration{200 * sec, c.over, c.paused, c.pausedOver, 100 * sec}, []time.Duration{k.Covered, k.Over, k.Paused, k.PausedOver, k.Worst})
		})
	}
	by := exposure.JudgeByTier(curve, []exposure.Target{{Since: at(0), Target: 80 * sec, Tier: "Harbour-1"}, {Since: at(50), Target: 20 * sec}})
	require.Equal(t, []time.Duration{50 * sec, 0}, []time.Duration{by["Harbour-1"].Covered, by["Harbour-1"].Over})
	require.Equal(t, []time.Duration{150 * sec, 130 * sec}, []time.Duration{by[""].Covered, by[""].Over})
	require.InDelta(t, 0.5, exposure.Kept{Covered: 40, Paused: 20, Over: 10}.Share(), 1e-9)
	require.EqualValues(t, 1, exposure.Kept{Covered: 40, Paused: 40, PausedOver: 40}.Share())
}
