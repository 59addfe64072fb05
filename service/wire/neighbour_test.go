package wire

import (
	"encoding/hex"
	"net"
	"net/netip"
	"strings"
	"testing"
)

func octets(t *testing.T, text string) []byte {
	t.Helper()
	b, err := hex.DecodeString(strings.ReplaceAll(text, " ", ""))
	if err != nil {
		t.Fatal(err)
	}
	return b
}

const (
	ether    = "333300000001 020000000505 86dd"
	fromHost = "fe80000000000000 0000000000000505"
	toAll    = "ff02000000000000 0000000000000001"
)

// What a neighbour advertises, as octets (RFC 4861 section 4.4): its address, and the hardware
// address that it gives. From beyond the link, or cut short, it says nothing.
func TestAdvertised(t *testing.T) {
	good := octets(t, ether+"6000000000203aff"+fromHost+toAll+"88000000 20000000 20010db8004000010000000000000100 0201020000000506")
	a, hw, ok := advertised(good)
	if !ok || a != netip.MustParseAddr("2001:db8:40:1::100") || hw.String() != "02:00:00:00:05:06" {
		t.Errorf("%v, %s, %s", ok, a, hw)
	}
	if _, hw, ok = advertised(good[:options6]); !ok || hw.String() != "02:00:00:00:05:05" {
		t.Errorf("without its option: %v, %s", ok, hw)
	}
	for n := range options6 {
		if _, _, ok := advertised(good[:n]); ok {
			t.Errorf("%d octets are enough", n)
		}
	}
	good[hopLimit6] = 254
	if _, _, ok := advertised(good); ok {
		t.Error("one from beyond the link counts")
	}
}

// What a router says of addresses (RFC 4861 section 4.2).
func TestRouterSays(t *testing.T) {
	text := ether + "6000000000103aff" + fromHost + toAll + "86000000 40 c0 0708 00000000 00000000"
	r, ok := routerSays(octets(t, text))
	if !ok || r != (RouterAdvertisement{netip.MustParseAddr("fe80::505"), true, true}) {
		t.Errorf("%v, %+v", ok, r)
	}
	if r, ok = routerSays(octets(t, strings.Replace(text, "40 c0", "40 40", 1))); !ok || r.Managed || !r.Other {
		t.Errorf("with O alone: %v, %+v", ok, r)
	}
	if _, ok = routerSays(octets(t, strings.Replace(text, "c0 0708", "c0 0000", 1))); ok {
		t.Error("a router that retires counts")
	}
	b := octets(t, text)
	for n := range b {
		if _, ok := routerSays(b[:n]); ok && n < len(b) {
			t.Errorf("%d octets are enough", n)
		}
	}
}

// A solicitation is sent to the group of the address, from nobody, as octets.
func TestSolicitation(t *testing.T) {
	got, err := solicitation(net.HardwareAddr{2, 0, 0, 0, 0, 1}, netip.MustParseAddr("2001:db8:40:1::12:3456"))
	if err != nil {
		t.Fatal(err)
	}
	want := octets(t, "3333ff123456 020000000001 86dd 6000000000183aff"+strings.Repeat("00", 16)+"ff020000000000000000 0001ff123456"+
		"87004b7d 00000000 20010db8004000010000000000123456")
	if len(got) != len(want) || hex.EncodeToString(got[:56]) != hex.EncodeToString(want[:56]) ||
		hex.EncodeToString(got[58:]) != hex.EncodeToString(want[58:]) {
		t.Errorf("it is\n%x, want\n%x", got, want)
	}
	sum := uint32(0)
	pseudo := append(append([]byte{}, got[22:54]...), 0, 0, 0, 24, 0, 0, 0, 58)
	for b := append(pseudo, got[54:]...); len(b) > 0; b = b[2:] {
		sum += uint32(b[0])<<8 | uint32(b[1])
	}
	for sum > 0xffff {
		sum = sum>>16 + sum&0xffff
	}
	if sum != 0xffff {
		t.Errorf("its checksum is wrong: %x", got[56:58])
	}
}
