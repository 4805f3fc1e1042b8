package group_test

import (
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"kestrel/internal/core/cadence"
	"kestrel/internal/core/group"
	"kestrel/internal/core/ladder"
	"kestrel/internal/core/promise"
)

var now = time.Date(2026, 11, 25, 12, 0, 0, 0, time.UTC)

func spec() group.Spec {
	return group.Spec{Name: "Ticketing", Platform: "p", Priority: group.Normal, NewDisks: group.CopyNew, Machines: []group.Machine{
		{ID: "1", Name: "tick-db", Rest: group.Rest{Mode: group.RestTry}, Disks: []group.Disk{{Key: "a", Label: "disk 1", SizeBytes: 8 << 30, Boot: true}, {Key: "b", Label: "swap", SizeBytes: 1 << 30}}}, {ID: "2", Name: "tick-app"}},
		Promise:      promise.Promise{Target: 5 * time.Minute, Cadence: cadence.Cadence{Every: time.Minute}, Keep: ladder.Ladder{{For: time.Hour}}},
		Destinations: []group.Destination{{SiteID: "e", Site: "Eastmole"}}}
}

func quietNights() cadence.Quiet {
	q, err := cadence.ParseQuiet("daily 22:00-02:00", "")
	if err != nil {
		panic(err)
	}
	return q
}

func TestApplyChangesWhatIsNamedAndNothingElse(t *testing.T) {
	name, every, low := "Tickets", 30*time.Second, group.Low
	machines := []group.Machine{spec().Machines[0], {ID: "3", Name: "tick-web"}}
	machines[0].Rest = group.Rest{}
	for _, c := range []struct {
		patch  group.Patch
		fields []string
	}{
		{group.Patch{}, nil},
		{group.Patch{Name: &name}, []string{"name"}},
		{group.Patch{Cadence: &cadence.Cadence{Every: every}}, []string{"cadence"}},
		{group.Patch{Quiet: new(quietNights())}, []string{"quiet"}},
		{group.Patch{Zone: new("Europe/Oslo")}, []string{"zone"}},
		{group.Patch{Priority: &low, HomePoints: new(true)}, []string{"priority", "homePoints"}},
		{group.Patch{Machines: &machines}, []string{"machines"}},
		{group.Patch{Rest: &map[string]group.Rest{"2": {Mode: group.RestTry}}}, []string{"quiesce"}},
		{group.Patch{Rest: &map[string]group.Rest{"1": {Mode: group.RestTry, Nth: 4}}}, []string{"quiesce"}},
		{group.Patch{Without: &[]group.DiskRef{{Machine: "1", Disk: "b"}}}, []string{"withoutDisks"}},
		{group.Patch{NewDisks: new(group.FlagNew)}, []string{"newDisks"}},
		{group.Patch{HomeKeep: &ladder.Ladder{{For: time.Minute}}}, []string{"homeKeep"}},
		{group.Patch{Least: new(3)}, []string{"leastPoints"}},
		{group.Patch{RTO: new(time.Hour), DrillEvery: new(48 * time.Hour), RestMode: new(group.RestTry)}, []string{"rtoTargetSeconds", "rest", "drillEverySeconds"}},
		{group.Patch{Tags: &[]string{"gold", " gold", "ferry"}}, []string{"tags"}},
		{group.Patch{Pause: &group.Pause{By: "anna", Since: now, Until: now.Add(time.Hour), Reason: "array swap"}}, []string{"paused"}},
		{group.Patch{Resume: true}, nil},
		{group.Patch{Apart: new(true), CompareEvery: new(48 * time.Hour)}, []string{"together", "compareEverySeconds"}},
	} {
		before := spec()
		after := c.patch.Apply(before)
		var got []string
		for _, d := range group.Diff(before, after) {
			got = append(got, d.Field)
			require.NotEqual(t, d.From, d.To)
		}
		require.Equal(t, c.fields, got)
		require.Equal(t, spec(), before, "what is patched is a copy")
	}
	after := group.Patch{Machines: &machines}.Apply(spec())
	require.True(t, after.Machines[0].Rest.On(), "what was chosen for a machine that stays, stays")
	require.False(t, after.Machines[1].Rest.On())
}

func TestPauseEndsByItself(t *testing.T) {
	s := group.Patch{Pause: &group.Pause{Since: now, Until: now.Add(time.Hour)}}.Apply(spec())
	require.True(t, s.PausedAt(now))
	require.False(t, s.PausedAt(now.Add(time.Hour)))
	s.Pause.Until = time.Time{}
	require.True(t, s.PausedAt(now.Add(1000*time.Hour)))
	require.False(t, group.Patch{Resume: true}.Apply(s).PausedAt(now))
}

func TestValidate(t *testing.T) {
	long := strings.Repeat("ü", group.MaxName+1)
	for name, c := range map[string]struct {
		change func(s *group.Spec)
		field  string
	}{
		"good":                 {func(*group.Spec) {}, ""},
		"no name":              {func(s *group.Spec) { s.Name = " " }, "name"},
		"long name":            {func(s *group.Spec) { s.Name = long }, "name"},
		"80 wide characters":   {func(s *group.Spec) { s.Name = long[2:] }, ""},
		"colon":                {func(s *group.Spec) { s.Name = "a:1" }, "name"},
		"line break":           {func(s *group.Spec) { s.Name = "a\nb" }, "name"},
		"direction turned":     {func(s *group.Spec) { s.Name = "a\u202eb" }, "name"},
		"width of nothing":     {func(s *group.Spec) { s.Name = "a\u200bb" }, "name"},
		"line separator":       {func(s *group.Spec) { s.Name = "a\u2028b" }, "name"},
		"escape":               {func(s *group.Spec) { s.Name = "a\x1b[31m" }, "name"},
		"no machines":          {func(s *group.Spec) { s.Machines = nil }, "machines"},
		"too many machines":    {func(s *group.Spec) { s.Machines = make([]group.Machine, 257) }, "machines"},
		"two words in a tag":   {func(s *group.Spec) { s.Tags = []string{"two words"} }, "tags[0]"},
		"no such priority":     {func(s *group.Spec) { s.Priority = "urgent" }, "priority"},
		"compare too often":    {func(s *group.Spec) { s.CompareEvery = time.Minute }, "compareEverySeconds"},
		"pause without end":    {func(s *group.Spec) { s.Pause = &group.Pause{Since: now} }, ""},
		"pause into the past":  {func(s *group.Spec) { s.Pause = &group.Pause{Since: now, Until: now} }, "forSeconds"},
		"too long at home":     {func(s *group.Spec) { s.HomeKeep = ladder.Ladder{{For: -1}} }, "homeKeep"},
		"an RTO of a second":   {func(s *group.Spec) { s.RTO = time.Second }, "rtoTargetSeconds"},
		"drills all the time":  {func(s *group.Spec) { s.DrillEvery = time.Hour }, "drillEverySeconds"},
		"a rule without place": {func(s *group.Spec) { s.Rule = &group.Rule{} }, "rule.order"},
		"all disks left out":   {func(s *group.Spec) { s.Machines[0].Disks[0].LeftOut, s.Machines[0].Disks[1].LeftOut = true, true }, "withoutDisks"},
		"new disks somehow":    {func(s *group.Spec) { s.NewDisks = "" }, "newDisks"},
		"rest for ever":        {func(s *group.Spec) { s.Machines[0].Rest.Limit = time.Hour }, "quiesce[0].limitSeconds"},
		"rest never":           {func(s *group.Spec) { s.Machines[0].Rest.Nth = -1 }, "quiesce[0].everyNth"},
		"rest somehow":         {func(s *group.Spec) { s.Machines[0].Rest.Mode = "perhaps" }, "quiesce[0].mode"},
		"two commands":         {func(s *group.Spec) { s.Machines[0].Rest.Before = "a\nb" }, "quiesce[0].before"},
		"a promise is wrong":   {func(s *group.Spec) { s.Promise.Cadence.Every = time.Hour }, "promise.cadenceSeconds"},
	} {
		t.Run(name, func(t *testing.T) {
			s := spec()
			c.change(&s)
			faults := promise.Faults(s.Validate())
			if c.field == "" {
				require.Empty(t, faults)
				return
			}
			require.NotEmpty(t, faults)
			require.Equal(t, c.field, faults[0].Field)
		})
	}
}

// Two edits of different fields never clash, and applied one after the other give
// the same in either order; of the same field to different values they do clash.
func TestEditsOfDifferentFieldsCommute(t *testing.T) {
	patch := func(t *rapid.T, label string) (int, group.Patch) {
		n := rapid.IntRange(0, 5).Draw(t, label)
		switch n {
		case 0:
			return n, group.Patch{Name: new(rapid.SampledFrom([]string{"A", "B"}).Draw(t, label+" name"))}
		case 1:
			return n, group.Patch{Target: new(time.Duration(rapid.IntRange(6, 9).Draw(t, label+" target")) * time.Minute)}
		case 2:
			return n, group.Patch{Cadence: &cadence.Cadence{Every: time.Duration(rapid.IntRange(10, 20).Draw(t, label+" every")) * time.Second}}
		case 3:
			return n, group.Patch{Priority: new(rapid.SampledFrom([]group.Priority{group.High, group.Low}).Draw(t, label+" priority"))}
		case 4:
			return n, group.Patch{HomePoints: new(true)}
		}
		return n, group.Patch{Tags: &[]string{rapid.SampledFrom([]string{"x", "y"}).Draw(t, label+" tag")}}
	}
	rapid.Check(t, func(t *rapid.T) {
		a, pa := patch(t, "a")
		b, pb := patch(t, "b")
		base := spec()
		x, y := pb.Apply(pa.Apply(base)), pa.Apply(pb.Apply(base))
		clash := group.Clash(base, pa.Apply(base), pb.Apply(base))
		if a != b {
			require.Empty(t, clash)
			require.Equal(t, x, y)
			return
		}
		require.Equal(t, len(group.Diff(x, y)) > 0, len(clash) > 0)
	})
}

func TestMachinesOfTheSameNamesAreOthers(t *testing.T) {
	a, b := spec(), spec()
	b.Machines[1].ID = "9"
	require.False(t, group.SameMachines(a, b))
	require.Equal(t, []group.Change{{Field: "machines", From: "1, 2", To: "1, 9"}}, group.Diff(a, b))
	require.Equal(t, "machines: 1, 2 → 1, 9", group.Diff(a, b)[0].String())
}
