package access

import (
	"bytes"
	"encoding/gob"
	"fmt"
	"math/rand/v2"
	"runtime"
	"sync"
	"testing"
)

// large is a platform of 10,000 users, 1,000 groups, 2,000 roles, 100,000
// tables in 500 schemas and 1,000,000 grants, made once.
var large = sync.OnceValue(func() *Model {
	r := rand.New(rand.NewPCG(1, 2))
	var changes []Change
	add := func(c Change) { changes = append(changes, c) }
	add(AddSubject{Subject: "user:opal"})
	add(Join{Member: "user:opal", Of: Administrator})
	for i := range 10_000 {
		add(AddSubject{Subject: fmt.Sprintf("user:u%d", i)})
	}
	for i := range 1_000 {
		add(AddSubject{Subject: fmt.Sprintf("group:g%d", i)})
	}
	for i := range 2_000 {
		add(AddSubject{Subject: fmt.Sprintf("role:r%d", i)})
	}
	for i := range 10_000 {
		for range 3 {
			add(Join{Member: fmt.Sprintf("user:u%d", i), Of: fmt.Sprintf("group:g%d", r.IntN(1_000))})
		}
		add(Join{Member: fmt.Sprintf("user:u%d", i), Of: fmt.Sprintf("role:r%d", r.IntN(2_000))})
	}
	for i := range 1_000 {
		add(Join{Member: fmt.Sprintf("group:g%d", i), Of: fmt.Sprintf("role:r%d", r.IntN(2_000))})
	}
	for i := 1; i < 2_000; i++ {
		add(Join{Member: fmt.Sprintf("role:r%d", i), Of: fmt.Sprintf("role:r%d", r.IntN(i))})
	}
	add(AddObject{Path: "s", Kind: "source"})
	tables := make([]string, 0, 100_000)
	for i := range 500 {
		schema := fmt.Sprintf("s.c%d", i)
		add(AddObject{Path: schema, Kind: "schema"})
		for j := range 200 {
			table := fmt.Sprintf("%s.t%d", schema, j)
			tables = append(tables, table)
			add(AddObject{Path: table, Kind: "table"})
			for k := range 4 {
				add(AddObject{Path: fmt.Sprintf("%s.k%d", table, k), Kind: "column", Type: "text"})
			}
		}
	}
	add(AddGrant{Privilege: "USAGE", Object: "s", Subject: "public", Grantor: "user:opal"})
	add(AddGrant{Privilege: "USAGE", Object: "lane:interactive", Subject: "public", Grantor: "user:opal"})
	subject := func() string {
		switch n := r.IntN(100); {
		case n < 80:
			return fmt.Sprintf("role:r%d", r.IntN(2_000))
		case n < 95:
			return fmt.Sprintf("group:g%d", r.IntN(1_000))
		default:
			return fmt.Sprintf("user:u%d", r.IntN(10_000))
		}
	}
	privileges := []string{"SELECT", "SELECT", "SELECT", "INSERT", "UPDATE", "DELETE", "DESCRIBE", "reader"}
	for i := range 1_000_000 {
		c := AddGrant{Privilege: privileges[r.IntN(len(privileges))], Subject: subject(), Grantor: "user:opal"}
		switch n := i % 100; {
		case n < 2:
			c.Privilege, c.Object = "USAGE", fmt.Sprintf("s.c%d", r.IntN(500))
		case n < 4:
			c.Object = fmt.Sprintf("s.c%d", r.IntN(500))
		case n < 5:
			c.Object = fmt.Sprintf("s.c%d.t%d*", r.IntN(500), r.IntN(20))
		default:
			c.Object = tables[r.IntN(len(tables))]
		}
		add(c)
	}
	m, err := New().Apply(day, changes...)
	if err != nil {
		panic(err)
	}
	return m
})

func largeUser(b *testing.B, m *Model, i int) Standpoint {
	s, err := m.FindSubject(fmt.Sprintf("user:u%d", i%10_000))
	if err != nil {
		b.Fatal(err)
	}
	return Standpoint{Subject: s.ID}
}

func largeTable(b *testing.B, m *Model, i int) ObjectID {
	o, err := m.Lookup(fmt.Sprintf("s.c%d.t%d", i%500, i%200))
	if err != nil {
		b.Fatal(err)
	}
	return o.ID
}

// BenchmarkLargeResolve is one answer on the large platform: warm, from a
// session that has asked before, and cold, from a session's first question.
func BenchmarkLargeResolve(b *testing.B) {
	m := large()
	b.Run("warm", func(b *testing.B) {
		st, err := m.Rights(largeUser(b, m, 1), day)
		if err != nil {
			b.Fatal(err)
		}
		ids := make([]ObjectID, 1000)
		for i := range ids {
			ids[i] = largeTable(b, m, i)
			st.Resolve(ids[i])
		}
		b.ReportAllocs()
		for i := 0; b.Loop(); i++ {
			st.Resolve(ids[i%len(ids)])
		}
	})
	b.Run("cold", func(b *testing.B) {
		sessions, ids := make([]Standpoint, 1000), make([]ObjectID, 1000)
		for i := range ids {
			sessions[i], ids[i] = largeUser(b, m, i), largeTable(b, m, i)
		}
		b.ReportAllocs()
		for i := 0; b.Loop(); i++ {
			st, err := m.Rights(sessions[i%len(ids)], day)
			if err != nil {
				b.Fatal(err)
			}
			st.Resolve(ids[i%len(ids)])
		}
	})
}

// BenchmarkLargeWhoCan is who can SELECT one table, of all subjects.
func BenchmarkLargeWhoCan(b *testing.B) {
	m := large()
	for i := 0; b.Loop(); i++ {
		c := m.TakeCensus(day)
		if c.May(Select, largeTable(b, m, i)).None() {
			b.Fatal("nobody")
		}
	}
}

// BenchmarkLargeAllOfOne is all that one user can do, on all tables.
func BenchmarkLargeAllOfOne(b *testing.B) {
	m := large()
	for i := 0; b.Loop(); i++ {
		st, err := m.Rights(largeUser(b, m, i), day)
		if err != nil {
			b.Fatal(err)
		}
		n := 0
		st.Walk(PlatformID, func(o *Object, v Verdict) bool {
			if v.Allowed.Has(Select) {
				n++
			}
			return true
		})
		if n == 0 {
			b.Fatal("nothing")
		}
	}
}

// BenchmarkLargeGrant is one grant added, and the first answer that counts it.
func BenchmarkLargeGrant(b *testing.B) {
	m := large()
	for i := 0; b.Loop(); i++ {
		next, err := m.Apply(day, AddGrant{Privilege: "SELECT", Object: "s.c1.t1", Subject: fmt.Sprintf("user:u%d", i%10_000), Grantor: "user:opal"})
		if err != nil {
			b.Fatal(err)
		}
		st, err := next.Rights(largeUser(b, next, i), day)
		if err != nil {
			b.Fatal(err)
		}
		if st.Resolve(largeTable(b, next, 1)).Held&Set(Select) == 0 {
			b.Fatal("not in effect")
		}
	}
}

// BenchmarkLargeRevoke is the costliest change: the end of a grant that others
// could depend on, which looks at all grants.
func BenchmarkLargeRevoke(b *testing.B) {
	m, err := large().Apply(day, AddGrant{Privilege: "MANAGE", Object: "s", Subject: "user:u7", Grantor: "user:opal"})
	if err != nil {
		b.Fatal(err)
	}
	for b.Loop() {
		if _, err := m.Apply(day, RemoveGrant{Privilege: "MANAGE", Object: "s", Subject: "user:u7"}); err != nil {
			b.Fatal(err)
		}
	}
}

// BenchmarkLargeDormant looks at all grants for those that have no effect.
func BenchmarkLargeDormant(b *testing.B) {
	m := large()
	for b.Loop() {
		c, n := m.TakeCensus(day), 0
		m.EachGrant(func(g *Grant) {
			if c.Dormant(g) != nil {
				n++
			}
		})
		b.ReportMetric(float64(n), "dormant")
	}
}

// BenchmarkLargeRestore is the reading of a checkpoint.
func BenchmarkLargeRestore(b *testing.B) {
	var file bytes.Buffer
	if err := large().Snapshot(gob.NewEncoder(&file).Encode); err != nil {
		b.Fatal(err)
	}
	b.ReportMetric(float64(file.Len())/(1<<20), "MiB")
	for b.Loop() {
		if _, err := Restore(gob.NewDecoder(bytes.NewReader(file.Bytes())).Decode); err != nil {
			b.Fatal(err)
		}
	}
}

// BenchmarkLargeMemory is what the model holds in memory.
func BenchmarkLargeMemory(b *testing.B) {
	for b.Loop() {
		m := large()
		runtime.GC()
		var s runtime.MemStats
		runtime.ReadMemStats(&s)
		b.ReportMetric(float64(s.HeapAlloc)/(1<<20), "MiB")
		runtime.KeepAlive(m)
	}
}
