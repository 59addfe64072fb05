package lease

// fifo is a queue that grows by blocks: a busy server has hundreds of thousands of
// entries in one, and moving them all at once would hold up the packets.
type fifo[T any] struct {
	blocks [][]T // all but the last are full
	begin  int   // of the first block
}

const fifoBlock = 512

func (q *fifo[T]) add(v T) {
	last := len(q.blocks) - 1
	if last < 0 || len(q.blocks[last]) == fifoBlock {
		q.blocks = append(q.blocks, nil)
		last++
	}
	q.blocks[last] = append(q.blocks[last], v)
}

// first is the entry that has been in it for longest, or nil.
func (q *fifo[T]) first() *T {
	if len(q.blocks) == 0 {
		return nil
	}
	return &q.blocks[0][q.begin]
}

// drop takes the first entry out; there must be one.
func (q *fifo[T]) drop() {
	if q.begin++; q.begin == len(q.blocks[0]) {
		q.blocks, q.begin = q.blocks[1:], 0
	}
}
