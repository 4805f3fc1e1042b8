package e2e

import (
	"context"
	"encoding/json"
	"fmt"
	"net/http"
	"testing"

	"github.com/chromedp/chromedp"
	"github.com/stretchr/testify/require"

	"kestrel/internal/api"
	"kestrel/internal/lab"
	"kestrel/internal/support/browser"
	"kestrel/internal/support/large"
)

// seen is what a list shows of its rows: their numbers, and how much of the window they leave
// empty though there are more.
type seen struct {
	First, Last, Total int
	Gap                float64
	Names              []string
}

// inSight tells which rows of the page's table are drawn, and whether they fill the window.
const inSight = `(() => {
	const rows = [...document.querySelectorAll("tbody tr[aria-rowindex]")].filter((r) => { const b = r.getBoundingClientRect(); return b.bottom > 0 && b.top < innerHeight });
	const table = document.querySelector("table[aria-rowcount]");
	const n = (r) => Number(r.getAttribute("aria-rowindex"));
	const end = document.documentElement.scrollHeight - scrollY - innerHeight < 60;
	return JSON.stringify({ First: n(rows[0]), Last: n(rows.at(-1)), Total: Number(table.getAttribute("aria-rowcount")) - 1,
		Gap: end ? 0 : Math.max(0, innerHeight - rows.at(-1).getBoundingClientRect().bottom), Names: rows.map((r) => /quay[- ]\d+/i.exec(r.innerText)[0]) });
})()`

// Of a site with hundreds of groups and machines, every list can be scrolled through to its
// end, with every row once and none missing; the board draws the worst and says how many
// there are; the command line tells the same.
func TestManyGroupsInTheConsole(t *testing.T) {
	t.Parallel()
	if raceEnabled {
		t.Skip("the browser driver races with itself when it types; ./dev test runs this test without the race detector")
	}
	size := large.Size{Links: 20, Groups: 330, Crew: 2}
	var more []lab.ScenarioMachine
	for i := range size.Groups * size.Crew {
		more = append(more, lab.ScenarioMachine{Name: large.Machine(i), Folder: "/quays", Guest: "Linux", CPUs: 1, MemGiB: 1, Off: true})
	}
	l := newLab(t, "lab-password", more...)
	ids := map[string]string{}
	for _, m := range l.Inventory().Machines {
		ids[m.Name] = m.ID
	}
	s := newSite(t, "Norhaven")
	w := &world{t: t, home: s, lab: l}
	p := must[api.Platform](s, http.MethodPost, "/platforms", api.NewPlatform{Name: "lab", Kind: "lab", Address: l.url, User: new("lab"), Password: new("lab-password")})
	s.stop()
	require.NoError(t, large.Fill(context.Background(), s.db, size, p.ID, func(i int) string { return ids[large.Machine(i)] }))
	s.start()
	b := must[api.Board](s, http.MethodGet, "/board?limit=7", nil)
	require.Len(t, b.Groups, 7)
	require.Equal(t, size.Groups, b.Total)
	require.Equal(t, size.Groups, b.Amiss, "no link is up: what is not over is cut off")
	require.Less(t, len(b.Needs), 60)
	require.Greater(t, b.NeedsTotal, size.Groups)
	out, err := s.kestrel([]string{"KESTREL_URL=" + s.url, "KESTREL_TOKEN=" + s.token}, "status", "--check")
	require.Error(t, err)
	require.Contains(t, out, fmt.Sprintf("and %d more", size.Groups-20))
	require.Contains(t, out, "… and 230 more groups")
	w.eventually("the lab's machines are known", func() bool {
		return len(must[[]api.Machine](s, http.MethodGet, "/machines?q=quay-&limit=1", nil)) == 1
	})

	tab, stop, err := browser.Open(context.Background(), 1280, 800)
	require.NoError(t, err, "./dev test installs it")
	defer stop()
	do(t, tab, "the board", browser.SignIn(s.url, person, password), browser.See(fmt.Sprintf("The first 60 of %d groups", size.Groups)), browser.Press("Draw more"), browser.See(fmt.Sprintf("The first 180 of %d groups", size.Groups)))
	for _, x := range []struct {
		path  string
		total int
	}{{"/groups?sort=name", size.Groups}, {"/machines?q=quay-&sort=name", size.Groups * size.Crew}} {
		do(t, tab, x.path, chromedp.Navigate(s.url+x.path), chromedp.WaitVisible(chromedp.CSS(`tbody tr[aria-rowindex]`)))
		look := func() (v seen) {
			text, err := chromedp.Run(tab, chromedp.Evaluate[string](inSight))
			require.NoError(t, err)
			require.NoError(t, json.Unmarshal([]byte(text), &v))
			return v
		}
		names := map[int]string{}
		for at := 0; ; at++ {
			require.Less(t, at, 400, "the end is never reached")
			w.eventually("rows fill the window", func() bool { return look().Gap == 0 })
			v := look()
			require.Equal(t, x.total, v.Total)
			require.Equal(t, v.Last-v.First+1, len(v.Names), "none is left out between the first and the last in sight")
			for i, n := range v.Names {
				require.Contains(t, []string{"", n}, names[v.First+i], "a row keeps its place")
				names[v.First+i] = n
			}
			if v.Last == x.total+1 {
				break
			}
			_, err := chromedp.Run(tab, chromedp.Evaluate[float64](`scrollBy(0, 500), scrollY`))
			require.NoError(t, err)
		}
		require.Len(t, names, x.total, x.path)
		all := map[string]bool{}
		for _, n := range names {
			all[n] = true
		}
		require.Len(t, all, x.total, "each once")
	}
}
