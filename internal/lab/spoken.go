package lab

import (
	"fmt"
	"net/http"
	"slices"
	"strconv"
	"strings"
	"time"

	"kestrel/internal/lab/wire"
	"kestrel/internal/platform"
)

// Serial is what a landed machine has written to its serial console: what a guest says when
// it starts. It is empty while it is off.
func (l *Lab) Serial(id string) (string, error) {
	l.mu.Lock()
	defer l.mu.Unlock()
	m, err := l.landing(id)
	if err != nil || m.power != platform.PowerOn {
		return "", err
	}
	return fmt.Sprintf("starting %s\r\nall disks are clean\r\n%s login: ", m.Name, m.Name), nil
}

// spokenTo bounds how long somebody may speak to a machine's port.
const spokenTo = time.Minute

// through lets somebody speak to a TCP port of a landed machine. Whatever it is, it speaks
// HTTP: it answers 200 and says its name, or the status that is the first part of the path.
func (l *Lab) through(w http.ResponseWriter, r *http.Request) {
	port, err := strconv.Atoi(r.PathValue("port"))
	l.mu.Lock()
	m, found := l.landing(r.PathValue("id"))
	open := err == nil && found == nil && m.power == platform.PowerOn && slices.Contains(m.Ports, port)
	name := ""
	if open {
		name = m.Name
	}
	l.mu.Unlock()
	if !open || r.Header.Get("Upgrade") != wire.Through {
		answer(w, nil, fmt.Errorf("nobody takes connections there: %w", ErrNotFound))
		return
	}
	conn, both, err := http.NewResponseController(w).Hijack()
	if err != nil {
		answer(w, nil, err)
		return
	}
	defer func() { _ = conn.Close() }()
	_ = conn.SetDeadline(time.Now().Add(spokenTo))
	_, _ = both.WriteString("HTTP/1.1 101 Switching Protocols\r\nConnection: Upgrade\r\nUpgrade: " + wire.Through + "\r\n\r\n")
	if both.Flush() != nil {
		return
	}
	asked, err := http.ReadRequest(both.Reader)
	if err != nil {
		return
	}
	status := http.StatusOK
	if n, err := strconv.Atoi(strings.Trim(asked.URL.Path, "/")); err == nil && n >= 200 && n < 600 {
		status = n
	}
	text := name + " is well\n"
	_, _ = fmt.Fprintf(both, "HTTP/1.1 %d %s\r\nContent-Type: text/plain\r\nContent-Length: %d\r\nConnection: close\r\n\r\n%s", status, http.StatusText(status), len(text), text)
	_ = both.Flush()
}
