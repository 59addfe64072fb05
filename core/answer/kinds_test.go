package answer

import (
	"net/netip"
	"testing"
	"time"

	"yarnpost/core/dhcp4"
	"yarnpost/core/lease"
	"yarnpost/core/option"
	"yarnpost/core/plan"
	"yarnpost/core/reason"
)

func id(text string) dhcp4.Option { return dhcp4.Option{Code: option.ClientID, Data: []byte(text)} }

// Where the hardware address alone counts, a client is the same whatever
// identifier it sends; what it got before that was set stays its own.
func TestHardwareIdentity(t *testing.T) {
	f := newWorld(t, "10.77.0.0/24", "10.77.0.100-10.77.0.109")
	o := f.do(f.message(dhcp4.Discover, 1, id("\x00old")))
	had := o.First().Address()
	f.do(f.message(dhcp4.Request, 1, id("\x00old"), at(option.AddressRequest, had.String()), at(option.ServerID, server.String())))
	if two := f.do(f.message(dhcp4.Discover, 1, id("\x00new"))).First().Address(); two == had {
		t.Errorf("another identifier gets %s by default", two)
	}
	f.edit(func(s *plan.Scope) { s.Identity = plan.ByHardware })
	f.expect("the same identifier", f.do(f.message(dhcp4.Discover, 1, id("\x00old"))), Offered, "", had.String())
	renew := f.message(dhcp4.Request, 1, id("\x00other"))
	renew.CIAddr = had
	f.now += 2000
	f.expect("another identifier renews", f.do(renew), Acknowledged, "", had.String())
	if l := f.table.At(had); l.Client != lease.ByHardware(1, hw(1)) {
		t.Errorf("the record is of %v", l.Client)
	}
	f.expect("and asks anew", f.do(f.message(dhcp4.Discover, 1, id("\x00third"))), Offered, "", had.String())
	f.expect("a stranger", f.do(f.message(dhcp4.Discover, 2, id("\x00old"))), Offered, "", "")
	if l := f.table.At(had); l.Hardware != hw(1) {
		t.Errorf("the address went to %s", l.Hardware)
	}
}

// Whoever is plugged into a reserved circuit gets its address, one after the
// other; who only claims it does not.
func TestCircuitReservation(t *testing.T) {
	f := newWorld(t, "10.77.0.0/24", "10.77.0.100-10.77.0.109")
	f.change(func(d *plan.Draft) error {
		_, err := d.PutReservation(plan.Reservation{Name: "port", Scope: f.scope(), Circuit: "sw1/0/7",
			Address: netip.MustParseAddr("10.77.0.9")})
		return err
	})
	f.names("10.77.0.2")
	port := dhcp4.Option{Code: option.RelayAgent, Data: []byte("\x01\x07sw1/0/7")}
	other := dhcp4.Option{Code: option.RelayAgent, Data: []byte("\x01\x07sw1/0/8")}
	take := func(n int, via dhcp4.Option) *Decision {
		return f.do(f.message(dhcp4.Request, n, via, at(option.AddressRequest, "10.77.0.9"), at(option.ServerID, server.String())))
	}
	f.expect("the first device", f.do(f.message(dhcp4.Discover, 1, port)), Offered, "", "10.77.0.9")
	f.expect("takes it", take(1, port), Acknowledged, "", "10.77.0.9")
	f.expect("the next device there", f.do(f.message(dhcp4.Discover, 2, port)), Offered, "", "10.77.0.9")
	f.expect("takes over", take(2, port), Acknowledged, "", "10.77.0.9")
	f.expect("one that claims it from elsewhere", take(3, other), Refused, reason.ForAnother, "10.77.0.9")
	f.expect("the device that moved away", f.do(f.message(dhcp4.Discover, 1, other)), Offered, "", "10.77.0.100")
}

func TestBootpClients(t *testing.T) {
	f := newWorld(t, "10.77.0.0/24", "10.77.0.100-10.77.0.101")
	ask := func(n int) *Decision {
		m := f.message(dhcp4.None, n)
		m.Options = nil
		return f.do(m)
	}
	f.expect("without a reservation", ask(1), Ignored, reason.NoBootp, "")
	f.reserve("old", 1, "10.77.0.9")
	d := ask(1)
	f.expect("with one", d, Acknowledged, "", "10.77.0.9")
	if d.First().Lease.Expires != lease.Never || said(d).Type != dhcp4.None || d.Limit != dhcp4.BootpSize {
		t.Errorf("answered with %+v", d.Reply)
	}
	for _, o := range said(d).Options {
		if o.Code == option.MessageType || o.Code == option.ServerID || o.Code == option.AddressTime {
			t.Errorf("the reply has option %d", o.Code)
		}
	}
	if again := ask(1); again.First().Lease != nil {
		t.Error("the same request is recorded twice")
	}
	f.edit(func(s *plan.Scope) { s.Bootp = plan.BootpDynamic })
	f.expect("from the pool", ask(2), Acknowledged, "", "10.77.0.100")
	f.expect("its own again", ask(2), Acknowledged, "", "10.77.0.100")
	ask(3)
	f.expect("with the pool empty", ask(4), Ignored, reason.PoolEmpty, "")
	f.edit(func(s *plan.Scope) { s.Bootp = plan.BootpIgnore })
	f.expect("where it is ignored, reserved or not", ask(1), Ignored, reason.NoBootp, "")
}

// One exchange of two messages is recorded like one of four.
func TestRapidCommit(t *testing.T) {
	f := newWorld(t, "10.77.0.0/24", "10.77.0.100-10.77.0.109")
	rapid := dhcp4.Option{Code: option.RapidCommit}
	f.expect("where it is not allowed", f.do(f.message(dhcp4.Discover, 1, rapid)), Offered, "", "")
	f.edit(func(s *plan.Scope) { s.RapidCommit = true })
	f.expect("a client that does not ask for it", f.do(f.message(dhcp4.Discover, 2)), Offered, "", "")
	d := f.do(f.message(dhcp4.Discover, 1, rapid))
	f.expect("a client that does", d, Acknowledged, "", "10.77.0.100")
	if d.First().Lease == nil || !d.First().New || said(d).Type != dhcp4.Ack {
		t.Errorf("decided %+v", d)
	}
	if _, told := said(d).Options.Get(option.RapidCommit); !told {
		t.Error("the ACK does not say that it is a rapid commit")
	}
	f.writable = false
	f.expect("without a database", f.do(f.message(dhcp4.Discover, 3, rapid)), Ignored, reason.NoDatabase, "")
}

// Vendors' options go to their clients alone, and a reservation's own value wins.
func TestBookedValues(t *testing.T) {
	f := newWorld(t, "10.77.0.0/24", "10.77.0.100-10.77.0.109")
	typ, _ := option.ParseType("text")
	controller := option.Key{Book: "ap", Code: 241}
	colour := option.Key{Book: "acme", Code: 7}
	file := option.Key{Book: option.HeaderBook, Code: option.BootFile}
	f.change(func(d *plan.Draft) error {
		if _, err := d.PutCodebook(plan.Codebook{Name: "ap", Place: plan.InVendor, Classes: []string{"ap 1", "accesspoint*"},
			Options: []plan.Own{{Code: 241, Name: "controller", Type: typ}}}); err != nil {
			return err
		}
		if _, err := d.PutCodebook(plan.Codebook{Name: "acme", Place: plan.In125, Enterprise: 32473,
			Options: []plan.Own{{Code: 7, Name: "colour", Type: typ}}}); err != nil {
			return err
		}
		return d.SetDefaults(plan.Defaults{Settings: plan.Settings{Options: map[option.Key]string{controller: "c1", colour: "indigo",
			file: "a.bin"}}})
	})
	f.change(func(d *plan.Draft) error {
		_, err := d.PutReservation(plan.Reservation{Name: "r", Scope: f.scope(), Hardware: hw(9), Address: netip.MustParseAddr("10.77.0.9"),
			Settings: plan.Settings{Options: map[option.Key]string{controller: "c9", file: plan.NoValue}}})
		return err
	})
	class := func(text string) dhcp4.Option { return dhcp4.Option{Code: option.ClassID, Data: []byte(text)} }
	for _, c := range []struct {
		n           int
		more        []dhcp4.Option
		in43, in125 string
		file        string
	}{
		{1, nil, "", "", "a.bin"},
		{2, []dhcp4.Option{class("accesspoint 9")}, "\xf1\x02c1", "", "a.bin"},
		{3, []dhcp4.Option{class("ap 1")}, "\xf1\x02c1", "", "a.bin"},
		{4, []dhcp4.Option{class("ap 12")}, "", "", "a.bin"},
		{5, []dhcp4.Option{{Code: option.VIVendorClass, Data: []byte("\x00\x00\x7e\xd9\x00")}}, "", "\x00\x00\x7e\xd9\x08\x07\x06indigo",
			"a.bin"},
		{6, []dhcp4.Option{{Code: option.VIVendorClass, Data: []byte("\x00\x00\x7e\xd9\x09x")}}, "", "", "a.bin"}, // cut short
		{9, []dhcp4.Option{class("accesspoint 9")}, "\xf1\x02c9", "", ""},
	} {
		d := f.do(f.message(dhcp4.Discover, c.n, c.more...))
		in43, _ := said(d).Options.Get(option.VendorSpecific)
		in125, _ := said(d).Options.Get(option.VIVendorOptions)
		if string(in43) != c.in43 || string(in125) != c.in125 || string(said(d).File) != c.file {
			t.Errorf("client %d gets 43 %q, 125 %q, file %q; want %q, %q, %q", c.n, in43, in125, said(d).File, c.in43, c.in125, c.file)
		}
	}
}

// A lease time tells the level that it comes from.
func TestLeaseLevel(t *testing.T) {
	f := newWorld(t, "10.77.0.0/24", "10.77.0.100-10.77.0.109")
	level := func(n int, more ...dhcp4.Option) string {
		d := f.do(f.message(dhcp4.Discover, n, more...))
		for _, v := range d.Values {
			if v.Key == option.Std(option.AddressTime) {
				return v.Level.String() + " " + v.Name
			}
		}
		return "none"
	}
	f.edit(func(s *plan.Scope) { s.Lease = 0 })
	got := []string{level(1)}
	f.change(func(d *plan.Draft) error {
		return d.SetDefaults(plan.Defaults{Settings: plan.Settings{Lease: plan.Duration(2 * time.Hour)}})
	})
	got = append(got, level(1))
	f.edit(func(s *plan.Scope) { s.Lease = plan.Duration(time.Hour) })
	got = append(got, level(1))
	f.rule(plan.Rule{Name: "short", When: "true", Settings: plan.Settings{Lease: plan.Duration(time.Minute)}})
	got = append(got, level(1))
	for i, want := range []string{"service ", "defaults ", "scope looms", "rule short"} {
		if got[i] != want {
			t.Errorf("step %d: %q, want %q", i, got[i], want)
		}
	}
}
