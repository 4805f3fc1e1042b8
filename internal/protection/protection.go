// Package protection is what people ask of groups: to make, change, pause, run and
// end them. What is asked at a recovery site is passed on to the group's home site,
// which alone decides.
package protection

import (
	"context"
	"encoding/json"
	"fmt"
	"strings"
	"time"

	"github.com/google/uuid"

	"kestrel/internal/api"
	"kestrel/internal/clock"
	"kestrel/internal/core/actor"
	"kestrel/internal/core/change"
	"kestrel/internal/core/group"
	"kestrel/internal/core/promise"
	"kestrel/internal/core/words"
	"kestrel/internal/directory"
	"kestrel/internal/inventory"
	"kestrel/internal/keeper"
	"kestrel/internal/link"
	"kestrel/internal/mover"
	"kestrel/internal/peering"
	"kestrel/internal/problem"
	"kestrel/internal/records"
)

// Config is what it is made of.
type Config struct {
	Site      records.Site
	DB        Records
	Groups    *directory.Directory
	Inventory *inventory.Inventory
	Peering   *peering.Peering
	Mover     *mover.Mover
	Keeper    *keeper.Keeper
	Clock     clock.Clock
	// Tiers finds a tier by name or ID, as groups that follow it keep it.
	Tiers func(text string) (group.Follows, error)
	// Surveyed is how much machines change together by surveys, if all were surveyed.
	Surveyed func(ctx context.Context, platform string, machines []string) (change.Curve, bool, error)
}

// Records is where it is noted what a peer has yet to hear; *records.DB is one.
type Records interface {
	AddFarewell(ctx context.Context, group, link string) error
}

// Protection is the groups of one site as people ask for them.
type Protection struct{ Config }

// New makes it.
func New(cfg Config) *Protection { return &Protection{cfg} }

// What a recovery site may ask a home site to do.
const (
	actRun    = "run"
	actEdit   = "edit"
	actDelete = "delete"
)

type runWish struct {
	Compare bool `json:"compare"`
}

type deleteWish struct {
	Points string `json:"points"`
}

// deletesItself is what a recovery site says of the points when it asks home to end a
// group: it will delete them itself, since somebody there wants it.
const deletesItself = "deleted there"

// destination finds the recovery site that a new group names.
func (x *Protection) destination(text string) (peering.Link, []problem.Field) {
	if text == "" {
		return peering.Link{}, []problem.Field{{Field: "link", Message: "Name the recovery site: one that this site is paired with."}}
	}
	l, err := x.Peering.Find(text)
	if err != nil {
		message := fmt.Sprintf("%s is not paired with %q. Pair the sites first.", x.Site.Name, text)
		if near, ok := x.Peering.Nearest(text); ok {
			message += fmt.Sprintf(" Did you mean %q?", near)
		}
		return l, []problem.Field{{Field: "link", Message: message}}
	}
	return l, nil
}

// draft is a new group as it would be saved, with all that is wrong with it, what could not
// be read included.
func (x *Protection) draft(w directory.Wish, faults []problem.Field, to string) (group.Spec, peering.Link, []problem.Field) {
	l, more := x.destination(to)
	faults = append(faults, more...)
	empty := group.Spec{Priority: group.Normal, NewDisks: group.CopyNew}
	p, platform, more := x.resolve(w, empty)
	faults = append(faults, more...)
	s := p.Apply(empty)
	s.Platform = platform
	s.Destinations = []group.Destination{{SiteID: l.PeerID, Site: l.Peer}}
	named := map[string]bool{}
	for _, f := range faults {
		named[strings.SplitN(f.Field, "[", 2)[0]] = true
	}
	for _, f := range x.Groups.Check(s, "") {
		// What could not be read is not told twice.
		if !named[strings.SplitN(f.Field, "[", 2)[0]] {
			faults = append(faults, f)
		}
	}
	return s, l, faults
}

// Create protects machines together, and gives the group's ID.
func (x *Protection) Create(ctx context.Context, who actor.Actor, in api.NewGroup) (string, error) {
	ids, err := x.CreateAll(ctx, who, []api.NewGroup{in})
	if err != nil {
		return "", err
	}
	return ids[0], nil
}

// CreateAll makes groups, all or none, and gives their IDs.
func (x *Protection) CreateAll(ctx context.Context, who actor.Actor, all []api.NewGroup) ([]string, error) {
	var rs []directory.Record
	for _, in := range all {
		w, faults := newWish(in)
		s, l, faults := x.draft(w, faults, in.Link)
		if len(faults) > 0 {
			return nil, problem.InvalidFields(faults...)
		}
		if in.Paused != nil && *in.Paused {
			s.Pause = &group.Pause{By: who.String(), Since: x.Clock.Now().UTC()}
		}
		rs = append(rs, directory.Record{ID: uuid.NewString(), Link: l.ID, HomeID: x.Site.ID, HomeName: x.Site.Name, RecoveryName: l.Peer, Spec: s})
	}
	rs, err := x.Groups.CreateAll(ctx, who, rs)
	if err != nil {
		return nil, err
	}
	var ids []string
	links := map[string][]string{}
	for _, r := range rs {
		ids, links[r.Link] = append(ids, r.ID), append(links[r.Link], r.ID)
	}
	for l, of := range links {
		x.Peering.Beat(ctx, l, of...) // the recovery site learns of it before the first block arrives
	}
	x.Mover.Wake()
	return ids, nil
}

// pass gives a wish to a group's home site.
func (x *Protection) pass(ctx context.Context, who actor.Actor, r directory.Record, action string, body []byte) error {
	l, ok := x.Peering.Get(r.Link)
	if !ok {
		return problem.Conflict("The link to %s is gone.", r.HomeName)
	}
	if err := l.Act(ctx, r.ID, link.Act{Action: action, Who: who.String(), Body: body}); err != nil {
		if p, ok := problem.Of(err); ok {
			return p
		}
		return problem.Unreachable("%s owns this group's settings and cannot be asked: %v", r.HomeName, err)
	}
	return nil
}

// Act does what a recovery site asks for in the name of somebody there.
func (x *Protection) Act(ctx context.Context, who actor.Actor, id, action string, body []byte) error {
	r, ok := x.Groups.Get(id)
	if !ok || r.Direction != directory.Out {
		return problem.NotFound("group", id)
	}
	bad := func(err error) error { return problem.Invalid("body", "%v.", err) }
	switch action {
	case actRun:
		var w runWish
		if err := json.Unmarshal(body, &w); err != nil {
			return bad(err)
		}
		return x.run(ctx, who, r, w.Compare)
	case actEdit:
		w, err := directory.DecodeWish(body)
		if err != nil {
			return bad(err)
		}
		return x.edit(ctx, who, r, w)
	case actDelete:
		var w deleteWish
		if err := json.Unmarshal(body, &w); err != nil {
			return bad(err)
		}
		return x.deleteHome(ctx, who, r, w.Points, false)
	}
	return problem.Invalid("action", "%q is not known.", action)
}

// change does an edit, here or at the group's home site.
func (x *Protection) change(ctx context.Context, who actor.Actor, r directory.Record, w directory.Wish) error {
	switch r.Direction {
	case directory.Ended:
		return problem.Conflict("The group %s has ended; only its points are left.", r.Spec.Name)
	case directory.Out:
		return x.edit(ctx, who, r, w)
	}
	return x.pass(ctx, who, r, actEdit, directory.EncodeWish(w))
}

// edit changes a group that is home here.
func (x *Protection) edit(ctx context.Context, who actor.Actor, r directory.Record, w directory.Wish) error {
	p, _, faults := x.resolve(w, r.Spec)
	if len(faults) > 0 {
		return problem.InvalidFields(faults...)
	}
	next, changes, err := x.Groups.Update(ctx, who, r.ID, p, w.Match, func(next directory.Record, cs []group.Change) string {
		switch {
		case p.Pause != nil:
			return pausedText(who, next.Spec.Name, *p.Pause)
		case p.Resume:
			return fmt.Sprintf("%s resumed %s", who, next.Spec.Name)
		}
		return fmt.Sprintf("%s changed the group %s: %s", who, next.Spec.Name, group.Words(cs))
	})
	if err != nil || len(changes) == 0 {
		return err
	}
	x.Peering.Beat(ctx, next.Link, next.ID)
	return nil
}

// Hear has the cycles and the recovery site of a group hear of what the service changed
// of it by itself.
func (x *Protection) Hear(ctx context.Context, r directory.Record) {
	x.Peering.Beat(ctx, r.Link, r.ID)
	x.Mover.Wake()
}

// Update changes a group. Match is the revision that was looked at; nil if that does
// not matter.
func (x *Protection) Update(ctx context.Context, who actor.Actor, id string, in api.GroupPatch, match *int64) error {
	r, err := x.Groups.Find(id)
	if err != nil {
		return err
	}
	w, faults := wishOf(in)
	if len(faults) > 0 {
		return problem.InvalidFields(faults...)
	}
	w.Match = match
	next, faults := x.after(w, r)
	if len(faults) > 0 {
		return problem.InvalidFields(faults...)
	}
	if !next.Promise.KeepsAs(r.Spec.Promise) && len(promise.Faults(next.Promise.Check())) == 0 && (in.DropPoints == nil || !*in.DropPoints) {
		lost, numbers, err := x.Keeper.WouldDrop(ctx, r, next.Promise.Keeping())
		if err != nil {
			return err
		}
		if n := len(lost.Points); n > 0 {
			return problem.Conflict("The ladder %q would drop %s of %s at once (%s), captured from %s to %s. Allow it with dropPoints, or pin those that are to stay.",
				next.Promise.Keep, words.Count(n, "point"), r.Spec.Name, numbersText(numbers), stamp(lost.Points[n-1].Capture), stamp(lost.Points[0].Capture))
		}
	}
	return x.change(ctx, who, r, w)
}

// after is a group after an edit, as far as it can be told here: tiers are the home site's.
func (x *Protection) after(w directory.Wish, r directory.Record) (group.Spec, []problem.Field) {
	if r.Direction == directory.Out {
		p, _, faults := x.resolve(w, r.Spec)
		return p.Apply(r.Spec), faults
	}
	if w.Tier != nil {
		return r.Spec, []problem.Field{{Field: "tier", Message: fmt.Sprintf("Tiers are those of %s: choose one there.", r.HomeName)}}
	}
	return w.Patch.Apply(r.Spec), nil
}

func stamp(t time.Time) string { return t.UTC().Format(time.RFC3339) }

// numbersText lists points' numbers, newest first.
func numbersText(ns []int64) string {
	var out []string
	for _, n := range ns {
		out = append(out, fmt.Sprint(n))
	}
	if len(out) == 1 {
		return "number " + out[0]
	}
	return "numbers " + words.Joined(out, 6)
}

// Preview tells what an edit would do, without making it.
func (x *Protection) Preview(ctx context.Context, id string, in api.GroupPatch) (api.Preview, error) {
	r, err := x.Groups.Find(id)
	if err != nil {
		return api.Preview{}, err
	}
	v := api.Preview{Revision: r.Revision, Changes: []api.Change{}, Faults: []api.FieldError{}, Warnings: []api.FieldError{}}
	w, faults := wishOf(in)
	next, more := x.after(w, r)
	faults = append(faults, more...)
	if len(faults) == 0 {
		if r.Direction == directory.Out {
			faults = x.Groups.Check(next, r.ID)
		} else {
			for _, f := range promise.Faults(next.Validate()) {
				faults = append(faults, problem.Field{Field: f.Field, Message: f.Message})
			}
		}
	}
	v.Faults = fieldErrors(faults)
	v.Changes = changesView(group.Diff(r.Spec, next))
	v.Forecast = x.foretell(ctx, r, next, v.Faults)
	v.Warnings = v.Forecast.Warnings
	if len(faults) == 0 && !next.Promise.KeepsAs(r.Spec.Promise) {
		lost, numbers, err := x.Keeper.WouldDrop(ctx, r, next.Promise.Keeping())
		if err != nil {
			return v, err
		}
		v.DropsPoints = len(lost.Points)
		if len(numbers) > 0 {
			v.DropsNumbers = &numbers
		}
		if !lost.Oldest.IsZero() {
			v.OldestLeftAt = new(lost.Oldest.UTC())
		}
	}
	return v, nil
}

// Pause holds cycles, for a while or until they are resumed. A cycle under way stops
// where it is and goes on later.
func (x *Protection) Pause(ctx context.Context, who actor.Actor, id string, in *api.PauseRequest) error {
	r, err := x.Groups.Find(id)
	if err != nil {
		return err
	}
	p := &group.Pause{By: who.String(), Since: x.Clock.Now().UTC()}
	if in != nil {
		if in.Reason != nil {
			if p.Reason = strings.TrimSpace(*in.Reason); p.Reason != "" && group.CheckName(p.Reason, group.MaxReason) != "" {
				return problem.Invalid("reason", "A reason is one line of at most %d characters.", group.MaxReason)
			}
		}
		if in.ForSeconds != nil {
			d := duration(*in.ForSeconds)
			if d <= 0 || d > group.MaxPause {
				return problem.Invalid("forSeconds", "A pause lasts from a second to a year; leave it out for until it is resumed.")
			}
			p.Until = p.Since.Add(d)
		}
	}
	return x.change(ctx, who, r, directory.Wish{Patch: group.Patch{Pause: p}})
}

// Resume lets cycles run again.
func (x *Protection) Resume(ctx context.Context, who actor.Actor, id string) error {
	r, err := x.Groups.Find(id)
	if err != nil {
		return err
	}
	return x.change(ctx, who, r, directory.Wish{Patch: group.Patch{Resume: true}})
}

// Run starts a cycle as soon as it can be; to compare is to read all of the disks
// and not only what the platform reports as changed.
func (x *Protection) Run(ctx context.Context, who actor.Actor, id string, compare bool) error {
	r, err := x.Groups.Find(id)
	if err != nil {
		return err
	}
	switch r.Direction {
	case directory.Ended:
		return problem.Conflict("The group %s has ended; only its points are left.", r.Spec.Name)
	case directory.Out:
		return x.run(ctx, who, r, compare)
	}
	body, err := json.Marshal(runWish{compare})
	if err != nil {
		return err
	}
	return x.pass(ctx, who, r, actRun, body)
}

func (x *Protection) run(ctx context.Context, who actor.Actor, r directory.Record, compare bool) error {
	if r.Away() {
		return problem.Conflict("%s runs at %s since a failover, and is not copied before that was accepted or backed out.", r.Spec.Name, r.RecoveryName)
	}
	if err := x.Mover.Ask(r, compare); err != nil {
		return err
	}
	what := "cycle"
	if compare {
		what = "comparison"
	}
	x.Mover.Trail.Note(ctx, who, x.Mover.Object(r), "%s asked for a %s of %s now", who, what, r.Spec.Name)
	return nil
}

// Delete ends a group. Points says what becomes of its points at the recovery site:
// "keep" or "delete". WithoutPeer ends it here although the recovery site cannot be
// told; its points stay there.
func (x *Protection) Delete(ctx context.Context, who actor.Actor, id, points string, withoutPeer bool) error {
	if points != "keep" && points != "delete" {
		return problem.Invalid("points", `Say what becomes of the points: "keep" or "delete".`)
	}
	r, err := x.Groups.Find(id)
	if err != nil {
		return err
	}
	switch r.Direction {
	case directory.Ended:
		if points != "delete" {
			return problem.Conflict("The group %s has ended already; only deleting its points is left to do.", r.Spec.Name)
		}
		return x.Peering.Forget(ctx, who, r)
	case directory.Out:
		return x.deleteHome(ctx, who, r, points, withoutPeer)
	}
	w := deleteWish{points}
	if points == "delete" {
		w.Points = deletesItself
	}
	if points == "delete" {
		if err := x.Keeper.Idle(r.ID); err != nil {
			return err
		}
	}
	body, err := json.Marshal(w)
	if err != nil {
		return err
	}
	err = x.pass(ctx, who, r, actDelete, body)
	if left, ok := x.Groups.Get(r.ID); err == nil && ok && points == "delete" {
		return x.Peering.Forget(ctx, who, left)
	}
	if p, ok := problem.Of(err); ok && p.Status == 404 {
		// Home has no such group any more, and this site never heard of its end.
		x.Keeper.Abandon(r.ID)
		if err := x.Groups.End(ctx, who, r.ID, "", fmt.Sprintf("%s is not known at %s any more; %s ended it here", r.Spec.Name, r.HomeName, who)); err != nil {
			return err
		}
		if points == "delete" {
			return x.Peering.Forget(ctx, who, r)
		}
		return nil
	}
	return err
}

func (x *Protection) deleteHome(ctx context.Context, who actor.Actor, r directory.Record, points string, withoutPeer bool) error {
	if r.Away() {
		return problem.Conflict("%s runs at %s since a failover. It can be deleted when that was accepted or backed out.", r.Spec.Name, r.RecoveryName)
	}
	if points != "keep" && points != "delete" && points != deletesItself {
		return problem.Invalid("points", `Say what becomes of the points: "keep" or "delete".`)
	}
	if points == "delete" {
		if err := x.Keeper.Idle(r.ID); err != nil {
			return err
		}
	}
	l, ok := x.Peering.Get(r.Link)
	if !ok && !withoutPeer {
		return problem.Unreachable("The link to %s is gone. Delete the group without it; its points then stay there.", r.RecoveryName)
	}
	base, undo := x.Mover.Stop(r.ID)
	told := ok
	var goAt *time.Time
	if ok {
		reply, err := l.EndGroup(ctx, r.ID, points == "delete")
		goAt = reply.PointsGoAt
		if err != nil {
			told = false
			if !withoutPeer {
				undo()
				if p, ok := problem.Of(err); ok {
					return p
				}
				return problem.Unreachable("%s holds this group's points and cannot be told: %v. Try again, or delete it without %s (its points then stay there).", l.Peer, err, l.Peer)
			}
		}
	}
	if err := x.endHere(ctx, who, r, l, points, told, goAt); err != nil {
		undo()
		return err
	}
	x.Mover.Forget(ctx, r.Spec.Platform, base)
	return nil
}

// endHere ends a group at its home site, once the recovery site has heard of it or
// will. GoAt is when the points there go, if they wait.
func (x *Protection) endHere(ctx context.Context, who actor.Actor, r directory.Record, l peering.Link, points string, told bool, goAt *time.Time) error {
	x.Keeper.Abandon(r.ID)
	if l.ID != "" && !told {
		if err := x.DB.AddFarewell(ctx, r.ID, l.ID); err != nil {
			return err
		}
	}
	text := fmt.Sprintf("%s deleted the group %s; points: %s", who, r.Spec.Name, points)
	switch {
	case goAt != nil:
		text += fmt.Sprintf(", at %s not before %s, unless somebody there stops it", r.RecoveryName, stamp(*goAt))
	case !told:
		text = fmt.Sprintf("%s deleted the group %s without %s; its points stay at %s", who, r.Spec.Name, r.RecoveryName, r.RecoveryName)
	}
	if x.Keeper.Keeps(r.ID) && points == "keep" {
		// The points that home kept as well stay, without the group.
		if err := x.Groups.End(ctx, who, r.ID, x.Site.Name, text); err != nil {
			return err
		}
		return x.Keeper.ForgetRemote(ctx, r.ID)
	}
	if _, err := x.Keeper.DropAll(ctx, r.ID); err != nil {
		return err
	}
	return x.Groups.Delete(ctx, who, r.ID, text)
}

// CopyTo has a group that is home here be copied to another site from now on. The points at the
// site before stay there, as those of a group that has ended.
func (x *Protection) CopyTo(ctx context.Context, who actor.Actor, id string, in api.GroupDestination) error {
	r, err := x.Groups.Find(id)
	if err != nil {
		return err
	}
	switch {
	case r.Direction == directory.Ended:
		return problem.Conflict("The group %s has ended; only its points are left.", r.Spec.Name)
	case r.Direction == directory.In:
		return problem.Conflict("%s is home at %s. Say there where it is copied to.", r.Spec.Name, r.HomeName)
	case r.Away():
		return problem.Conflict("%s runs at %s since a failover. It can be copied elsewhere when that was accepted or backed out.", r.Spec.Name, r.RecoveryName)
	}
	l, faults := x.destination(in.Link)
	switch {
	case len(faults) > 0:
		return problem.InvalidFields(faults...)
	case l.ID == r.Link:
		return problem.Invalid("link", "%s is copied to %s already.", r.Spec.Name, l.Peer)
	case in.Confirm != r.Spec.Name:
		return problem.Invalid("confirm", "Write the group's name, %s, as it is.", r.Spec.Name)
	}
	was, old := r.RecoveryName, r.Link
	base, goOn := x.Mover.Stop(r.ID)
	defer goOn()
	if old != "" {
		if err := x.DB.AddFarewell(ctx, r.ID, old); err != nil {
			return err
		}
	}
	// First: a crash after it costs a whole copy to where it is copied now, and one before it
	// would let the other site wait until the next cycle falls due.
	if err := x.Mover.Anew(ctx, r.ID); err != nil {
		return err
	}
	_, err = x.Groups.Turn(ctx, who, r.ID, func(g *directory.Record) (string, error) {
		if !g.Home() {
			return "", problem.Conflict("%s is not home here any more.", g.Spec.Name)
		}
		g.Link, g.RecoveryName = l.ID, l.Peer
		g.Spec.Destinations = []group.Destination{{SiteID: l.PeerID, Site: l.Peer}}
		g.Revision++
		return fmt.Sprintf("%s has %s copied to %s from now on; its points at %s stay there", who, g.Spec.Name, l.Peer, was), nil
	})
	if err != nil {
		return err
	}
	if err := x.Keeper.ForgetRemote(ctx, r.ID); err != nil {
		return err
	}
	x.Mover.Forget(ctx, r.Spec.Platform, base)
	x.Peering.Beat(ctx, l.ID)
	x.Peering.Beat(ctx, old)
	return nil
}

// StopDeletion keeps the points here of a group whose home wants them deleted.
func (x *Protection) StopDeletion(ctx context.Context, who actor.Actor, id string) error {
	r, err := x.Groups.Find(id)
	if err != nil {
		return err
	}
	return x.Keeper.StopDeletion(ctx, who, r)
}
