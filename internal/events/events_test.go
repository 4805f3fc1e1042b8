package events_test

import (
	"sync"
	"testing"

	"github.com/stretchr/testify/require"

	"kestrel/internal/events"
)

// Everybody who listens hears everything in its order, and after stopping nothing.
func TestWhoListensHears(t *testing.T) {
	h := events.NewHub()
	a, stopA := h.Listen()
	b, stopB := h.Listen()
	h.Send(events.Event{Type: "group", ID: "1"})
	stopA()
	stopA()
	h.Send(events.Event{Type: "point", ID: "2", Group: "1"})
	stopB()
	h.Send(events.Event{Type: "link"})
	require.Equal(t, events.Event{Type: "group", ID: "1"}, <-a)
	require.Empty(t, a)
	require.Equal(t, events.Event{Type: "group", ID: "1"}, <-b)
	require.Equal(t, events.Event{Type: "point", ID: "2", Group: "1"}, <-b)
	require.Empty(t, b)
}

// One that does not listen holds up nobody: it misses what comes too fast.
func TestASlowListenerHoldsUpNobody(t *testing.T) {
	h := events.NewHub()
	slow, stop := h.Listen()
	defer stop()
	for range 10_000 {
		h.Send(events.Event{Type: "activity"})
	}
	require.NotEmpty(t, slow)
	require.Less(t, len(slow), 10_000)
}

// When the service ends, all listening ends, whoever sends or comes meanwhile.
func TestTheEnd(t *testing.T) {
	h := events.NewHub()
	var wg sync.WaitGroup
	for range 20 {
		c, stop := h.Listen()
		wg.Go(func() {
			defer stop()
			for range c { // until it is closed
			}
		})
		wg.Go(func() { h.Send(events.Event{Type: "group"}) })
	}
	h.Close()
	h.Close()
	wg.Wait()
	h.Send(events.Event{Type: "group"})
	late, stop := h.Listen()
	defer stop()
	_, open := <-late
	require.False(t, open)
}
