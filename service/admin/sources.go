package admin

import (
	"context"
	"errors"
	"strings"

	"gneiss/core/access"
	"gneiss/core/emit"
	"gneiss/service/fault"
	"gneiss/service/identity"
	"gneiss/service/platform"
	"gneiss/service/say"
	"gneiss/store"
	"gneiss/wire"
)

// AddSource connects a folder of SQLite files, one a schema, or a database of a
// PostgreSQL server as a source, and scans it. A folder is below the data folder
// when it is not absolute. Without a caller it is the service's own doing.
func (s *Service) AddSource(ctx context.Context, c identity.Caller, in wire.SourceRequest) (wire.Changed, error) {
	st := s.platform.Current()
	if err := s.identity.Administers(st, c, "the source "+in.Name); err != nil {
		return wire.Changed{}, err
	}
	if parts, err := access.ParsePath(in.Name); err != nil || len(parts) != 1 || in.Location == "" {
		return wire.Changed{}, fault.New(
			fault.Invalid,
			"bad_source",
			"a source needs a plain name and a location: a folder of SQLite files, or postgresql://ACCOUNT@HOST:PORT/DATABASE",
		)
	}
	if o, err := st.Model.Lookup(in.Name); err == nil && !o.Missing {
		return wire.Changed{}, fault.New(
			fault.Conflict,
			"exists",
			"there is a source %s already; to look at it again: gneiss source scan %s",
			in.Name,
			in.Name,
		)
	}
	r := store.SourceRecord{Name: in.Name, Kind: kindOf(in.Location), Location: in.Location}
	src, err := s.gateway.OpenSource(r)
	if err != nil {
		return wire.Changed{}, fault.New(fault.Invalid, "bad_source", "%v", err)
	}
	tables, routines, err := lookAt(ctx, src)
	count := tablesAmong(tables)
	if err == nil && count == 0 {
		err = fault.New(fault.Invalid, "empty_source", "there are no tables in %s: %s", s.gateway.Location(r), map[string]string{
			emit.SQLite:   "it should hold SQLite files, one a schema, named SCHEMA.db",
			emit.Postgres: "the account may read none; on the server, GRANT it USAGE on the schemas and SELECT on the tables"}[r.Kind])
	}
	if err := errors.Join(err, src.Close()); err != nil {
		return wire.Changed{}, err
	}
	o := order{caller: c, Change: in.Change, says: []string{say.Connected.With(in.Name, say.Count(count, "table"))},
		changes: append([]platform.Change{access.AddObject{Path: in.Name, Kind: "source", Type: r.Kind}}, found(st, in.Name, tables, routines)...)}
	o.also = func(*platform.State) ([]store.Write, error) { return []store.Write{store.AddSource(r)}, nil }
	out, err := s.carryOut(ctx, o)
	if err != nil || !out.Done {
		return out, err
	}
	object, err := s.platform.Current().Model.Lookup(in.Name)
	if err != nil {
		return out, err
	}
	return out, s.gateway.Connect(object.ID, r)
}

// kindOf is the kind of database that a location leads to.
func kindOf(location string) string {
	if strings.HasPrefix(location, "postgresql:") || strings.HasPrefix(location, "postgres:") {
		return emit.Postgres
	}
	return emit.SQLite
}

// managedSource finds a source by its name, for who administers the platform.
func (s *Service) managedSource(ctx context.Context, c identity.Caller, name string) (*access.Object, store.SourceRecord, error) {
	st := s.platform.Current()
	var r store.SourceRecord
	if err := s.identity.Administers(st, c, "the source "+name); err != nil {
		return nil, r, err
	}
	o, err := st.Model.Lookup(access.Quote(name))
	if err != nil {
		return nil, r, err
	}
	if r, err = s.gateway.SourceRecord(ctx, name); err == nil && o.Kind != access.Source {
		err = fault.New(fault.Invalid, "wrong_level", "%s is a %s, not a source", name, o.Kind)
	}
	return o, r, err
}

// SetSource changes where a source is: its database has moved, or its account or password
// file is another. What it holds is looked at again.
func (s *Service) SetSource(ctx context.Context, c identity.Caller, name string, in wire.SourceSettings) (wire.Changed, error) {
	o, r, err := s.managedSource(ctx, c, name)
	if err != nil {
		return wire.Changed{}, err
	}
	if kindOf(in.Location) != r.Kind {
		return wire.Changed{}, fault.New(
			fault.Invalid,
			"bad_source",
			"%s is of the kind %s, and %s is not; connect it under another name",
			name,
			r.Kind,
			in.Location,
		)
	}
	r.Location = in.Location
	src, err := s.gateway.OpenSource(r)
	if err != nil {
		return wire.Changed{}, fault.New(fault.Invalid, "bad_source", "%v", err)
	}
	tables, routines, err := lookAt(ctx, src)
	if err == nil && tablesAmong(tables) == 0 {
		err = fault.New(fault.Invalid, "empty_source", "there are no tables in %s, so %s stays where it is", s.gateway.Location(r), name)
	}
	if err := errors.Join(err, src.Close()); err != nil {
		return wire.Changed{}, err
	}
	st := s.platform.Current()
	changes := append(found(st, name, tables, routines), gone(st, o, tables, routines)...)
	if len(changes) == 0 { // of which none is recorded
		changes = []platform.Change{access.AddObject{Path: access.Quote(name), Kind: "source", Type: r.Kind}}
	}
	out, err := s.carryOut(ctx, order{caller: c, Change: in.Change, changes: changes,
		says: []string{
			say.MovedSource.With(name,
				s.gateway.Location(r),
				say.Count(tablesAmong(tables), "table"),
				say.Count(len(changes), "difference"),
			),
		},
		also: func(*platform.State) ([]store.Write, error) { return []store.Write{store.SetSource(r)}, nil }})
	if err != nil || !out.Done {
		return out, err
	}
	s.gateway.Disconnect(o.ID)
	return out, s.gateway.Connect(o.ID, r)
}

// RemoveSource disconnects a source. What is granted on it and said of it stays, without
// effect, for a source that is connected under its name again.
func (s *Service) RemoveSource(ctx context.Context, c identity.Caller, name string, in wire.Change) (wire.Changed, error) {
	o, _, err := s.managedSource(ctx, c, name)
	if err != nil {
		return wire.Changed{}, err
	}
	st := s.platform.Current()
	var changes []platform.Change
	var miss func(id access.ObjectID)
	tables := 0
	miss = func(id access.ObjectID) {
		for _, child := range st.Model.Object(id).Children {
			if st.Model.Object(child).Kind == access.Table {
				tables++
			}
			if st.Model.Object(child).Kind != access.View {
				miss(child)
			}
		}
		if !st.Model.Object(id).Missing {
			changes = append(changes, access.MissObject{Path: st.Model.Path(id)})
		}
	}
	miss(o.ID)
	out, err := s.carryOut(ctx, order{caller: c, Change: in, changes: changes,
		says: []string{say.Disconnected.With(name, say.Count(tables, "table"))},
		notes: []string{
			say.StaysForSource.With(),
		},
		also: func(*platform.State) ([]store.Write, error) { return []store.Write{store.RemoveSource(name)}, nil }})
	if err != nil || !out.Done {
		return out, err
	}
	s.gateway.Disconnect(o.ID)
	return out, nil
}
