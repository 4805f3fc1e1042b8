package cadence

import (
	"fmt"
	"slices"
	"strings"
	"time"

	"kestrel/internal/core/calendar"
	"kestrel/internal/core/pace"
)

// Limits of quiet times.
const (
	MaxWindows = 20
	MaxDates   = 40
)

// Quiet is when no cycle starts by itself: hours of the week, and dates. Times are of a
// zone, by its wall clock: an hour that the clock skips is not quiet, and one that comes
// twice is quiet twice.
type Quiet struct {
	Windows []Window
	Dates   []Dates
	Zone    string // name of the time zone database; empty is UTC
}

// Window is hours of the week.
type Window struct {
	Days     pace.Days // on which it begins
	From, To int       // minutes after midnight; at or before From it ends the next day
}

// Dates is days, the first and the last included. Their times are not of any zone.
type Dates struct{ First, Last time.Time }

// dateForm is how dates are written (ISO 8601).
const dateForm = "2006-01-02"

// IsZero tells whether nothing is quiet.
func (q Quiet) IsZero() bool { return len(q.Windows)+len(q.Dates) == 0 }

// Equal tells whether two are the same.
func (q Quiet) Equal(o Quiet) bool {
	return slices.Equal(q.Windows, o.Windows) && slices.Equal(q.Dates, o.Dates) && q.Zone == o.Zone
}

// ParseQuiet reads quiet times as people write them, apart by semicolons: hours of the
// week such as "mon-fri 08:00-18:00" or "daily 22:00-02:00", dates such as "2026-12-24 to
// 2026-12-26". "None" is none.
func ParseQuiet(text, zone string) (Quiet, error) {
	q := Quiet{Zone: zone}
	if _, err := calendar.Location(zone); err != nil {
		return q, err
	}
	if t := strings.ToLower(strings.TrimSpace(text)); t == "none" || t == "" {
		return Quiet{}, nil
	}
	for part := range strings.SplitSeq(text, ";") {
		f := strings.Fields(strings.ToLower(part))
		switch {
		case len(f) == 0:
		case f[0][0] >= '0' && f[0][0] <= '9' && len(f[0]) == len(dateForm):
			d, err := parseDates(f)
			if err != nil {
				return q, err
			}
			q.Dates = append(q.Dates, d)
		default:
			w, err := parseWindow(f)
			if err != nil {
				return q, err
			}
			q.Windows = append(q.Windows, w)
		}
	}
	return q, q.Check()
}

func parseDates(f []string) (d Dates, err error) {
	last := f[len(f)-1]
	if len(f) != 1 && (len(f) != 3 || f[1] != "to") {
		return d, fmt.Errorf(`%q are no dates; write them like "2026-12-24 to 2026-12-26"`, strings.Join(f, " "))
	}
	if d.First, err = time.Parse(dateForm, f[0]); err == nil {
		d.Last, err = time.Parse(dateForm, last)
	}
	if err != nil {
		return d, fmt.Errorf("%q has no date as 2026-12-24", strings.Join(f, " "))
	}
	return d, nil
}

func parseWindow(f []string) (w Window, err error) {
	bad := fmt.Errorf(`%q is no quiet time; write "mon-fri 08:00-18:00", "daily 22:00-02:00" or "2026-12-24 to 2026-12-26"`, strings.Join(f, " "))
	if len(f) != 2 {
		return w, bad
	}
	from, to, ok := strings.Cut(f[1], "-")
	if !ok {
		return w, bad
	}
	if w.Days, err = pace.ParseDays(strings.NewReplacer("weekdays", "mon-fri", "weekends", "sat,sun").Replace(f[0])); err != nil {
		return w, err
	}
	if w.From, err = pace.ParseMinute(from); err == nil {
		w.To, err = pace.ParseMinute(to)
	}
	return w, err
}

// Check says what is wrong.
func (q Quiet) Check() error {
	if _, err := calendar.Location(q.Zone); err != nil {
		return err
	}
	if len(q.Windows) > MaxWindows || len(q.Dates) > MaxDates {
		return fmt.Errorf("at most %d quiet times of the week and %d of dates", MaxWindows, MaxDates)
	}
	for _, w := range q.Windows {
		switch {
		case w.Days == 0 || w.Days > pace.AllDays, w.From < 0 || w.From >= 24*60 || w.To <= 0 || w.To > 24*60:
			return fmt.Errorf("a quiet time is of days, from 00:00 to 24:00")
		case w.From == w.To:
			return fmt.Errorf("a quiet time ends when it begins")
		}
	}
	for _, d := range q.Dates {
		if d.Last.Before(d.First) {
			return fmt.Errorf("%s to %s end before they begin", d.First.Format(dateForm), d.Last.Format(dateForm))
		}
	}
	if from := time.Date(2026, 1, 5, 0, 0, 0, 0, time.UTC); q.weekLong(from) {
		return fmt.Errorf("the whole week is quiet, so that no cycle would ever start; use by hand for that")
	}
	return nil
}

// weekLong tells whether every minute of a week is in a window.
func (q Quiet) weekLong(monday time.Time) bool {
	p := pace.Plan{}
	for _, w := range q.Windows {
		p.Windows = append(p.Windows, pace.Window{Days: w.Days, From: w.From, To: w.To, Rate: 1})
	}
	for m := range 7 * 24 * 60 {
		if p.At(monday.Add(time.Duration(m)*time.Minute)) == 0 {
			return false
		}
	}
	return true
}

// String writes it as ParseQuiet reads it, without the zone.
func (q Quiet) String() string {
	if q.IsZero() {
		return "none"
	}
	var out []string
	for _, w := range q.Windows {
		out = append(out, w.Days.String()+" "+pace.FormatMinute(w.From)+"-"+pace.FormatMinute(w.To))
	}
	for _, d := range q.Dates {
		t := d.First.Format(dateForm)
		if !d.Last.Equal(d.First) {
			t += " to " + d.Last.Format(dateForm)
		}
		out = append(out, t)
	}
	return strings.Join(out, "; ")
}

func (q Quiet) location() *time.Location {
	loc, err := calendar.Location(q.Zone)
	if err != nil {
		return time.UTC // refused by Check
	}
	return loc
}

// Holds tells whether an instant is quiet.
func (q Quiet) Holds(t time.Time) bool {
	if q.IsZero() {
		return false
	}
	t = t.In(q.location())
	for _, w := range q.Windows {
		if (pace.Plan{Windows: []pace.Window{{Days: w.Days, From: w.From, To: w.To, Rate: 1}}}).At(t) > 0 {
			return true
		}
	}
	day := time.Date(t.Year(), t.Month(), t.Day(), 0, 0, 0, 0, time.UTC)
	return slices.ContainsFunc(q.Dates, func(d Dates) bool { return !day.Before(d.First) && !day.After(d.Last) })
}

// End is the first instant from t on that is not quiet: t itself, or the end of the quiet
// time. Quiet times end at whole minutes.
func (q Quiet) End(t time.Time) time.Time {
	if !q.Holds(t) {
		return t
	}
	// Day by day while the dates hold, then minute by minute to the end of a window.
	for limit := t.AddDate(12, 0, 0); t.Before(limit); {
		next := q.changeAfter(t)
		if !q.Holds(next) {
			return next
		}
		t = next
	}
	return t
}

// changeAfter is the next instant after t at which a window or a date may begin or end: a
// boundary of a window of that day, midnight, or where the clock is changed.
func (q Quiet) changeAfter(t time.Time) time.Time {
	loc := q.location()
	local := t.In(loc)
	midnight := time.Date(local.Year(), local.Month(), local.Day()+1, 0, 0, 0, 0, loc)
	out := midnight
	consider := func(at time.Time) {
		if at.After(t) && at.Before(out) {
			out = at
		}
	}
	for _, w := range q.Windows {
		for _, m := range []int{w.From, w.To} {
			// Where the clock goes back it may come twice.
			wall := time.Date(local.Year(), local.Month(), local.Day(), m/60, m%60, 0, 0, time.UTC)
			for _, near := range []time.Time{midnight.AddDate(0, 0, -1), midnight} {
				_, offset := near.Zone()
				consider(wall.Add(-time.Duration(offset) * time.Second))
			}
		}
	}
	if _, to := local.ZoneBounds(); !to.IsZero() {
		consider(to)
	}
	return out
}

// Longest is the longest quiet time that begins within a horizon from an instant, and
// where it begins.
func (q Quiet) Longest(from time.Time, horizon time.Duration) (longest time.Duration, at time.Time) {
	if q.IsZero() {
		return 0, time.Time{}
	}
	end := from.Add(horizon)
	for _, d := range q.Dates { // far ones count as well
		if last := d.Last.AddDate(0, 0, 2); last.After(end) && d.First.Before(from.AddDate(12, 0, 0)) {
			end = last
		}
	}
	for t := from; t.Before(end); {
		if !q.Holds(t) {
			t = q.changeAfter(t)
			continue
		}
		over := q.End(t)
		if over.Sub(t) > longest {
			longest, at = over.Sub(t), t
		}
		t = over
	}
	return longest, at
}
