package audit_test

import (
	"bytes"
	"context"
	"errors"
	"log/slog"
	"testing"
	"testing/synctest"
	"time"

	"github.com/stretchr/testify/require"

	"kestrel/internal/audit"
	"kestrel/internal/clock"
	"kestrel/internal/core/actor"
	"kestrel/internal/core/group"
	"kestrel/internal/events"
	"kestrel/internal/records"
	"kestrel/internal/support/memory"
)

var anna = actor.Actor{Kind: actor.Person, Name: "anna", From: "192.0.2.7"}

// full is a store that takes no more lines.
type full struct{ *memory.DB }

func (full) AddActivity(context.Context, records.Activity) error {
	return errors.New("the disk is full")
}

// A line says who did what, when and from where, to which thing; it is written even
// if whoever asked is gone by then.
func TestALineOfTheTrail(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		hub := events.NewHub()
		news, stop := hub.Listen()
		defer stop()
		trail := audit.New(memory.New(), clock.Wall{}, hub, slog.New(slog.DiscardHandler))
		ctx, cancel := context.WithCancel(t.Context())
		cancel()
		trail.Note(ctx, anna, audit.Object{Kind: "point", Name: "Ticketing", ID: "g-1"}, "%s pinned point %d", anna, 7)
		require.Equal(t, "activity", (<-news).Type)
		time.Sleep(time.Minute)
		trail.Note(t.Context(), actor.System(), audit.Object{Kind: "store"}, "swept")
		lines, err := trail.Lines(t.Context(), records.Sought{Limit: 10})
		require.NoError(t, err)
		require.Len(t, lines, 2, "newest first")
		require.Equal(t, "swept", lines[0].Text)
		l := lines[1]
		require.Equal(t, []string{"anna pinned point 7", "anna", "person", "192.0.2.7", "point", "Ticketing", "g-1"}, []string{l.Text, l.Who, l.Actor, l.Origin, l.Kind, l.Subject, l.Object})
		require.Equal(t, time.Minute, lines[0].At.Sub(l.At))
		require.Nil(t, l.Revision)
		older, err := trail.Lines(t.Context(), records.Sought{Before: lines[0].ID, Limit: 10})
		require.NoError(t, err)
		require.Len(t, older, 1)
		found, err := trail.Lines(t.Context(), records.Sought{Limit: 10, Text: "PINNED"})
		require.NoError(t, err)
		require.Len(t, found, 1)
	})
}

// What a line says was changed is read as it was written.
func TestChangesOfALine(t *testing.T) {
	trail := audit.New(memory.New(), clock.Wall{}, events.NewHub(), slog.New(slog.DiscardHandler))
	cs := []group.Change{{Field: "target", From: "15 min", To: "1 h"}, {Field: "tags", From: "", To: "gold"}}
	l := trail.Line(anna, audit.Object{Kind: "group", Name: "Ticketing", ID: "g-1"}, 4, cs, "changed")
	require.EqualValues(t, 4, *l.Revision)
	got, err := audit.ChangesOf(l)
	require.NoError(t, err)
	require.Equal(t, cs, got)
	l.Changes = []byte("[")
	_, err = audit.ChangesOf(l)
	require.ErrorContains(t, err, "of the trail")
	require.Empty(t, trail.Line(anna, audit.Object{}, 0, nil, "nothing").Changes)
}

// What was done stays done if its line cannot be written, and the log has it.
func TestALineThatCannotBeWrittenIsLogged(t *testing.T) {
	var log bytes.Buffer
	trail := audit.New(full{memory.New()}, clock.Wall{}, events.NewHub(), slog.New(slog.NewTextHandler(&log, nil)))
	trail.Note(t.Context(), anna, audit.Object{Kind: "store"}, "anna swept the store")
	require.Contains(t, log.String(), "the disk is full")
	require.Contains(t, log.String(), "anna swept the store")
}
