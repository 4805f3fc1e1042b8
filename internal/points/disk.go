package points

import (
	"fmt"
	"io"
	"sync"

	lru "github.com/hashicorp/golang-lru/v2"
	"github.com/hashicorp/golang-lru/v2/simplelru"
)

// DiskReader reads one disk of a point, checking every block against its name.
// It may be used by several readers at once.
type DiskReader struct {
	store  *Store
	root   Name
	size   int64
	level  uint8
	span   int64
	nodes  *lru.Cache[Name, *node]
	blocks *blockCache
}

// Disk opens the disk with the given root and size for reading.
func (s *Store) Disk(root Name, size int64) *DiskReader {
	nodes, _ := lru.New[Name, *node](256) // 1 MiB: the leaves of 2 GiB
	level, span := height(Blocks(size))
	return &DiskReader{s, root, size, level, span, nodes, newBlockCache(128)} // 8 MiB
}

// Size is the length of the disk in bytes.
func (d *DiskReader) Size() int64 { return d.size }

// nameAt finds the name of the block with the given index.
func (d *DiskReader) nameAt(index int64) (Name, error) {
	name, span := d.root, d.span
	for level := int(d.level); ; level-- {
		if name.IsZero() {
			return Name{}, nil
		}
		n, ok := d.nodes.Get(name)
		if !ok {
			var err error
			if n, err = d.store.loadNode(name, uint8(level)); err != nil {
				return Name{}, err
			}
			d.nodes.Add(name, n)
		}
		name = n.child[index/span%fanOut]
		if level == 0 {
			return name, nil
		}
		span /= fanOut
	}
}

// ReadAt implements io.ReaderAt.
func (d *DiskReader) ReadAt(p []byte, off int64) (int, error) {
	if off < 0 {
		return 0, fmt.Errorf("read at negative offset %d", off)
	}
	done := 0
	for done < len(p) && off < d.size {
		within := off % BlockSize
		n := int(min(BlockSize-within, d.size-off, int64(len(p)-done)))
		name, err := d.nameAt(off / BlockSize)
		if err != nil {
			return done, err
		}
		out := p[done : done+n]
		if name.IsZero() {
			clear(out)
		} else {
			if err := d.read(out, name, within); err != nil {
				return done, err
			}
		}
		done += n
		off += int64(n)
	}
	if done < len(p) {
		return done, io.EOF
	}
	return done, nil
}

// read fills out with a part of a block. Whole blocks are read once, in place;
// parts come back, so their block is kept.
func (d *DiskReader) read(out []byte, name Name, within int64) error {
	if len(out) == BlockSize {
		b, err := d.store.Block(out[:0:BlockSize], name)
		if err == nil && &b[0] != &out[0] {
			copy(out, b)
		}
		return err
	}
	if d.blocks.get(out, name, within) {
		return nil
	}
	room := d.store.buffer()
	defer d.store.giveBack(room)
	b, err := d.store.Block((*room)[:0], name)
	if err != nil {
		return err
	}
	copy(out, b[within:])
	d.blocks.add(name, b)
	return nil
}

// blockCache keeps blocks of which parts were read. What it holds is copied in
// and out under its lock, so that its room is used again.
type blockCache struct {
	mu    sync.Mutex
	held  *simplelru.LRU[Name, []byte]
	limit int
}

func newBlockCache(limit int) *blockCache {
	held, _ := simplelru.NewLRU[Name, []byte](limit, nil)
	return &blockCache{held: held, limit: limit}
}

func (c *blockCache) get(out []byte, name Name, within int64) bool {
	c.mu.Lock()
	defer c.mu.Unlock()
	b, ok := c.held.Get(name)
	if ok {
		copy(out, b[within:])
	}
	return ok
}

func (c *blockCache) add(name Name, content []byte) {
	c.mu.Lock()
	defer c.mu.Unlock()
	var room []byte
	if c.held.Len() == c.limit {
		_, room, _ = c.held.RemoveOldest()
	}
	c.held.Add(name, append(room[:0], content...))
}

// Extent is a run of a disk in bytes.
type Extent struct {
	Length int64
	Zero   bool // reads as zeros and takes no room
}

// Extents describes length bytes from off, in order, merging neighbours.
func (d *DiskReader) Extents(off, length int64) ([]Extent, error) {
	var out []Extent
	for end := min(off+length, d.size); off < end; {
		name, err := d.nameAt(off / BlockSize)
		if err != nil {
			return nil, err
		}
		n := min(BlockSize-off%BlockSize, end-off)
		if k := len(out); k > 0 && out[k-1].Zero == name.IsZero() {
			out[k-1].Length += n
		} else {
			out = append(out, Extent{n, name.IsZero()})
		}
		off += n
	}
	return out, nil
}
