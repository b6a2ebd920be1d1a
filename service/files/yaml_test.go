package files

import (
	"encoding/json"
	"reflect"
	"strings"
	"testing"

	"github.com/goccy/go-yaml"
)

// FuzzEncode: what is written is read again as it was, by a reader of YAML that knows nothing of how.
func FuzzEncode(f *testing.F) {
	for _, text := range []string{"", "user:opal", "role: x", "no", "Yes", "1e3", "0x1F", "12:30", "~", "- a", "a #b", "a # b", " a", "a ", "'a'", `"a"`, "a\nb", "a\n b\n", "a\n\nb",
		"\na\nb", "a\nb\n\n", "a\n\tb", "|", ">", "%a", "@a", "a: |", "SELECT id FROM a.b WHERE x <> 'it''s'", "tab\there", "\u2028", "\x7f", "é", "{a}", "[a]", "a:", "a,b",
		"a\n# b\nc", "a\n---\nb", "...", "---", "null", "2027-01-31", "!x", "&a", "*a", "? a", "a  b", "a\r\nb"} {
		f.Add(text, "reason")
	}
	f.Fuzz(func(t *testing.T, a, b string) {
		a, b = strings.ToValidUTF8(a, "?"), strings.ToValidUTF8(b, "?")
		rows := int64(len(a))
		for _, v := range []any{
			&Role{Role: a, Title: b, Grants: []Grant{{Privilege: a, Object: b, Reason: a, Option: true}, {Privilege: b, Object: a}}},
			&Place{Place: b, Views: []View{{View: a, Text: b, Rights: a}}, Relationships: []Relationship{{From: []string{a, b}, To: []string{}}}},
			&Tests{Tests: []Test{{Test: a, Subject: b, Rows: &rows, Columns: map[string]string{"x": a, "y z": b}}}},
			&People{Subjects: []Subject{{Subject: a, Attributes: map[string][]string{"district": {a, b}}}}},
		} {
			text := encode(v)
			got := reflect.New(reflect.TypeOf(v).Elem()).Interface()
			if err := yaml.UnmarshalWithOptions([]byte(text), got, yaml.Strict()); err != nil {
				t.Fatalf("%v in\n%s", err, text)
			}
			want, err := json.Marshal(v)
			if err != nil {
				t.Fatal(err)
			}
			if is, err := json.Marshal(got); err != nil || string(is) != string(want) {
				t.Fatalf("%s\nis read as %s, not %s (%v)", text, is, want, err)
			}
		}
	})
}
