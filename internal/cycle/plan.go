package cycle

import (
	"context"
	"fmt"

	"golang.org/x/sync/errgroup"

	"kestrel/internal/nbd"
	"kestrel/internal/platform"
	"kestrel/internal/points"
)

// span is a run of blocks of one disk. Zero spans are recorded without reading.
type span struct {
	disk  int
	index int64
	count int64
	zero  bool
	same  bool // the platform reports no change here since the base
}

// plan asks the platform what to copy and cuts it into batches. What has been
// recorded before is counted and left out.
func (c *run) plan(ctx context.Context, cap *platform.Capture, opened Opened) ([][]span, error) {
	var spans []span
	var total, done, changed, zeroed, used int64
	type answer struct {
		spans     []span
		allocated int64
	}
	answers := make([]answer, len(cap.Disks))
	// A hypervisor may take its time to answer; it is asked about several
	// disks at once.
	g, gctx := errgroup.WithContext(ctx)
	g.SetLimit(4 * c.Workers)
	for i, x := range cap.Disks {
		g.Go(func() (err error) {
			answers[i].spans, answers[i].allocated, err = c.planDisk(gctx, x, i, opened.Wanted)
			return err
		})
	}
	if err := g.Wait(); err != nil {
		return nil, err
	}
	parts := make([]Part, len(cap.Disks))
	for i, x := range cap.Disks {
		parts[i] = Part{Machine: x.Machine, Name: x.Name, Disk: x.Disk}
		found := answers[i].spans
		used += answers[i].allocated
		var recorded []byte
		if i < len(opened.Recorded) {
			recorded = opened.Recorded[i]
		}
		for _, s := range found {
			if !s.same && (c.useBase[i] || !s.zero) {
				changed += s.count * points.BlockSize
				parts[i].ChangedBytes += s.count * points.BlockSize
				if s.zero {
					zeroed += s.count * points.BlockSize
				}
			}
			left := without(s, recorded)
			for _, l := range left {
				if !s.zero {
					done -= l.count * points.BlockSize
					parts[i].ReadBytes -= l.count * points.BlockSize
				}
			}
			if !s.zero {
				total += s.count * points.BlockSize
				done += s.count * points.BlockSize
				parts[i].ReadBytes += s.count * points.BlockSize
			}
			spans = append(spans, left...)
		}
	}
	c.change(func(p *Progress) {
		p.TotalBytes, p.ReadBytes, p.ChangedBytes, p.ZeroedBytes, p.UsedBytes = total, done, changed, zeroed, used
		p.Parts = parts
	})
	return cut(spans), nil
}

func (c *run) planDisk(ctx context.Context, x platform.FrozenDisk, i int, wanted []points.Range) (out []span, allocated int64, err error) {
	contexts := []string{nbd.AllocationContext}
	if c.useBase[i] {
		contexts = append(contexts, x.Changed)
	}
	conn, err := c.Dial(ctx, x, contexts)
	if err != nil {
		return nil, 0, fmt.Errorf("open %s %s: %w", x.Name, x.Disk, err)
	}
	defer func() { _ = conn.Close() }()
	if conn.Size() != x.Size {
		return nil, 0, fmt.Errorf("open %s %s: %d bytes over NBD, %d in the inventory", x.Name, x.Disk, conn.Size(), x.Size)
	}
	blocks := points.Blocks(x.Size)
	zero := make([]bool, blocks)
	if conn.Has(nbd.AllocationContext) {
		ext, err := conn.Extents(nbd.AllocationContext, 0, x.Size)
		if err != nil {
			return nil, 0, fmt.Errorf("allocation of %s %s: %w", x.Name, x.Disk, err)
		}
		for i := range zero {
			zero[i] = true
		}
		mark(ext, func(e nbd.Extent) bool { return e.Flags&nbd.StateZero == 0 }, func(b int64) { zero[b] = false })
	}
	for _, z := range zero {
		if !z {
			allocated += points.BlockSize
		}
	}
	take, same := make([]bool, blocks), make([]bool, blocks)
	if c.useBase[i] {
		if !conn.Has(x.Changed) {
			return nil, 0, fmt.Errorf("the platform does not offer %s for %s %s", x.Changed, x.Name, x.Disk)
		}
		ext, err := conn.Extents(x.Changed, 0, x.Size)
		if err != nil {
			return nil, 0, fmt.Errorf("changes of %s %s: %w", x.Name, x.Disk, err)
		}
		mark(ext, func(e nbd.Extent) bool { return e.Flags&nbd.StateDirty != 0 }, func(b int64) { take[b] = true })
		for _, w := range wanted {
			for b := max(0, w.Index); w.Disk == i && b < min(w.Index+w.Count, blocks); b++ {
				same[b], take[b] = !take[b], true
			}
		}
		for b := int64(0); c.job.Compare && b < blocks; b++ {
			same[b], take[b] = same[b] || !take[b], true
		}
	} else {
		// The tree begins empty, so what is zero needs no word.
		for b := range take {
			take[b] = !zero[b]
		}
	}
	for b := int64(0); b < blocks; b++ {
		if !take[b] {
			continue
		}
		if n := len(out); n > 0 && out[n-1].zero == zero[b] && out[n-1].same == same[b] && out[n-1].index+out[n-1].count == b {
			out[n-1].count++
		} else {
			out = append(out, span{i, b, 1, zero[b], same[b]})
		}
	}
	return out, allocated, nil
}

// mark calls set for every block that an extent of interest touches: changes
// may be tracked more finely than in our blocks.
func mark(ext []nbd.Extent, want func(nbd.Extent) bool, set func(int64)) {
	off := int64(0)
	for _, e := range ext {
		if want(e) {
			for b := off / points.BlockSize; b*points.BlockSize < off+e.Length; b++ {
				set(b)
			}
		}
		off += e.Length
	}
}

// without leaves out the blocks of a span that are set in a bitmap.
func without(s span, recorded []byte) []span {
	var out []span
	for b := s.index; b < s.index+s.count; b++ {
		if b/8 < int64(len(recorded)) && recorded[b/8]&(1<<(b%8)) != 0 {
			continue
		}
		if n := len(out); n > 0 && out[n-1].index+out[n-1].count == b {
			out[n-1].count++
		} else {
			out = append(out, span{s.disk, b, 1, s.zero, s.same})
		}
	}
	return out
}

// cut divides spans into batches of at most batchBlocks blocks to read.
func cut(spans []span) [][]span {
	var out [][]span
	var batch []span
	room := int64(batchBlocks)
	for _, s := range spans {
		for s.count > 0 {
			n := s.count
			if !s.zero {
				n = min(n, room)
				room -= n
			}
			part := s
			part.count = n
			batch = append(batch, part)
			s.index, s.count = s.index+n, s.count-n
			if room == 0 || len(batch) >= 4*batchBlocks {
				out, batch, room = append(out, batch), nil, batchBlocks
			}
		}
	}
	if batch != nil {
		out = append(out, batch)
	}
	return out
}
