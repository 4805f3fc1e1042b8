// Package ladder decides which recovery points are kept: a ladder of rungs,
// such as "everything for 6 h, then hourly for 2 d, daily for 14 d".
package ladder

import (
	"fmt"
	"sort"
	"strconv"
	"strings"
	"time"

	"kestrel/internal/core/span"
)

// Rung keeps one point out of each stretch of length Each, up to the age For.
// Each zero keeps every point.
type Rung struct {
	Each time.Duration
	For  time.Duration
	// Months cuts time into so many months of the calendar, 12 being years; Each is then
	// about as long.
	Months int
	// Locked says that nobody may delete what the rung keeps until it is so old: see
	// Locks.
	Locked bool
	// LongTerm says that what the rung keeps belongs in the long-term store.
	LongTerm bool
}

// Ladder is a list of rungs from the finest and youngest to the coarsest and
// oldest.
type Ladder []Rung

// Point is what the ladder needs to know of a recovery point.
type Point struct {
	ID      string
	Capture time.Time
	Rests   bool // application-consistent
	Pinned  bool // pinned points are out of the ladder's reach
	InUse   bool // being read: exported, served or recovered from
}

// Verdict says what becomes of one point.
type Verdict struct {
	Point Point
	Keep  bool
	// Rung is the index of the rung that keeps the point, or -1 where it is
	// kept for another reason or not at all.
	Rung int
	// Near says that something but a long-term rung keeps the point, so that it belongs in
	// the point store. Far says that a long-term rung keeps it, and Settled that no point
	// that is still to come can take its place there.
	Near, Far, Settled bool
	// Why is one of "rung", "newest", "pinned", "in use", "least", "held back", "past the
	// ladder" and "thinned".
	Why string
}

// Keep is a ladder with what it is judged by besides.
type Keep struct {
	Ladder
	// In is the zone of which days, weeks, months and hours are; nil is UTC.
	In *time.Location
	// Least is how many of the newest points always stay.
	Least int
}

// Judge is Keep.Judge in UTC.
func (l Ladder) Judge(points []Point, now time.Time) []Verdict {
	return Keep{Ladder: l}.Judge(points, now)
}

// monday begins a week, from which days are counted.
var monday = time.Date(1970, 1, 5, 0, 0, 0, 0, time.UTC)

// stretch numbers the stretch of a rung that an instant lies in, by the wall clock of a
// zone: hours, days, weeks from Monday and months begin as they do there. Where the clock
// goes back, the hour that comes twice is one stretch.
func (r Rung) stretch(at time.Time, in *time.Location) int64 {
	if in == nil {
		in = time.UTC
	}
	t := at.In(in)
	if r.Months > 0 {
		return int64(t.Year()*12+int(t.Month())-1) / int64(r.Months)
	}
	wall := time.Date(t.Year(), t.Month(), t.Day(), t.Hour(), t.Minute(), t.Second(), t.Nanosecond(), time.UTC).Sub(monday)
	n := wall / r.Each
	if wall < 0 && wall%r.Each != 0 {
		n--
	}
	return int64(n)
}

// all tells whether a rung keeps every point.
func (r Rung) all() bool { return r.Each <= 0 && r.Months == 0 }

// stands finds the point that stands for each stretch of a rung: the newest that is
// application-consistent, or else the newest. Points are newest first. It does not hang on
// how old they are, so that one that was let go is never needed again.
func (k Keep) stands(r Rung, sorted []Point) map[int64]int {
	out := map[int64]int{}
	if r.all() {
		return out
	}
	for i, p := range sorted {
		n := r.stretch(p.Capture, k.In)
		if at, ok := out[n]; !ok || p.Rests && !sorted[at].Rests {
			out[n] = i
		}
	}
	return out
}

// Judge gives a verdict for every point at the instant now, newest first. The
// newest points, pinned points and points in use are always kept. Within a
// rung, time is cut into stretches and one point of each is kept, so a verdict never
// depends on when the pruning happened to run.
func (k Keep) Judge(points []Point, now time.Time) []Verdict {
	sorted := append([]Point(nil), points...)
	sort.SliceStable(sorted, func(i, j int) bool { return sorted[i].Capture.After(sorted[j].Capture) })
	out := make([]Verdict, len(sorted))
	for i, p := range sorted {
		out[i] = Verdict{Point: p, Rung: -1, Why: "past the ladder"}
	}
	for r, rung := range k.Ladder {
		stands := k.stands(rung, sorted)
		for i, p := range sorted {
			v := &out[i]
			switch {
			case now.Sub(p.Capture) > rung.For:
			case rung.all() || stands[rung.stretch(p.Capture, k.In)] == i:
				if !v.Keep {
					v.Keep, v.Rung, v.Why = true, r, "rung"
				}
				settled := rung.all() || rung.stretch(now, k.In) > rung.stretch(p.Capture, k.In)
				v.Near = v.Near || !rung.LongTerm
				v.Far = v.Far || rung.LongTerm
				v.Settled = v.Settled || rung.LongTerm && settled
			case !v.Keep:
				v.Why = "thinned"
			}
		}
	}
	for i := range out {
		v := &out[i]
		why := ""
		switch {
		case i == 0:
			why = "newest"
		case v.Point.Pinned:
			why = "pinned"
		case v.Point.InUse:
			why = "in use"
		case i < k.Least:
			why = "least"
		}
		if !v.Keep && why != "" {
			v.Keep, v.Why = true, why
		}
		// Pinned and used points stay where they are.
		v.Near = v.Near || i == 0 || i < k.Least || v.Keep && !v.Settled
	}
	return out
}

// Hold says until when nobody may delete a point.
type Hold struct {
	ID    string
	Until time.Time
}

// Locks tells which points the locked rungs hold, and until when: of each stretch that is
// over the newest, until it is as old as the rung reaches; of a rung that keeps every
// point, each. While a stretch goes on, another point may still come to stand for it.
func (l Ladder) Locks(points []Point, now time.Time) []Hold {
	return Keep{Ladder: l}.Locks(points, now)
}

// Locks is Ladder.Locks in a zone.
func (k Keep) Locks(points []Point, now time.Time) []Hold {
	sorted := append([]Point(nil), points...)
	sort.SliceStable(sorted, func(i, j int) bool { return sorted[i].Capture.After(sorted[j].Capture) })
	until := map[string]time.Time{}
	for _, r := range k.Ladder {
		if !r.Locked {
			continue
		}
		stands := k.stands(r, sorted)
		for i, p := range sorted {
			over := p.Capture.Add(r.For)
			if !now.Before(over) {
				continue
			}
			if !r.all() {
				n := r.stretch(p.Capture, k.In)
				if stands[n] != i || r.stretch(now, k.In) <= n {
					continue
				}
			}
			if over.After(until[p.ID]) {
				until[p.ID] = over
			}
		}
	}
	var out []Hold
	for id, at := range until {
		out = append(out, Hold{id, at})
	}
	sort.Slice(out, func(i, j int) bool { return out[i].ID < out[j].ID })
	return out
}

// Loss is what a change of ladder would drop at once.
type Loss struct {
	Points []Point // newest first
	// Oldest is the capture of the oldest point that would be left, if any is.
	Oldest time.Time
}

// Lost tells which of the points that the ladder before keeps a new one lets go.
func (l Ladder) Lost(to Ladder, points []Point, now time.Time) Loss {
	return Keep{Ladder: l}.Lost(Keep{Ladder: to}, points, now)
}

// Lost is Ladder.Lost with what is judged by besides.
func (k Keep) Lost(to Keep, points []Point, now time.Time) Loss {
	kept := map[string]bool{}
	for _, v := range k.Judge(points, now) {
		kept[v.Point.ID] = v.Keep
	}
	var out Loss
	for _, v := range to.Judge(points, now) {
		if v.Keep {
			out.Oldest = v.Point.Capture
		} else if kept[v.Point.ID] {
			out.Points = append(out.Points, v.Point)
		}
	}
	return out
}

// Cut is a ladder that was made shorter.
type Cut struct {
	At     time.Time // when
	Before Ladder    // what was kept until then
}

// Slowed judges points by l, which others made shorter, as far as a ladder of one's
// own allows: a point that was captured before a cut, and that the ladder of then and
// least both keep, stays. Such a point's verdict is "held back".
func (l Ladder) Slowed(points []Point, now time.Time, cuts []Cut, least Ladder) []Verdict {
	return Keep{Ladder: l}.Slowed(points, now, cuts, least)
}

// Slowed is Ladder.Slowed with what is judged by besides; cuts and least are judged in the
// same zone.
func (k Keep) Slowed(points []Point, now time.Time, cuts []Cut, least Ladder) []Verdict {
	out := k.Judge(points, now)
	if len(cuts) == 0 || len(least) == 0 {
		return out
	}
	keeps := func(by Ladder) map[string]bool {
		kept := map[string]bool{}
		for _, v := range (Keep{Ladder: by, In: k.In, Least: k.Least}).Judge(points, now) {
			kept[v.Point.ID] = v.Keep
		}
		return kept
	}
	own := keeps(least)
	for _, c := range cuts {
		then := keeps(c.Before)
		for i, v := range out {
			if !v.Keep && !v.Point.Capture.After(c.At) && then[v.Point.ID] && own[v.Point.ID] {
				out[i].Keep, out[i].Near, out[i].Why = true, true, "held back"
			}
		}
	}
	return out
}

// Count foretells how many points each rung holds in the steady state when
// cycles start every cadence. A zero cadence (by hand) counts nothing.
func (l Ladder) Count(cadence time.Duration) []int {
	out := make([]int, len(l))
	if cadence <= 0 {
		return out
	}
	var younger time.Duration
	for i, r := range l {
		each := max(r.Each, cadence)
		if r.For > younger {
			out[i] = int((r.For - younger) / each)
			if i == 0 {
				out[i]++ // the newest, of age zero
			}
			younger = r.For
		}
	}
	return out
}

// Reach is the age of the oldest point that the ladder keeps.
func (l Ladder) Reach() time.Duration {
	var reach time.Duration
	for _, r := range l {
		reach = max(reach, r.For)
	}
	return reach
}

// String writes the ladder as it is typed: "all 6h, 1h 2d, 1d 14d".
func (l Ladder) String() string {
	parts := make([]string, len(l))
	for i, r := range l {
		each := "all"
		if r.Each > 0 {
			each = short(r.Each)
			if r.Months > 0 {
				each = map[int]string{1: "monthly", 12: "yearly"}[r.Months]
			}
		}
		parts[i] = each + " " + short(r.For)
		if r.LongTerm {
			parts[i] += " long-term"
		}
		if r.Locked {
			parts[i] += " locked"
		}
	}
	return strings.Join(parts, ", ")
}

func short(d time.Duration) string {
	for _, u := range []struct {
		d time.Duration
		n string
	}{{span.Year, "y"}, {span.Week, "w"}, {span.Day, "d"}, {time.Hour, "h"}, {time.Minute, "min"}} {
		if d >= u.d && d%u.d == 0 {
			return fmt.Sprintf("%d%s", d/u.d, u.n)
		}
	}
	return fmt.Sprintf("%ds", d/time.Second)
}

// Parse reads a ladder as people say it: rungs apart by commas (or the word
// "then"), each one of
//
//	all 6h                 everything, up to that age
//	1h 2d, hourly for 2d   one an hour, up to that age
//	24 hourly              one an hour, 24 of them
//	3 a day for 5 days     one every eight hours, up to that age
//	1d 14d locked          the same as 1d 14d, and nobody may delete those before
//	monthly 2y long-term   one a month, kept in the long-term store once the month is over
//
// in any case, with or without blanks before units; a comma at the end is
// forgiven. What String writes reads back the same.
func Parse(s string) (Ladder, error) {
	text := strings.ToLower(strings.TrimSpace(s))
	text = strings.NewReplacer(", then ", ", ", " then ", ", ").Replace(text)
	text = strings.TrimRight(text, ", .")
	if text == "" {
		return nil, fmt.Errorf(`an empty ladder; write it like "all 6h, 1h 2d, 1d 14d"`)
	}
	var out Ladder
	for _, part := range strings.Split(text, ",") {
		part, locked := strings.CutSuffix(strings.TrimSpace(part), " locked")
		part, far := strings.CutSuffix(strings.TrimSpace(part), " long-term")
		if !locked { // either may come first
			part, locked = strings.CutSuffix(strings.TrimSpace(part), " locked")
		}
		r, err := parseRung(strings.TrimSpace(part))
		if err != nil {
			return nil, err
		}
		r.Locked, r.LongTerm = locked, far
		out = append(out, r)
	}
	return out, nil
}

// often are the words for how often, with the lengths of time they stand for.
func often(word string) (time.Duration, bool) {
	switch word {
	case "hourly", "hour":
		return time.Hour, true
	case "daily", "day":
		return span.Day, true
	case "weekly", "week":
		return span.Week, true
	case "monthly", "month":
		return 30 * span.Day, true
	case "yearly", "year":
		return span.Year, true
	}
	return 0, false
}

// months are those of the calendar that a word for how often stands for; 0 if for none.
func months(word string) int {
	return map[string]int{"monthly": 1, "yearly": 12}[word]
}

func parseRung(text string) (Rung, error) {
	bad := fmt.Errorf(`%q is not a rung; write "all 6h", "1h 2d" (one an hour up to two days), "24 hourly" or "3 a day for 5 days", rungs apart by commas, each with "locked" or "long-term" after it if it is to be`, text)
	f := strings.Fields(strings.NewReplacer(" per ", " a ", " an ", " a ", "everything", "all").Replace(" " + text + " "))
	if len(f) == 0 {
		return Rung{}, bad
	}
	reach := func(words []string) (time.Duration, error) {
		if len(words) > 0 && (words[0] == "for" || words[0] == "to") {
			words = words[1:]
		}
		if len(words) == 0 {
			return 0, bad
		}
		d, err := span.Parse(strings.Join(words, " "))
		if err != nil {
			return 0, fmt.Errorf("%w (in the rung %q)", err, text)
		}
		return d, nil
	}
	if f[0] == "all" {
		d, err := reach(f[1:])
		return Rung{For: d}, err
	}
	if each, ok := often(f[0]); ok { // hourly for 2d
		d, err := reach(f[1:])
		return Rung{Each: each, For: d, Months: months(f[0])}, err
	}
	if n, err := strconv.Atoi(f[0]); err == nil && len(f) > 1 && n > 0 {
		if each, ok := often(f[1]); ok && strings.HasSuffix(f[1], "ly") { // 24 hourly
			switch {
			case len(f) > 2:
				return Rung{}, bad
			case int64(n) > int64(span.Max/each):
				return Rung{}, fmt.Errorf("%q reaches back further than ten years", text)
			}
			return Rung{Each: each, For: time.Duration(n) * each, Months: months(f[1])}, nil
		}
		if f[1] == "a" && len(f) > 3 { // 3 a day for 5 days
			per, ok := often(f[2])
			if !ok {
				return Rung{}, bad
			}
			d, err := reach(f[3:])
			return Rung{Each: (per / time.Duration(n)).Truncate(time.Second), For: d}, err
		}
	}
	// SPAN SPAN, where a span may have a blank before its unit.
	for i := 1; i < len(f); i++ {
		each, err1 := span.Parse(strings.Join(f[:i], " "))
		d, err2 := reach(f[i:])
		if err1 == nil && err2 == nil {
			return Rung{Each: each, For: d}, nil
		}
	}
	return Rung{}, bad
}
