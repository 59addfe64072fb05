package rule

import (
	"net/netip"
	"strings"
	"testing"

	"yarnpost/core/addr"
	"yarnpost/core/dhcp4"
	"yarnpost/core/option"
	"yarnpost/core/request"
)

func asked() *Request {
	m := &dhcp4.Message{Type: dhcp4.Discover, GIAddr: netip.IPv4Unspecified(), CHAddr: addr.Hardware("\x02\x4c\x00\x00\x00\x17")}
	for code, data := range map[uint8]string{option.ClassID: "deskphone 7", option.UserClass: "\x05staff\x02it", option.Hostname: "loom-17",
		option.ClientID: "\x01\x02\x4c", option.ParameterList: "\x01\x96", option.ClientSystem: "\x00\x07",
		option.ClientFQDN: "\x04\x00\x00\x07loom-17\x08fellgate\x07example\x00"} {
		m.Options = append(m.Options, dhcp4.Option{Code: code, Data: []byte(data)})
	}
	of := m.Request(request.Path{})
	return &Request{Of: &of, Agent: request.Agent{Circuit: []byte("sw1/0/7"), Remote: []byte{0, 1}}, Link: "yard", Scope: "looms",
		Lists: NewLists(map[string][]string{"phones": {"02:4c:00:00:00:17"}, "others": {"01:02:ff"}})}
}

func TestFits(t *testing.T) {
	for text, want := range map[string]bool{
		`true`:                                        true,
		`hw.startsWith("02:4c:00:")`:                  true,
		`hw.startsWith("02:4d:")`:                     false,
		`vendor.startsWith("deskphone")`:              true,
		`"staff" in userClass && !("x" in userClass)`: true,
		`150 in wants`:                                true,
		`66 in wants`:                                 false,
		`circuit == "sw1/0/7" && remote == "00:01"`:   true,
		`hostname.matches("^loom-[0-9]+$")`:           true,
		`fqdn.endsWith(".fellgate.example")`:          true,
		`options[?93].orValue("") == "7"`:             true,
		`options[?94].orValue("") == "7"`:             false,
		`93 in options && raw[93] == b"\x00\x07"`:     true,
		`hw in lists.phones || id in lists.phones`:    true,
		`hw in lists["others"]`:                       false,
		`link == "yard" && scope == "looms" && message == "DISCOVER" && relay == ""`: true,
		`id == "01:02:4c"`: true,
	} {
		p, err := Compile(text)
		if err != nil {
			t.Errorf("%s: %v", text, err)
			continue
		}
		r := asked()
		if got, err := p.Fits(r); got != want || err != nil {
			t.Errorf("%s gives %v, %v", text, got, err)
		}
	}
	for _, v := range Variables {
		if _, err := Compile(v.Example); err != nil {
			t.Errorf("the example of %s: %v", v.Name, err)
		}
	}
}

func TestFaultsHaveAPlace(t *testing.T) {
	for text, want := range map[string]string{
		``:                    "is empty",
		`hw.startsWith("02:"`: "line 1, column",
		`true &&
 hx == ""`: "line 2, column 2: undeclared reference to 'hx'",
		`hw`:         "must give true or false",
		`wants == 3`: "no matching overload",
		`wants.all(a, wants.all(b, wants.all(c, wants.exists(d, a + b + c == d))))`: "steps",
		strings.Repeat("true && ", 1000) + "true":                                   "octets",
	} {
		if _, err := Compile(text); err == nil || !strings.Contains(err.Error(), want) {
			t.Errorf("%.60s: %v, want %q", text, err, want)
		}
	}
	p, err := Compile(`hw in lists.phones && id in lists["more"]`)
	if err != nil || len(p.Lists) != 2 || p.Lists[0] != "phones" || p.Lists[1] != "more" {
		t.Errorf("lists of the program: %v, %v", p, err)
	}
	p, _ = Compile(`raw[200] == b""`)
	if fits, err := p.Fits(asked()); fits || err == nil {
		t.Error("an option that is not there does not fail")
	}
}

// Nothing that a client can send makes an expression panic or run away.
func FuzzFits(f *testing.F) {
	var all []*Program
	for _, v := range Variables {
		p, err := Compile(v.Example)
		if err != nil {
			f.Fatal(err)
		}
		all = append(all, p)
	}
	b, _, err := asked().Of.Message.(*dhcp4.Message).AppendTo(nil, 0)
	if err != nil {
		f.Fatal(err)
	}
	f.Add(b)
	f.Fuzz(func(t *testing.T, b []byte) {
		var m dhcp4.Message
		if dhcp4.Decode(&m, b) != nil {
			return
		}
		for _, p := range all {
			of := m.Request(request.Path{})
			p.Fits(&Request{Of: &of})
		}
	})
}

// No expression that somebody types makes the compiler panic.
func FuzzCompile(f *testing.F) {
	for _, v := range Variables {
		f.Add(v.Example)
	}
	f.Fuzz(func(t *testing.T, text string) {
		if p, err := Compile(text); err == nil {
			p.Fits(asked())
		}
	})
}
