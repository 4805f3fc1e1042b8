package berth

import (
	"fmt"
	"slices"
	"strings"
	"time"

	"kestrel/internal/core/span"
)

// Stage is how far one of several machines is that are started together.
type Stage struct {
	Name    string
	Wave    int       // from 1 on
	Started time.Time // zero: not yet
	Passed  time.Time // the check of its wave has passed, or was given up; zero: not yet
	Over    bool      // it was removed, or is being: nobody waits for it
}

// Wave finds what is said of a wave; nothing said is no wait and no check.
func (b Berth) Wave(number int) Wave {
	at := slices.IndexFunc(b.Waves, func(w Wave) bool { return w.Number == number })
	if at < 0 {
		return Wave{Number: number, Check: CheckNone}
	}
	w := b.Waves[at]
	if w.Check == "" {
		w.Check = CheckNone
	}
	return w
}

// Until is how long the check of a wave may take.
func (w Wave) Until() time.Duration {
	if w.Limit > 0 {
		return w.Limit
	}
	return DefaultLimit
}

// Port is the TCP port that a check is of, if it is of one.
func (c Check) Port() (port int, ok bool) {
	n, err := fmt.Sscanf(string(c), CheckPort+"%d", &port)
	return port, err == nil && n == 1
}

// Words says what a check waits for, after the name of a machine.
func (c Check) Words() string {
	if port, ok := c.Port(); ok {
		return fmt.Sprintf("takes connections on port %d", port)
	}
	if c == CheckAgent {
		return "has an agent that answers"
	}
	return "has started"
}

// Turn tells whether machines of a wave may start now. All machines of the waves before it
// have to have started, what is checked of them has to have passed, and then their waits
// count. If not, why says what is waited for.
func (b Berth) Turn(wave int, all []Stage, now time.Time) (may bool, why string) {
	var numbers []int
	for _, s := range all {
		if s.Wave < wave && !s.Over && !slices.Contains(numbers, s.Wave) {
			numbers = append(numbers, s.Wave)
		}
	}
	slices.Sort(numbers)
	for _, n := range numbers {
		w := b.Wave(n)
		var open []string
		var last time.Time
		for _, s := range all {
			if s.Wave != n || s.Over {
				continue
			}
			if s.Started.IsZero() || s.Passed.IsZero() {
				open = append(open, s.Name)
			}
			if s.Passed.After(last) {
				last = s.Passed
			}
		}
		switch rest := last.Add(w.Wait).Sub(now); {
		case len(open) == 1:
			return false, fmt.Sprintf("It waits until %s, of wave %d, %s.", open[0], n, w.Check.Words())
		case len(open) > 1:
			return false, fmt.Sprintf("It waits until each of %s, of wave %d, %s.", strings.Join(open, ", "), n, w.Check.Words())
		case rest > 0:
			return false, fmt.Sprintf("It waits another %s after wave %d.", span.Format(rest.Truncate(time.Second)+time.Second), n)
		}
	}
	return true, ""
}
