package points

import "encoding/binary"

// bitmap is a set of blocks of a disk. What is not set takes no room, and neither does
// a long run that is: a peer names the size of a disk before it sends anything.
type bitmap struct {
	pages map[int64]*page
	last  int64 // the highest page
	near  int64 // the page that was asked for last, and what it is
	at    *page
	full  *page // of which all is set: shared, and never written to; nil before it is needed
}

// page is the blocks from one multiple of pageBlocks to the next.
type page [pageBlocks / 64]uint64

const pageBlocks = 1 << 15 // 2 GiB of a disk, in 4 KiB

func fullPage() *page {
	var p page
	for i := range p {
		p[i] = ^uint64(0)
	}
	return &p
}

func newBitmap() *bitmap { return &bitmap{pages: map[int64]*page{}, last: -1, near: -1} }

// page finds one; nil if nothing of it is set. Who asks mostly asks on.
func (b *bitmap) page(n int64) *page {
	if n != b.near {
		b.near, b.at = n, b.pages[n]
	}
	return b.at
}

func (b *bitmap) put(n int64, p *page) {
	b.pages[n], b.last = p, max(b.last, n)
	b.near, b.at = n, p
}

// own gives a page that may be written to.
func (b *bitmap) own(n int64) *page {
	p := b.page(n)
	switch {
	case p == nil:
		p = &page{}
	case p == b.full:
		p = fullPage()
	default:
		return p
	}
	b.put(n, p)
	return p
}

// set adds count blocks from first on.
func (b *bitmap) set(first, count int64) {
	for count > 0 {
		n, at := first/pageBlocks, first%pageBlocks
		here := min(count, pageBlocks-at)
		if here == pageBlocks {
			if b.full == nil {
				b.full = fullPage()
			}
			b.put(n, b.full)
		} else if p := b.page(n); p == nil || p != b.full {
			p := b.own(n)
			for i := at; i < at+here; i++ {
				p[i/64] |= 1 << (i % 64)
			}
		}
		first, count = first+here, count-here
	}
}

func (b *bitmap) get(i int64) bool {
	p := b.page(i / pageBlocks)
	i %= pageBlocks
	return p != nil && p[i/64]&(1<<(i%64)) != 0
}

func (b *bitmap) clear(i int64) {
	if b.get(i) {
		b.own(i / pageBlocks)[i%pageBlocks/64] &^= 1 << (i % 64)
	}
}

// bytes writes it as bit i of byte i/8, without the zeros at its end.
func (b *bitmap) bytes() []byte {
	out := make([]byte, (b.last+1)*pageBlocks/8)
	for n, p := range b.pages {
		for i, w := range p {
			binary.LittleEndian.PutUint64(out[n*pageBlocks/8+int64(i)*8:], w)
		}
	}
	end := len(out)
	for end > 0 && out[end-1] == 0 {
		end--
	}
	return out[:end]
}
