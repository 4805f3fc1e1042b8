// Package safeguard keeps what a site demands of its people: second factors, and a
// second person's consent for what destroys.
package safeguard

import (
	"cmp"
	"context"
	"crypto/sha256"
	"encoding/json"
	"errors"
	"fmt"
	"slices"
	"strings"
	"sync"
	"time"

	"github.com/google/uuid"

	"kestrel/internal/api"
	"kestrel/internal/audit"
	"kestrel/internal/clock"
	"kestrel/internal/core/actor"
	"kestrel/internal/core/consent"
	"kestrel/internal/core/ident"
	"kestrel/internal/core/span"
	"kestrel/internal/events"
	"kestrel/internal/problem"
	"kestrel/internal/records"
)

// shownFor is how long consents are listed after they were answered.
const shownFor = 7 * 24 * time.Hour

// openMost is how many acts of one person may wait at once.
const openMost = 50

// Safeguards is the room.
type Safeguards struct {
	db    *records.DB
	trail *audit.Trail
	clk   clock.Clock
	hub   *events.Hub

	mu  sync.Mutex
	now records.Safeguards
}

// Open reads what is demanded.
func Open(ctx context.Context, db *records.DB, trail *audit.Trail, clk clock.Clock, hub *events.Hub) (*Safeguards, error) {
	s := &Safeguards{db: db, trail: trail, clk: clk, hub: hub}
	return s, s.Refresh(ctx)
}

// Refresh reads anew what may have been changed on the host, and ends what was not
// answered in time.
func (s *Safeguards) Refresh(ctx context.Context) error {
	now, err := s.db.Safeguards(ctx)
	if err != nil {
		return err
	}
	s.mu.Lock()
	s.now = now
	s.mu.Unlock()
	all, err := s.db.Consents(ctx, s.clk.Now())
	for _, c := range all {
		if (c.Answer == "" || c.Answer == "given") && !s.clk.Now().Before(c.Until) {
			if _, err := s.answer(ctx, actor.System(), c, "expired", "Nobody did in time what %s asked for: %s", c.AskedBy, c.What); err != nil && !errors.Is(err, records.ErrStale) {
				return err
			}
		}
	}
	return err
}

func (s *Safeguards) held() records.Safeguards {
	s.mu.Lock()
	defer s.mu.Unlock()
	return s.now
}

// DemandsSecondFactor tells whether people of a role have to have one.
func (s *Safeguards) DemandsSecondFactor(role string) bool {
	return slices.Contains(s.held().SecondFactor, role)
}

// WaivedUntil is until when nobody has to consent, if that was said on the host and
// anything needs consent otherwise.
func (s *Safeguards) WaivedUntil() (time.Time, bool) {
	h := s.held()
	if len(h.Consent) == 0 || h.WaivedUntil == nil || !s.clk.Now().Before(*h.WaivedUntil) {
		return time.Time{}, false
	}
	return *h.WaivedUntil, true
}

func view(h records.Safeguards) api.Safeguards {
	v := api.Safeguards{SecondFactor: append([]string{}, h.SecondFactor...), Consent: append([]string{}, h.Consent...), ConsentHours: h.ConsentHours}
	if h.WaivedUntil != nil {
		v.WaivedUntil = h.WaivedUntil
	}
	return v
}

// View gives what is demanded.
func (s *Safeguards) View() api.Safeguards { return view(s.held()) }

// Set changes what is demanded. Somebody who would be demanded a second factor that they
// have not, sets one up when they sign in next.
func (s *Safeguards) Set(ctx context.Context, who actor.Actor, in api.Safeguards) (api.Safeguards, error) {
	h := s.held()
	next := records.Safeguards{SecondFactor: in.SecondFactor, Consent: in.Consent, ConsentHours: in.ConsentHours, WaivedUntil: h.WaivedUntil}
	var faults []problem.Field
	for i, r := range in.SecondFactor {
		if actor.Role(r).Rank() < 0 || slices.Contains(in.SecondFactor[:i], r) {
			faults = append(faults, problem.Field{Field: fmt.Sprintf("secondFactor[%d]", i), Message: "Name each of viewer, operator and administrator once at most."})
		}
	}
	for i, k := range in.Consent {
		if !slices.Contains(consent.Kinds(), consent.Kind(k)) || slices.Contains(in.Consent[:i], k) {
			faults = append(faults, problem.Field{Field: fmt.Sprintf("consent[%d]", i), Message: "Name each of " + kinds() + " once at most."})
		}
	}
	if in.ConsentHours < 1 || in.ConsentHours > 168 {
		faults = append(faults, problem.Field{Field: "consentHours", Message: "Consent is given within 1 to 168 hours, and used within as many."})
	}
	if len(faults) > 0 {
		return api.Safeguards{}, problem.InvalidFields(faults...)
	}
	if len(in.Consent) > 0 {
		next.Consent = consent.Complete(in.Consent)
		n, err := s.db.Administrators(ctx)
		if err != nil {
			return api.Safeguards{}, err
		}
		if n < 2 {
			return api.Safeguards{}, problem.Conflict("There is one administrator here, and nobody to consent. Invite another first.")
		}
	}
	err := s.trail.Do(ctx, who, audit.Object{Kind: "safeguards"}, func(ctx context.Context) error { return s.db.SaveSafeguards(ctx, next) },
		"%s changed the safeguards: %s → %s", who, text(h), text(next))
	if err != nil {
		return api.Safeguards{}, err
	}
	s.mu.Lock()
	s.now = next
	s.mu.Unlock()
	return view(next), nil
}

func kinds() string {
	var out []string
	for _, k := range consent.Kinds() {
		out = append(out, string(k))
	}
	return strings.Join(out[:len(out)-1], ", ") + " and " + out[len(out)-1]
}

// Text says in words what would be demanded.
func Text(in api.Safeguards) string {
	return text(records.Safeguards{SecondFactor: in.SecondFactor, Consent: in.Consent, ConsentHours: in.ConsentHours})
}

func text(h records.Safeguards) string {
	h.Consent = consent.Complete(h.Consent)
	list := func(xs []string) string { return cmp.Or(strings.Join(xs, ", "), "nobody") }
	acts := "nothing needs a second person"
	if len(h.Consent) > 0 {
		acts = fmt.Sprintf("a second person for %s within %s", strings.Join(h.Consent, ", "), span.Format(time.Duration(h.ConsentHours)*time.Hour))
	}
	return "second factor of " + list(h.SecondFactor) + "; " + acts
}

// Act is what somebody wants to do.
type Act struct {
	Kind  consent.Kind
	What  string   // for people: delete point 12 of Ticketing
	Exact any      // what exactly, as JSON: what is consented to is this and nothing else
	Group bool     // whether it is on a group,
	Tags  []string // and its tags
}

// Pass lets somebody do what needs no second person, or what one consented to, once.
// Otherwise the error says what was asked for and of whom.
func (s *Safeguards) Pass(ctx context.Context, who actor.Actor, act Act) error {
	h, err := s.db.Safeguards(ctx) // not what is remembered: it may have been waived just now
	if err != nil {
		return err
	}
	rules := consent.Rules{}
	for _, k := range h.Consent {
		rules.Kinds = append(rules.Kinds, consent.Kind(k))
	}
	if h.WaivedUntil != nil {
		rules.WaivedUntil = *h.WaivedUntil
	}
	now := s.clk.Now()
	if !rules.Needed(act.Kind, now) {
		return nil
	}
	exact, err := json.Marshal([]any{act.Kind, act.Exact})
	if err != nil {
		return fmt.Errorf("what is asked for: %w", err)
	}
	digest := sha256.Sum256(exact)
	all, err := s.db.Consents(ctx, now)
	if err != nil {
		return err
	}
	mine := 0
	for _, c := range all {
		if c.Person != who.PersonID || c.Answer != "" && c.Answer != "given" {
			continue
		}
		mine++
		switch {
		case string(c.Digest) != string(digest[:]):
		case !now.Before(c.Until): // it ends with the next refresh
			return problem.Conflict("The time to consent to this is over. Ask again in a moment.")
		case c.Answer == "given":
			_, err := s.answer(ctx, who, c, "used", "%s does what %s consented to: %s", who, c.AnsweredBy, c.What)
			if errors.Is(err, records.ErrStale) {
				return problem.Conflict("Another request has used this consent already.")
			}
			return err
		default:
			return waits(c)
		}
	}
	if mine >= openMost {
		return problem.Conflict("%d things that you asked for wait for a second person already.", mine)
	}
	c := records.Consent{ID: uuid.NewString(), Kind: string(act.Kind), What: act.What, Digest: digest[:], Tags: act.Tags, OnGroup: act.Group, Person: who.PersonID, AskedBy: who.String(), AskedAt: now.UTC(), Until: now.Add(time.Duration(h.ConsentHours) * time.Hour).UTC()}
	err = s.trail.Do(ctx, who, audit.Object{Kind: "consent", Name: act.What, ID: c.ID}, func(ctx context.Context) error { return s.db.AddConsent(ctx, c) }, "%s asks for a second person's consent: %s", who, act.What)
	var taken *records.TakenError
	if errors.As(err, &taken) {
		return problem.Conflict("The same is being asked for by another request of yours.")
	}
	if err != nil {
		return err
	}
	s.hub.Send(events.Event{Type: "consent", ID: c.ID})
	return waits(c)
}

// waits is the answer to who asked.
func waits(c records.Consent) error {
	return &problem.Problem{Status: 409, Title: "A second person has to consent first; nothing was changed",
		Detail: fmt.Sprintf("Another administrator is asked: %s. They consent on the page Access, or by: kestrel consent give %s. Then do the same again, before %s.", c.What, c.ID, c.Until.UTC().Format("2006-01-02 15:04 MST"))}
}

// Needs is what the board says first: that consent is waived, and what waits for whoever
// looks.
func (s *Safeguards) Needs(ctx context.Context, who actor.Actor) ([]api.Need, error) {
	out := []api.Need{}
	if until, ok := s.WaivedUntil(); ok {
		out = append(out, api.Need{State: "waived", Title: "Nobody has to consent until " + until.UTC().Format("15:04 MST"), Text: "Whoever has this site's host said so there. Until then one administrator alone can do what needs two otherwise. If that was none of you, look at the activity now.", Action: "Look at the activity", Href: "/activity"})
	}
	all, err := s.List(ctx, who)
	for _, c := range all {
		if c.Yours {
			out = append(out, api.Need{State: "consent", Title: c.AskedBy + " asks a second person to consent", Text: "They want to " + c.What + ". It lapses at " + c.Until.UTC().Format("2006-01-02 15:04 MST") + ".", Action: "Consent or refuse", Href: "/access"})
		}
	}
	return out, err
}

// List gives the consents that are open or were answered lately, newest first, of what see
// lets pass.
func (s *Safeguards) List(ctx context.Context, who actor.Actor) ([]api.Consent, error) {
	all, err := s.db.Consents(ctx, s.clk.Now().Add(-shownFor))
	out := []api.Consent{}
	for _, c := range all {
		if !c.OnGroup || who.Sees(c.Tags) {
			out = append(out, s.consentView(c, who))
		}
	}
	return out, err
}

func (s *Safeguards) consentView(c records.Consent, who actor.Actor) api.Consent {
	v := api.Consent{ID: c.ID, Kind: c.Kind, What: c.What, AskedBy: c.AskedBy, AskedAt: c.AskedAt, Until: c.Until, State: cmp.Or(c.Answer, "waiting"), Mine: c.Person == who.PersonID, AnsweredAt: c.AnsweredAt}
	if c.AnsweredBy != "" {
		v.AnsweredBy = &c.AnsweredBy
	}
	if c.Answer == "" {
		v.Yours = consent.MayGive(asked(c), who, s.clk.Now()).Allowed
	}
	return v
}

func asked(c records.Consent) consent.Asked {
	return consent.Asked{PersonID: c.Person, Until: c.Until, Group: c.OnGroup, Tags: c.Tags}
}

// Answer gives or refuses consent. Who asked may withdraw by refusing, also what was
// consented to and not done yet.
func (s *Safeguards) Answer(ctx context.Context, who actor.Actor, id string, give bool) (api.Consent, error) {
	all, err := s.db.Consents(ctx, s.clk.Now().Add(-shownFor))
	if err != nil {
		return api.Consent{}, err
	}
	at := slices.IndexFunc(all, func(c records.Consent) bool { return c.ID == id && (!c.OnGroup || who.Sees(c.Tags)) })
	if at < 0 || !ident.UUID(id) {
		return api.Consent{}, problem.NotFound("request for consent", id)
	}
	c := all[at]
	mine := c.Person == who.PersonID
	verb, state := "consents to what "+c.AskedBy+" asked for", "given"
	switch {
	case c.Answer != "" && (c.Answer != "given" || give):
		return api.Consent{}, problem.Conflict("This was answered already: %s.", c.Answer)
	case !give && mine:
		verb, state = "withdraws what they asked for", "withdrawn"
	case !give:
		verb, state = "refuses what "+c.AskedBy+" asked for", "refused"
	}
	if state != "withdrawn" {
		if v := consent.MayGive(asked(c), who, s.clk.Now()); !v.Allowed {
			return api.Consent{}, &problem.Problem{Status: 403, Title: "Not allowed; nothing was changed", Detail: v.Why}
		}
	}
	next, err := s.answer(ctx, who, c, state, "%s %s: %s", who, verb, c.What)
	if errors.Is(err, records.ErrStale) {
		return api.Consent{}, problem.Conflict("Somebody else has answered this meanwhile.")
	}
	return s.consentView(next, who), err
}

func (s *Safeguards) answer(ctx context.Context, who actor.Actor, c records.Consent, state, format string, args ...any) (records.Consent, error) {
	next := c
	next.Answer, next.AnsweredBy, next.AnsweredAt = state, who.String(), new(s.clk.Now().UTC())
	if state == "used" {
		next.AnsweredBy = c.AnsweredBy
	}
	err := s.trail.Do(ctx, who, audit.Object{Kind: "consent", Name: c.What, ID: c.ID}, func(ctx context.Context) error { return s.db.AnswerConsent(ctx, next, c.Answer) }, format, args...)
	if err == nil {
		s.hub.Send(events.Event{Type: "consent", ID: c.ID})
	}
	return next, err
}
