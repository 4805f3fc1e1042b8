package berths

import (
	"context"
	"encoding/json"
	"fmt"

	"kestrel/internal/audit"
	"kestrel/internal/core/actor"
	"kestrel/internal/core/berth"
	"kestrel/internal/core/promise"
	"kestrel/internal/problem"
)

// DefaultView is the default of a link or platform, and what it makes of the groups that
// come here.
type DefaultView struct {
	Of       string          `json:"of"`   // link or platform
	Name     string          `json:"name"` // of the other site, or of the platform
	ID       string          `json:"id"`
	Revision int64           `json:"revision"`
	Berth    json.RawMessage `json:"berth"`
	Faults   []FindingView   `json:"faults"`
	Warnings []FindingView   `json:"warnings"`
	Groups   []EffectView    `json:"groups"`
	Choices  Choices         `json:"choices"`
}

// EffectView is what a change of a default makes of a group.
type EffectView struct {
	ID      string        `json:"id"`
	Name    string        `json:"name"`
	Changes []string      `json:"changes"`
	Faults  []FindingView `json:"faults"`
}

// subject finds what a default is of.
func (b *Berths) subject(kind, text string) (k key, name string, err error) {
	switch kind {
	case OfLink:
		l, err := b.Peering.Find(text)
		return key{kind, l.ID}, l.Peer, err
	case OfPlatform:
		p, err := b.Inventory.Find(text)
		return key{kind, p.ID}, p.Name, err
	}
	return k, "", problem.Invalid("of", "%q is neither link nor platform.", kind)
}

// Default tells the default of a link or platform.
func (b *Berths) Default(kind, text string) (DefaultView, error) {
	k, name, err := b.subject(kind, text)
	if err != nil {
		return DefaultView{}, err
	}
	e := b.get(k.kind, k.subject)
	return b.defaultView(k, name, e.revision, e.Berth, nil), nil
}

// PreviewDefault tells what a default would make of the groups that come here.
func (b *Berths) PreviewDefault(kind, text string, wish json.RawMessage) (DefaultView, error) {
	k, name, err := b.subject(kind, text)
	if err != nil {
		return DefaultView{}, err
	}
	x, faults, err := Decode(wish)
	if err != nil {
		return DefaultView{}, err
	}
	return b.defaultView(k, name, b.get(k.kind, k.subject).revision, x, faults), nil
}

// WriteDefault changes one, if nobody has since the revision that was looked at.
func (b *Berths) WriteDefault(ctx context.Context, who actor.Actor, kind, text string, revision int64, wish json.RawMessage) (DefaultView, error) {
	v, err := b.PreviewDefault(kind, text, wish)
	if err != nil {
		return v, err
	}
	if len(v.Faults) > 0 {
		var fs []problem.Field
		for _, f := range v.Faults {
			fs = append(fs, problem.Field(f))
		}
		return v, problem.InvalidFields(fs...)
	}
	x, _, err := Decode(wish)
	if err != nil {
		return v, err
	}
	moved := 0
	for _, g := range v.Groups {
		if len(g.Changes) > 0 {
			moved++
		}
	}
	err = b.put(ctx, who, key{kind, v.ID}, audit.Object{Kind: kind, Name: v.Name, ID: v.ID}, revision, x, fmt.Sprintf("%s changed the default of the %s %s for how machines arrive; machines of %d groups arrive otherwise", who, kind, v.Name, moved))
	if err == nil {
		v.Revision = revision + 1
	}
	return v, err
}

func (b *Berths) defaultView(k key, name string, revision int64, x berth.Berth, faults []problem.Field) DefaultView {
	v := DefaultView{Of: k.kind, Name: name, ID: k.subject, Revision: revision, Berth: Encode(x), Faults: []FindingView{}, Warnings: []FindingView{}, Groups: []EffectView{}}
	for _, f := range faults {
		v.Faults = append(v.Faults, FindingView(f))
	}
	fs := x.Settings.Check()
	if len(x.Machines)+len(x.Waves)+len(x.Steps)+len(x.Needs) > 0 || x.Gateways {
		fs = append(fs, berth.Finding{Field: "machines", Message: "Machines and waves are said of a group, not of a default."})
	}
	if k.kind == OfPlatform && x.Platform != "" {
		fs = append(fs, berth.Finding{Field: "platform", Message: "The default of a platform cannot name another. Say it in the default of the link."})
	}
	if x.Platform != "" {
		if _, err := b.Inventory.Find(x.Platform); err != nil {
			fs = append(fs, berth.Finding{Field: "platform", Message: err.Error()})
		}
	}
	for _, f := range promise.Faults(fs) {
		v.Faults = append(v.Faults, FindingView{f.Field, f.Message})
	}
	var arrivals []berth.Arrival
	chosen := x.Platform
	if k.kind == OfPlatform {
		chosen = name
	}
	now, then := b.newPass(), b.with(k, x).newPass()
	for _, r := range b.Groups.All() {
		after, comes := then.by[r.ID]
		if !comes || k.kind == OfLink && r.Link != k.subject {
			continue
		}
		if k.kind == OfPlatform && (len(after) == 0 || after[0].Platform.Text != name) {
			continue
		}
		arrivals = append(arrivals, after...)
		e := EffectView{ID: r.ID, Name: r.Spec.Name, Changes: berth.Diff(now.by[r.ID], after), Faults: []FindingView{}}
		if e.Changes == nil {
			e.Changes = []string{}
		}
		for _, f := range promise.Faults(then.survey(r, b.get(OfGroup, r.ID).Berth, after)) {
			e.Faults = append(e.Faults, FindingView{f.Field, f.Message})
		}
		v.Groups = append(v.Groups, e)
		if chosen == "" && len(after) > 0 {
			chosen = after[0].Platform.Text
		}
	}
	v.Choices = b.choices(chosen, arrivals)
	return v
}

// with is the berths as they would be with another one of something.
func (b *Berths) with(k key, x berth.Berth) *Berths {
	b.mu.Lock()
	defer b.mu.Unlock()
	next := &Berths{Config: b.Config, all: map[key]entry{}}
	for o, e := range b.all {
		next.all[o] = e
	}
	next.all[k] = entry{b.all[k].revision, x}
	return next
}
