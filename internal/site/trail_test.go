package site_test

import (
	"net/http"
	"strings"
	"testing"

	"github.com/google/uuid"
	"github.com/stretchr/testify/require"

	"kestrel/internal/api"
	"kestrel/internal/clock"
	"kestrel/internal/records"
)

// What is done to the trail in the database shows, even if all of it is written anew:
// the other site knows what was signed.
func TestATrailThatWasWrittenAnew(t *testing.T) {
	url, err := cluster.Database(ctx, "t"+strings.ReplaceAll(uuid.NewString(), "-", ""))
	require.NoError(t, err)
	home, stop := startOn(t, "Norhaven", clock.Wall{}, url, t.TempDir())
	defer func() { stop() }()
	recovery := start(t, "Eastmole", clock.Wall{})
	pair(t, home, recovery, "db")
	c := console(t, home).as(join(t, home, "anna", "administrator"))
	require.NoError(t, home.Notary.Sign(ctx))
	for _, l := range home.Peering.All() {
		home.Peering.Beat(ctx, l.ID)
	}
	verify := func() (v api.TrailVerdict) {
		status, _, _ := c.ask(http.MethodGet, "/activity/verification", nil, &v)
		require.Equal(t, http.StatusOK, status)
		return v
	}
	v := verify()
	require.True(t, v.Ok, "%v", v.Faults)
	require.Positive(t, v.Lines)
	require.Positive(t, v.SignedHeads)
	require.Len(t, v.Witnesses, 1)
	require.Positive(t, v.Witnesses[0].Heads, "Eastmole was told")
	require.Nil(t, v.Witnesses[0].Error)

	// Somebody with the database in their hands takes out what they did, and makes the
	// rest fit again.
	db, err := records.Open(ctx, url)
	require.NoError(t, err)
	defer func() { require.NoError(t, db.Close()) }()
	lines, err := db.Trail(ctx, 0, 10_000)
	require.NoError(t, err)
	for _, q := range []string{`ALTER TABLE activity DISABLE TRIGGER USER`, `TRUNCATE activity`, `DELETE FROM trail_heads`, `UPDATE trail_end SET number = 0, hash = NULL`, `ALTER TABLE activity ENABLE TRIGGER USER`} {
		_, err := db.ExecContext(ctx, q)
		require.NoError(t, err)
	}
	for _, l := range lines[1:] {
		require.NoError(t, db.AddActivity(ctx, l))
	}
	v = verify()
	require.False(t, v.Ok)
	require.Contains(t, strings.Join(v.Faults, " "), "Eastmole holds")
}
