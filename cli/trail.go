package cli

import (
	"flag"
	"fmt"
	"strings"
	"time"

	"yarnpost/core/option"
)

func trailCommands() []command {
	return []command{{name: "trail", args: "[TEXT]",
		short: "What people did, latest first: changes of the plan and all else, on both servers of a pair", most: 1,
		more: "  yarnpost trail \"ended a lease\" --since 7d\n  yarnpost trail 10.40.8.31",
		flags: func(f *flag.FlagSet) func(*call) error {
			limit := f.Int("limit", 30, "at most this `number`")
			since := f.String("since", "", "how far `back`, such as 7d (default: all)")
			return func(k *call) error {
				var from time.Time
				if *since != "" {
					span, err := option.ParseDuration(*since)
					if err != nil {
						return usagef("--since: %v", err)
					}
					from = time.Now().Add(-span)
				}
				page, err := k.client.Trail(k.ctx, strings.Join(k.args, " "), from, *limit)
				if err != nil {
					return err
				}
				t := newTable("When", "Who", "Asked", "Did", "Why", "What came of it").without("Asked").folding("Did", "Why", "What came of it")
				for _, d := range page.Items {
					did := d.Deed
					if d.Subject != "" {
						did += ": " + d.Subject
					}
					asked := strings.TrimSpace(d.Server + " from " + d.From)
					if d.From == "" {
						asked = d.Server
					}
					t.row(k.when(d.At), d.Who, asked, did, d.Reason, d.Detail)
				}
				defer k.most(len(page.Items), *limit)
				for _, name := range page.Missing {
					defer fmt.Fprintf(k.err, "What was done at %s is missing: it cannot be asked now.\n", name)
				}
				return k.show(page.Items, t, "Nobody did anything that fits.")
			}
		}}}
}
