package protection

import (
	"errors"
	"fmt"
	"strings"
	"time"

	"kestrel/internal/api"
	"kestrel/internal/core/cadence"
	"kestrel/internal/core/calendar"
	"kestrel/internal/core/group"
	"kestrel/internal/core/ladder"
	"kestrel/internal/core/scope"
	"kestrel/internal/core/span"
	"kestrel/internal/core/words"
	"kestrel/internal/directory"
	"kestrel/internal/problem"
)

// This file is the one place where a group's specification meets the contract: a
// new setting gets a line in wishOf (asked for) and one in Show (shown).

// wishOf reads an edit of the contract. What is wrong with its texts is told; the
// rest is checked where the edit is applied.
func wishOf(in api.GroupPatch) (directory.Wish, []problem.Field) {
	w := directory.Wish{Machines: in.Machines, Without: in.WithoutDisks, BootToo: in.WithoutBootDisks != nil && *in.WithoutBootDisks}
	if in.Quiesce != nil {
		w.Rest = &[]directory.RestOf{}
		for _, q := range *in.Quiesce {
			*w.Rest = append(*w.Rest, restOf(q))
		}
	}
	w.ByHand, w.Tier = in.ByHand, in.Tier
	w.NoTier = in.NoTier != nil && *in.NoTier
	if in.Reason != nil {
		w.Reason = strings.TrimSpace(*in.Reason)
	}
	if in.LikeTier != nil {
		w.Like = *in.LikeTier
	}
	timesInto(&w.Patch, in.RtoTargetSeconds, in.DrillEverySeconds, in.Rest)
	if in.AddMachines != nil {
		w.Add = *in.AddMachines
	}
	if in.RemoveMachines != nil {
		w.Remove = *in.RemoveMachines
	}
	w.NoRule = in.NoRule != nil && *in.NoRule
	if in.NewDisks != nil {
		w.NewDisks = new(group.NewDisks(*in.NewDisks))
	}
	w.Name, w.Tags, w.HomePoints = in.Name, in.Tags, in.HomePoints
	if in.Priority != nil {
		w.Priority = new(group.Priority(*in.Priority))
	}
	if in.Together != nil {
		w.Apart = new(!*in.Together)
	}
	if in.CompareEverySeconds != nil {
		w.CompareEvery = new(duration(*in.CompareEverySeconds))
	}
	if in.LockSeconds != nil {
		w.LockFor = new(duration(*in.LockSeconds))
	}
	faults := promiseInto(&w.Patch, in.Promise, in.PromiseText)
	if in.HomeKeep != nil {
		w.HomeKeep = &ladder.Ladder{}
		if t := strings.TrimSpace(*in.HomeKeep); t != "" && !strings.EqualFold(t, "same") {
			l, err := ladder.Parse(t)
			if err != nil {
				faults = append(faults, problem.Field{Field: "homeKeep", Message: words.Sentence(err.Error())})
			}
			w.HomeKeep = &l
		}
	}
	if in.Rule != nil {
		m, err := scope.Parse(in.Rule.Match)
		if err != nil {
			faults = append(faults, problem.Field{Field: "rule.match", Message: words.Sentence(err.Error())})
		} else {
			w.Rule = &group.Rule{Match: m, Order: in.Rule.Order}
		}
		if w.NoRule {
			faults = append(faults, problem.Field{Field: "noRule", Message: "Give a rule or say that there is none, not both."})
		}
	}
	if w.Machines != nil && len(w.Add)+len(w.Remove) > 0 {
		faults = append(faults, problem.Field{Field: "machines", Message: "Name all machines, or those to add and to take out, not both."})
	}
	return w, faults
}

// timesInto reads what groups and tiers say besides of recoveries.
func timesInto(p *group.Patch, rto, drill *int64, rest *string) {
	if rto != nil {
		p.RTO = new(duration(*rto))
	}
	if drill != nil {
		p.DrillEvery = new(duration(*drill))
	}
	if rest != nil {
		p.RestMode = new(group.Mode(*rest))
	}
}

// TierWish reads an edit of a tier.
func TierWish(in api.TierPatch) (group.Patch, []problem.Field) {
	var p group.Patch
	p.Name = in.Name
	if in.Priority != nil {
		p.Priority = new(group.Priority(*in.Priority))
	}
	if in.LockSeconds != nil {
		p.LockFor = new(duration(*in.LockSeconds))
	}
	timesInto(&p, in.RtoTargetSeconds, in.DrillEverySeconds, in.Rest)
	return p, promiseInto(&p, in.Promise, in.PromiseText)
}

// ShowTier enters a tier into what the contract shows of it.
func ShowTier(t group.Tier, v *api.Tier) {
	var g api.Group
	Show(t.Spec(), &g, time.Time{})
	v.Name, v.Promise, v.Priority, v.Rest = g.Name, g.Promise, g.Priority, g.Rest
	v.RtoTargetSeconds, v.LockSeconds, v.DrillEverySeconds = g.RtoTargetSeconds, g.LockSeconds, g.DrillEverySeconds
}

// DiffersView is what a group says differently from its tier.
func DiffersView(s group.Spec) []api.Difference {
	out := []api.Difference{}
	for _, c := range s.Differs() {
		d := api.Difference{Field: c.Field, Tier: c.From, Own: c.To}
		for _, o := range s.Tier.Own {
			if o.Field == c.Field {
				d.Reason = o.Reason
			}
		}
		out = append(out, d)
	}
	return out
}

// newWish reads a new group of the contract: an edit of an empty one.
func newWish(in api.NewGroup) (directory.Wish, []problem.Field) {
	p := api.GroupPatch{Name: &in.Name, Tags: in.Tags, Machines: &in.Machines, Quiesce: in.Quiesce, WithoutDisks: in.WithoutDisks, WithoutBootDisks: in.WithoutBootDisks, NewDisks: in.NewDisks, Rule: in.Rule, Tier: in.Tier, Reason: in.Reason, RtoTargetSeconds: in.RtoTargetSeconds, DrillEverySeconds: in.DrillEverySeconds, Rest: in.Rest, Together: in.Together, Priority: in.Priority, CompareEverySeconds: in.CompareEverySeconds, HomePoints: in.HomePoints, HomeKeep: in.HomeKeep, LockSeconds: in.LockSeconds, PromiseText: in.PromiseText}
	if in.Promise != nil {
		p.Promise = &api.PromisePatch{RpoTargetSeconds: &in.Promise.RpoTargetSeconds, CadenceSeconds: &in.Promise.CadenceSeconds, Cadence: in.Promise.Cadence, Quiet: in.Promise.Quiet, Zone: in.Promise.Zone, LeastPoints: in.Promise.LeastPoints, Keep: &in.Promise.Keep}
	}
	return wishOf(p)
}

// promiseInto reads a promise, in numbers or as people write it. The rules of the
// texts are the same wherever they are typed.
func promiseInto(p *group.Patch, in *api.PromisePatch, text *api.PromiseText) []problem.Field {
	var faults []problem.Field
	fault := func(field string, err error) {
		faults = append(faults, problem.Field{Field: "promise." + field, Message: strings.ToUpper(err.Error()[:1]) + err.Error()[1:] + "."})
	}
	// Times and dates in words are the same wherever they are written.
	written := func(cad, quiet, zone *string) {
		if zone != nil {
			z := strings.TrimSpace(*zone)
			if strings.EqualFold(z, "UTC") {
				z = ""
			}
			if _, err := calendar.Location(z); err != nil {
				fault("zone", err)
				return
			}
			p.Zone = &z
		}
		if cad != nil {
			c, err := cadence.Parse(*cad, "")
			if err != nil {
				fault("cadenceSeconds", err)
			}
			p.Cadence = &c
		}
		if quiet != nil {
			q, err := cadence.ParseQuiet(*quiet, "")
			if err != nil {
				fault("quiet", err)
			}
			p.Quiet = &q
		}
	}
	if in != nil {
		if in.RpoTargetSeconds != nil {
			p.Target = new(duration(*in.RpoTargetSeconds))
		}
		if in.CadenceSeconds != nil {
			p.Cadence = &cadence.Cadence{Every: duration(*in.CadenceSeconds)}
		}
		written(in.Cadence, in.Quiet, in.Zone)
		if in.CadenceSeconds != nil && in.Cadence != nil && *in.CadenceSeconds != 0 && p.Cadence.Every != duration(*in.CadenceSeconds) {
			fault("cadenceSeconds", errors.New("seconds and words say different cadences; give one of them"))
		}
		if in.Keep != nil {
			p.Keep = &ladder.Ladder{}
			for _, r := range *in.Keep {
				*p.Keep = append(*p.Keep, rungOf(r))
			}
		}
		p.Least = in.LeastPoints
	}
	if text == nil {
		return faults
	}
	if t := text.RpoTarget; t != nil {
		d, err := span.Parse(*t)
		if err != nil {
			fault("rpoTargetSeconds", err)
		}
		p.Target = &d
	}
	written(text.Cadence, text.Quiet, text.Zone)
	if text.LeastPoints != nil {
		p.Least = text.LeastPoints
	}
	if t := text.Keep; t != nil {
		l, err := ladder.Parse(*t)
		if err != nil {
			fault("keep", err)
		}
		p.Keep = &l
	}
	return faults
}

// Show enters a specification into a group as the contract shows it.
func Show(s group.Spec, v *api.Group, now time.Time) {
	v.Name, v.Tags, v.Together, v.Priority = s.Name, append([]string{}, s.Tags...), !s.Apart, string(s.Priority)
	v.CompareEverySeconds, v.HomePoints, v.LockSeconds = seconds(s.CompareEvery), s.HomePoints, seconds(s.LockFor)
	v.Promise = api.Promise{RpoTargetSeconds: seconds(s.Promise.Target), CadenceSeconds: seconds(s.Promise.Cadence.Every), Keep: []api.Rung{}}
	c := s.Promise.Cadence
	v.Promise.Cadence, v.Promise.Zone = new(c.String()), new(s.Promise.ZoneName())
	if s.Promise.Least > 0 {
		v.Promise.LeastPoints = &s.Promise.Least
	}
	if !c.Quiet.IsZero() {
		v.Promise.Quiet = new(c.Quiet.String())
	}
	if !c.Calendar.IsZero() {
		v.Promise.Calendar, v.Promise.Cadence = &c.Calendar.Rules, new(c.Calendar.Words())
	}
	for _, r := range s.Promise.Keep {
		v.Promise.Keep = append(v.Promise.Keep, RungView(r))
	}
	v.Paused = s.PausedAt(now)
	if p := s.Pause; v.Paused {
		v.Pause = &api.Pause{By: p.By, Reason: p.Reason}
		if !p.Since.IsZero() {
			v.Pause.Since = new(p.Since.UTC())
		}
		if !p.Until.IsZero() {
			v.Pause.Until = new(p.Until.UTC())
		}
	}
	v.NewDisks = string(s.NewDisks)
	if len(s.HomeKeep) > 0 {
		v.HomeKeep = new(s.HomeKeep.String())
	}
	v.RtoTargetSeconds, v.DrillEverySeconds = seconds(s.RTO), seconds(s.DrillEvery)
	if v.Rest = string(s.RestMode); v.Rest == "" {
		v.Rest = string(group.RestOff)
	}
	if t := s.Tier; t != nil {
		v.Tier = &api.FollowedTier{ID: t.ID, Name: t.Tier.Name, Revision: t.Revision, Differs: DiffersView(s)}
	}
	if s.Rule != nil {
		v.Rule = &api.MemberRule{Match: s.Rule.Match.String(), Order: s.Rule.Order}
	}
	v.Machines = []api.GroupMachine{}
	for _, m := range s.Machines {
		x := api.GroupMachine{ID: m.ID, Name: m.Name, Disks: []api.GroupDisk{}, SizeBytes: m.SizeBytes(), Quiesce: restView(m.Rest)}
		if m.ByRule {
			x.ByRule = &m.ByRule
		}
		for _, d := range m.Disks {
			x.Disks = append(x.Disks, api.GroupDisk{Key: d.Key, Label: d.Label, SizeBytes: d.SizeBytes, Boot: d.Boot, LeftOut: d.LeftOut})
		}
		v.Machines = append(v.Machines, x)
	}
}

func restOf(q api.QuiesceOf) directory.RestOf {
	r := directory.RestOf{Machine: q.Machine, Rest: group.Rest{Mode: group.Mode(q.Mode)}}
	if q.LimitSeconds != nil {
		r.Limit = duration(*q.LimitSeconds)
	}
	if q.EveryNth != nil {
		r.Nth = *q.EveryNth
	}
	if q.Before != nil {
		r.Before = strings.TrimSpace(*q.Before)
	}
	if q.After != nil {
		r.After = strings.TrimSpace(*q.After)
	}
	return r
}

// restView shows how a machine is brought to rest; nothing if nothing is said of it.
func restView(r group.Rest) *api.Quiesce {
	if r == (group.Rest{}) {
		return nil
	}
	v := &api.Quiesce{Mode: string(r.Mode)}
	if r.Limit > 0 {
		v.LimitSeconds = new(seconds(r.Limit))
	}
	if r.Nth > 1 {
		v.EveryNth = new(r.Nth)
	}
	if r.Before != "" {
		v.Before = &r.Before
	}
	if r.After != "" {
		v.After = &r.After
	}
	return v
}

func seconds(d time.Duration) int64 { return int64(d / time.Second) }

// duration reads seconds. Numbers beyond what a duration holds are caught by the
// field's limits.
func duration(n int64) time.Duration { return span.Times(n, time.Second) }

func fieldErrors(fs []problem.Field) []api.FieldError {
	out := []api.FieldError{}
	for _, f := range fs {
		out = append(out, api.FieldError{Field: f.Field, Message: f.Message})
	}
	return out
}

func changesView(cs []group.Change) []api.Change {
	out := []api.Change{}
	for _, c := range cs {
		out = append(out, api.Change{Field: c.Field, From: c.From, To: c.To})
	}
	return out
}

func pausedText(who fmt.Stringer, name string, p group.Pause) string {
	t := fmt.Sprintf("%s paused %s", who, name)
	if !p.Until.IsZero() {
		t += " for " + span.Format(p.Until.Sub(p.Since))
	}
	if p.Reason != "" {
		t += ": " + p.Reason
	}
	return t
}

func rungOf(r api.Rung) ladder.Rung {
	out := ladder.Rung{Each: duration(r.EachSeconds), For: duration(r.ForSeconds), Locked: r.Locked != nil && *r.Locked, LongTerm: r.LongTerm != nil && *r.LongTerm}
	if r.Months != nil {
		if out.Months = *r.Months; out.Each == 0 {
			out.Each = time.Duration(out.Months) * 30 * span.Day
		}
	}
	return out
}

// RungView leaves out that a rung is not locked and not of the calendar, as most are.
func RungView(r ladder.Rung) api.Rung {
	v := api.Rung{EachSeconds: seconds(r.Each), ForSeconds: seconds(r.For)}
	if r.Locked {
		v.Locked = &r.Locked
	}
	if r.LongTerm {
		v.LongTerm = &r.LongTerm
	}
	if r.Months > 0 {
		v.Months = &r.Months
	}
	return v
}
