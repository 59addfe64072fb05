// Command yarnpostd is the Yarn Post service.
package main

import (
	"cmp"
	"context"
	"errors"
	"flag"
	"fmt"
	"log/slog"
	"net/netip"
	"os"
	"os/signal"
	"runtime"
	"strings"
	"syscall"
	"time"
	_ "time/tzdata"

	"yarnpost/core/addr"
	"yarnpost/core/audit"
	"yarnpost/planfile"
	"yarnpost/service/accounts"
	"yarnpost/service/backup"
	"yarnpost/service/httpd"
	"yarnpost/service/logs"
	"yarnpost/service/node"
)

const usage = `yarnpostd is the Yarn Post DHCP service.

  yarnpostd serve     serve leases until interrupted
  yarnpostd preflight look whether this host can serve; changes nothing
  yarnpostd trial     sit on a link as a client, and say what servers give there
  yarnpostd relay     be the relay agent of a link, for servers elsewhere
  yarnpostd backup    check FILE: read a backup to its end and say what it is
  yarnpostd restore   bring a backup back into an empty server
  yarnpostd demo      serve a made-up mill with simulated clients
  yarnpostd openapi   print the OpenAPI document of the HTTP API
  yarnpostd version   print the version

yarnpostd serve -h lists its flags; each is also read from the environment,
as YARNPOST_DATA for --data.
`

func main() {
	ctx, stop := signal.NotifyContext(context.Background(), os.Interrupt, syscall.SIGTERM)
	defer stop()
	if err := run(ctx, os.Args[1:]); err != nil && !errors.Is(err, flag.ErrHelp) {
		fmt.Fprintln(os.Stderr, "yarnpostd:", err)
		os.Exit(1)
	}
}

// moreProcessors lets more threads run than there are processors. Then it is the
// kernel that puts a packet that has just come before long work, such as a change
// of ten thousand items or a collection of garbage; the runtime would let either
// finish its ten milliseconds first.
func moreProcessors() {
	if os.Getenv("GOMAXPROCS") == "" {
		runtime.GOMAXPROCS(2 * runtime.GOMAXPROCS(0))
	}
}

func run(ctx context.Context, args []string) error {
	moreProcessors()
	command := ""
	if len(args) > 0 {
		command = args[0]
	}
	switch command {
	case "serve":
		return serve(ctx, args[1:])
	case "preflight":
		return look(ctx, args[1:])
	case "trial":
		return sit(ctx, args[1:])
	case "relay":
		return runRelay(ctx, args[1:])
	case "backup":
		return checkBackup(args[1:])
	case "restore":
		return restore(ctx, args[1:])
	case "demo":
		return runDemo(ctx, args[1:])
	case "findings":
		return audit.WriteDoc(os.Stdout)
	case "planfile":
		_, err := fmt.Fprint(os.Stdout, planfile.Document())
		return err
	case "openapi":
		return httpd.WriteOpenAPI(os.Stdout)
	case "version":
		fmt.Println("yarnpostd", httpd.Version)
		return nil
	case "help", "-h", "--help":
		fmt.Print(usage)
		return nil
	}
	fmt.Fprint(os.Stderr, usage)
	return fmt.Errorf("%q is not a command", command)
}

// options are the flags that serve and demo share.
type options struct {
	data, database, http, dhcp4, dhcp6, cert, key, user, partner, name string
	interfaces                                                         []string
	alertsTo                                                           []netip.Prefix
	unusedAfter                                                        time.Duration
	timeZone                                                           *time.Location
	backup                                                             backup.Config
}

func parse(name string, args []string, defaults options) (options, error) {
	o := defaults
	f := flag.NewFlagSet("yarnpostd "+name, flag.ContinueOnError)
	f.StringVar(&o.data, "data", o.data, "keep everything under this `folder`")
	f.StringVar(&o.database, "database", "", "use the PostgreSQL of this `DSN` instead of a private one under --data")
	f.StringVar(&o.http, "http", o.http, "serve the console and the API at this `address`")
	f.StringVar(&o.cert, "tls-cert", "", "serve HTTPS with this certificate `file`; needed beyond loopback")
	f.StringVar(&o.key, "tls-key", "", "private key `file` of --tls-cert")
	f.StringVar(&o.user, "user", "",
		"started as root, go on as the user of this `name` (default: postgres with a private database, else yarnpost or nobody)")
	f.StringVar(&o.partner, "partner", cmp.Or(o.partner, "0.0.0.0:647"),
		"hear the other server of a pair at this `address`, once there is a pair or an invitation")
	f.StringVar(&o.name, "name", o.name, "what this server is called in its pair (default: the host's name)")
	f.StringVar(&o.dhcp4, "dhcp4", o.dhcp4, "hear relayed clients at this `address`")
	f.StringVar(&o.dhcp6, "dhcp6", o.dhcp6,
		"hear DHCPv6 at this `address`, or none (default: [::]:547 beside 0.0.0.0:67, else none)")
	f.Func("interface", "serve the clients of the link on the interface of this `name` (repeatable)", func(v string) error {
		o.interfaces = append(o.interfaces, v)
		return nil
	})
	f.DurationVar(&o.unusedAfter, "unused-after", 30*24*time.Hour,
		"after what `time` an audit finds reservations, rules and scopes that nobody used")
	f.StringVar(&o.backup.To, "backup-to", "", "take backups into this `folder` (default: none are taken)")
	f.DurationVar(&o.backup.Every, "backup-every", 24*time.Hour, "take them so far apart: a `time` such as 6h")
	f.IntVar(&o.backup.Keep, "backup-keep", 14, "keep so `many` of them")
	f.BoolVar(&o.backup.History, "backup-history", false, "with the history of leases, which is most of it")
	f.Func("time-zone",
		"count days and weeks in the time zone of this `name`, such as Europe/Berlin, where option 101 of a scope names none (default: the host's)", func(v string) (err error) {
			if o.timeZone, err = time.LoadLocation(v); err != nil {
				err = errors.New("no such time zone; write a name such as Europe/Berlin, or UTC")
			}
			return err
		})
	f.Func("alerts-to", "let alerts be sent to addresses of this `subnet`, such as 10.40.0.0/16 (repeatable; default: nowhere)",
		func(v string) error {
			p, err := addr.ParsePrefixOf(v)
			o.alertsTo = append(o.alertsTo, p)
			return err
		})
	var bad error
	f.VisitAll(func(fl *flag.Flag) {
		env := "YARNPOST_" + strings.ToUpper(strings.ReplaceAll(fl.Name, "-", "_"))
		fl.Usage += " [" + env + "]"
		if v := os.Getenv(env); v != "" {
			for _, part := range strings.Split(v, ",") {
				if err := fl.Value.Set(part); err != nil {
					bad = errors.Join(bad, fmt.Errorf("%s=%s: %w", env, v, err))
				}
			}
		}
	})
	if err := cmp.Or(bad, f.Parse(args)); err != nil {
		return o, err
	}
	if o.backup.Every < time.Minute || o.backup.Keep < 1 {
		return o, errors.New("--backup-every takes a minute at least, and --backup-keep one at least")
	}
	if f.NArg() > 0 {
		return o, fmt.Errorf("%q is not a flag; yarnpostd %s -h lists them", f.Arg(0), name)
	}
	return o, nil
}

// at6 is where DHCPv6 is heard, beside DHCPv4; invalid for nowhere.
func (o *options) at6(at4 netip.AddrPort) (at netip.AddrPort, err error) {
	switch o.dhcp6 {
	case "none":
		return at, nil
	case "":
		const usual = "[::]:547"
		if at4 != netip.MustParseAddrPort("0.0.0.0:67") {
			return at, nil
		}
		if _, err := os.Stat("/proc/net/if_inet6"); err != nil { // a host without IPv6
			return at, nil
		}
		return netip.MustParseAddrPort(usual), nil
	}
	if at, err = netip.ParseAddrPort(o.dhcp6); err != nil || !at.Addr().Is6() {
		return at, fmt.Errorf("--dhcp6 %s: write an address and a port like [::]:547, or none", o.dhcp6)
	}
	return at, nil
}

// start brings up a node and its HTTP side.
func start(ctx context.Context, o options, log *slog.Logger) (*node.Node, *httpd.Server, error) {
	at, err := netip.ParseAddrPort(o.dhcp4)
	if err != nil {
		return nil, nil, fmt.Errorf("--dhcp4 %s: write an address and a port like 0.0.0.0:67", o.dhcp4)
	}
	at6, err := o.at6(at)
	if err != nil {
		return nil, nil, err
	}
	n, err := node.Start(ctx, node.Config{Data: o.data, Database: o.database, DHCP4: at, DHCP6: at6, Interfaces: o.interfaces,
		Partner: o.partner, Name: o.name, AlertsTo: o.alertsTo, UnusedAfter: o.unusedAfter, TimeZone: o.timeZone, Log: log,
		Version: httpd.Version, Backup: o.backup})
	if err != nil {
		return nil, nil, err
	}
	access, err := accounts.Open(ctx, n.Store, o.data, n.Clock.Now, n.CountSignIn, log)
	if err != nil {
		n.Stop()
		return nil, nil, err
	}
	web, err := httpd.Listen(o.http, o.cert, o.key, parts(n, access), log)
	if err != nil {
		n.Stop()
		return nil, nil, err
	}
	log.Info("console ready", "url", web.URL())
	return n, web, nil
}

// parts hands the parts of a node to its HTTP side.
func parts(n *node.Node, access *accounts.Keeper) httpd.Parts {
	return httpd.Parts{Service: n, Engine: n.Engine, Reports: n.Reports, Store: n.Store, Plans: n.Plans,
		Prepared: n.Prepared, Leases: n.Leases, Pair: n.Pair,
		Compare: n.Compare,
		Drills:  n.Drills, Host: n.Host, Trials: n.Trials, Samples: n.Samples, Audits: n.Audits, Facts: n.Facts, Alerts: n.Alerts,
		Scheduled:  n.Scheduled,
		Rehearsals: n.Rehearsals, Trail: n.Trail, Access: access, Events: n.Events, Registry: n.Metrics.Registry, Permits: n.Permits,
		Clock:   n.Clock,
		Started: n.Started}
}

// splitList splits at commas and leaves out what is empty.
func splitList(text string) (out []string) {
	for _, part := range strings.Split(text, ",") {
		if part = strings.TrimSpace(part); part != "" {
			out = append(out, part)
		}
	}
	return out
}

func logger() *slog.Logger {
	return slog.New(logs.Limit(slog.NewTextHandler(os.Stderr, &slog.HandlerOptions{Level: slog.LevelInfo})))
}

func serve(ctx context.Context, args []string) error {
	o, err := parse("serve", args, options{data: "yarnpost-data", http: "127.0.0.1:8067", dhcp4: "0.0.0.0:67"})
	if err != nil {
		return err
	}
	log := logger()
	if err := dropRoot(o, log); err != nil {
		return err
	}
	n, web, err := start(ctx, o, log)
	if err != nil {
		return err
	}
	again := make(chan os.Signal, 1)
	signal.Notify(again, syscall.SIGHUP)
	for running := true; running; {
		select {
		case <-again:
			if err := web.Reload(); err != nil {
				log.Error("the certificate in force stays", "err", err)
			} else {
				log.Info("certificate read again")
			}
		case <-ctx.Done():
			running = false
		}
	}
	log.Info("stopping")
	web.Stop()
	n.Stop()
	log.Info("stopped; everything is recorded")
	return nil
}
