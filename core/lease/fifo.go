package lease

// fifo is a queue that grows by blocks.
type fifo[T any] struct {
	blocks blocks[T]
	begin  int // of the first block
}

func (q *fifo[T]) add(v T) { q.blocks.add(v) }

// first is the entry that has been in it for longest, or nil.
func (q *fifo[T]) first() *T {
	if len(q.blocks) == 0 {
		return nil
	}
	return q.blocks.at(q.begin)
}

// drop takes the first entry out; there must be one.
func (q *fifo[T]) drop() {
	if q.begin++; q.begin == len(q.blocks[0]) {
		q.blocks, q.begin = q.blocks[1:], 0
	}
}
