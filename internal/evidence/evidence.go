// Package evidence makes the signed records of recoveries that were tried, and checks them
// without the service that made them. A file is a JSON Web Signature in its flattened JSON form
// (RFC 7515, section 7.2.2) with Ed25519 (RFC 8037), whose header carries the key; its payload is
// a Document as JSON. Each names the hash of the one before, so that none can be left out.
package evidence

import (
	"bytes"
	"crypto/ed25519"
	"crypto/sha256"
	"crypto/x509"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"time"

	"github.com/go-jose/go-jose/v4"
)

// Format is what documents say of themselves.
const Format = "kestrel-tide evidence 1"

// MaxFile bounds a file that is read, in bytes.
const MaxFile = 64 << 20

// Document is what is signed.
type Document struct {
	Format   string    `json:"format"`
	Number   int64     `json:"number"`             // from 1 on, without gaps
	Previous string    `json:"previous,omitempty"` // hash of the one before; empty of the first
	SiteID   string    `json:"siteId"`
	Site     string    `json:"site"`
	MadeAt   time.Time `json:"madeAt"`
	Kind     string    `json:"kind"` // drill or failover
	Group    string    `json:"group"`
	Result   string    `json:"result"`
	// Promised is what was promised of the group then; Record is all that is known of the
	// recovery, in the form of the contract's Drill or Failover.
	Promised Promised        `json:"promised"`
	Record   json.RawMessage `json:"record"`
	// Screens are what machines showed, as PNGs, by their names.
	Screens map[string][]byte `json:"screens,omitempty"`
}

// Promised is what was promised of a group, in seconds; 0 is nothing.
type Promised struct {
	RPO  int64  `json:"rpoTargetSeconds"`
	RTO  int64  `json:"rtoTargetSeconds"`
	Tier string `json:"tier,omitempty"`
}

// Hash is the SHA-256 of a payload, in hexadecimal.
func Hash(payload []byte) string {
	sum := sha256.Sum256(payload)
	return hex.EncodeToString(sum[:])
}

// Fingerprint is the SHA-256 of a public key (SubjectPublicKeyInfo), in hexadecimal: that of a
// site stands on its page.
func Fingerprint(key ed25519.PublicKey) string {
	b, err := x509.MarshalPKIXPublicKey(key)
	if err != nil {
		panic(err) // a key of this kind always marshals
	}
	return Hash(b)
}

// Sign makes the file of a document.
func Sign(key ed25519.PrivateKey, payload []byte) ([]byte, error) {
	s, err := jose.NewSigner(jose.SigningKey{Algorithm: jose.EdDSA, Key: key}, &jose.SignerOptions{EmbedJWK: true})
	if err != nil {
		return nil, fmt.Errorf("sign evidence: %w", err)
	}
	x, err := s.Sign(payload)
	if err != nil {
		return nil, fmt.Errorf("sign evidence: %w", err)
	}
	return append([]byte(x.FullSerialize()), '\n'), nil
}

// Signed is a document whose signature is good.
type Signed struct {
	Document
	Key  ed25519.PublicKey
	Hash string
}

// Read checks a file, and gives what it says. The error says what is wrong with it.
func Read(file []byte) (Signed, error) {
	if len(file) > MaxFile {
		return Signed{}, fmt.Errorf("it is larger than %d MiB", MaxFile>>20)
	}
	x, err := jose.ParseSignedJSON(string(bytes.TrimSpace(file)), []jose.SignatureAlgorithm{jose.EdDSA})
	if err != nil || len(x.Signatures) != 1 {
		return Signed{}, errors.New("it is no signed evidence")
	}
	jwk := x.Signatures[0].Protected.JSONWebKey
	if jwk == nil {
		return Signed{}, errors.New("it does not carry the key that it was signed with")
	}
	key, is := jwk.Key.(ed25519.PublicKey)
	if !is || len(key) != ed25519.PublicKeySize {
		return Signed{}, errors.New("its key is of another kind")
	}
	payload, err := x.Verify(key)
	if err != nil {
		return Signed{}, errors.New("the signature does not fit: it was changed after it was signed")
	}
	s := Signed{Key: key, Hash: Hash(payload)}
	if err := json.Unmarshal(payload, &s.Document); err != nil {
		return Signed{}, fmt.Errorf("what was signed cannot be read: %w", err)
	}
	if s.Format != Format {
		return Signed{}, fmt.Errorf("it is of the form %q, and this program knows %q", s.Format, Format)
	}
	return s, nil
}

// Follows says why evidence does not follow on another of the same site; nil if it does.
func (s Signed) Follows(before Signed) error {
	switch {
	case s.SiteID != before.SiteID:
		return fmt.Errorf("it is of the site %s, and the one before of %s", s.Site, before.Site)
	case s.Number != before.Number+1:
		return fmt.Errorf("it is number %d, and the one before is number %d", s.Number, before.Number)
	case s.Previous != before.Hash:
		return errors.New("it does not follow on the one before: one of them was replaced")
	}
	return nil
}
