// Package coverage keeps groups and machines together: it lets machines join by the rules
// of groups, notices disks and names that change, and counts what is protected and what
// is not. It decides nothing that people have to decide: what left a rule, or was added
// and only flagged, is told and kept.
package coverage

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

	"kestrel/internal/audit"
	"kestrel/internal/clock"
	"kestrel/internal/core/actor"
	"kestrel/internal/core/group"
	"kestrel/internal/core/scope"
	"kestrel/internal/core/words"
	"kestrel/internal/directory"
	"kestrel/internal/inventory"
	"kestrel/internal/problem"
	"kestrel/internal/records"
)

const (
	// sampleEvery is how often coverage is written down, and kept is for how long.
	sampleEvery = time.Hour
	kept        = 400 * 24 * time.Hour
)

// Records is where coverage is written down; *records.DB is one.
type Records interface {
	AddCoverage(ctx context.Context, c records.Coverage, forget time.Time) error
	CoverageSince(ctx context.Context, from time.Time) ([]records.Coverage, error)
}

// Config is what it is made of.
type Config struct {
	DB        Records
	Groups    *directory.Directory
	Inventory *inventory.Inventory
	Trail     *audit.Trail
	Clock     clock.Clock
	Log       *slog.Logger
	// Every is how often groups and machines are compared.
	Every time.Duration
	// Changed is called with a group that was changed, so that its cycles and its
	// recovery site hear of it.
	Changed func(ctx context.Context, r directory.Record)
}

// Coverage is what protects the machines of one site.
type Coverage struct {
	Config

	mu      sync.Mutex
	leavers []scope.Leaver
	told    map[string]bool // of what is told once
	sampled time.Time
	counted scope.Counts // at the last look; nil before it
}

// New makes it.
func New(cfg Config) *Coverage { return &Coverage{Config: cfg, told: map[string]bool{}} }

// Run compares groups and machines until ctx ends.
func (c *Coverage) Run(ctx context.Context) {
	for {
		if err := c.Look(ctx); err != nil && ctx.Err() == nil {
			c.Log.Warn("compare groups with machines", "err", err)
		}
		if clock.Sleep(ctx, c.Clock, c.Every) != nil {
			return
		}
	}
}

// Look compares groups and machines once. A group that cannot be changed now is left for
// the next look, and does not keep the others from theirs.
func (c *Coverage) Look(ctx context.Context) error {
	rules, candidates := c.rules(), c.candidates()
	joins, leavers := scope.Assign(rules, candidates, c.answers)
	counts := c.Counts()
	c.mu.Lock()
	c.leavers, c.counted = leavers, counts
	c.mu.Unlock()
	var failed error
	for _, r := range c.Groups.All() {
		if r.Direction != directory.Out {
			continue
		}
		p, ok := c.Inventory.Get(r.Spec.Platform)
		if !ok || !p.Up {
			continue
		}
		if err := c.keepUp(ctx, r, p, joins); err != nil && failed == nil {
			failed = fmt.Errorf("group %s: %w", r.Spec.Name, err)
		}
	}
	for _, l := range leavers {
		r, ok := c.Groups.Get(l.Group)
		if ok && c.once(l.Group+"/"+l.ID+"/"+l.Why) {
			c.Trail.Note(ctx, actor.System(), object(r), "%s: %s joined by the rule, and %s. It is kept until somebody decides.", r.Spec.Name, l.Name, l.Why)
		}
	}
	return errors.Join(failed, c.sample(ctx))
}

func object(r directory.Record) audit.Object {
	return audit.Object{Kind: "group", Name: r.Spec.Name, ID: r.ID}
}

// once tells whether something is said for the first time since the service began.
func (c *Coverage) once(what string) bool {
	c.mu.Lock()
	defer c.mu.Unlock()
	was := c.told[what]
	c.told[what] = true
	return !was
}

// answers tells whether a platform answered when it was last asked.
func (c *Coverage) answers(id string) bool {
	p, ok := c.Inventory.Get(id)
	return ok && p.Up
}

// rules are those of the groups that are home here.
func (c *Coverage) rules() []scope.Ruled {
	var out []scope.Ruled
	for _, r := range c.Groups.All() {
		if r.Direction == directory.Out && r.Spec.Rule != nil {
			out = append(out, ruled(r))
		}
	}
	return out
}

func ruled(r directory.Record) scope.Ruled {
	x := scope.Ruled{Group: r.ID, Name: r.Spec.Name, Platform: r.Spec.Platform, Order: r.Spec.Rule.Order, Match: r.Spec.Rule.Match}
	for _, m := range r.Spec.Machines {
		x.Members = append(x.Members, scope.Member{ID: m.ID, Name: m.Name, ByRule: m.ByRule})
	}
	return x
}

// candidates are the machines of all platforms that answer.
func (c *Coverage) candidates() []scope.Candidate {
	var out []scope.Candidate
	for _, p := range c.Inventory.All() {
		if !p.Up {
			continue
		}
		for _, m := range p.Held().Machines {
			out = append(out, c.Inventory.Candidate(p, m))
		}
	}
	return out
}

// keepUp changes a group by what was seen of its machines: those that join, names and
// disks.
func (c *Coverage) keepUp(ctx context.Context, r directory.Record, p inventory.Platform, joins []scope.Join) error {
	var said []string
	changed := false
	var next []group.Machine
	for _, m := range r.Spec.Machines {
		pm, ok := p.Machine(m.ID)
		if !ok {
			next = append(next, m)
			continue
		}
		now := inventory.Chosen(pm)
		seen, changes := r.Spec.Seen(m, now.Disks)
		for _, x := range changes {
			switch {
			case x.Kind != group.DiskAdded:
				said = append(said, x.String())
			case r.Spec.NewDisks == group.CopyNew:
				said = append(said, x.String()+", and is copied from now on")
			case c.once(fmt.Sprint(r.ID, "/", m.ID, "/", x.Disk.Key, "/new")):
				c.Trail.Note(ctx, actor.System(), object(r), "%s: %s. It is not copied until somebody decides.", r.Spec.Name, x)
			}
		}
		if pm.Name != m.Name {
			said = append(said, fmt.Sprintf("%s is called %s now", m.Name, pm.Name))
			seen.Name = pm.Name
		}
		changed = changed || seen.Name != m.Name || !slices.Equal(seen.Disks, m.Disks)
		next = append(next, seen)
	}
	joined, full := c.joining(r, p, joins, len(next))
	for _, m := range joined {
		next, changed = append(next, m), true
		said = append(said, m.Name+" joins by the rule")
	}
	if len(full) > 0 && c.once(r.ID+"/full/"+strings.Join(full, "/")) {
		c.Trail.Note(ctx, actor.System(), object(r), "%s: the rule matches %s too, and the group is full with %d machines.", r.Spec.Name, words.Joined(full, 6), group.MaxMachines)
	}
	if !changed {
		return nil
	}
	after, _, err := c.Groups.Update(ctx, actor.System(), r.ID, group.Patch{Machines: &next}, &r.Revision, func(after directory.Record, cs []group.Change) string {
		if len(said) == 0 { // of a group of older days the disks are noted
			said = append(said, group.Words(cs))
		}
		return fmt.Sprintf("%s: %s", after.Spec.Name, words.Joined(said, 20))
	})
	if p, is := problem.Of(err); is && (p.Status == http.StatusPreconditionFailed || p.Status == http.StatusConflict) {
		return nil // somebody edited it meanwhile: the next look judges what they wrote
	}
	if err == nil && c.Changed != nil {
		c.Changed(ctx, after)
	}
	return err
}

// joining are the machines that join a group, as far as there is room for them.
func (c *Coverage) joining(r directory.Record, p inventory.Platform, joins []scope.Join, has int) (in []group.Machine, full []string) {
	for _, j := range joins {
		pm, ok := p.Machine(j.Machine.ID)
		if j.Group != r.ID || !ok || r.Spec.Has(pm.ID) {
			continue
		}
		if has+len(in) >= group.MaxMachines {
			full = append(full, pm.Name)
			continue
		}
		m := inventory.Chosen(pm)
		m.ByRule = true
		in = append(in, m)
	}
	return in, full
}

// Counts is how many machines have which word now.
func (c *Coverage) Counts() scope.Counts {
	out := scope.Counts{}
	for _, p := range c.Inventory.All() {
		for _, m := range p.Held().Machines {
			out[c.Inventory.Coverage(p, m)]++
		}
	}
	return out
}

// Lately counts machines as Counts does, as they were at the last look: for what is asked
// again and again.
func (c *Coverage) Lately() scope.Counts {
	c.mu.Lock()
	counts := c.counted
	c.mu.Unlock()
	if counts == nil {
		return c.Counts()
	}
	return maps.Clone(counts)
}

// sample writes coverage down once an hour.
func (c *Coverage) sample(ctx context.Context) error {
	now := c.Clock.Now().UTC()
	hour := now.Truncate(sampleEvery)
	c.mu.Lock()
	due := c.sampled.Before(hour)
	c.mu.Unlock()
	if !due {
		return nil
	}
	counts := c.Counts()
	if counts.Total() == 0 {
		return nil // no platform has answered yet
	}
	if err := c.DB.AddCoverage(ctx, records.Coverage{At: hour, Counts: counts}, now.Add(-kept)); err != nil {
		return err
	}
	c.mu.Lock()
	defer c.mu.Unlock()
	c.sampled = hour
	return nil
}

// Leavers are the machines of a group that joined by its rule, which no longer speaks for
// them.
func (c *Coverage) Leavers(id string) []scope.Leaver {
	c.mu.Lock()
	defer c.mu.Unlock()
	return slices.DeleteFunc(slices.Clone(c.leavers), func(l scope.Leaver) bool {
		if l.Group != id {
			return true
		}
		// What somebody has decided since the last look is no question any more.
		r, ok := c.Groups.Get(id)
		m, in := r.Spec.Machine(l.ID)
		return !ok || !in || !m.ByRule
	})
}
