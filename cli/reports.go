package cli

import (
	"flag"
	"fmt"
	"time"

	"yarnpost/api"
)

// compareAuditsCommand says what changed between two audits.
func compareAuditsCommand() command {
	return command{name: "audit compare", args: "FROM [TO]", short: "What changed between the audits of two dates", least: 1, most: 2,
		more: "  yarnpost audit compare 2026-11-01\n  yarnpost audit compare \"2026-11-01 08:00\" 2026-11-15",
		flags: func(f *flag.FlagSet) func(*call) error {
			return func(k *call) error {
				from, err := past(k.args[0])
				if err != nil {
					return err
				}
				var to time.Time
				if len(k.args) > 1 {
					if to, err = past(k.args[1]); err != nil {
						return err
					}
				}
				d, err := k.client.CompareAudits(k.ctx, from, to)
				if err != nil {
					return err
				}
				t := newTable("", "SEVERITY", "WHAT", "SUBJECT", "SEEN").folding("WHAT")
				for _, f := range d.Came {
					t.row("came", f.Severity, f.Text, f.Subject, k.when(f.First))
				}
				for _, f := range d.Went {
					gone := ""
					if f.Gone != nil {
						gone = "until " + k.when(*f.Gone)
					}
					t.row("went", f.Severity, f.Text, f.Subject, gone)
				}
				if err := k.show(d, t, "Nothing changed."); err != nil || k.json || k.csv {
					return err
				}
				stamp := func(r api.AuditRun) string { return r.At.Local().Format("2006-01-02 15:04") }
				fmt.Fprintf(k.out, "\nFrom the audit of %s to that of %s: %s.\n", stamp(d.From), stamp(d.To), d.Text)
				return nil
			}
		}}
}

// reportsCommand lists the scheduled reports.
func reportsCommand() command {
	return command{name: "audit reports", short: "Reports that were made on schedule, newest first", most: 0,
		more: "  yarnpost audit report --number 12 --out week.html      writes one",
		flags: func(f *flag.FlagSet) func(*call) error {
			return func(k *call) error {
				list, err := k.client.Reports(k.ctx)
				if err != nil {
					return err
				}
				t := newTable("NUMBER", "WHEN", "SAYS", "SIZE").folding("SAYS")
				for _, r := range list {
					t.row(fmt.Sprint(r.Number), k.when(r.At), r.Text, fmt.Sprintf("%d kB", r.Size>>10))
				}
				return k.show(list, t, "No report was made on schedule yet; yarnpost audit schedule says when one is.")
			}
		}}
}

// scheduleCommand tells and sets when reports are made.
func scheduleCommand() command {
	return command{name: "audit schedule", short: "When reports are made, kept, and sent where alerts go; with --every or --off sets that", most: 0, write: true,
		more: "  yarnpost audit schedule --every 7d --from \"2026-12-07 06:00\" --keep 12\n  yarnpost audit schedule --off",
		flags: func(f *flag.FlagSet) func(*call) error {
			every := f.String("every", "", "`time` between two reports, such as 1d or 7d")
			from := f.String("from", "", "`time` of the first; the others follow at the same distance")
			keep := f.Int("keep", 12, "`number` of reports that are kept")
			off := f.Bool("off", false, "make none any more")
			return func(k *call) error {
				if *off && *every != "" {
					return usagef("choose one of --every and --off")
				}
				if *every == "" && !*off {
					if given(f, "from") || given(f, "keep") {
						return usagef("--every says how far apart reports are, as --every 7d")
					}
					c, err := k.client.ReportSchedule(k.ctx)
					if err != nil {
						return err
					}
					return k.schedule(c)
				}
				in := api.ReportSchedule{Every: *every, Keep: *keep}
				if *from != "" {
					var err error
					if in.Begins, err = past(*from); err != nil {
						return err
					}
				}
				if k.dryRun {
					return k.schedule(in)
				}
				c, err := k.client.SetReportSchedule(k.ctx, in)
				if err != nil {
					return err
				}
				return k.schedule(c)
			}
		}}
}

func (k *call) schedule(c api.ReportSchedule) error {
	if k.json || k.csv {
		return k.show(c, newTable(), "")
	}
	switch {
	case c.Every == "":
		fmt.Fprintln(k.out, "No report is made. yarnpost audit schedule --every 7d has one made each week.")
	case c.Next == nil:
		fmt.Fprintf(k.out, "A report would be made every %s, and %d kept.\n", c.Every, c.Keep)
	default:
		fmt.Fprintf(k.out, "A report is made every %s, next %s; %d are kept.\n", c.Every, c.Next.Local().Format("2006-01-02 15:04"), c.Keep)
	}
	return nil
}
