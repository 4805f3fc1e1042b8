// Package sim runs the real point store and the real cycles on a file system, a
// link and a clock that follow from one seed: the same seed gives the same run.
package sim

import (
	"context"
	"encoding/binary"
	"encoding/json"
	"fmt"
	"maps"
	"math/rand/v2"
	"time"

	"kestrel/internal/cycle"
	"kestrel/internal/nbd"
	"kestrel/internal/platform"
	"kestrel/internal/points"
)

const changed = "sim:changed"

// disk is what a disk holds, block by block; a number stands for a content, and
// zero for zeros.
type disk []uint16

// fill gives the content that a number stands for: its first half is random.
func fill(b []byte, content uint16) {
	clear(b)
	if content == 0 {
		return
	}
	x := uint64(content) * 0x9e3779b97f4a7c15
	for i := 0; i+8 <= len(b)/2; i += 8 {
		x ^= x << 13
		x ^= x >> 7
		x ^= x << 17
		binary.LittleEndian.PutUint64(b[i:], x)
	}
}

// read gives a stretch of a disk of this length in bytes.
func (d disk) read(p []byte, off int64) {
	var block [points.BlockSize]byte
	for done := 0; done < len(p); {
		at := off + int64(done)
		fill(block[:], d[at/points.BlockSize])
		done += copy(p[done:], block[at%points.BlockSize:])
	}
}

// source is a platform whose disks are numbers.
type source struct {
	platform.Driver // what a cycle does not ask for
	rng             *rand.Rand
	now             func() time.Time
	sizes           []int64
	disks           []disk
	frozen          map[string][]disk // by capture or checkpoint
	captures        map[string]bool   // those that can be read
}

func newSource(rng *rand.Rand, now func() time.Time, sizes ...int64) *source {
	s := &source{rng: rng, now: now, sizes: sizes, frozen: map[string][]disk{}, captures: map[string]bool{}}
	for _, n := range sizes {
		s.disks = append(s.disks, make(disk, points.Blocks(n)))
	}
	return s
}

// write changes a few blocks, often to what others hold, sometimes to zeros.
func (s *source) write() {
	for range 1 + s.rng.IntN(12) {
		d := s.disks[s.rng.IntN(len(s.disks))]
		at, n := s.rng.IntN(len(d)), 1+s.rng.IntN(4)
		for i := at; i < min(at+n, len(d)); i++ {
			switch s.rng.IntN(5) {
			case 0:
				d[i] = 0
			case 1:
				d[i] = uint16(1 + s.rng.IntN(8))
			default:
				d[i] = uint16(1 + s.rng.IntN(1<<16-1))
			}
		}
	}
}

func (s *source) Capture(_ context.Context, r platform.CaptureRequest) (*platform.Capture, error) {
	if s.rng.IntN(20) == 0 {
		return nil, platform.ErrUnreachable
	}
	if s.frozen[r.Name] == nil {
		for _, d := range s.disks {
			s.frozen[r.Name] = append(s.frozen[r.Name], append(disk(nil), d...))
		}
	}
	s.captures[r.Name] = true
	return s.Reopen(context.Background(), r.Name, r.Base)
}

func (s *source) Reopen(_ context.Context, name, base string) (*platform.Capture, error) {
	if s.frozen[name] == nil {
		return s.Capture(context.Background(), platform.CaptureRequest{Name: name, Base: base})
	}
	if !s.captures[name] {
		return nil, platform.ErrGone
	}
	out := &platform.Capture{Name: name, At: s.now(), OneInstant: true, Configs: map[string]json.RawMessage{}}
	for i, n := range s.sizes {
		f := platform.FrozenDisk{Machine: fmt.Sprintf("m%d", i/2), Name: fmt.Sprintf("machine-%d", i/2), Disk: fmt.Sprintf("disk%d", i%2), Size: n, Address: name, Export: base, Why: "no checkpoint to count from"}
		if s.frozen[base] != nil {
			f.Changed, f.Why = changed, ""
		}
		out.Disks = append(out.Disks, f)
	}
	return out, nil
}

// lose drops captures and checkpoints, as a platform may that was restored.
func (s *source) lose(keep string) {
	for name := range maps.Clone(s.frozen) {
		if name != keep {
			delete(s.captures, name)
		}
	}
	if s.rng.IntN(4) == 0 {
		clear(s.frozen)
	}
}

// dial opens a frozen disk; it implements cycle.Options.
func (s *source) dial(_ context.Context, d platform.FrozenDisk, _ []string) (cycle.Source, error) {
	var i, j int
	_, _ = fmt.Sscanf(d.Machine, "m%d", &i)
	_, _ = fmt.Sscanf(d.Disk, "disk%d", &j)
	held, ok := s.frozen[d.Address]
	if !ok || !s.captures[d.Address] {
		return nil, platform.ErrGone
	}
	o := &opened{source: s, data: held[2*i+j], size: d.Size}
	if base := s.frozen[d.Export]; base != nil {
		o.base = base[2*i+j]
	}
	return o, nil
}

type opened struct {
	*source
	data, base disk
	size       int64
}

func (o *opened) Size() int64          { return o.size }
func (o *opened) Close() error         { return nil }
func (o *opened) Has(name string) bool { return name != changed || o.base != nil }

func (o *opened) ReadAt(p []byte, off int64) (int, error) {
	if o.rng.IntN(60) == 0 {
		return 0, platform.ErrUnreachable
	}
	o.data.read(p, off)
	return len(p), nil
}

func (o *opened) Extents(name string, off, length int64) ([]nbd.Extent, error) {
	var out []nbd.Extent
	for at := off; at < off+length; at += points.BlockSize {
		e := nbd.Extent{Length: min(points.BlockSize, off+length-at)}
		b := at / points.BlockSize
		switch {
		case name == changed && o.data[b] != o.base[b]:
			e.Flags = nbd.StateDirty
		case name == nbd.AllocationContext && o.data[b] == 0:
			e.Flags = nbd.StateHole | nbd.StateZero
		}
		out = append(out, e)
	}
	return out, nil
}
