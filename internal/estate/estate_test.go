package estate_test

import (
	"context"
	"encoding/json"
	"fmt"
	"strings"
	"sync"
	"testing"

	"github.com/santhosh-tekuri/jsonschema/v6"
	"github.com/stretchr/testify/require"
	"go.yaml.in/yaml/v3"
	"pgregory.net/rapid"

	"kestrel/internal/api"
	"kestrel/internal/estate"
	"kestrel/internal/platform"
	"kestrel/internal/problem"
	"kestrel/internal/records"
	"kestrel/internal/support/rooms"
)

func of(h *rooms.House) *estate.Estate {
	self := records.Site{ID: rooms.HomeID, Name: rooms.HomeName}
	if _, err := h.Peering.Find(rooms.HomeName); err == nil {
		self = records.Site{ID: rooms.RecoveryID, Name: rooms.RecoveryName}
	}
	return estate.New(estate.Config{Site: self, Groups: h.Groups, Tiers: h.Tiers, Protection: h.Protection, Berths: h.Berths, Inventory: h.Inventory, Peering: h.Peering})
}

func apply(t *testing.T, ctx context.Context, e *estate.Estate, text string, dry bool) api.Applied {
	t.Helper()
	v, err := e.Apply(ctx, rooms.Anna(), api.ApplyRequest{Text: text, DryRun: &dry})
	require.NoError(t, err)
	return v
}

const harbour = `# Two tiers, two groups, and what is left out.
kind: tier
name: Harbour-1
rpo: 10 min
cadence: every 4 min
keep: all 2h, 15min 6h, 1h 2d
rto: 1 h
drillEvery: 90d
priority: high
---
kind: tier
name: Public-2
rpo: 2 h
cadence: weekdays at 08:00, 20:00
quiet: sat 00:00-06:00
zone: Europe/Oslo
keep: all 2d
rpo: 100h
---
kind: group
name: Ticketing
to: Eastmole
tags: [gold, passengers]
machines: [tick-db, tick-app]
tier: Harbour-1
cadence: every 2 min
reason: bookings come by the second
quiesce:
  - {machine: tick-db, mode: off}
---
kind: leftOut
name: router
reason: it has no disks
---
kind: link
name: Eastmole
limit: 40 MiB
windows: [mon-fri 08:00-18:00 5 MiB]
---
kind: berth
of: group
name: Ticketing
namePattern: "{name}-em"
rules: [10.40.9.0/24 -> 10.60.9.0/24]
machines:
  - {machine: tick-app, wave: 2}
`

// A file is shown before it is applied, is applied as a whole, changes nothing when it is
// applied again, and export writes what apply reads.
func TestAFileIsApplied(t *testing.T) {
	ctx, home, recovery := rooms.Paired(t)
	e := of(home)
	text := strings.Replace(harbour, "rpo: 2 h\n", "", 1)
	v := apply(t, ctx, e, text, true)
	require.Empty(t, v.Faults)
	require.False(t, v.Applied)
	require.Len(t, v.Documents, 6)
	require.Empty(t, home.Groups.All(), "a dry run changes nothing")
	v = apply(t, ctx, e, text, false)
	require.Empty(t, v.Faults)
	require.True(t, v.Applied)
	g, err := home.Groups.Find("Ticketing")
	require.NoError(t, err)
	require.Equal(t, "Harbour-1", g.Spec.Tier.Tier.Name)
	require.Equal(t, "every 2 min", g.Spec.Promise.Cadence.String())
	require.Equal(t, "bookings come by the second", g.Spec.Tier.Own[0].Reason)
	b, err := recovery.Berths.Show(ctx, rooms.Anna(), g.ID)
	require.NoError(t, err)
	require.Contains(t, string(b.Berth), "10.60.9.0/24", "the berth is kept at the other site")
	lines := func() int {
		all, err := home.Trail.Lines(ctx, records.Sought{Limit: 200})
		require.NoError(t, err)
		n := 0
		for _, l := range all {
			if strings.HasPrefix(l.Who, "anna") {
				n++
			}
		}
		return n
	}
	trail := lines()
	v = apply(t, ctx, e, text, false)
	for _, d := range v.Documents {
		require.Equal(t, "as it is", d.Action, "%+v", d)
	}
	require.Equal(t, trail, lines(), "and leaves no line")

	out, err := e.Export("")
	require.NoError(t, err)
	for _, d := range apply(t, ctx, e, out, true).Documents {
		require.Equal(t, "as it is", d.Action, "%+v\n%s", d, out)
	}
	again, err := e.Export("")
	require.NoError(t, err)
	require.Equal(t, out, again)
	// What a new site would need to be as this one was is known at the other.
	theirs, err := of(recovery).Export("Norhaven")
	require.NoError(t, err)
	require.Contains(t, theirs, "name: Harbour-1")
	for _, d := range apply(t, ctx, e, theirs, true).Documents {
		require.Equal(t, "as it is", d.Action, "%+v\n%s", d, theirs)
	}

	// What the file leaves out is the tier's again; what it says otherwise is told first.
	text = strings.Replace(strings.Replace(text, "cadence: every 2 min\nreason: bookings come by the second\n", "", 1), "rto: 1 h", "rto: 2 h", 1)
	v = apply(t, ctx, e, text, true)
	require.Contains(t, fmt.Sprint(v.Documents), "Ticketing moves with it")
	apply(t, ctx, e, text, false)
	g, _ = home.Groups.Get(g.ID)
	require.Equal(t, "every 4 min", g.Spec.Promise.Cadence.String())
	require.Equal(t, "2h0m0s", g.Spec.RTO.String())
	require.Empty(t, g.Spec.Tier.Own)
}

// What is wrong is said with where it stands, and nothing is changed by any of the file.
func TestWhatIsWrongIsSaidWhereItStands(t *testing.T) {
	ctx, home, _ := rooms.Paired(t)
	e := of(home)
	good := "kind: tier\nname: Harbour-1\nrpo: 10 min\ncadence: every 4 min\nkeep: all 2h\n---\n"
	for text, want := range map[string]string{
		"kind: tier\nname: A\nrpo: 10 min\ncadnce: every 4 min\nkeep: all 2h\n":        `10:1 "cadnce" is no setting here. Did you mean cadence?`,
		"kind: tier\nname: A\nrpo: 10 min\ncadence: every 4 parsecs\nkeep: all 2h\n":   "10:1",
		"kind: tier\nname: A\nrpo: 1 min\ncadence: every 4 min\nkeep: all 2h\n":        "10:1",
		"kind: tier\nname: A\nrpo: 10 min\ncadence: every 4 min\nkeep: all the time\n": "11:1",
		"kind: tier\nname: A\nname: B\nrpo: 10 min\n":                                  "stands there twice",
		"kind: boat\nname: A\n":           `7:1 "boat" is none of`,
		"name: A\n":                       "Say what it is",
		"kind: tier\nname: A\nrpo: 1 h\n": "7:1 Give a keep ladder",
		"kind: tier\nname: Harbour-1\n":   "stands at line 1 already",
		"- a\n":                           "KEY: VALUE",
		"kind: [\n":                       "7:1",
		"kind: tier\nname: A\nleastPoints: many\n":                                                                    "9:14 leastPoints is a whole number",
		"kind: group\nname: G\nto: Moon\nmachines: [tick-db]\nrpo: 1h\ncadence: every 10 min\nkeep: all 1h":           "9:1",
		"kind: group\nname: G\nto: Eastmole\nmachines: [tick-db, boat]\nrpo: 1h\ncadence: every 10 min\nkeep: all 1h": `10:21 "boat"`,
		"kind: group\nname: G\nto: Eastmole\nmachines: tick-db\n":                                                     "is a list",
		"kind: group\nname: G\nto: Eastmole\nmachines: [tick-db]\ntier: Nowhere\n":                                    "11:1",
		"kind: group\nname: G\nto: Eastmole\nmachines: [tick-db]\ntier: Harbour-1\nrpo: 1 min\n":                      "7:1 Cycles every 4 min",
		"kind: link\nname: Moon\n":                                 "8:1",
		"kind: link\nname: Eastmole\nlimit: fast\n":                "9:1",
		"kind: link\nname: Eastmole\ncompression: gzip\n":          "9:1",
		"kind: link\nname: Eastmole\nwindows: [mon-fri 5 MiB]\n":   "9:1",
		"kind: leftOut\nname: router\n":                            "Say why",
		"kind: leftOut\nname: submarine\nreason: x\n":              "8:1",
		"kind: berth\nof: group\nname: Nobody\n":                   "no group",
		"kind: berth\nof: link\nname: Eastmole\nrules: [a -> b]\n": "10:9",
	} {
		v := apply(t, ctx, e, good+text, false)
		require.False(t, v.Applied, text)
		require.NotEmpty(t, v.Faults, text)
		var all []string
		for _, f := range v.Faults {
			all = append(all, fmt.Sprintf("%d:%d %s", f.Line, f.Column, f.Message))
		}
		require.Contains(t, strings.Join(all, "\n"), want, text)
		require.Empty(t, home.Tiers.All(), text)
		require.Empty(t, home.Groups.All(), text)
	}
}

// Where something fails in the midst of it, what was done before is taken back.
func TestAFailureTakesAllBack(t *testing.T) {
	ctx, home, recovery := rooms.Paired(t)
	e := of(home)
	recovery.Leave() // berths are kept there
	text := strings.Replace(harbour, "rpo: 2 h\n", "", 1)
	_, err := e.Apply(ctx, rooms.Anna(), api.ApplyRequest{Text: text})
	p, is := problem.Of(err)
	require.True(t, is, "%v", err)
	require.Contains(t, p.Detail, "Nothing was changed")
	require.Empty(t, home.Tiers.All())
	for _, g := range home.Groups.All() {
		require.NotEqual(t, "Ticketing", g.Spec.Name, "%+v", g.Direction)
	}
	require.Zero(t, home.Peering.Links()[0].LimitBytesPerSecond)
}

// Two people who apply different files at once: one after the other.
func TestTwoApplyAtOnce(t *testing.T) {
	ctx, home, _ := rooms.Paired(t)
	e := of(home)
	var wg sync.WaitGroup
	for n := range 4 {
		wg.Go(func() {
			who := rooms.Anna()
			who.Name = fmt.Sprint("person ", n)
			_, err := e.Apply(ctx, who, api.ApplyRequest{Text: fmt.Sprintf("kind: tier\nname: T\nrpo: %d h\ncadence: every 10 min\nkeep: all 2h\n---\nkind: tier\nname: U\nrpo: %d h\ncadence: every 10 min\nkeep: all 2h\n", n+1, n+1)})
			require.NoError(t, err)
		})
	}
	wg.Wait()
	a, err := home.Tiers.Find("T")
	require.NoError(t, err)
	b, err := home.Tiers.Find("U")
	require.NoError(t, err)
	require.Equal(t, a.Promise.Target, b.Promise.Target, "both are of one file")
}

// Whatever an estate is, what is exported changes nothing when it is applied, and makes the
// same of a site that has nothing.
func TestRoundTrip(t *testing.T) {
	for n := range 10 {
		text := estates.Example(n)
		ctx, one := site(t)
		v := apply(t, ctx, one, text, false)
		require.True(t, v.Applied, "%+v\n%s", v.Faults, text)
		out, err := one.Export("")
		require.NoError(t, err)
		v = apply(t, ctx, one, out, true)
		require.Empty(t, v.Faults, out)
		for _, d := range v.Documents {
			require.Equal(t, "as it is", d.Action, "%+v\n%s", d, out)
		}
		ctx, other := site(t)
		v = apply(t, ctx, other, out, false)
		require.True(t, v.Applied, "%+v\n%s", v.Faults, out)
		again, err := other.Export("")
		require.NoError(t, err)
		require.Equal(t, out, again)
	}
}

// estates are files of some tiers and groups.
var estates = rapid.Custom(func(rt *rapid.T) string {
	var docs []string
	span := func(name string) string {
		return rapid.SampledFrom([]string{"5 min", "15 min", "1 h", "90 min", "1 d"}).Draw(rt, name)
	}
	for i := range rapid.IntRange(1, 3).Draw(rt, "tiers") {
		d := map[string]any{"kind": "tier", "name": fmt.Sprint("Tier ", i), "rpo": "60 d", "cadence": rapid.SampledFrom([]string{"every 1 h", "back to back", "by hand", "weekdays at 02:00", "last friday of the month at 22:00", "daily at 03:00, 15:00"}).Draw(rt, "cadence"),
			"keep": rapid.SampledFrom([]string{"all 2h", "all 2h, 1h 2d, 1d 14d", "all 2h, 12 monthly", "24 hourly, 7 daily"}).Draw(rt, "keep")}
		if rapid.Bool().Draw(rt, "recovery") {
			d["rto"], d["drillEvery"] = span("rto"), rapid.SampledFrom([]string{"1 d", "90 d"}).Draw(rt, "drill")
		}
		if rapid.Bool().Draw(rt, "quiet") {
			d["quiet"], d["zone"] = "mon-fri 08:00-10:00", rapid.SampledFrom([]string{"Europe/Oslo", "UTC", "Asia/Kolkata"}).Draw(rt, "zone")
		}
		if rapid.Bool().Draw(rt, "more") {
			d["leastPoints"], d["priority"], d["rest"] = rapid.IntRange(1, 9).Draw(rt, "least"), rapid.SampledFrom([]string{"high", "low"}).Draw(rt, "priority"), "try"
		}
		text, err := yaml.Marshal(d)
		if err != nil {
			rt.Fatal(err)
		}
		docs = append(docs, string(text))
	}
	for i, m := range []string{"tick-db", "tick-app", "gate"}[:rapid.IntRange(0, 3).Draw(rt, "groups")] {
		d := map[string]any{"kind": "group", "name": fmt.Sprint("Group ", i), "to": "Eastmole", "machines": []string{m}, "tier": "Tier 0"}
		if rapid.Bool().Draw(rt, "tags") {
			d["tags"] = []string{"sea", "gold"}
		}
		if rapid.Bool().Draw(rt, "rule") {
			d["rule"] = map[string]any{"match": "name zzz-*", "order": rapid.IntRange(1, 500).Draw(rt, "order")}
		}
		if rapid.Bool().Draw(rt, "differs") {
			d["rto"], d["reason"] = "3 h", "by hand, and \"quoted\": so"
		}
		if rapid.Bool().Draw(rt, "rest") {
			d["quiesce"] = []any{map[string]any{"machine": m, "mode": "required", "limit": "10 s", "everyNth": 3, "before": "/bin/flush --all"}}
		}
		if rapid.Bool().Draw(rt, "home") {
			d["homePoints"], d["homeKeep"], d["apart"], d["newDisks"], d["compareEvery"] = true, "all 1h", true, "flag", "7 d"
		}
		text, err := yaml.Marshal(d)
		if err != nil {
			rt.Fatal(err)
		}
		docs = append(docs, string(text))
	}
	return strings.Join(docs, "---\n")
})

// site is a paired site that has nothing yet.
func site(t *testing.T) (context.Context, *estate.Estate) {
	t.Helper()
	ctx, home, _ := rooms.Paired(t)
	home.Shed.Change(func(ms []platform.Machine) []platform.Machine {
		for i := range ms {
			ms[i].Agent = platform.AgentAnswers
		}
		return ms
	})
	home.Inventory.Refresh(ctx, home.PlatformID)
	return ctx, of(home)
}

// The schema knows all that is read.
func TestSchema(t *testing.T) {
	s := estate.Schema()
	text, err := json.Marshal(s)
	require.NoError(t, err)
	for _, k := range estate.Kinds() {
		require.Contains(t, string(text), fmt.Sprintf(`"const":"%s"`, k))
	}
	c := jsonschema.NewCompiler()
	var raw any
	require.NoError(t, json.Unmarshal(text, &raw))
	require.NoError(t, c.AddResource("estate.json", raw))
	compiled, err := c.Compile("estate.json")
	require.NoError(t, err)
	good := strings.Replace(harbour, "rpo: 2 h\n", "", 1)
	for _, doc := range strings.Split(good, "---\n") {
		var v any
		require.NoError(t, yaml.Unmarshal([]byte(doc), &v))
		b, err := json.Marshal(v)
		require.NoError(t, err)
		require.NoError(t, json.Unmarshal(b, &v))
		require.NoError(t, compiled.Validate(v), doc)
	}
	require.Error(t, compiled.Validate(map[string]any{"kind": "tier", "name": "A", "cadnce": "every 4 min"}))
}

// A machine that was left out and that somebody then protects by hand stays in what is
// exported, and applying that changes nothing.
func TestLeftOutAndProtected(t *testing.T) {
	ctx, home, _ := rooms.Paired(t)
	e := of(home)
	v := apply(t, ctx, e, "kind: leftOut\nname: tick-app\nreason: it is rented\n", false)
	require.True(t, v.Applied, "%+v", v.Faults)
	v = apply(t, ctx, e, "kind: group\nname: Ticketing\nto: Eastmole\nmachines: [tick-app]\nrpo: 15 min\ncadence: every 5 min\nkeep: all 6h\n", false)
	require.True(t, v.Applied, "%+v", v.Faults)
	text, err := e.Export("")
	require.NoError(t, err)
	require.Contains(t, text, "kind: leftOut")
	v = apply(t, ctx, e, text, true)
	require.Empty(t, v.Faults)
	for _, d := range v.Documents {
		require.EqualValues(t, "as it is", d.Action, d.Name)
	}
	v = apply(t, ctx, e, "kind: leftOut\nname: tick-app\nreason: another\n", true)
	require.NotEmpty(t, v.Faults)
}
