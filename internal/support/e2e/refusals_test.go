package e2e

import (
	"crypto/tls"
	"encoding/json"
	"io"
	"net/http"
	"os/exec"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"kestrel/internal/api"
	"sync/atomic"
)

// Bad input names the field and the mend, and changes nothing.
func TestRefusals(t *testing.T) {
	t.Parallel()
	w := paired(t)
	w.protect("Ticketing", promise(60, 0), "tick-db", "tick-app")
	group := func(change func(g map[string]any)) map[string]any {
		g := map[string]any{"name": "Second", "machines": []string{"spare"}, "link": "Eastmole",
			"promise": map[string]any{"rpoTargetSeconds": 60, "cadenceSeconds": 20, "keep": []any{map[string]any{"eachSeconds": 0, "forSeconds": 3600}}}}
		change(g)
		return g
	}
	inPromise := func(field string, v any) map[string]any {
		return group(func(g map[string]any) { g["promise"].(map[string]any)[field] = v })
	}
	invite := func() string {
		return must[api.InvitationSecret](w.home, http.MethodPost, "/invitations", api.NewInvitation{}).Text
	}
	used := invite()
	must[api.Link](w.recovery, http.MethodPost, "/links", api.AcceptInvitation{Invitation: used})
	other := "Skarholt"
	wrongSite := must[api.InvitationSecret](w.home, http.MethodPost, "/invitations", api.NewInvitation{ForSite: &other}).Text
	withdrawn := must[api.InvitationSecret](w.home, http.MethodPost, "/invitations", api.NewInvitation{})
	_, pr := call[struct{}](w.home, http.MethodDelete, "/invitations/"+withdrawn.Invitation.ID, nil)
	require.Nil(t, pr)

	state := func() string {
		b, err := json.Marshal([]any{groupFacts(w.home), len(must[[]api.Link](w.home, http.MethodGet, "/links", nil)), len(must[[]api.Platform](w.home, http.MethodGet, "/platforms", nil)),
			groupFacts(w.recovery), len(must[[]api.Link](w.recovery, http.MethodGet, "/links", nil))})
		require.NoError(t, err)
		return string(b)
	}
	before := state()
	platform := func(address, user, password string) map[string]any {
		return map[string]any{"name": "p2", "kind": "lab", "address": address, "user": user, "password": password}
	}
	libvirt := func(address string, settings map[string]any) map[string]any {
		if settings == nil {
			settings = map[string]any{}
		}
		return map[string]any{"name": "p3", "kind": "libvirt", "address": address, "libvirt": settings}
	}
	gid := must[[]api.Group](w.home, http.MethodGet, "/groups", nil)[0].ID
	for name, c := range map[string]struct {
		site         *siteProc
		method, path string
		body         any
		field, says  string
	}{
		"interval not shorter than the target": {w.home, "POST", "/groups", inPromise("cadenceSeconds", 60), "promise.cadenceSeconds", "better 30 s"},
		"machine protected already":            {w.home, "POST", "/groups", group(func(g map[string]any) { g["machines"] = []string{"tick-db"} }), "machines[0]", "protected by the group Ticketing"},
		"machine without disks":                {w.home, "POST", "/groups", group(func(g map[string]any) { g["machines"] = []string{"spare", "bare"} }), "machines[1]", "no disks"},
		"machine that is not there":            {w.home, "POST", "/groups", group(func(g map[string]any) { g["machines"] = []string{"ghost"} }), "machines[0]", "no platform of this site"},
		"no machines":                          {w.home, "POST", "/groups", group(func(g map[string]any) { g["machines"] = []string{} }), "machines", "at least one"},
		"name taken":                           {w.home, "POST", "/groups", group(func(g map[string]any) { g["name"] = "ticketing" }), "name", "already"},
		"site not paired":                      {w.home, "POST", "/groups", group(func(g map[string]any) { g["link"] = "Nowhere" }), "link", "not paired"},
		"unknown field":                        {w.home, "POST", "/groups", group(func(g map[string]any) { g["colour"] = "blue" }), "colour", "no such field"},
		"huge number":                          {w.home, "POST", "/groups", inPromise("rpoTargetSeconds", json.RawMessage("1e30")), "promise.rpoTargetSeconds", "63 bits"},
		"large number":                         {w.home, "POST", "/groups", inPromise("rpoTargetSeconds", int64(1)<<62), "promise.rpoTargetSeconds", "between"},
		"text for a number":                    {w.home, "POST", "/groups", inPromise("cadenceSeconds", "often"), "promise.cadenceSeconds", "whole number"},
		"not an invitation":                    {w.recovery, "POST", "/links", map[string]string{"invitation": "hello"}, "invitation", "begins with"},
		"invitation cut short":                 {w.recovery, "POST", "/links", map[string]string{"invitation": used[:len(used)-9]}, "invitation", "copy the whole string"},
		"invitation used":                      {w.recovery, "POST", "/links", map[string]string{"invitation": used}, "invitation", "used already"},
		"invitation withdrawn":                 {w.recovery, "POST", "/links", map[string]string{"invitation": withdrawn.Text}, "invitation", "withdrawn"},
		"invitation for another site":          {w.recovery, "POST", "/links", map[string]string{"invitation": wrongSite}, "invitation", "is for Skarholt"},
		"own invitation":                       {w.home, "POST", "/links", map[string]string{"invitation": invite()}, "invitation", "made here"},
		"platform with a wrong password":       {w.home, "POST", "/platforms", platform(w.lab.url, "lab", "wrong"), "password", `"credentials"`},
		"platform that does not answer":        {w.home, "POST", "/platforms", platform("http://"+freeAddr(t), "lab", "x"), "address", `"port"`},
		"platform without a port":              {w.home, "POST", "/platforms", platform("http://lab.example", "lab", "x"), "address", "no port"},
		"platform of an unknown kind":          {w.home, "POST", "/platforms", map[string]any{"name": "p4", "kind": "cloud", "address": "x"}, "kind", "lab or libvirt"},
		"libvirt without a host":               {w.home, "POST", "/platforms", libvirt(" ", nil), "address", "at least one"},
		"libvirt of another hypervisor":        {w.home, "POST", "/platforms", libvirt("vbox:///session", nil), "address", "begins with qemu"},
		"libvirt with a password in the URI":   {w.home, "POST", "/platforms", libvirt("qemu+ssh://a:b@kvm.example/system", nil), "address", "does not belong in a URI"},
		"libvirt host given twice":             {w.home, "POST", "/platforms", libvirt("qemu+tcp://127.0.0.1:1/session, qemu+tcp://127.0.0.1:1/system", nil), "address", "twice"},
		"libvirt that does not answer":         {w.home, "POST", "/platforms", libvirt("qemu+tcp://"+freeAddr(t)+"/session", nil), "address", `"port"`},
		"libvirt with bad ports":               {w.home, "POST", "/platforms", libvirt("qemu+tcp://127.0.0.1:1/session", map[string]any{"nbdPorts": "9-1"}), "libvirt.nbdPorts", "10809-10872"},
		"libvirt with a scratch folder adrift": {w.home, "POST", "/platforms", libvirt("qemu+tcp://127.0.0.1:1/session", map[string]any{"scratch": "tmp"}), "libvirt.scratch", "whole path"},
		"libvirt without its certificates":     {w.home, "POST", "/platforms", libvirt("qemu+tls://127.0.0.1/system", map[string]any{"certificates": "/nowhere"}), "libvirt.certificates", "no folder is set aside for it"},
		"libvirt with an endless freeze":       {w.home, "POST", "/platforms", libvirt("qemu+tcp://127.0.0.1:1/session", map[string]any{"freezeSeconds": 900}), "libvirt.freezeSeconds", "1 to 60"},
		"guests of a lab brought to rest":      {w.home, "POST", "/groups", group(func(g map[string]any) { g["quiesce"] = []any{map[string]any{"machine": "spare", "mode": "try"}} }), "quiesce[0].machine", "no way to reach a guest agent"},
		"rest of a machine not in the group":   {w.home, "PATCH", "/groups/" + gid, map[string]any{"quiesce": []any{map[string]any{"machine": "spare", "mode": "try"}}}, "quiesce[0].machine", "name one of tick-db, tick-app"},
		"start machines on a lab":              {w.recovery, "POST", "/landings", map[string]any{"point": w.recovery.points(gid)[0].ID, "platform": "nowhere"}, "platform", "no platform"},
		"edit to a bad promise":                {w.home, "PATCH", "/groups/" + gid, map[string]any{"promise": promise(10, 10)}, "promise.cadenceSeconds", "cannot keep"},
		"edit to a bad promise, from afar":     {w.recovery, "PATCH", "/groups/" + gid, map[string]any{"promise": promise(10, 10)}, "promise.cadenceSeconds", "cannot keep"},
		"compression that is none":             {w.home, "PATCH", "/links/Eastmole", map[string]any{"compression": "rar", "limitBytesPerSecond": 1 << 20}, "compression", "s2, zstd or off"},
		"limit that starves the link":          {w.home, "PATCH", "/links/Eastmole", map[string]any{"limitBytesPerSecond": 10}, "limitBytesPerSecond", "at least 16384"},
		"time of the week without days":        {w.home, "PATCH", "/links/Eastmole", map[string]any{"windows": []any{map[string]any{"days": "someday", "from": "08:00", "to": "18:00", "bytesPerSecond": 1 << 20}}}, "windows", "is no day"},
		"time of the week that never is":       {w.home, "PATCH", "/links/Eastmole", map[string]any{"windows": []any{map[string]any{"days": "mon", "from": "08:00", "to": "08:00", "bytesPerSecond": 1 << 20}}}, "windows", "ends when it begins"},
		"priority that is none":                {w.home, "PATCH", "/groups/" + gid, map[string]any{"priority": "urgent"}, "priority", "high, normal or low"},
		"delete without saying what of points": {w.home, "DELETE", "/groups/" + gid, nil, "points", "keep"},
	} {
		t.Run(name, func(t *testing.T) {
			_, p := call[struct{}](c.site, c.method, c.path, c.body)
			require.NotNil(t, p)
			require.Equal(t, http.StatusUnprocessableEntity, p.Status, "%+v", p)
			require.NotEmpty(t, p.Errors, "%+v", p)
			require.Equal(t, c.field, p.Errors[0].Field, "%+v", p)
			require.Contains(t, p.Errors[0].Message, c.says)
		})
	}
	for name, c := range map[string]struct {
		method, path string
		body         any
		status       int
	}{
		"not JSON":        {"POST", "/groups", "{", http.StatusBadRequest},
		"too large":       {"POST", "/groups", `{"name":"` + strings.Repeat("x", 2<<20) + `"}`, http.StatusRequestEntityTooLarge},
		"no such group":   {"GET", "/groups/none", nil, http.StatusNotFound},
		"no such point":   {"GET", "/points/none", nil, http.StatusNotFound},
		"point not here":  {"DELETE", "/points/" + w.home.points(gid)[0].ID, nil, http.StatusConflict},
		"platform in use": {"DELETE", "/platforms/lab", nil, http.StatusConflict},
		"link in use":     {"DELETE", "/links/Eastmole", nil, http.StatusConflict},
	} {
		t.Run(name, func(t *testing.T) {
			_, p := call[struct{}](w.home, c.method, c.path, c.body)
			require.NotNil(t, p)
			require.Equal(t, c.status, p.Status, "%+v", p)
		})
	}
	require.Equal(t, before, state(), "nothing was changed")
}

func groupFacts(s *siteProc) []any {
	var out []any
	for _, g := range must[[]api.Group](s, http.MethodGet, "/groups", nil) {
		out = append(out, g.Name, g.Promise, len(g.Machines), g.Revision, g.Paused, g.Points)
	}
	return out
}

// An invitation that has expired is refused by the site that made it, whatever
// the clock of the other.
func TestExpiredInvitation(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	minutes := 0
	_, p := call[api.InvitationSecret](w.home, http.MethodPost, "/invitations", api.NewInvitation{Minutes: &minutes})
	require.Equal(t, "minutes", p.Errors[0].Field)
	inv := must[api.InvitationSecret](w.home, http.MethodPost, "/invitations", api.NewInvitation{})
	db := openDB(t, w.home.db)
	_, err := db.Exec(`UPDATE invitations SET expires_at = now() - interval '1 minute'`)
	require.NoError(t, err)
	// No invitation is open, so the port is shut to strangers at once.
	_, p = call[api.Link](w.recovery, http.MethodPost, "/links", api.AcceptInvitation{Invitation: inv.Text})
	require.Equal(t, http.StatusBadGateway, p.Status)
	require.Contains(t, p.Detail, "pairing")
	must[api.InvitationSecret](w.home, http.MethodPost, "/invitations", api.NewInvitation{}) // another opens it
	_, p = call[api.Link](w.recovery, http.MethodPost, "/links", api.AcceptInvitation{Invitation: inv.Text})
	require.Equal(t, "invitation", p.Errors[0].Field)
	require.Contains(t, p.Errors[0].Message, "expired")
	require.Empty(t, must[[]api.Link](w.recovery, http.MethodGet, "/links", nil))
}

// Nobody without a sign-in or a token reads or changes anything.
func TestNobodyGetsInUnasked(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	for _, path := range []string{"/board", "/groups", "/machines", "/platforms", "/links", "/points", "/tokens", "/operations", "/activity", "/events", "/store", "/invitations", "/served", "/session"} {
		for _, token := range []string{"", "wrong", strings.Repeat("A", 43)} {
			res := w.home.raw(http.MethodGet, path, token, nil)
			b, err := io.ReadAll(res.Body)
			require.NoError(t, err)
			require.Equal(t, http.StatusUnauthorized, res.StatusCode, path)
			require.NotContains(t, string(b), "Norhaven", path)
		}
	}
	for _, c := range [][2]string{{"POST", "/groups"}, {"POST", "/platforms"}, {"POST", "/invitations"}, {"POST", "/links"}, {"DELETE", "/links/x"}, {"POST", "/store/sweep"}, {"POST", "/tokens"}} {
		require.Equal(t, http.StatusUnauthorized, w.home.raw(c[0], c[1], "", "{}").StatusCode, c)
	}
	res, err := http.Get(w.home.url + "/metrics")
	require.NoError(t, err)
	require.Equal(t, http.StatusUnauthorized, res.StatusCode)
	require.Equal(t, http.StatusUnauthorized, w.home.raw("POST", "/session", "", api.SignIn{Name: person, Password: "not the password"}).StatusCode)
	require.Equal(t, http.StatusUnauthorized, w.home.raw("POST", "/session", "", api.SignIn{Name: "nobody", Password: password}).StatusCode)
	// Guessing is slowed down.
	var slowed atomic.Bool
	var guesses sync.WaitGroup
	for range 12 {
		guesses.Go(func() {
			if w.home.raw("POST", "/session", "", api.SignIn{Name: person, Password: "guess guess guess"}).StatusCode == http.StatusTooManyRequests {
				slowed.Store(true)
			}
		})
	}
	guesses.Wait()
	require.True(t, slowed.Load())
	// A page of another origin cannot act with somebody's session.
	req, err := http.NewRequest(http.MethodPost, w.home.url+"/api/v1/invitations", strings.NewReader("{}"))
	require.NoError(t, err)
	req.Header.Set("Origin", "http://elsewhere.example")
	req.Header.Set("Authorization", "Bearer "+w.home.token)
	res, err = http.DefaultClient.Do(req)
	require.NoError(t, err)
	require.Equal(t, http.StatusForbidden, res.StatusCode)
	// A revoked token is worth nothing, a one-time link works once.
	tok := must[api.TokenSecret](w.home, http.MethodPost, "/tokens", api.NewToken{Name: "short", Days: 1})
	_, p := call[struct{}](w.home, http.MethodDelete, "/tokens/"+tok.Token.ID, nil)
	require.Nil(t, p)
	require.Equal(t, http.StatusUnauthorized, w.home.raw("GET", "/groups", tok.Secret, nil).StatusCode)
	out, err := w.home.kestrel(nil, "admin", "link", "--database", w.home.db)
	require.NoError(t, err)
	one := api.Welcome{Token: strings.TrimSpace(out[strings.Index(out, "#")+1:]), Name: "second", Password: password}
	require.Equal(t, http.StatusOK, w.home.raw("POST", "/welcome", "", one).StatusCode)
	one.Name = "third"
	require.Equal(t, http.StatusUnprocessableEntity, w.home.raw("POST", "/welcome", "", one).StatusCode)
	// Secrets are in no log and not in clear in the database.
	log := w.home.log()
	require.NotContains(t, log, w.home.token)
	require.NotContains(t, log, password)
}

// A site that is not paired gets nothing from the link port, with or without a
// key of its own, and no groups that are not its own where it is paired.
func TestLinkPortIsShutToStrangers(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	stranger := newSite(t, "Skarholt")
	c := &http.Client{Transport: &http.Transport{TLSClientConfig: &tls.Config{InsecureSkipVerify: true}}, Timeout: 5 * time.Second}
	for _, path := range []string{"/link/v1/beat", "/link/v1/intakes", "/link/v1/pair", "/"} {
		_, err := c.Post("https://"+w.home.link+path, "application/json", strings.NewReader("{}"))
		require.Error(t, err, "no key, no answer")
	}
	// The stranger's own service, with its own key, is turned away too.
	must[api.InvitationSecret](stranger, http.MethodPost, "/invitations", api.NewInvitation{})
	cmd := exec.Command("openssl", "s_client", "-connect", w.home.link, "-cert", stranger.dir+"/state/identity.pem", "-key", stranger.dir+"/state/identity.pem", "-quiet")
	cmd.Stdin = strings.NewReader("GET /link/v1/groups/x/points HTTP/1.1\r\nHost: x\r\n\r\n")
	out, _ := cmd.CombinedOutput()
	require.NotContains(t, string(out), "HTTP/1.1 200")
}

// The console may be plain HTTP on loopback only, and points are served in the
// clear there only.
func TestPlainHTTPOnLoopbackOnly(t *testing.T) {
	t.Parallel()
	for _, args := range [][]string{{"--listen", "0.0.0.0:0"}, {"--listen", "192.0.2.1:80"}, {"--listen", ":0"}} {
		out, err := exec.Command(binary, append([]string{"serve", "--site", "X", "--state", t.TempDir(), "--database", "postgres://x"}, args...)...).CombinedOutput()
		var exit *exec.ExitError
		require.ErrorAs(t, err, &exit)
		require.Equal(t, 2, exit.ExitCode(), "%s", out)
		require.Contains(t, string(out), "tls-cert")
	}
	out, err := exec.Command(binary, "serve", "--site", "X", "--state", t.TempDir(), "--database", "postgres://x", "--listen", "127.0.0.1:0", "--nbd-listen", "0.0.0.0:0", "--as-root").CombinedOutput()
	require.Error(t, err)
	require.Contains(t, string(out), "loopback")
}
