package schedule_test

import (
	"fmt"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"kestrel/internal/core/schedule"
)

func TestClashes(t *testing.T) {
	at := func(group, link, from string, minute, length int) schedule.Planned {
		return schedule.Planned{Group: group, Link: link, From: from, At: now.Add(time.Duration(minute) * time.Minute), Length: time.Duration(length) * time.Minute}
	}
	got := schedule.Clashes([]schedule.Planned{at("c", "l", "q", 10, 0), at("a", "l", "p", 0, 20), at("b", "m", "p", 5, 1), at("d", "m", "r", 7, 5), at("e", "l", "s", 20, 1), at("a", "l", "p", 21, 5)})
	clash := map[string]string{}
	for _, p := range got {
		clash[fmt.Sprint(p.Group, int(p.At.Sub(now).Minutes()))] = fmt.Sprint(p.Clash)
	}
	require.Equal(t, map[string]string{"a0": "[b c]", "b5": "[a]", "c10": "[a]", "d7": "[]", "e20": "[]", "a21": "[]"}, clash, "of one link or platform, while the other runs, and not once it has ended")
}

// Whatever is planned: a clash is of both, of other groups only, and nothing is lost.
func TestClashesAreOfBoth(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		var all []schedule.Planned
		for range rapid.IntRange(0, 25).Draw(t, "n") {
			all = append(all, schedule.Planned{Group: rapid.SampledFrom([]string{"a", "b", "c"}).Draw(t, "group"), Link: rapid.SampledFrom([]string{"l", "m"}).Draw(t, "link"), From: rapid.SampledFrom([]string{"p", "q"}).Draw(t, "platform"),
				At: now.Add(time.Duration(rapid.IntRange(0, 100).Draw(t, "at")) * time.Minute), Length: time.Duration(rapid.IntRange(0, 30).Draw(t, "length")) * time.Minute})
		}
		got := schedule.Clashes(all)
		require.Len(t, got, len(all))
		for i, a := range got {
			want := map[string]bool{}
			for j, b := range got {
				if i == j || a.Group == b.Group || a.Link != b.Link && a.From != b.From {
					continue
				}
				if a.At.Equal(b.At) || !a.At.Before(b.At) && a.At.Before(b.At.Add(b.Length)) || !b.At.Before(a.At) && b.At.Before(a.At.Add(a.Length)) {
					want[b.Group] = true
				}
			}
			require.Len(t, a.Clash, len(want))
			for _, g := range a.Clash {
				require.True(t, want[g])
			}
		}
	})
}
