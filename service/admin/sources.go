package admin

import (
	"context"
	"errors"
	"fmt"
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
	if _, err := st.Model.Lookup(in.Name); err == nil {
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
	if err == nil && len(tables) == 0 {
		err = fault.New(fault.Invalid, "empty_source", "there are no tables in %s: %s", s.gateway.Location(r), map[string]string{
			emit.SQLite: "it should hold SQLite files, one a schema, named SCHEMA.db", emit.Postgres: "the account may read none; on the server, GRANT it USAGE on the schemas and SELECT on the tables"}[r.Kind])
	}
	if err := errors.Join(err, src.Close()); err != nil {
		return wire.Changed{}, err
	}
	o := order{caller: c, Change: in.Change, says: []string{fmt.Sprintf("connected the source %s: %s", in.Name, say.Count(len(tables), "table"))},
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
