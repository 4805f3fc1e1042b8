package places_test

import (
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/require"

	"kestrel/internal/places"
)

// Only what lies below the named folders is reached, by whatever way it is named.
func TestWhereFilesMayBe(t *testing.T) {
	dir := t.TempDir()
	state, out, elsewhere := filepath.Join(dir, "state"), filepath.Join(dir, "out"), filepath.Join(dir, "elsewhere")
	for _, d := range []string{state, out, elsewhere, filepath.Join(out, "sub")} {
		require.NoError(t, os.MkdirAll(d, 0o700))
	}
	require.NoError(t, os.WriteFile(filepath.Join(elsewhere, "secret"), []byte("x"), 0o600))
	require.NoError(t, os.Symlink(elsewhere, filepath.Join(out, "link")))
	p, err := places.Open("--export-dir", []string{out}, state)
	require.NoError(t, err)
	for path, want := range map[string]string{out + "/a": "a", out + "/sub/../b": "b", out: ".", out + "/sub/c": "sub/c"} {
		root, rel, err := p.Find(path)
		require.NoError(t, err, path)
		require.Equal(t, want, rel)
		require.NoError(t, root.Close())
	}
	for _, path := range []string{"a", "/", elsewhere + "/secret", out + "/../elsewhere/secret", out + "x/a", state + "/store", "/etc/shadow"} {
		_, _, err := p.Find(path)
		require.ErrorIs(t, err, places.ErrElsewhere, path)
		require.ErrorContains(t, err, out)
	}
	root, rel, err := p.Find(out + "/link/secret")
	require.NoError(t, err)
	_, err = root.Open(rel)
	require.Error(t, err, "a link leads nowhere else")
	require.NoError(t, root.Close())
	_, _, err = places.Places{}.Find(out)
	require.ErrorIs(t, err, places.ErrElsewhere)
}

// The site's own folder is for nothing else, nor is one that it lies in.
func TestTheSitesOwnFolder(t *testing.T) {
	dir := t.TempDir()
	state := filepath.Join(dir, "state")
	require.NoError(t, os.MkdirAll(filepath.Join(state, "store"), 0o700))
	require.NoError(t, os.Symlink(state, filepath.Join(dir, "alias")))
	require.NoError(t, os.WriteFile(filepath.Join(dir, "file"), nil, 0o600))
	for _, bad := range []string{state, state + "/store", dir, "/", filepath.Join(dir, "alias", "store"), "relative", filepath.Join(dir, "file"), filepath.Join(dir, "nothing")} {
		_, err := places.Open("--export-dir", []string{bad}, state)
		require.ErrorContains(t, err, "--export-dir", bad)
	}
}
