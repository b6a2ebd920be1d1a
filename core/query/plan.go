package query

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"strings"

	pgt "github.com/pganalyze/pg_query_go/v6"
	pg "github.com/pganalyze/pg_query_go/v6/parser"

	"gneiss/core/access"
	"gneiss/core/policy"
)

// An Outline is what a governed statement gives, and what it touches.
type Outline struct {
	Columns []Column
	Source  access.ObjectID // zero: the query reads no table
	Tables  []TableUse
	Calls   []access.ObjectID // routines of the source's own
	Behind  []access.ObjectID // tables that policies read for it, perhaps more than once
	Write   bool              // it changes rows, of the first of Tables
	// Checked says that the statement gives one column more than Columns: whether
	// the row may be left. Where one may not, nothing must be changed.
	Checked bool
	// Leads says that the check is also of what foreign keys lead to, so that the
	// database's own refusal of one is told in the same words.
	Leads bool
	// Wordless says that a policy's condition or treatment may fail on a value, so that the
	// database's own words for an error could tell what is hidden.
	Wordless bool
	// Explain says that the statement is not to be run, but its plan shown.
	Explain bool
	// Point says that it gives one row of a table at the most, by the table's whole key.
	Point bool
	// Params are the types of the deferred parameters, as their places give them; nil: text.
	Params []Type
}

// A Governed is a statement with the policies in it, as a tree. It holds for one reader
// and one set of policies. Either Reads or Changes is set.
type Governed struct {
	Outline
	Reads   *Query
	Changes *Write
}

// Govern works out the governed form of a text for a reader. Its errors
// are of type [*Error], but for that of a context that is done; a failure of its own is one,
// too, so that it is a refusal and not an answer.
func Govern(ctx context.Context, text Statement, st *access.Rights, policies *policy.Set) (g *Governed, err error) {
	defer func() {
		switch r := recover().(type) {
		case nil:
		case Ended:
			g, err = nil, r.Cause
		default:
			g, err = nil, &Error{Code: Unsupported, Text: fmt.Sprintf("this query cannot be planned (%v); please report it", r)}
		}
	}()
	return governText(ctx, text, st, policies)
}

func governText(ctx context.Context, text Statement, st *access.Rights, policies *policy.Set) (g *Governed, err error) {
	tree, err := parseOne(text.SQL)
	if err != nil {
		return nil, err
	}
	exact := false
	if first := cmp.Or(text.Names.Source, FirstSource(st.Model)); first != 0 {
		exact = speaksExactly(st.Model.Object(first))
	}
	g, err = governIn(ctx, exact, text, tree, st, policies)
	if err == errOtherLanguage {
		g, err = governIn(ctx, !exact, text, tree, st, policies)
	}
	if err == errOtherLanguage { // neither language has it all
		err = &Error{Code: Unsupported, SQLState: "0A000", Text: "this statement is not supported on the source of its tables"}
	}
	return g, err
}

// otherLanguage stops a binder that has met a table whose source does not have the language
// that it reads the text in.
type otherLanguage struct{ exact bool }

// FirstSource is the source that a text without tables runs on; zero: there is none.
func FirstSource(m *access.Model) access.ObjectID {
	for _, id := range m.Object(access.PlatformID).Children {
		if !m.Object(id).Missing {
			return id
		}
	}
	return 0
}

// anyExact reports whether a source of the platform has PostgreSQL's own language.
func (b *binder) anyExact() bool { return b.firstExact() != 0 }

// firstExact is the first source that has PostgreSQL's own language; zero: there is none.
func (b *binder) firstExact() access.ObjectID {
	if id := b.names.Source; id != 0 && speaksExactly(b.model.Object(id)) {
		return id
	} else if id != 0 {
		return 0
	}
	for _, id := range b.model.Object(access.PlatformID).Children {
		if o := b.model.Object(id); !o.Missing && speaksExactly(o) {
			return id
		}
	}
	return 0
}

var errOtherLanguage = errors.New("the text is of the other language")

func governIn(ctx context.Context, exact bool, text Statement, tree *pgt.ParseResult, st *access.Rights, policies *policy.Set) (g *Governed, err error) {
	b := &binder{ctx: ctx, text: text.SQL, reader: st, rights: st, model: st.Model, policies: policies, exact: exact, types: owned{},
		params: text.Params, paramTypes: make([]Type, len(text.Params)), names: text.Names}
	defer func() {
		if g != nil {
			g.Params = b.paramTypes
		}
	}()
	defer func() {
		// What binding finds wrong after a table is opaque may come of that.
		if err != nil && err != errOtherLanguage && len(b.needs) > 0 {
			err = refusal(st.Model, b.needs)
		}
	}()
	defer caught(&err)
	statement := tree.Stmts[0].Stmt
	if explain := statement.GetExplainStmt(); explain != nil {
		if len(explain.Options) > 0 {
			return nil, &Error{
				Code: Unsupported,
				Text: "EXPLAIN takes no options here; it shows the governed statement and the database's plan, and does not run it",
			}
		}
		defer func() {
			if g != nil {
				g.Explain = true
			}
		}()
		statement = explain.Query
	}
	switch statement.GetNode().(type) {
	case *pgt.Node_MergeStmt:
		if !b.exact && b.anyExact() {
			return nil, errOtherLanguage
		}
		if b.exact {
			return b.governWrite(statement), nil
		}
	case *pgt.Node_SelectStmt:
		return b.governRead(statement), nil
	case *pgt.Node_InsertStmt, *pgt.Node_UpdateStmt, *pgt.Node_DeleteStmt:
		return b.governWrite(statement), nil
	}
	line, col := place(text.SQL, tree.Stmts[0].StmtLocation)
	return nil, &Error{
		Code: Unsupported,
		Text: "only SELECT, INSERT, UPDATE, DELETE, on PostgreSQL MERGE, EXPLAIN of these, and changes of rights, roles and views can be run here; " +
			statementName(tree.Stmts[0], text.SQL) + " is not supported",
		Line: line,
		Col:  col,
	}
}

func (b *binder) governRead(n *pgt.Node) *Governed {
	q := b.query(n.GetSelectStmt(), nil)
	b.refuseMissing()
	if b.source == 0 {
		b.source = b.names.Source
	}
	if b.source == 0 && b.exact {
		b.source = b.firstExact()
	}
	uses := append(b.govern(), b.viewed()...)
	out := Outline{Columns: q.Columns, Source: b.source, Tables: uses, Calls: b.routines, Behind: b.behind, Point: b.exact && b.point(q)}
	return &Governed{out, q, nil}
}

func (b *binder) governWrite(n *pgt.Node) *Governed {
	w := b.writing(n)
	b.refuseMissing()
	var uses []TableUse
	if w.Merge != nil {
		uses = b.governMerge(w)
	} else {
		uses = append(uses, b.governTarget(w))
	}
	uses = append(append(uses, b.govern()...), b.viewed()...)
	out := Outline{Source: b.source, Tables: uses, Calls: b.routines, Behind: b.behind, Write: true, Checked: w.Check != nil, Leads: w.leads}
	if w.Returning != nil {
		out.Columns = w.Returning.Columns
	}
	return &Governed{out, nil, w}
}

// refuseMissing stops when a privilege is missing.
func (b *binder) refuseMissing() {
	if len(b.needs) > 0 {
		panic(refusal(b.model, b.needs))
	}
}

// refusal says all that is missing, in one go.
func refusal(m *access.Model, needs []access.Need) *Error {
	var parts []string
	for _, n := range needs {
		parts = append(parts, fmt.Sprintf("%s on %s", n.Privilege, m.Path(n.Object)))
	}
	return &Error{Code: Refused, Text: "you lack " + strings.Join(parts, ", "), Needs: needs}
}

func syntaxError(text string, err error) error {
	e := &Error{Code: Syntax, Text: err.Error()}
	var perr *pg.Error
	if errors.As(err, &perr) {
		e.Text = perr.Message
		if perr.Cursorpos > 0 {
			e.Line, e.Col = place(text, byteOffset(text, perr.Cursorpos-1))
		}
	}
	return e
}

// byteOffset turns the grammar's count of characters into one of bytes.
func byteOffset(text string, chars int) int32 {
	for i := range text {
		if chars == 0 {
			return int32(i)
		}
		chars--
	}
	return int32(len(text))
}
