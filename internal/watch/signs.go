package watch

import (
	"context"
	"fmt"
	"strings"
	"time"

	"kestrel/internal/core/alert"
	"kestrel/internal/core/drill"
	"kestrel/internal/core/health"
	"kestrel/internal/core/span"
	"kestrel/internal/core/words"
	"kestrel/internal/directory"
	"kestrel/internal/lookout"
)

// sighted is what is seen at one look.
type sighted struct {
	all []alert.Sign
	not map[alert.Key]bool // of which nothing is known now
}

func (s *sighted) unknown(k alert.Key) bool { return s.not[k] }

func (s *sighted) add(x alert.Sign) { s.all = append(s.all, x) }

// unusualFresh is for how long after its capture an unusual change is told of.
const unusualFresh = span.Day

// forecastFresh is how long after its day a forecast that was missed is told of.
const forecastFresh = 26 * time.Hour

// signs lists what people may have to be told of.
func (w *Watch) signs(ctx context.Context, groups []standing) (*sighted, error) {
	out := &sighted{not: map[alert.Key]bool{}}
	if now := w.Clock.Now(); now.Sub(w.missedAt) >= time.Minute || now.Before(w.missedAt) {
		missed, err := w.DB.ForecastsMissed(ctx, now.Add(-forecastFresh))
		if err != nil {
			return nil, err
		}
		w.missed, w.missedAt = missed, now
	}
	by := map[string]standing{}
	for _, g := range groups {
		by[g.rec.ID] = g
		w.ofGroup(out, g)
	}
	for _, f := range w.missed {
		g, ok := by[f.GroupID]
		if !ok {
			continue
		}
		s := sign(alert.ForecastMissed, g.rec)
		s.Text = fmt.Sprintf("It was foretold to be within its target for %.1f %% of the time, and was for %.1f %%.", 100*f.Within, 100**f.CameWithin)
		s.Mend, s.Since = "See what has changed since: its page shows change, link and cycles.", f.Until
		out.add(s)
	}
	w.ofLinks(out)
	w.ofPlatforms(out)
	w.ofStores(out)
	if at := w.CertificateEnds(); !at.IsZero() {
		left := at.Sub(w.Clock.Now())
		text := fmt.Sprintf("The certificate with which disks of points are served ends at %s.", at.UTC().Format("2006-01-02 15:04 MST"))
		out.add(alert.Sign{Kind: alert.Certificate, Thing: alert.Thing{Kind: Site, ID: "nbd", Name: w.Site}, Text: text, Mend: "Put another one in its place and start the service again; without it no machine can be started from a point.", Left: left})
	}
	w.Out.Failing(func(id, name string, since time.Time, why string) {
		out.add(alert.Sign{Kind: alert.Undelivered, Thing: alert.Thing{Kind: "channel", ID: id, Name: "the channel " + name}, Since: since, Text: "What it was to be told was not taken: " + words.Sentence(why), Mend: "Test the channel: it says how that goes."})
	})
	return out, nil
}

func sign(k alert.Kind, r directory.Record) alert.Sign {
	m := alert.Member{ID: r.ID, Name: r.Spec.Name, Tags: r.Spec.Tags}
	if t := r.Spec.Tier; t != nil {
		m.Tier = t.Tier.Name
	}
	return alert.Sign{Kind: k, Thing: alert.Thing{Kind: Group, ID: r.ID, Name: r.Spec.Name}, Member: m}
}

// causesOf are what may hold a group up that is home here, besides itself.
func (w *Watch) causesOf(r directory.Record) []alert.Key {
	return []alert.Key{
		alert.KeyOf(alert.LinkDown, alert.Thing{Kind: Link, ID: r.Link}),
		alert.KeyOf(alert.PlatformAway, alert.Thing{Kind: Platform, ID: r.Spec.Platform}),
	}
}

// ofGroup adds what is wrong with a group. Each site tells of what it sees itself: how
// exposure stands is told by home, and here only if nothing is heard of home, of which the
// link's alert tells, with its groups.
func (w *Watch) ofGroup(out *sighted, g standing) {
	r := g.rec
	w.failedOver(out, r)
	if r.Held() || r.Away() {
		return // its target and its recovery say nothing before that is decided
	}
	way, _ := w.Peering.Get(r.Link)
	if r.Direction == directory.Out || !way.Called {
		w.late(out, g)
	}
	if u := g.Unusual; u.Unusual != "" && r.Direction == directory.Out && w.Clock.Now().Sub(u.CaptureAt) < unusualFresh {
		s := sign(alert.Unusual, r)
		s.Since, s.Text = u.CaptureAt, fmt.Sprintf("In the capture of %s: %s", u.CaptureAt.UTC().Format("2006-01-02 15:04:05 MST"), u.Unusual)
		s.Mend = "Look at what its machines do. The points of the group say which is the newest before it; pin that, or lock it, until it is clear what happened."
		out.add(s)
	}
	if r.Direction != directory.In {
		return
	}
	ready := sign(alert.NotReady, r)
	x, known := w.Lookout.Of(r)
	switch {
	case !known:
		out.not[ready.Key()] = true
	case !x.Ready:
		for i, f := range x.Findings {
			if !f.Stops {
				continue
			}
			ready.Text, ready.Mend, ready.Since = f.What, f.Mend, f.Since
			if n := stopping(x.Findings[i:]); n > 1 {
				ready.Text += fmt.Sprintf(" There is more: %s.", words.Count(n-1, "other finding"))
			}
			break
		}
		// A platform that is away is one alert, whatever would arrive there.
		if p, err := w.Inventory.Find(x.On); err == nil && x.On != "" {
			ready.Causes = append(ready.Causes, alert.KeyOf(alert.PlatformAway, alert.Thing{Kind: Platform, ID: p.ID}))
		}
		out.add(ready)
	}
	last, due := w.Drill(r)
	if text := drill.Overdue(w.Clock.Now(), last, due, r.Spec.DrillEvery); text != "" {
		s := sign(alert.DrillDue, r)
		s.Text, s.Since, s.Mend = text, due, "Start a drill of it, on its page here or with: kestrel drill start."
		out.add(s)
	}
	if n := g.LostPoints; n > 0 {
		s := sign(alert.NotWhole, r)
		s.Text, s.Mend = words.Upper(words.Are(n, "point"))+" not whole: some blocks cannot be read.", "Blocks that home still has come with the next cycles; see the store's page for what is lost."
		out.add(s)
	}
}

// failedOver adds what is to be told of a group that runs elsewhere than at its home, or that
// is copied nowhere since it became home here.
func (w *Watch) failedOver(out *sighted, r directory.Record) {
	if r.Held() {
		s := sign(alert.FailedOver, r)
		s.Since = w.Failover(r.ID)
		s.Text = fmt.Sprintf("It runs at %s since a failover, and is copied nowhere until that is decided.", w.Site)
		s.Mend = "Accept it, or back out, on its page here or with: kestrel failover."
		out.add(s)
	}
	if ms := w.RunsHere(r); len(ms) > 0 {
		s := sign(alert.TwoCopies, r)
		s.Text = fmt.Sprintf("It runs at %s since a failover, and here run still: %s. What both write differs, and others may reach either.", r.Other(), words.Joined(ms, 6))
		s.Mend = "Shut them down, on its page here or with: kestrel failover shut-down."
		out.add(s)
	}
	if r.Home() && r.Spec.PausedAt(w.Clock.Now()) && w.Keeper.Holding(r.ID).NewestAt.IsZero() && w.Keeper.HomePoints(r.ID) > 0 {
		s := sign(alert.Unprotected, r)
		s.Since = r.Spec.Pause.Since
		s.Text = fmt.Sprintf("It is home at %s since a failover, and copied nowhere: what is written is lost if %s goes dark.", w.Site, w.Site)
		s.Mend = "Resume it, and it is copied to " + r.RecoveryName + "."
		out.add(s)
	}
}

// late adds what is wrong with how a group is copied.
func (w *Watch) late(out *sighted, g standing) {
	r := g.rec
	kind, text := alert.Kind(""), ""
	switch g.state {
	case health.Over:
		kind, text = alert.Over, fmt.Sprintf("The newest point was captured at %s, and the target is %s.", g.Facts.Now.Add(-g.Facts.Exposure).UTC().Format("2006-01-02 15:04:05 MST"), span.Format(g.Facts.Target))
	case health.Tight:
		kind, text = alert.Tight, fmt.Sprintf("Exposure is above %.0f %% of the target of %s.", 100*health.TightShare, span.Format(g.Facts.Target))
	case health.Stalled:
		kind = alert.Stalled
	}
	if kind != "" && (kind == alert.Over || !g.Facts.Paused) {
		s := sign(kind, r)
		s.Since, s.Causes = g.Facts.Since(g.state), w.causesOf(r)
		if len(g.Reasons) > 0 {
			text = strings.TrimSpace(text + " " + g.Reasons[0].Text)
			s.Mend = g.Reasons[0].Mend
		}
		s.Text = text
		out.add(s)
	}
	if g.state == health.CutOff {
		// What it is cut off by is the alert; this says which groups are.
		s := sign(alert.Stalled, r)
		s.Since, s.Causes, s.Text = g.Facts.Since(g.state), w.causesOf(r), "It is cut off."
		if len(g.Reasons) > 0 {
			s.Text, s.Mend = g.Reasons[0].Text, g.Reasons[0].Mend
		}
		out.add(s)
	}
	if len(g.Restless) > 0 {
		s := sign(alert.NotAtRest, r)
		var names []string
		for _, m := range g.Restless {
			names = append(names, m.Machine)
		}
		s.Text = fmt.Sprintf("%s not brought to rest at the last capture: %s", words.Joined(names, 3)+either(len(names), " was", " were"), words.Sentence(g.Restless[0].Why))
		s.Mend = "See to the guest's agent and its commands. Its points are as after a power cut until then."
		out.add(s)
	}
}

func stopping(fs []lookout.Finding) (n int) {
	for _, f := range fs {
		if f.Stops {
			n++
		}
	}
	return n
}

func either(n int, one, many string) string {
	if n == 1 {
		return one
	}
	return many
}

func (w *Watch) ofLinks(out *sighted) {
	for _, l := range w.Peering.All() {
		t := alert.Thing{Kind: Link, ID: l.ID, Name: l.Peer}
		if c, ok := w.Condition(Thing{Link, l.ID}); ok && c.Word == health.Down {
			out.add(alert.Sign{Kind: alert.LinkDown, Thing: t, Since: c.Since, Text: c.Cause, Mend: c.Mend})
			continue
		}
		out.add(alert.Sign{Kind: alert.Clock, Thing: t, Left: l.Ahead.Abs(), Text: fmt.Sprintf("Its clock and that of %s differ by %s, and exposure is wrong by as much.", w.Site, span.Format(l.Ahead.Abs())), Mend: "Set both clocks by NTP."})
	}
}

func (w *Watch) ofPlatforms(out *sighted) {
	for _, p := range w.Inventory.All() {
		t := alert.Thing{Kind: Platform, ID: p.ID, Name: p.Name}
		if c, ok := w.Condition(Thing{Platform, p.ID}); ok && c.Word == health.Down {
			out.add(alert.Sign{Kind: alert.PlatformAway, Thing: t, Since: c.Since, Text: c.Cause, Mend: c.Mend})
		}
	}
}

func (w *Watch) ofStores(out *sighted) {
	for _, s := range w.Keeper.Rooms() {
		t := alert.Thing{Kind: Store, ID: s.Dir, Name: s.Name}
		full := alert.Sign{Kind: alert.Full, Thing: t, Text: fmt.Sprintf("%s are free, and what arrives leaves %s: cycles that arrive wait.", span.Bytes(float64(s.Free)), span.Bytes(float64(s.Floor))), Mend: "Make the disk larger, keep fewer points, or send long-term rungs elsewhere."}
		if s.Free < s.Floor {
			out.add(full)
		}
		if !s.Fills.IsZero() {
			out.add(alert.Sign{Kind: alert.Filling, Thing: t, Left: s.Fills.Sub(w.Clock.Now()), Causes: []alert.Key{full.Key()}, Text: fmt.Sprintf("At the pace of the last day it is full on %s.", s.Fills.UTC().Format("2006-01-02")), Mend: full.Mend})
		}
	}
}
