package berths_test

import (
	"context"
	"encoding/json"
	"net/http"
	"testing"

	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"kestrel/internal/api"
	"kestrel/internal/berths"
	"kestrel/internal/platform"
	"kestrel/internal/problem"
	"kestrel/internal/support/rooms"
)

// pier is two sites of which the other has a platform, with a group that is copied there.
func pier(t *testing.T) (ctx context.Context, home, recovery *rooms.House, g api.Group) {
	t.Helper()
	ctx, home, recovery = rooms.Paired(t)
	_, err := recovery.Inventory.Create(ctx, rooms.Anna(), api.NewPlatform{Name: "dock", Kind: "lab", Address: "http://127.0.0.1:2"})
	require.NoError(t, err)
	recovery.Shed.Change(func([]platform.Machine) []platform.Machine {
		return []platform.Machine{{ID: "m-crane", Name: "crane", NICs: []platform.NIC{{MAC: "02:00:00:00:00:aa", Network: "pier-lan", Address: "10.40.9.99"}}}}
	})
	// One that is under way may still tell of the machines before.
	require.NoError(t, recovery.Until(ctx, func() bool {
		for _, p := range recovery.Inventory.All() {
			recovery.Inventory.Refresh(ctx, p.ID)
		}
		held := recovery.Inventory.All()[0].Held().Machines
		return len(held) == 1 && held[0].Name == "crane"
	}))
	g, err = home.Sealed(ctx, rooms.NewGroup())
	require.NoError(t, err)
	return ctx, home, recovery, g
}

func faults(t *testing.T, err error) (int, map[string]string) {
	t.Helper()
	p, ok := problem.Of(err)
	require.True(t, ok, "%v", err)
	out := map[string]string{}
	for _, f := range p.Errors {
		out[f.Field] = f.Message
	}
	return p.Status, out
}

const fine = `{"networks":[{"home":"pier-lan","live":"pier-lan","drill":"pier-dark"}],"way":"seed","name":"{name}-em","rules":["10.40.9.0/24 -> 10.40.9.0/24"]}`

// What home says of how its machines arrive is kept, judged and told by the recovery site,
// in words that are the same at both.
func TestHomeAndRecoverySiteSeeOneBerth(t *testing.T) {
	ctx, home, recovery, g := pier(t)
	anna := rooms.Anna()
	v, err := home.Berths.Show(ctx, anna, g.Name)
	require.NoError(t, err)
	require.Equal(t, rooms.RecoveryName, v.Site)
	require.Zero(t, v.Revision)
	require.Equal(t, "as in point 1", v.Machines)
	require.Equal(t, berths.ValueView{Value: "dock", From: "the only one here"}, v.Arrivals[0].Platform)
	require.Equal(t, "10.40.9.11", v.Arrivals[0].Cards[0].Address)
	require.Equal(t, []string{"pier-lan"}, v.Choices.HomeNetworks)
	require.Len(t, v.Choices.Networks, 2)

	for text, field := range map[string]string{
		`{"rules":["10.40.9.11 -> 10.40.9.99/24"],"networks":[{"home":"pier-lan","live":"pier-lan"}]}`: "machines.tick-db.cards[0].address",
		`{"rules":["nonsense"]}`:              "rules[0]",
		`{"name":"a-name-that-is-too-long"}`:  "machines.tick-db.name",
		`{"platform":"moon"}`:                 "platform",
		`{"dns":["x"],"suffix":"skerry.lan"}`: "dns[0]",
	} {
		p, err := home.Berths.Preview(ctx, anna, g.ID, json.RawMessage(text))
		require.NoError(t, err)
		require.NotEmpty(t, p.Faults, text)
		for _, h := range []*rooms.House{home, recovery} {
			_, err = h.Berths.Write(ctx, anna, g.ID, 0, json.RawMessage(text))
			status, fs := faults(t, err)
			require.Equal(t, http.StatusUnprocessableEntity, status)
			require.Contains(t, fs, field, text)
		}
	}
	v, err = home.Berths.Write(ctx, anna, g.ID, 0, json.RawMessage(fine))
	require.NoError(t, err)
	require.EqualValues(t, 1, v.Revision)
	require.Equal(t, "tick-db-em", v.Arrivals[0].Name.Value)
	there, err := recovery.Berths.Show(ctx, anna, g.ID)
	require.NoError(t, err)
	require.Equal(t, v, there)
	require.Equal(t, "pier-dark", there.Arrivals[0].Cards[0].Drill.Network.Value)
	require.Equal(t, "10.40.9.11/24", there.Arrivals[0].Cards[0].Live.Address)

	_, err = recovery.Berths.Write(ctx, anna, g.ID, 0, json.RawMessage(`{}`))
	status, _ := faults(t, err)
	require.Equal(t, http.StatusPreconditionFailed, status, "somebody has changed it since")
	again, err := berths.Open(ctx, recovery.Berths.Config)
	require.NoError(t, err)
	kept, err := again.Show(ctx, anna, g.ID)
	require.NoError(t, err)
	require.Equal(t, v, kept, "after a restart as well")

	recovery.Leave()
	_, err = home.Berths.Show(ctx, anna, g.ID)
	status, _ = faults(t, err)
	require.Equal(t, http.StatusBadGateway, status)
	_, err = recovery.Berths.Write(ctx, anna, g.ID, 1, json.RawMessage(`{}`))
	require.NoError(t, err, "the recovery site needs nothing of home")
}

// Defaults count for all groups that come here, and say what they make of them.
func TestDefaults(t *testing.T) {
	ctx, home, recovery, g := pier(t)
	anna := rooms.Anna()
	_, err := recovery.Berths.Write(ctx, anna, g.ID, 0, json.RawMessage(fine))
	require.NoError(t, err)
	v, err := recovery.Berths.PreviewDefault(berths.OfPlatform, "dock", json.RawMessage(`{"suffix":"skerry.example","folder":"/pier"}`))
	require.NoError(t, err)
	require.Empty(t, v.Faults)
	require.Len(t, v.Groups, 1)
	require.Equal(t, []string{"tick-db: folder nothing → /pier", "tick-db: suffix nothing → skerry.example"}, v.Groups[0].Changes)
	_, err = recovery.Berths.WriteDefault(ctx, anna, berths.OfPlatform, "dock", 0, json.RawMessage(`{"suffix":"skerry.example"}`))
	require.NoError(t, err)
	_, err = recovery.Berths.WriteDefault(ctx, anna, berths.OfLink, rooms.HomeName, 0, json.RawMessage(`{"suffix":"quay.example","platform":"dock"}`))
	require.NoError(t, err)
	show, err := home.Berths.Show(ctx, anna, g.ID)
	require.NoError(t, err)
	require.Equal(t, berths.ValueView{Value: "quay.example", From: "the default of the link with " + rooms.HomeName}, show.Arrivals[0].Suffix)
	for of, x := range map[string][2]string{berths.OfPlatform: {"dock", `{"platform":"dock"}`}, berths.OfLink: {rooms.HomeName, `{"waves":[{"number":1}]}`}} {
		_, err := recovery.Berths.WriteDefault(ctx, anna, of, x[0], 1, json.RawMessage(x[1]))
		status, _ := faults(t, err)
		require.Equal(t, http.StatusUnprocessableEntity, status, of)
	}
	_, err = recovery.Berths.Default("moon", "x")
	_, fs := faults(t, err)
	require.Contains(t, fs, "of")
}

// What is given to a machine of one group is taken for those of another.
func TestBerthsOfTwoGroupsDoNotMeet(t *testing.T) {
	ctx, home, _, g := pier(t)
	anna := rooms.Anna()
	_, err := home.Berths.Write(ctx, anna, g.ID, 0, json.RawMessage(`{"networks":[{"home":"pier-lan","live":"pier-lan","drill":"pier-dark"}],"way":"seed","name":"{name}-em","rules":["10.40.9.11 -> 10.40.9.50/24"]}`))
	require.NoError(t, err)
	in := rooms.NewGroup()
	in.Name, in.Machines = "Gate", []string{"gate"}
	other, err := home.Sealed(ctx, in)
	require.NoError(t, err)
	v, err := home.Berths.Preview(ctx, anna, other.ID, json.RawMessage(`{"networks":[{"home":"pier-lan","live":"pier-lan","drill":"pier-dark"}],"way":"seed","name":"{name}-em","rules":["10.40.9.13 -> 10.40.9.50/24"]}`))
	require.NoError(t, err)
	require.Len(t, v.Faults, 2, "live and in a drill")
	require.Contains(t, v.Faults[0].Message, "tick-db of Ticketing is given it")
}

// Whatever a berth says, it is read as it was written.
func TestBerthsAreReadAsWritten(t *testing.T) {
	word := rapid.StringMatching(`[a-z]{1,8}`)
	rapid.Check(t, func(t *rapid.T) {
		settings := func() map[string]any {
			out := map[string]any{}
			for _, k := range []string{"pool", "datastore", "folder", "name", "suffix", "format", "before", "after", "way", "address"} {
				if rapid.Bool().Draw(t, k) {
					out[k] = word.Draw(t, k)
				}
			}
			if rapid.Bool().Draw(t, "more") {
				out["cpus"], out["memoryBytes"], out["drillPercent"] = rapid.IntRange(1, 9).Draw(t, "cpus"), rapid.Int64Range(1, 1<<40).Draw(t, "memory"), rapid.IntRange(1, 99).Draw(t, "percent")
				out["networks"] = []any{map[string]any{"home": word.Draw(t, "home"), "live": word.Draw(t, "live"), "drill": word.Draw(t, "drill")}}
				out["rules"] = []any{"10.40.8.0/24 -> 10.60.4.0/24", "drill on " + word.Draw(t, "on") + " 10.40.9.7 -> 10.60.4.9/24 gateway 10.60.4.1"}
				out["dns"] = []any{"10.60.4.2", "fd00::2"}
			}
			return out
		}
		x := settings()
		m := settings()
		m["machine"], m["wave"] = word.Draw(t, "machine"), rapid.IntRange(1, 9).Draw(t, "wave")
		m["cards"] = []any{map[string]any{"card": "1", "address": "10.0.0.1/24", "gateway": "none", "drillAddress": "dhcp"}}
		x["machines"] = []any{m}
		x["waves"] = []any{map[string]any{"number": 1, "waitSeconds": 30, "check": "port 443"}}
		x["severalGateways"] = true
		text, err := json.Marshal(x)
		if err != nil {
			t.Fatal(err)
		}
		b, fs, err := berths.Decode(text)
		if err != nil || len(fs) > 0 {
			t.Fatalf("%s: %v %v", text, err, fs)
		}
		var got map[string]any
		if err := json.Unmarshal(berths.Encode(b), &got); err != nil {
			t.Fatal(err)
		}
		again, err := json.Marshal(got)
		if err != nil || string(again) != string(text) {
			t.Fatalf("%s became %s", text, again)
		}
		// The contract has the same fields.
		var c api.Berth
		if err := json.Unmarshal(text, &c); err != nil {
			t.Fatal(err)
		}
		if said, err := json.Marshal(c); err != nil || !jsonEqual(said, text) {
			t.Fatalf("the contract makes %s of %s", said, text)
		}
	})
}

func jsonEqual(a, b []byte) bool {
	var x, y any
	if json.Unmarshal(a, &x) != nil || json.Unmarshal(b, &y) != nil {
		return false
	}
	p, _ := json.Marshal(x)
	q, _ := json.Marshal(y)
	return string(p) == string(q)
}

// What a link's default says of places is of the platform that it names, and counts for no
// group that arrives on another.
func TestADefaultIsOfItsPlatform(t *testing.T) {
	ctx, home, recovery, g := pier(t)
	anna := rooms.Anna()
	p, err := recovery.Inventory.Create(ctx, anna, api.NewPlatform{Name: "slip", Kind: "lab", Address: "http://127.0.0.1:3"})
	require.NoError(t, err)
	recovery.Inventory.Refresh(ctx, p.ID)
	_, err = recovery.Berths.WriteDefault(ctx, anna, berths.OfLink, rooms.HomeName, 0, json.RawMessage(`{"platform":"dock","folder":"/pier","suffix":"quay.example","networks":[{"home":"pier-lan","live":"pier-lan"}]}`))
	require.NoError(t, err)
	folder := func(text string) (string, string, string) {
		v, err := home.Berths.Preview(ctx, anna, g.ID, json.RawMessage(text))
		require.NoError(t, err)
		a := v.Arrivals[0]
		return a.Folder.Value, a.Cards[0].Live.Network.Value, a.Suffix.Value
	}
	where, network, suffix := folder(`{}`)
	require.Equal(t, []string{"/pier", "pier-lan", "quay.example"}, []string{where, network, suffix})
	where, network, suffix = folder(`{"platform":"slip"}`)
	require.Equal(t, []string{"", "", "quay.example"}, []string{where, network, suffix})
}

// The way back leads to where the machines run today: home knows it by its platform, the
// recovery site by the newest point.
func TestTheWayBack(t *testing.T) {
	ctx, home, recovery, g := pier(t)
	anna := rooms.Anna()
	_, err := recovery.Berths.Write(ctx, anna, g.ID, 0, json.RawMessage(`{"networks":[{"home":"pier-lan","live":"pier-lan","drill":"pier-dark"}],"way":"seed","name":"{name}-em","rules":["10.40.9.0/24 -> 10.40.9.0/24"],"waves":[{"number":1,"check":"agent"}],"machines":[{"machine":"tick-db","wave":1}]}`))
	require.NoError(t, err)
	read := func(h *rooms.House) (berths.BackView, api.Berth) {
		v, err := h.Berths.Back(ctx, anna, g.ID)
		require.NoError(t, err)
		var b api.Berth
		require.NoError(t, json.Unmarshal(v.Berth, &b))
		_, fs, err := berths.Decode(v.Berth)
		require.NoError(t, err)
		require.Empty(t, fs, "it can be saved as it is")
		return v, b
	}
	v, b := read(home)
	require.Equal(t, rooms.HomeName, v.Site)
	require.Equal(t, "as they run now", v.From)
	require.NotEmpty(t, *b.Machines)
	m := (*b.Machines)[0]
	require.Equal(t, "tick-db-em", m.Machine, "as it is named where it returns from")
	require.Equal(t, "tick-db", *m.Name)
	require.Equal(t, "pier-lan", *(*m.Cards)[0].Live)
	require.Equal(t, "10.40.9.11/24", *(*m.Cards)[0].Address)
	require.Equal(t, "agent", *(*b.Waves)[0].Check)

	recovery.Leave()
	_, err = home.Berths.Back(ctx, anna, g.ID)
	require.Error(t, err, "its names there are not known")
	there, kept := read(recovery)
	require.Equal(t, rooms.HomeName, there.Site)
	require.Contains(t, there.From, "as in point ")
	require.Equal(t, m.Machine, (*kept.Machines)[0].Machine)
	require.Contains(t, there.Notes[0], "the mask of that is not known here")
}
