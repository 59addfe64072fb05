// Package rule has conditions over requests: an expression in CEL
// (Common Expression Language) goes in and is compiled once; a request goes in
// and whether it fits comes out. What a rule then does is the plan's business.
package rule

import (
	"fmt"
	"slices"
	"strings"

	"cel.dev/cel-go/cel"
	"cel.dev/cel-go/common/ast"
	"cel.dev/cel-go/common/cost"
	"cel.dev/cel-go/common/types"
	"cel.dev/cel-go/common/types/ref"
	"cel.dev/cel-go/ext"

	"yarnpost/core/addr"
	"yarnpost/core/option"
	"yarnpost/core/request"
)

// Limits of an expression. Cost is in CEL's units, roughly one a step.
const (
	textMost = 4096   // octets of an expression
	costMost = 100000 // worst case of one evaluation, as estimated when it is compiled
)

// Variable is one name that an expression may use.
type Variable struct {
	Name, Type, Meaning, Example string
	kind                         *cel.Type
}

// Variables lists what an expression can ask of a request.
var Variables = []Variable{
	{"hw", "string", "hardware address, lower case with colons", `hw.startsWith("02:4c:00:")`, cel.StringType},
	{"id", "string", "client identifier in hexadecimal with colons, or empty", `id.startsWith("ff:")`, cel.StringType},
	{"vendor", "string", "vendor class (option 60)", `vendor.startsWith("deskphone")`, cel.StringType},
	{"userClass", "list of strings", "user classes (option 77)", `"staff" in userClass`, cel.ListType(cel.StringType)},
	{"hostname", "string", "host name (option 12)", `hostname.startsWith("loom-")`, cel.StringType},
	{"fqdn", "string", "full name (option 81)", `fqdn.endsWith(".fellgate.example")`, cel.StringType},
	{"wants", "list of integers", "options the client asks for (option 55)", `150 in wants`, cel.ListType(cel.IntType)},
	{"relay", "string", "relay address (giaddr), or empty", `relay == "10.40.8.1"`, cel.StringType},
	{"circuit", "string", "circuit (option 82.1), hexadecimal with colons if it is not text", `circuit == "sw1/0/7"`, cel.StringType},
	{"remote", "string", "remote id (option 82.2)", `remote == "access-3"`, cel.StringType},
	{"subscriber", "string", "subscriber id (option 82.6)", `subscriber != ""`, cel.StringType},
	{"link", "string", "name of the link", `link == "yard"`, cel.StringType},
	{"scope", "string", "name of the scope that is looked at", `scope in ["looms", "offices"]`, cel.StringType},
	{"message", "string", "DISCOVER, REQUEST, INFORM or BOOTP", `message == "BOOTP"`, cel.StringType},
	{"options", "map of integer to string", "any option of the request, formatted", `options[?93].orValue("") == "7"`,
		cel.MapType(cel.IntType, cel.StringType)},
	{"raw", "map of integer to bytes", "any option of the request, as it came", `raw[97].size() == 17`,
		cel.MapType(cel.IntType, cel.BytesType)},
	{"lists", "map of name to set", "the plan's lists", `hw in lists.cameras || id in lists.cameras`,
		cel.MapType(cel.StringType, cel.MapType(cel.StringType, cel.BoolType))},
}

var environment = func() *cel.Env {
	options := []cel.EnvOption{ext.Strings(), cel.OptionalTypes()}
	for _, v := range Variables {
		options = append(options, cel.Variable(v.Name, v.kind))
	}
	env, err := cel.NewEnv(options...)
	if err != nil {
		panic(err) // the variables above are all there is to go wrong
	}
	return env
}()

// Program is a compiled expression. It is safe for concurrent use.
type Program struct {
	Text  string
	Lists []string // names of the lists it looks into
	run   cel.Program
}

// Compile checks an expression, which must give true or false. Errors name the
// line and the column of the fault.
func Compile(text string) (*Program, error) {
	if strings.TrimSpace(text) == "" {
		return nil, fmt.Errorf("the condition is empty; write true for every client, or something like %s", Variables[0].Example)
	}
	if len(text) > textMost {
		return nil, fmt.Errorf("the condition takes %d octets; %d are the most. Put addresses into a list", len(text), textMost)
	}
	tree, issues := environment.Compile(text)
	if issues.Err() != nil {
		first := issues.Errors()[0]
		return nil, fmt.Errorf("line %d, column %d: %s", first.Location.Line(), first.Location.Column()+1, first.Message)
	}
	if tree.OutputType() != cel.BoolType {
		return nil, fmt.Errorf("line 1, column 1: the condition gives %s, but must give true or false", tree.OutputType())
	}
	c, err := environment.EstimateCost(tree, sizes{})
	if err != nil {
		return nil, fmt.Errorf("the condition cannot be judged: %w", err)
	}
	if c.Max > costMost {
		return nil, fmt.Errorf("the condition could take %d steps for one request; %d are the most. Avoid a loop inside a loop", c.Max, costMost)
	}
	run, err := environment.Program(tree, cel.EvalOptions(cel.OptOptimize), cel.CostLimit(2*costMost))
	if err != nil {
		return nil, fmt.Errorf("the condition cannot be run: %w", err)
	}
	p := &Program{Text: text, run: run}
	ast.PostOrderVisit(tree.NativeRep().Expr(), ast.NewExprVisitor(func(e ast.Expr) {
		if name, ok := listOf(e); ok && !slices.Contains(p.Lists, name) {
			p.Lists = append(p.Lists, name)
		}
	}))
	return p, nil
}

// listOf recognises lists.name and lists["name"].
func listOf(e ast.Expr) (string, bool) {
	isLists := func(e ast.Expr) bool { return e.Kind() == ast.IdentKind && e.AsIdent() == "lists" }
	switch {
	case e.Kind() == ast.SelectKind && isLists(e.AsSelect().Operand()):
		return e.AsSelect().FieldName(), true
	case e.Kind() == ast.CallKind && e.AsCall().FunctionName() == "_[_]" && isLists(e.AsCall().Args()[0]) &&
		e.AsCall().Args()[1].Kind() == ast.LiteralKind:
		s, ok := e.AsCall().Args()[1].AsLiteral().Value().(string)
		return s, ok
	}
	return "", false
}

// sizes bounds what a request can hold: no text, list or map of one is longer.
type sizes struct{}

func (sizes) EstimateSize(cost.AstNode) *cost.SizeEstimate { return &cost.SizeEstimate{Max: 255} }

func (sizes) EstimateCallCost(string, string, *cost.AstNode, []cost.AstNode) *cost.CallEstimate {
	return nil
}

// Lists are named sets of hardware addresses and identifiers, made ready.
type Lists struct{ value ref.Val }

// NewLists makes lists ready; their entries are written as variables hw and id
// are.
func NewLists(named map[string][]string) *Lists {
	out := map[string]map[string]bool{}
	for name, entries := range named {
		set := make(map[string]bool, len(entries))
		for _, e := range entries {
			set[e] = true
		}
		out[name] = set
	}
	return &Lists{types.DefaultTypeAdapter.NativeToValue(out)}
}

// Request is what an expression is asked about. Nothing is worked out before an
// expression asks for it.
type Request struct {
	Of          *request.Request
	Agent       request.Agent // what is believed of how the client is connected
	Classes     []byte        // user classes as last heard, where the message has none
	Link, Scope string
	Lists       *Lists
}

// Fits reports whether a request fits. An error, such as an option that is not
// there, means that it does not.
func (p *Program) Fits(r *Request) (bool, error) {
	v, _, err := p.run.Eval(r)
	if err != nil {
		return false, err
	}
	return v == types.True, nil
}

// Parent implements CEL's activation.
func (r *Request) Parent() cel.Activation { return nil }

// ResolveName implements CEL's activation.
func (r *Request) ResolveName(name string) (any, bool) {
	m := r.Of.Message
	switch name {
	case "hw":
		return r.Of.Hardware.String(), true
	case "id":
		return addr.Hardware(r.Of.Identifier).String(), true
	case "vendor":
		return m.Vendor(), true
	case "userClass":
		classes := m.Classes()
		if len(classes) == 0 {
			classes = r.Classes
		}
		return m.ClassList(classes), true
	case "hostname":
		return m.Hostname(), true
	case "fqdn":
		return m.FQDN(), true
	case "wants":
		out := []int64{}
		for _, c := range m.Wants() {
			out = append(out, int64(c))
		}
		return out, true
	case "relay":
		if !r.Agent.Relay.IsValid() {
			return "", true
		}
		return r.Agent.Relay.String(), true
	case "circuit":
		return option.Show(r.Agent.Circuit), true
	case "remote":
		return option.Show(r.Agent.Remote), true
	case "subscriber":
		return option.Show(r.Agent.Subscriber), true
	case "link":
		return r.Link, true
	case "scope":
		return r.Scope, true
	case "message":
		return m.Name(), true
	case "options":
		out := map[int64]string{}
		for code, data := range m.Each() {
			out[int64(code)] = option.Standard(r.Of.Family).ByCode(code).Type.Format(data)
		}
		return out, true
	case "raw":
		out := map[int64][]byte{}
		for code, data := range m.Each() {
			out[int64(code)] = data
		}
		return out, true
	case "lists":
		if r.Lists == nil {
			return map[string]map[string]bool{}, true
		}
		return r.Lists.value, true
	}
	return nil, false
}
