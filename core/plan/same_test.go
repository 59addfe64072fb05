package plan

import (
	"net/netip"
	"reflect"
	"testing"
	"time"

	"yarnpost/core/addr"
	"yarnpost/core/option"
)

// Whatever field of whatever kind is changed: the items are not the same any
// more, and the diff has a word for it.
func TestEveryFieldCounts(t *testing.T) {
	filled := map[reflect.Type]reflect.Value{}
	for _, v := range []any{"text", true, 7, uint32(7), ID(7), Duration(time.Hour), Identity(ByHardware), Mode(Serving),
		Bootp(BootpDynamic),
		Place(In125), Action(Refuse),
		netip.MustParseAddr("10.77.0.9"), netip.MustParsePrefix("10.77.0.0/24"), time.Unix(1e9, 0),
		addr.Hardware("\x02\x00\x00\x00\x00\x01"),
		addr.Octets("\x02"),
		addr.OfPrefix(netip.MustParsePrefix("10.77.0.0/25")), []string{"one"}, []addr.Octets{"\x02"},
		[]netip.Addr{netip.MustParseAddr("10.77.0.2")},
		[]addr.Range{addr.OfPrefix(netip.MustParsePrefix("10.77.0.0/25"))},
		[]Exclusion{{addr.OfPrefix(netip.MustParsePrefix("10.77.0.0/25")), "printer"}},
		[]Own{{224, "knob", option.Type{Fields: []option.Kind{option.Text}}, "what"}}, map[option.Key]string{option.Std(3): "10.77.0.1"},
		Fields{"hall": "3"}, []PrefixPool{{netip.MustParsePrefix("2001:db8:8000::/33"), 48, 64}}, addr.IAIDOf(7), FieldType(FieldDate),
		[]Kind{KindScope}} {
		filled[reflect.TypeOf(v)] = reflect.ValueOf(v)
	}
	label := func(id ID) string { return map[ID]string{7: "seven"}[id] }
	var walk func(kind Kind, whole, part reflect.Value, path string)
	walk = func(kind Kind, whole, part reflect.Value, path string) {
		for i := range part.NumField() {
			f := part.Field(i)
			name := path + part.Type().Field(i).Name
			if name == "ID" {
				continue // it is who the item is
			}
			v, known := filled[f.Type()]
			if !known && f.Kind() == reflect.Struct {
				walk(kind, whole, f, name+".")
				continue
			}
			if !known {
				t.Errorf("%s %s: a value of %s is needed to try it", kind, name, f.Type())
				continue
			}
			before := whole.Interface().(Item)
			f.Set(v)
			after := whole.Interface().(Item)
			if Same(before, after) || !Same(after, after) {
				t.Errorf("%s: a change of %s is not seen", kind, name)
			}
			if lines := Diff([]Change{{Kind: kind, ID: 1, Before: before, After: after}}, label); len(lines) == 0 {
				t.Errorf("%s: the diff has no word for a change of %s", kind, name)
			}
		}
	}
	for _, k := range kinds {
		empty, err := k.decode([]byte("{}"))
		if err != nil {
			t.Fatal(err)
		}
		whole := reflect.New(reflect.TypeOf(empty)).Elem()
		walk(k.name, whole, whole, "")
		if Same(empty, nil) || !Same(nil, nil) {
			t.Errorf("%s: nothing is the same as something", k.name)
		}
	}
	if !Same(List{Entries: []addr.Octets{}}, List{}) ||
		!Same(Scope{DrainUntil: time.Unix(1e9, 0)}, Scope{DrainUntil: time.Unix(1e9, 0).UTC()}) || Same(List{}, Link{}) {
		t.Error("no entries and none, or one moment in two places, are not the same; or a list is a link")
	}
}
