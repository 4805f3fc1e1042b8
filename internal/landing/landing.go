// Package landing makes machines from points and sees them through until they need
// the point no longer. Each landing is an operation, and so goes on after a restart.
package landing

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"log/slog"
	"net/netip"
	"sync"
	"time"

	"kestrel/internal/api"
	"kestrel/internal/audit"
	"kestrel/internal/clock"
	"kestrel/internal/core/actor"
	"kestrel/internal/core/berth"
	"kestrel/internal/core/words"
	"kestrel/internal/directory"
	"kestrel/internal/events"
	"kestrel/internal/inventory"
	"kestrel/internal/keeper"
	"kestrel/internal/operation"
	"kestrel/internal/platform"
	"kestrel/internal/points"
	"kestrel/internal/problem"
	"kestrel/internal/records"
	"kestrel/internal/serving"
)

// Kind is that of the operations.
const kind = "landing"

// Config is what landings are made of.
type Config struct {
	Site       string // name of this site
	DB         Records
	Keeper     *keeper.Keeper
	Serving    *serving.Serving
	Inventory  *inventory.Inventory
	Groups     *directory.Directory
	Berths     Berths
	Commands   Commands
	Work       string // folder for what is made and removed at once
	Operations *operation.Operations
	Trail      *audit.Trail
	Clock      clock.Clock
	Hub        *events.Hub
	Log        *slog.Logger
}

// Records is where landings are kept; *records.DB is one.
type Records interface {
	Landings(ctx context.Context) ([]records.Landing, error)
	AddLanding(ctx context.Context, l records.Landing) error
	SaveLanding(ctx context.Context, l records.Landing) error
	DeleteLanding(ctx context.Context, id string) error
}

// Landings is the machines of one site that were made from points.
type Landings struct {
	Config

	// Gate says why machines of a wave of a drill or failover are not to start yet, by its ID;
	// empty if they may. It is for wiring; nil lets all start.
	Gate func(recovery string, wave int) string

	mu   sync.Mutex
	byID map[string]*state
}

// state is one landing.
type state struct {
	rec    records.Landing
	detail detail
	seal   *points.Seal
	end    func()          // of lending what its disks read from; nil once they are local
	stop   chan struct{}   // closed when it is to be removed
	idle   <-chan struct{} // closed while nobody drives it

	copied   int64 // bytes that were local when copying was first seen
	copiedAt time.Time
}

// States of a landing, as they are stored and shown.
const (
	preparing = string(api.LandingStatePreparing)
	waiting   = string(api.LandingStateWaiting) // for its turn
	copying   = string(api.LandingStateCopying)
	running   = string(api.LandingStateRunning)
	local     = string(api.LandingStateLocal)
	off       = string(api.LandingStateOff)
	removing  = string(api.LandingStateRemoving)
	gone      = string(api.LandingStateGone)
)

// detail is what its record holds beside its columns.
type detail struct {
	Name        string           `json:"name"`
	MachineName string           `json:"machineName"`
	GroupID     string           `json:"groupId,omitempty"`
	Recovery    string           `json:"drill,omitempty"`     // ID of the drill or failover that it belongs to
	InPlaceOf   string           `json:"inPlaceOf,omitempty"` // ID of the machine in whose place it comes
	GroupName   string           `json:"groupName"`
	PointNumber int64            `json:"pointNumber"`
	CaptureAt   time.Time        `json:"captureAt"`
	Datastore   string           `json:"datastore"` // ID
	Store       string           `json:"store"`     // its name
	Format      string           `json:"format,omitempty"`
	How         string           `json:"how"`
	NICs        []card           `json:"nics"`
	Arrival     *arrival         `json:"arrival,omitempty"` // nil without a berth
	Limit       int64            `json:"limit"`             // bytes a second a disk
	Note        string           `json:"note"`
	Crashes     int              `json:"crashes,omitempty"` // of its hypervisor process
	Error       string           `json:"error"`
	LocalBytes  int64            `json:"localBytes"`
	TotalBytes  int64            `json:"totalBytes"`
	Sizes       map[string]int64 `json:"sizes"` // of its disks
	StartedAt   *time.Time       `json:"startedAt,omitempty"`
	LocalAt     *time.Time       `json:"localAt,omitempty"`
}

// card says what a network card is attached to.
type card struct {
	MAC     string `json:"mac"`            // at home
	Home    string `json:"home"`           // network at home
	Network string `json:"network"`        // here, its ID; empty means not connected
	Name    string `json:"name,omitempty"` // of that network
	As      string `json:"as,omitempty"`   // its address here, where it is another
	// Address is the one that it is to have by the berth; invalid if none is said.
	Address netip.Addr `json:"address,omitzero"`
	// Guest is what its guest is told; nil is nothing.
	Guest *berth.GuestCard `json:"guest,omitempty"`
}

// How a machine lands.
const (
	atOnce      = "at-once" // runs off the point, and is made local meanwhile
	copiedFirst = "copied"
)

// Open reads the landings and goes on serving what they read from.
func Open(ctx context.Context, cfg Config) (*Landings, error) {
	l := &Landings{Config: cfg, byID: map[string]*state{}}
	recs, err := cfg.DB.Landings(ctx)
	if err != nil {
		return nil, err
	}
	for _, r := range recs {
		s := newState(r)
		if err := json.Unmarshal(r.Detail, &s.detail); err != nil {
			return nil, fmt.Errorf("landing record %s: %w", r.ID, err)
		}
		if s.detail.LocalAt == nil && r.State != removing {
			if err := l.lend(s); err != nil {
				s.detail.Error = "The point that it runs off is gone."
			}
		}
		l.byID[r.ID] = s
	}
	cfg.Operations.Register(operation.Kind{Name: kind, Run: l.run, Keep: "A landing goes on until its machine is local. To end it, remove the machine."})
	cfg.Inventory.Using(func(platformID string) error {
		l.mu.Lock()
		defer l.mu.Unlock()
		for _, s := range l.byID {
			if s.rec.Platform == platformID {
				return problem.Conflict("Machine %s has landed on this platform. Remove it first.", s.detail.Name)
			}
		}
		return nil
	})
	return l, nil
}

// Resume sees to it that every machine that is not local yet is seen through, those
// of older versions too.
func (l *Landings) Resume(ctx context.Context) error {
	l.mu.Lock()
	var open []*state
	for _, s := range l.byID {
		if s.rec.State != gone && (s.rec.State != local || s.unsettled()) {
			open = append(open, s)
		}
	}
	l.mu.Unlock()
	var errs []error
	for _, s := range open {
		errs = append(errs, l.Operations.Ensure(ctx, s.rec.ID, kind, s.detail.Name, input{s.rec.ID}))
	}
	return errors.Join(errs...)
}

func newState(r records.Landing) *state {
	idle := make(chan struct{})
	close(idle)
	return &state{rec: r, stop: make(chan struct{}), idle: idle}
}

// lend serves what a landing's disks read from.
func (l *Landings) lend(s *state) error {
	x, end, err := l.Serving.Lend(s.rec.Point, s.rec.Machine, s.rec.Token)
	if err != nil {
		return err
	}
	l.mu.Lock()
	defer l.mu.Unlock()
	s.seal, s.end = x, end
	return nil
}

// release ends lending; the machine no longer needs the point.
func (l *Landings) release(s *state) {
	l.mu.Lock()
	end := s.end
	s.end = nil
	l.mu.Unlock()
	if end != nil {
		end()
	}
}

const (
	// localAfter is how long a guest that started at once is left alone before its
	// disks are made local: the copying would slow its start.
	localAfter = 15 * time.Second
	pulse      = 500 * time.Millisecond
	maxWait    = 10 * time.Second // after a failure
)

// input is what the operation of a landing is asked for with.
type input struct {
	Landing string `json:"landing"` // ID
}

// run drives a landing until it is local or gone.
func (l *Landings) run(ctx context.Context, w *operation.Work) (string, error) {
	var in input
	if err := w.Input(&in); err != nil {
		return "", err
	}
	l.mu.Lock()
	s := l.byID[in.Landing]
	if s == nil {
		l.mu.Unlock()
		return "The machine was removed.", nil
	}
	busy := make(chan struct{})
	s.idle = busy
	l.mu.Unlock()
	defer close(busy)
	ctx, cancel := context.WithCancel(ctx)
	defer cancel()
	go func() {
		select {
		case <-s.stop:
			cancel()
		case <-ctx.Done():
		}
	}()
	failures := 0
	for {
		l.mu.Lock()
		before := s.rec.State
		l.mu.Unlock()
		over, err := l.step(ctx, s)
		select {
		case <-s.stop:
			return "The machine was removed.", nil
		default:
		}
		if ctx.Err() != nil {
			return "", ctx.Err()
		}
		wait := pulse
		if err != nil {
			failures++
			wait = min(maxWait, pulse<<min(failures, 5))
		} else {
			failures = 0
		}
		l.save(ctx, s, err)
		l.mu.Lock()
		after, name, done, total := s.rec.State, s.detail.Name, s.detail.LocalBytes, s.detail.TotalBytes
		l.mu.Unlock()
		w.Progress(done, total)
		if after != before {
			if err := w.Step(ctx, after, func(context.Context) error { return nil }); err != nil {
				return "", err
			}
		}
		if over {
			return name + " is " + after + ".", nil
		}
		if clock.Sleep(ctx, l.Clock, wait) != nil {
			select {
			case <-s.stop:
				return "The machine was removed.", nil
			default:
				return "", ctx.Err()
			}
		}
	}
}

func object(s *state) audit.Object {
	return audit.Object{Kind: "landing", Name: s.detail.Name, ID: s.rec.ID}
}

// save keeps a landing after a step and tells clients if it changed.
func (l *Landings) save(ctx context.Context, s *state, err error) {
	l.mu.Lock()
	text := ""
	if err != nil {
		text = words.Upper(err.Error())
	}
	fresh := text != s.detail.Error && text != ""
	s.detail.Error = text
	b, err := json.Marshal(s.detail)
	if err != nil {
		panic(err) // plain structs always marshal
	}
	changed := string(b) != string(s.rec.Detail)
	s.rec.Detail = b
	rec := s.rec
	l.mu.Unlock()
	if !changed {
		return
	}
	if fresh {
		l.Trail.Note(ctx, actor.System(), object(s), "%s: %s", s.detail.Name, text)
	}
	if err := l.DB.SaveLanding(context.WithoutCancel(ctx), rec); err != nil && !errors.Is(err, records.ErrNotFound) {
		l.Log.Error("save landing", "machine", s.detail.Name, "err", err)
	}
	l.Hub.Send(events.Event{Type: "landing", ID: rec.ID})
}

func (l *Landings) lander(s *state) (platform.Lander, error) {
	p, ok := l.Inventory.Get(s.rec.Platform)
	if !ok {
		return nil, problem.NotFound("platform", s.rec.Platform)
	}
	d, ok := p.Lander()
	if !ok {
		return nil, fmt.Errorf("platform %s cannot be used", p.Name)
	}
	return d, nil
}

// crashesBorne is how often a machine is started again whose hypervisor process has
// crashed before it was local.
const crashesBorne = 3

// step does what is next. It reports whether nothing is left to do.
func (l *Landings) step(ctx context.Context, s *state) (over bool, err error) {
	d, err := l.lander(s)
	if err != nil {
		return false, err
	}
	l.mu.Lock()
	state := s.rec.State
	l.mu.Unlock()
	switch state {
	case gone:
		return true, nil
	case local:
		err := l.settle(ctx, d, s)
		l.mu.Lock()
		defer l.mu.Unlock()
		return !s.unsettled(), err
	case preparing:
		return false, l.prepare(ctx, d, s)
	case waiting:
		return false, l.launch(ctx, d, s)
	case removing:
		return true, l.finish(ctx, d, s) // a restart came between
	}
	now, err := d.Landed(ctx, s.rec.ID)
	if errors.Is(err, platform.ErrGone) {
		l.set(s, gone, "It was removed on the platform.")
		l.release(s)
		return true, nil
	}
	if err != nil {
		return false, err
	}
	whole, idle := l.count(s, now)
	switch {
	case whole && state == copying:
		if ready, err := l.ready(ctx, s); err != nil || !ready {
			return false, err
		}
		if err := d.ResumeLanded(ctx, s.rec.ID); err != nil {
			return false, err
		}
		l.started(s)
		fallthrough
	case whole:
		l.set(s, local, "")
		at := l.Clock.Now().UTC()
		l.mu.Lock()
		s.detail.LocalAt = &at
		l.mu.Unlock()
		l.release(s)
		l.Trail.Note(ctx, actor.System(), object(s), "%s is local: it needs the point no longer", s.detail.Name)
		l.mu.Lock()
		defer l.mu.Unlock()
		return !s.unsettled(), nil
	case now.Crashed && s.detail.Crashes < crashesBorne:
		// A machine that somebody waits for is not left lying because of what is no
		// fault of its own. Its disks are as after a power cut.
		l.mu.Lock()
		s.detail.Crashes++
		n := s.detail.Crashes
		l.mu.Unlock()
		l.set(s, state, fmt.Sprintf("Its hypervisor process has crashed, and it was started again (%d).", n))
		l.Trail.Note(ctx, actor.System(), object(s), "%s: its hypervisor process has crashed while its disks were made local; it was started again", s.detail.Name)
		return false, d.StartLanded(ctx, s.rec.ID, state == copying)
	case now.Power == platform.PowerOff:
		l.set(s, off, "It is off, and its disks still read from the point. It is made local when it runs.")
		return false, nil
	case now.Starved:
		// It waited for an export: the service was away, or the store was.
		l.set(s, state, "Its disks could not be read for a moment; the guest was held meanwhile.")
		return false, d.ResumeLanded(ctx, s.rec.ID)
	case state == off:
		l.set(s, running, "")
	}
	if err := l.settle(ctx, d, s); err != nil {
		return false, err
	}
	if at := s.detail.StartedAt; idle && (at == nil || l.Clock.Now().Sub(*at) >= localAfter) {
		return false, d.MakeLocal(ctx, s.rec.ID, s.detail.Limit)
	}
	return false, nil
}

// set changes state and note, unless the machine is being removed.
func (l *Landings) set(s *state, state, note string) {
	l.mu.Lock()
	defer l.mu.Unlock()
	if s.rec.State != removing {
		s.rec.State, s.detail.Note = state, note
	}
}

// count notes how much is local; idle means that some disk is not, and nothing
// copies it.
func (l *Landings) count(s *state, now platform.Landed) (whole, idle bool) {
	l.mu.Lock()
	defer l.mu.Unlock()
	whole = true
	busy := false
	var done, total int64
	for _, k := range now.Disks {
		whole = whole && k.Local
		idle, busy = idle || !k.Local && !k.Busy, busy || k.Busy
		size := s.detail.Sizes[k.Key]
		total += size
		switch {
		case k.Local:
			done += size
		case k.Total > 0:
			done += int64(float64(size) * float64(k.Done) / float64(k.Total))
		}
	}
	s.detail.LocalBytes, s.detail.TotalBytes = done, total
	if s.copiedAt.IsZero() && busy {
		s.copied, s.copiedAt = done, l.Clock.Now()
	}
	return whole, idle
}

// prepare makes the machine, and starts it if it is its turn.
func (l *Landings) prepare(ctx context.Context, d platform.Lander, s *state) error {
	host, port, secure, err := l.Serving.Reach()
	if err != nil {
		return err
	}
	l.mu.Lock()
	seal := s.seal
	l.mu.Unlock()
	if seal == nil {
		return errors.New("the point that it is made from is gone")
	}
	r := platform.Landing{ID: s.rec.ID, Name: s.detail.Name, Datastore: s.detail.Datastore, Format: s.detail.Format, InPlaceOf: s.detail.InPlaceOf}
	for _, m := range seal.Machines {
		if m.ID != s.rec.Machine {
			continue
		}
		r.Config = m.Config
		for _, k := range m.Disks {
			r.Disks = append(r.Disks, platform.LandingDisk{Key: k.Key, Size: k.Size, Host: host, Port: port, Export: serving.ExportName(s.rec.Token, m.Name, k.Key), TLS: secure})
		}
		for _, k := range m.Left {
			r.Disks = append(r.Disks, platform.LandingDisk{Key: k.Key, Size: k.Size, Empty: true})
		}
	}
	for _, n := range s.detail.NICs {
		nic := platform.LandingNIC{MAC: n.MAC, As: n.As, Network: n.Network}
		if s.detail.InPlaceOf != "" {
			nic.MAC, nic.As = n.As, ""
		}
		r.NICs = append(r.NICs, nic)
	}
	if err := s.detail.Arrival.settle(&r, s.detail, l.Work); err != nil {
		return err
	}
	if err := d.Land(ctx, r); err != nil {
		return err
	}
	if r.InPlaceOf != "" {
		l.Inventory.Refresh(ctx, s.rec.Platform) // another machine has its name now
	}
	return l.launch(ctx, d, s)
}

// Remove stops a landed machine and removes all that was made for it.
func (l *Landings) Remove(ctx context.Context, who actor.Actor, id string) error {
	s, err := l.find(id)
	if err != nil {
		return err
	}
	d, err := l.lander(s)
	if err != nil {
		return err
	}
	for _, g := range l.Groups.All() {
		if g.Direction == directory.Out && g.Spec.Has(s.rec.ID) {
			return problem.Conflict("%s is protected by the group %s. Take it out there first.", s.detail.Name, g.Spec.Name)
		}
	}
	l.mu.Lock()
	if s.rec.State == removing {
		l.mu.Unlock()
		return problem.Conflict("%s is being removed already.", s.detail.Name)
	}
	state := s.rec.State
	s.rec.State = removing
	rec, idle := s.rec, s.idle
	close(s.stop)
	l.mu.Unlock()
	<-idle
	if err := l.DB.SaveLanding(ctx, rec); err != nil {
		return err
	}
	if err := l.finish(ctx, d, s); err != nil {
		l.mu.Lock()
		s.rec.State, s.stop = state, make(chan struct{})
		rec := s.rec
		l.mu.Unlock()
		err = errors.Join(problem.Unreachable("%s could not be removed: %v", s.detail.Name, err), l.DB.SaveLanding(ctx, rec))
		if state != local && state != gone {
			_, again := l.Operations.Start(ctx, who, kind, s.detail.Name, input{s.rec.ID})
			err = errors.Join(err, again)
		}
		return err
	}
	l.Trail.Note(ctx, who, object(s), "%s removed %s, made from point %d of %s", who, s.detail.Name, s.detail.PointNumber, s.detail.GroupName)
	l.Inventory.Refresh(ctx, s.rec.Platform)
	l.Hub.Send(events.Event{Type: "landing", ID: s.rec.ID})
	return nil
}

func (l *Landings) finish(ctx context.Context, d platform.Lander, s *state) error {
	if err := d.RemoveLanded(ctx, s.rec.ID); err != nil {
		return err
	}
	l.release(s)
	if err := l.DB.DeleteLanding(ctx, s.rec.ID); err != nil && !errors.Is(err, records.ErrNotFound) {
		return err
	}
	l.mu.Lock()
	defer l.mu.Unlock()
	delete(l.byID, s.rec.ID)
	return nil
}
