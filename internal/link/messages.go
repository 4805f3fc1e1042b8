package link

import (
	"crypto/ed25519"
	"encoding/json"
	"time"

	"kestrel/internal/core/chain"
	"kestrel/internal/cycle"
	"kestrel/internal/points"
)

// PairRequest is sent by the site that accepts an invitation.
type PairRequest struct {
	Token   []byte `json:"token"`
	Site    string `json:"site"`
	SiteID  string `json:"siteId"`
	Address string `json:"address"` // of its own link listener
}

// PairReply answers it.
type PairReply struct {
	Site   string `json:"site"`
	SiteID string `json:"siteId"`
	// BackProblem says why the inviting site could not reach the accepting
	// one, if it could not: the link then carries data one way only.
	BackProblem string `json:"backProblem,omitempty"`
}

// Beat is exchanged every few seconds by each side of a link. One without groups is a sign of
// life, and measures the link; beside it, pieces carry what has changed of the groups that the
// sender is home of since the receiver took it last.
type Beat struct {
	Site   string        `json:"site"`
	SentAt time.Time     `json:"sentAt"`
	Groups []GroupReport `json:"groups"`
	// Listen says that the sender takes what has changed of its groups at the receiver's:
	// since Heard, of those changes that the receiver counts in an Epoch.
	Listen bool   `json:"listen,omitempty"`
	Epoch  string `json:"epoch,omitempty"`
	Heard  int64  `json:"heard,omitempty"`
	// Ended lists groups that are no more at home, or are copied elsewhere, until the other site has heard
	// of it. That a group is not reported says nothing.
	Ended []string `json:"ended,omitempty"`
	// Turns lists groups of the receiver's that the sender holds since a failover, or has
	// given back, until the receiver has heard of it.
	Turns []Turn `json:"turns,omitempty"`
	// Trail is the newest line of the sender's audit trail that it has signed.
	Trail *TrailHead `json:"trail,omitempty"`
	// Coverage is how many machines of the sender's platforms have which word for what
	// protects them.
	Coverage map[string]int `json:"coverage,omitempty"`
}

// Turn tells a group's home site that its machines run at the sender's, in a term of that
// site's, or that they do not any more: it is home again, in that term.
type Turn struct {
	Group string `json:"group"`
	Term  int64  `json:"term"`
	Held  bool   `json:"held"`
}

// TrailHead is the newest line of a trail, with the key that signed it.
type TrailHead struct {
	chain.Head
	Key ed25519.PublicKey `json:"key"`
}

// GroupReport mirrors a group to its recovery site.
type GroupReport struct {
	ID        string          `json:"id"`
	Term      int64           `json:"term"`
	Revision  int64           `json:"revision"`
	Settings  json.RawMessage `json:"settings"` // the specification, in a format of its own
	Anchor    time.Time       `json:"anchor"`
	CreatedAt time.Time       `json:"createdAt"`
	Live      Live            `json:"live"`
	// EarlierMark changes when the list of those points does that home holds itself, from
	// before it was home last; empty if there are none.
	EarlierMark string `json:"earlierMark,omitempty"`
}

// Live is what only the home site can see of a group, on its clock.
type Live struct {
	PlatformUp bool      `json:"platformUp"`
	DueSince   time.Time `json:"dueSince"`
	NextStart  time.Time `json:"nextStart"`
	// Waiting says in words why the group is due and no cycle begins; empty if one does.
	Waiting           string           `json:"waiting,omitempty"`
	Backlog           map[string]int64 `json:"backlog,omitempty"` // bytes by machine ID
	BacklogKnown      bool             `json:"backlogKnown"`
	ChangeRate        float64          `json:"changeRate"` // bytes a second, 0 if unknown
	Running           *cycle.Progress  `json:"running,omitempty"`
	Rate              int64            `json:"rate"` // bytes a second read by the running cycle
	FinishAt          time.Time        `json:"finishAt"`
	Cycles            []cycle.Account  `json:"cycles,omitempty"` // the newest few
	Failure           string           `json:"failure"`          // why the last attempt failed
	LinkLimit         int64            `json:"linkLimit"`        // bytes a second, now; 0 for none
	HomePoints        int              `json:"homePoints"`       // points that home keeps as well
	HomePointsFailure string           `json:"homePointsFailure"`
	ComparedAt        time.Time        `json:"comparedAt"` // when all of the disks were last read
}

// BeatReply answers a Beat.
type BeatReply struct {
	ReceivedAt time.Time `json:"receivedAt"`
	AnsweredAt time.Time `json:"answeredAt"`
	// Groups are those that were reported, and those that have changed, if the sender listens.
	Groups []GroupState `json:"groups"`
	// Epoch changes when the receiver has forgotten what it took. Told is the last change in it
	// that Groups tell of, and More says that there are others.
	Epoch      string   `json:"epoch,omitempty"`
	Told       int64    `json:"told,omitempty"`
	More       bool     `json:"more,omitempty"`
	Ended      []string `json:"ended,omitempty"`    // those of the beat that are ended here too
	LongTerm   bool     `json:"longTerm,omitempty"` // there is a long-term store
	FreeBytes  int64    `json:"freeBytes"`          // of the point store's file system
	FloorBytes int64    `json:"floorBytes"`         // of them, what incoming blocks leave
}

// GroupState is what the recovery site holds of a group.
type GroupState struct {
	ID string `json:"id"`
	// Refused says why the group's report was not taken. Others are not affected.
	Refused      string    `json:"refused,omitempty"`
	PointsMark   string    `json:"pointsMark"` // changes when the list of points does
	NewestPoint  string    `json:"newestPoint"`
	NewestAt     time.Time `json:"newestAt"`     // capture, on the home clock
	NewestSealed time.Time `json:"newestSealed"` // on the recovery clock
	// Of the points that cannot be read whole: how many, and how many bytes of
	// them are not to be had from home any more.
	LostPoints int   `json:"lostPoints"`
	LostBytes  int64 `json:"lostBytes"`
	// Ready is whether the group would recover there right now, in the form of the room
	// that looks at it; nil if that site does not say.
	Ready json.RawMessage `json:"ready,omitempty"`
	// Preparing says in words why no cycle is taken yet; empty if it is.
	Preparing string `json:"preparing,omitempty"`
}

// PointState is a point as the recovery site holds it.
type PointState struct {
	Seal        *points.Seal `json:"seal"`
	Pinned      bool         `json:"pinned"`
	PinnedUntil *time.Time   `json:"pinnedUntil,omitempty"`
	PinReason   string       `json:"pinReason,omitempty"`
	LockedUntil *time.Time   `json:"lockedUntil,omitempty"`
	PinnedBy    string       `json:"pinnedBy,omitempty"`
}

// EndReply answers the end of a group.
type EndReply struct {
	// PointsGoAt is when the points go that are to be deleted; nil if none wait.
	PointsGoAt *time.Time `json:"pointsGoAt,omitempty"`
}

// BerthAsk asks the recovery site how a group's machines arrive there. With a berth it
// is a preview of it, or it is written.
type BerthAsk struct {
	Who   string          `json:"who"` // at home
	Berth json.RawMessage `json:"berth,omitempty"`
	Write bool            `json:"write,omitempty"`
	// Fill writes it only where nobody has said anything of the group yet; a name that is taken
	// there is made another.
	Fill bool `json:"fill,omitempty"`
	// Revision is the one that was looked at.
	Revision int64 `json:"revision,omitempty"`
	// Machines is the group's machines as home sees them, while there is no point.
	Machines json.RawMessage `json:"machines,omitempty"`
}

// What a recovery site asks of a group's home site during a planned failover.
const (
	Look      = "look"       // only how it is
	Cycle     = "cycle"      // a cycle as soon as it can be
	ShutDown  = "shut-down"  // its machines' guests are to end by themselves
	SwitchOff = "switch-off" // its machines are to be off at once
	Cede      = "cede"       // it is to be home no longer; all of its machines are off
	Resume    = "resume"     // it is home again, in a term, and starts machines
)

// HandOver asks a group's home site for something during a failover. Each may be asked for
// again.
type HandOver struct {
	Action string `json:"action"`
	Who    string `json:"who"` // at the recovery site
	// Term is the one that home may resume in, and Machines are the IDs of those that it is
	// to start.
	Term     int64    `json:"term,omitempty"`
	Machines []string `json:"machines,omitempty"`
}

// HandedOver is how a group is at its home site, on that site's clock.
type HandedOver struct {
	Now      time.Time       `json:"now"`
	Machines []HandedMachine `json:"machines"`
	// Known says that the platform was asked just now.
	Known   bool   `json:"known"`
	Running bool   `json:"running"`           // a cycle is
	Paused  bool   `json:"paused"`            // cycles are held
	Failure string `json:"failure,omitempty"` // of the last attempt at a cycle
	Home    bool   `json:"home"`              // it is home still, or again
	Grant   int64  `json:"grant,omitempty"`   // the term that the recovery site may take
}

// HandedMachine is one of a group's machines at home.
type HandedMachine struct {
	ID    string `json:"id"`
	Name  string `json:"name"`
	Power string `json:"power"` // empty: it is not there any more
}

// Act asks a group's home site to do something that an administrator asked for
// at the recovery site.
type Act struct {
	Action string          `json:"action"` // run, edit or delete
	Who    string          `json:"who"`
	Body   json.RawMessage `json:"body,omitempty"`
}
