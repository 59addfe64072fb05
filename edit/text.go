package edit

import (
	"fmt"
	"strings"
	"unicode"
	"unicode/utf8"
)

// textMost bounds a text, in octets.
const textMost = 64 << 10

// CheckText refuses characters that are not for reading: controls, escapes,
// marks that turn the direction of writing, and what is no character at all.
// Notes, reasons and certificates may have several lines. The error names the field, and not
// what it holds.
func CheckText(field, text string) error {
	if printable(text) {
		return nil
	}
	if field == "" {
		field = "the text"
	}
	if len(text) > textMost {
		return fmt.Errorf("%s takes %d octets; %d is the most", field, len(text), textMost)
	}
	lines := strings.HasSuffix(field, "note") || strings.HasSuffix(field, "reason") || field == "ca"
	for _, r := range text {
		if lines && (r == '\n' || r == '\t') {
			continue
		}
		if r == unicode.ReplacementChar || unicode.IsControl(r) || unicode.Is(unicode.Cf, r) || unicode.Is(unicode.Co, r) || r == '\u2028' ||
			r == '\u2029' {
			return fmt.Errorf("%s has the character U+%04X, which is not for reading; take it out", strings.ToValidUTF8(Clean(field), "?"), r)
		}
	}
	return nil
}

// printable reports whether a text is one that may stand anywhere; most are.
func printable(text string) bool {
	for i := range len(text) {
		if text[i] < ' ' || text[i] > '~' {
			return false
		}
	}
	return len(text) <= textMost
}

// Clean makes a text harmless to show.
func Clean(text string) string {
	return strings.Map(func(r rune) rune {
		if unicode.IsPrint(r) {
			return r
		}
		return '?'
	}, text)
}

// executed are the characters at which a spreadsheet takes a cell for something to compute.
const executed = "=+-@\t\r＝＋－＠"

// Defuse makes a cell of a sheet one that a spreadsheet shows, and does not compute: an apostrophe goes
// before it. Fused takes that away again.
func Defuse(cell string) string {
	if first, _ := utf8.DecodeRuneInString(strings.TrimLeft(cell, " '")); strings.ContainsRune(executed, first) && cell != "" {
		return "'" + cell
	}
	return cell
}

// Fused is a cell as it was before it was defused.
func Fused(cell string) string {
	if rest, quoted := strings.CutPrefix(cell, "'"); quoted && Defuse(rest) == cell {
		return rest
	}
	return cell
}
