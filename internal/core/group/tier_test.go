package group_test

import (
	"testing"
	"time"

	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"kestrel/internal/core/cadence"
	"kestrel/internal/core/group"
	"kestrel/internal/core/ladder"
	"kestrel/internal/core/promise"
)

func harbour(revision int64, target time.Duration) *group.Follows {
	return &group.Follows{ID: "t", Revision: revision, Tier: group.Tier{Name: "Harbour-1", Priority: group.High, RTO: time.Hour, Rest: group.RestTry, LockFor: 24 * time.Hour,
		Promise: promise.Promise{Target: target, Cadence: cadence.Cadence{Every: 2 * time.Minute}, Keep: ladder.Ladder{{For: 6 * time.Hour}}, Zone: "Europe/Oslo"}}}
}

func own(s group.Spec) (out []string) {
	for _, o := range s.Tier.Own {
		out = append(out, o.Field+": "+o.Reason)
	}
	return out
}

// A group that follows a tier is what the tier says; what an edit changes differs from
// then on, with a reason, through changes of the tier, until it is to be the tier's again.
func TestFollowingATier(t *testing.T) {
	s := group.Patch{Tier: harbour(1, 10*time.Minute)}.Apply(spec())
	require.Equal(t, 10*time.Minute, s.Promise.Target)
	require.Equal(t, group.High, s.Priority)
	require.Equal(t, "Europe/Oslo", s.Promise.Zone)
	require.True(t, s.RestOf(s.Machines[1]).On(), "the tier's rest holds for machines of which nothing is said")
	require.Empty(t, s.Tier.Own)
	require.Empty(t, promise.Faults(s.Validate()))

	bare := group.Patch{Keep: &ladder.Ladder{{For: 2 * time.Hour}}}.Apply(s)
	require.Equal(t, "reason", promise.Faults(bare.Validate())[0].Field, "without a reason it is refused")
	s = group.Patch{Keep: &ladder.Ladder{{For: 2 * time.Hour}}, Reason: "its disks are large"}.Apply(s)
	require.Equal(t, []string{"keep: its disks are large"}, own(s))
	require.Equal(t, []group.Change{{Field: "keep", From: "all 6h", To: "all 2h"}}, s.Differs())
	require.Empty(t, promise.Faults(s.Validate()))

	again := group.Patch{Tier: harbour(2, 20*time.Minute)}.Apply(s)
	require.Equal(t, 20*time.Minute, again.Promise.Target, "it moves with the tier")
	require.Equal(t, "all 2h", again.Promise.Keep.String(), "but for what is its own")
	require.Equal(t, []string{"keep: its disks are large"}, own(again))
	require.Empty(t, own(group.Patch{Like: []string{"keep"}}.Apply(again)))
	require.Equal(t, "all 6h", group.Patch{Like: []string{"keep"}}.Apply(again).Promise.Keep.String())
	require.Empty(t, own(group.Patch{Keep: &ladder.Ladder{{For: 6 * time.Hour}}}.Apply(again)), "what is the same as the tier's differs no longer")

	free := group.Patch{NoTier: true}.Apply(again)
	require.Nil(t, free.Tier)
	require.Equal(t, 20*time.Minute, free.Promise.Target, "what it was stays")
	require.Len(t, again.Tier.Own, 1, "what is patched is a copy")

	both := group.Patch{Tier: harbour(1, 10*time.Minute), Priority: new(group.Low), Reason: "it can wait"}.Apply(spec())
	require.Equal(t, group.Low, both.Priority)
	require.Equal(t, []string{"priority: it can wait"}, own(both))
}

// Whatever is edited: a group differs from its tier in what it says is its own, and in
// nothing else; and moving with the tier twice is the same as once.
func TestWhatDiffersIsSaid(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		s := group.Patch{Tier: harbour(1, 10*time.Minute)}.Apply(spec())
		for range rapid.IntRange(0, 5).Draw(t, "edits") {
			p := group.Patch{Reason: rapid.SampledFrom([]string{"", "why", "because"}).Draw(t, "reason")}
			switch rapid.IntRange(0, 7).Draw(t, "edit") {
			case 0:
				p.Target = new(time.Duration(rapid.IntRange(9, 11).Draw(t, "target")) * time.Minute)
			case 1:
				p.Cadence = &cadence.Cadence{Every: time.Duration(rapid.IntRange(1, 3).Draw(t, "every")) * time.Minute}
			case 2:
				p.Quiet = new(quietNights())
			case 3:
				p.Zone = new(rapid.SampledFrom([]string{"", "Europe/Oslo"}).Draw(t, "zone"))
			case 4:
				p.RTO, p.RestMode = new(time.Duration(rapid.IntRange(1, 2).Draw(t, "rto"))*time.Hour), new(group.RestOff)
			case 5:
				p.Like = []string{rapid.SampledFrom(group.TierFields()).Draw(t, "like")}
			case 6:
				p.Tier = harbour(rapid.Int64Range(1, 3).Draw(t, "revision"), time.Duration(rapid.IntRange(9, 11).Draw(t, "tier's"))*time.Minute)
			case 7:
				p.Name = new("Tickets")
			}
			s = p.Apply(s)
			var differs, said []string
			for _, c := range s.Differs() {
				differs = append(differs, c.Field)
			}
			for _, o := range s.Tier.Own {
				said = append(said, o.Field)
			}
			require.Equal(t, differs, said)
			f := *s.Tier
			require.Equal(t, s, group.Patch{Tier: &f}.Apply(s))
		}
	})
}
