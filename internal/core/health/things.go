package health

import (
	"cmp"
	"fmt"
	"slices"
	"time"

	"kestrel/internal/core/span"
)

// Word is the health of something that is not a group.
type Word string

// The words, worst first.
const (
	Down     Word = "down"     // it does not do its work
	Strained Word = "strained" // it does, and something wants a hand
	Unknown  Word = "unknown"  // it cannot be told: what would tell does not answer
	Fine     Word = "fine"
)

// Rank orders words, 0 the worst. An unknown word ranks last.
func (w Word) Rank() int {
	if i := slices.Index([]Word{Down, Strained, Unknown, Fine}, w); i >= 0 {
		return i
	}
	return 4
}

// Condition is the health of something: a word, since when where that is known, why, and
// what would mend it.
type Condition struct {
	Word  Word
	Since time.Time
	Cause string
	Mend  string
}

func condition(w Word, since time.Time, mend, format string, a ...any) Condition {
	return Condition{w, since, fmt.Sprintf(format, a...), mend}
}

// LinkFacts is what is known of a link. All instants are on the judging site's clock.
type LinkFacts struct {
	Now     time.Time
	Peer    string
	Reached bool      // we reach the peer
	Called  bool      // it reaches us
	Seen    time.Time // when we last heard of each other; zero is never
	Looked  time.Time // since when we have listened
	Apart   time.Duration
	Room    bool // there is room in the peer's point store
	// Carries and Limit are bytes a second, lately and at most; a Limit of 0 is none. Late
	// is how many of its groups are over their targets or close to it.
	Carries, Limit int64
	Late           int
}

// patience is how long a service that has just started waits for others.
const patience = time.Minute

// fullLimit is the share of a limit from which it counts as taken up.
const fullLimit = 0.9

// OfLink judges a link.
func OfLink(f LinkFacts) Condition {
	const test = "Test the link: it says which step fails."
	switch {
	case f.Seen.IsZero() && f.Now.Sub(f.Looked) < patience:
		return condition(Unknown, f.Looked, "", "Nothing has been heard of %s since this service started.", f.Peer)
	case f.Seen.IsZero():
		return condition(Down, f.Looked, test, "%s has not answered since this service started.", f.Peer)
	case !f.Reached && !f.Called:
		return condition(Down, f.Seen, test, "%s has not answered for %s.", f.Peer, span.Format(f.Now.Sub(f.Seen)))
	case !f.Reached:
		return condition(Down, time.Time{}, test, "%s reaches this site, and this site does not reach it: groups that go out are cut off.", f.Peer)
	case !f.Called:
		return condition(Strained, time.Time{}, "Start "+f.Peer+" so that it can reach this site, or open its port.", "%s is reached, and does not reach this site: groups that come in are cut off.", f.Peer)
	case f.Apart.Abs() >= ClocksApart:
		return condition(Strained, time.Time{}, "Set both clocks by NTP.", "The clocks differ by %s, and exposure is wrong by as much.", span.Format(f.Apart.Abs()))
	case !f.Room:
		return condition(Strained, time.Time{}, "Make room there, or keep fewer points.", "The point store of %s is full.", f.Peer)
	case f.Late > 0 && f.Limit > 0 && float64(f.Carries) >= fullLimit*float64(f.Limit):
		return condition(Strained, time.Time{}, "Raise the limit, or promise less: the forecast says what would do.", "Its limit of %s/s is taken up, and %s.", span.Bytes(float64(f.Limit)), late(f.Late))
	}
	return Condition{Word: Fine}
}

func late(n int) string {
	if n == 1 {
		return "one group is late"
	}
	return fmt.Sprintf("%d groups are late", n)
}

// OfPeer judges the other site of a link: nothing is known of one that does not answer.
func OfPeer(f LinkFacts) Condition {
	c := OfLink(f)
	switch {
	case c.Word == Unknown:
		return c
	case c.Word == Down && !f.Called:
		return condition(Unknown, f.Seen, c.Mend, "Nothing is known of %s since it was last heard.", f.Peer)
	case !f.Room:
		return c
	}
	return Condition{Word: Fine}
}

// PlatformFacts is what is known of a platform.
type PlatformFacts struct {
	Now     time.Time
	Name    string
	Up      bool
	Seen    time.Time // when it last answered; zero is never
	Err     string    // why it does not
	Trouble string    // what it says is wrong in part, though it answers
}

// OfPlatform judges a platform.
func OfPlatform(f PlatformFacts) Condition {
	const mend = "See to the platform, or to its address and credentials; its connection test says which step fails."
	switch {
	case !f.Up && f.Seen.IsZero() && f.Err == "":
		return condition(Unknown, f.Seen, "", "%s has not been asked yet.", f.Name)
	case !f.Up && f.Seen.IsZero():
		return condition(Down, f.Seen, mend, "%s has never answered: %s", f.Name, sentence(f.Err))
	case !f.Up:
		return condition(Down, f.Seen, mend, "%s has not answered for %s: %s", f.Name, span.Format(f.Now.Sub(f.Seen)), sentence(f.Err))
	case f.Trouble != "":
		return condition(Strained, time.Time{}, mend, "%s", sentence(f.Trouble))
	}
	return Condition{Word: Fine}
}

// StoreFacts is what is known of a point store.
type StoreFacts struct {
	Now         time.Time
	Free, Floor int64     // bytes; what arrives leaves so much
	Fills       time.Time // when it is full at the pace of the last day; zero if it does not grow
	Bad         int       // records that cannot be read, and were not replaced
}

// FillsSoon is how long before a store is full it counts as strained.
const FillsSoon = 14 * span.Day

// OfStore judges a point store.
func OfStore(f StoreFacts) Condition {
	left := f.Fills.Sub(f.Now)
	const mend = "Make the disk larger, keep fewer points, or send long-term rungs elsewhere."
	switch {
	case f.Free < f.Floor:
		return condition(Down, time.Time{}, mend, "It is full: %s are free, and what arrives leaves %s. Cycles that arrive wait.", span.Bytes(float64(f.Free)), span.Bytes(float64(f.Floor)))
	case f.Bad > 0:
		return condition(Strained, time.Time{}, "They are asked for at home with the next cycles; see the store's page for points that are not whole.", "%s cannot be read.", records(f.Bad))
	case !f.Fills.IsZero() && left <= FillsSoon:
		return condition(Strained, time.Time{}, mend, "At the pace of the last day it is full in %s.", span.Format(max(left, time.Hour).Round(time.Hour)))
	}
	return Condition{Word: Fine}
}

func records(n int) string {
	if n == 1 {
		return "One record"
	}
	return fmt.Sprintf("%d records", n)
}

// MachineFacts is what is known of a protected machine.
type MachineFacts struct {
	Name      string
	Platform  Condition // of its platform, where that is of this site
	There     bool      // its platform has it
	Group     State     // its group's health
	GroupName string
	Restless  string // why it was not brought to rest at the last capture; empty if it was
	Undecided int    // new disks that nobody has decided about
}

// OfMachine judges a protected machine.
func OfMachine(f MachineFacts) Condition {
	switch {
	case f.Platform.Word == Down || f.Platform.Word == Unknown:
		return Condition{Unknown, f.Platform.Since, f.Platform.Cause, f.Platform.Mend}
	case !f.There:
		return condition(Down, time.Time{}, "Put it back, or take it out of "+f.GroupName+".", "Its platform does not have it any more.")
	case slices.Contains([]State{Over, Stalled, CutOff}, f.Group):
		return condition(Down, time.Time{}, "See its group.", "%s is %s.", f.GroupName, cmp.Or(map[State]string{Over: "over its target", Stalled: "stalled"}[f.Group], string(f.Group)))
	case f.Group == Tight:
		return condition(Strained, time.Time{}, "See its group.", "%s is close to its target.", f.GroupName)
	case f.Undecided > 0:
		return condition(Strained, time.Time{}, "Include it or leave it out, on the page of "+f.GroupName+".", "It has a new disk that is not copied until somebody decides.")
	case f.Restless != "":
		return condition(Strained, time.Time{}, "", "It was not brought to rest at the last capture: %s", sentence(f.Restless))
	}
	return Condition{Word: Fine}
}

func sentence(text string) string {
	for len(text) > 0 && (text[len(text)-1] == '.' || text[len(text)-1] == ' ') {
		text = text[:len(text)-1]
	}
	return text + "."
}

// Hold is how long something has to have been better before it counts as better: what comes
// and goes does not make people look up each time. It counts as worse at once.
const Hold = 30 * time.Second

// Steady is what something counts as over time. The zero value is nothing yet.
type Steady struct {
	Condition
	better time.Time // since when it has been better than it counts as
}

// Next gives what it counts as after another look at now.
func (s Steady) Next(c Condition, now time.Time) Steady {
	if c.Since.IsZero() || c.Since.After(now) {
		c.Since = now
	}
	switch {
	case s.Word == "" || s.Word == Unknown || c.Word.Rank() < s.Word.Rank():
		return Steady{Condition: c}
	case c.Word == s.Word:
		c.Since = s.Since
		return Steady{Condition: c}
	case s.better.IsZero() || now.Before(s.better):
		s.better = now
	case now.Sub(s.better) >= Hold:
		return Steady{Condition: c}
	}
	return s
}
