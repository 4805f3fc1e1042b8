package sealed_test

import (
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/require"

	"kestrel/internal/sealed"
)

// What was sealed opens with the same key file, and with no other, nor when it was changed.
func TestBox(t *testing.T) {
	dir := t.TempDir()
	box, err := sealed.Open(dir)
	require.NoError(t, err)
	st, err := os.Stat(filepath.Join(dir, "secrets.key"))
	require.NoError(t, err)
	require.Zero(t, st.Mode()&0o077)
	b := box.Seal("lab password")
	require.NotContains(t, string(b), "lab")
	require.NotEqual(t, b, box.Seal("lab password"))
	again, err := sealed.Open(dir)
	require.NoError(t, err)
	text, err := again.Open(b)
	require.NoError(t, err)
	require.Equal(t, "lab password", text)
	other, err := sealed.Open(t.TempDir())
	require.NoError(t, err)
	_, err = other.Open(b)
	require.ErrorContains(t, err, "another key file")
	for i := range b {
		c := append([]byte{}, b...)
		c[i] ^= 1
		_, err = again.Open(c)
		require.Error(t, err)
	}
	_, err = again.Open(b[:5])
	require.ErrorContains(t, err, "cut short")
}
