package actor_test

import (
	"testing"

	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"kestrel/internal/core/actor"
)

func TestMay(t *testing.T) {
	limited := func(r actor.Role) actor.Actor {
		return actor.Actor{Kind: actor.Person, Name: "anna", Role: r, Tags: []string{"gold"}}
	}
	free := func(r actor.Role) actor.Actor { return actor.Actor{Kind: actor.Person, Name: "anna", Role: r} }
	group := func(r actor.Role) actor.Need { return actor.Need{Role: r, Group: true} }
	site := func(r actor.Role) actor.Need { return actor.Need{Role: r} }
	for name, c := range map[string]struct {
		who     actor.Actor
		need    actor.Need
		tags    []string
		allowed bool
		hidden  bool
	}{
		"a viewer looks":                                {free(actor.Viewer), group(actor.Viewer), nil, true, false},
		"a viewer does not run":                         {free(actor.Viewer), group(actor.Operator), nil, false, false},
		"an operator runs":                              {free(actor.Operator), group(actor.Operator), nil, true, false},
		"an operator does not edit":                     {free(actor.Operator), group(actor.Administrator), nil, false, false},
		"an administrator edits":                        {free(actor.Administrator), site(actor.Administrator), nil, true, false},
		"a limited operator runs their own":             {limited(actor.Operator), group(actor.Operator), []string{"gold", "x"}, true, false},
		"another's group is not there":                  {limited(actor.Operator), group(actor.Viewer), []string{"silver"}, false, true},
		"a group without tags is another's":             {limited(actor.Administrator), group(actor.Viewer), nil, false, true},
		"a limited one looks at the site":               {limited(actor.Viewer), site(actor.Viewer), nil, true, false},
		"a limited administrator does not change it":    {limited(actor.Administrator), site(actor.Administrator), nil, false, false},
		"who has no role may nothing":                   {actor.Actor{Name: "anna"}, site(actor.Viewer), nil, false, false},
		"what needs an unknown role is allowed to none": {free(actor.Administrator), actor.Need{Role: "owner"}, nil, false, false},
	} {
		t.Run(name, func(t *testing.T) {
			v := c.who.May(c.need, c.tags)
			require.Equal(t, c.allowed, v.Allowed)
			require.Equal(t, c.hidden, v.Hidden)
			require.Equal(t, c.allowed, v.Why == "")
		})
	}
}

// More role never means less, and a limit never means more.
func TestRolesOnlyAdd(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		tags := rapid.SliceOfN(rapid.SampledFrom([]string{"a", "b", "c"}), 0, 2)
		roles := rapid.SampledFrom(actor.Roles())
		a := actor.Actor{Name: "x", Role: roles.Draw(t, "role"), Tags: tags.Draw(t, "limit")}
		need := actor.Need{Role: roles.Draw(t, "need"), Group: rapid.Bool().Draw(t, "group")}
		of := tags.Draw(t, "tags")
		allowed := a.May(need, of).Allowed
		more, free := a, a
		more.Role, free.Tags = actor.Administrator, nil
		if allowed {
			require.True(t, more.May(need, of).Allowed)
			require.True(t, free.May(need, of).Allowed)
		}
		if need.Group && !a.Sees(of) {
			require.False(t, more.May(need, of).Allowed, "no role shows what the limit hides")
		}
	})
}

func TestNames(t *testing.T) {
	require.Equal(t, "anna", actor.Actor{Kind: actor.Person, Name: "anna"}.String())
	require.Equal(t, "anna (token backup)", actor.Actor{Kind: actor.Token, Name: "backup", For: "anna"}.String())
	require.Equal(t, "Eastmole: anna", actor.Actor{Kind: actor.Site, Name: "Eastmole", For: "anna"}.String())
	require.Equal(t, actor.Service, actor.System().Kind)
}

func TestGranted(t *testing.T) {
	grants := []actor.Grant{{Group: "everybody", Role: actor.Viewer}, {Group: "harbour", Role: actor.Operator, Tags: []string{"gold"}}, {Group: "ferries", Role: actor.Operator, Tags: []string{"gold", "sea"}}, {Group: "night", Role: actor.Operator}, {Group: "root", Role: actor.Administrator}, {Group: "odd", Role: "owner"}}
	for name, c := range map[string]struct {
		groups []string
		role   actor.Role
		tags   []string
		ok     bool
	}{
		"none":                      {nil, "", nil, false},
		"unknown":                   {[]string{"strangers", "odd"}, "", nil, false},
		"one":                       {[]string{"everybody"}, actor.Viewer, nil, true},
		"a higher role is narrower": {[]string{"everybody", "harbour"}, actor.Operator, []string{"gold"}, true},
		"tags add up":               {[]string{"ferries", "harbour"}, actor.Operator, []string{"gold", "sea"}, true},
		"no limit is more":          {[]string{"ferries", "night", "harbour"}, actor.Operator, nil, true},
		"the highest":               {[]string{"root", "harbour"}, actor.Administrator, nil, true},
	} {
		role, tags, ok := actor.Granted(grants, c.groups)
		require.Equal(t, c.ok, ok, name)
		require.Equal(t, c.role, role, name)
		require.Equal(t, c.tags, tags, name)
	}
}
