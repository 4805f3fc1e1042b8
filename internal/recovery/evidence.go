package recovery

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"strconv"
	"strings"
	"time"

	"kestrel/internal/api"
	"kestrel/internal/core/span"
	"kestrel/internal/core/words"
	"kestrel/internal/evidence"
	"kestrel/internal/paper"
	"kestrel/internal/problem"
	"kestrel/internal/records"
)

// testify keeps the signed record of a drill of which nothing is left. It may be done again: a
// drill has one.
func (r *Recovery) testify(ctx context.Context, s *state) error {
	now := r.Clock.Now().UTC()
	v := r.view(s)
	v.State, v.EndedAt, v.NothingLeft, v.Error = "over", &now, true, nil
	record, err := json.Marshal(v)
	if err != nil {
		return fmt.Errorf("evidence of %s: %w", v.GroupName, err)
	}
	d := evidence.Document{Format: evidence.Format, SiteID: r.SiteID, Site: r.Site, MadeAt: now, Kind: Kind, Group: v.GroupName, Result: value(v.Result), Promised: evidence.Promised{RTO: v.RtoTargetSeconds}, Record: record, Screens: map[string][]byte{}}
	if g, ok := r.Groups.Get(v.Group); ok {
		d.Promised.RPO = int64(g.Spec.Promise.Target / time.Second)
		if t := g.Spec.Tier; t != nil {
			d.Promised.Tier = t.Tier.Name
		}
	}
	for _, m := range v.Machines {
		if png, err := r.DB.Screen(ctx, v.ID, m.Name); err == nil {
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
			if e.RecoveryID == v.ID {
				return nil // a crash came after it
			}
		}
		payload, err := json.Marshal(d)
		if err != nil {
			return fmt.Errorf("evidence of %s: %w", v.GroupName, err)
		}
		file, err := r.Sign(payload)
		if err != nil {
			return err
		}
		err = r.DB.AddEvidence(ctx, records.Evidence{Number: d.Number, RecoveryID: v.ID, GroupID: v.Group, GroupName: v.GroupName, Kind: Kind, Result: d.Result, MadeAt: now, Hash: evidence.Hash(payload), File: file})
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
			v.Items = append(v.Items, api.EvidenceItem{Number: e.Number, Drill: e.RecoveryID, Group: e.GroupID, GroupName: e.GroupName, Kind: e.Kind, Result: e.Result, MadeAt: e.MadeAt.UTC(), Hash: e.Hash})
		}
	}
	return v, err
}

// Evidence finds evidence by its number, or that of a drill.
func (r *Recovery) Evidence(ctx context.Context, text string) (records.Evidence, error) {
	if n, err := strconv.ParseInt(text, 10, 64); err == nil {
		e, err := r.DB.EvidenceNumber(ctx, n)
		if errors.Is(err, records.ErrNotFound) {
			return e, problem.NotFound("evidence", text)
		}
		return e, err
	}
	s, err := r.find(text)
	if err != nil {
		return records.Evidence{}, err
	}
	all, err := r.DB.AllEvidence(ctx)
	if err != nil {
		return records.Evidence{}, err
	}
	for _, e := range all {
		if e.RecoveryID == s.rec.ID {
			return r.DB.EvidenceNumber(ctx, e.Number)
		}
	}
	return records.Evidence{}, problem.Conflict("There is no evidence of the drill of %s before nothing is left of it.", s.rec.GroupName)
}

// Paper writes evidence as PDF.
func Paper(file []byte) ([]byte, error) {
	e, err := evidence.Read(file)
	if err != nil {
		return nil, err
	}
	var d api.Drill
	if err := json.Unmarshal(e.Record, &d); err != nil {
		return nil, fmt.Errorf("the record of evidence %d: %w", e.Number, err)
	}
	p := paper.New(fmt.Sprintf("Evidence %d of %s: drill of %s", e.Number, e.Site, e.Group), e.MadeAt)
	p.Small(fmt.Sprintf("Machines of %s, home at %s, were started at %s in networks of their own, and removed again.", d.GroupName, d.Home, e.Site))
	p.Bullets(append([]string{value(d.Summary)}, d.Why...)...)
	length := func(n int64) string { return span.Format(time.Duration(n) * time.Second) }
	target := func(of string, n int64) string {
		if n == 0 {
			return "no " + of + " target is promised"
		}
		return fmt.Sprintf("the %s target is %s", of, length(n))
	}
	facts := [][2]string{
		{"Result", e.Result},
		{"Asked for by", d.StartedBy},
		{"Began", exact(&d.StartedAt)},
		{"Point", fmt.Sprintf("%d (%s), %s; captured %s, %s-consistent", d.PointNumber, d.Point, d.Chosen, exact(&d.CaptureAt), d.Consistency)},
		{"Would have lost", length(d.LosesSeconds) + "; " + target("RPO", e.Promised.RPO)},
	}
	ran := "not all of it"
	if d.TookSeconds != nil {
		ran = length(*d.TookSeconds)
	} else if e.Result == "passed" {
		ran = "within a second"
	}
	facts = append(facts, [2]string{"All ran after", ran + "; " + target("RTO", e.Promised.RTO)}, [2]string{"All ran at", exact(d.OpenAt)}, [2]string{"Nothing was left at", exact(d.EndedAt)})
	if d.EndedBy != nil {
		said := "and said nothing of it"
		if d.Verdict != nil {
			said = map[bool]string{true: "who said that it passed", false: "who said that it failed"}[*d.Verdict]
		}
		facts = append(facts, [2]string{"Ended by", *d.EndedBy + ", " + said})
	}
	if d.Note != nil {
		facts = append(facts, [2]string{"Note", *d.Note})
	}
	if d.Reason != nil {
		facts = append(facts, [2]string{"Not isolated", strings.Join(d.Open, " ") + " It was insisted upon: " + *d.Reason})
	}
	facts = append(facts, [2]string{"Home meanwhile", words.Upper(words.Count(d.PointsMeanwhile, "point")) + " arrived from " + d.Home + "."})
	p.Section("What was tried", "")
	p.Facts(facts)
	p.Section("Machines", "By wave: the checks of a wave came before the start of the next.")
	var rows [][]string
	for _, m := range d.Machines {
		took := "–"
		if m.TookSeconds != nil {
			took = length(*m.TookSeconds)
		}
		rows = append(rows, []string{fmt.Sprint(m.Wave), m.Name, m.Machine, strings.Join(m.Networks, ", "), hour(m.StartedAt), hour(m.CheckedAt), took})
	}
	p.Table([]paper.Column{{Head: "Wave", Width: 0.07, Right: true}, {Head: "Machine", Width: 0.24}, {Head: "At home", Width: 0.19}, {Head: "Networks", Width: 0.17}, {Head: "Started", Width: 0.12}, {Head: "Checked", Width: 0.12}, {Head: "After", Width: 0.09, Right: true}}, rows)
	for _, m := range d.Machines {
		if m.Check != nil {
			p.Note(m.Name + ": " + *m.Check)
		}
	}
	p.Section("Step by step", "")
	var steps [][2]string
	for _, s := range d.Steps {
		steps = append(steps, [2]string{exact(&s.At), s.Text})
	}
	p.Facts(steps)
	if len(e.Screens) > 0 {
		p.Section("What they showed", "Taken when all had started.")
		for _, m := range d.Machines {
			if png, ok := e.Screens[m.Name]; ok {
				p.Picture(png, m.Name)
			}
		}
	}
	p.Section("Signature", "This document is made from a signed file, which is what counts: kestrel evidence verify FILE.")
	before := e.Previous
	if before == "" {
		before = "none; it is the first of this site"
	}
	p.Facts([][2]string{{"Number", fmt.Sprint(e.Number)}, {"SHA-256", e.Hash}, {"The one before", before}, {"Key of " + e.Site, evidence.Fingerprint(e.Key)}})
	return p.Bytes()
}

func exact(t *time.Time) string {
	if t == nil {
		return "–"
	}
	return t.UTC().Format("2006-01-02 15:04:05 MST")
}

func hour(t *time.Time) string {
	if t == nil {
		return "–"
	}
	return t.UTC().Format("15:04:05")
}
