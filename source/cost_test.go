package source_test

import (
	"strings"
	"testing"

	"gneiss/core/emit"
	"gneiss/core/policy"
	"gneiss/source/corpus"
	"gneiss/source/grammar"
)

// nest writes a production so many times in the next, alternating between two; what is not nested is a column.
func nest(outer, inner grammar.Production, times int) string {
	plain := map[string]string{"number": "t.int4", "integer": "t.int4", "text": "t.text", "time": "t.date", "day": "t.date", "truth": "t.bool", "json": "t.jsonb", "array": "t._int4"}
	text := plain[inner.Makes]
	for n := range times {
		p := outer
		if n%2 == 0 {
			p = inner
		}
		w := grammar.Writer{Tape: grammar.On(nil), Reads: true}
		nested := false
		text = w.Make(p, func(kind string) string {
			if !nested && (kind == nestedKind(outer, inner, n) || kind == "any") {
				nested = true
				return text
			}
			return plain[kind]
		})
	}
	return text
}

// nestedKind is what the production that is nested at a step makes.
func nestedKind(outer, inner grammar.Production, n int) string {
	if n == 0 {
		return ""
	}
	if n%2 == 0 {
		return outer.Makes
	}
	return inner.Makes
}

// takes reports whether a production has a gap for what another makes.
func takes(p, what grammar.Production) bool {
	return strings.Contains(p.Text, "<"+what.Makes+">") || strings.Contains(p.Text, "<any>") && what.Makes != "json" && what.Makes != "array"
}

// mostPlanned is how many allocations the planning of a statement may take, of which much is a copy.
const mostPlanned = 5e6

// TestCostGrowsWithTheText: each expression nested in itself, and in each other one, one time more costs little more: nothing that
// one writes makes planning take a multiple for each level. What the language itself copies, as BETWEEN does its operand, is
// refused before it costs much. Allocations are counted, and no time.
func TestCostGrowsWithTheText(t *testing.T) {
	_, m := onPostgreSQL(t, corpus.Tables)
	st := rights(t, m, "flint")
	set := setOf(t, m,
		policy.PutRowPolicy{ScopeText: policy.ScopeText{Name: "t"}, Table: "src.s.typed", Rule: "int4 > 20 AND EXISTS (SELECT 1 FROM other WHERE other.typed_id = typed.id)"},
		policy.PutRowPolicy{ScopeText: policy.ScopeText{Name: "o"}, Table: "src.s.other", Rule: "amount > 3"},
		policy.PutColumnPolicy{ScopeText: policy.ScopeText{Name: "c"}, Columns: []string{"src.s.typed.text"}, Treat: "suppress"})
	forms := []string{"SELECT t.id FROM src.s.typed AS t WHERE (%) IS NOT NULL", "SELECT (%), count(*) FROM src.s.typed AS t GROUP BY 1 ORDER BY 1"}
	cost := func(text string) (allocations float64, err error) {
		allocations = testing.AllocsPerRun(1, func() { _, err = emit.Make(text, nil, st, set) })
		return allocations, err
	}
	pairs, measured, bounded := 0, 0, 0
	for _, outer := range grammar.Productions {
		for _, inner := range grammar.Productions {
			if !takes(outer, inner) || !takes(inner, outer) {
				continue
			}
			pairs++
			for f, form := range forms {
				depths := []int{8, 14}
				if outer == inner {
					depths = []int{8, 16, 32, 62}
				} else if (pairs+f)%2 == 0 && !*allPairs {
					continue
				}
				text := func(times int) string { return strings.Replace(form, "%", nest(outer, inner, times), 1) }
				for _, times := range depths {
					n, err := cost(text(times))
					if err != nil {
						break // it is not of the language, or no longer planned
					}
					measured++
					next, err := cost(text(times + 2)) // one of each
					if err != nil || next <= 1.3*1.3*n {
						continue
					}
					all, err := cost(text(64))
					if stateOf(err) != "error 54001" || all > mostPlanned {
						t.Errorf("%s in %s, %d times, takes %.0f allocations, twice more %.0f, and 64 times %.0f (%v)\n%.300s", inner.Text, outer.Text, times, n, next, all, err, nest(outer, inner, times))
					}
					bounded++
					break
				}
			}
		}
	}
	if t.Logf("%d pairs, measured %d times; %d are refused when they are long", pairs, measured, bounded); pairs < 500 || measured < pairs {
		t.Errorf("only %d pairs were measured %d times", pairs, measured)
	}
}
