package e2e

import (
	"net/http"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"kestrel/internal/api"
)

// A store without room takes no blocks, says so at both sites, still gives room
// back, and goes on by itself when there is some: nothing is sent twice or lost.
func TestCyclesWaitForRoom(t *testing.T) {
	t.Parallel()
	w := paired(t)
	g := w.protect("Ticketing", promise(3600, 0), "tick-db")
	other := w.protect("Rota", promise(3600, 0), "slow")
	floor := func(size string) {
		w.recovery.kill()
		w.recovery.extra = append(w.recovery.extra[:0:0], "--store-floor", size)
		w.recovery.start()
	}
	floor("900PiB")
	require.True(t, must[api.Store](w.recovery, http.MethodGet, "/store", nil).Full)
	w.eventually("the link is up and the cycle starts", func() bool {
		_, p := call[api.Group](w.home, http.MethodPost, "/groups/"+g.ID+"/run", nil)
		return p == nil
	})
	w.eventually("the home site says why", func() bool {
		return strings.Contains(strings.Join(w.home.group(g.ID).Reasons, " "), "are to stay free")
	})
	require.Len(t, w.recovery.points(g.ID), 1)
	w.served(w.recovery.points(g.ID)[0]) // what is sealed stays readable
	before := must[api.Store](w.recovery, http.MethodGet, "/store", nil).PackBytes
	_, p := call[struct{}](w.home, http.MethodDelete, "/groups/"+other.ID+"?points=delete", nil)
	require.Nil(t, p)
	w.eventually("room is given back all the same", func() bool {
		op := must[api.Operation](w.recovery, http.MethodPost, "/store/sweep", nil)
		w.eventually("the sweep ends", func() bool {
			op = must[api.Operation](w.recovery, http.MethodGet, "/operations/"+op.ID, nil)
			return op.State != api.OperationStateRunning
		})
		require.Equal(t, api.OperationStateDone, op.State, "%v", op.Message)
		return must[api.Store](w.recovery, http.MethodGet, "/store", nil).PackBytes < before
	})
	floor("64MiB")
	w.eventually("the cycle goes on by itself", func() bool { return len(w.recovery.points(g.ID)) == 2 })
	w.eventually("it has ended", func() bool { return w.home.group(g.ID).Running == nil })
	require.Positive(t, w.served(w.recovery.points(g.ID)[0]))
}
