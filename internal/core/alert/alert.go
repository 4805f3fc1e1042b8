// Package alert decides what somebody has to be told of: one alert for one cause, raised
// when it has been so for a while, cleared when it has not been so for a while.
package alert

import (
	"time"
)

// Kind is what is watched for.
type Kind string

// The kinds.
const (
	Over           Kind = "over target"
	Tight          Kind = "tight"
	Stalled        Kind = "stalled"
	LinkDown       Kind = "link down"
	PlatformAway   Kind = "platform away"
	Filling        Kind = "store filling"
	Full           Kind = "store full"
	NotReady       Kind = "not ready"
	DrillDue       Kind = "drill due"
	NotWhole       Kind = "not whole"
	NotAtRest      Kind = "not at rest"
	Clock          Kind = "clock"
	Certificate    Kind = "certificate ends"
	ForecastMissed Kind = "forecast missed"
	Undelivered    Kind = "not delivered"
	Unusual        Kind = "unusual change"
	FailedOver     Kind = "failed over"
	TwoCopies      Kind = "two copies"
	Unprotected    Kind = "unprotected"
)

// Level is how much it matters.
type Level string

// The levels.
const (
	Urgent  Level = "urgent"
	Warning Level = "warning"
)

// Member is a group as rules and silences see it; the zero value is none.
type Member struct {
	ID, Name, Tier string
	Tags           []string
}

// Thing is what an alert is about.
type Thing struct{ Kind, ID, Name string }

// Key is a cause: there is one alert for it.
type Key struct {
	Kind  Kind
	Thing string // its kind and ID
}

// KeyOf makes one.
func KeyOf(k Kind, t Thing) Key { return Key{k, t.Kind + "/" + t.ID} }

// Sign is something that is seen at a look.
type Sign struct {
	Kind
	Thing  Thing
	Member Member // the group that it is about, if it is about one
	Since  time.Time
	Text   string
	Mend   string
	// Left is how much is left or by how much it is off, of kinds that have a threshold.
	Left time.Duration
	// Causes are what it may follow from: while there is a sign or an alert of one of them,
	// the group belongs to that, and there is no alert of its own.
	Causes []Key
}

// Key is the cause that it stands for.
func (s Sign) Key() Key { return KeyOf(s.Kind, s.Thing) }

// Alert is one.
type Alert struct {
	ID     string
	Kind   Kind
	Thing  Thing
	Member Member
	Level  Level
	Text   string
	Mend   string
	// Members are the names of the groups that it explains.
	Members  []string
	Since    time.Time // when it began to be so
	RaisedAt time.Time
	// GoneAt is since when it is not so any more; ClearedAt when that had lasted.
	GoneAt, ClearedAt time.Time
	// ToldAt is when people were told first, EscalatedAt when others were.
	ToldAt, EscalatedAt time.Time
	AckedAt             time.Time
	AckedBy, AckNote    string
	// Silenced is who silenced it, and why; empty if nobody did.
	Silenced string
	// PartOf is the cause that took it over, when it was cleared for that.
	PartOf string
}

// Key is the cause that it stands for.
func (a Alert) Key() Key { return KeyOf(a.Kind, a.Thing) }

// Open tells whether it has not been cleared.
func (a Alert) Open() bool { return a.ClearedAt.IsZero() }

// Event is something that people are told of.
type Event string

// The events.
const (
	Raised    Event = "raised"
	Escalated Event = "escalated"
	Cleared   Event = "cleared"
)

// Telling is an event, and the names of the channels that are told; none is all.
type Telling struct {
	Event    Event
	Alert    Alert
	Channels []string
}

// Hold is how long something must not be so any more before its alert is cleared.
const Hold = time.Minute

// Title says in a few words what is wrong with what.
func (a Alert) Title() string {
	name := a.Thing.Name
	switch a.Kind {
	case Over:
		return name + " is over its target"
	case Tight:
		return name + " has been close to its target for long"
	case Stalled:
		return name + " has stalled"
	case LinkDown:
		return "the link with " + name + " is down"
	case PlatformAway:
		return "the platform " + name + " cannot be used"
	case Filling:
		return name + " is filling"
	case Full:
		return name + " is full"
	case NotReady:
		return name + " would not recover now"
	case DrillDue:
		return "a drill of " + name + " is due"
	case NotWhole:
		return name + " has points that are not whole"
	case NotAtRest:
		return "machines of " + name + " are not brought to rest"
	case Clock:
		return "the clock of " + name + " is off"
	case Certificate:
		return "a certificate of " + name + " ends"
	case ForecastMissed:
		return name + " fared worse than foretold"
	case Unusual:
		return "much changed in " + name + " that is not as usual"
	case Undelivered:
		return name + " is not told of alerts"
	}
	return string(a.Kind) + ": " + name
}
