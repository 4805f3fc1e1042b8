package mover

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"slices"
	"time"

	"github.com/google/uuid"

	"kestrel/internal/core/group"
	"kestrel/internal/core/schedule"
	"kestrel/internal/core/span"
	"kestrel/internal/core/words"
	"kestrel/internal/cycle"
	"kestrel/internal/directory"
	"kestrel/internal/platform"
	"kestrel/internal/points"
	"kestrel/internal/records"
)

// detail is what a cycle's record holds beside its columns.
type detail struct {
	Checkpoint     string         `json:"checkpoint"`
	BaseCheckpoint string         `json:"baseCheckpoint"`
	BasePoint      string         `json:"basePoint"`
	Platform       string         `json:"platform,omitempty"`
	Machines       []string       `json:"machines,omitempty"` // that it copies, in order of their IDs; older records do not say
	Compare        bool           `json:"compare,omitempty"`
	Attempts       int            `json:"attempts"`
	Progress       cycle.Progress `json:"progress"`
	Point          string         `json:"point,omitempty"`
	Error          string         `json:"error,omitempty"`
	Why            string         `json:"why,omitempty"`       // it began when it did
	Unusual        string         `json:"unusual,omitempty"`   // what was of what it found
	Waited         time.Duration  `json:"waited,omitempty"`    // since it was due, before it began
	LinkLimit      int64          `json:"linkLimit,omitempty"` // when it ended
	// Turn counts cycles that sealed, for what is done at one of several captures: a
	// cycle that failed leaves its turn to the next.
	Turn int64 `json:"turn,omitempty"`
}

// account is what is told of a cycle.
func account(r records.Cycle, d detail) cycle.Account {
	p := d.Progress
	a := cycle.Account{ID: r.ID, Number: r.Number, Kind: p.Kind, State: r.State, StartedAt: r.StartedAt, CaptureAt: p.CaptureAt, Phases: p.Phases, TotalBytes: p.TotalBytes, ReadBytes: p.ReadBytes,
		ChangedBytes: p.ChangedBytes, ShippedBytes: p.ShippedBytes, WireBytes: p.WireBytes, MissedBytes: p.MissedBytes, Attempts: d.Attempts, Point: d.Point, Error: d.Error, Note: p.Note, Quiet: p.Quiet, LinkLimit: d.LinkLimit, Why: d.Why, Waited: d.Waited, ZeroedBytes: p.ZeroedBytes, Parts: p.Parts, Unusual: d.Unusual}
	if r.EndedAt != nil {
		a.EndedAt = *r.EndedAt
	}
	return a
}

// accountOf is account from a record alone: nothing runs that is not in memory.
func accountOf(r records.Cycle) (cycle.Account, error) {
	var d detail
	if err := json.Unmarshal(r.Detail, &d); err != nil {
		return cycle.Account{}, fmt.Errorf("cycle record %s: %w", r.ID, err)
	}
	if r.State == cycle.Running {
		r.State = cycle.Waiting
	}
	return account(r, d), nil
}

// show puts the newest state of a cycle into the accounts, newest first; the lock
// is held.
func (s *state) show(a cycle.Account) {
	out := []cycle.Account{a}
	for _, x := range s.accounts {
		if x.ID != a.ID && len(out) < keptAccounts {
			out = append(out, x)
		}
	}
	s.accounts = out
	if a.State == cycle.Sealed {
		s.reckoned = time.Time{}
	}
}

// pass opens the record of a cycle, or the one that was cut off, and runs it.
func (m *Mover) pass(ctx context.Context, r directory.Record, s *state, run *running, src Source, way Way) error {
	resumed, err := m.open(ctx, r, s, run)
	if err != nil {
		return err
	}
	m.mu.Lock()
	d := run.detail
	m.mu.Unlock()
	job := cycle.Job{ID: run.rec.ID, Checkpoint: d.Checkpoint, BaseCheckpoint: d.BaseCheckpoint, BasePoint: d.BasePoint, Resumed: resumed, Captured: d.Progress.Captured(), Apart: r.Spec.Apart, Leaves: r.Spec.Leaves, Compare: d.Compare, Encoding: way.Encoding,
		Group: points.SealGroup{ID: r.ID, Name: r.Spec.Name, HomeSite: r.HomeID, HomeName: r.HomeName, Term: r.Term, Settings: directory.Encode(r.Spec), Numbered: m.Points.Numbered(r.ID)}}
	for _, x := range r.Spec.Machines {
		job.Machines = append(job.Machines, x.ID)
		if rest := r.Spec.RestOf(x); rest.At(d.Turn) {
			job.Quiesce = append(job.Quiesce, platform.Rest{Machine: x.ID, Limit: rest.Limit, Before: rest.Before, After: rest.After})
			if rest.Mode == group.RestRequired {
				job.Required = append(job.Required, x.ID)
			}
		}
	}
	job.Unusual = func(cycle.Progress) string { return m.unusual(s, run) }
	to := way.Remote(r.ID, run.share)
	if r.Spec.HomePoints {
		m.mu.Lock()
		s.homeFailure = ""
		m.mu.Unlock()
		to = m.Points.WithHome(r, to, d.BaseCheckpoint, func(why string) {
			m.mu.Lock()
			s.homeFailure = why
			m.mu.Unlock()
		})
	}
	earlier := d.Progress
	first := true
	seal, err := m.Pass(ctx, src.Driver, to, m.Clock, job, func(p cycle.Progress) {
		m.mu.Lock()
		// What crossed the link in earlier attempts counts on.
		p.ShippedBytes += earlier.ShippedBytes
		p.WireBytes += earlier.WireBytes
		if p.TotalBytes == 0 && p.ReadBytes == 0 {
			// It is not reckoned yet what there is to read, or there is no need to: the point
			// was sealed, and the answer lost.
			p.TotalBytes, p.ReadBytes, p.ChangedBytes, p.ZeroedBytes, p.UsedBytes = earlier.TotalBytes, earlier.ReadBytes, earlier.ChangedBytes, earlier.ZeroedBytes, earlier.UsedBytes
			p.Parts = earlier.Parts
		} else {
			p.Parts = cycle.Joined(p.Parts, earlier.Parts)
		}
		p.Phases = joinPhases(earlier.Phases, p.Phases)
		now := m.Clock.Now()
		if first && p.TotalBytes > 0 {
			first, run.resumeAt, run.began = false, p.ReadBytes, now
		}
		moved := run.detail.Progress.Phase != p.Phase
		run.detail.Progress = p
		s.show(account(run.rec, run.detail))
		tell := moved || now.Sub(run.savedAt) > 2*time.Second
		if tell {
			run.savedAt = now
		}
		m.mu.Unlock()
		if tell {
			m.told(r.ID)
		}
	})
	if err != nil {
		return err
	}
	return m.sealed(ctx, r, s, run, src, way, seal)
}

// joinPhases keeps when a phase first began over several attempts.
func joinPhases(before, now []cycle.Phase) []cycle.Phase {
	if len(before) == 0 {
		return now
	}
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

// open writes the record before anything is asked of the platform, so that after a
// crash the same capture is found again.
func (m *Mover) open(ctx context.Context, r directory.Record, s *state, run *running) (resumed bool, err error) {
	now := m.Clock.Now().UTC()
	m.mu.Lock()
	rep, compareNow := s.rep, s.compareNow
	m.mu.Unlock()
	compared := r.CreatedAt
	if rep.ComparedAt != nil {
		compared = *rep.ComparedAt
	}
	var d detail
	rec, err := m.Records.OpenCycle(ctx, r.ID)
	if err == nil {
		d, err = m.takeUp(ctx, r, s, rec)
	}
	switch {
	case err == nil:
		resumed = true
	case errors.Is(err, records.ErrNotFound):
		number, turn, err := m.following(ctx, r.ID)
		if err != nil {
			return false, err
		}
		rec = records.Cycle{ID: uuid.NewString(), GroupID: r.ID, Number: number, StartedAt: now}
		d = detail{Checkpoint: m.Owner + rec.ID, BaseCheckpoint: rep.BaseCheckpoint, BasePoint: rep.BasePoint, Why: run.start, Waited: run.waited, Platform: r.Spec.Platform, Machines: machines(r.Spec), Turn: turn,
			Compare: rep.BasePoint != "" && (compareNow || schedule.CompareDue(r.Spec.CompareEvery, compared, now))}
	default:
		return false, err
	}
	d.Attempts++
	d.Error = ""
	rec.State, rec.Detail = cycle.Running, mustJSON(d)
	if err := m.Records.PutCycle(ctx, rec); err != nil {
		return false, err
	}
	m.mu.Lock()
	run.rec, run.detail = rec, d
	if !resumed {
		s.rep.LastStart, s.compareNow = &rec.StartedAt, false
	}
	s.show(account(rec, d))
	m.mu.Unlock()
	m.told(r.ID)
	if resumed {
		return true, nil
	}
	return false, m.Records.NoteStart(ctx, r.ID, rec.StartedAt)
}

// following is what a new cycle counts as: its number and its turn.
func (m *Mover) following(ctx context.Context, group string) (number, turn int64, err error) {
	last, err := m.Records.Cycles(ctx, group, 0, 1)
	if err != nil || len(last) == 0 {
		return 1, 0, err
	}
	var d detail
	if err := json.Unmarshal(last[0].Detail, &d); err != nil {
		return 0, 0, fmt.Errorf("cycle record %s: %w", last[0].ID, err)
	}
	if last[0].State == cycle.Sealed {
		d.Turn++
	}
	return last[0].Number + 1, d.Turn, nil
}

// machines are the IDs of a group's machines, in order.
func machines(s group.Spec) []string {
	var out []string
	for _, x := range s.Machines {
		out = append(out, x.ID)
	}
	slices.Sort(out)
	return out
}

// copies tells whether a cycle copies what the group is made of now. A point of other
// machines must not be sealed as the group's.
func (d detail) copies(s group.Spec) bool {
	return d.Machines == nil || d.Platform == s.Platform && slices.Equal(d.Machines, machines(s))
}

// takeUp reads a cycle that was cut off and is to go on. One of other machines is
// ended for good, with its intake; then there is none, ErrNotFound.
func (m *Mover) takeUp(ctx context.Context, r directory.Record, s *state, rec records.Cycle) (detail, error) {
	var d detail
	if err := json.Unmarshal(rec.Detail, &d); err != nil {
		return d, fmt.Errorf("cycle record: %w", err)
	}
	if d.copies(r.Spec) {
		return d, nil
	}
	at := m.Clock.Now().UTC()
	d.Error = words.Upper(otherMachines)
	rec.State, rec.EndedAt, rec.Detail = cycle.Failed, &at, mustJSON(d)
	if err := m.Records.PutCycle(ctx, rec); err != nil {
		return d, err
	}
	m.mu.Lock()
	s.show(account(rec, d))
	m.mu.Unlock()
	m.abandonIntake(ctx, r, rec)
	return detail{}, records.ErrNotFound
}

// abandonIntake lets the recovery site forget what a cycle has brought; if it cannot
// be told now, it forgets when the next one seals.
func (m *Mover) abandonIntake(ctx context.Context, r directory.Record, rec records.Cycle) {
	if way, ok := m.Way(r.Link); ok {
		_ = way.Abandon(ctx, rec.ID)
	}
}

// sealed notes a point that is there for good, and lets go of what it replaces.
func (m *Mover) sealed(ctx context.Context, r directory.Record, s *state, run *running, src Source, way Way, seal *points.Seal) error {
	// The seal stands whatever happens now: the rest must not be cut off by a pause
	// or a stop.
	ctx = context.WithoutCancel(ctx)
	now := m.Clock.Now().UTC()
	m.mu.Lock()
	d := run.detail
	d.Point, d.LinkLimit, d.Unusual = seal.Point, way.Limit, seal.Unusual
	d.Progress.Phase, d.Progress.MissedBytes = "", seal.MissedBytes
	rec := run.rec
	rec.State, rec.EndedAt, rec.Detail = cycle.Sealed, &now, mustJSON(d)
	rep := s.rep
	m.mu.Unlock()
	rep.BaseCheckpoint, rep.BasePoint = d.Checkpoint, seal.Point
	if d.Progress.Kind != cycle.KindChanges {
		rep.ComparedAt = &now
	}
	if err := m.Records.EndCycle(ctx, rec, rep); err != nil {
		return err
	}
	m.mu.Lock()
	old := s.rep.BaseCheckpoint
	s.rep.BaseCheckpoint, s.rep.BasePoint, s.rep.ComparedAt = rep.BaseCheckpoint, rep.BasePoint, rep.ComparedAt
	run.rec, run.detail = rec, d
	s.show(account(rec, d))
	s.smooth(d.Progress)
	m.mu.Unlock()
	err := errors.Join(
		m.Arrived(ctx, r.ID, seal.CaptureAt, way.Ours(seal.SealedAt)),
		m.Points.Shipped(ctx, r, seal),
		m.Records.TrimCycles(ctx, r.ID, rec.Number, KeptCycles),
		m.Records.AddTally(ctx, tallyOf(r.ID, run.missed, account(rec, d), now)))
	if err != nil {
		m.Log.Error("note a point's arrival", "group", r.Spec.Name, "err", err)
	}
	m.ended(r, account(rec, d))
	// Checkpoints that cannot be let go of now are forgotten with the leftovers.
	if err := src.Driver.Release(ctx, d.Checkpoint); err != nil {
		m.Log.Warn("release checkpoint", "group", r.Spec.Name, "err", err)
	}
	if old != "" {
		if err := src.Driver.Forget(ctx, old); err != nil {
			m.Log.Warn("forget checkpoint", "group", r.Spec.Name, "err", err)
		}
	}
	switch d.Progress.Kind {
	case cycle.KindSeed:
		m.note(ctx, r, "%s: the first copy is sealed as point %d", r.Spec.Name, seal.Number)
	case cycle.KindCompare:
		m.note(ctx, r, "%s: a full comparison is sealed as point %d", r.Spec.Name, seal.Number)
	}
	if seal.Unusual != "" {
		m.note(ctx, r, "%s: unusual change in point %d: %s", r.Spec.Name, seal.Number, seal.Unusual)
	}
	if seal.MissedBytes > 0 {
		m.note(ctx, r, "%s: the comparison found %s that had changed without the platform's reporting it; point %d has it right, older ones since the last comparison may not", r.Spec.Name, span.Bytes(float64(seal.MissedBytes)), seal.Number)
	}
	return nil
}

// ended tells whoever wants to know that a cycle has ended.
func (m *Mover) ended(r directory.Record, a cycle.Account) {
	if m.Ended != nil && !a.EndedAt.IsZero() {
		m.Ended(r, a)
	}
}

// tallyOf is what a cycle that sealed is counted as. What is unusual does not become the
// usual at once.
func tallyOf(group string, missed int, a cycle.Account, at time.Time) records.Tally {
	t := records.Tally{GroupID: group, At: at, Sealed: 1, Missed: missed, Changed: a.ChangedBytes, Wire: a.WireBytes, Took: a.Took().Milliseconds(), WaitedMost: a.Waited.Milliseconds()}
	if a.Kind == cycle.KindChanges && a.Unusual == "" {
		t.DenseMost, t.ZeroedMost = seenOf(a, 0).Dense(), a.ZeroedBytes
	}
	return t
}

// smooth takes the rate of change of a cycle into account; the lock is held, and
// the cycle is the newest account.
func (s *state) smooth(p cycle.Progress) {
	if p.Kind != cycle.KindChanges || len(s.accounts) < 2 || s.accounts[1].CaptureAt.IsZero() {
		return
	}
	d := p.CaptureAt.Sub(s.accounts[1].CaptureAt)
	if d < time.Second {
		return
	}
	rate := float64(p.ChangedBytes) / d.Seconds()
	if s.changeRate == 0 {
		s.changeRate = rate
	} else {
		s.changeRate = 0.7*s.changeRate + 0.3*rate
	}
}

// after takes a cycle that returned off the group, once its end is recorded: before
// that another one would take it up.
func (m *Mover) after(r directory.Record, s *state, run *running, err error) {
	ctx := context.WithoutCancel(m.ctx)
	now := m.Clock.Now()
	defer m.told(r.ID)
	defer func() {
		m.mu.Lock()
		defer m.mu.Unlock()
		s.run = nil
	}()
	m.mu.Lock()
	stopped := run.why != "" || m.ctx.Err() != nil
	if err == nil {
		s.failures, s.failure, s.retryAt = 0, "", time.Time{}
	} else if !stopped {
		s.failures++
		s.failure = words.Upper(err.Error())
		s.retryAt = now.Add(schedule.Backoff(s.failures))
	}
	if err == nil || run.rec.ID == "" || run.rec.State == cycle.Sealed {
		m.mu.Unlock()
		return
	}
	startAnew, restless := errors.Is(err, cycle.ErrStartAnew), errors.Is(err, cycle.ErrNotAtRest)
	run.detail.Error = words.Upper(err.Error())
	if stopped {
		run.detail.Error = ""
	}
	run.rec.State = cycle.Waiting
	if startAnew || restless || run.abandon {
		at := now.UTC()
		run.rec.State, run.rec.EndedAt = cycle.Failed, &at
		s.askedAt = now
		if !restless {
			s.retryAt = time.Time{}
		}
	}
	if run.abandon {
		run.detail.Error = words.Upper(run.why)
	}
	run.rec.Detail = mustJSON(run.detail)
	s.show(account(run.rec, run.detail))
	rec, d, failures, ending, abandon := run.rec, run.detail, s.failures, s.ending, run.abandon
	a := account(run.rec, run.detail)
	m.mu.Unlock()
	m.ended(r, a)
	if ending {
		return
	}
	if err := m.Records.PutCycle(ctx, rec); err != nil {
		m.Log.Error("save cycle", "group", r.Spec.Name, "err", err)
	}
	if !stopped && failures == 1 {
		if err := m.Records.AddTally(ctx, records.Tally{GroupID: r.ID, At: now, Failed: 1, Missed: run.missed}); err != nil {
			m.Log.Error("count a cycle that failed", "group", r.Spec.Name, "err", err)
		}
	}
	if abandon {
		m.abandonIntake(ctx, r, rec)
		m.Forget(ctx, d.Platform, d.Checkpoint)
	}
	if !stopped && (failures == 1 || startAnew) {
		m.Log.Warn("cycle cut off", "group", r.Spec.Name, "err", err)
		if restless {
			m.note(ctx, r, "%s: %v. It is tried again and again.", r.Spec.Name, err)
			return
		}
		m.note(ctx, r, "%s: a cycle was cut off: %v. It goes on by itself.", r.Spec.Name, err)
	}
}
