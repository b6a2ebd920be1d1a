package query

import (
	"slices"
	"strings"

	pg "github.com/pganalyze/pg_query_go/v6"

	"gneiss/core/access"
	"gneiss/core/sqltype"
)

// starts are the routines that give the moment at which the query started, by the type that
// they give. Gneiss says which moment that is.
var starts = map[string]bool{"now": true, "transaction_timestamp": true, "statement_timestamp": true}

// routine binds a call of one of the source's routines.
func (b *binder) routine(names []string, f *pg.FuncCall, s *scope, w windows) Expr {
	name, at := names[len(names)-1], f.Location
	routines := sqltype.Routines(name)
	var own map[*sqltype.Routine]*access.Object
	if len(names) > 1 && names[0] != "pg_catalog" {
		routines, own = b.ownRoutines(names, at)
	}
	inner := w
	if f.Over == nil && slices.ContainsFunc(routines, func(r *sqltype.Routine) bool { return r.Kind == sqltype.Aggregate }) {
		inner = nil // no window function inside an aggregate
	}
	var named []string
	nodes := slices.Clone(f.Args)
	for i, n := range nodes {
		if a := n.GetNamedArgExpr(); a != nil {
			named, nodes[i] = append(named, a.Name), a.Arg
		} else if named != nil {
			b.fail(at, Syntax, "an operand without a name cannot follow one with a name")
		}
	}
	args := b.exprs(nodes, s, inner)
	if starts[name] && len(args) == 0 && own == nil {
		return &Now{sqltype.TimestampTZ}
	}
	var order []Order
	for _, n := range f.AggOrder {
		o := b.direction(n.GetSortBy())
		o.Expr = b.convertText(b.expr(n.GetSortBy().Node, s), locate(n.GetSortBy().Node))
		b.plain(o.Expr, at, "an aggregate function")
		order = append(order, o)
	}
	given := make([]Type, len(args))
	for i, a := range args {
		given[i] = a.Type()
	}
	if f.AggWithinGroup {
		for _, o := range order {
			given = append(given, o.Expr.Type())
		}
	}
	m, err := sqltype.CallOf(routines, name, given, f.FuncVariadic, named...)
	if err != nil {
		if own != nil {
			b.unresolved(err, at)
		}
		if to := sqltype.Parse(name); to != nil && len(args) == 1 && order == nil {
			return b.castTo(args[0], to, "", at) // a type's name as a function
		}
		b.noRoutine(name, err, at)
	}
	r := m.Routine
	if o := own[r]; o != nil {
		b.callsOwn(o)
	}
	c := &Call{Fn: &Function{Name: name, Kind: kindOf(r), Routine: r}, Args: args, Star: f.AggStar, Distinct: f.AggDistinct, Order: order,
		Within: f.AggWithinGroup, Named: named, Spread: f.FuncVariadic, T: m.Result}
	for i := range args {
		to := m.Args[i]
		if to.Kind == sqltype.Pseudo {
			to = Text
		}
		args[i] = b.convertLiteral(args[i], to, at)
	}
	b.checkUse(c, f, w)
	if c.Fn.Kind == AggregateFunction && f.Over == nil {
		for i, a := range args {
			b.plain(a, locate(f.Args[i]), "an aggregate function")
		}
		b.ownAggregate(args, s, at)
	}
	if f.AggFilter != nil {
		c.Filter = b.condition(f.AggFilter, s, "FILTER")
		b.plain(c.Filter, at, "FILTER")
	}
	if f.Over != nil {
		c.Over = b.window(f.Over, s, w)
	}
	return c
}

// ownRoutines finds the routines of the source's own that a name with its schema can mean. Of
// those behind a shut door there are none.
func (b *binder) ownRoutines(names []string, at int32) ([]*sqltype.Routine, map[*sqltype.Routine]*access.Object) {
	m := b.model
	var sources []*access.Object
	switch {
	case len(names) == 3:
		if o := m.Child(m.Object(access.PlatformID), names[0]); o != nil {
			sources = append(sources, o)
		}
	case len(names) == 2 && b.source != 0:
		sources = append(sources, m.Object(b.source))
	case len(names) == 2:
		for _, id := range m.Object(access.PlatformID).Children {
			sources = append(sources, m.Object(id))
		}
	}
	var list []*sqltype.Routine
	found := map[*sqltype.Routine]*access.Object{}
	for _, source := range sources {
		schema := m.Child(source, names[len(names)-2])
		if schema == nil || schema.Kind != access.Schema || !speaksExactly(source) {
			continue
		}
		for _, id := range schema.Children {
			o := m.Object(id)
			if o.Kind != access.Routine || o.Missing || !strings.HasPrefix(o.Name, names[len(names)-1]+"(") || !b.own && len(b.rights.Resolve(id).Shut) > 0 {
				continue
			}
			signature, err := sqltype.ReadSignature(o.Declared)
			if err != nil || signature.Name != names[len(names)-1] {
				continue
			}
			if r := signature.Routine(b.types.named); r != nil {
				list, found[r] = append(list, r), o
			}
		}
	}
	if len(list) == 0 {
		line, col := place(b.text, at)
		name := access.JoinPath(names...)
		panic(&Error{Code: Unknown, Text: "function " + name + " does not exist or is not yours to call", Line: line, Col: col, Name: name, SQLState: "42883"})
	}
	return list, found
}

// callsOwn notes that a routine of the source's own is called, and asks whether the session
// may. It reads of the database what it likes, whatever the policies are.
func (b *binder) callsOwn(o *access.Object) {
	source := b.model.Object(b.model.Object(o.Parent).Parent)
	if b.source != 0 && b.source != source.ID {
		b.fail(-1, Unsupported, "one query reads one source; %s is of %s, the others are of %s", b.model.Path(o.ID), source.Name, b.model.Object(b.source).Name)
	}
	b.source = source.ID
	if !slices.Contains(b.routines, o.ID) {
		b.routines = append(b.routines, o.ID)
	}
	if b.own {
		// A policy is worked out with Gneiss's own authority, which its writer does not have.
		b.unsupported(-1, "a routine of the database's own in a policy")
	}
	if !b.rights.Resolve(o.ID).Allowed.Has(access.Execute) {
		b.need(access.Execute, o.ID)
		return
	}
	if b.lends != 0 && !b.reader.Counts(b.lends) &&
		b.model.Entitling(b.lends, access.Set(access.Execute), access.Target{Object: o.ID}, b.reader.At) == nil {
		b.kept = append(b.kept, o.ID)
	}
}

// convertText gives a literal without a type the type of texts.
func (b *binder) convertText(e Expr, at int32) Expr { return b.convertLiteral(e, Text, at) }

func kindOf(r *sqltype.Routine) functionKind {
	switch r.Kind {
	case sqltype.Aggregate:
		return AggregateFunction
	case sqltype.Window:
		return windowFunction
	}
	return ScalarFunction
}

// checkUse refuses what can stand in a call of another kind of routine alone.
func (b *binder) checkUse(c *Call, f *pg.FuncCall, w windows) {
	at, name, r := f.Location, c.Fn.Name, c.Fn.Routine
	switch {
	case c.Fn.Kind != AggregateFunction && (f.AggStar || f.AggDistinct || f.AggFilter != nil || len(f.AggOrder) > 0):
		b.failAs(at, Mismatch, "42809", "*, DISTINCT, ORDER BY and FILTER belong to aggregate functions; %s is none", name)
	case f.AggStar && (name != "count" || len(f.Args) > 0):
		b.failAs(at, Mismatch, "42809", "only count takes *")
	case name == "count" && len(f.Args) == 0 && !f.AggStar:
		b.failAs(at, Mismatch, "42809", "count takes * or a value")
	case c.Fn.Kind == windowFunction && f.Over == nil:
		b.failAs(at, Mismatch, "42809", "%s needs OVER (…)", name)
	case c.Fn.Kind == ScalarFunction && f.Over != nil:
		b.failAs(at, Mismatch, "42809", "%s is no window function", name)
	case f.Over != nil && w == nil:
		b.failAs(at, Grouping, "42P20", "a window function can stand in the select list and in ORDER BY only")
	case f.Over != nil && (f.AggDistinct || len(f.AggOrder) > 0):
		b.unsupported(at, "DISTINCT or ORDER BY in a window function")
	case (r.Ordered == 'o' || r.Ordered == 'h') && !f.AggWithinGroup && f.Over == nil:
		b.failAs(at, Mismatch, "42809", "%s needs WITHIN GROUP (ORDER BY …)", name)
	case f.AggWithinGroup && r.Ordered != 'o' && r.Ordered != 'h':
		b.failAs(at, Mismatch, "42809", "%s takes no WITHIN GROUP", name)
	case f.AggWithinGroup && r.Ordered == 'o' && len(f.Args) != r.Direct:
		b.fail(at, Mismatch, "%s takes %d operands before WITHIN GROUP", name, r.Direct)
	}
}

// noRoutine refuses a call of what is not there, or is never called.
func (b *binder) noRoutine(name string, err error, at int32) {
	if why := sqltype.Never(name); why != "" {
		b.fail(at, Unsupported, "the function %s cannot be called here: %s", name, why)
	}
	if len(sqltype.Routines(name)) > 0 {
		b.unresolved(err, at)
	}
	line, col := place(b.text, at)
	near := append(slices.Sorted(sqltype.Names()), facts...)
	panic(&Error{Code: Unknown, Text: "there is no function " + name, Line: line, Col: col, Name: name, Near: near, SQLState: "42883"})
}

// fields are the columns of the rows that a call gives.
func (c *Call) fields() []sqltype.Field {
	r := c.Fn.Routine
	out := slices.Clone(r.Out)
	for i, f := range out {
		// A polymorphic column has the type of the operand that decides it.
		if f.Type.Kind == sqltype.Pseudo && f.Type != sqltype.Record && len(c.Args) > 0 && c.Args[0].Type() != nil {
			t := c.Args[0].Type()
			if f.Type.Internal == "anyelement" && t.Elem != nil {
				t = t.Elem
			}
			out[i].Type = t
		}
	}
	return out
}

// eachUnnest parts unnest of several arrays into one of each, which is what it means in FROM.
func eachUnnest(functions []*pg.Node) []*pg.Node {
	var out []*pg.Node
	for _, n := range functions {
		items := n.GetList().GetItems()
		f := items[0].GetFuncCall()
		if f == nil || len(f.Args) < 2 || texts(f.Funcname)[len(f.Funcname)-1] != "unnest" {
			out = append(out, n)
			continue
		}
		for _, a := range f.Args {
			one := &pg.FuncCall{Funcname: f.Funcname, Args: []*pg.Node{a}, Location: f.Location}
			call := &pg.Node{Node: &pg.Node_FuncCall{FuncCall: one}}
			out = append(out, &pg.Node{Node: &pg.Node_List{List: &pg.List{Items: []*pg.Node{call}}}})
		}
	}
	return out
}

// rangeFunction binds functions in FROM.
func (b *binder) rangeFunction(f *pg.RangeFunction, outer *scope) *Relation {
	r := &Relation{Alias: "function", Calls: &Calls{Ordinal: f.Ordinality}}
	for _, n := range eachUnnest(f.Functions) {
		items := n.GetList().GetItems()
		call, ok := b.expr(items[0], outer).(*Call)
		if !ok || call.Fn.Routine == nil || call.Fn.Kind != ScalarFunction {
			b.unsupported(locate(items[0]), "what is no function, in FROM")
		}
		b.plain(call, locate(items[0]), "FROM")
		r.Alias = call.Fn.Name
		r.Calls.List = append(r.Calls.List, call)
		fields := call.fields()
		defs := f.Coldeflist
		if len(items) > 1 && items[1].GetList() != nil {
			defs = items[1].GetList().GetItems()
		}
		switch {
		case len(defs) > 0:
			for _, d := range defs {
				def := d.GetColumnDef()
				t, modifier := b.namedType(def.TypeName)
				c := Column{Name: def.Colname, Type: t}
				if modifier != "" {
					c.Declared = sqltype.WithModifier(t, modifier)
				}
				r.Calls.Fields, r.Columns = append(r.Calls.Fields, c), append(r.Columns, c)
			}
		case len(fields) > 1:
			for _, field := range fields {
				r.Columns = append(r.Columns, Column{Name: field.Name, Type: field.Type})
			}
		case call.T == sqltype.Record:
			b.failAs(locate(items[0]), Mismatch, "42601", "%s gives rows of any kind: write their columns behind it, AS t (a integer, b text)", call.Fn.Name)
		default:
			name := call.Fn.Name
			if len(fields) == 1 && fields[0].Name != "" {
				name = fields[0].Name
			} else if f.Alias != nil && len(f.Functions) == 1 && len(eachUnnest(f.Functions)) == 1 {
				name = f.Alias.Aliasname
			}
			r.Columns = append(r.Columns, Column{Name: name, Type: call.T})
		}
	}
	if len(r.Calls.Fields) > 0 && len(r.Calls.List) > 1 {
		b.unsupported(-1, "ROWS FROM with columns that are written behind a function")
	}
	if f.Ordinality {
		r.Columns = append(r.Columns, Column{Name: "ordinality", Type: Bigint, NotNull: true})
	}
	b.alias(r, f.Alias)
	return r
}
