package lookout_test

import (
	"encoding/json"
	"errors"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"kestrel/internal/api"
	"kestrel/internal/core/group"
	"kestrel/internal/directory"
	"kestrel/internal/lookout"
	"kestrel/internal/support/rooms"
)

// What the recovery site sees is known at home as well, since when it was first seen, and is
// gone when it is mended.
func TestBothSitesKnow(t *testing.T) {
	ctx, home, recovery := rooms.Paired(t)
	anna := rooms.Anna()
	g, err := home.Sealed(ctx, rooms.NewGroup())
	require.NoError(t, err)
	at := func(h *rooms.House) directory.Record {
		r, ok := h.Groups.Get(g.ID)
		require.True(t, ok)
		return r
	}
	_, known := recovery.Lookout.Of(at(recovery))
	require.False(t, known, "it was not looked at yet")
	require.Nil(t, recovery.Lookout.Tell(g.ID))
	look := func() lookout.Seen {
		t.Helper()
		recovery.Lookout.Look()
		here, known := recovery.Lookout.Of(at(recovery))
		require.True(t, known)
		require.NoError(t, home.Until(ctx, func() bool {
			there, known := home.Lookout.Of(at(home))
			return known && len(there.Findings) == len(here.Findings) && there.Ready == here.Ready
		}))
		return here
	}
	has := func(x lookout.Seen, part string) *lookout.Finding {
		for i := range x.Findings {
			if strings.Contains(x.Findings[i].What, part) {
				return &x.Findings[i]
			}
		}
		return nil
	}
	first := look()
	require.False(t, first.Ready)
	require.NotNil(t, has(first, "No platform is chosen"))

	p, err := recovery.Inventory.Create(ctx, anna, api.NewPlatform{Name: "dock", Kind: "lab", Address: "http://127.0.0.1:2"})
	require.NoError(t, err)
	_, err = recovery.Berths.Write(ctx, anna, g.ID, 0, json.RawMessage(`{"platform":"dock","name":"{name}-em"}`))
	require.NoError(t, err)
	recovery.Inventory.Refresh(ctx, p.ID)
	second := look()
	require.Nil(t, has(second, "No platform is chosen"), "it is mended")
	unmapped := has(second, "has no live network")
	require.NotNil(t, unmapped)
	require.False(t, unmapped.Stops)

	recovery.Shed.Fail(errors.New("the door is shut"))
	recovery.Inventory.Refresh(ctx, p.ID)
	recovery.Yard.Set([]string{"tick-db-em"}, time.Now().Add(-time.Hour))
	third := look()
	for _, part := range []string{"dock cannot be reached.", "runs here live", "certificate with which disks of points are served has ended"} {
		require.NotNil(t, has(third, part), part)
	}
	require.True(t, third.Findings[0].Stops)
	require.Equal(t, unmapped.Since, has(third, "has no live network").Since, "since it was first seen")

	more := append([]group.Machine(nil), at(home).Spec.Machines...)
	more[0].Disks = append(append([]group.Disk(nil), more[0].Disks...), group.Disk{Key: "new", Label: "a new disk", SizeBytes: 1 << 30})
	home.Shed.Fail(errors.New("so that no cycle has it"))
	_, _, err = home.Groups.Update(ctx, anna, g.ID, group.Patch{Machines: &more}, nil, func(directory.Record, []group.Change) string { return "a disk" })
	require.NoError(t, err)
	require.NoError(t, recovery.Until(ctx, func() bool { return at(recovery).Revision == at(home).Revision }))
	require.NotNil(t, has(look(), "has a disk a new disk that is not in point"))

	recovery.Shed.Fail(nil)
	recovery.Inventory.Refresh(ctx, p.ID)
	recovery.Yard.Set(nil, time.Time{})
	require.Nil(t, has(look(), "cannot be reached"))
}

// What cannot be read is not taken, and what was seen too long ago says nothing of now.
func TestHearing(t *testing.T) {
	ctx, home, _ := rooms.Paired(t)
	g, err := home.Sealed(ctx, rooms.NewGroup())
	require.NoError(t, err)
	r, _ := home.Groups.Get(g.ID)
	home.Lookout.Hear(g.ID, json.RawMessage(`{"ready":"perhaps"}`))
	_, known := home.Lookout.Of(r)
	require.False(t, known)
	home.Lookout.Hear(g.ID, json.RawMessage(`{"ready":true,"findings":[],"at":"2001-01-01T00:00:00Z"}`))
	x, known := home.Lookout.Of(r)
	require.True(t, known && x.Ready)
	require.WithinDuration(t, time.Now(), x.At, time.Minute, "when it was heard, on our clock")
}
