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
}

// Open opens a data folder and brings it to the present version. It makes the
// folder where it is missing.
func Open(dir string) (*Store, error) {
	if err := os.MkdirAll(dir, 0o700); err != nil {
		return nil, fmt.Errorf("the data folder: %w", err)
	}
	lock, err := os.OpenFile(filepath.Join(dir, "lock"), os.O_CREATE|os.O_RDWR, 0o600)
	if err != nil {
		return nil, fmt.Errorf("the data folder: %w", err)
	}
	s := &Store{Dir: dir, lock: lock}
	if err := syscall.Flock(int(lock.Fd()), syscall.LOCK_EX|syscall.LOCK_NB); err != nil {
		lock.Close()
		return nil, fmt.Errorf("%w: %s", ErrInUse, dir)
	}
	if s.db, err = open(filepath.Join(dir, "records.db"), "migrations"); err != nil {
		lock.Close()
		return nil, err
	}
	auditDB, err := open(filepath.Join(dir, "audit.db"), "auditmigrations")
	if err != nil {
		s.db.Close()
		lock.Close()
		return nil, err
	}
	s.audit = newAudit(auditDB)
	return s, nil
}

// Close writes what waits to be written and closes the data folder.
func (s *Store) Close() error {
	return errors.Join(s.audit.close(), s.db.Close(), s.lock.Close())
}

// Audit returns the record of who did what.
func (s *Store) Audit() *Audit { return s.audit }

func open(path, folder string) (*sqlx.DB, error) {
	db, err := sqlx.Open("sqlite3", "file:"+(&url.URL{Path: path}).EscapedPath()+"?_journal_mode=WAL&_synchronous=FULL&_foreign_keys=on&_busy_timeout=5000&_txlock=immediate")
	if err != nil {
		return nil, err
	}
	if err := migrate(db, folder); err != nil {
		db.Close()
		return nil, fmt.Errorf("%s: %w", path, err)
	}
	return db, os.Chmod(path, 0o600)
}

func migrate(db *sqlx.DB, folder string) error {
	files, err := fs.Sub(migrations, folder)
	if err != nil {
		return err
	}
	p, err := goose.NewProvider(database.DialectSQLite3, db.DB, files)
	if err != nil {
		return err
	}
	current, latest, err := p.GetVersions(context.Background())
	if err != nil {
		return err
	}
	if current > latest {
		return ErrNewer
	}
	_, err = p.Up(context.Background())
	return err
}
