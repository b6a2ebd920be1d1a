package query

import (
	pg "github.com/pganalyze/pg_query_go/v6"

	"gneiss/core/access"
	"gneiss/core/policy"
)

// A Conflict is what an INSERT does with a row whose key is taken: nothing, or a
// change of the row that has it.
type Conflict struct {
	Key      []int // columns of the table; none: any key
	Columns  []int // those that are set; none: nothing is done
	Row      []Expr
	Where    Expr
	Proposed *Relation // the row that was to be inserted
}

// anyOf is the condition that rows of other tables meet a condition.
func anyOf(items []From, where Expr) Expr {
	one := &Literal{Boolean, true} // which is no argument
	return &Exists{Query: &Query{Body: &Select{Items: []Expr{one}, From: items, Where: where}, Columns: []Column{{Name: "there", Type: Boolean}}}}
}

// onConflict binds ON CONFLICT. Whether it could tell of keys that are not there for the
// session is seen once the policies are: see guardConflict.
func (b *binder) onConflict(w *Write, n *pg.OnConflictClause, names *scope) {
	r := w.Target
	if r.opaque || len(b.needs) > 0 {
		return
	}
	c := &Conflict{}
	w.Conflict = c
	if n.Infer != nil {
		b.conflictKey(c, r, n.Infer)
	}
	if n.Action == pg.OnConflictAction_ONCONFLICT_NOTHING {
		return
	}
	if len(c.Key) == 0 {
		b.fail(n.Location, Mismatch, "ON CONFLICT DO UPDATE needs the columns of the key: ON CONFLICT (id) DO UPDATE …")
	}
	c.Proposed = &Relation{Alias: "excluded", Columns: r.Columns}
	all := &scope{relations: append([]*Relation{c.Proposed}, names.relations...), columns: names.columns}
	set := &Write{Verb: access.Update, Target: r}
	b.assignments(set, n.TargetList, all)
	c.Columns, c.Row = set.Columns, set.Rows[0]
	if n.WhereClause != nil {
		c.Where = b.condition(n.WhereClause, all, "WHERE")
		b.plain(c.Where, locate(n.WhereClause), "WHERE")
	}
}

// conflictKey binds the columns whose values may be taken. They must be seen in
// clear: what is taken would tell of the values behind a treatment.
func (b *binder) conflictKey(c *Conflict, r *Relation, n *pg.InferClause) {
	if n.Conname != "" || n.WhereClause != nil {
		b.unsupported(n.Location, "ON CONFLICT with a constraint's name or a condition")
	}
	for _, item := range n.IndexElems {
		e := item.GetIndexElem()
		if e.Name == "" || len(e.Collation) > 0 || len(e.Opclass) > 0 {
			b.unsupported(n.Location, "an expression as a key")
		}
		ref, ok := b.columnOf(r, e.Name, n.Location).(*ColumnRef)
		if !ok {
			return
		}
		if d := r.governance.Columns[r.Columns[ref.Col].ID]; d.Treatment.Kind != policy.Clear {
			b.fail(n.Location, Unsupported, "column %s cannot be the key by who sees it treated (%s)", access.Quote(e.Name), d.Treatment)
		}
		c.Key = append(c.Key, ref.Col)
	}
}
