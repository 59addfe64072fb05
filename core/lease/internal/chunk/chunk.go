// Package chunk has a list and a queue that grow by a block at a time: none that holds
// millions moves them all at once, which would hold up whoever adds the next.
package chunk

// List holds values by number. The zero value is empty.
type List[T any] [][]T // all but the last are full

const blockSize = 512

// Add puts a value behind all others.
func (b *List[T]) Add(v T) {
	last := len(*b) - 1
	if last < 0 || len((*b)[last]) == blockSize {
		*b = append(*b, nil)
		last++
	}
	(*b)[last] = append((*b)[last], v)
}

// At is where the i-th value lies, until the next is added.
func (b List[T]) At(i int) *T { return &b[i/blockSize][i%blockSize] }

// Size counts the values.
func (b List[T]) Size() int {
	if len(b) == 0 {
		return 0
	}
	return (len(b)-1)*blockSize + len(b[len(b)-1])
}

// Queue is first in, first out. The zero value is empty.
type Queue[T any] struct {
	blocks List[T]
	begin  int // of the first block
}

// Add puts a value behind all others.
func (q *Queue[T]) Add(v T) { q.blocks.Add(v) }

// First is the entry that has been in it for longest, or nil.
func (q *Queue[T]) First() *T {
	if len(q.blocks) == 0 {
		return nil
	}
	return q.blocks.At(q.begin)
}

// Drop takes the first entry out; there must be one.
func (q *Queue[T]) Drop() {
	if q.begin++; q.begin == len(q.blocks[0]) {
		q.blocks, q.begin = q.blocks[1:], 0
	}
}

// From is what lies from a value on in its block, at most so many: for walking through all
// without a look-up each. It is not empty where there is such a value.
func (b List[T]) From(i, most int) []T {
	some := b[i/blockSize][i%blockSize:]
	return some[:min(len(some), most)]
}
