// Package e2e tests the real interfaces: the service as a process of its own,
// driven through the network interface, the client binary and the console,
// over a real PostgreSQL, against a lab.
package e2e

import (
	"bytes"
	"context"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"fmt"
	"io"
	"net"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"sync"
	"sync/atomic"
	"syscall"
	"testing"
	"time"

	"github.com/google/uuid"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"kestrel/internal/api"
	"kestrel/internal/clock"
	"kestrel/internal/lab"
	"kestrel/internal/nbd"
	"kestrel/internal/platform"
	"kestrel/internal/problem"
	"kestrel/internal/support/freeport"
	"kestrel/internal/support/pgcluster"
)

var (
	binary  string
	cluster *pgcluster.Cluster
)

func TestMain(m *testing.M) {
	if order := os.Getenv(relayEnv); order != "" {
		if err := runRelay(order); err != nil {
			fmt.Fprintln(os.Stderr, err)
			os.Exit(1)
		}
		return
	}
	os.Exit(run(m))
}

func run(m *testing.M) int {
	c, dir, stop, err := pgcluster.ForTests(context.Background(), "e2e")
	if err != nil {
		fmt.Fprintln(os.Stderr, err)
		return 1
	}
	defer stop()
	cluster, binary = c, filepath.Join(dir, "kestrel")
	args := []string{"build", "-o", binary}
	if raceEnabled {
		args = append(args, "-race")
	}
	if out, err := exec.Command("go", append(args, "kestrel/cmd/kestrel")...).CombinedOutput(); err != nil {
		fmt.Fprintf(os.Stderr, "build: %v\n%s", err, out)
		return 1
	}
	return m.Run()
}

const person, password = "harbour-master", "a long enough password"

// world is two sites with a lab each.
type world struct {
	t        *testing.T
	home     *siteProc
	recovery *siteProc
	lab      *testLab
}

func newWorld(t *testing.T) *world {
	t.Helper()
	w := &world{t: t, lab: newLab(t, "lab-password")}
	w.home, w.recovery = newSite(t, "Norhaven"), newSite(t, "Eastmole")
	return w
}

// paired is a world whose home site has the lab and is paired with the other.
func paired(t *testing.T) *world {
	t.Helper()
	w := newWorld(t)
	w.pair()
	return w
}

// pair gives the home site the lab and pairs it with the other.
func (w *world) pair() {
	w.t.Helper()
	must[api.Platform](w.home, http.MethodPost, "/platforms", api.NewPlatform{Name: "lab", Kind: "lab", Address: w.lab.url, User: new("lab"), Password: new("lab-password")})
	inv := must[api.InvitationSecret](w.home, http.MethodPost, "/invitations", api.NewInvitation{})
	must[api.Link](w.recovery, http.MethodPost, "/links", api.AcceptInvitation{Invitation: inv.Text})
	w.eventually("the link is up at both", func() bool {
		for _, s := range []*siteProc{w.home, w.recovery} {
			ls := must[[]api.Link](s, http.MethodGet, "/links", nil)
			if len(ls) != 1 || !ls[0].Up || ls[0].RttMillis == nil {
				return false
			}
		}
		return true
	})
}

func promise(rpo, every int64) api.Promise {
	return api.Promise{RpoTargetSeconds: rpo, CadenceSeconds: every, Keep: []api.Rung{{ForSeconds: 3600}}}
}

func promised(rpo, every int64) *api.Promise { return new(promise(rpo, every)) }

// changed is a promise as an edit.
func changed(rpo, every int64) *api.PromisePatch {
	p := promise(rpo, every)
	return &api.PromisePatch{RpoTargetSeconds: &p.RpoTargetSeconds, CadenceSeconds: &p.CadenceSeconds, Keep: &p.Keep}
}

// protect makes a group and waits for its first point.
func (w *world) protect(name string, p api.Promise, machines ...string) api.Group {
	w.t.Helper()
	g := must[api.Group](w.home, http.MethodPost, "/groups", api.NewGroup{Name: name, Machines: machines, Link: "Eastmole", Promise: &p})
	w.eventually("the first copy is sealed", func() bool {
		x := w.home.group(g.ID) // the other site may tell of the point before the cycle is done
		return x.LastCycle != nil && x.LastCycle.State == "sealed" && x.NewestCaptureAt != nil
	})
	return w.home.group(g.ID)
}

// eventually waits for something that the outside can see. It asks often and
// gives up late.
func (w *world) eventually(what string, ok func() bool) {
	w.t.Helper()
	require.Eventually(w.t, ok, 4*time.Minute, 50*time.Millisecond, what)
}

// siteProc is a site as a process of its own.
type siteProc struct {
	t     *testing.T
	name  string
	dir   string
	db    string
	url   string
	nbd   string
	link  string // where it listens
	relay *relay // what other sites connect to
	token string
	cmd   *exec.Cmd
	extra []string
	env   []string
}

func freeAddr(t *testing.T) string {
	t.Helper()
	port, err := freeport.Loopback()
	require.NoError(t, err)
	return fmt.Sprintf("127.0.0.1:%d", port)
}

func newSite(t *testing.T, name string, extra ...string) *siteProc {
	t.Helper()
	db, err := cluster.Database(context.Background(), "t"+strings.ReplaceAll(uuid.NewString(), "-", ""))
	require.NoError(t, err)
	s := &siteProc{t: t, name: name, dir: t.TempDir(), db: db, url: "http://" + freeAddr(t), nbd: freeAddr(t), link: freeAddr(t), extra: extra}
	s.relay = newRelay(t, s.link)
	s.start()
	t.Cleanup(s.stop)
	s.welcome()
	return s
}

// welcome makes an administrator and a token for the test.
func (s *siteProc) welcome() {
	t := s.t
	t.Helper()
	out, err := s.kestrel(nil, "admin", "link", "--database", s.db, "--console", s.url)
	require.NoError(t, err, out)
	jar := s.raw(http.MethodPost, "/welcome", "", api.Welcome{Token: strings.TrimSpace(out[strings.Index(out, "#")+1:]), Name: person, Password: password})
	require.Equal(t, http.StatusOK, jar.StatusCode)
	_ = jar.Body.Close()
	s.token = jar.Cookies()[0].Value
	s.token = must[api.TokenSecret](s, http.MethodPost, "/tokens", api.NewToken{Name: "test", Days: 1}).Secret
}

// named is the console's address by a name, to which passkeys are bound.
func (s *siteProc) named() string { return strings.Replace(s.url, "127.0.0.1", "localhost", 1) }

// files is where the site may export points to, and where carried images may lie.
func (s *siteProc) files() string { return filepath.Join(s.dir, "files") }

func (s *siteProc) start() {
	s.t.Helper()
	s.spawn()
	s.await()
}

// spawn starts the process.
func (s *siteProc) spawn() {
	s.t.Helper()
	require.NoError(s.t, os.MkdirAll(s.files(), 0o755))
	log, err := os.OpenFile(filepath.Join(s.dir, "log"), os.O_CREATE|os.O_APPEND|os.O_WRONLY, 0o600)
	require.NoError(s.t, err)
	defer func() { _ = log.Close() }()
	s.cmd = exec.Command(binary, append([]string{"serve", "--site", s.name, "--state", filepath.Join(s.dir, "state"), "--listen", strings.TrimPrefix(s.url, "http://"), "--console-url", s.named(),
		"--link-listen", s.link, "--link-address", s.relay.addr, "--nbd-listen", s.nbd, "--store-floor", "64MiB", "--deletion-wait", "0", "--least-keep", "none", "--as-root", "--export-dir", s.files(), "--carry-dir", s.files()}, s.extra...)...)
	s.cmd.Env = append(append(os.Environ(), "KESTREL_DATABASE_URL="+s.db), s.env...)
	s.cmd.Stdout, s.cmd.Stderr = log, log
	require.NoError(s.t, s.cmd.Start())
}

// await waits until the service answers.
func (s *siteProc) await() {
	s.t.Helper()
	ready := func() bool {
		res, err := http.Get(s.url + "/readyz")
		if err != nil {
			return false
		}
		_ = res.Body.Close()
		return res.StatusCode == http.StatusOK
	}
	if !assert.Eventually(s.t, ready, 4*time.Minute, 20*time.Millisecond) {
		s.t.Fatalf("site %s does not get ready: %s", s.name, s.log())
	}
}

func (s *siteProc) log() string {
	b, _ := os.ReadFile(filepath.Join(s.dir, "log"))
	return string(b[max(0, len(b)-2000):])
}

// kill ends the process as a power cut would: at once, wherever it is.
func (s *siteProc) kill() {
	_ = s.cmd.Process.Signal(syscall.SIGKILL)
	_ = s.cmd.Wait()
}

// stop ends it in order, and takes note if it does not end well.
func (s *siteProc) stop() {
	if s.cmd.ProcessState != nil {
		return
	}
	_ = s.cmd.Process.Signal(syscall.SIGTERM)
	err := s.cmd.Wait()
	if !s.t.Failed() {
		require.NoError(s.t, err, s.log())
	}
	if b, err := os.ReadFile(filepath.Join(s.dir, "log")); err == nil && bytes.Contains(b, []byte("DATA RACE")) {
		s.t.Errorf("data race in %s: %s", s.name, b)
	}
}

// raw sends one request.
func (s *siteProc) raw(method, path, token string, body any) *http.Response {
	s.t.Helper()
	var r io.Reader
	switch b := body.(type) {
	case nil:
	case string:
		r = strings.NewReader(b)
	default:
		j, err := json.Marshal(b)
		require.NoError(s.t, err)
		r = bytes.NewReader(j)
	}
	req, err := http.NewRequest(method, s.url+"/api/v1"+path, r)
	require.NoError(s.t, err)
	req.Header.Set("Content-Type", "application/json")
	if token != "" {
		req.Header.Set("Authorization", "Bearer "+token)
	}
	res, err := http.DefaultClient.Do(req)
	require.NoError(s.t, err)
	return res
}

// call gives the answer, or the problem.
func call[T any](s *siteProc, method, path string, body any) (T, *problem.Problem) {
	s.t.Helper()
	var v T
	res := s.raw(method, path, s.token, body)
	defer func() { _ = res.Body.Close() }()
	if res.StatusCode >= 300 {
		p := &problem.Problem{}
		require.NoError(s.t, json.NewDecoder(res.Body).Decode(p))
		require.Equal(s.t, "application/problem+json", res.Header.Get("Content-Type"))
		require.Equal(s.t, res.StatusCode, p.Status)
		return v, p
	}
	if res.StatusCode != http.StatusNoContent {
		require.NoError(s.t, json.NewDecoder(res.Body).Decode(&v))
	}
	return v, nil
}

func must[T any](s *siteProc, method, path string, body any) T {
	s.t.Helper()
	v, p := call[T](s, method, path, body)
	require.Nil(s.t, p, "%s %s: %+v", method, path, p)
	return v
}

func (s *siteProc) group(id string) api.Group {
	s.t.Helper()
	return must[api.Group](s, http.MethodGet, "/groups/"+id, nil)
}

func (s *siteProc) points(group string) []api.Point {
	s.t.Helper()
	return must[[]api.Point](s, http.MethodGet, "/points?group="+group, nil)
}

// kestrel runs the client binary.
func (s *siteProc) kestrel(env []string, args ...string) (string, error) {
	cmd := exec.Command(binary, args...)
	cmd.Env = append(append(os.Environ(), "KESTREL_PROFILES="+filepath.Join(s.dir, "profiles.json"), "NO_COLOR=1"), env...)
	cmd.Stdin = strings.NewReader(password + "\n")
	out, err := cmd.CombinedOutput()
	return string(out), err
}

// relay passes connections on until it is cut.
type relay struct {
	addr, to string
	mu       sync.Mutex
	cut      bool
	open     map[net.Conn]bool
	stall    sync.RWMutex // held for writing while nothing is passed on
}

func newRelay(t *testing.T, to string) *relay {
	t.Helper()
	l, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	r := &relay{addr: l.Addr().String(), to: to, open: map[net.Conn]bool{}}
	t.Cleanup(func() { _ = l.Close(); r.setCut(true) })
	go func() {
		for {
			c, err := l.Accept()
			if err != nil {
				return
			}
			go r.pass(c)
		}
	}()
	return r
}

func (r *relay) pass(c net.Conn) {
	defer func() { _ = c.Close() }()
	d, err := net.Dial("tcp", r.to)
	if err != nil {
		return
	}
	defer func() { _ = d.Close() }()
	r.mu.Lock()
	if r.cut {
		r.mu.Unlock()
		return
	}
	r.open[c], r.open[d] = true, true
	r.mu.Unlock()
	go func() { r.copy(d, c); _ = d.Close() }()
	r.copy(c, d)
	r.mu.Lock()
	delete(r.open, c)
	delete(r.open, d)
	r.mu.Unlock()
}

func (r *relay) copy(to io.Writer, from io.Reader) {
	buf := make([]byte, 32<<10)
	for {
		n, err := from.Read(buf)
		r.stall.RLock()
		_, werr := to.Write(buf[:n])
		r.stall.RUnlock()
		if err != nil || werr != nil {
			return
		}
	}
}

// setCut breaks all connections and lets none through until it is undone.
func (r *relay) setCut(cut bool) {
	r.mu.Lock()
	defer r.mu.Unlock()
	r.cut = cut
	for c := range r.open {
		if cut {
			_ = c.Close()
		}
	}
}

// testLab is a lab in this process, which remembers what every disk held at
// the instant of every checkpoint.
type testLab struct {
	*lab.Lab
	url  string
	mu   sync.Mutex
	told chan struct{}                // closed when there is another sum
	sums map[string]map[string]string // checkpoint → machine/disk → SHA-256 of all bytes
	// alters is what its site is shown otherwise than it is; nil is nothing.
	alters atomic.Pointer[func(*platform.Inventory)]
}

// showing has h show the inventory as it is to be shown.
func (x *testLab) showing(h http.Handler) http.Handler {
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		f := x.alters.Load()
		if f == nil || r.URL.Path != "/v1/inventory" {
			h.ServeHTTP(w, r)
			return
		}
		all := x.Inventory()
		(*f)(&all)
		w.Header().Set("Content-Type", "application/json")
		_ = json.NewEncoder(w).Encode(all)
	})
}

func scenario() lab.Scenario {
	gib := func(root bool, after string) lab.ScenarioMachine {
		m := lab.ScenarioMachine{Folder: "/test", Tags: []string{"gold"}, Guest: "Linux", CPUs: 1, MemGiB: 1, Network: "lan",
			Disks:    []lab.ScenarioDisk{{Label: "root", SizeMiB: 12.25, UsedMiB: 6, Template: "base", Noise: 0.3}},
			Workload: lab.Workload{Seed: 5, HotPages: 20, HotPerSecond: 12, AppendKiBps: 80, RecordsPerS: 12, After: after}, Ports: []int{8080}}
		if root {
			m.Disks = append(m.Disks, lab.ScenarioDisk{Label: "data", SizeMiB: 24, UsedMiB: 8, Noise: 0.7})
		}
		return m
	}
	given := 0
	named := func(name string, m lab.ScenarioMachine) lab.ScenarioMachine {
		given++
		m.Name, m.Address = name, fmt.Sprintf("10.0.0.%d", given)
		return m
	}
	bare := named("bare", lab.ScenarioMachine{Folder: "/test"})
	slow := named("slow", gib(true, ""))
	slow.Disks[1].Datastore, slow.Disks[1].UsedMiB = "slow", 20 // some seconds, to be cut off in
	return lab.Scenario{Site: "test", Networks: []platform.Network{{ID: "lan", Name: "lan"}}, Datastores: []lab.ScenarioDatastore{{Name: "slow", CapacityGiB: 1, ReadMiBps: 3}}, Machines: []lab.ScenarioMachine{
		named("tick-db", gib(true, "")), named("tick-app", gib(false, "tick-db")), named("tick-web", gib(false, "tick-app")), slow, named("spare", gib(false, "")), bare}}
}

func newLab(t *testing.T, password string, more ...lab.ScenarioMachine) *testLab {
	t.Helper()
	all := scenario()
	all.Machines = append(all.Machines, more...)
	return newLabOf(t, password, all)
}

// newLabOf is newLab with a scenario of one's own.
func newLabOf(t *testing.T, password string, all lab.Scenario) *testLab {
	t.Helper()
	nl, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	hl, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	l, err := lab.Open(t.TempDir(), all, clock.Wall{}, nl.Addr().String())
	require.NoError(t, err)
	x := &testLab{Lab: l, url: "http://" + hl.Addr().String(), sums: map[string]map[string]string{}, told: make(chan struct{})}
	l.OnRelease(func(cp, machine, disk string, content *lab.FrozenDisk) {
		h := sha256.New()
		if _, err := io.Copy(h, io.NewSectionReader(content, 0, content.Size)); err != nil {
			panic(err)
		}
		x.mu.Lock()
		defer x.mu.Unlock()
		if x.sums[cp] == nil {
			x.sums[cp] = map[string]string{}
		}
		x.sums[cp][machine+"/"+disk] = hex.EncodeToString(h.Sum(nil))
		close(x.told)
		x.told = make(chan struct{})
	})
	ctx, cancel := context.WithCancel(context.Background())
	var wg sync.WaitGroup
	srv := &http.Server{Handler: x.showing(l.Handler("lab", password))}
	wg.Go(func() { _ = srv.Serve(hl) })
	wg.Go(func() { _ = nbd.Serve(ctx, nl, l) })
	wg.Go(func() { _ = l.Run(ctx, lab.Tick) })
	t.Cleanup(func() { cancel(); _ = srv.Close(); wg.Wait(); require.NoError(t, l.Close()) })
	return x
}

// sum is what a disk held at a checkpoint's instant. It is known once the checkpoint is
// released, which comes just after the point is there.
func (l *testLab) sum(checkpoint, machine, disk string) (string, bool) {
	patience := time.After(30 * time.Second)
	for {
		l.mu.Lock()
		s, ok := l.sums[checkpoint][machine+"/"+disk]
		told := l.told
		l.mu.Unlock()
		if ok {
			return s, true
		}
		select {
		case <-told:
		case <-patience:
			return "", false
		}
	}
}
