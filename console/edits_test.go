package console

import (
	"bytes"
	"encoding/json"
	"os"
	"os/exec"
	"strings"
	"testing"
)

// edits runs the console's mapping of forms to edits under node: it is plain TypeScript
// without a page. One process serves all cases: it takes the types away as it reads a module,
// and answers a line with a line.
type edits struct {
	*testing.T
	in  *json.Encoder
	out *json.Decoder
}

const mapping = `
const ts = require('typescript'), fs = require('fs')
require.extensions['.ts'] = (m, file) =>
	m._compile(ts.transpileModule(fs.readFileSync(file, 'utf8'), { compilerOptions: { module: 'commonjs', target: 'es2022' } }).outputText, file)
require('readline').createInterface({ input: process.stdin }).on('line', (line) => {
	const { module, of, args } = JSON.parse(line)
	let answer
	try {
		answer = { out: require(process.cwd() + '/src/edits/' + module + '.ts')[of](...args.map((a) => (a === null ? undefined : a))) ?? null }
	} catch (e) {
		answer = { error: String(e) }
	}
	process.stdout.write(JSON.stringify(answer) + '\n')
})`

func newEdits(t *testing.T) *edits {
	t.Helper()
	if _, err := os.Stat("node_modules/typescript"); err != nil {
		t.Fatal("the console's packages are not there; run make build")
	}
	cmd := exec.Command("node", "-e", mapping)
	cmd.Stderr = os.Stderr
	in, err := cmd.StdinPipe()
	if err != nil {
		t.Fatal(err)
	}
	out, err := cmd.StdoutPipe()
	if err == nil {
		err = cmd.Start()
	}
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() {
		in.Close()
		if err := cmd.Wait(); err != nil {
			t.Error(err)
		}
	})
	return &edits{t, json.NewEncoder(in), json.NewDecoder(out)}
}

// call gives what a function of a module makes of arguments.
func (e *edits) call(module, function string, args ...any) string {
	e.Helper()
	var answer struct {
		Out   json.RawMessage
		Error string
	}
	if err := e.in.Encode(object{"module": module, "of": function, "args": args}); err != nil {
		e.Fatal(err)
	}
	if err := e.out.Decode(&answer); err != nil || answer.Error != "" {
		e.Fatalf("%s.%s(%v): %v %s", module, function, args, err, answer.Error)
	}
	return string(answer.Out)
}

type object = map[string]any

// same reports whether two JSON texts say the same.
func same(t *testing.T, got, want string) bool {
	t.Helper()
	var a, b any
	if json.Unmarshal([]byte(got), &a) != nil || json.Unmarshal([]byte(want), &b) != nil {
		t.Fatalf("no JSON: %s and %s", got, want)
	}
	one, _ := json.Marshal(a)
	two, _ := json.Marshal(b)
	return bytes.Equal(one, two)
}

// formCase is what a form says, and the edit that it becomes.
type formCase struct {
	what, module, function string
	args                   []any
	want                   string
}

// What a form says becomes the edit that makes the plan say it, and nothing
// becomes of a form that does not say enough.
func TestFormsBecomeEdits(t *testing.T) {
	e := newEdits(t)
	scope := object{"name": "looms", "subnet": "10.77.0.0/24", "link": "looms", "pools": []string{"10.77.0.10-10.77.0.99"}, "leaseSet": "8h",
		"bootp": "reserved",
		"probe": true, "note": "", "perCircuit": 0, "newPerMinute": 0, "exclusions": []object{{"range": "10.77.0.20", "user": "plotter"}},
		"options": []object{{"code": 3, "name": "router", "value": "10.77.0.1"}}}
	for _, c := range []formCase{
		{"a scope without a subnet", "scope", "editOf", []any{object{"name": "x"}}, `null`},
		{"a new scope", "scope", "editOf",
			[]any{object{"name": "x", "subnet": "10.1.0.0/24", "pools": "10.1.0.9\n 10.1.0.20-10.1.0.30", "router": "10.1.0.1",
				"dns":        "10.1.0.2, 10.1.0.3",
				"exclusions": "10.1.0.25, a printer, old", "serving": true, "probe": true}},
			`{"op":"add","kind":"scope","name":"x","scope":{"subnet":"10.1.0.0/24","pools":["10.1.0.9","10.1.0.20-10.1.0.30"],
			"addExclusions":[{"range":"10.1.0.25","user":"a printer, old"}],"removeExclusions":[],"options":{"router":"10.1.0.1","domain-server":"10.1.0.2,10.1.0.3"},
			"lease":"","identity":"","offerDelay":"","probe":true,"perCircuit":0,"newPerMinute":0,"warnUsed":0,"warnHeadroom":0,"warnDays":0,"mode":"serving","note":""}}`},
		{"an exclusion that goes, one that comes, and a router that goes", "scope", "editOf",
			[]any{object{"name": "looms", "subnet": "10.77.0.0/24", "pools": "10.77.0.10-10.77.0.99", "exclusions": "10.77.0.30", "router": "",
				"lease": "8h", "link": "looms"}, scope},
			`{"op":"edit","kind":"scope","name":"looms","scope":{"name":"looms","subnet":"10.77.0.0/24","pools":["10.77.0.10-10.77.0.99"],
			"addExclusions":[{"range":"10.77.0.30"}],"removeExclusions":["10.77.0.20"],"options":{"router":""},"lease":"8h","identity":"","offerDelay":"",
			"perCircuit":0,"newPerMinute":0,"warnUsed":0,"warnHeadroom":0,"warnDays":0,"note":""}}`},
		{"a reservation without a client", "reservation", "editOf", []any{object{"name": "r", "scope": "looms"}}, `null`},
		{"a reservation by circuit", "reservation", "editOf",
			[]any{object{"name": "r", "scope": "looms", "by": "circuit", "hardware": "sw1/0/7", "address": ""}},
			`{"op":"add","kind":"reservation","name":"r","reservation":{"circuit":"sw1/0/7","scope":"looms"}}`},
		{"a name for a client", "reservation", "nameFor", []any{"--Card Room_7!", ""}, `"card-room-7"`},
		{"a rule by the form", "rule", "editOf", []any{object{"name": "toys", "how": "form", "any": true,
			"parts":   []object{{"what": "prefix", "value": "02-4C.00"}, {"what": "vendor", "value": `a"b`}, {"what": "host"}},
			"options": "router=10.77.0.1\nbad"}},
			`{"op":"add","kind":"rule","name":"toys","rule":{"when":"(hw.startsWith(\"02:4c:00\")) || (vendor.startsWith(\"a\\\"b\"))","scope":"","supernet":"","action":"","pool":"","lease":"",
			"options":{"router":"10.77.0.1"},"off":false,"note":""}}`},
		{"one condition alone", "rule", "whenOf", []any{object{"how": "form", "parts": []object{{"what": "list", "value": "lent"}}}},
			`"hw in lists[\"lent\"] || id in lists[\"lent\"]"`},
		{"an option of a rule that goes", "rule", "editOf", []any{object{"name": "r", "how": "cel", "when": "true", "options": ""},
			object{"name": "r", "options": []object{{"name": "router", "value": "10.77.0.1"}}}},
			`{"op":"edit","kind":"rule","name":"r","rule":{"name":"r","when":"true","scope":"","supernet":"","action":"","pool":"","lease":"","options":{"router":""},"off":false,"note":""}}`},
		{"a rule of a supernet", "rule", "editOf", []any{object{"name": "r", "how": "cel", "when": "true", "of": "supernet mill"}},
			`{"op":"add","kind":"rule","name":"r","rule":{"when":"true","scope":"","supernet":"mill","action":"","pool":"","lease":"","options":{},"off":false,"note":""}}`},
		{"a supernet", "supernet", "editOf", []any{object{"name": "mill", "prefix": "10.77.0.0/16", "options": "router=none"}},
			`{"op":"add","kind":"supernet","name":"mill","supernet":{"prefix":"10.77.0.0/16","lease":"","identity":"","options":{"router":"none"},"warnUsed":0,"warnHeadroom":0,"warnDays":0,"note":""}}`},
		{"what is said of fields of one's own", "own", "withOwn", []any{object{"op": "edit", "kind": "link", "name": "gate",
			"link": object{"note": "x"}}, object{"own": object{"hall": "3", "seats": 12, "owner": nil}}},
			`{"op":"edit","kind":"link","name":"gate","link":{"note":"x","fields":{"hall":"3","seats":"12","owner":""}}}`},
		{"nothing is said of them", "own", "withOwn", []any{object{"op": "add", "kind": "list", "name": "l", "list": object{}}, object{}},
			`{"op":"add","kind":"list","name":"l","list":{}}`},
		{"one of them that was touched", "touched", "touched", []any{
			object{"op": "edit", "kind": "list", "name": "l", "list": object{"note": "", "fields": object{"a": "1", "b": "2"}}},
			object{"op": "edit", "kind": "list", "name": "l", "list": object{"note": "", "fields": object{"a": "1", "b": "3"}}}},
			`{"op":"edit","kind":"list","name":"l","list":{"fields":{"b":"2"}}}`},
		{"a field of choices without any", "own", "editOf", []any{object{"name": "line", "type": "choice"}}, `null`},
		{"a field", "own", "editOf", []any{object{"name": "hall", "type": "text", "on": []string{"scope"}}},
			`{"op":"add","kind":"field","name":"hall","field":{"type":"text","choices":[],"on":["scope"],"note":""}}`},
		{"a supernet without a prefix", "supernet", "editOf", []any{object{"name": "mill"}}, `null`},
		{"the space of a small supernet", "space", "cellsOf", []any{"10.0.0.0/30", []object{{"prefix": "10.0.0.0/31", "what": "scope", "name": "a"},
			{"prefix": "10.0.0.2/31", "what": "free"}}},
			`[{"prefix":"10.0.0.0/32","scope":1,"supernet":0,"names":["a"]},{"prefix":"10.0.0.1/32","scope":1,"supernet":0,"names":["a"]},
			{"prefix":"10.0.0.2/32","scope":0,"supernet":0,"names":[]},{"prefix":"10.0.0.3/32","scope":0,"supernet":0,"names":[]}]`},
		{"a list", "list", "editOf", []any{object{"name": "lent", "entries": "02:00:00:00:00:01, 02:00:00:00:00:02\n"}},
			`{"op":"add","kind":"list","name":"lent","list":{"entries":["02:00:00:00:00:01","02:00:00:00:00:02"],"note":""}}`},
		{"a codebook with a code that is none", "codebook", "editOf", []any{object{"name": "b", "place": "43", "codes": "x y"}}, `null`},
		{"a codebook that loses a code", "codebook", "editOf",
			[]any{object{"name": "b", "place": "125", "enterprise": 9, "classes": []string{"x"}, "codes": "1 one text; first; of all\n"},
				object{"name": "b", "options": []object{{"code": 1, "name": "one", "type": "text"}, {"code": 2, "name": "two", "type": "u8"}}}},
			`{"op":"edit","kind":"codebook","name":"b","codebook":{"place":"125","classes":[],"enterprise":9,"put":[{"code":1,"name":"one","type":"text","meaning":"first; of all"}],"drop":[2],"note":""}}`},
		{"a trial", "trial", "editOf", []any{object{"name": "t", "scope": "looms", "hardware": ""}},
			`{"op":"add","kind":"trial","name":"t","trial":{"scope":"looms","vendor":"","circuit":"","every":"","note":""}}`},
		{"a link", "link", "editOf", []any{object{"name": "yard", "relays": "10.77.0.2\n"}, object{"name": "looms"}},
			`{"op":"edit","kind":"link","name":"looms","link":{"name":"yard","interfaces":[],"relays":["10.77.0.2"],"listening":false,"standAside":false,"subnetSelection":false,"wake":false,"note":""}}`},
		{"the defaults", "defaults", "editOf",
			[]any{object{"lease": "4h", "options": "domain-name=mill.example"},
				object{"options": []object{{"name": "router", "value": "10.77.0.1"}}}},
			`{"op":"edit","kind":"defaults","name":"","defaults":{"lease":"4h","options":{"router":"","domain-name":"mill.example"},"listening":false,"warnUsed":0,"warnHeadroom":0,"warnDays":0,"note":""}}`},
	} {
		if got := e.call(c.module, c.function, c.args...); !same(t, got, c.want) {
			t.Errorf("%s becomes %s\nwant %s", c.what, got, c.want)
		}
	}
}

// The forms of IPv6 say what it has, and leave out what it has not.
func TestFormsOfSix(t *testing.T) {
	e := newEdits(t)
	scope := object{"name": "x", "subnet": "2001:db8:40:1::/64", "pools": "all", "prefixPools": "2001:db8:40:8000::/49 in /56", "valid": "12h",
		"dns": "2001:db8::53", "router": "10.1.0.1", "bootp": "reserved", "identity": "hardware", "serving": true}
	want := `{"op":"add","kind":"scope","name":"x","scope":{"subnet":"2001:db8:40:1::/64","pools":["all"],
		"prefixPools":["2001:db8:40:8000::/49 in /56"],"valid":"12h","addExclusions":[],"removeExclusions":[],
		"options":{"v6/dns-servers":"2001:db8::53"},"lease":"","offerDelay":"","perCircuit":0,"newPerMinute":0,
		"warnUsed":0,"warnHeadroom":0,"warnDays":0,"mode":"serving","note":""}}`
	if got := e.call("scope", "editOf", scope); !same(t, got, want) {
		t.Errorf("a scope becomes %s\nwant %s", got, want)
	}
	want = `[{"prefix":"2001:db8:40::/128","scope":1,"supernet":0,"names":["a"]},
		{"prefix":"2001:db8:40:0:0:0:0:1/128","scope":1,"supernet":0,"names":["a"]},
		{"prefix":"2001:db8:40:0:0:0:0:2/128","scope":0,"supernet":0,"names":[]},
		{"prefix":"2001:db8:40:0:0:0:0:3/128","scope":0,"supernet":0,"names":[]}]`
	got := e.call("space", "cellsOf", "2001:db8:40::/126", []object{{"prefix": "2001:db8:40::/127", "what": "scope", "name": "a"}})
	if !same(t, got, want) {
		t.Errorf("space is %s", got)
	}
	reserved := object{"name": "x", "hardware": "0:3:0:1", "by": "duid", "scope": "s"}
	want = `{"op":"add","kind":"reservation","name":"x","reservation":{"duid":"0:3:0:1","scope":"s"}}`
	if got := e.call("reservation", "editOf", reserved); !same(t, got, want) {
		t.Errorf("a reservation becomes %s\nwant %s", got, want)
	}
}

// An edit carries what was touched and no more, so that a colleague's change is
// not put back.
func TestTouched(t *testing.T) {
	e := newEdits(t)
	edit := func(scope object) object { return object{"op": "edit", "kind": "scope", "name": "s", "scope": scope} }
	before := edit(object{"lease": "8h", "note": "a", "pools": []string{"1", "2"}, "options": object{"router": "x", "domain-name": "y"}})
	now := edit(object{"lease": "8h", "note": "b", "pools": []string{"1", "2"}, "options": object{"router": "x", "domain-name": "z"}})
	if got := e.call("touched", "touched", now, before); !same(t, got,
		`{"op":"edit","kind":"scope","name":"s","scope":{"note":"b","options":{"domain-name":"z"}}}`) {
		t.Errorf("touched is %s", got)
	}
	added := object{"op": "add", "kind": "scope", "name": "s", "scope": object{"note": "b"}}
	if got := e.call("touched", "touched", added, before); !same(t, got, `{"op":"add","kind":"scope","name":"s","scope":{"note":"b"}}`) {
		t.Errorf("what is added loses something: %s", got)
	}
	// A form that nobody touched changes nothing.
	old := object{"name": "looms", "subnet": "10.77.0.0/24", "link": "looms", "pools": []string{}, "exclusions": []object{},
		"options": []object{}, "prefixPools": []string{}, "note": "n", "probe": true, "thresholds": object{"used": 80}}
	var fields any
	if err := json.Unmarshal([]byte(e.call("scope", "fieldsOf", old)), &fields); err != nil {
		t.Fatal(err)
	}
	var first any
	if err := json.Unmarshal([]byte(e.call("scope", "editOf", fields, old)), &first); err != nil {
		t.Fatal(err)
	}
	if got := e.call("touched", "touched", first, first); !same(t, got, `{"op":"edit","kind":"scope","name":"looms","scope":{}}`) {
		t.Errorf("an untouched form changes %s", got)
	}
}

// The plan is a tree by what each says that it lies in; a search keeps what it fits, and what
// that lies in.
func TestTree(t *testing.T) {
	e := newEdits(t)
	use := object{"size": 1}
	supernets := []object{{"name": "mill", "prefix": "10.64.0.0/10", "in": []string{}, "usage": use, "note": ""},
		{"name": "west", "prefix": "10.77.0.0/16", "in": []string{"mill"}, "usage": use, "note": "by the river"},
		{"name": "empty", "prefix": "10.9.0.0/16", "in": []string{}, "usage": use, "note": ""}}
	scope := func(name, subnet string, in ...string) object {
		return object{"name": name, "subnet": subnet, "link": name, "note": "", "usage": use, "supernets": append([]string{}, in...)}
	}
	scopes := []object{scope("looms", "10.77.10.0/24", "mill", "west"), scope("offices", "10.77.9.0/24", "mill", "west"),
		scope("yard", "192.0.2.0/24"), scope("gate", "10.80.0.0/24", "mill")}
	type row struct {
		Name     string
		Children []row
	}
	var show func(list []row) string
	show = func(list []row) (out string) {
		for _, r := range list {
			out += r.Name
			if len(r.Children) > 0 {
				out += "(" + show(r.Children) + ")"
			}
			out += " "
		}
		return strings.TrimSuffix(out, " ")
	}
	for search, want := range map[string]string{"": "empty mill(west(offices looms) gate) yard", "OFFIC": "mill(west(offices))",
		"river": "mill(west)", "192.0.2": "yard", "nothing": ""} {
		var rows []row
		if err := json.Unmarshal([]byte(e.call("tree", "treeOf", supernets, scopes, search)), &rows); err != nil {
			t.Fatal(err)
		}
		if got := show(rows); got != want {
			t.Errorf("%q shows %s, want %s", search, got, want)
		}
	}
}

// A host that is to have addresses of both families, and a prefix, has a reservation for each.
func TestBothFamiliesBecomeEdits(t *testing.T) {
	e := newEdits(t)
	both := object{"name": "r", "hardware": "02:00:00:00:00:17", "scope": "looms", "address": "10.77.0.17",
		"also": "2001:db8::17, 2001:db8:8100::/56 2001:db8::18"}
	wantBoth := `[{"op":"add","kind":"reservation","name":"r","reservation":{"hardware":"02:00:00:00:00:17","scope":"looms","address":"10.77.0.17"}},
		{"op":"add","kind":"reservation","name":"r-v6","reservation":{"hardware":"02:00:00:00:00:17","address":"2001:db8::17"}},
		{"op":"add","kind":"reservation","name":"r-net","reservation":{"hardware":"02:00:00:00:00:17","address":"2001:db8:8100::/56"}},
		{"op":"add","kind":"reservation","name":"r-v6-2","reservation":{"hardware":"02:00:00:00:00:17","address":"2001:db8::18"}}]`
	if got := e.call("reservation", "editsOf", both); !same(t, got, wantBoth) {
		t.Errorf("what one host has in both families becomes %s\nwant %s", got, wantBoth)
	}
}
