package nbd

import (
	"bufio"
	"context"
	"crypto/tls"
	"encoding/binary"
	"errors"
	"fmt"
	"io"
	"net"
	"sync"
	"time"
)

// Options for Dial.
type Options struct {
	// Contexts are the metadata contexts to ask for. Those that the server
	// does not know are left out; see Conn.Has.
	Contexts []string
	// Timeout bounds each request, so that a stalled server is noticed. Zero
	// means one minute.
	Timeout time.Duration
	// TLS, if not nil, is begun before anything is asked; a server that does
	// not offer it is refused.
	TLS *tls.Config
}

// Conn is a connection to one export. Its methods may be called at the same
// time; requests are answered one after another.
type Conn struct {
	conn     net.Conn
	r        *bufio.Reader
	timeout  time.Duration
	size     int64
	contexts map[string]uint32
	stop     func() bool

	mu     sync.Mutex
	handle uint64
	broken error
}

// Dial connects to an export. The connection ends with ctx.
func Dial(ctx context.Context, network, address, export string, o Options) (*Conn, error) {
	if o.Timeout == 0 {
		o.Timeout = time.Minute
	}
	var d net.Dialer
	dialCtx, cancel := context.WithTimeout(ctx, o.Timeout)
	defer cancel()
	nc, err := d.DialContext(dialCtx, network, address)
	if err != nil {
		return nil, fmt.Errorf("nbd: connect: %w", err)
	}
	return newConn(ctx, nc, export, o)
}

// newConn opens an export over a connection, which it closes if that fails.
func newConn(ctx context.Context, nc net.Conn, export string, o Options) (*Conn, error) {
	c := &Conn{conn: nc, r: bufio.NewReaderSize(nc, 256<<10), timeout: o.Timeout, contexts: map[string]uint32{}}
	_ = nc.SetDeadline(time.Now().Add(o.Timeout))
	if err := c.negotiate(export, o); err != nil {
		_ = nc.Close()
		return nil, fmt.Errorf("nbd: export %q: %w", export, err)
	}
	c.stop = context.AfterFunc(ctx, func() { _ = nc.Close() }) // not the TLS one, which would wait to say so
	return c, nil
}

func (c *Conn) negotiate(export string, o Options) error {
	contexts := o.Contexts
	head, err := readN(c.r, 18)
	if err != nil {
		return err
	}
	be := binary.BigEndian
	if be.Uint64(head) != magicInit || be.Uint64(head[8:]) != magicOption || be.Uint16(head[16:])&flagFixedNewstyle == 0 {
		return fmt.Errorf("not a fixed newstyle NBD server: %w", ErrProtocol)
	}
	if _, err := c.conn.Write(put(uint32(flagFixedNewstyle | flagNoZeroes&uint32(be.Uint16(head[16:]))))); err != nil {
		return err
	}
	if o.TLS != nil {
		if err := c.startTLS(o.TLS); err != nil {
			return err
		}
	}
	structured := false
	if err := c.option(optStructured, nil, func(t uint32, _ []byte) error { structured = t == repAck; return nil }); err != nil {
		return err
	}
	if structured && len(contexts) > 0 {
		b := put(uint32(len(export)), export, uint32(len(contexts)))
		for _, x := range contexts {
			b = append(b, put(uint32(len(x)), x)...)
		}
		err := c.option(optSetContext, b, func(t uint32, d []byte) error {
			if t == repMetaContext && len(d) > 4 {
				c.contexts[string(d[4:])] = be.Uint32(d)
			}
			return nil
		})
		if err != nil {
			return err
		}
	}
	found := false
	err = c.option(optGo, put(uint32(len(export)), export, uint16(0)), func(t uint32, d []byte) error {
		if t == repInfo && len(d) >= 12 && be.Uint16(d) == infoExport {
			c.size, found = int64(be.Uint64(d[2:])), true
		}
		if t>>31 == 1 {
			return fmt.Errorf("refused by the server (code %d): %s", t&^(1<<31), d)
		}
		return nil
	})
	if err == nil && (!found || c.size < 0) {
		err = fmt.Errorf("no size given: %w", ErrProtocol)
	}
	return err
}

// handshakeLimit bounds a TLS handshake.
const handshakeLimit = 20 * time.Second

func (c *Conn) startTLS(cfg *tls.Config) error {
	ok := false
	if err := c.option(optStartTLS, nil, func(t uint32, _ []byte) error { ok = t == repAck; return nil }); err != nil {
		return err
	}
	if !ok {
		return errors.New("the server does not offer TLS, and nothing is sent in the clear")
	}
	if c.r.Buffered() != 0 {
		return ErrProtocol
	}
	t := tls.Client(c.conn, cfg)
	if err := t.Handshake(); err != nil {
		return fmt.Errorf("tls: %w", err)
	}
	c.conn = t
	c.r.Reset(t)
	return nil
}

// option sends one option and hands its replies to visit, the last included.
func (c *Conn) option(opt uint32, data []byte, visit func(t uint32, d []byte) error) error {
	if _, err := c.conn.Write(put(uint64(magicOption), opt, uint32(len(data)), data)); err != nil {
		return err
	}
	for {
		h, err := readN(c.r, 20)
		if err != nil {
			return err
		}
		be := binary.BigEndian
		t, n := be.Uint32(h[12:]), be.Uint32(h[16:])
		if be.Uint64(h) != magicOptReply || be.Uint32(h[8:]) != opt || n > maxOption {
			return fmt.Errorf("unexpected option reply: %w", ErrProtocol)
		}
		d, err := readN(c.r, int(n))
		if err != nil {
			return err
		}
		if err := visit(t, d); err != nil {
			return err
		}
		if t == repAck || t>>31 == 1 {
			return nil
		}
	}
}

// Size is the length of the export in bytes.
func (c *Conn) Size() int64 { return c.size }

// Has reports whether the server offers a metadata context.
func (c *Conn) Has(name string) bool { _, ok := c.contexts[name]; return ok }

// Close ends the connection.
func (c *Conn) Close() error {
	c.stop()
	c.mu.Lock()
	defer c.mu.Unlock()
	if c.broken == nil {
		_ = c.conn.SetDeadline(time.Now().Add(time.Second))
		_, _ = c.conn.Write(put(uint32(magicRequest), uint16(0), uint16(cmdDisc), uint64(0), uint64(0), uint32(0)))
		c.broken = net.ErrClosed
	}
	return c.conn.Close()
}

// request sends one request and hands its reply chunks to visit. An error of
// the connection breaks it for good; an error the server reports does not.
func (c *Conn) request(cmd uint16, off int64, length int, data func(r io.Reader, n int) error, visit func(t uint16, n int) (bool, error)) error {
	c.mu.Lock()
	defer c.mu.Unlock()
	if c.broken != nil {
		return c.broken
	}
	served, err := c.exchange(cmd, off, length, data, visit)
	if err != nil && !served {
		c.broken = fmt.Errorf("nbd: connection lost: %w", err)
		_ = c.conn.Close()
		return c.broken
	}
	return err
}

func (c *Conn) exchange(cmd uint16, off int64, length int, data func(io.Reader, int) error, visit func(uint16, int) (bool, error)) (served bool, err error) {
	be := binary.BigEndian
	c.handle++
	_ = c.conn.SetDeadline(time.Now().Add(c.timeout))
	if _, err := c.conn.Write(put(uint32(magicRequest), uint16(0), cmd, c.handle, uint64(off), uint32(length))); err != nil {
		return false, err
	}
	var refused error
	for {
		h, err := readN(c.r, 16)
		if err != nil {
			return false, err
		}
		switch be.Uint32(h) {
		case magicSimple:
			if be.Uint64(h[8:]) != c.handle || cmd == cmdBlockStatus {
				return false, ErrProtocol
			}
			if code := be.Uint32(h[4:]); code != 0 {
				return true, fmt.Errorf("nbd: server reports error %d", code)
			}
			return false, data(c.r, length)
		case magicStructured:
			rest, err := readN(c.r, 4)
			if err != nil {
				return false, err
			}
			flags, t, n := be.Uint16(h[4:]), be.Uint16(h[6:]), int(be.Uint32(rest))
			if be.Uint64(h[8:]) != c.handle || n > MaxRequest+64 {
				return false, ErrProtocol
			}
			if t>>15 == 1 {
				b, err := readN(c.r, n)
				if err != nil {
					return false, err
				}
				if len(b) < 6 || len(b) < 6+int(be.Uint16(b[4:])) {
					return false, ErrProtocol
				}
				refused = fmt.Errorf("nbd: server reports error %d: %s", be.Uint32(b), b[6:6+int(be.Uint16(b[4:]))])
			} else if _, err := visit(t, n); err != nil {
				return false, err
			}
			if flags&replyFlagDone != 0 {
				return true, refused
			}
		default:
			return false, fmt.Errorf("unknown reply: %w", ErrProtocol)
		}
	}
}

// ReadAt implements io.ReaderAt within the size of the export.
func (c *Conn) ReadAt(p []byte, off int64) (int, error) {
	done := 0
	for done < len(p) && off < c.size {
		n := int(min(int64(len(p)-done), c.size-off, MaxRequest))
		if err := c.read(p[done:done+n], off); err != nil {
			return done, err
		}
		done, off = done+n, off+int64(n)
	}
	if done < len(p) {
		return done, io.EOF
	}
	return done, nil
}

func (c *Conn) read(p []byte, off int64) error {
	got := 0
	return c.request(cmdRead, off, len(p), func(r io.Reader, n int) error {
		_, err := io.ReadFull(r, p[:n])
		return err
	}, func(t uint16, n int) (bool, error) {
		switch t {
		case chunkNone:
			if n != 0 || got != len(p) {
				return false, fmt.Errorf("%d of %d bytes: %w", got, len(p), ErrProtocol)
			}
			return true, nil
		case chunkOffsetData, chunkOffsetHole:
			if n < 8 || (t == chunkOffsetHole && n != 12) {
				return false, ErrProtocol
			}
			head, err := readN(c.r, min(n, 12))
			if t == chunkOffsetData && err == nil {
				return false, c.chunkData(p, off, head, n, &got)
			}
			if err != nil {
				return false, err
			}
			at, length := int64(binary.BigEndian.Uint64(head))-off, int64(binary.BigEndian.Uint32(head[8:]))
			if at < 0 || length > int64(len(p)) || at > int64(len(p))-length {
				return false, ErrProtocol
			}
			clear(p[at : at+length])
			got += int(length)
			return false, nil
		}
		return false, fmt.Errorf("chunk type %d in a read: %w", t, ErrProtocol)
	})
}

// chunkData takes a data chunk whose head (offset and up to four bytes of
// data) is read already.
func (c *Conn) chunkData(p []byte, off int64, head []byte, n int, got *int) error {
	at, length := int64(binary.BigEndian.Uint64(head))-off, n-8
	if at < 0 || length > len(p) || at > int64(len(p)-length) {
		return ErrProtocol
	}
	k := copy(p[at:at+int64(length)], head[8:])
	_, err := io.ReadFull(c.r, p[at+int64(k):at+int64(length)])
	*got += length
	return err
}

// BlockStatus describes the bytes from off on in one metadata context. The
// server may describe less than length; the caller asks again from there.
func (c *Conn) BlockStatus(context string, off, length int64) ([]Extent, error) {
	id, ok := c.contexts[context]
	if !ok {
		return nil, fmt.Errorf("nbd: the server does not offer the context %q", context)
	}
	// Lengths are 32 bits; a whole number of large blocks keeps extents aligned.
	length = min(length, c.size-off, 1<<31)
	var out []Extent
	err := c.request(cmdBlockStatus, off, int(length), func(io.Reader, int) error { return ErrProtocol }, func(t uint16, n int) (bool, error) {
		if t == chunkNone && n == 0 {
			return true, nil
		}
		if t != chunkBlockStatus || n < 12 || n%8 != 4 {
			return false, fmt.Errorf("chunk type %d in a block status: %w", t, ErrProtocol)
		}
		b, err := readN(c.r, n)
		if err != nil {
			return false, err
		}
		be := binary.BigEndian
		if be.Uint32(b) != id {
			return false, nil
		}
		for b = b[4:]; len(b) > 0; b = b[8:] {
			e := Extent{int64(be.Uint32(b)), be.Uint32(b[4:])}
			if e.Length == 0 {
				return false, ErrProtocol
			}
			out = append(out, e)
		}
		return false, nil
	})
	if err == nil && len(out) == 0 {
		err = fmt.Errorf("empty block status: %w", ErrProtocol)
	}
	return out, err
}

// Extents describes a whole range in one context, asking as often as it needs.
// Extents of the same flags are merged.
func (c *Conn) Extents(context string, off, length int64) ([]Extent, error) {
	var out []Extent
	for end := min(off+length, c.size); off < end; {
		part, err := c.BlockStatus(context, off, end-off)
		if err != nil {
			return nil, err
		}
		for _, e := range part {
			e.Length = min(e.Length, end-off)
			if e.Length <= 0 {
				break
			}
			if n := len(out); n > 0 && out[n-1].Flags == e.Flags {
				out[n-1].Length += e.Length
			} else {
				out = append(out, e)
			}
			off += e.Length
		}
	}
	return out, nil
}
