package sqlport_test

import (
	"context"
	"errors"
	"flag"
	"fmt"
	"io"
	"math/rand/v2"
	"net"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/jackc/pgx/v5/pgconn"
	"github.com/jackc/pgx/v5/pgproto3"

	"gneiss/service/review"
	"gneiss/sqlport"
)

var killsFor = flag.Duration("kills", 4*time.Second, "how long TestKillsAndCancelsUnderLoad goes on")

// A rough client asks, is cancelled and goes away at any moment, and notes which rows it was told are kept.
type rough struct {
	t     *testing.T
	p     *port
	url   string // as flint, of survey_pg
	next  atomic.Int64
	mu    sync.Mutex
	kept  map[int64]bool // true: it was acknowledged; false: nobody was told
	did   map[string]int
	ended time.Time
}

const slow = "SELECT count(*) FROM drilling.boreholes a, drilling.boreholes b, drilling.boreholes c WHERE a.depth_m + b.depth_m > c.depth_m"

// TestKillsAndCancelsUnderLoad has many clients that cancel, go away in the middle of whatever it is, and do
// not read, while the database ends connections too. When they are gone nothing works for them any more: no
// connection, no transaction, no lane. What was acknowledged is there, and of the rest all or nothing.
func TestKillsAndCancelsUnderLoad(t *testing.T) {
	p := opened(t, true, sqlport.Limits{Write: time.Second})
	grantWrites(t, p, "survey_pg")
	c := &rough{t: t, p: p, url: p.to("flint", "survey_pg") + "?sslmode=disable", kept: map[int64]bool{}, did: map[string]int{}, ended: time.Now().Add(*killsFor)}
	c.next.Store(2_000_000)
	direct := mustConnect(t, p.url)
	working := func() []string {
		return texts(t, direct, "SELECT state || ': ' || query FROM pg_stat_activity WHERE datname = current_database() AND state <> 'idle' AND pid <> pg_backend_pid()")
	}
	var wg sync.WaitGroup
	for n := range 24 {
		wg.Go(func() {
			for r := rand.New(rand.NewPCG(7, uint64(n))); time.Now().Before(c.ended); {
				c.once(r)
			}
		})
	}
	wg.Go(func() {
		for time.Now().Before(c.ended) {
			time.Sleep(300 * time.Millisecond)
			if _, err := direct.Exec(ctx, "SELECT pg_terminate_backend(pid) FROM pg_stat_activity WHERE application_name = 'gneiss' AND datname = current_database() ORDER BY random() LIMIT 2"); err != nil {
				t.Error(err)
			}
		}
	})
	wg.Wait()
	began := time.Now()
	for len(p.svc.Identity.Connections.All()) > 0 || len(working()) > 0 {
		if time.Since(began) > 6*time.Second {
			t.Fatalf("%d connections are known, and the database works on %v", len(p.svc.Identity.Connections.All()), working())
		}
		time.Sleep(50 * time.Millisecond)
	}
	t.Logf("%v; after %s all is quiet", c.did, time.Since(began).Round(time.Millisecond))
	for _, did := range []string{"cancelled", "left a query", "left a portal", "left a transaction", "left COPY", "left COPY in", "deaf", "committed"} {
		if c.did[did] == 0 {
			t.Errorf("nobody did: %s", did)
		}
	}
	// Every lane is free again: as many as fit ask at once, and none waits.
	for range 8 {
		wg.Go(func() {
			conn, err := pgx.Connect(ctx, c.url)
			if err != nil {
				t.Error(err)
				return
			}
			defer conn.Close(ctx)
			var n int
			if err := conn.QueryRow(ctx, "SELECT count(*) FROM drilling.boreholes").Scan(&n); err != nil || n == 0 {
				t.Errorf("afterwards there are %d rows, %v", n, err)
			}
		})
	}
	wg.Wait()
	there := map[int64]bool{}
	rows, err := direct.Query(ctx, "SELECT id FROM field.visits WHERE id > 2000000")
	if err != nil {
		t.Fatal(err)
	}
	ids, err := pgx.CollectRows(rows, pgx.RowTo[int64])
	if err != nil {
		t.Fatal(err)
	}
	for _, id := range ids {
		there[id] = true
		if _, known := c.kept[id]; !known {
			t.Errorf("the row %d is there, and was taken back", id)
		}
	}
	for id, acknowledged := range c.kept {
		if acknowledged && !there[id] || there[id] != there[id^1] {
			t.Errorf("of the rows %d and %d, which belong together (acknowledged: %v), there are %v and %v", id, id^1, acknowledged, there[id], there[id^1])
		}
	}
	// The record knows an end of everything.
	opal, err := p.svc.Admin.ActAs("user:opal")
	if err != nil {
		t.Fatal(err)
	}
	if open, err := p.svc.Review.Records(ctx, opal, review.RecordSearch{Running: true}); err != nil || len(open.Items) > 0 {
		t.Errorf("the record has %d that still go on, %v", len(open.Items), err)
	}
}

// note counts what clients did.
func (c *rough) note(did string) {
	c.mu.Lock()
	c.did[did]++
	c.mu.Unlock()
}

// once connects and does one thing.
func (c *rough) once(r *rand.Rand) {
	conn, err := pgx.Connect(ctx, c.url)
	if err != nil {
		if state(err) == "" {
			c.t.Errorf("connecting: %v", err)
		}
		time.Sleep(10 * time.Millisecond)
		return
	}
	raw := conn.PgConn()
	leave := func() { raw.Conn().Close() } // without a word
	defer leave()
	send := func(messages ...pgproto3.FrontendMessage) {
		for _, m := range messages {
			raw.Frontend().Send(m)
		}
		raw.Frontend().Flush()
	}
	pause := func() { time.Sleep(time.Duration(r.IntN(60)) * time.Millisecond) }
	switch r.IntN(9) {
	case 0:
		soon, done := context.WithTimeout(ctx, time.Duration(20+r.IntN(200))*time.Millisecond)
		defer done()
		go func() { <-soon.Done(); raw.CancelRequest(ctx) }()
		_, err := raw.Exec(ctx, slow).ReadAll()
		switch state(err) {
		case "57014":
			c.note("cancelled")
		case "53300", "58000": // the lane is full, the database has ended the connection
		default:
			c.t.Errorf("a cancelled statement: %v", err)
		}
		// Unless it is what the request comes to, or the database ends its connection again.
		if _, err := raw.Exec(ctx, "SELECT 1").ReadAll(); err != nil && state(err) != "57014" && state(err) != "58000" {
			c.t.Errorf("behind a cancelled statement: %v", err)
		}
	case 1:
		send(query(slow))
		pause()
		c.note("left a query")
	case 2:
		send(query("BEGIN"), &pgproto3.Parse{Query: "SELECT * FROM drilling.boreholes a, drilling.boreholes b"}, &pgproto3.Bind{}, &pgproto3.Execute{MaxRows: 5}, &pgproto3.Flush{})
		pause()
		c.note("left a portal")
	case 3:
		id := c.next.Add(2) &^ 1
		send(query("BEGIN"), query(insert(id)), query(insert(id+1)))
		pause()
		c.note("left a transaction")
	case 4:
		send(query("COPY (SELECT a.*, b.name FROM drilling.boreholes a, drilling.boreholes b) TO STDOUT"))
		raw.Conn().SetReadDeadline(time.Now().Add(time.Second))
		io.ReadFull(raw.Conn(), make([]byte, r.IntN(1<<17)))
		c.note("left COPY")
	case 5:
		id := c.next.Add(2) &^ 1
		send(query("COPY field.visits (id, crew_id, borehole_id, visited_on) FROM STDIN"), &pgproto3.CopyData{Data: fmt.Appendf(nil, "%d\t1\t1\t2026-05-01\n%d\t1\t", id, id+1)})
		pause()
		c.note("left COPY in")
	case 6:
		raw.Conn().(*net.TCPConn).SetReadBuffer(4096)
		send(query("SELECT a.*, b.name FROM drilling.boreholes a, drilling.boreholes b"))
		time.Sleep(time.Duration(r.IntN(1500)) * time.Millisecond)
		c.note("deaf")
	default:
		c.commit(conn, r)
	}
}

// insert is a statement that writes the row of a number.
func insert(id int64) string {
	return fmt.Sprintf("INSERT INTO field.visits (id, crew_id, borehole_id, visited_on) VALUES (%d, 1, 1, '2026-05-01')", id)
}

// commit writes two rows in one transaction, or takes them back.
func (c *rough) commit(conn *pgx.Conn, r *rand.Rand) {
	id := c.next.Add(2) &^ 1
	set := func(acknowledged bool) {
		c.mu.Lock()
		c.kept[id], c.kept[id+1] = acknowledged, acknowledged
		c.mu.Unlock()
	}
	run := func(text string) error {
		_, err := conn.PgConn().Exec(ctx, text).ReadAll()
		var refused *pgconn.PgError
		if err != nil && !errors.As(err, &refused) {
			c.t.Errorf("%s: %v", text, err)
		}
		return err
	}
	if run("BEGIN") != nil || run(insert(id)) != nil || run(insert(id+1)) != nil {
		return
	}
	if r.IntN(3) == 0 {
		run("ROLLBACK")
		c.note("rolled back")
		return
	}
	set(false)
	if run("COMMIT") == nil {
		set(true)
		c.note("committed")
	}
}
