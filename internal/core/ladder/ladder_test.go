package ladder_test

import (
	"fmt"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"kestrel/internal/core/ladder"
)

var now = time.Date(2026, 11, 23, 12, 30, 0, 0, time.UTC)

func usual(t require.TestingT) ladder.Ladder {
	l, err := ladder.Parse("all 6h, 1h 2d, 1d 14d")
	require.NoError(t, err)
	return l
}

func TestParseAndString(t *testing.T) {
	require.Equal(t, "all 6h, 1h 2d, 1d 2w", usual(t).String())
	for _, bad := range []string{"", "6h", "all", "all 6x", "1h -2d", "all 6h;1h 2d", "all 99999999d"} {
		_, err := ladder.Parse(bad)
		require.Error(t, err, bad)
	}
}

// A point every ten minutes for 20 days, judged every hour as the service does:
// what is left is what the rungs promise.
func TestLadderInTheSteadyState(t *testing.T) {
	l := usual(t)
	begin := now.Add(-20 * 24 * time.Hour)
	var kept []ladder.Point
	for at := begin; !at.After(now); at = at.Add(10 * time.Minute) {
		kept = append(kept, ladder.Point{ID: at.String(), Capture: at})
		if at.Minute() == 30 {
			var next []ladder.Point
			for _, v := range l.Judge(kept, at) {
				if v.Keep {
					next = append(next, v.Point)
				}
			}
			kept = next
		}
	}
	byRung := map[int]int{}
	for _, v := range l.Judge(kept, now) {
		require.True(t, v.Keep)
		byRung[v.Rung]++
	}
	want := l.Count(10 * time.Minute)
	for i, n := range want {
		require.InDelta(t, n, byRung[i], 1.01, "rung %d", i)
	}
	oldest := kept[len(kept)-1].Capture
	require.InDelta(t, (14 * 24 * time.Hour).Hours(), now.Sub(oldest).Hours(), 25)
}

// Whatever the points: the newest, pinned and used ones stay; judging twice
// changes nothing; and what is kept does not depend on when pruning ran before.
func TestVerdictsHold(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		l := usual(t)
		var ps []ladder.Point
		for i := range rapid.IntRange(1, 80).Draw(t, "n") {
			ps = append(ps, ladder.Point{ID: fmt.Sprint(i), Capture: now.Add(-time.Duration(rapid.Int64Range(0, int64(40*24*time.Hour)).Draw(t, "age"))),
				Pinned: rapid.Bool().Draw(t, "pinned"), InUse: rapid.Bool().Draw(t, "used")})
		}
		var kept []ladder.Point
		for i, v := range l.Judge(ps, now) {
			if i == 0 || v.Point.Pinned || v.Point.InUse {
				require.True(t, v.Keep, v.Why)
			}
			if v.Keep {
				kept = append(kept, v.Point)
			}
		}
		for _, v := range l.Judge(kept, now) {
			require.True(t, v.Keep)
		}
	})
}
