// Package bench measures the data path through its real interfaces: two sites
// as processes of their own, a lab, a private PostgreSQL, all on loopback.
// What it compares with are public tools on the same bytes in the same run.
package bench

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"sort"
	"strings"
	"syscall"
	"text/tabwriter"
	"time"
)

// Options for Run.
type Options struct {
	Binary string
	JSON   bool
	Quick  bool
	Groups int // of the bench large; 0 is 200, 1,000 and 2,000 in turn
	Cycles int // that a site of it runs at once; 0 is what it takes by itself
	// Indexed has PostgreSQL read a table from end to end only where no index can be used: of
	// tables with a few hundred rows it would do so because that is faster.
	Indexed bool
	Every   time.Duration // their cadence, in whole minutes; 0 is what it takes by itself
	Watch   time.Duration // that it watches; 0 is what it takes by itself
	Out     io.Writer
}

// Result is what one bench found.
type Result struct {
	Bench   string
	Figures map[string]float64 // by name with unit
	Runs    int
	Raw     []float64 // of each run, in the unit that RawUnit names
	RawUnit string
	Aim     string
}

// MarshalJSON writes the figures under keys of their own beside the rest.
func (r Result) MarshalJSON() ([]byte, error) {
	m := map[string]any{"bench": r.Bench, "runs": r.Runs, "raw": r.Raw, "rawUnit": r.RawUnit}
	if r.Aim != "" {
		m["aim"] = r.Aim
	}
	for k, v := range r.Figures {
		m[k] = v
	}
	return json.Marshal(m)
}

type benchmark struct {
	name string
	what string
	run  func(ctx context.Context, o Options) (Result, error)
}

func benches() []benchmark {
	return []benchmark{
		{"seed", "first copy of a 4 GiB disk: a third zero, half like programs, the rest random", seed},
		{"delta", "1 % of an 8 GiB disk changed at random places", delta},
		{"flat", "the same changed bytes on a 2 GiB and a 64 GiB disk", flat},
		{"idle", "a cycle with nothing changed, three machines, six disks", idle},
		{"dedupe", "a second machine cloned from the same template", dedupe},
		{"nbd", "reads of a point against qemu-nbd on the same disk", reads},
		{"open", "a point exported over NBD, ready to read", open},
		{"prune", "1,000 points thinned to 60", prune},
		{"limit", "what the stages alone would allow", limit},
		{"board", "what 2,000 groups of 10,000 machines over 20 links look like", board},
		{"large", "groups of four machines with a five-minute cadence between two sites: do they keep their targets", load},
		{"recover", "failovers of 1, 10 and 50 machines, backed out, accepted, and what is shipped on the way back", recoveries},
		{"memory", "peak resident memory of both services while a 1 TiB disk is copied", memory},
		{"real", "two real guests: cycles, what guests notice, starting from a point", real},
	}
}

// Run runs the named benches, or all.
func Run(ctx context.Context, o Options, names []string) error {
	want := map[string]bool{}
	for _, n := range names {
		if n != "all" {
			want[n] = true
		}
	}
	var results []Result
	for _, b := range benches() {
		if len(want) > 0 && !want[b.name] {
			continue
		}
		delete(want, b.name)
		if !o.JSON {
			_, _ = fmt.Fprintf(os.Stderr, "%s: %s …\n", b.name, b.what)
		}
		r, err := b.run(ctx, o)
		if err != nil {
			return fmt.Errorf("%s: %w", b.name, err)
		}
		r.Bench = b.name
		if o.JSON {
			if err := json.NewEncoder(o.Out).Encode(r); err != nil {
				return err
			}
		}
		results = append(results, r)
		if len(names) > 0 && len(want) == 0 && names[0] != "all" {
			break
		}
	}
	for n := range want {
		return fmt.Errorf("there is no bench %q", n)
	}
	if o.JSON {
		return nil
	}
	w := tabwriter.NewWriter(o.Out, 0, 4, 2, ' ', 0)
	_, _ = fmt.Fprintln(w, "BENCH\tFIGURE\tVALUE\tAIM")
	for _, r := range results {
		var keys []string
		for k := range r.Figures {
			keys = append(keys, k)
		}
		sort.Strings(keys)
		for i, k := range keys {
			name, aim := "", ""
			if i == 0 {
				name, aim = r.Bench, r.Aim
			}
			_, _ = fmt.Fprintf(w, "%s\t%s\t%.4g\t%s\n", name, k, r.Figures[k], aim)
		}
	}
	return w.Flush()
}

const mib = 1 << 20

func pick[T any](quick bool, a, b T) T {
	if quick {
		return a
	}
	return b
}

func median(xs []float64) float64 { return quantile(xs, 0.5) }

func quantile(xs []float64, q float64) float64 {
	s := append([]float64(nil), xs...)
	sort.Float64s(s)
	return s[min(len(s)-1, int(q*float64(len(s))))]
}

func seed(ctx context.Context, o Options) (Result, error) {
	size := pick[int64](o.Quick, 512*mib, 4096*mib)
	runs := pick(o.Quick, 1, 3)
	var rates, ssh, daemon []float64
	var wire, shipped float64
	for i := range runs {
		err := with(ctx, o, []machineSpec{{"m", []int64{size}}}, func(w *world) error {
			if err := w.mixed("m", 0, size, uint64(i)); err != nil {
				return err
			}
			ref, err := startReference(ctx, filepath.Join(w.dir, "reference"))
			if err != nil {
				return err
			}
			defer ref.stop()
			syscall.Sync() // nobody is to wait for what was written before
			g, err := w.protect(ctx, "g", 0, "m")
			if err != nil {
				return err
			}
			c, err := w.lastCycle(ctx, g)
			if err != nil {
				return err
			}
			syscall.Sync()
			took := c.EndedAt.Sub(c.StartedAt).Seconds()
			rates = append(rates, float64(size)/mib/took)
			wire, shipped = float64(c.WireBytes)/mib, float64(c.ShippedBytes)/mib
			t, err := ref.ssh(ctx, w.diskPath("m", 0), "ssh")
			if err != nil {
				return err
			}
			ssh = append(ssh, t/took)
			if err := os.Remove(ref.copyPath("ssh")); err != nil {
				return err
			}
			syscall.Sync()
			t, err = ref.daemon(ctx, w.diskPath("m", 0), "daemon", "--whole-file")
			daemon = append(daemon, t/took)
			return err
		})
		if err != nil {
			return Result{}, err
		}
	}
	return Result{Runs: runs, Raw: rates, RawUnit: "MiB/s of disk", Figures: map[string]float64{"disk_mib_per_s": median(rates), "shipped_mib": shipped, "wire_mib": wire,
		"ratio_rsync_ssh_zstd": median(ssh), "ratio_rsync_daemon": median(daemon)}, Aim: "≥ 3 × rsync by ssh with zstd, ≥ 1 × its daemon"}, nil
}

func delta(ctx context.Context, o Options) (Result, error) {
	size := pick[int64](o.Quick, 1024*mib, 8192*mib)
	runs := pick(o.Quick, 2, 5)
	var took, ratio []float64
	var overhead float64
	err := with(ctx, o, []machineSpec{{"m", []int64{size}}}, func(w *world) error {
		if err := w.mixed("m", 0, size, 1); err != nil {
			return err
		}
		ref, err := startReference(ctx, filepath.Join(w.dir, "reference"))
		if err != nil {
			return err
		}
		defer ref.stop()
		g, err := w.protect(ctx, "g", 0, "m")
		if err != nil {
			return err
		}
		if _, err := copyFile(w.diskPath("m", 0), ref.copyPath("copy")); err != nil {
			return err
		}
		for i := range runs {
			if err := w.scatter("m", 0, size, size/100, uint64(100+i)); err != nil {
				return err
			}
			c, err := w.cycle(ctx, g)
			if err != nil {
				return err
			}
			t := c.EndedAt.Sub(c.StartedAt).Seconds()
			took = append(took, t*1000)
			overhead = float64(c.WireBytes) / float64(c.ChangedBytes)
			theirs, err := ref.daemon(ctx, w.diskPath("m", 0), "copy", "--no-whole-file", "--ignore-times")
			if err != nil {
				return err
			}
			ratio = append(ratio, theirs/t)
		}
		return nil
	})
	return Result{Runs: runs, Raw: took, RawUnit: "ms", Figures: map[string]float64{"cycle_ms": median0(took), "wire_per_changed_byte": overhead, "ratio_rsync_delta": median0(ratio)}, Aim: "≥ 25 × faster"}, err
}

func median0(xs []float64) float64 {
	if len(xs) == 0 {
		return 0
	}
	return median(xs)
}

func flat(ctx context.Context, o Options) (Result, error) {
	small, large := int64(2048*mib), int64(64*1024*mib)
	runs := pick(o.Quick, 3, 7)
	var a, b, ratio []float64
	err := with(ctx, o, []machineSpec{{"small", []int64{small}}, {"large", []int64{large}}}, func(w *world) error {
		gs, err := w.protect(ctx, "small", 0, "small")
		if err != nil {
			return err
		}
		gl, err := w.protect(ctx, "large", 0, "large")
		if err != nil {
			return err
		}
		for i := range runs {
			for _, x := range []struct {
				machine, group string
				size           int64
				to             *[]float64
			}{{"small", gs, small, &a}, {"large", gl, large, &b}} {
				if err := w.scatter(x.machine, 0, x.size, 16*mib, uint64(i)); err != nil {
					return err
				}
				c, err := w.cycle(ctx, x.group)
				if err != nil {
					return err
				}
				*x.to = append(*x.to, float64(c.EndedAt.Sub(c.StartedAt).Milliseconds()))
			}
			ratio = append(ratio, b[len(b)-1]/a[len(a)-1])
		}
		return nil
	})
	return Result{Runs: runs, Raw: ratio, RawUnit: "ratio", Figures: map[string]float64{"small_ms": median0(a), "large_ms": median0(b), "ratio_flat": median0(ratio)}, Aim: "within 1.3 ×"}, err
}

func idle(ctx context.Context, o Options) (Result, error) {
	runs := pick(o.Quick, 10, 50)
	var ms []float64
	s := int64(256 * mib)
	err := with(ctx, o, []machineSpec{{"a", []int64{s, s}}, {"b", []int64{s, s}}, {"c", []int64{s, s}}}, func(w *world) error {
		for _, m := range []string{"a", "b", "c"} {
			for d := range 2 {
				if err := w.scatter(m, d, s, 8*mib, uint64(d)); err != nil {
					return err
				}
			}
		}
		g, err := w.protect(ctx, "g", 0, "a", "b", "c")
		for range runs {
			if err != nil {
				return err
			}
			c, cerr := w.cycle(ctx, g)
			if cerr != nil {
				return cerr
			}
			if c.ChangedBytes != 0 {
				return fmt.Errorf("%d bytes changed in a cycle in which nothing should", c.ChangedBytes)
			}
			ms = append(ms, float64(c.EndedAt.Sub(c.StartedAt).Microseconds())/1000)
		}
		return err
	})
	if err != nil {
		return Result{}, err
	}
	return Result{Runs: runs, Raw: ms, RawUnit: "ms", Figures: map[string]float64{"idle_p50_ms": median(ms), "idle_p95_ms": quantile(ms, 0.95)}, Aim: "≤ 60 ms at p95"}, nil
}

// peakResident reads VmHWM, the kernel's own high-water mark, in MiB.
func peakResident(pid int) (float64, error) {
	b, err := os.ReadFile(fmt.Sprintf("/proc/%d/status", pid))
	if err != nil {
		return 0, err
	}
	for _, line := range strings.Split(string(b), "\n") {
		var kib float64
		if n, _ := fmt.Sscanf(line, "VmHWM: %f kB", &kib); n == 1 {
			return kib / 1024, nil
		}
	}
	return 0, errors.New("the kernel gives no peak memory")
}
