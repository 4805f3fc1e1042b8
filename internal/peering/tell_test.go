package peering_test

import (
	"fmt"
	"testing"
	"time"

	"github.com/google/uuid"
	"github.com/stretchr/testify/require"

	core "kestrel/internal/core/group"
	"kestrel/internal/directory"
	"kestrel/internal/link"
	"kestrel/internal/support/rooms"
)

// What has changed here of a home site's groups is told it once, in pieces, from where it left off;
// to one that has heard of another process, from the beginning.
func TestChangesAreToldOnce(t *testing.T) {
	r := newRig(t)
	r.paired()
	var all []link.GroupReport
	byID := map[string]directory.Record{}
	for i := range 70 {
		g := group(fmt.Sprintf("Quay %02d", i))
		all, byID[g.ID] = append(all, report(g)), g
	}
	r.beat(key(1), link.Beat{Groups: all})
	epoch, heard := "", int64(0)
	listen := func() (told map[string]link.GroupState, pieces int) {
		t.Helper()
		told = map[string]link.GroupState{}
		for {
			reply, err := r.p.Beats(t.Context(), key(1), link.Beat{Listen: true, Epoch: epoch, Heard: heard})
			require.NoError(t, err)
			for _, st := range reply.Groups {
				told[st.ID] = st
			}
			epoch, heard, pieces = reply.Epoch, reply.Told, pieces+1
			if !reply.More {
				return told, pieces
			}
			require.NotEmpty(t, reply.Groups)
		}
	}
	told, pieces := listen()
	require.Len(t, told, 70)
	require.Greater(t, pieces, 1)
	told, pieces = listen()
	require.Empty(t, told, "nothing has changed")
	require.Equal(t, 1, pieces)
	g := byID[all[40].ID]
	mirrored, ok := r.Groups.Get(g.ID)
	require.True(t, ok)
	x, err := r.Seal(t.Context(), mirrored, uuid.NewString(), time.Now())
	require.NoError(t, err)
	told, _ = listen()
	require.Len(t, told, 1)
	require.Equal(t, x.Point, told[g.ID].NewestPoint)
	was := heard
	heard = 0 // it has lost what it heard
	told, _ = listen()
	require.Len(t, told, 70)
	require.Equal(t, was, heard)
	epoch = "another process"
	told, _ = listen()
	require.Len(t, told, 70)
	heard += 1000 // of changes that there never were
	told, _ = listen()
	require.Len(t, told, 70)
}

// Two sites tell each other what has changed and nothing else: a beat with nothing new is small,
// whatever the number of groups.
func TestOnlyWhatChangesIsTold(t *testing.T) {
	home, recovery, err := rooms.Pair(t.Context(), t.TempDir())
	require.NoError(t, err)
	defer func() { require.NoError(t, home.Close()); require.NoError(t, recovery.Close()) }()
	var ids []string
	for i := range 80 {
		g := rooms.Record("", rooms.Spec(fmt.Sprintf("Quay %02d", i)))
		g.ID = group("x").ID
		g.Spec.Pause = &core.Pause{By: "Anna", Reason: "nothing is to move", Since: time.Now()}
		g.Link = home.Peering.All()[0].ID
		r, err := home.Groups.Create(t.Context(), rooms.Anna(), g)
		require.NoError(t, err)
		ids = append(ids, r.ID)
	}
	l := home.Peering.All()[0].ID
	home.Peering.Beat(t.Context(), l)
	for _, id := range ids {
		_, ok := recovery.Groups.Get(id)
		require.True(t, ok)
	}
	came := func() map[string]int {
		seen := map[string]int{}
		events, stop := recovery.Hub.Listen()
		defer stop()
		home.Peering.Beat(t.Context(), l)
		for {
			select {
			case e := <-events:
				if e.Type == "group" {
					seen[e.ID]++
				}
			default:
				return seen
			}
		}
	}
	require.Eventually(t, func() bool { return len(came()) == 0 }, 20*time.Second, 50*time.Millisecond, "nothing more is told")
	_, err = home.Groups.Turn(t.Context(), rooms.Anna(), ids[3], func(g *directory.Record) (string, error) {
		g.Spec.Priority, g.Revision = "high", g.Revision+1
		return "it is urgent", nil
	})
	require.NoError(t, err)
	home.Peering.Beat(t.Context(), l)
	g, _ := recovery.Groups.Get(ids[3])
	require.Equal(t, "high", string(g.Spec.Priority))
	require.Eventually(t, func() bool { return len(came()) == 0 }, 20*time.Second, 50*time.Millisecond)
	require.False(t, home.Peering.HeardAt(l).IsZero())
}
