package bench

import (
	"context"
	"fmt"
	"io"
	"net/http"
	"os"
	"path/filepath"
	"time"

	"github.com/chromedp/chromedp"

	"kestrel/internal/api"
	"kestrel/internal/nbd"
	"kestrel/internal/support/browser"
	"kestrel/internal/support/large"
	"kestrel/internal/support/pgcluster"
)

// The site of the board's bench: as many links, groups, and machines in each.
const (
	manyLinks  = 20
	manyGroups = 2000
	crew       = 5
)

// board is a site with thousands of groups, all of whose links are down: what people look at
// is asked for, and drawn.
func board(ctx context.Context, o Options) (Result, error) {
	groups, asks := pick(o.Quick, 200, manyGroups), pick(o.Quick, 20, 100)
	dir, err := os.MkdirTemp("/var/tmp", "kestrel-bench")
	if err != nil {
		return Result{}, err
	}
	defer func() { _ = os.RemoveAll(dir) }()
	if err := os.Chmod(dir, 0o711); err != nil { // the cluster's user has to pass
		return Result{}, err
	}
	pg, err := pgcluster.Start(ctx, filepath.Join(dir, "pg"), 0)
	if err != nil {
		return Result{}, err
	}
	defer func() { _ = pg.Stop() }()
	db, err := pg.Database(ctx, "large")
	if err != nil {
		return Result{}, err
	}
	w := &world{dir: dir, ids: map[string]string{}}
	var machines []machineSpec
	for i := range groups * crew {
		machines = append(machines, machineSpec{name: large.Machine(i)}) // without disks: the lab holds each open
	}
	stopLab, labURL, err := w.startLab(ctx, machines, func(x nbd.Exporter) nbd.Exporter { return x })
	if err != nil {
		return Result{}, err
	}
	defer stopLab()
	if w.home, err = startSite(ctx, o, "home", filepath.Join(dir, "home"), db); err != nil {
		return Result{}, err
	}
	defer func() { w.home.stop() }()
	p, err := call[api.Platform](ctx, w.home, "POST", "/platforms", api.NewPlatform{Name: "lab", Kind: "lab", Address: labURL, User: new("lab"), Password: new(password)})
	if err != nil {
		return Result{}, err
	}
	if err := large.Fill(ctx, db, large.Size{Links: manyLinks, Groups: groups, Crew: crew}, p.ID, func(i int) string { return w.ids[large.Machine(i)] }); err != nil {
		return Result{}, err
	}
	w.home.stop()
	begun := time.Now()
	if err := w.home.run(ctx); err != nil {
		return Result{}, err
	}
	r := Result{Runs: asks, RawUnit: "ms", Figures: map[string]float64{"ready_s": time.Since(begun).Seconds()}, Aim: "p99 of the board < 100 ms, first paint < 1.5 s, < 1 GiB"}
	err = until(ctx, func() (bool, error) {
		ps, err := call[[]api.Platform](ctx, w.home, "GET", "/platforms", nil)
		return len(ps) == 1 && ps[0].Machines == groups*crew, err
	})
	if err != nil {
		return r, err
	}
	for _, x := range []struct{ name, path string }{{"board", "/board?limit=60"}, {"groups", "/groups?limit=100"}, {"groups_found", "/groups?q=07&sort=-exposure&limit=100"}, {"names", "/group-names"}, {"figures", "/figures"}, {"machines", "/machines?limit=100"},
		{"coverage", "/coverage"}, {"readiness", "/readiness"}, {"alerts", "/alerts"}, {"points", "/points?limit=100"}, {"search", "/search?q=042"}} {
		ms, size, err := asked(ctx, w.home, x.path, asks)
		if err != nil {
			return r, err
		}
		if x.name == "board" {
			r.Raw = ms
		}
		r.Figures[x.name+"_p50_ms"], r.Figures[x.name+"_p99_ms"], r.Figures[x.name+"_kib"] = median(ms), quantile(ms, 0.99), size/1024
	}
	if err := drawn(ctx, w.home, r.Figures); err != nil {
		return r, err
	}
	r.Figures["peak_mib"], err = peakResident(w.home.cmd.Process.Pid)
	return r, err
}

// asked asks for something again and again, and tells how long each answer took, in
// milliseconds, and how large the last was, in bytes.
func asked(ctx context.Context, s *site, path string, n int) (ms []float64, size float64, err error) {
	for range n {
		req, err := http.NewRequestWithContext(ctx, http.MethodGet, s.url+"/api/v1"+path, nil)
		if err != nil {
			return nil, 0, err
		}
		req.Header.Set("Authorization", "Bearer "+s.token)
		begun := time.Now()
		res, err := http.DefaultClient.Do(req)
		if err != nil {
			return nil, 0, err
		}
		b, err := io.ReadAll(res.Body)
		_ = res.Body.Close()
		if err != nil {
			return nil, 0, err
		}
		if res.StatusCode != http.StatusOK {
			return nil, 0, fmt.Errorf("%s: %s: %s", path, res.Status, b)
		}
		ms, size = append(ms, float64(time.Since(begun).Microseconds())/1000), float64(len(b))
	}
	return ms, size, nil
}

// drawn opens the board in a browser, and tells how long it takes until it is there.
func drawn(ctx context.Context, s *site, into map[string]float64) error {
	tab, stop, err := browser.Open(ctx, 1280, 800)
	if err != nil {
		return err
	}
	defer stop()
	if err := chromedp.Do(tab, browser.SignIn(s.url, "bench", password)); err != nil {
		return err
	}
	for _, x := range []struct{ name, path, there string }{{"board", "/", "All groups"}, {"groups", "/groups", "Show more"}} {
		if err := chromedp.Do(tab, chromedp.Navigate(s.url+x.path), browser.See(x.there)); err != nil {
			return err
		}
		paint, err := chromedp.Run(tab, chromedp.Evaluate[float64](`Math.max(...performance.getEntriesByType("paint").map((p) => p.startTime))`))
		if err != nil {
			return err
		}
		there, err := chromedp.Run(tab, chromedp.Evaluate[float64](`performance.now()`))
		if err != nil {
			return err
		}
		into[x.name+"_paint_ms"], into[x.name+"_drawn_ms"] = paint, there
	}
	return nil
}
