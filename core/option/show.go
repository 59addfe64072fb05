package option

import (
	"strings"
	"unicode"
	"unicode/utf8"
)

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
			return Colons(b)
		}
	}
	return string(b)
}
