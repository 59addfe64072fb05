package message

import (
	"net"
	"net/netip"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/gopacket/gopacket"
	"github.com/gopacket/gopacket/layers"
	"github.com/gopacket/gopacket/pcapgo"

	"yarnpost/core/lease"
)

// An independent decoder finds the same options, nested in the same way, and
// nothing malformed. It knows messages of a pair by their options alone: without
// size and time they look like DHCPv6.
func TestAnIndependentDecoderAgrees(t *testing.T) {
	tshark, err := exec.LookPath("tshark")
	if err != nil {
		t.Skip("tshark is not installed; make test installs it")
	}
	const now = lease.Time(1_790_000_000)
	l := sampleLease()
	l.Changed, l.Expires, l.Heard = now, now+3600, now
	v4 := Update{Lease: l, Lifetime: now + 7200}
	v6 := v4
	v6.Lease.Client = lease.Client{Kind: lease.Addresses, Number: 5, ID: "\x00\x03\x00\x01\x02\x40\x18\x00\x00\x07"}
	v6.Lease.Prefix = lease.Host(netip.MustParseAddr("2001:db8:40::17"))
	update := Message{Type: BndUpd, Transaction: 7}
	for _, u := range []*Update{&v4, &v6} {
		o, err := u.Option(now)
		if err != nil {
			t.Fatal(err)
		}
		update.Options = append(update.Options, o)
	}
	list := []Message{messages[0].message, messages[1].message, messages[2].message, update}
	file := filepath.Join(t.TempDir(), "pair.pcap")
	writePcap(t, file, list)
	out, err := exec.Command(tshark, "-r", file, "-T", "fields", "-e", "dhcpv6.option.type", "-e", "_ws.malformed", "-e",
		"dhcpv6.iaaddr.ip").Output()
	if err != nil {
		t.Fatal(err)
	}
	want := []string{
		"127,122,128,121,130\t\t",
		"132,131,133\t\t",
		"\t\t",
		"45,87,114,133,120,123,126,65001,46,45,1,79,39,16,65005,3,5,114,133,120,123,126,65001,46\t\t2001:db8:40::17",
	}
	if got := strings.Split(strings.TrimRight(string(out), "\n"), "\n"); strings.Join(got, "\n") != strings.Join(want, "\n") {
		t.Errorf("it reads\n%s\nwant\n%s", strings.Join(got, "\n"), strings.Join(want, "\n"))
	}
}

func writePcap(t *testing.T, file string, list []Message) {
	t.Helper()
	f, err := os.Create(file)
	if err != nil {
		t.Fatal(err)
	}
	defer f.Close()
	w := pcapgo.NewWriter(f)
	if err := w.WriteFileHeader(65535, layers.LinkTypeEthernet); err != nil {
		t.Fatal(err)
	}
	for i := range list {
		b, err := Append(nil, &list[i])
		if err != nil {
			t.Fatal(err)
		}
		payload := append(b[frameSize:frameSize+4:frameSize+4], b[frameSize+headSize:]...) // without size and sent-time
		mac := net.HardwareAddr{2, 0, 0, 0, 0, 1}
		ip := &layers.IPv6{Version: 6, NextHeader: layers.IPProtocolUDP, HopLimit: 1, SrcIP: net.ParseIP("fe80::1"),
			DstIP: net.ParseIP("fe80::2")}
		udp := &layers.UDP{SrcPort: 547, DstPort: 547}
		if err := udp.SetNetworkLayerForChecksum(ip); err != nil {
			t.Fatal(err)
		}
		buf := gopacket.NewSerializeBuffer()
		if err := gopacket.SerializeLayers(buf, gopacket.SerializeOptions{FixLengths: true, ComputeChecksums: true},
			&layers.Ethernet{SrcMAC: mac, DstMAC: mac, EthernetType: layers.EthernetTypeIPv6}, ip, udp, gopacket.Payload(payload)); err != nil {
			t.Fatal(err)
		}
		data := buf.Bytes()
		if err := w.WritePacket(gopacket.CaptureInfo{Timestamp: time.Unix(1_790_000_000, 0), CaptureLength: len(data), Length: len(data)},
			data); err != nil {
			t.Fatal(err)
		}
	}
}
