package scope_test

import (
	"fmt"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"kestrel/internal/core/scope"
)

var tick = scope.Machine{ID: "1", Platform: "p1", PlatformName: "Array A", Name: "tick-db", Folder: "/harbour/ticketing", Tags: []string{"gold", "North Pier"}, Pool: "berth-1"}

func TestWhatARuleMatches(t *testing.T) {
	for text, want := range map[string]bool{
		"any":                                  true,
		"folder /":                             true,
		"folder /harbour":                      true,
		"FOLDER /Harbour/":                     true,
		"folder /harbour/ticketing":            true,
		"folder /harbour/*":                    true,
		"folder /*/ticketing":                  true,
		"folder /harb":                         false,
		"folder /harbour/ticketing/db":         false,
		"tag gold":                             true,
		"tag silver":                           false,
		`tag "north pier"`:                     true,
		"tag g*":                               true,
		"name tick-*":                          true,
		"name tick":                            false,
		"name *db":                             true,
		"pool berth-1":                         true,
		"platform p1":                          true,
		`platform "array a"`:                   true,
		"platform array-b":                     false,
		"folder /harbour and tag gold":         true,
		"folder /harbour and not tag gold":     false,
		"folder /harbour and not name *-test":  true,
		"not tag silver and not folder /yards": true,
	} {
		m, err := scope.Parse(text)
		require.NoError(t, err, text)
		require.Equal(t, want, m.Holds(tick), text)
		again, err := scope.Parse(m.String())
		require.NoError(t, err, m.String())
		require.Equal(t, m, again, "what is written reads back")
	}
	require.False(t, scope.Match(nil).Holds(tick), "no condition is no rule")
}

func TestRulesThatAreRefused(t *testing.T) {
	for text, says := range map[string]string{
		"":                                     "an empty rule",
		"gold":                                 "is none of folder",
		"tag":                                  "value is missing",
		"tag gold silver":                      `"and" or the end`,
		"tag gold or tag silver":               `there is no "or"`,
		"tag gold and":                         "missing at the end",
		"not any":                              "matches nothing",
		"folder harbour":                       "write /harbour",
		`tag "gold`:                            "does not end",
		"name tick-[ab]":                       "only * stands",
		`"tag" gold`:                           "is none of folder",
		strings.Repeat("a", 501):               "at most 500",
		"any" + strings.Repeat(" and any", 16): "at most 16",
	} {
		_, err := scope.Parse(text)
		require.ErrorContains(t, err, says, text)
	}
}

func rule(t require.TestingT, group string, order int, text string, members ...scope.Member) scope.Ruled {
	m, err := scope.Parse(text)
	require.NoError(t, err)
	return scope.Ruled{Group: group, Name: strings.ToUpper(group), Platform: "p1", Order: order, Match: m, Members: members}
}

func answers(string) bool { return true }

// A machine that appears, is renamed, moved, retagged, leaves, or matches two rules.
func TestMachinesThatComeAndGo(t *testing.T) {
	by := scope.Member{ID: "1", Name: "tick-db", ByRule: true}
	hand := scope.Member{ID: "1", Name: "tick-db"}
	at := func(change func(*scope.Candidate)) []scope.Candidate {
		c := scope.Candidate{Machine: tick}
		change(&c)
		return []scope.Candidate{c}
	}
	in := func(c *scope.Candidate) { c.In = "g" }
	for name, c := range map[string]struct {
		rules []scope.Ruled
		all   []scope.Candidate
		joins string
		why   string
	}{
		"appears":                {[]scope.Ruled{rule(t, "g", 1, "tag gold")}, at(func(*scope.Candidate) {}), "g", ""},
		"is in another group":    {[]scope.Ruled{rule(t, "g", 1, "tag gold")}, at(func(c *scope.Candidate) { c.In = "h" }), "", ""},
		"is left out":            {[]scope.Ruled{rule(t, "g", 1, "tag gold")}, at(func(c *scope.Candidate) { c.LeftOut = true }), "", ""},
		"cannot be":              {[]scope.Ruled{rule(t, "g", 1, "tag gold")}, at(func(c *scope.Candidate) { c.Barrier = "no disks" }), "", ""},
		"is on another platform": {[]scope.Ruled{rule(t, "g", 1, "tag gold")}, at(func(c *scope.Candidate) { c.Platform = "p2" }), "", ""},
		"matches two, by order":  {[]scope.Ruled{rule(t, "a", 9, "any"), rule(t, "g", 1, "tag gold")}, at(func(*scope.Candidate) {}), "g", ""},
		"matches two, by name":   {[]scope.Ruled{rule(t, "h", 1, "any"), rule(t, "g", 1, "tag gold")}, at(func(*scope.Candidate) {}), "g", ""},
		"the rest is caught":     {[]scope.Ruled{rule(t, "a", 9, "any"), rule(t, "g", 1, "tag silver")}, at(func(*scope.Candidate) {}), "a", ""},
		"stays":                  {[]scope.Ruled{rule(t, "g", 1, "tag gold", by)}, at(in), "", ""},
		"is retagged":            {[]scope.Ruled{rule(t, "g", 1, "tag gold", by)}, at(func(c *scope.Candidate) { in(c); c.Tags = nil }), "", scope.LeftRule},
		"is renamed":             {[]scope.Ruled{rule(t, "g", 1, "name tick-*", by)}, at(func(c *scope.Candidate) { in(c); c.Name = "old-tick" }), "", scope.LeftRule},
		"is moved":               {[]scope.Ruled{rule(t, "g", 1, "folder /harbour", by)}, at(func(c *scope.Candidate) { in(c); c.Folder = "/yard" }), "", scope.LeftRule},
		"is gone":                {[]scope.Ruled{rule(t, "g", 1, "tag gold", by)}, nil, "", scope.LeftPlace},
		"is another rule's":      {[]scope.Ruled{rule(t, "g", 5, "tag gold", by), rule(t, "h", 1, "name tick-*")}, at(in), "", scope.LeftFirst + " (H)"},
		"was chosen by hand":     {[]scope.Ruled{rule(t, "g", 1, "tag silver", hand)}, at(in), "", ""},
	} {
		joins, leavers := scope.Assign(c.rules, c.all, answers)
		got, why := "", ""
		for _, j := range joins {
			got += j.Group
		}
		for _, l := range leavers {
			why += l.Why
		}
		require.Equal(t, c.joins, got, name)
		require.Equal(t, c.why, why, name)
	}
	_, leavers := scope.Assign([]scope.Ruled{rule(t, "g", 1, "tag gold", by)}, nil, func(string) bool { return false })
	require.Empty(t, leavers, "of a platform that does not answer nothing is known")
}

// Whatever the rules: nobody joins twice, nobody joins who is barred, who joins is matched
// by that rule and by none before it, and once all have joined nobody joins any more.
func TestAssigningSettles(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		var rules []scope.Ruled
		for i := range rapid.IntRange(0, 4).Draw(t, "rules") {
			rules = append(rules, rule(t, fmt.Sprint("g", i), rapid.IntRange(1, 3).Draw(t, "order"), rapid.SampledFrom([]string{"any", "tag a", "tag b", "not tag a", "name m1*", "folder /x and not tag b"}).Draw(t, "rule")))
		}
		var all []scope.Candidate
		for i := range rapid.IntRange(0, 20).Draw(t, "machines") {
			all = append(all, scope.Candidate{Machine: scope.Machine{ID: fmt.Sprint(i), Platform: rapid.SampledFrom([]string{"p1", "p2"}).Draw(t, "platform"), Name: fmt.Sprint("m", i), Folder: rapid.SampledFrom([]string{"/x", "/x/y", "/z"}).Draw(t, "folder"),
				Tags: rapid.SliceOfN(rapid.SampledFrom([]string{"a", "b"}), 0, 2).Draw(t, "tags")}, LeftOut: rapid.IntRange(0, 4).Draw(t, "left") == 0})
		}
		joins, _ := scope.Assign(rules, all, answers)
		joined := map[string]string{}
		for _, j := range joins {
			k := j.Machine.Platform + "/" + j.Machine.ID
			require.NotContains(t, joined, k)
			joined[k] = j.Group
			for _, r := range scope.Ordered(rules) {
				if r.Group == j.Group {
					require.True(t, r.Match.Holds(j.Machine))
					break
				}
				require.False(t, r.Platform == j.Machine.Platform && r.Match.Holds(j.Machine), "a rule before it speaks for it")
			}
		}
		for i, c := range all {
			if g := joined[c.Platform+"/"+c.ID]; g != "" {
				require.False(t, c.LeftOut)
				all[i].In = g
				for n := range rules {
					if rules[n].Group == g {
						rules[n].Members = append(rules[n].Members, scope.Member{ID: c.ID, Name: c.Name, ByRule: true})
					}
				}
			}
		}
		joins, leavers := scope.Assign(rules, all, answers)
		require.Empty(t, joins)
		require.Empty(t, leavers)
	})
}

func TestDisksThatNeedNotBeCopied(t *testing.T) {
	const gib = 1 << 30
	for label, want := range map[string]string{"swap": "swap", "Swap 1": "Swap", "scratch-disk": "scratch", "TEMP": "TEMP", "pagefile": "pagefile", "template": "", "tempest": "", "data": "", "boot swap": "swap"} {
		got := scope.Suggest(scope.Disk{Label: label, SizeBytes: 50 * gib}, 8*gib)
		require.Equal(t, want != "", strings.Contains(got, want) && got != "", label)
	}
	require.Contains(t, scope.Suggest(scope.Disk{Label: "vdb", SizeBytes: 16 * gib}, 8*gib), "memory")
	require.Empty(t, scope.Suggest(scope.Disk{Label: "vdb", SizeBytes: 12 * gib}, 8*gib))
	require.Empty(t, scope.Suggest(scope.Disk{Label: "swap", SizeBytes: 8 * gib, Boot: true}, 8*gib), "never what it starts from")
}
