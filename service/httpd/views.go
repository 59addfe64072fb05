package httpd

import (
	"cmp"
	"encoding/hex"
	"fmt"
	"maps"
	"net/netip"
	"slices"
	"time"

	"yarnpost/api"
	"yarnpost/core/addr"
	"yarnpost/core/lease"
	"yarnpost/core/option"
	"yarnpost/core/plan"
	"yarnpost/core/reason"
	"yarnpost/service/change"
	"yarnpost/service/observe"
)

// This file turns values of the core into the API's types.

func settingsView(p *plan.Plan, options map[option.Key]string) []api.Setting {
	out := []api.Setting{}
	for _, k := range slices.SortedFunc(maps.Keys(options), option.Key.Compare) {
		out = append(out, api.Setting{Code: k.Code, Book: k.Book, Name: p.KeyName(k), Value: options[k]})
	}
	return out
}

func valuesView(p *plan.Plan, values []plan.Value) []api.Setting {
	out := []api.Setting{}
	for _, v := range values {
		text := v.Text
		if d, err := p.Def(v.Key); text == "" && err == nil {
			text = d.Type.Format(v.Data)
		}
		out = append(out, api.Setting{Code: v.Code, Book: v.Book, Name: p.KeyName(v.Key), Value: text, Level: v.Level.String(),
			From:  v.Name,
			Bytes: hex.EncodeToString(v.Data)})
	}
	return out
}

func leaseText(d plan.Duration) string {
	if d == 0 {
		return ""
	}
	return d.String()
}

func texts[T interface{ String() string }](list []T) []string {
	out := []string{}
	for _, v := range list {
		out = append(out, v.String())
	}
	return out
}

func usageOf(p *plan.Plan, v *plan.View, n lease.Counts) api.Usage {
	return api.Usage{Size: api.Count(v.Size), Excluded: api.Count(v.Excluded), Reserved: p.ReservationCount(v.ID), Active: n.Active,
		Offered: n.Offered, Released: n.Released, Expired: n.Expired, Abandoned: n.Abandoned, Headroom: api.Count(n.Headroom),
		Partner: api.Count(n.Partner), Spare: api.Count(v.Reservable())}
}

func (s *Server) scopeView(p *plan.Plan, v *plan.View) api.Scope {
	out := api.Scope{ID: int64(v.ID), Name: v.Name, Link: v.LinkName, Subnet: v.Subnet.String(), Mask: maskText(v.Subnet),
		Family: familyOf(v.Family()), PrefixPools: texts(v.PrefixPools), ValidSet: leaseText(v.Scope.Valid),
		Pools:      texts(v.Pools),
		Exclusions: []api.Exclusion{}, Mode: string(v.Mode), Authoritative: v.Authoritative, Lease: plan.Duration(v.Lease).String(),
		LeaseSet: leaseText(v.Scope.Lease), Options: settingsView(p, v.Options), Fields: ownView(v.Fields), Note: v.Note,
		Thresholds: api.Thresholds(v.Thresholds),
		Identity:   string(plan.ByIdentifier), IdentitySet: string(v.Identity), Bootp: string(cmp.Or(v.Bootp, plan.BootpReserved)),
		RapidCommit: v.RapidCommit,
		OfferDelay:  leaseText(v.OfferDelay), Probe: !v.NoProbe, PerCircuit: v.Limits.PerCircuit, NewPerMinute: v.Limits.NewPerMinute,
		Confined:  []string{},
		Listening: v.On.Listening || p.Defaults.Listening,
		Usage:     usageOf(p, v, s.Engine.Count(v.ID)), Prefixes: s.prefixUsage(v)}
	if v.Family() == option.V6 {
		out.Valid = option.FormatDuration(v.ValidFor(nil, v.Lease))
	}
	if v.ByHardware {
		out.Identity = string(plan.ByHardware)
	}
	out.Supernets, out.LeaseFrom = namesOf(v.Around), originText(v.LeaseFrom)
	for _, part := range v.Parts {
		if part.Confined {
			out.Confined = append(out.Confined, part.Pool.String())
		}
	}
	for _, e := range v.Exclusions {
		out.Exclusions = append(out.Exclusions, api.Exclusion{Range: e.Range.String(), User: e.User})
	}
	out.DrainUntil, out.RunDown, out.Approval = moment(v.DrainUntil), moment(v.RunDown), v.Approval
	return out
}

// prefixUsage says how the prefix pools of a scope are used; nil if it has none.
func (s *Server) prefixUsage(v *plan.View) *api.PrefixUsage {
	if len(v.PrefixPools) == 0 {
		return nil
	}
	n := s.Engine.CountDelegated(v.ID)
	size := uint64(0)
	for i := range v.Parts {
		if p := &v.Parts[i]; p.Length > 0 {
			size += min(p.Size(), uint64(api.MostCount))
		}
	}
	return &api.PrefixUsage{Size: api.Count(size), Active: n.Active, Offered: n.Offered, Kept: n.Kept, Headroom: api.Count(n.Headroom),
		Partner: api.Count(n.Partner)}
}

func familyOf(f option.Family) int {
	if f == option.V6 {
		return 6
	}
	return 4
}

// maskText is the dotted mask of an IPv4 subnet; "" for IPv6.
func maskText(p netip.Prefix) string {
	if p.Addr().Is6() {
		return ""
	}
	return addr.Mask(p).String()
}

// namesOf are the names of supernets.
func namesOf(list []*plan.Supernet) []string {
	out := []string{}
	for _, n := range list {
		out = append(out, n.Name)
	}
	return out
}

// originText says whose setting something is.
func originText(o plan.Origin) string {
	switch {
	case o.Level == plan.AtService:
		return "the usual one"
	case o.Name == "" || o.Level == plan.AtScope:
		return o.Level.String()
	}
	return o.Level.String() + " " + o.Name
}

// supernetView needs the use of every scope, by id.
func supernetView(p *plan.Plan, n *plan.Supernet, uses map[plan.ID]api.Usage) api.Supernet {
	out := api.Supernet{ID: int64(n.ID), Name: n.Name, Prefix: n.Prefix.String(), Lease: leaseText(n.Lease), Valid: leaseText(n.Valid),
		Identity: string(n.Identity),
		Options:  settingsView(p, n.Options), Thresholds: api.Thresholds(n.Thresholds), Approval: n.Approval, Fields: ownView(n.Fields),
		Note: n.Note}
	around := p.Around(n.Prefix)
	out.In = namesOf(around[:len(around)-1]) // the last is itself
	for _, v := range p.Inside(n.Prefix) {
		out.Scopes++
		out.Usage = out.Usage.Plus(uses[v.ID])
	}
	return out
}

func linkView(p *plan.Plan, l *plan.Link) api.Link {
	out := api.Link{ID: int64(l.ID), Name: l.Name, Interfaces: append([]string{}, l.Interfaces...), Relays: texts(l.Relays),
		Scopes: []string{}, Listening: l.Listening, StandAside: l.StandAside, SubnetSelection: l.SubnetSelection,
		Wake: l.Wake, Fields: ownView(l.Fields), Note: l.Note}
	for _, v := range p.OnLink(l.ID) {
		out.Scopes = append(out.Scopes, v.Name)
	}
	return out
}

func reservationView(p *plan.Plan, r *plan.Reservation, l *lease.Lease, now lease.Time) api.Reservation {
	out := api.Reservation{ID: int64(r.ID), Name: r.Name, Scope: p.Label(r.Scope), Hardware: r.Hardware.String(),
		Circuit: r.Circuit, IAID: r.IAID.String(), Valid: leaseText(r.Settings.Valid),
		Client: r.Client(), Address: r.What(), Hostname: r.Hostname, Insist: r.Insist, Lease: leaseText(r.Settings.Lease),
		Options: settingsView(p, r.Options), Fields: ownView(r.Fields), Note: r.Note, Status: lease.Free.String()}
	if r.Address.Is6() {
		out.DUID = r.Identifier.String()
	} else {
		out.Identifier = r.Identifier.String()
	}
	if l != nil {
		out.Status = l.Status.String()
		if l.HeldAt(now) {
			out.Holder = l.Hardware.String()
		}
	}
	return out
}

func expiry(t lease.Time) *time.Time {
	if t == lease.Never {
		return nil
	}
	s := t.Std()
	return &s
}

// circuitText shows a circuit as text where it is text.
func circuitText(c string) string {
	if c == "" {
		return ""
	}
	return option.Show([]byte(c))
}

func addrText(a netip.Addr) string {
	if !a.IsValid() {
		return ""
	}
	return a.String()
}

// statusWord is the status of a lease as people are shown it: an address that its client made
// itself was not leased to it.
func statusWord(l *lease.Lease) string {
	if l.Status == lease.Active && l.Client.Kind == lease.Registered {
		return "registered"
	}
	return l.Status.String()
}

func leaseView(p *plan.Plan, l *lease.Lease) api.Lease {
	out := api.Lease{Address: addr.FormatKey(l.Prefix), Status: statusWord(l), Hardware: l.Hardware.String(),
		Identifier: option.Colons([]byte(l.Client.Identifier())), Hostname: l.Hostname, Vendor: l.Vendor, Reserved: l.Reserved,
		Since: l.Since.Std(), Expires: expiry(l.Expires), Changed: l.Changed.Std(), Heard: l.Heard.Std(),
		Granted: option.FormatDuration(l.Granted),
		Relay:   addrText(l.Relay), Circuit: circuitText(l.Circuit), Revision: l.Revision, CanNudge: l.Nudge != ""}
	if duid := addr.DUID(l.Client.DUID()); duid != "" {
		out.DUID, out.DUIDOf = duid.String(), duid.Describe()
		if l.Client.Kind != lease.Registered {
			out.IAID = addr.IAIDOf(l.Client.Number).String()
		}
	}
	out.Learned = l.Revision == 0 && l.Status == lease.Active
	if l.By != lease.Alone {
		out.By = l.By.String()
	}
	wanted := l.Wanted()
	switch {
	case wanted > 0:
		out.Evidence = fmt.Sprintf("for %s for now, since the other server of the pair had not confirmed more; %s at a renewal",
			option.FormatDuration(l.Granted), option.FormatDuration(wanted))
	case l.Found() && l.Hardware != "":
		out.Evidence = "answered a probe from " + l.Hardware.String()
	case l.Found():
		out.Evidence = "answered a probe"
	case l.Status == lease.Abandoned:
		out.Evidence = "declined by " + l.Hardware.String()
	case l.Status == lease.Active && l.Client.Kind == lease.Registered:
		out.Evidence = "its client made it itself and registered it (RFC 9686): nothing was leased"
	case l.Kept():
		out.Evidence = "its client may still use it: kept from others until a probe meets silence, or until it expires"
	}
	if v := p.ScopeAt(l.Address()); v != nil {
		out.Scope = v.Name
	}
	return out
}

// reasonText gives a reason in words and the one-step mend.
func reasonText(u observe.Unserved) (text, mend string) {
	text = u.Reason.Words(u.Rule)
	switch {
	case u.Reason == reason.SharedIdentifier && u.Asked.Is6():
		text = "another machine has the same DUID, and both have " + addrText(u.Asked)
	case u.Reason == reason.SharedIdentifier:
		text = "another host has the same client identifier, and both have " + addrText(u.Asked)
	case u.Reason == reason.ReservedInUse && u.Asked.IsValid():
		text = "another host answers for " + addrText(u.Asked) + ", which is reserved for it"
	case u.Reason == reason.WrongNetwork:
		text = "asked for " + addrText(u.Asked) + ", which is on another link"
	}
	return text, mendFor(u)
}

// mendFor is what to do for an unserved client.
func mendFor(u observe.Unserved) string {
	from := "interface " + u.Interface
	if u.Relay.IsValid() {
		from = "relay " + u.Relay.String()
	}
	switch u.Reason {
	case reason.NoScope:
		mend := "define a scope for " + from
		if guess := guessSubnet(u); guess != "" {
			mend += ", perhaps " + guess
		}
		return mend
	case reason.ScopeHeld:
		return "yarnpost scope serve " + u.Scope
	case reason.ScopeDraining:
		return "serve another scope on link " + u.Link + ", or yarnpost scope serve " + u.Scope
	case reason.PoolEmpty:
		return "widen a pool of scope " + u.Scope + ", or shorten its lease time"
	case reason.ReservedOnly:
		return "reserve an address for it, or give scope " + u.Scope + " a pool"
	case reason.WrongNetwork:
		return "nothing, if it moved: it asks again for an address here"
	case reason.ForAnother:
		return "nothing, if it asks again; or remove the reservation"
	case reason.HeldByAnother:
		return "nothing, if it asks again; or end the other lease"
	case reason.NotHandedOut:
		return "nothing, if it asks again; or change the exclusion"
	case reason.HasReservation:
		return "nothing: it is moving to its reserved address"
	case reason.NoRecord:
		return "nothing, if it asks again; make the scope authoritative to hurry it"
	case reason.NoDatabase:
		return "bring the database back"
	case reason.ByRule:
		return "nothing, if it is meant; or change the rule: yarnpost rule show " + u.Rule
	case reason.TooMany:
		return "nothing, if the rush ends; or raise the limit: yarnpost scope edit " + u.Scope + " --new-per-minute N"
	case reason.NoBootp:
		return "reserve an address for it, or yarnpost scope edit " + u.Scope + " --bootp dynamic"
	case reason.NotTaken, reason.NoWayBack:
		return "check the way back from the server to " + from
	case reason.NotOffered, reason.OtherAddress:
		return "nothing, if it asks again"
	case reason.OfNetwork:
		return "nothing, if it asks again; give that device its address by hand, and exclude it"
	case reason.TooManyDeclines:
		return "look at what it finds in use: yarnpost trace --client " + cmp.Or(u.Hardware.String(), addr.DUID(u.Client.DUID()).String())
	case reason.ReservedInUse:
		return "find the host that answers for " + addrText(u.Asked) + " (yarnpost lease show " + addrText(u.Asked) +
			"), or yarnpost reservation edit NAME --insist"
	case reason.SharedIdentifier:
		if u.Asked.Is6() {
			return "have one of the two make a DUID of its own: both were set up from one image"
		}
		if u.Scope == "" {
			return "tell clients apart by hardware address: yarnpost defaults edit --identity hardware"
		}
		return "tell clients apart by hardware address: yarnpost scope edit " + u.Scope + " --identity hardware"
	case reason.TooLong:
		return "see what the relay adds: yarnpost trace --client " + cmp.Or(u.Hardware.String(), addr.DUID(u.Client.DUID()).String())
	case reason.Overload:
		return "nothing, if the rush ends; see /metrics for what waits"
	case reason.RecordsLost:
		return "nothing, if it asks again later; yarnpost status says until when addresses are kept"
	case reason.PartnersShare:
		return "nothing: the other server is asked for addresses; or yarnpost pair rebalance"
	case reason.BadRelay:
		return "give the relay an address that is no client's, and name it: yarnpost relay accept " + addrText(u.Relay)
	case reason.Fenced:
		return "stop this service: another one serves from its database"
	}
	return ""
}

// guessSubnet guesses the subnet that a missing scope would have.
func guessSubnet(u observe.Unserved) string {
	if u.Reason != reason.NoScope || !u.Selected.IsValid() || u.Selected.IsLoopback() {
		return ""
	}
	bits := 24
	if u.Selected.Is6() {
		bits = 64
	}
	return netip.PrefixFrom(u.Selected, bits).Masked().String()
}

func unservedView(u observe.Unserved) api.Unserved {
	text, mend := reasonText(u)
	return api.Unserved{Hardware: u.Hardware.String(), Identifier: option.Colons([]byte(u.Client.Identifier())),
		DUID: addr.DUID(u.Client.DUID()).String(), Hostname: u.Hostname,
		Vendor: u.Vendor,
		Reason: string(u.Reason), Text: text, Mend: mend, Scope: u.Scope, Link: u.Link, Relay: addrText(u.Relay), Interface: u.Interface,
		Circuit: circuitText(u.Circuit), Asked: addrText(u.Asked), First: u.First.Std(), Last: u.Last.Std(), Count: u.Count,
		Guess: guessSubnet(u), Trail: u.Trail}
}

func linesView(lines []plan.Line) []api.DiffLine {
	out := []api.DiffLine{}
	for _, l := range lines {
		out = append(out, api.DiffLine{Kind: string(l.Kind), Name: l.Name, Text: l.Text, Before: l.Before, After: l.After})
	}
	return out
}

// diffMost is how many lines of a difference a person is shown: nobody reads more, and half a
// million of them take longer than the change.
const diffMost = 10_000

func (s *Server) changeView(c *change.Change) api.ChangeResult {
	out := api.ChangeResult{Base: c.Base, Revision: c.Revision, Applied: c.Applied, Lines: len(c.Lines),
		Diff: linesView(c.Lines[:min(len(c.Lines), diffMost)]), Advice: []api.Advice{},
		Effects: []api.Effect{}, Inherits: linesView(c.Inherits), Inherited: c.Inherited, Scopes: []api.Scope{}, Resolved: []string{},
		Needs: c.Needs}
	for _, a := range c.Advice {
		out.Advice = append(out.Advice, api.Advice{Code: a.ID, Subject: a.Subject, Text: a.Text})
	}
	for _, e := range c.Effects {
		out.Effects = append(out.Effects, api.Effect(e))
	}
	for _, v := range c.Scopes {
		out.Scopes = append(out.Scopes, s.scopeView(c.Plan, v))
	}
	return out
}
