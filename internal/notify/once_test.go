package notify

import (
	"context"
	"log/slog"
	"net"
	"net/http"
	"net/http/httptest"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"kestrel/internal/clock"
	"kestrel/internal/records"
)

// lateBox gives what waits as it was when it was asked, if late says so after the message was
// delivered.
type lateBox struct {
	Box
	mu    sync.Mutex
	sent  bool
	tried chan struct{}
	once  sync.Once
	late  func()
}

func (b *lateBox) NextMessages(context.Context) (ms []records.Message, err error) {
	b.mu.Lock()
	if !b.sent {
		ms = []records.Message{{ID: "m", ChannelID: "c", Body: []byte(`{}`)}}
	}
	late := b.late
	b.mu.Unlock()
	if late != nil {
		late()
	}
	return ms, nil
}

func (b *lateBox) TryMessage(_ context.Context, m records.Message) error {
	b.mu.Lock()
	b.sent = m.SentAt != nil
	b.mu.Unlock()
	b.once.Do(func() { close(b.tried) })
	return nil
}

// Whoever asks what waits while something is being delivered may hear of it after it was; it is
// not delivered twice.
func TestWhatWasDeliveredMeanwhileIsNotDeliveredAgain(t *testing.T) {
	var taken atomic.Int64
	answer := make(chan struct{})
	s := httptest.NewServer(http.HandlerFunc(func(http.ResponseWriter, *http.Request) {
		taken.Add(1)
		<-answer
	}))
	defer s.Close()
	b := &lateBox{tried: make(chan struct{})}
	cfg := Config{Box: b, Dial: (&net.Dialer{}).DialContext, Clock: clock.Wall{}, Log: slog.New(slog.DiscardHandler), Waits: UsualWaits()}
	n := &Notify{Config: cfg, deliverer: deliverer{dial: cfg.Dial, now: time.Now, waits: cfg.Waits}, kick: make(chan struct{}, 1), failed: map[string]failing{}, busy: map[string]bool{},
		all: []records.Channel{{ID: "c", Kind: Webhook, Body: []byte(`{"url":"` + s.URL + `"}`)}}}
	require.NoError(t, n.look(t.Context()))
	n.Wake()
	b.mu.Lock()
	b.late = func() { // it is taken just now, and the list is of before
		close(answer)
		<-b.tried
		n.wg.Wait()
	}
	b.mu.Unlock()
	require.NoError(t, n.look(t.Context()))
	b.mu.Lock()
	b.late = nil
	b.mu.Unlock()
	require.NoError(t, n.look(t.Context()))
	n.wg.Wait()
	require.EqualValues(t, 1, taken.Load())
}
