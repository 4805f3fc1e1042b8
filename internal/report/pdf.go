package report

import (
	"fmt"
	"time"

	"kestrel/internal/api"
	"kestrel/internal/core/span"
	"kestrel/internal/core/words"
	"kestrel/internal/paper"
)

type document struct{ *paper.Paper }

// Document writes a report as PDF.
func Document(v api.Report) ([]byte, error) {
	d := &document{paper.New(fmt.Sprintf("%s: how promises were kept", v.Site), v.MadeAt)}
	d.Small(fmt.Sprintf("From %s to %s", stamp(v.From), stamp(v.To)))
	of := words.Count(v.Groups, "group")
	if v.Only != nil {
		of += " " + *v.Only
	}
	d.Small("Of " + of + ". Days are of UTC.")
	d.Bullets(Summary(v)...)
	for _, section := range []func(v api.Report) error{d.attainment, d.change, d.coverage, d.capacity} {
		if err := section(v); err != nil {
			return nil, err
		}
	}
	d.drills(v)
	d.failovers(v)
	return d.Bytes()
}

func stamp(t time.Time) string { return t.UTC().Format("2006-01-02 15:04") }

func (d *document) attainment(v api.Report) error {
	d.Section("Attainment", "Each moment is judged by the target that was promised then. Time in which cycles were held on purpose counts apart.")
	most := int64(0)
	for _, x := range v.Days {
		most = max(most, x.OverSeconds)
	}
	unit, of := "hours", 3600.0
	if most < 7200 {
		unit, of = "minutes", 60
	}
	var over []mark
	for _, x := range v.Days {
		over = append(over, mark{x.At, float64(x.OverSeconds) / of})
	}
	png, err := columns(v.From, v.To, unit, series{marks: over})
	if err != nil {
		return err
	}
	d.Chart(png, "Time above the target by day, all groups together")
	head := map[string]string{"tier": "Tier", "tag": "Tag", "site": "Other site"}[v.By]
	if head == "" {
		head = "Group"
	}
	var rows [][]string
	for _, r := range append(v.Attainment.Rows, v.Attainment.Total) {
		within, worst, when, held := "no point yet", "–", "–", "–"
		if r.CoveredSeconds > 0 {
			within = Share(r.KeptShare)
		}
		if r.WorstAt != nil {
			worst, when = seconds(r.WorstSeconds), r.WorstAt.UTC().Format("01-02 15:04")
		}
		if r.PausedSeconds > 0 {
			held = seconds(r.PausedSeconds)
		}
		rows = append(rows, []string{r.Name, within, seconds(r.OverSeconds), worst, when, held, fmt.Sprint(r.Sealed), fmt.Sprint(r.Failed), fmt.Sprint(r.Missed)})
	}
	d.Table([]paper.Column{{Head: head, Width: 0.23}, {Head: "Within", Width: 0.12, Right: true}, {Head: "Over", Width: 0.11, Right: true}, {Head: "Worst", Width: 0.12, Right: true}, {Head: "When", Width: 0.13, Right: true}, {Head: "Held", Width: 0.1, Right: true}, {Head: "Sealed", Width: 0.07, Right: true}, {Head: "Failed", Width: 0.06, Right: true}, {Head: "Missed", Width: 0.06, Right: true}}, rows)
	return nil
}

func (d *document) change(v api.Report) error {
	t := v.Attainment.Total
	text := fmt.Sprintf("%s changed, %s crossed the links", span.Bytes(float64(t.ChangedBytes)), span.Bytes(float64(t.WireBytes)))
	if t.WireBytes > 0 && t.ChangedBytes > 0 {
		text += fmt.Sprintf(" (%.1f : 1)", float64(t.ChangedBytes)/float64(t.WireBytes))
	}
	d.Section("Change", text+". Counted where groups are home.")
	most := 0.0
	for _, x := range v.Days {
		most = max(most, float64(x.ChangedBytes))
	}
	unit, of := scale(most)
	var changed, sent []mark
	for _, x := range v.Days {
		changed, sent = append(changed, mark{x.At, float64(x.ChangedBytes) / of}), append(sent, mark{x.At, float64(x.WireBytes) / of})
	}
	png, err := columns(v.From, v.To, unit, series{"changed", changed}, series{"sent", sent})
	if err != nil {
		return err
	}
	d.Chart(png, "Changed, and sent of it, by day")
	var rows [][]string
	for _, r := range v.Attainment.Rows {
		if r.ChangedBytes > 0 {
			ratio := "–"
			if r.WireBytes > 0 {
				ratio = fmt.Sprintf("%.1f : 1", float64(r.ChangedBytes)/float64(r.WireBytes))
			}
			rows = append(rows, []string{r.Name, span.Bytes(float64(r.ChangedBytes)), span.Bytes(float64(r.WireBytes)), ratio, seconds(int64(r.LongestCycleSeconds)), seconds(int64(r.LongestWaitSeconds))})
		}
	}
	if len(rows) > 0 {
		d.Table([]paper.Column{{Head: "", Width: 0.3}, {Head: "Changed", Width: 0.14, Right: true}, {Head: "Sent", Width: 0.14, Right: true}, {Head: "Ratio", Width: 0.12, Right: true}, {Head: "Longest cycle", Width: 0.15, Right: true}, {Head: "Longest wait", Width: 0.15, Right: true}}, rows)
	}
	return nil
}

func (d *document) coverage(v api.Report) error {
	c := v.Coverage.Counts
	d.Section("Coverage", fmt.Sprintf("Of %s of %s's platforms: %d protected, %d of them by rule, %d left out on purpose, %d that cannot be, %d landed copies, %d unprotected. The share is of those that are neither left out nor copies.",
		words.Count(c.Machines, "machine"), v.Site, c.Protected+c.ByRule, c.ByRule, c.LeftOut, c.CannotBe, c.Landed, c.Unprotected))
	var share []mark
	for _, x := range v.Coverage.Days {
		share = append(share, mark{x.At, 100 * x.Share})
	}
	png, err := curve(v.From, v.To, "%", 100, share)
	if err != nil {
		return err
	}
	d.Chart(png, "Share of machines that are protected: "+Share(c.Share)+" at the end")
	return nil
}

func (d *document) capacity(v api.Report) error {
	d.Section("Capacity", "")
	for _, s := range v.Stores {
		text := fmt.Sprintf("%s: %s at first, %s at the end", words.Upper(s.Name), span.Bytes(float64(s.UsedFirstBytes)), span.Bytes(float64(s.UsedLastBytes)))
		if s.FreeBytes != nil {
			text += ", " + span.Bytes(float64(*s.FreeBytes)) + " free"
		}
		if s.FillsAt != nil {
			text += ", full about " + s.FillsAt.Format("2006-01-02")
		}
		unit, of := scale(float64(s.UsedMostBytes))
		var used []mark
		for _, x := range s.Days {
			used = append(used, mark{x.At, x.Most / of})
		}
		png, err := curve(v.From, v.To, unit, 0, used)
		if err != nil {
			return err
		}
		d.Chart(png, text)
		if s.WholeBytes != nil && s.NeededBytes != nil && *s.WholeBytes > 0 {
			d.Note(fmt.Sprintf("Whole copies of all points would take %s; they take %s now.", span.Bytes(float64(*s.WholeBytes)), span.Bytes(float64(*s.NeededBytes))))
		}
	}
	var rows [][]string
	for _, l := range v.Links {
		rows = append(rows, []string{l.Peer, rate(l.OutMean), rate(l.OutMost), rate(l.InMean), rate(l.InMost)})
	}
	if len(rows) > 0 {
		d.Table([]paper.Column{{Head: "Link to", Width: 0.28}, {Head: "Out, mean", Width: 0.18, Right: true}, {Head: "at most", Width: 0.18, Right: true}, {Head: "In, mean", Width: 0.18, Right: true}, {Head: "at most", Width: 0.18, Right: true}}, rows)
	}
	return nil
}

// drills tells which recoveries were tried, and which are due.
func (d *document) drills(v api.Report) {
	x := v.Drills
	text := fmt.Sprintf("Recoveries that were tried at %s: %d passed, %d failed, %d ended before they could tell.", v.Site, x.Passed, x.Failed, x.Stopped)
	if len(x.Rows) == 0 {
		text = fmt.Sprintf("No recovery was tried at %s in this time.", v.Site)
	}
	if len(x.Due) > 0 {
		text += " " + words.Upper(words.Count(len(x.Due), "group")) + " had a drill due at its end."
	}
	d.Section("Drills", text)
	var rows [][]string
	for _, r := range x.Rows {
		took, target := "–", "–"
		if r.TookSeconds != nil {
			took = seconds(*r.TookSeconds)
		}
		if r.RtoTargetSeconds > 0 {
			target = seconds(r.RtoTargetSeconds)
		}
		rows = append(rows, []string{r.Group, stamp(r.StartedAt), fmt.Sprint(r.Point), r.Result, took, target, r.StartedBy})
	}
	if len(rows) > 0 {
		d.Table([]paper.Column{{Head: "Group", Width: 0.22}, {Head: "Began", Width: 0.17}, {Head: "Point", Width: 0.08, Right: true}, {Head: "Result", Width: 0.1}, {Head: "Ran after", Width: 0.11, Right: true}, {Head: "RTO target", Width: 0.11, Right: true}, {Head: "By", Width: 0.21}}, rows)
	}
	rows = nil
	for _, r := range x.Due {
		last := "none passed yet"
		if r.LastAt != nil {
			last = stamp(*r.LastAt)
		}
		rows = append(rows, []string{r.Group, stamp(r.DueAt), last})
	}
	if len(rows) > 0 {
		d.Table([]paper.Column{{Head: "Drill due of", Width: 0.4}, {Head: "Since", Width: 0.3}, {Head: "Last passed", Width: 0.3}}, rows)
	}
}

// failovers tells which groups were run here.
func (d *document) failovers(v api.Report) {
	if len(v.Failovers) == 0 {
		d.Section("Failovers", fmt.Sprintf("No group was failed over to %s in this time.", v.Site))
		return
	}
	d.Section("Failovers", fmt.Sprintf("Groups that were run at %s. What was lost, and after what time all ran, beside what is promised.", v.Site))
	var rows [][]string
	for _, f := range v.Failovers {
		took, target, lost, kind := "–", "–", "nothing", "not planned"
		if f.TookSeconds != nil {
			took = seconds(*f.TookSeconds)
		}
		if f.RtoTargetSeconds > 0 {
			target = seconds(f.RtoTargetSeconds)
		}
		if f.LosesSeconds > 0 {
			lost = seconds(f.LosesSeconds)
		}
		if f.Planned {
			kind = "planned"
		}
		rows = append(rows, []string{f.Group, stamp(f.StartedAt), kind, f.State, lost, seconds(f.RpoTargetSeconds), took, target, f.StartedBy})
	}
	d.Table([]paper.Column{{Head: "Group", Width: 0.15}, {Head: "Began", Width: 0.14}, {Head: "Kind", Width: 0.1}, {Head: "State", Width: 0.1}, {Head: "Lost", Width: 0.1, Right: true}, {Head: "RPO", Width: 0.08, Right: true}, {Head: "Ran after", Width: 0.1, Right: true}, {Head: "RTO", Width: 0.08, Right: true}, {Head: "By", Width: 0.15}}, rows)
}

// scale is the unit in which the most of some sizes is written, and its bytes.
func scale(most float64) (unit string, of float64) {
	of = 1 << 20
	for _, unit = range []string{"MiB", "GiB", "TiB"} {
		if most < 1024*of {
			return unit, of
		}
		of *= 1024
	}
	return "TiB", of / 1024
}

func seconds(n int64) string { return span.Format(time.Duration(n) * time.Second) }

func rate(n int64) string { return span.Bytes(float64(n)) + "/s" }
