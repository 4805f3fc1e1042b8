package points

import (
	"testing"
	"time"

	"github.com/google/uuid"
	"github.com/stretchr/testify/require"
)

// breakActive makes the next sync of the pack being written fail.
func breakActive(t *testing.T, s *Store) {
	t.Helper()
	require.NoError(t, s.packs[s.active].file.Close())
}

// What a failed sync may have lost is never sealed, not even if a later sync
// succeeds: it counts as missing, is recorded anew, and then the point is whole.
func TestNothingIsSealedThatASyncLost(t *testing.T) {
	s, err := Open(t.TempDir(), Options{Now: time.Now})
	require.NoError(t, err)
	defer func() { _ = s.Close() }()
	block := make([]byte, BlockSize)
	block[7] = 7
	name := NameOf(block)
	in, _, err := s.OpenIntake(IntakeSpec{ID: uuid.NewString(), Group: SealGroup{ID: uuid.NewString()}, Disks: []IntakeDisk{{Machine: "m", Key: "d", Size: 4 * BlockSize}}})
	require.NoError(t, err)
	seal := func() (*Seal, error) {
		return in.Seal(Seal{CaptureAt: time.Now(), Consistency: "crash", Machines: []SealMachine{{ID: "m", Disks: []SealDisk{{Key: "d"}}}}})
	}
	put := func() {
		require.NoError(t, in.Put(name, EncodingRaw, BlockSize, block))
		require.NoError(t, in.Record([]Entry{{Index: 2, Count: 1, Name: name}}))
	}
	put()
	losses := s.losses.Load()
	breakActive(t, s)
	require.Error(t, s.Sync())
	require.NoError(t, s.Sync(), "another's sync, of what came later")
	require.ErrorIs(t, s.syncSince(losses), errLost)
	require.False(t, s.Has(name))
	var missing *MissingError
	_, err = seal()
	require.ErrorAs(t, err, &missing)
	require.Equal(t, []Name{name}, missing.Names)
	require.Empty(t, in.Recorded(0), "it is asked for again")
	put()
	x, err := seal()
	require.NoError(t, err)
	got := make([]byte, BlockSize)
	_, err = s.Disk(x.Machines[0].Disks[0].Root, 4*BlockSize).ReadAt(got, 2*BlockSize)
	require.NoError(t, err)
	require.Equal(t, block, got)
}
