// Package overlay makes a disk writable that itself never changes: what is
// written is kept beside it, and read from there.
package overlay

import (
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"sync"

	"golang.org/x/sys/unix"
)

// Granule is the unit in which is kept what was written.
const Granule = 4096

const (
	perPage  = 8 * Granule // granules that one page of the map speaks of
	maxBytes = 1 << 47
)

// Base is the disk below.
type Base interface {
	io.ReaderAt
	Size() int64
}

// Disk is a base with what was written over it. Its methods may be called at
// the same time; a write that overlaps another at the same time is in part the
// one and in part the other, as on any disk.
type Disk struct {
	base Base
	size int64
	room func() error

	mu      sync.RWMutex
	data    *os.File // what was written, in its place; elsewhere holes
	file    *os.File // the map: a bit a granule
	bits    []byte   // the map in memory, whole pages
	dirty   map[int64]bool
	written int64 // granules that are set
	flushMu sync.Mutex
}

// Open opens or makes the overlay in the files path.data and path.map. Room, if
// not nil, is asked before something is written, and refuses it by an error.
//
// Writing becomes durable with Flush. The map is written only after the data
// that it speaks of is on the disk, so that after a crash a granule is either
// as it was flushed last or newer, never something else.
func Open(path string, base Base, room func() error) (*Disk, error) {
	if base.Size() > maxBytes {
		return nil, fmt.Errorf("a disk of %d bytes is too large", base.Size())
	}
	if err := os.MkdirAll(filepath.Dir(path), 0o700); err != nil {
		return nil, fmt.Errorf("open overlay: %w", err)
	}
	d := &Disk{base: base, size: base.Size(), room: room, dirty: map[int64]bool{}}
	granules := (d.size + Granule - 1) / Granule
	d.bits = make([]byte, (granules+perPage-1)/perPage*Granule)
	var err error
	if d.data, err = os.OpenFile(path+".data", os.O_RDWR|os.O_CREATE, 0o600); err != nil {
		return nil, fmt.Errorf("open overlay: %w", err)
	}
	if d.file, err = os.OpenFile(path+".map", os.O_RDWR|os.O_CREATE, 0o600); err != nil {
		return nil, errors.Join(fmt.Errorf("open overlay: %w", err), d.data.Close())
	}
	if _, err := d.file.ReadAt(d.bits, 0); err != nil && !errors.Is(err, io.EOF) {
		return nil, errors.Join(fmt.Errorf("read overlay: %w", err), d.Close())
	}
	if err := d.data.Truncate(granules * Granule); err != nil {
		return nil, errors.Join(fmt.Errorf("open overlay: %w", err), d.Close())
	}
	for g := range granules {
		if d.has(g) {
			d.written++
		}
	}
	return d, nil
}

// Remove deletes the files of an overlay that is closed.
func Remove(path string) error {
	return errors.Join(gone(os.Remove(path+".map")), gone(os.Remove(path+".data")))
}

func gone(err error) error {
	if errors.Is(err, os.ErrNotExist) {
		return nil
	}
	return err
}

func (d *Disk) has(g int64) bool { return d.bits[g/8]&(1<<(g%8)) != 0 }

func (d *Disk) set(g int64) {
	if !d.has(g) {
		d.bits[g/8] |= 1 << (g % 8)
		d.written++
		d.dirty[g/perPage] = true
	}
}

// Size is the length of the disk in bytes.
func (d *Disk) Size() int64 { return d.size }

// Written is how many bytes are kept beside the base.
func (d *Disk) Written() int64 {
	d.mu.RLock()
	defer d.mu.RUnlock()
	return d.written * Granule
}

// run gives the end of the granules from off that are alike, up to end.
func (d *Disk) run(off, end int64) (until int64, ours bool) {
	g := off / Granule
	ours = d.has(g)
	for g++; g*Granule < end && d.has(g) == ours; g++ {
	}
	return min(g*Granule, end), ours
}

// ReadAt implements io.ReaderAt.
func (d *Disk) ReadAt(p []byte, off int64) (int, error) {
	if off < 0 {
		return 0, fmt.Errorf("read at negative offset %d", off)
	}
	d.mu.RLock()
	defer d.mu.RUnlock()
	end := min(off+int64(len(p)), d.size)
	done := 0
	for at := off; at < end; {
		until, ours := d.run(at, end)
		part := p[at-off : until-off]
		var err error
		if ours {
			_, err = d.data.ReadAt(part, at)
		} else {
			_, err = d.base.ReadAt(part, at)
		}
		if err != nil && !errors.Is(err, io.EOF) {
			return done, err
		}
		done += len(part)
		at = until
	}
	if done < len(p) {
		return done, io.EOF
	}
	return done, nil
}

// WriteAt implements io.WriterAt within the disk.
func (d *Disk) WriteAt(p []byte, off int64) (int, error) {
	if off < 0 || int64(len(p)) > d.size-off {
		return 0, fmt.Errorf("write of %d bytes at %d is outside the disk", len(p), off)
	}
	if len(p) == 0 {
		return 0, nil
	}
	if d.room != nil {
		if err := d.room(); err != nil {
			return 0, err
		}
	}
	d.mu.Lock()
	defer d.mu.Unlock()
	end := off + int64(len(p))
	if err := d.fill(off, end); err != nil {
		return 0, err
	}
	n, err := d.data.WriteAt(p, off)
	if err != nil {
		return n, fmt.Errorf("write overlay: %w", err)
	}
	for g := off / Granule; g*Granule < end; g++ {
		d.set(g)
	}
	return n, nil
}

// fill copies the rest of granules that are written in part from the base.
func (d *Disk) fill(off, end int64) error {
	first, last := off/Granule, (end-1)/Granule
	for _, g := range []int64{first, last} {
		from, to := g*Granule, min((g+1)*Granule, d.size)
		if d.has(g) || off <= from && end >= to {
			continue
		}
		var b [Granule]byte
		if _, err := d.base.ReadAt(b[:to-from], from); err != nil && !errors.Is(err, io.EOF) {
			return err
		}
		if _, err := d.data.WriteAt(b[:to-from], from); err != nil {
			return fmt.Errorf("write overlay: %w", err)
		}
		if first == last {
			break
		}
	}
	return nil
}

// Zero writes zeros, without taking room for whole granules.
func (d *Disk) Zero(off, length int64) error {
	if off < 0 || length < 0 || length > d.size-off {
		return fmt.Errorf("zeros of %d bytes at %d are outside the disk", length, off)
	}
	end := off + length
	from, to := (off+Granule-1)/Granule*Granule, end/Granule*Granule
	if end == d.size {
		to = (end + Granule - 1) / Granule * Granule
	}
	if from >= to {
		_, err := d.WriteAt(make([]byte, length), off)
		return err
	}
	if off < from {
		if _, err := d.WriteAt(make([]byte, from-off), off); err != nil {
			return err
		}
	}
	if to < end {
		if _, err := d.WriteAt(make([]byte, end-to), to); err != nil {
			return err
		}
	}
	d.mu.Lock()
	defer d.mu.Unlock()
	if err := unix.Fallocate(int(d.data.Fd()), unix.FALLOC_FL_PUNCH_HOLE|unix.FALLOC_FL_KEEP_SIZE, from, to-from); err != nil {
		return fmt.Errorf("write overlay: %w", err)
	}
	for g := from / Granule; g*Granule < to; g++ {
		d.set(g)
	}
	return nil
}

// Flush makes all that was written before it durable.
func (d *Disk) Flush() error {
	d.flushMu.Lock()
	defer d.flushMu.Unlock()
	d.mu.Lock()
	pages := map[int64][]byte{}
	for page := range d.dirty {
		pages[page] = append([]byte(nil), d.bits[page*Granule:(page+1)*Granule]...)
	}
	clear(d.dirty)
	d.mu.Unlock()
	err := d.data.Sync()
	for page, b := range pages {
		if err == nil {
			_, err = d.file.WriteAt(b, page*Granule)
		}
	}
	if err == nil && len(pages) > 0 {
		err = d.file.Sync()
	}
	if err != nil {
		d.mu.Lock()
		for page := range pages {
			d.dirty[page] = true
		}
		d.mu.Unlock()
		return fmt.Errorf("flush overlay: %w", err)
	}
	return nil
}

// Extent is a run of the disk.
type Extent struct {
	Length int64
	Ours   bool // written over; otherwise it is the base's to say what it is
	Zero   bool // written over with zeros that take no room
}

// Extents describes length bytes from off, in order.
func (d *Disk) Extents(off, length int64) []Extent {
	d.mu.RLock()
	defer d.mu.RUnlock()
	var out []Extent
	add := func(n int64, ours, zero bool) {
		if k := len(out); k > 0 && out[k-1].Ours == ours && out[k-1].Zero == zero {
			out[k-1].Length += n
		} else if n > 0 {
			out = append(out, Extent{n, ours, zero})
		}
	}
	for end := min(off+length, d.size); off < end; {
		until, ours := d.run(off, end)
		for ours && off < until {
			next, err := unix.Seek(int(d.data.Fd()), off, unix.SEEK_DATA)
			if errors.Is(err, unix.ENXIO) {
				next = until
			} else if err != nil {
				next = off // it may be data: that is never wrong
			}
			next = min(next, until)
			add(next-off, true, true)
			if off = next; off == until {
				break
			}
			hole, err := unix.Seek(int(d.data.Fd()), off, unix.SEEK_HOLE)
			if err != nil {
				hole = until
			}
			hole = min(max(hole, off+1), until)
			add(hole-off, true, false)
			off = hole
		}
		add(until-off, ours, false)
		off = until
	}
	return out
}

// Close flushes and closes.
func (d *Disk) Close() error {
	var err error
	if d.written > 0 {
		err = d.Flush()
	}
	return errors.Join(err, d.data.Close(), d.file.Close())
}
