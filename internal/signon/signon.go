// Package signon lets people sign in at a provider of OpenID Connect: the authorization
// code flow with PKCE (OpenID Connect Core 1.0, RFC 7636).
package signon

import (
	"context"
	"crypto/rand"
	"crypto/subtle"
	"encoding/json"
	"errors"
	"fmt"
	"net/http"
	"strings"
	"sync"
	"time"

	"github.com/coreos/go-oidc/v3/oidc"
	"golang.org/x/oauth2"

	"kestrel/internal/core/actor"
	"kestrel/internal/reach"
)

// Config says where people sign in, and what they may do then.
type Config struct {
	Label    string // what people call the provider
	Issuer   string
	ClientID string
	Secret   string // of this site at the provider; empty for a public client
	// GroupsClaim is the claim that has somebody's groups: of the ID token, or of the
	// user info if it is not there.
	GroupsClaim string
	Grants      []actor.Grant
	Console     string // the address of this site's console
	Within      reach.Networks
}

// Back is where the provider sends people back to, below the console's address.
const Back = "/sign-on/back"

// patience is how long the provider may take for an answer.
const patience = 15 * time.Second

// Identity is who somebody is at the provider.
type Identity struct {
	Issuer, Subject string // which together never change
	Name            string // what they are called
	Groups          []string
}

// State is what a sign-in has to come back with. It stays with the browser that began it,
// encrypted.
type State struct {
	State    string    `json:"state"`
	Nonce    string    `json:"nonce"`
	Verifier string    `json:"verifier"`
	To       string    `json:"to"` // where somebody was going
	Until    time.Time `json:"until"`
}

// ErrProvider is wrapped where the provider cannot be asked, or does not say what it has
// to.
var ErrProvider = errors.New("the sign-on provider")

// SignOn is the provider of one site.
type SignOn struct {
	Config
	http *http.Client

	mu       sync.Mutex
	provider *oidc.Provider // asked when it is first needed
}

// New makes it without asking the provider.
func New(c Config) *SignOn {
	t := http.DefaultTransport.(*http.Transport).Clone()
	t.DialContext = c.Within.Dialer(5 * time.Second).DialContext
	return &SignOn{Config: c, http: &http.Client{Transport: t, Timeout: patience}}
}

func (s *SignOn) asked(ctx context.Context) (*oidc.Provider, context.Context, error) {
	ctx = oidc.ClientContext(ctx, s.http)
	s.mu.Lock()
	p := s.provider
	s.mu.Unlock()
	if p != nil {
		return p, ctx, nil
	}
	// Its keys are asked for later, when this request is long over.
	p, err := oidc.NewProvider(oidc.ClientContext(context.WithoutCancel(ctx), s.http), s.Issuer)
	if err != nil {
		return nil, ctx, fmt.Errorf("%w %s: %w", ErrProvider, s.Issuer, err)
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	s.provider = p
	return p, ctx, nil
}

func (s *SignOn) client(p *oidc.Provider) oauth2.Config {
	return oauth2.Config{ClientID: s.ClientID, ClientSecret: s.Secret, Endpoint: p.Endpoint(), RedirectURL: strings.TrimSuffix(s.Console, "/") + Back, Scopes: []string{oidc.ScopeOpenID, "profile", "groups"}}
}

// Begin gives where to send somebody who wants to sign in, and what they have to come
// back with.
func (s *SignOn) Begin(ctx context.Context, to string, now time.Time) (string, State, error) {
	p, _, err := s.asked(ctx)
	if err != nil {
		return "", State{}, err
	}
	st := State{State: rand.Text(), Nonce: rand.Text(), Verifier: oauth2.GenerateVerifier(), To: to, Until: now.Add(10 * time.Minute)}
	c := s.client(p)
	return c.AuthCodeURL(st.State, oidc.Nonce(st.Nonce), oauth2.S256ChallengeOption(st.Verifier)), st, nil
}

// Finish tells who came back with a code and a state.
func (s *SignOn) Finish(ctx context.Context, began State, state, code string, now time.Time) (Identity, error) {
	if began.State == "" || subtle.ConstantTimeCompare([]byte(began.State), []byte(state)) != 1 || !now.Before(began.Until) {
		return Identity{}, errors.New("this sign-in was not begun here, or too long ago")
	}
	p, ctx, err := s.asked(ctx)
	if err != nil {
		return Identity{}, err
	}
	c := s.client(p)
	token, err := c.Exchange(ctx, code, oauth2.VerifierOption(began.Verifier))
	if err != nil {
		return Identity{}, fmt.Errorf("%w: %w", ErrProvider, err)
	}
	raw, ok := token.Extra("id_token").(string)
	if !ok {
		return Identity{}, fmt.Errorf("%w gave no ID token", ErrProvider)
	}
	id, err := p.Verifier(&oidc.Config{ClientID: s.ClientID}).Verify(ctx, raw)
	if err != nil {
		return Identity{}, fmt.Errorf("%w: %w", ErrProvider, err)
	}
	if subtle.ConstantTimeCompare([]byte(id.Nonce), []byte(began.Nonce)) != 1 {
		return Identity{}, fmt.Errorf("%w gave an ID token of another sign-in", ErrProvider)
	}
	out := Identity{Issuer: id.Issuer, Subject: id.Subject}
	if err := s.claims(&out, id.Claims); err != nil {
		return Identity{}, err
	}
	if out.Name == "" || out.Groups == nil {
		info, err := p.UserInfo(ctx, oauth2.StaticTokenSource(token))
		if err != nil {
			return Identity{}, fmt.Errorf("%w: %w", ErrProvider, err)
		}
		if info.Subject != id.Subject {
			return Identity{}, fmt.Errorf("%w tells of somebody else", ErrProvider)
		}
		if err := s.claims(&out, info.Claims); err != nil {
			return Identity{}, err
		}
	}
	return out, nil
}

// claims takes over what is not known yet.
func (s *SignOn) claims(to *Identity, read func(any) error) error {
	all := map[string]json.RawMessage{}
	if err := read(&all); err != nil {
		return fmt.Errorf("%w: its claims are not understood: %w", ErrProvider, err)
	}
	for _, claim := range []string{"preferred_username", "name", "email"} {
		if to.Name == "" && all[claim] != nil {
			if err := json.Unmarshal(all[claim], &to.Name); err != nil {
				return fmt.Errorf("%w: the claim %s is no text", ErrProvider, claim)
			}
		}
	}
	if raw := all[s.GroupsClaim]; raw != nil && to.Groups == nil {
		var one string
		if json.Unmarshal(raw, &one) == nil {
			to.Groups = []string{one}
			return nil
		}
		if err := json.Unmarshal(raw, &to.Groups); err != nil {
			return fmt.Errorf("%w: the claim %s is no list of groups", ErrProvider, s.GroupsClaim)
		}
	}
	return nil
}

// ParseGrant reads GROUP=ROLE or GROUP=ROLE:TAG,TAG.
func ParseGrant(text string) (actor.Grant, error) {
	at := strings.LastIndex(text, "=")
	if at < 1 {
		return actor.Grant{}, fmt.Errorf("%q is not GROUP=ROLE or GROUP=ROLE:TAG,TAG", text)
	}
	role, tags, limited := strings.Cut(text[at+1:], ":")
	g := actor.Grant{Group: text[:at], Role: actor.Role(role)}
	if g.Role.Rank() < 0 {
		return actor.Grant{}, fmt.Errorf("%q in %q is no role; use viewer, operator or administrator", role, text)
	}
	if limited {
		for t := range strings.SplitSeq(tags, ",") {
			if t = strings.TrimSpace(t); t == "" || strings.ContainsAny(t, " \t") {
				return actor.Grant{}, fmt.Errorf("%q has a tag that is no word", text)
			}
			g.Tags = append(g.Tags, t)
		}
	}
	return g, nil
}
