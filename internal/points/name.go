package points

import (
	"encoding/hex"
	"fmt"

	"github.com/zeebo/blake3"
)

// BlockSize is the size of a block: disks are cut at its multiples, and the
// last block of a disk is filled up with zeros.
const BlockSize = 64 << 10

// Name is the BLAKE3 hash by which a block or a tree node is kept. The zero
// Name stands for content that is all zeros and is not stored.
type Name [32]byte

// IsZero reports whether n stands for all-zero content.
func (n Name) IsZero() bool { return n == Name{} }

// String gives the name in hexadecimal.
func (n Name) String() string { return hex.EncodeToString(n[:]) }

// MarshalText implements encoding.TextMarshaler.
func (n Name) MarshalText() ([]byte, error) { return []byte(n.String()), nil }

// UnmarshalText implements encoding.TextUnmarshaler.
func (n *Name) UnmarshalText(b []byte) error {
	if len(b) != 2*len(n) {
		return fmt.Errorf("a block name has %d hexadecimal digits, not %d", 2*len(n), len(b))
	}
	_, err := hex.Decode(n[:], b)
	return err
}

// NameOf computes the name of a full block; all-zero content has the zero Name.
func NameOf(block []byte) Name {
	if isZero(block) {
		return Name{}
	}
	return blake3.Sum256(block)
}

var zeros [4096]byte // read only: what isZero compares with

func isZero(b []byte) bool {
	for len(b) >= len(zeros) {
		if [4096]byte(b) != zeros {
			return false
		}
		b = b[len(zeros):]
	}
	for _, x := range b {
		if x != 0 {
			return false
		}
	}
	return true
}

// nodeName hashes a tree node. The derived key keeps nodes and blocks apart,
// so that a disk that holds the bytes of a node is no such node.
func nodeName(content []byte) Name {
	var n Name
	h := blake3.NewDeriveKey("kestrel tide 2026 tree node 1")
	_, _ = h.Write(content)
	h.Sum(n[:0])
	return n
}
