package service_test

import (
	"context"
	"database/sql"
	"errors"
	"log/slog"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"gneiss/demo/demotest"
	"gneiss/service"
	"gneiss/service/identity"
	"gneiss/store"
	"gneiss/wire"
)

func reopened(t *testing.T, dir string, o service.Options) error {
	t.Helper()
	svc, err := service.Open(ctx, dir, slog.New(slog.DiscardHandler), o)
	if err == nil {
		err = svc.Close(ctx)
	}
	return err
}

// TestChainsAreChecked alters a platform's files while it does not run, in each way
// that would hide what was done.
func TestChainsAreChecked(t *testing.T) {
	alter := func(file, text string) func(*testing.T, string) {
		return func(t *testing.T, dir string) {
			t.Helper()
			db, err := sql.Open("sqlite3", filepath.Join(dir, file))
			if err == nil {
				_, err = db.Exec(text)
				err = errors.Join(err, db.Close())
			}
			if err != nil {
				t.Fatal(err)
			}
		}
	}
	remove := func(pattern string) func(*testing.T, string) {
		return func(t *testing.T, dir string) {
			files, _ := filepath.Glob(filepath.Join(dir, pattern))
			for _, f := range files {
				if err := os.Remove(f); err != nil {
					t.Fatal(err)
				}
			}
		}
	}
	for _, c := range []struct {
		name string
		do   func(*testing.T, string)
		says string
	}{
		{"a record is altered", alter("audit.db", "UPDATE record SET text = 'nothing' WHERE id = 3"), "altered at R-3"},
		{"a record is taken out", alter("audit.db", "DELETE FROM record WHERE id = 3"), "altered at R-4"},
		{"the record is cut at its end", alter("audit.db", "DELETE FROM record WHERE id = (SELECT max(id) FROM record)"), "which is gone"},
		{"the record is emptied", alter("audit.db", "DELETE FROM record"), "which is gone"},
		{"the record's file is gone", remove("audit.db*"), "is gone from the data folder"},
		{"the journal is altered", alter("records.db", "UPDATE journal SET reason = 'x' WHERE revision = 3"), "altered at revision 3"},
		{"the journal is cut at its end", alter("records.db", "DELETE FROM journal WHERE revision = (SELECT max(revision) FROM journal); DELETE FROM checkpoint"), "which is gone"},
		{"the key of pseudonyms is gone", remove("pseudonym.key"), "the key of pseudonyms"},
	} {
		t.Run(c.name, func(t *testing.T) {
			dir := demotest.Folder(t)
			if err := reopened(t, dir, service.Options{}); err != nil {
				t.Fatal(err)
			}
			c.do(t, dir)
			err := reopened(t, dir, service.Options{})
			if err == nil || !strings.Contains(err.Error(), c.says) || !strings.Contains(err.Error(), "restore") {
				t.Errorf("opened: %v, want %q", err, c.says)
			}
			if strings.HasPrefix(c.name, "the journal is altered") {
				return // there is nothing to go on from
			}
			if err := reopened(t, dir, service.Options{AcceptLoss: true}); err != nil {
				t.Errorf("an operator cannot accept the loss: %v", err)
			}
		})
	}
	svc := demotest.Open(t, demotest.Folder(t))
	for _, verify := range []func(context.Context, identity.Caller) (wire.Verification, error){svc.Review.VerifyRecord, svc.Review.VerifyJournal} {
		v, err := verify(ctx, caller(t, svc, "agate"))
		if err != nil || !v.Holds || v.Entries < 10 || len(v.Hash) != 64 {
			t.Errorf("a verification: %+v, %v", v, err)
		}
		if _, err := verify(ctx, caller(t, svc, "flint")); err == nil {
			t.Error("who may not audit verifies")
		}
	}
}

// TestWhatRunsAtAStopIsRecorded: queries that a stop cancels are on record.
func TestWhatRunsAtAStopIsRecorded(t *testing.T) {
	dir := demotest.Folder(t)
	svc, err := service.Open(ctx, dir, slog.New(slog.DiscardHandler))
	if err != nil {
		t.Fatal(err)
	}
	opal := caller(t, svc, "opal")
	answered := make(chan error, 4)
	for range cap(answered) {
		go func() {
			defer svc.Working()()
			_, err := svc.Gateway.Query(ctx, opal, wire.QueryRequest{SQL: "SELECT count(*) FROM survey.monitoring.readings a, survey.monitoring.readings b WHERE a.level_m + b.level_m > 1 -- at the stop"})
			answered <- err
		}()
	}
	time.Sleep(500 * time.Millisecond)
	stop, cancel := context.WithTimeout(ctx, 100*time.Millisecond)
	defer cancel()
	if err := svc.Close(stop); err != nil {
		t.Error(err)
	}
	for range cap(answered) {
		if err := <-answered; err == nil {
			t.Error("a query that was stopped was answered")
		}
	}
	st, err := store.Open(dir, false)
	if err != nil {
		t.Fatal(err)
	}
	defer st.Close()
	found, err := st.Audit().Find(ctx, store.Search{Contains: "at the stop", Limit: 10})
	if err != nil || len(found) != 4 {
		t.Errorf("%d of 4 queries are on record, %v", len(found), err)
	}
}
