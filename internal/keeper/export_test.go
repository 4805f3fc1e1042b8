package keeper_test

import (
	"net/http"
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/require"

	"kestrel/internal/api"
	"kestrel/internal/core/ladder"
	"kestrel/internal/places"
)

// Points are exported, and images carried in, only where that was allowed at the start,
// and nothing that is there is written over.
func TestExportsGoWhereTheyMay(t *testing.T) {
	virtual(t, ladder.Ladder{}, func(t *testing.T, r *rig) {
		x := r.seal()
		dir := t.TempDir()
		own, out := filepath.Join(dir, "state"), filepath.Join(dir, "out")
		for _, d := range []string{own, out, filepath.Join(out, "taken")} {
			require.NoError(t, os.Mkdir(d, 0o700))
		}
		export := func(to string) error {
			_, err := r.Keeper.Export(t.Context(), mate, x.Point, api.ExportRequest{Directory: to})
			return err
		}
		p := fault(t, export(out))
		require.Equal(t, "directory", p.Errors[0].Field)
		require.Contains(t, p.Errors[0].Message, "start the service with", "nothing is allowed by itself")
		_, err := r.Keeper.CarryCopy(t.Context(), mate, api.NewCopy{Path: "/etc/shadow"})
		require.Equal(t, "path", fault(t, err).Errors[0].Field)

		r.Keeper.Exports, err = places.Open("--export-dir", []string{out}, own)
		require.NoError(t, err)
		require.NoError(t, os.Symlink(own, filepath.Join(out, "link")))
		for _, bad := range []string{"out", own, "/etc", out + "/../state", out + "/link/in"} {
			require.Equal(t, http.StatusUnprocessableEntity, fault(t, export(bad)).Status, bad)
		}
		left, err := os.ReadDir(own)
		require.NoError(t, err)
		require.Empty(t, left)
		name := r.g.Spec.Machines[0].Name
		require.NoError(t, os.WriteFile(filepath.Join(out, "taken", name+".d.raw"), []byte("mine"), 0o600))
		require.Contains(t, fault(t, export(filepath.Join(out, "taken"))).Errors[0].Message, "exists already")
		require.NoError(t, export(filepath.Join(out, "new", "folder")))
		st, err := os.Stat(filepath.Join(out, "new", "folder"))
		require.NoError(t, err)
		require.Equal(t, os.FileMode(0o700), st.Mode().Perm())
	})
}
