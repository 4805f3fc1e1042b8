package keeper

import (
	"context"
	"encoding/json"
	"errors"
	"maps"
	"slices"
	"time"

	"kestrel/internal/core/ladder"
	"kestrel/internal/core/words"
	"kestrel/internal/directory"
	"kestrel/internal/points"
	"kestrel/internal/records"
)

// Run tidies up until ctx ends.
func (k *Keeper) Run(ctx context.Context) {
	for {
		k.tidy(ctx)
		for next := k.Clock.Now().Add(k.TidyEvery); k.Clock.Now().Before(next); {
			wait := next.Sub(k.Clock.Now())
			if k.relist(ctx) > 0 {
				wait = min(wait, relistEvery)
			}
			select {
			case <-ctx.Done():
				return
			case <-k.late:
				continue
			case <-k.kick:
			case <-k.Clock.After(wait):
				continue
			}
			break
		}
	}
}

// relistEvery is how often points are tried to be recorded that could not be.
const relistEvery = 2 * time.Second

// listLater has a point recorded when that can be done.
func (k *Keeper) listLater(point string) {
	k.mu.Lock()
	k.unlisted[point] = true
	k.mu.Unlock()
	select {
	case k.late <- struct{}{}:
	default:
	}
}

// relist records points that could not be recorded when they were sealed, and tells how many are
// left.
func (k *Keeper) relist(ctx context.Context) int {
	k.mu.Lock()
	open := slices.Collect(maps.Keys(k.unlisted))
	k.mu.Unlock()
	left := 0
	for _, id := range open {
		x, err := k.Seal(id)
		r, known := directory.Record{}, false
		if err == nil {
			r, known = k.Groups.Get(x.Group.ID)
		}
		if known { // else it was dropped meanwhile
			if err := k.list(ctx, r, x); err != nil {
				left++
				continue
			}
			if err := k.recount(ctx, r.ID); err != nil {
				k.Log.Error("count points", "group", r.Spec.Name, "err", err)
			}
			k.told(id, r.ID)
		}
		k.mu.Lock()
		delete(k.unlisted, id)
		k.mu.Unlock()
	}
	return left
}

func (k *Keeper) tidy(ctx context.Context) {
	k.mu.Lock()
	changed := k.shorter
	k.shorter = nil
	k.mu.Unlock()
	for _, c := range changed {
		k.recordShorter(ctx, c)
	}
	for _, s := range k.stores() {
		if err := s.KeepClock(); err != nil {
			k.Log.Error("keep the store's clock", "err", err)
		}
	}
	k.sample()
	for _, s := range k.stores() {
		if err := s.Retain(ctx); err != nil && ctx.Err() == nil {
			k.Log.Error("retain what locked points need", "err", err)
		}
	}
	for _, r := range k.Groups.All() {
		if ctx.Err() != nil {
			return
		}
		k.lockWaiting(ctx, r)
		if r.Direction == directory.In || r.Direction == directory.Out && k.Holding(r.ID).HomePoints > 0 {
			k.Prune(ctx, r)
		}
	}
	k.deleteDue(ctx)
	k.forgetCopies()
	k.sweep(ctx)
}

// marksOf gives a group's points here as its ladder judges them.
func (k *Keeper) marksOf(ctx context.Context, group string, held bool) ([]ladder.Point, error) {
	recs, err := k.Records.Marks(ctx, []string{group})
	if err != nil {
		return nil, err
	}
	now := k.Clock.Now()
	var out []ladder.Point
	for _, r := range recs {
		if r.Held == held {
			out = append(out, ladder.Point{ID: r.ID, Capture: r.CaptureAt, Rests: r.Rests, Pinned: pinned(r, now) || k.locked(r), InUse: k.InUse(r.ID)})
		}
	}
	return out, nil
}

// Marks gives a group's points as the site that holds them has them, or as far as the home
// site knows of them, for what its ladder makes of them.
func (k *Keeper) Marks(ctx context.Context, r directory.Record) ([]ladder.Point, error) {
	return k.marksOf(ctx, r.ID, r.Direction != directory.Out)
}

// recordShorter drops what a ladder that was made shorter lets go, and says so in
// the trail.
func (k *Keeper) recordShorter(ctx context.Context, c shorter) {
	r, ok := k.Groups.Get(c.group)
	if !ok || r.Direction == directory.Ended {
		return
	}
	ps, err := k.marksOf(ctx, c.group, true)
	if err != nil {
		k.Log.Error("look at points", "group", r.Spec.Name, "err", err)
		return
	}
	lost := r.Spec.Promise.KeepingBy(c.before).Lost(r.Spec.Promise.Keeping(), ps, k.Clock.Now())
	k.Prune(ctx, r)
	held := 0
	var gone []ladder.Point
	for _, p := range lost.Points {
		if len(k.at(p.ID)) == 0 {
			gone = append(gone, p)
		} else {
			held++
		}
	}
	if held > 0 {
		k.note(ctx, r, "%s: its keep ladder was changed from %q to %q at %s; %s that it would have dropped %s kept here, as this site's least ladder %q wants", r.Spec.Name, c.before, r.Spec.Promise.Keep, r.HomeName, words.Count(held, "point"), were(held), k.Least)
	}
	if len(gone) == 0 {
		return
	}
	k.note(ctx, r, "%s: its keep ladder was changed from %q to %q; %s dropped, captured from %s to %s", r.Spec.Name, c.before, r.Spec.Promise.Keep, wereDropped(len(gone)),
		gone[len(gone)-1].Capture.UTC().Format(time.RFC3339), gone[0].Capture.UTC().Format(time.RFC3339))
}

func wereDropped(n int) string { return words.Count(n, "point") + " " + were(n) }

func were(n int) string {
	if n == 1 {
		return "was"
	}
	return "were"
}

// WouldDrop tells which points a change of ladder would drop at once: at the site
// that holds them, or as far as the home site knows of them.
func (k *Keeper) WouldDrop(ctx context.Context, r directory.Record, to ladder.Keep) (ladder.Loss, []int64, error) {
	ps, err := k.marksOf(ctx, r.ID, r.Direction != directory.Out)
	if err != nil {
		return ladder.Loss{}, nil, err
	}
	lost := r.Spec.Promise.Keeping().Lost(to, ps, k.Clock.Now())
	if r.Direction == directory.In && len(k.Least) > 0 {
		// What this site holds back stays whatever home wants.
		drops := map[string]bool{}
		for _, v := range to.Slowed(ps, k.Clock.Now(), append(k.cutsOf(r.ID), ladder.Cut{At: k.Clock.Now(), Before: r.Spec.Promise.Keep}), k.Least) {
			drops[v.Point.ID] = !v.Keep
		}
		lost.Points = slices.DeleteFunc(lost.Points, func(p ladder.Point) bool { return !drops[p.ID] })
	}
	var numbers []int64
	for _, p := range lost.Points {
		rec, err := k.Records.Point(ctx, p.ID)
		if errors.Is(err, records.ErrNotFound) {
			continue
		}
		var x points.Seal
		if err == nil {
			err = json.Unmarshal(rec.Seal, &x)
		}
		if err != nil {
			return lost, nil, err
		}
		numbers = append(numbers, x.Number)
	}
	return lost, numbers, nil
}

// pinned tells whether a pin holds at now.
func pinned(r records.Point, now time.Time) bool {
	return r.Pinned && (r.PinnedUntil == nil || r.PinnedUntil.After(now))
}

// Prune drops the points here that a group's ladder lets go.
func (k *Keeper) Prune(ctx context.Context, r directory.Record) {
	keep := r.Spec.Promise.Keep
	if r.Direction == directory.Ended || len(keep) == 0 {
		return
	}
	ps, err := k.marksOf(ctx, r.ID, true)
	if err != nil {
		if ctx.Err() == nil {
			k.Log.Error("prune", "group", r.Spec.Name, "err", err)
		}
		return
	}
	k.lockRungs(ctx, r, ps)
	dropped := 0
	var due []string
	for _, v := range k.judge(ctx, r, ps) {
		if v.Keep {
			if k.shelve(v, &due) {
				dropped++
			}
			continue
		}
		if err := k.drop(ctx, v.Point.ID); err != nil {
			if !errors.Is(err, points.ErrInUse) {
				k.Log.Error("prune", "group", r.Spec.Name, "point", v.Point.ID, "err", err)
			}
			continue
		}
		dropped++
	}
	k.awaits(r.ID, due)
	if dropped > 0 {
		k.mu.Lock()
		k.holding(r.ID).marks++
		k.sweepDue = true
		k.mu.Unlock()
	}
	if err := k.recount(ctx, r.ID); err != nil && ctx.Err() == nil {
		k.Log.Error("count points", "group", r.Spec.Name, "err", err)
	}
}

// sweep gives room back after points were dropped.
func (k *Keeper) sweep(ctx context.Context) {
	k.mu.Lock()
	due := k.sweepDue
	k.sweepDue = false
	k.mu.Unlock()
	if !due {
		return
	}
	for _, s := range k.stores() {
		x, err := s.Sweep(ctx)
		if err != nil && ctx.Err() == nil {
			k.Log.Warn("sweep", "err", err)
		} else if x.Packs > 0 {
			k.Log.Info("swept a point store", "folder", s.Dir(), "packs", x.Packs, "freedBytes", x.Freed)
		}
	}
}
