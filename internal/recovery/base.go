package recovery

import (
	"context"
	"errors"
	"fmt"
	"time"

	"github.com/google/uuid"

	"kestrel/internal/clock"
	"kestrel/internal/core/span"
	"kestrel/internal/core/words"
	"kestrel/internal/cycle"
	"kestrel/internal/directory"
	"kestrel/internal/operation"
	"kestrel/internal/platform"
	"kestrel/internal/points"
)

// baseKind is that of the operations that read what a group's machines held here before it
// became home elsewhere: what comes back is then only what differs.
const baseKind = "reading of former disks"

// baseInput is what such an operation is asked for with.
type baseInput struct {
	Group    string             `json:"group"` // ID
	Name     string             `json:"name"`
	Machines []directory.Former `json:"machines"`
}

const (
	// baseKept is for how long what was read stays by itself; points that share blocks with it
	// keep those.
	baseKept = 7 * span.Day
	// baseTries and baseWait bound how long the platform is waited for: without it, all is
	// shipped.
	baseTries = 5
	baseWait  = 5 * time.Second
)

// changed follows groups that become home elsewhere.
func (r *Recovery) changed(c directory.Change) {
	if c.Before == nil || c.After == nil || c.Before.Direction != directory.Out || c.After.Direction != directory.In || len(c.After.Former) == 0 {
		return
	}
	r.mu.Lock()
	r.preparing[c.After.ID] = true
	r.mu.Unlock()
	g := *c.After
	r.beside(func(ctx context.Context) {
		if err := r.readBase(ctx, g); err != nil && ctx.Err() == nil {
			r.Log.Error("read what a group's machines held here", "group", g.Spec.Name, "err", err)
			r.prepared(g.ID)
		}
	})
}

// baseID is the ID of the operation of a group that became home elsewhere in a term.
func baseID(g directory.Record) string {
	return uuid.NewSHA1(uuid.NameSpaceOID, fmt.Appendf(nil, "%s/%d", g.ID, g.Term)).String()
}

// readBase sees to it that what a group's machines held here is read once.
func (r *Recovery) readBase(ctx context.Context, g directory.Record) error {
	id := baseID(g)
	if err := r.Operations.Ensure(ctx, id, baseKind, g.Spec.Name, baseInput{g.ID, g.Spec.Name, g.Former}); err != nil {
		return err
	}
	op, err := r.Operations.Get(ctx, id)
	if err != nil {
		return err
	}
	r.mu.Lock()
	defer r.mu.Unlock()
	if op.EndedAt == nil {
		r.preparing[g.ID] = true
	} else {
		delete(r.preparing, g.ID)
	}
	return nil
}

// prepared lets cycles of a group come.
func (r *Recovery) prepared(id string) {
	r.mu.Lock()
	delete(r.preparing, id)
	r.mu.Unlock()
}

// Preparing says why no cycle of a group is taken here yet; empty if it is.
func (r *Recovery) Preparing(group string) string {
	r.mu.Lock()
	defer r.mu.Unlock()
	if r.preparing[group] {
		return r.Site + " reads what its machines held here before, so that only what differs has to come"
	}
	return ""
}

// runBase reads them.
func (r *Recovery) runBase(ctx context.Context, w *operation.Work) (string, error) {
	var in baseInput
	if err := w.Input(&in); err != nil {
		return "", err
	}
	var err error
	for try := range baseTries {
		if try > 0 {
			if err := clock.Sleep(ctx, r.Clock, baseWait); err != nil {
				return "", err
			}
		}
		var text string
		if text, err = r.readDisks(ctx, w, in); err == nil {
			r.prepared(in.Group)
			return text, nil
		}
		if ctx.Err() != nil {
			return "", ctx.Err()
		}
		w.Log("%s", words.Sentence(err.Error()))
	}
	r.prepared(in.Group)
	return fmt.Sprintf("They could not be read, so all of the disks comes anew: %s.", words.Upper(err.Error())), nil
}

func (r *Recovery) readDisks(ctx context.Context, w *operation.Work, in baseInput) (string, error) {
	p, ok := r.Inventory.Get(in.Machines[0].Platform)
	if !ok {
		return "The platform that they were on is not known here any more: all of the disks comes anew.", nil
	}
	if !p.Up {
		return "", fmt.Errorf("%s does not answer", p.Name)
	}
	var there []string
	for _, m := range in.Machines {
		if _, is := p.Machine(m.ID); is {
			there = append(there, m.ID)
		}
	}
	if len(there) == 0 {
		return "None of its machines is there any more: all of the disks comes anew.", nil
	}
	checkpoint := r.Owner + w.ID()
	if err := p.Driver.Forget(ctx, checkpoint); err != nil && !errors.Is(err, platform.ErrGone) { // a crash may have left it
		return "", fmt.Errorf("let go of an earlier reading: %w", err)
	}
	until := r.Clock.Now().Add(baseKept)
	job := cycle.Job{ID: uuid.NewString(), Checkpoint: checkpoint, Machines: there, Apart: true, Encoding: points.EncodingS2, Group: points.CarriedAs(in.Name+", as it was left here", until)}
	seal, err := r.Read(ctx, p.Driver, r.Keeper.Carrier(), r.Clock, job, func(p cycle.Progress) { w.Progress(p.ReadBytes, p.TotalBytes) })
	letGo := context.WithoutCancel(ctx)
	if gone := errors.Join(p.Driver.Release(letGo, checkpoint), p.Driver.Forget(letGo, checkpoint)); gone != nil {
		r.Log.Warn("let go of what was read", "group", in.Name, "err", gone)
	}
	if err != nil {
		return "", err
	}
	return fmt.Sprintf("%s of them are in the store; only what differs has to come.", span.Bytes(float64(seal.UsedBytes))), nil
}
