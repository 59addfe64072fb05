package dhcp4

import (
	"strings"

	"yarnpost/core/option"
)

// Text is what an option says as text that can be stored and shown anywhere
// (see option.Clean), or "".
func (m *Message) Text(code uint8) string {
	b, _ := m.Options.Get(code)
	return option.Clean(b)
}

var oneName = option.Type{Fields: []option.Kind{option.Name}}

// FQDN is the name of option 81 without a final dot, or "" (RFC 4702 section
// 2.1: with the E bit in the form of RFC 1035, else in the deprecated ASCII).
func (m *Message) FQDN() string {
	b, ok := m.Options.Get(option.ClientFQDN)
	if !ok || len(b) < 4 {
		return ""
	}
	if b[0]&4 == 0 {
		return strings.TrimSuffix(option.Clean(b[3:]), ".")
	}
	name := oneName.Format(b[3:])
	if strings.HasPrefix(name, option.RawPrefix) { // a partial name has no final root label
		name = oneName.Format(append(append([]byte(nil), b[3:]...), 0))
	}
	if strings.HasPrefix(name, option.RawPrefix) {
		return ""
	}
	return name
}
