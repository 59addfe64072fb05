package preflight

import (
	"net/netip"
	"strings"
	"testing"
)

// A chain that drops by default hides the port, unless a rule lets it in.
func TestDropping(t *testing.T) {
	chain := func(policy string) string {
		return `{"chain":{"family":"inet","table":"filter","name":"input","hook":"input","policy":"` + policy + `"}}`
	}
	rule := `{"rule":{"family":"inet","table":"filter","chain":"input","expr":[{"match":{"left":{"payload":{"protocol":"udp","field":"dport"}},"right":67}},{"accept":null}]}}`
	for rules, want := range map[string]string{
		chain("drop"): "inet filter input", chain("accept"): "", chain("drop") + "," + rule: "", "": "",
		`{"chain":{"family":"ip6","table":"f","name":"input","hook":"input","policy":"drop"}}`: "",
	} {
		if got := dropping([]byte(`{"nftables":[`+rules+`]}`), "ip", 67); got != want {
			t.Errorf("%s: %q, want %q", rules, got, want)
		}
	}
	six := `{"nftables":[{"chain":{"family":"ip6","table":"f","name":"input","hook":"input","policy":"drop"}}]}`
	if got := dropping([]byte(six), "ip6", 547); got != "ip6 f input" {
		t.Errorf("a chain of IPv6 that drops is %q", got)
	}
	if got := dropping([]byte("not JSON"), "ip", 67); got != "" {
		t.Errorf("nonsense drops at %q", got)
	}
}

func TestProposal(t *testing.T) {
	got := proposal(hostAddress{"eth1", netip.MustParsePrefix("10.77.0.1/24"), true})
	if !strings.Contains(got, "--subnet 10.77.0.0/24 --pool 10.77.0.128-10.77.0.254") {
		t.Errorf("proposed: %s", got)
	}
	if got := proposal(hostAddress{"tun0", netip.MustParsePrefix("10.77.0.1/32"), true}); strings.Contains(got, "--pool") {
		t.Errorf("for a lone address: %s", got)
	}
}
