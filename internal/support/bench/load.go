package bench

import (
	"cmp"
	"context"
	"fmt"
	"math"
	"os"
	"strings"
	"time"

	"kestrel/internal/api"
	"kestrel/internal/clock"
	"kestrel/internal/nbd"
)

// The load of the bench large, if nothing else is said. The lab holds two files of each machine
// open, of which 20,000 are allowed.
const (
	loadCrew   = 4
	loadDisk   = 256 << 10
	loadEvery  = 5 * time.Minute
	loadTarget = 15 * time.Minute
	loadWatch  = 6 * time.Minute
)

// load has groups of four machines, of whose disks nothing much changes, copied between two
// sites, and looks at whether they keep their targets, and at what that takes: of 200, 1,000
// and 2,000 of them, unless it is said how many.
func load(ctx context.Context, o Options) (Result, error) {
	if o.Groups > 0 {
		return loadOf(ctx, o, o.Groups)
	}
	var all []Result
	for _, n := range []int{200, 1000, 2000} {
		x, err := loadOf(ctx, o, n)
		if err != nil {
			return x, fmt.Errorf("%d groups: %w", n, err)
		}
		all = append(all, x)
	}
	r := Result{Aim: all[0].Aim, RawUnit: "groups", Figures: map[string]float64{}}
	for _, x := range all {
		r.Raw = append(r.Raw, float64(x.Runs))
		for k, v := range x.Figures {
			r.Figures[fmt.Sprintf("%s_%d", k, x.Runs)] = v
		}
	}
	// With what power of the groups they grow: 0 is not at all, 1 is as they do.
	for k := range all[0].Figures {
		if v := growth(all, k); !math.IsNaN(v) {
			r.Figures[k+"_grows"] = v
		}
	}
	return r, nil
}

// growth is the exponent of a figure over the number of groups, by least squares over the
// logarithms of both; NaN where a figure is not positive.
func growth(all []Result, figure string) float64 {
	var sx, sy, sxx, sxy float64
	for _, r := range all {
		x, y := math.Log(float64(r.Runs)), math.Log(r.Figures[figure])
		sx, sy, sxx, sxy = sx+x, sy+y, sxx+x*x, sxy+x*y
	}
	n := float64(len(all))
	v := (n*sxy - sx*sy) / (n*sxx - sx*sx)
	if math.IsInf(v, 0) {
		return math.NaN()
	}
	return v
}

// loadOf is load with so many groups.
func loadOf(ctx context.Context, o Options, n int) (Result, error) {
	watch := loadWatch
	if o.Watch > 0 {
		watch = o.Watch
	}
	var machines []machineSpec
	for i := range n {
		for m := range loadCrew {
			machines = append(machines, machineSpec{name: fmt.Sprintf("quay-%04d-%d", i, m), disks: []int64{loadDisk}})
		}
	}
	r := Result{Runs: n, RawUnit: "ms", Figures: map[string]float64{"groups": float64(n)}, Aim: "within target >= 0.995, board and lists p99 < 100 ms, < 500 MiB a side"}
	return r, withLab(ctx, o, machines, func(x nbd.Exporter) nbd.Exporter { return x }, func(w *world) error {
		if err := until(ctx, func() (bool, error) {
			ps, err := call[[]api.Platform](ctx, w.home, "GET", "/platforms", nil)
			return len(ps) == 1 && ps[0].Machines == len(machines), err
		}); err != nil {
			return err
		}
		links, err := call[[]api.Link](ctx, w.recovery, "GET", "/links", nil)
		if err != nil {
			return err
		}
		if _, err := call[api.Link](ctx, w.recovery, "PATCH", "/links/"+links[0].ID, api.EditLink{MaxGroups: new(10_000)}); err != nil {
			return err
		}
		begun := time.Now()
		v, err := call[api.Applied](ctx, w.home, "POST", "/estate", api.ApplyRequest{Text: estateOf(n, cmp.Or(o.Every, loadEvery))})
		if err != nil {
			return err
		}
		if !v.Applied {
			return fmt.Errorf("the file of groups is refused: %v", v.Faults[:min(3, len(v.Faults))])
		}
		r.Figures["created_s"] = time.Since(begun).Seconds()
		fmt.Fprintf(os.Stderr, "  %d groups made in %.0f s\n", n, r.Figures["created_s"])
		// All have their first copy within an hour, or it is told how many have.
		copied := 0
		for deadline := begun.Add(time.Hour); copied < n && time.Now().Before(deadline); {
			var err error
			if copied, err = w.copied(ctx); err != nil {
				return err
			}
			if err := clock.Sleep(ctx, clock.Wall{}, 2*time.Second); err != nil {
				return err
			}
		}
		r.Figures["copied"], r.Figures["first_copies_s"] = float64(copied), time.Since(begun).Seconds()
		fmt.Fprintf(os.Stderr, "  %d of them copied after %.0f s\n", copied, r.Figures["first_copies_s"])
		return w.watchLoad(ctx, r, watch)
	})
}

// estateOf is a file of so many groups, with a cadence.
func estateOf(n int, every time.Duration) string {
	var b strings.Builder
	for i := range n {
		fmt.Fprintf(&b, "---\nkind: group\nname: Quay %04d\nto: recovery\nrpo: %d min\ncadence: every %d min\nkeep: all 1d\nmachines:\n", i, loadTarget/time.Minute, every/time.Minute)
		for m := range loadCrew {
			fmt.Fprintf(&b, "- quay-%04d-%d\n", i, m)
		}
	}
	return b.String()
}

// copied counts the groups that are within their targets.
func (w *world) copied(ctx context.Context) (int, error) {
	b, err := call[api.Board](ctx, w.home, "GET", "/board?limit=1", nil)
	return b.Within, err
}

// watchLoad watches for a time, and reads what came of it.
func (w *world) watchLoad(ctx context.Context, r Result, watch time.Duration) error {
	from := time.Now().UTC()
	was, asked0 := map[string]float64{"lab": cpuSeconds(os.Getpid())}, map[string]asks{}
	for _, s := range []*site{w.home, w.recovery} {
		was[s.role] = cpuSeconds(s.cmd.Process.Pid)
		var err error
		if asked0[s.role], err = w.asks(ctx, s); err != nil {
			return err
		}
	}
	if err := clock.Sleep(ctx, clock.Wall{}, watch); err != nil {
		return err
	}
	took := time.Since(from).Seconds()
	r.Figures["lab_cpu"] = (cpuSeconds(os.Getpid()) - was["lab"]) / took
	for _, s := range []*site{w.home, w.recovery} {
		pid := s.cmd.Process.Pid
		r.Figures[s.role+"_cpu"] = (cpuSeconds(pid) - was[s.role]) / took
		peak, err := peakResident(pid)
		if err != nil {
			return err
		}
		r.Figures[s.role+"_peak_mib"] = peak
	}
	a, err := call[api.Attainment](ctx, w.home, "GET", "/attainment?from="+from.Format(time.RFC3339), nil)
	if err != nil {
		return err
	}
	r.Figures["within_target"], r.Figures["worst_s"] = a.Total.KeptShare, float64(a.Total.WorstSeconds)
	r.Figures["failed"], r.Figures["missed"] = float64(a.Total.Failed), float64(a.Total.Missed)
	cycles := 1.0
	for _, s := range []*site{w.home, w.recovery} {
		now, err := w.asks(ctx, s)
		if err != nil {
			return err
		}
		if s == w.home {
			cycles = max(1, float64(now.Cycles-asked0[s.role].Cycles))
			r.Figures["cycles_a_minute"] = cycles / took * 60
		}
		r.Figures[s.role+"_statements_a_cycle"] = float64(now.Statements-asked0[s.role].Statements) / cycles
		table, rows := now.mostRead(asked0[s.role])
		r.Figures[s.role+"_rows_read_whole_a_cycle"] = float64(rows) / cycles
		fmt.Fprintf(os.Stderr, "  %s: most rows read from end to end are of %s, %d\n", s.role, table, rows)
	}
	for _, x := range []struct {
		of   *site
		name string
		path string
	}{{w.home, "board", "/board?limit=60"}, {w.home, "groups", "/groups?limit=100"}, {w.home, "points", "/points?limit=100"}, {w.recovery, "recovery_board", "/board?limit=60"}} {
		ms, _, err := asked(ctx, x.of, x.path, 100)
		if err != nil {
			return err
		}
		r.Figures[x.name+"_p50_ms"], r.Figures[x.name+"_p99_ms"] = median(ms), quantile(ms, 0.99)
	}
	return w.again(ctx, r)
}

// againAfter is within what time after a start all that is late has to have run.
const againAfter = 2 * time.Minute

// again starts the home site anew, and looks at when all groups are within their targets.
func (w *world) again(ctx context.Context, r Result) error {
	if err := w.home.cmd.Process.Signal(os.Interrupt); err != nil {
		return err
	}
	_ = w.home.cmd.Wait()
	begun := time.Now()
	if err := w.home.run(ctx); err != nil {
		return err
	}
	r.Figures["restart_ready_s"] = time.Since(begun).Seconds()
	for time.Since(begun) < againAfter {
		in, err := w.copied(ctx)
		if err != nil {
			return err
		}
		r.Figures["restart_within"] = float64(in) / r.Figures["groups"]
		if r.Figures["restart_s"] = time.Since(begun).Seconds(); in == r.Runs {
			break
		}
		if err := clock.Sleep(ctx, clock.Wall{}, time.Second); err != nil {
			return err
		}
	}
	return nil
}

// cpuSeconds is how long a process has computed.
func cpuSeconds(pid int) float64 {
	b, err := os.ReadFile(fmt.Sprintf("/proc/%d/stat", pid))
	if err != nil {
		return 0
	}
	f := strings.Fields(string(b[strings.LastIndexByte(string(b), ')')+1:]))
	var user, system float64
	_, _ = fmt.Sscan(f[11], &user)
	_, _ = fmt.Sscan(f[12], &system)
	return (user + system) / 100 // ticks a second, by the kernel's interface
}
