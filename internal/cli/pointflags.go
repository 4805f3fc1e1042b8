package cli

import (
	"time"

	"github.com/spf13/cobra"
)

// pointFlags say which point of a group is wanted.
type pointFlags struct{ point, choose, before string }

func (p *pointFlags) add(c *cobra.Command) {
	f := c.Flags()
	f.StringVar(&p.point, "point", "", "a point by its number or ID")
	f.StringVar(&p.choose, "choose", "", "newest (the default), application (-consistent), proved (by a drill) or calm (before unusual change)")
	f.StringVar(&p.before, "before", "", "the newest point before a time, such as 6h (ago) or an instant")
	c.MarkFlagsMutuallyExclusive("point", "choose", "before")
}

// wish is what they ask for.
func (p *pointFlags) wish() (point, choose *string, before *time.Time, err error) {
	if p.before == "" {
		return strOr(p.point), strOr(p.choose), nil, nil
	}
	at, err := backOrTime(p.before)
	if err != nil {
		return nil, nil, nil, usage("--before %s: %v", p.before, err)
	}
	return nil, new("before"), at, nil
}
