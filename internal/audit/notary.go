package audit

import (
	"bytes"
	"context"
	"fmt"
	"sync"
	"time"

	"kestrel/internal/clock"
	"kestrel/internal/core/actor"
	"kestrel/internal/core/chain"
	"kestrel/internal/core/span"
	"kestrel/internal/records"
)

// Ledger is where the chain of lines and its heads are kept; *records.DB is one.
type Ledger interface {
	TrailEnd(ctx context.Context) (records.TrailEnd, error)
	Trail(ctx context.Context, after int64, limit int) ([]records.Activity, error)
	Unchained(ctx context.Context) (int64, error)
	AddTrailHead(ctx context.Context, h records.TrailHead) error
	TrailHeads(ctx context.Context, site string) ([]records.TrailHead, error)
}

// Signer makes heads with the site's key, and tells whether one was made with it.
type Signer interface {
	SignHead(number int64, hash []byte, at time.Time) chain.Head
	Signed(h chain.Head) bool
}

// Notary signs the newest line of the trail now and then, keeps what other sites signed
// of theirs, and holds the trail against all of that.
type Notary struct {
	Site   string // ID of this site
	Name   string
	Ledger Ledger
	Signer Signer
	Trail  *Trail
	Clock  clock.Clock

	mu    sync.Mutex
	known map[string]chain.Head // the newest of each site, as far as it was looked up
}

// remember keeps what is told and heard with every beat from being looked up each time.
func (n *Notary) remember(site string, h chain.Head) {
	n.mu.Lock()
	defer n.mu.Unlock()
	if n.known == nil {
		n.known = map[string]chain.Head{}
	}
	n.known[site] = h
}

func (n *Notary) remembered(site string) (chain.Head, bool) {
	n.mu.Lock()
	defer n.mu.Unlock()
	h, ok := n.known[site]
	return h, ok
}

// signEvery is how often the newest line is signed.
const signEvery = span.Day

// Sign signs the newest line if that is due.
func (n *Notary) Sign(ctx context.Context) error {
	heads, err := n.Ledger.TrailHeads(ctx, n.Site)
	if err != nil {
		return err
	}
	end, err := n.Ledger.TrailEnd(ctx)
	if err != nil {
		return err
	}
	now := n.Clock.Now()
	if end.Number == 0 || len(heads) > 0 && (heads[0].Number >= end.Number || now.Sub(heads[0].At) < signEvery) {
		return nil
	}
	h := n.Signer.SignHead(end.Number, end.Hash, now)
	if err := n.Ledger.AddTrailHead(ctx, records.TrailHead{Site: n.Site, Number: h.Number, Hash: h.Hash, At: h.At, Signature: h.Signature}); err != nil {
		return err
	}
	n.remember(n.Site, h)
	return nil
}

// Newest is the head that was signed last; nil if there is none.
func (n *Notary) Newest(ctx context.Context) (*chain.Head, error) {
	if h, ok := n.remembered(n.Site); ok {
		return &h, nil
	}
	heads, err := n.Held(ctx, n.Site)
	if err != nil || len(heads) == 0 {
		return nil, err
	}
	n.remember(n.Site, heads[0])
	return &heads[0], nil
}

// Held lists the heads that are kept here of a site's trail, newest first.
func (n *Notary) Held(ctx context.Context, site string) ([]chain.Head, error) {
	recs, err := n.Ledger.TrailHeads(ctx, site)
	if err != nil {
		return nil, err
	}
	out := []chain.Head{}
	for _, r := range recs {
		out = append(out, chain.Head{Number: r.Number, Hash: r.Hash, At: r.At, Signature: r.Signature})
	}
	return out, nil
}

// Heard keeps a head of another site's trail, whose signature has been checked. One that
// contradicts what that site said before is told of here: its trail was written anew.
func (n *Notary) Heard(ctx context.Context, site, name string, h chain.Head) error {
	if x, ok := n.remembered(site); ok && x.Number == h.Number && bytes.Equal(x.Hash, h.Hash) {
		return nil
	}
	held, err := n.Held(ctx, site)
	if err != nil {
		return err
	}
	n.remember(site, h)
	for i, x := range held {
		switch {
		case x.Number == h.Number && bytes.Equal(x.Hash, h.Hash):
			return nil
		case x.Number == h.Number, i == 0 && x.Number > h.Number && h.At.After(x.At):
			n.Trail.Note(ctx, actor.System(), Object{Kind: "link", Name: name}, "%s signs another trail than before: line %d is not, or no more, the one of %s. Look at its audit trail.", name, x.Number, x.At.UTC().Format(time.RFC3339))
			return nil
		}
	}
	return n.Ledger.AddTrailHead(ctx, records.TrailHead{Site: site, Number: h.Number, Hash: h.Hash, At: h.At, Signature: h.Signature})
}

// Witness is another site that was asked what it holds of this one's trail.
type Witness struct {
	Name  string
	Heads []chain.Head
	Err   error
}

// Verdict is what a trail was found to be.
type Verdict struct {
	Lines     int64 // that follow from one another
	Unchained int64 // from before there was a chain
	Heads     int   // signed by this site, and held here
	Faults    []string
}

// batch is how many lines are read at once.
const batch = 5000

// Verify goes through all of the trail, and holds it against what this site signed and
// what others hold of that.
func (n *Notary) Verify(ctx context.Context, witnesses []Witness) (Verdict, error) {
	var v Verdict
	own, err := n.Held(ctx, n.Site)
	if err != nil {
		return v, err
	}
	v.Heads = len(own)
	var held []chain.Held
	take := func(by string, heads []chain.Head) {
		for _, h := range heads {
			if !n.Signer.Signed(h) {
				v.Faults = append(v.Faults, fmt.Sprintf("What %s holds of line %d is not signed by this site's key.", by, h.Number))
				continue
			}
			held = append(held, chain.Held{Head: h, By: by})
		}
	}
	take(n.Name, own)
	for _, w := range witnesses {
		take(w.Name, w.Heads)
	}
	// What is written meanwhile is not waited for: the end is what it was at first.
	end, err := n.Ledger.TrailEnd(ctx)
	if err != nil {
		return v, err
	}
	if v.Unchained, err = n.Ledger.Unchained(ctx); err != nil {
		return v, err
	}
	check := chain.New(held)
	for check.Lines < end.Number {
		lines, err := n.Ledger.Trail(ctx, check.Lines, int(min(batch, end.Number-check.Lines)))
		if err != nil {
			return v, err
		}
		if len(lines) == 0 {
			break
		}
		for _, l := range lines {
			check.Add(l.Chained(*l.Number))
		}
	}
	check.End(end.Number, end.Hash)
	v.Lines, v.Faults = check.Lines, append(v.Faults, check.Faults...)
	return v, nil
}
