package message

import (
	"encoding/binary"
	"encoding/hex"
	"fmt"
	"maps"
	"net/netip"
	"slices"
	"strings"
	"time"

	"yarnpost/core/addr"
	"yarnpost/core/dhcp4"
	"yarnpost/core/dhcp6"
	"yarnpost/core/lease"
	"yarnpost/core/option"
)

// Update is one binding as a server tells the other of it (RFC 8156 section 7.5),
// and what the other answers.
type Update struct {
	Lease    lease.Lease
	Lifetime lease.Time // until when the partner is asked to let it be held; in a reply, until when it does
	Kept     string     // hexadecimal key of the client that keeps an address which two had, if the other may not know that
	Other    string     // and of the one that had it, too
	Until    lease.Time // when what that one was told ends; 0: that is not known, or never
	Reason   uint16     // status code that the other turns it down with; 0: it does not
	Text     string     // the same in words
}

// statuses are the binding statuses as they travel (RFC 8156 section 5.5.1).
var statuses = map[lease.Status]uint8{lease.Active: 1, lease.Expired: 2, lease.Released: 3, lease.PendingFree: 4, lease.Free: 5,
	lease.FreeBackup: 6, lease.Abandoned: 7}

func statusOf(n uint8) (lease.Status, bool) {
	for s, as := range statuses {
		if as == n {
			return s, true
		}
	}
	return 0, false
}

// ownOption holds what only Yarn Post knows of a binding, beside the options that
// say the rest; its code is one that no registry gave away.
const ownOption = 65001

// conflictOption holds the keys of two clients that had an address at the same time, as
// text with a blank between them; its code, too, is one that no registry gave away.
const conflictOption = 65003

// conflictEnd holds when what the second of them was told ends, as moments travel; its code is
// no registry's, either.
const conflictEnd = 65007

// ownSize is how long that option is without what it ends with: flags, the length
// of the prefix, the lease time granted in seconds, the plan's revision, the digest
// of what was given, and how often each server changed the record. All integers
// are big-endian.
const ownSize = 1 + 1 + 4 + 8 + 8 + 4 + 4

// Flags of that option.
const (
	ownReserved  = 1 // it is given by a reservation
	ownPrimary   = 2 // the primary gave it
	ownSecondary = 4 // the secondary did
)

func (u *Update) own() []byte {
	l := &u.Lease
	own := make([]byte, 2, ownSize+len(l.Nudge))
	if l.Reserved {
		own[0] |= ownReserved
	}
	own[0] |= byte(l.By) * ownPrimary
	own[1] = byte(l.Prefix.Bits())
	own = binary.BigEndian.AppendUint32(own, uint32(l.Granted/time.Second))
	own = binary.BigEndian.AppendUint64(own, uint64(l.Revision))
	own = binary.BigEndian.AppendUint64(own, l.Given)
	own = binary.BigEndian.AppendUint32(own, l.Version.Primary)
	own = binary.BigEndian.AppendUint32(own, l.Version.Secondary)
	return append(own, l.Nudge...)
}

func (u *Update) readOwn(own []byte) error {
	l := &u.Lease
	if len(own) < ownSize {
		return fmt.Errorf("%s: option %d is missing", l.Prefix, ownOption)
	}
	l.Reserved = own[0]&ownReserved != 0
	if l.By = lease.Side(own[0] / ownPrimary); l.By > lease.Secondary {
		l.By = lease.Alone
	}
	k, err := l.Prefix.Addr().Prefix(int(own[1]))
	if err != nil || k.Addr() != l.Prefix.Addr() {
		return fmt.Errorf("%s with a length of %d is no prefix", l.Prefix.Addr(), own[1])
	}
	l.Prefix = k
	l.Granted = option.FromSeconds(binary.BigEndian.Uint32(own[2:]))
	l.Revision, l.Given = int64(binary.BigEndian.Uint64(own[6:])), binary.BigEndian.Uint64(own[14:])
	l.Version = lease.VersionVector{Primary: binary.BigEndian.Uint32(own[22:]), Secondary: binary.BigEndian.Uint32(own[26:])}
	l.Nudge = string(own[ownSize:])
	return nil
}

// Option writes an update as OPTION_CLIENT_DATA. Moments count from Epoch by this
// server's clock. An IPv4 binding is a message as RFC 4388 section 6.4 has it, in
// OPTION_DHCPV4_MSG; others are an IAADDR or an IAPREFIX in their IA.
func (u *Update) Option(now lease.Time) (Option, error) {
	l := &u.Lease
	var about, data Options
	status, ok := statuses[l.Status]
	if !ok {
		return Option{}, fmt.Errorf("binding %s: %s is told to nobody", l.Prefix, l.Status)
	}
	about.PutUint8(BindingStatus, status)
	about.PutUint32(StartTimeOfState, Stamp(l.Changed, now))
	about.PutUint32(ExpirationTime, Stamp(l.Expires, now))
	about.PutUint32(PartnerLifetime, Stamp(u.Lifetime, now))
	about.PutUint32(PartnerRawCLTTime, Stamp(l.Heard, now))
	about.Put(ownOption, u.own())
	if u.Kept != "" {
		about.Put(conflictOption, []byte(u.Kept+" "+u.Other))
		if u.Until != 0 {
			about.PutUint32(conflictEnd, Stamp(u.Until, now))
		}
	}
	if u.Reason != 0 {
		about.Put(StatusCode, append(binary.BigEndian.AppendUint16(nil, u.Reason), u.Text...))
	}
	if l.Prefix.Addr().Is4() {
		raw, err := v4Message(l, now)
		if err != nil {
			return Option{}, fmt.Errorf("binding %s: %w", l.Prefix, err)
		}
		data = append(Options{{DHCPv4Msg, raw}}, about...)
	} else {
		ia, err := associationOf(l, about)
		if err != nil {
			return Option{}, fmt.Errorf("binding %s: %w", l.Prefix, err)
		}
		if data, err = clientOf(l); err != nil {
			return Option{}, fmt.Errorf("binding %s: %w", l.Prefix, err)
		}
		data = append(data, ia)
	}
	data.PutUint32(CLTTime, uint32(max(now-l.Heard, 0)))
	b, err := AppendOptions(nil, data)
	if err != nil {
		return Option{}, fmt.Errorf("binding %s: %w", l.Prefix, err)
	}
	return Option{ClientData, b}, nil
}

// v4Message describes an IPv4 binding as a DHCPLEASEACTIVE does.
func v4Message(l *lease.Lease, now lease.Time) ([]byte, error) {
	zero := netip.IPv4Unspecified()
	m := &dhcp4.Message{Op: dhcp4.BootReply, HType: 1, CIAddr: l.Address(), YIAddr: zero, SIAddr: zero, GIAddr: zero, CHAddr: l.Hardware}
	if l.Client.Kind == lease.Hardware {
		m.HType = uint8(l.Client.Number)
	}
	if l.Relay.Is4() {
		m.GIAddr = l.Relay
	}
	put := func(code uint8, data []byte) {
		if len(data) > 0 {
			m.Options = append(m.Options, dhcp4.Option{Code: code, Data: data})
		}
	}
	put(option.MessageType, []byte{byte(dhcp4.LeaseActive)})
	put(option.Hostname, []byte(l.Hostname))
	put(option.ClassID, []byte(l.Vendor))
	if l.Client.Kind == lease.Identifier {
		put(option.ClientID, []byte(l.Client.ID))
	}
	put(option.LastTransaction, binary.BigEndian.AppendUint32(nil, uint32(max(now-l.Heard, 0))))
	var relayed []byte
	if l.Circuit != "" {
		relayed = dhcp4.AppendSub(relayed, dhcp4.SubCircuit, []byte(l.Circuit))
	}
	dhcp4.Sub([]byte(l.Agent), func(code uint8, data []byte) bool {
		if code == option.UserClass {
			put(option.UserClass, data)
		} else {
			relayed = dhcp4.AppendSub(relayed, code, data)
		}
		return true
	})
	put(option.RelayAgent, relayed)
	b, omitted, err := dhcp4.Append(nil, m, dhcp4.MaxMax)
	if err == nil && len(omitted) > 0 {
		err = fmt.Errorf("options %v do not fit", omitted)
	}
	return b, err
}

// associationOf is the IA of an IPv6 binding, with what is said of it nested in its
// address or prefix.
func associationOf(l *lease.Lease, about Options) (Option, error) {
	nested, err := AppendOptions(nil, about)
	if err != nil {
		return Option{}, err
	}
	times := make([]byte, 8) // preferred and valid lifetime; moments say more
	binary.BigEndian.PutUint32(times[4:], uint32(l.Granted/time.Second))
	outer, inner, body := uint16(IANA), uint16(IAAddr), []byte(nil)
	a := l.Address().As16()
	switch k := l.Client.Kind; {
	case l.Client.Known() && l.Client.DUID() == "":
		return Option{}, fmt.Errorf("its client is known by no DUID")
	case k == lease.Registered: // of no association (RFC 5007 section 4.1.2.2)
		return Option{IAAddr, append(append(a[:], times...), nested...)}, nil
	case l.Prefix.IsSingleIP():
		body = append(append(body, a[:]...), times...)
	default:
		outer, inner = IAPD, IAPrefix
		body = append(append(append(body, times...), byte(l.Prefix.Bits())), a[:]...)
	}
	one, err := AppendOptions(nil, Options{{inner, append(body, nested...)}})
	if err != nil {
		return Option{}, err
	}
	head := binary.BigEndian.AppendUint32(nil, l.Client.Number)
	return Option{outer, append(append(head, make([]byte, 8)...), one...)}, nil
}

// clientOf is what is known of the client of an IPv6 binding, in the options in which that
// travels: nothing for a binding of nobody.
func clientOf(l *lease.Lease) (out Options, err error) {
	put := func(code uint16, data []byte, known bool) {
		if known {
			out = append(out, Option{code, data})
		}
	}
	put(ClientID, []byte(l.Client.ID), l.Client.Known())
	put(option.ClientLinkLayer6, append([]byte{0, 1}, l.Hardware...), l.Hardware != "")
	put(option.FQDN6, dhcp6.FQDN(l.Hostname), l.Hostname != "")
	put(option.VendorClass6, dhcp6.VendorClass(l.Vendor), l.Vendor != "")
	put(agentOption, []byte(l.Agent), l.Agent != "")
	if l.Relay.Is6() {
		var at Options
		if l.Circuit != "" {
			at.Put(option.InterfaceID6, []byte(l.Circuit))
		}
		head := append(append([]byte{byte(dhcp6.RelayForw), 0}, l.Relay.AsSlice()...), make([]byte, 16)...)
		raw, err := AppendOptions(append(l.Relay.AsSlice(), head...), at)
		if err != nil {
			return nil, err
		}
		put(relayData, raw, true)
	}
	return out, nil
}

// readClient reads what clientOf wrote.
func (u *Update) readClient(data Options) {
	l := &u.Lease
	if b, ok := data.Get(option.ClientLinkLayer6); ok && len(b) > 2 && len(b) <= 2+20 {
		l.Hardware = addr.Hardware(b[2:])
	}
	said := dhcp6.Message{}
	for _, code := range []uint16{option.FQDN6, option.VendorClass6} {
		if b, ok := data.Get(code); ok {
			said.Options = append(said.Options, dhcp6.Option{Code: code, Data: b})
		}
	}
	l.Hostname, l.Vendor = said.FQDN(), said.Vendor()
	if b, ok := data.Get(agentOption); ok {
		l.Agent = string(b)
	}
	const address, head = 16, 34 // the relay, and the head of its message
	b, ok := data.Get(relayData)
	if !ok || len(b) < address+head {
		return
	}
	l.Relay = netip.AddrFrom16([16]byte(b))
	if at, err := DecodeOptions(b[address+head:]); err == nil {
		circuit, _ := at.Get(option.InterfaceID6)
		l.Circuit = string(circuit)
	}
}

// relayData is OPTION_LQ_RELAY_DATA (RFC 5007 section 4.1.2.4): a relay's address, and its
// message without that of the client.
const relayData = 47

// agentOption holds the rest of what relays and the client said, as leases keep it; its code is
// one that no registry gave away.
const agentOption = 65005

// DecodeUpdate reads OPTION_CLIENT_DATA. Moments become those of this server's
// clock, which the sender's is ahead of by some seconds.
func DecodeUpdate(b []byte, ahead int64, now lease.Time) (u Update, err error) {
	data, err := DecodeOptions(b)
	if err != nil {
		return u, fmt.Errorf("binding: %w", err)
	}
	about := data
	if raw, ok := data.Get(DHCPv4Msg); ok {
		err = u.readV4(raw)
	} else {
		about, err = u.readAssociation(data)
	}
	if err != nil {
		return u, fmt.Errorf("binding: %w", err)
	}
	l := &u.Lease
	status, ok := about.Uint8(BindingStatus)
	if l.Status, _ = statusOf(status); !ok || l.Status == 0 && status != statuses[lease.Free] {
		return u, fmt.Errorf("binding %s: its status %d is none", l.Prefix, status)
	}
	for code, at := range map[uint16]*lease.Time{StartTimeOfState: &l.Changed, ExpirationTime: &l.Expires, PartnerLifetime: &u.Lifetime,
		PartnerRawCLTTime: &l.Heard} {
		v, ok := about.Uint32(code)
		if !ok {
			return u, fmt.Errorf("binding %s: option %d is missing", l.Prefix, code)
		}
		*at = Skewed(v, ahead, now)
	}
	own, _ := about.Get(ownOption)
	if err := u.readOwn(own); err != nil {
		return u, fmt.Errorf("binding %w", err)
	}
	if found, ok := about.Get(conflictOption); ok {
		if u.Kept, u.Other, ok = keysOf(string(found)); !ok {
			return u, fmt.Errorf("binding %s: option %d is malformed", l.Prefix, conflictOption)
		}
		if end, ok := about.Uint32(conflictEnd); ok {
			u.Until = Skewed(end, ahead, now)
		}
	}
	l.Since = l.Changed
	if l.Granted >= option.Infinite {
		l.Expires = lease.Never
	}
	if b, ok := about.Get(StatusCode); ok && len(b) >= 2 {
		u.Reason, u.Text = binary.BigEndian.Uint16(b), string(b[2:])
	}
	return u, nil
}

// keysOf reads two keys of clients.
func keysOf(text string) (kept, other string, ok bool) {
	kept, other, _ = strings.Cut(text, " ")
	for _, k := range []string{kept, other} {
		raw, err := hex.DecodeString(k)
		if _, bad := lease.ParseClient(raw); err != nil || bad != nil {
			return "", "", false
		}
	}
	return kept, other, true
}

func (u *Update) readV4(raw []byte) error {
	var m dhcp4.Message
	if err := dhcp4.Decode(&m, raw); err != nil {
		return err
	}
	l := &u.Lease
	l.Prefix, l.Hardware = lease.Host(m.CIAddr), m.CHAddr
	l.Client = lease.ByHardware(m.HType, m.CHAddr)
	if id, ok := m.Options.Get(option.ClientID); ok {
		l.Client = lease.ByIdentifier(id)
	} else if m.CHAddr == "" {
		l.Client = lease.Client{}
	}
	l.Hostname, l.Vendor = m.Text(option.Hostname), m.Text(option.ClassID)
	agent := map[uint8][]byte{}
	if !m.GIAddr.IsUnspecified() {
		l.Relay = m.GIAddr
	}
	if b, ok := m.Options.Get(option.RelayAgent); ok {
		r := dhcp4.ParseRelay(b)
		l.Circuit = string(r.Circuit)
		for code, data := range map[uint8][]byte{dhcp4.SubRemote: r.Remote, dhcp4.SubSubscriber: r.Subscriber} {
			if len(data) > 0 {
				agent[code] = data
			}
		}
	}
	if b, ok := m.Options.Get(option.UserClass); ok && len(b) > 0 && len(b) < 256 {
		agent[option.UserClass] = b
	}
	for _, code := range slices.Sorted(maps.Keys(agent)) {
		l.Agent = string(dhcp4.AppendSub([]byte(l.Agent), code, agent[code]))
	}
	return nil
}

func (u *Update) readAssociation(data Options) (about Options, err error) {
	l := &u.Lease
	kind, outer, inner, at := lease.Addresses, uint16(IANA), uint16(IAAddr), 0
	ia, ok := data.Get(outer)
	if !ok {
		kind, outer, inner, at = lease.Prefixes, IAPD, IAPrefix, 9
		ia, ok = data.Get(outer)
	}
	id, known := data.Get(ClientID)
	const head, body = 12, 24 // octets before options; a prefix has one more, for its length
	if b, there := data.Get(IAAddr); !ok && there && len(b) >= body && known {
		l.Client = lease.Client{Kind: lease.Registered, ID: string(id)}
		if l.Prefix = netip.PrefixFrom(netip.AddrFrom16([16]byte(b)), 128); l.Prefix.Addr().Is4In6() {
			return nil, fmt.Errorf("%s is no address of IPv6", l.Prefix.Addr())
		}
		u.readClient(data)
		return DecodeOptions(b[body:])
	}
	if !ok || len(ia) < head {
		return nil, fmt.Errorf("it is of no address: %w", ErrShort)
	}
	if known {
		l.Client = lease.Client{Kind: kind, Number: binary.BigEndian.Uint32(ia), ID: string(id)}
	}
	nested, err := DecodeOptions(ia[head:])
	if err != nil {
		return nil, err
	}
	b, ok := nested.Get(inner)
	size := body
	if kind == lease.Prefixes {
		size++
	}
	if !ok || len(b) < size {
		return nil, fmt.Errorf("its address is missing: %w", ErrShort)
	}
	a, bits := netip.AddrFrom16([16]byte(b[at:at+16])), 128
	if kind == lease.Prefixes {
		bits = int(b[8])
	}
	if l.Prefix = netip.PrefixFrom(a, bits); !l.Prefix.IsValid() || a.Is4In6() {
		return nil, fmt.Errorf("%s with a length of %d is no address", a, bits)
	}
	u.readClient(data)
	return DecodeOptions(b[size:])
}
