package service

import (
	"context"
	"encoding/json"
	"fmt"
	"math"
	"sort"
	"strings"
	"time"

	"github.com/google/uuid"

	"kestrel/internal/api"
	"kestrel/internal/core/cadence"
	"kestrel/internal/core/ladder"
	"kestrel/internal/core/promise"
	"kestrel/internal/link"
	"kestrel/internal/problem"
	"kestrel/internal/records"
)

// settings is what the home site decides of a group and mirrors.
type settings struct {
	Platform string            `json:"platform"`
	Machines []settingsMachine `json:"machines"`
	Promise  api.Promise       `json:"promise"`
	// Apart captures machines one by one instead of at one instant.
	Apart bool `json:"apart,omitempty"`
	// Priority is the group's share of a limited link; empty is normal.
	Priority string `json:"priority,omitempty"`
	// CompareEvery is after how many seconds a cycle reads all of the disks; 0
	// is never by itself.
	CompareEvery int64 `json:"compareEvery,omitempty"`
	// KeepHere keeps points at the home site as well.
	KeepHere bool `json:"keepHere,omitempty"`
}

type settingsMachine struct {
	ID        string `json:"id"` // on the platform
	Name      string `json:"name"`
	Disks     int    `json:"disks"`
	SizeBytes int64  `json:"sizeBytes"`
	Quiesce   bool   `json:"quiesce,omitempty"` // its guest's file systems are brought to rest
}

// group is a group's record with what is known of it at the moment.
type group struct {
	rec records.Group
	set settings

	// At the home site.
	run        *running
	runNow     bool
	compareNow bool // the next cycle reads all of the disks
	ending     bool
	dueSince   time.Time
	retryAt    time.Time
	failures   int
	reason     string // why the last attempt failed
	backlog    map[string]int64
	backlogOK  bool
	backlogAt  time.Time
	changeRate float64 // bytes a second, smoothed
	nearReason string  // why points are not kept here
	nearPoints int     // points that are kept here as well
	pointsMark string  // of the list last fetched
	fetchedAt  time.Time

	// At the recovery site, from the home site's last report, on its clock.
	live   link.Live
	liveAt time.Time // on ours

	// At both.
	cycles      []api.Cycle // the newest few, newest first
	newestAt    time.Time   // capture of the newest sealed point, on our clock
	newestPoint string
	confirmedAt time.Time // when the recovery site last said so
	points      int
	oldestAt    time.Time
	marks       int // counts changes of the list of points
	lost        damage
}

// promiseOf reads a promise of the contract. Numbers beyond what a duration
// holds are caught by the field's limits.
func promiseOf(p api.Promise) promise.Promise {
	sec := func(n int64) time.Duration {
		if n > math.MaxInt64/int64(time.Second) || n < math.MinInt64/int64(time.Second) {
			return math.MaxInt64
		}
		return time.Duration(n) * time.Second
	}
	out := promise.Promise{Target: sec(p.RpoTargetSeconds), Cadence: cadence.Cadence{Every: sec(p.CadenceSeconds)}}
	for _, r := range p.Keep {
		out.Keep = append(out.Keep, ladder.Rung{Each: sec(r.EachSeconds), For: sec(r.ForSeconds)})
	}
	return out
}

func (g *group) promise() promise.Promise { return promiseOf(g.set.Promise) }

func (s *Service) loadGroups(ctx context.Context) error {
	recs, err := s.db.Groups(ctx)
	if err != nil {
		return err
	}
	totals, err := s.db.PointTotals(ctx)
	if err != nil {
		return err
	}
	for _, r := range recs {
		g := &group{rec: r}
		if err := json.Unmarshal(r.Settings, &g.set); err != nil {
			return fmt.Errorf("settings of group %s: %w", r.Name, err)
		}
		for _, t := range totals {
			switch {
			case t.GroupID != r.ID:
			case t.Held && r.Direction == "out":
				g.nearPoints = t.Count
			default:
				g.points, g.oldestAt, g.newestAt = t.Count, t.Oldest, t.Newest
			}
		}
		g.newestPoint = r.BasePoint
		if g.cycles, err = s.readCycles(ctx, r.ID, keptCyclesInMemory); err != nil {
			return err
		}
		s.groups[r.ID] = g
	}
	return nil
}

// findGroup resolves an ID or a name that only one group has; the lock is held.
func (s *Service) findGroup(id string) (*group, error) {
	if g, ok := s.groups[id]; ok {
		return g, nil
	}
	var found *group
	for _, g := range s.groups {
		if !strings.EqualFold(g.rec.Name, id) {
			continue
		}
		if found != nil && found.rec.Direction != "ended" && g.rec.Direction != "ended" {
			return nil, problem.Conflict("More than one group is called %q; give the ID.", id)
		}
		if found == nil || found.rec.Direction == "ended" {
			found = g
		}
	}
	if found == nil {
		return nil, problem.NotFound("group", id)
	}
	return found, nil
}

// CreateGroup protects machines together.
func (s *Service) CreateGroup(ctx context.Context, who string, in api.NewGroup) (api.Group, error) {
	faults := checkGroupName(in.Name)
	faults = append(faults, fields(promise.Faults(promiseOf(in.Promise).Check()))...)
	priority, fault := checkPriority(in.Priority, "")
	faults = append(faults, fault...)
	compareEvery, fault := checkCompare(in.CompareEverySeconds, 0)
	faults = append(faults, fault...)
	s.mu.Lock()
	p, machines, more := s.resolveMachines(in.Machines, "")
	faults = append(faults, more...)
	if len(more) == 0 {
		faults = append(faults, chooseQuiesce(machines, in.Quiesce, nil)...)
		if in.Quiesce != nil && len(*in.Quiesce) > 0 && p.rec.Kind == "lab" {
			faults = append(faults, problem.Field{Field: "quiesce", Message: "Guests of a lab have no agent that could bring their file systems to rest. Leave it out."})
		}
	}
	l, err := s.findLink(in.Link)
	switch {
	case in.Link == "":
		faults = append(faults, problem.Field{Field: "link", Message: "Name the recovery site: one that this site is paired with."})
	case err != nil:
		faults = append(faults, problem.Field{Field: "link", Message: fmt.Sprintf("%s is not paired with %q. Pair the sites first.", s.site.Name, in.Link)})
	}
	for _, g := range s.groups {
		if g.rec.Direction == "out" && strings.EqualFold(g.rec.Name, strings.TrimSpace(in.Name)) {
			faults = append(faults, problem.Field{Field: "name", Message: fmt.Sprintf("There is a group %q already; choose another name.", g.rec.Name)})
		}
	}
	s.mu.Unlock()
	if len(faults) > 0 {
		return api.Group{}, problem.InvalidFields(faults...)
	}
	now := s.clk.Now()
	g := &group{set: settings{Platform: p.rec.ID, Machines: machines, Promise: in.Promise, Apart: in.Together != nil && !*in.Together, Priority: priority, CompareEvery: compareEvery, KeepHere: in.KeepHere != nil && *in.KeepHere}}
	g.rec = records.Group{ID: uuid.NewString(), Name: strings.TrimSpace(in.Name), Direction: "out", Link: &l.rec.ID, HomeID: s.site.ID, HomeName: s.site.Name, RecoveryName: l.rec.PeerName,
		Term: 1, Revision: 1, Settings: mustJSON(g.set), Anchor: now, CreatedAt: now, Paused: in.Paused != nil && *in.Paused}
	if err := s.db.AddGroup(ctx, g.rec); err != nil {
		return api.Group{}, err
	}
	s.mu.Lock()
	s.groups[g.rec.ID] = g
	s.mu.Unlock()
	s.note(ctx, who, "group", g.rec.Name, "%s made the group %s of %s, kept at %s", who, g.rec.Name, strings.Join(machineNames(machines), ", "), l.rec.PeerName)
	s.beat(ctx, l) // the recovery site learns of it before the first block arrives
	s.changed(g)
	return s.Group(g.rec.ID)
}

// changed tells clients to ask for a group anew.
func (s *Service) changed(g *group) { s.hub.send(Event{Type: "group", ID: g.rec.ID}) }

// atHome runs f for a group that is home here, or passes the wish on to its
// home site.
func (s *Service) atHome(ctx context.Context, who, id, action string, body any, f func(g *group) error) (api.Group, error) {
	s.mu.Lock()
	g, err := s.findGroup(id)
	if err != nil {
		s.mu.Unlock()
		return api.Group{}, err
	}
	direction := g.rec.Direction
	var l *linkState
	if g.rec.Link != nil {
		l = s.links[*g.rec.Link]
	}
	s.mu.Unlock()
	switch direction {
	case "ended":
		return api.Group{}, problem.Conflict("The group %s has ended; only its points are left.", g.rec.Name)
	case "out":
		if err := f(g); err != nil {
			return api.Group{}, err
		}
	default:
		if l == nil {
			return api.Group{}, problem.Conflict("The link to %s is gone.", g.rec.HomeName)
		}
		err := l.peer.Act(ctx, g.rec.ID, link.Act{Action: action, Who: who + " at " + s.site.Name, Body: mustJSON(body)})
		if err != nil {
			if p, ok := problem.Of(err); ok {
				return api.Group{}, p
			}
			return api.Group{}, problem.Unreachable("%s owns this group's settings and cannot be asked: %v", g.rec.HomeName, err)
		}
		s.note(ctx, who, "group", g.rec.Name, "%s asked %s to %s the group %s", who, g.rec.HomeName, action, g.rec.Name)
		if action == "delete" {
			return api.Group{}, nil
		}
	}
	s.changed(g)
	return s.Group(g.rec.ID)
}

// RunCycle starts a cycle as soon as it can; to compare is to read all of the
// disks and not only what the platform reports as changed.
func (s *Service) RunCycle(ctx context.Context, who, id string, compare bool) (api.Group, error) {
	return s.atHome(ctx, who, id, "run", runWish{compare}, func(g *group) error {
		s.mu.Lock()
		switch {
		case g.rec.Paused:
			s.mu.Unlock()
			return problem.Conflict("%s is paused. Resume it first.", g.rec.Name)
		case g.run != nil && g.run.rec.State != stateSealed:
			s.mu.Unlock()
			return problem.Conflict("A cycle of %s is running already.", g.rec.Name)
		}
		g.runNow, g.retryAt, g.compareNow = true, time.Time{}, g.compareNow || compare
		s.mu.Unlock()
		s.note(ctx, who, "group", g.rec.Name, "%s asked for a %s of %s now", who, map[bool]string{true: "comparison", false: "cycle"}[compare], g.rec.Name)
		s.schedule(ctx)
		return nil
	})
}

// SetPaused holds cycles or lets them run again. A cycle under way stops where
// it is and goes on later.
func (s *Service) SetPaused(ctx context.Context, who, id string, paused bool) (api.Group, error) {
	action := map[bool]string{true: "pause", false: "resume"}[paused]
	return s.atHome(ctx, who, id, action, nil, func(g *group) error {
		s.mu.Lock()
		if g.rec.Paused == paused {
			s.mu.Unlock()
			return nil
		}
		rec := g.rec
		rec.Paused = paused
		rec.Revision++
		s.mu.Unlock()
		if err := s.db.SaveGroup(ctx, rec); err != nil {
			return err
		}
		s.mu.Lock()
		g.rec.Paused, g.rec.Revision = paused, rec.Revision
		g.retryAt, g.dueSince = time.Time{}, time.Time{}
		if paused && g.run != nil {
			g.run.stop("paused")
		}
		s.mu.Unlock()
		s.note(ctx, who, "group", g.rec.Name, "%s %sd %s", who, action, g.rec.Name)
		s.beatFor(ctx, g)
		return nil
	})
}

// beatFor mirrors a change at once.
func (s *Service) beatFor(ctx context.Context, g *group) {
	s.mu.Lock()
	var l *linkState
	if g.rec.Link != nil {
		l = s.links[*g.rec.Link]
	}
	s.mu.Unlock()
	if l != nil {
		s.beat(ctx, l)
	}
}

// UpdateGroup changes name, machines or promise.
func (s *Service) UpdateGroup(ctx context.Context, who, id string, in api.GroupPatch) (api.Group, error) {
	return s.atHome(ctx, who, id, "patch", in, func(g *group) error {
		var faults []problem.Field
		s.mu.Lock()
		rec, set := g.rec, g.set
		if in.Name != nil {
			faults = append(faults, checkGroupName(*in.Name)...)
			rec.Name = strings.TrimSpace(*in.Name)
			for _, o := range s.groups {
				if o != g && o.rec.Direction == "out" && strings.EqualFold(o.rec.Name, rec.Name) {
					faults = append(faults, problem.Field{Field: "name", Message: fmt.Sprintf("There is a group %q already; choose another name.", o.rec.Name)})
				}
			}
		}
		if in.Promise != nil {
			faults = append(faults, fields(promise.Faults(promiseOf(*in.Promise).Check()))...)
			set.Promise = *in.Promise
		}
		membership := false
		if in.Machines != nil {
			p, ms, more := s.resolveMachines(*in.Machines, g.rec.ID)
			faults = append(faults, more...)
			if len(more) == 0 && p.rec.ID != set.Platform {
				faults = append(faults, problem.Field{Field: "machines", Message: "A group stays on its platform. Make a new group for machines of another."})
			}
			membership = !sameMachines(ms, set.Machines)
			_ = chooseQuiesce(ms, nil, set.Machines)
			set.Machines = ms
		}
		if in.Quiesce != nil {
			set.Machines = append([]settingsMachine(nil), set.Machines...)
			faults = append(faults, chooseQuiesce(set.Machines, in.Quiesce, nil)...)
			if p := s.platforms[set.Platform]; len(*in.Quiesce) > 0 && p != nil && p.rec.Kind == "lab" {
				faults = append(faults, problem.Field{Field: "quiesce", Message: "Guests of a lab have no agent that could bring their file systems to rest. Leave it out."})
			}
		}
		if in.Together != nil {
			set.Apart = !*in.Together
		}
		if in.KeepHere != nil {
			set.KeepHere = *in.KeepHere
		}
		var fault []problem.Field
		set.Priority, fault = checkPriority(in.Priority, set.Priority)
		faults = append(faults, fault...)
		set.CompareEvery, fault = checkCompare(in.CompareEverySeconds, set.CompareEvery)
		faults = append(faults, fault...)
		s.mu.Unlock()
		if len(faults) > 0 {
			return problem.InvalidFields(faults...)
		}
		rec.Settings = mustJSON(set)
		rec.Revision++
		if err := s.db.SaveGroup(ctx, rec); err != nil {
			return err
		}
		s.mu.Lock()
		g.rec.Name, g.rec.Settings, g.rec.Revision, g.set = rec.Name, rec.Settings, rec.Revision, set
		if membership && g.run != nil {
			g.run.stop("its machines changed")
			g.run.abandon = true
		}
		s.mu.Unlock()
		if membership {
			if err := s.abandonOpenCycle(ctx, g, "the group's machines changed"); err != nil {
				return err
			}
		}
		s.note(ctx, who, "group", rec.Name, "%s changed the group %s", who, rec.Name)
		s.beatFor(ctx, g)
		return nil
	})
}

// Group gives one.
func (s *Service) Group(id string) (api.Group, error) {
	s.mu.Lock()
	defer s.mu.Unlock()
	g, err := s.findGroup(id)
	if err != nil {
		return api.Group{}, err
	}
	return s.groupView(g), nil
}

// Groups lists all, worst first.
func (s *Service) Groups() []api.Group {
	s.mu.Lock()
	defer s.mu.Unlock()
	out := []api.Group{}
	for _, g := range s.groups {
		out = append(out, s.groupView(g))
	}
	sort.Slice(out, func(i, j int) bool { return worse(out[i], out[j]) })
	return out
}

func deref(p *string) string {
	if p == nil {
		return ""
	}
	return *p
}
