package libvirt

import (
	"context"
	"errors"
	"fmt"
	"net"
	"net/url"
	"strings"
	"sync"
	"time"

	rpc "github.com/digitalocean/go-libvirt"

	"kestrel/internal/platform"
	"kestrel/internal/reach"
)

// host is one libvirt daemon. Its connection is made when it is first needed
// and again after it was lost.
type host struct {
	within reach.Networks // that it has to be in
	uri    *url.URL

	mu   sync.Mutex
	conn *rpc.Libvirt
}

// callLimit bounds calls that ask; those that begin or end work set their own.
const callLimit = 20 * time.Second

// parseHost checks a URI as libvirt writes them: driver[+transport]://[host]/path.
func parseHost(text string) (*host, error) {
	u, err := url.Parse(text)
	if err != nil || u.Scheme == "" || u.Path == "" || u.Path == "/" {
		return nil, fmt.Errorf("%q is not a libvirt URI; write it like qemu+tls://host.example/system", text)
	}
	driver, transport, _ := strings.Cut(u.Scheme, "+")
	if driver != "qemu" {
		return nil, fmt.Errorf("%q: only QEMU and KVM machines can be protected; the URI begins with qemu", text)
	}
	switch transport {
	case "", "unix", "tcp", "tls", "ssh", "libssh", "libssh2":
	default:
		return nil, fmt.Errorf("%q: the transport %q is not known; use tcp, tls, ssh or unix", text, transport)
	}
	if u.User != nil {
		if _, has := u.User.Password(); has {
			return nil, errors.New("a password does not belong in a URI; use a key for ssh or certificates for tls")
		}
	}
	for k := range u.Query() {
		// Others would have the service connect to where it should not, or to whom
		// it should not believe.
		if !strings.Contains(transport, "ssh") || k != "keyfile" && k != "known_hosts" {
			return nil, fmt.Errorf("%q: the parameter %s is not taken; with ssh there are keyfile and known_hosts, and certificates are a setting of the platform", text, k)
		}
	}
	if u.Fragment != "" {
		return nil, fmt.Errorf("%q: nothing follows a libvirt URI", text)
	}
	if (transport == "tcp" || transport == "tls" || strings.Contains(transport, "ssh")) && u.Hostname() == "" {
		return nil, fmt.Errorf("%q names no host", text)
	}
	return &host{uri: u}, nil
}

// another is the same host by a connection of its own.
func (h *host) another() *host { return &host{uri: h.uri, within: h.within} }

// useCertificates makes libvirt's own TLS use a folder of certificates, unless
// the URI names one itself.
func (h *host) useCertificates(folder string) {
	_, transport, _ := strings.Cut(h.uri.Scheme, "+")
	if q := h.uri.Query(); (transport == "tls" || transport == "" && h.uri.Host != "") && q.Get("pkipath") == "" {
		q.Set("pkipath", folder)
		h.uri.RawQuery = q.Encode()
	}
}

// name is what people call the host.
func (h *host) name() string {
	if h.uri.Hostname() == "" {
		return "this host"
	}
	return h.uri.Host
}

// near reports whether the host is the machine that we run on.
func (h *host) near() bool {
	n := h.uri.Hostname()
	ip := net.ParseIP(n)
	return n == "" || n == "localhost" || ip != nil && ip.IsLoopback()
}

// nbdHost is the name by which the host's NBD servers are reached.
func (h *host) nbdHost() string {
	if n := h.uri.Hostname(); n != "" && n != "localhost" {
		return n
	}
	return "127.0.0.1"
}

func (h *host) open(ctx context.Context) (*rpc.Libvirt, error) {
	h.mu.Lock()
	defer h.mu.Unlock()
	if h.conn != nil && h.conn.IsConnected() {
		return h.conn, nil
	}
	h.conn = nil
	type answer struct {
		c   *rpc.Libvirt
		err error
	}
	if err := h.within.Host(ctx, h.uri.Hostname()); err != nil {
		return nil, fmt.Errorf("host %s: %w: %w", h.name(), platform.ErrUnreachable, err)
	}
	got := make(chan answer, 1)
	go func() {
		c, err := rpc.ConnectToURI(h.uri)
		got <- answer{c, err}
	}()
	select {
	case a := <-got:
		if a.err != nil {
			if strings.Contains(a.err.Error(), "auth") {
				return nil, fmt.Errorf("host %s: %w: %w", h.name(), platform.ErrRefused, a.err)
			}
			return nil, fmt.Errorf("host %s: %w: %w", h.name(), platform.ErrUnreachable, a.err)
		}
		h.conn = a.c
		return a.c, nil
	case <-ctx.Done():
		go func() { // it may still come
			if a := <-got; a.err == nil {
				_ = a.c.Disconnect()
			}
		}()
		return nil, fmt.Errorf("host %s: %w: no answer in time", h.name(), platform.ErrUnreachable)
	}
}

func (h *host) close() {
	h.mu.Lock()
	defer h.mu.Unlock()
	if h.conn != nil && h.conn.IsConnected() {
		_ = h.conn.Disconnect()
	}
	h.conn = nil
}

// call runs f with the host's connection, within a time. The library knows no
// contexts: when ctx ends first, f goes on until the daemon answers, and its
// result is dropped.
func call[T any](ctx context.Context, h *host, within time.Duration, f func(*rpc.Libvirt) (T, error)) (T, error) {
	var zero T
	ctx, cancel := context.WithTimeout(ctx, within)
	defer cancel()
	c, err := h.open(ctx)
	if err != nil {
		return zero, err
	}
	type answer struct {
		v   T
		err error
	}
	got := make(chan answer, 1)
	go func() {
		v, err := f(c)
		got <- answer{v, err}
	}()
	select {
	case a := <-got:
		if a.err != nil && !c.IsConnected() {
			return a.v, fmt.Errorf("host %s: %w: %w", h.name(), platform.ErrUnreachable, a.err)
		}
		return a.v, a.err
	case <-ctx.Done():
		return zero, fmt.Errorf("host %s does not answer in time: %w", h.name(), ctx.Err())
	}
}

// do is call without a result.
func do(ctx context.Context, h *host, within time.Duration, f func(*rpc.Libvirt) error) error {
	_, err := call(ctx, h, within, func(c *rpc.Libvirt) (struct{}, error) { return struct{}{}, f(c) })
	return err
}

// is reports whether libvirt answered with one of these error numbers.
func is(err error, numbers ...rpc.ErrorNumber) bool {
	var e rpc.Error
	if !errors.As(err, &e) {
		return false
	}
	for _, n := range numbers {
		if e.Code == uint32(n) {
			return true
		}
	}
	return false
}
