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
	"strings"
	"sync"
	"time"
)

// Writer is what a disk that may be written to offers. Flush makes durable what
// any client has written before.
type Writer interface {
	io.WriterAt
	Zero(off, length int64) error
	Flush() error
}

// ErrNoSpace may be wrapped by a Writer's errors, so that clients can tell.
var ErrNoSpace = errors.New("no space left")

// Export is one disk that a server hands out.
type Export struct {
	Size   int64
	Device io.ReaderAt
	// Writer is nil for a disk that is read-only.
	Writer   Writer
	Contexts []Context
	// Close, if not nil, is called when a client that opened it is gone.
	Close func()
	// Done, if not nil, is closed when clients may have it no longer: they are hung up on.
	Done <-chan struct{}
}

// Context is a metadata context of an export. Status describes up to length
// bytes from off; it may describe fewer, but at least one extent.
type Context struct {
	Name   string
	Status func(off, length int64) ([]Extent, error)
}

// Exporter finds exports. Open is called for each client; its error, which the
// client sees, must hold no secret. List names what may be listed openly.
type Exporter interface {
	Open(name string) (*Export, error)
	List() []string
}

// acceptWait is how long to wait after a client could not be taken, doubled each
// time in a row.
const (
	acceptWait    = 5 * time.Millisecond
	acceptWaitMax = time.Second
)

// Serve answers clients on l until ctx ends; then it closes the listener and
// all connections and waits for them.
func Serve(ctx context.Context, l net.Listener, x Exporter) error {
	return ServeTLS(ctx, l, x, nil)
}

// ServeTLS is Serve for clients that have to begin TLS before anything else,
// as the protocol's FORCEDTLS mode asks. Without a configuration it serves in
// the clear.
func ServeTLS(ctx context.Context, l net.Listener, x Exporter, cfg *tls.Config) error {
	return ServeWithin(ctx, l, x, cfg, Limits{})
}

// ServeWithin is ServeTLS with limits of one's own. Clients beyond those that may greet
// wait for their turn; one beyond all is hung up on.
func ServeWithin(ctx context.Context, l net.Listener, x Exporter, cfg *tls.Config, limits Limits) error {
	in := &door{Limits: limits.filled(), hosts: map[string]*host{}}
	stop := context.AfterFunc(ctx, func() { _ = l.Close() })
	defer stop()
	var wg sync.WaitGroup
	defer wg.Wait()
	wait := acceptWait
	for {
		c, err := l.Accept()
		if err != nil {
			switch {
			case ctx.Err() != nil:
				return nil
			case errors.Is(err, net.ErrClosed):
				return fmt.Errorf("nbd: accept: %w", err)
			}
			// Such as too many open files: it passes, and ends nothing else.
			select {
			case <-ctx.Done():
				return nil
			case <-time.After(wait):
			}
			wait = min(2*wait, acceptWaitMax)
			continue
		}
		wait = acceptWait
		from, leave, ok := in.enter(c)
		if !ok {
			_ = c.Close()
			continue
		}
		wg.Go(func() {
			defer leave()
			end := context.AfterFunc(ctx, func() { _ = c.Close() })
			defer end()
			defer func() { _ = c.Close() }()
			until := time.Now().Add(in.Patience)
			greeted, ok := from.greet(ctx, in.Patience)
			if !ok {
				return
			}
			defer greeted()
			s := newSession(c, x, cfg)
			s.greeted, s.until = greeted, until
			// A client that goes away or misbehaves ends its own session only.
			_ = s.run()
		})
	}
}

type session struct {
	conn       net.Conn
	tls        *tls.Config // clients have to begin TLS with it; nil once they have
	r          *bufio.Reader
	w          *bufio.Writer
	x          Exporter
	structured bool
	contexts   []Context // chosen; the ID is the index + 1
	chosenFor  string
	noZeroes   bool

	greeted func()    // when an export is open
	until   time.Time // which has to be by then
}

// What a session buffers before an export is open, and after.
const (
	smallBuffer = 4 << 10
	readBuffer  = 64 << 10
	writeBuffer = 256 << 10
)

func newSession(c net.Conn, x Exporter, cfg *tls.Config) *session {
	return &session{conn: c, r: bufio.NewReaderSize(c, smallBuffer), w: bufio.NewWriterSize(c, smallBuffer), x: x, tls: cfg, greeted: func() {}}
}

func (s *session) run() error {
	if err := s.conn.SetDeadline(s.until); err != nil {
		return err
	}
	if err := s.send(put(uint64(magicInit), uint64(magicOption), uint16(flagFixedNewstyle|flagNoZeroes))); err != nil {
		return err
	}
	b, err := readN(s.r, 4)
	if err != nil {
		return err
	}
	s.noZeroes = binary.BigEndian.Uint32(b)&flagNoZeroes != 0
	e, err := s.negotiate()
	if err != nil || e == nil {
		return err
	}
	if e.Close != nil {
		defer e.Close()
	}
	s.greeted()
	if err := s.conn.SetDeadline(time.Time{}); err != nil {
		return err
	}
	if e.Done != nil {
		left := make(chan struct{})
		defer close(left)
		go func() {
			select {
			case <-e.Done:
				_ = s.conn.Close()
			case <-left:
			}
		}()
	}
	// What the small buffer holds already is read first.
	s.r, s.w = bufio.NewReaderSize(s.r, readBuffer), bufio.NewWriterSize(s.conn, writeBuffer)
	return s.transmit(e)
}

func (s *session) send(b []byte) error {
	if _, err := s.w.Write(b); err != nil {
		return err
	}
	return s.w.Flush()
}

func (s *session) reply(opt, t uint32, data []byte) error {
	return s.send(put(uint64(magicOptReply), opt, t, uint32(len(data)), data))
}

// negotiate handles options until an export is open; nil means the client left.
func (s *session) negotiate() (*Export, error) {
	be := binary.BigEndian
	for range 1000 {
		h, err := readN(s.r, 16)
		if err != nil {
			return nil, err
		}
		opt, n := be.Uint32(h[8:]), be.Uint32(h[12:])
		if be.Uint64(h) != magicOption || n > maxOption {
			return nil, ErrProtocol
		}
		d, err := readN(s.r, int(n))
		if err != nil {
			return nil, err
		}
		if s.tls != nil && opt != optStartTLS && opt != optAbort {
			if opt == optExportName {
				return nil, ErrProtocol // there is no way to answer it
			}
			if err := s.reply(opt, repErrTLS, []byte("begin TLS first")); err != nil {
				return nil, err
			}
			continue
		}
		switch opt {
		case optStartTLS:
			err = s.startTLS(n)
		case optExportName:
			return s.exportName(string(d))
		case optAbort:
			return nil, s.reply(opt, repAck, nil)
		case optList:
			for _, name := range s.x.List() {
				if err := s.reply(opt, repServer, put(uint32(len(name)), name)); err != nil {
					return nil, err
				}
			}
			err = s.reply(opt, repAck, nil)
		case optStructured:
			s.structured = true
			err = s.reply(opt, repAck, nil)
		case optInfo, optGo:
			e, fail := s.info(opt, d)
			if fail != nil || e != nil {
				return e, fail
			}
		case optListContext, optSetContext:
			err = s.metaContext(opt, d)
		default:
			err = s.reply(opt, repErrUnsup, nil)
		}
		if err != nil {
			return nil, err
		}
	}
	return nil, ErrProtocol
}

func (s *session) startTLS(n uint32) error {
	switch {
	case s.tls == nil:
		return s.reply(optStartTLS, repErrPolicy, nil)
	case n != 0:
		return s.reply(optStartTLS, repErrInvalid, nil)
	case s.r.Buffered() != 0:
		return ErrProtocol // something was put in before the handshake
	}
	if err := s.reply(optStartTLS, repAck, nil); err != nil {
		return err
	}
	c := tls.Server(s.conn, s.tls)
	if err := c.Handshake(); err != nil {
		return fmt.Errorf("tls: %w", err)
	}
	s.conn, s.tls, s.structured, s.contexts = c, nil, false, nil
	s.r.Reset(c)
	s.w.Reset(c)
	return nil
}

// transFlags tells what an export can do. Clients may use several connections:
// what one was told is written is there for all.
func (e *Export) transFlags() uint16 {
	if e.Writer == nil {
		return transHasFlags | transReadOnly | transMultiConn
	}
	return transHasFlags | transFlush | transFUA | transTrim | transZeroes | transMultiConn
}

func (s *session) exportName(name string) (*Export, error) {
	e, err := s.x.Open(name)
	if err != nil {
		return nil, err
	}
	b := put(uint64(e.Size), e.transFlags())
	if !s.noZeroes {
		b = append(b, make([]byte, 124)...)
	}
	return e, s.send(b)
}

func (s *session) info(opt uint32, d []byte) (*Export, error) {
	be := binary.BigEndian
	if len(d) < 6 || uint64(len(d)) < 6+uint64(be.Uint32(d)) {
		return nil, s.reply(opt, repErrInvalid, nil)
	}
	name := string(d[4 : 4+be.Uint32(d)])
	e, err := s.x.Open(name)
	if err != nil {
		return nil, s.reply(opt, repErrUnknown, []byte(err.Error()))
	}
	if s.chosenFor != name {
		s.contexts = nil
	}
	err = errors.Join(
		s.reply(opt, repInfo, put(uint16(infoExport), uint64(e.Size), e.transFlags())),
		s.reply(opt, repInfo, put(uint16(infoBlockSize), uint32(1), uint32(64<<10), uint32(MaxRequest))),
		s.reply(opt, repAck, nil))
	if (opt == optInfo || err != nil) && e.Close != nil {
		e.Close()
	}
	if opt == optInfo {
		return nil, err
	}
	return e, err
}

func (s *session) metaContext(opt uint32, d []byte) error {
	be := binary.BigEndian
	str := func() (string, bool) {
		if len(d) < 4 || uint64(len(d)-4) < uint64(be.Uint32(d)) {
			return "", false
		}
		n := be.Uint32(d)
		x := string(d[4 : 4+n])
		d = d[4+n:]
		return x, true
	}
	name, ok := str()
	if !ok || len(d) < 4 || !s.structured {
		return s.reply(opt, repErrInvalid, nil)
	}
	count := be.Uint32(d)
	d = d[4:]
	var queries []string
	for range count {
		q, ok := str()
		if !ok {
			return s.reply(opt, repErrInvalid, nil)
		}
		queries = append(queries, q)
	}
	e, err := s.x.Open(name)
	if err != nil {
		return s.reply(opt, repErrUnknown, []byte(err.Error()))
	}
	if e.Close != nil {
		defer e.Close()
	}
	if opt == optSetContext {
		s.contexts, s.chosenFor = nil, name
	}
	for _, c := range e.Contexts {
		match := opt == optListContext && len(queries) == 0
		for _, q := range queries {
			// "namespace:" alone lists all of a namespace, but sets none.
			match = match || q == c.Name || (opt == optListContext && strings.HasSuffix(q, ":") && strings.HasPrefix(c.Name, q))
		}
		if !match {
			continue
		}
		id := uint32(0)
		if opt == optSetContext {
			s.contexts = append(s.contexts, c)
			id = uint32(len(s.contexts))
		}
		if err := s.reply(opt, repMetaContext, put(id, c.Name)); err != nil {
			return err
		}
	}
	return s.reply(opt, repAck, nil)
}

func (s *session) transmit(e *Export) error {
	be := binary.BigEndian
	head := make([]byte, 28)
	var buf []byte
	for {
		if _, err := io.ReadFull(s.r, head); err != nil {
			return err
		}
		select {
		case <-e.Done:
			return nil // what came meanwhile is not answered
		default:
		}
		if be.Uint32(head) != magicRequest {
			return ErrProtocol
		}
		flags, cmd, handle := be.Uint16(head[4:]), be.Uint16(head[6:]), be.Uint64(head[8:])
		off, length := int64(be.Uint64(head[16:])), int64(be.Uint32(head[24:]))
		inside := off >= 0 && off <= e.Size && length <= e.Size-off
		var err error
		switch {
		case cmd == cmdDisc:
			return nil
		case cmd == cmdFlush && e.Writer == nil:
			err = s.done(handle)
		case cmd == cmdFlush:
			err = s.wrote(handle, e.Writer.Flush())
		case cmd == cmdWrite && (e.Writer == nil || !inside || length == 0 || length > MaxRequest):
			// Its data follows and has to be read to stay in step.
			if _, err := io.CopyN(io.Discard, s.r, length); err != nil {
				return err
			}
			if e.Writer == nil {
				err = s.fail(handle, errPerm, "this export is read-only")
			} else {
				err = s.fail(handle, errInvalid, "outside the disk, or too long")
			}
		case (cmd == cmdTrim || cmd == cmdZeroes) && e.Writer == nil:
			err = s.fail(handle, errPerm, "this export is read-only")
		case !inside || length == 0:
			err = s.fail(handle, errInvalid, "outside the disk")
		case cmd == cmdWrite:
			if int64(cap(buf)) < length {
				buf = make([]byte, length)
			}
			if _, err := io.ReadFull(s.r, buf[:length]); err != nil {
				return err
			}
			_, werr := e.Writer.WriteAt(buf[:length], off)
			err = s.wrote(handle, flushed(e.Writer, flags, werr))
		case cmd == cmdTrim || cmd == cmdZeroes:
			err = s.wrote(handle, flushed(e.Writer, flags, e.Writer.Zero(off, length)))
		case cmd == cmdRead && length <= MaxRequest:
			if int64(cap(buf)) < length {
				buf = make([]byte, length)
			}
			p := buf[:length]
			if _, rerr := e.Device.ReadAt(p, off); rerr != nil && !errors.Is(rerr, io.EOF) {
				err = s.fail(handle, errIO, rerr.Error())
			} else {
				err = s.data(handle, off, p)
			}
		case cmd == cmdBlockStatus && s.structured && len(s.contexts) > 0:
			err = s.blockStatus(handle, off, length, flags&statusReqOne != 0)
		default:
			err = s.fail(handle, errNoSy, "not supported")
		}
		if err != nil {
			return err
		}
		// Answers to pipelined requests leave together.
		if s.r.Buffered() < len(head) {
			if err := s.w.Flush(); err != nil {
				return err
			}
		}
	}
}

// flushed flushes after a write that asks for it.
func flushed(w Writer, flags uint16, err error) error {
	if err == nil && flags&cmdFlagFUA != 0 {
		err = w.Flush()
	}
	return err
}

// wrote answers a request that writes.
func (s *session) wrote(handle uint64, err error) error {
	switch {
	case err == nil:
		return s.done(handle)
	case errors.Is(err, ErrNoSpace):
		return s.fail(handle, errNoSpace, err.Error())
	}
	return s.fail(handle, errIO, err.Error())
}

func (s *session) chunk(handle uint64, flags, t uint16, n int, payload ...[]byte) error {
	_, err := s.w.Write(put(uint32(magicStructured), flags, t, handle, uint32(n)))
	for _, p := range payload {
		if err == nil {
			_, err = s.w.Write(p)
		}
	}
	return err
}

func (s *session) done(handle uint64) error {
	if s.structured {
		return s.chunk(handle, replyFlagDone, chunkNone, 0)
	}
	_, err := s.w.Write(put(uint32(magicSimple), uint32(0), handle))
	return err
}

func (s *session) fail(handle uint64, code uint32, why string) error {
	if s.structured {
		return s.chunk(handle, replyFlagDone, chunkError, 6+len(why), put(code, uint16(len(why)), why))
	}
	_, err := s.w.Write(put(uint32(magicSimple), code, handle))
	return err
}

func (s *session) data(handle uint64, off int64, p []byte) error {
	if s.structured {
		return s.chunk(handle, replyFlagDone, chunkOffsetData, 8+len(p), put(uint64(off)), p)
	}
	_, err := s.w.Write(put(uint32(magicSimple), uint32(0), handle))
	if err == nil {
		_, err = s.w.Write(p)
	}
	return err
}

func (s *session) blockStatus(handle uint64, off, length int64, one bool) error {
	for i, c := range s.contexts {
		ext, err := c.Status(off, length)
		if err != nil || len(ext) == 0 {
			return s.fail(handle, errIO, fmt.Sprintf("block status: %v", err))
		}
		if one {
			ext = ext[:1]
			ext[0].Length = min(ext[0].Length, length)
		}
		// A client need not take an endless list; it asks again for the rest.
		b := put(uint32(i + 1))
		for _, e := range ext[:min(len(ext), 1<<16)] {
			b = append(b, put(uint32(min(e.Length, 1<<32-1<<16)), e.Flags)...)
			if e.Length > 1<<32-1<<16 {
				break
			}
		}
		flags := uint16(0)
		if i == len(s.contexts)-1 {
			flags = replyFlagDone
		}
		if err := s.chunk(handle, flags, chunkBlockStatus, len(b), b); err != nil {
			return err
		}
	}
	return nil
}
