package sqlport_test

import (
	"bytes"
	"encoding/hex"
	"flag"
	"fmt"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/jackc/pgx/v5/pgproto3"

	"gneiss/source/grammar"
)

var (
	sessionCases = flag.Int("sessions", 100, "how many random sessions are held in lockstep")
	sessionSeed  = flag.Uint64("sessions.seed", 1, "where the random sessions start")
	sessionTape  = flag.String("sessions.tape", "", "one session alone, as hexadecimal digits")
)

// A talk writes a random session of one client.
type talk struct {
	*grammar.Tape
	id int // of the next row that is new
}

// A step is what a client sends before it waits until the server is ready again.
type step struct {
	says string
	send []pgproto3.FrontendMessage
}

var savepointNames = []string{"a", "A", `"A"`, `"a b"`, "sp_1", "statement"}

func (k *talk) query() string {
	switch k.N(12) {
	case 0:
		return "SELECT count(*) FROM noted.note"
	case 1:
		return "SELECT id, v FROM noted.note ORDER BY id"
	case 2:
		return fmt.Sprintf("SELECT id FROM noted.note ORDER BY id LIMIT %d OFFSET %d", k.N(4), k.N(3))
	case 3: // rows come before the error
		return fmt.Sprintf("SELECT n, 6 / (n - %d) FROM generate_series(1, 5) AS n", 1+k.N(6))
	case 4:
		return fmt.Sprintf("SELECT v FROM noted.note WHERE id = %d", k.N(6))
	case 5:
		return grammar.Pick(k.Tape, "SELECT nosuch", "SELECT 1 FROM noted.nosuch", "SELECT 1 +", "SELECT id FROM noted.note WHERE v")
	case 6:
		return "SHOW " + grammar.Pick(k.Tape, "transaction_isolation", "transaction_read_only", "TimeZone", "DateStyle", "IntervalStyle", "default_transaction_read_only", "statement_timeout", "application_name", "extra_float_digits")
	case 7:
		return fmt.Sprintf("SELECT current_setting('%s')", grammar.Pick(k.Tape, "TimeZone", "transaction_isolation", "IntervalStyle", "default_transaction_isolation"))
	case 8:
		return fmt.Sprintf("VALUES (%d, 'x'), (2, NULL)", k.N(9))
	case 9:
		return "SELECT '2026-01-02 03:04:05+00'::timestamptz, '26 hours'::interval, 1.5::float8 / 3"
	case 10:
		return grammar.Pick(k.Tape, "", " ", "/* nothing */")
	}
	return fmt.Sprintf("SELECT n, repeat('x', n) FROM generate_series(1, %d) AS n", k.N(30))
}

func (k *talk) value() string {
	return grammar.Pick(k.Tape, "'x'", "'bad'", "NULL", "'y' || 1", "repeat('z', 5)", "'it''s'")
}

func (k *talk) write() string {
	id := k.N(6)
	if k.N(2) == 0 {
		k.id++
		id = 100 + k.id
	}
	switch k.N(10) {
	case 0, 1:
		return fmt.Sprintf("INSERT INTO noted.note VALUES (%d, %s)%s", id, k.value(), grammar.Pick(k.Tape, "", " RETURNING id", " RETURNING *", " ON CONFLICT DO NOTHING", " ON CONFLICT (id) DO UPDATE SET v = excluded.v || '!' RETURNING v"))
	case 2:
		return fmt.Sprintf("INSERT INTO noted.note SELECT n, 'n' FROM generate_series(%d, %d) AS n", id, id+k.N(4))
	case 3, 4:
		if k.N(2) == 0 {
			return fmt.Sprintf("UPDATE noted.note SET v = %s WHERE id = %d RETURNING id", k.value(), k.N(6)) // of several, which come first is anybody's
		}
		return fmt.Sprintf("UPDATE noted.note SET v = %s WHERE id %s %d", k.value(), grammar.Pick(k.Tape, "<", ">", "<>"), k.N(6))
	case 5:
		return fmt.Sprintf("UPDATE noted.note SET id = id + %d WHERE id = %d", k.N(3), k.N(6))
	case 6:
		return fmt.Sprintf("DELETE FROM noted.note WHERE id = %d%s", k.N(6), grammar.Pick(k.Tape, "", " RETURNING v"))
	case 7:
		return fmt.Sprintf("INSERT INTO noted.later VALUES (%d), (%d)", k.N(4), k.N(4))
	case 8:
		return fmt.Sprintf("INSERT INTO noted.kid VALUES (%d, %d)", id, k.N(6))
	}
	return fmt.Sprintf("MERGE INTO noted.note AS t USING (VALUES (%d, 'm')) AS s (id, v) ON s.id = t.id WHEN MATCHED THEN %s WHEN NOT MATCHED THEN INSERT VALUES (s.id, s.v)", id, grammar.Pick(k.Tape, "UPDATE SET v = s.v", "DELETE", "DO NOTHING"))
}

func (k *talk) mode() string {
	return grammar.Pick(k.Tape, "", " ISOLATION LEVEL SERIALIZABLE", " ISOLATION LEVEL REPEATABLE READ", " ISOLATION LEVEL READ COMMITTED", " READ ONLY", " READ WRITE", " ISOLATION LEVEL REPEATABLE READ, READ ONLY")
}

func (k *talk) transaction() string {
	name := grammar.Pick(k.Tape, savepointNames...)
	switch k.N(9) {
	case 0, 1:
		return grammar.Pick(k.Tape, "BEGIN", "START TRANSACTION", "BEGIN WORK") + k.mode()
	case 2:
		return grammar.Pick(k.Tape, "COMMIT", "END") + grammar.Pick(k.Tape, "", "", " AND CHAIN", " AND CHAIN", " AND NO CHAIN")
	case 3:
		return grammar.Pick(k.Tape, "ROLLBACK", "ABORT") + grammar.Pick(k.Tape, "", "", " AND CHAIN", " AND CHAIN", " AND NO CHAIN")
	case 4, 5:
		return "SAVEPOINT " + name
	case 6:
		return grammar.Pick(k.Tape, "RELEASE ", "RELEASE SAVEPOINT ") + name
	}
	return grammar.Pick(k.Tape, "ROLLBACK TO ", "ROLLBACK TO SAVEPOINT ") + name
}

// aSetting is one with a value, which may be none that it can have.
func (k *talk) aSetting() (name, value string) {
	name = grammar.Pick(k.Tape, "TimeZone", "DateStyle", "IntervalStyle", "extra_float_digits", "statement_timeout", "application_name", "default_transaction_read_only", "default_transaction_isolation", "nosuch", "transaction_read_only", "transaction_isolation")
	value = map[string]string{
		"TimeZone": grammar.Pick(k.Tape, "Asia/Tokyo", "UTC", "nowhere"), "DateStyle": grammar.Pick(k.Tape, "ISO, DMY", "ISO, YMD"), "IntervalStyle": grammar.Pick(k.Tape, "iso_8601", "sql_standard", "wrong"),
		"extra_float_digits": grammar.Pick(k.Tape, "0", "3", "99"), "statement_timeout": grammar.Pick(k.Tape, "5000", "10min", "-1"), "application_name": "tool", "default_transaction_read_only": grammar.Pick(k.Tape, "on", "off", "perhaps"),
		"default_transaction_isolation": grammar.Pick(k.Tape, "serializable", "repeatable read", "nothing"), "nosuch": "1", "transaction_read_only": grammar.Pick(k.Tape, "on", "off"), "transaction_isolation": grammar.Pick(k.Tape, "serializable", "read committed"),
	}[name]
	return name, value
}

func (k *talk) setting() string {
	name, value := k.aSetting()
	switch k.N(8) {
	case 0, 1:
		return fmt.Sprintf("SET %s%s = '%s'", grammar.Pick(k.Tape, "", "SESSION "), name, value)
	case 2, 3:
		return fmt.Sprintf("SET LOCAL %s TO '%s'", name, value)
	case 4:
		if strings.HasPrefix(name, "transaction_") { // of which a server's RESET checks nothing
			name = "ALL"
		}
		return "RESET " + grammar.Pick(k.Tape, name, name, "ALL")
	case 5:
		return fmt.Sprintf("SELECT set_config('%s', '%s', %v)", name, value, k.N(2) == 0)
	case 6:
		return "SET SESSION CHARACTERISTICS AS TRANSACTION" + grammar.Pick(k.Tape, " READ ONLY", " READ WRITE", " ISOLATION LEVEL SERIALIZABLE")
	}
	return "SET TRANSACTION" + grammar.Pick(k.Tape, " READ ONLY", " READ WRITE", " ISOLATION LEVEL REPEATABLE READ")
}

func (k *talk) cursor() string {
	name := grammar.Pick(k.Tape, "c", "d", `"C"`)
	switch k.N(6) {
	case 0, 1:
		return "DECLARE " + name + grammar.Pick(k.Tape, "", " NO SCROLL") + " CURSOR" + grammar.Pick(k.Tape, "", " WITHOUT HOLD") + " FOR " + grammar.Pick(k.Tape, "SELECT n FROM generate_series(1, 9) AS n", "SELECT id, v FROM noted.note ORDER BY id", "SELECT n / (n - 3) FROM generate_series(1, 9) AS n")
	case 2, 3:
		return "FETCH " + grammar.Pick(k.Tape, "", "3 FROM ", "ALL FROM ", "ALL IN ", "NEXT IN ", "FORWARD 2 FROM ") + name
	case 4:
		return "MOVE " + grammar.Pick(k.Tape, "", "2 FROM ", "FORWARD ALL IN ") + name
	}
	return "CLOSE " + grammar.Pick(k.Tape, name, name, "ALL")
}

func (k *talk) statement() string {
	switch k.N(16) {
	case 14, 15:
		return k.cursor()
	case 0, 1, 2:
		return k.query()
	case 3, 4, 5:
		return k.write()
	case 6, 7, 8, 9:
		return k.transaction()
	case 10:
		return k.setting()
	case 11:
		return k.cursor()
	case 12:
		return grammar.Pick(k.Tape, "PREPARE p AS SELECT $1::int + 1", "PREPARE q (int) AS INSERT INTO noted.note VALUES ($1, 'p')", "EXECUTE p(4)", "EXECUTE q(4)", "EXECUTE p", "EXECUTE p('x')", "DEALLOCATE p", "DEALLOCATE ALL")
	}
	return grammar.Pick(k.Tape, "DISCARD ALL", "DISCARD PLANS", "COPY noted.note TO STDOUT", "COPY (SELECT n, 1 / (3 - n) FROM generate_series(1, 4) n) TO STDOUT (FORMAT csv, HEADER)", "COPY noted.note (v, id) TO STDOUT WITH (FORMAT csv)")
}

func (k *talk) step() step {
	switch k.N(8) {
	case 0, 1, 2, 3:
		text := k.statement()
		for range k.N(8) - 5 {
			text += "; " + k.statement()
		}
		return step{text, []pgproto3.FrontendMessage{&pgproto3.Query{String: text}}}
	case 4:
		return k.copyIn()
	}
	return k.extended()
}

// copyIn sends rows by COPY, in pieces that do not end where rows do.
func (k *talk) copyIn() step {
	k.id++
	id, clashes := 2000+2*k.id, k.One(4)
	text := "COPY noted.note FROM STDIN" + grammar.Pick(k.Tape, "", "", " WITH (FORMAT csv)", " (FORMAT csv, HEADER)")
	comma := map[bool]string{true: ",", false: "\t"}[strings.Contains(text, "csv")]
	second := grammar.Pick(k.Tape, "two", "bad", "x"+comma+"y", "")
	fails := k.One(4)
	switch { // which of two errors is told depends on how many rows are gathered
	case fails:
		second = "two"
	case clashes && second == "two":
		id = k.N(6)
	}
	data := fmt.Sprintf("%d%sone\n%d%s%s\n", id, comma, 2001+2*k.id, comma, second)
	cut := k.N(len(data))
	out := []pgproto3.FrontendMessage{&pgproto3.Query{String: text}, &pgproto3.CopyData{Data: []byte(data[:cut])}, &pgproto3.CopyData{Data: []byte(data[cut:])}}
	if fails {
		return step{text + " given up", append(out, &pgproto3.CopyFail{Message: "no more"})}
	}
	return step{fmt.Sprintf("%s %q", text, data), append(out, &pgproto3.CopyDone{})}
}

// extended is a series of messages of the extended protocol up to Sync.
func (k *talk) extended() step {
	var out []pgproto3.FrontendMessage
	var says []string
	add := func(m pgproto3.FrontendMessage, about string) {
		out, says = append(out, m), append(says, about)
	}
	suspended := false // a change whose rows are not all fetched: to the next one its rows are not yet changed, on a server
	for n := 1 + k.N(3); n > 0 && !suspended; n-- {
		text := k.statement()
		if text == "DISCARD ALL" { // among other messages it can end the server
			text = "DISCARD PLANS"
		}
		if strings.Contains(text, "noted.later") { // a server notices at Sync, here a statement alone ends by itself
			text = k.query()
		}
		var params [][]byte
		if k.One(3) {
			text = grammar.Pick(k.Tape, "SELECT $1::int + 1, $2::text", "INSERT INTO noted.note VALUES ($1, $2) RETURNING id", "UPDATE noted.note SET v = $2 WHERE id = $1")
			params = [][]byte{[]byte(grammar.Pick(k.Tape, "1", "4", "77", "x")), grammar.Pick(k.Tape, []byte("y"), nil, []byte("bad"))}
		}
		statement, portal := grammar.Pick(k.Tape, "", "", "s", "t"), grammar.Pick(k.Tape, "", "", "p", "q")
		if k.N(6) > 0 {
			add(&pgproto3.Parse{Name: statement, Query: text}, fmt.Sprintf("Parse %q %s", statement, text))
		}
		if k.One(4) {
			add(&pgproto3.Describe{ObjectType: 'S', Name: statement}, fmt.Sprintf("Describe S %q", statement))
		}
		bound := k.N(8) > 0
		if bound {
			m := &pgproto3.Bind{DestinationPortal: portal, PreparedStatement: statement, Parameters: params}
			if k.One(3) {
				m.ResultFormatCodes = []int16{1}
			}
			add(m, fmt.Sprintf("Bind %q %q %q %v", portal, statement, params, m.ResultFormatCodes))
		}
		if k.N(2) == 0 && bound {
			add(&pgproto3.Describe{ObjectType: 'P', Name: portal}, fmt.Sprintf("Describe P %q", portal))
		}
		for range 1 + k.N(2) {
			if bound || portal != "" && k.One(2) { // a statement of the simple protocol leaves an unnamed portal, which nobody uses
				most := grammar.Pick(k.Tape, uint32(0), 0, 1, 2, 5)
				suspended = suspended || most > 0 && strings.Contains(text, "RETURNING")
				add(&pgproto3.Execute{Portal: portal, MaxRows: most}, fmt.Sprintf("Execute %q %d", portal, most))
			}
		}
		if k.One(5) {
			kind := grammar.Pick(k.Tape, byte('S'), 'P')
			name := grammar.Pick(k.Tape, "", "s", "p")
			add(&pgproto3.Close{ObjectType: kind, Name: name}, fmt.Sprintf("Close %c %q", kind, name))
		}
		if k.One(6) {
			add(&pgproto3.Flush{}, "Flush")
		}
	}
	add(&pgproto3.Sync{}, "Sync")
	return step{strings.Join(says, " · "), out}
}

// session is the steps that a tape comes to.
func session(tape []byte) []step {
	k := &talk{Tape: grammar.On(tape)}
	var out []step
	for !k.Done() && len(out) < 40 {
		out = append(out, k.step())
	}
	return out
}

// heard sends a step, and writes down all that comes back until the server is ready.
func heard(conn *pgx.Conn, s step) string {
	front := conn.PgConn().Frontend()
	for _, m := range s.send {
		front.Send(m)
	}
	if err := front.Flush(); err != nil {
		return "gone: " + err.Error()
	}
	var out []string
	var told, returned []string
	var copied []byte
	for {
		conn.PgConn().Conn().SetReadDeadline(time.Now().Add(20 * time.Second))
		message, err := front.Receive()
		if err != nil {
			return strings.Join(append(out, "gone: "+err.Error()), "\n")
		}
		if _, more := message.(*pgproto3.DataRow); !more { // which RETURNING gives in any order
			slices.Sort(returned)
			out, returned = append(out, returned...), nil
		}
		if _, more := message.(*pgproto3.CopyData); !more && len(copied) > 0 {
			if strings.Contains(s.says, "COPY noted.note") {
				lines := bytes.SplitAfter(copied, []byte{'\n'})
				slices.SortFunc(lines, bytes.Compare)
				copied = bytes.Join(lines, nil)
			}
			out, copied = append(out, fmt.Sprintf("data %q", copied)), nil
		}
		switch m := message.(type) {
		case *pgproto3.ErrorResponse:
			// What a server works out while it plans fails before the columns are told, else behind them.
			if last := len(out) - 1; last >= 0 && strings.HasPrefix(out[last], "columns ") && !described(s) {
				out = out[:last]
			}
			out = append(out, m.Severity+" "+m.Code)
		case *pgproto3.NoticeResponse:
			out = append(out, m.Severity+" "+m.Code)
		case *pgproto3.ParameterStatus:
			told = append(told, m.Name+" is "+m.Value) // in any order
		case *pgproto3.RowDescription:
			var fields []string
			for _, f := range m.Fields {
				fields = append(fields, fmt.Sprintf("%s:%d:%d:%d:%d", f.Name, f.DataTypeOID, f.DataTypeSize, f.TypeModifier, f.Format))
			}
			out = append(out, "columns "+strings.Join(fields, " "))
		case *pgproto3.ParameterDescription:
			out = append(out, fmt.Sprint("parameters ", m.ParameterOIDs))
		case *pgproto3.DataRow:
			row := "row"
			for _, v := range m.Values {
				if v == nil {
					row += " NULL"
				} else {
					row += fmt.Sprintf(" %q", v)
				}
			}
			if strings.Contains(s.says, "RETURNING") {
				returned = append(returned, row)
			} else {
				out = append(out, row)
			}
		case *pgproto3.CommandComplete:
			out = append(out, string(m.CommandTag))
		case *pgproto3.CopyInResponse:
			out = append(out, fmt.Sprint("copy in ", m.OverallFormat, m.ColumnFormatCodes))
		case *pgproto3.CopyOutResponse:
			out = append(out, fmt.Sprint("copy out ", m.OverallFormat, m.ColumnFormatCodes))
		case *pgproto3.CopyData:
			copied = append(copied, m.Data...)
		case *pgproto3.ReadyForQuery:
			slices.Sort(told)
			return strings.Join(append(append(out, told...), "ready "+string(m.TxStatus)), "\n")
		default:
			out = append(out, strings.TrimPrefix(fmt.Sprintf("%T", m), "*pgproto3."))
		}
	}
}

// described reports whether columns are told for a Describe message.
func described(s step) bool {
	_, simple := s.send[0].(*pgproto3.Query)
	return !simple
}

// pairOfSessions opens a session on the port and one on the server, both from one beginning.
func pairOfSessions(t testing.TB, p *port, direct string) (ours, server *pgx.Conn) {
	t.Helper()
	server, err := pgx.Connect(ctx, direct)
	if err == nil {
		ours, err = pgx.Connect(ctx, p.to("flint", "survey_pg")+"?sslmode=disable")
	}
	if err != nil {
		t.Fatal(err)
	}
	for _, conn := range []*pgx.Conn{server, ours} {
		says(conn, "SET TimeZone = 'UTC'")
		says(conn, "DELETE FROM noted.kid; DELETE FROM noted.note; DELETE FROM noted.later")
		says(conn, "INSERT INTO noted.note VALUES (1, 'one'), (2, 'two'), (3, NULL)")
	}
	return ours, server
}

// differs holds a session with the port and with a server, and says where they part; empty: they do
// not, or only in a statement that the port says it does not have.
func differs(t testing.TB, p *port, direct string, steps []step) (told, gap string) {
	t.Helper()
	ours, server := pairOfSessions(t, p, direct)
	defer ours.Close(ctx)
	defer server.Close(ctx)
	for i, s := range append(slices.Clone(steps), ending...) {
		want, got := heard(server, s), heard(ours, s)
		if strings.Contains(got, "ERROR 0A000") && !strings.Contains(want, "0A000") {
			return "", s.says // the port does not have it
		}
		if got != want {
			var script strings.Builder
			for _, before := range steps[:min(i, len(steps))] {
				fmt.Fprintf(&script, "   %s\n", before.says)
			}
			return fmt.Sprintf("%s-> %s\nsays\n%s\nthe server\n%s", &script, s.says, indented(got), indented(want)), ""
		}
	}
	return "", ""
}

// ending is what every session ends with: what is in the tables then is the same.
var ending = func() (out []step) {
	for _, text := range []string{"ROLLBACK", "SET SESSION CHARACTERISTICS AS TRANSACTION READ WRITE", "SELECT id, v FROM noted.note ORDER BY id", "SELECT id FROM noted.later ORDER BY id", "SELECT id, note_id FROM noted.kid ORDER BY id"} {
		out = append(out, step{text, []pgproto3.FrontendMessage{&pgproto3.Query{String: text}}})
	}
	return out
}()

func indented(text string) string { return "   " + strings.ReplaceAll(text, "\n", "\n   ") }

// TestRandomSessionsInLockstep holds random sessions with the port and with a PostgreSQL server, and
// compares each message that comes back. The tapes in testdata/sessions are of faults that it found.
func TestRandomSessionsInLockstep(t *testing.T) {
	p, direct := noted(t, "CREATE TABLE noted.later (id int UNIQUE DEFERRABLE INITIALLY DEFERRED); CREATE TABLE noted.kid (id int PRIMARY KEY, note_id int REFERENCES noted.note)")
	if *sessionTape != "" {
		tape, err := hex.DecodeString(*sessionTape)
		if err != nil {
			t.Fatal(err)
		}
		if told, _ := differs(t, p, direct, session(tape)); told != "" {
			t.Error(told)
		}
		return
	}
	for name, tape := range grammar.Faults(t, "testdata/sessions") {
		if told, _ := differs(t, p, direct, session(tape)); told != "" {
			t.Errorf("%s\n%s", name, told)
		}
	}
	steps, failed, gaps := 0, 0, 0
	for n := range *sessionCases {
		tape := grammar.Fill(*sessionSeed, uint64(n), 160)
		steps += len(session(tape))
		told, gap := differs(t, p, direct, session(tape))
		if gap != "" {
			gaps++
		}
		if told == "" {
			continue
		}
		if failed++; failed > 12 {
			break
		}
		tape = grammar.Shrink(tape, 250, func(tape []byte) bool {
			again, _ := differs(t, p, direct, session(tape))
			if again != "" {
				told = again
			}
			return again != ""
		})
		t.Errorf("seed %d, session %d, -sessions.tape=%x\n%s", *sessionSeed, n, tape, told)
	}
	if t.Logf("%d steps; %d of %d sessions end at what the port does not have", steps, gaps, *sessionCases); steps < *sessionCases*8 {
		t.Errorf("only %d steps", steps)
	}
}

// TestSessionsAreOfAllKinds: each kind of statement and message comes up in the random sessions.
func TestSessionsAreOfAllKinds(t *testing.T) {
	var all bytes.Buffer
	for n := range 400 {
		for _, s := range session(grammar.Fill(1, uint64(n), 160)) {
			fmt.Fprintln(&all, s.says)
		}
	}
	for _, part := range []string{"BEGIN", "START TRANSACTION", "READ ONLY", "SERIALIZABLE", "COMMIT AND CHAIN", "ROLLBACK AND CHAIN", "SAVEPOINT \"a b\"", "RELEASE", "ROLLBACK TO", "SET LOCAL", "set_config", "DECLARE", "WITHOUT HOLD",
		"FETCH", "MOVE", "CLOSE", "PREPARE", "EXECUTE", "DEALLOCATE", "COPY noted.note FROM", "given up", "COPY noted.note TO", "ON CONFLICT", "MERGE", "Parse", "Bind", "Describe S", "Describe P", "Execute \"p\" 2", "Close S", "Flush", "DISCARD ALL", "6 / (n"} {
		if n := strings.Count(all.String(), part); n < 10 {
			t.Errorf("%s comes up %d times in 400 sessions", part, n)
		}
	}
}
