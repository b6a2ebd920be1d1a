package sqlport_test

import (
	"context"
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/hmac"
	"crypto/pbkdf2"
	"crypto/rand"
	"crypto/sha256"
	"crypto/tls"
	"crypto/x509"
	"crypto/x509/pkix"
	"encoding/base64"
	"encoding/pem"
	"errors"
	"fmt"
	"log/slog"
	"math/big"
	"net"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/jackc/pgx/v5/pgconn"
	"github.com/jackc/pgx/v5/pgproto3"

	"gneiss/demo"
	"gneiss/demo/demotest"
	"gneiss/service"
	"gneiss/source/pgtest"
	"gneiss/sqlport"
	"gneiss/wire"
)

var ctx = context.Background()

func TestMain(m *testing.M) { os.Exit(demotest.Run(m)) }

// A port is the SQL port of the demo platform, with the survey's tables in SQLite and, as the
// source survey_pg, in PostgreSQL.
type port struct {
	svc     *service.Service
	address string
	server  *pgtest.Server // nil: without
	url     string         // of the database behind survey_pg
	roots   string         // a file with the certificate
}

// opened opens the SQL port until the test ends.
func opened(t testing.TB, postgres bool, limits sqlport.Limits) *port {
	t.Helper()
	p := &port{}
	var dir string
	if postgres {
		dir, p.server, p.url = demotest.OnServer(t, "drilling", "field")
	} else {
		dir = demotest.OwnFolder(t, "drilling", "field")
	}
	p.svc = demotest.Open(t, dir)
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	p.address = l.Addr().String()
	s := sqlport.New(p.svc, slog.New(slog.NewTextHandler(t.Output(), nil)), p.certificate(t), limits)
	go s.Serve(l)
	t.Cleanup(func() {
		stop, done := context.WithTimeout(ctx, 10*time.Second)
		defer done()
		if err := s.Shutdown(stop); err != nil {
			t.Errorf("the port does not stop: %v", err)
		}
		if left := p.svc.Identity.Connections.All(); len(left) > 0 {
			t.Errorf("%d connections are still known", len(left))
		}
	})
	return p
}

// certificate makes one for loopback.
func (p *port) certificate(t testing.TB) *tls.Config {
	key, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	if err != nil {
		t.Fatal(err)
	}
	template := &x509.Certificate{SerialNumber: big.NewInt(1), Subject: pkix.Name{CommonName: "localhost"}, NotAfter: time.Now().Add(time.Hour),
		IPAddresses: []net.IP{net.IPv4(127, 0, 0, 1)}, DNSNames: []string{"localhost"}, IsCA: true, BasicConstraintsValid: true}
	der, err := x509.CreateCertificate(rand.Reader, template, template, &key.PublicKey, key)
	if err != nil {
		t.Fatal(err)
	}
	leaf, err := x509.ParseCertificate(der)
	if err != nil {
		t.Fatal(err)
	}
	p.roots = filepath.Join(t.TempDir(), "roots.pem")
	if err := os.WriteFile(p.roots, pem.EncodeToMemory(&pem.Block{Type: "CERTIFICATE", Bytes: der}), 0o600); err != nil {
		t.Fatal(err)
	}
	return &tls.Config{Certificates: []tls.Certificate{{Certificate: [][]byte{der}, PrivateKey: key, Leaf: leaf}}, MinVersion: tls.VersionTLS12}
}

func (p *port) to(user, database string) string {
	return fmt.Sprintf("postgresql://%s:%s@%s/%s", user, demo.Password, p.address, database)
}

// connect connects as an account of the demo, until the test ends.
func (p *port) connect(t testing.TB, user, database string, options ...string) *pgx.Conn {
	t.Helper()
	conn, err := pgx.Connect(ctx, p.to(user, database)+"?"+strings.Join(append(options, "sslmode=disable"), "&"))
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { conn.Close(ctx) })
	return conn
}

// state is the SQLSTATE of an error; empty: it has none.
func state(err error) string {
	var e *pgconn.PgError
	if errors.As(err, &e) {
		return e.Code
	}
	return ""
}

// texts are the values of an answer's rows, one after the other.
func texts(t testing.TB, conn *pgx.Conn, text string, args ...any) []string {
	t.Helper()
	rows, err := conn.Query(ctx, text, append([]any{pgx.QueryResultFormats{pgx.TextFormatCode}}, args...)...)
	if err != nil {
		t.Fatalf("%s: %v", text, err)
	}
	var out []string
	for rows.Next() {
		for _, v := range rows.RawValues() {
			if v == nil {
				out = append(out, "NULL")
			} else {
				out = append(out, string(v))
			}
		}
	}
	if err := rows.Err(); err != nil {
		t.Fatalf("%s: %v", text, err)
	}
	return out
}

// verifier is what a client sends in a new password's place (RFC 5802, 5803).
func verifier(t testing.TB, password, salt string) string {
	t.Helper()
	salted, err := pbkdf2.Key(sha256.New, password, []byte(salt), 4096, 32)
	if err != nil {
		t.Fatal(err)
	}
	mac := func(text string) []byte {
		h := hmac.New(sha256.New, salted)
		h.Write([]byte(text))
		return h.Sum(nil)
	}
	stored := sha256.Sum256(mac("Client Key"))
	b64 := base64.StdEncoding.EncodeToString
	return fmt.Sprintf("SCRAM-SHA-256$4096:%s$%s:%s", b64([]byte(salt)), b64(stored[:]), b64(mac("Server Key")))
}

func TestSigningIn(t *testing.T) {
	p := opened(t, false, sqlport.Limits{})
	for _, c := range []struct{ user, password, database, want string }{
		{"flint", demo.Password, "survey", ""},
		{"FLINT", demo.Password, "survey", ""},
		{"service%3Apumice", demo.Password, "survey", ""},
		{"flint", "wrong", "survey", "28P01"},
		{"nobody", demo.Password, "survey", "28P01"},
		{"nobody", demo.Password, "nothere", "28P01"},
		{"flint", demo.Password, "nothere", "3D000"},
		{"marl", demo.Password, "survey", "3D000"},
	} {
		conn, err := pgx.Connect(ctx, fmt.Sprintf("postgresql://%s:%s@%s/%s?sslmode=disable", c.user, c.password, p.address, c.database))
		if state(err) != c.want {
			t.Errorf("%s with %q to %s: %v", c.user, c.password, c.database, err)
		}
		if err == nil {
			conn.Close(ctx)
		}
	}
	// With TLS: the certificate is checked, and the proof bound to the connection.
	for _, mode := range []string{"verify-full&sslrootcert=" + p.roots, "require"} {
		conn, err := pgx.Connect(ctx, p.to("flint", "survey")+"?sslmode="+mode)
		if err != nil {
			t.Fatalf("%s: %v", mode, err)
		}
		if got := texts(t, conn, "SELECT count(*) FROM drilling.boreholes"); got[0] != "1310" {
			t.Errorf("%s: %v rows", mode, got)
		}
		conn.Close(ctx)
	}
}

// TestAccountsEnd holds that a connection goes no further than what proved it.
func TestAccountsEnd(t *testing.T) {
	p := opened(t, false, sqlport.Limits{})
	opal, err := p.svc.Admin.ActAs("user:opal")
	if err != nil {
		t.Fatal(err)
	}
	ended := func(conn *pgx.Conn) bool {
		for range 40 {
			if err := conn.Ping(ctx); err != nil {
				return true
			}
			time.Sleep(100 * time.Millisecond)
		}
		return false
	}
	off := true
	flint := p.connect(t, "flint", "survey")
	if _, err := p.svc.Admin.PutSubject(ctx, opal, subjectOff("user:flint", &off), true); err != nil {
		t.Fatal(err)
	}
	if !ended(flint) {
		t.Error("a disabled account's connection goes on")
	}
	jasper := p.connect(t, "jasper", "survey")
	if _, err := p.svc.Admin.PutSubject(ctx, opal, subjectPassword("user:jasper", "another one"), true); err != nil {
		t.Fatal(err)
	}
	if !ended(jasper) {
		t.Error("a connection goes on behind a changed password")
	}
	theirs, err := p.svc.Admin.ActAs("user:slate")
	if err != nil {
		t.Fatal(err)
	}
	made, err := p.svc.Identity.NewToken(ctx, theirs, tokenFor("user:slate"))
	if err != nil {
		t.Fatal(err)
	}
	url := fmt.Sprintf("postgresql://slate:%s@%s/survey?sslmode=disable", made.Secret, p.address)
	slate, err := pgx.Connect(ctx, url)
	if err != nil {
		t.Fatalf("with a token: %v", err)
	}
	defer slate.Close(ctx)
	byPassword := p.connect(t, "slate", "survey")
	if _, err := p.svc.Identity.EndToken(ctx, opal, made.ID); err != nil {
		t.Fatal(err)
	}
	if !ended(slate) {
		t.Error("a connection goes on behind its token")
	}
	if err := byPassword.Ping(ctx); err != nil {
		t.Errorf("the end of a token has ended a connection by password: %v", err)
	}
	if _, err := pgx.Connect(ctx, url); state(err) != "28P01" {
		t.Errorf("a token that has ended: %v", err)
	}
	// Somebody's own password, as \password sets it: by its verifier.
	if _, err := byPassword.Exec(ctx, "ALTER USER slate PASSWORD '"+verifier(t, "a third one", "saltsaltsaltsalt")+"'"); err != nil {
		t.Fatal(err)
	}
	third := strings.Replace(p.to("slate", "survey"), demo.Password, "a%20third%20one", 1) + "?sslmode=disable"
	for range 2 { // before it was given anywhere, and after
		again, err := pgx.Connect(ctx, third)
		if err != nil {
			t.Fatalf("with the new password: %v", err)
		}
		again.Close(ctx)
		if _, _, err := p.svc.Identity.SignIn(ctx, wire.SignIn{User: "slate", Password: "a third one"}, "127.0.0.1", "test"); err != nil {
			t.Errorf("with the new password elsewhere: %v", err)
		}
		if _, _, err := p.svc.Identity.SignIn(ctx, wire.SignIn{User: "slate", Password: "a fourth one"}, "127.0.0.1", "test"); err == nil {
			t.Error("another password is taken")
		}
	}
	if err := byPassword.Ping(ctx); err != nil {
		t.Errorf("who changes their password is put out: %v", err)
	}
	if _, err := pgx.Connect(ctx, p.to("slate", "survey")+"?sslmode=disable"); state(err) != "28P01" {
		t.Errorf("with the old password: %v", err)
	}
	if _, err := byPassword.Exec(ctx, "ALTER USER opal PASSWORD 'another one'"); state(err) != "42501" {
		t.Errorf("somebody else's password: %v", err)
	}
}

// onRefusals holds the SQLSTATE, the place and the words of what is refused.
func onRefusals(t *testing.T, p *port) {
	for _, database := range []string{"survey", "survey_pg"} {
		conn := p.connect(t, "flint", database)
		for _, c := range []struct {
			text, state, says string
			position          int32
		}{
			{"SELECT * FROM drilling.nothere", "42P01", "does not exist or is not yours to use", 15},
			{"SELECT * FROM licensing.applications", "42P01", "does not exist or is not yours to use", 15},
			{"SELECT nope FROM drilling.boreholes", "42703", "there is no column nope", 8},
			{"SELECT 1; SELEC 2", "42601", "syntax error", 11},
			{"INSERT INTO drilling.boreholes (id) VALUES (1)", "42501", "you lack INSERT", 0},
			{"CREATE TABLE x (a int)", "0A000", "", 0},
			{"LISTEN x", "0A000", "LISTEN", 0},
			{"COPY drilling.boreholes TO '/etc/passwd'", "0A000", "STDOUT", 0},
			{"COPY drilling.boreholes FROM PROGRAM 'id'", "0A000", "STDOUT", 0},
			{"SET TimeZone = 'Nowhere/At All'", "22023", "time zone", 0},
			{"SET nothing.at_all = 1", "42704", "unrecognized", 0},
			{"SET server_version = '9'", "55P02", "cannot be changed", 0},
			{"SET ROLE administrator", "42501", "role", 0},
			{"SET SESSION AUTHORIZATION 'opal'", "42501", "MANAGE", 0},
			{"EXECUTE nothing", "26000", "does not exist", 0},
			{"FETCH 1 FROM nothing", "34000", "does not exist", 0},
			{"DECLARE c CURSOR FOR SELECT 1", "25P01", "transaction", 0},
			{"SAVEPOINT a", "25P01", "transaction", 0},
			{"SELECT pg_sleep(1)", "", "pg_sleep", 8},
			{"SELECT pg_read_file('/etc/passwd')", "", "pg_read_file", 8},
			{"SELECT * FROM pg_catalog.pg_nothing", "42P01", "pg_nothing", 15},
			{"SELECT * FROM pg_class, drilling.boreholes", "42P01", "", 15},
			{"SELECT lo_import('/etc/passwd'), version()", "42501", "", 8},
			{"SELECT 'drilling.nothere'::regclass", "42P01", "nothere", 0},
		} {
			_, err := conn.Exec(ctx, c.text, pgx.QueryExecModeSimpleProtocol)
			var e *pgconn.PgError
			if !errors.As(err, &e) || c.state != "" && e.Code != c.state || !strings.Contains(e.Message+e.Hint, c.says) || c.position != 0 && e.Position != c.position {
				t.Errorf("%s: %s: %+v", database, c.text, err)
			}
			if err := conn.Ping(ctx); err != nil {
				t.Fatalf("%s: after %s: %v", database, c.text, err)
			}
		}
	}
}

// onTransactions holds that several statements are one, on both kinds of sources.
func onTransactions(t *testing.T, p *port) {
	for _, database := range []string{"survey", "survey_pg"} {
		t.Run(database, func(t *testing.T) {
			grantWrites(t, p, database)
			conn, other := p.connect(t, "flint", database), p.connect(t, "flint", database)
			count := func(c *pgx.Conn) string {
				return texts(t, c, "SELECT count(*) FROM field.visits WHERE note = 'through the port'")[0]
			}
			id := 900_000
			insert := func(q interface {
				Exec(context.Context, string, ...any) (pgconn.CommandTag, error)
			}) error {
				id++
				_, err := q.Exec(ctx, "INSERT INTO field.visits (id, crew_id, borehole_id, visited_on, note) VALUES ($1, 1, 1, '2026-05-01', 'through the port')", id)
				return err
			}
			tx, err := conn.Begin(ctx)
			if err != nil {
				t.Fatal(err)
			}
			if err := insert(tx); err != nil {
				t.Fatal(err)
			}
			if mine, theirs := count(conn), count(other); mine != "1" || theirs != "0" {
				t.Errorf("in the transaction there are %s, outside %s", mine, theirs)
			}
			if _, err := tx.Exec(ctx, "SAVEPOINT a"); err != nil {
				t.Fatal(err)
			}
			if err := insert(tx); err != nil {
				t.Fatal(err)
			}
			if _, err := tx.Exec(ctx, "SELECT nope FROM field.visits"); state(err) != "42703" {
				t.Errorf("an unknown column: %v", err)
			}
			if _, err := tx.Exec(ctx, "SELECT 1"); state(err) != "25P02" {
				t.Errorf("in a failed transaction: %v", err)
			}
			if _, err := tx.Exec(ctx, "ROLLBACK TO a"); err != nil {
				t.Fatal(err)
			}
			if got := count(conn); got != "1" {
				t.Errorf("after ROLLBACK TO there are %s", got)
			}
			if err := tx.Commit(ctx); err != nil {
				t.Fatal(err)
			}
			if got := count(other); got != "1" {
				t.Errorf("after COMMIT there are %s", got)
			}
			// What came together is one transaction.
			batch := &pgx.Batch{}
			for i := range 3 {
				batch.Queue("INSERT INTO field.visits (id, crew_id, borehole_id, visited_on, note) VALUES ($1, 1, 1, '2026-05-01', 'through the port')", 910_000+i)
			}
			batch.Queue("SELECT nope FROM field.visits")
			if err := conn.SendBatch(ctx, batch).Close(); state(err) != "42703" {
				t.Errorf("a batch that fails: %v", err)
			}
			if got := count(other); got != "1" {
				t.Errorf("after a batch that failed there are %s", got)
			}
			if _, err := conn.Exec(ctx, "DELETE FROM field.visits WHERE note = 'through the port'; SELECT 1/0::numeric/0; SELECT selec", pgx.QueryExecModeSimpleProtocol); err == nil {
				t.Error("a text with an error was carried out")
			}
			if got := count(other); got != "1" {
				t.Errorf("after a text that failed there are %s", got)
			}
			if _, err := conn.Exec(ctx, "BEGIN READ ONLY; DELETE FROM field.visits WHERE note = 'through the port'", pgx.QueryExecModeSimpleProtocol); state(err) != "25006" {
				t.Errorf("a write in a read-only transaction: %v", err)
			}
			if _, err := conn.Exec(ctx, "ROLLBACK", pgx.QueryExecModeSimpleProtocol); err != nil {
				t.Fatal(err)
			}
			if tag, err := conn.Exec(ctx, "DELETE FROM field.visits WHERE note = 'through the port'"); err != nil || tag.String() != "DELETE 1" {
				t.Errorf("%s, %v", tag, err)
			}
		})
	}
}

// onCursors fetches answers in parts, with other statements between them.
func onCursors(t *testing.T, p *port) {
	for _, database := range []string{"survey", "survey_pg"} {
		grantWrites(t, p, database)
		conn := p.connect(t, "flint", database)
		for _, begin := range []string{"BEGIN", "BEGIN ISOLATION LEVEL REPEATABLE READ READ ONLY", "BEGIN; DELETE FROM field.visits WHERE id = -1"} {
			if _, err := conn.Exec(ctx, begin, pgx.QueryExecModeSimpleProtocol); err != nil {
				t.Fatalf("%s: %v", begin, err)
			}
			for _, name := range []string{"a", "b"} {
				if _, err := conn.Exec(ctx, "DECLARE "+name+" NO SCROLL CURSOR FOR SELECT id FROM drilling.boreholes ORDER BY id", pgx.QueryExecModeSimpleProtocol); err != nil {
					t.Fatal(err)
				}
			}
			var a, b []string
			for {
				more := texts(t, conn, "FETCH 400 FROM a", pgx.QueryExecModeSimpleProtocol)
				a = append(a, more...)
				b = append(b, texts(t, conn, "FETCH FORWARD 300 FROM b", pgx.QueryExecModeSimpleProtocol)...)
				if n := texts(t, conn, "SELECT count(*) FROM drilling.boreholes", pgx.QueryExecModeSimpleProtocol); n[0] != "1310" {
					t.Errorf("between: %v", n)
				}
				if len(more) < 400 {
					break
				}
			}
			b = append(b, texts(t, conn, "FETCH ALL FROM b", pgx.QueryExecModeSimpleProtocol)...)
			if len(a) != 1310 || strings.Join(a, ",") != strings.Join(b, ",") {
				t.Errorf("%s, %s: %d and %d rows", database, begin, len(a), len(b))
			}
			if _, err := conn.Exec(ctx, "CLOSE a; COMMIT", pgx.QueryExecModeSimpleProtocol); err != nil {
				t.Fatal(err)
			}
			if _, err := conn.Exec(ctx, "FETCH 1 FROM b", pgx.QueryExecModeSimpleProtocol); state(err) != "34000" {
				t.Errorf("a cursor behind its transaction: %v", err)
			}
		}
	}
}

// onCancelling ends what runs, by a request and by going away, and holds that nothing stays
// behind on the database.
func onCancelling(t *testing.T, p *port) {
	const long = "SELECT count(*) FROM drilling.boreholes a, drilling.boreholes b, drilling.boreholes c WHERE a.depth_m + b.depth_m > c.depth_m"
	for _, database := range []string{"survey", "survey_pg"} {
		conn := p.connect(t, "flint", database)
		soon, done := context.WithTimeout(ctx, 400*time.Millisecond)
		pgConn := conn.PgConn()
		go func() { <-soon.Done(); pgConn.CancelRequest(ctx) }()
		began := time.Now()
		_, err := pgConn.Exec(ctx, long).ReadAll()
		done()
		if state(err) != "57014" || time.Since(began) > 3*time.Second {
			t.Errorf("%s: cancelled after %s: %v", database, time.Since(began), err)
		}
		if err := conn.Ping(ctx); err != nil {
			t.Errorf("%s: after a request to cancel: %v", database, err)
		}
		for _, text := range []string{"SELECT 1", "SELECT count(*) FROM drilling.boreholes", "SELECT name FROM drilling.boreholes WHERE id = 2"} {
			if _, err := conn.Exec(ctx, text); err != nil {
				t.Errorf("%s: after a request to cancel, %s: %v", database, text, err)
			}
		}
		if _, err := conn.Exec(ctx, "SET statement_timeout = '200ms'; "+long, pgx.QueryExecModeSimpleProtocol); state(err) != "57014" {
			t.Errorf("%s: statement_timeout: %v", database, err)
		}
		// Who guesses the secret.
		foreign, err := net.Dial("tcp", p.address)
		if err != nil {
			t.Fatal(err)
		}
		guess, _ := (&pgproto3.CancelRequest{ProcessID: pgConn.PID(), SecretKey: []byte{1, 2, 3, 4}}).Encode(nil)
		began = time.Now()
		conn.Exec(ctx, "SET statement_timeout = '500ms'")
		time.AfterFunc(100*time.Millisecond, func() { foreign.Write(guess) })
		if _, err := pgConn.Exec(ctx, long).ReadAll(); state(err) != "57014" || time.Since(began) < 450*time.Millisecond {
			t.Errorf("%s: a guessed secret cancels after %s: %v", database, time.Since(began), err)
		}
		foreign.Close()
		// Who goes away without a word.
		gone := p.connect(t, "flint", database)
		gone.PgConn().Frontend().SendQuery(query(long))
		gone.PgConn().Frontend().Flush()
		time.Sleep(300 * time.Millisecond)
		gone.PgConn().Conn().Close()
		for i := 0; ; i++ {
			if len(p.svc.Identity.Connections.All()) == 1 {
				break
			}
			if i > 50 {
				t.Fatalf("%s: what went away is still there", database)
			}
			time.Sleep(100 * time.Millisecond)
		}
		conn.Close(ctx)
		time.Sleep(200 * time.Millisecond)
	}
	direct, err := pgx.Connect(ctx, p.url)
	if err != nil {
		t.Fatal(err)
	}
	defer direct.Close(ctx)
	if left := texts(t, direct, "SELECT query FROM pg_stat_activity WHERE state <> 'idle' AND pid <> pg_backend_pid() AND backend_type = 'client backend'"); len(left) > 0 {
		t.Errorf("the database still works on %v", left)
	}
}

// TestStatementsGoIntoADraft: once a session says so, what changes access takes no effect; reading is
// as ever.
func TestStatementsGoIntoADraft(t *testing.T) {
	p := opened(t, false, sqlport.Limits{})
	opal, flint := p.connect(t, "opal", "survey"), p.connect(t, "flint", "survey")
	run := func(text string) error { _, err := opal.Exec(ctx, text); return err }
	if err := run("SET gneiss.draft = 'portal-2028'"); err != nil {
		t.Fatal(err)
	}
	if err := run("GRANT SELECT ON licensing.payments TO flint"); state(err) == "" || !strings.Contains(err.Error(), "did you mean portal-2027") {
		t.Errorf("into a draft that is not there: %v", err)
	}
	for _, text := range []string{"SET gneiss.draft = 'portal-2027'", "CREATE ROLE drafted", "GRANT SELECT ON licensing.payments TO drafted", "GRANT drafted TO flint",
		"SELECT count(*) FROM drilling.boreholes"} {
		if err := run(text); err != nil {
			t.Fatalf("%s: %v", text, err)
		}
	}
	if _, err := flint.Exec(ctx, "SELECT count(*) FROM licensing.payments"); state(err) == "" {
		t.Error("a grant in a draft takes effect")
	}
	asOpal, err := p.svc.Admin.ActAs("user:opal")
	if err != nil {
		t.Fatal(err)
	}
	d, err := p.svc.Review.Draft(ctx, asOpal, "portal-2027")
	if err != nil || len(d.Steps) != 6 || d.Steps[5].Says[0] != "granted role:drafted to user:flint" {
		t.Errorf("the draft has %+v, %v", d.Steps, err)
	}
	if err := run("RESET gneiss.draft"); err != nil {
		t.Fatal(err)
	}
	if err := run("GRANT SELECT ON licensing.payments TO drafted"); state(err) == "" {
		t.Error("a role that is in a draft alone is granted something")
	}
	if _, err := p.svc.Admin.PublishDraft(ctx, asOpal, "portal-2027", wire.Change{}); err != nil {
		t.Fatal(err)
	}
	if _, err := flint.Exec(ctx, "SELECT count(*) FROM licensing.payments"); err != nil {
		t.Errorf("once it is published: %v", err)
	}
}
