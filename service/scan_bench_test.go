package service_test

import (
	"flag"
	"fmt"
	"testing"

	"gneiss/demo/demotest"
	"gneiss/source/pgtest"
	"gneiss/wire"
)

var wide = flag.Int("scan.tables", 2000, "tables of the source that BenchmarkScan looks at")

// BenchmarkScan is a source of many tables: connecting it, looking at it again
// with nothing changed, and with one table more and one fewer.
func BenchmarkScan(b *testing.B) {
	server := pgtest.Start(b)
	url, err := server.Database("wide")
	if err != nil {
		b.Fatal(err)
	}
	do := func(text string) {
		b.Helper()
		if err := server.Exec(url, text); err != nil {
			b.Fatal(err)
		}
	}
	// A transaction holds a lock for each table it makes, so it makes few.
	for from := 0; from < *wide; from += 1000 {
		do(fmt.Sprintf(`CREATE SCHEMA s%d; DO $$ BEGIN FOR i IN 1..%d LOOP
			EXECUTE format('CREATE TABLE s%d.t%%s (id integer PRIMARY KEY, name varchar(40), day date, cost numeric(12,2), note text)', i);
		END LOOP; END $$`, from/1000, min(1000, *wide-from), from/1000))
	}
	svc := demotest.Open(b, demotest.Folder(b))
	opal := caller(b, svc, "opal")
	sources := 0
	b.Run("connect", func(b *testing.B) {
		for b.Loop() {
			if _, err := svc.Admin.AddSource(ctx, opal, wire.SourceRequest{Name: fmt.Sprint("wide", sources), Location: url}); err != nil {
				b.Fatal(err)
			}
			sources++
		}
	})
	scan := func(b *testing.B, differs bool) {
		b.Helper()
		out, err := svc.Admin.Scan(ctx, opal, "wide0", wire.Change{})
		if err != nil {
			b.Fatal(err)
		}
		if differs != (len(out.Notes) > 0) {
			b.Fatalf("the scan's differences: %v", out.Notes)
		}
	}
	b.Run("again", func(b *testing.B) {
		for b.Loop() {
			scan(b, false)
		}
	})
	b.Run("one-more-one-fewer", func(b *testing.B) {
		last := 1
		for b.Loop() {
			b.StopTimer()
			do(fmt.Sprintf("ALTER TABLE s0.t%d RENAME TO t%d", last, *wide+last))
			last += *wide
			b.StartTimer()
			scan(b, true)
		}
	})
}
