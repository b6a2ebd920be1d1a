package emit

import (
	"context"
	"errors"
	"fmt"
	"strings"
	"testing"
	"time"

	"gneiss/core/access"
	"gneiss/core/policy"
	"gneiss/core/query"
)

// nest writes a text n deep: each level stands within the one round it.
func nest(head, tail, inner string, n int) string {
	return strings.Repeat(head, n) + inner + strings.Repeat(tail, n)
}

// TestPlanningGrowsWithTheText: one level or term more costs about as much as the one before.
// Each of these once doubled the work, or the memory.
func TestPlanningGrowsWithTheText(t *testing.T) {
	m, set := platform(t)
	st := flint(t, m)
	sum := func(n int) string { return "depth_m" + strings.Repeat("+1", n) }
	for name, text := range map[string]func(n int) string{
		"a sum beside another": func(n int) string {
			return "SELECT " + sum(n) + " AS c FROM survey.drilling.boreholes ORDER BY depth_m+2"
		},
		"a sum that is grouped by": func(n int) string {
			return "SELECT " + sum(n) + " FROM survey.drilling.boreholes GROUP BY " + sum(n)
		},
		"derived tables with IN": func(n int) string {
			return "SELECT id FROM (" + nest("SELECT id FROM survey.drilling.boreholes WHERE id IN (", ")", "SELECT 1", n) + ") x"
		},
		"EXISTS in EXISTS": func(n int) string {
			return "SELECT 1 WHERE " + nest("EXISTS (SELECT 1 FROM survey.drilling.boreholes b WHERE b.id > 0 AND ", ")", "TRUE", n)
		},
		"sub-queries": func(n int) string { return "SELECT " + nest("(SELECT ", ")", "1", n) },
		"LIMIT": func(n int) string {
			return "SELECT id FROM survey.drilling.boreholes LIMIT 1" + strings.Repeat("+0", n)
		},
	} {
		t.Run(name, func(t *testing.T) {
			cost := func(n int) float64 {
				began := time.Now()
				text := text(n)
				allocs := testing.AllocsPerRun(1, func() { Make(text, nil, st, set) })
				if took := time.Since(began); took > 2*time.Second {
					t.Fatalf("%d of them take %v", n, took)
				}
				return allocs
			}
			for n := 12; n < 40; n++ {
				if less, more := cost(n), cost(n+1); more > 1.3*less {
					t.Fatalf("%d of them take %.0f allocations, and %d take %.0f", n, less, n+1, more)
				}
			}
		})
	}
}

// TestTooLargeIsSaidAsSuch: a text that is too large is refused with the SQLSTATE for it.
func TestTooLargeIsSaidAsSuch(t *testing.T) {
	m, set := platform(t)
	st := flint(t, m)
	for name, text := range map[string]string{
		"many tables": "SELECT 1 FROM survey.drilling.boreholes a0" + joins(1500),
		"deep":        "SELECT " + nest("(SELECT ", ")", "1", 150),
	} {
		var e *query.Error
		if _, err := Make(text, nil, st, set); !errors.As(err, &e) || e.SQLState != "54001" {
			t.Errorf("%s: %v", name, err)
		}
	}
}

func joins(n int) string {
	var b strings.Builder
	for i := range n {
		fmt.Fprintf(&b, " CROSS JOIN survey.drilling.boreholes a%d", i+1)
	}
	return b.String()
}

// TestPlanningEndsWithItsCaller: nobody plans for a caller who has gone.
func TestPlanningEndsWithItsCaller(t *testing.T) {
	m, set := platform(t)
	ctx, cancel := context.WithCancelCause(t.Context())
	gone := errors.New("the caller has gone")
	cancel(gone)
	_, err := MakeOf(ctx, query.Statement{SQL: "SELECT id FROM survey.drilling.boreholes"}, flint(t, m), set)
	if !errors.Is(err, gone) {
		t.Errorf("planning comes to %v", err)
	}
}

// TestManyLabelPolicies: what hundreds of policies by label make of a wide table is worked out
// in a time that grows with their number.
func TestManyLabelPolicies(t *testing.T) {
	m, set := platform(t)
	at := time.Unix(1, 0)
	var changes []access.Change
	for i := range 300 {
		changes = append(changes, access.AddObject{Path: fmt.Sprintf("survey.drilling.boreholes.c%d", i), Kind: "column", Type: "text"})
	}
	for i := range 200 {
		changes = append(changes, access.PutLabel{Label: fmt.Sprintf("label:l%d", i), Topic: "person"})
	}
	m, err := m.Apply(at, changes...)
	if err != nil {
		t.Fatal(err)
	}
	for i := range 200 {
		for _, c := range []policy.Change{
			policy.PlaceLabel{Label: fmt.Sprintf("label:l%d", i), Object: "survey.drilling.boreholes"},
			policy.PutColumnPolicy{
				ScopeText: policy.ScopeText{Name: fmt.Sprintf("p%d", i)},
				Label:     fmt.Sprintf("label:l%d", i),
				Treat:     "suppress",
			},
		} {
			if set, err = set.Apply(c, m); err != nil {
				t.Fatal(err)
			}
		}
	}
	st := flint(t, m)
	began := time.Now()
	g := set.Govern(st, st.Model.Object(mustLookup(t, m, "survey.drilling.boreholes")).ID)
	if took := time.Since(began); took > 500*time.Millisecond {
		t.Errorf("200 policies by label on 300 columns take %v", took)
	}
	if len(g.Columns) < 300 {
		t.Errorf("%d columns are treated", len(g.Columns))
	}
}

func mustLookup(t *testing.T, m *access.Model, path string) access.ObjectID {
	t.Helper()
	o, err := m.Lookup(path)
	if err != nil {
		t.Fatal(err)
	}
	return o.ID
}
