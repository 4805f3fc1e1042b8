package berth_test

import (
	"fmt"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"kestrel/internal/core/berth"
)

func TestTurn(t *testing.T) {
	noon := time.Date(2026, 11, 26, 12, 0, 0, 0, time.UTC)
	b := berth.Berth{Waves: []berth.Wave{{Number: 1, Check: "port 5432", Wait: 30 * time.Second}, {Number: 2, Check: berth.CheckAgent}}}
	db := berth.Stage{Name: "db", Wave: 1}
	app := berth.Stage{Name: "app", Wave: 2}
	started, passed, gone := db, db, db
	started.Started = noon.Add(-time.Minute)
	passed.Started, passed.Passed = started.Started, noon.Add(-10*time.Second)
	gone.Over = true
	for _, c := range []struct {
		name string
		wave int
		all  []berth.Stage
		at   time.Time
		why  string
	}{
		{"the first waits for nobody", 1, []berth.Stage{db, app}, noon, ""},
		{"it has not started", 2, []berth.Stage{db, app}, noon, "It waits until db, of wave 1, takes connections on port 5432."},
		{"its check has not passed", 2, []berth.Stage{started, app}, noon, "It waits until db, of wave 1, takes connections on port 5432."},
		{"the wait counts from the check", 2, []berth.Stage{passed, app}, noon, "It waits another 21 s after wave 1."},
		{"at its end", 2, []berth.Stage{passed, app}, noon.Add(20 * time.Second), ""},
		{"a removed one is not waited for", 2, []berth.Stage{gone, app}, noon, ""},
		{"a wave that nobody is in", 3, []berth.Stage{app}, noon, "It waits until app, of wave 2, has an agent that answers."},
		{"several", 2, []berth.Stage{db, {Name: "queue", Wave: 1}}, noon, "It waits until each of db, queue, of wave 1, takes connections on port 5432."},
	} {
		may, why := b.Turn(c.wave, c.all, c.at)
		require.Equal(t, c.why, why, c.name)
		require.Equal(t, c.why == "", may, c.name)
	}
	require.Equal(t, berth.DefaultLimit, b.Wave(1).Until())
	require.Equal(t, berth.CheckNone, b.Wave(7).Check)
}

// Whatever the waves, all machines start in the end, and none before those of a lower wave.
func TestWavesComeInOrder(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		var b berth.Berth
		for n := 1; n <= 4; n++ {
			if rapid.Bool().Draw(t, "said") {
				b.Waves = append(b.Waves, berth.Wave{Number: n, Wait: time.Duration(rapid.IntRange(0, 90).Draw(t, "wait")) * time.Second, Check: berth.CheckAgent})
			}
		}
		var all []berth.Stage
		for i := range rapid.IntRange(1, 6).Draw(t, "machines") {
			all = append(all, berth.Stage{Name: fmt.Sprint(i), Wave: rapid.IntRange(1, 4).Draw(t, "wave")})
		}
		now, left := time.Unix(1e9, 0), len(all)
		for range 10000 {
			for i := range all {
				may, why := b.Turn(all[i].Wave, all, now)
				if may != (why == "") {
					t.Fatalf("may %v, and %q", may, why)
				}
				if !all[i].Started.IsZero() || !may {
					continue
				}
				for _, o := range all {
					if w := b.Wave(o.Wave); o.Wave < all[i].Wave && (o.Passed.IsZero() || now.Before(o.Passed.Add(w.Wait))) {
						t.Fatalf("%+v started before its turn", all[i])
					}
				}
				all[i].Started = now
				left--
			}
			now = now.Add(time.Second)
			for i := range all {
				if !all[i].Started.IsZero() && all[i].Passed.IsZero() && rapid.Bool().Draw(t, "passes") {
					all[i].Passed = now
				}
			}
			if left == 0 {
				return
			}
		}
		t.Fatalf("%d have not started", left)
	})
}
