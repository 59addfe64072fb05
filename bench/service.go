package main

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"net"
	"net/netip"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"syscall"
	"time"

	"github.com/jackc/pgx/v5"

	"yarnpost/api"
	"yarnpost/client"
)

// service is a real service process with data of its own.
type service struct {
	dir     string
	udp     netip.AddrPort // where it serves DHCPv4
	args    []string
	process *exec.Cmd
	client  *client.Client
}

// newService builds the service, starts it on ports of its own unless it is told
// otherwise, and gives it one large scope.
func newService(args ...string) (*service, error) {
	dir, err := os.MkdirTemp("", "yarnpost-bench-")
	if err != nil {
		return nil, err
	}
	if err := os.Chmod(dir, 0o755); err != nil {
		return nil, err
	}
	s := &service{dir: dir, udp: netip.MustParseAddrPort("127.0.0.1:67")}
	web, err := freePort("tcp")
	if len(args) == 0 && err == nil {
		s.udp, err = freePort("udp")
		six, none := freePort("udp6")
		if err == nil {
			err = none
		}
		args = []string{"--dhcp4", s.udp.String(), "--dhcp6", six.String()}
	}
	s.args = append([]string{"serve", "--data", dir, "--http", web.String()}, args...)
	if err == nil {
		var out []byte
		if out, err = exec.Command("go", "build", "-o", filepath.Join(dir, "yarnpostd"), "./cmd/yarnpostd").CombinedOutput(); err != nil {
			err = fmt.Errorf("build (run this from the top of the sources): %w: %s", err, out)
		}
	}
	if err == nil {
		err = s.start()
	}
	if err == nil {
		err = s.define(web)
	}
	if err != nil {
		text, _ := os.ReadFile(filepath.Join(dir, "log"))
		s.close()
		return nil, fmt.Errorf("%w\n%s", err, text)
	}
	return s, nil
}

func (s *service) start() error {
	log, err := os.Create(filepath.Join(s.dir, "log"))
	if err != nil {
		return err
	}
	defer log.Close() // the process has its own
	s.process, err = child(log, filepath.Join(s.dir, "yarnpostd"), s.args...)
	return err
}

func (s *service) stop() {
	if s.process != nil {
		s.process.Process.Signal(syscall.SIGTERM)
		s.process.Wait()
		s.process = nil
	}
}

func (s *service) close() {
	s.stop()
	os.RemoveAll(s.dir)
}

func (s *service) dsn() string {
	return "postgres:///postgres?user=yarnpost&host=" + filepath.Join(s.dir, "socket")
}

func (s *service) database(ctx context.Context) (*pgx.Conn, error) { return pgx.Connect(ctx, s.dsn()) }

// settleLog brings the database's write-ahead log to where it is after its first
// hours: its files exist and are used again, instead of being made anew.
func (s *service) settleLog() error {
	ctx := context.Background()
	conn, err := s.database(ctx)
	if err != nil {
		return err
	}
	defer conn.Close(ctx)
	for range 60 {
		if _, err := conn.Exec(ctx, "select pg_logical_emit_message(false, 'bench', 'settle'), pg_switch_wal()"); err != nil {
			return err
		}
	}
	_, err = conn.Exec(ctx, "checkpoint")
	return err
}

// define waits for the service and gives it one large scope.
func (s *service) define(web netip.AddrPort) error {
	err := errors.New("the service does not start")
	for range 300 {
		time.Sleep(100 * time.Millisecond)
		token, missing := os.ReadFile(filepath.Join(s.dir, "admin.token"))
		if missing != nil {
			continue
		}
		s.client = client.New("http://"+web.String(), string(bytes.TrimSpace(token)))
		subnet, mode, lease, unlimited := "10.0.0.0/8", "serving", "8h", -1
		_, err = s.client.Change(context.Background(),
			api.ChangeRequest{Edits: []api.Edit{{Op: "add", Kind: "scope", Name: "bench",
				Scope: &api.ScopeEdit{Subnet: &subnet, Pools: &[]string{"all"},
					Mode: &mode, Lease: &lease, NewPerMinute: &unlimited,
					Options: map[string]string{"router": "10.255.0.1", "domain-server": "10.0.0.53", "domain-name": "bench.example",
						"ntp-servers": "10.0.0.42"}}}}})
		if err == nil {
			return nil
		}
		if !strings.Contains(err.Error(), "cannot reach") {
			return err
		}
	}
	return err
}

// child starts a process that ends with this one.
func child(output io.Writer, path string, args ...string) (*exec.Cmd, error) {
	cmd := exec.Command(path, args...)
	cmd.Stderr = output
	cmd.SysProcAttr = &syscall.SysProcAttr{Pdeathsig: syscall.SIGTERM}
	return cmd, cmd.Start()
}

func freePort(network string) (netip.AddrPort, error) {
	if network == "tcp" {
		l, err := net.Listen("tcp", "127.0.0.1:0")
		if err != nil {
			return netip.AddrPort{}, err
		}
		defer l.Close()
		return l.Addr().(*net.TCPAddr).AddrPort(), nil
	}
	at := net.IPv4(127, 0, 0, 1)
	if network == "udp6" {
		at = net.IPv6loopback
	}
	c, err := net.ListenUDP(network, &net.UDPAddr{IP: at})
	if err != nil {
		return netip.AddrPort{}, err
	}
	defer c.Close()
	return c.LocalAddr().(*net.UDPAddr).AddrPort(), nil
}
