package scope

import (
	"cmp"
	"fmt"
	"path"
	"slices"
	"strings"
)

// Fields of a machine that a rule can ask about.
const (
	Any      = "any" // every machine
	Folder   = "folder"
	Tag      = "tag"
	Name     = "name"
	Pool     = "pool"
	Platform = "platform"
)

// Limits of a rule.
const (
	MaxTerms = 16
	MaxText  = 500 // characters
	MaxOrder = 1000
)

// Term is one condition. Values are matched without regard to case; * stands for any
// characters, but in a folder for those of one step of the path. A folder takes in what is
// below it.
type Term struct {
	Not   bool
	Field string
	Value string // empty of Any
}

// Match is conditions that all have to hold.
type Match []Term

// Machine is what is looked at.
type Machine struct {
	ID           string // on its platform
	Platform     string // ID
	PlatformName string
	Name         string
	Folder       string // path from the root
	Tags         []string
	Pool         string
}

// Parse reads a rule as people write it: conditions with "and" between, each one of
//
//	any                     every machine
//	folder /harbour         in that folder or below it; * is any step
//	tag gold
//	name tick-*
//	pool berth-1
//	platform array-a
//
// with "not" before what must not hold. Values with blanks are put in double quotes. What
// String writes reads back the same.
func Parse(text string) (Match, error) {
	if len([]rune(text)) > MaxText {
		return nil, fmt.Errorf("a rule has at most %d characters", MaxText)
	}
	words, err := split(text)
	if err != nil {
		return nil, err
	}
	if len(words) == 0 {
		return nil, fmt.Errorf(`an empty rule; write it like "folder /harbour and not tag test", or "any" for every machine`)
	}
	var out Match
	for {
		t, rest, err := term(words)
		if err != nil {
			return nil, err
		}
		out = append(out, t)
		if len(out) > MaxTerms {
			return nil, fmt.Errorf("a rule has at most %d conditions", MaxTerms)
		}
		if len(rest) == 0 {
			return out, nil
		}
		if rest[0].quoted || !strings.EqualFold(rest[0].text, "and") {
			if strings.EqualFold(rest[0].text, "or") {
				return nil, fmt.Errorf(`there is no "or": make a group with a rule of its own, or put a * into the value`)
			}
			return nil, fmt.Errorf(`%q comes where "and" or the end should be; put values with blanks in double quotes`, rest[0].text)
		}
		words = rest[1:]
	}
}

type word struct {
	text   string
	quoted bool
}

// split cuts a text at blanks, but not within double quotes.
func split(text string) (out []word, err error) {
	for rest := strings.TrimSpace(text); rest != ""; rest = strings.TrimSpace(rest) {
		if quoted, is := strings.CutPrefix(rest, `"`); is {
			value, after, closed := strings.Cut(quoted, `"`)
			if !closed {
				return nil, fmt.Errorf(`the quote before %q does not end`, quoted)
			}
			out, rest = append(out, word{value, true}), after
			continue
		}
		end := strings.IndexAny(rest, " \t\r\n\"")
		if end < 0 {
			end = len(rest)
		}
		out, rest = append(out, word{rest[:end], false}), rest[end:]
	}
	return out, nil
}

func term(words []word) (t Term, rest []word, err error) {
	next := func() (w word, ok bool) {
		if len(words) == 0 {
			return w, false
		}
		w, words = words[0], words[1:]
		return w, true
	}
	w, ok := next()
	if ok && !w.quoted && strings.EqualFold(w.text, "not") {
		t.Not = true
		w, ok = next()
	}
	if !ok {
		return t, nil, fmt.Errorf("a condition is missing at the end")
	}
	t.Field = strings.ToLower(w.text)
	if w.quoted || !slices.Contains([]string{Any, Folder, Tag, Name, Pool, Platform}, t.Field) {
		return t, nil, fmt.Errorf("%q is none of folder, tag, name, pool, platform, any", w.text)
	}
	if t.Field == Any {
		if t.Not {
			return t, nil, fmt.Errorf(`"not any" matches nothing`)
		}
		return t, words, nil
	}
	if w, ok = next(); !ok || strings.TrimSpace(w.text) == "" {
		return t, nil, fmt.Errorf("what %s is it? A value is missing", t.Field)
	}
	t.Value = w.text
	if t.Field == Folder {
		if t.Value = path.Clean("/" + t.Value); t.Value != "/" && !strings.HasPrefix(w.text, "/") {
			return t, nil, fmt.Errorf("a folder begins at the root: write /%s", w.text)
		}
	}
	if _, err := path.Match(t.Value, ""); err != nil || strings.ContainsAny(t.Value, `[]?\`) {
		return t, nil, fmt.Errorf("%q: of [ ] ? \\ and *, only * stands for something, and the others cannot be asked for", t.Value)
	}
	return t, words, nil
}

// String writes the rule as Parse reads it.
func (m Match) String() string {
	var out []string
	for _, t := range m {
		s := t.Field
		if t.Field != Any {
			v := t.Value
			if strings.ContainsAny(v, " \t") {
				v = `"` + v + `"`
			}
			s += " " + v
		}
		if t.Not {
			s = "not " + s
		}
		out = append(out, s)
	}
	return strings.Join(out, " and ")
}

// Holds tells whether a rule matches a machine. One without conditions matches none.
func (m Match) Holds(x Machine) bool {
	for _, t := range m {
		if t.holds(x) == t.Not {
			return false
		}
	}
	return len(m) > 0
}

func (t Term) holds(x Machine) bool {
	like := func(s string) bool {
		// The value has no other signs that stand for something, and / is none here.
		ok, _ := path.Match(strings.ReplaceAll(strings.ToLower(t.Value), "/", "\x00"), strings.ReplaceAll(strings.ToLower(s), "/", "\x00"))
		return ok
	}
	switch t.Field {
	case Any:
		return true
	case Name:
		return like(x.Name)
	case Pool:
		return like(x.Pool)
	case Platform:
		return t.Value == x.Platform || like(x.PlatformName)
	case Tag:
		return slices.ContainsFunc(x.Tags, like)
	case Folder:
		// The folder itself, or any above.
		for at := path.Clean("/" + strings.ToLower(x.Folder)); ; at = path.Dir(at) {
			if ok, _ := path.Match(strings.ToLower(t.Value), at); ok {
				return true
			}
			if at == "/" {
				return false
			}
		}
	}
	return false
}

// Member is a machine of a group.
type Member struct {
	ID     string
	Name   string
	ByRule bool // it joined by the rule
}

// Ruled is a group that has a rule.
type Ruled struct {
	Group    string // ID
	Name     string
	Platform string // ID: a group is of one
	Order    int    // the lowest goes first
	Match    Match
	Members  []Member
}

// Candidate is a machine as a platform has it now, and what bars it.
type Candidate struct {
	Machine
	In      string // ID of the group that it is in; empty if it is in none
	LeftOut bool   // on purpose
	Barrier string // why it cannot be protected
}

// Why a member of a group is no longer matched.
const (
	LeftRule  = "it is no longer matched by the rule"
	LeftFirst = "a rule that goes first matches it now"
	LeftPlace = "it is no longer on the platform"
)

// Join is a machine that joins a group.
type Join struct {
	Group   string
	Machine Machine
}

// Leaver is a machine that joined by a rule which no longer speaks for it. It is kept
// until somebody decides.
type Leaver struct {
	Group string
	Member
	Why string
}

// Ordered puts rules in the order in which they are asked.
func Ordered(rules []Ruled) []Ruled {
	out := slices.Clone(rules)
	slices.SortFunc(out, func(a, b Ruled) int {
		return cmp.Or(cmp.Compare(a.Order, b.Order), strings.Compare(strings.ToLower(a.Name), strings.ToLower(b.Name)), strings.Compare(a.Group, b.Group))
	})
	return out
}

// First finds the rule that speaks for a machine: the first that matches.
func First(ordered []Ruled, m Machine) (Ruled, bool) {
	for _, r := range ordered {
		if r.Platform == m.Platform && r.Match.Holds(m) {
			return r, true
		}
	}
	return Ruled{}, false
}

// Assign says which machines join which groups, and which members are no longer spoken
// for. Machines are of platforms that answer: of others nothing is known, so their
// machines neither join nor leave. A machine joins at most one group; one that is in a
// group, is left out on purpose, or cannot be protected, joins none.
func Assign(rules []Ruled, all []Candidate, answers func(platform string) bool) (joins []Join, leavers []Leaver) {
	ordered := Ordered(rules)
	there := map[string]Candidate{}
	for _, c := range all {
		there[c.Platform+"/"+c.ID] = c
		if c.In != "" || c.LeftOut || c.Barrier != "" {
			continue
		}
		if r, ok := First(ordered, c.Machine); ok {
			joins = append(joins, Join{r.Group, c.Machine})
		}
	}
	for _, r := range ordered {
		if !answers(r.Platform) {
			continue
		}
		for _, m := range r.Members {
			c, ok := there[r.Platform+"/"+m.ID]
			why := ""
			switch first, is := First(ordered, c.Machine); {
			case !m.ByRule:
			case !ok:
				why = LeftPlace
			case !r.Match.Holds(c.Machine):
				why = LeftRule
			case is && first.Group != r.Group:
				why = LeftFirst + " (" + first.Name + ")"
			}
			if ok {
				m.Name = c.Name // it may be called otherwise now
			}
			if why != "" {
				leavers = append(leavers, Leaver{r.Group, m, why})
			}
		}
	}
	return joins, leavers
}
