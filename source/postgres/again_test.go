package postgres_test

import (
	"context"
	"errors"
	"sync"
	"testing"

	"gneiss/core/query"
	"gneiss/source"
)

// TestEndedConnections: connections that the database has ended while they waited, of which there are several,
// are nobody's error; a statement that had given rows fails, and is not asked again; what it had changed is not
// changed twice.
func TestEndedConnections(t *testing.T) {
	server, _, src, _ := made(t)
	ctx := context.Background()
	columns := []query.Column{{Name: "n"}}
	slowly := source.Request{SQL: "SELECT pg_sleep(0.2)::text"}
	nothing := func([][]byte) error { return nil }
	fill := func() { // the pools
		t.Helper()
		var wg sync.WaitGroup
		for range 4 {
			wg.Go(func() {
				if err := src.Stream(ctx, slowly, nothing); err != nil {
					t.Error(err)
				}
				if err := src.Stream(ctx, source.Request{SQL: slowly.SQL, Point: true}, nothing); err != nil {
					t.Error(err)
				}
				if err := src.Write(ctx, slowly, nothing, func(int64) error { return nil }); err != nil {
					t.Error(err)
				}
			})
		}
		wg.Wait()
	}
	end := func() {
		exec(t, server, server.URL, "SELECT pg_terminate_backend(pid) FROM pg_stat_activity WHERE usename = 'gneiss'")
	}
	for what, ask := range map[string]func() error{
		"run":    func() error { return src.Run(ctx, "SELECT 1", nil, columns, func([]any) error { return nil }) },
		"stream": func() error { return src.Stream(ctx, source.Request{SQL: "SELECT 1"}, nothing) },
		"point":  func() error { return src.Stream(ctx, source.Request{SQL: "SELECT 1", Point: true}, nothing) },
		"write": func() error {
			return src.Write(ctx, source.Request{SQL: "INSERT INTO s.child (n, t_id) VALUES (1, 1)"}, nothing, func(int64) error { return nil })
		},
		"read-only transaction": func() error {
			tx, err := src.Begin(ctx, source.Isolation{ReadOnly: true})
			if err == nil {
				err = tx.Rollback(ctx)
			}
			return err
		},
		"transaction": func() error {
			tx, err := src.Begin(ctx, source.Isolation{})
			if err == nil {
				err = tx.Rollback(ctx)
			}
			return err
		},
		"explain": func() error { _, err := src.Explain(ctx, "SELECT 1", nil); return err },
	} {
		fill()
		end()
		if err := ask(); err != nil {
			t.Errorf("%s: %v", what, err)
		}
	}
	rows := 0
	err := src.Stream(ctx, source.Request{SQL: "SELECT repeat('x', 10000) FROM generate_series(1, 100000)"}, func([][]byte) error {
		if rows++; rows == 1 {
			end()
		}
		return nil
	})
	if !errors.Is(err, source.ErrUnavailable) || rows >= 100_000 {
		t.Errorf("of what ended in its midst came %d rows, %v", rows, err)
	}
	if err := src.Write(ctx, source.Request{SQL: "INSERT INTO s.child (n, t_id) VALUES (2, 1)"}, nothing, func(int64) error { end(); return nil }); err == nil {
		t.Error("a change whose connection was ended before its commit is said to be kept")
	}
	n := 0
	if err := src.Stream(ctx, source.Request{SQL: "SELECT n FROM s.child"}, func([][]byte) error { n++; return nil }); err != nil || n != 1 {
		t.Errorf("%d rows are kept, %v", n, err)
	}
}
