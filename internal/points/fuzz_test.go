package points

import (
	"bytes"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
)

// What is read from the disk or the link may be anything. Decoders must neither
// panic nor accept what they would not have written.

func FuzzRecord(f *testing.F) {
	f.Add(record{KindBlock, EncodingS2, BlockSize, 100, Name{1}, 7}.append(nil))
	f.Add(record{KindNode, EncodingRaw, 60, 60, Name{}, 0}.append(nil))
	f.Add([]byte("KTR1"))
	f.Fuzz(func(t *testing.T, b []byte) {
		r, err := parseRecord(b)
		if err != nil {
			require.ErrorIs(t, err, ErrDamaged)
			return
		}
		require.LessOrEqual(t, r.stored, uint32(maxContent))
		again, err := parseRecord(r.append(nil))
		require.NoError(t, err)
		require.Equal(t, r, again)
	})
}

func FuzzPayload(f *testing.F) {
	text := bytes.Repeat([]byte("harbour "), BlockSize/8)
	enc, stored := Encode(nil, text, EncodingS2)
	f.Add(uint8(enc), uint32(len(text)), bytes.Clone(stored))
	enc, stored = Encode(nil, text, EncodingZstd)
	f.Add(uint8(enc), uint32(len(text)), bytes.Clone(stored))
	f.Add(uint8(EncodingRaw), uint32(3), []byte("abc"))
	f.Add(uint8(EncodingS2), uint32(1<<31), []byte{0xff, 0xff, 0xff, 0xff, 0x0f})
	f.Fuzz(func(t *testing.T, enc uint8, length uint32, stored []byte) {
		out, err := decode(nil, Encoding(enc), length, stored)
		if err != nil {
			require.ErrorIs(t, err, ErrDamaged)
			return
		}
		require.Len(t, out, int(length))
		if len(out) == BlockSize {
			_, err = verify(nil, KindBlock, Encoding(enc), length, stored, Name{1})
			require.ErrorIs(t, err, ErrDamaged, "content that is not what its name says is never taken")
		}
	})
}

func FuzzNode(f *testing.F) {
	n := node{level: 1}
	n.child[0], n.child[127] = Name{1}, Name{2}
	f.Add(n.encode())
	f.Add((&node{}).encode())
	f.Fuzz(func(t *testing.T, b []byte) {
		n, err := decodeNode(b)
		if err != nil {
			require.ErrorIs(t, err, ErrDamaged)
			return
		}
		again, err := decodeNode(n.encode())
		require.NoError(t, err)
		require.Equal(t, n, again)
	})
}

func FuzzSeal(f *testing.F) {
	s := &Seal{Point: "p", Number: 3, CaptureAt: time.Unix(1, 0).UTC(), Machines: []SealMachine{{ID: "m", Name: "purser", Disks: []SealDisk{{Key: "vda", Size: 1 << 30, Root: Name{9}}}}}}
	b, err := s.encode()
	require.NoError(f, err)
	f.Add(b)
	f.Add(b[:50])
	f.Add([]byte(sealMagic))
	f.Fuzz(func(t *testing.T, b []byte) {
		s, err := decodeSeal(b)
		if err != nil {
			return
		}
		out, err := s.encode()
		require.NoError(t, err)
		_, err = decodeSeal(out)
		require.NoError(t, err)
	})
}
