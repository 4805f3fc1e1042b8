package notify

import (
	"crypto/rand"
	"crypto/x509"
	"encoding/base64"
	"encoding/json"
	"errors"
	"fmt"
	"net"
	"net/mail"
	"net/url"
	"slices"
	"strings"

	"kestrel/internal/api"
	"kestrel/internal/core/calendar"
	"kestrel/internal/core/group"
	"kestrel/internal/problem"
	"kestrel/internal/serving"
)

// Kinds of channels.
const (
	Mail    = "mail"
	Webhook = "webhook"
)

// How a mail server is spoken to.
const (
	TLSStart    = "starttls"
	TLSImplicit = "implicit"
	TLSNone     = "none"
)

// maxTo is how many people one mail goes to, most that something of a mail is.
const maxTo = 50

// Channel is what is kept of a channel besides its name and its secret.
type Channel struct {
	Off        bool     `json:"off,omitempty"`
	UrgentOnly bool     `json:"urgentOnly,omitempty"`
	Digest     string   `json:"digest,omitempty"` // 07:00; empty is never
	Zone       string   `json:"zone,omitempty"`
	Server     string   `json:"server,omitempty"` // HOST:PORT
	TLS        string   `json:"tls,omitempty"`
	User       string   `json:"user,omitempty"`
	From       string   `json:"from,omitempty"`
	To         []string `json:"to,omitempty"`
	URL        string   `json:"url,omitempty"`
	Trust      string   `json:"trust,omitempty"` // PEM
}

// roots are what the server's certificate has to be signed by; nil is what this host
// trusts.
func (c Channel) roots() (*x509.CertPool, error) {
	if strings.TrimSpace(c.Trust) == "" {
		return nil, nil
	}
	pool := x509.NewCertPool()
	if !pool.AppendCertsFromPEM([]byte(c.Trust)) {
		return nil, errors.New("the certificates to trust cannot be read as PEM")
	}
	return pool, nil
}

func value[T any](v *T) (out T) {
	if v != nil {
		out = *v
	}
	return out
}

// decode reads a channel as people wrote it.
func decode(in api.WriteChannel) (Channel, error) {
	c := Channel{Off: value(in.Off), UrgentOnly: value(in.UrgentOnly), Digest: value(in.Digest), Zone: value(in.Zone), Trust: value(in.Trust)}
	var fs []problem.Field
	bad := func(field, format string, a ...any) {
		fs = append(fs, problem.Field{Field: field, Message: fmt.Sprintf(format, a...)})
	}
	if why := group.CheckName(in.Name, 60); why != "" {
		bad("name", "%s", why)
	}
	if c.Digest != "" {
		if c.Digest > "23:59" || len(c.Digest) != 5 {
			bad("digest", "%q is no time of day; write it like 07:00.", c.Digest)
		}
		if _, err := calendar.Location(c.Zone); err != nil {
			bad("zone", "%v", err)
		}
	}
	if _, err := c.roots(); err != nil {
		bad("trust", "They cannot be read. Give certificates as PEM, or leave it out for those that this host trusts.")
	}
	foreign := func(kind string, given map[string]bool) {
		for field, is := range given {
			if is {
				bad(field, "It is not of a %s; leave it out.", kind)
			}
		}
	}
	switch in.Kind {
	case Mail:
		foreign("channel of mail", map[string]bool{"url": value(in.URL) != "", "key": value(in.Key) != ""})
		c.mail(in, bad)
	case Webhook:
		foreign("webhook", map[string]bool{"server": value(in.Server) != "", "tls": value(in.TLS) != "", "user": value(in.User) != "", "password": value(in.Password) != "", "from": value(in.From) != "", "to": len(value(in.To)) > 0})
		c.URL = value(in.URL)
		u, err := url.Parse(c.URL)
		switch {
		case err != nil || u.Host == "" || u.Scheme != "https" && u.Scheme != "http":
			bad("url", "%q is no address of a server, such as https://alerts.example/in.", c.URL)
		case u.User != nil:
			bad("url", "Leave out user and password: events are signed, and that is what the receiver checks.")
		case u.Scheme == "http" && !serving.Loopback(u.Hostname()):
			bad("url", "Alerts leave this host under TLS only; give an address that begins with https.")
		}
		if k := value(in.Key); k != "" && len(k) < 16 {
			bad("key", "A key has at least 16 characters; leave it out to have one made.")
		}
	default:
		bad("kind", "%q is neither mail nor webhook.", in.Kind)
	}
	if len(fs) > 0 {
		slices.SortFunc(fs, func(a, b problem.Field) int { return strings.Compare(a.Field, b.Field) })
		return c, problem.InvalidFields(fs...)
	}
	return c, nil
}

func (c *Channel) mail(in api.WriteChannel, bad func(field, format string, a ...any)) {
	c.Server, c.TLS, c.User, c.From, c.To = value(in.Server), value(in.TLS), value(in.User), value(in.From), value(in.To)
	host, port, err := net.SplitHostPort(c.Server)
	if err != nil || host == "" || port == "" {
		bad("server", "%q is not HOST:PORT, such as mail.example:587.", c.Server)
	}
	if c.TLS == "" {
		c.TLS = TLSStart
	}
	switch {
	case c.TLS != TLSStart && c.TLS != TLSImplicit && c.TLS != TLSNone:
		bad("tls", "%q is none of starttls, implicit, none.", c.TLS)
	case c.TLS == TLSNone && !serving.Loopback(host):
		bad("tls", "Mail leaves this host under TLS only; choose starttls or implicit.")
	}
	if _, err := mail.ParseAddress(c.From); err != nil {
		bad("from", "%q is no mail address.", c.From)
	}
	if len(c.To) == 0 || len(c.To) > maxTo {
		bad("to", "Give one to %d addresses.", maxTo)
	}
	for _, t := range c.To {
		if _, err := mail.ParseAddress(t); err != nil {
			bad("to", "%q is no mail address.", t)
		}
	}
	if value(in.Password) != "" && c.User == "" {
		bad("user", "Give the user that the password is of.")
	}
}

// newKey makes what a webhook's events are signed with.
func newKey() string {
	b := make([]byte, 24)
	_, _ = rand.Read(b) // never fails
	return base64.RawURLEncoding.EncodeToString(b)
}

func orNil[T comparable](v T) *T {
	var none T
	if v == none {
		return nil
	}
	return &v
}

func (c Channel) encode() []byte {
	b, err := json.Marshal(c)
	if err != nil {
		panic(err) // plain structs always marshal
	}
	return b
}
