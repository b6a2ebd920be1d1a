package query

import (
	"strconv"
	"strings"

	pg "github.com/pganalyze/pg_query_go/v6"

	"gneiss/core/sqltype"
)

// units are those of an interval, in months, days or seconds.
var units = map[string][3]int64{
	"year": {12, 0, 0}, "month": {1, 0, 0}, "week": {0, 7, 0}, "day": {0, 1, 0},
	"hour": {0, 0, 3600}, "minute": {0, 0, 60}, "second": {0, 0, 1},
}

// most is how far an interval reaches, in each of its parts.
const most = 1_000_000_000

// isInterval reports whether a node is INTERVAL '…'.
func isInterval(n *pg.Node) bool {
	c := n.GetTypeCast()
	if c == nil || c.Arg.GetAConst().GetSval() == nil {
		return false
	}
	names := texts(c.TypeName.Names)
	return names[len(names)-1] == "interval"
}

// shift binds a date or timestamp plus or minus an interval; like PostgreSQL's,
// the result is a timestamp, and a day that a month lacks is its last.
func (b *binder) shift(x Expr, n *pg.Node, sign int64, at int32) Expr {
	if x.Type() != Date && x.Type() != Timestamp {
		b.fail(at, Mismatch, "an interval is added to a date or timestamp, not to %s", x.Type())
	}
	var sum [3]int64
	words := strings.Fields(strings.ToLower(n.GetTypeCast().Arg.GetAConst().GetSval().Sval))
	if mods := n.GetTypeCast().TypeName.Typmods; len(mods) > 0 { // INTERVAL '3' MONTH (ISO/IEC 9075-2, 5.3)
		field, ok := sqltype.IntervalFields(mods[0].GetAConst().GetIval().GetIval())
		if _, known := units[field]; !ok || !known || len(mods) > 1 || len(words) != 1 {
			b.unsupported(at, "an interval of several fields, or with a precision; write INTERVAL '1 day 3 hours'")
		}
		words = append(words, field)
	}
	if len(words) == 0 || len(words)%2 != 0 {
		b.fail(at, Mismatch, "an interval is written in whole units: INTERVAL '1 year 2 months', '3 days', '12 hours'")
	}
	for i := 0; i < len(words); i += 2 {
		count, err := strconv.ParseInt(words[i], 10, 32)
		unit, ok := units[strings.TrimSuffix(words[i+1], "s")]
		if err != nil || !ok {
			b.fail(at, Mismatch, "an interval is written in whole units: INTERVAL '1 year 2 months', '3 days', '12 hours'")
		}
		for j := range sum {
			sum[j] += count * unit[j]
		}
	}
	args := []Expr{x}
	for _, part := range sum {
		if part > most || part < -most {
			b.fail(at, Mismatch, "the interval is too long")
		}
		args = append(args, &Literal{Bigint, sign * part})
	}
	return &Call{Fn: shifted, Args: args, T: Timestamp}
}

var shifted = &Function{Name: "shift", Own: true}
