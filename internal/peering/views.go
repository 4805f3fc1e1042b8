package peering

import (
	"fmt"
	"slices"
	"strings"
	"time"

	"kestrel/internal/api"
	"kestrel/internal/core/span"
	"kestrel/internal/core/words"
	"kestrel/internal/directory"
	"kestrel/internal/link"
)

// rate is the bytes received a second, lately; the lock is held.
func (p *Peering) rate(s *state) float64 {
	if d := p.Clock.Now().Sub(s.markAt); d > 5*time.Second {
		s.perSec = float64(s.received-s.mark) / d.Seconds()
		s.mark, s.markAt = s.received, p.Clock.Now()
	}
	return s.perSec
}

// view is a link as the contract shows it.
func (p *Peering) view(s *state) api.Link {
	var in, out int
	for _, g := range p.Groups.All() {
		switch {
		case g.Link != s.rec.ID:
		case g.Direction == directory.Out:
			out++
		case g.Direction == directory.In:
			in++
		}
	}
	platforms, machines := p.Platforms()
	p.mu.Lock()
	defer p.mu.Unlock()
	now := p.now(s)
	v := api.Link{ID: s.rec.ID, Peer: s.rec.PeerName, PeerID: s.rec.PeerID, Address: s.rec.Address, Key: link.Words(s.rec.PeerKey), OwnKey: link.Words(p.Identity.Fingerprint), Up: now.Up,
		SendBytesPerSecond: int64(s.peer.SendRate()), ReceiveBytesPerSecond: int64(p.rate(s)), InGroups: in, OutGroups: out, Checks: []api.Check{}}
	s.set.view(&v, p.Clock.Now())
	if !now.SeenAt.IsZero() {
		v.SeenAt = &now.SeenAt
	}
	if !s.outAt.IsZero() {
		v.RttMillis = new(float64(s.rtt) / float64(time.Millisecond))
		v.ClockAheadMillis = new(float64(s.ahead) / float64(time.Millisecond))
	}
	if s.err != nil {
		v.Error = new(words.Upper(s.err.Error()))
	}
	check := func(name string, ok bool, note, mend string) {
		c := api.Check{Name: name, Ok: ok, Note: note}
		if !ok {
			c.Mend = &mend
		}
		v.Checks = append(v.Checks, c)
	}
	peer := s.rec.PeerName
	note := fmt.Sprintf("answers at %s", s.rec.Address)
	if !now.Reached {
		note = fmt.Sprintf("%s does not answer at %s", peer, s.rec.Address)
	}
	check("We reach "+peer, now.Reached, note, "Run the link test to see which step fails; start the other site or open its port.")
	called := p.recent(s.inAt)
	note = "it called lately"
	if !called {
		note = "it has not called lately, so groups cannot come from there"
	}
	check(peer+" reaches us", called, note, fmt.Sprintf("Start %s with --link-address set to what %s can reach, or open the port.", p.Site.Name, peer))
	if !s.outAt.IsZero() {
		check("Clocks agree", s.ahead.Abs() <= maxClockDifference, fmt.Sprintf("they differ by %s", roundSpan(s.ahead.Abs())), "Set both clocks by NTP.")
	}
	note = words.Count(machines, "machine") + " here"
	if platforms == 0 {
		note = "no platform here yet"
	}
	check("Something to protect", platforms > 0, note, "Add a platform at "+p.Site.Name+".")
	if now.Reached {
		check("Room at "+peer, s.free > s.floor, fmt.Sprintf("%.1f GiB free, of which cycles leave %.1f", float64(s.free)/(1<<30), float64(s.floor)/(1<<30)), "Free some room at the other site, or keep fewer points.")
	}
	return v
}

func roundSpan(d time.Duration) string {
	switch {
	case d < 10*time.Millisecond:
		return d.Round(10 * time.Microsecond).String()
	case d < time.Second:
		return d.Round(time.Millisecond).String()
	}
	return span.Format(d)
}

// Links lists all.
func (p *Peering) Links() []api.Link {
	p.mu.Lock()
	all := make([]*state, 0, len(p.byID))
	for _, s := range p.byID {
		all = append(all, s)
	}
	p.mu.Unlock()
	out := []api.Link{}
	for _, s := range all {
		out = append(out, p.view(s))
	}
	slices.SortFunc(out, func(a, b api.Link) int { return strings.Compare(a.Peer, b.Peer) })
	return out
}
