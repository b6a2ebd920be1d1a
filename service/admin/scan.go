package admin

import (
	"context"
	"strings"

	"gneiss/core/access"
	"gneiss/core/policy"
	"gneiss/core/sqltype"
	"gneiss/service/audit"
	"gneiss/service/fault"
	"gneiss/service/identity"
	"gneiss/service/platform"
	"gneiss/service/say"
	"gneiss/source"
	"gneiss/wire"
)

// closedBy says which policies close the table of a column that is gone.
func closedBy(st *platform.State, path string) string {
	o, err := st.Model.Lookup(path)
	if err != nil || o.Kind != access.Column {
		return ""
	}
	if names := st.Treating(o.ID); len(names) > 0 {
		return say.ClosedByPolicy.With(strings.Join(names, ", "))
	}
	return ""
}

// mostNamed is how many differences a scan names.
const mostNamed = 20

// Scan looks at a source again and takes what appeared, changed or went missing
// into the model.
func (s *Service) Scan(ctx context.Context, c identity.Caller, name string, in wire.Change) (wire.Changed, error) {
	st := s.platform.Current()
	p, err := s.identity.ViewerAt(st, c, wire.Standpoint{})
	if err != nil {
		return wire.Changed{}, err
	}
	o, err := s.identity.Seen(p, access.Quote(name))
	if err != nil {
		return wire.Changed{}, err
	}
	if o.Kind != access.Source {
		return wire.Changed{}, fault.New(fault.Invalid, "wrong_level", "%s is a %s; a scan needs a source", name, o.Kind)
	}
	if !s.identity.Manages(st, c, o.ID) {
		return wire.Changed{}, s.identity.Refuse(c, audit.Change, "a scan of "+name, identity.Wants(st, access.Manage, o.ID))
	}
	src, err := s.gateway.Source(ctx, o.ID)
	if err != nil {
		return wire.Changed{}, err
	}
	tables, routines, err := lookAt(ctx, src)
	if err != nil {
		return wire.Changed{}, err
	}
	changes := append(found(st, name, tables, routines), gone(st, o, tables, routines)...)
	scan := order{
		caller:  c,
		Change:  in,
		changes: changes,
		says:    []string{say.Scanned.With(name, say.Count(tablesAmong(tables), "table"), say.Count(len(changes), "difference"))},
	}
	for _, what := range changes[:min(len(changes), mostNamed)] {
		switch what := what.(type) {
		case access.AddObject:
			scan.notes = append(scan.notes, say.ThereIsNow.With(what.Path))
		case access.MissObject:
			scan.notes = append(scan.notes, say.IsMissing.With(what.Path)+closedBy(st, what.Path))
		case policy.PutRelationship:
			scan.notes = append(scan.notes, say.BelongsTo.With(strings.Join(what.From, ", "), strings.Join(what.To, ", ")))
		}
	}
	if more := len(changes) - mostNamed; more > 0 {
		scan.notes = append(scan.notes, say.AndMore.With(more))
	}
	return s.carryOut(ctx, scan)
}

// lookAt is what a source has now.
func lookAt(ctx context.Context, src source.Source) (tables []source.Table, routines []source.Routine, err error) {
	if tables, err = src.Scan(ctx); err == nil {
		routines, err = src.Routines(ctx)
	}
	return tables, routines, err
}

// found lists the changes for what a scan found that the model does not have as
// it is.
func found(st *platform.State, name string, tables []source.Table, routines []source.Routine) []platform.Change {
	var changes []platform.Change
	added := map[string]bool{}
	add := func(o access.AddObject) {
		old, err := st.Model.Lookup(o.Path)
		if added[o.Path] ||
			err == nil && !old.Missing && old.Type == o.Type && old.NotNull == o.NotNull && old.Key == o.Key && old.Unique == o.Unique && old.Indexed == o.Indexed &&
				old.Declared == o.Declared && old.Comment == o.Comment && old.Collation == o.Collation {
			return
		}
		added[o.Path] = true
		changes = append(changes, o)
	}
	for _, t := range tables {
		if o, err := st.Model.Lookup(access.JoinPath(name, t.Schema, t.Name)); err == nil && o.Kind == access.View {
			continue // the name is a view's; the table is found once the view has another
		}
		if t.Kind == databaseView && !adopted(st, name, t) {
			continue
		}
		add(access.AddObject{Path: access.JoinPath(name, t.Schema), Kind: "schema"})
		table := access.JoinPath(name, t.Schema, t.Name)
		add(access.AddObject{Path: table, Kind: "table", Declared: t.Kind, Comment: t.Comment})
		for _, c := range t.Columns {
			add(c.Object(table))
		}
	}
	for _, r := range routines {
		add(access.AddObject{Path: access.JoinPath(name, r.Schema), Kind: "schema"})
		add(access.AddObject{Path: access.JoinPath(name, r.Schema, r.Name), Kind: "routine", Type: r.Result, Declared: r.Signature, Comment: r.Comment})
	}
	return append(changes, related(st, name, tables)...)
}

// tablesAmong counts what is no view.
func tablesAmong(tables []source.Table) int {
	n := 0
	for _, t := range tables {
		if t.Kind != databaseView {
			n++
		}
	}
	return n
}

// databaseView is the kind of a table that is a view of the database's own.
const databaseView = "view"

// adopted reports whether an administrator has taken a view of the database in.
func adopted(st *platform.State, name string, t source.Table) bool {
	o, err := st.Model.Lookup(access.JoinPath(name, t.Schema, t.Name))
	return err == nil && o.Kind == access.Table && !o.Missing && o.Declared == databaseView
}

// related lists the relationships that foreign keys state and that the model does
// not know.
func related(st *platform.State, name string, tables []source.Table) []platform.Change {
	known := map[string]bool{}
	key := func(from, to []string) string { return strings.Join(from, " ") + " > " + strings.Join(to, " ") }
	for _, r := range st.Policies.Relationships() {
		known[key(st.Model.PathsOf(r.From), st.Model.PathsOf(r.To))] = true
	}
	places := map[[2]string]source.Table{}
	for _, t := range tables {
		places[[2]string{t.Schema, t.Name}] = t
	}
	var changes []platform.Change
	for _, t := range tables {
		for _, k := range t.Keys {
			c := policy.PutRelationship{}
			for i := range k.Columns {
				c.From = append(c.From, access.JoinPath(name, t.Schema, t.Name, k.Columns[i]))
				c.To = append(c.To, access.JoinPath(name, k.Schema, k.Table, k.To[i]))
			}
			if id := key(c.From, c.To); !known[id] && scanned(places, t, k) {
				known[id] = true
				changes = append(changes, c)
			}
		}
	}
	return changes
}

// scanned reports whether the scan found what a foreign key leads to, in columns
// of the same types.
func scanned(places map[[2]string]source.Table, child source.Table, k source.ForeignKey) bool {
	typeOf := func(t source.Table, name string) string {
		for _, c := range t.Columns {
			if c.Name == name {
				return c.Type
			}
		}
		return ""
	}
	parent, ok := places[[2]string{k.Schema, k.Table}]
	for i, to := range k.To {
		if typ := typeOf(parent, to); typ == "" || !sqltype.Alike(typ, typeOf(child, k.Columns[i])) {
			return false
		}
	}
	return ok
}

// gone lists the changes for what a scan no longer found.
func gone(st *platform.State, root *access.Object, tables []source.Table, routines []source.Routine) []platform.Change {
	there := map[string]bool{}
	for _, r := range routines {
		there[access.JoinPath(root.Name, r.Schema)] = true
		there[access.JoinPath(root.Name, r.Schema, r.Name)] = true
	}
	for _, t := range tables {
		there[access.JoinPath(root.Name, t.Schema)] = true
		there[access.JoinPath(root.Name, t.Schema, t.Name)] = true
		for _, c := range t.Columns {
			there[access.JoinPath(root.Name, t.Schema, t.Name, c.Name)] = true
		}
	}
	var changes []platform.Change
	var visit func(id access.ObjectID)
	visit = func(id access.ObjectID) {
		for _, child := range st.Model.Object(id).Children {
			o := st.Model.Object(child)
			if o.Kind == access.View {
				continue // which is no table of the source's
			}
			if path := st.Model.Path(child); !there[path] && !o.Missing {
				changes = append(changes, access.MissObject{Path: path})
				continue
			}
			visit(child)
		}
	}
	visit(root.ID)
	return changes
}
