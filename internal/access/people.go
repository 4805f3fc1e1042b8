package access

import (
	"context"
	"errors"
	"slices"
	"strings"

	"kestrel/internal/api"
	"kestrel/internal/audit"
	"kestrel/internal/core/actor"
	"kestrel/internal/core/ident"
	"kestrel/internal/core/words"
	"kestrel/internal/problem"
	"kestrel/internal/records"
)

// People lists everybody who may sign in.
func (a *Access) People(ctx context.Context) ([]api.Person, error) {
	ps, err := a.db.People(ctx)
	if err != nil {
		return nil, err
	}
	has, err := a.db.WithSecondFactor(ctx)
	out := []api.Person{}
	for _, p := range ps {
		out = append(out, personView(p, slices.Contains(has, p.ID)))
	}
	return out, err
}

// Role is what somebody is called by, and may do in general, by name or ID.
func (a *Access) Role(ctx context.Context, id string) (name string, role actor.Role, err error) {
	p, err := a.findPerson(ctx, id)
	return p.Name, actor.Role(p.Role), err
}

func personView(p records.Person, second bool) api.Person {
	return api.Person{ID: p.ID, Name: p.Name, Role: p.Role, Tags: append([]string{}, p.Tags...), CreatedAt: p.CreatedAt, Disabled: p.Disabled, SecondFactor: second, SignOn: p.Subject != ""}
}

// InvitePerson makes a one-time link with which somebody joins in a role.
func (a *Access) InvitePerson(ctx context.Context, who actor.Actor, in api.NewPerson) (api.PersonInvitation, error) {
	role, faults := checkRole(&in.Role, actor.Viewer)
	tags, more := checkTags(in.Tags)
	if faults = append(faults, more...); len(faults) > 0 {
		return api.PersonInvitation{}, problem.InvalidFields(faults...)
	}
	limit := ""
	if len(tags) > 0 {
		limit = ", limited to groups tagged " + strings.Join(tags, ", ")
	}
	var link string
	err := a.trail.Do(ctx, who, audit.Object{Kind: "person"}, func(ctx context.Context) (err error) {
		link, err = welcomeLink(ctx, a.db, a.clk.Now(), a.console, role, tags)
		return err
	}, "%s made a one-time link for %s%s", who, words.Article(string(role)), limit)
	return api.PersonInvitation{Link: link, ExpiresAt: a.clk.Now().Add(welcomeLife).UTC()}, err
}

// ResetPassword makes a one-time link with which somebody who is here sets another
// password.
func (a *Access) ResetPassword(ctx context.Context, who actor.Actor, id string) (api.PersonInvitation, error) {
	p, err := a.findPerson(ctx, id)
	if err != nil {
		return api.PersonInvitation{}, err
	}
	if err := elsewhere(p); err != nil {
		return api.PersonInvitation{}, err
	}
	if p.Disabled {
		return api.PersonInvitation{}, problem.Conflict("%s is disabled and could not sign in. Enable them first.", p.Name)
	}
	var link string
	err = a.trail.Do(ctx, who, person(p), func(ctx context.Context) (err error) {
		link, err = oneTimeLink(ctx, a.db, a.console, records.Secret{Kind: "reset", Person: &p.ID, Role: p.Role, CreatedAt: a.clk.Now()})
		return err
	}, "%s made a one-time link with which %s sets another password", who, p.Name)
	return api.PersonInvitation{Link: link, ExpiresAt: a.clk.Now().Add(welcomeLife).UTC()}, err
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

// EditPerson changes somebody's role or limits, or disables them. It holds at once, for
// their tokens too.
func (a *Access) EditPerson(ctx context.Context, who actor.Actor, id string, in api.EditPerson) (api.Person, error) {
	p, err := a.findPerson(ctx, id)
	if err != nil {
		return api.Person{}, err
	}
	before := p
	if in.Role != nil || in.Tags != nil || in.SecondFactorOff != nil {
		if err := elsewhere(p); err != nil {
			return api.Person{}, err
		}
	}
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
	if in.Disabled != nil {
		p.Disabled = *in.Disabled
	}
	err = a.trail.Do(ctx, who, person(p), func(ctx context.Context) error { return a.db.ChangePerson(ctx, p) }, "%s changed %s: %s", who, p.Name, changed(before, p))
	if err != nil {
		return api.Person{}, lastOne(err)
	}
	all, err := a.db.WithSecondFactor(ctx)
	has := slices.Contains(all, p.ID)
	if err == nil && has && in.SecondFactorOff != nil && *in.SecondFactorOff {
		has = false
		err = a.trail.Do(ctx, who, person(p), func(ctx context.Context) error { return a.db.DropSecondFactors(ctx, p.ID) }, "%s took the second factors of %s off", who, p.Name)
	}
	a.revoked(ctx)
	return personView(p, has), err
}

// changed says from what to what somebody was changed.
func changed(before, after records.Person) string {
	var out []string
	add := func(what, from, to string) {
		if from != to {
			out = append(out, what+" "+from+" → "+to)
		}
	}
	state := map[bool]string{false: "enabled", true: "disabled"}
	add("role", before.Role, after.Role)
	add("groups", limits(before.Tags), limits(after.Tags))
	add("sign-in", state[before.Disabled], state[after.Disabled])
	if len(out) == 0 {
		return "nothing"
	}
	return strings.Join(out, ", ")
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
	err = a.trail.Do(ctx, who, person(p), func(ctx context.Context) error { return a.db.DeletePerson(ctx, p.ID) }, "%s removed %s (%s)", who, p.Name, p.Role)
	if err != nil {
		return lastOne(err)
	}
	a.revoked(ctx)
	return nil
}
