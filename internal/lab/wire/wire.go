// Package wire has the messages of the lab's HTTP interface.
package wire

import (
	"encoding/json"
	"time"

	"kestrel/internal/platform"
)

// About identifies a lab.
type About struct {
	Kind    string    `json:"kind"` // "lab"
	Version int       `json:"version"`
	Name    string    `json:"name"`
	Now     time.Time `json:"now"`
}

// CheckpointRequest makes a checkpoint of machines at one instant.
type CheckpointRequest struct {
	Name     string   `json:"name"`
	Machines []string `json:"machines"`
	// Leave lists the disks that have no part in it.
	Leave []LeftDisk `json:"leave,omitempty"`
	// Quiesce lists the machines whose guests are to be at rest.
	Quiesce []Rest `json:"quiesce,omitempty"`
}

// LeftDisk names a disk.
type LeftDisk struct {
	Machine string `json:"machine"`
	Disk    string `json:"disk"`
}

// Rest asks a guest's agent to bring it to rest.
type Rest struct {
	Machine     string `json:"machine"`
	LimitMillis int64  `json:"limitMillis"` // 0: five seconds
	Before      string `json:"before,omitempty"`
	After       string `json:"after,omitempty"`
}

// Quiet tells how a guest came to rest.
type Quiet struct {
	Machine    string `json:"machine"`
	Done       bool   `json:"done"`
	HeldMicros int64  `json:"heldMicros"`
	TookMicros int64  `json:"tookMicros"`
	Why        string `json:"why,omitempty"`
	After      string `json:"after,omitempty"` // what went wrong then
}

// Checkpoint is an instant of some machines. While it is open its disks are
// readable over NBD.
type Checkpoint struct {
	Name     string             `json:"name"`
	At       time.Time          `json:"at"`
	Open     bool               `json:"open"`
	NBD      string             `json:"nbd"` // host:port
	Disks    []CheckpointDisk   `json:"disks"`
	Machines []platform.Machine `json:"machines"`
	// Programs are those of the machines' guests, by machine.
	Programs map[string]Program `json:"programs,omitempty"`
	Quiet    []Quiet            `json:"quiet,omitempty"`
}

// CheckpointDisk is a disk of a checkpoint. Export holds a secret and is all
// that is needed to read the disk. Since lists the earlier checkpoints for
// which a context "lab:dirty-bitmap:NAME" is offered.
type CheckpointDisk struct {
	Machine string   `json:"machine"`
	Disk    string   `json:"disk"`
	Size    int64    `json:"size"`
	Export  string   `json:"export"`
	Since   []string `json:"since"`
	// DirtyBytes is what has been written since, to whole blocks.
	DirtyBytes int64 `json:"dirtyBytes"`
}

// DirtyContext names the metadata context of changes since a checkpoint.
func DirtyContext(checkpoint string) string { return "lab:dirty-bitmap:" + checkpoint }

// Digest is the content of one disk at the instant of a checkpoint: SHA-256
// over, for each 64 KiB block that is not all zeros, its index as eight bytes,
// little endian, and the SHA-256 of its bytes, filled up with zeros.
type Digest struct {
	Checkpoint string    `json:"checkpoint"`
	At         time.Time `json:"at"`
	Machine    string    `json:"machine"`
	Name       string    `json:"name"` // of the machine
	Disk       string    `json:"disk"`
	SHA256     string    `json:"sha256"`
}

// Power asks for a power state.
type Power struct {
	State string `json:"state"`
}

// Problem is an error answer.
type Problem struct {
	Title  string `json:"title"`
	Detail string `json:"detail"`
}

// Program is what a machine's guest does, as a checkpoint keeps it, so that it goes on
// where the machine is started from a point.
type Program struct {
	Workload json.RawMessage `json:"workload"`
	Agent    json.RawMessage `json:"agent,omitempty"`
	Ports    []int           `json:"ports,omitempty"` // TCP ports that it takes connections on
}

// Format is that of a lab's disks: files with holes.
const Format = "sparse"

// Answers says who is at home in a machine.
type Answers struct {
	Agent bool  `json:"agent"`
	Ports []int `json:"ports"`
}

// Landing makes a machine from a point.
type Landing struct {
	ID        string           `json:"id"` // UUID, and the machine's ID
	Name      string           `json:"name"`
	Datastore string           `json:"datastore"` // ID
	Pool      string           `json:"pool,omitempty"`
	Machine   platform.Machine `json:"machine"` // as at home, in the size that it is to have
	Program   Program          `json:"program"`
	Disks     []LandingDisk    `json:"disks"`
	NICs      []LandingNIC     `json:"nics"`
	InPlaceOf string           `json:"inPlaceOf,omitempty"` // ID of a machine that is off, and is set aside for it
}

// LandingDisk is a disk and the export that it reads from; without an export it is empty.
type LandingDisk struct {
	Key     string `json:"key"`
	Size    int64  `json:"size"`
	Address string `json:"address,omitempty"` // host:port
	Export  string `json:"export,omitempty"`
}

// LandingNIC is a card as it is here; an empty network is a pulled cable.
type LandingNIC struct {
	MAC     string `json:"mac"`
	Network string `json:"network"` // ID
	Address string `json:"address"`
}

// Start starts a landed machine; waiting, its guest does not run yet.
type Start struct {
	Waiting bool `json:"waiting"`
}

// Landed is how a landing stands.
type Landed struct {
	Power string       `json:"power"`
	Disks []LandedDisk `json:"disks"`
}

// LandedDisk is how far a disk has been made local.
type LandedDisk struct {
	Key   string `json:"key"`
	Local bool   `json:"local"`
	Busy  bool   `json:"busy"`
	Done  int64  `json:"done"`
	Total int64  `json:"total"`
}

// MakeLocal begins to copy what is not local.
type MakeLocal struct {
	BytesPerSecond int64 `json:"bytesPerSecond"` // 0: no limit
}

// Run has a guest's agent run a command.
type Run struct {
	Command string `json:"command"`
}

// Ran says what came of it; an empty Why is success.
type Ran struct {
	Silent bool   `json:"silent"` // no agent answers
	Why    string `json:"why,omitempty"`
}

// Through is the protocol that a connection is given to, by which somebody speaks to a port
// of a landed machine.
const Through = "tcp"
