package records_test

import (
	"context"
	"errors"
	"fmt"
	"os"
	"slices"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/google/uuid"
	"github.com/stretchr/testify/require"

	"kestrel/internal/core/series"
	"kestrel/internal/core/span"
	"kestrel/internal/records"
	"kestrel/internal/support/pgcluster"
)

var (
	cluster *pgcluster.Cluster
	ctx     = context.Background()
	now     = time.Date(2026, 11, 25, 12, 0, 0, 0, time.UTC)
)

func TestMain(m *testing.M) {
	os.Exit(pgcluster.Main(m, "records", func(c *pgcluster.Cluster) { cluster = c }))
}

func newURL(t *testing.T) string {
	t.Helper()
	url, err := cluster.Database(ctx, "r"+strings.ReplaceAll(uuid.NewString(), "-", ""))
	require.NoError(t, err)
	return url
}

func open(t *testing.T) *records.DB {
	t.Helper()
	db, err := records.Open(ctx, newURL(t))
	require.NoError(t, err)
	t.Cleanup(func() { require.NoError(t, db.Close()) })
	return db
}

func group(name string, machines ...string) records.Group {
	return records.Group{ID: uuid.NewString(), Name: name, Direction: "out", HomeID: "11111111-1111-4111-8111-111111111111", HomeName: "Norhaven", RecoveryName: "Eastmole", Term: 1, Revision: 1, Settings: []byte(`{}`), Anchor: now, CreatedAt: now,
		Target: 300, Platform: "p", Machines: machines}
}

func line(text string, object string, revision int64) records.Activity {
	return records.Activity{At: now, Who: "anna", Actor: "person", Kind: "group", Subject: "x", Object: object, Revision: &revision, Text: text}
}

// Services that start at once on one database: one migrates it, all find it so.
func TestMigrationsTakeTurns(t *testing.T) {
	url := newURL(t)
	var wg sync.WaitGroup
	errs := make([]error, 4)
	for i := range errs {
		wg.Go(func() {
			db, err := records.Open(ctx, url)
			if err == nil {
				_, err = db.Site(ctx, "Norhaven", now)
				err = errors.Join(err, db.Close())
			}
			errs[i] = err
		})
	}
	wg.Wait()
	require.NoError(t, errors.Join(errs...))
}

// Of two edits made of one revision, one is written, with its line; the other
// changes nothing.
func TestSwapComparesTheRevision(t *testing.T) {
	db := open(t)
	g := group("Ticketing", "m1")
	require.NoError(t, db.AddGroups(ctx, []records.Group{g}, []records.Activity{line("made", g.ID, 1)}))
	var wg sync.WaitGroup
	errs := make([]error, 8)
	for i := range errs {
		wg.Go(func() {
			next := g
			next.Revision, next.Name = 2, fmt.Sprint("Edit ", i)
			errs[i] = db.SwapGroup(ctx, next, 1, line(next.Name, g.ID, 2))
		})
	}
	wg.Wait()
	won := -1
	for i, err := range errs {
		if err == nil {
			require.Equal(t, -1, won, "one only")
			won = i
		} else {
			require.ErrorIs(t, err, records.ErrStale)
		}
	}
	gs, err := db.Groups(ctx)
	require.NoError(t, err)
	require.Equal(t, fmt.Sprint("Edit ", won), gs[0].Name)
	edits, err := db.Edits(ctx, g.ID, 1)
	require.NoError(t, err)
	require.Len(t, edits, 1)
	require.Equal(t, gs[0].Name, edits[0].Text)
}

func TestNamesAndMachinesAreTakenOnce(t *testing.T) {
	db := open(t)
	one := group("Ticketing", "m1", "m2")
	require.NoError(t, db.AddGroups(ctx, []records.Group{one}, []records.Activity{line("made", one.ID, 1)}))
	err := db.AddGroups(ctx, []records.Group{group("TICKETING", "m9")}, []records.Activity{{}})
	require.True(t, records.Taken(err, records.GroupNameTaken), "%v", err)
	err = db.AddGroups(ctx, []records.Group{group("Second", "m2")}, []records.Activity{{}})
	require.True(t, records.Taken(err, records.MachineTaken), "%v", err)
	gs, err := db.Groups(ctx)
	require.NoError(t, err)
	require.Len(t, gs, 1, "what was refused left nothing")
	ended := one
	ended.Direction, ended.Revision = "ended", 2
	require.NoError(t, db.SwapGroup(ctx, ended, 1, line("ended", one.ID, 2)))
	require.NoError(t, db.AddGroups(ctx, []records.Group{group("Ticketing", "m1")}, []records.Activity{{}}), "an ended group holds neither")
}

func TestMirrorTakesWhatIsLater(t *testing.T) {
	db := open(t)
	g := group("Ticketing")
	g.Direction, g.Revision, g.Term = "in", 5, 2
	put := func(term, revision int64, name string) bool {
		x := g
		x.Term, x.Revision, x.Name = term, revision, name
		ok, err := db.MirrorGroup(ctx, x, now, records.Activity{})
		require.NoError(t, err)
		return ok
	}
	require.True(t, put(2, 5, "a"))
	require.False(t, put(2, 4, "b"))
	require.False(t, put(1, 99, "c"))
	require.True(t, put(2, 5, "d"), "the same again heals what differs")
	require.True(t, put(3, 1, "e"))
	gs, err := db.Groups(ctx)
	require.NoError(t, err)
	require.Equal(t, "e", gs[0].Name)
}

func TestTargetsAreKeptAsTheyWerePromised(t *testing.T) {
	db := open(t)
	g := group("Ticketing", "m1")
	require.NoError(t, db.AddGroups(ctx, []records.Group{g}, []records.Activity{{}}))
	for i, target := range []int64{300, 60, 60, 300} {
		g.Revision++
		g.Target = target
		a := line("edit", g.ID, g.Revision)
		a.At = now.Add(time.Duration(i+1) * time.Hour)
		require.NoError(t, db.SwapGroup(ctx, g, g.Revision-1, a))
	}
	ts, err := db.Targets(ctx, g.ID)
	require.NoError(t, err)
	var got []int64
	for _, x := range ts {
		got = append(got, x.Seconds)
	}
	require.Equal(t, []int64{300, 60, 300}, got, "a mark for each change, none where nothing changed")
	require.NoError(t, db.DeleteGroup(ctx, g.ID, line("deleted", g.ID, 9)))
	ts, err = db.Targets(ctx, g.ID)
	require.NoError(t, err)
	require.Empty(t, ts)
}

// An edit and a cycle of one group end at the same moment: neither undoes what the
// other wrote.
func TestEditsAndCyclesKeepEachOthersRecords(t *testing.T) {
	db := open(t)
	g := group("Ticketing", "m1")
	require.NoError(t, db.AddGroups(ctx, []records.Group{g}, []records.Activity{{}}))
	c := records.Cycle{ID: uuid.NewString(), GroupID: g.ID, Number: 1, State: "running", StartedAt: now, Detail: []byte(`{}`)}
	require.NoError(t, db.PutCycle(ctx, c))
	edited := g
	edited.Name, edited.Revision = "Tickets", 2
	c.State, c.EndedAt = "sealed", &now
	require.NoError(t, db.NoteStart(ctx, g.ID, now))
	require.NoError(t, db.SwapGroup(ctx, edited, 1, records.Activity{}))
	require.NoError(t, db.EndCycle(ctx, c, records.Replication{GroupID: g.ID, BaseCheckpoint: "kt-1", BasePoint: "point-1"}))
	require.NoError(t, db.NoteStart(ctx, g.ID, now.Add(time.Second)))
	gs, err := db.Groups(ctx)
	require.NoError(t, err)
	require.Equal(t, "Tickets", gs[0].Name)
	rs, err := db.Replications(ctx)
	require.NoError(t, err)
	require.Len(t, rs, 1)
	require.Equal(t, []string{"kt-1", "point-1"}, []string{rs[0].BaseCheckpoint, rs[0].BasePoint})
	require.WithinDuration(t, now.Add(time.Second), *rs[0].LastStart, 0)
	_, err = db.OpenCycle(ctx, g.ID)
	require.ErrorIs(t, err, records.ErrNotFound)
}

func TestCyclesAndArrivals(t *testing.T) {
	db := open(t)
	g := group("Ticketing", "m1")
	require.NoError(t, db.AddGroups(ctx, []records.Group{g}, []records.Activity{{}}))
	for n := int64(1); n <= 10; n++ {
		at := now.Add(time.Duration(n) * time.Minute)
		require.NoError(t, db.PutCycle(ctx, records.Cycle{ID: uuid.NewString(), GroupID: g.ID, Number: n, State: "sealed", StartedAt: at, EndedAt: &at, Detail: []byte(`{}`)}))
		require.NoError(t, db.AddArrival(ctx, g.ID, records.Arrival{CaptureAt: at, SealedAt: at.Add(time.Second)}))
		require.NoError(t, db.AddArrival(ctx, g.ID, records.Arrival{CaptureAt: at, SealedAt: at.Add(time.Second)}), "the same again counts once")
	}
	require.NoError(t, db.TrimCycles(ctx, g.ID, 10, 4))
	cs, err := db.Cycles(ctx, g.ID, 10, 2)
	require.NoError(t, err)
	require.Equal(t, []int64{9, 8}, []int64{cs[0].Number, cs[1].Number})
	all, err := db.NewestCycles(ctx, 100)
	require.NoError(t, err)
	require.Len(t, all, 4)
	as, err := db.Arrivals(ctx, g.ID, now.Add(5*time.Minute+30*time.Second), now.Add(8*time.Minute+30*time.Second))
	require.NoError(t, err)
	require.Len(t, as, 4, "three within, and the newest before")
	every, err := db.ArrivalsOf(ctx, []string{g.ID}, now.Add(5*time.Minute+30*time.Second), now.Add(8*time.Minute+30*time.Second))
	require.NoError(t, err)
	require.Len(t, every, 4)
	require.NoError(t, db.TrimArrivals(ctx, now.Add(9*time.Minute)))
	as, err = db.Arrivals(ctx, g.ID, now, now.Add(time.Hour))
	require.NoError(t, err)
	require.Len(t, as, 2)

	// They move to the partition of their month when there is one, and go with it.
	require.NoError(t, db.KeepPartitions(ctx, now))
	require.NoError(t, db.AddArrival(ctx, g.ID, records.Arrival{CaptureAt: now, SealedAt: now.Add(time.Second)}))
	require.NoError(t, db.AddArrival(ctx, g.ID, records.Arrival{CaptureAt: now.AddDate(-3, 0, 0), SealedAt: now.AddDate(-3, 0, 1)}), "of a time that has no partition")
	count := func(table string) (n int) {
		require.NoError(t, db.GetContext(ctx, &n, `SELECT count(*) FROM `+table))
		return n
	}
	require.Equal(t, 3, count("arrivals_"+now.Format("2006_01")))
	require.Equal(t, 1, count("arrivals_else"))
	as, err = db.Arrivals(ctx, g.ID, now, now.Add(time.Hour))
	require.NoError(t, err)
	require.Len(t, as, 4, "the newest before them is years old")
	require.NoError(t, db.KeepPartitions(ctx, now.AddDate(0, 0, 440)))
	require.NoError(t, db.TrimArrivals(ctx, now))
	require.Zero(t, count("arrivals"))
}

func TestPointsAreFilteredAndMirrored(t *testing.T) {
	db := open(t)
	g, other := group("Ticketing", "m1"), group("Second", "m2")
	for _, x := range []records.Group{g, other} {
		require.NoError(t, db.AddGroups(ctx, []records.Group{x}, []records.Activity{{}}))
	}
	put := func(group string, minute int, consistency string, held bool) records.Point {
		p := records.Point{ID: uuid.NewString(), GroupID: group, CaptureAt: now.Add(time.Duration(minute) * time.Minute), Held: held, Seal: []byte(fmt.Sprintf(`{"consistency":%q,"changedBytes":%d}`, consistency, 10*len(consistency)))}
		require.NoError(t, db.PutPoint(ctx, p))
		return p
	}
	one, two, three := put(g.ID, 1, "crash", false), put(g.ID, 2, "application", false), put(g.ID, 3, "crash", true)
	put(other.ID, 2, "crash", true)
	ids := func(f records.PointFilter) []string {
		ps, err := db.Points(ctx, f)
		require.NoError(t, err)
		out := []string{}
		for _, p := range ps {
			out = append(out, p.ID)
		}
		return out
	}
	mine := []string{g.ID}
	require.Equal(t, []string{three.ID, two.ID, one.ID}, ids(records.PointFilter{Groups: mine}))
	require.Equal(t, []string{two.ID}, ids(records.PointFilter{Groups: mine, Before: &three.CaptureAt, After: &one.CaptureAt}))
	require.Equal(t, []string{two.ID}, ids(records.PointFilter{Consistency: "application"}))
	require.Equal(t, []string{two.ID}, ids(records.PointFilter{Groups: mine, Limit: 1, Skip: 1}))
	require.Equal(t, []string{one.ID, two.ID, three.ID}, ids(records.PointFilter{Groups: mine, Up: true}))
	require.Equal(t, []string{two.ID, three.ID, one.ID}, ids(records.PointFilter{Groups: mine, Order: "changed"}), "the newest first among equals")
	n, err := db.CountPoints(t.Context(), records.PointFilter{Groups: mine, Limit: 1, Skip: 1})
	require.NoError(t, err)
	require.Equal(t, 3, n, "all of them, whatever stretch is asked for")
	require.Empty(t, ids(records.PointFilter{Groups: []string{}}))
	require.Len(t, ids(records.PointFilter{}), 4)
	two.Pinned, two.PinReason = true, "upgrade"
	require.NoError(t, db.MirrorPoints(ctx, g.ID, []string{two.ID}, []records.Point{two}))
	require.Equal(t, []string{three.ID, two.ID}, ids(records.PointFilter{Groups: mine}), "what the other site no longer has is gone, what is held here stays")
	got, err := db.Point(ctx, two.ID)
	require.NoError(t, err)
	require.Equal(t, "upgrade", got.PinReason)
	ts, err := db.GroupTotals(ctx, g.ID)
	require.NoError(t, err)
	require.Len(t, ts, 2)
}

// The lease of work passes on when it is over, and what its last holder writes
// under the old epoch is refused.
func TestLeasesAreFenced(t *testing.T) {
	db := open(t)
	o := records.Operation{ID: uuid.NewString(), Kind: "export", Subject: "x", State: "running", StartedAt: now, StartedBy: "anna", Input: []byte(`{}`), Progress: []byte(`{}`)}
	require.NoError(t, db.AddOperation(ctx, o))
	first, err := db.TakeOperation(ctx, o.ID, "a", now, now.Add(10*time.Second))
	require.NoError(t, err)
	_, err = db.TakeOperation(ctx, o.ID, "b", now.Add(5*time.Second), now.Add(15*time.Second))
	require.ErrorIs(t, err, records.ErrNotFound, "it is held")
	first.LeaseUntil = new(now.Add(20 * time.Second))
	stop, err := db.HoldOperation(ctx, first)
	require.NoError(t, err)
	require.False(t, stop)
	second, err := db.TakeOperation(ctx, o.ID, "b", now.Add(21*time.Second), now.Add(31*time.Second))
	require.NoError(t, err)
	require.Greater(t, second.Epoch, first.Epoch)
	_, err = db.HoldOperation(ctx, first)
	require.ErrorIs(t, err, records.ErrLost)
	first.State, first.EndedAt = "done", &now
	require.ErrorIs(t, db.EndOperation(ctx, first), records.ErrLost)
	require.NoError(t, db.StopOperation(ctx, o.ID))
	stop, err = db.HoldOperation(ctx, second)
	require.NoError(t, err)
	require.True(t, stop)
	second.State, second.EndedAt, second.Message = "stopped", &now, "Stopped."
	require.NoError(t, db.EndOperation(ctx, second))
	require.ErrorIs(t, db.StopOperation(ctx, o.ID), records.ErrNotFound)
	open, err := db.OpenOperations(ctx)
	require.NoError(t, err)
	require.Empty(t, open)
}

// A site's key never changes by pairing again, and a key is one site's.
func TestALinkKeepsItsKey(t *testing.T) {
	db := open(t)
	l := records.Link{ID: uuid.NewString(), PeerID: uuid.NewString(), PeerName: "Eastmole", Address: "a:1", PeerKey: []byte("key-1"), CreatedAt: now}
	require.NoError(t, db.PutLink(ctx, l))
	l.Address = "a:2"
	require.NoError(t, db.PutLink(ctx, l))
	forged := l
	forged.PeerKey, forged.Address = []byte("key-2"), "evil:1"
	require.ErrorIs(t, db.PutLink(ctx, forged), records.ErrStale)
	ls, err := db.Links(ctx)
	require.NoError(t, err)
	require.Equal(t, []string{"a:2", "key-1"}, []string{ls[0].Address, string(ls[0].PeerKey)})
	other := records.Link{ID: uuid.NewString(), PeerID: uuid.NewString(), PeerName: "Skarholt", Address: "b:1", PeerKey: []byte("key-1"), CreatedAt: now}
	require.True(t, records.Taken(db.PutLink(ctx, other), records.LinkKeyTaken))
	require.NoError(t, db.RekeyLink(ctx, forged))
}

func TestPeople(t *testing.T) {
	db := open(t)
	p := records.Person{ID: uuid.NewString(), Name: "Anna", PasswordHash: "x", Role: "administrator", Tags: records.Tags{}, CreatedAt: now}
	require.NoError(t, db.AddPerson(ctx, p))
	twin := p
	twin.ID, twin.Name = uuid.NewString(), "ANNA"
	var taken *records.TakenError
	require.ErrorAs(t, db.AddPerson(ctx, twin), &taken)
	ben := records.Person{ID: uuid.NewString(), Name: "ben", PasswordHash: "x", Role: "operator", Tags: records.Tags{`gold`, `a"b\c`, "ü"}, CreatedAt: now}
	require.NoError(t, db.AddPerson(ctx, ben))
	got, err := db.PersonByName(ctx, "BEN")
	require.NoError(t, err)
	require.Equal(t, ben.Tags, got.Tags)
	require.ErrorIs(t, db.DeletePerson(ctx, p.ID), records.ErrStale, "somebody may do everything")
	p.Role = "viewer"
	require.ErrorIs(t, db.ChangePerson(ctx, p), records.ErrStale)
	ben.Role, ben.Tags = "administrator", records.Tags{}
	require.NoError(t, db.ChangePerson(ctx, ben))
	require.NoError(t, db.ChangePerson(ctx, p))
	require.NoError(t, db.DeletePerson(ctx, p.ID))
	ps, err := db.People(ctx)
	require.NoError(t, err)
	require.Len(t, ps, 1)
}

// A database that was used by another site is not taken for ours, and one that holds
// a site adopts nothing.
func TestRecordsKeepTheirSite(t *testing.T) {
	db := open(t)
	a, err := db.Site(ctx, "Norhaven", now)
	require.NoError(t, err)
	b, err := db.Site(ctx, "Eastmole", now)
	require.NoError(t, err)
	require.Equal(t, a, b)
	require.ErrorIs(t, db.Adopt(ctx, records.Site{Name: "x"}, nil, nil), records.ErrNotEmpty)
	fresh := open(t)
	kept := group("Ticketing")
	require.NoError(t, fresh.Adopt(ctx, records.Site{Name: "Eastmole", CreatedAt: now}, []records.Group{kept}, []records.Berth{{Kind: "group", Subject: kept.ID, Revision: 1, Settings: []byte(`{}`)}}))
	gs, err := fresh.Groups(ctx)
	require.NoError(t, err)
	require.Len(t, gs, 1)
}

// A berth follows the one that was looked at, is of something that there is, and goes with
// it.
func TestBerths(t *testing.T) {
	db := open(t)
	p := records.Platform{ID: uuid.NewString(), Name: "mole", Kind: "lab", Address: "http://127.0.0.1:1", Username: "x", Password: []byte{}, Settings: []byte(`{}`), CreatedAt: now}
	require.NoError(t, db.AddPlatform(ctx, p))
	b := records.Berth{Kind: "platform", Subject: p.ID, Revision: 1, Settings: []byte(`{"suffix": "skerry.example"}`)}
	require.NoError(t, db.PutBerth(ctx, b))
	require.ErrorIs(t, db.PutBerth(ctx, b), records.ErrStale)
	b.Revision = 3
	require.ErrorIs(t, db.PutBerth(ctx, b), records.ErrStale)
	b.Revision = 2
	require.NoError(t, db.PutBerth(ctx, b))
	all, err := db.Berths(ctx)
	require.NoError(t, err)
	require.Equal(t, []records.Berth{b}, all)
	require.Error(t, db.PutBerth(ctx, records.Berth{Kind: "group", Subject: uuid.NewString(), Revision: 1, Settings: []byte(`{}`)}), "of nothing that there is")
	require.NoError(t, db.DeletePlatform(ctx, p.ID))
	all, err = db.Berths(ctx)
	require.NoError(t, err)
	require.Empty(t, all)
}

// Cycles are summed up by hours and by days, with the most of one; what is too old goes by
// partition.
func TestTallies(t *testing.T) {
	db := open(t)
	require.NoError(t, db.KeepPartitions(ctx, now))
	id := uuid.NewString()
	add := func(at time.Time, x records.Tally) {
		t.Helper()
		x.GroupID, x.At = id, at
		require.NoError(t, db.AddTally(ctx, x))
	}
	add(now, records.Tally{Sealed: 1, Changed: 10, Wire: 5, Took: 7, WaitedMost: 3})
	add(now.Add(59*time.Minute), records.Tally{Sealed: 1, Missed: 2, Changed: 30, Wire: 4, Took: 6})
	add(now.Add(time.Hour), records.Tally{Failed: 1})
	hours, err := db.Tallies(ctx, records.ByHour, now, now.Add(span.Day))
	require.NoError(t, err)
	require.Len(t, hours, 2)
	hours[0].At = hours[0].At.UTC()
	require.Equal(t, records.Tally{GroupID: id, Step: "hour", At: now, Sealed: 2, Missed: 2, Changed: 40, Wire: 9, Took: 13, ChangedMost: 30, WireMost: 5, TookMost: 7, WaitedMost: 3}, hours[0])
	days, err := db.Tallies(ctx, records.ByDay, now.Truncate(span.Day), now.Add(span.Day))
	require.NoError(t, err)
	require.Len(t, days, 1)
	require.Equal(t, []int{2, 1, 2}, []int{days[0].Sealed, days[0].Failed, days[0].Missed})

	count := func() (n int) {
		require.NoError(t, db.GetContext(ctx, &n, `SELECT count(*) FROM pg_class WHERE relkind = 'r' AND relname LIKE 'tallies_%'`))
		return n
	}
	require.Equal(t, 6, count())
	for month := range 20 {
		require.NoError(t, db.KeepPartitions(ctx, now.AddDate(0, month, 0)))
	}
	require.LessOrEqual(t, count(), 24, "months that are over for long are gone")
	days, err = db.Tallies(ctx, records.ByDay, now.Truncate(span.Day), now.Add(span.Day))
	require.NoError(t, err)
	require.Empty(t, days)
}

// What was promised is kept with the tier and the pause of the time, in the transaction of
// the edit; what changes neither adds nothing.
func TestPromisesOfTheTime(t *testing.T) {
	db := open(t)
	g := group("Ticketing")
	at := now
	edit := func(change func(g *records.Group)) {
		t.Helper()
		from := g.Revision
		change(&g)
		g.Revision++
		at = at.Add(time.Hour)
		l := line("an edit", g.ID, g.Revision)
		l.At = at
		require.NoError(t, db.SwapGroup(ctx, g, from, l))
	}
	require.NoError(t, db.AddGroups(ctx, []records.Group{g}, []records.Activity{line("made", g.ID, 1)}))
	edit(func(g *records.Group) { g.Name = "Tickets" })
	edit(func(g *records.Group) { g.Tier = "Harbour-1" })
	edit(func(g *records.Group) { g.Paused, g.PausedUntil = new("array swap"), new(at.Add(24*time.Hour)) })
	edit(func(g *records.Group) { g.Paused, g.PausedUntil = nil, nil })
	edit(func(g *records.Group) { g.Target = 60 })
	ts, err := db.Targets(ctx, g.ID)
	require.NoError(t, err)
	require.Len(t, ts, 5, "the name is no promise")
	require.Equal(t, []string{"", "Harbour-1", "Harbour-1", "Harbour-1", "Harbour-1"}, []string{ts[0].Tier, ts[1].Tier, ts[2].Tier, ts[3].Tier, ts[4].Tier})
	require.Equal(t, "array swap", *ts[2].Paused)
	require.Nil(t, ts[3].Paused)
	require.EqualValues(t, 60, ts[4].Seconds)
	all, err := db.AllTargets(ctx)
	require.NoError(t, err)
	require.Len(t, all, 5)
}

// The newest point before the first unusual change is the calm one, if it is there still.
func TestCalmPoints(t *testing.T) {
	db := open(t)
	seal := func(group string, number int, unusual string) records.Point {
		t.Helper()
		p := records.Point{ID: uuid.NewString(), GroupID: group, CaptureAt: now.Add(time.Duration(number) * time.Minute), Held: true, Seal: fmt.Appendf(nil, `{"number":%d,"unusual":%q}`, number, unusual)}
		require.NoError(t, db.PutPoint(ctx, p))
		return p
	}
	a, b, c := group("Ticketing"), group("Payroll"), group("Freight")
	for _, g := range []records.Group{a, b, c} {
		require.NoError(t, db.AddGroups(ctx, []records.Group{g}, []records.Activity{{}}))
	}
	for n, why := range []string{"", "", "much", "", "more", ""} {
		seal(a.ID, n+1, why)
	}
	seal(b.ID, 1, "much")
	seal(c.ID, 1, "")
	calms, err := db.Calms(ctx, []string{a.ID, b.ID, c.ID}, now)
	require.NoError(t, err)
	require.Len(t, calms, 2)
	for _, x := range calms {
		if x.GroupID == a.ID {
			require.EqualValues(t, 2, *x.Number)
			require.WithinDuration(t, now.Add(3*time.Minute), x.First, 0)
		} else {
			require.Nil(t, x.Number)
		}
	}
	calms, err = db.Calms(ctx, []string{a.ID}, now.Add(4*time.Minute))
	require.NoError(t, err)
	require.EqualValues(t, 4, *calms[0].Number, "what was long ago is not looked at")
}

// What is measured again and again is kept by steps of time, with its extremes; the finest go
// first, by partition.
func TestMeasures(t *testing.T) {
	db := open(t)
	require.NoError(t, db.KeepPartitions(ctx, now))
	group, other := uuid.NewString(), uuid.NewString()
	at := now.Truncate(span.Day).Add(13 * time.Hour)
	add := func(subject string, at time.Time, values ...float64) {
		t.Helper()
		var b series.Bucket
		for _, v := range values {
			b.Add(v)
		}
		require.NoError(t, db.AddMeasures(ctx, []records.Measure{{Subject: subject, What: "backlog", At: at, N: b.N, Sum: b.Sum, Least: b.Least, Most: b.Most}, {Subject: subject, What: "other", At: at.Add(time.Minute), N: 1, Sum: 1, Least: 1, Most: 1}}))
	}
	add(group, at, 3, 900)
	add(group, at.Add(10*time.Minute), 5)
	add(group, at.Add(20*time.Minute), 7)
	add(group, at.Add(5*time.Hour), 1)
	add(other, at, 1e12)
	want := map[string][]series.Bucket{
		"quarter": {{N: 3, Sum: 908, Least: 3, Most: 900}, {N: 1, Sum: 7, Least: 7, Most: 7}, {N: 1, Sum: 1, Least: 1, Most: 1}},
		"hour":    {{N: 4, Sum: 915, Least: 3, Most: 900}, {N: 1, Sum: 1, Least: 1, Most: 1}},
		"day":     {{N: 5, Sum: 916, Least: 1, Most: 900}},
	}
	read := func(step string, from time.Time) (out []series.Bucket) {
		ms, err := db.Measures(ctx, step, group, from, at.Add(span.Day))
		require.NoError(t, err)
		for _, m := range ms {
			if m.What == "backlog" {
				out = append(out, m.Bucket())
			}
		}
		return out
	}
	for _, s := range series.Steps() {
		require.Equal(t, want[s.Name], read(s.Name, at.Truncate(s.Long)), s.Name)
	}
	for day := range 40 {
		require.NoError(t, db.KeepPartitions(ctx, now.AddDate(0, 0, day)))
	}
	require.Empty(t, read("quarter", at.Truncate(time.Hour)), "quarters of an hour are gone after some days")
	require.Equal(t, want["hour"], read("hour", at.Truncate(time.Hour)))
	require.NoError(t, db.AddMeasures(ctx, nil))
}

// A day that is summed up stays as it is, with very many groups too, until it is forgotten.
func TestAttainedDays(t *testing.T) {
	db := open(t)
	day := now.Truncate(span.Day)
	var sums []records.Attained
	for range 4500 {
		sums = append(sums, records.Attained{At: day, GroupID: uuid.NewString(), Tier: "gold", Covered: span.Day, Over: time.Minute, Worst: time.Hour, WorstAt: day})
	}
	require.NoError(t, db.AddAttained(ctx, day, sums))
	require.NoError(t, db.AddAttained(ctx, day, sums[:1]), "again, and nothing comes of it")
	all, err := db.Attained(ctx, day, day.Add(time.Microsecond))
	require.NoError(t, err)
	require.Len(t, all, len(sums))
	all[0].At, all[0].WorstAt = all[0].At.UTC(), all[0].WorstAt.UTC()
	require.Contains(t, sums, all[0])
	days, err := db.AttainedDays(ctx, day, day)
	require.NoError(t, err)
	require.Empty(t, days)
	require.Error(t, db.AddAttained(ctx, day.Add(span.Day), append(sums[:1:1], sums[0])), "twice the same")
	days, err = db.AttainedDays(ctx, day, day.Add(2*span.Day))
	require.NoError(t, err)
	require.Len(t, days, 1, "nothing of a day whose sums are refused")
	require.NoError(t, db.TrimAttained(ctx, day.Add(time.Microsecond)))
	all, err = db.Attained(ctx, day, day.Add(time.Microsecond))
	require.NoError(t, err)
	require.Empty(t, all)
}

// A plan of reports is changed by who looked at it last, and what is sent for a time of its
// calendar is sent once.
func TestReportPlans(t *testing.T) {
	db := open(t)
	p := records.ReportPlan{ID: uuid.NewString(), Name: "board", Revision: 1, Body: []byte(`{}`), MadeAt: now}
	require.NoError(t, db.PutReportPlan(ctx, p))
	other := p
	other.ID, other.Name = uuid.NewString(), "Board"
	require.True(t, records.Taken(db.PutReportPlan(ctx, other), records.ReportPlanNameTaken))
	p.Revision, p.Name = 2, "committee"
	require.NoError(t, db.PutReportPlan(ctx, p))
	require.ErrorIs(t, db.PutReportPlan(ctx, p), records.ErrStale)
	c := records.Channel{ID: uuid.NewString(), Name: "on-call", Kind: "mail", Revision: 1, Body: []byte(`{}`)}
	require.NoError(t, db.PutChannel(ctx, c))
	message := func() []records.Message {
		return []records.Message{{ID: uuid.NewString(), ChannelID: c.ID, Event: "report", Body: []byte(`{}`), CreatedAt: now, NextAt: now}}
	}
	require.NoError(t, db.AddReport(ctx, p.ID, now, message()))
	require.NoError(t, db.AddReport(ctx, p.ID, now, message()), "again, as after a restart")
	require.NoError(t, db.AddReport(ctx, p.ID, now.Add(-time.Hour), message()), "an older one")
	_, waiting, err := db.LastMessages(ctx)
	require.NoError(t, err)
	require.Equal(t, 1, waiting[c.ID])
	all, err := db.ReportPlans(ctx)
	require.NoError(t, err)
	require.Len(t, all, 1)
	require.True(t, now.Equal(*all[0].SentFor))
	require.NoError(t, db.DeleteReportPlan(ctx, p.ID))
	all, err = db.ReportPlans(ctx)
	require.NoError(t, err)
	require.Empty(t, all)
}

// Several groups are written together, with their lines in order, or none of them.
func TestGroupsAreMadeTogether(t *testing.T) {
	db := open(t)
	var gs []records.Group
	var lines []records.Activity
	for i := range 3 {
		g := group(fmt.Sprintf("Quay %d", i), fmt.Sprintf("m%d", i))
		gs, lines = append(gs, g), append(lines, line("made", g.ID, 1))
	}
	before, err := db.TrailEnd(ctx)
	require.NoError(t, err)
	twice := slices.Clone(gs)
	twice[2].Machines = gs[0].Machines
	require.True(t, records.Taken(db.AddGroups(ctx, twice, lines), records.MachineTaken))
	twice = slices.Clone(gs)
	twice[2].Name = "QUAY 0"
	require.True(t, records.Taken(db.AddGroups(ctx, twice, lines), records.GroupNameTaken))
	all, err := db.Groups(ctx)
	require.NoError(t, err)
	require.Empty(t, all)
	end, err := db.TrailEnd(ctx)
	require.NoError(t, err)
	require.Equal(t, before, end)

	require.NoError(t, db.AddGroups(ctx, gs, lines))
	trail, err := db.Trail(ctx, before.Number, 10)
	require.NoError(t, err)
	require.Len(t, trail, 3)
	for i, a := range trail {
		require.Equal(t, before.Number+1+int64(i), *a.Number)
		require.Equal(t, gs[i].ID, a.Object)
	}
}
