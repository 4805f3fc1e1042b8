package service

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"time"

	"github.com/google/uuid"

	"kestrel/internal/core/span"
	"kestrel/internal/cycle"
	"kestrel/internal/link"
	"kestrel/internal/points"
	"kestrel/internal/records"
)

// States of a cycle.
const (
	stateRunning = "running"
	stateWaiting = "waiting" // was cut off; goes on when it can
	stateSealed  = "sealed"
	stateFailed  = "failed" // ended without a point
)

const (
	keptCycles         = 500 // a group in the database
	keptCyclesInMemory = 6
	keptExposure       = 400 * span.Day // of history
)

// cycleDetail is what a cycle's record holds beside its columns.
type cycleDetail struct {
	Checkpoint     string         `json:"checkpoint"`
	BaseCheckpoint string         `json:"baseCheckpoint"`
	BasePoint      string         `json:"basePoint"`
	Compare        bool           `json:"compare,omitempty"`
	Attempts       int            `json:"attempts"`
	Progress       cycle.Progress `json:"progress"`
	Point          string         `json:"point,omitempty"`
	Error          string         `json:"error,omitempty"`
}

// running is a cycle under way.
type running struct {
	cancel   context.CancelFunc
	why      string // of the stop, if it was stopped
	abandon  bool   // it must not go on later
	done     chan struct{}
	rec      records.Cycle
	detail   cycleDetail
	savedAt  time.Time
	resumeAt int64 // bytes read when this attempt began
	began    time.Time
}

// stop ends a cycle where it is; the service's lock is held.
func (r *running) stop(why string) {
	if r.why == "" {
		r.why = why
	}
	r.cancel()
}

// rate is the bytes read a second in this attempt, and when the rest is done.
func (r *running) rate(now time.Time) (int64, time.Time) {
	p := r.detail.Progress
	d := now.Sub(r.began)
	moved := p.ReadBytes - r.resumeAt
	if d < time.Second/2 || moved <= 0 {
		return 0, time.Time{}
	}
	perSecond := float64(moved) / d.Seconds()
	return int64(perSecond), now.Add(time.Duration(float64(p.TotalBytes-p.ReadBytes) / perSecond * float64(time.Second)))
}

// pulse does what falls due until ctx ends.
func (s *Service) pulse(ctx context.Context) {
	s.refreshPlatforms(ctx)
	tidied := false
	for n := 1; ; n++ {
		s.schedule(ctx)
		if n%10 == 0 {
			s.measureBacklogs(ctx)
		}
		if n%20 == 0 {
			s.refreshPlatforms(ctx)
		}
		if n%120 == 0 || !tidied {
			tidied = s.forgetLeftovers(ctx) || tidied
			s.pruneAll(ctx)
			s.forgetCopies()
			s.sweep(ctx)
			err := errors.Join(s.db.DeleteExpiredSecrets(ctx, s.clk.Now()), s.db.TrimDrops(ctx, s.clk.Now().Add(-keptExposure)))
			if err != nil && ctx.Err() == nil {
				s.log.Warn("tidy the records", "err", err)
			}
		}
		select {
		case <-ctx.Done():
			return
		case <-s.clk.After(s.cfg.Pulse):
		}
	}
}

// schedule starts the cycles that are due.
func (s *Service) schedule(ctx context.Context) {
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.runCtx == nil || s.runCtx.Err() != nil {
		return
	}
	now := s.clk.Now()
	for _, g := range s.groups {
		if g.rec.Direction != "out" || g.ending || g.run != nil {
			continue
		}
		if !s.due(g, now) {
			g.dueSince = time.Time{}
			continue
		}
		if g.dueSince.IsZero() {
			g.dueSince = now
		}
		p, l := s.platforms[g.set.Platform], s.links[deref(g.rec.Link)]
		if p == nil || !p.up() || !s.upOut(l) || now.Before(g.retryAt) {
			continue
		}
		select {
		case s.slots <- struct{}{}:
			s.begin(g, p, l)
		default:
			return // all slots are taken; the next pulse looks again
		}
	}
}

// due tells whether a cycle should begin or go on; the lock is held.
func (s *Service) due(g *group, now time.Time) bool {
	if g.rec.Paused {
		return false
	}
	if g.runNow || len(g.cycles) > 0 && g.cycles[0].State == stateWaiting {
		return true
	}
	var last time.Time
	if g.rec.LastStart != nil {
		last = *g.rec.LastStart
	}
	// Even a group whose cycles run by hand is seeded by itself.
	if g.promise().Cadence.ByHand() {
		return last.IsZero()
	}
	next, ok := g.promise().Cadence.Next(g.rec.Anchor, last, now)
	return ok && !next.After(now)
}

// begin sets a cycle going; the lock is held and a slot is taken.
func (s *Service) begin(g *group, p *platformState, l *linkState) {
	ctx, cancel := context.WithCancel(s.runCtx)
	g.run = &running{cancel: cancel, done: make(chan struct{}), began: s.clk.Now()}
	g.runNow, g.dueSince = false, time.Time{}
	r := g.run
	s.wg.Go(func() {
		defer func() { cancel(); <-s.slots }()
		err := s.runCycle(ctx, g, r, p, l)
		s.afterCycle(g, r, err)
		close(r.done)
		s.schedule(ctx)
	})
}

// runCycle opens the record of a cycle, or the one that was cut off, and runs it.
func (s *Service) runCycle(ctx context.Context, g *group, r *running, p *platformState, l *linkState) error {
	resumed, err := s.openCycle(ctx, g, r)
	if err != nil {
		return err
	}
	s.mu.Lock()
	job := cycle.Job{ID: r.rec.ID, Checkpoint: r.detail.Checkpoint, BaseCheckpoint: r.detail.BaseCheckpoint, BasePoint: r.detail.BasePoint, Resumed: resumed, Captured: r.detail.Progress.Captured(), Apart: g.set.Apart, Compare: r.detail.Compare, Encoding: l.set.encoding(),
		Group: points.SealGroup{ID: g.rec.ID, Name: g.rec.Name, HomeSite: g.rec.HomeID, HomeName: g.rec.HomeName, Term: g.rec.Term, Settings: g.rec.Settings}}
	for _, m := range g.set.Machines {
		job.Machines = append(job.Machines, m.ID)
		if m.Quiesce {
			job.Quiesce = append(job.Quiesce, m.ID)
		}
	}
	earlier := r.detail.Progress
	to := s.remoteOf(g, l.peer.Flow(g.rec.ID, g.set.weight()), r.detail.BaseCheckpoint)
	s.mu.Unlock()
	first := true
	seal, err := cycle.Run(ctx, p.driver, to, s.clk, job, func(pr cycle.Progress) {
		s.mu.Lock()
		defer s.mu.Unlock()
		// What crossed the link in earlier attempts counts on.
		pr.ShippedBytes += earlier.ShippedBytes
		pr.WireBytes += earlier.WireBytes
		if len(earlier.Phases) > 0 {
			pr.Phases = joinPhases(earlier.Phases, pr.Phases)
		}
		if first && pr.TotalBytes > 0 {
			first, r.resumeAt, r.began = false, pr.ReadBytes, s.clk.Now()
		}
		moved := r.detail.Progress.Phase != pr.Phase
		r.detail.Progress = pr
		g.cycles = replaceCycle(g.cycles, cycleView(r.rec, r.detail))
		if now := s.clk.Now(); moved || now.Sub(r.savedAt) > 2*time.Second {
			r.savedAt = now
			s.changed(g)
		}
	})
	if err != nil {
		return err
	}
	return s.sealed(ctx, g, r, p, l, seal)
}

// joinPhases keeps when a phase first began over several attempts.
func joinPhases(before, now []cycle.Phase) []cycle.Phase {
	out := append([]cycle.Phase(nil), now...)
	for i := range out {
		for _, b := range before {
			if b.Name == out[i].Name {
				out[i].From = b.From
			}
		}
	}
	return out
}

// openCycle writes the record before anything is asked of the platform, so
// that after a crash the same capture is found again.
func (s *Service) openCycle(ctx context.Context, g *group, r *running) (resumed bool, err error) {
	s.mu.Lock()
	grec := g.rec
	compareNow, compareDue := g.compareNow, g.compareDue(s.clk.Now())
	s.mu.Unlock()
	var detail cycleDetail
	rec, err := s.db.OpenCycle(ctx, grec.ID)
	switch {
	case err == nil:
		if err := json.Unmarshal(rec.Detail, &detail); err != nil {
			return false, fmt.Errorf("cycle record: %w", err)
		}
		resumed = true
	case errors.Is(err, records.ErrNotFound):
		number := int64(1)
		if last, err := s.db.Cycles(ctx, grec.ID, 1); err != nil {
			return false, err
		} else if len(last) > 0 {
			number = last[0].Number + 1
		}
		rec = records.Cycle{ID: uuid.NewString(), GroupID: grec.ID, Number: number, StartedAt: s.clk.Now().UTC()}
		detail = cycleDetail{Checkpoint: s.checkpointPrefix() + rec.ID, BaseCheckpoint: grec.BaseCheckpoint, BasePoint: grec.BasePoint, Compare: grec.BasePoint != "" && (compareNow || compareDue)}
	default:
		return false, err
	}
	detail.Attempts++
	detail.Error = ""
	rec.State, rec.Detail = stateRunning, mustJSON(detail)
	if err := s.db.PutCycle(ctx, rec); err != nil {
		return false, err
	}
	s.mu.Lock()
	r.rec, r.detail = rec, detail
	if !resumed {
		g.rec.LastStart, g.compareNow = &rec.StartedAt, false
	}
	g.cycles = replaceCycle(g.cycles, cycleView(rec, detail))
	s.mu.Unlock()
	s.changed(g)
	if resumed {
		return true, nil
	}
	return false, s.db.NoteStart(ctx, grec.ID, rec.StartedAt)
}

// checkpointPrefix marks this site's checkpoints on a platform.
func (s *Service) checkpointPrefix() string { return "kt-" + s.site.ID[:8] + "-" }

// sealed notes a point that is there for good, and lets go of what it replaces.
func (s *Service) sealed(ctx context.Context, g *group, r *running, p *platformState, l *linkState, seal *points.Seal) error {
	// The seal stands whatever happens now: the rest must not be cut off by a
	// pause or a stop.
	ctx = context.WithoutCancel(ctx)
	now := s.clk.Now().UTC()
	s.mu.Lock()
	r.detail.Point = seal.Point
	r.detail.Progress.Phase, r.detail.Progress.MissedBytes = "", seal.MissedBytes
	r.rec.State, r.rec.EndedAt, r.rec.Detail = stateSealed, &now, mustJSON(r.detail)
	grec := g.rec
	grec.BaseCheckpoint, grec.BasePoint = r.detail.Checkpoint, seal.Point
	if r.detail.Progress.Kind != cycle.KindChanges {
		grec.ComparedAt = &now
	}
	drop := records.Drop{CaptureAt: seal.CaptureAt, SealedAt: ours(l, seal.SealedAt)}
	s.mu.Unlock()
	if drop.SealedAt.After(now) || drop.SealedAt.Before(drop.CaptureAt) {
		drop.SealedAt = now // the clocks' difference is not known well enough
	}
	if err := s.db.EndCycle(ctx, r.rec, grec); err != nil {
		return err
	}
	old := r.detail.BaseCheckpoint
	s.mu.Lock()
	g.rec.BaseCheckpoint, g.rec.BasePoint, g.rec.ComparedAt = grec.BaseCheckpoint, grec.BasePoint, grec.ComparedAt
	g.cycles = replaceCycle(g.cycles, cycleView(r.rec, r.detail))
	g.newestAt, g.newestPoint, g.confirmedAt = seal.CaptureAt, seal.Point, now
	g.points++
	if g.oldestAt.IsZero() {
		g.oldestAt = seal.CaptureAt
	}
	s.mu.Unlock()
	light := *seal
	light.Machines = withoutConfigs(seal.Machines)
	err := errors.Join(
		s.db.AddDrop(ctx, g.rec.ID, drop),
		s.db.PutPoint(ctx, records.Point{ID: seal.Point, GroupID: g.rec.ID, CaptureAt: seal.CaptureAt, Seal: mustJSON(light)}),
		s.db.TrimCycles(ctx, g.rec.ID, keptCycles))
	if err != nil {
		s.log.Error("note a landing", "group", g.rec.Name, "err", err)
	}
	// Checkpoints that cannot be let go of now are forgotten with the leftovers.
	if err := p.driver.Release(ctx, r.detail.Checkpoint); err != nil {
		s.log.Warn("release checkpoint", "group", g.rec.Name, "err", err)
	}
	if old != "" {
		if err := p.driver.Forget(ctx, old); err != nil {
			s.log.Warn("forget checkpoint", "group", g.rec.Name, "err", err)
		}
	}
	s.measureChange(g, r)
	if r.detail.Progress.Kind != cycle.KindChanges {
		s.note(ctx, "kestrel", "group", g.rec.Name, "%s: %s sealed as point %d", g.rec.Name, map[string]string{cycle.KindSeed: "the first copy is", cycle.KindCompare: "a full comparison is"}[r.detail.Progress.Kind], seal.Number)
	}
	if seal.MissedBytes > 0 {
		s.note(ctx, "kestrel", "group", g.rec.Name, "%s: the comparison found %s that had changed without the platform's reporting it; point %d has it right, older ones since the last comparison may not", g.rec.Name, bytesText(float64(seal.MissedBytes)), seal.Number)
	}
	s.hub.send(Event{Type: "point", ID: seal.Point, Group: g.rec.ID})
	return nil
}

func withoutConfigs(ms []points.SealMachine) []points.SealMachine {
	out := append([]points.SealMachine(nil), ms...)
	for i := range out {
		out[i].Config = nil
	}
	return out
}

// measureChange smooths the rate of change over cycles of changes.
func (s *Service) measureChange(g *group, r *running) {
	s.mu.Lock()
	defer s.mu.Unlock()
	if r.detail.Progress.Kind != cycle.KindChanges || len(g.cycles) < 2 || g.cycles[1].CaptureAt == nil {
		return
	}
	d := r.detail.Progress.CaptureAt.Sub(*g.cycles[1].CaptureAt)
	if d < time.Second {
		return
	}
	rate := float64(r.detail.Progress.ChangedBytes) / d.Seconds()
	if g.changeRate == 0 {
		g.changeRate = rate
	} else {
		g.changeRate = 0.7*g.changeRate + 0.3*rate
	}
}

// afterCycle takes a cycle that returned off the group.
func (s *Service) afterCycle(g *group, r *running, err error) {
	ctx := context.WithoutCancel(s.runCtx)
	s.mu.Lock()
	g.run = nil
	stopped := r.why != "" || s.runCtx.Err() != nil
	abandon := r.abandon
	if err == nil {
		g.failures, g.reason, g.retryAt = 0, "", time.Time{}
	} else if !stopped {
		g.failures++
		g.reason = sentence(err)
		g.retryAt = s.clk.Now().Add(min(30*time.Second, time.Second<<min(g.failures-1, 5)))
	}
	s.mu.Unlock()
	defer s.changed(g)
	if err == nil || r.rec.ID == "" || r.rec.State == stateSealed {
		return
	}
	startAnew := errors.Is(err, cycle.ErrStartAnew)
	s.mu.Lock()
	r.detail.Error = sentence(err)
	if stopped {
		r.detail.Error = ""
	}
	r.rec.State = stateWaiting
	if startAnew || abandon {
		r.rec.State, r.rec.EndedAt = stateFailed, ptr(s.clk.Now().UTC())
		g.retryAt, g.runNow = time.Time{}, true
	}
	r.rec.Detail = mustJSON(r.detail)
	g.cycles = replaceCycle(g.cycles, cycleView(r.rec, r.detail))
	failures, ending := g.failures, g.ending
	s.mu.Unlock()
	if ending {
		return
	}
	if err := s.db.PutCycle(ctx, r.rec); err != nil {
		s.log.Error("save cycle", "group", g.rec.Name, "err", err)
	}
	if !stopped && (failures == 1 || startAnew) {
		s.log.Warn("cycle cut off", "group", g.rec.Name, "err", err)
		s.note(ctx, "kestrel", "group", g.rec.Name, "%s: a cycle was cut off: %v. It goes on by itself.", g.rec.Name, err)
	}
}

// abandonOpenCycle ends a cycle that must not go on, such as one over machines
// that are no longer those of the group.
func (s *Service) abandonOpenCycle(ctx context.Context, g *group, why string) error {
	s.mu.Lock()
	r := g.run
	s.mu.Unlock()
	if r != nil {
		<-r.done
	}
	rec, err := s.db.OpenCycle(ctx, g.rec.ID)
	if errors.Is(err, records.ErrNotFound) {
		return nil
	}
	if err != nil {
		return err
	}
	var d cycleDetail
	if err := json.Unmarshal(rec.Detail, &d); err != nil {
		return err
	}
	d.Error = sentence(errors.New(why))
	rec.State, rec.EndedAt, rec.Detail = stateFailed, ptr(s.clk.Now().UTC()), mustJSON(d)
	if err := s.db.PutCycle(ctx, rec); err != nil {
		return err
	}
	s.mu.Lock()
	g.cycles = replaceCycle(g.cycles, cycleView(rec, d))
	g.runNow = true
	l := s.links[deref(g.rec.Link)]
	s.mu.Unlock()
	if l != nil {
		_ = l.peer.Drop(ctx, rec.ID) // or it is dropped when the next one seals
	}
	return nil
}

// measureBacklogs asks the platforms how much was written since the last
// sealed points.
func (s *Service) measureBacklogs(ctx context.Context) {
	type ask struct {
		g    *group
		p    *platformState
		base string
	}
	var asks []ask
	s.mu.Lock()
	for _, g := range s.groups {
		if p := s.platforms[g.set.Platform]; g.rec.Direction == "out" && g.rec.BaseCheckpoint != "" && p != nil && p.up() {
			asks = append(asks, ask{g, p, g.rec.BaseCheckpoint})
		}
	}
	s.mu.Unlock()
	for _, a := range asks {
		ctx, cancel := context.WithTimeout(ctx, 5*time.Second)
		n, err := a.p.driver.Changed(ctx, a.base)
		cancel()
		s.mu.Lock()
		a.g.backlogOK = err == nil
		if err == nil {
			a.g.backlog, a.g.backlogAt = n, s.clk.Now()
		}
		s.mu.Unlock()
	}
}

// forgetLeftovers removes checkpoints of this site that no group needs: a crash
// or a lost platform may have left them. It reports whether all could be asked.
func (s *Service) forgetLeftovers(ctx context.Context) bool {
	s.mu.Lock()
	ps := map[string]*platformState{}
	for id, p := range s.platforms {
		ps[id] = p
	}
	s.mu.Unlock()
	all := true
	for _, p := range ps {
		names, err := p.driver.Checkpoints(ctx)
		if err != nil {
			all = false
			continue
		}
		for _, name := range names {
			if len(name) < len(s.checkpointPrefix()) || name[:len(s.checkpointPrefix())] != s.checkpointPrefix() || s.needed(ctx, name) {
				continue
			}
			if err := p.driver.Forget(ctx, name); err != nil {
				s.log.Warn("forget leftover checkpoint", "name", name, "err", err)
			} else {
				s.log.Info("forgot leftover checkpoint", "name", name)
			}
		}
	}
	return all
}

// needed tells whether a checkpoint is a group's base or of an open cycle. What
// cannot be told counts as needed.
func (s *Service) needed(ctx context.Context, checkpoint string) bool {
	s.mu.Lock()
	var out []string
	for _, g := range s.groups {
		if g.rec.BaseCheckpoint == checkpoint || g.run != nil {
			// A running cycle's checkpoint may be older than what we listed.
			if g.rec.BaseCheckpoint == checkpoint || g.run.detail.Checkpoint == checkpoint || g.run.detail.Checkpoint == "" {
				s.mu.Unlock()
				return true
			}
		}
		if g.rec.Direction == "out" {
			out = append(out, g.rec.ID)
		}
	}
	s.mu.Unlock()
	for _, id := range out {
		c, err := s.db.OpenCycle(ctx, id)
		if errors.Is(err, records.ErrNotFound) {
			continue
		}
		var d cycleDetail
		if err != nil || json.Unmarshal(c.Detail, &d) != nil || d.Checkpoint == checkpoint || d.BaseCheckpoint == checkpoint {
			return true
		}
	}
	return false
}

var _ link.Local = (*Service)(nil)
