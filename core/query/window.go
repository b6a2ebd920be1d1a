package query

import (
	"fmt"
	"strings"

	pg "github.com/pganalyze/pg_query_go/v6"

	"gneiss/core/access"
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
	out.Frame = b.frame(def)
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

// frame writes the frame clause.
func (b *binder) frame(def *pg.WindowDef) string {
	o := def.FrameOptions
	if o&frameNonDefault == 0 {
		return ""
	}
	if o&frameExclusions != 0 {
		b.unsupported(def.Location, "EXCLUDE in a window frame")
	}
	unit := map[int32]string{frameRange: "RANGE", frameRows: "ROWS", frameGroups: "GROUPS"}[o&(frameRange|frameRows|frameGroups)]
	bound := func(unbounded, current, preceding, following int32, unboundedText string, offset *pg.Node) string {
		switch {
		case o&unbounded != 0:
			return unboundedText
		case o&current != 0:
			return "CURRENT ROW"
		case o&(preceding|following) == 0:
			b.unsupported(def.Location, "this window frame")
		}
		if unit == "RANGE" {
			b.unsupported(def.Location, "RANGE with a distance")
		}
		l, ok := b.expr(offset, &scope{}).(*Literal)
		n, isInt := ValueOf(l).(int64)
		if !ok || !isInt || n < 0 {
			b.fail(def.Location, Mismatch, "a window frame's distance is a whole number from 0")
		}
		if o&preceding != 0 {
			return fmt.Sprintf("%d PRECEDING", n)
		}
		return fmt.Sprintf("%d FOLLOWING", n)
	}
	start := bound(frameStartUnbounded, frameStartCurrent, frameStartPreceding, frameStartFollowing, "UNBOUNDED PRECEDING", def.StartOffset)
	end := "CURRENT ROW"
	if o&frameBetween != 0 {
		end = bound(frameEndUnbounded, frameEndCurrent, frameEndPreceding, frameEndFollowing, "UNBOUNDED FOLLOWING", def.EndOffset)
	}
	return strings.Join([]string{unit, "BETWEEN", start, "AND", end}, " ")
}
