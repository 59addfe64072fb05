// Package planfile reads and writes plan files: a plan, or a part of one, as YAML that people write,
// keep under version control and review. What an item may say follows from the edits of the API
// (edit.FormOf), so that a field is described once. docs/planfile.md says how to write one.
package planfile

import (
	"cmp"
	"errors"
	"fmt"
	"reflect"
	"slices"
	"strconv"
	"strings"
	"time"

	"go.yaml.in/yaml/v4"

	"yarnpost/api"
	"yarnpost/core/plan"
	"yarnpost/edit"
)

// Version is the version of the format, which a file names.
const Version = 1

// What a file can cover.
const (
	Whole = "whole" // what it does not have is removed
	Part  = "part"  // what it does not have stays
)

// Most bounds a file, in octets.
const Most = 16 << 20

// The keys of a file besides the sections of its items.
const (
	keyVersion  = "plan-file"
	keyCovers   = "covers"
	keyRevision = "revision"
	keyShared   = "shared"
	keyLike     = "like"
)

// File is a plan file that was read.
type File struct {
	Covers   string
	Revision int64 // of the plan that it was made from; 0 if it does not say
	Edits    []api.Edit
	marks    []map[string]mark // where the fields of each edit stand; "" is the edit itself
}

// Fault is what is wrong with a file, and where.
type Fault struct {
	Line, Column int // from 1; 0 for the file as a whole
	Text         string
}

func (f Fault) String() string {
	if f.Line == 0 {
		return f.Text
	}
	return fmt.Sprintf("line %d, column %d: %s", f.Line, f.Column, f.Text)
}

type mark struct{ line, column int }

// sections are in the order in which a file has them: what holds for others comes first.
var sections = []plan.Kind{plan.KindField, plan.KindDefaults, plan.KindCodebook, plan.KindList, plan.KindSupernet, plan.KindLink,
	plan.KindScope,
	plan.KindRule, plan.KindReservation, plan.KindTrial}

// section is where the items of a kind stand in a file.
func section(k plan.Kind) string {
	if k == plan.KindDefaults {
		return string(k)
	}
	return string(k) + "s"
}

// kindOf is the kind of items of a section.
func kindOf(key string) (plan.Kind, bool) {
	for _, k := range plan.Kinds() {
		if section(k) == key {
			return k, true
		}
	}
	return "", false
}

// Read reads a file. It says all that is wrong with it, as far as that can be seen from the file
// alone; then there is no file.
func Read(text []byte) (*File, []Fault) {
	r := &reader{file: &File{Covers: Part}, shared: map[string]*yaml.Node{}}
	if len(text) > Most {
		r.fail(nil, "the file takes %d octets; %d is the most", len(text), Most)
		return nil, r.faults
	}
	root, fault := parse(text)
	if fault != nil {
		return nil, []Fault{*fault}
	}
	if r.read(root); len(r.faults) > 0 {
		slices.SortStableFunc(r.faults, func(a, b Fault) int { return cmp.Or(a.Line-b.Line, a.Column-b.Column) })
		return nil, r.faults
	}
	return r.file, nil
}

// parse gives the mapping that a text is, for an empty one none.
func parse(text []byte) (*yaml.Node, *Fault) {
	if !slices.ContainsFunc(strings.Split(string(text), "\n"), func(l string) bool {
		l = strings.TrimSpace(l)
		return l != "" && !strings.HasPrefix(l, "#")
	}) {
		return nil, &Fault{Text: "the file is empty; it begins with " + keyVersion + ": " + strconv.Itoa(Version)}
	}
	var doc yaml.Node
	err := yaml.Load(text, &doc, yaml.WithUniqueKeys(false))
	var bad *yaml.LoadError
	switch {
	case errors.As(err, &bad):
		return nil, &Fault{bad.Mark.Line, max(bad.Mark.Column, 1), "this is no YAML: " + bad.Message}
	case err != nil:
		return nil, &Fault{Text: "this is no YAML: " + strings.TrimPrefix(err.Error(), "yaml: ")}
	case len(doc.Content) != 1 || doc.Content[0].Kind != yaml.MappingNode:
		return nil, &Fault{Line: 1, Column: 1, Text: "a plan file has keys such as " + keyVersion + ": and scopes:"}
	}
	return doc.Content[0], nil
}

// reader reads one file.
type reader struct {
	file   *File
	shared map[string]*yaml.Node
	faults []Fault
}

// fail notes a fault at a node; nil is the file as a whole.
func (r *reader) fail(at *yaml.Node, format string, args ...any) {
	f := Fault{Text: fmt.Sprintf(format, args...)}
	if at != nil {
		f.Line, f.Column = at.Line, at.Column
	}
	r.faults = append(r.faults, f)
}

// read reads the whole: shared settings first, wherever they stand.
func (r *reader) read(root *yaml.Node) {
	if !r.plain(root) {
		return
	}
	sections := r.pairs(root, false)
	version := false
	for _, s := range sections {
		switch s.name {
		case keyVersion:
			version = true
			if s.value.Value != strconv.Itoa(Version) {
				r.fail(s.value, "%s: %s is not the version of the format that is read here, which is %d", keyVersion, shown(s.value),
					Version)
			}
		case keyCovers:
			if r.file.Covers = s.value.Value; r.file.Covers != Whole && r.file.Covers != Part {
				r.fail(s.value, "covers: %s is neither whole (what the file does not have is removed) nor part (it stays)", shown(s.value))
			}
		case keyRevision:
			n, err := strconv.ParseInt(s.value.Value, 10, 64)
			if r.file.Revision = n; err != nil || n < 0 {
				r.fail(s.value, "revision: %s is not the number of a revision", shown(s.value))
			}
		case keyShared:
			for _, e := range r.pairs(s.value, true) {
				r.share(e)
			}
		}
	}
	if !version {
		r.fail(nil, "the file does not say %s: %d, the version of the format that it is written in", keyVersion, Version)
	}
	for _, s := range sections {
		switch s.name {
		case keyVersion, keyCovers, keyRevision, keyShared:
			continue
		}
		k, known := kindOf(s.name)
		switch {
		case !known:
			r.fail(s.key, "there is no section %q; %s", s.name, nearest(s.name, sectionNames()))
		case k == plan.KindDefaults:
			r.entry(k, pair{name: "", key: s.key, value: s.value})
		default:
			for _, e := range r.pairs(s.value, true) {
				r.entry(k, e)
			}
		}
	}
}

func sectionNames() (out []string) {
	for _, k := range sections {
		out = append(out, section(k))
	}
	return append(out, keyShared, keyVersion, keyCovers, keyRevision)
}

// plain refuses what files do without: what stands elsewhere and is only pointed at, and tags.
func (r *reader) plain(n *yaml.Node) bool {
	switch {
	case n.Kind == yaml.AliasNode || n.Anchor != "":
		r.fail(n, "anchors and aliases are not for plan files; put what entries have in common under %s:, and name it with %s:", keyShared,
			keyLike)
		return false
	case n.Style&yaml.TaggedStyle != 0:
		r.fail(n, "the tag %s is not for plan files; leave it out", n.Tag)
		return false
	}
	for _, c := range n.Content {
		if !r.plain(c) {
			return false
		}
	}
	return true
}

// pair is a key with what belongs to it.
type pair struct {
	name       string
	key, value *yaml.Node
}

// pairs are the pairs of a mapping, each key once; names of items are the same whatever their case.
func (r *reader) pairs(n *yaml.Node, names bool) (out []pair) {
	if n.Kind == yaml.ScalarNode && n.Tag == "!!null" {
		return nil // a section of which all entries are commented out
	}
	if n.Kind != yaml.MappingNode {
		r.fail(n, "here belong keys with values, and not %s", shown(n))
		return nil
	}
	seen := make(map[string]*yaml.Node, len(n.Content)/2)
	for i := 0; i+1 < len(n.Content); i += 2 {
		k := n.Content[i]
		if k.Kind != yaml.ScalarNode {
			r.fail(k, "a key is one word")
			continue
		}
		name := k.Value
		if names {
			name = strings.ToLower(name)
		}
		if first := seen[name]; first != nil {
			r.fail(k, "%s stands here a second time; the first is in line %d", k.Value, first.Line)
			continue
		}
		seen[name] = k
		out = append(out, pair{k.Value, k, n.Content[i+1]})
	}
	return out
}

// share takes in settings that entries have in common.
func (r *reader) share(e pair) {
	for _, f := range r.pairs(e.value, false) {
		known := false
		var all []string
		for _, k := range plan.Kinds() {
			form := edit.FormOf(k)
			known = known || form.Field(f.name) != nil
			for _, field := range form.Fields {
				all = append(all, field.Key)
			}
		}
		if !known {
			r.fail(f.key, "no kind of item has a key %q; %s", f.name, nearest(f.name, all))
		}
	}
	r.shared[e.name] = e.value
}

// entry reads one item.
func (r *reader) entry(k plan.Kind, e pair) {
	form := edit.FormOf(k)
	made, body := form.Start(e.name)
	marks := map[string]mark{"": {e.key.Line, e.key.Column}}
	fields := r.pairs(e.value, false)
	for _, f := range r.liked(form, fields) {
		r.field(form, body, marks, f)
	}
	for _, f := range fields {
		if f.name != keyLike {
			r.field(form, body, marks, f)
		}
	}
	r.file.Edits = append(r.file.Edits, made)
	r.file.marks = append(r.file.marks, marks)
}

// liked are the fields that an entry has in common with others.
func (r *reader) liked(form *edit.Form, fields []pair) (out []pair) {
	for _, f := range fields {
		if f.name != keyLike {
			continue
		}
		for _, n := range scalars(f.value) {
			set := r.shared[n.Value]
			if set == nil {
				r.fail(n, "nothing is shared as %q; put it under %s:", n.Value, keyShared)
				continue
			}
			for i := 0; i+1 < len(set.Content); i += 2 {
				if p := (pair{set.Content[i].Value, set.Content[i], set.Content[i+1]}); form.Field(p.name) != nil {
					out = append(out, p)
				}
			}
		}
	}
	return out
}

// field reads one field into the body of an edit. Options come beside those that are there; whatever
// else is there already is replaced.
func (r *reader) field(form *edit.Form, body reflect.Value, marks map[string]mark, f pair) {
	field := form.Field(f.name)
	if field == nil {
		var all []string
		for _, other := range form.Fields {
			all = append(all, other.Key)
		}
		what := "a " + string(form.Kind)
		if form.Kind == plan.KindDefaults {
			what = "the defaults"
		}
		r.fail(f.key, "there is no key %q for %s; %s", f.name, what, nearest(f.name, append(all, keyLike)))
		return
	}
	marks[field.JSON] = mark{f.value.Line, f.value.Column}
	r.set(field, field.In(body), f.value, func(part string, n *yaml.Node) {
		marks[field.JSON+"/"+part] = mark{n.Line, n.Column}
	})
}

// set reads a value.
func (r *reader) set(field *edit.Field, to reflect.Value, n *yaml.Node, part func(string, *yaml.Node)) {
	if n.Kind == yaml.ScalarNode && n.Tag == "!!null" {
		r.fail(n, "%s has no value; write one, or leave the key out", field.Key)
		return
	}
	for to.Kind() == reflect.Pointer {
		if to.IsNil() {
			to.Set(reflect.New(to.Type().Elem()))
		}
		to = to.Elem()
	}
	switch field.Type {
	case edit.Texts:
		list := []string{}
		for _, s := range r.list(field, n) {
			list = append(list, r.text(field, s))
		}
		to.Set(reflect.ValueOf(list))
	case edit.Values:
		if to.IsNil() {
			to.Set(reflect.ValueOf(map[string]string{}))
		}
		for _, v := range r.pairs(n, false) {
			part(v.name, v.value)
			r.value(field, to, v)
		}
	case edit.Records:
		r.records(field, to, n)
	default:
		r.scalar(field, to, n)
	}
}

// value reads one value of many by name.
func (r *reader) value(field *edit.Field, to reflect.Value, v pair) {
	if v.value.Kind == yaml.ScalarNode && v.value.Value == "" {
		r.fail(v.value, "%s: %s has no value; write one, leave the key out to inherit, or write none to have none", field.Key, v.name)
		return
	}
	var parts []string
	for _, s := range r.list(field, v.value) {
		text := r.text(field, s)
		if v.value.Kind == yaml.SequenceNode && strings.Contains(text, ",") {
			r.fail(s, "%s: write the values of %s in one text, since one of them has a comma", field.Key, v.name)
		}
		parts = append(parts, text)
	}
	to.SetMapIndex(reflect.ValueOf(v.name), reflect.ValueOf(strings.Join(parts, ",")))
}

func (r *reader) records(field *edit.Field, to reflect.Value, n *yaml.Node) {
	if n.Kind != yaml.SequenceNode {
		r.fail(n, "%s is a list, each entry such as - {%s: …}", field.Key, field.Of[0].Key)
		return
	}
	list := reflect.MakeSlice(to.Type(), 0, len(n.Content))
	for _, c := range n.Content {
		one := reflect.New(to.Type().Elem()).Elem()
		if c.Kind == yaml.ScalarNode && c.Tag != "!!null" { // what is not more than its first field
			r.set(&field.Of[0], field.Of[0].In(one), c, nil)
			list = reflect.Append(list, one)
			continue
		}
		for _, f := range r.pairs(c, false) {
			i := slices.IndexFunc(field.Of, func(o edit.Field) bool { return o.Key == f.name })
			if i < 0 {
				var all []string
				for _, o := range field.Of {
					all = append(all, o.Key)
				}
				r.fail(f.key, "%s have no key %q; %s", field.Key, f.name, nearest(f.name, all))
				continue
			}
			r.set(&field.Of[i], field.Of[i].In(one), f.value, nil)
		}
		list = reflect.Append(list, one)
	}
	to.Set(list)
}

// list is a list of scalars, or one by itself.
func (r *reader) list(field *edit.Field, n *yaml.Node) []*yaml.Node {
	out := scalars(n)
	if out == nil && n.Kind != yaml.SequenceNode {
		r.fail(n, "%s takes a text, or a list of texts", field.Key)
	}
	if n.Kind == yaml.SequenceNode && len(out) != len(n.Content) {
		r.fail(n, "%s takes a list of texts, and nothing deeper", field.Key)
	}
	return out
}

// scalars are the scalars of a list, or one by itself.
func scalars(n *yaml.Node) (out []*yaml.Node) {
	if n.Kind == yaml.ScalarNode {
		return []*yaml.Node{n}
	}
	if n.Kind == yaml.SequenceNode {
		for _, c := range n.Content {
			if c.Kind == yaml.ScalarNode {
				out = append(out, c)
			}
		}
	}
	return out
}

// text is a text that may stand in a plan.
func (r *reader) text(field *edit.Field, n *yaml.Node) string {
	if err := edit.CheckText(field.Key, n.Value); err != nil {
		r.fail(n, "%v", err)
	}
	return n.Value
}

func (r *reader) scalar(field *edit.Field, to reflect.Value, n *yaml.Node) {
	if n.Kind != yaml.ScalarNode {
		r.fail(n, "%s takes one value, and not %s", field.Key, shown(n))
		return
	}
	switch field.Type {
	case edit.YesNo:
		if n.Value != "true" && n.Value != "false" {
			r.fail(n, "%s is true or false, and not %s", field.Key, shown(n))
			return
		}
		to.SetBool(n.Value == "true")
	case edit.Moment:
		t, err := time.Parse(time.RFC3339, n.Value)
		if err != nil {
			r.fail(n, "%s: %s is not a time like 2026-12-24T18:00:00Z", field.Key, shown(n))
			return
		}
		to.Set(reflect.ValueOf(t))
	case edit.Number:
		r.number(field, to, n)
	default:
		text := r.text(field, n)
		if len(field.Enum) > 0 && !slices.Contains(field.Enum, text) {
			r.fail(n, "%s: %s is none of %s", field.Key, shown(n), strings.Join(field.Enum, ", "))
			return
		}
		to.SetString(text)
	}
}

func (r *reader) number(field *edit.Field, to reflect.Value, n *yaml.Node) {
	number, err := strconv.ParseInt(n.Value, 10, 64)
	switch {
	case field.Word != "" && n.Value == field.Word:
		number = -1
	case err != nil && field.Word != "":
		r.fail(n, "%s is a number or %s, and not %s", field.Key, field.Word, shown(n))
		return
	case err != nil:
		r.fail(n, "%s is a number, and not %s", field.Key, shown(n))
		return
	}
	if to.CanUint() {
		if number < 0 || to.OverflowUint(uint64(number)) {
			r.fail(n, "%s: %s is out of range", field.Key, shown(n))
			return
		}
		to.SetUint(uint64(number))
		return
	}
	if to.OverflowInt(number) {
		r.fail(n, "%s: %s is out of range", field.Key, shown(n))
		return
	}
	to.SetInt(number)
}

// shown is a node as a message shows it.
func shown(n *yaml.Node) string {
	switch n.Kind {
	case yaml.MappingNode:
		return "keys with values"
	case yaml.SequenceNode:
		return "a list"
	}
	text := edit.Clean(n.Value)
	if len(text) > 40 {
		text = text[:40] + "…"
	}
	return strconv.Quote(text)
}

// Place says where in the file the faults of its edits are.
func (f *File) Place(faults []edit.Fault) (out []Fault) {
	for _, e := range faults {
		at := Fault{Text: strings.TrimPrefix(e.Err.Error(), plan.ErrRefused.Error()+": ")}
		if e.Index >= 0 {
			marks := f.marks[e.Index]
			m := marks[""]
			var field *edit.FieldError
			if errors.As(e.Err, &field) {
				m = cmp.Or(marks[field.Field+"/"+field.Part], marks[field.Field], m)
			}
			at.Line, at.Column = m.line, m.column
		}
		out = append(out, at)
	}
	slices.SortStableFunc(out, func(a, b Fault) int { return cmp.Or(a.Line-b.Line, a.Column-b.Column) })
	return out
}

// nearest says which word may have been meant, or which there are.
func nearest(word string, words []string) string {
	best, least := "", 3
	for _, w := range words {
		if d := distance(strings.ToLower(word), w); d < least && d < len(w) {
			best, least = w, d
		}
	}
	if best != "" {
		return fmt.Sprintf("is %q meant?", best)
	}
	words = slices.Compact(slices.Sorted(slices.Values(words)))
	return "there are " + strings.Join(words, ", ")
}

// distance is the Levenshtein distance of two words.
func distance(a, b string) int {
	row := make([]int, len(b)+1)
	for j := range row {
		row[j] = j
	}
	for i := range len(a) {
		diagonal := row[0]
		row[0] = i + 1
		for j := range len(b) {
			cost := diagonal
			if a[i] != b[j] {
				cost++
			}
			diagonal = row[j+1]
			row[j+1] = min(cost, row[j+1]+1, row[j]+1)
		}
	}
	return row[len(b)]
}
