package mover_test

import (
	"context"
	"testing"
	"testing/synctest"
	"time"

	"github.com/stretchr/testify/require"

	"kestrel/internal/core/cadence"
	"kestrel/internal/core/span"
	"kestrel/internal/cycle"
	"kestrel/internal/records"
	"kestrel/internal/support/rooms"
)

// What is not as usual is said of the point and in the trail, and does not become the usual;
// after a restart it is known what is.
func TestAnUnusualChange(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		r := newRig(t)
		defer func() { r.stop() }()
		spec := rooms.Spec("Ticketing")
		spec.Promise.Cadence = cadence.Cadence{Every: time.Minute}
		g := r.create(spec)
		finds := func(mib, wire int64) {
			r.set(func(_ context.Context, _ cycle.Job, report func(cycle.Progress)) error {
				report(cycle.Progress{Kind: cycle.KindChanges, Phase: "seal", CaptureAt: time.Now().UTC(), UsedBytes: 1 << 30, ChangedBytes: mib << 20, ShippedBytes: mib << 20, WireBytes: wire << 20})
				return nil
			})
		}
		newest := func() cycle.Account {
			as, err := r.m.Accounts(t.Context(), g.ID, 0, 1)
			require.NoError(t, err)
			return as[0]
		}
		after(70 * time.Second) // the first copy
		finds(5, 2)
		after(20 * time.Minute)
		finds(200, 200)
		after(time.Minute)
		require.Empty(t, newest().Unusual, "what happens once a day was not seen yet")
		finds(5, 2)
		after(20 * time.Minute)

		r.stop()
		r.peaks = []records.Peak{{GroupID: g.ID, Hour: time.Now().UTC().Hour(), Since: time.Now().Add(-2 * span.Day), Changed: 6 << 20}}
		r.start()
		after(2 * time.Minute)
		require.Empty(t, newest().Unusual)
		finds(200, 200)
		after(time.Minute)
		require.Contains(t, newest().Unusual, "200 MiB that changed cannot be compressed, where 40 % was left of it before")
		require.Equal(t, 1, r.lines("unusual change in point"))
		after(time.Minute)
		require.NotEmpty(t, newest().Unusual, "what was unusual is not the usual now")
		finds(5, 2)
		after(time.Minute)
		require.Empty(t, newest().Unusual)
	})
}
