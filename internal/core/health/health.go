// Package health judges a protection group in one word.
package health

import "time"

// State is the health of a group.
type State string

// The states, worst first.
const (
	FailedOver State = "failed over" // it runs elsewhere than at its home, and somebody has to decide
	Over       State = "over"        // exposure above the RPO target
	Stalled    State = "stalled"     // no progress where there should be
	CutOff     State = "cut off"     // link or platform unreachable
	Tight      State = "tight"       // exposure above TightShare of the target
	Seeding    State = "seeding"     // the first copy is not sealed yet
	Paused     State = "paused"      // cycles are held by an administrator
	OnTarget   State = "on target"   // the promise is kept
)

// TightShare is the share of the target above which a group is tight.
const TightShare = 0.8

// StallAfter is how long a running cycle may move nothing, and a due cycle may
// fail to begin, before the group counts as stalled.
const StallAfter = 2 * time.Minute

// Rank orders states, 0 the worst. An unknown state ranks last.
func (s State) Rank() int {
	for i, x := range []State{FailedOver, Over, Stalled, CutOff, Tight, Seeding, Paused, OnTarget} {
		if s == x {
			return i
		}
	}
	return 8
}

// Facts is what a judgement rests on. All instants are on the judging site's
// clock.
type Facts struct {
	Now      time.Time
	Target   time.Duration
	Sealed   bool          // whether any point is sealed at the recovery site
	Exposure time.Duration // meaningful if Sealed

	// FailedOver says that it runs elsewhere than at its home since a failover that is not
	// accepted: its target says nothing meanwhile.
	FailedOver bool
	Paused     bool
	LinkUp     bool
	PlatformUp bool
	// LinkSeen and PlatformSeen are when they last answered, PausedAt is when cycles were
	// paused, and CreatedAt when the group was made; zero is not known.
	LinkSeen, PlatformSeen, PausedAt, CreatedAt time.Time

	Running      bool      // a cycle is under way
	LastProgress time.Time // when the running cycle last moved a byte or a phase
	DueSince     time.Time // when a cycle became due that has not begun; zero if none is
}

// Judge gives the worst state that the facts support.
func Judge(f Facts) State {
	switch {
	case f.FailedOver:
		return FailedOver
	case f.Sealed && f.Exposure > f.Target:
		return Over
	case !f.Paused && stalled(f) && f.LinkUp && f.PlatformUp:
		return Stalled
	case !f.Paused && (!f.LinkUp || !f.PlatformUp):
		return CutOff
	case f.Sealed && float64(f.Exposure) > TightShare*float64(f.Target):
		return Tight
	case f.Paused:
		return Paused
	case !f.Sealed:
		return Seeding
	}
	return OnTarget
}

// Since is since when a state has been so; zero if the facts do not tell. It follows from
// instants that are kept, so a restart does not change it.
func (f Facts) Since(s State) time.Time {
	captured := f.Now.Add(-f.Exposure)
	switch s {
	case Over:
		return captured.Add(f.Target)
	case Tight:
		return captured.Add(time.Duration(TightShare * float64(f.Target)))
	case Stalled:
		if f.Running {
			return f.LastProgress
		}
		return f.DueSince
	case CutOff:
		if !f.LinkUp {
			return f.LinkSeen
		}
		return f.PlatformSeen
	case Paused:
		return f.PausedAt
	case Seeding:
		return f.CreatedAt
	}
	return time.Time{}
}

func stalled(f Facts) bool {
	if f.Running {
		return !f.LastProgress.IsZero() && f.Now.Sub(f.LastProgress) > StallAfter
	}
	return !f.DueSince.IsZero() && f.Now.Sub(f.DueSince) > StallAfter
}
