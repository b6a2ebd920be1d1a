package emit

import (
	"errors"
	"strings"
	"testing"
	"time"

	"gneiss/core/query"
)

// TestDeepTexts sends texts that nest as deep as their length lets them: each is
// refused, and the parser's own stack holds.
func TestDeepTexts(t *testing.T) {
	m, set := platform(t)
	st := flint(t, m)
	n := query.MostText - 100
	long := map[string]bool{"a chain of ORs": true, "a long list": true, "quotes": true, "half dollar quotes": true} // but not deep
	for name, text := range map[string]string{
		"a sum":              "SELECT 1" + strings.Repeat("+1", n/2),
		"negations":          "SELECT " + strings.Repeat("NOT ", n/4) + "true",
		"signs":              "SELECT " + strings.Repeat("- ", n/2) + "1",
		"parentheses":        "SELECT " + strings.Repeat("(", n/2) + "1" + strings.Repeat(")", n/2),
		"open parentheses":   "SELECT " + strings.Repeat("(", n),
		"sub-queries":        strings.Repeat("SELECT (", n/9) + "SELECT 1" + strings.Repeat(")", n/9),
		"derived tables":     strings.Repeat("SELECT * FROM (", n/18) + "SELECT 1" + strings.Repeat(") x", n/18),
		"cases":              "SELECT " + strings.Repeat("CASE WHEN true THEN ", n/25) + "1" + strings.Repeat(" END", n/25),
		"set operations":     "SELECT 1" + strings.Repeat(" UNION SELECT 1", n/15),
		"casts":              "SELECT 1" + strings.Repeat("::int", n/5),
		"joins":              "SELECT 1 FROM survey.drilling.boreholes a" + strings.Repeat(" CROSS JOIN x", n/13),
		"calls":              "SELECT " + strings.Repeat("abs(", n/5) + "1" + strings.Repeat(")", n/5),
		"a chain of ORs":     "SELECT 1 WHERE true" + strings.Repeat(" OR false", n/9),
		"a long list":        "SELECT 1 WHERE 1 IN (1" + strings.Repeat(",1", n/2) + ")",
		"past the length":    "SELECT '" + strings.Repeat("x", query.MostText) + "'",
		"comments that nest": strings.Repeat("/*", n/2),
		"quotes":             "SELECT " + strings.Repeat("'", n),
		"double quotes":      "SELECT " + strings.Repeat(`"`, n),
		"dollar quotes":      "SELECT " + strings.Repeat("$a$", n/3),
		"half dollar quotes": "SELECT $a$" + strings.Repeat("$a", n/2) + "$a$",
		"escapes":            "SELECT " + strings.Repeat("E'\\''", n/6),
		"line comments":      strings.Repeat("--\n", n/3),
		"half numbers":       "SELECT " + strings.Repeat("1.e", n/3),
		"operators":          "SELECT 1 " + strings.Repeat("<->", n/3) + " 1",
		"unicode":            "SELECT " + strings.Repeat("U&'\\0061' ", n/11),
	} {
		t.Run(name, func(t *testing.T) {
			started := time.Now()
			_, err := Make(text, nil, st, set)
			if took := time.Since(started); took > 2*time.Second {
				t.Errorf("refusing it takes %v", took)
			}
			var e *query.Error
			if long[name] {
				if err != nil {
					t.Errorf("a long text that does not nest is refused: %.200v", err)
				}
			} else if !errors.As(err, &e) || strings.Contains(e.Text, "please report it") {
				t.Errorf("got %.200v", err)
			}
		})
	}
}
