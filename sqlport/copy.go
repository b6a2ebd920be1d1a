package sqlport

import (
	"bytes"
	"encoding/binary"
	"errors"
	"fmt"
	"math"
	"strings"

	"github.com/jackc/pgx/v5/pgproto3"
	"github.com/jackc/pgx/v5/pgtype"
	pg "github.com/pganalyze/pg_query_go/v6"

	"gneiss/core/query"
	"gneiss/service/gateway"
)

// The forms of COPY's data.
const (
	copyText = iota
	copyCSV
	copyBinary
)

// copyForm is how the data of a COPY are written.
type copyForm struct {
	kind      int
	delimiter byte
	null      string
	quote     byte
	escape    byte
	header    bool
	match     bool            // whose names must be those of the columns
	force     map[string]bool // columns that are always in quotes; "*": all
}

func formOf(options []*pg.Node) (f copyForm, err error) {
	f = copyForm{delimiter: '\t', null: `\N`, quote: '"', force: map[string]bool{}}
	given := map[string]string{}
	for _, n := range options {
		e := n.GetDefElem()
		value := e.Arg.GetString_().GetSval()
		switch {
		case e.Arg == nil:
			value = "true"
		case e.Arg.GetBoolean() != nil:
			value = fmt.Sprint(e.Arg.GetBoolean().Boolval)
		case e.Arg.GetInteger() != nil:
			value = fmt.Sprint(e.Arg.GetInteger().Ival)
		case e.Arg.GetList() != nil:
			for _, item := range e.Arg.GetList().Items {
				f.force[item.GetString_().GetSval()] = true
			}
		case e.Arg.GetAStar() != nil:
			f.force["*"] = true
		}
		given[e.Defname] = value
	}
	switch strings.ToLower(given["format"]) {
	case "", "text":
	case "csv":
		f.kind, f.delimiter, f.null = copyCSV, ',', ""
	case "binary":
		f.kind = copyBinary
	default:
		return f, statef("22023", "COPY format %q not recognized", printable(given["format"], 40))
	}
	one := func(name string, into *byte) error {
		if v, ok := given[name]; ok {
			if len(v) != 1 || v[0] == '\n' || v[0] == '\r' {
				return statef("22023", "COPY %s must be a single one-byte character", name)
			}
			*into = v[0]
		}
		return nil
	}
	if err := errors.Join(one("delimiter", &f.delimiter), one("quote", &f.quote)); err != nil {
		return f, err
	}
	f.escape = f.quote
	if err := one("escape", &f.escape); err != nil {
		return f, err
	}
	if v, ok := given["null"]; ok {
		f.null = v
	}
	if v, ok := given["header"]; ok {
		switch strings.ToLower(v) {
		case "true", "on", "1":
			f.header = true
		case "match":
			f.header, f.match = true, true
		case "false", "off", "0":
		default:
			return f, statef("22023", "header requires a Boolean value or \"match\"")
		}
	}
	if v, ok := given["encoding"]; ok {
		if _, err := encoding(v); err != nil {
			return f, statef("0A000", "COPY ENCODING is UTF8 here")
		}
	}
	for name := range given {
		switch name {
		case "format", "delimiter", "quote", "escape", "null", "header", "encoding", "force_quote":
		default:
			return f, statef("0A000", "the option %s of COPY is not there", strings.ToUpper(name))
		}
	}
	return f, nil
}

// copy carries out COPY … TO STDOUT and COPY … FROM STDIN.
func (c *session) copying(p query.Piece, s *pg.CopyStmt) (string, error) {
	switch {
	case s.Filename != "" || s.IsProgram:
		return "", statef("0A000", "COPY goes to STDOUT and comes from STDIN: files and programs of the server's are nobody's here (psql: \\copy)")
	case s.WhereClause != nil:
		return "", statef("0A000", "COPY FROM WHERE is not there")
	}
	form, err := formOf(s.Options)
	if err != nil {
		return "", err
	}
	if s.IsFrom {
		return c.copyFrom(s, form)
	}
	text := ""
	if s.Query != nil {
		if s.Query.GetSelectStmt() == nil {
			return "", statef("0A000", "COPY (query) takes a SELECT")
		}
		if text, err = inParentheses(p.SQL); err != nil {
			return "", err
		}
	} else {
		columns := "*"
		if len(s.Attlist) > 0 {
			columns = nameList(s.Attlist)
		}
		text = "SELECT " + columns + " FROM " + relationOf(s.Relation)
	}
	pieces, err := query.Split(text)
	if err != nil {
		return "", err
	}
	if len(pieces) != 1 || kindOf(pieces[0]) == own {
		return "", statef("0A000", "COPY takes one SELECT")
	}
	answer := &copied{rows: rows{c: c}, form: form}
	if form.kind == copyBinary {
		answer.formats = []int16{pgtype.BinaryFormatCode}
	}
	if kindOf(pieces[0]) == listed {
		return "", statef("0A000", "COPY of the catalog is not there; SELECT it")
	}
	ctx, done := c.working(p.SQL)
	defer done()
	end, err := c.server.service.Gateway.Stream(ctx, c.caller, c.ask(text, nil), answer)
	if err != nil {
		return "", c.expired(ctx, err)
	}
	if form.kind == copyBinary {
		c.send(&pgproto3.CopyData{Data: []byte{0xff, 0xff}})
	}
	c.send(&pgproto3.CopyDone{})
	return fmt.Sprintf("COPY %d", end.Rows), nil
}

func nameList(nodes []*pg.Node) string {
	var names []string
	for _, n := range nodes {
		names = append(names, quoted(n.GetString_().GetSval()))
	}
	return strings.Join(names, ", ")
}

func relationOf(r *pg.RangeVar) string {
	var parts []string
	for _, part := range []string{r.Catalogname, r.Schemaname, r.Relname} {
		if part != "" {
			parts = append(parts, quoted(part))
		}
	}
	return strings.Join(parts, ".")
}

// inParentheses is what stands in the first parentheses of a text.
func inParentheses(text string) (string, error) {
	scan, err := pg.Scan(text)
	if err != nil {
		return "", err
	}
	depth, start := 0, 0
	for _, t := range scan.Tokens {
		switch t.Token {
		case pg.Token_ASCII_40:
			if depth++; depth == 1 {
				start = int(t.End)
			}
		case pg.Token_ASCII_41:
			if depth--; depth == 0 {
				return text[start:t.Start], nil
			}
		}
	}
	return "", statef("42601", "this form of COPY is not understood")
}

// copied takes rows and sends them as COPY's data.
type copied struct {
	rows
	form copyForm
}

func (r *copied) Head(h gateway.Head) ([]int16, error) {
	formats, err := r.rows.Head(h)
	if err != nil {
		return nil, err
	}
	out := &pgproto3.CopyOutResponse{ColumnFormatCodes: make([]uint16, len(h.Columns))}
	if r.form.kind == copyBinary {
		out.OverallFormat = 1
		for i := range out.ColumnFormatCodes {
			out.ColumnFormatCodes[i] = 1
		}
	}
	r.c.send(out)
	if r.form.kind == copyBinary {
		r.c.send(&pgproto3.CopyData{Data: append([]byte("PGCOPY\n\xff\r\n\x00"), 0, 0, 0, 0, 0, 0, 0, 0)})
	}
	if r.form.header && r.form.kind != copyBinary {
		names := make([][]byte, len(h.Columns))
		for i, c := range h.Columns {
			names[i] = []byte(c.Name)
		}
		b, err := r.write(nil, names, true)
		if err != nil {
			return nil, err
		}
		r.c.out = append(r.c.out, b...)
	}
	return formats, nil
}

func (r *copied) Row(b []byte, row [][]byte) ([]byte, error) {
	row, err := r.converted(row)
	if err != nil {
		return b, err
	}
	return r.write(b, row, false)
}

func (r *copied) write(b []byte, row [][]byte, names bool) ([]byte, error) {
	start := len(b)
	line := append(b, 'd', 0, 0, 0, 0) // CopyData, whose length comes when it is known
	switch r.form.kind {
	case copyBinary:
		line = binary.BigEndian.AppendUint16(line, uint16(len(row)))
		for _, v := range row {
			if v == nil {
				line = binary.BigEndian.AppendUint32(line, 0xffffffff)
				continue
			}
			line = append(binary.BigEndian.AppendUint32(line, uint32(len(v))), v...)
		}
	case copyCSV:
		for i, v := range row {
			if i > 0 {
				line = append(line, r.form.delimiter)
			}
			line = r.csv(line, v, r.columns[i].Name, names, len(row) == 1)
		}
		line = append(line, '\n')
	default:
		for i, v := range row {
			if i > 0 {
				line = append(line, r.form.delimiter)
			}
			if v == nil {
				line = append(line, r.form.null...)
			} else {
				line = r.escaped(line, v)
			}
		}
		line = append(line, '\n')
	}
	if len(line)-start-1 > math.MaxInt32 {
		return b, statef("54000", "a row is longer than a message can be")
	}
	binary.BigEndian.PutUint32(line[start+1:], uint32(len(line)-start-1))
	return line, nil
}

// csv writes a field as the manual's CSV format has it.
func (r *copied) csv(b, v []byte, column string, name, alone bool) []byte {
	if v == nil {
		return append(b, r.form.null...)
	}
	wants := !name && (r.form.force["*"] || r.form.force[column]) || string(v) == r.form.null || alone && string(v) == `\.` ||
		bytes.IndexByte(v, r.form.delimiter) >= 0 || bytes.IndexByte(v, r.form.quote) >= 0 || bytes.ContainsAny(v, "\r\n")
	if !wants {
		return append(b, v...)
	}
	b = append(b, r.form.quote)
	for _, ch := range v {
		if ch == r.form.quote || ch == r.form.escape {
			b = append(b, r.form.escape)
		}
		b = append(b, ch)
	}
	return append(b, r.form.quote)
}

var escapes = map[byte]byte{'\b': 'b', '\f': 'f', '\n': 'n', '\r': 'r', '\t': 't', '\v': 'v', '\\': '\\'}

// escaping is which letter a byte is written as behind a backslash; zero: it is written as it is.
var escaping = func() (out [256]byte) {
	for raw, letter := range escapes {
		out[raw] = letter
	}
	return out
}()

// escaped writes a field as the manual's text format has it.
func (r *copied) escaped(b, v []byte) []byte {
	start := 0
	for i, ch := range v {
		letter := escaping[ch]
		if letter == 0 && ch != r.form.delimiter {
			continue
		}
		if letter == 0 {
			letter = ch
		}
		b = append(append(b, v[start:i]...), '\\', letter)
		start = i + 1
	}
	return append(b, v[start:]...)
}
