package answer

import (
	"encoding/binary"
	"fmt"
	"net/netip"
	"strings"
	"testing"
	"time"

	"yarnpost/core/dhcp4"
	"yarnpost/core/option"
	"yarnpost/core/plan"
	"yarnpost/core/request"
)

// A sheet of what was given tells whether it would be given still.
func TestGivenAndRenewal(t *testing.T) {
	f := newWorld(t, "10.77.0.0/24", "10.77.0.100-10.77.0.109")
	class := dhcp4.Option{Code: option.ClassID, Data: []byte("loom 2")}
	o := f.do(f.message(dhcp4.Discover, 1, class))
	m := f.message(dhcp4.Request, 1, class, at(option.AddressRequest, o.First().Address().String()), at(option.ServerID, server.String()))
	d := f.do(m)
	l := d.First().Lease
	set, err := ParseSet(AppendSet(nil, m, d.Reply))
	if err != nil || l.Given == 0 {
		t.Fatal(err, l.Given)
	}
	if got := fmt.Sprint(set.Unmet(option.V4)); got != "[42]" {
		t.Errorf("unmet %s", got)
	}
	if dns, _ := set.Given.Get(6); netip.AddrFrom4([4]byte(dns)).String() != "10.77.0.53" {
		t.Errorf("given %v", set.Given)
	}
	again := func() (uint64, bool) {
		_, digest, ok := Renewal(f.table.At(l.Address()), set.Asked, f.world(), nil)
		return digest, ok
	}
	if digest, ok := again(); !ok || digest != l.Given {
		t.Errorf("an unchanged plan gives another set: %v", ok)
	}
	f.edit(func(s *plan.Scope) { s.Lease = plan.Duration(3 * time.Hour) })
	if digest, _ := again(); digest != l.Given {
		t.Error("the lease time is part of the set")
	}
	f.edit(func(s *plan.Scope) {
		s.Options = map[option.Key]string{option.Std(3): "10.77.0.1", option.Std(6): "10.77.0.54", option.Std(15): "mill.example"}
	})
	if digest, ok := again(); !ok || digest == l.Given {
		t.Error("a changed option does not show")
	}
	f.rule(plan.Rule{Name: "out", When: `vendor.startsWith("loom")`, Action: plan.Ignore})
	if _, ok := again(); ok {
		t.Error("a client that is ignored now would be served still")
	}
	if _, err := ParseSet([]byte{'g', 6, 0, 9, 1}); err == nil {
		t.Error("a cut set is taken")
	}
}

func TestNudge(t *testing.T) {
	f := newWorld(t, "10.77.0.0/24", "10.77.0.100-10.77.0.109")
	can := dhcp4.Option{Code: option.ForceRenewNonce, Data: []byte{1}}
	secret := strings.Repeat("n", 16)
	take := func(n int, more ...dhcp4.Option) *Decision {
		w := f.world()
		w.Nonce = func() string { return secret }
		o := f.do(f.message(dhcp4.Discover, n, more...))
		m := f.message(dhcp4.Request, n,
			append(more, at(option.AddressRequest, o.First().Address().String()), at(option.ServerID, server.String()),
				dhcp4.Option{Code: option.RelayAgent, Data: []byte("\x01\x01x")})...)
		d := Decide(asked(m, request.Path{Server: server}), w, nil)
		f.table.Put(d.First().Lease)
		return d
	}
	d := take(1, can)
	mine := d.First().Address()
	if last := said(d).Options[len(said(d).Options)-1]; last.Code != option.RelayAgent {
		t.Errorf("option %d comes behind option 82", last.Code)
	}
	b, err := Nudge(d.First().Lease, server, 9)
	if err != nil {
		t.Fatal(err)
	}
	var m dhcp4.Message
	if err := dhcp4.Decode(&m, b); err != nil || m.Type != dhcp4.ForceRenew || m.CHAddr != hw(1) || m.XID != said(d).XID {
		t.Errorf("the nudge is %+v, %v", m, err)
	}
	if err := CheckNudge(b, secret); err != nil {
		t.Error(err)
	}
	for at := range b { // any changed octet shows
		b[at] ^= 1
		if CheckNudge(b, secret) == nil {
			t.Errorf("octet %d can be changed unseen", at)
		}
		b[at] ^= 1
	}
	if d := take(2); d.First().Lease.Nudge != "" {
		t.Error("a client that cannot be nudged has a nonce")
	} else if _, err := Nudge(d.First().Lease, server, 9); err == nil {
		t.Error("a client without a nonce is nudged")
	}
	// A message sent twice is answered from the record; so is an exchange of another
	// transaction, which is remembered, since a FORCERENEW has to repeat the last one.
	early := f.message(dhcp4.Request, 1, can)
	early.CIAddr, early.XID = mine, m.XID
	if d := f.do(early); d.First().Outcome != Acknowledged || d.First().Lease != nil {
		t.Errorf("a repeated message is %s and recorded: %v", d.First().Outcome, d.First().Lease != nil)
	}
	early.XID++
	if d := f.do(early); d.First().Lease != nil || f.table.At(mine).Nudge != string(binary.BigEndian.AppendUint32([]byte(secret), early.XID)) {
		t.Errorf("after another transaction %+v is recorded, and %+v known", d.First().Lease, f.table.At(mine))
	}
	// A renewal keeps the nonce, with the nonce told again.
	f.now += 2000
	r := f.message(dhcp4.Request, 1, can)
	r.CIAddr = mine
	w := f.world()
	w.Nonce = func() string { return strings.Repeat("x", 16) }
	again := Decide(asked(r, request.Path{Server: server}), w, nil)
	if auth, _ := said(again).Options.Get(option.Authentication); nonceOf(again.First().Lease.Nudge) != secret ||
		!strings.HasSuffix(string(auth), secret) {
		t.Errorf("the nonce became %q, told as %x", again.First().Lease.Nudge, auth)
	}
}
