package calendar

import (
	"fmt"
	"slices"
	"strconv"
	"strings"

	"github.com/teambition/rrule-go"
)

// Parse reads recurring times as people write them:
//
//	daily at 06:00, 12:30 and 18:00
//	weekdays at 02:00
//	mon, wed and fri at 21:00
//	last friday of the month at 22:00
//	1st and 15th of the month at 03:00
//	last day of the month at 23:30
//	24 december at 08:00
//
// several of them apart by semicolons, or recurrence rules of RFC 5545 as they are. What
// Words writes reads back the same.
func Parse(text, zone string) (Calendar, error) {
	c := Calendar{Zone: zone}
	for part := range strings.SplitSeq(text, ";") {
		if part = strings.TrimSpace(part); part == "" {
			continue
		}
		if isRule(text) { // its parts are apart by semicolons too
			c.Rules = nil
			for line := range strings.FieldsSeq(text) {
				c.Rules = append(c.Rules, strings.TrimPrefix(strings.ToUpper(line), "RRULE:"))
			}
			return c, c.Check()
		}
		rules, err := parsePart(strings.ToLower(part))
		if err != nil {
			return c, err
		}
		c.Rules = append(c.Rules, rules...)
	}
	if c.IsZero() {
		return c, fmt.Errorf(`no times; write them like "weekdays at 02:00" or "last friday of the month at 22:00"`)
	}
	return c, c.Check()
}

func isRule(text string) bool {
	t := strings.ToUpper(strings.TrimSpace(text))
	return strings.HasPrefix(t, "RRULE:") || strings.HasPrefix(t, "FREQ=")
}

var (
	dayCodes = []string{"MO", "TU", "WE", "TH", "FR", "SA", "SU"}
	dayNames = []string{"monday", "tuesday", "wednesday", "thursday", "friday", "saturday", "sunday"}
	months   = []string{"january", "february", "march", "april", "may", "june", "july", "august", "september", "october", "november", "december"}
	ordinals = []string{"first", "second", "third", "fourth", "fifth"}
)

// which finds a name by its beginning, three letters or more.
func which(names []string, text string) int {
	if len(text) < 3 {
		return -1
	}
	return slices.IndexFunc(names, func(n string) bool { return strings.HasPrefix(n, strings.TrimSuffix(text, ".")) })
}

func parsePart(text string) ([]string, error) {
	days, times, ok := strings.Cut(" "+text, " at ")
	if !ok {
		return nil, fmt.Errorf(`%q has no time; write it like "weekdays at 02:00"`, text)
	}
	on, err := parseDays(strings.TrimSpace(days))
	if err != nil {
		return nil, err
	}
	// Hours and minutes of a rule are combined, so each minute has a rule of its own.
	hours := map[int][]int{}
	for _, t := range list(times) {
		h, m, ok := strings.Cut(t, ":")
		hour, err1 := strconv.Atoi(h)
		minute, err2 := strconv.Atoi(m)
		if !ok || err1 != nil || err2 != nil || hour < 0 || hour > 23 || minute < 0 || minute > 59 || len(m) != 2 {
			return nil, fmt.Errorf("%q is no time of day; write it like 02:00", t)
		}
		if !slices.Contains(hours[minute], hour) {
			hours[minute] = append(hours[minute], hour)
		}
	}
	if len(hours) == 0 {
		return nil, fmt.Errorf(`%q has no time; write it like "weekdays at 02:00"`, text)
	}
	var out []string
	minutes := make([]int, 0, len(hours))
	for m := range hours {
		minutes = append(minutes, m)
	}
	slices.Sort(minutes)
	for _, m := range minutes {
		slices.Sort(hours[m])
		var hs []string
		for _, h := range hours[m] {
			hs = append(hs, strconv.Itoa(h))
		}
		out = append(out, fmt.Sprintf("%s;BYHOUR=%s;BYMINUTE=%d", on, strings.Join(hs, ","), m))
	}
	return out, nil
}

// list cuts at commas and the word and.
func list(text string) []string {
	var out []string
	for _, x := range strings.FieldsFunc(strings.ReplaceAll(" "+text+" ", " and ", ","), func(r rune) bool { return r == ',' }) {
		if x = strings.TrimSpace(x); x != "" {
			out = append(out, x)
		}
	}
	return out
}

func parseDays(text string) (string, error) {
	bad := fmt.Errorf(`%q is not known as days; write daily, weekdays, "mon, wed and fri", "last friday of the month", "1st and 15th of the month" or "24 december"`, text)
	switch text {
	case "", "daily", "every day":
		return "FREQ=DAILY", nil
	case "weekdays":
		return "FREQ=WEEKLY;BYDAY=MO,TU,WE,TH,FR", nil
	case "weekends":
		return "FREQ=WEEKLY;BYDAY=SA,SU", nil
	}
	if of, ok := strings.CutSuffix(text, " of the month"); ok {
		return parseMonthly(of, bad)
	}
	if rule, ok := parseDate(text); ok {
		return rule, nil
	}
	var codes []string
	for _, part := range list(text) {
		first, last, isRange := strings.Cut(part, "-")
		if !isRange {
			last = first
		}
		i, j := which(dayNames, strings.TrimSpace(first)), which(dayNames, strings.TrimSpace(last))
		if i < 0 || j < 0 {
			return "", bad
		}
		for ; ; i = (i + 1) % 7 {
			if !slices.Contains(codes, dayCodes[i]) {
				codes = append(codes, dayCodes[i])
			}
			if i == j {
				break
			}
		}
	}
	if len(codes) == 0 {
		return "", bad
	}
	slices.SortFunc(codes, func(a, b string) int { return slices.Index(dayCodes, a) - slices.Index(dayCodes, b) })
	return "FREQ=WEEKLY;BYDAY=" + strings.Join(codes, ","), nil
}

// parseDate reads a day of the year, such as 24 december.
func parseDate(text string) (string, bool) {
	f := strings.Fields(text)
	if len(f) != 2 {
		return "", false
	}
	day, err := strconv.Atoi(strings.TrimRight(f[0], "stndrh."))
	m := which(months, f[1])
	if err != nil || m < 0 || day < 1 || day > 31 {
		return "", false
	}
	return fmt.Sprintf("FREQ=YEARLY;BYMONTH=%d;BYMONTHDAY=%d", m+1, day), true
}

func parseMonthly(text string, bad error) (string, error) {
	if f := strings.Fields(text); len(f) == 2 && !strings.Contains(text, ",") {
		n := which(ordinals, f[0]) + 1
		if f[0] == "last" {
			n = -1
		} else if k, err := strconv.Atoi(strings.TrimRight(f[0], "stndrh")); err == nil {
			n = k
		}
		if n == -1 && f[1] == "day" {
			return "FREQ=MONTHLY;BYMONTHDAY=-1", nil
		}
		d := which(dayNames, f[1])
		if n == 0 || n > 5 || d < 0 {
			return "", bad
		}
		return fmt.Sprintf("FREQ=MONTHLY;BYDAY=%+d%s", n, dayCodes[d]), nil
	}
	var days []string
	for _, part := range list(text) {
		n, err := strconv.Atoi(strings.TrimRight(part, "stndrh."))
		if err != nil || n < 1 || n > 31 {
			return "", bad
		}
		days = append(days, strconv.Itoa(n))
	}
	if len(days) == 0 {
		return "", bad
	}
	return "FREQ=MONTHLY;BYMONTHDAY=" + strings.Join(days, ","), nil
}

// Words writes a calendar as people would: as Parse reads it, and the rules as they are
// where they say more than that.
func (c Calendar) Words() string {
	var out []string
	byDays := map[string][]string{}
	for _, text := range c.Rules {
		o, err := option(text)
		if err != nil {
			return strings.Join(c.Rules, " ")
		}
		days, ok := daysOf(o)
		if !ok {
			return strings.Join(c.Rules, " ")
		}
		if !slices.Contains(out, days) {
			out = append(out, days)
		}
		for _, h := range o.Byhour {
			for _, m := range o.Byminute {
				byDays[days] = append(byDays[days], fmt.Sprintf("%02d:%02d", h, m))
			}
		}
	}
	for i, days := range out {
		times := byDays[days]
		slices.Sort(times)
		out[i] = days + " at " + joined(slices.Compact(times))
	}
	return strings.Join(out, "; ")
}

// joined writes "a, b and c".
func joined(xs []string) string {
	if len(xs) < 2 {
		return strings.Join(xs, "")
	}
	return strings.Join(xs[:len(xs)-1], ", ") + " and " + xs[len(xs)-1]
}

// daysOf says on which days a rule recurs, if there are words for it.
func daysOf(o *rrule.ROption) (string, bool) {
	if o.Interval > 1 || len(o.Bysetpos)+len(o.Byyearday)+len(o.Byweekno) > 0 {
		return "", false
	}
	switch {
	case o.Freq == rrule.DAILY && len(o.Byweekday)+len(o.Bymonthday)+len(o.Bymonth) == 0:
		return "daily", true
	case o.Freq == rrule.WEEKLY && len(o.Bymonthday)+len(o.Bymonth) == 0:
		return weekdays(o.Byweekday)
	case o.Freq == rrule.MONTHLY && len(o.Bymonth) == 0 && len(o.Byweekday) == 1 && len(o.Bymonthday) == 0:
		n, d := o.Byweekday[0].N(), o.Byweekday[0].Day()
		switch {
		case n == -1:
			return "last " + dayNames[d] + " of the month", true
		case n >= 1 && n <= 5:
			return ordinals[n-1] + " " + dayNames[d] + " of the month", true
		}
	case o.Freq == rrule.MONTHLY && len(o.Bymonth)+len(o.Byweekday) == 0:
		if slices.Equal(o.Bymonthday, []int{-1}) {
			return "last day of the month", true
		}
		var days []string
		for _, d := range o.Bymonthday {
			if d < 1 {
				return "", false
			}
			days = append(days, ordinal(d))
		}
		return joined(days) + " of the month", true
	case o.Freq == rrule.YEARLY && len(o.Bymonth) == 1 && len(o.Bymonthday) == 1 && len(o.Byweekday) == 0 && o.Bymonthday[0] > 0:
		return fmt.Sprintf("%d %s", o.Bymonthday[0], months[o.Bymonth[0]-1]), true
	}
	return "", false
}

func ordinal(n int) string {
	suffix := "th"
	if n/10 != 1 {
		suffix = map[int]string{1: "st", 2: "nd", 3: "rd"}[n%10]
		if suffix == "" {
			suffix = "th"
		}
	}
	return strconv.Itoa(n) + suffix
}

func weekdays(ds []rrule.Weekday) (string, bool) {
	var on []int
	for _, d := range ds {
		if d.N() != 0 {
			return "", false
		}
		on = append(on, d.Day())
	}
	slices.Sort(on)
	on = slices.Compact(on)
	switch {
	case len(on) == 7:
		return "daily", true
	case slices.Equal(on, []int{0, 1, 2, 3, 4}):
		return "weekdays", true
	case slices.Equal(on, []int{5, 6}):
		return "weekends", true
	}
	var names []string
	for _, d := range on {
		if len(on) == 1 {
			return dayNames[d], true
		}
		names = append(names, dayNames[d][:3])
	}
	return joined(names), true
}
