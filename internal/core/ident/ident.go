// Package ident tells what can name a thing, wherever it comes from.
package ident

import (
	"unicode"

	"github.com/google/uuid"
)

// UUID tells whether a text is a UUID in its usual form, as this product writes them
// (RFC 9562, section 4): not in braces, nor as a URN, which databases read otherwise.
func UUID(s string) bool { return len(s) == 36 && uuid.Validate(s) == nil }

// Unseen finds a character that people cannot see, or that makes a text read otherwise
// than it is written: controls, line breaks, bidirectional marks, what is no UTF-8.
func Unseen(s string) (r rune, found bool) {
	for _, r := range s {
		if unicode.IsControl(r) || unicode.Is(unicode.Cf, r) || unicode.Is(unicode.Zl, r) || unicode.Is(unicode.Zp, r) || r == unicode.ReplacementChar {
			return r, true
		}
	}
	return 0, false
}
