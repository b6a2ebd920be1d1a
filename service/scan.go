package service

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"

	"gneiss/core/access"
	"gneiss/core/policy"
	"gneiss/core/query"
	"gneiss/source"
	"gneiss/store"
	"gneiss/wire"
)

// Bootstrap makes the first administrator of a new platform. It is refused once
// there is a user.
func (s *Service) Bootstrap(ctx context.Context, name, password string) (Caller, error) {
	if len(s.state().model.Subjects(access.User)) > 0 {
		return Caller{}, problem(409, "exists", "Not possible", "the platform has users already")
	}
	_, err := s.PutSubject(ctx, Caller{}, wire.SubjectRequest{Subject: "user:" + name, Password: password, Title: new("administrator")}, false)
	if err != nil {
		return Caller{}, err
	}
	if _, err := s.Join(ctx, Caller{}, wire.Member{Member: "user:" + name, Of: access.Administrator}, false); err != nil {
		return Caller{}, err
	}
	user, err := s.state().model.FindSubject("user:" + name)
	if err != nil {
		return Caller{}, err
	}
	return Caller{User: user.ID}, nil
}

// ActAs is a caller who is a subject: for the making of platforms, where nobody
// signs in.
func (s *Service) ActAs(ref string) (Caller, error) {
	subject, err := s.state().model.FindSubject(ref)
	if err != nil {
		return Caller{}, err
	}
	return Caller{User: subject.ID}, nil
}

// Empty reports whether the platform has no user yet.
func (s *Service) Empty() bool { return len(s.state().model.Subjects(access.User)) == 0 }

// AddSource connects a folder of SQLite files, one a schema, or a database of a
// PostgreSQL server as a source, and scans it. A folder is below the data folder
// when it is not absolute. Without a caller it is the service's own doing.
func (s *Service) AddSource(ctx context.Context, c Caller, in wire.SourceRequest) (wire.Changed, error) {
	st := s.state()
	if err := s.administers(st, c, "the source "+in.Name); err != nil {
		return wire.Changed{}, err
	}
	if parts, err := access.ParsePath(in.Name); err != nil || len(parts) != 1 || in.Location == "" {
		return wire.Changed{}, problem(422, "bad_source", "Not possible", "a source needs a plain name and a location: a folder of SQLite files, or postgresql://ACCOUNT@HOST:PORT/DATABASE")
	}
	if _, err := st.model.Lookup(in.Name); err == nil {
		return wire.Changed{}, problem(409, "exists", "Not possible", "there is a source %s already; to look at it again: gneiss source scan %s", in.Name, in.Name)
	}
	r := store.SourceRecord{Name: in.Name, Kind: kindOf(in.Location), Location: in.Location}
	src, err := s.openSource(r)
	if err != nil {
		return wire.Changed{}, problem(422, "bad_source", "Not possible", "%v", err)
	}
	tables, err := src.Scan(ctx)
	if err == nil && len(tables) == 0 {
		err = problem(422, "empty_source", "Not possible", "there are no tables in %s: %s", s.location(r), map[string]string{
			query.SQLite: "it should hold SQLite files, one a schema, named SCHEMA.db", query.Postgres: "the account may read none; on the server, GRANT it USAGE on the schemas and SELECT on the tables"}[r.Kind])
	}
	if err := errors.Join(err, src.Close()); err != nil {
		return wire.Changed{}, err
	}
	o := order{caller: c, Change: in.Change, says: []string{fmt.Sprintf("connected the source %s: %s", in.Name, count(len(tables), "table"))},
		changes: append([]change{access.AddObject{Path: in.Name, Kind: "source", Type: r.Kind}}, found(st, in.Name, tables)...)}
	o.also = func(*state) ([]store.Write, error) { return []store.Write{store.AddSource(r)}, nil }
	out, err := s.make(ctx, o)
	if err != nil || !out.Done {
		return out, err
	}
	object, err := s.state().model.Lookup(in.Name)
	if err != nil {
		return out, err
	}
	return out, s.connect(object.ID, r)
}

// kindOf is the kind of database that a location leads to.
func kindOf(location string) string {
	if strings.HasPrefix(location, "postgresql:") || strings.HasPrefix(location, "postgres:") {
		return query.Postgres
	}
	return query.SQLite
}

// Sources lists the sources that the caller sees, with what they are.
func (s *Service) Sources(ctx context.Context, c Caller) (wire.List[wire.Source], error) {
	out := wire.List[wire.Source]{Items: []wire.Source{}}
	p, err := s.standAt(s.state(), c, wire.Standpoint{})
	if err != nil {
		return out, err
	}
	records, err := s.store.Sources(ctx)
	if err != nil {
		return out, err
	}
	for _, r := range records {
		o, err := p.Model.Lookup(access.Quote(r.Name))
		if err != nil || !p.Sees(o.ID) {
			continue
		}
		w := wire.Source{Name: r.Name, Kind: r.Kind}
		p.Model.Tables(o.ID, func(r *access.Object) bool {
			if p.review || p.Sees(r.ID) {
				w.Tables++
			}
			return true
		})
		src, err := s.source(ctx, o.ID)
		if err == nil {
			err = src.Ping(ctx)
		}
		w.Available = err == nil
		if p.review {
			w.Location = s.location(r)
			if err != nil {
				w.Problem = Problem(err).Detail
			}
		}
		out.Items = append(out.Items, w)
	}
	return out, nil
}

// closedBy says which policies close the table of a column that is gone.
func closedBy(st *state, path string) string {
	o, err := st.model.Lookup(path)
	if err != nil || o.Kind != access.Column {
		return ""
	}
	if names := st.treating(o.ID); len(names) > 0 {
		return fmt.Sprintf("; it was treated by %s, so the table is closed to whom that is about until the policy is edited or stopped: what it held may stand under another name now", strings.Join(names, ", "))
	}
	return ""
}

// mostNamed is how many differences a scan names.
const mostNamed = 20

// Scan looks at a source again and takes what appeared, changed or went missing
// into the model.
func (s *Service) Scan(ctx context.Context, c Caller, name string) (wire.Changed, error) {
	st := s.state()
	p, err := s.standAt(st, c, wire.Standpoint{})
	if err != nil {
		return wire.Changed{}, err
	}
	o, err := s.seen(p, access.Quote(name))
	if err != nil {
		return wire.Changed{}, err
	}
	if o.Kind != access.Source {
		return wire.Changed{}, problem(422, "wrong_level", "Not possible", "%s is a %s; a scan takes a source", name, o.Kind)
	}
	if !s.manages(st, c, o.ID) {
		return wire.Changed{}, s.refuse(c, "change", "a scan of "+name, wants(st, access.Manage, o.ID))
	}
	src, err := s.source(ctx, o.ID)
	if err != nil {
		return wire.Changed{}, err
	}
	tables, err := src.Scan(ctx)
	if err != nil {
		return wire.Changed{}, err
	}
	changes := append(found(st, name, tables), gone(st, o, tables)...)
	scan := order{caller: c, changes: changes, says: []string{fmt.Sprintf("scanned %s: %s, %s", name, count(len(tables), "table"), count(len(changes), "difference"))}}
	for _, what := range changes[:min(len(changes), mostNamed)] {
		switch what := what.(type) {
		case access.AddObject:
			scan.notes = append(scan.notes, "there is now "+what.Path)
		case access.MissObject:
			scan.notes = append(scan.notes, what.Path+" is missing; its grants and policies stay, and take no effect"+closedBy(st, what.Path))
		case policy.PutRelationship:
			scan.notes = append(scan.notes, fmt.Sprintf("%s belongs to %s, by a foreign key", strings.Join(what.From, ", "), strings.Join(what.To, ", ")))
		}
	}
	if more := len(changes) - mostNamed; more > 0 {
		scan.notes = append(scan.notes, fmt.Sprintf("and %d more", more))
	}
	return s.make(ctx, scan)
}

// found lists the changes for what a scan found that the model does not have as
// it is.
func found(st *state, name string, tables []source.Table) []change {
	var changes []change
	added := map[string]bool{}
	add := func(o access.AddObject) {
		old, err := st.model.Lookup(o.Path)
		if added[o.Path] || err == nil && !old.Missing && old.Type == o.Type && old.NotNull == o.NotNull && old.Key == o.Key && old.Unique == o.Unique && old.Declared == o.Declared {
			return
		}
		added[o.Path] = true
		changes = append(changes, o)
	}
	for _, t := range tables {
		if o, err := st.model.Lookup(access.JoinPath(name, t.Schema, t.Name)); err == nil && o.Kind == access.View {
			continue // the name is a view's; the table is found once the view has another
		}
		add(access.AddObject{Path: access.JoinPath(name, t.Schema), Kind: "schema"})
		add(access.AddObject{Path: access.JoinPath(name, t.Schema, t.Name), Kind: "table"})
		for _, c := range t.Columns {
			add(access.AddObject{Path: access.JoinPath(name, t.Schema, t.Name, c.Name), Kind: "column", Type: c.Type, NotNull: c.NotNull, Key: c.Key, Unique: c.Unique, Declared: c.Declared})
		}
	}
	return append(changes, related(st, name, tables)...)
}

// related lists the relationships that foreign keys state and that the model does
// not know.
func related(st *state, name string, tables []source.Table) []change {
	known := map[string]bool{}
	key := func(from, to []string) string { return strings.Join(from, " ") + " > " + strings.Join(to, " ") }
	for _, r := range st.policies.Relationships() {
		known[key(st.model.PathsOf(r.From), st.model.PathsOf(r.To))] = true
	}
	var changes []change
	for _, t := range tables {
		for _, k := range t.Keys {
			c := policy.PutRelationship{}
			for i := range k.Columns {
				c.From = append(c.From, access.JoinPath(name, t.Schema, t.Name, k.Columns[i]))
				c.To = append(c.To, access.JoinPath(name, k.Schema, k.Table, k.To[i]))
			}
			if id := key(c.From, c.To); !known[id] && scanned(tables, t, k) {
				known[id] = true
				changes = append(changes, c)
			}
		}
	}
	return changes
}

// scanned reports whether the scan found what a foreign key leads to, in columns
// of the same types.
func scanned(tables []source.Table, child source.Table, k source.ForeignKey) bool {
	typeOf := func(t source.Table, name string) string {
		for _, c := range t.Columns {
			if c.Name == name {
				return c.Type
			}
		}
		return ""
	}
	return slices.ContainsFunc(tables, func(t source.Table) bool {
		if t.Schema != k.Schema || t.Name != k.Table {
			return false
		}
		for i, to := range k.To {
			if typ := typeOf(t, to); typ == "" || typ != typeOf(child, k.Columns[i]) {
				return false
			}
		}
		return true
	})
}

// gone lists the changes for what a scan no longer found.
func gone(st *state, root *access.Object, tables []source.Table) []change {
	there := map[string]bool{}
	for _, t := range tables {
		there[access.JoinPath(root.Name, t.Schema)] = true
		there[access.JoinPath(root.Name, t.Schema, t.Name)] = true
		for _, c := range t.Columns {
			there[access.JoinPath(root.Name, t.Schema, t.Name, c.Name)] = true
		}
	}
	var changes []change
	var visit func(id access.ObjectID)
	visit = func(id access.ObjectID) {
		for _, child := range st.model.Object(id).Children {
			o := st.model.Object(child)
			if o.Kind == access.View {
				continue // which is no table of the source's
			}
			if path := st.model.Path(child); !there[path] && !o.Missing {
				changes = append(changes, access.MissObject{Path: path})
				continue
			}
			visit(child)
		}
	}
	visit(root.ID)
	return changes
}
