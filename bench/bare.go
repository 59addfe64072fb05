package main

import (
	"errors"
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
func (b *bare) watch() func() (echo, synced time.Duration, err error) {
	over := make(chan struct{})
	var all sync.WaitGroup
	var waits [2]time.Duration
	var errs [2]error
	ask := func(which int, do func() error) {
		all.Go(func() {
			for tick := time.NewTicker(bareEach); errs[which] == nil; {
				select {
				case <-over:
					return
				case <-tick.C:
				}
				at := time.Now()
				errs[which] = do()
				waits[which] = max(waits[which], time.Since(at))
			}
		})
	}
	buf, block := make([]byte, 300), make([]byte, 4096)
	ask(0, func() error {
		err := b.conn.SetReadDeadline(time.Now().Add(10 * time.Second))
		if err == nil {
			_, err = b.conn.Write(buf)
		}
		if err == nil {
			_, err = b.conn.Read(buf)
		}
		return err
	})
	ask(1, func() error {
		_, err := b.file.WriteAt(block, 0)
		if err == nil {
			err = syscall.Fdatasync(int(b.file.Fd()))
		}
		return err
	})
	return func() (time.Duration, time.Duration, error) {
		close(over)
		all.Wait()
		return waits[0], waits[1], errors.Join(errs[:]...)
	}
}
