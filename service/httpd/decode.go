package httpd

import (
	"encoding/binary"
	"encoding/hex"
	"fmt"
	"iter"
	"strings"

	"yarnpost/api"
	"yarnpost/core/dhcp4"
	"yarnpost/core/option"
	"yarnpost/core/plan"
	"yarnpost/core/request"
)

// This file puts messages into words.

// decoded puts a datagram into words. Replies do not tell the vendor class that
// option 43 depends on; it is the one of their requests.
func decoded(p *plan.Plan, of option.Family, b []byte, class string) api.Decoded {
	if of == option.V6 {
		return decoded6(b)
	}
	out := api.Decoded{Type: "malformed", Size: len(b), Fields: []api.Field{}, Options: []api.Setting{}, Bytes: hex.EncodeToString(b)}
	var m dhcp4.Message
	if err := dhcp4.Decode(&m, b); err != nil {
		out.Fields = append(out.Fields, api.Field{Name: "fault", Value: err.Error()})
		return out
	}
	out.Type = m.Type.String()
	field := func(name, value string, show bool) {
		if show {
			out.Fields = append(out.Fields, api.Field{Name: name, Value: value})
		}
	}
	field("transaction", fmt.Sprintf("%08x", m.XID), true)
	field("seconds", fmt.Sprint(m.Secs), m.Secs > 0)
	field("flags", "broadcast", m.Broadcast())
	field("hops", fmt.Sprint(m.Hops), m.Hops > 0)
	field("client has (ciaddr)", m.CIAddr.String(), !m.CIAddr.IsUnspecified())
	field("client gets (yiaddr)", m.YIAddr.String(), !m.YIAddr.IsUnspecified())
	field("next server (siaddr)", m.SIAddr.String(), !m.SIAddr.IsUnspecified())
	field("relay (giaddr)", m.GIAddr.String(), !m.GIAddr.IsUnspecified())
	field("hardware address", m.CHAddr.String(), true)
	field("server name", option.Clean(m.SName), len(m.SName) > 0)
	field("boot file", option.Clean(m.File), len(m.File) > 0)
	if own := m.Text(option.ClassID); own != "" {
		class = own
	}
	out.Options = optionsView(p, of, m.Each(), class)
	return out
}

// optionsView puts options of a family into words; a vendor class helps with option 43.
func optionsView(p *plan.Plan, of option.Family, options iter.Seq2[uint16, []byte], class string) []api.Setting {
	out := []api.Setting{}
	for code, data := range options {
		if of == option.V6 {
			out = append(out, setting6(request.Option{Code: code, Data: data}))
			continue
		}
		d := p.Codes().ByCode(code)
		text := d.Type.Format(data)
		switch code {
		case option.MessageType:
			if len(data) == 1 {
				text = dhcp4.Type(data[0]).String()
			}
		case option.ParameterList:
			var names []string
			for _, c := range data {
				names = append(names, fmt.Sprintf("%d %s", c, p.Codes().ByCode(uint16(c)).Name()))
			}
			text = strings.Join(names, ", ")
		case option.RelayAgent:
			text = relayText(data)
		case option.VendorSpecific:
			if book := bookFor(p, plan.InVendor, func(c *plan.Codebook) bool { return c.Fits(class) }); book != nil {
				text = bookText(p, book, data)
			}
		case option.VIVendorOptions:
			text = vendorText(p, data, text)
		}
		out = append(out, api.Setting{Code: code, Name: d.Name(), Value: text, Bytes: hex.EncodeToString(data)})
	}
	return out
}

func bookFor(p *plan.Plan, place plan.Place, fits func(*plan.Codebook) bool) *plan.Codebook {
	for _, c := range p.Codebooks() {
		if c.Place == place && fits(c) {
			return c
		}
	}
	return nil
}

// bookText puts sub-options of a codebook into words.
func bookText(p *plan.Plan, book *plan.Codebook, b []byte) string {
	var parts []string
	whole := dhcp4.Sub(b, func(code uint8, data []byte) bool {
		d, err := p.Def(option.Key{Book: book.Name, Code: uint16(code)})
		if err == nil {
			parts = append(parts, fmt.Sprintf("%s/%s=%s", book.Name, d.Name(), d.Type.Format(data)))
		}
		return code != option.End
	})
	if !whole || len(parts) == 0 {
		return option.RawPrefix + hex.EncodeToString(b)
	}
	return strings.Join(parts, " ")
}

// vendorText puts option 125 into words: sub-options by enterprise number.
func vendorText(p *plan.Plan, b []byte, otherwise string) string {
	var parts []string
	for rest := b; len(rest) > 0; {
		if len(rest) < 5 || len(rest) < 5+int(rest[4]) {
			return otherwise
		}
		number, data := binary.BigEndian.Uint32(rest), rest[5:5+int(rest[4])]
		if book := bookFor(p, plan.In125, func(c *plan.Codebook) bool { return c.Enterprise == number }); book != nil {
			parts = append(parts, bookText(p, book, data))
		} else {
			parts = append(parts, fmt.Sprintf("enterprise %d %s%s", number, option.RawPrefix, hex.EncodeToString(data)))
		}
		rest = rest[5+len(data):]
	}
	return strings.Join(parts, " ")
}

var relaySubs = map[uint8]string{dhcp4.SubCircuit: "circuit", dhcp4.SubRemote: "remote", dhcp4.SubLink: "link",
	dhcp4.SubSubscriber: "subscriber",
	dhcp4.SubFlags:      "flags", dhcp4.SubServerID: "server", dhcp4.SubSourcePort: "source-port", dhcp4.SubNet: "virtual-net",
	dhcp4.SubNetControl: "virtual-net-control"}

func relayText(b []byte) string {
	var parts []string
	dhcp4.Sub(b, func(code uint8, data []byte) bool {
		name := relaySubs[code]
		if name == "" {
			name = fmt.Sprintf("sub-option-%d", code)
		}
		value := option.Show(data)
		if (code == dhcp4.SubLink || code == dhcp4.SubServerID) && len(data) == 4 {
			value = fmt.Sprintf("%d.%d.%d.%d", data[0], data[1], data[2], data[3])
		}
		if value != "" {
			name += "=" + value
		}
		parts = append(parts, name)
		return true
	})
	return strings.Join(parts, " ")
}
