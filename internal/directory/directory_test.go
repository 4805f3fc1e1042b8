package directory_test

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"log/slog"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/google/uuid"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"kestrel/internal/audit"
	"kestrel/internal/clock"
	"kestrel/internal/core/actor"
	"kestrel/internal/core/cadence"
	"kestrel/internal/core/group"
	"kestrel/internal/core/ladder"
	"kestrel/internal/core/promise"
	"kestrel/internal/core/scope"
	"kestrel/internal/directory"
	"kestrel/internal/events"
	"kestrel/internal/problem"
	"kestrel/internal/records"
	"kestrel/internal/support/memory"
)

var (
	anna = actor.Actor{Kind: actor.Person, Name: "anna", Role: actor.Administrator, From: "192.0.2.7"}
	ben  = actor.Actor{Kind: actor.Person, Name: "ben", Role: actor.Administrator}
	ctx  = context.Background()
)

const (
	homeSite  = "11111111-1111-4111-8111-111111111111"
	otherSite = "22222222-2222-4222-8222-222222222222"
)

func open(t require.TestingT, db *memory.DB) *directory.Directory {
	hub := events.NewHub()
	d, err := directory.Open(ctx, db, audit.New(db, clock.Wall{}, hub, slog.New(slog.DiscardHandler)), clock.Wall{}, hub)
	require.NoError(t, err)
	return d
}

func spec(name string, machines ...string) group.Spec {
	s := group.Spec{Name: name, Platform: "p", Priority: group.Normal, NewDisks: group.CopyNew, Destinations: []group.Destination{{SiteID: otherSite, Site: "Eastmole"}},
		Promise: promise.Promise{Target: 5 * time.Minute, Cadence: cadence.Cadence{Every: time.Minute}, Keep: ladder.Ladder{{For: time.Hour}}}}
	for _, m := range machines {
		s.Machines = append(s.Machines, group.Machine{ID: m, Name: m, Disks: []group.Disk{{Key: "d", Label: "disk 1", SizeBytes: 1 << 30}}})
	}
	return s
}

func record(name string, machines ...string) directory.Record {
	return directory.Record{ID: uuid.NewString(), Link: "l", HomeID: homeSite, HomeName: "Norhaven", RecoveryName: "Eastmole", Spec: spec(name, machines...)}
}

func text(next directory.Record, cs []group.Change) string { return "changed: " + group.Words(cs) }

func fieldOf(t *testing.T, err error) string {
	t.Helper()
	p, ok := problem.Of(err)
	require.True(t, ok, "%v", err)
	require.NotEmpty(t, p.Errors, "%v", err)
	return p.Errors[0].Field
}

// Of pairs of edits that are made at the same moment none is lost: both hold, or the
// one that came second is told what the first did.
func TestNoEditIsLost(t *testing.T) {
	for round := range 24 {
		db := memory.New()
		// Two directories on one database, as two processes would be.
		a := open(t, db)
		r, err := a.Create(ctx, anna, record("Ticketing", "m1"))
		require.NoError(t, err)
		b := open(t, db)
		clash := round%3 == 0
		patches := []group.Patch{{Cadence: &cadence.Cadence{Every: 30 * time.Second}}, {Priority: new(group.High)}}
		if clash {
			patches = []group.Patch{{Cadence: &cadence.Cadence{Every: 30 * time.Second}}, {Cadence: &cadence.Cadence{Every: 20 * time.Second}}}
		}
		var wg sync.WaitGroup
		errs := make([]error, 2)
		for i, d := range []*directory.Directory{a, b} {
			wg.Go(func() { _, _, errs[i] = d.Update(ctx, []actor.Actor{anna, ben}[i], r.ID, patches[i], nil, text) })
		}
		wg.Wait()
		is, _ := open(t, db).Get(r.ID)
		if !clash {
			require.NoError(t, errors.Join(errs...))
			require.Equal(t, 30*time.Second, is.Spec.Promise.Cadence.Every)
			require.Equal(t, group.High, is.Spec.Priority)
			require.Equal(t, int64(3), is.Revision)
			continue
		}
		// One was first. The other either came after it, and knew it, or was refused.
		if errs[0] == nil && errs[1] == nil {
			require.Equal(t, int64(3), is.Revision)
			continue
		}
		p, ok := problem.Of(errors.Join(errs...))
		require.True(t, ok)
		require.Equal(t, 409, p.Status)
		require.Contains(t, p.Detail, "cadence: every 1 min → every ")
		require.Equal(t, int64(2), is.Revision)
	}
}

// Others come between the look and the write: what they did stays.
func TestAnEditThatIsOvertakenIsMadeAnew(t *testing.T) {
	db := memory.New()
	d := open(t, db)
	r, err := d.Create(ctx, anna, record("Ticketing", "m1"))
	require.NoError(t, err)
	other := open(t, db)
	once := sync.OnceFunc(func() {
		db.Before = nil
		_, _, err := other.Update(ctx, ben, r.ID, group.Patch{Tags: &[]string{"gold"}}, nil, text)
		require.NoError(t, err)
	})
	db.Before = func(method string) error { once(); return nil }
	next, changes, err := d.Update(ctx, anna, r.ID, group.Patch{HomePoints: new(true)}, nil, text)
	require.NoError(t, err)
	require.Equal(t, []group.Change{{Field: "homePoints", From: "no", To: "yes"}}, changes, "what anna did, and not what ben did")
	require.Equal(t, []string{"gold"}, next.Spec.Tags)
	require.Equal(t, int64(3), next.Revision)
}

func TestAStaleFormIsToldWhatWasDone(t *testing.T) {
	db := memory.New()
	d := open(t, db)
	r, err := d.Create(ctx, anna, record("Ticketing", "m1"))
	require.NoError(t, err)
	_, _, err = d.Update(ctx, ben, r.ID, group.Patch{Cadence: &cadence.Cadence{Every: 20 * time.Second}}, &r.Revision, text)
	require.NoError(t, err)
	_, _, err = d.Update(ctx, anna, r.ID, group.Patch{Name: new("Tickets")}, &r.Revision, text)
	p, ok := problem.Of(err)
	require.True(t, ok)
	require.Equal(t, 412, p.Status)
	require.Contains(t, p.Detail, "ben: cadence: every 1 min → every 20 s")
	is, _ := d.Get(r.ID)
	require.Equal(t, "Ticketing", is.Spec.Name)
	require.Equal(t, int64(2), is.Revision)
}

// Eight requests at once put one machine into eight groups: one gets it.
func TestAMachineIsOfOneGroup(t *testing.T) {
	db := memory.New()
	var wg sync.WaitGroup
	errs := make([]error, 8)
	for i := range errs {
		d := open(t, db)
		wg.Go(func() { _, errs[i] = d.Create(ctx, anna, record(fmt.Sprint("Group ", i), "m1")) })
	}
	wg.Wait()
	made := 0
	for _, err := range errs {
		if err == nil {
			made++
			continue
		}
		require.True(t, strings.HasPrefix(fieldOf(t, err), "machines"), "%v", err)
	}
	require.Equal(t, 1, made)
	d := open(t, db)
	r, ok := d.Guards("p", "m1")
	require.True(t, ok)
	_, _, err := d.Update(ctx, anna, r.ID, group.Patch{Machines: &[]group.Machine{{ID: "m2", Name: "m2"}}}, nil, text)
	require.NoError(t, err)
	_, ok = d.Guards("p", "m1")
	require.False(t, ok, "a machine that was taken out is free")
	_, err = d.Create(ctx, anna, record("Another", "m1"))
	require.NoError(t, err)
}

func TestNamesAreTakenOnce(t *testing.T) {
	d := open(t, memory.New())
	_, err := d.Create(ctx, anna, record("Ticketing", "m1"))
	require.NoError(t, err)
	_, err = d.Create(ctx, anna, record("tickeTING", "m2"))
	require.Equal(t, "name", fieldOf(t, err))
	r, err := d.Create(ctx, anna, record("Second", "m2"))
	require.NoError(t, err)
	_, _, err = d.Update(ctx, anna, r.ID, group.Patch{Name: new("Ticketing")}, nil, text)
	require.Equal(t, "name", fieldOf(t, err))
}

func TestFindKeepsLivingAndEndedApart(t *testing.T) {
	d := open(t, memory.New())
	one, err := d.Create(ctx, anna, record("Ticketing", "m1"))
	require.NoError(t, err)
	require.NoError(t, d.End(ctx, anna, one.ID, "", "ended"))
	r, err := d.Find("ticketing")
	require.NoError(t, err)
	require.Equal(t, directory.Ended, r.Direction)
	two, err := d.Create(ctx, anna, record("Ticketing", "m1"))
	require.NoError(t, err, "the name and the machine are free again")
	r, err = d.Find("Ticketing")
	require.NoError(t, err)
	require.Equal(t, two.ID, r.ID, "the one that lives")
	require.NoError(t, d.End(ctx, anna, two.ID, "", "ended"))
	_, err = d.Find("Ticketing")
	require.ErrorContains(t, err, "give the ID")
	require.ErrorContains(t, err, one.ID)
	_, err = d.Find("Tiketing")
	require.ErrorContains(t, err, `Did you mean "Ticketing"?`)
}

// What a home site reports is taken if it is later, and of no site but the group's
// own.
func TestMirror(t *testing.T) {
	db := memory.New()
	d := open(t, db)
	peer := actor.Actor{Kind: actor.Site, Name: "Norhaven"}
	r := record("Ticketing", "m1")
	r.Term, r.Revision = 1, 5
	fresh, err := d.Mirror(ctx, peer, r)
	require.NoError(t, err)
	require.True(t, fresh)
	is, _ := d.Get(r.ID)
	require.Equal(t, directory.In, is.Direction)

	older := r
	older.Revision, older.Spec.Name = 4, "Old"
	_, err = d.Mirror(ctx, peer, older)
	require.NoError(t, err)
	is, _ = d.Get(r.ID)
	require.Equal(t, "Ticketing", is.Spec.Name, "an older report changes nothing")

	later := r
	later.Revision, later.Spec = 6, spec("Tickets", "m1", "m2")
	_, err = d.Mirror(ctx, peer, later)
	require.NoError(t, err)
	is, _ = d.Get(r.ID)
	require.Equal(t, "Tickets", is.Spec.Name)

	stranger := later
	stranger.HomeID, stranger.Term, stranger.Revision = uuid.NewString(), 9, 99
	_, err = d.Mirror(ctx, peer, stranger)
	require.ErrorContains(t, err, "home elsewhere")
	lower := later
	lower.Term = 0
	_, err = d.Mirror(ctx, peer, lower)
	require.ErrorContains(t, err, "stand down")

	require.NoError(t, d.End(ctx, peer, r.ID, "", "ended"))
	fresh, err = d.Mirror(ctx, peer, later)
	require.NoError(t, err)
	require.False(t, fresh)
	is, _ = d.Get(r.ID)
	require.Equal(t, directory.In, is.Direction, "its home is back")

	mine, err := d.Create(ctx, anna, record("Mine", "x"))
	require.NoError(t, err)
	claim := mine
	claim.HomeID, claim.Term, claim.Revision = otherSite, 1, 50
	_, err = d.Mirror(ctx, peer, claim)
	require.ErrorContains(t, err, "stand down", "the same term is nobody else's")
}

// Two sites have the same settings after any edits, reports in any order, and
// repeats.
func TestSitesAgreeInTheEnd(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		home, recovery := open(t, memory.New()), open(t, memory.New())
		r, err := home.Create(ctx, anna, record("Ticketing", "m1"))
		require.NoError(t, err)
		reports := []directory.Record{r}
		for range rapid.IntRange(0, 12).Draw(t, "edits") {
			p := group.Patch{Cadence: &cadence.Cadence{Every: time.Duration(rapid.IntRange(1, 200).Draw(t, "every")) * time.Second}}
			if rapid.Bool().Draw(t, "name") {
				p = group.Patch{Name: new(rapid.StringMatching(`[a-z]{1,8}`).Draw(t, "to"))}
			}
			if next, _, err := home.Update(ctx, anna, r.ID, p, nil, text); err == nil {
				reports = append(reports, next)
			}
		}
		for range rapid.IntRange(0, 20).Draw(t, "lost and repeated") {
			_, _ = recovery.Mirror(ctx, anna, reports[rapid.IntRange(0, len(reports)-1).Draw(t, "which")])
		}
		now, _ := home.Get(r.ID)
		_, err = recovery.Mirror(ctx, anna, now)
		require.NoError(t, err)
		there, _ := recovery.Get(r.ID)
		require.Equal(t, now.Spec, there.Spec)
		require.Equal(t, now.Revision, there.Revision)
	})
}

func TestPausesEndByThemselves(t *testing.T) {
	d := open(t, memory.New())
	r, err := d.Create(ctx, anna, record("Ticketing", "m1"))
	require.NoError(t, err)
	past := &group.Pause{By: "anna", Since: time.Now().Add(-2 * time.Hour), Until: time.Now().Add(-time.Hour), Reason: "array swap"}
	_, _, err = d.Update(ctx, anna, r.ID, group.Patch{Pause: past}, nil, text)
	require.NoError(t, err)
	var heard []directory.Change
	d.Watch(func(c directory.Change) { heard = append(heard, c) })
	require.NoError(t, d.ResumeDue(ctx))
	is, _ := d.Get(r.ID)
	require.Nil(t, is.Spec.Pause)
	require.Len(t, heard, 1)
	require.NoError(t, d.ResumeDue(ctx))
	require.Len(t, heard, 1, "once")
}

// The line of the trail says who, from where, which object, and from what to what;
// a write that fails leaves neither.
func TestTheTrailIsWrittenWithTheChange(t *testing.T) {
	db := memory.New()
	d := open(t, db)
	r, err := d.Create(ctx, anna, record("Ticketing", "m1"))
	require.NoError(t, err)
	_, _, err = d.Update(ctx, anna, r.ID, group.Patch{Target: new(10 * time.Minute)}, nil, text)
	require.NoError(t, err)
	lines, err := db.Activity(ctx, records.Sought{Limit: 10})
	require.NoError(t, err)
	require.Len(t, lines, 2)
	require.Equal(t, []string{"anna", "person", "192.0.2.7", r.ID}, []string{lines[0].Who, lines[0].Actor, lines[0].Origin, lines[0].Object})
	require.Equal(t, int64(2), *lines[0].Revision)
	changes, err := audit.ChangesOf(lines[0])
	require.NoError(t, err)
	require.Equal(t, []group.Change{{Field: "rpoTargetSeconds", From: "5 min", To: "10 min"}}, changes)
	db.Before = func(string) error { return errors.New("the disk is full") }
	_, _, err = d.Update(ctx, anna, r.ID, group.Patch{Target: new(20 * time.Minute)}, nil, text)
	require.Error(t, err)
	lines, err = db.Activity(ctx, records.Sought{Limit: 10})
	require.NoError(t, err)
	require.Len(t, lines, 2)
	is, _ := d.Get(r.ID)
	require.Equal(t, 10*time.Minute, is.Spec.Promise.Target)
}

// Every specification reads back as it was written, and so does every edit.
func TestStoredFormsReadBack(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		s := spec(rapid.StringMatching(`[A-Za-z ]{1,20}`).Draw(t, "name"), "m1", "m2")
		s.Tags = rapid.SliceOfN(rapid.StringMatching(`[a-z]{1,5}`), 0, 3).Draw(t, "tags")
		if len(s.Tags) == 0 {
			s.Tags = nil
		}
		s.Apart, s.HomePoints, s.Machines[1].Disks[0].LeftOut = rapid.Bool().Draw(t, "apart"), rapid.Bool().Draw(t, "home"), rapid.Bool().Draw(t, "left out")
		if rapid.Bool().Draw(t, "rests") {
			s.Machines[1].Rest = group.Rest{Mode: rapid.SampledFrom([]group.Mode{group.RestTry, group.RestRequired}).Draw(t, "mode"), Limit: time.Duration(rapid.IntRange(0, 60).Draw(t, "limit")) * time.Second, Nth: rapid.IntRange(0, 9).Draw(t, "nth"), Before: rapid.SampledFrom([]string{"", "flush"}).Draw(t, "before")}
		}
		s.Promise.Zone = rapid.SampledFrom([]string{"", "Europe/Oslo"}).Draw(t, "zone")
		c, err := cadence.Parse(rapid.SampledFrom([]string{"back to back", "7min", "hand", "weekdays at 02:00 and 04:30"}).Draw(t, "cadence"), s.Promise.Zone)
		require.NoError(t, err)
		if rapid.Bool().Draw(t, "is quiet") {
			c.Quiet, err = cadence.ParseQuiet("mon-fri 08:00-18:00; 2026-12-24", s.Promise.Zone)
			require.NoError(t, err)
		}
		s.Promise.Cadence = c
		s.Promise.Least = rapid.IntRange(0, 5).Draw(t, "least")
		if rapid.Bool().Draw(t, "another ladder at home") {
			s.HomeKeep = ladder.Ladder{{For: time.Hour}, {Each: 30 * 24 * time.Hour, Months: 1, For: 365 * 24 * time.Hour, Locked: true}}
		}
		s.RTO, s.DrillEvery, s.RestMode = time.Duration(rapid.IntRange(0, 9).Draw(t, "rto"))*time.Hour, 48*time.Hour, rapid.SampledFrom([]group.Mode{"", group.RestTry}).Draw(t, "rest mode")
		if rapid.Bool().Draw(t, "follows") {
			tier := group.TierOf(s)
			tier.Name = "Harbour-1"
			s.Tier = &group.Follows{ID: "t", Revision: 4, Tier: tier, Own: []group.Own{{Field: "keep", Reason: "why"}}}
		}
		if rapid.Bool().Draw(t, "rules") {
			m, err := scope.Parse("folder /x and not tag y")
			require.NoError(t, err)
			s.Rule = &group.Rule{Match: m, Order: 7}
		}
		s.NewDisks = rapid.SampledFrom([]group.NewDisks{group.CopyNew, group.FlagNew}).Draw(t, "new disks")
		s.Priority = rapid.SampledFrom([]group.Priority{group.High, group.Normal, group.Low}).Draw(t, "priority")
		s.CompareEvery = time.Duration(rapid.IntRange(0, 1000).Draw(t, "compare")) * time.Hour
		if rapid.Bool().Draw(t, "paused") {
			s.Pause = &group.Pause{By: "anna", Reason: "why", Since: time.Date(2026, 11, 25, 0, 0, 0, 0, time.UTC)}
			if rapid.Bool().Draw(t, "until") {
				s.Pause.Until = s.Pause.Since.Add(time.Hour)
			}
		}
		got, err := directory.Decode(directory.Encode(s), "x")
		require.NoError(t, err)
		require.Equal(t, s, got)
		w := directory.Wish{Machines: &[]string{"a"}, Match: new(int64(7)), Without: &[]string{"a:b"}, Add: []string{"c"}, Rest: &[]directory.RestOf{{Machine: "a", Rest: group.Rest{Mode: group.RestRequired, Nth: 3}}}}
		w.Rule, w.NewDisks, w.HomeKeep, w.Least = s.Rule, &s.NewDisks, &s.HomeKeep, &s.Promise.Least
		w.Tier, w.Reason, w.Like, w.RTO, w.RestMode, w.ByHand = new("Harbour-1"), "why", []string{"keep"}, &s.RTO, &s.RestMode, &[]string{"m1"}
		w.Name, w.Cadence, w.Quiet, w.Zone, w.Keep, w.Pause, w.Priority = &s.Name, new(s.Promise.Cadence), new(s.Promise.Cadence.Quiet), &s.Promise.Zone, &s.Promise.Keep, s.Pause, &s.Priority
		back, err := directory.DecodeWish(directory.EncodeWish(w))
		require.NoError(t, err)
		// Cadence and quiet times get their zone where they are applied.
		w.Cadence.Quiet, w.Cadence.Calendar.Zone, w.Quiet.Zone = cadence.Quiet{}, "", ""
		require.Equal(t, w, back)
	})
}

// What the first version stored and sealed into points is still read.
func TestTheFirstFormatIsRead(t *testing.T) {
	old := `{"platform":"p","machines":[{"id":"m1","name":"tick-db","disks":2,"sizeBytes":100,"quiesce":true}],"promise":{"rpoTargetSeconds":300,"cadenceSeconds":60,"keep":[{"eachSeconds":0,"forSeconds":3600},{"eachSeconds":3600,"forSeconds":172800}]},"apart":true,"priority":"high","compareEvery":86400,"keepHere":true,"paused":true}`
	s, err := directory.Decode([]byte(old), "Ticketing")
	require.NoError(t, err)
	require.Equal(t, group.Spec{Name: "Ticketing", Platform: "p", Machines: []group.Machine{{ID: "m1", Name: "tick-db", Rest: group.Rest{Mode: group.RestTry}}}, NewDisks: group.CopyNew, Apart: true, Priority: group.High, CompareEvery: 24 * time.Hour, HomePoints: true, Pause: &group.Pause{},
		Promise: promise.Promise{Target: 5 * time.Minute, Cadence: cadence.Cadence{Every: time.Minute}, Keep: ladder.Ladder{{For: time.Hour}, {Each: time.Hour, For: 48 * time.Hour}}}}, s)
	require.True(t, s.PausedAt(time.Now()))
	_, err = directory.Decode([]byte(`{`), "x")
	require.Error(t, err)
	huge, err := directory.Decode([]byte(`{"promise":{"rpoTargetSeconds":9223372036854775807}}`), "x")
	require.NoError(t, err)
	require.NotEmpty(t, huge.Validate(), "a number beyond all lengths of time is refused by its limit")
	_, err = directory.DecodeWish([]byte(`{"format":3}`))
	require.ErrorContains(t, err, "update this site")
	var form struct{ Format int }
	require.NoError(t, json.Unmarshal(directory.Encode(spec("x", "m")), &form))
	require.Equal(t, 2, form.Format)
}

// A group is turned once: whoever edits what was before loses, and who turns it meanwhile is
// heard first.
func TestAGroupIsTurned(t *testing.T) {
	db := memory.New()
	d := open(t, db)
	g, err := d.Create(ctx, anna, record("Ticketing", "tick-db"))
	require.NoError(t, err)
	turn := func(d *directory.Directory, to directory.Turned) (directory.Record, error) {
		return d.Turn(ctx, ben, g.ID, func(r *directory.Record) (string, error) {
			if r.Turned == to {
				return "", nil
			}
			r.Turned = to
			return "turned", nil
		})
	}
	stale := open(t, db) // reads what is now, and is not told of what comes
	away, err := turn(d, directory.Ceded)
	require.NoError(t, err)
	require.True(t, away.Away())
	require.False(t, away.Home())
	_, _, err = stale.Update(ctx, ben, g.ID, group.Patch{Name: new("Fares")}, nil, func(directory.Record, []group.Change) string { return "renamed" })
	require.ErrorContains(t, err, "runs at Eastmole since a failover", "an edit never takes a turn back")
	_, _, err = d.Update(ctx, anna, g.ID, group.Patch{Name: new("Fares")}, nil, func(directory.Record, []group.Change) string { return "renamed" })
	require.ErrorContains(t, err, "since a failover")
	again, err := turn(d, directory.Ceded)
	require.NoError(t, err)
	require.Equal(t, away, again, "the same again changes nothing")
	_, err = d.Turn(ctx, ben, g.ID, func(*directory.Record) (string, error) { return "", errors.New("no") })
	require.ErrorContains(t, err, "no")
	reopened := open(t, db)
	kept, ok := reopened.Get(g.ID)
	require.True(t, ok)
	require.Equal(t, directory.Ceded, kept.Turned)

	// What another site is home of from then on keeps what was here.
	r := away
	r.HomeID, r.HomeName, r.RecoveryName, r.Term, r.Revision = otherSite, "Eastmole", "Norhaven", 2, 9
	r.Spec.Machines = []group.Machine{{ID: "landed", Name: "tick-db"}}
	_, err = reopened.Mirror(ctx, anna, r)
	require.NoError(t, err)
	kept, _ = reopened.Get(g.ID)
	require.Equal(t, directory.In, kept.Direction)
	require.Equal(t, []directory.Former{{Platform: "p", ID: "tick-db", Name: "tick-db"}}, kept.FormerHome())
	require.Empty(t, kept.Turned)
}
