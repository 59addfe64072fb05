package main

import (
	"context"
	"fmt"
	"net/netip"
	"os"
	"time"

	"yarnpost/api"
	"yarnpost/core/addr"
)

// define6 gives the service one scope of IPv6, whose relay the plan names.
func (s *service) define6(ctx context.Context) error {
	subnet, mode, lease, unlimited, relays := "2001:db8:40::/64", "serving", "8h", -1, []string{"2001:db8:40::1"}
	_, err := s.client.Change(ctx, api.ChangeRequest{Edits: []api.Edit{
		{Op: "add", Kind: "scope", Name: "bench6", Scope: &api.ScopeEdit{Subnet: &subnet, Pools: &[]string{"all"}, Mode: &mode, Lease: &lease,
			NewPerMinute: &unlimited, Options: map[string]string{"v6/dns-servers": "2001:db8:40::53", "v6/domain-list": "bench.example"}}},
		{Op: "edit", Kind: "link", Name: "bench6", Link: &api.LinkEdit{Relays: &relays}}}})
	return err
}

// throughSix measures durable exchanges of IPv6, side by side with an echo loop that moves the
// same packets.
func (s *service) throughSix(self string, pairs int, span time.Duration) error {
	ctx := context.Background()
	status, err := s.client.Status(ctx)
	if err != nil {
		return err
	}
	at, err := netip.ParseAddrPort(status.DHCP6)
	if err != nil {
		return fmt.Errorf("the service serves no DHCPv6: %w", err)
	}
	duid, err := addr.ParseDUID(status.DUID)
	if err != nil {
		return err
	}
	if err := s.define6(ctx); err != nil {
		return err
	}
	speak, err := newDialect6([]byte(duid))
	if err != nil {
		return err
	}
	echoAt, err := freePort("udp6")
	if err != nil {
		return err
	}
	echo, err := child(os.Stderr, self, "-echo", echoAt.String())
	if err != nil {
		return err
	}
	defer func() { echo.Process.Kill(); echo.Wait() }()
	time.Sleep(200 * time.Millisecond)
	ceiling, err := generatorOf(echoAt, true, speak)
	if err != nil {
		return err
	}
	load, err := generatorOf(at, false, speak)
	if err != nil {
		return err
	}
	load.closed(2*time.Second, outstanding)
	ceiling.closed(time.Second, outstanding)
	fmt.Printf("\nThe same with IPv6, in a /64:\n")
	var ratios []float64
	for i := range pairs {
		e, d := ceiling.closed(span, outstanding), load.closed(span, outstanding)
		ratios = append(ratios, d.rate()/e.rate())
		fmt.Printf("  pair %d: echo %7.0f/s   service %7.0f/s   ratio %.3f   sent again %d\n", i+1, e.rate(), d.rate(), d.rate()/e.rate(),
			d.again)
	}
	fmt.Printf("  service ÷ echo, median                 %.3f   (bar 0.20, goal 0.40)\n", median(ratios))
	return nil
}
