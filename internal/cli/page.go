package cli

import "github.com/spf13/cobra"

// pageFlags are the flags of every command that lists: in which order, and which
// stretch.
type pageFlags struct {
	sort        string
	limit, skip int
}

// flags adds them to a command whose list has these orders.
func (p *pageFlags) flags(c *cobra.Command, orders string) {
	c.Flags().StringVar(&p.sort, "sort", "", "by "+orders+`; with - before it the other way round`)
	c.Flags().IntVarP(&p.limit, "limit", "n", 0, "at most so many (default: all)")
	c.Flags().IntVar(&p.skip, "skip", 0, "leave out so many first")
}

func (p *pageFlags) sorted() *string { return strOr(p.sort) }

// most is how many are asked for; nil is all.
func (p *pageFlags) most() *int {
	if p.limit == 0 {
		return nil
	}
	return &p.limit
}
