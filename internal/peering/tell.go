package peering

import (
	"context"
	"encoding/json"
	"hash/maphash"
	"slices"
	"strings"
	"time"

	"kestrel/internal/core/words"
	"kestrel/internal/directory"
	"kestrel/internal/events"
	"kestrel/internal/link"
)

const (
	// piece is how many groups are told of, or answered for, in one message: with its limit of
	// time, that is for slow links as well.
	piece = 32
	// retold is after what time a group is told of once more although nothing has changed, spread
	// over as long again.
	retold = 15 * time.Minute
	// tellAgain is after how many beats what was refused is told again.
	tellAgain = 5
	// farewells is how many groups one sign of life tells the end of.
	farewells = 500
)

// talk is what one side of a link remembers of what it has told and heard.
type talk struct {
	// epoch is the other site's, as it last answered: what was told in another one is forgotten
	// there. Told is by group, or by "turn " and the group.
	theirs string
	told   map[string]toldOf
	heard  int64
	// heardAt is when all was heard that had changed at the other site.
	heardAt time.Time

	// Changes of what is held here of the other site's groups are counted.
	changes int64
	states  map[string]stateOf
}

// toldOf is what the other site has taken of a group.
type toldOf struct {
	sum     uint64
	at      time.Time
	refused bool
}

// stateOf is what a group's state here was at a change.
type stateOf struct {
	sum    uint64
	change int64
}

// Beat has a link's other site hear at once of what has changed, of some groups or of all.
func (p *Peering) Beat(ctx context.Context, id string, groups ...string) {
	p.mu.Lock()
	s := p.byID[id]
	p.mu.Unlock()
	if s == nil {
		return
	}
	if len(groups) == 0 {
		s.beating.Lock()
		p.beat(ctx, s)
		s.beating.Unlock()
	}
	s.telling.Lock()
	defer s.telling.Unlock()
	p.tell(ctx, s, groups...)
}

// HeardAt is when this site has last heard all that had changed at the other end of a link, on
// our clock; zero if it never has.
func (p *Peering) HeardAt(id string) time.Time {
	p.mu.Lock()
	defer p.mu.Unlock()
	if s := p.byID[id]; s != nil {
		return s.heardAt
	}
	return time.Time{}
}

// life is a sign of life.
func (p *Peering) life(ctx context.Context, s *state) (link.Beat, error) {
	b := link.Beat{Site: p.Site.Name, Groups: []link.GroupReport{}}
	if p.Coverage != nil {
		b.Coverage = p.Coverage()
	}
	ended, err := p.DB.Farewells(ctx, s.rec.ID)
	for _, id := range ended[:min(len(ended), farewells)] {
		r, lives := p.Groups.Get(id)
		if lives && r.Link == s.rec.ID {
			continue // it is copied there again
		}
		b.Ended = append(b.Ended, id)
		if lives && r.Home() {
			// That site may have been its home, and not have heard that it is not any more.
			b.Turns = append(b.Turns, link.Turn{Group: id, Term: r.Term, Held: true})
		}
	}
	if err == nil && p.Notary != nil {
		head, failed := p.Notary.Newest(ctx)
		if failed != nil {
			return b, failed
		}
		if head != nil {
			b.Trail = p.Identity.Tell(*head)
		}
	}
	return b, err
}

// beat gives a sign of life, and takes one.
func (p *Peering) beat(ctx context.Context, s *state) {
	b, err := p.life(ctx, s)
	if err != nil {
		if ctx.Err() == nil {
			p.Log.Error("make a beat", "peer", s.rec.PeerName, "err", err)
		}
		return
	}
	reply, rtt, ahead, err := s.peer.Beat(ctx, b)
	if ctx.Err() != nil {
		return
	}
	p.mu.Lock()
	was := p.reached(s)
	s.err = err
	if err == nil {
		s.outAt, s.rtt, s.ahead, s.free, s.floor = p.Clock.Now(), rtt, ahead, reply.FreeBytes, reply.FloorBytes
		s.longTerm = reply.LongTerm
	}
	is := p.reached(s)
	p.mu.Unlock()
	if was != is {
		p.Hub.Send(events.Event{Type: "link", ID: s.rec.ID})
		if is {
			p.note(ctx, s.rec, "The link to %s is up", s.rec.PeerName)
		}
	}
	if err != nil {
		p.Log.Debug("beat", "peer", s.rec.PeerName, "err", err)
		return
	}
	if len(reply.Ended) > 0 {
		if err := p.DB.DeleteFarewells(ctx, s.rec.ID, reply.Ended); err != nil {
			p.Log.Error("forget farewells", "err", err)
		}
	}
}

// sum is what a value is told apart by.
func (p *Peering) sum(v any) uint64 {
	b, err := json.Marshal(v)
	if err != nil {
		panic(err) // plain structs always marshal
	}
	return maphash.Bytes(p.seed, b)
}

// sumOf is what a state is told apart by: the mark is of its points, the newest included.
func (p *Peering) sumOf(st link.GroupState) uint64 {
	var h maphash.Hash
	h.SetSeed(p.seed)
	for _, text := range []string{st.PointsMark, st.NewestPoint, string(st.Ready), st.Preparing} {
		_, _ = h.WriteString(text)
		_ = h.WriteByte(0)
	}
	for _, n := range []int64{int64(st.LostPoints), st.LostBytes} {
		maphash.WriteComparable(&h, n)
	}
	return h.Sum64()
}

// due tells whether the other site is to hear of something that is so, and keeps that it will.
// The lock is held.
func (s *state) due(key string, sum uint64, now time.Time, every time.Duration) bool {
	was, known := s.told[key]
	switch {
	case !known || was.sum != sum:
		return true
	case was.refused:
		return now.Sub(was.at) >= tellAgain*every
	}
	// Each at its own time, so that they do not come all at once for ever.
	return now.Sub(was.at) >= retold+time.Duration(maphash.String(spread, key)%uint64(retold))
}

// spread spreads groups over time, alike in one process.
var spread = maphash.MakeSeed()

// changedOf collects what the other site is to hear: of some groups, or of all.
func (p *Peering) changedOf(s *state, only []string) (groups []link.GroupReport, turns []link.Turn, sums map[string]uint64) {
	now := p.Clock.Now()
	sums = map[string]uint64{}
	for _, r := range p.Groups.All() {
		if r.Link != s.rec.ID || len(only) > 0 && !slices.Contains(only, r.ID) {
			continue
		}
		if r.Turned == directory.Held || r.Turned == directory.Returned {
			t := link.Turn{Group: r.ID, Term: r.Term, Held: r.Held()}
			if sum := p.sum(t); p.isDue(s, turnKey(r.ID), sum, now) {
				turns, sums[turnKey(r.ID)] = append(turns, t), sum
			}
		}
		if !r.Home() {
			continue
		}
		x := link.GroupReport{ID: r.ID, Term: r.Term, Revision: r.Revision, Anchor: r.Anchor, CreatedAt: r.CreatedAt, Live: p.Live(r.ID), EarlierMark: p.Keeper.EarlierMark(r.ID, r.Term)}
		if sum := p.sum(x); p.isDue(s, r.ID, sum, now) {
			x.Settings = directory.Encode(r.Spec) // it is of the revision
			groups, sums[r.ID] = append(groups, x), sum
		}
	}
	return groups, turns, sums
}

func (p *Peering) isDue(s *state, key string, sum uint64, now time.Time) bool {
	p.mu.Lock()
	defer p.mu.Unlock()
	return s.due(key, sum, now, p.BeatEvery)
}

func turnKey(group string) string { return "turn " + group }

// tell has the other site hear what has changed here, and hears what has changed there, piece by
// piece.
func (p *Peering) tell(ctx context.Context, s *state, only ...string) {
	groups, turns, sums := p.changedOf(s, only)
	for {
		p.mu.Lock()
		b := link.Beat{Site: p.Site.Name, Groups: append([]link.GroupReport{}, groups[:min(len(groups), piece)]...), Turns: turns[:min(len(turns), piece)], Epoch: s.theirs, Heard: s.heard}
		p.mu.Unlock()
		groups, turns = groups[len(b.Groups):], turns[len(b.Turns):]
		// What has changed there is asked for with the last piece: it is looked for among all.
		b.Listen = len(groups) == 0 && len(turns) == 0 && len(only) == 0
		reply, _, _, err := s.peer.Beat(ctx, b)
		if err != nil {
			if ctx.Err() == nil {
				p.Log.Debug("tell", "peer", s.rec.PeerName, "err", err)
			}
			return
		}
		if p.taken(s, b, reply, sums) { // it has forgotten what it was told
			groups, turns, sums = p.changedOf(s, nil)
			only = nil
		}
		for _, st := range reply.Groups {
			p.answered(ctx, s, st)
		}
		if len(groups) == 0 && len(turns) == 0 && !reply.More && (b.Listen || len(only) > 0) {
			break
		}
	}
	if len(only) > 0 {
		return
	}
	p.mu.Lock()
	s.heardAt = p.Clock.Now()
	late, earlier := s.late, s.earlier
	s.late, s.earlier = nil, nil
	p.mu.Unlock()
	for _, st := range late {
		p.confirm(ctx, s, st)
	}
	for id, mark := range earlier {
		again, err := p.Keeper.Elsewhere(ctx, id, mark, downAfter*p.BeatEvery, func(ctx context.Context) ([]link.PointState, error) { return s.peer.Points(ctx, id) })
		if err != nil && ctx.Err() == nil {
			p.Log.Warn("earlier points of a home site", "err", err)
		}
		if again {
			p.mu.Lock()
			if _, newer := s.earlier[id]; !newer {
				s.keepEarlier(id, mark)
			}
			p.mu.Unlock()
		}
	}
}

// keepEarlier has a list of earlier points be fetched; the lock is held.
func (s *state) keepEarlier(group, mark string) {
	if s.earlier == nil {
		s.earlier = map[string]string{}
	}
	s.earlier[group] = mark
}

// taken notes what the other site has taken, and tells whether it has forgotten all that it took
// before.
func (p *Peering) taken(s *state, b link.Beat, reply link.BeatReply, sums map[string]uint64) (forgot bool) {
	p.mu.Lock()
	defer p.mu.Unlock()
	if forgot = s.theirs != reply.Epoch; forgot {
		s.theirs, s.told = reply.Epoch, nil
	}
	switch {
	case b.Listen:
		s.heard = reply.Told
	case forgot:
		s.heard = 0
	}
	if s.told == nil {
		s.told = map[string]toldOf{}
	}
	now := p.Clock.Now()
	for _, t := range b.Turns {
		s.told[turnKey(t.Group)] = toldOf{sum: sums[turnKey(t.Group)], at: now}
	}
	asked := map[string]bool{}
	for _, g := range b.Groups {
		asked[g.ID] = true
	}
	for _, st := range reply.Groups {
		if asked[st.ID] {
			s.told[st.ID] = toldOf{sum: sums[st.ID], at: now, refused: st.Refused != ""}
		}
	}
	return forgot
}

// changes are the states of groups of a home site that have changed since what it has heard, the
// oldest change first.
func (p *Peering) changes(s *state, b link.Beat) (out []link.GroupState, told int64, more bool) {
	now := map[string]link.GroupState{}
	var order []string
	for _, r := range p.Groups.All() {
		if r.Link == s.rec.ID && r.Direction == directory.In {
			now[r.ID] = p.stateOf(r.ID)
			order = append(order, r.ID)
		}
	}
	sums := map[string]uint64{}
	for id, st := range now {
		sums[id] = p.sumOf(st)
	}
	p.mu.Lock()
	defer p.mu.Unlock()
	was := s.states
	s.states = make(map[string]stateOf, len(now))
	for _, id := range order {
		x, known := was[id]
		if !known || x.sum != sums[id] {
			s.changes++
			x = stateOf{sums[id], s.changes}
		}
		s.states[id] = x
	}
	heard := b.Heard
	if b.Epoch != p.epoch || heard > s.changes {
		heard = 0
	}
	order = slices.DeleteFunc(order, func(id string) bool { return s.states[id].change <= heard })
	slices.SortFunc(order, func(a, b string) int { return int(s.states[a].change - s.states[b].change) })
	told, more = s.changes, len(order) > piece
	if more {
		order = order[:piece]
		told = s.states[order[piece-1]].change
	}
	for _, id := range order {
		out = append(out, now[id])
	}
	return out, told, more
}

// answered takes what the recovery site says of one group.
func (p *Peering) answered(ctx context.Context, s *state, st link.GroupState) {
	r, ok := p.Groups.Get(st.ID)
	if !ok || r.Link != s.rec.ID || r.Direction != directory.Out {
		return
	}
	p.mu.Lock()
	was := p.refused[st.ID]
	if st.Preparing == "" {
		delete(p.preparing, st.ID)
	} else {
		p.preparing[st.ID] = words.Sentence(st.Preparing)
	}
	if st.Refused == "" {
		delete(p.refused, st.ID)
	} else {
		p.refused[st.ID] = st.Refused
	}
	p.mu.Unlock()
	if st.Refused != "" {
		if was != st.Refused {
			p.Log.Warn("a group's report was refused", "group", st.ID, "peer", s.rec.PeerName, "why", strings.TrimSpace(st.Refused))
			p.Hub.Send(events.Event{Type: "group", ID: st.ID})
		}
		return
	}
	if p.Heard != nil && len(st.Ready) > 0 {
		p.Heard(st.ID, st.Ready)
	}
	p.confirm(ctx, s, st)
}

// confirm takes what the recovery site holds of a group.
func (p *Peering) confirm(ctx context.Context, s *state, st link.GroupState) {
	late, err := p.Keeper.Confirmed(ctx, st, downAfter*p.BeatEvery, func(ctx context.Context) ([]link.PointState, error) { return s.peer.Points(ctx, st.ID) })
	if err != nil && ctx.Err() == nil {
		p.Log.Warn("points of the recovery site", "err", err)
	}
	p.mu.Lock()
	defer p.mu.Unlock()
	if !late {
		delete(s.late, st.ID)
		return
	}
	if s.late == nil {
		s.late = map[string]link.GroupState{}
	}
	s.late[st.ID] = st
}
