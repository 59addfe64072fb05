package main

import (
	"context"
	"errors"
	"flag"
	"fmt"
	"os"
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

`

func sit(ctx context.Context, args []string) error {
	f := flag.NewFlagSet("yarnpostd trial", flag.ContinueOnError)
	f.Usage = func() { fmt.Fprint(f.Output(), trialUsage); f.PrintDefaults() }
	name := f.String("interface", "", "sit on the link of the interface of this `name`")
	vendor := f.String("vendor", "", "vendor `class` to tell")
	hw := addr.Hardware("\x02\x79\x00\x00\x00\x01")
	f.Func("hw", "hardware `address` to use (default 02:79:00:00:00:01)", func(v string) (err error) {
		hw, err = addr.ParseHardware(v)
		if err == nil && len(hw) != 6 {
			err = errors.New("an Ethernet address has 6 octets")
		}
		return err
	})
	wants := []byte{option.SubnetMask, option.Router, option.DomainServer, option.DomainName}
	f.Func("wants", "`options` to ask for, by code or name, with commas", func(v string) error {
		wants = []byte{option.SubnetMask}
		for _, text := range splitList(v) {
			d, err := option.Standard4.Lookup(text)
			if err != nil {
				return err
			}
			wants = append(wants, byte(d.Code))
		}
		return nil
	})
	if err := f.Parse(args); err != nil {
		return err
	}
	if *name == "" || f.NArg() > 0 {
		return errors.New("yarnpostd trial needs --interface and no other words; yarnpostd trial -h lists the flags")
	}
	seen, err := trial.SitDown(ctx, *name, hw, *vendor, wants, logger())
	w := tabwriter.NewWriter(os.Stdout, 0, 8, 2, ' ', 0)
	for _, o := range seen.Offers {
		fmt.Fprintf(w, "offer\t%s from server %s\t%s\n", o.Address, o.Server, o.Took.Round(100*time.Microsecond))
	}
	if seen.Given != nil {
		fmt.Fprintf(w, "%s\t%s\t%s\n", seen.Given.Type, seen.Given.YIAddr, seen.Took.Round(100*time.Microsecond))
		for _, o := range seen.Given.Options {
			if d := option.Standard4.ByCode(uint16(o.Code)); o.Code != option.MessageType {
				fmt.Fprintf(w, "  %d %s\t%s\n", o.Code, d.Name(), d.Type.Format(o.Data))
			}
		}
	}
	if err == nil {
		fmt.Fprintf(w, "given back\t%s\n", seen.Given.YIAddr)
	}
	w.Flush()
	return err
}
