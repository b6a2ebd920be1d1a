package files

import (
	"reflect"
	"strings"
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
