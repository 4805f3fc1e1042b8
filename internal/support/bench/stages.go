package bench

import (
	"context"
	"crypto/ecdsa"
	"crypto/elliptic"
	crand "crypto/rand"
	"crypto/tls"
	"crypto/x509"
	"errors"
	"fmt"
	"io"
	"math/big"
	"math/rand/v2"
	"net"
	"os"
	"path/filepath"
	"sync"
	"syscall"
	"time"

	"github.com/google/uuid"

	"kestrel/internal/core/ladder"
	"kestrel/internal/nbd"
	"kestrel/internal/points"
)

// pruneWorld is a store of many points of one disk.
type pruneWorld struct {
	store *points.Store
	now   time.Time
	group string
	size  int64
	base  points.Name
	r     *rand.Rand
}

// point seals what a cycle of changed blocks would.
func (p *pruneWorld) point(blocks int, at time.Time) (*points.Seal, error) {
	p.now = at
	in, _, err := p.store.OpenIntake(points.IntakeSpec{ID: uuid.NewString(), Group: points.SealGroup{ID: p.group, Name: "pruned"}, Disks: []points.IntakeDisk{{Machine: "m", Key: "d", Size: p.size, Base: p.base}}})
	if err != nil {
		return nil, err
	}
	b := make([]byte, points.BlockSize)
	var entries []points.Entry
	for range blocks {
		noise(b, p.r)
		name := points.NameOf(b)
		if err := in.Put(name, points.EncodingRaw, points.BlockSize, b); err != nil {
			return nil, err
		}
		// The same few places again and again, as logs and indexes do.
		entries = append(entries, points.Entry{Count: 1, Index: p.r.Int64N(64) * (p.size / points.BlockSize / 64), Name: name})
	}
	if err := in.Record(entries); err != nil {
		return nil, err
	}
	x, err := in.Seal(points.Seal{CaptureAt: at, Consistency: "crash", Machines: []points.SealMachine{{ID: "m", Name: "m", Disks: []points.SealDisk{{Key: "d"}}}}})
	if err == nil {
		p.base = x.Machines[0].Disks[0].Root
	}
	return x, err
}

func prune(ctx context.Context, o Options) (Result, error) {
	many := pick(o.Quick, 250, 1000)
	dir, err := os.MkdirTemp("/var/tmp", "kestrel-bench")
	if err != nil {
		return Result{}, err
	}
	defer func() { _ = os.RemoveAll(dir) }()
	p := &pruneWorld{group: uuid.NewString(), size: 1024 * mib, r: rand.New(rand.NewPCG(1, 6)), now: time.Date(2026, 11, 1, 0, 0, 0, 0, time.UTC)}
	var mu sync.Mutex
	if p.store, err = points.Open(dir, points.Options{Now: func() time.Time { mu.Lock(); defer mu.Unlock(); return p.now }}); err != nil {
		return Result{}, err
	}
	defer func() { _ = p.store.Close() }()
	at := p.now
	for range many {
		if _, err := p.point(32, at); err != nil {
			return Result{}, err
		}
		at = at.Add(5 * time.Minute)
	}
	// Everything of the last hour, one an hour for a day and a half, one a day.
	keep := ladder.Ladder{{For: time.Hour}, {Each: time.Hour, For: 48 * time.Hour}, {Each: 24 * time.Hour, For: 30 * 24 * time.Hour}}
	var ps []ladder.Point
	for _, x := range p.store.Points(p.group) {
		ps = append(ps, ladder.Point{ID: x.Point, Capture: x.CaptureAt})
	}
	kept := 0
	for _, v := range keep.Judge(ps, at) {
		if v.Keep {
			kept++
			continue
		}
		if err := p.store.Drop(v.Point.ID); err != nil {
			return Result{}, err
		}
	}
	before, err := dirBytes(filepath.Join(dir, "packs"))
	if err != nil {
		return Result{}, err
	}
	// Cycles go on meanwhile.
	stop, ended := make(chan struct{}), make(chan error, 1)
	var during []float64
	go func() {
		for n := 0; ; n++ {
			select {
			case <-stop:
				ended <- nil
				return
			case <-time.After(20 * time.Millisecond):
			}
			began := time.Now()
			if _, err := p.point(8, at.Add(time.Duration(n)*time.Second)); err != nil {
				ended <- err
				return
			}
			during = append(during, float64(time.Since(began).Microseconds())/1000)
		}
	}()
	began := time.Now()
	sw, err := p.store.Sweep(ctx)
	took := time.Since(began).Seconds()
	close(stop)
	if err := errors.Join(err, <-ended); err != nil {
		return Result{}, err
	}
	after, err := dirBytes(filepath.Join(dir, "packs"))
	if err != nil {
		return Result{}, err
	}
	f := map[string]float64{"points_before": float64(many), "points_kept": float64(kept), "packs_before_mib": float64(before) / mib, "packs_after_mib": float64(after) / mib, "freed_mib": float64(sw.Freed) / mib,
		"sweep_s": took, "freed_mib_per_s": float64(sw.Freed) / mib / took, "cycles_meanwhile": float64(len(during)), "cycle_meanwhile_p95_ms": quantile0(during, 0.95),
		"reclaimed_pct": 100 * float64(sw.Freed) / float64(sw.Freed+sw.DeadBytes)}
	return Result{Runs: 1, Raw: during, RawUnit: "ms of each cycle meanwhile", Figures: f, Aim: "≥ 95 % of dead bytes given back"}, nil
}

func quantile0(xs []float64, q float64) float64 {
	if len(xs) == 0 {
		return 0
	}
	return quantile(xs, q)
}

// cpu is what this process has used of the processors.
func cpu() time.Duration {
	var u syscall.Rusage
	_ = syscall.Getrusage(syscall.RUSAGE_SELF, &u)
	return time.Duration(u.Utime.Nano() + u.Stime.Nano())
}

// bytesAt serves a buffer over NBD.
type bytesAt []byte

// Open implements nbd.Exporter.
func (b bytesAt) Open(string) (*nbd.Export, error) {
	return &nbd.Export{Size: int64(len(b)), Device: b}, nil
}

// List implements nbd.Exporter.
func (b bytesAt) List() []string { return nil }

// ReadAt implements io.ReaderAt.
func (b bytesAt) ReadAt(p []byte, off int64) (int, error) { return copy(p, b[off:]), nil }

// limit takes the processor time of each stage alone, for each MiB of content
// that has to be shipped, and compares what two cores would allow with the whole.
func limit(ctx context.Context, o Options) (Result, error) {
	size := pick(o.Quick, 128, 512) * mib
	content := make([]byte, size)
	like, err := programs()
	if err != nil {
		return Result{}, err
	}
	r := rand.New(rand.NewPCG(11, 11))
	for off := 0; off < size; off += mib { // three of four like programs, as in seed
		if off/mib%4 < 3 {
			like(content[off:off+mib], r)
		} else {
			noise(content[off:off+mib], r)
		}
	}
	blocks := size / points.BlockSize
	names := make([]points.Name, blocks)
	stored := make([][]byte, blocks)
	encodings := make([]points.Encoding, blocks)
	block := func(i int) []byte { return content[i*points.BlockSize : (i+1)*points.BlockSize] }
	f := map[string]float64{}
	var sum float64
	var raw []float64
	stage := func(name string, run func() error) error {
		began := cpu()
		if err := run(); err != nil {
			return fmt.Errorf("%s: %w", name, err)
		}
		s := (cpu() - began).Seconds() / (float64(size) / mib)
		f["cpu_ms_per_gib_"+name] = s * 1024 * 1000
		sum += s
		raw = append(raw, s*1024*1000)
		return nil
	}
	dir, err := os.MkdirTemp("/var/tmp", "kestrel-bench")
	if err != nil {
		return Result{}, err
	}
	defer func() { _ = os.RemoveAll(dir) }()
	var wire int
	err = errors.Join(
		stage("read", func() error { return throughNBD(ctx, content) }),
		stage("hash", func() error {
			for i := range names {
				names[i] = points.NameOf(block(i))
			}
			return nil
		}),
		stage("compress", func() error {
			for i := range stored {
				encodings[i], stored[i] = points.Encode(nil, block(i), points.EncodingS2)
				wire += len(stored[i])
			}
			return nil
		}),
		stage("tls", func() error { return throughTLS(ctx, stored) }),
		stage("verify_and_write", func() error {
			s, err := points.Open(dir, points.Options{Now: time.Now})
			if err != nil {
				return err
			}
			in, _, err := s.OpenIntake(points.IntakeSpec{ID: uuid.NewString(), Group: points.SealGroup{ID: uuid.NewString()}, Disks: []points.IntakeDisk{{Machine: "m", Key: "d", Size: int64(size)}}})
			for i := range stored {
				if err == nil {
					err = in.Put(names[i], encodings[i], points.BlockSize, stored[i])
				}
			}
			return errors.Join(err, s.Close())
		}))
	if err != nil {
		return Result{}, err
	}
	whole := pick[int64](o.Quick, 512*mib, 2048*mib)
	var rates []float64
	for i := range pick(o.Quick, 1, 3) {
		err := with(ctx, o, []machineSpec{{"m", []int64{whole}}}, func(w *world) error {
			if err := w.mixed("m", 0, whole, uint64(40+i)); err != nil {
				return err
			}
			g, err := w.protect(ctx, "g", 0, "m")
			if err != nil {
				return err
			}
			c, err := w.lastCycle(ctx, g)
			rates = append(rates, float64(c.ShippedBytes)/mib/c.EndedAt.Sub(c.StartedAt).Seconds())
			return err
		})
		if err != nil {
			return Result{}, err
		}
	}
	f["two_cores_allow_mib_per_s"], f["whole_mib_per_s"], f["stored_share"] = 2/sum, median(rates), float64(wire)/float64(size)
	f["ratio_limit"] = median(rates) * sum / 2
	return Result{Runs: len(rates), Raw: append(raw, rates...), RawUnit: "ms of processor a GiB, by stage, then MiB/s of the whole", Figures: f, Aim: "≥ 0.6"}, nil
}

// throughNBD reads a buffer over NBD on loopback, as a cycle does.
func throughNBD(ctx context.Context, content []byte) error {
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		return err
	}
	ctx, cancel := context.WithCancel(ctx)
	ended := make(chan error, 1)
	go func() { ended <- nbd.Serve(ctx, l, bytesAt(content)) }()
	c, err := nbd.Dial(ctx, "tcp", l.Addr().String(), "x", nbd.Options{})
	p := make([]byte, 4*mib)
	for off := 0; err == nil && off < len(content); off += len(p) {
		_, err = c.ReadAt(p, int64(off))
	}
	if c != nil {
		_ = c.Close()
	}
	cancel()
	return errors.Join(err, <-ended)
}

// throughTLS sends buffers over TLS on loopback.
func throughTLS(ctx context.Context, all [][]byte) error {
	key, err := ecdsa.GenerateKey(elliptic.P256(), crand.Reader)
	if err != nil {
		return err
	}
	t := &x509.Certificate{SerialNumber: big.NewInt(1), NotAfter: time.Now().Add(time.Hour)}
	der, err := x509.CreateCertificate(crand.Reader, t, t, key.Public(), key)
	if err != nil {
		return err
	}
	l, err := tls.Listen("tcp", "127.0.0.1:0", &tls.Config{Certificates: []tls.Certificate{{Certificate: [][]byte{der}, PrivateKey: key}}, MinVersion: tls.VersionTLS13})
	if err != nil {
		return err
	}
	defer func() { _ = l.Close() }()
	ended := make(chan error, 1)
	go func() {
		c, err := l.Accept()
		if err == nil {
			_, err = io.Copy(io.Discard, c)
		}
		ended <- err
	}()
	d := tls.Dialer{Config: &tls.Config{InsecureSkipVerify: true}} //nolint:gosec // a certificate made a moment ago, to ourselves
	c, err := d.DialContext(ctx, "tcp", l.Addr().String())
	if err != nil {
		return err
	}
	for _, b := range all {
		if _, err := c.Write(b); err != nil {
			return err
		}
	}
	return errors.Join(c.Close(), <-ended)
}
