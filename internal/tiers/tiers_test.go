package tiers_test

import (
	"context"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"kestrel/internal/api"
	"kestrel/internal/core/actor"
	"kestrel/internal/problem"
	"kestrel/internal/records"
	"kestrel/internal/support/rooms"
)

func text(rpo, cadence, keep string) *api.PromiseText {
	return &api.PromiseText{RpoTarget: &rpo, Cadence: &cadence, Keep: &keep}
}

func faults(t *testing.T, err error) map[string]string {
	t.Helper()
	p, ok := problem.Of(err)
	require.True(t, ok, "%v", err)
	out := map[string]string{"": p.Detail}
	for _, f := range p.Errors {
		out[f.Field] = f.Message
	}
	return out
}

// harbour makes a tier and a group that follows it, sealed once.
func harbour(t *testing.T) (context.Context, *rooms.House, *rooms.House, string, api.Group) {
	t.Helper()
	ctx, home, recovery := rooms.Paired(t)
	id, err := home.Tiers.Make(ctx, rooms.Anna(), api.NewTier{Name: "Harbour-1", PromiseText: text("10 min", "2 min", "all 6h, 1h 2d"), RtoTargetSeconds: new(int64(3600)), Priority: new("high")})
	require.NoError(t, err)
	in := rooms.NewGroup()
	in.Promise, in.Tier = nil, new("harbour-1")
	g, err := home.Sealed(ctx, in)
	require.NoError(t, err)
	return ctx, home, recovery, id, g
}

// Changing a tier shows what it makes of each group before it is done, moves them when it
// is, and leaves what differs on purpose; the recovery site sees it, and the tier itself.
func TestATierMovesItsGroups(t *testing.T) {
	ctx, home, recovery, id, g := harbour(t)
	require.EqualValues(t, 600, g.Promise.RpoTargetSeconds)
	require.EqualValues(t, 3600, g.RtoTargetSeconds)
	require.Equal(t, "high", g.Priority)
	require.Equal(t, "Harbour-1", g.Tier.Name)

	edit := func(in api.GroupPatch) error { return home.Protection.Update(ctx, rooms.Anna(), g.ID, in, nil) }
	require.Contains(t, faults(t, edit(api.GroupPatch{Priority: new("low")}))["reason"], "why its priority differs")
	require.NoError(t, edit(api.GroupPatch{Priority: new("low"), Reason: new("it can wait")}))
	show := func(h *rooms.House) api.Group {
		v, err := h.Overview.Group(g.ID)
		require.NoError(t, err)
		return v
	}
	require.Equal(t, []api.Difference{{Field: "priority", Tier: "high", Own: "low", Reason: "it can wait"}}, show(home).Tier.Differs)

	change := api.TierPatch{PromiseText: text("20 min", "4 min", "all 6h, 1h 2d"), Priority: new("normal")}
	v, err := home.Tiers.Foresee(ctx, "Harbour-1", change)
	require.NoError(t, err)
	require.Empty(t, v.Faults)
	require.Len(t, v.Groups, 1)
	var moved []string
	for _, c := range v.Groups[0].Changes {
		moved = append(moved, c.Field)
	}
	require.Equal(t, []string{"rpoTargetSeconds", "cadence"}, moved, "its priority is its own")
	require.EqualValues(t, 600, show(home).Promise.RpoTargetSeconds, "shown, not done")
	require.NoError(t, home.Tiers.Change(ctx, rooms.Anna(), id, change))
	is := show(home)
	require.EqualValues(t, 1200, is.Promise.RpoTargetSeconds)
	require.Equal(t, "low", is.Priority)
	require.EqualValues(t, 2, is.Tier.Revision)
	lines, err := home.Trail.Lines(ctx, records.Sought{Limit: 10, Text: "Ticketing follows the tier Harbour-1"})
	require.NoError(t, err)
	require.Len(t, lines, 1)
	require.Equal(t, "anna", lines[0].Who)

	home.Protection.Hear(ctx, must(t, home, g.ID))
	require.NoError(t, recovery.Until(ctx, func() bool { return show(recovery).Promise.RpoTargetSeconds == 1200 }))
	others := recovery.Tiers.List("Eastmole", nil)
	require.Len(t, others, 1, "it crosses the link with the group")
	require.Equal(t, home.Name, others[0].Site)
	require.EqualValues(t, 1200, others[0].Promise.RpoTargetSeconds)
	require.Contains(t, faults(t, recovery.Protection.Update(ctx, rooms.Anna(), g.ID, api.GroupPatch{Tier: new("Harbour-1")}, nil))["tier"], "choose one there")

	h, err := home.Tiers.Show(ctx, "Norhaven", "Harbour-1")
	require.NoError(t, err)
	require.Len(t, *h.History, 2)
	require.Equal(t, "anna", (*h.History)[0].Who)
	require.Len(t, (*h.History)[0].Changes, 3)
	require.ErrorContains(t, home.Tiers.Delete(ctx, rooms.Anna(), id), "Ticketing")
	require.NoError(t, edit(api.GroupPatch{NoTier: new(true)}))
	require.NoError(t, home.Tiers.Delete(ctx, rooms.Anna(), id))
	require.Empty(t, home.Tiers.All())
}

func must(t *testing.T, h *rooms.House, id string) (r rec) {
	t.Helper()
	r, ok := h.Groups.Get(id)
	require.True(t, ok)
	return r
}

// A tier that some group could not follow is not changed at all, one that would drop points
// asks, and a group is brought up to its tier after a crash in between.
func TestTiersThatAreRefused(t *testing.T) {
	ctx, home, _, id, g := harbour(t)
	for field, in := range map[string]api.NewTier{
		"name":                       {Name: " "},
		"promise.rpoTargetSeconds":   {Name: "x", PromiseText: text("1 s", "2 min", "all 6h")},
		"promise.cadenceSeconds":     {Name: "x", PromiseText: text("10 min", "often", "all 6h")},
		"promise.keep":               {Name: "x", PromiseText: text("10 min", "2 min", "everything")},
		"rtoTargetSeconds":           {Name: "x", PromiseText: text("10 min", "2 min", "all 6h"), RtoTargetSeconds: new(int64(3))},
		"drillEverySeconds":          {Name: "x", PromiseText: text("10 min", "2 min", "all 6h"), DrillEverySeconds: new(int64(3))},
		"priority":                   {Name: "x", PromiseText: text("10 min", "2 min", "all 6h"), Priority: new("urgent")},
		"rest":                       {Name: "x", PromiseText: text("10 min", "2 min", "all 6h"), Rest: new("perhaps")},
		"promise.keep[0].forSeconds": {Name: "x", Promise: &api.Promise{RpoTargetSeconds: 600, CadenceSeconds: 60, Keep: []api.Rung{{ForSeconds: 0}}}},
	} {
		_, err := home.Tiers.Make(ctx, rooms.Anna(), in)
		require.Contains(t, faults(t, err), field, in.Name)
	}
	_, err := home.Tiers.Make(ctx, rooms.Anna(), api.NewTier{Name: "HARBOUR-1", PromiseText: text("10 min", "2 min", "all 6h")})
	require.Contains(t, faults(t, err)["name"], "already")
	require.Len(t, home.Tiers.All(), 1)
	require.Contains(t, faults(t, home.Protection.Update(ctx, rooms.Anna(), g.ID, api.GroupPatch{Tier: new("Harbor-1")}, nil))["tier"], `Did you mean "Harbour-1"?`)

	// What the group says of its own may not fit the tier any more.
	require.NoError(t, home.Protection.Update(ctx, rooms.Anna(), g.ID, api.GroupPatch{PromiseText: &api.PromiseText{Cadence: new("8 min")}, Reason: new("a slow array")}, nil))
	err = home.Tiers.Change(ctx, rooms.Anna(), id, api.TierPatch{PromiseText: text("5 min", "1 min", "all 6h, 1h 2d")})
	require.Contains(t, faults(t, err)["promise.cadenceSeconds"], "The group Ticketing, which follows Harbour-1, could not be so")
	require.EqualValues(t, 1, home.Tiers.All()[0].Revision)

	// Points that would go at once are asked for.
	require.NoError(t, home.Mover.Ask(must(t, home, g.ID), false))
	require.NoError(t, home.Until(ctx, func() bool { return home.Keeper.Holding(g.ID).Points == 2 }))
	shorter := api.TierPatch{PromiseText: &api.PromiseText{Keep: new("1w 5w")}}
	v, err := home.Tiers.Foresee(ctx, id, shorter)
	require.NoError(t, err)
	require.Equal(t, 1, v.Groups[0].DropsPoints, "two points of one week")
	require.Contains(t, faults(t, home.Tiers.Change(ctx, rooms.Anna(), id, shorter))[""], "dropPoints")
	shorter.DropPoints = new(true)
	require.NoError(t, home.Tiers.Change(ctx, rooms.Anna(), id, shorter))

	// The service is killed after the tier was written and before its groups were.
	x := home.Tiers.All()[0]
	x.Promise.Target, x.Revision = 40*time.Minute, x.Revision+1
	require.NoError(t, home.DB.PutTier(ctx, stored(x), time.Now(), "anna"))
	again, err := open(ctx, home)
	require.NoError(t, err)
	short, cancel := context.WithCancel(ctx)
	done := make(chan struct{})
	go func() { again.Run(short); close(done) }()
	require.NoError(t, home.Until(ctx, func() bool { return must(t, home, g.ID).Spec.Promise.Target == 40*time.Minute }))
	cancel()
	<-done
	lines, err := home.Trail.Lines(ctx, records.Sought{Limit: 1, Text: "follows the tier"})
	require.NoError(t, err)
	require.Equal(t, actor.System().String(), lines[0].Who)
}
