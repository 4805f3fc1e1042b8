package recovery

import (
	"context"
	"errors"
	"fmt"
	"net/http"

	"kestrel/internal/core/actor"
	"kestrel/internal/core/words"
	"kestrel/internal/directory"
	"kestrel/internal/landing"
	"kestrel/internal/platform"
	"kestrel/internal/problem"
	"kestrel/internal/records"
)

// oldOf are the machines that a group had here before it became home elsewhere, for others to
// come in their places.
func (r *Recovery) oldOf(g directory.Record) (out []landing.Old, err error) {
	switch {
	case g.Direction != directory.In || len(g.Former) == 0:
		return nil, problem.Invalid("inPlace", "%s has no old machines here: leave it out, and new ones are made.", g.Spec.Name)
	case r.Preparing(g.ID) != "":
		return nil, problem.Conflict("The old disks of %s are being read, so that only what differs has to be copied. Wait until that is done.", g.Spec.Name)
	}
	if on := r.RunsHere(g); len(on) > 0 {
		return nil, problem.Conflict("%s here still. Shut down what runs first.", runs(on))
	}
	for _, m := range g.Former {
		out = append(out, landing.Old(m))
	}
	return out, nil
}

// endOld removes the machines in whose places those of a failover have come, once it is accepted.
func (r *Recovery) endOld(ctx context.Context, s *failing, d passage) error {
	if len(d.Old) == 0 {
		return nil
	}
	rec, _ := look(r, s)
	var left, names []string
	for _, x := range r.Landings.OfRecovery(rec.ID) {
		for _, m := range d.Old {
			if m.ID != x.InPlaceOf || x.Lost {
				continue
			}
			stays, err := r.removeOld(ctx, actor.System(), m)
			if err != nil {
				return err
			}
			left, names = append(left, stays...), append(names, m.Name)
		}
	}
	err := amend(ctx, r, s, func(_ *records.Recovery, d *passage) (string, error) {
		d.Old = nil
		if len(names) == 0 {
			return "", nil
		}
		text := fmt.Sprintf("%s removed: what came in the place has taken over.", either(names, ", the old one, was", ", the old ones, were"))
		for _, l := range left {
			text += " " + l
		}
		return text, nil
	})
	if err == nil {
		err = errAgain
	}
	return err
}

// removeOld removes a machine that is off, with its disks, and says what stays of it. One that is
// not there is no error.
func (r *Recovery) removeOld(ctx context.Context, who actor.Actor, m landing.Old) (left []string, err error) {
	p, ok := r.Inventory.Get(m.Platform)
	if !ok {
		return nil, nil // the platform is no more of this site
	}
	if err := r.Landings.Remove(ctx, who, m.ID); err == nil { // it was made from a point
		return nil, nil
	} else if p, is := problem.Of(err); !is || p.Status != http.StatusNotFound {
		return nil, err
	}
	o, err := operator(p)
	if err != nil {
		return nil, err
	}
	stays, err := o.Discard(ctx, m.ID)
	if errors.Is(err, platform.ErrRuns) {
		return nil, problem.Conflict("%s is not off.", m.Name)
	}
	if err != nil {
		return nil, problem.Unreachable("%s could not be removed: %s", m.Name, words.Sentence(err.Error()))
	}
	for _, x := range stays {
		left = append(left, fmt.Sprintf("%s of %s stays: no pool holds it, or other machines share it.", x, m.Name))
	}
	r.Inventory.Refresh(ctx, m.Platform)
	return left, nil
}
