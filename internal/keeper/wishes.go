package keeper

import (
	"context"
	"fmt"
	"slices"
	"time"

	"kestrel/internal/core/actor"
	"kestrel/internal/core/ladder"
	"kestrel/internal/core/span"
	"kestrel/internal/core/words"
	"kestrel/internal/directory"
	"kestrel/internal/problem"
	"kestrel/internal/records"
)

// What another site wants destroyed is done slowly: whoever owns a home site must not
// own its points at the recovery site too.

// loadWishes reads what other sites want and this one has yet to do.
func (k *Keeper) loadWishes(ctx context.Context) error {
	ds, err := k.Records.Deletions(ctx)
	if err != nil {
		return err
	}
	for _, d := range ds {
		k.deletions[d.GroupID] = d
	}
	cuts, err := k.Records.Shortenings(ctx)
	if err != nil {
		return err
	}
	for _, c := range cuts {
		before, err := ladder.Parse(c.Before)
		if err != nil {
			return fmt.Errorf("the ladder of group %s before %s: %w", c.GroupID, c.At.Format(time.RFC3339), err)
		}
		k.cuts[c.GroupID] = append(k.cuts[c.GroupID], ladder.Cut{At: c.At, Before: before})
	}
	return nil
}

// Deletion is that of a group's points here which another site wants, if one does.
func (k *Keeper) Deletion(group string) (records.Deletion, bool) {
	k.mu.Lock()
	defer k.mu.Unlock()
	d, ok := k.deletions[group]
	return d, ok
}

// AskDeletion notes that another site wants the points of a group deleted, and tells
// when they go. Asked again, it changes nothing.
func (k *Keeper) AskDeletion(ctx context.Context, who actor.Actor, r directory.Record) (time.Time, error) {
	if d, ok := k.Deletion(r.ID); ok {
		return d.DueAt, nil
	}
	now := k.Clock.Now().UTC().Truncate(time.Microsecond)
	d := records.Deletion{GroupID: r.ID, AskedAt: now, AskedBy: who.String(), DueAt: now.Add(k.DeletionWait)}
	line := k.Trail.Line(who, ofGroup(r), 0, nil, fmt.Sprintf("%s wants the points of %s deleted; they go in %s unless somebody here stops it, pinned ones excepted", who, r.Spec.Name, span.Format(k.DeletionWait)))
	if err := k.Records.AddDeletion(ctx, d, line); err != nil {
		return time.Time{}, err
	}
	k.mu.Lock()
	k.deletions[r.ID] = d
	k.mu.Unlock()
	k.Trail.Written()
	k.told("", r.ID)
	k.wake()
	return d.DueAt, nil
}

// StopDeletion keeps the points of a group that another site wants deleted.
func (k *Keeper) StopDeletion(ctx context.Context, who actor.Actor, r directory.Record) error {
	if _, ok := k.Deletion(r.ID); !ok {
		return problem.Conflict("Nobody wants the points of %s deleted.", r.Spec.Name)
	}
	return k.endDeletion(ctx, who, r, fmt.Sprintf("%s stopped the deletion of the points of %s", who, r.Spec.Name))
}

func (k *Keeper) endDeletion(ctx context.Context, who actor.Actor, r directory.Record, text string) error {
	if err := k.Records.DropDeletion(ctx, r.ID, k.Trail.Line(who, ofGroup(r), 0, nil, text)); err != nil {
		return err
	}
	k.mu.Lock()
	delete(k.deletions, r.ID)
	k.mu.Unlock()
	k.Trail.Written()
	k.told("", r.ID)
	return nil
}

// deleteDue deletes what another site wanted deleted and nobody stopped in time.
func (k *Keeper) deleteDue(ctx context.Context) {
	k.mu.Lock()
	var due []records.Deletion
	for _, d := range k.deletions {
		if !d.DueAt.After(k.Clock.Now()) {
			due = append(due, d)
		}
	}
	k.mu.Unlock()
	for _, d := range due {
		r, ok := k.Groups.Get(d.GroupID)
		if !ok || r.Direction != directory.Ended {
			continue
		}
		if err := k.deleteAsked(ctx, d, r); err != nil && ctx.Err() == nil {
			k.Log.Error("delete points", "group", r.Spec.Name, "err", err)
		}
	}
}

// deleteAsked deletes the points of a group that are not pinned, and then the group if
// none is left. What is being read is deleted later.
func (k *Keeper) deleteAsked(ctx context.Context, d records.Deletion, r directory.Record) error {
	ps, err := k.marksOf(ctx, r.ID, true)
	if err != nil {
		return err
	}
	gone, pins, used := 0, 0, 0
	for _, p := range ps {
		_, locked := k.lockOf(p.ID)
		switch {
		case locked:
			used++ // it goes when its lock ends
		case p.Pinned:
			pins++
		case p.InUse:
			used++
		default:
			if err := k.drop(ctx, p.ID); err != nil {
				return err
			}
			gone++
		}
	}
	k.mu.Lock()
	k.sweepDue = k.sweepDue || gone > 0
	k.mu.Unlock()
	if gone > 0 {
		if err := k.recount(ctx, r.ID); err != nil {
			return err
		}
		k.told("", r.ID)
	}
	text := fmt.Sprintf("%s of %s %s deleted, as %s wanted since %s", words.Count(gone, "point"), r.Spec.Name, were(gone), d.AskedBy, d.AskedAt.Format(time.RFC3339))
	switch {
	case used > 0:
		return nil
	case pins > 0:
		return k.endDeletion(ctx, actor.System(), r, fmt.Sprintf("%s; %s that %s pinned stayed", text, words.Count(pins, "point"), are(pins)))
	}
	return k.Groups.Delete(ctx, actor.System(), r.ID, text)
}

func are(n int) string {
	if n == 1 {
		return "is"
	}
	return "are"
}

// Shortens notes, before it holds, that another site makes the ladder of a group
// shorter that is kept here.
func (k *Keeper) Shortens(ctx context.Context, was directory.Record, to ladder.Ladder) error {
	if len(k.Least) == 0 || was.Direction != directory.In || slices.Equal(was.Spec.Promise.Keep, to) {
		return nil
	}
	ps, err := k.marksOf(ctx, was.ID, true)
	if err != nil {
		return err
	}
	now := k.Clock.Now().UTC().Truncate(time.Microsecond)
	if len(was.Spec.Promise.Keeping().Lost(was.Spec.Promise.KeepingBy(to), ps, now).Points) == 0 {
		return nil
	}
	if err := k.Records.AddShortening(ctx, records.Shortening{GroupID: was.ID, At: now, Before: was.Spec.Promise.Keep.String()}); err != nil {
		return err
	}
	k.mu.Lock()
	defer k.mu.Unlock()
	k.cuts[was.ID] = append(k.cuts[was.ID], ladder.Cut{At: now, Before: was.Spec.Promise.Keep})
	return nil
}

func (k *Keeper) cutsOf(group string) []ladder.Cut {
	k.mu.Lock()
	defer k.mu.Unlock()
	return slices.Clone(k.cuts[group])
}

// judge says what becomes of a group's points here, and forgets cuts that hold
// nothing back any more. A cut is noted before its ladder holds.
func (k *Keeper) judge(ctx context.Context, r directory.Record, ps []ladder.Point) []ladder.Verdict {
	now, cuts := k.Clock.Now(), k.cutsOf(r.ID)
	if r.Direction != directory.In {
		cuts = nil
	}
	keep := r.Spec.Promise.Keeping()
	if r.Direction == directory.Out {
		keep = r.Spec.KeepsHome()
	}
	out := keep.Slowed(ps, now, cuts, k.Least)
	for _, c := range cuts {
		if slices.Equal(c.Before, r.Spec.Promise.Keep) || slices.ContainsFunc(out, func(v ladder.Verdict) bool { return v.Why == "held back" && !v.Point.Capture.After(c.At) }) {
			continue
		}
		if err := k.Records.DropShortening(ctx, records.Shortening{GroupID: r.ID, At: c.At}); err != nil {
			k.Log.Warn("forget a shorter ladder", "group", r.Spec.Name, "err", err)
			continue
		}
		k.mu.Lock()
		k.cuts[r.ID] = slices.DeleteFunc(k.cuts[r.ID], func(x ladder.Cut) bool { return x.At.Equal(c.At) })
		k.mu.Unlock()
	}
	return out
}
