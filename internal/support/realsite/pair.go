package realsite

import (
	"bufio"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strconv"
	"strings"
	"sync"
	"syscall"
	"time"

	"github.com/beevik/etree"
	"github.com/digitalocean/go-libvirt"
)

// Shared is a folder that outlives runs, open to the hypervisor's user: images
// made once are used again.
func Shared() (string, error) {
	dir := fmt.Sprintf("/var/tmp/kestrel-tide-%d", os.Geteuid())
	if err := os.MkdirAll(dir, 0o755); err != nil {
		return "", err
	}
	st, err := os.Lstat(dir)
	if err != nil {
		return "", err
	}
	if !st.IsDir() || st.Mode().Perm()&0o022 != 0 {
		return "", fmt.Errorf("%s is not a folder of our own; remove it", dir)
	}
	return dir, nil
}

// BuildProgram compiles the program that runs in guests, as a static binary.
// It needs the Go toolchain and is called from within the project.
func BuildProgram(ctx context.Context, to string) error {
	cmd := exec.CommandContext(ctx, "go", "build", "-trimpath", "-ldflags", "-s -w", "-o", to, "kestrel/cmd/kestrel-guest")
	cmd.Env = append(os.Environ(), "CGO_ENABLED=0")
	if out, err := cmd.CombinedOutput(); err != nil {
		return fmt.Errorf("build the guest's program: %w: %s", err, out)
	}
	return nil
}

// BuildShared makes the guests' image in the shared folder. Runs at the same
// time wait for each other.
func BuildShared(ctx context.Context) (*Image, error) {
	dir, err := Shared()
	if err != nil {
		return nil, err
	}
	unlock, err := lockFile(filepath.Join(dir, "lock"))
	if err != nil {
		return nil, err
	}
	defer unlock()
	program := filepath.Join(dir, "kestrel-guest")
	if err := BuildProgram(ctx, program); err != nil {
		return nil, err
	}
	return BuildImage(ctx, filepath.Join(dir, "guest"), program)
}

// Folder makes a folder for a daemon: short, and open to all for passing.
func Folder() (string, error) {
	dir, err := os.MkdirTemp("/var/tmp", "ktr")
	if err != nil {
		return "", err
	}
	return dir, os.Chmod(dir, 0o755)
}

// Line is what a guest said of its transactions on its console.
type Line struct {
	Kind string // "FOUND" at its start, "TX" while it writes
	Seq  uint64
	Peer uint64
	Took []time.Duration // by each transaction of the last second
}

// Said reads a guest's console: all that it said since offset bytes, and the
// offset of the end.
func (d *Daemon) Said(name string, offset int64) ([]Line, int64) {
	b, err := os.ReadFile(d.Console(name))
	if err != nil || int64(len(b)) < offset {
		return nil, 0
	}
	var out []Line
	for text := range strings.SplitSeq(string(b[offset:]), "\n") {
		if l, ok := parseLine(text); ok {
			out = append(out, l)
		}
	}
	return out, int64(len(b))
}

// parseLine reads one line of a guest's program. The kernel's own words may
// come before it.
func parseLine(text string) (l Line, ok bool) {
	f := strings.Fields(text)
	for len(f) > 2 && f[0] != "FOUND" && f[0] != "TX" {
		f = f[1:]
	}
	if len(f) < 3 || f[2] == "torn:" {
		return l, false
	}
	l.Kind = f[0]
	last := map[string]string{"FOUND": "peer", "TX": "max"}[l.Kind]
	for _, w := range f[2:] {
		k, v, _ := strings.Cut(w, "=")
		if k == "us" {
			for t := range strings.SplitSeq(v, ",") {
				n, err := strconv.ParseUint(t, 10, 64)
				if err != nil {
					return l, false
				}
				l.Took = append(l.Took, time.Duration(n)*time.Microsecond)
			}
			continue
		}
		n, err := strconv.ParseUint(strings.TrimSuffix(v, "us"), 10, 64)
		if err != nil {
			return l, false // cut off, or not ours
		}
		switch k {
		case "seq":
			l.Seq = n
		case "peer":
			l.Peer = n
		}
		ok = ok || k == last
	}
	return l, ok
}

// Ear listens to the console of a guest that has a terminal for it, as one
// that was made from a point has.
type Ear struct {
	f     *os.File
	lines chan Line
}

// Listen opens a guest's console.
func (d *Daemon) Listen(name string) (*Ear, error) {
	var path string
	err := d.Domain(name, func(l *libvirt.Libvirt, dom libvirt.Domain) error {
		text, err := l.DomainGetXMLDesc(dom, 0)
		if err != nil {
			return err
		}
		doc := etree.NewDocument()
		if err := doc.ReadFromString(text); err != nil {
			return err
		}
		if e := doc.FindElement("/domain/devices/serial/source"); e != nil {
			path = e.SelectAttrValue("path", "")
		}
		return nil
	})
	if err != nil {
		return nil, err
	}
	f, err := os.OpenFile(path, os.O_RDWR|syscall.O_NOCTTY|syscall.O_NONBLOCK, 0)
	if err != nil {
		return nil, fmt.Errorf("console of guest %s: %w", name, err)
	}
	e := &Ear{f: f, lines: make(chan Line, 4096)}
	go func() {
		defer close(e.lines)
		for s := bufio.NewScanner(f); s.Scan(); {
			if l, ok := parseLine(s.Text()); ok {
				select {
				case e.lines <- l:
				default: // nobody asks for them
				}
			}
		}
	}()
	return e, nil
}

// Await gives the next line of a kind.
func (e *Ear) Await(ctx context.Context, kind string) (Line, error) {
	for {
		select {
		case l, ok := <-e.lines:
			if !ok {
				return l, errors.New("the guest's console was closed")
			}
			if l.Kind == kind {
				return l, nil
			}
		case <-ctx.Done():
			return Line{}, fmt.Errorf("the guest does not say %s: %w", kind, ctx.Err())
		}
	}
}

// Close stops listening.
func (e *Ear) Close() error { return e.f.Close() }

// Await waits until a guest has said something of a kind with at least a
// transaction number, and returns it.
func (d *Daemon) Await(ctx context.Context, name, kind string, seq uint64, offset int64) (Line, error) {
	for {
		lines, _ := d.Said(name, offset)
		for _, l := range lines {
			if l.Kind == kind && l.Seq >= seq {
				return l, nil
			}
		}
		select {
		case <-ctx.Done():
			b, _ := os.ReadFile(d.Console(name))
			return Line{}, fmt.Errorf("guest %s does not say %s: %w; its console ends with %q", name, kind, ctx.Err(), tail(b))
		case <-time.After(50 * time.Millisecond):
		}
	}
}

func tail(b []byte) string { return string(b[max(0, len(b)-400):]) }

// Newest is a guest's newest transaction that it spoke of, and the end of its console.
func (d *Daemon) Newest(name string) (Line, int64) {
	lines, end := d.Said(name, 0)
	for n := len(lines) - 1; n >= 0; n-- {
		if lines[n].Kind == "TX" {
			return lines[n], end
		}
	}
	return Line{}, end
}

// Writes waits until guests have done some more transactions.
func (d *Daemon) Writes(ctx context.Context, names ...string) error {
	for _, n := range names {
		last, end := d.Newest(n)
		if _, err := d.Await(ctx, n, "TX", last.Seq+3, end); err != nil {
			return err
		}
	}
	return nil
}

// ID is the identity of a guest.
func (d *Daemon) ID(name string) (id string, err error) {
	return id, d.With(func(l *libvirt.Libvirt) error {
		dom, err := l.DomainLookupByName(name)
		if err == nil {
			u := dom.UUID
			id = fmt.Sprintf("%x-%x-%x-%x-%x", u[:4], u[4:6], u[6:8], u[8:10], u[10:])
		}
		return err
	})
}

// Domain runs f for a guest.
func (d *Daemon) Domain(name string, f func(l *libvirt.Libvirt, dom libvirt.Domain) error) error {
	return d.With(func(l *libvirt.Libvirt) error {
		dom, err := l.DomainLookupByName(name)
		if err != nil {
			return err
		}
		return f(l, dom)
	})
}

// Pair is two daemons and what guests boot from.
type Pair struct {
	Image      *Image
	Home, Away *Daemon
	stop       sync.Once
	dir        string
}

// StartPair starts two daemons in a folder of their own, which Stop removes.
func StartPair(ctx context.Context) (*Pair, error) {
	if p := Missing(); p != "" {
		return nil, fmt.Errorf("%s is not installed", p)
	}
	image, err := BuildShared(ctx)
	if err != nil {
		return nil, err
	}
	dir, err := Folder()
	if err != nil {
		return nil, err
	}
	p := &Pair{Image: image, dir: dir}
	if p.Home, err = Start(ctx, filepath.Join(dir, "h"), 0); err == nil {
		p.Away, err = Start(ctx, filepath.Join(dir, "a"), 0)
	}
	if err != nil {
		p.Stop()
		return nil, err
	}
	return p, nil
}

// Stop ends everything and removes its files.
func (p *Pair) Stop() {
	p.stop.Do(func() {
		for _, d := range []*Daemon{p.Home, p.Away} {
			if d != nil {
				d.Stop()
			}
		}
		_ = os.RemoveAll(p.dir)
	})
}

// Exec runs a shell command in a guest through its agent and waits for its end.
func (d *Daemon) Exec(ctx context.Context, name, command string) error {
	ask := func(request any) (json.RawMessage, error) {
		text, err := json.Marshal(request)
		if err != nil {
			return nil, err
		}
		var answer struct {
			Return json.RawMessage `json:"return"`
		}
		return answer.Return, d.Domain(name, func(l *libvirt.Libvirt, dom libvirt.Domain) error {
			out, err := l.QEMUDomainAgentCommand(dom, string(text), 10, 0)
			for ctx.Err() == nil && err != nil && strings.Contains(err.Error(), "domain is not running") {
				time.Sleep(100 * time.Millisecond) // held for a moment
				out, err = l.QEMUDomainAgentCommand(dom, string(text), 10, 0)
			}
			if err == nil && len(out) == 0 {
				err = errors.New("no answer")
			}
			if err != nil {
				return fmt.Errorf("agent of guest %s: %w", name, err)
			}
			return json.Unmarshal([]byte(out[0]), &answer)
		})
	}
	type arguments map[string]any
	started, err := ask(arguments{"execute": "guest-exec", "arguments": arguments{"path": "/bin/sh", "arg": []string{"-c", command}}})
	if err != nil {
		return err
	}
	var id struct {
		PID int `json:"pid"`
	}
	if err := json.Unmarshal(started, &id); err != nil {
		return err
	}
	for {
		out, err := ask(arguments{"execute": "guest-exec-status", "arguments": arguments{"pid": id.PID}})
		if err != nil {
			return err
		}
		var status struct {
			Exited bool `json:"exited"`
			Code   int  `json:"exitcode"`
		}
		if err := json.Unmarshal(out, &status); err != nil {
			return err
		}
		if status.Exited {
			if status.Code != 0 {
				return fmt.Errorf("guest %s: %q exits with %d", name, command, status.Code)
			}
			return nil
		}
		select {
		case <-ctx.Done():
			return ctx.Err()
		case <-time.After(50 * time.Millisecond):
		}
	}
}

// Traces lists what a daemon knows and holds: machines, files of its pool, and
// how many guests run.
func (d *Daemon) Traces() (out []string, err error) {
	err = d.With(func(l *libvirt.Libvirt) error {
		all, _, err := l.ConnectListAllDomains(1, 0)
		for _, dom := range all {
			out = append(out, dom.Name)
		}
		return err
	})
	if err != nil {
		return nil, err
	}
	files, err := os.ReadDir(d.Disks())
	for _, f := range files {
		out = append(out, f.Name())
	}
	return append(out, fmt.Sprint(len(d.Guests()))), err
}
