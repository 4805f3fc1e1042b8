package e2e

import (
	"io"
	"net/http"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"kestrel/internal/api"
	"kestrel/internal/lab"
	"kestrel/internal/platform"
	"kestrel/internal/problem"
)

// landed counts the machines that a lab holds which were made from points.
func (l *testLab) landed() (n int) {
	for _, m := range l.Inventory().Machines {
		if m.Landed {
			n++
		}
	}
	return n
}

// fields are those at fault of a refusal.
func fields(p *problem.Problem) (out []string) {
	if p != nil {
		for _, f := range p.Errors {
			out = append(out, f.Field)
		}
	}
	return out
}

// A drill goes its way whatever the service goes through: it is killed in every state. Home is
// left alone, networks that are not isolated are refused, and in the end nothing is left but
// the record.
func TestADrillLeavesNothingButItsRecord(t *testing.T) {
	t.Parallel()
	w := paired(t)
	mole := newLabOf(t, "lab-password", lab.Scenario{Site: "mole", Networks: []platform.Network{{ID: "n1", Name: "quay"}, {ID: "n2", Name: "trial", Isolated: true}, {ID: "n3", Name: "yard"}},
		Datastores: []lab.ScenarioDatastore{{Name: "vault", CapacityGiB: 8}}, Machines: []lab.ScenarioMachine{{Name: "gate", Folder: "/", Guest: "Linux", CPUs: 1, MemGiB: 1, Network: "quay"}}})
	must[api.Platform](w.recovery, http.MethodPost, "/platforms", api.NewPlatform{Name: "mole", Kind: "lab", Address: mole.url, User: new("lab"), Password: new("lab-password")})
	g := w.protect("Ticketing", promise(600, 2), "tick-db", "tick-app")
	at := "/groups/" + g.ID
	revision := int64(0)
	berth := func(network string) {
		t.Helper()
		b := api.Berth{Platform: new("mole"), Datastore: new("vault"), DrillName: new("{name}-trial"), Address: new("dhcp"), Networks: &[]api.BerthNetwork{{Home: "lan", Drill: &network}},
			Machines: &[]api.BerthMachine{{Machine: "tick-app", Wave: new(2)}}, Waves: &[]api.BerthWave{{Number: 1, WaitSeconds: new(int64(2))}}}
		v := must[api.BerthView](w.recovery, http.MethodPut, at+"/berth", api.WriteBerth{Revision: revision, Berth: b})
		revision = v.Revision
	}
	start := func(in api.NewDrill) (api.Drill, *problem.Problem) {
		return call[api.Drill](w.recovery, http.MethodPost, at+"/drills", in)
	}
	berth("quay")
	w.eventually("the berth is seen through", func() bool {
		_, err := call[api.DrillPlan](w.recovery, http.MethodPost, at+"/drills/plan", api.NewDrill{})
		return len(fields(err)) == 1 && fields(err)[0] == "insist"
	})
	_, err := start(api.NewDrill{})
	require.ErrorContains(t, err, "gate runs on the network quay")
	_, err = start(api.NewDrill{Insist: &api.Insist{Group: "ticketing", Reason: "the gate is off tonight"}})
	require.Equal(t, []string{"insist.group"}, fields(err))
	_, err = start(api.NewDrill{Insist: &api.Insist{Group: "Ticketing"}})
	require.Equal(t, []string{"insist.reason"}, fields(err))
	p := must[api.DrillPlan](w.recovery, http.MethodPost, at+"/drills/plan", api.NewDrill{Insist: &api.Insist{Group: "Ticketing", Reason: "the gate is off tonight"}})
	require.Len(t, p.Open, 1)
	berth("yard")
	_, err = start(api.NewDrill{})
	require.ErrorContains(t, err, "not known to be isolated")
	_, err = call[api.DrillPlan](w.home, http.MethodPost, at+"/drills/plan", api.NewDrill{})
	require.ErrorContains(t, err, "held at Eastmole")
	require.Zero(t, mole.landed(), "what is refused makes nothing")
	require.Empty(t, must[[]api.Drill](w.recovery, http.MethodGet, "/drills", nil))

	berth("trial")
	plan := must[api.DrillPlan](w.recovery, http.MethodPost, at+"/drills/plan", api.NewDrill{})
	require.Empty(t, plan.Open)
	require.Equal(t, []string{"tick-db-trial", "tick-app-trial"}, []string{plan.Machines[0].Name, plan.Machines[1].Name})
	require.Zero(t, mole.landed())
	d, err := start(api.NewDrill{Point: &plan.Point})
	require.Nil(t, err)
	state := func(want string) api.Drill {
		t.Helper()
		var x api.Drill
		w.eventually("the drill is "+want, func() bool {
			x = must[api.Drill](w.recovery, http.MethodGet, "/drills/"+d.ID, nil)
			return x.State == want
		})
		return x
	}
	blow := func() { w.recovery.kill(); w.recovery.start() }
	blow() // with nothing made, or some of it
	w.eventually("its machines are made", func() bool { return mole.landed() > 0 })
	require.Equal(t, "starting", state("starting").State)
	blow() // while the second wave waits
	x := state("open")
	require.Len(t, x.Machines, 2)
	require.Equal(t, 2, mole.landed(), "each once")
	require.GreaterOrEqual(t, x.Machines[1].StartedAt.Sub(*x.Machines[0].StartedAt), 2*time.Second, "wave by wave")
	for _, m := range x.Machines {
		require.Equal(t, []string{"trial"}, m.Networks)
	}
	for _, m := range w.lab.Inventory().Machines {
		require.False(t, m.Landed)
	}
	_, err = start(api.NewDrill{})
	require.ErrorContains(t, err, "under way")
	blow()
	state("open")
	before := len(w.recovery.points(g.ID))
	w.eventually("home goes on", func() bool { return len(w.recovery.points(g.ID)) > before+1 })

	must[api.Drill](w.recovery, http.MethodPost, "/drills/Ticketing/end", api.DrillEnd{Passed: new(true), Note: new("a ticket was sold")})
	blow() // with something removed, or nothing
	x = state("over")
	require.Equal(t, "passed", *x.Result, x.Why)
	require.True(t, x.NothingLeft)
	require.Positive(t, x.PointsMeanwhile)
	require.Equal(t, "a ticket was sold", *x.Note)
	require.GreaterOrEqual(t, *x.TookSeconds, int64(2))
	require.Zero(t, mole.landed())
	require.Len(t, mole.Inventory().Machines, 1)
	require.Empty(t, must[[]api.Landing](w.recovery, http.MethodGet, "/landings", nil))
	_, err = call[api.Drill](w.recovery, http.MethodPost, "/drills/"+d.ID+"/end", api.DrillEnd{Passed: new(false)})
	require.ErrorContains(t, err, "has ended already")
	for _, m := range x.Machines {
		require.True(t, m.Screen)
		res := w.recovery.raw(http.MethodGet, "/drills/"+d.ID+"/screens/"+m.Name, w.recovery.token, nil)
		png, err := io.ReadAll(res.Body)
		require.NoError(t, err)
		_ = res.Body.Close()
		require.Equal(t, "\x89PNG", string(png[:4]))
	}
	for _, s := range []*siteProc{w.recovery, w.home} {
		w.eventually(s.name+" knows of it", func() bool { return s.group(g.ID).DrilledAt != nil })
	}

	// A point that was proved can be chosen by that; a drill that nobody looks at ends by itself.
	again, err := start(api.NewDrill{Choose: new("proved"), Once: new(true), Machines: &[]string{"tick-app"}})
	require.Nil(t, err)
	require.Equal(t, d.Point, again.Point)
	d = again
	x = state("over")
	require.Equal(t, "passed", *x.Result)
	require.Len(t, x.Machines, 1)
	require.Zero(t, mole.landed())
	require.Len(t, must[[]api.Drill](w.recovery, http.MethodGet, "/drills?group=Ticketing", nil), 2)
}
