package berth

import (
	"fmt"
	"slices"
	"strconv"
	"strings"
	"unicode"
	"unicode/utf8"
)

// Names is what a platform accepts as the name of a machine. The zero value accepts
// anything.
type Names struct {
	Most int // characters; 0 is not limited
	// Only is the characters beside letters and digits of ASCII that may be in a name; if
	// it is empty, all but those of Never may.
	Only  string
	Never string
	// Start says that the first character is a letter or a digit.
	Start bool
}

func plain(r rune) bool {
	return r < utf8.RuneSelf && (unicode.IsLetter(r) || unicode.IsDigit(r))
}

func (n Names) bears(r rune) bool {
	if n.Only != "" {
		return plain(r) || strings.ContainsRune(n.Only, r)
	}
	return !unicode.IsControl(r) && !strings.ContainsRune(n.Never, r)
}

// Refuses says why a name would be refused, and gives one that would not be; nothing if
// it is accepted.
func (n Names) Refuses(name string) (why, instead string) {
	length := len([]rune(name))
	switch {
	case strings.TrimSpace(name) == "":
		return "it is empty", ""
	case strings.TrimSpace(name) != name:
		why = "it begins or ends with a blank"
	case n.Most > 0 && length > n.Most:
		why = fmt.Sprintf("it has %d characters, and %d are the most", length, n.Most)
	case n.Start && !plain([]rune(name)[0]):
		why = fmt.Sprintf("it begins with %q, and not with a letter or digit", []rune(name)[0])
	}
	for _, r := range name {
		if why == "" && !n.bears(r) {
			why = fmt.Sprintf("it has the character %q", r)
		}
	}
	if why == "" {
		return "", ""
	}
	return why, n.mend(name)
}

// mend makes a name that is accepted of one that is not.
func (n Names) mend(name string) string {
	stand := '-'
	if !n.bears(stand) {
		stand = 'x'
	}
	out := []rune(strings.Map(func(r rune) rune {
		if n.bears(r) {
			return r
		}
		return stand
	}, strings.TrimSpace(name)))
	for n.Start && len(out) > 0 && !plain(out[0]) {
		out = out[1:]
	}
	if n.Most > 0 && len(out) > n.Most {
		out = out[:n.Most]
	}
	return strings.TrimSpace(string(out))
}

// Before finds the machine that one of a name was once, among the names of old ones: the same
// name, or that from which FreeNames has made it; -1 is none.
func Before(name string, old []string) int {
	is := func(name string) int {
		return slices.IndexFunc(old, func(o string) bool { return strings.EqualFold(o, name) })
	}
	if at := is(name); at >= 0 {
		return at
	}
	if base, ok := numbered(name); ok {
		return is(base)
	}
	return -1
}

// numbered takes the number from a name that FreeNames has given.
func numbered(name string) (base string, ok bool) {
	at := strings.LastIndexByte(name, '-')
	if at < 0 {
		return "", false
	}
	n, err := strconv.Atoi(name[at+1:])
	return name[:at], err == nil && n > 1
}

// namePattern is what a machine's name takes the place of in a pattern.
const namePattern = "{name}"

// Named gives the name that a pattern makes of one; an empty pattern leaves it.
func Named(pattern, name string) string {
	if pattern == "" {
		return name
	}
	return strings.ReplaceAll(pattern, namePattern, name)
}
