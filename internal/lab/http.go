package lab

import (
	"crypto/sha256"
	"crypto/subtle"
	"encoding/binary"
	"encoding/json"
	"errors"
	"fmt"
	"net/http"

	"kestrel/internal/lab/wire"
)

// Handler serves the lab's HTTP interface to one user.
func (l *Lab) Handler(user, password string) http.Handler {
	mux := http.NewServeMux()
	mux.HandleFunc("GET /v1/about", func(w http.ResponseWriter, _ *http.Request) {
		answer(w, wire.About{Kind: "lab", Version: 1, Name: l.scenario.Site, Now: l.clk.Now().UTC()}, nil)
	})
	mux.HandleFunc("GET /v1/inventory", func(w http.ResponseWriter, _ *http.Request) { answer(w, l.Inventory(), nil) })
	mux.HandleFunc("GET /v1/machines/{id}", func(w http.ResponseWriter, r *http.Request) {
		m, err := l.Machine(r.PathValue("id"))
		answer(w, m, err)
	})
	mux.HandleFunc("POST /v1/machines/{id}/power", func(w http.ResponseWriter, r *http.Request) {
		var p wire.Power
		if err := read(r, &p); err != nil {
			answer(w, nil, err)
			return
		}
		answer(w, p, l.SetPower(r.PathValue("id"), p.State))
	})
	mux.HandleFunc("DELETE /v1/machines/{id}", func(w http.ResponseWriter, r *http.Request) {
		answer(w, struct{}{}, l.Discard(r.PathValue("id")))
	})
	mux.HandleFunc("GET /v1/machines/{id}/screen", func(w http.ResponseWriter, r *http.Request) {
		shot, err := l.Screen(r.PathValue("id"))
		if err != nil {
			answer(w, nil, err)
			return
		}
		w.Header().Set("Content-Type", "image/png")
		_, _ = w.Write(shot)
	})
	mux.HandleFunc("GET /v1/checkpoints", func(w http.ResponseWriter, _ *http.Request) { answer(w, l.Checkpoints(), nil) })
	mux.HandleFunc("POST /v1/checkpoints", func(w http.ResponseWriter, r *http.Request) {
		var c wire.CheckpointRequest
		if err := read(r, &c); err != nil {
			answer(w, nil, err)
			return
		}
		cp, err := l.Checkpoint(c)
		answer(w, cp, err)
	})
	mux.HandleFunc("GET /v1/checkpoints/{name}", func(w http.ResponseWriter, r *http.Request) {
		cp, err := l.CheckpointNamed(r.PathValue("name"))
		answer(w, cp, err)
	})
	mux.HandleFunc("POST /v1/checkpoints/{name}/release", func(w http.ResponseWriter, r *http.Request) {
		answer(w, struct{}{}, l.Release(r.PathValue("name")))
	})
	mux.HandleFunc("DELETE /v1/checkpoints/{name}", func(w http.ResponseWriter, r *http.Request) {
		answer(w, struct{}{}, l.Forget(r.PathValue("name")))
	})
	mux.HandleFunc("GET /v1/checkpoints/{name}/digests", func(w http.ResponseWriter, r *http.Request) {
		answer(w, l.Digests(r.PathValue("name")), nil)
	})
	l.handleLandings(mux)
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		u, p, _ := r.BasicAuth()
		if !same(u, user) || !same(p, password) {
			w.Header().Set("WWW-Authenticate", `Basic realm="lab"`)
			w.WriteHeader(http.StatusUnauthorized)
			_ = json.NewEncoder(w).Encode(wire.Problem{Title: "Credentials refused", Detail: "User and password of this lab are needed."})
			return
		}
		mux.ServeHTTP(w, r)
	})
}

// same compares secrets in a time that does not depend on where they differ.
func same(a, b string) bool {
	x, y := sha256.Sum256([]byte(a)), sha256.Sum256([]byte(b))
	return subtle.ConstantTimeCompare(x[:], y[:]) == 1
}

func read(r *http.Request, v any) error {
	d := json.NewDecoder(http.MaxBytesReader(nil, r.Body, 1<<20))
	d.DisallowUnknownFields()
	if err := d.Decode(v); err != nil {
		return fmt.Errorf("%v: %w", err, ErrBad)
	}
	return nil
}

func answer(w http.ResponseWriter, v any, err error) {
	w.Header().Set("Content-Type", "application/json")
	if err != nil {
		code := http.StatusInternalServerError
		switch {
		case errors.Is(err, ErrNotFound):
			code = http.StatusNotFound
		case errors.Is(err, ErrBad):
			code = http.StatusBadRequest
		}
		w.WriteHeader(code)
		v = wire.Problem{Title: http.StatusText(code), Detail: err.Error()}
	}
	_ = json.NewEncoder(w).Encode(v)
}

func hashOf(s string) uint64 {
	h := sha256.Sum256([]byte(s))
	return binary.LittleEndian.Uint64(h[:])
}

// macOf gives a locally administered MAC address.
func macOf(name string) string {
	h := sha256.Sum256([]byte(name))
	return fmt.Sprintf("02:%02x:%02x:%02x:%02x:%02x", h[0], h[1], h[2], h[3], h[4])
}
