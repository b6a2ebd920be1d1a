package sqlport_test

import (
	"context"
	"runtime"
	"testing"
	"time"

	"gneiss/sqlport"
)

// TestLongAnswersHaveProcessors checks that there are more processors while long answers are being sent, and as many as
// before once they have ended, paused, been canceled, or lost their client.
func TestLongAnswersHaveProcessors(t *testing.T) {
	p := opened(t, true, sqlport.Limits{})
	usual := runtime.GOMAXPROCS(0)
	more := func(want int) {
		t.Helper()
		for range 200 {
			if runtime.GOMAXPROCS(0) == usual+want {
				return
			}
			time.Sleep(10 * time.Millisecond)
		}
		t.Errorf("%d processors more, want %d", runtime.GOMAXPROCS(0)-usual, want)
	}
	url := p.to("flint", "survey_pg") + "?sslmode=disable"
	begin := func(ctx context.Context, text string) (rest func() error, leave func()) {
		conn := mustConnect(t, url)
		rows, err := conn.Query(ctx, text)
		if err != nil || !rows.Next() {
			t.Fatalf("%v, %v", err, rows.Err())
		}
		rest = func() error {
			for rows.Next() {
			}
			return rows.Err()
		}
		return rest, func() { conn.PgConn().Conn().Close() }
	}
	const long = "SELECT id, repeat(name, 3000) FROM drilling.boreholes"
	short, _ := begin(ctx, "SELECT id, repeat(name, 300) FROM drilling.boreholes LIMIT 100")
	more(0)
	cursor, err := mustConnect(t, url).Begin(ctx)
	if err == nil {
		_, err = cursor.Exec(ctx, "DECLARE c CURSOR FOR "+long)
	}
	if err == nil {
		_, err = cursor.Exec(ctx, "FETCH 1000 FROM c")
	}
	if err != nil {
		t.Fatal(err)
	}
	more(0) // an answer that waits between two parts needs none
	first, _ := begin(ctx, long)
	more(2)
	cancelled, cancel := context.WithCancel(ctx)
	second, _ := begin(cancelled, long)
	more(3)
	_, leave := begin(ctx, long)
	more(4)
	leave()
	cancel()
	if err := second(); err == nil {
		t.Error("a cancelled statement has ended well")
	}
	if err := first(); err != nil {
		t.Error(err)
	}
	more(0)
	if err := short(); err != nil {
		t.Error(err)
	}
}
