package recovery

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"github.com/google/uuid"

	"kestrel/internal/api"
	"kestrel/internal/audit"
	"kestrel/internal/core/actor"
	"kestrel/internal/core/drill"
	"kestrel/internal/core/exposure"
	"kestrel/internal/core/failover"
	"kestrel/internal/core/flotilla"
	"kestrel/internal/core/group"
	"kestrel/internal/core/span"
	"kestrel/internal/core/words"
	"kestrel/internal/directory"
	"kestrel/internal/operation"
	"kestrel/internal/problem"
	"kestrel/internal/records"
)

// FlotillaKind is that of the operations, and of the records, of several groups that are
// recovered together.
const FlotillaKind = "flotilla"

// flotillaPulses is how often a member that was refused is tried again, in looks.
const flotillaPulses = 20

// squad is what the record of a flotilla holds beside its columns.
type squad struct {
	Drill   bool            `json:"drill,omitempty"`
	Planned bool            `json:"planned,omitempty"`
	Asked   api.NewFlotilla `json:"asked"`
	By      actor.Actor     `json:"by"`
	Stages  [][]string      `json:"stages"` // IDs of groups
	Members []member        `json:"members"`
	Stopped *decision       `json:"stopped,omitempty"`
	UpAt    time.Time       `json:"upAt"`
	tale
}

// member is a group of a flotilla. Its recovery's ID is made beforehand, so that it begins
// once whatever the service goes through.
type member struct {
	Group    string    `json:"group"`
	Name     string    `json:"name"`
	Home     string    `json:"home"`
	Needs    []string  `json:"needs,omitempty"` // names
	Recovery string    `json:"recovery"`
	Point    string    `json:"point,omitempty"` // empty of a planned failover
	Number   int64     `json:"number"`
	Capture  time.Time `json:"capture"`
	Refused  string    `json:"refused,omitempty"` // why it could not begin, the last time
	RetryAt  time.Time `json:"retryAt"`
	Skipped  *decision `json:"skipped,omitempty"`
}

type sailing = kept[squad]

func (d squad) stage(group string) int {
	for i, s := range d.Stages {
		if slices.Contains(s, group) {
			return i + 1
		}
	}
	return 0
}

// state is how far a member is, with what is known of its recovery.
func (r *Recovery) memberState(m member, inDrill bool) (st flotilla.State, is, result, says string) {
	switch {
	case m.Skipped != nil:
		st, says = flotilla.Skipped, fmt.Sprintf("%s went on without it: %s", m.Skipped.By, words.Sentence(m.Skipped.Reason))
	case m.Refused != "":
		st, says = flotilla.Refused, m.Refused
	default:
		st = flotilla.Waits
	}
	r.mu.Lock()
	defer r.mu.Unlock()
	if s := r.byID[m.Recovery]; inDrill && s != nil {
		is, result, says = s.rec.State, s.rec.Result, s.detail.Error
		return progressOf(is, drill.State(is) == drill.Open || drill.State(is) == drill.Clearing), is, result, says
	}
	if s := r.failovers[m.Recovery]; !inDrill && s != nil {
		is, result, says = s.rec.State, s.rec.Result, s.detail.Error
		if s.detail.Stopped != nil {
			says = "It was stopped by " + s.detail.Stopped.By + "."
		}
		return progressOf(is, failover.State(is) == failover.Open || failover.State(is) == failover.Accepting), is, result, says
	}
	return st, "", "", says
}

func progressOf(state string, up bool) flotilla.State {
	switch {
	case state == over:
		return flotilla.Over
	case up:
		return flotilla.Up
	}
	return flotilla.Starts
}

// crew is a flotilla that could begin.
type crew struct {
	title   string
	squad   squad
	plans   []api.FlotillaMember
	bars    []problem.Field
	instant time.Time
	spread  time.Duration
}

// fleet finds the groups that are asked for.
func (r *Recovery) fleet(in api.NewFlotilla) (out []directory.Record, title string, err error) {
	var faults []problem.Field
	fault := func(field, format string, a ...any) {
		faults = append(faults, problem.Field{Field: field, Message: fmt.Sprintf(format, a...)})
	}
	add := func(g directory.Record) {
		if !slices.ContainsFunc(out, func(o directory.Record) bool { return o.ID == g.ID }) {
			out = append(out, g)
		}
	}
	home := strings.TrimSpace(value(in.Home))
	for _, g := range r.Groups.All() {
		if home != "" && strings.EqualFold(g.HomeName, home) && (g.Direction == directory.In || g.Direction == directory.Ended && !value(in.Planned)) && len(r.Keeper.Seals(g.ID)) > 0 {
			title = g.HomeName
			add(g)
		}
	}
	if home != "" && title == "" {
		fault("home", "No group comes here from a site %q, of which there is a point.", home)
	}
	for i, text := range value(in.Groups) {
		g, err := r.Groups.Find(text)
		if err != nil {
			fault(fmt.Sprintf("groups[%d]", i), "There is no group %q here.", text)
			continue
		}
		add(g)
	}
	for i, text := range value(in.Without) {
		g, err := r.Groups.Find(text)
		if err != nil {
			fault(fmt.Sprintf("without[%d]", i), "There is no group %q here.", text)
			continue
		}
		out = slices.DeleteFunc(out, func(o directory.Record) bool { return o.ID == g.ID })
	}
	if len(faults) == 0 && len(out) == 0 {
		fault("groups", "Name groups, or the site that they come from.")
	}
	if len(faults) > 0 {
		return nil, "", problem.InvalidFields(faults...)
	}
	if title == "" || len(value(in.Groups)) > 0 {
		title = words.Count(len(out), "group")
	}
	return out, title, nil
}

func priority(p group.Priority) int {
	return 1 + max(0, slices.Index([]group.Priority{group.High, group.Normal, group.Low}, p))
}

// muster finds out in what order groups would be recovered, from which points, and what bars it.
func (r *Recovery) muster(ctx context.Context, who actor.Actor, in api.NewFlotilla) (crew, error) {
	inDrill, planned, near := value(in.Drill), value(in.Planned), value(in.Choose) == "near"
	switch {
	case inDrill && planned:
		return crew{}, problem.Invalid("planned", "A drill leaves home alone: leave it out.")
	case planned && (value(in.Choose) != "" || in.Before != nil):
		return crew{}, problem.Invalid("choose", "Planned failovers start from what is copied last. Leave it out.")
	}
	all, title, err := r.fleet(in)
	if err != nil {
		return crew{}, err
	}
	if p := slices.IndexFunc(all, func(g directory.Record) bool { return g.Spec.Name == title }); p >= 0 {
		title = "groups of " + title
	}
	c := crew{title: title, squad: squad{Drill: inDrill, Planned: planned, Asked: in, By: who}}
	named := map[string]string{}
	for _, g := range all {
		named[strings.ToLower(g.Spec.Name)], named[g.ID] = g.ID, g.ID
	}
	var order []flotilla.Member
	for _, g := range all {
		m := flotilla.Member{ID: g.ID, Name: g.Spec.Name, Priority: priority(g.Spec.Priority)}
		for _, n := range r.Needs(g.ID) {
			if id, is := named[strings.ToLower(n)]; is {
				m.Needs = append(m.Needs, id)
			}
		}
		order = append(order, m)
	}
	stages, round := flotilla.Stages(order)
	if len(round) > 0 {
		return c, problem.Conflict("%s need each other in a circle, so none can be first. Change what they need, in their berths.", words.Joined(round, 6))
	}
	c.squad.Stages = stages
	picks, err := r.picks(all, in, &c)
	if err != nil {
		return c, err
	}
	slices.SortStableFunc(all, func(a, b directory.Record) int { return c.squad.stage(a.ID) - c.squad.stage(b.ID) })
	var first, last time.Time
	for _, g := range all {
		m := member{Group: g.ID, Name: g.Spec.Name, Home: g.HomeName, Recovery: uuid.NewString()}
		for _, n := range r.Needs(g.ID) {
			if _, is := named[strings.ToLower(n)]; is {
				m.Needs = append(m.Needs, n)
			}
		}
		v := api.FlotillaMember{Group: g.ID, GroupName: g.Spec.Name, Home: g.HomeName, Stage: c.squad.stage(g.ID), Needs: append([]string{}, m.Needs...)}
		var at time.Time
		if p, is := picks[g.ID]; is && near {
			m.Point = p.Point
		}
		err := r.wouldBegin(ctx, who, in, &m, &v, &at)
		if err != nil {
			p, is := problem.Of(err)
			if !is {
				return c, err
			}
			v.Says = new(why(p))
			c.bars = append(c.bars, problem.Field{Field: "without", Message: fmt.Sprintf("%s: %s Mend it, or leave the group out.", g.Spec.Name, why(p))})
		}
		if took := r.lastTook(g.ID); took > 0 {
			v.ExpectedSeconds = new(int64(took / time.Second))
		}
		if !at.IsZero() && (first.IsZero() || at.Before(first)) {
			first = at
		}
		if at.After(last) {
			last = at
		}
		c.plans, c.squad.Members = append(c.plans, v), append(c.squad.Members, m)
	}
	c.spread = last.Sub(first)
	return c, nil
}

// picks are the points of groups that are near one instant, where that is asked for.
func (r *Recovery) picks(all []directory.Record, in api.NewFlotilla, c *crew) (map[string]flotilla.Pick, error) {
	if value(in.Choose) != "near" {
		return nil, nil
	}
	held := map[string][]flotilla.Pick{}
	for _, g := range all {
		held[g.ID] = nil
		for _, x := range r.Keeper.Seals(g.ID) {
			held[g.ID] = append(held[g.ID], flotilla.Pick{Point: x.Point, At: exposure.Shift(x.CaptureAt, x.HomeAhead)})
		}
		if len(held[g.ID]) == 0 {
			return nil, problem.Invalid("without", "There is no point of %s here. Leave it out.", g.Spec.Name)
		}
	}
	picks, instant, err := flotilla.Near(held, value(in.Before))
	c.instant = instant
	return picks, err
}

// wouldBegin checks a member, and says what its recovery would be.
func (r *Recovery) wouldBegin(ctx context.Context, who actor.Actor, in api.NewFlotilla, m *member, v *api.FlotillaMember, at *time.Time) error {
	if value(in.Drill) {
		x, err := r.prepare(ctx, who, m.Group, drillOf(in, *m))
		if err != nil {
			return err
		}
		m.Point, m.Number, m.Capture, *at = x.record.Point, x.detail.PointNumber, x.detail.CaptureAt, x.detail.CaptureAt
		v.LosesSeconds = &x.plan.LosesSeconds
	} else {
		x, err := r.ready(ctx, who, m.Group, failoverOf(in, *m))
		if err != nil {
			return err
		}
		m.Number, m.Capture, *at = x.passage.PointNumber, x.passage.CaptureAt, x.passage.Captured
		if !x.passage.Planned {
			m.Point = x.record.Point
			v.LosesSeconds = new(int64(x.passage.Lost / time.Second))
			if x.home.answers && value(in.Reason) == "" && in.Confirm != nil {
				return problem.Invalid("reason", "%s answers, so say why it is not planned.", x.group.HomeName)
			}
		}
		v.Says = text(strings.Join(x.home.known, " "))
	}
	v.Point, v.PointNumber, v.CaptureAt = text(m.Point), &m.Number, orNil(m.Capture)
	return nil
}

// drillOf and failoverOf are what a member's recovery is asked for with.
func drillOf(in api.NewFlotilla, m member) api.NewDrill {
	out := api.NewDrill{NotWhole: in.NotWhole, Choose: in.Choose, Before: in.Before}
	if m.Point != "" {
		out.Point, out.Choose, out.Before = &m.Point, nil, nil
	}
	return out
}

func failoverOf(in api.NewFlotilla, m member) api.NewFailover {
	out := api.NewFailover{Planned: in.Planned, NotWhole: in.NotWhole, Force: in.Force, DownSeconds: in.DownSeconds, Confirm: &m.Name, Reason: in.Reason, Choose: in.Choose, Before: in.Before}
	if m.Point != "" {
		out.Point, out.Choose, out.Before = &m.Point, nil, nil
	}
	return out
}

// costs says what a flotilla costs, in sentences.
func (c crew) costs(site string) []string {
	switch {
	case c.squad.Drill:
		return []string{"Home and its cycles are left alone. Each drill is ended by somebody, or after its time."}
	case c.squad.Planned:
		return []string{"Nothing of what is written is lost: each group's machines at home are shut down when its turn comes, and what they wrote last is copied before they start at " + site + "."}
	}
	text := "What was written after these points is not here. Homes are asked for nothing; what lives there has to be shut down by somebody."
	if value(c.squad.Asked.Choose) == "near" {
		text += fmt.Sprintf(" The points are within %s of each other.", span.Format(max(time.Second, c.spread.Round(time.Second))))
	}
	return []string{text}
}

// PlanFlotilla says what recovering several groups would do, and changes nothing.
func (r *Recovery) PlanFlotilla(ctx context.Context, who actor.Actor, in api.NewFlotilla) (api.FlotillaPlan, error) {
	in.Confirm = nil
	c, err := r.muster(ctx, who, in)
	if err != nil {
		return api.FlotillaPlan{}, err
	}
	return api.FlotillaPlan{Drill: c.squad.Drill, Planned: c.squad.Planned, Title: c.title, Confirm: c.title, Members: c.plans, Instant: orNil(c.instant), SpreadSeconds: int64(c.spread / time.Second), Costs: c.costs(r.Site)}, nil
}

// StartFlotilla begins one.
func (r *Recovery) StartFlotilla(ctx context.Context, who actor.Actor, in api.NewFlotilla) (api.Flotilla, error) {
	if in.Confirm == nil {
		in.Confirm = new("")
	}
	c, err := r.muster(ctx, who, in)
	if err != nil {
		return api.Flotilla{}, err
	}
	if len(c.bars) > 0 {
		return api.Flotilla{}, problem.InvalidFields(c.bars...)
	}
	if !c.squad.Drill && *in.Confirm != c.title {
		return api.Flotilla{}, problem.Invalid("confirm", "Write %s, as it is.", c.title)
	}
	kind := "failovers"
	if c.squad.Drill {
		kind = "drills"
	}
	now := r.Clock.Now().UTC()
	line := fmt.Sprintf("%s began %s of %s together, in %s", who, kind, words.Count(len(c.squad.Members), "group"), words.Count(len(c.squad.Stages), "stage"))
	c.squad.tale.Steps = []step{{now, line + "."}}
	id := uuid.NewString()
	rec := records.Recovery{ID: id, Kind: FlotillaKind, GroupID: id, GroupName: c.title, Point: id, State: underWayState, StartedBy: who.String(), StartedAt: now}
	if rec.Detail, err = json.Marshal(c.squad); err != nil {
		return api.Flotilla{}, fmt.Errorf("record of a flotilla: %w", err)
	}
	s := &sailing{rec: rec, detail: c.squad}
	if err := r.Trail.Do(ctx, who, audit.Object{Kind: "site", Name: r.Site, ID: r.SiteID}, func(ctx context.Context) error { return r.DB.AddRecovery(ctx, rec) }, "%s", line); err != nil {
		return api.Flotilla{}, err
	}
	r.mu.Lock()
	r.flotillas[id] = s
	r.mu.Unlock()
	if _, err := r.Operations.StartAs(ctx, id, who, FlotillaKind, c.title, input{id}); err != nil {
		return api.Flotilla{}, err
	}
	return r.GetFlotilla(id)
}

// underWayState is that of a flotilla that is not over.
const underWayState = "under way"

// runFlotilla drives one until all of its members are over.
func (r *Recovery) runFlotilla(ctx context.Context, w *operation.Work) (string, error) {
	var in input
	if err := w.Input(&in); err != nil {
		return "", err
	}
	r.mu.Lock()
	s := r.flotillas[in.Drill]
	r.mu.Unlock()
	if s == nil {
		return "The flotilla is not known here.", nil
	}
	if err := drive(ctx, r, s, func(ctx context.Context) error { return r.sail(ctx, s) }); err != nil {
		return "", err
	}
	v, err := r.GetFlotilla(in.Drill)
	return v.Says, err
}

// sail takes a flotilla one look further.
func (r *Recovery) sail(ctx context.Context, s *sailing) error {
	_, d := look(r, s)
	states := map[string]flotilla.State{}
	ended, up := true, true
	for _, m := range d.Members {
		st, _, _, _ := r.memberState(m, d.Drill)
		states[m.Group] = st
		ended = ended && (st == flotilla.Over || st == flotilla.Skipped)
		up = up && (st == flotilla.Up || st == flotilla.Over || st == flotilla.Skipped)
	}
	if up && d.UpAt.IsZero() {
		return amend(ctx, r, s, func(_ *records.Recovery, d *squad) (string, error) {
			d.UpAt = r.Clock.Now().UTC()
			return "All groups have come up.", nil
		})
	}
	if ended {
		return amend(ctx, r, s, func(rec *records.Recovery, d *squad) (string, error) {
			rec.State = over
			return "All of them are over.", nil
		})
	}
	if d.Stopped != nil {
		return nil
	}
	var errs []error
	for _, id := range flotilla.Turn(d.Stages, func(id string) flotilla.State { return states[id] }) {
		at := slices.IndexFunc(d.Members, func(m member) bool { return m.Group == id })
		errs = append(errs, r.launch(ctx, s, d, d.Members[at]))
	}
	return errors.Join(errs...)
}

// launch begins a member's recovery. What refuses it is kept, and it is tried again later.
func (r *Recovery) launch(ctx context.Context, s *sailing, d squad, m member) error {
	now := r.Clock.Now()
	if now.Before(m.RetryAt) {
		return nil
	}
	var err error
	if d.Drill {
		_, err = r.begin(ctx, d.By, m.Group, drillOf(d.Asked, m), begun{id: m.Recovery})
	} else {
		_, err = r.startFailover(ctx, d.By, m.Group, failoverOf(d.Asked, m), m.Recovery)
	}
	if ctx.Err() != nil {
		return ctx.Err()
	}
	said := ""
	if err != nil {
		p, is := problem.Of(err)
		if !is {
			return fmt.Errorf("begin the recovery of %s: %w", m.Name, err)
		}
		said = why(p)
	}
	return amend(ctx, r, s, func(_ *records.Recovery, d *squad) (string, error) {
		at := slices.IndexFunc(d.Members, func(x member) bool { return x.Group == m.Group })
		x := &d.Members[at]
		same := x.Refused == said
		x.Refused, x.RetryAt = said, now.Add(flotillaPulses*r.Every).UTC()
		switch {
		case said == "":
			return fmt.Sprintf("%s begins.", m.Name), nil
		case same:
			return "", nil
		}
		return fmt.Sprintf("%s cannot begin: %s", m.Name, said), nil
	})
}

func (r *Recovery) flotilla(id string) (*sailing, error) {
	r.mu.Lock()
	defer r.mu.Unlock()
	if s := r.flotillas[id]; s != nil {
		return s, nil
	}
	return nil, problem.NotFound("flotilla", id)
}

// GetFlotilla gives one by its ID.
func (r *Recovery) GetFlotilla(id string) (api.Flotilla, error) {
	s, err := r.flotilla(id)
	if err != nil {
		return api.Flotilla{}, err
	}
	return r.flotillaView(s), nil
}

func (r *Recovery) flotillaView(s *sailing) api.Flotilla {
	rec, d := look(r, s)
	v := api.Flotilla{ID: rec.ID, Title: rec.GroupName, Drill: d.Drill, Planned: d.Planned, State: rec.State, Stopped: d.Stopped != nil, StartedAt: rec.StartedAt.UTC(), StartedBy: rec.StartedBy, UpAt: orNil(d.UpAt), EndedAt: rec.EndedAt, Members: []api.FlotillaMember{}, Steps: stepViews(d.tale.Steps)}
	var states []flotilla.State
	for _, m := range d.Members {
		st, is, result, says := r.memberState(m, d.Drill)
		states = append(states, st)
		x := api.FlotillaMember{Group: m.Group, GroupName: m.Name, Home: m.Home, Stage: d.stage(m.Group), Needs: append([]string{}, m.Needs...), State: new(string(st)), Point: text(m.Point), PointNumber: &m.Number, CaptureAt: orNil(m.Capture), RecoveryState: text(is), Result: text(result), Says: text(says)}
		if is != "" {
			x.Recovery = &m.Recovery
		}
		v.Members = append(v.Members, x)
	}
	v.Says = flotilla.Says(states)
	if d.Stopped != nil && slices.ContainsFunc(states, func(s flotilla.State) bool { return s == flotilla.Waits || s == flotilla.Refused }) {
		v.Says += " " + d.Stopped.By + " has stopped it: nothing more is begun."
	}
	return v
}

// ListFlotillas lists them, newest first.
func (r *Recovery) ListFlotillas() []api.Flotilla {
	r.mu.Lock()
	var all []*sailing
	for _, s := range r.flotillas {
		all = append(all, s)
	}
	r.mu.Unlock()
	out := []api.Flotilla{}
	for _, s := range all {
		out = append(out, r.flotillaView(s))
	}
	slices.SortFunc(out, func(a, b api.Flotilla) int { return b.StartedAt.Compare(a.StartedAt) })
	return out
}

// SteerFlotilla decides on one.
func (r *Recovery) SteerFlotilla(ctx context.Context, who actor.Actor, id string, in api.FlotillaSteer) (api.Flotilla, error) {
	s, err := r.flotilla(id)
	if err != nil {
		return api.Flotilla{}, err
	}
	rec, d := look(r, s)
	if rec.State == over {
		return api.Flotilla{}, problem.Conflict("All of %s are over.", rec.GroupName)
	}
	now := r.Clock.Now().UTC()
	switch in.Action {
	case "stop", "go-on":
		stops := in.Action == "stop"
		did := map[bool]string{true: "stopped it: nothing more is begun", false: "let it go on"}[stops]
		err = decide(ctx, r, s, who, func(_ *records.Recovery, d *squad) (string, error) {
			if stops == (d.Stopped != nil) {
				return "", problem.Conflict("%s", map[bool]string{true: "It is stopped already.", false: "It is not stopped."}[stops])
			}
			d.Stopped = nil
			if stops {
				d.Stopped = &decision{By: who.String(), At: now}
			}
			return fmt.Sprintf("%s %s.", who, did), nil
		}, fmt.Sprintf("%s, of the recovery of %s: %s", who, rec.GroupName, did))
	case "skip":
		err = r.skipMember(ctx, who, s, in)
	case "accept", "back-out":
		if value(in.Confirm) != rec.GroupName {
			return api.Flotilla{}, problem.Invalid("confirm", "Write %s, as it is.", rec.GroupName)
		}
		err = r.decideAll(ctx, who, s, d, in)
	case "end":
		err = r.decideAll(ctx, who, s, d, in)
	default:
		err = problem.Invalid("action", "%q is none of stop, go-on, skip, accept, back-out, end.", in.Action)
	}
	if err != nil {
		return api.Flotilla{}, err
	}
	return r.GetFlotilla(id)
}

// skipMember goes on without a group.
func (r *Recovery) skipMember(ctx context.Context, who actor.Actor, s *sailing, in api.FlotillaSteer) error {
	reason, err := checkReason(value(in.Reason), "it goes on without the group")
	if err != nil {
		return err
	}
	return decide(ctx, r, s, who, func(_ *records.Recovery, d *squad) (string, error) {
		at := slices.IndexFunc(d.Members, func(m member) bool {
			return m.Group == value(in.Group) || strings.EqualFold(m.Name, value(in.Group))
		})
		if at < 0 {
			return "", problem.Invalid("group", "It has no group %q.", value(in.Group))
		}
		m := &d.Members[at]
		if m.Skipped != nil {
			return "", problem.Conflict("%s was left out already.", m.Name)
		}
		m.Skipped = &decision{By: who.String(), At: r.Clock.Now().UTC(), Reason: reason}
		return fmt.Sprintf("%s goes on without %s: %s", who, m.Name, words.Sentence(reason)), nil
	}, fmt.Sprintf("%s went on without %s: %s", who, value(in.Group), reason))
}

// decideAll accepts, backs out or ends all that can be. What refuses is told.
func (r *Recovery) decideAll(ctx context.Context, who actor.Actor, s *sailing, d squad, in api.FlotillaSteer) error {
	if d.Drill != (in.Action == "end") {
		return problem.Invalid("action", "Drills are ended; failovers are accepted or backed out.")
	}
	done := 0
	var refused []problem.Field
	for _, m := range d.Members {
		st, is, _, _ := r.memberState(m, d.Drill)
		if is == "" || st == flotilla.Over {
			continue
		}
		var err error
		switch in.Action {
		case "accept":
			_, err = r.AcceptFailover(ctx, who, m.Recovery, api.FailoverAccept{Confirm: m.Name})
		case "back-out":
			_, err = r.BackOutFailover(ctx, who, m.Recovery, api.FailoverBackOut{Confirm: m.Name, Reason: in.Reason})
		default:
			_, err = r.End(ctx, who, m.Recovery, api.DrillEnd{Note: in.Reason})
		}
		if p, is := problem.Of(err); is {
			refused = append(refused, problem.Field{Field: "group", Message: m.Name + ": " + why(p)})
			continue
		}
		if err != nil {
			return err
		}
		done++
	}
	if done == 0 {
		if len(refused) == 0 {
			return problem.Conflict("None of its groups has begun.")
		}
		return problem.InvalidFields(refused...)
	}
	text := fmt.Sprintf("%s %s %s.", who, map[string]string{"accept": "accepted", "back-out": "backed out of", "end": "ended"}[in.Action], words.Count(done, map[bool]string{true: "drill", false: "failover"}[d.Drill]))
	for _, f := range refused {
		text += " Not " + f.Message
	}
	return amend(ctx, r, s, func(_ *records.Recovery, d *squad) (string, error) {
		// Whoever backs out wants no more begun.
		if in.Action != "accept" && d.Stopped == nil {
			d.Stopped = &decision{By: who.String(), At: r.Clock.Now().UTC()}
		}
		return text, nil
	})
}
