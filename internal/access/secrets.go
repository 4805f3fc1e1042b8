package access

import (
	"context"
	"crypto/rand"
	"crypto/sha256"
	"crypto/subtle"
	"encoding/base64"
	"encoding/hex"
	"strings"
	"sync"
	"time"

	"golang.org/x/crypto/argon2"
	"golang.org/x/time/rate"

	"kestrel/internal/clock"
)

// NewSecret gives n random bytes as text.
func NewSecret(n int) string {
	b := make([]byte, n)
	_, _ = rand.Read(b) // never fails since Go 1.24
	return base64.RawURLEncoding.EncodeToString(b)
}

// HashSecret is how random secrets are looked up; they need no salt.
func HashSecret(s string) []byte {
	h := sha256.Sum256([]byte(s))
	return h[:]
}

// hasher bounds how many passwords are hashed at once: each takes 64 MiB, and a
// flood of sign-ins must not take the site's memory and processors.
type hasher struct{ room chan struct{} }

const (
	hashesAtOnce = 2
	hashWait     = 5 * time.Second // for a turn
)

func newHasher() hasher { return hasher{make(chan struct{}, hashesAtOnce)} }

// turn waits for room; false means that there was none in time.
func (h hasher) turn(ctx context.Context) (done func(), ok bool) {
	ctx, cancel := context.WithTimeout(ctx, hashWait)
	defer cancel()
	select {
	case h.room <- struct{}{}:
		return func() { <-h.room }, true
	case <-ctx.Done():
		return nil, false
	}
}

// Argon2id with the second parameter set that RFC 9106 recommends, cut to one
// lane: 64 MiB, three passes.
func (h hasher) hash(ctx context.Context, password string) (string, bool) {
	done, ok := h.turn(ctx)
	if !ok {
		return "", false
	}
	defer done()
	salt := make([]byte, 16)
	_, _ = rand.Read(salt) // never fails since Go 1.24
	return "argon2id$" + hex.EncodeToString(salt) + "$" + hex.EncodeToString(argon2.IDKey([]byte(password), salt, 3, 64<<10, 1, 32)), true
}

// noPassword is checked where there is no such person, so that it takes as long.
const noPassword = "argon2id$00000000000000000000000000000000$00"

func (h hasher) check(ctx context.Context, hash, password string) (right, ok bool) {
	done, ok := h.turn(ctx)
	if !ok {
		return false, false
	}
	defer done()
	f := strings.Split(hash, "$")
	if len(f) != 3 || f[0] != "argon2id" {
		return false, true
	}
	salt, err1 := hex.DecodeString(f[1])
	want, err2 := hex.DecodeString(f[2])
	return err1 == nil && err2 == nil && subtle.ConstantTimeCompare(want, argon2.IDKey([]byte(password), salt, 3, 64<<10, 1, 32)) == 1, true
}

// limiter slows down guessing: from one address five tries of a name at once, then one
// in ten seconds; of all names together sixty, then one a second. Who tries somebody's
// name from elsewhere slows down nobody but themselves.
type limiter struct {
	clk clock.Clock
	mu  sync.Mutex
	by  map[string]*rate.Limiter
	bad map[string]*failures // by address
	// codes are by person; only who knows a password gets one, so they are few.
	codes map[string]*rate.Limiter
}

// failures are the sign-ins from an address that failed and were not told of yet.
type failures struct {
	count int
	told  time.Time
}

// tellEvery is how often the trail tells of sign-ins that fail from one address.
const tellEvery = time.Minute

func newLimiter(clk clock.Clock) *limiter {
	return &limiter{clk: clk, by: map[string]*rate.Limiter{}, bad: map[string]*failures{}, codes: map[string]*rate.Limiter{}}
}

// normalise is how names are looked up, by the limiter as by the database.
func normalise(name string) string { return strings.ToLower(strings.TrimSpace(name)) }

func (l *limiter) allow(name, from string) bool {
	l.mu.Lock()
	defer l.mu.Unlock()
	if len(l.by) > 10_000 {
		clear(l.by) // somebody tries endless names; passwords are slow to check anyway
	}
	one := func(key string, every rate.Limit, burst int) bool {
		x, ok := l.by[key]
		if !ok {
			x = rate.NewLimiter(every, burst)
			l.by[key] = x
		}
		return x.AllowN(l.clk.Now(), 1)
	}
	return one("from "+from, 1, 60) && one(normalise(name)+" from "+from, 0.1, 5)
}

// allowCode slows down guessing at the codes of somebody whose password is known: from
// wherever, eight at once, then one a minute.
func (l *limiter) allowCode(person string) bool {
	l.mu.Lock()
	defer l.mu.Unlock()
	x, ok := l.codes[person]
	if !ok {
		x = rate.NewLimiter(rate.Every(time.Minute), 8)
		l.codes[person] = x
	}
	return x.AllowN(l.clk.Now(), 1)
}

// failed counts a sign-in that failed. It gives how many are to be told of now; 0 while
// it was done a moment ago.
func (l *limiter) failed(from string) int {
	l.mu.Lock()
	defer l.mu.Unlock()
	if len(l.bad) > 10_000 {
		clear(l.bad)
	}
	f, ok := l.bad[from]
	if !ok {
		f = &failures{}
		l.bad[from] = f
	}
	f.count++
	now := l.clk.Now()
	if !f.told.IsZero() && now.Sub(f.told) < tellEvery {
		return 0
	}
	n := f.count
	f.count, f.told = 0, now
	return n
}
