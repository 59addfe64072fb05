package cli

import (
	"flag"
	"fmt"
	"os"
	"strings"
	"time"

	"yarnpost/api"
	"yarnpost/core/capacity"
	"yarnpost/core/option"
)

func alertCommands() []command {
	return []command{
		{name: "alert list", short: "Alerts that stand, the worst first", most: 0,
			flags: func(f *flag.FlagSet) func(*call) error {
				past := f.Bool("past", false, "instead those that ended in the last 90 days")
				return func(k *call) error { return k.listAlerts(*past) }
			}},
		{name: "alert silence", args: "ALERT", short: "Keep an alert from being sent until a date; a code with * behind is all of that code, * alone is all",
			least: 1, most: 1, write: true,
			more: "  yarnpost alert silence \"pool-full scope visitors\" --until 2026-12-24 --reason \"the fair\"\n  yarnpost alert silence \"relay-silent*\" --until 2h\n" +
				"  yarnpost alert silence \"relay-silent*\" --until 0s",
			flags: func(f *flag.FlagSet) func(*call) error {
				until := f.String("until", "1d", "a `date`, or for how long: 2026-12-24, 2h; 0s ends it")
				return func(k *call) error { return k.silence(*until) }
			}},
		{name: "alert silences", short: "What is silenced, and until when", most: 0,
			flags: func(*flag.FlagSet) func(*call) error {
				return func(k *call) error {
					list, err := k.client.Silences(k.ctx)
					if err != nil {
						return err
					}
					t := newTable("WHICH", "UNTIL", "BY", "WHY")
					for _, s := range list {
						t.row(s.Key, k.when(s.Until), s.By, s.Reason)
					}
					return k.show(list, t, "Nothing is silenced.")
				}
			}},
		{name: "alert target add", args: "NAME", short: "Have alerts go somewhere, or change that", least: 1, most: 1, write: true,
			more: "  yarnpost alert target add desk --url https://desk.mill.example/hooks/dhcp --secret-file hook.secret\n" +
				"  yarnpost alert target add loghost --url syslog+tls://log.mill.example --severity note --trust ca.pem",
			flags: targetFlags},
		{name: "alert target list", short: "Where alerts go, and what waits for it", most: 0,
			flags: func(*flag.FlagSet) func(*call) error {
				return func(k *call) error {
					list, err := k.client.AlertTargets(k.ctx)
					if err != nil {
						return err
					}
					t := newTable("NAME", "WHERE", "FROM", "SIGNED", "WAITING", "WHY")
					for _, x := range list {
						signed := ""
						if x.Signed {
							signed = "yes"
						}
						t.row(x.Name, x.URL, x.Severity, signed, fmt.Sprint(x.Waiting), x.Failed)
					}
					return k.show(list, t, "Alerts go nowhere yet; they show on Today and in the metrics. yarnpost alert target add NAME --url … has them sent.")
				}
			}},
		{name: "alert target remove", args: "NAME", short: "Have alerts go there no more", least: 1, most: 1, write: true,
			flags: func(*flag.FlagSet) func(*call) error {
				return func(k *call) error {
					if k.dryRun {
						fmt.Fprintf(k.out, "Alerts would go to %s no more.\n", k.args[0])
						return nil
					}
					if err := k.client.RemoveAlertTarget(k.ctx, k.args[0]); err != nil {
						return err
					}
					k.say("", fmt.Sprintf("Alerts go to %s no more.", k.args[0]))
					return nil
				}
			}},
		{name: "alert target try", args: "NAME", short: "Send a message there now, to try it", least: 1, most: 1,
			flags: func(*flag.FlagSet) func(*call) error {
				return func(k *call) error {
					tried, err := k.client.TryAlertTarget(k.ctx, k.args[0])
					if err != nil {
						return err
					}
					fmt.Fprintln(k.out, tried.Text+".")
					return nil
				}
			}},
	}
}

func targetFlags(f *flag.FlagSet) func(*call) error {
	where := f.String("url", "", "`where`: https://host/path (CloudEvents), syslog+udp://host, syslog+tcp://host or syslog+tls://host (RFC 5424)")
	severity := f.String("severity", "warning", "this `severity` and worse: note, warning or trouble")
	secret := f.String("secret-file", "", "`file` with the secret to sign with (HMAC with SHA-256)")
	trust := f.String("trust", "", "`file` of certificates to trust instead of the system's")
	return func(k *call) error {
		if *where == "" {
			return usagef("--url says where alerts go, as https://desk.mill.example/hook or syslog+udp://10.40.0.9")
		}
		in := api.AlertTarget{Name: k.args[0], URL: *where, Severity: *severity}
		for _, x := range []struct {
			file string
			to   *string
		}{{*secret, &in.Secret}, {*trust, &in.CA}} {
			if x.file == "" {
				continue
			}
			b, err := os.ReadFile(x.file)
			if err != nil {
				return err
			}
			*x.to = strings.TrimSpace(string(b))
		}
		if k.dryRun {
			fmt.Fprintf(k.out, "Alerts of %s and worse would go to %s.\n", *severity, *where)
			return nil
		}
		t, err := k.client.PutAlertTarget(k.ctx, in)
		if err != nil {
			return err
		}
		if k.json || k.csv {
			return k.show(t, newTable(), "")
		}
		fmt.Fprintf(k.out, "Alerts of %s and worse go to %s. yarnpost alert target try %s sends a message now.\n", t.Severity, t.URL, t.Name)
		return nil
	}
}

func (k *call) listAlerts(past bool) error {
	list, err := k.client.Alerts(k.ctx, past)
	if err != nil {
		return err
	}
	t := newTable("SEVERITY", "ALERT", "WHAT", "SINCE", "").without("SINCE").folding("ALERT", "WHAT")
	for _, a := range list {
		mark := ""
		if a.Silenced != nil {
			mark = "silenced until " + a.Silenced.Until.Format(time.DateOnly)
		}
		if a.Ended != nil {
			mark = "ended " + k.when(*a.Ended)
		}
		t.row(a.Severity, a.Key, a.Text, k.when(a.Since), mark)
	}
	return k.show(list, t, "No alert stands.")
}

func (k *call) silence(until string) error {
	in := api.Silence{Key: k.args[0], Reason: k.reason}
	if d, err := option.ParseDuration(until); err == nil {
		in.Until = time.Now().Add(d)
	} else if in.Until, err = capacity.ParseTime(until, time.Local); err != nil {
		return usagef("--until: %q is neither a date such as 2026-12-24 nor a time such as 2h", until)
	}
	if k.dryRun {
		fmt.Fprintf(k.out, "%s would be silenced until %s.\n", in.Key, in.Until.Format(time.RFC3339))
		return nil
	}
	s, err := k.client.SilenceAlerts(k.ctx, in)
	if err != nil {
		return err
	}
	if k.json || k.csv {
		return k.show(s, newTable(), "")
	}
	if s.Until.Before(time.Now().Add(time.Second)) {
		fmt.Fprintf(k.out, "%s is no longer silenced.\n", s.Key)
		return nil
	}
	fmt.Fprintf(k.out, "%s is silenced until %s.\n", s.Key, s.Until.Local().Format("2006-01-02 15:04"))
	return nil
}
