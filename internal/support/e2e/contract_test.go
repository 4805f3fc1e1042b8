package e2e

import (
	"bufio"
	"context"
	"encoding/json"
	"io"
	"net/http"
	"os"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
	"go.yaml.in/yaml/v3"

	"kestrel/internal/api"
)

// Every operation of the contract, and nothing else below /api/v1, is served,
// and every one but signing in wants a session or token.
func TestEveryOperationIsGuarded(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	b, err := os.ReadFile("../../../api/openapi.yaml")
	require.NoError(t, err)
	var doc struct {
		Paths map[string]map[string]yaml.Node `yaml:"paths"`
	}
	require.NoError(t, yaml.Unmarshal(b, &doc))
	n, public := 0, []string{}
	for path, ops := range doc.Paths {
		for method, op := range ops {
			if method == "parameters" {
				continue
			}
			n++
			real := strings.NewReplacer("{id}", "00000000-0000-0000-0000-000000000000").Replace(path)
			var says struct {
				Security *[]any `yaml:"security"`
			}
			require.NoError(t, op.Decode(&says))
			if says.Security != nil {
				public = append(public, method+" "+path)
				continue
			}
			res := w.home.raw(strings.ToUpper(method), real, "", nil)
			_ = res.Body.Close()
			require.Equal(t, http.StatusUnauthorized, res.StatusCode, "%s %s", method, path)
			if path == "/events" {
				continue
			}
			res = w.home.raw(strings.ToUpper(method), real, w.home.token, "{}")
			_ = res.Body.Close()
			require.NotContains(t, []int{http.StatusUnauthorized, http.StatusMethodNotAllowed, http.StatusInternalServerError}, res.StatusCode, "%s %s", method, path)
		}
	}
	require.Greater(t, n, 40)
	require.ElementsMatch(t, []string{"post /session", "post /welcome", "get /session/ways", "post /session/passkey", "post /session/passkey/begin"}, public, "who may ask without being known")
	res := w.home.raw(http.MethodGet, "/no/such/thing", w.home.token, nil)
	require.Equal(t, http.StatusNotFound, res.StatusCode)
	require.Equal(t, "application/problem+json", res.Header.Get("Content-Type"))
	served, err := http.Get(w.home.url + "/api/openapi.yaml")
	require.NoError(t, err)
	text, err := io.ReadAll(served.Body)
	require.NoError(t, err)
	require.Equal(t, string(b), string(text))
	require.Contains(t, served.Header.Get("Content-Security-Policy"), "default-src 'self'")
}

// Clients are told of changes as they happen, and the figures for monitoring
// agree with the API.
func TestEventsAndMetrics(t *testing.T) {
	t.Parallel()
	w := paired(t)
	ctx, cancel := context.WithTimeout(context.Background(), 30*time.Second)
	defer cancel()
	ask := func(path string) *http.Response {
		req, err := http.NewRequestWithContext(ctx, http.MethodGet, w.home.url+path, nil)
		require.NoError(t, err)
		req.Header.Set("Authorization", "Bearer "+w.home.token)
		res, err := http.DefaultClient.Do(req)
		require.NoError(t, err)
		return res
	}
	stream := ask("/api/v1/events")
	defer func() { _ = stream.Body.Close() }()
	require.Equal(t, "text/event-stream", stream.Header.Get("Content-Type"))
	seen := make(chan string, 1000)
	go func() {
		defer close(seen)
		for sc := bufio.NewScanner(stream.Body); sc.Scan(); {
			if data, ok := strings.CutPrefix(sc.Text(), "data: "); ok {
				var e struct{ Type string }
				if json.Unmarshal([]byte(data), &e) == nil {
					seen <- e.Type
				}
			}
		}
	}()
	g := w.protect("Ticketing", promise(600, 0), "tick-db")
	want := map[string]bool{"group": true, "point": true, "activity": true}
	for kind := range seen {
		delete(want, kind)
		if len(want) == 0 {
			break
		}
	}
	require.Empty(t, want, "events of these kinds came")
	b, err := io.ReadAll(ask("/metrics").Body)
	require.NoError(t, err)
	for _, line := range []string{`kestrel_group_rpo_target_seconds{direction="out",group="Ticketing"} 600`, `kestrel_group_points{direction="out",group="Ticketing"} 1`,
		`kestrel_group_health{direction="out",group="Ticketing",health="on target"} 1`, `kestrel_link_up{peer="Eastmole"} 1`} {
		require.Contains(t, string(b), line)
	}
	// The forecast of an edit agrees with the arithmetic.
	f := must[api.Forecast](w.home, http.MethodPost, "/forecast", api.ForecastRequest{Group: &g.ID, Promise: changed(600, 60)})
	require.Equal(t, 61, f.Points)
	require.Len(t, f.Starts, 5)
	require.Equal(t, time.Minute, f.Starts[1].At.Sub(f.Starts[0].At))
	require.Empty(t, f.Faults)
	f = must[api.Forecast](w.home, http.MethodPost, "/forecast", api.ForecastRequest{Promise: changed(60, 60), Machines: &[]string{"bare"}})
	require.Len(t, f.Faults, 2)
	require.Zero(t, f.Points, "no numbers from a promise that cannot be kept")
}
