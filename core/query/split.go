package query

import (
	"strconv"
	"strings"

	pgt "github.com/pganalyze/pg_query_go/v6"
)

// A Piece is one statement of a text that may have several.
type Piece struct {
	SQL  string
	At   int // the characters of the text before it
	Node *pgt.Node
}

// Split parts a text into its statements, within the bounds that one statement has. Its errors
// are of type [*Error].
func Split(text string) ([]Piece, error) {
	tree, err := parseAll(text)
	if err != nil {
		return nil, err
	}
	var out []Piece
	for _, s := range tree.Stmts {
		end := len(text)
		if s.StmtLen > 0 {
			end = int(s.StmtLocation + s.StmtLen)
		}
		piece := text[s.StmtLocation:end]
		start := len(piece) - len(strings.TrimLeft(piece, " \t\r\n\f;"))
		out = append(out, Piece{strings.TrimRight(piece[start:], "; \t\r\n"), len([]rune(text[:int(s.StmtLocation)+start])), s.Stmt})
	}
	return out, nil
}

// MostParams bounds the numbers of a statement's parameters, as the protocol's counts do.
const MostParams = 65535

// Params tells which parameters a text has: used[0] is whether it has $1. It is as long as the
// highest of them.
func Params(text string) (used []bool, err error) {
	if !strings.Contains(text, "$") {
		return nil, nil
	}
	tokens, err := pgt.Scan(text)
	if err != nil {
		return nil, syntaxError(text, err)
	}
	for _, t := range tokens.Tokens {
		if t.Token != pgt.Token_PARAM {
			continue
		}
		i, err := strconv.Atoi(text[t.Start+1 : t.End])
		if err != nil || i < 1 || i > MostParams {
			line, col := place(text, t.Start)
			return nil, &Error{Code: Syntax, Text: "there is no parameter " + text[t.Start:t.End], Line: line, Col: col, SQLState: "42P02"}
		}
		for len(used) < i {
			used = append(used, false)
		}
		used[i-1] = true
	}
	return used, nil
}
