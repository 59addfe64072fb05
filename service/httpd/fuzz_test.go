package httpd

import (
	"context"
	"encoding/json"
	"net/netip"
	"testing"

	"yarnpost/api"
	"yarnpost/core/addr"
	"yarnpost/core/answer"
	"yarnpost/core/dhcp4"
	"yarnpost/core/lease"
	"yarnpost/core/option"
	"yarnpost/core/plan"
	"yarnpost/core/request"
	"yarnpost/edit"
)

// Whatever edits somebody sends, nothing panics; they are refused or they make a
// plan that can be stored and restored.
func FuzzEdits(f *testing.F) {
	for _, seed := range []string{
		`{"op":"add","kind":"scope","name":"looms","scope":{"subnet":"10.77.0.0/24","pools":["all"],"options":{"router":"10.77.0.1","header/boot-file":"x"},"link":"far"}}`,
		`{"op":"add","kind":"codebook","name":"ap","codebook":{"place":"43","classes":["ap*"],"put":[{"code":241,"name":"controller","type":"address list"}]}}`,
		`{"op":"add","kind":"rule","name":"r","rule":{"when":"hw in lists.lent","lease":"1h","pool":"10.77.0.1-10.77.0.9"}}`,
		`{"op":"add","kind":"list","name":"lent","list":{"put":["02:00"]}}`,
		`{"op":"edit","kind":"defaults","defaults":{"lease":"8h","identity":"hardware","options":{"3":"none"}}}`,
		`{"op":"add","kind":"reservation","name":"r","reservation":{"circuit":"x","address":"10.77.0.9"}}`,
		`{"op":"edit","kind":"link","name":"far","link":{"relays":["10.0.0.1"],"listening":true}}`,
		`{"op":"remove","kind":"scope","name":"looms"}`,
		`{"op":"add","kind":"scope","name":"looms","scope":{"subnet":"10.77.0.0/24","pools":["all"],"mode":"serving","link":"far","bootp":"dynamic","options":{"header/next-server":"10.0.0.1","3":"hex:0a4d0001","116":"1","108":"10m"}}}`,
		`{"op":"add","kind":"scope","name":"looms","scope":{"subnet":"10.77.0.0/24","pools":["all"],"mode":"serving","link":"far","options":{"header/next-server":"hex:"}}}`,
	} {
		f.Add([]byte("[" + seed + "]"))
	}
	f.Fuzz(func(t *testing.T, b []byte) {
		var edits []api.Edit
		if json.Unmarshal(b, &edits) != nil || len(edits) > 20 {
			return
		}
		d := plan.New().Draft()
		if _, err := d.PutLink(plan.Link{Name: "far"}); err != nil {
			t.Fatal(err)
		}
		at := &around{Server: &Server{}, ctx: withoutResolver()}
		for _, x := range edits {
			// What asks the running service is left out: it needs one.
			if x.Scope != nil && (x.Op == "add" && x.Scope.Link == nil || x.Scope.Link != nil && *x.Scope.Link == "") || x.Reservation != nil &&
				x.Reservation.Address == nil {
				return
			}
			if edit.Apply(at, d, x) != nil {
				return
			}
		}
		p, _ := d.Finish()
		var back []plan.Stored
		for _, i := range p.Items() {
			raw, err := json.Marshal(i.Item)
			if err != nil {
				t.Fatal(err)
			}
			if i.Item, err = plan.Decode(i.Kind, raw); err != nil {
				t.Fatalf("%s: %v", raw, err)
			}
			back = append(back, i)
		}
		restored, err := plan.Restore(p.Revision, back)
		if err != nil {
			t.Fatalf("%+v: %v", back, err)
		}
		for _, of := range []*plan.Plan{p, restored} {
			serveUnder(t, of)
		}
	})
}

// serveUnder decides requests of all kinds under a plan, and encodes what is
// answered: no plan that was accepted makes a client end the service.
func serveUnder(t *testing.T, p *plan.Plan) {
	table := lease.New(p, 1000)
	var d answer.Decision
	w := answer.World{Table: table, Now: 1000, Writable: true, Ours: func(netip.Addr) bool { return false },
		Nonce: func() string { return "0123456789abcdef" }}
	zero := netip.IPv4Unspecified()
	for n, v := range p.Scopes() {
		for _, kind := range []dhcp4.Type{dhcp4.None, dhcp4.Discover, dhcp4.Request, dhcp4.Inform, dhcp4.Decline, dhcp4.Release} {
			for _, wants := range [][]byte{nil, {1, 3, 6, 51, 58, 59, 43, 66, 67, 108, 116, 121, 125, 150}} {
				m := &dhcp4.Message{Op: dhcp4.BootRequest, HType: 1, CIAddr: zero, YIAddr: zero, SIAddr: zero,
					GIAddr: netip.AddrFrom4([4]byte{127, 0, 0, 1}), CHAddr: addr.Hardware([]byte{2, 0, 0, 0, byte(n), byte(kind)}), Type: kind}
				at := v.Subnet.Addr().Next()
				if kind != dhcp4.None {
					m.Options = dhcp4.Options{{Code: option.MessageType, Data: []byte{byte(kind)}}, {Code: option.AutoConfig, Data: []byte{1}},
						{Code: option.ForceRenewNonce, Data: []byte{1}}, {Code: option.ClassID, Data: []byte("ap 1")},
						{Code: option.AddressRequest, Data: at.AsSlice()}}
				}
				if wants != nil {
					m.Options = append(m.Options, dhcp4.Option{Code: option.ParameterList, Data: wants})
				}
				if kind == dhcp4.Inform {
					m.CIAddr = at
				}
				m.Agent = dhcp4.Relay{Link: v.Subnet.Addr()}
				x := answer.Decide(m.Request(request.Path{Server: netip.AddrFrom4([4]byte{127, 0, 0, 1}), Unicast: true}), w, &d)
				if x.Reply == nil {
					continue
				}
				b, _, err := x.Reply.AppendTo(nil, x.Limit)
				if err != nil {
					t.Fatalf("the reply to %s cannot be encoded: %v", kind, err)
				}
				var back dhcp4.Message
				if err := dhcp4.Decode(&back, b); err != nil {
					t.Fatalf("the reply to %s cannot be read: %v", kind, err)
				}
				for _, c := range x.Changes {
					table.Put(c.After)
				}
			}
		}
	}
}

// withoutResolver is a context in which no name is looked up: it is over.
func withoutResolver() context.Context {
	ctx, cancel := context.WithCancel(context.Background())
	cancel()
	return ctx
}
