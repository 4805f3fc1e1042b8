package bench

import (
	"bytes"
	"context"
	"encoding/binary"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"math/rand/v2"
	"net"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"strconv"
	"strings"
	"sync"
	"syscall"
	"time"

	"kestrel/internal/access"
	"kestrel/internal/api"
	"kestrel/internal/clock"
	"kestrel/internal/lab"
	"kestrel/internal/nbd"
	"kestrel/internal/problem"
	"kestrel/internal/records"
	"kestrel/internal/support/freeport"
	"kestrel/internal/support/pgcluster"
)

type machineSpec struct {
	name  string
	disks []int64
}

// world is two sites and a lab whose guests write nothing by themselves.
type world struct {
	dir            string
	lab            *lab.Lab
	ids            map[string]string // machine name → ID
	home, recovery *site
	pg             *pgcluster.Cluster
}

type site struct {
	role, url, token string
	cmd              *exec.Cmd
	start            func() *exec.Cmd
}

const password = "measure, do not guess"

// with sets a world up, runs f in it and takes it down.
func with(ctx context.Context, o Options, machines []machineSpec, f func(w *world) error) error {
	return withLab(ctx, o, machines, func(x nbd.Exporter) nbd.Exporter { return x }, f)
}

// withLab is with, and lets the disks that the lab serves be replaced.
func withLab(ctx context.Context, o Options, machines []machineSpec, serve func(nbd.Exporter) nbd.Exporter, f func(w *world) error) (err error) {
	dir, err := os.MkdirTemp("/var/tmp", "kestrel-bench")
	if err != nil {
		return err
	}
	defer func() { _ = os.RemoveAll(dir) }()
	if err := os.Chmod(dir, 0o711); err != nil { // the cluster's user has to pass
		return err
	}
	settings := []string{"shared_preload_libraries=pg_stat_statements"}
	if o.Indexed {
		settings = append(settings, "enable_seqscan=off")
	}
	pg, err := pgcluster.Start(ctx, filepath.Join(dir, "pg"), 0, settings...)
	if err != nil {
		return err
	}
	defer func() { _ = pg.Stop() }()
	w := &world{dir: dir, ids: map[string]string{}, pg: pg}
	stopLab, labURL, err := w.startLab(ctx, machines, serve)
	if err != nil {
		return err
	}
	defer stopLab()
	for _, s := range []struct {
		role string
		to   **site
	}{{"home", &w.home}, {"recovery", &w.recovery}} {
		db, err := pg.Database(ctx, s.role)
		if err != nil {
			return err
		}
		if *s.to, err = startSite(ctx, o, s.role, filepath.Join(dir, s.role), db); err != nil {
			return err
		}
		defer (*s.to).stop()
	}
	if _, err := call[api.Platform](ctx, w.home, "POST", "/platforms", api.NewPlatform{Name: "lab", Kind: "lab", Address: labURL, User: new("lab"), Password: new(password)}); err != nil {
		return err
	}
	inv, err := call[api.InvitationSecret](ctx, w.home, "POST", "/invitations", api.NewInvitation{})
	if err != nil {
		return err
	}
	if _, err := call[api.Link](ctx, w.recovery, "POST", "/links", api.AcceptInvitation{Invitation: inv.Text}); err != nil {
		return err
	}
	return f(w)
}

func (w *world) startLab(ctx context.Context, machines []machineSpec, serve func(nbd.Exporter) nbd.Exporter) (stop func(), url string, err error) {
	nl, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		return nil, "", err
	}
	hl, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		return nil, "", err
	}
	sc := lab.Scenario{Site: "bench", Datastores: []lab.ScenarioDatastore{{Name: "store", CapacityGiB: 1024}}}
	for _, m := range machines {
		sm := lab.ScenarioMachine{Name: m.name, Folder: "/", Guest: "Linux", CPUs: 1, MemGiB: 1, Off: true}
		for _, d := range m.disks {
			sm.Disks = append(sm.Disks, lab.ScenarioDisk{Label: "disk", SizeMiB: float64(d) / mib})
		}
		sc.Machines = append(sc.Machines, sm)
	}
	dir := filepath.Join(w.dir, "lab")
	if err := os.MkdirAll(dir, 0o700); err != nil {
		return nil, "", err
	}
	if w.lab, err = lab.Open(dir, sc, clock.Wall{}, nl.Addr().String()); err != nil {
		return nil, "", err
	}
	for _, m := range w.lab.Inventory().Machines {
		w.ids[m.Name] = m.ID
	}
	ctx, cancel := context.WithCancel(ctx)
	var wg sync.WaitGroup
	srv := &http.Server{Handler: w.lab.Handler("lab", password)}
	wg.Go(func() { _ = srv.Serve(hl) })
	wg.Go(func() { _ = nbd.Serve(ctx, nl, serve(w.lab)) })
	return func() { cancel(); _ = srv.Close(); wg.Wait(); _ = w.lab.Close() }, "http://" + hl.Addr().String(), nil
}

func freeAddr() (string, error) {
	port, err := freeport.Loopback()
	return fmt.Sprintf("127.0.0.1:%d", port), err
}

func startSite(ctx context.Context, o Options, role, dir, db string) (*site, error) {
	var addr [3]string
	for i := range addr {
		var err error
		if addr[i], err = freeAddr(); err != nil {
			return nil, err
		}
	}
	s := &site{role: role, url: "http://" + addr[0]}
	s.start = func() *exec.Cmd {
		c := exec.Command(o.Binary, "serve", "--site", role, "--state", dir, "--listen", addr[0], "--link-listen", addr[1], "--nbd-listen", addr[2], "--store-floor", "64MiB", "--log", "warn", "--as-root")
		if o.Cycles > 0 {
			c.Args = append(c.Args, "--cycles", strconv.Itoa(o.Cycles))
		}
		c.Env = append(os.Environ(), "KESTREL_DATABASE_URL="+db)
		c.Stderr = os.Stderr
		return c
	}
	if err := s.run(ctx); err != nil {
		return nil, err
	}
	d, err := records.Open(ctx, db)
	if err != nil {
		return nil, err
	}
	defer func() { _ = d.Close() }()
	link, err := access.WelcomeLink(ctx, d, time.Now(), s.url)
	if err != nil {
		return nil, err
	}
	_, token, _ := strings.Cut(link, "#")
	b, err := json.Marshal(api.Welcome{Token: token, Name: "bench", Password: password})
	if err != nil {
		return nil, err
	}
	res, err := http.Post(s.url+"/api/v1/welcome", "application/json", bytes.NewReader(b))
	if err != nil {
		return nil, err
	}
	_ = res.Body.Close()
	for _, c := range res.Cookies() {
		s.token = c.Value
	}
	return s, nil
}

// run starts the service, and waits until it is ready.
func (s *site) run(ctx context.Context) error {
	s.cmd = s.start()
	if err := s.cmd.Start(); err != nil {
		return err
	}
	err := until(ctx, func() (bool, error) {
		res, err := http.Get(s.url + "/readyz")
		if err != nil {
			return false, nil
		}
		return res.StatusCode == http.StatusOK, res.Body.Close()
	})
	if err != nil {
		s.stop()
		return fmt.Errorf("%s does not get ready: %w", s.role, err)
	}
	return nil
}

func (s *site) stop() {
	_ = s.cmd.Process.Signal(syscall.SIGTERM)
	_ = s.cmd.Wait()
}

// until asks every few milliseconds, for ten minutes at most.
func until(ctx context.Context, ok func() (bool, error)) error {
	for deadline := time.Now().Add(10 * time.Minute); time.Now().Before(deadline); {
		done, err := ok()
		if done || err != nil {
			return err
		}
		if err := clock.Sleep(ctx, clock.Wall{}, 5*time.Millisecond); err != nil {
			return err
		}
	}
	return errors.New("it takes more than ten minutes")
}

func call[T any](ctx context.Context, s *site, method, path string, body any) (T, error) {
	var v T
	b, err := json.Marshal(body)
	if err != nil {
		return v, err
	}
	req, err := http.NewRequestWithContext(ctx, method, s.url+"/api/v1"+path, bytes.NewReader(b))
	if err != nil {
		return v, err
	}
	req.Header.Set("Authorization", "Bearer "+s.token)
	req.Header.Set("Content-Type", "application/json")
	res, err := http.DefaultClient.Do(req)
	if err != nil {
		return v, err
	}
	defer func() { _ = res.Body.Close() }()
	if res.StatusCode >= 300 {
		p := &problem.Problem{}
		_ = json.NewDecoder(res.Body).Decode(p)
		return v, fmt.Errorf("%s %s: %w", method, path, p)
	}
	if res.StatusCode == http.StatusNoContent {
		return v, nil
	}
	return v, json.NewDecoder(res.Body).Decode(&v)
}

// protect makes a group whose cycles run by hand and waits for its first point.
func (w *world) protect(ctx context.Context, name string, every int64, machines ...string) (string, error) {
	g, err := call[api.Group](ctx, w.home, "POST", "/groups", api.NewGroup{Name: name, Machines: machines, Link: "recovery",
		Promise: &api.Promise{RpoTargetSeconds: 3600, CadenceSeconds: every, Keep: []api.Rung{{ForSeconds: 86400}}}})
	if err != nil {
		return "", err
	}
	return g.ID, w.awaitCycle(ctx, g.ID, 1)
}

func (w *world) awaitCycle(ctx context.Context, group string, number int64) error {
	return until(ctx, func() (bool, error) {
		c, err := w.lastCycle(ctx, group)
		return err == nil && c.Number >= number && c.State == "sealed", err
	})
}

func (w *world) lastCycle(ctx context.Context, group string) (api.Cycle, error) {
	cs, err := call[[]api.Cycle](ctx, w.home, "GET", "/groups/"+group+"/cycles?limit=1", nil)
	if err != nil || len(cs) == 0 {
		return api.Cycle{}, err
	}
	return cs[0], nil
}

// cycle runs one cycle and gives it.
func (w *world) cycle(ctx context.Context, group string) (api.Cycle, error) {
	before, err := w.lastCycle(ctx, group)
	if err != nil {
		return before, err
	}
	if _, err := call[api.Group](ctx, w.home, "POST", "/groups/"+group+"/run", nil); err != nil {
		return before, err
	}
	if err := w.awaitCycle(ctx, group, before.Number+1); err != nil {
		return before, err
	}
	return w.lastCycle(ctx, group)
}

func (w *world) diskPath(machine string, disk int) string {
	return filepath.Join(w.dir, "lab", "disks", w.ids[machine], fmt.Sprintf("disk-%d", disk), "data.raw")
}

func (w *world) write(machine string, disk int, b []byte, off int64) error {
	return w.lab.Write(w.ids[machine], fmt.Sprintf("disk-%d", disk), b, off)
}

// mixed fills a disk in stretches of 1 MiB: a third stays zero, half is like
// programs, the rest does not compress.
func (w *world) mixed(machine string, disk int, size int64, seed uint64) error {
	r := rand.New(rand.NewPCG(seed, 2))
	like, err := programs()
	if err != nil {
		return err
	}
	b := make([]byte, mib)
	for off := int64(0); off < size; off += mib {
		switch k := off / mib % 6; {
		case k < 2:
			continue
		case k < 5:
			like(b, r)
		default:
			noise(b, r)
		}
		if err := w.write(machine, disk, b, off); err != nil {
			return err
		}
	}
	return nil
}

// programs gives what fills a buffer with pieces of this very program, of which
// no page is like another.
func programs() (func(b []byte, r *rand.Rand), error) {
	path, err := os.Executable()
	if err != nil {
		return nil, err
	}
	self, err := os.ReadFile(path)
	if err != nil {
		return nil, err
	}
	return func(b []byte, r *rand.Rand) {
		copy(b, self[r.Int64N(int64(len(self)-len(b))):])
		for at := 0; at+8 <= len(b); at += 4096 {
			binary.LittleEndian.PutUint64(b[at:], r.Uint64())
		}
	}, nil
}

// scatter rewrites total bytes in blocks of 64 KiB at random places.
func (w *world) scatter(machine string, disk int, size, total int64, seed uint64) error {
	r := rand.New(rand.NewPCG(seed, 4))
	b := make([]byte, 64<<10)
	for range total / int64(len(b)) {
		lines(b[:len(b)/2], r)
		noise(b[len(b)/2:], r)
		if err := w.write(machine, disk, b, r.Int64N(size/int64(len(b)))*int64(len(b))); err != nil {
			return err
		}
	}
	return nil
}

func noise(b []byte, r *rand.Rand) {
	for i := 0; i+8 <= len(b); i += 8 {
		binary.LittleEndian.PutUint64(b[i:], r.Uint64())
	}
}

func lines(b []byte, r *rand.Rand) {
	for at := 0; at < len(b); {
		at += copy(b[at:], fmt.Sprintf("%08x berth %d departs 0%d:15 quay north;", r.Uint32(), r.IntN(40), r.IntN(9)))
	}
}

func copyFile(from, to string) (int64, error) {
	in, err := os.Open(from)
	if err != nil {
		return 0, err
	}
	defer func() { _ = in.Close() }()
	out, err := os.Create(to)
	if err != nil {
		return 0, err
	}
	n, err := io.Copy(out, in)
	return n, errors.Join(err, out.Close())
}
