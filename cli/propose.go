package cli

import (
	"flag"
	"fmt"
	"net/netip"
	"os"
	"slices"
	"strings"

	"yarnpost/core/addr"
	"yarnpost/movein"
)

func proposeCommand() command {
	return command{name: "plan propose", args: "FILE…", least: 1, most: -1, offline: true,
		short: "Propose a plan file from what another server leaves behind: ethers, hosts, tables, captures; no server is asked",
		more: "  yarnpost plan propose /etc/ethers /etc/hosts --scope looms=10.40.8.0/22 > looms.yaml\n" +
			"  yarnpost plan propose devices.csv --column hardware=\"MAC of port\" --column address=IP\n" +
			"  yarnpost plan propose --from capture day.pcapng > found.yaml\n" +
			"  yarnpost plan propose --leases leases.csv day.pcapng > found.yaml      then yarnpost sheet apply leases leases.csv\n" +
			"  Each item says above it where it was found. What could not be moved in goes to standard error.",
		flags: func(f *flag.FlagSet) func(*call) error {
			from := f.String("from", "", "what the files are: ethers, hosts, csv or capture (default: as they look)")
			columns, scopes := map[string]string{}, map[string]netip.Prefix{}
			f.Func("column", "`field=heading` of a table: "+strings.Join(movein.Fields, ", ")+" (repeatable)", func(v string) error {
				field, heading, ok := strings.Cut(v, "=")
				if !ok || !slices.Contains(movein.Fields, field) {
					return fmt.Errorf("write one of %s, and the heading behind =", strings.Join(movein.Fields, ", "))
				}
				columns[field] = heading
				return nil
			})
			f.Func("scope", "`name=subnet` of a scope that addresses may be in (repeatable)", func(v string) error {
				name, subnet, ok := strings.Cut(v, "=")
				p, err := addr.ParseSubnet(subnet)
				if !ok || err != nil {
					return fmt.Errorf("write a name and a subnet, as looms=10.40.8.0/22")
				}
				scopes[name] = p
				return nil
			})
			leases := f.String("leases", "", "`file` for a sheet of the leases that clients of captures hold, so that they keep their addresses")
			everybody := f.Bool("keep", false, "reserve for each client of a capture what it holds")
			return func(k *call) error {
				var sources []movein.Source
				for _, name := range k.args {
					b, err := os.ReadFile(name)
					if err != nil {
						return err
					}
					sources = append(sources, movein.Source{Name: name, Kind: *from, Data: b})
				}
				p, err := movein.Propose(sources, movein.Options{Columns: columns, Scopes: scopes, Everybody: *everybody})
				if err != nil {
					return err
				}
				if _, err := k.out.Write(p.File); err != nil {
					return err
				}
				if *leases != "" {
					if err := writeFile(*leases, p.Leases); err != nil {
						return err
					}
				}
				for _, l := range p.Left {
					fmt.Fprintln(k.err, "Left out: "+harmless(l.String()))
				}
				fmt.Fprintf(k.err, "Proposed: %s, %s, %s; %d left out.\n", many(p.Scopes, "scope"), many(p.Reservations, "reservation"),
					many(p.Exclusions, "exclusion"), len(p.Left))
				return nil
			}
		}}
}
