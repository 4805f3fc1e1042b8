package tracing_test

import (
	"errors"
	"io"
	"log/slog"
	"net"
	"net/http"
	"net/http/httptest"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/labstack/echo/v5"
	"github.com/stretchr/testify/require"
	collector "go.opentelemetry.io/proto/otlp/collector/trace/v1"
	spans "go.opentelemetry.io/proto/otlp/trace/v1"
	"google.golang.org/protobuf/proto"

	"kestrel/internal/core/group"
	"kestrel/internal/cycle"
	"kestrel/internal/directory"
	"kestrel/internal/problem"
	"kestrel/internal/tracing"
)

// gatherer takes spans as a collector does.
type gatherer struct {
	mu  sync.Mutex
	got map[string]*spans.Span
	by  map[string]string // attributes of the resource
}

func (g *gatherer) ServeHTTP(w http.ResponseWriter, r *http.Request) {
	body, _ := io.ReadAll(r.Body)
	var in collector.ExportTraceServiceRequest
	if err := proto.Unmarshal(body, &in); err != nil || r.URL.Path != "/v1/traces" {
		http.Error(w, "not understood", http.StatusBadRequest)
		return
	}
	g.mu.Lock()
	defer g.mu.Unlock()
	for _, rs := range in.ResourceSpans {
		for _, a := range rs.Resource.Attributes {
			g.by[a.Key] = a.Value.GetStringValue()
		}
		for _, ss := range rs.ScopeSpans {
			for _, s := range ss.Spans {
				g.got[s.Name] = s
			}
		}
	}
}

func attributes(s *spans.Span) map[string]any {
	out := map[string]any{}
	for _, a := range s.Attributes {
		switch v := a.Value.Value; {
		case a.Value.GetStringValue() != "":
			out[a.Key] = a.Value.GetStringValue()
		case v != nil:
			out[a.Key] = a.Value.GetIntValue()
		}
	}
	return out
}

// Requests are told with their route and answer and within the asker's trace, cycles with their
// phases, of the site that they are of; nothing of what was asked is in it.
func TestWhatACollectorIsTold(t *testing.T) {
	g := &gatherer{got: map[string]*spans.Span{}, by: map[string]string{}}
	srv := httptest.NewServer(g)
	defer srv.Close()
	x, err := tracing.New(t.Context(), tracing.Config{URL: srv.URL, Site: "Norhaven", SiteID: "11", Version: "1.2", Dial: (&net.Dialer{}).DialContext, Log: slog.New(slog.DiscardHandler)})
	require.NoError(t, err)
	e := echo.New()
	e.HTTPErrorHandler = func(c *echo.Context, err error) { _ = c.String(http.StatusTeapot, err.Error()) }
	e.Use(x.Requests)
	e.GET("/api/v1/groups/:id", func(c *echo.Context) error { return c.String(http.StatusOK, "secret answer") })
	e.GET("/api/v1/gone", func(*echo.Context) error { return problem.NotFound("group", "x") })
	e.GET("/api/v1/broken", func(*echo.Context) error { return errors.New("a fault") })
	e.GET("/*", func(c *echo.Context) error { return c.String(http.StatusOK, "the console") })
	for _, path := range []string{"/api/v1/groups/hidden?q=secret", "/api/v1/gone", "/api/v1/broken", "/index.html"} {
		r := httptest.NewRequest(http.MethodGet, path, nil)
		r.Header.Set("traceparent", "00-0123456789abcdef0123456789abcdef-0123456789abcdef-01")
		e.ServeHTTP(httptest.NewRecorder(), r)
	}
	began := time.Date(2026, 11, 26, 12, 0, 0, 0, time.UTC)
	x.Cycle(directory.Record{ID: "22", Spec: group.Spec{Name: "Ticketing"}}, cycle.Account{Number: 7, Kind: cycle.KindChanges, State: cycle.Failed, Error: "The link was cut", StartedAt: began, EndedAt: began.Add(time.Minute), WireBytes: 42,
		Phases: []cycle.Phase{{Name: "read", From: began.Add(time.Second), To: new(began.Add(30 * time.Second))}, {Name: "ship", From: began.Add(20 * time.Second)}}})
	x.Cycle(directory.Record{}, cycle.Account{Kind: "runs still", StartedAt: began})
	require.NoError(t, x.Close(t.Context()))

	require.Equal(t, map[string]string{"service.name": "kestrel-tide", "service.version": "1.2", "service.namespace": "Norhaven", "service.instance.id": "11"}, g.by)
	require.Len(t, g.got, 6)
	one := g.got["GET /api/v1/groups/:id"]
	require.Equal(t, map[string]any{"http.request.method": "GET", "http.route": "/api/v1/groups/:id", "http.response.status_code": int64(200)}, attributes(one))
	require.Equal(t, byte(0x01), one.TraceId[0])
	require.Equal(t, byte(0xef), one.TraceId[15])
	require.NotContains(t, one.String(), "secret")
	require.EqualValues(t, 404, attributes(g.got["GET /api/v1/gone"])["http.response.status_code"])
	require.Equal(t, spans.Status_STATUS_CODE_UNSET, g.got["GET /api/v1/gone"].Status.GetCode())
	require.Equal(t, spans.Status_STATUS_CODE_ERROR, g.got["GET /api/v1/broken"].Status.GetCode())
	c := g.got["cycle changes"]
	require.Equal(t, []any{"Ticketing", int64(7), "failed", int64(42)}, []any{attributes(c)["kestrel.group"], attributes(c)["kestrel.cycle"], attributes(c)["kestrel.cycle.state"], attributes(c)["kestrel.cycle.wire_bytes"]})
	require.Equal(t, "The link was cut", c.Status.GetMessage())
	require.EqualValues(t, time.Minute, c.EndTimeUnixNano-c.StartTimeUnixNano)
	for name, lasted := range map[string]time.Duration{"read": 29 * time.Second, "ship": 40 * time.Second} {
		require.EqualValues(t, lasted, g.got[name].EndTimeUnixNano-g.got[name].StartTimeUnixNano, name)
		require.Equal(t, c.SpanId, g.got[name].ParentSpanId)
	}
}

// A collector that is not there holds up nobody, and is told of once.
func TestACollectorThatIsAway(t *testing.T) {
	require.ErrorContains(t, tracing.Check("collector:4318"), "is no address of a collector")
	require.NoError(t, tracing.Check("https://collector.example:4318"))
	var log strings.Builder
	x, err := tracing.New(t.Context(), tracing.Config{URL: "http://127.0.0.1:1", Dial: (&net.Dialer{}).DialContext, Log: slog.New(slog.NewTextHandler(&log, nil))})
	require.NoError(t, err)
	x.Cycle(directory.Record{}, cycle.Account{Kind: "changes", State: cycle.Sealed, StartedAt: time.Now(), EndedAt: time.Now()})
	_ = x.Close(t.Context())
	require.LessOrEqual(t, strings.Count(log.String(), "traces are not taken"), 1)
	var none *tracing.Tracing
	none.Cycle(directory.Record{}, cycle.Account{EndedAt: time.Now()})
	require.NoError(t, none.Requests(func(*echo.Context) error { return nil })(nil))
}
