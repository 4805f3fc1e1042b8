// Package tracing tells a collector of OpenTelemetry how requests and cycles went: by OTLP over
// HTTP, if one is named. Nobody waits for it; what it does not take is lost.
package tracing

import (
	"context"
	"errors"
	"fmt"
	"log/slog"
	"net"
	"net/http"
	"net/url"
	"strings"
	"time"

	"github.com/labstack/echo/v5"
	"go.opentelemetry.io/otel/attribute"
	"go.opentelemetry.io/otel/codes"
	"go.opentelemetry.io/otel/exporters/otlp/otlptrace/otlptracehttp"
	"go.opentelemetry.io/otel/propagation"
	"go.opentelemetry.io/otel/sdk/resource"
	sdk "go.opentelemetry.io/otel/sdk/trace"
	"go.opentelemetry.io/otel/trace"

	"kestrel/internal/cycle"
	"kestrel/internal/directory"
	"kestrel/internal/problem"
)

// Config says where spans go, and whose they are.
type Config struct {
	URL                   string // of the collector; without a path it is /v1/traces
	Site, SiteID, Version string
	Dial                  func(ctx context.Context, network, address string) (net.Conn, error)
	Log                   *slog.Logger
}

// Tracing sends spans; nil sends none.
type Tracing struct {
	provider *sdk.TracerProvider
	tracer   trace.Tracer
}

// Check refuses what is no address of a collector.
func Check(text string) error {
	u, err := url.Parse(text)
	if err != nil || u.Scheme != "http" && u.Scheme != "https" || u.Host == "" {
		return fmt.Errorf("%q is no address of a collector; write it like https://collector.example:4318", text)
	}
	return nil
}

// New begins to send. It does not ask whether anybody listens.
func New(ctx context.Context, cfg Config) (*Tracing, error) {
	if err := Check(cfg.URL); err != nil {
		return nil, err
	}
	at := strings.TrimSuffix(cfg.URL, "/")
	if u, err := url.Parse(at); err == nil && u.Path == "" {
		at += "/v1/traces"
	}
	to, err := otlptracehttp.New(ctx, otlptracehttp.WithEndpointURL(at), otlptracehttp.WithTimeout(10*time.Second), otlptracehttp.WithHTTPClient(&http.Client{Transport: &http.Transport{DialContext: cfg.Dial, IdleConnTimeout: time.Minute}}))
	if err != nil {
		return nil, fmt.Errorf("traces: %w", err)
	}
	// Names are those of OpenTelemetry's semantic conventions.
	res := resource.NewSchemaless(attribute.String("service.name", "kestrel-tide"), attribute.String("service.version", cfg.Version), attribute.String("service.namespace", cfg.Site), attribute.String("service.instance.id", cfg.SiteID))
	p := sdk.NewTracerProvider(sdk.WithBatcher(&quiet{SpanExporter: to, log: cfg.Log}), sdk.WithResource(res))
	return &Tracing{p, p.Tracer("kestrel")}, nil
}

// quiet says once that spans are not taken, and not with every batch.
type quiet struct {
	sdk.SpanExporter
	log    *slog.Logger
	failed bool // one batch is exported at a time
}

// ExportSpans implements sdk.SpanExporter.
func (q *quiet) ExportSpans(ctx context.Context, spans []sdk.ReadOnlySpan) error {
	err := q.SpanExporter.ExportSpans(ctx, spans)
	if err != nil && !q.failed && !errors.Is(err, context.Canceled) {
		q.log.Warn("traces are not taken", "err", err)
	}
	q.failed = err != nil
	return nil
}

// Close sends what is left, as far as ctx allows.
func (t *Tracing) Close(ctx context.Context) error {
	return t.provider.Shutdown(ctx)
}

// Requests is a span for each request of the API, within that of who asks (W3C Trace Context).
// It holds the route, and nothing of what is asked or answered.
func (t *Tracing) Requests(next echo.HandlerFunc) echo.HandlerFunc {
	if t == nil {
		return next
	}
	return func(c *echo.Context) error {
		r := c.Request()
		if !strings.HasPrefix(c.Path(), "/api/") {
			return next(c)
		}
		ctx := propagation.TraceContext{}.Extract(r.Context(), propagation.HeaderCarrier(r.Header))
		ctx, s := t.tracer.Start(ctx, r.Method+" "+c.Path(), trace.WithSpanKind(trace.SpanKindServer), trace.WithAttributes(attribute.String("http.request.method", r.Method), attribute.String("http.route", c.Path())))
		defer s.End()
		c.SetRequest(r.WithContext(ctx))
		err := next(c)
		_, status := echo.ResolveResponseStatus(c.Response(), err)
		if p, ok := problem.Of(err); ok {
			status = p.Status
		}
		s.SetAttributes(attribute.Int("http.response.status_code", status))
		if status >= http.StatusInternalServerError { // what a client did wrong is no error of ours
			s.SetStatus(codes.Error, "")
		}
		return err
	}
}

// Cycle tells of a cycle that has ended, with a span for each of its phases.
func (t *Tracing) Cycle(r directory.Record, a cycle.Account) {
	if t == nil || a.EndedAt.IsZero() {
		return
	}
	ctx, s := t.tracer.Start(context.Background(), "cycle "+a.Kind, trace.WithTimestamp(a.StartedAt), trace.WithAttributes(
		attribute.String("kestrel.group", r.Spec.Name), attribute.String("kestrel.group.id", r.ID), attribute.Int64("kestrel.cycle", a.Number), attribute.String("kestrel.cycle.state", a.State), attribute.Int("kestrel.cycle.attempts", a.Attempts),
		attribute.Int64("kestrel.cycle.read_bytes", a.ReadBytes), attribute.Int64("kestrel.cycle.changed_bytes", a.ChangedBytes), attribute.Int64("kestrel.cycle.shipped_bytes", a.ShippedBytes), attribute.Int64("kestrel.cycle.wire_bytes", a.WireBytes),
		attribute.Float64("kestrel.cycle.waited_seconds", a.Waited.Seconds())))
	for _, p := range a.Phases {
		to := a.EndedAt
		if p.To != nil {
			to = *p.To
		}
		_, x := t.tracer.Start(ctx, p.Name, trace.WithTimestamp(p.From))
		x.End(trace.WithTimestamp(to))
	}
	if a.State != cycle.Sealed {
		s.SetStatus(codes.Error, a.Error)
	}
	s.End(trace.WithTimestamp(a.EndedAt))
}
