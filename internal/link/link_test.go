package link

import (
	"bytes"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"kestrel/internal/points"
	"kestrel/internal/problem"
)

func TestInviteSurvivesCopyingAndNoticesLoss(t *testing.T) {
	v := Invite{Site: "Norhaven", SiteID: "id", Address: "norhaven.skerry.example:7443", Fingerprint: bytes.Repeat([]byte{7}, 32), Token: bytes.Repeat([]byte{9}, 24), For: "Eastmole",
		Expires: time.Date(2026, 11, 23, 12, 0, 0, 0, time.UTC)}
	text := v.Text()
	got, err := ParseInvite(" " + text[:30] + "\n  " + text[30:] + "\n")
	require.NoError(t, err)
	require.Equal(t, v, got)
	rapid.Check(t, func(t *rapid.T) {
		at := rapid.IntRange(0, len(text)-1).Draw(t, "at")
		var broken string
		switch rapid.IntRange(0, 2).Draw(t, "how") {
		case 0:
			broken = text[:at]
		case 1:
			broken = text[:at] + text[at+1:]
		default:
			c := byte('A')
			if text[at] == c {
				c = 'B'
			}
			broken = text[:at] + string(c) + text[at+1:]
		}
		_, err := ParseInvite(broken)
		require.Error(t, err)
	})
}

func TestIdentityStaysTheSame(t *testing.T) {
	dir := t.TempDir()
	a, err := LoadIdentity(dir, time.Now())
	require.NoError(t, err)
	b, err := LoadIdentity(dir, time.Now())
	require.NoError(t, err)
	require.Equal(t, a.Fingerprint, b.Fingerprint)
	other, err := LoadIdentity(t.TempDir(), time.Now())
	require.NoError(t, err)
	require.NotEqual(t, a.Fingerprint, other.Fingerprint)
}

// sink takes whatever receive lets through.
type sink struct{ blocks, entries int }

func (s *sink) Put(points.Name, points.Encoding, uint32, []byte) error { s.blocks++; return nil }
func (s *sink) Record(es []points.Entry) error                         { s.entries += len(es); return nil }

// Whatever bytes arrive, receive answers with a refusal or takes what is whole;
// it never takes more than was announced and never panics.
func TestReceiveTakesNoNonsense(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		b := rapid.SliceOfN(rapid.Byte(), 0, 400).Draw(t, "bytes")
		if len(b) >= 8 && rapid.Bool().Draw(t, "small counts") {
			copy(b, []byte{b[0] % 4, 0, 0, 0, b[4] % 4, 0, 0, 0})
		}
		s := &sink{}
		n, err := receive(bytes.NewReader(b), s)
		if err != nil {
			p, ok := problem.Of(err)
			require.True(t, ok)
			require.Equal(t, 400, p.Status)
			return
		}
		require.LessOrEqual(t, n, int64(len(b)))
		require.LessOrEqual(t, s.blocks, 3)
		require.LessOrEqual(t, s.entries, 3)
	})
}
