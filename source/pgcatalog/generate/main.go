// Command generate writes the catalog of package sqltype: it starts a PostgreSQL server
// of this machine's and reads what that says of itself.
package main

import (
	"context"
	"log"
	"os"

	"gneiss/source/pgcatalog"
	"gneiss/source/pgtest"
)

func main() {
	server, err := pgtest.Run()
	if err != nil {
		log.Fatal(err)
	}
	defer server.Stop()
	lines, err := pgcatalog.Read(context.Background(), server.URL)
	if err != nil {
		log.Print(err)
		return
	}
	if err := os.WriteFile(os.Args[1], []byte(lines), 0o644); err != nil {
		log.Print(err)
	}
}
