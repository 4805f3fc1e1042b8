package keeper_test

import (
	"context"
	"net/http"
	"testing"
	"testing/synctest"
	"time"

	"github.com/stretchr/testify/require"

	"kestrel/internal/api"
	"kestrel/internal/core/actor"
	"kestrel/internal/core/group"
	"kestrel/internal/core/ladder"
	"kestrel/internal/core/span"
	"kestrel/internal/directory"
)

// norhaven is home, or whoever has taken it over.
var norhaven = actor.Actor{Kind: actor.Site, Name: "Norhaven"}

// ended is the group after home has ended it and wants its points deleted.
func (r *rig) ended() directory.Record {
	r.t.Helper()
	require.NoError(r.t, r.Groups.End(r.t.Context(), norhaven, r.g.ID, "", "ended"))
	g, ok := r.Groups.Get(r.g.ID)
	require.True(r.t, ok)
	return g
}

// tidy lets time pass and tidies up, as the service does by itself.
func (r *rig) tidy(d time.Duration) {
	r.t.Helper()
	time.Sleep(d)
	ctx, cancel := context.WithCancel(r.t.Context())
	done := make(chan struct{})
	go func() { r.Keeper.Run(ctx); close(done) }()
	synctest.Wait()
	cancel()
	<-done
}

// What home wants deleted stays for a day, over restarts; then it goes, but for what
// is pinned.
func TestWhatHomeWantsDeletedWaits(t *testing.T) {
	virtual(t, nil, func(t *testing.T, r *rig) {
		r.Wait = span.Day
		require.NoError(t, r.Open(t.Context()))
		for range 3 {
			r.seal()
			time.Sleep(time.Minute)
		}
		_, err := r.pin(r.Store.Points(r.g.ID)[1], api.PointPatch{Pinned: true})
		require.NoError(t, err)
		g := r.ended()
		due, err := r.Keeper.AskDeletion(t.Context(), norhaven, g)
		require.NoError(t, err)
		require.WithinDuration(t, time.Now().Add(span.Day), due, time.Second)
		r.tidy(23 * time.Hour)
		require.NoError(t, r.Open(t.Context()), "a restart forgets nothing")
		d, ok := r.Keeper.Deletion(g.ID)
		require.True(t, ok)
		require.True(t, d.DueAt.Equal(due))
		require.Len(t, r.Store.Points(g.ID), 3)
		r.tidy(2 * time.Hour)
		left := r.Store.Points(g.ID)
		require.Len(t, left, 1)
		require.EqualValues(t, 2, left[0].Number, "the pinned one")
		_, ok = r.Keeper.Deletion(g.ID)
		require.False(t, ok, "what is left is for somebody here to decide")
		require.Len(t, r.said("2 points of Ticketing were deleted, as Norhaven wanted since"), 1)
		r.tidy(30 * span.Day)
		require.Len(t, r.Store.Points(g.ID), 1)
	})
}

// Somebody here stops it; asked again, it begins anew.
func TestADeletionIsStopped(t *testing.T) {
	virtual(t, nil, func(t *testing.T, r *rig) {
		r.Wait = span.Day
		require.NoError(t, r.Open(t.Context()))
		r.seal()
		g := r.ended()
		require.Equal(t, http.StatusConflict, fault(t, r.Keeper.StopDeletion(t.Context(), mate, g)).Status)
		_, err := r.Keeper.AskDeletion(t.Context(), norhaven, g)
		require.NoError(t, err)
		require.NoError(t, r.Keeper.StopDeletion(t.Context(), mate, g))
		require.Len(t, r.said("mate stopped the deletion"), 1)
		require.NoError(t, r.Open(t.Context()))
		r.tidy(30 * span.Day)
		require.Len(t, r.Store.Points(g.ID), 1)
		due, err := r.Keeper.AskDeletion(t.Context(), norhaven, g)
		require.NoError(t, err)
		require.WithinDuration(t, time.Now().Add(span.Day), due, time.Second)
		// What is read is deleted when nobody reads it any more.
		_, done, err := r.Store.Use(r.Store.Points(g.ID)[0].Point)
		require.NoError(t, err)
		r.tidy(2 * span.Day)
		require.Len(t, r.Store.Points(g.ID), 1)
		done()
		r.tidy(time.Hour)
		require.Empty(t, r.Store.Points(g.ID))
		_, ok := r.Groups.Get(g.ID)
		require.False(t, ok, "nothing is left of it")
	})
}

// A ladder that home makes shorter thins what was there before no faster than this
// site's own ladder allows; what comes later follows home's alone.
func TestAShorterLadderFromHomeThinsSlowly(t *testing.T) {
	keep := ladder.Ladder{{For: 2 * span.Day}}
	virtual(t, keep, func(t *testing.T, r *rig) {
		r.Least = ladder.Ladder{{Each: time.Hour, For: span.Day}}
		require.NoError(t, r.Open(t.Context()))
		for range 4 * 12 { // twelve hours, four an hour
			r.seal()
			time.Sleep(15 * time.Minute)
		}
		r.edit(func(s *group.Spec) { s.Promise.Keep = ladder.Ladder{{For: time.Second}} })
		r.tidy(0)
		held := len(r.Store.Points(r.g.ID))
		require.InDelta(t, 12, held, 1, "one an hour of all that was there")
		require.Len(t, r.said("as this site's least ladder"), 1)
		require.NoError(t, r.Open(t.Context()), "a restart forgets nothing")
		r.tidy(0)
		require.Len(t, r.Store.Points(r.g.ID), held)
		r.edit(func(s *group.Spec) { s.Promise.Keep = ladder.Ladder{{For: 2 * time.Second}} })
		r.tidy(0)
		require.Len(t, r.Store.Points(r.g.ID), held, "nor by doing it twice")
		for range 4 {
			time.Sleep(15 * time.Minute)
			r.seal()
		}
		require.LessOrEqual(t, len(r.Store.Points(r.g.ID)), held+1, "what is new follows home")
		r.tidy(2 * span.Day)
		require.Len(t, r.Store.Points(r.g.ID), 1, "in the end only the newest is left")
		cuts, err := r.DB.Shortenings(t.Context())
		require.NoError(t, err)
		require.Empty(t, cuts, "and nothing holds anything back")
	})
}
