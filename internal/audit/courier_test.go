package audit_test

import (
	"context"
	"crypto/tls"
	"crypto/x509"
	"fmt"
	"log/slog"
	"net"
	"strconv"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/leodido/go-syslog/v4"
	"github.com/leodido/go-syslog/v4/octetcounting"
	"github.com/leodido/go-syslog/v4/rfc5424"
	"github.com/stretchr/testify/require"

	"kestrel/internal/audit"
	"kestrel/internal/clock"
	"kestrel/internal/events"
	"kestrel/internal/records"
	"kestrel/internal/support/selfsigned"
)

// outbox is a trail in memory.
type outbox struct {
	mu    sync.Mutex
	lines []records.Activity
	sent  int64
}

func (o *outbox) add(a records.Activity) {
	o.mu.Lock()
	defer o.mu.Unlock()
	a.Number, a.Hash, a.At = new(int64(len(o.lines)+1)), []byte{1, 2}, time.Date(2026, 11, 26, 9, 0, 0, 123456789, time.UTC)
	if a.Changes == nil {
		a.Changes = []byte("[]")
	}
	o.lines = append(o.lines, a)
}

func (o *outbox) Trail(_ context.Context, after int64, limit int) ([]records.Activity, error) {
	o.mu.Lock()
	defer o.mu.Unlock()
	return o.lines[after:min(int(after)+limit, len(o.lines))], nil
}

func (o *outbox) Sent(context.Context, string) (int64, error) {
	o.mu.Lock()
	defer o.mu.Unlock()
	return o.sent, nil
}

func (o *outbox) SaveSent(_ context.Context, _ string, n int64) error {
	o.mu.Lock()
	defer o.mu.Unlock()
	o.sent = n
	return nil
}

// logServer reads messages as any log server does, until it is closed.
type logServer struct {
	l   net.Listener
	got chan *rfc5424.SyslogMessage
	mu  sync.Mutex
	in  []net.Conn
}

func (s *logServer) close() {
	_ = s.l.Close()
	s.mu.Lock()
	defer s.mu.Unlock()
	for _, c := range s.in {
		_ = c.Close()
	}
}

func listen(t *testing.T, address string, cert tls.Certificate) *logServer {
	t.Helper()
	var l net.Listener
	require.Eventually(t, func() (ok bool) {
		var err error
		l, err = tls.Listen("tcp", address, &tls.Config{Certificates: []tls.Certificate{cert}})
		return err == nil
	}, 10*time.Second, 10*time.Millisecond)
	s := &logServer{l: l, got: make(chan *rfc5424.SyslogMessage, 1000)}
	go func() {
		for {
			c, err := l.Accept()
			if err != nil {
				return
			}
			s.mu.Lock()
			s.in = append(s.in, c)
			s.mu.Unlock()
			go octetcounting.NewParser(syslog.WithListener(func(r *syslog.Result) {
				if m, ok := r.Message.(*rfc5424.SyslogMessage); ok && r.Error == nil {
					s.got <- m
				}
			})).Parse(c)
		}
	}()
	t.Cleanup(s.close)
	return s
}

func certificate(t *testing.T) (tls.Certificate, *x509.CertPool) {
	t.Helper()
	c, err := selfsigned.New()
	require.NoError(t, err)
	return c.Server, c.Pool
}

func number(t *testing.T, m *rfc5424.SyslogMessage) int {
	t.Helper()
	n, err := strconv.Atoi((*m.StructuredData)["kestrel@32473"]["number"])
	require.NoError(t, err)
	return n
}

// Every line reaches the log server, in order, also where that goes away in between; one
// whose certificate nobody vouches for gets none.
func TestLinesReachTheLogServer(t *testing.T) {
	cert, pool := certificate(t)
	s := listen(t, "127.0.0.1:0", cert)
	o, hub := &outbox{}, events.NewHub()
	courier := func(roots *x509.CertPool) *audit.Courier {
		return &audit.Courier{Address: s.l.Addr().String(), TLS: &tls.Config{ServerName: "127.0.0.1", RootCAs: roots, MinVersion: tls.VersionTLS12}, Dial: (&net.Dialer{}).DialContext, Outbox: o, Clock: clock.Wall{}, Hub: hub, Log: slog.New(slog.DiscardHandler)}
	}
	run := func(c *audit.Courier) (stop func()) {
		ctx, cancel := context.WithCancel(t.Context())
		done := make(chan struct{})
		go func() { defer close(done); c.Run(ctx) }()
		return func() { cancel(); <-done }
	}
	next := func() *rfc5424.SyslogMessage {
		select {
		case m := <-s.got:
			return m
		case <-time.After(20 * time.Second):
			require.Fail(t, "no message came")
			return nil
		}
	}
	o.add(records.Activity{Who: "anna", Actor: "person", Origin: "192.0.2.7", Kind: "group", Subject: `Tick]"\eting`, Object: "g1", Text: "anna edited Ticketing", Changes: []byte(`[{"field":"keep ladder","from":"1 d","to":"2 d"}]`)})
	stop := run(courier(pool))
	m := next()
	data := (*m.StructuredData)["kestrel@32473"]
	require.Equal(t, map[string]string{"number": "1", "who": "anna", "actor": "person", "from": "192.0.2.7", "subject": `Tick]"\eting`, "object": "g1", "hash": "0102"}, data)
	require.Equal(t, "anna edited Ticketing; keep ladder: 1 d → 2 d", *m.Message)
	require.EqualValues(t, 109, *m.Priority)
	require.Equal(t, "kestrel", *m.Appname)
	require.Equal(t, "group", *m.MsgID)
	require.Equal(t, time.Date(2026, 11, 26, 9, 0, 0, 123456000, time.UTC), m.Timestamp.UTC())

	for i := range 450 {
		o.add(records.Activity{Who: "anna", Kind: "point", Text: fmt.Sprint("line ", i)})
	}
	o.add(records.Activity{Who: "anna", Kind: "point", Text: strings.Repeat("ö", 9000)})
	hub.Send(events.Event{Type: "activity"})
	for want := 2; want <= 452; want++ {
		m = next()
		require.Equal(t, want, number(t, m))
	}
	require.Less(t, len(*m.Message), 7000)

	saved := func(n int64) {
		t.Helper()
		require.Eventually(t, func() bool { got, _ := o.Sent(t.Context(), ""); return got == n }, 20*time.Second, 10*time.Millisecond)
	}
	saved(452)

	// The server goes away, and comes back: what it may not have had it gets again.
	s.close()
	again := listen(t, s.l.Addr().String(), cert)
	s = again
	o.add(records.Activity{Who: "anna", Kind: "point", Text: "while it was away"})
	hub.Send(events.Event{Type: "activity"})
	for number(t, next()) != 453 {
	}
	saved(453)
	stop()

	o.add(records.Activity{Who: "anna", Kind: "point", Text: "for nobody else"})
	_, others := certificate(t)
	c := courier(others)
	stop = run(c)
	require.Never(t, func() bool { return len(s.got) > 0 }, time.Second, 10*time.Millisecond)
	stop()
	stop = run(courier(pool))
	require.Equal(t, 454, number(t, next()), "after a restart it goes on where it was")
	stop()
}
