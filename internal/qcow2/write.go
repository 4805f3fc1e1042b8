package qcow2

import (
	"encoding/binary"
	"errors"
	"fmt"
	"io"
)

const (
	clusterBits = 16
	cluster     = 1 << clusterBits
	perL2       = cluster / 8
	perRefBlock = cluster / 2 // refcounts have 16 bits
)

// Writer makes a version 3 image with clusters of 64 KiB. Clusters that are not
// written read as zeros and take no room. Nothing is an image before Finish.
type Writer struct {
	file io.WriterAt
	size int64
	next int64 // cluster of the file that is used next
	l2   map[int64][]uint64
}

// NewWriter begins an image of a disk of size bytes in an empty file.
func NewWriter(file io.WriterAt, size int64) (*Writer, error) {
	if size <= 0 || (size+cluster*perL2-1)/(cluster*perL2)*8 > maxL1 {
		return nil, fmt.Errorf("an image of %d bytes is not possible", size)
	}
	return &Writer{file: file, size: size, next: 1, l2: map[int64][]uint64{}}, nil
}

// WriteAt writes whole clusters, each once; only the disk's last one may be cut
// short.
func (w *Writer) WriteAt(p []byte, off int64) (int, error) {
	if off < 0 || off%cluster != 0 || int64(len(p)) > w.size-off || len(p)%cluster != 0 && off+int64(len(p)) != w.size {
		return 0, fmt.Errorf("write of %d bytes at %d is not of whole clusters", len(p), off)
	}
	done := 0
	for done < len(p) {
		part := p[done:min(done+cluster, len(p))]
		index := (off + int64(done)) / cluster
		t := w.l2[index/perL2]
		if t == nil {
			t = make([]uint64, perL2)
			w.l2[index/perL2] = t
		}
		if t[index%perL2] != 0 {
			return done, fmt.Errorf("cluster at %d is written twice", index*cluster)
		}
		if _, err := w.file.WriteAt(part, w.next*cluster); err != nil {
			return done, err
		}
		t[index%perL2] = uint64(w.next*cluster) | flagCopied
		w.next++
		done += len(part)
	}
	return done, nil
}

// Finish writes the tables and, last, the header.
func (w *Writer) Finish() error {
	be := binary.BigEndian
	tables := (w.size + cluster*perL2 - 1) / (cluster * perL2)
	l1 := make([]byte, (tables*8+cluster-1)/cluster*cluster)
	for i, t := range w.l2 {
		b := make([]byte, 0, cluster)
		for _, e := range t {
			b = be.AppendUint64(b, e)
		}
		if _, err := w.file.WriteAt(b, w.next*cluster); err != nil {
			return err
		}
		be.PutUint64(l1[i*8:], uint64(w.next*cluster)|flagCopied)
		w.next++
	}
	l1At := w.next
	w.next += int64(len(l1)) / cluster
	// The refcounts speak of all clusters, their own among them.
	blocks, tableClusters := int64(1), int64(1)
	for {
		b := (w.next + blocks + tableClusters + perRefBlock - 1) / perRefBlock
		t := (b*8 + cluster - 1) / cluster
		if b <= blocks && t <= tableClusters {
			break
		}
		blocks, tableClusters = max(b, blocks), max(t, tableClusters)
	}
	tableAt, blocksAt := w.next, w.next+tableClusters
	used := blocksAt + blocks
	table := make([]byte, tableClusters*cluster)
	counts := make([]byte, blocks*cluster)
	for i := range blocks {
		be.PutUint64(table[i*8:], uint64((blocksAt+i)*cluster))
	}
	for i := range used {
		be.PutUint16(counts[i*2:], 1)
	}
	head := make([]byte, 0, cluster)
	head = be.AppendUint32(head, magic)
	head = be.AppendUint32(head, 3)
	head = be.AppendUint64(head, 0) // no backing file
	head = be.AppendUint32(head, 0)
	head = be.AppendUint32(head, clusterBits)
	head = be.AppendUint64(head, uint64(w.size))
	head = be.AppendUint32(head, 0) // not encrypted
	head = be.AppendUint32(head, uint32(tables))
	head = be.AppendUint64(head, uint64(l1At*cluster))
	head = be.AppendUint64(head, uint64(tableAt*cluster))
	head = be.AppendUint32(head, uint32(tableClusters))
	head = be.AppendUint32(head, 0) // no snapshots
	head = be.AppendUint64(head, 0)
	head = be.AppendUint64(head, 0) // no features
	head = be.AppendUint64(head, 0)
	head = be.AppendUint64(head, 0)
	head = be.AppendUint32(head, 4) // refcounts of 2^4 bits
	head = be.AppendUint32(head, headerSize)
	head = append(head, make([]byte, cluster-len(head))...)
	put := func(b []byte, at int64) error {
		_, err := w.file.WriteAt(b, at*cluster)
		return err
	}
	return errors.Join(put(l1, l1At), put(table, tableAt), put(counts, blocksAt), put(head, 0))
}
