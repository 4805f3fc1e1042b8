package e2e

import (
	"net/http"
	"testing"

	"github.com/stretchr/testify/require"

	"kestrel/internal/api"
)

// What an administrator decides of a link holds for what is sent from then on,
// outlasts a restart, and changes nothing of what points hold.
func TestCompressionAndLimitOfALink(t *testing.T) {
	t.Parallel()
	w := paired(t)
	edit := func(in api.EditLink) api.Link { return must[api.Link](w.home, http.MethodPatch, "/links/Eastmole", in) }
	wire := map[string]float64{}
	machines := map[string]string{"s2": "tick-db", "zstd": "tick-app", "off": "tick-web"}
	for _, how := range []string{"s2", "zstd", "off"} {
		require.Equal(t, how, edit(api.EditLink{Compression: &how}).Compression)
		g := w.protect(how, promise(3600, 0), machines[how])
		c := *w.home.group(g.ID).LastCycle
		require.Positive(t, c.ShippedBytes)
		wire[how] = float64(c.WireBytes) / float64(c.ShippedBytes)
		w.eventually("its source is known, and it is the same", func() bool { return w.served(w.recovery.points(g.ID)[0]) > 0 })
	}
	require.Less(t, wire["s2"], 0.95)
	require.Less(t, wire["zstd"], wire["s2"])
	require.InDelta(t, 1, wire["off"], 0.01)

	// A window that always holds, before the limit outside of it.
	windows := []api.RateWindow{{Days: "daily", From: "00:00", To: "24:00", BytesPerSecond: 1 << 20}}
	l := edit(api.EditLink{LimitBytesPerSecond: new(int64(8 << 20)), Windows: &windows})
	require.Equal(t, windows, l.Windows)
	require.EqualValues(t, 1<<20, l.LimitNowBytesPerSecond)
	w.home.kill()
	w.home.start()
	var after api.Link
	for _, x := range must[[]api.Link](w.home, http.MethodGet, "/links", nil) {
		after = x
	}
	require.Equal(t, l.Windows, after.Windows)
	require.Equal(t, l.LimitBytesPerSecond, after.LimitBytesPerSecond)
	require.Equal(t, "off", after.Compression)
	g := must[api.Group](w.home, http.MethodPost, "/groups", api.NewGroup{Name: "Slow", Machines: []string{"spare"}, Link: "Eastmole", Promise: promised(3600, 0), Priority: new("low")})
	require.Equal(t, "low", g.Priority)
	w.eventually("it is sealed", func() bool { c := w.home.group(g.ID).LastCycle; return c != nil && c.State == "sealed" })
	c := *w.home.group(g.ID).LastCycle
	require.GreaterOrEqual(t, c.EndedAt.Sub(c.StartedAt).Seconds(), float64(c.WireBytes)/(1<<20)-0.2)
	require.Equal(t, "high", must[api.Group](w.home, http.MethodPatch, "/groups/"+g.ID, api.GroupPatch{Priority: new("high")}).Priority)
}
