package store

import (
	"testing"

	"github.com/jmoiron/sqlx"
)

// TestWhatIsAcknowledgedIsOnDisk: SQLite waits for the disk at each commit, on every connection that is open: a kill
// test alone could not tell, since what the system has kept is still there after a kill.
func TestWhatIsAcknowledgedIsOnDisk(t *testing.T) {
	s := opened(t, t.TempDir())
	for name, db := range map[string]*sqlx.DB{"the journal": s.db, "the record": s.audit.db} {
		var held []*sqlx.Conn
		for range 3 {
			conn, err := db.Connx(t.Context())
			if err != nil {
				t.Fatal(err)
			}
			held = append(held, conn)
			for pragma, want := range map[string]string{"synchronous": "2", "journal_mode": "wal", "foreign_keys": "1"} {
				var got string
				if err := conn.GetContext(t.Context(), &got, "PRAGMA "+pragma); err != nil || got != want {
					t.Errorf("%s: %s is %s (%v), want %s", name, pragma, got, err, want)
				}
			}
		}
		for _, conn := range held {
			conn.Close()
		}
	}
}
