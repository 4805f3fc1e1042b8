package service

import (
	"crypto/aes"
	"crypto/cipher"
	"crypto/rand"
	"crypto/sha256"
	"crypto/subtle"
	"encoding/base64"
	"encoding/hex"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"strings"
	"sync"

	"golang.org/x/crypto/argon2"
	"golang.org/x/time/rate"

	"kestrel/internal/clock"
)

// sealer encrypts what the database must not hold in clear (AES-256-GCM), with
// a key that lies beside the site's identity.
type sealer struct{ aead cipher.AEAD }

func newSealer(dir string) (*sealer, error) {
	path := filepath.Join(dir, "secrets.key")
	b, err := os.ReadFile(path)
	if errors.Is(err, fs.ErrNotExist) {
		b = []byte(newSecret(32) + "\n")
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
	return &sealer{aead}, err
}

func (s *sealer) seal(secret string) []byte {
	nonce := make([]byte, s.aead.NonceSize())
	_, _ = rand.Read(nonce) // never fails since Go 1.24
	return s.aead.Seal(nonce, nonce, []byte(secret), nil)
}

func (s *sealer) open(b []byte) (string, error) {
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

// newSecret gives n random bytes as text.
func newSecret(n int) string {
	b := make([]byte, n)
	_, _ = rand.Read(b) // never fails since Go 1.24
	return base64.RawURLEncoding.EncodeToString(b)
}

// hashSecret is how random secrets are looked up; they need no salt.
func hashSecret(s string) []byte {
	h := sha256.Sum256([]byte(s))
	return h[:]
}

// Argon2id with the second parameter set that RFC 9106 recommends, cut to one
// lane: 64 MiB, three passes.
func hashPassword(password string) string {
	salt := make([]byte, 16)
	_, _ = rand.Read(salt) // never fails since Go 1.24
	return "argon2id$" + hex.EncodeToString(salt) + "$" + hex.EncodeToString(argon2.IDKey([]byte(password), salt, 3, 64<<10, 1, 32))
}

func checkPassword(hash, password string) bool {
	f := strings.Split(hash, "$")
	if len(f) != 3 || f[0] != "argon2id" {
		return false
	}
	salt, err1 := hex.DecodeString(f[1])
	want, err2 := hex.DecodeString(f[2])
	return err1 == nil && err2 == nil && subtle.ConstantTimeCompare(want, argon2.IDKey([]byte(password), salt, 3, 64<<10, 1, 32)) == 1
}

// limiter slows down guessing: five tries a name at once, then one in ten
// seconds.
type limiter struct {
	clk clock.Clock
	mu  sync.Mutex
	by  map[string]*rate.Limiter
}

func newLimiter(clk clock.Clock) *limiter { return &limiter{clk: clk, by: map[string]*rate.Limiter{}} }

func (l *limiter) allow(name string) bool {
	l.mu.Lock()
	defer l.mu.Unlock()
	if len(l.by) > 10_000 {
		clear(l.by) // somebody tries endless names; passwords are slow to check anyway
	}
	x, ok := l.by[name]
	if !ok {
		x = rate.NewLimiter(0.1, 5)
		l.by[name] = x
	}
	return x.AllowN(l.clk.Now(), 1)
}
