package service

import (
	"context"
	"encoding/json"
	"fmt"
	"net/url"
	"sort"
	"strings"
	"time"

	"kestrel/internal/api"
	"kestrel/internal/core/exposure"
	"kestrel/internal/core/health"
	"kestrel/internal/core/span"
	"kestrel/internal/cycle"
	"kestrel/internal/problem"
	"kestrel/internal/records"
)

// view gathers what is known of a group for showing it; the lock is held.
type view struct {
	state    health.State
	facts    health.Facts
	progress *cycle.Progress
	rate     int64
	finishAt time.Time
}

// judge tells a group's health from what this site knows; the lock is held.
func (s *Service) judge(g *group) view {
	now := s.clk.Now()
	p := g.promise()
	f := health.Facts{Now: now, Target: p.Target, Paused: g.rec.Paused, Sealed: !g.newestAt.IsZero()}
	if f.Sealed {
		f.Exposure = max(0, now.Sub(g.newestAt))
	}
	l := s.links[deref(g.rec.Link)]
	var v view
	if g.rec.Direction == "out" {
		pl := s.platforms[g.set.Platform]
		f.LinkUp, f.PlatformUp = s.upOut(l), pl != nil && pl.up()
		f.DueSince = g.dueSince
		if g.run != nil {
			f.Running, f.LastProgress = true, g.run.detail.Progress.MovedAt
			if pr := g.run.detail.Progress; pr.Phase != "" {
				v.progress = &pr
				v.rate, v.finishAt = g.run.rate(now)
			}
		}
	} else {
		f.LinkUp, f.PlatformUp = s.upIn(l), g.live.PlatformUp
		if !g.live.DueSince.IsZero() {
			f.DueSince = ours(l, g.live.DueSince)
		}
		var pr cycle.Progress
		if len(g.live.Running) > 0 && json.Unmarshal(g.live.Running, &pr) == nil && pr.Phase != "" {
			f.Running, f.LastProgress = true, ours(l, pr.MovedAt)
			v.progress, v.rate, v.finishAt = &pr, g.live.Rate, ours(l, g.live.FinishAt)
		}
	}
	v.facts, v.state = f, health.Judge(f)
	return v
}

// groupView is a group as the contract shows it; the lock is held.
func (s *Service) groupView(g *group) api.Group {
	x := s.judge(g)
	v := api.Group{ID: g.rec.ID, Name: g.rec.Name, Direction: api.GroupDirection(g.rec.Direction), Home: g.rec.HomeName, Recovery: g.rec.RecoveryName, Link: deref(g.rec.Link),
		Promise: g.set.Promise, Machines: []api.GroupMachine{}, Together: !g.set.Apart, Priority: g.set.priority(), CompareEverySeconds: g.set.CompareEvery, Health: string(x.state), Reasons: s.reasons(g, x), Paused: g.rec.Paused, Points: g.points,
		NewestCaptureAt: orNil(g.newestAt), OldestCaptureAt: orNil(g.oldestAt), ConfirmedAt: orNil(g.confirmedAt), Term: g.rec.Term, Revision: g.rec.Revision, CreatedAt: g.rec.CreatedAt}
	if v.Promise.Keep == nil {
		v.Promise.Keep = []api.Rung{}
	}
	if g.rec.Direction == "in" {
		v.ConfirmedAt = orNil(s.clk.Now().UTC()) // this site holds the points itself
	}
	v.ComparedAt = g.rec.ComparedAt
	if g.rec.Direction == "in" && !g.live.ComparedAt.IsZero() {
		v.ComparedAt = ptr(ours(s.links[deref(g.rec.Link)], g.live.ComparedAt))
	}
	v.LostPoints, v.KeepHere, v.PointsAtHome = g.lost.points, g.set.KeepHere, g.nearPoints
	if g.rec.Direction == "in" {
		v.PointsAtHome = g.live.NearPoints
	}
	if x.facts.Sealed {
		v.ExposureSeconds = ptr(seconds(x.facts.Exposure))
		v.HeadroomSeconds = ptr(seconds(x.facts.Target - x.facts.Exposure))
	}
	backlog, known, rate, next := g.backlog, g.backlogOK, g.changeRate, s.nextStart(g)
	if g.rec.Direction == "in" {
		backlog, known, rate, next = g.live.Backlog, g.live.BacklogKnown, g.live.ChangeRate, ours(s.links[deref(g.rec.Link)], g.live.NextStart)
	}
	v.NextStartAt = orNil(next)
	if rate > 0 {
		v.ChangeBytesPerSecond = &rate
	}
	var total int64
	for _, m := range g.set.Machines {
		gm := api.GroupMachine{ID: m.ID, Name: m.Name, Disks: m.Disks, SizeBytes: m.SizeBytes, Quiesce: m.Quiesce, LastQuiet: lastQuiet(g, m)}
		if known && x.facts.Sealed {
			gm.BacklogBytes = ptr(backlog[m.ID])
			total += backlog[m.ID]
		}
		if p := s.platforms[g.set.Platform]; p != nil {
			for _, pm := range p.inv.Machines {
				if pm.ID == m.ID {
					gm.UsedBytes = ptr(usedBytes(pm))
				}
			}
		}
		v.Machines = append(v.Machines, gm)
	}
	if known && x.facts.Sealed {
		v.BacklogBytes = &total
	}
	if p := x.progress; p != nil {
		v.Running = &api.Progress{Phase: p.Phase, TotalBytes: p.TotalBytes, ReadBytes: p.ReadBytes, ChangedBytes: p.ChangedBytes, ShippedBytes: p.ShippedBytes, WireBytes: p.WireBytes,
			BytesPerSecond: x.rate, FinishAt: orNil(x.finishAt)}
		if p.Note != "" {
			v.Running.Note = ptr(p.Note)
		}
	}
	if len(g.cycles) > 0 {
		v.LastCycle = &g.cycles[0]
		for i := range g.cycles {
			if g.cycles[i].State == stateSealed {
				v.LastCycle = &g.cycles[i]
				break
			}
		}
	}
	if g.rec.Direction == "ended" {
		v.Health, v.Reasons = string(health.Paused), []string{fmt.Sprintf("This group has ended at %s; its points are kept until they are deleted.", g.rec.HomeName)}
	}
	return v
}

// lastQuiet is how a machine was last brought to rest; the lock is held.
func lastQuiet(g *group, m settingsMachine) *api.Quiet {
	for _, c := range g.cycles {
		if c.Quiet == nil {
			continue
		}
		for _, q := range *c.Quiet {
			if q.Machine == m.ID {
				q.Name = m.Name
				return &q
			}
		}
	}
	return nil
}

// reasons says in sentences why a group is as it is; the lock is held.
func (s *Service) reasons(g *group, x view) []string {
	out := []string{}
	add := func(format string, a ...any) { out = append(out, fmt.Sprintf(format, a...)) }
	reason, l := g.reason, s.links[deref(g.rec.Link)]
	other := g.rec.RecoveryName
	if g.rec.Direction != "out" {
		reason, other = g.live.Reason, g.rec.HomeName
	}
	if !x.facts.LinkUp {
		since := ""
		if l != nil {
			last := l.outAt
			if g.rec.Direction != "out" && l.inAt.After(last) {
				last = l.inAt
			}
			if !last.IsZero() {
				since = fmt.Sprintf(" for %s", span.Format(s.clk.Now().Sub(last)))
			}
		}
		add("%s has not answered%s.", other, since)
	} else if !x.facts.PlatformUp {
		if reason != "" {
			add("The platform at %s cannot be used: %s.", g.rec.HomeName, strings.TrimSuffix(reason, "."))
		} else {
			add("The platform at %s cannot be used.", g.rec.HomeName)
		}
	} else if reason != "" {
		add("The last attempt failed: %s.", strings.TrimSuffix(reason, "."))
	}
	if x.facts.Paused {
		add("Cycles are paused.")
	}
	if near := g.nearReason + g.live.NearReason; near != "" && g.set.KeepHere {
		add("No points are kept at %s: %s.", g.rec.HomeName, strings.TrimSuffix(near, "."))
	}
	if x.state == health.Stalled {
		if x.facts.Running {
			add("The running cycle has moved nothing for %s.", span.Format(s.clk.Now().Sub(x.facts.LastProgress)))
		} else {
			add("A cycle has been due for %s and has not begun.", span.Format(s.clk.Now().Sub(x.facts.DueSince)))
		}
	}
	if x.state == health.Over || x.state == health.Tight {
		out = append(out, s.whySlow(g)...)
	}
	if n := g.lost.points; n > 0 {
		what := fmt.Sprintf("%d points", n)
		if n == 1 {
			what = "One point"
		}
		add("%s at %s cannot be read whole: %s", what, g.rec.RecoveryName, g.lost.hope(g.rec.HomeName))
	}
	for _, c := range g.cycles {
		if c.State == stateSealed && c.Kind == cycle.KindCompare {
			if c.MissedBytes > 0 {
				add("The last comparison found %s that had changed without the platform's reporting it. The newest points have it right; see to the platform.", bytesText(float64(c.MissedBytes)))
			}
			break
		}
	}
	return out
}

// whySlow explains exposure by the cycles themselves; the lock is held.
func (s *Service) whySlow(g *group) []string {
	for _, c := range g.cycles {
		if c.State != stateSealed || c.EndedAt == nil || c.Kind != cycle.KindChanges {
			continue
		}
		took := c.EndedAt.Sub(c.StartedAt)
		target := g.promise().Target
		switch {
		case took > target/2 && c.ReadBytes > 0:
			return []string{fmt.Sprintf("The last cycle took %s: the platform gave %s/s, and %s had changed.", span.Format(took), bytesText(float64(c.ReadBytes)/max(took.Seconds(), 0.001)), bytesText(float64(c.ChangedBytes)))}
		case g.promise().Cadence.Every > target*8/10:
			return []string{fmt.Sprintf("Cycles every %s leave little of the target of %s.", span.Format(g.promise().Cadence.Every), span.Format(target))}
		}
		break
	}
	return nil
}

// bytesText writes a size with a binary unit.
func bytesText(n float64) string {
	for _, u := range []string{"B", "KiB", "MiB", "GiB", "TiB"} {
		if n < 1024 || u == "TiB" {
			if n < 10 && u != "B" {
				return fmt.Sprintf("%.1f %s", n, u)
			}
			return fmt.Sprintf("%.0f %s", n, u)
		}
		n /= 1024
	}
	return ""
}

// worse orders groups: worst health first, then least headroom in proportion,
// then name.
func worse(a, b api.Group) bool {
	if a.Direction == api.Ended != (b.Direction == api.Ended) {
		return b.Direction == api.Ended
	}
	if x, y := health.State(a.Health).Rank(), health.State(b.Health).Rank(); x != y {
		return x < y
	}
	return strings.ToLower(a.Name) < strings.ToLower(b.Name)
}

// stripSpan is how far back the board draws.
const stripSpan = 6 * time.Hour

// Board says what matters now.
func (s *Service) Board(ctx context.Context) (api.Board, error) {
	now := s.clk.Now().UTC()
	b := api.Board{Site: s.site.Name, Groups: []api.BoardGroup{}, Needs: []api.Need{}, Headline: []api.Phrase{}}
	for _, g := range s.Groups() {
		if g.Direction == api.Ended {
			continue
		}
		from := now.Add(-stripSpan)
		// A young group is drawn over its own life, so that its shape is seen.
		if life := now.Sub(g.CreatedAt); life < stripSpan {
			from = now.Add(-max(life, 5*time.Minute))
		}
		curve, err := s.curve(ctx, g.ID, from, now)
		if err != nil {
			return b, err
		}
		b.Groups = append(b.Groups, api.BoardGroup{Group: g, Strip: vertices(exposure.Thin(curve, 400)), StripFrom: from, StripTo: now})
	}
	b.Links = s.Links()
	b.Needs = needs(b)
	b.Headline, b.Dark = headline(b)
	return b, nil
}

func vertices(curve []exposure.Vertex) []api.Vertex {
	out := make([]api.Vertex, len(curve))
	for i, v := range curve {
		out[i] = api.Vertex{At: v.At.UTC(), Seconds: v.Exposure.Seconds()}
	}
	return out
}

func (s *Service) curve(ctx context.Context, group string, from, to time.Time) ([]exposure.Vertex, error) {
	recs, err := s.db.Drops(ctx, group, from, to)
	if err != nil {
		return nil, err
	}
	return exposure.Sawtooth(dropsOf(recs), from, to), nil
}

func dropsOf(recs []records.Drop) []exposure.Drop {
	out := make([]exposure.Drop, len(recs))
	for i, r := range recs {
		out[i] = exposure.Drop{Capture: r.CaptureAt, Sealed: r.SealedAt}
	}
	return out
}

// Exposure gives the sawtooth of a group over a stretch of time.
func (s *Service) Exposure(ctx context.Context, id string, from, to *time.Time) (api.Exposure, error) {
	s.mu.Lock()
	g, err := s.findGroup(id)
	if err != nil {
		s.mu.Unlock()
		return api.Exposure{}, err
	}
	gid, target := g.rec.ID, g.promise().Target
	s.mu.Unlock()
	end := s.clk.Now()
	if to != nil && to.Before(end) {
		end = *to
	}
	begin := end.Add(-24 * time.Hour)
	if from != nil {
		begin = *from
	}
	if !begin.Before(end) {
		return api.Exposure{}, problem.Invalid("from", "The stretch ends before it begins; give an earlier time.")
	}
	curve, err := s.curve(ctx, gid, begin, end)
	if err != nil {
		return api.Exposure{}, err
	}
	k := exposure.Judge(curve, target)
	return api.Exposure{From: begin.UTC(), To: end.UTC(), TargetSeconds: seconds(target), Vertices: vertices(exposure.Thin(curve, 2000)),
		KeptShare: k.Share(), WorstSeconds: seconds(k.Worst), WorstAt: orNil(k.WorstAt.UTC()), OverSeconds: seconds(k.Over)}, nil
}

// needs lists what wants an administrator's hand, worst first.
func needs(b api.Board) []api.Need {
	out := []api.Need{}
	for _, x := range b.Groups {
		g := x.Group
		n := api.Need{Group: &g.ID, State: g.Health, Text: strings.Join(g.Reasons, " "), Action: "Look at the group", Href: "/groups/" + g.ID}
		switch health.State(g.Health) {
		case health.Over:
			n.Title = g.Name + " is over target"
		case health.Stalled:
			n.Title = g.Name + " has stalled"
		case health.CutOff:
			n.Title = g.Name + " is cut off"
		case health.Tight:
			n.Title = g.Name + " is close to its target"
		default:
			if g.LostPoints == 0 {
				continue
			}
			n.Title = g.Name + " has points that cannot be read whole"
		}
		if n.Text == "" {
			n.Text = fmt.Sprintf("Exposure %s of %s.", span.Format(time.Duration(*g.ExposureSeconds)*time.Second), span.Format(time.Duration(g.Promise.RpoTargetSeconds)*time.Second))
		}
		out = append(out, n)
	}
	for _, l := range b.Links {
		for _, c := range l.Checks {
			if !c.Ok {
				out = append(out, api.Need{State: "link", Title: fmt.Sprintf("Link to %s: %s", l.Peer, strings.ToLower(c.Name[:1])+c.Name[1:]+" fails"), Text: sentenceOf(c.Note) + " " + *c.Mend, Action: "Look at the link", Href: "/links?at=" + url.QueryEscape(l.ID)})
				break
			}
		}
	}
	return out
}

func sentenceOf(t string) string {
	if t == "" {
		return t
	}
	return strings.ToUpper(t[:1]) + t[1:] + "."
}

// headline says in a sentence what matters now, worst thing first, and in
// another what would be lost.
func headline(b api.Board) ([]api.Phrase, string) {
	if len(b.Groups) == 0 {
		if len(b.Links) == 0 {
			return []api.Phrase{{Text: "Nothing is protected yet. Pair this site with another to begin.", Tone: api.Plain}}, ""
		}
		return []api.Phrase{{Text: "Nothing is protected yet. Make the first protection group.", Tone: api.Plain}}, ""
	}
	count := map[health.State][]string{}
	kept, total := 0, len(b.Groups)
	var over []string
	for _, x := range b.Groups {
		g := x.Group
		st := health.State(g.Health)
		count[st] = append(count[st], g.Name)
		if g.HeadroomSeconds != nil && *g.HeadroomSeconds >= 0 {
			kept++
		}
		if st == health.Over {
			over = append(over, fmt.Sprintf("%s is %s over its %s target", g.Name, span.Format(time.Duration(-*g.HeadroomSeconds)*time.Second), span.Format(time.Duration(g.Promise.RpoTargetSeconds)*time.Second)))
		}
	}
	var out []api.Phrase
	say := func(tone api.PhraseTone, format string, a ...any) {
		out = append(out, api.Phrase{Text: fmt.Sprintf(format, a...), Tone: tone})
	}
	if len(over) > 0 {
		say(api.Over, "%s.", joined(over, 2))
	}
	verb := func(names []string, one, many string) string {
		if len(names) == 1 {
			return one
		}
		return many
	}
	for _, x := range []struct {
		st        health.State
		tone      api.PhraseTone
		one, many string
	}{{health.Stalled, api.Over, "has stalled", "have stalled"}, {health.CutOff, api.Over, "is cut off", "are cut off"}, {health.Tight, api.Tight, "is close", "are close"}} {
		if ns := count[x.st]; len(ns) > 0 {
			say(x.tone, "%s %s.", joined(ns, 2), verb(ns, x.one, x.many))
		}
	}
	switch {
	case kept == total && total == 1:
		say(api.Good, "The one group would lose less than it promised.")
	case kept == total:
		say(api.Good, "All %d groups would lose less than they promised.", total)
	default:
		say(api.Plain, "%d of %d groups would lose less than they promised.", kept, total)
	}
	if ns := count[health.Seeding]; len(ns) > 0 {
		say(api.Plain, "%s %s being copied for the first time.", joined(ns, 2), verb(ns, "is", "are"))
	}
	return out, dark(b)
}

// joined lists names, and counts those beyond n.
func joined(xs []string, n int) string {
	if len(xs) > n+1 {
		return fmt.Sprintf("%s and %d more", strings.Join(xs[:n], ", "), len(xs)-n)
	}
	if len(xs) == 1 {
		return xs[0]
	}
	return strings.Join(xs[:len(xs)-1], ", ") + " and " + xs[len(xs)-1]
}

// dark says what would be lost if this site went dark now.
func dark(b api.Board) string {
	var out []api.Group
	held := 0
	for _, x := range b.Groups {
		held += x.Group.Points
		if x.Group.Direction == api.Out && x.Group.ExposureSeconds != nil {
			out = append(out, x.Group)
		}
	}
	if len(out) == 0 {
		return fmt.Sprintf("No group goes out from %s yet · %d recovery points", b.Site, held)
	}
	sort.Slice(out, func(i, j int) bool { return *out[i].ExposureSeconds > *out[j].ExposureSeconds })
	text := func(g api.Group) string { return span.Format(time.Duration(*g.ExposureSeconds) * time.Second) }
	t := fmt.Sprintf("If %s went dark now: worst loss %s (%s)", b.Site, text(out[0]), out[0].Name)
	if len(out) > 1 {
		t += ", typical " + text(out[len(out)/2])
	}
	return t + fmt.Sprintf(" · %d recovery points", held)
}
