package points

import (
	"context"
	"errors"
	"fmt"
)

// transferBlocks is how many blocks are written before they are made durable and read
// back: as many as a pack holds.
const transferBlocks = 4096

// transferBatch is how many are asked for and recorded at once.
const transferBatch = 256

// Transfer copies a point of this store to another one, with its identity: only the blocks
// that the other lacks, each of which is read back there before the point is sealed. If it
// was cut off, it goes on where it was. Told says how many bytes of the disks are done.
func (s *Store) Transfer(ctx context.Context, to *Store, point string, told func(done int64)) (moved int64, err error) {
	x, release, err := s.Use(point)
	if err != nil {
		return 0, err
	}
	defer release()
	if _, err := to.Point(point); err == nil {
		return 0, nil
	}
	spec := IntakeSpec{ID: x.Cycle, Group: x.Group}
	before := to.Points(x.Group.ID)
	for _, m := range x.Machines {
		for _, d := range m.Disks {
			k := IntakeDisk{Machine: m.ID, Key: d.Key, Size: d.Size}
			if len(before) > 0 {
				// What it resembles most is what was copied last.
				if b, ok := before[len(before)-1].Disk(m.ID, d.Key); ok && b.Size == d.Size && to.Has(b.Root) {
					k.Base = b.Root
				}
			}
			spec.Disks = append(spec.Disks, k)
		}
	}
	in, sealed, err := to.OpenIntake(spec)
	if err != nil || sealed != nil {
		return 0, err
	}
	t := transfer{from: s, to: to, in: in, told: told}
	at := 0
	for _, m := range x.Machines {
		for _, d := range m.Disks {
			if err := t.disk(ctx, at, d); err != nil {
				return t.moved, fmt.Errorf("copy disk %s of %s: %w", d.Key, m.Name, err)
			}
			at++
		}
	}
	if err := t.check(ctx); err != nil {
		return t.moved, err
	}
	return t.moved, in.sealAs(x)
}

// transfer is a copy under way.
type transfer struct {
	from, to *Store
	in       *Intake
	told     func(int64)
	before   int64 // bytes of the disks before this one
	moved    int64 // bytes of blocks that the other store lacked
	batch    []Entry
	fresh    []Name // put, and not read back yet
	buf, enc []byte
}

func (t *transfer) disk(ctx context.Context, at int, d SealDisk) error {
	level, span := height(Blocks(d.Size))
	done := t.in.done[at]
	visit := func(c change) error {
		if t.told != nil {
			t.told(t.before + min(d.Size, (c.index+c.count)*BlockSize))
		}
		if c.count == 1 && done.get(c.index) {
			return ctx.Err() // before it was cut off
		}
		for c.count > 0 { // a run of an entry is 32 bits long
			n := min(c.count, 1<<31)
			t.batch = append(t.batch, Entry{Disk: uint16(at), Index: c.index, Count: uint32(n), Name: c.name})
			c.index, c.count = c.index+n, c.count-n
		}
		if len(t.batch) < transferBatch {
			return nil
		}
		return t.flush(ctx)
	}
	base := t.in.Disks[at].Base
	err := t.differ(base, d.Root, level, span, 0, Blocks(d.Size), visit)
	if err == nil {
		err = t.flush(ctx)
	}
	t.before += d.Size
	return err
}

// differ visits, in order, the blocks in which the tree of a root differs from that of a
// base, which is the other store's.
func (t *transfer) differ(base, root Name, level uint8, span, start, blocks int64, visit func(change) error) error {
	if base == root {
		return nil
	}
	b, err := t.to.loadNode(base, level)
	if errors.Is(err, ErrNotFound) || errors.Is(err, ErrDamaged) {
		return fmt.Errorf("what is there of an earlier point: %w", err)
	}
	if err != nil {
		return err
	}
	n, err := t.from.loadNode(root, level)
	if err != nil {
		return err
	}
	for i := range n.child {
		at := start + int64(i)*span
		switch {
		case n.child[i] == b.child[i] || at >= blocks:
		case level == 0:
			err = visit(change{at, 1, n.child[i]})
		case n.child[i].IsZero():
			err = visit(change{at, min(span, blocks-at), Name{}})
		default:
			err = t.differ(b.child[i], n.child[i], level-1, span/fanOut, at, blocks, visit)
		}
		if err != nil {
			return err
		}
	}
	return nil
}

// flush puts what the other store lacks of a batch, and records it.
func (t *transfer) flush(ctx context.Context) error {
	if len(t.batch) == 0 {
		return ctx.Err()
	}
	names := make([]Name, len(t.batch))
	for i, e := range t.batch {
		names[i] = e.Name
	}
	for i, lacks := range t.in.Missing(names) {
		if !lacks || t.to.Has(names[i]) { // twice in one batch
			continue
		}
		if err := ctx.Err(); err != nil {
			return err
		}
		content, err := t.from.Block(t.buf, names[i])
		if err != nil {
			return err
		}
		t.buf = content
		// Long kept and seldom read: what is smallest.
		enc, stored := Encode(t.enc, content, EncodingZstd)
		if err := t.in.Put(names[i], enc, uint32(len(content)), stored); err != nil {
			return err
		}
		t.moved += int64(len(stored))
		if t.fresh = append(t.fresh, names[i]); len(t.fresh) >= transferBlocks {
			if err := t.check(ctx); err != nil {
				return err
			}
		}
	}
	if err := t.in.Record(t.batch); err != nil {
		return err
	}
	t.batch = t.batch[:0]
	return nil
}

// check makes what was put durable and reads it back; reading compares it with its name.
func (t *transfer) check(ctx context.Context) error {
	if err := t.to.Sync(); err != nil {
		return err
	}
	for _, name := range t.fresh {
		if err := ctx.Err(); err != nil {
			return err
		}
		b, err := t.to.Block(t.buf, name)
		if err != nil {
			return fmt.Errorf("read back block %s: %w", name, err)
		}
		t.buf = b
	}
	t.fresh = t.fresh[:0]
	return nil
}

// sealAs seals as the same point that another store holds.
func (in *Intake) sealAs(x *Seal) error {
	s := in.store
	s.sweepMu.RLock()
	defer s.sweepMu.RUnlock()
	y := *x
	y.Machines = make([]SealMachine, len(x.Machines))
	for i, m := range x.Machines {
		y.Machines[i] = m
		y.Machines[i].Disks = append([]SealDisk(nil), m.Disks...)
	}
	losses := s.losses.Load()
	if err := in.build(&y); err != nil {
		return err
	}
	if got := rootOf(y.Machines); got != x.Root {
		return fmt.Errorf("what was copied of point %s is %s, and should be %s: %w", x.Point, got, x.Root, ErrDamaged)
	}
	y.HeldBytes, y.MissedBytes = x.HeldBytes, x.MissedBytes
	if err := s.syncSince(losses); err != nil {
		return err
	}
	if err := s.commitSeal(&y); err != nil {
		return err
	}
	in.close()
	return nil
}
