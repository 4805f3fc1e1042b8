package e2e

import (
	"context"
	"crypto/sha256"
	"net/http"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"syscall"
	"testing"
	"time"

	rpc "github.com/digitalocean/go-libvirt"
	"github.com/google/uuid"
	"github.com/stretchr/testify/require"

	"kestrel/internal/api"
	"kestrel/internal/platform/libvirt"
	"kestrel/internal/platform/platformtest"
	"kestrel/internal/support/realsite"
)

// realWorld is two sites with a hypervisor each, and two guests at home.
type realWorld struct {
	*world
	*realsite.Pair
	ctx    context.Context
	driver *libvirt.Driver // the test's own, for looking
	group  string
}

const (
	db  = "boarding-db"
	app = "boarding-app"
)

func newRealWorld(t *testing.T) *realWorld {
	t.Helper()
	if p := realsite.Missing(); p != "" {
		t.Skipf("REAL GUESTS ARE NOT TESTED: %s is not installed", p)
	}
	ctx, cancel := context.WithTimeout(context.Background(), 15*time.Minute)
	t.Cleanup(cancel)
	pair, err := realsite.StartPair(ctx)
	require.NoError(t, err)
	t.Cleanup(pair.Stop)
	r := &realWorld{world: newWorld(t), Pair: pair, ctx: ctx}
	t.Cleanup(func() {
		if t.Failed() {
			t.Logf("home: %s\naway: %s\nhome's service: %s\nrecovery's: %s", pair.Home.Report(), pair.Away.Report(), r.home.log(), r.recovery.log())
		}
	})
	for _, g := range []realsite.Guest{{Name: db, Address: "10.77.2.11", Segment: "230.77.0.1:7412"}, {Name: app, After: db, Address: "10.77.2.12", Segment: "230.77.0.1:7412"}} {
		require.NoError(t, pair.Home.Add(ctx, pair.Image, g))
	}
	add := func(s *siteProc, d *realsite.Daemon) {
		must[api.Platform](s, http.MethodPost, "/platforms", api.NewPlatform{Name: "quay", Kind: "libvirt", Address: d.URI, Libvirt: &api.LibvirtSettings{NbdPorts: new("11010-11073")}})
	}
	add(r.home, pair.Home)
	add(r.recovery, pair.Away)
	inv := must[api.InvitationSecret](r.home, http.MethodPost, "/invitations", api.NewInvitation{})
	must[api.Link](r.recovery, http.MethodPost, "/links", api.AcceptInvitation{Invitation: inv.Text})
	r.driver, err = libvirt.New(libvirt.Settings{Hosts: []string{pair.Home.URI}})
	require.NoError(t, err)
	t.Cleanup(r.driver.Close)
	r.writes()
	return r
}

// writes waits until both guests have written more.
func (r *realWorld) writes() {
	r.t.Helper()
	ctx, cancel := context.WithTimeout(r.ctx, 2*time.Minute)
	defer cancel()
	require.NoError(r.t, r.Pair.Home.Writes(ctx, db, app))
}

// runs starts a cycle and gives its point.
func (r *realWorld) runs() api.Point {
	r.t.Helper()
	before := r.home.group(r.group)
	r.eventually("a cycle is accepted", func() bool {
		_, p := call[api.Group](r.home, http.MethodPost, "/groups/"+r.group+"/run", nil)
		return p == nil
	})
	return r.sealed(before)
}

// sealed waits for a newer point than before.
func (r *realWorld) sealed(before api.Group) (p api.Point) {
	r.t.Helper()
	r.eventually("a newer point is sealed", func() bool {
		g := r.home.group(r.group)
		return g.NewestCaptureAt != nil && g.Running == nil && (before.NewestCaptureAt == nil || g.NewestCaptureAt.After(*before.NewestCaptureAt))
	})
	return r.recovery.points(r.group)[0]
}

// captured stalls the link, starts a cycle, and waits until it holds a capture
// that it cannot ship.
func (r *realWorld) captured() (before api.Group, name string) {
	r.t.Helper()
	before = r.home.group(r.group)
	r.recovery.relay.stall.Lock()
	_, p := call[api.Group](r.home, http.MethodPost, "/groups/"+r.group+"/run", nil)
	require.Nil(r.t, p)
	r.eventually("the machines are captured", func() bool {
		// Its own base may be among the checkpoints: the open one is newer.
		cs := must[[]api.Cycle](r.home, http.MethodGet, "/groups/"+r.group+"/cycles", nil)
		if len(cs) == 0 || cs[0].CaptureAt == nil || cs[0].State != "running" || before.LastCycle != nil && cs[0].Number <= before.LastCycle.Number {
			return false
		}
		names, err := r.driver.Checkpoints(r.ctx)
		require.NoError(r.t, err)
		for _, n := range names {
			if strings.HasSuffix(n, cs[0].ID) {
				name = n
			}
		}
		return name != ""
	})
	return before, name
}

// frozen reads the captured disks through the test's own driver, and gives the
// digest of each.
func (r *realWorld) frozen(name string) map[string][32]byte {
	r.t.Helper()
	c, err := r.driver.Reopen(r.ctx, name, "")
	require.NoError(r.t, err)
	out := map[string][32]byte{}
	for _, x := range c.Disks {
		out[x.Name+"."+x.Disk] = sha256.Sum256(platformtest.Content(r.ctx, r.t, x))
	}
	return out
}

// same compares all of a point's disks with what was read from the source.
func (r *realWorld) same(p api.Point, source map[string][32]byte) {
	r.t.Helper()
	dir := filepath.Join(r.recovery.files(), uuid.NewString())
	op := must[api.Operation](r.recovery, http.MethodPost, "/points/"+p.ID+"/export", api.ExportRequest{Directory: dir})
	r.eventually("the export is done", func() bool {
		op = must[api.Operation](r.recovery, http.MethodGet, "/operations/"+op.ID, nil)
		return op.State != api.OperationStateRunning
	})
	require.Equal(r.t, api.OperationStateDone, op.State, "%v", op.Message)
	require.Len(r.t, source, 4)
	for name, want := range source {
		got, err := os.ReadFile(filepath.Join(dir, name+".raw"))
		require.NoError(r.t, err)
		require.Equal(r.t, want, sha256.Sum256(got), "%s of point %d differs from its source", name, p.Number)
	}
}

func (r *realWorld) kill(guest string) {
	r.t.Helper()
	require.NoError(r.t, syscall.Kill(r.Pair.Home.Guests()[guest], syscall.SIGKILL))
	r.eventually("the guest is gone", func() bool { return r.Pair.Home.Guests()[guest] == 0 })
}

// patiently waits for what guests do, who share two processors with all else.
func (r *realWorld) patiently(what string, ok func() bool) {
	r.t.Helper()
	require.Eventually(r.t, ok, 4*time.Minute, 200*time.Millisecond, what)
}

// held tells whether a machine carries the mark of one that is held.
func (r *realWorld) held(guest string) (yes bool) {
	_ = r.Pair.Home.Domain(guest, func(l *rpc.Libvirt, dom rpc.Domain) error {
		text, err := l.DomainGetXMLDesc(dom, 0)
		yes = strings.Contains(text, "urn:kestrel-tide:hold")
		return err
	})
	return yes
}

// Two real machines are protected under writes, suffer what real machines
// suffer, are lost with their whole site, and come back from a chosen point.
func TestRealMachinesAreLostAndComeBack(t *testing.T) {
	t.Parallel()
	r := newRealWorld(t)
	home := r.Pair.Home
	g := must[api.Group](r.home, http.MethodPost, "/groups", api.NewGroup{Name: "Boarding", Machines: []string{db, app}, Link: "Eastmole", Promise: promised(3600, 0), Quiesce: &[]api.QuiesceOf{{Machine: db, Mode: "try"}}})
	r.group = g.ID
	r.sealed(api.Group{})

	// Under writes, with a link that passes nothing on: the guests go on, and
	// what arrives later is what was frozen.
	r.writes()
	before, name := r.captured()
	source := r.frozen(name)
	r.writes()
	require.Equal(t, source, r.frozen(name))
	r.recovery.relay.stall.Unlock()
	p := r.sealed(before)
	r.same(p, source)
	require.Equal(t, "crash", p.Consistency, "only one of the guests was at rest")
	require.True(t, p.OneInstant)
	g = r.home.group(r.group)
	require.Equal(t, "changes", g.LastCycle.Kind)
	require.True(t, g.Machines[0].LastQuiet.Done)
	require.Less(t, g.LastCycle.ReadBytes, int64(64<<20), "only what changed is read")

	// The service is killed while it waits for the link: the same instant is
	// shipped when it is back.
	r.writes()
	before, name = r.captured()
	source = r.frozen(name)
	r.home.kill()
	r.writes()
	r.recovery.relay.stall.Unlock()
	r.home.start()
	r.same(r.sealed(before), source)
	require.True(t, r.recovery.points(r.group)[0].OneInstant)

	// It is killed while it holds the guests: they go on, and so does the group.
	for range 2 {
		_, prob := call[api.Group](r.home, http.MethodPost, "/groups/"+r.group+"/run", nil)
		require.Nil(t, prob)
		require.Eventually(t, func() bool { return r.held(db) }, 30*time.Second, time.Millisecond)
		before = r.home.group(r.group)
		r.home.kill()
		r.writes()
		r.home.start()
		r.sealed(before)
		r.eventually("nobody is held", func() bool { return !r.held(db) && !r.held(app) })
	}

	// A machine is killed while it is read: nothing is sealed of that instant,
	// and everything is compared once.
	before, _ = r.captured()
	r.kill(db)
	r.recovery.relay.stall.Unlock()
	_, end := home.Newest(db)
	require.NoError(t, home.Domain(db, func(l *rpc.Libvirt, dom rpc.Domain) error { return l.DomainCreate(dom) }))
	r.sealed(before)
	_, err := home.Await(r.ctx, db, "FOUND", 1, end)
	require.NoError(t, err)
	r.writes()
	r.runs()
	cs := must[[]api.Cycle](r.home, http.MethodGet, "/groups/"+r.group+"/cycles", nil)
	require.Equal(t, "changes", cs[0].Kind)
	require.True(t, slices.ContainsFunc(cs, func(c api.Cycle) bool {
		return c.Kind == "compare" && strings.Contains(*c.Note, "lost the record of changes")
	}), "%+v", cs)

	// A point to come back to: it promises what the guests said before it.
	r.writes()
	promised := map[string]uint64{}
	for _, n := range []string{db, app} {
		l, _ := home.Newest(n)
		promised[n] = l.Seq
	}
	chosen := r.runs()
	after, _ := home.Newest(app)
	r.writes()
	r.runs()
	r.lose()

	away := r.Away
	ready := r.traces()
	_, prob := call[[]api.Landing](r.recovery, http.MethodPost, "/landings", api.NewLanding{Point: chosen.ID, Platform: new("quay"), Networks: &map[string]string{"segment 230.77.0.1:7412": "nowhere"}})
	require.Equal(t, "networks", prob.Errors[0].Field)
	ls := must[[]api.Landing](r.recovery, http.MethodPost, "/landings", api.NewLanding{Point: chosen.ID, Platform: new("quay"), LocalBytesPerSecond: new(int64(4 << 20))})
	require.Len(t, ls, 2)
	ears := map[string]*realsite.Ear{}
	for _, n := range []string{db, app} {
		r.eventually("the machine runs", func() bool {
			ear, err := away.Listen(n)
			ears[n] = ear
			return err == nil
		})
	}
	found := map[string]realsite.Line{}
	for n, ear := range ears {
		l, err := ear.Await(r.ctx, "FOUND")
		require.NoError(t, err)
		found[n] = l
		require.GreaterOrEqual(t, l.Seq, promised[n], "%s has what the point promises", n)
	}
	require.LessOrEqual(t, found[app].Peer, found[db].Seq, "one instant: nothing rests on what is not there")
	require.LessOrEqual(t, found[app].Seq, after.Seq+20, "and nothing from after the point")
	// The service they read from is killed while they are made local.
	r.patiently("the first disks are being made local", func() bool {
		l := must[api.Landing](r.recovery, http.MethodGet, "/landings/"+ls[0].ID, nil)
		return l.LocalBytes > 0
	})
	r.recovery.kill()
	r.recovery.start()
	// The hypervisor process of one dies meanwhile: that one is started again.
	_ = ears[app].Close()
	require.NoError(t, syscall.Kill(away.Guests()[app], syscall.SIGKILL))
	r.patiently("it is started again", func() bool {
		return slices.ContainsFunc(must[[]api.Activity](r.recovery, http.MethodGet, "/activity", nil), func(a api.Activity) bool {
			return strings.HasPrefix(a.Text, app+": its hypervisor process has crashed")
		})
	})
	r.eventually("it runs again", func() (runs bool) {
		ear, err := away.Listen(app)
		if err == nil {
			ears[app] = ear
		}
		return err == nil
	})
	for _, l := range ls {
		r.patiently("it is local", func() bool {
			l = must[api.Landing](r.recovery, http.MethodGet, "/landings/"+l.ID, nil)
			require.Contains(t, []api.LandingState{api.LandingStateRunning, api.LandingStateLocal}, l.State, "%+v", l)
			return l.State == api.LandingStateLocal
		})
		require.Equal(t, l.TotalBytes, l.LocalBytes)
	}
	for n, ear := range ears {
		for {
			l, err := ear.Await(r.ctx, "TX")
			require.NoError(t, err)
			if l.Seq > found[n].Seq+10 {
				break // it writes, now on its own
			}
		}
		_ = ear.Close()
	}
	require.False(t, must[api.Point](r.recovery, http.MethodGet, "/points/"+chosen.ID, nil).InUse, "local machines need the point no longer")
	for _, l := range ls {
		must[any](r.recovery, http.MethodDelete, "/landings/"+l.ID, nil)
	}
	require.Equal(t, ready, r.traces(), "no trace is left")
	require.Empty(t, must[[]api.Landing](r.recovery, http.MethodGet, "/landings", nil))

	// Copied first and then started, onto the network of home, which is allowed
	// explicitly.
	in := api.NewLanding{Point: chosen.ID, Platform: new("quay"), Machines: &[]string{db}, How: new("copied"), Prefix: new("again-")}
	l := must[[]api.Landing](r.recovery, http.MethodPost, "/landings", in)[0]
	r.patiently("it is local", func() bool {
		l = must[api.Landing](r.recovery, http.MethodGet, "/landings/"+l.ID, nil)
		require.NotEqual(t, api.LandingStateRunning, l.State, "it does not run before it is local")
		return l.State == api.LandingStateLocal
	})
	ear, err := away.Listen("again-" + db)
	require.NoError(t, err)
	line, err := ear.Await(r.ctx, "FOUND")
	require.NoError(t, err)
	require.Equal(t, found[db].Seq, line.Seq, "the same point, the same record")
	_ = ear.Close()
	must[any](r.recovery, http.MethodDelete, "/landings/"+l.ID, nil)
	require.Equal(t, ready, r.traces())
}

// lose ends the home site for good: service, hypervisor and disks.
func (r *realWorld) lose() {
	r.t.Helper()
	r.home.kill()
	r.Pair.Home.Stop()
	require.NoError(r.t, os.RemoveAll(r.Pair.Home.Disks()))
	r.recovery.relay.setCut(true)
}

// traces lists what the recovery site's hypervisor knows and holds.
func (r *realWorld) traces() []string {
	r.t.Helper()
	all, err := r.Away.Traces()
	require.NoError(r.t, err)
	return all
}

// recovered is how real guests arrive, connected to nothing, one after the other, each when the
// agent of the one before answers; and what is looked at besides.
func recovered(name string, guests ...string) api.Berth {
	none := "none"
	b := api.Berth{Platform: new("quay"), Name: &name, DrillName: new("{name}-trial"), Networks: &[]api.BerthNetwork{{Home: "segment 230.77.0.1:7412", Live: &none, Drill: &none}}, Machines: &[]api.BerthMachine{}, Waves: &[]api.BerthWave{},
		Steps: &[]api.BerthStep{{Name: "its records", After: 1, Kind: "serial", Machine: &guests[0], Text: new("FOUND")}, {Name: "its disk", After: len(guests), Kind: "guest", Machine: &guests[len(guests)-1], Command: new("test -e /dev/vda")}}}
	for i, g := range guests {
		*b.Machines = append(*b.Machines, api.BerthMachine{Machine: g, Wave: new(i + 1)})
		*b.Waves = append(*b.Waves, api.BerthWave{Number: i + 1, Check: new("agent")})
	}
	return b
}

// A drill of real guests passes with its checks and steps, has a picture of each, and leaves home
// alone. A planned failover of them loses nothing: the newest record that each had synced before it
// was shut down is there. It is backed out, then accepted with the hypervisors' daemons killed on
// the way; what differs is copied back, and then they go the way back.
func TestRealMachinesAreFailedOver(t *testing.T) {
	r := newRealWorld(t)
	g := must[api.Group](r.home, http.MethodPost, "/groups", api.NewGroup{Name: "Boarding", Machines: []string{db, app}, Link: "Eastmole", Promise: promised(600, 5)})
	r.group = g.ID
	r.sealed(api.Group{})
	must[api.BerthView](r.recovery, http.MethodPut, "/groups/"+g.ID+"/berth", api.WriteBerth{Berth: recovered("{name}", db, app)})
	drill := must[api.Drill](r.recovery, http.MethodPost, "/groups/"+g.ID+"/drills", api.NewDrill{Once: new(true)})
	r.patiently("the drill is over", func() bool {
		drill = must[api.Drill](r.recovery, http.MethodGet, "/drills/"+drill.ID, nil)
		return drill.State == "over"
	})
	require.Equal(t, "passed", *drill.Result, "%v %v", drill.Why, drill.Error)
	for i, m := range drill.Machines {
		require.True(t, m.Screen, m.Name)
		require.Empty(t, m.Networks)
		require.Equal(t, i+1, m.Wave)
	}
	require.True(t, drill.Machines[1].StartedAt.After(*drill.Machines[0].CheckedAt), "wave by wave")
	require.Equal(t, []string{"passed", "passed"}, []string{*drill.Runbook[0].State, *drill.Runbook[1].State})
	require.Empty(t, r.Away.Guests(), "no trace is left")
	require.Positive(t, drill.PointsMeanwhile, "home's cycles went on")
	// start has it run over there, and gives the record that each guest found when it began: its
	// console is listened to from its start, since nobody keeps what it says.
	start := func() (api.Failover, map[string]realsite.Line) {
		t.Helper()
		f := must[api.Failover](r.recovery, http.MethodPost, "/groups/"+g.ID+"/failovers", api.NewFailover{Planned: new(true), Confirm: new("Boarding"), DownSeconds: new(int64(120)), Force: new(true)})
		ears := map[string]*realsite.Ear{}
		r.patiently("it is open", func() bool {
			for _, n := range []string{db, app} {
				if ears[n] == nil {
					ears[n], _ = r.Away.Listen(n)
				}
			}
			f = r.recovery.failover(f.ID)
			return f.State == "open" && len(ears) == 2 && ears[db] != nil && ears[app] != nil
		})
		ctx, cancel := context.WithTimeout(r.ctx, time.Minute)
		defer cancel()
		out := map[string]realsite.Line{}
		for n, ear := range ears {
			l, err := ear.Await(ctx, "FOUND")
			require.NoError(t, err)
			out[n] = l
			require.NoError(t, ear.Close())
		}
		return f, out
	}
	r.writes()
	f, there := start()
	require.Zero(t, f.LosesSeconds)
	for _, n := range []string{db, app} {
		r.patiently("home is off, and nothing holds it open", func() bool { return r.Pair.Home.Guests()[n] == 0 })
		last, _ := r.Pair.Home.Newest(n)
		require.GreaterOrEqual(t, there[n].Seq, last.Seq, "%s: what was synced last is there", n)
	}
	must[api.Failover](r.recovery, http.MethodPost, "/failovers/"+f.ID+"/back-out", api.FailoverBackOut{Confirm: "Boarding"})
	r.patiently("it is backed out", func() bool { return r.recovery.failover(f.ID).State == "over" })
	require.Empty(t, r.Away.Guests(), "no trace is left")
	r.writes()
	r.sealed(r.home.group(g.ID))

	f, _ = start()
	must[api.Failover](r.recovery, http.MethodPost, "/failovers/"+f.ID+"/accept", api.FailoverAccept{Confirm: "Boarding"})
	for _, d := range []*realsite.Daemon{r.Away, r.Pair.Home} {
		d.Kill()
		require.NoError(t, d.Restart(r.ctx))
	}
	r.patiently("it is accepted", func() bool {
		f = r.recovery.failover(f.ID)
		return f.State == "over"
	})
	require.Equal(t, "accepted", *f.Result)
	require.Len(t, r.Away.Guests(), 2)
	r.patiently("what differs is copied back", func() bool {
		now := r.recovery.group(g.ID)
		return now.Direction == "out" && now.NewestCaptureAt != nil && now.NewestCaptureAt.After(*f.EndedAt)
	})
	cycles := must[[]api.Cycle](r.recovery, http.MethodGet, "/groups/"+g.ID+"/cycles", nil)
	first := cycles[len(cycles)-1]
	require.Less(t, first.WireBytes, first.ReadBytes/2, "only what differs crosses the link: %d of %d", first.WireBytes, first.ReadBytes)

	// The way back.
	var filled api.BerthView
	r.patiently("how they return has filled itself", func() bool {
		filled = must[api.BerthView](r.home, http.MethodGet, "/groups/"+g.ID+"/berth", nil)
		return filled.Revision > 0
	})
	require.Contains(t, filled.Arrivals[0].Name.Value, "-2", "what they were is there still")
	must[api.BerthView](r.home, http.MethodPut, "/groups/"+g.ID+"/berth", api.WriteBerth{Revision: filled.Revision, Berth: recovered("{name}-back", db, app)})
	f = must[api.Failover](r.home, http.MethodPost, "/groups/"+g.ID+"/failovers", api.NewFailover{Planned: new(true), Confirm: new("Boarding"), DownSeconds: new(int64(120)), Force: new(true)})
	r.patiently("it has come back", func() bool {
		f = r.home.failover(f.ID)
		return f.State == "open"
	})
	require.Zero(t, f.LosesSeconds)
	require.Equal(t, "passed", *f.Runbook[0].State, "its records are there")
	must[api.Failover](r.home, http.MethodPost, "/failovers/"+f.ID+"/accept", api.FailoverAccept{Confirm: "Boarding"})
	r.patiently("it is home again, and is copied as at first", func() bool {
		now := r.home.group(g.ID)
		f = r.home.failover(f.ID)
		return f.State == "over" && now.Direction == "out" && now.NewestCaptureAt != nil && now.NewestCaptureAt.After(*f.EndedAt)
	})
}

// With home and the recovery site's database gone, three real guests start from the store alone,
// wave by wave, from a point that is not the newest; it is backed out, and nothing is left.
func TestRealMachinesFromTheStoreAlone(t *testing.T) {
	r := newRealWorld(t)
	const kiosk = "boarding-kiosk"
	require.NoError(t, r.Pair.Home.Add(r.ctx, r.Image, realsite.Guest{Name: kiosk, After: app, Address: "10.77.2.13", Segment: "230.77.0.1:7412"}))
	r.eventually("all three are seen", func() bool {
		_, bad := call[api.Group](r.home, http.MethodPost, "/groups", api.NewGroup{Name: "Boarding", Machines: []string{db, app, kiosk}, Link: "Eastmole", Promise: promised(600, 300)})
		return bad == nil
	})
	r.group = must[[]api.Group](r.home, http.MethodGet, "/groups", nil)[0].ID
	must[api.BerthView](r.recovery, http.MethodPut, "/groups/"+r.group+"/berth", api.WriteBerth{Berth: recovered("{name}", db, app, kiosk)})
	r.sealed(api.Group{})
	earlier := r.runs()
	r.writes()
	r.runs()
	r.lose()
	r.recovery.kill()
	fresh, err := cluster.Database(r.ctx, "t"+strings.ReplaceAll(uuid.NewString(), "-", ""))
	require.NoError(t, err)
	r.recovery.db = fresh
	out, err := r.recovery.kestrel(nil, "store", "adopt", filepath.Join(r.recovery.dir, "state", "store"), "--database", fresh)
	require.NoError(t, err, out)
	r.recovery.start()
	r.recovery.welcome()
	must[api.Platform](r.recovery, http.MethodPost, "/platforms", api.NewPlatform{Name: "quay", Kind: "libvirt", Address: r.Away.URI, Libvirt: &api.LibvirtSettings{NbdPorts: new("11010-11073")}})
	before := r.traces()
	var f api.Failover
	r.eventually("it begins", func() bool {
		var bad error
		x, p := call[api.Failover](r.recovery, http.MethodPost, "/groups/"+r.group+"/failovers", api.NewFailover{Point: &earlier.ID, Confirm: new("Boarding")})
		if p != nil {
			bad = p
		}
		f = x
		return bad == nil
	})
	r.patiently("it is open", func() bool {
		f = r.recovery.failover(f.ID)
		return f.State == "open"
	})
	require.Equal(t, earlier.Number, f.PointNumber)
	require.Len(t, f.Machines, 3)
	for i, m := range f.Machines[1:] {
		require.True(t, m.StartedAt.After(*f.Machines[i].CheckedAt), "%s starts when %s is checked", m.Name, f.Machines[i].Name)
	}
	for _, s := range f.Runbook {
		require.Equal(t, "passed", *s.State, "%s: the runbook came with the store", s.Name)
	}
	must[api.Failover](r.recovery, http.MethodPost, "/failovers/"+f.ID+"/back-out", api.FailoverBackOut{Confirm: "Boarding"})
	r.patiently("it is backed out", func() bool { return r.recovery.failover(f.ID).State == "over" })
	require.Equal(t, before, r.traces(), "no trace is left")
}
