// Package words puts what is known into the sentences that people read first. It
// knows nothing of how things are stored or shown.
package words

import (
	"cmp"
	"fmt"
	"slices"
	"strings"
	"time"

	"kestrel/internal/core/health"
	"kestrel/internal/core/span"
)

// Group is what the sentences need to know of a group.
type Group struct {
	ID, Name string
	State    health.State
	// Out says that this site is its home, Ended that only points are left of it.
	Out, Ended bool
	Sealed     bool // Exposure is known
	Exposure   time.Duration
	Target     time.Duration
	Points     int
	Newest     time.Time // capture of the newest point; zero if there is none
	LostPoints int
	// DeletedAt is when the points go because another site wants it; zero if none does.
	DeletedAt time.Time
	Reasons   []string
	// Held says that its machines run here since a failover that nobody has decided on, and
	// Twice are those that run here although it runs at the other site.
	Held  bool
	Twice []string
}

// Tone is how a phrase is meant.
type Tone string

// The tones.
const (
	Plain Tone = "plain"
	Over  Tone = "over"
	Tight Tone = "tight"
	Good  Tone = "good"
)

// Phrase is a piece of a headline.
type Phrase struct {
	Text string
	Tone Tone
}

// named is how many groups are named in a sentence; the rest are counted.
const named = 2

// Headline says in a few sentences what matters now, worst thing first. Links is
// how many sites this one is paired with.
func Headline(groups []Group, links int, now time.Time) []Phrase {
	var out []Phrase
	say := func(tone Tone, format string, a ...any) { out = append(out, Phrase{fmt.Sprintf(format, a...), tone}) }
	// What cannot be made good comes before all else.
	for _, g := range groups {
		if !g.DeletedAt.IsZero() {
			say(Over, "%s of %s %s to be deleted in %s.", Upper(Count(g.Points, "point")), g.Name, either(g.Points, "is", "are"), span.Format(max(0, g.DeletedAt.Sub(now))))
		}
	}
	var held []string
	for _, g := range groups {
		if len(g.Twice) > 0 {
			say(Over, "%s %s here although %s runs at the other site: there are two running copies.", Joined(g.Twice, named), either(len(g.Twice), "runs", "run"), g.Name)
		}
		if g.Held {
			held = append(held, g.Name)
		}
	}
	if len(held) > 0 {
		say(Over, "%s %s here since a failover that waits for a decision.", Joined(held, named), either(len(held), "runs", "run"))
	}
	live, ended := split(groups)
	if len(live) == 0 {
		switch {
		case len(ended) > 0:
			say(Plain, "%s", orphans(ended, now))
			say(Plain, "Start their machines here from a point, on the group's page or with: kestrel landing create %s", quoted(ended[0].Name))
		case links == 0:
			say(Plain, "Nothing is protected yet. Pair this site with another to begin.")
		default:
			say(Plain, "Nothing is protected yet. Make the first protection group.")
		}
		return out
	}
	by := map[health.State][]string{}
	kept := 0
	var over []string
	nover := 0
	for _, g := range live {
		by[g.State] = append(by[g.State], g.Name)
		if g.Sealed && g.Exposure <= g.Target {
			kept++
		}
		if g.State != health.Over {
			continue
		}
		if nover++; len(over) <= named { // of the others it is only told how many they are
			over = append(over, fmt.Sprintf("%s is %s over its %s target", g.Name, span.Format(g.Exposure-g.Target), span.Format(g.Target)))
		}
	}
	if nover > 0 {
		say(Over, "%s.", joined(over, named, nover))
	}
	for _, x := range []struct {
		st        health.State
		tone      Tone
		one, many string
	}{{health.Stalled, Over, "has stalled", "have stalled"}, {health.CutOff, Over, "is cut off", "are cut off"}, {health.Tight, Tight, "is close", "are close"}} {
		if ns := by[x.st]; len(ns) > 0 {
			say(x.tone, "%s %s.", Joined(ns, named), either(len(ns), x.one, x.many))
		}
	}
	switch total := len(live); {
	case kept == total && total == 1:
		say(Good, "The one group would lose less than it promised.")
	case kept == total:
		say(Good, "All %d groups would lose less than they promised.", total)
	default:
		say(Plain, "%d of %d groups would lose less than they promised.", kept, total)
	}
	if ns := by[health.Seeding]; len(ns) > 0 {
		say(Plain, "%s %s being copied for the first time.", Joined(ns, 2), either(len(ns), "is", "are"))
	}
	if len(ended) > 0 {
		say(Plain, "%s", orphans(ended, now))
	}
	return out
}

func split(groups []Group) (live, ended []Group) {
	for _, g := range groups {
		switch {
		case !g.Ended:
			live = append(live, g)
		case g.Points > 0:
			ended = append(ended, g)
		}
	}
	return live, ended
}

// orphans says what points there are of groups that have no home any more.
func orphans(ended []Group, now time.Time) string {
	points := 0
	var names []string
	for _, g := range ended {
		points += g.Points
		names = append(names, fmt.Sprintf("%s (%s, newest %s old)", g.Name, Count(g.Points, "point"), span.Format(now.Sub(g.Newest))))
	}
	if len(ended) == 1 {
		return fmt.Sprintf("Points are kept here of a group that has no home now: %s.", names[0])
	}
	return fmt.Sprintf("%s are kept here of %d groups that have no home now: %s.", Count(points, "point"), len(ended), Joined(names, 3))
}

func quoted(name string) string {
	if strings.ContainsAny(name, " '\"") {
		return "'" + strings.ReplaceAll(name, "'", `'\''`) + "'"
	}
	return name
}

// Dark says what would be lost if the site went dark now.
func Dark(site string, groups []Group) string {
	live, _ := split(groups)
	if len(live) == 0 {
		return ""
	}
	held := 0
	var out []*Group
	for i := range live {
		g := &live[i]
		held += g.Points
		if g.Out && g.Sealed {
			out = append(out, g)
		}
	}
	if len(out) == 0 {
		return fmt.Sprintf("No group goes out from %s yet · %s", site, Count(held, "recovery point"))
	}
	slices.SortStableFunc(out, func(a, b *Group) int { return cmp.Compare(b.Exposure, a.Exposure) })
	t := fmt.Sprintf("If %s went dark now: worst loss %s (%s)", site, span.Format(out[0].Exposure), out[0].Name)
	if len(out) > 1 {
		t += ", typical " + span.Format(out[len(out)/2].Exposure)
	}
	return t + " · " + Count(held, "recovery point")
}

// Need is something that wants a hand.
type Need struct {
	Group       string // ID
	State       health.State
	Title, Text string
}

// Needy tells whether a group wants a hand.
func (g Group) Needy() bool {
	return !g.Ended && (g.Held || len(g.Twice) > 0 || g.LostPoints > 0 || g.State == health.Over || g.State == health.Stalled || g.State == health.CutOff || g.State == health.Tight)
}

// Need is what wants a hand with a group, and whether anything does. Its text is made of
// the group's reasons.
func (g Group) Need() (Need, bool) {
	n := Need{Group: g.ID, State: g.State, Text: strings.Join(g.Reasons, " ")}
	switch {
	case g.Ended:
		return n, false
	case len(g.Twice) > 0:
		n.Title = g.Name + " runs at both sites"
	case g.Held:
		n.Title = g.Name + " runs here since a failover"
	case g.State == health.Over:
		n.Title = g.Name + " is over target"
	case g.State == health.Stalled:
		n.Title = g.Name + " has stalled"
	case g.State == health.CutOff:
		n.Title = g.Name + " is cut off"
	case g.State == health.Tight:
		n.Title = g.Name + " is close to its target"
	case g.LostPoints > 0:
		n.Title = g.Name + " has points that cannot be read whole"
	default:
		return n, false
	}
	if n.Text == "" && g.Sealed {
		n.Text = fmt.Sprintf("Exposure %s of %s.", span.Format(g.Exposure), span.Format(g.Target))
	}
	return n, true
}

// Joined lists names, and counts those beyond n.
func Joined(xs []string, n int) string { return joined(xs, n, len(xs)) }

// joined is Joined of so many in all, of which xs are the first.
func joined(xs []string, n, all int) string {
	switch {
	case len(xs) == 0:
		return ""
	case all > n+1:
		return fmt.Sprintf("%s and %d more", strings.Join(xs[:n], ", "), all-n)
	case len(xs) == 1:
		return xs[0]
	}
	return strings.Join(xs[:len(xs)-1], ", ") + " and " + xs[len(xs)-1]
}

// Count writes a number with its noun.
func Count(n int, noun string) string {
	if n == 1 {
		return "1 " + noun
	}
	return fmt.Sprintf("%d %ss", n, noun)
}

// Are counts things that are something: 1 point is, 2 points are.
func Are(n int, noun string) string { return Count(n, noun) + either(n, " is", " are") }

// Article puts "a" or "an" before a word.
func Article(word string) string {
	if word != "" && strings.ContainsRune("aeiou", rune(word[0])) {
		return "an " + word
	}
	return "a " + word
}

func either(n int, one, many string) string {
	if n == 1 {
		return one
	}
	return many
}

// Sentence makes a sentence of an error's text or the like.
func Sentence(text string) string {
	text = strings.TrimSuffix(strings.TrimSpace(text), ".")
	if text == "" {
		return ""
	}
	if strings.ContainsRune("?!…", []rune(text)[len([]rune(text))-1]) {
		return Upper(text)
	}
	return Upper(text) + "."
}

// LastLine is the last line of what a program said, as far as it can be shown: at most so
// many letters, and none that steer a terminal.
func LastLine(said string, most int) string {
	lines := strings.Split(strings.TrimSpace(strings.ToValidUTF8(said, "")), "\n")
	line := []rune(strings.Map(func(r rune) rune {
		if r < ' ' || r == 0x7f {
			return -1
		}
		return r
	}, lines[len(lines)-1]))
	return string(line[:min(len(line), most)])
}

// Upper begins a text with a capital.
func Upper(text string) string {
	r := []rune(text)
	if len(r) == 0 {
		return text
	}
	return strings.ToUpper(string(r[:1])) + string(r[1:])
}

// Nearest gives what somebody may have meant: the known name that is fewest
// changes of a letter away, if that is few for its length.
func Nearest(typed string, known []string) (string, bool) {
	best, least := "", len([]rune(typed))/3+1
	low := strings.ToLower(typed)
	for _, k := range known {
		d := distance([]rune(low), []rune(strings.ToLower(k)), least)
		if strings.HasPrefix(strings.ToLower(k), low) && len(low) > 2 {
			d = min(d, 1)
		}
		if d <= least && (d < least || best == "") {
			best, least = k, d
		}
	}
	return best, best != ""
}

// distance is the number of letters to put in, take out, change or swap with the
// next (optimal string alignment), or more than most if it is that.
func distance(a, b []rune, most int) int {
	if len(a)-len(b) > most || len(b)-len(a) > most {
		return most + 1
	}
	rows := make([][]int, len(a)+1)
	for i := range rows {
		rows[i] = make([]int, len(b)+1)
		rows[i][0] = i
	}
	for j := range rows[0] {
		rows[0][j] = j
	}
	for i := 1; i <= len(a); i++ {
		for j := 1; j <= len(b); j++ {
			change := 1
			if a[i-1] == b[j-1] {
				change = 0
			}
			rows[i][j] = min(rows[i-1][j]+1, rows[i][j-1]+1, rows[i-1][j-1]+change)
			if i > 1 && j > 1 && a[i-1] == b[j-2] && a[i-2] == b[j-1] {
				rows[i][j] = min(rows[i][j], rows[i-2][j-2]+1)
			}
		}
	}
	return rows[len(a)][len(b)]
}
