package lease

// blocks hold values by number. They grow by a block at a time: a busy server has
// millions in them, and moving all at once would hold up the packets.
type blocks[T any] [][]T // all but the last are full

const blockSize = 512

func (b *blocks[T]) add(v T) {
	last := len(*b) - 1
	if last < 0 || len((*b)[last]) == blockSize {
		*b = append(*b, nil)
		last++
	}
	(*b)[last] = append((*b)[last], v)
}

// at is where the i-th value lies, until the next is added.
func (b blocks[T]) at(i int) *T { return &b[i/blockSize][i%blockSize] }

func (b blocks[T]) size() int {
	if len(b) == 0 {
		return 0
	}
	return (len(b)-1)*blockSize + len(b[len(b)-1])
}
