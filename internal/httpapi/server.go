// Package httpapi serves the contract, the console and the service's own
// health over HTTP.
package httpapi

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"log/slog"
	"maps"
	"mime"
	"net"
	"net/http"
	"net/url"
	"reflect"
	"runtime/debug"
	"slices"
	"strings"
	"syscall"
	"time"

	"github.com/labstack/echo/v5"
	"github.com/prometheus/client_golang/prometheus/promhttp"
	"golang.org/x/net/netutil"

	contract "kestrel/api"
	"kestrel/internal/api"
	"kestrel/internal/core/actor"
	"kestrel/internal/core/ident"
	"kestrel/internal/problem"
	"kestrel/internal/records"
	"kestrel/internal/signon"
	"kestrel/internal/timed"
)

const (
	cookieName = "kestrel_session"
	maxBody    = 1 << 20
)

type (
	actorKey struct{}
	fromKey  struct{}
)

// who is behind a request; the zero actor, who may do nothing, if that is not known.
func who(ctx context.Context) actor.Actor {
	a, _ := ctx.Value(actorKey{}).(actor.Actor)
	return a
}

// from is the address that a request came from.
func from(ctx context.Context) string {
	a, _ := ctx.Value(fromKey{}).(string)
	return a
}

// Door is how a site is reached.
type Door struct {
	Secure bool     // by HTTPS only
	Hosts  []string // names that clients call this host by, beside addresses and localhost; nil: any
}

// knows tells whether a request is meant for this site. A page elsewhere may let its own
// name stand for this host's address, and would then speak to it as if of its own origin.
func (d Door) knows(r *http.Request) bool {
	host := r.Host
	if h, _, err := net.SplitHostPort(host); err == nil {
		host = h
	}
	host = strings.Trim(host, "[]")
	return d.Hosts == nil || host == "localhost" || net.ParseIP(host) != nil || slices.ContainsFunc(d.Hosts, func(x string) bool {
		_, below, ok := strings.Cut(host, ".")
		wild, any := strings.CutPrefix(x, "*.")
		return strings.EqualFold(x, host) || any && ok && strings.EqualFold(wild, below)
	})
}

// New makes the handler of a site. Console holds the built console.
func New(rooms Rooms, console fs.FS, door Door, log *slog.Logger) http.Handler {
	e := echo.New()
	e.Logger = log
	e.Binder = strictBinder{}
	e.HTTPErrorHandler = func(c *echo.Context, err error) { writeProblem(c, err, log) }
	h := &handlers{Rooms: rooms, door: door, log: log, secure: door.Secure, rules: rules(), guards: guards()}
	e.Use(rooms.Tracing.Requests, calm(log), h.guard)
	api.RegisterHandlersWithBaseURL(e, api.NewStrictHandler(h, []api.StrictMiddlewareFunc{h.decide}), "/api/v1")
	e.GET("/api/openapi.yaml", func(c *echo.Context) error {
		return c.Blob(http.StatusOK, "application/yaml", contract.OpenAPI)
	})
	e.GET(feedPath, h.feed)
	if rooms.SignOn != nil {
		e.GET("/sign-on", h.beginSignOn)
		e.GET(signon.Back, h.endSignOn)
	}
	e.GET("/healthz", func(c *echo.Context) error { return c.String(http.StatusOK, "ok\n") })
	e.GET("/readyz", func(c *echo.Context) error {
		if err := rooms.Site.Ready(c.Request().Context()); err != nil {
			log.Warn("not ready", "err", err)
			return c.String(http.StatusServiceUnavailable, "not ready; the site's log says why\n")
		}
		return c.String(http.StatusOK, "ready\n")
	})
	e.GET("/metrics", echo.WrapHandler(promhttp.HandlerFor(newMetrics(rooms), promhttp.HandlerOpts{})))
	e.GET("/*", echo.WrapHandler(consoleHandler(console)))
	return headers(e, door)
}

// Serve answers on l until ctx ends, and then lets requests finish.
func Serve(ctx context.Context, l net.Listener, h http.Handler, certFile, keyFile string) error {
	srv := &http.Server{Handler: h, ReadHeaderTimeout: 10 * time.Second, MaxHeaderBytes: maxHeader, IdleTimeout: 2 * time.Minute, BaseContext: func(net.Listener) context.Context { return ctx }}
	done := make(chan struct{})
	go func() {
		defer close(done)
		<-ctx.Done()
		grace, cancel := context.WithTimeout(context.WithoutCancel(ctx), 5*time.Second)
		defer cancel()
		if srv.Shutdown(grace) != nil {
			_ = srv.Close()
		}
	}()
	var err error
	if certFile != "" {
		err = srv.ServeTLS(netutil.LimitListener(l, maxConns), certFile, keyFile)
	} else {
		err = srv.Serve(netutil.LimitListener(l, maxConns))
	}
	if ctx.Err() == nil {
		return fmt.Errorf("console listener: %w", err)
	}
	<-done
	return nil
}

// headers keeps browsers from doing what the console never needs.
func headers(next http.Handler, door Door) http.Handler {
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		h := w.Header()
		h.Set("Content-Security-Policy", "default-src 'self'; style-src 'self' 'unsafe-inline'; img-src 'self' data:; font-src 'self' data:; frame-ancestors 'none'; base-uri 'none'; form-action 'self'")
		h.Set("X-Content-Type-Options", "nosniff")
		h.Set("Referrer-Policy", "no-referrer")
		if strings.HasPrefix(r.URL.Path, "/api/") || r.URL.Path == "/metrics" {
			h.Set("Cache-Control", "no-store")
		}
		if door.Secure {
			h.Set("Strict-Transport-Security", "max-age=31536000")
		}
		next.ServeHTTP(w, r)
	})
}

// isJSON tells what a request says of its body.
func isJSON(r *http.Request) bool {
	t, _, err := mime.ParseMediaType(r.Header.Get("Content-Type"))
	return err == nil && t == "application/json"
}

// open lists what needs no sign-in.
func open(r *http.Request) bool {
	p := r.URL.Path
	if !strings.HasPrefix(p, "/api/v1/") {
		return p != "/metrics"
	}
	return r.Method == http.MethodPost && slices.Contains([]string{"/api/v1/session", "/api/v1/welcome", "/api/v1/session/passkey", "/api/v1/session/passkey/begin"}, p) || r.Method == http.MethodGet && p == "/api/v1/session/ways"
}

// guard lets nobody past without a session or a token, and no page of another
// origin act with a session.
func (h *handlers) guard(next echo.HandlerFunc) echo.HandlerFunc {
	return func(c *echo.Context) error {
		r := c.Request()
		r.Body = http.MaxBytesReader(c.Response(), timed.Body(c.Response(), r.Body, bodyTime), maxBody)
		switch err := seen(r.URL); {
		case err != nil:
			return err
		case !h.door.knows(r):
			return &problem.Problem{Status: http.StatusMisdirectedRequest, Title: "Not for this site", Detail: fmt.Sprintf("This site is not called %q. Start it with --console-url, if it is.", r.Host)}
		}
		if r.Method != http.MethodGet && r.Method != http.MethodHead && !sameOrigin(r) {
			return &problem.Problem{Status: http.StatusForbidden, Title: "Not from here", Detail: "The request comes from a page of another origin."}
		}
		if r.ContentLength != 0 && r.Body != http.NoBody && !isJSON(r) {
			return &problem.Problem{Status: http.StatusUnsupportedMediaType, Title: "Not JSON", Detail: "Send JSON, with Content-Type: application/json."}
		}
		host, _, err := net.SplitHostPort(r.RemoteAddr)
		if err != nil {
			host = r.RemoteAddr
		}
		ctx := context.WithValue(r.Context(), fromKey{}, host)
		c.SetRequest(r.WithContext(ctx))
		if open(r) {
			return next(c)
		}
		secret, ok := strings.CutPrefix(r.Header.Get("Authorization"), "Bearer ")
		if !ok {
			if cookie, err := c.Cookie(cookieName); err == nil {
				secret = cookie.Value
			}
		}
		if r.URL.Path == feedPath && secret == "" {
			secret = r.URL.Query().Get("token")
		}
		a, err := h.Access.WhoIs(ctx, secret, host)
		if err != nil && r.URL.Path == "/metrics" && records.Away(err) {
			// Monitoring that watches the database's host must not go blind with it.
			if known, ok := h.lately.get(secret); ok {
				a, err = known, nil
			}
		}
		if err != nil {
			return err
		}
		if r.URL.Path == "/metrics" {
			h.lately.put(secret, a)
		}
		if r.URL.Path == "/metrics" && a.Held != "" {
			return forbidden(a.Held)
		}
		if r.URL.Path == "/metrics" && len(a.Tags) > 0 {
			return forbidden(a.String() + " is limited to some groups, and this concerns the whole site.")
		}
		ctx = context.WithValue(context.WithValue(ctx, actorKey{}, a), secretKey{}, secret)
		c.SetRequest(r.WithContext(ctx))
		return next(c)
	}
}

// calm answers for a request that panics and lets all others go on.
func calm(log *slog.Logger) echo.MiddlewareFunc {
	return func(next echo.HandlerFunc) echo.HandlerFunc {
		return func(c *echo.Context) (err error) {
			defer func() {
				if x := recover(); x != nil {
					if x == http.ErrAbortHandler {
						panic(x)
					}
					log.Error("request panicked", "method", c.Request().Method, "path", c.Request().URL.Path, "panic", x, "stack", string(debug.Stack()))
					err = &problem.Problem{Status: http.StatusInternalServerError, Title: "Something failed here; the site's log has the details"}
				}
			}()
			return next(c)
		}
	}
}

func sameOrigin(r *http.Request) bool {
	o := r.Header.Get("Origin")
	if o == "" {
		return true // not a browser, or a plain navigation, which changes nothing
	}
	u, err := url.Parse(o)
	return err == nil && u.Host == r.Host
}

func writeProblem(c *echo.Context, err error, log *slog.Logger) {
	p, ok := problem.Of(err)
	var coded interface{ StatusCode() int }
	var large *http.MaxBytesError
	switch {
	case ok:
	case errors.As(err, &large):
		p = &problem.Problem{Status: http.StatusRequestEntityTooLarge, Title: "Too large", Detail: fmt.Sprintf("A request has at most %d bytes.", maxBody)}
	case errors.As(err, &coded):
		p = &problem.Problem{Status: coded.StatusCode(), Title: http.StatusText(coded.StatusCode())}
		if p.Status == http.StatusBadRequest {
			p.Detail = strings.TrimPrefix(err.Error(), "code=400, message=")
		}
		if p.Status == http.StatusNotFound {
			p.Detail = "There is nothing at " + c.Request().URL.Path + "."
		}
	case errors.Is(err, context.Canceled), errors.Is(err, syscall.EPIPE), errors.Is(err, syscall.ECONNRESET):
		return // who asked has gone
	case records.Away(err):
		log.Warn("the database does not answer", "path", c.Request().URL.Path, "err", err)
		c.Response().Header().Set("Retry-After", "5")
		p = &problem.Problem{Status: http.StatusServiceUnavailable, Title: "The database does not answer", Detail: "What was asked is not done, or not known to be. Ask again when PostgreSQL is back; points stay as they are meanwhile."}
	case errors.Is(err, io.EOF):
		p = &problem.Problem{Status: http.StatusBadRequest, Title: "Nothing was sent", Detail: "This request needs a JSON body."}
	default:
		log.Error("request failed", "method", c.Request().Method, "path", c.Request().URL.Path, "err", err)
		p = &problem.Problem{Status: http.StatusInternalServerError, Title: "Something failed here; the site's log has the details"}
	}
	v := api.Problem{Type: "about:blank", Title: p.Title, Status: p.Status}
	if p.Detail != "" {
		v.Detail = &p.Detail
	}
	if len(p.Errors) > 0 {
		fs := []api.FieldError{}
		for _, f := range p.Errors {
			fs = append(fs, api.FieldError{Field: f.Field, Message: f.Message})
		}
		v.Errors = &fs
	}
	w := c.Response()
	w.Header().Set("Content-Type", "application/problem+json")
	w.WriteHeader(p.Status)
	_ = json.NewEncoder(w).Encode(v)
}

// strictBinder reads JSON bodies. It takes no field that the contract does not name,
// since a misspelt one must not be passed over in silence, and misses none that the
// contract requires.
type strictBinder struct{}

func (strictBinder) Bind(c *echo.Context, v any) error {
	b, err := io.ReadAll(c.Request().Body)
	if err != nil {
		return err // too large, or cut off
	}
	if len(bytes.TrimSpace(b)) == 0 {
		return io.EOF // nothing was sent; where that is allowed it is known
	}
	d := json.NewDecoder(bytes.NewReader(b))
	d.DisallowUnknownFields()
	if err = d.Decode(v); err == nil {
		if _, more := d.Token(); !errors.Is(more, io.EOF) {
			err = errors.New("more follows after the JSON value")
		}
	}
	if err == nil {
		var raw any
		if err = json.Unmarshal(b, &raw); err == nil {
			if err := unseen("", inLines(v, raw)); err != nil {
				return err
			}
			return missing("", reflect.TypeOf(v).Elem(), raw)
		}
	}
	var typ *json.UnmarshalTypeError
	var syn *json.SyntaxError
	switch {
	case errors.As(err, &typ):
		return problem.Invalid(typ.Field, "A %s does not fit here; %s is needed.", typ.Value, kindName(typ.Type.Kind().String()))
	case errors.As(err, &syn):
		return &problem.Problem{Status: http.StatusBadRequest, Title: "Not JSON", Detail: fmt.Sprintf("%v at byte %d.", err, syn.Offset)}
	case strings.HasPrefix(err.Error(), "json: unknown field "):
		name := strings.Trim(strings.TrimPrefix(err.Error(), "json: unknown field "), `"`)
		return problem.Invalid(name, "There is no such field; check its spelling against /api/openapi.yaml.")
	}
	return &problem.Problem{Status: http.StatusBadRequest, Title: "Not understood", Detail: err.Error()}
}

// inLines is a body without the ends of lines of what is a file.
func inLines(v, raw any) any {
	_, file := v.(*api.ApplyRequest)
	object, is := raw.(map[string]any)
	if !file || !is {
		return raw
	}
	x := maps.Clone(object)
	if text, is := x["text"].(string); is {
		x["text"] = strings.NewReplacer("\r\n", " ", "\n", " ").Replace(text)
	}
	return x
}

// unseen refuses a body with characters that people cannot see, in any text.
func unseen(path string, raw any) error {
	switch x := raw.(type) {
	case string:
		if r, found := ident.Unseen(x); found {
			return problem.Invalid(path, "It has a character that cannot be seen (U+%04X); type it again without it.", r)
		}
	case []any:
		for i, v := range x {
			if err := unseen(fmt.Sprintf("%s[%d]", path, i), v); err != nil {
				return err
			}
		}
	case map[string]any:
		for _, k := range slices.Sorted(maps.Keys(x)) {
			if err := unseen(strings.TrimPrefix(path+"."+k, "."), x[k]); err != nil {
				return err
			}
		}
	}
	return nil
}

// seen refuses such characters in a path and its query.
func seen(u *url.URL) error {
	r, found := ident.Unseen(u.Path)
	if !found {
		q, err := url.QueryUnescape(u.RawQuery)
		if err != nil {
			return &problem.Problem{Status: http.StatusBadRequest, Title: "Not understood", Detail: "The query is not encoded as a URL's is."}
		}
		r, found = ident.Unseen(q)
	}
	if found {
		return &problem.Problem{Status: http.StatusBadRequest, Title: "Not understood", Detail: fmt.Sprintf("The address has a character that cannot be seen (U+%04X).", r)}
	}
	return nil
}

// missing refuses a body without a field that the contract requires: in the types
// made from it, one that may be left out is a pointer.
func missing(path string, t reflect.Type, raw any) error {
	for t.Kind() == reflect.Pointer {
		t = t.Elem()
	}
	switch t.Kind() {
	case reflect.Struct:
		if raw == nil {
			return problem.Invalid(path, "null is no value here; leave it out.")
		}
		object, ok := raw.(map[string]any)
		if !ok || t == reflect.TypeFor[time.Time]() {
			return nil
		}
		for i := range t.NumField() {
			f := t.Field(i)
			name, opts, _ := strings.Cut(f.Tag.Get("json"), ",")
			value, given := object[name]
			where := strings.TrimPrefix(path+"."+name, ".")
			if !given {
				if strings.Contains(opts, "omitempty") || f.Type.Kind() == reflect.Pointer {
					continue
				}
				return problem.Invalid(where, "This field is required; give it.")
			}
			if value == nil {
				return problem.Invalid(where, "null is no value here; leave the field out.")
			}
			if err := missing(where, f.Type, value); err != nil {
				return err
			}
		}
	case reflect.Slice:
		list, _ := raw.([]any)
		for i, x := range list {
			if x == nil {
				return problem.Invalid(fmt.Sprintf("%s[%d]", path, i), "null is no value here; leave it out.")
			}
			if err := missing(fmt.Sprintf("%s[%d]", path, i), t.Elem(), x); err != nil {
				return err
			}
		}
	}
	return nil
}

func kindName(k string) string {
	switch k {
	case "int", "int64":
		return "a whole number of at most 63 bits"
	case "float64":
		return "a number"
	case "bool":
		return "true or false"
	case "slice":
		return "a list"
	case "struct":
		return "an object"
	}
	return "text"
}

// consoleHandler serves the built console; every path that is no file is the
// page itself, which finds its own way.
func consoleHandler(files fs.FS) http.Handler {
	if _, err := fs.Stat(files, "index.html"); err != nil {
		return http.HandlerFunc(func(w http.ResponseWriter, _ *http.Request) {
			http.Error(w, "This binary was built without the console; ./dev build makes one with it. API and command line work.", http.StatusNotFound)
		})
	}
	server := http.FileServerFS(files)
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		name := strings.TrimPrefix(r.URL.Path, "/")
		if strings.HasPrefix(name, "api/") {
			w.Header().Set("Content-Type", "application/problem+json")
			w.WriteHeader(http.StatusNotFound)
			_ = json.NewEncoder(w).Encode(api.Problem{Type: "about:blank", Title: "Not Found", Status: http.StatusNotFound})
			return
		}
		if st, err := fs.Stat(files, name); name == "" || err != nil || st.IsDir() {
			r = r.Clone(r.Context())
			r.URL.Path = "/"
			w.Header().Set("Cache-Control", "no-store")
		} else if strings.HasPrefix(name, "assets/") {
			w.Header().Set("Cache-Control", "public, max-age=31536000, immutable")
		}
		server.ServeHTTP(w, r)
	})
}

// What clients may take: bytes of a request's head, connections at once, and the time
// in which a request's body has to be there.
const (
	maxHeader = 32 << 10
	maxConns  = 4096
	bodyTime  = 30 * time.Second
)
