package cli

import (
	"context"
	"fmt"
	"io"
	"os"
	"strings"
	"text/tabwriter"
	"time"

	"github.com/spf13/cobra"
	"golang.org/x/term"

	"kestrel/internal/api"
)

func (a *app) statusCmd() *cobra.Command {
	var check, quiet, line bool
	var by string
	c := &cobra.Command{Use: "status", Short: "What matters now, worst first", Args: cobra.NoArgs, Example: "  kestrel status\n  kestrel status --by tier\n  kestrel status --check --line\n  kestrel status -o json | jq .groups[].group.health",
		Long: `Say what matters now, worst first.

With --check the exit code is 1 while any group is over its target, has stalled or
is cut off, for scripts and monitoring; with -q nothing is printed besides.`,
		RunE: a.with(func(cmd *cobra.Command, c *api.Client, _ []string) error {
			b, err := read[api.Board](c.GetBoard(cmd.Context(), &api.GetBoardParams{}))
			if err != nil {
				return err
			}
			if quiet {
				a.Err = io.Discard
				return checked(b)
			}
			if line {
				open, err := read[[]api.Alert](c.ListAlerts(cmd.Context(), &api.ListAlertsParams{}))
				if err != nil {
					return err
				}
				bad := checked(b)
				_, _ = fmt.Fprintln(a.Out, statusLine(b, open, bad))
				if check {
					a.Err = io.Discard // the line says it
					return bad
				}
				return nil
			}
			if by != "" {
				v, err := read[api.Figures](c.GetFigures(cmd.Context(), &api.GetFiguresParams{By: &by}))
				if err != nil {
					return err
				}
				return a.emit(v, func(w *tabwriter.Writer) { figuresTable(w, v) })
			}
			if a.output != "json" {
				_, _ = fmt.Fprintf(a.Out, "%s\n%s\n", headlineText(b), b.Dark)
			}
			err = a.emit(b, func(w *tabwriter.Writer) {
				groups := []api.Group{}
				for _, x := range b.Groups {
					groups = append(groups, x.Group)
				}
				if len(groups) > 0 {
					row(w)
					groupTable(w, groups)
				}
				if more := b.Total - len(b.Groups); more > 0 {
					row(w, "", fmt.Sprintf("… and %s, none of them worse; kestrel group list has all.", count(more, "more group")))
				}
				if len(b.Needs) > 0 {
					row(w)
					for _, n := range b.Needs {
						_, _ = fmt.Fprintf(w, "%s %s. %s\n", mark(n.State), n.Title, n.Text)
					}
					if more := b.NeedsTotal - len(b.Needs); more > 0 {
						_, _ = fmt.Fprintf(w, "… and %s.\n", count(more, "more matter"))
					}
				}
			})
			if err == nil && check {
				err = checked(b)
			}
			return err
		})}
	c.Flags().BoolVar(&check, "check", false, "fail while any group is over its target, has stalled or is cut off")
	c.Flags().BoolVar(&line, "line", false, "print one line, for monitoring; with --check the exit code tells as well")
	c.Flags().StringVar(&by, "by", "", "figures by tier, tag, site (the other one) or way instead")
	c.Flags().BoolVarP(&quiet, "quiet", "q", false, "print nothing; only the exit code tells, as with --check")
	return c
}

// statusLine says it all in a line.
func statusLine(b api.Board, open []api.Alert, bad error) string {
	word, urgent := "OK", 0
	if bad != nil {
		word = "NOT AS PROMISED"
	}
	worst := ""
	if len(b.Groups) > 0 {
		if g := b.Groups[0].Group; g.ExposureSeconds != nil {
			worst = fmt.Sprintf(", first %s (%s, %s of %s)", g.Name, g.Health, secs(*g.ExposureSeconds), secs(g.Promise.RpoTargetSeconds))
		}
	}
	for _, a := range open {
		if a.Level == api.Urgent {
			urgent++
		}
	}
	return fmt.Sprintf("%s: %s: %d of %d groups within target%s; %s open, %d urgent", word, b.Site, b.Within, b.Total, worst, count(len(open), "alert"), urgent)
}

// named is how many groups are named that are not as promised; the rest are counted.
const named = 20

// checked is an error while any group is over, stalled or cut off.
func checked(b api.Board) error {
	if b.Amiss == 0 {
		return nil
	}
	var bad []string
	for _, x := range b.Groups[:min(b.Amiss, named, len(b.Groups))] { // they are the first
		bad = append(bad, x.Group.Name+" ("+x.Group.Health+")")
	}
	if more := b.Amiss - len(bad); more > 0 {
		bad = append(bad, fmt.Sprintf("%d more", more))
	}
	return fmt.Errorf("not as promised: %s", strings.Join(bad, ", "))
}

func headlineText(b api.Board) string {
	var t []string
	for _, p := range b.Headline {
		t = append(t, p.Text)
	}
	return strings.Join(t, " ")
}

func groupTable(w io.Writer, groups []api.Group) {
	row(w, "", "GROUP", "WAY", "STATE", "EXPOSURE", "TARGET", "BACKLOG", "POINTS", "NEXT")
	for _, g := range groups {
		exposure := "—"
		if g.ExposureSeconds != nil {
			exposure = secs(*g.ExposureSeconds)
		}
		state := g.Health
		if g.Running != nil && g.Running.TotalBytes > 0 && g.Health == "seeding" {
			state = fmt.Sprintf("seeding %d %%", 100*g.Running.ReadBytes/g.Running.TotalBytes)
		}
		shape := mark(g.Health)
		if g.Direction == api.Ended {
			shape, state = "◇", "ended"
		}
		row(w, shape, g.Name, g.Home+" → "+g.Recovery, state, exposure, secs(g.Promise.RpoTargetSeconds), sizeOr(g.BacklogBytes), g.Points, clockTime(g.NextStartAt))
	}
}

// tide view: water drawn with block characters.

var eighths = []rune(" ▁▂▃▄▅▆▇█")

// colours of the terminal view; empty where none are wanted.
type palette struct{ over, tight, water, dim, bold, off string }

func colours(want bool) palette {
	if !want {
		return palette{}
	}
	return palette{over: "\x1b[38;5;166m", tight: "\x1b[38;5;136m", water: "\x1b[38;5;30m", dim: "\x1b[2m", bold: "\x1b[1m", off: "\x1b[0m"}
}

// strip draws a sawtooth width cells wide. A full cell is the target; where the
// water stands over it, the cell is filled and marked.
func strip(vs []api.Vertex, from, to time.Time, target int64, width int, p palette) string {
	var b strings.Builder
	step := to.Sub(from) / time.Duration(width)
	if step <= 0 || len(vs) == 0 {
		return strings.Repeat("·", width)
	}
	for i := range width {
		lo, hi := from.Add(time.Duration(i)*step), from.Add(time.Duration(i+1)*step)
		peak, any := highest(vs, lo, hi)
		switch level := peak / float64(target); {
		case !any:
			b.WriteString(p.dim + "·" + p.off)
		case level > 1:
			b.WriteString(p.over + "▲" + p.off)
		case level > 0.8:
			b.WriteString(p.tight + string(eighths[min(8, int(level*8+0.5))]) + p.off)
		default:
			b.WriteString(p.water + string(eighths[max(1, int(level*8+0.5))]) + p.off)
		}
	}
	return b.String()
}

// highest is the greatest exposure within a stretch of time.
func highest(vs []api.Vertex, from, to time.Time) (float64, bool) {
	best, any := 0.0, false
	take := func(x float64) {
		any = true
		best = max(best, x)
	}
	for i, v := range vs {
		if !v.At.Before(from) && !v.At.After(to) {
			take(v.Seconds)
		}
		if i > 0 {
			a := vs[i-1]
			for _, t := range []time.Time{from, to} {
				if a.At.Before(t) && v.At.After(t) {
					take(a.Seconds + t.Sub(a.At).Seconds())
				}
			}
		}
	}
	return best, any
}

func (a *app) tideCmd() *cobra.Command {
	var once bool
	c := &cobra.Command{Use: "tide", Short: "Watch exposure live in the terminal", Args: cobra.NoArgs,
		Long: `Watch exposure live: the water is what would be lost, a full cell is the RPO
target, and a triangle stands where the water is over it. Ctrl-C ends.`,
		Example: "  kestrel tide\n  kestrel tide --once",
		RunE: func(cmd *cobra.Command, _ []string) error {
			c, err := a.client()
			if err != nil {
				return err
			}
			f, isFile := a.Out.(*os.File)
			tty := isFile && term.IsTerminal(int(f.Fd()))
			for {
				b, err := read[api.Board](c.GetBoard(cmd.Context(), &api.GetBoardParams{}))
				if err != nil {
					return err
				}
				if a.output == "json" {
					if err := a.emit(b, nil); err != nil || once || !tty {
						return err
					}
				} else {
					width := 100
					if tty {
						if w, _, err := term.GetSize(int(f.Fd())); err == nil {
							width = w
						}
					}
					text := drawTide(b, width, colours(tty && os.Getenv("NO_COLOR") == ""))
					if tty && !once {
						text = "\x1b[H\x1b[2J" + text
					}
					if _, err := io.WriteString(a.Out, text); err != nil || once || !tty {
						return err
					}
				}
				if wait(cmd.Context(), time.Second) != nil {
					return nil
				}
			}
		}}
	c.Flags().BoolVar(&once, "once", false, "draw once and end")
	return c
}

func wait(ctx context.Context, d time.Duration) error {
	select {
	case <-ctx.Done():
		return ctx.Err()
	case <-time.After(d):
		return nil
	}
}

func drawTide(b api.Board, width int, p palette) string {
	var out strings.Builder
	line := func(format string, args ...any) { _, _ = fmt.Fprintf(&out, format+"\n", args...) }
	at := 0
	for _, ph := range b.Headline {
		tone := map[api.PhraseTone]string{api.PhraseToneOver: p.over, api.PhraseToneTight: p.tight}[ph.Tone]
		for _, word := range strings.Fields(ph.Text) {
			n := len([]rune(word)) + 1
			if at > 0 && at+n > width {
				out.WriteString("\n")
				at = 0
			}
			_, _ = fmt.Fprintf(&out, "%s%s%s%s ", p.bold, tone, word, p.off)
			at += n
		}
	}
	line("\n%s%s%s\n", p.dim, b.Dark, p.off)
	name := 5
	for _, g := range b.Groups {
		name = max(name, len([]rune(g.Group.Name)))
	}
	name = min(name, max(12, width/5))
	cells := max(6, min(80, width-name-54))
	for _, x := range b.Groups {
		g := x.Group
		way := "→ " + g.Recovery
		if g.Direction == api.In {
			way = "← " + g.Home
		}
		water := strip(x.Strip, x.StripFrom, x.StripTo, g.Promise.RpoTargetSeconds, cells, p)
		if g.Running != nil && g.ExposureSeconds == nil && g.Running.TotalBytes > 0 {
			water = seedBar(*g.Running, cells, p)
		}
		exposure := "—"
		if g.ExposureSeconds != nil {
			exposure = secs(*g.ExposureSeconds)
		}
		tone := map[string]string{"over": p.over, "stalled": p.over, "cut off": p.over, "tight": p.tight}[g.Health]
		line("%s%s %-9s%s %-*s %s%-11s%s %s %s%12s%s of %s", tone, mark(g.Health), g.Health, p.off, name, cut(g.Name, name), p.dim, cut(way, 11), p.off, water, tone, exposure, p.off, secs(g.Promise.RpoTargetSeconds))
	}
	if more := b.Total - len(b.Groups); more > 0 {
		line("%s… and %s, none of them worse%s", p.dim, count(more, "more group"), p.off)
	}
	if len(b.Links) > 0 {
		line("")
	}
	for _, l := range b.Links {
		state, rtt := "● up", ""
		if !l.Up {
			state = p.over + "✕ down" + p.off
		} else if l.RttMillis != nil {
			rtt = fmt.Sprintf(" · %.1f ms", *l.RttMillis)
		}
		line("%s %s · out %s/s · in %s/s%s", state, l.Peer, size(l.SendBytesPerSecond), size(l.ReceiveBytesPerSecond), rtt)
	}
	return out.String()
}

func seedBar(r api.Progress, cells int, p palette) string {
	text := fmt.Sprintf(" %d %% of %s · %s/s", 100*r.ReadBytes/r.TotalBytes, size(r.TotalBytes), size(r.BytesPerSecond))
	if len([]rune(text)) > cells {
		text = fmt.Sprintf(" %d %%", 100*r.ReadBytes/r.TotalBytes)
	}
	bar := max(0, cells-len([]rune(text)))
	full := int(int64(bar) * r.ReadBytes / r.TotalBytes)
	return strings.Repeat("█", full) + p.dim + strings.Repeat("░", bar-full) + p.off + text + strings.Repeat(" ", max(0, cells-bar-len([]rune(text))))
}

func cut(s string, n int) string {
	r := []rune(s)
	if len(r) <= n {
		return s
	}
	return string(r[:n-1]) + "…"
}
