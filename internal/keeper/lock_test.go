package keeper_test

import (
	"context"
	"net/http"
	"testing"
	"time"

	"github.com/google/uuid"
	"github.com/stretchr/testify/require"

	"kestrel/internal/api"
	"kestrel/internal/core/group"
	"kestrel/internal/core/ladder"
	"kestrel/internal/core/span"
	"kestrel/internal/link"
	"kestrel/internal/points"
	"kestrel/internal/support/rooms"
)

func (r *rig) lock(x *points.Seal, d time.Duration) (api.Point, error) {
	return r.Keeper.Lock(r.t.Context(), mate, x.Point, api.LockRequest{Until: time.Now().Add(d)})
}

// There is no way to delete a locked point before its time: not by hand, by the ladder,
// by another site, with its group, nor by starting anew.
func TestNoWayToDeleteALockedPoint(t *testing.T) {
	virtual(t, ladder.Ladder{{For: time.Minute}}, func(t *testing.T, r *rig) {
		x := r.seal()
		v, err := r.lock(x, 10*span.Day)
		require.NoError(t, err)
		require.WithinDuration(t, time.Now().Add(10*span.Day), *v.LockedUntil, time.Second)
		require.Len(t, r.said("mate locked point 1 of Ticketing until"), 1)
		time.Sleep(time.Hour)
		r.seal() // the locked one is not the newest any more
		there := func(how string) {
			t.Helper()
			_, err := r.Store.Point(x.Point)
			require.NoError(t, err, how)
			p, err := r.Keeper.Point(t.Context(), x.Point)
			require.NoError(t, err, how)
			require.NotNil(t, p.LockedUntil, how)
		}
		p := fault(t, r.Keeper.Delete(t.Context(), rooms.Anna(), x.Point))
		require.Equal(t, http.StatusConflict, p.Status)
		require.Contains(t, p.Detail, "nobody can delete it before")
		there("by hand")
		r.tidy(span.Day)
		there("by the ladder")
		r.edit(func(s *group.Spec) { s.Promise.Keep = ladder.Ladder{{For: time.Second}}; s.LockFor = 0 })
		r.tidy(time.Hour)
		there("by a shorter ladder from home")
		require.NoError(t, r.Open(t.Context()))
		r.tidy(time.Hour)
		there("by starting anew")
		g := r.ended()
		_, err = r.Keeper.DropAll(t.Context(), g.ID)
		require.Contains(t, fault(t, err).Detail, "is locked until")
		require.Len(t, r.Store.Points(g.ID), 2, "nothing of it is deleted then")
		there("with its group")
		_, err = r.Keeper.AskDeletion(t.Context(), norhaven, g)
		require.NoError(t, err)
		r.tidy(2 * span.Day)
		require.Len(t, r.Store.Points(g.ID), 1)
		there("by another site")
		_, err = r.lock(x, span.Day)
		require.Contains(t, fault(t, err).Detail, "no lock is made shorter")
		v, err = r.lock(x, 20*span.Day)
		require.NoError(t, err)
		require.WithinDuration(t, time.Now().Add(20*span.Day), *v.LockedUntil, time.Second)
		r.tidy(21 * span.Day)
		_, err = r.Store.Point(x.Point)
		require.ErrorIs(t, err, points.ErrNotFound, "what was asked for meanwhile is done when the lock ends")
	})
}

// What cannot be a lock is refused by its field.
func TestLocksThatAreRefused(t *testing.T) {
	virtual(t, ladder.Ladder{{For: span.Day}}, func(t *testing.T, r *rig) {
		x := r.seal()
		for field, in := range map[string]api.LockRequest{
			"until":  {Until: time.Now().Add(-time.Second)},
			"until ": {Until: time.Now().Add(1000 * span.Day)},
			"reason": {Until: time.Now().Add(span.Day), Reason: new("two\nlines")},
		} {
			_, err := r.Keeper.Lock(t.Context(), mate, x.Point, in)
			require.Contains(t, field, fault(t, err).Errors[0].Field)
		}
		_, err := r.Keeper.Lock(t.Context(), mate, uuid.NewString(), api.LockRequest{Until: time.Now().Add(span.Day)})
		require.Equal(t, http.StatusNotFound, fault(t, err).Status)
		_, holds := r.Store.Locked(x.Point)
		require.False(t, holds)
	})
}

// Points of a group that says so are locked from their seal on, over a fault and a
// restart too; those from before are not.
func TestPointsAreLockedAsTheirGroupSays(t *testing.T) {
	virtual(t, ladder.Ladder{{For: time.Hour}}, func(t *testing.T, r *rig) {
		before := r.seal()
		time.Sleep(20 * time.Minute)
		r.edit(func(s *group.Spec) { s.LockFor = 3 * span.Day })
		x := r.seal()
		l, holds := r.Store.Locked(x.Point)
		require.True(t, holds)
		require.True(t, l.Until.Equal(x.SealedAt.Add(3*span.Day)))
		p, err := r.Keeper.Point(t.Context(), x.Point)
		require.NoError(t, err)
		require.NotNil(t, p.LockedUntil)
		_, holds = r.Store.Locked(before.Point)
		require.False(t, holds)
		v := r.Keeper.StoreView()
		require.Equal(t, 1, v.LockedPoints)
		require.True(t, v.LockedUntil.Equal(l.Until))

		r.edit(func(s *group.Spec) { s.LockFor = 1000 * span.Day }) // as a home that was taken over might
		y := r.seal()
		l, _ = r.Store.Locked(y.Point)
		require.True(t, l.Until.Equal(y.SealedAt.Add(group.MaxLock)), "no longer than a lock may be")

		// Sealed, and then the power went: it is locked when things are tidied up.
		r.edit(func(s *group.Spec) { s.LockFor = 0 })
		z := r.seal()
		r.edit(func(s *group.Spec) { s.LockFor = span.Day })
		r.tidy(time.Minute)
		_, holds = r.Store.Locked(z.Point)
		require.True(t, holds)
	})
}

// Home knows which of its points are locked over there.
func TestHomeKnowsOfLocks(t *testing.T) {
	virtual(t, ladder.Ladder{{For: span.Day}}, func(t *testing.T, r *rig) {
		x := r.seal()
		_, err := r.lock(x, 10*span.Day)
		require.NoError(t, err)
		held, err := r.Keeper.Held(t.Context(), r.g.ID)
		require.NoError(t, err)
		require.NotNil(t, held[0].LockedUntil)
		home, err := rooms.New(rooms.HomeID, rooms.HomeName, 2)
		require.NoError(t, err)
		defer func() { require.NoError(t, home.Store.Close()) }()
		g, err := home.Groups.Create(t.Context(), rooms.Anna(), rooms.Record(r.g.ID, r.g.Spec))
		require.NoError(t, err)
		fetch := func(mark string) api.Point {
			_, err := home.Keeper.Confirmed(t.Context(), link.GroupState{ID: g.ID, NewestAt: x.CaptureAt, NewestPoint: x.Point, PointsMark: mark}, 0, func(ctx context.Context) ([]link.PointState, error) { return r.Keeper.Held(ctx, g.ID) })
			require.NoError(t, err)
			p, err := home.Keeper.Point(t.Context(), x.Point)
			require.NoError(t, err)
			return p
		}
		time.Sleep(time.Second)
		require.NotNil(t, fetch("a").LockedUntil)
		time.Sleep(11 * span.Day)
		require.Nil(t, fetch("a").LockedUntil, "it is over")
	})
}

// What a locked rung of the ladder keeps nobody deletes, once its stretch is over, and a
// shorter ladder from home frees nothing.
func TestLockedRungsLock(t *testing.T) {
	virtual(t, ladder.Ladder{{For: 6 * time.Hour}, {Each: span.Day, For: 14 * span.Day, Locked: true}}, func(t *testing.T, r *rig) {
		var all []*points.Seal
		for range 11 {
			all = append(all, r.seal())
			r.tidy(4 * time.Hour)
		}
		locked := map[string]time.Time{}
		for _, x := range r.Store.Points(r.g.ID) {
			if l, ok := r.Store.Locked(x.Point); ok {
				locked[x.Point] = l.Until
				require.WithinDuration(t, x.CaptureAt.Add(14*span.Day), l.Until, time.Minute)
			}
		}
		require.NotEmpty(t, locked)
		require.Less(t, len(locked), 4, "one a day")
		newest := all[len(all)-1].Point
		require.NotContains(t, locked, newest, "its day is not over")
		r.edit(func(s *group.Spec) { s.Promise.Keep = ladder.Ladder{{For: time.Hour}} })
		r.tidy(2 * span.Day)
		for point := range locked {
			_, err := r.Store.Point(point)
			require.NoError(t, err)
			require.Contains(t, fault(t, r.Keeper.Delete(t.Context(), rooms.Anna(), point)).Detail, "nobody can delete it before")
		}
		r.tidy(15 * span.Day)
		for point := range locked {
			_, err := r.Store.Point(point)
			require.ErrorIs(t, err, points.ErrNotFound, "the lock has ended, and the ladder no longer keeps it")
		}
	})
}
