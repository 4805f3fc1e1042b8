package points

import (
	"context"
	"errors"
	"fmt"
	"os"
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
func (s *Store) Sweep(ctx context.Context) (Swept, error) {
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
	for _, n := range numbers {
		if err := ctx.Err(); err != nil {
			return out, err
		}
		err := s.sweepPack(n, live, &out)
		for try := 0; errors.Is(err, errSealedMeanwhile) && try < 10; try++ {
			if err = s.markLive(ctx, live); err == nil {
				err = s.sweepPack(n, live, &out)
			}
		}
		if err != nil {
			return out, fmt.Errorf("sweep pack %08x: %w", n, err)
		}
	}
	return out, nil
}

// markLive adds all that sealed points name. Subtrees marked before are not
// walked again, so marking anew after a seal costs what that seal brought.
func (s *Store) markLive(ctx context.Context, live map[key]bool) error {
	for _, x := range s.Points("") {
		for _, m := range x.Machines {
			for _, d := range m.Disks {
				if err := ctx.Err(); err != nil {
					return err
				}
				err := s.walk(d.Root, d.Size, func(n Name, _ Kind, _ int64) bool {
					seen := live[keyOf(n)]
					live[keyOf(n)] = true
					return !seen
				})
				if err != nil {
					// A damaged tree hides what it names; freeing anything
					// now could free what it needs.
					return fmt.Errorf("nothing swept: point %s: %w", x.Point, err)
				}
			}
		}
	}
	return nil
}

func (s *Store) sweepPack(n uint32, live map[key]bool, out *Swept) error {
	s.mu.RLock()
	p := s.packs[n]
	s.mu.RUnlock()
	entries, err := readPackIndex(s.packDir(), n, p.size)
	if err != nil {
		if _, err = scanPack(p.file, p.size, func(e entry, _ record, _ []byte) error {
			entries = append(entries, e)
			return nil
		}); err != nil {
			return err
		}
	}
	here := func(e entry) bool {
		s.mu.RLock()
		defer s.mu.RUnlock()
		return s.index[keyOf(e.name)] == location{n, e.offset, e.stored}
	}
	var keep []entry
	var liveBytes int64
	for _, e := range entries {
		if here(e) && live[keyOf(e.name)] {
			keep = append(keep, e)
			liveBytes += int64(recordHeader) + int64(e.stored)
		}
	}
	dead := p.size - packHeader - liveBytes
	if len(keep) > 0 && float64(dead) < sweepShare*float64(p.size) {
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
			if here(e) && in.touched[keyOf(e.name)] {
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
		// The copies may be lost: what stands here counts again.
		s.mu.Lock()
		for _, e := range append(keep, late...) {
			if _, ok := s.index[keyOf(e.name)]; !ok {
				s.index[keyOf(e.name)] = location{n, e.offset, e.stored}
			}
		}
		s.mu.Unlock()
		return err
	}
	s.mu.Lock()
	for _, e := range entries {
		if s.index[keyOf(e.name)] == (location{n, e.offset, e.stored}) {
			delete(s.index, keyOf(e.name))
		}
	}
	// The file is not closed: a reader may hold it. It closes when the last
	// reference is gone.
	delete(s.packs, n)
	s.mu.Unlock()
	if err := errors.Join(os.Remove(packPath(s.packDir(), n)), ignoreNotExist(os.Remove(indexPath(s.packDir(), n)))); err != nil {
		return err
	}
	out.Packs++
	out.Freed += p.size - liveBytes
	out.LiveBytes += liveBytes
	return syncDir(s.packDir())
}

// errSealedMeanwhile says that a new seal has overtaken the marking.
var errSealedMeanwhile = errors.New("points kept being sealed; the next sweep goes on")

func ignoreNotExist(err error) error {
	if errors.Is(err, os.ErrNotExist) {
		return nil
	}
	return err
}

// moveRecords writes records of a pack anew to the active one, verified.
func (s *Store) moveRecords(p *openPack, entries []entry) error {
	buf := make([]byte, recordHeader+maxContent)
	for _, e := range entries {
		b := buf[:recordHeader+int(e.stored)]
		if _, err := p.file.ReadAt(b, int64(e.offset)); err != nil {
			return err
		}
		r, err := parseRecord(b)
		if err != nil {
			return err
		}
		if _, err := verify(nil, r.kind, r.encoding, r.length, b[recordHeader:], r.name); err != nil {
			return err
		}
		if err := s.append(r, b[recordHeader:]); err != nil {
			return err
		}
	}
	return nil
}
