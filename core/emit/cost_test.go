package emit

import (
	"errors"
	"fmt"
	"strings"
	"testing"
	"time"

	"gneiss/core/access"
	"gneiss/core/query"
)

// TestCopiesAreBounded: what is written more than once, within what is written more
// than once, is refused before it is written.
func TestCopiesAreBounded(t *testing.T) {
	m, set := platform(t)
	for i := range 12 { // each reads the one before twice
		from := "drilling.boreholes"
		if i > 0 {
			from = fmt.Sprintf("drilling.v%d", i-1)
		}
		next, err := m.Apply(time.Unix(1, 0), access.PutView{Path: fmt.Sprintf("survey.drilling.v%d", i), Text: "SELECT a.id FROM " + from + " AS a JOIN " + from + " AS b ON a.id = b.id",
			Rights: access.OwnerRights, Owner: "user:flint", Columns: []access.ViewColumn{{Name: "id", Type: "bigint"}}})
		if err != nil {
			t.Fatal(err)
		}
		m = next
	}
	st := flint(t, m)
	nested := func(head, inner, tail string, n int) string {
		return "SELECT " + strings.Repeat(head, n) + inner + strings.Repeat(tail, n) + " FROM survey.drilling.boreholes"
	}
	for _, c := range []struct{ name, head, inner, tail string }{
		{"abs", "abs(", "depth_m", ")"}, {"floor", "floor(", "depth_m", ")"}, {"greatest", "greatest(1, ", "depth_m", ")"}, {"greatest of four", "least(1, 2, 3, ", "depth_m", ")"},
		{"date_trunc", "date_trunc('quarter', ", "at", ")"}, {"BETWEEN", "(", "released", " BETWEEN false AND true)"}, {"CASE", "CASE ", "id", " WHEN 1 THEN 1 WHEN 2 THEN 2 END"},
		{"BETWEEN of sub-queries", "(SELECT ", "released", " BETWEEN false AND true)"},
	} {
		for _, n := range []int{3, 12, 20, 48} {
			began := time.Now()
			plan, err := Make(nested(c.head, c.inner, c.tail, n), nil, st, set)
			if took := time.Since(began); took > time.Second {
				t.Errorf("%s, %d deep, takes %v", c.name, n, took)
			}
			if plan != nil && len(plan.SQL) > 4_000_000 {
				t.Errorf("%s, %d deep, comes to %d bytes", c.name, n, len(plan.SQL))
			}
			if n == 3 && err != nil {
				t.Errorf("%s, %d deep: %v", c.name, n, err)
			}
			var e *query.Error
			if n == 48 && (!errors.As(err, &e) || e.Code != query.Unsupported) {
				t.Errorf("%s, %d deep, is taken: %v", c.name, n, err)
			}
		}
	}
	if _, err := Make("SELECT count(*) FROM survey.drilling.v4", nil, st, set); err != nil {
		t.Errorf("a view that reads a table 32 times: %v", err)
	}
	if _, err := Make("SELECT count(*) FROM survey.drilling.v11", nil, st, set); err == nil || !strings.Contains(err.Error(), "is too large once expanded") {
		t.Errorf("a view that reads a table 4096 times: %v", err)
	}
}
