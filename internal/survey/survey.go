// Package survey watches how much machines change before they are protected, without
// copying anything: the platform keeps a record of changed blocks from hour to hour, and
// it is asked how much has changed after a minute, five, fifteen, thirty and sixty. So
// what changes again and again is counted once, as cycles of that cadence would.
package survey

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"log/slog"
	"slices"
	"strings"
	"sync"
	"time"

	"github.com/google/uuid"

	"kestrel/internal/audit"
	"kestrel/internal/clock"
	"kestrel/internal/core/actor"
	"kestrel/internal/core/group"
	"kestrel/internal/core/span"
	"kestrel/internal/core/words"
	"kestrel/internal/directory"
	"kestrel/internal/events"
	"kestrel/internal/inventory"
	"kestrel/internal/platform"
	"kestrel/internal/problem"
	"kestrel/internal/records"
)

// Limits of a survey.
const (
	MaxMachines = 256
	MaxRunning  = 16
	MinLength   = 10 * time.Minute
	MaxLength   = 31 * span.Day
)

// window is how long changes are counted from one instant.
const window = time.Hour

// marks are when, within a window, it is asked how much has changed.
func marks() []time.Duration {
	return []time.Duration{time.Minute, 5 * time.Minute, 15 * time.Minute, 30 * time.Minute, window}
}

// off is how far from a mark an answer may be and still count as of that time.
func off(mark time.Duration) time.Duration { return max(15*time.Second, mark/10) }

// Records is where surveys are kept; *records.DB is one.
type Records interface {
	Surveys(ctx context.Context) ([]records.Survey, error)
	PutSurvey(ctx context.Context, s records.Survey) error
	DeleteSurvey(ctx context.Context, id string) error
	AddSurveySample(ctx context.Context, s records.SurveySample) error
	SurveySamples(ctx context.Context, survey string) ([]records.SurveySample, error)
}

// Config is what it is made of.
type Config struct {
	DB        Records
	Groups    *directory.Directory
	Inventory *inventory.Inventory
	Trail     *audit.Trail
	Clock     clock.Clock
	Hub       *events.Hub
	Log       *slog.Logger
	// Owner begins the names of this site's records of changes on platforms. It is
	// another than that of cycles, which forget what they do not know.
	Owner string
	// Every is how often it is looked whether something is to be asked.
	Every time.Duration
}

// Surveys is the surveys of one site.
type Surveys struct {
	Config

	mu   sync.Mutex
	byID map[string]*state
}

// state is a survey; its machines are changed by the loop alone.
type state struct {
	rec      records.Survey
	machines []machine
}

// machine is a machine that is watched.
type machine struct {
	Platform  string `json:"platform"`
	ID        string `json:"id"` // on the platform
	Name      string `json:"name"`
	SizeBytes int64  `json:"sizeBytes"`
	UsedBytes int64  `json:"usedBytes"`
	// Checkpoint is what changes are counted from, since From; empty before the first.
	Checkpoint string    `json:"checkpoint,omitempty"`
	From       time.Time `json:"from,omitzero"`
	Taken      int       `json:"taken"` // how many of the marks were asked
	// Done says that it is not watched any more, and Note why, or what went wrong last.
	Done bool   `json:"done,omitempty"`
	Note string `json:"note,omitempty"`
}

func (m machine) key() string { return inventory.MachineID(m.Platform, m.ID) }

// Open reads the surveys.
func Open(ctx context.Context, cfg Config) (*Surveys, error) {
	s := &Surveys{Config: cfg, byID: map[string]*state{}}
	recs, err := cfg.DB.Surveys(ctx)
	if err != nil {
		return nil, err
	}
	for _, r := range recs {
		x := &state{rec: r}
		if err := json.Unmarshal(r.Machines, &x.machines); err != nil {
			return nil, fmt.Errorf("survey %s: %w", r.Name, err)
		}
		s.byID[r.ID] = x
	}
	return s, nil
}

func object(r records.Survey) audit.Object {
	return audit.Object{Kind: "survey", Name: r.Name, ID: r.ID}
}

// Start begins to watch machines that nothing protects.
func (s *Surveys) Start(ctx context.Context, who actor.Actor, name string, texts []string, length time.Duration) (string, error) {
	var faults []problem.Field
	fault := func(field, format string, a ...any) {
		faults = append(faults, problem.Field{Field: field, Message: fmt.Sprintf(format, a...)})
	}
	if name = strings.TrimSpace(name); group.CheckName(name, group.MaxName) != "" {
		fault("name", "%s", group.CheckName(name, group.MaxName))
	}
	if length < MinLength || length > MaxLength {
		fault("forSeconds", "A survey lasts from %s to %s; a week shows every hour of it.", span.Format(MinLength), span.Format(MaxLength))
	}
	if len(texts) == 0 || len(texts) > MaxMachines {
		fault("machines", "Name 1 to %d machines.", MaxMachines)
		texts = nil
	}
	x := &state{}
	watched := s.watched()
	for i, text := range texts {
		field := fmt.Sprintf("machines[%d]", i)
		p, m, err := s.Inventory.Machine(text)
		if err != nil {
			fault(field, "%q: %s.", text, strings.TrimSuffix(err.Error(), "."))
			continue
		}
		key := inventory.MachineID(p.ID, m.ID)
		why, mend := m.Barrier(nil)
		r, protected := s.Groups.Guards(p.ID, m.ID)
		switch {
		case protected:
			fault(field, "%s is protected by %s, whose cycles tell how much it changes.", m.Name, r.Spec.Name)
		case watched[key] != "":
			fault(field, "%s is watched by the survey %s.", m.Name, watched[key])
		case why != "":
			fault(field, "%s: %s %s", m.Name, why, mend)
		default:
			watched[key] = name
			x.machines = append(x.machines, machine{Platform: p.ID, ID: m.ID, Name: m.Name, SizeBytes: sizeOf(m), UsedBytes: inventory.Used(m, func(string) bool { return false })})
		}
	}
	if s.running() >= MaxRunning {
		fault("machines", "%d surveys run already; stop one first.", MaxRunning)
	}
	if len(faults) > 0 {
		return "", problem.InvalidFields(faults...)
	}
	now := s.Clock.Now().UTC()
	x.rec = records.Survey{ID: uuid.NewString(), Name: name, StartedAt: now, EndsAt: now.Add(length), StartedBy: who.String()}
	if err := x.encode(); err != nil {
		return "", err
	}
	err := s.Trail.Do(ctx, who, object(x.rec), func(ctx context.Context) error { return s.DB.PutSurvey(ctx, x.rec) }, "%s began the survey %s of %s, for %s", who, name, words.Count(len(x.machines), "machine"), span.Format(length))
	if err != nil {
		return "", err
	}
	s.mu.Lock()
	s.byID[x.rec.ID] = x
	s.mu.Unlock()
	return x.rec.ID, nil
}

func sizeOf(m platform.Machine) (n int64) {
	for _, d := range m.Disks {
		n += d.SizeBytes
	}
	return n
}

func (x *state) encode() (err error) {
	x.rec.Machines, err = json.Marshal(x.machines)
	return err
}

// watched tells, by machine, which survey watches it.
func (s *Surveys) watched() map[string]string {
	s.mu.Lock()
	defer s.mu.Unlock()
	out := map[string]string{}
	for _, x := range s.byID {
		for _, m := range x.machines {
			if x.rec.EndedAt == nil && !m.Done {
				out[m.key()] = x.rec.Name
			}
		}
	}
	return out
}

func (s *Surveys) running() (n int) {
	s.mu.Lock()
	defer s.mu.Unlock()
	for _, x := range s.byID {
		if x.rec.EndedAt == nil {
			n++
		}
	}
	return n
}

// find resolves an ID or a name.
func (s *Surveys) find(text string) (*state, error) {
	s.mu.Lock()
	defer s.mu.Unlock()
	if x, ok := s.byID[text]; ok {
		return x, nil
	}
	var found []*state
	for _, x := range s.byID {
		if strings.EqualFold(x.rec.Name, text) {
			found = append(found, x)
		}
	}
	switch len(found) {
	case 1:
		return found[0], nil
	case 0:
		return nil, problem.NotFound("survey", text)
	}
	return nil, problem.Conflict("More than one survey is called %q; give the ID.", text)
}

// Stop ends a survey before its time. What it saw stays.
func (s *Surveys) Stop(ctx context.Context, who actor.Actor, id string) error {
	x, err := s.find(id)
	if err != nil {
		return err
	}
	s.mu.Lock()
	rec := x.rec
	s.mu.Unlock()
	if rec.EndedAt != nil {
		return problem.Conflict("The survey %s has ended.", rec.Name)
	}
	now := s.Clock.Now().UTC()
	rec.EndsAt = now
	err = s.Trail.Do(ctx, who, object(rec), func(ctx context.Context) error { return s.DB.PutSurvey(ctx, rec) }, "%s stopped the survey %s", who, rec.Name)
	if err != nil {
		return err
	}
	s.mu.Lock()
	x.rec.EndsAt = now
	s.mu.Unlock()
	return nil
}

// Delete forgets a survey that has ended, with all that it saw.
func (s *Surveys) Delete(ctx context.Context, who actor.Actor, id string) error {
	x, err := s.find(id)
	if err != nil {
		return err
	}
	s.mu.Lock()
	rec := x.rec
	s.mu.Unlock()
	if rec.EndedAt == nil {
		return problem.Conflict("The survey %s is under way. Stop it first.", rec.Name)
	}
	err = s.Trail.Do(ctx, who, object(rec), func(ctx context.Context) error { return s.DB.DeleteSurvey(ctx, rec.ID) }, "%s deleted the survey %s", who, rec.Name)
	if err != nil {
		return err
	}
	s.mu.Lock()
	delete(s.byID, rec.ID)
	s.mu.Unlock()
	return nil
}

// Run watches until ctx ends.
func (s *Surveys) Run(ctx context.Context) {
	for n := 0; ; n++ {
		s.mu.Lock()
		var all []*state
		for _, x := range s.byID {
			if x.rec.EndedAt == nil {
				all = append(all, x)
			}
		}
		s.mu.Unlock()
		for _, x := range all {
			if err := s.step(ctx, x); err != nil && ctx.Err() == nil {
				s.Log.Warn("watch machines", "survey", x.rec.Name, "err", err)
			}
		}
		if n%100 == 0 {
			s.tidy(ctx)
		}
		if clock.Sleep(ctx, s.Clock, s.Every) != nil {
			return
		}
	}
}

// step looks at each machine of a survey, and ends it when its time is over.
func (s *Surveys) step(ctx context.Context, x *state) error {
	now := s.Clock.Now().UTC()
	s.mu.Lock()
	ms, rec := slices.Clone(x.machines), x.rec
	s.mu.Unlock()
	over := !now.Before(rec.EndsAt)
	changed := over
	for i := range ms {
		before := ms[i]
		s.look(ctx, rec.ID, &ms[i], now, over)
		if ctx.Err() != nil {
			return nil // it is asked again after the restart
		}
		changed = changed || ms[i] != before
	}
	if over {
		rec.EndedAt = &now
	}
	if !changed {
		return nil
	}
	return s.save(ctx, x, rec, ms)
}

// save stores what a step made of a survey, but for what somebody else may have said of
// it meanwhile.
func (s *Surveys) save(ctx context.Context, x *state, rec records.Survey, ms []machine) error {
	s.mu.Lock()
	x.machines, x.rec.EndedAt = ms, rec.EndedAt
	err := x.encode()
	out := x.rec
	s.mu.Unlock()
	if err != nil {
		return err
	}
	if err := s.DB.PutSurvey(ctx, out); err != nil {
		return err
	}
	s.Hub.Send(events.Event{Type: "survey", ID: out.ID})
	if out.EndedAt != nil {
		s.Trail.Note(ctx, actor.System(), object(out), "The survey %s has ended", out.Name)
	}
	return nil
}

// look asks one machine's platform what has changed, if it is time.
func (s *Surveys) look(ctx context.Context, survey string, m *machine, now time.Time, over bool) {
	if m.Done {
		return
	}
	p, ok := s.Inventory.Get(m.Platform)
	if !ok {
		m.Done, m.Note = true, "its platform was removed"
		return
	}
	if r, protected := s.Groups.Guards(m.Platform, m.ID); protected {
		over = true
		m.Note = "it is protected by " + r.Spec.Name + " now"
		m.Done = true
	}
	if m.Checkpoint != "" {
		s.ask(ctx, survey, m, p, now)
	}
	if over {
		s.forget(ctx, m, p)
		return
	}
	if !p.Up || m.Checkpoint != "" && now.Sub(m.From) < window {
		return
	}
	s.forget(ctx, m, p)
	name := s.Owner + uuid.NewString() // saved before the next one is taken; else it is tidied away
	_, err := p.Driver.Capture(ctx, platform.CaptureRequest{Name: name, Machines: []string{m.ID}, Apart: true})
	if err == nil {
		err = p.Driver.Release(ctx, name)
	}
	if err != nil {
		m.Note = words.Upper(err.Error())
		if errors.Is(err, platform.ErrGone) {
			m.Done = true
		}
		_ = p.Driver.Forget(ctx, name) // else it is forgotten with the leftovers
		return
	}
	m.Checkpoint, m.From, m.Taken, m.Note = name, now, 0, ""
}

// ask samples what has changed since the window began, if a mark has been reached.
func (s *Surveys) ask(ctx context.Context, survey string, m *machine, p inventory.Platform, now time.Time) {
	age := now.Sub(m.From)
	at := -1
	for i, mark := range marks() {
		if i >= m.Taken && age >= mark-min(s.Every, off(mark)/2) { // the look that is nearest
			at = i
		}
	}
	if at < 0 || !p.Up {
		return
	}
	mark := marks()[at]
	m.Taken = at + 1
	if age > mark+off(mark) {
		return // too late to count as of that time
	}
	changed, err := p.Driver.Changed(ctx, m.Checkpoint)
	if errors.Is(err, platform.ErrGone) {
		m.Checkpoint, m.Note = "", "the platform lost its record of changes, and begins another"
		return
	}
	if err == nil {
		err = s.DB.AddSurveySample(ctx, records.SurveySample{Survey: survey, Machine: m.key(), FromAt: m.From, AfterSeconds: int64(mark / time.Second), Bytes: changed[m.ID]})
	}
	if err != nil {
		m.Note = words.Upper(err.Error())
	}
}

func (s *Surveys) forget(ctx context.Context, m *machine, p inventory.Platform) {
	if m.Checkpoint == "" {
		return
	}
	if err := p.Driver.Forget(ctx, m.Checkpoint); err != nil {
		s.Log.Debug("forget what a survey counts from", "machine", m.Name, "err", err)
	}
	m.Checkpoint = ""
}

// tidy forgets what no survey counts from, such as of a service that was killed.
func (s *Surveys) tidy(ctx context.Context) {
	s.mu.Lock()
	known := map[string]bool{}
	for _, x := range s.byID {
		for _, m := range x.machines {
			known[m.Checkpoint] = true
		}
	}
	s.mu.Unlock()
	for _, p := range s.Inventory.All() {
		if !p.Up {
			continue
		}
		names, err := p.Driver.Checkpoints(ctx)
		if err != nil {
			continue // asked again later
		}
		for _, n := range names {
			if strings.HasPrefix(n, s.Owner) && !known[n] {
				if err := p.Driver.Forget(ctx, n); err != nil {
					s.Log.Debug("forget a leftover of a survey", "err", err)
				}
			}
		}
	}
}
