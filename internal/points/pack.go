package points

import (
	"bytes"
	"encoding/binary"
	"errors"
	"fmt"
	"hash/crc32"
	"io"
	"path/filepath"
	"sort"
	"strconv"
	"strings"
	"time"

	"kestrel/internal/files"
)

const (
	packMagic  = "KTPACK\x00\x01"
	packHeader = 32
	// packFull is the size at which a pack is closed and the next one begun.
	packFull = 256 << 20

	indexMagic  = "KTINDEX\x02"
	indexHeader = 8 + packHeader + 8 + 4
	indexEntry  = 32 + 4 + 4 + 1 + 3
)

// entry is where one record lies in its pack.
type entry struct {
	name   Name
	offset uint32 // of the record header
	stored uint32
	kind   Kind
	key    uint16 // that it is encrypted under
	// before is where the same content stood when this was appended by a sweep;
	// zero if it was new. It is not written.
	before location
}

func packPath(dir string, number uint32) string {
	return filepath.Join(dir, fmt.Sprintf("%08x.pack", number))
}

func indexPath(dir string, number uint32) string {
	return filepath.Join(dir, fmt.Sprintf("%08x.index", number))
}

// listPacks gives the numbers of the packs, ascending.
func (s *Store) listPacks() ([]uint32, error) {
	names, err := s.fs.List(s.packDir())
	if err != nil {
		return nil, fmt.Errorf("list packs: %w", err)
	}
	var out []uint32
	for _, n := range names {
		base, ok := strings.CutSuffix(n.Name, ".pack")
		if !ok {
			continue
		}
		if v, err := strconv.ParseUint(base, 16, 32); err == nil {
			out = append(out, uint32(v))
		}
	}
	sort.Slice(out, func(i, j int) bool { return out[i] < out[j] })
	return out, nil
}

func appendPackHeader(b []byte, number uint32, created time.Time) []byte {
	le := binary.LittleEndian
	b = append(b, packMagic...)
	b = le.AppendUint64(b, uint64(number))
	b = le.AppendUint64(b, uint64(created.UnixNano()))
	b = le.AppendUint32(b, crc32.Checksum(b[len(b)-24:], castagnoli))
	return append(b, 0, 0, 0, 0)
}

// damage is a stretch of a pack that holds no readable record.
type damage struct {
	offset, length int64
	why            string
	tail           bool // nothing readable follows: an append cut short, not a fault
	name           Name // of the record, where its header could be read
}

// scanPack reads a whole pack and calls visit for each record whose payload
// matches its checksum. It never gives up at a bad stretch: it looks for the
// next readable record and reports what lay between.
func (s *Store) scanPack(f io.ReaderAt, size int64, visit func(e entry, r record, payload []byte) error) ([]damage, error) {
	var bad []damage
	head := make([]byte, packHeader)
	if n, err := f.ReadAt(head, 0); n < packHeader {
		if err != nil && !errors.Is(err, io.EOF) {
			return nil, fmt.Errorf("read pack header: %w", err)
		}
		return []damage{{0, size, "pack header cut short", true, Name{}}}, nil
	}
	if string(head[:8]) != packMagic || binary.LittleEndian.Uint32(head[24:]) != crc32.Checksum(head[:24], castagnoli) {
		bad = append(bad, damage{offset: 0, length: packHeader, why: "pack header does not match its checksum"})
	}
	buf := make([]byte, recordHeader+maxStored)
	for off := int64(packHeader); off < size; {
		n, err := f.ReadAt(buf[:min(int64(len(buf)), size-off)], off)
		if err != nil && !errors.Is(err, io.EOF) {
			return bad, fmt.Errorf("read pack: %w", err)
		}
		r, why := parseRecord(buf[:n])
		if why == nil && recordHeader+int(r.stored) > n {
			why = fmt.Errorf("payload cut short: %w", ErrDamaged)
		}
		if why != nil {
			next := findRecord(f, off+1, size)
			bad = append(bad, damage{off, next - off, why.Error(), next == size, Name{}})
			off = next
			continue
		}
		name, err := s.plainName(r.key, r.name)
		if err != nil {
			return bad, err
		}
		payload := buf[recordHeader : recordHeader+int(r.stored)]
		if crc32.Checksum(payload, castagnoli) != r.sum {
			bad = append(bad, damage{off, int64(recordHeader) + int64(r.stored), fmt.Sprintf("payload of %s does not match its checksum", name), false, name})
		} else if err := visit(entry{name: name, key: r.key, offset: uint32(off), stored: r.stored, kind: r.kind}, r, payload); err != nil {
			return bad, err
		}
		off += int64(recordHeader) + int64(r.stored)
	}
	return bad, nil
}

// findRecord looks for the next valid record header at or after off and gives
// size if there is none.
func findRecord(f io.ReaderAt, off, size int64) int64 {
	magic := binary.LittleEndian.AppendUint32(nil, recordMagic)
	window := make([]byte, 1<<20)
	for off < size {
		n, _ := f.ReadAt(window[:min(int64(len(window)), size-off)], off)
		if n < recordHeader {
			return size
		}
		for at := 0; ; {
			i := bytes.Index(window[at:n], magic)
			if i < 0 || at+i+recordHeader > n {
				break
			}
			at += i
			if _, err := parseRecord(window[at:n]); err == nil {
				return off + int64(at)
			}
			at++
		}
		if off += int64(n - recordHeader + 1); n < len(window) {
			return size
		}
	}
	return size
}

// writePackIndex writes the index of a closed pack. It is a cache: if it is
// missing or does not match, the pack is scanned. It holds the pack's header, as
// the number of a pack that was swept may be used again.
func (s *Store) writePackIndex(f io.ReaderAt, number uint32, size int64, entries []entry) error {
	le := binary.LittleEndian
	b := append([]byte(nil), indexMagic...)
	b, err := appendHeaderOf(b, f)
	if err != nil {
		return err
	}
	b = le.AppendUint64(b, uint64(size))
	b = le.AppendUint32(b, uint32(len(entries)))
	for _, e := range entries {
		name := e.name
		if e.key != 0 {
			k, err := s.ring.key(e.key)
			if err != nil {
				return err
			}
			name = k.veil(name)
		}
		b = append(b, name[:]...)
		b = le.AppendUint32(b, e.offset)
		b = le.AppendUint32(b, e.stored)
		b = append(b, byte(e.kind), 0, byte(e.key), byte(e.key>>8))
	}
	b = le.AppendUint32(b, crc32.Checksum(b, castagnoli))
	return files.WriteWhole(s.fs, indexPath(s.packDir(), number), b)
}

// appendHeaderOf appends the first bytes of a pack, filled up with zeros where it
// is cut short.
func appendHeaderOf(b []byte, f io.ReaderAt) ([]byte, error) {
	var head [packHeader]byte
	if _, err := f.ReadAt(head[:], 0); err != nil && !errors.Is(err, io.EOF) {
		return nil, fmt.Errorf("read pack header: %w", err)
	}
	return append(b, head[:]...), nil
}

// readPackIndex reads what writePackIndex wrote and checks it against the
// pack's header and size.
func (s *Store) readPackIndex(f io.ReaderAt, number uint32, packSize int64) ([]entry, error) {
	b, err := s.fs.ReadFile(indexPath(s.packDir(), number))
	if err != nil {
		return nil, err
	}
	head, err := appendHeaderOf([]byte(indexMagic), f)
	if err != nil {
		return nil, err
	}
	out, err := parsePackIndex(b, head, number, packSize)
	for i := range out {
		if out[i].name, err = s.plainName(out[i].key, out[i].name); err != nil {
			return nil, err
		}
	}
	return out, err
}

// parsePackIndex reads an index that begins with head and belongs to a pack of
// that size.
func parsePackIndex(b, head []byte, number uint32, packSize int64) ([]entry, error) {
	le := binary.LittleEndian
	if len(b) < indexHeader+4 || !bytes.Equal(b[:len(head)], head) || le.Uint32(b[len(b)-4:]) != crc32.Checksum(b[:len(b)-4], castagnoli) ||
		le.Uint64(b[len(head):]) != uint64(packSize) || len(b) != indexHeader+4+indexEntry*int(le.Uint32(b[indexHeader-4:])) {
		return nil, fmt.Errorf("pack index %08x: %w", number, ErrDamaged)
	}
	out := make([]entry, le.Uint32(b[indexHeader-4:]))
	for i := range out {
		e := b[indexHeader+indexEntry*i:]
		copy(out[i].name[:], e)
		out[i].offset, out[i].stored, out[i].kind = le.Uint32(e[32:]), le.Uint32(e[36:]), Kind(e[40])
		out[i].key = le.Uint16(e[42:])
	}
	return out, nil
}
