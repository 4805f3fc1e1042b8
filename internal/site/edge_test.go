package site_test

import (
	"fmt"
	"io"
	"log/slog"
	"net/http"
	"net/http/httptest"
	"net/url"
	"strconv"
	"strings"
	"testing"
	"time"

	"github.com/google/uuid"
	"github.com/stretchr/testify/require"

	"kestrel/internal/api"
	"kestrel/internal/clock"
	"kestrel/internal/reach"
	"kestrel/internal/site"
	"kestrel/internal/support/pgcluster"
)

// send sends what ask cannot: another host's name, another kind of body.
func (c client) send(method, path, body string, change func(r *http.Request)) *http.Response {
	c.t.Helper()
	r, err := http.NewRequestWithContext(ctx, method, c.url+path, strings.NewReader(body))
	require.NoError(c.t, err)
	r.Header.Set("Content-Type", "application/json")
	if c.secret != "" {
		r.Header.Set("Authorization", "Bearer "+c.secret)
	}
	if change != nil {
		change(r)
	}
	res, err := http.DefaultClient.Do(r)
	require.NoError(c.t, err)
	c.t.Cleanup(func() { _ = res.Body.Close() })
	return res
}

// What a request is refused for before anything of it is looked at.
func TestTheEdge(t *testing.T) {
	s := start(t, "Norhaven", clock.Wall{})
	c := console(t, s).as(join(t, s, "anna", "administrator"))
	for name, x := range map[string]struct {
		want   int
		method string
		path   string
		body   string
		change func(r *http.Request)
	}{
		"another site's name":    {http.StatusMisdirectedRequest, http.MethodGet, "/api/v1/groups", "", func(r *http.Request) { r.Host = "evil.example" }},
		"this host's name":       {http.StatusOK, http.MethodGet, "/api/v1/groups", "", func(r *http.Request) { r.Host = "NORHAVEN.skerry.example:7410" }},
		"a form":                 {http.StatusUnsupportedMediaType, http.MethodPost, "/api/v1/forecast", "a=b", func(r *http.Request) { r.Header.Set("Content-Type", "application/x-www-form-urlencoded") }},
		"no kind":                {http.StatusUnsupportedMediaType, http.MethodPost, "/api/v1/forecast", "{}", func(r *http.Request) { r.Header.Del("Content-Type") }},
		"JSON":                   {http.StatusOK, http.MethodPost, "/api/v1/forecast", "{}", func(r *http.Request) { r.Header.Set("Content-Type", "application/json; charset=utf-8") }},
		"NUL in the path":        {http.StatusBadRequest, http.MethodGet, "/api/v1/groups/a%00b", "", nil},
		"no UTF-8 in the query":  {http.StatusBadRequest, http.MethodGet, "/api/v1/activity?q=%ff", "", nil},
		"an escape in a text":    {http.StatusUnprocessableEntity, http.MethodPost, "/api/v1/forecast", `{"name":"\u001b[2J"}`, nil},
		"a mark that turns text": {http.StatusUnprocessableEntity, http.MethodPost, "/api/v1/forecast", `{"machines":["a","\u202eb"]}`, nil},
		"a UUID in another form": {http.StatusNotFound, http.MethodGet, "/api/v1/points/urn:uuid:11111111-1111-4111-8111-111111111111", "", nil},
	} {
		require.Equal(t, x.want, c.send(x.method, x.path, x.body, x.change).StatusCode, name)
	}
	res := c.send(http.MethodGet, "/api/v1/groups", "", nil)
	require.Equal(t, "no-store", res.Header.Get("Cache-Control"))
	require.NotEmpty(t, res.Header.Get("Strict-Transport-Security"))
	res = c.send(http.MethodPost, "/api/v1/session", `{"name":"anna","password":"`+password+`"}`, nil)
	require.Equal(t, http.StatusOK, res.StatusCode)
	in := res.Cookies()[0]
	require.True(t, in.Secure && in.HttpOnly && in.SameSite == http.SameSiteStrictMode)
	c.secret = ""
	res = c.send(http.MethodDelete, "/api/v1/session", "", func(r *http.Request) { r.AddCookie(in) })
	require.Equal(t, http.StatusNoContent, res.StatusCode)
	out := res.Cookies()[0]
	require.True(t, out.Secure && out.HttpOnly && out.SameSite == http.SameSiteStrictMode && out.MaxAge < 0)
}

// Who has no link learns no names from where people are welcomed.
func TestWelcomeTellsNoNames(t *testing.T) {
	s := start(t, "Norhaven", clock.Wall{})
	join(t, s, "anna", "administrator")
	ask := func(name string) string {
		_, _, err := s.Access.Welcome(ctx, api.Welcome{Name: name, Password: password, Token: "guessed"}, "192.0.2.7")
		require.Error(t, err)
		return err.Error()
	}
	require.Equal(t, ask("nobody"), ask("anna"))
}

// While the database is away, requests are told so at once, strangers learn nothing of
// it, and when it is back all goes on.
func TestTheDatabaseIsAway(t *testing.T) {
	pg, dir, stop, err := pgcluster.ForTests(ctx, "away")
	require.NoError(t, err)
	defer func() { stop() }()
	db, err := pg.Database(ctx, "away")
	require.NoError(t, err)
	s, end := startOn(t, "Norhaven", clock.Wall{}, db, t.TempDir())
	defer end()
	c := console(t, s).as(join(t, s, "anna", "administrator"))
	require.Equal(t, http.StatusOK, c.send(http.MethodGet, "/metrics", "", nil).StatusCode)
	u, err := url.Parse(db)
	require.NoError(t, err)
	port, err := strconv.Atoi(u.Port())
	require.NoError(t, err)
	require.NoError(t, pg.Stop())
	for _, path := range []string{"/groups", "/activity", "/points", "/people"} {
		status, h, text := c.ask(http.MethodGet, path, nil, nil)
		require.Equal(t, http.StatusServiceUnavailable, status, "%s: %s", path, text)
		require.Contains(t, text, "The database does not answer")
		require.NotEmpty(t, h.Get("Retry-After"))
	}
	res := c.send(http.MethodGet, "/readyz", "", nil)
	require.Equal(t, http.StatusServiceUnavailable, res.StatusCode)
	b, err := io.ReadAll(res.Body)
	require.NoError(t, err)
	require.NotContains(t, string(b), "127.0.0.1")
	require.NotContains(t, string(b), "postgres")
	require.Equal(t, http.StatusOK, c.send(http.MethodGet, "/healthz", "", nil).StatusCode)
	require.Equal(t, http.StatusOK, c.send(http.MethodGet, "/metrics", "", nil).StatusCode, "who was known a moment ago may still watch")
	require.Equal(t, http.StatusServiceUnavailable, c.as("guessed").send(http.MethodGet, "/metrics", "", nil).StatusCode)
	again, err := pgcluster.Start(ctx, dir+"/pg", port, "fsync=off")
	require.NoError(t, err)
	was := stop
	stop = func() { _ = again.Stop(); was() }
	require.Eventually(t, func() bool {
		status, _, _ := c.ask(http.MethodGet, "/groups", nil, nil)
		return status == http.StatusOK
	}, patience, 50*time.Millisecond)
}

// A site that may connect to some networks only connects nowhere else, whoever names the
// address.
func TestASiteConnectsWhereItMay(t *testing.T) {
	db, err := cluster.Database(ctx, "s"+strings.ReplaceAll(uuid.NewString(), "-", ""))
	require.NoError(t, err)
	within, err := reach.Parse([]string{"192.0.2.0/24"})
	require.NoError(t, err)
	s, err := site.New(ctx, site.Config{Name: "Norhaven", StateDir: t.TempDir(), DatabaseURL: db, LinkListen: "127.0.0.1:0", NBDListen: "127.0.0.1:0", StoreFloor: 1 << 20, Clock: clock.Wall{}, Log: slog.New(slog.DiscardHandler), Within: within})
	require.NoError(t, err)
	t.Cleanup(func() { require.NoError(t, s.Close()) })
	asked := 0
	local := httptest.NewServer(http.HandlerFunc(func(http.ResponseWriter, *http.Request) { asked++ }))
	t.Cleanup(local.Close)
	v, err := s.Inventory.Test(ctx, api.NewPlatform{Name: "lab", Kind: "lab", Address: local.URL, User: new("lab"), Password: new("x")})
	require.NoError(t, err)
	require.False(t, v.Ok)
	require.Contains(t, fmt.Sprint(v.Steps), "may connect to")
	v, err = s.Inventory.Test(ctx, api.NewPlatform{Name: "hosts", Kind: "libvirt", Address: "qemu+tcp://127.0.0.1/session"})
	require.NoError(t, err)
	require.False(t, v.Ok)
	require.Contains(t, fmt.Sprint(v.Steps), "may connect to")
	other := start(t, "Eastmole", clock.Wall{})
	inv, err := other.Peering.Invite(ctx, admin, api.NewInvitation{})
	require.NoError(t, err)
	_, err = s.Peering.Accept(ctx, admin, api.AcceptInvitation{Invitation: inv.Text})
	require.ErrorContains(t, err, "may connect to")
	require.Zero(t, asked)
}
