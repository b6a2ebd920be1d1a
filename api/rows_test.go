package api

import (
	"encoding/json"
	"testing"
	"time"

	"gneiss/core/query"
	"gneiss/core/sqltype"
	"gneiss/service/gateway"
	"gneiss/wire"
)

// TestJSONForm compares results written piece by piece with those that encoding/json writes.
func TestJSONForm(t *testing.T) {
	columns := []query.Column{{Name: "id", Type: sqltype.Int4}, {Name: "a \"<é>\"\\\u2028", Type: sqltype.Text, Declared: "character varying(5)"}}
	broke := &wire.Problem{Title: "broken", Status: 500, Code: "internal", Detail: "it <broke>"}
	for _, end := range []gateway.End{
		{Standpoint: "user:flint in role:x for \"<audit>\"", Lane: "interactive", Record: 12},
		{Took: time.Microsecond, Truncated: true},
		{Took: 123456789 * time.Microsecond, Plan: &wire.Plan{SQL: "SELECT 1 < 2", Args: []string{"1=a"}, PlanUS: 7}},
	} {
		want := end.Result(wire.Result{Columns: gateway.ResultColumns(columns), Rows: [][]any{{1, "a"}, {nil, "<b>"}}})
		for _, want.Problem = range []*wire.Problem{nil, broke} {
			f := &jsonForm{}
			b := f.head(nil, columns)
			b = f.row(b, [][]byte{[]byte("1"), []byte("a")})
			b = f.row(b, [][]byte{nil, []byte("<b>")})
			var err error
			if want.Problem == nil {
				b, err = f.end(b, end)
			} else {
				ok := false
				if b, ok = f.broken(b, broke); !ok {
					t.Fatal("it has no place for a problem")
				}
				want = wire.Result{Columns: want.Columns, Rows: want.Rows, Problem: broke}
			}
			wanted, err2 := json.Marshal(want)
			if err != nil || err2 != nil || string(b) != string(wanted) {
				t.Errorf("%s\nwant %s, %v, %v", b, wanted, err, err2)
			}
		}
	}
}
