package e2e

import (
	"strings"
	"testing"
)

// Fields of one's own, plan files and sheets in a browser: a field is defined, asked for in a form and a
// column of the table; a file is taken out, changed and applied, and says in which line it is wrong.
func TestFilesPage(t *testing.T) {
	t.Parallel()
	s := startService(t)
	s.must("scope", "add", "looms", "--subnet", "10.77.10.0/24", "--pool", "all", "--serve")
	p := visit(t, s)
	p.enter(s)
	p.do("a field", p.open("/plan/~fields"), p.see("No field is defined"), p.click("button=Add a field"), p.fill("#name", "hall"),
		p.fill("#note", "where the cabinet stands"), p.see("note: where the cabinet stands"), p.click("button=Apply"), p.see("is in force"))
	p.do("a value of it", p.open("/plan/looms"), p.click("button=Edit"), p.see("where the cabinet stands"), p.fill("#own_hall", "Hall 3"),
		p.see("hall: Hall 3"), p.click("button=Apply"), p.see("is in force"), p.open("/plan"), p.see("Hall 3"))
	s.says([]string{"Hall 3"}, "scope", "show", "looms")
	s.says([]string{"looms"}, "scope", "list", "--field", "hall=hall 3")
	s.says([]string{"No scope"}, "scope", "list", "--field", "hall=4")
	s.says([]string{"looms"}, "scope", "list", "--search", "hall 3")
	p.do("the plan as a file", p.open("/plan/~files"), p.click("button=Take the plan as it is"), func() error {
		return p.Wait("document.querySelector('.files textarea').value.includes('hall: Hall 3')")
	}, p.see("Nothing would change"))
	text := "plan-file: 1\nscopes:\n  carding: {subnet: 10.77.11.0/24, leese: 8h}\n  attic: {subnet: 10.77.10.0/25}\n"
	p.do("a fault", p.fill(".files textarea", text), p.see("the file has a fault; nothing was changed"), p.see("line 3, column 36"),
		p.see(`is "lease" meant?`))
	p.do("two that cannot be", p.fill(".files textarea", strings.Replace(text, "leese", "lease", 1)), p.see("overlaps scope looms"))
	p.do("one that can", p.fill(".files textarea", "plan-file: 1\nscopes:\n  carding: {subnet: 10.77.11.0/24, fields: {hall: Hall 4}}\n"),
		p.see("hall: Hall 4"), p.click("button=Apply"), p.see("is in force"))
	p.do("a sheet", p.open("/plan/~files?kind=reservation"), p.click("button=Template"), func() error {
		return p.Wait("document.querySelector('.files textarea').value.startsWith('name,')")
	}, p.fill(".files textarea", "name;address;hardware\ncrane;10.77.10.5;02:00:00:00:00:17\nscale;10.99.0.1;02:00:00:00:00:18\n"),
		p.see("line 3"), p.see("no scope holds 10.99.0.1"),
		p.fill(".files textarea", "name;address;hardware\ncrane;10.77.10.5;02:00:00:00:00:17\n"), p.see("crane"), p.click("button=Apply"),
		p.see("is in force"))
	s.says([]string{"10.77.10.5"}, "reservation", "show", "crane")
	s.says([]string{"hall", "text", "2"}, "field", "list")
	s.says([]string{"field hall", "removed", "hall: Hall 3"}, "field", "remove", "hall", "--dry-run")
	s.must("field", "remove", "hall", "--yes")
	s.says([]string{"There is no field"}, "field", "list")
}

// A change is begun in a browser, gathered in on the pages that change the plan, and made.
func TestPreparedPage(t *testing.T) {
	t.Parallel()
	s := startService(t)
	s.must("scope", "add", "looms", "--subnet", "10.77.10.0/24", "--pool", "all", "--serve")
	p := visit(t, s)
	p.enter(s)
	p.do("a change begins", p.open("/changes/prepared"), p.see("No change is in preparation"), p.click("button=Begin a change"),
		p.fill("#begin_name", "looms-move"), p.fill("#begin_note", "hall 4"), p.click("button=Begin it"), p.see("Nothing is gathered in it yet"))
	p.do("it gathers", p.click("button=Gather in it"), p.see("changes nothing yet"), p.open("/plan/looms"), p.see("changes nothing yet"),
		p.click("button=Edit"), p.fill("#note", "beside the stairs"), p.see("All that is gathered in looms-move"), p.see("note: beside the stairs"),
		p.click("button=Apply"), p.see("Gathered in looms-move"))
	if s.leaseOf("looms") != "8h" || strings.Contains(s.must("scope", "show", "looms"), "stairs") {
		t.Error("what is gathered is in force")
	}
	p.do("it is made", p.open("/changes/prepared?open=looms-move"), p.see("edit scope looms"), p.click("button=Make it"),
		p.click("button=Make it now"), p.see("is no longer in preparation"), p.click("button=Gather no more"), p.open("/plan/looms"),
		p.see("beside the stairs"))
}
