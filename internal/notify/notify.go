// Package notify tells people of alerts, by mail and by webhook: from an outbox in
// PostgreSQL, in order by channel, until it is delivered.
package notify

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"log/slog"
	"maps"
	"net"
	"slices"
	"strings"
	"sync"
	"time"

	"github.com/google/uuid"

	"kestrel/internal/api"
	"kestrel/internal/audit"
	"kestrel/internal/clock"
	"kestrel/internal/core/actor"
	"kestrel/internal/core/alert"
	"kestrel/internal/core/calendar"
	"kestrel/internal/core/words"
	"kestrel/internal/problem"
	"kestrel/internal/records"
	"kestrel/internal/sealed"
)

const (
	// giveUp is how long a message is tried: who hears of it later learns nothing new.
	giveUp = 72 * time.Hour
	// maxChannels is how many there may be.
	maxChannels = 50
)

// Waits are how long something is waited for.
type Waits struct {
	Try            time.Duration // how long one try may take
	First, Longest time.Duration // between two tries: twice as long each time
}

// UsualWaits are those of a service.
func UsualWaits() Waits { return Waits{30 * time.Second, 10 * time.Second, 15 * time.Minute} }

// after is how long to wait after so many tries.
func (w Waits) after(tries int) time.Duration {
	return min(w.Longest, w.First<<min(max(tries, 1)-1, 10))
}

// Box is where messages wait; *records.DB is one.
type Box interface {
	Channels(ctx context.Context) ([]records.Channel, error)
	PutChannel(ctx context.Context, c records.Channel) error
	DeleteChannel(ctx context.Context, id string) error
	AddDigest(ctx context.Context, m records.Message, morning time.Time) error
	AddMessages(ctx context.Context, ms []records.Message) error
	NextMessages(ctx context.Context) ([]records.Message, error)
	TryMessage(ctx context.Context, m records.Message) error
	LastMessages(ctx context.Context) ([]records.Message, map[string]int, error)
}

// Config is what it is made of.
type Config struct {
	SiteID, Site string
	Console      string // address that links begin with; empty is none
	Box          Box
	Sealed       *sealed.Box
	Trail        *audit.Trail
	Dial         func(ctx context.Context, network, address string) (net.Conn, error)
	// Document makes the file of a report that mails carry, with its name.
	Document func(ctx context.Context, p Paper) (name string, pdf []byte, err error)
	// Digest gives the lines of a morning's summary, worst first.
	Digest func() []string
	Clock  clock.Clock
	Log    *slog.Logger
	Every  time.Duration // between two looks for what is to be delivered
	Waits  Waits
}

// Notify tells people.
type Notify struct {
	Config
	deliverer
	kick chan struct{}

	mu     sync.Mutex
	all    []records.Channel
	failed map[string]failing // channels whose last try failed
	busy   map[string]bool    // channels that something is being delivered to
	idle   bool               // nothing waited when the database was asked, and nobody has called since
	wg     sync.WaitGroup
}

type failing struct {
	since time.Time
	why   string
}

// deliverer delivers one note to one channel.
type deliverer struct {
	siteID string
	dial   func(ctx context.Context, network, address string) (net.Conn, error)
	now    func() time.Time
	waits  Waits
	// document makes the file of a report, with its name.
	document func(ctx context.Context, p Paper) (string, []byte, error)
}

func (d deliverer) deliver(ctx context.Context, kind string, c Channel, secret string, m records.Message, n Note) error {
	ctx, cancel := context.WithTimeout(ctx, 2*d.waits.Try)
	defer cancel()
	if kind == Mail {
		return d.mail(ctx, c, secret, m.ID, n)
	}
	return d.post(ctx, c, secret, m.ID, m.Number, n)
}

// Open reads the channels.
func Open(ctx context.Context, cfg Config) (*Notify, error) {
	n := &Notify{Config: cfg, deliverer: deliverer{cfg.SiteID, cfg.Dial, cfg.Clock.Now, cfg.Waits, cfg.Document}, kick: make(chan struct{}, 1), failed: map[string]failing{}, busy: map[string]bool{}}
	if err := n.reload(ctx); err != nil {
		return nil, err
	}
	last, _, err := cfg.Box.LastMessages(ctx)
	for _, m := range last {
		if m.Error != "" {
			n.failed[m.ChannelID] = failing{m.CreatedAt, m.Error}
		}
	}
	return n, err
}

func (n *Notify) reload(ctx context.Context) error {
	all, err := n.Box.Channels(ctx)
	if err != nil {
		return err
	}
	n.mu.Lock()
	n.all = all
	n.mu.Unlock()
	return nil
}

func (n *Notify) channels() []records.Channel {
	n.mu.Lock()
	defer n.mu.Unlock()
	return slices.Clone(n.all)
}

func settings(r records.Channel) (c Channel, err error) {
	if err = json.Unmarshal(r.Body, &c); err != nil {
		err = fmt.Errorf("channel %s: %w", r.Name, err)
	}
	return c, err
}

// Names lists the channels' names.
func (n *Notify) Names() []string {
	var out []string
	for _, c := range n.channels() {
		out = append(out, c.Name)
	}
	return out
}

// takes tells whether a channel is told of an alert of a level, if channels of these names
// are, none being all.
func (c Channel) takes(name string, channels []string, l alert.Level) bool {
	named := len(channels) == 0 || slices.ContainsFunc(channels, func(x string) bool { return strings.EqualFold(x, name) })
	return named && !c.Off && (!c.UrgentOnly || l == alert.Urgent)
}

// Takes tells whether somebody is told by channels of these names, none being all, of an
// alert of a level.
func (n *Notify) Takes(channels []string, l alert.Level) bool {
	return slices.ContainsFunc(n.channels(), func(r records.Channel) bool {
		c, err := settings(r)
		return err == nil && c.takes(r.Name, channels, l)
	})
}

// Messages are what is to be stored so that people are told of something.
func (n *Notify) Messages(ts []alert.Telling) ([]records.Message, error) {
	var out []records.Message
	now := n.Clock.Now().UTC()
	for _, t := range ts {
		for _, r := range n.channels() {
			c, err := settings(r)
			if err != nil {
				return nil, err
			}
			if !c.takes(r.Name, t.Channels, t.Alert.Level) {
				continue
			}
			note := noteOf(n.Site, n.Console, t, now)
			note.Channel = r.Name
			out = append(out, n.message(r.ID, string(t.Event), &t.Alert.ID, note))
		}
	}
	return out, nil
}

func (n *Notify) message(channel, event string, alertID *string, note Note) records.Message {
	body, err := json.Marshal(note)
	if err != nil {
		panic(err) // plain structs always marshal
	}
	return records.Message{ID: uuid.NewString(), ChannelID: channel, Event: event, AlertID: alertID, Body: body, CreatedAt: note.At, NextAt: note.At}
}

// Reports are what is to be stored so that channels of these names are told of a report.
func (n *Notify) Reports(channels []string, p Paper, title string, lines []string) ([]records.Message, error) {
	var out []records.Message
	for _, r := range n.channels() {
		c, err := settings(r)
		if err != nil {
			return nil, err
		}
		if c.Off || !slices.ContainsFunc(channels, func(x string) bool { return strings.EqualFold(x, r.Name) }) {
			continue
		}
		note := Note{Site: n.Site, Event: Report, At: n.Clock.Now().UTC(), Title: n.Site + ": " + title, Lines: lines, Report: &p, Channel: r.Name}
		if n.Console != "" {
			note.Link = n.Console + "/reports"
		}
		out = append(out, n.message(r.ID, Report, nil, note))
	}
	return out, nil
}

// Tell hands something to channels of these names, once for each ID.
func (n *Notify) Tell(ctx context.Context, channels []string, id, title string, lines []string) error {
	var out []records.Message
	var lacking []string
	for _, name := range channels {
		r, err := n.find(name)
		if err != nil {
			lacking = append(lacking, name)
			continue
		}
		note := Note{Site: n.Site, Event: Step, At: n.Clock.Now().UTC(), Title: n.Site + ": " + title, Lines: lines, Channel: r.Name, Link: n.Console}
		m := n.message(r.ID, Step, nil, note)
		m.ID = uuid.NewSHA1(uuid.NameSpaceURL, []byte(id+"/"+r.ID)).String()
		out = append(out, m)
	}
	if len(lacking) > 0 {
		return fmt.Errorf("there is no channel %s here", words.Joined(lacking, 4))
	}
	if err := n.Box.AddMessages(ctx, out); err != nil {
		return err
	}
	n.Wake()
	return nil
}

// Wake has it look for what is to be delivered.
func (n *Notify) Wake() {
	n.mu.Lock()
	n.idle = false
	n.mu.Unlock()
	select {
	case n.kick <- struct{}{}:
	default:
	}
}

// Run delivers until ctx ends, and waits for what is under way.
func (n *Notify) Run(ctx context.Context) {
	defer n.wg.Wait()
	for {
		if err := errors.Join(n.mornings(ctx), n.look(ctx)); err != nil && ctx.Err() == nil {
			n.Log.Warn("deliver alerts", "err", err)
		}
		select {
		case <-ctx.Done():
			return
		case <-n.kick:
		case <-n.Clock.After(n.Every):
		}
	}
}

// look begins to deliver the first message of each channel that is due. A channel that
// hangs holds up no other.
func (n *Notify) look(ctx context.Context) error {
	n.mu.Lock()
	idle := n.idle
	n.idle = true // who calls from now on is heard
	// What is being delivered now may be delivered when the answer comes, which would still
	// have it.
	before := maps.Clone(n.busy)
	n.mu.Unlock()
	if idle {
		return nil
	}
	ms, err := n.Box.NextMessages(ctx)
	n.mu.Lock()
	n.idle = n.idle && err == nil && len(ms) == 0
	n.mu.Unlock()
	if err != nil {
		return err
	}
	by := map[string]records.Channel{}
	for _, r := range n.channels() {
		by[r.ID] = r
	}
	for _, m := range ms {
		r, known := by[m.ChannelID]
		n.mu.Lock()
		start := known && !before[m.ChannelID] && !n.busy[m.ChannelID] && !m.NextAt.After(n.Clock.Now())
		if start {
			n.busy[m.ChannelID] = true
		}
		n.mu.Unlock()
		if !start {
			continue
		}
		n.wg.Go(func() {
			next := n.try(ctx, r, m)
			n.mu.Lock()
			delete(n.busy, m.ChannelID)
			n.mu.Unlock()
			if next {
				n.Wake()
			}
		})
	}
	return nil
}

// try delivers a message once, and keeps how that went. It tells whether the next one may
// follow at once.
func (n *Notify) try(ctx context.Context, r records.Channel, m records.Message) bool {
	c, err := settings(r)
	var note Note
	if err == nil {
		err = json.Unmarshal(m.Body, &note)
	}
	secret := ""
	if err == nil && len(r.Secret) > 0 {
		secret, err = n.Sealed.Open(r.Secret)
	}
	if err == nil {
		err = n.deliver(ctx, r.Kind, c, secret, m, note)
	}
	if err != nil && ctx.Err() != nil {
		return false // whether it arrived is not known; it is tried again, under the same ID
	}
	// What was taken is kept even if the service ends now.
	ctx, cancel := context.WithTimeout(context.WithoutCancel(ctx), n.Waits.Try)
	defer cancel()
	now := n.Clock.Now().UTC()
	m.Tries++
	if err == nil {
		m.SentAt, m.Error = &now, ""
	} else {
		m.Error, m.NextAt = cut(err.Error()), now.Add(n.Waits.after(m.Tries))
		if now.Sub(m.CreatedAt) >= giveUp {
			m.GivenUpAt = &now
		}
	}
	if err := n.Box.TryMessage(ctx, m); err != nil {
		n.Log.Warn("keep how a delivery went", "channel", r.Name, "err", err)
		return false
	}
	n.mu.Lock()
	if err == nil {
		delete(n.failed, r.ID)
	} else if _, before := n.failed[r.ID]; !before {
		n.failed[r.ID] = failing{now, m.Error}
	}
	n.mu.Unlock()
	if err != nil {
		n.Log.Warn("an alert could not be delivered", "channel", r.Name, "try", m.Tries, "err", err)
	}
	return err == nil || m.GivenUpAt != nil
}

func cut(text string) string {
	if r := []rune(text); len(r) > 300 {
		return string(r[:300]) + " …"
	}
	return text
}

// Failing tells which channels could not be told something at the last try, since when and
// why, by their IDs and names.
func (n *Notify) Failing(each func(id, name string, since time.Time, why string)) {
	n.mu.Lock()
	defer n.mu.Unlock()
	for _, r := range n.all {
		if f, is := n.failed[r.ID]; is {
			each(r.ID, r.Name, f.since, f.why)
		}
	}
}

// mornings puts together the summaries that are due.
func (n *Notify) mornings(ctx context.Context) error {
	now := n.Clock.Now()
	for _, r := range n.channels() {
		c, err := settings(r)
		if err != nil {
			return err
		}
		if c.Digest == "" || c.Off {
			continue
		}
		at, due := morning(c, now)
		if !due || r.DigestedAt != nil && !r.DigestedAt.Before(at) {
			continue
		}
		note := Note{Site: n.Site, Event: Digest, At: now.UTC(), Title: n.Site + ": the day so far", Lines: n.Digest(), Channel: r.Name, Link: n.Console}
		if len(note.Lines) > 0 {
			note.Title = n.Site + ": " + note.Lines[0]
		}
		if err := n.Box.AddDigest(ctx, n.message(r.ID, Digest, nil, note), at); err != nil {
			return err
		}
		n.Wake()
		if err := n.reload(ctx); err != nil {
			return err
		}
	}
	return nil
}

// morning is when the last summary was due; false if that is so long ago that nobody wants
// it any more, because the service did not run or the channel is new.
func morning(c Channel, now time.Time) (at time.Time, due bool) {
	loc, err := calendar.Location(c.Zone)
	if err != nil {
		return at, false
	}
	clock, err := time.Parse("15:04", c.Digest)
	if err != nil {
		return at, false
	}
	local := now.In(loc)
	at = time.Date(local.Year(), local.Month(), local.Day(), clock.Hour(), clock.Minute(), 0, 0, loc)
	return at.UTC(), !now.Before(at) && now.Sub(at) < time.Hour
}

// Channels lists all, with how the last delivery went.
func (n *Notify) Channels(ctx context.Context) ([]api.Channel, error) {
	last, waiting, err := n.Box.LastMessages(ctx)
	if err != nil {
		return nil, err
	}
	by := map[string]records.Message{}
	for _, m := range last {
		by[m.ChannelID] = m
	}
	out := []api.Channel{}
	for _, r := range n.channels() {
		v, err := view(r)
		if err != nil {
			return nil, err
		}
		v.Waiting = waiting[r.ID]
		if m, ok := by[r.ID]; ok {
			at := m.NextAt
			switch {
			case m.SentAt != nil:
				at = *m.SentAt
			case m.GivenUpAt != nil:
				at = *m.GivenUpAt
			default:
				at = at.Add(-n.Waits.after(m.Tries))
			}
			v.LastAt, v.LastEvent, v.LastError = new(at.UTC()), &m.Event, orNil(words.Sentence(m.Error))
		}
		out = append(out, v)
	}
	return out, nil
}

func view(r records.Channel) (api.Channel, error) {
	c, err := settings(r)
	v := api.Channel{ID: r.ID, Name: r.Name, Kind: r.Kind, Revision: r.Revision, Off: c.Off, UrgentOnly: c.UrgentOnly, Digest: orNil(c.Digest), Zone: orNil(c.Zone), Server: orNil(c.Server), TLS: orNil(c.TLS), User: orNil(c.User), From: orNil(c.From), URL: orNil(c.URL), Trust: orNil(c.Trust)}
	if r.Kind == Mail {
		v.To, v.HasPassword = &c.To, new(len(r.Secret) > 0)
	}
	return v, err
}

func (n *Notify) find(text string) (records.Channel, error) {
	var names []string
	for _, r := range n.channels() {
		if r.ID == text || strings.EqualFold(r.Name, text) {
			return r, nil
		}
		names = append(names, r.Name)
	}
	err := problem.NotFound("channel", text)
	if near, ok := words.Nearest(text, names); ok {
		err = problem.NotFound("channel", text+"; did you mean "+near)
	}
	return records.Channel{}, err
}

// Create makes a channel. The key of a webhook is in the answer, this once.
func (n *Notify) Create(ctx context.Context, who actor.Actor, in api.WriteChannel) (api.Channel, error) {
	if len(n.channels()) >= maxChannels {
		return api.Channel{}, problem.Conflict("There are %d channels, as many as there may be. Remove one first.", maxChannels)
	}
	return n.put(ctx, who, records.Channel{ID: uuid.NewString(), Revision: 1}, in, "made")
}

// Edit changes a channel that is as it was looked at.
func (n *Notify) Edit(ctx context.Context, who actor.Actor, text string, in api.WriteChannel) (api.Channel, error) {
	r, err := n.find(text)
	switch {
	case err != nil:
		return api.Channel{}, err
	case in.Kind != r.Kind:
		return api.Channel{}, problem.Invalid("kind", "%s is a channel of %s. Make another one, and remove this.", r.Name, r.Kind)
	case in.Revision == nil || *in.Revision != r.Revision:
		return api.Channel{}, problem.Conflict("%s was changed since you looked at it. Look again.", r.Name)
	}
	r.Revision++
	return n.put(ctx, who, r, in, "changed")
}

func (n *Notify) put(ctx context.Context, who actor.Actor, r records.Channel, in api.WriteChannel, did string) (api.Channel, error) {
	c, err := decode(in)
	if err != nil {
		return api.Channel{}, err
	}
	r.Name, r.Kind, r.Body = in.Name, in.Kind, c.encode()
	secret := value(in.Password)
	if in.Kind == Webhook {
		if secret = value(in.Key); secret == "" && len(r.Secret) == 0 {
			secret = newKey()
		}
	}
	switch {
	case secret != "":
		r.Secret = n.Sealed.Seal(secret)
	case in.Kind == Mail && c.User == "":
		r.Secret = nil
	}
	err = n.Trail.Do(ctx, who, audit.Object{Kind: "channel", Name: r.Name, ID: r.ID}, func(ctx context.Context) error { return n.Box.PutChannel(ctx, r) }, "%s %s the channel %s, by which people are told of alerts", who, did, r.Name)
	switch {
	case records.Taken(err, records.ChannelNameTaken):
		return api.Channel{}, problem.Invalid("name", "There is a channel %s already.", r.Name)
	case errors.Is(err, records.ErrStale):
		return api.Channel{}, problem.Conflict("%s was changed since you looked at it. Look again.", r.Name)
	case err != nil:
		return api.Channel{}, err
	}
	if err := n.reload(ctx); err != nil {
		return api.Channel{}, err
	}
	n.Wake()
	v, err := view(r)
	if in.Kind == Webhook {
		v.Key = orNil(secret)
	}
	return v, err
}

// Delete removes a channel.
func (n *Notify) Delete(ctx context.Context, who actor.Actor, text string) error {
	r, err := n.find(text)
	if err != nil {
		return err
	}
	if err := n.Trail.Do(ctx, who, audit.Object{Kind: "channel", Name: r.Name, ID: r.ID}, func(ctx context.Context) error { return n.Box.DeleteChannel(ctx, r.ID) }, "%s removed the channel %s; nobody is told of alerts by it any more", who, r.Name); err != nil {
		return err
	}
	n.mu.Lock()
	delete(n.failed, r.ID)
	n.mu.Unlock()
	return n.reload(ctx)
}

// Test sends something to a channel now.
func (n *Notify) Test(ctx context.Context, who actor.Actor, text string) (api.ChannelTest, error) {
	r, err := n.find(text)
	if err != nil {
		return api.ChannelTest{}, err
	}
	c, err := settings(r)
	if err != nil {
		return api.ChannelTest{}, err
	}
	secret := ""
	if len(r.Secret) > 0 {
		if secret, err = n.Sealed.Open(r.Secret); err != nil {
			return api.ChannelTest{}, err
		}
	}
	note := Note{Site: n.Site, Event: Test, At: n.Clock.Now().UTC(), Title: n.Site + ": a test of the channel " + r.Name, Lines: []string{who.String() + " asked for it. Nothing is wrong."}, Link: n.Console, Channel: r.Name}
	err = n.deliver(ctx, r.Kind, c, secret, n.message(r.ID, Test, nil, note), note)
	n.Trail.Note(ctx, who, audit.Object{Kind: "channel", Name: r.Name, ID: r.ID}, "%s tested the channel %s: %s", who, r.Name, went(err))
	if err != nil {
		return api.ChannelTest{Text: words.Sentence(cut(err.Error())) + " " + mend(r.Kind, c)}, nil
	}
	to := c.URL
	if r.Kind == Mail {
		to = c.Server + " for " + words.Joined(c.To, 3)
	}
	return api.ChannelTest{Ok: true, Text: "It was taken by " + to + "."}, nil
}

func went(err error) string {
	if err != nil {
		return "it failed"
	}
	return "it was taken"
}

func mend(kind string, c Channel) string {
	if kind == Mail {
		return fmt.Sprintf("See to %s, whether it takes mail from this host (TLS: %s), and to user and password.", c.Server, c.TLS)
	}
	return "See to the receiver, and whether this host reaches it."
}
