package service

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"net"
	"sort"
	"strings"
	"time"

	"github.com/google/uuid"

	"kestrel/internal/api"
	"kestrel/internal/core/span"
	"kestrel/internal/link"
	"kestrel/internal/platform"
	"kestrel/internal/problem"
	"kestrel/internal/records"
)

// linkState is a paired site and how it was last seen.
type linkState struct {
	rec    records.Link
	set    linkSettings
	peer   *link.Peer
	outAt  time.Time // last time our call was answered
	inAt   time.Time // last time it called us
	err    error     // of our last call
	rtt    time.Duration
	ahead  time.Duration // how far its clock is ahead of ours
	peerFS int64         // free bytes of its point store, 0 if unknown
	// peerFloor is what blocks that come in have to leave of them.
	peerFloor int64

	received, mark int64
	markAt         time.Time
	perSec         float64
}

// beatPulses is how many pulses lie between two beats, and downAfter how many
// beats may be missed before a link counts as down.
const (
	beatPulses = 4
	downAfter  = 5
)

// maxClockDifference is what readiness of a link tolerates: more makes the
// times that people compare meaningless.
const maxClockDifference = 5 * time.Second

func (s *Service) loadLinks(ctx context.Context) error {
	recs, err := s.db.Links(ctx)
	if err != nil {
		return err
	}
	for _, r := range recs {
		l := s.newLinkState(r)
		if err := json.Unmarshal(r.Settings, &l.set); err != nil {
			return fmt.Errorf("settings of the link with %s: %w", r.PeerName, err)
		}
		l.peer.Limit(l.set.Pace)
		s.links[r.ID] = l
	}
	return nil
}

func (s *Service) newLinkState(r records.Link) *linkState {
	return &linkState{rec: r, peer: link.NewPeer(s.id, r.Address, r.PeerKey, s.clk), markAt: s.clk.Now()}
}

// findLink resolves a link by its ID or the peer's name or ID; the lock is held.
func (s *Service) findLink(id string) (*linkState, error) {
	for _, l := range s.links {
		if l.rec.ID == id || l.rec.PeerID == id || strings.EqualFold(l.rec.PeerName, id) {
			return l, nil
		}
	}
	return nil, problem.NotFound("link", id)
}

// linkByPin finds the paired site with a key; the lock is held.
func (s *Service) linkByPin(pin []byte) *linkState {
	for _, l := range s.links {
		if string(l.rec.PeerKey) == string(pin) {
			return l
		}
	}
	return nil
}

// Invite makes an invitation.
func (s *Service) Invite(ctx context.Context, who string, in api.NewInvitation) (api.InvitationSecret, error) {
	minutes := 60
	if in.Minutes != nil {
		minutes = *in.Minutes
	}
	if minutes < 1 || minutes > 7*24*60 {
		return api.InvitationSecret{}, problem.Invalid("minutes", "An invitation is good for 1 minute to 7 days (10080 minutes).")
	}
	token := newSecret(24)
	rec := records.Invitation{ID: uuid.NewString(), Hash: hashSecret(token), CreatedBy: who, CreatedAt: s.clk.Now(), ExpiresAt: s.clk.Now().Add(time.Duration(minutes) * time.Minute)}
	if in.ForSite != nil {
		rec.ForSite = strings.TrimSpace(*in.ForSite)
	}
	if strings.EqualFold(rec.ForSite, s.site.Name) {
		return api.InvitationSecret{}, problem.Invalid("forSite", "This is %s itself; name the other site.", s.site.Name)
	}
	if err := s.db.AddInvitation(ctx, rec); err != nil {
		return api.InvitationSecret{}, err
	}
	v := link.Invite{Site: s.site.Name, SiteID: s.site.ID, Address: s.cfg.LinkAddress, Pin: s.id.Pin, Token: []byte(token), For: rec.ForSite, Expires: rec.ExpiresAt.UTC().Truncate(time.Second)}
	s.note(ctx, who, "link", rec.ForSite, "%s made an invitation for %s, good for %s", who, orAny(rec.ForSite), span.Format(time.Duration(minutes)*time.Minute))
	out := api.InvitationSecret{Invitation: invitationView(rec), Text: v.Text()}
	if h := hostOf(s.cfg.LinkAddress); shortName(h) {
		out.Warning = ptr(fmt.Sprintf("The other site will look for %q, a short name that may not resolve there. Start this site with --link-address and its full name or IP address.", h))
	}
	return out, nil
}

func orAny(site string) string {
	if site == "" {
		return "any site"
	}
	return site
}

func invitationView(r records.Invitation) api.Invitation {
	v := api.Invitation{ID: r.ID, CreatedAt: r.CreatedAt, ExpiresAt: r.ExpiresAt, CreatedBy: r.CreatedBy}
	if r.ForSite != "" {
		v.ForSite = &r.ForSite
	}
	return v
}

// Invitations lists those that can still be used.
func (s *Service) Invitations(ctx context.Context) ([]api.Invitation, error) {
	recs, err := s.db.Invitations(ctx, s.clk.Now())
	out := []api.Invitation{}
	for _, r := range recs {
		out = append(out, invitationView(r))
	}
	return out, err
}

// DeleteInvitation withdraws one.
func (s *Service) DeleteInvitation(ctx context.Context, who, id string) error {
	if uuid.Validate(id) != nil {
		return problem.NotFound("invitation", id)
	}
	if err := s.db.DeleteInvitation(ctx, id); err != nil {
		if errors.Is(err, records.ErrNotFound) {
			return problem.NotFound("invitation", id)
		}
		return err
	}
	s.note(ctx, who, "link", id, "%s withdrew an invitation", who)
	return nil
}

// Accept pairs this site with the one that made an invitation.
func (s *Service) Accept(ctx context.Context, who string, in api.AcceptInvitation) (api.Link, error) {
	v, err := link.ParseInvite(in.Invitation)
	if err != nil {
		return api.Link{}, problem.Invalid("invitation", "This is no invitation: %s.", err)
	}
	switch {
	case v.SiteID == s.site.ID:
		return api.Link{}, problem.Invalid("invitation", "This invitation was made here, at %s. Accept it at the other site.", s.site.Name)
	case v.For != "" && !strings.EqualFold(v.For, s.site.Name):
		return api.Link{}, problem.Invalid("invitation", "This invitation is for %s, and this site is %s. Accept it there, or make one for %s.", v.For, s.site.Name, s.site.Name)
	case !s.clk.Now().Before(v.Expires):
		return api.Link{}, problem.Invalid("invitation", "This invitation expired at %s. Make a new one at %s.", v.Expires.Format(time.RFC3339), v.Site)
	}
	peer := link.NewPeer(s.id, v.Address, v.Pin, s.clk)
	reply, err := peer.Pair(ctx, link.PairRequest{Token: v.Token, Site: s.site.Name, SiteID: s.site.ID, Address: s.cfg.LinkAddress})
	if err != nil {
		peer.Close()
		if p, ok := problem.Of(err); ok {
			return api.Link{}, p
		}
		steps := s.checkPeer(ctx, v.Address, v.Pin)
		for _, x := range steps {
			if !x.OK {
				return api.Link{}, problem.Unreachable("%s at %s: the step %q fails: %s %s", v.Site, v.Address, x.Name, x.Note, x.Mend)
			}
		}
		return api.Link{}, problem.Unreachable("%s at %s: %v", v.Site, v.Address, err)
	}
	l, err := s.addLink(ctx, records.Link{PeerID: reply.SiteID, PeerName: reply.Site, Address: v.Address, PeerKey: v.Pin})
	if err != nil {
		return api.Link{}, err
	}
	s.note(ctx, who, "link", reply.Site, "%s paired %s with %s", who, s.site.Name, reply.Site)
	if reply.BackProblem != "" {
		s.note(ctx, "kestrel", "link", reply.Site, "%s cannot reach %s: %s", reply.Site, s.site.Name, reply.BackProblem)
	}
	s.beat(ctx, l)
	s.mu.Lock()
	defer s.mu.Unlock()
	return s.linkView(l), nil
}

// addLink stores a link, or renews the one with the same peer.
func (s *Service) addLink(ctx context.Context, r records.Link) (*linkState, error) {
	r.ID, r.CreatedAt = uuid.NewString(), s.clk.Now()
	s.mu.Lock()
	var old *linkState
	for _, l := range s.links {
		if l.rec.PeerID == r.PeerID {
			old = l
			r.ID, r.CreatedAt = l.rec.ID, l.rec.CreatedAt
		}
	}
	s.mu.Unlock()
	if err := s.db.PutLink(ctx, r); err != nil {
		return nil, err
	}
	l := s.newLinkState(r)
	s.mu.Lock()
	if old != nil {
		l.set = old.set
		l.peer.Limit(l.set.Pace)
		old.peer.Close()
	}
	s.links[r.ID] = l
	s.mu.Unlock()
	s.hub.send(Event{Type: "link", ID: r.ID})
	return l, nil
}

// Allow implements link.Local: unknown keys may knock only while an invitation
// is open, and then only to pair.
func (s *Service) Allow(pin []byte) (connect, paired bool) {
	s.mu.Lock()
	paired = s.linkByPin(pin) != nil
	s.mu.Unlock()
	if paired {
		return true, true
	}
	ctx, cancel := context.WithTimeout(context.Background(), 5*time.Second)
	defer cancel()
	open, err := s.db.Invitations(ctx, s.clk.Now())
	return err == nil && len(open) > 0, false
}

// Pair implements link.Local.
func (s *Service) Pair(ctx context.Context, pin []byte, r link.PairRequest) (link.PairReply, error) {
	bad := func(format string, a ...any) (link.PairReply, error) {
		return link.PairReply{}, problem.Invalid("invitation", format, a...)
	}
	if uuid.Validate(r.SiteID) != nil || r.Site == "" || len(r.Site) > 60 || len(r.Token) == 0 {
		return bad("The request to pair is not complete.")
	}
	inv, err := s.db.InvitationByHash(ctx, hashSecret(string(r.Token)))
	switch {
	case errors.Is(err, records.ErrNotFound):
		return bad("%s does not know this invitation; it may have been withdrawn. Make a new one there.", s.site.Name)
	case err != nil:
		return link.PairReply{}, err
	case inv.UsedAt != nil:
		return bad("This invitation was used already, at %s. Make a new one at %s.", inv.UsedAt.UTC().Format(time.RFC3339), s.site.Name)
	case !s.clk.Now().Before(inv.ExpiresAt):
		return bad("This invitation expired at %s. Make a new one at %s.", inv.ExpiresAt.UTC().Format(time.RFC3339), s.site.Name)
	case inv.ForSite != "" && !strings.EqualFold(inv.ForSite, r.Site):
		return bad("This invitation is for %s, not for %s.", inv.ForSite, r.Site)
	case r.SiteID == s.site.ID:
		return bad("A site cannot be paired with itself.")
	case strings.EqualFold(r.Site, s.site.Name):
		return bad("Both sites are called %s. Start one of them under another name.", r.Site)
	}
	s.mu.Lock()
	for _, l := range s.links {
		if strings.EqualFold(l.rec.PeerName, r.Site) && l.rec.PeerID != r.SiteID {
			s.mu.Unlock()
			return bad("%s is paired with another site called %s already.", s.site.Name, r.Site)
		}
	}
	s.mu.Unlock()
	if err := s.db.UseInvitation(ctx, inv.ID, s.clk.Now()); err != nil {
		return bad("This invitation was used already. Make a new one at %s.", s.site.Name)
	}
	if _, err := s.addLink(ctx, records.Link{PeerID: r.SiteID, PeerName: r.Site, Address: r.Address, PeerKey: pin}); err != nil {
		return link.PairReply{}, err
	}
	s.note(ctx, r.Site, "link", r.Site, "%s accepted the invitation of %s; the sites are paired", r.Site, inv.CreatedBy)
	out := link.PairReply{Site: s.site.Name, SiteID: s.site.ID}
	for _, x := range s.checkPeer(ctx, r.Address, pin) {
		if !x.OK {
			out.BackProblem = fmt.Sprintf("the step %q fails: %s %s", x.Name, x.Note, x.Mend)
			break
		}
	}
	return out, nil
}

// Unpaired implements link.Local: the other side removed the link.
func (s *Service) Unpaired(ctx context.Context, pin []byte) error {
	s.mu.Lock()
	l := s.linkByPin(pin)
	s.mu.Unlock()
	if err := s.linkFree(l); err != nil {
		return err
	}
	return s.removeLink(ctx, l, l.rec.PeerName)
}

// linkFree refuses while groups use a link.
func (s *Service) linkFree(l *linkState) error {
	s.mu.Lock()
	defer s.mu.Unlock()
	for _, g := range s.groups {
		if g.rec.Link != nil && *g.rec.Link == l.rec.ID && g.rec.Direction != "ended" {
			return problem.Conflict("Group %s uses the link to %s. Delete the group first.", g.rec.Name, l.rec.PeerName)
		}
	}
	return nil
}

func (s *Service) removeLink(ctx context.Context, l *linkState, who string) error {
	s.mu.Lock()
	var ended []*group
	for _, g := range s.groups {
		if g.rec.Link != nil && *g.rec.Link == l.rec.ID {
			g.rec.Link = nil
			ended = append(ended, g)
		}
	}
	s.mu.Unlock()
	for _, g := range ended {
		if err := s.db.SaveGroup(ctx, g.rec); err != nil {
			return err
		}
	}
	if err := s.db.DeleteLink(ctx, l.rec.ID); err != nil {
		return err
	}
	s.mu.Lock()
	delete(s.links, l.rec.ID)
	s.mu.Unlock()
	l.peer.Close()
	s.note(ctx, who, "link", l.rec.PeerName, "%s removed the link between %s and %s", who, s.site.Name, l.rec.PeerName)
	s.hub.send(Event{Type: "link", ID: l.rec.ID})
	return nil
}

// DeleteLink unpairs.
func (s *Service) DeleteLink(ctx context.Context, who, id string) error {
	s.mu.Lock()
	l, err := s.findLink(id)
	s.mu.Unlock()
	if err != nil {
		return err
	}
	if err := s.linkFree(l); err != nil {
		return err
	}
	if err := l.peer.Unpair(ctx); err != nil {
		if p, ok := problem.Of(err); ok && p.Status == 409 {
			return p
		}
		s.note(ctx, "kestrel", "link", l.rec.PeerName, "%s could not be told that the link is gone: %v", l.rec.PeerName, err)
	}
	return s.removeLink(ctx, l, who)
}

// checkPeer tests the way to another site step by step.
func (s *Service) checkPeer(ctx context.Context, address string, pin []byte) []platform.Step {
	steps := []platform.Step{{Name: "name"}, {Name: "port"}, {Name: "key"}, {Name: "pairing"}, {Name: "clock"}}
	at := 0
	pass := func(format string, a ...any) {
		steps[at].OK, steps[at].Tried, steps[at].Note = true, true, fmt.Sprintf(format, a...)
		at++
	}
	fail := func(note, mend string) []platform.Step {
		steps[at].Tried, steps[at].Note, steps[at].Mend = true, note, mend
		return steps
	}
	host, port, err := net.SplitHostPort(address)
	if err != nil {
		return fail(fmt.Sprintf("%q is not host:port.", address), "Start the other site with --link-address HOST:PORT.")
	}
	ips, err := net.DefaultResolver.LookupHost(ctx, host)
	if err != nil {
		return fail(fmt.Sprintf("%s does not resolve here.", host), "Start the other site with --link-address and its full name or IP address.")
	}
	pass("%s is %s", host, ips[0])
	c, err := (&net.Dialer{Timeout: 5 * time.Second}).DialContext(ctx, "tcp", address)
	if err != nil {
		return fail(fmt.Sprintf("Nothing answers on port %s.", port), "Start the other site, or open the port in the firewall between.")
	}
	_ = c.Close()
	pass("port %s answers", port)
	peer := link.NewPeer(s.id, address, pin, s.clk)
	defer peer.Close()
	reply, rtt, ahead, err := peer.Beat(ctx, s.makeBeat(nil))
	switch {
	case errors.Is(err, link.ErrWrongKey):
		return fail("The other side has another key than the one it was paired with.", "If it was set up anew, remove the link and pair again.")
	case err != nil && strings.Contains(err.Error(), "tls"):
		pass("the other side has the expected key")
		return fail("The other side does not accept this site.", "Remove the link and pair again with a new invitation.")
	case err != nil:
		pass("the other side has the expected key")
		return fail(sentence(err), "Look at the log of the other site.")
	}
	pass("the other side has the expected key")
	pass("paired; answers in %s", rtt.Round(10*time.Microsecond))
	_ = reply
	if ahead.Abs() > maxClockDifference {
		return fail(fmt.Sprintf("Its clock is %s off ours.", ahead.Round(time.Millisecond)), "Set both clocks by NTP. Exposure allows for the difference meanwhile.")
	}
	pass("clocks differ by %s", ahead.Abs().Round(10*time.Microsecond))
	return steps
}

// TestLink tests a link step by step.
func (s *Service) TestLink(ctx context.Context, id string) (api.ConnectionTest, error) {
	s.mu.Lock()
	l, err := s.findLink(id)
	s.mu.Unlock()
	if err != nil {
		return api.ConnectionTest{}, err
	}
	return testView(s.checkPeer(ctx, l.rec.Address, l.rec.PeerKey)), nil
}

// linkView is a link as the contract shows it; the lock is held.
func (s *Service) linkView(l *linkState) api.Link {
	v := api.Link{ID: l.rec.ID, Peer: l.rec.PeerName, PeerID: l.rec.PeerID, Address: l.rec.Address, Up: s.upIn(l),
		SendBytesPerSecond: int64(l.peer.SendRate()), ReceiveBytesPerSecond: int64(s.receiveRate(l)), Checks: []api.Check{}}
	l.set.view(&v, s.clk.Now())
	seen := l.outAt
	if l.inAt.After(seen) {
		seen = l.inAt
	}
	v.SeenAt = orNil(seen)
	if !l.outAt.IsZero() {
		v.RttMillis = ptr(float64(l.rtt) / float64(time.Millisecond))
		v.ClockAheadMillis = ptr(float64(l.ahead) / float64(time.Millisecond))
	}
	if l.err != nil {
		v.Error = ptr(sentence(l.err))
	}
	for _, g := range s.groups {
		if g.rec.Link != nil && *g.rec.Link == l.rec.ID {
			switch g.rec.Direction {
			case "out":
				v.OutGroups++
			case "in":
				v.InGroups++
			}
		}
	}
	check := func(name string, ok bool, note, mend string) {
		c := api.Check{Name: name, Ok: ok, Note: note}
		if !ok {
			c.Mend = &mend
		}
		v.Checks = append(v.Checks, c)
	}
	peer := l.rec.PeerName
	up := s.upOut(l)
	note := fmt.Sprintf("answers at %s", l.rec.Address)
	if !up {
		note = fmt.Sprintf("%s does not answer at %s", peer, l.rec.Address)
	}
	check("We reach "+peer, up, note, "Run the link test to see which step fails; start the other site or open its port.")
	in := !l.inAt.IsZero() && s.clk.Now().Sub(l.inAt) < downAfter*s.beatEvery()
	note = "it called lately"
	if !in {
		note = "it has not called lately, so groups cannot come from there"
	}
	check(peer+" reaches us", in, note, fmt.Sprintf("Start %s with --link-address set to what %s can reach, or open the port.", s.site.Name, peer))
	if !l.outAt.IsZero() {
		check("Clocks agree", l.ahead.Abs() <= maxClockDifference, fmt.Sprintf("they differ by %s", roundSpan(l.ahead.Abs())), "Set both clocks by NTP.")
	}
	machines := 0
	for _, p := range s.platforms {
		machines += len(p.inv.Machines)
	}
	note = fmt.Sprintf("%d machines here", machines)
	if len(s.platforms) == 0 {
		note = "no platform here yet"
	}
	check("Something to protect", len(s.platforms) > 0, note, "Add a platform at "+s.site.Name+".")
	if up {
		check("Room at "+peer, l.peerFS > l.peerFloor, fmt.Sprintf("%.1f GiB free, of which cycles leave %.1f", float64(l.peerFS)/(1<<30), float64(l.peerFloor)/(1<<30)), "Free some room at the other site, or keep fewer points.")
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
func (s *Service) Links() []api.Link {
	s.mu.Lock()
	defer s.mu.Unlock()
	out := []api.Link{}
	for _, l := range s.links {
		out = append(out, s.linkView(l))
	}
	sort.Slice(out, func(i, j int) bool { return out[i].Peer < out[j].Peer })
	return out
}

func mustJSON(v any) json.RawMessage {
	b, err := json.Marshal(v)
	if err != nil {
		panic(err) // plain structs always marshal
	}
	return b
}
