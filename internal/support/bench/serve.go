package bench

import (
	"context"
	"errors"
	"fmt"
	"io"
	"math/rand/v2"
	"net"
	"net/url"
	"os/exec"
	"path/filepath"
	"strconv"
	"syscall"
	"time"

	"golang.org/x/sync/errgroup"

	"kestrel/internal/api"
	"kestrel/internal/nbd"
	"kestrel/internal/support/freeport"
)

func dedupe(ctx context.Context, o Options) (Result, error) {
	size := pick[int64](o.Quick, 256*mib, 2048*mib)
	f := map[string]float64{}
	err := with(ctx, o, []machineSpec{{"first", []int64{size}}, {"second", []int64{size}}}, func(w *world) error {
		for _, m := range []string{"first", "second"} {
			if err := w.mixed(m, 0, size, 7); err != nil { // the same bytes
				return err
			}
			// What sets a clone apart: its name, its keys, its first log lines.
			if err := w.scatter(m, 0, size, 256<<10, uint64(len(m))); err != nil {
				return err
			}
		}
		var shipped [2]float64
		var stored [3]float64
		for i, m := range []string{"first", "second"} {
			g, err := w.protect(ctx, m, 0, m)
			if err != nil {
				return err
			}
			c, err := w.lastCycle(ctx, g)
			if err != nil {
				return err
			}
			st, err := call[api.Store](ctx, w.recovery, "GET", "/store", nil)
			if err != nil {
				return err
			}
			shipped[i], stored[i+1] = float64(c.WireBytes), float64(st.PackBytes)
		}
		f["dedupe_shipped_pct"] = 100 * shipped[1] / shipped[0]
		f["dedupe_stored_pct"] = 100 * (stored[2] - stored[1]) / stored[1]
		return nil
	})
	return Result{Runs: 1, Raw: []float64{f["dedupe_shipped_pct"], f["dedupe_stored_pct"]}, RawUnit: "percent of the first", Figures: f, Aim: "< 2 % shipped, < 2 % stored"}, err
}

// share exports the newest point of a group and gives its one disk's address.
func (w *world) share(ctx context.Context, group string) (address, export string, err error) {
	ps, err := call[[]api.Point](ctx, w.recovery, "GET", "/points?group="+group, nil)
	if err != nil {
		return "", "", err
	}
	sh, err := call[api.Served](ctx, w.recovery, "POST", "/served", api.NewServed{Point: ps[0].ID})
	if err != nil {
		return "", "", err
	}
	u, err := url.Parse(sh.Disks[0].URI)
	if err != nil {
		return "", "", err
	}
	return u.Host, u.Path[1:], nil
}

// rate reads a disk with several connections for a while and gives reads a
// second. Sequential readers each have a part of the disk.
func rate(ctx context.Context, network, address, export string, length int, random bool, d time.Duration) (float64, error) {
	const readers = 4
	var done [readers]int
	g, ctx := errgroup.WithContext(ctx)
	began := time.Now()
	for i := range readers {
		g.Go(func() error {
			c, err := nbd.Dial(ctx, network, address, export, nbd.Options{})
			if err != nil {
				return err
			}
			defer func() { _ = c.Close() }()
			r := rand.New(rand.NewPCG(uint64(i), 9))
			p := make([]byte, length)
			slots := c.Size() / int64(length)
			for at := int64(i) * slots / readers; time.Since(began) < d; at++ {
				if random {
					at = r.Int64N(slots)
				}
				if _, err := c.ReadAt(p, at%slots*int64(length)); err != nil && !errors.Is(err, io.EOF) {
					return err
				}
				done[i]++
			}
			return nil
		})
	}
	err := g.Wait()
	sum := 0
	for _, n := range done {
		sum += n
	}
	return float64(sum) / time.Since(began).Seconds(), err
}

func reads(ctx context.Context, o Options) (Result, error) {
	size := pick[int64](o.Quick, 512*mib, 2048*mib)
	runs := pick(o.Quick, 2, 5)
	each := pick(o.Quick, 2*time.Second, 5*time.Second)
	f := map[string]float64{}
	var random, sequential []float64
	err := with(ctx, o, []machineSpec{{"m", []int64{size}}}, func(w *world) error {
		if err := w.mixed("m", 0, size, 5); err != nil {
			return err
		}
		g, err := w.protect(ctx, "g", 0, "m")
		if err != nil {
			return err
		}
		address, export, err := w.share(ctx, g)
		if err != nil {
			return err
		}
		port, err := freeport.Loopback()
		if err != nil {
			return err
		}
		if _, err := look("qemu-nbd"); err != nil {
			return err
		}
		theirs := exec.Command("qemu-nbd", "--read-only", "--format=raw", "--persistent", "--shared=8", "--bind=127.0.0.1", "--port="+strconv.Itoa(port), "--export-name=disk", w.diskPath("m", 0))
		if err := theirs.Start(); err != nil {
			return err
		}
		defer func() { _ = theirs.Process.Signal(syscall.SIGKILL); _ = theirs.Wait() }()
		their := net.JoinHostPort("127.0.0.1", strconv.Itoa(port))
		if err := until(ctx, func() (bool, error) {
			c, err := nbd.Dial(ctx, "tcp", their, "disk", nbd.Options{})
			if err != nil {
				return false, nil
			}
			return true, c.Close()
		}); err != nil {
			return err
		}
		for range runs {
			for _, x := range []struct {
				length int
				random bool
				to     *[]float64
				name   string
				unit   float64
			}{{4 << 10, true, &random, "random_4k_per_s", 1}, {mib, false, &sequential, "sequential_mib_per_s", 1}} {
				a, err := rate(ctx, "tcp", address, export, x.length, x.random, each)
				if err != nil {
					return err
				}
				b, err := rate(ctx, "tcp", their, "disk", x.length, x.random, each)
				if err != nil {
					return err
				}
				*x.to = append(*x.to, a/b)
				f[x.name], f["qemu_nbd_"+x.name] = a, b
			}
		}
		return nil
	})
	f["ratio_nbd_random"], f["ratio_nbd_sequential"] = median0(random), median0(sequential)
	return Result{Runs: runs, Raw: append(random, sequential...), RawUnit: "ratio, random then sequential", Figures: f, Aim: "≥ 0.5 and ≥ 0.6 × qemu-nbd of the raw file"}, err
}

func open(ctx context.Context, o Options) (Result, error) {
	points, runs := pick(o.Quick, 20, 200), pick(o.Quick, 10, 40)
	sizes := []int64{64 * mib, 64 * 1024 * mib}
	var all []float64
	f := map[string]float64{}
	err := with(ctx, o, []machineSpec{{"small", sizes[:1]}, {"large", sizes[1:]}}, func(w *world) error {
		for i, m := range []string{"small", "large"} {
			if err := w.scatter(m, 0, sizes[i], 32*mib, uint64(i)); err != nil {
				return err
			}
			g, err := w.protect(ctx, m, 0, m)
			if err != nil {
				return err
			}
			for n := range points {
				if err := w.scatter(m, 0, sizes[i], 128<<10, uint64(n)); err != nil {
					return err
				}
				if _, err := w.cycle(ctx, g); err != nil {
					return err
				}
			}
			var ms []float64
			for range runs {
				began := time.Now()
				address, export, err := w.share(ctx, g)
				if err != nil {
					return err
				}
				c, err := nbd.Dial(ctx, "tcp", address, export, nbd.Options{Contexts: []string{nbd.AllocationContext}})
				if err != nil {
					return err
				}
				if _, err := c.ReadAt(make([]byte, 4096), sizes[i]/2); err != nil {
					return err
				}
				ms = append(ms, float64(time.Since(began).Microseconds())/1000)
				_ = c.Close()
			}
			f["open_"+m+"_p95_ms"] = quantile(ms, 0.95)
			all = append(all, ms...)
		}
		return nil
	})
	if err != nil {
		return Result{}, err
	}
	f["open_p95_ms"], f["points"] = quantile(all, 0.95), float64(points+1)
	return Result{Runs: len(all), Raw: all, RawUnit: "ms", Figures: f, Aim: "≤ 100 ms whatever the size and the number of points"}, nil
}

// madeUp serves what the lab has, but for one disk whose content is made as it
// is read: it is stored nowhere.
type madeUp struct {
	nbd.Exporter
	data int64 // bytes from the disk's start that are not zero
}

// Open implements nbd.Exporter.
func (m madeUp) Open(name string) (*nbd.Export, error) {
	e, err := m.Exporter.Open(name)
	if err != nil {
		return nil, err
	}
	e.Device = m
	e.Contexts = []nbd.Context{{Name: nbd.AllocationContext, Status: func(off, length int64) ([]nbd.Extent, error) {
		if off < m.data {
			return []nbd.Extent{{Length: min(length, m.data-off)}}, nil
		}
		return []nbd.Extent{{Length: length, Flags: nbd.StateHole | nbd.StateZero}}, nil
	}}}
	return e, nil
}

// ReadAt makes blocks of which none is like another, with little in them.
func (m madeUp) ReadAt(p []byte, off int64) (int, error) {
	clear(p)
	for at := (off + 4095) &^ 4095; at+8 <= off+int64(len(p)); at += 4096 {
		x := uint64(at)*0x9e3779b97f4a7c15 + 1
		for i := range 8 {
			p[at-off+int64(i)] = byte(x >> (8 * i))
		}
	}
	return len(p), nil
}

func memory(ctx context.Context, o Options) (Result, error) {
	const size = int64(1) << 40
	data := pick[int64](o.Quick, 2<<30, 64<<30)
	f := map[string]float64{"seeded_gib": float64(data) / (1 << 30)}
	err := withLab(ctx, o, []machineSpec{{"m", []int64{size}}}, func(x nbd.Exporter) nbd.Exporter { return madeUp{x, data} }, func(w *world) error {
		began := time.Now()
		if _, err := w.protect(ctx, "g", 0, "m"); err != nil {
			return err
		}
		f["mib_per_s"] = float64(data) / mib / time.Since(began).Seconds()
		for _, s := range []*site{w.home, w.recovery} {
			peak, err := peakResident(s.cmd.Process.Pid)
			if err != nil {
				return err
			}
			f["rss_"+s.role+"_mib"] = peak
			f["rss_mib"] = max(f["rss_mib"], peak)
		}
		return nil
	})
	return Result{Runs: 1, Raw: []float64{f["rss_home_mib"], f["rss_recovery_mib"]}, RawUnit: "MiB", Figures: f, Aim: "≤ 400 MiB on each side"}, err
}

// dirBytes is what the files below a folder take up.
func dirBytes(dir string) (n int64, err error) {
	files, err := filepath.Glob(filepath.Join(dir, "*"))
	if err != nil {
		return 0, fmt.Errorf("list %s: %w", dir, err)
	}
	for _, f := range files {
		var st syscall.Stat_t
		if err := syscall.Stat(f, &st); err == nil {
			n += st.Blocks * 512
		}
	}
	return n, nil
}
