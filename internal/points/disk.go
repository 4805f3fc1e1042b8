package points

import (
	"fmt"
	"io"

	lru "github.com/hashicorp/golang-lru/v2"
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
	blocks *lru.Cache[Name, []byte]
}

// Disk opens the disk with the given root and size for reading.
func (s *Store) Disk(root Name, size int64) *DiskReader {
	nodes, _ := lru.New[Name, *node](256)   // 1 MiB: the leaves of 2 GiB
	blocks, _ := lru.New[Name, []byte](128) // 8 MiB
	level, span := height(Blocks(size))
	return &DiskReader{s, root, size, level, span, nodes, blocks}
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
			b, ok := d.blocks.Get(name)
			if !ok {
				if b, err = d.store.Block(make([]byte, 0, BlockSize), name); err != nil {
					return done, err
				}
				if n < BlockSize { // whole blocks are read once; parts come back
					d.blocks.Add(name, b)
				}
			}
			copy(out, b[within:])
		}
		done += n
		off += int64(n)
	}
	if done < len(p) {
		return done, io.EOF
	}
	return done, nil
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
