// Package access knows people, sessions and tokens: who is behind a request, and
// with which role. What they may do is decided in core/actor.
package access

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"github.com/go-webauthn/webauthn/webauthn"
	"github.com/google/uuid"

	"kestrel/internal/api"
	"kestrel/internal/audit"
	"kestrel/internal/clock"
	"kestrel/internal/core/actor"
	"kestrel/internal/core/group"
	"kestrel/internal/core/ident"
	"kestrel/internal/core/words"
	"kestrel/internal/problem"
	"kestrel/internal/records"
	"kestrel/internal/sealed"
)

const (
	sessionLife = 12 * time.Hour
	welcomeLife = 24 * time.Hour
	minPassword = 10
	maxPassword = 200
	maxName     = 60
	maxTags     = 16
	maxNetworks = 16
	maxDays     = 365
)

// Access is the people of one site.
type Access struct {
	db     *records.DB
	trail  *audit.Trail
	clk    clock.Clock
	tries  *limiter
	hashes hasher
	box    *sealed.Box
	// console is the address that one-time links begin with; site is what this site is
	// called.
	console, site string
	changed       changes
	keys          *webauthn.WebAuthn // nil where there can be no passkeys
	spent         spent

	// Revoked, if there is one, is called after somebody may do less than before.
	Revoked func(ctx context.Context)
	// Demanded, if there is one, tells whether people of a role have to have a second
	// factor.
	Demanded func(role string) bool
}

// New makes it, for a site whose console is at an address. Box is what the seeds of
// second factors are encrypted with.
func New(db *records.DB, trail *audit.Trail, clk clock.Clock, box *sealed.Box, site, console string) *Access {
	return &Access{db: db, trail: trail, clk: clk, tries: newLimiter(clk), hashes: newHasher(), box: box, site: site, console: console, keys: relying(site, console)}
}

// WelcomeLink makes a one-time link with which an administrator sets name and
// password. It is called on the host, never through the API.
func WelcomeLink(ctx context.Context, db *records.DB, now time.Time, console string) (string, error) {
	return welcomeLink(ctx, db, now, console, actor.Administrator, nil)
}

func welcomeLink(ctx context.Context, db *records.DB, now time.Time, console string, role actor.Role, tags []string) (string, error) {
	return oneTimeLink(ctx, db, console, records.Secret{Kind: "welcome", Role: string(role), Tags: tags, CreatedAt: now})
}

// oneTimeLink stores a secret that is good once and gives the address with it.
func oneTimeLink(ctx context.Context, db *records.DB, console string, x records.Secret) (string, error) {
	secret := NewSecret(24)
	x.ID, x.Hash, x.ExpiresAt = uuid.NewString(), HashSecret(secret), new(x.CreatedAt.Add(welcomeLife))
	err := db.AddSecret(ctx, x)
	return strings.TrimSuffix(console, "/") + "/welcome#" + secret, err
}

func person(p records.Person) audit.Object {
	return audit.Object{Kind: "person", Name: p.Name, ID: p.ID}
}

// busy is the answer where too many passwords are being checked.
func busy() error {
	return &problem.Problem{Status: 503, Title: "Too many sign-ins at once", Detail: "Try again in a moment."}
}

// checkName refuses names that could be taken for another's in the trail.
func checkName(name string) string {
	if why := group.CheckName(name, maxName); why != "" {
		return why
	}
	if strings.ContainsAny(name, ":()") {
		return "A name has no colon and no brackets: in the trail they mark whom a site or a token speaks for."
	}
	if ident.Mixed(name) {
		return "A word of this name mixes letters of several alphabets, and could be taken for another name. Write it in one."
	}
	if ident.Skeleton(name) == ident.Skeleton(actor.System().Name) {
		return "That is what the service calls itself; choose another name."
	}
	return ""
}

// Welcome makes a person with a one-time link, or gives one who is here another
// password with a link that resets it, and signs them in.
func (a *Access) Welcome(ctx context.Context, w api.Welcome, from string) (actor.Actor, string, error) {
	name := strings.TrimSpace(w.Name)
	if why := checkName(name); why != "" {
		return actor.Actor{}, "", problem.Invalid("name", "%s", why)
	}
	if why := weak(w.Password, name); why != "" {
		return actor.Actor{}, "", problem.Invalid("password", "%s", why)
	}
	// Who has no link learns nothing of who is here, and has nothing hashed.
	used := problem.Invalid("token", "This link was used or has expired. Ask for a new one, or make one on the host with: kestrel admin link")
	link, err := a.db.FindSecret(ctx, []string{"welcome", "reset"}, HashSecret(w.Token), a.clk.Now())
	if errors.Is(err, records.ErrNotFound) {
		return actor.Actor{}, "", used
	}
	if err != nil {
		return actor.Actor{}, "", err
	}
	p, err := a.db.PersonByName(ctx, name)
	if err != nil && !errors.Is(err, records.ErrNotFound) {
		return actor.Actor{}, "", err
	}
	here := err == nil
	exists := problem.Invalid("name", "%s exists already; choose another name.", name)
	switch {
	case link.Kind == "welcome" && here:
		return actor.Actor{}, "", exists
	case link.Kind == "reset" && (!here || *link.Person != p.ID):
		return actor.Actor{}, "", problem.Invalid("name", "This link is for somebody else's password. Give the name that you sign in with.")
	}
	if link.Kind == "welcome" {
		switch other, err := a.lookalike(ctx, name); {
		case err != nil:
			return actor.Actor{}, "", err
		case other != "":
			return actor.Actor{}, "", problem.Invalid("name", "This would be taken for %s, who is here already; choose another name.", other)
		}
	}
	how := ""
	if link.Kind == "reset" {
		// The link stands for the password only.
		if how, err = a.second(ctx, p, w.Code, from); err != nil {
			return actor.Actor{}, "", err
		}
	}
	hash, ok := a.hashes.hash(ctx, w.Password)
	if !ok {
		return actor.Actor{}, "", busy()
	}
	if _, err := a.db.TakeSecret(ctx, link.Kind, HashSecret(w.Token), a.clk.Now()); err != nil {
		if errors.Is(err, records.ErrNotFound) {
			return actor.Actor{}, "", used
		}
		return actor.Actor{}, "", err
	}
	if link.Kind == "reset" {
		err := a.trail.Do(ctx, actorOf(p, from), person(p), func(ctx context.Context) error { return a.db.SetPassword(ctx, p.ID, hash, nil) },
			"%s set another password with a one-time link; their sessions ended", p.Name)
		if err != nil {
			return actor.Actor{}, "", err
		}
		a.revoked(ctx)
		return a.session(ctx, p, from, "%s signed in%s", p.Name, how)
	}
	p = records.Person{ID: uuid.NewString(), Name: name, PasswordHash: hash, Role: link.Role, Tags: link.Tags, CreatedAt: a.clk.Now()}
	err = a.trail.Do(ctx, actorOf(p, from), person(p), func(ctx context.Context) error { return a.db.AddPerson(ctx, p) },
		"%s joined as %s with a one-time link", name, words.Article(p.Role))
	var taken *records.TakenError
	if errors.As(err, &taken) {
		return actor.Actor{}, "", exists
	}
	if err != nil {
		return actor.Actor{}, "", err
	}
	return a.session(ctx, p, from, "%s signed in", p.Name)
}

// lookalike finds somebody here whose name a name would be taken for.
func (a *Access) lookalike(ctx context.Context, name string) (string, error) {
	ps, err := a.db.People(ctx)
	for _, p := range ps {
		if ident.Skeleton(p.Name) == ident.Skeleton(name) {
			return p.Name, nil
		}
	}
	return "", err
}

func actorOf(p records.Person, from string) actor.Actor {
	return actor.Actor{Kind: actor.Person, Name: p.Name, Role: actor.Role(p.Role), Tags: p.Tags, From: from, PersonID: p.ID}
}

// tokenActor is who comes by a token, which never lets do more than its person may.
func tokenActor(x records.Secret, p records.Person, from string) actor.Actor {
	role := actor.Role(x.Role)
	if own := actor.Role(p.Role); own.Rank() < role.Rank() {
		role = own
	}
	return actor.Actor{Kind: actor.Token, Name: x.Name, For: p.Name, Role: role, Tags: narrowed(p.Tags, x.Tags), From: from, PersonID: p.ID, TokenID: x.ID}
}

// SignIn checks a name and password and gives a session's secret.
func (a *Access) SignIn(ctx context.Context, in api.SignIn, from string) (actor.Actor, string, error) {
	if len(in.Name) > 4*maxName || len(in.Password) > maxPassword {
		return actor.Actor{}, "", problem.Denied("Name or password is wrong.")
	}
	if !a.tries.allow(in.Name, from) {
		return actor.Actor{}, "", &problem.Problem{Status: 429, Title: "Too many tries", Detail: "Wait half a minute, then try again."}
	}
	p, err := a.db.PersonByName(ctx, strings.TrimSpace(in.Name))
	if err != nil && !errors.Is(err, records.ErrNotFound) {
		return actor.Actor{}, "", err
	}
	if err != nil || p.Disabled || p.PasswordHash == "" {
		p.PasswordHash = noPassword // an unknown name takes as long as a wrong password
	}
	right, ok := a.hashes.check(ctx, p.PasswordHash, in.Password)
	switch {
	case !ok:
		return actor.Actor{}, "", busy()
	case !right:
		a.failed(ctx, in.Name, from)
		return actor.Actor{}, "", problem.Denied("Name or password is wrong.")
	}
	how, err := a.second(ctx, p, in.Code, from)
	if err != nil {
		return actor.Actor{}, "", err
	}
	return a.session(ctx, p, from, "%s signed in%s", p.Name, how)
}

// failed notes a sign-in that failed.
func (a *Access) failed(ctx context.Context, name, from string) {
	if n := a.tries.failed(from); n > 0 {
		a.trail.Note(ctx, system(from), audit.Object{Kind: "person", Name: name}, "%s from %s failed, the last as %q", words.Count(n, "sign-in"), from, name)
	}
}

// session begins one, with its line of the trail.
func (a *Access) session(ctx context.Context, p records.Person, from, format string, args ...any) (actor.Actor, string, error) {
	secret, who := NewSecret(32), actorOf(p, from)
	x := records.Secret{ID: uuid.NewString(), Kind: "session", Hash: HashSecret(secret), Person: &p.ID, Role: p.Role, Tags: p.Tags, CreatedAt: a.clk.Now(), ExpiresAt: new(a.clk.Now().Add(sessionLife)), Origin: from}
	var err error
	if who.Held, err = a.holds(ctx, p); err != nil {
		return who, "", err
	}
	err = a.trail.Do(ctx, who, person(p), func(ctx context.Context) error { return a.db.AddSecret(ctx, x) }, format, args...)
	return who, secret, err
}

// system is the service itself, on what came from an address.
func system(from string) actor.Actor {
	a := actor.System()
	a.From = from
	return a
}

// SignOut ends a session.
func (a *Access) SignOut(ctx context.Context, who actor.Actor, secret string) error {
	if who.Kind != actor.Person {
		return problem.Conflict("A token is no session. Revoke it, if it is not needed any more.")
	}
	err := a.trail.Do(ctx, who, audit.Object{Kind: "person", Name: who.Name, ID: who.PersonID}, func(ctx context.Context) error {
		_, err := a.db.TakeSecret(ctx, "session", HashSecret(secret), a.clk.Now())
		return err
	}, "%s signed out", who.Name)
	if err == nil {
		a.changed.tell()
	}
	return unlessGone(err)
}

// resolve finds who is behind a session or token secret.
func (a *Access) resolve(ctx context.Context, secret string) (actor.Actor, records.Secret, error) {
	if secret == "" {
		return actor.Actor{}, records.Secret{}, problem.Denied("")
	}
	invalid := problem.Denied("The session or token is not valid (any more).")
	x, err := a.db.FindSecret(ctx, []string{"session", "token"}, HashSecret(secret), a.clk.Now())
	if errors.Is(err, records.ErrNotFound) || err == nil && x.Person == nil {
		return actor.Actor{}, x, invalid
	}
	if err != nil {
		return actor.Actor{}, x, err
	}
	p, err := a.db.Person(ctx, *x.Person)
	if err != nil {
		return actor.Actor{}, x, fmt.Errorf("the person of a session: %w", err)
	}
	if p.Disabled {
		return actor.Actor{}, x, invalid
	}
	who := tokenActor(x, p, "")
	if x.Kind == "session" {
		who = actorOf(p, "")
	}
	who.Held, err = a.holds(ctx, p)
	return who, x, err
}

// holds says what somebody has to do before they may do anything.
func (a *Access) holds(ctx context.Context, p records.Person) (string, error) {
	if why := a.staleSignOn(p); why != "" || p.Subject != "" {
		return why, nil // the second factor is the provider's
	}
	if a.Demanded == nil || !a.Demanded(p.Role) {
		return "", nil
	}
	_, has, err := a.factor(ctx, p.ID)
	if err != nil || has {
		return "", err
	}
	if keys, err := a.db.Passkeys(ctx, p.ID); err != nil || len(keys) > 0 {
		return "", err
	}
	return fmt.Sprintf("A second factor is demanded of every %s here, and %s has none yet. Set one up: on the page Access, or by: kestrel session second-factor.", p.Role, p.Name), nil
}

// WhoIs finds who is behind a session or token secret that came from an address.
func (a *Access) WhoIs(ctx context.Context, secret, from string) (actor.Actor, error) {
	who, x, err := a.resolve(ctx, secret)
	if err != nil {
		return actor.Actor{}, err
	}
	who.From = from
	if !within(x.Networks, from) {
		if n := a.tries.failed(from); n > 0 {
			a.trail.Note(ctx, who, audit.Object{Kind: "token", Name: x.Name, ID: x.ID}, "The token %s of %s was used from %s, which is none of its networks, and refused", x.Name, who.For, from)
		}
		return actor.Actor{}, problem.Denied("This token is not good from where it is used.")
	}
	return who, a.db.NoteUse(ctx, x, from, a.clk.Now())
}

// noTag is carried by no group: spaces are refused in tags.
const noTag = "no group"

// narrowed is the limit of somebody who is limited to both.
func narrowed(a, b []string) []string {
	switch {
	case len(a) == 0:
		return b
	case len(b) == 0:
		return a
	}
	var out []string
	for _, t := range b {
		if slices.ContainsFunc(a, func(x string) bool { return strings.EqualFold(x, t) }) {
			out = append(out, t)
		}
	}
	if out == nil {
		return []string{noTag}
	}
	return out
}

func checkRole(role *string, otherwise actor.Role) (actor.Role, []problem.Field) {
	if role == nil {
		return otherwise, nil
	}
	if r := actor.Role(*role); r.Rank() >= 0 {
		return r, nil
	}
	return otherwise, []problem.Field{{Field: "role", Message: fmt.Sprintf("%q is no role; choose viewer, operator or administrator.", *role)}}
}

func checkTags(tags *[]string) (records.Tags, []problem.Field) {
	out := records.Tags{}
	if tags == nil {
		return out, nil
	}
	for i, t := range *tags {
		if t = strings.TrimSpace(t); group.CheckName(t, group.MaxTag) != "" || strings.ContainsAny(t, ", ") || i >= maxTags {
			return nil, []problem.Field{{Field: fmt.Sprintf("tags[%d]", i), Message: fmt.Sprintf("Up to %d tags, each one word of up to %d characters.", maxTags, group.MaxTag)}}
		}
		out = append(out, t)
	}
	return out, nil
}

// Tidy forgets what has expired.
func (a *Access) Tidy(ctx context.Context) error {
	return a.db.DeleteExpiredSecrets(ctx, a.clk.Now())
}
