package sqlport

import (
	"bytes"
	"context"
	"encoding/binary"
	"fmt"
	"strings"
	"sync/atomic"
	"time"

	"github.com/jackc/pgx/v5/pgproto3"
	pg "github.com/pganalyze/pg_query_go/v6"

	"gneiss/core/access"
	"gneiss/core/query"
	"gneiss/core/sqltype"
)

// What is inserted by one statement of a COPY FROM: rows, and values at the most.
const (
	copyRows   = 200
	copyValues = 4000
	copyBytes  = 2 << 20
)

// copyFrom carries out COPY … FROM STDIN: rows are inserted as INSERT does it, all of them or none.
func (c *session) copyFrom(s *pg.CopyStmt, form copyForm) (string, error) {
	if s.Query != nil {
		return "", statef("42601", "COPY FROM takes a table")
	}
	into, columns, err := c.copyTarget(s)
	if err != nil {
		return "", err
	}
	in := c.inherits()
	if c.tx != nil {
		in = c.tx.Isolation
	}
	if in.ReadOnly {
		return "", statef("25006", "cannot execute COPY FROM in a read-only transaction")
	}
	own := c.tx == nil
	if own {
		c.begin(in, true)
	}
	from := &copyIn{c: c, form: form, into: into, columns: columns, header: form.header}
	response := &pgproto3.CopyInResponse{ColumnFormatCodes: make([]uint16, len(columns))}
	if form.kind == copyBinary {
		response.OverallFormat = 1
		for i := range columns {
			response.ColumnFormatCodes[i] = 1
		}
	}
	c.send(response)
	if err := c.flush(); err != nil {
		return "", err
	}
	n, err := from.take()
	if err != nil {
		if own && c.tx != nil {
			c.finish(false)
		}
		return "", err
	}
	if own {
		if err := c.finish(true); err != nil {
			return "", err
		}
	}
	return fmt.Sprintf("COPY %d", n), nil
}

// copyTarget is the table that is copied into, and the columns that are given.
func (c *session) copyTarget(s *pg.CopyStmt) (into string, columns []query.Column, err error) {
	names := "*"
	if len(s.Attlist) > 0 {
		names = nameList(s.Attlist)
	}
	// What the table's columns are, who may not read them may not know; who may insert knows them.
	table := relationOf(s.Relation)
	d, err := c.server.service.Gateway.Describe(context.Background(), c.caller, c.ask("SELECT "+names+" FROM "+table, nil))
	if err == nil {
		columns = d.Columns
	} else if len(s.Attlist) == 0 {
		return "", nil, err
	} else {
		for _, n := range s.Attlist {
			columns = append(columns, query.Column{Name: n.GetString_().GetSval()})
		}
	}
	list := make([]string, len(columns))
	for i, column := range columns {
		list[i] = quoted(column.Name)
	}
	into = "INSERT INTO " + table + " (" + strings.Join(list, ", ") + ") VALUES "
	// That it may be written is known before anything is sent.
	marks := make([]string, len(columns))
	nulls := make([]any, len(columns))
	for i := range columns {
		marks[i] = fmt.Sprintf("$%d", i+1)
		nulls[i] = query.Deferred{N: i + 1, Kind: query.ParamText}
	}
	described, err := c.server.service.Gateway.Describe(context.Background(), c.caller, c.ask(into+"("+strings.Join(marks, ", ")+")", nulls))
	if err != nil {
		return "", nil, err
	}
	for i := range columns {
		if columns[i].Type == nil && i < len(described.Params) {
			columns[i].Type = described.Params[i]
		}
	}
	return into, columns, nil
}

// copyIn takes the data of a COPY FROM.
type copyIn struct {
	c       *session
	form    copyForm
	into    string
	columns []query.Column
	header  bool

	buffer []byte // what is not read yet
	rows   [][]any
	size   int
	line   int64
	n      int64
	begun  bool // the head of the binary form is read
	over   bool // the mark of the end is read
}

// take reads messages until the client has sent all.
func (in *copyIn) take() (int64, error) {
	for {
		message, err := in.next()
		if err != nil {
			return 0, err
		}
		switch m := message.(type) {
		case *pgproto3.CopyData:
			if len(in.buffer)+len(m.Data) > 2*mostMessage {
				return 0, statef("54000", "a row of COPY is longer than %d bytes", 2*mostMessage)
			}
			in.buffer = append(in.buffer, m.Data...)
			if in.form.kind != copyBinary && !bytes.ContainsAny(m.Data, "\r\n") {
				continue // no row ends here
			}
			if err := in.read(false); err != nil { // what the client still sends is passed over
				return 0, err
			}
		case *pgproto3.CopyDone:
			if err := in.read(true); err != nil {
				return 0, err
			}
			return in.n, in.insert()
		case *pgproto3.CopyFail:
			return 0, statef("57014", "COPY from stdin failed: %s", printable(m.Message, 200))
		case *pgproto3.Flush, *pgproto3.Sync:
		default:
			return 0, statef("08P01", "unexpected message type during COPY from stdin")
		}
	}
}

// next is the next message of the client. A request to cancel ends the wait for it.
func (in *copyIn) next() (pgproto3.FrontendMessage, error) {
	c := in.c
	var cancelled atomic.Bool
	c.runs("COPY", func() {
		cancelled.Store(true)
		c.conn.SetReadDeadline(time.Now())
	})
	defer c.rests()
	message, err := c.receive()
	if err != nil && cancelled.Load() && c.why() == nil {
		c.mu.Lock()
		c.read = limit{set: c.conn.SetReadDeadline} // which has been set to another
		c.mu.Unlock()
		return nil, statef("57014", "canceling statement due to user request")
	}
	if err != nil {
		return nil, c.ends(err)
	}
	return message, nil
}

// read takes as many rows from the buffer as are there; last: no more comes.
func (in *copyIn) read(last bool) error {
	for !in.over {
		var row []any
		var n int
		var err error
		switch in.form.kind {
		case copyBinary:
			row, n, err = in.binaryRow()
		case copyCSV:
			row, n, err = in.csvRow(last)
		default:
			row, n, err = in.textRow(last)
		}
		if err != nil {
			return err
		}
		if n == 0 {
			break
		}
		in.size += n
		in.buffer = in.buffer[n:]
		if row == nil {
			continue
		}
		if in.header {
			in.header = false
			if err := in.matches(row); err != nil {
				return err
			}
			continue
		}
		if len(row) != len(in.columns) {
			what := "missing data for column " + quoted(in.columns[min(len(row), len(in.columns)-1)].Name)
			if len(row) > len(in.columns) {
				what = "extra data after last expected column"
			}
			return statef("22P04", "%s (line %d)", what, in.line)
		}
		in.rows = append(in.rows, row)
		// What is wrong with the first row is told at once.
		if in.n == 0 || len(in.rows) >= copyRows || (len(in.rows)+1)*len(in.columns) > copyValues || in.size > copyBytes {
			if err := in.insert(); err != nil {
				return err
			}
		}
	}
	if last && len(in.buffer) > 0 && !in.over {
		return statef("22P04", "unexpected end of the data")
	}
	if in.over {
		in.buffer = nil
	}
	in.buffer = append([]byte(nil), in.buffer...)
	return nil
}

// matches refuses a header whose names are not those of the columns, in their order.
func (in *copyIn) matches(row []any) error {
	if len(row) != len(in.columns) {
		return statef("22P04", "wrong number of fields in header line: got %d, expected %d", len(row), len(in.columns))
	}
	for i, v := range row {
		name, ok := v.(string)
		if !ok {
			return statef("22P04", "column name mismatch in header line field %d: got null value, expected %q", i+1, in.columns[i].Name)
		}
		if name != in.columns[i].Name {
			return statef("22P04", "column name mismatch in header line field %d: got %q, expected %q", i+1, printable(name, 100), in.columns[i].Name)
		}
	}
	return nil
}

// insert writes the rows that are gathered.
func (in *copyIn) insert() error {
	if len(in.rows) == 0 {
		return nil
	}
	var b strings.Builder
	b.WriteString(in.into)
	var params []any
	for i, row := range in.rows {
		b.WriteString(map[bool]string{true: "(", false: ", ("}[i == 0])
		for j, v := range row {
			if j > 0 {
				b.WriteString(", ")
			}
			params = append(params, v)
			fmt.Fprintf(&b, "$%d", len(params))
		}
		b.WriteString(")")
	}
	ctx, done := in.c.working("COPY FROM STDIN: " + in.into)
	defer done()
	end, err := in.c.server.service.Gateway.Stream(ctx, in.c.caller, in.c.ask(b.String(), params), &rows{c: in.c})
	if err != nil {
		return in.c.expired(ctx, err)
	}
	if end.Verb != access.Insert {
		return statef("XX000", "COPY did not insert")
	}
	in.n += end.Changed
	in.rows, in.size = in.rows[:0], 0
	return nil
}

// textRow reads a row of the text format. n is zero where there is no whole one yet.
func (in *copyIn) textRow(last bool) (row []any, n int, err error) {
	end := -1
	for i := 0; i < len(in.buffer); i++ {
		if in.buffer[i] == '\\' {
			i++
			continue
		}
		if in.buffer[i] == '\n' {
			end = i
			break
		}
	}
	if n = end + 1; end < 0 {
		if !last || len(in.buffer) == 0 {
			return nil, 0, nil
		}
		end, n = len(in.buffer), len(in.buffer)
	}
	in.line++
	line := bytes.TrimSuffix(in.buffer[:end], []byte("\r"))
	if string(line) == `\.` {
		in.over = true
		return nil, n, nil
	}
	if in.header && !in.form.match {
		in.header = false
		return nil, n, nil
	}
	var field []byte
	start := 0
	add := func(to int) error {
		if string(line[start:to]) == in.form.null {
			row = append(row, nil)
		} else {
			if err := checkText(field); err != nil {
				return err
			}
			row = append(row, string(field))
		}
		field, start = field[:0], to+1
		return nil
	}
	for i := 0; i < len(line); i++ {
		switch ch := line[i]; {
		case ch == in.form.delimiter:
			if err := add(i); err != nil {
				return nil, 0, err
			}
		case ch == '\\' && i+1 < len(line):
			i++
			field, i = unescaped(field, line, i)
		default:
			field = append(field, ch)
		}
	}
	err = add(len(line))
	return row, n, err
}

// unescaped reads what stands behind a backslash at i, and gives the place of its last byte.
func unescaped(field, line []byte, i int) ([]byte, int) {
	ch := line[i]
	for raw, letter := range escapes {
		if letter == ch {
			return append(field, raw), i
		}
	}
	digits := func(base byte, from, most int) (value byte, used int) {
		for used < most && from+used < len(line) {
			d := line[from+used]
			switch {
			case d >= '0' && d <= '7', base == 16 && d >= '8' && d <= '9':
				d -= '0'
			case base == 16 && d|0x20 >= 'a' && d|0x20 <= 'f':
				d = d | 0x20 - 'a' + 10
			default:
				return value, used
			}
			value = value*base + d
			used++
		}
		return value, used
	}
	if ch == 'x' {
		if value, used := digits(16, i+1, 2); used > 0 {
			return append(field, value), i + used
		}
	}
	if value, used := digits(8, i, 3); used > 0 {
		return append(field, value), i + used - 1
	}
	return append(field, ch), i
}

// csvRow reads a row of the CSV format. n is zero where there is no whole one yet.
func (in *copyIn) csvRow(last bool) (row []any, n int, err error) {
	var field []byte
	quotedField, inside := false, false
	add := func() error {
		if !quotedField && string(field) == in.form.null {
			row = append(row, nil)
		} else {
			if err := checkText(field); err != nil {
				return err
			}
			row = append(row, string(field))
		}
		field, quotedField = field[:0], false
		return nil
	}
	done := func(n int) ([]any, int, error) {
		in.line++
		if len(row) == 0 && !quotedField && string(field) == `\.` {
			in.over = true
			return nil, n, nil
		}
		if in.header && !in.form.match {
			in.header = false
			return nil, n, nil
		}
		err := add()
		return row, n, err
	}
	for i := 0; i < len(in.buffer); i++ {
		ch := in.buffer[i]
		switch {
		case inside && ch == in.form.escape && i+1 < len(in.buffer) && (in.buffer[i+1] == in.form.quote || in.buffer[i+1] == in.form.escape):
			i++
			field = append(field, in.buffer[i])
		case inside && ch == in.form.escape && ch == in.form.quote && i+1 == len(in.buffer) && !last:
			return nil, 0, nil // the next byte says whether it ends here
		case ch == in.form.quote:
			inside, quotedField = !inside, true
		case inside:
			field = append(field, ch)
		case ch == in.form.delimiter:
			if err := add(); err != nil {
				return nil, 0, err
			}
		case ch == '\n' || ch == '\r' && i+1 < len(in.buffer) && in.buffer[i+1] == '\n':
			if n = i + 1; ch == '\r' {
				n++
			}
			return done(n)
		case ch == '\r' && i+1 == len(in.buffer) && !last:
			return nil, 0, nil
		default:
			field = append(field, ch)
		}
	}
	if !last || len(in.buffer) == 0 {
		return nil, 0, nil
	}
	if inside {
		return nil, 0, statef("22P04", "unterminated CSV quoted field")
	}
	return done(len(in.buffer))
}

// binaryRow reads a row of the binary format. n is zero where there is no whole one yet.
func (in *copyIn) binaryRow() (row []any, n int, err error) {
	b := in.buffer
	if !in.begun {
		if len(b) < 19 {
			return nil, 0, nil
		}
		if string(b[:11]) != "PGCOPY\n\xff\r\n\x00" {
			return nil, 0, statef("22P04", "COPY file signature not recognized")
		}
		extra := int(binary.BigEndian.Uint32(b[15:19]))
		if extra > mostStart {
			return nil, 0, statef("22P04", "invalid COPY file header")
		}
		if len(b) < 19+extra {
			return nil, 0, nil
		}
		in.begun = true
		return nil, 19 + extra, nil
	}
	if len(b) < 2 {
		return nil, 0, nil
	}
	count := int(int16(binary.BigEndian.Uint16(b)))
	if count == -1 {
		in.over = true
		return nil, 2, nil
	}
	in.line++
	if count != len(in.columns) {
		return nil, 0, statef("22P04", "row field count is %d, expected %d (row %d)", count, len(in.columns), in.line)
	}
	at := 2
	for i := range count {
		if len(b) < at+4 {
			in.line--
			return nil, 0, nil
		}
		size := int(int32(binary.BigEndian.Uint32(b[at:])))
		at += 4
		if size == -1 {
			row = append(row, nil)
			continue
		}
		if size < 0 || size > mostMessage {
			return nil, 0, statef("22P04", "invalid field size")
		}
		if len(b) < at+size {
			in.line--
			return nil, 0, nil
		}
		t := in.columns[i].Type
		if t == nil {
			t = sqltype.Text
		}
		text, err := in.c.values.text(oidOf(t), b[at:at+size])
		if err != nil {
			return nil, 0, err
		}
		row = append(row, text)
		at += size
	}
	return row, at, nil
}
