package answer

import (
	"net/netip"
	"testing"
	"time"

	"yarnpost/core/dhcp4"
	"yarnpost/core/lease"
	"yarnpost/core/option"
	"yarnpost/core/reason"
)

// A lease that another server gave, and of which only the hardware address is known, is its client's
// whatever identifier that sends, until it is given here; then the identifier counts.
func TestBroughtLease(t *testing.T) {
	f := newWorld(t, "10.77.0.0/24", "10.77.0.100-10.77.0.199")
	a := netip.MustParseAddr("10.77.0.150")
	hw := f.message(dhcp4.Discover, 1).CHAddr
	put := func(revision int64) {
		f.table.Put(&lease.Lease{Prefix: lease.Host(a), Status: lease.Active, Client: lease.ByHardware(lease.Ethernet, hw), Hardware: hw,
			Since: f.now, Changed: f.now, Heard: f.now, Granted: time.Hour, Expires: f.now.Add(time.Hour), Revision: revision})
	}
	id := dhcp4.Option{Code: option.ClientID, Data: []byte{0xff, 1, 2, 3, 4, 5}}
	put(0)
	if d := f.do(f.message(dhcp4.Discover, 1, id)); d.First().Address() != a {
		t.Errorf("it is offered %s", d.First().Address())
	}
	d := f.do(f.message(dhcp4.Request, 1, id, at(option.AddressRequest, a.String()))) // as at a restart
	f.expect("the address that it has", d, Acknowledged, "", a.String())
	if l := f.table.At(a); l.Client != lease.ByIdentifier(id.Data) || l.Revision == 0 {
		t.Errorf("on record is %+v", l)
	}
	other := dhcp4.Option{Code: option.ClientID, Data: []byte{0xff, 9, 9, 9, 9, 9}}
	if d := f.do(f.message(dhcp4.Discover, 1, other)); d.First().Address() == a {
		t.Error("another identifier of that hardware address has it, too, though it was given here")
	}

	f = newWorld(t, "10.77.0.0/24", "10.77.0.100-10.77.0.199")
	put(0)
	if d := f.do(f.message(dhcp4.Discover, 2, id)); d.First().Address() == a {
		t.Error("another client is offered it")
	}
	f.expect("and asks for it", f.do(f.message(dhcp4.Request, 2, id, at(option.AddressRequest, a.String()))), Refused,
		reason.HeldByAnother, "")
	f = newWorld(t, "10.77.0.0/24", "10.77.0.100-10.77.0.199")
	put(7) // given here, to a client without an identifier
	if d := f.do(f.message(dhcp4.Discover, 1, id)); d.First().Address() == a {
		t.Error("one that was given here is another's with the same hardware address")
	}
}
