package main

import (
	"context"
	"flag"
	"fmt"
	"net/netip"

	"yarnpost/core/relay"
	"yarnpost/service/wire"
)

const relayUsage = `yarnpostd relay is the relay agent of a link: it sends what clients broadcast
there to servers elsewhere, with option 82, and brings the replies back. Servers
with IPv6 addresses get what clients of DHCPv6 say.

  yarnpostd relay --interface eth1 --to 10.77.0.1 --to 10.77.0.2
  yarnpostd relay --interface eth1 --to 10.77.0.1 --to 2001:db8:77::1

`

// relayConfig reads the flags of the relay agent.
func relayConfig(args []string) (wire.AgentConfig, error) {
	c := wire.AgentConfig{Log: logger()}
	f := flag.NewFlagSet("yarnpostd relay", flag.ContinueOnError)
	f.Usage = func() { fmt.Fprint(f.Output(), relayUsage); f.PrintDefaults() }
	f.Func("interface", "relay for clients on the interface of this `name` (repeatable)", func(v string) error {
		c.Interfaces = append(c.Interfaces, v)
		return nil
	})
	f.Func("to", "send to the server at this `address`, port 67 or 547 unless it says another (repeatable)", func(v string) error {
		at, err := netip.ParseAddrPort(v)
		if a, bare := netip.ParseAddr(v); bare == nil {
			at, err = netip.AddrPortFrom(a, wire.ServerPort), nil
			if a.Is6() {
				at = netip.AddrPortFrom(a, wire.ServerPort6)
			}
		}
		if err != nil || !at.Addr().Is4() && !at.Addr().Is6() || at.Addr().Is4In6() {
			return fmt.Errorf("write an address such as 10.77.0.1 or 2001:db8:77::1")
		}
		c.Servers = append(c.Servers, at)
		return nil
	})
	f.StringVar(&c.Circuit, "circuit", "", "circuit `id` of option 82, interface-id of DHCPv6 (default: the interface's name)")
	f.StringVar(&c.Remote, "remote", "", "remote `id` of option 82, or of option 37 (default: none)")
	f.BoolVar(&c.Bare, "bare", false, "add no option 82")
	hops := f.Uint("hops", relay.HopsMost, "drop what has taken this `number` of hops")
	port := f.Uint("source-port", 0, "send from this `port` and be answered there (RFC 8357); 0 for ports 67 and 547")
	if err := f.Parse(args); err != nil {
		return c, err
	}
	switch {
	case f.NArg() > 0:
		return c, fmt.Errorf("%q is not a flag; yarnpostd relay -h lists them", f.Arg(0))
	case *hops < 1 || *hops > relay.HopsMost:
		return c, fmt.Errorf("--hops goes from 1 to %d", relay.HopsMost)
	case *port > 65535:
		return c, fmt.Errorf("--source-port goes from 1 to 65535")
	case len(c.Circuit) > 200 || len(c.Remote) > 200:
		return c, fmt.Errorf("--circuit and --remote have 200 octets at most")
	}
	c.Hops, c.SourcePort = uint8(*hops), uint16(*port)
	return c, nil
}

func runRelay(ctx context.Context, args []string) error {
	c, err := relayConfig(args)
	if err != nil {
		return err
	}
	a, err := wire.NewAgent(c)
	if err != nil {
		return err
	}
	go func() { <-ctx.Done(); a.Close() }()
	err = a.Serve()
	c.Log.Info("relay stopped", "forwarded", a.Forwarded.Load(), "returned", a.Returned.Load(), "dropped", a.Dropped.Load())
	return err
}
