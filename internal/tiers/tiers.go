// Package tiers is the named promises of a site. A tier is decided in one place, and the
// groups that follow it are brought up to it one by one: what a group says differently, on
// purpose and with a reason, stays its own.
package tiers

import (
	"context"
	"errors"
	"fmt"
	"log/slog"
	"maps"
	"net/http"
	"slices"
	"strings"
	"sync"
	"time"

	"github.com/google/uuid"

	"kestrel/internal/audit"
	"kestrel/internal/clock"
	"kestrel/internal/core/actor"
	"kestrel/internal/core/group"
	"kestrel/internal/core/ladder"
	"kestrel/internal/core/promise"
	"kestrel/internal/core/words"
	"kestrel/internal/directory"
	"kestrel/internal/events"
	"kestrel/internal/problem"
	"kestrel/internal/records"
)

// MaxTiers bounds how many there are: more cannot be told apart.
const MaxTiers = 100

// Records is where tiers are kept; *records.DB is one.
type Records interface {
	Tiers(ctx context.Context) ([]records.Tier, error)
	PutTier(ctx context.Context, t records.Tier, at time.Time, who string) error
	DeleteTier(ctx context.Context, id string) error
	TierHistory(ctx context.Context, id string) ([]records.TierRevision, error)
}

// Config is what it is made of.
type Config struct {
	DB     Records
	Groups *directory.Directory
	Trail  *audit.Trail
	Clock  clock.Clock
	Hub    *events.Hub
	Log    *slog.Logger
	// WouldDrop tells which points of a group a ladder would let go at once.
	WouldDrop func(ctx context.Context, r directory.Record, to ladder.Keep) (ladder.Loss, []int64, error)
	// Changed is called with a group that was brought up to its tier.
	Changed func(ctx context.Context, r directory.Record)
	// Every is how often it is looked whether groups are at what their tiers are.
	Every time.Duration
}

// Tiers is the tiers of one site.
type Tiers struct {
	Config

	mu   sync.Mutex
	byID map[string]Tier
}

// Tier is one at one revision. It is a value.
type Tier struct {
	ID       string
	Revision int64
	group.Tier
}

// Open reads the tiers.
func Open(ctx context.Context, cfg Config) (*Tiers, error) {
	t := &Tiers{Config: cfg, byID: map[string]Tier{}}
	recs, err := cfg.DB.Tiers(ctx)
	if err != nil {
		return nil, err
	}
	for _, r := range recs {
		x, err := directory.DecodeTier(r.Settings)
		if err != nil {
			return nil, fmt.Errorf("tier %s: %w", r.Name, err)
		}
		t.byID[r.ID] = Tier{r.ID, r.Revision, x}
	}
	return t, nil
}

func object(t Tier) audit.Object { return audit.Object{Kind: "tier", Name: t.Name, ID: t.ID} }

// All lists the tiers by name.
func (t *Tiers) All() []Tier {
	t.mu.Lock()
	defer t.mu.Unlock()
	return slices.SortedFunc(maps.Values(t.byID), func(a, b Tier) int { return strings.Compare(strings.ToLower(a.Name), strings.ToLower(b.Name)) })
}

// Find resolves an ID or a name.
func (t *Tiers) Find(text string) (Tier, error) {
	var names []string
	for _, x := range t.All() {
		if x.ID == text || strings.EqualFold(x.Name, text) {
			return x, nil
		}
		names = append(names, x.Name)
	}
	p := problem.NotFound("tier", text)
	if near, ok := words.Nearest(text, names); ok {
		p.Detail += fmt.Sprintf(" Did you mean %q?", near)
	}
	return Tier{}, p
}

// Follow is what a group that follows a tier keeps of it.
func (t *Tiers) Follow(text string) (group.Follows, error) {
	x, err := t.Find(text)
	return group.Follows{ID: x.ID, Revision: x.Revision, Tier: x.Tier}, err
}

// Followers are the groups of this site that follow a tier.
func (t *Tiers) Followers(id string) []directory.Record {
	var out []directory.Record
	for _, r := range t.Groups.All() {
		if r.Direction == directory.Out && r.Spec.Tier != nil && r.Spec.Tier.ID == id {
			out = append(out, r)
		}
	}
	return out
}

func faults(fs []group.Finding) []problem.Field {
	var out []problem.Field
	for _, f := range promise.Faults(fs) {
		out = append(out, problem.Field{Field: f.Field, Message: f.Message})
	}
	return out
}

// Create makes a tier.
func (t *Tiers) Create(ctx context.Context, who actor.Actor, p group.Patch) (Tier, error) {
	x := Tier{uuid.NewString(), 1, p.ApplyTier(group.Tier{Priority: group.Normal})}
	if len(t.All()) >= MaxTiers {
		return Tier{}, problem.Conflict("There are %d tiers already; a site has at most %d.", MaxTiers, MaxTiers)
	}
	return x, t.put(ctx, who, x, fmt.Sprintf("%s made the tier %s", who, x.Name))
}

// put writes a revision of a tier.
func (t *Tiers) put(ctx context.Context, who actor.Actor, x Tier, text string) error {
	fs := faults(x.Validate())
	for _, o := range t.All() {
		if o.ID != x.ID && strings.EqualFold(o.Name, x.Name) {
			fs = append(fs, problem.Field{Field: "name", Message: fmt.Sprintf("There is a tier %q already; choose another name.", o.Name)})
		}
	}
	if len(fs) > 0 {
		return problem.InvalidFields(fs...)
	}
	now := t.Clock.Now().UTC()
	rec := records.Tier{ID: x.ID, Name: x.Name, Revision: x.Revision, Settings: directory.EncodeTier(x.Tier)}
	err := t.Trail.Do(ctx, who, object(x), func(ctx context.Context) error { return t.DB.PutTier(ctx, rec, now, who.String()) }, "%s", text)
	switch {
	case errors.Is(err, records.ErrStale):
		return problem.Conflict("Somebody else changed the tier %s just now. Look at it again.", x.Name)
	case records.Taken(err, records.TierNameTaken):
		return problem.Invalid("name", "There is a tier %q already; choose another name.", x.Name)
	case err != nil:
		return err
	}
	t.mu.Lock()
	t.byID[x.ID] = x
	t.mu.Unlock()
	t.Hub.Send(events.Event{Type: "tier", ID: x.ID})
	return nil
}

// Move is what a change of a tier makes of a group that follows it.
type Move struct {
	Group   directory.Record
	Changes []group.Change
	Faults  []problem.Field
	Lost    ladder.Loss
	Numbers []int64 // of the points that would be dropped
}

// Preview tells what an edit makes of a tier and of the groups that follow it.
func (t *Tiers) Preview(ctx context.Context, text string, p group.Patch) (was, next Tier, moves []Move, err error) {
	if was, err = t.Find(text); err != nil {
		return was, next, nil, err
	}
	next = Tier{was.ID, was.Revision + 1, p.ApplyTier(was.Tier)}
	for _, r := range t.Followers(was.ID) {
		m, err := t.move(ctx, r, next)
		if err != nil {
			return was, next, nil, err
		}
		moves = append(moves, m)
	}
	return was, next, moves, nil
}

func patch(t Tier) group.Patch {
	return group.Patch{Tier: &group.Follows{ID: t.ID, Revision: t.Revision, Tier: t.Tier}}
}

func (t *Tiers) move(ctx context.Context, r directory.Record, to Tier) (Move, error) {
	next := patch(to).Apply(r.Spec)
	m := Move{Group: r, Changes: group.Diff(r.Spec, next), Faults: t.Groups.Check(next, r.ID)}
	if t.WouldDrop == nil || len(m.Faults) > 0 || next.Promise.KeepsAs(r.Spec.Promise) {
		return m, nil
	}
	var err error
	m.Lost, m.Numbers, err = t.WouldDrop(ctx, r, next.Promise.Keeping())
	return m, err
}

// Edit changes a tier, and then the groups that follow it. If one of them could not be as
// the tier says, nothing is changed; if points would be dropped at once, that has to be
// allowed.
func (t *Tiers) Edit(ctx context.Context, who actor.Actor, text string, p group.Patch, dropPoints bool) (Tier, error) {
	was, next, moves, err := t.Preview(ctx, text, p)
	if err != nil {
		return Tier{}, err
	}
	changes := group.DiffTiers(was.Tier, next.Tier)
	if len(changes) == 0 {
		return was, nil
	}
	for _, m := range moves {
		if len(m.Faults) > 0 {
			return Tier{}, problem.Invalid(m.Faults[0].Field, "The group %s, which follows %s, could not be so: %s", m.Group.Spec.Name, was.Name, m.Faults[0].Message)
		}
		if n := len(m.Lost.Points); n > 0 && !dropPoints {
			return Tier{}, problem.Conflict("The ladder %q would drop %s of %s at once. Allow it with dropPoints, or let the group differ.", next.Promise.Keep, words.Count(n, "point"), m.Group.Spec.Name)
		}
	}
	if err := t.put(ctx, who, next, fmt.Sprintf("%s changed the tier %s: %s", who, next.Name, group.Words(changes))); err != nil {
		return Tier{}, err
	}
	return next, t.bring(ctx, who)
}

// Delete forgets a tier that no group follows.
func (t *Tiers) Delete(ctx context.Context, who actor.Actor, text string) error {
	x, err := t.Find(text)
	if err != nil {
		return err
	}
	var names []string
	for _, r := range t.Followers(x.ID) {
		names = append(names, r.Spec.Name)
	}
	if len(names) > 0 {
		return problem.Conflict("%s follow the tier %s. Let them follow another first, or none.", words.Joined(names, 6), x.Name)
	}
	err = t.Trail.Do(ctx, who, object(x), func(ctx context.Context) error { return t.DB.DeleteTier(ctx, x.ID) }, "%s deleted the tier %s", who, x.Name)
	if err != nil {
		return err
	}
	t.mu.Lock()
	delete(t.byID, x.ID)
	t.mu.Unlock()
	t.Hub.Send(events.Event{Type: "tier", ID: x.ID})
	return nil
}

// History is what a tier was, newest first.
func (t *Tiers) History(ctx context.Context, id string) ([]records.TierRevision, error) {
	return t.DB.TierHistory(ctx, id)
}

// bring makes all groups what their tiers are now. Who changes one at that moment is
// judged at the next look.
func (t *Tiers) bring(ctx context.Context, who actor.Actor) error {
	var errs []error
	for _, x := range t.All() {
		for _, r := range t.Followers(x.ID) {
			if r.Spec.Tier.Revision >= x.Revision {
				continue
			}
			next, changes, err := t.Groups.Update(ctx, who, r.ID, patch(x), &r.Revision, func(next directory.Record, cs []group.Change) string {
				return fmt.Sprintf("%s follows the tier %s: %s", next.Spec.Name, x.Name, group.Words(cs))
			})
			if p, is := problem.Of(err); is && (p.Status == http.StatusPreconditionFailed || p.Status == http.StatusConflict) {
				continue
			}
			if err != nil {
				errs = append(errs, fmt.Errorf("group %s: %w", r.Spec.Name, err))
				continue
			}
			if len(changes) > 0 && t.Changed != nil {
				t.Changed(ctx, next)
			}
		}
	}
	return errors.Join(errs...)
}

// Run brings groups up to their tiers where that was cut off, until ctx ends.
func (t *Tiers) Run(ctx context.Context) {
	for {
		if err := t.bring(ctx, actor.System()); err != nil && ctx.Err() == nil {
			t.Log.Warn("bring groups up to their tiers", "err", err)
		}
		if clock.Sleep(ctx, t.Clock, t.Every) != nil {
			return
		}
	}
}
