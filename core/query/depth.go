package query

import (
	pg "github.com/pganalyze/pg_query_go/v6"
)

// The grammar library walks its tree by recursion on the stack of a C thread,
// where an overflow ends the process. So a text is measured by its tokens
// before it is parsed: what could nest too deep for the binder is refused.

// shallow is the length in bytes up to which no text can nest deep enough to
// matter.
const shallow = 600

// a level is what is open at one depth of parentheses.
type level struct {
	chain int // operators that build on each other, since the last separator
	fixed int // parts that build on each other whatever stands between them
}

// checkDepth refuses a text whose tree could be more than twice as deep as what
// can be bound.
func checkDepth(text string) error {
	if len(text) <= shallow {
		return nil
	}
	scan, err := pg.Scan(text)
	if err != nil {
		return syntaxError(text, err)
	}
	open := []level{{}}
	depth := 0 // of all levels below the top
	for _, token := range scan.Tokens {
		top := &open[len(open)-1]
		switch token.Token {
		case pg.Token_ASCII_40, pg.Token_ASCII_91, pg.Token_CASE: // ( [ CASE
			depth += top.chain + top.fixed + 1
			open = append(open, level{})
		case pg.Token_ASCII_41, pg.Token_ASCII_93, pg.Token_END_P: // ) ] END
			if len(open) > 1 {
				open = open[:len(open)-1]
				top = &open[len(open)-1]
				depth -= top.chain + top.fixed + 1
			}
		case pg.Token_ASCII_44, pg.Token_AND, pg.Token_OR, pg.Token_WHERE, pg.Token_FROM, pg.Token_ON, pg.Token_GROUP_P, pg.Token_HAVING,
			pg.Token_ORDER, pg.Token_WHEN, pg.Token_THEN, pg.Token_ELSE: // , and what starts another expression
			top.chain = 0
		case pg.Token_ASCII_59: // ; begins another statement
			open, depth = []level{{}}, 0
		case pg.Token_JOIN, pg.Token_UNION, pg.Token_INTERSECT, pg.Token_EXCEPT, pg.Token_WITH:
			top.chain = 0
			top.fixed++
		default:
			if nests(token) {
				top.chain++
			}
		}
		if depth+open[len(open)-1].chain+open[len(open)-1].fixed > 2*mostDepth {
			line, col := place(text, token.Start)
			e := TooLarge("the query is nested more than %d deep, or has a chain of more than %d operators", mostDepth, 2*mostDepth)
			e.Line, e.Col = line, col
			return e
		}
	}
	return nil
}

// nests reports whether a token is an operator, or a word that acts as one.
func nests(t *pg.ScanToken) bool {
	switch t.KeywordKind {
	case pg.KeywordKind_NO_KEYWORD:
		switch t.Token {
		case pg.Token_IDENT,
			pg.Token_ICONST,
			pg.Token_FCONST,
			pg.Token_SCONST,
			pg.Token_PARAM,
			pg.Token_ASCII_46,
			pg.Token_SQL_COMMENT,
			pg.Token_C_COMMENT:
			return false
		}
		return true
	case pg.KeywordKind_RESERVED_KEYWORD, pg.KeywordKind_TYPE_FUNC_NAME_KEYWORD:
		switch t.Token {
		case pg.Token_NULL_P,
			pg.Token_TRUE_P,
			pg.Token_FALSE_P,
			pg.Token_AS,
			pg.Token_INNER_P,
			pg.Token_LEFT,
			pg.Token_RIGHT,
			pg.Token_FULL,
			pg.Token_CROSS:
			return false
		}
		return true
	}
	return false
}
