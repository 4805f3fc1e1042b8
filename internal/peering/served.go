package peering

import (
	"context"
	"encoding/json"
	"errors"
	"slices"
	"time"

	"kestrel/internal/audit"
	"kestrel/internal/core/actor"
	"kestrel/internal/core/chain"
	"kestrel/internal/core/group"
	"kestrel/internal/core/ident"
	"kestrel/internal/core/span"
	"kestrel/internal/core/words"
	"kestrel/internal/cycle"
	"kestrel/internal/directory"
	"kestrel/internal/events"
	"kestrel/internal/link"
	"kestrel/internal/points"
	"kestrel/internal/problem"
)

var _ link.Local = (*Peering)(nil)

// Allow implements link.Local: unknown keys may knock only while an invitation is
// open, and then only to pair.
func (p *Peering) Allow(key []byte) (connect, paired bool) {
	if _, err := p.byKey(key); err == nil {
		return true, true
	}
	ctx, cancel := context.WithTimeout(context.Background(), 5*time.Second)
	defer cancel()
	open, err := p.DB.Invitations(ctx, p.Clock.Now())
	return err == nil && len(open) > 0, false
}

// Beats implements link.Local: it takes the reports of a home site. What cannot be
// taken of one group is answered for that group alone.
func (p *Peering) Beats(ctx context.Context, key []byte, b link.Beat) (link.BeatReply, error) {
	out := link.BeatReply{ReceivedAt: p.Clock.Now()}
	s, err := p.byKey(key)
	if err != nil {
		return out, err
	}
	p.mu.Lock()
	was := p.up(s)
	s.inAt = p.Clock.Now()
	ahead := s.ahead
	p.mu.Unlock()
	if !was {
		p.Hub.Send(events.Event{Type: "link", ID: s.rec.ID})
	}
	if err := link.CheckBeat(b); err != nil {
		return out, err
	}
	for _, r := range b.Groups {
		if !ident.UUID(r.ID) {
			continue // nothing that could be answered for
		}
		st, err := p.reported(ctx, s, ahead, r)
		if err != nil {
			st = link.GroupState{ID: r.ID, Refused: why(err)}
		}
		out.Groups = append(out.Groups, st)
	}
	for _, t := range b.Turns {
		if link.CheckTurn(t) != nil || p.Turned == nil {
			continue // nothing that could be heard
		}
		if r, ok := p.Groups.Get(t.Group); ok && r.Link == s.rec.ID && r.Direction == directory.Out {
			p.Turned(ctx, r, t)
		}
	}
	if b.Coverage != nil {
		p.covered(s, b.Coverage)
	}
	if t := b.Trail; t != nil && p.Notary != nil && t.SignedBy(key) {
		if err := p.Notary.Heard(ctx, s.rec.PeerID, s.rec.PeerName, t.Head); err != nil {
			p.Log.Warn("keep the head of a trail", "peer", s.rec.PeerName, "err", err)
		}
	}
	for _, id := range b.Ended {
		if !ident.UUID(id) {
			continue
		}
		if _, err := p.GroupEnded(ctx, key, id, false); err != nil {
			p.Log.Warn("end a group", "group", id, "err", err)
			continue
		}
		out.Ended = append(out.Ended, id)
	}
	out.Epoch = p.epoch
	if b.Listen {
		changed, told, more := p.changes(s, b)
		out.Told, out.More = told, more
		for _, st := range changed {
			if !slices.ContainsFunc(out.Groups, func(x link.GroupState) bool { return x.ID == st.ID }) {
				out.Groups = append(out.Groups, st)
			}
		}
	}
	out.FreeBytes, out.FloorBytes = p.Keeper.Room()
	out.LongTerm = p.Keeper.LongTerm != nil
	out.AnsweredAt = p.Clock.Now()
	return out, nil
}

// reported takes one group's report; a fault in it is its own.
func (p *Peering) reported(ctx context.Context, s *state, ahead time.Duration, r link.GroupReport) (st link.GroupState, err error) {
	defer func() {
		if x := recover(); x != nil {
			p.Log.Error("a group's report", "group", r.ID, "panic", x)
			err = errors.New("this site failed over it; its log has the details")
		}
	}()
	if err := p.takeReport(ctx, s, ahead, r); err != nil {
		return st, err
	}
	return p.stateOf(r.ID), nil
}

// stateOf is what is held here of a home site's group.
func (p *Peering) stateOf(id string) link.GroupState {
	st := p.Keeper.State(id)
	if p.Ready != nil {
		st.Ready = p.Ready(id)
	}
	if p.Config.Preparing != nil {
		st.Preparing = p.Config.Preparing(id)
	}
	return st
}

// why is what a peer is told of an error: problems as they are, and of anything
// else no inner detail.
func why(err error) string {
	pr, ok := problem.Of(err)
	switch {
	case !ok:
		return "This site failed over it; its log has the details."
	case len(pr.Errors) > 0:
		return pr.Errors[0].Message
	}
	return words.Sentence(pr.Detail)
}

// HeldTrail implements link.Local.
func (p *Peering) HeldTrail(ctx context.Context, key []byte) ([]chain.Head, error) {
	s, err := p.byKey(key)
	if err != nil {
		return nil, err
	}
	if p.Notary == nil {
		return []chain.Head{}, nil
	}
	return p.Notary.Held(ctx, s.rec.PeerID)
}

// Witnesses asks all other sites what they hold of this one's trail.
func (p *Peering) Witnesses(ctx context.Context) []audit.Witness {
	var out []audit.Witness
	for _, l := range p.All() {
		heads, err := l.Trail(ctx)
		out = append(out, audit.Witness{Name: l.Peer, Heads: heads, Err: err})
	}
	return out
}

// HeldPoints implements link.Local: home asks for what is held of its group, and a recovery
// site for what home holds from before.
func (p *Peering) HeldPoints(ctx context.Context, key []byte, group string) ([]link.PointState, error) {
	s, err := p.byKey(key)
	if err != nil {
		return nil, err
	}
	r, ok := p.Groups.Get(group)
	switch {
	case ok && r.Direction == directory.Out && r.Link == s.rec.ID:
		return p.Keeper.Earlier(ctx, group, r.Term)
	case !ok || r.HomeID != s.rec.PeerID || r.Direction == directory.Out:
		return nil, problem.NotFound("group", group)
	}
	return p.Keeper.Held(ctx, group)
}

// maxWho is the longest name of somebody at another site, in characters.
const maxWho = 200

// Acted implements link.Local: a wish from the recovery site.
func (p *Peering) Acted(ctx context.Context, key []byte, id string, a link.Act) error {
	s, err := p.byKey(key)
	if err != nil {
		return err
	}
	r, ok := p.Groups.Get(id)
	if !ok || r.Direction != directory.Out || r.Link != s.rec.ID {
		return problem.NotFound("group", id)
	}
	if group.CheckName(a.Who, maxWho) != "" {
		return problem.Invalid("who", "Name who asks, in 1 to %d characters that can be seen.", maxWho)
	}
	who := peerActor(s.rec.PeerName)
	who.For = a.Who
	return p.Act(ctx, who, id, a.Action, a.Body)
}

// Berth implements link.Local: home looks at, or writes, how its machines arrive here.
func (p *Peering) Berth(ctx context.Context, key []byte, id string, a link.BerthAsk) (json.RawMessage, error) {
	s, err := p.byKey(key)
	if err != nil {
		return nil, err
	}
	r, ok := p.Groups.Get(id)
	if !ok || r.Direction != directory.In || r.HomeID != s.rec.PeerID || p.Config.Berth == nil {
		return nil, problem.NotFound("group", id)
	}
	if group.CheckName(a.Who, maxWho) != "" {
		return nil, problem.Invalid("who", "Name who asks, in 1 to %d characters that can be seen.", maxWho)
	}
	who := peerActor(s.rec.PeerName)
	who.For = a.Who
	return p.Config.Berth(ctx, who, id, a)
}

// HandOver implements link.Local: the recovery site of a group drives a failover.
func (p *Peering) HandOver(ctx context.Context, key []byte, id string, h link.HandOver) (link.HandedOver, error) {
	s, err := p.byKey(key)
	if err != nil {
		return link.HandedOver{}, err
	}
	r, ok := p.Groups.Get(id)
	if !ok || r.Direction != directory.Out || r.Link != s.rec.ID || p.Config.HandOver == nil {
		return link.HandedOver{}, problem.NotFound("group", id)
	}
	if group.CheckName(h.Who, maxWho) != "" {
		return link.HandedOver{}, problem.Invalid("who", "Name who asks, in 1 to %d characters that can be seen.", maxWho)
	}
	if err := link.CheckHandOver(h); err != nil {
		return link.HandedOver{}, err
	}
	who := peerActor(s.rec.PeerName)
	who.For = h.Who
	return p.Config.HandOver(ctx, who, id, h)
}

// GroupEnded implements link.Local. That home wants the points deleted as well is
// noted: they go when this site's wait is over.
func (p *Peering) GroupEnded(ctx context.Context, key []byte, group string, deletePoints bool) (link.EndReply, error) {
	var out link.EndReply
	s, err := p.byKey(key)
	if err != nil {
		return out, err
	}
	r, ok := p.Groups.Get(group)
	if !ok || r.Direction == directory.Out || r.HomeID != s.rec.PeerID {
		return out, nil // never heard of it: nothing to end
	}
	if r.Held() {
		return out, problem.Conflict("%s runs at %s since a failover. It can be ended when that was accepted or backed out.", r.Spec.Name, p.Site.Name)
	}
	p.Keeper.Abandon(group)
	who := peerActor(s.rec.PeerName)
	if err := p.Groups.End(ctx, who, group, "", "The group "+r.Spec.Name+" has ended at "+r.HomeName+"; its points are still here"); err != nil {
		return out, err
	}
	switch {
	case !deletePoints:
		return out, nil
	case !p.Keeper.Keeps(group):
		return out, p.Forget(ctx, who, r)
	case p.Keeper.DeletionWait <= 0:
		if err := p.Keeper.Idle(group); err != nil {
			return out, err
		}
		return out, p.Forget(ctx, who, r)
	}
	due, err := p.Keeper.AskDeletion(ctx, who, r)
	if err == nil {
		out.PointsGoAt = &due
	}
	return out, err
}

// Forget deletes the points here of a group that has ended, and then the group.
func (p *Peering) Forget(ctx context.Context, who actor.Actor, r directory.Record) error {
	n, err := p.Keeper.DropAll(ctx, r.ID)
	if err != nil {
		return err
	}
	return p.Groups.Delete(ctx, who, r.ID, who.String()+" deleted "+words.Count(n, "point")+" of "+r.Spec.Name+", which has ended")
}

// OpenIntake implements link.Local.
func (p *Peering) OpenIntake(ctx context.Context, key []byte, r cycle.OpenRequest) (cycle.Opened, error) {
	s, err := p.byKey(key)
	if err != nil {
		return cycle.Opened{}, err
	}
	if most := p.quota(s).Room; most > 0 {
		if has := p.Keeper.HeldFor(s.rec.PeerID); has >= most {
			return cycle.Opened{}, link.TooMuch("The points of %s here have %s, and may have %s. Delete points, shorten keep ladders, or have more allowed at %s.", s.rec.PeerName, span.Bytes(float64(has)), span.Bytes(float64(most)), p.Site.Name)
		}
	}
	return p.Keeper.OpenIntake(ctx, s.rec.PeerID, r)
}

// Intake implements link.Local.
func (p *Peering) Intake(key []byte, id string) (*points.Intake, error) {
	s, err := p.byKey(key)
	if err != nil {
		return nil, err
	}
	return p.Keeper.Intake(s.rec.PeerID, id)
}

// SealIntake implements link.Local.
func (p *Peering) SealIntake(ctx context.Context, key []byte, id string, seal points.Seal) (*points.Seal, error) {
	s, err := p.byKey(key)
	if err != nil {
		return nil, err
	}
	p.mu.Lock()
	ahead := s.ahead
	p.mu.Unlock()
	return p.Keeper.SealIntake(ctx, s.rec.PeerID, ahead, id, seal)
}

// Received implements link.Local.
func (p *Peering) Received(key []byte, n int64) {
	s, err := p.byKey(key)
	if err != nil {
		return
	}
	p.mu.Lock()
	defer p.mu.Unlock()
	s.received += n
}
