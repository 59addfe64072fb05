package main

import (
	"context"
	"errors"
	"flag"
	"fmt"
	"net/netip"
	"os"
	"slices"
	"strings"
	"text/tabwriter"
	"time"

	"yarnpost/core/addr"
	"yarnpost/core/option"
	"yarnpost/service/trial"
)

const trialUsage = `yarnpostd trial sits down on a link as a client, on any host but the server's
own: it says which servers offer what, takes the first offer, shows what it was
given, and gives it back.

  yarnpostd trial --interface eth1 --vendor "deskphone 7" --wants 66,150
  yarnpostd trial --interface eth1 --ipv6 --prefix

`

// shownAbove are the options of a reply that stand above its list, or are its own.
var shownAbove = map[option.Family][]uint16{option.V4: {option.MessageType},
	option.V6: {option.ClientID6, option.ServerID6, option.IANA, option.IAPD}}

func sit(ctx context.Context, args []string) error {
	f := flag.NewFlagSet("yarnpostd trial", flag.ContinueOnError)
	f.Usage = func() { fmt.Fprint(f.Output(), trialUsage); f.PrintDefaults() }
	name := f.String("interface", "", "sit on the link of the interface of this `name`")
	vendor := f.String("vendor", "", "vendor `class` to tell")
	six := f.Bool("ipv6", false, "as a client of IPv6, from the interface's link-local address")
	prefix := f.Bool("prefix", false, "with --ipv6: have a prefix delegated as well")
	hw := addr.Hardware("\x02\x79\x00\x00\x00\x01")
	f.Func("hw", "hardware `address` to use, with IPv6 in the DUID (default 02:79:00:00:00:01)", func(v string) (err error) {
		hw, err = addr.ParseHardware(v)
		if err == nil && len(hw) != 6 {
			err = errors.New("an Ethernet address has 6 octets")
		}
		return err
	})
	asks := f.String("wants", "", "`options` to ask for, by code or name, with commas")
	if err := f.Parse(args); err != nil {
		return err
	}
	if *name == "" || f.NArg() > 0 {
		return errors.New("yarnpostd trial needs --interface and no other words; yarnpostd trial -h lists the flags")
	}
	if *prefix && !*six {
		return errors.New("prefixes are delegated with IPv6 alone; add --ipv6")
	}
	family, down := option.V4, trial.SitDown
	wants := []uint16{option.SubnetMask, option.Router, option.DomainServer, option.DomainName}
	if *six {
		family, down = option.V6, trial.SitDown6
		wants = []uint16{option.DNSServers6, option.DomainList6}
	}
	if *asks != "" {
		if wants = nil; !*six {
			wants = []uint16{option.SubnetMask}
		}
		for _, text := range splitList(*asks) {
			d, err := option.Standard(family).Lookup(text)
			if err != nil {
				return fmt.Errorf("--wants: %w", err)
			}
			wants = append(wants, d.Code)
		}
	}
	seen, err := down(ctx, *name, trial.Sitting{Hardware: hw, Vendor: *vendor, Wants: wants, Prefix: *prefix}, logger())
	w := tabwriter.NewWriter(os.Stdout, 0, 8, 2, ' ', 0)
	for _, o := range seen.Offers {
		fmt.Fprintf(w, "offer\t%s from server %s\t%s\n", keysText(o.Keys), o.Server, o.Took.Round(100*time.Microsecond))
	}
	if seen.Given != nil {
		fmt.Fprintf(w, "%s\t%s\t%s\n", seen.Given.Name(), keysText(seen.Keys), seen.Took.Round(100*time.Microsecond))
		for code, data := range seen.Given.Each() {
			if d := option.Standard(family).ByCode(code); !slices.Contains(shownAbove[family], code) {
				fmt.Fprintf(w, "  %d %s\t%s\n", code, d.Name(), d.Type.Format(data))
			}
		}
	}
	if err == nil {
		fmt.Fprintf(w, "given back\t%s\n", keysText(seen.Keys))
	}
	w.Flush()
	return err
}

// keysText lists addresses and prefixes.
func keysText(keys []netip.Prefix) string {
	var out []string
	for _, k := range keys {
		out = append(out, addr.FormatKey(k))
	}
	return strings.Join(out, " and ")
}
