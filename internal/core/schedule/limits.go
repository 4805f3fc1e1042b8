package schedule

import (
	"fmt"
	"maps"
	"slices"
	"time"

	"kestrel/internal/core/span"
)

// Limits is how many cycles may run at the same time; 0 is no limit.
type Limits struct {
	Site      int // of this site
	Link      int // over one link
	Platform  int // from one platform
	Datastore int // from one datastore
}

// Use is what a cycle takes while it runs.
type Use struct {
	Link, Platform string
	Datastores     []string
	Slow           bool // its link's slow lane
	Long           bool // a place for longer than others may be able to wait
}

// Load is which cycles run, by what they use, and what may. The zero value is none, without
// limits. It is not safe for use at the same time.
type Load struct {
	Limits
	// Short is from what expected length on a cycle counts as long; 0 is not known. Of several
	// places of a site, one is kept from long cycles. A first copy always is one.
	Short time.Duration
	site  int
	long  int
	on    map[thing]int // cycles, by what is limited
	slow  []string      // links whose slow lane is taken
	own   bool          // on is not shared
}

// thing is what cycles take a place on: a link, a platform, or a datastore of one.
type thing struct{ where, of, name string }

func (l *Limits) each(u Use, do func(t thing, limit int) bool) {
	if l.Link > 0 && !do(thing{"over the link with", "", u.Link}, l.Link) {
		return
	}
	if l.Platform > 0 && !do(thing{"on", "", u.Platform}, l.Platform) {
		return
	}
	if l.Datastore > 0 {
		for _, d := range u.Datastores {
			if !do(thing{"on", u.Platform, d}, l.Datastore) {
				return
			}
		}
	}
}

// Of is what the next cycle of a group would take.
func (l *Load) Of(f *Facts) Use {
	wanted := !f.AskedAt.IsZero() || f.CutOff // somebody waits for it, or it holds what it froze
	return Use{f.Link, f.Platform, f.Datastores, f.behind(), !wanted && (f.Captured.IsZero() || l.Short > 0 && f.Length > l.Short)}
}

// Add enters a cycle.
func (l *Load) Add(u Use) {
	l.change(u, 1)
	if u.Slow {
		l.slow = append(slices.Clone(l.slow), u.Link)
	}
}

// Remove takes one out that was entered.
func (l *Load) Remove(u Use) {
	l.change(u, -1)
	if at := slices.Index(l.slow, u.Link); u.Slow && at >= 0 {
		l.slow = slices.Delete(slices.Clone(l.slow), at, at+1)
	}
}

func (l *Load) change(u Use, by int) {
	l.site += by
	if u.Long {
		l.long += by
	}
	if l.Link <= 0 && l.Platform <= 0 && l.Datastore <= 0 {
		return
	}
	if !l.own {
		l.on, l.own = maps.Clone(l.on), true
	}
	if l.on == nil {
		l.on = map[thing]int{}
	}
	l.each(u, func(t thing, _ int) bool {
		if l.on[t] += by; l.on[t] == 0 {
			delete(l.on, t)
		}
		return true
	})
}

// Room tells whether there is room for one more.
func (l *Load) Room(u Use) bool {
	lack, _ := l.lack(u)
	return lack == lackNone
}

// Clone is a load that can be changed without the other; it costs little until then.
func (l *Load) Clone() Load {
	l.own = false
	return *l
}

// What there may be no room on.
const (
	lackNone = iota
	lackSite
	lackLong
	lackSlow
	lackThing
)

// lack finds what leaves no room for one more, and the thing, if it is one.
func (l *Load) lack(u Use) (lack int, on thing) {
	switch {
	case l.Site > 0 && l.site >= l.Site:
		return lackSite, on
	case u.Long && l.Site > 1 && l.long >= l.Site-1:
		return lackLong, on
	case u.Slow && slices.Contains(l.slow, u.Link):
		return lackSlow, on
	}
	l.each(u, func(t thing, limit int) bool {
		if l.on[t] >= limit {
			lack, on = lackThing, t
		}
		return lack == lackNone
	})
	return lack, on
}

// full says in words what leaves no room for one more; empty if there is room.
func (l *Load) full(u Use) string {
	switch lack, on := l.lack(u); {
	case lack == lackSite:
		return run(l.site) + " at this site"
	case lack == lackLong && l.Short <= 0:
		return run(l.long) + " at this site that may take long, and the last place is kept for others"
	case lack == lackLong:
		return fmt.Sprintf("%s at this site that may take longer than %s, and the last place is kept for shorter ones", run(l.long), span.Format(l.Short.Truncate(time.Second)))
	case lack == lackSlow:
		return "more is promised over the link with " + u.Link + " than that carries, and another group has its turn in the slow lane"
	case lack == lackThing:
		return fmt.Sprintf("%s %s %s", run(l.on[on]), on.where, on.name)
	}
	return ""
}

func run(n int) string {
	words := []string{"no", "one", "two", "three", "four", "five", "six", "seven", "eight", "nine", "ten", "eleven", "twelve"}
	text := fmt.Sprint(n)
	if n < len(words) {
		text = words[n]
	}
	if n == 1 {
		return text + " cycle runs"
	}
	return text + " cycles run"
}
