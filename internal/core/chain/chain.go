// Package chain makes an audit trail hold: each line is hashed with the one before, so
// that a line that was changed, left out or put in later shows, and what is signed of
// the newest vouches for all before it.
package chain

import (
	"bytes"
	"crypto/ed25519"
	"crypto/sha256"
	"encoding/binary"
	"encoding/json"
	"fmt"
	"time"
)

// Line is a line as it is hashed.
type Line struct {
	Number   int64 // counts from 1, without a gap
	At       time.Time
	Who      string
	Actor    string
	Origin   string
	Kind     string
	Subject  string
	Object   string
	Revision int64           // 0 if it has none
	Changes  json.RawMessage // in any form of JSON
	Text     string
	Hash     []byte // as it is recorded
}

// Next is the hash of a line after one with the hash prev (nil for the first): SHA-256
// over prev and every field, each with its length before it, the instant in
// microseconds since the Unix epoch, changes as JSON with sorted keys.
func Next(prev []byte, l Line) ([]byte, error) {
	changes := []byte("[]")
	if len(bytes.TrimSpace(l.Changes)) > 0 {
		var v any
		err := json.Unmarshal(l.Changes, &v)
		if err == nil {
			changes, err = json.Marshal(v)
		}
		if err != nil {
			return nil, fmt.Errorf("changes of line %d: %w", l.Number, err)
		}
	}
	h := sha256.New()
	put := func(b []byte) {
		_ = binary.Write(h, binary.BigEndian, int64(len(b))) // a hash never fails
		_, _ = h.Write(b)
	}
	put(prev)
	for _, n := range []int64{l.Number, l.At.UnixMicro(), l.Revision} {
		put(binary.BigEndian.AppendUint64(nil, uint64(n)))
	}
	for _, s := range []string{l.Who, l.Actor, l.Origin, l.Kind, l.Subject, l.Object, string(changes), l.Text} {
		put([]byte(s))
	}
	return h.Sum(nil), nil
}

// Head is the newest line of a trail at an instant, signed by its site.
type Head struct {
	Number    int64     `json:"number"`
	Hash      []byte    `json:"hash"`
	At        time.Time `json:"at"`
	Signature []byte    `json:"signature"` // Ed25519
}

// signed is what a head's signature is over.
func (h Head) signed() []byte {
	b := binary.BigEndian.AppendUint64([]byte("kestrel trail head 1\x00"), uint64(h.Number))
	b = binary.BigEndian.AppendUint64(b, uint64(h.At.UnixMicro()))
	return append(b, h.Hash...)
}

// Sign makes a head.
func Sign(key ed25519.PrivateKey, number int64, hash []byte, at time.Time) Head {
	h := Head{Number: number, Hash: hash, At: at.UTC().Truncate(time.Microsecond)}
	h.Signature = ed25519.Sign(key, h.signed())
	return h
}

// Good tells whether a head was signed by the holder of a key.
func (h Head) Good(key ed25519.PublicKey) bool {
	return len(key) == ed25519.PublicKeySize && ed25519.Verify(key, h.signed(), h.Signature)
}

// Verifier goes through a trail from its first line on.
type Verifier struct {
	Lines  int64
	Faults []string // in words, the first maxFaults

	prev  []byte
	heads map[int64][]Held
}

// Held is a head as somebody holds it.
type Held struct {
	Head
	By string // who: this site, or another's name
}

const maxFaults = 20

// New makes one that holds a trail against heads.
func New(heads []Held) *Verifier {
	v := &Verifier{heads: map[int64][]Held{}}
	for _, h := range heads {
		v.heads[h.Number] = append(v.heads[h.Number], h)
	}
	return v
}

func (v *Verifier) fault(format string, a ...any) {
	if len(v.Faults) < maxFaults {
		v.Faults = append(v.Faults, fmt.Sprintf(format, a...))
	}
}

// Add takes the next line.
func (v *Verifier) Add(l Line) {
	if want := v.Lines + 1; l.Number != want {
		v.fault("After line %d comes line %d.", v.Lines, l.Number)
		v.Lines = l.Number - 1
	}
	v.Lines = l.Number
	hash, err := Next(v.prev, l)
	switch {
	case err != nil:
		v.fault("Line %d of %s cannot be read.", l.Number, l.At.UTC().Format(time.RFC3339))
	case !bytes.Equal(hash, l.Hash):
		v.fault("Line %d of %s was changed, or one before it: it does not follow from the line before.", l.Number, l.At.UTC().Format(time.RFC3339))
	}
	for _, h := range v.heads[l.Number] {
		if !bytes.Equal(h.Hash, l.Hash) {
			v.fault("Line %d is not the one that %s holds as signed at %s.", l.Number, h.By, h.At.UTC().Format(time.RFC3339))
		}
	}
	delete(v.heads, l.Number)
	v.prev = l.Hash // so that one fault is told once
}

// End ends at the line and hash that the records give as the newest.
func (v *Verifier) End(number int64, hash []byte) {
	switch {
	case number != v.Lines:
		v.fault("The trail ends at line %d, and has had %d.", v.Lines, number)
	case !bytes.Equal(hash, v.prev):
		v.fault("The last line, %d, is not the one that was written last.", v.Lines)
	}
	for n, hs := range v.heads {
		for _, h := range hs {
			v.fault("Line %d, which %s holds as signed at %s, is gone.", n, h.By, h.At.UTC().Format(time.RFC3339))
		}
	}
}
