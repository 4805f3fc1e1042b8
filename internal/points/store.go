// Package points is the point store: it keeps recovery points as trees of
// content-addressed blocks in append-only packs. Packs and seals are the truth;
// everything else in memory or in other files can be rebuilt from them.
// docs/formats.md describes every byte on disk.
package points

import (
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"path/filepath"
	"slices"
	"sync"
	"sync/atomic"
	"time"

	"kestrel/internal/files"
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
	file    files.File
	size    int64
	entries []entry // of a pack being written, until its index is
	synced  int64   // bytes that are on the disk for certain
	started int64   // bytes that the kernel was told to begin writing
	indexed bool    // its index is written, for good
	stale   bool    // it has records that are in the clear or under an older key
}

// Store is an open point store. Its methods may be called at the same time.
type Store struct {
	dir  string
	fs   files.System
	lock io.Closer // nil: open for reading only
	ring *ring     // nil: in the clear
	now  func() time.Time
	// later runs what nobody waits for; packFull is the size of a pack.
	later    func(func())
	once     bool // files cannot be added to once they are synced
	packFull int64

	index *blockIndex

	mu      sync.RWMutex // guards packs, bad, lostDue, and changes of index that go with them
	packs   map[uint32]*openPack
	active  uint32 // 0: none yet
	next    uint32
	bad     map[Name]badRecord // found damaged, and not put again since
	lostDue bool               // bad has changed since lost was found

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

	numberAfter func(group string) int64 // nil: nobody else counts points

	sealMu sync.RWMutex
	seals  *shelf
	ghosts map[string]*Seal // as seals, but it is not known whether they are there
	homes  map[string]bool  // groups whose folder of seals is there for good
	inUse  map[string]int

	locks locks

	lostMu sync.Mutex // guards lost, tried, pass; taken before mu
	lost   []Lost
	tried  map[Lost]bool // asked for at home, in vain
	pass   VerifyPass

	damageSeen atomic.Int64
	healedSeen atomic.Int64
	moved      atomic.Int64           // records that were written anew
	retainedAs atomic.Pointer[string] // what Retain did last
	floor      atomic.Int64           // bytes of the file system that incoming blocks leave free
}

// Options are what a store may be opened with.
type Options struct {
	Now func() time.Time // clock for creation times
	// Files is the file system; that of the host if nil.
	Files files.System
	// Later runs work that nobody waits for; on a goroutine of its own if nil.
	Later func(func())
	// PackBytes is the size at which a pack is closed; 256 MiB if zero.
	PackBytes int64
	// Secret opens an encrypted store, and makes one of a store in the clear.
	Secret Secret
	// Index is where it is kept where blocks stand; in memory if nothing is said.
	Index Index
}

func newStore(dir string, o Options) *Store {
	s := &Store{dir: dir, fs: o.Files, now: o.Now, later: o.Later, packFull: o.PackBytes}
	if s.fs == nil {
		s.fs = files.OS{}
	}
	_, s.once = s.fs.(files.WriteOncer)
	if s.later == nil {
		s.later = func(f func()) { go f() }
	}
	if s.packFull == 0 {
		s.packFull = packFull
	}
	return s
}

// Open opens the store at dir, making it if there is none, and takes it for
// this process alone.
func Open(dir string, o Options) (*Store, error) {
	s := newStore(dir, o)
	for _, d := range []string{"packs", "seals", "intakes"} {
		if err := s.fs.MkdirAll(filepath.Join(dir, d)); err != nil {
			return nil, fmt.Errorf("make point store: %w", err)
		}
	}
	// An earlier run may have made folders and files and not come to this: what
	// is seen need not be there after a power cut, and all that follows rests
	// on it.
	for _, d := range []string{filepath.Dir(dir), dir, s.packDir(), filepath.Join(dir, "seals")} {
		if err := s.fs.SyncDir(d); err != nil {
			return nil, fmt.Errorf("make point store: %w", err)
		}
	}
	lock, err := s.fs.Lock(filepath.Join(dir, "lock"))
	if errors.Is(err, files.ErrLocked) {
		return nil, fmt.Errorf("point store %s is used by another process: stop that one first", dir)
	}
	if err != nil {
		return nil, fmt.Errorf("open point store: %w", err)
	}
	s.lock = lock
	if err := s.load(o.Secret, o.Index); err != nil {
		if s.index != nil {
			err = errors.Join(err, s.index.close())
		}
		_ = lock.Close()
		return nil, err
	}
	return s, nil
}

// OpenForReading opens a store without taking it, to look at it while a
// service may be writing. Nothing may be put, sealed or swept through it.
func OpenForReading(dir string, o Options) (*Store, error) {
	s := newStore(dir, o)
	if _, err := s.fs.List(filepath.Join(dir, "packs")); err != nil {
		return nil, fmt.Errorf("no point store at %s: %w", dir, err)
	}
	return s, s.load(o.Secret, Index{})
}

func (s *Store) load(secret Secret, index Index) error {
	s.packs = map[uint32]*openPack{}
	s.ghosts = map[string]*Seal{}
	s.bad, s.tried = map[Name]badRecord{}, map[Lost]bool{}
	s.intakes, s.seals, s.inUse, s.homes = map[string]*Intake{}, newShelf(), map[string]int{}, map[string]bool{}
	made, err := s.checkFormat()
	if err != nil {
		return err
	}
	if err := s.loadRing(secret); err != nil {
		return err
	}
	numbers, err := s.listPacks()
	if err != nil {
		return err
	}
	if s.index, err = openIndex(index, s.dir+" of "+made.UTC().Format(time.RFC3339Nano), numbers); err != nil {
		return err
	}
	s.next = 1
	for _, n := range numbers {
		if err := s.loadPack(n); err != nil {
			return fmt.Errorf("load pack %08x: %w", n, err)
		}
		s.next = n + 1
	}
	s.loadDamage()
	s.loadPass()
	if err := s.loadSeals(); err != nil {
		return err
	}
	if err := s.loadLocks(); err != nil {
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

// checkFormat tells when the store was made.
func (s *Store) checkFormat() (made time.Time, err error) {
	path := filepath.Join(s.dir, "store.json")
	b, err := s.fs.ReadFile(path)
	if errors.Is(err, fs.ErrNotExist) && s.lock != nil {
		made = s.now().UTC()
		b, _ = json.Marshal(formatFile{"kestrel tide point store", 1, made})
		if err := files.WriteWhole(s.fs, path, append(b, '\n')); err != nil {
			return made, fmt.Errorf("write store.json: %w", err)
		}
		return made, nil
	}
	if err != nil {
		return made, fmt.Errorf("read store.json: %w", err)
	}
	var f formatFile
	if err := json.Unmarshal(b, &f); err != nil || f.Version != 1 {
		return made, fmt.Errorf("%s is not a point store of version 1", s.dir)
	}
	return f.Created, nil
}

// loadPack opens a pack and enters its records into the index, from its index
// file or by reading it whole. A record written again later wins, so that a
// healed block hides the damaged one.
func (s *Store) loadPack(n uint32) error {
	f, err := s.fs.Open(packPath(s.packDir(), n))
	if err != nil {
		return err
	}
	size, err := f.Size()
	if err != nil {
		return err
	}
	p := &openPack{number: n, file: f, size: size, synced: size, indexed: true}
	head, err := headOf(f)
	if err != nil {
		return err
	}
	if k, ok := s.index.knows(n, size, head); ok {
		s.packs[n] = p
		p.stale = slices.ContainsFunc(k.keys, func(k uint16) bool { return k != s.activeKey() })
		return nil
	}
	entries, err := s.readPackIndex(f, n, p.size)
	if err != nil {
		entries = nil
		if s.lock != nil {
			// An earlier run may have met a sync that failed. What that sync
			// lost is still in the cache, and no later one writes it: the disk
			// itself has to be read.
			if err := f.Sync(); err != nil {
				return err
			}
			if h, ok := f.(files.Hinter); ok {
				h.DropCache()
			}
		}
		_, err := s.scanPack(f, p.size, func(e entry, _ record, _ []byte) error {
			entries = append(entries, e)
			return nil
		})
		if err != nil {
			return err
		}
		if s.lock != nil {
			// Nothing is ever appended to a pack of an earlier run, so it
			// counts as closed.
			if err := s.writePackIndex(f, n, p.size, entries); err != nil {
				return err
			}
		}
	}
	s.packs[n] = p
	for i, e := range entries {
		was, had := s.index.get(keyOf(e.name))
		if !had || was.pack <= n {
			s.index.set(keyOf(e.name), location{n, e.offset, e.stored}, had)
		}
		entries[i].before = was
		p.stale = p.stale || e.key != s.activeKey()
	}
	return s.index.settle(n, packKnown{size: size, head: head}, entries)
}

// headOf is the checksum of a pack's header, by which packs of one number are told apart. It is 0
// of a pack that is too short to have one.
func headOf(f io.ReaderAt) (uint32, error) {
	b := make([]byte, packHeader)
	n, err := f.ReadAt(b, 0)
	if err != nil && !errors.Is(err, io.EOF) {
		return 0, fmt.Errorf("read the header of a pack: %w", err)
	}
	if n < packHeader {
		return 0, nil
	}
	return checksum(b), nil
}

func (s *Store) packDir() string { return filepath.Join(s.dir, "packs") }

// NumberAfter has points numbered after those that are kept elsewhere, of which last tells
// the highest number of a group. It is called before the store is used.
func (s *Store) NumberAfter(last func(group string) int64) { s.numberAfter = last }

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
	return errors.Join(err, s.index.close(), s.lock.Close())
}

// Halt lets go of what the store holds beside its files, and writes nothing there, as a process
// that ends at once: for trying what comes after that.
func (s *Store) Halt() error {
	return s.index.halt()
}

// Usage is what a store takes up.
type Usage struct {
	PackBytes int64
	Packs     int
	Records   int
	Points    int
	Intakes   int
	// DamagedRecords counts records found bad since Open, HealedRecords those
	// that were put again, and BadRecords those that are bad now.
	DamagedRecords int64
	HealedRecords  int64
	BadRecords     int
	// FreeBytes is the room left on the file system for this user, and
	// FloorBytes what incoming blocks have to leave.
	FreeBytes  int64
	FloorBytes int64
}

// Usage counts what the store holds.
func (s *Store) Usage() Usage {
	u := Usage{DamagedRecords: s.damageSeen.Load(), HealedRecords: s.healedSeen.Load()}
	s.mu.RLock()
	for _, p := range s.packs {
		u.PackBytes += p.size
	}
	u.Packs, u.Records, u.BadRecords = len(s.packs), s.index.size(), len(s.bad)
	s.mu.RUnlock()
	s.sealMu.RLock()
	u.Points = len(s.seals.byPoint) - len(s.seals.byGroup[CarriedGroup])
	s.sealMu.RUnlock()
	s.intakeMu.Lock()
	u.Intakes = len(s.intakes)
	s.intakeMu.Unlock()
	u.FreeBytes, _ = s.free()
	u.FloorBytes = s.floor.Load()
	return u
}

// Dir is the folder of the store.
func (s *Store) Dir() string { return s.dir }
