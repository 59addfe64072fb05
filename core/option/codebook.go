package option

import (
	"cmp"
	"fmt"
	"slices"
	"sort"
	"strconv"
	"strings"
)

// Def is one option of a codebook.
type Def struct {
	Code    uint16
	Title   string // as the IANA registry has it
	RFCName string // the title in the RFC's own text, where it differs
	Type    Type
	Meaning string
	// Managed options are computed by the service and cannot be set.
	Managed bool
}

// Name is a plain slug of the title in the IANA registry.
func (d Def) Name() string { return Slug(d.Title) }

// OtherName is a slug of the RFC's own title where it differs from Name, and
// is understood wherever a name is read.
func (d Def) OtherName() string { return Slug(d.RFCName) }

// Slug lowers a title and joins its words and digits with single dashes.
func Slug(title string) string {
	var out strings.Builder
	for _, r := range strings.ToLower(title) {
		if r >= 'a' && r <= 'z' || r >= '0' && r <= '9' {
			out.WriteRune(r)
		} else if s := out.String(); s != "" && !strings.HasSuffix(s, "-") {
			out.WriteByte('-')
		}
	}
	return strings.TrimSuffix(out.String(), "-")
}

// Codebook is one set of codes with their names and types.
type Codebook struct {
	Title  string
	Most   int // the highest code that there can be; 0: 254
	byCode map[uint16]*Def
	byName map[string]*Def
}

// NewCodebook makes a codebook of definitions, which it keeps.
func NewCodebook(title string, defs []Def) *Codebook {
	book := &Codebook{Title: title, byCode: make(map[uint16]*Def, len(defs)), byName: make(map[string]*Def, 2*len(defs))}
	for i := range defs {
		d := &defs[i]
		book.byCode[d.Code] = d
		if other := d.OtherName(); other != "" {
			book.byName[other] = d
		}
	}
	for i := range defs { // registry names win over names from RFC texts
		book.byName[defs[i].Name()] = &defs[i]
	}
	return book
}

// Lookup finds an option by its code in decimal or by its name. An
// unregistered code from 1 to 254, or to 65535 with DHCPv6, is understood as bytes.
func (c *Codebook) Lookup(text string) (Def, error) {
	text = strings.ToLower(strings.TrimSpace(text))
	if n, err := strconv.Atoi(text); err == nil {
		most := cmp.Or(c.Most, 254)
		if n < 1 || n > most {
			return Def{}, fmt.Errorf("option code %d is out of range; codes go from 1 to %d", n, most)
		}
		if c == Header4 && n > BootFile {
			return Def{}, fmt.Errorf("there is no header field %d; 1 is next-server, 2 server-name, 3 boot-file", n)
		}
		if c == Header6 && n > RebindingTime6 {
			return Def{}, fmt.Errorf("there is no header field %d of DHCPv6; 1 is renewal-time, 2 rebinding-time", n)
		}
		return c.ByCode(uint16(n)), nil
	}
	if d := c.byName[text]; d != nil {
		return *d, nil
	}
	if near := c.near(text); near != "" {
		return Def{}, fmt.Errorf("no option is called %q; did you mean %s? (yarnpost option codes lists all)", text, near)
	}
	return Def{}, fmt.Errorf("no option is called %q; yarnpost option codes lists all names and codes", text)
}

// Named reports whether an option goes by the name.
func (c *Codebook) Named(name string) bool { return c.byName[name] != nil }

// near proposes names that contain the text or one of its words.
func (c *Codebook) near(text string) string {
	var hits []string
	for name := range c.byName {
		if strings.Contains(name, text) || strings.Contains(text, name) {
			hits = append(hits, name)
		}
	}
	sort.Strings(hits)
	return strings.Join(hits[:min(3, len(hits))], ", ")
}

// ByCode is the definition of a code; an unregistered one has raw bytes.
func (c *Codebook) ByCode(code uint16) Def {
	if d := c.byCode[code]; d != nil {
		return *d
	}
	return Def{Code: code, Title: fmt.Sprintf("Option %d", code), Type: Type{Fields: []Kind{Bytes}}}
}

// All lists the definitions in order of code.
func (c *Codebook) All() []Def {
	var out []Def
	for _, d := range c.byCode {
		out = append(out, *d)
	}
	slices.SortFunc(out, func(a, b Def) int { return int(a.Code) - int(b.Code) })
	return out
}
