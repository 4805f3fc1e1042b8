package site_test

import (
	"io"
	"net/http"
	"strings"
	"testing"
	"time"

	"github.com/google/uuid"
	"github.com/stretchr/testify/require"

	"kestrel/internal/api"
	"kestrel/internal/clock"
	"kestrel/internal/records"
)

// signIn is a client with a session of somebody's.
func signIn(t *testing.T, c client, name, password string) client {
	t.Helper()
	res := c.send(http.MethodPost, "/api/v1/session", `{"name":"`+name+`","password":"`+password+`"}`, nil)
	require.Equal(t, http.StatusOK, res.StatusCode)
	return c.as(res.Cookies()[0].Value)
}

// Somebody who changes their password knows the old one, and is left
// with the session they do it in; their tokens stay.
func TestChangingAPassword(t *testing.T) {
	s := start(t, "Norhaven", clock.Wall{})
	token := join(t, s, "anna", "viewer")
	c := console(t, s)
	one, two := signIn(t, c, "anna", password), signIn(t, c, "anna", password)
	change := func(c client, from, to string) (int, string) {
		status, _, text := c.ask(http.MethodPost, "/session/password", api.NewPassword{Old: from, New: to}, nil)
		return status, text
	}
	const better = "four gulls on the quay"
	status, text := change(one, "a wrong one altogether", better)
	require.Equal(t, http.StatusUnprocessableEntity, status)
	require.Contains(t, text, "not your password")
	status, text = change(one, password, better)
	require.Equal(t, http.StatusNoContent, status, text)
	status, _, _ = one.ask(http.MethodGet, "/session", nil, nil)
	require.Equal(t, http.StatusOK, status, "the session that did it stays")
	status, _, _ = two.ask(http.MethodGet, "/session", nil, nil)
	require.Equal(t, http.StatusUnauthorized, status, "the others end")
	status, _, _ = c.as(token).ask(http.MethodGet, "/session", nil, nil)
	require.Equal(t, http.StatusOK, status)
	_, _, err := s.Access.SignIn(ctx, api.SignIn{Name: "anna", Password: password}, "192.0.2.8")
	require.Equal(t, http.StatusUnauthorized, statusOf(t, err))
	signIn(t, c, "anna", better)
	lines, err := s.Trail.Lines(ctx, records.Sought{Limit: 10, Text: "changed their password"})
	require.NoError(t, err)
	require.Len(t, lines, 1)
}

// Everybody sees and ends sessions of their own, and no others.
func TestOnesOwnSessions(t *testing.T) {
	s := start(t, "Norhaven", clock.Wall{})
	join(t, s, "anna", "administrator")
	join(t, s, "olaf", "viewer", "gold")
	c := console(t, s)
	anna, olaf, other := signIn(t, c, "anna", password), signIn(t, c, "olaf", password), signIn(t, c, "olaf", password)
	list := func(c client) (xs []api.Session) {
		c.ask(http.MethodGet, "/sessions", nil, &xs)
		return xs
	}
	mine := list(olaf)
	require.GreaterOrEqual(t, len(mine), 2)
	current := 0
	for _, x := range mine {
		require.NotNil(t, x.Origin)
		if x.Current {
			current++
		}
	}
	require.Equal(t, 1, current)
	for _, x := range list(anna) {
		status, _, _ := olaf.ask(http.MethodDelete, "/sessions/"+x.ID, nil, nil)
		require.Equal(t, http.StatusNotFound, status, "it is somebody else's")
	}
	status, _, _ := olaf.ask(http.MethodDelete, "/sessions/"+uuid.NewString(), nil, nil)
	require.Equal(t, http.StatusNotFound, status)
	for _, x := range mine {
		if !x.Current {
			status, _, text := olaf.ask(http.MethodDelete, "/sessions/"+x.ID, nil, nil)
			require.Equal(t, http.StatusNoContent, status, text)
		}
	}
	status, _, _ = other.ask(http.MethodGet, "/session", nil, nil)
	require.Equal(t, http.StatusUnauthorized, status)
	require.Len(t, list(olaf), 1)
	lines, err := s.Trail.Lines(ctx, records.Sought{Limit: 20, Text: "ended a session"})
	require.NoError(t, err)
	require.Len(t, lines, len(mine)-1)
	require.True(t, strings.HasPrefix(lines[0].Text, "olaf"))
}

// stream opens somebody's stream of events; what is given ends when it does.
func stream(t *testing.T, c client) (ended <-chan struct{}) {
	t.Helper()
	r, err := http.NewRequestWithContext(t.Context(), http.MethodGet, c.url+"/api/v1/events", nil)
	require.NoError(t, err)
	r.Header.Set("Authorization", "Bearer "+c.secret)
	res, err := http.DefaultClient.Do(r)
	require.NoError(t, err)
	require.Equal(t, http.StatusOK, res.StatusCode)
	_, err = res.Body.Read(make([]byte, 9))
	require.NoError(t, err)
	done := make(chan struct{})
	go func() {
		defer close(done)
		_, _ = io.Copy(io.Discard, res.Body)
		_ = res.Body.Close()
	}()
	return done
}

// Whoever may no longer, or only something else, loses what they hold open; others do
// not.
func TestRevokingCutsWhatIsOpen(t *testing.T) {
	s := start(t, "Norhaven", clock.Wall{})
	c := console(t, s)
	root := c.as(join(t, s, "anna", "administrator"))
	token := join(t, s, "olaf", "operator")
	for name, revoke := range map[string]func(session client){
		"signed out":   func(session client) { session.ask(http.MethodDelete, "/session", nil, nil) },
		"another role": func(client) { root.ask(http.MethodPatch, "/people/olaf", api.EditPerson{Role: new("viewer")}, nil) },
		"disabled":     func(client) { root.ask(http.MethodPatch, "/people/olaf", api.EditPerson{Disabled: new(true)}, nil) },
		"the password changed": func(client) {
			c.as(token).ask(http.MethodPost, "/session/password", api.NewPassword{Old: password, New: "four gulls on the quay"}, nil)
		},
	} {
		root.ask(http.MethodPatch, "/people/olaf", api.EditPerson{Role: new("operator"), Disabled: new(false)}, nil)
		session := signIn(t, c, "olaf", password)
		theirs, others := stream(t, session), stream(t, root)
		revoke(session)
		select {
		case <-theirs:
		case <-time.After(patience):
			require.Fail(t, "the stream went on", name)
		}
		select {
		case <-others:
			require.Fail(t, "another's stream ended", name)
		default:
		}
		if name == "the password changed" {
			root.ask(http.MethodDelete, "/people/olaf", nil, nil)
			token = join(t, s, "olaf", "operator")
		}
	}
}

// Who is disabled stays, with what they have, and gets nowhere until they are enabled.
func TestDisabling(t *testing.T) {
	s := start(t, "Norhaven", clock.Wall{})
	c := console(t, s)
	root, olaf := c.as(join(t, s, "anna", "administrator")), c.as(join(t, s, "olaf", "administrator"))
	edit := func(name string, in api.EditPerson) int {
		status, _, _ := root.ask(http.MethodPatch, "/people/"+name, in, nil)
		return status
	}
	session := signIn(t, c, "olaf", password)
	require.Equal(t, http.StatusOK, edit("olaf", api.EditPerson{Disabled: new(true)}))
	for _, x := range []client{olaf, session} {
		status, _, _ := x.ask(http.MethodGet, "/session", nil, nil)
		require.Equal(t, http.StatusUnauthorized, status)
	}
	_, _, err := s.Access.SignIn(ctx, api.SignIn{Name: "olaf", Password: password}, "192.0.2.7")
	require.Equal(t, http.StatusUnauthorized, statusOf(t, err))
	require.Equal(t, http.StatusConflict, edit("anna", api.EditPerson{Disabled: new(true)}), "she is the last who may do everything")
	status, _, _ := root.ask(http.MethodPost, "/people/olaf/reset", nil, nil)
	require.Equal(t, http.StatusConflict, status)
	require.Equal(t, http.StatusOK, edit("olaf", api.EditPerson{Disabled: new(false)}))
	status, _, _ = olaf.ask(http.MethodGet, "/session", nil, nil)
	require.Equal(t, http.StatusOK, status, "their token is good again")
	status, _, _ = session.ask(http.MethodGet, "/session", nil, nil)
	require.Equal(t, http.StatusUnauthorized, status, "their sessions are over")
	signIn(t, c, "olaf", password)
	lines, err := s.Trail.Lines(ctx, records.Sought{Limit: 10, Text: "sign-in enabled → disabled"})
	require.NoError(t, err)
	require.Len(t, lines, 1)
}

// A link to reset a password is for one person, once, and ends their sessions.
func TestResettingAPassword(t *testing.T) {
	s := start(t, "Norhaven", clock.Wall{})
	c := console(t, s)
	root := c.as(join(t, s, "anna", "administrator"))
	join(t, s, "olaf", "viewer")
	old := signIn(t, c, "olaf", password)
	var one, two api.PersonInvitation
	root.ask(http.MethodPost, "/people/olaf/reset", nil, &one)
	root.ask(http.MethodPost, "/people/olaf/reset", nil, &two)
	_, token, ok := strings.Cut(one.Link, "/welcome#")
	require.True(t, ok)
	const better = "four gulls on the quay"
	set := func(token, name string) (int, string) {
		status, _, text := c.ask(http.MethodPost, "/welcome", api.Welcome{Token: token, Name: name, Password: better}, nil)
		return status, text
	}
	for _, name := range []string{"anna", "nobody"} {
		status, text := set(token, name)
		require.Equal(t, http.StatusUnprocessableEntity, status)
		require.Contains(t, text, "somebody else")
	}
	status, text := set(token, "Olaf")
	require.Equal(t, http.StatusOK, status, text)
	status, _, _ = old.ask(http.MethodGet, "/session", nil, nil)
	require.Equal(t, http.StatusUnauthorized, status)
	_, other, _ := strings.Cut(two.Link, "#")
	for _, x := range []string{token, other} {
		status, text = set(x, "olaf")
		require.Equal(t, http.StatusUnprocessableEntity, status)
		require.Contains(t, text, "used or has expired")
	}
	signIn(t, c, "olaf", better)
}

// Tokens end when it was said and are good from where it was said; what a token makes is
// worth no more than it, and goes with it.
func TestTokens(t *testing.T) {
	s := start(t, "Norhaven", clock.Wall{})
	c := console(t, s)
	olaf := c.as(join(t, s, "olaf", "operator"))
	for _, days := range []int{0, -1, 366} {
		status, _, text := olaf.ask(http.MethodPost, "/tokens", map[string]any{"name": "x", "days": days}, nil)
		require.Equal(t, http.StatusUnprocessableEntity, status, text)
	}
	status, _, text := olaf.ask(http.MethodPost, "/tokens", map[string]any{"name": "x"}, nil)
	require.Equal(t, http.StatusUnprocessableEntity, status)
	require.Contains(t, text, "days")

	var here, child, elsewhere api.TokenSecret
	olaf.ask(http.MethodPost, "/tokens", api.NewToken{Name: "here", Days: 10, Networks: &[]string{"127.0.0.0/8"}}, &here)
	olaf.ask(http.MethodPost, "/tokens", api.NewToken{Name: "elsewhere", Days: 10, Networks: &[]string{"192.0.2.0/24"}}, &elsewhere)
	status, _, text = c.as(elsewhere.Secret).ask(http.MethodGet, "/groups", nil, nil)
	require.Equal(t, http.StatusUnauthorized, status)
	require.Contains(t, text, "not good from where")
	status, _, text = c.as(here.Secret).ask(http.MethodPost, "/tokens", api.NewToken{Name: "wider", Days: 5, Networks: &[]string{"10.0.0.0/8"}}, nil)
	require.Equal(t, http.StatusUnprocessableEntity, status, text)
	c.as(here.Secret).ask(http.MethodPost, "/tokens", api.NewToken{Name: "child", Days: 300}, &child)
	require.WithinDuration(t, *here.Token.ExpiresAt, *child.Token.ExpiresAt, time.Millisecond)
	require.Equal(t, []string{"127.0.0.0/8"}, child.Token.Networks)
	status, _, _ = c.as(child.Secret).ask(http.MethodGet, "/groups", nil, nil)
	require.Equal(t, http.StatusOK, status)
	var all []api.Token
	olaf.ask(http.MethodGet, "/tokens", nil, &all)
	for _, x := range all {
		if x.ID == child.Token.ID {
			require.Equal(t, "127.0.0.1", *x.UsedFrom)
			require.NotNil(t, x.LastUsedAt)
		}
	}
	status, _, _ = olaf.ask(http.MethodDelete, "/tokens/"+here.Token.ID, nil, nil)
	require.Equal(t, http.StatusNoContent, status)
	for _, x := range []string{here.Secret, child.Secret} {
		status, _, _ = c.as(x).ask(http.MethodGet, "/groups", nil, nil)
		require.Equal(t, http.StatusUnauthorized, status)
	}
}

// Nobody takes a name that is taken for another's, and the link stays good for a better
// one.
func TestLookalikeNames(t *testing.T) {
	s := start(t, "Norhaven", clock.Wall{})
	join(t, s, "anna", "administrator")
	link, err := s.Access.InvitePerson(ctx, admin, api.NewPerson{Role: "viewer"})
	require.NoError(t, err)
	_, once, _ := strings.Cut(link.Link, "#")
	for _, name := range []string{"аnna", "Αnna", "аппа\u200b", "kestrel", "кestrel", "аnnа", "ａｎｎａ", "Anna"} {
		_, _, err := s.Access.Welcome(ctx, api.Welcome{Name: name, Password: password, Token: once}, "192.0.2.7")
		require.Equal(t, http.StatusUnprocessableEntity, statusOf(t, err), name)
	}
	_, _, err = s.Access.Welcome(ctx, api.Welcome{Name: "hanna", Password: password, Token: once}, "192.0.2.7")
	require.NoError(t, err)
}
