// Package estate is the settings of a site as a file: what export writes, apply reads. A file
// is shown with what it would change before it is applied, is applied as a whole or not at
// all, and changes nothing when it is applied again.
package estate

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"
	"sync"

	"kestrel/internal/api"
	"kestrel/internal/berths"
	"kestrel/internal/core/actor"
	"kestrel/internal/directory"
	"kestrel/internal/inventory"
	"kestrel/internal/peering"
	"kestrel/internal/problem"
	"kestrel/internal/protection"
	"kestrel/internal/records"
	"kestrel/internal/tiers"
)

// Config is what it is made of.
type Config struct {
	Site       records.Site
	Groups     *directory.Directory
	Tiers      *tiers.Tiers
	Protection *protection.Protection
	Berths     *berths.Berths
	Inventory  *inventory.Inventory
	Peering    *peering.Peering
}

// Estate is the settings of one site.
type Estate struct {
	Config

	applying sync.Mutex // files are applied one after the other
}

// New makes one.
func New(cfg Config) *Estate { return &Estate{Config: cfg} }

// What becomes of a document.
const (
	make_    = "make"
	change   = "change"
	unchange = "as it is"
)

// step is what a document makes of the site, and how that is taken back.
type step struct {
	doc     *document
	action  string
	changes []api.Change
	warns   []string
	drops   int
	do      func(ctx context.Context) error
	// group is the group that it makes, if that is what it does: steps in a row that make groups
	// are done together.
	group *api.NewGroup
	undo  func(ctx context.Context) error
}

// plan is what a file makes of the site.
type plan struct {
	docs   []*document
	steps  []step
	faults []Fault
}

func (p *plan) fault(d *document, field, format string, a ...any) {
	p.faults = append(p.faults, Fault{d.spot(field), d.title(), field, fmt.Sprintf(format, a...)})
}

// faultsOf enters what a room finds wrong with a document, at the setting that it is about.
func (p *plan) faultsOf(d *document, fs []problem.Field) {
	for _, f := range fs {
		p.fault(d, inFile(f.Field), "%s", f.Message)
	}
}

// problemOf is faultsOf for an error.
func (p *plan) problemOf(d *document, err error) {
	pr, is := problem.Of(err)
	switch {
	case !is:
		p.fault(d, "", "%v", err)
	case len(pr.Errors) > 0:
		p.faultsOf(d, pr.Errors)
	default:
		p.fault(d, "name", "%s", pr.Detail)
	}
}

// inFile is the name that a setting has in files.
func inFile(field string) string {
	for _, x := range [][2]string{{"promise.rpoTargetSeconds", "rpo"}, {"rpoTargetSeconds", "rpo"}, {"promise.cadenceSeconds", "cadence"}, {"promise.cadence", "cadence"}, {"promise.quiet", "quiet"}, {"promise.zone", "zone"}, {"promise.keep", "keep"}, {"promise.leastPoints", "leastPoints"}, {"rtoTargetSeconds", "rto"},
		{"drillEverySeconds", "drillEvery"}, {"lockSeconds", "lock"}, {"compareEverySeconds", "compareEvery"}, {"limitBytesPerSecond", "limit"}, {"maxGroups", "takeGroups"}, {"roomBytes", "takeRoom"}, {"link", "to"}, {"leastPoints", "leastPoints"}} {
		if field == x[0] || strings.HasPrefix(field, x[0]+"[") || strings.HasPrefix(field, x[0]+".") {
			return x[1] + field[len(x[0]):]
		}
	}
	return field
}

// plan tells what a file would make of the site.
func (e *Estate) plan(ctx context.Context, who actor.Actor, text string) *plan {
	p := &plan{}
	p.docs, p.faults = parse(text)
	slices.SortStableFunc(p.docs, func(a, b *document) int { return order(a.kind) - order(b.kind) })
	for _, d := range p.docs {
		var s *step
		if d.name == "" {
			p.fault(d, "name", "Give it a name.")
			continue
		}
		switch v := d.value.(type) {
		case *linkDoc:
			s = e.link(p, who, d, v)
		case *leftOutDoc:
			s = e.leftOut(p, who, d, v)
		case *tierDoc:
			s = e.tier(ctx, p, who, d, v)
		case *groupDoc:
			s = e.group(ctx, p, who, d, v)
		case *berthDoc:
			s = e.berth(ctx, p, who, d, v)
		}
		if s != nil {
			s.doc = d
			p.steps = append(p.steps, *s)
		}
	}
	slices.SortStableFunc(p.faults, func(a, b Fault) int { return a.Line - b.Line })
	return p
}

// Apply makes the site what a file says, or tells what it would make of it. If anything of it
// cannot be, nothing is changed; what was changed before something failed is taken back.
func (e *Estate) Apply(ctx context.Context, who actor.Actor, in api.ApplyRequest) (api.Applied, error) {
	dry := in.DryRun != nil && *in.DryRun
	if !dry {
		e.applying.Lock()
		defer e.applying.Unlock()
	}
	p := e.plan(ctx, who, in.Text)
	v := api.Applied{Documents: []api.AppliedDocument{}, Faults: []api.FileFault{}}
	for _, f := range p.faults {
		v.Faults = append(v.Faults, api.FileFault{Line: f.Line, Column: f.Column, Document: f.Document, Field: f.Field, Message: f.Message})
	}
	drops := 0
	for _, s := range p.steps {
		for i := range s.changes {
			s.changes[i].Field = inFile(s.changes[i].Field)
		}
		x := api.AppliedDocument{Kind: s.doc.kind, Name: s.doc.name, Action: s.action, Changes: s.changes, Warnings: s.warns, DropsPoints: s.drops}
		if x.Changes == nil {
			x.Changes = []api.Change{}
		}
		if x.Warnings == nil {
			x.Warnings = []string{}
		}
		drops += s.drops
		v.Documents = append(v.Documents, x)
	}
	if dry || len(p.faults) > 0 {
		return v, nil
	}
	if drops > 0 && (in.DropPoints == nil || !*in.DropPoints) {
		return v, problem.Conflict("The file would drop %d points at once. Look at them with a dry run, and allow it with dropPoints.", drops)
	}
	if err := e.carryOut(ctx, who, p.steps); err != nil {
		return v, err
	}
	v.Applied = true
	return v, nil
}

// carryOut does steps in order. Where one fails, those before are taken back, the last first.
func (e *Estate) carryOut(ctx context.Context, who actor.Actor, steps []step) error {
	for i := 0; i < len(steps); i++ {
		s, from := steps[i], i
		if s.action == unchange {
			continue
		}
		var err error
		if s.group == nil {
			err = s.do(ctx)
		} else {
			groups := []api.NewGroup{*s.group}
			for i+1 < len(steps) && steps[i+1].group != nil {
				i++
				groups = append(groups, *steps[i].group)
			}
			_, err = e.Protection.CreateAll(ctx, who, groups)
		}
		if err == nil {
			continue
		}
		var stuck []string
		for _, done := range slices.Backward(steps[:from]) {
			if done.action == unchange {
				continue
			}
			if back := done.undo(context.WithoutCancel(ctx)); back != nil {
				stuck = append(stuck, fmt.Sprintf("%s (%v)", done.doc.title(), back))
			}
		}
		what := s.doc.title()
		if i > from {
			what = fmt.Sprintf("%s and %d more groups", what, i-from)
		}
		why := fmt.Sprintf("%s could not be applied: %s", what, said(err))
		if len(stuck) > 0 {
			return problem.Conflict("%s What was changed before could not be taken back: %s. Look at it.", why, strings.Join(stuck, "; "))
		}
		return problem.Conflict("%s Nothing was changed. Somebody else may have changed it at that moment: try again.", why)
	}
	return nil
}

// said is what an error tells people.
func said(err error) string {
	if p, is := problem.Of(err); is {
		var out []string
		for _, f := range p.Errors {
			out = append(out, f.Message)
		}
		if len(out) > 0 {
			return strings.Join(out, " ")
		}
		return p.Detail
	}
	return err.Error()
}

var errGone = errors.New("it is there no more")
