package httpd

import (
	"context"
	"net/netip"
	"regexp"
	"strings"
	"time"

	"yarnpost/api"
	"yarnpost/core/addr"
	"yarnpost/core/lease"
	"yarnpost/core/plan"
	"yarnpost/service/store"
)

// historyQuery says which part of history is wanted.
type historyQuery struct {
	Who      string    `query:"who" doc:"Address, delegated prefix, hardware address, DUID or host name, in any writing"`
	Address  string    `query:"address" doc:"Who had this address"`
	Hardware string    `query:"hardware" doc:"Where this client has been"`
	Hostname string    `query:"hostname" doc:"Where clients that said this host name have been"`
	DUID     string    `query:"duid" doc:"Where this client has been, by its DUID; in IPv4 too, if it sends that there"`
	At       time.Time `query:"at" doc:"With an address: who had it at this moment"`
	Before   time.Time `query:"before" doc:"Only what happened before"`
	Limit    int       `query:"limit" default:"100" minimum:"1" maximum:"1000"`
}

// duidLeast is from how many octets on bare digits are taken for a DUID, and not for a host name.
const duidLeast = 8

// octetPairs is how octets are written; eight of them could be read as an IPv6 address, which nobody
// writes with a zero in front of each group.
var octetPairs = regexp.MustCompile(`^([0-9A-Fa-f]{2}[:-]){5,}[0-9A-Fa-f]{2}$`)

// sort says what Who is.
func (q *historyQuery) sort() {
	who := strings.TrimSpace(q.Who)
	if who == "" {
		return
	}
	if _, err := addr.ParseKey(who); err == nil && !octetPairs.MatchString(who) {
		q.Address = who
	} else if _, err := addr.ParseHardware(who); err == nil && strings.Count(who, ":")+strings.Count(who, "-") <= 8 {
		q.Hardware = who
	} else if d, err := addr.ParseDUID(who); err == nil && len(d) >= duidLeast {
		q.DUID = who
	} else {
		q.Hostname = who
	}
}

// history lists what happened, newest first.
func (s *Server) history(ctx context.Context, q *historyQuery) (*body[api.Page[api.LeaseEvent]], error) {
	var err error
	q.sort()
	past := store.Past{Before: q.Before, Limit: q.Limit, Hostname: q.Hostname}
	if q.Address != "" {
		if past.Key, err = addr.ParseKey(q.Address); err != nil {
			return nil, failure(plan.Refused("%v", err))
		}
	}
	if q.Hardware != "" {
		if past.Hardware, err = addr.ParseHardware(q.Hardware); err != nil {
			return nil, failure(plan.Refused("%v", err))
		}
	}
	if q.DUID != "" {
		if past.DUID, err = addr.ParseDUID(q.DUID); err != nil {
			return nil, failure(plan.Refused("%v", err))
		}
	}
	switch {
	case q.Address+q.Hardware+q.DUID+q.Hostname == "":
		return nil, failure(plan.Refused("name an address, a hardware address, a DUID or a host name"))
	case !q.At.IsZero() && q.Address == "":
		return nil, failure(plan.Refused("who had it at a moment can be told of an address; name one"))
	case !q.At.IsZero():
		past.Before, past.Limit = q.At.Add(time.Nanosecond), 1
	case past.Before.IsZero():
		past.Before = s.Clock.Now().Add(time.Minute)
	}
	events, err := s.Store.History(ctx, past, s.Clock.Now())
	if err != nil {
		return nil, failure(err)
	}
	ended := s.endedBy(ctx, events)
	out := []api.LeaseEvent{}
	for _, e := range events {
		l := leaseView(plan.New(), &e.Lease)
		if !q.At.IsZero() && (e.Status != lease.Active || e.Expires != lease.Never && e.Expires.Std().Before(q.At)) {
			continue // nobody had it then
		}
		if ofNobody(&e.Lease) {
			continue
		}
		out = append(out, api.LeaseEvent{At: e.At.UTC(), Address: l.Address, Vendor: e.Vendor, Status: l.Status, Hardware: l.Hardware,
			Identifier: l.Identifier, DUID: l.DUID, IAID: l.IAID, Hostname: l.Hostname,
			Since: e.Since.Std(), Expires: expiry(e.Expires), Relay: l.Relay, Circuit: l.Circuit, By: ended(&e)})
	}
	return listed(s, out)
}

// endedBy tells of events, the latest first, who ended or cleared a lease, if a person did.
func (s *Server) endedBy(ctx context.Context, events []store.Event) func(*store.Event) string {
	deeds := map[netip.Prefix][]store.Deed{}
	for _, e := range events {
		k := e.Prefix
		if _, asked := deeds[k]; asked || e.Status == lease.Active {
			continue
		}
		list, err := s.Store.Trail(ctx, store.TrailQuery{Subject: addr.FormatKey(k), Before: e.At.Add(time.Minute), Limit: 100,
			Own: true})
		if err != nil {
			break // the events are worth more than who ended one
		}
		deeds[k] = list
	}
	return func(e *store.Event) string {
		for _, d := range deeds[e.Prefix] {
			if off := d.At.Sub(e.At); e.Status != lease.Active && off > -5*time.Second && off < 5*time.Second {
				return d.Who
			}
		}
		return ""
	}
}
