package coverage_test

import (
	"context"
	"slices"
	"testing"

	"github.com/stretchr/testify/require"

	"kestrel/internal/api"
	"kestrel/internal/core/scope"
	"kestrel/internal/inventory"
	"kestrel/internal/platform"
	"kestrel/internal/problem"
	"kestrel/internal/records"
	"kestrel/internal/support/rooms"
)

// rig is a site whose machines change.
type rig struct {
	*rooms.House
	t   *testing.T
	ctx context.Context
}

func start(t *testing.T) rig {
	ctx, home, _ := rooms.Paired(t)
	return rig{home, t, ctx}
}

// change changes the machines of the platform and lets the site see it.
func (r rig) change(change func([]platform.Machine) []platform.Machine) {
	r.t.Helper()
	r.Shed.Change(change)
	r.Inventory.Refresh(r.ctx, r.PlatformID)
	require.NoError(r.t, r.Coverage.Look(r.ctx))
}

// one changes one machine.
func (r rig) one(name string, change func(*platform.Machine)) {
	r.t.Helper()
	r.change(func(ms []platform.Machine) []platform.Machine {
		for i := range ms {
			if ms[i].Name == name {
				change(&ms[i])
			}
		}
		return ms
	})
}

func (r rig) group(id string) api.Group {
	r.t.Helper()
	g, err := r.Overview.Group(id)
	require.NoError(r.t, err)
	return g
}

func (r rig) create(in api.NewGroup) api.Group {
	r.t.Helper()
	id, err := r.Protection.Create(r.ctx, rooms.Anna(), in)
	require.NoError(r.t, err)
	return r.group(id)
}

func (r rig) edit(id string, in api.GroupPatch) error {
	return r.Protection.Update(r.ctx, rooms.Anna(), id, in, nil)
}

func (r rig) faults(err error) map[string]string {
	r.t.Helper()
	p, ok := problem.Of(err)
	require.True(r.t, ok, "%v", err)
	out := map[string]string{}
	for _, f := range p.Errors {
		out[f.Field] = f.Message
	}
	return out
}

func (r rig) said(words string) int {
	r.t.Helper()
	lines, err := r.Trail.Lines(r.ctx, records.Sought{Limit: 100, Text: words})
	require.NoError(r.t, err)
	return len(lines)
}

func names(g api.Group) (all, byRule []string) {
	for _, m := range g.Machines {
		all = append(all, m.Name)
		if m.ByRule != nil {
			byRule = append(byRule, m.Name)
		}
	}
	return all, byRule
}

func ruled(name, match string, order int, machines ...string) api.NewGroup {
	in := rooms.NewGroup()
	in.Name, in.Machines, in.Rule = name, machines, &api.MemberRule{Match: match, Order: order}
	if in.Machines == nil {
		in.Machines = []string{}
	}
	return in
}

// The life of a rule: what it matches joins when the group is made and when it appears;
// what it no longer speaks for is kept and told until somebody decides; what is taken out
// does not come back.
func TestMachinesJoinByRule(t *testing.T) {
	r := start(t)
	g := r.create(ruled("Ticketing", "name tick-*", 10))
	all, byRule := names(g)
	require.Equal(t, []string{"tick-db", "tick-app"}, all)
	require.Equal(t, all, byRule)
	require.Equal(t, "name tick-*", g.Rule.Match)

	web := platform.Machine{ID: "m-web", Name: "tick-web", Folder: "/pier", Disks: []platform.Disk{{Key: "d", Label: "disk 1", SizeBytes: 1 << 16}}}
	r.change(func(ms []platform.Machine) []platform.Machine {
		bare := web
		bare.Disks = nil // as while it is being made
		return append(ms, bare)
	})
	all, _ = names(r.group(g.ID))
	require.NotContains(t, all, "tick-web", "it has nothing to copy yet")
	r.one("tick-web", func(m *platform.Machine) { m.Disks = web.Disks })
	all, byRule = names(r.group(g.ID))
	require.Contains(t, byRule, "tick-web")
	require.Equal(t, 1, r.said("tick-web joins by the rule"))
	require.NoError(t, r.Coverage.Look(r.ctx))
	require.Equal(t, g.Revision+1, r.group(g.ID).Revision, "joined once")
	require.Len(t, all, 3)

	// Renamed, it is still in the group, under its new name, and somebody has to decide.
	r.one("tick-web", func(m *platform.Machine) { m.Name = "web-old" })
	now := r.group(g.ID)
	all, _ = names(now)
	require.Contains(t, all, "web-old")
	require.Len(t, *now.Leavers, 1)
	require.Contains(t, now.Reasons[len(now.Reasons)-1], "web-old joined by the rule, and it is no longer matched by the rule. It is kept until somebody decides")
	require.NoError(t, r.Coverage.Look(r.ctx))
	require.Equal(t, 1, r.said("kept until somebody decides"), "told once")
	require.NoError(t, r.edit(g.ID, api.GroupPatch{ByHand: &[]string{"web-old"}}))
	require.Empty(t, *r.group(g.ID).Leavers)
	_, byRule = names(r.group(g.ID))
	require.NotContains(t, byRule, "web-old")

	// What the rule matches cannot be taken out unless it is left out on purpose.
	require.Contains(t, r.faults(r.edit(g.ID, api.GroupPatch{RemoveMachines: &[]string{"tick-app"}}))["machines"], "would join again at once")
	require.NoError(t, r.Inventory.LeaveOut(r.ctx, rooms.Anna(), []string{"tick-app"}, "being replaced"))
	require.NoError(t, r.edit(g.ID, api.GroupPatch{RemoveMachines: &[]string{"tick-app"}}))
	require.NoError(t, r.Coverage.Look(r.ctx))
	all, _ = names(r.group(g.ID))
	require.Equal(t, []string{"tick-db", "web-old"}, all)
	require.NoError(t, r.Inventory.TakeBack(r.ctx, rooms.Anna(), []string{"tick-app"}))
	require.NoError(t, r.Coverage.Look(r.ctx))
	all, _ = names(r.group(g.ID))
	require.Contains(t, all, "tick-app")

	require.NoError(t, r.edit(g.ID, api.GroupPatch{NoRule: new(true)}))
	_, byRule = names(r.group(g.ID))
	require.Empty(t, byRule, "without a rule all are by hand")
}

// Rules are asked in order, a group that is made later takes nothing from others, and a
// platform that does not answer lets nobody join or leave.
func TestSeveralRules(t *testing.T) {
	r := start(t)
	rest := r.create(ruled("The rest", "any", 900, "gate"))
	all, byRule := names(rest)
	require.Equal(t, []string{"gate", "tick-db", "tick-app"}, all, "the router has no disks")
	require.NotContains(t, byRule, "gate")
	require.Contains(t, r.faults(func() error {
		_, err := r.Protection.Create(r.ctx, rooms.Anna(), ruled("Ticketing", "name tick-*", 10))
		return err
	}())["rule"], "matches no machine that could join now")
	spare := func(id, name string, tags ...string) platform.Machine {
		return platform.Machine{ID: id, Name: name, Tags: tags, Disks: []platform.Disk{{Key: "d", Label: "disk 1", SizeBytes: 1 << 16}}}
	}
	// A rule that goes first takes what appears from then on, and what the later one has is
	// told, not taken.
	require.NoError(t, r.Inventory.LeaveOut(r.ctx, rooms.Anna(), []string{"tick-db"}, "for now"))
	require.NoError(t, r.edit(rest.ID, api.GroupPatch{RemoveMachines: &[]string{"tick-db"}}))
	require.NoError(t, r.Inventory.TakeBack(r.ctx, rooms.Anna(), []string{"tick-db"}))
	first := r.create(ruled("Ticketing", "name tick-*", 10))
	all, _ = names(first)
	require.Equal(t, []string{"tick-db"}, all)
	r.change(func(ms []platform.Machine) []platform.Machine {
		return append(ms, spare("m-3", "tick-web"), spare("m-4", "cook"))
	})
	all, _ = names(r.group(first.ID))
	require.Contains(t, all, "tick-web")
	all, _ = names(r.group(rest.ID))
	require.Contains(t, all, "cook")
	left := *r.group(rest.ID).Leavers
	require.Len(t, left, 1)
	require.Equal(t, api.Leaver{Machine: "m-tick-app", Name: "tick-app", Why: "A rule that goes first matches it now (Ticketing)."}, left[0])

	v, err := r.Coverage.Show(r.ctx, "Norhaven", nil, nil)
	require.NoError(t, err)
	require.Equal(t, []string{"Ticketing", "The rest"}, []string{v.Rules[0].GroupName, v.Rules[1].GroupName}, "in the order in which they are asked")
	preview, err := r.Coverage.Preview(api.RulePreviewRequest{Match: "NAME *  and not name gate"})
	require.NoError(t, err)
	require.Equal(t, "name * and not name gate", preview.Match)
	require.Zero(t, preview.Joins)
	became := map[string]string{}
	for _, m := range preview.Machines {
		became[m.Name] = m.Becomes
	}
	require.Equal(t, "stays in Ticketing", became["tick-db"])
	require.Contains(t, became["router"], "cannot join: It has no disks")
	_, err = r.Coverage.Preview(api.RulePreviewRequest{Match: "colour red"})
	require.Contains(t, r.faults(err)["match"], "is none of folder")

	r.Shed.Fail(platform.ErrUnreachable)
	r.change(func(ms []platform.Machine) []platform.Machine { return append(ms, spare("m-5", "tick-new")) })
	all, _ = names(r.group(first.ID))
	require.NotContains(t, all, "tick-new")
	require.Empty(t, *r.group(first.ID).Leavers)
	r.Shed.Fail(nil)
	r.change(func(ms []platform.Machine) []platform.Machine { return ms[1:] }) // tick-db is gone
	all, _ = names(r.group(first.ID))
	require.Contains(t, all, "tick-new")
	require.Equal(t, "It is no longer on the platform.", (*r.group(first.ID).Leavers)[0].Why)
}

// A disk that is added, resized or gone is noticed: copied, or told until somebody
// decides.
func TestDisksAreNoticed(t *testing.T) {
	r := start(t)
	g := r.create(rooms.NewGroup())
	add := func(key string) {
		r.one("tick-db", func(m *platform.Machine) {
			m.Disks = append(m.Disks, platform.Disk{Key: key, Label: "disk " + key, SizeBytes: 1 << 20})
		})
	}
	add("e")
	now := r.group(g.ID)
	require.Len(t, now.Machines[0].Disks, 2)
	require.False(t, now.Machines[0].Disks[1].LeftOut)
	require.Equal(t, 1, r.said("disk e of tick-db is new, 1.0 MiB, and is copied from now on"))

	require.NoError(t, r.edit(g.ID, api.GroupPatch{NewDisks: new("flag"), WithoutDisks: &[]string{"tick-db:disk e"}}))
	add("f")
	require.NoError(t, r.Coverage.Look(r.ctx))
	now = r.group(g.ID)
	require.Len(t, now.Machines[0].Disks, 3)
	require.True(t, *now.Machines[0].Disks[2].Undecided)
	require.Contains(t, now.Reasons[len(now.Reasons)-1], "Disk disk f of tick-db (1.0 MiB) is new and not copied until somebody decides.")
	require.Equal(t, 1, r.said("It is not copied until somebody decides"))
	spec, _ := r.Groups.Get(g.ID)
	require.True(t, spec.Spec.Leaves("m-tick-db", "e"))
	require.True(t, spec.Spec.Leaves("m-tick-db", "f"))
	require.NoError(t, r.edit(g.ID, api.GroupPatch{WithoutDisks: &[]string{"tick-db:e"}}), "this decides: f is copied")
	spec, _ = r.Groups.Get(g.ID)
	require.True(t, spec.Spec.Leaves("m-tick-db", "e"))
	require.False(t, spec.Spec.Leaves("m-tick-db", "f"))

	r.one("tick-db", func(m *platform.Machine) { m.Disks[2].SizeBytes *= 2 })
	require.Equal(t, 1, r.said("disk f of tick-db was 1.0 MiB and is 2.0 MiB"))
	r.one("tick-db", func(m *platform.Machine) { m.Disks = m.Disks[:2] })
	require.Equal(t, 1, r.said("disk f of tick-db is gone"))
	require.Len(t, r.group(g.ID).Machines[0].Disks, 2)

	r.one("tick-db", func(m *platform.Machine) { m.Disks[0].Boot = true })
	for field, in := range map[string]string{"starts from disk disk 1": "tick-db:disk 1", "has no disk": "tick-db:nothing", "not MACHINE:DISK": "tick-db", "not a machine of this group": "gate:d"} {
		require.Contains(t, r.faults(r.edit(g.ID, api.GroupPatch{WithoutDisks: &[]string{in}}))["withoutDisks[0]"], field)
	}
	require.NoError(t, r.edit(g.ID, api.GroupPatch{WithoutDisks: &[]string{"tick-db:d"}, WithoutBootDisks: new(true)}), "by somebody who knows")
	require.Contains(t, r.faults(r.edit(g.ID, api.GroupPatch{WithoutDisks: &[]string{"tick-db:d", "tick-db:e"}}))["withoutDisks"], "All disks of tick-db")
	// Leaving out what cannot be tracked lets a machine be protected.
	r.one("gate", func(m *platform.Machine) {
		m.Disks = append(m.Disks, platform.Disk{Key: "lun", Label: "lun", SizeBytes: 1 << 20, Untrackable: "it is a device handed through.", Mend: "Attach it otherwise."})
	})
	in := rooms.NewGroup()
	in.Name, in.Machines = "Gate", []string{"gate"}
	_, err := r.Protection.Create(r.ctx, rooms.Anna(), in)
	require.Contains(t, r.faults(err)["machines[0]"], "Or leave the disk out.")
	in.WithoutDisks = &[]string{"gate:lun"}
	r.create(in)
}

// Every machine has one word, the share follows from them, hours are written down, and the
// other site is told.
func TestCoverageIsCounted(t *testing.T) {
	r := start(t)
	r.create(ruled("Ticketing", "name tick-*", 10))
	require.NoError(t, r.Coverage.Look(r.ctx))
	v, err := r.Coverage.Show(r.ctx, "Norhaven", nil, nil)
	require.NoError(t, err)
	require.Equal(t, api.CoverageCounts{Machines: 4, ByRule: 2, CannotBe: 1, Unprotected: 1, Share: 0.5}, v.Counts)
	require.Len(t, v.History, 1)
	require.Equal(t, v.Counts, v.History[0].Counts)

	for reason, machines := range map[string][]string{"reason": {"gate"}, "machines[0]": {"gaet"}, "machines[1]": {"gate", "GATE"}, "machines": {}} {
		why := "it is rented"
		if reason == "reason" {
			why = " "
		}
		require.Contains(t, r.faults(r.Inventory.LeaveOut(r.ctx, rooms.Anna(), machines, why)), reason)
	}
	require.NoError(t, r.Inventory.LeaveOut(r.ctx, rooms.Anna(), []string{"gate", "router"}, "it is rented"))
	ms, n, err := r.Inventory.Machines(inventory.MachineFilter{Coverage: scope.OnPurpose})
	require.NoError(t, err)
	require.Equal(t, 2, n)
	require.Equal(t, "it is rented", ms[0].LeftOut.Reason)
	require.Equal(t, "anna", ms[0].LeftOut.By)
	v, err = r.Coverage.Show(r.ctx, "Norhaven", nil, nil)
	require.NoError(t, err)
	require.Equal(t, 1.0, v.Counts.Share, "all that is to be protected is")
	require.Contains(t, r.faults(r.Inventory.TakeBack(r.ctx, rooms.Anna(), []string{"tick-db"})), "machines[0]")
	_, _, err = r.Inventory.Machines(inventory.MachineFilter{Coverage: "dry"})
	require.Contains(t, r.faults(err), "coverage")
	for words, want := range map[string][]string{"covered": {"tick-app", "tick-db"}, "open": nil} {
		ms, _, err := r.Inventory.Machines(inventory.MachineFilter{Coverage: words})
		require.NoError(t, err)
		var got []string
		for _, m := range ms {
			got = append(got, m.Name)
		}
		slices.Sort(got)
		require.Equal(t, want, got)
	}
}
