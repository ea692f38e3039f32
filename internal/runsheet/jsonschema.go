package runsheet

import (
	"encoding/json"
	"maps"

	"trevak/internal/feed"
)

// JSONSchema describes run sheets to editors (JSON Schema, draft 2020-12).
func JSONSchema() ([]byte, error) {
	text, err := feed.JSONSchema()
	if err != nil {
		return nil, err
	}
	var of struct {
		Properties map[string]any `json:"properties"`
		Defs       map[string]any `json:"$defs"`
	}
	if err := json.Unmarshal(text, &of); err != nil {
		return nil, err
	}
	delete(of.Properties, "feed")
	settings := of.Properties
	of.Defs["feed"] = described("One flow: settings of feed files, and how it is carried out.", feedProperties(), settings, "name")
	of.Defs["route"] = described("Where a part of a feed goes.", routeProperties(), settings)
	of.Defs["settings"] = described("Settings of every feed that does not say otherwise.", nil, settings)
	of.Defs["parameter"] = parameterSchema()
	top := described("Many feeds, with their parameters, routes and order.", topProperties(), nil, "sheet", "feeds")
	top["$schema"], top["title"], top["$defs"] = "https://json-schema.org/draft/2020-12/schema", "Trevak run sheet", of.Defs
	out, err := json.MarshalIndent(top, "", "  ")
	return append(out, '\n'), err
}

// described is an object with properties of its own and others.
func described(meaning string, own, others map[string]any, required ...string) map[string]any {
	all := maps.Clone(own)
	if all == nil {
		all = map[string]any{}
	}
	maps.Copy(all, others)
	out := map[string]any{"type": "object", "description": meaning, "properties": all, "additionalProperties": false}
	if len(required) > 0 {
		out["required"] = required
	}
	return out
}

func of(kind, meaning string) map[string]any {
	return map[string]any{"type": kind, "description": meaning}
}

func text(meaning string) map[string]any { return of("string", meaning) }

func span(meaning string) map[string]any {
	return map[string]any{"type": "string", "description": meaning + " A length of time, like 30s, 10m or 26h.",
		"pattern": `^([0-9]+(\.[0-9]+)?(ms|s|m|h))+$`}
}

func number(meaning string, least int) map[string]any {
	return map[string]any{"type": "integer", "minimum": least, "description": meaning}
}

func words(meaning string, list ...string) map[string]any {
	return map[string]any{"enum": list, "description": meaning}
}

func texts(meaning string) map[string]any {
	return map[string]any{"description": meaning, "oneOf": []any{map[string]any{"type": "string"},
		map[string]any{"type": "array", "items": map[string]any{"type": "string"}}}}
}

func each(ref, meaning string) map[string]any {
	return map[string]any{"type": "array", "items": map[string]any{"$ref": "#/$defs/" + ref}, "description": meaning}
}

func topProperties() map[string]any {
	return map[string]any{
		"sheet":   map[string]any{"const": Version, "description": "The version of this form."},
		"meaning": text("What the sheet is for."),
		"parameters": map[string]any{"type": "object",
			"description": "Values that each run may have others of, by name; $(name) stands for them.",
			"additionalProperties": map[string]any{"oneOf": []any{map[string]any{"$ref": "#/$defs/parameter"},
				map[string]any{"type": []string{"string", "number", "boolean"}}}}},
		"at_once": number("How many feeds run at a time at most.", 1),
		"timeout": span("How long all feeds may take."),
		"retry":   retrySchema(),
		"unlike":  words("What becomes of loads that are unlike those before.", unlikes...),
		"tell": map[string]any{"type": "array", "description": "Who is told of what.", "items": described("A receiver of CloudEvents.",
			map[string]any{"url": text("Where events are posted to."),
				"secret_from": text("Where the secret is that they are signed with: env:NAME, or a file."),
				"of":          map[string]any{"type": "array", "items": map[string]any{"enum": EventKinds}, "description": "Which events."}}, nil,
			"url")},
		"arrival": described("How a watcher finds what arrives.", map[string]any{
			"order": words("In which order objects are loaded.", "name", "time"), "settle": span("How long a file has to stay as it is."),
			"marker": text("The file that says that another is whole, like {name}.done."), "every": span("How often sources are listed."),
			"gather": span("How long objects are gathered for one commit."), "bytes": text("How much is gathered at most, like 1GiB."),
			"tries": number("After how many tries an object is set aside.", 1), "again": span("When an object that failed is tried again.")}, nil),
		"usual": map[string]any{"$ref": "#/$defs/settings"},
		"feeds": each("feed", "What is carried out."),
	}
}

func retrySchema() map[string]any {
	return described("How often what failed is tried again.", map[string]any{"times": number("How often.", 0),
		"wait": span("The first wait."), "factor": of("number", "By how much each wait is longer than the last."),
		"most": span("The longest wait.")}, nil)
}

func addSchema() map[string]any {
	return map[string]any{"type": "object", "description": "Columns with one value, by name.",
		"additionalProperties": map[string]any{"type": []string{"string", "number", "boolean"}}}
}

func feedProperties() map[string]any {
	return map[string]any{
		"name": text("What the feed is called."), "meaning": text("What it is for."),
		"file":         text("A feed file that says what is not said here, from the folder of the sheet on."),
		"after":        texts("Feeds that have to be done before."),
		"when":         text("A condition on objects, new and bytes, like objects > 0."),
		"group":        text("A name that feeds share which are loaded all or none."),
		"timeout":      span("How long it may take."),
		"retry":        retrySchema(),
		"silent_after": span("After how long without a new object a watcher tells of it."),
		"unlike":       words("What becomes of a load that is unlike those before.", unlikes...),
		"add":          addSchema(),
		"routes":       each("route", "Where parts of it go; the last one is for the rest."),
	}
}

func routeProperties() map[string]any {
	return map[string]any{"objects": text("A pattern that the paths of objects match."),
		"records": text("A condition that holds for records."),
		"rest":    map[string]any{"enum": []any{true, "drop"}, "description": "What no other route takes; drop has it counted and left out."},
		"add":     addSchema()}
}

func parameterSchema() map[string]any {
	return described("A value that each run may have another of.", map[string]any{"type": words("What values it takes.", types...),
		"usual": map[string]any{"type": []string{"string", "number", "boolean"}, "description": "Its value where none is stated; of dates and " +
			"times also an expression, like today - 1."},
		"from":    text("A variable of the environment that states it."),
		"words":   map[string]any{"type": "array", "items": map[string]any{"type": "string"}, "description": "All that it takes."},
		"meaning": text("What it is for.")}, nil)
}
