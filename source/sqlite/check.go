package sqlite

import (
	"context"
	"fmt"
	"os"
	"path/filepath"
	"strconv"
	"strings"
	"time"

	"gneiss/core/emit"
	"gneiss/core/sqltype"
	"gneiss/source"
)

// Check implements [source.Source]: which files can be read, and which written, and which columns have values that are not of
// their types.
func (s *Source) Check(ctx context.Context) ([]source.Note, error) {
	started := time.Now()
	tables, err := s.Scan(ctx)
	if err != nil {
		return nil, err
	}
	notes := []source.Note{{Says: fmt.Sprintf("%d tables, looked at in %.1f ms", len(tables), float64(time.Since(started).Microseconds())/1000)}}
	seen := map[string]bool{}
	for _, t := range tables {
		if seen[t.Schema] {
			continue
		}
		seen[t.Schema] = true
		path := filepath.Join(s.dir, t.Schema+".db")
		f, err := os.OpenFile(path, os.O_RDWR, 0)
		if err != nil {
			notes = append(notes, source.Note{Worry: source.Odd, Says: t.Schema + ".db can be read and not written"})
			continue
		}
		f.Close()
	}
	var columns []source.Note
	for _, t := range tables {
		found, err := s.ofOtherTypes(ctx, t)
		if err != nil {
			return nil, err
		}
		columns = append(columns, found...)
	}
	if n := len(columns); n > 0 {
		notes = append(notes, source.Note{Worry: source.Bad, Says: "some columns hold values that are not of their type: " +
			"a policy that reads one hides the row, and an answer that contains one is an error"})
		notes = append(notes, columns[:min(n, mostNoted)]...)
		if n > mostNoted {
			notes = append(notes, source.Note{Worry: source.Bad, Says: fmt.Sprintf("and %d columns more", n-mostNoted)})
		}
	}
	return notes, nil
}

// mostLookedAt bounds the rows of each table that are looked at, and mostNoted the columns that are named.
const (
	mostLookedAt = 1_000_000
	mostNoted    = 100
)

// ofOtherTypes finds the columns of a table that have values which are not of their types.
func (s *Source) ofOtherTypes(ctx context.Context, t source.Table) (notes []source.Note, err error) {
	db, err := s.connect()
	if err != nil {
		return nil, err
	}
	counts := make([]int64, len(t.Columns))
	var sums []string
	var into []any
	for i, c := range t.Columns {
		sums = append(sums, "coalesce(sum("+emit.OfType(quote(c.Name), sqltype.Parse(c.Type))+" IS NOT TRUE), 0)")
		into = append(into, &counts[i])
	}
	some := "(SELECT * FROM " + quote(t.Schema) + "." + quote(t.Name) + " LIMIT " + strconv.Itoa(mostLookedAt) + ")"
	err = db.QueryRowContext(ctx, "SELECT "+strings.Join(sums, ", ")+" FROM "+some).Scan(into...)
	if err != nil {
		return nil, unavailable(err)
	}
	for i, c := range t.Columns {
		if n := counts[i]; n > 0 {
			rows := "rows hold"
			if n == 1 {
				rows = "row holds"
			}
			says := fmt.Sprintf("%s.%s.%s: %d %s a value that is not of type %s", t.Schema, t.Name, c.Name, n, rows, c.Type)
			notes = append(notes, source.Note{Worry: source.Bad, Says: says})
		}
	}
	return notes, nil
}
