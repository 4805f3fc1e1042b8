// Package audit keeps the trail: who did what, when and from where, to which
// thing, and what it changed from and to. Whatever changes writes its line in the
// transaction that changes it; what happens otherwise is noted.
package audit

import (
	"context"
	"encoding/json"
	"fmt"
	"log/slog"

	"kestrel/internal/clock"
	"kestrel/internal/core/actor"
	"kestrel/internal/core/group"
	"kestrel/internal/events"
	"kestrel/internal/records"
)

// Store is where lines are kept.
type Store interface {
	AddActivity(ctx context.Context, a records.Activity) error
	Activity(ctx context.Context, f records.Sought) ([]records.Activity, error)
}

// Trail writes and reads lines.
type Trail struct {
	store Store
	clk   clock.Clock
	hub   *events.Hub
	log   *slog.Logger
}

// New makes a trail.
func New(store Store, clk clock.Clock, hub *events.Hub, log *slog.Logger) *Trail {
	return &Trail{store, clk, hub, log}
}

// Object is what a line is about. Group is the ID of the group that it belongs to,
// so that people who see some groups only see the lines of those.
type Object struct {
	Kind string // group, point, link, platform, person, token, operation, landing or store
	Name string
	ID   string
}

// Line makes a line without writing it, for whoever writes it with what it tells
// of.
func (t *Trail) Line(who actor.Actor, o Object, revision int64, changes []group.Change, text string) records.Activity {
	a := records.Activity{At: t.clk.Now().UTC(), Who: who.String(), Actor: string(who.Kind), Origin: who.From, Kind: o.Kind, Subject: o.Name, Object: o.ID, Text: text}
	if revision > 0 {
		a.Revision = &revision
	}
	if len(changes) > 0 {
		b, err := json.Marshal(changes)
		if err != nil {
			panic(err) // strings always marshal
		}
		a.Changes = b
	}
	return a
}

// Note writes a line. What was done is not undone because its line could not be
// written; that is logged.
func (t *Trail) Note(ctx context.Context, who actor.Actor, o Object, format string, args ...any) {
	line := t.Line(who, o, 0, nil, fmt.Sprintf(format, args...))
	if err := t.store.AddActivity(context.WithoutCancel(ctx), line); err != nil {
		t.log.Error("audit trail", "err", err, "text", line.Text)
	}
	t.Written()
}

// Do does one write together with its line: both are there or neither is.
func (t *Trail) Do(ctx context.Context, who actor.Actor, o Object, write func(ctx context.Context) error, format string, args ...any) error {
	line := t.Line(who, o, 0, nil, fmt.Sprintf(format, args...))
	within, told := records.Telling(ctx, line)
	if err := write(within); err != nil {
		return err
	}
	if !told() { // nothing had to be written, or not to the database
		if err := t.store.AddActivity(context.WithoutCancel(ctx), line); err != nil {
			t.log.Error("audit trail", "err", err, "text", line.Text)
		}
	}
	t.Written()
	return nil
}

// Written tells clients that there are new lines.
func (t *Trail) Written() { t.hub.Send(events.Event{Type: "activity"}) }

// Lines lists lines, newest first.
func (t *Trail) Lines(ctx context.Context, f records.Sought) ([]records.Activity, error) {
	return t.store.Activity(ctx, f)
}

// ChangesOf reads what a line says was changed.
func ChangesOf(a records.Activity) ([]group.Change, error) {
	var out []group.Change
	if err := json.Unmarshal(a.Changes, &out); err != nil {
		return nil, fmt.Errorf("line %d of the trail: %w", a.ID, err)
	}
	return out, nil
}
