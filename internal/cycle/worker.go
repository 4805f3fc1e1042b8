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
	var disks []int // of each name
	read := map[int]int64{}
	at := 0
	for _, s := range spans {
		if s.zero {
			entries = appendZero(entries, s)
			continue
		}
		b := w.buf[at : at+int(s.count)*points.BlockSize]
		at += len(b)
		read[s.disk] += int64(len(b))
		if err := w.read(ctx, s, b); err != nil {
			return err
		}
		for i := range s.count {
			block := b[i*points.BlockSize : (i+1)*points.BlockSize]
			name := points.NameOf(block)
			entries = append(entries, points.Entry{Disk: uint16(s.disk), Count: 1, Index: s.index + i, Name: name, Same: s.same})
			if !name.IsZero() {
				names, content, disks = append(names, name), append(content, block), append(disks, s.disk)
			}
		}
	}
	w.begin("ship")
	for try := 0; ; try++ {
		sent, shares, err := w.send(ctx, names, content, disks, entries)
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
			for disk, n := range read {
				p.Parts[disk].ReadBytes += n
			}
			share(p.Parts, shares, sent)
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

// share shares out what was sent among the disks, by the encoded sizes of what each gave to
// it.
func share(parts []Part, shares map[int]int64, sent Sent) {
	var whole int64
	for _, n := range shares {
		whole += n
	}
	if whole == 0 {
		return
	}
	blocks, wire, last := int64(sent.Blocks)*points.BlockSize, sent.WireBytes, -1
	for disk, n := range shares {
		b := int64(float64(sent.Blocks)*float64(n)/float64(whole)) * points.BlockSize
		w := int64(float64(sent.WireBytes) * float64(n) / float64(whole))
		parts[disk].ShippedBytes += b
		parts[disk].WireBytes += w
		blocks, wire, last = blocks-b, wire-w, max(last, disk)
	}
	parts[last].ShippedBytes += blocks // what rounding left
	parts[last].WireBytes += wire
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

// send ships the blocks that the other side lacks and records the entries. Shares are the
// encoded bytes of what was shipped, by disk.
func (w *worker) send(ctx context.Context, names []points.Name, content [][]byte, disks []int, entries []points.Entry) (sent Sent, shares map[int]int64, err error) {
	blocks, mine, others, release, err := w.lacking(ctx, names, content)
	if err != nil {
		return sent, nil, err
	}
	shares = map[int]int64{}
	for n, i := range mine {
		shares[disks[i]] += int64(len(blocks[n].Stored))
	}
	defer release()
	if len(others) > 0 {
		// Ours go first, so that two workers never wait for each other.
		if sent, err = w.remote.Ship(ctx, w.intake, blocks, nil); err != nil {
			return sent, shares, fmt.Errorf("ship: %w", err)
		}
		release()
		for _, c := range others {
			select {
			case <-c:
			case <-ctx.Done():
				return sent, shares, ctx.Err()
			}
		}
		blocks = nil
	}
	more, err := w.remote.Ship(ctx, w.intake, blocks, entries)
	if err != nil {
		return sent, shares, fmt.Errorf("ship: %w", err)
	}
	return Sent{sent.Blocks + more.Blocks, sent.WireBytes + more.WireBytes}, shares, nil
}

// lacking asks which blocks the other side lacks, claims those that no other
// worker is sending, and encodes them, each once. Release ends the claims;
// others are closed when the other workers' are ended. Mine are the names of the blocks.
func (w *worker) lacking(ctx context.Context, names []points.Name, content [][]byte) (blocks []Block, mine []int, others []chan struct{}, release func(), err error) {
	release = func() {}
	if len(names) == 0 {
		return nil, nil, nil, release, nil
	}
	asked := time.Now() // of the network, not of the history that a clock plays
	missing, err := w.remote.Missing(ctx, w.intake, names)
	if time.Since(asked) > farAnswer {
		w.farOnce.Do(func() { close(w.isFar) })
	}
	if err != nil {
		return nil, nil, nil, release, fmt.Errorf("ask what is missing: %w", err)
	}
	if len(missing) != len(names) {
		return nil, nil, nil, release, fmt.Errorf("ask what is missing: %d answers to %d names", len(missing), len(names))
	}
	claim := make(chan struct{})
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
	return blocks, mine, others, release, nil
}
