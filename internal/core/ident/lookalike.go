package ident

import (
	"strings"
	"unicode"

	"golang.org/x/text/unicode/norm"
)

// Skeleton is a text as it looks at a glance: two names with one skeleton are taken for
// each other. It follows UTS 39, section 4, for the letters of Latin, Cyrillic and Greek
// that look alike in most typefaces; accents count, since people see them.
func Skeleton(s string) string {
	var b strings.Builder
	for _, r := range norm.NFKD.String(strings.Join(strings.Fields(s), " ")) {
		if like, ok := likeLatin(r); ok {
			r = like
		}
		if r = unicode.ToLower(r); r == '\'' || r == '`' || r == '’' {
			r = '\''
		}
		if like, ok := likeLatin(r); ok {
			r = like
		}
		b.WriteRune(r)
	}
	// Pairs that run into one another, and digits that pass for letters.
	return strings.NewReplacer("rn", "m", "vv", "w", "0", "o", "1", "l", "i", "l", "|", "l", "5", "s").Replace(b.String())
}

// likeLatin gives the Latin letter that a letter of Cyrillic or Greek looks like.
func likeLatin(r rune) (rune, bool) {
	const others = "аеорсухіјѕһԁԛԝӏвкмнтАВЕЅІЈКМНОРСТУХαονρτικηΑΒΕΖΗΙΚΜΝΟΡΤΥΧ"
	const latins = "aeopcyxijshdqwlbkmhtABESIJKMHOPCTYXaovptiknABEZHIKMNOPTYX"
	at := 0
	for _, o := range others {
		if o == r {
			return rune(latins[at]), true
		}
		at++
	}
	return r, false
}

// Mixed tells a word whose letters are of more scripts than any language writes in one
// (UTS 39, section 5.2, highly restrictive): it is made to be taken for another.
func Mixed(s string) bool {
	for _, word := range strings.FieldsFunc(s, func(r rune) bool { return !unicode.IsLetter(r) && !unicode.IsMark(r) }) {
		scripts := map[string]bool{}
		for _, r := range word {
			if unicode.Is(unicode.Common, r) || unicode.Is(unicode.Inherited, r) {
				continue
			}
			for name, table := range unicode.Scripts {
				if unicode.Is(table, r) {
					scripts[name] = true
				}
			}
		}
		if len(scripts) > 1 && !together(scripts, "Latin", "Han", "Hiragana", "Katakana") && !together(scripts, "Latin", "Han", "Bopomofo") && !together(scripts, "Latin", "Han", "Hangul") {
			return true
		}
	}
	return false
}

func together(scripts map[string]bool, allowed ...string) bool {
	n := 0
	for _, a := range allowed {
		if scripts[a] {
			n++
		}
	}
	return n == len(scripts)
}
