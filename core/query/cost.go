package query

import (
	"context"
	"fmt"
)

// tooComplex is the SQLSTATE of a statement that is too complex to be planned.
const tooComplex = "54001"

// TooLarge is the refusal of a statement that would come to more than can be planned.
func TooLarge(format string, args ...any) *Error {
	return &Error{Code: Unsupported, Text: fmt.Sprintf(format, args...), SQLState: tooComplex}
}

// Ended stops planning when nobody waits for it any more.
type Ended struct{ Cause error }

// mostCost bounds what a statement comes to, written out: its expressions, with
// those that are written more than once counted as often, and its tables. Copies
// of copies double at each level, so that a short text could come to more than any
// machine holds.
const mostCost = 200_000

// tableCost is that of a table, with what policies make of it, or of a view.
const tableCost = 200

// costs adds to what the statement comes to.
func (b *binder) costs(n int) {
	if b.ctx != nil && b.ctx.Err() != nil {
		panic(Ended{context.Cause(b.ctx)})
	}
	if b.cost += n; b.cost > mostCost {
		b.failAs(
			-1,
			Unsupported,
			tooComplex,
			"the statement is too large once expanded: it has too many tables, or nests expressions "+
				"that are written more than once, such as abs, greatest, BETWEEN or CASE … WHEN",
		)
	}
}

// copies counts what was bound since the cost was before as written n times.
func (b *binder) copies(n, before int) {
	b.costs((n - 1) * (b.cost - before))
}

// written is how often a function's operands are written at the most, by name;
// others' are written once.
var written = map[string]int{"abs": 3, "floor": 6, "ceil": 6, "greatest": 8, "least": 8, "date_trunc": 2}
