package sqlport_test

import (
	"bytes"
	"fmt"
	"slices"
	"strings"
	"testing"

	"github.com/jackc/pgx/v5"
	"github.com/jackc/pgx/v5/pgconn"
	"github.com/jackc/pgx/v5/pgproto3"
)

// statements are asked through the port and of the server itself. What is between angle brackets is
// the source, which only the port has.
var statements = []string{
	"SELECT * FROM drilling.boreholes ORDER BY id LIMIT 200",
	"SELECT district, count(*), avg(depth_m), sum(cost), min(drilled_on), max(name) FROM drilling.boreholes GROUP BY district ORDER BY district",
	"SELECT b.name, s.id, s.mass_g FROM drilling.boreholes b JOIN assay.samples s ON s.borehole_id = b.id ORDER BY s.id LIMIT 300",
	"SELECT id, name, NULL::text, depth_m::numeric(10,3), drilled_on + 1, (drilled_on::timestamp + interval '1 hour') FROM drilling.boreholes ORDER BY id LIMIT 20",
	"SELECT true, false, NULL::boolean, 1::smallint, -5::integer, 9007199254740993::bigint, 1.50::numeric, 'NaN'::numeric, 12345678901234567890.123456789::numeric(40,9)",
	"SELECT 0.1::real, 1e10::real, 1e-7::double precision, 'Infinity'::double precision, '-0'::double precision, 123456789.123456789::double precision",
	"SELECT 'a'::text, 'b  '::character(4), 'c'::varchar(5), ''::text, E'tab\\tline\\n\\\\', 'æøå ☃ 🪨'::text, 'x'::name, 'y'::\"char\"",
	"SELECT '2026-11-26'::date, '10:11:12.5'::time, '10:11:12+02'::timetz, '2026-11-26 10:11:12.123456'::timestamp, '2026-11-26 10:11:12+03'::timestamptz, 'infinity'::date",
	"SELECT '1 year 2 mons 3 days 04:05:06.7'::interval, '-1 day'::interval, '00:00:00'::interval",
	"SELECT '\\xdeadbeef'::bytea, ''::bytea, 'a0eebc99-9c0b-4ef8-bb6d-6bb9bd380a11'::uuid, '{\"a\": [1, 2.50, null]}'::json, '{\"b\": 1, \"a\": \"ø\"}'::jsonb",
	"SELECT ARRAY[1,2,NULL], ARRAY['a','b,c','\"'], '{}'::integer[], ARRAY[[1,2],[3,4]], ARRAY['2026-01-01'::date]",
	"SELECT '192.168.0.1/24'::inet, '10.0.0.0/8'::cidr, '08:00:2b:01:02:03'::macaddr, B'1011', B'101'::bit varying(5)",
	"SELECT '[1,5)'::int4range, '[2026-01-01,2026-02-01)'::daterange, '(1.5,]'::numrange, '(1,2)'::point, '((0,0),(1,1))'::box",
	"SELECT to_tsvector('simple', 'rock and core'), 'rock & core'::tsquery",
	"SELECT generate_series(1, 5), 'x' ORDER BY 1 DESC",
	"SELECT * FROM (VALUES (1, 'one'), (2, NULL)) v (n, word)",
	"WITH RECURSIVE t (n) AS (VALUES (1) UNION ALL SELECT n + 1 FROM t WHERE n < 50) SELECT sum(n), count(*) FROM t",
	"SELECT element, rank() OVER (PARTITION BY element ORDER BY ppm DESC), ppm FROM assay.results ORDER BY element, ppm DESC, id LIMIT 100",
	"SELECT id FROM drilling.boreholes WHERE id = -1",
	"SELECT r.element, string_agg(DISTINCT r.lab, ',' ORDER BY r.lab) FROM assay.results r GROUP BY r.element ORDER BY 1",
	"SELECT 1/0",
	"SELECT name::integer FROM drilling.boreholes ORDER BY id",
	"SELECT 'x'::integer",
	"SELECT nope(1)",
	"SELECT (SELECT id FROM drilling.boreholes)",
	"SELECT current_user IS NOT NULL, length(repeat('ab', 100000))",
	"SELECT format('%%|%s|%I|%L|%5s|%-5s|%2$s|%1$L|%*s|', 'a b', 'A', 'it''s', 'x', 'y', 4, 'w'), quote_nullable(NULL), quote_literal(E'a\\b'), format(NULL), format('%s|%L', NULL, NULL) " +
		"FROM pg_catalog.pg_namespace WHERE nspname = 'pg_catalog'",
	"SELECT format('%s %s', 'one') FROM pg_catalog.pg_namespace WHERE nspname = 'pg_catalog'",
	"SELECT format('%y', 'one') FROM pg_catalog.pg_namespace WHERE nspname = 'pg_catalog'",
}

// An outcome is what one way of asking comes to.
type outcome struct {
	types string
	rows  []byte
	state string
}

func (o outcome) String() string {
	return fmt.Sprintf("%s %s %.300q", o.state, o.types, o.rows)
}

// like reports whether two are the same, where rows may come in any order.
func (o outcome) like(other outcome, unordered bool) bool {
	if unordered {
		o.rows, other.rows = sorted(o.rows), sorted(other.rows)
	}
	return o.state == other.state && o.types == other.types && bytes.Equal(o.rows, other.rows)
}

// sorted puts the lines of rows in order.
func sorted(rows []byte) []byte {
	lines := bytes.SplitAfter(rows, []byte{'\n'})
	slices.SortFunc(lines, bytes.Compare)
	return bytes.Join(lines, nil)
}

// ask runs a statement in one of the ways that the protocol has.
func ask(t testing.TB, conn *pgx.Conn, way, text string) outcome {
	t.Helper()
	var out outcome
	var b bytes.Buffer
	row := func(values [][]byte) {
		for _, v := range values {
			if v == nil {
				b.WriteString("\x00N")
			} else {
				fmt.Fprintf(&b, "\x00%d:%s", len(v), v)
			}
		}
		b.WriteByte('\n')
	}
	describe := func(fields []pgconn.FieldDescription) {
		var names []string
		for _, f := range fields {
			names = append(names, fmt.Sprintf("%s:%d:%d:%d", f.Name, f.DataTypeOID, f.DataTypeSize, f.TypeModifier))
		}
		out.types = strings.Join(names, " ")
	}
	raw := conn.PgConn()
	var err error
	several := func(text string) {
		results := raw.Exec(ctx, text)
		for results.NextResult() {
			r := results.ResultReader()
			if fields := r.FieldDescriptions(); len(fields) > 0 {
				describe(fields)
			}
			for r.NextRow() {
				row(r.Values())
			}
			_, err = r.Close()
		}
		if e := results.Close(); err == nil {
			err = e
		}
	}
	switch way {
	case "simple":
		several(text)
	case "cursor", "move":
		next := map[string]string{"cursor": "FETCH NEXT FROM c", "move": "MOVE NEXT FROM c"}[way]
		for _, text := range []string{"BEGIN", "DECLARE c NO SCROLL CURSOR FOR " + text, "FETCH 1 FROM c", next, "FETCH FORWARD 2 FROM c", "FETCH ALL FROM c"} {
			if several(text); err != nil {
				break
			}
		}
		if _, e := raw.Exec(ctx, "ROLLBACK").ReadAll(); e != nil {
			t.Fatal(e)
		}
	case "copy":
		_, err = raw.CopyTo(ctx, &b, "COPY ("+text+"\n) TO STDOUT")
	case "extended", "binary", "prepared":
		formats := []int16{0}
		if way == "binary" {
			formats[0] = 1
		}
		var r *pgconn.ResultReader
		if way == "prepared" {
			if _, err = raw.Prepare(ctx, "p", text, nil); err == nil {
				raw.ExecPrepared(ctx, "p", nil, nil, formats).Close()
				r = raw.ExecPrepared(ctx, "p", nil, nil, formats)
			}
		} else {
			r = raw.ExecParams(ctx, text, nil, nil, nil, formats)
		}
		if r != nil {
			describe(r.FieldDescriptions())
			for r.NextRow() {
				row(r.Values())
			}
			_, err = r.Close()
		}
		if way == "prepared" {
			raw.Deallocate(ctx, "p")
		}
	case "portal":
		f := raw.Frontend()
		f.SendQuery(query("BEGIN"))
		f.SendParse(&pgproto3.Parse{Query: text})
		f.SendBind(&pgproto3.Bind{DestinationPortal: "c", ResultFormatCodes: []int16{0}})
		f.SendDescribe(&pgproto3.Describe{ObjectType: 'P', Name: "c"})
		for range 40 {
			f.SendExecute(&pgproto3.Execute{Portal: "c", MaxRows: 7})
		}
		f.SendExecute(&pgproto3.Execute{Portal: "c"})
		f.SendSync(&pgproto3.Sync{})
		f.SendQuery(query("ROLLBACK"))
		if err := f.Flush(); err != nil {
			t.Fatal(err)
		}
		for ready := 0; ready < 3; {
			m, e := raw.ReceiveMessage(ctx)
			if e != nil {
				t.Fatalf("%s: %v", text, e)
			}
			switch m := m.(type) {
			case *pgproto3.DataRow:
				row(m.Values)
			case *pgproto3.RowDescription:
				var fields []pgconn.FieldDescription
				for _, d := range m.Fields {
					fields = append(fields, pgconn.FieldDescription{Name: string(d.Name), DataTypeOID: d.DataTypeOID, DataTypeSize: d.DataTypeSize, TypeModifier: d.TypeModifier})
				}
				describe(fields)
			case *pgproto3.ErrorResponse:
				err = pgconn.ErrorResponseToPgError(m)
			case *pgproto3.ReadyForQuery:
				ready++
			}
		}
	}
	out.rows, out.state = b.Bytes(), state(err)
	if err != nil {
		out.types, out.rows = "", nil
	}
	return out
}

// onAnswersAreTheServersOwn asks the same of the port and of the server itself, in each of the
// protocol's ways, and compares types and values byte for byte.
func onAnswersAreTheServersOwn(t *testing.T, p *port) {
	port, direct := p.connect(t, "opal", "survey_pg"), mustConnect(t, p.url)
	if _, err := direct.Exec(ctx, "SET TimeZone = 'UTC'"); err != nil {
		t.Fatal(err)
	}
	same := 0
	for _, text := range statements {
		for _, way := range []string{"simple", "extended", "prepared", "binary", "portal"} {
			got, want := ask(t, port, way, text), ask(t, direct, way, text)
			if !got.like(want, false) {
				t.Errorf("%s: %s\n gives %s\n  for %s", way, text, got, want)
				continue
			}
			same++
		}
	}
	if same < len(statements)*4 {
		t.Errorf("only %d are the same", same)
	}
	// With the session's own settings.
	for _, set := range []string{"SET TimeZone = 'Europe/Oslo'", "SET IntervalStyle = 'iso_8601'", "SET DateStyle = 'ISO, DMY'", "SET bytea_output = 'escape'", "SET extra_float_digits = 0"} {
		for _, c := range []*pgx.Conn{port, direct} {
			if _, err := c.Exec(ctx, set); err != nil {
				t.Fatalf("%s: %v", set, err)
			}
		}
		for _, text := range []string{"SELECT '2026-07-01 12:00:00+00'::timestamptz, '2026-07-01 12:00'::timestamptz::date", "SELECT '1 year 2 days 03:00'::interval",
			"SELECT '02/03/2026'::date", "SELECT '\\x0041ff'::bytea", "SELECT 0.1::real + 0.2::real, 1/3::double precision", "SELECT CURRENT_DATE, now()::date",
			"SELECT LOCALTIMESTAMP = now()::timestamp, LOCALTIME = now()::time, CURRENT_TIME = now()::timetz, CURRENT_DATE = LOCALTIMESTAMP::date"} {
			if got, want := ask(t, port, "simple", text), ask(t, direct, "simple", text); !got.like(want, false) {
				t.Errorf("%s: %s\n gives %s\n  for %s", set, text, got, want)
			}
		}
	}
}

// onParameters gives parameters of each type as text and in binary form, to the port and to the
// server itself.
func onParameters(t *testing.T, p *port) {
	port, direct := p.connect(t, "opal", "survey_pg"), mustConnect(t, p.url)
	for typ, values := range map[string][]string{
		"boolean": {"t", "false"}, "smallint": {"-7"}, "integer": {"42", "-2147483648"}, "bigint": {"9223372036854775807"}, "real": {"1.5", "NaN"},
		"double precision": {"0.1", "-Infinity"}, "numeric": {"12345.678900", "NaN"}, "text": {"", "æ'\\x"}, "character varying(3)": {"abc"}, "character(4)": {"ab"},
		"bytea": {`\x00ff`}, "date": {"2026-11-26"}, "time": {"10:11:12.25"}, "timestamp": {"2026-11-26 01:02:03.4"}, "timestamptz": {"2026-11-26 01:02:03+00"},
		"interval": {"1 day 02:00:00"}, "uuid": {"a0eebc99-9c0b-4ef8-bb6d-6bb9bd380a11"}, "json": {`{"a":1.50}`}, "jsonb": {`{"a": 1.50}`}, "integer[]": {"{1,NULL,3}"},
		"text[]": {`{a,"b,c"}`}, "inet": {"10.0.0.1"}, "int4range": {"[1,5)"}, "name": {"n"},
	} {
		for _, value := range append(values, "\x00null") {
			text := "SELECT $1::" + typ + ", $1::" + typ + " IS NULL"
			want, err := direct.PgConn().Prepare(ctx, "", text, nil)
			if err != nil {
				t.Fatal(err)
			}
			got, err := port.PgConn().Prepare(ctx, "", text, nil)
			if err != nil {
				t.Errorf("%s: %v", typ, err)
				continue
			}
			if fmt.Sprint(got.ParamOIDs) != fmt.Sprint(want.ParamOIDs) {
				t.Errorf("%s: the parameter is told to be of %v, not %v", typ, got.ParamOIDs, want.ParamOIDs)
			}
			param := []byte(value)
			if value == "\x00null" {
				param = nil
			}
			// The server's own binary form of the value is what both get.
			encoded := direct.PgConn().ExecParams(ctx, "SELECT $1::"+typ, [][]byte{param}, nil, nil, []int16{1}).Read()
			if encoded.Err != nil {
				t.Fatal(encoded.Err)
			}
			for format, v := range [][]byte{param, encoded.Rows[0][0]} {
				if format == 1 && typ == "int4range" {
					continue // ranges are taken as texts
				}
				for _, result := range []int16{0, 1} {
					run := func(c *pgx.Conn) string {
						r := c.PgConn().ExecParams(ctx, text, [][]byte{v}, nil, []int16{int16(format)}, []int16{result}).Read()
						return fmt.Sprintf("%s %q", state(r.Err), r.Rows)
					}
					if got, want := run(port), run(direct); got != want {
						t.Errorf("%s %q in form %d, answered in %d: %s, not %s", typ, value, format, result, got, want)
					}
				}
			}
		}
	}
	// Whose type the client says, and whose place says it.
	for _, c := range []struct {
		text string
		oids []uint32
	}{{"SELECT count(*) FROM drilling.boreholes WHERE id = $1", nil}, {"SELECT count(*) FROM drilling.boreholes WHERE id = $1", []uint32{20}},
		{"SELECT count(*) FROM drilling.boreholes WHERE name LIKE $1", nil}, {"SELECT id FROM drilling.boreholes ORDER BY id LIMIT $1", nil},
		{"SELECT count(*) FROM drilling.boreholes WHERE id = ANY ($1)", nil}, {"SELECT $1", nil}, {"SELECT $1 || 'x', $2::int + 1", nil},
		{"SELECT id FROM drilling.boreholes WHERE id = $1", []uint32{1043}}, {"SELECT $2", nil}} {
		run := func(conn *pgx.Conn) string {
			d, err := conn.PgConn().Prepare(ctx, "", c.text, c.oids)
			if err != nil {
				return state(err)
			}
			return fmt.Sprint(d.ParamOIDs, len(d.Fields))
		}
		if got, want := run(port), run(direct); got != want {
			t.Errorf("%s with %v: %s, not %s", c.text, c.oids, got, want)
		}
	}
}

// onCopying compares COPY with the server's own, and takes back what it has given.
func onCopying(t *testing.T, p *port) {
	port, direct := p.connect(t, "opal", "survey_pg"), mustConnect(t, p.url)
	for _, text := range []string{
		"COPY (SELECT * FROM drilling.boreholes ORDER BY id LIMIT 50) TO STDOUT",
		"COPY (SELECT * FROM drilling.boreholes ORDER BY id LIMIT 50) TO STDOUT WITH (FORMAT csv, HEADER)",
		"COPY (SELECT * FROM drilling.boreholes ORDER BY id LIMIT 50) TO STDOUT WITH (FORMAT binary)",
		`COPY (SELECT E'a\tb\n\\,"''|' AS x, NULL AS y, '' AS z, '\.' AS w) TO STDOUT`,
		`COPY (SELECT E'a\tb\n\\,"''|' AS x, NULL AS y, '' AS z, 'plain' AS w) TO STDOUT WITH (FORMAT csv, DELIMITER '|', NULL 'nil', FORCE_QUOTE (w), QUOTE '''')`,
		`COPY (SELECT '\.' AS x) TO STDOUT WITH (FORMAT csv)`,
		"COPY drilling.lithology (id, rock) TO STDOUT WITH CSV",
	} {
		var got, want bytes.Buffer
		_, errGot := port.PgConn().CopyTo(ctx, &got, text)
		_, errWant := direct.PgConn().CopyTo(ctx, &want, text)
		sorted := func(b []byte) string {
			if !strings.Contains(text, "lithology") {
				return string(b)
			}
			return fmt.Sprint(len(b)) // a table has no order
		}
		if state(errGot) != state(errWant) || sorted(got.Bytes()) != sorted(want.Bytes()) {
			t.Errorf("%s: %v, %.200q, not %.200q", text, errGot, got.Bytes(), want.Bytes())
		}
	}
	for _, database := range []string{"survey", "survey_pg"} {
		grantWrites(t, p, database)
		flint := p.connect(t, "flint", database)
		for _, c := range []struct{ text, data, want string }{
			{"COPY field.visits (id, crew_id, borehole_id, visited_on, note) FROM STDIN", "800001\t1\t1\t2026-05-01\ta\\tb\\\\\n800002\t1\t1\t2026-05-02\t\\N\n\\.\n", ""},
			{"COPY field.visits (id, crew_id, borehole_id, visited_on, note) FROM STDIN WITH (FORMAT csv, HEADER)", "id,crew,borehole,on,note\r\n800003,1,1,2026-05-03,\"x \"\"y\"\",\n\"\n800004,1,1,2026-05-04,", ""},
			{"COPY field.visits (id, crew_id, borehole_id, visited_on) FROM STDIN", "800005\t1\t1\n", "22P04"},
			{"COPY field.visits (id, crew_id, borehole_id, visited_on) FROM STDIN", "800006\t1\t1\t2026-05-04\textra\n", "22P04"},
			{"COPY field.visits (id, crew_id, borehole_id, visited_on) FROM STDIN", "800007\t1\t1\t2026-05-04\n800007\t1\t1\t2026-05-04\n", "*"},
			{"COPY drilling.boreholes (id) FROM STDIN", "1\n", "42501"},
			{"COPY field.visits (id, nope) FROM STDIN", "1\t2\n", "42703"},
		} {
			tag, err := flint.PgConn().CopyFrom(ctx, strings.NewReader(c.data), c.text)
			if got := state(err); got != c.want && !(c.want == "*" && got != "") {
				t.Errorf("%s: %s: %s, %v", database, c.text, tag, err)
			}
			if err := flint.Ping(ctx); err != nil {
				t.Fatal(err)
			}
		}
		got := texts(t, flint, "SELECT id, note FROM field.visits WHERE id BETWEEN 800001 AND 800009 ORDER BY id")
		if want := "800001|a\tb\\|800002|NULL|800003|x \"y\",\n|800004|NULL"; strings.Join(got, "|") != want {
			t.Errorf("%s: copied in: %q", database, got)
		}
		// Many rows, with the driver's binary form.
		n, err := flint.CopyFrom(ctx, pgx.Identifier{"field", "visits"}, []string{"id", "crew_id", "borehole_id", "visited_on", "note"}, pgx.CopyFromSlice(1500, func(i int) ([]any, error) {
			return []any{int64(700_000 + i), int64(1), int64(1), "2026-06-01", fmt.Sprint("row ", i)}, nil
		}))
		if err != nil || n != 1500 {
			t.Errorf("%s: %d rows, %v", database, n, err)
		}
		if got := texts(t, flint, "SELECT count(*), min(note) FROM field.visits WHERE id >= 700000 AND id < 701500"); fmt.Sprint(got) != "[1500 row 0]" {
			t.Errorf("%s: %v", database, got)
		}
	}
}

func mustConnect(t testing.TB, url string) *pgx.Conn {
	t.Helper()
	conn, err := pgx.Connect(ctx, url)
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { conn.Close(ctx) })
	return conn
}
