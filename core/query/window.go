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
		if _, twice := w[def.Name]; twice {
			b.failAs(def.Location, Mismatch, "42P20", "the window %s is defined twice", access.Quote(def.Name))
		}
		w[def.Name] = b.builtOn(def, w)
	}
	return w
}

// namedWindow finds a window by its name.
func (b *binder) namedWindow(name string, at int32, w windows) *pg.WindowDef {
	def, ok := w[name]
	if !ok {
		b.fail(at, Unknown, "there is no window %s", access.Quote(name))
	}
	return def
}

// builtOn is a window that is built on another, written out: the partition is the other's,
// and so is the order where the other has one (ISO/IEC 9075-2, 7.11).
func (b *binder) builtOn(def *pg.WindowDef, w windows) *pg.WindowDef {
	if def.Refname == "" {
		return def
	}
	base := b.namedWindow(def.Refname, def.Location, w)
	switch {
	case len(def.PartitionClause) > 0:
		b.failAs(def.Location, Mismatch, "42P20", "cannot override PARTITION BY clause of window %s", access.Quote(def.Refname))
	case len(def.OrderClause) > 0 && len(base.OrderClause) > 0:
		b.failAs(def.Location, Mismatch, "42P20", "cannot override ORDER BY clause of window %s", access.Quote(def.Refname))
	case base.FrameOptions&frameNonDefault != 0:
		b.failAs(def.Location, Mismatch, "42P20", "cannot copy window %s because it has a frame clause", access.Quote(def.Refname))
	}
	out := &pg.WindowDef{Name: def.Name, PartitionClause: base.PartitionClause, OrderClause: def.OrderClause,
		FrameOptions: def.FrameOptions, StartOffset: def.StartOffset, EndOffset: def.EndOffset, Location: def.Location}
	if len(base.OrderClause) > 0 {
		out.OrderClause = base.OrderClause
	}
	return out
}

func (b *binder) window(def *pg.WindowDef, s *scope, w windows) *Window {
	if def.Name != "" {
		def = b.namedWindow(def.Name, def.Location, w)
	} else {
		def = b.builtOn(def, w)
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
			b.failAs(at, Mismatch, "42P20", "RANGE with a distance needs just one expression in ORDER BY")
		}
		to := order[0].Expr.Type()
		if to != nil && to.Category == 'D' {
			to = sqltype.Interval
		}
		e = b.convertLiteral(e, to, at)
		b.plain(e, at, "a window frame")
		return e
	}
	if b.exact {
		e = b.convertLiteral(e, Bigint, at)
	}
	l, ok := e.(*Literal)
	count, isInt := ValueOf(l).(int64)
	if !ok || !isInt || count < 0 {
		b.failAs(at, Mismatch, "22013", "a window frame's distance is a whole number from 0")
	}
	return &Literal{Bigint, count}
}
