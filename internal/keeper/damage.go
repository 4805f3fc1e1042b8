package keeper

import (
	"context"
	"iter"
	"time"

	"kestrel/internal/api"
	"kestrel/internal/audit"
	"kestrel/internal/clock"
	"kestrel/internal/core/actor"
	"kestrel/internal/core/health"
	"kestrel/internal/core/span"
	"kestrel/internal/directory"
	"kestrel/internal/events"
	"kestrel/internal/points"
)

// hurt sums up the losses of a group's points in this site's store.
func (k *Keeper) hurt(group string) Damage {
	lost, tried := k.lost()
	if len(lost) == 0 {
		return Damage{}
	}
	of := map[string]bool{}
	for _, x := range k.Seals(group) {
		of[x.Point] = true
	}
	ended := k.ended(group)
	var d Damage
	seen := map[string]bool{}
	for _, l := range lost {
		if !of[l.Point] {
			continue
		}
		if !seen[l.Point] {
			seen[l.Point] = true
			d.Points++
		}
		if ended || tried(l) {
			d.Gone += l.Count * points.BlockSize
		}
	}
	return d
}

// ended tells whether nobody is there any more who could send again what is lost.
func (k *Keeper) ended(group string) bool {
	r, ok := k.Groups.Get(group)
	return !ok || r.Direction == directory.Ended
}

// lost lists what points cannot be read where they are read from: one that is in two
// stores is read from the nearer. What the long-term store has lost, home is not asked for.
func (k *Keeper) lost() ([]points.Lost, func(points.Lost) bool) {
	lost, tried := k.Store.Lost()
	if k.LongTerm == nil {
		return lost, tried
	}
	far, _ := k.LongTerm.Lost()
	gone := map[points.Lost]bool{}
	for _, l := range far {
		if _, err := k.Store.Point(l.Point); err != nil {
			lost = append(lost[:len(lost):len(lost)], l)
			gone[l] = true
		}
	}
	return lost, func(l points.Lost) bool { return gone[l] || tried(l) }
}

// lostByPoint gives the bytes that points have lost.
func (k *Keeper) lostByPoint() map[string]int64 {
	lost, _ := k.lost()
	out := map[string]int64{}
	for _, l := range lost {
		out[l.Point] += l.Count * points.BlockSize
	}
	return out
}

// LostByMachine gives, for the machines of a point that have lost some, the bytes
// of their disks that cannot be read.
func (k *Keeper) LostByMachine(x *points.Seal) iter.Seq2[points.SealMachine, int64] {
	lost, _ := k.lost()
	return func(yield func(points.SealMachine, int64) bool) {
		for _, m := range x.Machines {
			var sum int64
			for _, l := range lost {
				if l.Point == x.Point && l.Machine == m.ID {
					sum += l.Count * points.BlockSize
				}
			}
			if sum > 0 && !yield(m, sum) {
				return
			}
		}
	}
}

// noteDamage finds out what points lose by what was found bad, or have again, and
// tells of it.
func (k *Keeper) noteDamage(ctx context.Context) {
	for _, s := range k.stores() {
		if !s.LostDue() {
			continue
		}
		if _, err := s.FindLost(ctx); err != nil {
			if ctx.Err() == nil {
				k.Log.Error("find what points have lost", "err", err)
			}
			return
		}
	}
	// Each seal comes by here: where nothing is lost, as a rule, no group is looked at.
	lost, _ := k.lost()
	k.mu.Lock()
	idle := len(lost) == 0 && !k.damaged
	k.damaged = len(lost) > 0
	k.mu.Unlock()
	if idle {
		return
	}
	for _, r := range k.Groups.All() {
		if r.Direction == directory.Out {
			continue
		}
		now := k.hurt(r.ID)
		k.mu.Lock()
		h := k.holding(r.ID)
		was := h.Lost
		h.Lost = now
		if was != now {
			h.marks++
		}
		k.mu.Unlock()
		if was == now {
			continue
		}
		switch {
		case now.Points == 0:
			k.note(ctx, r, "%s: what its points had lost was fetched again from %s", r.Spec.Name, r.HomeName)
		case now.Points > was.Points || now.Gone > was.Gone:
			k.Log.Warn("points cannot be read whole", "group", r.Spec.Name, "points", now.Points, "lostBytes", now.Gone)
			k.note(ctx, r, "%s: points that cannot be read whole: %d. %s", r.Spec.Name, now.Points, health.Hope(now.Gone, r.HomeName))
		}
		k.Hub.Send(events.Event{Type: "group", ID: r.ID})
	}
}

// Verify reads the whole store again and again, each time within the time set, as
// evenly as may be, until ctx ends.
func (k *Keeper) Verify(ctx context.Context) {
	k.noteDamage(ctx) // of earlier runs
	for {
		for _, s := range k.stores() {
			if k.verifyPass(ctx, s) || s.LostDue() {
				k.noteDamage(ctx)
			}
		}
		if clock.Sleep(ctx, k.Clock, time.Minute) != nil {
			return
		}
	}
}

// verifyPass reads a whole store once if that is due, and tells whether it was.
func (k *Keeper) verifyPass(ctx context.Context, s *points.Store) bool {
	st, name := s.Pass(), theStore
	if s == k.LongTerm {
		name = theLongTermStore
	}
	if k.VerifyEvery <= 0 || !st.Began.IsZero() && !st.Ended.IsZero() && k.Clock.Now().Sub(st.Began) < k.VerifyEvery {
		return false
	}
	err := s.VerifyOn(ctx, func(ctx context.Context, bytes int64) error { return k.pace(ctx, s, bytes) })
	if err != nil {
		if ctx.Err() == nil {
			k.Log.Error("verify "+name, "err", err)
		}
		return true
	}
	st = s.Pass()
	k.Log.Info("verified "+name, "bytes", st.Done, "bad", st.Bad, "took", span.Format(st.Ended.Sub(st.Began)))
	if st.Bad > 0 {
		k.Trail.Note(ctx, actor.System(), audit.Object{Kind: "store", Name: k.Site}, "The pass that verifies %s found %d bad records", name, st.Bad)
	}
	return true
}

// pace waits as long as these bytes may take: the pass is to end in four fifths of
// the time set, but need not be slower than 8 MiB/s.
func (k *Keeper) pace(ctx context.Context, s *points.Store, bytes int64) error {
	st := s.Pass()
	left := k.VerifyEvery * 4 / 5
	if !st.Began.IsZero() && st.Ended.IsZero() {
		left -= k.Clock.Now().Sub(st.Began)
	}
	todo := max(s.Usage().PackBytes-st.Done, bytes)
	rate := max(float64(todo)/max(left.Seconds(), 1), 8<<20)
	return clock.Sleep(ctx, k.Clock, time.Duration(float64(bytes)/rate*float64(time.Second)))
}

func (k *Keeper) passView(s *points.Store) api.VerifyPass {
	st := s.Pass()
	v := api.VerifyPass{EverySeconds: max(0, int64(k.VerifyEvery/time.Second)), Running: !st.Began.IsZero() && st.Ended.IsZero(), DoneBytes: st.Done, BadRecords: st.Bad}
	if !st.Began.IsZero() {
		v.BeganAt = new(st.Began)
	}
	if last := st.Last(); !last.IsZero() {
		v.EndedAt = new(last)
	}
	return v
}

// Losses lists what points of this site's store cannot be read, of the groups that
// see lets pass.
func (k *Keeper) Losses(see func(group string) bool) []api.Loss {
	lost, tried := k.lost()
	out := []api.Loss{}
	for _, l := range lost {
		x, err := k.Seal(l.Point)
		if err != nil || !see(x.Group.ID) {
			continue // dropped since, or another's
		}
		v := api.Loss{Point: l.Point, PointNumber: x.Number, Group: x.Group.ID, GroupName: x.Group.Name, CaptureAt: x.CaptureAt, Machine: l.Machine, Disk: l.Disk,
			OffsetBytes: l.Index * points.BlockSize, LengthBytes: l.Count * points.BlockSize, State: "awaited"}
		for _, m := range x.Machines {
			if m.ID == l.Machine {
				v.Machine = m.Name
			}
		}
		if k.ended(x.Group.ID) || tried(l) {
			v.State = "lost"
		}
		out = append(out, v)
	}
	return out
}
