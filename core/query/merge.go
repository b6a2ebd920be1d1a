package query

import (
	"slices"

	pg "github.com/pganalyze/pg_query_go/v6"

	"gneiss/core/access"
)

// A Merge is what MERGE does with each row of a source: where rows of the table meet a
// condition with it, and where none does (ISO/IEC 9075-2, 14.12).
type Merge struct {
	Source From
	On     Expr
	When   []MergeWhen
}

// A MergeWhen is one thing that a MERGE does.
type MergeWhen struct {
	Matched bool
	If      Expr             // nil: always
	Verb    access.Privilege // zero: nothing
	Columns []int            // those that are set
	Row     []Expr           // what they are set to; of an INSERT nil: DEFAULT VALUES
}

// merging binds a MERGE. What it leaves cannot be looked at row by row, so it is refused where row
// policies would have to.
func (b *binder) merging(s *pg.MergeStmt) *Write {
	w := &Write{Verb: access.Update, Merge: &Merge{}}
	if s.WithClause != nil {
		q := &Query{}
		b.with(q, s.WithClause, nil)
		w.With = q.With
	}
	if len(s.ReturningList) > 0 {
		b.unsupported(-1, "RETURNING of MERGE")
	}
	target := b.target(w, s.Relation)
	if g := &w.Target.governance; !w.Target.opaque && (!g.Open() || !g.Write.Open()) {
		b.unsupported(s.Relation.Location, "MERGE into a table with row policies (INSERT, UPDATE and DELETE do the same)")
	}
	source := &scope{}
	item, inner := b.fromItem(s.SourceRelation, nil, source)
	b.merge(source, inner, locate(s.SourceRelation))
	both := &scope{relations: slices.Clone(target.relations), columns: slices.Clone(target.columns)}
	b.merge(both, inner, locate(s.SourceRelation))
	w.Merge.Source = item
	w.Merge.On = b.condition(s.JoinCondition, both, "ON")
	b.plain(w.Merge.On, locate(s.JoinCondition), "ON")
	for i, n := range s.MergeWhenClauses {
		when := b.mergeWhen(w, n.GetMergeWhenClause(), both, source)
		if w.Merge.When = append(w.Merge.When, when); i == 0 && when.Verb != 0 {
			w.Verb = when.Verb
		}
	}
	return w
}

func (b *binder) mergeWhen(w *Write, c *pg.MergeWhenClause, both, source *scope) MergeWhen {
	names := both
	out := MergeWhen{Matched: c.MatchKind == pg.MergeMatchKind_MERGE_WHEN_MATCHED}
	switch {
	case c.Override > pg.OverridingKind_OVERRIDING_NOT_SET:
		b.unsupported(-1, "OVERRIDING")
	case c.MatchKind == pg.MergeMatchKind_MERGE_WHEN_NOT_MATCHED_BY_TARGET:
		names = source // there is no row of the table
	case !out.Matched:
		b.unsupported(-1, "WHEN NOT MATCHED BY SOURCE")
	}
	if c.Condition != nil {
		out.If = b.condition(c.Condition, names, "WHEN")
		b.plain(out.If, locate(c.Condition), "WHEN")
	}
	one := &Write{Target: w.Target}
	switch c.CommandType {
	case pg.CmdType_CMD_UPDATE:
		one.Verb = access.Update
		b.assignments(one, c.TargetList, names)
		out.Row = one.Rows[0]
	case pg.CmdType_CMD_INSERT:
		one.Verb = access.Insert
		b.mergeInsert(one, c, names)
		if len(one.Rows) > 0 {
			out.Row = one.Rows[0]
		}
	case pg.CmdType_CMD_DELETE:
		one.Verb = access.Delete
		if !b.verdict(one).Allowed.Has(access.Delete) {
			b.need(access.Delete, w.Target.Table.ID)
		}
	}
	out.Verb, out.Columns = one.Verb, one.Columns
	return out
}

func (b *binder) mergeInsert(one *Write, c *pg.MergeWhenClause, names *scope) {
	if len(c.Values) == 0 { // DEFAULT VALUES
		if !b.verdict(one).Allowed.Has(access.Insert) {
			b.need(access.Insert, one.Target.Table.ID)
		}
		return
	}
	for _, n := range c.TargetList {
		t := n.GetResTarget()
		if len(t.Indirection) > 0 {
			b.unsupported(t.Location, "a part of a column")
		}
		b.sets(one, t.Name, t.Location)
	}
	if len(c.TargetList) == 0 {
		for _, column := range columnsOf(one.Target)[:min(len(c.Values), len(columnsOf(one.Target)))] {
			b.sets(one, column.name, -1)
		}
	}
	b.fits(one, len(c.Values), locate(c.Values[0]))
	row := make([]Expr, len(c.Values))
	for i, n := range c.Values {
		row[i] = b.value(one, i, n, names)
	}
	one.Rows = append(one.Rows, row)
}

// governMerge notes what each part of a MERGE does with the table, and refuses what its keys
// could tell.
func (b *binder) governMerge(w *Write) []TableUse {
	r := w.Target
	if !r.governance.Untouched() {
		r.Governed = b.governTable(r)
	}
	var uses []TableUse
	for _, when := range w.Merge.When {
		if when.Verb == 0 {
			continue
		}
		one := &Write{Verb: when.Verb, Target: r, Columns: when.Columns}
		b.guardKeys(one, false)
		if one.Check != nil {
			b.fail(-1, Unsupported, "this MERGE sets a foreign key to rows of which some may be hidden from you; INSERT and UPDATE look at each row, and MERGE cannot")
		}
		use := TableUse{Table: r.Table.ID, Governance: r.governance, Verb: when.Verb}
		for _, i := range when.Columns {
			use.Written = append(use.Written, r.Columns[i].ID)
		}
		uses = append(uses, use)
	}
	if len(uses) == 0 {
		b.fail(-1, Mismatch, "this MERGE does nothing")
	}
	for i, c := range r.Columns {
		if r.Used[i] {
			uses[0].Columns = append(uses[0].Columns, c.ID)
		}
	}
	return uses
}
