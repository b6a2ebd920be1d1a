package query

import (
	"slices"
	"strconv"

	pg "github.com/pganalyze/pg_query_go/v6"

	"gneiss/core/access"
	"gneiss/core/sqltype"
)

// Facts are what a session is: its user, groups, roles, attributes, purpose and
// the time its query starts. They are folded into constants, so that the
// database can use its indexes, and so that a plan says all that it depends on.

// valueFunction binds the facts that ISO SQL writes without parentheses.
func (b *binder) valueFunction(f *pg.SQLValueFunction) Expr {
	switch f.Op {
	case pg.SQLValueFunctionOp_SVFOP_CURRENT_USER, pg.SQLValueFunctionOp_SVFOP_USER:
		return b.currentUser()
	case pg.SQLValueFunctionOp_SVFOP_CURRENT_DATE:
		return &Now{Date}
	}
	if b.exact {
		if e := b.clock(f); e != nil {
			return e
		}
	}
	switch f.Op {
	case pg.SQLValueFunctionOp_SVFOP_CURRENT_TIMESTAMP, pg.SQLValueFunctionOp_SVFOP_LOCALTIMESTAMP:
		return &Now{Timestamp}
	}
	b.unsupported(f.Location, "this fact of the session")
	return nil
}

// clock binds the facts of time, in PostgreSQL's types.
func (b *binder) clock(f *pg.SQLValueFunction) Expr {
	t := map[pg.SQLValueFunctionOp]Type{
		pg.SQLValueFunctionOp_SVFOP_CURRENT_TIMESTAMP: sqltype.TimestampTZ, pg.SQLValueFunctionOp_SVFOP_CURRENT_TIMESTAMP_N: sqltype.TimestampTZ,
		pg.SQLValueFunctionOp_SVFOP_LOCALTIMESTAMP: Timestamp, pg.SQLValueFunctionOp_SVFOP_LOCALTIMESTAMP_N: Timestamp,
		pg.SQLValueFunctionOp_SVFOP_CURRENT_TIME: sqltype.TimeTZ, pg.SQLValueFunctionOp_SVFOP_CURRENT_TIME_N: sqltype.TimeTZ,
		pg.SQLValueFunctionOp_SVFOP_LOCALTIME: sqltype.Time, pg.SQLValueFunctionOp_SVFOP_LOCALTIME_N: sqltype.Time,
	}[f.Op]
	if t == nil {
		return nil
	}
	if f.Typmod >= 0 {
		return &Cast{&Now{t}, t, strconv.Itoa(int(f.Typmod))}
	}
	return &Now{t}
}

// currentUser is the name of the session's user, or the service as service:NAME; NULL for a session
// from the standpoint of a role or group alone.
func (b *binder) currentUser() Expr {
	if s := b.model.Subject(b.reader.Standpoint.Subject); s.Acts() {
		return b.textFact(userName(s))
	}
	return &Literal{T: Text}
}

// textFact is a fact that is a text. Where types are PostgreSQL's its place gives it its own:
// compared with a column of another type of texts, it is of that.
func (b *binder) textFact(s string) Expr {
	if b.exact {
		return &Literal{Value: s}
	}
	return &Literal{Text, s}
}

// userName is how conditions name a user, and with its kind a service, so that the two
// are never taken for each other.
func userName(s *access.Subject) string {
	if s.Kind == access.Service {
		return s.Ref()
	}
	return s.Name
}

// fact binds the facts that are written as calls, or returns nil for another
// name.
func (b *binder) fact(name string, f *pg.FuncCall, s *scope) Expr {
	switch name {
	case "in_group":
		return b.among(access.Group, f, s)
	case "has_role":
		return b.among(access.Role, f, s)
	case "now":
		if b.exact || len(f.Args) != 0 {
			return nil
		}
		return &Now{Timestamp}
	case "purpose":
		if len(f.Args) != 0 {
			b.fail(f.Location, Mismatch, "purpose takes nothing")
		}
		if p := b.reader.Standpoint.Purpose; p != "" {
			return b.textFact(p)
		}
		return &Literal{T: Text}
	case "team":
		b.fail(f.Location, Mismatch, "team() is a set of users and stands in a list: column IN (team())")
	case "attribute":
		b.fail(f.Location, Mismatch, "attribute('…') is a set of values and stands in a list: column IN (attribute('…'))")
	}
	return nil
}

// among binds in_group(x) and has_role(x): x is one of the names that count.
func (b *binder) among(kind access.SubjectKind, f *pg.FuncCall, s *scope) Expr {
	if len(f.Args) != 1 || f.Over != nil || f.AggFilter != nil || f.AggStar {
		b.fail(f.Location, Mismatch, "%s takes one name, or a column of names", texts(f.Funcname)[0])
	}
	x := b.convertLiteral(b.expr(f.Args[0], s), Text, f.Location)
	if x.Type() != Text && (!b.exact || !sqltype.Castable(x.Type(), Text, sqltype.Implicit)) {
		b.fail(f.Location, Mismatch, "%s takes a text, not %s", texts(f.Funcname)[0], x.Type())
	}
	in := &InList{X: x}
	var names []string
	for _, id := range b.reader.Subjects() {
		if subject := b.model.Subject(id); subject.Kind == kind {
			names = append(names, subject.Name)
		}
	}
	if l, ok := x.(*Literal); ok && l.Value != nil {
		return &Literal{Boolean, slices.Contains(names, l.Value.(string))}
	}
	slices.Sort(names)
	for _, name := range names {
		in.List = append(in.List, b.textFact(name))
	}
	if b.exact {
		return b.fitting(in, true, sqltype.Common([]Type{x.Type()}), f.Location)
	}
	return in
}

// setOf recognises a fact that is a set of values, in a list: attribute('name')
// and team().
func (b *binder) setOf(n *pg.Node) ([]string, bool) {
	f := n.GetFuncCall()
	if f == nil || len(f.Funcname) != 1 {
		return nil, false
	}
	switch f.Funcname[0].GetString_().GetSval() {
	case "attribute":
		return b.attributeValues(f), true
	case "team":
		return b.team(f), true
	}
	return nil, false
}

// team is the session's user and all who report to them, at any depth; nobody
// for a session from the standpoint of a role or group alone.
func (b *binder) team(f *pg.FuncCall) []string {
	if len(f.Args) != 0 || f.Over != nil {
		b.fail(f.Location, Mismatch, "team takes nothing: column IN (team())")
	}
	if !b.model.Subject(b.reader.Standpoint.Subject).Acts() {
		return nil
	}
	var names []string
	for _, id := range b.model.Team(b.reader.Standpoint.Subject) {
		names = append(names, userName(b.model.Subject(id)))
	}
	slices.Sort(names)
	return names
}

func (b *binder) attributeValues(f *pg.FuncCall) []string {
	if len(f.Args) != 1 || f.Args[0].GetAConst().GetSval() == nil || f.Over != nil {
		b.fail(f.Location, Mismatch, "attribute takes the name of one attribute: attribute('districts')")
	}
	name := f.Args[0].GetAConst().GetSval().GetSval()
	return b.model.Subject(b.reader.Standpoint.Subject).Attributes[name]
}

// valueList gives the values of a set the type they are compared with. A
// value that is none of that type cannot equal anything and is left out.
func (b *binder) valueList(values []string, t Type) []Expr {
	if t == Untyped {
		t = Text
	}
	var out []Expr
	for _, v := range values {
		if value, ok := parseLiteral(v, t); ok {
			out = append(out, &Literal{t, value})
		}
	}
	return out
}
