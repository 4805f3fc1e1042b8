// Package flotilla decides in what order several groups are recovered together, and from
// which points, where all are to be as near as can be to one instant.
package flotilla

import (
	"cmp"
	"fmt"
	"maps"
	"slices"
	"time"

	"kestrel/internal/core/words"
)

// Member is a group that is recovered with others.
type Member struct {
	ID, Name string
	Priority int      // 1 counts most
	Needs    []string // IDs of groups that have to be up before; those that are no members are not waited for
}

// Stages orders members: a group comes after what it needs, and else after all whose priority
// counts more; what a group needs counts as much as the group. Those of one stage start side
// by side. Round names groups that need each other in a circle: then there is no order.
func Stages(all []Member) (stages [][]string, round []string) {
	counts := map[string]int{}
	for _, m := range all {
		counts[m.ID] = m.Priority
	}
	// What is needed inherits, at most through all members.
	for range all {
		for _, m := range all {
			for _, n := range m.Needs {
				if has, is := counts[n]; is {
					counts[n] = min(has, counts[m.ID])
				}
			}
		}
	}
	rest := slices.Clone(all)
	slices.SortStableFunc(rest, func(a, b Member) int {
		return cmp.Or(counts[a.ID]-counts[b.ID], cmp.Compare(a.Name, b.Name))
	})
	for len(rest) > 0 {
		waits := func(m Member) bool {
			return slices.ContainsFunc(rest, func(o Member) bool {
				return o.ID != m.ID && (slices.Contains(m.Needs, o.ID) || counts[o.ID] < counts[m.ID])
			}) || slices.Contains(m.Needs, m.ID)
		}
		var stage []string
		var left []Member
		for _, m := range rest {
			if waits(m) {
				left = append(left, m)
			} else {
				stage = append(stage, m.ID)
			}
		}
		if len(stage) == 0 {
			for _, m := range left {
				round = append(round, m.Name)
			}
			return nil, round
		}
		stages, rest = append(stages, stage), left
	}
	return stages, nil
}

// State is how far a member is.
type State string

// The states.
const (
	Waits   State = "waits"   // for its stage
	Starts  State = "starts"  // its recovery has begun
	Up      State = "up"      // all of it runs and is checked
	Over    State = "over"    // its recovery is over
	Refused State = "refused" // its recovery could not begin
	Skipped State = "skipped" // somebody goes on without it
)

// settled tells whether nobody waits for a member any more.
func (s State) settled() bool { return s == Up || s == Over || s == Skipped }

// Turn gives the members that may begin now: those of the first stage in which somebody is
// still waited for.
func Turn(stages [][]string, of func(id string) State) (begin []string) {
	for _, stage := range stages {
		open := false
		for _, id := range stage {
			switch s := of(id); {
			case s == Waits || s == Refused:
				begin = append(begin, id)
				open = true
			case !s.settled():
				open = true
			}
		}
		if open {
			return begin
		}
	}
	return nil
}

// Pick is a point of a group that could be chosen.
type Pick struct {
	Point string
	At    time.Time // captured, on one clock for all
}

// Near chooses a point of each group, by their IDs, so that all are as near as can be to one
// instant: that of the newest point of the group which is furthest behind, or an instant that
// is given. Of two that are as near, the earlier is chosen. An error names a group without
// points.
func Near(groups map[string][]Pick, at time.Time) (out map[string]Pick, anchor time.Time, err error) {
	anchor = at
	for _, id := range slices.Sorted(maps.Keys(groups)) {
		if len(groups[id]) == 0 {
			return nil, anchor, fmt.Errorf("%s has no point", id)
		}
		newest := slices.MaxFunc(groups[id], func(a, b Pick) int { return a.At.Compare(b.At) }).At
		if at.IsZero() && (anchor.IsZero() || newest.Before(anchor)) {
			anchor = newest
		}
	}
	out = map[string]Pick{}
	for id, ps := range groups {
		out[id] = slices.MinFunc(ps, func(a, b Pick) int {
			return cmp.Or(cmp.Compare(a.At.Sub(anchor).Abs(), b.At.Sub(anchor).Abs()), a.At.Compare(b.At))
		})
	}
	return out, anchor, nil
}

// Says tells in a sentence how far members are.
func Says(states []State) string {
	n := map[State]int{}
	for _, s := range states {
		n[s]++
	}
	var parts []string
	for _, x := range []struct {
		state State
		words string
	}{{Refused, "cannot begin"}, {Starts, "start"}, {Waits, "wait for their turn"}, {Up, "run here"}, {Over, "are over"}, {Skipped, "were left out"}} {
		if n[x.state] > 0 {
			parts = append(parts, fmt.Sprintf("%d %s", n[x.state], x.words))
		}
	}
	return fmt.Sprintf("Of %s, %s.", words.Count(len(states), "group"), words.Joined(parts, len(parts)))
}
