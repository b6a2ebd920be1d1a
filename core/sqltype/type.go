package sqltype

import (
	"fmt"
	"strconv"
	"strings"
)

// A Kind says how a type is made.
type Kind byte

// The kinds, by the letters of PostgreSQL's catalog.
const (
	Base       Kind = 'b'
	Enum       Kind = 'e'
	Composite  Kind = 'c'
	RangeKind  Kind = 'r'
	Multirange Kind = 'm'
	Pseudo     Kind = 'p' // of declarations only: anyelement, record and so on
)

// A Type is a type of the database's. Two types are the same where their pointers are. The
// nil Type is that of NULL and of a text literal before its context gives it one.
type Type struct {
	OID       uint32 // zero: of the source's own making
	Name      string // as SQL writes it, without a modifier
	Internal  string // as the catalog calls it; the name of its routines, too
	Kind      Kind
	Category  byte // one of PostgreSQL's, such as N for numbers
	Preferred bool // within its category

	Elem    *Type // of an array
	Array   *Type // of these; nil: there is none
	Subtype *Type // of a range or multirange
	Other   *Type // of a range its multirange, and the other way
}

func (t *Type) String() string {
	if t == nil {
		return "unknown"
	}
	return t.Name
}

// Number reports whether values of the type are numbers.
func (t *Type) Number() bool { return t != nil && t.Category == 'N' }

// Textual reports whether values of the type are texts of characters.
func (t *Type) Textual() bool { return t != nil && t.Category == 'S' }

// Own makes a type of the source's own, with its array.
func Own(name string, kind Kind) *Type {
	category := map[Kind]byte{Enum: 'E', Composite: 'C', RangeKind: 'R', Multirange: 'R'}[kind]
	if category == 0 {
		category = 'U'
	}
	t := &Type{Name: name, Internal: name, Kind: kind, Category: category}
	t.Array = &Type{Name: name + "[]", Internal: "_" + name, Kind: Base, Category: 'A', Elem: t}
	return t
}

// ownKinds are the kinds of types that a source makes of its own, as a scan writes them before the type's name: "enum survey.rock".
var ownKinds = map[string]Kind{"enum": Enum, "composite": Composite, "range": RangeKind, "multirange": Multirange, "base": Base}

// Scanned parts the name of a type of a source's own, as a scan wrote it, into its kind and its name; kind is zero for others.
func Scanned(written string) (kind Kind, name string) {
	word, name, _ := strings.Cut(written, " ")
	if kind = ownKinds[word]; kind == 0 || Parse(written) != nil {
		return 0, written
	}
	return kind, name
}

// Written is the inverse of Scanned, for the name of a type or of its array; t is the type itself.
func Written(t *Type, name string) string {
	for word, kind := range ownKinds {
		if t.OID == 0 && t.Kind == kind {
			return word + " " + name
		}
	}
	return name
}

// Shown is the name of a type for people, from what a scan wrote.
func Shown(written string) string {
	_, name := Scanned(written)
	return name
}

// aliases are the names of types that the catalog does not have.
var aliases = map[string]string{
	"timestamp without time zone": "timestamp", "time without time zone": "time", "timestamp with time zone": "timestamptz", "time with time zone": "timetz",
	"decimal": "numeric", "char": "bpchar", "dec": "numeric", "int": "int4", "float": "float8", "serial": "int4", "bigserial": "int8",
}

// Parse reads the name of a type as SQL writes it or as the catalog has it, with or without a
// modifier: "numeric(15,2)", "character varying(20)[]", "int4". It returns nil for one that
// PostgreSQL itself does not have.
func Parse(name string) *Type {
	base, _ := Split(name)
	if array := strings.TrimSuffix(base, "[]"); array != base {
		if t := Parse(array); t != nil {
			return t.Array
		}
		return nil
	}
	if t, ok := types.byName[base]; ok {
		return t
	}
	if strings.HasPrefix(base, "interval ") { // and its fields
		return Interval
	}
	return types.byName[aliases[base]]
}

// Of is the type of a number of PostgreSQL's catalog; nil: it has none.
func Of(oid uint32) *Type { return types.byOID[oid] }

// Split parts a type's name from its modifier: "timestamp(3) with time zone" into "timestamp
// with time zone" and "3".
func Split(name string) (base, modifier string) {
	head, rest, ok := strings.Cut(name, "(")
	if !ok {
		return name, ""
	}
	modifier, tail, _ := strings.Cut(rest, ")")
	return strings.TrimSpace(head) + tail, modifier
}

// WithModifier writes a type's name with a modifier in its place.
func WithModifier(t *Type, modifier string) string {
	if modifier == "" {
		return t.String()
	}
	name := strings.TrimSuffix(t.Name, "[]")
	array := strings.TrimPrefix(t.Name, name)
	switch head, zoned := strings.CutSuffix(name, " with time zone"); {
	case zoned:
		return head + "(" + modifier + ") with time zone" + array
	case name == Interval.Name && modifier[0] == '(':
		return name + modifier + array
	case name == Interval.Name:
		return name + " " + modifier + array
	}
	return name + "(" + modifier + ")" + array
}

// Simple is the simplest type that a value of a type can be looked at as: bigint, double
// precision, text, boolean, date or timestamp; or the type itself.
func Simple(name string) string {
	t := Parse(name)
	switch {
	case t == nil:
		return name
	case t == Int2, t == Int4:
		return Int8.Name
	case t == Numeric, t == Float4:
		return Float8.Name
	case t.Textual():
		return Text.Name
	case t == TimestampTZ:
		return Timestamp.Name
	}
	return t.Name
}

// Alike reports whether columns of two types can lead to each other: they are of one type, or
// their values can be compared.
func Alike(a, b string) bool {
	x, y := Parse(a), Parse(b)
	if x == nil || y == nil {
		return a == b
	}
	_, err := Binary("=", x, y)
	return x == y || err == nil
}

// Modifier is the number by which PostgreSQL keeps the length or precision of a declared type:
// numeric(15,2); -1 where it has none.
func Modifier(declared string, oid uint32) int32 {
	if oid == Interval.OID || oid == Interval.Array.OID {
		return intervalModifier(declared)
	}
	_, text := Split(declared)
	first, second, two := strings.Cut(text, ",")
	n, err := strconv.Atoi(strings.TrimSpace(first))
	if err != nil {
		return -1
	}
	switch oid {
	case 1042, 1043, 1014, 1015:
		return int32(n) + 4
	case 1700, 1231:
		scale := 0
		if two {
			scale, _ = strconv.Atoi(strings.TrimSpace(second))
		}
		return int32(n)<<16 | int32(scale)&0x7ff + 4
	case 1083, 1114, 1184, 1266, 1560, 1562, 1115, 1185:
		return int32(n)
	}
	return -1
}

// ModifierText is the inverse of Modifier; empty: there is none.
func ModifierText(oid uint32, modifier int64) string {
	if modifier < 0 {
		return ""
	}
	switch oid {
	case 1042, 1043, 1014, 1015:
		return strconv.FormatInt(modifier-4, 10)
	case 1700, 1231:
		return fmt.Sprintf("%d,%d", (modifier-4)>>16, (modifier-4)&0x7ff)
	case 1083, 1114, 1184, 1266, 1560, 1562, 1115, 1185:
		return strconv.FormatInt(modifier, 10)
	case Interval.OID, Interval.Array.OID:
		return intervalModifierText(modifier)
	}
	return ""
}
