package keeper

import (
	"context"
	"errors"
	"fmt"
	"strings"
	"time"

	"kestrel/internal/api"
	"kestrel/internal/core/actor"
	"kestrel/internal/core/group"
	"kestrel/internal/core/ladder"
	"kestrel/internal/core/span"
	"kestrel/internal/directory"
	"kestrel/internal/points"
	"kestrel/internal/problem"
	"kestrel/internal/records"
)

// locked tells whether nobody may delete a point now: of one that is held here the store
// decides, of others what their site said.
func (k *Keeper) locked(r records.Point) bool {
	if r.Held {
		_, holds := k.lockOf(r.ID)
		return holds
	}
	return r.LockedUntil != nil && k.Clock.Now().Before(*r.LockedUntil)
}

// Lock keeps anybody from deleting a point until a time. A lock is never made shorter.
func (k *Keeper) Lock(ctx context.Context, who actor.Actor, id string, in api.LockRequest) (api.Point, error) {
	r, err := k.Mine(ctx, id)
	if err != nil {
		return api.Point{}, err
	}
	reason := ""
	if in.Reason != nil {
		reason = strings.TrimSpace(*in.Reason)
	}
	now := k.Store.Clock()
	switch {
	case !in.Until.After(now):
		return api.Point{}, problem.Invalid("until", "The lock would end in the past: it is %s by the store's clock.", now.UTC().Format(time.RFC3339))
	case in.Until.Sub(now) > group.MaxLock:
		return api.Point{}, problem.Invalid("until", "A point is locked for at most %s at a time.", span.Format(group.MaxLock))
	case reason != "" && group.CheckName(reason, maxReason) != "":
		return api.Point{}, problem.Invalid("reason", "A reason is one line of at most %d characters.", maxReason)
	}
	if l, holds := k.lockOf(id); holds && in.Until.Before(l.Until) {
		return api.Point{}, problem.Conflict("This point is locked until %s, and no lock is made shorter.", l.Until.UTC().Format(time.RFC3339))
	}
	l, err := k.setLock(id, points.Lock{Until: in.Until.UTC(), At: now.UTC(), By: who.String(), Reason: reason})
	if errors.Is(err, points.ErrNotFound) {
		return api.Point{}, problem.NotFound("point", id)
	}
	if err != nil {
		return api.Point{}, err
	}
	v, err := k.Point(ctx, id)
	if err != nil {
		return v, err
	}
	text := fmt.Sprintf("%s locked point %d of %s until %s", who, v.Number, v.GroupName, l.Until.Format(time.RFC3339))
	if reason != "" {
		text += ": " + reason
	}
	if err := k.Records.LockPoint(ctx, id, l.Until, k.Trail.Line(who, object(v), 0, nil, text)); err != nil {
		return v, err
	}
	k.Trail.Written()
	k.mu.Lock()
	k.holding(r.GroupID).marks++
	k.mu.Unlock()
	k.told(id, r.GroupID)
	return k.Point(ctx, id)
}

// lockNew locks a point as its group's settings say, from the time of its seal on.
func (k *Keeper) lockNew(ctx context.Context, r directory.Record, x *points.Seal) error {
	until := x.SealedAt.Add(min(r.Spec.LockFor, group.MaxLock))
	if r.Spec.LockFor <= 0 || !until.After(k.Store.Clock()) {
		return nil
	}
	if l, ok := k.Store.Locked(x.Point); ok && !until.After(l.Until) {
		return nil
	}
	l, err := k.Store.SetLock(x.Point, points.Lock{Until: until.UTC(), At: k.Store.Clock().UTC(), By: "its group's settings"})
	if err != nil {
		return err
	}
	return k.Records.LockPoint(ctx, x.Point, l.Until, records.Activity{})
}

// lockRungs locks what the locked rungs of a group's ladder hold. A lock that is there
// and lasts as long stays as it is.
func (k *Keeper) lockRungs(ctx context.Context, r directory.Record, ps []ladder.Point) {
	if r.Direction != directory.In {
		return
	}
	now := k.Store.Clock()
	for _, h := range r.Spec.Promise.Keeping().Locks(ps, now) {
		until := h.Until.UTC()
		least := time.Duration(0)
		if most := now.Add(group.MaxLock).UTC(); until.After(most) {
			until, least = most, span.Day // what the bound cuts goes on a day at a time
		}
		if l, ok := k.lockOf(h.ID); ok && until.Sub(l.Until) <= least || !until.After(now) {
			continue
		}
		l, err := k.setLock(h.ID, points.Lock{Until: until, At: now.UTC(), By: "its group's keep ladder"})
		if err == nil {
			err = k.Records.LockPoint(ctx, h.ID, l.Until, records.Activity{})
		}
		if err != nil && ctx.Err() == nil {
			k.Log.Error("lock a point", "group", r.Spec.Name, "err", err)
			return
		}
		k.told(h.ID, r.ID)
	}
}

// lockWaiting locks what a crash came in before, or a fault.
func (k *Keeper) lockWaiting(ctx context.Context, r directory.Record) {
	if r.Spec.LockFor <= 0 || r.Direction != directory.In {
		return
	}
	held := k.Store.Points(r.ID)
	for i := len(held) - 1; i >= 0; i-- {
		if _, ok := k.Store.Locked(held[i].Point); ok || k.Store.Clock().Sub(held[i].SealedAt) > lockLate {
			return // older ones were looked at when they were new
		}
		if err := k.lockNew(ctx, r, held[i]); err != nil && ctx.Err() == nil {
			k.Log.Error("lock a point", "group", r.Spec.Name, "err", err)
			return
		}
	}
}

// lockLate is how long after its seal a point is locked that was not at once. Setting a
// group's points to be locked holds for those that come, not for those that are there.
const lockLate = 10 * time.Minute

// lockedNow counts the points that nobody may delete, and tells when the last of them is
// free again; nil if none is locked.
func (k *Keeper) lockedNow() (n int, until *time.Time) {
	for _, x := range k.Seals("") {
		l, holds := k.lockOf(x.Point)
		if !holds {
			continue
		}
		n++
		if until == nil || l.Until.After(*until) {
			until = new(l.Until)
		}
	}
	return n, until
}
