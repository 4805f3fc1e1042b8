// Package paper writes documents as PDF: A4, pages numbered, any letters, readable in black and
// white.
package paper

import (
	"bytes"
	"fmt"
	"image"
	_ "image/png" // pictures are PNGs
	"time"

	"codeberg.org/go-fonts/liberation/liberationsansbold"
	"codeberg.org/go-fonts/liberation/liberationsansregular"
	"codeberg.org/go-pdf/fpdf"
)

// Sizes are millimetres of A4.
const (
	margin  = 16.0
	content = 210 - 2*margin
	line    = 5.0
	plotted = 38.0
)

// Paper is a document that is being written.
type Paper struct {
	pdf      *fpdf.Fpdf
	pictures int
}

// New begins one.
func New(title string, made time.Time) *Paper {
	p := &Paper{pdf: fpdf.New("P", "mm", "A4", "")}
	d := p.pdf
	d.AddUTF8FontFromBytes("sans", "", liberationsansregular.TTF)
	d.AddUTF8FontFromBytes("sans", "B", liberationsansbold.TTF)
	d.SetTitle(title, true)
	d.SetCreator("Kestrel Tide", true)
	d.SetLang("en")
	d.SetCreationDate(made)
	d.SetModificationDate(made)
	d.SetMargins(margin, margin, margin)
	d.SetAutoPageBreak(true, margin+6)
	d.AliasNbPages("{pages}")
	d.SetFooterFunc(func() {
		d.SetY(-margin)
		p.face("", 8, 90)
		d.CellFormat(content/2, line, "Kestrel Tide, made "+made.UTC().Format("2006-01-02 15:04 MST"), "T", 0, "L", false, 0, "")
		d.CellFormat(content/2, line, fmt.Sprintf("page %d of {pages}", d.PageNo()), "T", 0, "R", false, 0, "")
	})
	d.AddPage()
	p.face("B", 18, 0)
	d.MultiCell(content, 8, title, "", "L", false)
	return p
}

// Bytes ends it.
func (p *Paper) Bytes() ([]byte, error) {
	var b bytes.Buffer
	if err := p.pdf.Output(&b); err != nil {
		return nil, fmt.Errorf("write the document: %w", err)
	}
	return b.Bytes(), nil
}

func (p *Paper) face(style string, size float64, grey int) {
	p.pdf.SetFont("sans", style, size)
	p.pdf.SetTextColor(grey, grey, grey)
}

// Small writes a line of small grey text.
func (p *Paper) Small(text string) {
	p.face("", 10, 90)
	p.pdf.MultiCell(content, line, text, "", "L", false)
}

// Note writes what is said of something, in small.
func (p *Paper) Note(text string) {
	p.face("", 9, 90)
	p.pdf.MultiCell(content, 4.5, text, "", "L", false)
	p.pdf.Ln(2)
}

// Bullets lists what matters.
func (p *Paper) Bullets(texts ...string) {
	p.pdf.Ln(2)
	p.face("", 11, 0)
	for _, text := range texts {
		p.pdf.MultiCell(content, 5.5, "• "+text, "", "L", false)
	}
}

// Section begins one, on a new page if little of this one is left.
func (p *Paper) Section(name, text string) {
	d := p.pdf
	if _, height := d.GetPageSize(); d.GetY() > height-margin-70 {
		d.AddPage()
	} else {
		d.Ln(6)
	}
	p.face("B", 13, 0)
	d.CellFormat(content, 7, name, "B", 1, "L", false, 0, "")
	d.Ln(1)
	if text != "" {
		p.face("", 9, 90)
		d.MultiCell(content, 4.5, text, "", "L", false)
		d.Ln(1)
	}
}

// Column is one of a table.
type Column struct {
	Head  string
	Width float64 // share of the page
	Right bool
}

// Table writes rows, with the heads again on each page. What is too long for a column is cut,
// and says so.
func (p *Paper) Table(columns []Column, rows [][]string) {
	d := p.pdf
	heads := func() {
		p.face("B", 8, 60)
		for _, c := range columns {
			d.CellFormat(c.Width*content, line, c.Head, "B", 0, align(c), false, 0, "")
		}
		d.Ln(-1)
		p.face("", 8.5, 0)
	}
	heads()
	_, height := d.GetPageSize()
	for _, r := range rows {
		if d.GetY() > height-margin-14 {
			d.AddPage()
			heads()
		}
		for i, c := range columns {
			d.CellFormat(c.Width*content, line, p.fit(r[i], c.Width*content-1.5), "", 0, align(c), false, 0, "")
		}
		d.Ln(-1)
	}
	d.Ln(2)
}

// Facts writes names with what they are, which may take several lines.
func (p *Paper) Facts(facts [][2]string) {
	d := p.pdf
	const name = 0.24 * content
	for _, f := range facts {
		_, height := d.GetPageSize()
		if d.GetY() > height-margin-16 {
			d.AddPage()
		}
		y := d.GetY()
		p.face("", 8.5, 90)
		d.CellFormat(name, line, f[0], "", 0, "L", false, 0, "")
		p.face("", 9, 0)
		d.SetXY(margin+name, y)
		d.MultiCell(content-name, line, f[1], "", "L", false)
	}
	d.Ln(2)
}

func align(c Column) string {
	if c.Right {
		return "R"
	}
	return "L"
}

// fit cuts a text to a width.
func (p *Paper) fit(text string, width float64) string {
	if p.pdf.GetStringWidth(text) <= width {
		return text
	}
	r := []rune(text)
	for len(r) > 1 && p.pdf.GetStringWidth(string(r)+"…") > width {
		r = r[:len(r)-1]
	}
	return string(r) + "…"
}

// ChartWidth and ChartHeight are the size that charts are drawn at, in millimetres.
const (
	ChartWidth  = content
	ChartHeight = plotted
)

// Chart puts a chart where the text is.
func (p *Paper) Chart(png []byte, caption string) { p.picture(png, caption, content, plotted) }

// Picture puts a picture where the text is, half as wide as the page. One that cannot be read
// is told of instead.
func (p *Paper) Picture(png []byte, caption string) {
	c, _, err := image.DecodeConfig(bytes.NewReader(png))
	if err != nil || c.Width == 0 {
		p.Note(caption + ": the picture cannot be read.")
		return
	}
	const width = content / 2
	p.picture(png, caption, width, min(width*float64(c.Height)/float64(c.Width), 2*width))
}

func (p *Paper) picture(png []byte, caption string, width, tall float64) {
	d := p.pdf
	if _, height := d.GetPageSize(); d.GetY()+tall+8 > height-margin-6 {
		d.AddPage()
	}
	p.face("B", 9, 0)
	d.CellFormat(content, line, caption, "", 1, "L", false, 0, "")
	p.pictures++
	name := fmt.Sprint("picture ", p.pictures)
	o := fpdf.ImageOptions{ImageType: "PNG"}
	d.RegisterImageOptionsReader(name, o, bytes.NewReader(png))
	d.ImageOptions(name, margin, d.GetY(), width, tall, true, o, 0, "")
	d.Ln(2)
}
