package site_test

import (
	"log/slog"
	"net/http"
	"net/http/cookiejar"
	"net/http/httptest"
	"net/url"
	"strings"
	"testing"
	"testing/fstest"
	"time"

	"github.com/google/uuid"
	"github.com/stretchr/testify/require"

	"kestrel/internal/api"
	"kestrel/internal/core/actor"
	"kestrel/internal/httpapi"
	"kestrel/internal/records"
	"kestrel/internal/signon"
	"kestrel/internal/site"
	"kestrel/internal/support/provider"
)

// atProvider is a site whose people can sign in at a real provider.
type atProvider struct {
	*site.Site
	t   *testing.T
	p   *provider.Provider
	url string
	clk *moving
}

func startAtProvider(t *testing.T, names ...string) atProvider {
	t.Helper()
	x := atProvider{t: t, clk: &moving{at: time.Now()}}
	var handler http.Handler
	srv := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) { handler.ServeHTTP(w, r) }))
	t.Cleanup(srv.Close)
	x.url = srv.URL
	var err error
	x.p, err = provider.Start(x.url, names...)
	require.NoError(t, err)
	t.Cleanup(x.p.Close)
	db, err := cluster.Database(ctx, "s"+strings.ReplaceAll(uuid.NewString(), "-", ""))
	require.NoError(t, err)
	x.Site, err = site.New(ctx, site.Config{Name: "Norhaven", StateDir: t.TempDir(), DatabaseURL: db, LinkListen: "127.0.0.1:0", NBDListen: "127.0.0.1:0", StoreFloor: 1 << 20, Clock: x.clk, Log: slog.New(slog.DiscardHandler), ConsoleURL: x.url,
		SignOn: signon.Config{Label: "Skerry Line", Issuer: x.p.Issuer, ClientID: provider.ClientID, Secret: provider.ClientSecret, GroupsClaim: "groups",
			Grants: []actor.Grant{{Group: "ferries", Role: actor.Viewer}, {Group: "night watch", Role: actor.Operator, Tags: []string{"gold"}}, {Group: "harbour masters", Role: actor.Administrator}}}})
	require.NoError(t, err)
	t.Cleanup(func() { require.NoError(t, x.Site.Close()) })
	handler = httpapi.New(x.Rooms(), fstest.MapFS{"index.html": {Data: []byte("console")}}, httpapi.Door{}, slog.New(slog.DiscardHandler))
	return x
}

// browser is somebody's, which follows no redirect by itself.
func (x atProvider) browser() *http.Client {
	jar, err := cookiejar.New(nil)
	require.NoError(x.t, err)
	return &http.Client{Jar: jar, CheckRedirect: func(*http.Request, []*http.Request) error { return http.ErrUseLastResponse }}
}

func (x atProvider) get(b *http.Client, at string) *url.URL {
	x.t.Helper()
	r, err := http.NewRequestWithContext(ctx, http.MethodGet, at, nil)
	require.NoError(x.t, err)
	res, err := b.Do(r)
	require.NoError(x.t, err)
	require.NoError(x.t, res.Body.Close())
	require.Equal(x.t, http.StatusSeeOther, res.StatusCode, at)
	to, err := res.Location()
	require.NoError(x.t, err)
	return to
}

// why is what a browser was told of why it was not let in.
func (x atProvider) why(b *http.Client) string {
	x.t.Helper()
	page, err := url.Parse(x.url + "/sign-in")
	require.NoError(x.t, err)
	for _, k := range b.Jar.Cookies(page) {
		if k.Name == "kestrel_refused" {
			text, err := url.PathUnescape(k.Value)
			require.NoError(x.t, err)
			return text
		}
	}
	return ""
}

// signOn goes all the way, and gives where one is in the end, and as whom.
func (x atProvider) signOn(b *http.Client, name, to string) (*url.URL, client) {
	x.t.Helper()
	back, err := x.p.LogIn(ctx, x.get(b, x.url+"/sign-on?to="+url.QueryEscape(to)).String(), name)
	require.NoError(x.t, err)
	end := x.get(b, back.String())
	if end.Path == "/sign-in" {
		require.Equal(x.t, "refused=1", end.RawQuery, "nobody puts words into this site's mouth by a link")
		end.RawQuery = url.Values{"refused": {x.why(b)}}.Encode()
	}
	c := client{t: x.t, url: x.url}
	site, err := url.Parse(x.url)
	require.NoError(x.t, err)
	for _, k := range b.Jar.Cookies(site) {
		if k.Name == "kestrel_session" {
			c = c.as(k.Value)
		}
	}
	return end, c
}

// People sign in at a real provider; their groups there say what they may do here, and
// what has changed there holds from the next sign-in on.
func TestSigningInAtAProvider(t *testing.T) {
	x := startAtProvider(t, "sigrun", "torvald", "liv")
	root := client{t: t, url: x.url}.as(join(t, x.Site, "anna", "administrator"))
	var ways api.SignInWays
	client{t: t, url: x.url}.ask(http.MethodGet, "/session/ways", nil, &ways)
	require.Equal(t, "Skerry Line", *ways.SignOn)

	end, c := x.signOn(x.browser(), "sigrun", "/groups")
	require.Equal(t, "/sign-in", end.Path)
	require.Contains(t, end.Query().Get("refused"), "None of your groups at Skerry Line")
	require.Empty(t, c.secret)

	x.p.SetGroups("id-sigrun", "ferries", "night watch", "knitters")
	end, c = x.signOn(x.browser(), "sigrun", "/groups?q=a")
	require.Equal(t, "/groups?q=a", end.RequestURI())
	var me api.Me
	c.ask(http.MethodGet, "/session", nil, &me)
	require.Equal(t, []any{"sigrun", "operator", []string{"gold"}}, []any{me.Name, me.Role, me.Tags})
	var tool api.TokenSecret
	c.ask(http.MethodPost, "/tokens", api.NewToken{Name: "tool", Days: 30}, &tool)

	// Nothing of how they sign in is settled here, nor what they may do.
	for _, do := range [][2]any{{"/people/sigrun/reset", nil}, {"", api.EditPerson{Role: new("administrator")}}} {
		method, path := http.MethodPost, do[0].(string)
		if path == "" {
			method, path = http.MethodPatch, "/people/sigrun"
		}
		status, _, text := root.ask(method, path, do[1], nil)
		require.Equal(t, http.StatusConflict, status, text)
		require.Contains(t, text, "set there")
	}
	status, _, _ := c.ask(http.MethodPost, "/session/password", api.NewPassword{Old: "", New: "four gulls on the quay"}, nil)
	require.Equal(t, http.StatusConflict, status)
	for _, p := range []string{"", provider.Password} {
		_, _, err := x.Access.SignIn(ctx, api.SignIn{Name: "sigrun", Password: p}, "192.0.2.7")
		require.Equal(t, http.StatusUnauthorized, statusOf(t, err))
	}

	// Less there is less here, also for what is open; who has not been there for long
	// goes on by no token.
	x.p.SetGroups("id-sigrun", "ferries")
	_, next := x.signOn(x.browser(), "sigrun", "/")
	for _, k := range []client{c, next, c.as(tool.Secret)} {
		k.ask(http.MethodGet, "/session", nil, &me)
		require.Equal(t, "viewer", me.Role)
	}
	x.clk.add(8 * 24 * time.Hour)
	status, _, text := c.as(tool.Secret).ask(http.MethodGet, "/groups", nil, nil)
	require.Equal(t, http.StatusForbidden, status)
	require.Contains(t, text, "has not signed in at")
	x.signOn(x.browser(), "sigrun", "/")
	status, _, _ = c.as(tool.Secret).ask(http.MethodGet, "/groups", nil, nil)
	require.Equal(t, http.StatusOK, status)

	// Who is disabled here gets in by no group.
	status, _, text = root.ask(http.MethodPatch, "/people/sigrun", api.EditPerson{Disabled: new(true)}, nil)
	require.Equal(t, http.StatusOK, status, text)
	x.p.SetGroups("id-sigrun", "harbour masters")
	end, _ = x.signOn(x.browser(), "sigrun", "/")
	require.Contains(t, end.Query().Get("refused"), "disabled")

	// Nobody becomes somebody who is here already by being called so.
	join(t, x.Site, "torvald", "viewer")
	x.p.SetGroups("id-torvald", "harbour masters")
	end, c = x.signOn(x.browser(), "torvald", "/")
	require.Contains(t, end.Query().Get("refused"), "another torvald")
	require.Empty(t, c.secret)

	lines, err := x.Trail.Lines(ctx, records.Sought{Text: "sigrun", Limit: 50})
	require.NoError(t, err)
	var all []string
	for _, l := range lines {
		all = append(all, l.Text)
	}
	told := strings.Join(all, "\n")
	for _, want := range []string{"sigrun joined as an operator through Skerry Line", "sigrun signed in through Skerry Line", "The groups of sigrun at Skerry Line have changed them: role operator → viewer, groups tagged gold → all"} {
		require.Contains(t, told, want)
	}
}

// A sign-in that was not begun in the same browser, was answered already or is not what
// was asked for lets nobody in, and leads to no other site.
func TestForgedSignOns(t *testing.T) {
	x := startAtProvider(t, "sigrun", "liv")
	x.p.SetGroups("id-sigrun", "ferries")
	x.p.SetGroups("id-liv", "ferries")
	refused := func(b *http.Client, at string) {
		t.Helper()
		to := x.get(b, at)
		require.Equal(t, "/sign-in", to.Path)
		require.Contains(t, x.why(b), "did not work")
	}
	mine, theirs := x.browser(), x.browser()
	begun := x.get(mine, x.url+"/sign-on")
	require.Equal(t, "S256", begun.Query().Get("code_challenge_method"))
	back, err := x.p.LogIn(ctx, begun.String(), "liv")
	require.NoError(t, err)
	refused(theirs, back.String()) // the code of another's sign-in
	x.get(theirs, x.url+"/sign-on")
	refused(theirs, back.String())
	bare := *back
	bare.RawQuery = url.Values{"code": {back.Query().Get("code")}}.Encode()
	refused(x.browser(), bare.String())
	refused(mine, x.url+"/sign-on/back?error=access_denied")

	begun = x.get(mine, x.url+"/sign-on")
	back, err = x.p.LogIn(ctx, begun.String(), "liv")
	require.NoError(t, err)
	x.clk.add(11 * time.Minute)
	refused(mine, back.String()) // too late

	for _, to := range []string{"//elsewhere.example/", "https://elsewhere.example/", `/\elsewhere.example`} {
		end, _ := x.signOn(x.browser(), "sigrun", to)
		require.Equal(t, "/", end.RequestURI(), to)
		require.True(t, strings.HasPrefix(end.String(), x.url), to)
	}
	x.p.Close()
	y := startAtProvider(t)
	y.p.Close()
	b := y.browser()
	require.Equal(t, "/sign-in", y.get(b, y.url+"/sign-on").Path)
	require.Contains(t, y.why(b), "did not work")
}

func TestGrantsAsTyped(t *testing.T) {
	g, err := signon.ParseGrant("CN=night watch,OU=skerry=operator:gold, sea")
	require.NoError(t, err)
	require.Equal(t, actor.Grant{Group: "CN=night watch,OU=skerry", Role: actor.Operator, Tags: []string{"gold", "sea"}}, g)
	for _, bad := range []string{"", "=viewer", "ferries", "ferries=owner", "ferries=viewer:", "ferries=viewer:two words"} {
		_, err = signon.ParseGrant(bad)
		require.Error(t, err, bad)
	}
}
