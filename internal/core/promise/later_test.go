package promise_test

import (
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"kestrel/internal/core/change"
	"kestrel/internal/core/ladder"
	"kestrel/internal/core/promise"
	"kestrel/internal/core/span"
)

// What is foreseen is what a ladder leaves that prunes hour by hour while cycles run.
func TestForeseenPointsAreThoseThatComeToBe(t *testing.T) {
	for text, most := range map[string]time.Duration{"all 6h, 1h 2d, 1d 14d": 30 * span.Day, "1h 3d, 1d 2w": 30 * span.Day, "6h 2d, 1w 9w, monthly for 1y": span.Year} {
		p := good()
		p.Cadence.Every = 10 * time.Minute
		var err error
		p.Keep, err = ladder.Parse(text)
		require.NoError(t, err)
		have := []ladder.Point{{ID: "old", Capture: now.Add(-30 * time.Hour), Pinned: true}, {ID: "yesterday", Capture: now.Add(-20 * time.Hour)}}
		foreseen := p.Foresee(now, now, have, promise.Load{UsedBytes: 1 << 30, Change: change.Steady(1000)})
		require.Len(t, foreseen, 4)
		kept, next := have, now
		for _, l := range foreseen {
			if l.After > most {
				continue
			}
			then := now.Add(l.After)
			for ; next.Before(then); next = next.Add(10 * time.Minute) {
				kept = append(kept, ladder.Point{Capture: next})
				if next.Minute() == 0 {
					kept = judged(p, kept, next)
				}
			}
			kept = judged(p, kept, then)
			require.InDelta(t, len(kept), len(l.Points), 1.5+0.02*float64(len(kept)), "%s after %s", text, l.After)
			oldest := kept[0].Capture
			for _, x := range kept {
				if x.Capture.Before(oldest) {
					oldest = x.Capture
				}
			}
			require.InDelta(t, then.Sub(oldest).Hours(), then.Sub(l.Points[0].Capture).Hours(), 1+0.15*then.Sub(oldest).Hours(), "%s after %s", text, l.After)
			require.Greater(t, l.SpaceBytes, int64(1<<30))
			require.Contains(t, l.Points, have[0], "what is pinned is in the same picture")
		}
	}
	p := good()
	p.Cadence.Every = 0
	require.Nil(t, p.Foresee(now, now, nil, promise.Load{}), "by hand nothing is foreseen")
}

var now = time.Date(2026, 11, 26, 3, 0, 0, 0, time.UTC)

func judged(p promise.Promise, ps []ladder.Point, at time.Time) (out []ladder.Point) {
	for _, v := range p.Keeping().Judge(ps, at) {
		if v.Keep {
			out = append(out, v.Point)
		}
	}
	return out
}
