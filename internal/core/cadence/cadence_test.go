package cadence_test

import (
	"testing"
	"time"

	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"kestrel/internal/core/cadence"
)

var anchor = time.Date(2026, 11, 23, 12, 0, 0, 0, time.UTC)

func TestNext(t *testing.T) {
	c := cadence.Cadence{Every: 5 * time.Minute}
	next := func(last, now time.Duration) time.Duration {
		got, ok := c.Next(anchor, anchor.Add(last), anchor.Add(now))
		require.True(t, ok)
		return got.Sub(anchor)
	}
	require.Equal(t, 5*time.Minute, next(0, time.Minute))
	require.Equal(t, 5*time.Minute, next(3*time.Second, time.Minute), "a late start does not shift the grid")
	require.Equal(t, 5*time.Minute, next(0, 17*time.Minute), "missed starts are made up once, at once")
	first, ok := c.Next(anchor, time.Time{}, anchor.Add(time.Hour))
	require.True(t, ok)
	require.Equal(t, anchor.Add(time.Hour), first, "the first cycle is due at once")
	_, ok = cadence.Cadence{}.Next(anchor, anchor, anchor)
	require.False(t, ok, "by hand, none is ever due")
	require.Nil(t, cadence.Cadence{}.Starts(anchor, anchor, 3))
}

func TestStartsLieOnTheGrid(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		c := cadence.Cadence{Every: time.Duration(rapid.Int64Range(1, 1e15).Draw(t, "every"))}
		from := anchor.Add(time.Duration(rapid.Int64Range(-1e17, 1e17).Draw(t, "from")))
		last := from
		for i, s := range c.Starts(anchor, from, 4) {
			require.True(t, s.After(last))
			require.Zero(t, s.Sub(anchor)%c.Every)
			require.LessOrEqual(t, s.Sub(last), c.Every, "start %d", i)
			last = s
		}
	})
}
