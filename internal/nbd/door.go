package nbd

import (
	"cmp"
	"context"
	"net"
	"sync"
	"time"
)

// Limits are what clients may take; zero is the default of each.
type Limits struct {
	Clients  int           // at once; 1024
	Greeting int           // of one host at once that have no export open yet; 64
	Patience time.Duration // until an export is open; 20 s
}

func (m Limits) filled() Limits {
	return Limits{cmp.Or(m.Clients, 1024), cmp.Or(m.Greeting, 64), cmp.Or(m.Patience, handshakeLimit)}
}

// door counts who is in.
type door struct {
	Limits
	mu      sync.Mutex
	clients int
	hosts   map[string]*host
}

// host is where clients come from.
type host struct {
	clients  int
	greeting chan struct{} // as many as may greet at once
}

// enter lets a client in, or not; leave is to be called at its end.
func (d *door) enter(c net.Conn) (from *host, leave func(), ok bool) {
	name, _, err := net.SplitHostPort(c.RemoteAddr().String())
	if err != nil {
		name = ""
	}
	d.mu.Lock()
	defer d.mu.Unlock()
	if d.clients >= d.Clients {
		return nil, nil, false
	}
	h, ok := d.hosts[name]
	if !ok {
		h = &host{greeting: make(chan struct{}, d.Greeting)}
		d.hosts[name] = h
	}
	d.clients++
	h.clients++
	return h, func() {
		d.mu.Lock()
		defer d.mu.Unlock()
		d.clients--
		if h.clients--; h.clients == 0 {
			delete(d.hosts, name)
		}
	}, true
}

// greet waits for a client's turn to greet; greeted is to be called when it has an export
// open, or is gone. Until then it costs no more than its connection.
func (h *host) greet(ctx context.Context, patience time.Duration) (greeted func(), ok bool) {
	t := time.NewTimer(patience)
	defer t.Stop()
	select {
	case h.greeting <- struct{}{}:
		return sync.OnceFunc(func() { <-h.greeting }), true
	case <-t.C:
	case <-ctx.Done():
	}
	return nil, false
}
