package main

import (
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"sync"
	"syscall"
	"time"
)

// bareEach is how often the bare loops are asked: as often as clients come in.
const bareEach = time.Second / holdUpRate

// bare is the least that could answer: a process that sends back what it gets,
// and a file that a few octets are written to and synced. What those have to wait
// is the machine's doing, not the service's.
type bare struct {
	process *exec.Cmd
	conn    *net.UDPConn
	file    *os.File
}

func newBare(dir string) (*bare, error) {
	self, err := os.Executable()
	if err != nil {
		return nil, err
	}
	at, err := freePort("udp")
	if err != nil {
		return nil, err
	}
	b := &bare{}
	if b.file, err = os.Create(filepath.Join(dir, "bare")); err != nil {
		return nil, err
	}
	if _, err = b.file.Write(make([]byte, 4096)); err == nil {
		err = b.file.Sync()
	}
	if err == nil {
		b.conn, err = net.DialUDP("udp4", nil, net.UDPAddrFromAddrPort(at))
	}
	if err == nil {
		b.process, err = child(os.Stderr, self, "-echo", at.String())
	}
	if err != nil {
		b.close()
		return nil, err
	}
	time.Sleep(200 * time.Millisecond)
	return b, nil
}

func (b *bare) close() {
	if b.process != nil {
		b.process.Process.Kill()
		b.process.Wait()
	}
	if b.conn != nil {
		b.conn.Close()
	}
	b.file.Close()
}

// watch begins to ask both, and gives what ends that and tells how long each let
// itself be waited for at most.
func (b *bare) watch() func() (echo, synced time.Duration) {
	over := make(chan struct{})
	var all sync.WaitGroup
	longest := func(do func(at time.Time)) *time.Duration {
		var longest time.Duration
		all.Go(func() {
			for tick := time.NewTicker(bareEach); ; {
				select {
				case <-over:
					return
				case <-tick.C:
					at := time.Now()
					do(at)
					longest = max(longest, time.Since(at))
				}
			}
		})
		return &longest
	}
	buf := make([]byte, 300)
	echo := longest(func(at time.Time) {
		b.conn.SetReadDeadline(at.Add(10 * time.Second))
		b.conn.Write(buf)
		b.conn.Read(buf)
	})
	block := make([]byte, 4096)
	synced := longest(func(time.Time) {
		b.file.WriteAt(block, 0)
		syscall.Fdatasync(int(b.file.Fd()))
	})
	return func() (time.Duration, time.Duration) {
		close(over)
		all.Wait()
		return *echo, *synced
	}
}
