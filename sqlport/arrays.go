package sqlport

import (
	"encoding/binary"
	"errors"
	"io"

	"github.com/jackc/pgx/v5/pgtype"

	"gneiss/core/sqltype"
)

// elements takes an array apart, without reading its elements.
func (c *converter) elements(t *sqltype.Type, format int16, value []byte) (a pgtype.Array[pgtype.UndecodedBytes], err error) {
	if format == pgtype.TextFormatCode {
		return a, c.types.Scan(t.OID, format, value, &a)
	}
	take := func() int32 {
		if len(value) < 4 {
			err, value = io.ErrUnexpectedEOF, nil
			return 0
		}
		n := binary.BigEndian.Uint32(value)
		value = value[4:]
		return int32(n)
	}
	dimensions, _, of := take(), take(), take() // in between, whether one is NULL
	if dimensions < 0 || dimensions > 6 || uint32(of) != t.Elem.OID {
		return a, errors.New("an array has up to 6 dimensions, and elements of its type")
	}
	for range dimensions {
		a.Dims = append(a.Dims, pgtype.ArrayDimension{Length: take(), LowerBound: take()})
	}
	n := 1
	for _, d := range a.Dims {
		if n *= int(d.Length); n < 0 || n > len(value)/4 { // each has its length before it
			return a, io.ErrUnexpectedEOF
		}
	}
	for range n * min(len(a.Dims), 1) {
		var element []byte
		if size := take(); size > int32(len(value)) {
			return a, io.ErrUnexpectedEOF
		} else if size >= 0 {
			element, value = value[:size:size], value[size:]
		}
		a.Elements = append(a.Elements, element)
	}
	if len(value) > 0 {
		err = errors.New("more follows the last element")
	}
	return a, err
}

// array makes one form of an array from the other, element by element. Its dimensions and where they begin are kept.
func (c *converter) array(t *sqltype.Type, from, to int16, value []byte) ([]byte, error) {
	a, err := c.elements(t, from, value)
	if err != nil {
		return nil, statef("22P03", "this is no value of the type %s", t)
	}
	if len(a.Elements) == 0 {
		a.Dims = nil // where the library makes one of {}
	}
	if to == pgtype.TextFormatCode {
		if len(a.Elements) == 0 {
			return []byte("{}"), nil
		}
		texts := pgtype.Array[*string]{Elements: make([]*string, len(a.Elements)), Dims: a.Dims, Valid: true}
		for i, raw := range a.Elements {
			if raw != nil {
				text, err := c.text(t.Elem.OID, raw)
				if err != nil {
					return nil, err
				}
				texts.Elements[i] = &text
			}
		}
		return c.types.Encode(t.OID, to, texts, []byte{})
	}
	nulls := uint32(0)
	var elements []byte
	for _, raw := range a.Elements {
		if raw == nil {
			elements, nulls = binary.BigEndian.AppendUint32(elements, 1<<32-1), 1
			continue
		}
		b, err := c.binary(t.Elem.OID, raw)
		if err != nil {
			return nil, err
		}
		elements = append(binary.BigEndian.AppendUint32(elements, uint32(len(b))), b...)
	}
	out := binary.BigEndian.AppendUint32(nil, uint32(len(a.Dims)))
	out = binary.BigEndian.AppendUint32(out, nulls)
	out = binary.BigEndian.AppendUint32(out, t.Elem.OID)
	for _, d := range a.Dims {
		out = binary.BigEndian.AppendUint32(out, uint32(d.Length))
		out = binary.BigEndian.AppendUint32(out, uint32(d.LowerBound))
	}
	return append(out, elements...), nil
}
