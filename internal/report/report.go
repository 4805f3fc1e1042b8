// Package report puts together how promises were kept, what is protected, what it takes and
// what changed over a time: for programs, as tables, and as a document that people print. By
// calendar it has them sent.
package report

import (
	"cmp"
	"context"
	"fmt"
	"slices"
	"strings"
	"time"
	"unicode/utf8"

	"kestrel/internal/api"
	"kestrel/internal/clock"
	"kestrel/internal/core/drill"
	"kestrel/internal/core/span"
	"kestrel/internal/core/words"
	"kestrel/internal/coverage"
	"kestrel/internal/directory"
	"kestrel/internal/history"
	"kestrel/internal/keeper"
	"kestrel/internal/meter"
	"kestrel/internal/peering"
	"kestrel/internal/problem"
)

// Recovery tells of drills; *recovery.Recovery is one.
type Recovery interface {
	List(group string, see func(id string) bool) ([]api.Drill, error)
	ListFailovers(group string, see func(id string) bool) ([]api.Failover, error)
	Due(r directory.Record) (last, due time.Time)
}

// Sources is what reports are made from.
type Sources struct {
	SiteID, Site string
	Groups       *directory.Directory
	History      *history.History
	Coverage     *coverage.Coverage
	Meter        *meter.Meter
	Keeper       *keeper.Keeper
	Peering      *peering.Peering
	Clock        clock.Clock
	Recovery     Recovery // nil where there is none
}

// Of says what a report is of.
type Of struct {
	From, To *time.Time
	By       string                        // group (if empty), tier, tag or site
	Which    Which                         // only these groups
	See      func(r directory.Record) bool // and only those; nil is all
}

// Which narrows groups; empty is all.
type Which struct {
	Tier string `json:"tier,omitempty"`
	Tag  string `json:"tag,omitempty"`
	Peer string `json:"peer,omitempty"` // the other site
}

func (w Which) fits(r directory.Record) bool {
	if w.Peer != "" && !strings.EqualFold(w.Peer, r.Other()) {
		return false
	}
	if w.Tier != "" && (r.Spec.Tier == nil || !strings.EqualFold(w.Tier, r.Spec.Tier.Tier.Name)) {
		return false
	}
	if w.Tag == "" {
		return true
	}
	for _, t := range r.Spec.Tags {
		if strings.EqualFold(t, w.Tag) {
			return true
		}
	}
	return false
}

// words says which groups those are; empty is all.
func (w Which) words() string {
	var out []string
	for _, x := range []struct{ what, name string }{{"that follow the tier ", w.Tier}, {"tagged ", w.Tag}, {"shared with ", w.Peer}} {
		if x.name != "" {
			out = append(out, x.what+x.name)
		}
	}
	return words.Joined(out, len(out))
}

// longest is how long a name may be.
const longest = 100

// check refuses what can be no name.
func (w Which) check() error {
	for field, name := range map[string]string{"tier": w.Tier, "tag": w.Tag, "peer": w.Peer} {
		if utf8.RuneCountInString(name) > longest {
			return problem.Invalid(field, "A name has at most %d characters.", longest)
		}
	}
	return nil
}

// Make makes a report.
func (s Sources) Make(ctx context.Context, of Of) (api.Report, error) {
	if err := of.Which.check(); err != nil {
		return api.Report{}, err
	}
	var groups []directory.Record
	for _, r := range s.Groups.All() {
		if r.Direction != directory.Ended && of.Which.fits(r) && (of.See == nil || of.See(r)) {
			groups = append(groups, r)
		}
	}
	a, days, err := s.History.Days(ctx, groups, of.By, of.From, of.To)
	if err != nil {
		return api.Report{}, err
	}
	v := api.Report{Site: s.Site, From: a.From, To: a.To, MadeAt: s.Clock.Now().UTC(), By: cmp.Or(of.By, history.ByGroup), Groups: len(groups), Attainment: a, Days: days, Failovers: []api.ReportFailover{}, Stores: []api.ReportStore{}, Links: []api.ReportLink{}}
	if text := of.Which.words(); text != "" {
		v.Only = &text
	}
	if v.Coverage, err = s.covered(ctx, a.From, a.To); err != nil {
		return v, err
	}
	if v.Stores, err = s.stores(ctx, a.From, a.To); err != nil {
		return v, err
	}
	if v.Links, err = s.links(ctx, of.Which.Peer, a.From, a.To); err != nil {
		return v, err
	}
	if v.Drills, err = s.drills(groups, a.From, a.To); err != nil {
		return v, err
	}
	v.Failovers, err = s.failovers(groups, a.From, a.To)
	return v, err
}

// failovers are those to this site; a group may be home here since.
func (s Sources) failovers(groups []directory.Record, from, to time.Time) ([]api.ReportFailover, error) {
	out := []api.ReportFailover{}
	if s.Recovery == nil {
		return out, nil
	}
	targets := map[string]time.Duration{}
	for _, r := range groups {
		targets[r.ID] = r.Spec.Promise.Target
	}
	all, err := s.Recovery.ListFailovers("", func(id string) bool { _, is := targets[id]; return is })
	for _, f := range all {
		if f.StartedAt.Before(from) || !f.StartedAt.Before(to) {
			continue
		}
		x := api.ReportFailover{Group: f.GroupName, Home: f.Home, StartedAt: f.StartedAt, StartedBy: f.StartedBy, Planned: f.Planned, Point: f.PointNumber, CaptureAt: f.CaptureAt, State: f.State, Machines: len(f.Machines), LosesSeconds: f.LosesSeconds, RpoTargetSeconds: int64(targets[f.Group] / time.Second), TookSeconds: f.TookSeconds, RtoTargetSeconds: f.RtoTargetSeconds, EndedAt: f.EndedAt}
		if f.Result != nil {
			x.State = *f.Result
		}
		out = append(out, x)
	}
	return out, err
}

// drills are those of groups that come in, and which are due at the end.
func (s Sources) drills(groups []directory.Record, from, to time.Time) (api.ReportDrills, error) {
	v := api.ReportDrills{Rows: []api.ReportDrill{}, Due: []api.ReportDrillDue{}}
	if s.Recovery == nil {
		return v, nil
	}
	ids := map[string]bool{}
	for _, r := range groups {
		if r.Direction != directory.In {
			continue
		}
		ids[r.ID] = true
		if last, due := s.Recovery.Due(r); !due.IsZero() && due.Before(to) {
			x := api.ReportDrillDue{Group: r.Spec.Name, DueAt: due.UTC()}
			if !last.IsZero() {
				x.LastAt = new(last.UTC())
			}
			v.Due = append(v.Due, x)
		}
	}
	slices.SortFunc(v.Due, func(a, b api.ReportDrillDue) int {
		return cmp.Or(a.DueAt.Compare(b.DueAt), strings.Compare(a.Group, b.Group))
	})
	all, err := s.Recovery.List("", func(id string) bool { return ids[id] })
	for _, d := range all {
		if d.Result == nil || d.StartedAt.Before(from) || !d.StartedAt.Before(to) {
			continue
		}
		switch drill.Result(*d.Result) {
		case drill.Passed:
			v.Passed++
		case drill.Failed:
			v.Failed++
		default:
			v.Stopped++
		}
		v.Rows = append(v.Rows, api.ReportDrill{Group: d.GroupName, StartedAt: d.StartedAt, StartedBy: d.StartedBy, Point: d.PointNumber, CaptureAt: d.CaptureAt, Result: *d.Result, Machines: len(d.Machines), TookSeconds: d.TookSeconds, RtoTargetSeconds: d.RtoTargetSeconds, Note: d.Note, Summary: *d.Summary})
	}
	return v, err
}

// covered is the coverage of this site at the end, and the last of each day.
func (s Sources) covered(ctx context.Context, from, to time.Time) (api.ReportCoverage, error) {
	v := api.ReportCoverage{Counts: coverage.CountsView(s.Coverage.Counts()), Days: []api.CoverageShare{}}
	past, err := s.Coverage.Since(ctx, from)
	if err != nil {
		return v, err
	}
	for _, x := range past {
		if !x.At.Before(to) {
			continue
		}
		c := coverage.CountsView(x.Counts)
		v.Counts = c
		share := api.CoverageShare{At: x.At.UTC().Truncate(span.Day), Share: c.Share, Machines: c.Machines}
		if n := len(v.Days); n > 0 && v.Days[n-1].At.Equal(share.At) {
			v.Days[n-1] = share
		} else {
			v.Days = append(v.Days, share)
		}
	}
	return v, nil
}

// stores is how full the stores of this site were.
func (s Sources) stores(ctx context.Context, from, to time.Time) ([]api.ReportStore, error) {
	out := []api.ReportStore{}
	m, err := s.Meter.View(ctx, meter.Of{Subject: s.SiteID, Kind: meter.Stores, From: &from, To: &to})
	if err != nil {
		return nil, err
	}
	spaces := s.Keeper.Spaces(func(string) bool { return false })
	for _, room := range s.Keeper.Rooms() {
		used, free := meter.Used, meter.Free
		if room.LongTerm {
			used, free = meter.LongTermUsed, meter.LongTermFree
		}
		x := api.ReportStore{Name: room.Name, Days: []api.Measured{}}
		for _, y := range m.Series {
			switch first, last := y.Values[0], y.Values[len(y.Values)-1]; y.Name {
			case used:
				x.UsedFirstBytes, x.UsedLastBytes, x.Days = int64(first.Mean), int64(last.Mean), y.Values
				for _, z := range y.Values {
					x.UsedMostBytes = max(x.UsedMostBytes, int64(z.Most))
				}
			case free:
				x.FreeBytes = new(int64(last.Mean))
			}
		}
		if !room.Fills.IsZero() {
			x.FillsAt = new(room.Fills.UTC())
		}
		for _, y := range spaces {
			if y.Store == room.Name {
				x.WholeBytes, x.NeededBytes = new(y.WholeBytes), new(y.NeededBytes)
			}
		}
		out = append(out, x)
	}
	return out, nil
}

// links is what links carried; peer narrows them to one.
func (s Sources) links(ctx context.Context, peer string, from, to time.Time) ([]api.ReportLink, error) {
	out := []api.ReportLink{}
	for _, l := range s.Peering.Links() {
		if peer != "" && !strings.EqualFold(peer, l.Peer) {
			continue
		}
		m, err := s.Meter.View(ctx, meter.Of{Subject: l.ID, Kind: meter.Link, From: &from, To: &to})
		if err != nil {
			return nil, err
		}
		x := api.ReportLink{Peer: l.Peer, Days: []api.Measured{}}
		for _, y := range m.Series {
			mean, most := 0.0, 0.0
			for _, z := range y.Values {
				mean, most = mean+z.Mean/float64(len(y.Values)), max(most, z.Most)
			}
			if y.Name == meter.Out {
				x.OutMean, x.OutMost, x.Days = int64(mean), int64(most), y.Values
			} else {
				x.InMean, x.InMost = int64(mean), int64(most)
			}
		}
		out = append(out, x)
	}
	return out, nil
}

// Summary says the most of a report in sentences, the promise first.
func Summary(v api.Report) []string {
	t := v.Attainment.Total
	var out []string
	if t.CoveredSeconds == 0 {
		out = append(out, "There was no point in that time.")
	} else {
		text := fmt.Sprintf("Within the promise of the time for %s of it", Share(t.KeptShare))
		if t.OverSeconds > 0 {
			text += fmt.Sprintf(", %s over together", span.Format(time.Duration(t.OverSeconds)*time.Second))
		}
		if t.WorstGroup != nil {
			text += fmt.Sprintf("; worst %s (%s)", span.Format(time.Duration(t.WorstSeconds)*time.Second), *t.WorstGroup)
		}
		out = append(out, text+".")
	}
	out = append(out, fmt.Sprintf("%s sealed, %d failed, %s missed.", words.Upper(words.Count(t.Sealed, "cycle")), t.Failed, words.Count(t.Missed, "start")))
	if c := v.Coverage.Counts; c.Machines > 0 {
		of := c.Machines - c.LeftOut - c.Landed
		out = append(out, fmt.Sprintf("%d of %s at %s are protected (%s), of those that are neither left out on purpose nor landed copies.", c.Protected+c.ByRule, words.Count(of, "machine"), v.Site, Share(c.Share)))
	}
	if d := v.Drills; len(d.Rows)+len(d.Due) > 0 {
		text := fmt.Sprintf("%s tried, %d passed", words.Upper(words.Count(len(d.Rows), "recovery")), d.Passed)
		if len(d.Rows) != 1 {
			text = fmt.Sprintf("%d recoveries tried, %d passed", len(d.Rows), d.Passed)
		}
		if len(d.Due) > 0 {
			text += fmt.Sprintf("; a drill is due of %s", words.Count(len(d.Due), "group"))
		}
		out = append(out, text+".")
	}
	for _, s := range v.Stores {
		text := fmt.Sprintf("%s: %s used", words.Upper(s.Name), span.Bytes(float64(s.UsedLastBytes)))
		if s.FillsAt != nil {
			text += ", full about " + s.FillsAt.Format("2006-01-02")
		}
		out = append(out, text+".")
	}
	return out
}

// Share writes a share; what is not all of it is not rounded to that.
func Share(x float64) string {
	switch {
	case x >= 1:
		return "100 %"
	case x > 0.9999:
		return "> 99.99 %"
	}
	return fmt.Sprintf("%.2f %%", 100*x)
}
