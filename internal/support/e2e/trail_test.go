package e2e

import (
	"bytes"
	"encoding/json"
	"fmt"
	"net/http"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"kestrel/internal/api"
)

// However often the service is killed in the midst of changes, there is none of them
// without its line of the trail and no line without its change, and the trail holds.
func TestKillsLeaveNoChangeWithoutItsLine(t *testing.T) {
	t.Parallel()
	s := newSite(t, "Norhaven")
	var made atomic.Int64
	for range 4 {
		// Four at once make tokens, and take every third back, until they are cut off
		// wherever they are.
		var wg sync.WaitGroup
		target := made.Load() + 20
		for range 4 {
			wg.Go(func() {
				ask := func(method, path string, in any) (int, []byte) {
					b, err := json.Marshal(in)
					if err != nil {
						return 0, nil
					}
					r, err := http.NewRequest(method, s.url+"/api/v1"+path, bytes.NewReader(b))
					if err != nil {
						return 0, nil
					}
					r.Header.Set("Content-Type", "application/json")
					r.Header.Set("Authorization", "Bearer "+s.token)
					res, err := (&http.Client{Timeout: time.Minute}).Do(r)
					if err != nil {
						return 0, nil
					}
					defer func() { _ = res.Body.Close() }()
					var out bytes.Buffer
					_, _ = out.ReadFrom(res.Body)
					return res.StatusCode, out.Bytes()
				}
				for {
					n := made.Add(1)
					status, b := ask(http.MethodPost, "/tokens", api.NewToken{Name: fmt.Sprintf("tool-%d-", n), Days: 1})
					if status == 0 {
						return // it is gone
					}
					var x api.TokenSecret
					if n%3 == 0 && json.Unmarshal(b, &x) == nil {
						if status, _ = ask(http.MethodDelete, "/tokens/"+x.Token.ID, struct{}{}); status == 0 {
							return
						}
					}
				}
			})
		}
		require.Eventually(t, func() bool { return made.Load() >= target }, 4*time.Minute, time.Millisecond)
		s.kill()
		wg.Wait()
		s.start()
	}

	there, told := map[string]bool{}, map[string]int{}
	for _, x := range must[[]api.Token](s, http.MethodGet, "/tokens", nil) {
		if strings.HasPrefix(x.Name, "tool-") {
			there[x.Name] = true
		}
	}
	for before := int64(0); ; {
		lines := must[[]api.Activity](s, http.MethodGet, fmt.Sprintf("/activity?limit=500&kind=token&before=%d", before), nil)
		for _, l := range lines {
			before = l.ID
			for word, by := range map[string]int{"made the token ": 1, "revoked the token ": -1} {
				if _, name, ok := strings.Cut(l.Text, word); ok && strings.HasPrefix(name, "tool-") {
					name, _, _ = strings.Cut(name, ",")
					name, _, _ = strings.Cut(name, " ")
					told[name] += by
				}
			}
		}
		if len(lines) < 500 {
			break
		}
	}
	require.Greater(t, len(there), 20)
	require.Greater(t, len(told), len(there)+5, "some were taken back")
	for name, n := range told {
		require.Equal(t, map[bool]int{true: 1, false: 0}[there[name]], n, "%s is there: %v", name, there[name])
	}
	for name := range there {
		require.Equal(t, 1, told[name], name)
	}
	v := must[api.TrailVerdict](s, http.MethodGet, "/activity/verification", nil)
	require.True(t, v.Ok, "%v", v.Faults)
}
