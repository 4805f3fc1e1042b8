// Package operation keeps long work: exports, verifying, landings. Work is a
// record with steps that are done and an input that never changes; it is taken up
// again after a restart or a kill, by whoever gets its lease, and goes on with the
// first step that is not done. Every write names the lease's epoch, so that
// somebody who lost it without knowing writes nothing any more.
package operation

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"log/slog"
	"slices"
	"sync"
	"time"

	"github.com/google/uuid"

	"kestrel/internal/api"
	"kestrel/internal/audit"
	"kestrel/internal/clock"
	"kestrel/internal/core/actor"
	"kestrel/internal/core/ident"
	"kestrel/internal/core/words"
	"kestrel/internal/events"
	"kestrel/internal/problem"
	"kestrel/internal/records"
)

const (
	leaseTime  = 10 * time.Second // after which work of a killed service is taken up
	leaseRenew = 3 * time.Second
	lookEvery  = 2 * time.Second // for work that nobody holds
	maxLog     = 1000            // lines
)

// States of an operation.
const (
	running = "running"
	done    = "done"
	failed  = "failed"
	stopped = "stopped"
)

// Kind is a sort of work.
type Kind struct {
	Name string
	// Run does the work, or what is left of it. It may be run again after any
	// crash, and so each step has to bear being done twice. The message says in a
	// sentence what came of it.
	Run func(ctx context.Context, w *Work) (message string, err error)
	// Keep says that it cannot be stopped by itself, with the mend.
	Keep string
}

// Store is where operations are kept; *records.DB is one.
type Store interface {
	AddOperation(ctx context.Context, o records.Operation) error
	TakeOperation(ctx context.Context, id, holder string, now, until time.Time) (records.Operation, error)
	HoldOperation(ctx context.Context, o records.Operation) (stop bool, err error)
	EndOperation(ctx context.Context, o records.Operation) error
	LetGoOperation(ctx context.Context, o records.Operation) error
	StopOperation(ctx context.Context, id string) error
	Operation(ctx context.Context, id string) (records.Operation, error)
	OpenOperations(ctx context.Context) ([]records.Operation, error)
	Operations(ctx context.Context, limit, skip int) ([]records.Operation, error)
}

// Operations is the long work of one site.
type Operations struct {
	store  Store
	trail  *audit.Trail
	clk    clock.Clock
	hub    *events.Hub
	log    *slog.Logger
	holder string

	mu    sync.Mutex
	kinds map[string]Kind
	works map[string]*Work
	// taking are the IDs of works that are being taken up.
	taking map[string]bool
	ctx    context.Context // of Run; nil before it
	wg     sync.WaitGroup
	look   chan struct{}
}

// New makes it. Kinds are registered before Run. The holder names whoever takes work up: of two
// processes that run at a time each has another, and one that is started anew has the one it
// had, so that it need not wait for its own leases to run out.
func New(store Store, trail *audit.Trail, clk clock.Clock, hub *events.Hub, log *slog.Logger, holder string) *Operations {
	return &Operations{store: store, trail: trail, clk: clk, hub: hub, log: log, holder: holder, taking: map[string]bool{}, kinds: map[string]Kind{}, works: map[string]*Work{}, look: make(chan struct{}, 1)}
}

// Register makes a kind of work known.
func (o *Operations) Register(k Kind) {
	o.mu.Lock()
	defer o.mu.Unlock()
	o.kinds[k.Name] = k
}

// progress is how far work is, as it is kept.
type progress struct {
	Done     int64     `json:"done"`
	Total    int64     `json:"total"`
	Log      []string  `json:"log,omitempty"`
	Steps    []string  `json:"steps,omitempty"`
	Attempts int       `json:"attempts"`
	Began    time.Time `json:"began"` // this attempt
	From     int64     `json:"from"`  // done when it began
}

// Work is an operation under way.
type Work struct {
	ops *Operations
	rec records.Operation

	cancel context.CancelCauseFunc

	mu sync.Mutex
	p  progress
}

// stopNow ends it as one that somebody stopped.
func (w *Work) stopNow() { w.cancel(errStopped) }

// Input reads what was asked for.
func (w *Work) Input(v any) error {
	if err := json.Unmarshal(w.rec.Input, v); err != nil {
		return fmt.Errorf("input of operation %s: %w", w.rec.ID, err)
	}
	return nil
}

// ID is the operation's.
func (w *Work) ID() string { return w.rec.ID }

// Step does f unless it was done before, and notes that it is. It fails if the
// lease is lost.
func (w *Work) Step(ctx context.Context, name string, f func(ctx context.Context) error) error {
	w.mu.Lock()
	before := slices.Contains(w.p.Steps, name)
	w.mu.Unlock()
	if before {
		return nil
	}
	if err := f(ctx); err != nil {
		return err
	}
	w.mu.Lock()
	w.p.Steps = append(w.p.Steps, name)
	w.mu.Unlock()
	_, err := w.save(context.WithoutCancel(ctx))
	return err
}

// Progress tells how many bytes of how many are done.
func (w *Work) Progress(done, total int64) {
	w.mu.Lock()
	if w.p.From == 0 && w.p.Done == 0 && w.p.Attempts > 1 {
		w.p.From = done
	}
	w.p.Done, w.p.Total = done, total
	w.mu.Unlock()
	w.ops.hub.Send(events.Event{Type: "operation", ID: w.rec.ID})
}

// Log adds a line.
func (w *Work) Log(format string, a ...any) {
	w.mu.Lock()
	if len(w.p.Log) < maxLog {
		w.p.Log = append(w.p.Log, fmt.Sprintf(format, a...))
	}
	w.mu.Unlock()
	w.ops.hub.Send(events.Event{Type: "operation", ID: w.rec.ID})
}

// record is the operation as it is to be kept now.
func (w *Work) record() records.Operation {
	w.mu.Lock()
	defer w.mu.Unlock()
	r := w.rec
	b, err := json.Marshal(w.p)
	if err != nil {
		panic(err) // plain structs always marshal
	}
	r.Progress = b
	until := w.ops.clk.Now().Add(leaseTime)
	r.LeaseUntil = &until
	return r
}

func (w *Work) save(ctx context.Context) (stop bool, err error) {
	return w.ops.store.HoldOperation(ctx, w.record())
}

// Start stores work and begins it. Subject is what it is about, for people.
func (o *Operations) Start(ctx context.Context, who actor.Actor, kind, subject string, input any) (api.Operation, error) {
	return o.StartAs(ctx, uuid.NewString(), who, kind, subject, input)
}

// StartAs is Start with an ID that was chosen before, so that work that was stored
// and not begun when a crash came is begun once.
func (o *Operations) StartAs(ctx context.Context, id string, who actor.Actor, kind, subject string, input any) (api.Operation, error) {
	b, err := json.Marshal(input)
	if err != nil {
		return api.Operation{}, fmt.Errorf("input of %s: %w", kind, err)
	}
	r := records.Operation{ID: id, Kind: kind, Subject: subject, State: running, StartedAt: o.clk.Now().UTC(), StartedBy: who.String(), Input: b, Progress: []byte("{}")}
	err = o.trail.Do(ctx, who, audit.Object{Kind: "operation", Name: subject, ID: r.ID}, func(ctx context.Context) error { return o.store.AddOperation(ctx, r) }, "%s started: %s of %s", who, kind, subject)
	if err != nil {
		return api.Operation{}, err
	}
	o.take(ctx, r)
	return o.Get(ctx, id)
}

// Ensure starts work under an ID unless there was some.
func (o *Operations) Ensure(ctx context.Context, id, kind, subject string, input any) error {
	_, err := o.store.Operation(ctx, id)
	if !errors.Is(err, records.ErrNotFound) {
		return err
	}
	_, err = o.StartAs(ctx, id, actor.System(), kind, subject, input)
	return err
}

// reserve lets one caller at a time take work up that is not here.
func (o *Operations) reserve(id string) bool {
	o.mu.Lock()
	defer o.mu.Unlock()
	if _, here := o.works[id]; here || o.taking[id] {
		return false
	}
	o.taking[id] = true
	return true
}

// take begins work unless somebody else holds it.
func (o *Operations) take(ctx context.Context, r records.Operation) {
	o.mu.Lock()
	k, known := o.kinds[r.Kind]
	_, here := o.works[r.ID]
	run := o.ctx
	o.mu.Unlock()
	if run == nil || run.Err() != nil || here || !known || !o.reserve(r.ID) {
		return
	}
	defer func() {
		o.mu.Lock()
		delete(o.taking, r.ID)
		o.mu.Unlock()
	}()
	now := o.clk.Now()
	got, err := o.store.TakeOperation(context.WithoutCancel(ctx), r.ID, o.holder, now, now.Add(leaseTime))
	if errors.Is(err, records.ErrNotFound) {
		return
	}
	if err != nil {
		o.log.Error("take up an operation", "id", r.ID, "err", err)
		return
	}
	w := &Work{ops: o, rec: got}
	if err := json.Unmarshal(got.Progress, &w.p); err != nil {
		o.log.Error("progress of an operation", "id", r.ID, "err", err)
	}
	w.p.Attempts++
	w.p.Began, w.p.From = now, w.p.Done
	inner, cancel := context.WithCancelCause(run)
	w.cancel = cancel
	o.mu.Lock()
	o.works[r.ID] = w
	o.mu.Unlock()
	o.wg.Go(func() {
		defer cancel(nil)
		o.run(run, inner, k, w)
	})
}

// Reasons for which work is cut off.
var (
	errStopped = errors.New("somebody stopped it")
	errLost    = errors.New("somebody else works on it")
)

// run does work within inner, which ends with ctx, that of the service.
func (o *Operations) run(ctx, inner context.Context, k Kind, w *Work) {
	cancel := w.cancel
	beating := make(chan struct{})
	go func() {
		defer close(beating)
		for clock.Sleep(inner, o.clk, leaseRenew) == nil {
			switch stop, err := w.save(inner); {
			case errors.Is(err, records.ErrLost):
				cancel(errLost)
			case err == nil && stop:
				cancel(errStopped)
			}
		}
	}()
	message, err := guarded(inner, k, w)
	cause := context.Cause(inner)
	cancel(nil)
	<-beating
	r := w.record()
	after := context.WithoutCancel(ctx)
	defer func() {
		o.mu.Lock()
		delete(o.works, r.ID)
		o.mu.Unlock()
		o.hub.Send(events.Event{Type: "operation", ID: r.ID})
	}()
	switch {
	case err == nil:
		r.State, r.Message = done, message
	case errors.Is(cause, errStopped):
		r.State, r.Message = stopped, "Stopped before it was done."
	case errors.Is(cause, errLost), errors.Is(err, records.ErrLost):
		o.log.Warn("an operation was taken over by another holder", "id", r.ID)
		return
	case ctx.Err() != nil:
		// The service stops. The work goes on when it is there again.
		if err := o.store.LetGoOperation(after, r); err != nil {
			o.log.Error("let go of an operation", "id", r.ID, "err", err)
		}
		return
	default:
		r.State, r.Message = failed, words.Upper(err.Error())
	}
	at := o.clk.Now().UTC()
	r.EndedAt = &at
	if err := o.store.EndOperation(after, r); err != nil {
		o.log.Error("end an operation", "id", r.ID, "err", err)
		return
	}
	o.trail.Note(after, actor.System(), audit.Object{Kind: "operation", Name: r.Subject, ID: r.ID}, "%s of %s: %s. %s", k.Name, r.Subject, r.State, r.Message)
}

// guarded keeps a fault in one piece of work from ending the service.
func guarded(ctx context.Context, k Kind, w *Work) (message string, err error) {
	defer func() {
		if x := recover(); x != nil {
			err = fmt.Errorf("a fault of the service: %v", x)
		}
	}()
	return k.Run(ctx, w)
}

// Run takes up work that nobody holds, until ctx ends; then it waits for all that
// is under way to let go.
func (o *Operations) Run(ctx context.Context) {
	o.mu.Lock()
	o.ctx = ctx
	o.mu.Unlock()
	for {
		open, err := o.store.OpenOperations(ctx)
		if err != nil && ctx.Err() == nil {
			o.log.Error("look for open operations", "err", err)
		}
		now := o.clk.Now()
		for _, r := range open {
			if r.LeaseUntil == nil || !now.Before(*r.LeaseUntil) || r.Holder == o.holder {
				o.take(ctx, r)
			}
		}
		if clock.Sleep(ctx, o.clk, lookEvery) != nil {
			break
		}
	}
	o.wg.Wait()
}

// Get gives one.
func (o *Operations) Get(ctx context.Context, id string) (api.Operation, error) {
	if !ident.UUID(id) {
		return api.Operation{}, problem.NotFound("operation", id)
	}
	r, err := o.store.Operation(ctx, id)
	if errors.Is(err, records.ErrNotFound) {
		return api.Operation{}, problem.NotFound("operation", id)
	}
	if err != nil {
		return api.Operation{}, err
	}
	return o.view(r), nil
}

// maxList bounds a page.
const maxList = 500

// List lists the newest.
func (o *Operations) List(ctx context.Context, limit, skip int) ([]api.Operation, error) {
	if limit <= 0 || limit > maxList {
		limit = 50
	}
	recs, err := o.store.Operations(ctx, limit, max(skip, 0))
	out := []api.Operation{}
	for _, r := range recs {
		out = append(out, o.view(r))
	}
	return out, err
}

func (o *Operations) view(r records.Operation) api.Operation {
	var p progress
	o.mu.Lock()
	w := o.works[r.ID]
	o.mu.Unlock()
	if w != nil && r.EndedAt == nil {
		w.mu.Lock()
		p = w.p
		p.Log, p.Steps = slices.Clone(p.Log), slices.Clone(p.Steps)
		w.mu.Unlock()
	} else {
		_ = json.Unmarshal(r.Progress, &p) // of an older version it may be empty
	}
	v := api.Operation{ID: r.ID, Kind: r.Kind, Subject: r.Subject, State: api.OperationState(r.State), StartedAt: r.StartedAt, EndedAt: r.EndedAt, StartedBy: r.StartedBy,
		DoneBytes: p.Done, TotalBytes: p.Total, Log: append([]string{}, p.Log...), Steps: append([]string{}, p.Steps...), Attempts: p.Attempts}
	if r.Message != "" {
		v.Message = &r.Message
	}
	if r.State == done && p.Total > 0 {
		v.DoneBytes = p.Total
	}
	now := o.clk.Now()
	if d := now.Sub(p.Began); r.EndedAt == nil && !p.Began.IsZero() && d > time.Second/4 && p.Done > p.From {
		v.BytesPerSecond = int64(float64(p.Done-p.From) / d.Seconds())
		if v.BytesPerSecond > 0 {
			at := now.Add(time.Duration(float64(p.Total-p.Done) / float64(v.BytesPerSecond) * float64(time.Second))).UTC()
			v.FinishAt = &at
		}
	}
	return v
}

// Stop asks for work to stop.
func (o *Operations) Stop(ctx context.Context, who actor.Actor, id string) error {
	v, err := o.Get(ctx, id)
	if err != nil {
		return err
	}
	o.mu.Lock()
	keep := o.kinds[v.Kind].Keep
	w := o.works[id]
	o.mu.Unlock()
	if keep != "" {
		return problem.Conflict("%s", keep)
	}
	err = o.trail.Do(ctx, who, audit.Object{Kind: "operation", Name: v.Subject, ID: id}, func(ctx context.Context) error { return o.store.StopOperation(ctx, id) }, "%s stopped: %s of %s", who, v.Kind, v.Subject)
	if err != nil {
		if errors.Is(err, records.ErrNotFound) {
			return problem.Conflict("The operation has ended already.")
		}
		return err
	}
	if w != nil {
		// Not for the next beat: people see at once that it stops.
		w.stopNow()
	}
	return nil
}
