package link

import (
	"bufio"
	"context"
	"encoding/binary"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"log/slog"
	"net"
	"net/http"
	"runtime/debug"
	"sync"
	"time"

	"golang.org/x/net/netutil"

	"kestrel/internal/core/chain"
	"kestrel/internal/cycle"
	"kestrel/internal/points"
	"kestrel/internal/problem"
	"kestrel/internal/timed"
)

// Local is the site behind the link listener. Key is the fingerprint of the
// caller; every method but Allow and Pair is called for paired sites only.
type Local interface {
	// Allow says whether a key may connect at all, and whether it is paired.
	Allow(key []byte) (connect, paired bool)
	Pair(ctx context.Context, key []byte, r PairRequest) (PairReply, error)
	Unpaired(ctx context.Context, key []byte) error
	Beats(ctx context.Context, key []byte, b Beat) (BeatReply, error)
	// HeldTrail lists what is held here of the caller's audit trail.
	HeldTrail(ctx context.Context, key []byte) ([]chain.Head, error)
	HeldPoints(ctx context.Context, key []byte, group string) ([]PointState, error)
	Acted(ctx context.Context, key []byte, group string, a Act) error
	// Berth tells how machines of a group whose points are kept here arrive, or writes it.
	Berth(ctx context.Context, key []byte, group string, a BerthAsk) (json.RawMessage, error)
	// HandOver is asked by the recovery site of a group that is home here, during a failover.
	HandOver(ctx context.Context, key []byte, group string, h HandOver) (HandedOver, error)
	GroupEnded(ctx context.Context, key []byte, group string, deletePoints bool) (EndReply, error)
	OpenIntake(ctx context.Context, key []byte, r cycle.OpenRequest) (cycle.Opened, error)
	Intake(key []byte, id string) (*points.Intake, error)
	SealIntake(ctx context.Context, key []byte, id string, seal points.Seal) (*points.Seal, error)
	Received(key []byte, bytes int64)
}

const (
	shipHead    = 32 + 4 + 4
	missingType = "application/x-kestrel-missing"
	maxJSON     = 16 << 20
	maxShip     = 1 << 16 // blocks or entries in one message
	maxHeader   = 16 << 10
	// bodyTime bounds how long a request's body may take: one batch of blocks over a
	// slow link, and no client that sends a byte a minute.
	bodyTime = 5 * time.Minute
	maxConns = 1024 // at once, of all sites and of strangers that knock
)

// Serve answers paired sites on l until ctx ends.
func Serve(ctx context.Context, l net.Listener, id *Identity, local Local, log *slog.Logger) error {
	s := &server{local: local}
	mux := http.NewServeMux()
	for pattern, h := range map[string]func(ctx context.Context, key []byte, r *http.Request, w http.ResponseWriter) error{
		"POST /link/v1/pair":                 s.pair,
		"POST /link/v1/unpair":               s.unpair,
		"POST /link/v1/beat":                 s.beat,
		"GET /link/v1/trail":                 s.trail,
		"GET /link/v1/groups/{id}/points":    s.points,
		"POST /link/v1/groups/{id}/act":      s.act,
		"POST /link/v1/groups/{id}/berth":    s.berth,
		"POST /link/v1/groups/{id}/handover": s.handOver,
		"POST /link/v1/groups/{id}/end":      s.end,
		"POST /link/v1/intakes":              s.open,
		"DELETE /link/v1/intakes/{id}":       s.abandon,
		"POST /link/v1/intakes/{id}/missing": s.missing,
		"POST /link/v1/intakes/{id}/ship":    s.ship,
		"POST /link/v1/intakes/{id}/seal":    s.seal,
	} {
		open := pattern == "POST /link/v1/pair"
		mux.HandleFunc(pattern, func(w http.ResponseWriter, r *http.Request) {
			// A fault in one request is told and noted, and ends nothing else.
			defer func() {
				if x := recover(); x != nil {
					log.Error("link request panicked", "path", r.URL.Path, "panic", x, "stack", string(debug.Stack()))
					fail(w, &problem.Problem{Status: http.StatusInternalServerError, Title: "The other site failed", Detail: "Its log has the details."})
				}
			}()
			r.Body = timed.Body(w, r.Body, bodyTime)
			key := keyOf(r.TLS.PeerCertificates[0])
			if _, paired := local.Allow(key); !paired && !open {
				fail(w, &problem.Problem{Status: http.StatusForbidden, Title: "Not a paired site"})
				return
			}
			if err := h(r.Context(), key, r, w); err != nil {
				if _, ok := problem.Of(err); !ok && !errors.As(err, new(*points.MissingError)) {
					log.Warn("link request failed", "path", r.URL.Path, "err", err)
				}
				fail(w, err)
			}
		})
	}
	srv := &http.Server{Handler: mux, ReadHeaderTimeout: 10 * time.Second, MaxHeaderBytes: maxHeader, IdleTimeout: 2 * time.Minute,
		TLSConfig: id.serverTLS(func(key []byte) bool { ok, _ := local.Allow(key); return ok }),
		ErrorLog:  slog.NewLogLogger(log.Handler(), slog.LevelDebug), BaseContext: func(net.Listener) context.Context { return ctx }}
	done := make(chan error, 1)
	go func() {
		<-ctx.Done()
		grace, cancel := context.WithTimeout(context.WithoutCancel(ctx), 5*time.Second)
		defer cancel()
		if srv.Shutdown(grace) != nil {
			_ = srv.Close()
		}
		done <- nil
	}()
	err := srv.ServeTLS(netutil.LimitListener(l, maxConns), "", "")
	if ctx.Err() == nil {
		return fmt.Errorf("link listener: %w", err)
	}
	return <-done
}

type server struct {
	local   Local
	readers sync.Pool // of *bufio.Reader
}

func fail(w http.ResponseWriter, err error) {
	var m *points.MissingError
	if errors.As(err, &m) {
		w.Header().Set("Content-Type", missingType)
		w.WriteHeader(http.StatusConflict)
		for _, n := range m.Names {
			_, _ = w.Write(n[:])
		}
		return
	}
	p, ok := problem.Of(err)
	if !ok && errors.Is(err, points.ErrFull) {
		p, ok = &problem.Problem{Status: http.StatusInsufficientStorage, Title: "No room at the recovery site", Detail: err.Error() + ". The cycle goes on when there is room: delete points, shorten a retention, or give the store more disk."}, true
	}
	if !ok {
		// What happened inside is for this site's log, not for the peer.
		p = &problem.Problem{Status: http.StatusInternalServerError, Title: "The other site failed", Detail: "Its log has the details."}
	}
	w.Header().Set("Content-Type", "application/problem+json")
	w.WriteHeader(p.Status)
	_ = json.NewEncoder(w).Encode(p)
}

func decode(r *http.Request, v any) error {
	if err := json.NewDecoder(http.MaxBytesReader(nil, r.Body, maxJSON)).Decode(v); err != nil {
		return &problem.Problem{Status: http.StatusBadRequest, Title: "Not understood", Detail: err.Error()}
	}
	return nil
}

func reply(w http.ResponseWriter, v any, err error) error {
	if err != nil {
		return err
	}
	w.Header().Set("Content-Type", "application/json")
	return json.NewEncoder(w).Encode(v)
}

func (s *server) pair(ctx context.Context, key []byte, r *http.Request, w http.ResponseWriter) error {
	var q PairRequest
	if err := decode(r, &q); err != nil {
		return err
	}
	out, err := s.local.Pair(ctx, key, q)
	return reply(w, out, err)
}

func (s *server) unpair(ctx context.Context, key []byte, _ *http.Request, w http.ResponseWriter) error {
	return reply(w, struct{}{}, s.local.Unpaired(ctx, key))
}

func (s *server) beat(ctx context.Context, key []byte, r *http.Request, w http.ResponseWriter) error {
	var b Beat
	if err := decode(r, &b); err != nil {
		return err
	}
	out, err := s.local.Beats(ctx, key, b)
	return reply(w, out, err)
}

func (s *server) trail(ctx context.Context, key []byte, _ *http.Request, w http.ResponseWriter) error {
	out, err := s.local.HeldTrail(ctx, key)
	return reply(w, out, err)
}

func (s *server) points(ctx context.Context, key []byte, r *http.Request, w http.ResponseWriter) error {
	out, err := s.local.HeldPoints(ctx, key, r.PathValue("id"))
	return reply(w, out, err)
}

func (s *server) act(ctx context.Context, key []byte, r *http.Request, w http.ResponseWriter) error {
	var a Act
	if err := decode(r, &a); err != nil {
		return err
	}
	return reply(w, struct{}{}, s.local.Acted(ctx, key, r.PathValue("id"), a))
}

func (s *server) berth(ctx context.Context, key []byte, r *http.Request, w http.ResponseWriter) error {
	var a BerthAsk
	if err := decode(r, &a); err != nil {
		return err
	}
	out, err := s.local.Berth(ctx, key, r.PathValue("id"), a)
	return reply(w, out, err)
}

func (s *server) handOver(ctx context.Context, key []byte, r *http.Request, w http.ResponseWriter) error {
	var h HandOver
	if err := decode(r, &h); err != nil {
		return err
	}
	out, err := s.local.HandOver(ctx, key, r.PathValue("id"), h)
	return reply(w, out, err)
}

func (s *server) end(ctx context.Context, key []byte, r *http.Request, w http.ResponseWriter) error {
	out, err := s.local.GroupEnded(ctx, key, r.PathValue("id"), r.URL.Query().Get("points") == "true")
	return reply(w, out, err)
}

func (s *server) open(ctx context.Context, key []byte, r *http.Request, w http.ResponseWriter) error {
	var q cycle.OpenRequest
	if err := decode(r, &q); err != nil {
		return err
	}
	out, err := s.local.OpenIntake(ctx, key, q)
	return reply(w, out, err)
}

func (s *server) abandon(_ context.Context, key []byte, r *http.Request, w http.ResponseWriter) error {
	in, err := s.local.Intake(key, r.PathValue("id"))
	if err == nil {
		in.Abandon()
	}
	return reply(w, struct{}{}, nil)
}

func (s *server) missing(_ context.Context, key []byte, r *http.Request, w http.ResponseWriter) error {
	in, err := s.local.Intake(key, r.PathValue("id"))
	if err != nil {
		return err
	}
	b, err := io.ReadAll(io.LimitReader(r.Body, 32*maxShip))
	if err != nil || len(b)%32 != 0 {
		return &problem.Problem{Status: http.StatusBadRequest, Title: "Not understood", Detail: "names are 32 bytes each"}
	}
	names := make([]points.Name, len(b)/32)
	for i := range names {
		names[i] = points.Name(b[32*i:])
	}
	out := make([]byte, len(names))
	for i, m := range in.Missing(names) {
		if m {
			out[i] = 1
		}
	}
	_, err = w.Write(out)
	return err
}

func (s *server) ship(_ context.Context, key []byte, r *http.Request, w http.ResponseWriter) error {
	in, err := s.local.Intake(key, r.PathValue("id"))
	if err != nil {
		return err
	}
	rd, _ := s.readers.Get().(*bufio.Reader)
	if rd == nil {
		rd = bufio.NewReaderSize(nil, 256<<10)
	}
	rd.Reset(r.Body)
	n, err := receive(rd, in)
	rd.Reset(nil)
	s.readers.Put(rd)
	if err != nil {
		return err
	}
	s.local.Received(key, n)
	w.WriteHeader(http.StatusNoContent)
	return nil
}

// intake is what receive needs of a points.Intake.
type intake interface {
	Put(name points.Name, enc points.Encoding, length uint32, stored []byte) error
	Record(entries []points.Entry) error
}

// receive takes one ship message: every block is verified before it is stored.
func receive(r io.Reader, in intake) (int64, error) {
	bad := func(format string, a ...any) error {
		return &problem.Problem{Status: http.StatusBadRequest, Title: "Not understood", Detail: fmt.Sprintf(format, a...)}
	}
	le := binary.LittleEndian
	head := make([]byte, shipHead)
	if _, err := io.ReadFull(r, head[:8]); err != nil {
		return 0, bad("message cut short")
	}
	blocks, entries := le.Uint32(head), le.Uint32(head[4:])
	if blocks > maxShip || entries > maxShip {
		return 0, bad("%d blocks and %d entries in one message", blocks, entries)
	}
	total := int64(8)
	buf := make([]byte, points.BlockSize)
	for range blocks {
		if _, err := io.ReadFull(r, head); err != nil {
			return 0, bad("message cut short")
		}
		n := le.Uint32(head[36:])
		if n > points.BlockSize {
			return 0, bad("a block of %d bytes", n)
		}
		if _, err := io.ReadFull(r, buf[:n]); err != nil {
			return 0, bad("message cut short")
		}
		if err := in.Put(points.Name(head[:32]), points.Encoding(head[32]), points.BlockSize, buf[:n]); err != nil {
			if errors.Is(err, points.ErrDamaged) {
				return 0, bad("a block arrived damaged: %v", err)
			}
			return 0, err
		}
		total += int64(shipHead) + int64(n)
	}
	es := make([]points.Entry, entries)
	b := make([]byte, points.EntrySize)
	for i := range es {
		if _, err := io.ReadFull(r, b); err != nil {
			return 0, bad("message cut short")
		}
		es[i] = points.ParseEntry(b)
	}
	return total + int64(entries)*points.EntrySize, in.Record(es)
}

func (s *server) seal(ctx context.Context, key []byte, r *http.Request, w http.ResponseWriter) error {
	var seal points.Seal
	if err := decode(r, &seal); err != nil {
		return err
	}
	out, err := s.local.SealIntake(ctx, key, r.PathValue("id"), seal)
	return reply(w, out, err)
}
