package e2e

import (
	"context"
	"testing"

	"github.com/chromedp/chromedp"
	"github.com/stretchr/testify/require"

	"kestrel/internal/api"
	"kestrel/internal/support/browser"
)

// scopeInTheConsole: machines are left out on purpose and taken back, a tier is made and
// changed with what that makes of its group, a group follows it and joins machines by a
// rule, and the calendar shows its starts. Nothing that is typed is lost by an error.
func scopeInTheConsole(t *testing.T, tab context.Context, w *world) {
	at := func(path string) chromedp.Action[chromedp.Void] { return chromedp.Navigate(w.home.url + path) }
	tick := func(label string) chromedp.Action[chromedp.Void] {
		return chromedp.Click(chromedp.Search(`//input[@aria-label="` + label + `"]`))
	}
	do(t, tab, "coverage", at("/machines?coverage=open"), browser.See("that are to be"), browser.See("unprotected"))
	axe(t, tab, "machines with coverage")
	do(t, tab, "leave out", tick("Select slow"), browser.Press("Leave 1 out…"), browser.See("Leave slow out on purpose"), browser.Press("Leave out"), browser.See("Say why they are left out"),
		browser.Fill("Why", "it is rented"), browser.Press("Leave out"), chromedp.WaitNotPresent(chromedp.CSS("[role=dialog]")), browser.See("1 left out on purpose"))
	left := must[[]api.Machine](w.home, "GET", "/machines?coverage=left%20out", nil)
	require.Len(t, left, 1)
	require.Equal(t, "it is rented", left[0].LeftOut.Reason)
	do(t, tab, "take back", at("/machines?coverage=left%20out"), browser.See("it is rented"), tick("Select slow"), browser.Press("Take 1 back"), browser.See("No machine fits."))

	do(t, tab, "a survey", at("/machines?q=spare"), tick("Select spare"), browser.Press("Survey 1…"), browser.See("how much they change is watched"), browser.Fill("Name", "Spare"), browser.Fill("Days", "0"), browser.Press("Begin"), browser.See("from 10 min"),
		browser.Fill("Days", "1"), browser.Press("Begin"), browser.See("Nothing has been seen yet"))
	axe(t, tab, "survey")
	do(t, tab, "stop it", browser.Press("Stop"), browser.See("Delete"))

	do(t, tab, "a tier", at("/tiers"), browser.See("No tier yet"), browser.Press("New tier…"), browser.Fill("Name", "Harbour-1"), browser.Fill("Cycles start every, or at", "20 min"), browser.Press("Make the tier"), browser.See("cannot keep an RPO target"),
		browser.Fill("Cycles start every, or at", "4 min"), browser.Press("Make the tier"), chromedp.WaitNotPresent(chromedp.CSS("[role=dialog]")), browser.See("every 4 min"))
	axe(t, tab, "tiers")

	// By a rule, under the tier: what differs needs a reason, and nothing typed is lost.
	tiers := must[[]api.Tier](w.home, "GET", "/tiers", nil)
	require.Len(t, tiers, 1)
	do(t, tab, "a group by a rule", at("/groups/new"), browser.Press("Let machines join by a rule"), browser.Fill("Rule", "name tick-web or any"), browser.See(`There is no "or"`), browser.Fill("Rule", ""), browser.See("to catch the rest"), browser.Fill("Rule", "name tick-web"), browser.See("It matches 1 machine now, of which 1 would join"),
		browser.Fill("Name", "Web"), browser.Choose("Tier", tiers[0].ID), browser.Fill("Cycles start every, or at", "daily at 02:00"), browser.See("cannot keep an RPO target"), browser.Fill("RPO target", "2 d"), browser.See("why its"),
		browser.Fill("Why it differs", "it changes by night only"), browser.See("Worst exposure"))
	axe(t, tab, "new group by a rule")
	do(t, tab, "make it", browser.Press("Make the group"), browser.See("Machines join by the rule"), browser.See("differs: it changes by night only"))
	axe(t, tab, "group by a rule")
	var web api.Group
	for _, g := range must[[]api.Group](w.home, "GET", "/groups", nil) {
		if g.Name == "Web" {
			web = g
		}
	}
	require.Equal(t, "daily at 02:00", *web.Promise.Cadence)
	require.Len(t, web.Tier.Differs, 2)
	do(t, tab, "change the tier", at("/tiers?dialog=edit:"+tiers[0].ID), browser.See("Change Harbour-1"), browser.Fill("Keep ladder", "all 1h, 1h 3d"), browser.See("What it makes of 1 group"), browser.See("keep: all 6h, 1h 2d, 1d 2w → all 1h, 1h 3d"))
	axe(t, tab, "change of a tier")
	do(t, tab, "save it", browser.Press("Save"), chromedp.WaitNotPresent(chromedp.CSS("[role=dialog]")), browser.See("all 1h, 1h 3d"))
	require.Equal(t, int64(3*86400), must[api.Group](w.home, "GET", "/groups/"+web.ID, nil).Promise.Keep[1].ForSeconds)

	do(t, tab, "the calendar", at("/calendar"), browser.See("Web"), browser.See("Steady"))
	axe(t, tab, "calendar")
	do(t, tab, "a month of it", at("/calendar?view=month"), browser.See("02:00 Web"))
	axe(t, tab, "month")
	require.Equal(t, 204, w.home.raw("DELETE", "/groups/"+web.ID+"?points=delete", w.home.token, nil).StatusCode)
}
