package plan

import (
	"fmt"
	"maps"
	"math"
	"net/netip"
	"net/url"
	"slices"
	"strconv"
	"strings"
	"time"
	"unicode/utf8"
)

// OwnField is a field of the administrator's own, such as a location or a ticket: defined once, and then
// said of items.
type OwnField struct {
	ID      ID        `json:"id"`
	Name    string    `json:"name"`
	Type    FieldType `json:"type"`
	Choices []string  `json:"choices,omitempty"` // what it can be, with FieldChoice
	On      []Kind    `json:"on,omitempty"`      // kinds of items that can have it; none: all
	Note    string    `json:"note,omitempty"`
}

// FieldType says how the values of a field are written.
type FieldType string

// The types of fields.
const (
	FieldText    FieldType = "text"
	FieldNumber  FieldType = "number"
	FieldDate    FieldType = "date" // such as 2026-12-24
	FieldChoice  FieldType = "choice"
	FieldAddress FieldType = "address"
	FieldLink    FieldType = "link" // http or https
)

// Fields are the values that an item has of fields of one's own, by their names.
type Fields map[string]string

// valueMost bounds the value of a field, in octets.
const valueMost = 1000

func (f Fields) describe() (out []field) {
	for _, name := range slices.Sorted(maps.Keys(f)) {
		out = append(out, field{name, f[name]})
	}
	return out
}

func (f OwnField) describe(func(ID) string) []field {
	out := []field{{"name", f.Name}, {"type", string(f.Type)}}
	for _, c := range f.Choices {
		out = append(out, field{"choice " + c, "yes"})
	}
	for _, k := range f.On {
		out = append(out, field{"on " + string(k), "yes"})
	}
	return append(out, field{"note", f.Note})
}

// Carries lists the kinds of items that can have fields of one's own.
func Carries() (out []Kind) {
	for _, k := range kinds {
		if k.fields != nil {
			out = append(out, k.name)
		}
	}
	return out
}

// OwnFields lists the fields by name.
func (p *Plan) OwnFields() []*OwnField {
	return slices.SortedFunc(maps.Values(p.catalog.fields), func(a, b *OwnField) int { return strings.Compare(a.Name, b.Name) })
}

// OwnFieldNamed is the field with that name, or nil; case does not matter.
func (p *Plan) OwnFieldNamed(name string) *OwnField { return p.catalog.fields[p.id(KindField, name)] }

// Fits reports whether items of a kind can have the field.
func (f *OwnField) Fits(k Kind) bool { return len(f.On) == 0 || slices.Contains(f.On, k) }

// canonical is a value of the field as it is kept.
func (f *OwnField) canonical(text string) (string, error) {
	text = strings.TrimSpace(text)
	wrong := func(want string) (string, error) {
		return "", Refused("%s: %q is not %s", f.Name, text, want)
	}
	if len(text) > valueMost || !utf8.ValidString(text) {
		return "", Refused("%s takes %d octets of text at the most", f.Name, valueMost)
	}
	switch f.Type {
	case FieldNumber:
		if n, err := strconv.ParseFloat(text, 64); err != nil || math.IsInf(n, 0) || math.IsNaN(n) {
			return wrong("a number")
		}
	case FieldDate:
		if _, err := time.Parse(time.DateOnly, text); err != nil {
			return wrong("a date like 2026-12-24")
		}
	case FieldChoice:
		i := slices.IndexFunc(f.Choices, func(c string) bool { return strings.EqualFold(c, text) })
		if i < 0 {
			return wrong("one of " + strings.Join(f.Choices, ", "))
		}
		return f.Choices[i], nil
	case FieldAddress:
		a, err := netip.ParseAddr(text)
		if err != nil {
			return wrong("an address")
		}
		return a.String(), nil
	case FieldLink:
		if u, err := url.Parse(text); err != nil || u.Scheme != "http" && u.Scheme != "https" || u.Host == "" {
			return wrong("a link like https://tickets.example/4711")
		}
	}
	return text, nil
}

// checkFields refuses values of fields that an item cannot have, and writes them as they are kept.
func (d *Draft) checkFields(k Kind, name string, of *Fields) error {
	if len(*of) == 0 || d.trusted {
		return nil
	}
	out := make(Fields, len(*of))
	for called, text := range *of {
		f := d.next.OwnFieldNamed(called)
		switch {
		case f == nil:
			return fmt.Errorf("%s %s: %w", k, name, Missing(KindField, called))
		case !f.Fits(k):
			return Refused("%s %s: field %s is not for a %s", k, name, f.Name, k)
		}
		value, err := f.canonical(text)
		if err != nil {
			return fmt.Errorf("%s %s: %w", k, name, err)
		}
		if value != "" {
			out[f.Name] = value
		}
	}
	*of = out
	return nil
}

// PutOwnField adds a field (ID 0) or replaces it. It keeps its name for good, since items have values
// by it; what they have must still be a value of it.
func (d *Draft) PutOwnField(f OwnField) (ID, error) {
	if err := d.checkName(KindField, f.ID, f.Name); err != nil {
		return 0, err
	}
	if !slices.Contains([]FieldType{FieldText, FieldNumber, FieldDate, FieldChoice, FieldAddress, FieldLink}, f.Type) {
		return 0, Refused("field %s: its type is text, number, date, choice, address or link, and not %q", f.Name, f.Type)
	}
	if (f.Type == FieldChoice) != (len(f.Choices) > 0) {
		return 0, Refused("field %s: what it can be is listed with the type choice, and with no other", f.Name)
	}
	for _, k := range f.On {
		if !slices.Contains(Carries(), k) {
			return 0, Refused("field %s: there is no kind of item %q that has fields", f.Name, k)
		}
	}
	old := d.next.catalog.fields[f.ID]
	if old != nil && old.Name != f.Name {
		return 0, Refused("field %s keeps its name, since items have values by it", old.Name)
	}
	if err := d.stillFits(&f); err != nil {
		return 0, err
	}
	var before Item
	if old != nil {
		before = *old
	} else if f.ID == 0 {
		f.ID = d.newID()
	}
	d.next.catalog.fields[f.ID] = &f
	d.rename(KindField, f.ID, "", f.Name)
	d.note(KindField, f.ID, f.Name, before, f)
	return f.ID, nil
}

// stillFits refuses a definition that a value which is there does not fit.
func (d *Draft) stillFits(f *OwnField) error {
	if d.trusted || d.next.catalog.fields[f.ID] == nil {
		return nil
	}
	for k, i := range d.having(f.Name) {
		if !f.Fits(k.name) {
			return Refused("field %s: %s %s has a value of it; take that away first", f.Name, k.name, k.called(i))
		}
		if _, err := f.canonical(k.fields(i)[f.Name]); err != nil {
			return fmt.Errorf("%s %s has a value that would not fit: %w", k.name, k.called(i), err)
		}
	}
	return nil
}

// having are the items that have a value of a field, with their kinds.
func (d *Draft) having(name string) func(yield func(kind, Item) bool) {
	return func(yield func(kind, Item) bool) {
		for _, k := range kinds {
			if k.fields == nil {
				continue
			}
			for _, i := range k.all(d.next) {
				if _, has := k.fields(i)[name]; has && !yield(k, i) {
					return
				}
			}
		}
	}
}

// RemoveOwnField removes a field, and its values from the items that have any.
func (d *Draft) RemoveOwnField(name string) error {
	f := d.next.OwnFieldNamed(name)
	if f == nil {
		return Missing(KindField, name)
	}
	for k, i := range d.having(f.Name) {
		rest := maps.Clone(k.fields(i))
		delete(rest, f.Name)
		if _, err := k.put(d, k.withFields(i, rest)); err != nil {
			return err
		}
	}
	delete(d.next.catalog.fields, f.ID)
	d.rename(KindField, f.ID, f.Name, "")
	d.note(KindField, f.ID, f.Name, *f, nil)
	return nil
}

// FieldsUsed says how many items have a value of each field, by its name.
func (p *Plan) FieldsUsed() map[string]int {
	out := map[string]int{}
	if len(p.catalog.fields) == 0 {
		return out
	}
	for _, k := range kinds {
		if k.fields == nil {
			continue
		}
		for _, i := range k.all(p) {
			for name := range k.fields(i) {
				out[name]++
			}
		}
	}
	return out
}
