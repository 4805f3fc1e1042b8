package service

import (
	"context"
	"time"

	"github.com/google/uuid"

	"kestrel/internal/clock"
	"kestrel/internal/core/exposure"
	"kestrel/internal/link"
	"kestrel/internal/problem"
)

func (s *Service) beatEvery() time.Duration { return beatPulses * s.cfg.Pulse }

// upOut tells whether we reach the peer; the lock is held.
func (s *Service) upOut(l *linkState) bool {
	return l != nil && !l.outAt.IsZero() && s.clk.Now().Sub(l.outAt) < downAfter*s.beatEvery()
}

// upIn tells whether either side reaches the other; the lock is held.
func (s *Service) upIn(l *linkState) bool {
	return l != nil && (s.upOut(l) || !l.inAt.IsZero() && s.clk.Now().Sub(l.inAt) < downAfter*s.beatEvery())
}

// startBeats exchanges beats with all peers until ctx ends.
func (s *Service) startBeats(ctx context.Context) {
	s.wg.Go(func() {
		busy := map[string]chan struct{}{}
		for {
			s.mu.Lock()
			ls := make([]*linkState, 0, len(s.links))
			for _, l := range s.links {
				ls = append(ls, l)
			}
			s.mu.Unlock()
			for _, l := range ls {
				// A peer that does not answer must not hold up the others.
				if c := busy[l.rec.ID]; c != nil {
					select {
					case <-c:
					default:
						continue
					}
				}
				done := make(chan struct{})
				busy[l.rec.ID] = done
				s.wg.Go(func() { defer close(done); s.beat(ctx, l) })
			}
			if clock.Sleep(ctx, s.clk, s.beatEvery()) != nil {
				return
			}
		}
	})
}

// makeBeat reports the groups that are home here and kept at l's site.
func (s *Service) makeBeat(l *linkState) link.Beat {
	b := link.Beat{Site: s.site.Name}
	if l == nil {
		return b
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	for _, g := range s.groups {
		if g.rec.Direction == "out" && g.rec.Link != nil && *g.rec.Link == l.rec.ID && !g.ending {
			b.Groups = append(b.Groups, link.GroupReport{ID: g.rec.ID, Name: g.rec.Name, HomeName: g.rec.HomeName, RecoveryName: g.rec.RecoveryName, Term: g.rec.Term,
				Revision: g.rec.Revision, Settings: g.rec.Settings, Paused: g.rec.Paused, Anchor: g.rec.Anchor, CreatedAt: g.rec.CreatedAt, Live: s.liveOf(g)})
		}
	}
	return b
}

func (s *Service) beat(ctx context.Context, l *linkState) {
	b := s.makeBeat(l)
	if b.Groups == nil {
		b.Groups = []link.GroupReport{} // none is told apart from a mere test
	}
	reply, rtt, ahead, err := l.peer.Beat(ctx, b)
	if ctx.Err() != nil {
		return
	}
	s.mu.Lock()
	wasUp := s.upOut(l)
	l.err = err
	if err == nil {
		l.outAt, l.rtt, l.peerFS, l.peerFloor = s.clk.Now(), rtt, reply.FreeBytes, reply.FloorBytes
		l.ahead = ahead
	}
	up := s.upOut(l)
	s.mu.Unlock()
	if wasUp != up {
		s.hub.send(Event{Type: "link", ID: l.rec.ID})
		if up {
			s.note(ctx, "kestrel", "link", l.rec.PeerName, "The link to %s is up", l.rec.PeerName)
		}
	}
	if err != nil {
		s.log.Debug("beat", "peer", l.rec.PeerName, "err", err)
		return
	}
	for _, st := range reply.Groups {
		s.takeState(ctx, l, st)
	}
}

// Beat implements link.Local: it takes the reports of a home site.
func (s *Service) Beat(ctx context.Context, pin []byte, b link.Beat) (link.BeatReply, error) {
	out := link.BeatReply{ReceivedAt: s.clk.Now()}
	s.mu.Lock()
	l := s.linkByPin(pin)
	wasIn := s.upIn(l)
	l.inAt = s.clk.Now()
	s.mu.Unlock()
	if !wasIn {
		s.hub.send(Event{Type: "link", ID: l.rec.ID})
	}
	seen := map[string]bool{}
	for _, r := range b.Groups {
		if uuid.Validate(r.ID) != nil {
			return out, problem.Invalid("groups", "%q is not a group ID.", r.ID)
		}
		seen[r.ID] = true
		if err := s.takeReport(ctx, l, r); err != nil {
			return out, err
		}
		out.Groups = append(out.Groups, s.stateOf(r.ID))
	}
	if b.Groups != nil {
		if err := s.endUnreported(ctx, l, seen); err != nil {
			return out, err
		}
	}
	u := s.store.Usage()
	out.FreeBytes, out.FloorBytes = u.FreeBytes, u.FloorBytes
	out.AnsweredAt = s.clk.Now()
	return out, nil
}

// Received implements link.Local.
func (s *Service) Received(pin []byte, n int64) {
	s.mu.Lock()
	defer s.mu.Unlock()
	if l := s.linkByPin(pin); l != nil {
		l.received += n
	}
}

// receiveRate is the bytes received a second, lately; the lock is held.
func (s *Service) receiveRate(l *linkState) float64 {
	if d := s.clk.Now().Sub(l.markAt); d > 5*time.Second {
		l.perSec = float64(l.received-l.mark) / d.Seconds()
		l.mark, l.markAt = l.received, s.clk.Now()
	}
	return l.perSec
}

// ours turns an instant of the peer's clock into one of ours; the lock is held.
func ours(l *linkState, t time.Time) time.Time {
	if l == nil || t.IsZero() {
		return t
	}
	return exposure.Shift(t, l.ahead)
}
