package recovery

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"strconv"
	"time"

	"kestrel/internal/api"
	"kestrel/internal/core/failover"
	"kestrel/internal/evidence"
	"kestrel/internal/problem"
	"kestrel/internal/records"
)

// testify keeps the signed record of a drill of which nothing is left.
func (r *Recovery) testify(ctx context.Context, s *state) error {
	now := r.Clock.Now().UTC()
	v := r.view(s)
	v.State, v.EndedAt, v.NothingLeft, v.Error = over, &now, v.Kept == nil, nil
	record, err := json.Marshal(v)
	if err != nil {
		return fmt.Errorf("evidence of %s: %w", v.GroupName, err)
	}
	d := evidence.Document{Kind: Kind, MadeAt: now, Group: v.GroupName, Result: value(v.Result), Promised: evidence.Promised{RTO: v.RtoTargetSeconds}, Record: record}
	return r.keepEvidence(ctx, d, v.ID, v.Group, v.Machines)
}

// conclude keeps the signed record of a failover that is about to end.
func (r *Recovery) conclude(ctx context.Context, s *failing, o failover.Outcome, summary string) error {
	now := r.Clock.Now().UTC()
	rec, was := look(r, s)
	v := r.failoverView(s)
	v.State, v.EndedAt, v.Error, v.Says, v.Result, v.Summary, v.AcceptCosts, v.BackOutCosts = over, &now, nil, nil, text(string(o.Result)), text(summary), []string{}, []string{}
	for i := range v.Stages {
		if s := &v.Stages[i]; s.BeganAt != nil && s.EndedAt == nil {
			s.EndedAt = &now
		}
	}
	if len(was.Stood) > 0 {
		v.Machines = nil
		for _, x := range was.Stood {
			v.Machines = append(v.Machines, machineView(was.BeganAt, x))
		}
		v.Waves = waveViews(was.BeganAt, v.Machines)
	}
	record, err := json.Marshal(v)
	if err != nil {
		return fmt.Errorf("evidence of %s: %w", v.GroupName, err)
	}
	d := evidence.Document{Kind: rec.Kind, MadeAt: now, Group: v.GroupName, Result: string(o.Result), Promised: evidence.Promised{RTO: v.RtoTargetSeconds, RPO: int64(was.RPO / time.Second)}, Record: record}
	return r.keepEvidence(ctx, d, v.ID, v.Group, v.Machines)
}

// keepEvidence signs a document and keeps it, as the next of this site's. It may be done again:
// a recovery has one.
func (r *Recovery) keepEvidence(ctx context.Context, d evidence.Document, id, group string, machines []api.DrillMachine) error {
	d.Format, d.SiteID, d.Site, d.Screens = evidence.Format, r.SiteID, r.Site, map[string][]byte{}
	if g, ok := r.Groups.Get(group); ok {
		if d.Promised.RPO == 0 {
			d.Promised.RPO = int64(g.Spec.Promise.Target / time.Second)
		}
		if t := g.Spec.Tier; t != nil {
			d.Promised.Tier = t.Tier.Name
		}
	}
	for _, m := range machines {
		if png, err := r.DB.Screen(ctx, id, m.Name); err == nil {
			d.Screens[m.Name] = png
		}
	}
	for {
		all, err := r.DB.AllEvidence(ctx)
		if err != nil {
			return err
		}
		d.Number, d.Previous = 1, ""
		if len(all) > 0 {
			d.Number, d.Previous = all[0].Number+1, all[0].Hash
		}
		for _, e := range all {
			if e.RecoveryID == id {
				return nil // a crash came after it
			}
		}
		payload, err := json.Marshal(d)
		if err != nil {
			return fmt.Errorf("evidence of %s: %w", d.Group, err)
		}
		file, err := r.Sign(payload)
		if err != nil {
			return err
		}
		err = r.DB.AddEvidence(ctx, records.Evidence{Number: d.Number, RecoveryID: id, GroupID: group, GroupName: d.Group, Kind: d.Kind, Result: d.Result, MadeAt: d.MadeAt, Hash: evidence.Hash(payload), File: file})
		if !errors.Is(err, records.ErrStale) {
			return err
		}
	}
}

// Register lists the evidence of groups that see lets pass, newest first.
func (r *Recovery) Register(ctx context.Context, see func(id string) bool) (api.EvidenceRegister, error) {
	v := api.EvidenceRegister{Site: r.Site, Fingerprint: r.Fingerprint, Items: []api.EvidenceItem{}}
	all, err := r.DB.AllEvidence(ctx)
	for _, e := range all {
		if see(e.GroupID) {
			v.Items = append(v.Items, api.EvidenceItem{Number: e.Number, Recovery: e.RecoveryID, Group: e.GroupID, GroupName: e.GroupName, Kind: e.Kind, Result: e.Result, MadeAt: e.MadeAt.UTC(), Hash: e.Hash})
		}
	}
	return v, err
}

// Evidence finds evidence by its number, or that of a drill or failover.
func (r *Recovery) Evidence(ctx context.Context, text string) (records.Evidence, error) {
	if n, err := strconv.ParseInt(text, 10, 64); err == nil {
		e, err := r.DB.EvidenceNumber(ctx, n)
		if errors.Is(err, records.ErrNotFound) {
			return e, problem.NotFound("evidence", text)
		}
		return e, err
	}
	id, name, err := r.recovered(text)
	if err != nil {
		return records.Evidence{}, err
	}
	all, err := r.DB.AllEvidence(ctx)
	if err != nil {
		return records.Evidence{}, err
	}
	for _, e := range all {
		if e.RecoveryID == id {
			return r.DB.EvidenceNumber(ctx, e.Number)
		}
	}
	return records.Evidence{}, problem.Conflict("There is no evidence of %s before it is over.", name)
}

// recovered finds a drill or failover by its ID, or the newest of a group.
func (r *Recovery) recovered(text string) (id, name string, err error) {
	d, err := r.find(text)
	f, failed := r.findFailover(text)
	switch {
	case err != nil && failed != nil:
		return "", "", problem.NotFound("drill or failover", text)
	case err != nil || failed == nil && f.rec.StartedAt.After(d.rec.StartedAt):
		return f.rec.ID, "the failover of " + f.rec.GroupName, nil
	}
	return d.rec.ID, "the drill of " + d.rec.GroupName, nil
}

// Paper writes evidence as PDF.
func Paper(file []byte) ([]byte, error) {
	e, err := evidence.Read(file)
	if err != nil {
		return nil, err
	}
	if e.Kind == FailoverKind {
		return failoverPaper(e)
	}
	return drillPaper(e)
}
