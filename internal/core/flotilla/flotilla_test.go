package flotilla_test

import (
	"fmt"
	"slices"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"kestrel/internal/core/flotilla"
)

// Whatever groups need of each other: each is in one stage, after all that it needs; whose
// priority counts more is earlier, unless it needs others; and going through the turns begins
// each once.
func TestStagesHoldToNeedsAndPriorities(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		n := rapid.IntRange(1, 12).Draw(t, "groups")
		var all []flotilla.Member
		for i := range n {
			m := flotilla.Member{ID: fmt.Sprint(i), Name: fmt.Sprint("g", i), Priority: rapid.IntRange(1, 3).Draw(t, "priority")}
			for k := range i { // of earlier ones only: no circles
				if rapid.IntRange(0, 4).Draw(t, "needs") == 0 {
					m.Needs = append(m.Needs, fmt.Sprint(k))
				}
			}
			all = append(all, m)
		}
		for i := range all { // what is no member is not waited for
			if rapid.Bool().Draw(t, "stranger") {
				all[i].Needs = append(all[i].Needs, "stranger")
			}
		}
		shuffled := rapid.Permutation(all).Draw(t, "order")
		stages, round := flotilla.Stages(shuffled)
		require.Empty(t, round)
		at := map[string]int{}
		for i, s := range stages {
			for _, id := range s {
				require.NotContains(t, at, id)
				at[id] = i
			}
		}
		require.Len(t, at, n)
		needed := map[string]bool{}
		for _, m := range all {
			for _, k := range m.Needs {
				needed[k] = true
				if k != "stranger" {
					require.Less(t, at[k], at[m.ID], "%s needs %s", m.ID, k)
				}
			}
		}
		for _, a := range all {
			for _, b := range all {
				if a.Priority < b.Priority && len(a.Needs) == 0 && !needed[b.ID] {
					require.LessOrEqual(t, at[a.ID], at[b.ID])
				}
			}
		}

		states := map[string]flotilla.State{}
		of := func(id string) flotilla.State {
			if s, is := states[id]; is {
				return s
			}
			return flotilla.Waits
		}
		last := 0
		for begun := 0; begun < n; {
			turn := flotilla.Turn(stages, of)
			require.NotEmpty(t, turn)
			for _, id := range turn {
				require.GreaterOrEqual(t, at[id], last)
				last = at[id]
				states[id] = flotilla.Starts
				begun++
			}
			require.Empty(t, flotilla.Turn(stages, of), "the next stage waits for this one")
			for _, id := range turn {
				states[id] = rapid.SampledFrom([]flotilla.State{flotilla.Up, flotilla.Over, flotilla.Skipped}).Draw(t, "came")
			}
		}
		require.Empty(t, flotilla.Turn(stages, of))
	})
}

func TestGroupsThatNeedEachOther(t *testing.T) {
	_, round := flotilla.Stages([]flotilla.Member{{ID: "a", Name: "A", Needs: []string{"b"}}, {ID: "b", Name: "B", Needs: []string{"a"}}, {ID: "c", Name: "C"}})
	require.ElementsMatch(t, []string{"A", "B"}, slices.DeleteFunc(round, func(s string) bool { return s == "C" }))
	_, round = flotilla.Stages([]flotilla.Member{{ID: "a", Name: "A", Needs: []string{"a"}}})
	require.Equal(t, []string{"A"}, round)
}

func TestPointsNearOneInstant(t *testing.T) {
	noon := time.Date(2026, 3, 1, 12, 0, 0, 0, time.UTC)
	at := func(minutes ...int) (out []flotilla.Pick) {
		for _, m := range minutes {
			out = append(out, flotilla.Pick{Point: fmt.Sprint(m), At: noon.Add(time.Duration(m) * time.Minute)})
		}
		return out
	}
	groups := map[string][]flotilla.Pick{"far": at(-120, -60), "near": at(-63, -58, -5, 0), "mid": at(-90, -30)}
	picks, anchor, err := flotilla.Near(groups, time.Time{})
	require.NoError(t, err)
	require.Equal(t, noon.Add(-time.Hour), anchor, "the one furthest behind says when")
	require.Equal(t, []string{"-60", "-58", "-90"}, []string{picks["far"].Point, picks["near"].Point, picks["mid"].Point}, "of two as near, the earlier")
	picks, _, err = flotilla.Near(groups, noon.Add(-100*time.Minute))
	require.NoError(t, err)
	require.Equal(t, []string{"-120", "-63", "-90"}, []string{picks["far"].Point, picks["near"].Point, picks["mid"].Point})
	_, _, err = flotilla.Near(map[string][]flotilla.Pick{"empty": nil}, time.Time{})
	require.Error(t, err)
	require.Equal(t, "Of 3 groups, 1 start and 2 wait for their turn.", flotilla.Says([]flotilla.State{flotilla.Starts, flotilla.Waits, flotilla.Waits}))
}
