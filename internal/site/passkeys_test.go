package site_test

import (
	"encoding/json"
	"log/slog"
	"net/http"
	"strings"
	"testing"
	"time"

	"github.com/descope/virtualwebauthn"
	"github.com/google/uuid"
	"github.com/stretchr/testify/require"

	"kestrel/internal/api"
	"kestrel/internal/records"
	"kestrel/internal/site"
)

// named is a site whose console is reached by a name.
func named(t *testing.T, clk *moving) (*site.Site, client) {
	t.Helper()
	db, err := cluster.Database(ctx, "s"+strings.ReplaceAll(uuid.NewString(), "-", ""))
	require.NoError(t, err)
	s, err := site.New(ctx, site.Config{Name: "Norhaven", StateDir: t.TempDir(), DatabaseURL: db, LinkListen: "127.0.0.1:0", NBDListen: "127.0.0.1:0", StoreFloor: 1 << 20, Clock: clk, Log: slog.New(slog.DiscardHandler), ConsoleURL: "https://norhaven.skerry.example"})
	require.NoError(t, err)
	t.Cleanup(func() { require.NoError(t, s.Close()) })
	return s, console(t, s)
}

// party is how an authenticator knows the site.
func party() virtualwebauthn.RelyingParty {
	return virtualwebauthn.RelyingParty{Name: "Kestrel Tide Norhaven", ID: "norhaven.skerry.example", Origin: "https://norhaven.skerry.example"}
}

func object(t *testing.T, text string) (out map[string]any) {
	t.Helper()
	require.NoError(t, json.Unmarshal([]byte(text), &out))
	return out
}

func options(t *testing.T, c api.PasskeyCeremony) string {
	t.Helper()
	b, err := json.Marshal(map[string]any{"publicKey": c.Options})
	require.NoError(t, err)
	return string(b)
}

// enrolKey makes a passkey of whoever has a session.
func enrolKey(t *testing.T, c client, a *virtualwebauthn.Authenticator) virtualwebauthn.Credential {
	t.Helper()
	var begun api.PasskeyCeremony
	c.ask(http.MethodPost, "/session/passkeys/begin", nil, &begun)
	o, err := virtualwebauthn.ParseAttestationOptions(options(t, begun))
	require.NoError(t, err)
	key := virtualwebauthn.NewCredential(virtualwebauthn.KeyTypeEC2)
	in := api.NewPasskey{Ticket: begun.Ticket, Name: "my phone", Response: object(t, virtualwebauthn.CreateAttestationResponse(party(), *a, key, *o))}
	status, _, text := c.ask(http.MethodPost, "/session/passkeys", in, nil)
	require.Equal(t, http.StatusCreated, status, text)
	status, _, _ = c.ask(http.MethodPost, "/session/passkeys", in, nil)
	require.Equal(t, http.StatusUnprocessableEntity, status, "a ticket is good once")
	a.AddCredential(key)
	return key
}

// A passkey lets its person in alone, by its answer to this sign-in only; the password
// beside it lets nobody in; and it counts as the second factor that a site demands.
func TestPasskeys(t *testing.T) {
	clk := &moving{at: time.Now()}
	s, c := named(t, clk)
	root := c.as(join(t, s, "anna", "administrator"))
	tool := c.as(join(t, s, "olaf", "operator"))
	join(t, s, "liv", "viewer")
	people, err := s.Access.People(ctx)
	require.NoError(t, err)
	id := uuid.MustParse(people[2].ID)
	require.Equal(t, "olaf", people[2].Name)
	session := signIn(t, c, "olaf", password)
	status, _, _ := tool.ask(http.MethodPost, "/session/passkeys/begin", nil, nil)
	require.Equal(t, http.StatusForbidden, status, "a token changes nothing of how its person signs in")

	root.ask(http.MethodPut, "/safeguards", api.Safeguards{SecondFactor: []string{"operator"}, Consent: []string{}, ConsentHours: 24}, &api.Safeguards{})
	status, _, _ = session.ask(http.MethodGet, "/groups", nil, nil)
	require.Equal(t, http.StatusForbidden, status)
	phone := virtualwebauthn.NewAuthenticatorWithOptions(virtualwebauthn.AuthenticatorOptions{UserHandle: id[:]})
	key := enrolKey(t, session, &phone)
	status, _, _ = session.ask(http.MethodGet, "/groups", nil, nil)
	require.Equal(t, http.StatusOK, status, "it is a second factor")

	begin := func() (api.PasskeyCeremony, *virtualwebauthn.AssertionOptions) {
		var begun api.PasskeyCeremony
		c.ask(http.MethodPost, "/session/passkey/begin", nil, &begun)
		o, err := virtualwebauthn.ParseAssertionOptions(options(t, begun))
		require.NoError(t, err)
		return begun, o
	}
	answer := func(a virtualwebauthn.Authenticator, k virtualwebauthn.Credential, p virtualwebauthn.RelyingParty, ticket string, o *virtualwebauthn.AssertionOptions) (int, string) {
		in := api.PasskeyAnswer{Ticket: ticket, Response: object(t, virtualwebauthn.CreateAssertionResponse(p, a, k, *o))}
		status, h, text := c.ask(http.MethodPost, "/session/passkey", in, nil)
		if status == http.StatusOK {
			require.Contains(t, h.Get("Set-Cookie"), "HttpOnly")
			require.Contains(t, text, `"olaf"`)
		}
		return status, text
	}
	begun, o := begin()
	status, text := answer(phone, key, party(), begun.Ticket, o)
	require.Equal(t, http.StatusOK, status, text)
	status, _ = answer(phone, key, party(), begun.Ticket, o)
	require.Equal(t, http.StatusUnprocessableEntity, status, "an answer is good once")

	// What is not for this sign-in, this site, this person or by this key.
	other, _ := begin()
	_, mine := begin()
	status, _ = answer(phone, key, party(), other.Ticket, mine)
	require.Equal(t, http.StatusUnauthorized, status, "the answer to another challenge")
	clk.add(time.Minute)
	begun, o = begin()
	elsewhere := party()
	elsewhere.Origin = "https://norhaven.elsewhere.example"
	status, _ = answer(phone, key, elsewhere, begun.Ticket, o)
	require.Equal(t, http.StatusUnauthorized, status, "from a page elsewhere")
	begun, o = begin()
	status, _ = answer(phone, virtualwebauthn.NewCredential(virtualwebauthn.KeyTypeEC2), party(), begun.Ticket, o)
	require.Equal(t, http.StatusUnauthorized, status, "another key")
	begun, o = begin()
	unverified := virtualwebauthn.NewAuthenticatorWithOptions(virtualwebauthn.AuthenticatorOptions{UserHandle: id[:], UserNotVerified: true})
	status, _ = answer(unverified, key, party(), begun.Ticket, o)
	require.Equal(t, http.StatusUnauthorized, status, "whoever has found the phone")
	clk.add(time.Hour)
	for _, ticket := range []string{"", "AAAA", begun.Ticket} {
		status, _ = answer(phone, key, party(), ticket, o)
		require.Equal(t, http.StatusUnprocessableEntity, status)
	}

	// The password beside it.
	_, _, err = s.Access.SignIn(ctx, api.SignIn{Name: "olaf", Password: password}, "192.0.2.9")
	require.Equal(t, http.StatusUnauthorized, statusOf(t, err))
	require.ErrorContains(t, err, "sign in with the passkey")
	var keys []api.Passkey
	session.ask(http.MethodGet, "/session/passkeys", nil, &keys)
	require.Len(t, keys, 1)
	require.NotNil(t, keys[0].LastUsedAt)
	status, _, text = session.ask(http.MethodDelete, "/session/passkeys/"+keys[0].ID, nil, nil)
	require.Equal(t, http.StatusConflict, status, "it is the last that is demanded: %s", text)
	status, _, _ = c.as(join(t, s, "vera", "viewer")).ask(http.MethodDelete, "/session/passkeys/"+keys[0].ID, nil, nil)
	require.Equal(t, http.StatusForbidden, status)

	// Disabled, and with the key lost.
	root.ask(http.MethodPatch, "/people/olaf", api.EditPerson{Disabled: new(true)}, nil)
	begun, o = begin()
	status, _ = answer(phone, key, party(), begun.Ticket, o)
	require.Equal(t, http.StatusUnauthorized, status)
	root.ask(http.MethodPatch, "/people/olaf", api.EditPerson{Disabled: new(false), SecondFactorOff: new(true)}, nil)
	clk.add(time.Minute)
	begun, o = begin()
	status, _ = answer(phone, key, party(), begun.Ticket, o)
	require.Equal(t, http.StatusUnauthorized, status)
	signIn(t, c, "olaf", password)
	lines, err := s.Trail.Lines(ctx, records.Sought{Text: "olaf signed in with the passkey my phone"})
	require.NoError(t, err)
	require.Len(t, lines, 1)
}
