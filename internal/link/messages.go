package link

import (
	"encoding/json"
	"time"

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

// Beat is exchanged every few seconds by each side of a link: it carries what
// the sender knows of the groups it is home of, and measures the link.
type Beat struct {
	Site   string        `json:"site"`
	SentAt time.Time     `json:"sentAt"`
	Groups []GroupReport `json:"groups"`
}

// GroupReport mirrors a group to its recovery site.
type GroupReport struct {
	ID           string          `json:"id"`
	Name         string          `json:"name"`
	HomeName     string          `json:"homeName"`
	RecoveryName string          `json:"recoveryName"`
	Term         int64           `json:"term"`
	Revision     int64           `json:"revision"`
	Settings     json.RawMessage `json:"settings"`
	Paused       bool            `json:"paused"`
	Anchor       time.Time       `json:"anchor"`
	CreatedAt    time.Time       `json:"createdAt"`
	Live         Live            `json:"live"`
}

// Live is what only the home site can see of a group, on its clock.
type Live struct {
	PlatformUp   bool             `json:"platformUp"`
	DueSince     time.Time        `json:"dueSince"`
	NextStart    time.Time        `json:"nextStart"`
	Backlog      map[string]int64 `json:"backlog,omitempty"` // bytes by machine ID
	BacklogKnown bool             `json:"backlogKnown"`
	ChangeRate   float64          `json:"changeRate"` // bytes a second, 0 if unknown
	Running      json.RawMessage  `json:"running,omitempty"`
	Rate         int64            `json:"rate"` // bytes a second read by the running cycle
	FinishAt     time.Time        `json:"finishAt"`
	Cycles       json.RawMessage  `json:"cycles,omitempty"` // the newest few
	Reason       string           `json:"reason"`           // why the last attempt failed
	NearPoints   int              `json:"nearPoints"`       // points that home keeps as well
	NearReason   string           `json:"nearReason"`       // why it does not
	ComparedAt   time.Time        `json:"comparedAt"`       // when all of the disks were last read
}

// BeatReply answers a Beat.
type BeatReply struct {
	ReceivedAt time.Time    `json:"receivedAt"`
	AnsweredAt time.Time    `json:"answeredAt"`
	Groups     []GroupState `json:"groups"`
	FreeBytes  int64        `json:"freeBytes"`  // of the point store's file system
	FloorBytes int64        `json:"floorBytes"` // of them, what incoming blocks leave
}

// GroupState is what the recovery site holds of a group.
type GroupState struct {
	ID           string    `json:"id"`
	PointsMark   string    `json:"pointsMark"` // changes when the list of points does
	NewestPoint  string    `json:"newestPoint"`
	NewestAt     time.Time `json:"newestAt"`     // capture, on the home clock
	NewestSealed time.Time `json:"newestSealed"` // on the recovery clock
	// Of the points that cannot be read whole: how many, and how many bytes of
	// them are not to be had from home any more.
	LostPoints int   `json:"lostPoints"`
	LostBytes  int64 `json:"lostBytes"`
}

// PointState is a point as the recovery site holds it.
type PointState struct {
	Seal        *points.Seal `json:"seal"`
	Pinned      bool         `json:"pinned"`
	PinnedUntil *time.Time   `json:"pinnedUntil,omitempty"`
}

// Act asks a group's home site to do something that an administrator asked for
// at the recovery site.
type Act struct {
	Action string          `json:"action"` // run, pause, resume, patch, delete
	Who    string          `json:"who"`
	Body   json.RawMessage `json:"body,omitempty"`
}
