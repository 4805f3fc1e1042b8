package cycle

import (
	"time"

	"kestrel/internal/platform"
)

// States of a cycle.
const (
	Running = "running"
	Waiting = "waiting" // was cut off; goes on when it can
	Sealed  = "sealed"
	Failed  = "failed" // ended without a point
)

// Account is what is told of a cycle: to people, and to the recovery site. Its JSON
// form is sent over the link; fields may be added.
type Account struct {
	ID           string           `json:"id"`
	Number       int64            `json:"number"`
	Kind         string           `json:"kind"`
	State        string           `json:"state"`
	StartedAt    time.Time        `json:"startedAt"`
	EndedAt      time.Time        `json:"endedAt"`   // zero while it is open
	CaptureAt    time.Time        `json:"captureAt"` // zero before the capture
	Phases       []Phase          `json:"phases,omitempty"`
	TotalBytes   int64            `json:"totalBytes"`
	ReadBytes    int64            `json:"readBytes"`
	ChangedBytes int64            `json:"changedBytes"`
	ZeroedBytes  int64            `json:"zeroedBytes,omitempty"` // of them, what was empty then
	ShippedBytes int64            `json:"shippedBytes"`
	WireBytes    int64            `json:"wireBytes"`
	MissedBytes  int64            `json:"missedBytes"`
	Attempts     int              `json:"attempts"`
	Point        string           `json:"point,omitempty"`
	Error        string           `json:"error,omitempty"`
	Note         string           `json:"note,omitempty"`
	Quiet        []platform.Quiet `json:"quiet,omitempty"`
	Parts        []Part           `json:"parts,omitempty"`
	// LinkLimit is the link's limit when it ended, in bytes a second; 0 for none.
	LinkLimit int64 `json:"linkLimit,omitempty"`
	// Unusual says what was unusual of what it found; empty if nothing was.
	Unusual string `json:"unusual,omitempty"`
	// Why says why it began when it did.
	Why string `json:"why,omitempty"`
	// Waited is how long it had been due when it began.
	Waited time.Duration `json:"waited,omitempty"`
}

// Took is how long it lasted; 0 while it is open.
func (a Account) Took() time.Duration {
	if a.EndedAt.IsZero() {
		return 0
	}
	return a.EndedAt.Sub(a.StartedAt)
}

// Lasted is how long a phase lasted; 0 if it did not begin or has not ended.
func (a Account) Lasted(phase string) time.Duration {
	for _, p := range a.Phases {
		if p.Name == phase && p.To != nil {
			return p.To.Sub(p.From)
		}
	}
	return 0
}
