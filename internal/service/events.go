package service

import "sync"

// Event tells clients that something changed, so that they ask anew.
type Event struct {
	Type  string `json:"type"` // group, point, operation, link, platform, activity
	ID    string `json:"id,omitempty"`
	Group string `json:"group,omitempty"`
}

// hub passes events to whoever listens. A listener that is too slow misses
// events and is told so, rather than holding up the service.
type hub struct {
	mu        sync.Mutex
	listeners map[chan Event]bool
	closed    bool
}

func newHub() *hub { return &hub{listeners: map[chan Event]bool{}} }

func (h *hub) send(e Event) {
	h.mu.Lock()
	defer h.mu.Unlock()
	for c := range h.listeners {
		select {
		case c <- e:
		default:
		}
	}
}

func (h *hub) close() {
	h.mu.Lock()
	defer h.mu.Unlock()
	h.closed = true
	for c := range h.listeners {
		close(c)
	}
	h.listeners = map[chan Event]bool{}
}

// Listen gives a channel of events until stop is called or the service ends.
func (s *Service) Listen() (events <-chan Event, stop func()) {
	c := make(chan Event, 256)
	h := s.hub
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
