// Package events tells clients that something changed, so that they ask anew.
package events

import "sync"

// Event names what changed.
type Event struct {
	Type  string `json:"type"` // group, point, operation, link, platform, store, alert, consent, landing or activity
	ID    string `json:"id,omitempty"`
	Group string `json:"group,omitempty"`
}

// Hub passes events to whoever listens. A listener that is too slow misses some,
// rather than holding up the service; it asks anew now and then anyway.
type Hub struct {
	mu        sync.Mutex
	listeners map[chan Event]bool
	closed    bool
}

// NewHub makes one without listeners.
func NewHub() *Hub { return &Hub{listeners: map[chan Event]bool{}} }

// Send tells all listeners.
func (h *Hub) Send(e Event) {
	h.mu.Lock()
	defer h.mu.Unlock()
	for c := range h.listeners {
		select {
		case c <- e:
		default:
		}
	}
}

// Close ends all listening.
func (h *Hub) Close() {
	h.mu.Lock()
	defer h.mu.Unlock()
	h.closed = true
	for c := range h.listeners {
		close(c)
	}
	h.listeners = map[chan Event]bool{}
}

// Listen gives a channel of events until stop is called or the hub is closed.
func (h *Hub) Listen() (events <-chan Event, stop func()) {
	c := make(chan Event, 256)
	h.mu.Lock()
	defer h.mu.Unlock()
	if h.closed {
		close(c)
		return c, func() {}
	}
	h.listeners[c] = true
	return c, func() {
		h.mu.Lock()
		defer h.mu.Unlock()
		delete(h.listeners, c)
	}
}
