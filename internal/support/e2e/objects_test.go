package e2e

import (
	"net/http"
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/require"

	"kestrel/internal/api"
	"kestrel/internal/files/bucket/buckettest"
)

// A recovery site whose points are objects: cycles seal, wait while the objects
// cannot be reached and go on by themselves, and after the state folder's cache
// is lost all points are read from the objects.
func TestPointsAreKeptAsObjects(t *testing.T) {
	t.Parallel()
	server := buckettest.Start(t)
	w := paired(t)
	w.recovery.env = []string{"KESTREL_S3_ACCESS_KEY=" + server.Config.AccessKey, "KESTREL_S3_SECRET_KEY=" + server.Config.SecretKey}
	w.recovery.kill()
	require.NoError(t, os.RemoveAll(filepath.Join(w.recovery.dir, "state", "store")))
	w.recovery.extra = append(w.recovery.extra, "--store-objects", server.Config.URL, "--store-cache", "4MiB")
	w.recovery.start()
	g := w.protect("Ticketing", promise(3600, 0), "tick-db", "tick-app")
	s := must[api.Store](w.recovery, http.MethodGet, "/store", nil)
	require.Equal(t, server.Config.URL, *s.Objects)

	server.Stop()
	must[api.Group](w.home, http.MethodPost, "/groups/"+g.ID+"/run", nil)
	w.eventually("home says why the cycle waits", func() bool { return len(w.home.group(g.ID).Reasons) > 0 })
	require.Len(t, w.recovery.points(g.ID), 1)
	server.Run(t)
	w.eventually("it goes on by itself", func() bool { return len(w.recovery.points(g.ID)) == 2 })

	w.recovery.kill()
	store := filepath.Join(w.recovery.dir, "state", "store")
	for _, lost := range []string{"packs", "cache", "copies", "intakes"} {
		require.NoError(t, os.RemoveAll(filepath.Join(store, lost)))
	}
	w.recovery.start()
	for _, p := range w.recovery.points(g.ID) {
		require.Positive(t, w.served(p))
	}
	op := w.do(w.recovery, http.MethodPost, "/store/verify")
	require.Equal(t, api.OperationStateDone, op.State, "%v", op.Message)
	require.LessOrEqual(t, *must[api.Store](w.recovery, http.MethodGet, "/store", nil).CacheBytes, int64(8<<20))
}
