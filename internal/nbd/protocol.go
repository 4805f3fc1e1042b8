// Package nbd speaks the Network Block Device protocol as far as a backup
// product needs it: a client that reads disks and asks which parts of them are
// allocated or changed, and a server that hands disks out, read-only as a rule. It follows
// the protocol document of the NBD project (doc/proto.md): fixed newstyle
// negotiation, structured replies, metadata contexts.
package nbd

import (
	"encoding/binary"
	"errors"
	"fmt"
	"io"
)

const (
	magicInit       = 0x4e42444d41474943 // "NBDMAGIC"
	magicOption     = 0x49484156454f5054 // "IHAVEOPT"
	magicOptReply   = 0x3e889045565a9
	magicRequest    = 0x25609513
	magicSimple     = 0x67446698
	magicStructured = 0x668e33ef

	flagFixedNewstyle = 1 << 0
	flagNoZeroes      = 1 << 1

	optExportName  = 1
	optAbort       = 2
	optList        = 3
	optStartTLS    = 5
	optInfo        = 6
	optGo          = 7
	optStructured  = 8
	optListContext = 9
	optSetContext  = 10

	repAck         = 1
	repServer      = 2
	repInfo        = 3
	repMetaContext = 4
	repErrUnsup    = 1<<31 | 1
	repErrPolicy   = 1<<31 | 2
	repErrInvalid  = 1<<31 | 3
	repErrTLS      = 1<<31 | 5
	repErrUnknown  = 1<<31 | 6

	infoExport    = 0
	infoBlockSize = 3

	transHasFlags  = 1 << 0
	transReadOnly  = 1 << 1
	transFlush     = 1 << 2
	transFUA       = 1 << 3
	transTrim      = 1 << 5
	transZeroes    = 1 << 6
	transSendDF    = 1 << 7
	transMultiConn = 1 << 8

	cmdRead        = 0
	cmdWrite       = 1
	cmdDisc        = 2
	cmdFlush       = 3
	cmdTrim        = 4
	cmdZeroes      = 6
	cmdFlagFUA     = 1 << 0
	cmdBlockStatus = 7

	replyFlagDone       = 1
	chunkNone           = 0
	chunkOffsetData     = 1
	chunkOffsetHole     = 2
	chunkBlockStatus    = 5
	chunkError          = 1<<15 | 1
	chunkErrorOffset    = 1<<15 | 2
	statusReqOne        = 1 << 3
	errPerm, errIO      = 1, 5
	errInvalid, errNoSy = 22, 95
	errNoSpace          = 28

	// MaxRequest is the most that one read asks for: the protocol document
	// lets a server refuse more.
	MaxRequest = 32 << 20
	maxOption  = 64 << 10
)

// Allocation flags of the context "base:allocation".
const (
	AllocationContext = "base:allocation"
	StateHole         = 1 << 0
	StateZero         = 1 << 1
)

// StateDirty is set on changed areas in a dirty-bitmap context.
const StateDirty = 1 << 0

// Extent is a run of a disk with the flags of one metadata context.
type Extent struct {
	Length int64
	Flags  uint32
}

// ErrProtocol is wrapped where a peer does not keep to the protocol.
var ErrProtocol = errors.New("nbd: protocol error")

func put(vs ...any) []byte {
	var b []byte
	be := binary.BigEndian
	for _, v := range vs {
		switch v := v.(type) {
		case uint16:
			b = be.AppendUint16(b, v)
		case uint32:
			b = be.AppendUint32(b, v)
		case uint64:
			b = be.AppendUint64(b, v)
		case string:
			b = append(b, v...)
		case []byte:
			b = append(b, v...)
		default:
			panic(fmt.Sprintf("nbd: put %T", v)) // a mistake of this package
		}
	}
	return b
}

func readN(r io.Reader, n int) ([]byte, error) {
	b := make([]byte, n)
	_, err := io.ReadFull(r, b)
	return b, err
}
