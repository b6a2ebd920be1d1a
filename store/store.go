// Package store keeps the records of a platform: the journal of its changes,
// its accounts, and the record of who did what. They are SQLite databases in one
// data folder, which one service at a time may use.
package store

import (
	"embed"
	"errors"
	"fmt"
	"io/fs"
	"net/url"
	"os"
	"path/filepath"
	"sync"
	"sync/atomic"
	"syscall"

	"github.com/jmoiron/sqlx"
	_ "github.com/mattn/go-sqlite3" // the driver of the records
	"github.com/pressly/goose/v3"
	"github.com/pressly/goose/v3/database"

	"context"
)

//go:embed migrations/*.sql auditmigrations/*.sql
var migrations embed.FS

// ErrNewer says that a data folder was written by a later version of Gneiss.
var ErrNewer = errors.New("the data folder was written by a newer version of Gneiss; use that version")

// ErrInUse says that another service has the data folder open.
var ErrInUse = errors.New("the data folder is in use by another service")

// Store is an open data folder. Its methods may be called concurrently.
type Store struct {
	Dir   string
	db    *sqlx.DB
	audit *Audit
	lock  *os.File

	salts      []byte       // the key of salts
	generation atomic.Int64 // see Generation
	happened   chan struct{}

	stop, stopped chan struct{} // of who keeps the heads
	keeping       sync.Mutex
	keptHeads     Heads
}

// ErrRecordLost says that a platform has lost its record of who did what.
var ErrRecordLost = errors.New("the record of who did what is gone from the data folder")

// Open opens a data folder and brings it to the present version. It makes the
// folder where it is missing. A platform whose record is gone, or whose chains do not
// hold, is refused, until an operator accepts the loss; what is left is then where the
// chains begin.
func Open(dir string, acceptLoss bool) (*Store, error) {
	if err := os.MkdirAll(dir, 0o700); err != nil {
		return nil, fmt.Errorf("the data folder: %w", err)
	}
	lock, err := os.OpenFile(filepath.Join(dir, "lock"), os.O_CREATE|os.O_RDWR, 0o600)
	if err != nil {
		return nil, fmt.Errorf("the data folder: %w", err)
	}
	s := &Store{Dir: dir, lock: lock, happened: make(chan struct{}, 1), stop: make(chan struct{}), stopped: make(chan struct{})}
	if err := syscall.Flock(int(lock.Fd()), syscall.LOCK_EX|syscall.LOCK_NB); err != nil {
		lock.Close()
		return nil, fmt.Errorf("%w: %s", ErrInUse, dir)
	}
	if s.db, _, err = open(filepath.Join(dir, "records.db"), "migrations"); err != nil {
		lock.Close()
		return nil, err
	}
	if err := s.openRecord(acceptLoss); err != nil {
		s.db.Close()
		lock.Close()
		return nil, err
	}
	if s.salts, err = saltKey(s.db); err != nil {
		return nil, errors.Join(err, s.audit.close(), s.db.Close(), lock.Close())
	}
	go s.keepHeadsAlways()
	return s, nil
}

// openRecord opens the record, and checks the ends of both chains.
func (s *Store) openRecord(acceptLoss bool) error {
	path := filepath.Join(s.Dir, "audit.db")
	journal, err := journalHead(context.Background(), s.db.DB)
	if err != nil {
		return err
	}
	if _, err := os.Stat(path); errors.Is(err, fs.ErrNotExist) && journal.Number > 0 && !acceptLoss {
		return fmt.Errorf("%w: %s is not there; restore it, or start once with --accept-loss true", ErrRecordLost, path)
	}
	auditDB, upgraded, err := open(path, "auditmigrations")
	if err != nil {
		return err
	}
	if s.audit, err = newAudit(auditDB); err != nil {
		auditDB.Close()
		return err
	}
	err = s.checkHeads(context.Background())
	if err == nil && upgraded < saysBase {
		err = s.audit.sayBase(context.Background())
	}
	if err == nil {
		_, _, err = s.VerifyRecord(context.Background(), max(s.audit.last.Number-checkedAtStart, 0))
	}
	if err != nil && acceptLoss {
		if err = s.audit.computeStretches(); err == nil { // from what there is
			err = s.audit.sayBase(context.Background())
		}
	}
	if err != nil {
		return errors.Join(fmt.Errorf("%w; restore the data folder from a backup, or start once with --accept-loss true", err), s.audit.close())
	}
	return s.keepHeads()
}

// checkedAtStart is how many of the last records are checked at a start; all of them,
// by command.
const checkedAtStart = 20_000

// Close writes what waits to be written and closes the data folder.
func (s *Store) Close() error {
	close(s.stop)
	<-s.stopped
	s.audit.drain()
	kept := s.keepHeads()
	return errors.Join(kept, s.audit.close(), s.db.Close(), s.lock.Close())
}

// Audit returns the record of who did what.
func (s *Store) Audit() *Audit { return s.audit }

// open opens a database file and brings it to the present version; was is the one that it had. SQLite need not guard its connections: database/sql gives
// each to one goroutine at a time.
func open(path, folder string) (db *sqlx.DB, was int64, err error) {
	db, err = sqlx.Open(
		"sqlite3",
		"file:"+(&url.URL{Path: path}).EscapedPath()+"?_journal_mode=WAL&_synchronous=FULL&_foreign_keys=on&_busy_timeout=5000&_txlock=immediate&_mutex=no",
	)
	if err != nil {
		return nil, 0, err
	}
	if was, err = migrate(db, folder); err != nil {
		db.Close()
		return nil, 0, fmt.Errorf("%s: %w", path, err)
	}
	return db, was, os.Chmod(path, 0o600)
}

// migrate brings a database to the present version, and returns the one that it had.
func migrate(db *sqlx.DB, folder string) (was int64, err error) {
	files, err := fs.Sub(migrations, folder)
	if err != nil {
		return 0, err
	}
	p, err := goose.NewProvider(database.DialectSQLite3, db.DB, files)
	if err != nil {
		return 0, err
	}
	was, latest, err := p.GetVersions(context.Background())
	if err != nil {
		return was, err
	}
	if was > latest {
		return was, ErrNewer
	}
	_, err = p.Up(context.Background())
	return was, err
}
