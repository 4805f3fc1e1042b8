// Package pace decides how fast a link may be used at a time of the week, and
// shares that between those who use it at once. It has no clock of its own.
package pace

import (
	"errors"
	"fmt"
	"strings"
	"time"
)

// Plan is how fast a link may be used. Rates are in bytes a second; 0 is as fast
// as it goes.
type Plan struct {
	Rate    int64    `json:"rate"` // outside of all windows
	Windows []Window `json:"windows,omitempty"`
}

// Window is a time of the week with a rate of its own. Times are of the site's
// own time zone, by its wall clock.
type Window struct {
	Days Days  `json:"days"` // on which it begins
	From int   `json:"from"` // minutes after midnight, 0 to 1439
	To   int   `json:"to"`   // 1 to 1440; at or before From it ends the next day
	Rate int64 `json:"rate"`
}

// Days is a set of days of the week: bit 0 is Monday, bit 6 Sunday.
type Days uint8

// AllDays is the whole week.
const AllDays Days = 1<<7 - 1

func dayOf(w time.Weekday) Days { return 1 << ((w + 6) % 7) }

// At is the rate that holds at a time, which has to be in the site's zone: that
// of the first window that it lies in.
func (p Plan) At(t time.Time) int64 {
	for _, w := range p.Windows {
		if w.holds(t) {
			return w.Rate
		}
	}
	return p.Rate
}

func (w Window) holds(t time.Time) bool {
	minute := t.Hour()*60 + t.Minute()
	today, yesterday := w.Days&dayOf(t.Weekday()) != 0, w.Days&dayOf((t.Weekday()+6)%7) != 0
	if w.To > w.From {
		return today && minute >= w.From && minute < w.To
	}
	return today && minute >= w.From || yesterday && minute < w.To
}

// MaxWindows bounds a plan: more cannot be kept in mind.
const MaxWindows = 20

// MinRate is the least rate that can be set, in bytes a second. Less would not
// carry what two sites have to tell each other.
const MinRate = 16 << 10

// Check finds what cannot be meant.
func (p Plan) Check() error {
	if len(p.Windows) > MaxWindows {
		return fmt.Errorf("%d times of the week; at most %d", len(p.Windows), MaxWindows)
	}
	if err := checkRate(p.Rate); err != nil {
		return err
	}
	for n, w := range p.Windows {
		err := checkRate(w.Rate)
		switch {
		case err != nil:
		case w.Days == 0 || w.Days > AllDays:
			err = errors.New("no day of the week")
		case w.From < 0 || w.From >= 24*60 || w.To <= 0 || w.To > 24*60:
			err = errors.New("times are 00:00 to 24:00")
		case w.From == w.To:
			err = errors.New("it ends when it begins")
		}
		if err != nil {
			return fmt.Errorf("time %d of the week: %w", n+1, err)
		}
	}
	return nil
}

func checkRate(rate int64) error {
	if rate < 0 || rate > 0 && rate < MinRate {
		return fmt.Errorf("a rate of %d bytes a second; it is 0 for no limit, or at least %d", rate, MinRate)
	}
	return nil
}

var dayNames = [7]string{"mon", "tue", "wed", "thu", "fri", "sat", "sun"}

// String writes days like "mon-fri,sun"; "daily" is all.
func (d Days) String() string {
	if d == AllDays {
		return "daily"
	}
	var parts []string
	for i := 0; i < 7; i++ {
		if d&(1<<i) == 0 {
			continue
		}
		j := i
		for j < 6 && d&(1<<(j+1)) != 0 {
			j++
		}
		switch j - i {
		case 0:
			parts = append(parts, dayNames[i])
		case 1:
			parts = append(parts, dayNames[i], dayNames[j])
		default:
			parts = append(parts, dayNames[i]+"-"+dayNames[j])
		}
		i = j
	}
	return strings.Join(parts, ",")
}

// ParseDays reads what String writes; ranges may go over the end of the week.
func ParseDays(text string) (d Days, err error) {
	if strings.EqualFold(text, "daily") {
		return AllDays, nil
	}
	day := func(name string) (int, error) {
		for i, n := range dayNames {
			if strings.EqualFold(strings.TrimSpace(name), n) {
				return i, nil
			}
		}
		return 0, fmt.Errorf("%q is no day; write mon, tue, wed, thu, fri, sat, sun, or daily", name)
	}
	for part := range strings.SplitSeq(text, ",") {
		first, last, isRange := strings.Cut(part, "-")
		if !isRange {
			last = first
		}
		i, err := day(first)
		if err != nil {
			return 0, err
		}
		j, err := day(last)
		if err != nil {
			return 0, err
		}
		for ; ; i = (i + 1) % 7 {
			d |= 1 << i
			if i == j {
				break
			}
		}
	}
	return d, nil
}

// FormatMinute writes minutes after midnight as "08:30".
func FormatMinute(m int) string { return fmt.Sprintf("%02d:%02d", m/60, m%60) }

// ParseMinute reads what FormatMinute writes; "24:00" is the end of the day.
func ParseMinute(text string) (int, error) {
	var h, m int
	if n, err := fmt.Sscanf(text+" ", "%2d:%2d ", &h, &m); n != 2 || err != nil || h < 0 || m < 0 || m > 59 || h*60+m > 24*60 {
		return 0, fmt.Errorf("%q is no time of the day; write it like 08:30", text)
	}
	return h*60 + m, nil
}
