package term_test

import (
	"testing"

	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"kestrel/internal/core/term"
)

// pair is two sites, their durable states and the messages between them, which
// may be lost, repeated, delayed and reordered for ever.
type pair struct {
	sites  [2]term.State
	posts  []post
	yields int
}

type post struct {
	to     int
	report *term.Report
	grant  *term.Grant
}

// Whatever order messages come in, however often, and whoever restarts: two sites
// are never both home, terms never fall, and a site that is home is the only one
// whose blocks the other takes.
func TestNeverTwoHomes(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		p := &pair{sites: [2]term.State{term.New(), {}}}
		steps := rapid.IntRange(1, 200).Draw(t, "steps")
		for range steps {
			before := p.sites
			at := rapid.IntRange(0, 1).Draw(t, "site")
			switch rapid.IntRange(0, 3).Draw(t, "what") {
			case 0: // a site that is home reports
				if s := p.sites[at]; s.Role == term.Home {
					p.posts = append(p.posts, post{to: 1 - at, report: &term.Report{Term: s.Term}})
				}
			case 1: // somebody moves the group
				if s, g, err := p.sites[at].Cede(); err == nil {
					p.sites[at] = s
					p.posts = append(p.posts, post{to: 1 - at, grant: &g})
				}
			case 2, 3: // any message ever sent arrives, perhaps once more
				if len(p.posts) == 0 {
					continue
				}
				m := p.posts[rapid.IntRange(0, len(p.posts)-1).Draw(t, "message")]
				if m.report != nil {
					s, o := p.sites[m.to].Hear(*m.report)
					p.sites[m.to] = s
					if o == term.Yielded {
						p.yields++
					}
				} else if s, err := p.sites[m.to].Take(*m.grant); err == nil {
					p.sites[m.to] = s
				}
			}
			require.False(t, p.sites[0].Role == term.Home && p.sites[1].Role == term.Home, "%+v", p.sites)
			for i := range p.sites {
				require.GreaterOrEqual(t, p.sites[i].Term, before[i].Term, "terms only rise")
				if p.sites[i].Role == term.Home {
					require.GreaterOrEqual(t, p.sites[i].Term, p.sites[1-i].Term, "home has the highest term")
				}
			}
		}
	})
}

func TestHear(t *testing.T) {
	for name, c := range map[string]struct {
		was  term.State
		said int64
		is   term.State
		out  term.Outcome
	}{
		"a group not heard of":            {term.State{}, 1, term.State{Role: term.Recovery, Term: 1}, term.Followed},
		"the same again":                  {term.State{Role: term.Recovery, Term: 3}, 3, term.State{Role: term.Recovery, Term: 3}, term.Followed},
		"a home of the past":              {term.State{Role: term.Recovery, Term: 3}, 2, term.State{Role: term.Recovery, Term: 3}, term.Refused},
		"home hears of a higher one":      {term.State{Role: term.Home, Term: 1}, 2, term.State{Role: term.Recovery, Term: 2}, term.Yielded},
		"home hears its own term":         {term.State{Role: term.Home, Term: 2}, 2, term.State{Role: term.Home, Term: 2}, term.Refused},
		"one that has ceded follows":      {term.State{Role: term.Ceded, Term: 1}, 2, term.State{Role: term.Recovery, Term: 2}, term.Yielded},
		"an ended one is there once more": {term.State{Role: term.Ended, Term: 1}, 1, term.State{Role: term.Recovery, Term: 1}, term.Followed},
		"no term at all":                  {term.State{Role: term.Recovery, Term: 1}, 0, term.State{Role: term.Recovery, Term: 1}, term.Refused},
	} {
		t.Run(name, func(t *testing.T) {
			is, out := c.was.Hear(term.Report{Term: c.said})
			require.Equal(t, c.is, is)
			require.Equal(t, c.out, out)
		})
	}
}

func TestTakeNeedsTheNextGrant(t *testing.T) {
	home, recovery := term.New(), term.State{Role: term.Recovery, Term: 1}
	home, g, err := home.Cede()
	require.NoError(t, err)
	again, g2, err := home.Cede()
	require.NoError(t, err)
	require.Equal(t, home, again)
	require.Equal(t, g, g2)
	taken, err := recovery.Take(g)
	require.NoError(t, err)
	require.Equal(t, term.State{Role: term.Home, Term: 2}, taken)
	_, err = taken.Take(g)
	require.Error(t, err)
	_, err = term.State{Role: term.Recovery, Term: 2}.Take(g)
	require.Error(t, err)
	require.True(t, recovery.MayBring(1))
	require.False(t, recovery.MayBring(2))
	require.False(t, taken.MayBring(2))
	_, _, err = recovery.Cede()
	require.Error(t, err)
	require.Equal(t, term.State{Role: term.Ended, Term: 2}, taken.End())
}

// People who seize and return groups, in any order and with any delay: two sites may both be
// home, and never in the same term; who hears of a higher one is home no longer.
func TestImpatientPeople(t *testing.T) {
	type message struct {
		to       int
		report   *term.Report
		returned *term.Grant
		ceded    *term.Grant
	}
	rapid.Check(t, func(t *rapid.T) {
		sites := [2]term.State{term.New(), {Role: term.Recovery, Term: 1}}
		var posts []message
		for range rapid.IntRange(1, 200).Draw(t, "steps") {
			before := sites
			at := rapid.IntRange(0, 1).Draw(t, "site")
			switch rapid.IntRange(0, 5).Draw(t, "what") {
			case 0:
				if sites[at].Role == term.Home {
					posts = append(posts, message{to: 1 - at, report: &term.Report{Term: sites[at].Term}})
				}
			case 1:
				if s, err := sites[at].Seize(); err == nil {
					sites[at] = s
				}
			case 2:
				if s, g, err := sites[at].Return(); err == nil {
					sites[at] = s
					posts = append(posts, message{to: 1 - at, returned: &g})
				}
			case 3:
				if s, g, err := sites[at].Cede(); err == nil {
					sites[at] = s
					posts = append(posts, message{to: 1 - at, ceded: &g})
				}
			default:
				if len(posts) == 0 {
					continue
				}
				m := posts[rapid.IntRange(0, len(posts)-1).Draw(t, "message")]
				switch {
				case m.report != nil:
					sites[m.to], _ = sites[m.to].Hear(*m.report)
					require.False(t, sites[m.to].Role == term.Home && m.report.Term > before[m.to].Term, "who hears of a higher term stands down")
				case m.returned != nil:
					sites[m.to], _ = sites[m.to].Resume(*m.returned)
				default:
					sites[m.to], _ = sites[m.to].Take(*m.ceded)
				}
			}
			for i := range sites {
				if sites[i].Role == term.Home {
					require.Equal(t, int64(1-i), sites[i].Term%2, "two are never home in one term")
				}
			}
			for i := range sites {
				require.GreaterOrEqual(t, sites[i].Term, before[i].Term, "terms only rise")
			}
		}
	})
}

func TestWhoMaySeizeAndReturn(t *testing.T) {
	taken, err := term.State{Role: term.Recovery, Term: 1}.Seize()
	require.NoError(t, err)
	require.Equal(t, term.State{Role: term.Home, Term: 2}, taken)
	_, err = taken.Seize()
	require.Error(t, err)
	given, g, err := taken.Return()
	require.NoError(t, err)
	require.Equal(t, term.State{Role: term.Recovery, Term: 3}, given)
	require.True(t, given.MayBring(3), "what home copies again is taken")
	home, err := term.New().Resume(g)
	require.NoError(t, err)
	require.Equal(t, term.State{Role: term.Home, Term: 3}, home)
	_, err = home.Resume(g)
	require.Error(t, err, "it was returned once")
	_, _, err = term.State{Role: term.Ceded, Term: 1}.Return()
	require.Error(t, err)
	_, err = term.State{}.Resume(g)
	require.Error(t, err)
	// The grant of a home that ceded comes late, after the group was returned.
	_, late, err := term.New().Cede()
	require.NoError(t, err)
	back, _, err := term.State{Role: term.Recovery, Term: 1}.Return()
	require.NoError(t, err)
	_, err = back.Take(late)
	require.Error(t, err)
}
