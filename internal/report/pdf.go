package report

import (
	"bytes"
	"fmt"
	"time"

	"codeberg.org/go-fonts/liberation/liberationsansbold"
	"codeberg.org/go-fonts/liberation/liberationsansregular"
	"codeberg.org/go-pdf/fpdf"

	"kestrel/internal/api"
	"kestrel/internal/core/span"
	"kestrel/internal/core/words"
)

// Sizes are millimetres of A4.
const (
	margin  = 16.0
	content = 210 - 2*margin
	line    = 5.0
	plotted = 38.0
)

type document struct {
	*fpdf.Fpdf
	pictures int
}

// Document writes a report as PDF: A4, pages numbered, readable in black and white.
func Document(v api.Report) ([]byte, error) {
	d := &document{Fpdf: fpdf.New("P", "mm", "A4", "")}
	d.AddUTF8FontFromBytes("sans", "", liberationsansregular.TTF)
	d.AddUTF8FontFromBytes("sans", "B", liberationsansbold.TTF)
	d.SetTitle(title(v), true)
	d.SetCreator("Kestrel Tide", true)
	d.SetLang("en")
	d.SetCreationDate(v.MadeAt)
	d.SetModificationDate(v.MadeAt)
	d.SetMargins(margin, margin, margin)
	d.SetAutoPageBreak(true, margin+6)
	d.AliasNbPages("{pages}")
	d.SetFooterFunc(func() {
		d.SetY(-margin)
		d.face("", 8, 90)
		d.CellFormat(content/2, line, "Kestrel Tide, made "+v.MadeAt.Format("2006-01-02 15:04 MST"), "T", 0, "L", false, 0, "")
		d.CellFormat(content/2, line, fmt.Sprintf("page %d of {pages}", d.PageNo()), "T", 0, "R", false, 0, "")
	})
	d.AddPage()
	d.face("B", 18, 0)
	d.MultiCell(content, 8, title(v), "", "L", false)
	d.face("", 10, 90)
	d.MultiCell(content, line, fmt.Sprintf("From %s to %s", stamp(v.From), stamp(v.To)), "", "L", false)
	of := words.Count(v.Groups, "group")
	if v.Only != nil {
		of += " " + *v.Only
	}
	d.MultiCell(content, line, "Of "+of+". Days are of UTC.", "", "L", false)
	d.Ln(2)
	d.face("", 11, 0)
	for _, text := range Summary(v) {
		d.MultiCell(content, 5.5, "• "+text, "", "L", false)
	}
	for _, section := range []func(v api.Report) error{d.attainment, d.change, d.coverage, d.capacity} {
		if err := section(v); err != nil {
			return nil, err
		}
	}
	d.drills(v)
	var b bytes.Buffer
	if err := d.Output(&b); err != nil {
		return nil, fmt.Errorf("write the document: %w", err)
	}
	return b.Bytes(), nil
}

func title(v api.Report) string {
	return fmt.Sprintf("%s: how promises were kept", v.Site)
}

func stamp(t time.Time) string { return t.UTC().Format("2006-01-02 15:04") }

func (d *document) face(style string, size float64, grey int) {
	d.SetFont("sans", style, size)
	d.SetTextColor(grey, grey, grey)
}

// section begins one, on a new page if little of this one is left.
func (d *document) section(name, text string) {
	if _, height := d.GetPageSize(); d.GetY() > height-margin-70 {
		d.AddPage()
	} else {
		d.Ln(6)
	}
	d.face("B", 13, 0)
	d.CellFormat(content, 7, name, "B", 1, "L", false, 0, "")
	d.Ln(1)
	if text != "" {
		d.face("", 9, 90)
		d.MultiCell(content, 4.5, text, "", "L", false)
		d.Ln(1)
	}
}

// column is one of a table.
type column struct {
	head  string
	width float64 // share of the page
	right bool
}

// table writes rows, with the heads again on each page.
func (d *document) table(columns []column, rows [][]string) {
	heads := func() {
		d.face("B", 8, 60)
		for _, c := range columns {
			d.CellFormat(c.width*content, line, c.head, "B", 0, align(c), false, 0, "")
		}
		d.Ln(-1)
		d.face("", 8.5, 0)
	}
	heads()
	_, height := d.GetPageSize()
	for _, r := range rows {
		if d.GetY() > height-margin-14 {
			d.AddPage()
			heads()
		}
		for i, c := range columns {
			d.CellFormat(c.width*content, line, d.fit(r[i], c.width*content-1.5), "", 0, align(c), false, 0, "")
		}
		d.Ln(-1)
	}
	d.Ln(2)
}

func align(c column) string {
	if c.right {
		return "R"
	}
	return "L"
}

// fit cuts a text to a width.
func (d *document) fit(text string, width float64) string {
	if d.GetStringWidth(text) <= width {
		return text
	}
	r := []rune(text)
	for len(r) > 1 && d.GetStringWidth(string(r)+"…") > width {
		r = r[:len(r)-1]
	}
	return string(r) + "…"
}

// picture puts a chart where the text is.
func (d *document) picture(png []byte, caption string) {
	if _, height := d.GetPageSize(); d.GetY()+plotted+8 > height-margin-6 {
		d.AddPage()
	}
	d.face("B", 9, 0)
	d.CellFormat(content, line, caption, "", 1, "L", false, 0, "")
	d.pictures++
	name := fmt.Sprint("chart ", d.pictures)
	o := fpdf.ImageOptions{ImageType: "PNG"}
	d.RegisterImageOptionsReader(name, o, bytes.NewReader(png))
	d.ImageOptions(name, margin, d.GetY(), content, plotted, true, o, 0, "")
	d.Ln(2)
}

func (d *document) attainment(v api.Report) error {
	d.section("Attainment", "Each moment is judged by the target that was promised then. Time in which cycles were held on purpose counts apart.")
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
	d.picture(png, "Time above the target by day, all groups together")
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
	d.table([]column{{head, 0.23, false}, {"Within", 0.12, true}, {"Over", 0.11, true}, {"Worst", 0.12, true}, {"When", 0.13, true}, {"Held", 0.1, true}, {"Sealed", 0.07, true}, {"Failed", 0.06, true}, {"Missed", 0.06, true}}, rows)
	return nil
}

func (d *document) change(v api.Report) error {
	t := v.Attainment.Total
	text := fmt.Sprintf("%s changed, %s crossed the links", span.Bytes(float64(t.ChangedBytes)), span.Bytes(float64(t.WireBytes)))
	if t.WireBytes > 0 && t.ChangedBytes > 0 {
		text += fmt.Sprintf(" (%.1f : 1)", float64(t.ChangedBytes)/float64(t.WireBytes))
	}
	d.section("Change", text+". Counted where groups are home.")
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
	d.picture(png, "Changed, and sent of it, by day")
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
		d.table([]column{{"", 0.3, false}, {"Changed", 0.14, true}, {"Sent", 0.14, true}, {"Ratio", 0.12, true}, {"Longest cycle", 0.15, true}, {"Longest wait", 0.15, true}}, rows)
	}
	return nil
}

func (d *document) coverage(v api.Report) error {
	c := v.Coverage.Counts
	d.section("Coverage", fmt.Sprintf("Of %s of %s's platforms: %d protected, %d of them by rule, %d left out on purpose, %d that cannot be, %d landed copies, %d unprotected. The share is of those that are neither left out nor copies.",
		words.Count(c.Machines, "machine"), v.Site, c.Protected+c.ByRule, c.ByRule, c.LeftOut, c.CannotBe, c.Landed, c.Unprotected))
	var share []mark
	for _, x := range v.Coverage.Days {
		share = append(share, mark{x.At, 100 * x.Share})
	}
	png, err := curve(v.From, v.To, "%", 100, share)
	if err != nil {
		return err
	}
	d.picture(png, "Share of machines that are protected: "+Share(c.Share)+" at the end")
	return nil
}

func (d *document) capacity(v api.Report) error {
	d.section("Capacity", "")
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
		d.picture(png, text)
		if s.WholeBytes != nil && s.NeededBytes != nil && *s.WholeBytes > 0 {
			d.face("", 9, 90)
			d.MultiCell(content, 4.5, fmt.Sprintf("Whole copies of all points would take %s; they take %s now.", span.Bytes(float64(*s.WholeBytes)), span.Bytes(float64(*s.NeededBytes))), "", "L", false)
			d.Ln(2)
		}
	}
	var rows [][]string
	for _, l := range v.Links {
		rows = append(rows, []string{l.Peer, rate(l.OutMean), rate(l.OutMost), rate(l.InMean), rate(l.InMost)})
	}
	if len(rows) > 0 {
		d.table([]column{{"Link to", 0.28, false}, {"Out, mean", 0.18, true}, {"at most", 0.18, true}, {"In, mean", 0.18, true}, {"at most", 0.18, true}}, rows)
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
	d.section("Drills", text)
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
		d.table([]column{{"Group", 0.22, false}, {"Began", 0.17, false}, {"Point", 0.08, true}, {"Result", 0.1, false}, {"Ran after", 0.11, true}, {"RTO target", 0.11, true}, {"By", 0.21, false}}, rows)
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
		d.table([]column{{"Drill due of", 0.4, false}, {"Since", 0.3, false}, {"Last passed", 0.3, false}}, rows)
	}
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
