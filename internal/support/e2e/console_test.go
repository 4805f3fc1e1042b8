package e2e

import (
	"context"
	"encoding/json"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/chromedp/chromedp"
	"github.com/stretchr/testify/require"

	"kestrel/internal/api"
	"kestrel/internal/support/browser"
)

// do runs steps in the browser; a step that takes too long fails the test with
// a word on where, and what the page showed.
func do(t *testing.T, tab context.Context, what string, steps ...chromedp.Action[chromedp.Void]) {
	t.Helper()
	ctx, cancel := context.WithTimeout(tab, 4*time.Minute)
	defer cancel()
	if err := chromedp.Do(ctx, steps...); err != nil {
		text, _ := chromedp.Run(tab, chromedp.Evaluate[string]("document.body.innerText"))
		t.Fatalf("%s: %v\nthe page shows:\n%s", what, err, text)
	}
}

// axe finds nothing wrong with the page as it stands.
func axe(t *testing.T, tab context.Context, page string) {
	t.Helper()
	source, err := os.ReadFile(filepath.Join("..", "..", "..", "console", "node_modules", "axe-core", "axe.min.js"))
	require.NoError(t, err, "./dev build installs it")
	ctx, cancel := context.WithTimeout(tab, 4*time.Minute)
	defer cancel()
	_, err = chromedp.Run(ctx, chromedp.Evaluate[string](string(source)+"; 'loaded'"))
	require.NoError(t, err)
	out, err := chromedp.Run(ctx, chromedp.Evaluate[string](`axe.run(document, {runOnly: ["wcag2a", "wcag2aa", "wcag21a", "wcag21aa"]}).then(r =>
		JSON.stringify(r.violations.map(v => ({rule: v.id, help: v.help, at: v.nodes.slice(0, 3).map(n => n.html.slice(0, 160) + " | " + n.failureSummary)}))))`, chromedp.EvalAwaitPromise))
	require.NoError(t, err)
	var violations []map[string]any
	require.NoError(t, json.Unmarshal([]byte(out), &violations))
	pretty, _ := json.MarshalIndent(violations, "", "  ")
	require.Empty(t, violations, "%s: %s", page, pretty)
}

// A first day in the console, in a real browser: sign in, add a platform, pair,
// make a group and watch it, look at its points, and end it.
func TestTheFirstDayInTheConsole(t *testing.T) {
	t.Parallel()
	if raceEnabled {
		t.Skip("the browser driver races with itself when it types; ./dev test runs this test without the race detector")
	}
	w := newWorld(t)
	tab, stop, err := browser.Open(context.Background(), 1280, 800)
	if err != nil {
		t.Fatalf("%v: ./dev test installs it", err)
	}
	defer stop()
	do(t, tab, "wrong password", chromedp.Navigate(w.home.url), browser.See("Sign in"), browser.Fill("Name", person), browser.Fill("Password", "not this one"), browser.Press("Sign in"),
		browser.See("Name or password is wrong"))
	axe(t, tab, "sign-in")
	do(t, tab, "sign in", browser.SignIn(w.home.url, person, password), browser.See("Nothing is protected yet"))
	axe(t, tab, "empty board")

	do(t, tab, "add a platform", browser.Press("Platforms"), browser.Press("Add a platform…"),
		browser.Fill("Name", "harbour"), browser.Fill("Hosts", "vbox:///session"), browser.Press("Add"), browser.See("the URI begins with qemu"))
	axe(t, tab, "libvirt platform dialog")
	do(t, tab, "another kind", browser.Choose("Kind", "lab"), browser.Fill("Address", w.lab.url), browser.Fill("User", "lab"), browser.Fill("Password", "wrong"),
		browser.Press("Add"), browser.See("User or password is wrong"))
	axe(t, tab, "platform dialog")
	do(t, tab, "add it rightly", browser.Fill("Password", "lab-password"), browser.Press("Add"), browser.See("Platform harbour"))

	inv := must[api.InvitationSecret](w.recovery, "POST", "/invitations", api.NewInvitation{})
	do(t, tab, "pair", browser.Press("Sites"), browser.Press("Accept an invitation…"), browser.Fill("Invitation", inv.Text[:40]), browser.Press("Pair the sites"), browser.See("copy the whole string"),
		browser.Fill("Invitation", inv.Text), browser.Press("Pair the sites"), browser.See("Link to Eastmole"))
	axe(t, tab, "sites")
	do(t, tab, "a person", browser.Press("Access"), browser.See("who may sign in"), browser.Press("Make a one-time link"), browser.See("Good once"))
	axe(t, tab, "access")
	do(t, tab, "a token", browser.Press("Make a token"), browser.See("Give the token a name"), browser.Fill("New token for", "monitoring"), browser.Press("Make a token"), browser.See("Shown once:"))
	secret, err := chromedp.Run(tab, chromedp.Text(chromedp.Search(`//section[.//h2[text()="API tokens"]]//code`)))
	require.NoError(t, err)
	require.Equal(t, 200, w.home.raw("GET", "/board", secret, nil).StatusCode)
	do(t, tab, "store", browser.Press("Point store"), browser.Press("Verify every block"), browser.See("All good"), browser.Press("Give room back now"), browser.See("packs removed"))

	tick := func(name string) chromedp.Action[chromedp.Void] {
		return chromedp.Click(chromedp.Search(fmt.Sprintf(`//label[.//span[text()=%q]]`, name)))
	}
	do(t, tab, "make a group", browser.Press("Groups"), browser.Press("New group"), browser.See("protected already, or that cannot be"), tick("tick-db"), tick("tick-app"),
		browser.Fill("Name", "Ticketing"), browser.Fill("RPO target", "5 min"), browser.See("Cycles every 5 min cannot keep"),
		browser.Fill("Cycles start every, or at", "2 min"), browser.See("Worst exposure"))
	axe(t, tab, "new group")
	do(t, tab, "its page", browser.Press("Make the group"), browser.See("On target"), browser.See("Last cycle"), browser.See("crash-consistent"))
	axe(t, tab, "group")
	g := must[[]api.Group](w.home, "GET", "/groups", nil)[0]
	require.Equal(t, int64(300), g.Promise.RpoTargetSeconds)
	require.Len(t, g.Machines, 2)

	do(t, tab, "pause and resume", browser.Press("Pause…"), browser.Fill("Why", "the array is swapped"), browser.Press("Pause the cycles"), browser.See("the array is swapped"), browser.Press("Resume"), browser.See("On target"))
	// An edit names only what was edited: what another edited meanwhile stays, and
	// who looked at something else is told.
	do(t, tab, "edit", browser.Press("Edit"), browser.See("Nothing is changed yet."), browser.Fill("RPO target", "10 min"), browser.See("5 min → 10 min"))
	axe(t, tab, "edit a group")
	must[api.Group](w.home, "PATCH", "/groups/"+g.ID, api.GroupPatch{Priority: new("high")})
	do(t, tab, "overtaken", browser.Press("Save"), browser.See("priority: normal → high"), browser.Press("Look at it as it is now"), browser.See("Nothing is changed yet."),
		browser.Fill("RPO target", "10 min"), browser.See("5 min → 10 min"), browser.Press("Save"), browser.See("On target"))
	g = must[api.Group](w.home, "GET", "/groups/"+g.ID, nil)
	require.Equal(t, int64(600), g.Promise.RpoTargetSeconds)
	require.Equal(t, "high", g.Priority)
	do(t, tab, "the board", browser.Press("Tide board"), browser.See("would lose less than it promised"))
	axe(t, tab, "board")
	for _, p := range []string{"Recovery points", "Machines", "Activity"} {
		do(t, tab, p, browser.Press(p), chromedp.WaitVisible(chromedp.CSS("tbody tr")))
		axe(t, tab, p)
	}
	listsInTheConsole(t, tab, w, g)
	scopeInTheConsole(t, tab, w)
	alertsInTheConsole(t, tab, w)
	findInTheConsole(t, tab, w)
	reportsInTheConsole(t, tab, w)
	_, err = chromedp.Run(tab, chromedp.Evaluate[string](`document.documentElement.dataset.theme = "dark"`))
	require.NoError(t, err)
	do(t, tab, "dark board", browser.Press("Tide board"), browser.See("would lose less than it promised"))
	axe(t, tab, "dark board")
	do(t, tab, "phone", browser.Size(390, 844), browser.See("would lose less than it promised"))
	axe(t, tab, "board on a phone")
	wide, err := chromedp.Run(tab, chromedp.Evaluate[bool](`document.documentElement.scrollWidth > 390`))
	require.NoError(t, err)
	require.False(t, wide, "nothing is cut off on a phone")
	do(t, tab, "back", browser.Size(1280, 800))

	menu := func() chromedp.Action[chromedp.Void] {
		return chromedp.Click(chromedp.Search(`//button[starts-with(@aria-label,"More for point")]`))
	}
	// At the other site the same group comes in, and its point can be served.
	do(t, tab, "the other site", browser.SignIn(w.recovery.url, person, password), browser.See("Ticketing"), browser.Press("Recovery points"), menu(), browser.Press("Pin…"), browser.Fill("Why", "before the upgrade"), browser.Press("Pin it"), browser.See("◆ pinned"),
		menu(), browser.Press("Serve…"), browser.See("May clients write?"))
	axe(t, tab, "serve dialog")
	do(t, tab, "serve", browser.Press("Serve"), browser.See("Served over NBD"))
	axe(t, tab, "served point")
	require.Len(t, must[[]api.Served](w.recovery, "GET", "/served", nil), 1)
	do(t, tab, "start from a point", browser.Press("Start…"), browser.See("This site has no platform on which machines can be started that come from one of the kind lab."), browser.Press("Close"))
	do(t, tab, "landings", browser.Press("Landings"), browser.See("Nothing has landed here"))
	axe(t, tab, "landings")
	do(t, tab, "stop", browser.Press("Recovery points"), browser.See("Served over NBD"), browser.Press("Stop serving"), chromedp.WaitNotPresent(chromedp.Search(`//h2[text()="Served over NBD"]`)))

	peopleInTheConsole(t, tab, w)

	do(t, tab, "delete", browser.SignIn(w.home.url, person, password), browser.Press("Ticketing"), browser.Press("Delete…"), browser.See("What becomes of the points?"))
	axe(t, tab, "delete dialog")
	do(t, tab, "name it", browser.Fill("To go on, type the group's name: Ticketing", "Ticketing"), browser.Press("Delete the group"), browser.See("No group yet"))
	require.Empty(t, must[[]api.Group](w.home, "GET", "/groups", nil))
}

// listsInTheConsole: lists are ordered, narrowed and paged by the service, their
// rows can be chosen, and the address says what a page shows.
func listsInTheConsole(t *testing.T, tab context.Context, w *world, g api.Group) {
	names := func(want string) chromedp.Action[chromedp.Void] {
		return func(ctx context.Context, x *chromedp.Target) (chromedp.Void, error) {
			_, err := chromedp.Poll[bool](fmt.Sprintf(`[...document.querySelectorAll("tbody td:nth-child(2) div.font-semibold")].map((x) => x.textContent).join(" ") === %q`, want))(ctx, x)
			return chromedp.Void{}, err
		}
	}
	at := func(path string) chromedp.Action[chromedp.Void] { return chromedp.Navigate(w.home.url + path) }
	tick := func(label string) chromedp.Action[chromedp.Void] {
		return chromedp.Click(chromedp.Search(fmt.Sprintf(`//input[@aria-label=%q]`, label)))
	}
	do(t, tab, "another order", browser.Press("Machines"), browser.Press("Machine"), names("bare slow spare tick-app tick-db tick-web"), browser.Press("Machine ↑"), names("tick-web tick-db tick-app spare slow bare"))
	do(t, tab, "some of them", browser.Fill("Find machines", "tick"), names("tick-web tick-db tick-app"))
	do(t, tab, "the same by its address", at("/machines?sort=-name&q=tick"), names("tick-web tick-db tick-app"))
	axe(t, tab, "machines, ordered")
	do(t, tab, "choose", tick("Select tick-web"), browser.See("1 selected"))
	axe(t, tab, "machines, one chosen")
	do(t, tab, "protect what is chosen", browser.Press("Protect 1 machine together…"), browser.See("1 machine to"))

	do(t, tab, "several groups at once", browser.Press("Groups"), chromedp.WaitVisible(chromedp.Search(`//input[@aria-label="Select Ticketing"]`)), tick("Select all that are shown"), browser.See("1 selected"), browser.Press("Pause…"), browser.See("Pause Ticketing"))
	where, err := chromedp.Run(tab, chromedp.Evaluate[string](`location.href`))
	require.NoError(t, err)
	do(t, tab, "the dialog by its address", chromedp.Navigate(where), browser.See("Pause Ticketing"), browser.Fill("Why", "all at once"), browser.Press("Pause the cycles"), chromedp.WaitNotPresent(chromedp.CSS("[role=dialog]")))
	require.Equal(t, "all at once", w.home.group(g.ID).Pause.Reason)
	do(t, tab, "and on again", tick("Select Ticketing"), browser.Press("Resume"), chromedp.WaitVisible(chromedp.Search(`//button[text()="Resume" and @disabled]`)))

	// More lines than a page has: what is out of sight is not in the page, and the
	// oldest line comes when one scrolls to it.
	for range 60 {
		must[api.Group](w.home, "POST", "/groups/"+g.ID+"/pause", "{}")
		must[api.Group](w.home, "POST", "/groups/"+g.ID+"/resume", nil)
	}
	rows := `document.querySelectorAll("tbody tr[data-index]").length`
	do(t, tab, "many lines", browser.Press("Activity"), browser.See("100 lines so far"))
	shown, err := chromedp.Run(tab, chromedp.Evaluate[int](rows))
	require.NoError(t, err)
	require.Less(t, shown, 90, "rows out of sight are not in the page")
	lines := must[[]api.Activity](w.home, "GET", "/activity?limit=500", nil)
	first := lines[len(lines)-1]
	do(t, tab, "the oldest: "+first.Text, chromedp.Func(func(ctx context.Context, x *chromedp.Target) error {
		_, err := chromedp.Poll[bool](fmt.Sprintf(`(window.scrollTo(0, document.body.scrollHeight), document.body.innerText.includes(%q))`, strings.TrimPrefix(first.Text, first.Who+" ")))(ctx, x)
		return err
	}))

	// Who may only look is offered nothing else.
	inv := must[api.PersonInvitation](w.home, "POST", "/people", api.NewPerson{Role: "viewer"})
	res := w.home.raw("POST", "/welcome", "", api.Welcome{Token: inv.Link[strings.Index(inv.Link, "#")+1:], Name: "deck-hand", Password: password})
	require.NoError(t, res.Body.Close())
	offered := func(path string) string {
		do(t, tab, path, at(path), chromedp.WaitVisible(chromedp.CSS("h1")), browser.See("● live"))
		text, err := chromedp.Run(tab, chromedp.Evaluate[string](`[...document.querySelectorAll("main button, main input[type=checkbox]")].map((x) => x.textContent || x.ariaLabel).join(" | ")`))
		require.NoError(t, err)
		return text
	}
	do(t, tab, "a viewer", browser.SignIn(w.home.url, "deck-hand", password), browser.See("would lose less than it promised"))
	for _, path := range []string{"/groups/" + g.ID, "/groups", "/points", "/machines", "/sites", "/platforms", "/store"} {
		text := offered(path)
		for _, word := range []string{"Pause", "Run", "Delete", "Pin", "Start", "together", "Add", "Invite", "Remove", "Verify", "Select", "New group"} {
			require.NotContains(t, text, word, path)
		}
	}
	do(t, tab, "tokens of their own", at("/access"), browser.See("API tokens"))
	do(t, tab, "who was sent an address gets there by signing in", chromedp.Click(chromedp.Search(`//button[@aria-label="Sign out"]`)), browser.See("Sign in"), at("/machines?sort=-name&q=tick"),
		browser.Fill("Name", person), browser.Fill("Password", password), browser.Press("Sign in"), names("tick-web tick-db tick-app"))
}
