package access

import (
	"context"
	"errors"
	"fmt"
	"strings"
	"time"

	"github.com/google/uuid"

	"kestrel/internal/core/actor"
	"kestrel/internal/core/span"
	"kestrel/internal/core/words"
	"kestrel/internal/problem"
	"kestrel/internal/records"
	"kestrel/internal/signon"
)

// signOnFresh is how long what a provider said of somebody counts: who has left there
// must not go on here by a token.
const signOnFresh = 7 * span.Day

// SignOn lets in who a provider says somebody is, with the role that their groups there
// have here. Who comes for the first time is made a person of this site.
func (a *Access) SignOn(ctx context.Context, id signon.Identity, label string, grants []actor.Grant, from string) (actor.Actor, string, error) {
	refuse := func(format string, args ...any) (actor.Actor, string, error) {
		a.failed(ctx, id.Name, from)
		return actor.Actor{}, "", problem.Denied(fmt.Sprintf(format, args...))
	}
	role, tags, ok := actor.Granted(grants, id.Groups)
	if !ok {
		return refuse("None of your groups at %s may do anything here.", label)
	}
	now := a.clk.Now()
	p, err := a.db.PersonBySubject(ctx, id.Issuer, id.Subject)
	if errors.Is(err, records.ErrNotFound) {
		name := strings.TrimSpace(id.Name)
		if why := checkName(name); why != "" {
			return refuse("What %s calls you cannot be a name here: %s", label, why)
		}
		if other, err := a.lookalike(ctx, name); err != nil {
			return actor.Actor{}, "", err
		} else if other != "" && !strings.EqualFold(other, name) {
			return refuse("%s would be taken for %s, who is here already.", name, other)
		}
		p = records.Person{ID: uuid.NewString(), Name: name, Role: string(role), Tags: tags, CreatedAt: now, Issuer: id.Issuer, Subject: id.Subject, SignedOnAt: &now}
		err = a.trail.Do(ctx, actorOf(p, from), person(p), func(ctx context.Context) error { return a.db.AddPerson(ctx, p) },
			"%s joined as %s through %s", name, words.Article(p.Role), label)
		var taken *records.TakenError
		if errors.As(err, &taken) {
			// Never somebody's who is here already: whoever runs the provider would be
			// able to become anybody.
			return refuse("There is another %s here already, who does not sign in through %s.", name, label)
		}
		if err != nil {
			return actor.Actor{}, "", err
		}
		return a.session(ctx, p, from, "%s signed in through %s", p.Name, label)
	}
	if err != nil {
		return actor.Actor{}, "", err
	}
	if p.Disabled {
		return refuse("You are disabled here.")
	}
	was := p
	p.Role, p.Tags, p.SignedOnAt = string(role), tags, &now
	if what := changed(was, p); what != "nothing" {
		err = a.trail.Do(ctx, system(from), person(p), func(ctx context.Context) error { return a.db.ChangePerson(ctx, p) }, "The groups of %s at %s have changed them: %s", p.Name, label, what)
	} else {
		err = a.db.ChangePerson(ctx, p)
	}
	if errors.Is(err, records.ErrStale) {
		return refuse("Your groups at %s would leave nobody here who may do everything.", label)
	}
	if err != nil {
		return actor.Actor{}, "", err
	}
	a.revoked(ctx)
	return a.session(ctx, p, from, "%s signed in through %s", p.Name, label)
}

// elsewhere refuses what is decided where somebody signs in.
func elsewhere(p records.Person) error {
	if p.Subject == "" {
		return nil
	}
	return problem.Conflict("%s signs in at %s. Their role, password and second factor are set there; here they can be disabled and removed.", p.Name, p.Issuer)
}

// stale says that a provider has not said anything of somebody for too long.
func (a *Access) staleSignOn(p records.Person) string {
	if p.Subject == "" || p.SignedOnAt != nil && a.clk.Now().Sub(*p.SignedOnAt) < signOnFresh {
		return ""
	}
	return fmt.Sprintf("%s has not signed in at %s for more than %s. Sign in there once, and this goes on.", p.Name, p.Issuer, span.Format(time.Duration(signOnFresh)))
}
