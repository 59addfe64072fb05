// Package preflight looks around before serving: can this
// host serve DHCP? It changes nothing; each check comes back with what is wrong
// and how to mend it.
package preflight

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"net"
	"net/netip"
	"os/exec"
	"strings"
	"syscall"
	"time"

	"github.com/vishvananda/netlink"
	"golang.org/x/sys/unix"

	"yarnpost/core/addr"
	"yarnpost/core/plan"
	"yarnpost/core/request"
)

// Status is how a check came out.
type Status string

// The statuses.
const (
	Good    Status = "good"
	Warning Status = "warning"
	Trouble Status = "trouble"
	Unknown Status = "unknown" // could not be found out
)

// Check is one thing looked at.
type Check struct {
	Name   string
	Status Status
	Text   string // what was found
	Mend   string // what to do about it; "" if nothing
}

// Input says what is to be served. Functions that are nil are not asked.
type Input struct {
	DHCP4      netip.AddrPort
	DHCP6      netip.AddrPort // not valid: it is not served
	Interfaces []string
	Plan       *plan.Plan // nil: not known yet
	TakePort   bool       // try to open the port; not while this process serves it
	Database   func(context.Context) error
	Now        time.Time                                                         // what the clock says
	Servers    func(ctx context.Context, iface string) ([]request.Server, error) // other servers that answer on an interface's link
}

// Run looks at everything. It takes a few seconds where it listens for other
// servers.
func Run(ctx context.Context, in Input) []Check {
	var out []Check
	add := func(name string, status Status, mend, format string, args ...any) {
		if status == Good {
			mend = ""
		}
		out = append(out, Check{name, status, fmt.Sprintf(format, args...), mend})
	}
	for _, at := range []netip.AddrPort{in.DHCP4, in.DHCP6} {
		if !at.IsValid() {
			continue
		}
		if in.TakePort {
			port(at, add)
		}
		firewall(ctx, at, add)
	}
	own := map[netip.Addr]string{}
	for _, i := range allAddresses() {
		own[i.address.Addr()] = i.name
	}
	for _, name := range in.Interfaces {
		iface(name, in.Plan, add)
		if in.DHCP6.IsValid() {
			iface6(name, add)
		}
	}
	if len(in.Interfaces) == 0 {
		add("interfaces", Warning, "add --interface NAME for each link on which clients broadcast; relayed clients need none",
			"no interface is served, so only relayed clients are heard")
	}
	if in.Database != nil {
		if err := in.Database(ctx); err != nil {
			add("database", Trouble, "start PostgreSQL, or name the right one with --database; leases cannot be recorded without it", "%v", err)
		} else {
			add("database", Good, "", "it is reachable and keeps what it confirms")
		}
	}
	clock(in.Now, add)
	if in.Plan != nil {
		relays(in.Plan, own, add)
	}
	if in.Servers != nil {
		others(ctx, in, add)
	}
	return out
}

type adder func(name string, status Status, mend, format string, args ...any)

func port(at netip.AddrPort, add adder) {
	name, network, flag := fmt.Sprintf("port %d", at.Port()), "udp4", "--dhcp4"
	if at.Addr().Is6() {
		network, flag = "udp6", "--dhcp6"
	}
	conn, err := net.ListenUDP(network, net.UDPAddrFromAddrPort(at))
	switch {
	case err == nil:
		conn.Close()
		add(name, Good, "", "UDP port %d is free", at.Port())
	case errors.Is(err, syscall.EADDRINUSE):
		add(name, Trouble, fmt.Sprintf("find who holds it with: ss -lunp 'sport = :%d'; stop that DHCP server or relay first", at.Port()),
			"UDP port %d is taken", at.Port())
	case errors.Is(err, syscall.EACCES):
		add(name, Trouble, "run as root, or give the binary the right: setcap cap_net_bind_service,cap_net_raw,cap_net_admin+ep yarnpostd",
			"low ports are not open to this user")
	default:
		add(name, Trouble, "check "+flag, "%v", err)
	}
}

// firewall looks for input chains that drop by default and never mention the
// port. It reads the rules and does not send anything.
func firewall(ctx context.Context, at netip.AddrPort, add adder) {
	port, family, save := at.Port(), "ip", "iptables-save"
	if at.Addr().Is6() {
		family, save = "ip6", "ip6tables-save"
	}
	what := "firewall, IPv4"
	if family == "ip6" {
		what = "firewall, IPv6"
	}
	mend := fmt.Sprintf("let UDP port %d in, for instance: nft add rule inet filter input udp dport %d accept", port, port)
	if path, err := exec.LookPath("nft"); err == nil {
		b, err := exec.CommandContext(ctx, path, "-j", "list", "ruleset").Output()
		if err != nil {
			add(what, Unknown, "look yourself with: nft list ruleset", "the rules cannot be read: %v", err)
			return
		}
		if chain := dropping(b, family, port); chain != "" {
			add(what, Warning, mend, "chain %s drops what it does not know, and has no rule for UDP port %d", chain, port)
			return
		}
		add(what, Good, "", "no input chain of nftables drops UDP port %d by default", port)
		return
	}
	if path, err := exec.LookPath(save); err == nil {
		b, err := exec.CommandContext(ctx, path).Output()
		if err == nil && strings.Contains(string(b), ":INPUT DROP") && !strings.Contains(string(b), fmt.Sprintf("--dport %d ", port)) {
			add(what, Warning, fmt.Sprintf("let it in: "+strings.TrimSuffix(save, "-save")+" -A INPUT -p udp --dport %d -j ACCEPT", port),
				"INPUT drops what it does not know, and has no rule for UDP port %d", port)
			return
		}
		if err == nil {
			add(what, Good, "", "INPUT does not drop UDP port %d by default", port)
			return
		}
	}
	add(what, Good, "", "this host has no packet filter of its own that could be asked")
}

// dropping finds an input chain of a family in nft's JSON that drops by default and in
// which no rule mentions the port.
func dropping(ruleset []byte, family string, port uint16) string {
	var doc struct {
		Nftables []struct {
			Chain *struct{ Family, Table, Name, Hook, Policy string }
			Rule  *struct {
				Family, Table, Chain string
				Expr                 json.RawMessage
			}
		}
	}
	if json.Unmarshal(ruleset, &doc) != nil {
		return ""
	}
	mentioned := map[string]bool{}
	for _, n := range doc.Nftables {
		if r := n.Rule; r != nil && strings.Contains(string(r.Expr), fmt.Sprint(port)) {
			mentioned[r.Family+" "+r.Table+" "+r.Chain] = true
		}
	}
	for _, n := range doc.Nftables {
		if c := n.Chain; c != nil && c.Hook == "input" && c.Policy == "drop" && (c.Family == family || c.Family == "inet") &&
			!mentioned[c.Family+" "+c.Table+" "+c.Name] {
			return c.Family + " " + c.Table + " " + c.Name
		}
	}
	return ""
}

type hostAddress struct {
	name    string
	address netip.Prefix
	static  bool
}

func allAddresses() (out []hostAddress) {
	links, err := netlink.LinkList()
	if err != nil {
		return nil
	}
	for _, l := range links {
		list, err := netlink.AddrList(l, netlink.FAMILY_V4)
		if err != nil {
			continue
		}
		for _, a := range list {
			if ip, ok := netip.AddrFromSlice(a.IP.To4()); ok {
				ones, _ := a.Mask.Size()
				out = append(out, hostAddress{l.Attrs().Name, netip.PrefixFrom(ip, ones),
					a.ValidLft == 0 || uint32(a.ValidLft) == ^uint32(0) || a.Flags&unix.IFA_F_PERMANENT != 0})
			}
		}
	}
	return out
}

func iface(name string, p *plan.Plan, add adder) {
	what := "interface " + name
	l, err := netlink.LinkByName(name)
	if err != nil {
		add(what, Trouble, "ip link shows what there is; correct --interface", "there is no such interface")
		return
	}
	if l.Attrs().Flags&net.FlagUp == 0 {
		add(what, Trouble, "ip link set "+name+" up", "it is down")
		return
	}
	if state := l.Attrs().OperState; state == netlink.OperDown || state == netlink.OperLowerLayerDown {
		add(what, Trouble, "plug in the cable, or look at the switch", "it has no carrier")
		return
	}
	found := false
	for _, a := range allAddresses() {
		if a.name != name {
			continue
		}
		found = true
		address(what, a, p, add)
	}
	if !found {
		add(what, Trouble, "give it a static address: ip addr add 10.0.0.2/24 dev "+name+", and in the host's own configuration",
			"it has no IPv4 address")
	}
}

// iface6 looks whether clients of DHCPv6 can be heard and answered on an interface: by its
// link-local address.
func iface6(name string, add adder) {
	l, err := netlink.LinkByName(name)
	if err != nil || l.Attrs().Flags&net.FlagUp == 0 {
		return // said already
	}
	what := "interface " + name + ", IPv6"
	list, err := netlink.AddrList(l, netlink.FAMILY_V6)
	if err != nil {
		add(what, Unknown, "look yourself with: ip -6 addr show dev "+name, "its addresses cannot be read: %v", err)
		return
	}
	for _, a := range list {
		if ip, ok := netip.AddrFromSlice(a.IP.To16()); ok && ip.IsLinkLocalUnicast() {
			if a.Flags&(unix.IFA_F_TENTATIVE|unix.IFA_F_DADFAILED) != 0 {
				add(what, Warning, "ip -6 addr show dev "+name+" tells its state; another host may have it", "%s is not its own yet", ip)
				return
			}
			add(what, Good, "", "clients are answered from %s", ip)
			return
		}
	}
	add(what, Trouble, "sysctl net.ipv6.conf."+name+".disable_ipv6=0, and let it have a link-local address; or serve IPv4 alone: --dhcp6 none",
		"it has no link-local IPv6 address, so its clients of DHCPv6 are not heard")
}

func address(what string, a hostAddress, p *plan.Plan, add adder) {
	at := a.address.Addr()
	if !a.static {
		add(what, Trouble, "give the server a static address; one that it leased itself can be taken from it", "%s was leased: it ends by itself",
			a.address)
		return
	}
	if p == nil {
		add(what, Good, "", "up, with static address %s", a.address)
		return
	}
	v := p.ScopeAt(at)
	switch {
	case v == nil:
		add(what, Warning, proposal(a), "%s is in no scope, so nobody on this link is served", a.address)
	case v.Allocatable(at):
		add(what, Trouble, fmt.Sprintf("yarnpost scope edit %s --exclude %s,yarnpost", v.Name, at),
			"%s lies in a pool of scope %s, so it could be given to a client", at, v.Name)
	default:
		add(what, Good, "", "up, with static address %s in scope %s, outside what is handed out", at, v.Name)
	}
}

// proposal is a first scope for an interface's subnet: its upper half.
func proposal(a hostAddress) string {
	subnet := a.address.Masked()
	whole := addr.OfPrefix(subnet)
	if !subnet.Addr().Is4() || subnet.Bits() > 29 {
		return "define a scope for it"
	}
	half := addr.Uint32(whole.From) + uint32(whole.Size()/2)
	from := netip.AddrFrom4([4]byte{byte(half >> 24), byte(half >> 16), byte(half >> 8), byte(half)})
	return fmt.Sprintf("yarnpost scope add %s --subnet %s --pool %s-%s --serve", a.name, subnet, from, whole.To.Prev())
}

// clock asks the kernel whether something keeps the clock in step.
func clock(now time.Time, add adder) {
	var t unix.Timex
	state, err := unix.Adjtimex(&t)
	const unsynchronised = 5 // TIME_ERROR
	switch {
	case now.Year() < 2024:
		add("clock", Trouble, "set the clock, and let a time service keep it", "the clock says %s", now.Format(time.DateOnly))
	case err != nil:
		add("clock", Unknown, "check with: timedatectl", "the kernel does not say whether the clock is kept in step: %v", err)
	case state == unsynchronised || t.Status&unix.STA_UNSYNC != 0:
		add("clock", Warning, "let a time service keep the clock; leases are recorded by it", "nothing keeps the clock in step")
	default:
		add("clock", Good, "", "it is kept in step")
	}
}

// relays looks for a route back to each relay, and for relays that are this
// host itself.
func relays(p *plan.Plan, own map[netip.Addr]string, add adder) {
	for _, l := range p.Links() {
		for _, a := range l.Relays {
			what := "relay " + a.String()
			if name, ours := own[a]; ours {
				add(what, Trouble, "serve the interface directly, or relay from another host",
					"%s is this host's own address (%s): an interface cannot both serve and relay", a, name)
				continue
			}
			routes, err := netlink.RouteGet(a.AsSlice())
			if err != nil || len(routes) == 0 {
				add(what, Trouble, fmt.Sprintf("add a route, for instance: ip route add %s/32 via ROUTER", a),
					"there is no route back to relay %s of link %s", a, l.Name)
				continue
			}
			way := "on the link itself"
			if gw := routes[0].Gw; gw != nil {
				way = "by " + gw.String()
			}
			add(what, Good, "", "there is a route back to relay %s of link %s, %s", a, l.Name, way)
		}
	}
}

func others(ctx context.Context, in Input, add adder) {
	for _, name := range in.Interfaces {
		if l, err := netlink.LinkByName(name); err != nil || l.Attrs().Flags&net.FlagUp == 0 {
			continue // said already
		}
		what := "servers on " + name
		found, err := in.Servers(ctx, name)
		switch {
		case err != nil:
			add(what, Unknown, "run as root, or with the right to use raw sockets", "it cannot be found out: %v", err)
		case len(found) > 0:
			add(what, Warning, "stop it, or let Yarn Post only listen at first: yarnpost link edit NAME --listening",
				"another DHCP server answers there: %v", found)
		default:
			add(what, Good, "", "no other DHCP server answered")
		}
	}
}
