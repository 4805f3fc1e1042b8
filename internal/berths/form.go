package berths

import (
	"cmp"
	"encoding/json"
	"fmt"
	"maps"
	"net/netip"
	"slices"
	"strings"
	"time"
	"unicode/utf8"

	"kestrel/internal/core/berth"
	"kestrel/internal/core/runbook"
	"kestrel/internal/problem"
)

// form is how a berth is stored, sent over the link and shown. It is a type of its own:
// neither the contract nor what is decided may change it unawares.
type form struct {
	formSettings
	Machines []formMachine `json:"machines,omitempty"`
	Waves    []formWave    `json:"waves,omitempty"`
	Steps    []formStep    `json:"steps,omitempty"`
	Needs    []string      `json:"needs,omitempty"`
	Gateways bool          `json:"severalGateways,omitempty"`
}

type formSettings struct {
	Platform     string        `json:"platform,omitempty"`
	Pool         string        `json:"pool,omitempty"`
	Datastore    string        `json:"datastore,omitempty"`
	Folder       string        `json:"folder,omitempty"`
	Name         string        `json:"name,omitempty"`
	DrillName    string        `json:"drillName,omitempty"`
	CPUs         int           `json:"cpus,omitempty"`
	MemoryBytes  int64         `json:"memoryBytes,omitempty"`
	DrillPercent int           `json:"drillPercent,omitempty"`
	Networks     []formNetwork `json:"networks,omitempty"`
	Rules        []string      `json:"rules,omitempty"`
	DNS          []string      `json:"dns,omitempty"`
	Suffix       string        `json:"suffix,omitempty"`
	Address      string        `json:"address,omitempty"`
	Way          string        `json:"way,omitempty"`
	Format       string        `json:"format,omitempty"`
	Before       string        `json:"before,omitempty"`
	After        string        `json:"after,omitempty"`
}

type formNetwork struct {
	Home  string `json:"home"`
	Live  string `json:"live,omitempty"`
	Drill string `json:"drill,omitempty"`
}

type formMachine struct {
	Machine string `json:"machine"`
	formSettings
	Wave  int        `json:"wave,omitempty"`
	Cards []formCard `json:"cards,omitempty"`
}

type formCard struct {
	Card         string `json:"card"`
	Live         string `json:"live,omitempty"`
	Drill        string `json:"drill,omitempty"`
	Address      string `json:"address,omitempty"`
	Gateway      string `json:"gateway,omitempty"`
	DrillAddress string `json:"drillAddress,omitempty"`
	DrillGateway string `json:"drillGateway,omitempty"`
}

type formWave struct {
	Number       int    `json:"number"`
	WaitSeconds  int64  `json:"waitSeconds,omitempty"`
	Check        string `json:"check,omitempty"`
	LimitSeconds int64  `json:"limitSeconds,omitempty"`
}

type formStep struct {
	Name         string   `json:"name"`
	After        int      `json:"after"`
	Kind         string   `json:"kind"`
	Only         string   `json:"only,omitempty"`
	OnFailure    string   `json:"onFailure,omitempty"`
	LimitSeconds int64    `json:"limitSeconds,omitempty"`
	SpanSeconds  int64    `json:"spanSeconds,omitempty"`
	Machine      string   `json:"machine,omitempty"`
	Port         int      `json:"port,omitempty"`
	Command      string   `json:"command,omitempty"`
	URL          string   `json:"url,omitempty"`
	Status       int      `json:"status,omitempty"`
	Text         string   `json:"text,omitempty"`
	Server       string   `json:"server,omitempty"`
	Record       string   `json:"record,omitempty"`
	Type         string   `json:"type,omitempty"`
	TTLSeconds   int64    `json:"ttlSeconds,omitempty"`
	To           []string `json:"to,omitempty"`
	Channels     []string `json:"channels,omitempty"`
}

func writeStep(s runbook.Step) formStep {
	return formStep{s.Name, s.After, string(s.Kind), string(s.Only), string(s.Failure), int64(s.Limit / time.Second), int64(s.Span / time.Second), s.Machine, s.Port, s.Command, s.URL, s.Status, s.Text, s.Server, s.Record, s.Type, int64(s.TTL / time.Second), s.To, s.Channels}
}

func (f formStep) read() runbook.Step {
	trim := strings.TrimSpace
	s := runbook.Step{Name: trim(f.Name), After: f.After, Kind: runbook.Kind(f.Kind), Only: runbook.Only(f.Only), Failure: runbook.Failure(f.OnFailure), Limit: span(f.LimitSeconds), Span: span(f.SpanSeconds), Machine: trim(f.Machine), Port: f.Port, Command: trim(f.Command), URL: trim(f.URL), Status: f.Status,
		Text: trim(f.Text), Server: trim(f.Server), Record: trim(f.Record), Type: strings.ToUpper(trim(f.Type)), TTL: span(f.TTLSeconds)}
	for _, t := range f.To {
		s.To = append(s.To, trim(t))
	}
	for _, c := range f.Channels {
		s.Channels = append(s.Channels, trim(c))
	}
	return s
}

func writeSettings(s berth.Settings) formSettings {
	f := formSettings{Platform: s.Platform, Pool: s.Pool, Datastore: s.Datastore, Folder: s.Folder, Name: s.Name, DrillName: s.DrillName, CPUs: s.CPUs, MemoryBytes: s.MemoryBytes, DrillPercent: s.DrillPercent,
		Suffix: s.Suffix, Address: s.Address, Way: string(s.Way), Format: s.Format, Before: s.Before, After: s.After}
	for _, n := range s.Networks {
		f.Networks = append(f.Networks, formNetwork(n))
	}
	for _, r := range s.Rules {
		f.Rules = append(f.Rules, r.String())
	}
	for _, d := range s.DNS {
		f.DNS = append(f.DNS, d.String())
	}
	return f
}

func (f formSettings) read(prefix string, faults *[]problem.Field) berth.Settings {
	fault := func(field, format string, a ...any) {
		*faults = append(*faults, problem.Field{Field: prefix + field, Message: fmt.Sprintf(format, a...)})
	}
	trim := strings.TrimSpace
	s := berth.Settings{Platform: trim(f.Platform), Pool: trim(f.Pool), Datastore: trim(f.Datastore), Folder: trim(f.Folder), Name: trim(f.Name), DrillName: trim(f.DrillName), CPUs: f.CPUs, MemoryBytes: f.MemoryBytes, DrillPercent: f.DrillPercent,
		Suffix: trim(f.Suffix), Address: trim(f.Address), Way: berth.Way(trim(f.Way)), Format: trim(f.Format), Before: trim(f.Before), After: trim(f.After)}
	for _, n := range f.Networks {
		s.Networks = append(s.Networks, berth.NetworkMap{Home: trim(n.Home), Live: trim(n.Live), Drill: trim(n.Drill)})
	}
	for i, text := range f.Rules {
		r, err := berth.ParseRule(text)
		if err != nil {
			fault(fmt.Sprintf("rules[%d]", i), "Rule %q: %v.", text, err)
			continue
		}
		s.Rules = append(s.Rules, r)
	}
	for i, text := range f.DNS {
		a, err := netip.ParseAddr(trim(text))
		if err != nil || a.Zone() != "" {
			fault(fmt.Sprintf("dns[%d]", i), "%q is no address of a DNS server.", text)
			continue
		}
		s.DNS = append(s.DNS, a)
	}
	return s
}

func write(b berth.Berth) form {
	f := form{formSettings: writeSettings(b.Settings), Gateways: b.Gateways}
	for _, m := range b.Machines {
		x := formMachine{Machine: m.Machine, formSettings: writeSettings(m.Settings), Wave: m.Wave}
		for _, c := range m.Cards {
			x.Cards = append(x.Cards, formCard(c))
		}
		f.Machines = append(f.Machines, x)
	}
	for _, w := range b.Waves {
		f.Waves = append(f.Waves, formWave{w.Number, int64(w.Wait / time.Second), string(w.Check), int64(w.Limit / time.Second)})
	}
	for _, s := range b.Steps {
		f.Steps = append(f.Steps, writeStep(s))
	}
	f.Needs = b.Needs
	return f
}

// most is the longest form that is read, in bytes.
const most = 1 << 20

// Decode reads a berth. What cannot be read is told field by field; what can, is read.
func Decode(b []byte) (berth.Berth, []problem.Field, error) {
	if len(b) > most {
		return berth.Berth{}, nil, problem.Invalid("", "A berth has at most %d bytes.", most)
	}
	var f form
	if err := json.Unmarshal(b, &f); err != nil {
		return berth.Berth{}, nil, problem.Invalid("", "The berth cannot be read: %v.", err)
	}
	var said any
	if err := json.Unmarshal(b, &said); err == nil {
		if field, most := tooLong("", said); field != "" {
			return berth.Berth{}, nil, problem.Invalid(field, "At most %d characters.", most)
		}
	}
	var faults []problem.Field
	out := berth.Berth{Settings: f.read("", &faults), Gateways: f.Gateways}
	for i, m := range f.Machines {
		x := berth.MachineSettings{Machine: strings.TrimSpace(m.Machine), Wave: m.Wave, Settings: m.read(fmt.Sprintf("machines[%d].", i), &faults)}
		for _, c := range m.Cards {
			x.Cards = append(x.Cards, berth.CardSettings(c))
		}
		out.Machines = append(out.Machines, x)
	}
	for _, w := range f.Waves {
		out.Waves = append(out.Waves, berth.Wave{Number: w.Number, Wait: span(w.WaitSeconds), Check: berth.Check(w.Check), Limit: span(w.LimitSeconds)})
	}
	for _, s := range f.Steps {
		out.Steps = append(out.Steps, s.read())
	}
	for _, n := range f.Needs {
		out.Needs = append(out.Needs, strings.TrimSpace(n))
	}
	return out, faults, nil
}

// lengths are how many characters texts may have, by the names of their fields; others may
// have usualLength.
func lengths() map[string]int {
	return map[string]int{"rules": 300, "suffix": 253, "after": 500, "command": 500, "text": 500, "url": 500, "record": 253}
}

const usualLength = 200

// tooLong finds a text of a berth that is longer than it may be, and how long it may be.
func tooLong(path string, said any) (field string, most int) {
	switch x := said.(type) {
	case string:
		name := path[strings.LastIndex(path, ".")+1:]
		name, _, _ = strings.Cut(name, "[")
		most := cmp.Or(lengths()[name], usualLength)
		if utf8.RuneCountInString(x) > most {
			return path, most
		}
	case []any:
		for i, v := range x {
			if field, most := tooLong(fmt.Sprintf("%s[%d]", path, i), v); field != "" {
				return field, most
			}
		}
	case map[string]any:
		for _, k := range slices.Sorted(maps.Keys(x)) {
			if field, most := tooLong(strings.TrimPrefix(path+"."+k, "."), x[k]); field != "" {
				return field, most
			}
		}
	}
	return "", 0
}

// span reads seconds; more than a day is all the same too much, and does not overflow.
func span(n int64) time.Duration {
	return time.Duration(min(max(n, -1), 1<<20)) * time.Second
}

// Encode writes a berth.
func Encode(b berth.Berth) []byte {
	out, err := json.Marshal(write(b))
	if err != nil {
		panic(err) // plain structs always marshal
	}
	return out
}

// What follows is told of a berth; the contract has the same shapes.

// View is a group's berth, and how its machines arrive by it.
type View struct {
	Site     string          `json:"site"` // whose berth it is: the recovery site
	Revision int64           `json:"revision"`
	Berth    json.RawMessage `json:"berth"`
	// Machines tells where what is known of the machines comes from.
	Machines string        `json:"machines"`
	Arrivals []ArrivalView `json:"arrivals"`
	Faults   []FindingView `json:"faults"`
	Warnings []FindingView `json:"warnings"`
	Choices  Choices       `json:"choices"`
}

// FindingView is what is wrong with a field.
type FindingView struct {
	Field   string `json:"field"`
	Message string `json:"message"`
}

// ValueView is what counts and where it comes from.
type ValueView struct {
	Value string `json:"value"`
	From  string `json:"from"`
}

// ArrivalView is how a machine arrives.
type ArrivalView struct {
	ID               string     `json:"id"`
	Machine          string     `json:"machine"`
	Platform         ValueView  `json:"platform"`
	Pool             ValueView  `json:"pool"`
	Datastore        ValueView  `json:"datastore"`
	Folder           ValueView  `json:"folder"`
	Name             ValueView  `json:"name"`
	DrillName        ValueView  `json:"drillName"`
	CPUs             int        `json:"cpus"`
	DrillCPUs        int        `json:"drillCpus"`
	MemoryBytes      int64      `json:"memoryBytes"`
	DrillMemoryBytes int64      `json:"drillMemoryBytes"`
	SizeFrom         string     `json:"sizeFrom"`
	Way              ValueView  `json:"way"`
	WayLimit         string     `json:"wayLimit"`
	DNS              ValueView  `json:"dns"`
	Suffix           ValueView  `json:"suffix"`
	Format           ValueView  `json:"format"`
	Before           ValueView  `json:"before"`
	After            ValueView  `json:"after"`
	Wave             int        `json:"wave"`
	Cards            []CardView `json:"cards"`
}

// CardView is how a card arrives.
type CardView struct {
	MAC     string       `json:"mac"`
	Network string       `json:"network"`
	Address string       `json:"address"` // empty if it is not known
	Live    AttachedView `json:"live"`
	Drill   AttachedView `json:"drill"`
}

// AttachedView is what a card is attached to, and its address there.
type AttachedView struct {
	Network ValueView `json:"network"`
	Address string    `json:"address"` // with its mask, or dhcp; empty if it is not known
	Gateway string    `json:"gateway"`
	From    string    `json:"from"`
}

// Choices is what can be chosen on the platform that machines arrive on.
type Choices struct {
	Platforms    []string        `json:"platforms"`
	Pools        []string        `json:"pools"`
	Datastores   []string        `json:"datastores"`
	Folders      []string        `json:"folders"`
	Networks     []NetworkChoice `json:"networks"`
	HomeNetworks []string        `json:"homeNetworks"` // that the machines are on
	Ways         []string        `json:"ways"`
	Formats      []string        `json:"formats"`  // of disks
	Commands     []string        `json:"commands"` // of this host, that may run before a machine starts
	Servers      []string        `json:"servers"`  // of DNS, that steps may have changed
	Channels     []string        `json:"channels"` // by which steps may tell people
}

// NetworkChoice is a network that cards can be attached to.
type NetworkChoice struct {
	Name     string `json:"name"`
	Note     string `json:"note"` // subnet and kind, in words
	Isolated bool   `json:"isolated"`
}

func valueView(v berth.Value) ValueView { return ValueView{v.Text, v.From} }

func arrivalView(a berth.Arrival) ArrivalView {
	v := ArrivalView{ID: a.Machine.ID, Machine: a.Machine.Name, Platform: valueView(a.Platform), Pool: valueView(a.Pool), Datastore: valueView(a.Datastore), Folder: valueView(a.Folder), Name: valueView(a.Name), DrillName: valueView(a.DrillName),
		CPUs: a.CPUs, DrillCPUs: a.DrillCPUs, MemoryBytes: a.Memory, DrillMemoryBytes: a.DrillMemory, SizeFrom: a.SizeFrom, Way: valueView(a.Way), WayLimit: berth.Way(a.Way.Text).Limit(),
		DNS: valueView(a.DNS), Suffix: valueView(a.Suffix), Format: valueView(a.Format), Before: valueView(a.Before), After: valueView(a.After), Wave: a.Wave, Cards: []CardView{}}
	for _, c := range a.Cards {
		x := CardView{MAC: c.Home.MAC, Network: c.Home.Network, Live: attachedView(c.Live), Drill: attachedView(c.Drill)}
		if c.Home.Address.IsValid() {
			x.Address = c.Home.Address.String()
		}
		v.Cards = append(v.Cards, x)
	}
	return v
}

func attachedView(a berth.Attached) AttachedView {
	v := AttachedView{Network: valueView(a.Network), From: a.From}
	if a.Mode == berth.ByDHCP {
		v.Address = berth.ByDHCP
	}
	if a.Address.IsValid() {
		v.Address = a.Address.String()
	}
	if a.Gateway.IsValid() {
		v.Gateway = a.Gateway.String()
	}
	return v
}
