package cli

import (
	"bufio"
	"cmp"
	"context"
	"errors"
	"flag"
	"fmt"
	"net/netip"
	"os"
	"slices"
	"strings"
	"time"

	"yarnpost/api"
	"yarnpost/client"
	"yarnpost/core/capacity"
	"yarnpost/core/option"
)

// ExitFindings is the exit code of an audit that found something at or above the
// severity that matters.
const ExitFindings = 5

var errFindings = errors.New("there are findings")

var severities = []string{"note", "warning", "trouble"}

// findingFlags narrow findings.
func findingFlags(f *flag.FlagSet) *client.FindingQuery {
	q := &client.FindingQuery{}
	f.StringVar(&q.Severity, "severity", "",
		"only this `severity` and worse: note, warning or trouble; the exit code is 5 if there is one")
	f.StringVar(&q.Area, "area", "", "only this `area`: plan, leases, pair or service")
	f.StringVar(&q.Code, "code", "", "only this `code`")
	f.StringVar(&q.Scope, "scope", "", "only of this `scope`")
	f.StringVar(&q.Search, "search", "", "only with this `text` in it")
	f.BoolVar(&q.Open, "open", false, "without what is acknowledged")
	return q
}

func auditCommands() []command {
	return []command{
		{name: "audit run", short: "Make an audit now; exit code 5 if it finds anything at or above --severity that nobody acknowledged", most: 0,
			more: "  yarnpost audit run --severity warning\n  ip neigh | yarnpost audit run --neighbours -\n  ip -6 route > routes && yarnpost audit run --routes routes",
			flags: func(f *flag.FlagSet) func(*call) error {
				q := findingFlags(f)
				from := f.String("neighbours", "",
					"`file` of addresses and hardware addresses that the network knows, one pair a line (- for standard input); audits know them until the next file, and an empty one forgets them")
				routes := f.String("routes", "",
					"`file` of the routes of whoever routes delegated prefixes, one a line (- for standard input); audits know them until the next file, and an empty one forgets them")
				return func(k *call) error {
					o := api.AuditOrder{Named: *from != "", Routed: *routes != ""}
					var err error
					if o.Neighbours, err = readNeighbours(*from); err != nil {
						return err
					}
					if o.Routes, err = readRoutes(*routes); err != nil {
						return err
					}
					if _, err := k.client.RunAudit(k.ctx, o); err != nil {
						return err
					}
					return k.findings(*q)
				}
			}},
		{name: "audit list", short: "What the last audit found, the worst first; exit code 5 as with audit run", most: 0,
			flags: func(f *flag.FlagSet) func(*call) error {
				q := findingFlags(f)
				gone := f.Int("gone", 0, "instead what went in the last so many `days`")
				return func(k *call) error {
					if *gone > 0 {
						return k.goneFindings(*gone)
					}
					return k.findings(*q)
				}
			}},
		{name: "audit show", args: "SUBJECT", short: "All there is to know of findings, by subject, code or part of them", least: 1,
			most:  1,
			flags: func(*flag.FlagSet) func(*call) error { return func(k *call) error { return k.showFindings(k.args[0]) } }},
		{name: "audit acknowledge", args: "FINDING …",
			short: "Say that findings are known and may stay until a date; FINDING is code and subject, as audit list --json has them, or a part of one",
			least: 1, most: -1, write: true,
			more: "  yarnpost audit acknowledge \"no-pool scope stores\" --until 2027-03-31 --reason \"reserved clients only, by agreement\"\n" +
				"  yarnpost audit acknowledge \"no-pool scope stores\" --withdraw",
			flags: func(f *flag.FlagSet) func(*call) error {
				until := f.String("until", "30d", "a `date`, or for how long: 2027-03-31, 30d")
				withdraw := f.Bool("withdraw", false, "take an acknowledgement back")
				return func(k *call) error { return k.acknowledge(*until, *withdraw) }
			}},
		{name: "audit report", short: "The last audit with all its reader has to know, in one file of HTML", most: 0,
			flags: func(f *flag.FlagSet) func(*call) error {
				out := f.String("out", "yarnpost-audit.html", "`file` to write (- for standard output)")
				number := f.Int64("number", 0, "instead the scheduled report of this `number`")
				return func(k *call) error {
					read := k.client.AuditReport
					if *number > 0 {
						read = func(ctx context.Context) ([]byte, error) { return k.client.Report(ctx, *number) }
					}
					b, err := read(k.ctx)
					if err != nil {
						return err
					}
					if *out == "-" {
						_, err = k.out.Write(b)
						return err
					}
					if err := os.WriteFile(*out, b, 0o644); err != nil {
						return err
					}
					fmt.Fprintf(k.out, "The report is in %s (%d kB).\n", *out, len(b)>>10)
					return nil
				}
			}},
		{name: "audit runs", short: "The audits that were made, newest first", most: 0,
			flags: func(*flag.FlagSet) func(*call) error {
				return func(k *call) error {
					list, err := k.client.Audits(k.ctx)
					if err != nil {
						return err
					}
					t := newTable("WHEN", "WHY", "LEASES", "TROUBLES", "WARNINGS", "NOTES", "TOOK")
					for _, r := range list {
						t.row(k.when(r.At), r.Why, fmt.Sprint(r.Leases), fmt.Sprint(r.Troubles), fmt.Sprint(r.Warnings),
							fmt.Sprint(r.Notes), fmt.Sprintf("%.1f s", r.Took))
					}
					return k.show(list, t, "No audit was made yet; yarnpost audit run makes one.")
				}
			}},
		compareAuditsCommand(), reportsCommand(), scheduleCommand(),
		{name: "audit codes", args: "[CODE]", short: "Every kind of finding, and what it means", most: 1,
			flags: func(*flag.FlagSet) func(*call) error { return func(k *call) error { return k.findingCodes() } }},
		{name: "sweep list", short: "What could be cleared: abandoned addresses, unclaimed reservations, stale records", most: 0,
			flags: func(f *flag.FlagSet) func(*call) error {
				in := sweepFlags(f)
				return func(k *call) error { return k.sweep(*in, false) }
			}},
		{name: "sweep run", short: "Clear it: a preview, until --yes", most: 0, write: true,
			more: "  yarnpost sweep run --kind abandoned --scope scanners\n  yarnpost sweep run --kind unclaimed --yes\n  yarnpost sweep run --kind stale --older 180d --yes",
			flags: func(f *flag.FlagSet) func(*call) error {
				in := sweepFlags(f)
				return func(k *call) error { return k.sweep(*in, true) }
			}},
	}
}

// readNeighbours reads a table of neighbours from a file, or standard input for "-", in
// whatever way programs print it. Lines of link-local addresses and of what did not answer are passed over.
func readNeighbours(name string) ([]api.Neighbour, error) {
	var out []api.Neighbour
	err := eachLine(name, func(n int, text string) error {
		// An address and a hardware address stand somewhere in the line, as most
		// programs that show neighbours write it.
		var a, hw string
		other := false // it is of IPv6, where tables have much that tells nothing
		for _, word := range strings.FieldsFunc(text, func(r rune) bool { return strings.ContainsRune(" \t,;()[]", r) }) {
			at, err := netip.ParseAddr(word)
			switch {
			case err == nil && at.Is6():
				if other = true; a == "" && !at.IsLinkLocalUnicast() {
					a = word
				}
			case hw == "" && looksLikeHardware(word):
				hw = word
			case a == "" && strings.Count(word, ".") == 3 && !strings.ContainsAny(word, "/"):
				a = word
			}
		}
		switch {
		case a != "" && hw != "":
			out = append(out, api.Neighbour{Address: a, Hardware: hw, Source: cmp.Or(strings.TrimPrefix(name, "-"), "standard input")})
		case text == "" || other || strings.HasPrefix(text, "#") || a == "" && hw == "" || strings.Contains(text, "FAILED") ||
			strings.Contains(text, "INCOMPLETE") || strings.Contains(text, "incomplete"):
		default:
			return fmt.Errorf("%s, line %d: an address and a hardware address are needed: %q", name, n, text)
		}
		return nil
	})
	return out, err
}

// eachLine reads a file, or standard input for "-", line by line; no name is no line.
func eachLine(name string, each func(n int, text string) error) error {
	if name == "" {
		return nil
	}
	in := os.Stdin
	if name != "-" {
		file, err := os.Open(name)
		if err != nil {
			return err
		}
		defer file.Close()
		in = file
	}
	lines := bufio.NewScanner(in)
	for n := 1; lines.Scan(); n++ {
		if err := each(n, strings.TrimSpace(strings.TrimPrefix(lines.Text(), "\ufeff"))); err != nil {
			return err
		}
	}
	return lines.Err()
}

// readRoutes reads a table of routes, in whatever way routers print it: the first prefix of a line is
// what is routed, and the rest says where to. Lines of IPv4, of single hosts and without a prefix
// are passed over.
func readRoutes(name string) (out []api.Route, err error) {
	err = eachLine(name, func(_ int, text string) error {
		for _, word := range strings.FieldsFunc(text, func(r rune) bool { return strings.ContainsRune(" \t,;()[]*", r) }) {
			p, err := netip.ParsePrefix(word)
			if err != nil || !p.Addr().Is6() || p.Bits() == 128 || p.Addr().IsMulticast() || p.Addr().IsLinkLocalUnicast() {
				continue
			}
			_, rest, _ := strings.Cut(text, word)
			out = append(out, api.Route{Prefix: p.Masked().String(), Via: cmp.Or(strings.TrimSpace(rest), "somewhere"),
				Source: cmp.Or(strings.TrimPrefix(name, "-"), "standard input")})
			break
		}
		return nil
	})
	return out, err
}

func looksLikeHardware(word string) bool {
	bare := strings.NewReplacer(":", "", "-", "", ".", "").Replace(word)
	return len(bare) == 12 && strings.Trim(strings.ToLower(bare), "0123456789abcdef") == "" && strings.ContainsAny(word, ":-.")
}

func (k *call) findings(q client.FindingQuery) error {
	if q.Severity != "" && !slices.Contains(severities, q.Severity) {
		return usagef("--severity is note, warning or trouble, and not %q", q.Severity)
	}
	r, err := k.client.Audit(k.ctx, q)
	if err != nil {
		return err
	}
	t := newTable("SEVERITY", "FINDING", "WHAT", "SINCE", "").without("SINCE").folding("FINDING", "WHAT")
	for _, f := range r.Findings {
		mark := ""
		switch {
		case f.Known != nil:
			mark = "known to " + f.Known.By + " until " + f.Known.Until.Format(time.DateOnly)
		case f.New:
			mark = "new"
		}
		t.row(f.Severity, f.Key, f.Text, k.when(f.First), mark)
	}
	switch {
	case k.json:
		err = k.show(r, nil, "")
	case k.csv:
		err = csvOf(k.out, r.Findings)
	default:
		if err = k.show(r.Findings, t, "Nothing was found."); err == nil {
			fmt.Fprintf(k.out, "\n%s, %s, %s, %d acknowledged; %d new and %d gone since the audit before. Made %s, in %.1f s, of %s.\n",
				many(r.Troubles, "trouble"), many(r.Warnings, "warning"), many(r.Notes, "note"), r.Known, r.Fresh, len(r.Gone),
				k.when(r.At), r.Took, many(r.Leases, "lease"))
			if r.Lost != "" {
				fmt.Fprintf(k.out, "It is not on record: %s.\n", r.Lost)
			}
		}
	}
	if err == nil && slices.ContainsFunc(r.Findings, func(f api.Finding) bool { return f.Known == nil }) {
		err = errFindings
	}
	return err
}

func (k *call) goneFindings(days int) error {
	list, err := k.client.PastFindings(k.ctx, days)
	if err != nil {
		return err
	}
	t := newTable("GONE", "SEVERITY", "FINDING", "WHAT IT WAS", "SINCE").without("SINCE").folding("FINDING", "WHAT IT WAS")
	for _, f := range list {
		t.row(k.when(*f.Gone), f.Severity, f.Key, f.Text, k.when(f.First))
	}
	return k.show(list, t, fmt.Sprintf("Nothing went in the last %d days.", days))
}

// named lists the findings that a text means: the one with that key, or those with
// it in code, subject or key.
func (k *call) named(text string) ([]api.Finding, error) {
	r, err := k.client.Audit(k.ctx, client.FindingQuery{})
	if err != nil {
		return nil, err
	}
	var out []api.Finding
	for _, f := range r.Findings {
		if strings.EqualFold(f.Key, text) {
			return []api.Finding{f}, nil
		}
		if strings.Contains(strings.ToLower(f.Key), strings.ToLower(text)) {
			out = append(out, f)
		}
	}
	if len(out) == 0 {
		return nil, fmt.Errorf("no finding of the last audit has %q in code or subject; yarnpost audit list shows them", text)
	}
	return out, nil
}

func (k *call) showFindings(text string) error {
	list, err := k.named(text)
	if err != nil {
		return err
	}
	if k.json || k.csv {
		return k.show(list, newTable(), "")
	}
	codes, err := k.client.FindingCodes(k.ctx)
	if err != nil {
		return err
	}
	for i, f := range list {
		if i > 0 {
			fmt.Fprintln(k.out)
		}
		t := newTable()
		t.row("finding", f.Key)
		t.row("severity", f.Severity)
		t.row("what", f.Text)
		if len(f.Examples) > 0 {
			t.row("such as", strings.Join(f.Examples, ", "))
		}
		t.row("since", k.when(f.First))
		if at := slices.IndexFunc(codes, func(c api.FindingCode) bool { return c.Code == f.Code }); at >= 0 {
			t.row("means", codes[at].Means)
			t.row("comes about", codes[at].Comes)
		}
		t.row("to do", f.Mend)
		if f.Command != "" {
			t.row("", "  "+f.Command)
		}
		if f.Known != nil {
			t.row("acknowledged", fmt.Sprintf("by %s until %s: %s", f.Known.By, f.Known.Until.Format(time.DateOnly), f.Known.Reason))
		}
		k.print(t)
	}
	return nil
}

func (k *call) acknowledge(until string, withdraw bool) error {
	in := api.Acknowledge{Reason: k.reason}
	if !withdraw {
		if strings.TrimSpace(k.reason) == "" {
			return usagef("say why the findings may stay: --reason \"…\"")
		}
		if d, err := option.ParseDuration(until); err == nil {
			in.Until = time.Now().Add(d)
		} else if in.Until, err = capacity.ParseTime(until, time.Local); err != nil {
			return usagef("--until: %q is neither a date such as 2027-03-31 nor a time such as 30d", until)
		}
	}
	for _, text := range k.args {
		list, err := k.named(text)
		if err != nil {
			return err
		}
		for _, f := range list {
			in.Keys = append(in.Keys, f.Key)
		}
	}
	if len(in.Keys) > len(k.args) && !k.yes {
		for _, key := range in.Keys {
			fmt.Fprintln(k.out, key)
		}
		return errPreview
	}
	if k.dryRun {
		fmt.Fprintf(k.out, "Would be acknowledged: %s.\n", strings.Join(in.Keys, "; "))
		return nil
	}
	list, err := k.client.Acknowledge(k.ctx, in)
	if err != nil {
		return err
	}
	if k.json || k.csv {
		return k.show(list, newTable(), "")
	}
	for _, f := range list {
		if f.Known == nil {
			fmt.Fprintf(k.out, "%s is no longer acknowledged.\n", f.Key)
		} else {
			fmt.Fprintf(k.out, "%s is acknowledged until %s.\n", f.Key, f.Known.Until.Format(time.DateOnly))
		}
	}
	return nil
}

func (k *call) findingCodes() error {
	list, err := k.client.FindingCodes(k.ctx)
	if err != nil {
		return err
	}
	if len(k.args) == 1 {
		list = slices.DeleteFunc(list, func(c api.FindingCode) bool { return c.Code != k.args[0] })
		if len(list) == 0 {
			return fmt.Errorf("no finding has the code %q; yarnpost audit codes lists all", k.args[0])
		}
		if !k.json && !k.csv {
			t := newTable()
			c := list[0]
			for _, r := range [][2]string{{"code", c.Code}, {"is", c.Title}, {"severity", c.Severity}, {"means", c.Means},
				{"comes about", c.Comes}, {"to do", c.Do}} {
				t.row(r[0], r[1])
			}
			k.print(t)
			return nil
		}
	}
	t := newTable("CODE", "AREA", "SEVERITY", "MEANS")
	for _, c := range list {
		t.row(c.Code, c.Area, c.Severity, c.Means)
	}
	return k.show(list, t, "")
}

func sweepFlags(f *flag.FlagSet) *api.SweepOrder {
	in := &api.SweepOrder{}
	f.StringVar(&in.Kind, "kind", "", "`what`: abandoned, unclaimed or stale (sweep list: all of them)")
	f.StringVar(&in.Scope, "scope", "", "only of this `scope`")
	f.StringVar(&in.Search, "search", "", "only with this `text` in name, client or host name")
	f.StringVar(&in.Search, "name", "", "the same as --search, for the `name` of a reservation")
	f.StringVar(&in.Older, "older", "", "only what has been so for this `time`, such as 90d")
	f.Var((*listFlag)(&in.Addresses), "address", "only this `address` (repeatable)")
	return in
}

var sweepKinds = []string{"abandoned", "unclaimed", "stale"}

func (k *call) sweep(in api.SweepOrder, run bool) error {
	if in.Kind != "" && !slices.Contains(sweepKinds, in.Kind) || run && in.Kind == "" {
		return usagef("--kind is abandoned, unclaimed or stale")
	}
	kinds := []string{in.Kind}
	if in.Kind == "" {
		kinds = sweepKinds
	}
	in.Confirm = run && k.yes && !k.dryRun
	var all api.Swept
	var texts []string
	for _, kind := range kinds {
		in.Kind = kind
		s, err := k.client.Sweep(k.ctx, in)
		if err != nil {
			return err
		}
		all.Items, all.Kept = append(all.Items, s.Items...), append(all.Kept, s.Kept...)
		all.Applied, all.Revision = s.Applied, s.Revision
		all.Text = s.Text
		texts = append(texts, fmt.Sprintf("%d %s", len(s.Items), kind))
	}
	if len(kinds) > 1 {
		all.Text = strings.Join(texts, ", ") + " would be cleared"
		if slices.ContainsFunc(all.Items, func(i api.SweptItem) bool { return i.Servers > 1 }) {
			all.Text += ", each counted once though both servers know of it"
		}
	}
	if k.json {
		if err := k.show(all, nil, ""); err != nil {
			return err
		}
	} else if k.csv {
		if err := csvOf(k.out, all.Items); err != nil {
			return err
		}
	} else {
		t := newTable("KIND", "SUBJECT", "SCOPE", "CLIENT", "SINCE", "WHAT").without("CLIENT", "SINCE")
		for _, i := range all.Items {
			t.row(i.Kind, i.Subject, i.Scope, i.Client, k.when(i.Since), i.Text)
		}
		k.print(t)
		for _, kept := range all.Kept {
			fmt.Fprintln(k.out, "Not cleared:", harmless(kept))
		}
		fmt.Fprintf(k.out, "%s.\n", all.Text)
	}
	if run && !in.Confirm && !k.dryRun && len(all.Items) > 0 {
		return errPreview
	}
	return nil
}

// many is a number with its word.
func many(n int, one string) string {
	if n == 1 {
		return "1 " + one
	}
	return fmt.Sprint(n, " ", one, "s")
}
