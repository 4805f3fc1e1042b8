// Package peering is this site's trust in others and what it hears of them: pairing,
// the beats that tell whether a link is up, and the mirroring of groups.
package peering

import (
	"context"
	"encoding/json"
	"fmt"
	"hash/maphash"
	"log/slog"
	"slices"
	"strings"
	"sync"
	"time"

	"github.com/google/uuid"

	"kestrel/internal/audit"
	"kestrel/internal/clock"
	"kestrel/internal/core/actor"
	"kestrel/internal/core/chain"
	"kestrel/internal/core/exposure"
	"kestrel/internal/core/group"
	"kestrel/internal/core/pace"
	"kestrel/internal/core/scope"
	"kestrel/internal/core/words"
	"kestrel/internal/cycle"
	"kestrel/internal/directory"
	"kestrel/internal/events"
	"kestrel/internal/keeper"
	"kestrel/internal/link"
	"kestrel/internal/points"
	"kestrel/internal/problem"
	"kestrel/internal/reach"
	"kestrel/internal/records"
)

// downAfter is how many beats may be missed before a link counts as down.
const downAfter = 5

// maxClockDifference is what is tolerated: more makes the times that people compare
// meaningless.
const maxClockDifference = 5 * time.Second

// Config is what peering is made of.
type Config struct {
	Site      records.Site
	Identity  *link.Identity
	DB        Records
	Groups    *directory.Directory
	Keeper    *keeper.Keeper
	Trail     *audit.Trail
	Notary    *audit.Notary // nil: nothing of the trail is told to others
	Clock     clock.Clock
	Hub       *events.Hub
	Log       *slog.Logger
	BeatEvery time.Duration
	// Address is what other sites connect to, host:port.
	Address string
	// Within are the networks that other sites may be in.
	Within reach.Networks
	// Coverage counts the machines of this site by what protects them; nil says nothing
	// of it.
	Coverage func() scope.Counts
	// Platforms counts the platforms of this site and their machines.
	Platforms func() (platforms, machines int)
	// Live tells what only the home site sees of a group.
	Live func(group string) link.Live
	// Act does what an administrator at the recovery site asks of a group that is
	// home here.
	Act func(ctx context.Context, who actor.Actor, group, action string, body []byte) error
	// Ready tells whether a group that comes here would recover right now, and Heard takes
	// what a recovery site says of that; nil tells or takes nothing.
	Ready func(group string) json.RawMessage
	Heard func(group string, ready json.RawMessage)
	// HandOver does what a recovery site asks for during a failover of a group that was made
	// to be home here, and Turned hears that one is held there, or was given back; nil does
	// and hears nothing.
	HandOver func(ctx context.Context, who actor.Actor, group string, h link.HandOver) (link.HandedOver, error)
	Turned   func(ctx context.Context, r directory.Record, t link.Turn)
	// Preparing says why no cycle of a group that comes here is taken yet; empty if it is.
	Preparing func(group string) string
	// Berth tells how machines of a group that comes here arrive, or writes it; nil
	// answers nobody.
	Berth func(ctx context.Context, who actor.Actor, group string, a link.BerthAsk) (json.RawMessage, error)
}

// Records is where links and invitations are kept; *records.DB is one.
type Records interface {
	Links(ctx context.Context) ([]records.Link, error)
	PutLink(ctx context.Context, l records.Link) error
	RekeyLink(ctx context.Context, l records.Link) error
	SaveLinkSettings(ctx context.Context, id string, settings []byte) error
	DeleteLink(ctx context.Context, id string) error
	AddInvitation(ctx context.Context, i records.Invitation) error
	Invitations(ctx context.Context, now time.Time) ([]records.Invitation, error)
	InvitationByHash(ctx context.Context, hash []byte) (records.Invitation, error)
	UseInvitation(ctx context.Context, id string, now time.Time) error
	DeleteInvitation(ctx context.Context, id string) error
	Farewells(ctx context.Context, link string) ([]string, error)
	DeleteFarewells(ctx context.Context, link string, groups []string) error
}

// Peering is the links of one site.
type Peering struct {
	Config

	// epoch names what this process has taken from other sites, and counted for them.
	epoch string
	seed  maphash.Seed

	mu   sync.Mutex
	byID map[string]*state
	live map[string]mirrored
	// refused says why a recovery site does not take a group's report.
	refused map[string]string
	// preparing says why a recovery site takes no cycle of a group yet.
	preparing map[string]string
	wg        sync.WaitGroup
}

// state is a paired site and how it was last seen.
type state struct {
	rec   records.Link
	set   settings
	peer  *link.Peer
	outAt time.Time // last time our call was answered
	inAt  time.Time // last time it called us
	err   error     // of our last call
	rtt   time.Duration
	ahead time.Duration // how far its clock is ahead of ours
	// free and floor are of its point store, in bytes; 0 if unknown.
	free, floor int64
	longTerm    bool // it has a long-term store
	// covered is what it said of its own machines, and when.
	covered   scope.Counts
	coveredAt time.Time

	// earlier are the marks of lists of earlier points that are to be fetched, by groups, and
	// late is what was said of groups whose list of points is.
	earlier map[string]string
	late    map[string]link.GroupState

	talk

	received, mark int64
	markAt         time.Time
	perSec         float64

	beating sync.Mutex // one sign of life at a time
	telling sync.Mutex // one who tells and listens at a time
	editing sync.Mutex // one change of settings at a time
}

// mirrored is what a home site last reported of a group that comes in.
type mirrored struct {
	link.Live
	at    time.Time
	ahead time.Duration // of the home site's clock, then
}

// Open reads the links.
func Open(ctx context.Context, cfg Config) (*Peering, error) {
	p := &Peering{Config: cfg, epoch: uuid.NewString(), seed: maphash.MakeSeed(), byID: map[string]*state{}, live: map[string]mirrored{}, refused: map[string]string{}, preparing: map[string]string{}}
	recs, err := cfg.DB.Links(ctx)
	if err != nil {
		return nil, err
	}
	for _, r := range recs {
		l := p.newState(r)
		if l.set, err = decodeSettings(r.Settings); err != nil {
			return nil, fmt.Errorf("settings of the link with %s: %w", r.PeerName, err)
		}
		l.peer.Limit(l.set.Pace)
		p.byID[r.ID] = l
	}
	cfg.Groups.Watch(func(c directory.Change) {
		if c.After == nil {
			p.mu.Lock()
			delete(p.live, c.Before.ID)
			delete(p.refused, c.Before.ID)
			delete(p.preparing, c.Before.ID)
			p.mu.Unlock()
		}
	})
	return p, nil
}

func (p *Peering) newState(r records.Link) *state {
	return &state{rec: r, peer: link.NewPeer(p.Identity, r.Address, r.PeerKey, p.Clock, p.Within), markAt: p.Clock.Now()}
}

// Link is a link at one moment.
type Link struct {
	ID, PeerID, Peer string // Peer is the other site's name
	Up               bool   // either side reaches the other
	Reached          bool   // we reach the other
	Called           bool   // it reaches us
	SeenAt           time.Time
	Ahead            time.Duration // how far its clock is ahead of ours
	Free, Floor      int64         // bytes of its point store, and what arrives leaves of them; 0 if unknown
	Sends            int64         // bytes a second, lately
	LongTerm         bool          // it has a long-term store; false if it is not known
	Limit            int64         // of what we send, now, in bytes a second; 0 for none
	Key              []byte        // fingerprint of the other site's
	settings         settings
	caller           *link.Peer
}

// Remote is the other site as a group's cycles see it, with the group's share of
// the link.
func (l Link) Remote(group string, weight float64) cycle.Remote { return l.caller.Flow(group, weight) }

// Encoding is how blocks are compressed on the way.
func (l Link) Encoding() points.Encoding { return l.settings.encoding() }

// Pace is how fast what we send may be, by the time of the week on this site's clock.
func (l Link) Pace() pace.Plan { return l.settings.Pace }

// Abandon gives up a cycle's intake at the other site.
func (l Link) Abandon(ctx context.Context, intake string) error { return l.caller.Abandon(ctx, intake) }

// Trail asks the other site what it holds of this one's audit trail.
func (l Link) Trail(ctx context.Context) ([]chain.Head, error) { return l.caller.Trail(ctx) }

// EndGroup tells the other site that a group is no more, and whether its points are
// to go.
func (l Link) EndGroup(ctx context.Context, group string, deletePoints bool) (link.EndReply, error) {
	return l.caller.EndGroup(ctx, group, deletePoints)
}

// Berth asks how a group's machines arrive at the recovery site.
func (l Link) Berth(ctx context.Context, group string, a link.BerthAsk) (json.RawMessage, error) {
	return l.caller.Berth(ctx, group, a)
}

// HandOver asks the home site of a group for something during a failover.
func (l Link) HandOver(ctx context.Context, group string, h link.HandOver) (link.HandedOver, error) {
	return l.caller.HandOver(ctx, group, h)
}

// Act passes a wish on to the home site of a group.
func (l Link) Act(ctx context.Context, group string, a link.Act) error {
	return l.caller.Act(ctx, group, a)
}

// now is the link as it is; the lock is held.
func (p *Peering) now(s *state) Link {
	seen := s.outAt
	if s.inAt.After(seen) {
		seen = s.inAt
	}
	return Link{ID: s.rec.ID, PeerID: s.rec.PeerID, Peer: s.rec.PeerName, Up: p.up(s), Reached: p.reached(s), Called: p.recent(s.inAt), SeenAt: seen, Ahead: s.ahead, Free: s.free, Floor: s.floor, Sends: int64(s.peer.SendRate()), LongTerm: s.longTerm, Key: s.rec.PeerKey,
		Limit: s.set.Pace.At(p.Clock.Now().Local()), settings: s.set, caller: s.peer}
}

func (p *Peering) recent(at time.Time) bool {
	return !at.IsZero() && p.Clock.Now().Sub(at) < downAfter*p.BeatEvery
}

// reached tells whether we reach the peer; the lock is held.
func (p *Peering) reached(s *state) bool { return p.recent(s.outAt) }

// up tells whether either side reaches the other; the lock is held.
func (p *Peering) up(s *state) bool { return p.recent(s.outAt) || p.recent(s.inAt) }

// Get gives a link by ID.
func (p *Peering) Get(id string) (Link, bool) {
	p.mu.Lock()
	defer p.mu.Unlock()
	s, ok := p.byID[id]
	if !ok {
		return Link{}, false
	}
	return p.now(s), true
}

// All lists the links by the other sites' names.
func (p *Peering) All() []Link {
	p.mu.Lock()
	out := make([]Link, 0, len(p.byID))
	for _, s := range p.byID {
		out = append(out, p.now(s))
	}
	p.mu.Unlock()
	slices.SortFunc(out, func(a, b Link) int { return strings.Compare(a.Peer, b.Peer) })
	return out
}

// Find resolves a link by its ID or the peer's name or ID.
func (p *Peering) Find(text string) (Link, error) {
	s, err := p.find(text)
	if err != nil {
		return Link{}, err
	}
	p.mu.Lock()
	defer p.mu.Unlock()
	return p.now(s), nil
}

func (p *Peering) find(text string) (*state, error) {
	p.mu.Lock()
	defer p.mu.Unlock()
	var names []string
	for _, s := range p.byID {
		if s.rec.ID == text || s.rec.PeerID == text || strings.EqualFold(s.rec.PeerName, text) {
			return s, nil
		}
		names = append(names, s.rec.PeerName)
	}
	e := problem.NotFound("link", text)
	if near, ok := words.Nearest(text, names); ok {
		e.Detail += fmt.Sprintf(" Did you mean %q?", near)
	}
	return nil, e
}

// Nearest is the name of a paired site that somebody may have meant.
func (p *Peering) Nearest(text string) (string, bool) {
	var names []string
	for _, l := range p.All() {
		names = append(names, l.Peer)
	}
	return words.Nearest(text, names)
}

// byKey finds the paired site with a key.
func (p *Peering) byKey(key []byte) (*state, error) {
	p.mu.Lock()
	defer p.mu.Unlock()
	for _, s := range p.byID {
		if string(s.rec.PeerKey) == string(key) {
			return s, nil
		}
	}
	return nil, &problem.Problem{Status: 403, Title: "Not a paired site"}
}

// Reported is what the home site of a group last reported of it, with its instants on
// our clock, and when. The second result is false if nothing was reported.
func (p *Peering) Reported(group string) (link.Live, bool) {
	p.mu.Lock()
	m, ok := p.live[group]
	p.mu.Unlock()
	if !ok {
		return link.Live{}, false
	}
	v := m.Live
	for _, t := range []*time.Time{&v.DueSince, &v.NextStart, &v.FinishAt, &v.ComparedAt} {
		*t = ours(m.ahead, *t)
	}
	if v.Running != nil {
		r := *v.Running
		r.MovedAt = ours(m.ahead, r.MovedAt)
		v.Running = &r
	}
	return v, true
}

// Preparing says why the recovery site of a group takes no cycle of it yet; empty if it does.
func (p *Peering) Preparing(group string) string {
	p.mu.Lock()
	defer p.mu.Unlock()
	return p.preparing[group]
}

// Refused says why the recovery site of a group does not take its report; empty if
// it does.
func (p *Peering) Refused(group string) string {
	p.mu.Lock()
	defer p.mu.Unlock()
	return p.refused[group]
}

// ours turns an instant of a clock that is ahead into one of ours.
func ours(ahead time.Duration, t time.Time) time.Time {
	if t.IsZero() {
		return t
	}
	return exposure.Shift(t, ahead)
}

// Ours turns an instant of a peer's clock into one of ours.
func (l Link) Ours(t time.Time) time.Time { return ours(l.Ahead, t) }

func object(r records.Link) audit.Object {
	return audit.Object{Kind: "link", Name: r.PeerName, ID: r.ID}
}

func (p *Peering) note(ctx context.Context, r records.Link, format string, a ...any) {
	p.Trail.Note(ctx, actor.System(), object(r), format, a...)
}

// Run exchanges beats with all peers until ctx ends.
func (p *Peering) Run(ctx context.Context) {
	for {
		p.mu.Lock()
		all := make([]*state, 0, len(p.byID))
		for _, s := range p.byID {
			all = append(all, s)
		}
		p.mu.Unlock()
		for _, s := range all {
			// A peer that does not answer must not hold up the others, nor be asked
			// again before it has.
			if s.beating.TryLock() {
				p.wg.Go(func() {
					defer s.beating.Unlock()
					p.beat(ctx, s)
				})
			}
			if s.telling.TryLock() {
				p.wg.Go(func() {
					defer s.telling.Unlock()
					p.tell(ctx, s)
				})
			}
		}
		if clock.Sleep(ctx, p.Clock, p.BeatEvery) != nil {
			break
		}
	}
	p.wg.Wait()
}

func peerActor(name string) actor.Actor {
	return actor.Actor{Kind: actor.Site, Name: name, Role: actor.Administrator, From: name}
}

// What a mirrored group may have.
const (
	maxRungs = 50
	maxTags  = 100
)

// quota is what a link may bring now.
func (p *Peering) quota(s *state) settings {
	p.mu.Lock()
	defer p.mu.Unlock()
	return s.set
}

// from counts the groups that a link has brought; those that have ended count while
// their points are here.
func (p *Peering) from(s *state) (n int) {
	for _, g := range p.Groups.All() {
		if g.HomeID == s.rec.PeerID && g.Direction != directory.Out {
			n++
		}
	}
	return n
}

// takeReport mirrors one group from its home site.
func (p *Peering) takeReport(ctx context.Context, s *state, ahead time.Duration, r link.GroupReport) error {
	if err := link.CheckReport(r); err != nil {
		return err
	}
	spec, err := directory.Decode(r.Settings, r.ID)
	if err != nil {
		return problem.Invalid("settings", "The specification of group %s is not understood: %v", r.ID, err)
	}
	if len(spec.Machines) > group.MaxMachines || len(spec.Promise.Keep) > maxRungs || len(spec.Tags) > maxTags {
		return problem.Invalid("settings", "Group %s is larger than a group can be: at most %d machines, %d rungs and %d tags.", r.ID, group.MaxMachines, maxRungs, maxTags)
	}
	if why := group.CheckName(spec.Name, group.MaxName); why != "" {
		return problem.Invalid("settings", "The name of group %s is not accepted: %s", r.ID, why)
	}
	rec := directory.Record{ID: r.ID, Link: s.rec.ID, HomeID: s.rec.PeerID, HomeName: s.rec.PeerName, RecoveryName: p.Site.Name, Term: r.Term, Revision: r.Revision, Spec: spec,
		Anchor: ours(ahead, r.Anchor), CreatedAt: ours(ahead, r.CreatedAt)}
	was, known := p.Groups.Get(r.ID)
	if most := p.quota(s).groups(); !known && p.from(s) >= most {
		return link.TooMuch("%s takes at most %d groups of %s. Have more allowed there.", p.Site.Name, most, s.rec.PeerName)
	}
	if known && was.Link == "" && (was.Held() || was.Home()) && (was.HomeID == s.rec.PeerID || was.Spec.KeptAt(s.rec.PeerID)) {
		// It was taken over, from the store alone, before the sites were paired again.
		if _, err := p.Groups.Turn(ctx, actor.System(), was.ID, func(x *directory.Record) (string, error) {
			x.Link = s.rec.ID
			return fmt.Sprintf("%s has a link to %s again", x.Spec.Name, s.rec.PeerName), nil
		}); err != nil {
			return err
		}
	}
	if known && was.HomeID == s.rec.PeerID {
		if err := p.Keeper.Shortens(ctx, was, spec.Promise.Keep); err != nil {
			return err
		}
	}
	if _, err := p.Groups.Mirror(ctx, peerActor(s.rec.PeerName), rec); err != nil {
		return err
	}
	p.mu.Lock()
	p.live[r.ID] = mirrored{r.Live.Bounded(), p.Clock.Now(), ahead}
	s.keepEarlier(r.ID, r.EarlierMark)
	p.mu.Unlock()
	p.Hub.Send(events.Event{Type: "group", ID: r.ID})
	return nil
}

func decodeSettings(b []byte) (settings, error) {
	var s settings
	if len(b) == 0 {
		return s, nil
	}
	err := json.Unmarshal(b, &s)
	return s, err
}
