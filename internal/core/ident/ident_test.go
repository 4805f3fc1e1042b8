package ident_test

import (
	"testing"

	"github.com/stretchr/testify/require"

	"kestrel/internal/core/ident"
)

func TestUUID(t *testing.T) {
	require.True(t, ident.UUID("11111111-1111-4111-8111-111111111111"))
	for _, bad := range []string{"", "urn:uuid:11111111-1111-4111-8111-111111111111", "{11111111-1111-4111-8111-111111111111}", "11111111111141118111111111111111", "11111111-1111-4111-8111-11111111111x", "11111111-1111-4111-8111-1111111111111"} {
		require.False(t, ident.UUID(bad), bad)
	}
}

func TestUnseen(t *testing.T) {
	for _, good := range []string{"", "Ticketing", "Fähre 7 – Öl", "渡船", "🚢", "a\u00a0b"} {
		_, found := ident.Unseen(good)
		require.False(t, found, good)
	}
	for bad, want := range map[string]rune{"a\x00": 0, "a\nb": '\n', "\x1b[2J": 0x1b, "ab\u202ec": 0x202e, "\u200b": 0x200b, "a\xffb": '\ufffd', "a\u2028b": 0x2028, "\x7f": 0x7f} {
		r, found := ident.Unseen(bad)
		require.True(t, found, "%q", bad)
		require.Equal(t, want, r)
	}
}

func TestLookalikes(t *testing.T) {
	for _, x := range [][2]string{{"anna", "аnna"}, {"anna", "ANNA"}, {"olaf", "0laf"}, {"olaf", "оlаf"}, {"harbour-master", "harbour-rnaster"}, {"liv", "1iv"}, {"anna", "ａｎｎａ"}, {"Cape", "Саре"}, {"Nora", "Νοra"}, {"a b", "a  b"}} {
		require.Equal(t, ident.Skeleton(x[0]), ident.Skeleton(x[1]), "%q", x)
	}
	for _, x := range [][2]string{{"anna", "hanna"}, {"jörg", "jorg"}, {"olaf", "olav"}, {"Ticketing", "Ticketing 2"}, {"渡船", "渡舟"}} {
		require.NotEqual(t, ident.Skeleton(x[0]), ident.Skeleton(x[1]), "%q", x)
	}
	for _, good := range []string{"", "anna", "Jörg Ståle", "Анна", "Άννα", "渡船ひらがなカタカナ", "김민수", "anna (Анна)", "pier 7", "O'Brien", "ş̌"} {
		require.False(t, ident.Mixed(good), good)
	}
	for _, bad := range []string{"аnna", "Sкerry", "Νora"} {
		require.True(t, ident.Mixed(bad), bad)
	}
}
