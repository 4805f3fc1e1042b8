package points

import (
	"encoding/binary"
	"errors"
	"fmt"
	"hash/crc32"
	"sync"

	"github.com/klauspost/compress/s2"
	"github.com/klauspost/compress/zstd"
)

// Kind tells what a record holds.
type Kind uint8

// The kinds of records.
const (
	KindBlock Kind = 1
	KindNode  Kind = 2
)

// Encoding tells how the content of a record is stored.
type Encoding uint8

// The encodings.
const (
	EncodingRaw  Encoding = 0
	EncodingS2   Encoding = 1 // the block format of S2, an extension of Snappy
	EncodingZstd Encoding = 2 // one frame (RFC 8878)
)

const (
	recordMagic  = 0x3152544b // "KTR1", little endian
	recordHeader = 56
	maxContent   = BlockSize
	maxStored    = maxContent + sealedMore
)

// castagnoli is the CRC-32C table (RFC 3720); read only.
var castagnoli = crc32.MakeTable(crc32.Castagnoli)

// ErrDamaged is wrapped by every error about stored bytes that are not what
// was written.
var ErrDamaged = errors.New("stored bytes are damaged")

// record is the header of one stored piece; docs/formats.md has the layout.
type record struct {
	kind     Kind
	encoding Encoding
	length   uint32 // of the content
	stored   uint32 // of the payload that follows the header
	name     Name
	sum      uint32 // CRC-32C of the payload
	key      uint16 // under which name and payload are encrypted; 0: in the clear
}

func checksum(b []byte) uint32 { return crc32.Checksum(b, castagnoli) }

// bound gives the part of the header that an encrypted payload is bound to.
func (r record) bound(b []byte) []byte {
	r.sum = 0
	return r.append(b)[:48]
}

func (r record) append(b []byte) []byte {
	le := binary.LittleEndian
	at := len(b)
	b = le.AppendUint32(b, recordMagic)
	b = append(b, byte(r.kind), byte(r.encoding), byte(r.key), byte(r.key>>8))
	b = le.AppendUint32(b, r.length)
	b = le.AppendUint32(b, r.stored)
	b = append(b, r.name[:]...)
	b = le.AppendUint32(b, r.sum)
	return le.AppendUint32(b, crc32.Checksum(b[at:], castagnoli))
}

func parseRecord(b []byte) (record, error) {
	le := binary.LittleEndian
	if len(b) < recordHeader {
		return record{}, fmt.Errorf("record header cut short: %w", ErrDamaged)
	}
	b = b[:recordHeader]
	if le.Uint32(b) != recordMagic || le.Uint32(b[52:]) != crc32.Checksum(b[:52], castagnoli) {
		return record{}, fmt.Errorf("record header does not match its checksum: %w", ErrDamaged)
	}
	r := record{kind: Kind(b[4]), encoding: Encoding(b[5]), length: le.Uint32(b[8:]), stored: le.Uint32(b[12:]), sum: le.Uint32(b[48:]), key: le.Uint16(b[6:])}
	copy(r.name[:], b[16:48])
	limit := uint32(maxContent)
	if r.key != 0 {
		limit = maxStored
	}
	if r.length > maxContent || r.stored > limit || (r.kind != KindBlock && r.kind != KindNode) || r.encoding > EncodingZstd {
		return record{}, fmt.Errorf("record header has impossible values: %w", ErrDamaged)
	}
	return r, nil
}

// MaxEncoded is room enough for any encoding of a block while it is made.
const MaxEncoded = BlockSize + BlockSize/6 + 64

// Encode compresses content for storing or shipping in the way wanted; content
// that does not shrink stays as it is. The result may share memory with content
// or dst.
func Encode(dst, content []byte, want Encoding) (Encoding, []byte) {
	var out []byte
	switch want {
	case EncodingS2:
		if n := s2.MaxEncodedLen(len(content)); cap(dst) < n {
			dst = make([]byte, n)
		}
		out = s2.Encode(dst[:cap(dst)], content)
	case EncodingZstd:
		out = zstdCoder().enc.EncodeAll(content, dst[:0])
	default:
		return EncodingRaw, content
	}
	if len(out) >= len(content)-len(content)/32 {
		return EncodingRaw, content
	}
	return want, out
}

// zstdCoder compresses and decompresses single blocks. It keeps nothing from one
// to the next, and may be used by many at once.
var zstdCoder = sync.OnceValue(func() (c struct {
	enc *zstd.Encoder
	dec *zstd.Decoder
}) {
	// The checksum is ours already, and options that are constant cannot fail.
	c.enc, _ = zstd.NewWriter(nil, zstd.WithEncoderLevel(zstd.SpeedDefault), zstd.WithEncoderCRC(false), zstd.WithWindowSize(BlockSize))
	c.dec, _ = zstd.NewReader(nil, zstd.WithDecoderMaxMemory(maxContent), zstd.WithDecoderConcurrency(0))
	return c
})

// decode undoes Encode. The length bounds what is allocated: hostile input
// cannot ask for more than a block.
func decode(dst []byte, enc Encoding, length uint32, stored []byte) ([]byte, error) {
	switch enc {
	case EncodingRaw:
		if uint32(len(stored)) != length {
			return nil, fmt.Errorf("payload of %d bytes where %d are due: %w", len(stored), length, ErrDamaged)
		}
		return append(dst[:0], stored...), nil
	case EncodingS2:
		n, err := s2.DecodedLen(stored)
		if err != nil || uint32(n) != length || length > maxContent {
			return nil, fmt.Errorf("compressed payload has an impossible length: %w", ErrDamaged)
		}
		out, err := s2.Decode(dst[:cap(dst)], stored)
		if err != nil {
			return nil, fmt.Errorf("decompress: %v: %w", err, ErrDamaged)
		}
		return out, nil
	case EncodingZstd:
		if length > maxContent {
			return nil, fmt.Errorf("compressed payload has an impossible length: %w", ErrDamaged)
		}
		out, err := zstdCoder().dec.DecodeAll(stored, dst[:0])
		if err != nil {
			return nil, fmt.Errorf("decompress: %v: %w", err, ErrDamaged)
		}
		if uint32(len(out)) != length {
			return nil, fmt.Errorf("payload of %d bytes where %d are due: %w", len(out), length, ErrDamaged)
		}
		return out, nil
	}
	return nil, fmt.Errorf("encoding %d is not known: %w", enc, ErrDamaged)
}

// verify decodes a payload and checks it against its name.
func verify(dst []byte, kind Kind, enc Encoding, length uint32, stored []byte, name Name) ([]byte, error) {
	content, err := decode(dst, enc, length, stored)
	if err != nil {
		return nil, err
	}
	var got Name
	if kind == KindNode {
		got = nodeName(content)
	} else {
		if len(content) != BlockSize {
			return nil, fmt.Errorf("block of %d bytes: %w", len(content), ErrDamaged)
		}
		got = NameOf(content)
	}
	if got != name {
		return nil, fmt.Errorf("content of %s hashes to %s: %w", name, got, ErrDamaged)
	}
	return content, nil
}
