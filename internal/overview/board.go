package overview

import (
	"cmp"
	"context"
	"fmt"
	"net/url"
	"slices"
	"strings"
	"time"

	"kestrel/internal/api"
	"kestrel/internal/core/exposure"
	"kestrel/internal/core/health"
	"kestrel/internal/core/words"
	"kestrel/internal/directory"
	"kestrel/internal/history"
	"kestrel/internal/listing"
	"kestrel/internal/problem"
)

const (
	// stripSpan is how far back the board draws, corners how finely.
	stripSpan = 6 * time.Hour
	corners   = 240
	young     = 5 * time.Minute
	// drawn is how many groups are drawn if nobody says how many, mostDrawn how many at most.
	drawn     = 100
	mostDrawn = 500
	// told is of how many groups the board says what they need.
	told = 20
)

// Board says what matters now, of the groups that see lets pass; nil is all. Of all of them it tells the
// sum, of those in the page how they stand; that is all that is put together.
func (o *Overview) Board(ctx context.Context, see func(r directory.Record) bool, page listing.Page) (api.Board, error) {
	now := o.Clock.Now().UTC()
	b := api.Board{Site: o.Site, Groups: []api.BoardGroup{}, Needs: []api.Need{}, Headline: []api.Phrase{}, Links: o.Peering.Links()}
	page.Limit = cmp.Or(page.Limit, drawn)
	if page.Limit > mostDrawn {
		return b, problem.Invalid("limit", "The board draws 1 to %d groups at a time.", mostDrawn)
	}
	err := page.Check()
	if err != nil {
		return b, err
	}
	var all, living []*sight
	for _, r := range o.Groups.All() {
		if see == nil || see(r) {
			all = append(all, o.look(r))
		}
	}
	slices.SortStableFunc(all, worse)
	var ws []words.Group
	var needs []api.Need
	for _, x := range all {
		w := o.wordsOf(x)
		if !w.DeletedAt.IsZero() {
			b.Needs = append(b.Needs, api.Need{Group: &w.ID, State: "deletion", Title: fmt.Sprintf("%s of %s are to be deleted", words.Upper(words.Count(w.Points, "point")), w.Name), Text: o.show(x).Reasons[0], Action: "Keep them, or let them go", Href: "/groups/" + w.ID})
		}
		ws = append(ws, w)
		if w.Ended {
			continue
		}
		living = append(living, x)
		if w.Sealed && w.Exposure <= w.Target {
			b.Within++
		}
		switch x.state {
		case health.Over, health.Stalled, health.CutOff:
			b.Amiss++
		}
		if w.Needy() {
			if b.NeedsTotal++; len(needs) < told {
				w.Reasons = o.show(x).Reasons
				n, _ := w.Need()
				needs = append(needs, api.Need{Group: &n.Group, State: string(n.State), Title: n.Title, Text: n.Text, Action: "Look at the group", Href: "/groups/" + n.Group})
			}
		}
	}
	b.Total = len(living)
	for _, p := range words.Headline(ws, len(b.Links), now) {
		b.Headline = append(b.Headline, api.Phrase{Text: p.Text, Tone: api.PhraseTone(p.Tone)})
	}
	b.Dark = words.Dark(o.Site, ws)
	b.NeedsTotal += len(b.Needs)
	b.Needs = append(b.Needs, needs...) // nothing else cannot be made good
	more := func(n api.Need) { b.Needs, b.NeedsTotal = append(b.Needs, n), b.NeedsTotal+1 }
	if n, ok := o.Keeper.Filling(); ok {
		more(n)
	}
	for _, l := range b.Links {
		if n, ok := linkNeed(l); ok {
			more(n)
		}
	}
	b.Groups, err = o.strips(ctx, listing.Cut(living, page), now)
	return b, err
}

// strips shows groups with how their exposure went lately.
func (o *Overview) strips(ctx context.Context, of []*sight, now time.Time) ([]api.BoardGroup, error) {
	ids := make([]string, len(of))
	for i, x := range of {
		ids[i] = x.rec.ID
	}
	out := []api.BoardGroup{}
	arrivals, err := o.History.Strips(ctx, ids, now.Add(-stripSpan))
	if err != nil {
		return out, err
	}
	for _, x := range of {
		from := now.Add(-stripSpan)
		// A young group is drawn over its own life, so that its shape is seen.
		if life := now.Sub(x.rec.CreatedAt); life < stripSpan {
			from = now.Add(-max(life, young))
		}
		curve := exposure.Sawtooth(arrivals[x.rec.ID], from, now)
		out = append(out, api.BoardGroup{Group: o.show(x), Strip: history.Vertices(exposure.Thin(curve, corners)), StripFrom: from, StripTo: now})
	}
	return out, nil
}

// wordsOf is what the board's sentences are made of, but for the reasons.
func (o *Overview) wordsOf(x *sight) words.Group {
	w := words.Group{ID: x.rec.ID, Name: x.rec.Spec.Name, State: x.health(), Out: x.rec.Direction == directory.Out, Ended: x.rec.Direction == directory.Ended && !x.rec.Held(), Sealed: x.facts.Sealed, Exposure: x.facts.Exposure, Target: x.facts.Target,
		Points: x.hold.Points, Newest: x.hold.NewestAt, LostPoints: x.hold.Lost.Points, Held: x.rec.Held(), Twice: o.twice(x.rec)}
	if w.Ended {
		if d, ok := o.Keeper.Deletion(x.rec.ID); ok {
			w.DeletedAt = d.DueAt
		}
	}
	return w
}

// linkNeed is the first check of a link that fails, if one does.
func linkNeed(l api.Link) (api.Need, bool) {
	for _, c := range l.Checks {
		if c.Ok {
			continue
		}
		title := fmt.Sprintf("Link to %s: %s fails", l.Peer, strings.ToLower(c.Name[:1])+c.Name[1:])
		return api.Need{State: "link", Title: title, Text: words.Sentence(c.Note) + " " + *c.Mend, Action: "Look at the link", Href: "/sites?at=" + url.QueryEscape(l.ID)}, true
	}
	return api.Need{}, false
}
