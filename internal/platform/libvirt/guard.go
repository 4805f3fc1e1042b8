package libvirt

import (
	"bufio"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"os/exec"
	"sync"
	"syscall"
	"time"

	"kestrel/internal/platform"
)

// A guest that is frozen stays so until it is told otherwise, and a service
// that is killed tells nothing. So a second process, the guard, is told of
// every hold before it begins. When the service's end of the pipe closes, or
// a hold lasts too long, the guard lets the machine go.

// holdLimit is how long a machine may stay held beyond the freezing itself.
const holdLimit = 10 * time.Second

// guardPatience is how long an orderly stop waits for the guard to end.
const guardPatience = 3 * time.Second

// order is one line to the guard; it answers each with a line.
type order struct {
	Op         string        `json:"op"` // "hold" or "release"
	URI        string        `json:"uri"`
	Machine    string        `json:"machine"`
	Checkpoint string        `json:"checkpoint"`
	Frozen     bool          `json:"frozen"`
	Suspended  bool          `json:"suspended"`
	Limit      time.Duration `json:"limit"`
}

// guardLink is the service's end.
type guardLink struct {
	command []string // of the guard; empty runs it within this process

	mu      sync.Mutex
	w       io.WriteCloser
	r       *bufio.Reader
	stopped chan struct{} // closed when the guard has ended
}

func (g *guardLink) start() error {
	g.stopped = make(chan struct{})
	if len(g.command) == 0 {
		inR, inW := io.Pipe()
		outR, outW := io.Pipe()
		stopped := g.stopped
		go func() { _ = Guard(inR, outW); _ = outW.Close(); close(stopped) }()
		g.w, g.r = inW, bufio.NewReader(outR)
		return nil
	}
	cmd := exec.Command(g.command[0], g.command[1:]...)
	// What ends the service's process group or its terminal spares the guard.
	cmd.SysProcAttr = &syscall.SysProcAttr{Setsid: true}
	cmd.Dir = "/"
	w, err := cmd.StdinPipe()
	if err != nil {
		return err
	}
	r, err := cmd.StdoutPipe()
	if err != nil {
		return err
	}
	if err := cmd.Start(); err != nil {
		return fmt.Errorf("start the guard: %w", err)
	}
	stopped := g.stopped
	go func() { _ = cmd.Wait(); close(stopped) }()
	g.w, g.r = w, bufio.NewReader(r)
	return nil
}

func (g *guardLink) tell(o order) error {
	g.mu.Lock()
	defer g.mu.Unlock()
	if g.w == nil {
		if err := g.start(); err != nil {
			return err
		}
	}
	b, err := json.Marshal(o)
	if err != nil {
		return err
	}
	_, err = g.w.Write(append(b, '\n'))
	var line string
	if err == nil {
		line, err = g.r.ReadString('\n')
	}
	if err != nil {
		_ = g.w.Close()
		g.w = nil // the next order starts another
		return fmt.Errorf("the guard is gone: %w", err)
	}
	if line != "ok\n" {
		return fmt.Errorf("the guard answers %q", line)
	}
	return nil
}

func (g *guardLink) release(h *host, machine string) error {
	return g.tell(order{Op: "release", URI: h.uri.String(), Machine: machine})
}

func (g *guardLink) close() {
	g.mu.Lock()
	defer g.mu.Unlock()
	if g.w != nil {
		_ = g.w.Close()
		select {
		case <-g.stopped:
		case <-time.After(guardPatience):
			// It still has a machine to let go, whose host does not answer. It
			// outlives us: that is what it is for.
		}
		g.w = nil
	}
}

// Guard is the guard's work: it reads orders until r ends, then lets go of all
// machines that are still held and returns.
func Guard(r io.Reader, w io.Writer) error {
	g := &guarding{hosts: map[string]*host{}, ends: map[string]context.CancelFunc{}}
	lines := bufio.NewScanner(r)
	for lines.Scan() {
		var o order
		if err := json.Unmarshal(lines.Bytes(), &o); err != nil {
			return fmt.Errorf("order: %w", err)
		}
		answer := "ok"
		if err := g.take(o); err != nil {
			answer = err.Error()
		}
		if _, err := fmt.Fprintln(w, answer); err != nil {
			break
		}
	}
	close(g.over())
	g.wg.Wait()
	for _, h := range g.hosts {
		h.close()
	}
	return lines.Err()
}

type guarding struct {
	hosts map[string]*host
	ends  map[string]context.CancelFunc // by machine
	wg    sync.WaitGroup
	once  sync.Once
	ended chan struct{}
}

func (g *guarding) over() chan struct{} {
	g.once.Do(func() { g.ended = make(chan struct{}) })
	return g.ended
}

func (g *guarding) take(o order) error {
	if end := g.ends[o.Machine]; end != nil {
		end()
		delete(g.ends, o.Machine)
	}
	if o.Op != "hold" {
		return nil
	}
	h := g.hosts[o.URI]
	if h == nil {
		var err error
		if h, err = parseHost(o.URI); err != nil {
			return err
		}
		g.hosts[o.URI] = h
	}
	// Connected now, for when it matters.
	ctx, cancel := context.WithTimeout(context.Background(), callLimit)
	defer cancel()
	if _, err := h.open(ctx); err != nil {
		return err
	}
	released, end := context.WithCancel(context.Background())
	g.ends[o.Machine] = end
	over := g.over()
	g.wg.Go(func() {
		defer end()
		late := time.NewTimer(o.Limit)
		defer late.Stop()
		select {
		case <-released.Done():
			return
		case <-late.C:
		case <-over:
		}
		letGo(released, h, o)
	})
	return nil
}

// letGo insists for as long as an agent may be slow to come back, unless the
// service says that it has done it itself.
func letGo(released context.Context, h *host, o order) {
	d := &Driver{hosts: []*host{h}}
	for deadline := time.Now().Add(10 * time.Minute); released.Err() == nil && time.Now().Before(deadline); {
		ctx, cancel := context.WithTimeout(released, overtaken+callLimit)
		_, dom, err := d.find(ctx, o.Machine)
		if err == nil {
			// What the service asked for in its last moment may still come.
			err = rest{h: h, dom: dom, checkpoint: o.Checkpoint, frozen: o.Frozen, suspended: o.Suspended}.endSurely(ctx)
		} else if errors.Is(err, platform.ErrGone) {
			err = nil
		}
		cancel()
		if err == nil {
			return
		}
		select {
		case <-released.Done():
		case <-time.After(time.Second):
		}
	}
}
