package classify

import (
	"strings"
	"testing"
)

// TestDocumentsAreLookedInto: what a document holds is found, wherever it stands, and told by
// its path and without values.
func TestDocumentsAreLookedInto(t *testing.T) {
	c := Column{Table: "invoices", Name: "doc", Type: "jsonb"}
	for _, name := range []string{"ann", "ben", "cid", "dot", "eve", "fay"} {
		c.Values = append(c.Values, `{"contact": [{"mail": "`+name+`@north.test"}], "lines": 3, "city": "Northmark"}`)
	}
	c.Values = append(c.Values, "no document", "7", `[]`)
	found := Look(c)
	if len(found) != 1 || found[0].Topic != Contact || !strings.Contains(strings.Join(found[0].Evidence, "; "), "at contact.mail") || strings.Contains(strings.Join(found[0].Evidence, " "), "north.test") {
		t.Errorf("found %+v", found)
	}
	if found := Look(Column{Table: "t", Name: "doc", Type: "json", Values: []string{`{"n": 1}`, strings.Repeat(`{"a":`, 100) + "1" + strings.Repeat("}", 100)}}); len(found) != 0 {
		t.Errorf("found %+v in nothing", found)
	}
}
