package points

import (
	"errors"
	"fmt"
	"math/bits"
)

// fanOut is how many children a tree node names: a leaf covers 8 MiB of disk.
const fanOut = 128

const (
	nodeHead = 4 + fanOut/8
	nodeMax  = nodeHead + fanOut*32
)

// node is one decoded tree node. Level 0 names blocks, level n nodes of n-1.
type node struct {
	level uint8
	child [fanOut]Name
}

func (n *node) empty() bool { return n.child == [fanOut]Name{} }

func (n *node) encode() []byte {
	b := make([]byte, nodeHead, nodeMax)
	copy(b, "KN")
	b[2] = n.level
	for i, c := range n.child {
		if !c.IsZero() {
			b[4+i/8] |= 1 << (i % 8)
			b = append(b, c[:]...)
		}
	}
	return b
}

func decodeNode(b []byte) (*node, error) {
	if len(b) < nodeHead || string(b[:2]) != "KN" || b[3] != 0 {
		return nil, fmt.Errorf("not a tree node: %w", ErrDamaged)
	}
	n := &node{level: b[2]}
	count := 0
	for _, x := range b[4:nodeHead] {
		count += bits.OnesCount8(x)
	}
	if len(b) != nodeHead+32*count {
		return nil, fmt.Errorf("tree node of %d bytes with %d children: %w", len(b), count, ErrDamaged)
	}
	rest := b[nodeHead:]
	for i := range n.child {
		if b[4+i/8]&(1<<(i%8)) != 0 {
			copy(n.child[i][:], rest)
			rest = rest[32:]
		}
	}
	return n, nil
}

// Blocks is the number of blocks of a disk of size bytes.
func Blocks(size int64) int64 { return (size + BlockSize - 1) / BlockSize }

// height is the level of the root of a tree over n blocks, and span the number
// of blocks that one child of the root covers.
func height(blocks int64) (level uint8, span int64) {
	span = 1
	for span*fanOut < blocks {
		span *= fanOut
		level++
	}
	return level, span
}

func (s *Store) loadNode(name Name, level uint8) (*node, error) {
	if name.IsZero() {
		return &node{level: level}, nil
	}
	b, err := s.read(make([]byte, 0, nodeMax), name)
	if err != nil {
		return nil, err
	}
	n, err := decodeNode(b)
	if err != nil {
		return nil, err
	}
	if n.level != level {
		return nil, fmt.Errorf("tree node %s has level %d where %d is due: %w", name, n.level, level, ErrDamaged)
	}
	return n, nil
}

func (s *Store) storeNode(n *node) (Name, error) {
	if n.empty() {
		return Name{}, nil
	}
	b := n.encode()
	name := nodeName(b)
	if s.Has(name) {
		return name, nil
	}
	return name, s.append(record{kind: KindNode, length: uint32(len(b)), stored: uint32(len(b)), name: name, sum: checksum(b)}, b, s.index.written)
}

// change sets a run of blocks to one name.
type change struct {
	index int64
	count int64
	name  Name
}

// update makes a tree from base with the changes applied and gives its root.
// The changes are ordered by index and do not overlap. Only nodes on the way
// to a change are read and written.
func (s *Store) update(base Name, size int64, changes []change) (Name, error) {
	if len(changes) == 0 {
		return base, nil
	}
	level, span := height(Blocks(size))
	return s.updateNode(base, level, span, 0, Blocks(size), changes)
}

func (s *Store) updateNode(base Name, level uint8, span, start, blocks int64, changes []change) (Name, error) {
	n, err := s.loadNode(base, level)
	if err != nil && (errors.Is(err, ErrNotFound) || errors.Is(err, ErrDamaged)) && covers(changes, start, min(start+span*fanOut, blocks)) {
		// The node is lost, and nothing of it is needed: if nothing has changed
		// below it, the same node comes of it again.
		n, err = &node{level: level}, nil
	}
	if err != nil {
		return Name{}, err
	}
	for i := range n.child {
		from := start + int64(i)*span
		to := from + span
		for len(changes) > 0 && changes[0].index+changes[0].count <= from {
			changes = changes[1:]
		}
		if len(changes) == 0 {
			break
		}
		if changes[0].index >= to {
			continue
		}
		first := changes[0]
		whole := first.index <= from && first.index+first.count >= to
		switch {
		case level == 0:
			n.child[i] = first.name
		case whole && first.name.IsZero():
			n.child[i] = Name{}
		default:
			if n.child[i], err = s.updateNode(n.child[i], level-1, span/fanOut, from, blocks, changes); err != nil {
				return Name{}, err
			}
		}
	}
	return s.storeNode(n)
}

// covers tells whether the changes speak of every block from start up to end.
func covers(changes []change, start, end int64) bool {
	for _, c := range changes {
		if c.index > start {
			break
		}
		start = max(start, c.index+c.count)
	}
	return start >= end
}

// walk calls visit for every node and block that a tree names. A visit of a
// node that returns false leaves its subtree out.
func (s *Store) walk(root Name, size int64, visit func(name Name, kind Kind, index int64) bool) error {
	if root.IsZero() {
		return nil
	}
	level, span := height(Blocks(size))
	return s.walkNode(root, level, span, 0, visit)
}

func (s *Store) walkNode(name Name, level uint8, span, start int64, visit func(Name, Kind, int64) bool) error {
	if !visit(name, KindNode, start) {
		return nil
	}
	n, err := s.loadNode(name, level)
	if err != nil {
		return fmt.Errorf("tree node %s: %w", name, err)
	}
	for i, c := range n.child {
		if c.IsZero() {
			continue
		}
		at := start + int64(i)*span
		if level == 0 {
			visit(c, KindBlock, at)
		} else if err := s.walkNode(c, level-1, span/fanOut, at, visit); err != nil {
			return err
		}
	}
	return nil
}
