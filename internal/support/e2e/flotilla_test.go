package e2e

import (
	"net/http"
	"testing"

	"github.com/stretchr/testify/require"

	"kestrel/internal/api"
)

// member finds a group of a flotilla.
func (w *world) member(f api.Flotilla, name string) api.FlotillaMember {
	w.t.Helper()
	for _, m := range f.Members {
		if m.GroupName == name {
			return m
		}
	}
	w.t.Fatalf("%s is no member of %+v", name, f)
	return api.FlotillaMember{}
}

// Several groups are recovered together, each after what it needs, however often the service
// is killed meanwhile: first in drills, near one instant, and then for good; backing out gives
// all of them back.
func TestGroupsAreRecoveredTogether(t *testing.T) {
	t.Parallel()
	w := paired(t)
	mole := w.mole()
	base := w.protect("Base", promise(600, 2), "spare")
	tickets := w.protect("Ticketing", promise(600, 3), "tick-db", "tick-app")
	b := toRun("mole", "vault", "quay", "{name}-em")
	b.DrillName, b.Networks = new("{name}-trial"), &[]api.BerthNetwork{{Home: "lan", Live: new("quay"), Drill: new("trial")}}
	b.Needs = &[]string{"base"}
	must[api.BerthView](w.recovery, http.MethodPut, "/groups/"+tickets.ID+"/berth", api.WriteBerth{Berth: b})
	b.Needs, b.Machines, b.Waves = &[]string{"Ticketing"}, nil, nil
	b.Steps = &[]api.BerthStep{{Name: "all clear", After: 1, Kind: "person", Text: new("Is it clear?")}}
	must[api.BerthView](w.recovery, http.MethodPut, "/groups/"+base.ID+"/berth", api.WriteBerth{Berth: b})
	w.eventually("there are points", func() bool {
		return len(w.recovery.points(base.ID)) > 2 && len(w.recovery.points(tickets.ID)) > 2
	})
	plan := func(in api.NewFlotilla) (api.FlotillaPlan, error) {
		p, bad := call[api.FlotillaPlan](w.recovery, http.MethodPost, "/flotillas/plan", in)
		if bad != nil {
			return p, bad
		}
		return p, nil
	}
	_, err := plan(api.NewFlotilla{Home: new("Norhaven")})
	require.ErrorContains(t, err, "need each other in a circle")
	b.Needs = nil
	must[api.BerthView](w.recovery, http.MethodPut, "/groups/"+base.ID+"/berth", api.WriteBerth{Revision: 1, Berth: b})
	_, err = plan(api.NewFlotilla{Home: new("Nowhere")})
	require.ErrorContains(t, err, "Nowhere")
	_, err = plan(api.NewFlotilla{})
	require.ErrorContains(t, err, "Name groups")
	_, err = plan(api.NewFlotilla{Home: new("Norhaven"), Drill: new(true), Planned: new(true)})
	require.ErrorContains(t, err, "leaves home alone")
	p, err := plan(api.NewFlotilla{Home: new("norhaven"), Drill: new(true), Choose: new("near")})
	require.NoError(t, err)
	require.Equal(t, []string{"Base", "Ticketing"}, []string{p.Members[0].GroupName, p.Members[1].GroupName})
	require.Equal(t, []int{1, 2}, []int{p.Members[0].Stage, p.Members[1].Stage})
	require.LessOrEqual(t, p.SpreadSeconds, int64(3), "a point is taken every 2 and 3 seconds")
	require.NotNil(t, p.Instant)

	// In drills.
	f := must[api.Flotilla](w.recovery, http.MethodPost, "/flotillas", api.NewFlotilla{Home: new("Norhaven"), Drill: new(true), Choose: new("near")})
	get := func() api.Flotilla {
		f = must[api.Flotilla](w.recovery, http.MethodGet, "/flotillas/"+f.ID, nil)
		return f
	}
	clear := func() {
		t.Helper()
		w.eventually("somebody is asked", func() bool {
			m := w.member(get(), "Base")
			require.Equal(t, "waits", *w.member(f, "Ticketing").State, "it needs the other")
			if m.Recovery == nil {
				return false
			}
			at := "/failovers/"
			if f.Drill {
				at = "/drills/"
			}
			_, bad := call[map[string]any](w.recovery, http.MethodPost, at+*m.Recovery+"/step", api.StepDecision{Step: "all clear", Action: "done"})
			return bad == nil
		})
	}
	clear()
	w.eventually("all are up", func() bool { return get().UpAt != nil })
	_, bad := call[api.Flotilla](w.recovery, http.MethodPost, "/flotillas/"+f.ID+"/steer", api.FlotillaSteer{Action: "accept", Confirm: new("Norhaven")})
	require.ErrorContains(t, bad, "Drills are ended")
	must[api.Drill](w.recovery, http.MethodPost, "/drills/"+*w.member(f, "Ticketing").Recovery+"/end", api.DrillEnd{Keep: new(true)})
	must[api.Flotilla](w.recovery, http.MethodPost, "/flotillas/"+f.ID+"/steer", api.FlotillaSteer{Action: "end"})
	w.eventually("all are over", func() bool { return get().State == "over" })
	require.Equal(t, "passed", *w.member(f, "Ticketing").Result)
	kept := must[[]api.Landing](w.recovery, http.MethodGet, "/landings", nil)
	require.Len(t, kept, 2, "the machines of the drill that was to keep them")
	require.True(t, *must[api.Drill](w.recovery, http.MethodGet, "/drills/Ticketing", nil).Kept)
	for _, l := range kept {
		must[any](w.recovery, http.MethodDelete, "/landings/"+l.ID, nil)
	}
	w.eventually("they are gone when they are removed", func() bool { return mole.landed() == 0 })

	// For good, with the service killed again and again.
	_, bad = call[api.Flotilla](w.recovery, http.MethodPost, "/flotillas", api.NewFlotilla{Home: new("Norhaven"), Planned: new(true), Confirm: new("norhaven")})
	require.Equal(t, []string{"confirm"}, fields(bad))
	f = must[api.Flotilla](w.recovery, http.MethodPost, "/flotillas", api.NewFlotilla{Home: new("Norhaven"), Planned: new(true), Confirm: new("Norhaven")})
	w.recovery.kill()
	w.recovery.start()
	clear()
	w.eventually("the other begins", func() bool { return w.member(get(), "Ticketing").Recovery != nil })
	w.recovery.kill()
	w.recovery.start()
	w.eventually("all are up", func() bool { return get().UpAt != nil })
	require.Len(t, must[[]api.Failover](w.recovery, http.MethodGet, "/failovers", nil), 2, "each began once")
	require.Equal(t, 3, mole.landed())
	out, err := w.recovery.kestrel([]string{"KESTREL_URL=" + w.recovery.url, "KESTREL_TOKEN=" + w.recovery.token}, "flotilla", "back-out", "--confirm", "Norhaven", "--reason", "it was only tried")
	require.NoError(t, err, out)
	w.eventually("all are over", func() bool { return get().State == "over" })
	require.Equal(t, "backed out", *w.member(f, "Base").Result)
	require.Zero(t, mole.landed())
	w.eventually("home runs again", func() bool { return w.lab.on("tick-db", "tick-app", "spare") == 3 })
}
