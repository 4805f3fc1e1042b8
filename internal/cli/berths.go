package cli

import (
	"fmt"
	"strings"
	"text/tabwriter"

	"github.com/dustin/go-humanize"
	"github.com/spf13/cobra"

	"kestrel/internal/api"
	"kestrel/internal/core/span"
)

func (a *app) berthCmd() *cobra.Command {
	c := &cobra.Command{Use: "berth", Short: "How machines arrive at the recovery site",
		Long: `A berth says how machines arrive at the recovery site: on which platform, in what pool, datastore and folder,
under which name, on which networks with which addresses, and in what order they start. What a group says counts
more than the default of its link, and that more than the default of the platform.`}
	c.AddCommand(
		&cobra.Command{Use: "show GROUP", Short: "How a group's machines arrive, where each setting comes from, and what is wrong", Args: cobra.ExactArgs(1), Example: "  kestrel berth show Ticketing",
			RunE: a.with(func(cmd *cobra.Command, c *api.Client, args []string) error {
				v, err := read[api.BerthView](c.GetBerth(cmd.Context(), args[0]))
				if err != nil {
					return err
				}
				return a.emit(v, func(w *tabwriter.Writer) { berthPage(w, args[0], v) })
			})},
		a.berthSetCmd(), a.berthBackCmd(), a.berthDefaultsCmd())
	return c
}

func (a *app) berthBackCmd() *cobra.Command {
	return &cobra.Command{Use: "back GROUP", Short: "The berth for the way back, filled from where the machines run today", Args: cobra.ExactArgs(1), Example: "  kestrel berth back Ticketing",
		RunE: a.with(func(cmd *cobra.Command, c *api.Client, args []string) error {
			v, err := read[api.BerthBack](c.GetBerthBack(cmd.Context(), args[0]))
			if err != nil {
				return err
			}
			return a.emit(v, func(w *tabwriter.Writer) { backPage(w, args[0], v) })
		})}
}

func backPage(w *tabwriter.Writer, group string, v api.BerthBack) {
	row(w, "Way back of", group)
	row(w, "To", v.Site)
	row(w, "Machines", v.From)
	for _, n := range v.Notes {
		row(w, "!", n)
	}
	b := v.Berth
	settingRows(w, "", []setting{{"platform", b.Platform}, {"pool", b.Pool}, {"datastore", b.Datastore}, {"folder", b.Folder}})
	if b.Machines == nil {
		return
	}
	for _, m := range *b.Machines {
		row(w)
		wave := 1
		if m.Wave != nil {
			wave = *m.Wave
		}
		row(w, m.Machine, fmt.Sprintf("wave %d", wave))
		settingRows(w, "  ", []setting{{"name", m.Name}, {"pool", m.Pool}, {"datastore", m.Datastore}, {"folder", m.Folder}})
		if m.Cpus != nil && m.MemoryBytes != nil {
			row(w, "  size", fmt.Sprintf("%d processors, %s", *m.Cpus, size(*m.MemoryBytes)))
		}
		if m.Cards == nil {
			continue
		}
		for _, c := range *m.Cards {
			text := orNothing(c.Live)
			if c.Address != nil {
				text += " " + *c.Address
			}
			if c.Gateway != nil && *c.Gateway != "none" {
				text += " by " + *c.Gateway
			}
			row(w, "  card "+c.Card, text)
		}
	}
}

// setting is one that may be said.
type setting struct {
	name string
	text *string
}

func settingRows(w *tabwriter.Writer, indent string, all []setting) {
	for _, x := range all {
		if x.text != nil && *x.text != "" {
			row(w, indent+x.name, *x.text)
		}
	}
}

func (a *app) berthSetCmd() *cobra.Command {
	var f berthFlags
	var dry bool
	c := &cobra.Command{Use: "set GROUP", Short: "Change how a group's machines arrive", Args: cobra.ExactArgs(1),
		Example: "  kestrel berth set Ticketing --network quay-lan=mole-lan --drill-network quay-lan=drill-lan --rule '10.40.8.0/24 -> 10.60.4.0/24'\n" +
			"  kestrel berth set Ticketing --wave tick-app=2 --wave-check 1=agent --card 'tick-db:1 address=10.60.4.40/24 gateway=10.60.4.1' --dry-run",
		RunE: a.with(func(cmd *cobra.Command, c *api.Client, args []string) error {
			v, err := read[api.BerthView](c.GetBerth(cmd.Context(), args[0]))
			if err != nil {
				return err
			}
			next, err := f.apply(cmd, v.Berth)
			if err != nil {
				return err
			}
			if dry {
				v, err = read[api.BerthView](c.PreviewBerth(cmd.Context(), args[0], next))
			} else {
				v, err = read[api.BerthView](c.SetBerth(cmd.Context(), args[0], api.WriteBerth{Revision: v.Revision, Berth: next}))
			}
			if err != nil {
				return err
			}
			return a.emit(v, func(w *tabwriter.Writer) { berthPage(w, args[0], v) })
		})}
	f.add(c, true)
	c.Flags().BoolVar(&dry, "dry-run", false, "only show what it would make of the machines")
	return c
}

func (a *app) berthDefaultsCmd() *cobra.Command {
	var f berthFlags
	var link, place string
	var dry bool
	c := &cobra.Command{Use: "defaults", Short: "Show or change the default of a link or of a platform of this site", Args: cobra.NoArgs,
		Example: "  kestrel berth defaults --of-link Norhaven\n  kestrel berth defaults --of-link Norhaven --platform mole --suffix mole.skerry.example\n  kestrel berth defaults --of-platform mole --pool recovery --dry-run",
		RunE: a.with(func(cmd *cobra.Command, c *api.Client, _ []string) error {
			of, id := "link", link
			if place != "" {
				of, id = "platform", place
			}
			if (link == "") == (place == "") {
				return usage("give --of-link or --of-platform")
			}
			v, err := read[api.BerthDefault](c.GetBerthDefault(cmd.Context(), of, id))
			if err != nil {
				return err
			}
			if f.changed(cmd) {
				next, err := f.apply(cmd, v.Berth)
				if err != nil {
					return err
				}
				if dry {
					v, err = read[api.BerthDefault](c.PreviewBerthDefault(cmd.Context(), of, id, next))
				} else {
					v, err = read[api.BerthDefault](c.SetBerthDefault(cmd.Context(), of, id, api.WriteBerth{Revision: v.Revision, Berth: next}))
				}
				if err != nil {
					return err
				}
			}
			return a.emit(v, func(w *tabwriter.Writer) { berthDefaultPage(w, v) })
		})}
	c.Flags().StringVar(&link, "of-link", "", "the paired site whose groups come here")
	c.Flags().StringVar(&place, "of-platform", "", "the platform that they arrive on")
	c.Flags().BoolVar(&dry, "dry-run", false, "only show what it would make of the groups")
	f.add(c, false)
	return c
}

// berthFlags are settings of a berth. Each names what it changes; what is not named stays.
type berthFlags struct {
	platform, pool, datastore, folder, name, drillName, cpus, memory, suffix, address, way, format, before, after string
	percent                                                                                                       int
	networks, drills, rules, dns                                                                                  []string
	own, cards, waves, checks, waits, limits                                                                      []string
	severalGateways                                                                                               bool
}

func (b *berthFlags) add(c *cobra.Command, ofGroup bool) {
	f := c.Flags()
	f.StringVar(&b.platform, "platform", "", "platform at the recovery site that machines arrive on")
	f.StringVar(&b.pool, "pool", "", "pool or host there")
	f.StringVar(&b.datastore, "datastore", "", "datastore there")
	f.StringVar(&b.folder, "folder", "", "folder there")
	f.StringVar(&b.name, "name-pattern", "", "names there, such as {name}-em")
	f.StringVar(&b.drillName, "drill-name-pattern", "", "names in drills, such as {name}-drill")
	f.StringVar(&b.cpus, "cpus", "", "processors; 0 for as many as at home")
	f.StringVar(&b.memory, "memory", "", "memory, such as 4GiB; 0 for as much as at home")
	f.IntVar(&b.percent, "drill-percent", 0, "share of processors and memory that machines get in drills")
	f.StringArrayVar(&b.networks, "network", nil, "HOME=NETWORK: what cards of a network at home are attached to when they are live; none leaves them unconnected")
	f.StringArrayVar(&b.drills, "drill-network", nil, "HOME=NETWORK: what they are attached to in drills")
	f.StringArrayVar(&b.rules, "rule", nil, "address rule such as '10.40.8.0/24 -> 10.60.4.0/24'; those that are given take the place of all, and none of all")
	f.StringArrayVar(&b.dns, "dns", nil, "DNS server; those that are given take the place of all")
	f.StringVar(&b.suffix, "suffix", "", "search domain")
	f.StringVar(&b.address, "address", "", "rule (the first that fits, or as at home), keep or dhcp")
	f.StringVar(&b.way, "way", "", "how an address gets into a guest: leave, dhcp, agent or seed")
	f.StringVar(&b.format, "format", "", "format of the disks once they are local, such as qcow2")
	f.StringVar(&b.before, "before", "", "name of a command of the recovery site's host that runs before a machine starts, from its folder of commands")
	f.StringVar(&b.after, "after", "", "command that the agent of the guest runs when it has started")
	if !ofGroup {
		return
	}
	f.StringArrayVar(&b.own, "machine", nil, "'MACHINE SETTING=VALUE …': settings of one machine, such as 'tick-db pool=production cpus=8 name=ticket-db'")
	f.StringArrayVar(&b.cards, "card", nil, "'MACHINE:CARD SETTING=VALUE …': live, drill, address, gateway, drillAddress and drillGateway of one card")
	f.StringArrayVar(&b.waves, "wave", nil, "MACHINE=NUMBER: machines of one wave start together, the first without being told")
	f.StringArrayVar(&b.checks, "wave-check", nil, "NUMBER=none, NUMBER=agent or NUMBER='port 443': what has to be true before the next wave starts")
	f.StringArrayVar(&b.waits, "wave-wait", nil, "NUMBER=SPAN: how long is waited after that, such as 1=30s")
	f.StringArrayVar(&b.limits, "wave-limit", nil, "NUMBER=SPAN: how long the check may take, such as 1=5m; then the next wave starts all the same")
	f.BoolVar(&b.severalGateways, "several-gateways", false, "more than one card of a machine may have a gateway")
}

// settingFlags are those that change something.
func settingFlags() []string {
	return []string{"platform", "pool", "datastore", "folder", "name-pattern", "drill-name-pattern", "cpus", "memory", "drill-percent", "network", "drill-network", "rule", "dns", "suffix", "address", "way", "format", "before", "after",
		"machine", "card", "wave", "wave-check", "wave-wait", "wave-limit", "several-gateways"}
}

func (b *berthFlags) changed(cmd *cobra.Command) bool {
	for _, name := range settingFlags() {
		if f := cmd.Flags().Lookup(name); f != nil && f.Changed {
			return true
		}
	}
	return false
}

// apply gives a berth with what was named changed.
func (b *berthFlags) apply(cmd *cobra.Command, v api.Berth) (api.Berth, error) {
	if !b.changed(cmd) {
		return v, usage("say what to change, such as --network, --rule or --datastore; kestrel berth set --help lists all")
	}
	given := func(name string) bool { return cmd.Flags().Changed(name) }
	for name, x := range map[string]struct {
		to   **string
		text string
	}{"platform": {&v.Platform, b.platform}, "pool": {&v.Pool, b.pool}, "datastore": {&v.Datastore, b.datastore}, "folder": {&v.Folder, b.folder}, "name-pattern": {&v.Name, b.name}, "drill-name-pattern": {&v.DrillName, b.drillName},
		"suffix": {&v.Suffix, b.suffix}, "address": {&v.Address, b.address}, "way": {&v.Way, b.way}, "format": {&v.Format, b.format}, "before": {&v.Before, b.before}, "after": {&v.After, b.after}} {
		if given(name) {
			*x.to = strOr(x.text)
		}
	}
	var err error
	if given("cpus") {
		if v.Cpus, err = wholeNumber("--cpus", b.cpus); err != nil {
			return v, err
		}
	}
	if given("memory") {
		if v.MemoryBytes, err = memory("--memory", b.memory); err != nil {
			return v, err
		}
	}
	if given("drill-percent") {
		v.DrillPercent = &b.percent
	}
	for flag, texts := range map[string][]string{"--network": b.networks, "--drill-network": b.drills} {
		for _, text := range texts {
			home, to, ok := strings.Cut(text, "=")
			if !ok {
				return v, usage("%s %s: write it as HOME=NETWORK", flag, text)
			}
			v.Networks = mapped(v.Networks, home, to, flag == "--drill-network")
		}
	}
	if given("rule") {
		v.Rules = listOrNone(b.rules)
	}
	if given("dns") {
		v.DNS = listOrNone(b.dns)
	}
	if given("several-gateways") {
		v.SeveralGateways = &b.severalGateways
	}
	return v, b.applyMachines(&v)
}

// listOrNone reads a list that may be the word none.
func listOrNone(texts []string) *[]string {
	if len(texts) == 1 && texts[0] == "none" {
		return nil
	}
	return &texts
}

func mapped(all *[]api.BerthNetwork, home, to string, drill bool) *[]api.BerthNetwork {
	var out []api.BerthNetwork
	if all != nil {
		out = append(out, *all...)
	}
	at := -1
	for i, n := range out {
		if strings.EqualFold(n.Home, home) {
			at = i
		}
	}
	if at < 0 {
		at, out = len(out), append(out, api.BerthNetwork{Home: home})
	}
	if drill {
		out[at].Drill = strOr(to)
	} else {
		out[at].Live = strOr(to)
	}
	return &out
}

func wholeNumber(flag, text string) (*int, error) {
	var n int
	if _, err := fmt.Sscanf(text, "%d", &n); err != nil || fmt.Sprint(n) != text {
		return nil, usage("%s %s: give a whole number", flag, text)
	}
	return &n, nil
}

func memory(flag, text string) (*int64, error) {
	if text == "0" {
		return new(int64), nil
	}
	n, err := humanize.ParseBytes(text)
	if err != nil || n > 1<<50 {
		return nil, usage("%s: %q is no number of bytes; write it like 4GiB", flag, text)
	}
	return new(int64(n)), nil
}

// applyMachines changes what is said of machines, cards and waves.
func (b *berthFlags) applyMachines(v *api.Berth) error {
	for _, text := range b.own {
		name, pairs, err := settings("--machine", text)
		if err != nil {
			return err
		}
		m := machineOf(v, name)
		for _, p := range pairs {
			if err := setMachine(m, p[0], p[1]); err != nil {
				return err
			}
		}
	}
	for _, text := range b.cards {
		name, pairs, err := settings("--card", text)
		if err != nil {
			return err
		}
		at := strings.Index(name, ":")
		if at < 1 {
			return usage("--card %s: write it as 'MACHINE:CARD SETTING=VALUE', with a card's number or MAC address", text)
		}
		c := cardOf(machineOf(v, name[:at]), name[at+1:])
		fields := map[string]**string{"live": &c.Live, "drill": &c.Drill, "address": &c.Address, "gateway": &c.Gateway, "drillAddress": &c.DrillAddress, "drillGateway": &c.DrillGateway}
		for _, p := range pairs {
			to, ok := fields[p[0]]
			if !ok {
				return usage("--card %s: %q is none of live, drill, address, gateway, drillAddress, drillGateway", text, p[0])
			}
			*to = strOr(p[1])
		}
	}
	for _, text := range b.waves {
		name, to, _ := strings.Cut(text, "=")
		n, err := wholeNumber("--wave", to)
		if err != nil {
			return err
		}
		machineOf(v, name).Wave = n
	}
	for _, text := range b.checks {
		number, to, _ := strings.Cut(text, "=")
		n, err := wholeNumber("--wave-check", number)
		if err != nil {
			return err
		}
		waveOf(v, *n).Check = &to
	}
	for flag, texts := range map[string][]string{"--wave-wait": b.waits, "--wave-limit": b.limits} {
		for _, text := range texts {
			number, to, _ := strings.Cut(text, "=")
			n, err := wholeNumber(flag, number)
			if err != nil {
				return err
			}
			d, err := span.Parse(to)
			if err != nil {
				return usage("%s %s: %v", flag, text, err)
			}
			w := waveOf(v, *n)
			if flag == "--wave-wait" {
				w.WaitSeconds = new(int64(d.Seconds()))
			} else {
				w.LimitSeconds = new(int64(d.Seconds()))
			}
		}
	}
	return nil
}

// settings cuts 'NAME A=B C=D'. A value goes on until the next setting.
func settings(flag, text string) (name string, pairs [][2]string, err error) {
	name, rest, _ := strings.Cut(strings.TrimSpace(text), " ")
	for _, word := range strings.Fields(rest) {
		k, x, is := strings.Cut(word, "=")
		switch {
		case is:
			pairs = append(pairs, [2]string{k, x})
		case len(pairs) > 0:
			pairs[len(pairs)-1][1] += " " + word
		default:
			return "", nil, usage("%s %s: write settings as SETTING=VALUE", flag, text)
		}
	}
	if len(pairs) == 0 {
		return "", nil, usage("%s %s: say what to set, as SETTING=VALUE", flag, text)
	}
	return name, pairs, nil
}

func machineOf(v *api.Berth, name string) *api.BerthMachine {
	if v.Machines == nil {
		v.Machines = &[]api.BerthMachine{}
	}
	for i, m := range *v.Machines {
		if strings.EqualFold(m.Machine, name) {
			return &(*v.Machines)[i]
		}
	}
	*v.Machines = append(*v.Machines, api.BerthMachine{Machine: name})
	return &(*v.Machines)[len(*v.Machines)-1]
}

func cardOf(m *api.BerthMachine, card string) *api.BerthCard {
	if m.Cards == nil {
		m.Cards = &[]api.BerthCard{}
	}
	for i, c := range *m.Cards {
		if strings.EqualFold(c.Card, card) {
			return &(*m.Cards)[i]
		}
	}
	*m.Cards = append(*m.Cards, api.BerthCard{Card: card})
	return &(*m.Cards)[len(*m.Cards)-1]
}

func waveOf(v *api.Berth, number int) *api.BerthWave {
	if v.Waves == nil {
		v.Waves = &[]api.BerthWave{}
	}
	for i, w := range *v.Waves {
		if w.Number == number {
			return &(*v.Waves)[i]
		}
	}
	*v.Waves = append(*v.Waves, api.BerthWave{Number: number})
	return &(*v.Waves)[len(*v.Waves)-1]
}

func setMachine(m *api.BerthMachine, k, text string) (err error) {
	texts := map[string]**string{"pool": &m.Pool, "datastore": &m.Datastore, "folder": &m.Folder, "name": &m.Name, "drillName": &m.DrillName, "suffix": &m.Suffix, "address": &m.Address, "way": &m.Way, "format": &m.Format, "before": &m.Before, "after": &m.After}
	switch to, ok := texts[k]; {
	case ok:
		*to = strOr(text)
	case k == "cpus":
		m.Cpus, err = wholeNumber("--machine cpus", text)
	case k == "drillPercent":
		m.DrillPercent, err = wholeNumber("--machine drillPercent", text)
	case k == "wave":
		m.Wave, err = wholeNumber("--machine wave", text)
	case k == "memory":
		m.MemoryBytes, err = memory("--machine memory", text)
	default:
		return usage("--machine: %q is none of pool, datastore, folder, name, drillName, cpus, memory, drillPercent, suffix, address, way, format, before, after, wave", k)
	}
	return err
}

// findingRows are what is wrong, worst first.
func findingRows(w *tabwriter.Writer, faults, warnings []api.FieldError) {
	for _, x := range faults {
		row(w, "✕ "+x.Field, x.Message)
	}
	for _, x := range warnings {
		row(w, "! "+x.Field, x.Message)
	}
}

func valueText(v api.BerthValue) string {
	if v.Value == "" {
		return "—"
	}
	if v.From == "" || v.From == "home" {
		return v.Value
	}
	return v.Value + "  (" + v.From + ")"
}

func attachedText(x api.BerthAttached) string {
	if x.Network.Value == "" {
		return "not connected: nothing is said"
	}
	if x.Network.Value == "none" {
		return "not connected (" + x.Network.From + ")"
	}
	out := x.Network.Value
	if x.Address != "" {
		out += " " + x.Address
	}
	if x.Gateway != "" {
		out += " by " + x.Gateway
	}
	if x.From != "" {
		out += "  (" + x.From + ")"
	}
	return out
}

func berthPage(w *tabwriter.Writer, group string, v api.BerthView) {
	row(w, "Berth of", group)
	row(w, "At", fmt.Sprintf("%s, revision %d", v.Site, v.Revision))
	row(w, "Machines", v.Machines)
	row(w, "Errors", len(v.Faults))
	row(w, "Warnings", len(v.Warnings))
	findingRows(w, v.Faults, v.Warnings)
	if v.Berth.Rules != nil {
		row(w)
		row(w, "Rules", strings.Join(*v.Berth.Rules, "\n\t"))
	}
	for _, m := range v.Arrivals {
		row(w)
		row(w, m.Machine, fmt.Sprintf("wave %d", m.Wave))
		for _, x := range []struct {
			name  string
			value api.BerthValue
		}{{"platform", m.Platform}, {"pool", m.Pool}, {"datastore", m.Datastore}, {"folder", m.Folder}, {"disk format", m.Format}, {"name", m.Name}, {"name in drills", m.DrillName}, {"DNS", m.DNS}, {"domain", m.Suffix}, {"command before", m.Before}, {"command after", m.After}} {
			if x.value.Value != "" {
				row(w, "  "+x.name, valueText(x.value))
			}
		}
		row(w, "  size", fmt.Sprintf("%d processors, %s; in drills %d, %s  (%s)", m.Cpus, span.Bytes(float64(m.MemoryBytes)), m.DrillCpus, span.Bytes(float64(m.DrillMemoryBytes)), m.SizeFrom))
		for i, c := range m.Cards {
			from := c.Network
			if c.Address != "" {
				from += " " + c.Address
			}
			row(w, fmt.Sprintf("  card %d", i+1), "home   "+from)
			row(w, "", "live   "+attachedText(c.Live))
			row(w, "", "drill  "+attachedText(c.Drill))
		}
		row(w, "  address by", valueText(m.Way)+". "+m.WayLimit)
	}
	if v.Berth.Waves != nil {
		row(w)
		for _, x := range *v.Berth.Waves {
			check := "no check"
			if x.Check != nil && *x.Check != "none" {
				check = "until " + *x.Check + " answers"
			}
			if x.WaitSeconds != nil && *x.WaitSeconds > 0 {
				check += ", then " + secs(*x.WaitSeconds)
			}
			row(w, fmt.Sprintf("Wave %d", x.Number), check)
		}
	}
}

func berthDefaultPage(w *tabwriter.Writer, v api.BerthDefault) {
	row(w, "Default of", "the "+v.Of+" "+v.Name)
	row(w, "Revision", v.Revision)
	findingRows(w, v.Faults, v.Warnings)
	b := v.Berth
	settingRows(w, "  ", []setting{{"platform", b.Platform}, {"pool", b.Pool}, {"datastore", b.Datastore}, {"folder", b.Folder}, {"disk format", b.Format}, {"name", b.Name}, {"name in drills", b.DrillName}, {"domain", b.Suffix}, {"address", b.Address}, {"address by", b.Way}, {"command before", b.Before}, {"command after", b.After}})
	if b.Cpus != nil && *b.Cpus > 0 {
		row(w, "  processors", *b.Cpus)
	}
	if b.MemoryBytes != nil && *b.MemoryBytes > 0 {
		row(w, "  memory", size(*b.MemoryBytes))
	}
	if b.DrillPercent != nil && *b.DrillPercent > 0 {
		row(w, "  size in drills", fmt.Sprintf("%d %%", *b.DrillPercent))
	}
	if b.Networks != nil {
		for _, n := range *b.Networks {
			row(w, "  network "+n.Home, fmt.Sprintf("live %s, drill %s", orNothing(n.Live), orNothing(n.Drill)))
		}
	}
	if b.Rules != nil {
		row(w, "  rules", strings.Join(*b.Rules, "\n\t"))
	}
	if b.DNS != nil {
		row(w, "  DNS", strings.Join(*b.DNS, ", "))
	}
	row(w)
	row(w, "Groups")
	for _, g := range v.Groups {
		row(w, "", g.Name)
		for _, c := range g.Changes {
			row(w, "", "  "+c)
		}
		for _, x := range g.Faults {
			row(w, "", "  ✕ "+x.Field+": "+x.Message)
		}
	}
	if len(v.Groups) == 0 {
		row(w, "", "none comes here by it")
	}
}

func orNothing(s *string) string {
	if s == nil || *s == "" {
		return "not said"
	}
	return *s
}
