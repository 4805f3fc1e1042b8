package service

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"time"

	"github.com/google/uuid"

	"kestrel/internal/api"
	"kestrel/internal/points"
	"kestrel/internal/problem"
	"kestrel/internal/records"
)

// operation is long work: it has progress, an owner and a log, and stays in
// the list after it ended and after a restart.
type operation struct {
	view   api.Operation
	cancel context.CancelFunc
}

// startOperation runs f in the background.
func (s *Service) startOperation(ctx context.Context, who, kind, subject string, f func(ctx context.Context, o *operation) (string, error)) (api.Operation, error) {
	o := &operation{view: api.Operation{ID: uuid.NewString(), Kind: kind, Subject: subject, State: api.OperationStateRunning, StartedAt: s.clk.Now().UTC(), StartedBy: who, Log: []string{}}}
	if err := s.saveOperation(ctx, o.view); err != nil {
		return o.view, err
	}
	s.mu.Lock()
	if s.runCtx == nil {
		s.mu.Unlock()
		return o.view, problem.Conflict("The service is still starting.")
	}
	runCtx, cancel := context.WithCancel(s.runCtx)
	o.cancel = cancel
	s.ops[o.view.ID] = o
	view := o.view
	s.mu.Unlock()
	s.note(ctx, who, "operation", subject, "%s started: %s", who, kind)
	s.wg.Go(func() {
		defer cancel()
		message, err := f(runCtx, o)
		s.mu.Lock()
		o.view.EndedAt = ptr(s.clk.Now().UTC())
		o.view.FinishAt = nil
		switch {
		case err == nil:
			o.view.State = api.OperationStateDone
			if o.view.TotalBytes > 0 {
				o.view.DoneBytes = o.view.TotalBytes
			}
		case errors.Is(err, context.Canceled):
			o.view.State, message = api.OperationStateStopped, "Stopped before it was done."
		default:
			o.view.State, message = api.OperationStateFailed, sentence(err)
		}
		o.view.Message = &message
		end := o.view
		delete(s.ops, o.view.ID)
		s.mu.Unlock()
		if err := s.saveOperation(context.WithoutCancel(runCtx), end); err != nil {
			s.log.Error("save operation", "err", err)
		}
		s.note(runCtx, "kestrel", "operation", subject, "%s of %s: %s. %s", kind, subject, end.State, message)
		s.hub.send(Event{Type: "operation", ID: end.ID})
	})
	return view, nil
}

// progress tells how far an operation is.
func (s *Service) progress(o *operation, done, total int64, log string) {
	s.mu.Lock()
	o.view.DoneBytes, o.view.TotalBytes = done, total
	if d := s.clk.Now().Sub(o.view.StartedAt); d > time.Second/4 {
		o.view.BytesPerSecond = int64(float64(done) / d.Seconds())
		if o.view.BytesPerSecond > 0 {
			o.view.FinishAt = ptr(s.clk.Now().Add(time.Duration(float64(total-done) / float64(o.view.BytesPerSecond) * float64(time.Second))).UTC())
		}
	}
	if log != "" {
		o.view.Log = append(o.view.Log, log)
	}
	id := o.view.ID
	s.mu.Unlock()
	s.hub.send(Event{Type: "operation", ID: id})
}

func (s *Service) saveOperation(ctx context.Context, v api.Operation) error {
	b, err := json.Marshal(v)
	if err != nil {
		return err
	}
	return s.db.PutOperation(ctx, records.Operation{ID: v.ID, Kind: v.Kind, Subject: v.Subject, State: string(v.State),
		StartedAt: v.StartedAt, EndedAt: v.EndedAt, StartedBy: v.StartedBy, Detail: b})
}

// endOldOperations marks what a crash cut off.
func (s *Service) endOldOperations(ctx context.Context) error {
	recs, err := s.db.Operations(ctx, 1000)
	if err != nil {
		return err
	}
	for _, r := range recs {
		var v api.Operation
		if r.State != string(api.OperationStateRunning) || json.Unmarshal(r.Detail, &v) != nil {
			continue
		}
		v.State, v.EndedAt, v.Message = api.OperationStateStopped, ptr(s.clk.Now().UTC()), ptr("Cut off by a restart of the service. Start it again.")
		if err := s.saveOperation(ctx, v); err != nil {
			return err
		}
	}
	return nil
}

// Operations lists the newest.
func (s *Service) Operations(ctx context.Context, limit int) ([]api.Operation, error) {
	if limit <= 0 || limit > 500 {
		limit = 50
	}
	recs, err := s.db.Operations(ctx, limit)
	out := []api.Operation{}
	for _, r := range recs {
		out = append(out, s.operationView(r))
	}
	return out, err
}

func (s *Service) operationView(r records.Operation) api.Operation {
	s.mu.Lock()
	defer s.mu.Unlock()
	if o, ok := s.ops[r.ID]; ok {
		return o.view
	}
	var v api.Operation
	if err := json.Unmarshal(r.Detail, &v); err != nil {
		s.log.Error("operation record", "id", r.ID, "err", err)
	}
	return v
}

// Operation gives one.
func (s *Service) Operation(ctx context.Context, id string) (api.Operation, error) {
	recs, err := s.db.Operations(ctx, 1000)
	for _, r := range recs {
		if r.ID == id {
			return s.operationView(r), nil
		}
	}
	return api.Operation{}, errors.Join(err, problem.NotFound("operation", id))
}

// CancelOperation stops one.
func (s *Service) CancelOperation(ctx context.Context, who, id string) error {
	s.mu.Lock()
	o, ok := s.ops[id]
	s.mu.Unlock()
	if !ok {
		if _, err := s.Operation(ctx, id); err != nil {
			return err
		}
		return problem.Conflict("The operation has ended already.")
	}
	o.cancel()
	s.note(ctx, who, "operation", o.view.Subject, "%s stopped: %s", who, o.view.Kind)
	return nil
}

// Store describes the point store.
func (s *Service) Store() api.Store {
	u := s.store.Usage()
	var objects *string
	var cache *int64
	if s.objects != nil {
		objects, cache = &s.cfg.Objects.URL, ptr(s.objects.CacheBytes())
	}
	return api.Store{Objects: objects, CacheBytes: cache, Directory: s.store.Dir(), PackBytes: u.PackBytes, Packs: u.Packs, Records: u.Records, Points: u.Points, Intakes: u.Intakes, DamagedRecords: u.DamagedRecords, FreeBytes: u.FreeBytes, FloorBytes: u.FloorBytes, Full: u.FreeBytes < u.FloorBytes, BadRecords: u.BadRecords, HealedRecords: u.HealedRecords, Scrub: s.scrubView(), Encryption: encryptionView(s.store.Keys())}
}

// CheckStore reads and verifies everything in the store.
func (s *Service) CheckStore(ctx context.Context, who string) (api.Operation, error) {
	return s.startOperation(ctx, who, "store check", "point store", func(ctx context.Context, o *operation) (string, error) {
		rep, err := s.store.Check(ctx, func(done, total int64) { s.progress(o, done, total, "") })
		if err != nil {
			return "", err
		}
		if len(rep.Faults) > 0 {
			s.noteDamage(ctx)
		}
		for _, f := range rep.Faults {
			line := fmt.Sprintf("%s: %s", f.Where, f.What)
			if len(f.Points) > 0 {
				line += fmt.Sprintf("; points that lose by it: %d, the first %s", len(f.Points), f.Points[0])
			}
			s.progress(o, rep.Bytes, rep.Bytes, line)
		}
		if n := len(rep.Faults); n > 0 {
			return "", fmt.Errorf("%d faults found in %d packs and %d points; see the log of this operation", n, rep.Packs, rep.Points)
		}
		return fmt.Sprintf("All good: %d records in %d packs and %d disks of %d points verified.", rep.Records, rep.Packs, rep.Disks, rep.Points), nil
	})
}

func encryptionView(k points.KeyState) api.Encryption {
	return api.Encryption{On: k.Number > 0, Key: int(k.Number), KeyCreatedAt: orNil(k.Created), StaleBytes: k.StaleBytes}
}

// RewriteStore encrypts what is in the clear or under an older key.
func (s *Service) RewriteStore(ctx context.Context, who string) (api.Operation, error) {
	if s.store.Keys().Number == 0 {
		return api.Operation{}, problem.Conflict("The point store is not encrypted. Start the service with --store-key-file or --store-passphrase-file first.")
	}
	return s.startOperation(ctx, who, "store rewrite", "point store", func(ctx context.Context, _ *operation) (string, error) {
		x, err := s.store.Rewrite(ctx)
		return fmt.Sprintf("%d packs written anew under key %d.", x.Packs, s.store.Keys().Number), err
	})
}

// SweepStore gives back the room of dropped points.
func (s *Service) SweepStore(ctx context.Context, who string) (api.Operation, error) {
	return s.startOperation(ctx, who, "store sweep", "point store", func(ctx context.Context, _ *operation) (string, error) {
		x, err := s.store.Sweep(ctx)
		return fmt.Sprintf("%d packs removed, %.1f MiB given back.", x.Packs, float64(x.Freed)/(1<<20)), err
	})
}
