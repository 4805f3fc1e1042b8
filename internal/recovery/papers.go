package recovery

import (
	"encoding/json"
	"fmt"
	"strings"
	"time"

	"kestrel/internal/api"
	"kestrel/internal/core/span"
	"kestrel/internal/core/words"
	"kestrel/internal/evidence"
	"kestrel/internal/paper"
)

// drillPaper is the document of a drill.
func drillPaper(e evidence.Signed) ([]byte, error) {
	var d api.Drill
	if err := json.Unmarshal(e.Record, &d); err != nil {
		return nil, fmt.Errorf("the record of evidence %d: %w", e.Number, err)
	}
	p := paper.New(fmt.Sprintf("Evidence %d of %s: drill of %s", e.Number, e.Site, e.Group), e.MadeAt)
	p.Small(fmt.Sprintf("Machines of %s, home at %s, were started at %s in networks of their own, and removed again.", d.GroupName, d.Home, e.Site))
	p.Bullets(append([]string{value(d.Summary)}, d.Why...)...)
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
	machinesOn(p, e, d.Machines, d.Waves, d.Runbook, d.Steps)
	return p.Bytes()
}

// machinesOn adds how machines came up, step by step what was done, what they showed, and the
// signature.
func machinesOn(p *paper.Paper, e evidence.Signed, machines []api.DrillMachine, waves []api.RecoveryWave, runbook []api.RunbookStep, steps []api.DrillStep) {
	p.Section("Machines", "By wave: the checks of a wave came before the start of the next.")
	var rows [][]string
	for _, m := range machines {
		took := "–"
		if m.TookSeconds != nil {
			took = length(*m.TookSeconds)
		}
		rows = append(rows, []string{fmt.Sprint(m.Wave), m.Name, m.Machine, strings.Join(m.Networks, ", "), hour(m.StartedAt), hour(m.CheckedAt), took})
	}
	p.Table([]paper.Column{{Head: "Wave", Width: 0.07, Right: true}, {Head: "Machine", Width: 0.24}, {Head: "At home", Width: 0.19}, {Head: "Networks", Width: 0.17}, {Head: "Started", Width: 0.12}, {Head: "Checked", Width: 0.12}, {Head: "After", Width: 0.09, Right: true}}, rows)
	if len(waves) > 1 {
		rows = nil
		for _, w := range waves {
			took, own := "not all of it", "–"
			if w.TookSeconds != nil {
				took, own = length(*w.TookSeconds), length(*w.OwnSeconds)
			}
			rows = append(rows, []string{fmt.Sprint(w.Wave), words.Count(w.Machines, "machine"), hour(w.StartedAt), hour(w.UpAt), took, own})
		}
		p.Table([]paper.Column{{Head: "Wave", Width: 0.1, Right: true}, {Head: "Of", Width: 0.2}, {Head: "Started", Width: 0.16}, {Head: "Up", Width: 0.16}, {Head: "Up after", Width: 0.19, Right: true}, {Head: "By itself", Width: 0.19, Right: true}}, rows)
	}
	for _, m := range machines {
		if m.Check != nil {
			p.Note(m.Name + ": " + *m.Check)
		}
	}
	if len(runbook) > 0 {
		p.Section("Runbook", "What was done besides the start of machines, in order.")
		rows = nil
		for _, s := range runbook {
			took, by := "–", s.Text
			if s.TookSeconds != nil {
				took = length(*s.TookSeconds)
			}
			if s.Said != nil {
				by = *s.Said
			}
			if s.By != nil {
				by += " (" + *s.By + ")"
			}
			rows = append(rows, []string{fmt.Sprint(s.After), s.Name, value(s.State), hour(s.BeganAt), took, by})
		}
		p.Table([]paper.Column{{Head: "After wave", Width: 0.1, Right: true}, {Head: "Step", Width: 0.18}, {Head: "State", Width: 0.1}, {Head: "Began", Width: 0.1}, {Head: "Took", Width: 0.09, Right: true}, {Head: "What came of it", Width: 0.43}}, rows)
	}
	p.Section("Step by step", "")
	var told [][2]string
	for _, s := range steps {
		told = append(told, [2]string{exact(&s.At), s.Text})
	}
	p.Facts(told)
	if len(e.Screens) > 0 {
		p.Section("What they showed", "Taken when all had started.")
		for _, m := range machines {
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
}

// failoverPaper is the document of a failover.
func failoverPaper(e evidence.Signed) ([]byte, error) {
	var d api.Failover
	if err := json.Unmarshal(e.Record, &d); err != nil {
		return nil, fmt.Errorf("the record of evidence %d: %w", e.Number, err)
	}
	p := paper.New(fmt.Sprintf("Evidence %d of %s: failover of %s", e.Number, e.Site, e.Group), e.MadeAt)
	kind := map[bool]string{true: "A planned failover", false: "A failover that was not planned"}[d.Planned]
	p.Small(fmt.Sprintf("%s of %s from %s to %s.", kind, d.GroupName, d.Home, e.Site))
	p.Bullets(value(d.Summary))
	lost := length(d.LosesSeconds)
	if d.LosesSeconds == 0 {
		lost = "nothing"
	}
	if d.LosesBytes != nil && d.LosesSeconds > 0 {
		lost += ", " + span.Bytes(float64(*d.LosesBytes)) + " as home last said"
	}
	facts := [][2]string{
		{"Result", e.Result},
		{"Asked for by", d.StartedBy},
		{"Began", exact(&d.StartedAt)},
		{"Point", fmt.Sprintf("%d (%s), %s; captured %s, %s-consistent", d.PointNumber, d.Point, d.Chosen, exact(&d.CaptureAt), d.Consistency)},
		{"Lost", lost + "; " + target("RPO", e.Promised.RPO)},
		{"Home at " + e.Site + " since", exact(d.TurnedAt)},
	}
	ran := "not all of it, or not yet"
	if d.TookSeconds != nil {
		ran = length(*d.TookSeconds)
	} else if d.OpenAt != nil {
		ran = "within a second"
	}
	facts = append(facts, [2]string{"All ran after", ran + "; " + target("RTO", e.Promised.RTO)}, [2]string{"All ran at", exact(d.OpenAt)})
	if d.InPlace != nil {
		facts = append(facts, [2]string{"In place of", "the old " + strings.Join(*d.InPlace, ", ")})
	}
	if len(d.LeftOut) > 0 {
		facts = append(facts, [2]string{"Not started", strings.Join(d.LeftOut, ", ") + ", by choice"})
	}
	if d.AcceptedBy != nil {
		facts = append(facts, [2]string{"Accepted by", *d.AcceptedBy})
		if value(d.Unprotected) {
			facts = append(facts, [2]string{"Protection", "none, as was said when it was accepted"})
		}
	}
	if d.BackedOutBy != nil {
		facts = append(facts, [2]string{"Backed out by", *d.BackedOutBy})
	}
	if d.Reason != nil {
		facts = append(facts, [2]string{"Reason", *d.Reason})
	}
	facts = append(facts, [2]string{"Ended", exact(d.EndedAt)})
	p.Section("What was done", "")
	p.Facts(facts)
	if len(d.Known) > 0 {
		p.Section("What was known of home", "When it began.")
		p.Bullets(d.Known...)
	}
	p.Section("Stages", "")
	var rows [][]string
	for _, s := range d.Stages {
		rows = append(rows, []string{s.Text, hour(s.BeganAt), hour(s.EndedAt)})
	}
	p.Table([]paper.Column{{Head: "Stage", Width: 0.7}, {Head: "Began", Width: 0.15}, {Head: "Ended", Width: 0.15}}, rows)
	machinesOn(p, e, d.Machines, d.Waves, d.Runbook, d.Steps)
	return p.Bytes()
}

func length(n int64) string { return span.Format(time.Duration(n) * time.Second) }

func target(of string, n int64) string {
	if n == 0 {
		return "no " + of + " target is promised"
	}
	return fmt.Sprintf("the %s target is %s", of, length(n))
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
