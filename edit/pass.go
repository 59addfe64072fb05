package edit

import (
	"fmt"
	"maps"
	"slices"

	"yarnpost/core/option"
	"yarnpost/core/plan"
)

// pass carries fields between an edit and an item: into the item what the edit sets; or, on its way
// out, into an edit what the item has set.
type pass struct {
	around Around
	draft  *plan.Draft
	plan   *plan.Plan // the draft's, or on the way out the item's
	out    bool
	all    bool // on the way out: what is not set is said, too
	op     string
	twin   plan.Item // what is there already of what is added or put; nil for nothing
	errs   []error
}

// fail notes what is wrong with a field.
func (x *pass) fail(field string, err error) {
	if err != nil {
		x.errs = append(x.errs, &FieldError{Field: field, Err: err})
	}
}

// value carries a field as it is.
func value[T comparable](x *pass, item *T, in **T) {
	var zero T
	switch {
	case x.out && (x.all || *item != zero):
		v := *item
		*in = &v
	case !x.out && *in != nil:
		*item = **in
	}
}

// not carries a field that stands the other way round in the item.
func not(x *pass, item *bool, in **bool) {
	v := !*item
	switch {
	case x.out && (x.all || !v):
		*in = &v
	case !x.out && *in != nil:
		*item = !**in
	}
}

// text carries a field of a named text type.
func text[T ~string](x *pass, item *T, in **string) {
	s := string(*item)
	value(x, &s, in)
	*item = T(s)
}

// texts carries a list of texts.
func texts(x *pass, item *[]string, in **[]string) {
	switch {
	case x.out && (x.all || len(*item) > 0):
		v := append([]string{}, *item...)
		*in = &v
	case !x.out && *in != nil:
		*item = **in
	}
}

// parsed carries a field that is written as text; an empty text is none.
func parsed[T interface {
	comparable
	fmt.Stringer
}](x *pass, field string, item *T, in **string, parse func(string) (T, error)) {
	var zero T
	switch {
	case x.out && *item == zero:
		if x.all {
			*in = new(string)
		}
	case x.out:
		v := (*item).String()
		*in = &v
	case !x.out && *in != nil && **in == "":
		*item = zero
	case !x.out && *in != nil:
		v, err := parse(**in)
		if err != nil {
			x.fail(field, plan.Refused("%v", err))
			return
		}
		*item = v
	}
}

// duration carries a span.
func duration(x *pass, field string, item *plan.Duration, in **string) {
	parsed(x, field, item, in, func(text string) (d plan.Duration, err error) {
		if err := d.UnmarshalText([]byte(text)); err != nil {
			return 0, fmt.Errorf("%s: %w", field, err)
		}
		if d == plan.NoLease && field != "lease" {
			return 0, plan.Refused("%s cannot be none; leave it empty", field)
		}
		return d, nil
	})
}

// settings carries lease time and options; an empty value inherits. A host name that
// stands where an address belongs is resolved now.
func settings(x *pass, s *plan.Settings, lease, valid **string, options *map[string]string) {
	if !x.out && *lease != nil && **lease != "" {
		if d, err := option.ParseDuration(**lease); err == nil && d == 0 {
			x.fail("lease", plan.Refused("a lease time of %s is none; give a minute or more, or nothing to inherit it", **lease))
			return
		}
	}
	duration(x, "lease", &s.Lease, lease)
	duration(x, "valid", &s.Valid, valid)
	if x.out {
		for key, text := range s.Options {
			if *options == nil {
				*options = map[string]string{}
			}
			(*options)[x.plan.KeyName(key)] = text
		}
		return
	}
	s.Options = maps.Clone(s.Options)
	for _, name := range slices.Sorted(maps.Keys(*options)) {
		if err := x.option(s, name, (*options)[name]); err != nil {
			x.errs = append(x.errs, &FieldError{Field: "options", Part: name, Err: err})
		}
	}
}

// option sets one option.
func (x *pass) option(s *plan.Settings, name, text string) error {
	key, def, err := x.plan.Key(name)
	if err != nil {
		return plan.Refused("%v", err)
	}
	if text == "" {
		delete(s.Options, key)
		return nil
	}
	if s.Options == nil {
		s.Options = map[option.Key]string{}
	}
	if text != plan.NoValue {
		if text, err = def.Type.Resolve(text, x.around.Resolve); err != nil {
			return plan.Refused("option %s: %v", x.plan.KeyName(key), err)
		}
	}
	s.Options[key] = text
	return nil
}

// ownFields carries the values of fields of one's own; an empty one is none.
func ownFields(x *pass, item *plan.Fields, in *map[string]string) {
	if x.out {
		if len(*item) > 0 {
			*in = maps.Clone(*item)
		}
		return
	}
	*item = maps.Clone(*item)
	for name, value := range *in {
		if f := x.plan.OwnFieldNamed(name); f != nil {
			name = f.Name
		}
		if *item == nil {
			*item = plan.Fields{}
		}
		if (*item)[name] = value; value == "" {
			delete(*item, name)
		}
	}
}

// thresholds carries when to warn.
func thresholds(x *pass, t *plan.Thresholds, used, headroom, days **int) {
	value(x, &t.Used, used)
	value(x, &t.Headroom, headroom)
	value(x, &t.Days, days)
}

// name takes a new name in; on the way out an edit has the name beside its fields.
func name(x *pass, item *string, in *string) {
	if !x.out && in != nil {
		*item = *in
	}
}

// refer carries the id of another item, which the edit names; an empty name is none.
func refer(x *pass, kind plan.Kind, item *plan.ID, in **string) {
	switch {
	case x.out && (x.all || *item != 0):
		v := x.plan.Label(*item)
		*in = &v
	case !x.out && *in != nil:
		if *item = 0; **in == "" {
			return
		}
		if *item = x.plan.ID(kind, **in); *item == 0 {
			x.fail(string(kind), plan.Missing(kind, **in))
		}
	}
}
