package estate

import (
	"context"
	"encoding/json"
	"fmt"
	"maps"
	"slices"
	"strings"

	"github.com/invopop/jsonschema"

	"kestrel/internal/api"
	"kestrel/internal/berths"
	"kestrel/internal/core/actor"
	"kestrel/internal/core/pace"
	"kestrel/internal/inventory"
)

// rateText writes a rate so that the same is read.
func rateText(n int64) string {
	if n == 0 {
		return "none"
	}
	for _, u := range []struct {
		name string
		size int64
	}{{"GiB", 1 << 30}, {"MiB", 1 << 20}, {"KiB", 1 << 10}} {
		if n%u.size == 0 {
			return fmt.Sprintf("%d %s", n/u.size, u.name)
		}
	}
	return fmt.Sprintf("%d B", n)
}

func linkOf(l api.Link) linkDoc {
	d := linkDoc{Kind: kindLink, Name: l.Peer, Limit: rateText(l.LimitBytesPerSecond), Compression: l.Compression, TakeGroups: l.MaxGroups, TakeRoom: rateText(l.RoomBytes)}
	for _, w := range l.Windows {
		d.Windows = append(d.Windows, fmt.Sprintf("%s %s-%s %s", w.Days, w.From, w.To, rateText(w.BytesPerSecond)))
	}
	return d
}

func linkEdit(p *plan, d *document, v linkDoc) api.EditLink {
	rate := func(field, text string) *int64 {
		if text == "" {
			return new(int64)
		}
		n, err := pace.ParseRate(text)
		if err != nil {
			p.fault(d, field, "%s: %v.", field, err)
		}
		return &n
	}
	in := api.EditLink{LimitBytesPerSecond: rate("limit", v.Limit), RoomBytes: rate("takeRoom", v.TakeRoom), Compression: new(or(v.Compression, "s2")), Windows: &[]api.RateWindow{}}
	if v.TakeGroups > 0 {
		in.MaxGroups = &v.TakeGroups
	}
	for i, text := range v.Windows {
		days, from, to, n, err := pace.CutWindow(text)
		if err != nil {
			p.fault(d, fmt.Sprintf("windows[%d]", i), "%v.", err)
		}
		*in.Windows = append(*in.Windows, api.RateWindow{Days: days, From: from, To: to, BytesPerSecond: n})
	}
	return in
}

func (e *Estate) link(p *plan, who actor.Actor, d *document, v *linkDoc) *step {
	l, err := e.Peering.Find(v.Name)
	if err != nil {
		p.problemOf(d, err)
		return nil
	}
	before := len(p.faults)
	in := linkEdit(p, d, *v)
	if len(p.faults) == before {
		p.faultsOf(d, e.Peering.Check(l.ID, in))
	}
	all := e.Peering.Links()
	was := linkOf(all[slices.IndexFunc(all, func(x api.Link) bool { return x.ID == l.ID })])
	next := *v
	next.Name, next.Limit, next.TakeRoom, next.Compression = was.Name, or(v.Limit, "none"), or(v.TakeRoom, "none"), or(v.Compression, "s2")
	if next.TakeGroups == 0 {
		next.TakeGroups = was.TakeGroups
	}
	s := &step{action: unchange}
	for _, x := range [][3]string{{"limit", was.Limit, tidyRate(next.Limit)}, {"windows", strings.Join(was.Windows, "; "), strings.Join(tidyWindows(next.Windows), "; ")}, {"compression", was.Compression, next.Compression}, {"takeGroups", fmt.Sprint(was.TakeGroups), fmt.Sprint(next.TakeGroups)}, {"takeRoom", was.TakeRoom, tidyRate(next.TakeRoom)}} {
		if x[1] != x[2] {
			s.changes = append(s.changes, api.Change{Field: x[0], From: or(x[1], "none"), To: or(x[2], "none")})
		}
	}
	if len(s.changes) > 0 {
		back := linkEdit(&plan{}, d, was)
		s.action = change
		s.do = func(ctx context.Context) error { _, err := e.Peering.Edit(ctx, who, l.ID, in); return err }
		s.undo = func(ctx context.Context) error { _, err := e.Peering.Edit(ctx, who, l.ID, back); return err }
	}
	return s
}

// tidyRate writes a rate as it is written by export.
func tidyRate(text string) string {
	n, err := pace.ParseRate(text)
	if err != nil {
		return text
	}
	return rateText(n)
}

func tidyWindows(texts []string) []string {
	var out []string
	for _, t := range texts {
		if days, from, to, n, err := pace.CutWindow(t); err == nil {
			t = fmt.Sprintf("%s %s-%s %s", days, from, to, rateText(n))
		}
		out = append(out, t)
	}
	return out
}

func (e *Estate) leftOut(p *plan, who actor.Actor, d *document, v *leftOutDoc) *step {
	place, m, err := e.Inventory.Machine(v.Name)
	if err != nil {
		p.fault(d, "name", "%v", err)
		return nil
	}
	if strings.TrimSpace(v.Reason) == "" {
		p.fault(d, "reason", "Say why it is left out: whoever looks later has to know.")
		return nil
	}
	id := inventory.MachineID(place.ID, m.ID)
	was, left := e.Inventory.LeftOut(place.ID, m.ID)
	// A machine that was left out and that a group protects since, by somebody's hand, is
	// as a file says that was written of it.
	if left && was.Reason == strings.TrimSpace(v.Reason) {
		return &step{action: unchange}
	}
	if r, ok := e.Groups.Guards(place.ID, m.ID); ok && r.Spec.Rule == nil {
		p.fault(d, "name", "%s is protected by the group %s. Take it out there first.", m.Name, r.Spec.Name)
		return nil
	}
	switch {
	case left:
		return &step{action: change, changes: []api.Change{{Field: "reason", From: was.Reason, To: v.Reason}}, do: func(ctx context.Context) error { return e.Inventory.LeaveOut(ctx, who, []string{id}, v.Reason) },
			undo: func(ctx context.Context) error { return e.Inventory.LeaveOut(ctx, who, []string{id}, was.Reason) }}
	}
	return &step{action: make_, do: func(ctx context.Context) error { return e.Inventory.LeaveOut(ctx, who, []string{id}, v.Reason) },
		undo: func(ctx context.Context) error { return e.Inventory.TakeBack(ctx, who, []string{id}) }}
}

// berthForm is a document in the form of the berths.
func berthForm(v *berthDoc) json.RawMessage {
	text, err := json.Marshal(v)
	if err != nil {
		panic(err) // plain structs always marshal
	}
	var x map[string]json.RawMessage
	if err := json.Unmarshal(text, &x); err != nil {
		panic(err)
	}
	for _, k := range []string{"kind", "of", "name"} {
		delete(x, k)
	}
	renamed(x, "namePattern", "name")
	renamed(x, "drillNamePattern", "drillName")
	if len(v.Machines) > 0 {
		var ms []map[string]json.RawMessage
		if err := json.Unmarshal(x["machines"], &ms); err != nil {
			panic(err)
		}
		for _, m := range ms {
			renamed(m, "namePattern", "name")
			renamed(m, "drillNamePattern", "drillName")
		}
		if x["machines"], err = json.Marshal(ms); err != nil {
			panic(err)
		}
	}
	if text, err = json.Marshal(x); err != nil {
		panic(err)
	}
	return text
}

func (e *Estate) berth(ctx context.Context, p *plan, who actor.Actor, d *document, v *berthDoc) *step {
	form := berthForm(v)
	if b, faults, err := berths.Decode(form); err != nil {
		p.problemOf(d, err)
		return nil
	} else if len(faults) > 0 {
		p.faultsOf(d, faults)
		return nil
	} else {
		form = berths.Encode(b)
	}
	if v.Of != berths.OfGroup {
		return e.berthDefault(p, who, d, v, form)
	}
	r, err := e.Groups.Find(v.Name)
	if err != nil {
		if !slices.ContainsFunc(p.docs, func(o *document) bool { return o.kind == kindGroup && strings.EqualFold(o.name, v.Name) }) {
			p.problemOf(d, err)
			return nil
		}
		// The group is made by this file; what is wrong with it shows when it is there.
		return &step{action: make_, do: func(ctx context.Context) error { _, err := e.Berths.Write(ctx, who, v.Name, 0, form); return err }, undo: func(context.Context) error { return nil }}
	}
	was, err := e.Berths.Show(ctx, who, r.ID)
	if err != nil {
		p.problemOf(d, err)
		return nil
	}
	if same := string(berthTidy(was.Berth)) == string(form); same {
		return &step{action: unchange}
	}
	seen, err := e.Berths.Preview(ctx, who, r.ID, form)
	if err != nil {
		p.problemOf(d, err)
		return nil
	}
	for _, f := range seen.Faults {
		p.fault(d, f.Field, "%s", f.Message)
	}
	s := &step{action: change, changes: berthChanges(berthTidy(was.Berth), form)}
	if was.Revision == 0 {
		s.action, s.changes = make_, nil
	}
	for _, f := range seen.Warnings {
		s.warns = append(s.warns, f.Message)
	}
	s.do = func(ctx context.Context) error {
		_, err := e.Berths.Write(ctx, who, r.ID, was.Revision, form)
		return err
	}
	s.undo = func(ctx context.Context) error {
		_, err := e.Berths.Write(ctx, who, r.ID, was.Revision+1, was.Berth)
		return err
	}
	return s
}

// berthTidy writes a berth as it is written here.
func berthTidy(form json.RawMessage) json.RawMessage {
	b, _, err := berths.Decode(form)
	if err != nil {
		return form
	}
	return berths.Encode(b)
}

// berthChanges are the settings in which two berths differ, under the names that they have
// in files.
func berthChanges(was, is json.RawMessage) []api.Change {
	var a, b map[string]any
	if json.Unmarshal(was, &a) != nil || json.Unmarshal(is, &b) != nil {
		return nil
	}
	keys := map[string]bool{}
	for k := range a {
		keys[k] = true
	}
	for k := range b {
		keys[k] = true
	}
	var out []api.Change
	for _, k := range slices.Sorted(maps.Keys(keys)) {
		if from, to := berthText(a[k]), berthText(b[k]); from != to {
			name := map[string]string{"name": "namePattern", "drillName": "drillNamePattern"}[k]
			out = append(out, api.Change{Field: or(name, k), From: from, To: to})
		}
	}
	return out
}

// berthText writes a setting of a berth in a line.
func berthText(v any) string {
	switch x := v.(type) {
	case nil:
		return "not said"
	case string:
		return x
	case []any:
		var out []string
		for _, one := range x {
			out = append(out, berthText(one))
		}
		return strings.Join(out, "; ")
	case map[string]any:
		var out []string
		for _, k := range slices.Sorted(maps.Keys(x)) {
			out = append(out, k+" "+berthText(x[k]))
		}
		return strings.Join(out, ", ")
	}
	return fmt.Sprint(v)
}

func (e *Estate) berthDefault(p *plan, who actor.Actor, d *document, v *berthDoc, form json.RawMessage) *step {
	was, err := e.Berths.Default(v.Of, v.Name)
	if err != nil {
		p.problemOf(d, err)
		return nil
	}
	if string(berthTidy(was.Berth)) == string(form) {
		return &step{action: unchange}
	}
	seen, err := e.Berths.PreviewDefault(v.Of, v.Name, form)
	if err != nil {
		p.problemOf(d, err)
		return nil
	}
	s := &step{action: change, changes: berthChanges(berthTidy(was.Berth), form)}
	if was.Revision == 0 {
		s.action, s.changes = make_, nil
	}
	for _, f := range seen.Faults {
		p.fault(d, f.Field, "%s", f.Message)
	}
	for _, g := range seen.Groups {
		for _, c := range g.Changes {
			s.warns = append(s.warns, g.Name+": "+c)
		}
	}
	s.do = func(ctx context.Context) error {
		_, err := e.Berths.WriteDefault(ctx, who, v.Of, v.Name, was.Revision, form)
		return err
	}
	s.undo = func(ctx context.Context) error {
		_, err := e.Berths.WriteDefault(ctx, who, v.Of, v.Name, was.Revision+1, was.Berth)
		return err
	}
	return s
}

// Schema is the JSON Schema of a document, for editors.
func Schema() map[string]any {
	r := &jsonschema.Reflector{DoNotReference: true, Anonymous: true}
	var one []any
	for _, k := range Kinds() {
		s := r.Reflect(blank(k))
		s.Version = ""
		s.Title = k
		if x, ok := s.Properties.Get("kind"); ok {
			x.Const = k
		}
		one = append(one, s)
	}
	return map[string]any{"$schema": jsonschema.Version, "title": "Settings of a site", "oneOf": one}
}
