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
			n, err := io.Copy(io.Discard, &paced{context.Background(), bytes.NewReader(make([]byte, each)), p, flow, 1, func(int) {}, func() {}})
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
	n, err := io.Copy(io.Discard, &paced{context.Background(), bytes.NewReader(make([]byte, each)), p, "a", 1, func(int) {}, func() {}})
	require.NoError(t, err)
	require.EqualValues(t, each, n)
}

// A flow has only so many messages on their way: one more waits until one has
// been read to its end, and gives up when it is told to.
func TestMessagesTakeTurnsAtSending(t *testing.T) {
	p := &Peer{pace: throttle{clk: clock.Wall{}}}
	f := p.Flow("a", 1)
	var ends []func()
	for range atOnce {
		sent, err := f.begin(t.Context())
		require.NoError(t, err)
		ends = append(ends, sent)
	}
	given, cancel := context.WithCancel(t.Context())
	cancel()
	_, err := f.begin(given)
	require.ErrorIs(t, err, context.Canceled)
	_, err = p.Flow("b", 1).begin(t.Context())
	require.NoError(t, err, "others are not held up")

	_, err = io.Copy(io.Discard, &paced{t.Context(), bytes.NewReader(make([]byte, 1<<20)), &p.pace, "a", 1, func(int) {}, ends[0]})
	require.NoError(t, err)
	ends[0]() // its request ends as well, which frees nothing more
	_, err = f.begin(t.Context())
	require.NoError(t, err)
	_, err = f.begin(given)
	require.ErrorIs(t, err, context.Canceled)
}
