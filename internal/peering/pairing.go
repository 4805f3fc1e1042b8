package peering

import (
	"context"
	"errors"
	"fmt"
	"net"
	"strings"
	"time"

	"github.com/google/uuid"

	"kestrel/internal/access"
	"kestrel/internal/api"
	"kestrel/internal/audit"
	"kestrel/internal/core/actor"
	"kestrel/internal/core/group"
	"kestrel/internal/core/ident"
	"kestrel/internal/core/span"
	"kestrel/internal/core/words"
	"kestrel/internal/directory"
	"kestrel/internal/events"
	"kestrel/internal/inventory"
	"kestrel/internal/link"
	"kestrel/internal/platform"
	"kestrel/internal/problem"
	"kestrel/internal/reach"
	"kestrel/internal/records"
)

// maxSite bounds a site's name, in characters.
const maxSite = 60

// Invite makes an invitation.
func (p *Peering) Invite(ctx context.Context, who actor.Actor, in api.NewInvitation) (api.InvitationSecret, error) {
	minutes := 60
	if in.Minutes != nil {
		minutes = *in.Minutes
	}
	if minutes < 1 || minutes > 7*24*60 {
		return api.InvitationSecret{}, problem.Invalid("minutes", "An invitation is good for 1 minute to 7 days (10080 minutes).")
	}
	now := p.Clock.Now()
	token := access.NewSecret(24)
	rec := records.Invitation{ID: uuid.NewString(), Hash: access.HashSecret(token), NewKey: in.NewKey != nil && *in.NewKey, CreatedBy: who.String(), CreatedAt: now, ExpiresAt: now.Add(time.Duration(minutes) * time.Minute)}
	if in.ForSite != nil {
		rec.ForSite = strings.TrimSpace(*in.ForSite)
	}
	switch {
	case rec.ForSite != "" && group.CheckName(rec.ForSite, maxSite) != "":
		return api.InvitationSecret{}, problem.Invalid("forSite", "%s", group.CheckName(rec.ForSite, maxSite))
	case strings.EqualFold(rec.ForSite, p.Site.Name):
		return api.InvitationSecret{}, problem.Invalid("forSite", "This is %s itself; name the other site.", p.Site.Name)
	}
	if rec.NewKey {
		if _, err := p.Find(rec.ForSite); err != nil || rec.ForSite == "" {
			return api.InvitationSecret{}, problem.Invalid("forSite", "Name the paired site that has lost its key.")
		}
	}
	v := link.Invite{Site: p.Site.Name, SiteID: p.Site.ID, Address: p.Address, Fingerprint: p.Identity.Fingerprint, Token: []byte(token), For: rec.ForSite, Expires: rec.ExpiresAt.UTC().Truncate(time.Second)}
	text := "%s made an invitation for %s, good for %s"
	if rec.NewKey {
		text += ", which lets it come with another key"
	}
	err := p.Trail.Do(ctx, who, audit.Object{Kind: "link", Name: rec.ForSite, ID: rec.ID}, func(ctx context.Context) error { return p.DB.AddInvitation(ctx, rec) },
		text, who, orAny(rec.ForSite), span.Format(time.Duration(minutes)*time.Minute))
	if err != nil {
		return api.InvitationSecret{}, err
	}
	out := api.InvitationSecret{Invitation: invitationView(rec), Text: v.Text()}
	if h := inventory.Host(p.Address); inventory.ShortName(h) {
		out.Warning = new(fmt.Sprintf("The other site will look for %q, a short name that may not resolve there. Start this site with --link-address and its full name or IP address.", h))
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
func (p *Peering) Invitations(ctx context.Context) ([]api.Invitation, error) {
	recs, err := p.DB.Invitations(ctx, p.Clock.Now())
	out := []api.Invitation{}
	for _, r := range recs {
		out = append(out, invitationView(r))
	}
	return out, err
}

// DeleteInvitation withdraws one.
func (p *Peering) DeleteInvitation(ctx context.Context, who actor.Actor, id string) error {
	if !ident.UUID(id) {
		return problem.NotFound("invitation", id)
	}
	err := p.Trail.Do(ctx, who, audit.Object{Kind: "link", ID: id}, func(ctx context.Context) error { return p.DB.DeleteInvitation(ctx, id) }, "%s withdrew an invitation", who)
	if errors.Is(err, records.ErrNotFound) {
		return problem.NotFound("invitation", id)
	}
	return err
}

// knownOtherwise says that a site is known here by another key, if it is.
func (p *Peering) knownOtherwise(siteID string, key []byte) (*state, bool) {
	p.mu.Lock()
	defer p.mu.Unlock()
	for _, s := range p.byID {
		if s.rec.PeerID == siteID {
			return s, string(s.rec.PeerKey) != string(key)
		}
	}
	return nil, false
}

// Accept pairs this site with the one that made an invitation.
func (p *Peering) Accept(ctx context.Context, who actor.Actor, in api.AcceptInvitation) (api.Link, error) {
	v, err := link.ParseInvite(in.Invitation)
	if err != nil {
		return api.Link{}, problem.Invalid("invitation", "This is no invitation: %s.", err)
	}
	newKey := in.NewKey != nil && *in.NewKey
	known, other := p.knownOtherwise(v.SiteID, v.Fingerprint)
	switch {
	case !ident.UUID(v.SiteID) || group.CheckName(v.Site, maxSite) != "":
		return api.Link{}, problem.Invalid("invitation", "This invitation does not name a site. Make a new one there.")
	case v.SiteID == p.Site.ID:
		return api.Link{}, problem.Invalid("invitation", "This invitation was made here, at %s. Accept it at the other site.", p.Site.Name)
	case v.For != "" && !strings.EqualFold(v.For, p.Site.Name):
		return api.Link{}, problem.Invalid("invitation", "This invitation is for %s, and this site is %s. Accept it there, or make one for %s.", v.For, p.Site.Name, p.Site.Name)
	case !p.Clock.Now().Before(v.Expires):
		return api.Link{}, problem.Invalid("invitation", "This invitation expired at %s. Make a new one at %s.", v.Expires.Format(time.RFC3339), v.Site)
	case other && !newKey:
		return api.Link{}, problem.Invalid("invitation", "%s is paired already, by another key: %s. This invitation brings %s. If %s has lost its key, compare the new one by voice and accept with newKey.",
			known.rec.PeerName, link.Words(known.rec.PeerKey), link.Words(v.Fingerprint), known.rec.PeerName)
	}
	if err := p.nameFree(v.Site, v.SiteID); err != nil {
		return api.Link{}, err
	}
	peer := link.NewPeer(p.Identity, v.Address, v.Fingerprint, p.Clock, p.Within)
	defer peer.Close()
	reply, err := peer.Pair(ctx, link.PairRequest{Token: v.Token, Site: p.Site.Name, SiteID: p.Site.ID, Address: p.Address})
	if err != nil {
		if pr, ok := problem.Of(err); ok {
			return api.Link{}, pr
		}
		for _, x := range p.check(ctx, v.Address, v.Fingerprint) {
			if !x.OK {
				return api.Link{}, problem.Unreachable("%s at %s: the step %q fails: %s %s", v.Site, v.Address, x.Name, x.Note, x.Mend)
			}
		}
		return api.Link{}, problem.Unreachable("%s at %s: %v", v.Site, v.Address, err)
	}
	if reply.SiteID != v.SiteID || reply.Site != v.Site {
		return api.Link{}, problem.Conflict("The site at %s calls itself %s, and the invitation is from %s. It is not paired here; remove the link there and make a new invitation.", v.Address, reply.Site, v.Site)
	}
	s, err := p.add(ctx, records.Link{PeerID: v.SiteID, PeerName: v.Site, Address: v.Address, PeerKey: v.Fingerprint}, newKey, who, "%s paired %s with %s, whose key is %s", who, p.Site.Name, v.Site, link.Words(v.Fingerprint))
	if err != nil {
		return api.Link{}, err
	}
	if reply.BackProblem != "" {
		p.note(ctx, s.rec, "%s cannot reach %s: %s", v.Site, p.Site.Name, reply.BackProblem)
	}
	p.Beat(ctx, s.rec.ID)
	return p.view(s), nil
}

// nameFree refuses a site with the name of another one.
func (p *Peering) nameFree(name, id string) error {
	p.mu.Lock()
	defer p.mu.Unlock()
	for _, s := range p.byID {
		if ident.Skeleton(s.rec.PeerName) == ident.Skeleton(name) && s.rec.PeerID != id {
			return problem.Invalid("invitation", "%s is paired with another site called %s already, for which %s would be taken.", p.Site.Name, s.rec.PeerName, name)
		}
	}
	if ident.Mixed(name) {
		return problem.Invalid("invitation", "A word of the name %s mixes letters of several alphabets, and could be taken for another name.", name)
	}
	return nil
}

// add stores a link, or renews name and address of the one with the same site. A
// site's key changes only if newKey says so.
func (p *Peering) add(ctx context.Context, r records.Link, newKey bool, who actor.Actor, format string, args ...any) (*state, error) {
	r.ID, r.CreatedAt = uuid.NewString(), p.Clock.Now()
	old, other := p.knownOtherwise(r.PeerID, r.PeerKey)
	if old != nil {
		r.ID, r.CreatedAt = old.rec.ID, old.rec.CreatedAt
	}
	put := p.DB.PutLink
	if other && newKey {
		put = p.DB.RekeyLink
	}
	if err := p.Trail.Do(ctx, who, object(r), func(ctx context.Context) error { return put(ctx, r) }, format, args...); err != nil {
		if errors.Is(err, records.ErrStale) || records.Taken(err, records.LinkKeyTaken) {
			return nil, problem.Invalid("invitation", "This site is paired already, by another key.")
		}
		return nil, err
	}
	s := p.newState(r)
	p.mu.Lock()
	if old != nil {
		s.set = old.set
		s.peer.Limit(s.set.Pace)
		old.peer.Close()
	}
	p.byID[r.ID] = s
	p.mu.Unlock()
	p.Hub.Send(events.Event{Type: "link", ID: r.ID})
	return s, nil
}

// Pair implements link.Local. A site that is known comes with the key it is known
// by, or with an invitation that was made for a new one: whoever holds any
// invitation must not take over a link.
func (p *Peering) Pair(ctx context.Context, key []byte, r link.PairRequest) (link.PairReply, error) {
	bad := func(format string, a ...any) (link.PairReply, error) {
		return link.PairReply{}, problem.Invalid("invitation", format, a...)
	}
	if _, _, err := net.SplitHostPort(r.Address); err != nil || !ident.UUID(r.SiteID) || group.CheckName(r.Site, maxSite) != "" || len(r.Token) == 0 || len(r.Token) > 200 || len(r.Address) > 300 {
		return bad("The request to pair is not complete.")
	}
	inv, err := p.DB.InvitationByHash(ctx, access.HashSecret(string(r.Token)))
	known, other := p.knownOtherwise(r.SiteID, key)
	switch {
	case errors.Is(err, records.ErrNotFound):
		return bad("%s does not know this invitation; it may have been withdrawn. Make a new one there.", p.Site.Name)
	case err != nil:
		return link.PairReply{}, err
	case inv.UsedAt != nil:
		return bad("This invitation was used already, at %s. Make a new one at %s.", inv.UsedAt.UTC().Format(time.RFC3339), p.Site.Name)
	case !p.Clock.Now().Before(inv.ExpiresAt):
		return bad("This invitation expired at %s. Make a new one at %s.", inv.ExpiresAt.UTC().Format(time.RFC3339), p.Site.Name)
	case inv.ForSite != "" && !strings.EqualFold(inv.ForSite, r.Site):
		return bad("This invitation is for %s, not for %s.", inv.ForSite, r.Site)
	case r.SiteID == p.Site.ID:
		return bad("A site cannot be paired with itself.")
	case strings.EqualFold(r.Site, p.Site.Name):
		return bad("Both sites are called %s. Start one of them under another name.", r.Site)
	case other && !inv.NewKey:
		p.note(ctx, known.rec, "Somebody came with an invitation of %s as %s, with the key %s; %s is known by %s, and nothing was changed", inv.CreatedBy, known.rec.PeerName, link.Words(key), known.rec.PeerName, link.Words(known.rec.PeerKey))
		return bad("%s is paired with %s already, by another key. If it has lost its key, make an invitation at %s that allows a new one.", p.Site.Name, known.rec.PeerName, p.Site.Name)
	case inv.NewKey && (known == nil || !strings.EqualFold(known.rec.PeerName, inv.ForSite)):
		return bad("This invitation lets %s come with a new key, and nobody else.", inv.ForSite)
	}
	if s, err := p.byKey(key); err == nil && s.rec.PeerID != r.SiteID {
		return bad("This key is %s's.", s.rec.PeerName)
	}
	if err := p.nameFree(r.Site, r.SiteID); err != nil {
		return link.PairReply{}, err
	}
	if err := p.DB.UseInvitation(ctx, inv.ID, p.Clock.Now()); err != nil {
		return bad("This invitation was used already. Make a new one at %s.", p.Site.Name)
	}
	how := "the sites are paired"
	if other {
		how = "it has a new key"
	}
	_, err = p.add(ctx, records.Link{PeerID: r.SiteID, PeerName: r.Site, Address: r.Address, PeerKey: key}, inv.NewKey,
		peerActor(r.Site), "%s accepted the invitation of %s; %s. Its key is %s", r.Site, inv.CreatedBy, how, link.Words(key))
	if err != nil {
		return link.PairReply{}, err
	}
	out := link.PairReply{Site: p.Site.Name, SiteID: p.Site.ID}
	for _, x := range p.check(ctx, r.Address, key) {
		if !x.OK {
			out.BackProblem = fmt.Sprintf("the step %q fails: %s %s", x.Name, x.Note, x.Mend)
			break
		}
	}
	return out, nil
}

// Unpaired implements link.Local: the other side removed the link.
func (p *Peering) Unpaired(ctx context.Context, key []byte) error {
	s, err := p.byKey(key)
	if err != nil {
		return err
	}
	if err := p.free(s); err != nil {
		return err
	}
	return p.remove(ctx, s, peerActor(s.rec.PeerName))
}

// free refuses while groups use a link.
func (p *Peering) free(s *state) error {
	for _, g := range p.Groups.All() {
		if g.Link == s.rec.ID && g.Direction != directory.Ended {
			return problem.Conflict("Group %s uses the link to %s. Delete the group first.", g.Spec.Name, s.rec.PeerName)
		}
	}
	return nil
}

func (p *Peering) remove(ctx context.Context, s *state, who actor.Actor) error {
	err := p.Trail.Do(ctx, who, object(s.rec), func(ctx context.Context) error { return p.DB.DeleteLink(ctx, s.rec.ID) }, "%s removed the link between %s and %s", who, p.Site.Name, s.rec.PeerName)
	if err != nil {
		return err
	}
	p.Groups.Unlink(s.rec.ID)
	p.mu.Lock()
	delete(p.byID, s.rec.ID)
	p.mu.Unlock()
	s.peer.Close()
	p.Hub.Send(events.Event{Type: "link", ID: s.rec.ID})
	return nil
}

// Delete unpairs.
func (p *Peering) Delete(ctx context.Context, who actor.Actor, id string) error {
	s, err := p.find(id)
	if err != nil {
		return err
	}
	if err := p.free(s); err != nil {
		return err
	}
	if err := s.peer.Unpair(ctx); err != nil {
		if pr, ok := problem.Of(err); ok && pr.Status == 409 {
			return pr
		}
		p.note(ctx, s.rec, "%s could not be told that the link is gone: %v", s.rec.PeerName, err)
	}
	return p.remove(ctx, s, who)
}

// check tests the way to another site step by step.
func (p *Peering) check(ctx context.Context, address string, key []byte) []platform.Step {
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
	c, err := p.Within.Dialer(5*time.Second).DialContext(ctx, "tcp", address)
	if errors.Is(err, reach.ErrOutside) {
		return fail(words.Sentence(err.Error()), "Start this site with another --connect-to, if it is to connect there.")
	}
	if err != nil {
		return fail(fmt.Sprintf("Nothing answers on port %s.", port), "Start the other site, or open the port in the firewall between.")
	}
	_ = c.Close()
	pass("port %s answers", port)
	peer := link.NewPeer(p.Identity, address, key, p.Clock, p.Within)
	defer peer.Close()
	_, rtt, ahead, err := peer.Beat(ctx, link.Beat{Site: p.Site.Name})
	switch {
	case errors.Is(err, link.ErrWrongKey):
		return fail("The other side has another key than the one it was paired with.", "If it was set up anew, make an invitation here that allows it a new key, and accept that there.")
	case err != nil && strings.Contains(err.Error(), "tls"):
		pass("the other side has the expected key")
		return fail("The other side does not accept this site.", "Remove the link and pair again with a new invitation.")
	case err != nil:
		pass("the other side has the expected key")
		return fail(words.Sentence(err.Error()), "Look at the log of the other site.")
	}
	pass("the other side has the expected key, %s", link.Words(key))
	pass("paired; answers in %s", rtt.Round(10*time.Microsecond))
	if ahead.Abs() > maxClockDifference {
		return fail(fmt.Sprintf("Its clock is %s off ours.", ahead.Round(time.Millisecond)), "Set both clocks by NTP. Exposure allows for the difference meanwhile.")
	}
	pass("clocks differ by %s", ahead.Abs().Round(10*time.Microsecond))
	return steps
}

// Test tests a link step by step.
func (p *Peering) Test(ctx context.Context, id string) (api.ConnectionTest, error) {
	s, err := p.find(id)
	if err != nil {
		return api.ConnectionTest{}, err
	}
	t := api.ConnectionTest{Ok: true, Steps: []api.TestStep{}}
	for _, x := range p.check(ctx, s.rec.Address, s.rec.PeerKey) {
		t.Ok = t.Ok && x.OK
		t.Steps = append(t.Steps, api.TestStep{Name: x.Name, Ok: x.OK, Tried: x.Tried, Note: x.Note, Mend: x.Mend})
	}
	return t, nil
}
