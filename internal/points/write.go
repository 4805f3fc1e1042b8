package points

import (
	"fmt"

	"kestrel/internal/files"
)

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
	// That it is not kept was just seen; another may have put it meanwhile.
	return s.append(record{kind: kind, encoding: enc, length: length, stored: uint32(len(stored)), name: name, sum: checksum(stored)}, stored, s.index.written)
}

// append writes a verified record to the active pack. Earlier tells where the block stood so far.
func (s *Store) append(r record, stored []byte, earlier func(key) (location, bool)) error {
	b := s.buffer()
	defer s.giveBack(b)
	buf := s.encode((*b)[:0], r, stored)
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
	before, had := earlier(keyOf(r.name))
	s.mu.Lock()
	e := entry{r.name, uint32(off), uint32(len(buf) - recordHeader), r.kind, s.activeKey(), before}
	p.entries = append(p.entries, e)
	p.size += int64(len(buf))
	s.index.set(keyOf(r.name), location{s.active, e.offset, e.stored}, had)
	if _, ok := s.bad[r.name]; ok {
		delete(s.bad, r.name)
		s.lostDue = true
		s.healedSeen.Add(1)
	}
	s.mu.Unlock()
	if p.size-p.started >= writeAhead {
		if h, ok := p.file.(files.Hinter); ok {
			h.BeginWriting(p.started, p.size-p.started)
		}
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
		if p.size < s.packFull {
			return p, nil
		}
		s.full = append(s.full, p)
		s.mu.Lock()
		s.active = 0
		s.mu.Unlock()
		// What fails is forgotten, and whoever relies on it learns of it then.
		s.later(func() { _ = s.Sync() })
	}
	s.mu.RLock()
	n := s.next
	s.mu.RUnlock()
	path := packPath(s.packDir(), n)
	f, err := s.fs.CreateNew(path)
	if err != nil {
		return nil, fmt.Errorf("begin pack: %w", err)
	}
	head := appendPackHeader(nil, n, s.now())
	_, err = f.WriteAt(head, 0)
	if err == nil {
		err = s.fs.SyncDir(s.packDir())
	}
	if err != nil {
		_ = f.Close()
		_ = s.fs.Remove(path)
		return nil, fmt.Errorf("begin pack: %w", err)
	}
	p := &openPack{number: n, file: f, size: int64(len(head))}
	s.mu.Lock()
	s.packs[n], s.active, s.next = p, n, n+1
	s.mu.Unlock()
	return p, nil
}
