// Package qcow2 reads and writes disk images in the qcow2 format, versions 2 and
// 3, as QEMU's document docs/interop/qcow2.txt describes it. Images that rest on
// another file, are encrypted or keep their data elsewhere are refused.
package qcow2

import (
	"bytes"
	"compress/flate"
	"encoding/binary"
	"errors"
	"fmt"
	"io"
	"sync"

	"github.com/klauspost/compress/zstd"
)

const (
	magic      = 0x514649fb
	headerSize = 104

	featureDirty   = 1 << 0
	featureCorrupt = 1 << 1
	featureZstd    = 1 << 3

	offsetMask     = 0x00fffffffffffe00
	flagCopied     = 1 << 63
	flagCompressed = 1 << 62
	flagZero       = 1 << 0

	maxL1 = 32 << 20 // bytes, as QEMU has it
)

// ErrImage is wrapped by errors about an image that cannot be read.
var ErrImage = errors.New("not a qcow2 image that can be read")

// Is reports whether a file begins as a qcow2 image does.
func Is(r io.ReaderAt) bool {
	var b [4]byte
	_, err := r.ReadAt(b[:], 0)
	return err == nil && binary.BigEndian.Uint32(b[:]) == magic
}

// Image is a qcow2 image open for reading. It may be read by many at once.
type Image struct {
	file io.ReaderAt
	size int64
	bits uint
	l1   []uint64
	zstd bool // compressed clusters are so, and not deflated

	mu     sync.Mutex
	tables map[uint64][]uint64 // L2 tables by offset
}

// keptTables bounds the L2 tables in memory: 512 KiB each at most, as a rule 64.
const keptTables = 64

// Open reads the head of an image.
func Open(file io.ReaderAt) (*Image, error) {
	be := binary.BigEndian
	h := make([]byte, headerSize)
	if n, err := file.ReadAt(h, 0); n < 72 {
		return nil, fmt.Errorf("%w: its header is cut short: %v", ErrImage, err)
	}
	version := be.Uint32(h[4:])
	if be.Uint32(h) != magic || version != 2 && version != 3 {
		return nil, fmt.Errorf("%w: it does not begin as version 2 or 3 does", ErrImage)
	}
	im := &Image{file: file, bits: uint(be.Uint32(h[20:])), size: int64(be.Uint64(h[24:])), tables: map[uint64][]uint64{}}
	var features uint64
	if version == 3 {
		features = be.Uint64(h[72:])
	}
	switch {
	case be.Uint64(h[8:]) != 0:
		return nil, fmt.Errorf("%w: it rests on a backing file; make it whole first (qemu-img convert)", ErrImage)
	case be.Uint32(h[32:]) != 0:
		return nil, fmt.Errorf("%w: it is encrypted", ErrImage)
	case features&featureCorrupt != 0:
		return nil, fmt.Errorf("%w: it is marked as corrupt; mend it first (qemu-img check -r)", ErrImage)
	case features&^uint64(featureDirty|featureZstd) != 0:
		return nil, fmt.Errorf("%w: it has features %#x, which are not known here; convert it without them (qemu-img convert)", ErrImage, features)
	case im.bits < 9 || im.bits > 21:
		return nil, fmt.Errorf("%w: clusters of 2^%d bytes", ErrImage, im.bits)
	case im.size <= 0 || im.size > 1<<47:
		return nil, fmt.Errorf("%w: a size of %d bytes", ErrImage, im.size)
	}
	im.zstd = features&featureZstd != 0
	entries := int64(be.Uint32(h[36:]))
	perTable := int64(1) << (im.bits - 3)
	need := (im.size + perTable<<im.bits - 1) / (perTable << im.bits)
	if entries < need || entries*8 > maxL1 {
		return nil, fmt.Errorf("%w: an L1 table of %d entries where %d are due", ErrImage, entries, need)
	}
	var err error
	im.l1, err = im.table(be.Uint64(h[40:]), need)
	return im, err
}

func (im *Image) table(at uint64, entries int64) ([]uint64, error) {
	if at > 1<<62 {
		return nil, fmt.Errorf("%w: a table at %d", ErrImage, at)
	}
	b := make([]byte, entries*8)
	if _, err := im.file.ReadAt(b, int64(at)); err != nil {
		return nil, fmt.Errorf("%w: its tables are cut short: %v", ErrImage, err)
	}
	out := make([]uint64, entries)
	for i := range out {
		out[i] = binary.BigEndian.Uint64(b[i*8:])
	}
	return out, nil
}

// Size is the length of the disk in bytes.
func (im *Image) Size() int64 { return im.size }

// entry gives the L2 entry of the cluster at off; 0 if it has none.
func (im *Image) entry(off int64) (uint64, error) {
	cluster := off >> im.bits
	perTable := int64(1) << (im.bits - 3)
	at := im.l1[cluster/perTable] & offsetMask
	if at == 0 {
		return 0, nil
	}
	im.mu.Lock()
	t, ok := im.tables[at]
	im.mu.Unlock()
	if !ok {
		var err error
		if t, err = im.table(at, perTable); err != nil {
			return 0, err
		}
		im.mu.Lock()
		if len(im.tables) >= keptTables {
			clear(im.tables)
		}
		im.tables[at] = t
		im.mu.Unlock()
	}
	return t[cluster%perTable], nil
}

// ReadAt implements io.ReaderAt.
func (im *Image) ReadAt(p []byte, off int64) (int, error) {
	if off < 0 {
		return 0, fmt.Errorf("read at negative offset %d", off)
	}
	done := 0
	size := int64(1) << im.bits
	for done < len(p) && off < im.size {
		within := off & (size - 1)
		n := int(min(size-within, im.size-off, int64(len(p)-done)))
		e, err := im.entry(off)
		if err == nil {
			err = im.read(p[done:done+n], e, within)
		}
		if err != nil {
			return done, fmt.Errorf("cluster at %d: %w", off-within, err)
		}
		done, off = done+n, off+int64(n)
	}
	if done < len(p) {
		return done, io.EOF
	}
	return done, nil
}

func (im *Image) read(p []byte, e uint64, within int64) error {
	switch {
	case e&flagCompressed != 0:
		b, err := im.inflate(e)
		if err == nil {
			copy(p, b[within:])
		}
		return err
	case e&flagZero != 0 || e&offsetMask == 0:
		clear(p)
		return nil
	}
	n, err := im.file.ReadAt(p, int64(e&offsetMask)+within)
	if errors.Is(err, io.EOF) {
		// The last cluster of a file need not be there whole.
		clear(p[n:])
		return nil
	}
	return err
}

// inflate gives a compressed cluster.
func (im *Image) inflate(e uint64) ([]byte, error) {
	shift := 62 - (im.bits - 8)
	at := int64(e & (1<<shift - 1))
	sectors := int64(e>>shift)&(1<<(im.bits-8)-1) + 1
	packed := make([]byte, sectors*512-at%512)
	n, err := im.file.ReadAt(packed, at)
	if err != nil && !errors.Is(err, io.EOF) {
		return nil, err
	}
	out := make([]byte, int64(1)<<im.bits)
	if im.zstd {
		// The frame is followed by whatever fills its last sector.
		r, err := zstd.NewReader(bytes.NewReader(packed[:n]), zstd.WithDecoderConcurrency(1), zstd.WithDecoderMaxMemory(4<<20))
		if err != nil {
			return nil, err
		}
		defer r.Close()
		if _, err := io.ReadFull(r, out); err != nil {
			return nil, fmt.Errorf("%w: decompress: %v", ErrImage, err)
		}
		return out, nil
	}
	r := flate.NewReader(bytes.NewReader(packed[:n]))
	if _, err := io.ReadFull(r, out); err != nil {
		return nil, fmt.Errorf("%w: decompress: %v", ErrImage, err)
	}
	return out, nil
}
