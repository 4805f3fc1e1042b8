package lab

import (
	"crypto/sha256"
	"encoding/binary"
	"encoding/hex"
	"errors"
	"fmt"
	"io"
	mathbits "math/bits"
	"os"
	"path/filepath"
	"sync"

	"kestrel/internal/nbd"
)

// disk is a sparse file with checkpoints: frozen instants that go on being
// readable while the guest writes, because a block is copied aside before it
// is first overwritten.
type disk struct {
	dir  string
	size int64

	mu    sync.RWMutex
	data  *os.File
	alloc *bits // blocks ever written
	stale *bits // blocks written since their sum was last taken
	sums  *os.File
	used  int64 // blocks
	cps   map[string]*diskCheckpoint
}

// diskCheckpoint is one checkpoint of one disk. Since its instant, dirty
// records what was written. While it is open, the rest lets it be read.
type diskCheckpoint struct {
	dir   string
	dirty *bits
	open  bool
	// copied marks the blocks that lie in aside; alloc and stale are as they
	// were at the instant, and since holds, for each earlier checkpoint, what
	// had changed between that one and this.
	aside                *os.File
	copied, alloc, stale *bits
	since                map[string]*bits
}

func openDisk(dir string, size int64) (*disk, error) {
	if err := os.MkdirAll(dir, 0o700); err != nil {
		return nil, err
	}
	d := &disk{dir: dir, size: size, cps: map[string]*diskCheckpoint{}}
	var err error
	if d.data, err = os.OpenFile(filepath.Join(dir, "data.raw"), os.O_RDWR|os.O_CREATE, 0o600); err != nil {
		return nil, err
	}
	if err := d.data.Truncate(size); err != nil {
		return nil, err
	}
	if d.sums, err = os.OpenFile(filepath.Join(dir, "sums"), os.O_RDWR|os.O_CREATE, 0o600); err != nil {
		return nil, err
	}
	n := blocksOf(size)
	if d.alloc, err = openBits(filepath.Join(dir, "alloc.map"), n); err != nil {
		return nil, err
	}
	if d.stale, err = openBits(filepath.Join(dir, "stale.map"), n); err != nil {
		return nil, err
	}
	for i := range n {
		if d.alloc.get(i) {
			d.used++
		}
	}
	return d, nil
}

// WriteAt is a guest's write.
func (d *disk) WriteAt(p []byte, off int64) (int, error) {
	if off < 0 || off+int64(len(p)) > d.size {
		return 0, fmt.Errorf("write of %d bytes at %d beyond the disk's %d", len(p), off, d.size)
	}
	d.mu.Lock()
	defer d.mu.Unlock()
	for b := off / blockSize; b*blockSize < off+int64(len(p)); b++ {
		for _, c := range d.cps {
			if err := c.before(d, b); err != nil {
				return 0, err
			}
		}
		if !d.alloc.get(b) {
			d.alloc.set(b)
			d.used++
		}
		d.stale.set(b)
	}
	return d.data.WriteAt(p, off)
}

// before saves a block for an open checkpoint and marks it dirty, ahead of the
// write itself: a crash in between leaves a mark too many, never one too few.
func (c *diskCheckpoint) before(d *disk, b int64) error {
	if c.open && !c.copied.get(b) {
		buf := make([]byte, min(blockSize, d.size-b*blockSize))
		if _, err := d.data.ReadAt(buf, b*blockSize); err != nil {
			return fmt.Errorf("copy before write: %w", err)
		}
		if _, err := c.aside.WriteAt(buf, b*blockSize); err != nil {
			return fmt.Errorf("copy before write: %w", err)
		}
		c.copied.set(b)
	}
	c.dirty.set(b)
	return nil
}

func (d *disk) checkpointDir(name string) string { return filepath.Join(d.dir, "cp-"+name) }

// checkpoint begins one; the lab holds all guests still meanwhile.
func (d *disk) checkpoint(name string) error {
	d.mu.Lock()
	defer d.mu.Unlock()
	for _, c := range d.cps {
		if c.open && c.stale != nil {
			// The sums follow checkpoints in order: take the older one's now.
			if _, err := d.digest(c); err != nil {
				return err
			}
		}
	}
	dir := d.checkpointDir(name)
	if err := os.MkdirAll(dir, 0o700); err != nil {
		return err
	}
	for _, m := range []struct {
		name string
		from *bits
	}{{"alloc", d.alloc}, {"stale", d.stale}} {
		if err := os.WriteFile(filepath.Join(dir, m.name+".map"), m.from.b, 0o600); err != nil {
			return err
		}
	}
	for base, c := range d.cps {
		if err := os.WriteFile(filepath.Join(dir, "since-"+base+".map"), c.dirty.b, 0o600); err != nil {
			return err
		}
	}
	c, err := d.loadCheckpoint(name, true)
	if err != nil {
		return err
	}
	clear(d.stale.b)
	d.cps[name] = c
	return nil
}

// loadCheckpoint maps the files of a checkpoint.
func (d *disk) loadCheckpoint(name string, open bool) (*diskCheckpoint, error) {
	c := &diskCheckpoint{dir: d.checkpointDir(name), open: open, since: map[string]*bits{}}
	n := blocksOf(d.size)
	var err error
	if c.dirty, err = openBits(filepath.Join(c.dir, "dirty.map"), n); err != nil || !open {
		return c, err
	}
	if c.aside, err = os.OpenFile(filepath.Join(c.dir, "aside.raw"), os.O_RDWR|os.O_CREATE, 0o600); err != nil {
		return nil, err
	}
	if err := c.aside.Truncate(d.size); err != nil {
		return nil, err
	}
	for _, m := range []struct {
		name string
		to   **bits
	}{{"copied", &c.copied}, {"alloc", &c.alloc}, {"stale", &c.stale}} {
		if _, err := os.Stat(filepath.Join(c.dir, "digest")); err == nil && m.name == "stale" {
			continue // summed up already
		}
		if *m.to, err = openBits(filepath.Join(c.dir, m.name+".map"), n); err != nil {
			return nil, err
		}
	}
	files, err := filepath.Glob(filepath.Join(c.dir, "since-*.map"))
	if err != nil {
		return nil, err
	}
	for _, f := range files {
		base := filepath.Base(f)
		base = base[len("since-") : len(base)-len(".map")]
		if c.since[base], err = openBits(f, n); err != nil {
			return nil, err
		}
	}
	return c, nil
}

// readFrozen reads at a checkpoint's instant; the disk's lock is held.
func (d *disk) readFrozen(c *diskCheckpoint, p []byte, off int64) (int, error) {
	if !c.open {
		return 0, errors.New("the checkpoint was released")
	}
	done := 0
	for done < len(p) && off < d.size {
		b := off / blockSize
		n := int(min((b+1)*blockSize-off, d.size-off, int64(len(p)-done)))
		from := d.data
		if c.copied.get(b) {
			from = c.aside
		}
		if c.alloc.get(b) {
			if _, err := from.ReadAt(p[done:done+n], off); err != nil {
				return done, err
			}
		} else {
			clear(p[done : done+n])
		}
		done, off = done+n, off+int64(n)
	}
	if done < len(p) {
		return done, io.EOF
	}
	return done, nil
}

// frozen is an open checkpoint of a disk as an io.ReaderAt.
type frozen struct {
	d *disk
	c *diskCheckpoint
}

func (f frozen) ReadAt(p []byte, off int64) (int, error) {
	f.d.mu.RLock()
	defer f.d.mu.RUnlock()
	return f.d.readFrozen(f.c, p, off)
}

// status turns a bitmap into extents, with flags for set and clear bits.
func (f frozen) status(m *bits, set, unset uint32) func(off, length int64) ([]nbd.Extent, error) {
	return func(off, length int64) ([]nbd.Extent, error) {
		f.d.mu.RLock()
		defer f.d.mu.RUnlock()
		if !f.c.open {
			return nil, errors.New("the checkpoint was released")
		}
		var out []nbd.Extent
		for end := min(off+length, f.d.size); off < end; {
			flags := unset
			if m.get(off / blockSize) {
				flags = set
			}
			n := min((off/blockSize+1)*blockSize, end) - off
			if k := len(out); k > 0 && out[k-1].Flags == flags {
				out[k-1].Length += n
			} else {
				out = append(out, nbd.Extent{Length: n, Flags: flags})
			}
			off += n
		}
		return out, nil
	}
}

// digestLimit is the size of a disk beyond which no digest is taken: hashing
// it would hold its guest up.
const digestLimit = 4 << 30

// digest brings the sums of all blocks up to an open checkpoint and sums them
// up; see wire.Digest. The disk's lock is held.
func (d *disk) digest(c *diskCheckpoint) (string, error) {
	if d.size > digestLimit {
		return "", nil
	}
	n := blocksOf(d.size)
	kept := filepath.Join(c.dir, "digest")
	if c.stale == nil { // taken before, when a later checkpoint came
		b, err := os.ReadFile(kept)
		return string(b), err
	}
	buf := make([]byte, blockSize)
	for b := range n {
		if !c.stale.get(b) {
			continue
		}
		clear(buf)
		if _, err := d.readFrozen(c, buf, b*blockSize); err != nil && !errors.Is(err, io.EOF) {
			return "", err
		}
		sum := sha256.Sum256(buf)
		if [blockSize]byte(buf) == [blockSize]byte{} {
			sum = [32]byte{}
		}
		if _, err := d.sums.WriteAt(sum[:], b*32); err != nil {
			return "", err
		}
	}
	h := sha256.New()
	sum, index := make([]byte, 32), make([]byte, 8)
	for b := range n {
		if !c.alloc.get(b) {
			continue
		}
		if _, err := d.sums.ReadAt(sum, b*32); err != nil && !errors.Is(err, io.EOF) {
			return "", err
		}
		if [32]byte(sum) == [32]byte{} {
			continue
		}
		binary.LittleEndian.PutUint64(index, uint64(b))
		h.Write(index)
		h.Write(sum)
	}
	c.stale.close()
	c.stale = nil
	out := hex.EncodeToString(h.Sum(nil))
	return out, os.WriteFile(kept, []byte(out), 0o600)
}

// release ends reading a checkpoint and gives its digest.
func (d *disk) release(name string) (string, error) {
	d.mu.Lock()
	defer d.mu.Unlock()
	c := d.cps[name]
	if c == nil || !c.open {
		return "", nil
	}
	sum, err := d.digest(c)
	if err != nil {
		return "", fmt.Errorf("digest: %w", err)
	}
	c.closeFrozen()
	return sum, nil
}

func (c *diskCheckpoint) closeFrozen() {
	if !c.open {
		return
	}
	c.open = false
	_ = c.aside.Close()
	c.copied.close()
	c.alloc.close()
	if c.stale != nil {
		c.stale.close()
	}
	for _, m := range c.since {
		m.close()
	}
	files, _ := filepath.Glob(filepath.Join(c.dir, "*"))
	for _, f := range files {
		if filepath.Base(f) != "dirty.map" {
			_ = os.Remove(f)
		}
	}
}

// forget removes a checkpoint. What it would have summed is summed by the next.
func (d *disk) forget(name string) {
	d.mu.Lock()
	defer d.mu.Unlock()
	c := d.cps[name]
	if c == nil {
		return
	}
	if c.open && c.stale != nil {
		for i, b := range c.stale.b {
			d.stale.b[i] |= b
		}
	}
	c.closeFrozen()
	c.dirty.close()
	delete(d.cps, name)
	_ = os.RemoveAll(c.dir)
}

// dirtySince counts the bytes of blocks written since a checkpoint.
func (d *disk) dirtySince(name string) int64 {
	d.mu.RLock()
	defer d.mu.RUnlock()
	n := 0
	if c := d.cps[name]; c != nil {
		for _, b := range c.dirty.b {
			n += mathbits.OnesCount8(b)
		}
	}
	return int64(n) * blockSize
}

func (d *disk) close() {
	d.mu.Lock()
	defer d.mu.Unlock()
	_ = d.data.Close()
	_ = d.sums.Close()
}
