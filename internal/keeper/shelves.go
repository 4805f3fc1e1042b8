package keeper

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"time"

	"kestrel/internal/api"
	"kestrel/internal/clock"
	"kestrel/internal/core/actor"
	"kestrel/internal/core/ladder"
	"kestrel/internal/core/span"
	"kestrel/internal/core/words"
	"kestrel/internal/directory"
	"kestrel/internal/operation"
	"kestrel/internal/points"
)

// A site may have a long-term store beside its point store. What a long-term rung of a
// ladder keeps is copied there once its stretch is over, verified, and let go here unless
// something else keeps it. A point is one point wherever it is: it is listed, judged,
// pinned, locked, deleted, read and started the same.

// theLongTermStore is what people call it.
const theLongTermStore = "the long-term store"

// stores are those of this site, the nearest first.
func (k *Keeper) stores() []*points.Store {
	if k.LongTerm == nil {
		return []*points.Store{k.Store}
	}
	return []*points.Store{k.Store, k.LongTerm}
}

// at are the stores that hold a point, the nearest first.
func (k *Keeper) at(id string) []*points.Store {
	return slices.DeleteFunc(k.stores(), func(s *points.Store) bool {
		_, err := s.Point(id)
		return err != nil
	})
}

// Seal finds a point of this site. The error wraps points.ErrNotFound.
func (k *Keeper) Seal(id string) (*points.Seal, error) {
	for _, s := range k.at(id) {
		if x, err := s.Point(id); err == nil {
			return x, nil
		}
	}
	return nil, fmt.Errorf("point %s: %w", id, points.ErrNotFound)
}

// Use marks a point as being read, and gives the store that it is best read from, until
// done is called. The error wraps points.ErrNotFound.
func (k *Keeper) Use(id string) (x *points.Seal, from *points.Store, done func(), err error) {
	for _, s := range k.stores() {
		if x, done, err = s.Use(id); err == nil {
			return x, s, done, nil
		}
	}
	return nil, nil, nil, err
}

// InUse tells whether a point is being read.
func (k *Keeper) InUse(id string) bool {
	return k.Wanted != nil && k.Wanted(id) || slices.ContainsFunc(k.stores(), func(s *points.Store) bool { return s.InUse(id) })
}

// lockOf is the lock of a point that lasts longest.
func (k *Keeper) lockOf(id string) (l points.Lock, holds bool) {
	for _, s := range k.stores() {
		if x, ok := s.Locked(id); ok && x.Until.After(l.Until) {
			l, holds = x, true
		}
	}
	return l, holds
}

// setLock locks a point wherever it is. The error wraps points.ErrNotFound.
func (k *Keeper) setLock(id string, l points.Lock) (points.Lock, error) {
	out, err := points.Lock{}, fmt.Errorf("point %s: %w", id, points.ErrNotFound)
	for _, s := range k.at(id) {
		if out, err = s.SetLock(id, l); err != nil {
			return out, err
		}
	}
	return out, err
}

// setPin pins or unpins a point wherever it is. The error wraps points.ErrNotFound.
func (k *Keeper) setPin(id string, p *points.Pin) error {
	err := fmt.Errorf("point %s: %w", id, points.ErrNotFound)
	for _, s := range k.at(id) {
		if err = s.SetPin(id, p); err != nil {
			return err
		}
	}
	return err
}

// drop removes a point from the stores and from the records.
func (k *Keeper) drop(ctx context.Context, id string) error {
	at := k.at(id)
	for _, s := range at { // nothing is removed unless all of it can be
		if s.InUse(id) {
			return fmt.Errorf("point %s: %w", id, points.ErrInUse)
		}
		if _, holds := s.Locked(id); holds {
			return fmt.Errorf("point %s: %w", id, points.ErrLocked)
		}
	}
	for _, s := range at {
		if err := s.Drop(id); err != nil && !errors.Is(err, points.ErrNotFound) {
			return err
		}
	}
	return k.Records.DeletePoint(ctx, id)
}

// Seals are the points of a group, or of all groups if it is empty, in all stores, each
// once, oldest first.
func (k *Keeper) Seals(group string) []*points.Seal {
	if k.LongTerm == nil {
		return k.Store.Points(group)
	}
	var out []*points.Seal
	seen := map[string]bool{}
	for _, s := range k.stores() {
		for _, x := range s.Points(group) {
			if !seen[x.Point] {
				seen[x.Point] = true
				out = append(out, x)
			}
		}
	}
	slices.SortStableFunc(out, func(a, b *points.Seal) int { return a.CaptureAt.Compare(b.CaptureAt) })
	return out
}

// lastNumber is the highest number of a group's points in the long-term store: what is
// sealed when the point store was lost goes on after it.
func (k *Keeper) lastNumber(group string) (n int64) {
	for _, x := range k.LongTerm.Points(group) {
		n = max(n, x.Number)
	}
	return n
}

// where names the stores that hold a point.
func (k *Keeper) where(id string) []string {
	out := []string{}
	for _, s := range k.at(id) {
		if s == k.LongTerm {
			out = append(out, "long-term store")
		} else {
			out = append(out, "point store")
		}
	}
	return out
}

// shelve says what a verdict about a point that is kept means for where it is: it is noted
// as due for the long-term store, or let go where nothing keeps it. It reports whether
// something was let go.
func (k *Keeper) shelve(v ladder.Verdict, due *[]string) (changed bool) {
	if k.LongTerm == nil {
		return false
	}
	_, err := k.Store.Point(v.Point.ID)
	near := err == nil
	_, err = k.LongTerm.Point(v.Point.ID)
	far := err == nil
	var from *points.Store
	switch {
	case near && !far && v.Settled:
		*due = append(*due, v.Point.ID)
		return false
	case near && far && !v.Near:
		from = k.Store
	case near && far && !v.Far:
		from = k.LongTerm
	default:
		return false
	}
	err = from.Drop(v.Point.ID)
	if err != nil && !errors.Is(err, points.ErrInUse) && !errors.Is(err, points.ErrLocked) {
		k.Log.Error("let go of a point that is in another store", "point", v.Point.ID, "err", err)
	}
	return err == nil
}

// awaits replaces what is due of a group for the long-term store, oldest first, and gives up
// what was begun and is due no more.
func (k *Keeper) awaits(group string, due []string) {
	if k.LongTerm == nil {
		return
	}
	slices.Reverse(due) // verdicts are newest first
	k.mu.Lock()
	if len(due) == 0 {
		delete(k.due, group)
	} else {
		k.due[group] = due
	}
	k.mu.Unlock()
	for _, in := range k.LongTerm.Intakes(group) {
		if !slices.ContainsFunc(due, func(id string) bool { x, err := k.Store.Point(id); return err == nil && x.Cycle == in.ID }) {
			in.Abandon()
		}
	}
	if len(due) > 0 {
		select {
		case k.moving <- struct{}{}:
		default:
		}
	}
}

// Awaiting counts the points that are due for the long-term store.
func (k *Keeper) Awaiting() (n int) {
	k.mu.Lock()
	defer k.mu.Unlock()
	for _, ids := range k.due {
		n += len(ids)
	}
	return n
}

// moveAgain is how long after a failure copying is tried again.
const moveAgain = 2 * time.Minute

// Move copies to the long-term store what is due there, until ctx ends.
func (k *Keeper) Move(ctx context.Context) {
	if k.LongTerm == nil {
		return
	}
	for {
		select {
		case <-ctx.Done():
			return
		case <-k.moving:
		}
		if k.Awaiting() == 0 {
			continue
		}
		op, err := k.Operations.Start(ctx, actor.System(), kindMove, theLongTermStore, struct{}{})
		if err != nil {
			k.Log.Error("copy to the long-term store", "err", err)
		}
		for err == nil && op.State == api.OperationStateRunning {
			if clock.Sleep(ctx, k.Clock, time.Second) != nil {
				return
			}
			op, err = k.Operations.Get(ctx, op.ID)
		}
		if err != nil || op.State != api.OperationStateDone {
			if clock.Sleep(ctx, k.Clock, moveAgain) != nil {
				return
			}
			select {
			case k.moving <- struct{}{}: // a tidying may have come and gone meanwhile
			default:
			}
		}
	}
}

// next is the point that is copied next, of those that were not tried: the oldest of the
// group that comes first.
func (k *Keeper) next(tried map[string]bool) (id string, left int) {
	k.mu.Lock()
	defer k.mu.Unlock()
	var groups []string
	for g := range k.due {
		groups = append(groups, g)
	}
	slices.Sort(groups)
	for _, g := range groups {
		for _, p := range k.due[g] {
			if tried[p] {
				continue
			}
			if left++; id == "" {
				id = p
			}
		}
	}
	return id, left
}

func (k *Keeper) runMove(ctx context.Context, w *operation.Work) (string, error) {
	if k.LongTerm == nil {
		return "", errors.New("this site has no long-term store any more")
	}
	tried := map[string]bool{}
	copied, total := 0, int64(0)
	var errs []error
	for {
		id, left := k.next(tried)
		if id == "" {
			break
		}
		tried[id] = true
		moved, err := k.moveOne(ctx, id, func(done, of int64) { w.Progress(done, of) })
		total += moved
		if ctx.Err() != nil {
			return "", ctx.Err()
		}
		if err != nil {
			w.Log("%v", err)
			errs = append(errs, err)
			continue
		}
		copied++
		w.Log("%d left", left-1)
	}
	if len(errs) > 0 {
		return "", fmt.Errorf("%d of %d points could not be copied: %w", len(errs), len(tried), errs[0])
	}
	return fmt.Sprintf("%s copied and verified, %s written.", words.Count(copied, "point"), span.Bytes(float64(total))), nil
}

// moveOne copies one point, with its pin and its lock, and lets it go here if nothing but a
// long-term rung keeps it.
func (k *Keeper) moveOne(ctx context.Context, id string, told func(done, total int64)) (int64, error) {
	x, err := k.Store.Point(id)
	if errors.Is(err, points.ErrNotFound) {
		return 0, nil // dropped meanwhile
	}
	if err != nil {
		return 0, err
	}
	if lost := k.lostByPoint()[id]; lost > 0 {
		return 0, fmt.Errorf("point %d of %s is not whole, and stays where it is", x.Number, x.Group.Name)
	}
	// A tidying that looked before the last copy ended may have put it down as due again.
	_, err = k.LongTerm.Point(id)
	already := err == nil
	var size int64
	for _, m := range x.Machines {
		for _, d := range m.Disks {
			size += d.Size
		}
	}
	moved, err := k.Store.Transfer(ctx, k.LongTerm, id, func(done int64) { told(done, size) })
	if err != nil {
		return moved, fmt.Errorf("copy point %d of %s: %w", x.Number, x.Group.Name, err)
	}
	// Before it may go here: what holds it holds it there.
	pin, err := k.Store.Pin(x)
	if err == nil && pin != nil {
		err = k.LongTerm.SetPin(id, pin)
	}
	if l, holds := k.Store.Locked(id); err == nil && holds {
		_, err = k.LongTerm.SetLock(id, l)
	}
	if err != nil {
		return moved, fmt.Errorf("pin or lock point %d of %s in the long-term store: %w", x.Number, x.Group.Name, err)
	}
	k.mu.Lock()
	k.due[x.Group.ID] = slices.DeleteFunc(k.due[x.Group.ID], func(p string) bool { return p == id })
	k.holding(x.Group.ID).marks++
	k.mu.Unlock()
	r, ok := k.Groups.Get(x.Group.ID)
	if !ok || already {
		return moved, nil
	}
	k.note(ctx, r, "Point %d of %s, captured %s, was copied to the long-term store and verified; %s written", x.Number, x.Group.Name, x.CaptureAt.UTC().Format(time.RFC3339), span.Bytes(float64(moved)))
	if r.Direction != directory.Ended {
		k.Prune(ctx, r)
	}
	k.told(id, x.Group.ID)
	return moved, nil
}
