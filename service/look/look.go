// Package look looks whether hosts answer: echo requests, and
// questions to name servers, each with a deadline and at a gentle pace.
package look

import (
	"context"
	"fmt"
	"net"
	"net/netip"
	"os"
	"sync"
	"time"

	"golang.org/x/net/dns/dnsmessage"

	"yarnpost/service/clock"
	"yarnpost/service/lock"
	"yarnpost/service/wire"
)

// Target is a host that should answer.
type Target struct {
	Address netip.Addr
	DNS     bool // a name server: it has to answer a question
}

// Limits of looking.
const (
	patience = 1500 * time.Millisecond
	pace     = 20 * time.Millisecond // between two hosts
	most     = 1000
)

// Hosts looks at hosts and says which are silent. What could not be asked at all is
// in neither way known, and left out.
func Hosts(ctx context.Context, list []Target) map[netip.Addr]bool {
	var mu sync.Mutex
	answered, asked := map[netip.Addr]bool{}, map[netip.Addr]bool{}
	mark := func(in map[netip.Addr]bool, a netip.Addr) {
		mu.Lock()
		defer mu.Unlock()
		in[a] = true
	}
	pinger, err := wire.NewPinger(uint16(os.Getpid())^0x5a5a, func(a netip.Addr) { mark(answered, a) })
	if err == nil {
		defer pinger.Close()
	}
	var wg sync.WaitGroup
	for i, t := range list[:min(len(list), most)] {
		if i > 0 {
			select {
			case <-ctx.Done():
			case <-time.After(pace):
			}
		}
		if ctx.Err() != nil {
			break
		}
		for range 2 {
			if !t.DNS && pinger != nil && pinger.Ping(t.Address) == nil {
				mark(asked, t.Address)
			}
		}
		if t.DNS {
			mark(asked, t.Address)
			wg.Go(func() {
				if question(ctx, t.Address) == nil {
					mark(answered, t.Address)
				}
			})
		}
	}
	wg.Wait()
	waits := false
	lock.While(&mu, func() { waits = len(asked) > len(answered) })
	if waits {
		select {
		case <-ctx.Done():
		case <-time.After(patience):
		}
	}
	mu.Lock()
	defer mu.Unlock()
	out := map[netip.Addr]bool{}
	for a := range asked {
		out[a] = !answered[a]
	}
	return out
}

// question asks a name server for the servers of the root; any reply is one.
func question(ctx context.Context, a netip.Addr) error {
	m := dnsmessage.Message{Header: dnsmessage.Header{ID: 0x7961, RecursionDesired: true},
		Questions: []dnsmessage.Question{{Name: dnsmessage.MustNewName("."), Type: dnsmessage.TypeNS, Class: dnsmessage.ClassINET}}}
	b, err := m.Pack()
	if err != nil {
		return err
	}
	d := net.Dialer{Timeout: patience}
	conn, err := d.DialContext(ctx, "udp", netip.AddrPortFrom(a, 53).String())
	if err != nil {
		return fmt.Errorf("ask %s: %w", a, err)
	}
	defer conn.Close()
	if err := conn.SetDeadline(clock.Deadline(patience)); err != nil {
		return err
	}
	if _, err := conn.Write(b); err != nil {
		return err
	}
	reply := make([]byte, 1500)
	n, err := conn.Read(reply)
	if err != nil {
		return err
	}
	var p dnsmessage.Parser
	h, err := p.Start(reply[:n])
	if err == nil && (h.ID != m.ID || !h.Response) {
		err = fmt.Errorf("%s says something else", a)
	}
	return err
}
