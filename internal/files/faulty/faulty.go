// Package faulty is a file system in memory that fails as disks and hosts do:
// it loses what was not synced, tears writes, lets syncs fail and drops what
// they were to keep, runs full, and is cut off at any operation. All it does
// follows from its seed, so that a run can be had again.
package faulty

import (
	"errors"
	"fmt"
	"io"
	"io/fs"
	"math/rand/v2"
	"path/filepath"
	"slices"
	"sort"
	"sync"
	"syscall"

	"kestrel/internal/files"
)

// ErrCut is given by every operation after the host was cut off.
var ErrCut = errors.New("the host is off")

// sector is the unit that is written whole or not at all.
const sector = 4096

// Odds are how often operations fail, in one of so many; zero is never.
type Odds struct{ Sync, Write, Name int }

type node struct {
	dir     bool
	now     []byte // what readers see
	kept    []byte // what survives a power cut for certain
	pending []write
	locked  bool
}

type write struct {
	off  int
	data []byte
}

// change is one change of a folder: name now stands for node, or for nothing.
type change struct {
	path string
	node *node
}

// FS is the file system. It may be used by several goroutines, but then its
// faults do not follow from the seed alone.
type FS struct {
	mu        sync.Mutex
	rng       *rand.Rand
	odds      Odds
	capacity  int64
	names     map[string]*node
	kept      map[string]*node
	changes   map[string][]change // by folder, since its last sync
	countdown int                 // operations until the cut; negative: none
	off       bool
	era       int // grows with every restart, so that old handles are dead
}

// New makes an empty file system whose faults follow from rng.
func New(rng *rand.Rand) *FS {
	return &FS{rng: rng, capacity: unbounded, countdown: -1, names: map[string]*node{}, kept: map[string]*node{}, changes: map[string][]change{}}
}

// SetOdds sets how often operations fail from now on.
func (s *FS) SetOdds(o Odds) { s.mu.Lock(); s.odds = o; s.mu.Unlock() }

// unbounded is room that is not counted, for what need not run full.
const unbounded = 1 << 40

// SetCapacity sets how many bytes of files there is room for; a tebibyte is never
// used up.
func (s *FS) SetCapacity(bytes int64) { s.mu.Lock(); s.capacity = bytes; s.mu.Unlock() }

// CutAfter turns the host off at the nth changing operation from now.
func (s *FS) CutAfter(n int) { s.mu.Lock(); s.countdown = n; s.mu.Unlock() }

// Off reports whether the host is off.
func (s *FS) Off() bool { s.mu.Lock(); defer s.mu.Unlock(); return s.off }

// Used is the sum of the lengths of all files.
func (s *FS) Used() int64 { s.mu.Lock(); defer s.mu.Unlock(); return s.used() }

// room is how many more bytes may be kept; the lock is held.
func (s *FS) room() int64 {
	if s.capacity >= unbounded {
		return s.capacity
	}
	return max(0, s.capacity-s.used())
}

func (s *FS) used() (n int64) {
	for _, x := range s.names {
		n += int64(len(x.now))
	}
	return n
}

// Rot changes one byte somewhere in the files whose paths match, as a bad disk
// does without saying so.
func (s *FS) Rot(pattern string) bool {
	s.mu.Lock()
	defer s.mu.Unlock()
	var paths []string
	for p, n := range s.names {
		if ok, _ := filepath.Match(pattern, p); ok && len(n.kept) > 0 {
			paths = append(paths, p)
		}
	}
	if len(paths) == 0 {
		return false
	}
	sort.Strings(paths)
	n := s.names[paths[s.rng.IntN(len(paths))]]
	at, change := s.rng.IntN(len(n.kept)), byte(1+s.rng.IntN(255))
	n.kept[at] ^= change
	if at < len(n.now) {
		n.now = slices.Clone(n.now)
		n.now[at] ^= change
	}
	return true
}

// Restart brings the host back. Open files are closed. After a power cut, what
// was not synced is there in part; otherwise only the process was killed.
func (s *FS) Restart(powerCut bool) {
	s.mu.Lock()
	defer s.mu.Unlock()
	s.era++
	s.off, s.countdown = false, -1
	if !powerCut {
		for _, n := range s.names {
			n.locked = false
		}
		return
	}
	names := map[string]*node{}
	for p, n := range s.kept {
		names[p] = n
	}
	folders := make([]string, 0, len(s.changes))
	for d := range s.changes {
		folders = append(folders, d)
	}
	sort.Strings(folders)
	for _, d := range folders {
		// Journalling file systems keep the order of names; others need not.
		ordered, upTo := s.rng.IntN(3) > 0, s.rng.IntN(len(s.changes[d])+1)
		for i, c := range s.changes[d] {
			if ordered && i >= upTo || !ordered && s.rng.IntN(2) == 0 {
				continue
			}
			apply(names, c)
		}
	}
	paths := make([]string, 0, len(names))
	for p := range names {
		paths = append(paths, p)
	}
	sort.Strings(paths)
	seen := map[*node]bool{}
	for _, p := range paths {
		if n := names[p]; !n.dir && !seen[n] {
			seen[n] = true
			s.lose(n)
		}
		names[p].locked = false
	}
	// A folder that was lost takes along what it held.
	for _, p := range paths {
		for d := filepath.Dir(p); d != "." && d != "/"; d = filepath.Dir(d) {
			if names[d] == nil {
				delete(names, p)
			}
		}
	}
	s.names, s.kept, s.changes = names, map[string]*node{}, map[string][]change{}
	for p, n := range names {
		s.kept[p] = n
	}
}

// lose leaves of the unsynced writes of a file what happened to be written.
func (s *FS) lose(n *node) {
	chance := s.rng.IntN(4)
	out := slices.Clone(n.kept)
	for _, w := range n.pending {
		for at := 0; at < len(w.data); {
			end := min(len(w.data), (w.off+at)/sector*sector+sector-w.off)
			if s.rng.IntN(3) < chance {
				out = put(out, w.off+at, w.data[at:end])
			}
			at = end
		}
	}
	n.now, n.kept, n.pending = out, slices.Clone(out), nil
}

func put(b []byte, off int, data []byte) []byte {
	if need := off + len(data); need > len(b) {
		b = append(b, make([]byte, need-len(b))...)
	}
	copy(b[off:], data)
	return b
}

func apply(names map[string]*node, c change) {
	if c.node == nil {
		delete(names, c.path)
	} else {
		names[c.path] = c.node
	}
}

// step counts a changing operation; it fails once the host is off.
func (s *FS) step() error {
	if s.off {
		return ErrCut
	}
	if s.countdown > 0 {
		s.countdown--
	} else if s.countdown == 0 {
		s.off = true
		return ErrCut
	}
	return nil
}

func (s *FS) fails(one int) bool { return one > 0 && s.rng.IntN(one) == 0 }

func missing(op, path string) error {
	return &fs.PathError{Op: op, Path: path, Err: fs.ErrNotExist}
}

func (s *FS) change(c ...change) {
	for _, x := range c {
		apply(s.names, x)
		d := filepath.Dir(x.path)
		s.changes[d] = append(s.changes[d], x)
	}
}

type mode int

const (
	reading mode = iota
	emptied
	fresh
	editing
)

func (s *FS) open(path string, m mode) (files.File, error) {
	s.mu.Lock()
	defer s.mu.Unlock()
	n := s.names[path]
	if n != nil && n.dir {
		return nil, &fs.PathError{Op: "open", Path: path, Err: syscall.EISDIR}
	}
	if s.off {
		return nil, ErrCut
	}
	switch {
	case m == reading && n == nil:
		return nil, missing("open", path)
	case m == fresh && n != nil:
		return nil, &fs.PathError{Op: "open", Path: path, Err: fs.ErrExist}
	case n == nil || m == emptied:
		if err := s.step(); err != nil {
			return nil, err
		}
		if s.fails(s.odds.Name) {
			return nil, &fs.PathError{Op: "open", Path: path, Err: syscall.EIO}
		}
		if s.names[filepath.Dir(path)] == nil {
			return nil, missing("open", path)
		}
		if n == nil {
			n = &node{}
			s.change(change{path, n})
		} else {
			n.now, n.kept, n.pending = nil, nil, nil
		}
	}
	return &handle{fs: s, node: n, era: s.era, writable: m != reading}, nil
}

// Open implements files.System.
func (s *FS) Open(path string) (files.File, error) { return s.open(path, reading) }

// Create implements files.System.
func (s *FS) Create(path string) (files.File, error) { return s.open(path, emptied) }

// CreateNew implements files.System.
func (s *FS) CreateNew(path string) (files.File, error) { return s.open(path, fresh) }

// Edit implements files.System.
func (s *FS) Edit(path string) (files.File, error) { return s.open(path, editing) }

// ReadFile implements files.System.
func (s *FS) ReadFile(path string) ([]byte, error) {
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.off {
		return nil, ErrCut
	}
	n := s.names[path]
	if n == nil || n.dir {
		return nil, missing("read", path)
	}
	return slices.Clone(n.now), nil
}

// Rename implements files.System.
func (s *FS) Rename(from, to string) error {
	s.mu.Lock()
	defer s.mu.Unlock()
	if err := s.step(); err != nil {
		return err
	}
	n := s.names[from]
	if n == nil {
		return missing("rename", from)
	}
	if s.fails(s.odds.Name) {
		return &fs.PathError{Op: "rename", Path: from, Err: syscall.EIO}
	}
	s.change(change{to, n}, change{from, nil})
	return nil
}

// Remove implements files.System.
func (s *FS) Remove(path string) error {
	s.mu.Lock()
	defer s.mu.Unlock()
	if err := s.step(); err != nil {
		return err
	}
	if s.names[path] == nil {
		return missing("remove", path)
	}
	if s.fails(s.odds.Name) {
		return &fs.PathError{Op: "remove", Path: path, Err: syscall.EIO}
	}
	s.change(change{path, nil})
	return nil
}

// List implements files.System.
func (s *FS) List(dir string) ([]files.Entry, error) {
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.off {
		return nil, ErrCut
	}
	if n := s.names[dir]; n == nil || !n.dir {
		return nil, missing("list", dir)
	}
	var out []files.Entry
	for p, n := range s.names {
		if filepath.Dir(p) == dir && p != dir {
			out = append(out, files.Entry{Name: filepath.Base(p), Dir: n.dir})
		}
	}
	sort.Slice(out, func(i, j int) bool { return out[i].Name < out[j].Name })
	return out, nil
}

// MkdirAll implements files.System. Folders above the first are there for good.
func (s *FS) MkdirAll(dir string) error {
	s.mu.Lock()
	defer s.mu.Unlock()
	var lacking []string
	for d := dir; d != "." && d != "/" && s.names[d] == nil; d = filepath.Dir(d) {
		lacking = append(lacking, d)
	}
	if len(lacking) == 0 && !s.off {
		return nil
	}
	if err := s.step(); err != nil {
		return err
	}
	if s.fails(s.odds.Name) {
		return &fs.PathError{Op: "mkdir", Path: dir, Err: syscall.EIO}
	}
	for _, d := range slices.Backward(lacking) {
		s.change(change{d, &node{dir: true}})
	}
	return nil
}

// SyncDir implements files.System.
func (s *FS) SyncDir(dir string) error {
	s.mu.Lock()
	defer s.mu.Unlock()
	if err := s.step(); err != nil {
		return err
	}
	if s.fails(s.odds.Sync) {
		return fmt.Errorf("sync %s: %w", dir, syscall.EIO)
	}
	for _, c := range s.changes[dir] {
		apply(s.kept, c)
	}
	delete(s.changes, dir)
	return nil
}

// Free implements files.System.
func (s *FS) Free(string) (int64, error) {
	s.mu.Lock()
	defer s.mu.Unlock()
	return s.room(), nil
}

type unlock func()

func (u unlock) Close() error { u(); return nil }

// Lock implements files.System.
func (s *FS) Lock(path string) (io.Closer, error) {
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.off {
		return nil, ErrCut
	}
	n := s.names[path]
	if n == nil {
		n = &node{}
		s.change(change{path, n})
	}
	if n.locked {
		return nil, files.ErrLocked
	}
	n.locked = true
	era := s.era
	return unlock(func() {
		s.mu.Lock()
		defer s.mu.Unlock()
		if s.era == era {
			n.locked = false
		}
	}), nil
}

type handle struct {
	fs       *FS
	node     *node
	era      int
	writable bool
	closed   bool
}

func (h *handle) usable() error {
	if h.fs.off || h.era != h.fs.era {
		return ErrCut
	}
	if h.closed {
		return fs.ErrClosed
	}
	return nil
}

func (h *handle) ReadAt(p []byte, off int64) (int, error) {
	h.fs.mu.Lock()
	defer h.fs.mu.Unlock()
	if err := h.usable(); err != nil {
		return 0, err
	}
	if off >= int64(len(h.node.now)) {
		return 0, io.EOF
	}
	n := copy(p, h.node.now[off:])
	if n < len(p) {
		return n, io.EOF
	}
	return n, nil
}

func (h *handle) WriteAt(p []byte, off int64) (int, error) {
	s := h.fs
	s.mu.Lock()
	defer s.mu.Unlock()
	if err := h.usable(); err != nil {
		return 0, err
	}
	if !h.writable {
		return 0, fs.ErrPermission
	}
	room := s.room() + int64(len(h.node.now)) - off
	n, failed := len(p), s.step()
	switch {
	case failed != nil:
		n = s.rng.IntN(len(p) + 1)
	case room < int64(len(p)):
		n, failed = int(max(0, room)), syscall.ENOSPC
	case s.fails(s.odds.Write):
		n, failed = s.rng.IntN(len(p)+1), syscall.EIO
	}
	if n > 0 {
		h.node.now = put(h.node.now, int(off), p[:n])
		h.node.pending = append(h.node.pending, write{int(off), slices.Clone(p[:n])})
	}
	return n, failed
}

func (h *handle) Size() (int64, error) {
	h.fs.mu.Lock()
	defer h.fs.mu.Unlock()
	return int64(len(h.node.now)), h.usable()
}

func (h *handle) Sync() error {
	s := h.fs
	s.mu.Lock()
	defer s.mu.Unlock()
	if err := h.usable(); err != nil {
		return err
	}
	if err := s.step(); err != nil {
		return err
	}
	n := h.node
	if s.fails(s.odds.Sync) {
		// The kernel takes what it could not write for written: the next sync
		// passes over it, and the cache may forget it too.
		var lost []write
		for _, w := range n.pending {
			if s.rng.IntN(2) == 0 {
				n.kept = put(n.kept, w.off, w.data)
			} else {
				lost = append(lost, w)
			}
		}
		if n.pending = nil; len(lost) > 0 && s.rng.IntN(2) == 0 {
			n.now = append(slices.Clone(n.kept), make([]byte, max(0, len(n.now)-len(n.kept)))...)
		}
		return syscall.EIO
	}
	for _, w := range n.pending {
		n.kept = put(n.kept, w.off, w.data)
	}
	n.pending = nil
	return nil
}

// BeginWriting implements files.Hinter.
func (h *handle) BeginWriting(int64, int64) {}

// DropCache implements files.Hinter.
func (h *handle) DropCache() {
	h.fs.mu.Lock()
	defer h.fs.mu.Unlock()
	if n := h.node; h.usable() == nil && n.pending == nil {
		n.now = append(slices.Clone(n.kept), make([]byte, max(0, len(n.now)-len(n.kept)))...)
	}
}

func (h *handle) Close() error {
	h.fs.mu.Lock()
	defer h.fs.mu.Unlock()
	h.closed = true
	return nil
}
