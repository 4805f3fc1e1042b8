// Package directory is the one writer of what is decided about groups: their
// specifications, homes and terms. PostgreSQL compares revisions, so that no edit
// is lost, and takes the line of the trail in the same transaction. What is kept
// in memory is a copy that follows.
package directory

import (
	"cmp"
	"context"
	"encoding/json"
	"errors"
	"fmt"
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
	"kestrel/internal/core/promise"
	"kestrel/internal/core/schedule"
	"kestrel/internal/core/term"
	"kestrel/internal/core/words"
	"kestrel/internal/events"
	"kestrel/internal/problem"
	"kestrel/internal/records"
)

// Direction is how this site sees a group.
type Direction string

// The directions.
const (
	Out   Direction = "out"   // home here
	In    Direction = "in"    // its points are kept here
	Ended Direction = "ended" // only points are left
)

// Turned says that a group was turned to the other site, or given back.
type Turned string

// What a group can be turned to.
const (
	Held     Turned = "held"     // its machines run here since a failover that is not accepted yet
	Returned Turned = "returned" // it was held here, and home has yet to hear that it is home again
	Ceded    Turned = "ceded"    // it was home here, and was given to the other site
	Away     Turned = "away"     // it was home here, and the other site holds it
)

// Record is a group at one moment. It is a value; it never changes.
type Record struct {
	ID           string
	Direction    Direction
	Link         string // ID of the link with the other site; empty if there is none
	HomeID       string
	HomeName     string
	RecoveryName string
	Term         int64
	Turned       Turned
	// Former are the machines that it had here before it became home elsewhere: they may run
	// still.
	Former    []Former
	Revision  int64
	Spec      group.Spec
	Anchor    time.Time // of the cadence's grid
	CreatedAt time.Time
}

// Former is a machine that was of a group when that was home here.
type Former struct {
	Platform string `json:"platform"` // ID
	ID       string `json:"id"`       // on the platform
	Name     string `json:"name"`
}

// FormerHome lists the machines that a group has here, or had, where it runs elsewhere.
func (r Record) FormerHome() []Former {
	if r.Direction != Out {
		return r.Former
	}
	var out []Former
	for _, m := range r.Spec.Machines {
		out = append(out, Former{r.Spec.Platform, m.ID, m.Name})
	}
	return out
}

// Other is the name of the site that this one shares the group with.
func (r Record) Other() string {
	if r.Direction == In {
		return r.HomeName
	}
	return r.RecoveryName
}

// Home tells whether the group is home here, and copied from here.
func (r Record) Home() bool { return r.Direction == Out && r.Turned == "" }

// Away tells whether the group was home here, and runs at the other site since a failover that
// is not accepted yet.
func (r Record) Away() bool { return r.Direction == Out && r.Turned != "" }

// Held tells whether the group's machines run here since a failover that is not accepted yet.
func (r Record) Held() bool { return r.Turned == Held }

// Role is what this site is to the group.
func (r Record) Role() term.State {
	role := map[Direction]term.Role{Out: term.Home, In: term.Recovery, Ended: term.Ended}[r.Direction]
	switch r.Turned {
	case Held:
		role = term.Home
	case Ceded:
		role = term.Ceded
	case Away:
		role = term.Recovery
	}
	return term.State{Role: role, Term: r.Term}
}

// Store is where records are kept; *records.DB is one.
type Store interface {
	Groups(ctx context.Context) ([]records.Group, error)
	AddGroups(ctx context.Context, gs []records.Group, as []records.Activity) error
	SwapGroup(ctx context.Context, g records.Group, from int64, a records.Activity) error
	TurnGroup(ctx context.Context, g, was records.Group, a records.Activity) error
	MirrorGroup(ctx context.Context, g records.Group, at time.Time, a records.Activity) (bool, error)
	DeleteGroup(ctx context.Context, id string, a records.Activity) error
	Edits(ctx context.Context, object string, after int64) ([]records.Activity, error)
}

// Change tells of a record that was written. Before is nil of a new group, After
// of one that was deleted.
type Change struct{ Before, After *Record }

// Directory is the records of one site.
type Directory struct {
	store Store
	trail *audit.Trail
	clk   clock.Clock
	hub   *events.Hub

	mu      sync.Mutex
	byID    map[string]Record
	ordered []Record          // by name; nil if that is to be found anew
	guarded map[string]string // machine → group, of groups that are home here
	watch   []func(Change)
}

// Open reads all records.
func Open(ctx context.Context, store Store, trail *audit.Trail, clk clock.Clock, hub *events.Hub) (*Directory, error) {
	d := &Directory{store: store, trail: trail, clk: clk, hub: hub, byID: map[string]Record{}, guarded: map[string]string{}}
	recs, err := store.Groups(ctx)
	if err != nil {
		return nil, err
	}
	for _, g := range recs {
		r, err := read(g)
		if err != nil {
			return nil, err
		}
		d.put(r)
	}
	return d, nil
}

func read(g records.Group) (Record, error) {
	s, err := Decode(g.Settings, g.Name)
	if err != nil {
		return Record{}, err
	}
	r := Record{ID: g.ID, Direction: Direction(g.Direction), HomeID: g.HomeID, HomeName: g.HomeName, RecoveryName: g.RecoveryName, Term: g.Term, Turned: Turned(g.Turned), Revision: g.Revision, Spec: s, Anchor: g.Anchor, CreatedAt: g.CreatedAt}
	if g.Link != nil {
		r.Link = *g.Link
	}
	if len(g.Former) > 0 {
		if err := json.Unmarshal(g.Former, &r.Former); err != nil {
			return Record{}, fmt.Errorf("former machines of %s: %w", g.Name, err)
		}
	}
	return r, nil
}

func write(r Record) records.Group {
	g := records.Group{ID: r.ID, Name: r.Spec.Name, Direction: string(r.Direction), HomeID: r.HomeID, HomeName: r.HomeName, RecoveryName: r.RecoveryName, Term: r.Term, Turned: string(r.Turned), Revision: r.Revision,
		Settings: Encode(r.Spec), Anchor: r.Anchor, CreatedAt: r.CreatedAt, Target: seconds(r.Spec.Promise.Target), Platform: r.Spec.Platform}
	if len(r.Former) > 0 {
		g.Former, _ = json.Marshal(r.Former) // plain structs always marshal
	}
	if r.Link != "" {
		g.Link = &r.Link
	}
	if t := r.Spec.Tier; t != nil {
		g.Tier = t.Tier.Name
	}
	if p := r.Spec.Pause; p != nil {
		g.Paused = &p.Reason
		if !p.Until.IsZero() {
			g.PausedUntil = &p.Until
		}
	}
	if r.Away() || r.Held() {
		// Nothing is copied on purpose: nobody can keep a target of it meanwhile.
		g.Paused, g.PausedUntil = new("It runs at the other site since a failover that is not decided upon."), nil
	}
	for _, m := range r.Spec.Machines {
		g.Machines = append(g.Machines, m.ID)
	}
	return g
}

func machineKey(platform, machine string) string { return platform + "/" + machine }

// put keeps a record in memory unless a later one is there; the lock is held or
// nobody else is here yet.
func (d *Directory) put(r Record) bool {
	if was, ok := d.byID[r.ID]; ok {
		if was.Term > r.Term || was.Term == r.Term && was.Revision > r.Revision {
			return false
		}
		d.unguard(was)
		d.unlist(was)
	}
	d.byID[r.ID] = r
	d.enlist(r)
	if r.Direction == Out {
		for _, m := range r.Spec.Machines {
			d.guarded[machineKey(r.Spec.Platform, m.ID)] = r.ID
		}
	}
	return true
}

// inOrder compares records as they are listed: by name.
func inOrder(a, b Record) int {
	return cmp.Or(strings.Compare(strings.ToLower(a.Spec.Name), strings.ToLower(b.Spec.Name)), strings.Compare(a.ID, b.ID))
}

// enlist and unlist keep the list in order at one change, for which not all is to be sorted again:
// others may have the list of before, which stays as it is. The lock is held.
func (d *Directory) enlist(r Record) {
	if d.ordered == nil {
		return
	}
	at, _ := slices.BinarySearchFunc(d.ordered, r, inOrder)
	d.ordered = slices.Insert(slices.Clip(d.ordered), at, r)
}

func (d *Directory) unlist(r Record) {
	if d.ordered == nil {
		return
	}
	if at, found := slices.BinarySearchFunc(d.ordered, r, inOrder); found {
		d.ordered = slices.Concat(d.ordered[:at], d.ordered[at+1:])
	} else {
		d.ordered = nil
	}
}

func (d *Directory) unguard(r Record) {
	for _, m := range r.Spec.Machines {
		if k := machineKey(r.Spec.Platform, m.ID); d.guarded[k] == r.ID {
			delete(d.guarded, k)
		}
	}
}

// Watch has f called after every change, in no particular order and without any
// lock held. It is for wiring, before anything runs.
func (d *Directory) Watch(f func(Change)) { d.watch = append(d.watch, f) }

// keep takes a record that was written into memory and tells who watches.
func (d *Directory) keep(r Record) {
	d.mu.Lock()
	var c Change
	if was, ok := d.byID[r.ID]; ok {
		c.Before = &was
	}
	if d.put(r) {
		c.After = &r
	}
	d.mu.Unlock()
	if c.After != nil {
		d.tell(c, r.ID)
	}
}

func (d *Directory) tell(c Change, id string) {
	for _, f := range d.watch {
		f(c)
	}
	d.hub.Send(events.Event{Type: "group", ID: id})
}

// Get gives a record by ID.
func (d *Directory) Get(id string) (Record, bool) {
	d.mu.Lock()
	defer d.mu.Unlock()
	r, ok := d.byID[id]
	return r, ok
}

// All lists the records in the order of their names. The list is shared, and not to
// be changed.
func (d *Directory) All() []Record {
	d.mu.Lock()
	defer d.mu.Unlock()
	if d.ordered == nil {
		d.ordered = slices.SortedFunc(maps.Values(d.byID), inOrder)
	}
	return slices.Clip(d.ordered)
}

// Find resolves an ID, or a name that only one group has. A group that lives goes
// before ended ones of its name, but not unnoticed: of several ended ones the ID
// has to be given.
func (d *Directory) Find(text string) (Record, error) {
	if r, ok := d.Get(text); ok {
		return r, nil
	}
	var live, ended []Record
	var names []string
	for _, r := range d.All() {
		names = append(names, r.Spec.Name)
		switch {
		case !strings.EqualFold(r.Spec.Name, text):
		case r.Direction == Ended:
			ended = append(ended, r)
		default:
			live = append(live, r)
		}
	}
	switch {
	case len(live) == 1:
		return live[0], nil
	case len(live) > 1:
		return Record{}, problem.Conflict("More than one group is called %q; give the ID: %s.", text, idsOf(live))
	case len(ended) == 1:
		return ended[0], nil
	case len(ended) > 1:
		return Record{}, problem.Conflict("More than one group called %q has ended; give the ID: %s.", text, idsOf(ended))
	}
	p := problem.NotFound("group", text)
	if near, ok := words.Nearest(text, names); ok {
		p.Detail += fmt.Sprintf(" Did you mean %q?", near)
	}
	return Record{}, p
}

func idsOf(rs []Record) string {
	var out []string
	for _, r := range rs {
		out = append(out, fmt.Sprintf("%s (of %s, from %s)", r.ID, r.HomeName, r.CreatedAt.UTC().Format("2006-01-02")))
	}
	return words.Joined(out, 4)
}

// Guards gives the group of this site that a machine is in.
func (d *Directory) Guards(platform, machine string) (Record, bool) {
	d.mu.Lock()
	defer d.mu.Unlock()
	r, ok := d.byID[d.guarded[machineKey(platform, machine)]]
	return r, ok
}

func object(r Record) audit.Object { return audit.Object{Kind: "group", Name: r.Spec.Name, ID: r.ID} }

// faults turns the findings that bar saving into fields at fault.
func faults(fs []group.Finding) []problem.Field {
	var out []problem.Field
	for _, f := range promise.Faults(fs) {
		out = append(out, problem.Field{Field: f.Field, Message: f.Message})
	}
	return out
}

// Check says what would bar a specification from being saved as a group of this
// site, all at once; except is the group that it is an edit of.
func (d *Directory) Check(s group.Spec, except string) []problem.Field {
	out := faults(s.Validate())
	for _, r := range d.All() {
		if r.Direction == Out && r.ID != except && strings.EqualFold(r.Spec.Name, s.Name) {
			out = append(out, nameTaken(r.Spec.Name))
		}
	}
	for i, m := range s.Machines {
		if r, ok := d.Guards(s.Platform, m.ID); ok && r.ID != except {
			out = append(out, problem.Field{Field: fmt.Sprintf("machines[%d]", i), Message: fmt.Sprintf("%s is protected by the group %s already. Take it out there first.", m.Name, r.Spec.Name)})
		}
	}
	return out
}

func nameTaken(name string) problem.Field {
	return problem.Field{Field: "name", Message: fmt.Sprintf("There is a group %q already; choose another name.", name)}
}

// taken turns what the database found taken into the field at fault: somebody was
// faster than Check.
func taken(err error, name string) error {
	switch {
	case records.Taken(err, records.GroupNameTaken):
		return problem.InvalidFields(nameTaken(name))
	case records.Taken(err, records.MachineTaken):
		return problem.Invalid("machines", "One of the machines was put into another group just now. Look at the list of machines again.")
	}
	return err
}

// anchors are those of the other groups that are home here, have the cadence of a group, and
// go the same way.
func (d *Directory) anchors(r Record) []time.Time {
	var out []time.Time
	for _, o := range d.All() {
		if o.Direction == Out && o.Link == r.Link && o.Spec.Promise.Cadence.Every == r.Spec.Promise.Cadence.Every {
			out = append(out, o.Anchor)
		}
	}
	return out
}

// Create stores a new group that is home here.
func (d *Directory) Create(ctx context.Context, who actor.Actor, r Record) (Record, error) {
	out, err := d.CreateAll(ctx, who, []Record{r})
	if err != nil {
		return Record{}, err
	}
	return out[0], nil
}

// CreateAll stores new groups that are home here, all or none.
func (d *Directory) CreateAll(ctx context.Context, who actor.Actor, rs []Record) ([]Record, error) {
	out := slices.Clone(rs)
	var rows []records.Group
	var lines []records.Activity
	taking := map[string][]time.Time{} // anchors, by what shares them
	for i := range out {
		r := &out[i]
		if fs := d.Check(r.Spec, ""); len(fs) > 0 {
			return nil, problem.InvalidFields(fs...)
		}
		r.Direction, r.Term, r.Revision = Out, term.New().Term, 1
		r.CreatedAt = d.clk.Now().UTC()
		every := r.Spec.Promise.Cadence.Every
		key := r.Link + "/" + every.String()
		if _, known := taking[key]; !known {
			taking[key] = d.anchors(*r)
		}
		if r.Anchor.IsZero() {
			r.Anchor = schedule.Anchor(r.ID, r.CreatedAt, every, taking[key])
		}
		taking[key] = append(taking[key], r.Anchor)
		rows = append(rows, write(*r))
		lines = append(lines, d.trail.Line(who, object(*r), r.Revision, group.Diff(group.Spec{}, r.Spec), fmt.Sprintf("%s made the group %s of %s, kept at %s", who, r.Spec.Name, strings.Join(r.Spec.MachineNames(), ", "), r.RecoveryName)))
	}
	name := out[0].Spec.Name
	if len(out) > 1 {
		name = "one of them"
	}
	if err := d.store.AddGroups(ctx, rows, lines); err != nil {
		return nil, taken(err, name)
	}
	for _, r := range out {
		d.keep(r)
	}
	d.trail.Written()
	return out, nil
}

// tries bounds how often an edit is made anew because others came between.
const tries = 20

// Update applies an edit to a group that is home here. If match is given and is
// not the group's revision, or if somebody changed one of the same fields while
// this was under way, nothing is changed and the answer says what they did. Else
// both edits hold. Text makes the line of the trail of what was changed.
func (d *Directory) Update(ctx context.Context, who actor.Actor, id string, p group.Patch, match *int64, text func(next Record, cs []group.Change) string) (Record, []group.Change, error) {
	first, ok := d.Get(id)
	if !ok {
		return Record{}, nil, problem.NotFound("group", id)
	}
	if match != nil && *match != first.Revision {
		return Record{}, nil, d.stale(ctx, first, *match)
	}
	was := first
	for range tries {
		if was.Direction != Out {
			return Record{}, nil, problem.Conflict("The group %s is not home here.", was.Spec.Name)
		}
		if was.Away() {
			return Record{}, nil, problem.Conflict("The group %s runs at %s since a failover. What is decided about it can be changed when that was accepted or backed out.", was.Spec.Name, was.RecoveryName)
		}
		next := was
		next.Spec = p.Apply(was.Spec)
		if clash := group.Clash(first.Spec, was.Spec, p.Apply(first.Spec)); len(clash) > 0 {
			return Record{}, nil, d.clash(ctx, was, first.Revision)
		}
		changes := group.Diff(was.Spec, next.Spec)
		if len(changes) == 0 {
			return was, nil, nil
		}
		if fs := d.Check(next.Spec, id); len(fs) > 0 {
			return Record{}, nil, problem.InvalidFields(fs...)
		}
		next.Revision++
		line := d.trail.Line(who, object(next), next.Revision, changes, text(next, changes))
		err := d.store.SwapGroup(ctx, write(next), was.Revision, line)
		if err == nil {
			d.keep(next)
			d.trail.Written()
			return next, changes, nil
		}
		if !errors.Is(err, records.ErrStale) {
			return Record{}, nil, taken(err, next.Spec.Name)
		}
		if was, err = d.reload(ctx, id); err != nil {
			return Record{}, nil, err
		}
		if match != nil {
			return Record{}, nil, d.stale(ctx, was, *match)
		}
	}
	return Record{}, nil, problem.Conflict("Others change %s all the time; try again.", first.Spec.Name)
}

// reload brings memory up to what the database holds of a group.
func (d *Directory) reload(ctx context.Context, id string) (Record, error) {
	recs, err := d.store.Groups(ctx)
	if err != nil {
		return Record{}, err
	}
	for _, g := range recs {
		if g.ID != id {
			continue
		}
		r, err := read(g)
		if err != nil {
			return Record{}, err
		}
		d.keep(r)
		return r, nil
	}
	return Record{}, problem.NotFound("group", id)
}

// stale refuses an edit of a revision that is not the newest.
func (d *Directory) stale(ctx context.Context, now Record, match int64) error {
	return &problem.Problem{Status: 412, Title: "It has changed since you looked; nothing was changed", Detail: d.since(ctx, now, match)}
}

// clash refuses an edit of a field that somebody else changed meanwhile.
func (d *Directory) clash(ctx context.Context, now Record, from int64) error {
	return problem.Conflict("%s", d.since(ctx, now, from))
}

// since says what was done to a group after a revision, and by whom.
func (d *Directory) since(ctx context.Context, now Record, revision int64) string {
	head := fmt.Sprintf("%s is at revision %d, and your change was made of revision %d.", now.Spec.Name, now.Revision, revision)
	edits, err := d.store.Edits(ctx, now.ID, revision)
	if err != nil || revision > now.Revision {
		return head + " Look at it again."
	}
	for _, e := range edits[:min(len(edits), 5)] {
		changes, err := audit.ChangesOf(e)
		if err != nil {
			continue
		}
		head += fmt.Sprintf(" %s, %s: %s.", e.At.UTC().Format("2006-01-02 15:04:05 MST"), e.Who, group.Words(changes))
	}
	return head + " Look at it again."
}

// Mirror takes a group as its home site reports it. It reports whether it was not
// known before. A report of an earlier term or revision changes nothing.
func (d *Directory) Mirror(ctx context.Context, from actor.Actor, r Record) (fresh bool, err error) {
	was, known := d.Get(r.ID)
	_, outcome := was.Role().Hear(term.Report{Term: r.Term})
	switch {
	case known && was.Direction == Out && !was.Spec.KeptAt(r.HomeID),
		known && was.Direction != Out && was.HomeID != r.HomeID:
		return false, problem.Conflict("Group %s is home elsewhere.", r.Spec.Name)
	case outcome == term.Refused && was.Held():
		return false, problem.Conflict("Group %s runs here since a failover, in term %d; %s has to stand down.", r.Spec.Name, was.Term, r.HomeName)
	case outcome == term.Refused && was.Direction == Out:
		return false, problem.Conflict("Group %s is home here, in term %d; %s has to stand down.", r.Spec.Name, was.Term, r.HomeName)
	case outcome == term.Refused:
		return false, problem.Conflict("Group %s has a higher term here; %s has to stand down.", r.Spec.Name, r.HomeName)
	}
	r.Direction, r.Turned, r.Former = In, "", was.FormerHome()
	if known && was.Direction == In && was.Turned == "" && was.Term == r.Term && was.Revision >= r.Revision && was.Link == r.Link && (was.Revision > r.Revision || len(group.Diff(was.Spec, r.Spec)) == 0) {
		return false, nil
	}
	var line records.Activity
	if !known {
		line = d.trail.Line(from, object(r), r.Revision, nil, fmt.Sprintf("%s keeps the points of its group %s here", r.HomeName, r.Spec.Name))
	}
	written, err := d.store.MirrorGroup(ctx, write(r), d.clk.Now().UTC(), line)
	if err != nil {
		return false, err
	}
	if written {
		d.keep(r)
		if !known {
			d.trail.Written()
		}
	}
	return !known, nil
}

// Turn changes at which site a group is home, or which it is held at. Change is given the
// group as it is and makes of it what it is to be; its error ends it, and changes nothing.
func (d *Directory) Turn(ctx context.Context, who actor.Actor, id string, change func(r *Record) (text string, err error)) (Record, error) {
	for range tries {
		was, ok := d.Get(id)
		if !ok {
			return Record{}, problem.NotFound("group", id)
		}
		next := was
		next.Spec = was.Spec.Clone()
		text, err := change(&next)
		if err != nil || text == "" {
			return was, err
		}
		err = d.store.TurnGroup(ctx, write(next), write(was), d.trail.Line(who, object(next), 0, nil, text))
		if err == nil {
			d.keep(next)
			d.trail.Written()
			return next, nil
		}
		if !errors.Is(err, records.ErrStale) {
			return was, taken(err, next.Spec.Name)
		}
		if _, err := d.reload(ctx, id); err != nil {
			return was, err
		}
	}
	return Record{}, problem.Conflict("The group is being changed all the time; try again.")
}

// End leaves a group's points without the group. Recovery is the site that holds
// them, if it is another than before.
func (d *Directory) End(ctx context.Context, who actor.Actor, id, recovery, text string) error {
	for range tries {
		was, ok := d.Get(id)
		if !ok || was.Direction == Ended {
			return nil
		}
		next := was
		next.Direction = Ended
		if was.Direction == Out { // elsewhere the revision is the home site's
			next.Revision++
		}
		if recovery != "" {
			next.RecoveryName = recovery
		}
		err := d.store.SwapGroup(ctx, write(next), was.Revision, d.trail.Line(who, object(next), 0, nil, text))
		if err == nil {
			d.keep(next)
			d.trail.Written()
			return nil
		}
		if !errors.Is(err, records.ErrStale) {
			return err
		}
		if _, err := d.reload(ctx, id); err != nil {
			return err
		}
	}
	return problem.Conflict("The group is being changed all the time; try again.")
}

// Delete forgets a group.
func (d *Directory) Delete(ctx context.Context, who actor.Actor, id, text string) error {
	r, ok := d.Get(id)
	if !ok {
		return nil
	}
	if err := d.store.DeleteGroup(ctx, id, d.trail.Line(who, object(r), 0, nil, text)); err != nil {
		return err
	}
	d.mu.Lock()
	d.unguard(r)
	delete(d.byID, id)
	d.ordered = nil
	d.mu.Unlock()
	d.trail.Written()
	d.tell(Change{Before: &r}, id)
	return nil
}

// Unlink lets groups that have ended go of a link that is removed. The database
// does the same with the link itself.
func (d *Directory) Unlink(link string) {
	d.mu.Lock()
	defer d.mu.Unlock()
	for id, r := range d.byID {
		if r.Link == link {
			r.Link = ""
			d.byID[id], d.ordered = r, nil
		}
	}
}

// ResumeDue ends the pauses whose time is over, in the name of the service.
func (d *Directory) ResumeDue(ctx context.Context) error {
	now := d.clk.Now()
	var errs []error
	for _, r := range d.All() {
		if !r.Home() || r.Spec.Pause == nil || r.Spec.PausedAt(now) {
			continue
		}
		_, _, err := d.Update(ctx, actor.System(), r.ID, group.Patch{Resume: true}, &r.Revision, func(Record, []group.Change) string {
			return fmt.Sprintf("The pause of %s is over; it was for: %s", r.Spec.Name, orNone(r.Spec.Pause.Reason))
		})
		if p, ok := problem.Of(err); ok && p.Status == http.StatusPreconditionFailed {
			continue // somebody edited it meanwhile: the next look judges what they wrote
		}
		errs = append(errs, err)
	}
	return errors.Join(errs...)
}

func orNone(s string) string {
	if s == "" {
		return "no reason given"
	}
	return s
}
