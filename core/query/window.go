package query

import (
	pg "github.com/pganalyze/pg_query_go/v6"

	"gneiss/core/access"
	"gneiss/core/sqltype"
)

// windows are the WINDOW clause of a SELECT; nil where no window function may
// stand.
type windows map[string]*pg.WindowDef

func (b *binder) windows(nodes []*pg.Node) windows {
	w := windows{}
	for _, n := range nodes {
		def := n.GetWindowDef()
		if def.Refname != "" {
			b.unsupported(def.Location, "a window built on another")
		}
		w[def.Name] = def
	}
	return w
}

func (b *binder) window(def *pg.WindowDef, s *scope, w windows) *Window {
	if def.Name != "" {
		named, ok := w[def.Name]
		if !ok {
			b.fail(def.Location, Unknown, "there is no window %s", access.Quote(def.Name))
		}
		def = named
	}
	if def.Refname != "" {
		b.unsupported(def.Location, "a window built on another")
	}
	out := &Window{Partition: b.exprs(def.PartitionClause, s, nil)}
	for _, n := range def.OrderClause {
		o := b.direction(n.GetSortBy())
		o.Expr = b.expr(n.GetSortBy().Node, s)
		if c, ok := o.Expr.(*ColumnRef); ok {
			o.NotNull = c.Rel.Columns[c.Col].NotNull
		}
		out.Order = append(out.Order, o)
	}
	out.Frame = b.frame(def, s, out.Order)
	return out
}

// The bits by which the grammar writes a frame clause.
const (
	frameNonDefault     = 0x00001
	frameRange          = 0x00002
	frameRows           = 0x00004
	frameGroups         = 0x00008
	frameBetween        = 0x00010
	frameStartUnbounded = 0x00020
	frameEndUnbounded   = 0x00100
	frameStartCurrent   = 0x00200
	frameEndCurrent     = 0x00400
	frameStartPreceding = 0x00800
	frameEndPreceding   = 0x01000
	frameStartFollowing = 0x02000
	frameEndFollowing   = 0x04000
	frameExclusions     = 0x38000
)

// The kinds of EXCLUDE, by the same bits.
var exclusions = map[int32]string{0: "", 0x08000: " EXCLUDE CURRENT ROW", 0x10000: " EXCLUDE GROUP", 0x20000: " EXCLUDE TIES"}

// frame binds the frame clause.
func (b *binder) frame(def *pg.WindowDef, s *scope, order []Order) *Frame {
	o := def.FrameOptions
	if o&frameNonDefault == 0 {
		return nil
	}
	exclude, ok := exclusions[o&frameExclusions]
	if !ok || exclude != "" && !b.exact {
		b.unsupported(def.Location, "this EXCLUDE in a window frame")
	}
	unit := map[int32]string{frameRange: "RANGE", frameRows: "ROWS", frameGroups: "GROUPS"}[o&(frameRange|frameRows|frameGroups)]
	bound := func(unbounded, current, preceding, following int32, unboundedText string, offset *pg.Node) Bound {
		switch {
		case o&unbounded != 0:
			return Bound{Words: unboundedText}
		case o&current != 0:
			return Bound{Words: "CURRENT ROW"}
		case o&(preceding|following) == 0:
			b.unsupported(def.Location, "this window frame")
		}
		words := "FOLLOWING"
		if o&preceding != 0 {
			words = "PRECEDING"
		}
		return Bound{b.distance(unit, offset, order, def.Location), words}
	}
	f := &Frame{Unit: unit, To: Bound{Words: "CURRENT ROW"}, Exclude: exclude}
	f.From = bound(frameStartUnbounded, frameStartCurrent, frameStartPreceding, frameStartFollowing, "UNBOUNDED PRECEDING", def.StartOffset)
	if o&frameBetween != 0 {
		f.To = bound(frameEndUnbounded, frameEndCurrent, frameEndPreceding, frameEndFollowing, "UNBOUNDED FOLLOWING", def.EndOffset)
	}
	return f
}

// distance binds how far a frame reaches: so many rows, or so far in what it is sorted by.
func (b *binder) distance(unit string, n *pg.Node, order []Order, at int32) Expr {
	if unit == "RANGE" && !b.exact {
		b.unsupported(at, "RANGE with a distance")
	}
	e := b.expr(n, &scope{})
	if unit == "RANGE" {
		if len(order) != 1 {
			b.fail(at, Mismatch, "RANGE with a distance needs just one expression in ORDER BY")
		}
		to := order[0].Expr.Type()
		if to != nil && to.Category == 'D' {
			to = sqltype.Interval
		}
		e = b.convertLiteral(e, to, at)
		b.plain(e, at, "a window frame")
		return e
	}
	l, ok := e.(*Literal)
	count, isInt := ValueOf(l).(int64)
	if !ok || !isInt || count < 0 {
		b.fail(at, Mismatch, "a window frame's distance is a whole number from 0")
	}
	return &Literal{Bigint, count}
}
