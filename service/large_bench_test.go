package service_test

import (
	"context"
	"encoding/json"
	"fmt"
	"math/rand/v2"
	"os"
	"runtime/debug"
	"strings"
	"sync"
	"testing"
	"time"

	"gneiss/core/access"
	"gneiss/service"
	"gneiss/service/review"
	"gneiss/store"
	"gneiss/wire"
)

var largeMade string // where it is to be taken away; "": nowhere

// largeFolder is a data folder whose journal makes a platform of 10,000 users,
// 1,000 groups, 2,000 roles, 100,000 tables in 500 schemas and 1,000,000 grants.
var largeFolder = sync.OnceValues(func() (string, error) {
	dir, err := os.MkdirTemp("", "gneiss-large-")
	if err != nil {
		return "", err
	}
	largeMade = dir
	st, err := store.Open(dir, false)
	if err != nil {
		return "", err
	}
	w := &journalWriter{store: st}
	r := rand.New(rand.NewPCG(1, 2))
	w.add("add_subject", access.AddSubject{Subject: "user:opal"})
	w.add("join", access.Join{Member: "user:opal", Of: access.Administrator})
	for i := range 10_000 {
		w.add("add_subject", access.AddSubject{Subject: fmt.Sprintf("user:u%d", i)})
	}
	for i := range 1_000 {
		w.add("add_subject", access.AddSubject{Subject: fmt.Sprintf("group:g%d", i)})
	}
	for i := range 2_000 {
		w.add("add_subject", access.AddSubject{Subject: fmt.Sprintf("role:r%d", i)})
	}
	for i := range 10_000 {
		for range 3 {
			w.add("join", access.Join{Member: fmt.Sprintf("user:u%d", i), Of: fmt.Sprintf("group:g%d", r.IntN(1_000))})
		}
	}
	for i := range 1_000 {
		w.add("join", access.Join{Member: fmt.Sprintf("group:g%d", i), Of: fmt.Sprintf("role:r%d", r.IntN(2_000))})
	}
	w.add("add_object", access.AddObject{Path: "s", Kind: "source"})
	for i := range 500 {
		w.add("add_object", access.AddObject{Path: fmt.Sprintf("s.c%d", i), Kind: "schema"})
		for j := range 200 {
			w.add("add_object", access.AddObject{Path: fmt.Sprintf("s.c%d.t%d", i, j), Kind: "table"})
			w.add("add_object", access.AddObject{Path: fmt.Sprintf("s.c%d.t%d.id", i, j), Kind: "column", Type: "bigint"})
		}
	}
	w.add("add_grant", access.AddGrant{Privilege: "USAGE", Object: "s", Subject: "public", Grantor: "user:opal"})
	w.add("add_grant", access.AddGrant{Privilege: "USAGE", Object: "lane:interactive", Subject: "public", Grantor: "user:opal"})
	for i := range 1_000_000 {
		g := access.AddGrant{Privilege: []string{"SELECT", "INSERT", "UPDATE", "reader"}[i%4], Object: fmt.Sprintf("s.c%d.t%d", r.IntN(500), r.IntN(200)), Subject: fmt.Sprintf("role:r%d", r.IntN(2_000)), Grantor: "user:opal"}
		if i%50 == 0 {
			g.Privilege, g.Object = "USAGE", fmt.Sprintf("s.c%d", r.IntN(500))
		}
		w.add("add_grant", g)
	}
	w.flush()
	return dir, firstError(w.err, st.Close())
})

func firstError(errs ...error) error {
	for _, err := range errs {
		if err != nil {
			return err
		}
	}
	return nil
}

// a journalWriter writes changes as a service does, a thousand a revision.
type journalWriter struct {
	store   *store.Store
	last    store.Entry
	changes []map[string]any
	err     error
}

func (w *journalWriter) add(do string, what any) {
	w.changes = append(w.changes, map[string]any{"do": do, "what": what})
	if len(w.changes) == 1000 {
		w.flush()
	}
}

func (w *journalWriter) flush() {
	if w.err != nil || len(w.changes) == 0 {
		return
	}
	text, err := json.Marshal(w.changes)
	if err == nil {
		w.last, err = w.store.Append(context.Background(), store.Entry{Revision: w.last.Revision + 1, At: time.Date(2026, 3, 2, 9, 0, 0, 0, time.UTC).Format(time.RFC3339Nano),
			Actor: "user:opal", Changes: string(text), Previous: w.last.Hash})
	}
	w.changes, w.err = nil, err
}

// BenchmarkLarge is the service on a large platform: its start from the journal
// and from a checkpoint, one grant until it is in effect and durable, who can use
// one table, and all that one user can do. It reports the resident memory.
func BenchmarkLarge(b *testing.B) {
	dir, err := largeFolder()
	if err != nil {
		b.Fatal(err)
	}
	open := func(b *testing.B) *service.Service {
		b.Helper()
		svc, err := service.Open(context.Background(), dir, quiet, service.Options{AcceptLoss: true})
		if err != nil {
			b.Fatal(err)
		}
		return svc
	}
	stop := func(b *testing.B, svc *service.Service) {
		b.Helper()
		if err := svc.Close(context.Background()); err != nil {
			b.Fatal(err)
		}
	}
	b.Run("start-from-journal", func(b *testing.B) {
		for b.Loop() {
			b.StopTimer()
			for _, file := range checkpoints(b, dir) {
				os.Remove(file)
			}
			b.StartTimer()
			svc := open(b)
			b.StopTimer()
			stop(b, svc)
			b.StartTimer()
		}
	})
	b.Run("start-from-checkpoint", func(b *testing.B) {
		for b.Loop() {
			svc := open(b)
			b.StopTimer()
			stop(b, svc)
			b.StartTimer()
		}
	})
	svc := open(b)
	defer stop(b, svc)
	opal, err := svc.Admin.ActAs("user:opal")
	if err != nil {
		b.Fatal(err)
	}
	debug.FreeOSMemory()
	b.Run("grant", func(b *testing.B) {
		for i := 0; b.Loop(); i++ {
			if _, err := svc.Admin.Grant(ctx, opal, wire.GrantRequest{Privileges: []string{"DESCRIBE"}, Object: fmt.Sprintf("s.c%d.t1", i%500), Subjects: []string{fmt.Sprintf("user:u%d", i%10_000)}}, false); err != nil {
				b.Fatal(err)
			}
		}
		b.ReportMetric(resident(b), "MiB-resident")
	})
	b.Run("who-can", func(b *testing.B) {
		for i := 0; b.Loop(); i++ {
			if list, err := svc.Review.AccessTo(opal, review.AccessSearch{To: fmt.Sprintf("s.c%d.t3", i%500)}); err != nil || len(list.Items) == 0 {
				b.Fatal(err)
			}
		}
	})
	b.Run("all-of-one", func(b *testing.B) {
		for i := 0; b.Loop(); i++ {
			if list, err := svc.Review.AccessOf(opal, review.AccessSearch{Of: fmt.Sprintf("user:u%d", i%10_000)}); err != nil || len(list.Items) == 0 {
				b.Fatal(err)
			}
		}
	})
}

// resident is this process's resident memory in MiB.
func resident(b *testing.B) float64 {
	b.Helper()
	status, err := os.ReadFile("/proc/self/status")
	if err != nil {
		b.Skip("there is no /proc")
	}
	_, after, _ := strings.Cut(string(status), "VmRSS:")
	var kib float64
	if _, err := fmt.Sscan(after, &kib); err != nil {
		b.Fatal(err)
	}
	return kib / 1024
}
