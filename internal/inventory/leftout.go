package inventory

import (
	"context"
	"fmt"
	"strings"

	"kestrel/internal/audit"
	"kestrel/internal/core/actor"
	"kestrel/internal/core/group"
	"kestrel/internal/core/scope"
	"kestrel/internal/core/words"
	"kestrel/internal/platform"
	"kestrel/internal/problem"
	"kestrel/internal/records"
)

// MaxAtOnce bounds how many machines are left out, or taken back, at once.
const MaxAtOnce = 1000

// LeftOut tells of a machine that it is left out on purpose.
func (v *Inventory) LeftOut(platformID, machine string) (records.LeftOut, bool) {
	v.mu.Lock()
	defer v.mu.Unlock()
	x, ok := v.left[MachineID(platformID, machine)]
	return x, ok
}

// Coverage gives the word for what protects a machine.
func (v *Inventory) Coverage(p Platform, m platform.Machine) string {
	f := scope.Facts{Landed: m.Landed}
	if r, ok := v.Groups.Guards(p.ID, m.ID); ok {
		gm, _ := r.Spec.Machine(m.ID)
		f.Group, f.ByRule = r.ID, gm.ByRule
	}
	_, f.LeftOut = v.LeftOut(p.ID, m.ID)
	f.Barrier, _ = m.Barrier(nil)
	return f.State()
}

// Candidate is a machine as rules look at it.
func (v *Inventory) Candidate(p Platform, m platform.Machine) scope.Candidate {
	c := scope.Candidate{Machine: scope.Machine{ID: m.ID, Platform: p.ID, PlatformName: p.Name, Name: m.Name, Folder: m.Folder, Tags: m.Tags, Pool: m.Pool}}
	if r, ok := v.Groups.Guards(p.ID, m.ID); ok {
		c.In = r.ID
	}
	_, c.LeftOut = v.LeftOut(p.ID, m.ID)
	if c.Barrier, _ = m.Barrier(nil); m.Landed {
		c.Barrier = "it was made from a point here"
	}
	return c
}

// LeaveOut notes that machines are left out on purpose, all or none. Machines of groups
// are not, unless a rule would bring them back.
func (v *Inventory) LeaveOut(ctx context.Context, who actor.Actor, texts []string, reason string) error {
	reason = strings.TrimSpace(reason)
	if group.CheckName(reason, group.MaxReason) != "" {
		return problem.Invalid("reason", "Say why they are left out, in one line of at most %d characters: whoever looks later has to know.", group.MaxReason)
	}
	now := v.Clock.Now().UTC()
	var all []records.LeftOut
	err := v.eachNamed(texts, func(p Platform, m platform.Machine) string {
		// One that a rule brought in is left out first and then taken out, or it would
		// join again at once.
		if r, ok := v.Groups.Guards(p.ID, m.ID); ok && r.Spec.Rule == nil {
			return fmt.Sprintf("%s is protected by the group %s. Take it out there first.", m.Name, r.Spec.Name)
		}
		all = append(all, records.LeftOut{Platform: p.ID, Machine: m.ID, Name: m.Name, Reason: reason, LeftBy: who.String(), At: now})
		return ""
	})
	if err != nil {
		return err
	}
	err = v.Trail.Do(ctx, who, audit.Object{Kind: "machine", Name: named(all)}, func(ctx context.Context) error { return v.DB.LeaveOut(ctx, all) }, "%s leaves out %s on purpose: %s", who, named(all), reason)
	if err != nil {
		return err
	}
	v.mu.Lock()
	defer v.mu.Unlock()
	for _, x := range all {
		v.left[MachineID(x.Platform, x.Machine)] = x
	}
	return nil
}

// TakeBack notes that machines are no longer left out, all or none.
func (v *Inventory) TakeBack(ctx context.Context, who actor.Actor, texts []string) error {
	var all []records.LeftOut
	err := v.eachNamed(texts, func(p Platform, m platform.Machine) string {
		x, ok := v.LeftOut(p.ID, m.ID)
		if !ok {
			return m.Name + " is not left out on purpose."
		}
		all = append(all, x)
		return ""
	})
	if err != nil {
		return err
	}
	err = v.Trail.Do(ctx, who, audit.Object{Kind: "machine", Name: named(all)}, func(ctx context.Context) error { return v.DB.TakeBack(ctx, all) }, "%s no longer leaves out %s", who, named(all))
	if err != nil {
		return err
	}
	v.mu.Lock()
	defer v.mu.Unlock()
	for _, x := range all {
		delete(v.left, MachineID(x.Platform, x.Machine))
	}
	return nil
}

// eachNamed calls f with the machines that people name; what it says is a fault of that
// name.
func (v *Inventory) eachNamed(texts []string, f func(Platform, platform.Machine) string) error {
	if len(texts) == 0 || len(texts) > MaxAtOnce {
		return problem.Invalid("machines", "Name 1 to %d machines.", MaxAtOnce)
	}
	var faults []problem.Field
	seen := map[string]bool{}
	for i, text := range texts {
		p, m, err := v.Machine(text)
		why := ""
		switch id := MachineID(p.ID, m.ID); {
		case err != nil:
			why = fmt.Sprintf("%q: %s.", text, strings.TrimSuffix(err.Error(), "."))
		case seen[id]:
			why = m.Name + " is named twice."
		default:
			seen[id] = true
			why = f(p, m)
		}
		if why != "" {
			faults = append(faults, problem.Field{Field: fmt.Sprintf("machines[%d]", i), Message: why})
		}
	}
	if len(faults) > 0 {
		return problem.InvalidFields(faults...)
	}
	return nil
}

func named(all []records.LeftOut) string {
	var out []string
	for _, x := range all {
		out = append(out, x.Name)
	}
	return words.Joined(out, 6)
}

// Chosen is a machine of a platform as a group has it.
func Chosen(m platform.Machine) group.Machine {
	x := group.Machine{ID: m.ID, Name: m.Name}
	for _, d := range m.Disks {
		x.Disks = append(x.Disks, group.Disk{Key: d.Key, Label: d.Label, SizeBytes: d.SizeBytes, Boot: d.Boot})
	}
	return x
}
