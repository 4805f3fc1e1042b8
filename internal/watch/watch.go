// Package watch looks at everything of a site again and again: how links, platforms and
// stores are, and what somebody has to be told of.
package watch

import (
	"context"
	"encoding/json"
	"errors"
	"log/slog"
	"slices"
	"sync"
	"time"

	"github.com/google/uuid"

	"kestrel/internal/audit"
	"kestrel/internal/clock"
	"kestrel/internal/core/alert"
	"kestrel/internal/core/health"
	"kestrel/internal/core/span"
	"kestrel/internal/directory"
	"kestrel/internal/events"
	"kestrel/internal/inventory"
	"kestrel/internal/keeper"
	"kestrel/internal/lookout"
	"kestrel/internal/overview"
	"kestrel/internal/peering"
	"kestrel/internal/records"
)

// Ledger is where alerts, rules and silences are kept; *records.DB is one.
type Ledger interface {
	OpenAlerts(ctx context.Context) ([]records.Alert, error)
	ClearedAlerts(ctx context.Context, from, to time.Time, limit int) ([]records.Alert, error)
	PutAlerts(ctx context.Context, as []records.Alert, ms []records.Message) error
	AckAlert(ctx context.Context, id, by, note string, at time.Time) error
	TrimAlerts(ctx context.Context, before time.Time) error
	AlertRules(ctx context.Context) ([]byte, int64, error)
	PutAlertRules(ctx context.Context, rules []byte, revision int64) error
	Silences(ctx context.Context, now time.Time) ([]records.Silence, error)
	AddSilence(ctx context.Context, s records.Silence) error
	EndSilence(ctx context.Context, id string, at time.Time) error
	ForecastsMissed(ctx context.Context, since time.Time) ([]records.Forecast, error)
}

// Out is by which people are told; *notify.Notify is one.
type Out interface {
	Messages(ts []alert.Telling) ([]records.Message, error)
	Names() []string
	Takes(channels []string, l alert.Level) bool
	Wake()
	Failing(each func(id, name string, since time.Time, why string))
}

// Config is what it is made of.
type Config struct {
	Site      string // name of this site
	DB        Ledger
	Groups    *directory.Directory
	Overview  *overview.Overview
	Lookout   *lookout.Lookout
	Inventory *inventory.Inventory
	Peering   *peering.Peering
	Keeper    *keeper.Keeper
	Out       Out
	// Drill is when a drill of a group that comes here passed last, and when one falls due;
	// zero where there is none. Nil is none at all.
	// Failover is since when a group runs here by a failover that nobody has decided on, zero if
	// it does not; RunsHere lists machines that run here although their group runs elsewhere.
	Failover func(group string) time.Time
	RunsHere func(r directory.Record) []string
	Drill    func(r directory.Record) (last, due time.Time)
	// CertificateEnds is when the certificate ends with which points are served; zero if
	// there is none.
	CertificateEnds func() time.Time
	Trail           *audit.Trail
	Clock           clock.Clock
	Hub             *events.Hub
	Log             *slog.Logger
	Every           time.Duration // between two looks
}

// Watch is that of one site.
type Watch struct {
	Config

	mu       sync.Mutex
	steady   map[Thing]health.Steady
	book     *alert.Book
	rules    []alert.Rule
	revision int64 // of the rules
	silences []alert.Silence
	trimmed  time.Time
	began    time.Time          // when this service did
	missed   []records.Forecast // that groups fared worse than
	missedAt time.Time          // when those were asked for
}

// kept is how long alerts that were cleared are kept.
const kept = 400 * span.Day

// Open reads what is open, the rules and the silences.
func Open(ctx context.Context, cfg Config) (*Watch, error) {
	if cfg.Drill == nil {
		cfg.Drill = func(directory.Record) (last, due time.Time) { return }
	}
	w := &Watch{Config: cfg, steady: map[Thing]health.Steady{}, began: cfg.Clock.Now()}
	recs, err := cfg.DB.OpenAlerts(ctx)
	if err != nil {
		return nil, err
	}
	var open []alert.Alert
	for _, r := range recs {
		open = append(open, alertOf(r))
	}
	w.book = alert.NewBook(open)
	return w, errors.Join(w.readRules(ctx), w.readSilences(ctx))
}

func (w *Watch) readRules(ctx context.Context) error {
	text, revision, err := w.DB.AlertRules(ctx)
	if err != nil {
		return err
	}
	var rules []alert.Rule
	if err := json.Unmarshal(text, &rules); err != nil {
		return err
	}
	w.mu.Lock()
	w.rules, w.revision = rules, revision
	w.mu.Unlock()
	return nil
}

func (w *Watch) readSilences(ctx context.Context) error {
	recs, err := w.DB.Silences(ctx, w.Clock.Now())
	if err != nil {
		return err
	}
	var out []alert.Silence
	for _, r := range recs {
		var s alert.Silence
		if err := json.Unmarshal(r.Body, &s); err != nil {
			return err
		}
		s.ID, s.By, s.From = r.ID, r.MadeBy, r.MadeAt
		if r.OverAt != nil {
			s.Until = *r.OverAt
		}
		out = append(out, s)
	}
	w.mu.Lock()
	w.silences = out
	w.mu.Unlock()
	return nil
}

// Run looks again and again until ctx ends.
func (w *Watch) Run(ctx context.Context) {
	for {
		began := w.Clock.Now()
		if err := w.Look(ctx); err != nil && ctx.Err() == nil {
			w.Log.Warn("look at what people have to be told of", "err", err)
		}
		// A look over very many groups takes no more than a tenth of one processor.
		if clock.Sleep(ctx, w.Clock, max(w.Every, 9*w.Clock.Now().Sub(began))) != nil {
			return
		}
	}
}

// standing is a group as it stands.
type standing struct {
	rec directory.Record
	overview.Stand
	state health.State
}

// Look looks at everything once, and has people told of what there is to tell. What could
// not be written is found again at the next look. It is not called twice at a time.
func (w *Watch) Look(ctx context.Context) error {
	var groups []standing
	for _, r := range w.Groups.All() {
		if r.Direction != directory.Ended || r.Held() {
			x := w.Overview.Stand(r)
			groups = append(groups, standing{r, x, x.State})
		}
	}
	w.settle(w.judge(groups))
	signs, err := w.signs(ctx, groups)
	if err != nil {
		return err
	}
	w.mu.Lock()
	next := w.book.Clone()
	changed, tell := next.Step(alert.Look{Now: w.Clock.Now().UTC(), Signs: signs.all, Unknown: signs.unknown, Rules: w.rules, Silences: w.silences, NewID: uuid.NewString, Takes: w.Out.Takes})
	w.mu.Unlock()
	if err := w.keep(ctx, changed, tell); err != nil {
		return err
	}
	w.mu.Lock()
	next.TakeAcks(w.book) // what people said meanwhile
	w.book = next
	w.mu.Unlock()
	if len(tell) > 0 {
		w.Out.Wake()
	}
	for _, a := range changed {
		w.Hub.Send(events.Event{Type: "alert", ID: a.ID, Group: a.Member.ID})
	}
	if now := w.Clock.Now(); now.Sub(w.trimmed) > time.Hour {
		w.trimmed = now
		return errors.Join(w.DB.TrimAlerts(ctx, now.Add(-kept)), w.readSilences(ctx))
	}
	return nil
}

func (w *Watch) keep(ctx context.Context, changed []alert.Alert, tell []alert.Telling) error {
	ms, err := w.Out.Messages(tell)
	if err != nil {
		return err
	}
	var recs []records.Alert
	for _, a := range changed {
		recs = append(recs, Record(a))
	}
	return w.DB.PutAlerts(ctx, recs, ms)
}

// open lists the alerts that are open, the most urgent and the oldest first.
func (w *Watch) open() []alert.Alert {
	w.mu.Lock()
	defer w.mu.Unlock()
	var out []alert.Alert
	for _, a := range w.book.Open {
		out = append(out, a)
	}
	slices.SortFunc(out, alert.Worse)
	return out
}

var none time.Time

func orNil(t time.Time) *time.Time {
	if t.IsZero() {
		return nil
	}
	return new(t.UTC())
}

func or(t *time.Time) time.Time {
	if t == nil {
		return none
	}
	return t.UTC()
}

func alertOf(r records.Alert) alert.Alert {
	a := alert.Alert{ID: r.ID, Kind: alert.Kind(r.Kind), Thing: alert.Thing{Kind: r.ThingKind, ID: r.ThingID, Name: r.Name}, Level: alert.Level(r.Level), Text: r.Text, Mend: r.Mend, Members: r.Members, Since: r.Since, RaisedAt: r.RaisedAt,
		GoneAt: or(r.GoneAt), ClearedAt: or(r.ClearedAt), ToldAt: or(r.ToldAt), EscalatedAt: or(r.EscalatedAt), AckedAt: or(r.AckedAt), AckedBy: r.AckedBy, AckNote: r.AckNote, Silenced: r.Silenced, PartOf: r.PartOf}
	if r.GroupID != "" {
		a.Member = alert.Member{ID: r.GroupID, Name: r.Name, Tier: r.GroupTier, Tags: r.GroupTags}
	}
	return a
}

// Record is an alert as it is kept.
func Record(a alert.Alert) records.Alert {
	return records.Alert{ID: a.ID, Kind: string(a.Kind), ThingKind: a.Thing.Kind, ThingID: a.Thing.ID, Name: a.Thing.Name, GroupID: a.Member.ID, GroupTier: a.Member.Tier, GroupTags: records.Tags(a.Member.Tags), Level: string(a.Level), Text: a.Text, Mend: a.Mend,
		Members: records.Tags(a.Members), Since: a.Since, RaisedAt: a.RaisedAt, GoneAt: orNil(a.GoneAt), ClearedAt: orNil(a.ClearedAt), ToldAt: orNil(a.ToldAt), EscalatedAt: orNil(a.EscalatedAt), Silenced: a.Silenced, PartOf: a.PartOf}
}
