// Package calendar gives the instants of recurring local times, such as "the last Friday
// of the month at 22:00" in a time zone. Rules are recurrence rules of RFC 5545 (section
// 3.3.10), kept in their text form and shown in words.
//
// Local times that a change of the clock skips or doubles are taken as the RFC says
// (section 3.3.5): one that is skipped is reckoned by the offset before the gap, so that
// 02:30 becomes 03:30; of one that comes twice the first counts. Months that lack a day
// are left out, as the RFC says too: the 31st comes seven times a year, 29 February every
// leap year.
package calendar

import (
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"github.com/teambition/rrule-go"
)

// Limits of a calendar.
const (
	MaxRules  = 8
	MaxText   = 300 // characters of a rule
	MaxPerDay = 96
)

// Calendar is recurring times of day in one zone. The zero value is none.
type Calendar struct {
	Rules []string // of RFC 5545, without a beginning and an end
	Zone  string   // name of the time zone database; empty is UTC
}

// Start is an instant, with what a change of the clock made of it.
type Start struct {
	At   time.Time
	Note string // empty if the local time came once
}

// IsZero tells whether there is no rule.
func (c Calendar) IsZero() bool { return len(c.Rules) == 0 }

// Equal tells whether two are the same.
func (c Calendar) Equal(o Calendar) bool { return slices.Equal(c.Rules, o.Rules) && c.Zone == o.Zone }

// Location reads a zone's name.
func Location(zone string) (*time.Location, error) {
	if zone == "" {
		return time.UTC, nil
	}
	if zone == "Local" {
		return nil, errors.New(`name a time zone, such as "Europe/Oslo": each site has a local time of its own`)
	}
	l, err := time.LoadLocation(zone)
	if err != nil {
		return nil, fmt.Errorf("%q is no time zone; write it like Europe/Oslo, or UTC", zone)
	}
	return l, nil
}

// Check says what is wrong.
func (c Calendar) Check() error {
	if len(c.Rules) > MaxRules {
		return fmt.Errorf("a calendar has at most %d rules", MaxRules)
	}
	if _, err := Location(c.Zone); err != nil {
		return err
	}
	perDay := 0
	for _, text := range c.Rules {
		o, err := option(text)
		if err != nil {
			return err
		}
		perDay += len(o.Byhour) * len(o.Byminute)
	}
	if perDay > MaxPerDay {
		return fmt.Errorf("a calendar has at most %d times a day; for more, start cycles every so many minutes", MaxPerDay)
	}
	return nil
}

// option reads one rule, with what is not said filled in.
func option(text string) (*rrule.ROption, error) {
	if len(text) > MaxText {
		return nil, fmt.Errorf("a rule has at most %d characters", MaxText)
	}
	o, err := rrule.StrToROption(strings.TrimPrefix(strings.ToUpper(strings.TrimSpace(text)), "RRULE:"))
	if err != nil {
		return nil, fmt.Errorf("%q is no recurrence rule of RFC 5545: %w", text, err)
	}
	switch {
	case o.Freq > rrule.DAILY:
		return nil, fmt.Errorf("%q recurs more often than daily; give its times a day, or start cycles every so long", text)
	case o.Count > 0 || !o.Until.IsZero() || !o.Dtstart.IsZero():
		return nil, fmt.Errorf("%q begins or ends: leave out COUNT, UNTIL and DTSTART, and pause the group instead", text)
	case len(o.Bysecond) > 0 || len(o.Byeaster) > 0:
		return nil, fmt.Errorf("%q has seconds or Easter, which are not known here", text)
	case o.Interval > 1000:
		return nil, fmt.Errorf("%q recurs too rarely: INTERVAL is at most 1000", text)
	}
	if len(o.Byhour) == 0 {
		o.Byhour = []int{0}
	}
	if len(o.Byminute) == 0 {
		o.Byminute = []int{0}
	}
	o.Bysecond = []int{0}
	if o.Freq == rrule.WEEKLY && len(o.Byweekday) == 0 {
		o.Byweekday = []rrule.Weekday{rrule.MO}
	}
	if o.Freq <= rrule.MONTHLY && len(o.Byweekday)+len(o.Bymonthday)+len(o.Byyearday)+len(o.Byweekno) == 0 {
		o.Bymonthday = []int{1}
	}
	if o.Freq == rrule.YEARLY && len(o.Bymonth)+len(o.Byyearday)+len(o.Byweekno) == 0 && len(o.Byweekday) == 0 {
		o.Bymonth = []int{1}
	}
	return o, nil
}

// epoch is a Monday, and where intervals of several days, weeks, months or years are
// counted from.
var epoch = time.Date(2001, 1, 1, 0, 0, 0, 0, time.UTC)

// begin is where a rule is asked from, so that nothing before from has to be gone
// through: the last beginning of one of its intervals that is before.
func begin(o *rrule.ROption, from time.Time) time.Time {
	n := max(1, o.Interval)
	if from.Before(epoch) {
		return epoch
	}
	days := int(from.Sub(epoch).Hours() / 24)
	months := (from.Year()-epoch.Year())*12 + int(from.Month()) - 1
	switch o.Freq {
	case rrule.DAILY:
		return epoch.AddDate(0, 0, days/n*n)
	case rrule.WEEKLY:
		return epoch.AddDate(0, 0, days/7/n*n*7)
	case rrule.MONTHLY:
		return epoch.AddDate(0, months/n*n, 0)
	}
	return epoch.AddDate((from.Year()-epoch.Year())/n*n, 0, 0)
}

// Between lists the starts from an instant, included, to another, not included.
func (c Calendar) Between(from, to time.Time) ([]Start, error) {
	loc, err := Location(c.Zone)
	if err != nil {
		return nil, err
	}
	// Rules recur in local time, which is written as if it were UTC. Changes of the clock
	// are of at most a day.
	floating := func(t time.Time) time.Time {
		t = t.In(loc)
		return time.Date(t.Year(), t.Month(), t.Day(), t.Hour(), t.Minute(), t.Second(), t.Nanosecond(), time.UTC)
	}
	low, high := floating(from).AddDate(0, 0, -1), floating(to).AddDate(0, 0, 1)
	var out []Start
	for _, text := range c.Rules {
		o, err := option(text)
		if err != nil {
			return nil, err
		}
		o.Dtstart = begin(o, low)
		r, err := rrule.NewRRule(*o)
		if err != nil {
			return nil, fmt.Errorf("%q is no recurrence rule of RFC 5545: %w", text, err)
		}
		for _, local := range r.Between(low, high, true) {
			if s := resolve(local, loc); !s.At.Before(from) && s.At.Before(to) {
				out = append(out, s)
			}
		}
	}
	slices.SortFunc(out, func(a, b Start) int { return a.At.Compare(b.At) })
	return slices.CompactFunc(out, func(a, b Start) bool { return a.At.Equal(b.At) }), nil
}

// resolve turns a local time, written as if it were UTC, into the instant that it is in a
// zone: RFC 5545, section 3.3.5.
func resolve(local time.Time, loc *time.Location) Start {
	offset := func(at time.Time) time.Duration {
		_, s := at.In(loc).Zone()
		return time.Duration(s) * time.Second
	}
	before, after := local.Add(-offset(local.AddDate(0, 0, -1))), local.Add(-offset(local.AddDate(0, 0, 1)))
	shows := func(at time.Time) bool {
		x := at.In(loc)
		return x.Day() == local.Day() && x.Hour() == local.Hour() && x.Minute() == local.Minute()
	}
	const hm = "15:04"
	switch a, b := shows(before), shows(after); {
	case a && b && !before.Equal(after):
		return Start{before, local.Format(hm) + " comes twice that day; the first counts"}
	case a:
		return Start{before, ""}
	case b:
		return Start{after, ""}
	}
	return Start{before, local.Format(hm) + " is skipped that day; it starts at " + before.In(loc).Format(hm)}
}

// horizon is how far ahead a start is looked for: yearly rules with an interval may be
// rare, and 29 February is away for eight years where a century comes between.
const horizon = 12

// After is the first start later than an instant; false if there is none within twelve
// years.
func (c Calendar) After(t time.Time) (Start, bool, error) {
	if c.IsZero() {
		return Start{}, false, nil
	}
	// Most are near: look a little ahead first.
	from := t.Add(time.Nanosecond)
	for _, to := range []time.Time{t.AddDate(0, 0, 2), t.AddDate(0, 0, 40), t.AddDate(horizon, 0, 0)} {
		all, err := c.Between(from, to)
		if err != nil || len(all) > 0 {
			return first(all), len(all) > 0, err
		}
		from = to
	}
	return Start{}, false, nil
}

// Last is the last start that is later than an instant and not later than another; false if
// there is none. It is what is due now of what was done for an instant before.
func (c Calendar) Last(after, until time.Time) (at time.Time, ok bool, err error) {
	for {
		s, is, err := c.After(after)
		if err != nil || !is || s.At.After(until) {
			return at, ok, err
		}
		at, ok, after = s.At, true, s.At
	}
}

func first(all []Start) Start {
	if len(all) == 0 {
		return Start{}
	}
	return all[0]
}
