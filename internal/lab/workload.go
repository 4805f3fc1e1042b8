package lab

import (
	"encoding/binary"
	"math"
	"math/rand/v2"
	"sync"
	"time"

	"kestrel/internal/lab/witness"
)

// guest is the program that runs in a simulated machine: it writes real bytes
// to the machine's disks, the same ones for the same seed and tick.
type guest struct {
	load  Workload
	id    uint64
	first *disk
	last  *disk
	rec   witness.Record // newest transaction
	ticks uint64
	// between is held during a transaction: a guest comes to rest between two.
	between sync.Mutex
}

// Layout of a guest's disks: below appendFrom lies what the witness keeps and
// the hot pages begin after it, on the last disk; appended data fills the rest
// of the last disk and starts over.
const hotFrom = 4 << 20

// newGuest picks up where the disk says the guest was.
func newGuest(load Workload, id string, disks []*disk) (*guest, error) {
	g := &guest{load: load, id: witness.KeyOf(id), first: disks[0], last: disks[len(disks)-1]}
	var err error
	g.rec, err = witness.Read(g.first.data, g.last.data)
	if err != nil {
		// A guest that was killed between page and record begins its
		// transaction again; anything else was torn before we came.
		g.rec.Machine = g.id
	}
	g.rec.Machine = g.id
	g.ticks = g.rec.Seq
	return g, nil
}

// step writes what the guest writes in one tick. Peer, if not nil, is the
// guest it depends on: its newest transaction is complete by now.
func (g *guest) step(now time.Time, peer *guest, still func(func() error) error) error {
	g.ticks++
	r := rand.New(rand.NewPCG(g.load.Seed, g.ticks))
	amount := func(perSecond float64) int {
		x := perSecond * Tick.Seconds()
		n := math.Floor(x)
		if r.Float64() < x-n {
			n++
		}
		return int(n)
	}
	quiet := g.load.Quiet > 0 && float64(now.Unix()%600) < 600*g.load.Quiet
	span := g.last.size - hotFrom
	if pages := min(int64(g.load.HotPages), span/blockSize/2); !quiet && pages > 0 {
		for range amount(g.load.HotPerSecond) {
			// Two draws, the smaller taken: some pages are hotter than others.
			page := min(r.Int64N(pages), r.Int64N(pages))
			b := make([]byte, 16<<10)
			fill(b, r.Uint64(), 0.5)
			if err := still(func() error {
				_, err := g.last.WriteAt(b, hotFrom+page*blockSize+r.Int64N(3)*(16<<10))
				return err
			}); err != nil {
				return err
			}
		}
	}
	if n := amount(g.load.AppendKiBps * 1024); !quiet && n > 0 {
		from := hotFrom + int64(g.load.HotPages)*blockSize
		if room := g.last.size - from - int64(n); room > 0 {
			b := make([]byte, n)
			fill(b, r.Uint64(), 0.4)
			at := from + int64(g.rec.Cursor)%room
			if err := still(func() error { _, err := g.last.WriteAt(b, at); return err }); err != nil {
				return err
			}
			g.rec.Cursor += uint64(n)
		}
	}
	for range amount(g.load.RecordsPerS) {
		next := g.rec
		next.Seq++
		next.At = now
		if peer != nil {
			next.Peer, next.PeerSeq = peer.id, peer.rec.Seq
		}
		if err := g.transact(next, still); err != nil {
			return err
		}
	}
	return nil
}

// transact does one transaction, unless the guest is at rest: then when it is no longer.
func (g *guest) transact(next witness.Record, still func(func() error) error) error {
	g.between.Lock()
	defer g.between.Unlock()
	if err := next.Write(held{g.first, still}, held{g.last, still}); err != nil {
		return err
	}
	g.rec = next
	return nil
}

// held makes each single write wait while the lab takes a checkpoint.
type held struct {
	d     *disk
	still func(func() error) error
}

func (h held) WriteAt(p []byte, off int64) (n int, err error) {
	err = h.still(func() error { n, err = h.d.WriteAt(p, off); return err })
	return n, err
}

// fill writes content of which the share noise does not compress; the rest
// looks like text and tables.
func fill(b []byte, seed uint64, noise float64) {
	r := rand.New(rand.NewPCG(seed, 0x5eed))
	words := []string{"berth ", "departs ", "arrives ", "cabin ", "fare ", "tide ", "quay 4 ", "north pier ", "00012450;", "fog ", "\x00\x00\x00\x00", "lorry ", "0.75;"}
	for at := 0; at < len(b); {
		chunk := min(4096, len(b)-at)
		if r.Float64() < noise {
			i := 0
			for ; i+8 <= chunk; i += 8 {
				binary.LittleEndian.PutUint64(b[at+i:], r.Uint64())
			}
			at += chunk
			continue
		}
		for end := at + chunk; at < end; {
			at += copy(b[at:end], words[r.IntN(len(words))])
		}
	}
}
