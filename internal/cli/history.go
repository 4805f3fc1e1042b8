package cli

import (
	"fmt"
	"math"
	"slices"
	"strings"
	"text/tabwriter"
	"time"

	"github.com/spf13/cobra"

	"kestrel/internal/api"
	"kestrel/internal/core/span"
)

// stretch is a stretch of time as people give it.
type stretch struct{ last, from, to string }

func (x *stretch) flags(c *cobra.Command, usual string) {
	f := c.Flags()
	f.StringVar(&x.last, "last", "", "how far back, such as 7d; "+usual+" if left out")
	f.StringVar(&x.from, "from", "", "from a day, such as 2026-11-01, or an instant of RFC 3339")
	f.StringVar(&x.to, "to", "", "to the beginning of a day, or an instant; now if left out")
	c.MarkFlagsMutuallyExclusive("last", "from")
}

// read gives its ends; nil where nothing is said.
func (x *stretch) read() (from, to *time.Time, err error) {
	if x.last != "" {
		d, err := span.Parse(x.last)
		if err != nil {
			return nil, nil, usage("--last %s: %v", x.last, err)
		}
		from = new(time.Now().Add(-d).UTC())
	}
	for _, y := range []struct {
		flag, text string
		to         **time.Time
	}{{"--from", x.from, &from}, {"--to", x.to, &to}} {
		if y.text == "" {
			continue
		}
		t, err := dayOrTime(y.text)
		if err != nil {
			return nil, nil, usage("%s %s: %v", y.flag, y.text, err)
		}
		*y.to = &t
	}
	return from, to, nil
}

func (a *app) historyCmd() *cobra.Command {
	c := &cobra.Command{Use: "history", Short: "How backlogs, change, links and stores went"}
	var when stretch
	var what []string
	var values bool
	one := func(use, short, example string, args cobra.PositionalArgs, get func(cmd *cobra.Command, c *api.Client, args []string, what *[]string, from, to *time.Time) (api.Measures, error)) {
		x := &cobra.Command{Use: use, Short: short, Args: args, Example: example, RunE: a.with(func(cmd *cobra.Command, c *api.Client, args []string) error {
			from, to, err := when.read()
			if err != nil {
				return err
			}
			var names *[]string
			if len(what) > 0 {
				names = &what
			}
			v, err := get(cmd, c, args, names, from, to)
			if err != nil {
				return err
			}
			return a.emit(v, func(w *tabwriter.Writer) { historyTable(w, v, values) })
		})}
		when.flags(x, "24h")
		x.Flags().StringSliceVar(&what, "what", nil, "only these series, by name")
		x.Flags().BoolVar(&values, "values", false, "list all values")
		c.AddCommand(x)
	}
	one("group GROUP", "Backlog, change, what was sent, and how long cycles took", "  kestrel history group Ticketing --last 7d\n  kestrel history group Ticketing --what backlog --values", cobra.ExactArgs(1),
		func(cmd *cobra.Command, c *api.Client, args []string, what *[]string, from, to *time.Time) (api.Measures, error) {
			return read[api.Measures](c.GetGroupMeasures(cmd.Context(), args[0], &api.GetGroupMeasuresParams{What: what, From: from, To: to}))
		})
	one("link SITE", "How much a link carried", "  kestrel history link Eastmole --last 30d", cobra.ExactArgs(1),
		func(cmd *cobra.Command, c *api.Client, args []string, what *[]string, from, to *time.Time) (api.Measures, error) {
			return read[api.Measures](c.GetLinkMeasures(cmd.Context(), args[0], &api.GetLinkMeasuresParams{What: what, From: from, To: to}))
		})
	one("store", "How full the stores of this site were", "  kestrel history store --last 30d", cobra.NoArgs,
		func(cmd *cobra.Command, c *api.Client, _ []string, what *[]string, from, to *time.Time) (api.Measures, error) {
			return read[api.Measures](c.GetStoreMeasures(cmd.Context(), &api.GetStoreMeasuresParams{What: what, From: from, To: to}))
		})
	return c
}

// amount writes a value of a series.
func amount(unit api.SeriesUnit, v float64) string {
	switch unit {
	case api.Bytes:
		return size(int64(v))
	case api.BytesPerSecond:
		return size(int64(v)) + "/s"
	case api.Seconds:
		return span.Precise(time.Duration(v * float64(time.Second)))
	}
	return fmt.Sprint(math.Round(v))
}

func historyTable(w *tabwriter.Writer, v api.Measures, values bool) {
	row(w, "From "+clockTime(&v.From), "to "+clockTime(&v.To))
	if len(v.Series) == 0 {
		row(w, "Nothing was measured in that time.")
		return
	}
	row(w)
	row(w, "SERIES", "MEAN", "MOST", "WHEN", "TOGETHER", "COURSE")
	for _, s := range v.Series {
		sum, top, together := 0.0, s.Values[0], 0.0
		for _, x := range s.Values {
			sum += x.Mean
			if x.Most > top.Most {
				top = x
			}
			if x.Sum != nil {
				together += *x.Sum
			}
		}
		all := "—"
		if s.Values[0].Sum != nil {
			all = amount(s.Unit, together)
		}
		row(w, s.Name, amount(s.Unit, sum/float64(len(s.Values))), amount(s.Unit, top.Most), clockTime(&top.At), all, course(s, v.From, v.To, 48))
	}
	if !values {
		return
	}
	for _, s := range v.Series {
		row(w)
		row(w, strings.ToUpper(s.Name), "MEAN", "LEAST", "MOST")
		for _, x := range s.Values {
			row(w, clockTime(&x.At), amount(s.Unit, x.Mean), amount(s.Unit, x.Least), amount(s.Unit, x.Most))
		}
	}
}

// course draws the most of each stretch of time, as high as the most of all; a dot where
// nothing was measured.
func course(s api.Series, from, to time.Time, width int) string {
	each := to.Sub(from) / time.Duration(width)
	step := time.Duration(s.StepSeconds) * time.Second
	peaks := make([]float64, width)
	for i := range peaks {
		peaks[i] = -1
	}
	for _, x := range s.Values {
		most := x.Most
		if x.Sum != nil {
			most = *x.Sum
		}
		first, last := int(max(0, x.At.Sub(from))/max(1, each)), int((x.At.Add(step).Sub(from)-1)/max(1, each))
		for i := first; i <= min(last, width-1); i++ {
			peaks[i] = max(peaks[i], most)
		}
	}
	top := slices.Max(peaks)
	var b strings.Builder
	for _, p := range peaks {
		switch {
		case p < 0:
			b.WriteString("·")
		case top <= 0:
			b.WriteRune(eighths[1])
		default:
			b.WriteRune(eighths[max(1, min(8, int(p/top*8+0.5)))])
		}
	}
	return b.String()
}
