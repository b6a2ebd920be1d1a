package store

import (
	"cmp"
	"encoding/json"
	"errors"
	"fmt"
	"math/rand/v2"
	"slices"
	"strings"
	"sync"
	"testing"
	"time"
)

// dimensions are what is counted by.
var dimensions = []string{"person", "address", "other", "purpose", "role", "table"}

// TestCountsAreTheRecord: whenever records are counted, and in whatever parts, the counts of any days,
// label and person are those of a plain reading of the record; and a search by person finds what it does.
func TestCountsAreTheRecord(t *testing.T) {
	s := opened(t, t.TempDir())
	defer s.Close()
	r := rand.New(rand.NewPCG(11, 12))
	pick := func(all ...string) string { return all[r.IntN(len(all))] }
	s.Audit().portion = portion{least: 7, most: 40} // that begin and end within pages
	var all, together []*Record
	began := time.Date(2025, 11, 20, 0, 0, 0, 0, time.UTC)
	judged := 0
	sets := []*UseSet{nil, {Needs: `{"s":5,"r":[7,8],"t":[20]}`}, {Needs: `{"s":5,"r":[8],"t":[20,21]}`}, {Needs: `{"s":6}`}}
	for i := range 600 {
		at := began.Add(time.Duration(i) * 4 * time.Hour)
		record := &Record{
			At:         at.Format("2006-01-02T15:04:05.000Z"),
			Actor:      pick("user:flint", "user:marl", "user:marlow"),
			Action:     pick("query", "query", "write", "change"),
			Standpoint: pick("", "", "user:flint", "user:marl in role:x", "user:marl for survey", "user:marl!"),
			Decision:   pick("allowed", "allowed", "refused"),
			Labels:     pick(`[]`, `["label:a"]`, `["label:a","label:b"]`),
			Address:    pick("10.0.0.1", "10.0.0.2", ""),
			Rows:       int64(r.IntN(50)),
			Use:        sets[r.IntN(len(sets))],
			Open:       r.IntN(3) == 0 && i/60%2 == 0,
			Objects:    "[]",
			Missing:    "[]",
		}
		if i/60%3 > 0 { // much of which is kept in pages
			record.Standpoint = pick("", record.Actor, record.Actor+" for survey")
		}
		if record.Open {
			record.Rows, record.Decision = 0, "allowed"
		}
		all, together = append(all, record), append(together, record)
		if r.IntN(12) > 0 && i < 599 {
			continue
		}
		addTogether(t, s, together...)
		var ends []*Record
		for _, record := range together {
			if record.Open && r.IntN(4) > 0 {
				if r.IntN(2) == 0 {
					must(t, s.Audit().Count(ctx))
				}
				end := &Record{At: at.Add(20 * time.Hour).Format("2006-01-02T15:04:05.000Z"), Actor: record.Actor, Action: record.Action,
					Decision: "allowed", Labels: "[]", Rows: int64(r.IntN(50)), Ends: record.ID}
				ends = append(ends, end)
				record.Rows = end.Rows
			}
		}
		addTogether(t, s, ends...)
		together = nil
		if r.IntN(4) == 0 {
			must(t, s.Audit().Look(ctx, func(days []LabelDay, from, _ string) []Unusual {
				judged += len(days)
				return []Unusual{{Day: from, Kind: "first", Actor: days[0].Actor, Label: "label:a"}}
			}))
		}
	}
	must(t, s.Audit().Count(ctx))
	if judged == 0 {
		t.Error("nobody was looked at")
	}
	if rows, pages := keptAs(t, s); rows < 200 || pages < 15 {
		t.Errorf("%d records are rows, and there are %d pages; want many of both", rows, pages)
	}
	for range 200 {
		from := began.AddDate(0, 0, r.IntN(100))
		q := CountSearch{From: from.Format(time.DateOnly), Until: from.AddDate(0, 0, r.IntN(100)).Format(time.DateOnly),
			Label: pick("", "label:a", "label:b"), Actor: pick("", "user:marl", "user:nobody")}
		wantDays, want := map[string]int64{}, map[string]map[string]int64{}
		for _, by := range dimensions {
			want[by] = map[string]int64{}
		}
		for _, x := range all {
			var labels []string
			if err := json.Unmarshal([]byte(x.Labels), &labels); err != nil {
				t.Fatal(err)
			}
			day := x.At[:10]
			if x.Decision == "refused" || x.Action == "change" || day < q.From || day > q.Until || q.Actor != "" && x.Actor != q.Actor {
				continue
			}
			times := 0
			for _, l := range labels {
				if q.Label == "" || q.Label == l {
					wantDays[day+" "+l] += 1000 + x.Rows
					times++
				}
			}
			if q.Actor == "" {
				times = min(times, 1) // what has two labels is counted once
			}
			add := func(by, name string) {
				if name != "" && times > 0 {
					want[by][name] += int64(times) * (1000 + x.Rows)
				}
			}
			whom, _, _ := strings.Cut(x.Standpoint, " ")
			if whom != "" && whom != x.Actor {
				add("other", x.Actor+" as "+whom)
			} else {
				add("person", x.Actor)
			}
			add("address", x.Address)
			_, purpose, _ := strings.Cut(x.Standpoint, " for ")
			add("purpose", purpose)
			if q.Actor == "" && x.Use != nil {
				var needs struct{ R, T []int }
				if err := json.Unmarshal([]byte(x.Use.Needs), &needs); err != nil {
					t.Fatal(err)
				}
				for _, id := range needs.R {
					add("role", fmt.Sprint(id))
				}
				for _, id := range needs.T {
					add("table", fmt.Sprint(id))
				}
			}
		}
		days, err := s.Audit().LabelDays(ctx, q)
		must(t, err)
		gotDays := map[string]int64{}
		for _, d := range days {
			gotDays[d.Day+" "+d.Label] += 1000*d.N + d.Rows
		}
		if fmt.Sprint(gotDays) != fmt.Sprint(wantDays) {
			t.Fatalf("%+v:\n%v\nwant\n%v", q, gotDays, wantDays)
		}
		if q.Label == "" && q.Actor == "" { // what was needed of rights is told of by the same days
			wantUses, gotUses := map[string]int64{}, map[string]int64{}
			for _, x := range all {
				if x.Use != nil && x.Decision == "allowed" && x.At[:10] >= q.From && x.At[:10] <= q.Until {
					wantUses[x.Use.Needs]++
				}
			}
			uses, err := s.Audit().Uses(ctx, q.From, q.Until, 0)
			must(t, err)
			for _, u := range uses {
				gotUses[u.Needs] += u.N
				if u.Last < q.From || u.Last > q.Until {
					t.Fatalf("%+v: needed last on %s", q, u.Last)
				}
			}
			if fmt.Sprint(gotUses) != fmt.Sprint(wantUses) {
				t.Fatalf("%+v: needed were\n%v\nwant\n%v", q, gotUses, wantUses)
			}
		}
		for _, by := range dimensions {
			totals, err := s.Audit().Totals(ctx, q, by, 1000)
			must(t, err)
			got := map[string]int64{}
			for i, d := range totals {
				got[d.Name] += 1000*d.N + d.Rows
				if i > 0 && d.Rows > totals[i-1].Rows {
					t.Fatalf("%+v by %s: %v are not in order", q, by, totals)
				}
			}
			if fmt.Sprint(got) != fmt.Sprint(want[by]) {
				t.Fatalf("%+v by %s:\n%v\nwant\n%v", q, by, got, want[by])
			}
		}
	}
	for range 600 {
		q := Search{Actor: pick("user:flint", "user:marl", "user:marlow", "user:mar"), Themself: r.IntN(3) == 0,
			Decision: pick("", "refused"), Limit: 1 + r.IntN(40)}
		if r.IntN(2) == 0 {
			q.From = began.AddDate(0, 0, r.IntN(100)).Format(time.RFC3339)
			q.Until = began.AddDate(0, 0, 20+r.IntN(100)).Format(time.RFC3339)
		}
		q.Others = r.IntN(4) == 0
		if r.IntN(3) == 0 {
			q.Before = int64(r.IntN(600))
		} else if r.IntN(3) == 0 {
			q.Behind = int64(1 + r.IntN(600))
		}
		var want []int64
		for _, x := range all {
			as := x.Standpoint == q.Actor || strings.HasPrefix(x.Standpoint, q.Actor+" ")
			other := x.Standpoint != "" && x.Standpoint != x.Actor && !strings.HasPrefix(x.Standpoint, x.Actor+" ")
			if q.Others && !other {
				continue
			}
			if x.Actor != q.Actor && (q.Themself || !as) || q.Decision != "" && x.Decision != q.Decision || q.From != "" && x.At < q.From ||
				q.Until != "" && x.At >= q.Until || q.Before > 0 && x.ID >= q.Before || q.Behind > 0 && x.ID <= q.Behind {
				continue
			}
			want = append(want, x.ID)
		}
		slices.SortFunc(want, func(a, b int64) int {
			if q.Behind > 0 {
				return cmp.Compare(a, b)
			}
			return cmp.Compare(b, a)
		})
		want = want[:min(len(want), q.Limit)]
		found, err := s.Audit().Find(ctx, q)
		must(t, err)
		var got []int64
		for _, x := range found {
			got = append(got, x.ID)
		}
		if fmt.Sprint(got) != fmt.Sprint(want) {
			t.Fatalf("%+v finds %v, want %v", q, got, want)
		}
	}
}

// TestPortions: portions grow while they are quick, up to a limit, and shrink when they take long, sooner when somebody
// waits.
func TestPortions(t *testing.T) {
	var free, busy turn
	busy.waiting.Store(1)
	p := portion{least: 20, most: 100}
	for i, c := range []struct {
		took time.Duration
		turn *turn
		size int64
	}{{0, &free, 40}, {0, &free, 80}, {0, &busy, 100}, {0, &free, 100}, {busyPortion * 2, &free, 100}, {busyPortion * 2, &busy, 50}, {busyPortion / 2, &busy, 50},
		{idlePortion * 2, &free, 25}, {idlePortion * 2, &busy, 20}, {idlePortion * 2, &busy, 20}, {0, &busy, 40}} {
		p.fit(time.Now().Add(-c.took), c.turn)
		if p.size() != c.size {
			t.Fatalf("step %d: %d records, want %d", i, p.size(), c.size)
		}
	}
}

// TestPrune takes away exactly the records from before a time, but never the last, and leaves a chain that holds.
func TestPrune(t *testing.T) {
	for _, together := range []int{1, 7, 300} {
		t.Run(fmt.Sprint(together), func(t *testing.T) { testPrune(t, together) })
	}
}

// saysBegin puts on record where the chain will begin, as a pruning wants it.
func saysBegin(s *Store, at string) func(Head) (int64, error) {
	return func(base Head) (int64, error) {
		r := &Record{At: at, Actor: "user:opal", Action: "retention", Decision: "allowed", Labels: "[]", Reason: BaseText(base)}
		err := s.Audit().Add(r)
		return r.ID, err
	}
}

func testPrune(t *testing.T, together int) {
	s := opened(t, t.TempDir())
	defer s.Close()
	said := int64(0) // records of prunings
	prune := func(before time.Time, gone int64, first, last int64) {
		t.Helper()
		n, err := s.Audit().Prune(ctx, before.Format("2006-01-02T15:04:05.000Z"), saysBegin(s, "2026-06-01T00:00:00.000Z"))
		if must(t, err); gone > 0 {
			said++
		}
		if first > 0 {
			last += said
		}
		var span struct{ First, Last int64 }
		must(t, s.Audit().db.Get(&span, `SELECT coalesce(min(id), 0) AS first, coalesce(max(id), 0) AS last FROM entry`))
		if n != gone || span.First != first || span.Last != last {
			t.Errorf("before %s: %d are gone and %d to %d are left, want %d, and %d to %d", before, n, span.First, span.Last, gone, first, last)
		}
		if _, _, err := s.VerifyRecord(ctx, 0); err != nil {
			t.Errorf("before %s: %v", before, err)
		}
	}
	began := time.Date(2025, 11, 20, 0, 0, 0, 0, time.UTC)
	at := func(hour int) time.Time { return began.Add(time.Duration(hour) * time.Hour) }
	prune(at(5), 0, 0, 0)
	var records []*Record
	for i := range 300 {
		records = append(records, &Record{At: at(i).Format(millis), Actor: "user:flint", Action: "change", Decision: "allowed", Labels: "[]"})
	}
	for part := range slices.Chunk(records, together) {
		addTogether(t, s, part...)
	}
	if _, pages := keptAs(t, s); pages != map[int]int{1: 0, 7: 43, 300: 2}[together] {
		t.Errorf("there are %d pages", pages)
	}
	prune(began, 0, 1, 300)
	prune(at(1), 1, 2, 300)
	prune(at(1).Add(time.Minute), 1, 3, 300)
	prune(at(200), 198, 201, 300) // in several portions
	prune(at(200), 0, 201, 300)
	prune(at(299), 99, 300, 300)
	prune(at(299), 0, 300, 300)
	must(t, s.Audit().Add(&Record{At: at(7).Format("2006-01-02T15:04:05.000Z"), Actor: "user:flint", Action: "change", Decision: "allowed", Labels: "[]"}))
	prune(at(8), 0, 300, 301) // an earlier time behind a later one
	if hash, err := s.Audit().HashOf(ctx, 299); err != nil || hash == "" {
		t.Errorf("the hash of the last that is gone: %q, %v", hash, err)
	}
	if hash, err := s.Audit().HashOf(ctx, 298); err != nil || hash != "" {
		t.Errorf("the hash of one that is gone: %q, %v", hash, err)
	}
}

// TestPrunePages takes away pages in portions that are smaller than they are, within a stretch, and what is left is found.
func TestPrunePages(t *testing.T) {
	s := opened(t, t.TempDir())
	defer s.Close()
	var records []*Record
	began := time.Date(2025, 11, 20, 0, 0, 0, 0, time.UTC)
	for i := range 2600 {
		records = append(records, &Record{At: began.Add(time.Duration(i) * time.Minute).Format(millis), Actor: "user:flint", Action: "query", Decision: "allowed", Labels: "[]"})
	}
	must(t, s.Audit().Load(ctx, records, began.Format(time.RFC3339)))
	said := int64(0)
	for _, stays := range []int{1, 900, 1300, 2600} {
		gone := int64(stays) - records[0].ID
		records = records[gone:]
		n, err := s.Audit().Prune(ctx, records[0].At, saysBegin(s, "2026-06-01T00:00:00.000Z"))
		if gone > 0 {
			said++
		}
		if must(t, err); n != gone {
			t.Errorf("%d are gone before R-%d, want %d", n, stays, gone)
		}
		if n, _, err := s.VerifyRecord(ctx, 0); err != nil || n != int64(len(records))+said {
			t.Errorf("from R-%d on, %d hold: %v", stays, n, err)
		}
		found, err := s.Audit().Find(ctx, Search{Actor: "user:flint", Limit: 10_000})
		if must(t, err); len(found) != len(records) {
			t.Errorf("from R-%d on, %d are found, want %d", stays, len(found), len(records))
		}
	}
	if rows, pages := keptAs(t, s); rows != 1+int(said) || pages != 0 {
		t.Errorf("%d rows and %d pages are left", rows, pages)
	}
}

// TestPruneWhatIsLeft takes away what is left of a record of which an operator accepted a loss.
func TestPruneWhatIsLeft(t *testing.T) {
	dir := t.TempDir()
	s := opened(t, dir)
	var records []*Record
	began := time.Date(2025, 11, 20, 0, 0, 0, 0, time.UTC)
	for i := range 3000 {
		records = append(records, &Record{At: began.Add(time.Duration(i) * time.Minute).Format(millis), Actor: "user:flint", Action: "query", Decision: "allowed", Labels: "[]"})
	}
	must(t, s.Audit().Load(ctx, records, began.Format(time.RFC3339)))
	_, err := s.Audit().db.Exec(`DELETE FROM page WHERE first BETWEEN 300 AND 2300`)
	must(t, err)
	must(t, s.Close())
	if _, err := Open(dir, false); !errors.Is(err, ErrAltered) {
		t.Fatalf("opened: %v", err)
	}
	s, err = Open(dir, true)
	must(t, err)
	defer s.Close()
	var left int64
	must(t, s.Audit().db.Get(&left, `SELECT count(*) FROM entry`))
	n, err := s.Audit().CountBefore(ctx, records[2899].At)
	must(t, err)
	gone, err := s.Audit().Prune(ctx, records[2899].At, saysBegin(s, "2026-06-01T00:00:00.000Z"))
	must(t, err)
	if want := left - 101; n != want || gone != want || left > 1200 {
		t.Errorf("of %d records %d were counted and %d taken away, want %d", left, n, gone, want)
	}
	if n, _, err := s.VerifyRecord(ctx, 0); err != nil || n != 102 {
		t.Errorf("%d hold, %v", n, err)
	}
}

// TestTheWriterHasItsTurn records while many records are counted and pruned: no record waits until that is done.
func TestTheWriterHasItsTurn(t *testing.T) {
	s := opened(t, t.TempDir())
	defer s.Close()
	var records []*Record
	began := time.Date(2025, 11, 20, 0, 0, 0, 0, time.UTC)
	for i := range 20_000 {
		records = append(records, &Record{At: began.Add(time.Duration(i) * time.Minute).Format("2006-01-02T15:04:05.000Z"), Actor: fmt.Sprintf("user:u%d", i%500),
			Action: "query", Decision: "allowed", Objects: "[]", Labels: `["label:a","label:b"]`, Missing: "[]", Address: fmt.Sprintf("10.0.0.%d", i%200), Rows: 3})
	}
	must(t, s.Audit().Load(ctx, records, began.Format(time.RFC3339)))
	for name, do := range map[string]func() error{
		"counting": func() error { return s.Audit().Look(ctx, func([]LabelDay, string, string) []Unusual { return nil }) },
		"taking away": func() error {
			_, err := s.Audit().Prune(ctx, began.AddDate(0, 0, 10).Format(time.RFC3339), saysBegin(s, "2026-06-01T00:00:00.000Z"))
			return err
		},
	} {
		started, ended := time.Now(), make(chan error)
		go func() { ended <- do() }()
		longest, added := time.Duration(0), 0
		for ending := false; !ending; added++ {
			from := time.Now()
			must(t, s.Audit().Add(&Record{At: began.Format("2006-01-02T15:04:05.000Z"), Actor: "user:flint", Action: "change", Decision: "allowed", Labels: "[]"}))
			longest = max(longest, time.Since(from))
			select {
			case err := <-ended:
				must(t, err)
				ending = true
			default:
			}
		}
		t.Logf("%s took %s; meanwhile %d were recorded, which took up to %s", name, time.Since(started), added, longest)
		if took := time.Since(started); took > 200*time.Millisecond && longest > took/3 {
			t.Errorf("%s took %s, of which the writer waited %s", name, took, longest)
		}
	}
}

func must(t testing.TB, err error) {
	t.Helper()
	if err != nil {
		t.Fatal(err)
	}
}

// TestUseSets: what was needed is told once it is new, by whatever parts it is counted; and what nobody
// needed since a day is dropped beside people who need it again, without losing what they do.
func TestUseSets(t *testing.T) {
	s := opened(t, t.TempDir())
	defer s.Close()
	const today, old, since = "2026-11-26", "2025-09-01", "2025-10-22"
	var sets []*UseSet
	for i := range 20 {
		sets = append(sets, &UseSet{Needs: fmt.Sprintf(`{"s":%d}`, i)})
	}
	known, behind, recent := map[string]string{}, int64(-1), map[string]int64{}
	var mu sync.Mutex
	look := func() {
		t.Helper()
		new, counted, err := s.Audit().NeededBehind(ctx, since, behind)
		must(t, err)
		for _, n := range new {
			known[n.Needs] = max(known[n.Needs], n.Last)
		}
		behind = counted
	}
	for round := range 6 {
		var all sync.WaitGroup
		for hand := range 3 {
			all.Go(func() {
				r := rand.New(rand.NewPCG(uint64(round), uint64(hand)))
				for range 40 {
					set, day := sets[r.IntN(len(sets))], today
					if round == 0 || r.IntN(3) == 0 {
						day = old
					}
					if err := s.Audit().Add(&Record{At: day + "T08:00:00.000Z", Actor: "user:flint", Action: "query", Decision: "allowed", Labels: "[]", Use: set}); err != nil {
						t.Error(err)
					}
					mu.Lock()
					if day == today {
						recent[set.Needs]++
					}
					mu.Unlock()
				}
			})
		}
		all.Go(func() {
			if err := s.Audit().DropUse(ctx, since); err != nil {
				t.Error(err)
			}
		})
		all.Wait()
		look()
	}
	again := &UseSet{Needs: `{"again":1}`}
	for _, day := range []string{old, today} { // whose set is dropped by nobody while it is yet to be counted
		must(t, s.Audit().Add(&Record{At: day + "T08:00:00.000Z", Actor: "user:flint", Action: "query", Decision: "allowed", Labels: "[]", Use: again}))
		if day == old {
			must(t, s.Audit().Count(ctx))
			must(t, s.Audit().dropSets(ctx, since)) // its day is there
			_, err := s.Audit().db.Exec(`DELETE FROM use_day WHERE day = ?`, old)
			must(t, err)
			must(t, s.Audit().dropSets(ctx, since)) // its month is there
			_, err = s.Audit().db.Exec(`DELETE FROM use_month WHERE month = ?`, old[:7])
			must(t, err)
		}
	}
	must(t, s.Audit().dropSets(ctx, since))
	recent[again.Needs] = 1
	must(t, s.Audit().Count(ctx))
	// Nor one that is yet to be counted, in a page that was counted in part.
	var group []*Record
	for i := range 10 {
		group = append(group, &Record{At: old + "T08:00:00.000Z", Actor: "user:flint", Action: "query", Decision: "allowed", Labels: "[]"})
		if i == 8 {
			group[i].At, group[i].Use = today+"T08:00:00.000Z", &UseSet{Needs: `{"page":1}`}
			recent[group[i].Use.Needs] = 1
		}
	}
	addTogether(t, s, group...)
	_, err := s.Audit().db.Exec(`UPDATE counted SET record = ?; UPDATE use_set SET last = ? WHERE needs LIKE '%page%'`, group[5].ID, old)
	must(t, err)
	must(t, s.Audit().dropSets(ctx, since))
	look()
	must(t, s.Audit().DropUse(ctx, since))
	uses, err := s.Audit().Uses(ctx, since, "9", 0)
	must(t, err)
	got := map[string]int64{}
	for _, u := range uses {
		got[u.Needs] = u.N
		if known[u.Needs] != today {
			t.Errorf("%s was needed on %s, and told as on %q", u.Needs, u.Last, known[u.Needs])
		}
	}
	if fmt.Sprint(got) != fmt.Sprint(recent) || len(known) != len(recent) {
		t.Errorf("needed were %v, want %v; told as new: %v", got, recent, known)
	}
	var kept int
	must(t, s.Audit().db.Get(&kept, `SELECT (SELECT count(*) FROM use_set WHERE last < ?) + (SELECT count(*) FROM use_day WHERE day < ?)`, since, since))
	if kept > 0 {
		t.Errorf("%d of what nobody needed since is kept", kept)
	}
}

// TestPurposesAreBounded: whoever thinks of ever more purposes is counted with as many a day as are kept, and
// whatever was read is counted, in whatever parts.
func TestPurposesAreBounded(t *testing.T) {
	s := opened(t, t.TempDir())
	defer s.Close()
	must(t, s.Audit().Add(&Record{At: "2025-11-20T08:00:00.000Z", Actor: "user:marl", Action: "query", Standpoint: "user:marl for audits",
		Decision: "allowed", Labels: `["label:a"]`, Rows: 1}))
	for i := range 200 {
		for _, actor := range []string{"user:flint", "user:marl"} {
			if actor == "user:marl" && i > 3 {
				continue
			}
			must(t, s.Audit().Add(&Record{At: "2025-11-20T09:00:00.000Z", Actor: actor, Action: "query", Standpoint: fmt.Sprintf("%s for reason %d", actor, i%100),
				Decision: "allowed", Labels: `["label:a"]`, Rows: 1}))
		}
		if i%7 == 0 {
			must(t, s.Audit().Count(ctx))
		}
	}
	must(t, s.Audit().Count(ctx))
	all, err := s.Audit().Totals(ctx, CountSearch{From: "2025-11-20", Until: "2025-11-20"}, "purpose", 1000)
	must(t, err)
	rows := map[string]int64{}
	total := int64(0)
	for _, of := range all {
		rows[of.Name] = of.Rows
		total += of.Rows
	}
	if len(all) != mostStandings+2 || total != 205 || rows["reason 0"] != 3 || rows["audits"] != 1 || rows[OtherPurposes] != 160 {
		t.Errorf("%d purposes of %d rows are kept: %v", len(all), total, rows)
	}
}

// TestACutRecordShows: what is cut off at the beginning of the record shows, although the chain that is
// left holds, and so does a place of its beginning that no record says.
func TestACutRecordShows(t *testing.T) {
	dir := t.TempDir()
	s := opened(t, dir)
	var records []*Record
	began := time.Date(2025, 11, 20, 0, 0, 0, 0, time.UTC)
	for i := range 900 {
		records = append(records, &Record{At: began.Add(time.Duration(i) * time.Minute).Format(millis), Actor: "user:flint", Action: "query", Decision: "allowed", Labels: "[]"})
	}
	must(t, s.Audit().Load(ctx, records, began.Format(time.RFC3339)))
	must(t, s.Audit().openPage(ctx, 501))
	cut := func(said int64) {
		t.Helper()
		hash, err := s.Audit().HashOf(ctx, 500)
		must(t, err)
		for _, text := range []string{"DELETE FROM record WHERE id <= 500", "DELETE FROM page WHERE last <= 500", "DELETE FROM pruned"} {
			_, err := s.Audit().db.Exec(text)
			must(t, err)
		}
		_, err = s.Audit().db.Exec("INSERT INTO pruned (one, id, hash, at, said) VALUES (1, 500, ?, '2026-01-01', ?)", hash, said)
		must(t, err)
	}
	cut(0)
	for _, said := range []int64{0, 500, 900, 5000} {
		_, err := s.Audit().db.Exec("UPDATE pruned SET said = ?", said)
		must(t, err)
		if _, _, err := s.VerifyRecord(ctx, 0); !errors.Is(err, ErrAltered) {
			t.Errorf("a cut that R-%d is to say: %v", said, err)
		}
	}
	must(t, s.Close())
	if _, err := Open(dir, false); !errors.Is(err, ErrAltered) {
		t.Errorf("it is opened: %v", err)
	}
}
