package e2e

import (
	"bytes"
	"context"
	"io"
	"net/http"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/chromedp/chromedp"
	"github.com/chromedp/chromedp/kb"
	"github.com/google/uuid"
	"github.com/stretchr/testify/require"

	"kestrel/internal/api"
	"kestrel/internal/platform"
	"kestrel/internal/problem"
	"kestrel/internal/support/browser"
)

// toRun is how tick-db and then tick-app arrive in a failover, on one network of a platform.
func toRun(place, store, network string, names string) api.Berth {
	return api.Berth{Platform: &place, Datastore: &store, Name: &names, Address: new("dhcp"), Networks: &[]api.BerthNetwork{{Home: "lan", Live: &network}},
		Machines: &[]api.BerthMachine{{Machine: "tick-app", Wave: new(2)}}, Waves: &[]api.BerthWave{{Number: 1, WaitSeconds: new(int64(1))}}}
}

// on counts the machines of a lab that are on, by their names.
func (l *testLab) on(names ...string) (n int) {
	for _, m := range l.Inventory().Machines {
		for _, x := range names {
			if m.Name == x && m.Power == platform.PowerOn {
				n++
			}
		}
	}
	return n
}

// failover is that of a group at a site.
func (s *siteProc) failover(id string) api.Failover {
	s.t.Helper()
	return must[api.Failover](s, http.MethodGet, "/failovers/"+id, nil)
}

// reaches waits until a failover is in a state.
func (w *world) reaches(s *siteProc, id, state string) (f api.Failover) {
	w.t.Helper()
	w.eventually("the failover is "+state, func() bool {
		f = s.failover(id)
		return f.State == state
	})
	return f
}

// blows kills one site after the other in each state that a failover comes by until it is in
// one, and tells which came by.
func (w *world) blows(at *siteProc, id, until string) (seen []string) {
	w.t.Helper()
	state := ""
	require.Eventually(w.t, func() bool {
		f := at.failover(id)
		if f.State == state {
			return state == until
		}
		state = f.State
		seen = append(seen, state)
		both := []*siteProc{w.recovery, w.home}
		for _, s := range both {
			s.kill()
		}
		for _, s := range both {
			s.spawn()
		}
		for _, s := range both {
			s.await()
		}
		return state == until
	}, 10*time.Minute, 50*time.Millisecond, "the failover is "+until)
	return seen
}

// oneHome fails if a group is home at both sites, or held at one and home at the other.
func (w *world) oneHome(id string) {
	w.t.Helper()
	homes := 0
	for _, s := range []*siteProc{w.home, w.recovery} {
		g := s.group(id)
		if g.Direction == "out" && g.Turned == nil || g.Turned != nil && *g.Turned == api.Held {
			homes++
		}
	}
	require.LessOrEqual(w.t, homes, 1)
}

// A planned failover goes its way whatever both services go through: they are killed in every
// state. It is backed out with nothing lost; then it is accepted, what differs is copied back,
// and the way back is the same the other way round.
func TestAPlannedFailoverAndTheWayBack(t *testing.T) {
	t.Parallel()
	w := paired(t)
	mole := w.mole()
	g := w.protect("Ticketing", promise(600, 2), "tick-db", "tick-app")
	must[api.BerthView](w.recovery, http.MethodPut, "/groups/"+g.ID+"/berth", api.WriteBerth{Berth: toRun("mole", "vault", "quay", "{name}")})
	at := "/groups/" + g.ID + "/failovers"
	_, bad := call[api.FailoverPlan](w.home, http.MethodPost, at+"/plan", api.NewFailover{Planned: new(true)})
	require.ErrorContains(t, bad, "held at Eastmole")
	plan := must[api.FailoverPlan](w.recovery, http.MethodPost, at+"/plan", api.NewFailover{Planned: new(true)})
	require.True(t, plan.HomeAnswers)
	require.ElementsMatch(t, []string{"tick-db", "tick-app"}, plan.RunsAtHome)
	require.Zero(t, plan.LosesSeconds)
	require.Len(t, plan.Machines, 2)
	require.Contains(t, plan.Costs[0], "Nothing of what is written is lost")
	_, bad = call[api.Failover](w.recovery, http.MethodPost, at, api.NewFailover{Planned: new(true), Confirm: new("ticketing")})
	require.Equal(t, []string{"confirm"}, fields(bad))
	require.Empty(t, must[[]api.Failover](w.recovery, http.MethodGet, "/failovers", nil))

	// Backed out when it has turned: home goes on with nothing lost.
	f := must[api.Failover](w.recovery, http.MethodPost, at, api.NewFailover{Planned: new(true), Confirm: new("Ticketing")})
	_, bad = call[api.Failover](w.recovery, http.MethodPost, at, api.NewFailover{Planned: new(true), Confirm: new("Ticketing")})
	require.ErrorContains(t, bad, "under way")
	seen := w.blows(w.recovery, f.ID, "open")
	require.Greater(t, len(seen), 2, "they were killed in some: %v", seen)
	f = w.reaches(w.recovery, f.ID, "open")
	require.Zero(t, f.LosesSeconds)
	require.Len(t, f.Machines, 2)
	require.Equal(t, 2, mole.landed(), "each once")
	require.Zero(t, w.lab.on("tick-db", "tick-app"), "home is off")
	w.oneHome(g.ID)
	require.Positive(t, w.served(must[api.Point](w.recovery, http.MethodGet, "/points/"+f.Point, nil)), "what was written last is there, to the byte")
	require.Equal(t, api.Held, *w.recovery.group(g.ID).Turned)
	w.eventually("home knows", func() bool { return w.home.group(g.ID).Turned != nil })
	_, bad = call[any](w.home, http.MethodPost, "/groups/"+g.ID+"/run", nil)
	require.ErrorContains(t, bad, "since a failover")
	_, bad = call[api.Group](w.home, http.MethodPatch, "/groups/"+g.ID, api.GroupPatch{Name: new("Fares")})
	require.ErrorContains(t, bad, "since a failover")
	_, bad = call[api.Drill](w.recovery, http.MethodPost, "/groups/"+g.ID+"/drills", api.NewDrill{})
	require.ErrorContains(t, bad, "under way")
	_, bad = call[api.Failover](w.recovery, http.MethodPost, "/failovers/"+f.ID+"/back-out", api.FailoverBackOut{Confirm: "Fares"})
	require.Equal(t, []string{"confirm"}, fields(bad))
	must[api.Failover](w.recovery, http.MethodPost, "/failovers/"+f.ID+"/back-out", api.FailoverBackOut{Confirm: "Ticketing", Reason: new("the pier was only flooded")})
	_, bad = call[api.Failover](w.recovery, http.MethodPost, "/failovers/"+f.ID+"/accept", api.FailoverAccept{Confirm: "Ticketing"})
	require.ErrorContains(t, bad, "backs out")
	w.blows(w.recovery, f.ID, "over")
	f = w.recovery.failover(f.ID)
	require.Equal(t, "backed out", *f.Result)
	require.Zero(t, mole.landed(), "no trace is left")
	w.eventually("home runs again, and is copied", func() bool {
		now := w.home.group(g.ID)
		return w.lab.on("tick-db", "tick-app") == 2 && now.Turned == nil && now.NewestCaptureAt.After(*f.EndedAt)
	})
	require.Nil(t, w.recovery.group(g.ID).Turned)

	// Accepted: this site is home, and what differs goes back.
	f = must[api.Failover](w.recovery, http.MethodPost, at, api.NewFailover{Planned: new(true), Confirm: new("Ticketing")})
	_, bad = call[api.Failover](w.recovery, http.MethodPost, "/failovers/"+f.ID+"/accept", api.FailoverAccept{Confirm: "Ticketing"})
	require.ErrorContains(t, bad, "when all of its machines have started")
	f = w.reaches(w.recovery, f.ID, "open")
	must[api.Failover](w.recovery, http.MethodPost, "/failovers/"+f.ID+"/accept", api.FailoverAccept{Confirm: "Ticketing"})
	w.blows(w.recovery, f.ID, "over")
	f = w.recovery.failover(f.ID)
	require.Equal(t, "accepted", *f.Result, f)
	require.Contains(t, *f.Summary, "nothing is lost")
	w.eventually("the groups have changed places, and are copied", func() bool {
		there, here := w.recovery.group(g.ID), w.home.group(g.ID)
		return there.Direction == "out" && here.Direction == "in" && here.Home == "Eastmole" && there.NewestCaptureAt != nil && there.NewestCaptureAt.After(*f.EndedAt)
	})
	require.Len(t, w.recovery.group(g.ID).Machines, 2)
	cycles := must[[]api.Cycle](w.recovery, http.MethodGet, "/groups/"+g.ID+"/cycles", nil)
	first := cycles[len(cycles)-1]
	require.Equal(t, "seed", string(first.Kind))
	require.Positive(t, first.ReadBytes)
	require.Less(t, first.WireBytes, first.ReadBytes/2, "only what differs crosses the link: %d of %d", first.WireBytes, first.ReadBytes)
	numbers := map[int64]bool{}
	for _, p := range w.recovery.points(g.ID) {
		require.False(t, numbers[p.Number], "each number once, in one history: %d", p.Number)
		numbers[p.Number] = true
	}
	require.Zero(t, w.lab.on("tick-db", "tick-app"), "home's old machines stay as they are")
	require.Equal(t, []int{1, 2}, []int{f.Waves[0].Wave, f.Waves[1].Wave})
	require.GreaterOrEqual(t, *f.Waves[1].TookSeconds, *f.Waves[0].TookSeconds)
	w.eventually("one history is listed at both sites", func() bool {
		var here, there []int64
		for _, p := range w.home.points(g.ID) {
			here = append(here, p.Number)
		}
		for _, p := range w.recovery.points(g.ID) {
			there = append(there, p.Number)
		}
		return len(here) > 2 && slices.Equal(here, there)
	})
	kept := must[api.Attainment](w.recovery, http.MethodGet, "/attainment?from="+f.StartedAt.Format(time.RFC3339), nil)
	require.Positive(t, kept.Total.PausedSeconds, "while nothing can be copied, no target is missed")
	var back api.BerthView
	w.eventually("how its machines return is known", func() bool {
		back = must[api.BerthView](w.home, http.MethodGet, "/groups/"+g.ID+"/berth", nil)
		return back.Revision > 0
	})
	require.Equal(t, "tick-db-2", back.Arrivals[0].Name.Value, "the old one is there still")
	require.Equal(t, "lan", back.Arrivals[0].Cards[0].Live.Network.Value)

	// The way back in the places of the old machines: backed out, those are as before.
	named := func(l *testLab) map[string]string {
		out := map[string]string{}
		for _, m := range l.Inventory().Machines {
			out[m.Name] = m.ID
		}
		return out
	}
	before := named(w.lab)
	_, bad = call[api.FailoverPlan](w.recovery, http.MethodPost, at+"/plan", api.NewFailover{InPlace: new(true)})
	require.ErrorContains(t, bad, "is home here")
	old := must[api.FailoverPlan](w.home, http.MethodPost, at+"/plan", api.NewFailover{Planned: new(true), InPlace: new(true)})
	require.Equal(t, "tick-db", old.Machines[0].Name)
	require.True(t, *old.Machines[0].InPlace)
	require.Contains(t, old.Costs[len(old.Costs)-1], "removed with its disks")
	other := func(x *platform.Inventory) {
		for i := range x.Machines {
			x.Machines[i].Disks = append(x.Machines[i].Disks, platform.Disk{Key: "disk-9", SizeBytes: 1 << 20})
			x.Machines[i].NICs = nil
		}
	}
	w.lab.alters.Store(&other)
	w.eventually("what differs from the old ones does not come in their places", func() bool {
		_, bad := call[api.FailoverPlan](w.home, http.MethodPost, at+"/plan", api.NewFailover{InPlace: new(true)})
		return bad != nil && slices.Equal(fields(bad), []string{"inPlace", "inPlace", "inPlace", "inPlace"})
	})
	w.lab.alters.Store(nil)
	w.eventually("they are as they were", func() bool {
		_, bad := call[api.FailoverPlan](w.home, http.MethodPost, at+"/plan", api.NewFailover{InPlace: new(true)})
		return bad == nil
	})
	o := must[api.Failover](w.home, http.MethodPost, at, api.NewFailover{Planned: new(true), InPlace: new(true), Confirm: new("Ticketing")})
	o = w.reaches(w.home, o.ID, "open")
	require.Equal(t, []string{"tick-db", "tick-app"}, *o.InPlace)
	now := named(w.lab)
	require.Len(t, now, len(before)+2, "the old ones are kept")
	require.NotEqual(t, before["tick-db"], now["tick-db"], "another has its name")
	require.Equal(t, 2, w.lab.on("tick-db", "tick-app"))
	must[api.Failover](w.home, http.MethodPost, "/failovers/"+o.ID+"/back-out", api.FailoverBackOut{Confirm: "Ticketing"})
	w.reaches(w.home, o.ID, "over")
	require.Equal(t, before, named(w.lab), "they have their names again")
	w.eventually("it runs where it is home", func() bool { return w.recovery.group(g.ID).Turned == nil && mole.on("tick-db", "tick-app") == 2 })

	// They are removed, with their disks, when somebody wants it.
	remove := "/groups/" + g.ID + "/former-machines/remove"
	_, bad = call[any](w.home, http.MethodPost, remove, api.RemoveFormerJSONRequestBody{Confirm: "ticketing"})
	require.Equal(t, []string{"confirm"}, fields(bad))
	_, bad = call[any](w.recovery, http.MethodPost, remove, api.RemoveFormerJSONRequestBody{Confirm: "Ticketing"})
	require.ErrorContains(t, bad, "no old machines here")
	require.Equal(t, []string{"tick-db", "tick-app"}, *w.home.group(g.ID).Former)
	must[any](w.home, http.MethodPost, remove, api.RemoveFormerJSONRequestBody{Confirm: "Ticketing"})
	for _, m := range w.lab.Inventory().Machines {
		require.NotContains(t, []string{"tick-db", "tick-app"}, m.Name)
	}
	require.Nil(t, w.home.group(g.ID).Former)

	// The way back, under the names that they had.
	b := must[api.Failover](w.home, http.MethodPost, at, api.NewFailover{Planned: new(true), Confirm: new("Ticketing")})
	b = w.reaches(w.home, b.ID, "open")
	require.Zero(t, b.LosesSeconds)
	require.Equal(t, 2, w.lab.on("tick-db", "tick-app"))
	require.Zero(t, mole.on("tick-db", "tick-app"))
	must[api.Failover](w.home, http.MethodPost, "/failovers/"+b.ID+"/accept", api.FailoverAccept{Confirm: "Ticketing"})
	b = w.reaches(w.home, b.ID, "over")
	w.eventually("all is as at first", func() bool {
		here, there := w.home.group(g.ID), w.recovery.group(g.ID)
		return here.Direction == "out" && there.Direction == "in" && there.Home == "Norhaven" && here.NewestCaptureAt != nil && here.NewestCaptureAt.After(*b.EndedAt)
	})
	require.Equal(t, int64(7), w.home.group(g.ID).Term, "each turn has a term of its own")

	// Once more over there, in the places of what ran there before.
	before = named(mole)
	w.eventually("it could run over there again", func() bool {
		_, bad = call[api.FailoverPlan](w.recovery, http.MethodPost, at+"/plan", api.NewFailover{Planned: new(true), InPlace: new(true)})
		return bad == nil
	})
	o = must[api.Failover](w.recovery, http.MethodPost, at, api.NewFailover{Planned: new(true), InPlace: new(true), Confirm: new("Ticketing")})
	o = w.reaches(w.recovery, o.ID, "open")
	require.Equal(t, 4, mole.landed())
	require.Contains(t, o.AcceptCosts[len(o.AcceptCosts)-1], "the old ones, are removed at Eastmole")
	must[api.Failover](w.recovery, http.MethodPost, "/failovers/"+o.ID+"/accept", api.FailoverAccept{Confirm: "Ticketing"})
	w.reaches(w.recovery, o.ID, "over")
	now = named(mole)
	require.Len(t, now, len(before), "only one of each is left: %v", now)
	require.Equal(t, 2, mole.landed())
	require.Equal(t, 2, mole.on("tick-db", "tick-app"))
	require.NotEqual(t, before["tick-db"], now["tick-db"])
	require.Nil(t, w.recovery.group(g.ID).Former)
	w.eventually("it is copied, and what ran at home is removed", func() bool {
		_, bad = call[any](w.home, http.MethodPost, remove, api.RemoveFormerJSONRequestBody{Confirm: "Ticketing"})
		return bad == nil
	})
	w.eventually("nothing of it is left", func() bool { return w.lab.landed() == 0 })

	// Each has its evidence, signed by the site that ran it.
	for s, n := range map[*siteProc]int{w.recovery: 3, w.home: 2} {
		register := must[api.EvidenceRegister](s, http.MethodGet, "/evidence", nil)
		require.Len(t, register.Items, n)
		for _, e := range register.Items {
			require.Equal(t, "failover", e.Kind)
		}
	}
}

// A failover that is not planned needs nothing of home. When home comes back it stands down,
// starts nothing, names what runs there and shuts it down when it is told to; backed out, it is
// home again.
func TestAFailoverWithoutHome(t *testing.T) {
	t.Parallel()
	w := paired(t)
	mole := w.mole()
	g := w.protect("Ticketing", promise(600, 2), "tick-db", "tick-app")
	must[api.BerthView](w.recovery, http.MethodPut, "/groups/"+g.ID+"/berth", api.WriteBerth{Berth: toRun("mole", "vault", "quay", "{name}")})
	at := "/groups/" + g.ID + "/failovers"
	_, bad := call[api.Failover](w.recovery, http.MethodPost, at, api.NewFailover{Confirm: new("Ticketing")})
	require.Equal(t, []string{"reason"}, fields(bad), "home answers")
	w.home.kill()
	_, bad = call[api.Failover](w.recovery, http.MethodPost, at, api.NewFailover{Planned: new(true), Confirm: new("Ticketing")})
	require.ErrorContains(t, bad, "cannot be asked")
	plan := must[api.FailoverPlan](w.recovery, http.MethodPost, at+"/plan", api.NewFailover{})
	require.False(t, plan.HomeAnswers)
	require.Contains(t, plan.Known[1], "two running copies")
	f := must[api.Failover](w.recovery, http.MethodPost, at, api.NewFailover{Confirm: new("Ticketing"), Point: new(plan.Point)})
	f = w.reaches(w.recovery, f.ID, "open")
	require.Positive(t, f.LosesSeconds+1)
	require.Equal(t, 2, mole.landed())
	w.eventually("it is told of, until somebody decides", func() bool {
		for _, a := range must[[]api.Alert](w.recovery, http.MethodGet, "/alerts", nil) {
			if a.Kind == "failed over" {
				return true
			}
		}
		return false
	})

	// Another point: what was started is made anew.
	points := w.recovery.points(g.ID)
	older := points[len(points)-1]
	must[api.Failover](w.recovery, http.MethodPost, "/failovers/"+f.ID+"/point", api.FailoverPoint{Confirm: "Ticketing", Point: &older.ID})
	w.recovery.kill()
	w.recovery.start()
	w.eventually("it runs from the older point", func() bool {
		f = w.recovery.failover(f.ID)
		return f.State == "open" && f.Point == older.ID && len(f.AcceptCosts) > 1
	})
	require.Equal(t, 2, mole.landed(), "each once")

	// Only some of its machines.
	_, bad = call[api.Failover](w.recovery, http.MethodPost, "/failovers/"+f.ID+"/point", api.FailoverPoint{Confirm: "Ticketing", Point: &older.ID, Machines: &[]string{"tick-db", "fares"}})
	require.Equal(t, []string{"machines"}, fields(bad))
	must[api.Failover](w.recovery, http.MethodPost, "/failovers/"+f.ID+"/point", api.FailoverPoint{Confirm: "Ticketing", Point: &older.ID, Machines: &[]string{"tick-db"}})
	w.eventually("it runs with one of them", func() bool {
		f = w.recovery.failover(f.ID)
		return f.State == "open" && len(f.Machines) == 1 && len(f.AcceptCosts) > 1
	})
	require.Equal(t, []string{"tick-app"}, f.LeftOut)
	require.Contains(t, f.AcceptCosts[1], "tick-app was not started here")
	require.Equal(t, 1, mole.landed())

	// Home comes back, with its machines running.
	w.home.start()
	w.eventually("home stands down and says what runs there", func() bool {
		here := w.home.group(g.ID)
		return here.Turned != nil && *here.Turned == api.Away && here.RunsHere != nil && len(*here.RunsHere) == 2
	})
	w.oneHome(g.ID)
	before := len(w.home.points(g.ID))
	w.eventually("it is told of", func() bool {
		for _, a := range must[[]api.Alert](w.home, http.MethodGet, "/alerts", nil) {
			if a.Kind == "two copies" {
				return true
			}
		}
		return false
	})
	require.Contains(t, w.home.group(g.ID).Reasons[0], "two running copies")
	must[any](w.home, http.MethodPost, "/groups/"+g.ID+"/former-machines/shut-down", api.ShutDownFormer{})
	w.eventually("they are off", func() bool {
		return w.lab.on("tick-db", "tick-app") == 0 && w.home.group(g.ID).RunsHere == nil
	})
	require.Len(t, w.home.points(g.ID), before, "its cycles do not go on")
	_, bad = call[any](w.home, http.MethodPost, "/groups/"+g.ID+"/former-machines/shut-down", api.ShutDownFormer{AtOnce: new(true)})
	require.ErrorContains(t, bad, "no machine here that runs")

	must[api.Failover](w.recovery, http.MethodPost, "/failovers/"+f.ID+"/back-out", api.FailoverBackOut{Confirm: "Ticketing"})
	w.blows(w.recovery, f.ID, "over")
	require.Zero(t, mole.landed())
	w.eventually("home is home again, and starts nothing by itself", func() bool {
		here := w.home.group(g.ID)
		return here.Turned == nil && here.Direction == "out" && w.recovery.group(g.ID).Turned == nil
	})
	require.Zero(t, w.lab.on("tick-db", "tick-app"))
}

// What stands in the way of a failover is said before it begins; what comes to stand in its way
// while it goes on holds it up, with why, until it is mended.
func TestWhatStandsInTheWayOfAFailover(t *testing.T) {
	t.Parallel()
	w := paired(t)
	mole := w.mole()
	g := w.protect("Ticketing", promise(600, 2), "tick-db", "tick-app")
	write := func(b api.Berth) {
		revision := must[api.BerthView](w.recovery, http.MethodGet, "/groups/"+g.ID+"/berth", nil).Revision
		must[api.BerthView](w.recovery, http.MethodPut, "/groups/"+g.ID+"/berth", api.WriteBerth{Revision: revision, Berth: b})
	}
	at := "/groups/" + g.ID + "/failovers"
	b := toRun("mole", "vault", "quay", "{name}")
	b.Address = nil // they keep what they have
	write(b)
	var noNetwork = func(x *platform.Inventory) {
		x.Networks = slices.DeleteFunc(x.Networks, func(n platform.Network) bool { return n.Name == "quay" })
	}
	noRoom := func(x *platform.Inventory) { x.Datastores[0].FreeBytes = 1 << 20 }
	taken := func(x *platform.Inventory) {
		x.Machines = append(x.Machines, platform.Machine{ID: "m-other", Name: "tick-app", Power: platform.PowerOn, CPUs: 1, MemoryBytes: 1 << 30})
	}
	has := must[api.BerthView](w.recovery, http.MethodGet, "/groups/"+g.ID+"/berth", nil).Arrivals[0].Cards[0].Address
	given := func(x *platform.Inventory) {
		x.Machines = append(x.Machines, platform.Machine{ID: "m-other", Name: "fares", Power: platform.PowerOn, CPUs: 1, MemoryBytes: 1 << 30, NICs: []platform.NIC{{MAC: "02:00:00:00:00:09", Network: "quay", Address: has}}})
	}
	// The platform is as that says when a plan would meet it; with nothing, all is well.
	comes := func(what, says string, alter func(*platform.Inventory)) {
		mole.alters.Store(nil)
		if alter != nil {
			mole.alters.Store(&alter)
		}
		w.eventually(what, func() bool {
			_, bad := call[api.FailoverPlan](w.recovery, http.MethodPost, at+"/plan", api.NewFailover{})
			return says == "" && bad == nil || bad != nil && says != "" && len(bad.Errors) > 0 && strings.Contains(bad.Errors[0].Message, says)
		})
	}
	for _, c := range []struct {
		what, says string
		shown      func(*platform.Inventory)
	}{
		{"a network is missing", "no network", noNetwork},
		{"there is no room", "vault", noRoom},
		{"a name is taken", "tick-app", taken},
		{"an address is taken", "fares has it", given},
	} {
		comes(c.what, c.says, c.shown)
		for _, planned := range []bool{true, false} {
			_, bad := call[api.Failover](w.recovery, http.MethodPost, at, api.NewFailover{Planned: &planned, Confirm: new("Ticketing"), Reason: new("a trial")})
			require.NotNil(t, bad, c.what)
			require.NotEmpty(t, bad.Errors, c.what)
			require.Contains(t, bad.Errors[0].Message, c.says, c.what)
		}
	}
	require.Equal(t, 2, w.lab.on("tick-db", "tick-app"), "home was asked for nothing")
	require.Empty(t, must[[]api.Failover](w.recovery, http.MethodGet, "/failovers", nil))

	comes("all is well", "", nil)
	f := must[api.Failover](w.recovery, http.MethodPost, at, api.NewFailover{Planned: new(true), Confirm: new("Ticketing")})
	must[api.Failover](w.recovery, http.MethodPost, "/failovers/"+f.ID+"/steer", api.FailoverSteer{Action: "stop"})
	mole.alters.Store(&noNetwork)
	must[api.Failover](w.recovery, http.MethodPost, "/failovers/"+f.ID+"/steer", api.FailoverSteer{Action: "go-on"})
	w.eventually("it is held up, and says why", func() bool {
		f = w.recovery.failover(f.ID)
		return f.Error != nil && strings.Contains(*f.Error, "quay")
	})
	require.Equal(t, "starting", f.State)
	require.Zero(t, mole.landed())
	mole.alters.Store(nil)
	f = w.reaches(w.recovery, f.ID, "open")
	require.Equal(t, 2, mole.landed())
	must[api.Failover](w.recovery, http.MethodPost, "/failovers/"+f.ID+"/back-out", api.FailoverBackOut{Confirm: "Ticketing"})
	w.reaches(w.recovery, f.ID, "over")
	require.Zero(t, mole.landed())
}

// A group that runs here unprotected, since its home is gone, is copied to a third site. When the
// one that was its home comes back, it hears where the group runs.
func TestATakenOverGroupIsCopiedToAThirdSite(t *testing.T) {
	t.Parallel()
	w := paired(t)
	mole := w.mole()
	g := w.protect("Ticketing", promise(36000, 18000), "tick-db", "tick-app") // of five hours is none by itself
	must[api.BerthView](w.recovery, http.MethodPut, "/groups/"+g.ID+"/berth", api.WriteBerth{Berth: toRun("mole", "vault", "quay", "{name}")})
	third := newSite(t, "Carrach")
	inv := must[api.InvitationSecret](third, http.MethodPost, "/invitations", api.NewInvitation{})
	must[api.Link](w.recovery, http.MethodPost, "/links", api.AcceptInvitation{Invitation: inv.Text})
	to := "/groups/" + g.ID + "/destination"
	_, bad := call[api.Group](w.recovery, http.MethodPut, to, api.GroupDestination{Link: "Carrach", Confirm: "Ticketing"})
	require.ErrorContains(t, bad, "is home at Norhaven")
	w.home.kill()
	f := must[api.Failover](w.recovery, http.MethodPost, "/groups/"+g.ID+"/failovers", api.NewFailover{Confirm: new("Ticketing")})
	w.reaches(w.recovery, f.ID, "open")
	_, bad = call[api.Group](w.recovery, http.MethodPut, to, api.GroupDestination{Link: "Carrach", Confirm: "Ticketing"})
	require.ErrorContains(t, bad, "home at Norhaven")
	must[api.Failover](w.recovery, http.MethodPost, "/failovers/"+f.ID+"/accept", api.FailoverAccept{Confirm: "Ticketing", Unprotected: new(true)})
	w.reaches(w.recovery, f.ID, "over")
	for _, c := range []struct {
		in    api.GroupDestination
		field string
	}{{api.GroupDestination{Link: "Nowhere", Confirm: "Ticketing"}, "link"}, {api.GroupDestination{Link: "Norhaven", Confirm: "Ticketing"}, "link"}, {api.GroupDestination{Link: "Carrach", Confirm: "ticketing"}, "confirm"}} {
		_, bad = call[api.Group](w.recovery, http.MethodPut, to, c.in)
		require.Equal(t, []string{c.field}, fields(bad))
	}
	moved := must[api.Group](w.recovery, http.MethodPut, to, api.GroupDestination{Link: "Carrach", Confirm: "Ticketing"})
	require.Equal(t, "Carrach", moved.Recovery)
	require.Nil(t, moved.NewestCaptureAt, "nothing of it is there")
	must[api.Group](w.recovery, http.MethodPost, "/groups/"+g.ID+"/resume", nil)
	w.eventually("it is copied there", func() bool {
		x, refused := call[api.Group](third, http.MethodGet, "/groups/"+g.ID, nil)
		return refused == nil && x.Points > 0 && x.Home == "Eastmole"
	})
	require.Positive(t, (&world{t: t, home: w.recovery, recovery: third, lab: mole}).served(third.points(g.ID)[0]), "to the byte")
	earlier := 0
	for _, p := range w.recovery.points(g.ID) {
		if p.Held {
			earlier++
		}
	}
	require.Positive(t, earlier, "what was there before is there still")

	w.home.start()
	w.eventually("its home of before stands down, and says what runs there", func() bool {
		here := w.home.group(g.ID)
		return here.Turned != nil && *here.Turned == api.Away && here.RunsHere != nil
	})
	before := len(w.home.points(g.ID))
	must[api.Group](w.recovery, http.MethodPost, "/groups/"+g.ID+"/run", nil)
	w.eventually("it is copied on", func() bool { return len(third.points(g.ID)) > 1 })
	require.Len(t, w.home.points(g.ID), before)

	// To the one that was its home: as at first, and at once.
	must[api.Group](w.recovery, http.MethodPut, to, api.GroupDestination{Link: "Norhaven", Confirm: "Ticketing"})
	w.eventually("it is copied to its home of before", func() bool {
		here := w.home.group(g.ID)
		return here.Direction == "in" && here.Home == "Eastmole" && here.Points > 0
	})
	w.eventually("the third knows that it is over there", func() bool { return third.group(g.ID).Direction == "ended" })
	require.Positive(t, len(third.points(g.ID)), "its points are there still")
}

// People steer a failover: it is stopped and goes on, a check that never passes is waited for
// no longer, with why; machines at home that do not shut down are switched off on somebody's
// word. Accepted unprotected, it says so until it is resumed.
func TestAFailoverIsSteered(t *testing.T) {
	t.Parallel()
	w := paired(t)
	mole := w.mole()
	g := w.protect("Ticketing", promise(600, 2), "tick-db", "tick-app")
	b := toRun("mole", "vault", "quay", "{name}")
	b.Waves = &[]api.BerthWave{{Number: 1, Check: new("port 65001"), LimitSeconds: new(int64(1800))}}
	must[api.BerthView](w.recovery, http.MethodPut, "/groups/"+g.ID+"/berth", api.WriteBerth{Berth: b})
	f := must[api.Failover](w.recovery, http.MethodPost, "/groups/"+g.ID+"/failovers", api.NewFailover{Planned: new(true), Confirm: new("Ticketing"), DownSeconds: new(int64(10))})
	steer := func(in api.FailoverSteer) *problem.Problem {
		_, bad := call[api.Failover](w.recovery, http.MethodPost, "/failovers/"+f.ID+"/steer", in)
		return bad
	}
	require.Nil(t, steer(api.FailoverSteer{Action: "stop"}))
	require.ErrorContains(t, steer(api.FailoverSteer{Action: "stop"}), "has stopped it already")
	state := w.recovery.failover(f.ID)
	require.True(t, state.Stopped)
	w.recovery.kill()
	w.recovery.start()
	before := len(w.recovery.points(g.ID))
	w.eventually("home goes on meanwhile", func() bool { return len(w.recovery.points(g.ID)) > before+1 })
	require.Equal(t, state.State, w.recovery.failover(f.ID).State, "it has gone no further")
	require.Equal(t, 2, w.lab.on("tick-db", "tick-app"))
	require.ErrorContains(t, steer(api.FailoverSteer{Action: "switch-off"}), "is waited for")
	require.Nil(t, steer(api.FailoverSteer{Action: "go-on"}))
	w.eventually("the first wave has started", func() bool { return mole.on("tick-db") == 1 })
	require.Equal(t, []string{"machine"}, fields(steer(api.FailoverSteer{Action: "skip", Machine: new("gate"), Reason: new("it is known")})))
	require.Equal(t, []string{"reason"}, fields(steer(api.FailoverSteer{Action: "skip", Machine: new("tick-db")})))
	require.Zero(t, mole.on("tick-app"), "the second wave waits for the check of the first")
	w.eventually("its check is waited for no longer", func() bool {
		return steer(api.FailoverSteer{Action: "skip", Machine: new("tick-db"), Reason: new("the port is closed at this site")}) == nil
	})
	f = w.reaches(w.recovery, f.ID, "open")
	require.Contains(t, *f.Machines[0].Check, "the port is closed at this site")
	require.True(t, f.Machines[0].Missed)
	must[api.Failover](w.recovery, http.MethodPost, "/failovers/"+f.ID+"/accept", api.FailoverAccept{Confirm: "Ticketing", Unprotected: new(true)})
	f = w.reaches(w.recovery, f.ID, "over")
	require.Contains(t, *f.Summary, "not as it should be: tick-db")
	told := func(kind string) bool {
		for _, a := range must[[]api.Alert](w.recovery, http.MethodGet, "/alerts", nil) {
			if a.Kind == kind && a.ClearedAt == nil {
				return true
			}
		}
		return false
	}
	w.eventually("that it is unprotected is told", func() bool { return told("unprotected") })
	require.True(t, w.recovery.group(g.ID).Paused)
	must[api.Group](w.recovery, http.MethodPost, "/groups/"+g.ID+"/resume", nil)
	w.eventually("it is copied", func() bool {
		now := w.recovery.group(g.ID)
		return now.NewestCaptureAt != nil && now.NewestCaptureAt.After(*f.EndedAt)
	})
}

// A failover from the group's page to its evidence, in a browser and by keyboard: what it costs
// is said before, dangerous buttons want the group's name, and how it goes is seen.
func TestAFailoverInTheConsole(t *testing.T) {
	t.Parallel()
	if raceEnabled {
		t.Skip("the browser driver races with itself when it types; ./dev test runs this test without the race detector")
	}
	w := paired(t)
	mole := w.mole()
	g := w.protect("Ticketing", promise(600, 300), "tick-db", "tick-app")
	must[api.BerthView](w.recovery, http.MethodPut, "/groups/"+g.ID+"/berth", api.WriteBerth{Berth: toRun("mole", "vault", "quay", "{name}")})
	tab, stop, err := browser.Open(context.Background(), 1280, 800)
	require.NoError(t, err, "./dev test installs it")
	defer stop()
	do(t, tab, "the list", browser.SignIn(w.recovery.url, person, password), chromedp.Navigate(w.recovery.url+"/failovers"), browser.See("No group was failed over to this site yet"))
	do(t, tab, "the dialog", chromedp.Navigate(w.recovery.url+"/groups/"+g.ID), browser.Press("Failover…"), browser.See("Norhaven answers, and tick-db and tick-app run there."), browser.See("Nothing of what is written is lost"), browser.See("Wave 2: tick-app (quay)"))
	axe(t, tab, "the dialog of a failover")
	do(t, tab, "another kind", browser.Choose("How", "unplanned"), browser.See("Why it is not planned although Norhaven answers"), browser.Choose("How", "planned"))
	do(t, tab, "start it by keyboard", browser.Fill("To go on, type the group's name: Ticketing", "Ticketing"), browser.See("Nothing of what is written is lost"), chromedp.KeyEvent(kb.Enter), browser.See("Failover of Ticketing"))
	do(t, tab, "see it open", browser.See("Accept it, or back out."), browser.See("What they showed"), browser.See("Norhaven gives the group away"))
	require.Equal(t, 2, mole.landed())
	axe(t, tab, "a failover that is open")
	do(t, tab, "the board", chromedp.Navigate(w.recovery.url+"/"), browser.See("Ticketing runs here since a failover"))
	do(t, tab, "back to it", chromedp.Navigate(w.recovery.url+"/groups/"+g.ID), browser.See("accept it, or back out"), browser.Press("Its failover"), browser.Press("Back out…"), browser.See("What its machines have written at Eastmole since they started is lost"))
	axe(t, tab, "what backing out costs")
	do(t, tab, "leave it", browser.Press("Leave it open"), browser.Press("Accept…"), browser.See("There is no backing out any more"), browser.Fill("To go on, type the group's name: Ticketing", "Ticketing"), browser.Press("Accept it"), browser.See("It was accepted: 2 machines ran at Eastmole"), browser.See("Evidence (PDF)"))
	axe(t, tab, "a failover that is over")
	do(t, tab, "the list", chromedp.Navigate(w.recovery.url+"/failovers"), browser.See("Accepted"))
	axe(t, tab, "failovers")
	res := w.recovery.raw(http.MethodGet, "/evidence/1?format=pdf", w.recovery.token, nil)
	pdf, err := io.ReadAll(res.Body)
	require.NoError(t, err)
	_ = res.Body.Close()
	c := exec.Command("pdftotext", "-layout", "-", "-")
	c.Stdin = bytes.NewReader(pdf)
	text, err := c.Output()
	require.NoError(t, err)
	for _, want := range []string{"Evidence 1 of Eastmole: failover of Ticketing", "A planned failover of Ticketing from Norhaven to Eastmole", "Accepted by", "The machines at Norhaven are shut down", "none; it is the first of this site"} {
		require.Contains(t, string(text), want)
	}
}

// With home and the recovery site's database gone, the point store alone is enough: it is
// adopted, the berth with it, and the group runs there. Home comes back, and hears of it when
// the sites are paired again.
func TestAFailoverFromTheStoreAlone(t *testing.T) {
	t.Parallel()
	w := paired(t)
	mole := w.mole()
	g := w.protect("Ticketing", promise(600, 2), "tick-db", "tick-app")
	b := toRun("mole", "vault", "quay", "{name}-em")
	b.Steps = &[]api.BerthStep{{Name: "rest", After: 1, Kind: "wait", SpanSeconds: new(int64(1))}}
	// Where they arrive is said of the link, which is gone with the database.
	must[api.BerthDefault](w.recovery, http.MethodPut, "/berths/link/Norhaven", api.WriteBerth{Berth: api.Berth{Platform: b.Platform, Datastore: b.Datastore, Networks: b.Networks}})
	b.Platform, b.Datastore, b.Networks = nil, nil, nil
	must[api.BerthView](w.recovery, http.MethodPut, "/groups/"+g.ID+"/berth", api.WriteBerth{Berth: b})
	w.home.kill()
	w.recovery.kill()
	db, err := cluster.Database(context.Background(), "t"+strings.ReplaceAll(uuid.NewString(), "-", ""))
	require.NoError(t, err)
	w.recovery.db = db
	out, err := w.recovery.kestrel(nil, "store", "adopt", filepath.Join(w.recovery.dir, "state", "store"), "--database", db)
	require.NoError(t, err, out)
	w.recovery.start()
	w.recovery.welcome()
	must[api.Platform](w.recovery, http.MethodPost, "/platforms", api.NewPlatform{Name: "mole", Kind: "lab", Address: mole.url, User: new("lab"), Password: new("lab-password")})

	at := "/groups/" + g.ID + "/failovers"
	_, bad := call[api.FailoverPlan](w.recovery, http.MethodPost, at+"/plan", api.NewFailover{Planned: new(true)})
	require.Equal(t, []string{"planned"}, fields(bad))
	var plan api.FailoverPlan
	w.eventually("it could begin", func() bool {
		plan, bad = call[api.FailoverPlan](w.recovery, http.MethodPost, at+"/plan", api.NewFailover{})
		return bad == nil
	})
	require.Equal(t, []string{"tick-db-em", "tick-app-em"}, []string{plan.Machines[0].Name, plan.Machines[1].Name}, "the berth came with the store")
	require.Equal(t, []string{"quay"}, plan.Machines[0].Networks, "with what was said of the link")
	require.Equal(t, "rest", plan.Runbook[0].Name, "and the runbook")
	require.Contains(t, plan.Known[0], "no more at Norhaven")
	f := must[api.Failover](w.recovery, http.MethodPost, at, api.NewFailover{Confirm: new("Ticketing")})
	f = w.reaches(w.recovery, f.ID, "open")
	require.Equal(t, 2, mole.landed())
	require.Equal(t, "failed over", w.recovery.group(g.ID).Health)
	_, bad = call[api.Failover](w.recovery, http.MethodPost, "/failovers/"+f.ID+"/accept", api.FailoverAccept{Confirm: "Ticketing"})
	require.Equal(t, []string{"unprotected"}, fields(bad))

	w.home.start()
	in := must[api.InvitationSecret](w.recovery, http.MethodPost, "/invitations", api.NewInvitation{})
	must[api.Link](w.home, http.MethodPost, "/links", api.AcceptInvitation{Invitation: in.Text})
	w.eventually("home stands down", func() bool {
		here := w.home.group(g.ID)
		return here.Turned != nil && *here.Turned == api.Away && here.RunsHere != nil
	})
	w.oneHome(g.ID)
	must[api.Failover](w.recovery, http.MethodPost, "/failovers/"+f.ID+"/accept", api.FailoverAccept{Confirm: "Ticketing"})
	f = w.reaches(w.recovery, f.ID, "over")
	require.Equal(t, "accepted", *f.Result)
	w.eventually("it is copied to where it was home", func() bool {
		now := w.recovery.group(g.ID)
		return now.Direction == "out" && w.home.group(g.ID).Direction == "in" && now.NewestCaptureAt != nil && now.NewestCaptureAt.After(*f.EndedAt)
	})
	require.Equal(t, []string{"tick-db", "tick-app"}, *w.home.group(g.ID).RunsHere, "what runs at both sites is said as long as it does")
}
