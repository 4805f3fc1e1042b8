package recovery

import (
	"context"
	"fmt"
	"slices"
	"time"

	"kestrel/internal/api"
	"kestrel/internal/core/failover"
	"kestrel/internal/records"
)

// stagesOf are what a failover goes through, in order, with what happens in each.
func stagesOf(d passage, site string) []stage {
	home := []stage{
		{failover.Draining, "Cycles run until little is left to copy"},
		{failover.Stopping, "The machines at " + d.Home + " are shut down"},
		{failover.Sealing, "What they wrote last is copied"},
		{failover.Turning, d.Home + " gives the group away"},
	}
	if !d.Planned {
		home = []stage{{failover.Turning, site + " takes the group over"}}
	}
	out := append(home, stage{failover.Starting, "Its machines start at " + site + ", wave by wave"}, stage{failover.Open, "They run, and somebody decides: accept it, or back out"})
	if d.BackOut != nil {
		at := len(out)
		for i, x := range out {
			if !slices.ContainsFunc(d.Entered, func(e entered) bool { return e.State == x.state }) {
				at = min(at, i)
			}
		}
		out = out[:at]
		if slices.ContainsFunc(d.Entered, func(e entered) bool { return e.State == failover.Clearing }) || slices.ContainsFunc(d.Entered, func(e entered) bool { return e.State.Turned() }) {
			out = append(out, stage{failover.Clearing, "Its machines at " + site + " are removed"})
		}
		return append(out, stage{failover.Returning, "The group is given back to " + d.Home})
	}
	return append(out, stage{failover.Accepting, "Its disks are made local, and " + site + " becomes its home"})
}

// stage is a state with what happens in it.
type stage struct {
	state failover.State
	text  string
}

// stages shows how far a failover has come.
func stages(rec records.Recovery, d passage, site string) []api.FailoverStage {
	out := []api.FailoverStage{}
	for _, x := range stagesOf(d, site) {
		v := api.FailoverStage{Name: string(x.state), Text: x.text}
		for i, e := range d.Entered {
			if e.State != x.state {
				continue
			}
			v.BeganAt, v.EndedAt = orNil(e.At), nil
			if i+1 < len(d.Entered) {
				v.EndedAt = orNil(d.Entered[i+1].At)
			} else if rec.EndedAt != nil {
				v.EndedAt = rec.EndedAt
			}
		}
		out = append(out, v)
	}
	return out
}

// says is what happens now, in a sentence.
func says(rec records.Recovery, d passage, site string) string {
	switch st := failover.State(rec.State); st {
	case failover.Replacing:
		return "Its machines are removed, and made anew from the point that was chosen."
	case failover.Over:
		return d.Summary
	default:
		for _, x := range stagesOf(d, site) {
			if x.state == st {
				return x.text + "."
			}
		}
	}
	return ""
}

// acceptCosts and backOutCosts say what a decision costs, in sentences; nothing where it
// cannot be made now.
func acceptCosts(rec records.Recovery, d passage, site string) []string {
	if failover.State(rec.State) != failover.Open || d.Accept != nil || d.BackOut != nil || d.Replace != nil {
		return []string{}
	}
	out := []string{
		fmt.Sprintf("%s is the home of the group from then on. There is no backing out any more: the way back is a planned failover at %s.", site, d.Home),
		fmt.Sprintf("It is copied to %s, from what differs there; the disks of its machines there stay as they are. Or it runs unprotected, if you say so.", d.Home),
	}
	if len(d.InPlace) > 0 {
		out[1] = fmt.Sprintf("It is copied to %s, from what differs there. Or it runs unprotected, if you say so.", d.Home)
		out = append(out, fmt.Sprintf("%s removed at %s with %s disks: what came in the place stays. It cannot be taken back.", either(d.InPlace, ", the old one, is", ", the old ones, are"), site, map[bool]string{true: "its", false: "their"}[len(d.InPlace) == 1]))
	}
	if len(d.LeftOut) > 0 {
		out = append([]string{fmt.Sprintf("%s not started here: the group goes on without. What it has of that at %s stays there as it is, and is copied no more.", either(d.LeftOut, " was", " were"), d.Home)}, out...)
	}
	if d.Lost > 0 {
		out = append([]string{fmt.Sprintf("What was written at %s after %s is lost for good.", d.Home, d.CaptureAt.UTC().Format("2006-01-02 15:04:05 MST"))}, out...)
	}
	return out
}

func backOutCosts(rec records.Recovery, d passage, site string) []string {
	st := failover.State(rec.State)
	if rec.State == over || d.Accept != nil || d.BackOut != nil || st == failover.Returning || st == failover.Clearing {
		return []string{}
	}
	back := fmt.Sprintf("Home is %s again. What runs there is as it was left; whoever shut it down starts it.", d.Home)
	switch {
	case len(d.WereOn) > 0:
		back = fmt.Sprintf("Home is %s again, and the machines that ran there are started. Nothing that was written there is lost.", d.Home)
	case d.Planned:
		back = fmt.Sprintf("Home stays %s, where the machines run on. Nothing is lost.", d.Home)
	}
	if !st.Turned() {
		return []string{back}
	}
	return []string{fmt.Sprintf("What its machines have written at %s since they started is lost, and the machines are removed.", site), back}
}

// failoverView shows a failover.
func (r *Recovery) failoverView(s *failing) api.Failover {
	rec, d := look(r, s)
	v := api.Failover{ID: rec.ID, Group: rec.GroupID, GroupName: rec.GroupName, Home: d.Home, Planned: d.Planned, State: rec.State, Says: text(says(rec, d, r.Site)), Stopped: d.Stopped != nil, Result: text(rec.Result), Summary: text(d.Summary), Point: rec.Point, PointNumber: d.PointNumber, CaptureAt: d.CaptureAt.UTC(), Consistency: d.Consistency, Chosen: d.Chosen,
		LosesSeconds: int64(d.Lost / time.Second), LosesBytes: d.LosesBytes, StartedAt: rec.StartedAt.UTC(), StartedBy: rec.StartedBy, TurnedAt: orNil(d.TurnedAt), OpenAt: orNil(d.OpenAt), EndedAt: rec.EndedAt, Reason: text(d.Reason), RtoTargetSeconds: int64(d.RTO / time.Second),
		Machines: []api.DrillMachine{}, LeftOut: append([]string{}, d.LeftOut...), Stages: stages(rec, d, r.Site), Steps: stepViews(d.Steps), Runbook: stepsView(d.course, r.expected(rec.GroupID), false), Known: append([]string{}, d.Known...), AcceptCosts: acceptCosts(rec, d, r.Site), BackOutCosts: backOutCosts(rec, d, r.Site), Error: text(d.Error)}
	if d.Stopped != nil {
		v.Says = text("It was stopped by " + d.Stopped.By + ": nothing more is begun until it goes on.")
	}
	if d.Took > 0 {
		v.TookSeconds = new(int64(d.Took.Round(time.Second) / time.Second))
	}
	r.mu.Lock()
	expected, _ := r.tookLast(rec.GroupID)
	r.mu.Unlock()
	if expected > 0 && rec.State != over {
		v.ExpectedSeconds = new(int64(expected.Round(time.Second) / time.Second))
	}
	if len(d.InPlace) > 0 {
		v.InPlace = &d.InPlace
	}
	if d.Accept != nil {
		v.AcceptedBy, v.Unprotected = &d.Accept.By, &d.Alone
	}
	if d.BackOut != nil {
		v.BackedOutBy = &d.BackOut.By
		if v.Reason == nil {
			v.Reason = text(d.BackOut.Reason)
		}
	}
	if rec.State == over {
		for _, x := range d.Stood {
			v.Machines = append(v.Machines, machineView(d.BeganAt, x))
		}
		v.Waves = waveViews(d.BeganAt, v.Machines)
		return v
	}
	var local, total int64
	for _, x := range r.Landings.OfRecovery(rec.ID) {
		m := machineView(d.BeganAt, stood{Machine: x.Machine, Home: x.Home, Checked: x.Checked, Came: x.Came, Networks: x.Networks, Screen: !d.OpenAt.IsZero()})
		m.Landing, m.State, m.Error = &x.ID, &x.State, text(x.Error)
		v.Machines = append(v.Machines, m)
		local, total = local+x.LocalBytes, total+x.TotalBytes
	}
	v.Waves = waveViews(d.BeganAt, v.Machines)
	if total > 0 {
		v.LocalBytes, v.TotalBytes = &local, &total
	}
	return v
}

func stepViews(all []step) []api.DrillStep {
	out := []api.DrillStep{}
	for _, x := range all {
		out = append(out, api.DrillStep{At: x.At.UTC(), Text: x.Text})
	}
	return out
}

// GetFailover gives one, by its ID, or the newest of a group.
func (r *Recovery) GetFailover(id string) (api.Failover, error) {
	s, err := r.findFailover(id)
	if err != nil {
		return api.Failover{}, err
	}
	return r.failoverView(s), nil
}

// ListFailovers lists those of groups that see lets pass, newest first; of one group if it is
// given.
func (r *Recovery) ListFailovers(of string, see func(id string) bool) ([]api.Failover, error) {
	all, err := listed(r, r.failovers, of, see)
	out := []api.Failover{}
	for _, s := range all {
		out = append(out, r.failoverView(s))
	}
	return out, err
}

// FailoverScreen is what a machine of a failover showed when it had started, as a PNG.
func (r *Recovery) FailoverScreen(ctx context.Context, id, machine string) ([]byte, error) {
	s, err := r.findFailover(id)
	if err != nil {
		return nil, err
	}
	return r.picture(ctx, s.rec.ID, machine)
}

// OpenSince tells since when a group runs here by a failover that nobody has decided on; zero
// if none does.
func (r *Recovery) OpenSince(group string) time.Time {
	r.mu.Lock()
	defer r.mu.Unlock()
	for _, s := range r.failovers {
		if s.rec.GroupID == group && s.rec.State != over && !s.detail.TurnedAt.IsZero() && s.detail.Accept == nil && s.detail.BackOut == nil {
			return s.detail.TurnedAt
		}
	}
	return time.Time{}
}
