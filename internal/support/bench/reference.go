package bench

import (
	"context"
	"errors"
	"fmt"
	"net"
	"os"
	"os/exec"
	"os/user"
	"path/filepath"
	"strconv"
	"syscall"
	"time"

	"kestrel/internal/support/freeport"
)

// reference is what our copying is measured against: rsync through ssh with
// zstd, and rsync to its daemon in the clear, both on loopback.
type reference struct {
	dir      string
	sshPort  int
	rsyncd   int
	children []*exec.Cmd
}

// look finds a program, also where Debian keeps what is meant for root.
func look(name string) (string, error) {
	if p, err := exec.LookPath(name); err == nil {
		return p, nil
	}
	p := filepath.Join("/usr/sbin", name)
	if _, err := os.Stat(p); err != nil {
		return "", fmt.Errorf("%s is not installed: ./dev bench installs it", name)
	}
	return p, nil
}

func startReference(ctx context.Context, dir string) (_ *reference, err error) {
	r := &reference{dir: dir}
	defer func() {
		if err != nil {
			r.stop()
		}
	}()
	if err := os.MkdirAll(filepath.Join(dir, "to"), 0o700); err != nil {
		return nil, err
	}
	if r.sshPort, err = freeport.Loopback(); err != nil {
		return nil, err
	}
	if r.rsyncd, err = freeport.Loopback(); err != nil {
		return nil, err
	}
	for _, key := range []string{"host", "user"} {
		if out, err := exec.CommandContext(ctx, "ssh-keygen", "-q", "-t", "ed25519", "-N", "", "-f", filepath.Join(dir, key)).CombinedOutput(); err != nil {
			return nil, fmt.Errorf("ssh-keygen: %w: %s", err, out)
		}
	}
	if os.Geteuid() == 0 {
		// Where sshd keeps nothing; it insists on it.
		if err := os.MkdirAll("/run/sshd", 0o755); err != nil {
			return nil, err
		}
	}
	sshd, err := look("sshd")
	if err != nil {
		return nil, err
	}
	conf := fmt.Sprintf("Port %d\nListenAddress 127.0.0.1\nHostKey %s\nAuthorizedKeysFile %s\nPidFile none\nStrictModes no\nUsePAM no\nPasswordAuthentication no\nPermitRootLogin yes\n",
		r.sshPort, filepath.Join(dir, "host"), filepath.Join(dir, "user.pub"))
	daemon := fmt.Sprintf("address = 127.0.0.1\nport = %d\nuse chroot = no\nlog file = %s\n[to]\npath = %s\nread only = no\nuid = %d\ngid = %d\n", r.rsyncd, filepath.Join(dir, "rsyncd.log"), filepath.Join(dir, "to"), os.Getuid(), os.Getgid())
	if err := errors.Join(os.WriteFile(filepath.Join(dir, "sshd.conf"), []byte(conf), 0o600), os.WriteFile(filepath.Join(dir, "rsyncd.conf"), []byte(daemon), 0o600)); err != nil {
		return nil, err
	}
	for _, c := range []*exec.Cmd{exec.Command(sshd, "-D", "-f", filepath.Join(dir, "sshd.conf")), exec.Command("rsync", "--daemon", "--no-detach", "--config", filepath.Join(dir, "rsyncd.conf"))} {
		c.SysProcAttr = &syscall.SysProcAttr{Setpgid: true}
		if err := c.Start(); err != nil {
			return nil, err
		}
		r.children = append(r.children, c)
	}
	for _, port := range []int{r.sshPort, r.rsyncd} {
		if err := until(ctx, func() (bool, error) {
			c, err := net.Dial("tcp", net.JoinHostPort("127.0.0.1", strconv.Itoa(port)))
			if err != nil {
				return false, nil
			}
			return true, c.Close()
		}); err != nil {
			return nil, err
		}
	}
	return r, nil
}

func (r *reference) stop() {
	for _, c := range r.children {
		_ = syscall.Kill(-c.Process.Pid, syscall.SIGKILL)
		_ = c.Wait()
	}
}

// copyPath is where copies arrive.
func (r *reference) copyPath(name string) string { return filepath.Join(r.dir, "to", name) }

// ssh copies a file, encrypted and compressed, whole and synced, in seconds.
func (r *reference) ssh(ctx context.Context, from, name string) (float64, error) {
	u, err := user.Current()
	if err != nil {
		return 0, err
	}
	shell := fmt.Sprintf("ssh -p %d -i %s -o StrictHostKeyChecking=no -o UserKnownHostsFile=/dev/null -o LogLevel=ERROR", r.sshPort, filepath.Join(r.dir, "user"))
	return timed(ctx, "rsync", "--whole-file", "--inplace", "--fsync", "--compress", "--compress-choice=zstd", "-e", shell, from, u.Username+"@127.0.0.1:"+r.copyPath(name))
}

// daemon copies a file in the clear, with more options, in seconds.
func (r *reference) daemon(ctx context.Context, from, name string, options ...string) (float64, error) {
	return timed(ctx, "rsync", append(options, "--inplace", "--fsync", from, fmt.Sprintf("rsync://127.0.0.1:%d/to/%s", r.rsyncd, name))...)
}

func timed(ctx context.Context, name string, args ...string) (float64, error) {
	began := time.Now()
	if out, err := exec.CommandContext(ctx, name, args...).CombinedOutput(); err != nil {
		return 0, fmt.Errorf("%s: %w: %s", name, err, out)
	}
	return time.Since(began).Seconds(), nil
}
