package estate

import (
	"context"
	"fmt"
	"slices"
	"strings"
	"time"

	"kestrel/internal/api"
	"kestrel/internal/core/actor"
	"kestrel/internal/core/group"
	"kestrel/internal/core/span"
	"kestrel/internal/directory"
)

// seconds reads a length of time; nothing is none.
func seconds(p *plan, d *document, field, text string) *int64 {
	if text == "" || text == "0" || text == "none" || text == "never" {
		return new(int64)
	}
	x, err := span.Parse(text)
	if err != nil {
		p.fault(d, field, "%s: %v.", field, err)
		return new(int64)
	}
	return new(int64(x / time.Second))
}

func or(text, none string) string {
	if text == "" {
		return none
	}
	return text
}

// tierPatch says all of a tier: what the file leaves out is as it is by itself.
func tierPatch(p *plan, d *document, v promiseDoc) api.TierPatch {
	zone := or(v.Zone, "UTC")
	return api.TierPatch{PromiseText: &api.PromiseText{RpoTarget: new(or(v.RPO, "0")), Cadence: new(or(v.Cadence, "by hand")), Quiet: new(or(v.Quiet, "none")), Zone: &zone, Keep: &v.Keep, LeastPoints: &v.LeastPoints},
		RtoTargetSeconds: seconds(p, d, "rto", v.RTO), DrillEverySeconds: seconds(p, d, "drillEvery", v.DrillEvery), LockSeconds: seconds(p, d, "lock", v.Lock), Rest: new(or(v.Rest, "off")), Priority: new(or(v.Priority, "normal"))}
}

func (e *Estate) tier(ctx context.Context, p *plan, who actor.Actor, d *document, v *tierDoc) *step {
	if !promised(p, d, v.promiseDoc) {
		return nil
	}
	patch := tierPatch(p, d, v.promiseDoc)
	was, err := e.Tiers.Find(v.Name)
	if err != nil {
		patch.Name = &v.Name
		p.faultsOf(d, e.Tiers.Faults(patch))
		return &step{action: make_, do: func(ctx context.Context) error {
			_, err := e.Tiers.Make(ctx, who, api.NewTier{Name: v.Name, PromiseText: patch.PromiseText, RtoTargetSeconds: patch.RtoTargetSeconds, Priority: patch.Priority, Rest: patch.Rest, LockSeconds: patch.LockSeconds, DrillEverySeconds: patch.DrillEverySeconds})
			return err
		}, undo: func(ctx context.Context) error { return e.Tiers.Delete(ctx, who, v.Name) }}
	}
	seen, err := e.Tiers.Foresee(ctx, was.ID, patch)
	if err != nil {
		p.problemOf(d, err)
		return nil
	}
	s := &step{action: unchange, changes: seen.Changes}
	for _, f := range seen.Faults {
		p.fault(d, inFile(f.Field), "%s", f.Message)
	}
	for _, g := range seen.Groups {
		s.drops += g.DropsPoints
		for _, f := range g.Faults {
			p.fault(d, inFile(f.Field), "The group %s, which follows it, could not be so: %s", g.Name, f.Message)
		}
		if len(g.Changes) > 0 {
			s.warns = append(s.warns, fmt.Sprintf("The group %s moves with it: %s.", g.Name, inWords(g.Changes)))
		}
	}
	if len(seen.Changes) == 0 {
		return s
	}
	back := tierPatch(&plan{}, d, promiseOf(was.Tier))
	s.action = change
	s.do = func(ctx context.Context) error {
		patch.DropPoints = new(true) // it was asked for the whole file
		return e.Tiers.Change(ctx, who, was.ID, patch)
	}
	s.undo = func(ctx context.Context) error { return e.Tiers.Change(ctx, who, was.ID, back) }
	return s
}

// promised tells whether a promise says what it cannot be without.
func promised(p *plan, d *document, v promiseDoc) bool {
	if v.RPO == "" {
		p.fault(d, "", "Give an RPO target, such as rpo: 15 min.")
	}
	if v.Keep == "" {
		p.fault(d, "", "Give a keep ladder, such as keep: all 6h, 1h 2d.")
	}
	return v.RPO != "" && v.Keep != ""
}

func inWords(cs []api.Change) string {
	var out []string
	for _, c := range cs {
		out = append(out, fmt.Sprintf("%s %s → %s", c.Field, c.From, c.To))
	}
	return strings.Join(out, ", ")
}

// own are the settings of a promise that a document states, by their names in the contract,
// with whether it does.
func (v promiseDoc) own() map[string]bool {
	return map[string]bool{"rpoTargetSeconds": v.RPO != "", "cadence": v.Cadence != "", "quiet": v.Quiet != "", "zone": v.Zone != "", "keep": v.Keep != "", "leastPoints": v.LeastPoints != 0, "rtoTargetSeconds": v.RTO != "", "drillEverySeconds": v.DrillEvery != "",
		"rest": v.Rest != "", "priority": v.Priority != "", "lockSeconds": v.Lock != ""}
}

// groupPatch says all of a group. Of one that follows a tier, what the file leaves out is the
// tier's.
func (e *Estate) groupPatch(p *plan, d *document, v *groupDoc) api.GroupPatch {
	all := tierPatch(p, d, v.promiseDoc)
	x := api.GroupPatch{Tags: new(append([]string{}, v.Tags...)), WithoutDisks: new(append([]string{}, v.WithoutDisks...)), WithoutBootDisks: &v.WithoutBoot, NewDisks: new(or(v.NewDisks, "copy")), Together: new(!v.Apart), CompareEverySeconds: seconds(p, d, "compareEvery", v.CompareEvery), HomePoints: &v.HomePoints, HomeKeep: new(or(v.HomeKeep, "same")),
		PromiseText: all.PromiseText, RtoTargetSeconds: all.RtoTargetSeconds, DrillEverySeconds: all.DrillEverySeconds, LockSeconds: all.LockSeconds, Rest: all.Rest, Priority: all.Priority}
	quiesce := []api.QuiesceOf{}
	for i, q := range v.Quiesce {
		y := api.QuiesceOf{Machine: q.Machine, Mode: or(q.Mode, "try")}
		if q.Limit != "" {
			y.LimitSeconds = seconds(p, d, fmt.Sprintf("quiesce[%d].limit", i), q.Limit)
		}
		if q.EveryNth > 1 {
			y.EveryNth = new(q.EveryNth)
		}
		if q.Before != "" {
			y.Before = &q.Before
		}
		if q.After != "" {
			y.After = &q.After
		}
		quiesce = append(quiesce, y)
	}
	x.Quiesce = &quiesce
	if v.Rule != nil {
		x.Rule = &api.MemberRule{Match: v.Rule.Match, Order: v.Rule.Order}
		if x.Rule.Order == 0 {
			x.Rule.Order = 100
		}
	} else {
		x.NoRule = new(true)
	}
	if v.Tier == "" {
		x.NoTier = new(true)
		return x
	}
	x.Tier = &v.Tier
	if v.Reason != "" {
		x.Reason = &v.Reason
	}
	e.likeTier(&x, v.promiseDoc)
	return x
}

// likeTier leaves out of an edit what the tier says, and has it be the tier's again.
func (e *Estate) likeTier(x *api.GroupPatch, v promiseDoc) {
	text := api.PromiseText{}
	var like []string
	keep := map[string]func(){"rpoTargetSeconds": func() { text.RpoTarget = x.PromiseText.RpoTarget }, "cadence": func() { text.Cadence = x.PromiseText.Cadence }, "quiet": func() { text.Quiet = x.PromiseText.Quiet }, "zone": func() { text.Zone = x.PromiseText.Zone }, "keep": func() { text.Keep = x.PromiseText.Keep }, "leastPoints": func() { text.LeastPoints = x.PromiseText.LeastPoints }}
	drop := map[string]func(){"rtoTargetSeconds": func() { x.RtoTargetSeconds = nil }, "drillEverySeconds": func() { x.DrillEverySeconds = nil }, "rest": func() { x.Rest = nil }, "priority": func() { x.Priority = nil }, "lockSeconds": func() { x.LockSeconds = nil }}
	for field, own := range v.own() {
		if own {
			if f, is := keep[field]; is {
				f()
			}
			continue
		}
		like = append(like, field)
		if f, is := drop[field]; is {
			f()
		}
	}
	slices.Sort(like)
	x.LikeTier, x.PromiseText = &like, &text
}

func (e *Estate) group(ctx context.Context, p *plan, who actor.Actor, d *document, v *groupDoc) *step {
	if v.Tier == "" && !promised(p, d, v.promiseDoc) {
		return nil
	}
	patch := e.groupPatch(p, d, v)
	var r directory.Record
	for _, o := range e.Groups.All() {
		if o.Direction == directory.Out && strings.EqualFold(o.Spec.Name, v.Name) {
			r = o
		}
	}
	if r.ID == "" {
		return e.newGroup(p, who, d, v, patch)
	}
	if !strings.EqualFold(r.RecoveryName, v.To) {
		p.fault(d, "to", "%s goes to %s. A group cannot be led elsewhere; delete it and make it anew.", v.Name, r.RecoveryName)
		return nil
	}
	e.members(&patch, r, v)
	if v.Tier != "" {
		// A tier that this file makes or changes is looked at as it will be.
		if _, err := e.Tiers.Find(v.Tier); err != nil {
			if t := tierIn(p, v.Tier); t != nil {
				patch = e.groupPatch(p, d, inlined(v, t))
				e.members(&patch, r, v)
			}
		}
	}
	seen, err := e.Protection.Preview(ctx, r.ID, patch)
	if err != nil {
		p.problemOf(d, err)
		return nil
	}
	for _, f := range seen.Faults {
		p.fault(d, inFile(f.Field), "%s", f.Message)
	}
	s := &step{action: unchange, changes: seen.Changes, drops: seen.DropsPoints}
	if len(seen.Changes) == 0 {
		return s
	}
	back := e.groupPatch(&plan{}, d, new(e.groupDoc(r)))
	back.Machines = new(r.Spec.IDs())
	revision := r.Revision
	s.action = change
	s.do = func(ctx context.Context) error {
		again := e.groupPatch(&plan{}, d, v)
		now, ok := e.Groups.Get(r.ID)
		if !ok {
			return errGone
		}
		e.members(&again, now, v)
		again.DropPoints = new(true)
		// Of a group whose tier this file has changed, the revision is another by that.
		match := &revision
		if now.Spec.Tier != nil && now.Revision != revision {
			match = &now.Revision
		}
		return e.Protection.Update(ctx, who, r.ID, again, match)
	}
	s.undo = func(ctx context.Context) error { return e.Protection.Update(ctx, who, r.ID, back, nil) }
	return s
}

// members says which machines a group has. Those that a rule brought in are no business of
// the file's.
func (e *Estate) members(x *api.GroupPatch, r directory.Record, v *groupDoc) {
	if v.Rule == nil {
		x.Machines = new(append([]string{}, v.Machines...))
		return
	}
	hand := append([]string{}, v.Machines...)
	var add []string
	for _, name := range v.Machines {
		if !slices.ContainsFunc(r.Spec.Machines, func(m group.Machine) bool { return m.ID == name || strings.EqualFold(m.Name, name) }) {
			add = append(add, name)
		}
	}
	if len(add) > 0 {
		x.AddMachines = &add
	}
	x.ByHand = &hand
}

func (e *Estate) newGroup(p *plan, who actor.Actor, d *document, v *groupDoc, x api.GroupPatch) *step {
	in := e.asNew(v, x)
	check := in
	if _, err := e.Tiers.Find(v.Tier); v.Tier != "" && err != nil {
		if t := tierIn(p, v.Tier); t != nil {
			w := inlined(v, t)
			check = e.asNew(w, e.groupPatch(&plan{}, d, w))
		}
	}
	if _, _, err := e.Protection.Draft(check); err != nil {
		p.problemOf(d, err)
	}
	return &step{action: make_, group: &in, undo: func(ctx context.Context) error {
		err := e.Protection.Delete(ctx, who, v.Name, "delete", false)
		if err != nil { // the other site cannot be told now
			err = e.Protection.Delete(ctx, who, v.Name, "keep", true)
		}
		return err
	}}
}

func (e *Estate) asNew(v *groupDoc, x api.GroupPatch) api.NewGroup {
	return api.NewGroup{Name: v.Name, Link: v.To, Machines: append([]string{}, v.Machines...), Tags: x.Tags, Rule: x.Rule, WithoutDisks: x.WithoutDisks, WithoutBootDisks: x.WithoutBootDisks, NewDisks: x.NewDisks, Quiesce: x.Quiesce, Tier: x.Tier, Reason: x.Reason, PromiseText: x.PromiseText,
		RtoTargetSeconds: x.RtoTargetSeconds, DrillEverySeconds: x.DrillEverySeconds, LockSeconds: x.LockSeconds, Rest: x.Rest, Priority: x.Priority, Together: x.Together, CompareEverySeconds: x.CompareEverySeconds, HomePoints: x.HomePoints, HomeKeep: homeKeep(x.HomeKeep)}
}

// homeKeep of a new group is left out where it is the same.
func homeKeep(text *string) *string {
	if text == nil || *text == "same" {
		return nil
	}
	return text
}

// tierIn finds a tier that the file says.
func tierIn(p *plan, name string) *tierDoc {
	for _, d := range p.docs {
		if t, ok := d.value.(*tierDoc); ok && strings.EqualFold(t.Name, name) {
			return t
		}
	}
	return nil
}

// inlined is a group that says itself what its tier says.
func inlined(v *groupDoc, t *tierDoc) *groupDoc {
	w := *v
	w.Tier, w.Reason = "", ""
	o := t.promiseDoc
	for to, from := range map[*string]string{&o.RPO: v.RPO, &o.Cadence: v.Cadence, &o.Quiet: v.Quiet, &o.Zone: v.Zone, &o.Keep: v.Keep, &o.RTO: v.RTO, &o.DrillEvery: v.DrillEvery, &o.Rest: v.Rest, &o.Priority: v.Priority, &o.Lock: v.Lock} {
		if from != "" {
			*to = from
		}
	}
	if v.LeastPoints != 0 {
		o.LeastPoints = v.LeastPoints
	}
	w.promiseDoc = o
	return &w
}
