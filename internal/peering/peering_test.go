package peering_test

import (
	"bytes"
	"context"
	"encoding/json"
	"fmt"
	"net/http"
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
	"kestrel/internal/link"
	"kestrel/internal/peering"
	"kestrel/internal/points"
	"kestrel/internal/problem"
	"kestrel/internal/records"
	"kestrel/internal/support/rooms"
)

// rig is Eastmole, to which calls come as if over the link.
type rig struct {
	*rooms.Side
	t     *testing.T
	p     *peering.Peering
	acted []string
	by    []actor.Actor
}

func newRig(t *testing.T) *rig {
	t.Helper()
	s, err := rooms.New(rooms.RecoveryID, rooms.RecoveryName, 1)
	require.NoError(t, err)
	t.Cleanup(func() { require.NoError(t, s.Store.Close()) })
	r := &rig{Side: s, t: t}
	r.start(t.TempDir())
	return r
}

func (r *rig) start(dir string) {
	r.t.Helper()
	id, err := link.LoadIdentity(dir, time.Now())
	require.NoError(r.t, err)
	r.p, err = peering.Open(r.t.Context(), peering.Config{Site: records.Site{ID: r.ID, Name: r.Name}, Identity: id, DB: r.DB, Groups: r.Groups, Keeper: r.Keeper, Trail: r.Trail, Clock: clock.Wall{}, Hub: r.Hub, Log: r.Log,
		BeatEvery: time.Second, Address: "127.0.0.1:7443", Platforms: func() (int, int) { return 0, 0 }, Live: func(string) link.Live { return link.Live{} },
		Act: func(_ context.Context, who actor.Actor, group, action string, body []byte) error {
			r.acted, r.by = append(r.acted, group+" "+action+" "+string(body)), append(r.by, who)
			return nil
		}})
	require.NoError(r.t, err)
}

// key is the key of a site that calls.
func key(n byte) []byte { return bytes.Repeat([]byte{n}, 32) }

// request is Norhaven's wish to pair, which nobody can call back.
func request(token []byte) link.PairRequest {
	return link.PairRequest{SiteID: rooms.HomeID, Site: rooms.HomeName, Address: "127.0.0.1:1", Token: token}
}

// invite makes an invitation and gives its secret.
func (r *rig) invite(in api.NewInvitation) []byte {
	r.t.Helper()
	v, err := r.p.Invite(r.t.Context(), rooms.Anna(), in)
	require.NoError(r.t, err)
	inv, err := link.ParseInvite(v.Text)
	require.NoError(r.t, err)
	return inv.Token
}

// paired pairs Norhaven under the first key.
func (r *rig) paired() {
	r.t.Helper()
	_, err := r.p.Pair(r.t.Context(), key(1), request(r.invite(api.NewInvitation{})))
	require.NoError(r.t, err)
}

func report(g directory.Record) link.GroupReport {
	return link.GroupReport{ID: g.ID, Term: g.Term, Revision: g.Revision, Settings: directory.Encode(g.Spec), Anchor: g.Anchor, CreatedAt: g.CreatedAt}
}

func group(name string) directory.Record {
	g := rooms.Record(uuid.NewString(), rooms.Spec(name))
	g.Term, g.Revision, g.CreatedAt, g.Anchor = 1, 1, time.Now(), time.Now()
	return g
}

func (r *rig) beat(k []byte, b link.Beat) map[string]link.GroupState {
	r.t.Helper()
	reply, err := r.p.Beats(r.t.Context(), k, b)
	require.NoError(r.t, err)
	out := map[string]link.GroupState{}
	for _, g := range reply.Groups {
		out[g.ID] = g
	}
	return out
}

// end tells of a group's end.
func (r *rig) end(k []byte, group string, deletePoints bool) error {
	_, err := r.p.GroupEnded(r.t.Context(), k, group, deletePoints)
	return err
}

func says(t *testing.T, err error, text string) {
	t.Helper()
	p, ok := problem.Of(err)
	require.True(t, ok, "%v", err)
	all := p.Title + " " + p.Detail
	for _, e := range p.Errors {
		all += " " + e.Message
	}
	require.Contains(t, all, text)
}

// Who may pair, and who may not. A refusal changes nothing, and uses no invitation
// up that was not the caller's.
func TestWhoMayPair(t *testing.T) {
	r := newRig(t)
	for name, c := range map[string]struct {
		in     api.NewInvitation
		change func(q *link.PairRequest)
		says   string
	}{
		"no secret":         {api.NewInvitation{}, func(q *link.PairRequest) { q.Token = nil }, "not complete"},
		"another secret":    {api.NewInvitation{}, func(q *link.PairRequest) { q.Token = []byte("guessed") }, "does not know this invitation"},
		"no address":        {api.NewInvitation{}, func(q *link.PairRequest) { q.Address = "nowhere" }, "not complete"},
		"no site ID":        {api.NewInvitation{}, func(q *link.PairRequest) { q.SiteID = "norhaven" }, "not complete"},
		"a name with lines": {api.NewInvitation{}, func(q *link.PairRequest) { q.Site = "Nor\nhaven" }, "not complete"},
		"for another":       {api.NewInvitation{ForSite: new("Skarholt")}, func(*link.PairRequest) {}, "for Skarholt"},
		"itself":            {api.NewInvitation{}, func(q *link.PairRequest) { q.SiteID = rooms.RecoveryID }, "with itself"},
		"its own name":      {api.NewInvitation{}, func(q *link.PairRequest) { q.Site = "EASTMOLE" }, "Both sites are called"},
	} {
		t.Run(name, func(t *testing.T) {
			token := r.invite(c.in)
			q := request(token)
			c.change(&q)
			_, err := r.p.Pair(t.Context(), key(1), q)
			says(t, err, c.says)
			require.Empty(t, r.p.All())
			inv, err := r.DB.Invitations(t.Context(), time.Now())
			require.NoError(t, err)
			require.NotEmpty(t, inv)
		})
	}
	token := r.invite(api.NewInvitation{ForSite: new("norhaven")})
	reply, err := r.p.Pair(t.Context(), key(1), request(token))
	require.NoError(t, err)
	require.Equal(t, rooms.RecoveryName, reply.Site)
	require.Contains(t, reply.BackProblem, "Nothing answers", "nobody answers at the address it gave")
	_, err = r.p.Pair(t.Context(), key(2), request(token))
	says(t, err, "used already")
	l, err := r.p.Find("norhaven")
	require.NoError(t, err)
	require.Equal(t, rooms.HomeID, l.PeerID)
}

// Whoever holds an invitation takes over no link: neither by a site's ID, nor by its
// name, nor by its key.
func TestAnInvitationIsForNobodyElsesLink(t *testing.T) {
	r := newRig(t)
	r.paired()
	_, err := r.p.Pair(t.Context(), key(9), request(r.invite(api.NewInvitation{})))
	says(t, err, "by another key")
	q := request(r.invite(api.NewInvitation{}))
	q.SiteID = uuid.NewString()
	_, err = r.p.Pair(t.Context(), key(9), q)
	says(t, err, "another site called Norhaven")
	q.Site = "Skarholt"
	_, err = r.p.Pair(t.Context(), key(1), q)
	says(t, err, "This key is Norhaven's")
	lines, err := r.Trail.Lines(t.Context(), records.Sought{Limit: 50, Text: "nothing was changed"})
	require.NoError(t, err)
	require.Len(t, lines, 1, "the attempt is told of")
	require.Contains(t, lines[0].Text, link.Words(key(9)))

	_, err = r.p.Invite(t.Context(), rooms.Anna(), api.NewInvitation{NewKey: new(true)})
	says(t, err, "Name the paired site")
	_, err = r.p.Invite(t.Context(), rooms.Anna(), api.NewInvitation{NewKey: new(true), ForSite: new("Skarholt")})
	says(t, err, "Name the paired site")
	_, err = r.p.Pair(t.Context(), key(9), request(r.invite(api.NewInvitation{NewKey: new(true), ForSite: new("Norhaven")})))
	require.NoError(t, err, "somebody allowed it, for this site")
	_, err = r.p.Beats(t.Context(), key(1), link.Beat{})
	require.Error(t, err, "the lost key opens nothing any more")
	r.beat(key(9), link.Beat{})
	require.Len(t, r.p.All(), 1, "it is the same link")
}

// Strangers may knock only while an invitation is open.
func TestStrangersMayKnockOnlyWhileInvited(t *testing.T) {
	r := newRig(t)
	connect, paired := r.p.Allow(key(1))
	require.False(t, connect || paired)
	r.invite(api.NewInvitation{})
	connect, paired = r.p.Allow(key(1))
	require.True(t, connect)
	require.False(t, paired)
	_, err := r.p.Beats(t.Context(), key(1), link.Beat{})
	require.Error(t, err)
	_, err = r.p.OpenIntake(t.Context(), key(1), cycle.OpenRequest{})
	require.Error(t, err)
	_, err = r.p.HeldPoints(t.Context(), key(1), uuid.NewString())
	require.Error(t, err)
	require.Error(t, r.p.Acted(t.Context(), key(1), uuid.NewString(), link.Act{}))
	require.Error(t, r.end(key(1), uuid.NewString(), true))
	require.Error(t, r.p.Unpaired(t.Context(), key(1)))
	_, err = r.p.Invite(t.Context(), rooms.Anna(), api.NewInvitation{Minutes: new(0)})
	says(t, err, "1 minute to 7 days")
	_, err = r.p.Invite(t.Context(), rooms.Anna(), api.NewInvitation{ForSite: new("Eastmole")})
	says(t, err, "itself")
}

// Groups are mirrored as their home reports them, whatever the order and however
// often; what is wrong with one is answered for that one alone.
func TestReportsAreMirrored(t *testing.T) {
	r := newRig(t)
	r.paired()
	a, b := group("Ticketing"), group("Timetable")
	st := r.beat(key(1), link.Beat{Groups: []link.GroupReport{report(a), report(b)}})
	require.Len(t, st, 2)
	require.Empty(t, st[a.ID].Refused)
	got, ok := r.Groups.Get(a.ID)
	require.True(t, ok)
	require.Equal(t, directory.In, got.Direction)
	require.Equal(t, rooms.HomeName, got.HomeName, "as the link has it, whatever the report may say")
	require.Equal(t, a.Spec, got.Spec)

	newer := a
	newer.Revision, newer.Spec.Promise.Target = 2, time.Hour
	r.beat(key(1), link.Beat{Groups: []link.GroupReport{report(newer)}})
	r.beat(key(1), link.Beat{Groups: []link.GroupReport{report(a)}})
	got, _ = r.Groups.Get(a.ID)
	require.Equal(t, time.Hour, got.Spec.Promise.Target, "what came late changes nothing")

	bad := report(group("Bad"))
	bad.Settings = json.RawMessage(`["a", "list"]`)
	lines := report(func() directory.Record { g := group("Lines"); g.Spec.Name = "two\nlines"; return g }())
	nameless := report(group("Nameless"))
	nameless.ID = "x"
	c := group("Fuel ledger")
	st = r.beat(key(1), link.Beat{Groups: []link.GroupReport{bad, nameless, lines, report(c)}})
	require.Len(t, st, 3)
	require.Contains(t, st[lines.ID].Refused, "name of group")
	require.Contains(t, st[bad.ID].Refused, "not understood")
	require.Empty(t, st[c.ID].Refused, "the good one is taken")
	_, ok = r.Groups.Get(c.ID)
	require.True(t, ok)
}

// A site has no say over another's groups, nor over those that are home here.
func TestEachSiteSpeaksOfItsOwnGroups(t *testing.T) {
	r := newRig(t)
	r.paired()
	q := request(r.invite(api.NewInvitation{}))
	q.SiteID, q.Site = uuid.NewString(), "Skarholt"
	_, err := r.p.Pair(t.Context(), key(2), q)
	require.NoError(t, err)
	g := group("Ticketing")
	r.beat(key(1), link.Beat{Groups: []link.GroupReport{report(g)}})
	x, err := r.Seal(t.Context(), g, uuid.NewString(), time.Now())
	require.NoError(t, err)

	st := r.beat(key(2), link.Beat{Groups: []link.GroupReport{report(g)}, Ended: []string{g.ID}})
	require.Contains(t, st[g.ID].Refused, "home elsewhere")
	require.NoError(t, r.end(key(2), g.ID, true))
	got, _ := r.Groups.Get(g.ID)
	require.Equal(t, directory.In, got.Direction, "not ended by a stranger to it")
	_, err = r.p.HeldPoints(t.Context(), key(2), g.ID)
	says(t, err, "")
	_, err = r.p.OpenIntake(t.Context(), key(2), cycle.OpenRequest{ID: uuid.NewString(), Group: points.SealGroup{ID: g.ID, Term: 1}})
	p, _ := problem.Of(err)
	require.Equal(t, http.StatusForbidden, p.Status)

	held, err := r.p.HeldPoints(t.Context(), key(1), g.ID)
	require.NoError(t, err)
	require.Len(t, held, 1)
	require.Equal(t, x.Point, held[0].Seal.Point)

	mine, err := r.Groups.Create(t.Context(), rooms.Anna(), directory.Record{ID: uuid.NewString(), Link: got.Link, HomeID: r.ID, HomeName: r.Name, RecoveryName: rooms.HomeName, Spec: rooms.Spec("Ours")})
	require.NoError(t, err)
	require.NoError(t, r.p.Acted(t.Context(), key(1), mine.ID, link.Act{Action: "run", Who: "ben"}))
	require.Equal(t, []string{mine.ID + " run "}, r.acted)
	require.Equal(t, actor.Site, r.by[0].Kind, "a name of the other site is never one of ours")
	require.Contains(t, r.by[0].String(), "Norhaven")
	require.Error(t, r.p.Acted(t.Context(), key(2), mine.ID, link.Act{Action: "run", Who: "ben"}), "it goes to another site")
	require.Error(t, r.p.Acted(t.Context(), key(1), g.ID, link.Act{Action: "run", Who: "ben"}), "that one is home there")
	st = r.beat(key(1), link.Beat{Groups: []link.GroupReport{report(mine)}})
	require.NotEmpty(t, st[mine.ID].Refused, "what is home here is reported by nobody else")
}

// An end is said, not inferred: a group that is left out of a beat stays, and one
// that is said to have ended keeps its points unless they are to go.
func TestEndsAreSaid(t *testing.T) {
	r := newRig(t)
	r.paired()
	a, b := group("Ticketing"), group("Timetable")
	r.beat(key(1), link.Beat{Groups: []link.GroupReport{report(a), report(b)}})
	for _, g := range []directory.Record{a, b} {
		_, err := r.Seal(t.Context(), g, uuid.NewString(), time.Now())
		require.NoError(t, err)
	}
	r.beat(key(1), link.Beat{})
	got, _ := r.Groups.Get(a.ID)
	require.Equal(t, directory.In, got.Direction)

	reply, err := r.p.Beats(t.Context(), key(1), link.Beat{Ended: []string{a.ID, "nonsense", uuid.NewString()}})
	require.NoError(t, err)
	require.Contains(t, reply.Ended, a.ID)
	got, _ = r.Groups.Get(a.ID)
	require.Equal(t, directory.Ended, got.Direction)
	require.True(t, r.Keeper.Keeps(a.ID))
	require.NoError(t, r.end(key(1), a.ID, false), "said twice")

	_, done, err := r.Store.Use(r.Store.Points(b.ID)[0].Point)
	require.NoError(t, err)
	says(t, r.end(key(1), b.ID, true), "served or exported")
	done()
	require.NoError(t, r.end(key(1), b.ID, true))
	_, ok := r.Groups.Get(b.ID)
	require.False(t, ok)
	require.False(t, r.Keeper.Keeps(b.ID))
}

// Home does not own its points here: that they are to be deleted waits for a day, in
// which somebody here may keep them, and pinned ones stay anyway.
func TestHomeCannotWipeThisSite(t *testing.T) {
	r := newRig(t)
	r.Wait = 24 * time.Hour
	require.NoError(t, r.Open(t.Context()))
	r.start(t.TempDir())
	r.paired()
	g := group("Ticketing")
	r.beat(key(1), link.Beat{Groups: []link.GroupReport{report(g)}})
	x, err := r.Seal(t.Context(), g, uuid.NewString(), time.Now())
	require.NoError(t, err)
	reply, err := r.p.GroupEnded(t.Context(), key(1), g.ID, true)
	require.NoError(t, err)
	require.WithinDuration(t, time.Now().Add(24*time.Hour), *reply.PointsGoAt, time.Minute)
	again, err := r.p.GroupEnded(t.Context(), key(1), g.ID, true)
	require.NoError(t, err)
	require.True(t, reply.PointsGoAt.Equal(*again.PointsGoAt), "asking again hurries nothing")
	_, err = r.Store.Point(x.Point)
	require.NoError(t, err)
	d, ok := r.Keeper.Deletion(g.ID)
	require.True(t, ok)
	require.Contains(t, d.AskedBy, rooms.HomeName)
	empty := group("Timetable")
	r.beat(key(1), link.Beat{Groups: []link.GroupReport{report(empty)}})
	require.NoError(t, r.end(key(1), empty.ID, true))
	_, ok = r.Groups.Get(empty.ID)
	require.False(t, ok, "there is nothing to wait for")
}

// A link that groups use is not removed, from neither side; one that is removed is
// forgotten at once, by those that call over it in that moment too.
func TestRemovingALink(t *testing.T) {
	r := newRig(t)
	r.paired()
	g := group("Ticketing")
	r.beat(key(1), link.Beat{Groups: []link.GroupReport{report(g)}})
	says(t, r.p.Unpaired(t.Context(), key(1)), "uses the link")
	says(t, r.p.Delete(t.Context(), rooms.Anna(), "Norhaven"), "uses the link")
	require.NoError(t, r.end(key(1), g.ID, false))
	l, err := r.p.Find("Norhaven")
	require.NoError(t, err)
	require.NoError(t, r.p.Unpaired(t.Context(), key(1)))
	require.Empty(t, r.p.All())
	_, err = r.p.Beats(t.Context(), key(1), link.Beat{})
	require.Error(t, err)
	r.p.Beat(t.Context(), l.ID) // asked for by somebody who still has the ID
	_, err = r.p.Find("Norhaven")
	says(t, err, "")
	got, _ := r.Groups.Get(g.ID)
	require.Equal(t, directory.Ended, got.Direction, "its points stay")
}

// What is set of a link is kept, checked and told, and holds after a restart.
func TestSettingsOfALink(t *testing.T) {
	r := newRig(t)
	r.paired()
	edit := func(in api.EditLink) (api.Link, error) { return r.p.Edit(t.Context(), rooms.Anna(), "Norhaven", in) }
	for field, in := range map[string]api.EditLink{
		"compression":         {Compression: new("zip")},
		"limitBytesPerSecond": {LimitBytesPerSecond: new(int64(-1))},
		"windows":             {Windows: &[]api.RateWindow{{Days: "mon-fri", From: "25:00", To: "18:00"}}},
	} {
		_, err := edit(in)
		p, ok := problem.Of(err)
		require.True(t, ok, field)
		require.Contains(t, p.Errors[0].Field, field)
	}
	v, err := edit(api.EditLink{Compression: new("zstd"), LimitBytesPerSecond: new(int64(4 << 20)), Windows: &[]api.RateWindow{{Days: "mon-fri", From: "08:00", To: "18:00", BytesPerSecond: 2 << 20}}})
	require.NoError(t, err)
	require.Equal(t, "zstd", v.Compression)
	require.Len(t, v.Windows, 1)
	lines, err := r.Trail.Lines(t.Context(), records.Sought{Limit: 10, Text: "zstd"})
	require.NoError(t, err)
	require.Len(t, lines, 1)
	r.start(t.TempDir())
	again := r.p.Links()
	require.Len(t, again, 1)
	require.Equal(t, v.Windows, again[0].Windows)
	require.EqualValues(t, 4<<20, again[0].LimitBytesPerSecond)
	require.False(t, again[0].Up)
}

// A peer that was taken over brings no more groups than it may, and none that could not
// be; the others go on.
func TestWhatAPeerSaysHasBounds(t *testing.T) {
	r := newRig(t)
	r.paired()
	_, err := r.p.Edit(t.Context(), rooms.Anna(), "Norhaven", api.EditLink{MaxGroups: new(0)})
	says(t, err, "Take 1 to")
	v, err := r.p.Edit(t.Context(), rooms.Anna(), "Norhaven", api.EditLink{MaxGroups: new(3)})
	require.NoError(t, err)
	require.Equal(t, 3, v.MaxGroups)
	var invented []link.GroupReport
	for n := range 20 {
		invented = append(invented, report(group(fmt.Sprint("group ", n))))
	}
	st := r.beat(key(1), link.Beat{Groups: invented})
	require.Len(t, r.Groups.All(), 3)
	require.Empty(t, st[invented[0].ID].Refused)
	require.Contains(t, st[invented[19].ID].Refused, "takes at most 3 groups of Norhaven")
	st = r.beat(key(1), link.Beat{Groups: invented[:3]})
	require.Empty(t, st[invented[2].ID].Refused, "those that are known go on")

	large := report(group("Large"))
	large.ID, large.Settings = invented[0].ID, json.RawMessage(`"`+strings.Repeat("x", 300<<10)+`"`)
	st = r.beat(key(1), link.Beat{Groups: []link.GroupReport{large}})
	require.Contains(t, st[large.ID].Refused, "at most")
	spec := rooms.Spec("Many")
	for n := range 300 {
		m := spec.Machines[0]
		m.ID = fmt.Sprint(n)
		spec.Machines = append(spec.Machines, m)
	}
	large.Settings = directory.Encode(spec)
	st = r.beat(key(1), link.Beat{Groups: []link.GroupReport{large}})
	require.Contains(t, st[large.ID].Refused, "larger than a group can be")
	_, err = r.p.Beats(t.Context(), key(1), link.Beat{Ended: make([]string, 20_000)})
	says(t, err, "at most 10000 groups")

	told := invented[0]
	told.Live = link.Live{Failure: "\x1b[31m" + strings.Repeat("no ", 1000), Cycles: make([]cycle.Account, 5000), Backlog: map[string]int64{}}
	told.Live.Cycles[0].Error = "two\nlines\u202e"
	r.beat(key(1), link.Beat{Groups: []link.GroupReport{told}})
	live, ok := r.p.Reported(told.ID)
	require.True(t, ok)
	require.LessOrEqual(t, len([]rune(live.Failure)), 501)
	require.NotContains(t, live.Failure, "\x1b")
	require.Len(t, live.Cycles, 20)
	require.Equal(t, "two lines ", live.Cycles[0].Error)
	mine, err := r.Groups.Create(t.Context(), rooms.Anna(), directory.Record{ID: uuid.NewString(), Link: v.ID, HomeID: r.ID, HomeName: r.Name, RecoveryName: rooms.HomeName, Spec: rooms.Spec("Ours")})
	require.NoError(t, err)
	says(t, r.p.Acted(t.Context(), key(1), mine.ID, link.Act{Action: "run", Who: "ben\nanna"}), "characters that can be seen")
}

// Points of a link have no more room than it may have.
func TestALinkHasItsRoom(t *testing.T) {
	r := newRig(t)
	r.paired()
	g := group("Ticketing")
	r.beat(key(1), link.Beat{Groups: []link.GroupReport{report(g)}})
	open := func() error {
		_, err := r.p.OpenIntake(t.Context(), key(1), cycle.OpenRequest{ID: uuid.NewString(), Group: points.SealGroup{ID: g.ID, Term: 1}, Disks: []cycle.OpenRequestDisk{{Machine: "m", Key: "d", Size: points.BlockSize}}})
		return err
	}
	require.NoError(t, open())
	_, err := r.p.Edit(t.Context(), rooms.Anna(), "Norhaven", api.EditLink{RoomBytes: new(int64(1))})
	require.NoError(t, err)
	require.NoError(t, open(), "nothing is here yet")
	x, err := r.Keeper.OpenIntake(t.Context(), rooms.HomeID, cycle.OpenRequest{ID: uuid.NewString(), Group: points.SealGroup{ID: g.ID, Term: 1}, Disks: []cycle.OpenRequestDisk{{Machine: "m", Key: "d", Size: points.BlockSize}}})
	require.NoError(t, err)
	in, err := r.Store.Intake(x.Intake)
	require.NoError(t, err)
	block := bytes.Repeat([]byte{7}, points.BlockSize)
	enc, stored := points.Encode(nil, block, points.EncodingRaw)
	require.NoError(t, in.Put(points.NameOf(block), enc, points.BlockSize, stored))
	require.NoError(t, in.Record([]points.Entry{{Count: 1, Name: points.NameOf(block)}}))
	_, err = r.Keeper.SealIntake(t.Context(), rooms.HomeID, 0, x.Intake, points.Seal{CaptureAt: time.Now(), Consistency: "crash", Machines: []points.SealMachine{{ID: "m", Name: "m", Disks: []points.SealDisk{{Key: "d", Size: points.BlockSize}}}}})
	require.NoError(t, err)
	err = open()
	says(t, err, "have 64 KiB, and may have 1 B")
	p, _ := problem.Of(err)
	require.Equal(t, http.StatusInsufficientStorage, p.Status)
	_, err = r.p.Edit(t.Context(), rooms.Anna(), "Norhaven", api.EditLink{RoomBytes: new(int64(1 << 30))})
	require.NoError(t, err)
	require.NoError(t, open())
}
