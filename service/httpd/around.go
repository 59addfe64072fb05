package httpd

import (
	"context"
	"errors"
	"fmt"
	"net"
	"net/netip"
	"slices"
	"time"

	"yarnpost/core/addr"
	"yarnpost/core/plan"
	"yarnpost/edit"
)

// around is what is around edits that are made at this server (edit.Around).
type around struct {
	*Server
	ctx      context.Context
	resolved []string // host names that were resolved, in words
	named    bool     // a host name stays an error: what is written in a file means the same tomorrow
}

// Now is the service's time.
func (at *around) Now() time.Time {
	if at.Engine == nil {
		return time.Time{}
	}
	return at.Clock.Now()
}

// Interfaces are those on which broadcast clients are served.
func (at *around) Interfaces() []plan.Interface { return at.Host.PlanInterfaces() }

// NetworkAt says what of the network an address is, as far as the service knows
// and the plan does not.
func (at *around) NetworkAt(a netip.Addr) string {
	if at.Engine == nil {
		return ""
	}
	return at.Engine.NetworkAt(a)
}

// Resolve asks the host's resolver for an IPv4 address.
func (at *around) Resolve(host string) (netip.Addr, error) {
	if at.named {
		return edit.Nowhere.Resolve(host)
	}
	ctx, cancel := context.WithTimeout(at.ctx, 5*time.Second)
	defer cancel()
	list, err := net.DefaultResolver.LookupNetIP(ctx, "ip4", host)
	if err != nil || len(list) == 0 {
		return netip.Addr{}, errors.New("the resolver of this host knows no address of it; give the address itself")
	}
	a := list[0].Unmap()
	if text := fmt.Sprintf("%s → %s", host, a); !slices.Contains(at.resolved, text) {
		at.resolved = append(at.resolved, text)
	}
	return a, nil
}

// Propose is what the client of a reservation holds in the scope, or a free address of it: for
// one that moves there from another scope preferably at the place in it that it had.
func (at *around) Propose(p *plan.Plan, scope *plan.View, r *plan.Reservation) (netip.Addr, bool) {
	if a, ok := at.Leases.HeldBy(scope.ID, r); ok && p.ReservationAt(a) == nil {
		return a, true
	}
	var place netip.Addr
	if old := p.Scope(r.Scope); old != nil && r.Address.IsValid() {
		place = addr.SamePlace(r.Address, old.Subnet, scope.Subnet)
	}
	return at.Engine.Propose(p, scope, place)
}
