package e2e

import (
	"context"
	"net/http"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/google/uuid"
	"github.com/stretchr/testify/require"

	"kestrel/internal/api"
	"kestrel/internal/files/bucket/buckettest"
)

// A rung is kept in a bucket beside the point store: its points are copied there once their
// stretch is over. When the point store is lost they are listed, verified and read from
// there, and when the database is lost as well they are adopted from there alone.
func TestLongTermRungsInABucket(t *testing.T) {
	t.Parallel()
	server := buckettest.Start(t)
	w := paired(t)
	w.recovery.env = []string{"KESTREL_LONG_TERM_S3_ACCESS_KEY=" + server.Config.AccessKey, "KESTREL_LONG_TERM_S3_SECRET_KEY=" + server.Config.SecretKey}
	place := []string{"--long-term-objects", server.Config.URL, "--long-term-cache", "4MiB"}
	w.recovery.extra = append(w.recovery.extra, place...)
	w.recovery.kill()
	w.recovery.start()
	p := promise(3600, 0)
	p.Keep = []api.Rung{{ForSeconds: 3600}, {EachSeconds: 60, ForSeconds: 86400, LongTerm: new(true)}}
	g := w.protect("Ticketing", p, "tick-db", "tick-app")
	first := w.recovery.points(g.ID)[0]
	require.Equal(t, []string{"point store"}, first.Where)
	// The next point makes the site look again; the minute of the first is over by then, or
	// at a later look.
	w.eventually("it is in both", func() bool {
		return len(must[api.Point](w.recovery, http.MethodGet, "/points/"+first.ID, nil).Where) == 2
	})
	s := must[api.Store](w.recovery, http.MethodGet, "/store", nil)
	require.Equal(t, server.Config.URL, *s.LongTerm.Objects)
	require.Equal(t, 1, s.LongTerm.Points)
	require.Zero(t, s.LongTerm.OnlyThere)

	w.recovery.stop()
	require.NoError(t, os.RemoveAll(filepath.Join(w.recovery.dir, "state", "store")))
	w.recovery.start()
	left := w.recovery.points(g.ID)
	require.Len(t, left, 1)
	require.Equal(t, first.ID, left[0].ID)
	require.Equal(t, []string{"long-term store"}, left[0].Where)
	require.Positive(t, w.served(left[0]))
	op := w.do(w.recovery, http.MethodPost, "/store/verify")
	require.Equal(t, api.OperationStateDone, op.State, "%v", op.Message)
	must[api.Group](w.home, http.MethodPost, "/groups/"+g.ID+"/run", nil)
	w.eventually("cycles go on", func() bool { return len(w.recovery.points(g.ID)) == 2 })
	require.Equal(t, first.Number+1, w.recovery.points(g.ID)[0].Number)

	w.recovery.stop()
	for _, gone := range []string{"store", "long-term"} {
		require.NoError(t, os.RemoveAll(filepath.Join(w.recovery.dir, "state", gone)))
	}
	var err error
	w.recovery.db, err = cluster.Database(context.Background(), "t"+strings.ReplaceAll(uuid.NewString(), "-", ""))
	require.NoError(t, err)
	out, err := w.recovery.kestrel(w.recovery.env, append([]string{"store", "adopt", "--take-objects", "--database", w.recovery.db}, place...)...)
	require.NoError(t, err, out)
	require.Contains(t, out, "Points    1, 0 of them pinned")
	w.recovery.extra = append(w.recovery.extra, "--take-objects")
	w.recovery.start()
	w.recovery.welcome()
	left = w.recovery.points(g.ID)
	require.Len(t, left, 1)
	require.Equal(t, first.ID, left[0].ID)
	require.Positive(t, w.served(left[0]))
}
