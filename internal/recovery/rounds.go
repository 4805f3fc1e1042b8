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
	"kestrel/internal/clock"
	"kestrel/internal/core/actor"
	"kestrel/internal/core/calendar"
	"kestrel/internal/core/drill"
	"kestrel/internal/core/group"
	"kestrel/internal/core/span"
	"kestrel/internal/core/words"
	"kestrel/internal/directory"
	"kestrel/internal/problem"
	"kestrel/internal/records"
)

const (
	maxRounds = 50
	maxName   = 100
	maxTimes  = 500 // characters of a calendar
	// usualHours is for how long after its time a round begins drills if nobody says how long.
	usualHours = 6 * time.Hour
	leastHours = 10 * time.Minute
	mostHours  = 24 * time.Hour
)

// round is what is kept of drills that begin by themselves besides their name.
type round struct {
	At     calendar.Calendar `json:"at"`
	Choose string            `json:"choose"`
	Hours  time.Duration     `json:"hours"` // for which it begins drills
	// Whose: by one of them; none is all that come in.
	Group string `json:"group,omitempty"` // ID
	Tier  string `json:"tier,omitempty"`
	Tag   string `json:"tag,omitempty"`
}

func (x round) fits(r directory.Record) bool {
	switch {
	case r.Direction != directory.In:
		return false
	case x.Group != "":
		return r.ID == x.Group
	case x.Tier != "":
		return r.Spec.Tier != nil && strings.EqualFold(r.Spec.Tier.Tier.Name, x.Tier)
	case x.Tag != "":
		return slices.ContainsFunc(r.Spec.Tags, func(t string) bool { return strings.EqualFold(t, x.Tag) })
	}
	return true
}

// refusal is a drill of a round that could not begin.
type refusal struct {
	At    time.Time `json:"at"`
	Group string    `json:"group"` // its name
	Why   string    `json:"why"`
}

func roundOf(rec records.DrillRound) (x round, pending []string, refused []refusal, err error) {
	err = errors.Join(json.Unmarshal(rec.Body, &x), json.Unmarshal(rec.Pending, &pending), json.Unmarshal(rec.Refused, &refused))
	if err != nil {
		err = fmt.Errorf("round %s: %w", rec.Name, err)
	}
	return x, pending, refused, err
}

// Run begins the drills of rounds until ctx ends.
func (r *Recovery) Run(ctx context.Context) {
	r.mu.Lock()
	r.ctx = ctx
	r.mu.Unlock()
	defer func() {
		r.mu.Lock()
		r.ctx = nil // nothing more is begun beside
		r.mu.Unlock()
		r.wg.Wait()
	}()
	for {
		if err := r.goRound(ctx); err != nil && ctx.Err() == nil {
			r.Log.Warn("drills that begin by themselves", "err", err)
		}
		if clock.Sleep(ctx, r.Clock, roundPulses*r.Every) != nil {
			return
		}
	}
}

// roundPulses is how often rounds are looked at, in looks at a drill.
const roundPulses = 10

func (r *Recovery) goRound(ctx context.Context) error {
	all, err := r.DB.DrillRounds(ctx)
	if err != nil {
		return err
	}
	var errs []error
	for _, rec := range all {
		errs = append(errs, r.advance(ctx, rec)) // one holds up no other
	}
	return errors.Join(errs...)
}

// advance takes a round one step further: it begins if it is due, and its drills one after the
// other.
func (r *Recovery) advance(ctx context.Context, rec records.DrillRound) error {
	x, pending, refused, err := roundOf(rec)
	if err != nil {
		return err
	}
	now := r.Clock.Now().UTC()
	if len(pending) == 0 {
		at, due, err := x.due(rec, now)
		if err != nil || !due {
			return err
		}
		for _, g := range r.Groups.All() {
			if x.fits(g) {
				pending = append(pending, g.ID)
			}
		}
		rec.BegunFor, rec.Pending = &at, encode(pending)
		err = r.DB.BeginDrillRound(ctx, rec)
		if errors.Is(err, records.ErrStale) {
			return nil
		}
		return err
	}
	if r.drilling(rec.ID) {
		return nil
	}
	id := pending[0]
	g, known := r.Groups.Get(id)
	refuse := func(why string) {
		refused = append(refused, refusal{now, g.Spec.Name, why})
		r.Trail.Note(ctx, actor.System(), audit.Object{Kind: "group", Name: g.Spec.Name, ID: id}, "The drill of %s that the round %s was to begin did not begin: %s", g.Spec.Name, rec.Name, why)
	}
	switch {
	case !known || !x.fits(g): // it has left meanwhile
	case r.drilled(rec, id): // the service was killed before that was noted
	case now.Sub(*rec.BegunFor) > x.Hours:
		refuse("the hours of the round were over")
	default:
		if _, err := r.begin(ctx, actor.System(), id, api.NewDrill{Choose: &x.Choose, Once: new(true)}, begun{round: rec.ID}); err != nil {
			p, is := problem.Of(err)
			if !is {
				return err
			}
			refuse(why(p))
		}
	}
	rec.Pending, rec.Refused = encode(pending[1:]), encode(refused)
	return r.DB.SaveDrillRound(ctx, rec)
}

// why is what a refusal says, in one line.
func why(p *problem.Problem) string {
	var out []string
	for _, f := range p.Errors {
		out = append(out, f.Message)
	}
	if len(out) == 0 {
		return p.Detail
	}
	return strings.Join(out, " ")
}

func encode(v any) []byte {
	b, err := json.Marshal(v)
	if err != nil {
		panic(err) // plain values always marshal
	}
	return b
}

// due is the last time of a round's calendar that it has not begun for. One that is long past
// is left out: nobody expects drills by day that were to be at night.
func (x round) due(rec records.DrillRound, now time.Time) (at time.Time, ok bool, err error) {
	from := rec.MadeAt
	if rec.BegunFor != nil {
		from = *rec.BegunFor
	}
	at, ok, err = x.At.Last(from, now)
	return at, ok && now.Sub(at) <= x.Hours, err
}

// drilling tells whether a drill of a round is under way.
func (r *Recovery) drilling(round string) bool {
	r.mu.Lock()
	defer r.mu.Unlock()
	for _, s := range r.byID {
		if s.detail.Round == round && drill.State(s.rec.State) != drill.Over {
			return true
		}
	}
	return false
}

// drilled tells whether a round began a drill of a group since it last began.
func (r *Recovery) drilled(rec records.DrillRound, group string) bool {
	r.mu.Lock()
	defer r.mu.Unlock()
	for _, s := range r.byID {
		if s.detail.Round == rec.ID && s.rec.GroupID == group && !s.rec.StartedAt.Before(*rec.BegunFor) {
			return true
		}
	}
	return false
}

// Rounds lists the drills that begin by themselves.
func (r *Recovery) Rounds(ctx context.Context) ([]api.DrillRound, error) {
	all, err := r.DB.DrillRounds(ctx)
	if err != nil {
		return nil, err
	}
	out := []api.DrillRound{}
	for _, rec := range all {
		v, err := r.roundView(rec)
		if err != nil {
			return nil, err
		}
		out = append(out, v)
	}
	return out, nil
}

func (r *Recovery) roundView(rec records.DrillRound) (api.DrillRound, error) {
	x, pending, refused, err := roundOf(rec)
	if err != nil {
		return api.DrillRound{}, err
	}
	v := api.DrillRound{ID: rec.ID, Name: rec.Name, At: x.At.Words(), Zone: text(x.At.Zone), Words: x.At.Words(), Choose: &x.Choose, HoursSeconds: new(int64(x.Hours / time.Second)), Tier: text(x.Tier), Tag: text(x.Tag), Groups: []string{}, Pending: len(pending), Refused: []api.DrillRefused{}, BegunFor: rec.BegunFor}
	if x.At.Zone != "" {
		v.Words += " (" + x.At.Zone + ")"
	}
	for _, g := range r.Groups.All() {
		if x.fits(g) {
			v.Groups = append(v.Groups, g.Spec.Name)
		}
		if g.ID == x.Group {
			v.Group = new(g.Spec.Name)
		}
	}
	for _, f := range refused {
		v.Refused = append(v.Refused, api.DrillRefused{At: f.At, Group: f.Group, Why: f.Why})
	}
	if s, ok, err := x.At.After(r.Clock.Now()); err == nil && ok {
		v.NextAt = new(s.At.UTC())
	}
	return v, nil
}

// AddRound has drills begin by themselves.
func (r *Recovery) AddRound(ctx context.Context, who actor.Actor, in api.NewDrillRound) (api.DrillRound, error) {
	name := strings.TrimSpace(in.Name)
	x := round{Choose: value(in.Choose), Hours: usualHours, Tier: strings.TrimSpace(value(in.Tier)), Tag: strings.TrimSpace(value(in.Tag))}
	if x.Choose == "" {
		x.Choose = "newest"
	}
	if in.HoursSeconds != nil {
		x.Hours = time.Duration(*in.HoursSeconds) * time.Second
	}
	var faults []problem.Field
	fault := func(field, format string, a ...any) {
		faults = append(faults, problem.Field{Field: field, Message: fmt.Sprintf(format, a...)})
	}
	if why := group.CheckName(name, maxName); why != "" {
		fault("name", "%s", words.Sentence(why))
	}
	if len([]rune(in.At)) > maxTimes {
		fault("at", "Times have at most %d characters.", maxTimes)
	} else if _, err := calendar.Location(value(in.Zone)); err != nil {
		fault("zone", "%s", words.Sentence(err.Error()))
	} else if c, err := calendar.Parse(in.At, value(in.Zone)); err != nil {
		fault("at", "%s", words.Sentence(err.Error()))
	} else {
		x.At = c
	}
	if x.Hours < leastHours || x.Hours > mostHours {
		fault("hoursSeconds", "Drills begin within %s to %s.", span.Format(leastHours), span.Format(mostHours))
	}
	if x.Choose == "before" || !slices.Contains(ways(), x.Choose) {
		fault("choose", "%q is none of newest, application, proved, calm.", x.Choose)
	}
	if id := value(in.Group); id != "" {
		g, err := r.Groups.Find(id)
		switch {
		case err != nil:
			fault("group", "There is no group %q here.", id)
		case g.Direction != directory.In:
			fault("group", "The points of %s are not kept here; its drills are at %s.", g.Spec.Name, g.RecoveryName)
		default:
			x.Group = g.ID
		}
	}
	n := 0
	for _, s := range []string{x.Group, x.Tier, x.Tag} {
		if s != "" {
			n++
		}
		if len([]rune(s)) > maxName {
			fault("tag", "A name has at most %d characters.", maxName)
		}
	}
	if n > 1 {
		fault("group", "Choose groups by one of group, tier and tag.")
	}
	if len(faults) > 0 {
		return api.DrillRound{}, problem.InvalidFields(faults...)
	}
	all, err := r.DB.DrillRounds(ctx)
	if err != nil {
		return api.DrillRound{}, err
	}
	if len(all) >= maxRounds {
		return api.DrillRound{}, problem.Conflict("There are %d rounds already; remove one.", maxRounds)
	}
	rec := records.DrillRound{ID: uuid.NewString(), Name: name, Body: encode(x), MadeAt: r.Clock.Now().UTC(), Pending: []byte("[]"), Refused: []byte("[]")}
	err = r.Trail.Do(ctx, who, audit.Object{Kind: "site", Name: name}, func(ctx context.Context) error { return r.DB.AddDrillRound(ctx, rec) }, "%s has drills begin by themselves: %s, %s", who, name, x.At.Words())
	if records.Taken(err, records.DrillRoundName) {
		return api.DrillRound{}, problem.Invalid("name", "There is a round %q already.", name)
	}
	if err != nil {
		return api.DrillRound{}, err
	}
	return r.roundView(rec)
}

// RemoveRound has them begin no more, by its ID or its name.
func (r *Recovery) RemoveRound(ctx context.Context, who actor.Actor, id string) error {
	all, err := r.DB.DrillRounds(ctx)
	if err != nil {
		return err
	}
	for _, rec := range all {
		if rec.ID == id || strings.EqualFold(rec.Name, id) {
			return r.Trail.Do(ctx, who, audit.Object{Kind: "site", Name: rec.Name}, func(ctx context.Context) error { return r.DB.DeleteDrillRound(ctx, rec.ID) }, "%s has the drills of %s begin no more", who, rec.Name)
		}
	}
	return problem.NotFound("round", id)
}
