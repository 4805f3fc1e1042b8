package site_test

import (
	"context"
	"log/slog"
	"net"
	"net/http/httptest"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/google/uuid"
	"github.com/stretchr/testify/require"

	"kestrel/internal/api"
	"kestrel/internal/clock"
	"kestrel/internal/core/actor"
	"kestrel/internal/cycle"
	"kestrel/internal/directory"
	"kestrel/internal/keeper"
	"kestrel/internal/lab"
	"kestrel/internal/link"
	"kestrel/internal/listing"
	"kestrel/internal/nbd"
	"kestrel/internal/points"
	"kestrel/internal/problem"
	"kestrel/internal/records"
	"kestrel/internal/site"
	"kestrel/internal/support/pgcluster"
)

var (
	cluster *pgcluster.Cluster
	ctx     = context.Background()
	admin   = actor.Actor{Kind: actor.Person, Name: "admin", Role: actor.Administrator}
)

// patience bounds what is waited for: it ends what would hang, and no test is judged
// by how long anything took.
const patience = 3 * time.Minute

func TestMain(m *testing.M) {
	os.Exit(pgcluster.Main(m, "site", func(c *pgcluster.Cluster) { cluster = c }))
}

// skewed is a clock that is wrong by a fixed amount.
type skewed struct {
	clock.Wall
	by time.Duration
}

// still is a clock that stands, though what waits by it goes on.
type still struct {
	clock.Wall
	at time.Time
}

func (s still) Now() time.Time { return s.at }

func (s skewed) Now() time.Time { return time.Now().Add(s.by) }

// start runs a site in this process until the test ends.
func start(t *testing.T, name string, clk clock.Clock) *site.Site {
	t.Helper()
	db, err := cluster.Database(ctx, "s"+strings.ReplaceAll(uuid.NewString(), "-", ""))
	require.NoError(t, err)
	s, stop := startOn(t, name, clk, db, t.TempDir())
	t.Cleanup(stop)
	return s
}

func startOn(t *testing.T, name string, clk clock.Clock, db, dir string) (*site.Site, func()) {
	t.Helper()
	s, err := site.New(ctx, site.Config{Name: name, StateDir: dir, DatabaseURL: db, LinkListen: "127.0.0.1:0", NBDListen: "127.0.0.1:0", StoreFloor: 1 << 20, DeletionWait: -1,
		Clock: clk, Log: slog.New(slog.DiscardHandler), Pulse: 100 * time.Millisecond})
	require.NoError(t, err)
	running, cancel := context.WithCancel(ctx)
	done := make(chan error, 1)
	go func() { done <- s.Run(running) }()
	require.Eventually(t, func() bool { return s.Ready(ctx) == nil }, patience, 10*time.Millisecond)
	return s, func() { cancel(); require.NoError(t, <-done); require.NoError(t, s.Close()) }
}

func startLab(t *testing.T, machines ...string) string {
	t.Helper()
	nl, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	var sc lab.Scenario
	for i, m := range machines {
		sc.Machines = append(sc.Machines, lab.ScenarioMachine{Name: m, Disks: []lab.ScenarioDisk{{SizeMiB: 9, UsedMiB: 3}}, Workload: lab.Workload{Seed: uint64(i + 1), RecordsPerS: 10, AppendKiBps: 50}})
	}
	l, err := lab.Open(t.TempDir(), sc, clock.Wall{}, nl.Addr().String())
	require.NoError(t, err)
	srv := httptest.NewServer(l.Handler("lab", "x"))
	running, cancel := context.WithCancel(ctx)
	done := make(chan error, 2)
	go func() { done <- nbd.Serve(running, nl, l) }()
	go func() { done <- l.Run(running, lab.Tick) }()
	t.Cleanup(func() {
		cancel()
		srv.Close()
		require.NoError(t, <-done)
		require.NoError(t, <-done)
		require.NoError(t, l.Close())
	})
	return srv.URL
}

// pair pairs two sites and gives the first a lab with machines.
func pair(t *testing.T, home, recovery *site.Site, machines ...string) {
	t.Helper()
	_, err := home.Inventory.Create(ctx, admin, api.NewPlatform{Name: "lab", Kind: "lab", Address: startLab(t, machines...), User: new("lab"), Password: new("x")})
	require.NoError(t, err)
	inv, err := home.Peering.Invite(ctx, admin, api.NewInvitation{})
	require.NoError(t, err)
	_, err = recovery.Peering.Accept(ctx, admin, api.AcceptInvitation{Invitation: inv.Text})
	require.NoError(t, err)
}

func group(t *testing.T, s *site.Site, id string) api.Group {
	t.Helper()
	g, err := s.Overview.Group(id)
	require.NoError(t, err)
	return g
}

// protect makes a group and waits for its first point.
func protect(t *testing.T, home *site.Site, in api.NewGroup) api.Group {
	t.Helper()
	in.Link = "Eastmole"
	id, err := home.Protection.Create(ctx, admin, in)
	require.NoError(t, err)
	require.Eventually(t, func() bool {
		g := group(t, home, id)
		return g.LastCycle != nil && g.LastCycle.State == "sealed" && g.NewestCaptureAt != nil
	}, patience, 20*time.Millisecond)
	return group(t, home, id)
}

func promise(rpo, every, keep int64) *api.Promise {
	return &api.Promise{RpoTargetSeconds: rpo, CadenceSeconds: every, Keep: []api.Rung{{ForSeconds: keep}}}
}

func joined(t *testing.T, home, recovery *site.Site, p *api.Promise) api.Group {
	t.Helper()
	pair(t, home, recovery, "db")
	return protect(t, home, api.NewGroup{Name: "Ticketing", Machines: []string{"db"}, Promise: p})
}

func listed(t *testing.T, s *site.Site, group string) []api.Point {
	t.Helper()
	ps, _, err := s.Keeper.List(ctx, keeper.Filter{Groups: []string{group}})
	require.NoError(t, err)
	return ps
}

// The home site's clock is 90 s ahead. Both sites show the same exposure, the
// recovery site shows captures on its own clock, and the link says that the clocks
// differ.
func TestExposureAllowsForClockDifference(t *testing.T) {
	t.Parallel()
	home, recovery := start(t, "Norhaven", skewed{by: 90 * time.Second}), start(t, "Eastmole", clock.Wall{})
	g := joined(t, home, recovery, promise(60, 2, 3600))
	require.Eventually(t, func() bool {
		l := recovery.Peering.Links()[0]
		return l.ClockAheadMillis != nil && *l.ClockAheadMillis > 89_000 && *l.ClockAheadMillis < 91_000
	}, patience, 20*time.Millisecond)
	differ := false
	for _, c := range recovery.Peering.Links()[0].Checks {
		differ = differ || c.Name == "Clocks agree" && !c.Ok && c.Mend != nil
	}
	require.True(t, differ)
	// The next point is captured with the difference known.
	require.Eventually(t, func() bool { return len(listed(t, recovery, g.ID)) >= 3 }, patience, 50*time.Millisecond)
	require.Eventually(t, func() bool {
		a, b := group(t, home, g.ID), group(t, recovery, g.ID)
		d := *a.ExposureSeconds - *b.ExposureSeconds
		return d >= -2 && d <= 2 && *b.ExposureSeconds < 20
	}, patience, 50*time.Millisecond)
	ps := listed(t, recovery, g.ID)
	require.WithinDuration(t, time.Now(), ps[0].CaptureAt, 15*time.Second, "captures are shown on our own clock")
	require.False(t, ps[0].SealedAt.Before(ps[0].CaptureAt.Add(-time.Second)))
	for _, s := range []*site.Site{home, recovery} {
		e, err := s.Overview.Exposure(ctx, g.ID, nil, nil)
		require.NoError(t, err)
		require.Less(t, e.WorstSeconds, int64(30))
		require.InDelta(t, 1, e.KeptShare, 1e-9)
	}
}

// The ladder thins points at the recovery site and the home site follows; the
// newest, pinned and served points stay.
func TestLadderPrunesAndPinsHold(t *testing.T) {
	t.Parallel()
	home, recovery := start(t, "Norhaven", clock.Wall{}), start(t, "Eastmole", clock.Wall{})
	g := joined(t, home, recovery, promise(60, 1, 3))
	ps := listed(t, recovery, g.ID)
	pinned := ps[len(ps)-1].ID
	_, err := recovery.Keeper.Pin(ctx, admin, pinned, api.PointPatch{Pinned: true, Reason: new("before the upgrade")})
	require.NoError(t, err)
	require.Eventually(t, func() bool { return len(listed(t, recovery, g.ID)) >= 2 }, patience, 20*time.Millisecond)
	sv, err := recovery.Serving.Serve(ctx, admin, api.NewServed{Point: listed(t, recovery, g.ID)[0].ID})
	require.NoError(t, err)
	require.Eventually(t, func() bool { return listed(t, recovery, g.ID)[0].Number >= 9 }, patience, 50*time.Millisecond)
	ps = listed(t, recovery, g.ID)
	have := map[string]api.Point{}
	for _, p := range ps {
		have[p.ID] = p
	}
	require.Less(t, len(ps), 8, "points beyond the ladder are gone")
	require.Equal(t, "before the upgrade", *have[pinned].PinReason, "a pinned point stays")
	require.NotEmpty(t, have[sv.Point].ID, "a served point stays")
	require.Eventually(t, func() bool {
		hs := listed(t, home, g.ID)
		return len(hs) < 10 && len(hs) > 0 && !hs[0].Held
	}, patience, 50*time.Millisecond, "the home site follows")
	require.NoError(t, recovery.Serving.Stop(ctx, admin, sv.ID))
	require.Eventually(t, func() bool {
		for _, p := range listed(t, recovery, g.ID) {
			if p.ID == sv.Point {
				return false
			}
		}
		return true
	}, patience, 50*time.Millisecond, "it goes when it is no longer served")
}

// A ladder that is made shorter says first what it would drop, wants that allowed,
// and the trail of the site that drops says what went.
func TestAShorterLadderSaysWhatGoes(t *testing.T) {
	t.Parallel()
	home, recovery := start(t, "Norhaven", clock.Wall{}), start(t, "Eastmole", clock.Wall{})
	g := joined(t, home, recovery, promise(60, 0, 3600))
	for n := 2; n <= 4; n++ {
		require.Eventually(t, func() bool { return home.Protection.Run(ctx, admin, g.ID, false) == nil }, patience, 20*time.Millisecond, "the cycle before has ended")
		require.Eventually(t, func() bool { return len(listed(t, recovery, g.ID)) == n && len(listed(t, home, g.ID)) == n }, patience, 20*time.Millisecond)
	}
	patch := api.GroupPatch{PromiseText: &api.PromiseText{Keep: new("all 1s")}}
	for _, s := range []*site.Site{home, recovery} {
		require.Eventually(t, func() bool {
			v, err := s.Protection.Preview(ctx, g.ID, patch)
			return err == nil && v.DropsPoints == 3
		}, patience, 50*time.Millisecond, "they are old enough")
		v, err := s.Protection.Preview(ctx, g.ID, patch)
		require.NoError(t, err)
		require.Equal(t, 3, v.DropsPoints)
		require.Equal(t, []int64{3, 2, 1}, *v.DropsNumbers)
		require.Equal(t, "keep", v.Changes[0].Field)
		err = s.Protection.Update(ctx, admin, g.ID, patch, nil)
		p, ok := problem.Of(err)
		require.True(t, ok)
		require.Equal(t, 409, p.Status)
		require.Contains(t, p.Detail, "3 points")
	}
	require.Len(t, listed(t, recovery, g.ID), 4, "nothing went")
	patch.DropPoints = new(true)
	require.NoError(t, recovery.Protection.Update(ctx, admin, g.ID, patch, nil))
	require.Eventually(t, func() bool { return len(listed(t, recovery, g.ID)) == 1 }, patience, 20*time.Millisecond)
	require.Eventually(t, func() bool {
		lines, err := recovery.Trail.Lines(ctx, records.Sought{Limit: 50, Text: "keep ladder was changed"})
		return err == nil && len(lines) == 1 && strings.Contains(lines[0].Text, "3 points were dropped")
	}, patience, 20*time.Millisecond)
}

// Blocks are taken from a group's home site only, and with the term it has here. A
// key that is not paired gets an answer and nothing else, whatever it asks for.
func TestOnlyTheHomeSiteBringsBlocks(t *testing.T) {
	t.Parallel()
	home, recovery := start(t, "Norhaven", clock.Wall{}), start(t, "Eastmole", clock.Wall{})
	g := joined(t, home, recovery, promise(3600, 0, 3600))
	req := cycle.OpenRequest{ID: uuid.NewString(), Group: points.SealGroup{ID: g.ID, Term: 1}, Disks: []cycle.OpenRequestDisk{{Machine: "m", Key: "d", Size: 1 << 20}}}
	for name, key := range map[string][]byte{"a stranger": make([]byte, 32), "nobody": nil} {
		t.Run(name, func(t *testing.T) {
			refused := func(err error) {
				t.Helper()
				p, ok := problem.Of(err)
				require.True(t, ok, "%v", err)
				require.Equal(t, 403, p.Status)
			}
			p := recovery.Peering
			_, err := p.OpenIntake(ctx, key, req)
			refused(err)
			_, err = p.HeldPoints(ctx, key, g.ID)
			refused(err)
			_, err = p.Beats(ctx, key, link.Beat{Site: "x", Groups: []link.GroupReport{{ID: g.ID, Term: 9}}, Ended: []string{g.ID}})
			refused(err)
			_, err = p.Intake(key, "x")
			refused(err)
			_, err = p.SealIntake(ctx, key, "x", points.Seal{})
			refused(err)
			refused(p.Acted(ctx, key, g.ID, link.Act{Action: "delete"}))
			_, err = p.GroupEnded(ctx, key, g.ID, true)
			refused(err)
			refused(p.Unpaired(ctx, key))
			p.Received(key, 1)
			connect, known := p.Allow(key)
			require.False(t, connect || known)
		})
	}
	require.Equal(t, api.In, group(t, recovery, g.ID).Direction, "all goes on")
}

// The key of a link that was removed a moment ago: beats with it are refused, and
// later calls are answered.
func TestABeatOfARemovedLinkHurtsNothing(t *testing.T) {
	t.Parallel()
	a, b := start(t, "Norhaven", clock.Wall{}), start(t, "Eastmole", clock.Wall{})
	pair(t, a, b)
	key := linkKey(t, b)
	require.NoError(t, b.Peering.Delete(ctx, admin, "Norhaven"))
	_, err := b.Peering.Beats(ctx, key, link.Beat{Site: "Norhaven", Groups: []link.GroupReport{}})
	require.ErrorContains(t, err, "Not a paired site")
	require.Empty(t, b.Peering.Links())
	_, err = b.Overview.Board(ctx, nil, listing.Page{})
	require.NoError(t, err)
}

// linkKey is the fingerprint by which a site knows its one peer.
func linkKey(t *testing.T, s *site.Site) []byte {
	t.Helper()
	ls := s.Peering.All()
	require.Len(t, ls, 1)
	return ls[0].Key
}

// settingsOf is a group's specification as it is sent.
func settingsOf(t *testing.T, s *site.Site, id string) []byte {
	t.Helper()
	r, ok := s.Groups.Get(id)
	require.True(t, ok)
	return directory.Encode(r.Spec)
}

// One group of a beat cannot be taken: the others are, and the home site says at
// that group why.
func TestOneBadGroupFailsAlone(t *testing.T) {
	t.Parallel()
	home, recovery := start(t, "Norhaven", clock.Wall{}), start(t, "Eastmole", clock.Wall{})
	g := joined(t, home, recovery, promise(3600, 0, 3600))
	good, _ := home.Groups.Get(g.ID)
	reply, err := recovery.Peering.Beats(ctx, linkKey(t, recovery), link.Beat{Site: "Norhaven", Groups: []link.GroupReport{
		{ID: uuid.NewString(), Term: 1, Revision: 1, Settings: []byte(`{"machines": 7}`)},
		{ID: "not a group"},
		{ID: g.ID, Term: 1, Revision: good.Revision, Settings: settingsOf(t, home, g.ID)},
		{ID: g.ID, Term: 0, Revision: 99, Settings: settingsOf(t, home, g.ID)},
	}})
	require.NoError(t, err)
	require.Len(t, reply.Groups, 3)
	require.Contains(t, reply.Groups[0].Refused, "not understood")
	require.Empty(t, reply.Groups[1].Refused)
	require.NotEmpty(t, reply.Groups[1].NewestPoint)
	require.Contains(t, reply.Groups[2].Refused, "stand down")
	require.Equal(t, api.In, group(t, recovery, g.ID).Direction)
}

// A group that is not reported has not ended; one that is said to have ended has,
// and the home site says it until it is heard.
func TestEndsAreSaid(t *testing.T) {
	t.Parallel()
	home, recovery := start(t, "Norhaven", clock.Wall{}), start(t, "Eastmole", clock.Wall{})
	g := joined(t, home, recovery, promise(3600, 0, 3600))
	key := linkKey(t, recovery)
	_, err := recovery.Peering.Beats(ctx, key, link.Beat{Site: "Norhaven", Groups: []link.GroupReport{}})
	require.NoError(t, err)
	require.Equal(t, api.In, group(t, recovery, g.ID).Direction)
	reply, err := recovery.Peering.Beats(ctx, key, link.Beat{Site: "Norhaven", Groups: []link.GroupReport{}, Ended: []string{g.ID, uuid.NewString()}})
	require.NoError(t, err)
	require.Len(t, reply.Ended, 2, "one that was never heard of has ended too")
	require.Len(t, listed(t, recovery, g.ID), 1, "its points stay")
	// Home still has it, and says so with its next beat.
	require.Eventually(t, func() bool { return group(t, recovery, g.ID).Direction == api.In }, patience, 20*time.Millisecond)
}

// Whoever holds an invitation pairs one site, and takes over none: a known ID with
// another key is refused on both sides, and nothing changes.
func TestAnInvitationTakesOverNoLink(t *testing.T) {
	t.Parallel()
	home, recovery := start(t, "Norhaven", clock.Wall{}), start(t, "Eastmole", clock.Wall{})
	pair(t, home, recovery)
	before := home.Peering.Links()[0]
	inv, err := home.Peering.Invite(ctx, admin, api.NewInvitation{})
	require.NoError(t, err)
	v, err := link.ParseInvite(inv.Text)
	require.NoError(t, err)
	// A fresh key claims to be Eastmole.
	forged := link.PairRequest{Token: v.Token, Site: "Eastmole", SiteID: recovery.Self().ID, Address: "127.0.0.1:1"}
	_, err = home.Peering.Pair(ctx, []byte(strings.Repeat("x", 32)), forged)
	require.ErrorContains(t, err, "another key")
	require.Equal(t, before.Key, home.Peering.Links()[0].Key)
	require.Equal(t, before.Address, home.Peering.Links()[0].Address)
	lines, err := home.Trail.Lines(ctx, records.Sought{Limit: 10, Text: "nothing was changed"})
	require.NoError(t, err)
	require.Len(t, lines, 1, "the trail tells of it")
	// The other way round: an invitation of a third site that claims to be Norhaven.
	third := start(t, "Skarholt", clock.Wall{})
	inv, err = third.Peering.Invite(ctx, admin, api.NewInvitation{})
	require.NoError(t, err)
	v, err = link.ParseInvite(inv.Text)
	require.NoError(t, err)
	v.Site, v.SiteID = "Norhaven", home.Self().ID
	_, err = recovery.Peering.Accept(ctx, admin, api.AcceptInvitation{Invitation: v.Text()})
	require.ErrorContains(t, err, "by another key")
	require.Len(t, recovery.Peering.Links(), 1)
	// A third site's own ID under the key that Norhaven knows Eastmole by.
	inv, err = home.Peering.Invite(ctx, admin, api.NewInvitation{})
	require.NoError(t, err)
	v, err = link.ParseInvite(inv.Text)
	require.NoError(t, err)
	_, err = home.Peering.Pair(ctx, linkKey(t, home), link.PairRequest{Token: v.Token, Site: "Other", SiteID: uuid.NewString(), Address: "127.0.0.1:1"})
	require.ErrorContains(t, err, "This key is Eastmole's")
}

// A site that has lost its key comes back by an invitation that says so, and by no
// other.
func TestALostKeyIsReplacedOnPurpose(t *testing.T) {
	t.Parallel()
	home := start(t, "Norhaven", clock.Wall{})
	db, err := cluster.Database(ctx, "s"+strings.ReplaceAll(uuid.NewString(), "-", ""))
	require.NoError(t, err)
	dir := t.TempDir()
	recovery, stop := startOn(t, "Eastmole", clock.Wall{}, db, dir)
	g := joined(t, home, recovery, promise(3600, 0, 3600))
	before := home.Peering.Links()[0].Key
	stop()
	require.NoError(t, os.Remove(filepath.Join(dir, "identity.pem")))
	recovery, stop = startOn(t, "Eastmole", clock.Wall{}, db, dir)
	defer stop()
	accept := func(in api.NewInvitation) error {
		inv, err := home.Peering.Invite(ctx, admin, in)
		require.NoError(t, err)
		_, err = recovery.Peering.Accept(ctx, admin, api.AcceptInvitation{Invitation: inv.Text})
		return err
	}
	require.ErrorContains(t, accept(api.NewInvitation{}), "another key")
	_, err = home.Peering.Invite(ctx, admin, api.NewInvitation{NewKey: new(true), ForSite: new("Skarholt")})
	require.ErrorContains(t, err, "Name the paired site")
	require.NoError(t, accept(api.NewInvitation{NewKey: new(true), ForSite: new("Eastmole")}))
	require.NotEqual(t, before, home.Peering.Links()[0].Key)
	require.Len(t, home.Peering.Links(), 1)
	require.NoError(t, home.Protection.Run(ctx, admin, g.ID, false))
	require.Eventually(t, func() bool { return len(listed(t, recovery, g.ID)) == 2 }, patience, 50*time.Millisecond, "cycles go on")
}

// A platform that hangs delays what needs it, and nothing else.
func TestAHungPlatformDelaysOnlyItself(t *testing.T) {
	t.Parallel()
	home, recovery := start(t, "Norhaven", clock.Wall{}), start(t, "Eastmole", clock.Wall{})
	// It answers its test, and then never again.
	front := proxy(t, startLab(t, "slow"))
	_, err := home.Inventory.Create(ctx, admin, api.NewPlatform{Name: "slow", Kind: "lab", Address: front.url, User: new("lab"), Password: new("x")})
	require.NoError(t, err)
	front.stall()
	g := joined(t, home, recovery, promise(60, 1, 3600))
	first := *group(t, home, g.ID).NewestCaptureAt
	require.Eventually(t, func() bool { return group(t, home, g.ID).NewestCaptureAt.After(first.Add(3 * time.Second)) }, 19*time.Second, 50*time.Millisecond, "cycles keep their cadence")
	began := time.Now()
	_, err = home.Overview.Board(ctx, nil, listing.Page{})
	require.NoError(t, err)
	require.Less(t, time.Since(began), 2*time.Second)
}

// A database that was used by another site is not taken for ours.
func TestAStateBelongsToOneSite(t *testing.T) {
	t.Parallel()
	url, err := cluster.Database(ctx, "s"+strings.ReplaceAll(uuid.NewString(), "-", ""))
	require.NoError(t, err)
	db, err := records.Open(ctx, url)
	require.NoError(t, err)
	_, err = db.Site(ctx, "Norhaven", time.Now())
	require.NoError(t, err)
	require.NoError(t, db.Close())
	_, err = site.New(ctx, site.Config{Name: "Eastmole", StateDir: t.TempDir(), DatabaseURL: url, LinkListen: "127.0.0.1:0", NBDListen: "127.0.0.1:0", StoreFloor: 1 << 20, Clock: clock.Wall{}, Log: slog.New(slog.DiscardHandler)})
	require.ErrorContains(t, err, `belongs to site "Norhaven"`)
	_, err = site.New(ctx, site.Config{Name: "a\nb", StateDir: t.TempDir(), NBDListen: "127.0.0.1:0"})
	require.ErrorContains(t, err, "cannot be seen")
}
