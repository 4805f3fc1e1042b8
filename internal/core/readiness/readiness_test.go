package readiness_test

import (
	"testing"
	"time"

	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"kestrel/internal/core/promise"
	"kestrel/internal/core/readiness"
)

var now = time.Date(2026, 11, 26, 12, 0, 0, 0, time.UTC)

func disks(left bool) []readiness.Disk {
	return []readiness.Disk{{Key: "vda", Label: "root", Size: 10 << 30, Boot: true}, {Key: "vdb", Label: "data", Size: 40 << 30}, {Key: "vdc", Label: "swap", Size: 1 << 30, Left: left}}
}

// sound is a group that nothing is wrong with.
func sound() readiness.Facts {
	ms := func() []readiness.Machine {
		return []readiness.Machine{{ID: "1", Name: "tick-db", Disks: disks(true)}, {ID: "2", Name: "tick.app", Disks: disks(true)}}
	}
	return readiness.Facts{Now: now, Home: "Norhaven", Machines: ms(), Point: &readiness.Point{Number: 12, Kind: "libvirt", Machines: ms(), Lost: map[string]int64{}}, Platform: readiness.Platform{Name: "quay", Kind: "libvirt", Known: true, Up: true, Lands: true}}
}

// Each planted mistake is found, with what it is of and where it is mended, and is gone when
// it is mended.
func TestPlantedMistakes(t *testing.T) {
	require.Empty(t, readiness.Check(sound()))
	for name, c := range map[string]struct {
		plant   func(f *readiness.Facts)
		stops   bool
		kind    string
		machine string
		what    string
	}{
		"no point":                   {func(f *readiness.Facts) { f.Point = nil }, true, "point", "", "no point of it at its recovery site"},
		"blocks that cannot be read": {func(f *readiness.Facts) { f.Point.Lost["tick-db"] = 3 << 20 }, true, "point", "tick-db", "3.0 MiB of the disks of tick-db cannot be read from point 12"},
		"no platform":                {func(f *readiness.Facts) { f.Platform = readiness.Platform{} }, true, "platform", "", "No platform is chosen"},
		"platform away":              {func(f *readiness.Facts) { f.Platform.Up = false }, true, "platform", "", "quay cannot be reached."},
		"nothing lands":              {func(f *readiness.Facts) { f.Platform.Lands = false }, true, "platform", "", "cannot be started on quay"},
		"another kind":               {func(f *readiness.Facts) { f.Platform.Kind = "lab" }, true, "platform", "", "from a platform of the kind libvirt, and quay is of the kind lab"},
		"exports out of reach":       {func(f *readiness.Facts) { f.Unreachable = "nh-1 is another machine" }, true, "platform", "", "Nh-1 is another machine."},
		"berth error": {func(f *readiness.Facts) {
			f.Berth = []promise.Finding{{Field: "machines.tick.app.cards[0].live", Message: "No network."}}
		}, true, "berth", "tick.app", "No network."},
		"berth warning": {func(f *readiness.Facts) {
			f.Berth = []promise.Finding{{Field: "folder", Message: "No folder.", Warning: true}}
		}, false, "berth", "", "No folder."},
		"name taken":      {func(f *readiness.Facts) { f.Refusals = []string{"quay has a machine tick-db already."} }, true, "start", "", "quay has a machine"},
		"machine joined":  {func(f *readiness.Facts) { f.Point.Machines = f.Point.Machines[:1] }, true, "machines", "tick.app", "joined the group after point 12"},
		"machine renamed": {func(f *readiness.Facts) { f.Machines[0].Name = "ticket-db" }, false, "machines", "ticket-db", "was renamed: point 12 has it as tick-db"},
		"disk added": {func(f *readiness.Facts) {
			f.Machines[0].Disks = append(f.Machines[0].Disks, readiness.Disk{Key: "vdd", Label: "log", Size: 1})
		}, true, "machines", "tick-db", "a disk log that is not in point 12"},
		"disk resized":        {func(f *readiness.Facts) { f.Machines[0].Disks[1].Size *= 2 }, false, "machines", "tick-db", "from 40 GiB to 80 GiB"},
		"boot disk left out":  {func(f *readiness.Facts) { f.Machines[0].Disks[0].Left = true }, true, "machines", "tick-db", "starts from its disk root, which is left out"},
		"disk taken in again": {func(f *readiness.Facts) { f.Machines[0].Disks[2].Left = false }, true, "machines", "tick-db", "was left out until now"},
		"no room for all": {func(f *readiness.Facts) {
			f.Room = []readiness.Shortage{{Of: "memory on recovery", Need: 64 << 30, Have: 8 << 30}}
		}, false, "room", "", "need 64 GiB of memory on recovery together, which has 8.0 GiB"},
		"certificate ended":     {func(f *readiness.Facts) { f.CertificateEnds = now.Add(-time.Hour) }, true, "certificate", "", "has ended"},
		"certificate ends soon": {func(f *readiness.Facts) { f.CertificateEnds = now.AddDate(0, 0, 3) }, false, "certificate", "", "ends on 29 November 2026"},
		"clocks apart":          {func(f *readiness.Facts) { f.Ahead = -5 * time.Minute }, false, "clock", "", "of Norhaven are 5 min apart"},
		"a drill is due":        {func(f *readiness.Facts) { f.DrillOverdue = "No drill of it has passed yet; one was due 2 h ago." }, false, "drill", "", "No drill of it"},
		"it runs here as well":  {func(f *readiness.Facts) { f.Here = []string{"tick-db-em"} }, false, "both sites", "tick-db-em", "runs here live, while Norhaven is home"},
	} {
		f := sound()
		c.plant(&f)
		fs := readiness.Check(f)
		require.Len(t, fs, 1, name)
		require.Equal(t, []any{c.stops, c.kind, c.machine}, []any{fs[0].Stops, fs[0].Kind, fs[0].Machine}, name)
		require.Contains(t, fs[0].What, c.what, name)
		require.NotEmpty(t, fs[0].Mend, name)
		require.NotEmpty(t, fs[0].Page, name)
		require.Equal(t, !c.stops, readiness.Ready(fs), name)
	}
	f := sound()
	f.CertificateEnds, f.Ahead = now.AddDate(1, 0, 0), 5*time.Second
	require.Empty(t, readiness.Check(f), "far from it")
}

// Whatever is wrong: what stops comes first, and each finding is one thing.
func TestFindingsAreInOrder(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		f := sound()
		yes := func(what string) bool { return rapid.Bool().Draw(t, what) }
		if yes("lost") {
			f.Point.Lost["tick-db"] = 1
		}
		if yes("point") {
			f.Point = nil
		}
		f.Platform.Up, f.Platform.Lands = yes("up"), yes("lands")
		for range rapid.IntRange(0, 4).Draw(t, "berth") {
			f.Berth = append(f.Berth, promise.Finding{Field: rapid.StringMatching(`machines\.tick-db\.[a-z]+|[a-z]+`).Draw(t, "field"), Message: rapid.StringMatching(`[A-Z][a-z]+\.`).Draw(t, "message"), Warning: yes("warning")})
		}
		f.Here = rapid.SliceOfDistinct(rapid.StringMatching(`[a-z]+`), func(s string) string { return s }).Draw(t, "here")
		fs := readiness.Check(f)
		risk := false
		for _, x := range fs {
			if x.Stops && risk {
				t.Fatalf("%+v comes after what does not stop it", x)
			}
			risk = risk || !x.Stops
		}
		if readiness.Ready(fs) != (len(fs) == 0 || !fs[0].Stops) {
			t.Fatal("ready is that nothing stops it")
		}
	})
}
