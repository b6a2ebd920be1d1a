package files

import (
	"bytes"
	"encoding/json"
	"fmt"
	"reflect"
	"regexp"
	"slices"
	"strings"
	"unicode"
)

// A million grants are written in seconds this way, and in a minute by a general encoder. What is
// written is a small part of YAML 1.2: block mappings and sequences, and texts that are plain,
// literal where they have several lines, or in double quotes as JSON has them. It is read by a library.

// encode writes a struct of this package, by the names and the omitempty of its fields' json tags, in
// their order.
func encode(v any) string {
	e := &encoder{}
	e.mapping(reflect.Indirect(reflect.ValueOf(v)), 0, "")
	return e.out.String()
}

type encoder struct{ out strings.Builder }

// mapping writes a struct or map. Its first line begins with what begins it, the others with as much
// space. It reports whether there was anything to write.
func (e *encoder) mapping(v reflect.Value, depth int, begins string) bool {
	wrote := false
	put := func(name string, value reflect.Value) {
		if wrote || begins == "" {
			e.indent(depth)
		} else {
			e.out.WriteString(begins)
		}
		wrote = true
		e.out.WriteString(name)
		e.out.WriteByte(':')
		e.value(value, depth)
	}
	if v.Kind() == reflect.Map {
		keys := v.MapKeys()
		slices.SortFunc(keys, func(a, b reflect.Value) int { return strings.Compare(a.String(), b.String()) })
		for _, key := range keys {
			put(plain(key.String()), v.MapIndex(key))
		}
		return wrote
	}
	for _, f := range fieldsOf(v.Type()) {
		if value := v.Field(f.at); !f.omits || !empty(value) {
			put(f.name, value)
		}
	}
	return wrote
}

// empty is what omitempty leaves out.
func empty(v reflect.Value) bool {
	switch v.Kind() {
	case reflect.Slice, reflect.Map:
		return v.Len() == 0
	case reflect.Struct:
		return false
	}
	return v.IsZero()
}

func (e *encoder) value(v reflect.Value, depth int) {
	v = reflect.Indirect(v)
	switch v.Kind() {
	case reflect.Slice:
		if v.Len() == 0 {
			e.out.WriteString(" []\n")
			return
		}
		e.out.WriteByte('\n')
		for i := range v.Len() {
			e.indent(depth + 1)
			if item := reflect.Indirect(v.Index(i)); item.Kind() != reflect.Struct && item.Kind() != reflect.Map {
				e.out.WriteString("- ")
				e.scalar(item, depth+1)
			} else if !e.mapping(item, depth+2, "- ") {
				e.out.WriteString("- {}\n")
			}
		}
	case reflect.Struct, reflect.Map:
		mark := e.out.Len()
		e.out.WriteByte('\n')
		if !e.mapping(v, depth+1, "") {
			kept := e.out.String()[:mark]
			e.out.Reset()
			e.out.WriteString(kept + " {}\n")
		}
	default:
		e.out.WriteByte(' ')
		e.scalar(v, depth)
	}
}

func (e *encoder) indent(depth int) {
	for range depth {
		e.out.WriteString("  ")
	}
}

func (e *encoder) scalar(v reflect.Value, depth int) {
	text := ""
	switch v.Kind() {
	case reflect.String:
		text = v.String()
	case reflect.Invalid: // a pointer to nothing
		e.out.WriteString("null\n")
		return
	default:
		fmt.Fprintln(&e.out, v.Interface())
		return
	}
	if !literal(text) {
		e.out.WriteString(plain(text))
		e.out.WriteByte('\n')
		return
	}
	body, mark := text, "|-\n"
	if strings.HasSuffix(text, "\n") {
		body, mark = text[:len(text)-1], "|\n"
	}
	e.out.WriteString(mark)
	for line := range strings.SplitSeq(body, "\n") {
		if line != "" {
			e.indent(depth + 1)
		}
		e.out.WriteString(line)
		e.out.WriteByte('\n')
	}
}

// literal reports whether a text of several lines can be written as they are: each can be printed, and
// none ends or begins in a way that would be read otherwise.
func literal(text string) bool {
	body := strings.TrimSuffix(text, "\n")
	if !strings.Contains(body, "\n") || strings.HasPrefix(body, " ") || strings.HasPrefix(body, "\n") || strings.HasSuffix(body, "\n") {
		return false
	}
	for _, r := range body {
		if r != '\n' && (!unicode.IsPrint(r) || r == unicode.ReplacementChar) {
			return false
		}
	}
	for line := range strings.SplitSeq(body, "\n") {
		if strings.TrimSpace(line) == "" && line != "" {
			return false
		}
	}
	return true
}

// plainText is a text that is read as itself without quotes: it begins with a letter, and has nothing
// that means something else within a line.
var plainText = regexp.MustCompile(`^[A-Za-z_](?:[A-Za-z0-9_./@*+()=<>',%|-]|:[A-Za-z0-9_]| [A-Za-z0-9_(<=>*'])*$`)

// others are words that some reader takes for no text.
var others = map[string]bool{"true": true, "false": true, "null": true, "yes": true, "no": true, "on": true, "off": true, "y": true, "n": true}

func plain(text string) string {
	if plainText.MatchString(text) && !others[strings.ToLower(text)] {
		return text
	}
	var quoted bytes.Buffer
	e := json.NewEncoder(&quoted)
	e.SetEscapeHTML(false)
	if err := e.Encode(text); err != nil {
		panic(err) // texts always marshal
	}
	return strings.ReplaceAll(strings.TrimSuffix(quoted.String(), "\n"), "\x7f", `\u007f`)
}
