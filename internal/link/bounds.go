package link

import (
	"net/http"
	"slices"
	"strings"
	"time"
	"unicode/utf8"

	"kestrel/internal/core/group"
	"kestrel/internal/core/ident"
	"kestrel/internal/cycle"
	"kestrel/internal/points"
	"kestrel/internal/problem"
)

// A peer is paired, not trusted: what it says has bounds, so that one that was taken
// over, or fails, costs this site neither memory nor sense.
const (
	maxGroups    = 10_000    // in one beat
	maxSettings  = 256 << 10 // bytes of a group's specification
	maxMark      = 100       // bytes of what changes with a list
	maxConfig    = 1 << 20   // bytes of a machine's configuration
	maxDisks     = 2048      // of a cycle
	maxCycleSize = 256 << 40 // bytes of a cycle's disks together
	maxText      = 500       // characters that are shown
	maxKey       = 200       // characters of what names a thing
	maxCycles    = 20        // of a group, in a report
	// earliest and latest are of captures: before the one year no site ran, and no clock
	// is further ahead than the other, beside what the link measured.
	earliest = 1990
	latest   = time.Minute
)

func refuse(what, format string, a ...any) error {
	p := problem.Invalid(what, format, a...)
	p.Title = "Not accepted by the other site"
	return p
}

// name refuses what cannot name a thing.
func name(what, text string) error {
	if utf8.RuneCountInString(text) > maxKey || group.CheckName(text, maxKey) != "" {
		return refuse(what, "A name here has 1 to %d characters that can be seen.", maxKey)
	}
	return nil
}

// shown is a text that a peer wants people to read, on one line and of some length.
func shown(text string) string {
	text = strings.Map(func(r rune) rune {
		if _, unseen := ident.Unseen(string(r)); unseen {
			return ' '
		}
		return r
	}, text)
	if n := []rune(text); len(n) > maxText {
		text = string(n[:maxText]) + "…"
	}
	return text
}

// CheckBeat refuses a beat that no site of this product sends.
func CheckBeat(b Beat) error {
	if len(b.Groups) > maxGroups || len(b.Ended) > maxGroups || len(b.Turns) > maxGroups {
		return refuse("groups", "A beat tells of at most %d groups.", maxGroups)
	}
	if len(b.Epoch) > maxMark {
		return refuse("epoch", "It has at most %d bytes.", maxMark)
	}
	return nil
}

// maxTerm bounds a group's term: nobody turns it that often.
const maxTerm = 1 << 40

// CheckTurn refuses what cannot be told of a group's turn.
func CheckTurn(t Turn) error {
	if !ident.UUID(t.Group) || t.Term <= 0 || t.Term > maxTerm {
		return refuse("turns", "A turn names a group and a term.")
	}
	return nil
}

// CheckReport refuses what cannot be a group's report.
func CheckReport(r GroupReport) error {
	switch {
	case !ident.UUID(r.ID):
		return refuse("id", "A group is named by a UUID.")
	case len(r.Settings) > maxSettings:
		return refuse("settings", "A specification has at most %d bytes.", maxSettings)
	case r.Term < 0 || r.Term > maxTerm || r.Revision < 0:
		return refuse("revision", "Terms and revisions count from 1.")
	case len(r.EarlierMark) > maxMark:
		return refuse("earlierMark", "It has at most %d bytes.", maxMark)
	}
	return nil
}

// CheckHandOver refuses what no site of this product asks for.
func CheckHandOver(h HandOver) error {
	switch {
	case !slices.Contains([]string{Look, Cycle, ShutDown, SwitchOff, Cede, Resume}, h.Action):
		return refuse("action", "%q is not known.", shown(h.Action))
	case len(h.Machines) > group.MaxMachines:
		return refuse("machines", "A group has at most %d machines.", group.MaxMachines)
	case h.Term < 0 || h.Term > maxTerm:
		return refuse("term", "Terms count from 1, and not so far.")
	}
	return nil
}

// Bounded is what is kept of what home sees of a group.
func (l Live) Bounded() Live {
	l.Failure, l.HomePointsFailure = shown(l.Failure), shown(l.HomePointsFailure)
	if len(l.Backlog) > group.MaxMachines {
		l.Backlog, l.BacklogKnown = nil, false
	}
	l.Cycles = l.Cycles[:min(len(l.Cycles), maxCycles)]
	for i := range l.Cycles {
		c := &l.Cycles[i]
		c.Error, c.Note, c.Why, c.Kind, c.State = shown(c.Error), shown(c.Note), shown(c.Why), shown(c.Kind), shown(c.State)
		c.Quiet = c.Quiet[:min(len(c.Quiet), group.MaxMachines)]
		for j := range c.Quiet {
			c.Quiet[j].Why = shown(c.Quiet[j].Why)
		}
		c.Phases = c.Phases[:min(len(c.Phases), maxCycles)]
	}
	if p := l.Running; p != nil {
		p.Note, p.Phase, p.Kind = shown(p.Note), shown(p.Phase), shown(p.Kind)
		p.Phases, p.Quiet = p.Phases[:min(len(p.Phases), maxCycles)], p.Quiet[:min(len(p.Quiet), group.MaxMachines)]
	}
	return l
}

// CheckOpen refuses a cycle whose disks cannot be.
func CheckOpen(q cycle.OpenRequest) error {
	if !ident.UUID(q.ID) || !ident.UUID(q.Group.ID) {
		return refuse("id", "Cycles and groups are named by UUIDs.")
	}
	if len(q.Group.Settings) > maxSettings {
		return refuse("group", "A specification has at most %d bytes.", maxSettings)
	}
	if n := len(q.Disks); n == 0 || n > maxDisks {
		return refuse("disks", "A cycle has 1 to %d disks, not %d.", maxDisks, n)
	}
	seen := map[[2]string]bool{}
	var total int64
	for _, d := range q.Disks {
		if err := name("disks", d.Machine); err != nil {
			return err
		}
		if err := name("disks", d.Key); err != nil {
			return err
		}
		k := [2]string{d.Machine, d.Key}
		switch {
		case seen[k]:
			return refuse("disks", "Disk %s of %s is named twice.", d.Key, d.Machine)
		case d.Size <= 0 || d.Size > points.MaxDisk:
			return refuse("disks", "Disk %s of %s: %d bytes are not possible.", d.Key, d.Machine, d.Size)
		}
		seen[k] = true
		if total += d.Size; total > maxCycleSize {
			return refuse("disks", "The disks of a cycle have at most %d bytes together.", int64(maxCycleSize))
		}
	}
	return nil
}

// CheckSeal refuses a point that cannot be, at now of this site's clock, of which the
// other one is ahead by so much.
func CheckSeal(x points.Seal, now time.Time, ahead time.Duration) error {
	at := x.CaptureAt.Add(-ahead)
	switch {
	case at.Year() < earliest || at.After(now.Add(latest)):
		return refuse("captureAt", "A point captured at %s cannot be: it is %s here. Set both clocks by NTP.", at.UTC().Format(time.RFC3339), now.UTC().Format(time.RFC3339))
	case len(x.Unusual) > 500:
		return refuse("unusual", "What is unusual is said in 500 bytes at most.")
	case x.Consistency != "crash" && x.Consistency != "application":
		return refuse("consistency", "A point is crash- or application-consistent.")
	case len(x.Checkpoint) > maxKey:
		return refuse("checkpoint", "A checkpoint is named by at most %d bytes.", maxKey)
	case len(x.Machines) > group.MaxMachines:
		return refuse("machines", "A point has at most %d machines.", group.MaxMachines)
	case min(x.UsedBytes, x.ChangedBytes, x.ShippedBytes) < 0:
		return refuse("bytes", "Bytes are counted from 0.")
	}
	for _, m := range x.Machines {
		if err := name("machines", m.Name); err != nil {
			return err
		}
		if len(m.Config) > maxConfig {
			return refuse("machines", "The configuration of %s has more than %d bytes.", m.Name, maxConfig)
		}
	}
	return nil
}

// TooMuch refuses more than a link may take here.
func TooMuch(format string, a ...any) error {
	p := problem.Conflict(format, a...)
	p.Status, p.Title = http.StatusInsufficientStorage, "More than this link may take at the other site"
	return p
}
