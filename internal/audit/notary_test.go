package audit_test

import (
	"bytes"
	"fmt"
	"log/slog"
	"testing"
	"testing/synctest"
	"time"

	"github.com/stretchr/testify/require"

	"kestrel/internal/audit"
	"kestrel/internal/clock"
	"kestrel/internal/core/chain"
	"kestrel/internal/events"
	"kestrel/internal/link"
	"kestrel/internal/records"
	"kestrel/internal/support/memory"
)

// notary is that of a site with a key of its own.
func notary(t *testing.T, name string) (*audit.Notary, *link.Identity) {
	t.Helper()
	id, err := link.LoadIdentity(t.TempDir(), time.Now())
	require.NoError(t, err)
	db := memory.New()
	return &audit.Notary{Site: "site of " + name, Name: name, Ledger: db, Signer: id, Trail: audit.New(db, clock.Wall{}, events.NewHub(), slog.New(slog.DiscardHandler)), Clock: clock.Wall{}}, id
}

func write(t *testing.T, n *audit.Notary, lines int) {
	t.Helper()
	for i := range lines {
		n.Trail.Note(t.Context(), anna, audit.Object{Kind: "group"}, "line %d", i)
	}
}

// The newest line is signed once a day, if there is a new one.
func TestTheNewestLineIsSignedDaily(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		n, id := notary(t, "Norhaven")
		require.NoError(t, n.Sign(t.Context()))
		h, err := n.Newest(t.Context())
		require.NoError(t, err)
		require.Nil(t, h, "nothing has happened yet")
		for day := range 3 {
			write(t, n, 2)
			for range 24 {
				require.NoError(t, n.Sign(t.Context()))
				time.Sleep(time.Hour)
			}
			h, err = n.Newest(t.Context())
			require.NoError(t, err)
			require.EqualValues(t, 2*(day+1), h.Number)
			require.True(t, id.Signed(*h))
		}
		heads, err := n.Held(t.Context(), n.Site)
		require.NoError(t, err)
		require.Len(t, heads, 3)
		time.Sleep(5 * 24 * time.Hour)
		require.NoError(t, n.Sign(t.Context()))
		heads, err = n.Held(t.Context(), n.Site)
		require.NoError(t, err)
		require.Len(t, heads, 3, "nothing is signed twice")
	})
}

// A trail is held against what was signed here and what others hold: one that was
// written anew, or cut off, with all that this site keeps, shows by them.
func TestOthersAreWitnesses(t *testing.T) {
	n, id := notary(t, "Norhaven")
	write(t, n, 10)
	require.NoError(t, n.Sign(t.Context()))
	told, err := n.Newest(t.Context())
	require.NoError(t, err)
	witness := func(hs ...chain.Head) []audit.Witness {
		return []audit.Witness{{Name: "Eastmole", Heads: hs}, {Name: "Skarholt", Err: fmt.Errorf("no answer")}}
	}
	v, err := n.Verify(t.Context(), witness(*told))
	require.NoError(t, err)
	require.Empty(t, v.Faults)
	require.EqualValues(t, 10, v.Lines)
	require.Equal(t, 1, v.Heads)

	// The database is another, with the same key.
	other, _ := notary(t, "Norhaven")
	other.Signer = id
	write(t, other, 4)
	v, err = other.Verify(t.Context(), witness(*told))
	require.NoError(t, err)
	require.Len(t, v.Faults, 1)
	require.Contains(t, v.Faults[0], "Line 10, which Eastmole holds")
	write(t, other, 20)
	v, err = other.Verify(t.Context(), witness(*told))
	require.NoError(t, err)
	require.Len(t, v.Faults, 1)
	require.Contains(t, v.Faults[0], "Line 10 is not the one that Eastmole holds")
	// What a witness makes up accuses nobody.
	forged := *told
	forged.Hash = bytes.Repeat([]byte{1}, 32)
	v, err = n.Verify(t.Context(), witness(forged))
	require.NoError(t, err)
	require.Len(t, v.Faults, 1)
	require.Contains(t, v.Faults[0], "What Eastmole holds of line 10 is not signed by this site's key")
}

// What another site signs is kept; that it signs another trail than before is told of.
func TestAnotherSitesTrailIsWatched(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		n, _ := notary(t, "Norhaven")
		_, peer := notary(t, "Eastmole")
		hash := func(b byte) []byte { return bytes.Repeat([]byte{b}, 32) }
		hear := func(number int64, b byte) {
			require.NoError(t, n.Heard(t.Context(), "e", "Eastmole", peer.SignHead(number, hash(b), time.Now())))
			time.Sleep(time.Hour)
		}
		told := func() int {
			lines, err := n.Trail.Lines(t.Context(), records.Sought{Limit: 10, Text: "signs another trail"})
			require.NoError(t, err)
			return len(lines)
		}
		hear(5, 1)
		hear(5, 1)
		hear(9, 2)
		require.Zero(t, told())
		held, err := n.Held(t.Context(), "e")
		require.NoError(t, err)
		require.Len(t, held, 2)
		hear(9, 3)
		require.Equal(t, 1, told(), "the same line is another one")
		hear(3, 4)
		require.Equal(t, 2, told(), "it is shorter than it was")
	})
}
