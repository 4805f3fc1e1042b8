// Package readiness answers whether a group would recover right now, as it is: what would
// stop it, and what would go otherwise than it should.
package readiness

import (
	"cmp"
	"fmt"
	"slices"
	"strings"
	"time"

	"kestrel/internal/core/promise"
	"kestrel/internal/core/span"
	"kestrel/internal/core/words"
)

// Kinds of findings, by what they are about.
const (
	OfPoint       = "point"
	OfPlatform    = "platform"
	OfBerth       = "berth"
	OfMachines    = "machines"
	OfStart       = "start"
	OfRoom        = "room"
	OfCertificate = "certificate"
	OfClock       = "clock"
	OfBothSites   = "both sites"
	OfDrill       = "drill"
)

// Pages on which a finding is mended.
const (
	PageGroup     = "group"
	PageBerth     = "berth"
	PagePoints    = "points"
	PagePlatforms = "platforms"
	PageLandings  = "landings"
	PageSites     = "sites"
	PageStore     = "store"
)

// Finding is something that a recovery would run into.
type Finding struct {
	Kind string
	// Stops says that the group would not come up as a whole; if not, it would, but not as
	// it should.
	Stops   bool
	Machine string // empty: the group
	What    string
	Mend    string
	Page    string
}

// Key tells a finding from others, for as long as it is the same.
func (f Finding) Key() string {
	return strings.Join([]string{f.Kind, f.Machine, f.What}, "\x00")
}

// Facts is what is known of a group at its recovery site.
type Facts struct {
	Now      time.Time
	Home     string // the site that it is home at
	Machines []Machine
	Point    *Point // the newest; nil if there is none
	Platform Platform
	Berth    []promise.Finding
	// Refusals is why its machines could not be started now beside what the berth says, as
	// whoever starts them would be told.
	Refusals []string
	// Unreachable says why the platform's hosts could not read the disks of points; empty
	// if they can.
	Unreachable string
	// CertificateEnds is when that ends with which disks of points are served; zero if they
	// are served without.
	CertificateEnds time.Time
	Ahead           time.Duration // how far home's clock is ahead of ours
	// Here are machines that were made from its points and run here live.
	Here []string
	// Room is what the groups that arrive on the platform need together.
	Room []Shortage
	// DrillOverdue says that a drill of it is due; empty if none is.
	DrillOverdue string
}

// Machine is one of the group as home has it, or as a point has it.
type Machine struct {
	ID, Name string
	Disks    []Disk
}

// Disk is one of a machine.
type Disk struct {
	Key, Label string
	Size       int64
	Boot       bool
	Left       bool // it is not in points
}

// Point is the newest one.
type Point struct {
	Number   int64
	Kind     string // of platform that it is from; empty is not known
	Machines []Machine
	// Lost is bytes that cannot be read, by the names of machines.
	Lost map[string]int64
}

// Platform is the one that the group arrives on.
type Platform struct {
	Name  string // empty: none is chosen
	Kind  string
	Known bool // there is one of that name
	Up    bool
	Lands bool
}

// Shortage is something that does not suffice for all that arrive on a platform together.
type Shortage struct {
	Of         string // such as "memory of recovery"
	Need, Have int64  // bytes
}

const (
	certificateSoon = 14 * span.Day
	clocksApart     = 30 * time.Second
)

// Check lists the findings, those that stop a recovery first.
func Check(f Facts) []Finding {
	c := &check{Facts: f}
	c.point()
	c.platform()
	c.berth()
	c.machines()
	for _, why := range f.Refusals {
		c.stop(Finding{Kind: OfStart, Page: PageBerth, What: why, Mend: "Its machines would not be started until this is mended, in the group's berth or on the platform."})
	}
	for _, s := range f.Room {
		c.risk(Finding{Kind: OfRoom, Page: PageBerth, What: fmt.Sprintf("All groups that arrive on %s need %s of %s together, which has %s.", f.Platform.Name, span.Bytes(float64(s.Need)), s.Of, span.Bytes(float64(s.Have))),
			Mend: "Make room there, spread the groups over more, or give machines less in their berths."})
	}
	switch left := f.CertificateEnds.Sub(f.Now); {
	case f.CertificateEnds.IsZero():
	case left <= 0:
		c.stop(Finding{Kind: OfCertificate, Page: PageStore, What: "The certificate with which disks of points are served has ended, so no machine could read them.", Mend: "Put a new one into the folder of --nbd-certificates, and restart the service."})
	case left < certificateSoon:
		c.risk(Finding{Kind: OfCertificate, Page: PageStore, What: "The certificate with which disks of points are served ends on " + f.CertificateEnds.UTC().Format("2 January 2006") + ".", Mend: "Put a new one into the folder of --nbd-certificates, and restart the service."})
	}
	if f.Ahead.Abs() > clocksApart {
		c.risk(Finding{Kind: OfClock, Page: PageSites, What: fmt.Sprintf("The clocks of this site and of %s are %s apart.", f.Home, span.Format(f.Ahead.Abs())), Mend: "Let both follow a time server."})
	}
	for _, name := range f.Here {
		c.risk(Finding{Kind: OfBothSites, Machine: name, Page: PageLandings, What: fmt.Sprintf("%s, made from a point, runs here live, while %s is home of the group.", name, f.Home), Mend: "Remove it, unless that is meant."})
	}
	if f.DrillOverdue != "" {
		c.risk(Finding{Kind: OfDrill, Page: PageGroup, What: f.DrillOverdue, Mend: "Start a drill at the recovery site: nobody knows of a recovery that was not tried."})
	}
	slices.SortStableFunc(c.out, func(a, b Finding) int {
		return cmp.Compare(map[bool]int{true: 0, false: 1}[a.Stops], map[bool]int{true: 0, false: 1}[b.Stops])
	})
	return c.out
}

// Ready tells whether nothing stops a recovery.
func Ready(fs []Finding) bool {
	return !slices.ContainsFunc(fs, func(f Finding) bool { return f.Stops })
}

type check struct {
	Facts
	out []Finding
}

func (c *check) stop(f Finding) {
	f.Stops = true
	c.out = append(c.out, f)
}

func (c *check) risk(f Finding) { c.out = append(c.out, f) }

func (c *check) point() {
	p := c.Point
	if p == nil {
		c.stop(Finding{Kind: OfPoint, Page: PageGroup, What: "There is no point of it at its recovery site yet.", Mend: "Let its first copy be sealed; the group's page says what holds it up."})
		return
	}
	for _, m := range p.Machines {
		if lost := p.Lost[m.Name]; lost > 0 {
			c.stop(Finding{Kind: OfPoint, Machine: m.Name, Page: PagePoints, What: fmt.Sprintf("%s of the disks of %s cannot be read from point %d, the newest.", span.Bytes(float64(lost)), m.Name, p.Number),
				Mend: "Home sends what it still has by itself; else run a full comparison, or recover from an earlier point."})
		}
	}
}

func (c *check) platform() {
	p := c.Platform
	switch {
	case p.Name == "":
		c.stop(Finding{Kind: OfPlatform, Page: PageBerth, What: "No platform is chosen on which its machines arrive.", Mend: "Choose one in the group's berth, or in the default of the link."})
		return
	case !p.Known:
		return // the berth says so
	case !p.Up:
		// Why is nothing to the other site, which is told this.
		c.stop(Finding{Kind: OfPlatform, Page: PagePlatforms, What: p.Name + " cannot be reached.", Mend: "See to the platform, or to its credentials; its connection test says which step fails."})
	}
	if !p.Lands {
		c.stop(Finding{Kind: OfPlatform, Page: PageBerth, What: fmt.Sprintf("Machines cannot be started on %s, a platform of the kind %s.", p.Name, p.Kind), Mend: "Choose another platform in the group's berth."})
	} else if c.Point != nil && c.Point.Kind != "" && c.Point.Kind != p.Kind {
		c.stop(Finding{Kind: OfPlatform, Page: PageBerth, What: fmt.Sprintf("Its points are from a platform of the kind %s, and %s is of the kind %s.", c.Point.Kind, p.Name, p.Kind), Mend: "Choose a platform of the same kind in the group's berth."})
	}
	if c.Unreachable != "" {
		c.stop(Finding{Kind: OfPlatform, Page: PagePlatforms, What: fmt.Sprintf("The hosts of %s could not read disks of points: %s", p.Name, words.Sentence(c.Unreachable)), Mend: "See how points are served in the operations guide."})
	}
}

// berth takes over what is wrong with how machines arrive.
func (c *check) berth() {
	if c.Platform.Name == "" {
		return // it says no more than that
	}
	for _, x := range c.Berth {
		f := Finding{Kind: OfBerth, Page: PageBerth, What: x.Message, Mend: "Mend it in the group's berth.", Stops: !x.Warning}
		if rest, of := strings.CutPrefix(x.Field, "machines."); of {
			f.Machine, _, _ = strings.Cut(rest, ".")
			for _, m := range c.Machines { // whose name may have a dot in it
				if strings.HasPrefix(rest, m.Name+".") {
					f.Machine = m.Name
				}
			}
		}
		c.out = append(c.out, f)
	}
}

// machines compares the group with its newest point.
func (c *check) machines() {
	if c.Point == nil {
		return
	}
	const next = "The next cycle has it; ask for one if it is not to wait."
	for _, m := range c.Machines {
		at := slices.IndexFunc(c.Point.Machines, func(o Machine) bool { return o.ID == m.ID })
		add := func(stops bool, mend, format string, a ...any) {
			c.out = append(c.out, Finding{Kind: OfMachines, Stops: stops, Machine: m.Name, Page: PageGroup, What: fmt.Sprintf(format, a...), Mend: mend})
		}
		if at < 0 {
			add(true, next, "%s joined the group after point %d, the newest, which has nothing of it.", m.Name, c.Point.Number)
			continue
		}
		held := c.Point.Machines[at]
		if held.Name != m.Name {
			add(false, next, "%s was renamed: point %d has it as %s.", m.Name, c.Point.Number, held.Name)
		}
		for _, d := range m.Disks {
			at := slices.IndexFunc(held.Disks, func(o Disk) bool { return o.Key == d.Key })
			switch {
			case d.Left && d.Boot:
				add(true, "Take the disk in again on the group's page.", "%s starts from its disk %s, which is left out of points.", m.Name, d.Label)
			case d.Left:
			case at < 0:
				add(true, next, "%s has a disk %s that is not in point %d, the newest.", m.Name, d.Label, c.Point.Number)
			case held.Disks[at].Left:
				add(true, next, "Disk %s of %s was left out until now: point %d has nothing of it.", d.Label, m.Name, c.Point.Number)
			case d.Size > 0 && held.Disks[at].Size != d.Size:
				add(false, next, "Disk %s of %s was resized, from %s to %s, after point %d.", d.Label, m.Name, span.Bytes(float64(held.Disks[at].Size)), span.Bytes(float64(d.Size)), c.Point.Number)
			}
		}
	}
}
