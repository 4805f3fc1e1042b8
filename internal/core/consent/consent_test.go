package consent_test

import (
	"testing"
	"time"

	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"kestrel/internal/core/actor"
	"kestrel/internal/core/consent"
)

// Where anything needs two people, one alone can neither change that nor make the second.
func TestTheRuleGuardsItself(t *testing.T) {
	now := time.Now()
	rapid.Check(t, func(t *rapid.T) {
		r := consent.Rules{Kinds: rapid.SliceOf(rapid.SampledFrom(consent.Kinds())).Draw(t, "kinds")}
		if rapid.Bool().Draw(t, "waived") {
			r.WaivedUntil = now.Add(time.Duration(rapid.IntRange(-3, 3).Draw(t, "hours")) * time.Hour)
		}
		any := false
		for _, k := range consent.Kinds() {
			any = any || r.Needed(k, now)
		}
		require.Equal(t, any, r.Needed(consent.Safeguards, now))
		require.Equal(t, any, r.Needed(consent.People, now))
		require.Equal(t, any, len(r.Kinds) > 0 && !now.Before(r.WaivedUntil))
	})
}

func TestWhoMayGive(t *testing.T) {
	now := time.Now()
	anna := actor.Actor{Kind: actor.Person, Name: "anna", Role: actor.Administrator, PersonID: "a"}
	olaf := actor.Actor{Kind: actor.Person, Name: "olaf", Role: actor.Administrator, PersonID: "o"}
	with := func(a actor.Actor, f func(*actor.Actor)) actor.Actor { f(&a); return a }
	asked := consent.Asked{PersonID: "a", Until: now.Add(time.Hour)}
	ofGold := consent.Asked{PersonID: "a", Until: now.Add(time.Hour), Group: true, Tags: []string{"gold"}}
	for name, c := range map[string]struct {
		asked consent.Asked
		who   actor.Actor
		may   bool
	}{
		"another administrator":       {asked, olaf, true},
		"oneself":                     {asked, anna, false},
		"oneself by a token":          {asked, with(anna, func(a *actor.Actor) { a.Kind, a.For, a.Name = actor.Token, "anna", "tool" }), false},
		"a token of another's":        {asked, with(olaf, func(a *actor.Actor) { a.Kind, a.For, a.Name = actor.Token, "olaf", "tool" }), true},
		"an operator":                 {asked, with(olaf, func(a *actor.Actor) { a.Role = actor.Operator }), false},
		"the service itself":          {asked, actor.System(), false},
		"a paired site":               {asked, actor.Actor{Kind: actor.Site, Name: "Eastmole", Role: actor.Administrator}, false},
		"one limited to other groups": {ofGold, with(olaf, func(a *actor.Actor) { a.Tags = []string{"silver"} }), false},
		"one limited to this group":   {ofGold, with(olaf, func(a *actor.Actor) { a.Tags = []string{"gold"} }), true},
		"one limited, on the site":    {asked, with(olaf, func(a *actor.Actor) { a.Tags = []string{"gold"} }), false},
		"too late":                    {consent.Asked{PersonID: "a", Until: now}, olaf, false},
	} {
		v := consent.MayGive(c.asked, c.who, now)
		require.Equal(t, c.may, v.Allowed, name)
		require.Equal(t, c.may, v.Why == "", name)
	}
}
