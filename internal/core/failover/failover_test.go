package failover_test

import (
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"kestrel/internal/core/drill"
	"kestrel/internal/core/failover"
)

func TestNext(t *testing.T) {
	at := time.Date(2026, 5, 1, 12, 0, 0, 0, time.UTC)
	up := []drill.Machine{{Name: "purser", Started: at, Passed: at}}
	type f = failover.Facts
	for name, c := range map[string]struct {
		f    f
		next failover.State
	}{
		"much is left":                          {f{State: failover.Draining}, failover.Draining},
		"little is left":                        {f{State: failover.Draining, Drained: true}, failover.Stopping},
		"stopped where it is":                   {f{State: failover.Draining, Drained: true, Stopped: true}, failover.Draining},
		"a machine runs":                        {f{State: failover.Stopping, OffKnown: true}, failover.Stopping},
		"home is silent":                        {f{State: failover.Stopping, Off: true}, failover.Stopping},
		"all are off":                           {f{State: failover.Stopping, Off: true, OffKnown: true}, failover.Sealing},
		"somebody started one again":            {f{State: failover.Sealing, OffKnown: true, Sealed: true}, failover.Stopping},
		"home is silent, and all is here":       {f{State: failover.Sealing, Sealed: true}, failover.Turning},
		"sealed":                                {f{State: failover.Sealing, Off: true, OffKnown: true, Sealed: true}, failover.Turning},
		"not ceded yet":                         {f{State: failover.Turning}, failover.Turning},
		"turned":                                {f{State: failover.Turning, Held: true}, failover.Starting},
		"no machine is made":                    {f{State: failover.Starting}, failover.Starting},
		"one starts":                            {f{State: failover.Starting, Made: true, Machines: []drill.Machine{{Name: "a"}}}, failover.Starting},
		"all run":                               {f{State: failover.Starting, Made: true, Machines: up}, failover.Open},
		"one is lost":                           {f{State: failover.Starting, Made: true, Machines: []drill.Machine{{Lost: true}}}, failover.Open},
		"another point":                         {f{State: failover.Open, Replace: true}, failover.Replacing},
		"another point while it is stopped":     {f{State: failover.Open, Replace: true, Stopped: true}, failover.Replacing},
		"something is left":                     {f{State: failover.Replacing, Replace: true, Left: 1, LeftKnown: true}, failover.Replacing},
		"it is not known what is left":          {f{State: failover.Replacing, Replace: true}, failover.Replacing},
		"nothing is left":                       {f{State: failover.Replacing, LeftKnown: true}, failover.Starting},
		"nobody decides":                        {f{State: failover.Open}, failover.Open},
		"accepted":                              {f{State: failover.Open, Accept: true}, failover.Accepting},
		"not local":                             {f{State: failover.Accepting, Accept: true, Settled: true}, failover.Accepting},
		"not settled":                           {f{State: failover.Accepting, Accept: true, Local: true}, failover.Accepting},
		"done":                                  {f{State: failover.Accepting, Accept: true, Local: true, Settled: true}, failover.Over},
		"too late to back out":                  {f{State: failover.Accepting, Accept: true, BackOut: true}, failover.Accepting},
		"backed out while it drains":            {f{State: failover.Draining, BackOut: true, Drained: true}, failover.Returning},
		"backed out while home is shut down":    {f{State: failover.Stopping, BackOut: true, Off: true, OffKnown: true}, failover.Returning},
		"backed out while it turns":             {f{State: failover.Turning, BackOut: true}, failover.Returning},
		"backed out when it has turned":         {f{State: failover.Turning, BackOut: true, Held: true}, failover.Clearing},
		"backed out while machines start":       {f{State: failover.Starting, BackOut: true, Made: true}, failover.Clearing},
		"backed out, though stopped":            {f{State: failover.Open, BackOut: true, Stopped: true, Accept: true}, failover.Clearing},
		"backed out while machines are removed": {f{State: failover.Replacing, BackOut: true, LeftKnown: true}, failover.Clearing},
		"machines are left":                     {f{State: failover.Clearing, BackOut: true, Left: 2, LeftKnown: true}, failover.Clearing},
		"none is left":                          {f{State: failover.Clearing, BackOut: true, LeftKnown: true, Stopped: true}, failover.Returning},
		"not given back":                        {f{State: failover.Returning, BackOut: true}, failover.Returning},
		"given back":                            {f{State: failover.Returning, BackOut: true, Returned: true}, failover.Over},
		"over":                                  {f{State: failover.Over, BackOut: true}, failover.Over},
	} {
		require.Equal(t, c.next, failover.Next(c.f), name)
	}
}

func TestDrained(t *testing.T) {
	took := func(ds ...time.Duration) (out []failover.Pass) {
		for _, d := range ds {
			out = append(out, failover.Pass{Took: d})
		}
		return out
	}
	require.False(t, failover.Drained(nil), "there is no cycle since it began")
	require.True(t, failover.Drained(took(3*time.Second)), "a short one")
	require.False(t, failover.Drained(took(time.Hour)), "a long one: the next has less to copy")
	require.False(t, failover.Drained(took(time.Hour, 10*time.Minute)))
	require.True(t, failover.Drained(took(time.Hour, 10*time.Minute, 5*time.Second)))
	require.True(t, failover.Drained(took(10*time.Minute, 9*time.Minute)), "one more would be no shorter")
	require.True(t, failover.Drained(took(100*time.Hour, 50*time.Hour, 25*time.Hour, 12*time.Hour, 6*time.Hour)), "it has to end")
}

func TestSummary(t *testing.T) {
	began := time.Date(2026, 5, 1, 12, 0, 0, 0, time.UTC)
	ms := []drill.Machine{{Name: "a", Started: began.Add(3 * time.Second), Passed: began.Add(9 * time.Second)}, {Name: "b", Started: began.Add(4 * time.Second), Passed: began.Add(21 * time.Second)}}
	took, unready := failover.Judge(began, ms)
	require.Equal(t, 21*time.Second, took)
	require.Empty(t, unready)
	require.Equal(t, "It was accepted: 2 machines ran at Eastmole after 21 s, within the RTO target of 5 min; nothing is lost.", failover.Outcome{Result: failover.Accepted, Took: took}.Summary(2, "Eastmole", 5*time.Minute))
	require.Equal(t, "It was accepted: 2 machines ran at Eastmole after 21 s, 11 s more than the RTO target of 10 s; 4 min of changes are lost.", failover.Outcome{Result: failover.Accepted, Took: took, Loses: 4 * time.Minute}.Summary(2, "Eastmole", 10*time.Second))
	ms[1].Missed = true
	ms = append(ms, drill.Machine{Name: "c", Started: began})
	took, unready = failover.Judge(began, ms)
	require.Zero(t, took, "one never came up")
	require.Equal(t, "It was accepted, with 3 machines at Eastmole; nothing is lost; not as it should be: b and c.", failover.Outcome{Result: failover.Accepted, Took: took, Unready: unready}.Summary(3, "Eastmole", 0))
	require.Equal(t, "It was backed out.", failover.Outcome{Result: failover.BackedOut, Took: took, Unready: unready}.Summary(3, "Eastmole", 0))
}
