// Package audit has findings: what is wrong or odd in the plan, in the
// lease table, between the two servers of a pair and in the service. Facts come in
// as values; findings go out, each with its evidence and what to do about it. The
// same code advises on a change before it is made.
package audit

import (
	"cmp"
	"encoding/json"
	"fmt"
	"slices"
	"strings"
)

// Severity says how much a finding matters.
type Severity uint8

// The severities.
const (
	Note    Severity = iota // worth knowing
	Warning                 // will hurt, or hurts a few
	Trouble                 // hurts clients now, or soon
)

var severityNames = [...]string{"note", "warning", "trouble"}

func (s Severity) String() string { return severityNames[s] }

// ParseSeverity is the inverse of String.
func ParseSeverity(word string) (Severity, error) {
	if i := slices.Index(severityNames[:], word); i >= 0 {
		return Severity(i), nil
	}
	return 0, fmt.Errorf("%q is no severity; write %s", word, strings.Join(severityNames[:], ", "))
}

// Area says what is looked at.
type Area string

// The areas.
const (
	InPlan    Area = "plan"
	InLeases  Area = "leases"
	InPair    Area = "pair"
	InService Area = "service"
)

// Code is a kind of finding. Its ID is stable.
type Code struct {
	ID       string
	Area     Area
	Severity Severity
	Title    string
	Means    string // what it means
	Comes    string // how it comes about
	Do       string // what to do
}

// Finding is one thing that was noticed.
type Finding struct {
	*Code
	Severity Severity // of this one; as a rule that of its code
	Subject  string   // such as "scope looms"
	Scope    string   // the scope that it is in; "" if none
	Text     string   // the evidence
	Mend     string   // what to do
	Command  string   // that does it, where there is one
	Count    int      // of addresses, clients or leases that it is about
	Examples []string // of those, a few
}

// Key tells a finding from others, for as long as it is there.
func (f *Finding) Key() string { return f.ID + " " + f.Subject }

// asJSON is how a finding is kept and travels: its code by name, its severity as a word.
type asJSON struct {
	Code     string   `json:"code"`
	Severity string   `json:"severity"`
	Subject  string   `json:"subject"`
	Scope    string   `json:"scope,omitempty"`
	Text     string   `json:"text"`
	Mend     string   `json:"mend,omitempty"`
	Command  string   `json:"command,omitempty"`
	Count    int      `json:"count,omitempty"`
	Examples []string `json:"examples,omitempty"`
}

// MarshalJSON implements json.Marshaler.
func (f Finding) MarshalJSON() ([]byte, error) {
	return json.Marshal(asJSON{f.ID, f.Severity.String(), f.Subject, f.Scope, f.Text, f.Mend, f.Command, f.Count, f.Examples})
}

// UnmarshalJSON implements json.Unmarshaler. A code that this version does not know stands
// for itself (Known).
func (f *Finding) UnmarshalJSON(b []byte) error {
	var k asJSON
	if err := json.Unmarshal(b, &k); err != nil {
		return err
	}
	severity, err := ParseSeverity(k.Severity)
	if err != nil {
		return err
	}
	code := byID[k.Code]
	if code == nil {
		code = &Code{ID: k.Code, Title: k.Code, Area: InService, Severity: severity}
	}
	*f = Finding{code, severity, k.Subject, k.Scope, k.Text, k.Mend, k.Command, k.Count, k.Examples}
	return nil
}

// examplesMost is how many examples a finding has.
const examplesMost = 10

// Most is how many findings of one kind stand by themselves. One more tells of the
// rest: a list that nobody can read helps nobody.
const Most = 200

// findings gathers.
type findings struct {
	list   []Finding
	counts map[*Code]int
	rest   map[*Code]*Finding
	spare  Finding // of one that is not listed
}

// say adds a finding; it gives it, to be completed.
func (l *findings) say(id, subject, format string, args ...any) *Finding {
	c := CodeOf(id)
	if l.counts == nil {
		l.counts, l.rest = map[*Code]int{}, map[*Code]*Finding{}
	}
	if l.counts[c]++; l.counts[c] > Most {
		r := l.rest[c]
		if r == nil {
			r = &Finding{Code: c, Severity: c.Severity, Subject: "more of them", Mend: c.Do}
			l.rest[c] = r
		}
		if r.Count++; len(r.Examples) < examplesMost {
			r.Examples = append(r.Examples, subject)
		}
		l.spare = Finding{Code: c}
		return &l.spare
	}
	l.list = append(l.list, Finding{Code: c, Severity: c.Severity, Subject: subject, Text: fmt.Sprintf(format, args...), Mend: c.Do})
	return &l.list[len(l.list)-1]
}

// all gives what was gathered.
func (l *findings) all() []Finding {
	for _, c := range Codes() {
		if r := l.rest[c]; r != nil {
			r.Text = fmt.Sprintf("%d more of this kind are not listed one by one", r.Count)
			l.list = append(l.list, *r)
		}
	}
	return l.list
}

// in says which scope a finding is in.
func (f *Finding) in(scope string) *Finding { f.Scope = scope; return f }

// mend says what to do, and the command that does it, if any.
func (f *Finding) mend(text, command string) *Finding {
	f.Mend, f.Command = cmp.Or(text, f.Mend), command
	return f
}

func (f *Finding) of(count int, examples []string) *Finding {
	f.Count, f.Examples = count, slices.Clone(examples[:min(len(examples), examplesMost)])
	return f
}

func (f *Finding) as(s Severity) *Finding { f.Severity = s; return f }

// Sort puts the worst first, then by code and subject.
func Sort(list []Finding) {
	slices.SortStableFunc(list, func(a, b Finding) int {
		return cmp.Or(int(b.Severity)-int(a.Severity), strings.Compare(a.ID, b.ID), strings.Compare(a.Subject, b.Subject))
	})
}

// Codes lists every kind of finding, by area.
func Codes() []*Code {
	out := make([]*Code, len(codes))
	for i := range codes {
		out[i] = &codes[i]
	}
	return out
}

var byID = func() map[string]*Code {
	m := map[string]*Code{}
	for i := range codes {
		m[codes[i].ID] = &codes[i]
	}
	return m
}()

// CodeOf is the kind of finding with an id. It is a fault of the program to ask for
// one that is not there.
func CodeOf(id string) *Code {
	c := byID[id]
	if c == nil {
		panic("no finding is called " + id)
	}
	return c
}

// Known reports whether there is such a kind of finding.
func Known(id string) bool { return byID[id] != nil }

func plural(n int, one, many string) string {
	if n == 1 {
		return "1 " + one
	}
	return fmt.Sprint(n, " ", many)
}
