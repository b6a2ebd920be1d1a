package query

// guards reports whether the rows that policies leave out must be kept from the
// statement's expressions by a fence: one that fails on a value would tell of it.
// Concatenations fail by what they grow to, and a recursive query can double a
// text at each step.
func (b *binder) guards() bool {
	return b.fenced || b.growth > mostGrowth || b.recurses && b.growth > 0
}

// fencesRead reports whether the tables of a query are fenced. PostgreSQL fails
// on numbers out of range, so there the question is asked of arithmetic as well;
// on SQLite nothing of it fails.
func (b *binder) fencesRead(q *Query) bool {
	return b.guards() || speaks(b.model, b.source) == Postgres && (treatsByArithmetic(b.tables) || exposed(q))
}

// fencesWrite is fencesRead for a statement that changes rows.
func (b *binder) fencesWrite(w *Write) bool {
	if b.guards() || speaks(b.model, b.source) != Postgres {
		return b.guards()
	}
	whole := &Select{From: w.From, Where: w.Where}
	for _, row := range w.Rows {
		whole.Items = append(whole.Items, row...)
	}
	return treatsByArithmetic(append(b.tables, w.Target)) || exposed(&Query{With: w.With, Body: whole}) || w.Query != nil && exposed(w.Query)
}

// treatsByArithmetic reports whether what stands in a column's place can fail.
func treatsByArithmetic(tables []*Relation) bool {
	for _, r := range tables {
		if r.governed == nil {
			continue
		}
		for _, x := range r.governed.treated {
			if failsWithin(x) {
				return true
			}
		}
	}
	return false
}

// exposed reports whether an expression that can fail on a value stands where the
// database may work it out before a table's rows are filtered: in a condition, or
// anywhere in a sub-query, which it may merge with what is around it. A select
// list is worked out last.
func exposed(q *Query) bool {
	found := false
	anywhere := func(q *Query) { found = found || failsAnywhere(q) }
	inside := func(x Expr) { found = found || failsWithin(x) } // of a condition
	last := func(x Expr) {
		anyExpr(x, func(x Expr) bool {
			if s, ok := x.(*Scalar); ok {
				found = found || exposed(s.Query)
			} else if sub := subquery(x); sub != nil {
				anywhere(sub)
			}
			return found
		})
	}
	for _, c := range q.With {
		anywhere(c.Query)
	}
	switch body := q.Body.(type) {
	case *SetOp:
		found = found || exposed(body.L) || exposed(body.R)
	case *Values:
		for _, row := range body.Rows {
			for _, x := range row {
				last(x)
			}
		}
	case *Select:
		eachItem(body.From, func(item From) {
			switch item := item.(type) {
			case *Join:
				inside(item.On)
			case *Relation:
				if item.Query != nil {
					anywhere(item.Query)
				}
			}
		})
		inside(body.Where)
		inside(body.Having)
		for _, list := range [][]Expr{body.Items, body.GroupBy} {
			for _, x := range list {
				last(x)
			}
		}
	}
	for _, o := range q.OrderBy {
		last(o.Expr)
	}
	return found
}

// failsAnywhere reports whether an expression of a query can fail, sub-queries
// included.
func failsAnywhere(q *Query) bool {
	found := false
	eachExpr(q, func(x Expr) { found = found || canFail(x) })
	return found
}

// failsWithin reports whether an expression, or one within it, can fail.
func failsWithin(x Expr) bool {
	return anyExpr(x, func(x Expr) bool {
		sub := subquery(x)
		return canFail(x) || sub != nil && failsAnywhere(sub)
	})
}

// canFail reports whether an operation can fail on PostgreSQL for what a row
// holds: by a result that is out of range. Without a column it cannot tell of any.
func canFail(x Expr) bool {
	switch x := x.(type) {
	case *Binary:
		switch x.Op {
		case "+", "-", "*", "/", "%":
			return readsColumns(x)
		}
	case *Unary:
		return x.Op == "-" && readsColumns(x)
	case *Call:
		return x.Fn.Kind == aggregateFunction && (x.Fn.own || x.Fn.Name == "sum" || x.Fn.Name == "avg")
	}
	return false
}

func readsColumns(x Expr) bool {
	return anyExpr(x, func(x Expr) bool {
		_, ok := x.(*ColumnRef)
		return ok || subquery(x) != nil
	})
}
