package libvirt

import (
	"context"
	"encoding/xml"
	"errors"
	"fmt"
	"strings"
	"sync"
	"time"

	rpc "github.com/digitalocean/go-libvirt"

	"kestrel/internal/platform"
)

// A machine that is held carries a mark in its own description, so that
// whoever comes after us, be it this service started again, finds out and lets
// it go: the mark is set before and removed after.
const (
	holdSpace   = "urn:kestrel-tide:hold"
	landedSpace = "urn:kestrel-tide:landed"
)

// hold is the mark.
type hold struct {
	XMLName    xml.Name  `xml:"urn:kestrel-tide:hold hold"`
	Checkpoint string    `xml:"checkpoint,attr"`
	Since      time.Time `xml:"since,attr"`
	Frozen     bool      `xml:"frozen,attr"`    // its guest may be frozen
	Suspended  bool      `xml:"suspended,attr"` // we may have suspended it
	// Started says that the machine was off and has been started, suspended,
	// only so that its disks can be read. It lasts until Release.
	Started bool `xml:"started,attr"`
}

func setMark(l *rpc.Libvirt, dom rpc.Domain, space, key string, mark any, flags rpc.DomainModificationImpact) error {
	text := rpc.OptString{}
	if mark != nil {
		b, err := xml.Marshal(mark)
		if err != nil {
			return err
		}
		text = rpc.OptString{string(b)}
	}
	return l.DomainSetMetadata(dom, int32(rpc.DomainMetadataElement), text, rpc.OptString{key}, rpc.OptString{space}, flags)
}

func clearMark(l *rpc.Libvirt, dom rpc.Domain, space string, flags rpc.DomainModificationImpact) error {
	err := l.DomainSetMetadata(dom, int32(rpc.DomainMetadataElement), rpc.OptString{}, rpc.OptString{}, rpc.OptString{space}, flags)
	if is(err, rpc.ErrNoDomainMetadata, rpc.ErrNoDomain, rpc.ErrOperationInvalid) {
		return nil
	}
	return err
}

// getMark reads the hold mark of a machine; nil if there is none.
func getMark(l *rpc.Libvirt, dom rpc.Domain) (*hold, error) {
	text, err := l.DomainGetXMLDesc(dom, 0)
	if err != nil {
		return nil, err
	}
	x, err := parseDomain(text)
	if err != nil {
		return nil, err
	}
	return x.Metadata.Hold, nil
}

// held is a machine on its way through a capture.
type held struct {
	id         string
	h          *host
	dom        rpc.Domain
	checkpoint string // it is held for
	x          *domainXML
	running    bool // its guest runs and could write
	started    bool // by us, suspended, to read its disks

	announced bool // it carries the mark, and the guard knows
	freezes   bool // through its agent
	frozen    bool
	suspended bool
	since     time.Time // when its guest may first have noticed
	quiet     platform.Quiet
	rest      platform.Rest // how its guest is brought to rest
	asked     bool          // the command before was begun, so that the one after is due
	unfit     string        // why it is not brought to rest after all
	plan      plan
	unsure    bool // a request to hold it was not answered, and may yet be served
}

// freezeSlack is what the agent's answer may take longer than the limit.
const freezeSlack = 3 * time.Second

// still brings machines to rest: those of quiesce through their agents, the
// others by suspending them if all have to be still together. A machine whose
// agent fails counts as one of the others. What is quick comes last, so that
// nobody waits longer than needed.
func (d *Driver) still(ctx context.Context, r platform.CaptureRequest, all []*held, together bool) error {
	if err := each(all, func(m *held) error {
		_, quiesce := r.Resting(m.id)
		return d.announce(ctx, r.Name, m, quiesce, together)
	}); err != nil {
		return err
	}
	_ = each(all, func(m *held) error {
		if !m.freezes {
			return nil
		}
		m.since = d.now()
		if err := d.freeze(ctx, m); err != nil {
			m.unsure, m.quiet.Why = true, err.Error()
		} else {
			m.frozen, m.quiet.Done = true, true
		}
		m.quiet.Took += d.now().Sub(m.since)
		return nil
	})
	return each(all, func(m *held) error {
		if !m.running || !together || m.quiet.Done {
			return nil
		}
		if m.since.IsZero() {
			m.since = d.now()
		}
		m.quiet.Machine, m.suspended = m.id, true
		if err := do(ctx, m.h, callLimit, func(l *rpc.Libvirt) error { return l.DomainSuspend(m.dom) }); err != nil {
			m.unsure = true
			return fmt.Errorf("suspend machine %s: %w", m.x.Name, err)
		}
		return nil
	})
}

// announce marks a machine that is about to be held and tells the guard.
func (d *Driver) announce(ctx context.Context, checkpoint string, m *held, quiesce, together bool) error {
	if !m.running || !quiesce && !together {
		return nil
	}
	if quiesce {
		m.quiet = platform.Quiet{Machine: m.id, Why: m.unfit, Took: m.quiet.Took}
		if m.quiet.Why == "" {
			m.quiet.Why = m.cannotFreeze()
		}
		m.freezes = m.quiet.Why == ""
		if !m.freezes && !together {
			return nil
		}
	}
	m.checkpoint = checkpoint
	mark := hold{Checkpoint: checkpoint, Since: d.now().UTC(), Frozen: m.freezes, Suspended: together}
	m.announced = true
	d.noteHeld(m.dom, true)
	if err := do(ctx, m.h, callLimit, func(l *rpc.Libvirt) error {
		return setMark(l, m.dom, holdSpace, "kestrel", mark, rpc.DomainAffectLive)
	}); err != nil {
		return fmt.Errorf("note on machine %s that it is held: %w", m.x.Name, err)
	}
	if err := d.guard.tell(order{Op: "hold", URI: m.h.uri.String(), Machine: m.id, Checkpoint: checkpoint, Frozen: m.freezes, Suspended: together, Limit: d.restLimit(m) + holdLimit}); err != nil {
		return fmt.Errorf("guard machine %s while it is held: %w", m.x.Name, err)
	}
	return nil
}

// cannotFreeze says why a guest's file systems cannot be asked to rest.
func (m *held) cannotFreeze() string {
	switch channel, connected := m.x.agent(); {
	case !channel:
		return "it has no channel for a guest agent"
	case !connected:
		return "its guest agent does not run"
	}
	return ""
}

func (d *Driver) freeze(ctx context.Context, m *held) error {
	m.frozen = true // perhaps, from here on, also if nobody answers in time
	limit := d.restLimit(m)
	return do(ctx, m.h, limit+freezeSlack, func(l *rpc.Libvirt) error {
		if _, err := l.DomainAgentSetResponseTimeout(m.dom, int32(limit/time.Second), 0); err != nil {
			return fmt.Errorf("limit the time of the guest agent: %w", err)
		}
		if err := ctx.Err(); err != nil {
			return err // too late: it may have been let go already
		}
		_, err := l.DomainFsfreeze(m.dom, nil, 0)
		switch {
		case is(err, rpc.ErrAgentUnresponsive, rpc.ErrAgentCommandTimeout, rpc.ErrAgentUnsynced):
			return fmt.Errorf("its guest agent did not answer within %s", limit)
		case err != nil:
			return fmt.Errorf("its guest agent refused: %w", err)
		}
		return nil
	})
}

// goOn lets machines run again. It never gives up on one: what cannot be let
// go now is tried again in the background, by us and by the guard.
func (d *Driver) goOn(all []*held) {
	// The request may be over; this must happen all the same.
	ctx, cancel := context.WithTimeout(context.Background(), d.freezeLimit+freezeSlack)
	defer cancel()
	_ = each(all, func(m *held) error {
		if !m.announced {
			return nil
		}
		r := rest{h: m.h, dom: m.dom, checkpoint: m.checkpoint, frozen: m.frozen, suspended: m.suspended, known: true}
		err := r.end(ctx)
		if m.quiet.Machine != "" && !m.since.IsZero() {
			m.quiet.Held = d.now().Sub(m.since)
		}
		if err != nil {
			d.log.Warn("a machine could not be let go yet", "machine", m.x.Name, "err", err)
		}
		if err != nil || m.unsure {
			d.background(func(ctx context.Context) {
				if d.insist(ctx, r) {
					d.noteHeld(m.dom, false)
					_ = d.guard.release(m.h, m.id)
				}
			})
			return nil
		}
		d.noteHeld(m.dom, false)
		return d.guard.release(m.h, m.id)
	})
}

// insist tries to let a machine go until it succeeds or the machine is gone.
func (d *Driver) insist(ctx context.Context, r rest) bool {
	for {
		if err := r.endSurely(ctx); err == nil {
			d.log.Info("the machine goes on", "machine", r.dom.Name)
			return true
		}
		select {
		case <-ctx.Done():
			return false
		case <-time.After(time.Second):
		}
	}
}

// rest is the state that a hold brings a machine to.
type rest struct {
	h          *host
	dom        rpc.Domain
	checkpoint string // whose hold it is
	frozen     bool
	suspended  bool
	known      bool // held by this service for certain, whether or not the mark is still there
}

// errNotOurs says that a machine is not, or no longer, held for this checkpoint.
var errNotOurs = errors.New("not held for this checkpoint")

// end lets a machine run and write, and removes the mark once that is certain.
// One that has stopped is not held by anybody.
func (r rest) end(ctx context.Context) error {
	if err := r.loosen(ctx); err != nil {
		if errors.Is(err, errNotOurs) {
			return nil
		}
		return err
	}
	return do(ctx, r.h, callLimit, func(l *rpc.Libvirt) error { return clearMark(l, r.dom, holdSpace, rpc.DomainAffectLive) })
}

// overtaken is how long a request to hold a machine may stay unserved in the
// daemon after its client is gone, or has given up on it.
const overtaken = 8 * time.Second

// endSurely is end for where the request to hold may come after the one to let
// go: it looks again and again until that can no longer be. The mark stays until
// then, and nobody begins another hold while there is one.
func (r rest) endSurely(ctx context.Context) error {
	for until := time.Now().Add(overtaken); ; {
		err := r.loosen(ctx)
		if errors.Is(err, errNotOurs) {
			return nil
		}
		if err == nil && time.Now().After(until) {
			return r.end(ctx)
		}
		select {
		case <-ctx.Done():
			return errors.Join(err, ctx.Err())
		case <-time.After(200 * time.Millisecond):
		}
	}
}

// loosen resumes and thaws a machine, if it was suspended or frozen.
func (r rest) loosen(ctx context.Context) error {
	dom := r.dom
	return do(ctx, r.h, callLimit, func(l *rpc.Libvirt) error {
		mark, err := getMark(l, dom)
		if is(err, rpc.ErrNoDomain) {
			return nil
		}
		if err != nil {
			return err
		}
		// Whoever comes late must not end somebody else's hold.
		if mark == nil && !r.known || mark != nil && mark.Checkpoint != r.checkpoint {
			return errNotOurs
		}
		state, reason, err := l.DomainGetState(dom, 0)
		if is(err, rpc.ErrNoDomain) || err == nil && power(state) == platform.PowerOff {
			return nil
		}
		if err != nil {
			return err
		}
		if r.suspended && state == int32(rpc.DomainPaused) && reason == int32(rpc.DomainPausedUser) {
			if err := l.DomainResume(dom); err != nil {
				return fmt.Errorf("resume: %w", err)
			}
		}
		if r.frozen {
			// The agent takes commands in order, so that an answer to this one
			// also says that a freeze which came too late has been undone.
			if _, err := l.DomainFsthaw(dom, nil, 0); err != nil && !is(err, rpc.ErrNoDomain) {
				return fmt.Errorf("thaw: %w", err)
			}
		}
		return nil
	})
}

// strangersLimit is how long another service's hold may last before it is taken
// for left behind.
const strangersLimit = 2 * time.Minute

// leftBehind tells of a mark whether nobody who lives holds its machine: it is of
// this service before it was killed, or of one that is gone for good.
func (d *Driver) leftBehind(mark *hold) bool {
	return strings.HasPrefix(mark.Checkpoint, d.owner) || d.now().Sub(mark.Since) >= strangersLimit
}

// settle lets go of machines that carry a mark of nobody. What the one who is
// gone asked for last may still come, so that it takes some time, in the
// background.
func (d *Driver) settle(ctx context.Context) {
	for _, h := range d.hosts {
		_ = do(ctx, h, callLimit, func(l *rpc.Libvirt) error {
			domains, _, err := l.ConnectListAllDomains(1, rpc.ConnectListDomainsActive)
			if err != nil {
				return err // asked again with the next inventory
			}
			for _, dom := range domains {
				mark, err := getMark(l, dom)
				if err != nil || mark == nil || mark.Started || !d.leftBehind(mark) || !d.takeHeld(dom) {
					continue
				}
				d.background(func(ctx context.Context) {
					defer d.noteHeld(dom, false)
					d.insist(ctx, rest{h: h, dom: dom, checkpoint: mark.Checkpoint, frozen: mark.Frozen, suspended: mark.Suspended})
				})
			}
			return nil
		})
	}
}

// unheld waits until nothing of an earlier hold is left on a machine, so that
// whoever still lets go of it does not end ours.
func (d *Driver) unheld(ctx context.Context, l *rpc.Libvirt, dom rpc.Domain) error {
	for deadline := time.Now().Add(overtaken + callLimit); ; {
		mark, err := getMark(l, dom)
		if err != nil {
			return fmt.Errorf("machine %s: %w", dom.Name, err)
		}
		if mark == nil || mark.Started {
			return nil
		}
		if !d.leftBehind(mark) || time.Now().After(deadline) {
			return fmt.Errorf("machine %s is held for another capture (%s) at this moment", dom.Name, mark.Checkpoint)
		}
		d.settle(ctx)
		select {
		case <-ctx.Done():
			return ctx.Err()
		case <-time.After(500 * time.Millisecond):
		}
	}
}

// each runs f for all at the same time.
func each[T any](all []T, f func(T) error) error {
	errs := make([]error, len(all))
	var wg sync.WaitGroup
	for n, x := range all {
		wg.Go(func() { errs[n] = f(x) })
	}
	wg.Wait()
	return errors.Join(errs...)
}
