// Command kestrel-shots takes the pictures of docs/screenshots from a running
// demo: every page of the console in headless Chromium, and the terminal view
// in a terminal window under Xvfb.
package main

import (
	"context"
	"encoding/json"
	"errors"
	"flag"
	"fmt"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"time"

	"github.com/chromedp/chromedp"

	"kestrel/internal/api"
	"kestrel/internal/support/browser"
)

func main() {
	state := flag.String("state", "", "state folder of the running demo")
	out := flag.String("out", "docs/screenshots", "where the pictures go")
	binary := flag.String("binary", "bin/kestrel", "the kestrel binary")
	only := flag.String("only", "", "take only pictures whose name contains this")
	flag.Parse()
	if err := run(context.Background(), *state, *out, *binary, *only); err != nil {
		fmt.Fprintln(os.Stderr, "shots:", err)
		os.Exit(1)
	}
}

type shot struct {
	name          string
	path          string
	await         string // text that shows when the page is complete
	width, height int
	do            chromedp.Action[chromedp.Void]
	at            string // the site, if it is not the one before
}

func run(ctx context.Context, state, out, binary, only string) error {
	var secrets struct{ User, Password string }
	var profiles struct {
		Profiles map[string]struct{ URL, Token string }
	}
	for file, to := range map[string]any{"sign-in.json": &secrets, "profiles.json": &profiles} {
		b, err := os.ReadFile(filepath.Join(state, file))
		if err != nil {
			return fmt.Errorf("is the demo running with --state %s? %w", state, err)
		}
		if err := json.Unmarshal(b, to); err != nil {
			return err
		}
	}
	home := profiles.Profiles["norhaven"]
	surveys, err := fetch[[]api.Survey](home.URL+"/api/v1/surveys", home.Token)
	if err != nil {
		return err
	}
	survey := ""
	for _, s := range surveys {
		survey = s.ID
	}
	groups, err := fetch[[]api.Group](home.URL+"/api/v1/groups", home.Token)
	if err != nil {
		return err
	}
	id := map[string]string{}
	for _, g := range groups {
		id[g.Name] = g.ID
	}
	drills, err := fetch[[]api.Drill](home.URL+"/api/v1/drills", home.Token)
	if err != nil {
		return err
	}
	tried := ""
	for _, d := range drills {
		tried = d.ID
	}
	if err := os.MkdirAll(out, 0o755); err != nil {
		return err
	}
	tick := func(machine string) chromedp.Action[chromedp.Void] {
		return chromedp.Click(chromedp.Search(fmt.Sprintf(`//label[.//span[text()=%q]]`, machine)))
	}
	shots := []shot{
		{name: "tide-board", path: "/", await: "Exposure, up to 6 hours back"},
		{name: "tide-board-phone", path: "/", await: "Exposure, up to 6 hours back", width: 390, height: 844},
		{name: "group", path: "/groups/" + id["Vessel tracking"], await: "Recovery points"},
		{name: "groups", path: "/groups", await: "Next cycle"},
		{name: "alerts", path: "/alerts", await: "since"},
		{name: "group-new", path: "/groups/new", await: "What comes of it", do: chromedp.Steps(tick("berth-kiosk"), chromedp.Sleep(time.Second))},
		{name: "points", path: "/points?group=" + id["Vessel tracking"], await: "long-term", at: "eastmole"},
		{name: "berth", path: "/groups/" + id["Vessel tracking"] + "/berth", await: "track-ingest-em"},
		{name: "forecast", path: "/forecast", await: "were stepped through"},
		{name: "drill", path: "/drills/" + tried, await: "What they showed"},
		{name: "machines", path: "/machines", await: "that are to be"},
		{name: "survey", path: "/surveys/" + survey, await: "What they would need"},
		{name: "calendar", path: "/calendar", await: "Steady"},
		{name: "sites", path: "/sites", await: "Eastmole"},
		{name: "access", path: "/access", await: "API tokens"},
		{name: "reports", path: "/reports?over=week", await: "Within the promise"},
	}
	if id["Boarding"] != "" { // a demo with real guests
		away := profiles.Profiles["eastmole"]
		if err := landOne(ctx, away.URL, away.Token, id["Boarding"]); err != nil {
			return fmt.Errorf("land a machine: %w", err)
		}
		shots = append(shots,
			shot{name: "landings", path: "/landings", await: "boarding-db", at: "eastmole"})
	}
	tab, stop, err := browser.Open(ctx, 1280, 800)
	if err != nil {
		return err
	}
	defer stop()
	signedIn := ""
	for _, s := range shots {
		if !strings.Contains(s.name, only) {
			continue
		}
		site := home
		if s.at != "" {
			site = profiles.Profiles[s.at]
		}
		if signedIn != site.URL {
			// One session for all ports of this machine: cookies know no ports.
			if err := chromedp.Do(tab, browser.SignIn(site.URL, secrets.User, secrets.Password)); err != nil {
				return err
			}
			signedIn = site.URL
		}
		if s.width == 0 {
			s.width, s.height = 1280, 800
		}
		tctx, cancel := context.WithTimeout(tab, 30*time.Second)
		steps := []chromedp.Action[chromedp.Void]{browser.Size(s.width, s.height),
			func(ctx context.Context, t *chromedp.Target) (chromedp.Void, error) {
				_, err := chromedp.Evaluate[string](`localStorage.setItem("theme", "light"); "ok"`)(ctx, t)
				return chromedp.Void{}, err
			},
			chromedp.Navigate(site.URL + s.path), browser.See(s.await), chromedp.Sleep(1200 * time.Millisecond)} // charts and fonts settle
		if s.do != nil {
			steps = append(steps, s.do)
		}
		err := chromedp.Do(tctx, steps...)
		if err == nil {
			err = browser.Picture(tctx, filepath.Join(out, s.name+".png"))
		}
		cancel()
		if err != nil {
			return fmt.Errorf("%s: %w", s.name, err)
		}
		fmt.Println(filepath.Join(out, s.name+".png"))
	}
	if strings.Contains("failover", only) {
		if err := failed(ctx, tab, home.URL, home.Token, out, secrets.User, secrets.Password); err != nil {
			return fmt.Errorf("failover: %w", err)
		}
	}
	if strings.Contains("terminal", only) {
		return terminal(ctx, state, out, binary)
	}
	return nil
}

// landOne starts a machine from the newest point, slowly, so that there is
// something to see; a picture taken earlier may have left it.
func landOne(ctx context.Context, url, token, group string) error {
	points, err := fetch[[]api.Point](url+"/api/v1/points?group="+group, token)
	if err != nil || len(points) == 0 {
		return fmt.Errorf("no point of the real guests: %w", err)
	}
	landings, err := fetch[[]api.Landing](url+"/api/v1/landings", token)
	if err != nil {
		return err
	}
	c, err := client(url, token)
	if err != nil {
		return err
	}
	for _, l := range landings {
		res, err := c.DeleteLanding(ctx, l.ID)
		if err != nil {
			return err
		}
		_ = res.Body.Close()
	}
	for _, x := range []api.NewLanding{{Machines: &[]string{"boarding-app"}}, {Machines: &[]string{"boarding-db"}, LocalBytesPerSecond: new(int64(1 << 20))}} {
		x.Point, x.Platform = points[0].ID, new("eastmole-quay")
		res, err := c.CreateLandings(ctx, nil, x)
		if err != nil {
			return err
		}
		_ = res.Body.Close()
		if res.StatusCode != http.StatusCreated {
			return fmt.Errorf("the site answers %s", res.Status)
		}
	}
	time.Sleep(3 * time.Second)
	return nil
}

// failed takes the picture of a failover that is open, which is backed out afterwards: it is the
// last, since the group looks otherwise on other pages meanwhile.
func failed(ctx, tab context.Context, url, token, out, user, password string) error {
	id, back, err := failOver(ctx, url, token, "Harbour gates")
	if back != nil {
		defer back()
	}
	if err != nil {
		return err
	}
	tctx, cancel := context.WithTimeout(tab, 30*time.Second)
	defer cancel()
	if err := chromedp.Do(tctx, browser.SignIn(url, user, password), browser.Size(1280, 800), chromedp.Navigate(url+"/failovers/"+id), browser.See("What they showed"), chromedp.Sleep(1200*time.Millisecond)); err != nil {
		return err
	}
	return browser.Picture(tctx, filepath.Join(out, "failover.png"))
}

func client(url, token string) (*api.Client, error) {
	return api.NewClient(url+"/api/v1", api.WithRequestEditorFn(func(_ context.Context, r *http.Request) error {
		r.Header.Set("Authorization", "Bearer "+token)
		return nil
	}))
}

// failOver has a group run at a site until back is called, and gives the failover's ID when all
// has started.
func failOver(ctx context.Context, url, token, group string) (id string, back func(), err error) {
	c, err := client(url, token)
	if err != nil {
		return "", nil, err
	}
	res, err := c.StartFailover(ctx, group, api.NewFailover{Planned: new(true), Confirm: &group})
	if err != nil {
		return "", nil, err
	}
	defer func() { _ = res.Body.Close() }()
	var f api.Failover
	if err := json.NewDecoder(res.Body).Decode(&f); err != nil || res.StatusCode != http.StatusCreated {
		return "", nil, errors.Join(err, fmt.Errorf("the site answers %s", res.Status))
	}
	back = func() {
		if res, err := c.BackOutFailover(ctx, f.ID, api.FailoverBackOut{Confirm: group}); err == nil {
			_ = res.Body.Close()
		}
	}
	for range 120 {
		if f, err = fetch[api.Failover](url+"/api/v1/failovers/"+f.ID, token); err != nil || f.State == "open" {
			return f.ID, back, err
		}
		time.Sleep(time.Second)
	}
	return f.ID, back, fmt.Errorf("it is %s after two minutes", f.State)
}

func fetch[T any](url, token string) (T, error) {
	var v T
	req, err := http.NewRequest(http.MethodGet, url, nil)
	if err != nil {
		return v, err
	}
	req.Header.Set("Authorization", "Bearer "+token)
	res, err := http.DefaultClient.Do(req)
	if err != nil {
		return v, err
	}
	defer func() { _ = res.Body.Close() }()
	return v, json.NewDecoder(res.Body).Decode(&v)
}

// terminal takes the terminal views in an xterm under Xvfb.
func terminal(ctx context.Context, state, out, binary string) error {
	abs, err := filepath.Abs(binary)
	if err != nil {
		return err
	}
	for name, command := range map[string]string{
		"terminal-tide": abs + " tide",
	} {
		png := filepath.Join(out, name+".png")
		cmd := exec.CommandContext(ctx, "xvfb-run", "-a", "-s", "-screen 0 1280x800x24", "sh", "-c",
			`xterm -fa "DejaVu Sans Mono" -fs 10 -bg "#fffdf8" -fg "#0e2233" -geometry 155x46+0+0 -e sh -c "$SHOT" & sleep 4; import -window root "$PNG"; kill %1 2>/dev/null || true`)
		cmd.Env = append(os.Environ(), "SHOT="+command, "PNG="+png, "KESTREL_PROFILES="+filepath.Join(state, "profiles.json"), "LANG=C.UTF-8", "LC_ALL=C.UTF-8")
		if b, err := cmd.CombinedOutput(); err != nil {
			return fmt.Errorf("%s: %w: %s", name, err, b)
		}
		fmt.Println(png)
	}
	return nil
}
