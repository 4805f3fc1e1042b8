package e2e

import (
	"context"
	"fmt"
	"strings"
	"testing"

	"github.com/chromedp/chromedp"
	"github.com/chromedp/chromedp/kb"
	"github.com/stretchr/testify/require"

	"kestrel/internal/api"
	"kestrel/internal/support/browser"
)

// reach goes on with the Tab key until what is focused has a name that begins with text.
func reach(text string) chromedp.Action[chromedp.Void] {
	const named = `(() => {
		const e = document.activeElement;
		return (e.labels?.[0]?.textContent ?? e.getAttribute("aria-label") ?? e.textContent).trim().replace(/\s+/g, " ");
	})()`
	return chromedp.Func(func(ctx context.Context, _ *chromedp.Target) error {
		var seen []string
		for range 200 {
			if err := chromedp.Do(ctx, chromedp.KeyEvent("\t")); err != nil {
				return err
			}
			name, err := chromedp.Run(ctx, chromedp.Evaluate[string](named))
			if err != nil {
				return err
			}
			if strings.HasPrefix(name, text) {
				return nil
			}
			seen = append(seen, name[:min(len(name), 30)])
		}
		return fmt.Errorf("the Tab key does not come to %q, but to %q", text, seen)
	})
}

// typed replaces what is in the focused field.
func typed(text string) chromedp.Action[chromedp.Void] {
	return chromedp.Steps(chromedp.KeyEvent("a", chromedp.KeyModifiers(chromedp.ModifierCtrl)), chromedp.KeyEvent("\b"), chromedp.KeyEvent(text))
}

// holds waits until a field has a value.
func holds(label, value string) chromedp.Action[chromedp.Void] {
	return chromedp.Func(func(ctx context.Context, _ *chromedp.Target) error {
		_, err := chromedp.Run(ctx, chromedp.Poll[bool](fmt.Sprintf(`[...document.querySelectorAll("label")].find((x) => x.textContent.trim() === %q)?.control?.value === %q`, label, value)))
		return err
	})
}

const (
	enter = "\r"
	space = " "
)

// A tier, a group that follows it and the berth of its machines are made by keyboard alone;
// nothing that is typed is lost by an error, a reload or a site that cannot be reached; the
// forecast and the file show what there is.
func TestPromisesInTheConsole(t *testing.T) {
	t.Parallel()
	if raceEnabled {
		t.Skip("the browser driver races with itself when it types; ./dev test runs this test without the race detector")
	}
	w := paired(t)
	tab, stop, err := browser.Open(context.Background(), 1280, 800)
	if err != nil {
		t.Fatalf("%v: ./dev test installs it", err)
	}
	defer stop()
	at := func(path string) chromedp.Action[chromedp.Void] { return chromedp.Navigate(w.home.url + path) }
	key := func(k string) chromedp.Action[chromedp.Void] { return chromedp.KeyEvent(k) }
	do(t, tab, "sign in", browser.SignIn(w.home.url, person, password), browser.See("Nothing is protected yet"))

	do(t, tab, "a tier by keyboard", at("/tiers"), browser.See("No tier yet"), reach("New tier"), key(enter), browser.See("Cycles start every"),
		reach("Name"), typed("Quay-1"), reach("Cycles start every"), typed("20 min"), reach("Make the tier"), key(enter), browser.See("cannot keep an RPO target"))
	do(t, tab, "what was typed is there beside the error, and after a reload", holds("Name", "Quay-1"), chromedp.Reload(), holds("Name", "Quay-1"), holds("Cycles start every, or at", "20 min"))
	do(t, tab, "mended", reach("Cycles start every"), typed("2 min"), reach("Make the tier"), key(enter), chromedp.WaitNotPresent(chromedp.CSS("[role=dialog]")), browser.See("every 2 min"))

	do(t, tab, "a group by keyboard", at("/groups/new"), browser.See("protected already, or that cannot be"), reach("tick-db"), key(space), reach("Name"), typed("Ticketing"))
	do(t, tab, "reload", chromedp.Reload(), browser.See("protected already, or that cannot be"), holds("Name", "Ticketing"))
	tiers := must[[]api.Tier](w.home, "GET", "/tiers", nil)
	require.Len(t, tiers, 1)
	do(t, tab, "go on", reach("Tier"), key(kb.ArrowDown), holds("Tier", tiers[0].ID), browser.See("Worst exposure"), reach("Make the group"), key(enter), browser.See("On target"), browser.See("Quay-1"))
	groups := must[[]api.Group](w.home, "GET", "/groups", nil)
	require.Len(t, groups, 1)
	g := groups[0]
	require.Equal(t, "Quay-1", g.Tier.Name)
	require.Len(t, g.Machines, 1, "the machine that was ticked before the reload")

	do(t, tab, "a change of the tier by keyboard", at("/tiers?dialog=edit:"+tiers[0].ID), browser.See("Change Quay-1"), reach("Keep ladder"), typed("all 1h, monthly 1y long-term"), browser.See("What it makes of 1 group"),
		chromedp.Reload(), browser.See("What it makes of 1 group"), holds("Keep ladder", "all 1h, monthly 1y long-term"), reach("Save"), key(enter), chromedp.WaitNotPresent(chromedp.CSS("[role=dialog]")), browser.See("monthly 1y long-term"))

	do(t, tab, "its berth by keyboard", at("/groups/"+g.ID+"/berth"), browser.See("Machines, before and after"), reach("Names"), typed("{name}-em"), browser.See("→ tick-db-em"))
	axe(t, tab, "berth")
	do(t, tab, "a wrong rule", reach("One a line"), typed("10.1.0.0/16 to nowhere"), browser.See("✕ 1 error: mend"))
	do(t, tab, "reload", chromedp.Reload(), browser.See("What you had typed here before was kept."), browser.See("→ tick-db-em"))
	do(t, tab, "the rule is there", holds("One a line", "10.1.0.0/16 to nowhere"))
	w.recovery.kill()
	do(t, tab, "the other site is away", reach("Search domain"), typed("mole.skerry.example"), browser.See("cannot be reached"))
	do(t, tab, "it is there", holds("Search domain", "mole.skerry.example"))
	w.recovery.start()
	w.eventually("the sites see each other", func() bool { return must[[]api.Link](w.home, "GET", "/links", nil)[0].Up })
	do(t, tab, "save it", reach("One a line"), typed("10.1.0.0/16 -> 10.2.0.0/16"), browser.See("Not saved yet."), reach("Save"), key(enter), chromedp.WaitNotPresent(chromedp.Search(`//*[text()="Not saved yet."]`)))
	w.eventually("it is kept at the other site", func() bool {
		v := must[api.BerthView](w.recovery, "GET", "/groups/"+g.ID+"/berth", nil)
		return v.Revision == 1 && v.Berth.Suffix != nil && *v.Berth.Suffix == "mole.skerry.example"
	})

	do(t, tab, "forecast", at("/forecast"), browser.See("Ticketing"), browser.See("were stepped through"))
	axe(t, tab, "forecast")
	do(t, tab, "the file", at("/file"), browser.See("Settings as a file"), chromedp.WaitVisible(chromedp.CSS("textarea")))
	axe(t, tab, "file")
	do(t, tab, "a fault in it", browser.Fill("Settings as a file", "kind: tier\nname: Quay-1\nrpo: 5 min\ncadense: 2 min\n"), browser.Press("What would it change?"), browser.See("cadense"))
	axe(t, tab, "faults of a file")
	do(t, tab, "reload", chromedp.Reload(), chromedp.WaitVisible(chromedp.CSS("textarea")))
	text, err := chromedp.Run(tab, chromedp.Evaluate[string](`document.querySelector("textarea").value`))
	require.NoError(t, err)
	require.Contains(t, text, "cadense", "what was typed is there after a reload")
	do(t, tab, "mend it", browser.Fill("Settings as a file", "kind: tier\nname: Quay-1\nrpo: 10 min\ncadence: every 2 min\nkeep: all 6h, monthly 2y long-term\n"), browser.Press("What would it change?"), browser.See("5 min → 10 min"), browser.Press("Apply"))
	w.eventually("it is applied", func() bool {
		return must[api.Group](w.home, "GET", "/groups/"+g.ID, nil).Promise.RpoTargetSeconds == 600
	})
	do(t, tab, "the stores of the other site", browser.SignIn(w.recovery.url, person, password), chromedp.Navigate(w.recovery.url+"/store"), browser.See("There is none, so what long-term rungs keep stays"))
	axe(t, tab, "stores")

	must[api.Platform](w.recovery, "POST", "/platforms", api.NewPlatform{Name: "mole", Kind: "lab", Address: w.lab.url, User: new("lab"), Password: new("lab-password")})
	w.eventually("its platform is seen", func() bool { return must[[]api.Platform](w.recovery, "GET", "/platforms", nil)[0].Reachable })
	landed := must[[]api.Landing](w.recovery, "POST", "/landings", api.NewLanding{Point: w.recovery.points(g.ID)[0].ID, Platform: new("mole"), Prefix: new("try-")})[0]
	do(t, tab, "look at its screen", chromedp.Navigate(w.recovery.url+"/landings"), browser.See("try-tick-db"), reach("More for try-tick-db"), key(enter), browser.See("Look at its screen…"), key(enter),
		browser.See("The screen of try-tick-db"), chromedp.WaitVisible(chromedp.CSS("[role=dialog] img")))
	_, err = chromedp.Run(tab, chromedp.Poll[bool](`document.querySelector("[role=dialog] img")?.naturalWidth > 200`))
	require.NoError(t, err)
	axe(t, tab, "screen")
	w.eventually("it is local", func() bool {
		return must[api.Landing](w.recovery, "GET", "/landings/"+landed.ID, nil).State == api.LandingStateLocal
	})
	do(t, tab, "switch it off", browser.Press("Close"), chromedp.WaitNotPresent(chromedp.CSS("[role=dialog]")), reach("More for try-tick-db"), key(enter), browser.Press("Switch it off at once…"),
		browser.See("as if its plug was pulled"), browser.Fill("To go on, type the machine's name: try-tick-db", "try-tick-db"), browser.Press("Switch it off"), chromedp.WaitNotPresent(chromedp.CSS("[role=dialog]")))
	w.eventually("it is off", func() bool {
		p := must[api.Landing](w.recovery, "GET", "/landings/"+landed.ID, nil).Power
		return p != nil && *p == "off"
	})
	do(t, tab, "which is seen", browser.See("off now; started"))
}
