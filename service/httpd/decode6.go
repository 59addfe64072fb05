package httpd

import (
	"encoding/hex"
	"fmt"
	"strings"
	"time"

	"yarnpost/api"
	"yarnpost/core/addr"
	"yarnpost/core/dhcp6"
	"yarnpost/core/option"
)

// decoded6 puts a DHCPv6 datagram into words.
func decoded6(b []byte) api.Decoded {
	out := api.Decoded{Type: "malformed", Size: len(b), Fields: []api.Field{}, Options: []api.Setting{}, Bytes: hex.EncodeToString(b)}
	var m dhcp6.Message
	if err := dhcp6.Decode(&m, b); err != nil {
		out.Fields = append(out.Fields, api.Field{Name: "fault", Value: err.Error()})
		return out
	}
	out.Type = m.Type.String()
	field := func(name, value string) { out.Fields = append(out.Fields, api.Field{Name: name, Value: value}) }
	for i, r := range m.Relays {
		text := fmt.Sprintf("link %s, from %s", r.Link, r.Peer)
		for _, o := range r.Options {
			text += ", " + option.Standard6.ByCode(o.Code).Name() + " " + option.Show(o.Data)
		}
		field(fmt.Sprintf("relay %d of %d (hop count %d)", i+1, len(m.Relays), r.Hops), text)
	}
	field("transaction", fmt.Sprintf("%06x", m.Transaction))
	for i := range m.IAs {
		name, text := association(&m.IAs[i])
		field(name, text)
	}
	for _, o := range m.Options {
		switch o.Code {
		case option.IANA, option.IATA, option.IAPD: // told as fields
		default:
			out.Options = append(out.Options, setting6(o))
		}
	}
	return out
}

// association puts an association into words: its name, and what it holds.
func association(ia *dhcp6.IA) (name, text string) {
	name = fmt.Sprintf("%s, IAID %d", strings.ToUpper(option.Standard6.ByCode(ia.Code).Title), ia.ID)
	var parts []string
	for _, l := range ia.Leases {
		what := addr.FormatKey(l.Prefix)
		if l.Preferred != 0 || l.Valid != 0 {
			what += fmt.Sprintf(" preferred for %s, valid for %s", spanText(l.Preferred), spanText(l.Valid))
		}
		parts = append(parts, what)
	}
	if ia.T1 != 0 || ia.T2 != 0 {
		parts = append(parts, fmt.Sprintf("renewed after %s, rebound after %s", spanText(ia.T1), spanText(ia.T2)))
	}
	if ia.Status != dhcp6.Success || ia.Message != "" {
		parts = append(parts, strings.TrimSuffix(ia.Status.String()+": "+ia.Message, ": "))
	}
	return name, strings.Join(parts, "; ")
}

func spanText(seconds uint32) string {
	return option.FormatDuration(time.Duration(seconds) * time.Second)
}

// setting6 puts an option of DHCPv6 into words.
func setting6(o dhcp6.Option) api.Setting {
	d := option.Standard6.ByCode(o.Code)
	text := d.Type.Format(o.Data)
	switch o.Code {
	case option.RequestList6:
		var names []string
		for b := o.Data; len(b) >= 2; b = b[2:] {
			code := uint16(b[0])<<8 | uint16(b[1])
			names = append(names, fmt.Sprintf("%d %s", code, option.Standard6.ByCode(code).Name()))
		}
		text = strings.Join(names, ", ")
	case option.ClientID6, option.ServerID6:
		if of := addr.DUID(o.Data).Describe(); of != "" {
			text += " (" + of + ")"
		}
	case option.StatusCode6:
		if len(o.Data) >= 2 {
			text = strings.TrimSuffix(dhcp6.Status(uint16(o.Data[0])<<8|uint16(o.Data[1])).String()+": "+option.Clean(o.Data[2:]), ": ")
		}
	case option.ElapsedTime6:
		if len(o.Data) == 2 {
			text = fmt.Sprintf("%d ms", 10*(int(o.Data[0])<<8|int(o.Data[1])))
		}
	}
	return api.Setting{Code: o.Code, Name: "v6/" + d.Name(), Value: text, Bytes: hex.EncodeToString(o.Data)}
}
