// Package link is the trust and the data path between two paired sites: mutual
// TLS in which each side knows the other by its public key, exchanged once
// through an invitation.
package link

import (
	"bytes"
	"crypto/ed25519"
	"crypto/rand"
	"crypto/sha256"
	"crypto/tls"
	"crypto/x509"
	"crypto/x509/pkix"
	"encoding/base64"
	"encoding/json"
	"encoding/pem"
	"errors"
	"fmt"
	"io/fs"
	"math/big"
	"os"
	"path/filepath"
	"strings"
	"time"

	"kestrel/internal/core/chain"
	"kestrel/internal/evidence"
)

// Identity is a site's key pair.
type Identity struct {
	cert        tls.Certificate
	Fingerprint []byte // SHA-256 of the public key (SubjectPublicKeyInfo)
}

// LoadIdentity reads the identity from dir, making it on first use.
func LoadIdentity(dir string, now time.Time) (*Identity, error) {
	path := filepath.Join(dir, "identity.pem")
	b, err := os.ReadFile(path)
	if errors.Is(err, fs.ErrNotExist) {
		if b, err = makeIdentity(now); err == nil {
			err = os.WriteFile(path, b, 0o600)
		}
	}
	if err != nil {
		return nil, fmt.Errorf("site identity: %w", err)
	}
	cert, err := tls.X509KeyPair(b, b)
	if err != nil {
		return nil, fmt.Errorf("site identity %s: %w", path, err)
	}
	leaf, err := x509.ParseCertificate(cert.Certificate[0])
	if err != nil {
		return nil, fmt.Errorf("site identity %s: %w", path, err)
	}
	return &Identity{cert, keyOf(leaf)}, nil
}

func makeIdentity(now time.Time) ([]byte, error) {
	pub, key, err := ed25519.GenerateKey(rand.Reader)
	if err != nil {
		return nil, err
	}
	// The name and the dates of the certificate mean nothing: the key itself is checked.
	t := &x509.Certificate{SerialNumber: big.NewInt(1), Subject: pkix.Name{CommonName: "kestrel tide site"},
		NotBefore: now.Add(-24 * time.Hour), NotAfter: now.AddDate(100, 0, 0)}
	der, err := x509.CreateCertificate(rand.Reader, t, t, pub, key)
	if err != nil {
		return nil, err
	}
	pk, err := x509.MarshalPKCS8PrivateKey(key)
	if err != nil {
		return nil, err
	}
	return append(pem.EncodeToMemory(&pem.Block{Type: "CERTIFICATE", Bytes: der}),
		pem.EncodeToMemory(&pem.Block{Type: "PRIVATE KEY", Bytes: pk})...), nil
}

func keyOf(c *x509.Certificate) []byte {
	sum := sha256.Sum256(c.RawSubjectPublicKeyInfo)
	return sum[:]
}

// ErrWrongKey says that the peer does not have the key it was paired with.
var ErrWrongKey = errors.New("the other side has another key than the one it was paired with")

// clientTLS trusts exactly the key with the given fingerprint.
func (id *Identity) clientTLS(key []byte) *tls.Config {
	return &tls.Config{MinVersion: tls.VersionTLS13, Certificates: []tls.Certificate{id.cert},
		InsecureSkipVerify: true, // chain and name mean nothing here; VerifyConnection checks the key
		VerifyConnection: func(cs tls.ConnectionState) error {
			if len(cs.PeerCertificates) == 0 || string(keyOf(cs.PeerCertificates[0])) != string(key) {
				return ErrWrongKey
			}
			return nil
		}}
}

// serverTLS lets in those whose key allow accepts.
func (id *Identity) serverTLS(allow func(key []byte) bool) *tls.Config {
	return &tls.Config{MinVersion: tls.VersionTLS13, Certificates: []tls.Certificate{id.cert}, ClientAuth: tls.RequireAnyClientCert,
		VerifyConnection: func(cs tls.ConnectionState) error {
			if len(cs.PeerCertificates) == 0 || !allow(keyOf(cs.PeerCertificates[0])) {
				return errors.New("not a paired site")
			}
			return nil
		}}
}

// Invite is what an invitation string carries.
type Invite struct {
	Site        string    `json:"s"` // name of the inviting site
	SiteID      string    `json:"i"`
	Address     string    `json:"a"` // host:port of its link listener
	Fingerprint []byte    `json:"k"`
	Token       []byte    `json:"t"`
	For         string    `json:"f,omitempty"` // name of the site that may use it
	Expires     time.Time `json:"e"`
}

const invitePrefix = "tide1."

// Text writes the invitation as one string.
func (v Invite) Text() string {
	b, _ := json.Marshal(v) // strings, bytes and a time always marshal
	sum := sha256.Sum256(b)
	return invitePrefix + base64.RawURLEncoding.EncodeToString(append(b, sum[:4]...))
}

// ParseInvite reads what Text wrote; blanks and line breaks from copying are
// forgiven, missing characters are noticed.
func ParseInvite(s string) (Invite, error) {
	s = strings.Join(strings.Fields(s), "")
	rest, ok := strings.CutPrefix(s, invitePrefix)
	if !ok {
		return Invite{}, fmt.Errorf("an invitation begins with %q", invitePrefix)
	}
	b, err := base64.RawURLEncoding.DecodeString(rest)
	if err != nil || len(b) < 5 {
		return Invite{}, errors.New("characters are missing or changed; copy the whole string again")
	}
	body, sum := b[:len(b)-4], sha256.Sum256(b[:len(b)-4])
	var v Invite
	if string(sum[:4]) != string(b[len(b)-4:]) || json.Unmarshal(body, &v) != nil || v.Address == "" || len(v.Fingerprint) != 32 || len(v.Token) < 16 {
		return Invite{}, errors.New("characters are missing or changed; copy the whole string again")
	}
	return v, nil
}

// SignEvidence makes the signed file of evidence.
func (id *Identity) SignEvidence(payload []byte) ([]byte, error) {
	return evidence.Sign(id.cert.PrivateKey.(ed25519.PrivateKey), payload) // no other kind is ever made
}

// SignHead signs the newest line of this site's trail.
func (id *Identity) SignHead(number int64, hash []byte, at time.Time) chain.Head {
	return chain.Sign(id.cert.PrivateKey.(ed25519.PrivateKey), number, hash, at) // no other kind is ever made
}

// Signed tells whether a head was signed by this site.
func (id *Identity) Signed(h chain.Head) bool {
	return h.Good(id.cert.PrivateKey.(ed25519.PrivateKey).Public().(ed25519.PublicKey))
}

// Tell is a head as it is told to other sites: with the key, of which they know the
// fingerprint.
func (id *Identity) Tell(h chain.Head) *TrailHead {
	return &TrailHead{Head: h, Key: id.cert.PrivateKey.(ed25519.PrivateKey).Public().(ed25519.PublicKey)}
}

// SignedBy tells whether a head was signed by the site whose key has a fingerprint.
func (h TrailHead) SignedBy(fingerprint []byte) bool {
	der, err := x509.MarshalPKIXPublicKey(h.Key)
	if err != nil {
		return false
	}
	sum := sha256.Sum256(der)
	return bytes.Equal(sum[:], fingerprint) && h.Good(h.Key)
}
