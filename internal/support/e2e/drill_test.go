package e2e

import (
	"bytes"
	"context"
	"io"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/chromedp/chromedp"
	"github.com/stretchr/testify/require"

	"kestrel/internal/api"
	"kestrel/internal/lab"
	"kestrel/internal/platform"
	"kestrel/internal/problem"
	"kestrel/internal/support/browser"
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

// mole gives the recovery site a lab with a network that is isolated, one that is not, and one
// on which something runs.
func (w *world) mole() *testLab {
	w.t.Helper()
	x := newLabOf(w.t, "lab-password", lab.Scenario{Site: "mole", Networks: []platform.Network{{ID: "n1", Name: "quay"}, {ID: "n2", Name: "trial", Isolated: true}, {ID: "n3", Name: "yard"}},
		Datastores: []lab.ScenarioDatastore{{Name: "vault", CapacityGiB: 8}}, Machines: []lab.ScenarioMachine{{Name: "gate", Folder: "/", Guest: "Linux", CPUs: 1, MemGiB: 1, Network: "quay"}}})
	must[api.Platform](w.recovery, http.MethodPost, "/platforms", api.NewPlatform{Name: "mole", Kind: "lab", Address: x.url, User: new("lab"), Password: new("lab-password")})
	return x
}

// inDrills is how tick-db and then tick-app arrive there in drills.
func inDrills(network string) api.Berth {
	return api.Berth{Platform: new("mole"), Datastore: new("vault"), DrillName: new("{name}-trial"), Address: new("dhcp"), Networks: &[]api.BerthNetwork{{Home: "lan", Drill: &network}},
		Machines: &[]api.BerthMachine{{Machine: "tick-app", Wave: new(2)}}, Waves: &[]api.BerthWave{{Number: 1, WaitSeconds: new(int64(2))}}}
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
	mole := w.mole()
	g := w.protect("Ticketing", promise(600, 2), "tick-db", "tick-app")
	at := "/groups/" + g.ID
	revision := int64(0)
	berth := func(network string) {
		t.Helper()
		v := must[api.BerthView](w.recovery, http.MethodPut, at+"/berth", api.WriteBerth{Revision: revision, Berth: inDrills(network)})
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

	// What is left of each is signed, one on the other, and is checked without a service.
	register := must[api.EvidenceRegister](w.recovery, http.MethodGet, "/evidence", nil)
	require.Len(t, register.Items, 2)
	dir := t.TempDir()
	var files []string
	for _, n := range []string{"1", "2"} {
		file := filepath.Join(dir, n+".json")
		out, err := w.recovery.kestrel([]string{"KESTREL_URL=" + w.recovery.url, "KESTREL_TOKEN=" + w.recovery.token}, "evidence", "write", n, file)
		require.NoError(t, err, out)
		files = append(files, file)
	}
	w.recovery.stop()
	verify := func(args ...string) (string, error) {
		return w.recovery.kestrel([]string{"KESTREL_URL=http://127.0.0.1:1"}, append([]string{"evidence", "verify"}, args...)...)
	}
	out, bad := verify(append(files, "--key", register.Fingerprint)...)
	require.NoError(t, bad, out)
	require.Contains(t, out, "each follows on the one before")
	out, bad = verify(files[1], files[0])
	require.Error(t, bad)
	require.Contains(t, out, "the one before is number 2")
	out, bad = verify(files[0], "--key", strings.Repeat("0", 64))
	require.Error(t, bad)
	require.Contains(t, out, "another key")
	b, bad := os.ReadFile(files[0])
	require.NoError(t, bad)
	b[len(b)/2] ^= 1
	require.NoError(t, os.WriteFile(files[0], b, 0o600))
	_, bad = verify(files[0])
	require.Error(t, bad)
}

// A drill from the group's page to its evidence, in a browser: what it would do is said before,
// what bars it is said where it is asked for, and how it goes is seen.
func TestADrillInTheConsole(t *testing.T) {
	t.Parallel()
	if raceEnabled {
		t.Skip("the browser driver races with itself when it types; ./dev test runs this test without the race detector")
	}
	w := paired(t)
	mole := w.mole()
	g := w.protect("Ticketing", promise(600, 300), "tick-db", "tick-app")
	must[api.BerthView](w.recovery, http.MethodPut, "/groups/"+g.ID+"/berth", api.WriteBerth{Berth: inDrills("quay")})
	tab, stop, err := browser.Open(context.Background(), 1280, 800)
	require.NoError(t, err, "./dev test installs it")
	defer stop()
	do(t, tab, "the dialog", browser.SignIn(w.recovery.url, person, password), chromedp.Navigate(w.recovery.url+"/drills"), browser.See("nobody knows of a recovery that was not tried"),
		chromedp.Navigate(w.recovery.url+"/groups/"+g.ID), browser.Press("Drill…"), browser.See("gate runs on the network quay"), browser.See("I insist, and the record keeps why"))
	axe(t, tab, "the dialog of a drill that is barred")
	must[api.BerthView](w.recovery, http.MethodPut, "/groups/"+g.ID+"/berth", api.WriteBerth{Revision: 1, Berth: inDrills("trial")})
	do(t, tab, "start it", chromedp.Navigate(w.recovery.url+"/groups/"+g.ID), browser.Press("Drill…"), browser.See("Wave 2: tick-app-trial (trial)"), browser.Press("Start the drill"), browser.See("Drill of Ticketing"))
	do(t, tab, "see it open", browser.See("All of its machines have started and are checked."), browser.See("What they showed"))
	require.Equal(t, 2, mole.landed())
	axe(t, tab, "a drill that is open")
	do(t, tab, "end it", browser.Press("End it…"), browser.See("What no check sees"), browser.Choose("What you say of it", "passed"), browser.Fill("Note", "a ticket was sold"), browser.Press("End it"), browser.See("It passed: 2 machines ran after"), browser.See("nothing; it was looked for"), browser.See("Evidence (PDF)"))
	axe(t, tab, "a drill that is over")
	require.Zero(t, mole.landed())
	do(t, tab, "the list", chromedp.Navigate(w.recovery.url+"/drills"), browser.See("Passed"), browser.Press("Have drills begin by themselves…"), browser.Fill("Name", "night"), browser.Fill("Begins", "when it suits"), browser.Press("Have them begin"), browser.See("✕"), browser.Fill("Begins", "sun at 03:00"), browser.Press("Have them begin"), browser.See("from the newest point"))
	axe(t, tab, "drills")
	res := w.recovery.raw(http.MethodGet, "/evidence/1?format=pdf", w.recovery.token, nil)
	pdf, err := io.ReadAll(res.Body)
	require.NoError(t, err)
	_ = res.Body.Close()
	c := exec.Command("pdftotext", "-layout", "-", "-")
	c.Stdin = bytes.NewReader(pdf)
	text, err := c.Output()
	require.NoError(t, err)
	for _, want := range []string{"Evidence 1 of Eastmole: drill of Ticketing", "tick-app-trial", "a ticket was sold", "who said that it passed", "none; it is the first of this site"} {
		require.Contains(t, string(text), want)
	}
}
