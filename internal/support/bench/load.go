package bench

import (
	"context"
	"fmt"
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
	loadGroups = 200
	loadDisk   = 256 << 10
	loadEvery  = 5 * time.Minute
	loadTarget = 15 * time.Minute
	loadWatch  = 6 * time.Minute
)

// load has groups of four machines, of whose disks nothing much changes, copied between two
// sites, and looks at whether they keep their targets, and at what that takes.
func load(ctx context.Context, o Options) (Result, error) {
	n, watch := loadGroups, loadWatch
	if o.Groups > 0 {
		n = o.Groups
	}
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
		for i := range n {
			var of []string
			for m := range loadCrew {
				of = append(of, fmt.Sprintf("quay-%04d-%d", i, m))
			}
			_, err := call[api.Group](ctx, w.home, "POST", "/groups", api.NewGroup{Name: fmt.Sprintf("Quay %04d", i), Machines: of, Link: "recovery",
				Promise: &api.Promise{RpoTargetSeconds: int64(loadTarget / time.Second), CadenceSeconds: int64(loadEvery / time.Second), Keep: []api.Rung{{ForSeconds: 86400}}}})
			if err != nil {
				return err
			}
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

// copied counts the groups that are within their targets.
func (w *world) copied(ctx context.Context) (int, error) {
	b, err := call[api.Board](ctx, w.home, "GET", "/board?limit=1", nil)
	return b.Within, err
}

// watchLoad watches for a time, and reads what came of it.
func (w *world) watchLoad(ctx context.Context, r Result, watch time.Duration) error {
	from := time.Now().UTC()
	was := map[string]float64{}
	for _, s := range []*site{w.home, w.recovery} {
		was[s.role] = cpuSeconds(s.cmd.Process.Pid)
	}
	if err := clock.Sleep(ctx, clock.Wall{}, watch); err != nil {
		return err
	}
	took := time.Since(from).Seconds()
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
	r.Figures["cycles_a_minute"], r.Figures["failed"], r.Figures["missed"] = float64(a.Total.Sealed)/took*60, float64(a.Total.Failed), float64(a.Total.Missed)
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
