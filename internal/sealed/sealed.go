// Package sealed encrypts the secrets that a site has to read again, so that the
// database holds none in clear (AES-256-GCM), with a key that lies beside the site's
// identity.
package sealed

import (
	"crypto/aes"
	"crypto/cipher"
	"crypto/rand"
	"crypto/sha256"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"strings"
)

// Box encrypts and decrypts.
type Box struct{ aead cipher.AEAD }

// Open opens the box whose key is in a site's folder; the first time, it makes the key.
func Open(dir string) (*Box, error) {
	path := filepath.Join(dir, "secrets.key")
	b, err := os.ReadFile(path)
	if errors.Is(err, fs.ErrNotExist) {
		b = []byte(rand.Text() + rand.Text() + "\n") // 260 random bits
		err = os.WriteFile(path, b, 0o600)
	}
	if err != nil {
		return nil, fmt.Errorf("key file: %w", err)
	}
	key := sha256.Sum256([]byte(strings.TrimSpace(string(b))))
	block, err := aes.NewCipher(key[:])
	if err != nil {
		return nil, err
	}
	aead, err := cipher.NewGCM(block)
	return &Box{aead}, err
}

// Seal encrypts.
func (s *Box) Seal(secret string) []byte {
	nonce := make([]byte, s.aead.NonceSize())
	_, _ = rand.Read(nonce) // never fails since Go 1.24
	return s.aead.Seal(nonce, nonce, []byte(secret), nil)
}

// Open decrypts what Seal gave.
func (s *Box) Open(b []byte) (string, error) {
	n := s.aead.NonceSize()
	if len(b) < n {
		return "", errors.New("encrypted secret is cut short")
	}
	out, err := s.aead.Open(nil, b[:n], b[n:], nil)
	if err != nil {
		return "", errors.New("a secret in the database was encrypted with another key file than secrets.key")
	}
	return string(out), nil
}
