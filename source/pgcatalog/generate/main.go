// Command generate writes the catalog of package sqltype, or, named layout, that of package
// catalog of the SQL port: it starts a PostgreSQL server of this machine's and reads what that
// says of itself.
package main

import (
	"context"
	"log"
	"os"
	"path/filepath"

	"gneiss/source/pgcatalog"
	"gneiss/source/pgtest"
)

func main() {
	server, err := pgtest.Run()
	if err != nil {
		log.Fatal(err)
	}
	defer server.Stop()
	read := pgcatalog.Read
	if filepath.Base(os.Args[1]) == "layout.tsv" {
		read = pgcatalog.Layout
	}
	lines, err := read(context.Background(), server.URL)
	if err != nil {
		log.Print(err)
		return
	}
	if err := os.WriteFile(os.Args[1], []byte(lines), 0o644); err != nil {
		log.Print(err)
	}
}
