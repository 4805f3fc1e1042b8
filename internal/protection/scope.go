package protection

import (
	"fmt"
	"maps"
	"slices"
	"strings"

	"kestrel/internal/core/group"
	"kestrel/internal/core/scope"
	"kestrel/internal/directory"
	"kestrel/internal/inventory"
	"kestrel/internal/platform"
	"kestrel/internal/problem"
)

// This file resolves what people name (machines, their disks) into what this site's
// platforms have.

// resolve turns an edit as people ask for it into one of a specification, and gives the
// platform of its machines.
func (x *Protection) resolve(w directory.Wish, was group.Spec) (group.Patch, string, []problem.Field) {
	p := w.Patch
	on := was.Platform
	if w.Tier != nil && x.Tiers != nil {
		f, err := x.Tiers(*w.Tier)
		if err != nil {
			message := err.Error()
			if pr, is := problem.Of(err); is {
				message = pr.Detail
			}
			return p, on, []problem.Field{{Field: "tier", Message: message}}
		}
		p.Tier = &f
	}
	ms, faults := x.chosen(w, was, &on)
	if len(faults) > 0 {
		return p, on, faults
	}
	p.Machines = ms
	if w.Without != nil {
		refs, more := x.without(*w.Without, w.BootToo, was, p.Apply(was).Machines)
		faults = append(faults, more...)
		p.Without = &refs
	}
	if w.ByHand != nil {
		p.ByHand = &[]string{}
		for i, text := range *w.ByHand {
			m, err := ofGroup(text, p.Apply(was).Machines)
			if err != nil {
				faults = append(faults, problem.Field{Field: fmt.Sprintf("byHand[%d]", i), Message: err.Error() + "."})
			}
			*p.ByHand = append(*p.ByHand, m.ID)
		}
	}
	from, _ := x.Inventory.Get(on)
	next := p.Apply(was)
	if p.Machines != nil {
		faults = append(faults, barred(from, next)...)
		faults = append(faults, x.returning(from, was, next)...)
	}
	if w.Rest != nil {
		rest, more := resting(*w.Rest, next.Machines, from)
		faults = append(faults, more...)
		p.Rest = &rest
	}
	return p, on, faults
}

// chosen are the machines of a group after an edit; nil if they stay what they are. On is
// the platform of the group, which a new one has from its machines.
func (x *Protection) chosen(w directory.Wish, was group.Spec, on *string) (*[]group.Machine, []problem.Field) {
	isNew := was.Platform == ""
	var ms []group.Machine
	var faults []problem.Field
	take := func(texts []string, field string) {
		named, more, wrong := x.machines(texts, field)
		faults = append(faults, wrong...)
		if *on != "" && named != "" && named != *on {
			faults = append(faults, problem.Field{Field: field, Message: "A group stays on its platform. Make a new group for machines of another."})
		}
		for _, m := range more {
			if !slices.ContainsFunc(ms, func(o group.Machine) bool { return o.ID == m.ID }) {
				ms = append(ms, m)
			}
		}
		if *on == "" {
			*on = named
		}
	}
	switch {
	case w.Machines != nil:
		take(*w.Machines, "machines")
	case w.Without == nil && len(w.Add) == 0 && len(w.Remove) == 0:
		return nil, nil
	default: // all disks that there are now are decided about
		ms = x.asNow(was)
	}
	if len(w.Add) > 0 {
		take(w.Add, "addMachines")
	}
	for i, text := range w.Remove {
		m, err := ofGroup(text, ms)
		if err != nil {
			faults = append(faults, problem.Field{Field: fmt.Sprintf("removeMachines[%d]", i), Message: err.Error() + "."})
		}
		ms = slices.DeleteFunc(ms, func(o group.Machine) bool { return o.ID == m.ID })
	}
	if isNew && w.Rule != nil && len(faults) == 0 {
		more, wrong := x.matched(*w.Rule, ms, on)
		ms, faults = append(ms, more...), append(faults, wrong...)
	}
	return &ms, faults
}

// matched are the machines that a new group has from its rule. A group is of one
// platform: if it has no machine yet, it is the one of those that the rule matches.
func (x *Protection) matched(rule group.Rule, has []group.Machine, on *string) (out []group.Machine, faults []problem.Field) {
	platforms := map[string]string{}
	for _, p := range x.Inventory.All() {
		if *on != "" && p.ID != *on {
			continue
		}
		for _, m := range p.Held().Machines {
			c := x.Inventory.Candidate(p, m)
			if c.In != "" || c.LeftOut || c.Barrier != "" || !rule.Match.Holds(c.Machine) || x.spokenFor(c.Machine, rule.Order) || slices.ContainsFunc(has, func(o group.Machine) bool { return o.ID == m.ID }) {
				continue
			}
			platforms[p.ID] = p.Name
			gm := inventory.Chosen(m)
			gm.ByRule = true
			out = append(out, gm)
		}
	}
	switch {
	case len(platforms) > 1:
		names := slices.Sorted(maps.Values(platforms))
		return nil, []problem.Field{{Field: "rule.match", Message: fmt.Sprintf("The rule matches machines of %s; a group is of one platform. Add \"and platform %s\".", strings.Join(names, " and "), names[0])}}
	case len(has)+len(out) > group.MaxMachines:
		return nil, []problem.Field{{Field: "rule.match", Message: fmt.Sprintf("The rule matches %d machines; a group has at most %d. Make it narrower, and a second group for the others.", len(out), group.MaxMachines)}}
	}
	for id := range platforms {
		*on = id
	}
	return out, nil
}

// spokenFor tells whether a rule that goes before the order matches a machine.
func (x *Protection) spokenFor(m scope.Machine, order int) bool {
	for _, r := range x.Groups.All() {
		if r.Direction == directory.Out && r.Spec.Rule != nil && r.Spec.Rule.Order < order && r.Spec.Platform == m.Platform && r.Spec.Rule.Match.Holds(m) {
			return true
		}
	}
	return false
}

// returning refuses to take out machines that the group's rule would bring back at once.
func (x *Protection) returning(p inventory.Platform, was, next group.Spec) (faults []problem.Field) {
	if next.Rule == nil {
		return nil
	}
	for _, m := range was.Machines {
		pm, ok := p.Machine(m.ID)
		if next.Has(m.ID) || !ok {
			continue
		}
		if c := x.Inventory.Candidate(p, pm); !c.LeftOut && next.Rule.Match.Holds(c.Machine) {
			faults = append(faults, problem.Field{Field: "machines", Message: fmt.Sprintf("%s is matched by the group's rule, and would join again at once. Leave it out on purpose first, or change the rule.", m.Name)})
		}
	}
	return faults
}

// machines finds machines by name or ID; all have to be of one platform.
func (x *Protection) machines(texts []string, field string) (platform string, out []group.Machine, faults []problem.Field) {
	fault := func(i int, format string, a ...any) {
		faults = append(faults, problem.Field{Field: fmt.Sprintf("%s[%d]", field, i), Message: fmt.Sprintf(format, a...)})
	}
	if len(texts) > group.MaxMachines {
		return "", nil, []problem.Field{{Field: field, Message: fmt.Sprintf("A group has at most %d machines: they are captured at one instant.", group.MaxMachines)}}
	}
	var from inventory.Platform
	for i, t := range texts {
		p, m, err := x.Inventory.Machine(t)
		switch {
		case err != nil:
			fault(i, "%q: %s.", t, strings.TrimSuffix(err.Error(), "."))
		case slices.ContainsFunc(out, func(o group.Machine) bool { return o.ID == m.ID && from.ID == p.ID }):
			fault(i, "%s is named twice.", m.Name)
		case from.ID != "" && p.ID != from.ID:
			fault(i, "%s is on platform %s and others on %s; one instant is possible on one platform only. Make a group for each.", m.Name, p.Name, from.Name)
		default:
			from = p
			out = append(out, inventory.Chosen(m))
		}
	}
	return from.ID, out, faults
}

// asNow gives a group's machines with the disks that they have now, as far as they are
// there.
func (x *Protection) asNow(s group.Spec) []group.Machine {
	p, _ := x.Inventory.Get(s.Platform)
	var out []group.Machine
	for _, m := range s.Machines {
		if pm, ok := p.Machine(m.ID); ok {
			m.Disks = inventory.Chosen(pm).Disks
		}
		out = append(out, m)
	}
	return out
}

// barred says of machines that cannot be protected as they are.
func barred(p inventory.Platform, s group.Spec) (faults []problem.Field) {
	for i, m := range s.Machines {
		pm, ok := p.Machine(m.ID)
		if !ok {
			continue
		}
		if why, mend := pm.Barrier(func(disk string) bool { return s.Leaves(m.ID, disk) }); why != "" {
			faults = append(faults, problem.Field{Field: fmt.Sprintf("machines[%d]", i), Message: fmt.Sprintf("%s cannot be protected. %s %s", m.Name, why, mend)})
		}
	}
	return faults
}

// ofGroup finds a machine of a group by name or ID.
func ofGroup(text string, of []group.Machine) (group.Machine, error) {
	_, id, _ := strings.Cut(text, "/")
	at := slices.IndexFunc(of, func(m group.Machine) bool { return m.ID == id || m.ID == text || strings.EqualFold(m.Name, text) })
	if at >= 0 {
		return of[at], nil
	}
	var names []string
	for _, m := range of {
		names = append(names, m.Name)
	}
	return group.Machine{}, fmt.Errorf("%q is not a machine of this group; name one of %s", text, strings.Join(names, ", "))
}

// without finds the disks that are left out. One that a machine starts from is left out
// only by somebody who knows, or if it was before.
func (x *Protection) without(texts []string, bootToo bool, was group.Spec, of []group.Machine) (refs []group.DiskRef, faults []problem.Field) {
	refs = []group.DiskRef{}
	fault := func(i int, format string, a ...any) {
		faults = append(faults, problem.Field{Field: fmt.Sprintf("withoutDisks[%d]", i), Message: fmt.Sprintf(format, a...)})
	}
	for i, text := range texts {
		at := strings.LastIndex(text, ":")
		if at < 0 {
			fault(i, "%q is not MACHINE:DISK, such as tick-db:swap.", text)
			continue
		}
		m, err := ofGroup(text[:at], of)
		if err != nil {
			fault(i, "%v.", err)
			continue
		}
		var found []group.Disk
		var labels []string
		for _, d := range m.Disks {
			labels = append(labels, d.Label)
			if d.Key == text[at+1:] || strings.EqualFold(d.Label, text[at+1:]) {
				found = append(found, d)
			}
		}
		switch {
		case len(found) == 0:
			fault(i, "%s has no disk %q; it has %s.", m.Name, text[at+1:], strings.Join(labels, ", "))
		case len(found) > 1:
			fault(i, "%s has more than one disk %q; give the key.", m.Name, text[at+1:])
		case found[0].Boot && !bootToo && !was.Leaves(m.ID, found[0].Key):
			fault(i, "%s starts from disk %s: without it, it would not start at the recovery site. Leave it in, or allow it with withoutBootDisks.", m.Name, found[0].Label)
		default:
			refs = append(refs, group.DiskRef{Machine: m.ID, Disk: found[0].Key})
		}
	}
	return refs, faults
}

// resting finds the machines that are brought to rest.
func resting(wishes []directory.RestOf, of []group.Machine, p inventory.Platform) (map[string]group.Rest, []problem.Field) {
	out := map[string]group.Rest{}
	var faults []problem.Field
	fault := func(i int, format string, a ...any) {
		faults = append(faults, problem.Field{Field: fmt.Sprintf("quiesce[%d].machine", i), Message: fmt.Sprintf(format, a...)})
	}
	for i, w := range wishes {
		m, err := ofGroup(w.Machine, of)
		if err != nil {
			fault(i, "%v.", err)
			continue
		}
		if _, twice := out[m.ID]; twice {
			fault(i, "%s is named twice.", m.Name)
			continue
		}
		if pm, ok := p.Machine(m.ID); ok && pm.Agent == platform.AgentNone && w.On() {
			fault(i, "%s has no way to reach a guest agent, which would bring its file systems to rest. Give it one (on libvirt, a channel org.qemu.guest_agent.0), or leave it out.", m.Name)
			continue
		}
		out[m.ID] = w.Rest
	}
	return out, faults
}
