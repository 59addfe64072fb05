// Package lock releases locks whatever happens while they are held.
package lock

import "sync"

// While runs f under a lock, which is released even if f panics.
func While(l sync.Locker, f func()) {
	l.Lock()
	defer l.Unlock()
	f()
}
