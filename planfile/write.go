package planfile

import (
	"bytes"
	"fmt"
	"maps"
	"net/netip"
	"reflect"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"time"

	"go.yaml.in/yaml/v4"

	"yarnpost/api"
	"yarnpost/core/plan"
	"yarnpost/edit"
)

// Export is a plan as a file: the same text for the same plan. Without kinds it is the whole plan,
// otherwise a part with the items of these kinds.
func Export(p *plan.Plan, kinds ...plan.Kind) ([]byte, error) {
	covers := Whole
	if len(kinds) > 0 {
		covers = Part
	} else {
		kinds = plan.Kinds()
	}
	root := mapping()
	put(root, keyVersion, scalar(strconv.Itoa(Version)))
	put(root, keyCovers, scalar(covers))
	put(root, keyRevision, scalar(strconv.FormatInt(p.Revision, 10)))
	for _, k := range sections {
		if !slices.Contains(kinds, k) {
			continue
		}
		entries := mapping()
		for _, e := range edits(p, k) {
			put(entries, e.Name, entry(edit.FormOf(k), e))
		}
		switch {
		case len(entries.Content) == 0:
		case k == plan.KindDefaults:
			if v := entries.Content[1]; len(v.Content) > 0 {
				put(root, section(k), v)
			}
		default:
			put(root, section(k), entries)
		}
	}
	root.HeadComment = "# The plan of a Yarn Post server. yarnpost plan check reads it, yarnpost plan preview\n" +
		"# shows what it would change, yarnpost plan apply changes it."
	return write(root)
}

// Proposal is a plan as a part to review: each item with why it is there, as a comment above it.
func Proposal(p *plan.Plan, about string, why func(k plan.Kind, name string) []string) ([]byte, error) {
	var list []api.Edit
	for _, k := range sections {
		list = append(list, edits(p, k)...)
	}
	return Proposed(list, about, why)
}

// Proposed are edits as a part to review, as Proposal has it; those of a kind in their order.
func Proposed(list []api.Edit, about string, why func(k plan.Kind, name string) []string) ([]byte, error) {
	root := mapping()
	put(root, keyVersion, scalar(strconv.Itoa(Version)))
	put(root, keyCovers, scalar(Part))
	for _, k := range sections {
		entries := mapping()
		for _, e := range list {
			if plan.Kind(e.Kind) != k {
				continue
			}
			body := entry(edit.FormOf(k), e)
			if k == plan.KindDefaults {
				entries = body
				break
			}
			put(entries, e.Name, body)
			entries.Content[len(entries.Content)-2].HeadComment = commented(why(k, e.Name))
		}
		if len(entries.Content) > 0 {
			put(root, section(k), entries)
			if k == plan.KindDefaults {
				root.Content[len(root.Content)-2].HeadComment = commented(why(k, ""))
			}
		}
	}
	root.HeadComment = commented(strings.Split(about, "\n"))
	return write(root)
}

// commented are lines as a comment.
func commented(lines []string) string {
	var out []string
	for _, l := range lines {
		out = append(out, "# "+strings.Map(func(r rune) rune {
			if r < ' ' {
				return ' '
			}
			return r
		}, l))
	}
	return strings.Join(out, "\n")
}

// edits are what puts the items of a kind, in the order in which people look for them.
func edits(p *plan.Plan, k plan.Kind) (out []api.Edit) {
	of := func(i plan.Item) { out = append(out, edit.Of(p, k, i)) }
	switch k {
	case plan.KindLink:
		for _, l := range p.Links() {
			if !implied(p, l) {
				of(*l)
			}
		}
	case plan.KindScope:
		scopes := slices.Clone(p.Scopes())
		slices.SortFunc(scopes, func(a, b *plan.View) int { return comparePrefixes(a.Subnet, b.Subnet) })
		for _, v := range scopes {
			of(v.Scope)
		}
	case plan.KindSupernet:
		all := slices.Clone(p.Supernets())
		slices.SortFunc(all, func(a, b *plan.Supernet) int { return comparePrefixes(a.Prefix, b.Prefix) })
		for _, s := range all {
			of(*s)
		}
	default:
		for _, s := range p.Items() {
			if s.Kind == k {
				of(s.Item)
			}
		}
	}
	if k == plan.KindReservation {
		address := func(e api.Edit) netip.Addr { a, _ := netip.ParseAddr(*e.Reservation.Address); return a }
		slices.SortFunc(out, func(a, b api.Edit) int { return address(a).Compare(address(b)) })
	}
	return out
}

func comparePrefixes(a, b netip.Prefix) int {
	if c := a.Addr().Compare(b.Addr()); c != 0 {
		return c
	}
	return a.Bits() - b.Bits()
}

// implied reports whether a link is said by the scope of its name alone.
func implied(p *plan.Plan, l *plan.Link) bool {
	return plan.Same(*l, plan.Link{ID: l.ID, Name: l.Name}) &&
		slices.ContainsFunc(p.OnLink(l.ID), func(v *plan.View) bool { return v.Name == l.Name })
}

// entry is one item as a file has it.
func entry(form *edit.Form, e api.Edit) *yaml.Node {
	n := mapping()
	body := form.Body(&e)
	for i := range form.Fields {
		field := &form.Fields[i]
		if v := field.In(body); !v.IsZero() {
			put(n, field.Key, said(field, v))
		}
	}
	if form.Kind == plan.KindReservation || form.Kind == plan.KindTrial {
		oneLine(n)
	}
	return n
}

// said is the value of a field.
func said(field *edit.Field, v reflect.Value) *yaml.Node {
	for v.Kind() == reflect.Pointer {
		v = v.Elem()
	}
	switch field.Type {
	case edit.Texts:
		list := v.Interface().([]string)
		if len(list) == 1 {
			return words(list[0])
		}
		n := &yaml.Node{Kind: yaml.SequenceNode}
		for _, text := range list {
			n.Content = append(n.Content, words(text))
		}
		oneLine(n)
		return n
	case edit.Values:
		values, n := v.Interface().(map[string]string), mapping()
		for _, name := range slices.Sorted(maps.Keys(values)) {
			put(n, name, words(values[name]))
		}
		return n
	case edit.Records:
		n := &yaml.Node{Kind: yaml.SequenceNode}
		for i := range v.Len() {
			one := mapping()
			for j := range field.Of {
				of := &field.Of[j]
				if f := of.In(v.Index(i)); !f.IsZero() || j == 0 {
					put(one, of.Key, said(of, f))
				}
			}
			if len(one.Content) == 2 && field.Of[0].Type == edit.Text {
				one = one.Content[1]
			} else {
				oneLine(one)
			}
			n.Content = append(n.Content, one)
		}
		return n
	case edit.YesNo:
		return scalar(strconv.FormatBool(v.Bool()))
	case edit.Moment:
		return scalar(v.Interface().(time.Time).UTC().Format(time.RFC3339))
	case edit.Number:
		if text := fmt.Sprint(v.Interface()); text != "-1" || field.Word == "" {
			return scalar(text)
		}
		return scalar(field.Word)
	default:
		return words(v.String())
	}
}

func mapping() *yaml.Node { return &yaml.Node{Kind: yaml.MappingNode} }

// put appends a key with its value.
func put(n *yaml.Node, key string, value *yaml.Node) {
	n.Content = append(n.Content, words(key), value)
}

// scalar is a value that is written as it stands, such as a number.
func scalar(text string) *yaml.Node { return &yaml.Node{Kind: yaml.ScalarNode, Value: text} }

// words is a text, in quotes where others would take it for something else; it may have several
// lines.
func words(text string) *yaml.Node {
	n := scalar(text)
	if n.Tag = "!!str"; octets.MatchString(text) {
		bare(n)
	}
	if strings.Contains(text, "\n") {
		n.Style = yaml.LiteralStyle
	}
	return n
}

// octets fits hardware addresses and identifiers, which are no numbers.
var octets = regexp.MustCompile(`^[0-9a-fA-F]{2}(:[0-9a-fA-F]{2}){2,}$`)

// colon stands for a colon on its way through the library, which would put quotes around it; no text of
// a plan can have it (edit.CheckText).
const colon = "\uE000"

// bare has octets written without quotes.
func bare(n *yaml.Node) { n.Tag, n.Style, n.Value = "", 0, strings.ReplaceAll(n.Value, ":", colon) }

// bareOctets does the same for all octets within a node that have no quotes yet.
func bareOctets(n *yaml.Node) {
	if n.Kind == yaml.ScalarNode && n.Style == 0 && octets.MatchString(n.Value) {
		bare(n)
	}
	for _, c := range n.Content {
		bareOctets(c)
	}
}

// lineMost is how long an entry in one line may become.
const lineMost = 110

// oneLine puts a node into one line if it is short and has nothing in it that needs more.
func oneLine(n *yaml.Node) {
	if length := lineLength(n); length > 0 && length <= lineMost {
		n.Style = yaml.FlowStyle
	}
}

// lineLength is how long a node is in one line, or 0 if it takes more.
func lineLength(n *yaml.Node) int {
	if strings.Contains(n.Value, "\n") || n.HeadComment != "" || n.LineComment != "" || n.FootComment != "" {
		return 0
	}
	length := len(n.Value) + 2
	for _, c := range n.Content {
		l := lineLength(c)
		if l == 0 {
			return 0
		}
		length += l
	}
	return length
}

// write is the text of a file, with an empty line before each section.
func write(root *yaml.Node) ([]byte, error) {
	var b bytes.Buffer
	d, err := yaml.NewDumper(&b, yaml.WithV4Defaults(), yaml.WithLineWidth(-1), yaml.WithIndent(2))
	if err != nil {
		return nil, fmt.Errorf("write a plan file: %w", err)
	}
	if err := d.Dump(root); err != nil {
		return nil, fmt.Errorf("write a plan file: %w", err)
	}
	if err := d.Close(); err != nil {
		return nil, fmt.Errorf("write a plan file: %w", err)
	}
	return apart(bytes.ReplaceAll(b.Bytes(), []byte(colon), []byte(":"))), nil
}

// apart puts an empty line before each section and the comments above it.
func apart(text []byte) []byte {
	lines := strings.SplitAfter(string(text), "\n")
	var b strings.Builder
	for i, l := range lines {
		if i > 0 && lines[i-1] != "\n" && begins(lines[i:]) && !strings.HasPrefix(lines[i-1], "#") {
			b.WriteByte('\n')
		}
		b.WriteString(l)
	}
	return []byte(b.String())
}

// begins reports whether a section begins with these lines, comments first.
func begins(lines []string) bool {
	for _, l := range lines {
		if !strings.HasPrefix(l, "#") {
			key, _, _ := strings.Cut(l, ":")
			_, known := kindOf(key)
			return known || key == keyShared
		}
	}
	return false
}

// Format is a file with its sections and keys in the usual order; comments, and how values are written,
// stay.
func Format(text []byte) ([]byte, []Fault) {
	if _, faults := Read(text); len(faults) > 0 {
		return nil, faults
	}
	var doc yaml.Node
	if err := yaml.Load(text, &doc); err != nil {
		return nil, []Fault{{Text: err.Error()}}
	}
	root := doc.Content[0]
	if root.HeadComment == "" {
		root.HeadComment, doc.HeadComment = doc.HeadComment, ""
	}
	if root.FootComment == "" {
		root.FootComment = doc.FootComment
	}
	order := []string{keyVersion, keyCovers, keyRevision, keyShared}
	for _, k := range sections {
		order = append(order, section(k))
	}
	arrange(root, order)
	every := everyKey()
	for i := 0; i+1 < len(root.Content); i += 2 {
		name, value := root.Content[i].Value, root.Content[i+1]
		k, known := kindOf(name)
		switch {
		case k == plan.KindDefaults:
			arrange(value, keysOf(k))
		case known || name == keyShared:
			for j := 1; j < len(value.Content); j += 2 {
				if e := value.Content[j]; e.Kind == yaml.ScalarNode { // an entry that says nothing
					e.Kind, e.Tag, e.Value, e.Style = yaml.MappingNode, "", "", yaml.FlowStyle
				}
				if arrange(value.Content[j], every); known {
					arrange(value.Content[j], keysOf(k))
				}
			}
		}
	}
	bareOctets(root)
	out, err := write(root)
	if err != nil {
		return nil, []Fault{{Text: err.Error()}}
	}
	return out, nil
}

// keysOf are the keys of an entry in their order.
func keysOf(k plan.Kind) []string {
	out := []string{keyLike}
	for _, f := range edit.FormOf(k).Fields {
		out = append(out, f.Key)
	}
	return out
}

// everyKey are the keys of entries of any kind, those of scopes first.
func everyKey() []string {
	out := keysOf(plan.KindScope)
	for _, k := range plan.Kinds() {
		for _, key := range keysOf(k) {
			if !slices.Contains(out, key) {
				out = append(out, key)
			}
		}
	}
	return out
}

// arrange sorts the pairs of a mapping by their keys.
func arrange(n *yaml.Node, order []string) {
	if n.Kind != yaml.MappingNode {
		return
	}
	type pair [2]*yaml.Node
	var pairs []pair
	for i := 0; i+1 < len(n.Content); i += 2 {
		pairs = append(pairs, pair{n.Content[i], n.Content[i+1]})
	}
	slices.SortStableFunc(pairs, func(a, b pair) int { return slices.Index(order, a[0].Value) - slices.Index(order, b[0].Value) })
	n.Content = n.Content[:0]
	for _, p := range pairs {
		n.Content = append(n.Content, p[0], p[1])
	}
}
