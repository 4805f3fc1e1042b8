package estate

import (
	"bytes"
	"encoding/json"
	"fmt"
	"reflect"
	"slices"
	"strings"
	"time"

	"go.yaml.in/yaml/v3"

	"kestrel/internal/berths"
	"kestrel/internal/core/cadence"
	"kestrel/internal/core/group"
	"kestrel/internal/core/promise"
	"kestrel/internal/core/span"
	"kestrel/internal/directory"
	"kestrel/internal/platform"
)

// exact writes a length of time so that the same is read; none is nothing.
func exact(d time.Duration) string {
	if d == 0 {
		return ""
	}
	if text := span.Format(d); same(text, d) {
		return text
	}
	return fmt.Sprintf("%ds", int64(d/time.Second))
}

func same(text string, d time.Duration) bool {
	x, err := span.Parse(text)
	return err == nil && x == d
}

// cadenceText writes a cadence so that the same is read.
func cadenceText(c cadence.Cadence) string {
	if c.Calendar.IsZero() {
		if c.Every > 0 {
			return "every " + exact(c.Every)
		}
		return c.String()
	}
	if x, err := cadence.Parse(c.Calendar.Words(), c.Calendar.Zone); err == nil && x.Calendar.Equal(c.Calendar) {
		return c.Calendar.Words()
	}
	return strings.Join(c.Calendar.Rules, "\n")
}

func quietText(q cadence.Quiet) string {
	if q.IsZero() {
		return ""
	}
	return q.String()
}

func promiseText(p promise.Promise) promiseDoc {
	d := promiseDoc{RPO: exact(p.Target), Cadence: cadenceText(p.Cadence), Quiet: quietText(p.Cadence.Quiet), Zone: p.Zone, Keep: p.Keep.String(), LeastPoints: p.Least}
	if d.Zone == "UTC" {
		d.Zone = ""
	}
	return d
}

func promiseOf(t group.Tier) promiseDoc {
	s := t.Spec()
	d := promiseText(s.Promise)
	d.RTO, d.DrillEvery, d.Lock = exact(s.RTO), exact(s.DrillEvery), exact(s.LockFor)
	if s.RestMode != "" && s.RestMode != group.RestOff {
		d.Rest = string(s.RestMode)
	}
	if s.Priority != group.Normal {
		d.Priority = string(s.Priority)
	}
	return d
}

// groupDoc writes a group. Of one that follows a tier only what differs is said.
func (e *Estate) groupDoc(r directory.Record) groupDoc {
	s := r.Spec
	d := groupDoc{Kind: kindGroup, Name: s.Name, To: r.RecoveryName, Tags: s.Tags, Apart: s.Apart, CompareEvery: exact(s.CompareEvery), HomePoints: s.HomePoints, promiseDoc: promiseOf(group.TierOf(s))}
	if s.NewDisks != group.CopyNew {
		d.NewDisks = string(s.NewDisks)
	}
	if len(s.HomeKeep) > 0 {
		d.HomeKeep = s.HomeKeep.String()
	}
	if s.Rule != nil {
		d.Rule = &ruleDoc{s.Rule.Match.String(), s.Rule.Order}
	}
	for _, m := range s.Machines {
		if !m.ByRule {
			d.Machines = append(d.Machines, m.Name)
		}
		for _, x := range m.Disks {
			if x.LeftOut {
				d.WithoutDisks = append(d.WithoutDisks, m.Name+":"+x.Label)
				d.WithoutBoot = d.WithoutBoot || x.Boot
			}
		}
		if q := m.Rest; q.Mode != "" {
			d.Quiesce = append(d.Quiesce, quiesceDoc{m.Name, string(q.Mode), exact(q.Limit), nth(q.Nth), q.Before, q.After})
		}
	}
	if s.Tier != nil {
		differing(&d, s)
	}
	return d
}

func nth(n int) int {
	if n <= 1 {
		return 0
	}
	return n
}

// differing leaves of a group's promise what differs from its tier's.
func differing(d *groupDoc, s group.Spec) {
	all := d.promiseDoc
	own := promiseDoc{}
	d.Tier = s.Tier.Tier.Name
	// What is by itself has to be said where the tier says something else.
	said := map[string]func(){"rpoTargetSeconds": func() { own.RPO = all.RPO }, "cadence": func() { own.Cadence = all.Cadence }, "quiet": func() { own.Quiet = or(all.Quiet, "none") }, "zone": func() { own.Zone = or(all.Zone, "UTC") }, "keep": func() { own.Keep = all.Keep }, "leastPoints": func() { own.LeastPoints = max(1, all.LeastPoints) },
		"rtoTargetSeconds": func() { own.RTO = or(all.RTO, "none") }, "drillEverySeconds": func() { own.DrillEvery = or(all.DrillEvery, "never") }, "rest": func() { own.Rest = or(all.Rest, "off") }, "priority": func() { own.Priority = or(all.Priority, "normal") }, "lockSeconds": func() { own.Lock = or(all.Lock, "none") }}
	var reasons []string
	for _, c := range s.Differs() {
		if f, ok := said[c.Field]; ok {
			f()
		}
		for _, o := range s.Tier.Own {
			if o.Field == c.Field && !slices.Contains(reasons, o.Reason) {
				reasons = append(reasons, o.Reason)
			}
		}
	}
	d.promiseDoc, d.Reason = own, strings.Join(reasons, "; ")
}

// Export writes the settings of this site as apply reads them: always in the same order. With
// the name of a paired site it writes what is known here of that site's, as it would read
// them.
func (e *Estate) Export(asSeenFrom string) (string, error) {
	var out bytes.Buffer
	var docs []any
	if asSeenFrom != "" && !strings.EqualFold(asSeenFrom, e.Site.Name) {
		l, err := e.Peering.Find(asSeenFrom)
		if err != nil {
			return "", err
		}
		docs = e.theirs(l.PeerID)
		fmt.Fprintf(&out, "# Settings of %s, as far as they are known at %s.\n", l.Peer, e.Site.Name)
	} else {
		docs = e.ours()
		fmt.Fprintf(&out, "# Settings of %s.\n", e.Site.Name)
	}
	for i, d := range docs {
		if i > 0 {
			out.WriteString("---\n")
		}
		n := &yaml.Node{Kind: yaml.MappingNode}
		encode(n, reflect.ValueOf(d))
		enc := yaml.NewEncoder(&out)
		enc.SetIndent(2)
		if err := enc.Encode(n); err != nil {
			return "", fmt.Errorf("write the settings: %w", err)
		}
	}
	return out.String(), nil
}

func (e *Estate) ours() []any {
	var docs []any
	for _, l := range e.Peering.Links() {
		docs = append(docs, linkOf(l))
	}
	for _, p := range e.Inventory.All() {
		for _, m := range sorted(p.Held().Machines) {
			if x, ok := e.Inventory.LeftOut(p.ID, m.ID); ok {
				docs = append(docs, leftOutDoc{kindLeftOut, m.Name, x.Reason})
			}
		}
	}
	for _, t := range e.Tiers.All() {
		docs = append(docs, tierDoc{kindTier, t.Name, promiseOf(t.Tier)})
	}
	for _, r := range byName(e.Groups.All()) {
		if r.Direction == directory.Out {
			docs = append(docs, e.groupDoc(r))
		}
	}
	for _, l := range e.Peering.Links() {
		docs = berthOf(docs, berths.OfLink, l.Peer, e.Berths.Kept(berths.OfLink, l.ID))
	}
	for _, p := range e.Inventory.All() {
		docs = berthOf(docs, berths.OfPlatform, p.Name, e.Berths.Kept(berths.OfPlatform, p.ID))
	}
	for _, r := range byName(e.Groups.All()) {
		if r.Direction == directory.In {
			docs = berthOf(docs, berths.OfGroup, r.Spec.Name, e.Berths.Kept(berths.OfGroup, r.ID))
		}
	}
	return docs
}

// theirs is what is known of another site's settings: the groups that come from there, and
// their tiers.
func (e *Estate) theirs(site string) []any {
	var groups []any
	tiersSeen := map[string]directory.Record{}
	for _, r := range byName(e.Groups.All()) {
		if r.Direction == directory.In && r.HomeID == site {
			groups = append(groups, e.groupDoc(r))
			if t := r.Spec.Tier; t != nil {
				if was := tiersSeen[t.Tier.Name].Spec.Tier; was == nil || was.Revision < t.Revision {
					tiersSeen[t.Tier.Name] = r
				}
			}
		}
	}
	var names []string
	for n := range tiersSeen {
		names = append(names, n)
	}
	slices.Sort(names)
	var docs []any
	for _, n := range names {
		docs = append(docs, tierDoc{kindTier, n, promiseOf(tiersSeen[n].Spec.Tier.Tier)})
	}
	return append(docs, groups...)
}

func byName(all []directory.Record) []directory.Record {
	out := slices.Clone(all)
	slices.SortFunc(out, func(a, b directory.Record) int {
		if c := strings.Compare(strings.ToLower(a.Spec.Name), strings.ToLower(b.Spec.Name)); c != 0 {
			return c
		}
		return strings.Compare(a.ID, b.ID)
	})
	return out
}

func sorted(all []platform.Machine) []platform.Machine {
	out := slices.Clone(all)
	slices.SortFunc(out, func(a, b platform.Machine) int { return strings.Compare(a.Name, b.Name) })
	return out
}

// berthOf adds the document of a berth that says anything.
func berthOf(docs []any, of, name string, form json.RawMessage) []any {
	if len(form) == 0 || string(form) == "{}" {
		return docs
	}
	d := berthDoc{Kind: kindBerth, Of: of, Name: name}
	var x map[string]json.RawMessage
	if json.Unmarshal(form, &x) != nil {
		return docs
	}
	renamed(x, "name", "namePattern")
	renamed(x, "drillName", "drillNamePattern")
	if text, ok := x["machines"]; ok {
		var ms []map[string]json.RawMessage
		if json.Unmarshal(text, &ms) == nil {
			for _, m := range ms {
				renamed(m, "name", "namePattern")
				renamed(m, "drillName", "drillNamePattern")
			}
			x["machines"], _ = json.Marshal(ms)
		}
	}
	text, err := json.Marshal(x)
	if err != nil || json.Unmarshal(text, &d) != nil {
		return docs
	}
	return append(docs, d)
}

func renamed(x map[string]json.RawMessage, from, to string) {
	if v, ok := x[from]; ok {
		delete(x, from)
		x[to] = v
	}
}

// encode writes a form with the names of the file, in the order of its fields, without what
// is empty.
func encode(n *yaml.Node, v reflect.Value) {
	for v.Kind() == reflect.Pointer {
		v = v.Elem()
	}
	for i := range v.NumField() {
		f := v.Type().Field(i)
		if f.Anonymous {
			encode(n, v.Field(i))
			continue
		}
		name, rest, _ := strings.Cut(f.Tag.Get("json"), ",")
		if strings.Contains(rest, "omitempty") && (v.Field(i).IsZero() || v.Field(i).Kind() == reflect.Slice && v.Field(i).Len() == 0) {
			continue
		}
		n.Content = append(n.Content, &yaml.Node{Kind: yaml.ScalarNode, Value: name}, node(v.Field(i)))
	}
}

func node(v reflect.Value) *yaml.Node {
	switch v.Kind() {
	case reflect.Pointer:
		return node(v.Elem())
	case reflect.Struct:
		n := &yaml.Node{Kind: yaml.MappingNode}
		encode(n, v)
		return n
	case reflect.Slice:
		n := &yaml.Node{Kind: yaml.SequenceNode}
		for i := range v.Len() {
			n.Content = append(n.Content, node(v.Index(i)))
		}
		if v.Len() > 0 && v.Index(0).Kind() == reflect.String && v.Len() <= 8 {
			short := 0
			for i := range v.Len() {
				short += len(v.Index(i).String())
			}
			if short < 90 {
				n.Style = yaml.FlowStyle
			}
		}
		return n
	}
	n := &yaml.Node{}
	n.SetString("")
	if err := n.Encode(v.Interface()); err != nil {
		n.SetString(fmt.Sprint(v.Interface()))
	}
	return n
}
