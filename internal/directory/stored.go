package directory

import (
	"encoding/json"
	"fmt"
	"math"
	"time"

	"kestrel/internal/core/cadence"
	"kestrel/internal/core/calendar"
	"kestrel/internal/core/group"
	"kestrel/internal/core/ladder"
	"kestrel/internal/core/promise"
	"kestrel/internal/core/scope"
)

// format is that of specifications as they are stored, sealed into points and sent
// to the recovery site. Fields may be added without a new one; what is older is
// read for ever, since points keep it.
const format = 2

// stored is format 2. It is a type of its own: neither the contract nor the
// specification may change it unawares.
type stored struct {
	Format       int                 `json:"format"`
	Name         string              `json:"name"`
	Tags         []string            `json:"tags,omitempty"`
	Platform     string              `json:"platform"`
	Machines     []storedMachine     `json:"machines"`
	Rule         *storedRule         `json:"rule,omitempty"`
	Tier         *storedFollows      `json:"tier,omitempty"`
	RTO          int64               `json:"rtoTargetSeconds,omitempty"`
	DrillEvery   int64               `json:"drillEverySeconds,omitempty"`
	RestMode     string              `json:"rest,omitempty"`
	Promise      storedPromise       `json:"promise"`
	Apart        bool                `json:"apart,omitempty"`
	Priority     string              `json:"priority,omitempty"` // empty is normal
	CompareEvery int64               `json:"compareEvery,omitempty"`
	HomePoints   bool                `json:"homePoints,omitempty"`
	HomeKeep     []storedRung        `json:"homeKeep,omitempty"`
	LockFor      int64               `json:"lockFor,omitempty"`
	NewDisks     string              `json:"newDisks,omitempty"` // empty is copy
	Pause        *storedPause        `json:"pause,omitempty"`
	Destinations []storedDestination `json:"destinations,omitempty"`

	// Of format 1, which had none of the name, a pause or destinations.
	KeepHere bool `json:"keepHere,omitempty"`
	Paused   bool `json:"paused,omitempty"`
}

// storedMachine had only the number of its disks, and whether it is brought to rest, at
// first; both are still written for sites that know no more.
type storedMachine struct {
	ID        string       `json:"id"`
	Name      string       `json:"name"`
	Disks     int          `json:"disks"`
	SizeBytes int64        `json:"sizeBytes"`
	Known     []storedDisk `json:"known,omitempty"`
	Quiesce   bool         `json:"quiesce,omitempty"`
	ByRule    bool         `json:"byRule,omitempty"`
	Rest      *storedRest  `json:"rest,omitempty"`
}

// storedFollows has the tier as if it were a specification.
type storedFollows struct {
	ID       string      `json:"id"`
	Revision int64       `json:"revision"`
	Tier     stored      `json:"tier"`
	Own      []storedOwn `json:"own,omitempty"`
}

type storedOwn struct {
	Field  string `json:"field"`
	Reason string `json:"reason"`
}

func writeFollows(f *group.Follows) *storedFollows {
	if f == nil {
		return nil
	}
	x := &storedFollows{ID: f.ID, Revision: f.Revision, Tier: form(f.Tier.Spec())}
	for _, o := range f.Own {
		x.Own = append(x.Own, storedOwn(o))
	}
	return x
}

func readFollows(x *storedFollows) (*group.Follows, error) {
	if x == nil {
		return nil, nil
	}
	s, err := x.Tier.read(x.Tier.Name)
	if err != nil {
		return nil, err
	}
	f := &group.Follows{ID: x.ID, Revision: x.Revision, Tier: group.TierOf(s)}
	for _, o := range x.Own {
		f.Own = append(f.Own, group.Own(o))
	}
	return f, nil
}

// EncodeTier writes a tier, in the form of specifications.
func EncodeTier(t group.Tier) []byte { return Encode(t.Spec()) }

// DecodeTier reads what EncodeTier wrote.
func DecodeTier(b []byte) (group.Tier, error) {
	s, err := Decode(b, "")
	return group.TierOf(s), err
}

type storedRule struct {
	Match string `json:"match"` // as people write it
	Order int    `json:"order"`
}

type storedDisk struct {
	Key       string `json:"key"`
	Label     string `json:"label"`
	SizeBytes int64  `json:"sizeBytes"`
	Boot      bool   `json:"boot,omitempty"`
	LeftOut   bool   `json:"leftOut,omitempty"`
}

type storedRest struct {
	Mode   string `json:"mode"`
	Limit  int64  `json:"limitSeconds,omitempty"`
	Nth    int    `json:"everyNth,omitempty"`
	Before string `json:"before,omitempty"`
	After  string `json:"after,omitempty"`
}

func writeMachine(m group.Machine) storedMachine {
	x := storedMachine{ID: m.ID, Name: m.Name, Disks: len(m.Disks), SizeBytes: m.SizeBytes(), Quiesce: m.Rest.On(), ByRule: m.ByRule, Rest: writeRest(m.Rest)}
	for _, d := range m.Disks {
		x.Known = append(x.Known, storedDisk(d))
	}
	return x
}

func readMachine(x storedMachine) group.Machine {
	m := group.Machine{ID: x.ID, Name: x.Name, ByRule: x.ByRule}
	for _, d := range x.Known {
		m.Disks = append(m.Disks, group.Disk(d))
	}
	switch {
	case x.Rest != nil:
		m.Rest = readRest(*x.Rest)
	case x.Quiesce:
		m.Rest.Mode = group.RestTry
	}
	return m
}

// writeRest gives nothing for a machine of which nothing is said.
func writeRest(r group.Rest) *storedRest {
	if r == (group.Rest{}) {
		return nil
	}
	return &storedRest{string(r.Mode), seconds(r.Limit), r.Nth, r.Before, r.After}
}

func readRest(x storedRest) group.Rest {
	return group.Rest{Mode: group.Mode(x.Mode), Limit: span(x.Limit), Nth: x.Nth, Before: x.Before, After: x.After}
}

// storedPromise has lengths of time in seconds, as format 1 had them.
type storedPromise struct {
	Target  int64        `json:"rpoTargetSeconds"`
	Cadence int64        `json:"cadenceSeconds"`
	Keep    []storedRung `json:"keep"`
	Sooner  bool         `json:"sooner,omitempty"` // Cadence is the most that may pass
	// Cadence is how long it is from one start to the next; 0 also where there is one of
	// these.
	BackToBack bool     `json:"backToBack,omitempty"`
	Calendar   []string `json:"calendar,omitempty"`
	Quiet      string   `json:"quiet,omitempty"`
	Zone       string   `json:"zone,omitempty"`
	Least      int      `json:"leastPoints,omitempty"`
}

// cadenceOf reads one. What was written is not refused later: a calendar or quiet time
// that cannot be read any more is left out, and said by the check of the specification.
func cadenceOf(every time.Duration, sooner, backToBack bool, rules []string, quiet, zone string) cadence.Cadence {
	c := cadence.Cadence{Every: every, Sooner: sooner, BackToBack: backToBack, Calendar: calendar.Calendar{Rules: rules}}
	if q, err := cadence.ParseQuiet(quiet, zone); err == nil {
		c.Quiet = q
	}
	return c.In(zone)
}

// quietText is how quiet times are written; nothing for none.
func quietText(q cadence.Quiet) string {
	if q.IsZero() {
		return ""
	}
	return q.String()
}

type storedRung struct {
	Each int64 `json:"eachSeconds"`
	For  int64 `json:"forSeconds"`
	// Locked is left out where it is not, as before there was such a thing.
	Locked bool `json:"locked,omitempty"`
	Months int  `json:"months,omitempty"`
	// LongTerm is left out likewise.
	LongTerm bool `json:"longTerm,omitempty"`
}

func storeRung(r ladder.Rung) storedRung {
	return storedRung{seconds(r.Each), seconds(r.For), r.Locked, r.Months, r.LongTerm}
}

func (r storedRung) rung() ladder.Rung {
	return ladder.Rung{Each: span(r.Each), For: span(r.For), Locked: r.Locked, Months: r.Months, LongTerm: r.LongTerm}
}

func writeLadder(l ladder.Ladder) (out []storedRung) {
	for _, r := range l {
		out = append(out, storeRung(r))
	}
	return out
}

func readLadder(rs []storedRung) (out ladder.Ladder) {
	for _, r := range rs {
		out = append(out, r.rung())
	}
	return out
}

type storedPause struct {
	By     string     `json:"by,omitempty"`
	Reason string     `json:"reason,omitempty"`
	Since  time.Time  `json:"since"`
	Until  *time.Time `json:"until,omitempty"`
}

type storedDestination struct {
	SiteID string `json:"siteId"`
	Site   string `json:"site"`
}

// Encode writes a specification.
func Encode(s group.Spec) []byte {
	b, err := json.Marshal(form(s))
	if err != nil {
		panic(err) // plain structs always marshal
	}
	return b
}

// form puts a specification into its stored form.
func form(s group.Spec) stored {
	x := stored{Format: format, Name: s.Name, Tags: s.Tags, Platform: s.Platform, Machines: []storedMachine{}, Apart: s.Apart, CompareEvery: seconds(s.CompareEvery), HomePoints: s.HomePoints, LockFor: seconds(s.LockFor),
		Promise: storedPromise{Target: seconds(s.Promise.Target), Cadence: seconds(s.Promise.Cadence.Every), Keep: []storedRung{}}}
	if s.Priority != group.Normal {
		x.Priority = string(s.Priority)
	}
	c := s.Promise.Cadence
	x.Promise.Sooner = c.Sooner
	x.Promise.BackToBack, x.Promise.Calendar, x.Promise.Quiet, x.Promise.Zone = c.BackToBack, c.Calendar.Rules, quietText(c.Quiet), s.Promise.Zone
	x.Promise.Least = s.Promise.Least
	if s.Rule != nil {
		x.Rule = &storedRule{s.Rule.Match.String(), s.Rule.Order}
	}
	if s.NewDisks != group.CopyNew {
		x.NewDisks = string(s.NewDisks)
	}
	for _, m := range s.Machines {
		x.Machines = append(x.Machines, writeMachine(m))
	}
	for _, r := range s.Promise.Keep {
		x.Promise.Keep = append(x.Promise.Keep, storeRung(r))
	}
	for _, d := range s.Destinations {
		x.Destinations = append(x.Destinations, storedDestination(d))
	}
	if p := s.Pause; p != nil {
		x.Pause = &storedPause{By: p.By, Reason: p.Reason, Since: p.Since.UTC()}
		if !p.Until.IsZero() {
			until := p.Until.UTC()
			x.Pause.Until = &until
		}
	}
	x.HomeKeep = writeLadder(s.HomeKeep)
	x.Tier, x.RTO, x.DrillEvery, x.RestMode = writeFollows(s.Tier), seconds(s.RTO), seconds(s.DrillEvery), string(s.RestMode)
	return x
}

// Decode reads a specification of any format there was. Name is used where the
// form has none, as format 1. A form from the future is read as far as it is known.
func Decode(b []byte, name string) (group.Spec, error) {
	var x stored
	if err := json.Unmarshal(b, &x); err != nil {
		return group.Spec{}, fmt.Errorf("specification of %s: %w", name, err)
	}
	return x.read(name)
}

// read is the specification of a stored form.
func (x stored) read(name string) (group.Spec, error) {
	s := group.Spec{Name: x.Name, Tags: x.Tags, Platform: x.Platform, Apart: x.Apart, Priority: group.Priority(x.Priority), CompareEvery: span(x.CompareEvery), HomePoints: x.HomePoints || x.KeepHere, LockFor: span(x.LockFor),
		Promise: promise.Promise{Target: span(x.Promise.Target), Cadence: cadenceOf(span(x.Promise.Cadence), x.Promise.Sooner, x.Promise.BackToBack, x.Promise.Calendar, x.Promise.Quiet, x.Promise.Zone), Zone: x.Promise.Zone, Least: x.Promise.Least}}
	if s.Name == "" {
		s.Name = name
	}
	if s.Priority == "" {
		s.Priority = group.Normal
	}
	if x.Rule != nil {
		m, err := scope.Parse(x.Rule.Match)
		if err != nil {
			return group.Spec{}, fmt.Errorf("rule of %s: %w", name, err)
		}
		s.Rule = &group.Rule{Match: m, Order: x.Rule.Order}
	}
	if s.NewDisks = group.NewDisks(x.NewDisks); x.NewDisks == "" {
		s.NewDisks = group.CopyNew
	}
	for _, m := range x.Machines {
		s.Machines = append(s.Machines, readMachine(m))
	}
	for _, r := range x.Promise.Keep {
		s.Promise.Keep = append(s.Promise.Keep, r.rung())
	}
	for _, d := range x.Destinations {
		s.Destinations = append(s.Destinations, group.Destination(d))
	}
	switch {
	case x.Pause != nil:
		s.Pause = &group.Pause{By: x.Pause.By, Reason: x.Pause.Reason, Since: x.Pause.Since}
		if x.Pause.Until != nil {
			s.Pause.Until = *x.Pause.Until
		}
	case x.Paused:
		s.Pause = &group.Pause{}
	}
	s.HomeKeep = readLadder(x.HomeKeep)
	s.RTO, s.DrillEvery, s.RestMode = span(x.RTO), span(x.DrillEvery), group.Mode(x.RestMode)
	var err error
	if s.Tier, err = readFollows(x.Tier); err != nil {
		return group.Spec{}, fmt.Errorf("tier of %s: %w", name, err)
	}
	return s, nil
}

// storedPatch is an edit as the recovery site passes it on to the home site.
type storedPatch struct {
	Format       int            `json:"format"`
	Name         *string        `json:"name,omitempty"`
	Tags         *[]string      `json:"tags,omitempty"`
	Machines     *[]string      `json:"machines,omitempty"` // names or IDs, to be resolved at home
	Rest         *[]storedWish  `json:"rest,omitempty"`
	Without      *[]string      `json:"withoutDisks,omitempty"`
	BootToo      bool           `json:"withoutBootDisks,omitempty"`
	NewDisks     *string        `json:"newDisks,omitempty"`
	Tier         *string        `json:"tier,omitempty"` // name or ID, to be found at home
	NoTier       bool           `json:"noTier,omitempty"`
	Reason       string         `json:"reason,omitempty"`
	Like         []string       `json:"likeTier,omitempty"`
	Least        *int           `json:"leastPoints,omitempty"`
	HomeKeep     *[]storedRung  `json:"homeKeep,omitempty"`
	RTO          *int64         `json:"rtoTargetSeconds,omitempty"`
	DrillEvery   *int64         `json:"drillEverySeconds,omitempty"`
	RestMode     *string        `json:"restMode,omitempty"`
	Rule         *storedRule    `json:"rule,omitempty"`
	NoRule       bool           `json:"noRule,omitempty"`
	ByHand       *[]string      `json:"byHand,omitempty"`
	Add          []string       `json:"addMachines,omitempty"`
	Remove       []string       `json:"removeMachines,omitempty"`
	Target       *int64         `json:"rpoTargetSeconds,omitempty"`
	Cadence      *storedCadence `json:"cadence,omitempty"`
	Quiet        *string        `json:"quiet,omitempty"` // empty is none
	Zone         *string        `json:"zone,omitempty"`
	Keep         *[]storedRung  `json:"keep,omitempty"`
	Apart        *bool          `json:"apart,omitempty"`
	Priority     *string        `json:"priority,omitempty"`
	CompareEvery *int64         `json:"compareEvery,omitempty"`
	HomePoints   *bool          `json:"homePoints,omitempty"`
	LockFor      *int64         `json:"lockFor,omitempty"`
	Match        *int64         `json:"match,omitempty"` // the revision that was looked at
	Pause        *storedPause   `json:"pause,omitempty"`
	Resume       bool           `json:"resume,omitempty"`
}

// Wish is an edit as people ask for it: machines are named as they name them, and
// become machines at the group's home site.
type Wish struct {
	group.Patch
	Machines *[]string // instead of Patch.Machines
	Tier     *string   // name or ID; instead of Patch.Tier
	Rest     *[]RestOf // of all that are brought to rest; instead of Patch.Rest
	ByHand   *[]string // names or IDs; instead of Patch.ByHand
	Add      []string  // names or IDs of machines, beside those that there are
	Remove   []string  // names or IDs of machines of the group
	Without  *[]string // MACHINE:DISK, by names or IDs, labels or keys; instead of Patch.Without
	BootToo  bool      // whoever leaves out a disk that a machine starts from knows it
	Match    *int64    // the revision that was looked at; nil if that does not matter
}

// storedCadence is one without quiet times, which have an edit of their own, and without
// a zone.
type storedCadence struct {
	Every      int64    `json:"everySeconds,omitempty"`
	Sooner     bool     `json:"sooner,omitempty"`
	BackToBack bool     `json:"backToBack,omitempty"`
	Calendar   []string `json:"calendar,omitempty"`
}

// RestOf is how a machine, as people name it, is brought to rest.
type RestOf struct {
	Machine string
	group.Rest
}

type storedWish struct {
	Machine string `json:"machine"`
	storedRest
}

// EncodeWish writes one.
func EncodeWish(w Wish) []byte {
	x := storedPatch{Format: format, Name: w.Name, Tags: w.Tags, Machines: w.Machines, Without: w.Without, BootToo: w.BootToo, NoRule: w.NoRule, Tier: w.Tier, NoTier: w.NoTier, Reason: w.Reason, Like: w.Like, ByHand: w.ByHand, Add: w.Add, Remove: w.Remove, Apart: w.Apart, HomePoints: w.HomePoints, Match: w.Match, Resume: w.Resume}
	sec := func(d *time.Duration) *int64 {
		if d == nil {
			return nil
		}
		return new(seconds(*d))
	}
	x.Target, x.CompareEvery, x.LockFor, x.Zone = sec(w.Target), sec(w.CompareEvery), sec(w.LockFor), w.Zone
	x.Least = w.Least
	if w.HomeKeep != nil {
		x.HomeKeep = new(append([]storedRung{}, writeLadder(*w.HomeKeep)...))
	}
	x.RTO, x.DrillEvery = sec(w.RTO), sec(w.DrillEvery)
	if w.RestMode != nil {
		x.RestMode = new(string(*w.RestMode))
	}
	if c := w.Cadence; c != nil {
		x.Cadence = &storedCadence{seconds(c.Every), c.Sooner, c.BackToBack, c.Calendar.Rules}
	}
	if w.Quiet != nil {
		x.Quiet = new(quietText(*w.Quiet))
	}
	if w.Priority != nil {
		x.Priority = new(string(*w.Priority))
	}
	if w.Rule != nil {
		x.Rule = &storedRule{w.Rule.Match.String(), w.Rule.Order}
	}
	if w.NewDisks != nil {
		x.NewDisks = new(string(*w.NewDisks))
	}
	if w.Rest != nil {
		x.Rest = &[]storedWish{}
		for _, r := range *w.Rest {
			if one := writeRest(r.Rest); one != nil {
				*x.Rest = append(*x.Rest, storedWish{r.Machine, *one})
			}
		}
	}
	if w.Keep != nil {
		x.Keep = &[]storedRung{}
		for _, r := range *w.Keep {
			*x.Keep = append(*x.Keep, storeRung(r))
		}
	}
	if p := w.Pause; p != nil {
		x.Pause = &storedPause{By: p.By, Reason: p.Reason, Since: p.Since.UTC()}
		if !p.Until.IsZero() {
			x.Pause.Until = new(p.Until.UTC())
		}
	}
	b, err := json.Marshal(x)
	if err != nil {
		panic(err) // plain structs always marshal
	}
	return b
}

// DecodeWish reads what EncodeWish wrote.
func DecodeWish(b []byte) (Wish, error) {
	var x storedPatch
	if err := json.Unmarshal(b, &x); err != nil {
		return Wish{}, fmt.Errorf("an edit: %w", err)
	}
	if x.Format != format {
		return Wish{}, fmt.Errorf("an edit of format %d is not known here; update this site", x.Format)
	}
	w := Wish{Machines: x.Machines, Tier: x.Tier, ByHand: x.ByHand, Add: x.Add, Remove: x.Remove, Without: x.Without, BootToo: x.BootToo, Match: x.Match}
	w.NoRule = x.NoRule
	if x.Rule != nil {
		m, err := scope.Parse(x.Rule.Match)
		if err != nil {
			return Wish{}, fmt.Errorf("the rule of an edit: %w", err)
		}
		w.Rule = &group.Rule{Match: m, Order: x.Rule.Order}
	}
	if x.NewDisks != nil {
		w.NewDisks = new(group.NewDisks(*x.NewDisks))
	}
	if x.Rest != nil {
		w.Rest = &[]RestOf{}
		for _, r := range *x.Rest {
			*w.Rest = append(*w.Rest, RestOf{r.Machine, readRest(r.storedRest)})
		}
	}
	w.Name, w.Tags, w.Apart, w.HomePoints, w.Resume = x.Name, x.Tags, x.Apart, x.HomePoints, x.Resume
	dur := func(n *int64) *time.Duration {
		if n == nil {
			return nil
		}
		return new(span(*n))
	}
	w.Target, w.CompareEvery, w.LockFor, w.Zone = dur(x.Target), dur(x.CompareEvery), dur(x.LockFor), x.Zone
	w.Least = x.Least
	if x.HomeKeep != nil {
		w.HomeKeep = new(readLadder(*x.HomeKeep))
	}
	w.RTO, w.DrillEvery, w.NoTier, w.Reason, w.Like = dur(x.RTO), dur(x.DrillEvery), x.NoTier, x.Reason, x.Like
	if x.RestMode != nil {
		w.RestMode = new(group.Mode(*x.RestMode))
	}
	if c := x.Cadence; c != nil {
		w.Cadence = new(cadenceOf(span(c.Every), c.Sooner, c.BackToBack, c.Calendar, "", ""))
	}
	if x.Quiet != nil {
		q, err := cadence.ParseQuiet(*x.Quiet, "")
		if err != nil {
			return Wish{}, fmt.Errorf("the quiet times of an edit: %w", err)
		}
		w.Quiet = &q
	}
	if x.Priority != nil {
		w.Priority = new(group.Priority(*x.Priority))
	}
	if x.Keep != nil {
		w.Keep = &ladder.Ladder{}
		for _, r := range *x.Keep {
			*w.Keep = append(*w.Keep, r.rung())
		}
	}
	if p := x.Pause; p != nil {
		w.Pause = &group.Pause{By: p.By, Reason: p.Reason, Since: p.Since}
		if p.Until != nil {
			w.Pause.Until = *p.Until
		}
	}
	return w, nil
}

func seconds(d time.Duration) int64 { return int64(d / time.Second) }

// span reads seconds; those beyond what a duration holds become its bound, which
// the limits of every field refuse.
func span(n int64) time.Duration {
	if n > math.MaxInt64/int64(time.Second) || n < math.MinInt64/int64(time.Second) {
		return math.MaxInt64
	}
	return time.Duration(n) * time.Second
}
