package site_test

import (
	"net/http"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/google/uuid"
	"github.com/pquerna/otp/totp"
	"github.com/stretchr/testify/require"

	"kestrel/internal/api"
	"kestrel/internal/clock"
	"kestrel/internal/records"
	"kestrel/internal/site"
)

// moving is a clock that is moved.
type moving struct {
	clock.Wall
	mu sync.Mutex
	at time.Time
}

func (m *moving) Now() time.Time {
	m.mu.Lock()
	defer m.mu.Unlock()
	return m.at
}

func (m *moving) add(d time.Duration) {
	m.mu.Lock()
	defer m.mu.Unlock()
	m.at = m.at.Add(d)
}

// enrol sets up a second factor in a session, and gives its seed and recovery codes.
func enrol(t *testing.T, c client, now time.Time) (seed string, codes []string) {
	t.Helper()
	var s api.SecondFactorSeed
	c.ask(http.MethodPost, "/session/second-factor", nil, &s)
	require.True(t, strings.HasPrefix(s.Image, "data:image/png;base64,"))
	require.Contains(t, s.URI, s.Secret)
	status, _, text := c.ask(http.MethodPut, "/session/second-factor", api.SecondFactorCode{Code: "000000"}, nil)
	require.Equal(t, http.StatusUnprocessableEntity, status, text)
	var r api.RecoveryCodes
	c.ask(http.MethodPut, "/session/second-factor", api.SecondFactorCode{Code: codeOf(t, s.Secret, now)}, &r)
	require.Len(t, r.Codes, 10)
	return s.Secret, r.Codes
}

func codeOf(t *testing.T, seed string, at time.Time) string {
	t.Helper()
	code, err := totp.GenerateCode(seed, at)
	require.NoError(t, err)
	return code
}

// A password alone gets nobody in who has a second factor; a code is good once, and so is
// a recovery code; guessing is slow from wherever it comes.
func TestASecondFactor(t *testing.T) {
	now := time.Date(2026, 11, 26, 9, 0, 5, 0, time.UTC)
	clk := &moving{at: now}
	s := start(t, "Norhaven", clk)
	c := console(t, s)
	root := c.as(join(t, s, "anna", "administrator"))
	tool := c.as(join(t, s, "olaf", "viewer"))
	session := signIn(t, c, "olaf", password)
	status, _, _ := tool.ask(http.MethodPost, "/session/second-factor", nil, nil)
	require.Equal(t, http.StatusForbidden, status, "a token changes nothing of how its person signs in")
	seed, codes := enrol(t, session, clk.Now())

	try := func(code *string) (int, string) {
		_, _, err := s.Access.SignIn(ctx, api.SignIn{Name: "olaf", Password: password, Code: code}, "192.0.2.7")
		if err == nil {
			return http.StatusOK, ""
		}
		return statusOf(t, err), err.Error()
	}
	status, text := try(nil)
	require.Equal(t, http.StatusUnauthorized, status)
	require.Contains(t, text, "code: Give the code")
	status, _ = try(new(codeOf(t, seed, clk.Now())))
	require.Equal(t, http.StatusUnauthorized, status, "the code that set it up was used with that")
	clk.add(30 * time.Second)
	next := codeOf(t, seed, clk.Now())
	status, text = try(&next)
	require.Equal(t, http.StatusOK, status, text)
	status, _ = try(&next)
	require.Equal(t, http.StatusUnauthorized, status, "good once")
	clk.add(time.Minute)
	spaced := strings.ToLower(strings.ReplaceAll(codes[3], "-", " "))
	status, text = try(&spaced)
	require.Equal(t, http.StatusOK, status, text)
	clk.add(time.Minute)
	status, _ = try(&codes[3])
	require.Equal(t, http.StatusUnauthorized, status, "good once")
	var me api.Me
	session.ask(http.MethodGet, "/session", nil, &me)
	require.Equal(t, api.SecondFactor{Set: true, RecoveryCodes: 9}, me.SecondFactor)

	// A link that resets the password stands for the password only.
	var link api.PersonInvitation
	root.ask(http.MethodPost, "/people/olaf/reset", nil, &link)
	_, token, _ := strings.Cut(link.Link, "#")
	status, _, text = c.ask(http.MethodPost, "/welcome", api.Welcome{Token: token, Name: "olaf", Password: "four gulls on the quay"}, nil)
	require.Equal(t, http.StatusUnauthorized, status, text)

	// Guessing, from many addresses.
	limited := 0
	for i := range 30 {
		_, _, err := s.Access.SignIn(ctx, api.SignIn{Name: "olaf", Password: password, Code: new("123456")}, "192.0.2."+string(rune('0'+i%10))+"7")
		if statusOf(t, err) == http.StatusTooManyRequests {
			limited++
		}
	}
	require.GreaterOrEqual(t, limited, 20)

	// Who has lost it is helped by an administrator.
	status, _, text = root.ask(http.MethodPatch, "/people/olaf", api.EditPerson{SecondFactorOff: new(true)}, nil)
	require.Equal(t, http.StatusOK, status, text)
	clk.add(time.Hour)
	status, text = try(nil)
	require.Equal(t, http.StatusOK, status, text)
	lines, err := s.Trail.Lines(ctx, records.Sought{Limit: 50, Text: "olaf"})
	require.NoError(t, err)
	var all []string
	for _, l := range lines {
		all = append(all, l.Text)
	}
	told := strings.Join(all, "\n")
	for _, want := range []string{"olaf set up a second factor", "olaf signed in with a code", "olaf signed in with a recovery code, 9 are left", "took the second factors of olaf off"} {
		require.Contains(t, told, want)
	}
	require.NotContains(t, told, seed)
}

// Where a second factor is demanded, who has none may set one up and nothing else, by
// whatever they come.
func TestADemandedSecondFactor(t *testing.T) {
	clk := &moving{at: time.Date(2026, 11, 26, 9, 0, 5, 0, time.UTC)}
	s := start(t, "Norhaven", clk)
	c := console(t, s)
	root, olaf := c.as(join(t, s, "anna", "administrator")), c.as(join(t, s, "olaf", "operator"))
	session := signIn(t, c, "olaf", password)
	var v api.Safeguards
	root.ask(http.MethodPut, "/safeguards", api.Safeguards{SecondFactor: []string{"operator"}, Consent: []string{}, ConsentHours: 24}, &v)
	for _, x := range []client{session, olaf} {
		status, _, text := x.ask(http.MethodGet, "/groups", nil, nil)
		require.Equal(t, http.StatusForbidden, status)
		require.Contains(t, text, "second factor is demanded of every operator")
	}
	r, err := http.NewRequestWithContext(ctx, http.MethodGet, c.url+"/metrics", nil)
	require.NoError(t, err)
	r.Header.Set("Authorization", "Bearer "+olaf.secret)
	res, err := http.DefaultClient.Do(r)
	require.NoError(t, err)
	require.NoError(t, res.Body.Close())
	require.Equal(t, http.StatusForbidden, res.StatusCode)
	var me api.Me
	session.ask(http.MethodGet, "/session", nil, &me)
	require.True(t, me.SecondFactor.Demanded)
	require.NotNil(t, me.Held)
	enrol(t, session, clk.Now())
	for _, x := range []client{session, olaf} {
		status, _, _ := x.ask(http.MethodGet, "/groups", nil, nil)
		require.Equal(t, http.StatusOK, status)
	}
	status, _, text := session.ask(http.MethodPost, "/session/second-factor/removal", api.Password{Password: password}, nil)
	require.Equal(t, http.StatusConflict, status, text)
	root.ask(http.MethodPut, "/safeguards", api.Safeguards{SecondFactor: []string{}, Consent: []string{}, ConsentHours: 24}, &v)
	status, _, text = session.ask(http.MethodPost, "/session/second-factor/removal", api.Password{Password: "a wrong one altogether"}, nil)
	require.Equal(t, http.StatusUnprocessableEntity, status, text)
	status, _, text = session.ask(http.MethodPost, "/session/second-factor/removal", api.Password{Password: password}, nil)
	require.Equal(t, http.StatusNoContent, status, text)
	for _, bad := range []api.Safeguards{{SecondFactor: []string{"owner"}, ConsentHours: 24}, {SecondFactor: []string{"viewer", "viewer"}, ConsentHours: 24}, {Consent: []string{"everything"}, ConsentHours: 24}, {ConsentHours: 0}, {ConsentHours: 200}} {
		if bad.SecondFactor == nil {
			bad.SecondFactor = []string{}
		}
		if bad.Consent == nil {
			bad.Consent = []string{}
		}
		status, _, text = root.ask(http.MethodPut, "/safeguards", bad, nil)
		require.Equal(t, http.StatusUnprocessableEntity, status, text)
	}
}

// What needs two people is not done by one, by whatever they come and whatever they do
// first; what the second consents to is done once, and is what was asked for.
func TestTwoPeople(t *testing.T) {
	clk := &moving{at: time.Now().UTC()}
	url, err := cluster.Database(ctx, "s"+strings.ReplaceAll(uuid.NewString(), "-", ""))
	require.NoError(t, err)
	home := start(t, "Norhaven", clk)
	recovery, stop := startOn(t, "Eastmole", clk, url, t.TempDir())
	t.Cleanup(stop)
	again := func() {
		inv, err := home.Peering.Invite(ctx, admin, api.NewInvitation{})
		require.NoError(t, err)
		_, err = recovery.Peering.Accept(ctx, admin, api.AcceptInvitation{Invitation: inv.Text})
		require.NoError(t, err)
	}
	again()
	c := console(t, recovery)
	anna := c.as(join(t, recovery, "anna", "administrator"))
	want := api.Safeguards{SecondFactor: []string{}, Consent: []string{"unpair"}, ConsentHours: 2}
	status, _, text := anna.ask(http.MethodPut, "/safeguards", want, nil)
	require.Equal(t, http.StatusConflict, status, "there is nobody who could consent: %s", text)
	olaf, vera := c.as(join(t, recovery, "olaf", "administrator")), c.as(join(t, recovery, "vera", "operator"))
	session := signIn(t, c, "anna", password)
	anna.ask(http.MethodPut, "/safeguards", want, &api.Safeguards{})

	unpair := func(c client) (int, string) {
		status, _, text := c.ask(http.MethodDelete, "/links/Norhaven", nil, nil)
		return status, text
	}
	status, text = unpair(anna)
	require.Equal(t, http.StatusConflict, status)
	require.Contains(t, text, "remove the link to Norhaven")
	var asked []api.Consent
	olaf.ask(http.MethodGet, "/consents", nil, &asked)
	require.Len(t, asked, 1)
	require.True(t, asked[0].Yours)
	status, text = unpair(session)
	require.Equal(t, http.StatusConflict, status, text)
	olaf.ask(http.MethodGet, "/consents", nil, &asked)
	require.Len(t, asked, 1, "asking again asks for nothing more")
	id := asked[0].ID
	give := func(c client) (int, string) {
		status, _, text := c.ask(http.MethodPost, "/consents/"+id+"/give", nil, nil)
		return status, text
	}
	for name, x := range map[string]client{"herself": anna, "herself in a session": session, "an operator": vera} {
		status, text = give(x)
		require.Equal(t, http.StatusForbidden, status, "%s: %s", name, text)
	}
	var board api.Board
	olaf.ask(http.MethodGet, "/board", nil, &board)
	require.Equal(t, "consent", board.Needs[0].State)

	// One alone cannot make the second, nor change the rule, nor take over the other.
	for name, do := range map[string]func() (int, http.Header, string){
		"a new administrator": func() (int, http.Header, string) {
			return anna.ask(http.MethodPost, "/people", api.NewPerson{Role: "administrator"}, nil)
		},
		"a raised one": func() (int, http.Header, string) {
			return anna.ask(http.MethodPatch, "/people/vera", api.EditPerson{Role: new("administrator")}, nil)
		},
		"another's password": func() (int, http.Header, string) { return anna.ask(http.MethodPost, "/people/olaf/reset", nil, nil) },
		"another's factor": func() (int, http.Header, string) {
			return anna.ask(http.MethodPatch, "/people/olaf", api.EditPerson{SecondFactorOff: new(true)}, nil)
		},
		"the rule": func() (int, http.Header, string) {
			return anna.ask(http.MethodPut, "/safeguards", api.Safeguards{SecondFactor: []string{}, Consent: []string{}, ConsentHours: 2}, nil)
		},
		"the key of the other": func() (int, http.Header, string) {
			return anna.ask(http.MethodPost, "/invitations", api.NewInvitation{ForSite: new("Norhaven"), NewKey: new(true)}, nil)
		},
	} {
		status, _, text := do()
		require.Equal(t, http.StatusConflict, status, "%s: %s", name, text)
		require.Contains(t, text, "A second person has to consent", name)
	}
	status, _, text = anna.ask(http.MethodPost, "/people", api.NewPerson{Role: "viewer"}, nil)
	require.Equal(t, http.StatusCreated, status, text)

	// Refused is refused; asked for again and consented to, it is done, once.
	status, _, text = olaf.ask(http.MethodPost, "/consents/"+id+"/refuse", nil, nil)
	require.Equal(t, http.StatusOK, status, text)
	status, text = give(olaf)
	require.Equal(t, http.StatusConflict, status, text)
	unpair(anna)
	olaf.ask(http.MethodGet, "/consents", nil, &asked)
	for _, x := range asked {
		if x.State == "waiting" && strings.Contains(x.What, "link") {
			id = x.ID
		}
	}
	clk.add(3 * time.Hour)
	status, text = give(olaf)
	require.Contains(t, []int{http.StatusForbidden, http.StatusConflict}, status, "its time is over: %s", text)
	require.Eventually(t, func() bool {
		olaf.ask(http.MethodGet, "/consents", nil, &asked)
		for _, x := range asked {
			if x.ID == id {
				return x.State == "expired"
			}
		}
		return false
	}, patience, 10*time.Millisecond)
	status, text = unpair(anna)
	require.Equal(t, http.StatusConflict, status, text)
	olaf.ask(http.MethodGet, "/consents", nil, &asked)
	id = asked[0].ID
	status, text = give(olaf)
	require.Equal(t, http.StatusOK, status, text)
	status, text = unpair(olaf)
	require.Equal(t, http.StatusConflict, status, "it was not olaf who asked: %s", text)
	status, text = unpair(session)
	require.Less(t, status, 300, text)
	again()
	status, text = unpair(anna)
	require.Equal(t, http.StatusConflict, status, text)
	require.Contains(t, text, "second person", "good once")

	// On the host there is a way without a second person, which everybody is told of.
	db, err := records.Open(ctx, url)
	require.NoError(t, err)
	require.NoError(t, db.WaiveConsent(ctx, clk.Now().Add(time.Hour)))
	require.NoError(t, db.Close())
	require.Eventually(t, func() bool {
		vera.ask(http.MethodGet, "/board", nil, &board)
		return len(board.Needs) > 0 && board.Needs[0].State == "waived"
	}, patience, 10*time.Millisecond)
	status, text = unpair(anna)
	require.Less(t, status, 300, text)
}

// Points and groups with their points take two where a site says so, and so does keeping
// fewer of them; what destroys nothing does not.
func TestDestroyingTakesTwo(t *testing.T) {
	home, recovery := start(t, "Norhaven", clock.Wall{}), start(t, "Eastmole", clock.Wall{})
	g := joined(t, home, recovery, promise(300, 1, 3600))
	require.Eventually(t, func() bool { return len(listed(t, recovery, g.ID)) >= 3 }, patience, 20*time.Millisecond)
	points := listed(t, recovery, g.ID)
	for _, s := range []*site.Site{home, recovery} {
		c := console(t, s)
		anna, olaf := c.as(join(t, s, "anna", "administrator")), c.as(join(t, s, "olaf", "administrator"))
		anna.ask(http.MethodPut, "/safeguards", api.Safeguards{SecondFactor: []string{}, Consent: []string{"delete-points", "end-groups"}, ConsentHours: 1}, &api.Safeguards{})
		asked := func(method, path string, in any, what string) {
			t.Helper()
			status, _, text := anna.ask(method, path, in, nil)
			require.Equal(t, http.StatusConflict, status, text)
			require.Contains(t, text, "A second person has to consent", path)
			require.Contains(t, text, what)
		}
		asked(http.MethodPatch, "/groups/"+g.ID, api.GroupPatch{DropPoints: new(true), Promise: &api.PromisePatch{Keep: &[]api.Rung{{EachSeconds: 3600, ForSeconds: 3600}}}}, "keep fewer points of Ticketing")
		asked(http.MethodDelete, "/groups/"+g.ID+"?points=delete", nil, "end the group Ticketing and delete its points")
		status, _, text := anna.ask(http.MethodPatch, "/groups/"+g.ID, api.GroupPatch{Priority: new("high")}, nil)
		require.Equal(t, http.StatusOK, status, text)
		status, _, text = anna.ask(http.MethodPatch, "/groups/"+g.ID, api.GroupPatch{Promise: &api.PromisePatch{Keep: &[]api.Rung{{ForSeconds: 3900}}}}, nil)
		require.Equal(t, http.StatusOK, status, "keeping more: %s", text)
		if s == home {
			continue
		}
		oldest := points[len(points)-1].ID
		asked(http.MethodDelete, "/points/"+oldest, nil, "delete point ")
		var waiting []api.Consent
		olaf.ask(http.MethodGet, "/consents", nil, &waiting)
		for _, x := range waiting {
			if strings.HasPrefix(x.What, "delete point") {
				olaf.ask(http.MethodPost, "/consents/"+x.ID+"/give", nil, &api.Consent{})
			}
		}
		asked(http.MethodDelete, "/points/"+points[len(points)-2].ID, nil, "delete point ") // another than was consented to
		status, _, text = anna.ask(http.MethodDelete, "/points/"+oldest, nil, nil)
		require.Equal(t, http.StatusNoContent, status, text)
	}
	require.NotEmpty(t, listed(t, recovery, g.ID))
}
