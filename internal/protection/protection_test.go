package protection_test

import (
	"context"
	"errors"
	"fmt"
	"net/http"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/google/uuid"
	"github.com/stretchr/testify/require"

	"kestrel/internal/api"
	"kestrel/internal/core/actor"
	"kestrel/internal/core/group"
	"kestrel/internal/directory"
	"kestrel/internal/listing"
	"kestrel/internal/problem"
	"kestrel/internal/records"
	"kestrel/internal/support/rooms"
)

// patience is for machines that are busy.
const patience = 2 * time.Minute

var ben = actor.Actor{Kind: actor.Person, Name: "ben", Role: actor.Operator}

// ticketing is a group that is sealed.
func ticketing(t *testing.T, ctx context.Context, home *rooms.House) api.Group {
	t.Helper()
	g, err := home.Sealed(ctx, rooms.NewGroup())
	require.NoError(t, err)
	return g
}

// refusal is what an error tells people.
func refusal(t *testing.T, err error) problem.Problem {
	t.Helper()
	p, ok := problem.Of(err)
	require.True(t, ok, "%v", err)
	return *p
}

func told(p problem.Problem) string {
	out := p.Title + " " + p.Detail
	for _, f := range p.Errors {
		out += " " + f.Field + ": " + f.Message
	}
	return out
}

// lines are the trail's lines with some words, newest first.
func lines(t *testing.T, h *rooms.House, words string) []records.Activity {
	t.Helper()
	as, err := h.Trail.Lines(t.Context(), records.Sought{Limit: 50, Text: words})
	require.NoError(t, err)
	return as
}

// spec is a group's specification at a site.
func spec(t *testing.T, h *rooms.House, id string) group.Spec {
	t.Helper()
	r, ok := h.Groups.Get(id)
	require.True(t, ok)
	return r.Spec
}

// What is wrong with a new group is told by field, all of it at once, changes
// nothing, and is what a forecast of the same form says.
func TestWhatIsWrongWithANewGroup(t *testing.T) {
	ctx, home, recovery := rooms.Paired(t)
	ticketing(t, ctx, home)
	for name, c := range map[string]struct {
		change func(in *api.NewGroup)
		says   []string // field: words
	}{
		"no name":               {func(in *api.NewGroup) { in.Name = "" }, []string{"name: "}},
		"a taken name":          {func(in *api.NewGroup) { in.Name = "TICKETING" }, []string{"name: ", "Ticketing"}},
		"300 characters":        {func(in *api.NewGroup) { in.Name = strings.Repeat("n", 300) }, []string{"name: "}},
		"a colon":               {func(in *api.NewGroup) { in.Name = "a:b" }, []string{"name: "}},
		"an unknown site":       {func(in *api.NewGroup) { in.Link = "Eastmoel" }, []string{"link: ", `Did you mean "Eastmole"?`}},
		"no site":               {func(in *api.NewGroup) { in.Link = "" }, []string{"link: Name the recovery site"}},
		"no machines":           {func(in *api.NewGroup) { in.Machines = []string{} }, []string{"machines: "}},
		"an unknown machine":    {func(in *api.NewGroup) { in.Machines = []string{"gaet"} }, []string{"machines[0]: ", `did you mean "gate"?`}},
		"a machine twice":       {func(in *api.NewGroup) { in.Machines = []string{"gate", "GATE"} }, []string{"machines[1]: gate is named twice"}},
		"one that has no disks": {func(in *api.NewGroup) { in.Machines = []string{"gate", "router"} }, []string{"machines[1]: router cannot be protected", "Attach a disk"}},
		"one of another group":  {func(in *api.NewGroup) { in.Machines = []string{"tick-db"} }, []string{"machines", "Ticketing"}},
		"too many": {func(in *api.NewGroup) {
			in.Machines = make([]string, group.MaxMachines+1)
		}, []string{"machines: A group has at most"}},
		"a target below zero":      {func(in *api.NewGroup) { in.Promise.RpoTargetSeconds = -5 }, []string{"promise.rpoTargetSeconds: "}},
		"a target beyond time":     {func(in *api.NewGroup) { in.Promise.RpoTargetSeconds = 1 << 62 }, []string{"promise.rpoTargetSeconds: "}},
		"a ladder of no time":      {func(in *api.NewGroup) { in.Promise.Keep = []api.Rung{{EachSeconds: 60, ForSeconds: 0}} }, []string{"promise.keep"}},
		"a text that says nothing": {func(in *api.NewGroup) { in.PromiseText = &api.PromiseText{RpoTarget: new("soon")} }, []string{"promise.rpoTargetSeconds: \"soon\" is not a span"}},
		"two things":               {func(in *api.NewGroup) { in.Name, in.Machines = "", []string{"gaet"} }, []string{"name: ", "machines[0]: "}},
	} {
		t.Run(name, func(t *testing.T) {
			in := rooms.NewGroup()
			in.Name, in.Machines = "Timetable", []string{"gate"}
			c.change(&in)
			_, err := home.Protection.Create(ctx, rooms.Anna(), in)
			p := refusal(t, err)
			for _, s := range c.says {
				require.Contains(t, told(p), s)
			}
			f, err := home.Protection.Forecast(ctx, api.ForecastRequest{Name: &in.Name, Link: &in.Link, Machines: &in.Machines, PromiseText: in.PromiseText,
				Promise: &api.PromisePatch{RpoTargetSeconds: &in.Promise.RpoTargetSeconds, CadenceSeconds: &in.Promise.CadenceSeconds, Keep: &in.Promise.Keep}})
			require.NoError(t, err)
			var saved, foretold []string
			for _, x := range p.Errors {
				saved = append(saved, x.Field+": "+x.Message)
			}
			for _, x := range f.Faults {
				foretold = append(foretold, x.Field+": "+x.Message)
			}
			require.Equal(t, saved, foretold, "a forecast finds what saving refuses")
		})
	}
	require.Len(t, home.Groups.All(), 1)
	require.Len(t, recovery.Groups.All(), 1)
}

// A group is known at the other site before its first cycle, and an edit is there
// when it returns.
func TestAGroupAndItsEditsAreKnownAtBothSites(t *testing.T) {
	ctx, home, recovery := rooms.Paired(t)
	g := ticketing(t, ctx, home)
	require.Equal(t, spec(t, home, g.ID), spec(t, recovery, g.ID))
	require.Empty(t, lines(t, home, "cut off"))
	require.NoError(t, home.Protection.Update(ctx, rooms.Anna(), g.ID, api.GroupPatch{Tags: &[]string{"gold"}, PromiseText: &api.PromiseText{RpoTarget: new("3 h"), Cadence: new("every 90 min"), Keep: new("all 2h, 1d 5d")}}, &g.Revision))
	is := spec(t, recovery, g.ID)
	require.Equal(t, []string{"gold"}, is.Tags)
	require.Equal(t, 3*time.Hour, is.Promise.Target)
	require.Equal(t, 90*time.Minute, is.Promise.Cadence.Every)
	require.Len(t, is.Promise.Keep, 2)
	as := lines(t, home, "changed the group")
	require.Len(t, as, 1)
	require.Contains(t, as[0].Text, "anna")
	require.Equal(t, rooms.Anna().From, as[0].Origin)
	for _, change := range []string{"2 h", "3 h", "gold"} {
		require.Contains(t, string(as[0].Changes), change)
	}
	require.NoError(t, home.Protection.Update(ctx, rooms.Anna(), g.ID, api.GroupPatch{Tags: &[]string{"gold"}}, nil))
	require.Len(t, lines(t, home, "changed the group"), 1, "what changes nothing is no line")
}

// What was looked at is compared, at home and through the recovery site alike: a
// stale form learns what changed meanwhile, and by whom.
func TestStaleEditsAreRefusedAtBothSites(t *testing.T) {
	ctx, home, recovery := rooms.Paired(t)
	g := ticketing(t, ctx, home)
	require.NoError(t, home.Protection.Update(ctx, rooms.Anna(), g.ID, api.GroupPatch{Priority: new("high")}, nil))
	for _, h := range []*rooms.House{home, recovery} {
		p := refusal(t, h.Protection.Update(ctx, ben, g.ID, api.GroupPatch{Priority: new("low")}, &g.Revision))
		require.Equal(t, http.StatusPreconditionFailed, p.Status, h.Name)
		require.Contains(t, told(p), "anna")
		require.Contains(t, told(p), "high")
	}
	require.Equal(t, group.High, spec(t, home, g.ID).Priority)
	now, err := recovery.Overview.Group(g.ID)
	require.NoError(t, err)
	require.NoError(t, recovery.Protection.Update(ctx, ben, g.ID, api.GroupPatch{Priority: new("low")}, &now.Revision))
	require.Equal(t, group.Low, spec(t, home, g.ID).Priority)
	as := lines(t, home, "changed the group")
	require.Equal(t, "site", as[0].Actor, "somebody there is nobody here")
	require.Contains(t, as[0].Who, "ben")
	require.Contains(t, as[0].Who, rooms.RecoveryName)
}

// Where no revision is given, edits of different fields all hold, and no edit is
// lost, whichever site they come by.
func TestEditsFromBothSitesAtOnceAllHold(t *testing.T) {
	ctx, home, recovery := rooms.Paired(t)
	g := ticketing(t, ctx, home)
	edits := map[string]api.GroupPatch{
		"tags":     {Tags: &[]string{"gold"}},
		"priority": {Priority: new("high")},
		"compare":  {CompareEverySeconds: new(int64(7 * 24 * 3600))},
		"together": {Together: new(false)},
		"target":   {PromiseText: &api.PromiseText{RpoTarget: new("5 h")}},
		"name":     {Name: new("Tickets")},
	}
	done := make(chan error)
	sites := []*rooms.House{home, recovery}
	n := 0
	for _, p := range edits {
		n++
		h := sites[n%2]
		go func() { done <- h.Protection.Update(ctx, rooms.Anna(), g.ID, p, nil) }()
	}
	for range edits {
		require.NoError(t, <-done)
	}
	for _, h := range sites {
		require.NoError(t, h.Until(ctx, func() bool { return spec(t, h, g.ID).Name == "Tickets" }))
		is := spec(t, h, g.ID)
		require.Equal(t, []string{"gold"}, is.Tags, h.Name)
		require.Equal(t, group.High, is.Priority)
		require.Equal(t, 7*24*time.Hour, is.CompareEvery)
		require.True(t, is.Apart)
		require.Equal(t, 5*time.Hour, is.Promise.Target)
	}
	r, _ := home.Groups.Get(g.ID)
	require.EqualValues(t, int(g.Revision)+len(edits), r.Revision)
}

// What home refuses, the recovery site refuses in the same words.
func TestTheRecoverySiteAsksHome(t *testing.T) {
	ctx, home, recovery := rooms.Paired(t)
	g := ticketing(t, ctx, home)
	for name, in := range map[string]api.GroupPatch{
		"a machine that is unknown": {Machines: &[]string{"gaet"}},
		"a priority":                {Priority: new("urgent")},
		"quiescing of a lab":        {Quiesce: &[]api.QuiesceOf{{Machine: "tick-db", Mode: "try"}}},
		"of a machine elsewhere":    {Quiesce: &[]api.QuiesceOf{{Machine: "gate", Mode: "try"}}},
		"a promise":                 {PromiseText: &api.PromiseText{RpoTarget: new("1 s")}},
	} {
		a := refusal(t, home.Protection.Update(ctx, rooms.Anna(), g.ID, in, nil))
		b := refusal(t, recovery.Protection.Update(ctx, rooms.Anna(), g.ID, in, nil))
		require.Equal(t, told(a), told(b), name)
	}
	require.NoError(t, recovery.Protection.Update(ctx, ben, g.ID, api.GroupPatch{Machines: &[]string{"tick-db", "tick-app"}}, nil), "home's machines, by name")
	require.Len(t, spec(t, home, g.ID).Machines, 2)

	let := home.Shed.Hold()
	require.NoError(t, recovery.Protection.Run(ctx, ben, g.ID, true))
	require.NoError(t, home.Until(ctx, func() bool { return home.Mover.Busy(g.ID) }))
	require.Contains(t, told(refusal(t, recovery.Protection.Run(ctx, ben, g.ID, false))), "running already")
	let()
	require.NoError(t, home.Until(ctx, func() bool { return home.Keeper.Holding(g.ID).Points == 2 }))
	cs, err := home.Overview.Cycles(ctx, g.ID, 0, 0, time.Time{})
	require.NoError(t, err)
	require.Equal(t, "compare", cs[0].Kind)
	require.Contains(t, lines(t, home, "asked for a comparison")[0].Who, "ben")

	home.Leave()
	p := refusal(t, recovery.Protection.Run(ctx, ben, g.ID, false))
	require.Equal(t, http.StatusBadGateway, p.Status)
	require.Contains(t, told(p), "Norhaven owns this group's settings and cannot be asked")
	require.Equal(t, http.StatusBadGateway, refusal(t, recovery.Protection.Update(ctx, ben, g.ID, api.GroupPatch{Priority: new("low")}, nil)).Status)
}

// What a peer may ask of a group is known, of groups that are home here.
func TestWhatAPeerMayAsk(t *testing.T) {
	ctx, home, recovery := rooms.Paired(t)
	g := ticketing(t, ctx, home)
	there := actor.Actor{Kind: actor.Site, Name: rooms.RecoveryName}
	for name, c := range map[string]struct{ id, action, body, says string }{
		"another act":      {g.ID, "burn", `{}`, "not known"},
		"a body of noise":  {g.ID, "run", `[`, "body"},
		"an edit of noise": {g.ID, "edit", `{"patch":7}`, "body"},
		"an end of noise":  {g.ID, "delete", `{"points":"perhaps"}`, "points"},
		"no group":         {uuid.NewString(), "run", `{}`, "group"},
	} {
		require.Contains(t, told(refusal(t, home.Protection.Act(ctx, there, c.id, c.action, []byte(c.body)))), c.says, name)
	}
	require.Error(t, recovery.Protection.Act(ctx, there, g.ID, "run", []byte(`{}`)), "it is home elsewhere")
	require.Equal(t, g.Revision, func() int64 { r, _ := home.Groups.Get(g.ID); return r.Revision }())
}

// A pause has a length and a reason, which both sites tell; a paused group runs on
// nobody's word.
func TestPauses(t *testing.T) {
	ctx, home, recovery := rooms.Paired(t)
	g := ticketing(t, ctx, home)
	for name, in := range map[string]api.PauseRequest{
		"reason":     {Reason: new("two\nlines")},
		"forSeconds": {ForSeconds: new(int64(-1))},
	} {
		p := refusal(t, home.Protection.Pause(ctx, ben, g.ID, &in))
		require.Equal(t, name, p.Errors[0].Field)
	}
	require.Error(t, home.Protection.Pause(ctx, ben, g.ID, &api.PauseRequest{ForSeconds: new(int64(1 << 62))}))
	require.NoError(t, recovery.Protection.Pause(ctx, ben, g.ID, &api.PauseRequest{ForSeconds: new(int64(7200)), Reason: new(" the pier is dredged ")}))
	for _, h := range []*rooms.House{home, recovery} {
		v, err := h.Overview.Group(g.ID)
		require.NoError(t, err)
		require.True(t, v.Paused)
		require.Equal(t, "the pier is dredged", v.Pause.Reason)
		require.Contains(t, v.Pause.By, "ben")
		require.WithinDuration(t, time.Now().Add(2*time.Hour), *v.Pause.Until, patience)
		require.Contains(t, told(refusal(t, h.Protection.Run(ctx, ben, g.ID, false))), "paused")
	}
	require.Contains(t, lines(t, home, "paused")[0].Text, "for 2 h: the pier is dredged")
	require.NoError(t, home.Protection.Resume(ctx, rooms.Anna(), g.ID))
	require.False(t, spec(t, recovery, g.ID).PausedAt(time.Now()))
	require.Len(t, lines(t, home, "resumed"), 1)
	in := rooms.NewGroup()
	in.Name, in.Machines, in.Paused = "Gates", []string{"gate"}, new(true)
	id, err := home.Protection.Create(ctx, rooms.Anna(), in)
	require.NoError(t, err)
	require.True(t, spec(t, recovery, id).PausedAt(time.Now()))
}

// A shorter ladder says what it would drop, before and when it is refused, at home
// as at the recovery site; when it is allowed, just that goes.
func TestAShorterLadderSaysWhatGoesAtBothSites(t *testing.T) {
	ctx, home, recovery := rooms.Paired(t)
	g := ticketing(t, ctx, home)
	for n := range 2 {
		require.NoError(t, home.Protection.Run(ctx, ben, g.ID, false))
		require.NoError(t, home.Until(ctx, func() bool { return home.Keeper.Holding(g.ID).Points == n+2 }))
	}
	in := api.GroupPatch{PromiseText: &api.PromiseText{Keep: new("all 1s")}}
	require.NoError(t, home.Until(ctx, func() bool { // until the older ones are older than a second
		v, err := recovery.Protection.Preview(ctx, g.ID, in)
		return err == nil && v.DropsPoints == 2
	}))
	for _, h := range []*rooms.House{home, recovery} {
		require.NoError(t, h.Until(ctx, func() bool {
			v, err := h.Protection.Preview(ctx, g.ID, in)
			return err == nil && v.DropsPoints == 2
		}), h.Name)
		v, err := h.Protection.Preview(ctx, g.ID, in)
		require.NoError(t, err)
		require.Equal(t, []int64{2, 1}, *v.DropsNumbers)
		require.NotNil(t, v.OldestLeftAt)
		require.Len(t, v.Changes, 1)
		require.Empty(t, v.Faults)
		p := refusal(t, h.Protection.Update(ctx, ben, g.ID, in, nil))
		require.Equal(t, http.StatusConflict, p.Status)
		require.Contains(t, told(p), "would drop 2 points of Ticketing at once (numbers 2 and 1)")
	}
	in.DropPoints = new(true)
	require.NoError(t, recovery.Protection.Update(ctx, ben, g.ID, in, nil))
	require.NoError(t, recovery.Until(ctx, func() bool { return len(recovery.Store.Points(g.ID)) == 1 }))
	require.EqualValues(t, 3, recovery.Store.Points(g.ID)[0].Number)
}

// A preview changes nothing and knows what saving would refuse.
func TestAPreviewRefusesWhatSavingRefuses(t *testing.T) {
	ctx, home, recovery := rooms.Paired(t)
	g := ticketing(t, ctx, home)
	other := rooms.NewGroup()
	other.Name, other.Machines = "Gates", []string{"gate"}
	_, err := home.Protection.Create(ctx, rooms.Anna(), other)
	require.NoError(t, err)
	for name, in := range map[string]api.GroupPatch{
		"a taken name":     {Name: new("gates")},
		"no machines":      {Machines: &[]string{}},
		"another's":        {Machines: &[]string{"tick-db", "gate"}},
		"an odd text":      {PromiseText: &api.PromiseText{Keep: new("for ever")}},
		"a target of zero": {Promise: &api.PromisePatch{RpoTargetSeconds: new(int64(0))}},
	} {
		v, err := home.Protection.Preview(ctx, g.ID, in)
		require.NoError(t, err, name)
		p := refusal(t, home.Protection.Update(ctx, rooms.Anna(), g.ID, in, nil))
		require.NotEmpty(t, v.Faults, name)
		require.Equal(t, p.Errors[0].Field, v.Faults[0].Field, name)
		require.Equal(t, p.Errors[0].Message, v.Faults[0].Message, name)
	}
	v, err := recovery.Protection.Preview(ctx, g.ID, api.GroupPatch{Name: new("Tickets"), Priority: new("low")})
	require.NoError(t, err)
	require.Len(t, v.Changes, 2)
	require.Equal(t, g.Revision, v.Revision)
	require.Equal(t, "Ticketing", spec(t, home, g.ID).Name)
}

// A group can be ended with its points or without; the recovery site is told, or
// hears of it when it is back.
func TestEnds(t *testing.T) {
	ctx, home, recovery := rooms.Paired(t)
	g := ticketing(t, ctx, home)
	require.Equal(t, http.StatusUnprocessableEntity, refusal(t, home.Protection.Delete(ctx, rooms.Anna(), g.ID, "", false)).Status)
	_, done, err := recovery.Store.Use(recovery.Store.Points(g.ID)[0].Point)
	require.NoError(t, err)
	require.Contains(t, told(refusal(t, home.Protection.Delete(ctx, rooms.Anna(), g.ID, "delete", false))), "being served or exported at Eastmole")
	done()
	require.NoError(t, home.Protection.Run(ctx, rooms.Anna(), g.ID, false), "what was refused changed nothing")
	require.NoError(t, home.Until(ctx, func() bool { return home.Keeper.Holding(g.ID).Points == 2 }))

	require.NoError(t, home.Protection.Delete(ctx, rooms.Anna(), g.ID, "keep", false))
	_, ok := home.Groups.Get(g.ID)
	require.False(t, ok)
	left, _ := recovery.Groups.Get(g.ID)
	require.Equal(t, directory.Ended, left.Direction)
	require.True(t, recovery.Keeper.Keeps(g.ID))
	v, err := recovery.Overview.Group(g.ID)
	require.NoError(t, err)
	require.Contains(t, v.Reasons[0], "Its 2 points are here, kept until they are deleted")
	for _, f := range []func() error{
		func() error { return recovery.Protection.Run(ctx, ben, g.ID, false) },
		func() error { return recovery.Protection.Resume(ctx, ben, g.ID) },
		func() error { return recovery.Protection.Delete(ctx, ben, g.ID, "keep", false) },
	} {
		require.Contains(t, told(refusal(t, f())), "has ended")
	}
	require.NoError(t, recovery.Protection.Delete(ctx, rooms.Anna(), g.ID, "delete", false))
	require.False(t, recovery.Keeper.Keeps(g.ID))
	require.Empty(t, recovery.Groups.All())
	again := ticketing(t, ctx, home)
	require.NoError(t, recovery.Protection.Delete(ctx, ben, again.ID, "delete", false), "asked for at the recovery site")
	require.Empty(t, home.Groups.All())
	require.Empty(t, recovery.Groups.All())
	require.Empty(t, recovery.Store.Points(""))
}

// Whoever owns home does not own the points at the recovery site: what home deletes
// waits there, is shown, and can be stopped; people there need not wait.
func TestHomeDeletesSlowly(t *testing.T) {
	ctx, home, recovery := rooms.Paired(t)
	recovery.Keeper.DeletionWait = 24 * time.Hour
	g := ticketing(t, ctx, home)
	require.NoError(t, home.Protection.Delete(ctx, rooms.Anna(), g.ID, "delete", false))
	require.Contains(t, lines(t, home, "deleted the group")[0].Text, "unless somebody there stops it")
	_, ok := home.Groups.Get(g.ID)
	require.False(t, ok)
	v, err := recovery.Overview.Group(g.ID)
	require.NoError(t, err)
	require.Equal(t, 1, v.Points)
	require.Contains(t, v.Deletion.AskedBy, rooms.HomeName)
	require.WithinDuration(t, time.Now().Add(24*time.Hour), v.Deletion.GoAt, patience)
	require.Contains(t, v.Reasons[0], "wants the points of this group deleted")
	b, err := recovery.Overview.Board(ctx, func(directory.Record) bool { return true }, listing.Page{})
	require.NoError(t, err)
	require.Equal(t, "deletion", b.Needs[0].State)
	require.Contains(t, b.Headline[0].Text, "1 point of Ticketing is to be deleted in")
	require.NoError(t, recovery.Protection.StopDeletion(ctx, ben, g.ID))
	require.Equal(t, http.StatusConflict, refusal(t, recovery.Protection.StopDeletion(ctx, ben, g.ID)).Status)
	require.Equal(t, http.StatusNotFound, refusal(t, recovery.Protection.StopDeletion(ctx, ben, "Tickets")).Status)
	v, err = recovery.Overview.Group(g.ID)
	require.NoError(t, err)
	require.Nil(t, v.Deletion)
	require.NoError(t, recovery.Protection.Delete(ctx, rooms.Anna(), g.ID, "delete", false))
	require.Empty(t, recovery.Store.Points(""))

	again := ticketing(t, ctx, home)
	require.NoError(t, recovery.Protection.Delete(ctx, rooms.Anna(), again.ID, "delete", false))
	require.Empty(t, recovery.Store.Points(""), "somebody here wants it")
	require.Contains(t, lines(t, home, "deleted the group")[0].Text, "points: deleted there")
}

// Without its recovery site a group ends only if that is said, and its points stay
// there, which hears of the end when it is back.
func TestAnEndThatTheRecoverySiteCannotHear(t *testing.T) {
	ctx, home, recovery := rooms.Paired(t)
	g := ticketing(t, ctx, home)
	recovery.Leave()
	p := refusal(t, home.Protection.Delete(ctx, rooms.Anna(), g.ID, "delete", false))
	require.Equal(t, http.StatusBadGateway, p.Status)
	require.Contains(t, told(p), "its points then stay there")
	_, ok := home.Groups.Get(g.ID)
	require.True(t, ok)
	require.NoError(t, home.Protection.Delete(ctx, rooms.Anna(), g.ID, "delete", true))
	_, ok = home.Groups.Get(g.ID)
	require.False(t, ok)
	require.Contains(t, lines(t, home, "deleted the group")[0].Text, "its points stay at Eastmole")
	require.NoError(t, recovery.Return())
	require.NoError(t, recovery.Until(ctx, func() bool {
		r, ok := recovery.Groups.Get(g.ID)
		return ok && r.Direction == directory.Ended
	}))
	require.True(t, recovery.Keeper.Keeps(g.ID))
}

// What home no longer knows can be ended at the recovery site.
func TestAGroupThatHomeForgot(t *testing.T) {
	ctx, home, recovery := rooms.Paired(t)
	g := ticketing(t, ctx, home)
	require.NoError(t, home.Groups.Delete(ctx, rooms.Anna(), g.ID, "gone"))
	require.NoError(t, recovery.Protection.Delete(ctx, rooms.Anna(), g.ID, "keep", false))
	r, _ := recovery.Groups.Get(g.ID)
	require.Equal(t, directory.Ended, r.Direction)
	require.Contains(t, lines(t, recovery, "not known at Norhaven")[0].Text, "anna ended it here")
}

// A forecast counts what is known: the machines' disks, the link's limit, the room
// over there; of a form that is half filled in, only what is there.
func TestAForecastOfAHalfFilledForm(t *testing.T) {
	ctx, home, _ := rooms.Paired(t)
	f, err := home.Protection.Forecast(ctx, api.ForecastRequest{PromiseText: &api.PromiseText{RpoTarget: new("2h"), Cadence: new("1h"), Keep: new("all 1d")}})
	require.NoError(t, err)
	require.Empty(t, f.Faults, "what is not filled in yet is no fault")
	require.Equal(t, 25, f.Points)
	require.NotEmpty(t, f.Starts)
	require.Zero(t, f.UsedBytes)
	f, err = home.Protection.Forecast(ctx, api.ForecastRequest{Machines: &[]string{"tick-db", "gate"}, Link: new("Eastmole"), PromiseText: &api.PromiseText{RpoTarget: new("2h"), Cadence: new("hand"), Keep: new("all 1d")}})
	require.NoError(t, err)
	require.EqualValues(t, 2*4096, f.UsedBytes)
	require.Nil(t, f.WorstSeconds, "by hand, nobody can say")
	require.Empty(t, f.Starts)
	_, err = home.Protection.Forecast(ctx, api.ForecastRequest{Group: new("Tickets")})
	require.Equal(t, http.StatusNotFound, refusal(t, err).Status)

	g := ticketing(t, ctx, home)
	f, err = home.Protection.Forecast(ctx, api.ForecastRequest{Group: &g.ID, Machines: &[]string{"tick-db", "router"}})
	require.NoError(t, err)
	require.True(t, slices.ContainsFunc(f.Faults, func(x api.FieldError) bool { return x.Field == "machines[1]" }), fmt.Sprint(f.Faults))
}

// A platform that fails is said to, by the group as well, and the group goes on by
// itself.
func TestAPlatformThatFails(t *testing.T) {
	ctx, home, _ := rooms.Paired(t)
	g := ticketing(t, ctx, home)
	home.Shed.Fail(errors.New("the shed is locked"))
	home.Inventory.Refresh(ctx, home.PlatformID)
	v, err := home.Overview.Group(g.ID)
	require.NoError(t, err)
	require.Equal(t, "cut off", v.Health)
	require.Contains(t, strings.Join(v.Reasons, " "), "The shed is locked")
	require.NoError(t, home.Protection.Run(ctx, ben, g.ID, false), "it waits for the platform")
	home.Shed.Fail(nil)
	home.Inventory.Refresh(ctx, home.PlatformID)
	home.Mover.Wake()
	require.NoError(t, home.Until(ctx, func() bool { return home.Keeper.Holding(g.ID).Points == 2 }))
}
