package report

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"log/slog"
	"slices"
	"strings"
	"time"
	"unicode/utf8"

	"github.com/google/uuid"

	"kestrel/internal/api"
	"kestrel/internal/audit"
	"kestrel/internal/clock"
	"kestrel/internal/core/actor"
	"kestrel/internal/core/calendar"
	"kestrel/internal/core/words"
	"kestrel/internal/history"
	"kestrel/internal/notify"
	"kestrel/internal/problem"
	"kestrel/internal/records"
)

const (
	maxPlans    = 50  // there may be
	maxChannels = 20  // of a plan
	maxText     = 500 // characters of a calendar
)

// Shelf is where plans are kept; *records.DB is one.
type Shelf interface {
	ReportPlans(ctx context.Context) ([]records.ReportPlan, error)
	PutReportPlan(ctx context.Context, p records.ReportPlan) error
	DeleteReportPlan(ctx context.Context, id string) error
	AddReport(ctx context.Context, plan string, at time.Time, ms []records.Message) error
	AddMessages(ctx context.Context, ms []records.Message) error
}

// Post is by which reports are sent; *notify.Notify is one.
type Post interface {
	Names() []string
	Reports(channels []string, p notify.Paper, title string, lines []string) ([]records.Message, error)
	Wake()
}

// Config is what the room is made of.
type Config struct {
	Sources
	DB    Shelf
	Post  Post
	Trail *audit.Trail
	Log   *slog.Logger
	Every time.Duration // between two looks for what is due
}

// Reports makes reports and sends them by calendar.
type Reports struct {
	Config
	make func(ctx context.Context, rec records.ReportPlan, p plan, at time.Time) ([]records.Message, error)
}

// New makes the room.
func New(cfg Config) *Reports {
	r := &Reports{Config: cfg}
	r.make = r.messages
	return r
}

// plan is what is kept of one besides its name.
type plan struct {
	Over     string            `json:"over"` // day, week or month
	At       calendar.Calendar `json:"at"`
	Channels []string          `json:"channels"`
	By       string            `json:"by,omitempty"`
	Off      bool              `json:"off,omitempty"`
	Which
}

// last is the last whole day, week or month before an instant, in the plan's zone. Weeks begin
// on Mondays (ISO 8601).
func (p plan) last(before time.Time) (from, to time.Time, err error) {
	loc, err := calendar.Location(p.At.Zone)
	if err != nil {
		return from, to, err
	}
	t := before.In(loc)
	day := func(y int, m time.Month, d int) time.Time { return time.Date(y, m, d, 0, 0, 0, 0, loc).UTC() }
	switch y, m, d := t.Date(); p.Over {
	case "month":
		return day(y, m-1, 1), day(y, m, 1), nil
	case "week":
		monday := d - (int(t.Weekday())+6)%7
		return day(y, m, monday-7), day(y, m, monday), nil
	default:
		return day(y, m, d-1), day(y, m, d), nil
	}
}

func planOf(r records.ReportPlan) (p plan, err error) {
	if err = json.Unmarshal(r.Body, &p); err != nil {
		err = fmt.Errorf("report plan %s: %w", r.Name, err)
	}
	return p, err
}

// Run sends what is due until ctx ends.
func (r *Reports) Run(ctx context.Context) {
	for {
		if err := r.look(ctx); err != nil && ctx.Err() == nil {
			r.Log.Warn("send reports", "err", err)
		}
		if clock.Sleep(ctx, r.Clock, r.Every) != nil {
			return
		}
	}
}

// look sends the reports that are due. Of several times that passed while the service was
// down, one is sent for the last.
func (r *Reports) look(ctx context.Context) error {
	all, err := r.DB.ReportPlans(ctx)
	if err != nil {
		return err
	}
	var errs []error
	for _, rec := range all {
		if err := r.sendDue(ctx, rec); err != nil {
			errs = append(errs, fmt.Errorf("report %s: %w", rec.Name, err)) // one holds up no other
		}
	}
	return errors.Join(errs...)
}

func (r *Reports) sendDue(ctx context.Context, rec records.ReportPlan) error {
	p, err := planOf(rec)
	if err != nil {
		return err
	}
	at, ok, err := p.due(rec, r.Clock.Now())
	if err != nil || !ok || p.Off {
		return err
	}
	ms, err := r.make(ctx, rec, p, at)
	if err != nil {
		return err
	}
	if err := r.DB.AddReport(ctx, rec.ID, at, ms); err != nil {
		return err
	}
	r.Post.Wake()
	return nil
}

// due is the last time of a plan's calendar for which nothing was sent yet.
func (p plan) due(rec records.ReportPlan, now time.Time) (at time.Time, ok bool, err error) {
	from := rec.MadeAt
	if rec.SentFor != nil {
		from = *rec.SentFor
	}
	return p.At.Last(from, now)
}

// messages tell a plan's channels of the report for a time.
func (r *Reports) messages(ctx context.Context, rec records.ReportPlan, p plan, at time.Time) ([]records.Message, error) {
	from, to, err := p.last(at)
	if err != nil {
		return nil, err
	}
	v, err := r.Make(ctx, Of{From: &from, To: &to, By: p.By, Which: p.Which})
	if err != nil {
		return nil, err
	}
	paper := notify.Paper{Plan: rec.Name, From: from, To: to, By: p.By, Tier: p.Tier, Tag: p.Tag, Peer: p.Peer}
	return r.Post.Reports(p.Channels, paper, fmt.Sprintf("%s, the %s to %s", rec.Name, p.Over, to.Add(-time.Second).Format(time.DateOnly)), Summary(v))
}

// Paper makes the document that a mail carries, with its name.
func (r *Reports) Paper(ctx context.Context, p notify.Paper) (string, []byte, error) {
	v, err := r.Make(ctx, Of{From: &p.From, To: &p.To, By: p.By, Which: Which{Tier: p.Tier, Tag: p.Tag, Peer: p.Peer}})
	if err != nil {
		return "", nil, err
	}
	pdf, err := Document(v)
	return Name(v, "pdf"), pdf, err
}

// Name is a file name for a report.
func Name(v api.Report, ending string) string {
	site := strings.Map(func(c rune) rune {
		if c >= 'a' && c <= 'z' || c >= '0' && c <= '9' {
			return c
		}
		return '-'
	}, strings.ToLower(v.Site))
	return fmt.Sprintf("%s-%s-to-%s.%s", site, v.From.Format(time.DateOnly), v.To.Format(time.DateOnly), ending)
}

// Plans lists the reports that are sent by calendar.
func (r *Reports) Plans(ctx context.Context) ([]api.ReportPlan, error) {
	all, err := r.DB.ReportPlans(ctx)
	if err != nil {
		return nil, err
	}
	out := []api.ReportPlan{}
	for _, rec := range all {
		v, err := r.view(rec)
		if err != nil {
			return nil, err
		}
		out = append(out, v)
	}
	return out, nil
}

func (r *Reports) view(rec records.ReportPlan) (api.ReportPlan, error) {
	p, err := planOf(rec)
	if err != nil {
		return api.ReportPlan{}, err
	}
	v := api.ReportPlan{ID: rec.ID, Name: rec.Name, Revision: &rec.Revision, Over: api.ReportPlanOver(p.Over), At: p.At.Words(), Words: p.At.Words(), Channels: p.Channels, Zone: orNil(p.At.Zone), By: orNil(p.By), Tier: orNil(p.Tier), Tag: orNil(p.Tag), Peer: orNil(p.Peer)}
	if p.At.Zone != "" {
		v.Words += " (" + p.At.Zone + ")"
	}
	if rec.SentFor != nil {
		v.LastAt = new(rec.SentFor.UTC())
	}
	if p.Off {
		v.Off = &p.Off
		return v, nil
	}
	if s, ok, err := p.At.After(r.Clock.Now()); err == nil && ok {
		v.NextAt = new(s.At.UTC())
	}
	return v, nil
}

func orNil(text string) *string {
	if text == "" {
		return nil
	}
	return &text
}

func value[T any](p *T) (v T) {
	if p != nil {
		v = *p
	}
	return v
}

// read checks what somebody asks for.
func (r *Reports) read(in api.NewReportPlan) (plan, error) {
	p := plan{Over: string(in.Over), Channels: in.Channels, By: value(in.By), Off: value(in.Off), Which: Which{value(in.Tier), value(in.Tag), value(in.Peer)}}
	if !slices.Contains([]string{"day", "week", "month"}, p.Over) {
		return p, problem.Invalid("over", "%q is none of day, week, month.", p.Over)
	}
	if !slices.Contains([]string{"", history.ByGroup, history.ByTier, history.ByTag, history.BySite}, p.By) {
		return p, problem.Invalid("by", "%q is none of group, tier, tag, site.", p.By)
	}
	if err := p.Which.check(); err != nil {
		return p, err
	}
	switch {
	case len(in.Channels) == 0 || len(in.Channels) > maxChannels:
		return p, problem.Invalid("channels", "Name 1 to %d channels.", maxChannels)
	case len(in.At) > maxText:
		return p, problem.Invalid("at", "At most %d characters.", maxText)
	}
	if _, err := calendar.Location(value(in.Zone)); err != nil {
		return p, problem.Invalid("zone", "%s.", words.Upper(err.Error()))
	}
	at, err := calendar.Parse(in.At, value(in.Zone))
	if err != nil {
		return p, problem.Invalid("at", "%s.", words.Upper(err.Error()))
	}
	p.At = at
	names := r.Post.Names()
	for i, c := range p.Channels {
		at := slices.IndexFunc(names, func(n string) bool { return strings.EqualFold(n, c) })
		if at < 0 {
			text := fmt.Sprintf("There is no channel %q.", c)
			if near, ok := words.Nearest(c, names); ok {
				text += " Did you mean " + near + "?"
			}
			return p, problem.Invalid("channels", "%s", text)
		}
		p.Channels[i] = names[at]
	}
	return p, nil
}

// Create makes a plan.
func (r *Reports) Create(ctx context.Context, who actor.Actor, in api.NewReportPlan) (api.ReportPlan, error) {
	all, err := r.DB.ReportPlans(ctx)
	if err != nil {
		return api.ReportPlan{}, err
	}
	if len(all) >= maxPlans {
		return api.ReportPlan{}, problem.Conflict("There are %d plans of reports, as many as there may be. Remove one first.", maxPlans)
	}
	return r.put(ctx, who, records.ReportPlan{ID: uuid.NewString(), Revision: 1, MadeAt: r.Clock.Now().UTC()}, in, "made")
}

// Edit changes a plan that is as it was looked at.
func (r *Reports) Edit(ctx context.Context, who actor.Actor, text string, in api.NewReportPlan) (api.ReportPlan, error) {
	rec, err := r.find(ctx, text)
	if err != nil {
		return api.ReportPlan{}, err
	}
	if in.Revision == nil || *in.Revision != rec.Revision {
		return api.ReportPlan{}, stale(rec)
	}
	rec.Revision++
	return r.put(ctx, who, rec, in, "changed")
}

func stale(rec records.ReportPlan) error {
	return problem.Conflict("%s was changed since you looked at it. Look again.", rec.Name)
}

func (r *Reports) put(ctx context.Context, who actor.Actor, rec records.ReportPlan, in api.NewReportPlan, did string) (api.ReportPlan, error) {
	p, err := r.read(in)
	if err != nil {
		return api.ReportPlan{}, err
	}
	rec.Name = strings.TrimSpace(in.Name)
	if rec.Name == "" || utf8.RuneCountInString(rec.Name) > longest {
		return api.ReportPlan{}, problem.Invalid("name", "It needs a name, of at most %d characters.", longest)
	}
	if rec.Body, err = json.Marshal(p); err != nil {
		return api.ReportPlan{}, fmt.Errorf("encode a plan of reports: %w", err)
	}
	err = r.Trail.Do(ctx, who, object(rec), func(ctx context.Context) error { return r.DB.PutReportPlan(ctx, rec) }, "%s %s the plan of reports %s: of the last %s, %s, to %s", who, did, rec.Name, p.Over, p.At.Words(), words.Joined(p.Channels, 5))
	switch {
	case records.Taken(err, records.ReportPlanNameTaken):
		return api.ReportPlan{}, problem.Invalid("name", "There is a plan %s already.", rec.Name)
	case errors.Is(err, records.ErrStale):
		return api.ReportPlan{}, stale(rec)
	case err != nil:
		return api.ReportPlan{}, err
	}
	return r.view(rec)
}

func object(rec records.ReportPlan) audit.Object {
	return audit.Object{Kind: "report plan", Name: rec.Name, ID: rec.ID}
}

func (r *Reports) find(ctx context.Context, text string) (records.ReportPlan, error) {
	all, err := r.DB.ReportPlans(ctx)
	if err != nil {
		return records.ReportPlan{}, err
	}
	var names []string
	for _, rec := range all {
		if rec.ID == text || strings.EqualFold(rec.Name, text) {
			return rec, nil
		}
		names = append(names, rec.Name)
	}
	if near, ok := words.Nearest(text, names); ok {
		text += "; did you mean " + near
	}
	return records.ReportPlan{}, problem.NotFound("report plan", text)
}

// Delete removes a plan.
func (r *Reports) Delete(ctx context.Context, who actor.Actor, text string) error {
	rec, err := r.find(ctx, text)
	if err != nil {
		return err
	}
	return r.Trail.Do(ctx, who, object(rec), func(ctx context.Context) error { return r.DB.DeleteReportPlan(ctx, rec.ID) }, "%s removed the plan of reports %s", who, rec.Name)
}

// Send sends the newest report of a plan now, whatever its calendar says.
func (r *Reports) Send(ctx context.Context, who actor.Actor, text string) error {
	rec, err := r.find(ctx, text)
	if err != nil {
		return err
	}
	p, err := planOf(rec)
	if err != nil {
		return err
	}
	ms, err := r.messages(ctx, rec, p, r.Clock.Now())
	if err != nil {
		return err
	}
	if len(ms) == 0 {
		return problem.Conflict("None of its channels is there and on: %s.", words.Joined(p.Channels, 5))
	}
	if err := r.Trail.Do(ctx, who, object(rec), func(ctx context.Context) error { return r.DB.AddMessages(ctx, ms) }, "%s had the report %s sent to %s", who, rec.Name, words.Joined(p.Channels, 5)); err != nil {
		return err
	}
	r.Post.Wake()
	return nil
}
