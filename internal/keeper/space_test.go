package keeper_test

import (
	"bytes"
	"context"
	"testing"
	"testing/synctest"
	"time"

	"github.com/stretchr/testify/require"

	"kestrel/internal/core/ladder"
	"kestrel/internal/keeper"
	"kestrel/internal/points"
)

func block(n byte) []byte { return bytes.Repeat([]byte{n, 'k'}, points.BlockSize/2) }

// Whose room it is is known soon after points have come or gone, of the groups that somebody
// may see, and said of each point.
func TestWhoseRoomItIs(t *testing.T) {
	virtual(t, ladder.Ladder{{For: 6 * time.Hour}}, func(t *testing.T, r *rig) {
		ctx, cancel := context.WithCancel(t.Context())
		done := make(chan struct{})
		go func() { r.Keeper.Account(ctx); close(done) }()
		defer func() { cancel(); <-done }()
		all := func(string) bool { return true }
		one := r.seal(block(1))
		time.Sleep(2 * time.Minute)
		synctest.Wait()
		before := r.Keeper.Spaces(all)
		require.Len(t, before, 1)
		require.Len(t, before[0].Groups, 1)
		g := before[0].Groups[0]
		require.Equal(t, []any{r.g.ID, "Ticketing", 1}, []any{g.ID, g.Name, g.Points})
		require.Positive(t, g.AloneBytes)
		require.Equal(t, g.AloneBytes, before[0].NeededBytes)
		require.Equal(t, g.AloneBytes, g.Machines[0].AloneBytes)
		share, ok := r.Keeper.GroupSpace(r.g.ID)
		require.True(t, ok)
		require.Equal(t, g.AloneBytes, share.Alone)
		require.Empty(t, r.Keeper.Spaces(func(string) bool { return false })[0].Groups)

		time.Sleep(time.Minute)
		r.seal(block(2))
		time.Sleep(2 * time.Minute)
		synctest.Wait()
		require.Equal(t, 2, r.Keeper.Spaces(all)[0].Groups[0].Points)
		ps, _, err := r.Keeper.List(t.Context(), keeper.Filter{})
		require.NoError(t, err)
		freed := int64(0)
		for _, p := range ps {
			require.NotNil(t, p.AloneBytes)
			if p.ID == one.Point {
				freed = *p.AloneBytes
			}
		}
		was := r.Keeper.Spaces(all)[0].NeededBytes
		require.NoError(t, r.Keeper.Delete(t.Context(), mate, one.Point))
		time.Sleep(2 * time.Minute)
		synctest.Wait()
		require.Equal(t, was-freed, r.Keeper.Spaces(all)[0].NeededBytes)
	})
}
