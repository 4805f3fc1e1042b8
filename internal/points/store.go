// Package points is the point store: it keeps recovery points as trees of
// content-addressed blocks in append-only packs. Packs and seals are the truth;
// everything else in memory or in other files can be rebuilt from them.
// docs/formats.md describes every byte on disk.
package points

import (
	"encoding/json"
	"errors"
	"fmt"
	"hash/crc32"
	"io/fs"
	"os"
	"path/filepath"
	"sync"
	"sync/atomic"
	"syscall"
	"time"
)

// ErrNotFound is wrapped where a block, a point or an intake is not in the store.
var ErrNotFound = errors.New("not in the store")

// location is where a record lies. Names are shortened to keys in the index;
// the full name stands in the record and is compared on every read.
type location struct{ pack, offset, stored uint32 }

type key [16]byte

func keyOf(n Name) key { return key(n[:16]) }

type openPack struct {
	number  uint32
	file    *os.File
	size    int64
	entries []entry // of a pack being written, until its index is
	synced  int64   // bytes that are on the disk for certain
	started int64   // bytes that the kernel was told to begin writing
	indexed bool    // its index is written, for good
}

// Store is an open point store. Its methods may be called at the same time.
type Store struct {
	dir  string
	lock *os.File
	now  func() time.Time

	mu     sync.RWMutex // guards index, packs
	index  map[key]location
	packs  map[uint32]*openPack
	active uint32 // 0: none yet
	next   uint32

	writeMu sync.Mutex  // one appender at a time; taken before mu
	full    []*openPack // not written to any more, to be synced and given an index
	written int64       // records appended since Open
	syncMu  sync.Mutex  // one sync at a time; taken before writeMu
	durable int64       // of written, those that are on the disk for certain
	// losses counts the syncs that failed. Another's sync may succeed after
	// one that lost our records, so who relies on them compares it as well.
	losses  atomic.Int64
	buffers sync.Pool // of *[]byte, for one record each

	intakeMu sync.Mutex
	intakes  map[string]*Intake
	// sweepMu lets many ask for and rely on blocks while none are swept.
	sweepMu sync.RWMutex

	sealMu sync.RWMutex
	seals  map[string]*Seal // by point ID
	inUse  map[string]int

	damageSeen atomic.Int64
	floor      int64 // bytes of the file system that incoming blocks leave free
}

// Open opens the store at dir, making it if there is none, and takes it for
// this process alone. Now is the clock for creation times.
func Open(dir string, now func() time.Time) (*Store, error) {
	for _, d := range []string{"packs", "seals", "intakes"} {
		if err := os.MkdirAll(filepath.Join(dir, d), 0o700); err != nil {
			return nil, fmt.Errorf("make point store: %w", err)
		}
	}
	lock, err := os.OpenFile(filepath.Join(dir, "lock"), os.O_RDWR|os.O_CREATE, 0o600)
	if err != nil {
		return nil, fmt.Errorf("open point store: %w", err)
	}
	if err := syscall.Flock(int(lock.Fd()), syscall.LOCK_EX|syscall.LOCK_NB); err != nil {
		_ = lock.Close()
		return nil, fmt.Errorf("point store %s is used by another process: stop that one first", dir)
	}
	s := &Store{dir: dir, lock: lock, now: now}
	if err := s.load(); err != nil {
		_ = lock.Close()
		return nil, err
	}
	return s, nil
}

// OpenForReading opens a store without taking it, to look at it while a
// service may be writing. Nothing may be put, sealed or swept through it.
func OpenForReading(dir string) (*Store, error) {
	if _, err := os.Stat(filepath.Join(dir, "packs")); err != nil {
		return nil, fmt.Errorf("no point store at %s: %w", dir, err)
	}
	s := &Store{dir: dir, now: time.Now}
	return s, s.load()
}

func (s *Store) load() error {
	s.index, s.packs = map[key]location{}, map[uint32]*openPack{}
	s.intakes, s.seals, s.inUse = map[string]*Intake{}, map[string]*Seal{}, map[string]int{}
	if err := s.checkFormat(); err != nil {
		return err
	}
	numbers, err := listPacks(s.packDir())
	if err != nil {
		return err
	}
	s.next = 1
	for _, n := range numbers {
		if err := s.loadPack(n); err != nil {
			return fmt.Errorf("load pack %08x: %w", n, err)
		}
		s.next = n + 1
	}
	if err := s.loadSeals(); err != nil {
		return err
	}
	if s.lock == nil {
		return nil
	}
	return s.loadIntakes()
}

type formatFile struct {
	Format  string    `json:"format"`
	Version int       `json:"version"`
	Created time.Time `json:"created"`
}

func (s *Store) checkFormat() error {
	path := filepath.Join(s.dir, "store.json")
	b, err := os.ReadFile(path)
	if errors.Is(err, fs.ErrNotExist) && s.lock != nil {
		b, _ = json.Marshal(formatFile{"kestrel tide point store", 1, s.now().UTC()})
		if err := writeFileSync(path, append(b, '\n')); err != nil {
			return fmt.Errorf("write store.json: %w", err)
		}
		return nil
	}
	if err != nil {
		return fmt.Errorf("read store.json: %w", err)
	}
	var f formatFile
	if err := json.Unmarshal(b, &f); err != nil || f.Version != 1 {
		return fmt.Errorf("%s is not a point store of version 1", s.dir)
	}
	return nil
}

// loadPack opens a pack and enters its records into the index, from its index
// file or by reading it whole. A record written again later wins, so that a
// healed block hides the damaged one.
func (s *Store) loadPack(n uint32) error {
	f, err := os.Open(packPath(s.packDir(), n))
	if err != nil {
		return err
	}
	st, err := f.Stat()
	if err != nil {
		return err
	}
	p := &openPack{number: n, file: f, size: st.Size(), synced: st.Size(), indexed: true}
	entries, err := readPackIndex(s.packDir(), n, p.size)
	if err != nil {
		entries = nil
		_, err := scanPack(f, p.size, func(e entry, _ record, _ []byte) error {
			entries = append(entries, e)
			return nil
		})
		if err != nil {
			return err
		}
		if s.lock != nil {
			// Nothing is ever appended to a pack of an earlier run, so it
			// counts as closed.
			if err := errors.Join(f.Sync(), writePackIndex(s.packDir(), n, p.size, entries)); err != nil {
				return err
			}
		}
	}
	s.packs[n] = p
	for _, e := range entries {
		s.index[keyOf(e.name)] = location{n, e.offset, e.stored}
	}
	return nil
}

func (s *Store) packDir() string { return filepath.Join(s.dir, "packs") }

// Close syncs and lets go of the store.
func (s *Store) Close() error {
	if s.lock == nil {
		return nil
	}
	err := s.Sync()
	s.intakeMu.Lock()
	for _, in := range s.intakes {
		err = errors.Join(err, in.journal.Close())
	}
	s.intakeMu.Unlock()
	s.mu.Lock()
	defer s.mu.Unlock()
	for _, p := range s.packs {
		err = errors.Join(err, p.file.Close())
	}
	return errors.Join(err, s.lock.Close())
}

// Has reports whether the store holds name; it always holds the zero name.
func (s *Store) Has(name Name) bool {
	if name.IsZero() {
		return true
	}
	s.mu.RLock()
	_, ok := s.index[keyOf(name)]
	s.mu.RUnlock()
	return ok
}

// buffer lends room for one record; giveBack takes it back.
func (s *Store) buffer() *[]byte {
	if b, ok := s.buffers.Get().(*[]byte); ok {
		return b
	}
	b := make([]byte, 0, recordHeader+maxContent)
	return &b
}

func (s *Store) giveBack(b *[]byte) { s.buffers.Put(b) }

// put verifies and appends one record unless the store holds it already. It is
// durable after the next Sync.
func (s *Store) put(kind Kind, name Name, enc Encoding, length uint32, stored []byte) error {
	if s.Has(name) {
		return nil
	}
	b := s.buffer()
	defer s.giveBack(b)
	if _, err := verify((*b)[:0], kind, enc, length, stored, name); err != nil {
		return err
	}
	return s.append(record{kind, enc, length, uint32(len(stored)), name, crc32.Checksum(stored, castagnoli)}, stored)
}

// append writes a verified record to the active pack.
func (s *Store) append(r record, stored []byte) error {
	b := s.buffer()
	defer s.giveBack(b)
	buf := append(r.append((*b)[:0]), stored...)
	s.writeMu.Lock()
	defer s.writeMu.Unlock()
	p, err := s.writable()
	if err != nil {
		return err
	}
	off := p.size
	if n, err := p.file.WriteAt(buf, off); err != nil {
		// What was written in part is hidden: the next record overwrites it,
		// or the scan passes over it.
		return fmt.Errorf("write %d of %d bytes to pack %08x: %w", n, len(buf), s.active, err)
	}
	s.written++
	e := entry{r.name, uint32(off), r.stored, r.kind}
	p.entries = append(p.entries, e)
	s.mu.Lock()
	p.size += int64(len(buf))
	s.index[keyOf(r.name)] = location{s.active, e.offset, e.stored}
	s.mu.Unlock()
	if p.size-p.started >= writeAhead {
		beginWriting(p.file, p.started, p.size-p.started)
		p.started = p.size
	}
	return nil
}

// writeAhead is how much is gathered before the kernel is told to begin writing
// it, so that a sync has little left to wait for.
const writeAhead = 8 << 20

// writable gives the pack to append to; writeMu is held.
func (s *Store) writable() (*openPack, error) {
	if s.active != 0 {
		p := s.packs[s.active]
		if p.size < packFull {
			return p, nil
		}
		s.full = append(s.full, p)
		s.mu.Lock()
		s.active = 0
		s.mu.Unlock()
		// What fails is forgotten, and whoever relies on it learns of it then.
		go func() { _ = s.Sync() }()
	}
	s.mu.RLock()
	n := s.next
	s.mu.RUnlock()
	f, err := os.OpenFile(packPath(s.packDir(), n), os.O_RDWR|os.O_CREATE|os.O_EXCL, 0o600)
	if err != nil {
		return nil, fmt.Errorf("begin pack: %w", err)
	}
	head := appendPackHeader(nil, n, s.now())
	_, err = f.WriteAt(head, 0)
	if err == nil {
		err = syncDir(s.packDir())
	}
	if err != nil {
		_ = f.Close()
		_ = os.Remove(f.Name())
		return nil, fmt.Errorf("begin pack: %w", err)
	}
	p := &openPack{number: n, file: f, size: int64(len(head))}
	s.mu.Lock()
	s.packs[n], s.active, s.next = p, n, n+1
	s.mu.Unlock()
	return p, nil
}

// Sync makes everything put so far durable. Appending goes on meanwhile, and
// those who wait for the same bytes wait for one sync. What cannot be made
// durable is forgotten, so that it counts as missing and is asked for again.
func (s *Store) Sync() error {
	s.writeMu.Lock()
	want := s.written
	s.writeMu.Unlock()
	s.syncMu.Lock()
	defer s.syncMu.Unlock()
	if s.durable >= want {
		return nil
	}
	s.writeMu.Lock()
	want = s.written
	packs := s.full
	s.full = nil
	if s.active != 0 {
		packs = append(packs[:len(packs):len(packs)], s.packs[s.active])
	}
	sizes := make([]int64, len(packs))
	for i, p := range packs {
		sizes[i] = p.size
	}
	s.writeMu.Unlock()
	var errs error
	for i, p := range packs {
		if err := p.file.Sync(); err != nil {
			errs = errors.Join(errs, fmt.Errorf("sync pack %08x: %w", p.number, err))
			s.forgetUnsynced(p)
			continue
		}
		p.synced = max(p.synced, sizes[i])
		if err := s.indexFull(p); err != nil {
			errs = errors.Join(errs, err)
		}
	}
	if errs == nil {
		s.durable = want
	}
	return errs
}

// indexFull writes the index of a synced pack that is not written to any more.
func (s *Store) indexFull(p *openPack) error {
	s.writeMu.Lock()
	appending := s.active == p.number
	s.writeMu.Unlock()
	s.mu.RLock()
	there := s.packs[p.number] == p
	s.mu.RUnlock()
	if appending || !there || p.indexed || p.synced < p.size {
		return nil
	}
	if err := writePackIndex(s.packDir(), p.number, p.size, p.entries); err != nil {
		return fmt.Errorf("write pack index: %w", err)
	}
	s.writeMu.Lock()
	p.entries, p.indexed = nil, true
	s.writeMu.Unlock()
	return nil
}

// forgetUnsynced takes the records of a pack out of the index that did not reach
// the disk: after a failed sync the kernel may have dropped them, and a later
// sync would not say so. Nothing is appended to that pack any more.
func (s *Store) forgetUnsynced(p *openPack) {
	s.writeMu.Lock()
	defer s.writeMu.Unlock()
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.active == p.number {
		s.active = 0
	}
	kept := p.entries[:0:0]
	for _, e := range p.entries {
		at := location{p.number, e.offset, e.stored}
		switch {
		case int64(e.offset)+recordHeader+int64(e.stored) <= p.synced:
			kept = append(kept, e)
		case s.index[keyOf(e.name)] == at:
			delete(s.index, keyOf(e.name))
		}
	}
	p.entries = kept
	// Last: who has read it before asks the index too early, and is told.
	s.losses.Add(1)
}

// errLost says that records were lost by a sync that failed meanwhile.
var errLost = errors.New("what was written could not be made durable, and has to be written again")

// syncSince is Sync for who relies on all that was put since losses was read.
func (s *Store) syncSince(losses int64) error {
	if err := s.Sync(); err != nil {
		return err
	}
	if s.losses.Load() != losses {
		return errLost
	}
	return nil
}

// read fetches and verifies the content of name. A record that fails is taken
// out of the index, so that the block counts as missing and is shipped again
// where its content still exists.
func (s *Store) read(dst []byte, name Name) ([]byte, error) {
	for try := 0; ; try++ {
		s.mu.RLock()
		loc, ok := s.index[keyOf(name)]
		var p *openPack
		if ok {
			p = s.packs[loc.pack]
		}
		s.mu.RUnlock()
		if !ok {
			return nil, fmt.Errorf("block %s: %w", name, ErrNotFound)
		}
		if p == nil {
			if try > 3 {
				return nil, fmt.Errorf("block %s: its pack is gone: %w", name, ErrNotFound)
			}
			continue // moved by a sweep between the two look-ups
		}
		content, err := s.readAt(p.file, loc, name, dst)
		if err == nil {
			return content, nil
		}
		if errors.Is(err, ErrDamaged) && s.lock != nil {
			s.mu.Lock()
			if s.index[keyOf(name)] == loc {
				delete(s.index, keyOf(name))
				s.damageSeen.Add(1)
			}
			s.mu.Unlock()
		}
		return nil, fmt.Errorf("read pack %08x at %d: %w", loc.pack, loc.offset, err)
	}
}

func (s *Store) readAt(f *os.File, loc location, name Name, dst []byte) ([]byte, error) {
	if loc.stored > maxContent {
		return nil, fmt.Errorf("a record of %d bytes: %w", loc.stored, ErrDamaged)
	}
	b := s.buffer()
	defer s.giveBack(b)
	buf := (*b)[:recordHeader+int(loc.stored)]
	if _, err := f.ReadAt(buf, int64(loc.offset)); err != nil {
		return nil, fmt.Errorf("%v: %w", err, ErrDamaged)
	}
	r, err := parseRecord(buf)
	if err != nil {
		return nil, err
	}
	if r.name != name || r.stored != loc.stored {
		return nil, fmt.Errorf("another record stands where %s should: %w", name, ErrDamaged)
	}
	return verify(dst, r.kind, r.encoding, r.length, buf[recordHeader:], name)
}

// Block reads one block into dst, which may be nil, and returns it.
func (s *Store) Block(dst []byte, name Name) ([]byte, error) {
	if name.IsZero() {
		return append(dst[:0], make([]byte, BlockSize)...), nil
	}
	return s.read(dst, name)
}

// Usage is what a store takes up.
type Usage struct {
	PackBytes int64
	Packs     int
	Records   int
	Points    int
	Intakes   int
	// DamagedRecords counts records found bad by reads since Open.
	DamagedRecords int64
	// FreeBytes is the room left on the file system for this user, and
	// FloorBytes what incoming blocks have to leave.
	FreeBytes  int64
	FloorBytes int64
}

// Usage counts what the store holds.
func (s *Store) Usage() Usage {
	u := Usage{DamagedRecords: s.damageSeen.Load()}
	s.mu.RLock()
	for _, p := range s.packs {
		u.PackBytes += p.size
	}
	u.Packs, u.Records = len(s.packs), len(s.index)
	s.mu.RUnlock()
	s.sealMu.RLock()
	u.Points = len(s.seals)
	s.sealMu.RUnlock()
	s.intakeMu.Lock()
	u.Intakes = len(s.intakes)
	s.intakeMu.Unlock()
	u.FreeBytes, _ = s.free()
	u.FloorBytes = s.floor
	return u
}

// Dir is the folder of the store.
func (s *Store) Dir() string { return s.dir }
