// Package keeper keeps points: it takes in what arrives, knows what each group has,
// lets go what ladders let go, verifies the store, and writes points out. What a
// site knows of points that another holds is here too.
package keeper

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"log/slog"
	"slices"
	"sync"
	"time"

	"kestrel/internal/audit"
	"kestrel/internal/clock"
	"kestrel/internal/core/actor"
	"kestrel/internal/core/exposure"
	"kestrel/internal/core/ladder"
	"kestrel/internal/core/room"
	"kestrel/internal/directory"
	"kestrel/internal/events"
	"kestrel/internal/files/bucket"
	"kestrel/internal/history"
	"kestrel/internal/link"
	"kestrel/internal/operation"
	"kestrel/internal/places"
	"kestrel/internal/points"
	"kestrel/internal/problem"
	"kestrel/internal/records"
)

// Records is where what is known of points is kept; *records.DB is one.
type Records interface {
	PutPoint(ctx context.Context, p records.Point) error
	MirrorPoints(ctx context.Context, group string, ids []string, changed []records.Point) error
	Points(ctx context.Context, f records.PointFilter) ([]records.Point, error)
	CountPoints(ctx context.Context, f records.PointFilter) (int, error)
	Marks(ctx context.Context, groups []string) ([]records.Point, error)
	Calms(ctx context.Context, groups []string, since time.Time) ([]records.Calm, error)
	Point(ctx context.Context, id string) (records.Point, error)
	PointIDs(ctx context.Context) (map[string]bool, error)
	LockPoint(ctx context.Context, id string, until time.Time, a records.Activity) error
	PinPoint(ctx context.Context, p records.Point, a records.Activity) error
	DeletePoint(ctx context.Context, id string) error
	PointTotals(ctx context.Context) ([]records.PointTotals, error)
	GroupTotals(ctx context.Context, group string) ([]records.PointTotals, error)
	Deletions(ctx context.Context) ([]records.Deletion, error)
	AddDeletion(ctx context.Context, d records.Deletion, a records.Activity) error
	DropDeletion(ctx context.Context, group string, a records.Activity) error
	Shortenings(ctx context.Context) ([]records.Shortening, error)
	AddShortening(ctx context.Context, s records.Shortening) error
	DropShortening(ctx context.Context, s records.Shortening) error
}

// Config is what a keeper is made of.
type Config struct {
	Site       string // name of this site
	Records    Records
	Store      *points.Store
	Objects    *bucket.FS // nil: the store is a folder
	ObjectsURL string
	// LongTerm is where long-term rungs keep their points; nil: there is none, and they
	// stay in Store.
	LongTerm        *points.Store
	LongTermObjects *bucket.FS // nil: it is a folder
	LongTermURL     string
	Groups          *directory.Directory
	History         *history.History
	Operations      *operation.Operations
	Trail           *audit.Trail
	Clock           clock.Clock
	Hub             *events.Hub
	Log             *slog.Logger
	// VerifyEvery is the time within which all of the store is verified once;
	// negative for never.
	VerifyEvery time.Duration
	// Exports is where exported disks may be written, Carried where carried images may
	// lie.
	Exports, Carried places.Places
	// DeletionWait is how long points stay that another site wants deleted; 0 for
	// none.
	DeletionWait time.Duration
	// Least is how fast points are thinned at most where another site makes a ladder
	// shorter; empty for as fast as it wants.
	Least ladder.Ladder
	// TidyEvery is how often ladders are looked at when nothing arrives.
	TidyEvery time.Duration
	// AccountEvery is how often it is looked whose the room of the stores is, if that has
	// changed.
	AccountEvery time.Duration
}

// Keeper keeps the points of one site.
type Keeper struct {
	Config
	// Proved tells when a drill of a point passed here, zero if none did, and Wanted whether
	// something that is under way needs it. They are set before anything runs; nil is never.
	Proved func(point string) time.Time
	Wanted func(point string) bool
	// Preparing says why no cycle of a group is taken yet; empty if it is. Nil takes all.
	Preparing func(group string) string

	mu       sync.Mutex
	by       map[string]*Holding
	samples  []room.Sample // of how full the store is
	spaces   []space       // whose that is, by store
	sweepDue bool
	damaged  bool // when last looked at, some point had lost something
	shorter  []shorter
	kick     chan struct{}
	// unlisted are points that are sealed and could not be recorded; late tells of a new one.
	unlisted map[string]bool
	late     chan struct{}
	// deletions that wait, by group, and cuts that may hold points back.
	deletions map[string]records.Deletion
	cuts      map[string][]ladder.Cut
	// due are the points that are to be copied to the long-term store, by group, oldest
	// first; moving says that there are some.
	due    map[string][]string
	moving chan struct{}
}

// shorter is a change of a ladder whose consequence is to be recorded.
type shorter struct {
	group  string
	before ladder.Ladder
}

// Holding is what is known of a group's points.
type Holding struct {
	Points   int       // at the recovery site
	NewestAt time.Time // capture of the newest sealed point, on our clock; zero if there is none
	Newest   string    // its ID
	OldestAt time.Time
	// ConfirmedAt is when the recovery site last said so, at the home site.
	ConfirmedAt time.Time
	HomePoints  int // kept at home as well
	Lost        Damage

	shippedAt time.Time // when a point was last seen to be sealed there
	asked     int       // counts the times that points were counted, and
	counted   int       // which of them counts
	marks     int       // counts changes of the list of points
	there     fetched   // the list of the recovery site's
	expected  string    // the mark that it has with what was shipped since; empty if nothing was
	// The list of those that home holds from before it was home last, and how many are known.
	before  fetched
	earlier int
}

// fetched is a list of points of the other site's.
type fetched struct {
	mark string    // of the list as it is known
	at   time.Time // when it was asked for last
}

// due tells whether a list is to be asked for that is known to be another, not more often than
// every, and notes that it is.
func (f *fetched) due(now time.Time, every time.Duration) bool {
	if now.Sub(f.at) <= every {
		return false
	}
	f.at = now
	return true
}

// Damage sums up what a group's points have lost.
type Damage struct {
	Points int
	Gone   int64 // bytes that home does not have any more
}

// New makes a keeper, and makes the records agree with the store, which is the
// truth: a crash may have come between a seal and its record.
func New(ctx context.Context, cfg Config) (*Keeper, error) {
	k := &Keeper{Config: cfg, by: map[string]*Holding{}, kick: make(chan struct{}, 1), unlisted: map[string]bool{}, late: make(chan struct{}, 1), due: map[string][]string{}, moving: make(chan struct{}, 1), deletions: map[string]records.Deletion{}, cuts: map[string][]ladder.Cut{}}
	if k.LongTerm != nil {
		k.Store.NumberAfter(k.lastNumber)
	}
	if err := errors.Join(k.reconcile(ctx), k.loadWishes(ctx)); err != nil {
		return nil, err
	}
	totals, err := cfg.Records.PointTotals(ctx)
	if err != nil {
		return nil, err
	}
	for _, t := range totals {
		if r, ok := cfg.Groups.Get(t.GroupID); ok {
			k.count(r, k.holding(t.GroupID), []records.PointTotals{t})
		}
	}
	for _, r := range cfg.Groups.All() {
		if held := k.Seals(r.ID); len(held) > 0 && r.Direction != directory.Out {
			k.holding(r.ID).Newest = held[len(held)-1].Point
		}
	}
	cfg.Groups.Watch(k.changed)
	k.register()
	return k, nil
}

// holding is that of a group; the lock is held, or nobody else is here yet.
func (k *Keeper) holding(group string) *Holding {
	h, ok := k.by[group]
	if !ok {
		h = &Holding{}
		k.by[group] = h
	}
	return h
}

// Holding is what is known of a group's points.
func (k *Keeper) Holding(group string) Holding {
	k.mu.Lock()
	defer k.mu.Unlock()
	return *k.holding(group)
}

// changed follows what is decided about groups.
func (k *Keeper) changed(c directory.Change) {
	if c.After == nil {
		k.mu.Lock()
		delete(k.by, c.Before.ID)
		delete(k.deletions, c.Before.ID)
		delete(k.cuts, c.Before.ID)
		k.mu.Unlock()
		return
	}
	if c.Before != nil && c.Before.Direction != c.After.Direction && c.After.Direction != directory.Ended {
		k.turned(*c.After)
	}
	if c.Before == nil || slices.Equal(c.Before.Spec.Promise.Keep, c.After.Spec.Promise.Keep) {
		return
	}
	k.mu.Lock()
	k.shorter = append(k.shorter, shorter{c.After.ID, c.Before.Spec.Promise.Keep})
	k.mu.Unlock()
	k.wake()
}

// turned follows a group that is home elsewhere from now on: what protects it is at the other
// site.
func (k *Keeper) turned(r directory.Record) {
	h := &Holding{}
	if held := k.Seals(r.ID); len(held) > 0 && r.Direction == directory.In {
		h.Newest = held[len(held)-1].Point
	}
	k.mu.Lock()
	was := k.by[r.ID]
	if was != nil {
		h.marks = was.marks + 1
	}
	k.by[r.ID] = h
	k.mu.Unlock()
	ctx, cancel := context.WithTimeout(context.Background(), 10*time.Second)
	defer cancel()
	if err := k.recount(ctx, r.ID); err != nil {
		k.Log.Error("count points", "group", r.Spec.Name, "err", err)
	}
}

func (k *Keeper) wake() {
	select {
	case k.kick <- struct{}{}:
	default:
	}
}

func (k *Keeper) note(ctx context.Context, r directory.Record, format string, a ...any) {
	k.Trail.Note(ctx, actor.System(), ofGroup(r), format, a...)
}

// ofGroup names a group's points for the trail.
func ofGroup(r directory.Record) audit.Object {
	return audit.Object{Kind: "point", Name: r.Spec.Name, ID: r.ID}
}

// told tells clients about a point.
func (k *Keeper) told(point, group string) {
	k.Hub.Send(events.Event{Type: "point", ID: point, Group: group})
	k.Hub.Send(events.Event{Type: "group", ID: group})
}

// reconcile makes the records agree with the store.
func (k *Keeper) reconcile(ctx context.Context) error {
	known, err := k.Records.PointIDs(ctx)
	if err != nil {
		return err
	}
	for id, held := range known {
		if !held {
			continue
		}
		if len(k.at(id)) > 0 {
			continue
		}
		if err := k.Records.DeletePoint(ctx, id); err != nil {
			return err
		}
		k.Trail.Note(ctx, actor.System(), audit.Object{Kind: "point", Name: id}, "A point in the records is not in the store and was taken off the list")
	}
	for _, x := range k.Seals("") {
		r, ok := k.Groups.Get(x.Group.ID)
		if held, listed := known[x.Point]; listed && held || !ok {
			continue
		}
		if err := k.list(ctx, r, x); err != nil {
			return err
		}
		if l, ok := k.lockOf(x.Point); ok {
			if err := k.Records.LockPoint(ctx, x.Point, l.Until, records.Activity{}); err != nil {
				return err
			}
		}
		p, err := k.at(x.Point)[0].Pin(x)
		if err != nil {
			k.Log.Error("read a pin", "point", x.Point, "err", err)
		} else if p != nil {
			if err := k.Records.PinPoint(ctx, records.Point{ID: x.Point, Pinned: true, PinnedUntil: p.Until, PinReason: p.Reason, PinnedBy: p.By}, records.Activity{}); err != nil {
				return err
			}
		}
	}
	return nil
}

// list enters a point of this site's store into the records.
func (k *Keeper) list(ctx context.Context, r directory.Record, x *points.Seal) error {
	seal, err := json.Marshal(x)
	if err != nil {
		return err
	}
	capture := x.CaptureAt
	if r.Direction != directory.Out {
		capture = exposure.Shift(x.CaptureAt, x.HomeAhead)
	}
	err = k.Records.PutPoint(ctx, records.Point{ID: x.Point, GroupID: r.ID, CaptureAt: capture, Held: true, Seal: seal})
	if err == nil && r.Direction != directory.Out { // what is kept at home protects from nothing there
		err = k.History.Arrived(ctx, r.ID, capture, x.SealedAt)
	}
	return err
}

// recount brings a group's totals up to date. Of two at a time, the one that asked later has it.
func (k *Keeper) recount(ctx context.Context, group string) error {
	k.mu.Lock()
	k.holding(group).asked++
	mine := k.holding(group).asked
	k.mu.Unlock()
	totals, err := k.Records.GroupTotals(ctx, group)
	r, ok := k.Groups.Get(group)
	if err != nil || !ok {
		return err
	}
	k.mu.Lock()
	defer k.mu.Unlock()
	h := k.holding(group)
	if mine < h.counted {
		return nil
	}
	h.counted = mine
	h.Points, h.OldestAt, h.HomePoints, h.earlier = 0, time.Time{}, 0, 0
	k.count(r, h, totals)
	return nil
}

// count enters totals; the lock is held, or nobody else is here yet.
func (k *Keeper) count(r directory.Record, h *Holding, totals []records.PointTotals) {
	for _, t := range totals {
		if r.Direction == directory.Out && t.Held {
			h.HomePoints = t.Count
			continue
		}
		if r.Direction == directory.In && !t.Held {
			h.earlier = t.Count
			continue // they are at the other site, from when the group was home here
		}
		h.Points, h.OldestAt = t.Count, t.Oldest
		if t.Newest.After(h.NewestAt) {
			h.NewestAt = t.Newest
		}
	}
}

// Shipped notes at the home site that a point is sealed at the recovery site.
func (k *Keeper) Shipped(ctx context.Context, r directory.Record, x *points.Seal) error {
	now := k.Clock.Now()
	light := *x
	light.Machines = withoutConfigs(x.Machines)
	seal, err := json.Marshal(light)
	if err != nil {
		return err
	}
	k.mu.Lock()
	h := k.holding(r.ID)
	h.NewestAt, h.Newest, h.ConfirmedAt, h.shippedAt = x.CaptureAt, x.Point, now, now
	if h.expected == "" {
		h.expected = h.there.mark
	}
	h.expected = markAfter(h.expected, x.Point)
	k.mu.Unlock()
	// The recovery site may have told of it before: it is counted where it is kept.
	err = errors.Join(k.Records.PutPoint(ctx, records.Point{ID: x.Point, GroupID: r.ID, CaptureAt: x.CaptureAt, Seal: seal}), k.recount(ctx, r.ID))
	k.told(x.Point, r.ID)
	return err
}

func withoutConfigs(ms []points.SealMachine) []points.SealMachine {
	out := slices.Clone(ms)
	for i := range out {
		out[i].Config = nil
	}
	return out
}

// mirror records what the recovery site holds of a group; what is recorded as it is
// already is not written again.
func (k *Keeper) mirror(ctx context.Context, group string, held []link.PointState) error {
	marks, err := k.Records.Marks(ctx, []string{group})
	if err != nil {
		return err
	}
	known := map[string]records.Point{}
	for _, r := range marks {
		known[r.ID] = r
	}
	var ids []string
	var changed []records.Point
	for _, p := range held {
		if p.Seal == nil {
			continue
		}
		ids = append(ids, p.Seal.Point)
		if r, ok := known[p.Seal.Point]; ok && (r.Held || samePin(r, p)) {
			continue
		}
		seal, err := json.Marshal(p.Seal)
		if err != nil {
			return err
		}
		changed = append(changed, records.Point{ID: p.Seal.Point, GroupID: group, CaptureAt: p.Seal.CaptureAt, Pinned: p.Pinned, PinnedUntil: p.PinnedUntil, PinReason: p.PinReason, PinnedBy: p.PinnedBy, LockedUntil: p.LockedUntil, Seal: seal})
	}
	return k.Records.MirrorPoints(ctx, group, ids, changed)
}

func sameTime(a, b *time.Time) bool {
	return (a == nil) == (b == nil) && (a == nil || a.Equal(*b))
}

func samePin(r records.Point, p link.PointState) bool {
	return r.Pinned == p.Pinned && r.PinReason == p.PinReason && r.PinnedBy == p.PinnedBy &&
		sameTime(r.PinnedUntil, p.PinnedUntil) && sameTime(r.LockedUntil, p.LockedUntil)
}

// Confirmed takes what the recovery site says it holds: exposure is judged by that
// alone. Fetch is asked for the list when it has changed, not more often than every; late says
// that it has, and is to be asked for later.
func (k *Keeper) Confirmed(ctx context.Context, st link.GroupState, every time.Duration, fetch func(ctx context.Context) ([]link.PointState, error)) (late bool, err error) {
	r, ok := k.Groups.Get(st.ID)
	if !ok || r.Direction != directory.Out {
		return false, nil
	}
	now := k.Clock.Now()
	k.mu.Lock()
	h := k.holding(st.ID)
	// What was asked before a point was sealed may be answered after it.
	if !st.NewestAt.Before(h.NewestAt) || now.Sub(h.shippedAt) > every {
		h.NewestAt, h.Newest = st.NewestAt, st.NewestPoint
	}
	h.ConfirmedAt = now
	h.Lost = Damage{Points: st.LostPoints, Gone: st.LostBytes}
	if st.PointsMark == h.expected {
		h.there.mark = st.PointsMark // the list is what is known of it, with what was shipped since
	}
	other := h.there.mark != st.PointsMark
	if other || h.there.mark == h.expected {
		h.expected = ""
	}
	due := other && h.there.due(now, every)
	k.mu.Unlock()
	if !due {
		return other, nil
	}
	return k.takeList(ctx, r, st.PointsMark, fetch, func(h *Holding) *fetched { return &h.there })
}

// State tells the home site what this site holds of a group.
func (k *Keeper) State(group string) link.GroupState {
	st := link.GroupState{ID: group}
	held := k.Store.Points(group)
	if n := len(held); n > 0 {
		newest := held[n-1]
		st.NewestPoint, st.NewestAt, st.NewestSealed = newest.Point, newest.CaptureAt, newest.SealedAt
	}
	hurt := k.hurt(group)
	st.LostPoints, st.LostBytes = hurt.Points, hurt.Gone
	k.mu.Lock()
	defer k.mu.Unlock()
	st.PointsMark = markOf(k.holding(group).marks, len(held), st.NewestPoint)
	return st
}

// markOf is the mark of a list of points: it is another after any change of one of them, and
// with another number or another newest of them.
func markOf(changes, points int, newest string) string {
	return fmt.Sprintf("%d-%d-%s", changes, points, newest)
}

// markAfter is what a mark becomes with one more point; empty if it is not known.
func markAfter(mark, point string) string {
	var changes, points int
	if n, _ := fmt.Sscanf(mark, "%d-%d-", &changes, &points); n < 2 {
		return ""
	}
	return markOf(changes, points+1, point)
}

// Held lists what this site holds of a group, for its home site.
func (k *Keeper) Held(ctx context.Context, group string) ([]link.PointState, error) {
	recs, err := k.Records.Points(ctx, records.PointFilter{Groups: []string{group}})
	if err != nil {
		return nil, err
	}
	out := []link.PointState{}
	for _, r := range recs {
		if x, err := k.Seal(r.ID); err == nil {
			light := *x
			light.Machines = withoutConfigs(x.Machines)
			out = append(out, link.PointState{Seal: &light, Pinned: r.Pinned, PinnedUntil: r.PinnedUntil, PinReason: r.PinReason, PinnedBy: r.PinnedBy, LockedUntil: r.LockedUntil})
		}
	}
	return out, nil
}

// EarlierMark changes when the list of those points of a group does that this site, its home
// in a term, holds from before that term; empty if there are none.
func (k *Keeper) EarlierMark(group string, term int64) string {
	n, newest := 0, ""
	for _, x := range k.Store.Points(group) {
		if x.Group.Term < term {
			n, newest = n+1, x.Point
		}
	}
	if n == 0 {
		return ""
	}
	k.mu.Lock()
	defer k.mu.Unlock()
	return fmt.Sprintf("%d-%d-%s", k.holding(group).marks, n, newest)
}

// Earlier lists what this site, a group's home in a term, holds of it from before that term,
// for its recovery site.
func (k *Keeper) Earlier(ctx context.Context, group string, term int64) ([]link.PointState, error) {
	all, err := k.Held(ctx, group)
	return slices.DeleteFunc(all, func(x link.PointState) bool { return x.Seal.Group.Term >= term }), err
}

// Elsewhere takes what a group's home site says it holds from before it was home last, so that
// there is one history. Fetch is asked for the list when it has changed, not more often than
// every; late says that it has, and is to be asked for later.
func (k *Keeper) Elsewhere(ctx context.Context, group, mark string, every time.Duration, fetch func(ctx context.Context) ([]link.PointState, error)) (late bool, err error) {
	r, ok := k.Groups.Get(group)
	if !ok || r.Direction != directory.In {
		return false, nil
	}
	now := k.Clock.Now()
	k.mu.Lock()
	h := k.holding(group)
	other := h.before.mark != mark || mark == "" && h.earlier > 0
	due := other && h.before.due(now, every)
	k.mu.Unlock()
	if !due {
		return other, nil
	}
	if mark == "" {
		fetch = func(context.Context) ([]link.PointState, error) { return nil, nil }
	}
	return k.takeList(ctx, r, mark, fetch, func(h *Holding) *fetched { return &h.before })
}

// takeList makes the points known of a group those of a list of the other site's; late says that
// it could not, and is to be done later.
func (k *Keeper) takeList(ctx context.Context, r directory.Record, mark string, fetch func(ctx context.Context) ([]link.PointState, error), which func(*Holding) *fetched) (late bool, err error) {
	held, err := fetch(ctx)
	if err != nil {
		return true, fmt.Errorf("fetch the points of %s: %w", r.Spec.Name, err)
	}
	if err := errors.Join(k.mirror(ctx, r.ID, held), k.recount(ctx, r.ID)); err != nil {
		return true, err
	}
	k.mu.Lock()
	which(k.holding(r.ID)).mark = mark
	k.mu.Unlock()
	k.Hub.Send(events.Event{Type: "group", ID: r.ID})
	return false, nil
}

// Idle refuses what needs that none of a group's points here is being read.
func (k *Keeper) Idle(group string) error {
	for _, x := range k.Seals(group) {
		if k.InUse(x.Point) {
			return problem.Conflict("Point %d of %s is being served or exported at %s. Stop that first.", x.Number, x.Group.Name, k.Site)
		}
	}
	return nil
}

// Abandon gives up what is arriving of a group.
func (k *Keeper) Abandon(group string) {
	for _, in := range k.Store.Intakes(group) {
		in.Abandon()
	}
}

// Keeps tells whether this site's store has points of a group.
func (k *Keeper) Keeps(group string) bool { return len(k.Seals(group)) > 0 }

// DropAll deletes all points of a group here, and says how many there were.
func (k *Keeper) DropAll(ctx context.Context, group string) (int, error) {
	if err := k.Idle(group); err != nil {
		return 0, err
	}
	held := k.Seals(group)
	for _, x := range held {
		if l, holds := k.lockOf(x.Point); holds {
			return 0, problem.Conflict("Point %d of %s is locked until %s, and nobody can delete it before. Keep the points.", x.Number, x.Group.Name, l.Until.UTC().Format(time.RFC3339))
		}
	}
	for _, x := range held {
		if err := k.drop(ctx, x.Point); err != nil {
			return 0, err
		}
	}
	k.mu.Lock()
	k.sweepDue = true
	k.mu.Unlock()
	return len(held), k.KeepBerth(group, nil)
}

// besideBerth is what a group's berth is called beside its points.
const besideBerth = "berth"

// KeepBerth keeps how a group's machines arrive with its points, so that a store tells all that
// is needed to start them; nil if nothing is said.
func (k *Keeper) KeepBerth(group string, settings []byte) error {
	var errs []error
	for _, s := range k.stores() {
		errs = append(errs, s.KeepBeside(group, besideBerth, settings))
	}
	return errors.Join(errs...)
}

// ForgetRemote lets go of what is known of points that another site holds.
func (k *Keeper) ForgetRemote(ctx context.Context, group string) error {
	if err := k.Records.MirrorPoints(ctx, group, nil, nil); err != nil {
		return err
	}
	k.mu.Lock()
	h := k.holding(group)
	h.NewestAt, h.Newest, h.ConfirmedAt, h.shippedAt, h.Lost, h.there, h.expected = time.Time{}, "", time.Time{}, time.Time{}, Damage{}, fetched{}, ""
	k.mu.Unlock()
	return k.recount(ctx, group)
}

// Newest is the capture instant of a group's newest point, zero if it has none, and
// whether its recovery site has said since this site started that it knows the group.
func (k *Keeper) Newest(group string) (captured time.Time, known bool) {
	k.mu.Lock()
	defer k.mu.Unlock()
	h := k.holding(group)
	return h.NewestAt, !h.ConfirmedAt.IsZero()
}

// HomePoints is how many points of a group home keeps as well.
func (k *Keeper) HomePoints(group string) int { return k.Holding(group).HomePoints }

// Numbered is the number of the newest point of a group that is kept here as well, 0 if none
// is.
func (k *Keeper) Numbered(group string) (n int64) {
	if k.HomePoints(group) == 0 {
		return 0
	}
	for _, x := range k.Seals(group) {
		n = max(n, x.Number)
	}
	return n
}
