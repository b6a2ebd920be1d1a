package sqltype

import (
	"strconv"
	"strings"
)

// What is said here goes beyond the catalog's own word for what is leak-proof. Each line is
// held by a test against a real server, over the values at the edges of the types.

// ordered are the types whose values are compared without failing and without telling, by
// their own operators and by those between them.
var ordered = set(
	"bool int2 int4 int8 numeric float4 float8 text varchar bpchar name bytea date time timetz timestamp timestamptz interval " +
		"uuid inet cidr macaddr macaddr8 bit varbit char",
)

// total are the functions that have a result for every value, or NULL, and take no longer for
// one than for another of its length. What they are given in the place of a number of
// characters, or of a unit, is a matter of who writes the condition.
var total = set(`lower upper initcap char_length character_length octet_length bit_length btrim ltrim rtrim left right strpos position
	starts_with md5 sha256 reverse concat concat_ws ascii sign floor ceil ceiling isfinite date_part extract host masklen family
	coalesce nullif greatest least quote_literal quote_nullable to_hex jsonb_typeof json_typeof 
	array_length array_to_string isempty lower_inc upper_inc lower_inf upper_inf num_nulls num_nonnulls
	count min max bool_and bool_or every`)

// totalOperators are operators that have a result for every value.
var totalOperators = map[string]map[string]bool{
	"||": set("text varchar bpchar jsonb"), "->": set("jsonb"), "->>": set("jsonb"), "#>": set("jsonb"), "#>>": set("jsonb"),
	"@>": set("jsonb int4range int8range numrange daterange tsrange tstzrange"), "<@": set("jsonb"), "?": set("jsonb"), "?|": set("jsonb"), "?&": set("jsonb"),
	"&&": set("int4range int8range numrange daterange tsrange tstzrange"), "^@": set("text"),
}

// totalOf are functions that are total for some types of their one operand.
var totalOf = map[string]map[string]bool{"abs": set("numeric float4 float8"), "length": set("text bpchar bytea bit tsvector")}

func set(names string) map[string]bool {
	out := map[string]bool{}
	for _, name := range strings.Fields(names) {
		out[name] = true
	}
	return out
}

// Ordered reports whether values of the type are compared without failing and without
// telling.
func Ordered(t *Type) bool {
	return t == nil || t.Kind == Enum || ordered[t.Internal]
}

// fixed are the types whose values have a width of their own; a numeric has 64 KiB at the most.
var fixed = set(
	"bool int2 int4 int8 numeric float4 float8 name date time timetz timestamp timestamptz interval uuid inet cidr macaddr macaddr8 char",
)

// mostWide is the width in bytes up to which a value takes no time that could be told apart.
const mostWide = 1 << 16

// Narrow reports whether the width of values of a type is bounded; declared is the type with
// its length, where it has one: character varying(20).
func Narrow(t *Type, declared string) bool {
	if t == nil || t.Kind == Enum || fixed[t.Internal] {
		return true
	}
	switch t.Internal {
	case "text", "varchar", "bpchar", "bit", "varbit":
		_, length := Split(declared)
		n, err := strconv.Atoi(length)
		return err == nil && n <= mostWide/4 // a character has four bytes at the most
	}
	return false
}

// Collatable reports whether values of the type have a collation.
func (t *Type) Collatable() bool {
	return t.Textual() || t.Elem != nil && t.Elem.Textual() || t.OID == 0 && t.Kind == Base
}

var comparisons = set("= <> < <= > >=")

// Safe reports whether the operator can be worked out on any values: it neither fails nor
// tells anything of them but by its result.
func (o *Operator) Safe() bool {
	return o.LeakProof || comparisons[o.Name] && o.Left != nil && (Ordered(o.Left) && Ordered(o.Right) || o.Left.Internal == "anyenum")
}

// Total reports whether the operator has a result for all values.
func (o *Operator) Total() bool {
	return o.Safe() || o.Left != nil && totalOperators[o.Name][o.Left.Internal]
}

// Total reports whether the routine has a result for all values.
func (r *Routine) Total() bool {
	one := len(r.Args) == 1 && totalOf[r.Name][r.Args[0].Internal]
	return r.LeakProof || r.Schema == "pg_catalog" && (total[r.Name] || one)
}

// TextOf reports whether a cast gives a value's form as text, which every value has.
func TextOf(from, to *Type) bool { return to == Text && from != nil && from.Kind != Composite }

// Fixed reports whether a cast gives the same for the same value, whatever the session.
func Fixed(from, to *Type) bool {
	c, ok := known().casts[[2]*Type{from, to}]
	return from == to || ok && c.immutable
}
