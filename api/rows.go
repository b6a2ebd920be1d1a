package api

import (
	"bufio"
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"net"
	"strconv"
	"strings"
	"unicode/utf8"

	"github.com/gofiber/fiber/v3"

	"gneiss/core/query"
	"gneiss/core/sqltype"
	"gneiss/service/gateway"
	"gneiss/wire"
)

// A form writes an answer's rows: as JSON, JSON lines or CSV.
type form interface {
	mime() string
	// head writes what comes before the rows.
	head(b []byte, columns []query.Column) []byte
	row(b []byte, row [][]byte) []byte
	// end writes what comes behind them.
	end(b []byte, e gateway.End) ([]byte, error)
	// broken writes why no more rows come; ok is false where the form has no place for that.
	broken(b []byte, p *wire.Problem) (_ []byte, ok bool)
}

// formOf is the form that a request asks for.
func formOf(c fiber.Ctx, safe bool) form {
	switch c.Accepts(fiber.MIMEApplicationJSON, "text/csv", "application/jsonl") {
	case "text/csv":
		return &csvForm{safe: safe}
	case "application/jsonl":
		return &linesForm{}
	}
	return &jsonForm{}
}

// csvForm writes rows as RFC 4180 has it, with a header line. A field is NULL where there is
// nothing, and an empty text where there is "". Line ends within a text stay as they are, which
// encoding/csv would change.
type csvForm struct {
	safe    bool
	columns []query.Column
}

func (*csvForm) mime() string { return "text/csv; charset=utf-8; header=present" }

func (f *csvForm) head(b []byte, columns []query.Column) []byte {
	f.columns = columns
	for i, c := range columns {
		b = field(separate(b, i), c.Name)
	}
	return append(b, "\r\n"...)
}

func (f *csvForm) row(b []byte, row [][]byte) []byte {
	for i, v := range row {
		b = separate(b, i)
		if v == nil {
			continue
		}
		text := string(v)
		switch t := f.columns[i].Type; {
		case t == sqltype.Boolean:
			text = map[string]string{"t": "true", "f": "false"}[text]
		case f.safe && (!t.Number() || text == "-Infinity"):
			text = unformulated(text)
		}
		b = field(b, text)
	}
	return append(b, "\r\n"...)
}

func (f *csvForm) end(b []byte, e gateway.End) ([]byte, error) {
	if out := e.Result(wire.Result{}); f.columns == nil {
		for i, c := range out.Columns {
			b = field(separate(b, i), c.Name)
		}
		b = append(b, "\r\n"...)
		for _, row := range out.Rows {
			for i, v := range row {
				b = field(separate(b, i), v.(string))
			}
			b = append(b, "\r\n"...)
		}
	}
	return b, nil
}

func (*csvForm) broken(b []byte, _ *wire.Problem) ([]byte, bool) { return b, false }

func separate(b []byte, i int) []byte {
	if i > 0 {
		b = append(b, ',')
	}
	return b
}

func field(b []byte, text string) []byte {
	if text != "" && !strings.ContainsAny(text, ",\"\r\n") {
		return append(b, text...)
	}
	b = append(b, '"')
	b = append(b, strings.ReplaceAll(text, `"`, `""`)...)
	return append(b, '"')
}

// unformulated puts an apostrophe before a text that a spreadsheet would take for a
// formula.
func unformulated(text string) string {
	if text != "" && strings.ContainsRune("=+-@\t\r", rune(text[0])) {
		return "'" + text
	}
	return text
}

// linesForm writes each row as one JSON object on a line of its own.
type linesForm struct {
	columns []query.Column
	names   [][]byte // of the columns, each as JSON with a colon
}

func (*linesForm) mime() string { return "application/jsonl" }

func (f *linesForm) head(b []byte, columns []query.Column) []byte {
	f.columns = columns
	for _, c := range columns {
		f.names = append(f.names, append(quoted(nil, []byte(c.Name)), ':'))
	}
	return b
}

func (f *linesForm) row(b []byte, row [][]byte) []byte {
	b = append(b, '{')
	for i, v := range row {
		b = append(separate(b, i), f.names[i]...)
		b = jsonValue(b, v, f.columns[i].Type)
	}
	return append(b, "}\n"...)
}

func (f *linesForm) end(b []byte, e gateway.End) ([]byte, error) {
	if out := e.Result(wire.Result{}); f.columns == nil {
		for _, row := range out.Rows {
			line, err := json.Marshal(map[string]any{out.Columns[0].Name: row[0]})
			if err != nil {
				return b, err
			}
			b = append(append(b, line...), '\n')
		}
	}
	return b, nil
}

func (*linesForm) broken(b []byte, _ *wire.Problem) ([]byte, bool) { return b, false }

// jsonForm writes a [wire.Result], the rows first.
type jsonForm struct {
	columns []query.Column
	begun   bool
	rows    bool // one is written
}

func (*jsonForm) mime() string { return fiber.MIMEApplicationJSON }

func (f *jsonForm) head(b []byte, columns []query.Column) []byte {
	f.columns, f.begun = columns, true
	b = append(b, `{"columns":[`...)
	for i, c := range gateway.ResultColumns(columns) {
		b = quoted(append(separate(b, i), `{"name":`...), []byte(c.Name))
		b = append(quoted(append(b, `,"type":`...), []byte(c.Type)), '}')
	}
	return append(b, `],"rows":[`...)
}

func (f *jsonForm) row(b []byte, row [][]byte) []byte {
	if f.rows {
		b = append(b, ',')
	}
	f.rows = true
	b = append(b, '[')
	for i, v := range row {
		b = jsonValue(separate(b, i), v, f.columns[i].Type)
	}
	return append(b, ']')
}

func (f *jsonForm) end(b []byte, e gateway.End) ([]byte, error) {
	out := e.Result(wire.Result{})
	if !f.begun || len(out.Columns) > 0 { // what has no rows of its own
		text, err := json.Marshal(out)
		return append(b, text...), err
	}
	return closed(b, out)
}

// closed writes the members of a result that come behind the rows, as encoding/json does.
func closed(b []byte, out wire.Result) (_ []byte, err error) {
	b = strconv.AppendBool(append(b, `],"truncated":`...), out.Truncated)
	b = strconv.AppendFloat(append(b, `,"took_ms":`...), out.TookMS, 'f', -1, 64)
	b = quoted(append(b, `,"standpoint":`...), []byte(out.Standpoint))
	if out.Lane != "" {
		b = quoted(append(b, `,"lane":`...), []byte(out.Lane))
	}
	b = strconv.AppendInt(append(b, `,"changed":`...), out.Changed, 10)
	b = quoted(append(b, `,"record":`...), []byte(out.Record))
	var text []byte
	if out.Problem != nil {
		text, err = json.Marshal(out.Problem)
		b = append(append(b, `,"problem":`...), text...)
	}
	if out.Plan != nil && err == nil {
		text, err = json.Marshal(out.Plan)
		b = append(append(b, `,"plan":`...), text...)
	}
	return append(b, '}'), err
}

func (f *jsonForm) broken(b []byte, p *wire.Problem) ([]byte, bool) {
	b, err := closed(b, wire.Result{Problem: p})
	return b, err == nil
}

// mostExact is the length up to which the text of a whole number is one that every reader of JSON
// reads as it is (RFC 8259, 6): below 2^53, which has sixteen digits.
const mostExact = 15

// jsonValue writes a value that the database has written as a text: a truth value or a number as
// such where JSON has it and no reader rounds it, else the text.
func jsonValue(b, v []byte, t query.Type) []byte {
	if v == nil {
		return append(b, "null"...)
	}
	switch t {
	case sqltype.Boolean:
		if string(v) == "t" {
			return append(b, "true"...)
		}
		return append(b, "false"...)
	case sqltype.Int2, sqltype.Int4:
		return append(b, v...)
	case sqltype.Int8:
		if len(v) <= mostExact || exactly(v) {
			return append(b, v...)
		}
	case sqltype.Float4, sqltype.Float8:
		if last := v[len(v)-1]; last >= '0' && last <= '9' { // none of Infinity and NaN
			return append(b, v...)
		}
	}
	return quoted(b, v)
}

// exactly reports whether a whole number is between -2^53 and 2^53, both left out.
func exactly(v []byte) bool {
	digits := bytes.TrimPrefix(v, []byte("-"))
	const most = "9007199254740991"
	return len(digits) < len(most) || len(digits) == len(most) && string(digits) <= most
}

const hexDigits = "0123456789abcdef"

// quoted writes a text as JSON does, with what a page could take for its own escaped.
func quoted(b, v []byte) []byte {
	b = append(b, '"')
	start := 0
	for i := 0; i < len(v); {
		ch := v[i]
		if ch < utf8.RuneSelf {
			if ch >= ' ' && ch != '"' && ch != '\\' && ch != '<' && ch != '>' && ch != '&' {
				i++
				continue
			}
			b = append(b, v[start:i]...)
			switch ch {
			case '"', '\\':
				b = append(b, '\\', ch)
			case '\n':
				b = append(b, `\n`...)
			case '\r':
				b = append(b, `\r`...)
			case '\t':
				b = append(b, `\t`...)
			default:
				b = append(b, `\u00`...)
				b = append(b, hexDigits[ch>>4], hexDigits[ch&15])
			}
			i++
			start = i
			continue
		}
		r, size := utf8.DecodeRune(v[i:])
		if r == utf8.RuneError && size == 1 || r == '\u2028' || r == '\u2029' {
			b = append(b, v[start:i]...)
			if r == utf8.RuneError {
				b = append(b, `\ufffd`...)
			} else {
				b = append(b, `\u202`...)
				b = append(b, hexDigits[r&15])
			}
			start = i + size
		}
		i += size
	}
	return append(append(b, v[start:]...), '"')
}

// A flow is an answer on its way out. What runs the statement sends pieces, of which the first
// decides how the request is answered.
type flow struct {
	ctx    context.Context
	form   form
	pieces chan []byte
	whole  []byte // all of it, where nothing had to be sent before the end
	begun  bool
}

func (f *flow) Head(h gateway.Head) ([]int16, error) {
	f.whole = f.form.head(f.whole, h.Columns)
	return nil, nil
}

func (f *flow) Row(b []byte, row [][]byte) ([]byte, error) { return f.form.row(b, row), nil }

func (f *flow) Send(b []byte, last bool) error {
	if last && !f.begun {
		f.whole = append(f.whole, b...)
		return nil
	}
	piece := append(f.whole, b...)
	f.whole, f.begun = nil, true
	select {
	case f.pieces <- piece:
		return nil
	case <-f.ctx.Done():
		return f.ctx.Err()
	}
}

// queried runs a statement and answers with its rows as they come.
func (s *Server) queried(r request, in wire.QueryRequest) error {
	c := r.fiber
	f := &flow{ctx: r.ctx, form: formOf(c, in.CSVSafe), pieces: make(chan []byte)}
	_, isJSON := f.form.(*jsonForm)
	type ended struct {
		end gateway.End
		err error
	}
	over := make(chan ended, 1)
	done := s.service.Working()
	go func() {
		defer done()
		defer func() {
			if broke := recover(); broke != nil {
				s.log.Error("a query broke", "error", broke)
				s.service.Audit.Broken("POST /queries", r.Address, broke)
				over <- ended{err: errBroken}
			}
		}()
		end, err := s.service.Gateway.Stream(r.ctx, r.Caller, gateway.Ask{QueryRequest: in, Whole: !isJSON}, f)
		over <- ended{end, err}
	}()
	c.Set(fiber.HeaderContentType, f.form.mime())
	select {
	case e := <-over:
		if e.err != nil {
			c.Response().Header.Del(fiber.HeaderContentType)
			return e.err
		}
		body, err := f.form.end(f.whole, e.end)
		if err != nil {
			return err
		}
		if err := c.Send(body); err != nil {
			return err
		}
		return answered{}
	case first := <-f.pieces:
		conn := c.RequestCtx().Conn()
		c.RequestCtx().SetBodyStreamWriter(func(w *bufio.Writer) {
			defer r.stop()
			piece := first
			for {
				if sent(conn, w, piece) != nil {
					r.stop() // who reads has gone: the statement is ended
				}
				select {
				case piece = <-f.pieces:
					continue
				case e := <-over:
					s.finished(w, conn, f, e.end, e.err)
					return
				}
			}
		})
		return answered{streams: true}
	}
}

// sent sends a piece of a stream.
func sent(conn net.Conn, w *bufio.Writer, piece []byte) error {
	if err := grace(conn); err != nil {
		return err
	}
	if _, err := w.Write(piece); err != nil {
		return err
	}
	return w.Flush()
}

// finished writes the end of an answer that has begun. Where it broke off, and the form has no
// place to say so, the connection is cut, so that nobody takes it for whole.
func (s *Server) finished(w *bufio.Writer, conn net.Conn, f *flow, end gateway.End, err error) {
	var rest []byte
	if err == nil {
		rest, err = f.form.end(f.whole, end)
	}
	if err != nil {
		ok := false
		if rest, ok = f.form.broken(nil, problem(err)); !ok {
			conn.Close()
			return
		}
	}
	if sent(conn, w, rest) != nil {
		conn.Close()
	}
}

var errBroken = errors.New("the query broke")
