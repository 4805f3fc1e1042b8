package drill_test

import (
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"kestrel/internal/core/drill"
)

var began = time.Date(2026, 11, 26, 12, 0, 0, 0, time.UTC)

func at(d time.Duration) time.Time { return began.Add(d) }

func machine(name string, started, passed time.Duration) drill.Machine {
	m := drill.Machine{Name: name, Wave: 1}
	if started > 0 {
		m.Started = at(started)
	}
	if passed > 0 {
		m.Passed = at(passed)
	}
	return m
}

func TestNext(t *testing.T) {
	up := []drill.Machine{machine("a", time.Minute, 2*time.Minute), machine("b", time.Minute, time.Minute)}
	for name, c := range map[string]struct {
		f    drill.Facts
		want drill.State
	}{
		"nothing is made yet":                {drill.Facts{State: drill.Starting}, drill.Starting},
		"one has not started":                {drill.Facts{State: drill.Starting, Made: true, Machines: append(up[:1:1], machine("c", 0, 0))}, drill.Starting},
		"one is not checked":                 {drill.Facts{State: drill.Starting, Made: true, Machines: append(up[:1:1], machine("c", time.Minute, 0))}, drill.Starting},
		"all is up":                          {drill.Facts{State: drill.Starting, Made: true, Machines: up}, drill.Open},
		"all is up and nobody looks":         {drill.Facts{State: drill.Starting, Made: true, Machines: up, Alone: true}, drill.Clearing},
		"one is gone":                        {drill.Facts{State: drill.Starting, Made: true, Machines: append(up[:1:1], drill.Machine{Name: "c", Lost: true})}, drill.Open},
		"somebody ends it at once":           {drill.Facts{State: drill.Starting, Asked: true}, drill.Clearing},
		"it never starts":                    {drill.Facts{State: drill.Starting, Now: at(drill.StartLimit)}, drill.Clearing},
		"open until somebody ends it":        {drill.Facts{State: drill.Open, Now: at(99 * time.Hour)}, drill.Open},
		"open until its time":                {drill.Facts{State: drill.Open, Now: at(time.Hour), Until: at(2 * time.Hour)}, drill.Open},
		"its time is over":                   {drill.Facts{State: drill.Open, Now: at(2 * time.Hour), Until: at(2 * time.Hour)}, drill.Clearing},
		"ended by hand":                      {drill.Facts{State: drill.Open, Asked: true}, drill.Clearing},
		"something is left":                  {drill.Facts{State: drill.Clearing, Known: true, Left: 1}, drill.Clearing},
		"it is not known what is left":       {drill.Facts{State: drill.Clearing}, drill.Clearing},
		"nothing is left":                    {drill.Facts{State: drill.Clearing, Known: true}, drill.Over},
		"what is over stays so, whatever is": {drill.Facts{State: drill.Over, Asked: true, Left: 3, Known: true}, drill.Over},
	} {
		c.f.Began = began
		if c.f.Now.IsZero() {
			c.f.Now = at(time.Minute)
		}
		require.Equal(t, c.want, drill.Next(c.f), name)
	}
}

func TestJudge(t *testing.T) {
	good := machine("a", time.Minute, 2*time.Minute)
	missed := machine("b", time.Minute, 5*time.Minute)
	missed.Missed = true
	for name, c := range map[string]struct {
		ms      []drill.Machine
		verdict *bool
		want    drill.Result
		took    time.Duration
		why     string
	}{
		"all is well":                       {[]drill.Machine{good}, nil, drill.Passed, 2 * time.Minute, ""},
		"somebody says so too":              {[]drill.Machine{good}, new(true), drill.Passed, 2 * time.Minute, ""},
		"somebody found fault":              {[]drill.Machine{good}, new(false), drill.Failed, 2 * time.Minute, "Whoever looked at it"},
		"a check did not pass":              {[]drill.Machine{good, missed}, nil, drill.Failed, 5 * time.Minute, "The check of b"},
		"nobody can pass that":              {[]drill.Machine{good, missed}, new(true), drill.Failed, 5 * time.Minute, "The check of b"},
		"one had not started":               {[]drill.Machine{good, machine("c", 0, 0)}, nil, drill.Stopped, 0, "c had not started"},
		"nobody can pass that either":       {[]drill.Machine{good, machine("c", 0, 0)}, new(true), drill.Stopped, 0, "c had not started"},
		"one was not checked":               {[]drill.Machine{machine("c", time.Minute, 0), good}, nil, drill.Stopped, 0, "had not passed yet"},
		"one was taken away":                {[]drill.Machine{good, {Name: "d", Lost: true}}, nil, drill.Stopped, 2 * time.Minute, "d was removed"},
		"nothing was made":                  {nil, nil, drill.Stopped, 0, ""},
		"nothing was made, and it is known": {nil, new(false), drill.Failed, 0, "says that it failed"},
	} {
		out := drill.Judge(began, c.ms, drill.Steps{}, c.verdict)
		require.Equal(t, c.want, out.Result, name)
		require.Equal(t, c.took, out.Took, name)
		if c.why == "" {
			require.Empty(t, out.Why, name)
		} else {
			require.Contains(t, out.Why[0], c.why, name)
		}
	}
}

func TestDue(t *testing.T) {
	const every = 90 * 24 * time.Hour
	require.True(t, drill.Due(began, began, 0).IsZero(), "none is promised")
	require.True(t, drill.Due(time.Time{}, time.Time{}, every).IsZero(), "there is no point yet")
	require.Equal(t, began.Add(every), drill.Due(time.Time{}, began, every))
	require.Equal(t, at(time.Hour).Add(every), drill.Due(at(time.Hour), began, every))
	require.Empty(t, drill.Overdue(began, time.Time{}, at(time.Hour), every))
	require.Empty(t, drill.Overdue(began, time.Time{}, time.Time{}, 0))
	require.Equal(t, "No drill of it has passed yet; one was due 2 h ago.", drill.Overdue(began, time.Time{}, at(-2*time.Hour), every))
	require.Equal(t, "The last drill that passed was 91 d ago, and one is promised every 90 d.", drill.Overdue(began, began.Add(-91*24*time.Hour), at(-24*time.Hour), every))
}

func TestSummary(t *testing.T) {
	o := drill.Outcome{Result: drill.Passed, Took: 4 * time.Minute}
	require.Equal(t, "It passed: 3 machines ran after 4 min, within the RTO target of 1 h.", o.Summary(3, time.Hour))
	require.Equal(t, "It passed: 1 machine ran after 4 min, 1 min more than the RTO target of 3 min.", o.Summary(1, 3*time.Minute))
	require.Equal(t, "It passed: 1 machine ran after 4 min.", o.Summary(1, 0))
	require.Equal(t, "It was ended before it could tell.", drill.Outcome{Result: drill.Stopped}.Summary(1, 0))
	require.Equal(t, "It failed.", drill.Outcome{Result: drill.Failed}.Summary(1, 0))
}

func TestWaves(t *testing.T) {
	began := time.Date(2026, 3, 4, 5, 6, 7, 0, time.UTC)
	at := func(s int) time.Time { return began.Add(time.Duration(s) * time.Second) }
	got := drill.Waves(began, []drill.Machine{
		{Name: "c", Wave: 2, Started: at(12), Passed: at(40)},
		{Name: "a", Wave: 1, Started: at(3), Passed: at(10)},
		{Name: "b", Wave: 1, Started: at(2), Passed: at(8)},
		{Name: "e", Wave: 4, Started: at(45), Passed: at(50), Missed: true},
		{Name: "d", Wave: 3, Started: at(41)},
	})
	require.Equal(t, []drill.Wave{
		{Number: 1, Machines: 2, Started: at(2), Up: at(10), Took: 10 * time.Second, Own: 10 * time.Second},
		{Number: 2, Machines: 1, Started: at(12), Up: at(40), Took: 40 * time.Second, Own: 30 * time.Second},
		{Number: 3, Machines: 1, Started: at(41)},
		{Number: 4, Machines: 1, Started: at(45)},
	}, got)
	require.Empty(t, drill.Waves(began, nil))
}
