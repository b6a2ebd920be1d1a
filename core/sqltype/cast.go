package sqltype

// A Context is where a value is converted: it says which casts are taken.
type Context byte

const (
	Implicit   Context = iota // unasked, in an expression
	Assignment                // into a column
	Explicit                  // where CAST is written
)

// Castable reports whether a value of one type can be taken to another in a context.
func Castable(from, to *Type, context Context) bool {
	if from == to || from == nil || to == nil || to.Internal == "any" || polymorphic[to.Internal] {
		return true
	}
	if c, ok := known().casts[[2]*Type{from, to}]; ok {
		switch c.context {
		case 'i':
			return true
		case 'a':
			return context >= Assignment
		}
		return context == Explicit
	}
	switch {
	case from.Elem != nil && to.Elem != nil:
		return Castable(from.Elem, to.Elem, context)
	case from.Kind == Composite && to.Internal == "record":
		return true
	case to.Kind == Pseudo || from.Kind == Pseudo:
		return false
	}
	// All types have a form as text.
	return context >= Assignment && to.Category == 'S' || context == Explicit && from.Category == 'S'
}

// SafeTogether reports whether values of some types are taken to their common one without
// failing or telling.
func SafeTogether(types ...*Type) bool {
	t := Common(types)
	for _, one := range types {
		if t == nil || !SafeCast(one, t) {
			return false
		}
	}
	return true
}

// SafeCast reports whether a cast can neither fail nor tell, so that it can be worked out on
// any row: the value is the same, or the catalog says so.
func SafeCast(from, to *Type) bool {
	if from == to || from == nil || to == nil || to.Kind == Pseudo {
		return true
	}
	c, ok := known().casts[[2]*Type{from, to}]
	return ok && (c.leakProof || widens[[2]string{from.Internal, to.Internal}])
}

// widens are casts that hold every value. They are immutable and cannot fail.
var widens = map[[2]string]bool{
	{"int2", "int4"}: true, {"int2", "int8"}: true, {"int4", "int8"}: true,
	{"int2", "numeric"}: true, {"int4", "numeric"}: true, {"int8", "numeric"}: true,
	{"int2", "float8"}: true, {"int4", "float8"}: true, {"int8", "float8"}: true, {"float4", "float8"}: true,
	{"int2", "float4"}: true, {"int4", "float4"}: true, {"int8", "float4"}: true,
	{"bpchar", "text"}: true, {"name", "text"}: true, {"char", "text"}: true,
}

// Common finds the type that values of several types are taken to together: the branches of a
// CASE, the sides of a UNION, the values of a list. It is nil where there is none.
func Common(list []*Type) *Type {
	var t *Type
	for _, next := range list {
		switch {
		case next == nil || next == t:
		case t == nil:
			t = next
		case next.Category != t.Category:
			return nil
		case !t.Preferred && Castable(t, next, Implicit) && !Castable(next, t, Implicit):
			t = next
		}
	}
	if t == nil {
		return Text
	}
	for _, one := range list {
		if !Castable(one, t, Implicit) {
			return nil
		}
	}
	return t
}

// The types that the language itself speaks of.
var (
	Boolean     = types.byName["bool"]
	Int2        = types.byName["int2"]
	Int4        = types.byName["int4"]
	Int8        = types.byName["int8"]
	Numeric     = types.byName["numeric"]
	Float4      = types.byName["float4"]
	Float8      = types.byName["float8"]
	Text        = types.byName["text"]
	Varchar     = types.byName["varchar"]
	Char        = types.byName["bpchar"]
	Name        = types.byName["name"]
	Bytea       = types.byName["bytea"]
	Date        = types.byName["date"]
	Time        = types.byName["time"]
	TimeTZ      = types.byName["timetz"]
	Timestamp   = types.byName["timestamp"]
	TimestampTZ = types.byName["timestamptz"]
	Interval    = types.byName["interval"]
	UUID        = types.byName["uuid"]
	JSON        = types.byName["json"]
	JSONB       = types.byName["jsonb"]
	Bit         = types.byName["bit"]
	Record      = types.byName["record"]
)
