package query

import (
	"context"
	"fmt"
	"math/big"
	"regexp"
	"strings"

	pg "github.com/pganalyze/pg_query_go/v6"

	"gneiss/core/access"
	"gneiss/core/policy"
)

// A binder takes the syntax of one text to a bound query. Its methods stop with
// a panic of an *Error, which entry points turn into a result: a deep walk
// reads better without an error at each step.
type binder struct {
	ctx      context.Context // of who waits for it; nil: nobody
	text     string
	reader   *access.Rights // whose policies and facts hold
	rights   *access.Rights // whose privileges are asked: of a view's text, perhaps its owner's
	model    *access.Model
	policies *policy.Set
	params   []any
	// paramTypes are the types that places give to deferred parameters.
	paramTypes []Type
	names      Names

	// own is set for the rules of policies: they are read with Gneiss's own
	// authority, ungoverned, and short names start at home.
	own  bool
	home *access.Object // a table

	// exact is set where the source has PostgreSQL's types and routines, and the text means
	// what it means there. Else it is in the language that all sources share.
	exact bool
	types owned
	open  bool // literals of the query that is bound next may be left without a type

	source access.ObjectID   // the one source of all tables
	tables []*Relation       // base tables, in the order of the text
	behind []access.ObjectID // tables that policies read
	// routines are those of the source's own that are called.
	routines []access.ObjectID
	needs    []access.Need
	depth    int
	groups   int    // grouping sets bound so far
	cost     int    // what has been bound comes to; see mostCost
	withs    []*CTE // WITH queries in scope, innermost last
	views    []*Relation
	within   []access.ObjectID // the views that this text is of, outermost first
	lends    access.SubjectID  // the owner of the view that lends its rights; zero: nobody
	kept     []access.ObjectID // what it may read and not pass on
	tried    bool              // the text is of a view that is not there yet: nothing of it is kept

	fractions map[*Literal]*big.Rat // exact values of numbers that are written, see decimal.go

	// operators keeps what [binder.ownOperators] has found.
	operators map[string]ownOperators
}

const (
	mostDepth    = 100     // nested queries and expressions
	MostText     = 100_000 // bytes
	mostComments = 100
)

// parseOne reads one statement, of any kind.
func parseOne(text string) (*pg.ParseResult, error) {
	tree, err := parseAll(text)
	if err == nil && len(tree.Stmts) != 1 {
		return nil, &Error{Code: Unsupported, Text: fmt.Sprintf("one statement at a time; these are %d", len(tree.Stmts))}
	}
	return tree, err
}

// parseAll reads all statements of a text.
func parseAll(text string) (*pg.ParseResult, error) {
	if len(text) > MostText {
		return nil, &Error{Code: Unsupported, Text: fmt.Sprintf("the text is longer than %d bytes", MostText)}
	}
	if strings.IndexByte(text, 0) >= 0 {
		return nil, &Error{Code: Syntax, Text: "the text has a NUL character"}
	}
	if n := strings.Count(text, "/*"); n > mostComments {
		// The grammar's scanner takes time in the square of how deep they nest.
		return nil, &Error{Code: Unsupported, Text: fmt.Sprintf("the text opens more than %d comments", mostComments)}
	}
	if err := checkDepth(text); err != nil {
		return nil, err
	}
	tree, err := pg.Parse(text)
	if err != nil {
		return nil, syntaxError(text, err)
	}
	return tree, nil
}

// parse reads one SELECT statement.
func parse(text string) (*pg.SelectStmt, error) {
	tree, err := parseOne(text)
	if err != nil {
		return nil, err
	}
	s := tree.Stmts[0].Stmt.GetSelectStmt()
	if s == nil {
		line, col := place(text, tree.Stmts[0].StmtLocation)
		return nil, &Error{
			Code: Unsupported,
			Text: "only SELECT can be run here; " + statementName(tree.Stmts[0], text) + " is not supported",
			Line: line,
			Col:  col,
		}
	}
	return s, nil
}

var firstWord = regexp.MustCompile(`^\s*([A-Za-z]+)`)

// statementName is the word that a statement begins with; behind a comment, what the parser calls it.
func statementName(s *pg.RawStmt, text string) string {
	if found := firstWord.FindStringSubmatch(text[s.StmtLocation:]); found != nil {
		return strings.ToUpper(found[1])
	}
	return nodeName(s.Stmt)
}

// nodeName is what the parser calls a node.
func nodeName(n *pg.Node) string {
	return strings.ToUpper(strings.TrimSuffix(strings.TrimPrefix(fmt.Sprintf("%T", n.GetNode()), "*pg_query.Node_"), "Stmt"))
}

func (b *binder) fail(at int32, code, format string, args ...any) {
	b.failAs(at, code, "", format, args...)
}

// failAs is fail for what a PostgreSQL server has an SQLSTATE of its own for.
func (b *binder) failAs(at int32, code, sqlState, format string, args ...any) {
	line, col := place(b.text, at)
	panic(&Error{Code: code, Text: fmt.Sprintf(format, args...), Line: line, Col: col, SQLState: sqlState})
}

// unsupported refuses a node that the language does not have.
func (b *binder) unsupported(at int32, what string) {
	b.fail(at, Unsupported, "%s is not supported", what)
}

// deeper bounds the recursion; the caller calls the result when it is done.
func (b *binder) deeper(at int32) func() {
	if b.depth++; b.depth > mostDepth {
		b.failAs(at, Unsupported, tooComplex, "the query is nested more than %d deep", mostDepth)
	}
	return func() { b.depth-- }
}

// caught turns a binder's panic into its error.
func caught(err *error) {
	switch r := recover().(type) {
	case nil:
	case *Error:
		*err = r
	case otherLanguage:
		*err = errOtherLanguage
	default:
		panic(r)
	}
}

// locate finds a place for a node, for messages.
func locate(n *pg.Node) int32 {
	switch v := n.GetNode().(type) {
	case *pg.Node_ColumnRef:
		return v.ColumnRef.Location
	case *pg.Node_AConst:
		return v.AConst.Location
	case *pg.Node_AExpr:
		return v.AExpr.Location
	case *pg.Node_FuncCall:
		return v.FuncCall.Location
	case *pg.Node_BoolExpr:
		return v.BoolExpr.Location
	case *pg.Node_TypeCast:
		return locate(v.TypeCast.Arg)
	case *pg.Node_SubLink:
		return v.SubLink.Location
	case *pg.Node_CaseExpr:
		return v.CaseExpr.Location
	case *pg.Node_NullTest:
		return locate(v.NullTest.Arg)
	case *pg.Node_ResTarget:
		return v.ResTarget.Location
	case *pg.Node_RangeVar:
		return v.RangeVar.Location
	case *pg.Node_ParamRef:
		return v.ParamRef.Location
	case *pg.Node_CoalesceExpr:
		return v.CoalesceExpr.Location
	case *pg.Node_MinMaxExpr:
		return v.MinMaxExpr.Location
	case *pg.Node_SqlvalueFunction:
		return v.SqlvalueFunction.Location
	case *pg.Node_SortBy:
		return locate(v.SortBy.Node)
	case *pg.Node_WindowDef:
		return v.WindowDef.Location
	case *pg.Node_AArrayExpr:
		return v.AArrayExpr.Location
	case *pg.Node_RowExpr:
		return v.RowExpr.Location
	}
	return -1
}

func texts(nodes []*pg.Node) []string {
	out := make([]string, len(nodes))
	for i, n := range nodes {
		out[i] = n.GetString_().GetSval()
	}
	return out
}
