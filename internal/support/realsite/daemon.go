// Package realsite runs real libvirt daemons on loopback and builds small real
// Linux guests for them, for the demo, the tests and the benches: two of them
// side by side are two sites. Nothing here is needed to protect machines.
package realsite

import (
	"context"
	"errors"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strconv"
	"strings"
	"syscall"
	"time"

	"kestrel/internal/support/freeport"
	"kestrel/internal/support/unprivileged"

	"github.com/digitalocean/go-libvirt"
	"github.com/digitalocean/go-libvirt/socket/dialers"
	"github.com/google/uuid"
)

// Daemon is a running libvirtd with a storage pool "disks" in a folder of its
// own. It runs unprivileged; under root, as Debian's user nobody.
type Daemon struct {
	// URI is how a client reaches it.
	URI string
	// TLSURI is how it is reached under TLS, after UseCertificates.
	TLSURI  string
	dir     string
	port    int
	tlsPort int
	cmd     *exec.Cmd
	done    chan struct{}
}

// Missing names the first program that is not installed, or nothing.
func Missing() string {
	for _, p := range []string{"qemu-system-x86_64", "qemu-img", "libvirtd", "virsh", "mkfs.ext4", "dpkg-deb"} {
		if lookPath(p) == "" {
			return p
		}
	}
	return ""
}

// lookPath also looks where Debian keeps what is meant for root.
func lookPath(name string) string {
	if p, err := exec.LookPath(name); err == nil {
		return p
	}
	for _, d := range []string{"/usr/sbin", "/sbin"} {
		if _, err := os.Stat(filepath.Join(d, name)); err == nil {
			return filepath.Join(d, name)
		}
	}
	return ""
}

// Start runs a daemon whose files lie below dir, on a port of loopback (0 picks
// one), and waits until it answers. The folder's parents must be open to all
// for passing, and its path short: sockets lie in it.
func Start(ctx context.Context, dir string, port int) (*Daemon, error) {
	if p := Missing(); p != "" {
		return nil, fmt.Errorf("%s is not installed", p)
	}
	cred, err := unprivileged.As("nobody")
	if err != nil {
		return nil, err
	}
	if port == 0 {
		if port, err = freeport.Loopback(); err != nil {
			return nil, err
		}
	}
	d := &Daemon{URI: fmt.Sprintf("qemu+tcp://127.0.0.1:%d/session", port), dir: dir, port: port}
	for _, sub := range []string{"", "c", "c/libvirt", "cache", "data", "run", "disks"} {
		p := filepath.Join(dir, sub)
		if err := os.MkdirAll(p, 0o755); err != nil {
			return nil, fmt.Errorf("make the hypervisor's folder: %w", err)
		}
		if err := unprivileged.Give(cred, p); err != nil {
			return nil, err
		}
	}
	if err := errors.Join(d.setDaemon("listen_tls = 0\n"), d.setQemu("")); err != nil {
		return nil, fmt.Errorf("write the hypervisor's settings: %w", err)
	}
	if err := d.Restart(ctx); err != nil {
		return nil, err
	}
	return d, nil
}

// hostUUID tells daemons on one machine apart, as machines of their own would
// be: guests migrate between hosts only.
func hostUUID(dir string) string { return uuid.NewSHA1(uuid.NameSpaceURL, []byte(dir)).String() }

func (d *Daemon) setDaemon(more string) error {
	text := fmt.Sprintf("listen_tcp = 1\ntcp_port = \"%d\"\nlisten_addr = \"127.0.0.1\"\nauth_tcp = \"none\"\nhost_uuid = %q\n", d.port, hostUUID(d.dir)) + more
	return os.WriteFile(filepath.Join(d.dir, "libvirtd.conf"), []byte(text), 0o644)
}

// UseCertificates tells libvirt to listen under TLS and QEMU to protect NBD with
// the certificates of a folder, as MakeCertificates lays it out. It holds after a
// Restart, for guests started from then on.
func (d *Daemon) UseCertificates(folder string) error {
	if d.tlsPort == 0 {
		port, err := freeport.Loopback()
		if err != nil {
			return err
		}
		d.tlsPort, d.TLSURI = port, fmt.Sprintf("qemu+tls://127.0.0.1:%d/session", port)
	}
	if err := d.setDaemon(fmt.Sprintf("listen_tls = 1\ntls_port = \"%d\"\nauth_tls = \"none\"\nkey_file = %q\ncert_file = %q\nca_file = %q\n", d.tlsPort,
		filepath.Join(folder, "serverkey.pem"), filepath.Join(folder, "servercert.pem"), filepath.Join(folder, "cacert.pem"))); err != nil {
		return err
	}
	return d.setQemu(fmt.Sprintf("backup_tls_x509_cert_dir = %q\nbackup_tls_x509_verify = 1\nnbd_tls = 1\nnbd_tls_x509_cert_dir = %q\n", folder, folder))
}

func (d *Daemon) setQemu(more string) error {
	text := "stdio_handler = \"file\"\n" + more
	return os.WriteFile(filepath.Join(d.dir, "c", "libvirt", "qemu.conf"), []byte(text), 0o644)
}

// Disks is the folder of the storage pool.
func (d *Daemon) Disks() string { return filepath.Join(d.dir, "disks") }

func (d *Daemon) env() []string {
	return append(os.Environ(), "HOME="+d.dir, "XDG_CONFIG_HOME="+filepath.Join(d.dir, "c"), "XDG_CACHE_HOME="+filepath.Join(d.dir, "cache"),
		"XDG_DATA_HOME="+filepath.Join(d.dir, "data"), "XDG_RUNTIME_DIR="+filepath.Join(d.dir, "run"))
}

// Kill ends the daemon at once. Its guests go on.
func (d *Daemon) Kill() {
	if d.cmd != nil {
		_ = d.cmd.Process.Kill()
		<-d.done
		d.cmd = nil
	}
}

// Restart ends the daemon if it runs, and starts it. Its guests go on.
func (d *Daemon) Restart(ctx context.Context) error {
	d.Kill()
	cred, err := unprivileged.As("nobody")
	if err != nil {
		return err
	}
	// Left by a daemon that was killed, it would keep this one from starting.
	_ = os.Remove(filepath.Join(d.dir, "run", "libvirt", "libvirtd.pid"))
	log, err := os.OpenFile(filepath.Join(d.dir, "libvirtd.log"), os.O_CREATE|os.O_APPEND|os.O_WRONLY, 0o644)
	if err != nil {
		return err
	}
	defer func() { _ = log.Close() }()
	cmd := exec.Command(lookPath("libvirtd"), "--listen", "--config", filepath.Join(d.dir, "libvirtd.conf"))
	cmd.Dir, cmd.Env, cmd.Stdout, cmd.Stderr = "/", d.env(), log, log
	cmd.SysProcAttr = &syscall.SysProcAttr{Setpgid: true, Credential: cred}
	if err := cmd.Start(); err != nil {
		return fmt.Errorf("start libvirtd: %w", err)
	}
	done := make(chan struct{})
	d.cmd, d.done = cmd, done
	go func() { _ = cmd.Wait(); close(done) }()
	for deadline := time.Now().Add(30 * time.Second); ; {
		if err = d.prepare(); err == nil {
			return nil
		}
		select {
		case <-done:
			return fmt.Errorf("libvirtd ended; its log is %s", log.Name())
		case <-ctx.Done():
			return ctx.Err()
		case <-time.After(100 * time.Millisecond):
		}
		if time.Now().After(deadline) {
			return fmt.Errorf("libvirtd does not answer: %w", err)
		}
	}
}

// prepare makes the storage pool on first use, and sees to it that it runs.
func (d *Daemon) prepare() error {
	return d.With(func(l *libvirt.Libvirt) error {
		pool, err := l.StoragePoolLookupByName("disks")
		if err != nil {
			if pool, err = l.StoragePoolDefineXML(fmt.Sprintf("<pool type='dir'><name>disks</name><target><path>%s</path></target></pool>", d.Disks()), 0); err != nil {
				return err
			}
			if err := l.StoragePoolSetAutostart(pool, 1); err != nil {
				return err
			}
		}
		if on, err := l.StoragePoolIsActive(pool); err != nil || on == 1 {
			return err
		}
		return l.StoragePoolCreate(pool, 0)
	})
}

// With runs f with a connection to the daemon.
func (d *Daemon) With(f func(l *libvirt.Libvirt) error) error {
	l := libvirt.NewWithDialer(dialers.NewRemote("127.0.0.1", dialers.UsePort(strconv.Itoa(d.port))))
	if err := l.ConnectToURI("qemu:///session"); err != nil {
		return err
	}
	defer func() { _ = l.Disconnect() }()
	return f(l)
}

// Stop ends all guests and the daemon.
func (d *Daemon) Stop() {
	// One that does not run cannot be asked, so the guests are told directly.
	d.Kill()
	for _, pid := range d.Guests() {
		_ = syscall.Kill(pid, syscall.SIGKILL)
	}
}

// StopGently shuts the guests down through their agents, ends those that do not
// follow in time, and then ends the daemon. Images are closed in order, so that
// they keep their record of changes.
func (d *Daemon) StopGently(limit time.Duration) {
	_ = d.With(func(l *libvirt.Libvirt) error {
		running, _, err := l.ConnectListAllDomains(1, libvirt.ConnectListDomainsActive)
		if err != nil {
			return err
		}
		deadline := time.Now().Add(limit)
		for _, dom := range running {
			_, _ = l.DomainAgentSetResponseTimeout(dom, 2, 0)
			_ = l.DomainShutdownFlags(dom, libvirt.DomainShutdownGuestAgent)
		}
		for _, dom := range running {
			for {
				state, _, err := l.DomainGetState(dom, 0)
				if err != nil || state == int32(libvirt.DomainShutoff) {
					break
				}
				if time.Now().After(deadline) {
					_ = l.DomainDestroyFlags(dom, libvirt.DomainDestroyGraceful)
					break
				}
				time.Sleep(100 * time.Millisecond)
			}
		}
		return nil
	})
	d.Stop()
}

// Guests lists the process IDs of the guests that run, by name.
func (d *Daemon) Guests() map[string]int {
	out := map[string]int{}
	dir := filepath.Join(d.dir, "run", "libvirt", "qemu", "run")
	files, _ := os.ReadDir(dir)
	for _, f := range files {
		name, ok := strings.CutSuffix(f.Name(), ".pid")
		if !ok || name == "driver" {
			continue
		}
		b, err := os.ReadFile(filepath.Join(dir, f.Name()))
		if err != nil {
			continue
		}
		if pid, err := strconv.Atoi(strings.TrimSpace(string(b))); err == nil && syscall.Kill(pid, 0) == nil {
			out[name] = pid
		}
	}
	return out
}

// lockFile waits for a file's lock, which ends with the process at the latest.
func lockFile(path string) (unlock func(), err error) {
	f, err := os.OpenFile(path, os.O_CREATE|os.O_RDWR, 0o644)
	if err != nil {
		return nil, err
	}
	if err := syscall.Flock(int(f.Fd()), syscall.LOCK_EX); err != nil {
		_ = f.Close()
		return nil, fmt.Errorf("lock %s: %w", path, err)
	}
	return func() { _ = f.Close() }, nil
}
