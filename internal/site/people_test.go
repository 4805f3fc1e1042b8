package site_test

import (
	"net/http"
	"strings"
	"testing"

	"github.com/google/uuid"
	"github.com/stretchr/testify/require"

	"kestrel/internal/api"
	"kestrel/internal/clock"
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
	lines, err := s.Trail.Lines(ctx, 0, 10, "changed their password")
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
	lines, err := s.Trail.Lines(ctx, 0, 20, "ended a session")
	require.NoError(t, err)
	require.Len(t, lines, len(mine)-1)
	require.True(t, strings.HasPrefix(lines[0].Text, "olaf"))
}
