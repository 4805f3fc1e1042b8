package e2e

import (
	"bytes"
	"context"
	"encoding/csv"
	"io"
	"maps"
	"net/http"
	"slices"
	"testing"
	"time"

	"github.com/chromedp/chromedp"
	"github.com/stretchr/testify/require"

	"kestrel/internal/api"
	"kestrel/internal/support/browser"
)

// reportsInTheConsole: a report is looked at, had as files, and sent by calendar; how things
// went is drawn; and somebody who comes back is told what happened.
func reportsInTheConsole(t *testing.T, tab context.Context, w *world) {
	at := func(path string) chromedp.Action[chromedp.Void] { return chromedp.Navigate(w.home.url + path) }
	gone := chromedp.WaitNotPresent(chromedp.CSS("[role=dialog]"))
	g := must[[]api.Group](w.home, http.MethodGet, "/groups", nil)[0]
	w.eventually("something is measured", func() bool {
		m := must[api.Measures](w.home, http.MethodGet, "/groups/"+g.ID+"/measures", nil)
		l := must[api.Measures](w.home, http.MethodGet, "/links/"+g.Link+"/measures?what=out", nil)
		s := must[api.Measures](w.recovery, http.MethodGet, "/store/measures", nil)
		return len(m.Series) > 3 && len(l.Series) == 1 && len(s.Series) >= 2
	})
	do(t, tab, "how a group went", at("/groups/"+g.ID+"?over=6h"), browser.See("Over time"), browser.See("Changed, and sent of it"), browser.See("What was changed"), chromedp.WaitVisible(chromedp.CSS("figure canvas")))
	axe(t, tab, "group over time")
	do(t, tab, "how a link went", at("/sites"), browser.See("over time"), browser.See("Across the link"))
	w.eventually("it is known whose the room is", func() bool {
		x := must[[]api.StoreSpace](w.recovery, http.MethodGet, "/store/space", nil)
		return len(x) == 1 && len(x[0].Groups) > 0 && x[0].Groups[0].AloneBytes > 0
	})

	do(t, tab, "a report", at("/reports"), browser.See("Within the promise"), browser.See("By days"), browser.See("No report is sent by itself."))
	axe(t, tab, "reports")
	do(t, tab, "sent by calendar", browser.Press("Send one by calendar…"), browser.Fill("Name", "board"), browser.Fill("Sent", "now and then"), chromedp.Click(chromedp.Search(`//label[contains(., "desk")]/input`)), browser.Press("Save"), browser.See("has no time"))
	axe(t, tab, "report plan dialog")
	do(t, tab, "at a time", browser.Fill("Sent", "mon at 07:00"), browser.Press("Save"), gone, browser.See("monday at 07:00"))
	do(t, tab, "sent now", chromedp.Click(chromedp.Search(`//button[@aria-label="More for board"]`)), browser.Press("Send it now"), browser.See("board is on its way."))
	w.eventually("it is taken", func() bool {
		for _, c := range must[[]api.Channel](w.home, http.MethodGet, "/channels", nil) {
			if c.Name == "desk" {
				return c.Waiting == 0 && c.LastEvent != nil && *c.LastEvent == "report"
			}
		}
		return false
	})
	file := func(query, kind string) []byte {
		res := w.home.raw(http.MethodGet, "/report?"+query, w.home.token, nil)
		defer func() { _ = res.Body.Close() }()
		require.Equal(t, kind, res.Header.Get("Content-Type"))
		b, err := io.ReadAll(res.Body)
		require.NoError(t, err)
		return b
	}
	require.True(t, bytes.HasPrefix(file("format=pdf", "application/pdf"), []byte("%PDF-")))
	rows, err := csv.NewReader(bytes.NewReader(file("format=csv&by=tag", "text/csv"))).ReadAll()
	require.NoError(t, err)
	require.Equal(t, "tag", rows[0][0])

	do(t, tab, "in figures", at("/?by=way"), browser.See("In figures"), browser.See("Norhaven → Eastmole"), browser.See("Would recover"))
	axe(t, tab, "board in figures")
	before := time.Now().Add(-3 * time.Hour).UTC().Format(time.RFC3339)
	told := map[string]bool{}
	for _, l := range must[api.Happened](w.home, http.MethodGet, "/happened?since="+before, nil).Lines {
		told[*l.Href] = true
	}
	require.Subset(t, slices.Collect(maps.Keys(told)), []string{"/attainment", "/activity"}, "how promises were kept, and what people did")
	do(t, tab, "somebody comes back", func(ctx context.Context, tt *chromedp.Target) (chromedp.Void, error) {
		_, err := chromedp.Evaluate[string](`localStorage.setItem("looked:`+person+`", "`+before+`"); "ok"`)(ctx, tt)
		return chromedp.Void{}, err
	}, at("/"), browser.See("Since you last looked"), browser.See("sealed"), browser.Press("Seen"), chromedp.WaitNotPresent(chromedp.Search(`//*[contains(text(), "Since you last looked")]`)))
}
