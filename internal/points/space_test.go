package points_test

import (
	"fmt"
	"math/rand/v2"
	"os"
	"testing"
	"time"

	"github.com/google/uuid"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"kestrel/internal/points"
)

// Whatever groups, machines and points share: what somebody is told that deleting gives back,
// deleting gives back; and what points need is what a sweep would leave.
func TestSpaceIsWhatDeletingGivesBack(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		dir, err := os.MkdirTemp("", "points")
		require.NoError(t, err)
		defer func() { _ = os.RemoveAll(dir) }()
		s, err := points.Open(dir, points.Options{Now: time.Now})
		require.NoError(t, err)
		defer func() { require.NoError(t, s.Close()) }()
		r := rand.New(rand.NewPCG(rapid.Uint64().Draw(t, "seed"), 1))
		pool := make([][]byte, 6)
		for i := range pool {
			pool[i] = randomBlock(r)
		}
		const blocks = 300 // three leaves
		var all []*points.Seal
		whole := int64(0)
		for g := range rapid.IntRange(1, 3).Draw(t, "groups") {
			id := uuid.NewString()
			var base *points.Seal
			for p := range rapid.IntRange(1, 4).Draw(t, "points") {
				spec := points.IntakeSpec{ID: uuid.NewString(), Group: points.SealGroup{ID: id, Name: fmt.Sprint("group ", g)}}
				sealed := points.Seal{CaptureAt: time.Now().Add(time.Duration(p) * time.Minute), Consistency: "crash", UsedBytes: int64(r.IntN(1000))}
				whole += sealed.UsedBytes
				for m := range 2 {
					name := fmt.Sprint("m", m)
					d := points.IntakeDisk{Machine: name, Key: "d", Size: blocks * points.BlockSize}
					if base != nil {
						d.Base = base.Machines[m].Disks[0].Root
					}
					spec.Disks = append(spec.Disks, d)
					sealed.Machines = append(sealed.Machines, points.SealMachine{ID: name, Name: name, Disks: []points.SealDisk{{Key: "d"}}})
				}
				in, _, err := s.OpenIntake(spec)
				require.NoError(t, err)
				for disk := range 2 {
					for range rapid.IntRange(0, 4).Draw(t, "writes") {
						block := pool[r.IntN(len(pool))]
						if r.IntN(3) == 0 {
							block = randomBlock(r)
						}
						name := points.NameOf(block)
						if in.Missing([]points.Name{name})[0] {
							enc, stored := points.Encode(nil, block, points.EncodingS2)
							require.NoError(t, in.Put(name, enc, points.BlockSize, stored))
						}
						require.NoError(t, in.Record([]points.Entry{{Disk: uint16(disk), Index: int64(r.IntN(blocks)), Count: 1, Name: name}}))
					}
				}
				x, err := in.Seal(sealed)
				require.NoError(t, err)
				base = x
				all = append(all, x)
			}
		}
		before, err := s.Space(t.Context())
		require.NoError(t, err)
		require.False(t, before.Unread)
		require.Equal(t, whole, before.Whole)
		require.Len(t, before.Points, len(all))
		swept, err := s.Sweep(t.Context())
		require.NoError(t, err)
		require.LessOrEqual(t, before.Needed, before.Packs)
		require.GreaterOrEqual(t, s.Usage().PackBytes, before.Needed, "%+v", swept)
		alone := int64(0)
		for id, g := range before.Groups {
			alone += g.Alone
			require.LessOrEqual(t, g.Alone, g.Needed)
			sum := int64(0)
			for part, m := range before.Machines {
				if part.Group == id {
					sum += m.Alone
				}
			}
			require.LessOrEqual(t, sum, g.Alone)
		}
		require.LessOrEqual(t, alone, before.Needed)

		one := all[r.IntN(len(all))]
		require.NoError(t, s.Drop(one.Point))
		after, err := s.Space(t.Context())
		require.NoError(t, err)
		require.Equal(t, before.Points[one.Point].Alone, before.Needed-after.Needed, "a point")
		id := all[0].Group.ID
		before = after
		for _, x := range s.Points(id) {
			require.NoError(t, s.Drop(x.Point))
		}
		after, err = s.Space(t.Context())
		require.NoError(t, err)
		require.Equal(t, before.Groups[id].Alone, before.Needed-after.Needed, "a group")
		require.NotContains(t, after.Groups, id)
	})
}
