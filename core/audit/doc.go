package audit

import (
	"fmt"
	"io"
)

var areaTitles = map[Area]string{InPlan: "The plan, and its pools", InLeases: "The lease table", InPair: "The pair", InService: "The service"}

// WriteDoc writes what every finding means, as docs/findings.md has it.
func WriteDoc(w io.Writer) error {
	p := &printer{w: w}
	p.say("# Findings\n\n")
	p.say("What an audit can find (`yarnpost audit run`), by code. This file is made from the code by `make generate`; `yarnpost audit codes CODE` says the same.\n\n")
	p.say("A **trouble** hurts clients now or soon; a **warning** will hurt, or hurts a few; a **note** is worth knowing. ")
	p.say("An audit is made each quarter of an hour, after each change of the plan, and on demand. A finding stays the same finding as long as its code and its subject do; ")
	p.say("`yarnpost audit acknowledge` says that one may stay, until a date and for a reason.\n")
	for _, area := range []Area{InPlan, InLeases, InPair, InService} {
		p.say("\n## %s\n", areaTitles[area])
		for _, c := range codes {
			if c.Area == area {
				p.say("\n### %s\n\n%s (%s). %s\n\nHow it comes about: %s\n\nWhat to do: %s\n", c.ID, c.Title, c.Severity, c.Means, c.Comes, c.Do)
			}
		}
	}
	return p.err
}

// printer keeps the first error.
type printer struct {
	w   io.Writer
	err error
}

func (p *printer) say(format string, args ...any) {
	if p.err == nil {
		_, p.err = fmt.Fprintf(p.w, format, args...)
	}
}
