package overview

import (
	"cmp"
	"slices"
	"strings"
	"time"

	"kestrel/internal/api"
	"kestrel/internal/core/health"
	"kestrel/internal/cycle"
	"kestrel/internal/directory"
	"kestrel/internal/problem"
)

// figure sums up some groups.
type figure struct {
	api.Figure
	sealed        int
	exposure      time.Duration
	worst         time.Duration
	shipped, sent int64
	rate          float64
}

func (f *figure) add(x *sight, ready, known bool) {
	f.Groups++
	switch x.state {
	case health.Over, health.Stalled, health.CutOff:
		f.Over++
	case health.Tight:
		f.Tight++
	case health.OnTarget:
		f.OnTarget++
	default:
		f.Other++
	}
	switch {
	case ready:
		f.Ready++
	case known:
		f.NotReady++
	}
	if x.facts.Sealed {
		f.sealed++
		f.exposure += x.facts.Exposure
		if f.WorstGroup == nil || x.facts.Exposure > f.worst {
			f.worst, f.WorstGroup = x.facts.Exposure, new(x.rec.Spec.Name)
		}
	}
	f.rate += x.live.ChangeRate
	for _, c := range x.live.Cycles {
		if c.State == cycle.Sealed && c.Kind == cycle.KindChanges {
			f.shipped, f.sent = f.shipped+c.ShippedBytes, f.sent+c.WireBytes
			break
		}
	}
}

func (f *figure) view(name string) api.Figure {
	v := f.Figure
	v.Name = name
	if f.sealed > 0 {
		v.MeanExposureSeconds, v.WorstExposureSeconds = new(seconds(f.exposure/time.Duration(f.sealed))), new(seconds(f.worst))
	}
	if f.rate > 0 {
		v.ChangeBytesPerSecond = &f.rate
	}
	if f.sent > 0 {
		v.Ratio = new(float64(f.shipped) / float64(f.sent))
	}
	return v
}

// Figures sums up how groups are that see lets pass; ready tells of one whether it would
// recover right now, if that is known.
func (o *Overview) Figures(by string, see func(r directory.Record) bool, ready func(r directory.Record) (ready, known bool)) (api.Figures, error) {
	by = cmp.Or(by, "tier")
	if !slices.Contains([]string{"tier", "tag", "site", "way"}, by) {
		return api.Figures{}, problem.Invalid("by", "%q is none of tier, tag, site, way.", by)
	}
	var all figure
	rows := map[string]*figure{}
	for _, r := range o.Groups.All() {
		if r.Direction == directory.Ended || !see(r) {
			continue
		}
		x := o.look(r)
		is, known := ready(r)
		all.add(x, is, known)
		for _, k := range figureKeys(by, r) {
			if rows[k] == nil {
				rows[k] = &figure{}
			}
			rows[k].add(x, is, known)
		}
	}
	v := api.Figures{By: by, Total: all.view("all"), Rows: []api.Figure{}}
	for k, f := range rows {
		v.Rows = append(v.Rows, f.view(k))
	}
	slices.SortFunc(v.Rows, func(a, b api.Figure) int {
		return cmp.Or(cmp.Compare(b.Over, a.Over), cmp.Compare(b.Tight, a.Tight), cmp.Compare(b.NotReady, a.NotReady), strings.Compare(strings.ToLower(a.Name), strings.ToLower(b.Name)))
	})
	for _, l := range o.Peering.Links() {
		v.SendBytesPerSecond += l.SendBytesPerSecond
		v.ReceiveBytesPerSecond += l.ReceiveBytesPerSecond
	}
	return v, nil
}

// figureKeys are the rows that a group counts in.
func figureKeys(by string, r directory.Record) []string {
	switch by {
	case "tag":
		if len(r.Spec.Tags) == 0 {
			return []string{"no tag"}
		}
		return r.Spec.Tags
	case "site":
		return []string{r.Other()}
	case "way":
		return []string{r.HomeName + " → " + r.RecoveryName}
	}
	if r.Spec.Tier == nil {
		return []string{"no tier"}
	}
	return []string{r.Spec.Tier.Tier.Name}
}
