package query

import (
	"math"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"time"

	"gneiss/core/access"
	"gneiss/core/policy"
	"gneiss/core/sqltype"
)

// A Type is the type of an expression. The zero Type is that of NULL and of a
// text literal before its context gives it one.
type Type = *sqltype.Type

// The types of the shared language, which every source has: see [binder.exact].
var (
	Untyped   Type
	Boolean   = sqltype.Boolean
	Bigint    = sqltype.Int8
	Double    = sqltype.Float8
	Text      = sqltype.Text
	Date      = sqltype.Date
	Timestamp = sqltype.Timestamp
)

// Shared are the types of the language that all sources share.
var Shared = []Type{Boolean, Bigint, Double, Text, Date, Timestamp}

// castNames are the names by which texts in the shared language call the types.
var castNames = map[string]Type{
	"bool": Boolean, "boolean": Boolean,
	"int2": Bigint, "int4": Bigint, "int8": Bigint, "smallint": Bigint, "integer": Bigint, "int": Bigint, "bigint": Bigint,
	"float4": Double, "float8": Double, "numeric": Double,
	"text": Text, "varchar": Text, "date": Date, "timestamp": Timestamp,
}

// speaksExactly reports whether a source has types and routines of its own, by
// PostgreSQL's rules; else its texts are in the shared language.
func speaksExactly(source *access.Object) bool { return source.Type == "postgresql" }

// owned are the types of the source's own that a statement has met, by name: types
// are the same where their pointers are.
type owned map[string]Type

// column reads the type of a column as a scan wrote it; nil is one that the language
// does not have.
func (o owned) column(c *access.Object, exact bool) Type {
	if !exact {
		if t := sqltype.Parse(c.Type); slices.Contains(Shared, t) {
			return t
		}
		return nil
	}
	// A database that was scanned before its types were kept has them there.
	if t := sqltype.Parse(c.Declared); t != nil {
		return t
	}
	return o.named(c.Type)
}

// named reads the name of a type, of PostgreSQL's or of the source's own.
func (o owned) named(name string) Type {
	if t := sqltype.Parse(name); t != nil {
		return t
	}
	kind, own := sqltype.Scanned(name)
	if kind == 0 {
		return nil
	}
	element := strings.TrimSuffix(own, "[]")
	if o[element] == nil {
		o[element] = sqltype.Own(element, kind)
	}
	if element != own {
		return o[element].Array
	}
	return o[element]
}

// typeName is the name of a column's type, with its modifier where it has one, in the
// form that [owned.named] reads.
func typeName(c Column) string {
	if c.Declared != "" {
		return c.Declared
	}
	if c.Type == nil {
		return Text.String()
	}
	element := c.Type
	if element.Elem != nil {
		element = element.Elem
	}
	return sqltype.Written(element, c.Type.Name)
}

// unify returns the type that values of both types can take; ok is false when
// there is none.
func (b *binder) unify(a, other Type) (t Type, ok bool) {
	if b.exact {
		if a == nil || other == nil {
			return pick(a, other), true
		}
		t := sqltype.Common([]Type{a, other})
		return t, t != nil
	}
	return unifyShared(a, other)
}

func pick(a, b Type) Type {
	if a == nil {
		return b
	}
	return a
}

func unifyShared(a, b Type) (t Type, ok bool) {
	switch {
	case a == b, b == Untyped:
		return a, true
	case a == Untyped:
		return b, true
	case a.Number() && b.Number():
		return Double, true
	case a == Date && b == Timestamp, a == Timestamp && b == Date:
		return Timestamp, true
	}
	return Untyped, false
}

// parseLiteral reads a text literal as a value of a type of the shared language.
// Dates and timestamps keep their text form, in its one spelling.
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
		d, ok := ReadTime(s)
		return d.Format(time.DateOnly), ok
	case Timestamp:
		d, ok := ReadTime(s)
		return d.Round(time.Microsecond).Format(TimestampForm), ok
	default:
		return s, true
	}
}

// TimestampForm is the form of a timestamp in the shared language, as package time has it, and as PostgreSQL writes one.
const TimestampForm = time.DateTime + ".999999"

// zone is a distance from UTC behind a date or time. In one that has no zone it means nothing, as
// PostgreSQL has it; some clients write it all the same.
var zone = regexp.MustCompile(`^(\d{4}-\d\d-\d\d(?:[ T]\d\d:\d\d(?::\d\d(?:\.\d+)?)?)?) ?(?:[+-]\d\d(?::?\d\d)?|Z)$`)

// ReadTime reads a date, or a date and a time, in the forms of ISO SQL and ISO 8601.
func ReadTime(s string) (t time.Time, ok bool) {
	s = zone.ReplaceAllString(strings.TrimSpace(s), "$1")
	for _, layout := range []string{time.DateTime, time.DateOnly, "2006-01-02T15:04:05", "2006-01-02 15:04", "2006-01-02T15:04"} {
		if t, err := time.Parse(layout, s); err == nil && t.Year() >= 1 && !strings.Contains(s, ",") {
			return t, true
		}
	}
	return time.Time{}, false
}

// parseExact reads a text as a value of one of PostgreSQL's types; ok is false where it is
// none. What only the database can read is left to it.
func parseExact(s string, t Type) (value any, ok bool) {
	trimmed := strings.TrimSpace(s)
	whole := func(bits int) (any, bool) {
		n, err := strconv.ParseInt(trimmed, 10, bits)
		return n, err == nil
	}
	switch t {
	case Boolean:
		lower := strings.ToLower(trimmed)
		for i, word := range []string{"true", "yes", "on", "false", "no", "off"} {
			least := map[string]int{"on": 2, "off": 2}[word]
			if lower != "" && strings.HasPrefix(word, lower) && len(lower) >= least {
				return i < 3, true
			}
		}
		return trimmed == "1", trimmed == "1" || trimmed == "0"
	case sqltype.Int2:
		return whole(16)
	case sqltype.Int4:
		return whole(32)
	case sqltype.Int8:
		return whole(64)
	}
	return s, true
}

// valueOf is parseExact for values that come from attributes and from treatments: what is
// none of the type is found out here, so that the database does not fail on it. known is
// false for a type that only the database can read.
func valueOf(s string, t Type) (value any, ok, known bool) {
	trimmed := strings.TrimSpace(s)
	switch t {
	case Boolean, sqltype.Int2, sqltype.Int4, sqltype.Int8:
		value, ok = parseExact(s, t)
		return value, ok, true
	case Text, sqltype.Varchar, sqltype.Char, sqltype.Name:
		return s, !strings.ContainsRune(s, 0), true
	case sqltype.Numeric, sqltype.Float4, sqltype.Float8:
		x, err := strconv.ParseFloat(trimmed, 64)
		plain := strings.Trim(trimmed, "+-0123456789.eE") == "" && len(trimmed) < 400
		return trimmed, plain && err == nil && math.Abs(x) < 1e300 && (t != sqltype.Float4 || math.Abs(x) < 1e38), true
	case Date:
		value, ok = parseLiteral(s, Date)
		return value, ok, true
	case Timestamp, sqltype.TimestampTZ:
		value, ok = parseLiteral(s, Timestamp)
		return value, ok, true
	case sqltype.UUID:
		return trimmed, isUUID(trimmed), true
	}
	return nil, false, false
}

// isUUID reports whether a text is a UUID in the form of RFC 9562.
func isUUID(s string) bool {
	parts := strings.Split(s, "-")
	if len(parts) != 5 {
		return false
	}
	for i, n := range []int{8, 4, 4, 4, 12} {
		if len(parts[i]) != n || strings.Trim(strings.ToLower(parts[i]), "0123456789abcdef") != "" {
			return false
		}
	}
	return true
}

// Readable reports whether the language has the type of a column.
func Readable(m *access.Model, column *access.Object) bool {
	source := m.Object(m.Object(m.Object(column.Parent).Parent).Parent)
	return owned{}.column(column, speaksExactly(source)) != nil
}

// TypeAfter is the type of a column's values once a decision has treated them.
func TypeAfter(d policy.Decision, t Type) Type {
	for _, step := range d.Steps {
		t = treatedType(step.Treatment, t)
	}
	return t
}
