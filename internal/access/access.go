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
)

const (
	sessionLife = 12 * time.Hour
	welcomeLife = 24 * time.Hour
	minPassword = 10
	maxPassword = 200
	maxName     = 60
	maxTags     = 16
	maxDays     = 3650
)

// Access is the people of one site.
type Access struct {
	db     *records.DB
	trail  *audit.Trail
	clk    clock.Clock
	tries  *limiter
	hashes hasher
	// console is the address that one-time links begin with.
	console string
}

// New makes it.
func New(db *records.DB, trail *audit.Trail, clk clock.Clock, console string) *Access {
	return &Access{db: db, trail: trail, clk: clk, tries: newLimiter(clk), hashes: newHasher(), console: console}
}

// WelcomeLink makes a one-time link with which an administrator sets name and
// password. It is called on the host, never through the API.
func WelcomeLink(ctx context.Context, db *records.DB, now time.Time, console string) (string, error) {
	return welcomeLink(ctx, db, now, console, actor.Administrator, nil)
}

func welcomeLink(ctx context.Context, db *records.DB, now time.Time, console string, role actor.Role, tags []string) (string, error) {
	secret := NewSecret(24)
	until := now.Add(welcomeLife)
	err := db.AddSecret(ctx, records.Secret{ID: uuid.NewString(), Kind: "welcome", Hash: HashSecret(secret), Role: string(role), Tags: tags, CreatedAt: now, ExpiresAt: &until})
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
	if normalise(name) == actor.System().Name {
		return "That is what the service calls itself; choose another name."
	}
	return ""
}

// Welcome makes a person with a one-time link and signs them in.
func (a *Access) Welcome(ctx context.Context, w api.Welcome, from string) (actor.Actor, string, error) {
	name := strings.TrimSpace(w.Name)
	if why := checkName(name); why != "" {
		return actor.Actor{}, "", problem.Invalid("name", "%s", why)
	}
	if why := weak(w.Password, name); why != "" {
		return actor.Actor{}, "", problem.Invalid("password", "%s", why)
	}
	used := problem.Invalid("token", "This link was used or has expired. Ask for a new one, or make one on the host with: kestrel admin link")
	// Who has no link learns nothing of who is here, and has nothing hashed.
	switch has, err := a.db.HasSecret(ctx, "welcome", HashSecret(w.Token), a.clk.Now()); {
	case err != nil:
		return actor.Actor{}, "", err
	case !has:
		return actor.Actor{}, "", used
	}
	exists := problem.Invalid("name", "%s exists already; choose another name.", name)
	if _, err := a.db.PersonByName(ctx, name); err == nil {
		return actor.Actor{}, "", exists
	}
	hash, ok := a.hashes.hash(ctx, w.Password)
	if !ok {
		return actor.Actor{}, "", busy()
	}
	link, err := a.db.TakeSecret(ctx, "welcome", HashSecret(w.Token), a.clk.Now())
	if errors.Is(err, records.ErrNotFound) {
		return actor.Actor{}, "", used
	}
	if err != nil {
		return actor.Actor{}, "", err
	}
	p := records.Person{ID: uuid.NewString(), Name: name, PasswordHash: hash, Role: link.Role, Tags: link.Tags, CreatedAt: a.clk.Now()}
	if err := a.db.AddPerson(ctx, p); err != nil {
		var taken *records.TakenError
		if errors.As(err, &taken) {
			return actor.Actor{}, "", exists
		}
		return actor.Actor{}, "", err
	}
	who := actorOf(p, from)
	a.trail.Note(ctx, who, person(p), "%s joined as %s with a one-time link", name, article(p.Role))
	return a.session(ctx, p, from)
}

func article(role string) string {
	if role == string(actor.Viewer) {
		return "a viewer"
	}
	return "an " + role
}

func actorOf(p records.Person, from string) actor.Actor {
	return actor.Actor{Kind: actor.Person, Name: p.Name, Role: actor.Role(p.Role), Tags: p.Tags, From: from}
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
	if err != nil {
		p.PasswordHash = noPassword // an unknown name takes as long as a wrong password
	}
	right, ok := a.hashes.check(ctx, p.PasswordHash, in.Password)
	switch {
	case !ok:
		return actor.Actor{}, "", busy()
	case !right:
		if n := a.tries.failed(from); n > 0 {
			a.trail.Note(ctx, system(from), audit.Object{Kind: "person", Name: in.Name}, "%s from %s failed, the last as %q", words.Count(n, "sign-in"), from, in.Name)
		}
		return actor.Actor{}, "", problem.Denied("Name or password is wrong.")
	}
	a.trail.Note(ctx, actorOf(p, from), person(p), "%s signed in", p.Name)
	return a.session(ctx, p, from)
}

func (a *Access) session(ctx context.Context, p records.Person, from string) (actor.Actor, string, error) {
	secret := NewSecret(32)
	until := a.clk.Now().Add(sessionLife)
	err := a.db.AddSecret(ctx, records.Secret{ID: uuid.NewString(), Kind: "session", Hash: HashSecret(secret), Person: &p.ID, Role: p.Role, Tags: p.Tags, CreatedAt: a.clk.Now(), ExpiresAt: &until, Origin: from})
	return actorOf(p, from), secret, err
}

// system is the service itself, on what came from an address.
func system(from string) actor.Actor {
	a := actor.System()
	a.From = from
	return a
}

// SignOut ends a session.
func (a *Access) SignOut(ctx context.Context, secret, from string) error {
	x, err := a.db.TakeSecret(ctx, "session", HashSecret(secret), a.clk.Now())
	if errors.Is(err, records.ErrNotFound) {
		return nil
	}
	if err != nil || x.Person == nil {
		return err
	}
	p, err := a.db.Person(ctx, *x.Person)
	if err != nil {
		return fmt.Errorf("the person of a session: %w", err)
	}
	a.trail.Note(ctx, actorOf(p, from), person(p), "%s signed out", p.Name)
	return nil
}

// WhoIs finds who is behind a session or token secret. A token never lets do more
// than its person may now.
func (a *Access) WhoIs(ctx context.Context, secret, from string) (actor.Actor, error) {
	if secret == "" {
		return actor.Actor{}, problem.Denied("")
	}
	x, err := a.db.UseSecret(ctx, []string{"session", "token"}, HashSecret(secret), a.clk.Now())
	if errors.Is(err, records.ErrNotFound) || err == nil && x.Person == nil {
		return actor.Actor{}, problem.Denied("The session or token is not valid (any more).")
	}
	if err != nil {
		return actor.Actor{}, err
	}
	p, err := a.db.Person(ctx, *x.Person)
	if err != nil {
		return actor.Actor{}, fmt.Errorf("the person of a session: %w", err)
	}
	who := actorOf(p, from)
	if x.Kind == "session" {
		return who, nil
	}
	role := actor.Role(x.Role)
	if who.Role.Rank() < role.Rank() {
		role = who.Role
	}
	return actor.Actor{Kind: actor.Token, Name: x.Name, For: p.Name, Role: role, Tags: narrowed(p.Tags, x.Tags), From: from}, nil
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

// People lists everybody who may sign in.
func (a *Access) People(ctx context.Context) ([]api.Person, error) {
	ps, err := a.db.People(ctx)
	out := []api.Person{}
	for _, p := range ps {
		out = append(out, personView(p))
	}
	return out, err
}

func personView(p records.Person) api.Person {
	return api.Person{ID: p.ID, Name: p.Name, Role: p.Role, Tags: append([]string{}, p.Tags...), CreatedAt: p.CreatedAt}
}

// InvitePerson makes a one-time link with which somebody joins in a role.
func (a *Access) InvitePerson(ctx context.Context, who actor.Actor, in api.NewPerson) (api.PersonInvitation, error) {
	role, faults := checkRole(&in.Role, actor.Viewer)
	tags, more := checkTags(in.Tags)
	if faults = append(faults, more...); len(faults) > 0 {
		return api.PersonInvitation{}, problem.InvalidFields(faults...)
	}
	link, err := welcomeLink(ctx, a.db, a.clk.Now(), a.console, role, tags)
	if err != nil {
		return api.PersonInvitation{}, err
	}
	limit := ""
	if len(tags) > 0 {
		limit = ", limited to groups tagged " + strings.Join(tags, ", ")
	}
	a.trail.Note(ctx, who, audit.Object{Kind: "person"}, "%s made a one-time link for %s%s", who, article(string(role)), limit)
	return api.PersonInvitation{Link: link, ExpiresAt: a.clk.Now().Add(welcomeLife).UTC()}, nil
}

func (a *Access) findPerson(ctx context.Context, id string) (records.Person, error) {
	find := a.db.PersonByName
	if ident.UUID(id) {
		find = a.db.Person
	}
	p, err := find(ctx, id)
	if errors.Is(err, records.ErrNotFound) {
		return p, problem.NotFound("person", id)
	}
	return p, err
}

// EditPerson changes somebody's role or limits. It holds at once, for their tokens
// too.
func (a *Access) EditPerson(ctx context.Context, who actor.Actor, id string, in api.EditPerson) (api.Person, error) {
	p, err := a.findPerson(ctx, id)
	if err != nil {
		return api.Person{}, err
	}
	before := p
	role, faults := checkRole(in.Role, actor.Role(p.Role))
	p.Role = string(role)
	if in.Tags != nil {
		tags, more := checkTags(in.Tags)
		faults = append(faults, more...)
		p.Tags = tags
	}
	if len(faults) > 0 {
		return api.Person{}, problem.InvalidFields(faults...)
	}
	if err := a.db.ChangePerson(ctx, p); err != nil {
		return api.Person{}, lastOne(err)
	}
	a.trail.Note(ctx, who, person(p), "%s changed %s: role %s → %s, groups %s → %s", who, p.Name, before.Role, p.Role, limits(before.Tags), limits(p.Tags))
	return personView(p), nil
}

func limits(tags []string) string {
	if len(tags) == 0 {
		return "all"
	}
	return "tagged " + strings.Join(tags, ", ")
}

func lastOne(err error) error {
	if errors.Is(err, records.ErrStale) {
		return problem.Conflict("Nobody would be left who may do everything. Make another administrator first.")
	}
	return err
}

// DeletePerson removes somebody with their sessions and tokens.
func (a *Access) DeletePerson(ctx context.Context, who actor.Actor, id string) error {
	p, err := a.findPerson(ctx, id)
	if err != nil {
		return err
	}
	if err := a.db.DeletePerson(ctx, p.ID); err != nil {
		return lastOne(err)
	}
	a.trail.Note(ctx, who, person(p), "%s removed %s (%s)", who, p.Name, p.Role)
	return nil
}

// Tokens lists the tokens that somebody may see: administrators all, others their
// own.
func (a *Access) Tokens(ctx context.Context, who actor.Actor) ([]api.Token, error) {
	xs, err := a.db.Secrets(ctx, "token", a.clk.Now())
	if err != nil {
		return nil, err
	}
	ps, err := a.db.People(ctx)
	names := map[string]string{}
	for _, p := range ps {
		names[p.ID] = p.Name
	}
	out := []api.Token{}
	for _, x := range xs {
		if v := tokenView(x, names); who.Role == actor.Administrator && len(who.Tags) == 0 || v.Person == owner(who) {
			out = append(out, v)
		}
	}
	return out, err
}

func owner(who actor.Actor) string {
	if who.Kind == actor.Token {
		return who.For
	}
	return who.Name
}

func tokenView(x records.Secret, names map[string]string) api.Token {
	v := api.Token{ID: x.ID, Name: x.Name, Role: x.Role, Tags: append([]string{}, x.Tags...), CreatedAt: x.CreatedAt, ExpiresAt: x.ExpiresAt, LastUsedAt: x.LastUsedAt}
	if x.Person != nil {
		v.Person = names[*x.Person]
	}
	return v
}

// CreateToken makes an API token for whoever asks, with no more than their role.
func (a *Access) CreateToken(ctx context.Context, who actor.Actor, in api.NewToken) (api.TokenSecret, error) {
	role, faults := checkRole(in.Role, who.Role)
	if why := group.CheckName(in.Name, maxName); why != "" || strings.ContainsAny(in.Name, ":()") {
		faults = append(faults, problem.Field{Field: "name", Message: fmt.Sprintf("Give the token a name of 1 to %d characters, such as what will use it, without colons and brackets.", maxName)})
	}
	if role.Rank() > who.Role.Rank() {
		faults = append(faults, problem.Field{Field: "role", Message: fmt.Sprintf("A token may do no more than who makes it, and %s is %s.", who, who.Role)})
	}
	tags, more := checkTags(in.Tags)
	faults = append(faults, more...)
	x := records.Secret{ID: uuid.NewString(), Kind: "token", Name: strings.TrimSpace(in.Name), Role: string(role), Tags: narrowed(who.Tags, tags), CreatedAt: a.clk.Now()}
	days := 365
	if in.Days != nil {
		days = *in.Days
	}
	if days < 1 || days > maxDays {
		faults = append(faults, problem.Field{Field: "days", Message: fmt.Sprintf("A token lasts 1 to %d days; 365 if left out.", maxDays)})
	}
	if len(faults) > 0 {
		return api.TokenSecret{}, problem.InvalidFields(faults...)
	}
	until := a.clk.Now().AddDate(0, 0, days)
	x.ExpiresAt = &until
	p, err := a.db.PersonByName(ctx, owner(who))
	if err != nil {
		return api.TokenSecret{}, fmt.Errorf("the person of a token: %w", err)
	}
	x.Person = &p.ID
	secret := NewSecret(32)
	x.Hash = HashSecret(secret)
	if err := a.db.AddSecret(ctx, x); err != nil {
		return api.TokenSecret{}, err
	}
	a.trail.Note(ctx, who, audit.Object{Kind: "token", Name: x.Name, ID: x.ID}, "%s made the token %s, %s, until %s", who, x.Name, x.Role, until.UTC().Format("2006-01-02"))
	return api.TokenSecret{Token: tokenView(x, map[string]string{p.ID: p.Name}), Secret: secret}, nil
}

// DeleteToken revokes a token: any for administrators, their own for others.
func (a *Access) DeleteToken(ctx context.Context, who actor.Actor, id string) error {
	seen, err := a.Tokens(ctx, who)
	if err != nil {
		return err
	}
	at := slices.IndexFunc(seen, func(t api.Token) bool { return t.ID == id })
	if at < 0 {
		return problem.NotFound("token", id)
	}
	if err := a.db.DeleteSecret(ctx, "token", id); err != nil && !errors.Is(err, records.ErrNotFound) {
		return err
	}
	a.trail.Note(ctx, who, audit.Object{Kind: "token", Name: seen[at].Name, ID: id}, "%s revoked the token %s of %s", who, seen[at].Name, seen[at].Person)
	return nil
}

// Tidy forgets what has expired.
func (a *Access) Tidy(ctx context.Context) error {
	return a.db.DeleteExpiredSecrets(ctx, a.clk.Now())
}
