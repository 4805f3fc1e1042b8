package overview

import (
	"context"
	"fmt"
	"net/url"
	"strings"
	"time"

	"kestrel/internal/api"
	"kestrel/internal/core/exposure"
	"kestrel/internal/core/health"
	"kestrel/internal/core/words"
	"kestrel/internal/directory"
	"kestrel/internal/history"
)

const (
	// stripSpan is how far back the board draws, corners how finely.
	stripSpan = 6 * time.Hour
	corners   = 400
	young     = 5 * time.Minute
)

// Board says what matters now, of the groups that see lets pass.
func (o *Overview) Board(ctx context.Context, see func(r directory.Record) bool) (api.Board, error) {
	now := o.Clock.Now().UTC()
	b := api.Board{Site: o.Site, Groups: []api.BoardGroup{}, Needs: []api.Need{}, Headline: []api.Phrase{}, Links: o.Peering.Links()}
	arrivals, err := o.History.Strips(ctx, now.Add(-stripSpan))
	if err != nil {
		return b, err
	}
	groups, _, err := o.List(Filter{See: see})
	if err != nil {
		return b, err
	}
	var ws []words.Group
	var deletions []api.Need
	for _, g := range groups {
		ws = append(ws, wordsOf(g))
		if d := g.Deletion; d != nil {
			deletions = append(deletions, api.Need{Group: &g.ID, State: "deletion", Title: fmt.Sprintf("%s of %s are to be deleted", words.Upper(words.Count(g.Points, "point")), g.Name), Text: g.Reasons[0], Action: "Keep them, or let them go", Href: "/groups/" + g.ID})
		}
		if g.Direction == api.Ended {
			continue
		}
		from := now.Add(-stripSpan)
		// A young group is drawn over its own life, so that its shape is seen.
		if life := now.Sub(g.CreatedAt); life < stripSpan {
			from = now.Add(-max(life, young))
		}
		curve := exposure.Sawtooth(arrivals[g.ID], from, now)
		b.Groups = append(b.Groups, api.BoardGroup{Group: g, Strip: history.Vertices(exposure.Thin(curve, corners)), StripFrom: from, StripTo: now})
	}
	for _, p := range words.Headline(ws, len(b.Links), now) {
		b.Headline = append(b.Headline, api.Phrase{Text: p.Text, Tone: api.PhraseTone(p.Tone)})
	}
	b.Dark = words.Dark(o.Site, ws)
	b.Needs = append(b.Needs, deletions...) // nothing else cannot be made good
	for _, n := range words.Needs(ws) {
		b.Needs = append(b.Needs, api.Need{Group: &n.Group, State: string(n.State), Title: n.Title, Text: n.Text, Action: "Look at the group", Href: "/groups/" + n.Group})
	}
	if n, ok := o.Keeper.Filling(); ok {
		b.Needs = append(b.Needs, n)
	}
	for _, l := range b.Links {
		if n, ok := linkNeed(l); ok {
			b.Needs = append(b.Needs, n)
		}
	}
	return b, nil
}

func wordsOf(g api.Group) words.Group {
	w := words.Group{ID: g.ID, Name: g.Name, State: health.State(g.Health), Out: g.Direction == api.Out, Ended: g.Direction == api.Ended, Points: g.Points, LostPoints: g.LostPoints, Reasons: g.Reasons,
		Target: time.Duration(g.Promise.RpoTargetSeconds) * time.Second}
	if g.Deletion != nil {
		w.DeletedAt = g.Deletion.GoAt
	}
	if g.ExposureSeconds != nil {
		w.Sealed, w.Exposure = true, time.Duration(*g.ExposureSeconds)*time.Second
	}
	if g.NewestCaptureAt != nil {
		w.Newest = *g.NewestCaptureAt
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
