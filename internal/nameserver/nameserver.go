// Package nameserver has DNS servers of a site's surroundings change what names say, by
// dynamic updates (RFC 2136) under a key that both know (TSIG, RFC 8945).
package nameserver

import (
	"context"
	"encoding/base64"
	"errors"
	"fmt"
	"net"
	"slices"
	"strings"
	"sync"
	"time"

	"github.com/google/uuid"
	"github.com/miekg/dns"

	"kestrel/internal/api"
	"kestrel/internal/audit"
	"kestrel/internal/clock"
	"kestrel/internal/core/actor"
	"kestrel/internal/core/group"
	"kestrel/internal/core/words"
	"kestrel/internal/problem"
	"kestrel/internal/records"
	"kestrel/internal/sealed"
)

const (
	maxServers = 50
	maxSecret  = 512
	maxNames   = 100
	fudge      = 300 // seconds that clocks may differ (RFC 8945, 10)
	// answered is how long one question may take.
	answered = 10 * time.Second
)

// algorithms are those of keys, by the names by which people know them.
func algorithms() map[string]string {
	return map[string]string{"hmac-sha256": dns.HmacSHA256, "hmac-sha384": dns.HmacSHA384, "hmac-sha512": dns.HmacSHA512}
}

// Records is where servers are kept; *records.DB is one.
type Records interface {
	DNSServers(ctx context.Context) ([]records.DNSServer, error)
	AddDNSServer(ctx context.Context, s records.DNSServer) error
	DeleteDNSServer(ctx context.Context, id string) error
}

// Config is what it is made of.
type Config struct {
	DB     Records
	Sealed *sealed.Box
	Trail  *audit.Trail
	Dial   func(ctx context.Context, network, address string) (net.Conn, error)
	Clock  clock.Clock
}

// Servers are those of one site.
type Servers struct {
	Config

	mu  sync.Mutex
	all []records.DNSServer
}

// Open reads them.
func Open(ctx context.Context, cfg Config) (*Servers, error) {
	s := &Servers{Config: cfg}
	return s, s.reload(ctx)
}

func (s *Servers) reload(ctx context.Context) error {
	all, err := s.DB.DNSServers(ctx)
	if err != nil {
		return err
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	s.all = all
	return nil
}

func (s *Servers) held() []records.DNSServer {
	s.mu.Lock()
	defer s.mu.Unlock()
	return slices.Clone(s.all)
}

// Names lists their names.
func (s *Servers) Names() (out []string) {
	for _, r := range s.held() {
		out = append(out, r.Name)
	}
	return out
}

func view(r records.DNSServer) api.DNSServer {
	return api.DNSServer{ID: r.ID, Name: r.Name, Address: r.Address, KeyName: r.KeyName, Algorithm: r.Algorithm, Names: strings.Fields(r.Names)}
}

// List shows them, without their secrets.
func (s *Servers) List() []api.DNSServer {
	out := []api.DNSServer{}
	for _, r := range s.held() {
		out = append(out, view(r))
	}
	return out
}

func (s *Servers) find(text string) (records.DNSServer, error) {
	for _, r := range s.held() {
		if r.ID == text || strings.EqualFold(r.Name, text) {
			return r, nil
		}
	}
	return records.DNSServer{}, problem.NotFound("DNS server", text)
}

// Add takes note of a server.
func (s *Servers) Add(ctx context.Context, who actor.Actor, in api.NewDNSServer) (api.DNSServer, error) {
	r := records.DNSServer{ID: uuid.NewString(), Name: strings.TrimSpace(in.Name), Address: strings.TrimSpace(in.Address), KeyName: dns.Fqdn(strings.ToLower(strings.TrimSpace(in.KeyName))), Algorithm: "hmac-sha256"}
	if in.Algorithm != nil && *in.Algorithm != "" {
		r.Algorithm = *in.Algorithm
	}
	secret := strings.TrimSpace(in.Secret)
	var faults []problem.Field
	fault := func(field, format string, a ...any) {
		faults = append(faults, problem.Field{Field: field, Message: fmt.Sprintf(format, a...)})
	}
	if why := group.CheckName(r.Name, 60); why != "" {
		fault("name", "%s", words.Sentence(why))
	}
	if host, port, err := net.SplitHostPort(r.Address); err != nil || host == "" || port == "" || len(r.Address) > 260 {
		fault("address", "%q is not HOST:PORT, such as ns.skerry.example:53.", r.Address)
	}
	if _, ok := dns.IsDomainName(r.KeyName); !ok || r.KeyName == "." || len(r.KeyName) > 255 {
		fault("keyName", "%q is no name of a key, such as kestrel-tide.", in.KeyName)
	}
	if _, known := algorithms()[r.Algorithm]; !known {
		fault("algorithm", "%q is none of hmac-sha256, hmac-sha384, hmac-sha512.", r.Algorithm)
	}
	for i, n := range in.Names {
		n = strings.ToLower(strings.TrimSuffix(strings.TrimSpace(n), "."))
		if _, ok := dns.IsDomainName(n); !ok || n == "" || n == "*" || strings.ContainsAny(n, " \t\r\n") || len(n) > 253 {
			fault(fmt.Sprintf("names[%d]", i), "%q is no whole name, such as tickets.skerry.example, or *.skerry.example for all below one.", n)
		}
		r.Names = strings.TrimSpace(r.Names + " " + n)
	}
	if len(in.Names) == 0 || len(in.Names) > maxNames {
		fault("names", "Say which names runbooks may change: one to %d.", maxNames)
	}
	if raw, err := base64.StdEncoding.DecodeString(secret); err != nil || len(raw) < 16 || len(secret) > maxSecret {
		fault("secret", "Give the key's secret as its server has it: base64, of 16 bytes or more.")
	}
	if len(faults) > 0 {
		return api.DNSServer{}, problem.InvalidFields(faults...)
	}
	if len(s.held()) >= maxServers {
		return api.DNSServer{}, problem.Conflict("There are %d DNS servers, as many as there may be. Remove one first.", maxServers)
	}
	r.Secret = s.Sealed.Seal(secret)
	err := s.Trail.Do(ctx, who, object(r), func(ctx context.Context) error { return s.DB.AddDNSServer(ctx, r) }, "%s added the DNS server %s, %s, whose names runbooks may change", who, r.Name, r.Address)
	if records.Taken(err, records.DNSServerName) {
		return api.DNSServer{}, problem.Invalid("name", "There is a DNS server %s already.", r.Name)
	}
	if err != nil {
		return api.DNSServer{}, err
	}
	return view(r), s.reload(ctx)
}

func object(r records.DNSServer) audit.Object {
	return audit.Object{Kind: "site", Name: r.Name, ID: r.ID}
}

// Delete forgets a server.
func (s *Servers) Delete(ctx context.Context, who actor.Actor, text string) error {
	r, err := s.find(text)
	if err != nil {
		return err
	}
	if err := s.Trail.Do(ctx, who, object(r), func(ctx context.Context) error { return s.DB.DeleteDNSServer(ctx, r.ID) }, "%s removed the DNS server %s", who, r.Name); err != nil && !errors.Is(err, records.ErrNotFound) {
		return err
	}
	return s.reload(ctx)
}

// Test asks a server for the zone of a name, under the key.
func (s *Servers) Test(ctx context.Context, who actor.Actor, text, name string) (api.DNSServerTest, error) {
	r, err := s.find(text)
	if err != nil {
		return api.DNSServerTest{}, err
	}
	if _, ok := dns.IsDomainName(name); !ok || name == "" || len(name) > 253 {
		return api.DNSServerTest{}, problem.Invalid("name", "%q is no name in a zone of the server, such as tickets.skerry.example.", name)
	}
	zone, err := s.zone(ctx, r, dns.Fqdn(name))
	out := api.DNSServerTest{Ok: err == nil, Text: fmt.Sprintf("It answers for the zone %s, and knows the key.", zone)}
	if err != nil {
		out.Text = words.Sentence(err.Error())
	}
	s.Trail.Note(ctx, who, object(r), "%s tested the DNS server %s: %s", who, r.Name, out.Text)
	return out, nil
}

// ask sends a message to a server under its key, over TCP.
func (s *Servers) ask(ctx context.Context, r records.DNSServer, m *dns.Msg) (*dns.Msg, error) {
	ctx, cancel := context.WithTimeout(ctx, answered)
	defer cancel()
	secret, err := s.Sealed.Open(r.Secret)
	if err != nil {
		return nil, err
	}
	conn, err := s.Dial(ctx, "tcp", r.Address)
	if err != nil {
		return nil, fmt.Errorf("reach %s: %w", r.Name, err)
	}
	stop := context.AfterFunc(ctx, func() { _ = conn.Close() })
	defer stop()
	defer func() { _ = conn.Close() }()
	m.SetTsig(r.KeyName, algorithms()[r.Algorithm], fudge, s.Clock.Now().Unix())
	c := dns.Client{Net: "tcp", Timeout: answered, TsigSecret: map[string]string{r.KeyName: secret}}
	out, _, err := c.ExchangeWithConnContext(ctx, m, &dns.Conn{Conn: conn, TsigSecret: c.TsigSecret})
	switch {
	case errors.Is(err, dns.ErrAuth), err != nil && out != nil && out.Rcode == dns.RcodeNotAuth:
		return nil, fmt.Errorf("%s does not take the key %s: see to its name, its secret, and the clocks", r.Name, strings.TrimSuffix(r.KeyName, "."))
	case err != nil:
		return nil, fmt.Errorf("ask %s: %w", r.Name, err)
	}
	return out, nil
}

func refused(r records.DNSServer, what string, code int) error {
	return fmt.Errorf("%s answers %s to %s", r.Name, dns.RcodeToString[code], what)
}

// zone finds the zone that a name is in at a server.
func (s *Servers) zone(ctx context.Context, r records.DNSServer, name string) (string, error) {
	m := new(dns.Msg).SetQuestion(name, dns.TypeSOA)
	out, err := s.ask(ctx, r, m)
	if err != nil {
		return "", err
	}
	if out.Rcode != dns.RcodeSuccess && out.Rcode != dns.RcodeNameError {
		return "", refused(r, "a question for "+name, out.Rcode)
	}
	for _, rr := range append(out.Answer, out.Ns...) {
		if soa, ok := rr.(*dns.SOA); ok && out.Authoritative && dns.IsSubDomain(soa.Hdr.Name, name) {
			return soa.Hdr.Name, nil
		}
	}
	return "", fmt.Errorf("%s has no zone that %s is in", r.Name, strings.TrimSuffix(name, "."))
}

// may refuses a name that nobody is to change.
func may(r records.DNSServer, name string) error {
	name = strings.ToLower(strings.TrimSuffix(name, "."))
	for _, n := range strings.Fields(r.Names) {
		if below, all := strings.CutPrefix(n, "*."); n == name || all && dns.IsSubDomain(below, name) && below != name {
			return nil
		}
	}
	return fmt.Errorf("runbooks may not change %s at %s, only %s", name, r.Name, words.Joined(strings.Fields(r.Names), 6))
}

// Look tells what a name says now, in the form of a zone file.
func (s *Servers) Look(ctx context.Context, server, name, kind string) ([]string, error) {
	r, err := s.find(server)
	if err == nil {
		err = may(r, name)
	}
	if err != nil {
		return nil, err
	}
	if _, err := s.zone(ctx, r, dns.Fqdn(name)); err != nil {
		return nil, err
	}
	m := new(dns.Msg).SetQuestion(dns.Fqdn(name), dns.StringToType[kind])
	m.RecursionDesired = false
	out, err := s.ask(ctx, r, m)
	if err != nil {
		return nil, err
	}
	if out.Rcode != dns.RcodeSuccess && out.Rcode != dns.RcodeNameError {
		return nil, refused(r, "a question for "+name, out.Rcode)
	}
	said := []string{}
	for _, rr := range out.Answer {
		if rr.Header().Rrtype == dns.StringToType[kind] && strings.EqualFold(rr.Header().Name, dns.Fqdn(name)) {
			said = append(said, rr.String())
		}
	}
	slices.Sort(said)
	return said, nil
}

// Say gives what a name is to say, in the form of a zone file.
func Say(name, kind string, ttl time.Duration, to []string) ([]string, error) {
	var out []string
	for _, t := range to {
		if kind == "CNAME" {
			t = dns.Fqdn(t)
		}
		rr, err := dns.NewRR(fmt.Sprintf("%s %d IN %s %s", dns.Fqdn(name), int(ttl/time.Second), kind, t))
		if err != nil || rr == nil {
			return nil, fmt.Errorf("%s %s cannot be said of %s: %w", kind, t, name, err)
		}
		out = append(out, rr.String())
	}
	slices.Sort(out)
	return out, nil
}

// Set has a server say of a name what is given, in the form of a zone file, instead of what
// it says of that kind; nothing removes it. It may be called again.
func (s *Servers) Set(ctx context.Context, server, name, kind string, say []string) error {
	r, err := s.find(server)
	if err == nil {
		err = may(r, name)
	}
	if err != nil {
		return err
	}
	zone, err := s.zone(ctx, r, dns.Fqdn(name))
	if err != nil {
		return err
	}
	m := new(dns.Msg).SetUpdate(zone)
	m.RemoveRRset([]dns.RR{&dns.ANY{Hdr: dns.RR_Header{Name: dns.Fqdn(name), Rrtype: dns.StringToType[kind]}}})
	var rrs []dns.RR
	for _, text := range say {
		rr, err := dns.NewRR(text)
		if err != nil || rr == nil {
			return fmt.Errorf("what %s is to say cannot be read: %q", name, text)
		}
		rrs = append(rrs, rr)
	}
	m.Insert(rrs)
	out, err := s.ask(ctx, r, m)
	if err != nil {
		return err
	}
	if out.Rcode != dns.RcodeSuccess {
		return refused(r, "a change of "+name, out.Rcode)
	}
	return nil
}

// Words says what a name says, without what is the same in each line.
func Words(said []string) string {
	var out []string
	for _, x := range said {
		if rr, err := dns.NewRR(x); err == nil && rr != nil {
			out = append(out, strings.TrimSuffix(strings.TrimPrefix(x, rr.Header().String()), "."))
		}
	}
	if len(out) == 0 {
		return "nothing"
	}
	return strings.Join(out, ", ")
}
