package chain_test

import (
	"crypto/ed25519"
	"encoding/json"
	"fmt"
	"slices"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"kestrel/internal/core/chain"
)

var now = time.Date(2026, 11, 25, 12, 0, 0, 123456000, time.UTC)

// trail makes lines that follow from one another.
func trail(t require.TestingT, n int) []chain.Line {
	var out []chain.Line
	var prev []byte
	for i := range n {
		l := chain.Line{Number: int64(i + 1), At: now.Add(time.Duration(i) * time.Second), Who: "anna", Actor: "person", Origin: "192.0.2.7", Kind: "group", Subject: "Ticketing", Object: "g", Revision: int64(i), Changes: json.RawMessage(`[{"to":"b","from":"a"}]`), Text: fmt.Sprint("line ", i)}
		var err error
		l.Hash, err = chain.Next(prev, l)
		require.NoError(t, err)
		prev = l.Hash
		out = append(out, l)
	}
	return out
}

func verify(lines []chain.Line, heads []chain.Held, number int64, hash []byte) []string {
	v := chain.New(heads)
	for _, l := range lines {
		v.Add(l)
	}
	v.End(number, hash)
	return v.Faults
}

// Whatever is done to a trail shows: a field changed, a line left out, put in, moved,
// or cut off the end.
func TestWhateverIsDoneShows(t *testing.T) {
	key := ed25519.NewKeyFromSeed(make([]byte, 32))
	rapid.Check(t, func(t *rapid.T) {
		n := rapid.IntRange(3, 20).Draw(t, "lines")
		lines := trail(t, n)
		last := lines[n-1]
		heads := []chain.Held{{Head: chain.Sign(key, last.Number, last.Hash, now), By: "Eastmole"}}
		require.Empty(t, verify(lines, heads, last.Number, last.Hash))
		i := rapid.IntRange(0, n-1).Draw(t, "at")
		l := &lines[i]
		number, hash := last.Number, last.Hash
		switch rapid.IntRange(0, 8).Draw(t, "what") {
		case 0:
			l.Text += "x"
		case 1:
			l.Who, l.Actor = "annap", "erson" // the same letters, differently cut
		case 2:
			l.At = l.At.Add(time.Microsecond)
		case 3:
			l.Changes = json.RawMessage(`[{"from":"a","to":"c"}]`)
		case 4:
			l.Revision++
		case 5:
			lines = slices.Delete(lines, i, i+1)
		case 6:
			lines = slices.Insert(lines, i, *l)
		case 7: // all of it written anew, and the records with it: only others know
			lines[i].Text += "x"
			var prev []byte
			for j := range lines {
				lines[j].Hash, _ = chain.Next(prev, lines[j])
				prev = lines[j].Hash
			}
			hash = prev
		case 8: // cut off, and the records with it
			lines = lines[:i]
			number, hash = int64(i), nil
			if i > 0 {
				hash = lines[i-1].Hash
			}
		}
		require.NotEmpty(t, verify(lines, heads, number, hash))
	})
}

// One fault is told once, and in the words of what holds against it.
func TestFaultsAreTold(t *testing.T) {
	lines := trail(t, 5)
	lines[2].Text = "another"
	faults := verify(lines, nil, 5, lines[4].Hash)
	require.Len(t, faults, 1)
	require.Contains(t, faults[0], "Line 3 of 2026-11-25T12:00:02Z was changed")
	lines = trail(t, 5)
	require.Equal(t, []string{"The trail ends at line 3, and has had 5."}, verify(lines[:3], nil, 5, lines[4].Hash))
	require.Contains(t, verify(slices.Delete(trail(t, 5), 1, 2), nil, 5, lines[4].Hash)[0], "After line 1 comes line 3")
}

// The form of JSON does not matter, since databases have their own.
func TestChangesAreHashedInOneForm(t *testing.T) {
	l := trail(t, 1)[0]
	l.Changes = json.RawMessage(`[ {"from": "a",  "to": "b"} ]`)
	h, err := chain.Next(nil, l)
	require.NoError(t, err)
	require.Equal(t, l.Hash, h)
	l.Changes = json.RawMessage(`[`)
	_, err = chain.Next(nil, l)
	require.ErrorContains(t, err, "line 1")
}

// A head is good only under the key that signed it, and as it was signed.
func TestHeadsAreSigned(t *testing.T) {
	key, other := ed25519.NewKeyFromSeed(make([]byte, 32)), ed25519.NewKeyFromSeed(append(make([]byte, 31), 1))
	h := chain.Sign(key, 7, []byte("hash"), now)
	good := key.Public().(ed25519.PublicKey)
	require.True(t, h.Good(good))
	require.False(t, h.Good(other.Public().(ed25519.PublicKey)))
	require.False(t, h.Good(nil))
	for _, change := range []func(h *chain.Head){func(h *chain.Head) { h.Number++ }, func(h *chain.Head) { h.At = h.At.Add(time.Second) }, func(h *chain.Head) { h.Hash = []byte("hasg") }} {
		x := h
		change(&x)
		require.False(t, x.Good(good))
	}
}
