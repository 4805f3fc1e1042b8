package e2e

import (
	"net/http"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"kestrel/internal/api"
)

// A group that keeps points at home as well: each cycle seals at both, home's
// points are whole and follow the ladder; what goes wrong with home's store does
// not hold up the recovery site; and home's points may outlast the group.
func TestPointsAreKeptAtHomeToo(t *testing.T) {
	t.Parallel()
	w := paired(t)
	g := w.protect("Ticketing", promise(3600, 0), "tick-db", "tick-app")
	split := func() (here, there []api.Point) {
		for _, p := range w.home.points(g.ID) {
			if p.Held {
				here = append(here, p)
			} else {
				there = append(there, p)
			}
		}
		return here, there
	}
	run := func(far, near int) {
		t.Helper()
		w.eventually("a cycle can be run", func() bool {
			_, p := call[api.Group](w.home, http.MethodPost, "/groups/"+g.ID+"/run", nil)
			return p == nil
		})
		w.eventually("a point is sealed", func() bool {
			here, there := split()
			return len(there) == far && len(here) == near && w.home.group(g.ID).Running == nil
		})
	}
	here, there := split()
	require.Empty(t, here)
	require.Len(t, there, 1)
	require.True(t, must[api.Group](w.home, http.MethodPatch, "/groups/"+g.ID, api.GroupPatch{HomePoints: new(true)}).HomePoints)
	run(2, 1)
	cycles := func() []api.Cycle { return must[[]api.Cycle](w.home, http.MethodGet, "/groups/"+g.ID+"/cycles", nil) }
	require.Equal(t, "compare", cycles()[0].Kind, "home has nothing to count changes from yet")
	run(3, 2)
	require.Equal(t, "changes", cycles()[0].Kind)
	here, there = split()
	require.Equal(t, there[0].CaptureAt, here[0].CaptureAt)
	require.True(t, here[0].Newest && there[0].Newest)
	for _, p := range here {
		require.Positive(t, w.servedAt(w.home, p))
	}
	for _, p := range w.recovery.points(g.ID) {
		require.Positive(t, w.served(p))
	}
	w.eventually("the recovery site tells of it", func() bool { return w.recovery.group(g.ID).HomePointCount == 2 })

	// Home's store is full: the recovery site gets its point all the same.
	w.home.kill()
	w.home.extra = append(w.home.extra, "--store-floor", "900PiB")
	w.home.start()
	run(4, 2)
	w.eventually("it says so", func() bool {
		return strings.Contains(strings.Join(w.home.group(g.ID).Reasons, " "), "No points are kept at Norhaven")
	})
	require.Positive(t, w.served(w.recovery.points(g.ID)[0]))
	w.home.kill()
	w.home.extra = append(w.home.extra, "--store-floor", "64MiB")
	w.home.start()
	run(5, 3)
	here, _ = split()
	require.Positive(t, w.servedAt(w.home, here[0]))
	w.eventually("all is well", func() bool { return len(w.home.group(g.ID).Reasons) == 0 })

	_, pr := call[struct{}](w.home, http.MethodDelete, "/points/"+here[2].ID, nil)
	require.Nil(t, pr)
	_, pr = call[struct{}](w.home, http.MethodDelete, "/groups/"+g.ID+"?points=keep", nil)
	require.Nil(t, pr)
	require.Equal(t, api.GroupDirection("ended"), w.home.group(g.ID).Direction)
	require.Positive(t, w.servedAt(w.home, w.home.points(g.ID)[0]))
	w.home.kill()
	w.home.start()
	require.Len(t, w.home.points(g.ID), 2)
	_, pr = call[struct{}](w.home, http.MethodDelete, "/groups/"+g.ID+"?points=delete", nil)
	require.Nil(t, pr)
	require.Zero(t, must[api.Store](w.home, http.MethodGet, "/store", nil).Points)
}
