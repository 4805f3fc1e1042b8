package signon_test

import (
	"strings"
	"testing"

	"kestrel/internal/core/actor"
	"kestrel/internal/signon"
)

// What is read as a grant gives a role that there is, to a group that is named.
func FuzzParseGrant(f *testing.F) {
	for _, s := range []string{"ferries=viewer", "CN=night watch,OU=skerry=operator:gold, sea", "=viewer", "a=b=c", "x=viewer:"} {
		f.Add(s)
	}
	f.Fuzz(func(t *testing.T, text string) {
		g, err := signon.ParseGrant(text)
		if err != nil {
			return
		}
		if g.Group == "" || g.Role.Rank() < 0 || !strings.HasPrefix(text, g.Group+"=") {
			t.Errorf("%q is read as %+v", text, g)
		}
		role, _, ok := actor.Granted([]actor.Grant{g}, []string{g.Group})
		if !ok || role != g.Role {
			t.Errorf("%q grants nothing", text)
		}
	})
}
