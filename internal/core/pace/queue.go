package pace

import (
	"container/heap"
	"math"
	"time"
)

// Queue shares a rate between flows by weight, by start-time fair queuing
// (Goyal, Vin and Cheng, 1996): each piece gets the tag at which its flow would
// begin it were all flows served at once, and the least tag goes first. It is
// not safe for concurrent use.
type Queue struct {
	pieces  pieces
	virtual float64            // the tag of the piece granted last
	finish  map[string]float64 // by flow: the tag at which its last piece ends
	free    time.Time          // when what was granted has been carried
	order   uint64
}

// Piece is something to send that waits for its turn.
type Piece struct {
	Flow  string
	Bytes int64

	tag   float64
	order uint64
	at    int // in the heap, -1 when not waiting
}

// slack is how much of what a late wake-up loses may be caught up.
const slack = 100 * time.Millisecond

// Add puts a piece of a flow with a weight above 0 into the queue.
func (q *Queue) Add(flow string, weight float64, bytes int64) *Piece {
	if q.finish == nil {
		q.finish = map[string]float64{}
	}
	if len(q.pieces) == 0 {
		// Nobody waits: what flows were owed or had ahead is over.
		clear(q.finish)
	}
	tag := math.Max(q.virtual, q.finish[flow])
	q.finish[flow] = tag + float64(bytes)/weight
	q.order++
	p := &Piece{Flow: flow, Bytes: bytes, tag: tag, order: q.order}
	heap.Push(&q.pieces, p)
	return p
}

// Remove takes back a piece that waits.
func (q *Queue) Remove(p *Piece) {
	if p.at >= 0 {
		heap.Remove(&q.pieces, p.at)
	}
}

// Len is the number of pieces that wait.
func (q *Queue) Len() int { return len(q.pieces) }

// Next grants the piece whose turn it is at a rate in bytes a second (0: no
// limit), or says how long to wait until there is one. Nil and 0 is an empty
// queue.
func (q *Queue) Next(now time.Time, rate int64) (*Piece, time.Duration) {
	if len(q.pieces) == 0 {
		return nil, 0
	}
	if rate > 0 && q.free.After(now) {
		return nil, q.free.Sub(now)
	}
	p := heap.Pop(&q.pieces).(*Piece)
	q.virtual = p.tag
	if rate > 0 {
		if earliest := now.Add(-slack); q.free.Before(earliest) {
			q.free = earliest
		}
		q.free = q.free.Add(time.Duration(float64(p.Bytes) / float64(rate) * float64(time.Second)))
	} else {
		q.free = now
	}
	return p, 0
}

// PieceSize is what to ask for at once at a rate, in bytes: a fiftieth of a
// second's worth, so that a change of the rate or another flow is felt at once.
func PieceSize(rate int64) int64 { return min(max(rate/50, 1<<10), 256<<10) }

// pieces implements heap.Interface.
type pieces []*Piece

func (p pieces) Len() int { return len(p) }
func (p pieces) Less(i, j int) bool {
	if p[i].tag != p[j].tag {
		return p[i].tag < p[j].tag
	}
	return p[i].order < p[j].order
}
func (p pieces) Swap(i, j int) {
	p[i], p[j] = p[j], p[i]
	p[i].at, p[j].at = i, j
}
func (p *pieces) Push(x any) {
	e := x.(*Piece)
	e.at = len(*p)
	*p = append(*p, e)
}
func (p *pieces) Pop() any {
	old := *p
	e := old[len(old)-1]
	old[len(old)-1], e.at = nil, -1
	*p = old[:len(old)-1]
	return e
}
