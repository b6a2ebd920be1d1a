package pgcatalog_test

import (
	"context"
	"errors"
	"flag"
	"fmt"
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

// TestResolution: operators and calls mean for sqltype what they mean for the server. The
// operands are NULLs of each type, and literals without one.
func TestResolution(t *testing.T) {
	server := pgtest.Start(t)
	ctx := context.Background()
	conn, err := pgx.Connect(ctx, server.URL)
	if err != nil {
		t.Fatal(err)
	}
	defer conn.Close(ctx)
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
