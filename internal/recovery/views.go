package recovery

import (
	"context"
	"errors"
	"time"

	"kestrel/internal/api"
	"kestrel/internal/core/drill"
	"kestrel/internal/problem"
	"kestrel/internal/records"
)

func orNil(t time.Time) *time.Time {
	if t.IsZero() {
		return nil
	}
	return new(t.UTC())
}

func text(s string) *string {
	if s == "" {
		return nil
	}
	return &s
}

// machineView is how a machine stands, or stood.
func machineView(began time.Time, x stood) api.DrillMachine {
	v := api.DrillMachine{Machine: x.Home, Name: x.Name, Wave: x.Wave, StartedAt: orNil(x.Started), CheckedAt: orNil(x.Passed), Missed: x.Missed, Lost: x.Lost, Check: text(x.Checked), Guest: text(x.Came), Networks: append([]string{}, x.Networks...), Screen: x.Screen}
	if !x.Passed.IsZero() {
		v.TookSeconds = new(int64(x.Passed.Sub(began).Round(time.Second) / time.Second))
	}
	return v
}

// waveViews shows when the waves of machines were up.
func waveViews(began time.Time, all []api.DrillMachine) []api.RecoveryWave {
	ms := make([]drill.Machine, len(all))
	for i, m := range all {
		ms[i] = drill.Machine{Name: m.Name, Wave: m.Wave, Started: value(m.StartedAt), Passed: value(m.CheckedAt), Missed: m.Missed, Lost: m.Lost}
	}
	out := []api.RecoveryWave{}
	for _, w := range drill.Waves(began, ms) {
		v := api.RecoveryWave{Wave: w.Number, Machines: w.Machines, StartedAt: orNil(w.Started), UpAt: orNil(w.Up)}
		if v.UpAt != nil {
			v.TookSeconds, v.OwnSeconds = new(int64(w.Took.Round(time.Second)/time.Second)), new(int64(w.Own.Round(time.Second)/time.Second))
		}
		out = append(out, v)
	}
	return out
}

// view shows a drill.
func (r *Recovery) view(s *state) api.Drill {
	r.mu.Lock()
	rec, d := s.rec, s.detail
	r.mu.Unlock()
	v := api.Drill{ID: rec.ID, Group: rec.GroupID, GroupName: rec.GroupName, Home: d.Home, State: rec.State, Point: rec.Point, PointNumber: d.PointNumber, CaptureAt: d.CaptureAt.UTC(), Consistency: d.Consistency, Chosen: d.Chosen, LosesSeconds: max(0, int64(rec.StartedAt.Sub(d.CaptureAt)/time.Second)),
		StartedAt: rec.StartedAt.UTC(), StartedBy: rec.StartedBy, OpenAt: orNil(d.OpenAt), Until: d.Until, Once: d.Alone, RtoTargetSeconds: int64(d.RTO / time.Second), Reason: text(d.Reason), Open: append([]string{}, d.Open...),
		Machines: []api.DrillMachine{}, Steps: stepViews(d.Steps), Runbook: stepsView(d.course, r.expected(rec.GroupID), false), Why: append([]string{}, d.Why...), Summary: text(d.Summary), Error: text(d.Error), Result: text(rec.Result), EndedAt: rec.EndedAt, PointsMeanwhile: d.Arrived, NothingLeft: d.Untraced}
	if d.keeps() {
		v.Kept = new(true)
	}
	if d.Took > 0 {
		v.TookSeconds = new(int64(d.Took.Round(time.Second) / time.Second))
	}
	if e := d.Ended; e != nil {
		v.EndedBy, v.Verdict, v.Note = &e.By, e.Passed, text(e.Note)
	}
	if state := drill.State(rec.State); state == drill.Clearing || state == drill.Over {
		for _, x := range d.Stood {
			v.Machines = append(v.Machines, machineView(rec.StartedAt, x))
		}
		v.Waves = waveViews(rec.StartedAt, v.Machines)
		return v
	}
	v.Until = d.Until
	for _, x := range r.Landings.OfRecovery(rec.ID) {
		m := machineView(rec.StartedAt, stood{Machine: x.Machine, Home: x.Home, Checked: x.Checked, Came: x.Came, Networks: x.Networks, Screen: !d.OpenAt.IsZero()})
		m.Landing, m.State, m.Error = &x.ID, &x.State, text(x.Error)
		v.Machines = append(v.Machines, m)
	}
	v.Waves = waveViews(rec.StartedAt, v.Machines)
	return v
}

// Get gives one, by its ID, or the newest of a group.
func (r *Recovery) Get(id string) (api.Drill, error) {
	s, err := r.find(id)
	if err != nil {
		return api.Drill{}, err
	}
	return r.view(s), nil
}

// List lists drills of groups that see lets pass, newest first; of one group if it is given.
func (r *Recovery) List(group string, see func(id string) bool) ([]api.Drill, error) {
	all, err := listed(r, r.byID, group, see)
	out := []api.Drill{}
	for _, s := range all {
		out = append(out, r.view(s))
	}
	return out, err
}

// Screen is what a machine of a drill showed when it had started, as a PNG.
func (r *Recovery) Screen(ctx context.Context, id, machine string) ([]byte, error) {
	s, err := r.find(id)
	if err != nil {
		return nil, err
	}
	return r.picture(ctx, s.rec.ID, machine)
}

// picture is what a machine of a drill or failover showed.
func (r *Recovery) picture(ctx context.Context, id, machine string) ([]byte, error) {
	png, err := r.DB.Screen(ctx, id, machine)
	if errors.Is(err, records.ErrNotFound) {
		return nil, problem.NotFound("picture", machine)
	}
	return png, err
}
