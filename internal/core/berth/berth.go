// Package berth decides how machines arrive at the recovery site: on which platform, in
// what pool and folder, under which name, on which networks with which addresses, and in
// what order they start. Settings come in layers, of which the last that says something
// counts; what counts is told with where it came from.
package berth

import (
	"fmt"
	"net/netip"
	"slices"
	"strings"
	"time"

	"kestrel/internal/core/runbook"
)

// Limits of what can be said.
const (
	MaxRules    = 200
	MaxNetworks = 200
	MaxDNS      = 6
	MaxWave     = 99
	MaxWait     = time.Hour
	MaxCPUs     = 512
	MaxMemory   = int64(16) << 40 // bytes
	MaxText     = 200             // characters of a name or suffix
	MaxCommand  = 500
	MaxNeeds    = 50
)

// Way is how an address gets into a guest.
type Way string

// The ways.
const (
	Leave Way = "leave" // the guest keeps the settings that it has
	DHCP  Way = "dhcp"  // a reservation by MAC at the network's DHCP server
	Agent Way = "agent" // the guest's agent is asked to set it
	Seed  Way = "seed"  // a disk in the open NoCloud layout of cloud-init
)

// Limit says in words what a way cannot do.
func (w Way) Limit() string {
	switch w {
	case DHCP:
		return "The guest has to ask for its address by DHCP, and the network has to have a DHCP server of the platform."
	case Agent:
		return "The guest needs an agent that runs commands, and a Linux with ip; the address is set at each start and is not written to the guest's own settings."
	case Seed:
		return "The guest needs cloud-init; it takes the address at its first start with this disk."
	}
	return "The guest starts with the addresses that it has at home."
}

// Address modes; anything else is an address with its mask.
const (
	ByRule = "rule" // what a rule says, or as at home
	Keep   = "keep" // as at home
	ByDHCP = "dhcp" // whatever it is given
)

// Unconnected is the network of a card whose cable is pulled.
const Unconnected = "none"

// Settings is what may be said at any layer. What is empty is as the layer before says.
type Settings struct {
	Platform, Pool, Datastore, Folder string // names at the recovery site
	Name, DrillName                   string // patterns, with {name}
	CPUs                              int
	MemoryBytes                       int64
	DrillPercent                      int // of processors and memory, in drills
	Networks                          []NetworkMap
	Rules                             []Rule
	DNS                               []netip.Addr
	Suffix                            string // search domain
	Address                           string // a mode
	Way                               Way
	Format                            string // of its disks
	Before                            string // name of a command of the recovery site's host, which runs before it starts
	After                             string // command that the guest's agent runs when it has started
}

// Format is one in which a platform can keep disks.
type Format struct {
	Name string `json:"name"`
	// Limit says in words what cannot be done with such disks; empty is nothing.
	Limit string `json:"limit,omitempty"`
}

// NetworkMap says where the cards of a home network are attached; empty is not said.
type NetworkMap struct{ Home, Live, Drill string }

// Berth is the settings of a group: its own, those of machines and of cards, and waves.
type Berth struct {
	Settings
	Machines []MachineSettings
	Waves    []Wave
	// Steps are what is done besides, in a recovery: the runbook's own.
	Steps []runbook.Step
	// Needs are the names of groups that have to be up before this one starts, where several
	// are recovered together.
	Needs []string
	// Gateways allows more than one card of a machine with a gateway.
	Gateways bool
}

// MachineSettings is what is said of one machine.
type MachineSettings struct {
	Machine string // name or ID
	Settings
	Wave  int // 0 is the first
	Cards []CardSettings
}

// CardSettings is what is said of one card.
type CardSettings struct {
	Card        string // its MAC address, or its number from 1 on
	Live, Drill string // networks
	Address     string // a mode, or an address with its mask
	Gateway     string // an address, or "none"
	// DrillAddress and DrillGateway are for drills; empty is the same as live.
	DrillAddress, DrillGateway string
}

// Check is what has to be true of the machines of a wave before the next starts.
type Check string

// The checks; one of a port is written as CheckPort followed by its number.
const (
	CheckNone  Check = "none"
	CheckAgent Check = "agent"
	CheckPort        = "port "
)

// Wave is how long is waited between the start of a wave and the next.
type Wave struct {
	Number int
	Wait   time.Duration // after the check has passed
	Check  Check
	Limit  time.Duration // how long the check may take; 0 is ten minutes
}

// Machine is one as it is at home.
type Machine struct {
	ID, Name    string
	CPUs        int
	MemoryBytes int64
	SizeBytes   int64 // of its disks
	Agent       bool  // its guest has an agent
	Cards       []HomeCard
}

// HomeCard is a card as it is at home.
type HomeCard struct {
	MAC     string
	Network string
	VLAN    int
	Address netip.Addr // invalid if it is not known
}

// Place is a platform at the recovery site as it was last seen.
type Place struct {
	Name       string
	Kind       string
	Seen       bool // it has answered; if not, nothing of what follows is known
	Lands      bool
	Pools      []Pool
	Datastores []Datastore
	Networks   []Network
	Folders    []string
	Names      Names
	Machines   []string // names
	Used       []Used   // addresses
	Ways       []Way    // that it can do
	Formats    []Format // of disks, the usual one first
	Commands   []string // of the host there, that may run before a machine starts
	Servers    []string // of DNS, that steps may have changed
	Channels   []string // by which steps may tell people
}

// Pool is a share of processors and memory; bytes.
type Pool struct {
	Name        string
	MemoryBytes int64
}

// Datastore holds disks.
type Datastore struct {
	Name      string
	FreeBytes int64
}

// Network is one that cards can be attached to.
type Network struct {
	Name     string
	Subnets  []netip.Prefix
	Gateway  netip.Addr
	Isolated bool
	DHCP     bool
}

// Used is an address that a machine over there has, or that another berth gives one.
type Used struct {
	Address netip.Addr
	Network string
	By      string // in words
	Drill   bool   // in drills only
	Idle    string // names the machine that has it, if that is off
}

// meets tells whether an address that is used is in the way of one of a kind on a network.
func (u Used) meets(k Kind, network string) bool {
	same := strings.EqualFold(u.Network, network)
	return k == Live && (!u.Drill || same) || k == Drill && same
}

// Level is settings with where they came from.
type Level struct {
	From string
	Settings
}

// Value is a setting that counts, and where it came from; empty is not said.
type Value struct{ Text, From string }

// Arrival is how a machine arrives.
type Arrival struct {
	Machine                           Machine
	Platform, Pool, Datastore, Folder Value
	Name, DrillName                   Value
	CPUs, DrillCPUs                   int
	Memory, DrillMemory               int64
	SizeFrom                          string
	Format                            Value
	Way, Suffix, DNS, Before, After   Value
	Wave                              int
	Cards                             []Card
}

// Card is how a card arrives.
type Card struct {
	Home        HomeCard
	Live, Drill Attached
}

// Attached is what a card is attached to, and its address there.
type Attached struct {
	Network Value // Unconnected, or empty if nothing is said
	// Address has the prefix of its subnet; invalid where it is not known, and then Mode
	// says what it is instead.
	Address netip.Prefix
	Mode    string // ByDHCP, Keep, or empty
	Gateway netip.Addr
	From    string // of the address
}

// As is what a card is attached to in arrivals of a kind.
func (c Card) As(k Kind) Attached {
	if k == Drill {
		return c.Drill
	}
	return c.Live
}

// pick gives the last that is said.
func pick(levels []Level, of func(Settings) string) Value {
	for _, l := range slices.Backward(levels) {
		if text := of(l.Settings); text != "" {
			return Value{text, l.From}
		}
	}
	return Value{}
}

// Own finds what is said of a machine.
func (b Berth) Own(m Machine) (MachineSettings, bool) {
	at := slices.IndexFunc(b.Machines, func(x MachineSettings) bool { return x.Machine == m.ID || strings.EqualFold(x.Machine, m.Name) })
	if at < 0 {
		return MachineSettings{}, false
	}
	return b.Machines[at], true
}

func (m MachineSettings) card(at int, c HomeCard) (CardSettings, bool) {
	for _, x := range m.Cards {
		if strings.EqualFold(x.Card, c.MAC) || x.Card == fmt.Sprint(at+1) {
			return x, true
		}
	}
	return CardSettings{}, false
}

// Resolve tells how machines arrive. Defaults come first, those that count least first;
// place finds a platform by its name.
func (b Berth) Resolve(machines []Machine, defaults []Level, place func(name string) (Place, bool)) []Arrival {
	var out []Arrival
	for _, m := range machines {
		own, _ := b.Own(m)
		levels := append(slices.Clone(defaults), Level{"the group", b.Settings}, Level{"the machine", own.Settings})
		out = append(out, arrive(m, own, levels, place))
	}
	return out
}

func arrive(m Machine, own MachineSettings, levels []Level, place func(string) (Place, bool)) Arrival {
	a := Arrival{Machine: m, Wave: max(1, own.Wave), CPUs: m.CPUs, Memory: m.MemoryBytes, SizeFrom: "home"}
	a.Platform = pick(levels, func(s Settings) string { return s.Platform })
	there, _ := place(a.Platform.Text)
	a.Pool = pick(levels, func(s Settings) string { return s.Pool })
	a.Datastore = pick(levels, func(s Settings) string { return s.Datastore })
	a.Folder = pick(levels, func(s Settings) string { return s.Folder })
	a.Format = pick(levels, func(s Settings) string { return s.Format })
	if a.Format.Text == "" && len(there.Formats) > 0 {
		a.Format = Value{there.Formats[0].Name, "the usual one there"}
	}
	if a.Datastore.Text == "" && len(there.Datastores) == 1 {
		a.Datastore = Value{there.Datastores[0].Name, "the only one there"}
	}
	if a.Pool.Text == "" && len(there.Pools) == 1 {
		a.Pool = Value{there.Pools[0].Name, "the only one there"}
	}
	a.Name = pick(levels, func(s Settings) string { return s.Name })
	a.DrillName = pick(levels, func(s Settings) string { return s.DrillName })
	if a.Name.Text == "" {
		a.Name = Value{namePattern, "home"}
	}
	if a.DrillName.Text == "" {
		a.DrillName = Value{Named(a.Name.Text, namePattern) + "-drill", "the name"}
	}
	a.Name.Text, a.DrillName.Text = Named(a.Name.Text, m.Name), Named(a.DrillName.Text, m.Name)
	a.size(levels)
	a.Way = pick(levels, func(s Settings) string { return string(s.Way) })
	if a.Way.Text == "" {
		a.Way = Value{Text: string(Leave)}
	}
	a.Suffix = pick(levels, func(s Settings) string { return s.Suffix })
	a.DNS = pick(levels, func(s Settings) string {
		var out []string
		for _, d := range s.DNS {
			out = append(out, d.String())
		}
		return strings.Join(out, ", ")
	})
	a.Before = pick(levels, func(s Settings) string { return s.Before })
	a.After = pick(levels, func(s Settings) string { return s.After })
	for i, c := range m.Cards {
		said, _ := own.card(i, c)
		a.Cards = append(a.Cards, Card{c, attach(Live, c, said, levels, there), attach(Drill, c, said, levels, there)})
	}
	return a
}

func (a *Arrival) size(levels []Level) {
	percent := 100
	for _, l := range levels {
		if l.CPUs > 0 {
			a.CPUs, a.SizeFrom = l.CPUs, l.From
		}
		if l.MemoryBytes > 0 {
			a.Memory, a.SizeFrom = l.MemoryBytes, l.From
		}
		if l.DrillPercent > 0 {
			percent = l.DrillPercent
		}
	}
	a.DrillCPUs, a.DrillMemory = a.CPUs, a.Memory
	if a.CPUs > 0 {
		a.DrillCPUs = max(1, a.CPUs*percent/100)
	}
	if a.Memory > 0 {
		a.DrillMemory = max(min(a.Memory, 64<<20), a.Memory*int64(percent)/100&^(1<<20-1))
	}
}

func either(k Kind, live, drill string) string {
	if k == Drill {
		return drill
	}
	return live
}

// attach decides network and address of a card.
func attach(k Kind, c HomeCard, said CardSettings, levels []Level, there Place) Attached {
	var out Attached
	for _, l := range levels {
		for _, n := range l.Networks {
			if to := either(k, n.Live, n.Drill); to != "" && strings.EqualFold(n.Home, c.Network) {
				out.Network = Value{to, l.From}
			}
		}
	}
	if to := either(k, said.Live, said.Drill); to != "" {
		out.Network = Value{to, "the card"}
	}
	if out.Network.Text == "" || out.Network.Text == Unconnected {
		return out
	}
	mode := pick(levels, func(s Settings) string { return s.Address })
	text, gateway := said.Address, said.Gateway
	if k == Drill && said.DrillAddress != "" {
		text, gateway = said.DrillAddress, said.DrillGateway
	}
	if text != "" {
		mode = Value{text, "the card"}
	}
	network, _ := there.network(out.Network.Text)
	out.Gateway = network.Gateway
	out.From = mode.From
	switch mode.Text {
	case ByDHCP:
		out.Mode, out.Gateway = ByDHCP, netip.Addr{}
	case Keep:
		out.keep(c, network)
	case ByRule, "":
		out.follow(k, c, levels, network)
	default:
		if p, err := netip.ParsePrefix(mode.Text); err == nil {
			out.Address = p
		}
	}
	if gateway != "" {
		out.Gateway, _ = netip.ParseAddr(gateway) // none is an invalid one
	}
	if out.Address.IsValid() && out.Gateway.IsValid() && out.Gateway.BitLen() != out.Address.Addr().BitLen() {
		out.Gateway = netip.Addr{} // the network's is of the other kind
	}
	return out
}

// keep leaves an address, with the mask of the subnet over there that holds it.
func (a *Attached) keep(c HomeCard, network Network) {
	a.Mode = Keep
	if !c.Address.IsValid() {
		return
	}
	a.Address = netip.PrefixFrom(c.Address, c.Address.BitLen())
	for _, s := range network.Subnets {
		if s.Contains(c.Address) {
			a.Address = netip.PrefixFrom(c.Address, s.Bits())
		}
	}
}

// follow maps an address by the first rule that is for it, of the last layer that has one.
func (a *Attached) follow(k Kind, c HomeCard, levels []Level, network Network) {
	for _, l := range slices.Backward(levels) {
		for i, r := range l.Rules {
			if !c.Address.IsValid() || !r.Covers(k, c.Network, c.VLAN, c.Address) {
				continue
			}
			a.Address, a.From = r.Map(c.Address), fmt.Sprintf("rule %d of %s", i+1, l.From)
			if r.Gateway.IsValid() {
				a.Gateway = r.Gateway
			}
			return
		}
	}
	if a.From = "no rule is for it"; !c.Address.IsValid() {
		a.From = "its address at home is not known"
	}
	a.keep(c, network)
}

func (p Place) network(name string) (Network, bool) {
	at := slices.IndexFunc(p.Networks, func(n Network) bool { return strings.EqualFold(n.Name, name) })
	if at < 0 {
		return Network{}, false
	}
	return p.Networks[at], true
}
