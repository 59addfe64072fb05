package planfile

import (
	_ "embed" // the guide
	"encoding/json"
	"fmt"
	"maps"
	"slices"
	"strings"

	"yarnpost/core/plan"
	"yarnpost/edit"
)

// about says what each section has.
var about = map[plan.Kind]string{
	plan.KindField:       "Fields of your own, such as a location or a ticket, which items then have values of",
	plan.KindDefaults:    "What holds in the whole plan unless something more specific says otherwise",
	plan.KindCodebook:    "Options of one's own, and of vendors",
	plan.KindList:        "Sets of hardware addresses or identifiers that rules use",
	plan.KindSupernet:    "Prefixes around scopes; what lies in one inherits from it",
	plan.KindLink:        "How clients are reached: interfaces and relays. A link that a scope has to itself needs no entry, unless it has relays",
	plan.KindScope:       "Subnets, with their pools and settings",
	plan.KindRule:        "Which clients get something else, or nothing",
	plan.KindReservation: "Addresses kept for one client each",
	plan.KindTrial:       "Exchanges that the service makes as a client, to prove that a scope is served",
}

type object = map[string]any

// Schema is the JSON Schema (draft 2020-12) of plan files.
func Schema() []byte {
	properties := object{
		keyVersion: object{"const": Version, "description": "Version of the format"},
		keyCovers: object{"enum": []string{Whole, Part}, "default": Part,
			"description": "whole: what the file does not have is removed, after showing it; part: it stays"},
		keyRevision: object{"type": "integer", "minimum": 0,
			"description": "Revision that the file was made from: what was changed since by others is not undone"},
	}
	definitions := object{}
	every := object{}
	for _, k := range sections {
		fields := object{}
		for _, f := range edit.FormOf(k).Fields {
			fields[f.Key] = schemaOf(&f)
			if every[f.Key] == nil {
				every[f.Key] = object{}
			}
		}
		fields[keyLike] = object{"description": "What is shared under this name, or these, holds here too", "oneOf": textOrTexts}
		definitions[string(k)] = object{"type": "object", "additionalProperties": false, "properties": fields}
		ref := object{"$ref": "#/$defs/" + string(k)}
		if k == plan.KindDefaults {
			properties[section(k)] = ref
			definitions[string(k)].(object)["description"] = about[k]
			continue
		}
		properties[section(k)] = object{"type": []string{"object", "null"}, "additionalProperties": ref, "description": about[k] + "; by name"}
	}
	properties[keyShared] = object{"type": []string{"object", "null"}, "description": "Settings that entries have in common, by a name for like",
		"additionalProperties": object{"type": "object", "additionalProperties": false, "properties": every}}
	b, err := json.MarshalIndent(object{
		"$schema": "https://json-schema.org/draft/2020-12/schema", "title": "Plan file of Yarn Post", "type": "object",
		"required": []string{keyVersion}, "additionalProperties": false, "properties": properties, "$defs": definitions,
	}, "", "  ")
	if err != nil {
		panic(err) // of texts and maps alone
	}
	return append(b, '\n')
}

// scalarTypes are what a text may look like to a reader of YAML: 42 is one, too.
var scalarTypes = object{"type": []string{"string", "number", "boolean"}}

var textOrTexts = []object{scalarTypes, {"type": "array", "items": scalarTypes}}

func schemaOf(f *edit.Field) object {
	out := object{}
	switch f.Type {
	case edit.Number:
		out["type"] = "integer"
		if f.Word != "" {
			out = object{"oneOf": []object{{"type": "integer"}, {"const": f.Word}}}
		}
	case edit.YesNo:
		out["type"] = "boolean"
	case edit.Moment:
		out["type"], out["format"] = "string", "date-time"
	case edit.Texts:
		out["oneOf"] = textOrTexts
	case edit.Values:
		out["type"], out["additionalProperties"] = "object", object{"oneOf": textOrTexts}
	case edit.Records:
		fields := object{}
		for _, of := range f.Of {
			fields[of.Key] = schemaOf(&of)
		}
		out["type"] = "array"
		out["items"] = object{"oneOf": []object{scalarTypes, {"type": "object", "additionalProperties": false, "properties": fields}}}
	default:
		out = maps.Clone(scalarTypes)
		if len(f.Enum) > 0 {
			out = object{"enum": f.Enum}
		}
	}
	if f.Doc != "" {
		out["description"] = f.Doc
	}
	return out
}

// Reference is what docs/planfile.md says of each section and key, in Markdown.
func Reference() string {
	var b strings.Builder
	for _, k := range sections {
		fmt.Fprintf(&b, "### %s\n\n%s.\n\n| key | value | meaning |\n|---|---|---|\n", section(k), about[k])
		for _, f := range edit.FormOf(k).Fields {
			fmt.Fprintf(&b, "| `%s` | %s | %s |\n", f.Key, valueText(&f), f.Doc)
			for _, of := range f.Of {
				fmt.Fprintf(&b, "| `%s` of each | %s | %s |\n", of.Key, valueText(&of), of.Doc)
			}
		}
		b.WriteByte('\n')
	}
	return b.String()
}

func valueText(f *edit.Field) string {
	text := string(f.Type)
	switch {
	case len(f.Enum) > 0:
		text = "`" + strings.Join(slices.DeleteFunc(slices.Clone(f.Enum), func(e string) bool { return e == "" }), "`, `") + "`"
	case f.Word != "":
		text = "number, or `" + f.Word + "`"
	case f.Type == edit.Texts:
		text = "a text, or a list of texts"
	case f.Type == edit.Values:
		text = "values by option name or code"
	case f.Type == edit.Records:
		text = "list"
	case f.Type == edit.Moment:
		text = "time such as 2026-12-24T18:00:00Z"
	}
	return text
}

//go:embed guide.md
var guide string

// Document is docs/planfile.md: how to write a plan file, and what may stand in one.
func Document() string { return guide + "\n" + Reference() }
