package edit

import (
	"encoding/json"
	"fmt"
	"reflect"

	"yarnpost/api"
	"yarnpost/core/plan"
)

// Between are the edits that turn one plan into another, by what differs: of an item that both
// have, only the fields that are not the same, so that made on a third plan they leave alone what
// else was changed there. Items are told by their ids. Together makes them, whatever their order.
func Between(old, next *plan.Plan, changes []plan.Change) ([]api.Edit, error) {
	var out []api.Edit
	for _, c := range changes {
		e, err := between(old, next, c)
		if err != nil {
			return nil, fmt.Errorf("%s %s: %w", c.Kind, c.Name, err)
		}
		out = append(out, e)
	}
	return out, nil
}

func between(old, next *plan.Plan, c plan.Change) (api.Edit, error) {
	of := editors[c.Kind]
	switch {
	case c.After == nil:
		return api.Edit{Op: Remove, Kind: string(c.Kind), Name: of.say(&pass{plan: old, out: true}, c.Before).Name}, nil
	case c.Before == nil:
		return of.say(&pass{plan: next, out: true}, c.After), nil
	}
	before, after := of.say(&pass{plan: old, out: true, all: true}, c.Before), of.say(&pass{plan: next, out: true, all: true}, c.After)
	was, is, err := bodies(before, after)
	if err != nil {
		return api.Edit{}, err
	}
	differ := map[string]any{}
	for field, value := range is {
		if reflect.DeepEqual(value, was[field]) {
			continue
		}
		if set, parted := value.(map[string]any); parted || each[field] {
			before, _ := was[field].(map[string]any)
			value = apart(before, set)
		}
		differ[field] = value
	}
	for field := range was {
		if _, there := is[field]; !there && each[field] { // all of it went
			differ[field] = apart(was[field].(map[string]any), nil)
		}
	}
	if before.Name != after.Name {
		differ["name"] = after.Name
	}
	var e api.Edit
	text, err := json.Marshal(map[string]any{"op": Edit, "kind": c.Kind, "name": before.Name, string(c.Kind): differ})
	if err == nil {
		err = json.Unmarshal(text, &e)
	}
	return e, err
}

// each are the fields of which an edit sets one part without the others; an empty one goes.
var each = map[string]bool{"options": true, "fields": true}

// apart is what differs between two sets of parts.
func apart(before, after map[string]any) map[string]any {
	out := map[string]any{}
	for name, value := range after {
		if !reflect.DeepEqual(value, before[name]) {
			out[name] = value
		}
	}
	for name := range before {
		if _, there := after[name]; !there {
			out[name] = ""
		}
	}
	return out
}

// bodies are what two edits set, by field.
func bodies(a, b api.Edit) (was, is map[string]any, err error) {
	for _, of := range []struct {
		e  api.Edit
		to *map[string]any
	}{{a, &was}, {b, &is}} {
		var whole map[string]any
		text, err := json.Marshal(of.e)
		if err == nil {
			err = json.Unmarshal(text, &whole)
		}
		if err != nil {
			return nil, nil, err
		}
		*of.to, _ = whole[of.e.Kind].(map[string]any)
	}
	return was, is, nil
}
