package query

import (
	"fmt"
	"slices"
	"strings"

	pg "github.com/pganalyze/pg_query_go/v6"

	"gneiss/core/access"
)

// A Phrase is a condition as a sentence says it: the common ones, which are
// written without SQL. [ReadPhrases] finds them in a condition, and
// [WritePhrases] writes the condition.
type Phrase struct {
	Kind      PhraseKind
	Column    string // of the policy's table
	Attribute string // IsAttribute: its name
	// ListedIn: the table that says what whom belongs to, the column of it that
	// Column is compared with, and the one that names the user.
	Table, Key, Holder string
}

// A PhraseKind says what a phrase compares the column with.
type PhraseKind string

const (
	IsAttribute PhraseKind = "attribute" // one of the values of the reader's attribute
	IsGroup     PhraseKind = "group"     // the name of a group of the reader's
	IsTeam      PhraseKind = "team"      // a user of the reader's team
	IsReader    PhraseKind = "reader"    // the reader
	ListedIn    PhraseKind = "listed"    // what an entitlement table gives the reader
	HasCome     PhraseKind = "come"      // a date that is not in the future
	Everything  PhraseKind = "all"       // every row
)

// PhraseKinds lists them, the most used first.
var PhraseKinds = []string{
	string(IsAttribute),
	string(IsGroup),
	string(ListedIn),
	string(IsTeam),
	string(IsReader),
	string(HasCome),
	string(Everything),
}

// Words says the phrase.
func (p Phrase) Words() string {
	switch p.Kind {
	case IsAttribute:
		return fmt.Sprintf("%s is one of the reader's %s", p.Column, p.Attribute)
	case IsGroup:
		return fmt.Sprintf("%s is one of the reader's groups", p.Column)
	case IsTeam:
		return fmt.Sprintf("%s is in the reader's team", p.Column)
	case IsReader:
		return fmt.Sprintf("%s is the reader", p.Column)
	case ListedIn:
		return fmt.Sprintf("%s is listed for the reader in %s (%s, by %s)", p.Column, p.Table, p.Key, p.Holder)
	case HasCome:
		return fmt.Sprintf("%s has come", p.Column)
	}
	return "there is one"
}

// SQL writes the phrase as a condition. It returns an error where a part of it
// is missing.
func (p Phrase) SQL() (string, error) {
	need := func(parts ...string) error {
		for i := 0; i < len(parts); i += 2 {
			if parts[i+1] == "" {
				return &Error{Code: Syntax, Text: fmt.Sprintf("the condition of kind %s needs %s", p.Kind, parts[i])}
			}
		}
		return nil
	}
	column := access.Quote(p.Column)
	switch p.Kind {
	case IsAttribute:
		return fmt.Sprintf(
				"%s IN (attribute('%s'))",
				column,
				strings.ReplaceAll(p.Attribute, "'", "''"),
			), need(
				"a column",
				p.Column,
				"an attribute",
				p.Attribute,
			)
	case IsGroup:
		return fmt.Sprintf("in_group(%s)", column), need("a column", p.Column)
	case IsTeam:
		return fmt.Sprintf("%s IN (team())", column), need("a column", p.Column)
	case IsReader:
		return fmt.Sprintf("%s = CURRENT_USER", column), need("a column", p.Column)
	case ListedIn:
		return fmt.Sprintf("%s IN (SELECT %s FROM %s WHERE %s = CURRENT_USER)", column, access.Quote(p.Key), p.Table, access.Quote(p.Holder)),
			need("a column", p.Column, "the table of entitlements", p.Table, "its column of values", p.Key, "its column of users", p.Holder)
	case HasCome:
		return fmt.Sprintf("%s <= CURRENT_DATE", column), need("a column", p.Column)
	case Everything:
		return "true", nil
	}
	return "", &access.NotFound{Kind: "kind of condition", Name: string(p.Kind), Known: PhraseKinds}
}

// WritePhrases writes a condition of phrases joined by AND or OR.
func WritePhrases(phrases []Phrase, join string) (string, error) {
	var parts []string
	for _, p := range phrases {
		text, err := p.SQL()
		if err != nil {
			return "", err
		}
		parts = append(parts, text)
	}
	return strings.Join(parts, " "+join+" "), nil
}

// ReadPhrases reads a condition as phrases, joined by AND or OR; ok is false
// where the sentence does not reach so far. It does not say that the condition
// binds.
func ReadPhrases(rule string) (phrases []Phrase, join string, ok bool) {
	tree, err := parseOne("SELECT 1 WHERE " + rule)
	if err != nil {
		return nil, "", false
	}
	s := tree.Stmts[0].Stmt.GetSelectStmt()
	if s.GetWhereClause() == nil || len(s.SortClause)+len(s.GroupClause)+len(s.FromClause) > 0 || s.LimitCount != nil || s.HavingClause != nil {
		return nil, "", false
	}
	parts, join := []*pg.Node{s.WhereClause}, "AND"
	if all := s.WhereClause.GetBoolExpr(); all != nil {
		switch all.Boolop {
		case pg.BoolExprType_AND_EXPR:
			parts = all.Args
		case pg.BoolExprType_OR_EXPR:
			parts, join = all.Args, "OR"
		}
	}
	for _, n := range parts {
		p, ok := readPhrase(n)
		if !ok {
			return nil, "", false
		}
		phrases = append(phrases, p)
	}
	return phrases, join, true
}

// Words says a condition as a sentence does, as far as that reaches; beyond, it
// is the condition itself. Of a condition that is true for every row it is "".
func Words(rule string) string {
	phrases, join, ok := ReadPhrases(rule)
	switch {
	case !ok:
		return rule
	case len(phrases) == 1 && phrases[0].Kind == Everything:
		return ""
	}
	var parts []string
	for _, p := range phrases {
		parts = append(parts, p.Words())
	}
	return strings.Join(parts, " "+strings.ToLower(join)+" ")
}

func readPhrase(n *pg.Node) (Phrase, bool) {
	switch v := n.GetNode().(type) {
	case *pg.Node_AConst:
		return Phrase{Kind: Everything}, v.AConst.GetBoolval().GetBoolval()
	case *pg.Node_FuncCall:
		if name, args := plainCall(n); name == "in_group" && len(args) == 1 {
			return columnPhrase(Phrase{Kind: IsGroup}, args[0])
		}
	case *pg.Node_AExpr:
		return comparison(v.AExpr)
	case *pg.Node_SubLink:
		return entitlement(v.SubLink)
	}
	return Phrase{}, false
}

func columnPhrase(p Phrase, n *pg.Node) (Phrase, bool) {
	p.Column = plainName(n)
	return p, p.Column != ""
}

// plainCall reads a call without any extras.
func plainCall(n *pg.Node) (name string, args []*pg.Node) {
	f := n.GetFuncCall()
	if f == nil || len(f.Funcname) != 1 || f.AggStar || f.AggDistinct || f.AggFilter != nil || f.Over != nil || len(f.AggOrder) > 0 {
		return "", nil
	}
	return f.Funcname[0].GetString_().GetSval(), f.Args
}

func comparison(e *pg.A_Expr) (Phrase, bool) {
	op := texts(e.Name)
	if len(op) != 1 || e.Lexpr == nil {
		return Phrase{}, false
	}
	fact := e.Rexpr.GetSqlvalueFunction()
	switch {
	case e.Kind == pg.A_Expr_Kind_AEXPR_OP && op[0] == "=" && fact.GetOp() == pg.SQLValueFunctionOp_SVFOP_CURRENT_USER:
		return columnPhrase(Phrase{Kind: IsReader}, e.Lexpr)
	case e.Kind == pg.A_Expr_Kind_AEXPR_OP && op[0] == "<=" && fact.GetOp() == pg.SQLValueFunctionOp_SVFOP_CURRENT_DATE:
		return columnPhrase(Phrase{Kind: HasCome}, e.Lexpr)
	case e.Kind == pg.A_Expr_Kind_AEXPR_IN && op[0] == "=" && len(e.Rexpr.GetList().GetItems()) == 1:
		switch name, args := plainCall(e.Rexpr.GetList().Items[0]); {
		case name == "team" && len(args) == 0:
			return columnPhrase(Phrase{Kind: IsTeam}, e.Lexpr)
		case name == "attribute" && len(args) == 1 && args[0].GetAConst().GetSval() != nil:
			return columnPhrase(Phrase{Kind: IsAttribute, Attribute: args[0].GetAConst().GetSval().Sval}, e.Lexpr)
		}
	}
	return Phrase{}, false
}

// entitlement reads column IN (SELECT key FROM table WHERE holder = CURRENT_USER).
func entitlement(l *pg.SubLink) (Phrase, bool) {
	s := l.Subselect.GetSelectStmt()
	if l.SubLinkType != pg.SubLinkType_ANY_SUBLINK || len(l.OperName) > 0 || s == nil || len(s.TargetList) != 1 || len(s.FromClause) != 1 {
		return Phrase{}, false
	}
	if len(s.SortClause)+len(s.GroupClause)+len(s.DistinctClause)+len(s.WindowClause)+len(s.LockingClause) > 0 || s.HavingClause != nil || s.LimitCount != nil ||
		s.LimitOffset != nil || s.WithClause != nil ||
		s.Op != pg.SetOperation_SETOP_NONE {
		return Phrase{}, false
	}
	table, where := s.FromClause[0].GetRangeVar(), s.WhereClause.GetAExpr()
	if table == nil || table.Alias != nil || !table.Inh || where == nil {
		return Phrase{}, false
	}
	holder, ok := comparison(where)
	if !ok || holder.Kind != IsReader {
		return Phrase{}, false
	}
	parts := slices.DeleteFunc([]string{table.Catalogname, table.Schemaname, table.Relname}, func(s string) bool { return s == "" })
	p := Phrase{Kind: ListedIn, Table: access.JoinPath(parts...), Holder: holder.Column, Key: plainName(s.TargetList[0].GetResTarget().GetVal())}
	if p.Key == "" {
		return Phrase{}, false
	}
	return columnPhrase(p, l.Testexpr)
}
