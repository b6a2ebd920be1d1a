package admin

import (
	"context"
	"slices"
	"strings"

	"gneiss/core/access"
	"gneiss/service/fault"
	"gneiss/service/identity"
	"gneiss/service/platform"
	"gneiss/service/say"
	"gneiss/source"
	"gneiss/wire"
)

// A view of the database's own reads its tables past Gneiss, with the rights of its owner:
// policies on them do not reach it. So a scan leaves it out until an administrator, who is
// told what it reads, takes it in. It is then a table like others, with policies of its own.

// Adopt takes a view of a source's database in.
func (s *Service) Adopt(ctx context.Context, c identity.Caller, name string, in wire.AdoptRequest) (wire.Changed, error) {
	o, _, err := s.managedSource(ctx, c, name)
	if err != nil {
		return wire.Changed{}, err
	}
	schema, view, err := viewName(in.View)
	if err != nil {
		return wire.Changed{}, err
	}
	src, err := s.gateway.Source(ctx, o.ID)
	if err != nil {
		return wire.Changed{}, err
	}
	tables, err := src.Scan(ctx)
	if err != nil {
		return wire.Changed{}, err
	}
	i := slices.IndexFunc(tables, func(t source.Table) bool { return t.Schema == schema && t.Name == view && t.Kind == databaseView })
	if i < 0 {
		e := &access.NotFound{Kind: "view of the database", Name: in.View}
		for _, t := range tables {
			if t.Kind == databaseView {
				e.Known = append(e.Known, access.JoinPath(t.Schema, t.Name))
			}
		}
		return wire.Changed{}, e
	}
	reads, err := src.Reads(ctx, schema, view)
	if err != nil {
		return wire.Changed{}, err
	}
	t := tables[i]
	path := access.JoinPath(name, t.Schema, t.Name)
	if old, err := s.platform.Current().Model.Lookup(path); err == nil && !old.Missing {
		return wire.Changed{}, fault.New(fault.Conflict, "exists", "%s is there already", path)
	}
	changes := []platform.Change{access.AddObject{Path: access.JoinPath(name, t.Schema), Kind: "schema"},
		access.AddObject{Path: path, Kind: "table", Declared: databaseView, Comment: t.Comment}}
	for _, column := range t.Columns {
		changes = append(changes, column.Object(path))
	}
	return s.carryOut(
		ctx,
		order{caller: c, Change: in.Change, changes: changes, says: []string{say.TookIn.With(path)}, notes: []string{readsNote(reads)}},
	)
}

// readsNote says what a view reads, and past whom.
func readsNote(r source.ViewReads) string {
	what := say.NoTable.With()
	if len(r.Tables) > 0 {
		what = strings.Join(r.Tables, ", ")
	}
	whose := say.ItsOwner.With(r.Owner)
	if r.Reader {
		whose = say.TheAccount.With()
	}
	return say.ViewReads.With(what, whose)
}

func viewName(path string) (schema, view string, err error) {
	parts, err := access.ParsePath(path)
	if err != nil || len(parts) != 2 {
		return "", "", fault.New(fault.Invalid, "bad_view", "a view of the database is named SCHEMA.VIEW, not %q", path)
	}
	return parts[0], parts[1], nil
}

// Disown leaves a view of a source's database out again. What is granted on it stays, without
// effect.
func (s *Service) Disown(ctx context.Context, c identity.Caller, name, view string, in wire.Change) (wire.Changed, error) {
	if _, _, err := s.managedSource(ctx, c, name); err != nil {
		return wire.Changed{}, err
	}
	schema, view, err := viewName(view)
	if err != nil {
		return wire.Changed{}, err
	}
	path := access.JoinPath(name, schema, view)
	o, err := s.platform.Current().Model.Lookup(path)
	if err != nil {
		return wire.Changed{}, err
	}
	if o.Declared != databaseView || o.Missing {
		return wire.Changed{}, fault.New(fault.Invalid, "wrong_kind", "%s is no view of the database that was taken in", path)
	}
	return s.carryOut(
		ctx,
		order{caller: c, Change: in, changes: []platform.Change{access.MissObject{Path: path}}, says: []string{say.LeftOut.With(path)},
			notes: []string{say.StaysOnView.With()}},
	)
}

// DatabaseViews lists the views of a source's database, with what they read.
func (s *Service) DatabaseViews(ctx context.Context, c identity.Caller, name string) (wire.List[wire.DatabaseView], error) {
	out := wire.List[wire.DatabaseView]{Items: []wire.DatabaseView{}}
	o, _, err := s.managedSource(ctx, c, name)
	if err != nil {
		return out, err
	}
	src, err := s.gateway.Source(ctx, o.ID)
	if err != nil {
		return out, err
	}
	tables, err := src.Scan(ctx)
	if err != nil {
		return out, err
	}
	for _, t := range tables {
		if t.Kind != databaseView {
			continue
		}
		reads, err := src.Reads(ctx, t.Schema, t.Name)
		if err != nil {
			return out, err
		}
		out.Items = append(
			out.Items,
			wire.DatabaseView{View: access.JoinPath(t.Schema, t.Name), Adopted: adopted(s.platform.Current(), name, t), Says: readsNote(reads)},
		)
	}
	return out, nil
}
