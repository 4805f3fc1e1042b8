package berth

import (
	"fmt"
	"net/netip"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"time"

	"kestrel/internal/core/ident"
	"kestrel/internal/core/promise"
	"kestrel/internal/core/runbook"
	"kestrel/internal/core/span"
)

// Finding is what is wrong with a setting, with the mend; a warning does not keep it from
// being saved.
type Finding = promise.Finding

type findings struct {
	prefix string
	all    *[]Finding
}

func (f findings) at(format string, a ...any) findings {
	return findings{f.prefix + fmt.Sprintf(format, a...), f.all}
}

func (f findings) fault(field, format string, a ...any) {
	*f.all = append(*f.all, Finding{Field: f.prefix + field, Message: fmt.Sprintf(format, a...)})
}

func (f findings) warn(field, format string, a ...any) {
	*f.all = append(*f.all, Finding{Field: f.prefix + field, Message: fmt.Sprintf(format, a...), Warning: true})
}

// suffixPattern is a domain's name (RFC 1035, 2.3.1).
var suffixPattern = regexp.MustCompile(`^[A-Za-z0-9]([A-Za-z0-9-]{0,61}[A-Za-z0-9])?(\.[A-Za-z0-9]([A-Za-z0-9-]{0,61}[A-Za-z0-9])?)*$`)

// Check says what is wrong with settings by themselves.
func (s Settings) Check() []Finding {
	var out []Finding
	s.check(findings{"", &out})
	return out
}

func (s Settings) check(f findings) {
	for _, x := range [][2]string{{"platform", s.Platform}, {"pool", s.Pool}, {"datastore", s.Datastore}, {"folder", s.Folder}, {"format", s.Format}, {"before", s.Before}, {"name", s.Name}, {"drillName", s.DrillName}} {
		switch _, unseen := ident.Unseen(x[1]); {
		case unseen || len([]rune(x[1])) > MaxText:
			f.fault(x[0], "A name has at most %d characters, all of which can be seen.", MaxText)
		case strings.HasSuffix(strings.ToLower(x[0]), "name") && strings.ContainsAny(strings.ReplaceAll(x[1], namePattern, ""), "{}"):
			f.fault(x[0], "%q: the only thing that can stand in braces is {name}, the machine's name at home.", x[1])
		}
	}
	if s.CPUs < 0 || s.CPUs > MaxCPUs {
		f.fault("cpus", "Give 1 to %d processors, or 0 for as many as at home.", MaxCPUs)
	}
	if m := s.MemoryBytes; m < 0 || m > MaxMemory || m > 0 && m < 64<<20 {
		f.fault("memoryBytes", "Give from 64 MiB to %s, or 0 for as much as at home.", span.Bytes(float64(MaxMemory)))
	}
	if s.DrillPercent < 0 || s.DrillPercent > 100 {
		f.fault("drillPercent", "Drills get 1 to 100 percent of processors and memory; 0 is not said.")
	}
	s.checkNetworks(f)
	if len(s.Rules) > MaxRules {
		f.fault("rules", "There are at most %d rules.", MaxRules)
	}
	for i, r := range s.Rules {
		for k, before := range s.Rules[:i] {
			if before.shadows(r) {
				f.fault(fmt.Sprintf("rules[%d]", i), "Rule %d (%s) maps all of these addresses already. Take this one out, or put it before that one.", k+1, before)
				break
			}
		}
	}
	if len(s.DNS) > MaxDNS {
		f.fault("dns", "At most %d DNS servers.", MaxDNS)
	}
	for i, d := range s.DNS {
		if !d.IsValid() || d.IsUnspecified() || d.IsMulticast() || slices.Contains(s.DNS[:i], d) {
			f.fault(fmt.Sprintf("dns[%d]", i), "%s is no address of a DNS server, or stands there twice.", d)
		}
	}
	if s.Suffix != "" && (len(s.Suffix) > 253 || !suffixPattern.MatchString(s.Suffix)) {
		f.fault("suffix", "%q is no domain; write it as skerry.example.", s.Suffix)
	}
	if !slices.Contains([]string{"", ByRule, Keep, ByDHCP}, s.Address) {
		f.fault("address", "%q is none of rule, keep, dhcp.", s.Address)
	}
	if !slices.Contains([]Way{"", Leave, DHCP, Agent, Seed}, s.Way) {
		f.fault("way", "%q is none of leave, dhcp, agent, seed.", s.Way)
	}
	if _, unseen := ident.Unseen(s.After); unseen || len(s.After) > MaxCommand {
		f.fault("after", "A command is one line of at most %d characters.", MaxCommand)
	}
}

func (s Settings) checkNetworks(f findings) {
	if len(s.Networks) > MaxNetworks {
		f.fault("networks", "At most %d networks.", MaxNetworks)
	}
	for i, n := range s.Networks {
		field := fmt.Sprintf("networks[%d]", i)
		switch {
		case strings.TrimSpace(n.Home) == "":
			f.fault(field+".home", "Name the network at home.")
		case slices.ContainsFunc(s.Networks[:i], func(o NetworkMap) bool { return strings.EqualFold(o.Home, n.Home) }):
			f.fault(field+".home", "%s stands there twice; say once where its cards go.", n.Home)
		}
	}
}

// Check says what is wrong with a group's berth by itself.
func (b Berth) Check() []Finding {
	var out []Finding
	f := findings{"", &out}
	b.Settings.check(f)
	for i, m := range b.Machines {
		at := f.at("machines[%d].", i)
		m.Settings.check(at)
		switch {
		case strings.TrimSpace(m.Machine) == "":
			at.fault("machine", "Name the machine.")
		case slices.ContainsFunc(b.Machines[:i], func(o MachineSettings) bool { return strings.EqualFold(o.Machine, m.Machine) }):
			at.fault("machine", "%s stands there twice; put what is said of it together.", m.Machine)
		}
		if m.Platform != "" {
			at.fault("platform", "All machines of a group arrive on one platform; say it for the group.")
		}
		if m.Wave < 0 || m.Wave > MaxWave {
			at.fault("wave", "Waves are numbered from 1 to %d.", MaxWave)
		}
		for k, c := range m.Cards {
			c.check(at.at("cards[%d].", k))
		}
	}
	b.checkWaves(f)
	out = append(out, runbook.Check(b.Steps, MaxWave)...)
	if len(b.Needs) > MaxNeeds {
		f.fault("needs", "A group needs at most %d others.", MaxNeeds)
	}
	for i, n := range b.Needs {
		if _, unseen := ident.Unseen(n); n == "" || unseen || len([]rune(n)) > MaxText || slices.ContainsFunc(b.Needs[:i], func(o string) bool { return strings.EqualFold(o, n) }) {
			f.fault(fmt.Sprintf("needs[%d]", i), "Name each group that it needs once.")
		}
	}
	return out
}

func (b Berth) checkWaves(f findings) {
	for i, w := range b.Waves {
		at := f.at("waves[%d].", i)
		if w.Number < 1 || w.Number > MaxWave || slices.ContainsFunc(b.Waves[:i], func(o Wave) bool { return o.Number == w.Number }) {
			at.fault("number", "Each wave stands there once, numbered from 1 to %d.", MaxWave)
		}
		if w.Wait < 0 || w.Wait > MaxWait || w.Limit < 0 || w.Limit > MaxWait {
			at.fault("waitSeconds", "Waits and limits are at most %s.", span.Format(MaxWait))
		}
		port, isPort := strings.CutPrefix(string(w.Check), CheckPort)
		n, err := strconv.Atoi(port)
		if w.Check != "" && w.Check != CheckNone && w.Check != CheckAgent && (!isPort || err != nil || n < 1 || n > 65535) {
			at.fault("check", `%q is none of none, agent, and "port" with a number, such as "port 443".`, w.Check)
		}
	}
}

func (c CardSettings) check(f findings) {
	number, err := strconv.Atoi(c.Card)
	if err == nil && (number < 1 || number > 64) || err != nil && !macPattern.MatchString(c.Card) {
		f.fault("card", "%q is neither a MAC address nor the number of a card, from 1 on.", c.Card)
	}
	checkAddress(f, "address", c.Address, "gateway", c.Gateway)
	checkAddress(f, "drillAddress", c.DrillAddress, "drillGateway", c.DrillGateway)
}

var macPattern = regexp.MustCompile(`^[0-9A-Fa-f]{2}(:[0-9A-Fa-f]{2}){5}$`)

func checkAddress(f findings, field, address, gatewayField, gateway string) {
	var at netip.Prefix
	if !slices.Contains([]string{"", ByRule, Keep, ByDHCP}, address) {
		p, err := netip.ParsePrefix(address)
		switch {
		case err != nil:
			f.fault(field, "%q is none of rule, keep, dhcp, and no address with its mask, such as 10.60.4.11/24.", address)
		default:
			if why := unusable(p); why != "" {
				f.fault(field, "%s.", why)
			}
			at = p
		}
	}
	if gateway == "" || gateway == Unconnected {
		return
	}
	g, err := netip.ParseAddr(gateway)
	switch {
	case err != nil:
		f.fault(gatewayField, "%q is no address; for a card without a gateway write none.", gateway)
	case at.IsValid() && !at.Contains(g):
		f.fault(gatewayField, "The gateway %s is not inside %s.", g, at.Masked())
	case at.IsValid() && at.Addr() == g:
		f.fault(gatewayField, "%s is the card's own address.", g)
	}
}

// Survey says what is wrong with arrivals at a place: what would go wrong, or might.
// Used are the addresses that machines over there and other berths have.
func (b Berth) Survey(arrivals []Arrival, place func(name string) (Place, bool)) []Finding {
	var out []Finding
	f := findings{"", &out}
	b.strangers(f, arrivals)
	if len(arrivals) == 0 {
		return out
	}
	name := arrivals[0].Platform
	there, known := place(name.Text)
	switch {
	case name.Text == "":
		f.warn("platform", "No platform is chosen, here or in the link's default, so the machines arrive nowhere yet.")
		return out
	case !known:
		f.fault("platform", "There is no platform %q at the recovery site.", name.Text)
		return out
	case !there.Seen:
		f.warn("platform", "%s has not answered yet, so nothing can be checked against what it has.", there.Name)
		return out
	}
	s := &surveyor{b, there, f, map[string]string{}}
	s.room(arrivals)
	out = append(out, runbook.Survey(b.Steps, runbook.Lists{Machines: homeNames(arrivals), Commands: there.Commands, Servers: there.Servers, Channels: there.Channels})...)
	for _, a := range arrivals {
		at := f.at("machines.%s.", a.Machine.Name)
		s.machine(at, a)
		for _, k := range Kinds() {
			s.gateways(at, k, a)
			for i, c := range a.Cards {
				s.card(at.at("cards[%d].", i), k, a, c.As(k), c)
			}
		}
	}
	return out
}

func homeNames(arrivals []Arrival) (out []string) {
	for _, a := range arrivals {
		out = append(out, a.Machine.Name)
	}
	return out
}

// strangers are settings of machines and cards that are not there.
func (b Berth) strangers(f findings, arrivals []Arrival) {
	for i, m := range b.Machines {
		at := slices.IndexFunc(arrivals, func(a Arrival) bool { return m.Machine == a.Machine.ID || strings.EqualFold(m.Machine, a.Machine.Name) })
		if at < 0 {
			f.warn(fmt.Sprintf("machines[%d].machine", i), "%s is no machine of the group, so what is said of it counts for nothing.", m.Machine)
			continue
		}
		for k, c := range m.Cards {
			if n, err := strconv.Atoi(c.Card); err == nil && n <= len(arrivals[at].Machine.Cards) {
				continue
			}
			if !slices.ContainsFunc(arrivals[at].Machine.Cards, func(h HomeCard) bool { return strings.EqualFold(h.MAC, c.Card) }) {
				f.warn(fmt.Sprintf("machines[%d].cards[%d].card", i, k), "%s has no card %s.", m.Machine, c.Card)
			}
		}
	}
}

type surveyor struct {
	berth Berth
	there Place
	f     findings
	taken map[string]string // address and kind, and name and kind → by which machine
}

func has[T any](all []T, name func(T) string, text string) bool {
	return slices.ContainsFunc(all, func(x T) bool { return strings.EqualFold(name(x), text) })
}

func names[T any](all []T, name func(T) string) string {
	var out []string
	for _, x := range all {
		out = append(out, name(x))
	}
	if out == nil {
		return "none"
	}
	return strings.Join(out, ", ")
}

// room checks what all machines need together.
func (s *surveyor) room(arrivals []Arrival) {
	var memory int64
	disks := map[string]int64{}
	for _, a := range arrivals {
		memory += a.Memory
		disks[strings.ToLower(a.Datastore.Text)] += a.Machine.SizeBytes
	}
	if !s.there.Lands {
		s.f.warn("platform", "Machines cannot be started yet on %s, a platform of the kind %s.", s.there.Name, s.there.Kind)
	}
	for _, d := range s.there.Datastores {
		if need := disks[strings.ToLower(d.Name)]; need > d.FreeBytes {
			s.f.warn("datastore", "%s has %s free, and the disks of the machines are %s in all.", d.Name, span.Bytes(float64(d.FreeBytes)), span.Bytes(float64(need)))
		}
	}
	for _, p := range s.there.Pools {
		if strings.EqualFold(p.Name, arrivals[0].Pool.Text) && memory > p.MemoryBytes {
			s.f.warn("pool", "%s has %s of memory, and the machines need %s.", p.Name, span.Bytes(float64(p.MemoryBytes)), span.Bytes(float64(memory)))
		}
	}
}

func (s *surveyor) machine(f findings, a Arrival) {
	ds, pools := func(d Datastore) string { return d.Name }, func(p Pool) string { return p.Name }
	switch {
	case a.Datastore.Text == "":
		f.warn("datastore", "No datastore is chosen; %s has %s.", s.there.Name, names(s.there.Datastores, ds))
	case !has(s.there.Datastores, ds, a.Datastore.Text):
		f.fault("datastore", "%s has no datastore %q; it has %s.", s.there.Name, a.Datastore.Text, names(s.there.Datastores, ds))
	}
	if a.Pool.Text != "" && !has(s.there.Pools, pools, a.Pool.Text) {
		f.fault("pool", "%s has no pool %q; it has %s.", s.there.Name, a.Pool.Text, names(s.there.Pools, pools))
	}
	if a.Folder.Text != "" && len(s.there.Folders) > 0 && !slices.Contains(s.there.Folders, a.Folder.Text) {
		f.warn("folder", "%s has no folder %q with machines in it.", s.there.Name, a.Folder.Text)
	}
	s.format(f, a)
	if a.Before.Text != "" && !slices.Contains(s.there.Commands, a.Before.Text) {
		f.fault("before", "The host of the recovery site has no command %q that may run before a machine starts; it has %s. Its administrator puts them into the folder of commands.", a.Before.Text, names(s.there.Commands, func(c string) string { return c }))
	}
	s.name(f, "name", a, a.Name.Text)
	s.name(f, "drillName", a, a.DrillName.Text)
	if a.Way.Text == string(Agent) && !a.Machine.Agent {
		other := ""
		if rest := slices.DeleteFunc(slices.Clone(s.there.Ways), func(w Way) bool { return w == Agent }); len(rest) > 0 {
			other = ", or choose another way (" + names(rest, func(w Way) string { return string(w) }) + ")"
		}
		f.warn("way", "No agent answers in %s, so no address can be set through it. Install one%s.", a.Machine.Name, other)
	}
	if w := Way(a.Way.Text); w != Leave && !slices.Contains(s.there.Ways, w) {
		f.fault("way", "%s cannot do %s; it can do %s.", s.there.Name, w, names(append([]Way{Leave}, s.there.Ways...), func(w Way) string { return string(w) }))
	}
	if a.After.Text != "" && !a.Machine.Agent {
		f.warn("after", "No agent answers in %s, so the command cannot be run.", a.Machine.Name)
	}
}

func (s *surveyor) format(f findings, a Arrival) {
	if len(s.there.Formats) == 0 {
		return
	}
	name := func(x Format) string { return x.Name }
	at := slices.IndexFunc(s.there.Formats, func(x Format) bool { return x.Name == a.Format.Text })
	switch {
	case at < 0:
		f.fault("format", "%s keeps no disks in the format %q; it can do %s.", s.there.Name, a.Format.Text, names(s.there.Formats, name))
	case s.there.Formats[at].Limit != "":
		f.warn("format", "Disks of %s as %s: %s", a.Machine.Name, a.Format.Text, s.there.Formats[at].Limit)
	}
}

func (s *surveyor) name(f findings, field string, a Arrival, name string) {
	if why, instead := s.there.Names.Refuses(name); why != "" {
		text := ""
		if instead != "" {
			text = fmt.Sprintf(" %q would do.", instead)
		}
		f.fault(field, "%s would refuse the name %q: %s.%s", s.there.Name, name, why, text)
	}
	key := "name " + strings.ToLower(name)
	if by, twice := s.taken[key]; twice {
		f.fault(field, "%s would be named %s as well. A pattern has to have {name} in it.", by, name)
	}
	s.taken[key] = a.Machine.Name
	if slices.ContainsFunc(s.there.Machines, func(m string) bool { return strings.EqualFold(m, name) }) {
		f.warn(field, "%s has a machine %s already. Give a pattern for names, such as {name}-em.", s.there.Name, name)
	}
}

// gateways finds machines with more than one way out: answers would leave by another card
// than questions came by.
func (s *surveyor) gateways(f findings, k Kind, a Arrival) {
	n := map[int]int{}
	for _, c := range a.Cards {
		if g := c.As(k).Gateway; g.IsValid() {
			n[g.BitLen()]++
		}
	}
	if (n[32] > 1 || n[128] > 1) && !s.berth.Gateways {
		f.fault("cards", "%s would have more than one card with a gateway (%s). Write none for the gateway of the others, or allow it.", a.Machine.Name, k)
	}
}

func (s *surveyor) card(f findings, k Kind, a Arrival, x Attached, c Card) {
	field := either(k, "live", "drill")
	name := fmt.Sprintf("The card of %s on %s", a.Machine.Name, c.Home.Network)
	switch x.Network.Text {
	case "":
		f.warn(field, "%s has no %s network, so it will not be connected. Say where %s goes.", name, k, c.Home.Network)
		return
	case Unconnected:
		return
	}
	network, known := s.there.network(x.Network.Text)
	if !known {
		f.fault(field, "%s has no network %q; it has %s.", s.there.Name, x.Network.Text, names(s.there.Networks, func(n Network) string { return n.Name }))
		return
	}
	if k == Drill {
		switch {
		case strings.EqualFold(c.Live.Network.Text, x.Network.Text):
			f.warn(field, "%s is on %s in drills and live alike: a drill would meet what is live there.", name, network.Name)
		case !network.Isolated:
			f.warn(field, "%s is not known to be isolated: machines in a drill could be reached from there, and reach out.", network.Name)
		}
	}
	s.address(f, k, a, x, c, network, name)
}

func (s *surveyor) address(f findings, k Kind, a Arrival, x Attached, c Card, network Network, name string) {
	field := either(k, "address", "drillAddress")
	if x.Mode == ByDHCP {
		if !network.DHCP {
			f.warn(field, "No DHCP server of the platform is known on %s; there has to be one of your own.", network.Name)
		}
		return
	}
	if !x.Address.IsValid() {
		f.warn(field, "%s has an address that is not known, so it cannot be said what becomes of it. An agent in the guest tells it; or set one.", name)
		return
	}
	at, ip := x.Address, x.Address.Addr()
	inside := len(network.Subnets) == 0 || slices.ContainsFunc(network.Subnets, func(p netip.Prefix) bool { return p.Contains(ip) })
	switch why := unusable(at); {
	case !inside && x.Mode == Keep:
		f.warn(field, "%s keeps %s, which is not inside %s (%s): it would not be reached there. Give a rule for it.", name, ip, network.Name, subnets(network))
	case !inside:
		f.fault(field, "%s would have %s, which is not inside %s (%s).", name, ip, network.Name, subnets(network))
	case why != "":
		f.fault(field, "%s would have an address that it cannot have: %s.", name, why)
	case x.Gateway == ip:
		f.fault(field, "%s would have the address of its own gateway, %s.", name, ip)
	case x.Gateway.IsValid() && x.Mode != Keep && !at.Contains(x.Gateway):
		f.fault(either(k, "gateway", "drillGateway"), "The gateway %s is not inside %s.", x.Gateway, at.Masked())
	case !x.Gateway.IsValid() && x.Mode != Keep:
		f.warn(either(k, "gateway", "drillGateway"), "%s has no gateway (%s): it reaches nothing outside its subnet.", name, k)
	}
	key := fmt.Sprintf("%s %s", k, ip)
	if by, twice := s.taken[key]; twice {
		f.fault(field, "%s would have %s as well (%s).", by, ip, k)
	}
	s.taken[key] = a.Machine.Name
	for _, u := range s.there.Used {
		if u.Address == ip && u.meets(k, network.Name) {
			f.fault(field, "%s would have %s, and %s.", name, ip, u.By)
			break
		}
	}
	// Once a card is enough.
	if s.there.Lands && Way(a.Way.Text) == Leave && ip != c.Home.Address && (k == Live || c.Live.Address.Addr() == c.Home.Address) {
		mend := s.there.Name + " cannot tell it either, so set it in the guest by hand"
		if len(s.there.Ways) > 0 {
			mend = fmt.Sprintf("choose how an address gets into it (%s)", names(s.there.Ways, func(w Way) string { return string(w) }))
		}
		f.warn("way", "%s would have %s (%s), and nothing tells its guest: %s.", name, ip, k, mend)
	}
	if Way(a.Way.Text) == DHCP && !network.DHCP {
		f.fault("way", "%s has no DHCP server of the platform in which %s could be reserved; choose agent or seed.", network.Name, ip)
	}
}

func subnets(n Network) string {
	return names(n.Subnets, func(p netip.Prefix) string { return p.String() })
}

// DefaultLimit is how long the check of a wave may take if nothing is said.
const DefaultLimit = 10 * time.Minute

// Concerns tells whether a finding about a field matters to arrivals of a kind: what is wrong
// with live addresses bars no drill, and the other way round.
func Concerns(field string, k Kind) bool {
	switch field[strings.LastIndexByte(field, '.')+1:] {
	case "live", "address", "gateway", "name":
		return k == Live
	case "drill", "drillAddress", "drillGateway", "drillName", "drillPercent":
		return k == Drill
	}
	return true
}
