package admin

import (
	"context"
	"strings"
	"time"

	"gneiss/core/access"
	"gneiss/core/query"
	"gneiss/service/audit"
	"gneiss/service/fault"
	"gneiss/service/gateway"
	"gneiss/service/identity"
	"gneiss/service/platform"
	"gneiss/service/say"
	"gneiss/store"
	"gneiss/wire"
)

// Command runs a statement of ISO SQL that changes the model. It makes the same
// revision, with the same checks, as the request that it stands for; a statement
// with several parts is one revision.
func (s *Service) Command(ctx context.Context, c identity.Caller, p *identity.Viewer, in gateway.Ask) (wire.Result, error) {
	record := s.identity.NewRecord(c, p, audit.Query, in.SQL)
	started := time.Now()
	if p.Other {
		return wire.Result{}, s.identity.RefuseFrom(
			c,
			p,
			record,
			fault.New(fault.Invalid, "standpoint", "changes are made as yourself; you are viewing as %s. Return to your own view first", p.Words),
		)
	}
	statement, err := query.ParseCommand(in.SQL)
	if err != nil {
		return wire.Result{}, s.identity.RefuseFrom(c, p, record, err)
	}
	if statement.Kind == query.SetRole {
		return s.setRole(ctx, c, p, record, statement)
	}
	if c.Draft() != nil { // what is in it can be named
		if p, err = s.identity.ViewerAt(s.identity.State(c), c, in.Standpoint); err != nil {
			return wire.Result{}, err
		}
	}
	o, err := s.commandOrder(p, c, statement, in.Names)
	if err != nil {
		return wire.Result{}, err
	}
	changed, err := s.carryOut(ctx, o)
	if err != nil {
		return wire.Result{}, err
	}
	return changedResult(changed, p.Words, float64(time.Since(started).Microseconds())/1000), nil
}

// setRole makes the caller's session act in one role it holds, or in all again.
func (s *Service) setRole(
	ctx context.Context,
	c identity.Caller,
	p *identity.Viewer,
	record *store.Record,
	statement *query.Command,
) (wire.Result, error) {
	says, role := say.ActingInAll.With(), access.SubjectID(0)
	all, err := s.identity.ViewerOf(p.State, c, c.User, wire.Standpoint{})
	if err != nil {
		return wire.Result{}, err
	}
	p = all
	if len(statement.Roles) > 0 {
		narrowed, err := s.identity.ViewerOf(p.State, c, c.User, wire.Standpoint{Role: statement.Roles[0]})
		if err != nil {
			return wire.Result{}, s.identity.RefuseFrom(c, p, record, err)
		}
		p, role = narrowed, narrowed.Standpoint.Role
		says = say.ActingIn.With(p.Model.Ref(role))
	}
	if err := s.audit.Write(record); err != nil {
		return wire.Result{}, err
	}
	if err := s.identity.ActIn(ctx, c, role); err != nil {
		return wire.Result{}, err
	}
	return wire.Result{
		Columns:    []wire.ResultColumn{{Name: "done", Type: "text"}},
		Rows:       [][]any{{says}},
		Standpoint: p.Words,
		Record:     audit.Reference(record.ID),
	}, nil
}

// changedResult is what a change did, as rows.
func changedResult(c wire.Changed, rights string, took float64) wire.Result {
	r := wire.Result{Columns: []wire.ResultColumn{{Name: "done", Type: "text"}}, Rows: [][]any{}, TookMS: took, Standpoint: rights,
		Record: say.Revision.With(c.Revision)}
	for _, line := range c.Says {
		r.Rows = append(r.Rows, []any{line})
	}
	for _, e := range c.Effects {
		for _, g := range e.Gains {
			r.Rows = append(r.Rows, []any{say.Gains.With(e.Subject, g)})
		}
		for _, l := range e.Loses {
			r.Rows = append(r.Rows, []any{say.Loses.With(e.Subject, l)})
		}
	}
	for _, n := range c.Notes {
		r.Rows = append(r.Rows, []any{say.Note.With(n)})
	}
	if c.Draft != "" {
		r.Record = say.InDraft.With(c.Draft)
		r.Rows = append(r.Rows, []any{say.Note.With(say.InDraft.With(c.Draft))})
	}
	return r
}

// commandOrder is the order that a statement comes to.
func (s *Service) commandOrder(p *identity.Viewer, c identity.Caller, statement *query.Command, names query.Names) (order, error) {
	all := order{caller: c}
	add := func(o order, err error) error {
		all.changes, all.says, all.notes = append(all.changes, o.changes...), append(all.says, o.says...), append(all.notes, o.notes...)
		if o.also != nil {
			all.also = both(all.also, o.also)
		}
		return err
	}
	switch statement.Kind {
	case query.GrantPrivileges, query.RevokePrivileges:
		revoke := statement.Kind == query.RevokePrivileges
		for _, path := range statement.Objects {
			for _, right := range statement.Rights {
				request := wire.GrantRequest{
					Privileges: []string{right.Privilege},
					Object:     completePath(p, path, names),
					Columns:    right.Columns,
					Subjects:   statement.Subjects,
					Option:     statement.Option && !revoke,
					OptionOnly: statement.Option && revoke,
					Cascade:    statement.Cascade,
				}
				if err := add(s.grantOrder(p.State, c, request, revoke)); err != nil {
					return all, err
				}
			}
		}
		return all, nil
	}
	for _, path := range statement.Objects {
		var err error
		if statement.Kind == query.DropView {
			err = add(s.dropViewOrder(p, c, completePath(p, path, names)))
		} else {
			v := statement.View
			err = add(s.viewOrder(p, c, wire.ViewRequest{Path: withSource(p, path, names), Text: v.Text, Columns: v.Columns,
				Rights: v.Rights, Sealed: v.Sealed, Replace: v.Replace}))
		}
		if err != nil {
			return all, err
		}
	}
	for _, name := range statement.Roles {
		role := "role:" + strings.TrimPrefix(name, "role:")
		if statement.Kind == query.GiveRole || statement.Kind == query.TakeRole {
			for _, member := range statement.Subjects {
				if err := s.mayJoin(p.State, c, wire.Member{Member: member, Of: role, Option: statement.Option}, statement.Kind == query.TakeRole); err != nil {
					return all, err
				}
			}
		} else if err := s.identity.Administers(p.State, c, role); err != nil {
			return all, err
		}
		switch statement.Kind {
		case query.CreateRole:
			add(order{changes: []platform.Change{access.AddSubject{Subject: role}}, says: []string{say.Added.With(role)}}, nil)
		case query.DropRole:
			if err := add(s.removalOrder(p.State, role)); err != nil {
				return all, err
			}
		default:
			for _, member := range statement.Subjects {
				in := wire.Member{Member: member, Of: role, Option: statement.Option}
				if statement.Kind == query.TakeRole && statement.Option {
					if err := add(s.optionOrder(p.State, in)); err != nil {
						return all, err
					}
					continue
				}
				if err := add(s.joinOrder(p.State, c, in, statement.Kind == query.TakeRole)); err != nil {
					return all, err
				}
			}
		}
	}
	return all, nil
}

// withSource puts the source before the path of something new that lacks it, where one
// source has the schema.
func withSource(p *identity.Viewer, path string, names query.Names) string {
	parts, err := access.ParsePath(path)
	if err != nil || len(parts) != 2 {
		return path
	}
	return completePath(p, access.Quote(parts[0]), names) + "." + access.Quote(parts[1])
}

// completePath puts the source, or the source and schema, before a path that lacks
// them, where only one object that the standpoint sees is meant. Another path
// stays as it is, for the refusal to name.
func completePath(p *identity.Viewer, path string, names query.Names) string {
	parts, err := access.ParsePath(path)
	if err != nil {
		return path
	}
	if names.Source != 0 {
		full := p.Model.Path(names.Source) + "." + access.JoinPath(parts...)
		if o, err := p.Model.Lookup(full); err == nil && p.Sees(o.ID) {
			return full
		}
	}
	if _, err := p.Model.Lookup(path); err == nil {
		return path
	}
	var found []string
	p.Each(access.PlatformID, func(o *access.Object) {
		if full := p.Model.Path(o.ID); strings.HasSuffix(full, "."+access.JoinPath(parts...)) {
			found = append(found, full)
		}
	})
	if len(found) == 1 {
		return found[0]
	}
	return path
}
