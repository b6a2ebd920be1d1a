// Package corpus writes statements that a PostgreSQL server is asked, too, by tests of what Gneiss answers:
// each operator, routine and cast that the language has, over columns of all types, a list that was
// written by hand, and random ones. They name tables of the schema s of a source src.
package corpus

import (
	_ "embed"
	"fmt"
	"iter"
	"math/rand/v2"
	"slices"
	"strings"

	"gneiss/core/sqltype"
	"gneiss/source/grammar"
)

// Tables makes the table typed with a column of each type, by the type's name in the catalog.
//
//go:embed tables.sql
var Tables string

// The parts of the corpus.
const (
	Calls     = "operators, routines and casts"
	Written   = "statements"
	Nested    = "random expressions"
	Questions = "random questions"
)

// A Statement is one of the corpus.
type Statement struct {
	Text      string
	Part      string
	Unordered bool // its rows come in any order
	Gap       bool // the language is known not to have it
}

//go:embed statements.sql
var written string

// Statements are the whole corpus, with so many random questions, which depend on the seed.
func Statements(seed uint64, questions int) iter.Seq[Statement] {
	return func(yield func(Statement) bool) {
		for _, text := range calls() {
			if !yield(Statement{Text: text, Part: Calls}) {
				return
			}
			// Of all rows some values fail.
			if all := strings.Replace(text, " WHERE id <> 2", "", 1); all != text && !yield(Statement{Text: all, Part: Calls}) {
				return
			}
		}
		for text := range strings.SplitSeq(written, ";\n") {
			text = strings.TrimSpace(text)
			gap := strings.HasPrefix(text, "-- gap")
			if text != "" && (gap || !strings.HasPrefix(text, "--")) && !yield(Statement{Text: text, Part: Written, Gap: gap}) {
				return
			}
		}
		r := rand.New(rand.NewPCG(3, 5))
		for range 400 {
			if !yield(Statement{Text: nested(r), Part: Nested}) {
				return
			}
		}
		for n := range questions {
			w := grammar.Writer{Tape: grammar.On(grammar.Fill(seed, uint64(n), 200)), Reads: true}
			if !yield(Statement{Text: w.Statement().Text, Part: Questions, Unordered: true}) {
				return
			}
		}
	}
}

// Columns are those of typed, but for its key and its enumeration.
var Columns = strings.Fields(`bool int2 int4 int8 numeric float4 float8 text varchar bpchar name bytea date time timetz
	timestamp timestamptz interval uuid json jsonb jsonpath inet cidr macaddr macaddr8 bit varbit
	point box circle lseg line path polygon tsvector tsquery int4range int8range numrange daterange tsrange tstzrange
	int4multirange int8multirange nummultirange datemultirange tsmultirange tstzmultirange
	_int4 _text _numeric _jsonb _float8 _bool _int8 _date`)

// OperandsOf lists what can stand for an operand that is declared so.
func OperandsOf(declared *sqltype.Type) []string {
	switch declared.Internal {
	case "any", "anyelement", "anycompatible":
		return []string{"int4", "text", "numeric", "_int4", "date"}
	case "anynonarray", "anycompatiblenonarray":
		return []string{"int4", "text", "numeric"}
	case "anyarray", "anycompatiblearray":
		return []string{"_int4", "_text", "_numeric"}
	case "anyrange", "anycompatiblerange":
		return []string{"int4range", "numrange"}
	case "anymultirange", "anycompatiblemultirange":
		return []string{"int4multirange", "nummultirange"}
	case "anyenum":
		return []string{"rock"}
	}
	if slices.Contains(Columns, declared.Internal) {
		return []string{declared.Internal}
	}
	return nil
}

// CallsOf writes calls of a routine over the table's columns.
func CallsOf(r *sqltype.Routine) []string {
	var out []string
	for n := len(r.Args) - r.Defaults; n <= len(r.Args); n++ {
		for shift := range 3 {
			var args []string
			for _, a := range r.Args[:n] {
				list := OperandsOf(a)
				if list == nil {
					break
				}
				args = append(args, list[shift%len(list)])
			}
			if len(args) < n {
				continue
			}
			if text := strings.Join(args, ", "); !slices.Contains(out, text) {
				out = append(out, text)
			}
		}
	}
	return out
}

// varying are routines whose answer is another each time.
var varying = strings.Fields(
	"random gen_random_uuid clock_timestamp now transaction_timestamp statement_timestamp hash_record hash_record_extended age",
)

// calls are statements with each operator, routine and cast that the language has.
func calls() []string {
	var out []string
	add := func(text string) { out = append(out, text) }
	from := " FROM src.s.typed WHERE id <> 2 ORDER BY id"
	for _, name := range slices.Sorted(sqltype.OperatorNames()) {
		for _, o := range sqltype.Operators(name) {
			for _, r := range OperandsOf(o.Right) {
				if o.Left == nil {
					add("SELECT " + name + " " + r + from)
					continue
				}
				for _, l := range OperandsOf(o.Left) {
					add("SELECT " + l + " " + name + " " + r + from)
				}
			}
		}
	}
	for _, name := range slices.Sorted(sqltype.Names()) {
		for _, r := range sqltype.Routines(name) {
			for _, args := range CallsOf(r) {
				call := `"` + name + `"(` + args + ")"
				switch {
				case slices.Contains(varying, name):
				case r.Kind == sqltype.Aggregate && r.Ordered != 'n':
				case r.Kind == sqltype.Aggregate:
					add("SELECT " + call + " FROM src.s.typed WHERE id < 3")
				case r.Kind == sqltype.Window:
					add("SELECT " + call + " OVER (ORDER BY id)" + from)
				case r.Result == sqltype.Record || len(r.Out) > 1:
					add("SELECT f.* FROM src.s.typed, " + call + " AS f ORDER BY id")
				default:
					add("SELECT " + call + from)
				}
			}
		}
	}
	for _, from := range Columns {
		for _, to := range Columns {
			if !strings.HasPrefix(to, "_") {
				add("SELECT " + from + "::" + to + " FROM src.s.typed WHERE id = 1")
			}
		}
	}
	return out
}

// nested nests operators and routines over the table at random.
func nested(r *rand.Rand) string {
	var value func(t *sqltype.Type, depth int) string
	value = func(want *sqltype.Type, depth int) string {
		if depth > 0 {
			for range 6 {
				names := slices.Sorted(sqltype.OperatorNames())
				list := sqltype.Operators(names[r.IntN(len(names))])
				o := list[r.IntN(len(list))]
				if o.Result == want && o.Left != nil && OperandsOf(o.Left) != nil && OperandsOf(o.Right) != nil && o.Left.Kind != sqltype.Pseudo &&
					o.Right.Kind != sqltype.Pseudo {
					return "(" + value(o.Left, depth-1) + " " + o.Name + " " + value(o.Right, depth-1) + ")"
				}
			}
		}
		if list := OperandsOf(want); list != nil {
			return list[0]
		}
		return "NULL"
	}
	kinds := []*sqltype.Type{
		sqltype.Numeric,
		sqltype.Int4,
		sqltype.Float8,
		sqltype.Text,
		sqltype.Boolean,
		sqltype.Date,
		sqltype.Timestamp,
		sqltype.Interval,
		sqltype.JSONB,
	}
	k := kinds[r.IntN(len(kinds))]
	return fmt.Sprintf("SELECT %s, CASE WHEN %s THEN %s ELSE %s END FROM src.s.typed WHERE %s IS NOT NULL OR id < 4 ORDER BY id",
		value(k, 3), value(sqltype.Boolean, 2), value(k, 2), value(k, 1), value(sqltype.Boolean, 2))
}
