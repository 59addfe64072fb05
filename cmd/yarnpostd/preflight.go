package main

import (
	"context"
	"errors"
	"fmt"
	"net/netip"
	"os"
	"text/tabwriter"
	"time"

	"yarnpost/core/plan"
	"yarnpost/core/request"
	"yarnpost/service/preflight"
	"yarnpost/service/store"
	"yarnpost/service/trial"
)

// look says whether this host can serve, before it does.
func look(ctx context.Context, args []string) error {
	o, err := parse("preflight", args, options{data: "yarnpost-data", http: "127.0.0.1:8067", dhcp4: "0.0.0.0:67"})
	if err != nil {
		return err
	}
	at, err := netip.ParseAddrPort(o.dhcp4)
	if err != nil {
		return fmt.Errorf("--dhcp4 %s: write an address and a port like 0.0.0.0:67", o.dhcp4)
	}
	six, err := o.at6(at)
	if err != nil {
		return err
	}
	in := preflight.Input{DHCP4: at, DHCP6: six, Interfaces: o.interfaces, TakePort: true, Now: time.Now()}
	var p *plan.Plan
	in.Database = func(ctx context.Context) (err error) {
		p, err = store.Inspect(ctx, o.database, o.data)
		return err
	}
	if err := in.Database(ctx); err == nil {
		in.Plan = p
	}
	in.Servers = func(ctx context.Context, name string) ([]request.Server, error) {
		return trial.Servers(ctx, name, logger())
	}
	w := tabwriter.NewWriter(os.Stdout, 0, 8, 2, ' ', 0)
	trouble := false
	words := map[preflight.Status]string{preflight.Good: "ok", preflight.Warning: "WARN", preflight.Trouble: "BAD", preflight.Unknown: "?"}
	for _, c := range preflight.Run(ctx, in) {
		fmt.Fprintf(w, "%s\t%s\t%s\n", words[c.Status], c.Name, c.Text)
		if c.Mend != "" {
			fmt.Fprintf(w, "\t\t→ %s\n", c.Mend)
		}
		trouble = trouble || c.Status == preflight.Trouble
	}
	w.Flush()
	if trouble {
		return errors.New("this host cannot serve yet; the mend is below each BAD line")
	}
	return nil
}
