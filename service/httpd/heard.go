package httpd

import (
	"cmp"
	"fmt"
	"net/netip"
	"slices"
	"strings"

	"yarnpost/api"
	"yarnpost/core/addr"
	"yarnpost/core/plan"
	"yarnpost/edit"
	"yarnpost/planfile"
	"yarnpost/service/observe"
)

// heardProposal is what listening learned as a plan file to review: for clients that hold what this
// server's plan would not give them, reservations, and scopes for addresses that no scope has.
// Clients that agree need nothing: what they hold is learned, and kept for them.
func (s *Server) heardProposal() ([]byte, error) {
	h := heard{d: s.Engine.Plan().Draft(), why: map[string][]string{}}
	all := s.Engine.Agreements()
	slices.SortFunc(all, func(a, b observe.Agreement) int { return a.Took.Compare(b.Took) })
	for _, a := range all {
		if !a.Agrees && a.Took.IsValid() {
			h.propose(a)
		}
	}
	next, changes := h.d.Finish()
	var edits []api.Edit
	for _, c := range changes {
		edits = append(edits, edit.Of(next, c.Kind, c.After))
	}
	about := "What the clients of another server hold, and this server's plan would not give them. Nothing of it is in force:\n" +
		"read it, mend it, and see what it would change with yarnpost plan preview. Scopes are held until you say mode: serving."
	for _, l := range h.left {
		about += "\nLeft out: " + l
	}
	return planfile.Proposed(edits, about, func(k plan.Kind, name string) []string { return h.why[string(k)+" "+name] })
}

type heard struct {
	d    *plan.Draft
	why  map[string][]string // by kind and name
	left []string
}

func (h *heard) propose(a observe.Agreement) {
	seen := fmt.Sprintf("seen %d times, last %s, from %s", a.Count, a.At.Std().UTC().Format("2006-01-02 15:04 UTC"), a.Server)
	v := h.d.Plan().ScopeAt(a.Took.Addr())
	if v == nil {
		if v = h.scope(a, seen); v == nil {
			return
		}
	}
	if r := h.d.Plan().ReservationOf(a.Took); r != nil || v.Gives(a.Took) {
		if r != nil {
			h.left = append(h.left, fmt.Sprintf("%s holds %s, which is reserved as %s", clientOf(a), addr.FormatKey(a.Took), r.Name))
		}
		return
	}
	r := plan.Reservation{Name: h.name(a), Scope: v.ID, Address: a.Took.Addr()}
	if duid := a.Client.DUID(); duid != "" {
		r.Identifier, r.IAID = addr.Octets(duid), addr.IAIDOf(a.Client.Number)
	} else {
		r.Hardware = a.Hardware
	}
	if !a.Took.IsSingleIP() {
		r.Length = a.Took.Bits()
	}
	if _, err := h.d.PutReservation(r); err != nil {
		h.left = append(h.left, fmt.Sprintf("%s holds %s: %v", clientOf(a), addr.FormatKey(a.Took), err))
		return
	}
	h.why[string(plan.KindReservation)+" "+r.Name] = []string{seen + "; " + strings.Join(a.Difference, "; ")}
}

// clientOf is the hardware address of a client, or else its DUID.
func clientOf(a observe.Agreement) string {
	return cmp.Or(a.Hardware.String(), addr.DUID(a.Client.DUID()).String())
}

// scope is a scope for an address that none has: the /24 around it, or the /64, on the link that its
// client is on; nil if there is no room for one, or if it is a prefix, which says nothing of the link.
func (h *heard) scope(a observe.Agreement, seen string) *plan.View {
	if !a.Took.IsSingleIP() {
		h.left = append(h.left, fmt.Sprintf("%s holds %s, which no prefix pool has: add one to the scope of its link", clientOf(a),
			addr.FormatKey(a.Took)))
		return nil
	}
	bits := 24
	if a.Took.Addr().Is6() {
		bits = 64
	}
	subnet := netip.PrefixFrom(a.Took.Addr(), bits).Masked()
	s := plan.Scope{Name: "net-" + addr.Dashed(subnet.Addr()), Subnet: subnet, Mode: plan.Held, Link: h.d.Plan().ID(plan.KindLink, a.Link)}
	if _, err := h.d.PutScope(s); err != nil {
		h.left = append(h.left, fmt.Sprintf("%s holds %s, for which no scope fits: %v", clientOf(a), addr.FormatKey(a.Took), err))
		return nil
	}
	h.why[string(plan.KindScope)+" "+s.Name] = []string{seen + "; how wide its subnet is nobody said"}
	return h.d.Plan().ScopeAt(a.Took.Addr())
}

// name names the reservation of a client: its host name, or its hardware address.
func (h *heard) name(a observe.Agreement) string {
	id := strings.ReplaceAll(clientOf(a), ":", "")
	name := edit.Clean(cmp.Or(a.Hostname, "client-"+id))
	if !a.Took.IsSingleIP() {
		name += "-net"
	} else if a.Took.Addr().Is6() {
		name += "-v6"
	}
	if h.d.Plan().ReservationNamed(name) != nil {
		name += "-" + id
	}
	return name
}
