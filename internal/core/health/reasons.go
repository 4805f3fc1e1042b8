package health

import (
	"fmt"
	"strings"
	"time"

	"kestrel/internal/core/span"
)

// Detail is what reasons are given from, besides the facts of the judgement.
type Detail struct {
	Home, Recovery string
	AtHome         bool // the judging site is the home site
	// Silence is how long the other site has not answered; negative if it never did.
	Silence time.Duration
	// Failure is why the last attempt, or the platform, failed; empty if it did not.
	Failure string

	PauseReason string
	PausedUntil time.Time // zero: until it is resumed

	HomePointsFailure string // why points are not kept at home as well, where they should be

	LostPoints int
	LostBytes  int64 // of them not at home any more

	Every time.Duration // cadence
	Last  *Pass         // the newest sealed cycle of changes
	// Missed is what the last comparison found changed without the platform's
	// saying so, in bytes.
	Missed int64
	// Restless lists machines that were to be brought to rest at the last capture
	// and were not, with why.
	Restless []Restless
}

// Restless is a machine that was not brought to rest.
type Restless struct{ Machine, Why string }

// Pass is a cycle in the numbers that tell what held it up.
type Pass struct {
	Took         time.Duration
	ReadBytes    int64
	ChangedBytes int64
	WireBytes    int64
	// Limit is the link's limit in bytes a second while it ran; 0 for none.
	Limit int64
	// Read and Ship are how long the two stages lasted; they overlap.
	Read, Ship time.Duration
}

// Reasons says in sentences why a group is as it is.
func Reasons(f Facts, state State, d Detail) []string {
	out := []string{}
	add := func(format string, a ...any) { out = append(out, fmt.Sprintf(format, a...)) }
	other := d.Recovery
	if !d.AtHome {
		other = d.Home
	}
	failure := strings.TrimSuffix(d.Failure, ".")
	switch {
	case !f.LinkUp && d.Silence >= 0:
		add("%s has not answered for %s.", other, span.Format(d.Silence))
	case !f.LinkUp:
		add("%s has not answered.", other)
	case !f.PlatformUp && failure != "":
		add("The platform at %s cannot be used: %s.", d.Home, failure)
	case !f.PlatformUp:
		add("The platform at %s cannot be used.", d.Home)
	case failure != "":
		add("The last attempt failed: %s.", failure)
	}
	if f.Paused {
		text := "Cycles are paused"
		if !d.PausedUntil.IsZero() {
			text += " for another " + span.Format(d.PausedUntil.Sub(f.Now))
		}
		if d.PauseReason != "" {
			text += ": " + strings.TrimSuffix(d.PauseReason, ".")
		}
		out = append(out, text+".")
	}
	if d.HomePointsFailure != "" {
		add("No points are kept at %s: %s.", d.Home, strings.TrimSuffix(d.HomePointsFailure, "."))
	}
	if state == Stalled {
		if f.Running {
			add("The running cycle has moved nothing for %s.", span.Format(f.Now.Sub(f.LastProgress)))
		} else {
			add("A cycle has been due for %s and has not begun.", span.Format(f.Now.Sub(f.DueSince)))
		}
	}
	if state == Over || state == Tight {
		if t := whySlow(f.Target, d.Every, d.Last); t != "" {
			out = append(out, t)
		}
	}
	for _, r := range d.Restless {
		add("%s was not brought to rest at the last capture: %s. Its disks are as after a power cut.", r.Machine, strings.TrimSuffix(r.Why, "."))
	}
	if n := d.LostPoints; n > 0 {
		what := fmt.Sprintf("%d points", n)
		if n == 1 {
			what = "One point"
		}
		add("%s at %s cannot be read whole: %s", what, d.Recovery, Hope(d.LostBytes, d.Home))
	}
	if d.Missed > 0 {
		add("The last comparison found %s that had changed without the platform's reporting it. The newest points have it right; see to the platform.", span.Bytes(float64(d.Missed)))
	}
	return out
}

// Hope says what becomes of what points have lost, of which so many bytes are not
// at home any more.
func Hope(gone int64, home string) string {
	if gone == 0 {
		return home + " is asked for the bad blocks with the next cycle."
	}
	return fmt.Sprintf("%s of bad blocks are not at %s any more. Other points are not affected.", span.Bytes(float64(gone)), home)
}

// nearLimit is the share of a link's limit from which a cycle counts as held up by
// it.
const nearLimit = 0.7

// whySlow explains exposure by the newest cycle: whichever of link limit, link and
// source it was that it waited for.
func whySlow(target, every time.Duration, p *Pass) string {
	if p == nil {
		return ""
	}
	if p.Took > target/2 && p.ReadBytes > 0 {
		seconds := max(p.Took.Seconds(), 0.001)
		wire := float64(p.WireBytes) / seconds
		changed := span.Bytes(float64(p.ChangedBytes))
		switch {
		case p.Limit > 0 && wire >= nearLimit*float64(p.Limit):
			return fmt.Sprintf("The last cycle took %s: the link is limited to %s/s, and %s had to cross it.", span.Format(p.Took), span.Bytes(float64(p.Limit)), span.Bytes(float64(p.WireBytes)))
		case p.Ship > p.Read+p.Read/4 && p.WireBytes > 0:
			return fmt.Sprintf("The last cycle took %s: the link carried %s/s, and %s had to cross it.", span.Format(p.Took), span.Bytes(wire), span.Bytes(float64(p.WireBytes)))
		}
		return fmt.Sprintf("The last cycle took %s: the platform gave %s/s, and %s had changed.", span.Format(p.Took), span.Bytes(float64(p.ReadBytes)/seconds), changed)
	}
	if every > target*8/10 {
		return fmt.Sprintf("Cycles every %s leave little of the target of %s.", span.Format(every), span.Format(target))
	}
	return ""
}
