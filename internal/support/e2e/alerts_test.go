package e2e

import (
	"context"
	"encoding/json"
	"io"
	"net/http"
	"net/http/httptest"
	"slices"
	"strings"
	"sync"
	"testing"

	"github.com/chromedp/chromedp"
	"github.com/stretchr/testify/require"

	"kestrel/internal/api"
	"kestrel/internal/support/browser"
)

// desk takes what sites post to it.
type desk struct {
	mu  sync.Mutex
	got []deskEvent
}

type deskEvent struct {
	ID, Type string
	Data     struct {
		Title string
		Alert struct {
			Kind, Name string
			Groups     []string
		}
	}
}

func newDesk(t *testing.T) (*desk, string) {
	t.Helper()
	d := &desk{}
	s := httptest.NewServer(http.HandlerFunc(func(_ http.ResponseWriter, r *http.Request) {
		body, err := io.ReadAll(r.Body)
		var e deskEvent
		if err == nil {
			err = json.Unmarshal(body, &e)
		}
		if err != nil {
			t.Errorf("an event: %v", err)
		}
		d.mu.Lock()
		defer d.mu.Unlock()
		// What was sent just before a kill may come again, under the same ID.
		if !slices.ContainsFunc(d.got, func(x deskEvent) bool { return x.ID == e.ID }) {
			d.got = append(d.got, e)
		}
	}))
	t.Cleanup(s.Close)
	return d, s.URL
}

// of lists the events of a kind of alert, such as raised.
func (d *desk) of(kind string) (out []string) {
	d.mu.Lock()
	defer d.mu.Unlock()
	for _, e := range d.got {
		if e.Data.Alert.Kind == kind {
			out = append(out, strings.TrimPrefix(e.Type, "kestrel-tide.alert.")+" "+e.Data.Alert.Name+" "+strings.Join(e.Data.Alert.Groups, ","))
		}
	}
	return out
}

// A site that is gone is told of by the other one once, with the groups that it holds up,
// also if the service that tells is killed meanwhile, and is cleared when it is back.
func TestADarkSiteIsToldOfOnce(t *testing.T) {
	t.Parallel()
	w := paired(t)
	d, url := newDesk(t)
	g := w.protect("Ticketing", promise(600, 300), "tick-db")
	w.eventually("it is sealed", func() bool { return len(w.recovery.points(g.ID)) > 0 })
	must[api.Channel](w.recovery, http.MethodPost, "/channels", api.WriteChannel{Name: "desk", Kind: "webhook", URL: &url})
	rules := must[api.AlertRules](w.recovery, http.MethodPut, "/alert-rules", api.WriteAlertRules{Rules: []api.AlertRule{{Kind: "link down", AfterSeconds: new(int64(0))}}})
	require.EqualValues(t, 1, rules.Revision)
	w.home.kill()
	w.eventually("it is told", func() bool { return len(d.of("link down")) > 0 })
	w.recovery.kill()
	w.recovery.start()
	w.eventually("it is open still, and has its group", func() bool {
		for _, a := range must[[]api.Alert](w.recovery, http.MethodGet, "/alerts", nil) {
			if a.Kind == "link down" && len(a.Members) == 1 {
				return true
			}
		}
		return false
	})
	w.home.start()
	w.eventually("it is cleared", func() bool { return len(d.of("link down")) == 2 })
	got := d.of("link down")
	require.True(t, strings.HasPrefix(got[0], "raised Norhaven") && strings.HasPrefix(got[1], "cleared Norhaven"), "%v", got)
	past := must[[]api.Alert](w.recovery, http.MethodGet, "/alerts?state=cleared", nil)
	require.NotEmpty(t, past)
	require.NotNil(t, past[0].ClearedAt)
}

// findInTheConsole: whatever has a name is found from anywhere.
func findInTheConsole(t *testing.T, tab context.Context, w *world) {
	label := "Find groups, machines, sites, platforms, tiers and landed machines by name"
	do(t, tab, "find", chromedp.Navigate(w.home.url+"/store"), browser.See("Point store"), chromedp.KeyEvent("/"), browser.Fill(label, "tick-app"), browser.See("in Ticketing"))
	axe(t, tab, "find")
	do(t, tab, "go there", chromedp.KeyEvent("\r"), browser.See("1 machine"), chromedp.KeyEvent("/"), browser.Fill(label, "no such thing"), browser.See("Nothing is called that."), chromedp.KeyEvent("\x1b"), chromedp.WaitNotPresent(chromedp.CSS("[role=dialog]")))
	hits := must[[]api.Hit](w.home, http.MethodGet, "/search?q=tick", nil)
	require.Equal(t, "Ticketing", hits[0].Name)
	require.Equal(t, "/groups/"+must[[]api.Group](w.home, http.MethodGet, "/groups", nil)[0].ID, hits[0].Page)
}

// alertsInTheConsole: a channel is made and tested, a rule is changed, an alert is
// acknowledged, and another kind is silenced.
func alertsInTheConsole(t *testing.T, tab context.Context, w *world) {
	at := func(path string) chromedp.Action[chromedp.Void] { return chromedp.Navigate(w.home.url + path) }
	more := func(of string) chromedp.Action[chromedp.Void] {
		return chromedp.Click(chromedp.Search(`//button[@aria-label="More for ` + of + `"]`))
	}
	gone := chromedp.WaitNotPresent(chromedp.CSS("[role=dialog]"))
	d, url := newDesk(t)
	do(t, tab, "no channel", at("/alerts?show=channels"), browser.See("nobody is told of alerts"), browser.Press("New webhook…"), browser.Fill("Name", "desk"), browser.Fill("Address", "http://desk.skerry.example"), browser.Press("Save"), browser.See("under TLS only"),
		browser.Fill("Address", url), browser.Press("Save"), browser.See("Shown once:"), browser.Press("I have it"), gone)
	do(t, tab, "test it", more("desk"), browser.Press("Test it"), browser.See("It was taken by"))
	axe(t, tab, "channels")
	require.Len(t, d.of(""), 1)
	do(t, tab, "a mail channel", browser.Press("New mail channel…"), browser.Fill("Name", "on-call"), browser.Fill("Mail server", "127.0.0.1"), browser.Press("Save"), browser.See("is not HOST:PORT"))
	axe(t, tab, "mail channel dialog")
	do(t, tab, "leave it", browser.Press("Not now"), gone)

	do(t, tab, "a rule", at("/alerts?show=rules"), more("over target, all"), browser.Press("Change…"), browser.Fill("After, in minutes", "2"), browser.Press("Save"), gone, browser.See("over target all ▲ Urgent 2 min"))
	axe(t, tab, "alert rules")
	do(t, tab, "one for some", more("tight, all"), browser.Press("Another one for some groups…"), browser.Fill("Which", "lab"), browser.Choose("Raised", "off"), browser.Press("Save"), gone, browser.See("tag lab"))
	rules := must[api.AlertRules](w.home, http.MethodGet, "/alert-rules", nil)
	require.EqualValues(t, 2, rules.Revision)

	must[api.AlertRules](w.home, http.MethodPut, "/alert-rules", api.WriteAlertRules{Revision: 2, Rules: append(rules.Rules, api.AlertRule{Kind: "link down", AfterSeconds: new(int64(0))})})
	w.recovery.relay.setCut(true)
	do(t, tab, "an alert", at("/alerts"), browser.See("link down"), browser.Press("I see to it…"), browser.Fill("Note", "the fibre is being spliced"), browser.Press("I see to it"), gone, browser.See("the fibre is being spliced"))
	axe(t, tab, "alerts")
	w.eventually("the desk is told", func() bool { return len(d.of("link down")) == 1 })
	w.recovery.relay.setCut(false)
	do(t, tab, "a silence", at("/alerts?show=silences"), browser.Press("Silence…"), browser.Fill("Again and again", "sun at two"), browser.Fill("Why", "weekly maintenance"), browser.Press("Silence"), browser.See("is no time of day"),
		browser.Fill("Again and again", "sun at 02:00"), browser.Press("Silence"), gone, browser.See("sunday at 02:00, for 2 h"))
	axe(t, tab, "silences")
	do(t, tab, "end it", more("weekly maintenance"), browser.Press("End it"), browser.See("No silence."))
	w.eventually("the group is copied again", func() bool {
		gs := must[[]api.Group](w.home, http.MethodGet, "/groups", nil)
		return len(gs) > 0 && gs[0].Health == "on target"
	})
}
