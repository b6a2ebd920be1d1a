package store

import (
	"errors"
	"math/rand/v2"
	"slices"
	"testing"
	"time"
)

const millis = "2006-01-02T15:04:05.000Z"

// TestStretches searches by time while the clock is set back now and then, and compares the results with a plain loop
// over all records: as the record grows, after a restart, an update from the version before, pruning, and a loss.
func TestStretches(t *testing.T) {
	dir := t.TempDir()
	s := opened(t, dir)
	r := rand.New(rand.NewPCG(21, 22))
	now := time.Date(2025, 11, 20, 0, 0, 0, 0, time.UTC)
	var all []*Record
	write := func(n int) {
		t.Helper()
		var part []*Record
		for range n {
			now = now.Add(time.Duration(r.IntN(120)) * time.Second)
			if r.IntN(1500) == 0 {
				now = now.Add(-time.Duration(r.IntN(20)) * time.Hour)
			}
			part = append(part, &Record{At: now.Format(millis), Actor: []string{"user:flint", "user:marl", "user:onyx"}[r.IntN(3)], Action: "query",
				Decision: "allowed", Labels: "[]", Objects: "[]", Missing: "[]"})
		}
		must(t, s.Audit().Load(ctx, part, now.Format(time.RFC3339)))
		all = append(all, part...)
	}
	compare := func(when string) {
		t.Helper()
		for range 80 {
			q := Search{Limit: 1 + r.IntN(400), Actor: []string{"", "user:marl", "user:none"}[r.IntN(3)]}
			from := now.Add(-time.Duration(r.IntN(400)) * time.Hour)
			if r.IntN(3) == 0 {
				from = now.Add(-time.Duration(r.IntN(10*60)) * time.Minute)
			}
			if q.From = from.Format(millis); r.IntN(4) == 0 {
				q.From = ""
			}
			if r.IntN(3) > 0 {
				q.Until = from.Add(time.Duration(r.IntN(100)) * time.Hour).Format(millis)
			}
			switch r.IntN(3) {
			case 0:
				q.Before = 1 + r.Int64N(int64(len(all)+1))
			case 1:
				q.Behind = 1 + r.Int64N(int64(len(all)+1))
			}
			var want []int64
			for _, x := range all {
				if (q.Actor == "" || x.Actor == q.Actor) && x.At >= q.From && (q.Until == "" || x.At < q.Until) && (q.Before == 0 || x.ID < q.Before) && x.ID > q.Behind {
					want = append(want, x.ID)
				}
			}
			if q.Behind == 0 {
				slices.Reverse(want)
			}
			want = want[:min(len(want), q.Limit)]
			found, err := s.Audit().Find(ctx, q)
			must(t, err)
			if !slices.EqualFunc(found, want, func(x Record, id int64) bool { return x.ID == id }) {
				t.Fatalf("%s: %+v finds %d records, want %d", when, q, len(found), len(want))
			}
		}
		if _, _, err := s.VerifyRecord(ctx, 0); err != nil {
			t.Fatalf("%s: %v", when, err)
		}
	}
	compare("empty")
	lose := func(n int) { // the last records, whose numbers are used again
		t.Helper()
		all = all[:len(all)-n]
		last := all[len(all)-1].ID
		must(t, s.Audit().openPage(ctx, last+1))
		_, err := s.Audit().db.Exec(`DELETE FROM record WHERE id > ?; DELETE FROM page WHERE first > ?`, last, last)
		must(t, err)
		if err := s.Close(); err != nil && !errors.Is(err, ErrAltered) {
			t.Fatal(err)
		}
		if s, err = Open(dir, true); err != nil {
			t.Fatal(err)
		}
		if more, err := s.Audit().between(ctx, last+1, last+1); err != nil {
			t.Fatal(err)
		} else if len(more) > 0 { // it says again where the record begins
			all = append(all, &more[0])
		}
	}
	again := func() {
		t.Helper()
		must(t, s.Close())
		s = opened(t, dir)
	}
	write(1500)
	lose(600)
	for _, n := range []int{99, 1, 1, 998, 1, 4321} {
		write(n)
		compare("growing")
	}
	again()
	write(2500)
	compare("after a restart")

	must(t, s.Close())
	back(t, dir, 9)
	s = opened(t, dir)
	compare("after an update")

	at := all[len(all)/2].At
	n, err := s.Audit().CountBefore(ctx, at)
	must(t, err)
	said := &Record{At: all[len(all)-1].At, Actor: "user:opal", Action: "retention", Decision: "allowed", Labels: "[]"}
	gone, err := s.Audit().Prune(ctx, at, func(base Head) (int64, error) {
		said.Reason = BaseText(base)
		err := s.Audit().Add(said)
		return said.ID, err
	})
	must(t, err)
	i := slices.IndexFunc(all, func(x *Record) bool { return x.At >= at })
	if all = append(all[i:], said); int64(i) != n || int64(i) != gone {
		t.Errorf("%d records were counted and %d pruned, want %d", n, gone, i)
	}
	compare("after pruning")
	again()
	write(1000)
	compare("after pruning and a restart")

	lose(1700)
	write(900)
	compare("after a loss")
	write(1900)
	compare("after a loss, later")

	if _, err := s.Audit().db.Exec(`UPDATE stretch SET latest = earliest WHERE first = (SELECT max(first) FROM stretch)`); err != nil {
		t.Fatal(err)
	}
	if _, _, err := s.VerifyRecord(ctx, 0); !errors.Is(err, ErrAltered) {
		t.Errorf("a stretch that hides records: %v", err)
	}
	must(t, s.Close())
	if _, err := Open(dir, false); !errors.Is(err, ErrAltered) {
		t.Errorf("opened with a stretch that hides records: %v", err)
	}
	if s, err = Open(dir, true); err != nil {
		t.Fatal(err)
	}
	compare("after the stretches were computed again")
	must(t, s.Close())
}
