package service_test

import (
	"fmt"
	"math"
	"math/rand/v2"
	"slices"
	"strings"
	"testing"

	"gneiss/core/access"
	"gneiss/service"
	"gneiss/service/platform"
	"gneiss/store"
)

// TestLongJournals: a start on a long journal leaves checkpoints behind, and the states that are made
// from them are those that the journal alone makes.
func TestLongJournals(t *testing.T) {
	dir := t.TempDir()
	st, err := store.Open(dir, false)
	if err != nil {
		t.Fatal(err)
	}
	w := &journalWriter{store: st}
	r := rand.New(rand.NewPCG(5, 6))
	w.add("add_subject", access.AddSubject{Subject: "user:opal"})
	w.add("join", access.Join{Member: "user:opal", Of: access.Administrator})
	w.add("add_object", access.AddObject{Path: "s", Kind: "source"})
	for i := range 300 {
		w.add("add_object", access.AddObject{Path: fmt.Sprintf("s.c%d", i), Kind: "schema"})
		w.add("add_subject", access.AddSubject{Subject: fmt.Sprintf("role:r%d", i)})
	}
	there := map[access.RemoveGrant]bool{}
	for range 230_000 {
		key := access.RemoveGrant{Privilege: []string{"SELECT", "INSERT", "reader"}[r.IntN(3)],
			Object: fmt.Sprintf("s.c%d", r.IntN(300)), Subject: fmt.Sprintf("role:r%d", r.IntN(300)), Grantor: "user:opal"}
		if there[key] {
			w.add("remove_grant", key)
		} else {
			w.add("add_grant", access.AddGrant{Privilege: key.Privilege, Object: key.Object, Subject: key.Subject, Grantor: key.Grantor})
		}
		there[key] = !there[key]
	}
	w.flush()
	if err := firstError(w.err, st.Close()); err != nil {
		t.Fatal(err)
	}
	last := w.last.Revision
	asked := []int64{last, last - 15, 20}
	want := map[int64]string{}
	m := access.New()
	for _, e := range entries(t, dir) { // one after another
		changes, err := platform.Changes(e)
		if err != nil {
			t.Fatal(err)
		}
		when, err := e.Time()
		if err != nil {
			t.Fatal(err)
		}
		steps := make([]access.Change, len(changes))
		for i, c := range changes {
			steps[i] = c.(access.Change)
		}
		if m, err = m.Apply(when, steps...); err != nil {
			t.Fatal(err)
		}
		if slices.Contains(asked, e.Revision) {
			want[e.Revision] = whole(t, m)
		}
	}
	for round, from := range []string{"the journal", "a checkpoint before a damaged one"} {
		svc, err := service.Open(ctx, dir, quiet, service.Options{AcceptLoss: true})
		if err != nil {
			t.Fatal(err)
		}
		for _, n := range asked {
			at, err := svc.Platform.At(ctx, n)
			if err != nil {
				t.Fatal(err)
			}
			if whole(t, at.Model) != want[n] {
				t.Errorf("revision %d, after a start from %s, is not what the journal says", n, from)
			}
		}
		if err := svc.Close(ctx); err != nil {
			t.Fatal(err)
		}
		files := checkpoints(t, dir)
		if len(files) != 2 {
			t.Fatalf("round %d left the checkpoints %v", round, files)
		}
		damage(t, files[1]) // the one before it serves
	}
}

func entries(t *testing.T, dir string) []store.Entry {
	t.Helper()
	st, err := store.Open(dir, true)
	if err != nil {
		t.Fatal(err)
	}
	defer st.Close()
	list, err := st.Entries(ctx, 0, math.MaxInt32)
	if err != nil {
		t.Fatal(err)
	}
	return list
}

// whole is all of a model as text.
func whole(t *testing.T, m *access.Model) string {
	t.Helper()
	var b strings.Builder
	if err := m.Snapshot(func(part any) error { _, err := fmt.Fprintf(&b, "%v\n", part); return err }); err != nil {
		t.Fatal(err)
	}
	return b.String()
}
