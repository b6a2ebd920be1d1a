package source_test

import (
	"errors"
	"fmt"
	"go/ast"
	"go/parser"
	"go/token"
	"maps"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	pg "github.com/pganalyze/pg_query_go/v6"
	"google.golang.org/protobuf/reflect/protoreflect"

	"gneiss/core/emit"
	"gneiss/core/policy"
	"gneiss/core/query"
	"gneiss/source/corpus"
	"gneiss/source/grammar"
)

// accepted reads from the binder's source which nodes and kinds of the grammar it knows, as Go has their names.
func accepted(t *testing.T) map[string]bool {
	t.Helper()
	files, err := filepath.Glob("../core/query/*.go")
	if err != nil || len(files) == 0 {
		t.Fatal("the binder is not there: ", err)
	}
	kinds := []string{"Node_", "A_Expr_Kind_", "SubLinkType_", "BoolExprType_", "BoolTestType_", "NullTestType_", "JoinType_", "SetOperation_", "GroupingSetKind_", "OnConflictAction_",
		"SQLValueFunctionOp_", "MinMaxOp_", "MergeMatchKind_", "CoercionForm_"}
	out := map[string]bool{}
	for _, file := range files {
		if strings.HasSuffix(file, "_test.go") || strings.HasSuffix(file, "/command.go") {
			continue
		}
		parsed, err := parser.ParseFile(token.NewFileSet(), file, nil, 0)
		if err != nil {
			t.Fatal(err)
		}
		ast.Inspect(parsed, func(n ast.Node) bool {
			if s, ok := n.(*ast.SelectorExpr); ok {
				if x, ok := s.X.(*ast.Ident); ok && x.Name == "pg" && slices.ContainsFunc(kinds, func(k string) bool { return strings.HasPrefix(s.Sel.Name, k) }) {
					out[s.Sel.Name] = true
				}
			}
			return true
		})
	}
	return out
}

// aboutAccess are nodes of statements that change the access model, which are no questions.
var aboutAccess = []string{"Node_CreateRoleStmt", "Node_DropRoleStmt", "Node_DropStmt", "Node_GrantRoleStmt", "Node_GrantStmt", "Node_VariableSetStmt", "Node_ViewStmt", "Node_ExplainStmt",
	"SubLinkType_ROWCOMPARE_SUBLINK", // which the parser never makes
}

// places are parts of a statement, by the field of the tree in which they stand.
var places = map[protoreflect.Name]string{"target_list": "list", "where_clause": "WHERE", "quals": "ON", "having_clause": "HAVING", "sort_clause": "ORDER BY", "group_clause": "GROUP BY", "returning_list": "RETURNING",
	"subselect": "sub-query", "subquery": "sub-query", "ctequery": "sub-query", "window_clause": "window", "over": "window", "agg_filter": "FILTER", "values_lists": "VALUES"}

// tally counts the nodes and kinds of a statement, alone and by their place.
func countNodes(m protoreflect.Message, place string, count func(name, place string)) {
	if m.Descriptor().Name() == "Node" {
		if f := m.WhichOneof(m.Descriptor().Oneofs().Get(0)); f != nil {
			count("Node_"+camel(string(f.Name())), place)
		}
	}
	sets := m.Descriptor().Name() == "UpdateStmt" || m.Descriptor().Name() == "OnConflictClause" || m.Descriptor().Name() == "MergeWhenClause"
	m.Range(func(f protoreflect.FieldDescriptor, v protoreflect.Value) bool {
		at := place
		if p := places[f.Name()]; p != "" {
			if at = p; sets && p == "list" {
				at = "SET"
			}
		}
		switch {
		case f.Kind() == protoreflect.EnumKind && !f.IsList():
			if value := f.Enum().Values().ByNumber(v.Enum()); value != nil {
				count(string(f.Enum().Name())+"_"+string(value.Name()), place)
			}
		case f.Message() != nil && f.IsList():
			for i := range v.List().Len() {
				countNodes(v.List().Get(i).Message(), at, count)
			}
		case f.Message() != nil:
			countNodes(v.Message(), at, count)
		}
		return true
	})
}

// camel is a field's name as Go has it: a_expr, AExpr.
func camel(name string) string {
	var b strings.Builder
	for part := range strings.SplitSeq(name, "_") {
		b.WriteString(strings.ToUpper(part[:1]) + part[1:])
	}
	return b.String()
}

// TestTheGrammarIsCovered: each node and kind that the binder knows comes up in the statements that are written at random,
// and each expression in each place of a statement.
func TestTheGrammarIsCovered(t *testing.T) {
	_, m := onPostgreSQL(t, corpus.Tables)
	st := rights(t, m, "flint")
	counts, at := map[string]int{}, map[string]int{}
	refusals := map[string]int{}
	taken, refused := 0, 0
	for n := range 6000 {
		w := grammar.Writer{Tape: grammar.On(grammar.Fill(*leakSeed, uint64(n), 200))}
		s := w.Statement()
		if _, err := emit.Make(s.Text, s.Params, st, &policy.Set{}); err != nil {
			var q *query.Error
			state := ""
			if errors.As(err, &q) {
				state = q.SQLState
			}
			refusals[fmt.Sprintf("%s %.70s", state, err)]++
			refused++
			continue
		}
		taken++
		tree, err := pg.Parse(s.Text)
		if err != nil {
			t.Fatal(err)
		}
		countNodes(tree.ProtoReflect(), "", func(name, place string) {
			counts[name]++
			if strings.HasPrefix(name, "Node_") || strings.HasPrefix(name, "A_Expr_Kind") || strings.HasPrefix(name, "SubLinkType") {
				at[name+" in "+place]++
			}
		})
	}
	t.Logf("%d statements are of the language, %d are refused", taken, refused)
	list := slices.SortedFunc(maps.Keys(refusals), func(a, b string) int { return refusals[b] - refusals[a] })
	for _, r := range list[:min(len(list), 40)] {
		t.Logf("%4d %s", refusals[r], r)
	}
	for _, name := range slices.Sorted(maps.Keys(accepted(t))) {
		if n := counts[name]; n < 20 && !slices.Contains(aboutAccess, name) {
			t.Errorf("%s comes up %d times", name, n)
		}
	}
}
