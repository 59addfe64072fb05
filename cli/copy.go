package cli

import (
	"flag"
	"fmt"
	"net/netip"
	"strings"

	"yarnpost/api"
	"yarnpost/core/addr"
)

func copyCommand() command {
	return command{name: "scope copy", args: "NAME NEW", short: "Define a scope like another one, in another subnet", least: 2, most: 2,
		write: true,
		more:  "  yarnpost scope copy looms looms-2 --subnet 10.78.0.0/24\n  Pools, exclusions and the router keep their places in the subnet; reservations are not copied.",
		flags: func(f *flag.FlagSet) func(*call) error {
			subnet := f.String("subnet", "", "`subnet` of the new scope")
			link := f.String("link", "", "`name` of the link it shares with other scopes")
			serve := f.Bool("serve", false, "answer clients at once (default: held)")
			return func(k *call) error {
				if *subnet == "" {
					return usagef("yarnpost scope copy needs --subnet, such as --subnet 10.78.0.0/24")
				}
				of, err := k.client.Scope(k.ctx, k.args[0])
				if err != nil {
					return err
				}
				e, err := copied(of, *subnet)
				if err != nil {
					return err
				}
				e.Link = pick(f, "link", link)
				if *serve {
					mode := "serving"
					e.Mode = &mode
				}
				return k.change([]api.Edit{{Op: "add", Kind: "scope", Name: k.args[1], Scope: e}}, false, k.hasScope(k.args[1]))
			}
		}}
}

// copied is the edit that defines a scope like another in another subnet.
func copied(of api.Scope, subnet string) (*api.ScopeEdit, error) {
	from, err := netip.ParsePrefix(of.Subnet)
	if err != nil {
		return nil, fmt.Errorf("scope %s: %w", of.Name, err)
	}
	to, err := netip.ParsePrefix(subnet)
	if err != nil || to.Addr().Is4() != from.Addr().Is4() {
		return nil, usagef("%q is no subnet to copy %s to; write it like 10.78.0.0/24 or 2001:db8:78::/64", subnet, of.Subnet)
	}
	m := mover{from, to.Masked()}
	e := &api.ScopeEdit{Subnet: &subnet, Authoritative: &of.Authoritative, Bootp: &of.Bootp, RapidCommit: &of.RapidCommit,
		OfferDelay: &of.OfferDelay, Probe: &of.Probe,
		PerCircuit: &of.PerCircuit, NewPerMinute: &of.NewPerMinute, WarnUsed: &of.Thresholds.Used, WarnHeadroom: &of.Thresholds.Headroom,
		WarnDays: &of.Thresholds.Days, Identity: &of.IdentitySet, Approval: &of.Approval, Lease: &of.LeaseSet,
		Valid: &of.ValidSet, Fields: of.Fields, Note: &of.Note,
		Pools: &[]string{}, Exclusions: &[]api.Exclusion{}, Options: map[string]string{}}
	for _, p := range of.Pools {
		moved, err := m.span(p)
		if err != nil {
			return nil, err
		}
		*e.Pools = append(*e.Pools, moved)
	}
	for _, x := range of.Exclusions {
		moved, err := m.span(x.Range)
		if err != nil {
			return nil, err
		}
		*e.Exclusions = append(*e.Exclusions, api.Exclusion{Range: moved, User: x.User})
	}
	for _, o := range of.Options {
		value := o.Value
		if o.Book == "" && o.Code == 3 && o.Name == "router" {
			var parts []string
			for _, a := range strings.Split(value, ",") {
				if moved, err := m.address(a); err == nil {
					a = moved
				}
				parts = append(parts, a)
			}
			value = strings.Join(parts, ",")
		}
		e.Options[o.Name] = value
	}
	return e, nil
}

// mover takes addresses of one subnet to the same places in another.
type mover struct{ from, to netip.Prefix }

func (m mover) address(text string) (string, error) {
	a, err := netip.ParseAddr(strings.TrimSpace(text))
	if err != nil || !m.from.Contains(a) {
		return "", fmt.Errorf("%s is not in %s", text, m.from)
	}
	there := addr.SamePlace(a, m.from, m.to)
	if !there.IsValid() {
		return "", fmt.Errorf("%s has no place in the smaller subnet %s; give the new scope its pools by hand", text, m.to)
	}
	return there.String(), nil
}

// span moves a range as it is printed: a-b, or one address.
func (m mover) span(text string) (string, error) {
	from, to, isRange := strings.Cut(text, "-")
	a, err := m.address(from)
	if err != nil || !isRange {
		return a, err
	}
	b, err := m.address(to)
	return a + "-" + b, err
}
