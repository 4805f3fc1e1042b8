// Package platform is what Kestrel Tide asks of a hypervisor manager. A driver
// lists machines, takes a checkpoint of several machines at one instant, and
// hands the frozen disks out over NBD together with the name of the metadata
// context that tells what changed since an earlier checkpoint. That is the
// shape of pull-mode backup with dirty bitmaps, so that a driver for a real
// hypervisor fits behind the same interface.
package platform

import (
	"context"
	"crypto/tls"
	"encoding/json"
	"errors"
	"fmt"
	"strings"
	"time"

	"kestrel/internal/core/berth"
)

// Errors that drivers wrap.
var (
	// ErrGone says that a checkpoint or a machine is not there (any more).
	ErrGone = errors.New("not on the platform")
	// ErrRefused says that the platform did not accept the credentials.
	ErrRefused = errors.New("credentials refused")
	// ErrUnreachable says that the platform could not be asked.
	ErrUnreachable = errors.New("platform unreachable")
	// ErrConfig says that a machine cannot be made as it is described.
	ErrConfig = errors.New("cannot be made here")
)

// Power states of a machine.
const (
	PowerOn        = "on"
	PowerOff       = "off"
	PowerSuspended = "suspended"
)

// What is known of a machine's guest agent.
const (
	AgentNone    = "none"    // there is no way to reach one
	AgentSilent  = "silent"  // there is a way, and nobody answers now
	AgentAnswers = "answers" // it does
)

// Step is one step of a connection test, in order. Steps after a failed one
// are not tried.
type Step struct {
	Name  string `json:"name"` // such as "name", "port", "credentials", "clock"
	OK    bool   `json:"ok"`
	Note  string `json:"note"` // what was found
	Mend  string `json:"mend"` // what to do if it failed
	Tried bool   `json:"tried"`
}

// Inventory is what a platform holds.
type Inventory struct {
	Hosts      []Host      `json:"hosts"`
	Pools      []Pool      `json:"pools"`
	Datastores []Datastore `json:"datastores"`
	Networks   []Network   `json:"networks"`
	Machines   []Machine   `json:"machines"`
	// Folders are those that machines can be put into; none if the platform has none.
	Folders []string `json:"folders,omitempty"`
	// Names is what it accepts as the name of a machine.
	Names berth.Names `json:"names"`
	// Ways are those by which it can give a landed machine its addresses.
	Ways []berth.Way `json:"ways,omitempty"`
	// Formats are those that the disks of a landed machine can have there, the usual one
	// first.
	Formats []berth.Format `json:"formats,omitempty"`
	// Trouble names the parts that could not be asked, such as one host of
	// several; what is listed of them is what was last seen.
	Trouble string `json:"trouble,omitempty"`
}

// Host runs machines. Memory is in bytes.
type Host struct {
	ID          string `json:"id"`
	Name        string `json:"name"`
	CPUs        int    `json:"cpus"`
	MemoryBytes int64  `json:"memoryBytes"`
}

// Pool is a share of a platform's processors and memory.
type Pool struct {
	ID              string `json:"id"`
	Name            string `json:"name"`
	MemoryBytes     int64  `json:"memoryBytes"`
	MemoryFreeBytes int64  `json:"memoryFreeBytes"`
}

// Datastore holds disks.
type Datastore struct {
	ID            string `json:"id"`
	Name          string `json:"name"`
	CapacityBytes int64  `json:"capacityBytes"`
	FreeBytes     int64  `json:"freeBytes"`
}

// Kinds of networks.
const (
	NetworkVirtual = "virtual" // of the platform itself
	NetworkBridge  = "bridge"  // to a network of the hosts
	NetworkSegment = "segment" // between machines only, across hosts
	NetworkUser    = "user"    // each machine has its own way out
)

// Network is what NICs attach to.
type Network struct {
	ID      string `json:"id"`
	Name    string `json:"name"`
	Subnet  string `json:"subnet"`            // CIDR, if known
	Subnet6 string `json:"subnet6,omitempty"` // of IPv6
	Kind    string `json:"kind,omitempty"`
	Gateway string `json:"gateway,omitempty"` // address, if known
	VLAN    int    `json:"vlan,omitempty"`    // 0: none, or not known
	// Isolated says that nothing leads out of it.
	Isolated bool `json:"isolated,omitempty"`
	// DHCP says that the platform has a DHCP server on it, which can reserve addresses.
	DHCP bool `json:"dhcp,omitempty"`
}

// Note tells of it in a few words.
func (n Network) Note() string {
	var out []string
	for _, s := range []string{n.Subnet, n.Subnet6} {
		if s != "" {
			out = append(out, s)
		}
	}
	if n.VLAN != 0 {
		out = append(out, fmt.Sprintf("VLAN %d", n.VLAN))
	}
	if n.Isolated {
		out = append(out, "isolated")
	}
	if n.Gateway != "" {
		out = append(out, "gateway "+n.Gateway)
	}
	if n.DHCP {
		out = append(out, "DHCP")
	}
	return strings.Join(out, ", ")
}

// Machine is a VM.
type Machine struct {
	ID          string   `json:"id"`
	Name        string   `json:"name"`
	Folder      string   `json:"folder"` // path from the root, such as "/harbour/ticketing"
	Tags        []string `json:"tags"`
	Host        string   `json:"host"` // name
	Pool        string   `json:"pool"` // name
	Power       string   `json:"power"`
	Guest       string   `json:"guest"` // operating system, as the platform names it
	CPUs        int      `json:"cpus"`
	MemoryBytes int64    `json:"memoryBytes"`
	Disks       []Disk   `json:"disks"`
	NICs        []NIC    `json:"nics"`
	// Agent is what is known of its guest agent; empty is nothing.
	Agent string `json:"agent,omitempty"`
	// Landed says that it was made from a point.
	Landed bool `json:"landed,omitempty"`
}

// Disk is a disk of a machine.
type Disk struct {
	Key       string `json:"key"` // stable within the machine
	Label     string `json:"label"`
	SizeBytes int64  `json:"sizeBytes"`
	UsedBytes int64  `json:"usedBytes"` // allocated at the source
	Datastore string `json:"datastore"`
	// Boot says that the machine starts from it.
	Boot bool `json:"boot,omitempty"`
	// Untrackable says why changes of this disk cannot be tracked, and Mend
	// what to do; both are empty if they can.
	Untrackable string `json:"untrackable,omitempty"`
	Mend        string `json:"mend,omitempty"`
}

// NIC is a network card.
type NIC struct {
	MAC     string `json:"mac"`
	Network string `json:"network"` // name
	Address string `json:"address"` // as the guest reports it, if it does
	VLAN    int    `json:"vlan,omitempty"`
}

// Barrier says why a machine cannot be protected, with the mend; both are
// empty if it can. Disks that are left out bar nothing; leaves may be nil.
func (m Machine) Barrier(leaves func(disk string) bool) (why, mend string) {
	if len(m.Disks) == 0 {
		return "It has no disks, so there is nothing to copy.", "Attach a disk, or leave it out and recreate it at the other site by hand."
	}
	for _, d := range m.Disks {
		if d.Untrackable == "" || leaves != nil && leaves(d.Key) {
			continue
		}
		if len(m.Disks) > 1 && !d.Boot {
			return "Disk " + d.Label + ": " + d.Untrackable, d.Mend + " Or leave the disk out."
		}
		return "Disk " + d.Label + ": " + d.Untrackable, d.Mend
	}
	return "", ""
}

// CaptureRequest asks for one checkpoint over several machines.
type CaptureRequest struct {
	// Name of the checkpoint, chosen by the caller and unique on the platform,
	// so that one that was begun before a crash can be found again.
	Name     string
	Machines []string // platform IDs
	// Base is the earlier checkpoint to tell changes from; empty for a full copy.
	Base string
	// Quiesce lists the machines whose guests are asked to bring their file
	// systems to rest for the instant.
	Quiesce []Rest
	// Leaves tells of the disks that are not captured; nil leaves none.
	Leaves func(machine, disk string) bool
	// Apart says that machines need not be held still together: each is then
	// captured at an instant of its own, unless it costs nothing to do better.
	Apart bool
}

// Rest is how a machine's guest is brought to rest.
type Rest struct {
	Machine string // platform ID
	// Limit is how long its guest may take; zero is what the platform gives.
	Limit time.Duration
	// Before and After are commands that the guest's agent runs, before it comes to
	// rest and after it was let go.
	Before, After string
}

// Resting finds how a machine is to be brought to rest, if it is.
func (r CaptureRequest) Resting(machine string) (Rest, bool) {
	for _, q := range r.Quiesce {
		if q.Machine == machine {
			return q, true
		}
	}
	return Rest{}, false
}

// Left tells whether a disk is not to be captured.
func (r CaptureRequest) Left(machine, disk string) bool {
	return r.Leaves != nil && r.Leaves(machine, disk)
}

// LeftDisk is a disk of a captured machine that was not captured.
type LeftDisk struct {
	Machine string // platform ID
	Disk    string // key
	Label   string
	Size    int64
}

// Quiet tells how bringing a machine to rest went.
type Quiet struct {
	Machine string // platform ID
	Done    bool
	// Held is how long its guest's writes, or all of it, waited for us.
	Held time.Duration
	// Took is how long its guest took to come to rest, the command before included.
	Took time.Duration
	Why  string // if it was not done
	// After says what went wrong with the command that runs when it is let go.
	After string
}

// Capture is a checkpoint whose disks are open for reading.
type Capture struct {
	Name string
	At   time.Time // the one instant, on this site's clock
	// OneInstant reports whether all machines were captured at the same
	// instant; if not, each machine is consistent only with itself.
	OneInstant  bool
	Application bool    // all machines were quiesced
	Quiet       []Quiet // of the machines for which it was asked, or which were held
	Disks       []FrozenDisk
	Left        []LeftDisk
	// Configs holds each machine as it was, by its ID: what is needed to make
	// it again.
	Configs map[string]json.RawMessage
}

// FrozenDisk is where a captured disk is read.
type FrozenDisk struct {
	Machine string // platform ID
	Name    string // of the machine
	Disk    string // key
	Size    int64
	Network string // "tcp" or "unix"
	Address string
	Export  string
	TLS     *tls.Config // nil: in the clear, which never leaves the machine
	// Changed names the NBD metadata context whose set bits are what changed
	// since the base; empty if that is not known, and then Why says why.
	Changed string
	Why     string
}

// Driver talks to one platform. All methods are safe for use at the same time.
type Driver interface {
	// Check tests the connection step by step.
	Check(ctx context.Context) []Step
	// Inventory lists everything.
	Inventory(ctx context.Context) (Inventory, error)
	// Capture freezes machines at one instant and opens their disks.
	Capture(ctx context.Context, r CaptureRequest) (*Capture, error)
	// Reopen finds a capture again, after a restart or a lost connection. It
	// wraps ErrGone if its frozen disks are not there any more.
	Reopen(ctx context.Context, name, base string) (*Capture, error)
	// Release ends reading. The checkpoint stays as a base for the next.
	Release(ctx context.Context, name string) error
	// Forget removes a checkpoint; one that is not there is no error.
	Forget(ctx context.Context, name string) error
	// Changed counts, by machine, the bytes written since a checkpoint. It
	// wraps ErrGone if that is not there.
	Changed(ctx context.Context, name string) (map[string]int64, error)
	// Checkpoints lists the names of all checkpoints on the platform.
	Checkpoints(ctx context.Context) ([]string, error)
	// Close lets go of connections.
	Close()
}

// Unusable is a driver that can do nothing but say why.
func Unusable(why error) Driver { return unusable{why} }

type unusable struct{ why error }

func (u unusable) Check(context.Context) []Step {
	return []Step{{Name: "settings", Tried: true, Note: u.why.Error(), Mend: "Remove the platform and add it again, or put back what is missing and restart the service."}}
}
func (u unusable) Inventory(context.Context) (Inventory, error)              { return Inventory{}, u.why }
func (u unusable) Capture(context.Context, CaptureRequest) (*Capture, error) { return nil, u.why }
func (u unusable) Reopen(context.Context, string, string) (*Capture, error)  { return nil, u.why }
func (u unusable) Release(context.Context, string) error                     { return u.why }
func (u unusable) Forget(context.Context, string) error                      { return u.why }
func (u unusable) Changed(context.Context, string) (map[string]int64, error) { return nil, u.why }
func (u unusable) Checkpoints(context.Context) ([]string, error)             { return nil, u.why }
func (u unusable) Close()                                                    {}
