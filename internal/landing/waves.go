package landing

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"kestrel/internal/core/actor"
	"kestrel/internal/core/berth"
	"kestrel/internal/core/span"
	"kestrel/internal/core/words"
	"kestrel/internal/platform"
	"kestrel/internal/problem"
)

// Commands runs commands of this host; hostcommand.Folder is one.
type Commands interface {
	Run(ctx context.Context, name string, told map[string]string, limit time.Duration) error
}

// commandLimit is how long a command may take before a machine starts.
const commandLimit = 5 * time.Minute

// turn is when a machine starts among those that arrive together.
type turn struct {
	Together string       `json:"together,omitempty"`
	Wave     int          `json:"wave,omitempty"`
	Waves    []berth.Wave `json:"waves,omitempty"` // as the berth said when it was asked for
	// Readied says that what runs before the start has run.
	Readied bool       `json:"readied,omitempty"`
	Passed  *time.Time `json:"passed,omitempty"` // when its wave's check passed, or was given up
	Checked string     `json:"checked,omitempty"`
	Missed  bool       `json:"missed,omitempty"` // it was given up
}

func (t turn) check() berth.Wave { return berth.Berth{Waves: t.Waves}.Wave(t.Wave) }

// launch starts a machine that was made, if it is its turn. One that is copied first waits
// for its turn with its disks local.
func (l *Landings) launch(ctx context.Context, d platform.Lander, s *state) error {
	copied := s.detail.How == copiedFirst
	if !copied {
		if ready, err := l.ready(ctx, s); err != nil || !ready {
			return err
		}
	}
	if err := d.StartLanded(ctx, s.rec.ID, copied); err != nil {
		return err
	}
	if copied {
		l.set(s, copying, "")
		return nil
	}
	l.set(s, running, "")
	l.started(s)
	return nil
}

// started notes that a guest begins to run.
func (l *Landings) started(s *state) {
	at := l.Clock.Now().UTC()
	l.mu.Lock()
	defer l.mu.Unlock()
	if s.detail.StartedAt == nil {
		s.detail.StartedAt = &at
	}
	if a := s.detail.Arrival; a != nil && a.Passed == nil && a.check().Check == berth.CheckNone {
		a.Passed = &at
	}
}

// ready reports whether a guest may run now: its turn has come, and what runs before has run.
func (l *Landings) ready(ctx context.Context, s *state) (bool, error) {
	l.mu.Lock()
	a := s.detail.Arrival
	if a == nil {
		l.mu.Unlock()
		return true, nil
	}
	may, why := berth.Berth{Waves: a.Waves}.Turn(a.Wave, l.stages(a.Together), l.Clock.Now())
	state, command, wave := s.rec.State, a.Before, a.Wave
	if a.Readied {
		command = ""
	}
	recovery := s.detail.Recovery
	told := map[string]string{"KESTREL_SITE": l.Site, "KESTREL_KIND": string(a.Kind), "KESTREL_GROUP": s.detail.GroupName, "KESTREL_POINT": fmt.Sprint(s.detail.PointNumber),
		"KESTREL_MACHINE": s.detail.MachineName, "KESTREL_NAME": s.detail.Name, "KESTREL_LANDING": s.rec.ID}
	l.mu.Unlock()
	if may && recovery != "" && l.Gate != nil {
		why = l.Gate(recovery, wave)
		may = why == ""
	}
	if !may {
		if state != copying {
			state = waiting
		}
		l.set(s, state, why)
		return false, nil
	}
	if command == "" {
		return true, nil
	}
	if err := l.Commands.Run(ctx, command, told, commandLimit); err != nil {
		return false, fmt.Errorf("the command before its start: %w", err)
	}
	l.Trail.Note(ctx, actor.System(), object(s), "%s: the command %s ran before its start", s.detail.Name, command)
	l.mu.Lock()
	defer l.mu.Unlock()
	a.Readied = true
	return true, nil
}

// Up tells whether all machines of a drill or failover have come up, of a wave and of those
// before it, and the wait after it is over.
func (l *Landings) Up(recovery string, wave int) bool {
	l.mu.Lock()
	defer l.mu.Unlock()
	for _, s := range l.byID {
		if a := s.detail.Arrival; a != nil && s.detail.Recovery == recovery {
			may, _ := berth.Berth{Waves: a.Waves}.Turn(wave+1, l.stages(a.Together), l.Clock.Now())
			return may
		}
	}
	return true
}

// Driver is what asks the machine of a landing, by its ID.
func (l *Landings) Driver(id string) (platform.Lander, error) {
	s, err := l.find(id)
	if err != nil {
		return nil, err
	}
	return l.lander(s)
}

// Release lets a machine of a drill stay, as a landing of its own.
func (l *Landings) Release(ctx context.Context, who actor.Actor, id string) error {
	s, err := l.find(id)
	if err != nil {
		return err
	}
	l.mu.Lock()
	was := s.detail.Recovery
	s.detail.Recovery = ""
	l.mu.Unlock()
	if was != "" {
		l.save(ctx, s, nil)
		l.Trail.Note(ctx, who, object(s), "%s is kept after its drill, with what was changed in it", s.detail.Name)
	}
	return nil
}

// Skip gives up the check of a machine that has started, with why: what comes after it starts.
func (l *Landings) Skip(ctx context.Context, who actor.Actor, id, reason string) error {
	s, err := l.find(id)
	if err != nil {
		return err
	}
	at := l.Clock.Now().UTC()
	l.mu.Lock()
	a := s.detail.Arrival
	switch {
	case a == nil || a.Passed != nil:
		err = problem.Conflict("Nothing waits for a check of %s.", s.detail.Name)
	case s.detail.StartedAt == nil:
		err = problem.Conflict("%s has not started yet: it is its start that is waited for.", s.detail.Name)
	default:
		a.Passed, a.Missed, a.Told = &at, true, true
		a.Checked = fmt.Sprintf("%s waited for it no longer: %s", who, reason)
	}
	l.mu.Unlock()
	if err != nil {
		return err
	}
	l.save(ctx, s, nil)
	l.Trail.Note(ctx, who, object(s), "%s no longer waits for the check of %s: %s", who, s.detail.Name, reason)
	return nil
}

// stages is how far the machines are that arrive together; the lock is held.
func (l *Landings) stages(together string) []berth.Stage {
	var out []berth.Stage
	for _, s := range l.byID {
		a := s.detail.Arrival
		if a == nil || a.Together != together {
			continue
		}
		x := berth.Stage{Name: s.detail.Name, Wave: a.Wave, Over: s.rec.State == gone || s.rec.State == removing}
		if s.detail.StartedAt != nil {
			x.Started = *s.detail.StartedAt
		}
		if a.Passed != nil {
			x.Passed = *a.Passed
		}
		out = append(out, x)
	}
	slices.SortFunc(out, func(a, b berth.Stage) int { return strings.Compare(a.Name, b.Name) })
	return out
}

// unsettled reports whether something is still to be told to a guest, or checked of it; the
// lock is held.
func (s *state) unsettled() bool { return s.untold() || s.unchecked() }

func (s *state) unchecked() bool {
	a := s.detail.Arrival
	return a != nil && a.Passed == nil && s.detail.StartedAt != nil && a.check().Check != berth.CheckNone
}

// settle tells a running guest what it is to be told, and then checks what its wave waits for.
func (l *Landings) settle(ctx context.Context, d platform.Lander, s *state) error {
	if err := l.tell(ctx, d, s); err != nil {
		return err
	}
	l.mu.Lock()
	open := s.unchecked() && !s.untold()
	var w berth.Wave
	var since time.Duration
	if open {
		w, since = s.detail.Arrival.check(), l.Clock.Now().Sub(*s.detail.StartedAt)
	}
	l.mu.Unlock()
	if !open {
		return nil
	}
	var err error
	if port, is := w.Check.Port(); is {
		err = d.PortOpen(ctx, s.rec.ID, port)
	} else {
		err = d.AgentAnswers(ctx, s.rec.ID)
	}
	at := l.Clock.Now().UTC()
	text, over, missed := fmt.Sprintf("It %s, %s after its start.", w.Check.Words(), span.Format(since.Truncate(time.Second))), true, false
	switch {
	case ctx.Err() != nil:
		return ctx.Err()
	case err == nil:
	case since < w.Until():
		text, over = fmt.Sprintf("Not yet: %s.", words.Upper(err.Error())), false
	default:
		missed = true
		text = fmt.Sprintf("Not within %s: %s. What comes after it was started all the same.", span.Format(w.Until()), words.Upper(err.Error()))
	}
	l.mu.Lock()
	if s.detail.Arrival.Passed != nil { // somebody waits no longer
		l.mu.Unlock()
		return nil
	}
	s.detail.Arrival.Checked = text
	if over {
		s.detail.Arrival.Passed, s.detail.Arrival.Missed = &at, missed
	}
	l.mu.Unlock()
	if over {
		l.Trail.Note(ctx, actor.System(), object(s), "%s: %s", s.detail.Name, text)
	}
	if err != nil && !errors.Is(err, platform.ErrSilent) && !errors.Is(err, platform.ErrClosed) {
		return err
	}
	return nil
}
