package observe

import (
	"log/slog"
	"net/netip"
	"strings"
	"testing"
	"time"

	"yarnpost/core/lease"
	"yarnpost/core/option"
	"yarnpost/core/plan"
	"yarnpost/core/request"
)

// Two replies are compared option by option, but for what is of one server or
// one moment.
func TestOptionDifferences(t *testing.T) {
	p := plan.New()
	o := func(code uint16, data string) request.Option { return request.Option{Code: code, Data: []byte(data)} }
	ours := request.Options{o(53, "\x02"), o(54, "\x0a\x4d\x00\x01"), o(3, "\x0a\x4d\x00\x01"), o(15, "mill.example"), o(51, "aaaa")}
	theirs := request.Options{o(53, "\x05"), o(54, "\x0a\x4d\x00\x02"), o(3, "\x0a\x4d\x00\xfe"), o(42, "\x0a\x4d\x00\x2a"), o(51,
		"bbbb"),
		o(15, "mill.example")}
	got := strings.Join(OptionDifferences(p, ours, theirs), "; ")
	if want := "option router is 10.77.0.1 here and 10.77.0.254 there; option ntp-servers is nothing here and 10.77.0.42 there"; got != want {
		t.Errorf("differences: %s", got)
	}
	if got := OptionDifferences(p, ours, ours); len(got) > 0 {
		t.Errorf("a reply differs from itself: %v", got)
	}
}

func TestRivals(t *testing.T) {
	d := plan.New().Draft()
	link, err := d.PutLink(plan.Link{Name: "looms"})
	if err != nil {
		t.Fatal(err)
	}
	p, _ := d.Finish()
	own := request.Server{Address: netip.MustParseAddr("10.77.0.1")}
	s := newShadow(&Host{Table: lease.New(p, 1000), Log: slog.New(slog.DiscardHandler),
		Own: func(s request.Server) bool { return s == own }})
	now := lease.At(time.Now())
	other := request.Server{Address: netip.MustParseAddr("10.77.0.2")}
	s.noteServer(link, own, "itself", true, now)
	s.noteServer(link, request.Server{Address: netip.IPv4Unspecified()}, "nobody", true, now)
	s.noteServer(link, other, "heard", true, now-100)
	s.noteServer(link, other, "heard again", true, now)
	list := s.OtherServers(now)
	if len(list) != 1 || list[0].Server != other || list[0].Count != 2 || list[0].How != "heard again" || list[0].Link != "looms" {
		t.Errorf("other servers %+v", list)
	}
	if !s.OtherServer(link, option.V4, now) || s.OtherServer(link, option.V4, now+lease.Time(rivalSpan/time.Second)+1) ||
		s.OtherServer(link+1, option.V4, now) {
		t.Error("whether another server answers on a link is judged wrongly")
	}
	if s.OtherServer(link, option.V6, now) {
		t.Error("a server of IPv4 silences IPv6")
	}
	// What clients say of a server is shown, and silences nobody; and however many are
	// named so, the one that was heard itself stays.
	for n := range 3000 {
		s.noteServer(link+1, request.Server{Address: netip.AddrFrom4([4]byte{192, 0, byte(n >> 8), byte(n)})}, "a client chose it",
			false, now)
	}
	if s.OtherServer(link+1, option.V4, now) {
		t.Error("a server that clients name counts as one that answers")
	}
	if !s.OtherServer(link, option.V4, now) {
		t.Error("a flood pushed the true server out")
	}
}
