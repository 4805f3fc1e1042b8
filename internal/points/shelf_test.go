package points

import (
	"fmt"
	"slices"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"
)

// Whatever is put on a shelf and taken off it, in any order, it gives what walking
// over all seals would.
func TestAShelfGivesWhatLookingAtAllWould(t *testing.T) {
	begin := time.Date(2026, 11, 25, 12, 0, 0, 0, time.UTC)
	rapid.Check(t, func(t *rapid.T) {
		s, all := newShelf(), map[string]*Seal{}
		for n := range rapid.IntRange(0, 40).Draw(t, "steps") {
			id := fmt.Sprint("p", rapid.IntRange(0, 12).Draw(t, "point"))
			if x := all[id]; x != nil && rapid.Bool().Draw(t, "take") {
				s.remove(x)
				delete(all, id)
				continue
			}
			x := &Seal{Point: id, Number: int64(n), Cycle: "c" + fmt.Sprint(n), CaptureAt: begin.Add(time.Duration(rapid.IntRange(0, 5).Draw(t, "at")) * time.Second)}
			x.Group.ID = fmt.Sprint("g", rapid.IntRange(0, 2).Draw(t, "group"))
			s.put(x)
			all[id] = x
		}
		for _, group := range []string{"", "g0", "g1", "g2"} {
			want := []*Seal{}
			for _, x := range all {
				if group == "" || x.Group.ID == group {
					want = append(want, x)
				}
			}
			slices.SortFunc(want, older)
			require.Equal(t, want, append([]*Seal{}, s.of(group)...), group)
		}
		cycles := 0
		for _, x := range all {
			require.Same(t, x, s.byPoint[x.Point])
			require.Same(t, x, s.byCycle[x.Cycle])
			cycles++
		}
		require.Len(t, s.byCycle, cycles, "nothing is left of what was taken off")
	})
}
