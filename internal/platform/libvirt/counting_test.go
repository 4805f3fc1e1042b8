package libvirt_test

import (
	"context"
	"fmt"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"kestrel/internal/platform"
	"kestrel/internal/platform/libvirt"
	"kestrel/internal/platform/platformtest"
	"kestrel/internal/support/realsite"
)

// Changes are counted all the time while captures begin and end and checkpoints
// go: neither hypervisor nor guests suffer by it.
func TestChangesAreCountedBesideCaptures(t *testing.T) {
	t.Parallel()
	need(t)
	ctx := within(t, 8*time.Minute)
	machines := []string{
		deckhand(t, ctx, realsite.Guest{Name: "tally-1", Address: "10.77.2.41", Segment: "230.77.0.1:7499"}),
		deckhand(t, ctx, realsite.Guest{Name: "tally-2", Address: "10.77.2.42", Segment: "230.77.0.1:7499"}),
	}
	d := newDriver(t, libvirt.Settings{})
	var newest atomic.Value
	var counted atomic.Int64
	var wg sync.WaitGroup
	counting, stop := context.WithCancel(ctx)
	for range 2 {
		wg.Go(func() {
			for counting.Err() == nil {
				name, _ := newest.Load().(string)
				if n, err := d.Changed(counting, name); err == nil && len(n) == len(machines) {
					counted.Add(1)
				}
			}
		})
	}
	base := ""
	for n := range 12 {
		name := fmt.Sprintf("kt-5c88eca7-00000000-0000-0000-0000-%012d", n)
		c, err := d.Capture(ctx, platform.CaptureRequest{Name: name, Machines: machines, Base: base})
		require.NoError(t, err, "capture %d", n)
		require.NotEmpty(t, platformtest.Content(ctx, t, c.Disks[1]))
		newest.Store(name)
		require.NoError(t, d.Release(ctx, name))
		if base != "" {
			require.NoError(t, d.Forget(ctx, base)) // which is being counted
		}
		base = name
		for _, guest := range []string{"tally-1", "tally-2"} {
			require.EqualValues(t, 1, state(t, guest), "capture %d: %s runs", n, guest)
		}
	}
	require.NoError(t, pair.Home.Writes(ctx, "tally-1", "tally-2"))
	stop()
	wg.Wait()
	require.Positive(t, counted.Load())
	require.NoError(t, d.Forget(ctx, base))
}
