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
	// ClocksApart is by how much the other site's clock is off; 0 if it is not known.
	ClocksApart time.Duration
	// Failure is why the last attempt, or the platform, failed; empty if it did not.
	Failure string
	// Waiting is why a cycle is due and does not begin; empty if that is not so.
	Waiting string

	PauseReason string
	PausedUntil time.Time // zero: until it is resumed

	HomePointsFailure string // why points are not kept at home as well, where they should be

	LostPoints int
	LostBytes  int64 // of them not at home any more

	Every time.Duration // cadence
	Next  time.Time     // when the next cycle starts; zero is not known
	// Phase is what the running cycle does; empty if none runs.
	Phase string
	Last  *Pass // the newest sealed cycle of changes
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
	// Waited is how long it was due before it began, Took how long it lasted then.
	Waited, Took time.Duration
	ReadBytes    int64
	ChangedBytes int64
	WireBytes    int64
	// Limit is the link's limit in bytes a second while it ran; 0 for none.
	Limit int64
	// Read, Ship and Seal are how long the stages lasted; the first two overlap.
	Read, Ship, Seal time.Duration
}

// Culprit is what holds a group up.
type Culprit string

// The culprits.
const (
	Link     Culprit = "link"       // it does not answer, or carries too little
	Limit    Culprit = "link limit" // what people let the link carry
	Source   Culprit = "source"     // the platform's reads
	Store    Culprit = "store"      // the point store of the recovery site
	Places   Culprit = "places"     // so many cycles run at once, and no more may
	Cadence  Culprit = "cadence"    // cycles start too seldom
	Platform Culprit = "platform"   // it does not answer
	Clock    Culprit = "clock"      // the sites' clocks differ
	Pause    Culprit = "pause"      // people want it so
	Machine  Culprit = "machine"
	Attempt  Culprit = "attempt" // the last one failed
)

// Reason is why a group is as it is: what the culprit is, what it did, and what would mend
// it.
type Reason struct {
	Culprit Culprit
	Text    string
	Mend    string // empty if nothing needs to be done, or the text says it
}

// ClocksApart is from what difference on clocks make exposure wrong by more than it is
// shown with.
const ClocksApart = 5 * time.Second

type reasons []Reason

func (r *reasons) add(c Culprit, mend, format string, a ...any) {
	*r = append(*r, Reason{c, fmt.Sprintf(format, a...), mend})
}

// Reasons says why a group is as it is. Where it is not on target, the first is the cause.
func Reasons(f Facts, state State, d Detail) []Reason {
	out := reasons{}
	out.reached(f, d)
	if f.Paused {
		text := "Cycles are paused"
		if !d.PausedUntil.IsZero() {
			text += " for another " + span.Format(d.PausedUntil.Sub(f.Now))
		}
		if d.PauseReason != "" {
			text += ": " + strings.TrimSuffix(d.PauseReason, ".")
		}
		out.add(Pause, "Resume it when that is over.", "%s.", text)
	}
	if d.HomePointsFailure != "" {
		out.add(Store, "", "No points are kept at %s: %s.", d.Home, strings.TrimSuffix(d.HomePointsFailure, "."))
	}
	if state == Stalled {
		out.stalled(f, d)
	}
	if state == Over || state == Tight {
		out.late(f, d)
	}
	if d.ClocksApart.Abs() >= ClocksApart {
		out.add(Clock, "Set both clocks by NTP.", "The clocks of %s and %s differ by %s, and exposure is wrong by as much.", d.Home, d.Recovery, span.Format(d.ClocksApart.Abs()))
	}
	for _, r := range d.Restless {
		out.add(Machine, "", "%s was not brought to rest at the last capture: %s. Its disks are as after a power cut.", r.Machine, strings.TrimSuffix(r.Why, "."))
	}
	if n := d.LostPoints; n > 0 {
		what := fmt.Sprintf("%d points", n)
		if n == 1 {
			what = "One point"
		}
		out.add(Store, "", "%s at %s cannot be read whole: %s", what, d.Recovery, Hope(d.LostBytes, d.Home))
	}
	if d.Missed > 0 {
		out.add(Platform, "", "The last comparison found %s that had changed without the platform's reporting it. The newest points have it right; see to the platform.", span.Bytes(float64(d.Missed)))
	}
	return out
}

// reached says what does not answer, or failed.
func (r *reasons) reached(f Facts, d Detail) {
	other := d.Recovery
	if !d.AtHome {
		other = d.Home
	}
	failure := strings.TrimSuffix(d.Failure, ".")
	const test = "Test the link: it says which step fails."
	switch {
	case !f.LinkUp && d.Silence >= 0:
		r.add(Link, test, "%s has not answered for %s.", other, span.Format(d.Silence))
	case !f.LinkUp:
		r.add(Link, test, "%s has not answered.", other)
	case !f.PlatformUp && failure != "":
		r.add(Platform, "See to the platform, or to its credentials.", "The platform at %s cannot be used: %s.", d.Home, failure)
	case !f.PlatformUp:
		r.add(Platform, "See to the platform, or to its credentials.", "The platform at %s cannot be used.", d.Home)
	case failure != "":
		r.add(Attempt, "It is tried again by itself.", "The last attempt failed: %s.", failure)
	}
}

// stalled says what a group that gets no further waits for.
func (r *reasons) stalled(f Facts, d Detail) {
	if !f.Running {
		since := span.Format(f.Now.Sub(f.DueSince))
		if d.Waiting != "" {
			r.add(Places, morePlaces, "A cycle has been due for %s and has not begun: %s.", since, strings.TrimSuffix(d.Waiting, "."))
			return
		}
		r.add("", "", "A cycle has been due for %s and has not begun.", since)
		return
	}
	culprit, at := Source, "reading at "+d.Home
	switch d.Phase {
	case "ship":
		culprit, at = Link, "sending to "+d.Recovery
	case "seal":
		culprit, at = Store, "sealing at "+d.Recovery
	}
	r.add(culprit, "", "The running cycle has moved nothing for %s, %s.", span.Format(f.Now.Sub(f.LastProgress)), at)
}

// Hope says what becomes of what points have lost, of which so many bytes are not
// at home any more.
func Hope(gone int64, home string) string {
	if gone == 0 {
		return home + " is asked for the bad blocks with the next cycle."
	}
	return fmt.Sprintf("%s of bad blocks are not at %s any more. Other points are not affected.", span.Bytes(float64(gone)), home)
}

const (
	// nearLimit is the share of a link's limit from which a cycle counts as held up by it.
	nearLimit = 0.7
	// muchOf is the share of its time, or of the target, that a stage takes if it is what
	// holds a cycle up.
	muchOf = 0.5

	morePlaces = "Let more cycles run at once, or spread the cadences: see the calendar."
)

// late explains exposure: by what a due cycle waits for, by the newest one, or by the
// cadence, whichever it was that was measured.
func (r *reasons) late(f Facts, d Detail) {
	before := len(*r)
	if d.Waiting != "" && !f.Running {
		r.add(Places, morePlaces, "A cycle is due and waits: %s.", strings.TrimSuffix(d.Waiting, "."))
	}
	if d.Last != nil {
		r.slow(f, d, *d.Last)
	}
	switch {
	case len(*r) > before || f.Paused || !f.LinkUp || !f.PlatformUp:
	case d.Every > f.Target*8/10:
		r.add(Cadence, "Choose a shorter cadence, or a longer target.", "Cycles every %s leave little of the target of %s.", span.Format(d.Every), span.Format(f.Target))
	case f.Running:
		r.add("", "", "The next point is on its way; the last was captured %s ago.", span.Format(f.Exposure))
	case !d.Next.IsZero():
		r.add(Cadence, "", "The last point was captured %s ago, and the next cycle starts in %s.", span.Format(f.Exposure), span.Format(max(0, d.Next.Sub(f.Now))))
	}
}

// slow explains a late group by its newest cycle, if that took much of the target.
func (r *reasons) slow(f Facts, d Detail, p Pass) {
	much := time.Duration(muchOf * float64(f.Target))
	if p.Waited+p.Took <= much {
		return
	}
	took, seconds := span.Format(p.Took), max(p.Took.Seconds(), 0.001)
	wire := float64(p.WireBytes) / seconds
	crossed := span.Bytes(float64(p.WireBytes))
	switch {
	case p.Waited > p.Took:
		r.add(Places, morePlaces, "The last cycle waited %s before it could begin, and took %s.", span.Format(p.Waited), took)
	case p.ReadBytes <= 0:
	case float64(p.Seal) > muchOf*float64(p.Took):
		r.add(Store, "See what else the disks of that point store are used for.", "The last cycle took %s, %s of it to seal the point at %s.", took, span.Format(p.Seal), d.Recovery)
	case p.Limit > 0 && wire >= nearLimit*float64(p.Limit):
		r.add(Limit, "Raise the limit of the link, or give these hours another one.", "The last cycle took %s: the link is limited to %s/s, and %s had to cross it.", took, span.Bytes(float64(p.Limit)), crossed)
	case p.Ship > p.Read+p.Read/4 && p.WireBytes > 0:
		r.add(Link, "A faster link or a longer target: the forecast says what would do.", "The last cycle took %s: the link carried %s/s, and %s had to cross it.", took, span.Bytes(wire), crossed)
	default:
		r.add(Source, "See what else the storage of that platform is used for; fewer cycles at once on it leave each more.", "The last cycle took %s: the platform gave %s/s, and %s had changed.", took, span.Bytes(float64(p.ReadBytes)/seconds), span.Bytes(float64(p.ChangedBytes)))
	}
}
