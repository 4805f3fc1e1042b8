package simsite

import (
	"context"
	"math"
	"time"

	"kestrel/internal/api"
	"kestrel/internal/clock"
	"kestrel/internal/core/actor"
	"kestrel/internal/core/group"
	"kestrel/internal/core/health"
	"kestrel/internal/directory"
	"kestrel/internal/link"
	"kestrel/internal/records"
	"kestrel/internal/support/rooms"
)

// sleep waits until it is time or calm comes; then it gives false.
func (w *world) sleep(d time.Duration) bool { return clock.Sleep(w.ctx, clock.Wall{}, d) == nil }

// cutting cuts the link now and then, for minutes or for hours.
func (w *world) cutting() {
	for n := 0; ; n++ {
		r := w.draw("cut", n)
		if !w.sleep(wait(r, 7*time.Hour)) {
			return
		}
		w.mu.Lock()
		w.cut = true
		w.cuts++
		w.out.Cuts++
		w.mu.Unlock()
		mean := 3 * time.Minute
		if r.IntN(6) == 0 {
			mean = 3 * time.Hour
		}
		over := w.sleep(wait(r, mean))
		w.mu.Lock()
		w.cut, w.linkedSince = false, time.Now()
		m := w.mover
		w.mu.Unlock()
		if !over {
			return
		}
		m.Wake() // as peering does when the other site answers again
	}
}

// outages takes a platform away now and then.
func (w *world) outages(p int) {
	for n := 0; ; n++ {
		r := w.draw("outage", p, n)
		if !w.sleep(wait(r, 11*time.Hour)) {
			return
		}
		w.mu.Lock()
		w.down[p] = true
		w.out.Outages++
		w.mu.Unlock()
		over := w.sleep(wait(r, 20*time.Minute))
		w.mu.Lock()
		w.down[p], w.upSince[p] = false, time.Now()
		m := w.mover
		w.mu.Unlock()
		if !over {
			return
		}
		m.Wake()
	}
}

// restarts starts the home site's service anew, cycles under way and all.
func (w *world) restarts() {
	for n := 0; ; n++ {
		if !w.sleep(wait(w.draw("restart", n), 19*time.Hour)) {
			return
		}
		w.mu.Lock()
		stop, fresh := w.stopMover, *w.home
		w.mu.Unlock()
		stop()
		if err := fresh.Open(w.end); err != nil {
			w.found("start anew: %w", err)
			return
		}
		w.mu.Lock()
		w.home = &fresh
		w.out.Restarts++
		w.mu.Unlock()
		if err := w.startMover(); err != nil {
			w.found("start anew: %w", err)
			return
		}
	}
}

// pins pins what is newest of a group, for a day or so.
func (w *world) pins() {
	for n := 0; ; n++ {
		r := w.draw("pin", n)
		if !w.sleep(wait(r, 5*time.Hour)) {
			return
		}
		all := w.recovery.Groups.All()
		rec := all[r.IntN(len(all))]
		held := w.recovery.Store.Points(rec.ID)
		if len(held) == 0 || w.pinned[rec.ID] != "" {
			continue
		}
		x := held[len(held)-1]
		if _, err := w.recovery.Keeper.Pin(w.end, anna, x.Point, api.PointPatch{Pinned: true}); err != nil {
			w.found("pin point %d of %s: %w", x.Number, rec.Spec.Name, err)
			return
		}
		w.mu.Lock()
		w.pinned[rec.ID] = x.Point
		w.out.Pins++
		w.mu.Unlock()
		w.tell(rec.ID, "pinned %d", x.Number)
	}
}

// beats carries reports both ways, and looks at what each site believes.
func (w *world) beats() {
	for clock.Sleep(w.end, clock.Wall{}, beatEvery+777*time.Nanosecond) == nil {
		w.mu.Lock()
		cut := w.cut
		w.mu.Unlock()
		groups, _, _ := w.rooms()
		if err := groups.ResumeDue(w.end); err != nil {
			w.found("end pauses: %w", err)
		}
		if !cut {
			w.beat(2 * beatEvery)
		}
		w.look()
	}
}

// beat tells the recovery site of every group, and home what is held of it; lists
// that changed are fetched not more often than every.
func (w *world) beat(every time.Duration) {
	groups, keeper, _ := w.rooms()
	for _, r := range groups.All() {
		there := r
		there.Spec = w.crossed(r)
		if _, err := w.recovery.Groups.Mirror(w.end, actor.Actor{Kind: actor.Site, Name: rooms.HomeName}, there); err != nil {
			w.found("mirror %s: %w", r.Spec.Name, err)
		}
		if _, err := keeper.Confirmed(w.end, w.recovery.Keeper.State(r.ID), every, func(ctx context.Context) ([]link.PointState, error) { return w.recovery.Keeper.Held(ctx, r.ID) }); err != nil {
			w.found("confirm %s: %w", r.Spec.Name, err)
		}
	}
}

// crossed is a group's specification as the other site reads it. What was sent once
// is not written and read again: a revision has one specification.
func (w *world) crossed(r directory.Record) group.Spec {
	w.mu.Lock()
	sent, ok := w.sent[r.ID]
	w.mu.Unlock()
	if ok && sent.Revision == r.Revision {
		return sent.Spec
	}
	spec, err := directory.Decode(directory.Encode(r.Spec), r.Spec.Name)
	if err != nil {
		w.found("read %s as it crosses the link: %w", r.Spec.Name, err)
	}
	r.Spec = spec
	w.mu.Lock()
	w.sent[r.ID] = r
	w.mu.Unlock()
	return spec
}

// look holds what home believes against what is true.
func (w *world) look() {
	if w.road != nil {
		return // how long anybody waits is compared elsewhere
	}
	groups, keeper, mover := w.rooms()
	now := time.Now()
	w.mu.Lock()
	cut, down, linkedSince, upSince := w.cut, w.down, w.linkedSince, w.upSince
	w.mu.Unlock()
	for _, r := range groups.All() {
		held := w.recovery.Store.Points(r.ID)
		newest, _ := keeper.Newest(r.ID)
		var is time.Time
		if n := len(held); n > 0 {
			is = held[n-1].CaptureAt
		}
		if newest.After(is) {
			w.found("%s is believed to have a point of %s, and has one of %s", r.Spec.Name, newest, is)
		}
		live := mover.Live(r.ID)
		p := int(r.Spec.Platform[0] - '0')
		since := later(upSince[p], linkedSince)
		f := health.Facts{Now: now, Target: r.Spec.Promise.Target, Paused: r.Spec.PausedAt(now), Sealed: !newest.IsZero(), Exposure: now.Sub(newest), LinkUp: !cut, PlatformUp: live.PlatformUp,
			Running: live.Running != nil, LastProgress: now, DueSince: live.DueSince}
		if live.PlatformUp == down[p] {
			w.found("platform %d of %s is down: %v, and said to be up: %v", p, r.Spec.Name, down[p], live.PlatformUp)
		}
		state := health.Judge(f)
		switch over := !is.IsZero() && now.Sub(is) > r.Spec.Promise.Target; {
		case over && state != health.Over:
			w.found("%s is over its target and called %v", r.Spec.Name, state)
		case (cut || down[p]) && !f.Paused && (state == health.OnTarget || state == health.Tight || state == health.Seeding):
			w.found("%s cannot be copied and is called %v", r.Spec.Name, state)
		}
		if !live.DueSince.IsZero() && !cut && !down[p] && live.Running == nil && now.Sub(later(live.DueSince, since)) > patience+2*f.Target {
			w.found("%s has waited since %s", r.Spec.Name, live.DueSince)
		}
	}
}

// check holds what is left at the end against what was promised.
func (w *world) check() {
	now := time.Now()
	var covered, over time.Duration
	for id, want := range w.wish {
		here, _ := w.recorded(rooms.HomeID, id)
		there, ok := w.recorded(rooms.RecoveryID, id)
		if !ok || there.Revision != here.Revision || string(directory.Encode(there.Spec)) != string(directory.Encode(here.Spec)) {
			w.found("%s differs between the sites: revisions %d and %d", here.Spec.Name, here.Revision, there.Revision)
		}
		if lost := want.missing(here.Spec); lost != "" {
			w.found("an edit of %s was lost: %s", here.Spec.Name, lost)
		}
		w.checkPoints(here)
		c, o := w.checkHistory(here, now)
		covered, over = covered+c, over+o
	}
	w.out.Kept = 1 - float64(over)/math.Max(1, float64(covered))
}

// checkPoints holds the store against the records, the ladder and the pins.
func (w *world) checkPoints(r directory.Record) {
	held := w.recovery.Store.Points(r.ID)
	recs, err := w.recovery.DB.Points(w.end, records.PointFilter{Groups: []string{r.ID}})
	if err != nil || len(recs) != len(held) {
		w.found("%s: %d points in the store, %d in the records (%v)", r.Spec.Name, len(held), len(recs), err)
	}
	w.out.Dropped += len(w.arrived[r.ID]) - len(held)
	have := map[string]bool{}
	for _, x := range held {
		have[x.Point] = true
	}
	if p := w.pinned[r.ID]; p != "" && !have[p] {
		w.found("%s: a pinned point is gone", r.Spec.Name)
	}
	as := w.arrived[r.ID]
	if len(as) > 0 && len(held) == 0 || len(as) > 0 && !held[len(held)-1].CaptureAt.Equal(as[len(as)-1].Capture) {
		w.found("%s: the newest of %d points is not what was sealed last", r.Spec.Name, len(held))
	}
	if home, _ := w.home.DB.Points(w.end, records.PointFilter{Groups: []string{r.ID}}); len(home) != len(held) {
		w.found("%s: home knows of %d points, and %d are there", r.Spec.Name, len(home), len(held))
	}
}

// checkHistory sums up second by second what the history says in closed form.
func (w *world) checkHistory(r directory.Record, now time.Time) (covered, over time.Duration) {
	v, err := w.home.History.Exposure(w.end, r, new(r.CreatedAt), &now)
	if err != nil {
		w.found("the history of %s: %w", r.Spec.Name, err)
		return 0, 0
	}
	as, ts := w.arrived[r.ID], w.targets[r.ID]
	if len(as) == 0 {
		return 0, 0
	}
	const step = 15 * time.Second
	newest, at, target := time.Time{}, 0, 0
	for t := as[0].Sealed; t.Before(now); t = t.Add(step) {
		for at < len(as) && !as[at].Sealed.After(t) {
			newest = later(newest, as[at].Capture)
			at++
		}
		for target+1 < len(ts) && !ts[target+1].Since.After(t) {
			target++
		}
		covered += step
		// Time in which people hold cycles counts apart.
		if held := ts[target].Paused && t.Before(ts[target].Until); !held && t.Sub(newest) > ts[target].Target {
			over += step
		}
	}
	if d := time.Duration(v.OverSeconds)*time.Second - over; d.Abs() > step*time.Duration(len(as)+2*len(ts))/4+2*step {
		w.found("%s was over its target for %s, and the history says %s", r.Spec.Name, over, time.Duration(v.OverSeconds)*time.Second)
	}
	return covered, over
}

func later(a, b time.Time) time.Time {
	if b.After(a) {
		return b
	}
	return a
}
