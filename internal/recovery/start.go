package recovery

import (
	"context"
	"encoding/json"
	"fmt"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/google/uuid"

	"kestrel/internal/api"
	"kestrel/internal/core/actor"
	"kestrel/internal/core/berth"
	"kestrel/internal/core/drill"
	"kestrel/internal/core/group"
	"kestrel/internal/core/span"
	"kestrel/internal/directory"
	"kestrel/internal/landing"
	"kestrel/internal/points"
	"kestrel/internal/problem"
	"kestrel/internal/records"
)

const (
	usualSpan = 2 * time.Hour // for which a drill is open if nobody says how long
	leastSpan = time.Minute
	mostSpan  = 14 * span.Day
	// calm is how far back an unusual change counts when the newest point before it is wanted.
	calm = 14 * span.Day
)

// ways are how a point can be chosen.
func ways() []string { return []string{"newest", "application", "proved", "calm", "before"} }

// chosen is a point, and how it was chosen in words.
type chosen struct {
	seal *points.Seal
	how  string
}

// wish says which point is wanted.
type wish struct {
	Point, Choose *string
	Before        *time.Time
}

// choose finds the point that is wanted of a group.
func (r *Recovery) choose(g directory.Record, in wish) (chosen, error) {
	held := slices.Clone(r.Keeper.Seals(g.ID))
	if len(held) == 0 {
		return chosen{}, problem.Conflict("There is no point of %s here.", g.Spec.Name)
	}
	slices.SortFunc(held, func(a, b *points.Seal) int { return b.CaptureAt.Compare(a.CaptureAt) })
	pick := func(how string, fits func(x *points.Seal) bool) (chosen, error) {
		at := slices.IndexFunc(held, fits)
		if at < 0 {
			return chosen{}, problem.Invalid("choose", "%s has no point here that is %s; its points are on its page.", g.Spec.Name, how)
		}
		return chosen{held[at], how}, nil
	}
	if p := value(in.Point); p != "" {
		number, err := strconv.ParseInt(p, 10, 64)
		at := slices.IndexFunc(held, func(x *points.Seal) bool { return x.Point == p || err == nil && x.Number == number })
		if at < 0 {
			return chosen{}, problem.Invalid("point", "%s has no point %s here; give its ID or its number.", g.Spec.Name, p)
		}
		return chosen{held[at], "chosen by hand"}, nil
	}
	now := r.Clock.Now()
	switch way := value(in.Choose); way {
	case "", "newest":
		return chosen{held[0], "the newest"}, nil
	case "application":
		return pick("the newest that is application-consistent", func(x *points.Seal) bool { return x.Consistency == "application" })
	case "proved":
		return pick("the newest that a drill has proved", func(x *points.Seal) bool { return !r.Proved(x.Point).IsZero() })
	case "calm":
		var first time.Time
		for _, x := range held { // the newest first
			if x.Unusual != "" && now.Sub(x.CaptureAt) < calm {
				first = x.CaptureAt
			}
		}
		return pick("the newest before unusual change", func(x *points.Seal) bool { return first.IsZero() || x.CaptureAt.Before(first) })
	case "before":
		if in.Before == nil {
			return chosen{}, problem.Invalid("before", "Give the time before which the point is to have been captured.")
		}
		return pick("the newest before "+in.Before.UTC().Format("2006-01-02 15:04:05 MST"), func(x *points.Seal) bool { return x.CaptureAt.Before(*in.Before) })
	default:
		return chosen{}, problem.Invalid("choose", "%q is none of %s.", way, strings.Join(ways(), ", "))
	}
}

func value[T any](p *T) T {
	if p == nil {
		var zero T
		return zero
	}
	return *p
}

// landingOf is how machines of a drill arrive. A network of the same name as at home is no
// matter where it is isolated, which is looked at apart.
func landingOf(point string, machines []string, notWhole bool) api.NewLanding {
	in := api.NewLanding{Point: point, Berth: new(string(berth.Drill)), NotWhole: &notWhole, HomeNetwork: new(true)}
	if machines != nil {
		in.Machines = &machines
	}
	return in
}

// prepared is a drill that could begin.
type prepared struct {
	group  directory.Record
	record records.Recovery
	detail detail
	plan   api.DrillPlan
}

// prepare checks all of what is asked for.
func (r *Recovery) prepare(ctx context.Context, who actor.Actor, id string, in api.NewDrill) (prepared, error) {
	g, err := r.Groups.Find(id)
	if err != nil {
		return prepared{}, err
	}
	if g.Direction == directory.Out {
		return prepared{}, problem.Conflict("The points of %s are held at %s. Try its recovery there.", g.Spec.Name, g.RecoveryName)
	}
	if r.underWay(g.ID) {
		return prepared{}, underWay(g.Spec.Name)
	}
	p, err := r.choose(g, wish{in.Point, in.Choose, in.Before})
	if err != nil {
		return prepared{}, err
	}
	now := r.Clock.Now().UTC()
	lasts := usualSpan
	if in.ForSeconds != nil {
		lasts = time.Duration(*in.ForSeconds) * time.Second
	}
	if lasts < leastSpan || lasts > mostSpan {
		return prepared{}, problem.Invalid("forSeconds", "A drill is open for %s to %s.", span.Format(leastSpan), span.Format(mostSpan))
	}
	var machines []string
	if in.Machines != nil {
		machines = *in.Machines
	}
	steps := course{Runbook: r.steps(g.ID, true, value(in.Once))}
	insists := in.Insist != nil
	would := landingOf(p.seal.Point, machines, value(in.NotWhole))
	r.lookAnew(ctx)
	planned, open, err := r.Landings.Plan(ctx, who, would, nil)
	if err != nil {
		return prepared{}, err
	}
	if len(open) > 0 && !insists {
		var faults []problem.Field
		for _, o := range open {
			faults = append(faults, problem.Field{Field: "insist", Message: o + " Choose an isolated network in the group's berth; or insist, with the group's name and why."})
		}
		return prepared{}, problem.InvalidFields(faults...)
	}
	x := prepared{group: g, detail: detail{Home: g.HomeName, PointNumber: p.seal.Number, CaptureAt: p.seal.CaptureAt, Consistency: p.seal.Consistency, Chosen: p.how, Machines: machines, NotWhole: value(in.NotWhole), Alone: value(in.Once), RTO: g.Spec.RTO,
		Until: new(now.Add(lasts)), NewestAt: r.Keeper.Holding(g.ID).NewestAt, Open: open, tale: tale{course: steps}}}
	if insists {
		reason := strings.TrimSpace(in.Insist.Reason)
		switch {
		case in.Insist.Group != g.Spec.Name:
			return prepared{}, problem.Invalid("insist.group", "Write the group's name, %s, as it is.", g.Spec.Name)
		case group.CheckName(reason, group.MaxReason) != "":
			return prepared{}, problem.Invalid("insist.reason", "Say why, in one line of at most %d characters: the record of the drill keeps it.", group.MaxReason)
		}
		x.detail.Reason = reason
	}
	x.record = records.Recovery{ID: uuid.NewString(), Kind: Kind, GroupID: g.ID, GroupName: g.Spec.Name, Point: p.seal.Point, State: string(drill.Starting), StartedBy: who.String(), StartedAt: now}
	x.plan = api.DrillPlan{Group: g.ID, GroupName: g.Spec.Name, Point: p.seal.Point, PointNumber: p.seal.Number, CaptureAt: p.seal.CaptureAt, Consistency: p.seal.Consistency, Chosen: p.how, LosesSeconds: max(0, int64(now.Sub(p.seal.CaptureAt)/time.Second)),
		Machines: plannedViews(planned), Runbook: stepsView(steps, r.expected(g.ID), true), Open: append([]string{}, open...), OpenForSeconds: int64(lasts / time.Second), RtoTargetSeconds: int64(g.Spec.RTO / time.Second), Once: x.detail.Alone}
	if took := r.lastTook(g.ID); took > 0 {
		x.plan.LastTookSeconds = new(int64(took / time.Second))
	}
	return x, nil
}

// plannedViews shows machines as they would arrive.
func plannedViews(planned []landing.Planned) []api.DrillPlanMachine {
	out := []api.DrillPlanMachine{}
	for _, m := range planned {
		v := api.DrillPlanMachine{Machine: m.Machine, Name: m.Name, Wave: m.Wave, Networks: append([]string{}, m.Networks...)}
		if m.Check != "" {
			v.Check = &m.Check
		}
		if m.CPUs > 0 {
			v.Cpus = &m.CPUs
		}
		if m.Memory > 0 {
			v.MemoryBytes = &m.Memory
		}
		if m.InPlace {
			v.InPlace = &m.InPlace
		}
		out = append(out, v)
	}
	return out
}

func underWay(group string) error {
	return problem.Conflict("A drill or failover of %s is under way. End it first.", group)
}

func (r *Recovery) underWay(group string) bool {
	r.mu.Lock()
	defer r.mu.Unlock()
	for _, s := range r.byID {
		if s.rec.GroupID == group && s.rec.State != over {
			return true
		}
	}
	for _, s := range r.failovers {
		if s.rec.GroupID == group && s.rec.State != over {
			return true
		}
	}
	return false
}

// lastTook is how long the machines of a group's newest drill that passed took to run; zero if
// none did.
func (r *Recovery) lastTook(group string) time.Duration {
	r.mu.Lock()
	defer r.mu.Unlock()
	var best *state
	for _, s := range r.byID {
		if s.rec.GroupID == group && s.rec.Result == string(drill.Passed) && (best == nil || s.rec.StartedAt.After(best.rec.StartedAt)) {
			best = s
		}
	}
	took, at := r.tookLast(group)
	if best == nil || best.rec.StartedAt.Before(at) {
		return took
	}
	return best.detail.Took
}

// Plan says what a drill would do, and changes nothing.
func (r *Recovery) Plan(ctx context.Context, who actor.Actor, id string, in api.NewDrill) (api.DrillPlan, error) {
	x, err := r.prepare(ctx, who, id, in)
	return x.plan, err
}

// Start begins a drill.
func (r *Recovery) Start(ctx context.Context, who actor.Actor, id string, in api.NewDrill) (api.Drill, error) {
	return r.begin(ctx, who, id, in, begun{})
}

// begun is by what a drill is begun, other than a person: a round, or whatever gives it the ID.
type begun struct{ round, id string }

// begin is Start. One whose ID is given begins once, however often it is called.
func (r *Recovery) begin(ctx context.Context, who actor.Actor, id string, in api.NewDrill, by begun) (api.Drill, error) {
	if by.id != "" {
		if v, err := r.Get(by.id); err == nil {
			return v, nil
		}
	}
	x, err := r.prepare(ctx, who, id, in)
	if err != nil {
		return api.Drill{}, err
	}
	x.detail.Round = by.round
	if by.id != "" {
		x.record.ID = by.id
	}
	x.detail.Steps = []step{{x.record.StartedAt, fmt.Sprintf("%s began it, from point %d, %s.", who, x.detail.PointNumber, x.detail.Chosen)}}
	if x.record.Detail, err = json.Marshal(x.detail); err != nil {
		return api.Drill{}, err
	}
	s := &state{rec: x.record, detail: x.detail}
	text := ""
	if x.detail.Reason != "" {
		text = " in networks that are not isolated: " + x.detail.Reason
	}
	err = r.Trail.Do(ctx, who, object(x.record), func(ctx context.Context) error { return r.DB.AddRecovery(ctx, x.record) }, "%s began a drill of %s from point %d%s", who, x.record.GroupName, x.detail.PointNumber, text)
	if records.Taken(err, records.RecoveryOpen) {
		return api.Drill{}, underWay(x.record.GroupName)
	}
	if err != nil {
		return api.Drill{}, err
	}
	r.mu.Lock()
	r.byID[s.rec.ID] = s
	r.mu.Unlock()
	if _, err := r.Operations.StartAs(ctx, s.rec.ID, who, Kind, s.rec.GroupName, input{s.rec.ID}); err != nil {
		return api.Drill{}, err
	}
	return r.Get(s.rec.ID)
}

// End asks for a drill's end, with what somebody says of it. What was said stays.
func (r *Recovery) End(ctx context.Context, who actor.Actor, id string, in api.DrillEnd) (api.Drill, error) {
	s, err := r.find(id)
	if err != nil {
		return api.Drill{}, err
	}
	note := strings.TrimSpace(value(in.Note))
	if len([]rune(note)) > maxNote || strings.ContainsAny(note, "\x00") {
		return api.Drill{}, problem.Invalid("note", "A note has at most %d characters.", maxNote)
	}
	said := ""
	if in.Passed != nil {
		said = map[bool]string{true: ": it passed", false: ": it failed"}[*in.Passed]
	}
	e := &ending{By: who.String(), At: r.Clock.Now().UTC(), Passed: in.Passed, Note: note, Keep: value(in.Keep)}
	err = decide(ctx, r, s, who, func(rec *records.Recovery, d *detail) (string, error) {
		if state := drill.State(rec.State); d.Ended != nil || state == drill.Clearing || state == drill.Over {
			return "", problem.Conflict("The drill of %s has ended already.", rec.GroupName)
		}
		d.Ended = e
		return fmt.Sprintf("%s ended it%s.", who, said), nil
	}, fmt.Sprintf("%s ended the drill of %s%s", who, s.rec.GroupName, said))
	if err != nil {
		return api.Drill{}, err
	}
	return r.Get(s.rec.ID)
}

// StepDrill decides on a step of a drill's runbook.
func (r *Recovery) StepDrill(ctx context.Context, who actor.Actor, id string, in api.StepDecision) (api.Drill, error) {
	s, err := r.find(id)
	if err != nil {
		return api.Drill{}, err
	}
	m := manner[*detail]{drill: true, stop: func(d *detail, by string, at time.Time) { d.Ended = &ending{By: by, At: at} }}
	err = onStep(ctx, r, s, who, in, m, func(rec *records.Recovery, d *detail) error {
		if state := drill.State(rec.State); d.Ended != nil || state == drill.Clearing || state == drill.Over {
			return problem.Conflict("The drill of %s has ended already.", rec.GroupName)
		}
		return nil
	})
	if err != nil {
		return api.Drill{}, err
	}
	return r.Get(s.rec.ID)
}

// maxNote bounds what somebody says of a drill, in characters.
const maxNote = 2000
