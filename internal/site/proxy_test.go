package site_test

import (
	"net"
	"strings"
	"sync"
	"testing"

	"github.com/stretchr/testify/require"
)

// stallable passes connections on until it stalls: then it takes them, and nothing
// more comes of them.
type stallable struct {
	url     string
	mu      sync.Mutex
	stalled bool
	open    []net.Conn
}

func proxy(t *testing.T, to string) *stallable {
	t.Helper()
	l, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	p := &stallable{url: "http://" + l.Addr().String()}
	t.Cleanup(func() {
		_ = l.Close()
		p.mu.Lock()
		defer p.mu.Unlock()
		for _, c := range p.open {
			_ = c.Close()
		}
	})
	go func() {
		for {
			c, err := l.Accept()
			if err != nil {
				return
			}
			p.mu.Lock()
			p.open = append(p.open, c)
			stalled := p.stalled
			p.mu.Unlock()
			if stalled {
				continue
			}
			d, err := net.Dial("tcp", strings.TrimPrefix(to, "http://"))
			if err != nil {
				_ = c.Close()
				continue
			}
			go p.pass(c, d)
			go p.pass(d, c)
		}
	}()
	return p
}

func (p *stallable) pass(to, from net.Conn) {
	buf := make([]byte, 32<<10)
	for {
		n, err := from.Read(buf)
		p.mu.Lock()
		stalled := p.stalled
		p.mu.Unlock()
		if err != nil || stalled {
			if !stalled {
				_ = to.Close()
			}
			return
		}
		if _, err := to.Write(buf[:n]); err != nil {
			return
		}
	}
}

func (p *stallable) stall() {
	p.mu.Lock()
	defer p.mu.Unlock()
	p.stalled = true
}
