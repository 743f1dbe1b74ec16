package language

import "oskeld.dev/oskeld/internal/core/artifact"

// SchemaID names the JSON Schema of the pipeline file.
const SchemaID = "https://oskeld.dev/schema/oskeld.toml.json"

type object = map[string]any

// Schema gives the JSON Schema (draft 7, which editors of TOML know) of a table, made from the
// descriptions that the reader works by. It covers keys, forms and what excludes what; names that
// refer to each other, conditions and braces only the reader checks.
func Schema(shape *Shape) object {
	s := tableSchema(shape)
	s["$schema"] = "http://json-schema.org/draft-07/schema#"
	s["$id"] = SchemaID
	s["title"] = "Oskeld pipeline file"
	return s
}

func tableSchema(shape *Shape) object {
	properties := object{}
	var must []string
	var exclusive, clashes []any
	needs := object{}
	for _, k := range shape.Keys {
		value := valueSchema(k)
		value["description"] = k.About
		properties[k.Name] = value
		if k.Must {
			must = append(must, k.Name)
		}
		if k.Exclusive {
			exclusive = append(exclusive, object{"required": []string{k.Name}})
		}
		if k.Excludes != "" {
			clashes = append(clashes, object{"not": object{"required": []string{k.Name, k.Excludes}}})
		}
		if k.Needs != "" {
			needs[k.Name] = []string{k.Needs}
		}
	}
	s := object{"type": "object", "properties": properties, "additionalProperties": false}
	if len(must) > 0 {
		s["required"] = must
	}
	if len(exclusive) > 0 {
		s["oneOf"] = exclusive
	}
	if len(clashes) > 0 {
		s["allOf"] = clashes
	}
	if len(needs) > 0 {
		s["dependencies"] = needs
	}
	return s
}

func valueSchema(k Key) object {
	text := func() object { return object{"type": "string"} }
	listOf := func(item object) object { return object{"type": "array", "items": item} }
	tableOf := func(item object) object {
		t := object{"type": "object", "additionalProperties": item}
		if k.Names != "" {
			t["propertyNames"] = object{"pattern": k.Names}
		}
		return t
	}
	switch k.Form {
	case TextsForm:
		return listOf(text())
	case PairsForm:
		return tableOf(text())
	case ListsForm:
		values := listOf(text())
		values["minItems"] = 1
		t := tableOf(values)
		t["minProperties"] = 1
		return t
	case PairRows:
		return listOf(object{"type": "object", "additionalProperties": text(), "minProperties": 1})
	case TruthForm:
		return object{"type": "boolean"}
	case NumberForm:
		n := object{"type": "integer"}
		if k.Most > 0 {
			n["minimum"], n["maximum"] = 1, k.Most
		}
		return n
	case LengthForm:
		return object{"type": "string", "pattern": `^([0-9]{1,5}d|\+?([0-9]+\.?[0-9]*|\.[0-9]+)(ns|us|µs|μs|ms|s|m|h)(([0-9]+\.?[0-9]*|\.[0-9]+)(ns|us|µs|μs|ms|s|m|h))*)$`}
	case NameForm:
		return object{"type": "string", "pattern": artifact.NamePattern}
	case PickForm:
		return object{"enum": k.Picks}
	case CommandForm:
		return object{"anyOf": []any{object{"enum": k.Picks}, object{"type": "array", "items": text(), "minItems": 1}}}
	case TableForm:
		return tableSchema(k.Inner)
	case TablesForm:
		return listOf(tableSchema(k.Inner))
	case NamedForm:
		t := tableOf(tableSchema(k.Inner))
		if k.Must {
			t["minProperties"] = 1
		}
		return t
	}
	return text()
}
