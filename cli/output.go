package cli

import (
	"encoding/csv"
	"encoding/json"
	"fmt"
	"io"
	"os"
	"reflect"
	"slices"
	"strconv"
	"strings"
	"time"
	"unicode"
	"unicode/utf8"

	"golang.org/x/term"

	"yarnpost/api"
	"yarnpost/edit"
)

// table is rows of text with an optional head.
type table struct {
	head  []string
	rows  [][]string
	spare []string // columns that go first, in this order, where there is no room
	folds []string // columns that are folded where there is no room, before others are cut
}

func newTable(head ...string) *table { return &table{head: head} }

func (t *table) row(cells ...string) { t.rows = append(t.rows, cells) }

// known adds rows of a name and a value, but for those without a value.
func (t *table) known(rows [][2]string) {
	for _, r := range rows {
		if r[1] != "" {
			t.row(r[0], r[1])
		}
	}
}

// without names columns that may be left out, the first one first; one of them that
// is empty from top to bottom always is.
func (t *table) without(spare ...string) *table { t.spare = spare; return t }

// folding names columns of sentences, which are folded and never cut.
func (t *table) folding(columns ...string) *table { t.folds = columns; return t }

// Widths of tables, in characters.
const (
	foldLeast  = 22  // a column that is named for it is folded to no less
	usualWidth = 100 // where nothing tells how wide the terminal is
	gap        = 2   // between columns
	cellLeast  = 8   // a cell is not cut below that
	wrapsMost  = 4   // tables of so many columns fold their last one instead of cutting it
)

// widthOf is how wide what is printed may be: 0 for any width.
func widthOf(out io.Writer) int {
	if n, err := strconv.Atoi(os.Getenv("COLUMNS")); err == nil && n > 0 {
		return max(n, 40)
	}
	if f, ok := out.(*os.File); ok {
		if n, _, err := term.GetSize(int(f.Fd())); err == nil && n > 0 {
			return max(n, 40)
		}
	}
	return usualWidth
}

// harmless takes out of a text what would do something to a terminal instead of
// being shown.
func harmless(text string) string {
	odd := func(r rune) bool {
		return r == utf8.RuneError || unicode.IsControl(r) || unicode.Is(unicode.Cf, r) || r == '\u2028' || r == '\u2029'
	}
	if !strings.ContainsFunc(text, odd) {
		return text
	}
	return strings.Map(func(r rune) rune {
		switch {
		case r == '\n' || r == '\t':
			return ' '
		case odd(r):
			return '?'
		}
		return r
	}, text)
}

// write prints the table aligned, within a width (0: any). It says what was left
// out and whether cells were cut.
func (t *table) write(w io.Writer, width int) (left []string, cut bool) {
	lines := make([][]string, 0, len(t.rows)+1)
	if len(t.head) > 0 {
		lines = append(lines, t.head)
	}
	for _, r := range t.rows {
		cells := make([]string, len(r))
		for i, c := range r {
			cells[i] = harmless(c)
		}
		lines = append(lines, cells)
	}
	widths := measure(lines)
	shown := make([]int, len(widths))
	for i := range shown {
		shown[i] = i
	}
	total := func() (n int) {
		for _, i := range shown {
			n += widths[i] + gap
		}
		return n - gap
	}
	shown = slices.DeleteFunc(shown, func(i int) bool { return t.blank(i) && slices.Contains(t.spare, t.head[i]) })
	folds := make([]bool, len(widths))
	all := len(widths) <= wrapsMost
	for i := range folds {
		folds[i] = all || i < len(t.head) && slices.Contains(t.folds, t.head[i])
	}
	if width > 0 && !all {
		for _, name := range t.spare {
			i := slices.Index(t.head, name)
			if at := slices.Index(shown, i); at >= 0 && total() > width {
				shown, left = slices.Delete(shown, at, at+1), append(left, name)
			}
		}
	}
	for width > 0 && total() > width {
		widest, cuts := -1, true
		for _, i := range shown { // sentences first, since nothing of them is lost
			if !all && folds[i] && widths[i] > foldLeast && (widest < 0 || widths[i] > widths[widest]) {
				widest, cuts = i, false
			}
		}
		for _, i := range shown {
			if cuts && (widest < 0 || widths[i] > widths[widest]) && widths[i] > cellLeast && !t.solid(i) {
				widest = i
			}
		}
		if widest < 0 {
			break
		}
		widths[widest]--
		cut = cut || !folds[widest]
	}
	for _, line := range lines {
		writeLine(w, line, shown, widths, folds)
	}
	return left, cut
}

// blank reports whether all cells of a column are empty.
func (t *table) blank(column int) bool {
	return len(t.rows) > 0 && !slices.ContainsFunc(t.rows, func(r []string) bool { return column < len(r) && r[column] != "" })
}

// solid reports whether a column is of addresses and numbers, which are never
// cut or folded.
func (t *table) solid(column int) bool {
	for _, r := range t.rows {
		if column < len(r) && strings.Trim(r[column], "0123456789abcdef.:/-×%") != "" {
			return false
		}
	}
	return len(t.rows) > 0
}

func measure(lines [][]string) (widths []int) {
	for _, line := range lines {
		for i, c := range line {
			if i == len(widths) {
				widths = append(widths, 0)
			}
			widths[i] = max(widths[i], utf8.RuneCountInString(c))
		}
	}
	return widths
}

// writeLine prints a row: cells that do not fit are folded below themselves, or
// cut.
func writeLine(w io.Writer, line []string, shown, widths []int, folds []bool) {
	height := 1
	parts := make([][]string, len(shown))
	for n, i := range shown {
		cell := ""
		if i < len(line) {
			cell = line[i]
		}
		if parts[n] = []string{clip(cell, widths[i])}; folds[i] {
			parts[n] = fold(cell, widths[i])
			height = max(height, len(parts[n]))
		}
	}
	for row := range height {
		var b strings.Builder
		for n, i := range shown {
			part := ""
			if row < len(parts[n]) {
				part = parts[n][row]
			}
			b.WriteString(part)
			if n < len(shown)-1 {
				b.WriteString(strings.Repeat(" ", max(widths[i]-utf8.RuneCountInString(part), 0)+gap))
			}
		}
		io.WriteString(w, strings.TrimRight(b.String(), " ")+"\n")
	}
}

// clip cuts a text to a number of characters, and shows that it was cut.
func clip(text string, most int) string {
	if utf8.RuneCountInString(text) <= most {
		return text
	}
	return string([]rune(text)[:max(most-1, 0)]) + "…"
}

// fold breaks a text at blanks into lines of a number of characters; a longer
// word stays whole.
func fold(text string, most int) []string {
	var out []string
	for utf8.RuneCountInString(text) > most {
		runes := []rune(text)
		at := most
		for at > 0 && runes[at] != ' ' {
			at--
		}
		if at == 0 { // one long word
			for at = most; at < len(runes) && runes[at] != ' '; {
				at++
			}
		}
		out = append(out, strings.TrimRight(string(runes[:at]), " "))
		text = strings.TrimLeft(string(runes[at:]), " ")
	}
	if text != "" || len(out) == 0 {
		out = append(out, text)
	}
	return out
}

// print prints a table for people, and says what is not shown of it.
func (k *call) print(t *table) {
	width := widthOf(k.out)
	if k.wide {
		width = 0
	}
	left, cut := t.write(k.out, width)
	switch {
	case len(left) > 0:
		fmt.Fprintf(k.err, "Left out to fit %d columns: %s. --wide shows them.\n", width, strings.Join(left, ", "))
	case cut:
		fmt.Fprintf(k.err, "Some cells are cut (…) to fit %d columns; --wide shows them whole.\n", width)
	}
}

// csv prints the table as RFC 4180.
func (t *table) csv(w io.Writer) error {
	head := make([]string, len(t.head))
	for i, h := range t.head {
		head[i] = strings.ReplaceAll(strings.ToLower(h), " ", "_")
	}
	return writeCSV(w, head, t.rows)
}

// writeCSV prints RFC 4180. Cells that a spreadsheet would run as a formula get
// a leading apostrophe.
func writeCSV(w io.Writer, head []string, rows [][]string) error {
	cw := csv.NewWriter(w)
	cw.UseCRLF = true
	_ = cw.Write(head) // the writer keeps its first error
	for _, r := range rows {
		cells := make([]string, len(head))
		copy(cells, r)
		for i, c := range cells {
			cells[i] = edit.Defuse(c)
		}
		_ = cw.Write(cells)
	}
	cw.Flush()
	return cw.Error()
}

// csvOf prints all that a list of items has, one item a row; one item alone is a list
// of one.
func csvOf(w io.Writer, v any) error {
	list := reflect.ValueOf(v)
	if list.Kind() == reflect.Struct {
		list = reflect.Append(reflect.MakeSlice(reflect.SliceOf(list.Type()), 0, 1), list)
	}
	head := columns(list.Type().Elem(), "")
	var rows [][]string
	for i := range list.Len() {
		rows = append(rows, cells(list.Index(i)))
	}
	return writeCSV(w, head, rows)
}

// isList reports whether a value is a list of items.
func isList(v any) bool {
	t := reflect.TypeOf(v)
	return t != nil && t.Kind() == reflect.Slice && t.Elem().Kind() == reflect.Struct
}

// nested reports whether an item's field is spread over columns of its own.
func nested(t reflect.Type) bool {
	return t.Kind() == reflect.Struct && t != reflect.TypeFor[time.Time]()
}

func columns(t reflect.Type, prefix string) (out []string) {
	for i := range t.NumField() {
		f := t.Field(i)
		name, _, _ := strings.Cut(f.Tag.Get("json"), ",")
		if nested(f.Type) {
			out = append(out, columns(f.Type, prefix+name+"_")...)
		} else {
			out = append(out, prefix+name)
		}
	}
	return out
}

func cells(v reflect.Value) (out []string) {
	for i := range v.NumField() {
		if f := v.Field(i); nested(f.Type()) {
			out = append(out, cells(f)...)
		} else {
			out = append(out, cellText(f.Interface()))
		}
	}
	return out
}

// cellText writes one field for programs.
func cellText(v any) string {
	switch v := v.(type) {
	case time.Time:
		if v.IsZero() {
			return ""
		}
		return v.UTC().Format(time.RFC3339Nano)
	case *time.Time:
		if v == nil {
			return ""
		}
		return cellText(*v)
	case []string:
		return strings.Join(v, "; ")
	case []api.Setting:
		var parts []string
		for _, s := range v {
			parts = append(parts, s.Name+"="+s.Value)
		}
		return strings.Join(parts, "; ")
	case []api.Exclusion:
		var parts []string
		for _, x := range v {
			parts = append(parts, strings.TrimSpace(x.Range+" "+x.User))
		}
		return strings.Join(parts, "; ")
	}
	switch r := reflect.ValueOf(v); r.Kind() {
	case reflect.String, reflect.Bool, reflect.Int, reflect.Int64, reflect.Uint8, reflect.Uint32, reflect.Uint64, reflect.Float64:
		return fmt.Sprint(v)
	case reflect.Pointer:
		if r.IsNil() {
			return ""
		}
	}
	b, _ := json.Marshal(v)
	return string(b)
}

// most says that a list goes on where it was cut, if it may.
func (k *call) most(shown, limit int) {
	if limit > 0 && shown >= limit {
		fmt.Fprintf(k.err, "These are the latest %d; --limit shows more.\n", shown)
	}
}

// show prints a result as asked for: JSON of the value itself, CSV of all that
// the items of a list have, or the table. The empty text is printed instead of a
// table without rows.
func (k *call) show(v any, t *table, empty string) error {
	switch {
	case k.json:
		if r := reflect.ValueOf(v); r.Kind() == reflect.Slice && r.IsNil() {
			v = []struct{}{}
		}
		e := json.NewEncoder(k.out)
		e.SetIndent("", "  ")
		return e.Encode(v)
	case k.csv && (isList(v) || len(t.rows) == 0 && reflect.ValueOf(v).Kind() == reflect.Struct):
		return csvOf(k.out, v)
	case k.csv:
		return t.csv(k.out)
	case len(t.rows) == 0 && empty != "":
		fmt.Fprintln(k.out, empty)
		return nil
	}
	k.print(t)
	return nil
}

// when writes a moment: for people relative to now, for programs exactly.
func (k *call) when(t time.Time) string {
	if k.csv {
		return t.UTC().Format(time.RFC3339)
	}
	return relative(time.Until(t))
}

func (k *call) expiry(t *time.Time) string {
	if t == nil {
		return "never"
	}
	return k.when(*t)
}

// relative writes a span from now like "in 3 h" or "5 min ago".
func relative(d time.Duration) string {
	text := "now"
	a := d.Abs()
	switch {
	case a < 2*time.Second:
		return text
	case a < 2*time.Minute:
		text = fmt.Sprintf("%d s", int(a.Seconds()))
	case a < 2*time.Hour:
		text = fmt.Sprintf("%d min", int(a.Minutes()+0.5))
	case a < 48*time.Hour:
		text = fmt.Sprintf("%d h", int(a.Hours()+0.5))
	default:
		text = fmt.Sprintf("%d d", int(a.Hours()/24+0.5))
	}
	if d < 0 {
		return text + " ago"
	}
	return "in " + text
}

// change sends edits and prints what they did. Where a command is risky it only
// previews until --yes is given; verify reads back what must be true afterwards.
func (k *call) change(edits []api.Edit, risky bool, verify func() error) error {
	return k.changeAt(0, edits, risky, verify)
}

// changeAt does the same for edits that were made against a revision: what
// somebody else changed of the same items meanwhile is not undone.
func (k *call) changeAt(base int64, edits []api.Edit, risky bool, verify func() error) error {
	if k.capture != nil {
		*k.capture = append(*k.capture, edits...)
		return nil
	}
	req := api.ChangeRequest{Base: base, Reason: k.reason, DryRun: k.dryRun, Confirm: k.yes, Alone: k.alone, Into: k.into, Edits: edits}
	if !k.dryRun && !k.yes && k.into == "" {
		req.DryRun = true
		preview, err := k.client.Change(k.ctx, req)
		if err != nil {
			return err
		}
		for _, e := range preview.Effects {
			risky = risky || e.Strands
		}
		if risky && len(preview.Diff) > 0 {
			if err := k.showChange(preview); err != nil {
				return err
			}
			return errPreview
		}
		req.DryRun, req.Base = false, preview.Base
	}
	done, err := k.client.Change(k.ctx, req)
	if err != nil {
		return err
	}
	if done.Applied && verify != nil {
		if err := verify(); err != nil {
			return fmt.Errorf("revision %d was applied, but reading it back failed: %w", done.Revision, err)
		}
	}
	return k.showChange(done)
}

// showInherits shows what scopes inherit differently: each difference once, with whose it is.
func (k *call) showInherits(c api.ChangeResult) {
	fmt.Fprintf(k.out, "Inherited differently (%d of %d):\n", len(c.Inherits), c.Inherited)
	var order []string
	whose := map[string][]string{}
	for _, d := range c.Inherits {
		if whose[d.Text] == nil {
			order = append(order, d.Text)
		}
		whose[d.Text] = append(whose[d.Text], d.Name)
	}
	for _, text := range order {
		what := strings.TrimPrefix(text, "inherits ")
		if n := len(whose[text]); n > 1 {
			k.say(fmt.Sprintf("  %d scopes: ", n), what+": "+strings.Join(whose[text], ", "))
		} else {
			k.say("  scope "+whose[text][0]+": ", what)
		}
	}
}

func (k *call) showChange(c api.ChangeResult) error {
	if k.json || k.csv {
		t := newTable("Kind", "Name", "Change")
		for _, d := range c.Diff {
			t.row(d.Kind, d.Name, d.Text)
		}
		return k.show(c, t, "")
	}
	if len(c.Diff) == 0 {
		fmt.Fprintf(k.out, "Nothing to change: the plan says so already (revision %d).\n", c.Revision)
		return nil
	}
	t := newTable()
	for _, d := range c.Diff {
		t.row("  "+d.Kind+" "+d.Name, d.Text)
	}
	switch {
	case c.Into != "" && k.dryRun:
		fmt.Fprintf(k.out, "Would be gathered in %s, which then changes revision %d as a whole:\n", c.Into, c.Base)
	case c.Into != "":
		fmt.Fprintf(k.out, "Gathered in %s, which changes revision %d as a whole; yarnpost change apply %s --yes makes it:\n", c.Into, c.Base, c.Into)
	case c.Applied:
		fmt.Fprintf(k.out, "Changed, revision %d:\n", c.Revision)
	default:
		fmt.Fprintf(k.out, "Would change revision %d:\n", c.Base)
	}
	k.print(t)
	if more := c.Lines - len(c.Diff); more > 0 {
		fmt.Fprintf(k.out, "  and %d more lines\n", more)
	}
	if len(c.Inherits) > 0 {
		k.showInherits(c)
	}
	for _, r := range c.Resolved {
		k.say("Resolved: ", r+".")
	}
	for _, e := range c.Effects {
		k.say("Effect: ", e.Text+".")
	}
	if c.Needs != "" {
		k.say("Approval: ", "changes of "+c.Needs+" need a second person's.")
	}
	for _, a := range c.Advice {
		k.say("Advice: ", fmt.Sprintf("%s: %s (%s).", a.Subject, a.Text, a.Code))
	}
	return nil
}

// say prints a sentence behind a word, folded below itself.
func (k *call) say(word, text string) {
	t := newTable()
	for i, part := range fold(harmless(text), max(widthOf(k.out)-len(word), 40)) {
		if i > 0 {
			word = strings.Repeat(" ", len(word))
		}
		t.row(word + part)
	}
	t.write(k.out, 0)
}
