package sqlport

import (
	"encoding/hex"

	"github.com/jackc/pgx/v5/pgproto3"
	"github.com/jackc/pgx/v5/pgtype"

	"gneiss/core/query"
	"gneiss/core/sqltype"
	"gneiss/sqlport/catalog"
)

// oidOf is the number by which clients know a type. One that the source has made itself is a
// text to them.
func oidOf(t *sqltype.Type) uint32 {
	switch {
	case t == nil:
		return sqltype.Text.OID
	case t.OID != 0:
		return t.OID
	case t.Elem != nil:
		return sqltype.Text.Array.OID
	}
	return sqltype.Text.OID
}

// fields describes columns to a client.
func fields(columns []query.Column, formats []int16) *pgproto3.RowDescription {
	out := &pgproto3.RowDescription{}
	for i, c := range columns {
		oid := oidOf(c.Type)
		out.Fields = append(out.Fields, pgproto3.FieldDescription{Name: []byte(c.Name), DataTypeOID: oid, DataTypeSize: catalog.TypeLength(oid),
			TypeModifier: sqltype.Modifier(c.Declared, oid), Format: formatOf(formats, i)})
	}
	return out
}

// formatOf is the format of a value by its place: one for all, or one each.
func formatOf(formats []int16, i int) int16 {
	switch {
	case len(formats) == 1:
		return formats[0]
	case i < len(formats):
		return formats[i]
	}
	return pgtype.TextFormatCode
}

// converter takes values from one form to the other, for a session.
type converter struct{ types *pgtype.Map }

// textual are types whose binary form is their text.
var textual = map[uint32]bool{18: true, 19: true, 25: true, 114: true, 142: true, 705: true, 1042: true, 1043: true}

// binary makes the binary form of a value from its text.
func (c *converter) binary(oid uint32, text []byte) ([]byte, error) {
	if text == nil || textual[oid] {
		return text, nil
	}
	if oid == 3802 { // jsonb: a version before it
		return append([]byte{1}, text...), nil
	}
	return c.convert(oid, pgtype.TextFormatCode, pgtype.BinaryFormatCode, text)
}

// text makes the text of a value from its binary form.
func (c *converter) text(oid uint32, b []byte) (string, error) {
	switch {
	case textual[oid]:
		return string(b), nil
	case oid == 3802 && len(b) > 0 && b[0] == 1:
		return string(b[1:]), nil
	case oid == 17:
		return `\x` + hex.EncodeToString(b), nil
	}
	out, err := c.convert(oid, pgtype.BinaryFormatCode, pgtype.TextFormatCode, b)
	return string(out), err
}

func (c *converter) convert(oid uint32, from, to int16, value []byte) ([]byte, error) {
	if c.types == nil {
		c.types = pgtype.NewMap()
	}
	t, ok := c.types.TypeForOID(oid)
	if !ok {
		return nil, statef("0A000", "values of the type %s are taken and given as texts alone", sqltype.Of(oid))
	}
	if of := sqltype.Of(oid); of != nil && of.Elem != nil {
		return c.array(of, from, to, value)
	}
	v, err := t.Codec.DecodeValue(c.types, oid, from, value)
	if err != nil {
		return nil, statef("22P03", "this is no value of the type %s", t.Name)
	}
	out, err := c.types.Encode(oid, to, v, []byte{}) // not nil, of which an empty value would be NULL
	if err != nil && to == pgtype.TextFormatCode {
		if text, wrong := t.Codec.DecodeDatabaseSQLValue(c.types, oid, from, value); wrong == nil {
			if s, ok := text.(string); ok {
				return []byte(s), nil
			}
		}
	}
	if err != nil {
		return nil, statef("0A000", "a value of the type %s cannot be given in this form", t.Name)
	}
	return out, nil
}
