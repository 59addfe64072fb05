package cli

import (
	"cmp"
	"errors"
	"flag"
	"fmt"
	"strconv"
	"strings"
	"time"

	"yarnpost/api"
)

// ExitNoTakeover is the exit code of pair status when the other server would not
// carry on now.
const ExitNoTakeover = 5

// errNoTakeover ends pair status so.
var errNoTakeover = errors.New("the other server would not carry on now")

func pairCommands() []command {
	return []command{
		{name: "pair status", short: "Both servers side by side; exit code 0 only if the other would carry on now, else 5", most: 0,
			flags: func(f *flag.FlagSet) func(*call) error {
				return func(k *call) error {
					p, err := k.client.Pair(k.ctx)
					if err != nil {
						return err
					}
					if k.json || k.csv {
						err = k.show(p, newTable(), "")
					} else {
						k.showPair(p)
					}
					if err == nil && !p.Takeover {
						err = errNoTakeover
					}
					return err
				}
			}},
		{name: "pair invite", short: "Open this server to one that joins it, and print the line to paste there", most: 0, write: true,
			more: "  yarnpost pair invite --at bobbin.mill.example\n  yarnpost pair invite --at 10.40.0.5:647 --mode load-sharing --split 60 --lead 30m",
			flags: func(f *flag.FlagSet) func(*call) error {
				at := f.String("at", "", "`host` or host:port where the other server reaches this one")
				edit := settingFlags(f)
				return func(k *call) error {
					if *at == "" {
						return usagef("--at says where the other server reaches this one, as --at bobbin.mill.example")
					}
					in, err := edit()
					if err != nil {
						return err
					}
					in.At = *at
					if k.dryRun {
						fmt.Fprintf(k.out, "This server would be open for 15 minutes to one that joins it at %s.\n", *at)
						return nil
					}
					i, err := k.client.InvitePartner(k.ctx, in)
					if err != nil {
						return err
					}
					if k.json || k.csv {
						return k.show(i, newTable(), "")
					}
					fmt.Fprintln(k.out, "yarnpost pair join", i.Code)
					fmt.Fprintf(k.err, "Run that on the other server. It is good once, until %s.\n", i.Until.Local().Format("15:04"))
					k.warnOfAutoDown(in)
					return nil
				}
			}},
		{name: "pair join", args: "CODE", short: "Join the server that an invitation is to", least: 1, most: 1, write: true,
			flags: func(f *flag.FlagSet) func(*call) error {
				giveUp := f.Bool("give-up-plan", false, "give up this server's own plan and leases for the other's")
				return func(k *call) error {
					if k.dryRun {
						fmt.Fprintln(k.out, "This server would take over the other's plan and leases.")
						return nil
					}
					d, err := k.client.JoinPair(k.ctx, api.PairJoin{Code: k.args[0], Confirm: *giveUp || k.yes})
					if err != nil {
						return err
					}
					return k.done(d)
				}
			}},
		{name: "pair down", short: "Say that the partner is down: this server serves alone", most: 0, write: true,
			flags: func(*flag.FlagSet) func(*call) error { return func(k *call) error { return k.orderPair("down") } }},
		{name: "pair leave", short: "Take this server out of its pair", most: 0, write: true,
			flags: func(*flag.FlagSet) func(*call) error { return func(k *call) error { return k.orderPair("leave") } }},
		{name: "pair pause", short: "Leave all clients to the partner, for maintenance; pair up ends it", most: 0, write: true,
			flags: func(*flag.FlagSet) func(*call) error { return func(k *call) error { return k.pausePair(true) } }},
		{name: "pair up", short: "Serve again after pair pause", most: 0, write: true,
			flags: func(*flag.FlagSet) func(*call) error { return func(k *call) error { return k.pausePair(false) } }},
		{name: "pair rebalance", short: "Split free addresses anew between both servers", most: 0, write: true,
			flags: func(*flag.FlagSet) func(*call) error {
				return func(k *call) error {
					if k.dryRun {
						fmt.Fprintln(k.out, "Free addresses would be split anew.")
						return nil
					}
					d, err := k.client.RebalancePair(k.ctx)
					if err != nil {
						return err
					}
					return k.done(d)
				}
			}},
		{name: "pair drill", short: "Take this server out for a while, watched; it serves again at once if clients suffer", most: 0, write: true,
			more: "  yarnpost pair drill --for 2m",
			flags: func(f *flag.FlagSet) func(*call) error {
				span := f.Duration("for", time.Minute, "how long")
				return func(k *call) error { return k.drill(*span) }
			}},
		{name: "pair edit", short: "Change settings of the pair, on both servers", most: 0, write: true,
			more: "  yarnpost pair edit --mode load-sharing --split 30\n  yarnpost pair edit --auto-down 10m",
			flags: func(f *flag.FlagSet) func(*call) error {
				edit := settingFlags(f)
				return func(k *call) error {
					in, err := edit()
					if err != nil {
						return err
					}
					if in == (api.PairInvite{}) {
						return usagef("say what is to change: --mode, --split, --lead or --auto-down")
					}
					if k.dryRun {
						fmt.Fprintln(k.out, "The settings would be changed on both servers.")
						return nil
					}
					p, err := k.client.EditPair(k.ctx, in)
					if err != nil {
						return err
					}
					if k.json || k.csv {
						return k.show(p, newTable(), "")
					}
					fmt.Fprintf(k.out, "In force on both: %s.\n", pairSettings(p))
					k.warnOfAutoDown(in)
					return nil
				}
			}},
		{name: "pair compare", short: "Every address of which both servers know different things", most: 0, write: true,
			flags: func(f *flag.FlagSet) func(*call) error {
				mend := f.Bool("mend", false, "tell the partner again of what differs wrongly; previews, and --yes acts")
				return func(k *call) error { return k.comparePair(*mend) }
			}},
		{name: "pair history", short: "What happened to the pair, newest first", most: 0, flags: func(f *flag.FlagSet) func(*call) error {
			limit := f.Int("limit", 50, "how many lines")
			return func(k *call) error {
				list, err := k.client.PairHistory(k.ctx, *limit)
				if err != nil {
					return err
				}
				t := newTable("When", "What")
				for _, e := range list {
					t.row(k.when(e.At), e.Text)
				}
				defer k.most(len(list), *limit)
				return k.show(list, t, "Nothing has happened to a pair here.")
			}
		}},
		{name: "pair settle", args: "[SERVER]", short: "Show both plans where both servers changed it, and choose one", most: 1, write: true,
			more:  "  yarnpost pair settle\n  yarnpost pair settle bobbin --yes",
			flags: func(*flag.FlagSet) func(*call) error { return func(k *call) error { return k.settlePair() } }},
	}
}

// settingFlags are the flags of a pair's settings.
func settingFlags(f *flag.FlagSet) func() (api.PairInvite, error) {
	var in api.PairInvite
	f.StringVar(&in.Mode, "mode", "", "hot-standby or load-sharing")
	split := f.Int("split", -1, "of a hundred clients, how many the primary answers, with load sharing")
	f.StringVar(&in.Lead, "lead", "", "maximum client lead time, as 1h: how far a promise may go beyond what the other server knows")
	f.StringVar(&in.AutoDown, "auto-down", "", "`time` after which a partner that is not heard is taken to be down; never is the usual")
	return func() (api.PairInvite, error) {
		if in.Mode != "" && in.Mode != "hot-standby" && in.Mode != "load-sharing" {
			return in, usagef("--mode %s: it is hot-standby or load-sharing", in.Mode)
		}
		if *split >= 0 {
			in.Split = split
		}
		return in, nil
	}
}

// warnOfAutoDown says what it costs that a partner is taken to be down without a person.
func (k *call) warnOfAutoDown(in api.PairInvite) {
	if in.AutoDown != "" && in.AutoDown != "never" {
		fmt.Fprintf(k.err, "If the wire between the two fails and both live, each takes the other to be down after %s,\n"+
			"and both may come to hand out the same address. --auto-down never leaves that to a person.\n", in.AutoDown)
	}
}

func pairSettings(p api.Pair) string {
	text := p.Mode
	if p.Mode == "load-sharing" {
		text += fmt.Sprintf(" %d:%d", p.Split, 100-p.Split)
	}
	text += ", lead time " + p.Lead
	if p.AutoDown != "" {
		text += ", partner down after " + p.AutoDown
	}
	return text
}

func (k *call) done(d api.PairDone) error {
	if k.json || k.csv {
		return k.show(d, newTable(), "")
	}
	fmt.Fprintln(k.out, capital(d.Text)+".")
	return nil
}

func (k *call) orderPair(what string) error {
	d, err := k.client.OrderPair(k.ctx, what, k.yes && !k.dryRun)
	if err != nil {
		return err
	}
	if err := k.done(d); err != nil || d.Done || k.dryRun {
		return err
	}
	return errPreview
}

func (k *call) pausePair(on bool) error {
	if k.dryRun {
		fmt.Fprintln(k.out, map[bool]string{true: "The partner would answer all clients.", false: "Both would share the clients again."}[on])
		return nil
	}
	d, err := k.client.PausePair(k.ctx, on)
	if err != nil {
		return err
	}
	return k.done(d)
}

// drill follows a drill to its end.
func (k *call) drill(span time.Duration) error {
	if span < 10*time.Second || span > time.Hour {
		return usagef("--for %s: a drill takes ten seconds to an hour", span)
	}
	if k.dryRun || !k.yes {
		fmt.Fprintf(k.out, "This server would leave all clients to the partner for %s, and serve again at once if any goes without.\n", span)
		if k.dryRun {
			return nil
		}
		return errPreview
	}
	if _, err := k.client.DrillPair(k.ctx, int(span/time.Second)); err != nil {
		return err
	}
	last := -1
	for {
		p, err := k.client.Pair(k.ctx)
		if err != nil {
			return err
		}
		if d := p.Drill; d == nil || !d.Running {
			if k.json || k.csv {
				return k.show(d, newTable(), "")
			}
			fmt.Fprintf(k.out, "%s. %s\n", d.Verdict, drillServed(d))
			t := newTable("Client", "Address", "Waited")
			for _, c := range d.Clients {
				waited := "asked the other server alone"
				if c.Seconds != nil {
					waited = waitText(*c.Seconds)
				}
				t.row(c.Name, c.Address, waited)
			}
			if len(d.Clients) > 0 {
				k.print(t)
			}
			return nil
		} else if d.Served != last {
			fmt.Fprintf(k.err, "%s is out; %d clients served by the other, %d asking, %d without\n", d.Out, d.Served, d.Waiting, d.Without)
			last = d.Served
		}
		select {
		case <-k.ctx.Done():
			return k.ctx.Err()
		case <-time.After(time.Second):
		}
	}
}

// drillServed says whom a drill let the other server serve.
func drillServed(d *api.PairDrill) string {
	switch d.Served {
	case 0:
		return "No client asked meanwhile."
	case 1:
		return "1 client was served meanwhile; it waited " + waitText(d.Longest) + "."
	}
	return fmt.Sprintf("%d clients were served meanwhile; the longest that one waited was %s.", d.Served, waitText(d.Longest))
}

// waitText is a wait in seconds as people read it.
func waitText(seconds float64) string {
	if seconds < 1 {
		return fmt.Sprintf("%.0f ms", max(seconds*1000, 1))
	}
	return fmt.Sprintf("%.1f s", seconds)
}

// showPair prints both servers side by side.
func (k *call) showPair(p api.Pair) {
	if !p.Formed {
		fmt.Fprintln(k.out, "This server is in no pair. \"yarnpost pair invite\" opens it to a second one.")
		return
	}
	side := func(s api.PairServer) (string, string) {
		since := ""
		if s.Since != nil {
			since = ", " + k.when(*s.Since)
		}
		return s.Name + " (" + s.Role + ")", cmp.Or(s.State, "not heard") + since
	}
	a, as := side(p.Own)
	b, bs := side(*p.Partner)
	t := newTable("", a, b)
	t.row("State", as, bs)
	t.row("Updates owed", strconv.Itoa(p.Own.Owed), strconv.Itoa(p.Partner.Owed))
	t.row("Plan", revisionText(p.Own.Revision), revisionText(p.Partner.Revision))
	k.print(t)
	fmt.Fprintln(k.out)
	fmt.Fprintf(k.out, "%s.", capital(pairSettings(p)))
	if p.Contact != nil && !p.Connected {
		fmt.Fprintf(k.out, " Last contact %s.", k.when(*p.Contact))
	}
	if p.Clock != nil && (*p.Clock > 1 || *p.Clock < -1) {
		fmt.Fprintf(k.out, " Clocks are %d s apart.", max(*p.Clock, -*p.Clock))
	}
	fmt.Fprintln(k.out)
	if p.Down != nil {
		fmt.Fprintf(k.out, "%s is taken to be down since %s; its free addresses can be given here from %s.\n", p.Partner.Name, k.when(*p.Down),
			k.when(*p.Claims))
	}
	if len(p.Scopes) > 0 {
		fmt.Fprintln(k.out)
		t := newTable("Scope", "Active", "Free at "+p.Own.Name, "Free at "+p.Partner.Name)
		for _, s := range p.Scopes {
			t.row(s.Scope, strconv.Itoa(s.Active), low(s.Own, s.OwnLow), low(s.Partner, s.PartnerLow))
		}
		k.print(t)
	}
	fmt.Fprintln(k.out)
	for _, r := range p.Relays {
		if r.Warning != "" {
			k.say("Note: ", capital(r.Warning)+".")
		}
	}
	for _, c := range p.Conflicts {
		k.say("Trouble: ", fmt.Sprintf("%s was active for two clients; it stays with %s.", c.Address, c.Kept))
	}
	if len(p.Relays)+len(p.Conflicts) > 0 {
		fmt.Fprintln(k.out)
	}
	if p.Takeover {
		fmt.Fprintf(k.out, "If %s died now, %s would carry on.\n", p.Own.Name, p.Partner.Name)
		return
	}
	fmt.Fprintf(k.out, "If %s died now, %s would not carry on:\n", p.Own.Name, p.Partner.Name)
	for _, r := range p.Reasons {
		fmt.Fprintln(k.out, "  - "+r)
	}
}

func revisionText(n int64) string {
	if n == 0 {
		return "not known"
	}
	return "revision " + strconv.FormatInt(n, 10)
}

func low(n api.Count, low bool) string {
	text := strconv.FormatUint(uint64(n), 10)
	if low {
		text += " (low)"
	}
	return text
}

func capital(text string) string {
	if text == "" {
		return ""
	}
	return strings.ToUpper(text[:1]) + text[1:]
}

func (k *call) comparePair(mend bool) error {
	c, err := k.client.ComparePair(k.ctx)
	if err != nil {
		return err
	}
	p, err := k.client.Pair(k.ctx)
	if err != nil {
		return err
	}
	t := newTable("Address", "What", p.Own.Name, p.Partner.Name, "Why")
	known := func(x *api.PairKnown) string {
		if x == nil {
			return "nothing"
		}
		return strings.TrimSpace(x.Status+" "+x.Hardware) + " since " + k.when(x.Since)
	}
	var wrong []string
	for _, d := range c.Differences {
		t.row(d.Address, d.Class, known(d.Own), known(d.Partner), d.Text)
		if d.Class == "wrong" {
			wrong = append(wrong, d.Address)
		}
	}
	if err := k.show(c, t, fmt.Sprintf("Both know the same of all %d records.", c.Leases)); err != nil || !mend {
		return err
	}
	if len(wrong) == 0 {
		fmt.Fprintln(k.err, "Nothing differs wrongly, so there is nothing to mend.")
		return nil
	}
	d, err := k.client.MendPair(k.ctx, api.PairMend{Addresses: wrong, Confirm: k.yes && !k.dryRun})
	if err != nil {
		return err
	}
	if err := k.done(d); err != nil || d.Done || k.dryRun {
		return err
	}
	return errPreview
}

func (k *call) settlePair() error {
	lines, err := k.client.PairLines(k.ctx)
	if err != nil {
		return err
	}
	p, err := k.client.Pair(k.ctx)
	if err != nil {
		return err
	}
	if len(k.args) == 0 || !k.yes {
		t := newTable("Server", "Revision", "When", "Who", "What")
		add := func(name string, list []api.PairRevision) {
			for _, r := range list {
				t.row(cmp.Or(name, r.Key), strconv.FormatInt(r.Number, 10), k.when(r.At), r.Author, strings.Join(r.Lines, "; "))
			}
		}
		add(p.Own.Name, lines.Own)
		if p.Partner != nil {
			add(p.Partner.Name, lines.Partner)
		}
		add("", lines.Aside)
		if len(lines.Aside) > 0 && !k.json && !k.csv {
			defer fmt.Fprintf(k.err, "What is kept aside can be applied again, such as: yarnpost plan again %s\n", lines.Aside[0].Key)
		}
		if err := k.show(lines, t, "Both servers have the same plan; there is nothing to choose."); err != nil || !lines.Parted || len(k.args) == 0 {
			return err
		}
	}
	d, err := k.client.SettlePair(k.ctx, api.PairSettle{Keep: k.args[0], Confirm: k.yes && !k.dryRun})
	if err != nil {
		return err
	}
	if err := k.done(d); err != nil || d.Done || k.dryRun {
		return err
	}
	return errPreview
}
