package query

import (
	"slices"
	"strings"
	"unicode"

	pg "github.com/pganalyze/pg_query_go/v6"

	"gneiss/core/sqltype"
)

type functionKind uint8

const (
	ScalarFunction functionKind = iota
	AggregateFunction
	windowFunction
)

// A Function is one that queries may call. What is not listed is refused: none
// of these reads files, sleeps, changes settings, or looks at the database's
// own catalog.
type Function struct {
	Name   string
	Kind   functionKind
	result func(args []Type) (Type, bool)
	Own    bool   // it is registered on every connection, as gneiss_ and its name
	takes  string // the operands, for messages
	// Routine is one of the source's, in the language that is the source's own.
	Routine *sqltype.Routine
}

// signature makes a result function for fixed operand types, of which the last
// optional ones may be left out.
func signature(result Type, optional int, params ...Type) func([]Type) (Type, bool) {
	return func(args []Type) (Type, bool) {
		if len(args) > len(params) || len(args) < len(params)-optional {
			return nil, false
		}
		for i, a := range args {
			fits := a == params[i] || a == Untyped || params[i] == Double && a == Bigint || params[i] == Timestamp && a == Date
			if !fits {
				return nil, false
			}
		}
		return result, true
	}
}

// alike is for functions of operands of one common type, which is the result's.
func alike(least, most int) func([]Type) (Type, bool) {
	return func(args []Type) (Type, bool) {
		t := Untyped
		for _, a := range args {
			var ok bool
			if t, ok = unifyShared(t, a); !ok {
				return nil, false
			}
		}
		return t, len(args) >= least && len(args) <= most
	}
}

// numberLike is for functions of one number that give a number of that type.
func numberLike(args []Type) (Type, bool) {
	return args[0], len(args) == 1 && args[0].Number()
}

func anyOne(result Type) func([]Type) (Type, bool) {
	return func(args []Type) (Type, bool) { return result, len(args) == 1 }
}

func sameAsOne(args []Type) (Type, bool) { return args[0], len(args) == 1 }

func dated(result Type) func([]Type) (Type, bool) {
	return func(args []Type) (Type, bool) {
		if len(args) != 2 || args[1] != Date && args[1] != Timestamp {
			return nil, false
		}
		if result == Untyped {
			return args[1], true
		}
		return result, true
	}
}

// Functions are all that may be called, by name.
var Functions = listed()

func listed() map[string]*Function {
	functions := map[string]*Function{}
	for _, f := range []Function{
		{Name: "lower", result: signature(Text, 0, Text), takes: "a text"},
		{Name: "upper", result: signature(Text, 0, Text), takes: "a text"},
		{Name: "length", result: signature(Bigint, 0, Text), takes: "a text"},
		{Name: "substring", result: signature(Text, 1, Text, Bigint, Bigint), takes: "a text, a first position and a length"},
		{Name: "left", result: signature(Text, 0, Text, Bigint), takes: "a text and a number of characters"},
		{Name: "right", result: signature(Text, 0, Text, Bigint), takes: "a text and a number of characters"},
		{Name: "btrim", result: signature(Text, 1, Text, Text), takes: "a text, and the characters to take off"},
		{Name: "ltrim", result: signature(Text, 1, Text, Text), takes: "a text, and the characters to take off"},
		{Name: "rtrim", result: signature(Text, 1, Text, Text), takes: "a text, and the characters to take off"},
		{Name: "replace", result: signature(Text, 0, Text, Text, Text), takes: "a text, what to replace and with what"},
		{Name: "strpos", result: signature(Bigint, 0, Text, Text), takes: "a text and what to find"},
		{Name: "position", result: signature(Bigint, 0, Text, Text), takes: "a text and what to find"},
		{Name: "concat", result: signature(Text, 7, Text, Text, Text, Text, Text, Text, Text, Text), takes: "up to eight texts"},
		{Name: "coalesce", result: alike(1, 100), takes: "values of one type"},
		{Name: "nullif", result: alike(2, 2), takes: "two values of one type"},
		{Name: "greatest", result: alike(1, 4), takes: "up to four values of one type"},
		{Name: "least", result: alike(1, 4), takes: "up to four values of one type"},
		{Name: "abs", result: numberLike, takes: "a number"},
		{Name: "floor", result: numberLike, takes: "a number"},
		{Name: "ceil", result: numberLike, takes: "a number"},
		{Name: "round", result: func(args []Type) (Type, bool) {
			ok := len(args) >= 1 && len(args) <= 2 && args[0].Number() && (len(args) == 1 || args[1] == Bigint)
			return args[0], ok
		}, takes: "a number, and how many decimals"},
		{Name: "trunc", result: func(args []Type) (Type, bool) {
			ok := len(args) >= 1 && len(args) <= 2 && args[0].Number() && (len(args) == 1 || args[1] == Bigint)
			return args[0], ok
		}, Own: true, takes: "a number, and how many decimals"},
		{Name: "sign", result: signature(Double, 0, Double), Own: true, takes: "a number"},
		{Name: "sqrt", result: signature(Double, 0, Double), Own: true, takes: "a number"},
		{Name: "exp", result: signature(Double, 0, Double), Own: true, takes: "a number"},
		{Name: "ln", result: signature(Double, 0, Double), Own: true, takes: "a number"},
		{Name: "log", result: signature(Double, 0, Double), Own: true, takes: "a number"},
		{Name: "power", result: signature(Double, 0, Double, Double), Own: true, takes: "a number and an exponent"},
		{Name: "lpad", result: signature(Text, 1, Text, Bigint, Text), Own: true, takes: "a text, a length, and what to fill with"},
		{Name: "rpad", result: signature(Text, 1, Text, Bigint, Text), Own: true, takes: "a text, a length, and what to fill with"},
		{Name: "reverse", result: signature(Text, 0, Text), Own: true, takes: "a text"},
		{Name: "initcap", result: signature(Text, 0, Text), Own: true, takes: "a text"},
		{Name: "starts_with", result: signature(Boolean, 0, Text, Text), Own: true, takes: "a text and a beginning"},
		{Name: "split_part", result: signature(Text, 0, Text, Text, Bigint), Own: true, takes: "a text, what parts it, and which part"},
		{Name: "concat_ws", result: signature(Text, 7, Text, Text, Text, Text, Text, Text, Text, Text, Text), Own: true,
			takes: "what to put between, and up to eight texts"},
		{Name: "to_char", result: func(args []Type) (Type, bool) {
			return Text, len(args) == 2 && (args[0] == Date || args[0] == Timestamp) && (args[1] == Text || args[1] == Untyped)
		}, Own: true, takes: "a date or timestamp, and its form: 'YYYY-MM', 'DD.MM.YYYY', 'HH24:MI'"},
		{Name: "make_date", result: signature(Date, 0, Bigint, Bigint, Bigint), Own: true, takes: "a year, a month and a day"},
		{Name: "mod", result: signature(Bigint, 0, Bigint, Bigint), takes: "two whole numbers"},
		{Name: "extract", result: dated(Bigint), takes: "year, quarter, month, day or dow, from a date or timestamp"},
		{Name: "date_trunc", result: dated(Untyped), takes: "'year', 'quarter', 'month' or 'day', and a date or timestamp"},

		{Name: "count", Kind: AggregateFunction, result: anyOne(Bigint), takes: "* or one value"},
		{Name: "sum", Kind: AggregateFunction, result: numberLike, takes: "a number"},
		{Name: "avg", Kind: AggregateFunction, result: signature(Double, 0, Double), takes: "a number"},
		{Name: "min", Kind: AggregateFunction, result: sameAsOne, takes: "one value"},
		{Name: "max", Kind: AggregateFunction, result: sameAsOne, takes: "one value"},
		{Name: "string_agg", Kind: AggregateFunction, result: signature(Text, 0, Text, Text), takes: "a text, and what to put between"},
		{Name: "stddev_samp", Kind: AggregateFunction, result: signature(Double, 0, Double), Own: true, takes: "a number"},
		{Name: "stddev_pop", Kind: AggregateFunction, result: signature(Double, 0, Double), Own: true, takes: "a number"},
		{Name: "var_samp", Kind: AggregateFunction, result: signature(Double, 0, Double), Own: true, takes: "a number"},
		{Name: "var_pop", Kind: AggregateFunction, result: signature(Double, 0, Double), Own: true, takes: "a number"},
		{Name: "bool_and", Kind: AggregateFunction, result: signature(Boolean, 0, Boolean), takes: "a truth value"},
		{Name: "bool_or", Kind: AggregateFunction, result: signature(Boolean, 0, Boolean), takes: "a truth value"},

		{Name: "row_number", Kind: windowFunction, result: signature(Bigint, 0), takes: "nothing"},
		{Name: "rank", Kind: windowFunction, result: signature(Bigint, 0), takes: "nothing"},
		{Name: "dense_rank", Kind: windowFunction, result: signature(Bigint, 0), takes: "nothing"},
		{Name: "percent_rank", Kind: windowFunction, result: signature(Double, 0), takes: "nothing"},
		{Name: "cume_dist", Kind: windowFunction, result: signature(Double, 0), takes: "nothing"},
		{Name: "lag", Kind: windowFunction, result: lagResult, takes: "a value, how many rows back, and what to give without such a row"},
		{Name: "lead", Kind: windowFunction, result: lagResult, takes: "a value, how many rows ahead, and what to give without such a row"},
		{Name: "ntile", Kind: windowFunction, result: signature(Bigint, 0, Bigint), takes: "into how many parts"},
		{Name: "nth_value", Kind: windowFunction, result: func(args []Type) (Type, bool) {
			return args[0], len(args) == 2 && args[1] == Bigint
		}, takes: "a value, and which row's"},
		{Name: "first_value", Kind: windowFunction, result: sameAsOne, takes: "one value"},
		{Name: "last_value", Kind: windowFunction, result: sameAsOne, takes: "one value"},
	} {
		functions[f.Name] = &f
	}
	for alias, name := range map[string]string{"char_length": "length", "character_length": "length",
		"substr": "substring", "ceiling": "ceil", "every": "bool_and",
		"pow": "power", "log10": "log", "date_part": "extract", "stddev": "stddev_samp", "variance": "var_samp"} {
		functions[alias] = functions[name]
	}
	return functions
}

func lagResult(args []Type) (Type, bool) {
	if len(args) < 1 || len(args) > 3 || len(args) > 1 && args[1] != Bigint {
		return nil, false
	}
	if len(args) == 3 {
		return unifyShared(args[0], args[2])
	}
	return args[0], true
}

// facts are the functions that stand for what the session is.
var facts = []string{"attribute", "in_group", "has_role", "purpose", "team"}

// FunctionNames lists what can be called, for completion.
func FunctionNames() []string {
	names := slices.Clone(facts)
	for name := range Functions {
		names = append(names, name)
	}
	slices.Sort(names)
	return names
}

// function binds a call as it is written.
func (b *binder) function(f *pg.FuncCall, s *scope, w windows) Expr {
	names := texts(f.Funcname)
	name := names[len(names)-1]
	// The grammar itself puts pg_catalog before the functions of ISO SQL's own
	// syntax, such as EXTRACT; nobody else may name a schema.
	if !b.exact && b.source == 0 && len(names) > 1 && names[0] != "pg_catalog" && b.anyExact() {
		panic(otherLanguage{true}) // it can only be a routine of such a source
	}
	if b.exact && len(names) > 1 {
		return b.routine(names, f, s, w)
	}
	if len(names) > 1 && (names[0] != "pg_catalog" || !b.exact && f.Funcformat != pg.CoercionForm_COERCE_SQL_SYNTAX) {
		b.unsupported(f.Location, "a function of a schema")
	}
	if e := b.fact(name, f, s); e != nil {
		return e
	}
	if b.exact {
		return b.routine(names, f, s, w)
	}
	fn, ok := Functions[name]
	if !ok {
		line, col := place(b.text, f.Location)
		panic(&Error{Code: Unknown, Text: "there is no function " + name, Line: line, Col: col, Name: name, Near: FunctionNames(), SQLState: "42883"})
	}
	switch {
	case f.FuncVariadic || f.AggWithinGroup || len(f.AggOrder) > 0 && fn.Name != "string_agg":
		b.unsupported(f.Location, "VARIADIC, WITHIN GROUP, and ORDER BY in a call of anything but string_agg")
	case fn.Kind == AggregateFunction && (fn.Own || fn.Name == "string_agg") && f.Over != nil:
		b.unsupported(f.Location, name+" as a window function")
	case fn.Name == "string_agg" && f.AggDistinct:
		b.unsupported(f.Location, "DISTINCT in string_agg")
	case fn.Kind != AggregateFunction && (f.AggStar || f.AggDistinct || f.AggFilter != nil):
		b.fail(f.Location, Mismatch, "*, DISTINCT and FILTER belong to aggregate functions; %s is none", name)
	case f.AggStar && fn.Name != "count":
		b.fail(f.Location, Mismatch, "only count takes *")
	case fn.Kind == windowFunction && f.Over == nil:
		b.fail(f.Location, Mismatch, "%s needs OVER (…)", name)
	case fn.Kind == ScalarFunction && f.Over != nil:
		b.fail(f.Location, Mismatch, "%s is no window function", name)
	case f.Over != nil && w == nil:
		b.fail(f.Location, Grouping, "a window function can stand in the select list and in ORDER BY only")
	case f.Over != nil && f.AggDistinct:
		b.unsupported(f.Location, "DISTINCT in a window function")
	}
	if f.AggStar {
		return b.finishCall(&Call{Fn: fn, Star: true, T: Bigint}, f, s, w)
	}
	inner := w
	if fn.Kind == AggregateFunction && f.Over == nil {
		inner = nil // no window function inside an aggregate
	}
	before := b.cost
	args := b.exprs(f.Args, s, inner)
	b.copies(max(written[fn.Name], 1), before)
	if fn.Kind == AggregateFunction && f.Over == nil {
		for i, a := range args {
			b.plain(a, locate(f.Args[i]), "an aggregate function")
		}
		b.ownAggregate(args, s, f.Location)
	}
	call, ok := b.call(fn, args, f.Location).(*Call)
	if !ok {
		b.unsupported(f.Location, name)
	}
	call.Distinct = f.AggDistinct
	return b.finishCall(call, f, s, w)
}

// ownAggregate refuses an aggregate over columns of the outer query alone: by
// ISO SQL it would be the outer query's, which nobody expects.
func (b *binder) ownAggregate(args []Expr, s *scope, at int32) {
	outer := false
	for _, a := range args {
		own := AnyExpr(a, func(e Expr) bool {
			c, ok := e.(*ColumnRef)
			here := ok && slices.ContainsFunc(s.columns, func(n named) bool {
				return AnyExpr(n.expr, func(x Expr) bool { r, ok := x.(*ColumnRef); return ok && r.Rel == c.Rel })
			})
			outer = outer || ok && !here
			return here
		})
		if own {
			return
		}
	}
	if outer {
		b.unsupported(at, "an aggregate of columns of the outer query alone")
	}
}

func (b *binder) finishCall(c *Call, f *pg.FuncCall, s *scope, w windows) Expr {
	if f.AggFilter != nil {
		c.Filter = b.condition(f.AggFilter, s, "FILTER")
		b.plain(c.Filter, f.Location, "FILTER")
	}
	for _, n := range f.AggOrder {
		o := b.direction(n.GetSortBy())
		o.Expr = b.expr(n.GetSortBy().Node, s)
		b.plain(o.Expr, f.Location, "an aggregate function")
		c.Order = append(c.Order, o)
	}
	if f.Over != nil {
		c.Over = b.window(f.Over, s, w)
	}
	return c
}

// call binds a function to its operands.
func (b *binder) call(fn *Function, args []Expr, at int32) Expr {
	kinds := make([]Type, len(args))
	for i, a := range args {
		kinds[i] = a.Type()
	}
	if len(args) == 0 && fn.Kind != windowFunction {
		b.fail(at, Mismatch, "%s takes %s", fn.Name, fn.takes)
	}
	t, ok := fn.result(kinds)
	if !ok {
		b.fail(at, Mismatch, "%s takes %s", fn.Name, fn.takes)
	}
	if t == Untyped && (fn.Name == "coalesce" || fn.Name == "nullif" || fn.Name == "greatest" || fn.Name == "least") {
		t = Text
	}
	switch fn.Name {
	case "coalesce", "nullif", "greatest", "least":
		for i := range args {
			args[i] = b.convert(args[i], t, at)
		}
	case "extract":
		b.checkField(args[0], fields, at)
	case "date_trunc":
		b.checkField(args[0], spans, at)
	case "substring", "left", "right":
		b.checkPositions(fn.Name, args[1:], at)
	case "ntile":
		b.checkPositions("substring", args, at) // from 1
	case "nth_value":
		b.checkPositions("substring", args[1:], at)
	case "lpad", "rpad":
		args[0] = b.convertLiteral(args[0], Text, at)
		b.checkLength(args[1], at)
		if len(args) == 3 {
			args[2] = b.convertLiteral(args[2], Text, at)
		}
	case "split_part":
		b.checkPositions("substring", args[2:], at)
		args[0], args[1] = b.convertLiteral(args[0], Text, at), b.convertLiteral(args[1], Text, at)
	case "to_char":
		args[1] = b.convertLiteral(args[1], Text, at)
		b.checkForm(args[1], at)
	case "round", "trunc":
		if len(args) == 2 {
			b.checkPositions(fn.Name, []Expr{&Literal{Bigint, int64(1)}, args[1]}, at)
		}
	case "lag", "lead":
		if len(args) > 1 {
			b.checkPositions(fn.Name, []Expr{&Literal{Bigint, int64(1)}, args[1]}, at)
		}
	default:
		for i := range args {
			args[i] = b.convertLiteral(args[i], Text, at)
		}
	}
	return &Call{Fn: fn, Args: args, T: t}
}

// checkLength wants a fixed length that cannot make texts too long.
func (b *binder) checkLength(e Expr, at int32) {
	l, ok := e.(*Literal)
	if n, isInt := ValueOf(l).(int64); !ok || !isInt || n < 0 || n > 1000 {
		b.fail(at, Mismatch, "the length is a fixed whole number from 0 to 1000")
	}
}

// forms are the parts of to_char's second operand; all else in it but letters
// stands for itself.
var forms = []string{"YYYY", "MM", "DD", "HH24", "MI", "SS", "Q"}

func (b *binder) checkForm(e Expr, at int32) {
	l, ok := e.(*Literal)
	form, isText := ValueOf(l).(string)
	rest := form
	for _, part := range forms {
		rest = strings.ReplaceAll(rest, part, "")
	}
	if !ok || !isText || strings.ContainsAny(rest, `"\`) || strings.ContainsFunc(rest, unicode.IsLetter) {
		b.fail(at, Mismatch, "a form is a fixed text of %s and signs, such as 'YYYY-MM'", strings.Join(forms, ", "))
	}
}

// fields are the parts of a date that can be asked for; to date_trunc, those
// that are spans of time.
var (
	fields = []string{"year", "quarter", "month", "day", "dow", "isodow", "doy", "week", "hour", "minute", "second"}
	spans  = []string{"year", "quarter", "month", "week", "day", "hour", "minute"}
)

func (b *binder) checkField(e Expr, known []string, at int32) {
	l, ok := e.(*Literal)
	if name, isText := ValueOf(l).(string); !ok || !isText || !slices.Contains(known, name) {
		b.fail(at, Mismatch, "a part of a date is one of %s there", strings.Join(known, ", "))
	}
}

// checkPositions wants fixed positions in a text: the databases disagree on
// what negative ones mean.
func (b *binder) checkPositions(name string, args []Expr, at int32) {
	for i, a := range args {
		least := int64(0)
		if i == 0 && name == "substring" {
			least = 1
		}
		l, ok := a.(*Literal)
		if n, isInt := ValueOf(l).(int64); !ok || !isInt || n < least || n > 1<<30 {
			b.fail(at, Mismatch, "%s takes fixed whole numbers from %d there", name, least)
		}
	}
}
