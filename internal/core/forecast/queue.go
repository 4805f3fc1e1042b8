package forecast

// queue is a binary heap of groups by an instant, and by their IDs where it is the same.
// Its items hold what is compared, so that most steps of a forecast touch nothing else.
type queue []item

type item struct {
	key  int64
	rank int // of the group's ID
	s    *state
}

func (a item) before(b item) bool { return a.key < b.key || a.key == b.key && a.rank < b.rank }

func (q *queue) push(key int64, s *state) {
	x := item{key, s.rank, s}
	all := append(*q, x)
	i := len(all) - 1
	for i > 0 {
		up := (i - 1) / 2
		if !x.before(all[up]) {
			break
		}
		all[i], i = all[up], up
	}
	all[i] = x
	*q = all
}

// pop takes the first; there is one.
func (q *queue) pop() *state {
	all := *q
	first, n := all[0].s, len(all)-1
	x := all[n]
	all[n] = item{}
	all = all[:n]
	for i := 0; n > 0; {
		down := 2*i + 1
		if down+1 < n && all[down+1].before(all[down]) {
			down++
		}
		if down >= n || !all[down].before(x) {
			all[i] = x
			break
		}
		all[i], i = all[down], down
	}
	*q = all
	return first
}
