package dhcp4

import (
	"strings"
	"unicode"
	"unicode/utf8"

	"yarnpost/core/option"
)

// Text is what an option says as text that can be stored and shown anywhere
// (see Clean), or "".
func (m *Message) Text(code uint8) string {
	b, _ := m.Options.Get(code)
	return Clean(b)
}

// Clean makes text of what a client says of itself: trailing NULs go, and what
// is not printable becomes a question mark, so that it can be stored and shown
// anywhere.
func Clean(b []byte) string {
	s := strings.TrimRight(string(b), "\x00")
	for i := range len(s) {
		if s[i] < ' ' || s[i] > '~' {
			return strings.Map(func(r rune) rune {
				if r == utf8.RuneError || !unicode.IsPrint(r) {
					return '?'
				}
				return r
			}, s)
		}
	}
	return s
}

// Show makes text of octets that may be text: as they are if all of them are
// printable, else in hexadecimal with colons.
func Show(b []byte) string {
	for _, c := range b {
		if c < ' ' || c > '~' {
			return option.Colons(b)
		}
	}
	return string(b)
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
		return strings.TrimSuffix(Clean(b[3:]), ".")
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
