package group

import (
	"fmt"
	"slices"
	"strings"
	"time"

	"kestrel/internal/core/ladder"
	"kestrel/internal/core/scope"
	"kestrel/internal/core/span"
)

// Limits of what is chosen for a machine.
const (
	MaxCommand   = 500 // characters
	MinRestLimit = time.Second
	MaxRestLimit = time.Minute
	MaxRestNth   = 1000
	MaxDisks     = 64 // of a machine, that can be left out
)

// Machine is a machine of a group, and what was chosen for it.
type Machine struct {
	ID   string // on the platform
	Name string
	// ByRule says that it joined by the group's rule and not by hand.
	ByRule bool
	Disks  []Disk // as they were last seen; none of a group of older days whose machine was not seen since
	Rest   Rest
}

// Disk is a disk of a machine as it was last seen, and whether it is copied.
type Disk struct {
	Key       string // stable within the machine
	Label     string
	SizeBytes int64
	Boot      bool // the machine starts from it
	// LeftOut disks are not copied; where the machine is started from a point, they
	// are made empty.
	LeftOut bool
}

// NewDisks says what becomes of a disk that is added to a machine of a group.
type NewDisks string

// What becomes of new disks.
const (
	CopyNew NewDisks = "copy" // they are copied from the next cycle on, and the trail says so
	FlagNew NewDisks = "flag" // they are not, and the group says so until somebody decides
)

// Mode is how much it matters that a guest's file systems are at rest.
type Mode string

// The modes.
const (
	RestOff      Mode = "off"
	RestTry      Mode = "try"      // if it fails, the machine is captured as it is, and the point says so
	RestRequired Mode = "required" // if it fails, there is no point
)

// Rest is how a machine's guest is brought to rest (quiesced) for a capture. The zero
// value is not at all.
type Rest struct {
	Mode Mode
	// Limit is how long its guest may take to come to rest; zero is what the
	// platform does by itself.
	Limit time.Duration
	// Nth is of how many captures one is done at rest; 0 and 1 are each.
	Nth int
	// Before and After are commands that the guest's agent runs, before its file
	// systems are brought to rest and after they are let go.
	Before, After string
}

// On tells whether its guest is ever brought to rest.
func (r Rest) On() bool { return r.Mode == RestTry || r.Mode == RestRequired }

// At tells whether it is for the capture of a number, from 0 on; the first is.
func (r Rest) At(turn int64) bool {
	return r.On() && (r.Nth <= 1 || turn%int64(r.Nth) == 0)
}

// String says it in words.
func (r Rest) String() string {
	if !r.On() {
		return "off"
	}
	out := []string{string(r.Mode)}
	if r.Limit > 0 {
		out = append(out, "within "+span.Format(r.Limit))
	}
	if r.Nth > 1 {
		out = append(out, fmt.Sprintf("at one of %d captures", r.Nth))
	}
	if r.Before != "" {
		out = append(out, fmt.Sprintf("before: %s", r.Before))
	}
	if r.After != "" {
		out = append(out, fmt.Sprintf("after: %s", r.After))
	}
	return strings.Join(out, ", ")
}

func (r Rest) check(fault func(what, format string, a ...any)) {
	if !slices.Contains([]Mode{"", RestOff, RestTry, RestRequired}, r.Mode) {
		fault("mode", "%q is none of off, try, required.", r.Mode)
	}
	if r.Limit != 0 && (r.Limit < MinRestLimit || r.Limit > MaxRestLimit) {
		fault("limitSeconds", "A guest gets from %s to %s to come to rest; 0 is what the platform gives.", span.Format(MinRestLimit), span.Format(MaxRestLimit))
	}
	if r.Nth < 0 || r.Nth > MaxRestNth {
		fault("everyNth", "Every 1st to every %dth capture is done at rest.", MaxRestNth)
	}
	for what, c := range map[string]string{"before": r.Before, "after": r.After} {
		if c != "" && CheckName(c, MaxCommand) != "" {
			fault(what, "A command is one line of at most %d characters.", MaxCommand)
		}
	}
}

// Rule lets machines join a group by themselves.
type Rule struct {
	Match scope.Match
	Order int // of several rules that match a machine the one with the lowest counts
}

// String says it in words; nil is none.
func (r *Rule) String() string {
	if r == nil {
		return "none"
	}
	return fmt.Sprintf("%s (order %d)", r.Match, r.Order)
}

// Copied lists the disks that are copied.
func (m Machine) Copied() []Disk {
	return slices.DeleteFunc(slices.Clone(m.Disks), func(d Disk) bool { return d.LeftOut })
}

// SizeBytes is the size of the disks that are copied.
func (m Machine) SizeBytes() (n int64) {
	for _, d := range m.Copied() {
		n += d.SizeBytes
	}
	return n
}

// disk finds one by its key.
func (m Machine) disk(key string) (Disk, bool) {
	at := slices.IndexFunc(m.Disks, func(d Disk) bool { return d.Key == key })
	if at < 0 {
		return Disk{}, false
	}
	return m.Disks[at], true
}

// leftOut names the disks that are, for people.
func (m Machine) leftOut() []string {
	var out []string
	for _, d := range m.Disks {
		if d.LeftOut {
			out = append(out, m.Name+":"+d.Label)
		}
	}
	return out
}

// Leaves tells whether a disk is not copied. One that nobody has decided about is
// copied, unless new disks of the group are only flagged.
func (s Spec) Leaves(machine, disk string) bool {
	m, ok := s.Machine(machine)
	if !ok {
		return false
	}
	if d, known := m.disk(disk); known {
		return d.LeftOut
	}
	return s.NewDisks == FlagNew && len(m.Disks) > 0
}

// RestOf is how a machine is brought to rest: as was chosen for it, or as the group does
// with all.
func (s Spec) RestOf(m Machine) Rest {
	r := m.Rest
	if r.Mode == "" {
		r.Mode = s.RestMode
	}
	return r
}

// KeepsHome is the ladder of points at home, as it is judged.
func (s Spec) KeepsHome() ladder.Keep {
	if len(s.HomeKeep) == 0 {
		return s.Promise.Keeping()
	}
	return s.Promise.KeepingBy(s.HomeKeep)
}

// Undecided tells whether a disk was added since anybody decided, and is only flagged.
func (s Spec) Undecided(machine, disk string) bool {
	m, ok := s.Machine(machine)
	if !ok || s.NewDisks != FlagNew || len(m.Disks) == 0 {
		return false
	}
	_, known := m.disk(disk)
	return !known
}

// Machine finds a machine of the group by its ID.
func (s Spec) Machine(id string) (Machine, bool) {
	at := slices.IndexFunc(s.Machines, func(m Machine) bool { return m.ID == id })
	if at < 0 {
		return Machine{}, false
	}
	return s.Machines[at], true
}

// DiskRef names a disk of a machine.
type DiskRef struct{ Machine, Disk string }

// carry gives machines as they were chosen what was decided for them before. Disks that
// nobody has decided about are left away if they are only flagged.
func carry(before, chosen []Machine, flag bool) []Machine {
	out := cloneMachines(chosen)
	for i, m := range out {
		at := slices.IndexFunc(before, func(b Machine) bool { return b.ID == m.ID })
		if at < 0 {
			continue
		}
		was := before[at]
		out[i].Rest, out[i].ByRule, out[i].Disks = was.Rest, was.ByRule, nil
		for _, d := range m.Disks {
			b, known := was.disk(d.Key)
			if !known && flag && len(was.Disks) > 0 {
				continue
			}
			d.LeftOut = known && b.LeftOut
			out[i].Disks = append(out[i].Disks, d)
		}
	}
	return out
}

// disksApart writes the disks of machines that both specifications have and know, where
// they are not the same; what is left out is compared by itself.
func disksApart(from, to Spec) (was, now []string) {
	text := func(m Machine) string {
		if len(m.Disks) == 0 {
			return m.Name + ": not known"
		}
		var ds []string
		for _, d := range m.Disks {
			ds = append(ds, d.Label+" "+span.Bytes(float64(d.SizeBytes)))
		}
		return m.Name + ": " + strings.Join(ds, " and ")
	}
	same := func(a, b Disk) bool {
		return a.Key == b.Key && a.Label == b.Label && a.SizeBytes == b.SizeBytes && a.Boot == b.Boot
	}
	for _, m := range to.Machines {
		if b, ok := from.Machine(m.ID); ok && !slices.EqualFunc(b.Disks, m.Disks, same) {
			was, now = append(was, text(b)), append(now, text(m))
		}
	}
	return was, now
}

func cloneMachines(ms []Machine) []Machine {
	out := slices.Clone(ms)
	for i := range out {
		out[i].Disks = slices.Clone(out[i].Disks)
	}
	return out
}

// checkMachines says what is wrong with what was chosen for machines.
func (s Spec) checkMachines(fault func(field, format string, a ...any)) {
	switch n := len(s.Machines); {
	case n == 0 && s.Rule != nil:
		fault("rule", "The rule matches no machine that could join now. A group begins with one: widen the rule, or make it when there is one.")
	case n == 0:
		fault("machines", "Choose at least one machine.")
	case n > MaxMachines:
		fault("machines", "A group has at most %d machines: they are captured at one instant.", MaxMachines)
	}
	rest := 0
	for _, m := range s.Machines {
		if m.Rest != (Rest{}) {
			m.Rest.check(func(what, format string, a ...any) {
				fault(fmt.Sprintf("quiesce[%d].%s", rest, what), m.Name+": "+format, a...)
			})
			rest++
		}
		if len(m.Disks) > 0 && len(m.Copied()) == 0 {
			fault("withoutDisks", "All disks of %s would be left out, so that nothing of it is copied. Leave one in, or take the machine out of the group.", m.Name)
		}
	}
	if r := s.Rule; r != nil && (r.Order < 1 || r.Order > scope.MaxOrder) {
		fault("rule.order", "Rules are asked in the order of their numbers, from 1 to %d.", scope.MaxOrder)
	}
	if !slices.Contains([]NewDisks{CopyNew, FlagNew}, s.NewDisks) {
		fault("newDisks", "%q is neither copy nor flag.", s.NewDisks)
	}
}

// DiskChange is a disk that is not as the group knows it.
type DiskChange struct {
	Machine Machine
	Disk    Disk  // as it is now; of one that is gone, as it was
	Was     int64 // size before, of one that was resized
	Kind    string
}

// Kinds of changes of disks.
const (
	DiskAdded   = "added"
	DiskResized = "resized"
	DiskGone    = "gone"
)

// String says it in words.
func (c DiskChange) String() string {
	name := fmt.Sprintf("%s of %s", c.Disk.Label, c.Machine.Name)
	switch c.Kind {
	case DiskAdded:
		return fmt.Sprintf("%s is new, %s", name, span.Bytes(float64(c.Disk.SizeBytes)))
	case DiskResized:
		return fmt.Sprintf("%s was %s and is %s", name, span.Bytes(float64(c.Was)), span.Bytes(float64(c.Disk.SizeBytes)))
	}
	return name + " is gone"
}

// Seen compares what a machine's disks are with what the group knows of them, and
// gives the machine as it is now, with what has changed. New disks are copied or left
// for somebody to decide, as the group says: those are not in the machine, and are told
// again each time. Of a machine whose disks were not known they become known.
func (s Spec) Seen(m Machine, now []Disk) (Machine, []DiskChange) {
	next := m
	next.Disks = nil
	var changes []DiskChange
	for _, d := range now {
		was, known := m.disk(d.Key)
		switch {
		case !known && len(m.Disks) == 0:
		case !known:
			changes = append(changes, DiskChange{m, d, 0, DiskAdded})
			if s.NewDisks == FlagNew {
				continue
			}
		case was.SizeBytes != d.SizeBytes:
			changes = append(changes, DiskChange{m, d, was.SizeBytes, DiskResized})
		}
		d.LeftOut = known && was.LeftOut
		next.Disks = append(next.Disks, d)
	}
	for _, was := range m.Disks {
		if !slices.ContainsFunc(now, func(d Disk) bool { return d.Key == was.Key }) {
			changes = append(changes, DiskChange{m, was, 0, DiskGone})
		}
	}
	return next, changes
}
