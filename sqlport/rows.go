package sqlport

import (
	"bytes"
	"slices"

	"github.com/jackc/pgx/v5/pgproto3"
	"github.com/jackc/pgx/v5/pgtype"

	"gneiss/core/query"
	"gneiss/service/gateway"
)

// rows takes the answer to a statement and sends it as DataRow messages.
type rows struct {
	c        *session
	formats  []int16
	describe bool           // RowDescription goes before them
	expected []query.Column // that the client was told of; nil: it was told of none
	columns  []query.Column
	convert  []bool  // columns that come as texts and leave in binary form; nil: none
	silent   bool    // rows are counted alone: MOVE
	keep     *portal // which keeps them; nil: they are sent
	message  pgproto3.DataRow
	headed   bool
}

func (r *rows) Head(h gateway.Head) ([]int16, error) {
	if r.expected != nil && !alike(r.expected, h.Columns) {
		return nil, statef("0A000", "cached plan must not change result type") // on which clients prepare it again
	}
	if n := len(r.formats); n > 1 && n != len(h.Columns) {
		return nil, statef("08P01", "the portal has %d formats for %d columns", n, len(h.Columns))
	}
	r.columns, r.headed = h.Columns, true
	if r.describe {
		r.c.send(fields(h.Columns, r.formats))
	}
	if !slices.Contains(r.formats, pgtype.BinaryFormatCode) {
		return nil, nil
	}
	out := make([]int16, len(h.Columns))
	r.convert = make([]bool, len(h.Columns))
	for i, c := range h.Columns {
		if out[i] = formatOf(r.formats, i); out[i] == pgtype.TextFormatCode {
			continue
		}
		// A type of the source's own is a text to the client, or an array of texts, in binary form, too.
		if !h.Binary || c.Type == nil || c.Type.OID == 0 {
			out[i], r.convert[i] = pgtype.TextFormatCode, true
		}
	}
	if !h.Binary {
		return nil, nil
	}
	return out, nil
}

// as makes rows that come as texts leave in other forms from now on.
func (r *rows) as(formats []int16) {
	r.formats, r.convert = formats, make([]bool, len(r.columns))
	for i := range r.columns {
		r.convert[i] = formatOf(formats, i) == pgtype.BinaryFormatCode
	}
}

func alike(a, b []query.Column) bool {
	return slices.EqualFunc(a, b, func(x, y query.Column) bool { return oidOf(x.Type) == oidOf(y.Type) && x.Name == y.Name })
}

func (r *rows) Row(b []byte, row [][]byte) ([]byte, error) {
	if r.silent {
		return b, nil
	}
	row, err := r.converted(row)
	if err != nil {
		return b, err
	}
	if r.keep != nil {
		return b, r.kept(row)
	}
	r.message.Values = row
	return r.message.Encode(b)
}

// kept keeps a row for its portal.
func (r *rows) kept(row [][]byte) error {
	out, cost := make([][]byte, len(row)), int64(bytesOfCell)
	for i, v := range row {
		out[i] = bytes.Clone(v)
		cost += bytesOfCell + int64(len(v))
	}
	if err := r.c.keeps(cost); err != nil {
		return err
	}
	r.keep.cost += cost
	r.keep.listed = append(r.keep.listed, out)
	return nil
}

// converted is a row whose values have the forms that the client wants.
func (r *rows) converted(row [][]byte) ([][]byte, error) {
	if !slices.Contains(r.convert, true) {
		return row, nil
	}
	row = slices.Clone(row)
	for i, text := range row {
		if !r.convert[i] {
			continue
		}
		var err error
		if row[i], err = r.c.values.binary(oidOf(r.columns[i].Type), text); err != nil {
			return nil, err
		}
	}
	return row, nil
}

// Before sends the rows that came before a failure.
func (r *rows) Before(b []byte) { r.c.out = append(r.c.out, b...) }

func (r *rows) Send(b []byte, last bool) error {
	r.c.out = append(r.c.out, b...)
	if !last || len(r.c.out) >= mostOut {
		return r.c.flush()
	}
	return nil
}
