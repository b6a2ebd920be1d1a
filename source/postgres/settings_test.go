package postgres_test

import (
	"context"
	"math/rand/v2"
	"testing"
	"time"

	"gneiss/source"
)

// TestSettingsAreTheStatements: whatever ran before on a connection, in which settings, and was taken back or
// failed, a statement runs in its own, and within its own time: a policy may ask which day it is.
func TestSettingsAreTheStatements(t *testing.T) {
	_, _, src, _ := made(t)
	const text = `SELECT current_setting('TimeZone'), current_setting('DateStyle'), current_setting('IntervalStyle'), current_setting('extra_float_digits'),
		current_setting('bytea_output'), current_setting('statement_timeout')`
	all := []struct {
		settings source.Settings
		limit    time.Duration // what is more than a second less than the next is told by the database's own limit
		want     [6]string
	}{
		{source.Settings{}, 20*time.Second + time.Second/2, [6]string{"UTC", "ISO, MDY", "postgres", "1", "hex", "22s"}},
		{source.Settings{TimeZone: "Pacific/Kiritimati", DateOrder: "DMY"}, 20*time.Second + time.Second/2, [6]string{"Pacific/Kiritimati", "ISO, DMY", "postgres", "1", "hex", "22s"}},
		{source.Settings{TimeZone: "Etc/GMT+12", ByteaOutput: "escape", IntervalStyle: "iso_8601", FloatDigits: "0"}, 40*time.Second + time.Second/2,
			[6]string{"Etc/GMT+12", "ISO, MDY", "iso_8601", "0", "escape", "42s"}},
	}
	asked := 0
	for seed := range uint64(30) {
		r := rand.New(rand.NewPCG(seed, 31))
		var tx source.Tx
		saved, fails, trail := 0, false, ""
		end := func(f func(context.Context) error) {
			_ = f(t.Context()) // which a failed transaction refuses to commit
			tx, saved, fails = nil, 0, false
		}
		for range 80 {
			c := all[r.IntN(len(all))]
			ctx, cancel := context.WithTimeout(source.WithSettings(t.Context(), c.settings), c.limit)
			in := source.Request{SQL: text, Point: r.IntN(3) == 0}
			var got []string
			take := func(row [][]byte) error {
				for _, v := range row {
					got = append(got, string(v))
				}
				return nil
			}
			var err error
			switch what := r.IntN(12); {
			case what == 0 && tx == nil:
				if tx, err = src.Begin(ctx, source.Isolation{ReadOnly: r.IntN(2) == 0, Snapshot: r.IntN(2) == 0}); err != nil {
					t.Fatal(err)
				}
				trail += " begin"
			case what == 1 && tx != nil:
				end(tx.Commit)
				trail += " commit"
			case what == 2 && tx != nil:
				end(tx.Rollback)
				trail += " rollback"
			case what == 3 && tx != nil && !fails:
				if err := tx.Savepoint(ctx, "a"); err != nil {
					t.Fatal(err)
				}
				saved++
				trail += " savepoint"
			case what == 4 && tx != nil && saved > 0:
				if err := tx.RollbackTo(ctx, "a"); err != nil {
					t.Fatal(err)
				}
				fails = false
				trail += " back"
			case what == 5: // an error, which a transaction does not outlive
				in.SQL = "SELECT 1 / (length(" + "current_setting('TimeZone')) * 0)"
				if tx != nil {
					err = tx.Stream(ctx, in, take)
					fails = true
				} else {
					err = src.Stream(ctx, in, take)
				}
				if err == nil {
					t.Fatal("a division by zero gives something")
				}
				trail += " error"
			case fails:
			default:
				switch {
				case tx == nil && what%2 == 0:
					err = src.Write(ctx, in, take, func(int64) error { return nil })
				case tx == nil:
					err = src.Stream(ctx, in, take)
				case what%3 == 0:
					var cursor source.Cursor
					if cursor, err = tx.Open(ctx, in); err == nil {
						_, err = cursor.Fetch(ctx, 10, take)
					}
				default:
					err = tx.Stream(ctx, in, take)
				}
				trail += " " + c.want[0]
				if asked++; err != nil || len(got) != 6 || [6]string(got) != c.want {
					t.Fatalf("seed %d:%s: %q instead of %q, %v", seed, trail, got, c.want, err)
				}
			}
			cancel()
		}
		if tx != nil {
			end(tx.Rollback)
		}
	}
	if asked < 1000 {
		t.Errorf("%d statements prove little", asked)
	}
}
