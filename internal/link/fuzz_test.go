package link

import (
	"bytes"
	"encoding/binary"
	"encoding/json"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"kestrel/internal/cycle"
	"kestrel/internal/points"
	"kestrel/internal/problem"
)

// A ship message may be anything: it is refused, or what is whole is taken.
func FuzzShip(f *testing.F) {
	le := binary.LittleEndian
	block := bytes.Repeat([]byte("harbour "), points.BlockSize/8)
	enc, stored := points.Encode(nil, block, points.EncodingS2)
	name := points.NameOf(block)
	b := le.AppendUint32(le.AppendUint32(nil, 1), 1)
	b = append(append(b, name[:]...), byte(enc), 0, 0, 0)
	b = append(le.AppendUint32(b, uint32(len(stored))), stored...)
	b = points.Entry{Count: 1, Name: name}.Append(b)
	f.Add(b)
	f.Add(b[:len(b)-9])
	f.Add(bytes.Repeat([]byte{0xff}, 8))
	f.Fuzz(func(t *testing.T, b []byte) {
		n, err := receive(bytes.NewReader(b), &sink{})
		if err != nil {
			_, ok := problem.Of(err)
			require.True(t, ok, "%v", err)
			return
		}
		require.LessOrEqual(t, n, int64(len(b)))
	})
}

// What a home site asks for and seals may be anything, in a store that goes on
// afterwards.
func FuzzOpenAndSeal(f *testing.F) {
	open, err := json.Marshal(cycle.OpenRequest{ID: "0197a000-0000-7000-8000-000000000001", Group: points.SealGroup{ID: "0197a000-0000-7000-8000-000000000002"},
		Disks: []cycle.OpenRequestDisk{{Machine: "m", Key: "d", Size: 1 << 20}}})
	require.NoError(f, err)
	seal, err := json.Marshal(points.Seal{CaptureAt: time.Unix(1, 0), Machines: []points.SealMachine{{ID: "m", Disks: []points.SealDisk{{Key: "d"}}}}})
	require.NoError(f, err)
	f.Add(open, seal)
	f.Add([]byte(`{"id":"x","disks":[{"size":-1}]}`), []byte(`{}`))
	f.Fuzz(func(t *testing.T, open, seal []byte) {
		var r cycle.OpenRequest
		var x points.Seal
		if json.Unmarshal(open, &r) != nil || json.Unmarshal(seal, &x) != nil {
			return
		}
		for _, d := range r.Disks {
			if d.Size > 1<<30 {
				return // possible, and a lot of memory for a fuzzer
			}
		}
		s, err := points.Open(t.TempDir(), points.Options{Now: time.Now})
		require.NoError(t, err)
		defer func() { require.NoError(t, s.Close()) }()
		opened, err := cycle.Receive(t.Context(), s, r)
		if err != nil {
			return
		}
		in, err := s.Intake(opened.Intake)
		require.NoError(t, err)
		if y, err := in.Seal(x); err == nil {
			require.Equal(t, r.Group.ID, y.Group.ID, "a group is what was opened, whatever the seal says")
			_, err := s.Point(y.Point)
			require.NoError(t, err)
		}
	})
}

func FuzzInvite(f *testing.F) {
	v := Invite{Site: "Norhaven", SiteID: "id", Address: "norhaven.skerry.example:7443", Fingerprint: bytes.Repeat([]byte{7}, 32), Token: bytes.Repeat([]byte{9}, 24), Expires: time.Unix(1_790_000_000, 0).UTC()}
	f.Add(v.Text())
	f.Add("tide1.")
	f.Fuzz(func(t *testing.T, text string) {
		v, err := ParseInvite(text)
		if err != nil {
			return
		}
		again, err := ParseInvite(v.Text())
		require.NoError(t, err)
		require.Equal(t, v, again)
	})
}
