package recovery

import (
	"context"
	"encoding/json"
	"fmt"
	"slices"
	"strings"
	"time"

	"github.com/google/uuid"

	"kestrel/internal/api"
	"kestrel/internal/core/actor"
	"kestrel/internal/core/failover"
	"kestrel/internal/core/group"
	"kestrel/internal/core/span"
	"kestrel/internal/core/words"
	"kestrel/internal/directory"
	"kestrel/internal/landing"
	"kestrel/internal/link"
	"kestrel/internal/platform"
	"kestrel/internal/problem"
	"kestrel/internal/records"
)

const (
	usualDown = 5 * time.Minute // that machines at home have to shut down
	leastDown = 10 * time.Second
	mostDown  = 2 * time.Hour
	// homeAsked is how long home is asked how it is.
	homeAsked = 10 * time.Second
)

// readied is a failover that could begin.
type readied struct {
	group   directory.Record
	record  records.Recovery
	passage passage
	chosen  chosen
	planned []landing.Planned
	home    homeSeen
}

// homeSeen is what is known of a group's home.
type homeSeen struct {
	answers bool
	runs    []string // machines, as far as is known
	known   []string // in sentences, the gravest first
	bytes   *int64   // that have changed and are not here, as it last said
	paused  bool
}

// homeOf finds out how a group's home is.
func (r *Recovery) homeOf(ctx context.Context, who actor.Actor, g directory.Record) homeSeen {
	out := homeSeen{}
	if live, ok := r.Peering.Reported(g.ID); ok && live.BacklogKnown {
		n := int64(0)
		for _, b := range live.Backlog {
			n += b
		}
		out.bytes = &n
	}
	if g.Direction == directory.Ended {
		out.known = append(out.known, fmt.Sprintf("The group is no more at %s, as far as is known here; what runs there is not known.", g.HomeName))
		return out
	}
	ctx, cancel := context.WithTimeout(ctx, homeAsked)
	defer cancel()
	home, err := r.ask(ctx, g, who.String(), link.HandOver{Action: link.Look})
	if err != nil {
		seen := "it has never been heard of"
		if l, ok := r.Peering.Get(g.Link); ok && !l.SeenAt.IsZero() {
			seen = "it was last heard of " + span.Format(max(time.Second, r.Clock.Now().Sub(l.SeenAt).Round(time.Second))) + " ago"
		}
		out.known = append(out.known,
			fmt.Sprintf("%s does not answer; %s.", g.HomeName, seen),
			fmt.Sprintf("If it lives, its machines may run there still: then there are two running copies until it hears of this site, and what is written at %s from now on is not here.", g.HomeName))
		return out
	}
	out.answers, out.paused = true, home.Paused
	for _, m := range home.Machines {
		if m.Power != platform.PowerOff && m.Power != "" {
			out.runs = append(out.runs, m.Name)
		}
	}
	switch {
	case !home.Known:
		out.known = append(out.known, fmt.Sprintf("%s answers, and its platform does not: it is not known which machines run there.", g.HomeName))
	case len(out.runs) > 0:
		out.known = append(out.known, fmt.Sprintf("%s answers, and %s there.", g.HomeName, runs(out.runs)))
	default:
		out.known = append(out.known, fmt.Sprintf("%s answers, and none of the machines runs there.", g.HomeName))
	}
	return out
}

func runs(names []string) string {
	if len(names) == 1 {
		return names[0] + " runs"
	}
	return words.Joined(names, 4) + " run"
}

// ready checks all of what is asked for.
func (r *Recovery) ready(ctx context.Context, who actor.Actor, id string, in api.NewFailover) (readied, error) {
	g, err := r.Groups.Find(id)
	if err != nil {
		return readied{}, err
	}
	x := readied{group: g}
	planned := value(in.Planned)
	switch {
	case g.Away():
		return x, problem.Conflict("%s runs at %s since a failover. It is accepted or backed out there.", g.Spec.Name, g.RecoveryName)
	case g.Direction == directory.Out:
		return x, problem.Conflict("%s is home here, and its points are held at %s. Start its failover there.", g.Spec.Name, g.RecoveryName)
	case g.Direction == directory.Ended && planned:
		return x, problem.Invalid("planned", "%s has ended at %s, so there is no home that could be asked: leave it out.", g.Spec.Name, g.HomeName)
	case r.underWay(g.ID):
		return x, underWay(g.Spec.Name)
	case planned && (value(in.Point) != "" || value(in.Choose) != "" || in.Before != nil):
		return x, problem.Invalid("point", "A planned failover starts from what is copied last. Leave the point out; another one can be chosen when its machines have started.")
	}
	if x.chosen, err = r.choose(g, wish{in.Point, in.Choose, in.Before}); err != nil {
		return x, err
	}
	for _, o := range r.Groups.All() {
		if o.Direction == directory.Out && o.ID != g.ID && strings.EqualFold(o.Spec.Name, g.Spec.Name) {
			return x, problem.Conflict("A group called %s is home here already. Rename one of the two first: this one would be home here as well.", g.Spec.Name)
		}
	}
	down := usualDown
	if in.DownSeconds != nil {
		down = time.Duration(min(*in.DownSeconds, int64(mostDown/time.Second)+1)) * time.Second
	}
	if down < leastDown || down > mostDown {
		return x, problem.Invalid("downSeconds", "Machines at home have %s to %s to shut down.", span.Format(leastDown), span.Format(mostDown))
	}
	r.lookAnew(ctx)
	machines, left, err := chosenOf(x.chosen.seal, in.Machines)
	if err != nil {
		return x, err
	}
	var old []landing.Old
	if value(in.InPlace) {
		if old, err = r.oldOf(g); err != nil {
			return x, err
		}
	}
	if x.planned, _, err = r.Landings.Plan(ctx, who, liveOf(x.chosen.seal.Point, machines, value(in.NotWhole)), old); err != nil {
		return x, err
	}
	x.home = r.homeOf(ctx, who, g)
	switch {
	case planned && !x.home.answers:
		return x, problem.Conflict("%s cannot be asked, and without it what it wrote last cannot be copied: %s If it is gone, start one that is not planned.", g.HomeName, x.home.known[0])
	case planned && x.home.paused:
		return x, problem.Conflict("%s is paused, and a planned failover copies what was written last. Resume it first.", g.Spec.Name)
	}
	now := r.Clock.Now().UTC()
	seal := x.chosen.seal
	x.record = records.Recovery{ID: uuid.NewString(), Kind: FailoverKind, GroupID: g.ID, GroupName: g.Spec.Name, State: string(failover.Turning), StartedBy: who.String(), StartedAt: now}
	x.passage = passage{Home: g.HomeName, Planned: planned, NotWhole: value(in.NotWhole), Machines: machines, LeftOut: left, RTO: g.Spec.RTO, RPO: g.Spec.Promise.Target, Known: x.home.known, Force: value(in.Force), DownLimit: down}
	x.passage.Old = old
	for _, m := range x.planned {
		if m.InPlace {
			x.passage.InPlace = append(x.passage.InPlace, m.Name)
		}
	}
	how := x.chosen.how
	if planned {
		x.record.State, how = string(failover.Draining), "the newest so far"
	} else {
		x.passage.LosesBytes = x.home.bytes
	}
	x.passage.point(&x.record, seal, how)
	if !planned {
		x.passage.lose(&x.record)
	}
	x.passage.Runbook = r.steps(g.ID, false, false)
	x.passage.Entered = []entered{{failover.State(x.record.State), now}}
	return x, nil
}

// costs says what a failover costs that could begin.
func (x readied) costs(site string, now time.Time) (out []string) {
	g := x.group
	if old := x.passage.InPlace; len(old) > 0 {
		defer func() {
			out = append(out, fmt.Sprintf("%s set aside at %s, off and under another name, and what starts has the old name, hardware and addresses of cards. Accepted, what was set aside is removed with its disks; backed out, it is as before.", either(old, ", as it was left here, is", ", as they were left here, are"), site))
		}()
	}
	if left := x.passage.LeftOut; len(left) > 0 {
		defer func() {
			text := fmt.Sprintf("%s not started at %s.", either(left, " is", " are"), site)
			if x.passage.Planned {
				text = fmt.Sprintf("%s shut down at %s as well, and not started at %s: the group is home at one site.", either(left, " is", " are"), g.HomeName, site)
			}
			out = append(out, text)
		}()
	}
	if x.passage.Planned {
		return []string{
			fmt.Sprintf("Nothing of what is written is lost: the machines at %s are shut down, and what they wrote last is copied before they start at %s.", g.HomeName, site),
			"They stand still from their shutdown until they run here. Until it is accepted, it can be backed out with nothing lost at " + g.HomeName + ".",
		}
	}
	lost := span.Format(max(time.Second, now.Sub(x.passage.Captured).Round(time.Second)))
	text := fmt.Sprintf("What was written at %s in the last %s before now, and what is written there from now on, is not here.", g.HomeName, lost)
	if n := x.home.bytes; n != nil {
		text += fmt.Sprintf(" As it last said, that is %s.", span.Bytes(float64(*n)))
	}
	return []string{text, fmt.Sprintf("%s is asked for nothing. When it hears of it, it stands down and starts nothing; what runs there has to be shut down by somebody.", g.HomeName)}
}

// PlanFailover says what a failover would do and what is known of home, and changes nothing.
func (r *Recovery) PlanFailover(ctx context.Context, who actor.Actor, id string, in api.NewFailover) (api.FailoverPlan, error) {
	x, err := r.ready(ctx, who, id, in)
	if err != nil {
		return api.FailoverPlan{}, err
	}
	now := r.Clock.Now()
	d := x.passage
	v := api.FailoverPlan{Group: x.group.ID, GroupName: x.group.Spec.Name, Home: x.group.HomeName, Planned: d.Planned, Point: x.record.Point, PointNumber: d.PointNumber, CaptureAt: d.CaptureAt.UTC(), Consistency: d.Consistency, Chosen: d.Chosen,
		LosesSeconds: int64(d.Lost / time.Second), Machines: plannedViews(x.planned), LeftOut: append([]string{}, d.LeftOut...), Runbook: stepsView(d.course, r.expected(x.group.ID), true), RtoTargetSeconds: int64(d.RTO / time.Second), Known: x.home.known, HomeAnswers: x.home.answers, RunsAtHome: append([]string{}, x.home.runs...), Costs: x.costs(r.Site, now)}
	if !d.Planned {
		v.LosesBytes = x.home.bytes
	}
	if took := r.lastTook(x.group.ID); took > 0 {
		v.LastTookSeconds = new(int64(took / time.Second))
	}
	return v, nil
}

// confirmed refuses what is not confirmed by the group's name.
func confirmed(name, text string) error {
	if text != name {
		return problem.Invalid("confirm", "Write the group's name, %s, as it is.", name)
	}
	return nil
}

// checkReason refuses what is no reason.
func checkReason(text, what string) (string, error) {
	text = strings.TrimSpace(text)
	if group.CheckName(text, group.MaxReason) != "" {
		return "", problem.Invalid("reason", "Say why %s, in one line of at most %d characters: the record keeps it.", what, group.MaxReason)
	}
	return text, nil
}

// StartFailover begins one.
func (r *Recovery) StartFailover(ctx context.Context, who actor.Actor, id string, in api.NewFailover) (api.Failover, error) {
	return r.startFailover(ctx, who, id, in, uuid.NewString())
}

// startFailover is StartFailover under an ID: it begins once, however often it is called.
func (r *Recovery) startFailover(ctx context.Context, who actor.Actor, id string, in api.NewFailover, as string) (api.Failover, error) {
	if v, err := r.GetFailover(as); err == nil {
		return v, nil
	}
	x, err := r.ready(ctx, who, id, in)
	if err != nil {
		return api.Failover{}, err
	}
	x.record.ID = as
	if err := confirmed(x.group.Spec.Name, value(in.Confirm)); err != nil {
		return api.Failover{}, err
	}
	if !x.passage.Planned && x.home.answers {
		if x.passage.Reason, err = checkReason(value(in.Reason), fmt.Sprintf("it is not planned although %s answers", x.group.HomeName)); err != nil {
			return api.Failover{}, err
		}
	}
	kind := map[bool]string{true: "a planned failover", false: "a failover"}[x.passage.Planned]
	text := fmt.Sprintf("%s began %s of %s", who, kind, x.record.GroupName)
	if !x.passage.Planned {
		text += fmt.Sprintf(" from point %d", x.passage.PointNumber)
	}
	if x.passage.Reason != "" {
		text += " although home answers: " + x.passage.Reason
	}
	x.passage.Steps = []step{{x.record.StartedAt, text + "."}}
	if x.record.Detail, err = json.Marshal(x.passage); err != nil {
		return api.Failover{}, fmt.Errorf("record of the failover of %s: %w", x.record.GroupName, err)
	}
	s := &failing{rec: x.record, detail: x.passage}
	err = r.Trail.Do(ctx, who, object(x.record), func(ctx context.Context) error { return r.DB.AddRecovery(ctx, x.record) }, "%s", text)
	if records.Taken(err, records.RecoveryOpen) {
		return api.Failover{}, underWay(x.record.GroupName)
	}
	if err != nil {
		return api.Failover{}, err
	}
	r.mu.Lock()
	r.failovers[s.rec.ID] = s
	r.mu.Unlock()
	if _, err := r.Operations.StartAs(ctx, s.rec.ID, who, FailoverKind, s.rec.GroupName, input{s.rec.ID}); err != nil {
		return api.Failover{}, err
	}
	return r.GetFailover(s.rec.ID)
}

// findFailover resolves an ID, or a group's name or ID to its newest failover.
func (r *Recovery) findFailover(text string) (*failing, error) {
	return found(r, r.failovers, FailoverKind, text)
}

// FailoverGroup tells of which group a failover is.
func (r *Recovery) FailoverGroup(text string) (string, error) {
	s, err := r.findFailover(text)
	if err != nil {
		return "", err
	}
	return s.rec.GroupID, nil
}

// decided refuses a decision that comes too late.
func decided(rec *records.Recovery, d *passage) error {
	switch {
	case rec.State == over:
		return problem.Conflict("The failover of %s is over: it was %s.", rec.GroupName, rec.Result)
	case d.BackOut != nil:
		return problem.Conflict("%s backs out of the failover of %s already.", d.BackOut.By, rec.GroupName)
	case d.Accept != nil:
		return problem.Conflict("%s has accepted the failover of %s already.", d.Accept.By, rec.GroupName)
	}
	return nil
}

// AcceptFailover lets a group stay here.
func (r *Recovery) AcceptFailover(ctx context.Context, who actor.Actor, id string, in api.FailoverAccept) (api.Failover, error) {
	s, err := r.findFailover(id)
	if err != nil {
		return api.Failover{}, err
	}
	if err := confirmed(s.rec.GroupName, in.Confirm); err != nil {
		return api.Failover{}, err
	}
	how := ""
	if value(in.Unprotected) {
		how = ", unprotected"
	}
	err = decide(ctx, r, s, who, func(rec *records.Recovery, d *passage) (string, error) {
		if err := decided(rec, d); err != nil {
			return "", err
		}
		if g, ok := r.Groups.Get(rec.GroupID); ok && g.Link == "" && !value(in.Unprotected) {
			return "", problem.Invalid("unprotected", "There is no link to %s, so %s can be copied nowhere. Accept it unprotected, or pair the sites first.", d.Home, rec.GroupName)
		}
		if failover.State(rec.State) != failover.Open || d.Replace != nil {
			return "", problem.Conflict("The failover of %s is %s. It can be accepted when all of its machines have started and are checked.", rec.GroupName, rec.State)
		}
		if d.stepping() {
			return "", problem.Conflict("A step of the runbook of %s is not over yet. Have it done, or go on without it, and accept it then.", rec.GroupName)
		}
		d.Accept, d.Alone, d.Stopped = &decision{By: who.String(), At: r.Clock.Now().UTC()}, value(in.Unprotected), nil
		return fmt.Sprintf("%s accepted it%s.", who, how), nil
	}, fmt.Sprintf("%s accepted the failover of %s%s", who, s.rec.GroupName, how))
	return r.orFailover(s, err)
}

// BackOutFailover gives a group back.
func (r *Recovery) BackOutFailover(ctx context.Context, who actor.Actor, id string, in api.FailoverBackOut) (api.Failover, error) {
	s, err := r.findFailover(id)
	if err != nil {
		return api.Failover{}, err
	}
	if err := confirmed(s.rec.GroupName, in.Confirm); err != nil {
		return api.Failover{}, err
	}
	why := ""
	if value(in.Reason) != "" {
		if why, err = checkReason(*in.Reason, "it is backed out"); err != nil {
			return api.Failover{}, err
		}
		why = ": " + why
	}
	err = decide(ctx, r, s, who, func(rec *records.Recovery, d *passage) (string, error) {
		if err := decided(rec, d); err != nil {
			return "", err
		}
		if slices.Contains([]failover.State{failover.Accepting, failover.Clearing, failover.Returning}, failover.State(rec.State)) {
			return "", problem.Conflict("The failover of %s is %s.", rec.GroupName, rec.State)
		}
		d.BackOut, d.Stopped = &decision{By: who.String(), At: r.Clock.Now().UTC(), Reason: strings.TrimPrefix(why, ": ")}, nil
		return fmt.Sprintf("%s backed out%s.", who, why), nil
	}, fmt.Sprintf("%s backed out of the failover of %s%s", who, s.rec.GroupName, why))
	return r.orFailover(s, err)
}

// RepointFailover starts machines anew from another point.
func (r *Recovery) RepointFailover(ctx context.Context, who actor.Actor, id string, in api.FailoverPoint) (api.Failover, error) {
	s, err := r.findFailover(id)
	if err != nil {
		return api.Failover{}, err
	}
	if err := confirmed(s.rec.GroupName, in.Confirm); err != nil {
		return api.Failover{}, err
	}
	g, err := r.Groups.Find(s.rec.GroupID)
	if err != nil {
		return api.Failover{}, err
	}
	p, err := r.choose(g, wish{in.Point, in.Choose, in.Before})
	if err != nil {
		return api.Failover{}, err
	}
	var lost int64
	for _, n := range r.Keeper.LostByMachine(p.seal) {
		lost += n
	}
	if lost > 0 && !value(in.NotWhole) {
		return api.Failover{}, problem.Invalid("notWhole", "%s of the disks cannot be read from point %d. Choose another point, or allow it with notWhole.", span.Bytes(float64(lost)), p.seal.Number)
	}
	_, was := look(r, s)
	machines, left := was.Machines, was.LeftOut
	asked := in.Machines
	if asked == nil && machines != nil {
		asked = &machines // those that are of this point as well
	}
	if machines, left, err = chosenOf(p.seal, asked); err != nil {
		return api.Failover{}, err
	}
	err = decide(ctx, r, s, who, func(rec *records.Recovery, d *passage) (string, error) {
		if err := decided(rec, d); err != nil {
			return "", err
		}
		if st := failover.State(rec.State); st != failover.Open && st != failover.Starting || d.Replace != nil {
			return "", problem.Conflict("The failover of %s is %s. Another point can be chosen when its machines start or have started.", rec.GroupName, rec.State)
		}
		d.point(rec, p.seal, p.how)
		d.NotWhole, d.Machines, d.LeftOut = value(in.NotWhole), machines, left
		d.lose(rec)
		d.Replace, d.Stopped = &decision{By: who.String(), At: r.Clock.Now().UTC()}, nil
		return fmt.Sprintf("%s chose point %d, %s: what its machines have written here is lost.", who, p.seal.Number, p.how), nil
	}, fmt.Sprintf("%s had the failover of %s start anew from point %d", who, s.rec.GroupName, p.seal.Number))
	return r.orFailover(s, err)
}

// SteerFailover stops one where it is, lets it go on, switches home off, or gives a check up.
func (r *Recovery) SteerFailover(ctx context.Context, who actor.Actor, id string, in api.FailoverSteer) (api.Failover, error) {
	s, err := r.findFailover(id)
	if err != nil {
		return api.Failover{}, err
	}
	now := r.Clock.Now().UTC()
	switch in.Action {
	case "stop":
		err = decide(ctx, r, s, who, func(rec *records.Recovery, d *passage) (string, error) {
			if err := decided(rec, d); err != nil {
				return "", err
			}
			if d.Stopped != nil {
				return "", problem.Conflict("%s has stopped it already.", d.Stopped.By)
			}
			d.Stopped = &decision{By: who.String(), At: now}
			return fmt.Sprintf("%s stopped it: nothing more is begun, and what has started runs on.", who), nil
		}, fmt.Sprintf("%s stopped the failover of %s where it is", who, s.rec.GroupName))
	case "go-on":
		err = decide(ctx, r, s, who, func(rec *records.Recovery, d *passage) (string, error) {
			if err := decided(rec, d); err != nil {
				return "", err
			}
			if d.Stopped == nil {
				return "", problem.Conflict("The failover of %s is not stopped.", rec.GroupName)
			}
			d.Stopped = nil
			return fmt.Sprintf("%s let it go on.", who), nil
		}, fmt.Sprintf("%s let the failover of %s go on", who, s.rec.GroupName))
	case "switch-off":
		err = decide(ctx, r, s, who, func(rec *records.Recovery, d *passage) (string, error) {
			if err := decided(rec, d); err != nil {
				return "", err
			}
			if failover.State(rec.State) != failover.Stopping || d.AskedDown == nil {
				return "", problem.Conflict("The failover of %s is %s: no machine at %s is waited for.", rec.GroupName, rec.State, d.Home)
			}
			d.AskedOff = true
			return fmt.Sprintf("%s had the machines at %s switched off that are not down.", who, d.Home), nil
		}, fmt.Sprintf("%s had machines of %s switched off at home", who, s.rec.GroupName))
	case "skip":
		err = r.skip(ctx, who, s, in)
	default:
		err = problem.Invalid("action", "%q is none of stop, go-on, switch-off, skip.", in.Action)
	}
	return r.orFailover(s, err)
}

// skip waits for the check of a machine no longer.
func (r *Recovery) skip(ctx context.Context, who actor.Actor, s *failing, in api.FailoverSteer) error {
	reason, err := checkReason(value(in.Reason), "its check is not waited for")
	if err != nil {
		return err
	}
	all := r.Landings.OfRecovery(s.rec.ID)
	at := slices.IndexFunc(all, func(x landing.Standing) bool {
		return strings.EqualFold(x.Name, value(in.Machine)) || strings.EqualFold(x.Home, value(in.Machine))
	})
	if at < 0 {
		var names []string
		for _, x := range all {
			names = append(names, x.Name)
		}
		if len(names) == 0 {
			return problem.Invalid("machine", "None of its machines is there yet.")
		}
		return problem.Invalid("machine", "It has no machine %q; name one of %s.", value(in.Machine), words.Joined(names, 6))
	}
	if err := r.Landings.Skip(ctx, who, all[at].ID, reason); err != nil {
		return err
	}
	return amend(ctx, r, s, func(*records.Recovery, *passage) (string, error) {
		return fmt.Sprintf("%s no longer waits for the check of %s: %s", who, all[at].Name, words.Sentence(reason)), nil
	})
}

// orFailover shows a failover after a decision, unless that was refused.
func (r *Recovery) orFailover(s *failing, err error) (api.Failover, error) {
	if err != nil {
		return api.Failover{}, err
	}
	return r.GetFailover(s.rec.ID)
}

// StepFailover decides on a step of a failover's runbook.
func (r *Recovery) StepFailover(ctx context.Context, who actor.Actor, id string, in api.StepDecision) (api.Failover, error) {
	s, err := r.findFailover(id)
	if err != nil {
		return api.Failover{}, err
	}
	m := manner[*passage]{stop: func(d *passage, by string, at time.Time) { d.Stopped = &decision{By: by, At: at} }}
	err = onStep(ctx, r, s, who, in, m, func(rec *records.Recovery, d *passage) error {
		if err := decided(rec, d); err != nil {
			return err
		}
		if in.Action == "again" && !slices.Contains([]failover.State{failover.Starting, failover.Open}, failover.State(rec.State)) {
			return problem.Conflict("The failover of %s is %s. Steps are done when its machines start or have started.", rec.GroupName, rec.State)
		}
		return nil
	})
	return r.orFailover(s, err)
}

// Gate says why machines of a wave of a drill or failover are not to start yet; empty if they
// may.
func (r *Recovery) Gate(id string, wave int) string {
	r.mu.Lock()
	defer r.mu.Unlock()
	if s := r.byID[id]; s != nil {
		return s.detail.gate(wave)
	}
	s := r.failovers[id]
	switch {
	case s == nil:
		return ""
	case s.detail.Stopped != nil:
		return "It waits: " + s.detail.Stopped.By + " has stopped the failover."
	}
	return s.detail.gate(wave)
}

// tookLast is how long the machines of a group's newest failover took to run; zero if none
// did. The lock is held.
func (r *Recovery) tookLast(id string) (took time.Duration, at time.Time) {
	for _, s := range r.failovers {
		if s.rec.GroupID == id && s.detail.Took > 0 && s.rec.StartedAt.After(at) && s.rec.State == over {
			took, at = s.detail.Took, s.rec.StartedAt
		}
	}
	return took, at
}
