package e2e

import (
	"context"
	"fmt"
	"net/http"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/chromedp/chromedp"
	"github.com/miekg/dns"
	"github.com/stretchr/testify/require"

	"kestrel/internal/api"
	"kestrel/internal/support/browser"
	"kestrel/internal/support/zone"
)

// fit puts a command into a site's folder of commands, which notes what it was told; while a
// file called hang lies beside it, it never ends.
func (s *siteProc) fit(name string) (log, hang string) {
	s.t.Helper()
	dir := filepath.Join(s.dir, "state", "commands")
	require.NoError(s.t, os.MkdirAll(dir, 0o755))
	log, hang = filepath.Join(s.dir, "fitted"), filepath.Join(s.dir, "hang")
	require.NoError(s.t, os.WriteFile(filepath.Join(dir, name), fmt.Appendf(nil, "#!/bin/sh\necho \"$KESTREL_KIND $KESTREL_STEP\" >> %s\nif [ -e %s ]; then sleep 600; fi\n", log, hang), 0o755))
	return log, hang
}

// step is how far a step of a runbook is.
func step(all []api.RunbookStep, name string) api.RunbookStep {
	if at := slices.IndexFunc(all, func(s api.RunbookStep) bool { return s.Name == name }); at >= 0 {
		return all[at]
	}
	return api.RunbookStep{State: new("")}
}

// steps counts what people were told by steps.
func (d *desk) steps() (n int) {
	d.mu.Lock()
	defer d.mu.Unlock()
	for _, e := range d.got {
		if strings.HasSuffix(e.Type, ".step") {
			n++
		}
	}
	return n
}

// A runbook is gone through in a drill, where no name is changed at a real DNS server, and in a
// failover, where one is; a command that hangs stops it, and is run again when it goes on; the
// service is killed in the middle of each step; a person is waited for; and when it is backed
// out, the name says what it said before.
func TestARunbookInADrillAndAFailover(t *testing.T) {
	t.Parallel()
	w := paired(t)
	w.mole()
	ctx, cancel := context.WithTimeout(t.Context(), 10*time.Minute)
	defer cancel()
	z, err := zone.Start(ctx, t.TempDir(), "tickets 300 IN A 10.40.8.11")
	require.NoError(t, err)
	t.Cleanup(func() { _ = z.Stop() })
	says := func() string {
		t.Helper()
		out, err := z.Says(ctx, "tickets.skerry.example", dns.TypeA)
		require.NoError(t, err)
		return strings.Join(out, " ")
	}
	desk, url := newDesk(t)
	must[api.Channel](w.recovery, http.MethodPost, "/channels", api.WriteChannel{Name: "desk", Kind: "webhook", URL: &url})
	must[api.DNSServer](w.recovery, http.MethodPost, "/dns-servers", api.NewDNSServer{Name: "mole-dns", Address: z.Address, KeyName: zone.Key, Secret: z.Secret, Names: []string{"tickets.skerry.example"}})
	require.True(t, must[api.DNSServerTest](w.recovery, http.MethodPost, "/dns-servers/mole-dns/test", map[string]string{"name": "tickets.skerry.example"}).Ok)
	fitted, hang := w.recovery.fit("fit-quay")
	g := w.protect("Ticketing", promise(600, 2), "tick-db", "tick-app")

	b := toRun("mole", "vault", "quay", "{name}-em")
	b.DrillName, b.Networks = new("{name}-trial"), &[]api.BerthNetwork{{Home: "lan", Live: new("quay"), Drill: new("trial")}}
	b.Machines = &[]api.BerthMachine{{Machine: "tick-app", Wave: new(2)}, {Machine: "tick-db", Cards: &[]api.BerthCard{{Card: "1", Address: new("10.60.4.11/24"), Gateway: new("none")}}}}
	b.Steps = &[]api.BerthStep{
		{Name: "fit the quay", Kind: "host", Command: new("fit-quay"), LimitSeconds: new(int64(4)), OnFailure: new("stop")},
		{Name: "web", After: 1, Kind: "http", URL: new("http://tick-db:8080/"), Text: new("tick-db")},
		{Name: "login", After: 1, Kind: "serial", Machine: new("tick-db"), Text: new("login:")},
		{Name: "name", After: 1, Kind: "dns", Server: new("mole-dns"), Record: new("tickets.skerry.example"), Type: new("A"), To: &[]string{"{tick-db}"}},
		{Name: "call", After: 1, Kind: "message", Channels: &[]string{"desk"}, Text: new("Tickets come from Eastmole.")},
		{Name: "cards", After: 2, Kind: "person", Text: new("Try a card."), Only: new("failover")},
	}
	bad := b
	bad.Steps = new(append(slices.Clone(*b.Steps), api.BerthStep{Name: "web", Kind: "host", Command: new("sink-quay")}, api.BerthStep{Name: "other", Kind: "dns", Server: new("other"), Record: new("x"), Type: new("A"), To: &[]string{"{pier}"}}))
	_, refused := call[api.BerthView](w.recovery, http.MethodPut, "/groups/"+g.ID+"/berth", api.WriteBerth{Berth: bad})
	require.Subset(t, fields(refused), []string{"steps[6].name", "steps[6].command", "steps[7].record", "steps[7].server", "steps[7].machine"})
	must[api.BerthView](w.home, http.MethodPut, "/groups/"+g.ID+"/berth", api.WriteBerth{Berth: b})

	// In a drill, with all of it but the name and the person.
	w.eventually("there is a point", func() bool { return len(w.recovery.points(g.ID)) > 0 })
	d := must[api.Drill](w.recovery, http.MethodPost, "/groups/"+g.ID+"/drills", api.NewDrill{Once: new(true)})
	w.eventually("the drill is over", func() bool {
		d = must[api.Drill](w.recovery, http.MethodGet, "/drills/"+d.ID, nil)
		return d.State == "over"
	})
	require.Equal(t, "passed", *d.Result, "%v", d.Why)
	require.Len(t, d.Runbook, 5)
	require.Contains(t, *step(d.Runbook, "name").Said, "10.60.4.11 in place of 10.40.8.11")
	require.Equal(t, "10.40.8.11", says(), "nothing was changed")
	w.eventually("the desk is told", func() bool { return desk.steps() == 1 })

	// A failover is stopped by a command that hangs.
	require.NoError(t, os.WriteFile(hang, nil, 0o600))
	plan := must[api.FailoverPlan](w.recovery, http.MethodPost, "/groups/"+g.ID+"/failovers/plan", api.NewFailover{Planned: new(true)})
	require.Len(t, plan.Runbook, 6)
	require.NotNil(t, step(plan.Runbook, "web").ExpectedSeconds, "as in the drill")
	f := must[api.Failover](w.recovery, http.MethodPost, "/groups/"+g.ID+"/failovers", api.NewFailover{Planned: new(true), Confirm: new("Ticketing")})
	w.eventually("it is stopped", func() bool { f = w.recovery.failover(f.ID); return f.Stopped })
	require.Equal(t, "starting", f.State)
	require.Contains(t, *f.Says, "the step fit the quay")
	require.Contains(t, *step(f.Runbook, "fit the quay").Said, "did not end within 4 s")
	_, refused = call[api.Failover](w.recovery, http.MethodPost, "/failovers/"+f.ID+"/step", api.StepDecision{Step: "web", Action: "skip"})
	require.Equal(t, []string{"note"}, fields(refused))
	require.NoError(t, os.Remove(hang))
	must[api.Failover](w.recovery, http.MethodPost, "/failovers/"+f.ID+"/steer", api.FailoverSteer{Action: "go-on"})

	// The service is killed whenever another step runs.
	kills, last := 0, ""
	w.eventually("the person is waited for", func() bool {
		f = w.recovery.failover(f.ID)
		now := ""
		for _, s := range f.Runbook {
			now += *s.State + " "
		}
		if now != last {
			last = now
			if strings.Contains(now, "running") {
				kills++
				w.recovery.kill()
				w.recovery.start()
			}
		}
		return *step(f.Runbook, "cards").State == "running"
	})
	require.Greater(t, kills, 2)
	require.Equal(t, "10.60.4.11", says())
	for _, s := range f.Runbook[:5] {
		require.Equal(t, "passed", *s.State, s.Name)
	}
	w.eventually("the desk is told once", func() bool { return desk.steps() == 2 })
	_, refused = call[api.Failover](w.recovery, http.MethodPost, "/failovers/"+f.ID+"/accept", api.FailoverAccept{Confirm: "Ticketing"})
	require.ErrorContains(t, refused, "starting")
	out, err := w.recovery.kestrel([]string{"KESTREL_URL=" + w.recovery.url, "KESTREL_TOKEN=" + w.recovery.token}, "failover", "step", "Ticketing", "cards", "done", "--note", "the card was taken")
	require.NoError(t, err, out)
	f = w.reaches(w.recovery, f.ID, "open")
	require.Equal(t, "The card was taken.", *step(f.Runbook, "cards").Said)
	require.Equal(t, 2, len(f.Machines))

	// Backed out, the name says what it said before.
	must[api.Failover](w.recovery, http.MethodPost, "/failovers/"+f.ID+"/back-out", api.FailoverBackOut{Confirm: "Ticketing"})
	f = w.reaches(w.recovery, f.ID, "over")
	require.Equal(t, "10.40.8.11", says())
	require.Equal(t, 2, desk.steps())
	b2, err := os.ReadFile(fitted)
	require.NoError(t, err)
	require.GreaterOrEqual(t, strings.Count(string(b2), "live fit the quay"), 2, "once more when it went on")
	require.Equal(t, 1, strings.Count(string(b2), "drill fit the quay"))
	file := filepath.Join(w.recovery.files(), "evidence.json")
	out, err = w.recovery.kestrel([]string{"KESTREL_URL=" + w.recovery.url, "KESTREL_TOKEN=" + w.recovery.token}, "evidence", "write", f.ID, file)
	require.NoError(t, err, out)
	text, err := w.recovery.kestrel(nil, "evidence", "verify", file)
	require.NoError(t, err, text)
}

// A runbook is written on the page of a berth, is gone through in drills of all groups of a
// site, and somebody is asked there, in a browser.
func TestARunbookInTheConsole(t *testing.T) {
	t.Parallel()
	if raceEnabled {
		t.Skip("the browser driver races with itself when it types; ./dev test runs this test without the race detector")
	}
	w := paired(t)
	w.mole()
	g := w.protect("Ticketing", promise(600, 300), "tick-db", "tick-app")
	must[api.BerthView](w.recovery, http.MethodPut, "/groups/"+g.ID+"/berth", api.WriteBerth{Berth: inDrills("trial")})
	tab, stop, err := browser.Open(context.Background(), 1280, 800)
	require.NoError(t, err, "./dev test installs it")
	defer stop()
	do(t, tab, "the berth", browser.SignIn(w.recovery.url, person, password), chromedp.Navigate(w.recovery.url+"/groups/"+g.ID+"/berth"), browser.See("Nothing is done besides the waves above"), browser.Press("Put in a step"), browser.See("Say what is asked of them"))
	axe(t, tab, "a step that is not complete")
	do(t, tab, "a step", browser.Fill("Name", "try a card"), browser.Fill("What they are asked", "Does a card open the gate?"), browser.Press("Done with this step"), browser.See("Wait for a person: Does a card open the gate?"),
		browser.Press("Put in a step"), browser.Choose("Does", "http"), browser.Fill("Address", "http://tick-db:8080/"), browser.Press("Done with this step"), browser.See("An address answers: http://tick-db:8080/"), browser.See("Wait for a person: Does a card open the gate?"), browser.See("Not saved yet."), browser.Press("Save"), browser.See("revision 2"))
	do(t, tab, "all of a site", chromedp.Navigate(w.recovery.url+"/failovers"), browser.Press("Recover several groups…"), browser.Choose("All groups that come from", "Norhaven"), browser.See("1. Ticketing: point"))
	axe(t, tab, "the dialog of several groups")
	do(t, tab, "start them", browser.Press("Start the drills"), browser.See("Recovery of Norhaven"), browser.See("Of 1 group, 1 start."))
	axe(t, tab, "several groups")
	do(t, tab, "its drill", browser.Press("Ticketing"), browser.See("Does a card open the gate?"), browser.See("Being done"), browser.Fill("Note on try a card", "it did not at first"))
	axe(t, tab, "a drill in which somebody is asked")
	do(t, tab, "say so", browser.Press("It failed"), browser.See("Failed: what now?"), browser.Press("Do it again"), browser.See("Being done"), browser.Fill("Note on try a card", "it did"), browser.Press("It is done"), browser.See("It did."), browser.See("It answers as it should."), browser.See("All of its machines have started and are checked."))
	do(t, tab, "the servers", chromedp.Navigate(w.recovery.url+"/sites"), browser.Press("Add a DNS server…"), browser.Fill("Name", "mole-dns"), browser.Fill("Address", "127.0.0.1:5353"), browser.Fill("Name of the key", "kestrel"), browser.Fill("Secret of the key", "short"), browser.Fill("Names that runbooks may change", "*.skerry.example"), browser.Press("Add it"), browser.See("base64, of 16 bytes or more"))
	axe(t, tab, "a DNS server that is refused")
	do(t, tab, "add one", browser.Fill("Secret of the key", "c2l4dGVlbiBieXRlcyBvciBtb3Jl"), browser.Press("Add it"), browser.See("kestrel (hmac-sha256)"), browser.Press("Test"), browser.See("mole-dns: "))
	axe(t, tab, "DNS servers")
}
