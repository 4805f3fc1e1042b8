package site_test

import (
	"bytes"
	"encoding/json"
	"flag"
	"fmt"
	"io"
	"math/rand/v2"
	"net/http"
	"net/url"
	"slices"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/getkin/kin-openapi/openapi3"
	"github.com/google/uuid"
	"github.com/stretchr/testify/require"

	contract "kestrel/api"
	"kestrel/internal/api"
	"kestrel/internal/clock"
	"kestrel/internal/core/span"
)

var (
	attack       = flag.Duration("site.attack", 2*time.Second, "how long forged peers go at a site")
	requests     = flag.Int("site.requests", 3000, "how many requests are made up from the contract")
	requestsSeed = flag.Uint64("site.seed", 1, "seed of the first one")
)

// maker makes requests up from the contract: mostly nearly right, and wrong in what
// breaks programs.
type maker struct {
	r   *rand.Rand
	ids []string // that there are
}

// nasty are texts that have broken programs.
func nasty() []string {
	return []string{"", " ", "\x00", "a\x00b", "\xff\xfe", "a\nb", "\x1b[2J", "\u202eabc", "'; DROP TABLE groups; --", `"`, "\\", "%00", "%ff", "../../etc/passwd", "a:b", "urn:uuid:11111111-1111-4111-8111-111111111111",
		"{11111111-1111-4111-8111-111111111111}", "11111111-1111-4111-8111-111111111111", strings.Repeat("x", 5000), strings.Repeat("🚢", 300), "null", "-1", "99999999999999999999", "1e400", "NaN", "0x10", "2026-13-45T99:99:99Z", "9999-12-31T23:59:59Z", "0000-01-01T00:00:00Z", "<script>", "${jndi:x}"}
}

func pick[T any](m *maker, xs []T) T { return xs[m.r.IntN(len(xs))] }

// often is true but once in n times.
func (m *maker) often(n int) bool { return m.r.IntN(n) != 0 }

func (m *maker) text(name string, s *openapi3.Schema) any {
	switch {
	case strings.Contains(strings.ToLower(name), "address"):
		return pick(m, []string{"127.0.0.1:1", "http://127.0.0.1:1", "qemu:///nowhere", "", "\x00", "://"})
	case strings.Contains(name, "path") || strings.Contains(name, "ertificates") || name == "scratch":
		return pick(m, []string{"", "\x00", "/nowhere/at/all", "/nowhere/\xff", strings.Repeat("/x", 3000)})
	case m.often(3) && s.Format == "date-time":
		return time.Date(2026, 11, 1+m.r.IntN(40), m.r.IntN(24), 0, 0, 0, time.UTC).Format(time.RFC3339)
	case m.often(3) && len(s.Enum) > 0:
		return pick(m, s.Enum)
	case m.often(3) && (strings.HasSuffix(strings.ToLower(name), "id") || slices.Contains([]string{"point", "group", "link", "machines", "platform"}, name)):
		return pick(m, m.ids)
	case m.often(2):
		return fmt.Sprint("made ", m.r.IntN(1000))
	}
	return pick(m, nasty())
}

func (m *maker) value(name string, ref *openapi3.SchemaRef, depth int) any {
	if ref == nil || ref.Value == nil || depth > 6 {
		return nil
	}
	s := ref.Value
	if !m.often(12) {
		return pick(m, []any{nil, true, -1, 1 << 40, 1.5, "text", []any{}, map[string]any{}, []any{[]any{}}, json.Number("99999999999999999999")})
	}
	switch {
	case s.Type.Is("object"):
		out := map[string]any{}
		for _, k := range slices.Sorted(func(yield func(string) bool) {
			for k := range s.Properties {
				if !yield(k) {
					return
				}
			}
		}) {
			if slices.Contains(s.Required, k) && m.often(20) || m.r.IntN(2) == 0 {
				out[k] = m.value(k, s.Properties[k], depth+1)
			}
		}
		if !m.often(20) {
			out[pick(m, nasty())] = 1
		}
		return out
	case s.Type.Is("array"):
		out := []any{}
		for range pick(m, []int{0, 1, 1, 2, 3, 300}) {
			out = append(out, m.value(name, s.Items, depth+1))
		}
		return out
	case s.Type.Is("integer"):
		return pick(m, []any{0, 1, 2, 5, 60, 300, 3600, 86400, -1, 1 << 31, 1 << 40, int64(1<<63 - 1), -int64(1 << 62)})
	case s.Type.Is("number"):
		return pick(m, []any{0, 1, 0.5, -1, 1e308})
	case s.Type.Is("boolean"):
		return m.r.IntN(2) == 0
	}
	return m.text(name, s)
}

// request makes one up of an operation.
func (m *maker) request(base, path, method string, item *openapi3.PathItem, op *openapi3.Operation) *http.Request {
	query := url.Values{}
	header := http.Header{}
	for _, p := range append(slices.Clone(item.Parameters), op.Parameters...) {
		v := fmt.Sprint(m.value(p.Value.Name, p.Value.Schema, 5))
		switch p.Value.In {
		case "path":
			if m.often(3) {
				v = pick(m, m.ids)
			}
			path = strings.Replace(path, "{"+p.Value.Name+"}", url.PathEscape(v), 1)
		case "query":
			if m.r.IntN(2) == 0 {
				query.Set(p.Value.Name, v)
			}
		case "header":
			if m.r.IntN(3) == 0 {
				header.Set(p.Value.Name, strings.Map(func(r rune) rune {
					if r < ' ' || r > '~' {
						return '?'
					}
					return r
				}, v))
			}
		}
	}
	var body io.Reader
	if op.RequestBody != nil {
		b, err := json.Marshal(m.value("", op.RequestBody.Value.Content["application/json"].Schema, 0))
		if err != nil || !m.often(25) {
			b = []byte(pick(m, append(nasty(), "{", "[1,2", `{"a":1}{"b":2}`, strings.Repeat("[", 10000))))
		}
		body = bytes.NewReader(b)
	}
	u := base + "/api/v1" + path
	if len(query) > 0 {
		u += "?" + query.Encode()
	}
	r, err := http.NewRequest(method, u, body)
	if err != nil { // an address that no client could send
		r, _ = http.NewRequest(method, base+"/api/v1/groups", body)
	}
	for k, v := range header {
		r.Header[k] = v
	}
	r.Header.Set("Content-Type", "application/json")
	return r
}

// made is an operation of the contract of which requests are made up.
type made struct {
	path, method string
	item         *openapi3.PathItem
	op           *openapi3.Operation
}

// broken says how a request and its answer break the contract: what it does not allow was
// done, or what was answered is not what it says.
func (o made) broken(sent []byte, status int, answer []byte) string {
	if status >= 300 {
		return ""
	}
	// What would come of a change is answered with what is wrong with it.
	asks := strings.HasSuffix(o.path, "/preview") || o.path == "/forecast"
	if !asks && o.op.RequestBody != nil && len(bytes.TrimSpace(sent)) > 0 {
		var v any
		if err := json.Unmarshal(sent, &v); err != nil {
			return "it was no JSON, and was done"
		}
		if err := o.op.RequestBody.Value.Content["application/json"].Schema.Value.VisitJSON(v, openapi3.VisitAsRequest()); err != nil {
			return "the contract does not allow it, and it was done: " + err.Error()
		}
	}
	said := o.op.Responses.Status(status)
	if said == nil {
		return "the contract knows no such answer"
	}
	if media := said.Value.Content.Get("application/json"); media != nil {
		var v any
		if err := json.Unmarshal(answer, &v); err != nil {
			return "the answer is no JSON"
		}
		if err := media.Schema.Value.VisitJSON(v, openapi3.VisitAsResponse()); err != nil {
			return "the answer is not what the contract says: " + err.Error()
		}
	}
	return ""
}

// Requests that are made up from the contract, right and wrong, break nothing: none
// fails inside, hangs or stops the service, and what was protected is protected still.
func TestNoRequestBreaksTheService(t *testing.T) {
	home, recovery := start(t, "Norhaven", clock.Wall{}), start(t, "Eastmole", clock.Wall{})
	g := joined(t, home, recovery, &api.Promise{RpoTargetSeconds: 7200, CadenceSeconds: 3600, Keep: []api.Rung{{ForSeconds: int64(span.Day / time.Second)}}})
	doc, err := openapi3.NewLoader().LoadFromData(contract.OpenAPI)
	require.NoError(t, err)
	var all []made
	for _, path := range doc.Paths.InMatchingOrder() {
		item := doc.Paths.Value(path)
		for method, op := range item.Operations() {
			// Streams have no end, and the session is what the others are asked with.
			// Who is demanded a second factor would be let do nothing more.
			if path != "/events" && path != "/session" && path != "/welcome" && (path != "/safeguards" || method == http.MethodGet) {
				all = append(all, made{path, method, item, op})
			}
		}
	}
	slices.SortFunc(all, func(a, b made) int { return strings.Compare(a.path+a.method, b.path+b.method) })
	require.Greater(t, len(all), 50)
	for _, s := range []struct {
		name string
		c    client
	}{{"home", console(t, home).as(join(t, home, "anna", "administrator"))}, {"recovery", console(t, recovery).as(join(t, recovery, "anna", "administrator"))}} {
		ids := []string{g.ID, g.Name, g.Link, listed(t, recovery, g.ID)[0].ID, home.Inventory.All()[0].ID, home.Inventory.All()[0].ID + "/" + g.Machines[0].ID, uuid.NewString()}
		n := *requests / 2
		seen := map[int]int{}
		var mu sync.Mutex
		var wg sync.WaitGroup
		const at = 4 // at once
		for w := range uint64(at) {
			wg.Go(func() {
				m := &maker{r: rand.New(rand.NewPCG(*requestsSeed, w)), ids: ids}
				for range n / at {
					o := pick(m, all)
					// What ends the thing that all of this is about is asked for by nobody.
					if o.method == http.MethodDelete && !m.often(2) {
						continue
					}
					r := m.request(s.c.url, o.path, o.method, o.item, o.op)
					r.Header.Set("Authorization", "Bearer "+s.c.secret)
					var sent []byte
					if r.GetBody != nil {
						b, _ := r.GetBody()
						sent, _ = io.ReadAll(b)
					}
					res, err := (&http.Client{Timeout: patience}).Do(r)
					if err != nil {
						t.Errorf("%s %s at %s: %v", r.Method, r.URL, s.name, err)
						continue
					}
					b, err := io.ReadAll(res.Body)
					_ = res.Body.Close()
					if err != nil || res.StatusCode >= 500 && res.StatusCode != http.StatusBadGateway {
						t.Errorf("%s %s at %s: %d %s %v\nwith %.2000q", r.Method, r.URL, s.name, res.StatusCode, b, err, sent)
					}
					if why := o.broken(sent, res.StatusCode, b); why != "" {
						t.Errorf("%s %s at %s: %d: %s\nwith %.2000q", r.Method, r.URL, s.name, res.StatusCode, why, sent)
					}
					mu.Lock()
					seen[res.StatusCode]++
					mu.Unlock()
				}
			})
		}
		wg.Wait()
		t.Logf("%s: %v", s.name, seen)
		require.Positive(t, seen[200])
		require.Positive(t, seen[422])
		require.NoError(t, home.Ready(ctx))
		require.NoError(t, recovery.Ready(ctx))
	}
}
