package access

import (
	"context"
	"fmt"
	"strings"
	"testing"
	"testing/synctest"
	"time"

	"github.com/stretchr/testify/require"

	"kestrel/internal/clock"
	"kestrel/internal/core/actor"
	"kestrel/internal/records"
)

// Guessing is slowed down by name and address, however the name is written; another name
// is not, nor the same from elsewhere, until one address tries too many.
func TestGuessingIsSlowedDown(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		l := newLimiter(clock.Wall{})
		const here, there = "192.0.2.7", "192.0.2.66"
		spellings := []string{"anna", " anna", "ANNA", "Anna ", "\tanna"}
		for i, name := range spellings {
			require.True(t, l.allow(name, here), i)
		}
		for _, name := range spellings {
			require.False(t, l.allow(name, here), "%q gets round it", name)
		}
		require.True(t, l.allow("ben", here))
		require.True(t, l.allow("anna", there), "she is not locked out by others")
		time.Sleep(10 * time.Second)
		require.True(t, l.allow("anna", here))
		require.False(t, l.allow("anna", here))
		for n := range 60 {
			require.True(t, l.allow(fmt.Sprint("name-", n), there))
		}
		require.False(t, l.allow("another", there), "so many names are nobody's")
		require.True(t, l.allow("another", here))
		for n := range 25_000 { // endless names and addresses must not fill the memory
			l.allow(fmt.Sprint("nobody-", n), fmt.Sprint("host-", n))
			l.failed(fmt.Sprint("host-", n))
		}
		require.LessOrEqual(t, len(l.by), 10_002)
		require.LessOrEqual(t, len(l.bad), 10_001)
	})
}

// What fails is told of at once and then once a minute, with how often.
func TestFailuresAreCounted(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		l := newLimiter(clock.Wall{})
		require.Equal(t, 1, l.failed("a"))
		for range 7 {
			require.Zero(t, l.failed("a"))
		}
		require.Equal(t, 1, l.failed("b"))
		time.Sleep(tellEvery)
		require.Equal(t, 8, l.failed("a"))
		time.Sleep(tellEvery)
		require.Equal(t, 1, l.failed("a"))
	})
}

// A flood of passwords is hashed two at a time; who finds no turn is told so.
func TestFewPasswordsAreHashedAtOnce(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		h := newHasher()
		one, ok := h.turn(context.Background())
		require.True(t, ok)
		two, ok := h.turn(context.Background())
		require.True(t, ok)
		began := time.Now()
		_, ok = h.turn(context.Background())
		require.False(t, ok)
		require.Equal(t, hashWait, time.Since(began))
		one()
		three, ok := h.turn(context.Background())
		require.True(t, ok)
		two()
		three()
	})
}

func TestPasswords(t *testing.T) {
	h := newHasher()
	hash, ok := h.hash(t.Context(), "a long enough password")
	require.True(t, ok)
	require.NotContains(t, hash, "password")
	for password, want := range map[string]bool{"a long enough password": true, "a long enough passwore": false, "": false} {
		right, ok := h.check(t.Context(), hash, password)
		require.True(t, ok)
		require.Equal(t, want, right, password)
	}
	for _, broken := range []string{"", "argon2id$zz$00", "plain$00$00", noPassword} {
		right, ok := h.check(t.Context(), broken, "")
		require.True(t, ok)
		require.False(t, right, broken)
	}
}

// A token sees what both its own limits and its person's let it see.
func TestLimitsAreNarrowed(t *testing.T) {
	for name, c := range map[string]struct{ person, token, want []string }{
		"none":           {nil, nil, nil},
		"the person's":   {[]string{"gold"}, nil, []string{"gold"}},
		"the token's":    {nil, []string{"gold"}, []string{"gold"}},
		"both":           {[]string{"gold", "sea"}, []string{"GOLD"}, []string{"gold"}},
		"nothing common": {[]string{"gold"}, []string{"sea"}, nil},
	} {
		got := narrowed(c.person, c.token)
		if name == "nothing common" {
			require.NotEmpty(t, got, "nothing in common is not the same as no limit")
			require.NotContains(t, strings.Join(got, " "), "gold")
			continue
		}
		require.Len(t, got, len(c.want), name)
		for i := range c.want {
			require.True(t, strings.EqualFold(c.want[i], got[i]), name)
		}
	}
}

func TestRolesAreChecked(t *testing.T) {
	role, faults := checkRole(nil, actor.Viewer)
	require.Empty(t, faults)
	require.Equal(t, actor.Viewer, role)
	role, faults = checkRole(new("operator"), actor.Viewer)
	require.Empty(t, faults)
	require.Equal(t, actor.Operator, role)
	_, faults = checkRole(new("owner"), actor.Viewer)
	require.Equal(t, "role", faults[0].Field)
	_, faults = checkTags(new(make([]string, maxTags+1)))
	require.NotEmpty(t, faults)
}

// What people should not take as a password is told with what to do instead.
func TestWeakPasswords(t *testing.T) {
	for password, says := range map[string]string{
		"short": "10 to 200", strings.Repeat("long", 60): "10 to 200", "PassWord123": "tried first", "aaaabbbbaaaabbbb": "over and over", "Anna-anna-12": "little more than your name",
		"tab\there and there": "cannot be seen", "mark\u202e and more of it": "cannot be seen",
	} {
		require.Contains(t, weak(password, "anna"), says, password)
	}
	for _, good := range []string{"four gulls on the quay", "Möwe-Pier-7-Öl", "annabelle waits at six"} {
		require.Empty(t, weak(good, "anna"), good)
	}
}

func TestNetworks(t *testing.T) {
	some, faults := checkNetworks(&[]string{"192.0.2.77/24", "198.51.100.4", "2001:db8::/32"})
	require.Empty(t, faults)
	require.Equal(t, records.Tags{"192.0.2.0/24", "198.51.100.4/32", "2001:db8::/32"}, some)
	for from, good := range map[string]bool{"192.0.2.200": true, "::ffff:192.0.2.1": true, "192.0.3.1": false, "198.51.100.4": true, "198.51.100.5": false, "2001:db8:7::1": true, "": false, "elsewhere": false} {
		require.Equal(t, good, within(some, from), from)
	}
	require.True(t, within(nil, "192.0.3.1"))
	require.True(t, inside([]string{"192.0.2.128/25"}, some))
	require.False(t, inside([]string{"192.0.0.0/16"}, some))
	require.False(t, inside([]string{"192.0.2.128/25", "192.0.3.0/24"}, some))
	require.False(t, inside(nil, some), "from anywhere is wider")
	require.True(t, inside(nil, nil))
	for _, bad := range []string{"", "192.0.2.0/33", "norhaven", "fe80::1%eth0"} {
		_, faults = checkNetworks(&[]string{"192.0.2.0/24", bad})
		require.NotEmpty(t, faults, bad)
		require.Equal(t, "networks[1]", faults[0].Field)
	}
}
