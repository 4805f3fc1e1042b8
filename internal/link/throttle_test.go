package link

import (
	"bytes"
	"context"
	"io"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"kestrel/internal/clock"
	"kestrel/internal/core/pace"
)

// Nothing goes faster than the limit, whoever sends and however many, and who
// gives up frees its turn.
func TestNothingGoesFasterThanTheLimit(t *testing.T) {
	clk := clock.NewFast(time.Date(2026, 11, 23, 9, 0, 0, 0, time.UTC), 20)
	p := &throttle{clk: clk}
	const rate = 1 << 20
	p.set(pace.Plan{Rate: rate})
	began := clk.Now()
	var wg sync.WaitGroup
	const each = 2 << 20
	for _, flow := range []string{"a", "a", "b"} {
		wg.Go(func() {
			n, err := io.Copy(io.Discard, &paced{context.Background(), bytes.NewReader(make([]byte, each)), p, flow, 1, func(int) {}})
			require.NoError(t, err)
			require.EqualValues(t, each, n)
		})
	}
	given, cancel := context.WithCancel(context.Background())
	cancel()
	require.ErrorIs(t, p.wait(given, "c", 1, 1<<30), context.Canceled)
	wg.Wait()
	took := clk.Now().Sub(began)
	require.GreaterOrEqual(t, took, 3*each*time.Second/rate-200*time.Millisecond)

	// Without a limit nobody waits.
	p.set(pace.Plan{})
	n, err := io.Copy(io.Discard, &paced{context.Background(), bytes.NewReader(make([]byte, each)), p, "a", 1, func(int) {}})
	require.NoError(t, err)
	require.EqualValues(t, each, n)
}
