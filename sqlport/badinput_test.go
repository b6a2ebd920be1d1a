package sqlport_test

import (
	"encoding/binary"
	"fmt"
	"io"
	"net"
	"os/exec"
	"runtime"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/jackc/pgx/v5/pgproto3"

	"gneiss/demo"
	"gneiss/sqlport"
)

// answerTo sends bytes as a stranger and returns what comes back.
func answerTo(t *testing.T, p *port, sent string) string {
	t.Helper()
	conn, err := net.Dial("tcp", p.address)
	if err != nil {
		t.Fatal(err)
	}
	defer conn.Close()
	conn.SetDeadline(time.Now().Add(3 * time.Second))
	conn.Write([]byte(sent))
	got, _ := io.ReadAll(conn)
	return string(got)
}

// TestStrangers holds what they are told who do not speak as they should.
func TestStrangers(t *testing.T) {
	p := opened(t, false, sqlport.Limits{SignIn: time.Second})
	start := func(version uint32, rest string) string {
		b := binary.BigEndian.AppendUint32(nil, uint32(len(rest)+8))
		return string(binary.BigEndian.AppendUint32(b, version)) + rest
	}
	for what, c := range map[string]struct{ sent, want string }{
		"an old protocol":            {start(2<<16, "user\x00flint\x00\x00"), "C0A000"},
		"a later protocol":           {start(3<<16|2, "user\x00flint\x00database\x00survey\x00\x00"), "v\x00\x00\x00"},
		"no user":                    {start(3<<16, "database\x00survey\x00\x00"), "C28000"},
		"HTTP":                       {"GET / HTTP/1.1\r\nHost: x\r\n\r\n", "C08P01"},
		"a length beyond all bounds": {"\x7f\xff\xff\xff\x00\x03\x00\x00", "C08P01"},
		"a length of nothing":        {"\x00\x00\x00\x00\x00\x03\x00\x00", "C08P01"},
		"something before TLS":       {"\x00\x00\x00\x08\x04\xd2\x16\x2f" + start(3<<16, "user\x00flint\x00\x00"), "S"},
		"a query before signing in":  {start(3<<16, "user\x00flint\x00database\x00survey\x00\x00") + "Q\x00\x00\x00\x0dSELECT 1\x00", "SCRAM-SHA-256"},
		"a cancel that is nobody's":  {"\x00\x00\x00\x10\x04\xd2\x16\x2e\x00\x00\x00\x01\x00\x00\x00\x02", ""},
	} {
		got := answerTo(t, p, c.sent)
		if !strings.Contains(got, c.want) || strings.Contains(got, "T\x00\x00") {
			t.Errorf("%s: %q", what, got)
		}
		if what == "something before TLS" && len(got) > 100 {
			t.Errorf("%s: the handshake goes on: %q", what, got)
		}
	}
}

// TestWaiting has a connection that keeps asking outlast the time that it may ask nothing, many times over, and checks that it
// is ended that time after it has stopped, also where the time is shortened in between, and is shorter in a transaction.
func TestWaiting(t *testing.T) {
	const idle = 800 * time.Millisecond
	p := opened(t, false, sqlport.Limits{Idle: idle})
	chatter := func(c *pgx.Conn, every time.Duration) {
		t.Helper()
		for began := time.Now(); time.Since(began) < idle*3/2; time.Sleep(every) {
			if _, err := c.Exec(ctx, "SELECT 1"); err != nil {
				t.Fatalf("asking every %v: %v", every, err)
			}
		}
	}
	ended := func(c *pgx.Conn, what string, after time.Duration, want string) {
		t.Helper()
		began := time.Now()
		_, err := c.PgConn().ReceiveMessage(ctx)
		if took := time.Since(began); state(err) != want || took < after-20*time.Millisecond || took > 2*after {
			t.Errorf("%s: ended after %v by %v, want %s after %v", what, took, err, want, after)
		}
	}
	for _, every := range []time.Duration{5 * time.Millisecond, idle / 3} {
		c := p.connect(t, "flint", "survey")
		chatter(c, every)
		ended(c, "asked every "+every.String(), idle-every, "57P05")
	}
	c := p.connect(t, "flint", "survey")
	chatter(c, 20*time.Millisecond)
	for _, text := range []string{"SET idle_in_transaction_session_timeout = '300ms'", "BEGIN", "SELECT 1"} {
		if _, err := c.Exec(ctx, text); err != nil {
			t.Fatal(err)
		}
	}
	ended(c, "in a transaction", 300*time.Millisecond, "25P03")
	c = p.connect(t, "flint", "survey")
	if _, err := c.Exec(ctx, "SET idle_session_timeout = '200ms'"); err != nil {
		t.Fatal(err)
	}
	ended(c, "with a limit of its own", 200*time.Millisecond, "57P05")
	// Who is waited for within a statement is told the same, and of no other error.
	grantWrites(t, p, "survey")
	c = p.connect(t, "flint", "survey")
	if _, err := c.Exec(ctx, "SET idle_in_transaction_session_timeout = '300ms'"); err != nil {
		t.Fatal(err)
	}
	front := c.PgConn().Frontend()
	front.SendQuery(&pgproto3.Query{String: "COPY field.visits FROM STDIN"})
	if err := front.Flush(); err != nil {
		t.Fatal(err)
	}
	if m, err := front.Receive(); err != nil || fmt.Sprintf("%T", m) != "*pgproto3.CopyInResponse" {
		t.Fatalf("%T, %v", m, err)
	}
	ended(c, "in COPY", 300*time.Millisecond, "25P03")
}

// TestTooMuch holds the bounds of what one who has signed in may send and hold.
func TestTooMuch(t *testing.T) {
	p := opened(t, false, sqlport.Limits{Connections: 6, PerAccount: 3, Write: 500 * time.Millisecond, Idle: 700 * time.Millisecond})
	long := p.connect(t, "flint", "survey")
	if _, err := long.Exec(ctx, "SELECT '"+strings.Repeat("x", 200_000)+"'", pgx.QueryExecModeSimpleProtocol); state(err) != "0A000" {
		t.Errorf("a text that is too long: %v", err)
	}
	if err := long.Ping(ctx); err != nil {
		t.Errorf("after it: %v", err)
	}
	if _, err := long.Exec(ctx, "SELECT '"+strings.Repeat("x", 9<<20)+"'", pgx.QueryExecModeSimpleProtocol); err == nil {
		t.Error("a message of 9 MiB is taken")
	}
	var open []*pgx.Conn
	for range 3 {
		open = append(open, p.connect(t, "flint", "survey"))
	}
	if _, err := pgx.Connect(ctx, p.to("flint", "survey")+"?sslmode=disable"); state(err) != "53300" {
		t.Errorf("one more than an account may have: %v", err)
	}
	for range 3 {
		open = append(open, p.connect(t, "jasper", "survey"))
	}
	if _, err := pgx.Connect(ctx, p.to("slate", "survey")+"?sslmode=disable"); state(err) != "53300" {
		t.Errorf("one more than there may be: %v", err)
	}
	for _, c := range open {
		c.Close(ctx)
	}
	// Who asks nothing for too long, and who does not read.
	idle := p.connect(t, "flint", "survey")
	time.Sleep(time.Second)
	if err := idle.Ping(ctx); err == nil || state(err) != "57P05" && !strings.Contains(err.Error(), "waited") && !strings.Contains(err.Error(), "EOF") && !strings.Contains(err.Error(), "closed") {
		t.Errorf("a connection that asked nothing: %v", err)
	}
	deaf := p.connect(t, "flint", "survey")
	raw := deaf.PgConn().Conn()
	raw.(*net.TCPConn).SetReadBuffer(4096)
	for range 60 {
		deaf.PgConn().Frontend().SendQuery(query("SELECT * FROM drilling.boreholes"))
	}
	go deaf.PgConn().Frontend().Flush()
	began := time.Now()
	for len(p.svc.Identity.Connections.All()) > 0 {
		if time.Since(began) > 10*time.Second {
			t.Fatal("one who does not read is still connected")
		}
		time.Sleep(50 * time.Millisecond)
	}
	other := p.connect(t, "jasper", "survey")
	if _, err := other.Exec(ctx, "BEGIN; SELECT 1", pgx.QueryExecModeSimpleProtocol); err != nil {
		t.Fatal(err)
	}
	if _, err := other.Exec(ctx, "SET idle_in_transaction_session_timeout = '200ms'"); err != nil {
		t.Fatal(err)
	}
	time.Sleep(600 * time.Millisecond)
	if err := other.Ping(ctx); err == nil {
		t.Error("a transaction may wait for as long as it likes")
	}
}

// TestQuestionsAreBounded holds that a question about the catalog takes no more than it may.
func TestQuestionsAreBounded(t *testing.T) {
	p := opened(t, false, sqlport.Limits{})
	conn := p.connect(t, "flint", "survey")
	for _, text := range []string{
		"SELECT array_agg(x), version() FROM generate_series(1, 100000000) x",
		"SELECT x FROM generate_series(1, 100000000) x, pg_am ORDER BY x DESC",
		"SELECT DISTINCT repeat('x', 100000) || x FROM generate_series(1, 100000) x, pg_am",
		"WITH RECURSIVE t (n) AS (SELECT 1 FROM pg_am UNION ALL SELECT n + 1 FROM t) SELECT count(*) FROM t",
		"SELECT generate_series(1, 100000000) FROM pg_am",
		"SELECT repeat('x', 2000000000) FROM pg_am",
	} {
		if _, err := conn.Exec(ctx, text, pgx.QueryExecModeSimpleProtocol); state(err) != "54000" {
			t.Errorf("%s: %v", text, err)
		}
	}
	if err := conn.Ping(ctx); err != nil {
		t.Error(err)
	}
}

// TestComingAndGoing connects and disconnects often, and holds that nothing stays.
func TestComingAndGoing(t *testing.T) {
	p := opened(t, false, sqlport.Limits{})
	times := 300
	round := func(n int) {
		var wg sync.WaitGroup
		for range 4 {
			wg.Go(func() {
				for i := range n / 4 {
					conn, err := pgx.Connect(ctx, p.to("flint", "survey")+"?sslmode=disable")
					if err != nil {
						t.Error(err)
						return
					}
					if i%3 == 0 {
						conn.PgConn().Conn().Close() // without a word
						continue
					}
					conn.Close(ctx)
				}
			})
		}
		wg.Wait()
		for began := time.Now(); len(p.svc.Identity.Connections.All()) > 0 && time.Since(began) < 5*time.Second; {
			time.Sleep(10 * time.Millisecond)
		}
		time.Sleep(300 * time.Millisecond)
	}
	round(40)
	before := runtime.NumGoroutine()
	round(times)
	if after := runtime.NumGoroutine(); after > before+10 {
		t.Errorf("%d goroutines before, %d after %d connections", before, after, times)
	}
}

// TestChannelBinding holds that psql binds its proof to the TLS connection.
func TestChannelBinding(t *testing.T) {
	psql := tool(t, "psql")
	p := opened(t, false, sqlport.Limits{})
	host, number, _ := strings.Cut(p.address, ":")
	for _, c := range []struct{ options, want string }{
		{"sslmode=verify-ca channel_binding=require sslrootcert=" + p.roots, "1310"},
		{"sslmode=disable channel_binding=require", "channel binding"},
		{"sslmode=disable", "1310"},
		{"sslmode=prefer gssencmode=prefer", "1310"},
	} {
		cmd := exec.Command(psql, "-X", "-A", "-t", fmt.Sprintf("host=%s port=%s dbname=survey user=flint password=%s %s", host, number, demo.Password, c.options),
			"-c", "select count(*) from drilling.boreholes")
		out, _ := cmd.CombinedOutput()
		if !strings.Contains(string(out), c.want) {
			t.Errorf("%s: %s", c.options, out)
		}
	}
}

// onPipelining sends several statements before it reads any answer.
func onPipelining(t *testing.T, p *port) {
	for _, database := range []string{"survey", "survey_pg"} {
		conn := p.connect(t, "flint", database)
		pipe := conn.PgConn().StartPipeline(ctx)
		for i := range 20 {
			pipe.SendQueryParams("SELECT count(*) FROM drilling.boreholes WHERE id > $1", [][]byte{fmt.Append(nil, i)}, nil, nil, nil)
			if i == 7 {
				pipe.SendQueryParams("SELECT nope FROM drilling.boreholes", nil, nil, nil, nil)
			}
			if err := pipe.Sync(); err != nil {
				t.Fatal(err)
			}
		}
		answers, failures := 0, 0
		for {
			results, err := pipe.GetResults()
			if err != nil {
				failures++
				continue
			}
			if results == nil {
				break
			}
			if r, ok := results.(interface{ NextRow() bool }); ok {
				for r.NextRow() {
					answers++
				}
			}
			if answers+failures > 60 {
				break
			}
			if answers == 20 && failures == 1 {
				break
			}
		}
		if answers != 20 || failures != 1 {
			t.Errorf("%s: %d answers and %d failures", database, answers, failures)
		}
		pipe.Close()
	}
}
