package cli

import (
	"cmp"
	"context"
	"flag"
	"fmt"
	"slices"
	"strings"

	"yarnpost/api"
	"yarnpost/client"
)

// actingCommands act on clients, one or many.
func actingCommands() []command {
	return []command{
		actingCommand("reach", (*client.Client).ReachClients, "Ask whether clients answer now, by ARP or echo",
			"  yarnpost lease reach 10.77.0.31 10.77.0.32\n  yarnpost lease reach --scope looms", false),
		actingCommand("wake", (*client.Client).WakeClients, "Wake clients (Wake-on-LAN), where their link allows it",
			"  yarnpost link edit looms --wake          allows it\n  yarnpost lease wake 10.77.0.31 --yes", true),
		reserveCommand(), moveCommand(),
	}
}

// deed does something to many clients.
type deed = func(*client.Client, context.Context, api.ActRequest) (api.ActedOn, error)

func actingCommand(verb string, do deed, short, more string, write bool) command {
	return command{name: "lease " + verb, args: "[ADDRESS…]", short: short, most: -1, write: write, more: more,
		flags: func(f *flag.FlagSet) func(*call) error {
			scope := f.String("scope", "", "all clients with an active lease in the scope of this `name`")
			return func(k *call) error {
				return k.act(do, write, api.ActRequest{Addresses: k.args, Scope: *scope})
			}
		}}
}

// act acts on clients, and prints what became of each.
func (k *call) act(do deed, writes bool, r api.ActRequest) error {
	if (len(r.Addresses) > 0) == (r.Scope != "") {
		return usagef("name addresses, or a scope with --scope")
	}
	r.DryRun = writes && (k.dryRun || !k.yes)
	a, err := do(k.client, k.ctx, r)
	if err != nil {
		return err
	}
	columns := []string{"Address", "Hardware", "Host name", "Scope", "Outcome", "What"}
	alike := len(a.Clients) > 1 && !slices.ContainsFunc(a.Clients, func(c api.ActedOne) bool { return c.Text != a.Clients[0].Text })
	if alike { // it is said once, below
		columns = columns[:5]
	}
	t := newTable(columns...)
	for _, c := range a.Clients {
		t.row([]string{c.Address, c.Hardware, c.Hostname, c.Scope, c.Outcome, c.Text}[:len(columns)]...)
	}
	if k.json || k.csv {
		err = k.show(a, t, "")
	} else {
		k.print(t)
		if alike {
			k.say("Each: ", a.Clients[0].Text+".")
		}
		fmt.Fprintln(k.out, a.Text+".")
	}
	if err == nil && writes && !a.Applied && !k.dryRun && len(a.Clients) > 0 {
		return errPreview
	}
	return err
}

// reserveCommand keeps for clients the addresses that they have, all in one change.
func reserveCommand() command {
	return command{name: "lease reserve", args: "ADDRESS…", short: "Reserve for clients the addresses that they have", least: 1,
		most: -1, write: true,
		more: "  yarnpost lease reserve 10.77.0.31 10.77.0.32\n  Each is named by its host name, or by its hardware address.",
		flags: func(f *flag.FlagSet) func(*call) error {
			return func(k *call) error {
				var edits []api.Edit
				taken := map[string]bool{}
				for _, a := range k.args {
					l, err := k.client.Lease(k.ctx, a)
					if err != nil {
						return err
					}
					e, err := reserved(l, l.Address)
					if err != nil {
						return err
					}
					if taken[e.Name] { // two clients say one name
						l.Hostname = ""
						e.Name = nameFor(l)
					}
					taken[e.Name] = true
					edits = append(edits, e)
				}
				return k.change(edits, false, nil)
			}
		}}
}

// reserved is the edit that reserves an address for the client of a lease; without an
// address it gets a free one of the scope.
func reserved(l api.Lease, address string) (api.Edit, error) {
	e := api.ReservationEdit{}
	switch {
	case l.DUID != "":
		e.DUID = &l.DUID
	case l.Hardware != "":
		e.Hardware = &l.Hardware
	case l.Identifier != "":
		e.Identifier = &l.Identifier
	default:
		return api.Edit{}, fmt.Errorf("%s has no client on record; reserve it with yarnpost reservation add NAME --hw HW --address %s",
			l.Address, l.Address)
	}
	if address != "" {
		e.Address = &address
	}
	return api.Edit{Op: "add", Kind: "reservation", Name: nameFor(l), Reservation: &e}, nil
}

// nameFor names the reservation of a client: its host name, or its hardware address; what it has
// beside IPv4 is told apart.
func nameFor(l api.Lease) string {
	name := cmp.Or(nameFrom(strings.ToLower(l.Hostname)), nameFrom(strings.ToLower("client-"+cmp.Or(l.Hardware+l.Identifier, l.DUID))))
	switch {
	case l.DUID == "":
		return name
	case strings.Contains(l.Address, "/"):
		return name + "-net"
	}
	return name + "-v6"
}

// isOf reports whether a reservation is of the client of a lease, for the like of what it has.
func isOf(r api.Reservation, l api.Lease) bool {
	if strings.Contains(r.Address, "/") != strings.Contains(l.Address, "/") {
		return false
	}
	return r.Hardware != "" && r.Hardware == l.Hardware || r.Identifier != "" && r.Identifier == l.Identifier ||
		r.DUID != "" && r.DUID == l.DUID && (r.IAID == "" || r.IAID == l.IAID)
}

// moveCommand has a client take another address when it next renews.
func moveCommand() command {
	return command{name: "lease move", args: "ADDRESS", short: "Have a client take another address, which is reserved for it",
		least: 1, most: 1,
		write: true,
		more:  "  yarnpost lease move 10.77.0.31 --to 10.77.0.17\n  yarnpost lease move 10.77.0.31 --to-scope stores\n  It moves when it renews; yarnpost lease nudge ADDRESS hurries it.",
		flags: func(f *flag.FlagSet) func(*call) error {
			to := f.String("to", "", "the `address` that it is to have")
			scope := f.String("to-scope", "", "a free address in the scope of this `name`, on the same link")
			return func(k *call) error {
				if (*to == "") == (*scope == "") {
					return usagef("name the new address with --to, or a scope with --to-scope")
				}
				l, err := k.client.Lease(k.ctx, k.args[0])
				if err != nil {
					return err
				}
				list, err := k.client.Reservations(k.ctx, l.Scope, "")
				if err != nil {
					return err
				}
				for _, r := range list {
					if isOf(r, l) {
						return k.change([]api.Edit{{Op: "edit", Kind: "reservation", Name: r.Name,
							Reservation: &api.ReservationEdit{Address: some(*to), Scope: some(*scope)}}}, false, nil)
					}
				}
				e, err := reserved(l, *to)
				if err != nil {
					return err
				}
				e.Reservation.Scope = some(*scope)
				return k.change([]api.Edit{e}, false, nil)
			}
		}}
}

// silent narrows reservations, of a scope or by their names, to those at whose address nobody
// answers now. What no probe reaches is not silent.
func (k *call) silent(scope string, names []string) (out []string, err error) {
	list, err := k.client.Reservations(k.ctx, scope, "")
	if err != nil {
		return nil, err
	}
	at := map[string]string{} // name by address
	var asked []string
	for _, r := range list {
		if scope == "" && !slices.ContainsFunc(names, func(n string) bool { return strings.EqualFold(n, r.Name) }) {
			continue
		}
		at[r.Address] = r.Name
		asked = append(asked, r.Address)
	}
	if len(at) < len(names) {
		return nil, fmt.Errorf("%d of %d are no reservations; yarnpost reservation list shows all", len(names)-len(at), len(names))
	}
	for part := range slices.Chunk(asked, 1000) {
		a, err := k.client.ReachClients(k.ctx, api.ActRequest{Addresses: part})
		if err != nil {
			return nil, err
		}
		for _, c := range a.Clients {
			if c.Outcome == "silent" {
				out = append(out, at[c.Address])
			}
		}
	}
	return out, nil
}
