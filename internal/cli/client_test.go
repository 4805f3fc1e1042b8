package cli

import (
	"bytes"
	"context"
	"encoding/json"
	"fmt"
	"net/http"
	"net/http/httptest"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/spf13/cobra"
	"github.com/stretchr/testify/require"

	"kestrel/internal/api"
	"kestrel/internal/problem"
)

// service answers what a test says, and notes what it was asked.
type service struct {
	*httptest.Server
	mu     sync.Mutex
	asked  []string
	bodies []string
	answer func(r *http.Request) (int, any)
}

func newService(t *testing.T, answer func(r *http.Request) (int, any)) *service {
	t.Helper()
	s := &service{answer: answer}
	s.Server = httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		var b bytes.Buffer
		_, _ = b.ReadFrom(r.Body)
		s.mu.Lock()
		s.asked = append(s.asked, strings.TrimSuffix(r.Method+" "+r.URL.Path+"?"+r.URL.Query().Encode(), "?"))
		s.bodies = append(s.bodies, b.String())
		s.mu.Unlock()
		status, v := s.answer(r)
		if p, ok := v.(*problem.Problem); ok {
			w.Header().Set("Content-Type", "application/problem+json")
			p.Status = status
		}
		w.WriteHeader(status)
		if v != nil {
			_ = json.NewEncoder(w).Encode(v)
		}
	}))
	t.Cleanup(s.Close)
	t.Setenv("KESTREL_PROFILES", filepath.Join(t.TempDir(), "none.json"))
	t.Setenv("KESTREL_URL", s.URL)
	t.Setenv("KESTREL_TOKEN", "t")
	return s
}

func kestrel(args ...string) (code int, out, errs string) {
	var o, e bytes.Buffer
	code = Main(context.Background(), args, Streams{In: strings.NewReader("secret\n"), Out: &o, Err: &e})
	return code, o.String(), e.String()
}

// split splits a command line of an example as a shell would, without its variables.
func split(t *testing.T, line string) (out []string) {
	t.Helper()
	word, quote, open := "", rune(0), false
	for _, c := range line {
		switch {
		case quote != 0 && c == quote:
			quote = 0
		case quote == 0 && (c == '"' || c == '\''):
			quote, open = c, true
		case quote == 0 && c == ' ':
			if word != "" || open {
				out = append(out, word)
			}
			word, open = "", false
		default:
			word += string(c)
		}
	}
	require.Zero(t, quote, line)
	if word != "" || open {
		out = append(out, word)
	}
	return out
}

// Every command that speaks to a site, as its own example shows it, tells a refusal
// by the same exit code, and in JSON if that is asked for.
func TestEveryCommandTellsRefusalsAlike(t *testing.T) {
	s := newService(t, func(*http.Request) (int, any) {
		return 403, &problem.Problem{Title: "Your role does not allow that", Detail: "Ask an administrator."}
	})
	local := []string{"kestrel serve", "kestrel guard", "kestrel version", "kestrel login", "kestrel profile", "kestrel admin", "kestrel lab", "kestrel tide", "kestrel store adopt", "kestrel store new-key", "kestrel store rekey", "kestrel store verify", "kestrel evidence verify"}
	t.Chdir(t.TempDir())
	require.NoError(t, os.WriteFile("norhaven.yaml", []byte("kind: tier\nname: Harbour-1\n"), 0o600))
	ran := 0
	var visit func(c *cobra.Command)
	visit = func(c *cobra.Command) {
		for _, sub := range c.Commands() {
			visit(sub)
		}
		if c.RunE == nil || c.HasSubCommands() || slices.ContainsFunc(local, func(p string) bool { return strings.HasPrefix(c.CommandPath(), p) }) {
			return
		}
		for _, line := range strings.Split(c.Example, "\n") {
			args := split(t, strings.TrimSpace(line))
			if i := slices.IndexFunc(args, func(a string) bool { return a == "|" || a == ">" || a == "&&" || a == "#" }); i > 0 {
				args = args[:i]
			}
			if len(args) == 0 || args[0] != "kestrel" {
				continue
			}
			if i := slices.Index(args, "-p"); i > 0 { // there are no profiles here
				args = slices.Delete(args, i, i+2)
			}
			before := len(s.asked)
			code, out, errs := kestrel(append(slices.Clone(args[1:]), "-o", "json")...)
			if code == exitUsage && strings.Contains(errs, "--yes") {
				code, out, errs = kestrel(append(slices.Clone(args[1:]), "-o", "json", "--yes")...)
			}
			require.Equal(t, exitSignIn, code, "%s\n%s%s", line, out, errs)
			require.Greater(t, len(s.asked), before, line)
			var v struct {
				Error    string
				ExitCode int
				Problem  *problem.Problem
			}
			require.NoError(t, json.Unmarshal([]byte(errs), &v), "%s\n%s", line, errs)
			require.Equal(t, exitSignIn, v.ExitCode, line)
			require.NotNil(t, v.Problem, line)
			require.Contains(t, v.Error, "Your role does not allow that", line)
			ran++
		}
	}
	visit((&app{Streams: Streams{In: strings.NewReader("")}}).root())
	require.Greater(t, ran, 45)
}

func TestExitCodesOfAnswers(t *testing.T) {
	for status, want := range map[int]int{401: exitSignIn, 403: exitSignIn, 404: exitNotFound, 409: exitRefused, 412: exitRefused, 422: exitRefused, 429: exitRefused, 500: exitFailed, 502: exitUnreachable, 503: exitUnreachable} {
		newService(t, func(*http.Request) (int, any) { return status, &problem.Problem{Title: "No"} })
		code, _, errs := kestrel("group", "show", "Ticketing")
		require.Equal(t, want, code, "%d: %s", status, errs)
	}
	newService(t, func(*http.Request) (int, any) { return 500, nil })
	code, _, errs := kestrel("group", "show", "Ticketing")
	require.Equal(t, exitFailed, code, "an answer that is no problem document: %s", errs)
	newService(t, func(*http.Request) (int, any) { return 200, "not a group" })
	code, _, errs = kestrel("group", "show", "Ticketing")
	require.Equal(t, exitFailed, code)
	require.Contains(t, errs, "not understood")
}

func groupNamed(name, health string) api.Group {
	return api.Group{ID: "id-" + name, Name: name, Health: health, Direction: api.Out, Home: "Norhaven", Recovery: "Eastmole", Machines: []api.GroupMachine{}, Tags: []string{}, Reasons: []string{}, Promise: api.Promise{RpoTargetSeconds: 300, CadenceSeconds: 60, Keep: []api.Rung{}}}
}

// For scripts and monitoring: nothing but the exit code tells whether all is well.
func TestStatusCheck(t *testing.T) {
	for health, want := range map[string]int{"on target": exitOK, "tight": exitOK, "seeding": exitOK, "paused": exitOK, "over": exitFailed, "stalled": exitFailed, "cut off": exitFailed} {
		newService(t, func(*http.Request) (int, any) {
			return 200, api.Board{Site: "Norhaven", Headline: []api.Phrase{}, Total: 2, Amiss: want, Groups: []api.BoardGroup{{Group: groupNamed("Ticketing", health)}, {Group: groupNamed("Fine", "on target")}}, Links: []api.Link{}, Needs: []api.Need{}}
		})
		code, out, errs := kestrel("status", "--check")
		require.Equal(t, want, code, "%s: %s", health, errs)
		require.Contains(t, out, "Ticketing")
		code, out, _ = kestrel("status", "-q")
		require.Equal(t, want, code, health)
		require.Empty(t, out, health)
		code, _, _ = kestrel("status")
		require.Equal(t, exitOK, code, "looking is no failure")
	}
}

// Several groups at once: each is named before anything is done to any, one that
// refuses keeps none of the others back, and the exit code is of the first refusal.
func TestSeveralGroupsAtOnce(t *testing.T) {
	answer := func(r *http.Request) (int, any) {
		name := strings.Split(strings.TrimPrefix(r.URL.Path, "/api/v1/groups/"), "/")[0]
		switch {
		case r.URL.Path == "/api/v1/groups":
			return 200, []api.Group{groupNamed("One", "on target"), groupNamed("Two", "on target")}
		case name == "Nine":
			return 404, &problem.Problem{Title: "Not found"}
		case strings.HasSuffix(r.URL.Path, "/pause") && name == "id-Two":
			return 409, &problem.Problem{Title: "Two cannot be paused now"}
		}
		return 200, groupNamed(strings.TrimPrefix(name, "id-"), "paused")
	}
	s := newService(t, answer)
	code, _, errs := kestrel("group", "pause", "One", "Nine")
	require.Equal(t, exitNotFound, code, errs)
	require.False(t, slices.ContainsFunc(s.asked, func(a string) bool { return strings.HasPrefix(a, "POST") }), "nothing was paused")
	s = newService(t, answer)
	code, out, errs := kestrel("group", "pause", "One", "Two", "Three", "--for", "2h", "--reason", "array swap")
	require.Equal(t, exitRefused, code)
	require.Contains(t, errs, "Two cannot be paused now")
	require.Contains(t, out, "Three")
	for i, a := range s.asked {
		if strings.HasPrefix(a, "POST") {
			require.JSONEq(t, `{"forSeconds":7200,"reason":"array swap"}`, s.bodies[i])
		}
	}
	s = newService(t, answer)
	code, _, _ = kestrel("group", "run", "--tag", "gold")
	require.Equal(t, exitOK, code)
	require.Contains(t, s.asked[0], "tag=gold")
	require.Contains(t, s.asked[0], "direction=out", "groups that come in are run at their home")
	for _, args := range [][]string{{"group", "pause"}, {"group", "pause", "One", "--all"}, {"group", "pause", "--all", "--tag", "gold"}, {"group", "pause", "One", "--for", "soon"}} {
		code, _, errs = kestrel(args...)
		require.Equal(t, exitUsage, code, "%v: %s", args, errs)
	}
}

// Where nobody can be asked, what destroys wants --yes, and says what it would do.
func TestNothingIsDestroyedUnasked(t *testing.T) {
	s := newService(t, func(r *http.Request) (int, any) {
		if r.Method == http.MethodGet && strings.HasPrefix(r.URL.Path, "/api/v1/points") {
			return 200, []api.Point{{ID: "p", Number: 4, GroupName: "Ticketing", CaptureAt: time.Now()}}
		}
		if r.Method == http.MethodGet && strings.HasPrefix(r.URL.Path, "/api/v1/landings") {
			return 200, api.Landing{ID: "l", Name: "drill-db", PlatformName: "quay"}
		}
		return 200, groupNamed("Ticketing", "on target")
	})
	for _, args := range [][]string{{"point", "delete", "Ticketing:4"}, {"landing", "remove", "drill-db"}, {"group", "delete", "Ticketing", "--points", "delete"}} {
		code, _, errs := kestrel(args...)
		require.Equal(t, exitUsage, code, "%v: %s", args, errs)
		require.Contains(t, strings.ToLower(errs), "to go on, add --", args)
	}
	for _, a := range s.asked {
		require.False(t, strings.HasPrefix(a, "DELETE"), a)
	}
}

// What is asked for is handed on as it is: order, stretch and filters.
func TestListsHandOnWhatIsAskedFor(t *testing.T) {
	s := newService(t, func(*http.Request) (int, any) { return 200, []any{} })
	for line, want := range map[string]string{
		"group list --sort -backlog -n 10 --skip 20": "GET /api/v1/groups?limit=10&skip=20&sort=-backlog",
		"machine list --sort name -s tick":           "GET /api/v1/machines?q=tick&skip=0&sort=name",
		"landing list --sort state":                  "GET /api/v1/landings?skip=0&sort=state",
		"point list --consistent application -n 3":   "GET /api/v1/points?consistent=application&limit=3&skip=0",
	} {
		s.asked = nil
		code, _, errs := kestrel(strings.Fields(line)...)
		require.Equal(t, exitOK, code, errs)
		require.Equal(t, []string{want}, s.asked, line)
		code, out, _ := kestrel(append(strings.Fields(line), "-o", "json")...)
		require.Equal(t, exitOK, code)
		require.JSONEq(t, "[]", out, line)
	}
	code, _, errs := kestrel("point", "list", "--before", "the day after")
	require.Equal(t, exitUsage, code, errs)
	require.Contains(t, errs, "--before")
}

// An edit that was overtaken says by whom and what, and does nothing by itself.
func TestAnOvertakenEditIsTold(t *testing.T) {
	s := newService(t, func(r *http.Request) (int, any) {
		if r.Method == http.MethodPatch {
			return 409, &problem.Problem{Title: "Not possible now; nothing was changed", Detail: "ben changed the RPO target from 5 min to 10 min."}
		}
		return 200, groupNamed("Ticketing", "on target")
	})
	code, _, errs := kestrel("group", "edit", "Ticketing", "--rpo", "3min")
	require.Equal(t, exitRefused, code)
	require.Contains(t, errs, "ben changed the RPO target")
	last := len(s.bodies) - 1
	require.True(t, strings.HasPrefix(s.asked[last], "PATCH"))
	require.Equal(t, 1, strings.Count(fmt.Sprint(s.asked), "PATCH"))
	require.NotContains(t, s.bodies[last], "every", "only what was edited is sent")
}
