package demotest

import (
	"context"
	"io"
	"os"
	"sync"
	"testing"

	"gneiss/demo"
	"gneiss/source/pgtest"
)

// A served platform is the demo with the survey's tables in PostgreSQL as well, made once for a test binary. The
// database is kept as a template, for each test has its own.
type served struct {
	dir    string
	server *pgtest.Server
	url    string
}

var withServer = sync.OnceValues(func() (s served, err error) {
	from, err := made()
	if err != nil {
		return s, err
	}
	if s.dir, err = os.MkdirTemp("", "gneiss-demo-"); err != nil {
		return s, err
	}
	if err := copyFolder(from, s.dir); err != nil {
		return s, err
	}
	if s.server, err = pgtest.Run(); err != nil {
		return s, err
	}
	if s.url, err = s.server.Database("survey"); err != nil {
		return s, err
	}
	if err := demo.AddPostgres(context.Background(), s.dir, s.url, io.Discard); err != nil {
		return s, err
	}
	_, err = s.server.DB.Exec("ALTER DATABASE survey RENAME TO survey_made")
	return s, err
})

var serverUsed bool

// OnServer gives a test a data folder of its own, of the demo with the source survey_pg, and the server and database
// of that. The server is one for all tests of a package, so they run one after the other; databases that a test
// makes are gone with the next. The tables of the schemas that are named can be written to.
func OnServer(t testing.TB, schemas ...string) (dir string, server *pgtest.Server, url string) {
	t.Helper()
	s, err := withServer()
	serverUsed = true
	if err == nil {
		err = s.server.Reset("survey_made", "survey")
	}
	if err != nil {
		t.Fatal(err)
	}
	return ownFolder(t, s.dir, schemas), s.server, s.url
}

// stopServer ends what OnServer has made.
func stopServer() {
	if !serverUsed {
		return
	}
	if s, err := withServer(); err == nil {
		s.server.Stop()
		os.RemoveAll(s.dir)
	}
}
