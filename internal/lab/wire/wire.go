// Package wire has the messages of the lab's HTTP interface.
package wire

import (
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
