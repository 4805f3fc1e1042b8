package berth_test

import (
	"net/netip"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"kestrel/internal/core/berth"
)

func TestRulesAreReadAndWritten(t *testing.T) {
	for text, want := range map[string]string{ // address → address there
		"10.40.8.0/24 -> 10.60.4.0/24":                                 "10.40.8.11 10.60.4.11/24",
		"10.40.8.0/24→10.60.4.0/24 gateway 10.60.4.1":                  "10.40.8.254 10.60.4.254/24",
		"10.40.8.0/24 -> 10.60.0.0/16":                                 "10.40.8.7 10.60.0.7/16",
		"live on quay-lan 10.40.8.10-10.40.8.20 -> 10.60.4.110/24":     "10.40.8.20 10.60.4.120/24",
		`drill on "quay lan" vlan 120 10.40.8.11 -> 192.168.250.11/24`: "10.40.8.11 192.168.250.11/24",
		"fd00:8::/64 -> fd00:60::/64 gateway fd00:60::1":               "fd00:8::a:b fd00:60::a:b/64",
		"fd00:8::11 -> fd00:60::11/64":                                 "fd00:8::11 fd00:60::11/64",
	} {
		r, err := berth.ParseRule(text)
		require.NoError(t, err, text)
		from, to, _ := strings.Cut(want, " ")
		a := netip.MustParseAddr(from)
		kind, network, vlan := r.Kind, r.Network, r.VLAN
		if kind == "" {
			kind = berth.Live
		}
		require.True(t, r.Covers(kind, network, vlan, a), text)
		require.Equal(t, to, r.Map(a).String(), text)
		again, err := berth.ParseRule(r.String())
		require.NoError(t, err, r.String())
		require.Equal(t, r, again, "it is read as it is written")
		require.False(t, r.Covers(kind, network, vlan, netip.MustParseAddr("172.16.0.1")), text)
	}
	r, err := berth.ParseRule("drill on quay-lan vlan 7 10.0.0.0/8 -> 10.0.0.0/8")
	require.NoError(t, err)
	a := netip.MustParseAddr("10.1.2.3")
	require.True(t, r.Covers(berth.Drill, "QUAY-LAN", 7, a))
	require.False(t, r.Covers(berth.Live, "quay-lan", 7, a))
	require.False(t, r.Covers(berth.Drill, "pier-lan", 7, a))
	require.False(t, r.Covers(berth.Drill, "quay-lan", 8, a))
}

func TestRulesThatCannotBe(t *testing.T) {
	for text, why := range map[string]string{
		"10.40.8.0/24":                                     "no arrow",
		"10.40.8.0 10.40.9.0 -> 10.60.4.0/24":              "one subnet",
		"10.40.8.5/24 -> 10.60.4.0/24":                     "write the subnet",
		"10.40.8.0/24 -> 10.60.4.5/24":                     "write the subnet",
		"10.40.8.0/24 -> 10.60.4.0/25":                     "less room",
		"10.40.8.0/24 -> 10.60.4.0":                        "no subnet",
		"10.40.8.11 -> 10.60.4.11":                         "with its mask",
		"10.40.8.20-10.40.8.10 -> 10.60.4.110/24":          "lower to a higher",
		"10.40.8.10-10.40.8.60 -> 10.60.4.220/24":          "does not fit",
		"10.40.8.0/24 -> fd00::/64":                        "IPv4 or IPv6",
		"10.40.8.0/33 -> 10.60.4.0/24":                     "no subnet",
		"10.40.8 -> 10.60.4.11/24":                         "no address",
		"10.40.8.0/24 -> 10.60.4.0/24 gateway 10.60.5.1":   "not inside",
		"10.40.8.0/24 -> 10.60.4.0/24 gateway 10.60.4.0":   "names the subnet",
		"10.40.8.0/24 -> 10.60.4.0/24 gateway 10.60.4.255": "broadcast",
		"10.40.8.0/24 -> 10.60.4.0/24 gateway x":           "no address",
		"10.40.8.0/24 -> 10.60.4.0/24 by 10.60.4.1":        "at most",
		"vlan 5000 10.40.8.0/24 -> 10.60.4.0/24":           "VLAN",
		`on "quay 10.40.8.0/24 -> 10.60.4.0/24`:            "quote",
		"fe80::1%eth0 -> fd00::1/64":                       "no address",
		"255.255.255.250-255.255.255.255 -> 0.0.0.1":       "with its mask", "0.0.0.0/0 -> 10.0.0.0/8": "not a part", "10.1.1.1/32 -> 10.0.0.1/32": "write an address",
	} {
		_, err := berth.ParseRule(text)
		require.ErrorContains(t, err, why, text)
	}
}

// Whatever a subnet and a larger one are: host parts are kept, and no two addresses
// become one.
func TestRulesKeepHostsApart(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		six := rapid.Bool().Draw(t, "six")
		size := 4
		if six {
			size = 16
		}
		subnet := func(bits int, what string) netip.Prefix {
			a, _ := netip.AddrFromSlice(rapid.SliceOfN(rapid.Byte(), size, size).Draw(t, what))
			return netip.PrefixFrom(a, bits).Masked()
		}
		bits := rapid.IntRange(1, size*8-1).Draw(t, "bits")
		from, to := subnet(bits, "from"), subnet(rapid.IntRange(1, bits).Draw(t, "to bits"), "to")
		r, err := berth.ParseRule(from.String() + " -> " + to.String())
		if err != nil {
			t.Fatalf("%s -> %s: %v", from, to, err)
		}
		host := func(p netip.Prefix, h []byte) netip.Addr {
			b := p.Addr().AsSlice()
			for i := range b {
				for bit := range 8 {
					if at := i*8 + bit; at >= bits && h[i]&(1<<(7-bit)) != 0 {
						b[i] |= 1 << (7 - bit)
					}
				}
			}
			a, _ := netip.AddrFromSlice(b)
			return a
		}
		h, g := rapid.SliceOfN(rapid.Byte(), size, size).Draw(t, "host"), rapid.SliceOfN(rapid.Byte(), size, size).Draw(t, "other")
		a, b := host(from, h), host(from, g)
		if got, want := r.Map(a), netip.PrefixFrom(host(to, h), to.Bits()); got != want {
			t.Fatalf("%s: %s became %s, not %s", r, a, got, want)
		}
		if (a == b) != (r.Map(a) == r.Map(b)) || !to.Contains(r.Map(b).Addr()) {
			t.Fatalf("%s: %s and %s became %s and %s", r, a, b, r.Map(a), r.Map(b))
		}
	})
}

func TestNames(t *testing.T) {
	lab := berth.Names{Most: 12, Only: "-_", Start: true}
	for name, want := range map[string][2]string{
		"tick-db":             {"", ""},
		"":                    {"it is empty", ""},
		"tick db":             {"it has the character ' '", "tick-db"},
		"_tick":               {"begins with '_'", "tick"},
		"ticketing-database":  {"18 characters, and 12", "ticketing-da"},
		" tick":               {"blank", "tick"},
		"kai-müller":          {"'ü'", "kai-m-ller"},
		"tick\u202edb":        {"character", "tick-db"},
		"ticketing-datä-base": {"19 characters", "ticketing-da"},
	} {
		why, instead := lab.Refuses(name)
		if want[0] == "" {
			require.Empty(t, why, name)
			continue
		}
		require.Contains(t, why, want[0], name)
		require.Equal(t, want[1], instead, name)
	}
	why, instead := berth.Names{Never: "/"}.Refuses("a/b")
	require.Contains(t, why, "'/'")
	require.Equal(t, "a-b", instead)
	why, _ = berth.Names{}.Refuses("anything / at all")
	require.Empty(t, why)
	rapid.Check(t, func(t *rapid.T) {
		n := berth.Names{Most: rapid.IntRange(1, 40).Draw(t, "most"), Only: rapid.SampledFrom([]string{"", "-", "_."}).Draw(t, "only"), Never: "/\\", Start: rapid.Bool().Draw(t, "start")}
		if _, instead := n.Refuses(rapid.String().Draw(t, "name")); instead != "" {
			if why, _ := n.Refuses(instead); why != "" {
				t.Fatalf("%q is suggested, and refused: %s", instead, why)
			}
		}
	})
}

func rules(t *testing.T, texts ...string) (out []berth.Rule) {
	t.Helper()
	for _, text := range texts {
		r, err := berth.ParseRule(text)
		require.NoError(t, err)
		out = append(out, r)
	}
	return out
}

func mole() berth.Place {
	return berth.Place{Name: "mole", Kind: "lab", Seen: true, Lands: true, Pools: []berth.Pool{{Name: "production", MemoryBytes: 64 << 30}, {Name: "recovery", MemoryBytes: 16 << 30}},
		Datastores: []berth.Datastore{{Name: "vault-1", FreeBytes: 100 << 30}}, Folders: []string{"/mole"}, Names: berth.Names{Most: 40, Only: "-_."},
		Networks: []berth.Network{
			{Name: "mole-lan", Subnets: []netip.Prefix{netip.MustParsePrefix("10.60.4.0/24")}, Gateway: netip.MustParseAddr("10.60.4.1")},
			{Name: "mole-dmz", Subnets: []netip.Prefix{netip.MustParsePrefix("10.60.5.0/24")}, Gateway: netip.MustParseAddr("10.60.5.1")},
			{Name: "drill-lan", Subnets: []netip.Prefix{netip.MustParsePrefix("10.60.4.0/24")}, Isolated: true, DHCP: true}},
		Machines: []string{"gate-db"}, Used: []berth.Used{{Address: netip.MustParseAddr("10.60.4.12"), Network: "mole-lan", By: "gate-db has it"}}, Ways: []berth.Way{berth.DHCP, berth.Agent, berth.Seed}}
}

func machine(name, address string) berth.Machine {
	m := berth.Machine{ID: "id-" + name, Name: name, CPUs: 4, MemoryBytes: 8 << 30, SizeBytes: 10 << 30, Agent: true, Cards: []berth.HomeCard{{MAC: "02:00:00:00:00:01", Network: "quay-lan"}}}
	if address != "" {
		m.Cards[0].Address = netip.MustParseAddr(address)
	}
	return m
}

func at(p berth.Place) func(string) (berth.Place, bool) {
	return func(name string) (berth.Place, bool) { return p, strings.EqualFold(name, p.Name) }
}

// good is a berth with which nothing is wrong.
func good(t *testing.T) berth.Berth {
	return berth.Berth{Settings: berth.Settings{Platform: "mole", Pool: "recovery", Datastore: "vault-1", Name: "{name}-em", Way: berth.Seed,
		Networks: []berth.NetworkMap{{Home: "quay-lan", Live: "mole-lan", Drill: "drill-lan"}},
		Rules:    rules(t, "10.40.8.0/24 -> 10.60.4.0/24 gateway 10.60.4.1")}}
}

func TestLayers(t *testing.T) {
	b := good(t)
	b.Machines = []berth.MachineSettings{{Machine: "tick-db", Wave: 2, Settings: berth.Settings{CPUs: 2, DrillPercent: 50, Name: "ticket-db"}, Cards: []berth.CardSettings{{Card: "1", Address: "10.60.4.99/24", Gateway: "none"}}}}
	b.Datastore = ""
	got := b.Resolve([]berth.Machine{machine("tick-db", "10.40.8.11"), machine("tick-app", "10.40.8.12")}, []berth.Level{
		{From: "the default of mole", Settings: berth.Settings{Pool: "production", Folder: "/mole", DrillPercent: 25, Suffix: "skerry.example"}},
		{From: "the default of the link with Norhaven", Settings: berth.Settings{Folder: "/arrivals", Rules: rules(t, "10.40.8.12 -> 10.60.4.200/24")}}}, at(mole()))
	db, app := got[0], got[1]
	require.Equal(t, berth.Value{Text: "recovery", From: "the group"}, db.Pool)
	require.Equal(t, berth.Value{Text: "/arrivals", From: "the default of the link with Norhaven"}, db.Folder)
	require.Equal(t, berth.Value{Text: "skerry.example", From: "the default of mole"}, db.Suffix)
	require.Equal(t, berth.Value{Text: "vault-1", From: "the only one there"}, db.Datastore)
	require.Equal(t, berth.Value{Text: "ticket-db", From: "the machine"}, db.Name)
	require.Equal(t, "ticket-db-drill", db.DrillName.Text)
	require.Equal(t, "tick-app-em", app.Name.Text)
	require.Equal(t, []int{2, 1, 4, 1}, []int{db.CPUs, db.DrillCPUs, app.CPUs, app.DrillCPUs}, "half of two, and a quarter of four")
	require.Equal(t, int64(4<<30), db.DrillMemory)
	require.Equal(t, []int{2, 1}, []int{db.Wave, app.Wave})
	live := db.Cards[0].Live
	require.Equal(t, "10.60.4.99/24", live.Address.String())
	require.False(t, live.Gateway.IsValid())
	require.Equal(t, "the card", live.From)
	require.Equal(t, "10.60.4.12/24", app.Cards[0].Live.Address.String(), "the group's rule counts more than the link's")
	require.Contains(t, app.Cards[0].Live.From, "of the group")
	require.Equal(t, "drill-lan", app.Cards[0].Drill.Network.Text)
	require.Equal(t, "10.60.4.12/24", app.Cards[0].As(berth.Drill).Address.String())
	require.Empty(t, berth.Diff(got, got))
	app.Cards = nil
	require.Contains(t, strings.Join(berth.Diff([]berth.Arrival{db, app}, got), "\n"), "tick-app: card 1 live nothing → mole-lan 10.60.4.12/24 by 10.60.4.1")
}

// Each of these mistakes is found by itself, by its field, and is said to be a fault or a
// warning.
func TestMistakes(t *testing.T) {
	type mistake struct {
		do    func(b *berth.Berth, p *berth.Place, ms []berth.Machine)
		field string
		text  string
		warns bool
	}
	for name, m := range map[string]mistake{
		"no platform":      {func(b *berth.Berth, _ *berth.Place, _ []berth.Machine) { b.Platform = "" }, "platform", "No platform is chosen", true},
		"unknown platform": {func(b *berth.Berth, _ *berth.Place, _ []berth.Machine) { b.Platform = "moon" }, "platform", `no platform "moon"`, false},
		"not seen":         {func(_ *berth.Berth, p *berth.Place, _ []berth.Machine) { p.Seen = false }, "platform", "not answered", true},
		"lands not":        {func(_ *berth.Berth, p *berth.Place, _ []berth.Machine) { p.Lands = false }, "platform", "cannot be started", true},
		"no datastore":     {func(b *berth.Berth, _ *berth.Place, _ []berth.Machine) { b.Datastore = "attic" }, "machines.tick-db.datastore", "no datastore", false},
		"no pool":          {func(b *berth.Berth, _ *berth.Place, _ []berth.Machine) { b.Pool = "deep" }, "machines.tick-db.pool", "no pool", false},
		"no folder":        {func(b *berth.Berth, _ *berth.Place, _ []berth.Machine) { b.Folder = "/moon" }, "machines.tick-db.folder", "no folder", true},
		"no room":          {func(_ *berth.Berth, p *berth.Place, _ []berth.Machine) { p.Datastores[0].FreeBytes = 1 << 30 }, "datastore", "20 GiB in all", true},
		"no memory":        {func(_ *berth.Berth, p *berth.Place, _ []berth.Machine) { p.Pools[1].MemoryBytes = 1 << 30 }, "pool", "need 16 GiB", true},
		"no network":       {func(b *berth.Berth, _ *berth.Place, _ []berth.Machine) { b.Networks[0].Live = "moon" }, "machines.tick-db.cards[0].live", "no network", false},
		"not mapped":       {func(b *berth.Berth, _ *berth.Place, _ []berth.Machine) { b.Networks[0].Live = "" }, "machines.tick-db.cards[0].live", "will not be connected", true},
		"not isolated": {func(b *berth.Berth, _ *berth.Place, _ []berth.Machine) {
			b.Networks[0].Drill, b.Rules = "mole-dmz", append(b.Rules[:0:0], mustRule("drill 10.40.8.0/24 -> 10.60.5.0/24 gateway 10.60.5.1"), b.Rules[0])
		}, "machines.tick-db.cards[0].drill", "not known to be isolated", true},
		"drill where live is": {func(b *berth.Berth, _ *berth.Place, _ []berth.Machine) { b.Networks[0].Drill = "mole-lan" }, "machines.tick-db.cards[0].drill", "alike", true},
		"outside its subnet": {func(b *berth.Berth, _ *berth.Place, _ []berth.Machine) {
			b.Rules = []berth.Rule{mustRule("10.40.8.0/24 -> 10.60.9.0/24 gateway 10.60.9.1")}
		}, "machines.tick-db.cards[0].address", "not inside mole-lan", false},
		"kept outside": {func(b *berth.Berth, _ *berth.Place, _ []berth.Machine) { b.Rules = nil }, "machines.tick-db.cards[0].address", "Give a rule", true},
		"in use": {func(_ *berth.Berth, p *berth.Place, _ []berth.Machine) {
			p.Used[0].Address = netip.MustParseAddr("10.60.4.11")
		}, "machines.tick-db.cards[0].address", "gate-db has it", false},
		"in use by a berth": {func(_ *berth.Berth, p *berth.Place, _ []berth.Machine) {
			p.Used = []berth.Used{{Address: netip.MustParseAddr("10.60.4.11"), Network: "drill-lan", By: "gate of Gates is given it", Drill: true}}
		}, "machines.tick-db.cards[0].drillAddress", "gate of Gates", false},
		"twice": {func(b *berth.Berth, _ *berth.Place, _ []berth.Machine) {
			b.Machines = []berth.MachineSettings{{Machine: "tick-app", Cards: []berth.CardSettings{{Card: "1", Address: "10.60.4.11/24", DrillAddress: "keep"}}}}
		}, "machines.tick-app.cards[0].address", "tick-db would have 10.60.4.11", false},
		"own gateway": {func(b *berth.Berth, _ *berth.Place, _ []berth.Machine) {
			b.Rules = []berth.Rule{mustRule("10.40.8.0/24 -> 10.60.4.0/24 gateway 10.60.4.11")}
		}, "machines.tick-db.cards[0].address", "its own gateway", false},
		"gateway elsewhere": {func(b *berth.Berth, _ *berth.Place, _ []berth.Machine) {
			b.Machines = []berth.MachineSettings{{Machine: "tick-db", Cards: []berth.CardSettings{{Card: "1", Address: "rule", Gateway: "10.60.5.1"}}}}
		}, "machines.tick-db.cards[0].gateway", "not inside", false},
		"no gateway": {func(b *berth.Berth, p *berth.Place, _ []berth.Machine) {
			b.Rules = []berth.Rule{mustRule("10.40.8.0/24 -> 10.60.4.0/24")}
			p.Networks[0].Gateway = netip.Addr{}
		}, "machines.tick-db.cards[0].gateway", "no gateway", true},
		"broadcast": {func(b *berth.Berth, _ *berth.Place, ms []berth.Machine) {
			ms[0].Cards[0].Address = netip.MustParseAddr("10.40.8.255")
		}, "machines.tick-db.cards[0].address", "broadcast", false},
		"address not known": {func(_ *berth.Berth, _ *berth.Place, ms []berth.Machine) { ms[0].Cards[0].Address = netip.Addr{} }, "machines.tick-db.cards[0].address", "not known", true},
		"two gateways": {func(_ *berth.Berth, _ *berth.Place, ms []berth.Machine) {
			ms[0].Cards = append(ms[0].Cards, berth.HomeCard{MAC: "02:00:00:00:00:09", Network: "quay-lan", Address: netip.MustParseAddr("10.40.8.77")})
		}, "machines.tick-db.cards", "more than one card", false},
		"no way": {func(b *berth.Berth, _ *berth.Place, _ []berth.Machine) { b.Way = "" }, "machines.tick-db.cards[0].way", "nothing tells its guest", true},
		"format not there": {func(b *berth.Berth, p *berth.Place, _ []berth.Machine) {
			p.Formats = []berth.Format{{Name: "qcow2"}}
			b.Format = "vdi"
		}, "machines.tick-db.format", `no disks in the format "vdi"; it can do qcow2`, false},
		"format with a limit": {func(b *berth.Berth, p *berth.Place, _ []berth.Machine) {
			p.Formats = []berth.Format{{Name: "qcow2"}, {Name: "raw", Limit: "no changes are tracked."}}
			b.Format = "raw"
		}, "machines.tick-db.format", "Disks of tick-db as raw: no changes are tracked.", true},
		"command not there": {func(b *berth.Berth, p *berth.Place, _ []berth.Machine) {
			p.Commands = []string{"open-gate"}
			b.Before = "open-door"
		}, "machines.tick-db.before", "it has open-gate", false},
		"way not there":            {func(_ *berth.Berth, p *berth.Place, _ []berth.Machine) { p.Ways = nil }, "machines.tick-db.way", "cannot do seed", false},
		"no DHCP server":           {func(b *berth.Berth, _ *berth.Place, _ []berth.Machine) { b.Way = berth.DHCP }, "machines.tick-db.cards[0].way", "no DHCP server", false},
		"no agent":                 {func(b *berth.Berth, _ *berth.Place, ms []berth.Machine) { b.Way, ms[0].Agent = berth.Agent, false }, "machines.tick-db.way", "No agent", true},
		"no agent for the command": {func(b *berth.Berth, _ *berth.Place, ms []berth.Machine) { b.After, ms[0].Agent = "true", false }, "machines.tick-db.after", "No agent", true},
		"name refused":             {func(b *berth.Berth, _ *berth.Place, _ []berth.Machine) { b.Name = "{name} at Mole" }, "machines.tick-db.name", `"tick-db-at-Mole" would do`, false},
		"one name for all":         {func(b *berth.Berth, _ *berth.Place, _ []berth.Machine) { b.Name = "arrival" }, "machines.tick-app.name", "{name}", false},
		"name taken":               {func(_ *berth.Berth, p *berth.Place, _ []berth.Machine) { p.Machines = []string{"Tick-DB-em"} }, "machines.tick-db.name", "already", true},
		"no such machine": {func(b *berth.Berth, _ *berth.Place, _ []berth.Machine) {
			b.Machines = []berth.MachineSettings{{Machine: "tick-dbb"}}
		}, "machines[0].machine", "no machine of the group", true},
		"no such card": {func(b *berth.Berth, _ *berth.Place, _ []berth.Machine) {
			b.Machines = []berth.MachineSettings{{Machine: "tick-db", Cards: []berth.CardSettings{{Card: "02:aa:00:00:00:01"}}}}
		}, "machines[0].cards[0].card", "has no card", true},
	} {
		t.Run(name, func(t *testing.T) {
			b, p, ms := good(t), mole(), []berth.Machine{machine("tick-db", "10.40.8.11"), machine("tick-app", "10.40.8.13")}
			require.Empty(t, append(b.Check(), b.Survey(b.Resolve(ms, nil, at(p)), at(p))...), "nothing is wrong before")
			m.do(&b, &p, ms)
			require.Empty(t, b.Check())
			found := false
			all := b.Survey(b.Resolve(ms, nil, at(p)), at(p))
			for _, f := range all {
				found = found || f.Field == m.field && strings.Contains(f.Message, m.text) && f.Warning == m.warns
			}
			require.True(t, found, "%+v", all)
		})
	}
	b := good(t)
	b.Gateways = true
	two := machine("tick-db", "10.40.8.11")
	two.Cards = append(two.Cards, berth.HomeCard{MAC: "02:00:00:00:00:09", Network: "quay-lan", Address: netip.MustParseAddr("10.40.8.77")})
	require.Empty(t, b.Survey(b.Resolve([]berth.Machine{two}, nil, at(mole())), at(mole())), "whoever insists may")
}

func mustRule(text string) berth.Rule {
	r, err := berth.ParseRule(text)
	if err != nil {
		panic(err)
	}
	return r
}

func TestSettingsByThemselves(t *testing.T) {
	for field, do := range map[string]func(b *berth.Berth){
		"platform":            func(b *berth.Berth) { b.Platform = "a\u202eb" },
		"folder":              func(b *berth.Berth) { b.Folder = strings.Repeat("x", 300) },
		"name":                func(b *berth.Berth) { b.Name = "{host}-em" },
		"cpus":                func(b *berth.Berth) { b.CPUs = 1000 },
		"memoryBytes":         func(b *berth.Berth) { b.MemoryBytes = 1 },
		"drillPercent":        func(b *berth.Berth) { b.DrillPercent = 101 },
		"networks[1].home":    func(b *berth.Berth) { b.Networks = append(b.Networks, berth.NetworkMap{Home: "Quay-LAN"}) },
		"rules[1]":            func(b *berth.Berth) { b.Rules = append(b.Rules, mustRule("live 10.40.8.7 -> 10.60.4.7/24")) },
		"dns[0]":              func(b *berth.Berth) { b.DNS = []netip.Addr{netip.IPv4Unspecified()} },
		"suffix":              func(b *berth.Berth) { b.Suffix = "-skerry" },
		"address":             func(b *berth.Berth) { b.Address = "10.0.0.1/24" },
		"way":                 func(b *berth.Berth) { b.Way = "pigeon" },
		"after":               func(b *berth.Berth) { b.After = "a\x00b" },
		"machines[0].machine": func(b *berth.Berth) { b.Machines = []berth.MachineSettings{{}} },
		"machines[1].machine": func(b *berth.Berth) { b.Machines = []berth.MachineSettings{{Machine: "a"}, {Machine: "A"}} },
		"machines[0].platform": func(b *berth.Berth) {
			b.Machines = []berth.MachineSettings{{Machine: "a", Settings: berth.Settings{Platform: "x"}}}
		},
		"machines[0].wave":             func(b *berth.Berth) { b.Machines = []berth.MachineSettings{{Machine: "a", Wave: 100}} },
		"machines[0].cards[0].card":    func(b *berth.Berth) { card(b, berth.CardSettings{Card: "0"}) },
		"machines[0].cards[0].address": func(b *berth.Berth) { card(b, berth.CardSettings{Card: "1", Address: "10.0.0.0/24"}) },
		"machines[0].cards[0].gateway": func(b *berth.Berth) {
			card(b, berth.CardSettings{Card: "1", Address: "10.0.0.1/24", Gateway: "10.0.0.1"})
		},
		"machines[0].cards[0].drillGateway": func(b *berth.Berth) {
			card(b, berth.CardSettings{Card: "1", DrillAddress: "10.0.0.1/24", DrillGateway: "10.0.1.1"})
		},
		"waves[1].number":      func(b *berth.Berth) { b.Waves = []berth.Wave{{Number: 1}, {Number: 1}} },
		"waves[0].waitSeconds": func(b *berth.Berth) { b.Waves = []berth.Wave{{Number: 1, Wait: 2 * berth.MaxWait}} },
		"waves[0].check":       func(b *berth.Berth) { b.Waves = []berth.Wave{{Number: 1, Check: "port 0"}} },
	} {
		b := good(t)
		do(&b)
		fs := b.Check()
		require.Len(t, fs, 1, "%s: %+v", field, fs)
		require.Equal(t, field, fs[0].Field)
		require.False(t, fs[0].Warning)
	}
	b := good(t)
	b.Waves = []berth.Wave{{Number: 1, Check: "port 443", Wait: berth.DefaultLimit}, {Number: 2, Check: berth.CheckAgent}}
	require.Empty(t, b.Check())
}

func card(b *berth.Berth, c berth.CardSettings) {
	b.Machines = []berth.MachineSettings{{Machine: "a", Cards: []berth.CardSettings{c}}}
}

// What is wrong with live addresses bars no drill, and the other way round.
func TestConcerns(t *testing.T) {
	for field, want := range map[string][2]bool{"machines.tick-db.cards[0].address": {true, false}, "machines.tick-db.cards[0].drillAddress": {false, true}, "machines.a.b.name": {true, false}, "machines.a.drillName": {false, true}, "platform": {true, true}, "machines.tick-db.cards[1].live": {true, false}, "datastore": {true, true}} {
		require.Equal(t, want, [2]bool{berth.Concerns(field, berth.Live), berth.Concerns(field, berth.Drill)}, field)
	}
}
