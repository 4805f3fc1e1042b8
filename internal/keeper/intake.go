package keeper

import (
	"context"
	"errors"
	"net/http"
	"time"

	"github.com/google/uuid"

	"kestrel/internal/core/exposure"
	"kestrel/internal/core/group"
	"kestrel/internal/core/span"
	"kestrel/internal/core/words"
	"kestrel/internal/cycle"
	"kestrel/internal/directory"
	"kestrel/internal/link"
	"kestrel/internal/points"
	"kestrel/internal/problem"
)

// What is answered to cycles that have no right to go on.
var (
	notHome   = &problem.Problem{Status: http.StatusForbidden, Title: "This group does not come from there"}
	staleTerm = &problem.Problem{Status: http.StatusConflict, Title: "This group has another term here"}
	noIntake  = &problem.Problem{Status: http.StatusGone, Title: "The intake is not open (any more)"}
)

// mayBring refuses blocks of groups that a site is not home of.
func (k *Keeper) mayBring(site, group string, term int64) error {
	r, ok := k.Groups.Get(group)
	switch {
	case !ok || site == "" || r.HomeID != site || r.Direction != directory.In:
		return notHome
	case !r.Role().MayBring(term):
		return staleTerm
	}
	return nil
}

// OpenIntake opens an intake for a site.
func (k *Keeper) OpenIntake(ctx context.Context, site string, r cycle.OpenRequest) (cycle.Opened, error) {
	if err := k.mayBring(site, r.Group.ID, r.Group.Term); err != nil {
		return cycle.Opened{}, err
	}
	if k.Preparing != nil {
		if why := k.Preparing(r.Group.ID); why != "" {
			return cycle.Opened{}, problem.Conflict("%s", why)
		}
	}
	if err := link.CheckOpen(r); err != nil {
		return cycle.Opened{}, err
	}
	g, ok := k.Groups.Get(r.Group.ID)
	if !ok {
		return cycle.Opened{}, notHome
	}
	if spec, err := directory.Decode(r.Group.Settings, g.Spec.Name); len(r.Group.Settings) > 0 && (err != nil || group.CheckName(spec.Name, group.MaxName) != "") {
		return cycle.Opened{}, problem.Invalid("group", "The specification that %s is to be sealed with is not understood.", g.Spec.Name)
	}
	// Whose group it is, and what it is called, the records of this site say.
	r.Group.Name, r.Group.HomeSite, r.Group.HomeName = g.Spec.Name, g.HomeID, g.HomeName
	if err := k.mayOpen(g, r); err != nil {
		return cycle.Opened{}, err
	}
	return cycle.Receive(ctx, k.Store, r)
}

// What the open cycles of one home may be together.
const (
	openCycles = 64
	openBytes  = 256 << 40
)

// mayOpen refuses one cycle more than a home may have open here.
func (k *Keeper) mayOpen(g directory.Record, r cycle.OpenRequest) error {
	n, bytes := 1, int64(0)
	for _, d := range r.Disks {
		bytes += d.Size
	}
	for _, x := range k.Groups.All() {
		if x.HomeID != g.HomeID || x.ID == g.ID { // a group has one cycle at a time
			continue
		}
		for _, in := range k.Store.Intakes(x.ID) {
			n++
			for _, d := range in.Disks {
				bytes += d.Size
			}
		}
	}
	if n > openCycles || bytes > openBytes {
		return link.TooMuch("%s has %d cycles open here, of %s: at most %d, of %s, are taken at once.", g.HomeName, n, span.Bytes(float64(bytes)), openCycles, span.Bytes(openBytes))
	}
	return nil
}

// Intake finds an open intake of a site.
func (k *Keeper) Intake(site, id string) (*points.Intake, error) {
	in, err := k.Store.Intake(id)
	if err != nil {
		return nil, noIntake
	}
	return in, k.mayBring(site, in.Group.ID, in.Group.Term)
}

// SealIntake makes a point of an intake. Ahead is how far the site's clock is ahead
// of ours.
func (k *Keeper) SealIntake(ctx context.Context, site string, ahead time.Duration, id string, seal points.Seal) (*points.Seal, error) {
	in, err := k.Intake(site, id)
	if err != nil {
		return nil, err
	}
	r, ok := k.Groups.Get(in.Group.ID)
	if !ok {
		return nil, notHome
	}
	if err := link.CheckSeal(seal, k.Clock.Now(), ahead); err != nil {
		return nil, err
	}
	seal.HomeAhead = ahead
	x, err := in.Seal(seal)
	if err != nil {
		return nil, err
	}
	// The point is sealed, whatever becomes of the caller.
	ctx = context.WithoutCancel(ctx)
	k.noteDamage(ctx)
	if err := k.list(ctx, r, x); err != nil {
		// The records follow from the store: when the database can be written to again.
		k.Log.Error("note a point's arrival", "group", r.Spec.Name, "err", err)
		k.listLater(x.Point)
	}
	if err := k.lockNew(ctx, r, x); err != nil {
		k.Log.Error("lock a point", "group", r.Spec.Name, "err", err) // and again at the next tidying
	}
	capture := exposure.Shift(x.CaptureAt, x.HomeAhead)
	k.mu.Lock()
	if h := k.holding(r.ID); capture.After(h.NewestAt) {
		h.NewestAt, h.Newest = capture, x.Point
	}
	k.mu.Unlock()
	k.Prune(ctx, r)
	k.told(x.Point, r.ID)
	return x, nil
}

// HeldFor is what the points of a home's groups hold here, in bytes before compressing:
// the newest of a group whole, and what arrived for each other. What two hold alike
// counts twice.
func (k *Keeper) HeldFor(home string) (bytes int64) {
	for _, g := range k.Groups.All() {
		if g.HomeID != home || g.Direction == directory.Out {
			continue
		}
		held := k.Store.Points(g.ID)
		for i, x := range held {
			if i == len(held)-1 {
				bytes += max(x.UsedBytes, x.HeldBytes)
			} else {
				bytes += x.HeldBytes
			}
		}
	}
	return bytes
}

// home is this site's own store, for a group that keeps points at home too.
type home struct {
	cycle.At
	k    *Keeper
	r    directory.Record
	base string // checkpoint that changes are counted from
}

// WithHome adds this site's own store to where a cycle's blocks go. What fails here
// ends its part only; failed is told.
func (k *Keeper) WithHome(r directory.Record, far cycle.Remote, base string, failed func(why string)) cycle.Remote {
	return cycle.Both(far, home{cycle.At{Store: k.Store}, k, r, base}, func(err error) {
		if errors.Is(err, context.Canceled) {
			return
		}
		k.Log.Warn("points are not kept at home", "group", r.Spec.Name, "err", err)
		failed(words.Upper(err.Error()))
	})
}

// Open implements cycle.Remote.
func (h home) Open(ctx context.Context, r cycle.OpenRequest) (cycle.Opened, error) {
	r.BasePoint = uuid.Nil.String() // none, and the disks are sent whole
	for _, x := range h.k.Store.Points(r.Group.ID) {
		if x.Checkpoint == h.base && h.base != "" {
			r.BasePoint = x.Point
		}
	}
	return h.At.Open(ctx, r)
}

// Seal implements cycle.Remote.
func (h home) Seal(ctx context.Context, intake string, x points.Seal) (*points.Seal, error) {
	out, err := h.At.Seal(ctx, intake, x)
	if err != nil {
		return nil, err
	}
	ctx = context.WithoutCancel(ctx)
	h.k.noteDamage(ctx)
	if err := h.k.list(ctx, h.r, out); err != nil {
		// The records follow from the store: when the database can be written to again.
		h.k.Log.Error("note a point at home", "group", h.r.Spec.Name, "err", err)
		h.k.listLater(out.Point)
	}
	h.k.Prune(ctx, h.r)
	if err := h.k.recount(ctx, h.r.ID); err != nil {
		h.k.Log.Error("count points", "group", h.r.Spec.Name, "err", err)
	}
	h.k.told(out.Point, h.r.ID)
	return out, nil
}
