package api_test

import (
	"bufio"
	"bytes"
	"database/sql"
	"encoding/json"
	"fmt"
	"io"
	"net/http"
	"strconv"
	"strings"
	"testing"

	"github.com/jackc/pgx/v5/stdlib"

	"gneiss/client"
	"gneiss/demo/demotest"
	"gneiss/source/pgtest"
	"gneiss/wire"
)

// extremes are the values at the ends of the types, and the awkward ones between.
var extremes = []struct {
	typ    string
	values []string
}{
	{"smallint", []string{"-32768", "32767"}},
	{"integer", []string{"-2147483648", "0"}},
	{"bigint", []string{"9007199254740992", "9007199254740993", "-9223372036854775808", "9223372036854775807"}},
	{"numeric", []string{"NaN", "Infinity", "-Infinity", "0.10", "-0.00", "1e400", "123456789012345678901234567890.123456789012345678901234567890"}},
	{"numeric(12,2)", []string{"-5.25", "9999999999.99", "0"}},
	{"real", []string{"NaN", "-Infinity", "3.4028235e38", "1e-45", "0.1"}},
	{"double precision", []string{"NaN", "Infinity", "1.7976931348623157e308", "5e-324", "0.1", "-0"}},
	{"text", []string{"", "a,\"b\"\r\n'c'", "=1+1", "x\ny", "x\ry", "NULL", "\\N", "ßéü 漢 \U0001f469\u200d\U0001f4bb", "<&>"}},
	{"character varying(5)", []string{"ab   "}},
	{"character(5)", []string{"ab", ""}},
	{"boolean", []string{"true", "false"}},
	{"bytea", []string{"\\x", "\\x00ff00", "\\x22272c0a"}},
	{"date", []string{"4713-01-01 BC", "0044-03-15 BC", "5874897-12-31", "infinity", "-infinity", "10000-01-01"}},
	{"time without time zone", []string{"24:00:00", "23:59:59.999999"}},
	{"time with time zone", []string{"00:00:00+15:59", "12:00:00.5-03:30"}},
	{"timestamp without time zone", []string{"4713-01-01 00:00:00 BC", "294276-12-31 23:59:59.999999", "-infinity"}},
	{"timestamp with time zone", []string{"2024-01-01 00:00:00+02", "1900-01-01 00:00:00+00:19:32", "infinity"}},
	{"interval", []string{"-178000000 years", "1 mon -1 day 00:00:00.000001", "00:00:00"}},
	{"uuid", []string{"0F8FAD5B-d9cb-469f-a165-70867728950e"}},
	{"json", []string{`{"b": 1.50, "a":  [null], "b": 2}`, "null", `"\u0041"`}},
	{"jsonb", []string{`{"b": 1.50, "a":  [null], "n": 12345678901234567890.10}`, "null", "[]"}},
	{"integer[]", []string{"{}", "{NULL,1}", "{{1,2},{3,4}}", "[0:1]={5,6}"}},
	{"text[]", []string{`{"", NULL, "NULL", "a,b", "\"", "\\"}`}},
	{"numeric[]", []string{"{1.50,NaN}"}},
	{"int4range", []string{"empty", "[1,5)", "(,)"}},
	{"inet", []string{"10.0.0.1/8", "::1"}},
	{"bit varying(5)", []string{"", "10101"}},
	{"money", []string{"-12.34"}},
	{"point", []string{"(1e300,-0.1)"}},
	{"xml", []string{"<a b=\"c\">&lt;</a>"}},
	{"tsvector", []string{"'a':1A 'b''c'"}},
	{"kind", []string{"soft", "it's, hard"}},
	{"pair", []string{`(1,"a ""b""")`, "(,)"}},
	{"depth", []string{"7"}},
}

// TestValuesAreTheServersOwn holds the values of all types, at their ends, in JSON, CSV and lines:
// each is the text that the server itself gives, as a JSON number or truth value where JSON has
// the same. What goes in as a parameter comes to be stored as the server itself reads it.
func TestValuesAreTheServersOwn(t *testing.T) {
	pg := pgtest.Start(t)
	url, err := pg.Database("ends")
	if err != nil {
		t.Fatal(err)
	}
	text := `CREATE TYPE kind AS ENUM ('soft', 'it''s, hard'); CREATE TYPE pair AS (a integer, b text); CREATE DOMAIN depth AS integer CHECK (VALUE > 0);
		CREATE TABLE large (id integer PRIMARY KEY, doc json); INSERT INTO large SELECT 1, json_agg(md5(n::text)) FROM generate_series(1, 30000) AS n;`
	for i, e := range extremes {
		text += fmt.Sprintf("CREATE TABLE t%d (id integer PRIMARY KEY, v %s); INSERT INTO t%d VALUES (0, NULL)", i, e.typ, i)
		for j, v := range e.values {
			text += fmt.Sprintf(", (%d, '%s')", j+1, strings.ReplaceAll(v, "'", "''"))
		}
		text += ";"
	}
	if err := pg.Exec(url, text); err != nil {
		t.Fatal(err)
	}
	db, err := sql.Open("pgx", url)
	if err != nil {
		t.Fatal(err)
	}
	defer db.Close()
	server := demotest.StartEmpty(t)
	opal := demotest.SignIn(t, server, "opal")
	if _, err := client.Send[wire.Changed](t.Context(), opal, "POST", "/sources", wire.SourceRequest{Name: "ends", Location: url}); err != nil {
		t.Fatal(err)
	}
	ask := func(columns, table, accept string, safe ...bool) []byte {
		body, _ := json.Marshal(wire.QueryRequest{SQL: "SELECT " + columns + " FROM ends.public." + table + " ORDER BY id", CSVSafe: len(safe) > 0})
		r, _ := http.NewRequest("POST", server+"/api/v1/queries", bytes.NewReader(body))
		r.Header.Set("Authorization", "Bearer "+opal.Token)
		r.Header.Set("Content-Type", "application/json")
		r.Header.Set("Accept", accept)
		answer, err := http.DefaultClient.Do(r)
		if err != nil {
			t.Fatal(err)
		}
		defer answer.Body.Close()
		got, err := io.ReadAll(answer.Body)
		if err != nil || answer.StatusCode != http.StatusOK {
			t.Fatalf("%s: %d, %v: %s", table, answer.StatusCode, err, got)
		}
		return got
	}
	for i, e := range extremes {
		table := fmt.Sprint("t", i)
		want := ownTexts(t, db, "SELECT "+ownText(e.typ)+" FROM "+table+" ORDER BY id")
		var result struct {
			Columns []wire.ResultColumn
			Rows    [][]json.RawMessage
		}
		if err := json.Unmarshal(ask("v", table, "application/json"), &result); err != nil || len(result.Rows) != len(want) {
			t.Fatalf("%s: %d rows, %v", e.typ, len(result.Rows), err)
		}
		typ := strings.TrimSuffix(e.typ, " without time zone")
		if e.typ == "depth" {
			typ = "integer" // as the server says of a domain
		}
		if got := result.Columns[0].Type; got != typ && got != "public."+typ {
			t.Errorf("%s is told as %s", e.typ, got)
		}
		lines := bufio.NewScanner(bytes.NewReader(ask("v", table, "application/jsonl")))
		if got, want := string(ask("id, v", table, "text/csv")), "id,v\r\n"+ownCSV(t, db, ownText(e.typ), table, len(want)); got != want {
			t.Errorf("%s in CSV:\n%q, want\n%q", e.typ, got, want)
		}
		for j, w := range want {
			if got := ofJSON(t, result.Rows[j][0]); !sameValue(e.typ, got, w) {
				t.Errorf("%s in JSON: %s, want %s", e.typ, shown(got), shown(w))
			}
			var line map[string]json.RawMessage
			if !lines.Scan() || json.Unmarshal(lines.Bytes(), &line) != nil {
				t.Fatalf("%s: no line %d", e.typ, j)
			}
			if got := ofJSON(t, line["v"]); !sameValue(e.typ, got, w) {
				t.Errorf("%s in lines: %s, want %s", e.typ, shown(got), shown(w))
			}
		}
	}
	for i, e := range extremes {
		for j, v := range e.values {
			in := wire.QueryRequest{SQL: fmt.Sprintf("INSERT INTO ends.public.t%d (id, v) VALUES ($1, $2)", i), Params: []any{100 + j, v}}
			if _, err := client.Send[wire.Result](t.Context(), opal, "POST", "/queries", in); err != nil {
				t.Errorf("%s as a parameter of %s: %v", v, e.typ, err)
			}
		}
		was := ownTexts(t, db, fmt.Sprintf("SELECT v::text FROM t%d WHERE id BETWEEN 1 AND 99 ORDER BY id", i))
		is := ownTexts(t, db, fmt.Sprintf("SELECT v::text FROM t%d WHERE id > 99 ORDER BY id", i))
		for j := range was {
			if j >= len(is) || *is[j] != *was[j] {
				t.Errorf("%s %q as a parameter is not what it was", e.typ, *was[j])
			}
		}
	}
	if got := string(ask("-1.50 AS n, '-1.50'::text AS t, '-Infinity'::numeric AS i", "large", "text/csv", true)); got != "n,t,i\r\n-1.50,'-1.50,'-Infinity\r\n" {
		t.Errorf("CSV for a spreadsheet: %q", got)
	}
	var result struct{ Rows [][]string }
	want := ownTexts(t, db, "SELECT doc::text FROM large")
	if err := json.Unmarshal(ask("doc", "large", "application/json"), &result); err != nil || len(*want[0]) < 1<<20 || result.Rows[0][0] != *want[0] {
		t.Errorf("a document of %d bytes is %d bytes in JSON, %v", len(*want[0]), len(result.Rows[0][0]), err)
	}
}

// ownText is the value v as the server sends it; a cast would give less of some types.
func ownText(typ string) string {
	if typ == "boolean" {
		return "v::text"
	}
	return "CASE WHEN v::text IS NOT NULL THEN format('%s', v) END"
}

// ownCSV is the server's own CSV of a table, row by row, for its rows end in a line feed alone.
func ownCSV(t *testing.T, db *sql.DB, v, table string, rows int) string {
	t.Helper()
	conn, err := db.Conn(t.Context())
	if err != nil {
		t.Fatal(err)
	}
	defer conn.Close()
	var out strings.Builder
	err = conn.Raw(func(driver any) error {
		for id := range rows {
			var b bytes.Buffer
			copied := fmt.Sprintf("COPY (SELECT id, %s FROM %s WHERE id = %d) TO STDOUT (FORMAT csv)", v, table, id)
			if _, err := driver.(*stdlib.Conn).Conn().PgConn().CopyTo(t.Context(), &b, copied); err != nil {
				return err
			}
			out.WriteString(strings.TrimSuffix(b.String(), "\n") + "\r\n")
		}
		return nil
	})
	if err != nil {
		t.Fatal(err)
	}
	return out.String()
}

func ownTexts(t *testing.T, db *sql.DB, text string) (out []*string) {
	t.Helper()
	rows, err := db.Query(text)
	if err != nil {
		t.Fatal(err)
	}
	defer rows.Close()
	for rows.Next() {
		var v *string
		if err := rows.Scan(&v); err != nil {
			t.Fatal(err)
		}
		out = append(out, v)
	}
	return out
}

func ofJSON(t *testing.T, raw json.RawMessage) *string {
	t.Helper()
	text := string(raw)
	switch {
	case text == "null":
		return nil
	case text[0] == '"':
		if err := json.Unmarshal(raw, &text); err != nil {
			t.Fatal(err)
		}
	}
	return &text
}

func sameValue(typ string, got, want *string) bool {
	if got == nil || want == nil || *got == *want {
		return got == want || got != nil && want != nil
	}
	if typ == "real" || typ == "double precision" {
		g, err := strconv.ParseFloat(*got, 64)
		w, other := strconv.ParseFloat(*want, 64)
		return err == nil && other == nil && g == w
	}
	return false
}

func shown(v *string) string {
	if v == nil {
		return "NULL"
	}
	return strconv.Quote(*v)
}
