package watch_test

import (
	"context"
	"encoding/json"
	"errors"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/google/uuid"
	"github.com/stretchr/testify/require"

	"kestrel/internal/api"
	"kestrel/internal/clock"
	"kestrel/internal/core/alert"
	"kestrel/internal/core/health"
	"kestrel/internal/cycle"
	"kestrel/internal/directory"
	"kestrel/internal/listing"
	"kestrel/internal/overview"
	"kestrel/internal/platform"
	"kestrel/internal/points"
	"kestrel/internal/problem"
	"kestrel/internal/records"
	"kestrel/internal/support/pgcluster"
	"kestrel/internal/support/rooms"
	"kestrel/internal/watch"
)

var cluster *pgcluster.Cluster

func TestMain(m *testing.M) {
	os.Exit(pgcluster.Main(m, "watch", func(c *pgcluster.Cluster) { cluster = c }))
}

// ahead is a clock that can be set forward.
type ahead struct {
	clock.Wall
	mu sync.Mutex
	by time.Duration
}

func (a *ahead) Now() time.Time {
	a.mu.Lock()
	defer a.mu.Unlock()
	return time.Now().Add(a.by)
}

func (a *ahead) pass(d time.Duration) {
	a.mu.Lock()
	defer a.mu.Unlock()
	a.by += d
}

// tower is a site that is watched, and who would be told.
type tower struct {
	t     *testing.T
	ctx   context.Context
	house *rooms.House
	db    *records.DB
	clk   *ahead
	w     *watch.Watch
	told  []string
	fails string    // a channel
	dark  bool      // the other site is gone
	due   time.Time // when a drill of every group falls due
	// failed is since when a failover of every group is open, and twice are machines that run
	// here although their group runs elsewhere.
	failed time.Time
	twice  []string
}

func (x *tower) Messages(ts []alert.Telling) ([]records.Message, error) {
	for _, t := range ts {
		x.told = append(x.told, string(t.Event)+" "+string(t.Alert.Kind)+" "+t.Alert.Thing.Name)
	}
	return nil, nil
}
func (x *tower) Takes([]string, alert.Level) bool { return true }
func (x *tower) Names() []string                  { return []string{"desk", "on-call"} }
func (x *tower) Wake()                            {}
func (x *tower) Failing(each func(id, name string, since time.Time, why string)) {
	if x.fails != "" {
		each(x.fails, x.fails, x.clk.Now(), "refused")
	}
}

func newTower(t *testing.T, ctx context.Context, h *rooms.House) *tower {
	t.Helper()
	url, err := cluster.Database(ctx, "w"+strings.ReplaceAll(uuid.NewString(), "-", ""))
	require.NoError(t, err)
	x := &tower{t: t, ctx: ctx, house: h, clk: &ahead{}}
	x.db, err = records.Open(ctx, url)
	require.NoError(t, err)
	t.Cleanup(func() { require.NoError(t, x.db.Close()) })
	x.open()
	return x
}

func (x *tower) open() {
	x.t.Helper()
	h := x.house
	var err error
	// What is shown of groups is of the same clock.
	o := overview.New(overview.Config{Site: h.Name, Groups: h.Groups, Inventory: h.Inventory, Peering: h.Peering, Mover: h.Mover, Keeper: h.Keeper, History: h.History, Clock: x.clk, Leavers: h.Coverage.Leavers})
	x.w, err = watch.Open(x.ctx, watch.Config{Failover: func(string) time.Time { return x.failed }, RunsHere: func(directory.Record) []string { return x.twice },
		Drill: func(directory.Record) (last, due time.Time) { return time.Time{}, x.due }, Site: h.Name, DB: x.db, Groups: h.Groups, Overview: o, Lookout: h.Lookout, Inventory: h.Inventory, Peering: h.Peering, Keeper: h.Keeper, Out: x, CertificateEnds: h.Yard.CertificateEnds,
		Trail: h.Trail, Clock: x.clk, Hub: h.Hub, Log: h.Log, Every: time.Hour})
	require.NoError(x.t, err)
}

// look looks, lets time pass and looks again, as often as it takes for everything to be
// raised or cleared, and gives what was told.
func (x *tower) look() []string {
	x.t.Helper()
	x.told = nil
	if !x.dark {
		heard(x.t, x.ctx, x.house) // a machine that is busy may have kept them apart
	}
	for range 4 {
		require.NoError(x.t, x.w.Look(x.ctx))
		x.clk.pass(alert.Hold)
	}
	slices.Sort(x.told)
	return x.told
}

func (x *tower) open1(kind string) api.Alert {
	x.t.Helper()
	for _, a := range x.w.Alerts(nil) {
		if a.Kind == kind {
			return a
		}
	}
	x.t.Fatalf("no alert %s is open: %+v", kind, x.w.Alerts(nil))
	return api.Alert{}
}

// Every kind that two sites can get into is raised and cleared, once each, over restarts;
// what follows from a cause belongs to it.
func TestWhatGoesWrongIsTold(t *testing.T) {
	ctx, home, recovery := rooms.Paired(t)
	g, err := home.Sealed(ctx, rooms.NewGroup())
	require.NoError(t, err)
	heard(t, ctx, home)
	heard(t, ctx, recovery)
	north, east := newTower(t, ctx, home), newTower(t, ctx, recovery)
	require.Empty(t, north.look())
	require.Equal(t, []api.Condition{{Word: api.Fine}}, []api.Condition{watch.ConditionView(condition(t, north, watch.Link, home.Peering.All()[0].ID))})

	// The recovery site says that nothing would start there; home does not tell it again.
	recovery.Lookout.Look()
	require.Equal(t, []string{"raised not ready Ticketing"}, east.look())
	require.Contains(t, east.open1("not ready").Text, "No platform is chosen")
	require.Empty(t, north.look())

	// A platform that is away is one alert, with its groups once they are late for it.
	home.Shed.Fail(errors.New("the door is shut"))
	home.Inventory.Refresh(ctx, home.PlatformID)
	require.Equal(t, []string{"raised platform away shed"}, north.look())
	a := north.open1("platform away")
	require.Contains(t, a.Text, "the door is shut")
	require.Equal(t, []string{g.Name}, a.Members)
	north.open()
	require.Empty(t, north.look(), "a restart tells nothing again")
	m, known := north.w.Machine(home.PlatformID, "m-tick-db")
	require.True(t, known)
	require.Equal(t, health.Unknown, m.Word)
	home.Shed.Fail(nil)
	home.Inventory.Refresh(ctx, home.PlatformID)
	require.NoError(t, home.Until(ctx, func() bool { r, _ := home.Groups.Get(g.ID); return home.Overview.Stand(r).State == health.OnTarget }))
	require.Equal(t, []string{"cleared platform away shed"}, north.look())

	// Home is dark: the other site tells, once.
	home.Leave()
	east.dark = true
	require.NoError(t, recovery.Until(ctx, func() bool { l := recovery.Peering.All()[0]; return !l.Reached && !l.Called }))
	require.Equal(t, []string{"raised link down Norhaven"}, east.look())
	require.Equal(t, []string{g.Name}, east.open1("link down").Members)
	require.Equal(t, health.Unknown, condition(t, east, watch.Peer, recovery.Peering.All()[0].ID).Word)
	require.NoError(t, home.Return())
	east.dark = false
	heard(t, ctx, recovery)
	require.Equal(t, []string{"cleared link down Norhaven"}, east.look())

	// A drill is due: the site tells that keeps the points.
	north.due, east.due = east.clk.Now().Add(-time.Hour), east.clk.Now().Add(-time.Hour)
	require.Equal(t, []string{"raised drill due Ticketing"}, east.look())
	require.Contains(t, east.open1("drill due").Text, "No drill of it has passed yet")
	require.Empty(t, north.look())
	east.due = east.clk.Now().Add(100 * time.Hour)
	require.Equal(t, []string{"cleared drill due Ticketing"}, east.look())

	// A point of which a block cannot be read, until that is there again.
	mirrored, known := recovery.Groups.Get(g.ID)
	require.True(t, known)
	block := append([]byte{7}, make([]byte, points.BlockSize-1)...)
	seal := func(blocks ...[]byte) {
		t.Helper()
		_, err := recovery.Seal(ctx, mirrored, uuid.NewString(), time.Now(), blocks...)
		require.NoError(t, err)
	}
	seal(block)
	for lost := false; !lost; {
		require.True(t, recovery.Files.Rot(filepath.Join("store", "packs", "*")))
		rep, err := recovery.Store.Verify(ctx, nil)
		require.NoError(t, err)
		lost = len(rep.Faults) > 0
	}
	seal()
	require.Equal(t, []string{"raised not whole Ticketing"}, east.look())
	seal(block)
	seal()
	require.Equal(t, []string{"cleared not whole Ticketing"}, east.look())

	// The store has no room for what comes.
	recovery.Store.SetFloor(1 << 41)
	require.Equal(t, []string{"raised store full the point store"}, east.look())
	recovery.Store.SetFloor(0)
	require.Equal(t, []string{"cleared store full the point store"}, east.look())

	// It fills: at its pace since two hours ago there are some days left. And by then that
	// site's clock is two hours ahead, which both sites tell.
	recovery.Clock.Set(2 * time.Hour)
	require.NoError(t, home.Until(ctx, func() bool {
		return home.Peering.All()[0].Ahead > time.Hour && recovery.Peering.All()[0].Ahead < -time.Hour
	}))
	u := recovery.Store.Usage()
	recovery.Store.SetFloor(u.FreeBytes - 10*u.PackBytes)
	require.Empty(t, east.look(), "not yet")
	east.clk.pass(time.Hour)
	require.Equal(t, []string{"raised clock Norhaven", "raised store filling the point store"}, east.look())
	require.Contains(t, east.open1("clock").Text, "differ by 2 h")
	require.Empty(t, north.look())
	north.clk.pass(5 * time.Minute)
	require.Equal(t, []string{"raised clock Eastmole"}, north.look())
	recovery.Clock.Set(0)
	recovery.Store.SetFloor(0)
	require.NoError(t, home.Until(ctx, func() bool {
		return home.Peering.All()[0].Ahead.Abs() < time.Second && recovery.Peering.All()[0].Ahead.Abs() < time.Second
	}))
	require.Equal(t, []string{"cleared clock Norhaven", "cleared store filling the point store"}, east.look())
	require.Equal(t, []string{"cleared clock Eastmole"}, north.look())

	// What concerns the site itself.
	recovery.Yard.Set(nil, time.Now().Add(24*time.Hour))
	east.fails = "desk"
	east.clk.pass(10 * time.Minute)
	require.NoError(t, east.w.Look(ctx))
	east.clk.pass(10 * time.Minute)
	require.Equal(t, []string{"raised not delivered the channel desk"}, slices.DeleteFunc(east.look(), func(s string) bool { return strings.HasPrefix(s, "raised certificate") }))
	require.Contains(t, east.open1("certificate ends").Text, "disks of points are served")
	recovery.Yard.Set(nil, time.Time{})
	east.fails = ""
	require.Equal(t, []string{"cleared certificate ends Eastmole", "cleared not delivered the channel desk"}, east.look())

	// Machines can arrive again.
	p, err := recovery.Inventory.Create(ctx, rooms.Anna(), api.NewPlatform{Name: "dock", Kind: "lab", Address: "http://127.0.0.1:2"})
	require.NoError(t, err)
	_, err = recovery.Berths.Write(ctx, rooms.Anna(), g.ID, 0, json.RawMessage(`{"platform":"dock","name":"{name}-em"}`))
	require.NoError(t, err)
	recovery.Inventory.Refresh(ctx, p.ID)
	recovery.Lookout.Look()
	require.Equal(t, []string{"cleared not ready Ticketing"}, east.look())
	past, err := east.w.Cleared(ctx, nil, new(east.clk.Now().Add(time.Hour)), 0, nil)
	require.NoError(t, err)
	require.Len(t, past, 9)
	require.NotNil(t, past[0].ClearedAt)
}

// A group that is held here is told of until somebody decides, and nothing else of it; one that
// runs at both sites is told of where it should not.
func TestFailoversAreTold(t *testing.T) {
	ctx, home, recovery := rooms.Paired(t)
	g, err := home.Sealed(ctx, rooms.NewGroup())
	require.NoError(t, err)
	heard(t, ctx, recovery)
	north, east := newTower(t, ctx, home), newTower(t, ctx, recovery)
	require.Empty(t, north.look())
	turn := func(x *rooms.House, to directory.Turned, term int64) {
		t.Helper()
		_, err := x.Groups.Turn(ctx, rooms.Anna(), g.ID, func(r *directory.Record) (string, error) {
			r.Turned, r.Term = to, term
			return "turned", nil
		})
		require.NoError(t, err)
	}
	turn(recovery, directory.Held, 2)
	east.failed = east.clk.Now().Add(-time.Hour)
	east.clk.pass(10 * time.Hour)
	require.Equal(t, []string{"raised failed over Ticketing"}, east.look(), "its target says nothing before it is decided")
	require.Contains(t, east.open1("failed over").Text, "copied nowhere until that is decided")
	turn(home, directory.Away, 2)
	north.twice = []string{"tick-db"}
	north.clk.pass(10 * time.Hour)
	require.Equal(t, []string{"raised two copies Ticketing"}, north.look())
	require.Contains(t, north.open1("two copies").Text, "here run still: tick-db")
	north.twice = nil
	require.Equal(t, []string{"cleared two copies Ticketing"}, north.look())
	b, err := recovery.Overview.Board(ctx, nil, listing.Page{})
	require.NoError(t, err)
	require.Equal(t, "Ticketing runs here since a failover", b.Needs[0].Title)
	turn(recovery, directory.Returned, 3)
	require.Contains(t, east.look(), "cleared failed over Ticketing")
}

// How a group fares is told as well: each once when it has been so for as long as its rule
// says, and once when it is over.
func TestHowGroupsFareIsTold(t *testing.T) {
	ctx, home, _ := rooms.Paired(t)
	home.Shed.Change(func(ms []platform.Machine) []platform.Machine { ms[0].Agent = platform.AgentAnswers; return ms })
	home.Inventory.Refresh(ctx, home.PlatformID)
	in := rooms.NewGroup()
	in.Quiesce = &[]api.QuiesceOf{{Machine: "tick-db", Mode: "try"}}
	g, err := home.Sealed(ctx, in)
	require.NoError(t, err)
	heard(t, ctx, home)
	x := newTower(t, ctx, home)
	require.Empty(t, x.look())
	run := func() {
		t.Helper()
		before, err := home.Overview.Group(g.ID)
		require.NoError(t, err)
		r, err := home.Groups.Find(g.ID)
		require.NoError(t, err)
		require.NoError(t, home.Mover.Ask(r, false))
		require.NoError(t, home.Until(ctx, func() bool {
			v, err := home.Overview.Group(g.ID)
			return err == nil && v.LastCycle.Number > before.LastCycle.Number && v.LastCycle.State == cycle.Sealed
		}))
	}
	promise := func(seconds int64) {
		t.Helper()
		require.NoError(t, home.Protection.Update(ctx, rooms.Anna(), g.ID, api.GroupPatch{Promise: &api.PromisePatch{RpoTargetSeconds: &seconds}}, nil))
	}

	// A guest that is not brought to rest, for half an hour.
	home.Shed.Restless("the agent does not answer")
	run()
	require.Empty(t, x.look(), "not yet")
	x.clk.pass(30 * time.Minute)
	require.Equal(t, []string{"raised not at rest Ticketing"}, x.look())
	require.Contains(t, x.open1("not at rest").Text, "tick-db was not brought to rest at the last capture: The agent does not answer.")
	home.Shed.Restless("")
	run()
	require.Equal(t, []string{"cleared not at rest Ticketing"}, x.look())

	// Close to its target of two hours for a quarter of an hour, and then above it.
	x.clk.pass(52 * time.Minute)
	require.Empty(t, x.look(), "not yet")
	x.clk.pass(8 * time.Minute)
	require.Equal(t, []string{"raised tight Ticketing"}, x.look())
	x.clk.pass(time.Hour)
	require.Equal(t, []string{"cleared tight Ticketing", "raised over target Ticketing"}, x.look())
	require.Contains(t, x.open1("over target").Text, "the target is 2 h")
	promise(30 * 86400)
	require.Equal(t, []string{"cleared over target Ticketing"}, x.look())

	// A cycle that gets no further.
	let := home.Shed.Hold()
	r, err := home.Groups.Find(g.ID)
	require.NoError(t, err)
	require.NoError(t, home.Mover.Ask(r, false))
	require.NoError(t, home.Until(ctx, func() bool { return home.Mover.Live(g.ID).Running != nil }))
	x.clk.pass(10 * time.Minute)
	require.Equal(t, []string{"raised stalled Ticketing"}, x.look())
	let()
	require.NoError(t, home.Until(ctx, func() bool { return home.Mover.Live(g.ID).Running == nil }))
	require.Equal(t, []string{"cleared stalled Ticketing"}, x.look())

	// Changes that are not as usual, told for a day: the newest point before them is named.
	home.Shed.Strange("200 MiB that changed cannot be compressed.")
	run()
	home.Shed.Strange("")
	run()
	require.Equal(t, []string{"raised unusual change Ticketing"}, x.look())
	require.Contains(t, x.open1("unusual change").Text, "200 MiB that changed cannot be compressed.")
	x.open()
	require.Empty(t, x.look(), "a restart tells nothing again")
	x.clk.pass(24 * time.Hour)
	require.Equal(t, []string{"cleared unusual change Ticketing"}, x.look())

	// A day that went worse than was foretold, told for a day.
	require.NoError(t, x.db.AddGroups(ctx, []records.Group{records.Group{ID: g.ID, Name: g.Name, Direction: "out", HomeID: rooms.HomeID, HomeName: rooms.HomeName, RecoveryName: rooms.RecoveryName, Term: 1, Revision: 1, Settings: []byte("{}"), Anchor: time.Now(), CreatedAt: time.Now()}}, []records.Activity{{}}))
	now := x.clk.Now()
	require.NoError(t, x.db.PutForecast(ctx, records.Forecast{GroupID: g.ID, MadeAt: now.Add(-24 * time.Hour), Until: now, Within: 1, CameWorst: new(int64(9)), CameBytes: new(int64(9)), CameWithin: new(0.9)}))
	made, err := x.db.NewestForecasts(ctx)
	require.NoError(t, err)
	require.WithinDuration(t, now.Add(-24*time.Hour), made[g.ID], time.Millisecond)
	x.clk.pass(2 * time.Minute) // it is asked for once a minute
	require.Equal(t, []string{"raised forecast missed Ticketing"}, x.look())
	require.Contains(t, x.open1("forecast missed").Text, "100.0 % of the time, and was for 90.0 %")
	x.clk.pass(27 * time.Hour)
	require.Equal(t, []string{"cleared forecast missed Ticketing"}, x.look())
}

// heard waits until both sites have heard of each other.
func heard(t *testing.T, ctx context.Context, h *rooms.House) {
	t.Helper()
	require.NoError(t, h.Until(ctx, func() bool { l := h.Peering.All()[0]; return l.Reached && l.Called }))
}

func condition(t *testing.T, x *tower, kind, id string) health.Condition {
	t.Helper()
	c, known := x.w.Condition(watch.Thing{Kind: kind, ID: id})
	require.True(t, known)
	return c
}

// People say of what they are told, that they see to it, and when they want to be left in
// peace; all of it is in the trail, and outlasts a restart.
func TestPeopleAndAlerts(t *testing.T) {
	ctx, _, recovery := rooms.Paired(t)
	heard(t, ctx, recovery)
	x := newTower(t, ctx, recovery)
	anna := rooms.Anna()
	x.fails = "desk"

	v, err := x.w.SetRules(ctx, anna, api.WriteAlertRules{Rules: []api.AlertRule{{Kind: "not delivered", AfterSeconds: new(int64(0)), Level: new("urgent"), EscalateAfterSeconds: new(int64(600)), EscalateTo: new("on-call")}, {Kind: "over target", Tag: new("lab"), Off: new(true)}}})
	require.NoError(t, err)
	require.EqualValues(t, 1, v.Revision)
	require.Len(t, v.Rules, len(alert.Kinds())+1, "one of each kind, and one for a tag")
	_, err = x.w.SetRules(ctx, anna, api.WriteAlertRules{Rules: v.Rules})
	require.ErrorContains(t, err, "changed since you looked")
	for field, r := range map[string]api.AlertRule{
		"rules.0.kind":         {Kind: "weather"},
		"rules.0.level":        {Kind: "tight", Level: new("dire")},
		"rules.0.quiet":        {Kind: "tight", Quiet: new("when I sleep")},
		"rules.0.channels":     {Kind: "tight", Channels: &[]string{"pigeon"}},
		"rules.0.group":        {Kind: "tight", Group: new("Nobody")},
		"rules.0.for":          {Kind: "link down", Tag: new("lab")},
		"rules.0.afterSeconds": {Kind: "tight", AfterSeconds: new(int64(1 << 40))},
	} {
		_, err := x.w.SetRules(ctx, anna, api.WriteAlertRules{Revision: 1, Rules: []api.AlertRule{r}})
		p, ok := problem.Of(err)
		require.True(t, ok, field)
		require.Equal(t, field, p.Errors[0].Field)
	}

	s, err := x.w.Silence(ctx, anna, api.NewSilence{LastsSeconds: new(int64(3600)), Reason: "array swap"})
	require.NoError(t, err)
	require.True(t, s.Holds)
	for field, in := range map[string]api.NewSilence{
		"reason":       {LastsSeconds: new(int64(3600))},
		"lastsSeconds": {Reason: "x"},
		"kind":         {Reason: "x", LastsSeconds: new(int64(60)), Kind: new("weather")},
		"calendar":     {Reason: "x", LastsSeconds: new(int64(60)), Calendar: new("when I sleep")},
	} {
		_, err := x.w.Silence(ctx, anna, in)
		p, ok := problem.Of(err)
		require.True(t, ok, field)
		require.Equal(t, field, p.Errors[0].Field)
	}
	require.Empty(t, x.look(), "it is silenced")
	require.Contains(t, *x.open1("not delivered").Silenced, "array swap")
	x.open()
	require.Len(t, x.w.Silences(), 1)
	require.NoError(t, x.w.EndSilence(ctx, anna, s.ID))
	require.ErrorContains(t, x.w.EndSilence(ctx, anna, s.ID), "silence")
	require.Equal(t, []string{"raised not delivered the channel desk"}, slices.DeleteFunc(x.look(), func(s string) bool { return strings.HasPrefix(s, "escalated") }))
	x.clk.pass(time.Hour)
	x.look()
	require.NotNil(t, x.open1("not delivered").EscalatedAt)

	a, err := x.w.Acknowledge(ctx, anna, x.open1("not delivered").ID, api.Acknowledgement{Note: new("I look at the desk")})
	require.NoError(t, err)
	require.Equal(t, "anna", *a.AckedBy)
	_, err = x.w.Acknowledge(ctx, anna, a.ID, api.Acknowledgement{})
	require.ErrorContains(t, err, "sees to it already")
	_, err = x.w.Acknowledge(ctx, anna, uuid.NewString(), api.Acknowledgement{})
	require.ErrorContains(t, err, "open alert")
	x.open()
	x.look()
	require.Equal(t, "I look at the desk", *x.open1("not delivered").AckNote)
	require.Contains(t, strings.Join(x.w.Morning(), "\n"), "anna sees to it.")
	x.fails = ""
	require.Equal(t, []string{"cleared not delivered the channel desk"}, x.look())
}
