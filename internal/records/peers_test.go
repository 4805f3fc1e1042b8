package records_test

import (
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"kestrel/internal/records"
)

// What another site wants destroyed is noted with its line of the trail, once, and
// goes with its group.
func TestWishesOfOtherSites(t *testing.T) {
	db := open(t)
	a, b := group("Ticketing", "m1"), group("Timetable", "m2")
	for _, g := range []records.Group{a, b} {
		require.NoError(t, db.AddGroups(ctx, []records.Group{g}, []records.Activity{{}}))
	}
	before, err := db.Activity(ctx, records.Sought{Limit: 100})
	require.NoError(t, err)
	d := records.Deletion{GroupID: a.ID, AskedAt: now, AskedBy: "Norhaven", DueAt: now.Add(24 * time.Hour)}
	require.NoError(t, db.AddDeletion(ctx, d, line("wants it deleted", a.ID, 1)))
	later := d
	later.DueAt = now
	require.NoError(t, db.AddDeletion(ctx, later, line("wants it deleted", a.ID, 1)))
	ds, err := db.Deletions(ctx)
	require.NoError(t, err)
	require.Len(t, ds, 1)
	require.True(t, ds[0].DueAt.Equal(d.DueAt), "asking again hurries nothing")
	require.NoError(t, db.DropDeletion(ctx, b.ID, line("kept", b.ID, 1)))
	require.NoError(t, db.DropDeletion(ctx, a.ID, line("kept", a.ID, 1)))
	lines, err := db.Activity(ctx, records.Sought{Limit: 100})
	require.NoError(t, err)
	require.Len(t, lines, len(before)+2, "one line for each thing that happened")

	at := now.Add(123456 * time.Microsecond)
	for _, s := range []records.Shortening{{GroupID: a.ID, At: at, Before: "all 2d"}, {GroupID: b.ID, At: now, Before: "all 1d"}, {GroupID: b.ID, At: at, Before: "all 2h"}} {
		require.NoError(t, db.AddShortening(ctx, s))
	}
	require.NoError(t, db.DropShortening(ctx, records.Shortening{GroupID: b.ID, At: at}))
	ss, err := db.Shortenings(ctx)
	require.NoError(t, err)
	require.Len(t, ss, 2)
	require.Equal(t, "all 1d", ss[0].Before, "oldest first")
	require.True(t, ss[1].At.Equal(at))
	require.NoError(t, db.AddDeletion(ctx, d, line("wants it deleted", a.ID, 1)))
	require.NoError(t, db.DeleteGroup(ctx, a.ID, line("gone", a.ID, 1)))
	ds, err = db.Deletions(ctx)
	require.NoError(t, err)
	require.Empty(t, ds)
	ss, err = db.Shortenings(ctx)
	require.NoError(t, err)
	require.Len(t, ss, 1)
}
