package keeper_test

import (
	"context"
	"errors"
	"fmt"
	"net/http"
	"strings"
	"sync/atomic"
	"testing"
	"testing/synctest"
	"time"

	"github.com/google/uuid"
	"github.com/stretchr/testify/require"

	"kestrel/internal/api"
	"kestrel/internal/core/actor"
	"kestrel/internal/core/group"
	"kestrel/internal/core/ladder"
	"kestrel/internal/core/span"
	"kestrel/internal/cycle"
	"kestrel/internal/directory"
	"kestrel/internal/keeper"
	"kestrel/internal/link"
	"kestrel/internal/listing"
	"kestrel/internal/points"
	"kestrel/internal/problem"
	"kestrel/internal/records"
	"kestrel/internal/support/rooms"
)

var mate = actor.Actor{Kind: actor.Person, Name: "mate", Role: actor.Operator}

// rig is the recovery site of one group, over a virtual clock.
type rig struct {
	*rooms.Side
	t *testing.T
	g directory.Record
	n int
}

// virtual runs a test on a recovery site to which a group comes.
func virtual(t *testing.T, keep ladder.Ladder, f func(t *testing.T, r *rig)) {
	t.Helper()
	synctest.Test(t, func(t *testing.T) {
		s, err := rooms.New(rooms.RecoveryID, rooms.RecoveryName, 1)
		require.NoError(t, err)
		defer func() { require.NoError(t, s.Store.Close()) }()
		spec := rooms.Spec("Ticketing")
		spec.Promise.Keep = keep
		r := &rig{Side: s, t: t, g: rooms.Record(uuid.NewString(), spec)}
		r.g.Term, r.g.Revision, r.g.CreatedAt = 1, 1, time.Now()
		require.NoError(t, s.Mirror(t.Context(), r.g))
		f(t, r)
	})
}

// seal brings a point that is captured now.
func (r *rig) seal(blocks ...[]byte) *points.Seal {
	r.t.Helper()
	r.n++
	x, err := r.Side.Seal(r.t.Context(), r.g, fmt.Sprintf("00000000-0000-4000-8000-%012d", r.n), time.Now(), blocks...)
	require.NoError(r.t, err)
	return x
}

// edit is an edit at home that arrives here.
func (r *rig) edit(f func(s *group.Spec)) {
	r.t.Helper()
	f(&r.g.Spec)
	r.g.Revision++
	require.NoError(r.t, r.Mirror(r.t.Context(), r.g))
}

func (r *rig) list(f keeper.Filter) (numbers []int64, total int) {
	r.t.Helper()
	ps, total, err := r.Keeper.List(r.t.Context(), f)
	require.NoError(r.t, err)
	for _, p := range ps {
		numbers = append(numbers, p.Number)
	}
	return numbers, total
}

func (r *rig) pin(p *points.Seal, in api.PointPatch) (api.Point, error) {
	return r.Keeper.Pin(r.t.Context(), mate, p.Point, in)
}

func (r *rig) said(words string) []string {
	r.t.Helper()
	lines, err := r.Trail.Lines(r.t.Context(), records.Sought{Limit: 100, Text: words})
	require.NoError(r.t, err)
	var out []string
	for _, l := range lines {
		out = append(out, l.Text)
	}
	return out
}

func fault(t *testing.T, err error) *problem.Problem {
	t.Helper()
	p, ok := problem.Of(err)
	require.True(t, ok, "%v", err)
	return p
}

// Days of points thin out as the ladder says; the newest stays however old it gets,
// and a pinned one until its pin ends.
func TestTheLadderThinsAndPinsHold(t *testing.T) {
	keep := ladder.Ladder{{For: time.Hour}, {Each: time.Hour, For: span.Day}}
	virtual(t, keep, func(t *testing.T, r *rig) {
		var first *points.Seal
		for i := range 3 * 48 {
			x := r.seal()
			if i == 0 {
				first = x
				_, err := r.pin(x, api.PointPatch{Pinned: true, Until: new(time.Now().Add(2 * span.Day)), Reason: new("before the upgrade")})
				require.NoError(t, err)
			}
			time.Sleep(20 * time.Minute)
		}
		all, total := r.list(keeper.Filter{})
		require.Len(t, all, total)
		require.Contains(t, all, first.Number, "48 h are not over")
		require.InDelta(t, 2+24, total-1, 2, "all of an hour, one an hour of a day")
		require.Equal(t, total, r.Keeper.Holding(r.g.ID).Points)
		time.Sleep(10 * time.Minute)
		r.seal()
		all, _ = r.list(keeper.Filter{})
		require.NotContains(t, all, first.Number, "its pin is over")

		time.Sleep(90 * span.Day)
		r.Keeper.Prune(t.Context(), r.g)
		all, _ = r.list(keeper.Filter{})
		require.Equal(t, []int64{int64(r.n)}, all, "the newest is never dropped")
		require.Equal(t, 1, len(r.Store.Points(r.g.ID)), "nor is more in the store than is listed")
	})
}

// Only the group's home brings points, in the term that both know; what is sealed
// once is not sealed again.
func TestWhoMayBringPoints(t *testing.T) {
	virtual(t, ladder.Ladder{{For: time.Hour}}, func(t *testing.T, r *rig) {
		other := r.g
		other.HomeID = uuid.NewString()
		_, err := r.Side.Seal(t.Context(), other, uuid.NewString(), time.Now())
		require.Equal(t, http.StatusForbidden, fault(t, err).Status, "another site")
		other = r.g
		other.ID = uuid.NewString()
		_, err = r.Side.Seal(t.Context(), other, uuid.NewString(), time.Now())
		require.Equal(t, http.StatusForbidden, fault(t, err).Status, "a group that is not known")
		other = r.g
		other.Term = 7
		_, err = r.Side.Seal(t.Context(), other, uuid.NewString(), time.Now())
		require.Equal(t, http.StatusConflict, fault(t, err).Status, "another term")
		_, err = r.Keeper.Intake(rooms.HomeID, "no-such-intake")
		require.Equal(t, http.StatusGone, fault(t, err).Status)

		one := r.seal()
		r.n--
		again := r.seal()
		require.Equal(t, one.Point, again.Point, "the answer was lost, the cycle asks again")
		_, total := r.list(keeper.Filter{})
		require.Equal(t, 1, total)
		require.NoError(t, r.Groups.End(t.Context(), rooms.Anna(), r.g.ID, rooms.RecoveryName, "ended"))
		r.n++
		_, err = r.Side.Seal(t.Context(), r.g, uuid.NewString(), time.Now())
		require.Equal(t, http.StatusForbidden, fault(t, err).Status, "an ended group takes nothing in")
	})
}

// Captures are told on this site's clock, whatever home's says.
func TestCapturesAreOnThisSitesClock(t *testing.T) {
	virtual(t, ladder.Ladder{{For: time.Hour}}, func(t *testing.T, r *rig) {
		now := time.Now()
		opened, err := r.Keeper.OpenIntake(t.Context(), rooms.HomeID, openRequest(r.g, uuid.NewString()))
		require.NoError(t, err)
		x, err := r.Keeper.SealIntake(t.Context(), rooms.HomeID, 90*time.Second, opened.Intake, points.Seal{CaptureAt: now.Add(90 * time.Second), Consistency: "crash", Checkpoint: "kt-c", Machines: sealed(r.g)})
		require.NoError(t, err)
		p, err := r.Keeper.Point(t.Context(), x.Point)
		require.NoError(t, err)
		require.WithinDuration(t, now, p.CaptureAt, 0)
		require.Equal(t, now.UTC(), newest(r.Keeper, r.g.ID).UTC())
	})
}

// The store is the truth: after a crash between a seal and its record, or with
// records of what is not there, the next start puts the list right, pins included.
func TestRecordsFollowTheStore(t *testing.T) {
	virtual(t, ladder.Ladder{{For: time.Hour}}, func(t *testing.T, r *rig) {
		one, two := r.seal(), r.seal()
		_, err := r.pin(two, api.PointPatch{Pinned: true, Reason: new("keep this")})
		require.NoError(t, err)
		require.NoError(t, r.DB.DeletePoint(t.Context(), two.Point))
		require.NoError(t, r.Store.Drop(one.Point))
		require.NoError(t, r.Open(t.Context()))
		numbers, _ := r.list(keeper.Filter{})
		require.Equal(t, []int64{two.Number}, numbers)
		p, err := r.Keeper.Point(t.Context(), two.Point)
		require.NoError(t, err)
		require.True(t, p.Pinned)
		require.Equal(t, "keep this", *p.PinReason)
		require.Equal(t, mate.String(), *p.PinnedBy)
		require.Len(t, r.said("is not in the store"), 1)
		require.Equal(t, two.Point, r.Keeper.Holding(r.g.ID).Newest)
	})
}

// Points are listed in order and in stretches, with how many there are in all.
func TestListsOfPoints(t *testing.T) {
	virtual(t, ladder.Ladder{{For: time.Hour}}, func(t *testing.T, r *rig) {
		var at []time.Time
		for range 5 {
			at = append(at, r.seal().CaptureAt)
			time.Sleep(time.Minute)
		}
		for name, c := range map[string]struct {
			f     keeper.Filter
			want  []int64
			total int
		}{
			"newest first":    {keeper.Filter{}, []int64{5, 4, 3, 2, 1}, 5},
			"oldest first":    {keeper.Filter{Page: listing.Page{Sort: "captured"}}, []int64{1, 2, 3, 4, 5}, 5},
			"a page":          {keeper.Filter{Page: listing.Page{Limit: 2}}, []int64{5, 4}, 5},
			"the next":        {keeper.Filter{Page: listing.Page{Limit: 2, Skip: 2}}, []int64{3, 2}, 5},
			"before":          {keeper.Filter{Before: &at[2]}, []int64{2, 1}, 2},
			"after":           {keeper.Filter{After: &at[2]}, []int64{5, 4}, 2},
			"of no group":     {keeper.Filter{Groups: []string{}}, nil, 0},
			"of this group":   {keeper.Filter{Groups: []string{r.g.ID}, Page: listing.Page{Limit: 1}}, []int64{5}, 5},
			"application":     {keeper.Filter{Consistent: "application"}, nil, 0},
			"crash":           {keeper.Filter{Consistent: "crash"}, []int64{5, 4, 3, 2, 1}, 5},
			"equal, by time":  {keeper.Filter{Page: listing.Page{Sort: "-changed"}}, []int64{5, 4, 3, 2, 1}, 5},
			"past the end of": {keeper.Filter{Page: listing.Page{Skip: 9}}, nil, 5},
		} {
			numbers, total := r.list(c.f)
			require.Equal(t, c.want, numbers, name)
			require.Equal(t, c.total, total, name)
		}
		for field, f := range map[string]keeper.Filter{"sort": {Page: listing.Page{Sort: "colour"}}, "limit": {Page: listing.Page{Limit: -1}}, "skip": {Page: listing.Page{Skip: -1}}, "consistent": {Consistent: "very"}} {
			_, _, err := r.Keeper.List(t.Context(), f)
			require.Equal(t, field, fault(t, err).Errors[0].Field)
		}
		ps, _, err := r.Keeper.List(t.Context(), keeper.Filter{})
		require.NoError(t, err)
		for i, p := range ps {
			require.Equal(t, i == 0, p.Newest)
			require.True(t, p.Held)
			require.EqualValues(t, 60*(i+1), p.LosesSeconds)
		}
	})
}

// A pin says who, why and until when; nonsense is refused and changes nothing.
func TestPins(t *testing.T) {
	virtual(t, ladder.Ladder{{For: time.Hour}}, func(t *testing.T, r *rig) {
		x := r.seal()
		for field, in := range map[string]api.PointPatch{
			"until":  {Pinned: true, Until: new(time.Now())},
			"reason": {Pinned: true, Reason: new("two\nlines")},
		} {
			_, err := r.pin(x, in)
			require.Equal(t, field, fault(t, err).Errors[0].Field)
		}
		_, err := r.pin(x, api.PointPatch{Pinned: true, Reason: new(strings.Repeat("x", 201))})
		require.Equal(t, "reason", fault(t, err).Errors[0].Field)
		p, err := r.Keeper.Point(t.Context(), x.Point)
		require.NoError(t, err)
		require.False(t, p.Pinned)
		p, err = r.pin(x, api.PointPatch{Pinned: true, Until: new(time.Now().Add(time.Hour)), Reason: new(" before the upgrade ")})
		require.NoError(t, err)
		require.Equal(t, "before the upgrade", *p.PinReason)
		require.Len(t, r.said("pinned point 1 of Ticketing until"), 1)
		time.Sleep(2 * time.Hour)
		p, err = r.Keeper.Point(t.Context(), x.Point)
		require.NoError(t, err)
		require.False(t, p.Pinned, "a pin ends by itself")
		_, err = r.Keeper.Pin(t.Context(), mate, uuid.NewString(), api.PointPatch{Pinned: true})
		require.Equal(t, http.StatusNotFound, fault(t, err).Status)
		_, err = r.Keeper.Pin(t.Context(), mate, "not an ID", api.PointPatch{Pinned: true})
		require.Equal(t, http.StatusNotFound, fault(t, err).Status)
	})
}

// What must not be deleted is not: the newest, a pinned one, one that is read.
func TestWhatMayBeDeleted(t *testing.T) {
	virtual(t, ladder.Ladder{{For: time.Hour}}, func(t *testing.T, r *rig) {
		one := r.seal()
		time.Sleep(time.Minute)
		two := r.seal()
		del := func(x *points.Seal) error { return r.Keeper.Delete(t.Context(), mate, x.Point) }
		require.Contains(t, fault(t, del(two)).Detail, "newest point")
		_, err := r.pin(one, api.PointPatch{Pinned: true})
		require.NoError(t, err)
		require.Contains(t, fault(t, del(one)).Detail, "pinned")
		_, err = r.pin(one, api.PointPatch{})
		require.NoError(t, err)
		_, done, err := r.Store.Use(one.Point)
		require.NoError(t, err)
		require.Contains(t, fault(t, del(one)).Detail, "served or exported")
		require.Error(t, r.Keeper.Idle(r.g.ID))
		done()
		require.NoError(t, r.Keeper.Idle(r.g.ID))
		require.NoError(t, del(one))
		require.Equal(t, http.StatusNotFound, fault(t, del(one)).Status)
		require.Len(t, r.said("deleted point 1 of Ticketing"), 1)
		require.Equal(t, 1, r.Keeper.Holding(r.g.ID).Points)
		n, err := r.Keeper.DropAll(t.Context(), r.g.ID)
		require.NoError(t, err)
		require.Equal(t, 1, n)
		require.False(t, r.Keeper.Keeps(r.g.ID))
	})
}

// What a shorter ladder would drop is said before, and is what it drops; the trail
// tells of it afterwards.
func TestAShorterLadderDropsWhatWasSaid(t *testing.T) {
	virtual(t, ladder.Ladder{{For: 6 * time.Hour}}, func(t *testing.T, r *rig) {
		for range 12 {
			r.seal()
			time.Sleep(20 * time.Minute)
		}
		ctx, cancel := context.WithCancel(t.Context())
		done := make(chan struct{})
		go func() { r.Keeper.Run(ctx); close(done) }()
		defer func() { cancel(); <-done }()
		synctest.Wait()
		before, _ := r.list(keeper.Filter{})
		shorter := ladder.Ladder{{For: time.Hour}}
		here, ok := r.Groups.Get(r.g.ID)
		require.True(t, ok)
		lost, numbers, err := r.Keeper.WouldDrop(t.Context(), here, ladder.Keep{Ladder: shorter})
		require.NoError(t, err)
		require.Len(t, lost.Points, len(numbers))
		require.NotEmpty(t, numbers)
		r.edit(func(s *group.Spec) { s.Promise.Keep = shorter })
		synctest.Wait()
		after, _ := r.list(keeper.Filter{})
		require.ElementsMatch(t, before, append(after, numbers...))
		require.Len(t, r.said("its keep ladder was changed from"), 1)
		require.Contains(t, r.said("its keep ladder was changed from")[0], fmt.Sprintf("%d points were dropped", len(numbers)))
	})
}

// A point of which the recovery site tells before the cycle does that brought it counts once.
func TestAPointCountsOnce(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		home, err := rooms.New(rooms.HomeID, rooms.HomeName, 1)
		require.NoError(t, err)
		defer func() { require.NoError(t, home.Store.Close()) }()
		g, err := home.Groups.Create(t.Context(), rooms.Anna(), rooms.Record(uuid.NewString(), rooms.Spec("Ticketing")))
		require.NoError(t, err)
		now := time.Now().UTC()
		x := &points.Seal{Point: uuid.NewString(), Number: 1, CaptureAt: now, SealedAt: now, Consistency: "crash"}
		_, err = home.Keeper.Confirmed(t.Context(), link.GroupState{ID: g.ID, NewestAt: now, NewestPoint: x.Point, PointsMark: "m"}, 10*time.Second, func(context.Context) ([]link.PointState, error) {
			return []link.PointState{{Seal: x}}, nil
		})
		require.NoError(t, err)
		require.NoError(t, home.Keeper.Shipped(t.Context(), g, x))
		require.Equal(t, 1, home.Keeper.Holding(g.ID).Points)
	})
}

// At home, what the recovery site says of points is believed, but an answer that was
// asked for before a point was sealed does not take that point away.
func TestHomeBelievesWhatIsNewer(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		home, err := rooms.New(rooms.HomeID, rooms.HomeName, 1)
		require.NoError(t, err)
		defer func() { require.NoError(t, home.Store.Close()) }()
		g, err := home.Groups.Create(t.Context(), rooms.Anna(), rooms.Record(uuid.NewString(), rooms.Spec("Ticketing")))
		require.NoError(t, err)
		require.False(t, known(home.Keeper, g.ID))
		fetched := 0
		var there []link.PointState
		answer := func(at time.Time, point, mark string) {
			_, err := home.Keeper.Confirmed(t.Context(), link.GroupState{ID: g.ID, NewestAt: at, NewestPoint: point, PointsMark: mark}, 10*time.Second, func(context.Context) ([]link.PointState, error) {
				fetched++
				return there, nil
			})
			require.NoError(t, err)
		}
		answer(time.Time{}, "", "")
		require.True(t, known(home.Keeper, g.ID))
		require.True(t, newest(home.Keeper, g.ID).IsZero())
		time.Sleep(time.Minute)
		now := time.Now().UTC()
		x := &points.Seal{Point: uuid.NewString(), Number: 1, CaptureAt: now, SealedAt: now, Consistency: "crash"}
		require.NoError(t, home.Keeper.Shipped(t.Context(), g, x))
		require.Equal(t, now, newest(home.Keeper, g.ID))
		answer(time.Time{}, "", "m0")
		require.Equal(t, now, newest(home.Keeper, g.ID), "an answer from before the seal")
		there = []link.PointState{{Seal: x}}
		time.Sleep(time.Minute)
		answer(now, x.Point, "m1")
		require.Positive(t, fetched)
		n := fetched
		time.Sleep(time.Minute)
		answer(now, x.Point, "m1")
		require.Equal(t, n, fetched, "a list that did not change is not fetched again")
		// Another one, and what people did with the first, are taken over.
		second := &points.Seal{Point: uuid.NewString(), Number: 2, CaptureAt: now.Add(time.Second), SealedAt: now.Add(time.Second), Consistency: "crash"}
		until := now.Add(time.Hour)
		there = []link.PointState{{Seal: x, Pinned: true, PinnedUntil: &until, PinReason: "before the upgrade", PinnedBy: "ben"}, {Seal: second}}
		pins := func(mark string) (out []records.Point) {
			time.Sleep(time.Minute)
			answer(second.CaptureAt, second.Point, mark)
			recs, err := home.DB.Points(t.Context(), records.PointFilter{Groups: []string{g.ID}, Up: true})
			require.NoError(t, err)
			require.Len(t, recs, 2)
			require.NotEmpty(t, recs[1].Seal)
			return recs
		}
		first := pins("m1b")[0]
		require.True(t, first.Pinned)
		require.Equal(t, []any{until, "before the upgrade", "ben"}, []any{*first.PinnedUntil, first.PinReason, first.PinnedBy})
		there[0].PinReason = "for the auditors"
		require.Equal(t, "for the auditors", pins("m1c")[0].PinReason)
		there[0] = link.PointState{Seal: x}
		require.False(t, pins("m1d")[0].Pinned)
		// What home itself brought there is no reason to fetch the list.
		pins("3-2-" + second.Point)
		n = fetched
		for i := range 3 {
			y := &points.Seal{Point: uuid.NewString(), Number: int64(3 + i), CaptureAt: now.Add(time.Minute), SealedAt: now.Add(time.Minute), Consistency: "crash"}
			require.NoError(t, home.Keeper.Shipped(t.Context(), g, y))
			time.Sleep(time.Minute)
			answer(y.CaptureAt, y.Point, fmt.Sprintf("3-%d-%s", 3+i, y.Point))
		}
		require.Equal(t, n, fetched)
		there = []link.PointState{{Seal: x}}
		answer(now, x.Point, "4-1-"+x.Point)
		require.Equal(t, n+1, fetched, "some were thinned there")
		time.Sleep(time.Minute)
		there = nil
		answer(time.Time{}, "", "m2")
		require.True(t, newest(home.Keeper, g.ID).IsZero(), "the point is gone there")
		require.NoError(t, home.Keeper.ForgetRemote(t.Context(), g.ID))
		require.Zero(t, home.Keeper.Holding(g.ID).Points)
		err = home.Keeper.Delete(t.Context(), mate, x.Point)
		require.Equal(t, http.StatusNotFound, fault(t, err).Status)
	})
}

func openRequest(r directory.Record, id string) cycle.OpenRequest {
	m := r.Spec.Machines[0]
	return cycle.OpenRequest{ID: id, Group: points.SealGroup{ID: r.ID, Name: r.Spec.Name, HomeSite: r.HomeID, HomeName: r.HomeName, Term: r.Term}, Disks: []cycle.OpenRequestDisk{{Machine: m.ID, Key: "d", Size: m.SizeBytes()}}}
}

func sealed(r directory.Record) []points.SealMachine {
	m := r.Spec.Machines[0]
	return []points.SealMachine{{ID: m.ID, Name: m.Name, Disks: []points.SealDisk{{Key: "d", Size: m.SizeBytes()}}}}
}

func newest(k *keeper.Keeper, group string) time.Time {
	at, _ := k.Newest(group)
	return at
}

func known(k *keeper.Keeper, group string) bool {
	_, is := k.Newest(group)
	return is
}

// What is sealed can be used at once, though it is not listed yet.
func TestASealedPointIsThere(t *testing.T) {
	virtual(t, ladder.Ladder{{For: 6 * time.Hour}}, func(t *testing.T, r *rig) {
		x := r.seal()
		require.NoError(t, r.DB.DeletePoint(t.Context(), x.Point))
		p, err := r.Keeper.Mine(t.Context(), x.Point)
		require.NoError(t, err)
		require.True(t, p.Held)
		_, err = r.Keeper.Mine(t.Context(), uuid.NewString())
		require.Equal(t, http.StatusNotFound, fault(t, err).Status)
	})
}

// A point that is sealed while nothing can be recorded is one all the same: it is listed when the
// database takes it, without a start of the service.
func TestAPointIsListedWhenTheDatabaseIsBack(t *testing.T) {
	virtual(t, ladder.Ladder{{For: 6 * time.Hour}}, func(t *testing.T, r *rig) {
		ctx, cancel := context.WithCancel(t.Context())
		done := make(chan struct{})
		go func() { r.Keeper.Run(ctx); close(done) }()
		defer func() { cancel(); <-done }()
		synctest.Wait()
		var gone atomic.Bool
		gone.Store(true)
		r.DB.Before = func(method string) error {
			if gone.Load() && method == "PutPoint" {
				return errors.New("it takes no connections")
			}
			return nil
		}
		x := r.seal()
		_, err := r.Keeper.Mine(t.Context(), x.Point)
		require.Equal(t, http.StatusNotFound, fault(t, err).Status)
		time.Sleep(20 * time.Second)
		gone.Store(false)
		time.Sleep(3 * time.Second)
		_, err = r.Keeper.Mine(t.Context(), x.Point)
		require.NoError(t, err)
		require.Equal(t, 1, r.Keeper.Holding(r.g.ID).Points)
	})
}
