package alert

import (
	"slices"
	"time"

	"kestrel/internal/core/calendar"
)

// Silence keeps people from being told, once or again and again.
type Silence struct {
	ID   string
	Kind Kind  // empty is every
	For  Scope // the zero value is everything
	// From and Until bound it; with a calendar each of its starts lasts for Lasts.
	From, Until time.Time
	Calendar    calendar.Calendar
	Lasts       time.Duration
	By, Reason  string
}

// Holds tells whether it holds at a time.
func (s Silence) Holds(now time.Time) bool {
	if now.Before(s.From) || !s.Until.IsZero() && !now.Before(s.Until) {
		return false
	}
	if s.Calendar.IsZero() {
		return true
	}
	starts, err := s.Calendar.Between(now.Add(-s.Lasts), now.Add(time.Second))
	return err == nil && slices.ContainsFunc(starts, func(x calendar.Start) bool {
		return !x.At.After(now) && now.Before(x.At.Add(s.Lasts))
	})
}

func (s Silence) matches(a Alert) bool {
	return (s.Kind == "" || s.Kind == a.Kind) && (s.For.IsZero() || a.Member.ID != "" && s.For.covers(a.Member))
}
