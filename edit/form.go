package edit

import (
	"fmt"
	"reflect"
	"strings"
	"time"
	"unicode"

	"yarnpost/api"
	"yarnpost/core/plan"
)

// Form is what a kind of item looks like where edits are written by hand: in plan files and sheets.
type Form struct {
	Kind   plan.Kind
	Fields []Field
	index  []int // of the kind's field in api.Edit
}

// Field is one field of a form.
type Field struct {
	Key  string   // as it is written, such as lease or warn-used
	JSON string   // as the API writes it
	Doc  string   // what it means
	Enum []string // what it can be, or nil
	Word string   // what is written for -1, or ""
	Type Type
	Of   []Field // what each of a list of records has

	index []int
}

// Type is how the value of a field is written.
type Type string

// The types of fields.
const (
	Text    Type = "text"
	Number  Type = "number"
	YesNo   Type = "true or false"
	Moment  Type = "time"
	Texts   Type = "texts"
	Values  Type = "values by name"
	Records Type = "records"
)

// forms are by kind.
var forms = func() map[plan.Kind]*Form {
	out := map[plan.Kind]*Form{}
	of := reflect.TypeFor[api.Edit]()
	for _, k := range plan.Kinds() {
		for i := range of.NumField() {
			if f := of.Field(i); f.Type.Kind() == reflect.Pointer && jsonName(f) == string(k) {
				out[k] = &Form{Kind: k, Fields: fieldsOf(f.Type.Elem()), index: f.Index}
			}
		}
	}
	return out
}()

// FormOf is the form of a kind.
func FormOf(k plan.Kind) *Form { return forms[k] }

// Field is the field with a key, or nil.
func (f *Form) Field(key string) *Field { return fieldIn(f.Fields, key) }

func fieldIn(fields []Field, key string) *Field {
	for i := range fields {
		if fields[i].Key == key {
			return &fields[i]
		}
	}
	return nil
}

// Start begins an edit that puts an item, and gives where its fields go.
func (f *Form) Start(name string) (api.Edit, reflect.Value) {
	e := api.Edit{Op: Put, Kind: string(f.Kind), Name: name}
	v := reflect.ValueOf(&e).Elem().FieldByIndex(f.index)
	v.Set(reflect.New(v.Type().Elem()))
	return e, v.Elem()
}

// Body is where the fields of an edit are; the zero value for an edit without any.
func (f *Form) Body(e *api.Edit) reflect.Value {
	if v := reflect.ValueOf(e).Elem().FieldByIndex(f.index); !v.IsNil() {
		return v.Elem()
	}
	return reflect.Value{}
}

// In is the field within the body of an edit, or within a record.
func (f *Field) In(body reflect.Value) reflect.Value { return body.FieldByIndex(f.index) }

func fieldsOf(t reflect.Type) (out []Field) {
	for i := range t.NumField() {
		f := t.Field(i)
		if f.Tag.Get("file") == "-" {
			continue
		}
		field := Field{Key: kebab(jsonName(f)), JSON: jsonName(f), Doc: f.Tag.Get("doc"), Word: f.Tag.Get("word"), index: f.Index}
		if file := f.Tag.Get("file"); file != "" {
			field.Doc = file
		}
		for _, one := range strings.Split(f.Tag.Get("enum"), ",") {
			if one != "" {
				field.Enum = append(field.Enum, one)
			}
		}
		field.Type, field.Of = typeOf(f.Type)
		out = append(out, field)
	}
	return out
}

func typeOf(t reflect.Type) (Type, []Field) {
	for t.Kind() == reflect.Pointer {
		t = t.Elem()
	}
	switch {
	case t == reflect.TypeFor[time.Time]():
		return Moment, nil
	case t.Kind() == reflect.String:
		return Text, nil
	case t.Kind() == reflect.Bool:
		return YesNo, nil
	case t.Kind() == reflect.Map:
		return Values, nil
	case t.Kind() == reflect.Slice && t.Elem().Kind() == reflect.Struct:
		return Records, fieldsOf(t.Elem())
	case t.Kind() == reflect.Slice:
		return Texts, nil
	case t.ConvertibleTo(reflect.TypeFor[int]()):
		return Number, nil
	}
	panic(fmt.Sprintf("a field of an edit is a %s, which nobody can write by hand", t))
}

func jsonName(f reflect.StructField) string {
	name, _, _ := strings.Cut(f.Tag.Get("json"), ",")
	return name
}

// kebab writes offerDelay as offer-delay.
func kebab(name string) string {
	var b strings.Builder
	for _, r := range name {
		if unicode.IsUpper(r) {
			b.WriteByte('-')
		}
		b.WriteRune(unicode.ToLower(r))
	}
	return b.String()
}
