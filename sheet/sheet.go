// Package sheet reads and writes sheets: CSV files (RFC 4180) with one scope, reservation, exclusion or
// entry of a list a row, as spreadsheets keep them. What a row may say follows from the edits of the API
// (edit.FormOf), as in plan files.
package sheet

import (
	"bytes"
	"cmp"
	"encoding/csv"
	"errors"
	"fmt"
	"io"
	"maps"
	"reflect"
	"slices"
	"strconv"
	"strings"
	"time"
	"unicode/utf8"

	"golang.org/x/text/encoding/unicode"

	"yarnpost/api"
	"yarnpost/core/addr"
	"yarnpost/core/plan"
	"yarnpost/edit"
)

// Most bounds a sheet, in octets.
const Most = 16 << 20

// Fault is what is wrong with a sheet, and in which line, from 1; 0 is the sheet as a whole.
type Fault struct {
	Line   int
	Column string
	Text   string
}

func (f Fault) String() string {
	switch {
	case f.Line == 0:
		return f.Text
	case f.Column == "":
		return fmt.Sprintf("line %d: %s", f.Line, f.Text)
	}
	return fmt.Sprintf("line %d, column %s: %s", f.Line, f.Column, f.Text)
}

// Sheet is a sheet that was read.
type Sheet struct {
	Edits []api.Edit
	shape shape
	lines []int // of each edit: the line it comes from, or the first of them
}

// prefixOf begins the names of the columns that have the values of a field by name, such as "option router".
func prefixOf(f *edit.Field) string { return strings.TrimSuffix(f.Key, "s") + " " }

// optionColumn is what prefixOf gives for options.
const optionColumn = "option "

// Kinds are what a row of a sheet can be.
func Kinds() []string { return []string{"scope", "reservation", "exclusion", "entry"} }

// shape is how a kind of row becomes edits, and items rows.
type shape struct {
	key  string   // column that a row cannot do without
	keys []string // all columns but those of values by name
	// values are the fields that have columns by name: options, and fields of one's own.
	values []edit.Field
	// read puts a row into the sheet.
	read func(r *reader, row row)
	// rows are all that a plan has.
	rows func(p *plan.Plan) (options []string, rows []row)
	// example is a row for a template.
	example row
}

// row is what a row says, by column.
type row map[string]string

var shapes = map[string]shape{
	"scope": {key: "name", keys: flat(plan.KindScope), values: byName(plan.KindScope), read: readItem(plan.KindScope),
		rows: itemRows(plan.KindScope),
		example: row{"name": "looms", "subnet": "10.77.0.0/24", "pools": "10.77.0.100-10.77.0.200", "mode": "held", "lease": "8h",
			optionColumn + "router": "10.77.0.1"}},
	"reservation": {key: "name", keys: flat(plan.KindReservation), values: byName(plan.KindReservation),
		read: readItem(plan.KindReservation), rows: itemRows(plan.KindReservation),
		example: row{"name": "crane", "address": "10.77.0.17", "hardware": "02:00:00:00:00:17", "hostname": "crane"}},
	"exclusion": {key: "range", keys: []string{"scope", "range", "user"}, read: readExclusion, rows: exclusionRows,
		example: row{"scope": "looms", "range": "10.77.0.120-10.77.0.129", "user": "plotters"}},
	"entry": {key: "entry", keys: []string{"list", "entry"}, read: readEntry, rows: entryRows,
		example: row{"list": "lent-out", "entry": "02:00:00:00:00:17"}},
}

// flat are the fields of a kind that fit into cells; options have columns of their own.
func flat(k plan.Kind) []string {
	out := []string{"name"}
	for _, f := range edit.FormOf(k).Fields {
		if f.Type != edit.Records && f.Type != edit.Values {
			out = append(out, f.Key)
		}
	}
	return out
}

// byName are the fields of a kind that have columns by name.
func byName(k plan.Kind) (out []edit.Field) {
	for _, f := range edit.FormOf(k).Fields {
		if f.Type == edit.Values {
			out = append(out, f)
		}
	}
	return out
}

// Template is a sheet with the columns that a kind can have, and a row that shows how they are filled.
func Template(kind string) ([]byte, error) {
	s, err := shapeOf(kind)
	if err != nil {
		return nil, err
	}
	var options []string
	for name := range s.example {
		if strings.HasPrefix(name, optionColumn) {
			options = append(options, name)
		}
	}
	return write(slices.Concat(s.keys, options), []row{s.example}), nil
}

// Export is all that a plan has of a kind. Columns in which no row has anything are left out.
func Export(p *plan.Plan, kind string) ([]byte, error) {
	s, err := shapeOf(kind)
	if err != nil {
		return nil, err
	}
	options, rows := s.rows(p)
	used := map[string]bool{s.key: true}
	for _, r := range rows {
		for column, cell := range r {
			used[column] = used[column] || cell != ""
		}
	}
	columns := slices.DeleteFunc(slices.Concat(s.keys, options), func(c string) bool { return !used[c] && len(rows) > 0 })
	return write(columns, rows), nil
}

func shapeOf(kind string) (shape, error) {
	s, there := shapes[kind]
	if !there {
		return shape{}, plan.Refused("there is no sheet of %q; there are sheets of %s", kind, strings.Join(Kinds(), ", "))
	}
	return s, nil
}

func write(columns []string, rows []row) []byte {
	var b bytes.Buffer
	w := csv.NewWriter(&b)
	w.UseCRLF = true
	line := func(cell func(column string) string) {
		var cells []string
		for _, c := range columns {
			cells = append(cells, edit.Defuse(cell(c)))
		}
		_ = w.Write(cells) // to memory
	}
	line(func(c string) string { return c })
	for _, r := range rows {
		line(func(c string) string { return r[c] })
	}
	w.Flush()
	return b.Bytes()
}

// itemRows are the items of a kind as rows.
func itemRows(k plan.Kind) func(*plan.Plan) ([]string, []row) {
	return func(p *plan.Plan) (options []string, rows []row) {
		form, seen := edit.FormOf(k), map[string]bool{}
		for _, s := range p.Items() {
			if s.Kind != k {
				continue
			}
			e := edit.Of(p, k, s.Item)
			r, body := row{"name": e.Name}, form.Body(&e)
			for i := range form.Fields {
				f := &form.Fields[i]
				switch v := f.In(body); {
				case v.IsZero() || f.Type == edit.Records:
				case f.Type == edit.Values:
					for name, value := range v.Interface().(map[string]string) {
						r[prefixOf(f)+name], seen[prefixOf(f)+name] = value, true
					}
				default:
					r[f.Key] = cell(f, v)
				}
			}
			rows = append(rows, r)
		}
		return slices.Sorted(maps.Keys(seen)), rows
	}
}

// cell is the value of a field.
func cell(f *edit.Field, v reflect.Value) string {
	for v.Kind() == reflect.Pointer {
		v = v.Elem()
	}
	switch x := v.Interface().(type) {
	case []string:
		return strings.Join(x, ", ")
	case time.Time:
		return x.UTC().Format(time.RFC3339)
	case int:
		if x == -1 && f.Word != "" {
			return f.Word
		}
	}
	return fmt.Sprint(v.Interface())
}

func exclusionRows(p *plan.Plan) (_ []string, rows []row) {
	for _, v := range p.Scopes() {
		for _, e := range v.Exclusions {
			rows = append(rows, row{"scope": v.Name, "range": e.Range.String(), "user": e.User})
		}
	}
	return nil, rows
}

func entryRows(p *plan.Plan) (_ []string, rows []row) {
	for _, l := range p.Lists() {
		for _, e := range l.Entries {
			rows = append(rows, row{"list": l.Name, "entry": e.String()})
		}
	}
	return nil, rows
}

// Read reads a sheet. It says all that is wrong with it, as far as that can be seen from the sheet alone;
// then there is none.
func Read(kind string, text []byte) (*Sheet, []Fault) {
	s, err := shapeOf(kind)
	if err != nil {
		return nil, []Fault{{Text: err.Error()}}
	}
	r := &reader{sheet: &Sheet{shape: s}, shape: s, items: map[string]int{}}
	if len(text) > Most {
		return nil, []Fault{{Text: fmt.Sprintf("the sheet takes %d octets; %d is the most", len(text), Most)}}
	}
	if r.read(text); len(r.faults) > 0 {
		return nil, r.faults
	}
	return r.sheet, nil
}

type reader struct {
	sheet  *Sheet
	shape  shape
	line   int
	items  map[string]int // edits by the name of their item
	faults []Fault
}

func (r *reader) fail(column, format string, args ...any) {
	r.faults = append(r.faults, Fault{r.line, column, fmt.Sprintf(format, args...)})
}

// decoded is a text in UTF-8, whatever a spreadsheet wrote.
func decoded(text []byte) ([]byte, error) {
	if bytes.HasPrefix(text, []byte{0xff, 0xfe}) || bytes.HasPrefix(text, []byte{0xfe, 0xff}) {
		out, err := unicode.UTF16(unicode.LittleEndian, unicode.UseBOM).NewDecoder().Bytes(text)
		if err != nil {
			return nil, fmt.Errorf("the sheet is no UTF-16, as its beginning says: %w", err)
		}
		text = out
	}
	text = bytes.TrimPrefix(text, []byte("\ufeff"))
	if !utf8.Valid(text) {
		return nil, errors.New("the sheet is not in UTF-8; have the spreadsheet save it as CSV in UTF-8")
	}
	return text, nil
}

// separator is what stands between the cells of the first line.
func separator(text []byte) rune {
	first, _, _ := bytes.Cut(text, []byte("\n"))
	best, most := ',', 0
	for _, c := range []rune{',', ';', '\t'} {
		n, quoted := 0, false
		for _, x := range string(first) {
			switch {
			case x == '"':
				quoted = !quoted
			case x == c && !quoted:
				n++
			}
		}
		if n > most {
			best, most = c, n
		}
	}
	return best
}

// Rows gives the cells of a CSV text, a line each with its number from 1, whatever spreadsheet wrote
// it, until each returns false. The fault says why it cannot be read on.
func Rows(text []byte, each func(line int, cells []string) bool) *Fault {
	text, err := decoded(text)
	if err != nil {
		return &Fault{Text: err.Error()}
	}
	c := csv.NewReader(bytes.NewReader(text))
	c.Comma, c.FieldsPerRecord = separator(text), -1
	for {
		cells, err := c.Read()
		var bad *csv.ParseError
		switch {
		case errors.Is(err, io.EOF):
			return nil
		case errors.As(err, &bad):
			return &Fault{Line: bad.Line, Text: fmt.Sprintf("this is no CSV: %v", bad.Err)}
		}
		if line, _ := c.FieldPos(0); !each(line, cells) {
			return nil
		}
	}
}

func (r *reader) read(text []byte) {
	var columns []string
	fault := Rows(text, func(line int, cells []string) bool {
		if r.line = line; columns == nil {
			columns = r.head(cells)
			return columns != nil
		}
		r.row(columns, cells)
		return true
	})
	if fault != nil {
		r.faults = append(r.faults, *fault)
		return
	}
	if columns == nil && len(r.faults) > 0 {
		return
	}
	if columns == nil {
		r.line = 0
		r.fail("", "the sheet is empty; its first line names the columns, such as %s", strings.Join(r.shape.keys[:2], ","))
	}
}

// head reads the names of the columns, or says what is wrong with them.
func (r *reader) head(cells []string) (out []string) {
	before := len(r.faults)
	for _, c := range cells {
		name := strings.ToLower(strings.TrimSpace(edit.Fused(c)))
		switch {
		case name == "":
		case slices.ContainsFunc(r.shape.values, func(f edit.Field) bool { return strings.HasPrefix(name, prefixOf(&f)) }):
		case !slices.Contains(r.shape.keys, name):
			r.fail("", "there is no column %q; there are %s%s", edit.Clean(c), strings.Join(r.shape.keys, ", "), r.orOptions())
		}
		if name != "" && slices.Contains(out, name) {
			r.fail("", "column %s stands here twice", name)
		}
		out = append(out, name)
	}
	if !slices.Contains(out, r.shape.key) {
		r.fail("", "the first line names the columns, and there is none called %s; there can be %s%s", r.shape.key,
			strings.Join(r.shape.keys, ", "), r.orOptions())
	}
	if len(r.faults) > before {
		return nil
	}
	return out
}

func (r *reader) orOptions() string {
	if len(r.shape.values) > 0 {
		return ", and option NAME for each option, field NAME for each field of your own"
	}
	return ""
}

// row reads one row; an empty one says nothing.
func (r *reader) row(columns, cells []string) {
	out, empty := row{}, true
	for i, c := range cells {
		c = strings.TrimSpace(edit.Fused(c))
		empty = empty && c == ""
		if i >= len(columns) || columns[i] == "" {
			if c != "" {
				r.fail("", "there is no name above the cell %q", edit.Clean(c))
			}
			continue
		}
		if err := edit.CheckText(columns[i], c); err != nil {
			r.fail(columns[i], "%v", err)
		}
		out[columns[i]] = c
	}
	switch {
	case empty:
	case out[r.shape.key] == "":
		r.fail(r.shape.key, "is empty")
	default:
		r.shape.read(r, out)
	}
}

// add puts an edit into the sheet.
func (r *reader) add(e api.Edit) *api.Edit {
	r.sheet.Edits, r.sheet.lines = append(r.sheet.Edits, e), append(r.sheet.lines, r.line)
	return &r.sheet.Edits[len(r.sheet.Edits)-1]
}

// readItem reads rows that are items of a kind: a cell that is empty sets nothing.
func readItem(k plan.Kind) func(*reader, row) {
	form := edit.FormOf(k)
	return func(r *reader, row row) {
		name := strings.ToLower(row["name"])
		if i, twice := r.items[name]; twice {
			r.fail("name", "%s stands in line %d already", row["name"], r.sheet.lines[i])
			return
		}
		r.items[name] = len(r.sheet.Edits)
		e, body := form.Start(row["name"])
		e.Op = edit.Set
		for i := range form.Fields {
			f := &form.Fields[i]
			if f.Type == edit.Values {
				r.values(f, f.In(body), row)
			} else if c, there := row[f.Key]; there {
				r.set(f, f.In(body), c)
			}
		}
		r.add(e)
	}
}

// values reads the cells of columns by name.
func (r *reader) values(f *edit.Field, to reflect.Value, row row) {
	values := map[string]string{}
	for column, c := range row {
		if name, is := strings.CutPrefix(column, prefixOf(f)); is {
			values[strings.TrimSpace(name)] = c
		}
	}
	if len(values) > 0 {
		to.Set(reflect.ValueOf(values))
	}
}

// set reads a cell.
func (r *reader) set(f *edit.Field, to reflect.Value, c string) {
	if f.Type == edit.Moment && c == "" {
		return
	}
	if to.Kind() == reflect.Pointer {
		to.Set(reflect.New(to.Type().Elem()))
		to = to.Elem()
	}
	switch f.Type {
	case edit.Texts:
		list := []string{}
		for _, part := range strings.FieldsFunc(c, func(r rune) bool { return strings.ContainsRune(",;\n", r) }) {
			list = append(list, strings.TrimSpace(part))
		}
		to.Set(reflect.ValueOf(list))
	case edit.YesNo:
		switch strings.ToLower(c) {
		case "true", "yes", "1":
			to.SetBool(true)
		case "false", "no", "0", "":
			to.SetBool(f.Key == "probe" && c == "") // what is not said: probed, and the rest off
		default:
			r.fail(f.Key, "is yes or no, and not %q", edit.Clean(c))
		}
	case edit.Number:
		n := int64(0)
		if c == f.Word && c != "" {
			n = -1
		} else if c != "" {
			var err error
			if n, err = strconv.ParseInt(c, 10, 32); err != nil {
				r.fail(f.Key, "is a number, and not %q", edit.Clean(c))
			}
		}
		to.SetInt(n)
	case edit.Moment:
		if t, err := time.Parse(time.RFC3339, c); err == nil {
			to.Set(reflect.ValueOf(t))
		} else {
			r.fail(f.Key, "is a time like 2026-12-24T18:00:00Z, and not %q", edit.Clean(c))
		}
	default:
		if c != "" && len(f.Enum) > 0 && !slices.Contains(f.Enum, c) {
			r.fail(f.Key, "%q is none of %s", edit.Clean(c), strings.Join(f.Enum, ", "))
		}
		to.SetString(c)
	}
}

// of is the edit of an item that several rows are about.
func (r *reader) of(kind plan.Kind, name string) *api.Edit {
	i, there := r.items[strings.ToLower(name)]
	if there {
		return &r.sheet.Edits[i]
	}
	r.items[strings.ToLower(name)] = len(r.sheet.Edits)
	e, _ := edit.FormOf(kind).Start(name)
	return r.add(e)
}

func readExclusion(r *reader, row row) {
	if row["scope"] == "" {
		r.fail("scope", "is empty")
		return
	}
	if _, err := addr.ParseRange(row["range"]); err != nil {
		r.fail("range", "%v", err)
		return
	}
	e := r.of(plan.KindScope, row["scope"])
	e.Op = edit.Edit
	e.Scope.AddExclusions = append(e.Scope.AddExclusions, api.Exclusion{Range: row["range"], User: row["user"]})
}

func readEntry(r *reader, row row) {
	if row["list"] == "" {
		r.fail("list", "is empty")
		return
	}
	var o addr.Octets
	if err := o.UnmarshalText([]byte(row["entry"])); err != nil {
		r.fail("entry", "%v", err)
		return
	}
	e := r.of(plan.KindList, row["list"])
	e.Op = edit.Set
	e.List.Put = append(e.List.Put, row["entry"])
}

// column is the column that a field of an edit comes from.
func (s *Sheet) column(kind, field string) string {
	for _, f := range edit.FormOf(plan.Kind(kind)).Fields {
		if f.JSON == field && slices.Contains(s.shape.keys, f.Key) {
			return f.Key
		}
	}
	return s.shape.key
}

// Place says in which lines the faults of a sheet's edits are.
func (s *Sheet) Place(faults []edit.Fault) (out []Fault) {
	for _, f := range faults {
		at := Fault{Text: strings.TrimPrefix(f.Err.Error(), plan.ErrRefused.Error()+": ")}
		if f.Index >= 0 {
			at.Line = s.lines[f.Index]
		}
		var field *edit.FieldError
		if errors.As(f.Err, &field) {
			at.Column = cmp.Or(field.Part, s.column(s.Edits[f.Index].Kind, field.Field))
		}
		out = append(out, at)
	}
	slices.SortStableFunc(out, func(a, b Fault) int { return a.Line - b.Line })
	return out
}
