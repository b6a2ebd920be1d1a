package source_test

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/jackc/pgx/v5/pgconn"

	"gneiss/core/emit"
	"gneiss/core/policy"
	"gneiss/source"
	"gneiss/source/corpus"
	"gneiss/source/grammar"
)

// kept makes the rows of the table that statements change as they were.
const kept = `TRUNCATE s.kept; INSERT INTO s.kept (id, code, v, n, day, tags, name) SELECT i, i * 10, 'v' || i, i * 1.5, DATE '2024-01-01' + i, ARRAY[i, i + 1], chr(96 + i) FROM generate_series(1, 8) AS i`

// TestRandomStatements: without policies a statement does what it does on the server itself: the rows that it gives or gives back,
// in any order, or its error, and what is in the table then. Refused are only those of the templates
// in refusable.
func TestRandomStatements(t *testing.T) {
	url := database(t)
	src, m := onDatabase(t, url, corpus.Tables)
	st := rights(t, m, "flint")
	conn, err := pgconn.Connect(context.Background(), url)
	if err != nil {
		t.Fatal(err)
	}
	defer conn.Close(context.Background())
	do := func(text string) string {
		t.Helper()
		results, err := conn.Exec(context.Background(), text).ReadAll()
		if err != nil {
			t.Fatal(err)
		}
		var rows []string
		for _, row := range results[len(results)-1].Rows {
			rows = append(rows, cells(row))
		}
		return strings.Join(rows, "\n")
	}
	do("SET TimeZone = 'UTC'")
	// asked does something to a table that is as it was, and says what is in it then.
	asked := func(writes bool, ask func() string) string {
		if !writes {
			return ask()
		}
		do(kept)
		return ask() + "\nleaves\n" + do("SELECT * FROM s.kept ORDER BY id")
	}
	compared, writes, failing, refused := 0, 0, 0, map[string]int{}
	for n := range *questions {
		w := grammar.Writer{Tape: grammar.On(grammar.Fill(*leakSeed+7, uint64(n), 200))}
		s := w.Statement()
		if s.Writes {
			writes++
		}
		want := asked(s.Writes, func() string { return askedOfServer(conn, s) })
		plan, err := emit.Make(s.Text, s.Params, st, &policy.Set{})
		got := asked(s.Writes, func() string {
			if err != nil {
				return stateOf(err)
			}
			return done(src, plan)
		})
		fails := strings.HasPrefix(want, "error")
		switch {
		case got == want:
			if compared++; fails {
				failing++
			}
		case err != nil && !fails:
			if refused[refusal(err)]++; refusable[refusal(err)] == 0 {
				t.Errorf("%s %v\nis refused: %v\nthe server gives %.300s", s.Text, s.Params, err, want)
			}
		default:
			sql := ""
			if plan != nil {
				sql = plan.SQL
			}
			t.Errorf("%s %v\ngives %.400s\nthe server %.400s\n%v\n%s", s.Text, s.Params, got, want, err, sql)
		}
	}
	do(kept)
	t.Logf("%d statements are the same, %d of them change rows or would, %d fail; refused are %v", compared, writes, failing, refused)
	if compared < *questions*9/10 || writes < *questions/10 {
		t.Errorf("only %d statements of %d were the same, and %d change rows", compared, *questions, writes)
	}
	for what, n := range refused {
		if n*1000 > refusable[what]**questions {
			t.Errorf("%q is said of %d statements in %d, more than is known of", what, n, *questions)
		}
	}
}

// refusable are what the language is known not to have, with how many of a thousand statements may meet it.
var refusable = map[string]int{
	"this MERGE does nothing":                                      20,
	"the row of a table that an outer join may lack (name its col": 20,
}

// refusal is what a refusal says, without where.
func refusal(err error) string {
	_, text, found := strings.Cut(err.Error(), ": ")
	if !found {
		text = err.Error()
	}
	return text[:min(len(text), 60)]
}

// done runs what was planned, to last, and writes down its rows in order and how many were changed.
func done(src source.Source, plan *emit.Plan) string {
	ctx, cancel := context.WithTimeout(context.Background(), 20*time.Second)
	defer cancel()
	var rows []string
	note := func(row [][]byte) error { rows = append(rows, cells(row)); return nil }
	in := source.Request{SQL: plan.SQL, Args: source.Bind(plan.Args, source.Facts{Start: time.Now(), Key: testKey, Nonce: testNonce}), Columns: plan.Columns}
	var err error
	if plan.Write {
		err = src.Write(ctx, in, note, func(n int64) error { rows = append(rows, fmt.Sprint(n, " rows")); return nil })
	} else {
		err = src.Stream(ctx, in, note)
	}
	if err != nil {
		return stateOf(err)
	}
	slices.Sort(rows)
	return strings.Join(rows, "\n")
}

// askedOfServer does so with the statement itself.
func askedOfServer(conn *pgconn.PgConn, s grammar.Statement) string {
	ctx, cancel := context.WithTimeout(context.Background(), 20*time.Second)
	defer cancel()
	var params [][]byte
	for _, p := range s.Params {
		params = append(params, []byte(fmt.Sprint(p)))
	}
	r := conn.ExecParams(ctx, strings.ReplaceAll(s.Text, "src.", ""), params, nil, nil, nil).Read()
	if r.Err != nil {
		var e *pgconn.PgError
		if errors.As(r.Err, &e) {
			return "error " + e.Code
		}
		return "error " + r.Err.Error()
	}
	var rows []string
	for _, row := range r.Rows {
		rows = append(rows, cells(row))
	}
	if s.Writes {
		rows = append(rows, fmt.Sprint(r.CommandTag.RowsAffected(), " rows"))
	}
	slices.Sort(rows)
	return strings.Join(rows, "\n")
}

// cells writes a row.
func cells(row [][]byte) string {
	out := make([]string, len(row))
	for i, v := range row {
		if out[i] = fmt.Sprintf("%q", v); v == nil {
			out[i] = "NULL"
		}
	}
	return strings.Join(out, ",")
}
