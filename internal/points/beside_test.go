package points_test

import (
	"bytes"
	"os"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"kestrel/internal/points"
)

// What is kept beside points is there after the store was closed, in the clear only where the
// store is, and is no seal.
func TestKeptBesidePoints(t *testing.T) {
	for name, secret := range map[string]points.Secret{"in the clear": {}, "encrypted": {Key: bytes.Repeat([]byte{7}, 32)}} {
		t.Run(name, func(t *testing.T) {
			dir := t.TempDir()
			open := func() *points.Store {
				s, err := points.Open(dir, points.Options{Now: time.Now, Secret: secret})
				require.NoError(t, err)
				return s
			}
			s := open()
			b, err := s.Beside(groupID, "berth")
			require.NoError(t, err)
			require.Nil(t, b)
			require.NoError(t, s.KeepBeside(groupID, "berth", nil), "nothing to remove")
			require.NoError(t, s.KeepBeside(groupID, "berth", []byte(`{"platform":"quay"}`)))
			require.Error(t, s.KeepBeside(groupID, "berth", make([]byte, points.MaxBeside+1)))
			require.NoError(t, s.Close())
			raw, err := os.ReadFile(filepath.Join(dir, "seals", groupID, "berth.json"))
			require.NoError(t, err)
			require.Equal(t, secret.Key == nil, bytes.Contains(raw, []byte("quay")))
			s = open()
			defer func() { require.NoError(t, s.Close()) }()
			require.Empty(t, s.Points(groupID))
			b, err = s.Beside(groupID, "berth")
			require.NoError(t, err)
			require.JSONEq(t, `{"platform":"quay"}`, string(b))
			require.NoError(t, s.KeepBeside(groupID, "berth", nil))
			b, err = s.Beside(groupID, "berth")
			require.NoError(t, err)
			require.Nil(t, b)
		})
	}
}
