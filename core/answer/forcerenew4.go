package answer

import (
	"crypto/hmac"
	"crypto/md5"
	"encoding/binary"
	"fmt"
	"net/netip"
	"slices"

	"yarnpost/core/dhcp4"
	"yarnpost/core/lease"
	"yarnpost/core/option"
)

// Fields of option 90 as a FORCERENEW uses it (RFC 3118, RFC 6704 section 3.1).
const (
	authReconfigure = 3 // protocol
	authHMACMD5     = 1 // algorithm
	authNonce       = 1 // type octet: the nonce follows
	authHMAC        = 2 // type octet: the message's HMAC-MD5 follows
	nonceSize       = 16
)

// nudgeable reports whether the client says that it understands FORCERENEW with
// a nonce and HMAC-MD5 (option 145).
func (d *v4) nudgeable() bool {
	b, ok := d.msg.Options.Get(option.ForceRenewNonce)
	return ok && slices.Contains(b, authHMACMD5)
}

// nudge is what a lease keeps for a FORCERENEW: the client's nonce, then the
// transaction of its last exchange, big-endian, since clients drop a message of
// any other, and the server identifier by which the client knows this server if
// a relay chose that (RFC 5107).
func (d *v4) nudge(nonce string) string {
	if len(nonce) != nonceSize {
		return ""
	}
	out := binary.BigEndian.AppendUint32([]byte(nonce), d.msg.XID)
	if d.msg.Agent.ServerID.Is4() {
		out = append(out, d.msg.Agent.ServerID.AsSlice()...)
	}
	return string(out)
}

// nudgeFits reports whether a record still has what it takes to nudge the client.
func (d *v4) nudgeFits(l *lease.Lease) bool {
	return l != nil && l.Nudge != "" && l.Nudge == d.nudge(nonceOf(l.Nudge))
}

// nonceOf is the nonce in what a lease keeps, or "".
func nonceOf(kept string) string {
	if len(kept) != nonceSize+4 && len(kept) != nonceSize+8 {
		return ""
	}
	return kept[:nonceSize]
}

// knownAs is the server identifier that a relay told the client, if one did.
func knownAs(kept string) (netip.Addr, bool) {
	if len(kept) != nonceSize+8 {
		return netip.Addr{}, false
	}
	return netip.AddrFrom4([4]byte([]byte(kept[nonceSize+4:]))), true
}

// addNonce tells the client the nonce of its lease, before what is echoed last.
func (d *v4) addNonce(kept string) {
	nonce := nonceOf(kept)
	if nonce == "" || !d.nudgeable() || d.sent == nil {
		return
	}
	data := append(auth(uint64(d.now)<<32, authNonce), nonce...)
	o := d.sent.Options
	at := len(o)
	for at > 0 && (o[at-1].Code == option.RelayAgent || o[at-1].Code == option.ClientID) {
		at--
	}
	d.sent.Options = slices.Insert(o, at, dhcp4.Option{Code: option.Authentication, Data: data})
}

// auth begins option 90. The replay value is big-endian and must grow.
func auth(replay uint64, kind byte) []byte {
	return append(binary.BigEndian.AppendUint64([]byte{authReconfigure, authHMACMD5, 0}, replay), kind)
}

// Nudge encodes the FORCERENEW that makes a client renew at once (RFC 3203 with
// RFC 6704). The replay value must be higher than any the client was sent;
// seconds since 1970 times 2^32 and a counter below make one.
func Nudge(l *lease.Lease, server netip.Addr, replay uint64) ([]byte, error) {
	nonce := nonceOf(l.Nudge)
	if nonce == "" {
		return nil, fmt.Errorf("nudge %s: the client did not say that it can be nudged", l.Address())
	}
	zero := netip.IPv4Unspecified()
	xid := binary.BigEndian.Uint32([]byte(l.Nudge[nonceSize:]))
	if told, ok := knownAs(l.Nudge); ok {
		server = told
	}
	m := &dhcp4.Message{Op: dhcp4.BootReply, HType: 1, XID: xid, CIAddr: l.Address(), YIAddr: zero, SIAddr: zero, GIAddr: zero,
		CHAddr: l.Hardware}
	id := server.As4()
	m.Options = dhcp4.Options{{Code: option.MessageType, Data: []byte{byte(dhcp4.ForceRenew)}}, {Code: option.ServerID, Data: id[:]}}
	if c := l.Client.Identifier(); c != "" {
		m.Options = append(m.Options, dhcp4.Option{Code: option.ClientID, Data: []byte(c)})
	}
	m.Options = append(m.Options, dhcp4.Option{Code: option.Authentication, Data: append(auth(replay, authHMAC), make([]byte, md5.Size)...)})
	b, _, err := dhcp4.Append(nil, m, 0)
	if err != nil {
		return nil, fmt.Errorf("nudge %s: %w", l.Address(), err)
	}
	at, err := hmacAt(b)
	if err != nil {
		return nil, fmt.Errorf("nudge %s: %w", l.Address(), err)
	}
	h := hmac.New(md5.New, []byte(nonce))
	h.Write(b) // with the field itself still zero
	h.Sum(b[at:at])
	return b, nil
}

// CheckNudge verifies a FORCERENEW as its client does.
func CheckNudge(b []byte, nonce string) error {
	at, err := hmacAt(b)
	if err != nil {
		return err
	}
	copied := slices.Clone(b)
	clear(copied[at : at+md5.Size])
	h := hmac.New(md5.New, []byte(nonce))
	h.Write(copied)
	if !hmac.Equal(h.Sum(nil), b[at:at+md5.Size]) {
		return fmt.Errorf("the FORCERENEW is not authentic")
	}
	return nil
}

// hmacAt is where the HMAC lies in an encoded message.
func hmacAt(b []byte) (int, error) {
	const options, head = 240, 3 + 8 + 1
	for i := options; i+2 <= len(b) && b[i] != option.End; {
		if b[i] == 0 {
			i++
			continue
		}
		n := int(b[i+1])
		if b[i] == option.Authentication && n == head+md5.Size && i+2+n <= len(b) && b[i+2+head-1] == authHMAC {
			return i + 2 + head, nil
		}
		i += 2 + n
	}
	return 0, fmt.Errorf("option 90 with an HMAC is missing")
}
