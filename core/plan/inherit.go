package plan

import (
	"fmt"

	"yarnpost/core/option"
)

// Inherited says in plain words what scopes inherit differently in another plan: what neither
// they nor anything in them set, and comes of other levels or says something else. So it is told
// what a supernet gives that comes, moves or goes, and a scope that is put elsewhere. At most so
// many lines are listed; all tells how many there are.
func Inherited(old, next *Plan, most int) (lines []Line, all int) {
	for _, after := range next.Scopes() {
		before := old.Scope(after.ID)
		if before == nil || before == after {
			continue
		}
		say := func(what, was, is string) {
			if all++; len(lines) < most {
				lines = append(lines, Line{KindScope, after.Name, fmt.Sprintf("inherits %s: %s → %s", what, was, is), was, is})
			}
		}
		if before.Scope.Lease == 0 && after.Scope.Lease == 0 && before.Lease != after.Lease {
			say("lease time", Duration(before.Lease).String()+from(before.LeaseFrom), Duration(after.Lease).String()+from(after.LeaseFrom))
		}
		for _, k := range keysOfBoth(before.Values, after.Values) {
			was, is := inheritedValue(before, k), inheritedValue(after, k)
			if was.own || is.own || was.text == is.text {
				continue
			}
			say("option "+next.KeyName(k), was.String(), is.String())
		}
	}
	return lines, all
}

// given is what a scope inherits of an option.
type given struct {
	text string // "" for nothing
	from Origin
	own  bool // the scope sets it, or takes it away
}

func inheritedValue(v *View, k option.Key) (g given) {
	if _, g.own = v.Options[k]; g.own {
		return g
	}
	for _, val := range v.Values {
		if val.Key == k {
			g.text, g.from = val.Text, val.Origin
		}
	}
	return g
}

func (g given) String() string {
	if g.text == "" {
		return "not set"
	}
	return g.text + from(g.from)
}

// from says whose setting something is, in brackets.
func from(o Origin) string {
	switch {
	case o.Level == AtService:
		return " (the usual one)"
	case o.Name == "":
		return " (" + o.Level.String() + ")"
	}
	return " (" + o.Level.String() + " " + o.Name + ")"
}

// keysOfBoth are the keys of two lists in the order of keys.
func keysOfBoth(a, b []Value) (out []option.Key) {
	for len(a) > 0 || len(b) > 0 {
		switch {
		case len(b) == 0 || len(a) > 0 && a[0].Key.Compare(b[0].Key) < 0:
			out, a = append(out, a[0].Key), a[1:]
		case len(a) == 0 || a[0].Key.Compare(b[0].Key) > 0:
			out, b = append(out, b[0].Key), b[1:]
		default:
			out, a, b = append(out, a[0].Key), a[1:], b[1:]
		}
	}
	return out
}
