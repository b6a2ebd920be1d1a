package query

import (
	"strings"

	"gneiss/core/sqltype"
)

// declaredOf is the type of an expression by its name with a length or precision, where all its values are
// known to have it: numeric(15,2). It is empty where they are not, as PostgreSQL sees it: what is calculated
// has none, and neither has a value that an aggregate picks.
func declaredOf(e Expr) string {
	switch e := e.(type) {
	case *ColumnRef:
		return e.Rel.Columns[e.Col].Declared
	case *Cast:
		if e.Modifier != "" {
			return sqltype.WithModifier(e.To, e.Modifier)
		}
	case *Scalar:
		return e.Query.Columns[0].Declared
	case *ArrayQuery:
		return arrayOf(e.Query.Columns[0].Declared)
	case *Array:
		return arrayOf(declaredAlike(e.List))
	case *Subscript:
		if !e.Part {
			return strings.TrimSuffix(declaredOf(e.X), "[]")
		}
		return declaredOf(e.X)
	case *Collated:
		return declaredOf(e.X)
	case *Case:
		if e.Else == nil {
			return ""
		}
		list := []Expr{e.Else}
		for _, when := range e.Whens {
			list = append(list, when.Then)
		}
		return declaredAlike(list)
	case *Call:
		switch e.Fn.Name {
		case "coalesce", "greatest", "least":
			return declaredAlike(e.Args)
		case "nullif":
			return declaredOf(e.Args[0])
		}
	}
	return ""
}

func arrayOf(declared string) string {
	if declared == "" {
		return ""
	}
	return declared + "[]"
}

// declaredAlike is declaredOf of what is one of some expressions.
func declaredAlike(list []Expr) string {
	if len(list) == 0 {
		return ""
	}
	declared := declaredOf(list[0])
	for _, e := range list[1:] {
		if declaredOf(e) != declared {
			return ""
		}
	}
	return declared
}
