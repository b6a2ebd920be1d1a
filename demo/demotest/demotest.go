// Package demotest serves the demo platform to tests: the real service, on
// loopback, each test on a copy of its own.
package demotest

import (
	"context"
	"errors"
	"io"
	"log/slog"
	"net"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"testing"
	"time"

	"gneiss/api"
	"gneiss/client"
	"gneiss/demo"
	"gneiss/service"
	"gneiss/wire"
)

// made is the demo's data folder, made once for a test binary.
var made = sync.OnceValues(func() (string, error) {
	dir, err := os.MkdirTemp("", "gneiss-demo-")
	if err != nil {
		return "", err
	}
	return filepath.Join(dir, "data"), demo.Make(context.Background(), filepath.Join(dir, "data"), demo.Password, io.Discard)
})

// Run runs a package's tests and removes what they shared.
func Run(m *testing.M) int {
	code := m.Run()
	stopServer()
	if dir, err := made(); err == nil {
		os.RemoveAll(filepath.Dir(dir))
	}
	return code
}

// Folder gives a test a data folder of its own: the records copied, the
// survey's tables linked, for nothing writes to them.
func Folder(t testing.TB) string { return OwnFolder(t) }

// OwnFolder is Folder for tests that write to the survey's tables: those of the
// schemas are copied, too.
func OwnFolder(t testing.TB, schemas ...string) string {
	t.Helper()
	from, err := made()
	if err != nil {
		t.Fatal(err)
	}
	return ownFolder(t, from, schemas)
}

func ownFolder(t testing.TB, from string, schemas []string) string {
	t.Helper()
	dir := t.TempDir()
	if err := copyFolder(from, dir, schemas...); err != nil {
		t.Fatal(err)
	}
	return dir
}

// copyFolder copies a data folder. Of the survey's tables those of the schemas are copied, the others linked.
func copyFolder(from, to string, schemas ...string) error {
	for _, name := range []string{"records.db", "audit.db", "pseudonym.key"} {
		if err := copyFile(filepath.Join(from, name), filepath.Join(to, name)); err != nil {
			return err
		}
	}
	tables := filepath.Join("sources", "survey")
	if err := os.MkdirAll(filepath.Join(to, tables), 0o700); err != nil {
		return err
	}
	files, err := filepath.Glob(filepath.Join(from, tables, "*.db"))
	for _, file := range files {
		name := filepath.Base(file)
		own := filepath.Join(to, tables, name)
		if slices.Contains(schemas, strings.TrimSuffix(name, ".db")) || os.Link(file, own) != nil {
			err = errors.Join(err, copyFile(file, own))
		}
	}
	return err
}

func copyFile(from, to string) error {
	content, err := os.ReadFile(from)
	if err != nil {
		return err
	}
	return os.WriteFile(to, content, 0o600)
}

// Open opens the service of a folder, until the test ends.
func Open(t testing.TB, dir string) *service.Service {
	t.Helper()
	svc, err := service.Open(context.Background(), dir, slog.New(slog.DiscardHandler))
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() {
		ctx, cancel := context.WithTimeout(context.Background(), 5*time.Second)
		defer cancel()
		if err := svc.Close(ctx); err != nil {
			t.Error(err)
		}
	})
	return svc
}

// Start serves the demo on a free port of loopback, until the test ends, and
// returns its address.
func Start(t testing.TB) string {
	t.Helper()
	return Serve(t, Open(t, Folder(t)))
}

// StartEmpty serves a platform that has nothing but its administrator, opal.
func StartEmpty(t testing.TB) string {
	t.Helper()
	svc := Open(t, t.TempDir())
	if _, err := svc.Admin.Bootstrap(context.Background(), "opal", demo.Password); err != nil {
		t.Fatal(err)
	}
	return Serve(t, svc)
}

// Serve serves a service on a free port of loopback, until the test ends, and returns its address.
func Serve(t testing.TB, svc *service.Service) string {
	t.Helper()
	server := api.New(svc, slog.New(slog.DiscardHandler), false)
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	served := make(chan error, 1)
	go func() { served <- server.Serve(l) }()
	t.Cleanup(func() {
		ctx, cancel := context.WithTimeout(context.Background(), 5*time.Second)
		defer cancel()
		if err := errors.Join(server.Shutdown(ctx), <-served); err != nil {
			t.Error(err)
		}
	})
	return "http://" + l.Addr().String()
}

// SignIn returns a client of the service as one of the demo's accounts.
func SignIn(t testing.TB, server, user string) *client.Client {
	t.Helper()
	s, err := client.Send[wire.Session](context.Background(), client.New(server, ""), "POST", "/session",
		wire.SignIn{User: user, Password: demo.Password, Token: true})
	if err != nil {
		t.Fatal(err)
	}
	return client.New(server, s.Token)
}
