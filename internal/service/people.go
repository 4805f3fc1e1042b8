package service

import (
	"context"
	"errors"
	"strings"
	"time"

	"github.com/google/uuid"

	"kestrel/internal/api"
	"kestrel/internal/problem"
	"kestrel/internal/records"
)

const (
	sessionLife = 12 * time.Hour
	welcomeLife = 24 * time.Hour
	minPassword = 10
)

// WelcomeLink makes a one-time link with which the first administrator sets
// name and password. It is called on the host, never through the API.
func WelcomeLink(ctx context.Context, db *records.DB, now time.Time, consoleURL string) (string, error) {
	secret := newSecret(24)
	err := db.AddSecret(ctx, records.Secret{ID: uuid.NewString(), Kind: "welcome", Hash: hashSecret(secret), CreatedAt: now, ExpiresAt: ptr(now.Add(welcomeLife))})
	return strings.TrimSuffix(consoleURL, "/") + "/welcome#" + secret, err
}

// Me describes who is signed in.
func (s *Service) Me(who string) api.Me {
	return api.Me{Name: who, Site: s.site.Name, SiteID: s.site.ID, Version: Version, Now: s.clk.Now().UTC()}
}

// Welcome makes an administrator with a one-time link and signs in.
func (s *Service) Welcome(ctx context.Context, w api.Welcome) (api.Me, string, error) {
	name := strings.TrimSpace(w.Name)
	switch {
	case name == "" || len(name) > 60:
		return api.Me{}, "", problem.Invalid("name", "Give a name of 1 to 60 characters.")
	case len(w.Password) < minPassword || len(w.Password) > 200:
		return api.Me{}, "", problem.Invalid("password", "A password has at least %d characters.", minPassword)
	}
	if _, err := s.db.PersonByName(ctx, name); err == nil {
		return api.Me{}, "", problem.Invalid("name", "%s exists already; choose another name.", name)
	}
	if _, err := s.db.TakeSecret(ctx, "welcome", hashSecret(w.Token), s.clk.Now()); err != nil {
		if errors.Is(err, records.ErrNotFound) {
			return api.Me{}, "", problem.Invalid("token", "This link was used or has expired. Make a new one on the host with: kestrel admin link")
		}
		return api.Me{}, "", err
	}
	p := records.Person{ID: uuid.NewString(), Name: name, PasswordHash: hashPassword(w.Password), CreatedAt: s.clk.Now()}
	if err := s.db.AddPerson(ctx, p); err != nil {
		return api.Me{}, "", err
	}
	s.note(ctx, name, "person", name, "%s became an administrator with a one-time link", name)
	return s.session(ctx, p)
}

// SignIn checks a name and password and gives a session's secret.
func (s *Service) SignIn(ctx context.Context, in api.SignIn) (api.Me, string, error) {
	if !s.signIns.allow(in.Name) {
		return api.Me{}, "", &problem.Problem{Status: 429, Title: "Too many tries", Detail: "Wait half a minute, then try again."}
	}
	p, err := s.db.PersonByName(ctx, strings.TrimSpace(in.Name))
	if err != nil && !errors.Is(err, records.ErrNotFound) {
		return api.Me{}, "", err
	}
	// An unknown name takes as long as a wrong password.
	if err != nil {
		p.PasswordHash = "argon2id$00000000000000000000000000000000$00"
	}
	if !checkPassword(p.PasswordHash, in.Password) {
		return api.Me{}, "", problem.Denied("Name or password is wrong.")
	}
	s.note(ctx, p.Name, "person", p.Name, "%s signed in", p.Name)
	return s.session(ctx, p)
}

func (s *Service) session(ctx context.Context, p records.Person) (api.Me, string, error) {
	secret := newSecret(32)
	err := s.db.AddSecret(ctx, records.Secret{ID: uuid.NewString(), Kind: "session", Hash: hashSecret(secret), Person: &p.ID, CreatedAt: s.clk.Now(), ExpiresAt: ptr(s.clk.Now().Add(sessionLife))})
	return s.Me(p.Name), secret, err
}

// SignOut ends a session.
func (s *Service) SignOut(ctx context.Context, secret string) error {
	_, err := s.db.TakeSecret(ctx, "session", hashSecret(secret), s.clk.Now())
	if errors.Is(err, records.ErrNotFound) {
		return nil
	}
	return err
}

// WhoIs finds the person behind a session or token secret.
func (s *Service) WhoIs(ctx context.Context, secret string) (string, error) {
	if secret == "" {
		return "", problem.Denied("")
	}
	x, err := s.db.UseSecret(ctx, []string{"session", "token"}, hashSecret(secret), s.clk.Now())
	if errors.Is(err, records.ErrNotFound) || err == nil && x.Person == nil {
		return "", problem.Denied("The session or token is not valid (any more).")
	}
	if err != nil {
		return "", err
	}
	p, err := s.db.Person(ctx, *x.Person)
	return p.Name, err
}

// Tokens lists API tokens.
func (s *Service) Tokens(ctx context.Context) ([]api.Token, error) {
	xs, err := s.db.Secrets(ctx, "token", s.clk.Now())
	out := []api.Token{}
	for _, x := range xs {
		out = append(out, tokenView(x))
	}
	return out, err
}

func tokenView(x records.Secret) api.Token {
	return api.Token{ID: x.ID, Name: x.Name, CreatedAt: x.CreatedAt, ExpiresAt: x.ExpiresAt, LastUsedAt: x.LastUsedAt}
}

// CreateToken makes an API token for the person who.
func (s *Service) CreateToken(ctx context.Context, who string, in api.NewToken) (api.TokenSecret, error) {
	if strings.TrimSpace(in.Name) == "" || len(in.Name) > 60 {
		return api.TokenSecret{}, problem.Invalid("name", "Give the token a name of 1 to 60 characters, such as what will use it.")
	}
	x := records.Secret{ID: uuid.NewString(), Kind: "token", Name: in.Name, CreatedAt: s.clk.Now()}
	if in.Days != nil {
		if *in.Days < 1 || *in.Days > 3650 {
			return api.TokenSecret{}, problem.Invalid("days", "A token lasts 1 to 3650 days; leave it out for no end.")
		}
		x.ExpiresAt = ptr(s.clk.Now().AddDate(0, 0, *in.Days))
	}
	p, err := s.db.PersonByName(ctx, who)
	if err != nil {
		return api.TokenSecret{}, err
	}
	x.Person = &p.ID
	secret := newSecret(32)
	x.Hash = hashSecret(secret)
	if err := s.db.AddSecret(ctx, x); err != nil {
		return api.TokenSecret{}, err
	}
	s.note(ctx, who, "token", in.Name, "%s made the token %s", who, in.Name)
	return api.TokenSecret{Token: tokenView(x), Secret: secret}, nil
}

// DeleteToken revokes a token.
func (s *Service) DeleteToken(ctx context.Context, who, id string) error {
	if uuid.Validate(id) != nil {
		return problem.NotFound("token", id)
	}
	if err := s.db.DeleteSecret(ctx, "token", id); err != nil {
		if errors.Is(err, records.ErrNotFound) {
			return problem.NotFound("token", id)
		}
		return err
	}
	s.note(ctx, who, "token", id, "%s revoked a token", who)
	return nil
}

// Activity lists the audit trail.
func (s *Service) Activity(ctx context.Context, before int64, limit int, q string) ([]api.Activity, error) {
	if limit <= 0 || limit > 500 {
		limit = 100
	}
	xs, err := s.db.Activity(ctx, before, limit, q)
	out := []api.Activity{}
	for _, x := range xs {
		out = append(out, api.Activity{ID: x.ID, At: x.At, Who: x.Who, Kind: x.Kind, Subject: x.Subject, Text: x.Text})
	}
	return out, err
}
