// Package catalog answers questions about pg_catalog and information_schema, as PostgreSQL lays
// them out, from the access model: what a session may not know is not there. It runs the questions
// itself; none reaches a source.
package catalog

import (
	"context"
	"regexp"
	"runtime"
	"strings"

	pg "github.com/pganalyze/pg_query_go/v6"
	"google.golang.org/protobuf/reflect/protoreflect"

	"gneiss/core/query"
	"gneiss/core/sqltype"
)

// hints are texts of which one is in every question about the catalog, so that others are not
// looked through.
var hints = []string{"pg_", "information_schema", "version", "current_", "session_user", "set_config", "has_", "reg", "_description", "format_type",
	"quote_", "txid_", "inet_", "row_security", "getdatabaseencoding", "aclexplode", "shobj"}

// Might reports whether a text could be a question about the catalog.
func Might(text string) bool {
	lower := strings.ToLower(text)
	for _, hint := range hints {
		if strings.Contains(lower, hint) {
			return true
		}
	}
	return false
}

// Asks reports whether a SELECT is about the catalog, or about the session: it reads one of the
// catalog's tables or calls one of its functions, and reads no other table.
func Asks(n *pg.Node) bool {
	about, others := false, false
	ctes := map[string]bool{}
	walk(n.ProtoReflect(), func(m protoreflect.Message) {
		if c, ok := m.Interface().(*pg.CommonTableExpr); ok {
			ctes[c.Ctename] = true
		}
	})
	walk(n.ProtoReflect(), func(m protoreflect.Message) {
		switch x := m.Interface().(type) {
		case *pg.RangeVar:
			switch {
			case x.Schemaname == "" && ctes[x.Relname]:
			case x.Schemaname == "pg_catalog" || x.Schemaname == "information_schema", x.Schemaname == "" && find("", x.Relname) != nil:
				about = true
			default:
				others = true
			}
		case *pg.FuncCall:
			name := x.Funcname[len(x.Funcname)-1].GetString_().GetSval()
			_, here := functions[name]
			_, set := sets[name]
			if (here || set) && (sqltype.Never(name) != "" || len(sqltype.Routines(name)) == 0) {
				about = true
			}
		case *pg.TypeName:
			if t := typeOfName(x.Names[len(x.Names)-1].GetString_().GetSval()); t != nil && registered(t) {
				about = true
			}
		case *pg.SQLValueFunction:
			switch x.Op {
			case pg.SQLValueFunctionOp_SVFOP_CURRENT_CATALOG, pg.SQLValueFunctionOp_SVFOP_CURRENT_SCHEMA, pg.SQLValueFunctionOp_SVFOP_SESSION_USER:
				about = true
			}
		}
	})
	return about && !others
}

func walk(m protoreflect.Message, f func(protoreflect.Message)) {
	f(m)
	m.Range(func(d protoreflect.FieldDescriptor, v protoreflect.Value) bool {
		switch {
		case d.IsList() && d.Kind() == protoreflect.MessageKind:
			for i := range v.List().Len() {
				walk(v.List().Get(i).Message(), f)
			}
		case d.Kind() == protoreflect.MessageKind && !d.IsMap():
			walk(v.Message(), f)
		}
		return true
	})
}

// What a question may cost: steps of its work, and the bytes of one text and of all that it holds.
const (
	mostSteps = 200_000_000
	mostText  = 4 << 20
	mostHeld  = 128 << 20
)

// A run is a question that is being worked out.
type run struct {
	ctx      context.Context
	session  *Session
	params   []any
	steps    int
	held     int // bytes, about, of rows and values that are kept for later
	patterns map[string]*regexp.Regexp
	once     map[*plan][][]value
	rounds   map[*cte][][]value
	indexes  map[string]map[string][][]value
}

// step counts the work, and stops it where it is too much or not wanted any more.
func (q *run) step() {
	q.steps++
	if q.steps&0x3ff != 0 {
		return
	}
	if q.ctx != nil && q.ctx.Err() != nil {
		panic(q.ctx.Err())
	}
	if q.steps > mostSteps {
		fail("54000", -1, "the question about the catalog is too much work; narrow it")
	}
}

// hold counts what is kept for later, and stops where it is too much.
func (q *run) hold(values []value) {
	for _, v := range values {
		q.held += 32
		switch x := v.(type) {
		case string:
			q.held += len(x)
		case *array:
			q.held += 32 * len(x.items)
		}
	}
	if q.held > mostHeld {
		fail("54000", -1, "the question about the catalog holds too much; narrow it")
	}
}

// A Question is a compiled SELECT about the catalog.
type Question struct {
	session *Session
	plan    *plan
	params  []*sqltype.Type
}

// Compile reads a question. Its parameters are of the types, texts where those are nil.
func Compile(n *pg.Node, params []*sqltype.Type, s *Session) (q *Question, err error) {
	defer caught(&err)
	c := &compiler{session: s, params: params, sides: map[*expr][2]*expr{}}
	return &Question{s, c.query(n.GetSelectStmt(), nil), params}, nil
}

// Columns are those of the answer.
func (q *Question) Columns() []query.Column {
	out := make([]query.Column, len(q.plan.columns))
	for i, c := range q.plan.columns {
		t := c.t
		if t == nil {
			t = tText
		}
		out[i] = query.Column{Name: c.name, Type: t}
	}
	return out
}

// Run works the question out, and hands its rows to f as PostgreSQL writes their values. Params are
// texts, or nil.
func (q *Question) Run(ctx context.Context, params []any, f func(row [][]byte) error) (err error) {
	defer caught(&err)
	r := &run{ctx: ctx, session: q.session, params: params, patterns: map[string]*regexp.Regexp{}, once: map[*plan][][]value{}, rounds: map[*cte][][]value{},
		indexes: map[string]map[string][][]value{}}
	out := make([][]byte, len(q.plan.columns))
	var failed error
	q.plan.each(&env{q: r}, func(row []value) bool {
		for i, v := range row {
			if out[i] = nil; v != nil {
				out[i] = []byte(r.text(v, q.plan.columns[i].t))
			}
		}
		failed = f(out)
		return failed == nil
	})
	return failed
}

// caught turns what the package stops with into an error.
func caught(err *error) {
	switch broke := recover().(type) {
	case nil:
	case *Error:
		*err = broke
	case runtime.Error: // a fault of this package's, which is logged as such
		panic(broke)
	case error:
		*err = broke
	default:
		panic(broke)
	}
}
