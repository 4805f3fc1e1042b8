// Package demo runs the demo: it starts everything on loopback, tells the story
// of Skerry Line's last hours to it once, and stops it all again.
package demo

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"syscall"
	"time"

	"kestrel/internal/support/pgcluster"
	"kestrel/internal/support/realsite"
)

// Options for Run.
type Options struct {
	State  string // folder
	Ports  int    // first of the range; portSpan are used
	Fresh  bool
	Binary string // the kestrel binary
	// Objects is the program of an S3 server (versitygw); none if empty.
	Objects string
	// Real adds real guests under libvirt. A demo that had them once keeps them.
	Real bool
	Out  io.Writer
}

// Ports of a site, from its own base.
const (
	portConsole  = 1
	portLink     = 2
	portNBD      = 3
	portLab      = 4
	portLabNBD   = 5
	portsPerSite = 6
	portSpan     = 2 + 3*portsPerSite // the database, the sites, and the object store
)

// siteNames are the sites of Skerry Line; their labs' scenarios are named alike.
func siteNames() []string { return []string{"Norhaven", "Eastmole", "Skarholt"} }

type place struct {
	name string
	base int
	dir  string
	db   string
}

func (s place) addr(port int) string { return fmt.Sprintf("127.0.0.1:%d", s.base+port) }
func (s place) url() string          { return "http://" + s.addr(portConsole) }
func (s place) scenario() string     { return strings.ToLower(s.name) }

// secrets of a demo, in its state folder, readable for its owner only.
type secrets struct {
	User        string            `json:"user"`
	Password    string            `json:"password"`
	LabPassword string            `json:"labPassword"`
	Tokens      map[string]string `json:"tokens"` // by site
	Told        bool              `json:"told"`   // the story was told
	Real        bool              `json:"real"`   // real guests are part of it
}

type demo struct {
	Options
	sites   []place
	secrets secrets
	began   time.Time
	procs   []*proc
	died    chan error
	real    []*realsite.Daemon
}

// Run runs the demo until ctx ends.
func Run(ctx context.Context, o Options) (err error) {
	d := &demo{Options: o, began: time.Now(), died: make(chan error, 16)}
	if o.Ports < 1024 || o.Ports > 65535-portSpanAll {
		return fmt.Errorf("--ports lies between 1024 and %d, not %d", 65535-portSpanAll, o.Ports)
	}
	if o.Fresh {
		if err := d.startOver(); err != nil {
			return err
		}
	}
	if err := os.MkdirAll(o.State, 0o711); err != nil {
		return fmt.Errorf("make the state folder: %w", err)
	}
	if err := os.WriteFile(filepath.Join(o.State, "kestrel-demo"), []byte("state of a Kestrel Tide demo\n"), 0o600); err != nil {
		return fmt.Errorf("write to the state folder: %w", err)
	}
	if err := roomFor(o.State); err != nil {
		return err
	}
	for i, n := range siteNames() {
		d.sites = append(d.sites, place{name: n, base: o.Ports + i*portsPerSite, dir: filepath.Join(o.State, strings.ToLower(n))})
	}
	if err := d.loadSecrets(); err != nil {
		return err
	}
	d.Real = d.Real || d.secrets.Real
	if err := d.portsFree(); err != nil {
		return err
	}
	d.say("PostgreSQL: starting a private cluster on 127.0.0.1:%d", d.pgPort())
	pg, err := pgcluster.Start(ctx, d.clusterDir(), d.pgPort())
	if err != nil {
		return err
	}
	defer func() {
		d.say("stopping everything")
		d.stopProcs()
		d.stopReal()
		err = errors.Join(err, pg.Stop())
		d.say("stopped")
	}()
	for i := range d.sites {
		if d.sites[i].db, err = pg.Database(ctx, "kestrel_"+d.sites[i].scenario()); err != nil {
			return err
		}
	}
	if err := d.startObjects(ctx); err != nil {
		return err
	}
	if !d.secrets.Told {
		if err := d.tellPast(ctx); err != nil {
			return fmt.Errorf("the past hours: %w", err)
		}
	}
	if d.Real {
		if err := d.startReal(ctx); err != nil {
			return err
		}
	}
	if err := d.startAll(ctx); err != nil {
		return err
	}
	if !d.secrets.Told {
		if err := d.tellPresent(ctx); err != nil {
			return err
		}
		d.secrets.Told = true
		if err := d.saveSecrets(); err != nil {
			return err
		}
	}
	if d.Real && !d.secrets.Real {
		if err := d.tellReal(ctx); err != nil {
			return fmt.Errorf("real guests: %w", err)
		}
		d.secrets.Real = true
		if err := d.saveSecrets(); err != nil {
			return err
		}
	}
	d.describe()
	select {
	case <-ctx.Done():
		return nil
	case err := <-d.died:
		return err
	}
}

func (d *demo) say(format string, a ...any) {
	_, _ = fmt.Fprintf(d.Out, "[%5.1f s] %s\n", time.Since(d.began).Seconds(), fmt.Sprintf(format, a...))
}

func (d *demo) pgPort() int { return d.Ports }

// startOver deletes what an earlier demo left, and nothing that is not a demo's.
func (d *demo) startOver() error {
	if _, err := os.Stat(d.State); errors.Is(err, os.ErrNotExist) {
		return nil
	}
	if _, err := os.Stat(filepath.Join(d.State, "kestrel-demo")); err != nil {
		names, _ := os.ReadDir(d.State)
		if len(names) > 0 {
			return fmt.Errorf("%s is not empty and not a demo's; nothing was deleted. Give another --state", d.State)
		}
	}
	for _, dir := range []string{d.clusterDir(), d.realDir(), d.State} {
		if err := os.RemoveAll(dir); err != nil {
			return fmt.Errorf("start over: %w", err)
		}
	}
	return nil
}

// clusterDir is where the cluster lies. Under root its server runs as another
// user, who may not be able to enter the state folder.
func (d *demo) clusterDir() string {
	dir := filepath.Join(d.State, "postgres")
	if pgcluster.Reachable(d.State) {
		if st, err := os.Stat(d.State); os.Geteuid() == 0 && err == nil && st.Mode().Perm()&0o001 == 0 {
			_ = os.Chmod(d.State, st.Mode().Perm()|0o011)
		}
		return dir
	}
	sum := sha256.Sum256([]byte(d.State))
	return filepath.Join("/var/tmp", "kestrel-demo-postgres-"+hex.EncodeToString(sum[:6]))
}

// minRoom is what the demo's disks and points take, with some to spare.
const minRoom = 4 << 30

// storeFloor is the room that the demo's stores leave free, in bytes: less than
// a site of use would, so that a nearly full disk can still show it.
const storeFloor int64 = 256 << 20

func roomFor(dir string) error {
	var st syscall.Statfs_t
	if err := syscall.Statfs(dir, &st); err != nil {
		return fmt.Errorf("look at %s: %w", dir, err)
	}
	if free := int64(st.Bavail) * st.Bsize; free < minRoom {
		return fmt.Errorf("only %d MiB are free at %s, and the demo needs %d; free some, or give another --state", free>>20, dir, minRoom>>20)
	}
	return nil
}

func (d *demo) portsFree() error {
	var taken []string
	span := portSpan
	if d.Real {
		span = portSpanAll
	}
	for p := d.Ports; p < d.Ports+span; p++ {
		l, err := net.Listen("tcp", fmt.Sprintf("127.0.0.1:%d", p))
		if err != nil {
			taken = append(taken, fmt.Sprint(p))
			continue
		}
		_ = l.Close()
	}
	if taken != nil {
		return fmt.Errorf("port %s of 127.0.0.1 is taken (another demo?); stop what uses it, or choose another range with --ports N (%d ports from N on)", strings.Join(taken, ", "), span)
	}
	return nil
}

func (d *demo) secretsPath() string { return filepath.Join(d.State, "sign-in.json") }

func (d *demo) loadSecrets() error {
	b, err := os.ReadFile(d.secretsPath())
	if errors.Is(err, os.ErrNotExist) {
		d.secrets = secrets{User: "harbour-master", Password: newPassword(), LabPassword: newPassword(), Tokens: map[string]string{}}
		return d.saveSecrets()
	}
	if err == nil {
		err = json.Unmarshal(b, &d.secrets)
	}
	if err != nil {
		return fmt.Errorf("read %s: %w (start over with --fresh)", d.secretsPath(), err)
	}
	if !d.secrets.Told {
		// The first start was cut off: half a story is worse than none.
		fresh := d.secrets
		if err := d.startOver(); err != nil {
			return err
		}
		if err := os.MkdirAll(d.State, 0o711); err != nil {
			return err
		}
		d.secrets = fresh
		d.secrets.Tokens = map[string]string{}
		return errors.Join(os.WriteFile(filepath.Join(d.State, "kestrel-demo"), []byte("state of a Kestrel Tide demo\n"), 0o600), d.saveSecrets())
	}
	return nil
}

func (d *demo) saveSecrets() error {
	b, err := json.MarshalIndent(d.secrets, "", "  ")
	if err != nil {
		return err
	}
	return os.WriteFile(d.secretsPath(), append(b, '\n'), 0o600)
}

// proc is a child of the demo.
type proc struct {
	name string
	cmd  *exec.Cmd
	done chan struct{}
	log  string
}

func (d *demo) start(name string, env []string, args ...string) error {
	return d.run(d.Binary, name, env, args...)
}

// run starts a program that is stopped with the demo.
func (d *demo) run(program, name string, env []string, args ...string) error {
	logPath := filepath.Join(d.State, "logs", name+".log")
	if err := os.MkdirAll(filepath.Dir(logPath), 0o700); err != nil {
		return err
	}
	f, err := os.OpenFile(logPath, os.O_CREATE|os.O_APPEND|os.O_WRONLY, 0o600)
	if err != nil {
		return err
	}
	defer func() { _ = f.Close() }()
	cmd := exec.Command(program, args...)
	cmd.Env = append(os.Environ(), env...)
	cmd.Stdout, cmd.Stderr = f, f
	// A process group of its own: Ctrl-C reaches us, and we stop in order.
	cmd.SysProcAttr = &syscall.SysProcAttr{Setpgid: true}
	if err := cmd.Start(); err != nil {
		return fmt.Errorf("start %s: %w", name, err)
	}
	p := &proc{name, cmd, make(chan struct{}), logPath}
	d.procs = append(d.procs, p)
	go func() {
		_ = cmd.Wait()
		close(p.done)
		b, _ := os.ReadFile(logPath)
		d.died <- fmt.Errorf("%s ended by itself; its log %s ends with:\n%s", name, logPath, b[max(0, len(b)-800):])
	}()
	return nil
}

func (d *demo) stopProcs() {
	// Sites first: a site that sees its lab go away would note a failure.
	for _, kind := range []string{"site-", "lab-", "objects"} {
		for _, p := range d.procs {
			if strings.HasPrefix(p.name, kind) {
				_ = p.cmd.Process.Signal(syscall.SIGTERM)
			}
		}
		for _, p := range d.procs {
			if !strings.HasPrefix(p.name, kind) {
				continue
			}
			select {
			case <-p.done:
			case <-time.After(15 * time.Second):
				_ = p.cmd.Process.Kill()
				<-p.done
			}
		}
	}
}

func (d *demo) startAll(ctx context.Context) error {
	for _, s := range d.sites {
		if err := makeCommands(s); err != nil {
			return err
		}
		err := d.start("lab-"+s.scenario(), []string{"KESTREL_LAB_PASSWORD=" + d.secrets.LabPassword}, "lab", "run",
			"--dir", filepath.Join(s.dir, "lab"), "--scenario", s.scenario(), "--listen", s.addr(portLab), "--nbd-listen", s.addr(portLabNBD))
		if err != nil {
			return err
		}
	}
	files := filepath.Join(d.State, "files") // for exports and carried images of all sites
	if err := os.MkdirAll(files, 0o700); err != nil {
		return fmt.Errorf("make the folder for exports: %w", err)
	}
	for _, s := range d.sites {
		env, args := d.longTermArgs(s)
		err := d.start("site-"+s.scenario(), append(env, "KESTREL_DATABASE_URL="+s.db), append([]string{"serve", "--site", s.name, "--state", filepath.Join(s.dir, "site"),
			"--listen", s.addr(portConsole), "--link-listen", s.addr(portLink), "--nbd-listen", s.addr(portNBD), "--store-floor", fmt.Sprint(storeFloor), "--export-dir", files, "--carry-dir", files, "--as-root"}, args...)...)
		if err != nil {
			return err
		}
	}
	for _, s := range d.sites {
		if err := d.await(ctx, s); err != nil {
			return err
		}
		d.say("%s: site on %s, lab on http://%s", s.name, s.url(), s.addr(portLab))
	}
	return nil
}

// await waits until a site says that it is ready.
func (d *demo) await(ctx context.Context, s place) error {
	for deadline := time.Now().Add(time.Minute); time.Now().Before(deadline); {
		if res, err := http.Get(s.url() + "/readyz"); err == nil {
			_ = res.Body.Close()
			if res.StatusCode == http.StatusOK {
				return nil
			}
		}
		select {
		case <-ctx.Done():
			return ctx.Err()
		case err := <-d.died:
			return err
		case <-time.After(50 * time.Millisecond):
		}
	}
	return fmt.Errorf("%s did not get ready in a minute; see %s", s.name, filepath.Join(d.State, "logs"))
}

func (d *demo) describe() {
	_, _ = fmt.Fprintf(d.Out, "\n  Skerry Line, three sites. Sign in with  %s  /  %s\n\n", d.secrets.User, d.secrets.Password)
	for _, s := range d.sites {
		_, _ = fmt.Fprintf(d.Out, "    %-9s %s   sign in: %s / %s   (lab http://%s)\n", s.name, s.url(), d.secrets.User, d.secrets.Password, s.addr(portLab))
	}
	for n, h := range d.real {
		_, _ = fmt.Fprintf(d.Out, "    %-9s libvirt %s", d.sites[n].name, h.URI)
		if n == 0 {
			_, _ = fmt.Fprintf(d.Out, "   guests' consoles: %s", h.Console("*"))
		}
		_, _ = fmt.Fprintln(d.Out)
	}
	_, _ = fmt.Fprintf(d.Out, `
  On the command line:
    export KESTREL_PROFILES=%s
    %s status
    %s -p eastmole tide

  Labs: user lab, password %s. State in %s. Ctrl-C stops everything.

ready in %.1f s: %s
`, filepath.Join(d.State, "profiles.json"), d.Binary, d.Binary, d.secrets.LabPassword, d.State, time.Since(d.began).Seconds(), d.sites[0].url())
}
