package site_test

import (
	"bytes"
	"encoding/json"
	"fmt"
	"io"
	"log/slog"
	"net/http"
	"net/http/httptest"
	"strings"
	"sync"
	"testing"
	"testing/fstest"
	"time"

	"github.com/stretchr/testify/require"

	"kestrel/internal/api"
	"kestrel/internal/clock"
	"kestrel/internal/httpapi"
	"kestrel/internal/problem"
	"kestrel/internal/records"
	"kestrel/internal/site"
)

// client asks a site over HTTP, as one person or token.
type client struct {
	t      *testing.T
	url    string
	secret string
}

// console serves a site's API and makes its first administrator.
func console(t *testing.T, s *site.Site) client {
	t.Helper()
	srv := httptest.NewServer(httpapi.New(s.Rooms(), fstest.MapFS{}, httpapi.Door{Secure: true, Hosts: []string{"norhaven.skerry.example"}}, slog.New(slog.DiscardHandler)))
	t.Cleanup(srv.Close)
	return client{t: t, url: srv.URL}
}

func (c client) as(secret string) client { c.secret = secret; return c }

// ask sends a request; what comes back is decoded into out, if that is given.
func (c client) ask(method, path string, in, out any, headers ...string) (int, http.Header, string) {
	c.t.Helper()
	var body io.Reader
	if in != nil {
		b, err := json.Marshal(in)
		require.NoError(c.t, err)
		body = bytes.NewReader(b)
	}
	r, err := http.NewRequestWithContext(ctx, method, c.url+"/api/v1"+path, body)
	require.NoError(c.t, err)
	if in != nil {
		r.Header.Set("Content-Type", "application/json")
	}
	if c.secret != "" {
		r.Header.Set("Authorization", "Bearer "+c.secret)
	}
	for i := 0; i+1 < len(headers); i += 2 {
		r.Header.Set(headers[i], headers[i+1])
	}
	res, err := http.DefaultClient.Do(r)
	require.NoError(c.t, err)
	defer func() { require.NoError(c.t, res.Body.Close()) }()
	b, err := io.ReadAll(res.Body)
	require.NoError(c.t, err)
	if out != nil {
		require.Less(c.t, res.StatusCode, 300, "%s %s: %s", method, path, b)
		require.NoError(c.t, json.Unmarshal(b, out))
	}
	return res.StatusCode, res.Header, string(b)
}

const password = "a long enough password"

// join makes a person of the site and gives a token of theirs.
func join(t *testing.T, s *site.Site, name, role string, tags ...string) string {
	t.Helper()
	in, err := s.Access.InvitePerson(ctx, admin, api.NewPerson{Role: role, Tags: &tags})
	require.NoError(t, err)
	_, once, _ := strings.Cut(in.Link, "#")
	who, _, err := s.Access.Welcome(ctx, api.Welcome{Name: name, Password: password, Token: once}, "192.0.2.7")
	require.NoError(t, err)
	tok, err := s.Access.CreateToken(ctx, who, api.NewToken{Name: name + " tool", Days: 90}, "")
	require.NoError(t, err)
	return tok.Secret
}

func statusOf(t *testing.T, err error) int {
	t.Helper()
	p, ok := problem.Of(err)
	require.True(t, ok, "%v", err)
	return p.Status
}

// What people may do over HTTP follows from their role, and which groups they see
// from their tags; stale edits are refused with what changed.
func TestOverHTTP(t *testing.T) {
	home, recovery := start(t, "Norhaven", clock.Wall{}), start(t, "Eastmole", clock.Wall{})
	pair(t, home, recovery, "db", "app")
	a := protect(t, home, api.NewGroup{Name: "Ticketing", Machines: []string{"db"}, Promise: promise(300, 60, 3600), Tags: &[]string{"gold"}})
	b := protect(t, home, api.NewGroup{Name: "Bakery", Machines: []string{"app"}, Promise: promise(300, 60, 3600)})
	c := console(t, home)
	root := c.as(join(t, home, "anna", "administrator"))
	viewer, limited := c.as(join(t, home, "vera", "viewer")), c.as(join(t, home, "olaf", "operator", "gold"))

	// Nobody, and a viewer.
	code, _, body := c.ask("GET", "/groups", nil, nil)
	require.Equal(t, 401, code)
	require.NotContains(t, body, "Ticketing")
	var gs []api.Group
	viewer.ask("GET", "/groups", nil, &gs)
	require.Len(t, gs, 2)
	code, _, body = viewer.ask("POST", "/groups/"+a.ID+"/pause", map[string]any{}, nil)
	require.Equal(t, 403, code)
	require.Contains(t, body, "viewer")

	// One who is limited to a tag sees and moves only that, and cannot tell that there
	// is more.
	limited.ask("GET", "/groups", nil, &gs)
	require.Len(t, gs, 1)
	require.Equal(t, "Ticketing", gs[0].Name)
	code, _, body = limited.ask("POST", "/groups/"+b.ID+"/pause", map[string]any{}, nil)
	none, _, nobody := limited.ask("POST", "/groups/"+admin.Name+"/pause", map[string]any{}, nil)
	require.Equal(t, []int{404, 404}, []int{code, none}, "%s %s", body, nobody)
	code, _, _ = limited.ask("GET", "/points?group="+b.ID, nil, nil)
	require.Equal(t, 404, code)
	code, _, body = limited.ask("POST", "/groups/"+a.ID+"/pause", map[string]any{"forSeconds": 3600, "reason": "dredging"}, nil)
	require.Less(t, code, 300, body)
	code, _, _ = limited.ask("PATCH", "/groups/"+a.ID, map[string]any{"priority": "high"}, nil)
	require.Equal(t, 403, code, "an operator edits nothing")
	code, _, _ = limited.ask("POST", "/groups/"+a.ID+"/resume", nil, nil)
	require.Less(t, code, 300)

	// A form that was opened before another's edit is told what changed.
	var g api.Group
	_, h, _ := root.ask("GET", "/groups/"+a.ID, nil, &g)
	tag := h.Get("ETag")
	require.NotEmpty(t, tag)
	code, _, body = root.ask("PATCH", "/groups/"+a.ID, map[string]any{"priority": "high"}, nil, "If-Match", tag)
	require.Equal(t, 200, code, body)
	code, _, body = root.ask("PATCH", "/groups/"+a.ID, map[string]any{"priority": "low"}, nil, "If-Match", tag)
	require.Equal(t, 412, code)
	require.Contains(t, body, "anna")
	require.Contains(t, body, "priority: normal → high")
	root.ask("GET", "/groups/"+a.ID, nil, &g)
	require.Equal(t, "high", string(g.Priority))

	// What nobody knows is refused, wherever it stands.
	for _, bad := range []struct{ method, path, body string }{{"GET", "/groups?colour=blue", ""}, {"PATCH", "/groups/" + a.ID, `{"colour":"blue"}`}, {"PATCH", "/points/" + listed(t, home, a.ID)[0].ID, `{}`}} {
		var in any
		if bad.body != "" {
			in = json.RawMessage(bad.body)
		}
		code, _, body = root.ask(bad.method, bad.path, in, nil)
		require.True(t, code == 400 || code == 422, "%s %s: %d %s", bad.method, bad.path, code, body)
	}

	// Lists are paged.
	var ps []api.Point
	_, h, _ = root.ask("GET", "/points?limit=1", nil, &ps)
	require.Len(t, ps, 1)
	require.NotEmpty(t, h.Get("X-Total-Count"))
}

// A flood of sign-ins takes two hashes' memory and no more, guesses are slowed down
// whatever stands around the name, and no name imitates another.
func TestAttacksOnSigningIn(t *testing.T) {
	// However long a hash takes here, no time passes in which tries come back.
	s := start(t, "Norhaven", still{at: time.Now()})
	join(t, s, "anna", "administrator")
	codes := map[int]int{}
	for _, name := range []string{"anna", " anna", "anna ", "  ANNA", "\tanna", "anna", "Anna"} {
		_, _, err := s.Access.SignIn(ctx, api.SignIn{Name: name, Password: "guess"}, "192.0.2.9")
		codes[statusOf(t, err)]++
	}
	require.Equal(t, map[int]int{401: 5, 429: 2}, codes, "spaces and case give no new tries")

	var mu sync.Mutex
	var wg sync.WaitGroup
	codes = map[int]int{}
	for i := range 32 {
		wg.Go(func() {
			_, _, err := s.Access.SignIn(ctx, api.SignIn{Name: fmt.Sprint("stranger ", i), Password: "guess"}, "192.0.2.9")
			mu.Lock()
			defer mu.Unlock()
			codes[statusOf(t, err)]++
		})
	}
	wg.Wait()
	require.Equal(t, 32, codes[401]+codes[503], "%v", codes)
	require.Positive(t, codes[401])

	for _, name := range []string{"anna", "ANNA ", "service", "anna (token)", "Eastmole:anna", "an\u202ena", "an\nna", "", strings.Repeat("x", 61)} {
		link, err := s.Access.InvitePerson(ctx, admin, api.NewPerson{Role: "viewer"})
		require.NoError(t, err)
		_, once, _ := strings.Cut(link.Link, "#")
		_, _, err = s.Access.Welcome(ctx, api.Welcome{Name: name, Password: password, Token: once}, "")
		if name == "service" && err == nil {
			continue // told apart by its kind
		}
		require.Error(t, err, "%q", name)
		require.Equal(t, 422, statusOf(t, err), "%q", name)
	}
}

// A token may never do more than its person may now, the last administrator stays,
// and who is removed is out at once.
func TestRolesHoldAtOnce(t *testing.T) {
	s := start(t, "Norhaven", clock.Wall{})
	anna, olaf := join(t, s, "anna", "administrator"), join(t, s, "olaf", "operator", "gold", "silver")
	who, err := s.Access.WhoIs(ctx, olaf, "")
	require.NoError(t, err)
	require.Equal(t, "operator", string(who.Role))
	_, err = s.Access.CreateToken(ctx, who, api.NewToken{Name: "more", Role: new("administrator"), Days: 1}, "")
	require.Equal(t, 422, statusOf(t, err))
	wide, err := s.Access.CreateToken(ctx, who, api.NewToken{Name: "wide", Tags: &[]string{"bronze"}, Days: 1}, olaf)
	require.NoError(t, err)
	other, err := s.Access.WhoIs(ctx, wide.Secret, "")
	require.NoError(t, err)
	require.False(t, other.Sees([]string{"bronze"}), "a token sees nothing that its person does not")

	_, err = s.Access.EditPerson(ctx, admin, "olaf", api.EditPerson{Role: new("viewer"), Tags: &[]string{"silver"}})
	require.NoError(t, err)
	who, err = s.Access.WhoIs(ctx, olaf, "")
	require.NoError(t, err)
	require.Equal(t, "viewer", string(who.Role))
	require.True(t, who.Sees([]string{"silver"}))
	require.False(t, who.Sees([]string{"gold"}))

	_, err = s.Access.EditPerson(ctx, admin, "anna", api.EditPerson{Role: new("viewer")})
	require.Equal(t, 409, statusOf(t, err), "nobody would be left")
	require.Equal(t, 409, statusOf(t, s.Access.DeletePerson(ctx, admin, "anna")))
	require.NoError(t, s.Access.DeletePerson(ctx, admin, "olaf"))
	_, err = s.Access.WhoIs(ctx, olaf, "")
	require.Equal(t, 401, statusOf(t, err))
	_, err = s.Access.WhoIs(ctx, anna, "")
	require.NoError(t, err)
}

// Who tries somebody's name from elsewhere locks nobody out but themselves, and what
// fails is told of, not once for each try.
func TestStrangersLockNobodyOut(t *testing.T) {
	s := start(t, "Norhaven", still{at: time.Now()})
	join(t, s, "anna", "administrator")
	codes := map[int]int{}
	for range 20 {
		_, _, err := s.Access.SignIn(ctx, api.SignIn{Name: "anna", Password: "guess"}, "192.0.2.66")
		codes[statusOf(t, err)]++
	}
	require.Equal(t, map[int]int{401: 5, 429: 15}, codes)
	anna, secret, err := s.Access.SignIn(ctx, api.SignIn{Name: "anna", Password: password}, "192.0.2.7")
	require.NoError(t, err, "she comes from where she always does")
	require.NoError(t, s.Access.SignOut(ctx, anna, secret))
	lines, err := s.Trail.Lines(ctx, records.Sought{Limit: 50})
	require.NoError(t, err)
	var told []string
	for _, l := range lines {
		told = append(told, l.Text+" "+l.Origin)
	}
	all := strings.Join(told, "\n")
	require.Contains(t, all, `1 sign-in from 192.0.2.66 failed, the last as "anna" 192.0.2.66`)
	require.Equal(t, 1, strings.Count(all, "failed"))
	require.Contains(t, all, "anna signed out 192.0.2.7")
}

// What somebody was refused is told of, by their name.
func TestRefusalsAreTold(t *testing.T) {
	s := start(t, "Norhaven", clock.Wall{})
	c := console(t, s).as(join(t, s, "olaf", "viewer"))
	for range 15 {
		status, _, _ := c.ask(http.MethodPost, "/invitations", api.NewInvitation{}, nil)
		require.Equal(t, http.StatusForbidden, status)
	}
	status, _, _ := c.ask(http.MethodGet, "/people", nil, nil)
	require.Equal(t, http.StatusForbidden, status, "looking is not told of")
	lines, err := s.Trail.Lines(ctx, records.Sought{Limit: 50, Text: "was refused"})
	require.NoError(t, err)
	require.GreaterOrEqual(t, len(lines), 10)
	require.Less(t, len(lines), 15)
	require.Contains(t, lines[0].Text, "olaf")
	require.Contains(t, lines[0].Text, "CreateInvitation")
	require.Equal(t, "token", lines[0].Actor)
}
