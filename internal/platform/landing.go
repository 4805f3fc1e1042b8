package platform

import (
	"context"
	"encoding/json"
	"errors"
	"net"
	"net/netip"
	"strings"
	"time"
)

// ErrSilent says that a guest has no agent, or that it does not answer.
var ErrSilent = errors.New("its guest agent does not answer")

// ErrClosed says that a machine takes no connections on a port, as far as can be seen from here.
var ErrClosed = errors.New("nobody takes connections there")

// ErrNoSerial says that nothing is kept of what a machine writes to a serial console.
var ErrNoSerial = errors.New("it has no serial console that is kept")

// MaxSerial bounds what is read of a serial console, in bytes.
const MaxSerial = 256 << 10

// ErrRuns says that a machine is not off.
var ErrRuns = errors.New("it is not off")

// ErrNoScreen says that a machine has nothing to look at: it has no graphics card, or is off.
var ErrNoScreen = errors.New("it has no screen that could be seen")

// What a machine's power can be switched to.
const (
	SwitchOn   = "on"
	SwitchOff  = "off"       // at once, as if the plug was pulled
	SwitchDown = "shut-down" // its guest is asked to end by itself
)

// Operator is a driver that switches machines and shows what is on their screens. Machines
// are named by their IDs, at home and landed alike.
type Operator interface {
	// Switch asks for a power state. It returns when the platform was told; what comes of
	// shutting down is seen in the inventory. A machine that is there already is no error.
	Switch(ctx context.Context, machine, to string) error
	// Discard removes a machine that is off, with its disks; one that is not there is no error.
	// It wraps ErrRuns. Left are disks that stay because the platform does not hold them, or
	// other machines may use them.
	Discard(ctx context.Context, machine string) (left []string, err error)
	// Screen is what a machine shows, as a PNG. It wraps ErrNoScreen.
	Screen(ctx context.Context, machine string) ([]byte, error)
}

// KindOf is the kind of platform that a machine's description is of: each puts what only it
// understands under its own name. It is empty if none is there, as in points of earlier
// versions.
func KindOf(config json.RawMessage) string {
	var parts map[string]json.RawMessage
	if json.Unmarshal(config, &parts) != nil {
		return ""
	}
	for _, kind := range []string{"libvirt", "lab"} {
		if _, ok := parts[kind]; ok {
			return kind
		}
	}
	return ""
}

// NotConnected is the network of a card whose cable is pulled.
const NotConnected = ""

// Landing asks for a machine made from a point. Its disks read from the NBD
// exports what has not been made local yet; what the machine writes lies on the
// datastore from the beginning.
type Landing struct {
	ID        string // UUID; marks all that is made, so that it is found again
	Name      string
	Config    json.RawMessage // the machine as the point keeps it
	Datastore string          // ID
	// Format is that of its disks once they are local, one of the inventory's; empty is the
	// first of those.
	Format string
	// Pool is the name of where it is to run; empty is wherever the datastore is.
	Pool string
	// CPUs and MemoryBytes are what it gets; 0 is as at home.
	CPUs        int
	MemoryBytes int64
	Disks       []LandingDisk
	NICs        []LandingNIC // of the description, in its order
	// Seed is the content of a disk that is put into a drive for reading only, from which
	// its guest takes its addresses; nil for none.
	Seed []byte
	// InPlaceOf is the ID of a machine that is off: its description is taken rather than
	// Config's, with its cards, whose addresses NICs name then. That machine is SetAside until
	// it is discarded, and has its name again when this one is removed. Empty is none.
	InPlaceOf string
}

// SetAside is what a machine is called in whose place another has come: that other has its name.
func SetAside(name, landing string) string { return name + asideMark + landing[:min(8, len(landing))] }

const asideMark = "-before-"

// BroughtBack is the name of a machine that was SetAside for a landing.
func BroughtBack(name, landing string) (was string, ok bool) {
	return strings.CutSuffix(name, SetAside("", landing))
}

// LandingDisk is a disk and the export that holds its content.
type LandingDisk struct {
	Key  string
	Size int64
	// Empty disks have no content and no export: they were left out of the point.
	Empty  bool
	Host   string // of the NBD server, as the hypervisor's host reaches it
	Port   int
	Export string
	TLS    bool
}

// LandingNIC says what a card is attached to.
type LandingNIC struct {
	MAC string // at home
	// As is its address here, as where the home machine's card is on the same network;
	// empty is the same.
	As      string
	Network string // ID, or NotConnected
	// Reserve is the address that the network's DHCP server is to give it; invalid for none.
	Reserve netip.Addr
}

// Here is the card's MAC address as it is here.
func (n LandingNIC) Here() string {
	if n.As != "" {
		return n.As
	}
	return n.MAC
}

// LandedDisk is how far a disk of a landed machine has been made local.
type LandedDisk struct {
	Key   string
	Local bool
	// Busy says that it is being copied; Done of Total bytes, if Total is known.
	Busy        bool
	Done, Total int64
}

// Landed is a landed machine as it is.
type Landed struct {
	Power string
	// Starved says that its guest waits because an export did not answer.
	Starved bool
	// Crashed says that it is off because its hypervisor process died.
	Crashed bool
	Disks   []LandedDisk
}

// Lander is a driver of a platform on which machines can land. All methods may
// be called again after a crash; they find by its ID what was done before.
type Lander interface {
	// Fits tells whether a machine can be made from the description that a point
	// keeps of it; the error wraps ErrConfig and says what is missing.
	Fits(config json.RawMessage) error
	// Land makes the machine, off. It wraps ErrConfig if that cannot be.
	Land(ctx context.Context, l Landing) error
	// StartLanded starts it; waiting means that its guest does not run yet.
	StartLanded(ctx context.Context, id string, waiting bool) error
	// ResumeLanded lets the guest of a waiting or starved machine run.
	ResumeLanded(ctx context.Context, id string) error
	// MakeLocal begins to copy a disk that is not local, unless one is being
	// copied, at no more than so many bytes a second (0: as fast as it goes).
	// It returns at once, and is called again until all are local.
	MakeLocal(ctx context.Context, id string, limit int64) error
	// RunIn runs a command in the guest of a landed machine, by its agent, and waits until
	// it has ended. It wraps ErrSilent if there is no agent, or it does not answer yet.
	RunIn(ctx context.Context, id, command string, limit time.Duration) error
	// AgentAnswers tells whether the agent of a landed machine's guest answers. It wraps
	// ErrSilent if not.
	AgentAnswers(ctx context.Context, id string) error
	// PortOpen tells whether a landed machine takes connections on a TCP port, at any of the
	// addresses that are known of it. It wraps ErrClosed if not.
	PortOpen(ctx context.Context, id string, port int) error
	// Dial connects to a TCP port of a landed machine, as PortOpen does. It wraps ErrClosed.
	Dial(ctx context.Context, id string, port int) (net.Conn, error)
	// Serial is the end of what a landed machine has written to its serial console since its
	// last start. It wraps ErrNoSerial if that is not kept.
	Serial(ctx context.Context, id string) ([]byte, error)
	// Landed tells how a landed machine is. It wraps ErrGone.
	Landed(ctx context.Context, id string) (Landed, error)
	// RemoveLanded stops it and removes all that Land made; no error if
	// nothing is there.
	RemoveLanded(ctx context.Context, id string) error
}
