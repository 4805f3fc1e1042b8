package e2e

import (
	"net/http"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"kestrel/internal/api"
)

// Mistakes are found by the recovery site and told at both, and are gone when they are
// mended: what stops a group from recovering is what would refuse to start it.
func TestWouldItRecover(t *testing.T) {
	t.Parallel()
	w := paired(t)
	g := w.protect("Ticketing", promise(600, 300), "tick-db")
	w.eventually("it is sealed", func() bool { return len(w.recovery.points(g.ID)) > 0 })
	says := func(s *siteProc) api.GroupReadiness {
		return must[api.GroupReadiness](s, http.MethodGet, "/groups/"+g.ID+"/readiness", nil)
	}
	has := func(v api.GroupReadiness, part string) bool {
		for _, f := range v.Findings {
			if strings.Contains(f.What, part) {
				return true
			}
		}
		return false
	}
	found := func(part string, stops bool) {
		t.Helper()
		for _, s := range []*siteProc{w.recovery, w.home} {
			w.eventually(s.name+" says: "+part, func() bool {
				v := says(s)
				return v.Known && has(v, part) && (!stops || !v.Ready)
			})
		}
	}
	found("No platform is chosen", true)
	must[api.Platform](w.recovery, http.MethodPost, "/platforms", api.NewPlatform{Name: "mole", Kind: "lab", Address: w.lab.url, User: new("lab"), Password: new("lab-password")})
	found("mole has a machine tick-db already", true)
	must[api.BerthView](w.recovery, http.MethodPut, "/groups/"+g.ID+"/berth", api.WriteBerth{Berth: api.Berth{Name: new("{name}-em"), Datastore: new("slow")}})
	for _, s := range []*siteProc{w.recovery, w.home} {
		w.eventually(s.name+" says that it would recover", func() bool { v := says(s); return v.Known && v.Ready })
	}
	require.True(t, has(says(w.home), "has no live network"), "a warning stays")
	all := must[api.SiteReadiness](w.home, http.MethodGet, "/readiness", nil)
	require.Equal(t, []int{1, 1, 0}, []int{all.Groups, all.Ready, all.Unknown})

	w.recovery.kill()
	w.eventually("home does not know any more", func() bool { v := says(w.home); return !v.Known && v.At != nil })
	w.recovery.start()
	w.eventually("and knows again", func() bool { return says(w.home).Known })
}
