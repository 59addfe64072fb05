package planfile

import (
	"fmt"
	"regexp"
	"strings"

	"yarnpost/core/audit"
	"yarnpost/core/plan"
	"yarnpost/edit"
)

// Checked is what can be said of a file without a server.
type Checked struct {
	Faults []Fault
	Covers string
	Counts []string // how many items of each kind it has, in words
	Advice []string
	// Alone says that the file is a part that was looked at by itself: whether what it refers to is in
	// the plan was not looked at.
	Alone bool
}

// Check looks at a file: with another file that has the rest of the plan, within that; a part by
// itself otherwise.
func Check(text, against []byte) Checked {
	f, faults := Read(text)
	if len(faults) > 0 {
		return Checked{Faults: faults}
	}
	out := Checked{Covers: f.Covers, Counts: f.counts()}
	if against == nil && f.Covers == Part {
		out.Alone = true
		out.Faults = f.Place(edit.Check(f.Edits))
		return out
	}
	base := plan.New()
	if against != nil {
		var faults []Fault
		if base, faults = build(base, against, Whole); len(faults) > 0 {
			return Checked{Faults: []Fault{{Text: "the file that it is checked against has a fault itself: " + faults[0].String()}}}
		}
	}
	d := base.Draft()
	if out.Faults = f.Place(edit.Together(edit.Nowhere, d, f.Edits, f.Covers == Whole)); len(out.Faults) > 0 {
		return out
	}
	next, items := d.Finish()
	for _, a := range audit.OfChange(next, items, nil) {
		out.Advice = append(out.Advice, fmt.Sprintf("%s: %s (%s)", a.Subject, a.Text, a.ID))
	}
	return out
}

// build makes the plan that a file is of.
func build(base *plan.Plan, text []byte, covers string) (*plan.Plan, []Fault) {
	f, faults := Read(text)
	if len(faults) > 0 {
		return nil, faults
	}
	d := base.Draft()
	if faults := f.Place(edit.Together(edit.Nowhere, d, f.Edits, covers == Whole)); len(faults) > 0 {
		return nil, faults
	}
	next, _ := d.Finish()
	return next, nil
}

// counts says how many items a file has.
func (f *File) counts() (out []string) {
	for _, k := range sections {
		n := 0
		for _, e := range f.Edits {
			if e.Kind == string(k) {
				n++
			}
		}
		switch {
		case n == 0:
		case k == plan.KindDefaults:
			out = append(out, "the defaults")
		case n == 1:
			out = append(out, "1 "+string(k))
		default:
			out = append(out, fmt.Sprintf("%d %s", n, section(k)))
		}
	}
	return out
}

var revisionLine = regexp.MustCompile(`(?m)^(revision:[ \t]*)[0-9]+`)

// Rebase is a file with another revision, if it names one.
func Rebase(text []byte, revision int64) []byte {
	return revisionLine.ReplaceAll(text, fmt.Appendf(nil, "${1}%d", revision))
}

// Key is one key that may stand in a section.
type Key struct {
	Section string `json:"section"`
	Key     string `json:"key"`
	Value   string `json:"value"`
	Meaning string `json:"meaning"`
}

// Keys says what may stand in a section, or in all of them. It reports false for a section that there is
// not.
func Keys(of string) (keys []Key, known bool) {
	for _, k := range sections {
		if of != "" && !strings.EqualFold(of, section(k)) && !strings.EqualFold(of, string(k)) {
			continue
		}
		known = true
		for _, f := range edit.FormOf(k).Fields {
			keys = append(keys, Key{section(k), f.Key, strings.ReplaceAll(valueText(&f), "`", ""), f.Doc})
		}
	}
	return keys, known
}
