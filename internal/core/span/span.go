// Package span reads and writes lengths of time the way administrators say
// them: "90s", "15 min", "2 d", "1 h 30 min".
package span

import (
	"fmt"
	"math"
	"strconv"
	"strings"
	"time"
	"unicode"
)

// Day and Week are civil lengths without regard to daylight saving: retention
// and cadence are counted in elapsed time.
const (
	Day  = 24 * time.Hour
	Week = 7 * Day
	Year = 365 * Day
)

// Max is the longest span that Parse accepts: ten years.
const Max = 3650 * Day

// Times is so many units; what is too long to be told is as long as can be told, so that no
// huge number from outside comes out as a small or a negative one.
func Times[N int | int64](n N, unit time.Duration) time.Duration {
	switch most := int64(math.MaxInt64 / unit); {
	case int64(n) > most:
		return math.MaxInt64
	case int64(n) < -most:
		return math.MinInt64
	}
	return time.Duration(n) * unit
}

// unit gives the length of one unit and whether the name is known.
func unit(name string) (time.Duration, bool) {
	switch name {
	case "s", "sec", "second", "seconds":
		return time.Second, true
	case "m", "min", "minute", "minutes":
		return time.Minute, true
	case "h", "hour", "hours":
		return time.Hour, true
	case "d", "day", "days":
		return Day, true
	case "w", "week", "weeks":
		return Week, true
	case "y", "year", "years":
		return Year, true
	}
	return 0, false
}

// Parse reads a span: one or more pairs of a number and a unit (s, min, h, d,
// w, y), with or without blanks. It fails on anything else, on a negative span
// and on one beyond Max, with a message that says how to write it.
func Parse(s string) (time.Duration, error) {
	rest := strings.TrimSpace(strings.ToLower(s))
	if rest == "" {
		return 0, fmt.Errorf("an empty span; write it like 90s, 15min, 6h, 14d, 5w or 1y")
	}
	var total float64
	for rest != "" {
		digits := strings.IndexFunc(rest, func(r rune) bool { return !unicode.IsDigit(r) && r != '.' })
		if digits < 0 {
			return 0, fmt.Errorf("%q has no unit; use s, min, h, d, w or y", s)
		}
		if digits == 0 {
			return 0, fmt.Errorf("%q is not a span; write it like 90s, 15min, 6h, 14d, 5w or 1y", s)
		}
		n, err := strconv.ParseFloat(rest[:digits], 64)
		if err != nil {
			return 0, fmt.Errorf("%q is not a span; write it like 90s, 15min, 6h, 14d, 5w or 1y", s)
		}
		rest = strings.TrimLeft(rest[digits:], " ")
		end := strings.IndexFunc(rest, func(r rune) bool { return !unicode.IsLetter(r) })
		if end < 0 {
			end = len(rest)
		}
		u, ok := unit(rest[:end])
		if !ok {
			return 0, fmt.Errorf("%q has no unit that is known; use s, min, h, d, w or y", s)
		}
		total += n * float64(u)
		rest = strings.TrimLeft(rest[end:], " ")
	}
	if total > float64(Max) {
		return 0, fmt.Errorf("%q is longer than ten years", s)
	}
	return time.Duration(math.Round(total)), nil
}

// Format writes a span with at most two units, for reading: "21 min",
// "2 min 10 s", "1 h 22 min", "3 d". Spans under a second read "0 s".
func Format(d time.Duration) string {
	if d.Abs() < time.Second {
		return "0 s"
	}
	if d < 0 {
		return "-" + Format(-d)
	}
	d = d.Round(time.Second)
	if d%Year == 0 {
		return fmt.Sprintf("%d y", d/Year)
	}
	type part struct {
		n    int64
		name string
	}
	days, hours := int64(d/Day), int64(d%Day/time.Hour)
	mins, secs := int64(d%time.Hour/time.Minute), int64(d%time.Minute/time.Second)
	parts := []part{{days, "d"}, {hours, "h"}, {mins, "min"}, {secs, "s"}}
	for len(parts) > 1 && parts[0].n == 0 {
		parts = parts[1:]
	}
	out := fmt.Sprintf("%d %s", parts[0].n, parts[0].name)
	// Seconds beside ten minutes and more are noise to a reader.
	if len(parts) > 1 && parts[1].n > 0 && !(parts[0].name == "min" && parts[0].n >= 10) {
		out += fmt.Sprintf(" %d %s", parts[1].n, parts[1].name)
	}
	return out
}

// Precise is Format for lengths that may be short: "215 ms", "1.4 s", and from ten
// seconds on like Format.
func Precise(d time.Duration) string {
	switch {
	case d < 0:
		return "-" + Precise(-d)
	case d.Round(time.Millisecond) < time.Second:
		return fmt.Sprintf("%d ms", d.Round(time.Millisecond)/time.Millisecond)
	case d < 9950*time.Millisecond:
		return fmt.Sprintf("%.1f s", d.Seconds())
	}
	return Format(d)
}
