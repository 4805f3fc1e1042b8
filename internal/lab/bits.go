package lab

import (
	"fmt"
	"os"
	"syscall"
)

// blockSize is the granularity of the lab's dirty bitmaps.
const blockSize = 64 << 10

func blocksOf(size int64) int64 { return (size + blockSize - 1) / blockSize }

// bits is a bitmap in a mapped file: it survives a kill of the lab because the
// kernel holds its pages.
type bits struct{ b []byte }

// openBits maps a bitmap of n bits, making the file if there is none.
func openBits(path string, n int64) (*bits, error) {
	f, err := os.OpenFile(path, os.O_RDWR|os.O_CREATE, 0o600)
	if err != nil {
		return nil, err
	}
	defer func() { _ = f.Close() }()
	length := (n + 7) / 8
	if err := f.Truncate(length); err != nil {
		return nil, err
	}
	b, err := syscall.Mmap(int(f.Fd()), 0, int(length), syscall.PROT_READ|syscall.PROT_WRITE, syscall.MAP_SHARED)
	if err != nil {
		return nil, fmt.Errorf("map %s: %w", path, err)
	}
	return &bits{b}, nil
}

func (x *bits) get(i int64) bool { return x.b[i/8]&(1<<(i%8)) != 0 }
func (x *bits) set(i int64)      { x.b[i/8] |= 1 << (i % 8) }
func (x *bits) close()           { _ = syscall.Munmap(x.b) }
