// Package pgtest starts a real PostgreSQL server for tests: Debian's binaries,
// in a directory of its own, as an unprivileged user.
package pgtest

import (
	"context"
	"database/sql"
	"fmt"
	"net"
	"os"
	"os/exec"
	"os/user"
	"path/filepath"
	"slices"
	"strconv"
	"syscall"
	"testing"
	"time"

	_ "github.com/jackc/pgx/v5/stdlib" // the driver
)

// Start starts a server on a free port of loopback, until the test ends, and
// returns a connection of its superuser.
func Start(t testing.TB) *sql.DB {
	t.Helper()
	bin := binaries(t)
	dir, err := os.MkdirTemp("", "gneiss-pg-")
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { os.RemoveAll(dir) })
	who := unprivileged(t)
	if who != nil {
		if err := os.Chown(dir, int(who.Uid), int(who.Gid)); err != nil {
			t.Fatal(err)
		}
	}
	command := func(name string, args ...string) *exec.Cmd {
		c := exec.Command(filepath.Join(bin, name), args...)
		c.Dir, c.Env = dir, []string{"PATH=/usr/bin:/bin", "LC_ALL=C", "TZ=UTC"}
		c.SysProcAttr = &syscall.SysProcAttr{Pdeathsig: syscall.SIGINT}
		if who != nil {
			c.SysProcAttr.Credential = who
		}
		return c
	}
	data := filepath.Join(dir, "data")
	if out, err := command("initdb", "-D", data, "-U", "postgres", "-A", "trust", "-E", "UTF8", "--no-sync").CombinedOutput(); err != nil {
		t.Fatalf("initdb: %v\n%s", err, out)
	}
	port := freePort(t)
	server := command("postgres", "-D", data, "-p", port, "-c", "listen_addresses=127.0.0.1", "-c", "unix_socket_directories=", "-c", "fsync=off")
	if err := server.Start(); err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() {
		server.Process.Signal(syscall.SIGQUIT)
		server.Wait()
	})
	db, err := sql.Open("pgx", fmt.Sprintf("postgres://postgres@127.0.0.1:%s/postgres?sslmode=disable", port))
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { db.Close() })
	ctx, cancel := context.WithTimeout(context.Background(), 30*time.Second)
	defer cancel()
	for db.PingContext(ctx) != nil {
		if ctx.Err() != nil {
			t.Fatal("the PostgreSQL server does not answer")
		}
		time.Sleep(50 * time.Millisecond)
	}
	return db
}

// binaries finds the newest installed server.
func binaries(t testing.TB) string {
	t.Helper()
	found, err := filepath.Glob("/usr/lib/postgresql/*/bin/initdb")
	if err != nil || len(found) == 0 {
		t.Fatal("there is no PostgreSQL server; make test installs Debian's")
	}
	slices.Sort(found)
	return filepath.Dir(found[len(found)-1])
}

// unprivileged is the user that the server runs as where the tests run as root,
// under which it would refuse to start.
func unprivileged(t testing.TB) *syscall.Credential {
	t.Helper()
	if os.Getuid() != 0 {
		return nil
	}
	for _, name := range []string{"postgres", "nobody"} {
		u, err := user.Lookup(name)
		if err != nil {
			continue
		}
		uid, err1 := strconv.ParseUint(u.Uid, 10, 32)
		gid, err2 := strconv.ParseUint(u.Gid, 10, 32)
		if err1 == nil && err2 == nil {
			return &syscall.Credential{Uid: uint32(uid), Gid: uint32(gid)}
		}
	}
	t.Fatal("there is no unprivileged user to run PostgreSQL as")
	return nil
}

func freePort(t testing.TB) string {
	t.Helper()
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	defer l.Close()
	_, port, err := net.SplitHostPort(l.Addr().String())
	if err != nil {
		t.Fatal(err)
	}
	return port
}
