package clock_test

import (
	"context"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"kestrel/internal/clock"
)

var noon = time.Date(2026, 11, 23, 12, 0, 0, 0, time.UTC)

func TestSleepEndsWithItsContext(t *testing.T) {
	ctx, cancel := context.WithCancel(context.Background())
	require.NoError(t, clock.Sleep(ctx, clock.Wall{}, time.Millisecond))
	require.NoError(t, clock.Sleep(ctx, clock.Wall{}, 0))
	cancel()
	require.ErrorIs(t, clock.Sleep(ctx, clock.Wall{}, time.Hour), context.Canceled)
}

// A wait that began while the clock was slow ends when the fast clock comes to
// its instant, not when the slow one would have.
func TestFastHonoursAChangeOfSpeed(t *testing.T) {
	f := clock.NewFast(noon, 1)
	w := f.After(time.Hour)
	f.SetSpeed(360_000)
	select {
	case at := <-w:
		require.WithinDuration(t, noon.Add(time.Hour), at, time.Second)
	case <-time.After(10 * time.Second):
		t.Fatal("it waits at the old speed")
	}
	require.False(t, f.Now().Before(noon.Add(time.Hour)))
}
