package recovery

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"time"

	"kestrel/internal/core/actor"
	"kestrel/internal/core/term"
	"kestrel/internal/core/words"
	"kestrel/internal/directory"
	"kestrel/internal/inventory"
	"kestrel/internal/landing"
	"kestrel/internal/link"
	"kestrel/internal/platform"
	"kestrel/internal/points"
	"kestrel/internal/problem"
)

// HandOver does, at a group's home site, what its recovery site asks for during a failover.
// Each may be asked for again.
func (r *Recovery) HandOver(ctx context.Context, who actor.Actor, id string, h link.HandOver) (link.HandedOver, error) {
	g, ok := r.Groups.Get(id)
	if !ok || g.Direction != directory.Out {
		return link.HandedOver{}, problem.NotFound("group", id)
	}
	var err error
	switch h.Action {
	case link.Look:
	case link.Cycle:
		// One that runs already is what is asked for.
		if err := r.Mover.Ask(g, false); err != nil && !r.Mover.Busy(g.ID) {
			return link.HandedOver{}, err
		}
	case link.ShutDown:
		err = r.atHome(ctx, who, g, platform.SwitchDown)
	case link.SwitchOff:
		err = r.atHome(ctx, who, g, platform.SwitchOff)
	case link.Cede:
		return r.cede(ctx, who, g)
	case link.Resume:
		err = r.resume(ctx, who, g, h)
	}
	if err != nil {
		return link.HandedOver{}, err
	}
	return r.handed(ctx, g.ID), nil
}

// handed is how a group is here, its home site.
func (r *Recovery) handed(ctx context.Context, id string) link.HandedOver {
	g, _ := r.Groups.Get(id)
	r.Inventory.Refresh(ctx, g.Spec.Platform)
	p, ok := r.Inventory.Get(g.Spec.Platform)
	live := r.Mover.Live(g.ID)
	out := link.HandedOver{Now: r.Clock.Now().UTC(), Machines: []link.HandedMachine{}, Known: ok && p.Up, Running: r.Mover.Busy(g.ID), Paused: g.Spec.PausedAt(r.Clock.Now()), Failure: live.Failure, Home: g.Home()}
	for _, m := range g.Spec.Machines {
		x, _ := p.Machine(m.ID)
		out.Machines = append(out.Machines, link.HandedMachine{ID: m.ID, Name: m.Name, Power: x.Power})
	}
	return out
}

// operator is the driver that switches machines of a platform.
func operator(p inventory.Platform) (platform.Operator, error) {
	o, can := p.Driver.(platform.Operator)
	if !can {
		return nil, problem.Conflict("Machines of %s cannot be switched from here.", p.Name)
	}
	return o, nil
}

// atHome switches the machines of a group that is home here, those that are not so already.
func (r *Recovery) atHome(ctx context.Context, who actor.Actor, g directory.Record, to string) error {
	if !g.Home() {
		return problem.Conflict("%s is not home at %s.", g.Spec.Name, r.Site)
	}
	return r.switchAll(ctx, who, g, g.FormerHome(), to)
}

// switchAll switches machines, as far as they are there.
func (r *Recovery) switchAll(ctx context.Context, who actor.Actor, g directory.Record, all []directory.Former, to string) error {
	var errs []error
	var names []string
	seen := map[string]bool{}
	for _, m := range all {
		if !seen[m.Platform] {
			seen[m.Platform] = true
			r.Inventory.Refresh(ctx, m.Platform)
		}
		p, ok := r.Inventory.Get(m.Platform)
		if !ok || !p.Up {
			errs = append(errs, problem.Unreachable("The platform of %s does not answer.", m.Name))
			continue
		}
		x, there := p.Machine(m.ID)
		if !there || (x.Power == platform.PowerOff) == (to != platform.SwitchOn) {
			continue
		}
		o, err := operator(p)
		if err == nil {
			err = o.Switch(ctx, m.ID, to)
		}
		if err != nil {
			errs = append(errs, fmt.Errorf("switch %s: %w", m.Name, err))
			continue
		}
		names = append(names, m.Name)
	}
	if len(names) > 0 {
		what := map[string]string{platform.SwitchOn: "started", platform.SwitchOff: "switched off", platform.SwitchDown: "asked to shut down"}[to]
		r.Trail.Note(ctx, who, objectOf(g), "%s, of %s: %s, for a failover", words.Joined(names, 6), g.Spec.Name, what)
	}
	if err := errors.Join(errs...); err != nil {
		if _, ok := problem.Of(err); ok {
			return err
		}
		return problem.Unreachable("%s", words.Sentence(err.Error()))
	}
	return nil
}

// cede gives a group away whose machines are all off.
func (r *Recovery) cede(ctx context.Context, who actor.Actor, g directory.Record) (link.HandedOver, error) {
	out := r.handed(ctx, g.ID)
	for _, m := range out.Machines {
		if g.Home() && (!out.Known || m.Power != platform.PowerOff && m.Power != "") {
			return out, problem.Conflict("%s is not known to be off at %s, and the group is not given away before.", m.Name, r.Site)
		}
	}
	next, err := r.Groups.Turn(ctx, who, g.ID, func(x *directory.Record) (string, error) {
		if x.Turned == directory.Ceded {
			return "", nil
		}
		is, _, err := x.Role().Cede()
		if err != nil {
			return "", problem.Conflict("%s.", words.Upper(err.Error()))
		}
		x.Turned, x.Term = directory.Ceded, is.Term
		return fmt.Sprintf("%s was given away to %s, in a planned failover", x.Spec.Name, x.RecoveryName), nil
	})
	if err != nil {
		return out, err
	}
	_, grant, err := next.Role().Cede()
	if err != nil {
		return out, problem.Conflict("%s.", words.Upper(err.Error()))
	}
	out.Home, out.Grant = false, grant.Term
	return out, nil
}

// resume has a group be home here again, and starts machines that ran before.
func (r *Recovery) resume(ctx context.Context, who actor.Actor, g directory.Record, h link.HandOver) error {
	next, err := r.back(ctx, who, g, h.Term)
	if err != nil {
		return err
	}
	var start []directory.Former
	for _, m := range next.FormerHome() {
		if slices.Contains(h.Machines, m.ID) {
			start = append(start, m)
		}
	}
	return r.switchAll(ctx, who, next, start, platform.SwitchOn)
}

// back has a group be home here again in a term, if it is not already.
func (r *Recovery) back(ctx context.Context, who actor.Actor, g directory.Record, to int64) (directory.Record, error) {
	next, err := r.Groups.Turn(ctx, who, g.ID, func(x *directory.Record) (string, error) {
		if x.Home() && x.Term >= to {
			return "", nil
		}
		is, err := x.Role().Resume(term.Grant{Term: to})
		if err != nil {
			return "", problem.Conflict("%s.", words.Upper(err.Error()))
		}
		x.Turned, x.Term = "", is.Term
		return fmt.Sprintf("%s is home at %s again, in term %d: %s gave it back", x.Spec.Name, r.Site, is.Term, x.RecoveryName), nil
	})
	if err == nil {
		r.Mover.Wake()
		r.beat(g.Link)
	}
	return next, err
}

// Turned hears what another site says of a group that is, or was, home here: that it is held
// there, or that it was given back.
func (r *Recovery) Turned(ctx context.Context, g directory.Record, t link.Turn) {
	if t.Term <= g.Term {
		return // it is known
	}
	var err error
	if !t.Held {
		_, err = r.back(ctx, actor.System(), g, t.Term)
	} else {
		_, err = r.Groups.Turn(ctx, actor.System(), g.ID, func(x *directory.Record) (string, error) {
			is, outcome := x.Role().Hear(term.Report{Term: t.Term})
			if outcome != term.Yielded && outcome != term.Followed {
				return "", nil
			}
			was := "stands down and starts nothing"
			if x.Turned == directory.Ceded {
				was = "has given it away"
			}
			x.Turned, x.Term = directory.Away, is.Term
			return fmt.Sprintf("%s runs at %s since a failover, in term %d: %s %s", x.Spec.Name, x.RecoveryName, is.Term, r.Site, was), nil
		})
	}
	if err != nil && ctx.Err() == nil {
		r.Log.Warn("hear where a group is home", "group", g.Spec.Name, "err", err)
	}
}

// RunsHere lists the machines of a group that run here although it runs at the other site: two
// running copies.
func (r *Recovery) RunsHere(g directory.Record) []string {
	if g.Home() || g.Held() || g.Direction == directory.Ended {
		return nil
	}
	var out []string
	for _, m := range g.FormerHome() {
		p, _ := r.Inventory.Get(m.Platform)
		if x, there := p.Machine(m.ID); there && x.Power == platform.PowerOn {
			out = append(out, m.Name)
		}
	}
	return out
}

// ShutDownFormer shuts down the machines that a group has here still while it runs at the
// other site.
func (r *Recovery) ShutDownFormer(ctx context.Context, who actor.Actor, id string, atOnce bool) error {
	g, err := r.Groups.Find(id)
	if err != nil {
		return err
	}
	if len(r.RunsHere(g)) == 0 {
		return problem.Conflict("%s has no machine here that runs while it runs elsewhere.", g.Spec.Name)
	}
	to := platform.SwitchDown
	if atOnce {
		to = platform.SwitchOff
	}
	ctx, cancel := context.WithTimeout(ctx, time.Minute)
	defer cancel()
	if err := r.switchAll(ctx, who, g, g.FormerHome(), to); err != nil {
		return err
	}
	for _, m := range g.FormerHome() {
		r.Inventory.Refresh(ctx, m.Platform)
	}
	return nil
}

// RemoveFormer removes the machines that a group had here before it became home at the other
// site, with their disks: those that are off, when the group is copied here from there.
func (r *Recovery) RemoveFormer(ctx context.Context, who actor.Actor, id, confirm string) ([]string, error) {
	g, err := r.Groups.Find(id)
	switch {
	case err != nil:
		return nil, err
	case g.Direction != directory.In || len(g.Former) == 0:
		return nil, problem.Conflict("%s has no old machines here that could be removed.", g.Spec.Name)
	case r.Preparing(g.ID) != "":
		return nil, problem.Conflict("The old disks of %s are being read, so that only what differs has to be copied. Wait until that is done.", g.Spec.Name)
	case r.underWay(g.ID):
		return nil, underWay(g.Spec.Name)
	case !r.copiedSince(g):
		return nil, problem.Conflict("%s has not been copied here since it became home at %s. Until it is, its old machines are all of it that is here.", g.Spec.Name, g.HomeName)
	}
	if err := confirmed(g.Spec.Name, confirm); err != nil {
		return nil, err
	}
	if on := r.RunsHere(g); len(on) > 0 {
		return nil, problem.Conflict("%s here still. Shut down what runs first.", runs(on))
	}
	err = r.Trail.Do(ctx, who, objectOf(g), func(context.Context) error { return nil }, "%s has the old machines of %s removed here", who, g.Spec.Name)
	if err != nil {
		return nil, err
	}
	var left, names []string
	for _, m := range g.Former {
		stays, err := r.removeOld(ctx, who, landing.Old(m))
		if left = append(left, stays...); err != nil {
			return left, err
		}
		names = append(names, m.Name)
	}
	_, err = r.Groups.Turn(ctx, who, g.ID, func(x *directory.Record) (string, error) {
		x.Former = nil
		return fmt.Sprintf("the old machines of %s were removed here: %s", x.Spec.Name, words.Joined(names, 8)), nil
	})
	if err == nil {
		if failed := r.NamesFreed(ctx, who, g.ID, names); failed != nil { // they keep the names that they would have had
			r.Log.Warn("name the machines that return", "group", g.Spec.Name, "err", failed)
		}
	}
	return left, err
}

// copiedSince tells whether there is a point of a group here that was made where it is home now.
func (r *Recovery) copiedSince(g directory.Record) bool {
	return slices.ContainsFunc(r.Keeper.Seals(g.ID), func(x *points.Seal) bool { return x.Group.Term == g.Term })
}
