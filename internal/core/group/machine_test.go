package group_test

import (
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"kestrel/internal/core/group"
)

// What is done at one of several captures is done at the first, and then at every nth.
func TestRestAtOneOfSeveralCaptures(t *testing.T) {
	for nth, want := range map[int][]int64{0: {0, 1, 2, 3, 4}, 1: {0, 1, 2, 3, 4}, 2: {0, 2, 4}, 4: {0, 4}} {
		var got []int64
		for turn := range int64(5) {
			if (group.Rest{Mode: group.RestRequired, Nth: nth}).At(turn) {
				got = append(got, turn)
			}
			require.False(t, (group.Rest{Nth: nth}).At(turn), "not at all is never")
		}
		require.Equal(t, want, got, "every %d", nth)
	}
	require.Equal(t, "required, within 10 s, at one of 4 captures, before: flush", group.Rest{Mode: group.RestRequired, Limit: 10 * time.Second, Nth: 4, Before: "flush"}.String())
}

// A disk that is added, resized or gone is told; a new one is copied or waits for
// somebody to decide, as the group says; and what was left out stays left out.
func TestDisksThatChange(t *testing.T) {
	a, b := group.Disk{Key: "a", Label: "disk 1", SizeBytes: 8 << 30, Boot: true}, group.Disk{Key: "b", Label: "swap", SizeBytes: 1 << 30}
	more := group.Disk{Key: "c", Label: "disk 3", SizeBytes: 20 << 30}
	for name, c := range map[string]struct {
		now    []group.Disk
		flag   bool
		told   []string
		copied []string
		leaves bool // the new disk
	}{
		"nothing":           {now: []group.Disk{a, b}, copied: []string{"disk 1"}},
		"added and copied":  {now: []group.Disk{a, b, more}, told: []string{"disk 3 of tick-db is new, 20 GiB"}, copied: []string{"disk 1", "disk 3"}},
		"added and flagged": {now: []group.Disk{a, b, more}, flag: true, told: []string{"disk 3 of tick-db is new, 20 GiB"}, copied: []string{"disk 1"}, leaves: true},
		"resized":           {now: []group.Disk{{Key: "a", Label: "disk 1", SizeBytes: 9 << 30, Boot: true}, b}, told: []string{"disk 1 of tick-db was 8.0 GiB and is 9.0 GiB"}, copied: []string{"disk 1"}},
		"gone":              {now: []group.Disk{a}, told: []string{"swap of tick-db is gone"}, copied: []string{"disk 1"}},
	} {
		t.Run(name, func(t *testing.T) {
			s := group.Patch{Without: &[]group.DiskRef{{Machine: "1", Disk: "b"}}}.Apply(spec())
			if c.flag {
				s.NewDisks = group.FlagNew
			}
			next, changes := s.Seen(s.Machines[0], c.now)
			var told, copied []string
			for _, x := range changes {
				told = append(told, x.String())
			}
			for _, d := range next.Copied() {
				copied = append(copied, d.Label)
			}
			require.Equal(t, c.told, told)
			require.Equal(t, c.copied, copied)
			require.Equal(t, c.leaves, s.Leaves("1", "c"))
			require.Equal(t, c.leaves, s.Undecided("1", "c"))
			require.True(t, s.Leaves("1", "b"))

			// Whoever names the machines again has not decided; whoever says what is left
			// out has.
			again := []group.Machine{{ID: "1", Name: "tick-db", Disks: c.now}}
			kept := group.Patch{Machines: &again}.Apply(s)
			require.Equal(t, c.leaves, kept.Leaves("1", "c"))
			require.False(t, group.Patch{Machines: &again, Without: &[]group.DiskRef{}}.Apply(s).Leaves("1", "c"))
		})
	}
	old := spec()
	old.Machines[0].Disks = nil
	next, changes := old.Seen(old.Machines[0], []group.Disk{a, b})
	require.Empty(t, changes, "of a group of older days disks only become known")
	require.Len(t, next.Copied(), 2)
}
