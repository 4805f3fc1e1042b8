package access

import (
	"context"
	"fmt"
	"net/netip"
	"slices"
	"strings"

	"github.com/google/uuid"

	"kestrel/internal/api"
	"kestrel/internal/audit"
	"kestrel/internal/core/actor"
	"kestrel/internal/core/group"
	"kestrel/internal/problem"
	"kestrel/internal/reach"
	"kestrel/internal/records"
)

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
	v := api.Token{ID: x.ID, Name: x.Name, Role: x.Role, Tags: append([]string{}, x.Tags...), Networks: append([]string{}, x.Networks...), CreatedAt: x.CreatedAt, ExpiresAt: x.ExpiresAt, LastUsedAt: x.LastUsedAt}
	if x.UsedFrom != "" {
		v.UsedFrom = &x.UsedFrom
	}
	if x.Person != nil {
		v.Person = names[*x.Person]
	}
	return v
}

// checkNetworks reads the networks that a token may be used from.
func checkNetworks(networks *[]string) (records.Tags, []problem.Field) {
	out := records.Tags{}
	if networks == nil {
		return out, nil
	}
	for i, text := range *networks {
		n, err := reach.Parse([]string{text})
		if err != nil || i >= maxNetworks {
			return nil, []problem.Field{{Field: fmt.Sprintf("networks[%d]", i), Message: fmt.Sprintf("Up to %d networks, such as 192.0.2.0/24 or 2001:db8::/32, or single addresses.", maxNetworks)}}
		}
		out = append(out, n[0].String())
	}
	return out, nil
}

// within tells whether an address is in one of some networks; where there are none, any
// is.
func within(networks []string, from string) bool {
	if len(networks) == 0 {
		return true
	}
	n, err := reach.Parse(networks)
	a, bad := netip.ParseAddr(from)
	return err == nil && bad == nil && n.Contains(a)
}

// inside tells whether all of some networks lie in others; where there are no others,
// they do, and none at all is all.
func inside(some, others []string) bool {
	if len(others) == 0 {
		return true
	}
	return len(some) > 0 && !slices.ContainsFunc(some, func(n string) bool {
		p, err := netip.ParsePrefix(n)
		return err != nil || !slices.ContainsFunc(others, func(o string) bool {
			q, err := netip.ParsePrefix(o)
			return err == nil && q.Bits() <= p.Bits() && q.Contains(p.Addr())
		})
	})
}

// CreateToken makes an API token for whoever asks, with no more than their role. One that
// is asked for by a token goes with that one, ends no later, and is good from no more
// networks; by is the secret that it is asked for with.
func (a *Access) CreateToken(ctx context.Context, who actor.Actor, in api.NewToken, by string) (api.TokenSecret, error) {
	if who.PersonID == "" {
		return api.TokenSecret{}, problem.Conflict("Only people have tokens, and %s is none of this site's.", who)
	}
	role, faults := checkRole(in.Role, who.Role)
	if why := group.CheckName(in.Name, maxName); why != "" || strings.ContainsAny(in.Name, ":()") {
		faults = append(faults, problem.Field{Field: "name", Message: fmt.Sprintf("Give the token a name of 1 to %d characters, such as what will use it, without colons and brackets.", maxName)})
	}
	if role.Rank() > who.Role.Rank() {
		faults = append(faults, problem.Field{Field: "role", Message: fmt.Sprintf("A token may do no more than who makes it, and %s is %s.", who, who.Role)})
	}
	tags, more := checkTags(in.Tags)
	faults = append(faults, more...)
	networks, more := checkNetworks(in.Networks)
	faults = append(faults, more...)
	if in.Days < 1 || in.Days > maxDays {
		faults = append(faults, problem.Field{Field: "days", Message: fmt.Sprintf("A token lasts 1 to %d days.", maxDays)})
	}
	if len(faults) > 0 {
		return api.TokenSecret{}, problem.InvalidFields(faults...)
	}
	x := records.Secret{ID: uuid.NewString(), Kind: "token", Name: strings.TrimSpace(in.Name), Role: string(role), Tags: narrowed(who.Tags, tags), Networks: networks, CreatedAt: a.clk.Now(), ExpiresAt: new(a.clk.Now().AddDate(0, 0, in.Days)), Person: &who.PersonID}
	if who.Kind == actor.Token {
		_, parent, err := a.resolve(ctx, by)
		if err != nil {
			return api.TokenSecret{}, err
		}
		if parent.ExpiresAt != nil && x.ExpiresAt.After(*parent.ExpiresAt) {
			x.ExpiresAt = parent.ExpiresAt
		}
		if in.Networks == nil {
			x.Networks = parent.Networks
		}
		if !inside(x.Networks, parent.Networks) {
			return api.TokenSecret{}, problem.Invalid("networks", "The token that asks is good from %s only, and what it makes is good from nowhere else.", strings.Join(parent.Networks, ", "))
		}
		x.Parent = &parent.ID
	}
	secret := NewSecret(32)
	x.Hash = HashSecret(secret)
	whence := ""
	if len(x.Networks) > 0 {
		whence = ", from " + strings.Join(x.Networks, ", ")
	}
	err := a.trail.Do(ctx, who, audit.Object{Kind: "token", Name: x.Name, ID: x.ID}, func(ctx context.Context) error { return a.db.AddSecret(ctx, x) },
		"%s made the token %s, %s, until %s%s", who, x.Name, x.Role, x.ExpiresAt.UTC().Format("2006-01-02"), whence)
	return api.TokenSecret{Token: tokenView(x, map[string]string{who.PersonID: owner(who)}), Secret: secret}, err
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
	err = a.trail.Do(ctx, who, audit.Object{Kind: "token", Name: seen[at].Name, ID: id}, func(ctx context.Context) error { return a.db.DeleteSecret(ctx, "token", id) },
		"%s revoked the token %s of %s", who, seen[at].Name, seen[at].Person)
	if err != nil {
		return unlessGone(err)
	}
	a.revoked(ctx)
	return nil
}
