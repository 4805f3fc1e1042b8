package points

import (
	"encoding/binary"
	"errors"
	"fmt"
	"slices"
	"sync"

	"github.com/cockroachdb/pebble/v2"
	"github.com/cockroachdb/pebble/v2/bloom"
	"github.com/cockroachdb/pebble/v2/sstable"
	"github.com/cockroachdb/pebble/v2/vfs"
)

// blockIndex tells where the record of a block stands. What packs hold that are whole and on the
// disk for good is kept in an embedded store beside the point store, where there is one: it takes
// as much memory as is set, however many blocks there are. The rest, of packs that are being
// written, is in memory, and so is all where there is none.
//
// What is kept is a cache. It never tells of a record in a pack that was removed: what is taken
// out is out for good before the pack goes. Whatever else of it is lost is read from the packs'
// own indexes again: which packs it knows stands in it, after their records.
type blockIndex struct {
	db *pebble.DB // nil: all is in memory
	// life is held by those who read what is kept, and by who ends that.
	life  sync.RWMutex
	ended bool
	fs    vfs.FS
	dir   string

	// move is held while what is kept changes, and taken before mu.
	move  sync.Mutex
	held  int64 // blocks that are kept
	mu    sync.RWMutex
	young map[key]location
	known map[uint32]packKnown // packs whose records are kept
	count int64                // of blocks, young ones that are not kept as well
	fault error                // that kept ones could not be read, or written
}

// packKnown is what is kept of a pack beside its records.
type packKnown struct {
	size int64
	head uint32   // checksum of its header
	keys []uint16 // that its records are encrypted under
}

// Index says where a store keeps what it knows of where blocks stand.
type Index struct {
	Dir   string // a folder of this host, which may be removed while nothing runs; empty keeps all in memory
	Cache int64  // bytes of memory; 64 MiB if zero
	Files vfs.FS // that the folder is in; those of the host if nil
}

const (
	usualIndexCache = 64 << 20
	indexBuffer     = 32 << 20
	bloomBits       = 10 // a key: one look-up in a hundred for a block that is not there reads
)

// errEnded says that the store was closed while somebody still used it.
var errEnded = errors.New("it was closed")

// Keys of what is kept: of a block its key after a b, of a pack its number after a p.
func blockKey(k key) []byte { return append([]byte{'b'}, k[:]...) }

func packKey(n uint32) []byte { return binary.BigEndian.AppendUint32([]byte{'p'}, n) }

var (
	countKey = []byte("count")
	storeKey = []byte("store")
)

func (l location) bytes() []byte {
	b := binary.LittleEndian.AppendUint32(make([]byte, 0, 12), l.pack)
	return binary.LittleEndian.AppendUint32(binary.LittleEndian.AppendUint32(b, l.offset), l.stored)
}

func locationOf(b []byte) location {
	return location{binary.LittleEndian.Uint32(b), binary.LittleEndian.Uint32(b[4:]), binary.LittleEndian.Uint32(b[8:])}
}

// openIndex opens the index of a store that has some packs. What is kept of another one, or of
// packs that are not there, or cannot be read, is removed and made anew.
func openIndex(o Index, store string, packs []uint32) (*blockIndex, error) {
	x := &blockIndex{fs: o.Files, dir: o.Dir, young: map[key]location{}, known: map[uint32]packKnown{}}
	if o.Dir == "" {
		return x, nil
	}
	if x.fs == nil {
		x.fs = vfs.Default
	}
	err := x.open(o, store)
	there := map[uint32]bool{}
	for _, n := range packs {
		there[n] = true
	}
	if err == nil && !x.strange(there) {
		return x, nil
	}
	if err := x.anew(); err != nil {
		return nil, err
	}
	if err := x.open(o, store); err != nil {
		return nil, fmt.Errorf("make the index of blocks in %s: %w", o.Dir, err)
	}
	return x, nil
}

// anew removes what is kept.
func (x *blockIndex) anew() error {
	if x.db != nil {
		_ = x.db.Close()
	}
	x.db, x.known, x.held, x.count, x.fault = nil, map[uint32]packKnown{}, 0, int64(len(x.young)), nil
	if err := x.fs.RemoveAll(x.dir); err != nil {
		return fmt.Errorf("remove the index of blocks: %w", err)
	}
	return nil
}

func (x *blockIndex) open(o Index, store string) (err error) {
	if err := x.fs.MkdirAll(o.Dir, 0o700); err != nil {
		return err
	}
	size := o.Cache
	if size == 0 {
		size = usualIndexCache
	}
	cache := pebble.NewCache(size)
	defer cache.Unref()
	// Without a log of its own: what a crash loses is read from the packs again.
	opts := &pebble.Options{FS: x.fs, Cache: cache, DisableWAL: true, MemTableSize: indexBuffer, Logger: mute{x}, FormatMajorVersion: pebble.FormatNewest, MaxOpenFiles: 200,
		EventListener: &pebble.EventListener{BackgroundError: x.failed}}
	for i := range opts.Levels {
		opts.Levels[i].FilterPolicy = bloom.FilterPolicy(bloomBits)
		opts.Levels[i].Compression = func() *sstable.CompressionProfile { return sstable.NoCompression } // names are random
	}
	if x.db, err = pebble.Open(o.Dir, opts); err != nil {
		return err
	}
	switch of, err := x.value(storeKey); {
	case err != nil:
		return err
	case of == nil:
		if err := x.db.Set(storeKey, []byte(store), pebble.NoSync); err != nil {
			return err
		}
	case string(of) != store:
		return errors.New("it is of another store")
	}
	n, err := x.value(countKey)
	if err != nil {
		return err
	}
	if len(n) == 8 {
		x.held = int64(binary.LittleEndian.Uint64(n))
		x.count = x.held
	}
	it, err := x.db.NewIter(&pebble.IterOptions{LowerBound: []byte{'p'}, UpperBound: []byte{'p' + 1}})
	if err != nil {
		return err
	}
	for it.First(); it.Valid(); it.Next() {
		v := it.Value()
		if len(it.Key()) != 5 || len(v) < 12 || len(v)%2 != 0 {
			continue
		}
		p := packKnown{size: int64(binary.LittleEndian.Uint64(v)), head: binary.LittleEndian.Uint32(v[8:])}
		for v = v[12:]; len(v) > 0; v = v[2:] {
			p.keys = append(p.keys, binary.LittleEndian.Uint16(v))
		}
		x.known[binary.BigEndian.Uint32(it.Key()[1:])] = p
	}
	return errors.Join(it.Error(), it.Close())
}

// value reads one; nil is none.
func (x *blockIndex) value(k []byte) ([]byte, error) {
	v, end, err := x.db.Get(k)
	if errors.Is(err, pebble.ErrNotFound) {
		return nil, nil
	}
	if err != nil {
		return nil, err
	}
	v = slices.Clone(v)
	return v, end.Close()
}

// failed remembers that what is kept cannot be relied on. Then nothing is removed from the store,
// and all is read anew when it is opened the next time.
func (x *blockIndex) failed(err error) {
	x.mu.Lock()
	defer x.mu.Unlock()
	if x.fault == nil {
		x.fault = fmt.Errorf("the index of blocks in %s: %w", x.dir, err)
	}
}

// trusted says why it cannot be relied on that what is not found is not there.
func (x *blockIndex) trusted() error {
	x.life.RLock()
	ended := x.ended
	x.life.RUnlock()
	if ended {
		return errEnded
	}
	return x.broken()
}

func (x *blockIndex) broken() error {
	x.mu.RLock()
	defer x.mu.RUnlock()
	return x.fault
}

// get tells where a block's record stands. Nobody else is waited for.
func (x *blockIndex) get(k key) (location, bool) {
	x.mu.RLock()
	at, ok := x.young[k]
	x.mu.RUnlock()
	if ok || x.db == nil {
		return at, ok
	}
	if at, ok = x.kept(k); ok {
		return at, true
	}
	// It may have been written anew, and what was kept been dropped, between the two looks.
	x.mu.RLock()
	defer x.mu.RUnlock()
	at, ok = x.young[k]
	return at, ok
}

// written tells where a block's record stands that is not kept yet.
func (x *blockIndex) written(k key) (location, bool) {
	x.mu.RLock()
	defer x.mu.RUnlock()
	at, ok := x.young[k]
	return at, ok
}

// leads tells whether the index leads to a record for a name.
func (x *blockIndex) leads(name Name, at location) bool {
	now, ok := x.get(keyOf(name))
	return ok && now == at
}

func (x *blockIndex) kept(k key) (location, bool) {
	x.life.RLock()
	defer x.life.RUnlock()
	if x.ended {
		return location{}, false
	}
	v, end, err := x.db.Get(blockKey(k))
	if err != nil {
		if !errors.Is(err, pebble.ErrNotFound) {
			x.failed(err)
		}
		return location{}, false
	}
	at := location{}
	if len(v) == 12 {
		at = locationOf(v)
	}
	if err := end.Close(); err != nil {
		x.failed(err)
	}
	return at, at.pack != 0
}

// set enters where the newest record of a block stands; had says that there was one before.
func (x *blockIndex) set(k key, at location, had bool) {
	x.mu.Lock()
	defer x.mu.Unlock()
	if !had {
		x.count++
	}
	x.young[k] = at
}

// drop takes a block out, wherever it stands.
func (x *blockIndex) drop(k key) {
	x.move.Lock()
	defer x.move.Unlock()
	was := false
	if x.db != nil {
		if _, was = x.kept(k); was {
			b := x.db.NewBatch()
			defer func() { _ = b.Close() }()
			if err := errors.Join(b.Delete(blockKey(k), nil), x.commit(b, -1)); err != nil {
				x.failed(err)
			}
		}
	}
	x.mu.Lock()
	defer x.mu.Unlock()
	if _, is := x.young[k]; is || was {
		x.count--
	}
	delete(x.young, k)
}

// unset takes back what was set and is not kept yet: what is kept of it counts again.
func (x *blockIndex) unset(k key) {
	still := false
	if x.db != nil {
		_, still = x.kept(k)
	}
	x.mu.Lock()
	defer x.mu.Unlock()
	if _, is := x.young[k]; is && !still {
		x.count--
	}
	delete(x.young, k)
}

// commit writes a batch, by which more blocks are kept; move is held.
func (x *blockIndex) commit(b *pebble.Batch, more int64) error {
	if err := b.Set(countKey, binary.LittleEndian.AppendUint64(nil, uint64(x.held+more)), nil); err != nil {
		return err
	}
	if err := b.Commit(pebble.NoSync); err != nil {
		return err
	}
	x.held += more
	return nil
}

// size is how many blocks there are.
func (x *blockIndex) size() int {
	x.mu.RLock()
	defer x.mu.RUnlock()
	return int(x.count)
}

// knows tells what is kept of a pack of a size and a header.
func (x *blockIndex) knows(n uint32, size int64, head uint32) (packKnown, bool) {
	x.mu.RLock()
	defer x.mu.RUnlock()
	p, ok := x.known[n]
	return p, ok && p.size == size && p.head == head
}

// strange tells whether it knows packs that are not there.
func (x *blockIndex) strange(there map[uint32]bool) bool {
	x.mu.RLock()
	defer x.mu.RUnlock()
	for n := range x.known {
		if !there[n] {
			return true
		}
	}
	return false
}

// settle keeps the records of a pack that is whole and on the disk for good: those that the index
// leads to. Their entries say whether there was one before.
func (x *blockIndex) settle(n uint32, p packKnown, entries []entry) error {
	if x.db == nil {
		return nil
	}
	x.move.Lock()
	defer x.move.Unlock()
	if x.ended {
		return errEnded
	}
	b := x.db.NewBatch()
	defer func() { _ = b.Close() }()
	var more int64
	var moved []key
	for _, e := range entries {
		if !slices.Contains(p.keys, e.key) {
			p.keys = append(p.keys, e.key)
		}
		k, at := keyOf(e.name), location{n, e.offset, e.stored}
		x.mu.RLock()
		here := x.young[k] == at
		x.mu.RUnlock()
		if !here {
			continue
		}
		was := e.before.pack != 0
		if was {
			_, was = x.kept(k)
		}
		if !was {
			more++
		}
		if err := b.Set(blockKey(k), at.bytes(), nil); err != nil {
			return fmt.Errorf("keep where blocks stand: %w", err)
		}
		moved = append(moved, k)
	}
	v := binary.LittleEndian.AppendUint32(binary.LittleEndian.AppendUint64(nil, uint64(p.size)), p.head)
	for _, k := range p.keys {
		v = binary.LittleEndian.AppendUint16(v, k)
	}
	if err := errors.Join(b.Set(packKey(n), v, nil), x.commit(b, more)); err != nil {
		x.failed(err)
		return fmt.Errorf("keep where blocks stand: %w", err)
	}
	x.mu.Lock()
	defer x.mu.Unlock()
	x.known[n] = p
	for _, k := range moved {
		if x.young[k].pack == n { // it may have been written anew since
			delete(x.young, k)
		}
	}
	return nil
}

// leave takes the records of a pack out that is about to be removed, for good.
func (x *blockIndex) leave(n uint32, entries []entry) error {
	x.move.Lock()
	defer x.move.Unlock()
	if x.ended {
		return errEnded
	}
	var b *pebble.Batch
	if x.db != nil {
		b = x.db.NewBatch()
		defer func() { _ = b.Close() }()
	}
	var fewer, gone int64
	var out []key
	for _, e := range entries {
		k, here := keyOf(e.name), location{n, e.offset, e.stored}
		leads := x.leads(e.name, here)
		if leads {
			out = append(out, k)
		}
		if b == nil {
			gone = int64(len(out))
			continue
		}
		was, is := x.kept(k)
		if leads && (!is || was == here) {
			gone++ // else an older one counts again
		}
		// What was written anew since may not be kept yet: this one must not come back then.
		if is && was == here {
			fewer++
			if err := b.Delete(blockKey(k), nil); err != nil {
				return fmt.Errorf("take out where blocks stood: %w", err)
			}
		}
	}
	if b != nil {
		if err := errors.Join(b.Delete(packKey(n), nil), x.commit(b, -fewer), x.db.Flush()); err != nil {
			x.failed(err)
			return fmt.Errorf("take out where blocks stood: %w", err)
		}
	}
	if err := x.trusted(); err != nil {
		return err
	}
	x.mu.Lock()
	defer x.mu.Unlock()
	delete(x.known, n)
	for _, k := range out {
		delete(x.young, k)
	}
	x.count -= gone
	return nil
}

// close ends it. Where it could not be relied on, nothing of it is kept.
func (x *blockIndex) close() error {
	if x.db == nil {
		return nil
	}
	if !x.over() {
		return nil
	}
	if x.broken() != nil {
		_ = x.db.Close()
		return x.fs.RemoveAll(x.dir)
	}
	if err := errors.Join(x.db.Flush(), x.db.Close()); err != nil {
		return fmt.Errorf("close the index of blocks: %w", err)
	}
	return nil
}

// over has nobody use what is kept any more; it tells whether somebody could until now.
func (x *blockIndex) over() bool {
	x.move.Lock()
	defer x.move.Unlock()
	x.life.Lock()
	defer x.life.Unlock()
	was := x.ended
	x.ended = true
	return !was
}

// halt lets go of it without writing what is not written yet.
func (x *blockIndex) halt() error {
	if x.db == nil || !x.over() {
		return nil
	}
	return x.db.Close()
}

// mute keeps the embedded store from speaking for itself, and from ending the process.
type mute struct{ x *blockIndex }

// Infof implements pebble.Logger.
func (mute) Infof(string, ...any) {}

// Errorf implements pebble.Logger.
func (mute) Errorf(string, ...any) {}

// Fatalf implements pebble.Logger.
func (m mute) Fatalf(format string, a ...any) {
	err := fmt.Errorf(format, a...)
	m.x.failed(err)
	panic(err) // it must not return; the cycle that meets it ends, and the service does not
}
