package records_test

import (
	"fmt"
	"sync"
	"testing"
	"time"

	"github.com/google/uuid"
	"github.com/stretchr/testify/require"

	"kestrel/internal/core/chain"
	"kestrel/internal/records"
)

// verified goes through a trail as it is in the database.
func verified(t *testing.T, db *records.DB) []string {
	t.Helper()
	end, err := db.TrailEnd(ctx)
	require.NoError(t, err)
	lines, err := db.Trail(ctx, 0, 1_000_000)
	require.NoError(t, err)
	v := chain.New(nil)
	for _, l := range lines {
		v.Add(l.Chained(*l.Number))
	}
	v.End(end.Number, end.Hash)
	return v.Faults
}

// Lines that are written at once, alone and with what they tell of, follow from one
// another without a gap; one whose change failed is not there.
func TestLinesFollowFromOneAnother(t *testing.T) {
	db := open(t)
	var wg sync.WaitGroup
	for w := range 8 {
		wg.Go(func() {
			for i := range 20 {
				a := line(fmt.Sprint("line ", w, " ", i), "g", int64(i))
				a.Changes = []byte(`[{"to": "b", "field": "tags", "from": "a"}]`)
				a.At = time.Now() // finer than the database keeps it
				if i%3 == 0 {
					g := group(fmt.Sprint("group ", w, " ", i))
					if err := db.AddGroups(ctx, []records.Group{g}, []records.Activity{a}); err != nil {
						t.Error(err)
					}
					if err := db.SwapGroup(ctx, g, 99, a); err == nil {
						t.Error("it was stale")
					}
					continue
				}
				if err := db.AddActivity(ctx, a); err != nil {
					t.Error(err)
				}
			}
		})
	}
	wg.Wait()
	require.Empty(t, verified(t, db))
	end, err := db.TrailEnd(ctx)
	require.NoError(t, err)
	require.EqualValues(t, 8*20, end.Number)
	old, err := db.Unchained(ctx)
	require.NoError(t, err)
	require.Zero(t, old)
}

// The service's own role cannot change the trail by mistake, and whoever can all the
// same is found out.
func TestWhatIsDoneToTheTrailShows(t *testing.T) {
	for name, q := range map[string]string{
		"a changed line":     `UPDATE activity SET text = 'nothing happened' WHERE number = 3`,
		"another instant":    `UPDATE activity SET at = at + interval '1 second' WHERE number = 2`,
		"changed changes":    `UPDATE activity SET changes = '[{"from":"x"}]' WHERE number = 1`,
		"a line gone":        `DELETE FROM activity WHERE number = 3`,
		"the last line gone": `DELETE FROM activity WHERE number = 5`,
		"all gone":           `TRUNCATE activity`,
	} {
		t.Run(name, func(t *testing.T) {
			db := open(t)
			for i := range 5 {
				require.NoError(t, db.AddActivity(ctx, line(fmt.Sprint("line ", i), "g", 1)))
			}
			_, err := db.ExecContext(ctx, q)
			require.ErrorContains(t, err, "only added to")
			require.Empty(t, verified(t, db))
			_, err = db.ExecContext(ctx, `ALTER TABLE activity DISABLE TRIGGER USER`)
			require.NoError(t, err)
			_, err = db.ExecContext(ctx, q)
			require.NoError(t, err)
			require.NotEmpty(t, verified(t, db))
		})
	}
}

// Heads are kept as they were first told, newest first, and not without end.
func TestHeadsOfTrails(t *testing.T) {
	db := open(t)
	site, other := uuid.NewString(), uuid.NewString()
	head := func(site string, n int64, hash string) records.TrailHead {
		return records.TrailHead{Site: site, Number: n, Hash: []byte(hash), At: now, Signature: []byte("s")}
	}
	require.NoError(t, db.AddTrailHead(ctx, head(site, 1, "a")))
	require.NoError(t, db.AddTrailHead(ctx, head(site, 1, "b")))
	require.NoError(t, db.AddTrailHead(ctx, head(site, 7, "c")))
	require.NoError(t, db.AddTrailHead(ctx, head(other, 5, "d")))
	hs, err := db.TrailHeads(ctx, site)
	require.NoError(t, err)
	require.Len(t, hs, 2)
	require.EqualValues(t, 7, hs[0].Number)
	require.Equal(t, "a", string(hs[1].Hash))
	_, err = db.ExecContext(ctx, `INSERT INTO trail_heads (site, number, hash, at, signature) SELECT $1, n, 'x', now(), 's' FROM generate_series(100, 1500) n`, site)
	require.NoError(t, err)
	require.NoError(t, db.AddTrailHead(ctx, head(site, 2000, "z")))
	hs, err = db.TrailHeads(ctx, site)
	require.NoError(t, err)
	require.Len(t, hs, 1200)
	require.EqualValues(t, 2000, hs[0].Number)
}

// What is written with a line of the trail is there with it or not at all, and one line
// tells of one write.
func TestNoChangeWithoutItsLine(t *testing.T) {
	db := open(t)
	lines := func() int {
		xs, err := db.Activity(ctx, records.Sought{Limit: 100, Text: "tells"})
		require.NoError(t, err)
		return len(xs)
	}
	p := records.Person{ID: uuid.NewString(), Name: "anna", Role: "administrator", CreatedAt: time.Now()}
	within, told := records.Telling(ctx, line("it tells of anna", p.ID, 0))
	require.NoError(t, db.AddPerson(within, p))
	require.True(t, told())
	require.Equal(t, 1, lines())
	require.NoError(t, db.AddSecret(within, records.Secret{ID: uuid.NewString(), Kind: "session", Hash: []byte("h"), Person: &p.ID, CreatedAt: time.Now()}))
	require.Equal(t, 1, lines(), "it was told of already")

	within, told = records.Telling(ctx, line("it tells of another anna", p.ID, 0))
	require.Error(t, db.AddPerson(within, records.Person{ID: uuid.NewString(), Name: "Anna", Role: "viewer", CreatedAt: time.Now()}))
	require.False(t, told())
	require.ErrorIs(t, db.DeletePerson(within, p.ID), records.ErrStale, "the last administrator")
	require.ErrorIs(t, db.DeleteSecret(within, "token", uuid.NewString()), records.ErrNotFound)
	require.Equal(t, 1, lines(), "what did not happen is not told of")

	// A line that cannot be written takes its change with it.
	within, told = records.Telling(ctx, records.Activity{Changes: []byte("no JSON"), Text: "it tells"})
	require.Error(t, db.AddPerson(within, records.Person{ID: uuid.NewString(), Name: "olaf", Role: "viewer", CreatedAt: time.Now()}))
	require.False(t, told())
	_, err := db.PersonByName(ctx, "olaf")
	require.ErrorIs(t, err, records.ErrNotFound)
	require.Empty(t, verified(t, db))
}

// The trail is searched by what it is about, by whom and by when; what is typed is no
// pattern.
func TestSearchingTheTrail(t *testing.T) {
	db := open(t)
	at := time.Date(2026, 11, 25, 14, 0, 0, 0, time.UTC)
	for i, a := range []records.Activity{
		{Who: "anna", Actor: "person", Kind: "group", Subject: "Ticketing", Text: "anna paused Ticketing"},
		{Who: "Anna (token backup)", Actor: "token", Kind: "token", Text: "made a token, 100% sure"},
		{Who: "Eastmole: olaf", Actor: "site", Kind: "link", Text: "100 links"},
		{Who: "annabelle", Actor: "person", Kind: "person", Text: "under_score"},
	} {
		a.At = at.Add(time.Duration(i) * time.Hour)
		require.NoError(t, db.AddActivity(ctx, a))
	}
	for name, c := range map[string]struct {
		f    records.Sought
		want []string
	}{
		"all":           {records.Sought{}, []string{"annabelle", "Eastmole: olaf", "Anna (token backup)", "anna"}},
		"the newest":    {records.Sought{Limit: 1}, []string{"annabelle"}},
		"words":         {records.Sought{Text: "ticketing"}, []string{"anna"}},
		"no pattern":    {records.Sought{Text: "100%"}, []string{"Anna (token backup)"}},
		"nor this":      {records.Sought{Text: "r_s"}, []string{"annabelle"}},
		"a kind":        {records.Sought{Kind: "link"}, []string{"Eastmole: olaf"}},
		"by somebody":   {records.Sought{By: "ANNA"}, []string{"annabelle", "Anna (token backup)", "anna"}},
		"with tokens":   {records.Sought{By: "anna ("}, []string{"Anna (token backup)"}},
		"by sites":      {records.Sought{By: "site"}, []string{"Eastmole: olaf"}},
		"since":         {records.Sought{Since: at.Add(2 * time.Hour)}, []string{"annabelle", "Eastmole: olaf"}},
		"until":         {records.Sought{Until: at.Add(time.Hour)}, []string{"anna"}},
		"all together":  {records.Sought{By: "anna", Since: at, Until: at.Add(3 * time.Hour), Kind: "group", Text: "paused", Limit: 9}, []string{"anna"}},
		"and not these": {records.Sought{By: "%"}, nil},
	} {
		lines, err := db.Activity(ctx, c.f)
		require.NoError(t, err, name)
		var who []string
		for _, l := range lines {
			who = append(who, l.Who)
		}
		require.Equal(t, c.want, who, name)
	}
}
