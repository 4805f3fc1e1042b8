package access

import (
	"bytes"
	"context"
	"encoding/base64"
	"encoding/json"
	"errors"
	"fmt"
	"net"
	"net/url"
	"slices"
	"strings"
	"sync"
	"time"

	"github.com/go-webauthn/webauthn/protocol"
	"github.com/go-webauthn/webauthn/webauthn"
	"github.com/google/uuid"

	"kestrel/internal/api"
	"kestrel/internal/core/actor"
	"kestrel/internal/core/group"
	"kestrel/internal/core/ident"
	"kestrel/internal/problem"
	"kestrel/internal/records"
)

const (
	ticketLife   = 5 * time.Minute
	mostPasskeys = 10
)

// relying makes what checks passkeys, for a console that is reached by a name. Passkeys
// are bound to that name (WebAuthn, 5.1.3), so that there are none for an address.
func relying(site, console string) *webauthn.WebAuthn {
	u, err := url.Parse(console)
	if err != nil || u.Hostname() == "" || net.ParseIP(u.Hostname()) != nil {
		return nil
	}
	w, err := webauthn.New(&webauthn.Config{RPID: u.Hostname(), RPDisplayName: "Kestrel Tide " + site, RPOrigins: []string{u.Scheme + "://" + u.Host},
		AuthenticatorSelection: protocol.AuthenticatorSelection{ResidentKey: protocol.ResidentKeyRequirementRequired, UserVerification: protocol.VerificationRequired}})
	if err != nil {
		return nil
	}
	return w
}

// HasPasskeys tells whether people can sign in with passkeys here.
func (a *Access) HasPasskeys() bool { return a.keys != nil }

func noPasskeys() error {
	return problem.Conflict("Passkeys are bound to the name of the console, and this site was started without one. Start it with --console-url and a name.")
}

// holder is a person as the library sees them.
type holder struct {
	p    records.Person
	keys []records.Passkey
}

func (h holder) WebAuthnID() []byte          { id := uuid.MustParse(h.p.ID); return id[:] }
func (h holder) WebAuthnName() string        { return h.p.Name }
func (h holder) WebAuthnDisplayName() string { return h.p.Name }

func (h holder) WebAuthnCredentials() []webauthn.Credential {
	var out []webauthn.Credential
	for _, k := range h.keys {
		var c webauthn.Credential
		if json.Unmarshal(k.Credential, &c) == nil {
			out = append(out, c)
		}
	}
	return out
}

func (a *Access) holder(ctx context.Context, p records.Person) (holder, error) {
	keys, err := a.db.Passkeys(ctx, p.ID)
	return holder{p, keys}, err
}

// ticket is what a ceremony has to come back with; it stays with the browser, encrypted.
type ticket struct {
	Session webauthn.SessionData `json:"session"`
	For     string               `json:"for"` // register or sign-in
	Until   time.Time            `json:"until"`
}

func (a *Access) ticket(options any, s *webauthn.SessionData, what string) (api.PasskeyCeremony, error) {
	t, err := json.Marshal(ticket{*s, what, a.clk.Now().Add(ticketLife)})
	if err != nil {
		return api.PasskeyCeremony{}, fmt.Errorf("begin with a passkey: %w", err)
	}
	b, err := json.Marshal(options)
	if err != nil {
		return api.PasskeyCeremony{}, fmt.Errorf("begin with a passkey: %w", err)
	}
	out := api.PasskeyCeremony{Ticket: base64.RawURLEncoding.EncodeToString(a.box.Seal(string(t)))}
	var wrapped struct {
		PublicKey map[string]any `json:"publicKey"`
	}
	if err := json.Unmarshal(b, &wrapped); err != nil {
		return out, fmt.Errorf("begin with a passkey: %w", err)
	}
	out.Options = wrapped.PublicKey
	return out, nil
}

// take reads a ticket, once.
func (a *Access) take(text, what string) (webauthn.SessionData, error) {
	over := problem.Invalid("ticket", "This took too long, or was answered already. Begin again.")
	b, err := base64.RawURLEncoding.DecodeString(text)
	if err != nil {
		return webauthn.SessionData{}, over
	}
	plain, err := a.box.Open(b)
	if err != nil {
		return webauthn.SessionData{}, over
	}
	var t ticket
	if json.Unmarshal([]byte(plain), &t) != nil || t.For != what || !a.clk.Now().Before(t.Until) || !a.spent.first(t.Session.Challenge, a.clk.Now()) {
		return webauthn.SessionData{}, over
	}
	return t.Session, nil
}

// spent is which challenges were answered, as long as their tickets would be good.
type spent struct {
	mu  sync.Mutex
	who map[string]time.Time
}

func (s *spent) first(challenge string, now time.Time) bool {
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.who == nil {
		s.who = map[string]time.Time{}
	}
	for k, t := range s.who {
		if now.Sub(t) > ticketLife {
			delete(s.who, k)
		}
	}
	if _, again := s.who[challenge]; again {
		return false
	}
	s.who[challenge] = now
	return true
}

// Passkeys lists somebody's own.
func (a *Access) Passkeys(ctx context.Context, who actor.Actor) ([]api.Passkey, error) {
	keys, err := a.db.Passkeys(ctx, who.PersonID)
	out := []api.Passkey{}
	for _, k := range keys {
		out = append(out, api.Passkey{ID: k.ID, Name: k.Name, CreatedAt: k.CreatedAt, LastUsedAt: k.LastUsedAt})
	}
	return out, err
}

// BeginPasskey begins to make a passkey of one's own.
func (a *Access) BeginPasskey(ctx context.Context, who actor.Actor) (api.PasskeyCeremony, error) {
	p, err := a.inPerson(ctx, who)
	if err != nil {
		return api.PasskeyCeremony{}, err
	}
	if a.keys == nil {
		return api.PasskeyCeremony{}, noPasskeys()
	}
	h, err := a.holder(ctx, p)
	if err != nil {
		return api.PasskeyCeremony{}, err
	}
	if len(h.keys) >= mostPasskeys {
		return api.PasskeyCeremony{}, problem.Conflict("You have %d passkeys already. Remove one first.", len(h.keys))
	}
	options, session, err := a.keys.BeginRegistration(h, webauthn.WithExclusions(webauthn.Credentials(h.WebAuthnCredentials()).CredentialDescriptors()))
	if err != nil {
		return api.PasskeyCeremony{}, fmt.Errorf("begin a passkey: %w", err)
	}
	return a.ticket(options, session, "register")
}

// AddPasskey keeps a passkey that somebody's authenticator has made.
func (a *Access) AddPasskey(ctx context.Context, who actor.Actor, in api.NewPasskey) (api.Passkey, error) {
	p, err := a.inPerson(ctx, who)
	if err != nil {
		return api.Passkey{}, err
	}
	if a.keys == nil {
		return api.Passkey{}, noPasskeys()
	}
	if why := group.CheckName(in.Name, maxName); why != "" {
		return api.Passkey{}, problem.Invalid("name", "%s", why)
	}
	session, err := a.take(in.Ticket, "register")
	if err != nil {
		return api.Passkey{}, err
	}
	h, err := a.holder(ctx, p)
	if err != nil {
		return api.Passkey{}, err
	}
	bad := problem.Invalid("response", "What the authenticator gave is not good for this.")
	b, err := json.Marshal(in.Response)
	if err != nil {
		return api.Passkey{}, bad
	}
	parsed, err := protocol.ParseCredentialCreationResponseBytes(b)
	if err != nil {
		return api.Passkey{}, bad
	}
	credential, err := a.keys.CreateCredential(h, session, parsed)
	if err != nil {
		return api.Passkey{}, bad
	}
	k := records.Passkey{ID: uuid.NewString(), Person: p.ID, Name: strings.TrimSpace(in.Name), CredentialID: credential.ID, CreatedAt: a.clk.Now()}
	if k.Credential, err = json.Marshal(credential); err != nil {
		return api.Passkey{}, fmt.Errorf("keep a passkey: %w", err)
	}
	err = a.trail.Do(ctx, who, person(p), func(ctx context.Context) error { return a.db.AddPasskey(ctx, k) }, "%s added the passkey %s", who, k.Name)
	var taken *records.TakenError
	if errors.As(err, &taken) {
		return api.Passkey{}, problem.Conflict("This passkey is here already.")
	}
	return api.Passkey{ID: k.ID, Name: k.Name, CreatedAt: k.CreatedAt}, err
}

// DeletePasskey removes one's own. The last second factor stays where one is demanded.
func (a *Access) DeletePasskey(ctx context.Context, who actor.Actor, id string) error {
	p, err := a.inPerson(ctx, who)
	if err != nil {
		return err
	}
	keys, err := a.db.Passkeys(ctx, p.ID)
	if err != nil {
		return err
	}
	at := slices.IndexFunc(keys, func(k records.Passkey) bool { return k.ID == id })
	if at < 0 || !ident.UUID(id) {
		return problem.NotFound("passkey", id)
	}
	_, codes, err := a.factor(ctx, p.ID)
	if err != nil {
		return err
	}
	if len(keys) == 1 && !codes && a.Demanded != nil && a.Demanded(p.Role) {
		return problem.Conflict("A second factor is demanded of every %s here, and this is your last.", p.Role)
	}
	err = a.trail.Do(ctx, who, person(p), func(ctx context.Context) error { return a.db.DeletePasskey(ctx, p.ID, id) }, "%s removed their passkey %s", who, keys[at].Name)
	return unlessGone(err)
}

// BeginSignIn begins to sign somebody in with a passkey; who it is, the passkey says.
func (a *Access) BeginSignIn(context.Context) (api.PasskeyCeremony, error) {
	if a.keys == nil {
		return api.PasskeyCeremony{}, noPasskeys()
	}
	options, session, err := a.keys.BeginDiscoverableLogin(webauthn.WithUserVerification(protocol.VerificationRequired))
	if err != nil {
		return api.PasskeyCeremony{}, fmt.Errorf("begin with a passkey: %w", err)
	}
	return a.ticket(options, session, "sign-in")
}

// SignInByPasskey lets in who has a passkey and was recognised by it.
func (a *Access) SignInByPasskey(ctx context.Context, in api.PasskeyAnswer, from string) (actor.Actor, string, error) {
	if a.keys == nil {
		return actor.Actor{}, "", noPasskeys()
	}
	if !a.tries.allow("by a passkey", from) {
		return actor.Actor{}, "", &problem.Problem{Status: 429, Title: "Too many tries", Detail: "Wait half a minute, then try again."}
	}
	session, err := a.take(in.Ticket, "sign-in")
	if err != nil {
		return actor.Actor{}, "", err
	}
	name := "?"
	wrong := func() (actor.Actor, string, error) {
		a.failed(ctx, name, from)
		return actor.Actor{}, "", problem.Denied("This passkey is not known here.")
	}
	b, err := json.Marshal(in.Response)
	if err != nil {
		return wrong()
	}
	parsed, err := protocol.ParseCredentialRequestResponseBytes(b)
	if err != nil {
		return wrong()
	}
	var h holder
	var away error
	_, credential, err := a.keys.ValidatePasskeyLogin(func(_, handle []byte) (webauthn.User, error) {
		id, err := uuid.FromBytes(handle)
		if err != nil {
			return nil, err
		}
		p, err := a.db.Person(ctx, id.String())
		if err == nil {
			h, err = a.holder(ctx, p)
			name = p.Name
		}
		if err != nil && !errors.Is(err, records.ErrNotFound) {
			away = err
		}
		return h, err
	}, session, parsed)
	switch {
	case away != nil:
		return actor.Actor{}, "", away
	case err != nil || h.p.Disabled || credential.Authenticator.CloneWarning:
		return wrong()
	}
	at := slices.IndexFunc(h.keys, func(k records.Passkey) bool { return bytes.Equal(k.CredentialID, credential.ID) })
	if at < 0 {
		return wrong()
	}
	k := h.keys[at]
	k.LastUsedAt = new(a.clk.Now())
	if k.Credential, err = json.Marshal(credential); err != nil {
		return actor.Actor{}, "", fmt.Errorf("keep a passkey: %w", err)
	}
	if err := a.db.UsePasskey(ctx, k); err != nil {
		return actor.Actor{}, "", err
	}
	return a.session(ctx, h.p, from, "%s signed in with the passkey %s", h.p.Name, k.Name)
}
