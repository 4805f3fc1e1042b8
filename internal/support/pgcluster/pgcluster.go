// Package pgcluster runs a private PostgreSQL cluster on loopback, for the demo
// and the tests. It never runs the server as root, which the server refuses:
// under root the cluster belongs to Debian's user postgres.
package pgcluster

import (
	"context"
	"crypto/rand"
	"encoding/hex"
	"errors"
	"fmt"
	"net"
	"net/url"
	"os"
	"os/exec"
	"path/filepath"
	"sort"
	"strconv"
	"strings"
	"syscall"
	"time"

	"kestrel/internal/support/freeport"
	"kestrel/internal/support/unprivileged"

	"github.com/jmoiron/sqlx"

	_ "github.com/jackc/pgx/v5/stdlib" // the driver "pgx"
)

// Cluster is a running cluster.
type Cluster struct {
	dir      string
	port     int
	password string
	cmd      *exec.Cmd
	done     chan error
}

// Start runs the cluster whose data lies below dir, making it if it is new,
// on a port of loopback (0 picks one), and waits until it answers. Settings are
// NAME=VALUE, beside those that every cluster here has.
func Start(ctx context.Context, dir string, port int, settings ...string) (*Cluster, error) {
	bin, err := binaries()
	if err != nil {
		return nil, err
	}
	cred, err := unprivileged.As("postgres")
	if err != nil {
		return nil, err
	}
	if port == 0 {
		if port, err = freeport.Loopback(); err != nil {
			return nil, err
		}
	}
	if err := os.MkdirAll(dir, 0o711); err != nil {
		return nil, fmt.Errorf("make cluster folder: %w", err)
	}
	c := &Cluster{dir: dir, port: port, done: make(chan error, 1)}
	run := func(name string, args ...string) *exec.Cmd {
		cmd := exec.Command(filepath.Join(bin, name), args...)
		cmd.Dir = "/"
		// A group of its own: Ctrl-C is for us, we stop the server in order.
		cmd.SysProcAttr = &syscall.SysProcAttr{Setpgid: true, Credential: cred}
		cmd.Env = append(os.Environ(), "LC_ALL=C.UTF-8")
		return cmd
	}
	if err := c.prepare(run, cred); err != nil {
		return nil, err
	}
	if _, err := os.Stat(filepath.Join(c.data(), "postmaster.pid")); err == nil {
		// Left by a run that was killed; a stale file makes this fail, which
		// is as good.
		_ = run("pg_ctl", "stop", "-m", "fast", "-w", "-D", c.data()).Run()
	}
	logFile, err := os.OpenFile(filepath.Join(dir, "postgres.log"), os.O_CREATE|os.O_APPEND|os.O_WRONLY, 0o600)
	if err != nil {
		return nil, err
	}
	defer func() { _ = logFile.Close() }()
	args := []string{"-D", c.data(), "-p", strconv.Itoa(port), "-h", "127.0.0.1"}
	for _, s := range append([]string{"unix_socket_directories=", "max_connections=200", "shared_buffers=64MB"}, settings...) {
		args = append(args, "-c", s)
	}
	c.cmd = run("postgres", args...)
	c.cmd.Stdout, c.cmd.Stderr = logFile, logFile
	if err := c.cmd.Start(); err != nil {
		return nil, fmt.Errorf("start PostgreSQL: %w", err)
	}
	go func() { c.done <- c.cmd.Wait() }()
	if err := c.await(ctx); err != nil {
		_ = c.Stop()
		return nil, err
	}
	return c, nil
}

func (c *Cluster) data() string { return filepath.Join(c.dir, "data") }

// prepare makes the cluster's files on first use. The password lies beside
// them, readable for its owner only.
func (c *Cluster) prepare(run func(string, ...string) *exec.Cmd, cred *syscall.Credential) error {
	secret := filepath.Join(c.dir, "password")
	if b, err := os.ReadFile(secret); err == nil {
		c.password = strings.TrimSpace(string(b))
		if _, err := os.Stat(filepath.Join(c.data(), "PG_VERSION")); err == nil {
			return nil
		}
	}
	b := make([]byte, 16)
	if _, err := rand.Read(b); err != nil {
		return err
	}
	c.password = hex.EncodeToString(b)
	if err := os.WriteFile(secret, []byte(c.password+"\n"), 0o600); err != nil {
		return fmt.Errorf("write cluster password: %w", err)
	}
	_ = os.RemoveAll(c.data())
	if err := os.Mkdir(c.data(), 0o700); err != nil {
		return fmt.Errorf("make cluster folder: %w", err)
	}
	if err := unprivileged.Give(cred, secret, c.data()); err != nil {
		return err
	}
	out, err := run("initdb", "-D", c.data(), "-U", "kestrel", "--pwfile", secret, "-A", "scram-sha-256", "-E", "UTF8", "--locale", "C.UTF-8", "--no-sync").CombinedOutput()
	if err != nil {
		return fmt.Errorf("make PostgreSQL cluster in %s: %w: %s", c.dir, err, out)
	}
	return nil
}

func (c *Cluster) await(ctx context.Context) error {
	db, err := sqlx.Open("pgx", c.URL("postgres"))
	if err != nil {
		return err
	}
	defer func() { _ = db.Close() }()
	for deadline := time.Now().Add(30 * time.Second); ; {
		if err = db.PingContext(ctx); err == nil {
			return nil
		}
		select {
		case <-c.done:
			c.cmd = nil
			tail, _ := os.ReadFile(filepath.Join(c.dir, "postgres.log"))
			return fmt.Errorf("PostgreSQL did not start on port %d: %s", c.port, tail[max(0, len(tail)-600):])
		case <-ctx.Done():
			return ctx.Err()
		case <-time.After(50 * time.Millisecond):
		}
		if time.Now().After(deadline) {
			return fmt.Errorf("PostgreSQL does not answer on port %d: %w", c.port, err)
		}
	}
}

// URL is how to connect to a database of the cluster.
func (c *Cluster) URL(database string) string {
	u := url.URL{Scheme: "postgres", User: url.UserPassword("kestrel", c.password), Host: net.JoinHostPort("127.0.0.1", strconv.Itoa(c.port)), Path: database, RawQuery: "sslmode=disable"}
	return u.String()
}

// Database makes a database unless it is there, and gives its URL.
func (c *Cluster) Database(ctx context.Context, name string) (string, error) {
	db, err := sqlx.ConnectContext(ctx, "pgx", c.URL("postgres"))
	if err != nil {
		return "", fmt.Errorf("connect to cluster: %w", err)
	}
	defer func() { _ = db.Close() }()
	var there bool
	if err := db.GetContext(ctx, &there, `SELECT EXISTS (SELECT FROM pg_database WHERE datname = $1)`, name); err != nil {
		return "", fmt.Errorf("look for database: %w", err)
	}
	if !there {
		if _, err := db.ExecContext(ctx, `CREATE DATABASE "`+strings.ReplaceAll(name, `"`, `""`)+`"`); err != nil {
			return "", fmt.Errorf("make database %s: %w", name, err)
		}
	}
	return c.URL(name), nil
}

// Stop ends the server at once but cleanly and waits for it.
func (c *Cluster) Stop() error {
	if c.cmd == nil {
		return nil
	}
	_ = c.cmd.Process.Signal(syscall.SIGINT) // "fast" shutdown
	select {
	case err := <-c.done:
		c.cmd = nil
		return err
	case <-time.After(20 * time.Second):
		return errors.Join(errors.New("PostgreSQL did not stop"), c.cmd.Process.Kill())
	}
}

// Reachable reports whether the user that runs the server could enter dir: all
// folders above it must let others pass.
func Reachable(dir string) bool {
	if os.Geteuid() != 0 {
		return true
	}
	for d := filepath.Dir(dir); ; d = filepath.Dir(d) {
		st, err := os.Stat(d)
		if err == nil && st.Mode().Perm()&0o001 == 0 {
			return false
		}
		if d == "/" || d == "." {
			return true
		}
	}
}

func binaries() (string, error) {
	dirs, _ := filepath.Glob("/usr/lib/postgresql/*/bin/initdb")
	if len(dirs) > 0 {
		sort.Strings(dirs)
		return filepath.Dir(dirs[len(dirs)-1]), nil
	}
	p, err := exec.LookPath("initdb")
	if err != nil {
		return "", errors.New("PostgreSQL is not installed: install Debian's package postgresql-15")
	}
	return filepath.Dir(p), nil
}

// ForTests starts a cluster below /var/tmp that is thrown away by stop. It syncs
// nothing: what a test may kill is the service, not the machine.
func ForTests(ctx context.Context, name string) (c *Cluster, dir string, stop func(), err error) {
	if dir, err = os.MkdirTemp("/var/tmp", "kestrel-"+name); err != nil {
		return nil, "", nil, err
	}
	gone := func() { _ = os.RemoveAll(dir) }
	if err := os.Chmod(dir, 0o711); err != nil { // the cluster's user has to pass
		gone()
		return nil, "", nil, err
	}
	if c, err = Start(ctx, filepath.Join(dir, "pg"), 0, "fsync=off", "synchronous_commit=off", "full_page_writes=off"); err != nil {
		gone()
		return nil, "", nil, err
	}
	return c, dir, func() { _ = c.Stop(); gone() }, nil
}

// Main runs a package's tests beside a cluster of their own, and gives it to them.
func Main(m interface{ Run() int }, name string, give func(*Cluster)) int {
	c, _, stop, err := ForTests(context.Background(), name)
	if err != nil {
		fmt.Fprintln(os.Stderr, err)
		return 1
	}
	defer stop()
	give(c)
	return m.Run()
}
