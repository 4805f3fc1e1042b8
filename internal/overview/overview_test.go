package overview_test

import (
	"context"
	"errors"
	"net/http"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"kestrel/internal/api"
	"kestrel/internal/directory"
	"kestrel/internal/listing"
	"kestrel/internal/overview"
	"kestrel/internal/problem"
	"kestrel/internal/support/rooms"
)

// patience is for machines that are busy.
const patience = 2 * time.Minute

func sealed(t *testing.T, ctx context.Context, home *rooms.House, name, machine string, tags ...string) api.Group {
	t.Helper()
	in := rooms.NewGroup()
	in.Name, in.Machines, in.Tags = name, []string{machine}, &tags
	g, err := home.Sealed(ctx, in)
	require.NoError(t, err)
	return g
}

func headline(b api.Board) string {
	var out []string
	for _, p := range b.Headline {
		out = append(out, p.Text)
	}
	return strings.Join(out, " ")
}

func all(directory.Record) bool { return true }

func names(gs []api.Group) (out []string) {
	for _, g := range gs {
		out = append(out, g.Name)
	}
	return out
}

// Both sites say the same of a group: how it stands, how exposed it is, what it has
// promised, what its cycles did.
func TestBothSitesSayTheSame(t *testing.T) {
	ctx, home, recovery := rooms.Paired(t)
	g := sealed(t, ctx, home, "Ticketing", "tick-db", "gold")
	home.Peering.Beat(ctx, g.Link)
	a, err := home.Overview.Group(g.ID)
	require.NoError(t, err)
	b, err := recovery.Overview.Group("ticketing")
	require.NoError(t, err)
	require.Equal(t, api.Out, a.Direction)
	require.Equal(t, api.In, b.Direction)
	for _, x := range []api.Group{a, b} {
		require.Equal(t, "on target", x.Health)
		require.Equal(t, 1, x.Points)
		require.Equal(t, rooms.HomeName, x.Home)
		require.Equal(t, rooms.RecoveryName, x.Recovery)
		require.NotNil(t, x.ConfirmedAt)
		require.InDelta(t, *x.HeadroomSeconds, x.Promise.RpoTargetSeconds-*x.ExposureSeconds, 1)
	}
	require.Equal(t, a.NewestCaptureAt, b.NewestCaptureAt)
	require.Equal(t, a.Promise, b.Promise)
	require.Equal(t, a.Machines[0].ID, b.Machines[0].ID)
	require.EqualValues(t, 4096, *a.Machines[0].UsedBytes)
	require.Nil(t, b.Machines[0].UsedBytes, "the platform is not there")
	here, err := home.Overview.Cycles(ctx, g.ID, 0, 10, time.Time{})
	require.NoError(t, err)
	there, err := recovery.Overview.Cycles(ctx, g.ID, 0, 10, time.Time{})
	require.NoError(t, err)
	require.Len(t, here, 1)
	require.Equal(t, here[0].Point, there[0].Point)
	require.Equal(t, "seed", here[0].Kind)
	none, err := home.Overview.Cycles(ctx, g.ID, 1, 10, time.Time{})
	require.NoError(t, err)
	require.Empty(t, none, "before the first")
	for _, h := range []*rooms.House{home, recovery} {
		e, err := h.Overview.Exposure(ctx, g.ID, nil, nil)
		require.NoError(t, err)
		require.Zero(t, e.OverSeconds)
		require.NotEmpty(t, e.Vertices)
	}
}

// What is asked for by a name that nobody has is said with what may have been meant,
// by every way of asking.
func TestAGroupThatNobodyHas(t *testing.T) {
	ctx, home, _ := rooms.Paired(t)
	sealed(t, ctx, home, "Ticketing", "tick-db")
	_, one := home.Overview.Group("Tiketing")
	_, two := home.Overview.Cycles(ctx, "Tiketing", 0, 0, time.Time{})
	_, three := home.Overview.Exposure(ctx, "Tiketing", nil, nil)
	for _, err := range []error{one, two, three} {
		p, ok := problem.Of(err)
		require.True(t, ok)
		require.Equal(t, http.StatusNotFound, p.Status)
		require.Contains(t, p.Detail, `Did you mean "Ticketing"?`)
	}
}

// The board tells of nothing before there is something, of the worst thing first,
// and of what is left when a home is gone.
func TestTheBoardFromTheFirstDayToTheLast(t *testing.T) {
	ctx, home, recovery := rooms.Paired(t)
	b, err := home.Overview.Board(ctx, all, listing.Page{})
	require.NoError(t, err)
	require.Equal(t, "Nothing is protected yet. Make the first protection group.", headline(b))
	require.Len(t, b.Links, 1)
	require.Empty(t, b.Groups)

	let := home.Shed.Hold()
	in := rooms.NewGroup()
	id, err := home.Protection.Create(ctx, rooms.Anna(), in)
	require.NoError(t, err)
	require.NoError(t, home.Until(ctx, func() bool { return home.Mover.Live(id).Running != nil }))
	b, err = home.Overview.Board(ctx, all, listing.Page{})
	require.NoError(t, err)
	require.Contains(t, headline(b), "Ticketing is being copied for the first time.")
	require.Equal(t, "seeding", b.Groups[0].Group.Health)
	require.NotNil(t, b.Groups[0].Group.Running)
	let()
	require.NoError(t, home.Until(ctx, func() bool {
		g, err := home.Overview.Group(id)
		return err == nil && g.Health == "on target" && g.Running == nil
	}))
	sealed(t, ctx, home, "Gates", "gate")

	b, err = home.Overview.Board(ctx, all, listing.Page{})
	require.NoError(t, err)
	require.Equal(t, "All 2 groups would lose less than they promised.", headline(b))
	require.Len(t, b.Groups, 2)
	require.NotEmpty(t, b.Groups[0].Strip)
	require.WithinDuration(t, time.Now().Add(-5*time.Minute), b.Groups[0].StripFrom, patience, "a young group is drawn over its own life")
	some, err := home.Overview.Board(ctx, func(r directory.Record) bool { return r.Spec.Name == "Gates" }, listing.Page{})
	require.NoError(t, err)
	require.Len(t, some.Groups, 1)
	require.Equal(t, "The one group would lose less than it promised.", headline(some), "what one may not see is not counted")

	home.Shed.Fail(errors.New("the shed is locked"))
	home.Inventory.Refresh(ctx, home.PlatformID)
	b, err = home.Overview.Board(ctx, all, listing.Page{})
	require.NoError(t, err)
	require.True(t, strings.HasPrefix(headline(b), "Gates and Ticketing are cut off."), headline(b))
	require.Equal(t, "cut off", b.Needs[0].State)
	require.Equal(t, "/groups/"+*b.Needs[0].Group, b.Needs[0].Href)

	// Home is lost for good: what there is to start from comes first.
	home.Leave()
	for _, r := range recovery.Groups.All() {
		require.NoError(t, recovery.Groups.End(ctx, rooms.Anna(), r.ID, "", "ended"))
	}
	b, err = recovery.Overview.Board(ctx, all, listing.Page{})
	require.NoError(t, err)
	require.Contains(t, headline(b), "2 points are kept here of 2 groups that have no home now")
	require.Contains(t, headline(b), "Start their machines here from a point")
	require.Empty(t, b.Groups, "nothing is drawn that has no exposure")
	require.NoError(t, recovery.Until(ctx, func() bool {
		b, err := recovery.Overview.Board(ctx, all, listing.Page{})
		return err == nil && slices.ContainsFunc(b.Needs, func(n api.Need) bool { return n.State == "link" })
	}), "a link that fails is a need as well")
}

// Lists are narrowed and ordered by what is known of a group, and refuse what is no
// order, no direction and no health.
func TestListsOfGroups(t *testing.T) {
	ctx, home, _ := rooms.Paired(t)
	one := sealed(t, ctx, home, "Ticketing", "tick-db", "gold")
	two := sealed(t, ctx, home, "Fares", "tick-app", "Silver")
	three := sealed(t, ctx, home, "Gates", "gate", "gold", "pier")
	require.NoError(t, home.Protection.Update(ctx, rooms.Anna(), three.ID, api.GroupPatch{PromiseText: &api.PromiseText{RpoTarget: new("30 min"), Cadence: new("10 min")}}, nil))
	require.NoError(t, home.Protection.Update(ctx, rooms.Anna(), two.ID, api.GroupPatch{PromiseText: &api.PromiseText{RpoTarget: new("5 h")}}, nil))
	require.NoError(t, home.Protection.Run(ctx, rooms.Anna(), one.ID, false))
	require.NoError(t, home.Until(ctx, func() bool {
		g, err := home.Overview.Group(one.ID)
		return err == nil && g.Points == 2 && g.Running == nil
	}))
	require.NoError(t, home.Protection.Pause(ctx, rooms.Anna(), two.ID, nil))
	for _, c := range []struct {
		f    overview.Filter
		want []string
		n    int
	}{
		{overview.Filter{}, []string{"Fares", "Gates", "Ticketing"}, 3},
		{overview.Filter{Tag: "GOLD"}, []string{"Gates", "Ticketing"}, 2},
		{overview.Filter{Query: "TICK"}, []string{"Fares", "Ticketing"}, 2}, // by its machine
		{overview.Filter{Query: "silver"}, []string{"Fares"}, 1},
		{overview.Filter{Health: "paused"}, []string{"Fares"}, 1},
		{overview.Filter{Direction: "in"}, nil, 0},
		{overview.Filter{Direction: "out", Page: listing.Page{Sort: "target"}}, []string{"Gates", "Ticketing", "Fares"}, 3},
		{overview.Filter{Page: listing.Page{Sort: "-points", Limit: 1}}, []string{"Ticketing"}, 3},
		{overview.Filter{Page: listing.Page{Sort: "name", Skip: 2}}, []string{"Ticketing"}, 3},
		{overview.Filter{Page: listing.Page{Sort: "-next", Limit: 1}}, []string{"Fares"}, 3}, // paused: never
		{overview.Filter{See: func(r directory.Record) bool { return r.ID == three.ID }}, []string{"Gates"}, 1},
	} {
		gs, n, err := home.Overview.List(c.f)
		require.NoError(t, err)
		got := names(gs)
		if c.f.Page.Sort == "" {
			slices.Sort(got)
		}
		require.Equal(t, c.want, got, "%+v", c.f)
		require.Equal(t, c.n, n)
	}
	for field, f := range map[string]overview.Filter{
		"direction": {Direction: "up"},
		"health":    {Health: "well"},
		"sort":      {Page: listing.Page{Sort: "colour"}},
		"limit":     {Page: listing.Page{Limit: -1}},
	} {
		_, _, err := home.Overview.List(f)
		p, ok := problem.Of(err)
		require.True(t, ok, field)
		require.Equal(t, field, p.Errors[0].Field)
	}
	gs, _, err := home.Overview.List(overview.Filter{})
	require.NoError(t, err)
	require.Equal(t, "Fares", gs[0].Name, "what is held up comes before what is well")
}

// Figures sum up what the groups say, by what is asked for, the worst first; of groups that
// somebody may not see nothing is counted.
func TestFigures(t *testing.T) {
	ctx, home, _ := rooms.Paired(t)
	one := sealed(t, ctx, home, "Ticketing", "tick-db", "gold", "port")
	two := sealed(t, ctx, home, "Boarding", "tick-app", "gold")
	ready := func(r directory.Record) (bool, bool) { return r.ID == one.ID, true }
	v, err := home.Overview.Figures("tag", all, ready)
	require.NoError(t, err)
	require.Equal(t, []string{"gold", "port"}, []string{v.Rows[0].Name, v.Rows[1].Name})
	require.Equal(t, []int{2, 2, 1, 1}, []int{v.Rows[0].Groups, v.Rows[0].OnTarget, v.Rows[0].Ready, v.Rows[0].NotReady})
	require.Equal(t, []int{1, 1, 1, 0}, []int{v.Rows[1].Groups, v.Rows[1].OnTarget, v.Rows[1].Ready, v.Rows[1].NotReady})
	require.Equal(t, 2, v.Total.Groups)
	g, err := home.Overview.Group(one.ID)
	require.NoError(t, err)
	require.InDelta(t, *g.ExposureSeconds, *v.Total.WorstExposureSeconds, 2)
	require.Contains(t, []string{"Ticketing", "Boarding"}, *v.Total.WorstGroup)
	require.LessOrEqual(t, *v.Total.MeanExposureSeconds, *v.Total.WorstExposureSeconds)

	v, err = home.Overview.Figures("way", func(r directory.Record) bool { return r.ID == two.ID }, func(directory.Record) (bool, bool) { return false, false })
	require.NoError(t, err)
	require.Len(t, v.Rows, 1)
	require.Equal(t, rooms.HomeName+" → "+rooms.RecoveryName, v.Rows[0].Name)
	require.Equal(t, []int{1, 0, 0}, []int{v.Total.Groups, v.Total.Ready, v.Total.NotReady})
	_, err = home.Overview.Figures("colour", all, ready)
	require.ErrorContains(t, err, "none of tier, tag, site, way")
}

// The board draws the stretch that is asked for, the worst first, and sums up all.
func TestTheBoardInPages(t *testing.T) {
	ctx, home, _ := rooms.Paired(t)
	for i, n := range []string{"Ticketing", "Crew rota", "Gates"} {
		sealed(t, ctx, home, n, []string{"tick-db", "tick-app", "gate"}[i])
	}
	drawn := func(limit, skip int) (out []string) {
		b, err := home.Overview.Board(ctx, all, listing.Page{Limit: limit, Skip: skip})
		require.NoError(t, err)
		require.Equal(t, 3, b.Total)
		require.Equal(t, 3, b.Within)
		require.Zero(t, b.Amiss)
		require.Len(t, b.Needs, b.NeedsTotal)
		for _, g := range b.Groups {
			require.NotEmpty(t, g.Strip)
			out = append(out, g.Group.Name)
		}
		return out
	}
	require.Equal(t, []string{"Crew rota", "Gates", "Ticketing"}, drawn(0, 0))
	require.Equal(t, []string{"Crew rota"}, drawn(1, 0))
	require.Equal(t, []string{"Gates", "Ticketing"}, drawn(9, 1))
	require.Empty(t, drawn(9, 3))
	for _, p := range []listing.Page{{Limit: 501}, {Limit: -1}, {Skip: -1}} {
		_, err := home.Overview.Board(ctx, all, p)
		bad, ok := problem.Of(err)
		require.True(t, ok)
		require.Len(t, bad.Errors, 1)
	}
}
