package demo

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"log/slog"
	"slices"
	"time"

	"github.com/google/uuid"

	"kestrel/internal/audit"
	"kestrel/internal/clock"
	"kestrel/internal/core/actor"
	"kestrel/internal/core/alert"
	"kestrel/internal/core/exposure"
	"kestrel/internal/core/forecast"
	"kestrel/internal/core/health"
	"kestrel/internal/core/series"
	"kestrel/internal/core/span"
	"kestrel/internal/cycle"
	"kestrel/internal/directory"
	"kestrel/internal/events"
	"kestrel/internal/meter"
	"kestrel/internal/mover"
	"kestrel/internal/records"
	"kestrel/internal/watch"
)

func sortTimes(ts []time.Time) { slices.SortFunc(ts, time.Time.Compare) }

// book is the records of one site.
type book struct {
	place
	*records.DB
	id    string
	links map[string]string // IDs, by the name of the other site
}

// passDays writes down how the time from one instant to another went, at all sites: arrivals,
// counts, measures, alerts, and what people did. All is what went wrong.
func (d *demo) passDays(ctx context.Context, from, to time.Time, all []incident) (err error) {
	books := map[string]*book{}
	for _, s := range d.sites {
		b := &book{place: s, links: map[string]string{}}
		if b.DB, err = records.Open(ctx, s.db); err != nil {
			return err
		}
		defer func() { err = errors.Join(err, b.Close()) }()
		own, err := b.Site(ctx, s.name, from)
		if err != nil {
			return err
		}
		b.id = own.ID
		links, err := b.Links(ctx)
		if err != nil {
			return err
		}
		for _, l := range links {
			b.links[l.PeerName] = l.ID
		}
		books[s.name] = b
	}
	var groups []*gone
	for _, s := range d.sites {
		own, err := books[s.name].groups(ctx)
		if err != nil {
			return err
		}
		live(own, from, to, all)
		groups = append(groups, own...)
		if to.Sub(from) > span.Day {
			if err := books[s.name].foretell(ctx, own, from, to); err != nil {
				return err
			}
		}
	}
	for _, s := range d.sites {
		if err := books[s.name].write(ctx, groups, from, to, all); err != nil {
			return fmt.Errorf("%s: %w", s.name, err)
		}
	}
	all = slices.DeleteFunc(slices.Clone(all), func(i incident) bool { return i.From.Before(from) || !i.From.Before(to) })
	return d.tellDeeds(ctx, books, groups, all)
}

// groups are those that are home at a site, as its records have them.
func (b *book) groups(ctx context.Context) ([]*gone, error) {
	recs, err := b.Groups(ctx)
	if err != nil {
		return nil, err
	}
	bases, err := b.Replications(ctx)
	if err != nil {
		return nil, err
	}
	var out []*gone
	for _, r := range recs {
		if r.Direction != string(directory.Out) {
			continue
		}
		s, err := directory.Decode(r.Settings, r.Name)
		if err != nil {
			return nil, err
		}
		g := &gone{id: r.ID, name: r.Name, home: r.HomeName, recovery: r.RecoveryName, link: b.links[r.RecoveryName], platform: s.Platform, spec: s, anchor: r.Anchor}
		for _, x := range bases {
			if x.GroupID == r.ID && x.LastStart != nil {
				g.last, g.captured = *x.LastStart, *x.LastStart
			}
		}
		out = append(out, g)
	}
	return out, nil
}

// write is how the days went as one site saw them.
func (b *book) write(ctx context.Context, groups []*gone, from, to time.Time, all []incident) error {
	if err := b.KeepPartitions(ctx, from); err != nil {
		return err
	}
	m := measures{}
	for _, g := range groups {
		if g.home != b.name && g.recovery != b.name {
			continue
		}
		var captured, sealed []time.Time
		for _, c := range g.cycles {
			captured, sealed = append(captured, c.Capture), append(sealed, c.Sealed)
		}
		if _, err := b.ExecContext(ctx, `INSERT INTO arrivals (group_id, capture_at, sealed_at) SELECT $1, x.c, x.s FROM unnest($2::timestamptz[], $3::timestamptz[]) AS x (c, s)`, g.id, captured, sealed); err != nil {
			return fmt.Errorf("arrivals of %s: %w", g.name, err)
		}
		m.carry(b, g)
		if g.home != b.name {
			continue
		}
		m.wait(g, from, to, all)
		if err := b.count(ctx, g, all); err != nil {
			return fmt.Errorf("counts of %s: %w", g.name, err)
		}
		if err := b.keep(ctx, g); err != nil {
			return fmt.Errorf("cycles of %s: %w", g.name, err)
		}
	}
	// A day at a time, as they come: what is fine is not kept for as long as what is coarse.
	recs := m.records()
	for day := from.UTC().Truncate(span.Day); day.Before(to); day = day.Add(span.Day) {
		n, _ := slices.BinarySearchFunc(recs, day.Add(span.Day), func(r records.Measure, t time.Time) int { return r.At.Compare(t) })
		if err := errors.Join(b.KeepPartitions(ctx, day), b.AddMeasures(ctx, recs[:n])); err != nil {
			return err
		}
		recs = recs[n:]
	}
	if err := b.alerts(ctx, groups, from, to, all); err != nil {
		return err
	}
	// Machines are as they were on the first of the days.
	_, err := b.ExecContext(ctx, `INSERT INTO coverage (at, counts) SELECT t, (SELECT counts FROM coverage ORDER BY at DESC LIMIT 1) FROM generate_series(date_trunc('hour', $1::timestamptz), $2, interval '1 hour') t
		WHERE EXISTS (SELECT FROM coverage) ON CONFLICT DO NOTHING`, from, to)
	return err
}

// foretell records what was foretold of groups from day to day, and what came of it, but of the
// day that is not over.
func (b *book) foretell(ctx context.Context, groups []*gone, from, to time.Time) error {
	for day := from; day.Before(to); day = day.Add(span.Day) {
		for i, o := range foretold(groups, day) {
			g, until := groups[i], day.Add(span.Day)
			f := records.Forecast{GroupID: g.id, MadeAt: day, Until: until, Worst: int64(o.Worst.Seconds()), Bytes: int64(o.Bytes), Within: o.Within}
			if until.Before(to) {
				var arrivals []exposure.Arrival
				bytes := int64(0)
				for _, c := range g.cycles {
					arrivals = append(arrivals, exposure.Arrival{Capture: c.Capture, Sealed: c.Sealed})
					if !c.Sealed.Before(day) && c.Sealed.Before(until) {
						bytes += int64(c.Bytes)
					}
				}
				k := exposure.Judge(exposure.Sawtooth(arrivals, day, until), []exposure.Target{{Since: from, Target: g.spec.Promise.Target}})
				f.CameWorst, f.CameBytes, f.CameWithin = new(int64(k.Worst.Seconds())), &bytes, new(k.Share())
			}
			if err := b.PutForecast(ctx, f); err != nil {
				return err
			}
		}
	}
	return nil
}

// changed is what cycle n found changed, in bytes.
func (g *gone) changed(n int) int64 { return int64(g.cycles[n].Bytes / g.left[n]) }

// count enters a group's cycles into their hours and days.
func (b *book) count(ctx context.Context, g *gone, all []incident) error {
	sums := map[string]*records.Tally{}
	add := func(step string, at time.Time, n, missed int) {
		c := g.cycles[n]
		k := step + at.String()
		t := sums[k]
		if t == nil {
			t = &records.Tally{GroupID: g.id, Step: step, At: at}
			sums[k] = t
		}
		changed, wire, took := g.changed(n), int64(c.Bytes), c.Sealed.Sub(c.Start).Milliseconds()
		t.Sealed, t.Missed, t.Changed, t.Wire, t.Took = t.Sealed+1, t.Missed+missed, t.Changed+changed, t.Wire+wire, t.Took+took
		t.ChangedMost, t.WireMost, t.TookMost, t.WaitedMost = max(t.ChangedMost, changed), max(t.WireMost, wire), max(t.TookMost, took), max(t.WaitedMost, c.Waited.Milliseconds())
	}
	every := g.spec.Promise.Cadence.Every
	for n, c := range g.cycles {
		missed := 0
		if n > 0 && every > 0 && !held(g, c.Start, all) {
			missed = max(0, int(c.Start.Sub(g.cycles[n-1].Start)/every)-1)
		}
		add(records.ByHour, c.Sealed.UTC().Truncate(time.Hour), n, missed)
		add(records.ByDay, c.Sealed.UTC().Truncate(span.Day), n, missed)
	}
	var rows []records.Tally
	for _, t := range sums {
		rows = append(rows, *t)
	}
	for part := range slices.Chunk(rows, 1000) {
		if _, err := b.NamedExecContext(ctx, `INSERT INTO tallies (group_id, step, at, sealed, failed, missed, changed, wire, took, changed_most, wire_most, took_most, waited_most, dense_most, zeroed_most)
			VALUES (:group_id, :step, :at, :sealed, :failed, :missed, :changed, :wire, :took, :changed_most, :wire_most, :took_most, :waited_most, :dense_most, :zeroed_most)
			ON CONFLICT (step, at, group_id) DO UPDATE SET sealed = tallies.sealed + excluded.sealed, missed = tallies.missed + excluded.missed, changed = tallies.changed + excluded.changed, wire = tallies.wire + excluded.wire, took = tallies.took + excluded.took`, part); err != nil {
			return err
		}
	}
	return nil
}

// held tells whether a group was paused within the hours before an instant.
func held(g *gone, t time.Time, all []incident) bool {
	return slices.ContainsFunc(all, func(i incident) bool {
		return i.trouble == paused && i.Group == g.name && t.After(i.From) && t.Before(i.To.Add(time.Hour))
	})
}

// keep records the newest cycles of a group, with the numbers that they have among all, and
// that the next follows the last of them.
func (b *book) keep(ctx context.Context, g *gone) error {
	newest, err := b.Cycles(ctx, g.id, 0, 1)
	if err != nil {
		return err
	}
	var rows []records.Cycle
	first := int64(1)
	for _, c := range newest {
		first = c.Number + 1
	}
	for n, c := range g.cycles {
		if len(g.cycles)-n > mover.KeptCycles {
			continue
		}
		to := func(t time.Time) *time.Time { return &t }
		p := cycle.Progress{Kind: cycle.KindChanges, Phase: "seal", CaptureAt: c.Capture, TotalBytes: g.changed(n), ReadBytes: g.changed(n), ChangedBytes: g.changed(n), ShippedBytes: g.changed(n), WireBytes: int64(c.Bytes), OneInstant: true, MovedAt: c.Sealed,
			Phases: []cycle.Phase{{Name: "capture", From: c.Start, To: to(c.Capture)}, {Name: "read", From: c.Capture, To: to(c.Sealed.Add(-time.Second))}, {Name: "ship", From: c.Capture, To: to(c.Sealed.Add(-time.Second))}, {Name: "seal", From: c.Sealed.Add(-time.Second), To: to(c.Sealed)}}}
		p.Parts = g.parts(p)
		detail, err := json.Marshal(map[string]any{"attempts": 1, "progress": p, "waited": c.Waited})
		if err != nil {
			return err
		}
		rows = append(rows, records.Cycle{ID: uuid.NewString(), GroupID: g.id, Number: first + int64(n), State: cycle.Sealed, StartedAt: c.Start, EndedAt: &c.Sealed, Detail: detail})
	}
	if len(rows) > 0 {
		if _, err := b.NamedExecContext(ctx, `INSERT INTO cycles (id, group_id, number, state, started_at, ended_at, detail) VALUES (:id, :group_id, :number, :state, :started_at, :ended_at, :detail)`, rows); err != nil {
			return err
		}
	}
	return b.NoteStart(ctx, g.id, g.last)
}

// parts shares a cycle out among the disks of the group, most to the last of each machine: what
// is written lies there, and programs on the first.
func (g *gone) parts(p cycle.Progress) []cycle.Part {
	var out []cycle.Part
	var weights []float64
	whole := 0.0
	for n, m := range g.spec.Machines {
		for i, x := range m.Disks {
			if g.spec.Leaves(m.ID, x.Key) {
				continue
			}
			w := 1 / float64(n+1)
			if i < len(m.Disks)-1 {
				w /= 12
			}
			out, weights, whole = append(out, cycle.Part{Machine: m.ID, Name: m.Name, Disk: x.Key}), append(weights, w), whole+w
		}
	}
	for i := range out {
		of := func(n int64) int64 { return int64(float64(n) * weights[i] / whole) }
		out[i].ReadBytes, out[i].ChangedBytes, out[i].ShippedBytes, out[i].WireBytes = of(p.ReadBytes), of(p.ChangedBytes), of(p.ShippedBytes), of(p.WireBytes)
	}
	return out
}

// measures are values by what they are of, in the finest steps.
type measures map[measured]*series.Bucket

type measured struct {
	subject, what string
	at            time.Time
}

func (m measures) add(subject, what string, at time.Time, value float64) {
	k := measured{subject, what, at.UTC().Truncate(series.Steps()[0].Long)}
	if m[k] == nil {
		m[k] = &series.Bucket{}
	}
	m[k].Add(value)
}

// looks is how often things are measured.
const looks = 5 * time.Minute

// carry adds what a group's cycles had carried over the link, as seen by one of its ends.
func (m measures) carry(b *book, g *gone) {
	link, what := b.links[g.recovery], meter.Out
	if g.home != b.name {
		link, what = b.links[g.home], meter.In
	}
	for _, c := range g.cycles {
		rate := c.Bytes / max(1, c.Sealed.Sub(c.Capture).Seconds())
		for t := c.Capture.Truncate(looks); t.Before(c.Sealed); t = t.Add(looks) {
			within := min(c.Sealed.Sub(t), looks) - max(0, c.Capture.Sub(t))
			m.add(link, what, t, rate*within.Seconds()/looks.Seconds())
		}
	}
}

// wait adds the backlog of a group.
func (m measures) wait(g *gone, from, to time.Time, all []incident) {
	n := 0
	var captured time.Time
	for t := from.Truncate(looks).Add(looks); t.Before(to); t = t.Add(looks) {
		for n < len(g.cycles) && !g.cycles[n].Sealed.After(t) {
			captured = g.cycles[n].Capture
			n++
		}
		if captured.IsZero() {
			continue
		}
		rate := usuals()[g.name].rate
		for _, i := range all {
			if (i.trouble == burst || i.trouble == odd) && i.Group == g.name && i.over(t) {
				rate *= i.Amount
			}
		}
		m.add(g.id, meter.Backlog, t, rate*t.Sub(captured).Seconds())
	}
}

func (m measures) records() []records.Measure {
	var out []records.Measure
	for k, b := range m {
		out = append(out, records.Measure{Subject: k.subject, What: k.what, At: k.at, N: b.N, Sum: b.Sum, Least: b.Least, Most: b.Most})
	}
	slices.SortFunc(out, func(a, b records.Measure) int { return a.At.Compare(b.At) })
	return out
}

// glance is how often it was looked at what somebody has to be told of.
const glance = 20 * time.Second

// alerts goes through the days as the watch of a site does, and keeps what it raised.
func (b *book) alerts(ctx context.Context, groups []*gone, from, to time.Time, all []incident) error {
	w := alert.NewBook(nil)
	var out []records.Alert
	at := map[string]int{}
	for now := from; now.Before(to); now = now.Add(glance) {
		var signs []alert.Sign
		for _, i := range all {
			other := i.A
			if other == b.name {
				other = i.B
			}
			if i.trouble == cutLink && i.over(now) && b.links[other] != "" && (i.A == b.name || i.B == b.name) {
				signs = append(signs, alert.Sign{Kind: alert.LinkDown, Thing: alert.Thing{Kind: watch.Link, ID: b.links[other], Name: other}, Since: i.From, Text: other + " was not heard of.", Mend: "See whether its service runs, and what is between the sites."})
			}
		}
		for _, g := range groups {
			if g.home != b.name {
				continue
			}
			for at[g.id] < len(g.cycles) && !g.cycles[at[g.id]].Sealed.After(now) {
				at[g.id]++
			}
			if at[g.id] > 0 {
				signs = append(signs, g.signs(b, now, g.cycles[at[g.id]-1], all)...)
			}
		}
		changed, _ := w.Step(alert.Look{Now: now, Signs: signs, Rules: alert.Defaults(), NewID: uuid.NewString})
		for _, a := range changed {
			if !a.Open() {
				a.ToldAt = a.RaisedAt
				out = append(out, watch.Record(a))
			}
		}
	}
	for _, a := range w.Open {
		a.ToldAt, a.ClearedAt = a.RaisedAt, to
		out = append(out, watch.Record(a))
	}
	return b.PutAlerts(ctx, out, nil)
}

// signs are what there was to tell of a group at an instant; c is its newest cycle.
func (g *gone) signs(b *book, now time.Time, c forecast.Cycle, all []incident) []alert.Sign {
	m := alert.Member{ID: g.id, Name: g.name, Tags: g.spec.Tags}
	if t := g.spec.Tier; t != nil {
		m.Tier = t.Tier.Name
	}
	sign := func(k alert.Kind, since time.Time, text, mend string) alert.Sign {
		return alert.Sign{Kind: k, Thing: alert.Thing{Kind: watch.Group, ID: g.id, Name: g.name}, Member: m, Since: since, Text: text, Mend: mend}
	}
	target := g.spec.Promise.Target
	x := health.Facts{Now: now, Target: target, Sealed: true, Exposure: now.Sub(c.Capture), LinkUp: true, PlatformUp: true}
	var out []alert.Sign
	for _, i := range all {
		switch mine := i.Group == g.name; {
		case i.trouble == odd && mine && c.Start.After(i.From) && now.Sub(i.To) < span.Day:
			n := span.Bytes(i.Amount * usuals()[g.name].rate * (2 * time.Hour).Seconds())
			out = append(out, sign(alert.Unusual, i.To, n+" that changed cannot be compressed, where 48 % was left of it before: encrypted data looks like that.", "Look at what its machines do."))
		case !i.over(now):
		case i.trouble == paused && mine:
			x.Paused = true
		case i.trouble == restless && mine:
			out = append(out, sign(alert.NotAtRest, i.From, i.Text+".", "See to the agent in the guest; points are crash-consistent meanwhile."))
		}
	}
	kind, text := alert.Kind(""), ""
	switch health.Judge(x) {
	case health.Over:
		kind, text = alert.Over, fmt.Sprintf("The newest point was captured at %s, and the target is %s.", c.Capture.UTC().Format("2006-01-02 15:04:05 MST"), span.Format(target))
	case health.Tight:
		kind, text = alert.Tight, fmt.Sprintf("Exposure is above %.0f %% of the target of %s.", 100*health.TightShare, span.Format(target))
	}
	if kind == alert.Over || kind != "" && !x.Paused {
		s := sign(kind, x.Since(health.Judge(x)), text, "")
		s.Causes = []alert.Key{alert.KeyOf(alert.LinkDown, alert.Thing{Kind: watch.Link, ID: b.links[g.recovery]})}
		out = append(out, s)
	}
	return out
}

// tellDeeds writes down what people did in the days: the trail's lines, and what was promised
// meanwhile.
func (d *demo) tellDeeds(ctx context.Context, books map[string]*book, groups []*gone, all []incident) error {
	for _, i := range all {
		at := slices.IndexFunc(groups, func(g *gone) bool { return g.name == i.Group })
		if at < 0 || i.trouble != paused && i.trouble != edited && i.trouble != slowed {
			continue
		}
		g := groups[at]
		home := books[g.home]
		note := func(t time.Time, text string) {
			trail := audit.New(home, stopped(t), events.NewHub(), slog.New(slog.NewTextHandler(io.Discard, nil)))
			trail.Note(ctx, d.person(), audit.Object{Kind: "group", Name: g.name, ID: g.id}, "%s", text)
		}
		who := actor.Actor{Kind: actor.Person, Name: d.secrets.User}.String()
		var since []time.Time
		var reason []*string
		switch i.trouble {
		case slowed:
			note(i.From, fmt.Sprintf("%s changed %s: cadence from every %s to every %s", who, g.name, span.Format(time.Duration(i.Amount)*time.Second), span.Format(g.spec.Promise.Cadence.Every)))
			continue
		case paused:
			since, reason = []time.Time{i.From, i.To}, []*string{&i.Text, nil}
			note(i.From, fmt.Sprintf("%s paused %s: %s", who, g.name, i.Text))
			note(i.To, fmt.Sprintf("%s resumed %s", who, g.name))
		default:
			since, reason = []time.Time{i.From}, []*string{nil}
			note(i.From, fmt.Sprintf("%s changed %s: RPO target from %s to %s", who, g.name, span.Format(time.Duration(i.Amount)*time.Second), span.Format(g.spec.Promise.Target)))
		}
		for _, name := range []string{g.home, g.recovery} {
			if i.trouble == edited {
				if _, err := books[name].ExecContext(ctx, `UPDATE targets SET target_seconds = $2 WHERE group_id = $1`, g.id, int64(i.Amount)); err != nil {
					return err
				}
			}
			for n := range since {
				if _, err := books[name].ExecContext(ctx, `INSERT INTO targets (group_id, since, target_seconds, tier, paused) SELECT group_id, $2, $3, tier, $4 FROM targets WHERE group_id = $1 ORDER BY since LIMIT 1`,
					g.id, since[n], int64(g.spec.Promise.Target.Seconds()), reason[n]); err != nil {
					return err
				}
			}
		}
	}
	return nil
}

// stopped is a clock that stands still.
type stopped time.Time

func (s stopped) Now() time.Time                       { return time.Time(s) }
func (s stopped) After(time.Duration) <-chan time.Time { return nil }

var _ clock.Clock = stopped{}
