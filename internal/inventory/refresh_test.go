package inventory

import (
	"context"
	"testing"

	"github.com/stretchr/testify/require"

	"kestrel/internal/clock"
	"kestrel/internal/events"
	"kestrel/internal/platform"
)

// slowly answers its first question late, with what was there when it was asked.
type slowly struct {
	platform.Driver
	asked, answer chan struct{}
	n             int
}

func (s *slowly) Inventory(context.Context) (platform.Inventory, error) {
	if s.n++; s.n > 1 {
		return platform.Inventory{Machines: []platform.Machine{{ID: "new", Name: "crane"}}}, nil
	}
	close(s.asked)
	<-s.answer
	return platform.Inventory{Machines: []platform.Machine{{ID: "old", Name: "tick-db"}}}, nil
}

// An answer that was asked for before another's, and comes after it, does not take its place.
func TestALateAnswerIsOld(t *testing.T) {
	d := &slowly{asked: make(chan struct{}), answer: make(chan struct{})}
	v, p := &Inventory{Config: Config{Clock: clock.Wall{}, Hub: events.NewHub()}}, &state{driver: d}
	done := make(chan struct{})
	go func() { v.refresh(t.Context(), p); close(done) }()
	<-d.asked
	v.refresh(t.Context(), p)
	close(d.answer)
	<-done
	require.Equal(t, "new", p.seen.Machines[0].ID)
}
