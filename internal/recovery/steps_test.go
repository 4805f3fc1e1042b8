package recovery_test

import (
	"bufio"
	"context"
	"errors"
	"fmt"
	"net"
	"net/http"
	"net/netip"
	"sync"
	"testing"
	"testing/synctest"
	"time"

	"github.com/stretchr/testify/require"

	"kestrel/internal/api"
	"kestrel/internal/core/runbook"
	"kestrel/internal/platform"
	"kestrel/internal/problem"
	"kestrel/internal/support/rooms"
)

// guest is a machine that says what it is told to.
type guest struct {
	platform.Lander
	mu     sync.Mutex
	silent bool
	asked  int
	ran    []string
}

func (g *guest) is(silent bool) {
	g.mu.Lock()
	defer g.mu.Unlock()
	g.silent = silent
}

func (g *guest) answer(err error) error {
	g.mu.Lock()
	defer g.mu.Unlock()
	g.asked++
	if g.silent {
		return err
	}
	return nil
}

func (g *guest) PortOpen(context.Context, string, int) error { return g.answer(platform.ErrClosed) }

func (g *guest) RunIn(_ context.Context, _, command string, _ time.Duration) error {
	err := g.answer(platform.ErrSilent)
	g.mu.Lock()
	defer g.mu.Unlock()
	if err == nil {
		g.ran = append(g.ran, command)
	}
	return err
}

func (g *guest) Serial(context.Context, string) ([]byte, error) {
	return []byte("all is well\r\ngate login: "), g.answer(platform.ErrNoSerial)
}

func (g *guest) Dial(context.Context, string, int) (net.Conn, error) {
	if err := g.answer(platform.ErrClosed); err != nil {
		return nil, err
	}
	near, far := net.Pipe()
	go func() {
		defer func() { _ = far.Close() }()
		if r, err := http.ReadRequest(bufio.NewReader(far)); err == nil {
			_, _ = fmt.Fprintf(far, "HTTP/1.1 200 OK\r\nContent-Length: 8\r\n\r\n%s well", r.URL.Path[1:4])
		}
	}()
	return near, nil
}

// around is what is around a site: its host's commands, a DNS server, people who are told.
type around struct {
	mu     sync.Mutex
	steps  []runbook.Step
	hangs  bool
	broken error
	ran    []map[string]string
	set    []string
	told   []string
}

func (a *around) Run(ctx context.Context, name string, told map[string]string, limit time.Duration) error {
	a.mu.Lock()
	a.ran = append(a.ran, told)
	hangs, broken := a.hangs, a.broken
	a.mu.Unlock()
	if hangs {
		select {
		case <-ctx.Done():
			return fmt.Errorf("%s did not end within %s", name, limit)
		case <-time.After(24 * time.Hour):
		}
	}
	return broken
}

func (a *around) Look(context.Context, string, string, string) ([]string, error) {
	return []string{"gate.skerry.example.\t300\tIN\tA\t10.40.8.3"}, nil
}

func (a *around) Set(_ context.Context, server, name, kind string, say []string) error {
	a.mu.Lock()
	defer a.mu.Unlock()
	a.set = append(a.set, fmt.Sprint(server, name, kind, say))
	return nil
}

func (a *around) tell(_ context.Context, channels []string, id, title string, lines []string) error {
	a.mu.Lock()
	defer a.mu.Unlock()
	a.told = append(a.told, fmt.Sprint(channels, title, lines[0]))
	return nil
}

// of finds a step of a drill.
func of(t *testing.T, d api.Drill, name string) api.RunbookStep {
	t.Helper()
	for _, s := range d.Runbook {
		if s.Name == name {
			return s
		}
	}
	t.Fatalf("there is no step %s", name)
	return api.RunbookStep{}
}

// A drill goes through its runbook in order, each step when its wave has come up; names are not
// changed, people are told, and one of them is waited for.
func TestARunbookIsGoneThrough(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		s := newSite(t)
		defer func() { s.stop() }()
		s.around.steps = []runbook.Step{
			{Name: "fit", Kind: runbook.Host, Command: "fit-quay"},
			{Name: "card", Kind: runbook.Person, After: 1, Text: "Try a card."},
			{Name: "name", Kind: runbook.DNS, After: 1, Server: "mole", Record: "gate.skerry.example", Type: "A", To: []string{"{gate}"}},
			{Name: "only live", Kind: runbook.Host, Only: runbook.InFailover, Command: "never"},
			{Name: "port", Kind: runbook.Port, After: 1, Machine: "gate", Port: 443},
			{Name: "web", Kind: runbook.HTTP, After: 1, URL: "http://gate:8080/all", Text: "all well", Status: 200},
			{Name: "shell", Kind: runbook.Guest, After: 1, Machine: "gate", Command: "gatectl open"},
			{Name: "login", Kind: runbook.Serial, After: 1, Machine: "gate", Text: "gate login:"},
			{Name: "rest", Kind: runbook.Wait, After: 1, Span: time.Minute},
			{Name: "call", Kind: runbook.Message, Channels: []string{"quay"}, Text: "The gate is tried"},
		}
		plan, err := s.recovery.Plan(t.Context(), rooms.Anna(), "Gates", api.NewDrill{})
		require.NoError(t, err)
		require.Len(t, plan.Runbook, 9, "what is for failovers is left out")
		require.Equal(t, []string{"fit", "call", "card"}, []string{plan.Runbook[0].Name, plan.Runbook[1].Name, plan.Runbook[2].Name}, "by wave, and then as they stand")
		require.Nil(t, plan.Runbook[0].State)

		d := s.start(api.NewDrill{ForSeconds: new(int64(7200))})
		x := s.after(d.ID, 5*time.Second)
		require.Equal(t, []string{"passed", "passed", "ahead"}, []string{*of(t, x, "fit").State, *of(t, x, "call").State, *of(t, x, "card").State}, "its machine has not come up")
		require.Equal(t, "drill", s.around.ran[0]["KESTREL_KIND"])
		require.Equal(t, []string{"[quay]Drill of Gates: callThe gate is tried."}, s.around.told)
		require.Contains(t, s.recovery.Gate(d.ID, 2), "the step card", "nothing of the next wave starts")
		require.Empty(t, s.recovery.Gate(d.ID, 1))
		s.guest.is(true)
		s.set(func() { s.stands[0].Addresses = []netip.Addr{netip.MustParseAddr("10.60.4.3")} })
		s.up(false)
		x = s.after(d.ID, 10*time.Minute)
		require.Equal(t, "starting", x.State)
		require.Equal(t, "running", *of(t, x, "card").State)
		decide := func(step, action, note string) error {
			_, err := s.recovery.StepDrill(t.Context(), rooms.Anna(), d.ID, api.StepDecision{Step: step, Action: action, Note: &note})
			return err
		}
		require.ErrorContains(t, decide("name", "done", ""), "waits for nobody's word")
		require.ErrorContains(t, decide("card", "again", ""), "is running")
		require.ErrorContains(t, decide("nothing", "done", ""), "no step")
		p, _ := problem.Of(decide("card", "skip", " "))
		require.Equal(t, "note", p.Errors[0].Field, "why is wanted")
		require.NoError(t, decide("card", "failed", "It stuck."))
		x = s.after(d.ID, 2*time.Second)
		require.Equal(t, "asking", *of(t, x, "card").State)
		require.NoError(t, decide("card", "again", ""))
		x = s.after(d.ID, 2*time.Second)
		require.Equal(t, "running", *of(t, x, "card").State, "it is asked once more")
		require.NoError(t, decide("card", "done", "It opened."))
		x = s.after(d.ID, 20*time.Second)
		require.Contains(t, *of(t, x, "name").Said, "Nothing was changed")
		require.Contains(t, *of(t, x, "name").Said, "10.60.4.3 in place of 10.40.8.3")
		require.Empty(t, s.around.set)
		require.Equal(t, "running", *of(t, x, "port").State)
		require.Greater(t, s.guest.asked, 10, "it is asked again and again")
		s.guest.is(false)
		x = s.after(d.ID, 30*time.Second)
		require.Equal(t, "running", *of(t, x, "rest").State)
		s.stop()
		s.open() // a restart in the middle of a wait
		x = s.after(d.ID, 40*time.Second)
		require.Equal(t, "open", x.State, "%+v", x.Runbook)
		require.Equal(t, []string{"gatectl open"}, s.guest.ran)
		require.Len(t, s.around.ran, 1)
		require.InDelta(t, 60, *of(t, x, "rest").TookSeconds, 3, "it waited no longer for the restart")
		require.Equal(t, 2, *of(t, x, "rest").Tries)

		// One is done again while it is open.
		require.NoError(t, decide("fit", "again", ""))
		x = s.after(d.ID, 3*time.Second)
		require.Equal(t, "passed", *of(t, x, "fit").State)
		require.Len(t, s.around.ran, 2)
		_, err = s.recovery.End(t.Context(), rooms.Anna(), d.ID, api.DrillEnd{})
		require.NoError(t, err)
		x = s.after(d.ID, 5*time.Second)
		require.Equal(t, []string{"over", "passed"}, []string{x.State, *x.Result})
		require.Greater(t, *x.TookSeconds, int64(600), "the time of the steps counts")
		plan, err = s.recovery.Plan(t.Context(), rooms.Anna(), "Gates", api.NewDrill{})
		require.NoError(t, err)
		require.InDelta(t, 60, *plan.Runbook[len(plan.Runbook)-1].ExpectedSeconds, 2)
	})
}

// A step that hangs or fails ends as it was said: somebody is asked, it goes on, or the drill
// ends. Whatever comes of it, the drill did not pass.
func TestAStepThatFails(t *testing.T) {
	for name, c := range map[string]struct {
		how   runbook.Failure
		alone bool
		hangs bool
		state string
		step  string
	}{
		"asks":              {runbook.Ask, false, false, "starting", "asking"},
		"hangs":             {"", false, true, "starting", "asking"},
		"goes on":           {runbook.GoOn, false, false, "open", "failed"},
		"ends it":           {runbook.Stop, false, false, "over", "failed"},
		"nobody is there":   {runbook.Ask, true, true, "over", "failed"},
		"goes on, and ends": {runbook.GoOn, true, false, "over", "failed"},
	} {
		t.Run(name, func(t *testing.T) {
			synctest.Test(t, func(t *testing.T) {
				s := newSite(t)
				defer s.stop()
				s.around.steps = []runbook.Step{{Name: "fit", Kind: runbook.Host, After: 1, Command: "fit-quay", Failure: c.how, Limit: 2 * time.Minute}}
				s.around.hangs, s.around.broken = c.hangs, errors.New("the quay is not there")
				d := s.start(api.NewDrill{ForSeconds: new(int64(7200)), Once: &c.alone})
				s.after(d.ID, 3*time.Second)
				s.up(false)
				x := s.after(d.ID, 3*time.Minute)
				require.Equal(t, []string{c.state, c.step}, []string{x.State, *of(t, x, "fit").State})
				if c.step == "asking" {
					require.Contains(t, *x.Error, "he step fit failed")
					_, err := s.recovery.StepDrill(t.Context(), rooms.Anna(), d.ID, api.StepDecision{Step: "fit", Action: "again"})
					require.NoError(t, err)
					x = s.after(d.ID, 3*time.Minute)
					require.Equal(t, 2, *of(t, x, "fit").Tries)
					_, err = s.recovery.StepDrill(t.Context(), rooms.Anna(), d.ID, api.StepDecision{Step: "fit", Action: "skip", Note: new("the quay was fitted by hand")})
					require.NoError(t, err)
					x = s.after(d.ID, 2*time.Second)
					require.Equal(t, "open", x.State)
					require.Nil(t, x.Error)
				}
				if x.State == "open" {
					_, err := s.recovery.End(t.Context(), rooms.Anna(), d.ID, api.DrillEnd{Passed: new(true)})
					require.NoError(t, err)
					x = s.after(d.ID, 5*time.Second)
				}
				require.Equal(t, []string{"over", "failed"}, []string{x.State, *x.Result})
				require.Contains(t, x.Why[0], "The step fit")
			})
		})
	}
}
