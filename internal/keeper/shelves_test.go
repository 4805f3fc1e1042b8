package keeper_test

import (
	"context"
	"sync"
	"testing"
	"testing/synctest"
	"time"

	"github.com/stretchr/testify/require"

	"kestrel/internal/api"
	"kestrel/internal/core/group"
	"kestrel/internal/core/ladder"
	"kestrel/internal/core/span"
	"kestrel/internal/keeper"
	"kestrel/internal/points"
)

// longTerm runs a test on a recovery site with a long-term store, whose rooms work by
// themselves.
func longTerm(t *testing.T, keep string, f func(t *testing.T, r *rig)) {
	t.Helper()
	l, err := ladder.Parse(keep)
	require.NoError(t, err)
	virtual(t, l, func(t *testing.T, r *rig) {
		require.NoError(t, r.AddLongTerm(t.Context()))
		defer func() { require.NoError(t, r.LongTerm.Close()) }()
		defer r.work()()
		f(t, r)
	})
}

// work lets the rooms work until the returned function is called.
func (r *rig) work() (stop func()) {
	ctx, cancel := context.WithCancel(context.Background())
	var wg sync.WaitGroup
	for _, run := range []func(context.Context){r.Operations.Run, r.Keeper.Run, r.Keeper.Move} {
		wg.Go(func() { run(ctx) })
	}
	return sync.OnceFunc(func() { cancel(); wg.Wait() })
}

// where is which stores hold each point, by its number.
func (r *rig) where() map[int64][]string {
	r.t.Helper()
	ps, _, err := r.Keeper.List(r.t.Context(), keeper.Filter{})
	require.NoError(r.t, err)
	out := map[int64][]string{}
	for _, p := range ps {
		out[p.Number] = p.Where
	}
	return out
}

// A tidying that looked before a point was copied, and says what is due after, does not have
// it copied and told of again.
func TestAPointIsCopiedOnce(t *testing.T) {
	longTerm(t, "1h 6h, 1d 60d long-term", func(t *testing.T, r *rig) {
		for range 2 * 8 {
			r.seal()
			time.Sleep(3 * time.Hour)
		}
		r.Keeper.Prune(t.Context(), r.g)
		time.Sleep(time.Hour)
		far := r.LongTerm.Points(r.g.ID)
		require.NotEmpty(t, far)
		told := len(r.said("was copied to the long-term store and verified"))
		require.Equal(t, len(far), told)

		_, err := r.Store.Point(far[len(far)-1].Point)
		require.NoError(t, err, "it is still in both")
		r.Keeper.Awaits(r.g.ID, []string{far[len(far)-1].Point})
		time.Sleep(time.Hour)
		synctest.Wait()
		require.Len(t, r.said("was copied to the long-term store and verified"), told)
		require.Zero(t, r.Keeper.Awaiting())
	})
}

// What a long-term rung keeps is copied when its day is over, and then let go where nothing
// else keeps it; the list is the same as if there were one store.
func TestLongTermRungsKeepElsewhere(t *testing.T) {
	longTerm(t, "1h 6h, 1d 60d long-term", func(t *testing.T, r *rig) {
		for range 6 * 8 {
			r.seal()
			time.Sleep(3 * time.Hour)
		}
		r.Keeper.Prune(t.Context(), r.g)
		time.Sleep(time.Hour)
		synctest.Wait()
		near, far := r.Store.Points(r.g.ID), r.LongTerm.Points(r.g.ID)
		require.InDelta(t, 6, len(far), 1, "a point a day")
		require.LessOrEqual(t, len(near), 4, "six hours, and the day that goes on")
		all, total := r.list(keeper.Filter{})
		require.Len(t, all, total)
		for _, x := range far {
			require.Contains(t, all, x.Number)
		}
		only := 0
		for n, at := range r.where() {
			require.NotEmpty(t, at, "point %d", n)
			if len(at) == 1 && at[0] == "long-term store" {
				only++
			}
		}
		v := r.Keeper.StoreView()
		require.Equal(t, len(far), v.LongTerm.Points)
		require.Equal(t, only, v.LongTerm.OnlyThere)
		require.GreaterOrEqual(t, only, 4)
		require.Zero(t, v.LongTerm.Awaiting)
		require.Len(t, r.said("was copied to the long-term store and verified"), len(far))

		// One that is only there is read, pinned, locked and deleted like any other.
		old := far[1]
		_, err := r.Store.Point(old.Point)
		require.ErrorIs(t, err, points.ErrNotFound)
		x, from, done, err := r.Keeper.Use(old.Point)
		require.NoError(t, err)
		require.Same(t, r.LongTerm, from)
		require.Equal(t, old.Root, x.Root)
		require.ErrorContains(t, r.Keeper.Delete(t.Context(), mate, old.Point), "being served")
		done()
		p, err := r.pin(old, api.PointPatch{Pinned: true, Reason: new("the year's end")})
		require.NoError(t, err)
		require.True(t, p.Pinned)
		_, err = r.Keeper.Lock(t.Context(), mate, far[2].Point, api.LockRequest{Until: time.Now().Add(span.Week)})
		require.NoError(t, err)
		require.ErrorContains(t, r.Keeper.Delete(t.Context(), mate, far[2].Point), "locked")
		require.NoError(t, r.Keeper.Delete(t.Context(), mate, far[3].Point))
		_, err = r.LongTerm.Point(far[3].Point)
		require.ErrorIs(t, err, points.ErrNotFound)

		// The rung goes: what it alone kept goes too, but for what is pinned or locked.
		r.edit(func(s *group.Spec) { s.Promise.Keep = ladder.Ladder{{Each: time.Hour, For: 6 * time.Hour}} })
		time.Sleep(time.Hour)
		synctest.Wait()
		left := map[string]bool{}
		for _, x := range r.LongTerm.Points(r.g.ID) {
			left[x.Point] = true
		}
		require.Equal(t, map[string]bool{old.Point: true, far[2].Point: true}, left)
	})
}

// The copies outlive the point store, and the next point is numbered after them.
func TestLongTermPointsSurviveTheStore(t *testing.T) {
	longTerm(t, "1h 6h, 1d 60d long-term", func(t *testing.T, r *rig) {
		for range 4 * 8 {
			r.seal()
			time.Sleep(3 * time.Hour)
		}
		time.Sleep(time.Hour)
		synctest.Wait()
		far := r.LongTerm.Points(r.g.ID)
		require.GreaterOrEqual(t, len(far), 3)
		_, err := r.pin(far[0], api.PointPatch{Pinned: true, Reason: new("before the upgrade")})
		require.NoError(t, err)

		require.NoError(t, r.LosePoints(t.Context()))
		defer r.work()()
		all, total := r.list(keeper.Filter{})
		require.Len(t, far, total)
		for n, at := range r.where() {
			require.Equal(t, []string{"long-term store"}, at, "point %d", n)
		}
		ps, _, err := r.Keeper.List(t.Context(), keeper.Filter{})
		require.NoError(t, err)
		require.True(t, ps[len(ps)-1].Pinned)
		x := r.seal()
		require.Equal(t, all[0]+1, x.Number)
		_, from, done, err := r.Keeper.Use(far[0].Point)
		require.NoError(t, err)
		require.Same(t, r.LongTerm, from)
		done()
	})
}

// Without a long-term store, what belongs there stays; when there is one, it is brought
// there.
func TestALongTermStoreThatComesLater(t *testing.T) {
	l, err := ladder.Parse("1h 6h, 1d 60d long-term")
	require.NoError(t, err)
	virtual(t, l, func(t *testing.T, r *rig) {
		for range 4 * 8 {
			r.seal()
			time.Sleep(3 * time.Hour)
		}
		r.Keeper.Prune(t.Context(), r.g)
		before, total := r.list(keeper.Filter{})
		require.GreaterOrEqual(t, total, 5)
		require.Nil(t, r.Keeper.StoreView().LongTerm)
		require.NoError(t, r.AddLongTerm(t.Context()))
		defer func() { require.NoError(t, r.LongTerm.Close()) }()
		defer r.work()()
		time.Sleep(90 * time.Minute)
		synctest.Wait()
		after, _ := r.list(keeper.Filter{})
		require.Subset(t, before, after)
		require.Subset(t, after, []int64{24, 16, 8})
		require.GreaterOrEqual(t, len(r.LongTerm.Points(r.g.ID)), 3)
		require.Less(t, len(r.Store.Points(r.g.ID)), total)
	})
}

// While the long-term store cannot be written, nothing is let go here; it is tried again.
func TestALongTermStoreThatIsFull(t *testing.T) {
	longTerm(t, "1h 6h, 1d 60d long-term", func(t *testing.T, r *rig) {
		r.LongTerm.SetFloor(1 << 50)
		for range 10 { // a day is over
			r.seal()
			time.Sleep(3 * time.Hour)
		}
		synctest.Wait()
		require.Empty(t, r.LongTerm.Points(""))
		require.Positive(t, r.Keeper.StoreView().LongTerm.Awaiting)
		require.True(t, r.Keeper.StoreView().LongTerm.Full)
		_, total := r.list(keeper.Filter{})
		require.Equal(t, len(r.Store.Points(r.g.ID)), total)
		r.LongTerm.SetFloor(0)
		time.Sleep(time.Hour)
		synctest.Wait()
		require.NotEmpty(t, r.LongTerm.Points(""))
		require.Zero(t, r.Keeper.StoreView().LongTerm.Awaiting)
	})
}
