package files

import (
	"encoding/json"
	"reflect"
	"strings"

	"github.com/swaggest/jsonschema-go"
)

// Schema describes one of the [Kinds] of files as a JSON Schema (draft 2020-12), from the types by which it is read
// and written, so that editors complete and check it.
func Schema(kind string) ([]byte, error) {
	of := map[string]any{"platform": Platform{}, "subjects": People{}, "tests": Tests{}, "role": Role{}, "schema": Place{}}[kind]
	var r jsonschema.Reflector
	schema, err := r.Reflect(of, jsonschema.InlineRefs, jsonschema.InterceptProp(asWritten), jsonschema.InterceptSchema(closed))
	if err != nil {
		return nil, err
	}
	text, err := json.MarshalIndent(schema, "", "  ")
	if err != nil {
		return nil, err
	}
	var fields map[string]any
	if err := json.Unmarshal(text, &fields); err != nil {
		return nil, err
	}
	fields["$schema"] = "https://json-schema.org/draft/2020-12/schema"
	fields["title"] = "Gneiss: " + kind
	text, err = json.MarshalIndent(fields, "", "  ")
	return append(text, '\n'), err
}

// Kinds are the kinds of files, as schemas name them.
func Kinds() []string { return []string{"platform", "role", "schema", "subjects", "tests"} }

// asWritten has a field required that is never left out, and no list null.
func asWritten(p jsonschema.InterceptPropParams) error {
	tag := p.Field.Tag.Get("json")
	if !p.Processed || tag == "" || tag == "-" {
		return nil
	}
	if !strings.Contains(tag, ",omitempty") {
		p.ParentSchema.Required = append(p.ParentSchema.Required, p.Name)
	}
	if kind := p.Field.Type.Kind(); kind == reflect.Slice || kind == reflect.Map || kind == reflect.Pointer {
		p.PropertySchema.RemoveType(jsonschema.Null)
	}
	return nil
}

// closed has an object take no field that it does not name.
func closed(p jsonschema.InterceptSchemaParams) (bool, error) {
	if p.Processed && p.Value.Kind() == reflect.Struct {
		no := false
		p.Schema.AdditionalProperties = &jsonschema.SchemaOrBool{TypeBoolean: &no}
	}
	return false, nil
}
