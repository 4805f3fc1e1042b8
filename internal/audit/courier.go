package audit

import (
	"bufio"
	"context"
	"crypto/tls"
	"encoding/hex"
	"errors"
	"fmt"
	"io"
	"log/slog"
	"net"
	"os"
	"strconv"
	"strings"
	"sync"
	"time"

	"github.com/leodido/go-syslog/v4/rfc5424"

	"kestrel/internal/api"
	"kestrel/internal/clock"
	"kestrel/internal/core/group"
	"kestrel/internal/core/words"
	"kestrel/internal/events"
	"kestrel/internal/records"
)

// Outbox is what a courier sends from; *records.DB is one.
type Outbox interface {
	Trail(ctx context.Context, after int64, limit int) ([]records.Activity, error)
	Sent(ctx context.Context, address string) (int64, error)
	SaveSent(ctx context.Context, address string, number int64) error
}

// Courier sends the lines of the trail to a log server, in their order, as messages of
// RFC 5424 over TLS as RFC 5425 frames them. It goes on after the line that it sent last,
// also after a restart; what was sent just before a connection broke is sent again.
type Courier struct {
	Address string // HOST:PORT
	TLS     *tls.Config
	Dial    func(ctx context.Context, network, address string) (net.Conn, error)
	Outbox  Outbox
	Clock   clock.Clock
	Hub     *events.Hub
	Log     *slog.Logger

	mu    sync.Mutex
	since time.Time // it does not go; zero while it does
	why   error
}

const (
	courierBatch = 200
	courierIdle  = 10 * time.Second // between two looks for lines, if no event comes before
	courierTrust = 2 * time.Second  // a connection that holds so long after a write has taken it
	courierRetry = time.Minute      // between two tries to connect at most
	courierWrite = 30 * time.Second // until a batch is taken
	tellAfter    = 5 * time.Minute  // until people are told that it does not go
	maxMessage   = 6 << 10          // with the rest below the 8 KiB that every server takes (RFC 5425, 4.3.1)
	priority     = 13*8 + 5         // facility log audit, severity notice (RFC 5424, 6.2.1)
	// elements is the name of the structured data; 32473 stands for an enterprise
	// without a number of its own (RFC 5612).
	elements = "kestrel@32473"
)

// Run sends until ctx ends.
func (c *Courier) Run(ctx context.Context) {
	wait := time.Second
	for ctx.Err() == nil {
		began := c.Clock.Now()
		err := c.session(ctx)
		if ctx.Err() != nil {
			return
		}
		if c.Clock.Now().Sub(began) > courierRetry {
			wait = time.Second
		}
		c.broken(err)
		if clock.Sleep(ctx, c.Clock, wait) != nil {
			return
		}
		wait = min(2*wait, courierRetry)
	}
}

// broken notes that it does not go, or with nil that it does.
func (c *Courier) broken(err error) {
	c.mu.Lock()
	defer c.mu.Unlock()
	switch {
	case err == nil && !c.since.IsZero():
		c.Log.Info("the log server takes the trail again", "address", c.Address)
		c.since = time.Time{}
	case err != nil && c.since.IsZero():
		c.Log.Warn("the trail does not reach the log server", "address", c.Address, "err", err)
		c.since = c.Clock.Now()
	}
	c.why = err
}

// Need says that the log server has not been reached for a while.
func (c *Courier) Need() (api.Need, bool) {
	c.mu.Lock()
	defer c.mu.Unlock()
	if c.since.IsZero() || c.Clock.Now().Sub(c.since) < tellAfter {
		return api.Need{}, false
	}
	return api.Need{State: "log server", Title: "The audit trail has not reached the log server since " + c.since.UTC().Format("2006-01-02 15:04 MST"), Text: words.Sentence(fmt.Sprintf("%s: %v", c.Address, c.why)) + " It is sent from where it stopped when the server is back.", Action: "Look at the activity", Href: "/activity"}, true
}

// session connects and sends until something fails.
func (c *Courier) session(ctx context.Context) error {
	ctx, cancel := context.WithCancel(ctx)
	defer cancel()
	raw, err := c.Dial(ctx, "tcp", c.Address)
	if err != nil {
		return err
	}
	conn := tls.Client(raw, c.TLS)
	defer func() { _ = conn.Close() }()
	stop := context.AfterFunc(ctx, func() { _ = raw.Close() })
	defer stop()
	if err := conn.SetDeadline(time.Now().Add(courierWrite)); err != nil {
		return err
	}
	if err := conn.HandshakeContext(ctx); err != nil {
		return fmt.Errorf("tls: %w", err)
	}
	if err := conn.SetDeadline(time.Time{}); err != nil {
		return err
	}
	go func() { // a log server says nothing: what comes is the end
		_, _ = io.Copy(io.Discard, conn)
		cancel()
	}()
	at, err := c.Outbox.Sent(ctx, c.Address)
	if err != nil {
		return err
	}
	news, done := c.Hub.Listen()
	defer done()
	// Syslog confirms nothing, and what was written to a connection that is about to end
	// is lost: it counts as sent only when the connection has held for a while after.
	saved, mark, marked := at, at, time.Time{}
	for {
		n, err := c.send(ctx, conn, at)
		if err != nil {
			return err
		}
		at = max(at, n)
		if mark == saved && at > saved {
			mark, marked = at, time.Now()
		}
		idle := courierIdle
		if mark > saved {
			idle = max(0, courierTrust-time.Since(marked))
		}
		if n == 0 || idle == 0 {
			if err := c.wait(ctx, news, idle); err != nil {
				return errors.New("the log server has hung up")
			}
		}
		c.broken(nil) // it took what there was, or stayed
		if mark > saved && time.Since(marked) >= courierTrust {
			if err := c.Outbox.SaveSent(ctx, c.Address, mark); err != nil {
				return err
			}
			saved = mark
		}
	}
}

// send sends the lines after one, and gives the number of the last; 0 if there was none.
func (c *Courier) send(ctx context.Context, conn net.Conn, after int64) (int64, error) {
	lines, err := c.Outbox.Trail(ctx, after, courierBatch)
	if err != nil || len(lines) == 0 {
		return 0, err
	}
	if err := conn.SetWriteDeadline(time.Now().Add(courierWrite)); err != nil {
		return 0, err
	}
	w := bufio.NewWriter(conn)
	for _, l := range lines {
		m, err := message(l)
		if err != nil {
			return 0, err
		}
		if _, err := fmt.Fprintf(w, "%d %s", len(m), m); err != nil {
			return 0, err
		}
	}
	if err := w.Flush(); err != nil {
		return 0, err
	}
	return *lines[len(lines)-1].Number, nil
}

// wait waits until there may be lines to send.
func (c *Courier) wait(ctx context.Context, news <-chan events.Event, most time.Duration) error {
	if ctx.Err() != nil {
		return ctx.Err()
	}
	t := time.NewTimer(most)
	defer t.Stop()
	for {
		select {
		case <-ctx.Done():
			return ctx.Err()
		case <-t.C:
			return nil
		case e, ok := <-news:
			if !ok {
				news = nil // the site is stopping
			} else if e.Type == "activity" {
				return nil
			}
		}
	}
}

// message is a line as RFC 5424 has it.
func message(l records.Activity) (string, error) {
	changes, err := ChangesOf(l)
	if err != nil {
		return "", err
	}
	host, err := os.Hostname()
	if err != nil || host == "" {
		host = "-"
	}
	escaped := strings.NewReplacer(`\`, `\\`, `"`, `\"`, `]`, `\]`) // RFC 5424, 6.3.3
	var m rfc5424.SyslogMessage
	m.SetPriority(priority)
	m.SetVersion(1)
	m.SetTimestamp(l.At.UTC().Format("2006-01-02T15:04:05.000000Z07:00"))
	m.SetHostname(host)
	m.SetAppname("kestrel")
	m.SetProcID(strconv.Itoa(os.Getpid()))
	m.SetMsgID(l.Kind)
	m.SetElementID(elements)
	for _, x := range [][2]string{{"number", strconv.FormatInt(*l.Number, 10)}, {"who", l.Who}, {"actor", l.Actor}, {"from", l.Origin}, {"subject", l.Subject}, {"object", l.Object}, {"hash", hex.EncodeToString(l.Hash)}} {
		if x[1] != "" {
			m.SetParameter(elements, x[0], escaped.Replace(strings.ToValidUTF8(x[1], "?")))
		}
	}
	m.SetMessage(short(l.Text+changed(changes), maxMessage))
	return m.String()
}

// changed says from what to what.
func changed(changes []group.Change) string {
	var b strings.Builder
	for _, c := range changes {
		fmt.Fprintf(&b, "; %s: %s → %s", c.Field, c.From, c.To)
	}
	return b.String()
}

// short cuts what is too long, between two characters.
func short(text string, most int) string {
	if len(text) <= most {
		return text
	}
	return strings.ToValidUTF8(text[:most], "") + "…"
}
