package link

import (
	"bytes"
	"cmp"
	"context"
	"encoding/binary"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net/http"
	"net/url"
	"sync"
	"syscall"
	"time"

	"golang.org/x/sys/unix"

	"kestrel/internal/clock"
	"kestrel/internal/core/chain"
	"kestrel/internal/core/pace"
	"kestrel/internal/cycle"
	"kestrel/internal/points"
	"kestrel/internal/problem"
	"kestrel/internal/reach"
)

// ErrDown is wrapped where the other site could not be asked.
var ErrDown = errors.New("the other site cannot be reached")

// Peer calls another site.
type Peer struct {
	address string
	http    *http.Client
	clk     clock.Clock
	pace    throttle
	// messages is room for what was shipped, to be used again.
	messages sync.Pool

	mu     sync.Mutex
	sent   int64
	mark   int64
	markAt time.Time
	perSec float64
}

// NewPeer makes a caller of the site at address whose key has that fingerprint. It
// connects within some networks only.
func NewPeer(id *Identity, address string, key []byte, clk clock.Clock, within reach.Networks) *Peer {
	d := within.Dialer(5 * time.Second)
	d.ControlContext = func(_ context.Context, network, address string, c syscall.RawConn) error {
		return errors.Join(within.Control(network, address, c), promptly(network, address, c))
	}
	t := &http.Transport{TLSClientConfig: id.clientTLS(key), MaxIdleConnsPerHost: 16, IdleConnTimeout: time.Minute,
		DialContext: d.DialContext, TLSHandshakeTimeout: 10 * time.Second}
	return &Peer{address: address, http: &http.Client{Transport: t}, clk: clk, pace: throttle{clk: clk}, markAt: clk.Now()}
}

// unsent is how many bytes may wait in a connection for the network to take them:
// with a quarter of that a fast link carries a tenth less.
const unsent = 1 << 20

// promptly has writes return when the network has taken what came before, not
// when the kernel has found room for it: a body that was read to its end is then
// nearly across, and who takes turns at sending knows when a turn is over.
func promptly(_, _ string, c syscall.RawConn) error {
	var err error
	return cmp.Or(c.Control(func(fd uintptr) {
		err = unix.SetsockoptInt(int(fd), unix.IPPROTO_TCP, unix.TCP_NOTSENT_LOWAT, unsent)
	}), err)
}

// Close lets go of idle connections.
func (p *Peer) Close() { p.http.CloseIdleConnections() }

// Limit sets how fast blocks may be sent, from now on.
func (p *Peer) Limit(plan pace.Plan) { p.pace.set(plan) }

// SendRate is the number of block bytes sent a second, lately.
func (p *Peer) SendRate() float64 {
	p.mu.Lock()
	defer p.mu.Unlock()
	if d := p.clk.Now().Sub(p.markAt); d > 5*time.Second {
		p.perSec = float64(p.sent-p.mark) / d.Seconds()
		p.mark, p.markAt = p.sent, p.clk.Now()
	}
	return p.perSec
}

// errSilent ends a request in which nothing has moved for too long.
var errSilent = errors.New("it has been silent for too long")

// do sends one request. What the other site refuses comes back as the problem
// it names; what could not be asked wraps ErrDown, also if nothing has moved
// for the time of limit. What a flow sends waits for its turn.
func (p *Peer) do(ctx context.Context, method, path string, limit time.Duration, body []byte, flow *Flow, out func(*http.Response) error) error {
	sent := func() {}
	if flow != nil {
		var err error
		if sent, err = flow.begin(ctx); err != nil {
			return err
		}
		defer sent()
	}
	ctx, cancel := context.WithCancelCause(ctx)
	defer cancel(nil)
	silence := time.AfterFunc(limit, func() { cancel(errSilent) })
	defer silence.Stop()
	req, err := http.NewRequestWithContext(ctx, method, "https://"+p.address+"/link/v1"+path, bytes.NewReader(body))
	if err != nil {
		return err
	}
	if flow != nil {
		req.GetBody = func() (io.ReadCloser, error) {
			return io.NopCloser(&paced{ctx, bytes.NewReader(body), &p.pace, flow.name, flow.weight, func(n int) {
				silence.Reset(limit)
				p.mu.Lock()
				p.sent += int64(n)
				p.mu.Unlock()
			}, sent}), nil
		}
		req.Body, _ = req.GetBody()
	}
	res, err := p.http.Do(req)
	if err != nil {
		if errors.Is(context.Cause(ctx), errSilent) {
			return fmt.Errorf("%w: %w", ErrDown, errSilent)
		}
		var u *url.Error
		if errors.As(err, &u) {
			err = u.Err
		}
		return fmt.Errorf("%w: %w", ErrDown, err)
	}
	defer func() { _, _ = io.CopyN(io.Discard, res.Body, 1<<20); _ = res.Body.Close() }()
	if res.StatusCode == http.StatusConflict && res.Header.Get("Content-Type") == missingType {
		b, err := io.ReadAll(io.LimitReader(res.Body, 1<<20))
		if err != nil {
			return fmt.Errorf("%w: %w", ErrDown, err)
		}
		m := &points.MissingError{}
		for ; len(b) >= 32; b = b[32:] {
			m.Names = append(m.Names, points.Name(b[:32]))
		}
		return m
	}
	if res.StatusCode >= 300 {
		var pr problem.Problem
		if json.NewDecoder(io.LimitReader(res.Body, 1<<20)).Decode(&pr) != nil || pr.Status == 0 {
			return fmt.Errorf("the other site answers %s", res.Status)
		}
		return &pr
	}
	if out == nil {
		return nil
	}
	if err := out(res); err != nil {
		return fmt.Errorf("%w: %w", ErrDown, err)
	}
	return nil
}

func (p *Peer) json(ctx context.Context, method, path string, in, out any) error {
	b, err := json.Marshal(in)
	if err != nil {
		return err
	}
	return p.do(ctx, method, path, time.Minute, b, nil, func(r *http.Response) error {
		if out == nil {
			return nil
		}
		return json.NewDecoder(r.Body).Decode(out)
	})
}

// Pair answers an invitation.
func (p *Peer) Pair(ctx context.Context, r PairRequest) (out PairReply, err error) {
	return out, p.json(ctx, http.MethodPost, "/pair", r, &out)
}

// Beat exchanges reports, and gives the round-trip time and how far the other
// clock is ahead of ours, as in NTP (RFC 5905): half the difference of the two
// one-way differences.
func (p *Peer) Beat(ctx context.Context, b Beat) (out BeatReply, rtt, ahead time.Duration, err error) {
	ctx, cancel := context.WithTimeout(ctx, 15*time.Second)
	defer cancel()
	b.SentAt = p.clk.Now()
	if err = p.json(ctx, http.MethodPost, "/beat", b, &out); err != nil {
		return out, 0, 0, err
	}
	back := p.clk.Now()
	rtt = back.Sub(b.SentAt) - out.AnsweredAt.Sub(out.ReceivedAt)
	ahead = (out.ReceivedAt.Sub(b.SentAt) + out.AnsweredAt.Sub(back)) / 2
	return out, max(rtt, 0), ahead, nil
}

// Points lists what the recovery site holds of a group.
func (p *Peer) Points(ctx context.Context, group string) (out []PointState, err error) {
	return out, p.json(ctx, http.MethodGet, "/groups/"+group+"/points", nil, &out)
}

// Trail lists what the other site holds of this one's audit trail.
func (p *Peer) Trail(ctx context.Context) (out []chain.Head, err error) {
	return out, p.json(ctx, http.MethodGet, "/trail", nil, &out)
}

// Act passes an administrator's wish on to the group's home site.
func (p *Peer) Act(ctx context.Context, group string, a Act) error {
	return p.json(ctx, http.MethodPost, "/groups/"+group+"/act", a, nil)
}

// Berth asks how a group's machines arrive at the recovery site, or writes it.
func (p *Peer) Berth(ctx context.Context, group string, a BerthAsk) (out json.RawMessage, err error) {
	return out, p.json(ctx, http.MethodPost, "/groups/"+group+"/berth", a, &out)
}

// HandOver asks a group's home site for something during a failover.
func (p *Peer) HandOver(ctx context.Context, group string, h HandOver) (out HandedOver, err error) {
	return out, p.json(ctx, http.MethodPost, "/groups/"+group+"/handover", h, &out)
}

// EndGroup tells the recovery site that a group is no more, and whether its points are
// to go.
func (p *Peer) EndGroup(ctx context.Context, group string, deletePoints bool) (out EndReply, err error) {
	return out, p.json(ctx, http.MethodPost, fmt.Sprintf("/groups/%s/end?points=%v", group, deletePoints), nil, &out)
}

// Unpair tells the other site that the link is no more.
func (p *Peer) Unpair(ctx context.Context) error {
	return p.json(ctx, http.MethodPost, "/unpair", nil, nil)
}

// Abandon gives up a cycle's intake.
func (p *Peer) Abandon(ctx context.Context, intake string) error {
	return p.json(ctx, http.MethodDelete, "/intakes/"+intake, nil, nil)
}

// Open implements cycle.Remote.
func (p *Peer) Open(ctx context.Context, r cycle.OpenRequest) (out cycle.Opened, err error) {
	return out, p.json(ctx, http.MethodPost, "/intakes", r, &out)
}

// dataTimeout bounds one exchange of block data, so that a dead link is noticed.
const dataTimeout = 2 * time.Minute

// Missing implements cycle.Remote.
func (p *Peer) Missing(ctx context.Context, intake string, names []points.Name) ([]bool, error) {
	b := make([]byte, 0, 32*len(names))
	for _, n := range names {
		b = append(b, n[:]...)
	}
	out := make([]bool, len(names))
	return out, p.do(ctx, http.MethodPost, "/intakes/"+intake+"/missing", dataTimeout, b, nil, func(r *http.Response) error {
		a := make([]byte, len(names))
		if _, err := io.ReadFull(r.Body, a); err != nil {
			return err
		}
		for i := range a {
			out[i] = a[i] != 0
		}
		return nil
	})
}

// Flow is the other site as one group's cycles see it. It implements
// cycle.Remote; its share of the link's rate follows its weight.
type Flow struct {
	*Peer
	name   string
	weight float64
	// senders bounds how many messages are on their way at once. Without it all
	// workers share the link evenly, end together, and leave it idle while all
	// of them wait for answers.
	senders chan struct{}
}

// atOnce is how many messages of a flow are sent side by side.
const atOnce = 4

// Flow makes the view for a group.
func (p *Peer) Flow(group string, weight float64) *Flow {
	return &Flow{p, group, weight, make(chan struct{}, atOnce)}
}

// begin waits for a turn at sending; sent ends it, the first time it is called.
func (p *Flow) begin(ctx context.Context) (sent func(), err error) {
	select {
	case p.senders <- struct{}{}:
		return sync.OnceFunc(func() { <-p.senders }), nil
	case <-ctx.Done():
		return nil, ctx.Err()
	}
}

// Ship implements cycle.Remote; docs/formats.md has the layout.
func (p *Flow) Ship(ctx context.Context, intake string, blocks []cycle.Block, entries []points.Entry) (cycle.Sent, error) {
	size := 8
	for _, b := range blocks {
		size += shipHead + len(b.Stored)
	}
	size += len(entries) * points.EntrySize
	room, _ := p.messages.Get().(*[]byte)
	if room == nil || cap(*room) < size {
		room = new(make([]byte, 0, max(size, 5<<20)))
	}
	buf := (*room)[:0]
	le := binary.LittleEndian
	buf = le.AppendUint32(buf, uint32(len(blocks)))
	buf = le.AppendUint32(buf, uint32(len(entries)))
	for _, b := range blocks {
		buf = append(buf, b.Name[:]...)
		buf = append(buf, byte(b.Encoding), 0, 0, 0)
		buf = le.AppendUint32(buf, uint32(len(b.Stored)))
		buf = append(buf, b.Stored...)
	}
	for _, e := range entries {
		buf = e.Append(buf)
	}
	err := p.do(ctx, http.MethodPost, "/intakes/"+intake+"/ship", dataTimeout, buf, p, nil)
	if err == nil {
		// Answered, so it has been read to its end; otherwise somebody may
		// still be reading it.
		p.messages.Put(room)
	}
	return cycle.Sent{Blocks: len(blocks), WireBytes: int64(len(buf))}, err
}

// Seal implements cycle.Remote.
func (p *Peer) Seal(ctx context.Context, intake string, seal points.Seal) (*points.Seal, error) {
	var out points.Seal
	err := p.json(ctx, http.MethodPost, "/intakes/"+intake+"/seal", seal, &out)
	return &out, err
}
