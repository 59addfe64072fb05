package message

import (
	"bytes"
	"encoding/hex"
	"errors"
	"math"
	"net/netip"
	"reflect"
	"strings"
	"testing"
	"time"

	"yarnpost/core/lease"
	"yarnpost/core/option"
)

func octets(t testing.TB, text string) []byte {
	t.Helper()
	b, err := hex.DecodeString(strings.Join(strings.Fields(text), ""))
	if err != nil {
		t.Fatal(err)
	}
	return b
}

// messages are octets beside what they mean.
var messages = []struct {
	octets  string
	message Message
}{
	// CONNECT: version 2.2, lead time an hour, keep-alive 20 s, ten updates, "mill".
	{`0030 1f 000001 2f9b3a80
	  007f 0004 00020002  007a 0004 00000e10  0080 0004 00000014  0079 0004 0000000a  0082 0004 6d696c6c`,
		Message{Connect, 1, 0x2f9b3a80, Options{{ProtocolVersion, []byte{0, 2, 0, 2}}, {LeadTime, []byte{0, 0, 14, 16}},
			{KeepaliveTime, []byte{0, 0, 0, 20}}, {MaxUnackedBndUpd, []byte{0, 0, 0, 10}}, {RelationshipName, []byte("mill")}}}},
	// STATE: normal, since a moment, not starting up.
	{`001a 22 00000a 2f9b3a81  0084 0001 02  0083 0001 00  0085 0004 2f9b0000`,
		Message{StateMsg, 10, 0x2f9b3a81,
			Options{{ServerState, []byte{2}}, {ServerFlags, []byte{0}}, {StartTimeOfState, []byte{0x2f, 0x9b, 0, 0}}}}},
	// CONTACT has no option.
	{`0008 23 ffffff 00000000`, Message{Contact, 0xffffff, 0, nil}},
	// What nobody knows is kept.
	{`000d 1e 000002 00000001  fde8 0001 07`, Message{UpdDone, 2, 1, Options{{65000, []byte{7}}}}},
}

func TestMessages(t *testing.T) {
	for _, c := range messages {
		b := octets(t, c.octets)
		got, err := Append([]byte("before"), &c.message)
		if err != nil || !bytes.Equal(got, append([]byte("before"), b...)) {
			t.Errorf("%s is written as %x, %v; want %x", c.message.Type, got, err, b)
		}
		body, rest, ok := Cut(append(b, 1, 2))
		if !ok || len(rest) != 2 {
			t.Fatalf("%s is not cut off: %x, %v", c.message.Type, rest, ok)
		}
		m, err := Decode(body)
		if err != nil || !reflect.DeepEqual(m, c.message) {
			t.Errorf("%x is read as %+v, %v; want %+v", b, m, err, c.message)
		}
		for n := range b {
			if _, rest, ok := Cut(b[:n]); ok || len(rest) != n {
				t.Errorf("%d octets of %d are a message", n, len(b))
			}
		}
		for n := range body {
			if _, err := Decode(body[:n]); err == nil && len(c.message.Options) > 0 && !endsOption(body[:n]) || err != nil &&
				!errors.Is(err, ErrShort) {
				t.Errorf("%d octets of %s: %v", n, c.message.Type, err)
			}
		}
	}
	if _, err := Decode(octets(t, "17 000001 00000000")); !errors.Is(err, ErrType) {
		t.Errorf("a message of another protocol: %v", err)
	}
	long := Message{Type: BndUpd, Options: Options{{ClientData, make([]byte, 60_000)}, {ClientData, make([]byte, 6_000)}}}
	if b, err := Append(nil, &long); err == nil || b != nil {
		t.Errorf("a message of %d octets is written", len(b))
	}
}

// endsOption reports whether octets end where an option does.
func endsOption(b []byte) bool {
	if len(b) < headSize {
		return false
	}
	_, err := DecodeOptions(b[headSize:])
	return err == nil
}

func FuzzDecode(f *testing.F) {
	for _, c := range messages {
		f.Add(octets(f, c.octets)[frameSize:])
	}
	u := Update{Lease: sampleLease(), Lifetime: 5000}
	o, err := u.Option(1000)
	if err != nil {
		f.Fatal(err)
	}
	b, err := Append(nil, &Message{Type: BndUpd, Options: Options{o}})
	if err != nil {
		f.Fatal(err)
	}
	f.Add(b[frameSize:])
	f.Fuzz(func(t *testing.T, b []byte) {
		m, err := Decode(b)
		if err != nil {
			return
		}
		again, err := Append(nil, &m)
		if err != nil || !bytes.Equal(again[frameSize:], b) {
			t.Errorf("%x becomes %x, %v", b, again, err)
		}
		for _, o := range m.Options {
			u, err := DecodeUpdate(o.Data, 0, 1_800_000_000)
			if err != nil {
				continue
			}
			if _, err := u.Option(1_800_000_000); err != nil {
				t.Errorf("what was read cannot be written: %v", err)
			}
		}
	})
}

func sampleLease() lease.Lease {
	return lease.Lease{Prefix: netip.MustParsePrefix("10.40.8.31/32"), Status: lease.Active, Client: lease.ByIdentifier([]byte("\x01loom")),
		Hardware: "\x02\x40\x18\x00\x00\x07", Hostname: "loom-7", Vendor: "loomctl", Circuit: "sw1/0/7",
		Agent: "\x02\x08access-3\x06\x03pub\x4d\x06\x05staff", Relay: netip.MustParseAddr("10.40.8.1"),
		Since: 900, Changed: 900, Expires: 4600, Heard: 1000, Granted: time.Hour, Revision: 7, Given: 1<<63 + 5, Reserved: true,
		Nudge: "0123456789abcdef0000"}
}

// What one server tells is what the other learns, of each family, whatever their
// clocks say.
func TestUpdates(t *testing.T) {
	const now, ahead = lease.Time(1_790_000_000), 90 // the sender's clock is ahead of the receiver's
	shift := func(l lease.Lease) lease.Lease {
		for _, at := range []*lease.Time{&l.Since, &l.Changed, &l.Expires, &l.Heard} {
			*at += now - 1000
		}
		return l
	}
	v4 := shift(sampleLease())
	hardware := v4
	hardware.Client, hardware.Nudge, hardware.Circuit, hardware.Reserved = lease.ByHardware(6, v4.Hardware), "", "", false
	abandoned := lease.Lease{Prefix: v4.Prefix, Status: lease.Abandoned, Changed: v4.Changed, Since: v4.Changed, Expires: v4.Expires,
		Heard: v4.Heard}
	address := lease.Lease{Prefix: netip.MustParsePrefix("2001:db8:40:8::17/128"), Status: lease.Released,
		Client: lease.Client{Kind: lease.Addresses, Number: 0xdeadbeef, ID: "\x00\x03\x00\x01duid"}, Since: v4.Changed, Changed: v4.Changed,
		Expires: v4.Expires,
		Heard:   v4.Heard, Granted: 2 * time.Hour}
	prefix := address
	prefix.Prefix, prefix.Client.Kind, prefix.Status = netip.MustParsePrefix("2001:db8:40:100::/56"), lease.Prefixes, lease.PendingFree
	registered := address
	registered.Client = lease.Client{Kind: lease.Registered, ID: "\x00\x03\x00\x01duid"}
	endless := v4
	endless.Granted, endless.Expires = option.Infinite, lease.Never
	for name, l := range map[string]lease.Lease{"v4": v4, "by hardware": hardware, "abandoned": abandoned, "address": address,
		"prefix": prefix, "registered": registered, "endless": endless} {
		u := Update{Lease: l, Lifetime: now + 7200, Kept: "690101", Other: "690102", Until: now + 60, Reason: OutdatedBinding, Text: "older"}
		sent := u
		for _, at := range []*lease.Time{&sent.Lease.Changed, &sent.Lease.Expires, &sent.Lease.Heard, &sent.Lifetime, &sent.Until} {
			*at = at.Add(ahead * time.Second)
		}
		o, err := sent.Option(now + ahead)
		if err != nil || o.Code != ClientData {
			t.Fatalf("%s: %d, %v", name, o.Code, err)
		}
		got, err := DecodeUpdate(o.Data, ahead, now)
		if err != nil {
			t.Fatalf("%s: %v", name, err)
		}
		u.Lease.Since = u.Lease.Changed // the binding's beginning is not told
		if !reflect.DeepEqual(got, u) {
			t.Errorf("%s is learned as\n%+v, want\n%+v", name, got, u)
		}
		for n := range o.Data {
			if _, err := DecodeUpdate(o.Data[:n], 0, now); err == nil && n < len(o.Data)-19-17-8 {
				t.Errorf("%s: %d octets of %d are enough", name, n, len(o.Data))
			}
		}
	}
	if _, err := (&Update{Lease: lease.Lease{Prefix: v4.Prefix, Status: lease.Offered}}).Option(now); err == nil {
		t.Error("an offer is told of")
	}
}

// Moments travel modulo 2^32 and come back, across its end and against skew.
func TestMoments(t *testing.T) {
	for _, now := range []lease.Time{1_800_000_000, Epoch + math.MaxUint32 - 50, Epoch + 1<<32 + 77} {
		for _, off := range []lease.Time{-1000, 0, 1, 100, 1 << 30} {
			if got := Skewed(Stamp(now+off, now), 0, now); got != now+off {
				t.Errorf("at %d, %d seconds from now come back as %d", now, off, got-now)
			}
		}
		if got := Skewed(Stamp(now+30+500, now+30), 30, now); got != now+500 {
			t.Errorf("a clock that is 30 s ahead says %d", got-now)
		}
		if got := Skewed(Stamp(lease.Never, now), 0, now); got < now+1<<30 {
			t.Errorf("never is in %d seconds", got-now)
		}
	}
}
