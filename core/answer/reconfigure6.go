package answer

import (
	"crypto/hmac"
	"crypto/md5"
	"encoding/binary"
	"fmt"
	"slices"

	"yarnpost/core/dhcp6"
	"yarnpost/core/lease"
	"yarnpost/core/option"
	"yarnpost/core/request"
)

// addKey tells a client that accepts RECONFIGURE (option 20) the key by which it knows one to be
// this server's (RFC 8415 section 20.4), and has its leases keep that. A key is made when
// something is given; a client that renews is told it only if none is on record.
func (d *v6) addKey() {
	if _, accepts := d.msg.Options.Get(option.ReconfAccept6); !accepts {
		return
	}
	d.sent.Options = append(d.sent.Options, dhcp6.Option{Code: option.ReconfAccept6})
	if d.sent.Type != dhcp6.Reply {
		return
	}
	key, kept := "", true
	for i := range d.out.Answers {
		if a := &d.out.Answers[i]; a.Outcome == Acknowledged {
			l := d.table.Get(a.Key)
			if l == nil || l.Client != a.Client || len(l.Nudge) != nonceSize {
				kept = false
			} else if key == "" {
				key = l.Nudge
			}
		}
	}
	if key == "" && d.world.Nonce != nil {
		key = d.world.Nonce()
	}
	if len(key) != nonceSize {
		return
	}
	for i := range d.out.Answers {
		if a := &d.out.Answers[i]; a.Outcome == Acknowledged {
			d.keepKey(a, key)
		}
	}
	if renews := d.req.Kind == request.Renew || d.req.Kind == request.Rebind; renews && kept {
		return
	}
	data := append(auth(uint64(d.now)<<32, authNonce), key...)
	d.sent.Options = append(d.sent.Options, dhcp6.Option{Code: option.Authentication6, Data: data})
}

// keepKey has the lease of an answer keep the key.
func (d *v6) keepKey(a *Answer, key string) {
	if a.Lease != nil {
		a.Lease.Nudge = key
		return
	}
	l := d.table.Get(a.Key)
	if l == nil || l.Nudge == key {
		return
	}
	same := *l // not worth a write: it is recorded with the next that is
	same.Nudge = key
	a.remembered = lease.Change{Before: l, After: &same}
}

// Reconfigure encodes the RECONFIGURE that makes a client renew at once (RFC 8415 sections 16.11,
// 20.4), by the key that its lease keeps. The replay value must be higher than any the client was
// sent, as with Nudge.
func Reconfigure(l *lease.Lease, duid string, replay uint64) ([]byte, error) {
	if len(l.Nudge) != nonceSize {
		return nil, fmt.Errorf("nudge %s: the client did not say that it accepts RECONFIGURE", l.Prefix)
	}
	m := &dhcp6.Message{Type: dhcp6.Reconfigure, Options: dhcp6.Options{{Code: option.ClientID6, Data: []byte(l.Client.ID)},
		{Code: option.ServerID6, Data: []byte(duid)}, {Code: option.ReconfMessage6, Data: []byte{byte(dhcp6.Renew)}},
		{Code: option.Authentication6, Data: append(auth(replay, authHMAC), make([]byte, md5.Size)...)}}}
	b, _, err := m.AppendTo(nil, 0)
	if err != nil {
		return nil, fmt.Errorf("nudge %s: %w", l.Prefix, err)
	}
	h := hmac.New(md5.New, []byte(l.Nudge))
	h.Write(b) // with the field itself, which is last, still zero
	h.Sum(b[len(b)-md5.Size : len(b)-md5.Size])
	return b, nil
}

// CheckReconfigure verifies a RECONFIGURE as its client does, and gives what it is to send.
func CheckReconfigure(b []byte, key string) (dhcp6.Type, error) {
	var m dhcp6.Message
	if err := dhcp6.Decode(&m, b); err != nil {
		return 0, err
	}
	data, _ := m.Options.Get(option.Authentication6)
	what, _ := m.Options.Get(option.ReconfMessage6)
	const head = 3 + 8 + 1
	if m.Type != dhcp6.Reconfigure || m.Transaction != 0 || len(what) != 1 || len(data) != head+md5.Size || data[head-1] != authHMAC ||
		binary.BigEndian.Uint64(data[3:]) == 0 {
		return 0, fmt.Errorf("it is no RECONFIGURE with an HMAC")
	}
	told := slices.Clone(data[head:])
	clear(data[head:]) // which lie in b
	h := hmac.New(md5.New, []byte(key))
	h.Write(b)
	copy(data[head:], told)
	if !hmac.Equal(h.Sum(nil), told) {
		return 0, fmt.Errorf("the RECONFIGURE is not authentic")
	}
	return dhcp6.Type(what[0]), nil
}
