package notify_test

import (
	"context"
	"crypto/hmac"
	"crypto/sha256"
	"crypto/tls"
	"encoding/base64"
	"errors"
	"fmt"
	"io"
	"log/slog"
	"net"
	"net/http"
	"net/http/httptest"
	"net/mail"
	"os"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/cloudevents/sdk-go/v2/event"
	"github.com/emersion/go-sasl"
	"github.com/emersion/go-smtp"
	"github.com/google/uuid"
	"github.com/stretchr/testify/require"

	"kestrel/internal/api"
	"kestrel/internal/audit"
	"kestrel/internal/clock"
	"kestrel/internal/core/actor"
	"kestrel/internal/core/alert"
	"kestrel/internal/events"
	"kestrel/internal/notify"
	"kestrel/internal/problem"
	"kestrel/internal/records"
	"kestrel/internal/sealed"
	"kestrel/internal/support/pgcluster"
	"kestrel/internal/support/selfsigned"
)

var (
	cluster *pgcluster.Cluster
	ctx     = context.Background()
	anna    = actor.Actor{Kind: actor.Person, Name: "anna", Role: actor.Administrator}
)

func TestMain(m *testing.M) {
	os.Exit(pgcluster.Main(m, "notify", func(c *pgcluster.Cluster) { cluster = c }))
}

// rig is a site's notify with its database.
type rig struct {
	t   *testing.T
	db  *records.DB
	box *sealed.Box
	n   *notify.Notify
	try time.Duration // how long a receiver is waited for
	// paper makes the document of a report.
	paper func(p notify.Paper) (string, []byte, error)
}

func newRig(t *testing.T) *rig {
	t.Helper()
	url, err := cluster.Database(ctx, "n"+strings.ReplaceAll(uuid.NewString(), "-", ""))
	require.NoError(t, err)
	r := &rig{t: t, try: 30 * time.Second} // machines are busy
	r.db, err = records.Open(ctx, url)
	require.NoError(t, err)
	t.Cleanup(func() { require.NoError(t, r.db.Close()) })
	r.box, err = sealed.Open(t.TempDir())
	require.NoError(t, err)
	r.open()
	return r
}

func (r *rig) open() {
	var err error
	log := slog.New(slog.DiscardHandler)
	r.n, err = notify.Open(ctx, notify.Config{SiteID: "11111111-1111-4111-8111-111111111111", Site: "Norhaven", Console: "https://norhaven.skerry.example", Box: r.db, Sealed: r.box, Trail: audit.New(r.db, clock.Wall{}, events.NewHub(), log),
		Dial: (&net.Dialer{}).DialContext, Document: func(_ context.Context, p notify.Paper) (string, []byte, error) { return r.paper(p) }, Digest: func() []string { return []string{"No alert is open."} }, Clock: clock.Wall{}, Log: log, Every: 20 * time.Millisecond, Waits: notify.Waits{Try: r.try, First: 20 * time.Millisecond, Longest: 100 * time.Millisecond}})
	require.NoError(r.t, err)
}

// work delivers until the returned function is called.
func (r *rig) work() (stop func()) {
	to, cancel := context.WithCancel(ctx)
	done := make(chan struct{})
	go func() { defer close(done); r.n.Run(to) }()
	return sync.OnceFunc(func() { cancel(); <-done })
}

// tell stores an alert and what is to be told of it.
func (r *rig) tell(name string, es ...alert.Event) alert.Alert {
	r.t.Helper()
	now := time.Now().UTC()
	a := alert.Alert{ID: uuid.NewString(), Kind: alert.Over, Thing: alert.Thing{Kind: "group", ID: name, Name: name}, Level: alert.Urgent, Text: "The newest point was captured at noon.", Mend: "See to the link.", Members: []string{"Radio archive"}, Since: now, RaisedAt: now}
	for _, e := range es {
		if e == alert.Cleared {
			a.ClearedAt = now
		}
		ms, err := r.n.Messages([]alert.Telling{{Event: e, Alert: a}})
		require.NoError(r.t, err)
		rec := records.Alert{ID: a.ID, Kind: string(a.Kind), ThingKind: "group", ThingID: name, Name: name, Level: string(a.Level), Text: a.Text, Since: now, RaisedAt: now}
		if !a.Open() {
			rec.ClearedAt = &a.ClearedAt
		}
		require.NoError(r.t, r.db.PutAlerts(ctx, []records.Alert{rec}, ms))
		require.NoError(r.t, r.db.PutAlerts(ctx, []records.Alert{rec}, ms), "again, as after a restart")
	}
	r.n.Wake()
	return a
}

func (r *rig) create(in api.WriteChannel) api.Channel {
	r.t.Helper()
	v, err := r.n.Create(ctx, anna, in)
	require.NoError(r.t, err)
	return v
}

func (r *rig) channel(name string) api.Channel {
	r.t.Helper()
	all, err := r.n.Channels(ctx)
	require.NoError(r.t, err)
	for _, c := range all {
		if c.Name == name {
			return c
		}
	}
	r.t.Fatalf("no channel %s", name)
	return api.Channel{}
}

func (r *rig) eventually(what string, ok func() bool) {
	r.t.Helper()
	require.Eventually(r.t, ok, 20*time.Second, 10*time.Millisecond, what)
}

// letters is an SMTP server that takes mail from kestrel with a password.
type letters struct {
	mu     sync.Mutex
	got    []string
	refuse bool
}

func (l *letters) NewSession(*smtp.Conn) (smtp.Session, error) { return &visit{l: l}, nil }

type visit struct {
	l    *letters
	auth bool
	to   []string
}

func (v *visit) AuthMechanisms() []string { return []string{sasl.Plain} }
func (v *visit) Auth(string) (sasl.Server, error) {
	return sasl.NewPlainServer(func(_, user, password string) error {
		if v.auth = user == "kestrel" && password == "a good password"; !v.auth {
			return errors.New("wrong password")
		}
		return nil
	}), nil
}
func (v *visit) Reset()        {}
func (v *visit) Logout() error { return nil }
func (v *visit) Mail(string, *smtp.MailOptions) error {
	v.l.mu.Lock()
	defer v.l.mu.Unlock()
	if v.l.refuse {
		return &smtp.SMTPError{Code: 451, Message: "try again later"}
	}
	if !v.auth {
		return smtp.ErrAuthRequired
	}
	return nil
}
func (v *visit) Rcpt(to string, _ *smtp.RcptOptions) error { v.to = append(v.to, to); return nil }
func (v *visit) Data(r io.Reader) error {
	b, err := io.ReadAll(r)
	v.l.mu.Lock()
	defer v.l.mu.Unlock()
	v.l.got = append(v.l.got, strings.Join(v.to, ",")+"\n"+string(b))
	return err
}

func (l *letters) all() []string {
	l.mu.Lock()
	defer l.mu.Unlock()
	return append([]string(nil), l.got...)
}

func postOffice(t *testing.T, cert selfsigned.Certificate) (*letters, string) {
	t.Helper()
	l := &letters{}
	s := smtp.NewServer(l)
	s.Domain, s.TLSConfig = "127.0.0.1", &tls.Config{Certificates: []tls.Certificate{cert.Server}, MinVersion: tls.VersionTLS12}
	at, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	done := make(chan struct{})
	go func() { defer close(done); _ = s.Serve(at) }()
	t.Cleanup(func() { _ = s.Close(); <-done })
	return l, at.Addr().String()
}

// Mail is sent over TLS and with the password, once for each event, as text and as HTML; what
// the server says against it is shown, and is tried again.
func TestMail(t *testing.T) {
	cert, err := selfsigned.New()
	require.NoError(t, err)
	office, address := postOffice(t, cert)
	r := newRig(t)
	in := api.WriteChannel{Name: "on-call", Kind: "mail", Server: &address, User: new("kestrel"), Password: new("a good password"), From: new("kestrel@skerry.example"), To: &[]string{"night@skerry.example", "day@skerry.example"}}
	v := r.create(in)
	require.Nil(t, v.Key)

	test, err := r.n.Test(ctx, anna, "on-call")
	require.NoError(t, err)
	require.False(t, test.Ok, "nobody vouches for the server")
	require.Contains(t, test.Text, "certificate")
	in.Trust, in.Revision, in.Password = &cert.PEM, &v.Revision, nil
	v, err = r.n.Edit(ctx, anna, "on-call", in)
	require.NoError(t, err)
	test, err = r.n.Test(ctx, anna, "On-Call")
	require.NoError(t, err)
	require.True(t, test.Ok, test.Text)
	require.Contains(t, office.all()[0], "a test of the channel on-call")
	require.True(t, r.n.Takes(nil, alert.Warning) && r.n.Takes([]string{"ON-CALL"}, alert.Urgent))
	require.False(t, r.n.Takes([]string{"desk"}, alert.Urgent), "there is none of that name")

	office.mu.Lock()
	office.got, office.refuse = nil, true
	office.mu.Unlock()
	defer r.work()()
	a := r.tell("Ticketing", alert.Raised, alert.Cleared)
	r.eventually("it is told that it failed", func() bool {
		c := r.channel("on-call")
		return c.LastError != nil && strings.Contains(*c.LastError, "try again later") && c.Waiting == 2
	})
	failing := ""
	r.n.Failing(func(_, name string, _ time.Time, why string) { failing = name + ": " + why })
	require.Contains(t, failing, "on-call: ")
	office.mu.Lock()
	office.refuse = false
	office.mu.Unlock()
	r.eventually("both are sent", func() bool { return r.channel("on-call").Waiting == 0 })
	require.Nil(t, r.channel("on-call").LastError)
	r.n.Failing(func(_, name string, _ time.Time, _ string) { t.Errorf("%s fails still", name) })
	got := office.all()
	require.Len(t, got, 2, "one for each event")
	require.Contains(t, got[0], "night@skerry.example,day@skerry.example\n")
	m, err := mail.ReadMessage(strings.NewReader(got[0][strings.Index(got[0], "\n")+1:]))
	require.NoError(t, err)
	require.Equal(t, "Norhaven: Ticketing is over its target", m.Header.Get("Subject"))
	require.Contains(t, m.Header.Get("References"), a.ID)
	require.Contains(t, m.Header.Get("Message-Id"), "@skerry.example")
	require.Equal(t, "auto-generated", m.Header.Get("Auto-Submitted"))
	for _, part := range []string{"text/plain", "text/html", "See to the link.", "Radio archive", "https://norhaven.skerry.example/alerts"} {
		require.Contains(t, got[0], part)
	}
	require.Contains(t, got[1], "cleared after")

	in.Revision, in.Password = &v.Revision, new("a wrong one")
	_, err = r.n.Edit(ctx, anna, "on-call", in)
	require.NoError(t, err)
	test, err = r.n.Test(ctx, anna, "on-call")
	require.NoError(t, err)
	require.False(t, test.Ok)
	require.NotContains(t, test.Text, "a wrong one")
	in.Revision = new(int64(1))
	_, err = r.n.Edit(ctx, anna, "on-call", in)
	require.ErrorContains(t, err, "changed since you looked at it")
}

// A report is mailed with its document; while that cannot be made, it is said why, and tried
// again. Webhooks are told which report it is. Channels that are off or gone are told nothing.
func TestReportsAreSent(t *testing.T) {
	cert, err := selfsigned.New()
	require.NoError(t, err)
	office, address := postOffice(t, cert)
	r := newRig(t)
	var mu sync.Mutex
	away := true
	r.paper = func(p notify.Paper) (string, []byte, error) {
		mu.Lock()
		defer mu.Unlock()
		if away {
			return "", nil, errors.New("the database is away")
		}
		return p.Plan + ".pdf", []byte("%PDF-1.3 of " + p.Tier), nil
	}
	x, url := receive(t)
	mailed := api.WriteChannel{Name: "on-call", Kind: "mail", Server: &address, Trust: &cert.PEM, User: new("kestrel"), Password: new("a good password"), From: new("kestrel@skerry.example"), To: &[]string{"board@skerry.example"}}
	r.create(mailed)
	x.key = *r.create(api.WriteChannel{Name: "desk", Kind: "webhook", URL: &url}).Key
	r.create(api.WriteChannel{Name: "quiet", Kind: "webhook", URL: &url, Off: new(true)})
	from := time.Date(2026, 10, 1, 0, 0, 0, 0, time.UTC)
	ms, err := r.n.Reports([]string{"On-call", "desk", "quiet", "gone"}, notify.Paper{Plan: "board", From: from, To: from.AddDate(0, 1, 0), Tier: "gold"}, "board, the month to 2026-10-31", []string{"Within the promise of the time for 99.90 % of it."})
	require.NoError(t, err)
	require.Len(t, ms, 2)
	require.NoError(t, r.db.AddMessages(ctx, ms))
	defer r.work()()
	r.eventually("it is said why", func() bool {
		c := r.channel("on-call")
		return c.LastError != nil && strings.Contains(*c.LastError, "the database is away")
	})
	mu.Lock()
	away = false
	mu.Unlock()
	r.eventually("it is sent", func() bool { return r.channel("on-call").Waiting == 0 && r.channel("desk").Waiting == 0 })
	got := office.all()
	require.Len(t, got, 1)
	for _, part := range []string{"Norhaven: board, the month to 2026-10-31", "99.90 % of it", "application/pdf", `filename="board.pdf"`, base64.StdEncoding.EncodeToString([]byte("%PDF-1.3 of gold")), "https://norhaven.skerry.example/reports"} {
		require.Contains(t, got[0], part)
	}
	require.Empty(t, x.bad)
	require.Len(t, x.got, 1)
	require.Contains(t, string(x.got[0].Data()), `"report":{"plan":"board"`)
}

// receiver takes events, as a server of other people does.
type receiver struct {
	mu    sync.Mutex
	tries map[string]int // by idempotency key
	got   []event.Event
	faults
	key string
	bad []string
}

type faults struct {
	refusals int           // answers to give before the first is taken
	hang     chan struct{} // nil: it does not
}

func (x *receiver) ServeHTTP(w http.ResponseWriter, q *http.Request) {
	body, _ := io.ReadAll(q.Body)
	x.mu.Lock()
	hang := x.hang
	x.mu.Unlock()
	if hang != nil {
		select {
		case <-hang:
		case <-q.Context().Done():
		}
		return
	}
	x.mu.Lock()
	defer x.mu.Unlock()
	id := q.Header.Get("Idempotency-Key")
	x.tries[id]++
	h := hmac.New(sha256.New, []byte(x.key))
	_, _ = fmt.Fprintf(h, "%s.%s.%s", q.Header.Get("Webhook-Id"), q.Header.Get("Webhook-Timestamp"), body)
	if q.Header.Get("Webhook-Signature") != "v1,"+base64.StdEncoding.EncodeToString(h.Sum(nil)) {
		x.bad = append(x.bad, "signature")
	}
	if x.refusals > 0 {
		x.refusals--
		http.Error(w, "not now", http.StatusServiceUnavailable)
		return
	}
	e := event.New()
	if err := e.UnmarshalJSON(body); err != nil || e.Validate() != nil || e.ID() != id {
		x.bad = append(x.bad, fmt.Sprintf("event: %v", err))
	}
	x.got = append(x.got, e)
}

func receive(t *testing.T) (*receiver, string) {
	t.Helper()
	x := &receiver{tries: map[string]int{}}
	s := httptest.NewServer(x)
	t.Cleanup(s.Close)
	return x, s.URL
}

func (x *receiver) types() []string {
	x.mu.Lock()
	defer x.mu.Unlock()
	var out []string
	seen := map[string]bool{}
	for _, e := range x.got {
		// What was on its way when the service ended comes again under its ID.
		if !seen[e.ID()] {
			out = append(out, e.Type())
		}
		seen[e.ID()] = true
	}
	return out
}

// Events are posted in order, signed, under one key at each try, also over a restart; a
// receiver that hangs or refuses holds up nobody but itself.
func TestWebhook(t *testing.T) {
	r := newRig(t)
	r.try = time.Second
	r.open()
	good, url := receive(t)
	slow, slowURL := receive(t)
	slow.hang = make(chan struct{})
	good.key = *r.create(api.WriteChannel{Name: "desk", Kind: "webhook", URL: &url}).Key
	slow.key = *r.create(api.WriteChannel{Name: "archive", Kind: "webhook", URL: &slowURL}).Key
	require.NotEqual(t, good.key, slow.key)
	gone, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	require.NoError(t, gone.Close())
	r.create(api.WriteChannel{Name: "gone", Kind: "webhook", URL: new("http://" + gone.Addr().String())})
	r.create(api.WriteChannel{Name: "quiet", Kind: "webhook", URL: &url, Off: new(true)})

	good.refusals = 3
	stop := r.work()
	first := r.tell("Ticketing", alert.Raised, alert.Escalated)
	want := []string{"kestrel-tide.alert.raised", "kestrel-tide.alert.escalated"}
	r.eventually("they are taken in order", func() bool { return len(good.types()) == 2 })
	require.Equal(t, want, good.types())
	r.eventually("the others say what is wrong", func() bool {
		a, g := r.channel("archive"), r.channel("gone")
		return a.LastError != nil && g.LastError != nil && strings.Contains(*g.LastError, "refused")
	})
	stop()
	good.mu.Lock()
	require.Empty(t, good.bad)
	tries := 0
	for _, n := range good.tries {
		tries = max(tries, n)
	}
	require.Equal(t, 4, tries, "the first was tried again under the same key")
	require.Equal(t, first.ID, good.got[0].Subject())
	good.mu.Unlock()

	r.tell("Payroll", alert.Raised)
	r.open() // a restart
	defer r.work()()
	close(slow.hang)
	slow.mu.Lock()
	slow.hang = nil
	slow.mu.Unlock()
	r.eventually("what waited is taken after it", func() bool { return len(slow.types()) == 3 && len(good.types()) == 3 })
	require.Equal(t, append(want, want[0]), slow.types())
	slow.mu.Lock()
	require.Empty(t, slow.bad)
	slow.mu.Unlock()

	require.NoError(t, r.n.Delete(ctx, anna, "gone"))
	_, err = r.n.Test(ctx, anna, "gone")
	require.ErrorContains(t, err, "gone")
	require.ElementsMatch(t, []string{"archive", "desk", "quiet"}, r.n.Names())
}

// A summary comes once a day.
func TestDigest(t *testing.T) {
	r := newRig(t)
	x, url := receive(t)
	now := time.Now().UTC()
	x.key = *r.create(api.WriteChannel{Name: "desk", Kind: "webhook", URL: &url, Digest: new(now.Format("15:04"))}).Key
	stop := r.work()
	r.eventually("it comes", func() bool { return len(x.types()) == 1 })
	stop()
	r.open()
	stop = r.work()
	r.tell("Ticketing", alert.Raised)
	r.eventually("and an alert after it", func() bool { return len(x.types()) == 2 })
	stop()
	require.Equal(t, []string{"kestrel-tide.digest", "kestrel-tide.alert.raised"}, x.types(), "the digest came once")
}

// What cannot be right is refused by its field, and secrets are nowhere to be read.
func TestChannelsAreChecked(t *testing.T) {
	r := newRig(t)
	mailTo := func(change func(c *api.WriteChannel)) api.WriteChannel {
		c := api.WriteChannel{Name: "x", Kind: "mail", Server: new("127.0.0.1:25"), From: new("a@skerry.example"), To: &[]string{"b@skerry.example"}}
		change(&c)
		return c
	}
	hook := func(change func(c *api.WriteChannel)) api.WriteChannel {
		c := api.WriteChannel{Name: "x", Kind: "webhook", URL: new("https://desk.skerry.example/in")}
		change(&c)
		return c
	}
	for field, c := range map[string]api.WriteChannel{
		"name":     mailTo(func(c *api.WriteChannel) { c.Name = "" }),
		"kind":     mailTo(func(c *api.WriteChannel) { c.Kind = "pigeon" }),
		"server":   mailTo(func(c *api.WriteChannel) { c.Server = new("127.0.0.1") }),
		"tls":      mailTo(func(c *api.WriteChannel) { c.Server, c.TLS = new("mail.skerry.example:25"), new("none") }),
		"from":     mailTo(func(c *api.WriteChannel) { c.From = new("nobody") }),
		"to":       mailTo(func(c *api.WriteChannel) { c.To = &[]string{} }),
		"user":     mailTo(func(c *api.WriteChannel) { c.Password = new("p") }),
		"digest":   mailTo(func(c *api.WriteChannel) { c.Digest = new("24:00") }),
		"zone":     mailTo(func(c *api.WriteChannel) { c.Digest, c.Zone = new("07:00"), new("Europe/Nowhere") }),
		"trust":    mailTo(func(c *api.WriteChannel) { c.Trust = new("no PEM") }),
		"url":      hook(func(c *api.WriteChannel) { c.URL = new("http://desk.skerry.example/in") }),
		"key":      hook(func(c *api.WriteChannel) { c.Key = new("short") }),
		"password": hook(func(c *api.WriteChannel) { c.Password = new("p") }),
	} {
		_, err := r.n.Create(ctx, anna, c)
		p, ok := problem.Of(err)
		require.True(t, ok, field)
		require.Equal(t, field, p.Errors[0].Field, "%+v", p.Errors)
	}
	r.create(hook(func(*api.WriteChannel) {}))
	_, err := r.n.Create(ctx, anna, hook(func(*api.WriteChannel) {}))
	require.ErrorContains(t, err, "There is a channel x already")
	all, err := r.db.Channels(ctx)
	require.NoError(t, err)
	require.NotContains(t, string(all[0].Body)+string(all[0].Secret), *r.create(hook(func(c *api.WriteChannel) { c.Name, c.Key = "y", new("a key that is long enough") })).Key)
	require.Nil(t, r.channel("y").Key, "it is shown once")
}
