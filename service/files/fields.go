package files

import (
	"reflect"
	"strings"
	"sync"
)

// fields are the words that a kind of file knows, at any depth.
func fields(of any) []string {
	var out []string
	seen := map[reflect.Type]bool{}
	var visit func(t reflect.Type)
	visit = func(t reflect.Type) {
		for t.Kind() == reflect.Pointer || t.Kind() == reflect.Slice {
			t = t.Elem()
		}
		if t.Kind() != reflect.Struct || seen[t] {
			return
		}
		seen[t] = true
		for i := range t.NumField() {
			name, _, _ := strings.Cut(t.Field(i).Tag.Get("json"), ",")
			if name != "" && name != "-" {
				out = append(out, name)
			}
			visit(t.Field(i).Type)
		}
	}
	visit(reflect.TypeOf(of))
	return out
}

// A field is one of a struct, as files have it.
type field struct {
	at    int
	name  string
	omits bool // it is left out where it is empty
}

var known sync.Map // the fields of types

func fieldsOf(t reflect.Type) []field {
	if kept, ok := known.Load(t); ok {
		return kept.([]field)
	}
	var out []field
	for i := range t.NumField() {
		name, rest, _ := strings.Cut(t.Field(i).Tag.Get("json"), ",")
		if name != "" && name != "-" {
			out = append(out, field{i, name, rest == "omitempty"})
		}
	}
	known.Store(t, out)
	return out
}
