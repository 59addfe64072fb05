package main

import (
	"bufio"
	"bytes"
	"cmp"
	"context"
	"errors"
	"fmt"
	"io"
	"log/slog"
	"net"
	"net/netip"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"sync"
	"syscall"
	"time"

	"yarnpost/api"
	"yarnpost/client"
	"yarnpost/demo"
	"yarnpost/service/store"
)

// demoPassword opens the demo alone, which listens on loopback.
const demoPassword = "fellgate-mill"

// runDemo plays Fellgate Mill to two servers that are a pair, each a process of its
// own with a database of its own.
func runDemo(ctx context.Context, args []string) error {
	o, err := parse("demo", args, options{data: "yarnpost-data/demo", http: "127.0.0.1:8067", dhcp4: "127.0.0.1:6767",
		dhcp6: "[::1]:6767"})
	if err != nil {
		return err
	}
	log := logger()
	if err := dropRoot(o, log); err != nil {
		return err
	}
	said, err := os.OpenFile(filepath.Join(o.data, "servers.log"), os.O_CREATE|os.O_APPEND|os.O_WRONLY, 0o644)
	if err != nil {
		return fmt.Errorf("keep what the servers say: %w", err)
	}
	defer said.Close()
	m := &stage{log: log, said: said}
	defer m.stop()
	if err := m.build(ctx, o); err != nil {
		return err
	}
	bobbin, shuttle := m.actors[0], m.actors[1]
	go m.listen(ctx, os.Stdin)
	var at4, at6 []netip.AddrPort
	for _, a := range m.actors {
		four, six, err := a.serves(ctx)
		if err != nil {
			return err
		}
		at4 = append(at4, four)
		if six.IsValid() {
			at6 = append(at6, six)
		}
	}
	return demo.Run(ctx, demo.Config{API: bobbin.client(), DHCP4: at4, DHCP6: at6, Log: log, Out: os.Stdout,
		SignIn: fmt.Sprintf("http://%s   account admin, password %s\n  Its partner   http://%s   (%s; the same account)", bobbin.http,
			demoPassword,
			shuttle.http, shuttle.name),
		Token: bobbin.token(), Records: []string{store.PrivateDSN(bobbin.data), store.PrivateDSN(shuttle.data)},
		Also: fmt.Sprintf("  Their log     %s\n\nTwo servers are a pair: bobbin (process %d) and shuttle (process %d). A letter and Enter:\n"+
			"  b  kill bobbin    s  kill shuttle    c  cut the wire between them    r  bring back all that is down\n", said.Name(),
			bobbin.pid(),
			shuttle.pid())})
}

// stage is what the demo plays on: two servers and the wire between them.
type stage struct {
	log    *slog.Logger
	actors [2]*actor
	cable  *demo.Cable
	said   io.Writer // takes what the servers say
}

// actor is one of the two servers.
type actor struct {
	name, data, http string
	args             []string
	log              io.Writer // takes what it says
	mu               sync.Mutex
	cmd              *exec.Cmd
	over             chan struct{}
}

func (s *stage) build(ctx context.Context, o options) error {
	at, err := netip.ParseAddrPort(o.dhcp4)
	if err != nil {
		return fmt.Errorf("--dhcp4 %s: write an address and a port like 127.0.0.1:6767", o.dhcp4)
	}
	six, err := o.at6(at)
	if err != nil {
		return err
	}
	for i, name := range []string{"bobbin", "shuttle"} {
		a := &actor{name: name, data: o.data, http: o.http, log: s.said}
		dhcp4 := at
		if i == 1 {
			a.data = filepath.Join(o.data, name)
			if err := os.MkdirAll(a.data, 0o711); err != nil {
				return fmt.Errorf("make the data folder: %w", err)
			}
			if a.http, err = freeBeside(o.http, "", 0); err != nil {
				return err
			}
			dhcp4 = netip.AddrPortFrom(netip.MustParseAddr("127.0.0.2"), at.Port())
		}
		partner, err := freeBeside(o.http, "127.0.0.1", 20*(i+1))
		if err != nil {
			return err
		}
		if i == 0 {
			if s.cable, err = demo.NewCable(partner); err != nil {
				return err
			}
		}
		a.args = []string{"serve", "--data", a.data, "--http", a.http, "--dhcp4", dhcp4.String(), "--dhcp6", beside6(six, i),
			"--partner", partner, "--name", name, "--alerts-to", "127.0.0.0/8",
			"--unused-after", "1s"}
		if err := a.start(ctx); err != nil {
			return err
		}
		s.actors[i] = a
	}
	for _, a := range s.actors {
		if err := a.ready(ctx); err != nil {
			return err
		}
	}
	return s.form(ctx)
}

// beside6 is where server number i hears DHCPv6, so that both can on one machine; none where that
// has no IPv6.
func beside6(at netip.AddrPort, i int) string {
	if !at.IsValid() {
		return "none"
	}
	if at.Port() != 0 {
		at = netip.AddrPortFrom(at.Addr(), at.Port()+uint16(i))
	}
	l, err := net.ListenUDP("udp6", net.UDPAddrFromAddrPort(at))
	if err != nil {
		return "none"
	}
	at = l.LocalAddr().(*net.UDPAddr).AddrPort()
	if l.Close() != nil {
		return "none"
	}
	return at.String()
}

// form makes the two a pair, unless they are one already, and gives the account its
// password.
func (s *stage) form(ctx context.Context) error {
	bobbin, shuttle := s.actors[0].client(), s.actors[1].client()
	if once, err := os.ReadFile(filepath.Join(s.actors[0].data, "admin.password")); err == nil {
		if err := bobbin.ChangePassword(ctx, strings.TrimSpace(string(once)), demoPassword); err != nil {
			return err
		}
	}
	if p, err := bobbin.Pair(ctx); err != nil || p.Formed {
		return err
	}
	i, err := bobbin.InvitePartner(ctx, api.PairInvite{At: s.cable.Address(), Mode: "hot-standby"})
	if err != nil {
		return err
	}
	if _, err := shuttle.JoinPair(ctx, api.PairJoin{Code: i.Code, Confirm: true}); err != nil {
		return err
	}
	for ctx.Err() == nil {
		if p, err := bobbin.Pair(ctx); err != nil || p.Takeover {
			return err
		}
		time.Sleep(100 * time.Millisecond)
	}
	return ctx.Err()
}

// listen takes what a person types.
func (s *stage) listen(ctx context.Context, from io.Reader) {
	lines := bufio.NewScanner(from)
	for lines.Scan() && ctx.Err() == nil {
		switch strings.TrimSpace(lines.Text()) {
		case "b":
			s.actors[0].kill()
			fmt.Println("bobbin is dead; shuttle serves the mill.")
		case "s":
			s.actors[1].kill()
			fmt.Println("shuttle is dead; bobbin serves on.")
		case "c":
			s.cable.Cut()
			fmt.Println("The wire between them is cut; both serve on, each from its share.")
		case "r":
			s.cable.Mend()
			for _, a := range s.actors {
				if err := a.start(ctx); err != nil {
					s.log.Error("it could not be brought back", "server", a.name, "err", err)
				}
			}
			fmt.Println("All is back; the Pair page tells the story.")
		}
	}
}

func (s *stage) stop() {
	for _, a := range s.actors {
		if a != nil {
			a.stop()
		}
	}
	if s.cable != nil {
		s.cable.Close()
	}
}

// start begins a server, unless it runs.
func (a *actor) start(ctx context.Context) error {
	a.mu.Lock()
	defer a.mu.Unlock()
	if a.cmd != nil || ctx.Err() != nil {
		return nil
	}
	self, err := os.Executable()
	if err != nil {
		return fmt.Errorf("start %s: %w", a.name, err)
	}
	cmd := exec.Command(self, a.args...)
	cmd.Stdout, cmd.Stderr = &prefixed{name: a.name, to: a.log}, &prefixed{name: a.name, to: a.log}
	cmd.SysProcAttr = &syscall.SysProcAttr{Setpgid: true} // Ctrl-C ends the demo, which ends them in good order
	if err := cmd.Start(); err != nil {
		return fmt.Errorf("start %s: %w", a.name, err)
	}
	over := make(chan struct{})
	a.cmd, a.over = cmd, over
	go func() {
		_ = cmd.Wait() // its log says why it ended
		a.mu.Lock()
		a.cmd = nil
		a.mu.Unlock()
		close(over)
	}()
	return nil
}

func (a *actor) signal(s os.Signal) {
	a.mu.Lock()
	cmd, over := a.cmd, a.over
	a.mu.Unlock()
	if cmd != nil {
		_ = cmd.Process.Signal(s) // it may just have ended
		<-over
	}
}

func (a *actor) kill() { a.signal(syscall.SIGKILL) }
func (a *actor) stop() { a.signal(syscall.SIGTERM) }

func (a *actor) pid() int {
	a.mu.Lock()
	defer a.mu.Unlock()
	if a.cmd == nil {
		return 0
	}
	return a.cmd.Process.Pid
}

func (a *actor) token() string { return filepath.Join(a.data, "admin.token") }

func (a *actor) client() *client.Client {
	token, _ := os.ReadFile(a.token()) // ready waited for it
	return client.New("http://"+a.http, string(token))
}

// ready waits until the server answers.
func (a *actor) ready(ctx context.Context) error {
	for ctx.Err() == nil {
		if a.pid() == 0 {
			return errors.New(a.name + " did not come up; what it says above tells why")
		}
		if _, err := a.client().Status(ctx); err == nil {
			return nil
		}
		time.Sleep(50 * time.Millisecond)
	}
	return ctx.Err()
}

// serves is where the server hears relays of both families; not valid: none of IPv6.
func (a *actor) serves(ctx context.Context) (four, six netip.AddrPort, err error) {
	status, err := a.client().Status(ctx)
	if err != nil {
		return four, six, err
	}
	if status.DHCP6 != "" {
		if six, err = netip.ParseAddrPort(status.DHCP6); err != nil {
			return four, six, err
		}
	}
	four, err = netip.ParseAddrPort(status.DHCP4)
	return four, six, err
}

// freeBeside finds a port that nobody listens on, beside that of an address and some ports
// further: a port that the kernel chooses could be somebody else's before it is used. Another
// host than the address's can be named.
func freeBeside(address, at string, further int) (string, error) {
	host, port, err := net.SplitHostPort(address)
	if err != nil {
		return "", fmt.Errorf("%s: write an address and a port", address)
	}
	var n int
	if _, err := fmt.Sscan(port, &n); err != nil {
		return "", fmt.Errorf("%s: write an address and a port", address)
	}
	var last error
	for i := 1; i < 20; i++ {
		l, err := net.Listen("tcp", net.JoinHostPort(cmp.Or(at, host), fmt.Sprint(n+further+i)))
		if err != nil {
			last = err
			continue
		}
		found := l.Addr().String()
		return found, cmp.Or(l.Close(), nil)
	}
	return "", last
}

// prefixed writes lines behind a server's name.
type prefixed struct {
	name string
	to   io.Writer
	rest []byte
}

func (p *prefixed) Write(b []byte) (int, error) {
	p.rest = append(p.rest, b...)
	for {
		line, rest, whole := bytes.Cut(p.rest, []byte("\n"))
		if !whole {
			return len(b), nil
		}
		if _, err := fmt.Fprintf(p.to, "%-8s %s\n", p.name, line); err != nil {
			return 0, err
		}
		p.rest = append([]byte(nil), rest...)
	}
}
