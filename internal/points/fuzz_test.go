package points

import (
	"bytes"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
)

// What is read from the disk or the link may be anything. Decoders must neither
// panic nor accept what they would not have written.

func FuzzRecord(f *testing.F) {
	f.Add(record{KindBlock, EncodingS2, BlockSize, 100, Name{1}, 7, 0}.append(nil))
	f.Add(record{KindNode, EncodingRaw, 60, 60, Name{}, 0, 3}.append(nil))
	f.Add([]byte("KTR1"))
	f.Fuzz(func(t *testing.T, b []byte) {
		r, err := parseRecord(b)
		if err != nil {
			require.ErrorIs(t, err, ErrDamaged)
			return
		}
		require.LessOrEqual(t, r.stored, uint32(maxStored))
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

// fuzzStore is a store in the clear, or encrypted under one key.
func fuzzStore(t testing.TB, encrypted bool) *Store {
	o := Options{Now: func() time.Time { return time.Unix(1_790_000_000, 0) }}
	if encrypted {
		o.Secret.Key = bytes.Repeat([]byte("pier"), 8)
	}
	s, err := Open(t.TempDir(), o)
	require.NoError(t, err)
	t.Cleanup(func() { _ = s.Close() })
	return s
}

// A pack may hold anything: reading it whole ends, and gives only records whose
// checksums match.
func FuzzPack(f *testing.F) {
	s := fuzzStore(f, false)
	whole := appendPackHeader(nil, 1, time.Unix(1, 0))
	for i := range 3 {
		b := bytes.Repeat([]byte{byte(i + 1)}, 80)
		whole = s.encode(whole, record{kind: KindNode, length: 80, stored: 80, name: nodeName(b), sum: checksum(b)}, b)
	}
	f.Add(whole)
	f.Add(whole[:len(whole)-20])
	f.Add(append(bytes.Clone(whole[:100]), whole[60:]...))
	f.Fuzz(func(t *testing.T, b []byte) {
		var covered int64
		bad, err := s.scanPack(bytes.NewReader(b), int64(len(b)), func(e entry, r record, payload []byte) error {
			require.Equal(t, checksum(payload), r.sum)
			require.LessOrEqual(t, int(e.offset)+recordHeader+len(payload), len(b))
			covered += recordHeader + int64(len(payload))
			return nil
		})
		if err != nil {
			require.ErrorIs(t, err, ErrDamaged)
			return
		}
		for _, d := range bad {
			covered += d.length
		}
		require.GreaterOrEqual(t, covered+packHeader, int64(len(b)), "every byte is a record's or is reported")
	})
}

func FuzzPackIndex(f *testing.F) {
	s := fuzzStore(f, false)
	head := append([]byte(indexMagic), appendPackHeader(nil, 1, time.Unix(1, 0))...)
	require.NoError(f, s.writePackIndex(bytes.NewReader(head[8:]), 1, 500, []entry{{name: Name{1}, offset: 32, stored: 9, kind: KindBlock}, {name: Name{2}, offset: 97, stored: 9, kind: KindNode, key: 0}}))
	good, err := s.fs.ReadFile(indexPath(s.packDir(), 1))
	require.NoError(f, err)
	f.Add(good)
	f.Add(good[:60])
	f.Fuzz(func(t *testing.T, b []byte) {
		entries, err := parsePackIndex(b, head, 1, 500)
		if err != nil {
			require.ErrorIs(t, err, ErrDamaged)
			return
		}
		require.Len(t, b, indexHeader+4+indexEntry*len(entries))
	})
}

// A journal may be cut or spoiled anywhere: what is replayed is valid.
func FuzzJournal(f *testing.F) {
	for _, encrypted := range []bool{false, true} {
		s := fuzzStore(f, encrypted)
		in, _, err := s.OpenIntake(IntakeSpec{ID: "0197a000-0000-7000-8000-000000000001", Group: SealGroup{ID: CarriedGroup}, Disks: []IntakeDisk{{Size: 1 << 20}}})
		require.NoError(f, err)
		block := bytes.Repeat([]byte{3}, BlockSize)
		require.NoError(f, in.Put(NameOf(block), EncodingRaw, BlockSize, block))
		require.NoError(f, in.Record([]Entry{{Index: 3, Count: 1, Name: NameOf(block)}, {Index: 4, Count: 5, Same: true}}))
		b := make([]byte, in.offset)
		_, err = in.journal.ReadAt(b, 0)
		require.NoError(f, err)
		f.Add(b, encrypted)
	}
	stores := map[bool]*Store{false: fuzzStore(f, false), true: fuzzStore(f, true)}
	f.Fuzz(func(t *testing.T, b []byte, encrypted bool) {
		s := stores[encrypted]
		j, err := s.fs.Create(filepath.Join(s.dir, "journal"))
		require.NoError(t, err)
		defer func() { _ = j.Close() }()
		_, err = j.WriteAt(b, 0)
		require.NoError(t, err)
		in := s.newIntake(IntakeSpec{Disks: []IntakeDisk{{Size: 1 << 20}}})
		in.journal = j
		require.NoError(t, in.replay(func(e Entry) {
			require.NoError(t, in.valid(e))
			in.mark(e)
		}))
		require.LessOrEqual(t, in.offset, int64(len(b)))
	})
}

func FuzzKeyRing(f *testing.F) {
	secret := Secret{Key: bytes.Repeat([]byte("pier"), 8)}
	r := &ring{}
	require.NoError(f, r.add(time.Unix(1, 0)))
	good, err := r.closeUnder(secret)
	require.NoError(f, err)
	f.Add(good)
	f.Add(good[:100])
	f.Add([]byte(`{"format":"kestrel tide key ring","version":1,"keys":[{"number":1}]}`))
	f.Fuzz(func(t *testing.T, b []byte) {
		got, err := openRing(b, secret)
		if err == nil {
			require.NotNil(t, got.active)
			require.Equal(t, got.active, got.keys[got.active.number])
		}
	})
}

func FuzzBox(f *testing.F) {
	s := fuzzStore(f, true)
	f.Add(s.box([]byte(`{"a":1}`)))
	f.Add([]byte(boxMagic))
	f.Fuzz(func(t *testing.T, b []byte) {
		if _, err := s.unbox(b); err != nil {
			require.ErrorIs(t, err, ErrDamaged)
		}
	})
}
