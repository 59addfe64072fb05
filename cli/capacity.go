package cli

import (
	"bufio"
	"cmp"
	"encoding/csv"
	"errors"
	"flag"
	"fmt"
	"io"
	"net/netip"
	"os"
	"strings"
	"time"

	"yarnpost/api"
	"yarnpost/core/addr"
	"yarnpost/core/capacity"
	"yarnpost/core/option"
)

func capacityCommands() []command {
	return []command{
		{name: "capacity list", short: "How full every scope, pool and link is, and when it runs out; the first first", most: 0,
			flags: func(f *flag.FlagSet) func(*call) error {
				kind := f.String("kind", "", "only `what` is of one kind: scope, pool, link, supernet or all")
				return func(k *call) error { return k.listCapacity(*kind) }
			}},
		{name: "capacity show", args: "[SCOPE]",
			short: "The use of a scope, or of all together, over time; when it runs out, and what would help", most: 1,
			more: "  yarnpost capacity show visitors --since 14d\n  yarnpost capacity show visitors --csv   the hours, for a spreadsheet",
			flags: func(f *flag.FlagSet) func(*call) error {
				pool := f.String("pool", "", "only this `range` of its pools")
				since := f.String("since", "28d", "how far `back`")
				supernet := f.String("supernet", "", "a supernet of this `name`, and not a scope")
				return func(k *call) error {
					if *supernet == "" {
						return k.showCapacity("scope", k.scopeOrAll(), *pool, *since)
					}
					if len(k.args) > 0 || *pool != "" {
						return usagef("--supernet stands for itself: name no scope and no pool beside it")
					}
					return k.showCapacity("supernet", *supernet, "", *since)
				}
			}},
		{name: "capacity users", args: "[SCOPE]", short: "Who uses the addresses of a scope, or of all, and what could be won back",
			most: 1,
			flags: func(*flag.FlagSet) func(*call) error {
				return func(k *call) error { return k.capacityUsers(k.scopeOrAll()) }
			}},
		{name: "capacity forecast", args: "[SCOPE]",
			short: "When the pools of a scope run out, or those of a file of samples, for which no server is asked", most: 1, offline: true,
			more: "  yarnpost capacity forecast visitors\n  yarnpost capacity forecast --from used.csv --size 500   (columns time and used; between them a comma, a semicolon or a tab)",
			flags: func(f *flag.FlagSet) func(*call) error {
				from := f.String("from", "", "`file` of samples (CSV with columns time and used; - for standard input)")
				size := f.Int("size", 0, "`addresses` in the pool, with --from")
				zone := f.String("time-zone", "",
					"`name` of the time zone of the file's times, such as Europe/Berlin, with --from (default: this computer's)")
				return func(k *call) error { return k.forecast(*from, *size, *zone) }
			}},
		{name: "capacity size", short: "What a demand needs: pool, lease time, renewals; or what a pool can take. No server is asked",
			most: 0, offline: true,
			more: "  yarnpost capacity size --arrivals 900 --stay 40m --lease 30m\n  yarnpost capacity size --seats 60 --arrivals 200 --stay 2h --pool 500\n" +
				"  yarnpost capacity size --seats 300 --each 56\n" +
				"  yarnpost capacity size --arrivals 900 --stay 40m --at-least 24h --because \"who had what is kept for a day\"",
			flags: sizeFlags},
		{name: "capacity subnet", args: "SUBNET", short: "What there is to know about a subnet; no server is asked", least: 1, most: 1,
			offline: true,
			more:    "  yarnpost capacity subnet 10.40.64.0/20 --split 24\n  yarnpost capacity subnet 2001:db8:40::/48 --split 64",
			flags: func(f *flag.FlagSet) func(*call) error {
				split := f.Int("split", 0, "prefix `length` to split it into")
				return func(k *call) error { return k.subnet(*split) }
			}},
	}
}

// scopeOrAll is the scope that is named, or what the API calls all of them together.
func (k *call) scopeOrAll() string {
	if len(k.args) == 0 {
		return "~all"
	}
	return k.args[0]
}

func share(used, size api.Count) string {
	if size == 0 {
		return ""
	}
	return fmt.Sprintf("%.0f %%", 100*float64(used)/float64(size))
}

func whatOf(c api.Capacity) string {
	switch c.Kind {
	case "pool":
		return c.Name + " " + c.Pool
	case "link", "supernet":
		return c.Kind + " " + c.Name
	case "all":
		return "all"
	}
	return c.Name
}

func (k *call) listCapacity(kind string) error {
	list, err := k.client.Capacity(k.ctx, kind)
	if err != nil {
		return err
	}
	t := newTable("WHAT", "SIZE", "USED", "SHARE", "LEFT", "PARTNER", "ABANDONED", "LAST 28 DAYS", "RUNS OUT").without("ABANDONED",
		"PARTNER", "LAST 28 DAYS").folding("WHAT", "RUNS OUT")
	for _, c := range list {
		when := "not looked at yet"
		if c.Forecast != nil {
			when = c.Forecast.Text
		} else if c.Size == 0 {
			when = "no pool"
		}
		t.row(whatOf(c), number(c.Size), number(c.Used), share(c.Used, c.Size), number(c.Headroom), number(c.Partner),
			number(c.Abandoned), spark(c.Trend, float64(c.Size)), when)
	}
	return k.show(list, t, "There is no scope yet; yarnpost scope add NAME --subnet … makes one.")
}

func number(n api.Count) string { return n.String() }

// spark draws a row of numbers as bars, in parts of a height.
func spark(list []int, height float64) string {
	bars := []rune("▁▂▃▄▅▆▇█")
	var b strings.Builder
	for _, n := range list {
		switch {
		case n < 0 || height <= 0:
			b.WriteByte(' ')
		default:
			b.WriteRune(bars[min(int(float64(n)/height*float64(len(bars))), len(bars)-1)])
		}
	}
	return strings.TrimLeft(b.String(), " ")
}

func (k *call) showCapacity(of, name, pool, since string) error {
	d, err := k.client.CapacityOf(k.ctx, of, name, pool, since)
	if err != nil {
		return err
	}
	if k.json {
		return k.show(d, nil, "")
	}
	if k.csv {
		return csvOf(k.out, d.Points)
	}
	t := newTable()
	t.row("used", fmt.Sprintf("%v of %v (%s); %v left here", d.Used, d.Size, cmp.Or(share(d.Used, d.Size), "no pool"), d.Headroom))
	if d.Partner > 0 {
		t.row("", fmt.Sprintf("%v more are the other server's to give", d.Partner))
	}
	t.row("of those", fmt.Sprintf("%d active, %d reserved (%d claimed), %d on offer, %d kept, %d abandoned", d.Active, d.Reserved,
		d.Claimed, d.Offered, d.Kept, d.Abandoned))
	if d.Excluded > 0 {
		t.row("excluded", fmt.Sprint(d.Excluded))
	}
	if f := d.Forecast; f != nil {
		t.row("runs out", f.Text)
		t.row("peak", fmt.Sprintf("%.0f in the last week, %.0f on its average; the peak changes by %+.1f a day", f.Peak, f.Level, f.PerDay))
		if f.Step != nil {
			t.row("", "another level since "+f.Step.Format("2 Jan"))
		}
		for _, e := range f.Events {
			t.row("", "unlike other days, and left out: "+e.Format("2 Jan"))
		}
	}
	t.row("by the day", spark(d.Trend, float64(d.Size)))
	t.row("busiest", busiest(d.Busy, d.Zone))
	churn := [3]int64{}
	for _, p := range d.Points {
		churn[0], churn[1], churn[2] = churn[0]+p.New, churn[1]+p.Returned, churn[2]+p.Left
	}
	t.row("came and left", fmt.Sprintf("%d new, %d returned, %d left since %s", churn[0], churn[1], churn[2], since))
	for i, m := range d.Marks {
		t.row([]string{"changes", ""}[min(i, 1)], k.when(m.At)+"  revision "+fmt.Sprint(m.Revision)+"  "+m.Text)
	}
	for i, h := range d.Helps {
		text := fmt.Sprintf("%s (%+d addresses", h.Text, h.Addresses)
		if h.Days > 0 {
			text += fmt.Sprintf(", %d days", h.Days)
		}
		t.row([]string{"would help", ""}[min(i, 1)], text+")")
		if h.Command != "" {
			t.row("", "  "+h.Command)
		}
	}
	k.print(t)
	return nil
}

// busiest names the hours of the week with the highest use.
func busiest(week [][]int, zone string) string {
	most, day, hour := 0, -1, 0
	for d, hours := range week {
		for h, n := range hours {
			if n > most {
				most, day, hour = n, d, h
			}
		}
	}
	if day < 0 {
		return "not known yet"
	}
	names := []string{"Monday", "Tuesday", "Wednesday", "Thursday", "Friday", "Saturday", "Sunday"}
	return fmt.Sprintf("%s, %d:00 to %d:00 (%s), with %d on the average of four weeks", names[day], hour, hour+1, zone, most)
}

func (k *call) capacityUsers(name string) error {
	u, err := k.client.CapacityUsers(k.ctx, name)
	if err != nil {
		return err
	}
	if k.json || k.csv {
		return k.show(u, newTable(), "")
	}
	fmt.Fprintf(k.out,
		"Clients that hold an address: %d, of which %d should have renewed and did not. Clients on record: %d, of which %d came and never renewed.\n\n",
		u.Active, u.Gone, u.Records, u.Once)
	t := newTable("BY", "WHAT", "CLIENTS")
	for _, g := range []struct {
		by   string
		list []api.CapacityGroup
	}{{"vendor class", u.Vendors}, {"host name", u.Names}, {"relay", u.Relays}, {"rule", u.Rules}, {"held for", u.Ages}} {
		by := g.by
		for _, x := range g.list[:min(len(g.list), 8)] {
			t.row(by, x.Name, fmt.Sprint(x.Clients))
			by = ""
		}
	}
	k.print(t)
	if u.ManyTotal > 0 {
		fmt.Fprintf(k.out, "\nClients that hold several addresses: %d\n", u.ManyTotal)
		for _, m := range u.Many[:min(len(u.Many), 10)] {
			fmt.Fprintf(k.out, "  %s %s: %s\n", m.Hardware, harmless(m.Hostname), strings.Join(m.Addresses, " "))
		}
	}
	fmt.Fprintf(k.out, "\nOne could %s", u.WinBack.Text)
	if u.WinBack.Days > 0 {
		fmt.Fprintf(k.out, "; that is %d days", u.WinBack.Days)
	}
	fmt.Fprintln(k.out, ".")
	return nil
}

func (k *call) forecast(from string, size int, zone string) error {
	if (from == "") == (len(k.args) == 0) {
		return usagef("name a scope, or a file of samples with --from and --size")
	}
	var f api.Forecast
	if from == "" {
		if err := k.needsServer(); err != nil {
			return err
		}
		d, err := k.client.CapacityOf(k.ctx, "scope", k.args[0], "", "1d")
		if err != nil {
			return err
		}
		if d.Forecast == nil {
			return fmt.Errorf("scope %s has no pool, so it cannot run out", k.args[0])
		}
		f = *d.Forecast
	} else {
		if size <= 0 {
			return usagef("--size says how many addresses the pool has")
		}
		where, err := time.LoadLocation(cmp.Or(zone, "Local"))
		if err != nil {
			return usagef("--time-zone: %q is no time zone; write a name such as Europe/Berlin, or UTC", zone)
		}
		list, err := readSamples(from, where)
		if err != nil {
			return fmt.Errorf("%s: %w", from, err)
		}
		f = forecastOf(capacity.Predict(capacity.FromSamples(list, where), float64(size)))
	}
	if k.json || k.csv {
		return k.show(f, newTable(), "")
	}
	t := newTable()
	t.row("runs out", f.Text)
	t.row("used", fmt.Sprintf("%.0f of %.0f at the most in the last week, %.0f on its average; the peak changes by %+.1f a day", f.Peak,
		f.Size, f.Level, f.PerDay))
	t.row("rests on", fmt.Sprintf("%d days of history", f.Days))
	k.print(t)
	return nil
}

func readSamples(name string, zone *time.Location) ([]capacity.Sample, error) {
	var in io.Reader = os.Stdin
	if name != "-" {
		file, err := os.Open(name)
		if err != nil {
			return nil, errors.Unwrap(err)
		}
		defer file.Close()
		in = file
	}
	buffer := bufio.NewReader(in)
	head, _ := buffer.Peek(1024) // an error comes again below
	if bom := "\ufeff"; strings.HasPrefix(string(head), bom) {
		_, _ = buffer.Discard(len(bom))
	}
	r := csv.NewReader(buffer)
	r.FieldsPerRecord, r.TrimLeadingSpace = -1, true
	// What stands between the columns is seen by the first line.
	first, _, _ := strings.Cut(string(head), "\n")
	for _, c := range ";\t" {
		if strings.ContainsRune(first, c) {
			r.Comma = c
		}
	}
	lines, err := r.ReadAll()
	if err != nil {
		return nil, err
	}
	return capacity.ParseSamples(lines, zone)
}

func forecastOf(f capacity.Forecast) api.Forecast {
	at := func(t time.Time) *time.Time {
		if t.IsZero() {
			return nil
		}
		return &t
	}
	out := api.Forecast{Verdict: string(f.Verdict), Text: f.Text(), Date: at(f.Date), Early: at(f.Early), Late: at(f.Late),
		Until: f.Until, Level: f.Level,
		PerDay: f.PerDay, Peak: f.Peak, Size: f.Size, Days: f.Days, Step: at(f.Step), Events: []time.Time{}, Gaps: f.Gaps}
	out.Events = append(out.Events, f.Events...)
	return out
}

func sizeFlags(f *flag.FlagSet) func(*call) error {
	var c capacity.Case
	f.IntVar(&c.Seats, "seats", 0, "`clients` that are always there")
	f.Float64Var(&c.Arrivals, "arrivals", 0, "`clients` that come, an hour, in the busiest hours")
	stay := f.String("stay", "", "how long one stays on the average: a `time` such as 45m")
	f.Float64Var(&c.Releases, "releases", 0, "`share` of those that leave who release their address, 0 to 1")
	lease := f.String("lease", "", "lease `time`; left out with --pool for the longest that fits")
	f.IntVar(&c.Pool, "pool", 0, "`addresses` there are; left out to have it worked out")
	least := f.String("at-least", "", "no lease may be shorter than this `time`")
	f.IntVar(&c.Each, "each", 0, "IPv6: `length` of the prefix that each is delegated, such as 56; left out for addresses")
	f.StringVar(&c.Because, "because", "", "`why`, such as a duty to keep records")
	return func(k *call) error {
		for _, d := range []struct {
			name, text string
			to         *time.Duration
		}{{"stay", *stay, &c.Stay}, {"lease", *lease, &c.Lease}, {"at-least", *least, &c.Least}} {
			if d.text == "" {
				continue
			}
			var err error
			if *d.to, err = option.ParseDuration(d.text); err != nil {
				return usagef("--%s: %v", d.name, err)
			}
			if *d.to == 0 && d.name != "stay" {
				return usagef("--%s 0 is no time; leave it out to have it worked out", d.name)
			}
		}
		if given(f, "pool") && c.Pool < 1 {
			return usagef("--pool %d is no pool; leave it out to have it worked out", c.Pool)
		}
		r, err := c.Solve()
		if err != nil {
			return usagef("%v", err)
		}
		out := api.Size{Pool: r.Pool, Lease: option.FormatDuration(r.Lease),
			Hold: option.FormatDuration(r.Hold.Truncate(time.Minute)), Mean: r.Mean,
			Peak: r.Peak, Refused: r.Refused, Renewals: r.Renewals, Arrivals: r.Most, Fits: r.Fits, Within: r.Within, Text: r.Text,
			Model: capacity.SizingModel}
		if k.json || k.csv {
			return k.show(out, newTable(), "")
		}
		if given(f, "each") && c.Each < 1 {
			return usagef("--each %d is no length of a prefix; write one such as 56", c.Each)
		}
		t, what := newTable(), "addresses"
		if c.Each > 0 {
			what = fmt.Sprintf("prefixes of /%d", c.Each)
		}
		t.row("pool", fmt.Sprintf("%d %s", r.Pool, what))
		if c.Each > 0 {
			t.row("prefix pool", fmt.Sprintf("a /%d, which has %d", r.Within, 1<<(c.Each-r.Within)))
		}
		t.row("lease time", out.Lease)
		t.row("peak", fmt.Sprintf("%d %s, %.0f on the average; one moment in a thousand needs more", r.Peak, what, r.Mean))
		if r.Hold > 0 {
			t.row("held", fmt.Sprintf("%s for one that comes and stays %s", out.Hold, option.FormatDuration(c.Stay)))
			t.row("could take", fmt.Sprintf("%.0f arrivals an hour", r.Most))
		}
		t.row("renewals", fmt.Sprintf("%.2f a second", r.Renewals))
		t.row("refused", fmt.Sprintf("%.2f %% of those who come", 100*r.Refused))
		t.row("so", r.Text)
		t.row("model", out.Model)
		k.print(t)
		return nil
	}
}

func (k *call) subnet(split int) error {
	p, err := addr.ParsePrefixOf(k.args[0])
	if err != nil {
		return usagef("%v", err)
	}
	s, err := capacity.Calculate(p, split)
	if err != nil {
		return usagef("%v", err)
	}
	text := func(a netip.Addr) string {
		if !a.IsValid() {
			return ""
		}
		return a.String()
	}
	out := api.SubnetInfo{Subnet: s.Prefix.String(), Network: s.Network.String(), First: s.First.String(), Last: s.Last.String(),
		Broadcast: text(s.Broadcast),
		Mask:      text(s.Mask), Wildcard: text(s.Wildcard), Hosts: s.Hosts, Parts: []string{}, PartCount: s.PartCount, Scopes: []string{}}
	if s.Around.IsValid() {
		out.Around, out.Other = s.Around.String(), s.Neighbor.String()
	}
	for _, p := range s.Parts {
		out.Parts = append(out.Parts, p.String())
	}
	if k.json || k.csv {
		return k.show(out, newTable(), "")
	}
	fmt.Fprintf(k.out, "%s has room for %s hosts, from %s to %s.\n", out.Subnet, out.Hosts, out.First, out.Last)
	if out.Mask != "" {
		fmt.Fprintf(k.out, "Hosts are told the mask %s; access lists write %s %s.\n", out.Mask, out.Network, out.Wildcard)
	}
	if out.Broadcast != "" {
		fmt.Fprintf(k.out, "Broadcasts go to %s.\n", out.Broadcast)
	}
	if out.Around != "" {
		fmt.Fprintf(k.out, "Together with %s it is %s.\n", out.Other, out.Around)
	}
	if len(out.Parts) > 0 {
		fmt.Fprintf(k.out, "It is made of %s of /%d", out.PartCount, split)
		if fmt.Sprint(len(out.Parts)) != out.PartCount {
			fmt.Fprintf(k.out, "; the first %d are", len(out.Parts))
		}
		fmt.Fprintf(k.out, ":\n  %s\n", strings.Join(out.Parts, "\n  "))
	}
	return nil
}
