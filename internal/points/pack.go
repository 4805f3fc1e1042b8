package points

import (
	"bufio"
	"bytes"
	"encoding/binary"
	"errors"
	"fmt"
	"hash/crc32"
	"io"
	"os"
	"path/filepath"
	"sort"
	"strconv"
	"strings"
	"time"
)

const (
	packMagic  = "KTPACK\x00\x01"
	packHeader = 32
	// packFull is the size at which a pack is closed and the next one begun.
	packFull = 256 << 20

	indexMagic = "KTINDEX\x01"
	indexEntry = 32 + 4 + 4 + 1 + 3
)

// entry is where one record lies in its pack.
type entry struct {
	name   Name
	offset uint32 // of the record header
	stored uint32
	kind   Kind
}

func packPath(dir string, number uint32) string {
	return filepath.Join(dir, fmt.Sprintf("%08x.pack", number))
}

func indexPath(dir string, number uint32) string {
	return filepath.Join(dir, fmt.Sprintf("%08x.index", number))
}

// listPacks gives the numbers of the packs in dir, ascending.
func listPacks(dir string) ([]uint32, error) {
	names, err := os.ReadDir(dir)
	if err != nil {
		return nil, fmt.Errorf("list packs: %w", err)
	}
	var out []uint32
	for _, n := range names {
		base, ok := strings.CutSuffix(n.Name(), ".pack")
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
func scanPack(f io.ReaderAt, size int64, visit func(e entry, r record, payload []byte) error) ([]damage, error) {
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
	buf := make([]byte, recordHeader+maxContent)
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
		payload := buf[recordHeader : recordHeader+int(r.stored)]
		if crc32.Checksum(payload, castagnoli) != r.sum {
			bad = append(bad, damage{off, int64(recordHeader) + int64(r.stored), fmt.Sprintf("payload of %s does not match its checksum", r.name), false, r.name})
		} else if err := visit(entry{r.name, uint32(off), r.stored, r.kind}, r, payload); err != nil {
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
// missing or does not match, the pack is scanned.
func writePackIndex(dir string, number uint32, size int64, entries []entry) error {
	le := binary.LittleEndian
	b := append([]byte(nil), indexMagic...)
	b = le.AppendUint64(b, uint64(size))
	b = le.AppendUint32(b, uint32(len(entries)))
	for _, e := range entries {
		b = append(b, e.name[:]...)
		b = le.AppendUint32(b, e.offset)
		b = le.AppendUint32(b, e.stored)
		b = append(b, byte(e.kind), 0, 0, 0)
	}
	b = le.AppendUint32(b, crc32.Checksum(b, castagnoli))
	return writeFileSync(indexPath(dir, number), b)
}

// readPackIndex reads what writePackIndex wrote and checks it against the
// pack's size.
func readPackIndex(dir string, number uint32, packSize int64) ([]entry, error) {
	b, err := os.ReadFile(indexPath(dir, number))
	if err != nil {
		return nil, err
	}
	le := binary.LittleEndian
	if len(b) < 24 || string(b[:8]) != indexMagic || le.Uint32(b[len(b)-4:]) != crc32.Checksum(b[:len(b)-4], castagnoli) ||
		le.Uint64(b[8:]) != uint64(packSize) || len(b) != 24+indexEntry*int(le.Uint32(b[16:])) {
		return nil, fmt.Errorf("pack index %08x: %w", number, ErrDamaged)
	}
	out := make([]entry, le.Uint32(b[16:]))
	for i := range out {
		e := b[20+indexEntry*i:]
		copy(out[i].name[:], e)
		out[i].offset, out[i].stored, out[i].kind = le.Uint32(e[32:]), le.Uint32(e[36:]), Kind(e[40])
	}
	return out, nil
}

// writeFileSync writes a file so that it is whole or absent after a crash:
// beside its place first, then synced, renamed, and its folder synced.
func writeFileSync(path string, b []byte) error {
	tmp := path + ".part"
	f, err := os.OpenFile(tmp, os.O_WRONLY|os.O_CREATE|os.O_TRUNC, 0o600)
	if err != nil {
		return err
	}
	w := bufio.NewWriter(f)
	_, err = w.Write(b)
	err = errors.Join(err, w.Flush(), f.Sync(), f.Close())
	if err == nil {
		err = os.Rename(tmp, path)
	}
	if err != nil {
		_ = os.Remove(tmp)
		return err
	}
	return syncDir(filepath.Dir(path))
}

func syncDir(dir string) error {
	d, err := os.Open(dir)
	if err != nil {
		return err
	}
	return errors.Join(d.Sync(), d.Close())
}
