package query

import (
	"fmt"
	"strings"

	"gneiss/core/access"
)

// Codes of an [Error].
const (
	Syntax      = "syntax"         // the text is not SQL
	Unsupported = "unsupported"    // SQL, but not of this language
	Unknown     = "unknown_name"   // a table, column or function that is not there
	Ambiguous   = "ambiguous_name" // a name with more than one meaning
	Mismatch    = "type_mismatch"  // an operand of the wrong type
	Grouping    = "grouping"       // a column that is neither grouped nor aggregated
	Refused     = "refused"        // a privilege is missing
	ViewClosed  = "view_closed"    // a view whose text cannot be read, or whose owner lends what it may not
	Broken      = "policy_broken"  // a policy that no longer fits its table
)

// An Error says why a text cannot become a governed query.
type Error struct {
	Code string
	Text string // for the reader
	Line int    // of the place in the text, from 1; 0: no place
	Col  int    // in characters, from 1
	// Needs are the privileges that are missing. When Hidden is set they are
	// for the record only: the reader has no door to the object.
	Needs  []access.Need
	Hidden bool
	// Near are the names that the reader may have meant.
	Near []string
	Name string // the name that is not known
	// SQLState is the code of ISO/IEC 9075 that the database has for it, where that is known.
	SQLState string
}

func (e *Error) Error() string {
	if e.Line == 0 {
		return e.Text
	}
	return fmt.Sprintf("line %d, column %d: %s", e.Line, e.Col, e.Text)
}

// place turns a byte offset of the grammar's into a line and a column.
func place(text string, offset int32) (line, col int) {
	if offset < 0 || int(offset) > len(text) {
		return 0, 0
	}
	before := text[:offset]
	line = 1 + strings.Count(before, "\n")
	last := strings.LastIndexByte(before, '\n')
	return line, 1 + len([]rune(before[last+1:]))
}
