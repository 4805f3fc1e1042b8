package points_test

import (
	"bytes"
	"context"
	"io/fs"
	"math/rand/v2"
	"os"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"kestrel/internal/points"
)

// holds tells whether any file below dir but the keys contains some bytes.
func holds(t *testing.T, dir string, what []byte) (found bool) {
	t.Helper()
	require.NoError(t, filepath.WalkDir(dir, func(path string, d fs.DirEntry, err error) error {
		if err != nil || d.IsDir() {
			return err
		}
		b, err := os.ReadFile(path)
		found = found || bytes.Contains(b, what)
		return err
	}))
	return found
}

// An encrypted store opens with its secret only, holds nothing in the clear, not
// even a block's name, and a store that was in the clear is brought over.
func TestEncryptionAtRest(t *testing.T) {
	keyFile := points.Secret{Key: bytes.Repeat([]byte{7, 1}, 20)}
	for name, secret := range map[string]points.Secret{"key file": keyFile, "passphrase": {Passphrase: []byte("seven seals on the pier")}} {
		t.Run(name, func(t *testing.T) {
			dir := t.TempDir()
			opened := func(secret points.Secret) (*points.Store, error) {
				return points.Open(dir, points.Options{Now: time.Now, Secret: secret})
			}
			s, err := opened(points.Secret{})
			require.NoError(t, err)
			r := rand.New(rand.NewPCG(1, 2))
			m := &model{data: make([]byte, diskSize)}
			pass := func() *points.Seal {
				in, _, err := s.OpenIntake(spec(m))
				require.NoError(t, err)
				for i := range int64(5) {
					send(t, in, m, i*20, randomBlock(r))
				}
				m.base = seal(t, in, time.Now())
				return m.base
			}
			pass()
			require.True(t, holds(t, dir, []byte("ticketing")), "in the clear before")
			require.NoError(t, s.Close())

			s, err = opened(secret)
			require.NoError(t, err)
			require.Equal(t, uint16(1), s.Keys().Number)
			require.Positive(t, s.Keys().StaleBytes)
			old := m.base
			before := content(t, s, old)
			pass()
			in, _, err := s.OpenIntake(spec(m)) // what arrives is hidden as well
			require.NoError(t, err)
			half := randomBlock(r)
			send(t, in, m, 3, half)
			_, err = s.Rewrite(context.Background())
			require.NoError(t, err)
			require.Zero(t, s.Keys().StaleBytes)
			name := points.NameOf(half)
			for _, secretText := range [][]byte{half[:64], name[:], before[:64], []byte("ticketing"), []byte("tick-db"), m.base.Root[:]} {
				require.False(t, holds(t, dir, secretText), "%x", secretText)
			}
			require.NoError(t, s.Close())

			_, err = opened(points.Secret{})
			require.ErrorIs(t, err, points.ErrKeyNeeded)
			_, err = opened(points.Secret{Key: bytes.Repeat([]byte{9}, 32), Passphrase: []byte("no")})
			require.Error(t, err)

			// A new secret, and a new key for what is written from now on.
			next := points.Secret{Key: bytes.Repeat([]byte{3}, 32)}
			require.NoError(t, points.Rekey(dir, points.Options{Now: time.Now, Secret: secret}, next, true))
			_, err = opened(secret)
			require.Error(t, err, "the old secret is of no use")
			s, err = opened(next)
			require.NoError(t, err)
			defer func() { _ = s.Close() }()
			require.Equal(t, uint16(2), s.Keys().Number)
			in, err = s.Intake(in.ID)
			require.NoError(t, err)
			require.Equal(t, byte(1<<3), in.Recorded(0)[0]&(1<<3), "what has arrived counts")
			m.base = seal(t, in, time.Now())
			require.Equal(t, m.data, content(t, s, m.base))
			require.Positive(t, s.Keys().StaleBytes)
			_, err = s.Rewrite(context.Background())
			require.NoError(t, err)
			require.Zero(t, s.Keys().StaleBytes)
			require.Equal(t, before, content(t, s, old))
			rep, err := s.Verify(context.Background(), nil)
			require.NoError(t, err)
			require.Empty(t, rep.Faults)
		})
	}
}
