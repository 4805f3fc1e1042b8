package e2e

import (
	"context"
	"fmt"
	"net/http"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/google/uuid"
	"github.com/stretchr/testify/require"

	"kestrel/internal/api"
)

// An encrypted store whose database is lost, and its indexes as well: all of its
// points are back in a new database, pinned as they were and to the byte, and
// once the sites are paired again cycles go on with changes only.
func TestStoreIsAdopted(t *testing.T) {
	t.Parallel()
	w := paired(t)
	key := filepath.Join(t.TempDir(), "store.key")
	out, err := w.recovery.kestrel(nil, "store", "new-key", key)
	require.NoError(t, err, out)
	w.recovery.kill()
	w.recovery.extra = append(w.recovery.extra, "--store-key-file", key)
	w.recovery.start()
	g := w.protect("Ticketing", promise(3600, 0), "tick-db", "tick-app")
	must[api.Group](w.home, http.MethodPost, "/groups/"+g.ID+"/run", nil)
	w.eventually("a second point", func() bool { return len(w.recovery.points(g.ID)) == 2 })
	before := w.recovery.points(g.ID)
	must[api.Point](w.recovery, http.MethodPatch, "/points/"+before[1].ID, api.PointPatch{Pinned: true})
	require.True(t, must[api.Store](w.recovery, http.MethodGet, "/store", nil).Encryption.On)

	w.recovery.kill()
	w.recovery.start() // which writes the indexes of what was open
	w.recovery.stop()
	store := filepath.Join(w.recovery.dir, "state", "store")
	indexes, err := filepath.Glob(filepath.Join(store, "packs", "*.index"))
	require.NoError(t, err)
	require.NotEmpty(t, indexes)
	for _, f := range indexes {
		require.NoError(t, os.Remove(f))
	}
	full := w.recovery.db
	w.recovery.db, err = cluster.Database(context.Background(), "t"+strings.ReplaceAll(uuid.NewString(), "-", ""))
	require.NoError(t, err)
	out, err = w.recovery.kestrel(nil, "store", "adopt", store, "--database", w.recovery.db)
	require.Error(t, err)
	require.Contains(t, out, "encrypted")
	out, err = w.recovery.kestrel(nil, "store", "adopt", store, "--database", full, "--key-file", key)
	require.Error(t, err, "a database that holds a site is left alone")
	require.Contains(t, out, "holds a site already")
	out, err = w.recovery.kestrel(nil, "store", "adopt", store, "--database", w.recovery.db, "--key-file", key)
	require.NoError(t, err, out)
	require.Contains(t, out, "2, 1 of them pinned")
	w.recovery.start()
	w.recovery.welcome()

	after := w.recovery.points(g.ID)
	require.Len(t, after, 2)
	for i := range after {
		require.Equal(t, before[i].ID, after[i].ID)
		require.Equal(t, before[i].Machines, after[i].Machines)
		require.Equal(t, i == 1, after[i].Pinned)
		require.Positive(t, w.served(after[i]))
	}
	require.Equal(t, api.GroupDirection("ended"), w.recovery.group(g.ID).Direction)
	// In a disaster the first sentence says what there is, and how to start from it.
	b := must[api.Board](w.recovery, http.MethodGet, "/board", nil)
	said := fmt.Sprint(b.Headline, b.Dark)
	require.Contains(t, said, "2 points")
	require.Contains(t, said, "kestrel landing create Ticketing")
	require.NotContains(t, said, "Nothing is protected yet")
	require.NotContains(t, said, "lose everything")

	in := must[api.InvitationSecret](w.recovery, http.MethodPost, "/invitations", api.NewInvitation{})
	must[api.Link](w.home, http.MethodPost, "/links", api.AcceptInvitation{Invitation: in.Text})
	w.eventually("the group is received again", func() bool { return w.recovery.group(g.ID).Direction == "in" })
	must[api.Group](w.home, http.MethodPost, "/groups/"+g.ID+"/run", nil)
	w.eventually("a third point", func() bool { return len(w.recovery.points(g.ID)) == 3 })
	require.Positive(t, w.served(w.recovery.points(g.ID)[0]))
	require.Equal(t, "changes", must[[]api.Cycle](w.home, http.MethodGet, "/groups/"+g.ID+"/cycles", nil)[0].Kind)
}
