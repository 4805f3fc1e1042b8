package points

import (
	"errors"
	"fmt"
)

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
	if s.once && s.active != 0 {
		s.full = append(s.full, s.packs[s.active])
		s.mu.Lock()
		s.active = 0
		s.mu.Unlock()
	}
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
			if s.once {
				s.writeMu.Lock()
				s.full = append(s.full, p)
				s.writeMu.Unlock()
			} else {
				s.forgetUnsynced(p)
			}
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
	if err := s.writePackIndex(p.file, p.number, p.size, p.entries); err != nil {
		return fmt.Errorf("write pack index: %w", err)
	}
	head, err := headOf(p.file)
	if err != nil {
		return err
	}
	if err := s.index.settle(p.number, packKnown{size: p.size, head: head}, p.entries); err != nil {
		return err
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
		case s.index.leads(e.name, at):
			s.index.unset(keyOf(e.name))
			// What a sweep copied still stands where it was.
			if b := e.before; !s.Has(e.name) && s.packs[b.pack] != nil && int64(b.offset)+recordHeader+int64(b.stored) <= s.packs[b.pack].synced {
				s.index.set(keyOf(e.name), b, false)
			}
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
