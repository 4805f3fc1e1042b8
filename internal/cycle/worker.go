package cycle

import (
	"context"
	"errors"
	"fmt"
	"sync"
	"time"

	"golang.org/x/sync/errgroup"

	"kestrel/internal/platform"
	"kestrel/internal/points"
)

// copy reads and ships the batches with a few workers, each with connections
// of its own.
func (c *run) copy(ctx context.Context, cap *platform.Capture, batches [][]span) error {
	c.begin("read")
	if len(batches) == 0 {
		c.end("read")
		return nil
	}
	queue := make(chan []span, len(batches))
	for _, b := range batches {
		queue <- b
	}
	close(queue)
	g, ctx := errgroup.WithContext(ctx)
	ended := make(chan struct{}) // no batch is left to begin
	var once sync.Once
	for i := range min(c.Workers+c.helpers, len(batches)) {
		g.Go(func() error {
			if i >= c.Workers {
				select {
				case <-c.isFar:
				case <-ended:
					return nil
				case <-ctx.Done():
					return ctx.Err()
				}
			}
			defer once.Do(func() { close(ended) })
			w := &worker{run: c, cap: cap, conns: make([]Source, len(cap.Disks)), buf: make([]byte, batchBlocks*points.BlockSize)}
			defer w.close()
			for b := range queue {
				if err := ctx.Err(); err != nil {
					return err
				}
				if err := w.batch(ctx, b); err != nil {
					return err
				}
			}
			return nil
		})
	}
	if err := g.Wait(); err != nil {
		return err
	}
	c.end("ship")
	return nil
}

type worker struct {
	*run
	cap   *platform.Capture
	conns []Source
	buf   []byte
	// encoded is room for the blocks of one batch, used again for the next.
	encoded [][]byte
}

func (w *worker) close() {
	for _, c := range w.conns {
		if c != nil {
			_ = c.Close()
		}
	}
}

// batch copies one batch: read, name, ask what is missing, send that.
func (w *worker) batch(ctx context.Context, spans []span) error {
	var names []points.Name
	var entries []points.Entry
	var content [][]byte
	at := 0
	for _, s := range spans {
		if s.zero {
			entries = appendZero(entries, s)
			continue
		}
		b := w.buf[at : at+int(s.count)*points.BlockSize]
		at += len(b)
		if err := w.read(ctx, s, b); err != nil {
			return err
		}
		for i := range s.count {
			block := b[i*points.BlockSize : (i+1)*points.BlockSize]
			name := points.NameOf(block)
			entries = append(entries, points.Entry{Disk: uint16(s.disk), Count: 1, Index: s.index + i, Name: name, Same: s.same})
			if !name.IsZero() {
				names, content = append(names, name), append(content, block)
			}
		}
	}
	w.begin("ship")
	for try := 0; ; try++ {
		sent, err := w.send(ctx, names, content, entries)
		var missing *points.MissingError
		if errors.As(err, &missing) && try < 3 {
			continue // swept or lost by a restart since we asked
		}
		if err != nil {
			return err
		}
		w.change(func(p *Progress) {
			p.ReadBytes += int64(at)
			p.ShippedBytes += int64(sent.Blocks) * points.BlockSize
			p.WireBytes += sent.WireBytes
			now := w.clk.Now()
			for i := range p.Phases {
				if p.Phases[i].Name == "read" {
					p.Phases[i].To = &now
				}
			}
		})
		return nil
	}
}

func appendZero(entries []points.Entry, s span) []points.Entry {
	for s.count > 0 {
		n := min(s.count, 1<<30)
		entries = append(entries, points.Entry{Disk: uint16(s.disk), Count: uint32(n), Index: s.index, Same: s.same})
		s.index, s.count = s.index+n, s.count-n
	}
	return entries
}

// read fills b with a span, which may reach over the end of the disk.
func (w *worker) read(ctx context.Context, s span, b []byte) error {
	x := w.cap.Disks[s.disk]
	if w.conns[s.disk] == nil {
		c, err := w.Dial(ctx, x, nil)
		if err != nil {
			return fmt.Errorf("open %s %s: %w", x.Name, x.Disk, err)
		}
		w.conns[s.disk] = c
	}
	off := s.index * points.BlockSize
	n := min(int64(len(b)), x.Size-off)
	if _, err := w.conns[s.disk].ReadAt(b[:n], off); err != nil {
		return fmt.Errorf("read %s %s: %w", x.Name, x.Disk, err)
	}
	clear(b[n:])
	return nil
}

// send ships the blocks that the other side lacks and records the entries.
func (w *worker) send(ctx context.Context, names []points.Name, content [][]byte, entries []points.Entry) (sent Sent, err error) {
	blocks, others, release, err := w.lacking(ctx, names, content)
	if err != nil {
		return sent, err
	}
	defer release()
	if len(others) > 0 {
		// Ours go first, so that two workers never wait for each other.
		if sent, err = w.remote.Ship(ctx, w.intake, blocks, nil); err != nil {
			return sent, fmt.Errorf("ship: %w", err)
		}
		release()
		for _, c := range others {
			select {
			case <-c:
			case <-ctx.Done():
				return sent, ctx.Err()
			}
		}
		blocks = nil
	}
	more, err := w.remote.Ship(ctx, w.intake, blocks, entries)
	if err != nil {
		return sent, fmt.Errorf("ship: %w", err)
	}
	return Sent{sent.Blocks + more.Blocks, sent.WireBytes + more.WireBytes}, nil
}

// lacking asks which blocks the other side lacks, claims those that no other
// worker is sending, and encodes them, each once. Release ends the claims;
// others are closed when the other workers' are ended.
func (w *worker) lacking(ctx context.Context, names []points.Name, content [][]byte) (blocks []Block, others []chan struct{}, release func(), err error) {
	release = func() {}
	if len(names) == 0 {
		return nil, nil, release, nil
	}
	asked := time.Now() // of the network, not of the history that a clock plays
	missing, err := w.remote.Missing(ctx, w.intake, names)
	if time.Since(asked) > farAnswer {
		w.farOnce.Do(func() { close(w.isFar) })
	}
	if err != nil {
		return nil, nil, release, fmt.Errorf("ask what is missing: %w", err)
	}
	if len(missing) != len(names) {
		return nil, nil, release, fmt.Errorf("ask what is missing: %d answers to %d names", len(missing), len(names))
	}
	claim := make(chan struct{})
	var mine []int
	w.mu.Lock()
	for i, m := range missing {
		if !m {
			continue
		}
		switch c, taken := w.claimed[names[i]]; {
		case !taken:
			w.claimed[names[i]] = claim
			mine = append(mine, i)
		case c != claim:
			others = append(others, c)
		}
	}
	w.mu.Unlock()
	release = sync.OnceFunc(func() {
		w.mu.Lock()
		for _, i := range mine {
			delete(w.claimed, names[i])
		}
		w.mu.Unlock()
		close(claim)
	})
	for n, i := range mine {
		if n == len(w.encoded) {
			w.encoded = append(w.encoded, make([]byte, 0, points.MaxEncoded))
		}
		enc, stored := points.Encode(w.encoded[n], content[i], w.job.Encoding)
		blocks = append(blocks, Block{names[i], enc, stored})
	}
	return blocks, others, release, nil
}
