package e2e

import (
	"net/http"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"kestrel/internal/api"
)

// spoil changes a byte in every so many bytes of a site's packs, as a bad disk
// does.
func (s *siteProc) spoil(every int64) {
	packs, err := filepath.Glob(filepath.Join(s.dir, "state", "store", "packs", "*.pack"))
	require.NoError(s.t, err)
	require.NotEmpty(s.t, packs)
	for _, p := range packs {
		f, err := os.OpenFile(p, os.O_RDWR, 0)
		require.NoError(s.t, err)
		st, err := f.Stat()
		require.NoError(s.t, err)
		for at := every / 2; at < st.Size(); at += every {
			var b [1]byte
			_, err = f.ReadAt(b[:], at)
			require.NoError(s.t, err)
			b[0] ^= 0x40
			_, err = f.WriteAt(b[:], at)
			require.NoError(s.t, err)
		}
		require.NoError(s.t, f.Sync())
		require.NoError(s.t, f.Close())
	}
}

func (w *world) do(s *siteProc, method, path string) api.Operation {
	op := must[api.Operation](s, method, path, nil)
	w.eventually("the operation ends", func() bool {
		op = must[api.Operation](s, http.MethodGet, "/operations/"+op.ID, nil)
		return op.State != api.OperationStateRunning
	})
	return op
}

// Blocks that go bad at the recovery site are found, named and told of at both
// sites; what home still has is fetched with the next cycle, and what it does
// not have is said to be lost.
func TestBadBlocksAreFetchedFromHome(t *testing.T) {
	t.Parallel()
	w := paired(t)
	g := w.protect("Ticketing", promise(3600, 0), "tick-db", "tick-app")
	whole := func() bool { return len(must[[]api.Loss](w.recovery, http.MethodGet, "/store/losses", nil)) == 0 }
	require.True(t, whole())
	w.recovery.spoil(1 << 20)
	op := w.do(w.recovery, http.MethodPost, "/store/verify")
	require.Equal(t, api.OperationStateFailed, op.State)
	lost := must[[]api.Loss](w.recovery, http.MethodGet, "/store/losses", nil)
	require.NotEmpty(t, lost)
	require.Equal(t, "awaited", lost[0].State)
	require.Positive(t, w.recovery.points(g.ID)[0].LostBytes)
	for _, s := range []*siteProc{w.home, w.recovery} {
		w.eventually(s.name+" tells of it", func() bool {
			x := s.group(g.ID)
			return x.LostPoints == 1 && strings.Contains(strings.Join(x.Reasons, " "), "cannot be read whole")
		})
	}
	// Nobody starts machines from it unawares.
	refused := func(in api.NewLanding) (fields []string) {
		_, p := call[[]api.Landing](w.recovery, http.MethodPost, "/landings", in)
		require.NotNil(t, p)
		for _, e := range p.Errors {
			fields = append(fields, e.Field)
		}
		return fields
	}
	in := api.NewLanding{Point: w.recovery.points(g.ID)[0].ID, Platform: new("none")}
	require.Contains(t, refused(in), "notWhole")
	in.NotWhole = new(true)
	require.Equal(t, []string{"platform"}, refused(in))
	// What the guests have written over since is not at home any more.
	must[api.Group](w.home, http.MethodPost, "/groups/"+g.ID+"/run", nil)
	w.eventually("the next point is sealed", func() bool { return len(w.recovery.points(g.ID)) == 2 })
	newest := w.recovery.points(g.ID)[0]
	require.Zero(t, newest.LostBytes)
	require.Positive(t, w.served(newest))
	require.Positive(t, must[api.Store](w.recovery, http.MethodGet, "/store", nil).HealedRecords)
	for _, l := range must[[]api.Loss](w.recovery, http.MethodGet, "/store/losses", nil) {
		require.Equal(t, "lost", l.State, "home was asked for it")
		require.NotEqual(t, newest.ID, l.Point)
	}
	if old := w.recovery.points(g.ID)[1]; old.LostBytes == 0 {
		require.Positive(t, w.served(old))
	} else {
		_, p := call[struct{}](w.recovery, http.MethodDelete, "/points/"+old.ID, nil)
		require.Nil(t, p)
	}
	w.eventually("home is told that all is well", func() bool { return w.home.group(g.ID).LostPoints == 0 })
	require.True(t, whole())
	op = w.do(w.recovery, http.MethodPost, "/store/sweep")
	require.Equal(t, api.OperationStateDone, op.State, "%v", op.Message)
	// The rest of what went bad is in packs that are worth keeping: the bytes
	// stay, and no point needs them.
	w.recovery.kill()
	w.recovery.start()
	require.Positive(t, w.served(w.recovery.points(g.ID)[0]))
}
