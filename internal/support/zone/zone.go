// Package zone runs a real DNS server (BIND) with one zone on loopback, for tests.
package zone

import (
	"context"
	"crypto/rand"
	"encoding/base64"
	"errors"
	"fmt"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"strconv"
	"time"

	"github.com/miekg/dns"
)

// Zone is what the server has.
const Zone = "skerry.example."

// Key is the name of the key under which it takes changes.
const Key = "kestrel-tide"

// Server is one that runs.
type Server struct {
	Address string // HOST:PORT
	Secret  string // of Key
	cmd     *exec.Cmd
	dir     string
}

// Start runs one in a folder, with some records beside those that a zone has to have, in the
// form of a zone file.
func Start(ctx context.Context, dir string, lines ...string) (*Server, error) {
	path, err := exec.LookPath("named")
	if err != nil {
		path = "/usr/sbin/named" // not in everybody's path
	}
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		return nil, err
	}
	port := l.Addr().(*net.TCPAddr).Port
	_ = l.Close()
	secret := make([]byte, 32)
	_, _ = rand.Read(secret) // never fails
	s := &Server{Address: net.JoinHostPort("127.0.0.1", strconv.Itoa(port)), Secret: base64.StdEncoding.EncodeToString(secret), dir: dir}
	zone := "$TTL 60\n@ IN SOA ns hostmaster 1 60 60 60 60\n@ IN NS ns\nns IN A 127.0.0.1\n"
	for _, x := range lines {
		zone += x + "\n"
	}
	conf := fmt.Sprintf(`options { directory %[1]q; listen-on port %[2]d { 127.0.0.1; }; listen-on-v6 { none; }; pid-file "named.pid"; session-keyfile "session.key"; recursion no; dnssec-validation no; };
controls { };
key %[3]q { algorithm hmac-sha256; secret %[4]q; };
zone %[5]q { type primary; file "zone"; allow-update { key %[3]q; }; };
`, dir, port, Key, s.Secret, Zone)
	if err := errors.Join(os.WriteFile(filepath.Join(dir, "zone"), []byte(zone), 0o600), os.WriteFile(filepath.Join(dir, "named.conf"), []byte(conf), 0o600)); err != nil {
		return nil, err
	}
	log, err := os.Create(filepath.Join(dir, "log"))
	if err != nil {
		return nil, err
	}
	defer func() { _ = log.Close() }()
	s.cmd = exec.Command(path, "-f", "-n", "1", "-c", filepath.Join(dir, "named.conf"))
	s.cmd.Stdout, s.cmd.Stderr = log, log
	if err := s.cmd.Start(); err != nil {
		return nil, fmt.Errorf("start BIND, of Debian's package bind9: %w", err)
	}
	for {
		if _, err = s.Says(ctx, "ns.skerry.example.", dns.TypeA); err == nil {
			return s, nil
		}
		select {
		case <-ctx.Done():
			b, _ := os.ReadFile(filepath.Join(dir, "log"))
			return nil, errors.Join(fmt.Errorf("BIND does not answer: %w: %s", err, b), s.Stop())
		case <-time.After(50 * time.Millisecond):
		}
	}
}

// Says is what a name says, without what is the same in each line.
func (s *Server) Says(ctx context.Context, name string, kind uint16) (out []string, err error) {
	c := dns.Client{Net: "tcp", Timeout: 2 * time.Second}
	res, _, err := c.ExchangeContext(ctx, new(dns.Msg).SetQuestion(dns.Fqdn(name), kind), s.Address)
	if err != nil {
		return nil, err
	}
	if res.Rcode != dns.RcodeSuccess && res.Rcode != dns.RcodeNameError {
		return nil, fmt.Errorf("BIND answers %s", dns.RcodeToString[res.Rcode])
	}
	for _, rr := range res.Answer {
		out = append(out, rr.String()[len(rr.Header().String()):])
	}
	return out, nil
}

// Stop ends it.
func (s *Server) Stop() error {
	err := s.cmd.Process.Kill()
	_ = s.cmd.Wait() // it was killed
	return err
}
