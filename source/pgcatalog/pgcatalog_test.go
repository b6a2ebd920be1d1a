package pgcatalog_test

import (
	"context"
	"errors"
	"flag"
	"fmt"
	"maps"
	"math/rand/v2"
	"os"
	"slices"
	"strings"
	"testing"

	"github.com/jackc/pgx/v5"
	"github.com/jackc/pgx/v5/pgconn"

	"gneiss/core/sqltype"
	"gneiss/source/pgcatalog"
	"gneiss/source/pgtest"
)

var all = flag.Bool("resolve.all", false, "try every operator and routine with every pair of types")

// TestCatalog: what the package sqltype keeps is what the server says.
func TestCatalog(t *testing.T) {
	server := pgtest.Start(t)
	lines, err := pgcatalog.Read(context.Background(), server.URL)
	if err != nil {
		t.Fatal(err)
	}
	kept, err := os.ReadFile("../../core/sqltype/catalog.tsv")
	if err != nil {
		t.Fatal(err)
	}
	if lines != string(kept) {
		t.Error("core/sqltype/catalog.tsv is not what this server says: run go generate in core/sqltype")
	}
}

// connected is a connection to a server of the test's own.
func connected(t *testing.T) *pgx.Conn {
	t.Helper()
	conn, err := pgx.Connect(t.Context(), pgtest.Start(t).URL)
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { conn.Close(context.Background()) })
	return conn
}

// TestResolution: operators and calls mean for sqltype what they mean for the server. The
// operands are NULLs of each type, and literals without one.
func TestResolution(t *testing.T) {
	ctx := t.Context()
	conn := connected(t)
	if _, err := conn.Exec(ctx, "SET search_path = pg_catalog"); err != nil {
		t.Fatal(err)
	}
	var types []*sqltype.Type
	for _, name := range strings.Fields("bool int2 int4 int8 numeric float4 float8 text varchar bpchar name bytea date time timetz timestamp timestamptz interval uuid json jsonb inet cidr bit varbit int4range numrange int4multirange int4[] text[] numeric[] point tsvector") {
		types = append(types, sqltype.Parse(name))
	}
	types = append(types, nil)
	counts := map[string]int{}
	wrong := 0
	try := func(text string, m *sqltype.Match, mine error) {
		s, err := conn.Prepare(ctx, "", "SELECT "+text)
		var e *pgconn.PgError
		if err != nil && !errors.As(err, &e) {
			t.Fatal(err)
		}
		switch {
		case err == nil && mine == nil && s.Fields[0].DataTypeOID == m.Result.OID:
			counts["same"]++
		case err != nil && mine != nil:
			counts["both refuse"]++
		case err == nil && mine != nil:
			counts["refused here alone"]++
			if wrong++; wrong < 40 {
				t.Errorf("%s: the server gives type %d, sqltype: %v", text, s.Fields[0].DataTypeOID, mine)
			}
		case err != nil && strings.HasPrefix(e.Code, "22"), err != nil && e.Code == "0A000", err != nil && e.Code == "42809", err != nil && e.Code == "42803", err != nil && e.Code == "42P13", err != nil && e.Code == "42601":
			counts["resolved, and fails for what it is called with"]++
		case err != nil && e.Code == "42725":
			counts["one meaning here, several there, of types that are inside the server"]++
		default:
			counts["different"]++
			if wrong++; wrong < 40 {
				t.Errorf("%s: sqltype gives %v %v, the server %v", text, m.Args, m.Result, err)
			}
		}
	}
	operand := func(typ *sqltype.Type) string {
		if typ == nil {
			return "NULL"
		}
		return "NULL::" + typ.Name
	}
	random := rand.New(rand.NewPCG(7, 7))
	some := func(n int) bool { return *all || random.IntN(n) == 0 }
	operators := slices.Sorted(sqltype.OperatorNames())
	for _, name := range operators {
		for _, l := range types {
			for _, r := range types {
				if some(12) {
					m, err := sqltype.Binary(name, l, r)
					try(fmt.Sprintf("%s OPERATOR(pg_catalog.%s) %s", operand(l), name, operand(r)), m, err)
				}
			}
			m, err := sqltype.Prefix(name, l)
			try(fmt.Sprintf("OPERATOR(pg_catalog.%s) %s", name, operand(l)), m, err)
		}
	}
	for _, name := range slices.Sorted(sqltype.Names()) {
		routines := sqltype.Routines(name)
		if slices.ContainsFunc(routines, func(r *sqltype.Routine) bool {
			return r.Kind != sqltype.Function || r.Result == sqltype.Record || len(r.Out) > 0
		}) {
			continue
		}
		least, most := 9, 0
		for _, r := range routines {
			least, most = min(least, len(r.Args)-r.Defaults), max(most, len(r.Args))
		}
		for n := least; n <= min(most, 4); n++ {
			for range map[bool]int{true: 400, false: 12}[*all] {
				args, texts := make([]*sqltype.Type, n), make([]string, n)
				for i := range args {
					args[i] = types[random.IntN(len(types))]
					if r := routines[random.IntN(len(routines))]; len(r.Args) > i && random.IntN(3) > 0 && r.Args[i].Kind != sqltype.Pseudo {
						args[i] = r.Args[i]
					}
					texts[i] = operand(args[i])
				}
				m, err := sqltype.Call(name, args, false)
				if err != nil && n == 1 && sqltype.Parse(name) != nil {
					continue // it is a cast
				}
				try(fmt.Sprintf("pg_catalog.%q(%s)", name, strings.Join(texts, ", ")), m, err)
			}
		}
	}
	t.Log(counts)
}

// edges are the values at the edges of each type.
var edges = map[string][]string{
	"bool": {"true", "false"}, "int2": {"-32768", "32767", "0"}, "int4": {"-2147483648", "2147483647", "0", "-1"}, "int8": {"-9223372036854775808", "9223372036854775807", "0"},
	"numeric": {"1e131000", "-1e131000", "1e-16000", "NaN", "Infinity", "-Infinity", "0"}, "float4": {"3.4e38", "-3.4e38", "1e-45", "NaN", "Infinity"}, "float8": {"1.7e308", "-1.7e308", "5e-324", "NaN", "-Infinity", "0"},
	"text": {"", "([{%\\", "é\u0301", "\U0010ffff", strings.Repeat("x", 3000)}, "varchar": {"", "%\\", "ß"}, "bpchar": {"", "  ", "\\"}, "name": {"", "\\%", strings.Repeat("n", 63)}, "char": {"", "x"},
	"bytea": {"\\x", "\\x00ff"}, "date": {"4713-01-01 BC", "5874897-12-31", "infinity", "-infinity"}, "time": {"00:00", "24:00:00"}, "timetz": {"00:00+15:59", "24:00:00-15:59"},
	"timestamp": {"4713-01-01 00:00:00 BC", "294276-12-31 23:59:59", "infinity", "-infinity"}, "timestamptz": {"4713-01-01 00:00:00+00 BC", "294276-12-31 23:59:59+00", "infinity", "-infinity"},
	"interval": {"-178000000 years", "178000000 years", "2147483647 days", "0"}, "uuid": {"00000000-0000-0000-0000-000000000000", "ffffffff-ffff-ffff-ffff-ffffffffffff"},
	"inet": {"0.0.0.0/0", "ffff::/128", "255.255.255.255"}, "cidr": {"::/0", "10.0.0.0/8"}, "macaddr": {"ff:ff:ff:ff:ff:ff"}, "macaddr8": {"ff:ff:ff:ff:ff:ff:ff:ff"}, "bit": {"1", "0"}, "varbit": {"", "101"},
	"json": {"{}", "\"x\"", "null", "[1e999]"}, "jsonb": {"{}", "\"\"", "null", "[1e999, {\"a\": [[]]}]", "0"}, "int4range": {"empty", "(,)", "[2147483646,2147483647)"}, "int8range": {"empty", "(,)"}, "numrange": {"empty", "[1e1000,)"},
	"daterange": {"empty", "(,5874897-12-31)"}, "tsrange": {"empty", "(,)"}, "tstzrange": {"empty", "(,infinity)"}, "_text": {"{}", "{NULL}", "{\"\",x}"}, "_int4": {"{}", "{{1,2},{3,4}}"}, "_numeric": {"{}"},
}

func edgesOf(t *sqltype.Type) string {
	name := map[string]string{"anyelement": "text", "any": "text", "anynonarray": "text", "anycompatible": "text", "anyarray": "_text", "anycompatiblearray": "_text", "anyrange": "numrange"}[t.Internal]
	if name == "" {
		name = t.Internal
	}
	var list []string
	for _, v := range edges[name] {
		list = append(list, fmt.Sprintf("('%s'::pg_catalog.%q)", strings.ReplaceAll(v, "'", "''"), name))
	}
	if list == nil {
		return ""
	}
	return strings.Join(append(list, "(NULL)"), ", ")
}

// TestWhatNeverFails: what sqltype says can be worked out on any value does not fail on the
// values at the edges of its types, in any combination.
func TestWhatNeverFails(t *testing.T) {
	ctx := t.Context()
	conn := connected(t)
	tried := 0
	try := func(what, expr string, operands ...*sqltype.Type) {
		from, names := "", []string{}
		for i, o := range operands {
			list := edgesOf(o)
			if list == "" {
				return
			}
			from += fmt.Sprintf("%s (VALUES %s) AS v%d (x%d)", map[bool]string{true: "", false: ","}[i == 0], list, i, i)
			names = append(names, fmt.Sprintf("x%d", i))
		}
		text := "SELECT count(" + fmt.Sprintf(expr, anySlice(names)...) + ") FROM" + from
		if len(operands) == 0 {
			return
		}
		tried++
		if _, err := conn.Exec(ctx, text); err != nil {
			t.Errorf("%s: %v\n%.300s", what, err, text)
		}
	}
	for _, name := range slices.Sorted(sqltype.OperatorNames()) {
		for _, o := range sqltype.Operators(name) {
			if o.Total() && !o.LeakProof {
				try("operator "+name, "%s OPERATOR(pg_catalog."+strings.ReplaceAll(name, "%", "%%")+") %s", o.Left, o.Right)
			}
		}
	}
	for _, name := range slices.Sorted(sqltype.Names()) {
		for _, r := range sqltype.Routines(name) {
			units := map[string]bool{"date_part": true, "extract": true} // whose first operand the writer of the condition names
			if r.Total() && !r.LeakProof && r.Kind == sqltype.Function && len(r.Args) > 0 && !units[name] {
				try("function "+name, fmt.Sprintf("pg_catalog.%q(%s)", name, strings.TrimSuffix(strings.Repeat("%s, ", len(r.Args)), ", ")), r.Args...)
			}
		}
	}
	for _, from := range slices.Sorted(maps.Keys(edges)) {
		for _, to := range slices.Sorted(maps.Keys(edges)) {
			if a, b := sqltype.Parse(from), sqltype.Parse(to); a != nil && b != nil && a != b && sqltype.SafeCast(a, b) {
				try("cast", fmt.Sprintf("CAST(%%s AS pg_catalog.%q)", to), a)
			}
		}
	}
	t.Logf("%d were tried", tried)
	if tried < 150 {
		t.Errorf("only %d were tried", tried)
	}
}

func anySlice(list []string) []any {
	out := make([]any, len(list))
	for i, s := range list {
		out[i] = s
	}
	return out
}
