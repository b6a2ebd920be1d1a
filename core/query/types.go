package query

import (
	"math"
	"strconv"
	"strings"
	"time"
)

// A Type is the type of an expression. The zero Type is that of NULL and of a
// text literal before its context gives it one.
type Type uint8

const (
	Untyped Type = iota
	Boolean
	Bigint
	Double
	Text
	Date      // YYYY-MM-DD
	Timestamp // YYYY-MM-DD HH:MM:SS, without time zone
)

var typeNames = [...]string{"unknown", "boolean", "bigint", "double precision", "text", "date", "timestamp"}

func (t Type) String() string { return typeNames[t] }

// ParseType reads a catalog's type name; ok is false for another.
func ParseType(name string) (t Type, ok bool) {
	for i, n := range typeNames[1:] {
		if n == name {
			return Type(i + 1), true
		}
	}
	return Untyped, false
}

// castNames are the names by which SQL texts call the types.
var castNames = map[string]Type{
	"bool": Boolean, "boolean": Boolean,
	"int2": Bigint, "int4": Bigint, "int8": Bigint, "smallint": Bigint, "integer": Bigint, "int": Bigint, "bigint": Bigint,
	"float4": Double, "float8": Double, "numeric": Double,
	"text": Text, "varchar": Text, "date": Date, "timestamp": Timestamp,
}

func (t Type) Numeric() bool { return t == Bigint || t == Double }

// unify returns the type that values of both types can take; ok is false when
// there is none.
func unify(a, b Type) (t Type, ok bool) {
	switch {
	case a == b, b == Untyped:
		return a, true
	case a == Untyped:
		return b, true
	case a.Numeric() && b.Numeric():
		return Double, true
	case a == Date && b == Timestamp, a == Timestamp && b == Date:
		return Timestamp, true
	}
	return Untyped, false
}

// parseLiteral reads a text literal as a value of the type. Dates and
// timestamps keep their text form, in its one spelling.
func parseLiteral(s string, t Type) (any, bool) {
	trimmed := strings.TrimSpace(s)
	switch t {
	case Boolean:
		switch strings.ToLower(trimmed) {
		case "t", "true", "yes", "on", "1":
			return true, true
		case "f", "false", "no", "off", "0":
			return false, true
		}
		return nil, false
	case Bigint:
		n, err := strconv.ParseInt(trimmed, 10, 64)
		return n, err == nil
	case Double:
		x, err := strconv.ParseFloat(trimmed, 64)
		return x, err == nil && !math.IsInf(x, 0) && !math.IsNaN(x)
	case Date:
		d, err := time.Parse(time.DateOnly, trimmed)
		return d.Format(time.DateOnly), err == nil
	case Timestamp:
		for _, layout := range []string{time.DateTime, time.DateOnly, "2006-01-02T15:04:05"} {
			if d, err := time.Parse(layout, trimmed); err == nil {
				return d.Format(time.DateTime), true
			}
		}
		return nil, false
	default:
		return s, true
	}
}
