package link

import (
	"context"
	"io"
	"sync"
	"time"

	"kestrel/internal/clock"
	"kestrel/internal/core/pace"
)

// throttle keeps what is sent over one link to its rate, shared by weight.
type throttle struct {
	clk clock.Clock

	mu      sync.Mutex
	plan    pace.Plan
	queue   pace.Queue
	turn    map[*pace.Piece]chan struct{}
	serving bool
}

// set changes the rates; it holds from the next piece on.
func (t *throttle) set(p pace.Plan) {
	t.mu.Lock()
	defer t.mu.Unlock()
	t.plan = p
}

// rate is what holds now, 0 for no limit.
func (t *throttle) rate() int64 {
	t.mu.Lock()
	defer t.mu.Unlock()
	return t.plan.At(t.clk.Now().Local())
}

// wait returns when it is the turn of bytes of a flow.
func (t *throttle) wait(ctx context.Context, flow string, weight float64, bytes int64) error {
	t.mu.Lock()
	p := t.queue.Add(flow, weight, bytes)
	turn := make(chan struct{})
	if t.turn == nil {
		t.turn = map[*pace.Piece]chan struct{}{}
	}
	t.turn[p] = turn
	if !t.serving {
		t.serving = true
		go t.serve()
	}
	t.mu.Unlock()
	select {
	case <-turn:
		return nil
	case <-ctx.Done():
		t.mu.Lock()
		defer t.mu.Unlock()
		t.queue.Remove(p)
		delete(t.turn, p)
		return ctx.Err()
	}
}

// longestNap is how long serve sleeps before it looks at the rate again.
const longestNap = 250 * time.Millisecond

// serve gives turns until nobody waits.
func (t *throttle) serve() {
	for {
		t.mu.Lock()
		p, nap := t.queue.Next(t.clk.Now(), t.plan.At(t.clk.Now().Local()))
		switch {
		case p != nil:
			if turn := t.turn[p]; turn != nil {
				close(turn)
				delete(t.turn, p)
			}
		case nap == 0:
			t.serving = false
			t.mu.Unlock()
			return
		}
		t.mu.Unlock()
		if nap > 0 {
			_ = clock.Sleep(context.Background(), t.clk, min(nap, longestNap))
		}
	}
}

// paced reads from r as fast as a flow may be sent.
type paced struct {
	ctx    context.Context
	r      io.Reader
	t      *throttle
	flow   string
	weight float64
	moved  func(n int) // told of every piece
	sent   func()      // told of the end
}

func (p *paced) Read(b []byte) (int, error) {
	if rate := p.t.rate(); rate > 0 {
		b = b[:min(int64(len(b)), pace.PieceSize(rate))]
		if err := p.t.wait(p.ctx, p.flow, p.weight, int64(len(b))); err != nil {
			return 0, err
		}
	}
	n, err := p.r.Read(b)
	p.moved(n)
	if err != nil {
		p.sent()
	}
	return n, err
}
