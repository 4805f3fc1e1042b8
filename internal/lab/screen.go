package lab

import (
	"bytes"
	"fmt"
	"image"
	"image/color"
	"image/png"
	"time"

	"golang.org/x/image/font"
	"golang.org/x/image/font/basicfont"
	"golang.org/x/image/math/fixed"

	"kestrel/internal/platform"
)

// ErrDark says that a machine shows nothing, as it is off.
var ErrDark = fmt.Errorf("its screen is dark: it is off: %w", ErrBad)

// Screen draws what a machine shows, as a PNG: a text screen of 80 columns and 25 lines with
// what its guest is about.
func (l *Lab) Screen(id string) ([]byte, error) {
	l.mu.Lock()
	m, err := l.machineByID(id)
	if err != nil {
		l.mu.Unlock()
		return nil, err
	}
	g := m.guest
	lines := []string{m.ScenarioMachine.Guest + " " + m.Name + " tty1", "", m.Name + " login:"}
	power := m.power
	l.mu.Unlock()
	if power == platform.PowerOff {
		return nil, ErrDark
	}
	switch {
	case power == platform.PowerSuspended:
		lines = append(lines, "", "(held: its guest does not run)")
	case g == nil:
		lines = append(lines, "", "(its disks are being read; its program goes on then)")
	default:
		g.between.Lock()
		rec := g.rec
		g.between.Unlock()
		lines = append(lines, "", fmt.Sprintf("transaction %d, %s", rec.Seq, rec.At.UTC().Format(time.RFC3339)))
	}
	const width, height, step = 80 * 7, 25 * 16, 16
	img := image.NewPaletted(image.Rect(0, 0, width, height), color.Palette{color.Black, color.Gray{Y: 200}})
	pen := font.Drawer{Dst: img, Src: image.NewUniform(color.Gray{Y: 200}), Face: basicfont.Face7x13}
	for i, text := range lines {
		pen.Dot = fixed.P(0, (i+1)*step-3)
		pen.DrawString(text)
	}
	var out bytes.Buffer
	err = png.Encode(&out, img)
	return out.Bytes(), err
}
