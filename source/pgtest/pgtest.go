// Package pgtest starts a real PostgreSQL server for tests: Debian's binaries,
// in a directory of its own, as an unprivileged user.
package pgtest

import (
	"context"
	"database/sql"
	"errors"
	"fmt"
	"net"
	"os"
	"os/exec"
	"os/user"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"syscall"
	"testing"
	"time"

	_ "github.com/jackc/pgx/v5/stdlib" // the driver
)

// A Server is a running PostgreSQL server.
type Server struct {
	DB  *sql.DB // its superuser's
	URL string  // of the superuser's database

	dir     string
	serve   func() *exec.Cmd
	process *exec.Cmd
	ended   chan struct{} // closed when the process has ended
}

// Start starts a server on a free port of loopback, until the test ends.
func Start(t testing.TB) *Server {
	t.Helper()
	s, err := Run()
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(s.Stop)
	return s
}

// Run starts a server on a free port of loopback, until Stop.
func Run() (s *Server, err error) {
	bin, err := binaries()
	if err != nil {
		return nil, err
	}
	s = &Server{}
	defer func() {
		if err != nil {
			s.Stop()
		}
	}()
	if s.dir, err = os.MkdirTemp("", "gneiss-pg-"); err != nil {
		return nil, err
	}
	who, err := unprivileged()
	if err != nil {
		return nil, err
	}
	if who != nil {
		if err := os.Chown(s.dir, int(who.Uid), int(who.Gid)); err != nil {
			return nil, err
		}
	}
	command := func(name string, args ...string) *exec.Cmd {
		c := exec.Command(filepath.Join(bin, name), args...)
		c.Dir, c.Env = s.dir, []string{"PATH=/usr/bin:/bin", "LC_ALL=C", "TZ=UTC"}
		c.SysProcAttr = &syscall.SysProcAttr{Pdeathsig: syscall.SIGINT}
		if who != nil {
			c.SysProcAttr.Credential = who
		}
		return c
	}
	data := filepath.Join(s.dir, "data")
	kept := keptData(bin)
	if kept == "" || exec.Command("cp", "-a", kept, data).Run() != nil {
		os.RemoveAll(data)
		if out, err := command("initdb", "-D", data, "-U", "postgres", "-A", "trust", "-E", "UTF8", "--no-sync").CombinedOutput(); err != nil {
			return nil, fmt.Errorf("initdb: %v\n%s", err, out)
		}
		keepData(data, kept)
	}
	port, err := freePort()
	if err != nil {
		return nil, err
	}
	s.serve = func() *exec.Cmd {
		return command(
			"postgres",
			"-D",
			data,
			"-p",
			port,
			"-c",
			"listen_addresses=127.0.0.1",
			"-c",
			"unix_socket_directories=",
			"-c",
			"fsync=off",
			"-c",
			"full_page_writes=off",
			"-c",
			"autovacuum=off",
		)
	}
	s.URL = fmt.Sprintf("postgresql://postgres@127.0.0.1:%s/postgres?sslmode=disable", port)
	if s.DB, err = sql.Open("pgx", s.URL); err != nil {
		return nil, err
	}
	return s, s.start()
}

// keptData is where the data of a server that has just been made are kept for the next ones, by the version of the
// binaries and who they belong to; empty: nowhere.
func keptData(bin string) string {
	caches, err := os.UserCacheDir()
	if err != nil {
		return ""
	}
	made, err := os.Stat(filepath.Join(bin, "postgres"))
	if err != nil {
		return ""
	}
	return filepath.Join(caches, "gneiss-tests", fmt.Sprintf("%s-%d-%d", filepath.Base(filepath.Dir(bin)), made.ModTime().Unix(), os.Getuid()))
}

// keepData keeps data for the next servers. Where that does not work, each makes its own.
func keepData(data, kept string) {
	if kept == "" || os.MkdirAll(filepath.Dir(kept), 0o700) != nil {
		return
	}
	own := fmt.Sprintf("%s.%d", kept, os.Getpid())
	if exec.Command("cp", "-a", data, own).Run() != nil || os.Rename(own, kept) != nil { // another was quicker
		os.RemoveAll(own)
	}
}

// start starts the server's process and waits until it answers. It starts it again
// where what is left of a killed one is still in its way.
func (s *Server) start() error {
	ctx, cancel := context.WithTimeout(context.Background(), 30*time.Second)
	defer cancel()
	var ended chan struct{}
	for ctx.Err() == nil {
		if ended == nil {
			s.process, ended = s.serve(), make(chan struct{})
			if err := s.process.Start(); err != nil {
				return err
			}
			go func(process *exec.Cmd, ended chan struct{}) { process.Wait(); close(ended) }(s.process, ended)
		}
		if s.DB.PingContext(ctx) == nil {
			s.ended = ended
			return nil
		}
		select {
		case <-ended:
			ended = nil
		default:
		}
		time.Sleep(50 * time.Millisecond)
	}
	return errors.New("the PostgreSQL server does not answer")
}

// Kill ends the server at once, as a crash does, and leaves what it holds. Restart
// starts it again, where it was.
func (s *Server) Kill() {
	s.process.Process.Kill()
	<-s.ended
}

// Restart starts a killed server.
func (s *Server) Restart() error { return s.start() }

// Database makes an empty database, whose texts are ordered as English readers
// order them and not by code point, and returns its URL.
func (s *Server) Database(name string) (string, error) {
	_, err := s.DB.Exec("CREATE DATABASE " + name + " TEMPLATE template0 LOCALE_PROVIDER icu ICU_LOCALE 'en-US'")
	return strings.Replace(s.URL, "/postgres?", "/"+name+"?", 1), err
}

// Reset makes a database again as a template has it, and removes all others. A server that a test has killed is
// started.
func (s *Server) Reset(template, name string) error {
	select {
	case <-s.ended:
		if err := s.Restart(); err != nil {
			return err
		}
	default:
	}
	var others []string
	rows, err := s.DB.Query("SELECT datname FROM pg_database WHERE NOT datistemplate AND datname NOT IN ('postgres', $1)", template)
	if err != nil {
		return err
	}
	defer rows.Close()
	for rows.Next() {
		var other string
		if err := rows.Scan(&other); err != nil {
			return err
		}
		others = append(others, other)
	}
	for _, other := range others {
		if _, err := s.DB.Exec(`DROP DATABASE "` + other + `" WITH (FORCE)`); err != nil {
			return err
		}
	}
	_, err = s.DB.Exec("CREATE DATABASE " + name + " TEMPLATE " + template)
	return errors.Join(rows.Err(), err)
}

// Exec runs statements in a database of the server.
func (s *Server) Exec(url, text string) error {
	db, err := sql.Open("pgx", url)
	if err != nil {
		return err
	}
	defer db.Close()
	if _, err := db.Exec(text); err != nil {
		return fmt.Errorf("%w\n%s", err, text)
	}
	return nil
}

// Stop ends the server and removes all it holds.
func (s *Server) Stop() {
	if s.DB != nil {
		s.DB.Close()
	}
	if s.process != nil {
		s.process.Process.Signal(syscall.SIGQUIT)
		if s.ended != nil {
			<-s.ended
		}
	}
	os.RemoveAll(s.dir)
}

// binaries finds the newest installed server.
func binaries() (string, error) {
	found, err := filepath.Glob("/usr/lib/postgresql/*/bin/initdb")
	if err != nil || len(found) == 0 {
		return "", errors.New("there is no PostgreSQL server; make test installs Debian's")
	}
	slices.Sort(found)
	return filepath.Dir(found[len(found)-1]), nil
}

// unprivileged is the user that the server runs as where the tests run as root,
// under which it would refuse to start.
func unprivileged() (*syscall.Credential, error) {
	if os.Getuid() != 0 {
		return nil, nil
	}
	for _, name := range []string{"postgres", "nobody"} {
		u, err := user.Lookup(name)
		if err != nil {
			continue
		}
		uid, err1 := strconv.ParseUint(u.Uid, 10, 32)
		gid, err2 := strconv.ParseUint(u.Gid, 10, 32)
		if err1 == nil && err2 == nil {
			return &syscall.Credential{Uid: uint32(uid), Gid: uint32(gid)}, nil
		}
	}
	return nil, errors.New("there is no unprivileged user to run PostgreSQL as")
}

func freePort() (string, error) {
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		return "", err
	}
	defer l.Close()
	_, port, err := net.SplitHostPort(l.Addr().String())
	return port, err
}
