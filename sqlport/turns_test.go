package sqlport_test

import (
	"fmt"
	"strings"
	"testing"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/jackc/pgx/v5/pgproto3"

	"gneiss/source/grammar"
)

// A turn is a statement of one of two sessions.
type turn struct {
	who  int
	text string
}

// turns reads a script: each statement behind the session whose turn it is, as in "0 BEGIN".
func turns(script ...string) (out []turn) {
	for _, line := range script {
		out = append(out, turn{int(line[0] - '0'), line[2:]})
	}
	return out
}

// byTurns are scripts of two sessions that meet at rows, keys and snapshots.
var byTurns = map[string][]turn{
	"an update waits, and goes on":   turns("0 BEGIN", "1 BEGIN", "0 UPDATE noted.note SET v = 'a' WHERE id = 1", "1 UPDATE noted.note SET v = v || '!' WHERE id = 1", "0 COMMIT", "1 COMMIT"),
	"an update waits in a snapshot":  turns("0 BEGIN", "1 BEGIN ISOLATION LEVEL REPEATABLE READ", "1 SELECT count(*) FROM noted.note", "0 UPDATE noted.note SET v = 'a' WHERE id = 1", "1 UPDATE noted.note SET v = v || '!' WHERE id = 1", "0 COMMIT", "1 COMMIT"),
	"an update waits for nothing":    turns("0 BEGIN", "1 BEGIN ISOLATION LEVEL REPEATABLE READ", "1 SELECT count(*) FROM noted.note", "0 UPDATE noted.note SET v = 'a' WHERE id = 1", "1 UPDATE noted.note SET v = v || '!' WHERE id = 1", "0 ROLLBACK", "1 COMMIT"),
	"two locks, the other way round": turns("0 BEGIN", "1 BEGIN", "0 UPDATE noted.note SET v = 'a' WHERE id = 1", "1 UPDATE noted.note SET v = 'b' WHERE id = 2", "0 UPDATE noted.note SET v = 'a' WHERE id = 2", "1 UPDATE noted.note SET v = 'b' WHERE id = 1", "0 COMMIT", "1 COMMIT"),
	"what is read depends on the other": turns("0 BEGIN ISOLATION LEVEL SERIALIZABLE", "1 BEGIN ISOLATION LEVEL SERIALIZABLE", "0 SELECT count(*) FROM noted.note WHERE v = 'one'", "1 SELECT count(*) FROM noted.note WHERE v = 'two'",
		"0 UPDATE noted.note SET v = 'one' WHERE id = 2", "1 UPDATE noted.note SET v = 'two' WHERE id = 1", "0 COMMIT", "1 COMMIT"),
	"a key that may come":           turns("0 BEGIN", "1 BEGIN", "0 INSERT INTO noted.note VALUES (10, 'a')", "1 INSERT INTO noted.note VALUES (10, 'b')", "0 ROLLBACK", "1 COMMIT"),
	"a key that has come":           turns("0 BEGIN", "1 BEGIN", "0 INSERT INTO noted.note VALUES (10, 'a')", "1 INSERT INTO noted.note VALUES (10, 'b')", "0 COMMIT", "1 COMMIT"),
	"a key that does nothing":       turns("0 BEGIN", "0 INSERT INTO noted.note VALUES (10, 'a')", "1 INSERT INTO noted.note VALUES (10, 'b') ON CONFLICT DO NOTHING", "0 COMMIT"),
	"what is not committed":         turns("0 BEGIN", "0 DELETE FROM noted.note WHERE id = 1", "1 SELECT count(*) FROM noted.note", "0 COMMIT", "1 SELECT count(*) FROM noted.note"),
	"a snapshot stays":              turns("0 BEGIN ISOLATION LEVEL REPEATABLE READ", "0 SELECT count(*) FROM noted.note", "1 DELETE FROM noted.note WHERE id = 1", "0 SELECT count(*) FROM noted.note", "0 COMMIT", "0 SELECT count(*) FROM noted.note"),
	"a lock goes with a savepoint":  turns("0 BEGIN", "0 SAVEPOINT a", "0 UPDATE noted.note SET v = 'a' WHERE id = 1", "0 ROLLBACK TO a", "1 UPDATE noted.note SET v = 'b' WHERE id = 1", "0 COMMIT"),
	"a cursor stays with its rows":  turns("0 BEGIN", "0 DECLARE c CURSOR FOR SELECT id, v FROM noted.note ORDER BY id", "0 FETCH 1 FROM c", "1 UPDATE noted.note SET v = 'later'", "1 DELETE FROM noted.note WHERE id = 3", "0 FETCH ALL FROM c", "0 COMMIT"),
	"a parent that goes":            turns("0 BEGIN", "0 DELETE FROM noted.note WHERE id = 3", "1 INSERT INTO noted.kid VALUES (1, 3)", "0 COMMIT"),
	"nobody waits for a reader":     turns("0 BEGIN ISOLATION LEVEL REPEATABLE READ, READ ONLY", "0 SELECT count(*) FROM noted.note", "1 UPDATE noted.note SET v = 'b'", "0 SELECT count(*) FROM noted.note WHERE v = 'b'", "0 COMMIT"),
	"DELETE meets UPDATE of a key":  turns("0 BEGIN", "0 UPDATE noted.note SET id = 20 WHERE id = 1", "1 DELETE FROM noted.note WHERE id IN (1, 2)", "0 COMMIT"),
	"a failed transaction lets go":  turns("0 BEGIN", "0 UPDATE noted.note SET v = 'a' WHERE id = 1", "0 SELECT nosuch", "1 UPDATE noted.note SET v = 'b' WHERE id = 1", "0 ROLLBACK"),
	"MERGE meets INSERT":            turns("0 BEGIN", "0 INSERT INTO noted.note VALUES (11, 'a')", "1 MERGE INTO noted.note AS t USING (VALUES (11)) AS s (id) ON s.id = t.id WHEN MATCHED THEN DELETE WHEN NOT MATCHED THEN INSERT VALUES (s.id, 'm')", "0 COMMIT"),
	"two that are not of one thing": turns("0 BEGIN", "1 BEGIN", "0 UPDATE noted.note SET v = 'a' WHERE id = 1", "1 UPDATE noted.note SET v = 'b' WHERE id = 2", "1 COMMIT", "0 COMMIT"),
}

// randomTurns writes two sessions that change the same rows.
func randomTurns(tape *grammar.Tape) (out []turn) {
	for !tape.Done() && len(out) < 14 {
		id := 1 + tape.N(3)
		out = append(out, turn{tape.N(2), grammar.Pick(tape, "BEGIN", "BEGIN ISOLATION LEVEL REPEATABLE READ", "COMMIT", "ROLLBACK", fmt.Sprintf("UPDATE noted.note SET v = coalesce(v, '') || 'x' WHERE id = %d RETURNING v", id),
			fmt.Sprintf("UPDATE noted.note SET v = 'y' WHERE id = %d", id), fmt.Sprintf("DELETE FROM noted.note WHERE id = %d", id), fmt.Sprintf("INSERT INTO noted.note VALUES (%d, 'i')", id), "SELECT id, v FROM noted.note ORDER BY id",
			"SAVEPOINT a", "ROLLBACK TO a")})
	}
	return append(out, turn{0, "ROLLBACK"}, turn{1, "ROLLBACK"})
}

// played holds two sessions by turns, and writes down what each statement says, and which ones waited. One that waits lets the
// other go on; a statement of a session that waits is left out.
func played(t *testing.T, connect func() *pgx.Conn, script []turn) string {
	t.Helper()
	conns := [2]*pgx.Conn{connect(), connect()}
	defer conns[0].Close(ctx)
	defer conns[1].Close(ctx)
	says(conns[0], "DELETE FROM noted.kid; DELETE FROM noted.note; INSERT INTO noted.note VALUES (1, 'one'), (2, 'two'), (3, NULL)")
	var out [2][]string
	var waiting [2]chan string
	// Who waits is asked for in the order in which they came.
	heardFrom := func(who int, within time.Duration) bool {
		select {
		case said := <-waiting[who]:
			out[who], waiting[who] = append(out[who], said), nil
			return true
		case <-time.After(within):
			return false
		}
	}
	for _, next := range script {
		for who := range waiting {
			if waiting[who] != nil {
				heardFrom(who, 150*time.Millisecond)
			}
		}
		if waiting[next.who] != nil {
			continue
		}
		done := make(chan string, 1)
		waiting[next.who] = done
		go func() {
			s := step{next.text, []pgproto3.FrontendMessage{&pgproto3.Query{String: next.text}}}
			done <- next.text + ": " + strings.ReplaceAll(heard(conns[next.who], s), "\n", "; ")
		}()
		if !heardFrom(next.who, 250*time.Millisecond) {
			out[next.who] = append(out[next.who], "waits")
		}
	}
	for range 2 { // the end of one lets the other go on
		for who := range waiting {
			if waiting[who] != nil && !heardFrom(who, 6*time.Second) {
				out[who] = append(out[who], "waits for ever")
			}
		}
	}
	left := "?"
	if waiting[0] == nil && waiting[1] == nil {
		says(conns[1], "ROLLBACK")
		says(conns[0], "ROLLBACK")
		left = says(conns[0], "SELECT id, v FROM noted.note ORDER BY id")
	}
	return fmt.Sprintf("0 %s\n1 %s\nleft %s", strings.Join(out[0], "\n  "), strings.Join(out[1], "\n  "), left)
}

// TestSessionsByTurns holds two sessions by turns with the port, and with a PostgreSQL server: who waits, who is refused with 40001 or
// 40P01, and what is left are the same.
func TestSessionsByTurns(t *testing.T) {
	p, direct := noted(t, "CREATE TABLE noted.kid (id int PRIMARY KEY, note_id int REFERENCES noted.note)")
	to := func(url string) func() *pgx.Conn {
		return func() *pgx.Conn {
			conn, err := pgx.Connect(ctx, url)
			if err != nil {
				t.Fatal(err)
			}
			says(conn, "SET TimeZone = 'UTC'")
			return conn
		}
	}
	ours := to(p.to("flint", "survey_pg") + "?sslmode=disable")
	compare := func(name string, script []turn) {
		t.Helper()
		want, got := played(t, to(direct), script), played(t, ours, script)
		if got != want { // a busy machine is no difference
			want, got = played(t, to(direct), script), played(t, ours, script)
		}
		if got != want {
			t.Errorf("%s\nsays\n%s\nthe server\n%s", name, indented(got), indented(want))
		}
	}
	for name, script := range byTurns {
		compare(name, script)
	}
	for n := range *sessionCases / 10 {
		script := randomTurns(grammar.On(grammar.Fill(*sessionSeed, uint64(n)+1_000_000, 60)))
		compare(fmt.Sprint(script), script)
	}
}
