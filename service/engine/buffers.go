package engine

import (
	"sync"

	"yarnpost/service/wire"
)

// buffers is memory of replies that have left, to be filled again: most of what
// a busy server would otherwise leave to the collector.
type buffers struct {
	mu   sync.Mutex
	free [][]byte
}

// Bounds of what is kept: octets of a usual reply, and replies.
const (
	bufferSize  = 512
	buffersMost = 4096
)

func (b *buffers) take() []byte {
	b.mu.Lock()
	defer b.mu.Unlock()
	n := len(b.free)
	if n == 0 {
		return make([]byte, 0, bufferSize)
	}
	buf := b.free[n-1]
	b.free = b.free[:n-1]
	return buf
}

// give takes the memory of replies that nobody looks at any more.
func (b *buffers) give(replies []wire.Reply) {
	b.mu.Lock()
	defer b.mu.Unlock()
	for i := range replies {
		if data := replies[i].Data; cap(data) >= bufferSize && len(b.free) < buffersMost {
			b.free = append(b.free, data[:0])
		}
		replies[i] = wire.Reply{}
	}
}
