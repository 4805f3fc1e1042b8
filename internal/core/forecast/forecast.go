// Package forecast steps the scheduler through the days to come: which cycles would begin,
// how long they would take on the links that they share, and what would be lost at each
// moment. It decides nothing itself: what begins is decided by schedule.Among, as in the
// service.
package forecast

import (
	"cmp"
	"math"
	"slices"
	"strings"
	"time"

	"kestrel/internal/core/cadence"
	"kestrel/internal/core/change"
	"kestrel/internal/core/pace"
	"kestrel/internal/core/schedule"
)

// Group is what is known of one that is home here, or could be.
type Group struct {
	ID, Name string
	Link     string
	// Platform and Datastores are what its cycles read from.
	Platform   string
	Datastores []string
	Target     time.Duration
	Cadence    cadence.Cadence
	Anchor     time.Time
	Weight     float64 // its share of a link beside others'
	// Last is the start of its newest cycle, Captured the capture instant of its newest
	// point; zero if there is none.
	Last, Captured time.Time
	// Paused groups start nothing, before Until if that is not zero.
	Paused bool
	Until  time.Time
	// Change is how much changes, before compression; empty is not known. Busy says which
	// hours of the week are busier, in Zone.
	Change change.Curve
	Busy   []change.Hour
	Zone   *time.Location
	// SeedBytes is what the first copy holds, or has left.
	SeedBytes int64
	// Wire is what crosses the link of a byte that changed; 0 is as much.
	Wire float64
	// ReadRate is how fast its platform gives it, in bytes a second before compression; 0 is
	// no bound.
	ReadRate float64
	// Lead is how long a cycle takes until the capture, Tail how long besides copying after
	// it.
	Lead, Tail time.Duration
	// Length is how long its cycles took lately, by which the scheduler reckons; 0 is not
	// known.
	Length time.Duration
	// Under is the cycle that is under way, which began at Last; nil if none is.
	Under *Under
}

// Under is a cycle under way.
type Under struct {
	Capture time.Time // zero before the capture
	Left    float64   // bytes that it has to read yet, if that is known
	Known   bool
	Share   float64 // its weight on its link, as it was given at its start; 0 is that of its group
}

// Link is what carries the cycles of some groups.
type Link struct {
	ID   string
	Plan pace.Plan // the limits that were set
	// Capacity is what it carries besides, in bytes a second; 0 is not known.
	Capacity float64
	Zone     *time.Location // of the plan
	// Away are times at which the other site cannot be reached.
	Away []Span
}

// Span is from an instant to another.
type Span struct{ From, To time.Time }

// Input is what a forecast is made from.
type Input struct {
	Now    time.Time
	For    time.Duration
	Limits schedule.Limits
	Groups []Group
	Links  []Link
	// Most is how many cycles are looked at; the forecast ends there. 0 is DefaultMost.
	Most int
	// Each is told of every cycle that would seal, in the order in which they would; nil is
	// nobody.
	Each func(c Cycle)
}

// Cycle is one that would seal.
type Cycle struct {
	Group                  int // index in the input
	Start, Capture, Sealed time.Time
	Waited                 time.Duration // from when it was due until its start
	Bytes                  float64       // that would cross the link
}

// DefaultMost keeps a forecast from taking longer than people wait for it.
const DefaultMost = 500_000

// looksEach bounds how often groups that wait are looked at in vain, for each cycle of Most: where
// many wait and none may begin, that is what takes its time.
const looksEach = 40

// Outcome is how a group fares.
type Outcome struct {
	ID     string
	Seeded time.Time // when its first copy would be sealed; zero if it is, or would not be
	Cycles int
	Bytes  float64 // that would cross the link
	Worst  time.Duration
	Mean   time.Duration // exposure over time
	Within float64       // share of time within the target, 0 to 1
	Over   time.Time     // when it would be above its target first; zero if never
	Length time.Duration // mean of its cycles
	// Wait is the mean of how long its cycles waited for their turn.
	Wait time.Duration
	// Unknown says that nothing is known of how much changes.
	Unknown bool
	// Seeding says that its first copy would not be sealed in the time that was looked at.
	Seeding bool
	// Paused groups start nothing in the time that was looked at, on purpose.
	Paused bool
}

// LinkLoad is how a link would be used, hour by hour.
type LinkLoad struct {
	ID    string
	Hours []float64 // bytes in each hour from Now
	Bytes float64
	Share float64 // of what it could have carried; 0 if that is not known
	// Busiest is the highest share of an hour.
	Busiest float64
}

// Output is a forecast.
type Output struct {
	Until  time.Time // how far it was looked
	Cycles int
	Groups []Outcome // in the order of the input
	Links  []LinkLoad
}

// Fits tells whether all groups that it is known of keep their targets.
func (o Output) Fits() bool {
	return !slices.ContainsFunc(o.Groups, func(g Outcome) bool { return g.Misses() })
}

// enough is the share of time within its target from which a group counts as keeping it:
// less than that is seen by nobody.
const enough = 0.995

// Misses tells whether a group does not keep its target.
func (g Outcome) Misses() bool { return g.Within < enough && !g.Paused }

// state is a group within a run. Instants are nanoseconds since Now.
type state struct {
	*Group
	// facts is what is decided upon, kept as it comes to be: to make it anew for each decision
	// would take as long as all else.
	facts    *schedule.Facts
	link     int // index; -1 for none
	last     int64
	began    bool // there is a last
	captured int64
	sealed   bool // there is a point
	due      int64
	foretold schedule.Foretold
	lengths  [3]time.Duration
	n        int
	deadline int64
	// strange is one of which only the first copy was seen: the service does not know how
	// much it changes.
	strange bool
	// worked is schedule.Facts.Work at a rate of its link of workAt.
	worked time.Duration
	workAt float64
	uses   schedule.Use // of the cycle under way
	// of the cycle under way
	start, capture int64
	waited         int64
	whole          float64 // bytes to cross the link in all
	fixed          int64   // nanoseconds left that need no link
	left           float64 // bytes left to cross the link
	rate           float64
	rank           int     // of its ID among all
	heft, most     float64 // its weight, and how fast it may cross the link for each of it
	out            *Outcome
	observed       int64 // since when its exposure counts
	area, over     float64
	total, waits   float64
}

const never = math.MaxInt64

type run struct {
	in              Input
	now             int64
	at              time.Time // now
	end             int64
	looks           int // at groups that were asked for a place
	groups          []*state
	coming          queue   // not due yet, by when
	ready           queue   // due, by deadline
	slow            []queue // those that are spilled, by link, the first of none
	spilling        bool
	facts           []schedule.Facts // of all groups, in their order
	active          []*state
	links           []link
	starts          map[string]*memo
	outlook         schedule.Outlook // as it was seen last
	stale           bool             // the links are to be shared anew
	load            schedule.Load
	planned, ahead  int64 // when it is to be looked again at what links carry, and at early starts
	starting        []schedule.Start
	sooner          bool     // some group may start sooner than it falls due
	on, asked, back []*state // used anew each time
	out             Output
}

type link struct {
	*Link
	rate  float64 // now; Inf is no bound
	until int64   // that it holds
	down  bool
	load  *LinkLoad
	could float64 // bytes that it could have carried
	known bool
}

// Run makes a forecast. The same input gives the same.
func Run(in Input) Output {
	if in.Most == 0 {
		in.Most = DefaultMost
	}
	r := &run{in: in, at: in.Now, end: int64(in.For), starts: map[string]*memo{}, load: schedule.Load{Limits: in.Limits}, slow: make([]queue, len(in.Links)+1)}
	r.out.Links = make([]LinkLoad, len(in.Links))
	for i := range in.Links {
		l := &in.Links[i]
		r.out.Links[i] = LinkLoad{ID: l.ID, Hours: make([]float64, int((in.For+time.Hour-1)/time.Hour)+1)}
		r.links = append(r.links, link{Link: l, load: &r.out.Links[i], until: -1})
	}
	r.out.Groups = make([]Outcome, len(in.Groups))
	r.facts = make([]schedule.Facts, len(in.Groups))
	ranks := rank(in.Groups)
	for i := range in.Groups {
		g := &in.Groups[i]
		s := &state{Group: g, out: &r.out.Groups[i], link: slices.IndexFunc(in.Links, func(l Link) bool { return l.ID == g.Link })}
		*s.out = Outcome{ID: g.ID, Within: 1, Unknown: len(g.Change) == 0 && !g.Cadence.ByHand(), Paused: g.Paused && (g.Until.IsZero() || r.since(g.Until) > r.end)}
		s.began, s.sealed = !g.Last.IsZero(), !g.Captured.IsZero()
		s.last, s.captured = r.since(g.Last), r.since(g.Captured)
		s.lengths[0] = g.Length
		s.rank = ranks[g.ID]
		r.sooner = r.sooner || g.Cadence.Sooner
		s.facts = &r.facts[i]
		*s.facts = schedule.Facts{ID: g.ID, Name: g.Name, Target: g.Target, Cadence: g.Cadence, Anchor: g.Anchor, Last: g.Last, Captured: g.Captured, Length: g.Length, PlatformUp: true, LinkUp: true,
			Foretold: &s.foretold, Weight: g.Weight, Link: g.Link, Platform: g.Platform, Datastores: g.Datastores}
		r.groups = append(r.groups, s)
		if g.Under != nil {
			r.takeUp(s)
			continue
		}
		r.plan(s)
	}
	r.loop()
	r.finish()
	return r.out
}

// rank is the order of groups that are nothing else before each other: by priority, as the
// scheduler has it, and then by their IDs.
func rank(gs []Group) map[string]int {
	order := slices.Clone(gs)
	slices.SortFunc(order, func(a, b Group) int {
		return cmp.Or(cmp.Compare(b.weight(), a.weight()), strings.Compare(a.ID, b.ID))
	})
	out := map[string]int{}
	for i, g := range order {
		out[g.ID] = i
	}
	return out
}

func (r *run) since(t time.Time) int64 {
	if t.IsZero() {
		return 0
	}
	return int64(t.Sub(r.in.Now))
}

func (r *run) time(n int64) time.Time { return r.in.Now.Add(time.Duration(n)) }

// memo is the starts of a cadence that takes its time to reckon, for all groups that have
// it.
type memo struct {
	at []int64
	to int64
}

// following is the start that follows the last one.
func (r *run) following(s *state) (int64, bool) {
	c := &s.Cadence
	if c.ByHand() {
		return 0, !s.began
	}
	if c.Calendar.IsZero() || !s.began {
		next, ok := c.Next(s.Anchor, s.facts.Last, r.at)
		return r.since(next), ok
	}
	key := strings.Join(c.Calendar.Rules, "\n") + "|" + c.Calendar.Zone + "|" + c.Quiet.String() + c.Quiet.Zone
	m := r.starts[key]
	if m == nil {
		m = &memo{to: min(s.last, -int64(time.Hour))}
		r.starts[key] = m
	}
	if s.last < m.to && len(m.at) > 0 && s.last < m.at[0] {
		next, ok := c.Next(s.Anchor, r.time(s.last), r.at)
		return r.since(next), ok
	}
	for {
		if at, _ := slices.BinarySearch(m.at, s.last+1); at < len(m.at) {
			return m.at[at], true
		}
		from := m.to
		if n := len(m.at); n > 0 {
			from = m.at[n-1]
		}
		next, ok := c.Next(s.Anchor, r.time(from), r.at)
		if !ok || r.since(next) <= from {
			return 0, false
		}
		m.at = append(m.at, r.since(next))
	}
}

// plan puts a group that does not run where it waits.
func (r *run) plan(s *state) {
	if s.Paused && s.Until.IsZero() {
		return
	}
	next, ok := r.following(s)
	if !ok {
		return
	}
	if s.Paused {
		next = max(next, r.since(s.Until))
	}
	s.due = next
	s.foretold = schedule.Foretold{At: r.time(next), Due: true}
	r.coming.push(s.due, s)
}

func (s *state) expected() time.Duration {
	out := time.Duration(0)
	for _, d := range s.lengths {
		out = max(out, d)
	}
	return out
}

// look brings up to date what is decided upon and changes with the time.
func (r *run) look(s *state) *schedule.Facts {
	if s.sealed {
		s.facts.Still, s.facts.Copy = s.Lead+s.Tail, r.copying(s)
	}
	return s.facts
}

// held tells whether a group is paused now.
func (r *run) held(s *state) bool {
	return s.Paused && (s.Until.IsZero() || r.now < r.since(s.Until))
}

func (r *run) loop() {
	var batch []*schedule.Facts
	for r.now <= r.end && r.out.Cycles < r.in.Most && r.looks < looksEach*r.in.Most {
		r.rates()
		r.replan()
		for len(r.coming) > 0 && r.coming[0].key <= r.now {
			s := r.coming.pop()
			s.facts.DueSince, s.facts.Paused = r.at, false
			s.deadline = r.since(s.facts.Deadline(r.at))
			r.wait(s)
		}
		batch = r.begin(batch)
		if r.stale {
			r.share()
			r.stale = false
		}
		next := r.next()
		if next == never || next > r.end {
			r.advance(r.end)
			return
		}
		r.advance(next)
		r.land()
	}
}

// begin asks the scheduler what begins now, of the groups that are due, for which there is
// room, and whose deadlines are the earliest: of more, it could choose no others.
func (r *run) begin(batch []*schedule.Facts) []*schedule.Facts {
	if len(r.ready) == 0 && !r.spilling || r.in.Limits.Site > 0 && len(r.active) >= r.in.Limits.Site {
		return batch
	}
	batch = batch[:0]
	asked, back := r.asked[:0], r.back[:0]
	would := r.load.Clone()
	ask := func(s *state) {
		r.looks++
		uses := would.Of(s.facts)
		if s.link >= 0 && r.links[s.link].down || !would.Room(uses) {
			back = append(back, s)
			return
		}
		would.Add(uses)
		batch = append(batch, r.look(s))
		asked = append(asked, s)
	}
	full := func() bool { return r.in.Limits.Site > 0 && len(r.active)+len(asked) >= r.in.Limits.Site }
	for len(r.ready) > 0 && !full() {
		ask(r.ready.pop())
	}
	for i := range r.slow {
		if len(r.slow[i]) > 0 && !full() {
			ask(r.slow[i].pop()) // one at a time over a link
		}
	}
	d := schedule.Among(r.at, batch, r.load, r.starting)
	r.starting = d.Start
	for _, s := range asked {
		if at := slices.IndexFunc(d.Start, func(x schedule.Start) bool { return x.ID == s.ID }); at >= 0 {
			r.start(s, d.Start[at])
		} else {
			back = append(back, s)
		}
	}
	for _, s := range back {
		r.wait(s)
	}
	r.asked, r.back = asked, back
	r.stale = r.stale || len(asked) > 0
	return batch
}

// takeUp goes on with a cycle that is under way.
func (r *run) takeUp(s *state) {
	u := s.Under
	s.start, s.capture, s.fixed = s.last, r.since(u.Capture), int64(s.Tail)
	if u.Capture.IsZero() {
		s.capture = max(0, s.last+int64(s.Lead))
		s.fixed += s.capture
	}
	s.facts.Running = true
	r.use(s, r.load.Of(r.look(s)), cmp.Or(u.Share, s.weight()))
	s.left = r.bytes(s)
	if u.Known {
		s.left = u.Left * s.wire()
	}
	s.whole = s.left
	r.active = append(r.active, s)
	r.stale = true
}

// bytes is what a cycle has to send that captures when the group's does.
func (r *run) bytes(s *state) float64 {
	bytes := float64(s.SeedBytes)
	if s.sealed {
		bytes = s.Change.Within(time.Duration(s.capture-s.captured)) * s.share(r.time(s.capture))
	}
	return bytes * s.wire()
}

func (g *Group) wire() float64 {
	if g.Wire <= 0 {
		return 1
	}
	return g.Wire
}

func (r *run) start(s *state, x schedule.Start) {
	r.use(s, x.Uses, x.Share)
	s.start, s.capture = r.now, r.now+int64(s.Lead)
	s.waited = max(0, r.now-s.due)
	s.waits += float64(s.waited)
	s.last, s.began = r.now, true
	s.facts.Last, s.facts.Running = r.at, true
	s.left = r.bytes(s)
	s.whole = s.left
	s.fixed = int64(s.Lead + s.Tail)
	r.active = append(r.active, s)
	r.out.Cycles++
	s.out.Cycles++
}

// share is how busy an hour of the week is, as a share of the mean hour.
func (g *Group) share(t time.Time) float64 {
	if zone := g.Zone; zone != nil {
		t = t.In(zone)
	} else {
		t = t.UTC()
	}
	return change.Share(g.Busy, t)
}

// next is the next instant at which something happens.
func (r *run) next() int64 {
	next := int64(never)
	if len(r.coming) > 0 {
		next = r.coming[0].key
	}
	for _, s := range r.active {
		next = min(next, r.ends(s))
	}
	for i := range r.links {
		next = min(next, r.links[i].until)
	}
	if next <= r.now {
		return r.now + 1
	}
	return next
}

// ends is when a cycle's next part is done: its copying, or after that the rest.
func (r *run) ends(s *state) int64 {
	switch {
	case s.left <= 0 || math.IsInf(s.rate, 1):
		return r.now + s.fixed
	case s.rate <= 0:
		return never
	}
	seconds := s.left / s.rate
	if seconds > 1e9 {
		return never
	}
	return r.now + max(1, int64(math.Ceil(seconds*1e9)))
}

// advance lets time pass.
func (r *run) advance(to int64) {
	d := float64(to-r.now) / 1e9
	for i := range r.links {
		l := &r.links[i]
		if l.known {
			l.could += l.rate * d
		}
	}
	for _, s := range r.active {
		if s.left > 0 && !math.IsInf(s.rate, 1) {
			moved := min(s.left, s.rate*d)
			r.account(s, moved, to)
			if s.left -= moved; s.left < 0.5 {
				s.left = 0
			}
			continue
		}
		if s.left > 0 { // no bound is known: it takes no time that could be told
			r.account(s, s.left, to)
			s.left = 0
		}
		s.fixed -= to - r.now
	}
	r.now, r.at = to, r.time(to)
}

// account adds what has crossed a link to its hours.
func (r *run) account(s *state, bytes float64, to int64) {
	s.out.Bytes += bytes
	if s.link < 0 || bytes <= 0 {
		return
	}
	load := r.links[s.link].load
	load.Bytes += bytes
	span := to - r.now
	for at := r.now; at < to; {
		hour := at / int64(time.Hour)
		end := min(to, (hour+1)*int64(time.Hour))
		if int(hour) < len(load.Hours) {
			load.Hours[hour] += bytes * float64(end-at) / float64(span)
		}
		at = end
	}
}

// land seals the cycles that are done.
func (r *run) land() {
	done := false
	r.active = slices.DeleteFunc(r.active, func(s *state) bool {
		if s.left > 0 {
			return false
		}
		done = true // what it does not use is for others
		if s.fixed > 0 {
			return false
		}
		r.load.Remove(s.uses)
		r.seal(s)
		return true
	})
	r.stale = r.stale || done
}

func (r *run) seal(s *state) {
	length := r.now - s.start
	s.lengths[s.n%len(s.lengths)] = time.Duration(length)
	s.n++
	s.total += float64(length)
	if !s.sealed {
		s.out.Seeded = r.at
		s.observed = r.now
		r.planned = r.now // it counts from now on
	} else {
		r.expose(s, r.now)
	}
	if r.in.Each != nil {
		r.in.Each(Cycle{Group: slices.Index(r.groups, s), Start: r.time(s.start), Capture: r.time(s.capture), Sealed: r.at, Waited: time.Duration(s.waited), Bytes: s.whole})
	}
	s.strange = !s.sealed
	s.sealed, s.captured = true, s.capture
	f := s.facts
	f.Captured, f.Length, f.Running, f.Early = r.time(s.captured), s.expected(), false, nil
	r.plan(s)
}

// expose counts a group's exposure up to an instant.
func (r *run) expose(s *state, to int64) {
	from := max(s.observed, 0)
	if to <= from {
		return
	}
	low, high := float64(from-s.captured), float64(to-s.captured)
	s.area += (high*high - low*low) / 2
	target := float64(s.Target)
	if high > target {
		s.over += high - max(low, target)
		if at := r.time(max(from, s.captured+int64(s.Target))); s.out.Over.IsZero() {
			s.out.Over = at
		}
	}
	s.out.Worst = max(s.out.Worst, time.Duration(high))
	s.observed = to
}

func (r *run) finish() {
	r.out.Until = r.at
	for _, s := range r.groups {
		start := int64(0)
		if s.Captured.IsZero() {
			if start = r.now; !s.out.Seeded.IsZero() {
				start = r.since(s.out.Seeded)
			} else {
				s.out.Seeding = !s.Paused && !s.Cadence.ByHand()
			}
		}
		if s.sealed {
			r.expose(s, r.now)
		}
		if watched := float64(r.now - start); watched > 0 && s.Target > 0 {
			s.out.Mean, s.out.Within = time.Duration(s.area/watched), 1-s.over/watched
		}
		if s.n > 0 {
			s.out.Length, s.out.Wait = time.Duration(s.total/float64(s.n)), time.Duration(s.waits/float64(s.out.Cycles))
		}
	}
	for i := range r.links {
		l := &r.links[i]
		hours := int(r.now / int64(time.Hour))
		if l.could > 0 {
			l.load.Share = l.load.Bytes / l.could
			hourly := l.could / (float64(r.now) / float64(time.Hour))
			for _, b := range l.load.Hours {
				l.load.Busiest = max(l.load.Busiest, b/hourly)
			}
		}
		l.load.Hours = l.load.Hours[:min(len(l.load.Hours), hours+1)]
	}
}
