package cli

import (
	"encoding/csv"
	"encoding/json"
	"fmt"
	"io"
	"strings"
	"text/tabwriter"
	"time"

	"yarnpost/api"
)

// table is rows of text with an optional head.
type table struct {
	head []string
	rows [][]string
}

func newTable(head ...string) *table { return &table{head: head} }

func (t *table) row(cells ...string) { t.rows = append(t.rows, cells) }

// write prints the table aligned.
func (t *table) write(w io.Writer) {
	tw := tabwriter.NewWriter(w, 0, 8, 2, ' ', 0)
	if len(t.head) > 0 {
		fmt.Fprintln(tw, strings.Join(t.head, "\t"))
	}
	for _, r := range t.rows {
		fmt.Fprintln(tw, strings.TrimRight(strings.Join(r, "\t"), "\t"))
	}
	tw.Flush()
}

// csv prints the table as RFC 4180. Cells that a spreadsheet would run as a
// formula get a leading apostrophe.
func (t *table) csv(w io.Writer) error {
	cw := csv.NewWriter(w)
	cw.UseCRLF = true
	head := make([]string, len(t.head))
	for i, h := range t.head {
		head[i] = strings.ReplaceAll(strings.ToLower(h), " ", "_")
	}
	cw.Write(head)
	for _, r := range t.rows {
		cells := make([]string, len(t.head))
		copy(cells, r)
		for i, c := range cells {
			if c != "" && strings.ContainsRune("=+-@\t\r", rune(c[0])) {
				cells[i] = "'" + c
			}
		}
		cw.Write(cells)
	}
	cw.Flush()
	return cw.Error()
}

// show prints a result as asked for: JSON of the value itself, or the table.
// The empty text is printed instead of a table without rows.
func (k *call) show(v any, t *table, empty string) error {
	switch {
	case k.json:
		e := json.NewEncoder(k.out)
		e.SetIndent("", "  ")
		return e.Encode(v)
	case k.csv:
		return t.csv(k.out)
	case len(t.rows) == 0 && empty != "":
		fmt.Fprintln(k.out, empty)
		return nil
	}
	t.write(k.out)
	return nil
}

// shape writes a moment: for people relative to now, for programs exactly.
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
	req := api.ChangeRequest{Reason: k.reason, DryRun: k.dryRun, Confirm: k.yes, Edits: edits}
	if !k.dryRun && !k.yes {
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
	case c.Applied:
		fmt.Fprintf(k.out, "Changed, revision %d:\n", c.Revision)
	default:
		fmt.Fprintf(k.out, "Would change revision %d:\n", c.Base)
	}
	t.write(k.out)
	for _, r := range c.Resolved {
		fmt.Fprintf(k.out, "Resolved: %s.\n", r)
	}
	for _, e := range c.Effects {
		fmt.Fprintf(k.out, "Effect: %s.\n", e.Text)
	}
	for _, a := range c.Advice {
		fmt.Fprintf(k.out, "Advice (%s): %s.\n", a.Code, a.Text)
	}
	return nil
}
