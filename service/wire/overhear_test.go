package wire

import (
	"net"
	"net/netip"
	"testing"

	"golang.org/x/net/bpf"
)

func frame(t *testing.T, toPort uint16, data string) []byte {
	t.Helper()
	hw := net.HardwareAddr{2, 0, 0, 0, 0, 1}
	b, err := Frame(hw, hw, netip.MustParseAddrPort("10.77.0.1:67"), netip.AddrPortFrom(netip.MustParseAddr("10.77.0.100"), toPort),
		[]byte(data))
	if err != nil {
		t.Fatal(err)
	}
	return b
}

// The filter lets UDP to the client port pass, and nothing else.
func TestClientPortFilter(t *testing.T) {
	var program []bpf.Instruction
	for _, raw := range clientPortOnly {
		program = append(program, raw.Disassemble())
	}
	vm, err := bpf.NewVM(program)
	if err != nil {
		t.Fatal(err)
	}
	good := frame(t, ClientPort, "reply")
	tcp := append([]byte(nil), good...)
	tcp[23] = 6
	fragment := append([]byte(nil), good...)
	fragment[21] = 9
	for what, c := range map[string]struct {
		frame []byte
		pass  bool
	}{"to the client port": {good, true}, "to the server port": {frame(t, ServerPort, "request"), false}, "TCP": {tcp, false},
		"a later fragment": {fragment, false}, "cut short": {good[:30], false}} {
		if n, err := vm.Run(c.frame); (n > 0) != c.pass || err != nil {
			t.Errorf("%s: %d, %v", what, n, err)
		}
	}
}

func TestUDPOfFrames(t *testing.T) {
	b := frame(t, ClientPort, "payload")
	from, data, ok := udpOf(append(b, 0, 0, 0)) // Ethernet pads short frames
	if !ok || from.String() != "10.77.0.1" || string(data) != "payload" {
		t.Errorf("read %s %q %v", from, data, ok)
	}
	for n := range 14 + 20 + 8 + len("payload") {
		if _, data, ok := udpOf(b[:n]); ok {
			t.Errorf("%d octets of a frame are read as %q", n, data)
		}
	}
	b[14] = 0x6f // not IPv4
	if _, _, ok := udpOf(b); ok {
		t.Error("another protocol is read")
	}
}

// A relay that lacks what it needs says so.
func TestAgentRefusals(t *testing.T) {
	for what, c := range map[string]AgentConfig{
		"no interface": {Servers: []netip.AddrPort{netip.MustParseAddrPort("10.77.0.1:67")}},
		"no server":    {Interfaces: []string{"lo"}},
	} {
		if a, err := NewAgent(c); err == nil {
			a.Close()
			t.Errorf("a relay with %s starts", what)
		}
	}
}
