package cli

import (
	"bytes"
	"context"
	"strings"
	"testing"
	"time"
	"unicode/utf8"

	"github.com/spf13/cobra"
	"github.com/stretchr/testify/require"

	"kestrel/internal/api"
)

var noon = time.Date(2026, 11, 23, 12, 0, 0, 0, time.UTC)

func at(s int, exposure float64) api.Vertex {
	return api.Vertex{At: noon.Add(time.Duration(s) * time.Second), Seconds: exposure}
}

func TestStripDrawsWaterAndMark(t *testing.T) {
	// Rises to 40 s, drops, rises over the target of 50 s.
	vs := []api.Vertex{at(0, 0), at(40, 40), at(40, 5), at(100, 65)}
	s := strip(vs, noon, noon.Add(100*time.Second), 50, 10, palette{})
	require.Equal(t, 10, utf8.RuneCountInString(s))
	require.Equal(t, "▲▲", string([]rune(s)[8:]), "over the target is marked: %s", s)
	require.NotContains(t, string([]rune(s)[:8]), "▲")
	require.Equal(t, strings.Repeat("·", 7), strip(nil, noon, noon.Add(time.Second), 50, 7, palette{}), "nothing sealed yet")
}

func TestTideFitsTheTerminal(t *testing.T) {
	exposure, headroom := int64(1260), int64(-360)
	b := api.Board{Headline: []api.Phrase{{Text: "Ticketing is 6 min over its 15 min target.", Tone: api.PhraseToneOver}, {Text: "8 of 10 groups would lose less than they promised.", Tone: api.PhraseTonePlain}}, Dark: "If Norhaven went dark now: worst loss 21 min",
		Groups: []api.BoardGroup{
			{Group: api.Group{Name: "Ticketing", Health: "over", Direction: api.Out, Recovery: "Eastmole", ExposureSeconds: &exposure, HeadroomSeconds: &headroom, Promise: api.Promise{RpoTargetSeconds: 900}},
				Strip: []api.Vertex{at(0, 0), at(1260, 1260)}, StripFrom: noon, StripTo: noon.Add(21 * time.Minute)},
			{Group: api.Group{Name: "A group with a name that is much too long for a line", Health: "seeding", Direction: api.In, Home: "Skarholt", Promise: api.Promise{RpoTargetSeconds: 900}, Running: &api.Progress{TotalBytes: 1000, ReadBytes: 420}}},
		}, Links: []api.Link{{Peer: "Eastmole"}}}
	for _, width := range []int{80, 100, 160} {
		for _, line := range strings.Split(drawTide(b, width, palette{}), "\n") {
			require.LessOrEqual(t, utf8.RuneCountInString(strings.TrimRight(line, " ")), width, "%q", line)
		}
	}
	text := drawTide(b, 120, palette{})
	require.Contains(t, text, "▲ over")
	require.Contains(t, text, "21 min of 15 min")
	require.Contains(t, text, "42 %")
	require.Contains(t, text, "✕ down")
	require.NotContains(t, text, "\x1b", "no colours where none are wanted")
	require.Contains(t, drawTide(b, 120, colours(true)), "\x1b[")
}

// Every command says what it does and shows how, and takes no argument that it
// does not know.
func TestEveryCommandHasHelpAndAnExample(t *testing.T) {
	var visit func(c *cobra.Command)
	n := 0
	visit = func(c *cobra.Command) {
		require.NotEmpty(t, c.Short, c.CommandPath())
		if c.RunE != nil && !c.HasSubCommands() {
			n++
			require.NotEmpty(t, c.Example, c.CommandPath())
			require.Contains(t, c.Example, c.CommandPath(), "the example is of the command itself")
			require.NotNil(t, c.Args, c.CommandPath())
		}
		for _, s := range c.Commands() {
			visit(s)
		}
	}
	visit((&app{}).root())
	require.Greater(t, n, 45)
}

func TestExitCodesOfWrongCommandLines(t *testing.T) {
	t.Setenv("KESTREL_PROFILES", t.TempDir()+"/none.json")
	t.Setenv("KESTREL_URL", "")
	run := func(args ...string) (int, string) {
		var out, errs bytes.Buffer
		code := Main(context.Background(), args, Streams{In: strings.NewReader(""), Out: &out, Err: &errs})
		return code, out.String() + errs.String()
	}
	for _, args := range [][]string{{"nothing"}, {"group", "nothing"}, {"group", "show"}, {"group", "show", "a", "b"}, {"status", "--colour"}, {"status", "-o", "xml"},
		{"login", "nowhere"}, {"serve"}} {
		code, text := run(args...)
		require.Equal(t, exitUsage, code, "%v: %s", args, text)
		require.NotContains(t, text, ": usage", args)
	}
	code, text := run("version")
	require.Equal(t, exitOK, code, text)
	code, _ = run("group", "--help")
	require.Equal(t, exitOK, code)
	t.Setenv("KESTREL_URL", "http://127.0.0.1:1")
	code, text = run("status")
	require.Equal(t, exitUnreachable, code, text)
}
