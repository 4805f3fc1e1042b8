package room_test

import (
	"testing"
	"time"

	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"kestrel/internal/core/room"
)

func TestFills(t *testing.T) {
	now := time.Date(2026, 11, 26, 9, 0, 0, 0, time.UTC)
	day := []room.Sample{{At: now.Add(-24 * time.Hour), Bytes: 100 << 30}, {At: now.Add(-time.Hour), Bytes: 109 << 30}}
	at, ok := room.Fills(day, 110<<30, 50<<30, now)
	require.True(t, ok)
	require.Equal(t, now.Add(5*24*time.Hour), at, "10 GiB a day, room for 50")
	_, ok = room.Fills(day, 100<<30, 50<<30, now)
	require.False(t, ok, "it does not grow")
	_, ok = room.Fills(day, 90<<30, 50<<30, now)
	require.False(t, ok, "it shrinks")
	_, ok = room.Fills([]room.Sample{{At: now.Add(-10 * time.Minute), Bytes: 1}}, 1<<30, 1<<40, now)
	require.False(t, ok, "ten minutes say nothing")
	_, ok = room.Fills(nil, 1, 1, now)
	require.False(t, ok)
	at, ok = room.Fills(day, 110<<30, -1, now)
	require.True(t, ok)
	require.Equal(t, now, at, "it is full")
	_, ok = room.Fills(day, 100<<30+1, 1<<60, now)
	require.False(t, ok, "not in our time")
}

// However samples come, they are of the last day, in order, and not too close.
func TestSamples(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		now := time.Unix(1_800_000_000, 0)
		var all []room.Sample
		for range rapid.IntRange(0, 400).Draw(t, "n") {
			now = now.Add(time.Duration(rapid.IntRange(0, 3600).Draw(t, "s")) * time.Second)
			all = room.Add(all, room.Sample{At: now})
			require.LessOrEqual(t, now.Sub(all[0].At), room.Span+room.Every)
			for i := 1; i < len(all); i++ {
				require.GreaterOrEqual(t, all[i].At.Sub(all[i-1].At), room.Every)
			}
			require.LessOrEqual(t, len(all), 146)
		}
	})
}
