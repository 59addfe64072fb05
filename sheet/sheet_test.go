package sheet

import (
	"fmt"
	"slices"
	"strings"
	"testing"
	"time"

	"golang.org/x/text/encoding/unicode"

	"yarnpost/core/plan"
	"yarnpost/edit"
)

// after is a plan after a sheet.
func after(t *testing.T, before *plan.Plan, kind, text string) *plan.Plan {
	t.Helper()
	s, faults := Read(kind, []byte(text))
	if len(faults) > 0 {
		t.Fatalf("%v in\n%s", faults, text)
	}
	d := before.Draft()
	if faults := s.Place(edit.Together(edit.Nowhere, d, s.Edits, false)); len(faults) > 0 {
		t.Fatalf("%v in\n%s", faults, text)
	}
	next, _ := d.Finish()
	return next
}

const scopes = "Name,Subnet,Pools,Mode,Lease,Option router,option domain-server,per-circuit,probe,note\r\n" +
	"looms,10.77.0.0/24,\"10.77.0.100-10.77.0.150, 10.77.0.160-10.77.0.200\",serving,12h,10.77.0.1,\"10.0.0.5,10.0.0.6\",any,no,\"'=a \"\"formula\"\"\"\r\n" +
	"\r\n" +
	"stores,10.77.1.0 255.255.255.0,,,,,,,,\"two\nlines\"\r\n"

const reservations = "hardware,address,name,hostname,identifier,circuit\n" +
	"02-00-00-00-00-17,10.77.0.17,crane,crane,,\n,10.77.1.4,scale,,01:02:03,\n,10.77.1.5,gate,,,'-sw9\n"

// All kinds of sheets come in, go out, and come back without changing anything.
func TestRoundTrip(t *testing.T) {
	p := after(t, plan.New(), "scope", scopes)
	p = after(t, p, "reservation", reservations)
	p = after(t, p, "exclusion", "scope;range;user\nlooms;10.77.0.120-10.77.0.129;plotters\nlooms;10.77.0.9;\n")
	p = after(t, p, "entry", "list\tentry\nlent\t02:00:00:00:00:17\nlent\t0200.0000.0018\n")
	looms := p.ScopeNamed("looms")
	if len(looms.Pools) != 2 || looms.Mode != plan.Serving || len(looms.Scope.Options) != 2 || looms.Limits.PerCircuit != -1 ||
		!looms.NoProbe ||
		looms.Note != `=a "formula"` || looms.Exclusions[1].User != "plotters" {
		t.Errorf("%+v", looms.Scope)
	}
	if s := p.ScopeNamed("stores"); s.Note != "two\nlines" || s.NoProbe || s.Mode != plan.Held {
		t.Errorf("%+v", s.Scope)
	}
	if r := p.ReservationNamed("gate"); r.Circuit != "-sw9" || p.ReservationNamed("scale").Identifier.String() != "01:02:03" {
		t.Errorf("%+v", r)
	}
	if l := p.ListNamed("lent"); len(l.Entries) != 2 {
		t.Errorf("%+v", l)
	}
	for _, kind := range Kinds() {
		out, err := Export(p, kind)
		if err != nil {
			t.Fatal(err)
		}
		if again := after(t, p, kind, string(out)); again != p {
			t.Errorf("a sheet of %s changes something when it comes back:\n%s", kind, out)
		}
		if sample, err := Template(kind); err != nil || strings.Count(string(sample), "\r\n") != 2 {
			t.Errorf("%s: %v\n%s", kind, err, sample)
		}
	}
	out, _ := Export(p, "scope")
	if !strings.Contains(string(out), `"'=a ""formula"""`) || strings.Contains(string(out), "bootp") {
		t.Errorf("what a spreadsheet would compute, or a column of nothing:\n%s", out)
	}
	// A column that is not there leaves things as they are; an empty cell sets nothing.
	next := after(t, p, "scope", "name,lease\nlooms,\n")
	if v := next.ScopeNamed("looms"); v.Scope.Lease != 0 || v.Note != looms.Note || v.ID != looms.ID || v.Link != looms.Link {
		t.Errorf("%+v", v.Scope)
	}
}

// Whatever a spreadsheet writes is read: BOM, UTF-16 of both orders, semicolons, tabs.
func TestEncodings(t *testing.T) {
	want := after(t, plan.New(), "scope", scopes)
	semicolons := "name;subnet;note\nlooms;10.77.0.0/24;\"Größe; Höhe\"\n"
	for name, text := range map[string]string{"BOM": "\ufeff" + semicolons, "semicolons": semicolons,
		"tabs": "name\tsubnet\tnote\nlooms\t10.77.0.0/24\tGröße; Höhe\n"} {
		if p := after(t, plan.New(), "scope", text); p.ScopeNamed("looms").Note != "Größe; Höhe" {
			t.Errorf("%s: %q", name, p.ScopeNamed("looms").Note)
		}
	}
	for _, order := range []unicode.Endianness{unicode.LittleEndian, unicode.BigEndian} {
		wide, err := unicode.UTF16(order, unicode.UseBOM).NewEncoder().String(scopes)
		if err != nil {
			t.Fatal(err)
		}
		if p := after(t, plan.New(), "scope", wide); len(plan.Between(want, p)) > 0 {
			t.Errorf("UTF-16: %+v", plan.Between(want, p))
		}
	}
}

// Each bad line is told, all at once.
func TestFaults(t *testing.T) {
	for _, c := range []struct{ kind, text, want string }{
		{"scopes", "a", `there is no sheet of "scopes"`},
		{"scope", "", "the sheet is empty"},
		{"scope", "subnet\n10.0.0.0/24\n", "none called name"},
		{"scope", "name,subnt\na,10.0.0.0/24\n", `line 1: there is no column "subnt"`},
		{"scope", "name,name\na,b\n", "stands here twice"},
		{"scope", "name,subnet\na,10.0.0.0/24\n\nA,10.1.0.0/24\n", "line 4, column name: A stands in line 2 already"},
		{"scope", "name,subnet\n,10.0.0.0/24\n", "line 2, column name: is empty"},
		{"scope", "name,subnet\na,10.0.0.0/24,more\n", "no name above the cell"},
		{"scope", "name,subnet\n\"a,10.0.0.0/24\n", "no CSV"},
		{"scope", "name,subnet,lease\na,10.0.0.0/24,soon\n", "line 2, column lease"},
		{"scope", "name,subnet,probe\na,10.0.0.0/24,maybe\n", "line 2, column probe: is yes or no"},
		{"scope", "name,subnet,mode\na,10.0.0.0/24,on\n", `"on" is none of held, serving, draining`},
		{"scope", "name,subnet,warn-used\na,10.0.0.0/24,often\n", "column warn-used: is a number"},
		{"scope", "name,subnet,option gateway\na,10.0.0.0/24,10.0.0.1\n", "line 2, column gateway"},
		{"scope", "name,subnet\na,10.0.0.0/24\nb,10.0.0.0/25\nc,10.0.0.0/26\n", "line 3: scope b (10.0.0.0/25) overlaps scope a"},
		{"scope", "name,note\na,\x1b[31m\n", "not for reading"},
		{"scope", "name,note\na,\xff\n", "not in UTF-8"},
		{"reservation", "name,hardware\na,02:00:00:00:00:01\n", "needs a scope or an address"},
		{"exclusion", "scope,range\nattic,10.0.0.9\n", `no scope is called "attic"`},
		{"exclusion", "scope,range\n,10.0.0.9\n", "line 2, column scope: is empty"},
		{"entry", "list,entry\nlent,02:00:00:00:00:17\nlent,x\n", "line 3, column entry"},
		{"exclusion", "scope,range\nattic,10.0.0.x\n", "line 2, column range"},
	} {
		s, faults := Read(c.kind, []byte(c.text))
		if len(faults) == 0 {
			faults = s.Place(edit.Together(edit.Nowhere, plan.New().Draft(), s.Edits, false))
		}
		if !slices.ContainsFunc(faults, func(f Fault) bool { return strings.Contains(f.String(), c.want) }) {
			t.Errorf("%q: %q, want %q", c.text, faults, c.want)
		}
	}
	s, _ := Read("scope", []byte("name,subnet\na,10.0.0.0/24\nb,10.0.0.0/25\nc,10.0.0.0/26\n"))
	if faults := s.Place(edit.Together(edit.Nowhere, plan.New().Draft(), s.Edits, false)); len(faults) != 2 {
		t.Errorf("not every bad line is told: %v", faults)
	}
}

// A hundred thousand lines take about ten times as long as ten thousand.
func TestLongSheet(t *testing.T) {
	base := after(t, plan.New(), "scope", "name,subnet\nbig,10.0.0.0/8\n")
	took := func(n int) time.Duration {
		var b strings.Builder
		b.WriteString("name,address,hardware\n")
		for i := range n {
			a := i + 256
			fmt.Fprintf(&b, "r%d,10.%d.%d.%d,02:00:00:%02x:%02x:%02x\n", i, a>>16, a>>8&255, a&255, i>>16, i>>8&255, i&255)
		}
		begun := time.Now()
		after(t, base, "reservation", b.String())
		return time.Since(begun)
	}
	few, many := took(10_000), took(100_000)
	t.Logf("10,000: %v; 100,000: %v", few, many)
	if many > 30*few {
		t.Errorf("ten times the sheet takes %.0f times as long", many.Seconds()/few.Seconds())
	}
}

// FuzzRead: whatever comes in, nothing panics, and a fault has words.
func FuzzRead(f *testing.F) {
	f.Add(0, scopes)
	f.Add(1, reservations)
	f.Add(2, "scope;range;user\nlooms;10.77.0.120-10.77.0.129;plotters\n")
	f.Fuzz(func(t *testing.T, kind int, text string) {
		k := Kinds()[uint(kind)%uint(len(Kinds()))]
		s, faults := Read(k, []byte(text))
		for _, f := range faults {
			if f.Text == "" {
				t.Errorf("%q: a fault without words", text)
			}
		}
		if len(faults) > 0 {
			return
		}
		d := plan.New().Draft()
		if len(edit.Together(edit.Nowhere, d, s.Edits, false)) > 0 {
			return
		}
		p, _ := d.Finish()
		out, err := Export(p, k)
		if err != nil {
			t.Fatal(err)
		}
		if again := after(t, p, k, string(out)); again != p {
			t.Errorf("%q changes something when it comes back:\n%s", text, out)
		}
	})
}
