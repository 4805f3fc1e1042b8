package access

import (
	"context"
	_ "embed" // the list of common passwords
	"errors"
	"fmt"
	"slices"
	"strings"

	"kestrel/internal/api"
	"kestrel/internal/core/actor"
	"kestrel/internal/core/ident"
	"kestrel/internal/problem"
	"kestrel/internal/records"
)

//go:embed common.txt
var common string

// weak says what is wrong with a password that somebody chose; nothing if it will do.
func weak(password, name string) string {
	n := len([]rune(password))
	if n < minPassword || len(password) > maxPassword {
		return fmt.Sprintf("A password has %d to %d characters.", minPassword, maxPassword)
	}
	if _, unseen := ident.Unseen(password); unseen {
		return "The password has a character that cannot be seen; nobody could type it again."
	}
	low := strings.ToLower(password)
	for line := range strings.Lines(common) {
		if strings.TrimSpace(line) == low {
			return "This password is one of those that are tried first. Take another, such as four words that have nothing to do with each other."
		}
	}
	different := map[rune]bool{}
	for _, r := range low {
		different[r] = true
	}
	if len(different) < 5 {
		return "This password is the same few characters over and over. Take another."
	}
	if own := normalise(name); own != "" && len([]rune(strings.ReplaceAll(low, own, ""))) < minPassword/2 {
		return "This password is little more than your name. Take another."
	}
	return ""
}

// self finds the person that somebody is, or whose token they have.
func (a *Access) self(ctx context.Context, who actor.Actor) (records.Person, error) {
	return a.db.Person(ctx, who.PersonID)
}

// ChangePassword gives somebody another password, if they know the old one. All their
// sessions end but the one that asks, which has a secret.
func (a *Access) ChangePassword(ctx context.Context, who actor.Actor, in api.NewPassword, secret string) error {
	p, err := a.self(ctx, who)
	if err != nil {
		return err
	}
	if err := elsewhere(p); err != nil {
		return err
	}
	if err := a.knows(ctx, p, who.From, "old", in.Old); err != nil {
		return err
	}
	if in.Old == in.New {
		return problem.Invalid("new", "This is your password already.")
	}
	if why := weak(in.New, p.Name); why != "" {
		return problem.Invalid("new", "%s", why)
	}
	hash, ok := a.hashes.hash(ctx, in.New)
	if !ok {
		return busy()
	}
	err = a.trail.Do(ctx, who, person(p), func(ctx context.Context) error { return a.db.SetPassword(ctx, p.ID, hash, HashSecret(secret)) },
		"%s changed their password; their other sessions ended", who)
	if err != nil {
		return err
	}
	a.changed.tell()
	return nil
}

// knows refuses who does not know somebody's password, which stands in a field.
func (a *Access) knows(ctx context.Context, p records.Person, from, field, password string) error {
	if !a.tries.allow(p.Name, from) {
		return &problem.Problem{Status: 429, Title: "Too many tries", Detail: "Wait half a minute, then try again."}
	}
	right, ok := false, true
	if len(password) <= maxPassword {
		right, ok = a.hashes.check(ctx, p.PasswordHash, password)
	}
	switch {
	case !ok:
		return busy()
	case !right:
		return problem.Invalid(field, "This is not your password.")
	}
	return nil
}

// Sessions lists somebody's own, newest first; secret is of the one that asks.
func (a *Access) Sessions(ctx context.Context, who actor.Actor, secret string) ([]api.Session, error) {
	p, err := a.self(ctx, who)
	if err != nil {
		return nil, err
	}
	all, err := a.db.Secrets(ctx, "session", a.clk.Now())
	if err != nil {
		return nil, err
	}
	current := string(HashSecret(secret))
	out := []api.Session{}
	for _, x := range all {
		if x.Person == nil || *x.Person != p.ID || x.ExpiresAt == nil {
			continue
		}
		v := api.Session{ID: x.ID, CreatedAt: x.CreatedAt, ExpiresAt: *x.ExpiresAt, LastUsedAt: x.LastUsedAt, Current: string(x.Hash) == current}
		if x.Origin != "" {
			v.Origin = new(x.Origin)
		}
		out = append(out, v)
	}
	slices.Reverse(out)
	return out, nil
}

// EndSession ends one of somebody's own sessions.
func (a *Access) EndSession(ctx context.Context, who actor.Actor, id string) error {
	p, err := a.self(ctx, who)
	if err != nil {
		return err
	}
	if !ident.UUID(id) {
		return problem.NotFound("session", id)
	}
	err = a.trail.Do(ctx, who, person(p), func(ctx context.Context) error { return a.db.EndSession(ctx, p.ID, id) }, "%s ended a session of theirs", who)
	if errors.Is(err, records.ErrNotFound) {
		return problem.NotFound("session", id)
	}
	if err == nil {
		a.changed.tell()
	}
	return err
}
