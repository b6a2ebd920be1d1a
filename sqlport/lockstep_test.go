package sqlport_test

import (
	"errors"
	"fmt"
	"strings"
	"testing"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/jackc/pgx/v5/pgconn"
	"github.com/jackc/pgx/v5/pgproto3"

	"gneiss/sqlport"
	"gneiss/wire"
)

// noted is the port with a table for tests in the database behind survey_pg, which flint may use,
// and the same table in another database of the server.
func noted(t *testing.T, more string) (p *port, direct string) {
	t.Helper()
	p = opened(t, true, sqlport.Limits{})
	direct, err := p.server.Database("direct")
	if err != nil {
		t.Fatal(err)
	}
	for _, url := range []string{p.url, direct} {
		conn, err := pgx.Connect(ctx, url)
		if err != nil {
			t.Fatal(err)
		}
		defer conn.Close(ctx)
		if _, err := conn.Exec(ctx, "CREATE SCHEMA IF NOT EXISTS noted; CREATE TABLE noted.note (id int PRIMARY KEY, v text, CHECK (v <> 'bad')); "+more); err != nil {
			t.Fatal(err)
		}
	}
	opal, err := p.svc.Admin.ActAs("user:opal")
	if err == nil {
		_, err = p.svc.Admin.Scan(ctx, opal, "survey_pg", wire.Change{})
	}
	if err == nil {
		_, err = p.svc.Admin.Grant(ctx, opal, wire.GrantRequest{Privileges: []string{"ALL"}, Objects: []string{"survey_pg.noted"}, Subjects: []string{"user:flint"}, WithEntry: true}, false)
	}
	if err != nil {
		t.Fatal(err)
	}
	return p, direct
}

// says is what comes of a statement: its tag and rows, or its SQLSTATE.
func says(conn *pgx.Conn, text string) string {
	results, err := conn.PgConn().Exec(ctx, text).ReadAll()
	var out []string
	for _, r := range results {
		rows := ""
		for _, row := range r.Rows {
			for _, v := range row {
				rows += " " + string(v)
			}
		}
		out = append(out, r.CommandTag.String()+rows)
	}
	if err != nil {
		out = append(out, "error "+state(err))
	}
	return fmt.Sprint(strings.Join(out, "; "), " [", string(conn.PgConn().TxStatus()), "]")
}

// scripts are sessions in which each statement, and what is in the table at the end, is the same on
// the port and on a server.
var scripts = map[string][]string{
	"savepoints with a driver's names": {"BEGIN", "SAVEPOINT sp_1", "RELEASE sp_1", "SAVEPOINT sp_2", "INSERT INTO noted.note VALUES (1, 'a')", "INSERT INTO noted.note VALUES (1, 'b')",
		"ROLLBACK TO SAVEPOINT sp_2", "COMMIT"},
	"savepoints of one name": {"BEGIN", `SAVEPOINT a`, "INSERT INTO noted.note VALUES (1, 'x')", `SAVEPOINT "A"`, "INSERT INTO noted.note VALUES (2, 'x')", `SAVEPOINT a`,
		"INSERT INTO noted.note VALUES (3, 'x')", "ROLLBACK TO a", "RELEASE a", "ROLLBACK TO a", "INSERT INTO noted.note VALUES (4, 'x')", "ROLLBACK TO statement", "COMMIT"},
	"savepoints of our own names": {"BEGIN", "SAVEPOINT statement", "INSERT INTO noted.note VALUES (1, 'x')", "INSERT INTO noted.note VALUES (2, 'bad')", "ROLLBACK TO statement",
		"INSERT INTO noted.note VALUES (3, 'x')", "RELEASE statement", "COMMIT"},
	"read only by default": {"SET default_transaction_read_only = on", "INSERT INTO noted.note VALUES (1, 'a')", "SHOW transaction_read_only", "BEGIN READ WRITE", "INSERT INTO noted.note VALUES (2, 'b')",
		"COMMIT", "BEGIN", "INSERT INTO noted.note VALUES (3, 'c')", "ROLLBACK", "INSERT INTO noted.note VALUES (4, 'x'); SELECT 1"},
	"read only by session":       {"SET SESSION CHARACTERISTICS AS TRANSACTION READ ONLY", "INSERT INTO noted.note VALUES (1, 'a')", "SELECT count(*) FROM noted.note"},
	"read only by SET":           {"BEGIN", "SET TRANSACTION READ ONLY", "INSERT INTO noted.note VALUES (1, 'a')", "COMMIT", "INSERT INTO noted.note VALUES (2, 'a')"},
	"read only by SET of a name": {"BEGIN", "SET transaction_read_only = on", "INSERT INTO noted.note VALUES (1, 'a')", "ROLLBACK"},
	"read only by set_config":    {"BEGIN", "SELECT set_config('transaction_read_only', 'on', true)", "INSERT INTO noted.note VALUES (1, 'a')", "ROLLBACK"},
	"isolation by set_config":    {"BEGIN", "SELECT set_config('transaction_isolation', 'serializable', true)", "SHOW transaction_isolation", "COMMIT", "SHOW transaction_isolation"},
	"chains": {"BEGIN READ ONLY", "COMMIT AND CHAIN", "INSERT INTO noted.note VALUES (1, 'a')", "ROLLBACK AND CHAIN", "INSERT INTO noted.note VALUES (2, 'a')", "ROLLBACK",
		"BEGIN ISOLATION LEVEL SERIALIZABLE", "COMMIT AND CHAIN", "SHOW transaction_isolation", "INSERT INTO noted.note VALUES (3, 'a')", "COMMIT AND CHAIN", "SHOW transaction_isolation", "COMMIT"},
	"chains of none":     {"COMMIT AND CHAIN", "ROLLBACK AND CHAIN", "COMMIT", "ROLLBACK"},
	"a chain of failure": {"BEGIN", "SELECT nosuch", "COMMIT AND CHAIN", "INSERT INTO noted.note VALUES (1, 'a')", "COMMIT"},
	"several statements": {"INSERT INTO noted.note VALUES (1, 'a'); INSERT INTO noted.note VALUES (1, 'b')", "INSERT INTO noted.note VALUES (2, 'a'); SELECT 5; INSERT INTO noted.note VALUES (3, 'b')",
		strings.Repeat("SELECT 1;", 150)},
	"settings and savepoints": {"BEGIN", "SET TimeZone = 'Asia/Tokyo'", "SAVEPOINT a", "SET TimeZone = 'Europe/Oslo'", "SET LOCAL DateStyle = 'ISO, DMY'", "SAVEPOINT b",
		"RESET TimeZone", "ROLLBACK TO b", "SHOW TimeZone", "RELEASE b", "ROLLBACK TO a", "SHOW TimeZone", "SHOW DateStyle", "ROLLBACK TO a", "SHOW TimeZone", "COMMIT", "SHOW TimeZone"},
	"cursors and savepoints": {"BEGIN", "DECLARE c CURSOR FOR SELECT n FROM generate_series(1, 9) AS n", "FETCH 2 FROM c", "SAVEPOINT a", "DECLARE d CURSOR FOR SELECT 1", "FETCH 2 FROM c", "SELECT nosuch",
		"ROLLBACK TO a", "FETCH 2 FROM c", "FETCH 2 FROM d", "ROLLBACK TO a", "FETCH ALL FROM c", "COMMIT", "BEGIN ISOLATION LEVEL REPEATABLE READ", "DECLARE c CURSOR FOR SELECT n FROM generate_series(1, 9) AS n",
		"SAVEPOINT a", "INSERT INTO noted.note VALUES (1, 'a')", "FETCH 2 FROM c", "INSERT INTO noted.note VALUES (1, 'a')", "ROLLBACK TO a", "FETCH ALL FROM c", "COMMIT"},
	"SET after SET LOCAL": {"BEGIN", "SET LOCAL TimeZone = 'Asia/Tokyo'", "SET TimeZone = 'Europe/Oslo'", "COMMIT", "SHOW TimeZone", "BEGIN", "SET TimeZone = 'Asia/Tokyo'", "SET LOCAL TimeZone = 'UTC'", "SHOW TimeZone",
		"COMMIT", "SHOW TimeZone"},
	"settings of a COMMIT that fails":           {"BEGIN", "SET TimeZone = 'Asia/Tokyo'", "INSERT INTO noted.later VALUES (1), (1)", "SHOW TimeZone", "COMMIT", "SHOW TimeZone"},
	"settings of statements that came together": {"SET TimeZone = 'Asia/Tokyo'; SELECT nosuch", "SHOW TimeZone", "SET TimeZone = 'Asia/Tokyo'; SELECT 1", "SHOW TimeZone"},
	"time zones": {"SET TIME ZONE 5", "SHOW TimeZone", "SELECT '2026-01-01 12:00+00'::timestamptz", "SET TIME ZONE -3", "SELECT '2026-01-01 12:00+00'::timestamptz", "RESET TIME ZONE"},
	"times":      {"SET statement_timeout = 500", "SHOW statement_timeout", "SET statement_timeout = '2min'", "SHOW statement_timeout", "SET statement_timeout = 0", "SHOW statement_timeout"},
}

// TestSessionsInLockstep holds the same sessions with the port and with a PostgreSQL server.
func TestSessionsInLockstep(t *testing.T) {
	p, direct := noted(t, "CREATE TABLE noted.later (id int UNIQUE DEFERRABLE INITIALLY DEFERRED)")
	for name, script := range scripts {
		t.Run(name, func(t *testing.T) {
			server, err := pgx.Connect(ctx, direct)
			if err != nil {
				t.Fatal(err)
			}
			defer server.Close(ctx)
			ours := p.connect(t, "flint", "survey_pg")
			for _, conn := range []*pgx.Conn{server, ours} {
				says(conn, "DELETE FROM noted.note")
			}
			for i, text := range append(script, "ROLLBACK", "SELECT id, v FROM noted.note ORDER BY id") {
				want, got := says(server, text), says(ours, text)
				// What each kind of database calls a constraint's violation is another matter.
				if got != want {
					t.Errorf("%d %s\nsays %s\nthe server %s", i, text, got, want)
				}
			}
		})
	}
}

// TestRolesEndWithTheirTransaction: in which role a session acts is one of its settings, and is set
// back like them.
func TestRolesEndWithTheirTransaction(t *testing.T) {
	conn := opened(t, false, sqlport.Limits{}).connect(t, "flint", "survey")
	for _, step := range [][2]string{
		{"SET ROLE survey_reader", ""}, {"BEGIN", ""}, {"SET ROLE NONE", ""}, {"SHOW role", "none"}, {"ROLLBACK", ""}, {"SHOW role", "survey_reader"},
		{"BEGIN", ""}, {"RESET ROLE", ""}, {"SELECT nosuch", ""}, {"COMMIT", ""}, {"SHOW role", "survey_reader"}, {"RESET ROLE", ""},
		{"BEGIN", ""}, {"SET LOCAL ROLE survey_reader", ""}, {"SHOW role", "survey_reader"}, {"COMMIT", ""}, {"SHOW role", "none"},
		{"BEGIN", ""}, {"SAVEPOINT a", ""}, {"SET ROLE survey_reader", ""}, {"SELECT count(*) FROM survey.drilling.boreholes", ""}, {"ROLLBACK TO a", ""}, {"SHOW role", "none"}, {"COMMIT", ""},
		{"SHOW role", "none"}, {"BEGIN", ""}, {"SET ROLE survey_reader", ""}, {"COMMIT", ""}, {"SHOW role", "survey_reader"},
	} {
		if got := says(conn, step[0]); step[1] != "" && !strings.HasPrefix(got, "SHOW "+step[1]+" ") {
			t.Fatalf("%s says %s, want %s", step[0], got, step[1])
		}
	}
}

// TestSavepointsThatAreReleased are no longer kept: a driver makes one for each statement.
func TestSavepointsThatAreReleased(t *testing.T) {
	conn := opened(t, false, sqlport.Limits{}).connect(t, "flint", "survey")
	says(conn, "BEGIN")
	for range 110 {
		if got := says(conn, strings.Repeat("SAVEPOINT a; RELEASE a;", 100)); strings.Contains(got, "error") {
			t.Fatal(got[max(0, len(got)-200):])
		}
	}
}

// messages sends messages of the extended protocol, and writes down what comes back until n times
// the port is ready.
func messages(t *testing.T, conn *pgx.Conn, n int, list ...pgproto3.FrontendMessage) string {
	t.Helper()
	front := conn.PgConn().Frontend()
	for _, m := range list {
		front.Send(m)
	}
	if err := front.Flush(); err != nil {
		t.Fatal(err)
	}
	var out []string
	for n > 0 {
		conn.PgConn().Conn().SetReadDeadline(time.Now().Add(20 * time.Second))
		message, err := front.Receive()
		if err != nil {
			return strings.Join(append(out, err.Error()), ", ")
		}
		switch m := message.(type) {
		case *pgproto3.ErrorResponse:
			out = append(out, "error "+m.Code)
		case *pgproto3.CommandComplete:
			out = append(out, string(m.CommandTag))
		case *pgproto3.ReadyForQuery:
			out = append(out, "ready "+string(m.TxStatus))
			n--
		case *pgproto3.NoticeResponse, *pgproto3.ParameterStatus:
		case *pgproto3.DataRow:
			out = append(out, "row")
		default:
			out = append(out, strings.TrimPrefix(fmt.Sprintf("%T", m), "*pgproto3."))
		}
	}
	return strings.Join(out, ", ")
}

// TestMessagesOfASession: a session begins with the mode that it asks for, an error is not held back until Sync, and a FETCH that was prepared before its cursor gives
// the cursor's columns.
func TestMessagesOfASession(t *testing.T) {
	p, direct := noted(t, "")
	mode := "default_transaction_read_only=on&default_transaction_isolation=serializable"
	server, err := pgx.Connect(ctx, direct+"&"+mode)
	if err != nil {
		t.Fatal(err)
	}
	defer server.Close(ctx)
	ours := p.connect(t, "flint", "survey_pg", mode)
	for _, text := range []string{"SHOW transaction_read_only", "SHOW transaction_isolation", "RESET ALL", "SET default_transaction_read_only = off"} {
		if want, got := says(server, text), says(ours, text); got != want {
			t.Errorf("%s of a new session says %s, the server %s", text, got, want)
		}
	}
	for _, conn := range []*pgx.Conn{server, ours} {
		front := conn.PgConn().Frontend()
		conn.PgConn().Conn().SetReadDeadline(time.Now().Add(20 * time.Second))
		front.Send(&pgproto3.Parse{Query: "SELECT nosuch"})
		front.Send(&pgproto3.Bind{})
		if err := front.Flush(); err != nil {
			t.Fatal(err)
		}
		if message, err := front.Receive(); err != nil || fmt.Sprintf("%T", message) != "*pgproto3.ErrorResponse" {
			t.Errorf("%T comes, %v", message, err)
		}
		messages(t, conn, 1, &pgproto3.Sync{})
	}
	for _, text := range []string{"FETCH ALL FROM c", "EXECUTE c"} {
		for _, list := range [][]pgproto3.FrontendMessage{
			{&pgproto3.Parse{Name: text, Query: text}, &pgproto3.Describe{ObjectType: 'S', Name: text}, &pgproto3.Sync{}},
			{&pgproto3.Query{String: "BEGIN; DECLARE c CURSOR FOR SELECT 1, 2; PREPARE c AS SELECT 1, 2, 3"}},
			{&pgproto3.Bind{PreparedStatement: text}, &pgproto3.Describe{ObjectType: 'P'}, &pgproto3.Execute{}, &pgproto3.Sync{}},
			{&pgproto3.Query{String: "CLOSE c; DEALLOCATE c; DECLARE c CURSOR FOR SELECT 'a', 'b', 'c'; PREPARE c AS SELECT 1"}},
			{&pgproto3.Bind{PreparedStatement: text, ResultFormatCodes: []int16{0, 1, 0}}, &pgproto3.Describe{ObjectType: 'P'}, &pgproto3.Execute{}, &pgproto3.Sync{}},
			{&pgproto3.Query{String: "ROLLBACK; DEALLOCATE c"}},
		} {
			if want, got := messages(t, server, 1, list...), messages(t, ours, 1, list...); got != want {
				t.Errorf("%s %v\nsays %s\nthe server %s", text, list[0], got, want)
			}
		}
	}
}

// TestArraysKeepTheirDimensions: arrays that are given and asked for in the binary form are a server's, to the byte.
func TestArraysKeepTheirDimensions(t *testing.T) {
	p, direct := noted(t, "")
	server, err := pgx.Connect(ctx, direct)
	if err != nil {
		t.Fatal(err)
	}
	defer server.Close(ctx)
	ours := p.connect(t, "flint", "survey_pg")
	value := func(conn *pgx.Conn, text string, given []byte, from, to int16) string {
		r := conn.PgConn().ExecParams(ctx, text, [][]byte{given}, nil, []int16{from}, []int16{to}).Read()
		if r.Err != nil || len(r.Rows) != 1 {
			return fmt.Sprint(r.Err)
		}
		return string(r.Rows[0][0])
	}
	for of, literals := range map[string][]string{
		"int":         {"{}", "{1,NULL,3}", "{{1,2},{3,4}}", "[2:3][0:1]={{1,NULL},{3,4}}", "{{{1},{2}},{{3},{4}}}", "[-1:0]={7,8}"},
		"bigint":      {"{{1,2},{3,4}}"},
		"text":        {"{}", `{"a b","","null",NULL,"\\","\"","\\\\"}`, `{{a,b},{c,"d,e"}}`, "[0:0]={x}"},
		"numeric":     {"{{1.50,NaN},{-0.001,1e30}}"},
		"bool":        {"{{t,f},{NULL,t}}"},
		"date":        {"{{2026-01-01,infinity},{1999-12-31,NULL}}"},
		"timestamptz": {"[5:6]={2026-01-01 12:00:00+00,2026-01-02 12:00:00.123456+00}"},
		"uuid":        {"{{6f9619ff-8b86-d011-b42d-00c04fc964ff},{NULL}}"},
		"float8":      {"{{1.5,-Infinity},{NaN,0.1}}"},
		"bytea":       {`{{"\\x00ff"},{"\\x"}}`},
		"interval":    {"{{01:00:00},{1 mon}}"},
		"jsonb":       {`{{"{\"a\": 1}"},{"[1, 2]"}}`},
		"char(3)":     {"{{a,b},{c,d}}"},
	} {
		for _, bad := range []string{"", "\x00\x00\x00\x01", "\x00\x00\x00\x00\x00\x00\x00\x00\x00\x00\x00\x63",
			"\x00\x00\x00\x02\x00\x00\x00\x00\x00\x00\x00\x17\x7f\xff\xff\xff\x00\x00\x00\x01\x7f\xff\xff\xff\x00\x00\x00\x01"} {
			text := "SELECT $1::" + of + "[]"
			if want, got := value(server, text, []byte(bad), 1, 0), value(ours, text, []byte(bad), 1, 0); !strings.Contains(want, "ERROR") || !strings.Contains(got, "ERROR") {
				t.Errorf("%s[] of %q gives %q, the server %q", of, bad, got, want)
			}
		}
		for _, literal := range literals {
			text := "SELECT $1::" + of + "[]"
			binary := value(server, text, []byte(literal), 0, 1)
			for _, forms := range [][2]int16{{0, 0}, {0, 1}, {1, 0}, {1, 1}} {
				given := literal
				if forms[0] == 1 {
					given = binary
				}
				want, got := value(server, text, []byte(given), forms[0], forms[1]), value(ours, text, []byte(given), forms[0], forms[1])
				if got != want {
					t.Errorf("%s[] %s, given in form %d, asked in %d: %q, the server %q", of, literal, forms[0], forms[1], got, want)
				}
			}
		}
	}
}

// TestMessagesInLockstep compares what comes back for messages that come together.
func TestMessagesInLockstep(t *testing.T) {
	p, direct := noted(t, "")
	run := func(sql string, rows uint32) []pgproto3.FrontendMessage {
		return []pgproto3.FrontendMessage{&pgproto3.Parse{Query: sql}, &pgproto3.Bind{}, &pgproto3.Execute{MaxRows: rows}}
	}
	join := func(parts ...[]pgproto3.FrontendMessage) (out []pgproto3.FrontendMessage) {
		for _, part := range parts {
			out = append(out, part...)
		}
		return append(out, &pgproto3.Sync{})
	}
	again := []pgproto3.FrontendMessage{&pgproto3.Execute{}}
	for name, list := range map[string][]pgproto3.FrontendMessage{
		"a failure behind a row limit": join(run("INSERT INTO noted.note VALUES (201, 'a')", 1), run("INSERT INTO noted.note VALUES (201, 'b')", 1)),
		"a failure without one":        join(run("INSERT INTO noted.note VALUES (202, 'a')", 0), run("INSERT INTO noted.note VALUES (202, 'b')", 0)),
		"both done":                    join(run("INSERT INTO noted.note VALUES (203, 'a')", 1), run("INSERT INTO noted.note VALUES (204, 'b')", 1)),
		"SET twice":                    join(run("SET application_name = 'x'", 0), again),
		"an unknown format":            join([]pgproto3.FrontendMessage{&pgproto3.Parse{Query: "SELECT 1"}, &pgproto3.Bind{ResultFormatCodes: []int16{7}}, &pgproto3.Execute{}}),
		"a part of the catalog":        join(run("SELECT typname FROM pg_catalog.pg_type WHERE typname IN ('int4', 'text', 'bool') ORDER BY 1", 2), again),
	} {
		server, err := pgx.Connect(ctx, direct)
		if err != nil {
			t.Fatal(err)
		}
		ours := p.connect(t, "flint", "survey_pg")
		if want, got := messages(t, server, 1, list...), messages(t, ours, 1, list...); got != want {
			t.Errorf("%s\nsays %s\nthe server %s", name, got, want)
		}
		server.Close(ctx)
	}
	ours, err := pgx.Connect(ctx, p.to("flint", "survey_pg")+"?sslmode=disable")
	if err != nil {
		t.Fatal(err)
	}
	defer ours.Close(ctx)
	server, err := pgx.Connect(ctx, direct)
	if err != nil {
		t.Fatal(err)
	}
	defer server.Close(ctx)
	const left = "SELECT id, v FROM noted.note ORDER BY id"
	if want, got := says(server, left), says(ours, left); want != got {
		t.Errorf("the table has %s, and the server's %s", got, want)
	}
}

// TestPseudonymsAreOne: a value has one pseudonym, in a cursor, in a transaction and outside of one.
func TestPseudonymsAreOne(t *testing.T) {
	p, _ := noted(t, "INSERT INTO noted.note VALUES (1, 'one'), (2, 'two')")
	opal, err := p.svc.Admin.ActAs("user:opal")
	if err != nil {
		t.Fatal(err)
	}
	if _, err := p.svc.Admin.PutPolicy(ctx, opal, wire.PolicyRequest{Policy: wire.Policy{Kind: "columns", Name: "names", Table: "survey_pg.noted.note", Columns: []string{"v"},
		Treatment: &wire.Treatment{Kind: "pseudonym"}}}); err != nil {
		t.Fatal(err)
	}
	conn := p.connect(t, "flint", "survey_pg")
	plain := fmt.Sprint(texts(t, conn, "SELECT v FROM noted.note ORDER BY id"))
	for _, begin := range []string{"BEGIN", "BEGIN ISOLATION LEVEL REPEATABLE READ", "BEGIN READ ONLY", "BEGIN ISOLATION LEVEL SERIALIZABLE READ ONLY"} {
		says(conn, begin)
		if begin == "BEGIN" {
			says(conn, "INSERT INTO noted.note (id) VALUES (9)")
			says(conn, "DELETE FROM noted.note WHERE id = 9")
		}
		says(conn, "DECLARE c CURSOR FOR SELECT v FROM noted.note ORDER BY id")
		if got := fmt.Sprint(texts(t, conn, "FETCH 10 FROM c")); got != plain {
			t.Errorf("%s: a cursor gives %s, and a query %s", begin, got, plain)
		}
		if got := fmt.Sprint(texts(t, conn, "SELECT v FROM noted.note ORDER BY id")); got != plain {
			t.Errorf("%s: in a transaction %s, and outside %s", begin, got, plain)
		}
		says(conn, "ROLLBACK")
	}
}

// TestCopyTellsAtOnce: what is wrong with the first row is told while the others are still to come,
// a request to cancel ends a COPY, and a header that is to match must.
func TestCopyTellsAtOnce(t *testing.T) {
	p, direct := noted(t, "")
	server, err := pgx.Connect(ctx, direct)
	if err != nil {
		t.Fatal(err)
	}
	defer server.Close(ctx)
	ours := p.connect(t, "flint", "survey_pg")
	for _, c := range []struct{ options, text string }{
		{"(FORMAT csv, HEADER MATCH)", "v,id\n900,901\n"}, {"(FORMAT csv, HEADER MATCH)", "id,v\n900,x\n"}, {"(FORMAT csv, HEADER MATCH)", "id\n900\n"},
		{"(FORMAT csv, HEADER)", "v,id\n902,x\n"}, {"(FORMAT csv)", "903,\"a\nb\"\n904,c"},
	} {
		var out []string
		for _, conn := range []*pgx.Conn{server, ours} {
			tag, err := conn.PgConn().CopyFrom(ctx, strings.NewReader(c.text), "COPY noted.note (id, v) FROM STDIN "+c.options)
			out = append(out, fmt.Sprint(tag, state(err)))
		}
		if out[0] != out[1] {
			t.Errorf("%s of %q: %s, the server %s", c.options, c.text, out[1], out[0])
		}
	}
	begin := func(conn *pgx.Conn, sql string, data ...string) {
		front := conn.PgConn().Frontend()
		front.Send(&pgproto3.Query{String: sql})
		for _, text := range data {
			front.Send(&pgproto3.CopyData{Data: []byte(text)})
		}
		if err := front.Flush(); err != nil {
			t.Fatal(err)
		}
	}
	until := func(conn *pgx.Conn) string {
		for {
			conn.PgConn().Conn().SetReadDeadline(time.Now().Add(5 * time.Second))
			message, err := conn.PgConn().Frontend().Receive()
			if err != nil {
				return err.Error()
			}
			if m, ok := message.(*pgproto3.ErrorResponse); ok {
				return m.Code
			}
		}
	}
	one := p.connect(t, "flint", "survey_pg")
	begin(one, "COPY noted.note FROM STDIN", "no number\tx\n")
	if got := until(one); got != "22P02" {
		t.Errorf("a bad first row: %s", got)
	}
	two := p.connect(t, "flint", "survey_pg")
	begin(two, "COPY noted.note FROM STDIN", "1\tx\n")
	time.Sleep(200 * time.Millisecond)
	if err := two.PgConn().CancelRequest(ctx); err != nil {
		t.Fatal(err)
	}
	if got := until(two); got != "57014" {
		t.Errorf("a COPY that is cancelled: %s", got)
	}
}

// TestSessionsKeepLittle: what a session keeps for its client is bounded in bytes, whatever it is.
func TestSessionsKeepLittle(t *testing.T) {
	p := opened(t, false, sqlport.Limits{})
	full := func(err error) bool {
		var e *pgconn.PgError
		return errors.As(err, &e) && e.Code == "53200"
	}
	long := "SELECT 1 WHERE 'x' IN ('" + strings.Repeat("y", 90_000) + "')"
	for name, keep := range map[string]func(conn *pgx.Conn, i int) error{
		"prepared statements": func(conn *pgx.Conn, i int) error {
			_, err := conn.PgConn().Prepare(ctx, fmt.Sprint("s", i), long, nil)
			return err
		},
		"cursors over the catalog": func(conn *pgx.Conn, i int) error {
			if i == 0 {
				says(conn, "BEGIN")
			}
			if _, err := conn.Exec(ctx, fmt.Sprintf("DECLARE c%d CURSOR FOR SELECT a.typname, b.typname FROM pg_type a, pg_type b", i)); err != nil {
				return err
			}
			_, err := conn.Exec(ctx, fmt.Sprintf("FETCH 1 FROM c%d", i))
			return err
		},
	} {
		conn := p.connect(t, "flint", "survey")
		var err error
		for i := 0; i < 2000 && err == nil; i++ {
			err = keep(conn, i)
		}
		if !full(err) {
			t.Errorf("%s: %v", name, err)
		}
		conn.Close(ctx)
	}
	many := p.connect(t, "flint", "survey")
	said := says(many, "BEGIN")
	for i := 0; i < 1000 && !strings.Contains(said, "54000"); i++ {
		said = says(many, "RESET ALL")
	}
	if !strings.Contains(said, "54000") {
		t.Errorf("what a transaction sets is kept without an end: %s", said)
	}
	conn := p.connect(t, "flint", "survey") // what they kept is given back
	if _, err := conn.PgConn().Prepare(ctx, "s", long, nil); err != nil {
		t.Error(err)
	}
}
