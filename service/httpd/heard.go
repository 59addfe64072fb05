package httpd

import (
	"cmp"
	"fmt"
	"slices"
	"strings"

	"yarnpost/api"
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
	v := h.d.Plan().ScopeAt(a.Took)
	if v == nil {
		if v = h.scope(a, seen); v == nil {
			return
		}
	}
	if r := h.d.Plan().ReservationAt(a.Took); r != nil || v.Allocatable(a.Took) {
		if r != nil {
			h.left = append(h.left, fmt.Sprintf("%s holds %s, which is reserved as %s", a.Hardware, a.Took, r.Name))
		}
		return
	}
	r := plan.Reservation{Name: h.name(a), Scope: v.ID, Hardware: a.Hardware, Address: a.Took}
	if _, err := h.d.PutReservation(r); err != nil {
		h.left = append(h.left, fmt.Sprintf("%s holds %s: %v", a.Hardware, a.Took, err))
		return
	}
	h.why[string(plan.KindReservation)+" "+r.Name] = []string{seen + "; " + strings.Join(a.Difference, "; ")}
}

// scope is a scope for an address that none has: the /24 around it, on the link that its client is
// on; nil if there is no room for one.
func (h *heard) scope(a observe.Agreement, seen string) *plan.View {
	subnet, err := a.Took.Prefix(24)
	if err == nil {
		s := plan.Scope{Name: "net-" + subnet.Addr().String(), Subnet: subnet, Mode: plan.Held, Link: h.d.Plan().ID(plan.KindLink, a.Link)}
		if _, err = h.d.PutScope(s); err == nil {
			h.why[string(plan.KindScope)+" "+s.Name] = []string{seen + "; how wide its subnet is nobody said"}
			return h.d.Plan().ScopeAt(a.Took)
		}
	}
	h.left = append(h.left, fmt.Sprintf("%s holds %s, for which no scope fits: %v", a.Hardware, a.Took, err))
	return nil
}

// name names the reservation of a client: its host name, or its hardware address.
func (h *heard) name(a observe.Agreement) string {
	name := edit.Clean(cmp.Or(a.Hostname, "client-"+strings.ReplaceAll(a.Hardware.String(), ":", "")))
	if h.d.Plan().ReservationNamed(name) != nil {
		name += "-" + strings.ReplaceAll(a.Hardware.String(), ":", "")
	}
	return name
}
