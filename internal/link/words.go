package link

import (
	"encoding/binary"
	"strings"
)

// Words gives a key's fingerprint as four short words, to be compared by voice:
// its first 64 bits as proquints (arXiv:0901.4016), five letters for 16 bits.
func Words(fingerprint []byte) string {
	const consonants, vowels = "bdfghjklmnprstvz", "aiou"
	var out []string
	for i := 0; i+1 < len(fingerprint) && i < 8; i += 2 {
		n := binary.BigEndian.Uint16(fingerprint[i:])
		out = append(out, string([]byte{consonants[n>>12], vowels[n>>10&3], consonants[n>>6&15], vowels[n>>4&3], consonants[n&15]}))
	}
	return strings.Join(out, "-")
}
