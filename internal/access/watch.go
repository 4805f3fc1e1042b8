package access

import (
	"context"
	"errors"
	"slices"
	"sync"
	"time"

	"kestrel/internal/core/actor"
	"kestrel/internal/records"
)

// recheck is how often it is asked anew whether somebody may still, beside whenever
// something is revoked: sessions and tokens end by themselves, too.
const recheck = 20 * time.Second

// changes tells whoever waits that somebody may do something else than before.
type changes struct {
	mu   sync.Mutex
	next chan struct{}
}

// wait gives what is closed at the next change.
func (c *changes) wait() <-chan struct{} {
	c.mu.Lock()
	defer c.mu.Unlock()
	if c.next == nil {
		c.next = make(chan struct{})
	}
	return c.next
}

func (c *changes) tell() {
	c.mu.Lock()
	defer c.mu.Unlock()
	if c.next != nil {
		close(c.next)
		c.next = nil
	}
}

// revoked is called when somebody may do less than before: what they hold open ends.
func (a *Access) revoked(ctx context.Context) {
	a.changed.tell()
	if a.Revoked != nil {
		a.Revoked(context.WithoutCancel(ctx))
	}
}

// While gives a context that ends when a secret is no longer worth what it is worth
// now: it was revoked or ran out, or its person may do something else.
func (a *Access) While(ctx context.Context, secret string) (context.Context, context.CancelFunc) {
	changed := a.changed.wait()
	was, _, err := a.resolve(ctx, secret)
	ctx, cancel := context.WithCancel(ctx)
	if err != nil {
		cancel()
		return ctx, cancel
	}
	go func() {
		defer cancel()
		t := time.NewTicker(recheck)
		defer t.Stop()
		for {
			select {
			case <-ctx.Done():
				return
			case <-changed:
			case <-t.C:
			}
			changed = a.changed.wait()
			now, _, err := a.resolve(ctx, secret)
			if records.Away(err) {
				continue // nobody is revoked by a database that is away
			}
			if err != nil || !same(was, now) {
				return
			}
		}
	}()
	return ctx, cancel
}

func same(a, b actor.Actor) bool {
	return a.Role == b.Role && a.Held == b.Held && a.PersonID == b.PersonID && a.TokenID == b.TokenID && slices.Equal(a.Tags, b.Tags)
}

// Still gives a person as they are now, or a token of theirs; false if they may do
// nothing any more.
func (a *Access) Still(ctx context.Context, personID, tokenID string) (actor.Actor, bool, error) {
	p, err := a.db.Person(ctx, personID)
	if err != nil || p.Disabled {
		return actor.Actor{}, false, unlessGone(err)
	}
	if held, err := a.holds(ctx, p); err != nil || held != "" {
		return actor.Actor{}, false, err
	}
	if tokenID == "" {
		return actorOf(p, ""), true, nil
	}
	xs, err := a.db.Secrets(ctx, "token", a.clk.Now())
	at := slices.IndexFunc(xs, func(x records.Secret) bool { return x.ID == tokenID })
	if err != nil || at < 0 {
		return actor.Actor{}, false, err
	}
	return tokenActor(xs[at], p, ""), true, nil
}

// unlessGone is no error where something is just not there.
func unlessGone(err error) error {
	if errors.Is(err, records.ErrNotFound) {
		return nil
	}
	return err
}
