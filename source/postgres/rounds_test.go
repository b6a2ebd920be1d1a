package postgres_test

import (
	"context"
	"errors"
	"fmt"
	"net"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"github.com/jackc/pgx/v5"

	"gneiss/source"
)

// answer is the one row of a point read, as texts.
func answer(ctx context.Context, src source.Source, in source.Request) (row []string, err error) {
	in.Point = true
	err = src.Stream(ctx, in, func(got [][]byte) error {
		for _, v := range got {
			row = append(row, string(v))
		}
		return nil
	})
	return row, err
}

// TestRounds: many who ask at the same time get each their own answer, whatever the others ask for, how they want
// it, and what goes wrong for them; and many of them go together.
func TestRounds(t *testing.T) {
	_, _, src, _ := made(t)
	began := map[string]int{} // answers, by the backend and transaction that they came from
	var mu sync.Mutex
	var wg sync.WaitGroup
	for client := range 40 {
		wg.Go(func() {
			ctx, in, want := t.Context(), source.Request{}, ""
			for n := range 100 {
				in.Args, in.Binary, want = []any{int64(client*1000 + n)}, nil, strconv.Itoa(client*1000+n)
				switch client % 5 {
				case 0:
					in.SQL = "SELECT ($1::int8)::text, pg_backend_pid() || now()::text"
				case 1: // in binary form
					in.SQL, in.Binary = "SELECT ($1::int8)::text, 256::int2", []int16{1, 1}
				case 2: // with other settings
					ctx = source.WithSettings(t.Context(), source.Settings{TimeZone: "Asia/Tokyo"})
					in.SQL = "SELECT ($1::int8)::text, '2026-01-01 00:00+00'::timestamptz::text"
				case 3: // each second fails
					in.SQL = "SELECT ($1::int8)::text, 1 / ($1::int8 % 2)"
				case 4: // what cannot be sent
					if n%2 == 0 {
						in.Args = []any{"none"}
					}
					in.SQL = "SELECT ($1::int8)::text, '2026-01-01 00:00+00'::timestamptz::text"
				}
				row, err := answer(ctx, src, in)
				if fails := n%2 == 0; fails && client%5 >= 3 {
					var unfit *source.Unfit
					if err == nil || client%5 == 3 && (!errors.As(err, &unfit) || unfit.SQLState != "22012") {
						t.Errorf("client %d: %v, %v", client, row, err)
					}
					continue
				}
				other := []string{"", "\x01\x00", "2026-01-01 09:00:00+09", "1", "2026-01-01 00:00:00+00"}[client%5]
				if err != nil || len(row) != 2 || row[0] != want || other != "" && row[1] != other {
					t.Errorf("client %d: %q instead of %s, %v", client, row, want, err)
					return
				}
				if client%5 == 0 {
					mu.Lock()
					began[row[1]]++
					mu.Unlock()
				}
			}
		})
	}
	wg.Wait()
	if asked := 8 * 100; len(began) > asked*3/4 {
		t.Errorf("%d answers came from %d transactions", asked, len(began))
	}
}

// TestRoundsFarAway: where answers take their time, and nothing can go together, all connections are used.
func TestRoundsFarAway(t *testing.T) {
	_, _, src, _ := made(t)
	var mu sync.Mutex
	var wg sync.WaitGroup
	used := map[string]int{}
	for range 8 { // all are connected
		wg.Go(func() { _, _ = answer(t.Context(), src, source.Request{SQL: "SELECT 1 FROM pg_sleep(0.2)"}) })
	}
	wg.Wait()
	for client := range 16 {
		wg.Go(func() {
			for range 20 {
				row, err := answer(t.Context(), src, source.Request{SQL: fmt.Sprintf("SELECT pg_backend_pid(), %d FROM pg_sleep(0.002)", client)})
				if err != nil || len(row) != 2 || row[1] != strconv.Itoa(client) {
					t.Errorf("client %d: %q, %v", client, row, err)
					return
				}
				mu.Lock()
				used[row[0]]++
				mu.Unlock()
			}
		})
	}
	wg.Wait()
	if len(used) < 6 {
		t.Errorf("%d connections were used: %v", len(used), used)
	}
}

// distant returns the URL of a database as it is reached over a network that takes a millisecond each way.
func distant(t *testing.T, url string) string {
	t.Helper()
	there := regexp.MustCompile(`127\.0\.0\.1:\d+`).FindString(url)
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { l.Close() })
	carry := func(from, to net.Conn) {
		type part struct {
			due  time.Time
			what []byte
		}
		on := make(chan part, 100)
		go func() {
			defer to.Close()
			for p := range on {
				time.Sleep(time.Until(p.due))
				to.Write(p.what)
			}
		}()
		defer close(on)
		for {
			b := make([]byte, 8<<10)
			n, err := from.Read(b)
			if err != nil {
				return
			}
			on <- part{time.Now().Add(time.Millisecond), b[:n]}
		}
	}
	go func() {
		for {
			near, err := l.Accept()
			if err != nil {
				return
			}
			far, err := net.Dial("tcp", there)
			if err != nil {
				near.Close()
				return
			}
			go carry(near, far)
			go carry(far, near)
		}
	}()
	return strings.Replace(url, there, l.Addr().String(), 1)
}

// TestRoundsOverADistance: four who ask a database that is far away wait little longer than one.
func TestRoundsOverADistance(t *testing.T) {
	_, url, _, _ := made(t)
	src := open(t, distant(t, url))
	rate := func(clients, each int) float64 {
		began := time.Now()
		var wg sync.WaitGroup
		for client := range clients {
			wg.Go(func() {
				for n := range each {
					row, err := answer(t.Context(), src, source.Request{SQL: "SELECT id FROM s.t WHERE id = $1", Args: []any{int64((client+n)%3 + 1)}})
					if err != nil || len(row) != 1 {
						t.Errorf("%q, %v", row, err)
						return
					}
				}
			})
		}
		wg.Wait()
		return float64(clients*each) / time.Since(began).Seconds()
	}
	rate(8, 50) // all are connected
	best := 0.0
	for range 5 {
		if best = max(best, rate(4, 60)/rate(1, 60)); best > 3 {
			break
		}
	}
	if best < 2.7 {
		t.Errorf("four who ask get %.1f times as many answers as one", best)
	}
}

// TestRoundsThatWait: who waits for a table that is locked keeps nobody from others; who leaves leaves nothing
// behind in the database.
func TestRoundsThatWait(t *testing.T) {
	_, url, src, _ := made(t)
	admin, err := pgx.Connect(t.Context(), strings.Replace(url, "//gneiss@", "//postgres@", 1))
	if err != nil {
		t.Fatal(err)
	}
	defer admin.Close(context.Background())
	half := func() time.Duration { // within which half of the answers come
		var took []time.Duration
		for range 61 {
			began := time.Now()
			if _, err := answer(t.Context(), src, source.Request{SQL: "SELECT id FROM s.t WHERE id = $1", Args: []any{int64(1)}}); err != nil {
				t.Error(err)
			}
			took = append(took, time.Since(began))
		}
		slices.Sort(took)
		return took[30]
	}
	alone := half()
	if _, err := admin.Exec(t.Context(), "BEGIN; LOCK TABLE s.child"); err != nil {
		t.Fatal(err)
	}
	locked, unlock := context.WithCancel(t.Context())
	var blocked sync.WaitGroup
	var got atomic.Int64
	for n := range 6 {
		blocked.Go(func() {
			if _, err := answer(locked, src, source.Request{SQL: fmt.Sprintf("SELECT n FROM s.child WHERE n = $1 AND %d > 0", n/2+1), Args: []any{int64(n)}}); err == nil {
				got.Add(1)
			}
		})
	}
	time.Sleep(50 * time.Millisecond)
	if took := half(); took > 2*alone+2*time.Millisecond {
		t.Errorf("beside a locked table, half of the answers take %v, and %v without", took, alone)
	}
	var others sync.WaitGroup
	for n := range 30 {
		others.Go(func() {
			ctx, cancel := context.WithTimeout(t.Context(), 5*time.Second)
			defer cancel()
			id := strconv.Itoa(n%3 + 1)
			row, err := answer(ctx, src, source.Request{SQL: "SELECT id FROM s.t WHERE id = $1", Args: []any{int64(n%3 + 1)}})
			if err != nil || len(row) != 1 || row[0] != id {
				t.Errorf("beside a locked table: %q, %v", row, err)
			}
		})
	}
	others.Wait()
	unlock()
	blocked.Wait()
	if got.Load() != 0 {
		t.Errorf("%d answers came from a locked table", got.Load())
	}
	waiting := -1
	for range 50 {
		if err := admin.QueryRow(t.Context(), "SELECT count(*) FROM pg_locks WHERE NOT granted").Scan(&waiting); err != nil {
			t.Fatal(err)
		}
		if waiting == 0 {
			break
		}
		time.Sleep(20 * time.Millisecond)
	}
	if waiting != 0 {
		t.Errorf("the database works for %d that have left", waiting)
	}
	if _, err := admin.Exec(t.Context(), "ROLLBACK; INSERT INTO s.child (n, t_id) VALUES (1, 1); ALTER TABLE s.child ALTER x TYPE integer"); err != nil {
		t.Fatal(err)
	}
	ask := func(text string, args ...any) string {
		t.Helper()
		row, err := answer(t.Context(), src, source.Request{SQL: text, Args: args})
		if err != nil || len(row) != 1 {
			t.Fatalf("%s: %q, %v", text, row, err)
		}
		return row[0]
	}
	const text = "SELECT x FROM s.child WHERE n = $1"
	const prepared = "SELECT coalesce(max(name), '') FROM pg_prepared_statements WHERE name LIKE 'round%' AND statement = $1"
	named := func(other string) (name string) { // what it is prepared as, on one of the connections that are used
		for n := 0; n < 50 && (name == "" || name == other); n++ {
			if n%2 == 1 { // or two connections take turns for ever
				ask("SELECT 1")
			}
			ask(text, int64(1))
			name = ask(prepared, text)
		}
		return name
	}
	for _, kind := range []string{"smallint", "bigint", "integer"} { // what is prepared for a table that is another now is prepared again
		before := named("")
		if _, err := admin.Exec(t.Context(), "ALTER TABLE s.child ALTER x TYPE "+kind); err != nil {
			t.Fatal(err)
		}
		if after := named(before); before == "" || after == "" || after == before {
			t.Errorf("prepared was %q, and is %q", before, after)
		}
	}
	for n := range 1000 { // more texts than are kept
		if got := ask(fmt.Sprintf("SELECT %d", n)); got != strconv.Itoa(n) {
			t.Fatalf("text %d: %q", n, got)
		}
	}
	if n := ask("SELECT count(*) FROM pg_prepared_statements WHERE name LIKE 'round%'"); len(n) > 3 || n > "256" {
		t.Errorf("%s statements are kept prepared", n)
	}
}

// TestRoundsThatEnd: a database that ends connections in the midst of rounds makes nobody's answer another's, and
// leaves none waiting; once it does no more, all are answered.
func TestRoundsThatEnd(t *testing.T) {
	server, _, src, _ := made(t)
	admin, err := pgx.Connect(t.Context(), server.URL)
	if err != nil {
		t.Fatal(err)
	}
	defer admin.Close(context.Background())
	var right, gone atomic.Int64
	ask := func(client, n int) {
		id := strconv.Itoa(client*1000 + n)
		ctx, cancel := context.WithTimeout(t.Context(), 20*time.Second)
		defer cancel()
		row, err := answer(ctx, src, source.Request{SQL: "SELECT ($1::int8)::text, current_setting('TimeZone')", Args: []any{int64(client*1000 + n)}})
		switch {
		case errors.Is(err, source.ErrUnavailable):
			gone.Add(1)
		case err != nil || len(row) != 2 || row[0] != id || row[1] != "UTC":
			t.Errorf("client %d: %q instead of %s, %v", client, row, id, err)
		default:
			right.Add(1)
		}
	}
	round := func() {
		var wg sync.WaitGroup
		for client := range 24 {
			wg.Go(func() {
				for n := range 200 {
					ask(client, n)
				}
			})
		}
		wg.Wait()
	}
	stop, ended := make(chan struct{}), make(chan struct{})
	go func() {
		defer close(ended)
		for {
			select {
			case <-stop:
				return
			case <-time.After(100 * time.Millisecond):
				if _, err := admin.Exec(t.Context(), "SELECT pg_terminate_backend(pid) FROM pg_stat_activity WHERE usename = 'gneiss'"); err != nil {
					t.Error(err)
				}
			}
		}
	}()
	round()
	close(stop)
	<-ended
	t.Logf("%d answers, %d without one", right.Load(), gone.Load())
	if right.Load() == 0 {
		t.Error("nothing was answered")
	}
	gone.Store(0)
	if round(); gone.Load() > 0 {
		t.Errorf("%d have no answer from a database that ends nothing", gone.Load())
	}
}
