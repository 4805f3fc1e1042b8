package points

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"slices"
)

// sweepShare is the dead share of a pack above which its live records are
// written anew so that the pack can go.
const sweepShare = 0.3

// Swept is what a sweep did.
type Swept struct {
	Packs     int   // packs removed
	Freed     int64 // bytes given back, net of what was written anew
	LiveBytes int64 // bytes of records that points or open intakes need
	DeadBytes int64 // bytes of dead records in packs that are not worth rewriting yet
}

// Sweep gives back the room of blocks that no point names. It leaves alone the
// packs that an open intake may be relying on, and cycles go on meanwhile.
func (s *Store) Sweep(ctx context.Context) (Swept, error) { return s.sweep(ctx, false) }

// Rewrite is a Sweep that also writes anew all that is not encrypted under the
// store's present key, seals included.
func (s *Store) Rewrite(ctx context.Context) (Swept, error) {
	out, err := s.sweep(ctx, true)
	if err != nil {
		return out, err
	}
	return out, s.reboxSeals(ctx)
}

func (s *Store) sweep(ctx context.Context, renew bool) (Swept, error) {
	var out Swept
	s.writeMu.Lock()
	limit := s.next
	if s.active != 0 {
		limit = s.active
	}
	s.writeMu.Unlock()
	s.intakeMu.Lock()
	for _, in := range s.intakes {
		limit = min(limit, in.PackMin)
	}
	s.intakeMu.Unlock()

	live := map[key]bool{}
	if err := s.markLive(ctx, live); err != nil {
		return out, err
	}
	s.mu.RLock()
	var numbers []uint32
	for n := range s.packs {
		if n < limit {
			numbers = append(numbers, n)
		}
	}
	s.mu.RUnlock()
	slices.Sort(numbers)
	if err := s.merge(ctx, s.smallPacks(numbers), live); err != nil {
		return out, fmt.Errorf("merge small packs: %w", err)
	}
	for _, n := range numbers {
		if err := ctx.Err(); err != nil {
			return out, err
		}
		s.mu.RLock()
		renew := renew && s.packs[n] != nil && s.packs[n].stale
		s.mu.RUnlock()
		err := s.sweepPack(n, live, renew, &out)
		for try := 0; errors.Is(err, errSealedMeanwhile) && try < 10; try++ {
			if err = s.markLive(ctx, live); err == nil {
				err = s.sweepPack(n, live, renew, &out)
			}
		}
		if err != nil {
			return out, fmt.Errorf("sweep pack %08x: %w", n, err)
		}
	}
	return out, nil
}

// mergeFrom is how many small packs are written together into larger ones.
const mergeFrom = 16

// smallPacks gives the packs that are to be merged: where every sync ends a
// pack, they would become too many.
func (s *Store) smallPacks(numbers []uint32) (out []uint32) {
	if !s.once {
		return nil
	}
	s.mu.RLock()
	defer s.mu.RUnlock()
	for _, n := range numbers {
		if p := s.packs[n]; p != nil && p.size < s.packFull/8 && !s.retained(n) {
			out = append(out, n)
		}
	}
	if len(out) < mergeFrom {
		return nil
	}
	return out
}

// merge writes the live records of packs anew, one behind the other; the packs
// are dead then, and swept with the others.
func (s *Store) merge(ctx context.Context, numbers []uint32, live map[key]bool) error {
	losses := s.losses.Load()
	for _, n := range numbers {
		if err := ctx.Err(); err != nil {
			return err
		}
		s.mu.RLock()
		p := s.packs[n]
		s.mu.RUnlock()
		_, keep, _, err := s.recordsOf(p, live)
		if err == nil {
			err = s.moveRecords(p, keep)
		}
		if err != nil {
			return err
		}
	}
	if len(numbers) == 0 {
		return nil
	}
	return s.syncSince(losses)
}

// markLive adds all that sealed points name. Subtrees marked before are not
// walked again, so marking anew after a seal costs what that seal brought.
func (s *Store) markLive(ctx context.Context, live map[key]bool) error {
	for _, x := range append(s.dropGhosts(), s.Points("")...) {
		for _, m := range x.Machines {
			for _, d := range m.Disks {
				if err := ctx.Err(); err != nil {
					return err
				}
				err := s.walk(d.Root, d.Size, func(n Name, kind Kind, _ int64) bool {
					seen := live[keyOf(n)]
					live[keyOf(n)] = true
					// A node that was found lost names nothing that can be
					// reached; one that cannot be read now is another matter.
					return !seen && (kind == KindBlock || !s.givenUp(n))
				})
				if err != nil {
					// A tree that cannot be read hides what it names; freeing
					// anything now could free what it needs.
					return fmt.Errorf("nothing swept: point %s: %w", x.Point, err)
				}
			}
		}
	}
	return nil
}

// here tells whether the index leads to this record.
func (s *Store) here(p *openPack, e entry) bool {
	return s.index.leads(e.name, location{p.number, e.offset, e.stored})
}

// recordsOf lists the records of a pack, and those of them that are live, with
// their bytes.
func (s *Store) recordsOf(p *openPack, live map[key]bool) (entries, keep []entry, liveBytes int64, err error) {
	entries, err = s.readPackIndex(p.file, p.number, p.size)
	if err != nil {
		if _, err = s.scanPack(p.file, p.size, func(e entry, _ record, _ []byte) error {
			entries = append(entries, e)
			return nil
		}); err != nil {
			return nil, nil, 0, err
		}
	}
	for _, e := range entries {
		if s.here(p, e) && live[keyOf(e.name)] {
			keep = append(keep, e)
			liveBytes += int64(recordHeader) + int64(e.stored)
		}
	}
	return entries, keep, liveBytes, nil
}

func (s *Store) sweepPack(n uint32, live map[key]bool, renew bool, out *Swept) error {
	s.mu.RLock()
	p := s.packs[n]
	s.mu.RUnlock()
	entries, keep, liveBytes, err := s.recordsOf(p, live)
	if err != nil {
		return err
	}
	dead := p.size - packHeader - liveBytes
	if len(keep) > 0 && !renew && (float64(dead) < sweepShare*float64(p.size) || s.retained(n)) {
		out.LiveBytes, out.DeadBytes = out.LiveBytes+liveBytes, out.DeadBytes+dead
		return nil
	}
	losses := s.losses.Load()
	if err := s.moveRecords(p, keep); err != nil {
		return err
	}
	// From here no intake may come to rely on a record of this pack.
	s.sweepMu.Lock()
	defer s.sweepMu.Unlock()
	var late []entry
	s.intakeMu.Lock()
	for _, e := range entries {
		for _, in := range s.intakes {
			if s.here(p, e) && in.touched[keyOf(e.name)] {
				late = append(late, e)
				liveBytes += int64(recordHeader) + int64(e.stored)
				break
			}
		}
	}
	s.intakeMu.Unlock()
	// A tree sealed since the marking can only name what an intake touched or
	// wrote, or nodes of its base, which is a sealed point's and so is marked,
	// unless that base was dropped since: then its nodes are looked up anew.
	for _, x := range s.Points("") {
		for _, m := range x.Machines {
			for _, d := range m.Disks {
				if !live[keyOf(d.Root)] && !d.Root.IsZero() {
					return errSealedMeanwhile
				}
			}
		}
	}
	if err := s.moveRecords(p, late); err != nil {
		return err
	}
	if err := s.syncSince(losses); err != nil {
		return err
	}
	if err := s.index.leave(n, entries); err != nil {
		return err
	}
	s.mu.Lock()
	// The file is not closed: a reader may hold it. It closes when the last
	// reference is gone.
	delete(s.packs, n)
	s.mu.Unlock()
	if err := errors.Join(ignoreNotExist(s.fs.Remove(indexPath(s.packDir(), n))), s.fs.Remove(packPath(s.packDir(), n))); err != nil {
		return err
	}
	out.Packs++
	out.Freed += p.size - liveBytes
	out.LiveBytes += liveBytes
	return s.fs.SyncDir(s.packDir())
}

// errSealedMeanwhile says that a new seal has overtaken the marking.
var errSealedMeanwhile = errors.New("points kept being sealed; the next sweep goes on")

func ignoreNotExist(err error) error {
	if errors.Is(err, fs.ErrNotExist) {
		return nil
	}
	return err
}

// moveRecords writes records of a pack anew to the active one, verified.
func (s *Store) moveRecords(p *openPack, entries []entry) error {
	buf, plain := make([]byte, recordHeader+maxStored), make([]byte, 0, maxContent)
	for _, e := range entries {
		b := buf[:recordHeader+int(e.stored)]
		if _, err := p.file.ReadAt(b, int64(e.offset)); err != nil {
			return err
		}
		r, err := parseRecord(b)
		if err != nil {
			return err
		}
		r, payload, err := s.decrypt(plain, r, b[recordHeader:])
		if err != nil {
			return err
		}
		if _, err := verify(nil, r.kind, r.encoding, r.length, payload, r.name); err != nil {
			return err
		}
		r.sum = checksum(payload)
		if err := s.append(r, payload, s.index.get); err != nil {
			return err
		}
		s.moved.Add(1)
	}
	return nil
}
