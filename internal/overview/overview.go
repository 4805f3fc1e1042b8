// Package overview puts together what the rooms know into what people look at:
// groups as they stand, and the board. It keeps nothing itself.
package overview

import (
	"cmp"
	"context"
	"fmt"
	"math"
	"slices"
	"strings"
	"time"

	"kestrel/internal/api"
	"kestrel/internal/clock"
	"kestrel/internal/core/group"
	"kestrel/internal/core/health"
	"kestrel/internal/core/scope"
	"kestrel/internal/core/span"
	"kestrel/internal/core/words"
	"kestrel/internal/cycle"
	"kestrel/internal/directory"
	"kestrel/internal/history"
	"kestrel/internal/inventory"
	"kestrel/internal/keeper"
	"kestrel/internal/link"
	"kestrel/internal/listing"
	"kestrel/internal/mover"
	"kestrel/internal/peering"
	"kestrel/internal/platform"
	"kestrel/internal/problem"
	"kestrel/internal/protection"
	"kestrel/internal/records"
)

// Config is what it looks at.
type Config struct {
	Site      string // name of this site
	Groups    *directory.Directory
	Inventory *inventory.Inventory
	Peering   *peering.Peering
	Mover     *mover.Mover
	Keeper    *keeper.Keeper
	History   *history.History
	Clock     clock.Clock
	// Leavers are the machines of a group that its rule no longer speaks for.
	Leavers func(group string) []scope.Leaver
	// RunsHere lists the machines of a group that run here although it runs at the other site;
	// nil lists none.
	RunsHere func(r directory.Record) []string
	// Drill is when a drill of a group passed last, and when one falls due; zero where there is
	// none, or nothing is known of it. Nil is none.
	Drill func(r directory.Record) (last, due time.Time)
}

// Overview shows one site.
type Overview struct{ Config }

// New makes it.
func New(cfg Config) *Overview { return &Overview{cfg} }

// sight is what is known of a group at one moment.
type sight struct {
	rec    directory.Record
	live   link.Live // as the home site sees it
	hold   keeper.Holding
	way    peering.Link
	linked bool
	facts  health.Facts
	state  health.State
}

// confirmed is when the recovery site of a group last said what it holds, or has since said that
// nothing has changed.
func (o *Overview) confirmed(r directory.Record, hold keeper.Holding) time.Time {
	if at := o.Peering.HeardAt(r.Link); !hold.ConfirmedAt.IsZero() && at.After(hold.ConfirmedAt) {
		return at
	}
	return hold.ConfirmedAt
}

func (o *Overview) look(r directory.Record) *sight {
	now := o.Clock.Now()
	x := &sight{rec: r, hold: o.Keeper.Holding(r.ID)}
	x.way, x.linked = o.Peering.Get(r.Link)
	f := health.Facts{Now: now, Target: r.Spec.Promise.Target, Paused: r.Spec.PausedAt(now), Sealed: !x.hold.NewestAt.IsZero(), LinkSeen: x.way.SeenAt, CreatedAt: r.CreatedAt}
	if p := r.Spec.Pause; p != nil {
		f.PausedAt = p.Since
	}
	if f.Sealed {
		f.Exposure = max(0, now.Sub(x.hold.NewestAt))
	}
	if r.Direction == directory.Out {
		x.live = o.Mover.Live(r.ID)
		f.LinkUp = x.way.Reached
		if p, ok := o.Inventory.Get(r.Spec.Platform); ok {
			f.PlatformSeen = p.SeenAt
		}
	} else {
		x.live, _ = o.Peering.Reported(r.ID)
		f.LinkUp = x.way.Up
		if r.Direction == directory.Ended { // what was, says nothing of what is
			x.live.BacklogKnown, x.live.ChangeRate = false, 0
		}
	}
	f.PlatformUp, f.DueSince = x.live.PlatformUp, x.live.DueSince
	if p := x.live.Running; p != nil && p.Phase != "" {
		f.Running, f.LastProgress = true, p.MovedAt
	}
	if r.Held() || r.Away() { // it is copied nowhere until that is decided, and the target says nothing
		f.FailedOver, f.Paused, f.Sealed = true, true, false
	}
	x.facts, x.state = f, health.Judge(f)
	return x
}

// turned says in a sentence that a group runs elsewhere than at its home; empty if it does not.
func (o *Overview) turned(r directory.Record) string {
	switch {
	case r.Held():
		return "Its machines run here since a failover that waits for a decision: accept it, or back out. It is copied nowhere meanwhile."
	case len(o.twice(r)) > 0:
		return fmt.Sprintf("It runs at %s since a failover, and %s here as well: there are two running copies. Shut down those here.", r.Other(), runs(o.twice(r)))
	case r.Away():
		return fmt.Sprintf("Its machines run at %s since a failover that waits for a decision there. Nothing is copied meanwhile.", r.RecoveryName)
	case r.Turned == directory.Returned:
		return fmt.Sprintf("It was given back to %s, which has yet to hear of it.", r.HomeName)
	}
	return ""
}

// twice lists the machines of a group that run here although it runs at the other site.
func (o *Overview) twice(r directory.Record) []string {
	if o.RunsHere == nil {
		return nil
	}
	return o.RunsHere(r)
}

func runs(names []string) string {
	if len(names) == 1 {
		return names[0] + " runs"
	}
	return words.Joined(names, 4) + " run"
}

// Stand is how a group stands.
type Stand struct {
	State   health.State
	Facts   health.Facts
	Reasons []health.Reason
	// Restless are the machines that were not brought to rest at the last capture.
	Restless   []health.Restless
	LostPoints int // that cannot be read whole
	// Unusual is the newest cycle that found an unusual change; its text is empty if none of
	// the newest did.
	Unusual cycle.Account
}

// Stand tells how a group stands.
func (o *Overview) Stand(r directory.Record) Stand {
	x := o.look(r)
	d := o.detail(x)
	out := Stand{x.state, x.facts, health.Reasons(x.facts, x.state, d), d.Restless, d.LostPoints, cycle.Account{}}
	for _, c := range x.live.Cycles {
		if c.Unusual != "" && out.Unusual.Unusual == "" {
			out.Unusual = c
		}
	}
	return out
}

// detail is what a group's reasons are given from.
func (o *Overview) detail(x *sight) health.Detail {
	r := x.rec
	d := health.Detail{Home: r.HomeName, Recovery: r.RecoveryName, AtHome: r.Direction == directory.Out, Silence: -1, Failure: x.live.Failure, HomePointsFailure: x.live.HomePointsFailure,
		LostPoints: x.hold.Lost.Points, LostBytes: x.hold.Lost.Gone, Every: r.Spec.Promise.Cadence.Every, ClocksApart: x.way.Ahead, Next: x.live.NextStart}
	if !x.facts.Paused {
		d.Waiting = x.live.Waiting
	}
	if p := x.live.Running; p != nil {
		d.Phase = p.Phase
	}
	if !x.way.SeenAt.IsZero() {
		d.Silence = x.facts.Now.Sub(x.way.SeenAt)
	}
	if why := o.Peering.Refused(r.ID); why != "" {
		d.Failure = r.RecoveryName + " refuses the group: " + why
	}
	if p := r.Spec.Pause; p != nil {
		d.PauseReason, d.PausedUntil = p.Reason, p.Until
	}
	compared := false
	for _, c := range x.live.Cycles {
		if c.State != cycle.Sealed {
			continue
		}
		if d.Last == nil && c.Kind == cycle.KindChanges {
			d.Last = &health.Pass{Waited: c.Waited, Took: c.Took(), ReadBytes: c.ReadBytes, ChangedBytes: c.ChangedBytes, WireBytes: c.WireBytes, Limit: c.LinkLimit, Read: c.Lasted("read"), Ship: c.Lasted("ship"), Seal: c.Lasted("seal")}
		}
		if !compared && c.Kind == cycle.KindCompare {
			compared, d.Missed = true, c.MissedBytes
		}
	}
	for _, m := range r.Spec.Machines {
		if q, ok := lastQuiet(x.live.Cycles, m.ID); ok && r.Spec.RestOf(m).On() && !q.Done && q.Why != "" {
			d.Restless = append(d.Restless, health.Restless{Machine: m.Name, Why: q.Why})
		}
	}
	return d
}

// reasons are why a group is as it is.
func (x *sight) reasons(o *Overview) []health.Reason {
	return health.Reasons(x.facts, x.state, o.detail(x))
}

func causeView(r health.Reason) api.Cause {
	v := api.Cause{Text: r.Text}
	if r.Culprit != "" {
		v.Culprit = new(string(r.Culprit))
	}
	if r.Mend != "" {
		v.Mend = &r.Mend
	}
	return v
}

// rested counts at how many of the newest cycles a machine was to be brought to rest, and
// at how many it was not.
func rested(cycles []cycle.Account, machine string) (tries, failures int) {
	for _, c := range cycles {
		for _, q := range c.Quiet {
			// One that was only held still was not asked, and nothing is said of why.
			if q.Machine != machine || !q.Done && q.Why == "" {
				continue
			}
			tries++
			if !q.Done {
				failures++
			}
		}
	}
	return tries, failures
}

// undecided lists the disks of a machine that nobody has decided about.
func undecided(s group.Spec, m platform.Machine) []api.GroupDisk {
	var out []api.GroupDisk
	for _, d := range m.Disks {
		if s.Undecided(m.ID, d.Key) {
			out = append(out, api.GroupDisk{Key: d.Key, Label: d.Label, SizeBytes: d.SizeBytes, Boot: d.Boot, Undecided: new(true)})
		}
	}
	return out
}

// lastQuiet is how a machine was last brought to rest.
func lastQuiet(cycles []cycle.Account, machine string) (platform.Quiet, bool) {
	for _, c := range cycles {
		for _, q := range c.Quiet {
			if q.Machine == machine {
				return q, true
			}
		}
	}
	return platform.Quiet{}, false
}

func orNil(t time.Time) *time.Time {
	if t.IsZero() {
		return nil
	}
	return new(t.UTC())
}

func seconds(d time.Duration) int64 { return int64(d / time.Second) }

// show is a group as the contract shows it.
func (o *Overview) show(x *sight) api.Group {
	r, hold, live := x.rec, x.hold, x.live
	now := x.facts.Now
	v := api.Group{ID: r.ID, Direction: api.GroupDirection(r.Direction), Home: r.HomeName, Recovery: r.RecoveryName, Link: r.Link, Health: string(x.health()), Points: hold.Points, LostPoints: hold.Lost.Points,
		HomePointCount: hold.HomePoints, NewestCaptureAt: orNil(hold.NewestAt), OldestCaptureAt: orNil(hold.OldestAt), ConfirmedAt: orNil(o.confirmed(r, hold)), ComparedAt: orNil(live.ComparedAt), NextStartAt: orNil(live.NextStart),
		Term: r.Term, Revision: r.Revision, CreatedAt: r.CreatedAt}
	protection.Show(r.Spec, &v, now)
	switch r.Direction {
	case directory.In:
		v.ConfirmedAt = orNil(now) // this site holds the points itself
		v.HomePointCount = live.HomePoints
	case directory.Ended:
		v.Reasons = []string{ended(r, hold)}
		v.NextStartAt = nil
		if d, ok := o.Keeper.Deletion(r.ID); ok {
			v.Deletion = &api.Deletion{AskedBy: d.AskedBy, AskedAt: d.AskedAt, GoAt: d.DueAt}
			v.Reasons = []string{wanted(d, now)}
		}
	}
	if text := o.turned(r); text != "" {
		v.Reasons = []string{text}
		v.Cause = &api.Cause{Text: text}
		v.NextStartAt = nil
	}
	if r.Turned != "" {
		v.Turned = new(api.GroupTurned(r.Turned))
	}
	if ms := o.twice(r); len(ms) > 0 {
		v.RunsHere = &ms
	}
	if len(r.Former) > 0 {
		var names []string
		for _, m := range r.Former {
			names = append(names, m.Name)
		}
		v.Former = &names
	}
	if live.Waiting != "" && !r.Spec.PausedAt(now) {
		v.Waiting = new(words.Sentence(live.Waiting))
	}
	if v.Reasons == nil {
		v.Reasons = []string{}
		for i, why := range x.reasons(o) {
			v.Reasons = append(v.Reasons, why.Text)
			if i == 0 && x.state != health.OnTarget {
				v.Cause = new(causeView(why))
			}
		}
		v.Since = orNil(x.facts.Since(x.state))
	}
	if s, ok := o.Keeper.GroupSpace(r.ID); ok {
		v.Space = &api.GroupSpace{NeededBytes: s.Needed, AloneBytes: s.Alone, WholeBytes: s.Whole}
	}
	if o.Drill != nil && r.Direction != directory.Ended {
		last, due := o.Drill(r)
		v.DrilledAt, v.DrillDueAt = orNil(last), orNil(due)
	}
	if x.facts.Sealed {
		v.ExposureSeconds = new(seconds(x.facts.Exposure))
		v.HeadroomSeconds = new(seconds(x.facts.Target - x.facts.Exposure))
	}
	if live.ChangeRate > 0 {
		v.ChangeBytesPerSecond = &live.ChangeRate
	}
	o.machines(x, &v)
	o.open(x, &v)
	if p := live.Running; p != nil && p.Phase != "" {
		v.Running = &api.Progress{Phase: p.Phase, TotalBytes: p.TotalBytes, ReadBytes: p.ReadBytes, ChangedBytes: p.ChangedBytes, ShippedBytes: p.ShippedBytes, WireBytes: p.WireBytes,
			BytesPerSecond: live.Rate, FinishAt: orNil(live.FinishAt)}
		if p.Note != "" {
			v.Running.Note = &p.Note
		}
	}
	for i, c := range live.Cycles {
		if i == 0 || c.State == cycle.Sealed {
			v.LastCycle = new(cycleView(c, r.Spec))
		}
		if c.State == cycle.Sealed {
			break
		}
	}
	return v
}

// open adds what waits for somebody to decide: machines that a rule no longer speaks for,
// and disks that are only flagged.
func (o *Overview) open(x *sight, v *api.Group) {
	if x.rec.Direction != directory.Out {
		return
	}
	if x.rec.Spec.Rule != nil && o.Leavers != nil {
		v.Leavers = &[]api.Leaver{}
		for _, l := range o.Leavers(x.rec.ID) {
			*v.Leavers = append(*v.Leavers, api.Leaver{Machine: l.ID, Name: l.Name, Why: words.Sentence(l.Why)})
			v.Reasons = append(v.Reasons, fmt.Sprintf("%s joined by the rule, and %s. It is kept until somebody decides: take it out, or keep it by hand.", l.Name, l.Why))
		}
	}
	for _, m := range v.Machines {
		for _, d := range m.Disks {
			if d.Undecided != nil && *d.Undecided {
				v.Reasons = append(v.Reasons, fmt.Sprintf("Disk %s of %s (%s) is new and not copied until somebody decides.", d.Label, m.Name, span.Bytes(float64(d.SizeBytes))))
			}
		}
	}
}

// machines fills in what is known of a group's machines besides their settings.
func (o *Overview) machines(x *sight, v *api.Group) {
	known := x.live.BacklogKnown && x.facts.Sealed
	p, here := o.Inventory.Get(x.rec.Spec.Platform)
	var total int64
	for i := range v.Machines {
		m := &v.Machines[i]
		if known {
			n := x.live.Backlog[m.ID]
			m.BacklogBytes = &n
			total += n
		}
		if pm, ok := p.Machine(m.ID); here && ok {
			m.UsedBytes = new(inventory.Used(pm, func(disk string) bool { return x.rec.Spec.Leaves(m.ID, disk) }))
			m.Disks = append(m.Disks, undecided(x.rec.Spec, pm)...)
		}
		if sm, ok := x.rec.Spec.Machine(m.ID); ok && x.rec.Spec.RestOf(sm).On() {
			tries, failures := rested(x.live.Cycles, m.ID)
			m.RestTries, m.RestFailures = &tries, &failures
		}
		if q, ok := lastQuiet(x.live.Cycles, m.ID); ok {
			m.LastQuiet = new(quietView(q, m.Name))
		}
	}
	if known {
		v.BacklogBytes = &total
	}
}

// Backlog is how many bytes of a group are changed and not sealed yet; false if that is not
// known.
func (o *Overview) Backlog(r directory.Record) (int64, bool) {
	return o.look(r).backlog()
}

// ended says what is left of a group that has no home any more.
func ended(r directory.Record, hold keeper.Holding) string {
	if hold.Points == 0 {
		return fmt.Sprintf("This group has no home now (it was %s), and no points are left of it here.", r.HomeName)
	}
	return fmt.Sprintf("This group has no home now (it was %s). %s here, kept until they are deleted: start its machines from one.", r.HomeName, areKept(hold.Points))
}

// wanted says that another site wants points deleted.
func wanted(d records.Deletion, now time.Time) string {
	return fmt.Sprintf("%s wants the points of this group deleted: they go in %s unless somebody here keeps them, pinned ones excepted.", d.AskedBy, span.Format(max(0, d.DueAt.Sub(now))))
}

func areKept(n int) string {
	if n == 1 {
		return "Its one point is"
	}
	return fmt.Sprintf("Its %d points are", n)
}

func quietView(q platform.Quiet, name string) api.Quiet {
	v := api.Quiet{Machine: q.Machine, Name: name, Done: q.Done, HeldMillis: float64(q.Held.Microseconds()) / 1000}
	if q.Took > 0 {
		v.TookMillis = new(float64(q.Took.Microseconds()) / 1000)
	}
	if q.After != "" {
		v.After = &q.After
	}
	if q.Why != "" {
		v.Why = &q.Why
	}
	return v
}

// Group gives one.
func (o *Overview) Group(id string) (api.Group, error) {
	r, err := o.Groups.Find(id)
	if err != nil {
		return api.Group{}, err
	}
	return o.show(o.look(r)), nil
}

// Filter narrows and cuts a list of groups.
type Filter struct {
	Query, Tag, Direction, Health string
	See                           func(r directory.Record) bool // nil: all
	Page                          listing.Page
}

// picks tells whether a group is wanted by what is decided about it.
func (f Filter) picks(r directory.Record) bool {
	if f.See != nil && !f.See(r) || f.Direction != "" && string(r.Direction) != f.Direction ||
		f.Tag != "" && !slices.ContainsFunc(r.Spec.Tags, func(t string) bool { return strings.EqualFold(t, f.Tag) }) {
		return false
	}
	if f.Query == "" {
		return true
	}
	texts := append([]string{r.Spec.Name, r.HomeName, r.RecoveryName}, r.Spec.Tags...)
	for _, m := range r.Spec.Machines {
		texts = append(texts, m.Name)
	}
	return listing.Matches(f.Query, texts...)
}

// health is the word for a group; one that ended is held.
func (x *sight) health() health.State {
	if x.rec.Direction == directory.Ended && !x.rec.Held() {
		return health.Paused
	}
	return x.state
}

// orders are the orders of a list of groups; what is not known comes last but for
// the exposure, which is worst where there is no point at all.
func orders() listing.Orders[*sight] {
	by := func(of func(*sight) int64) func(a, b *sight) int {
		return func(a, b *sight) int { return cmp.Compare(of(a), of(b)) }
	}
	return listing.Orders[*sight]{
		"name": func(a, b *sight) int { return listing.Fold(a.rec.Spec.Name, b.rec.Spec.Name) },
		"exposure": by(func(x *sight) int64 {
			if !x.facts.Sealed {
				return math.MaxInt64
			}
			return seconds(x.facts.Exposure)
		}),
		"target": by(func(x *sight) int64 { return seconds(x.facts.Target) }),
		"backlog": by(func(x *sight) int64 {
			n, known := x.backlog()
			if !known {
				return -1
			}
			return n
		}),
		"points": by(func(x *sight) int64 { return int64(x.hold.Points) }),
		"next": by(func(x *sight) int64 {
			if x.live.NextStart.IsZero() || x.rec.Direction == directory.Ended {
				return math.MaxInt64
			}
			return x.live.NextStart.UnixMilli()
		}),
	}
}

// backlog is how many bytes of a group are changed and not sealed yet; false if that is not
// known.
func (x *sight) backlog() (total int64, known bool) {
	if !x.live.BacklogKnown || !x.facts.Sealed {
		return 0, false
	}
	for _, m := range x.rec.Spec.Machines {
		total += x.live.Backlog[m.ID]
	}
	return total, true
}

// List lists groups, worst first, and tells how many there are in all. Only what is in the
// page is put together.
func (o *Overview) List(f Filter) ([]api.Group, int, error) {
	switch f.Direction {
	case "", "out", "in", "ended":
	default:
		return nil, 0, problem.Invalid("direction", "%q is none of out, in, ended.", f.Direction)
	}
	if f.Health != "" && health.State(f.Health).Rank() > health.OnTarget.Rank() {
		return nil, 0, problem.Invalid("health", "%q is no health; one of over, stalled, cut off, tight, seeding, paused, on target.", f.Health)
	}
	var all []*sight
	for _, r := range o.Groups.All() {
		if !f.picks(r) {
			continue
		}
		if x := o.look(r); f.Health == "" || string(x.health()) == f.Health {
			all = append(all, x)
		}
	}
	page, err := orders().Of(all, worse, f.Page)
	out := []api.Group{}
	for _, x := range page {
		out = append(out, o.show(x))
	}
	return out, len(all), err
}

// worse orders groups: living ones first, worst health first. Equal ones stay as the
// directory lists them, by name, where the sort is stable.
func worse(a, b *sight) int {
	gone := func(x *sight) int {
		if x.rec.Direction == directory.Ended {
			return 1
		}
		return 0
	}
	return cmp.Or(cmp.Compare(gone(a), gone(b)), cmp.Compare(a.health().Rank(), b.health().Rank()))
}

// Exposure gives the sawtooth of a group over a stretch of time.
func (o *Overview) Exposure(ctx context.Context, id string, from, to *time.Time) (api.Exposure, error) {
	r, err := o.Groups.Find(id)
	if err != nil {
		return api.Exposure{}, err
	}
	return o.History.Exposure(ctx, r, from, to)
}

// Attainment sums up how promises were kept, of groups that see lets pass.
func (o *Overview) Attainment(ctx context.Context, by, direction string, from, to *time.Time, see func(r directory.Record) bool) (api.Attainment, error) {
	var groups []directory.Record
	for _, r := range o.Groups.All() {
		if r.Direction != directory.Ended && see(r) && (direction == "" || string(r.Direction) == direction) {
			groups = append(groups, r)
		}
	}
	return o.History.Attainment(ctx, groups, by, from, to)
}
