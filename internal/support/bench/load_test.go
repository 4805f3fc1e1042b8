package bench

import (
	"flag"
	"os/exec"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
)

var full = flag.Bool("bench.full", false, "the load in full: 2,000 groups for half an hour")

// The load of many groups in short: 300 of them, of four machines each, are made at once and
// copied every minute. None is over its target, what a cycle asks of PostgreSQL does not grow with
// the groups, and all go on when the service is started again.
func TestALoadOfManyGroups(t *testing.T) {
	groups, o := 300, Options{Every: time.Minute, Watch: 70 * time.Second}
	if *full {
		groups, o = 2000, Options{Watch: 30 * time.Minute}
	}
	binary := filepath.Join(t.TempDir(), "kestrel")
	out, err := exec.Command("go", "build", "-o", binary, "kestrel/cmd/kestrel").CombinedOutput()
	require.NoError(t, err, "%s", out)
	o.Binary, o.Indexed = binary, true
	r, err := loadOf(t.Context(), o, groups)
	require.NoError(t, err)
	f := r.Figures
	t.Logf("%v", f)
	require.EqualValues(t, groups, f["copied"])
	require.GreaterOrEqual(t, f["within_target"], 0.995)
	require.Zero(t, f["failed"])
	require.Positive(t, f["cycles_a_minute"])
	for _, site := range []string{"home", "recovery"} {
		require.Less(t, f[site+"_statements_a_cycle"], 40.0, site)
		require.Less(t, f[site+"_rows_read_whole_a_cycle"], float64(groups)/2, "%s: no statement of a cycle reads a whole table", site)
	}
	require.EqualValues(t, 1, f["restart_within"])
}
