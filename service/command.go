package service

import (
	"context"
	"fmt"
	"strings"

	"gneiss/core/access"
	"gneiss/core/query"
	"gneiss/store"
	"gneiss/wire"
)

// Command runs a statement of ISO SQL that changes the model. It makes the same
// revision, with the same checks, as the request that it stands for; a statement
// with several parts is one revision.
func (s *Service) Command(ctx context.Context, c Caller, p *standpoint, in wire.QueryRequest) (wire.Result, error) {
	record := s.newRecord(c, p, "query", in.SQL)
	started := s.now()
	if p.other {
		return wire.Result{}, s.refuseFrom(c, p, record, problem(422, "standpoint", "Not possible", "changes are made as yourself; step back from the standpoint of %s first", p.words))
	}
	statement, err := query.ParseCommand(in.SQL)
	if err != nil {
		return wire.Result{}, s.refuseFrom(c, p, record, err)
	}
	if statement.Kind == query.SetRole {
		return s.setRole(ctx, c, p, record, statement)
	}
	o, err := s.commandOrder(p, c, statement)
	if err != nil {
		return wire.Result{}, err
	}
	changed, err := s.make(ctx, o)
	if err != nil {
		return wire.Result{}, err
	}
	return changedResult(changed, p.words, float64(s.now().Sub(started).Microseconds())/1000), nil
}

// setRole makes the caller's session act in one role it holds, or in all again.
func (s *Service) setRole(ctx context.Context, c Caller, p *standpoint, record *store.Record, statement *query.Command) (wire.Result, error) {
	says, role := "acting in all roles held", access.SubjectID(0)
	all, err := s.standAs(p.state, c, c.User, wire.Standpoint{})
	if err != nil {
		return wire.Result{}, err
	}
	p = all
	if len(statement.Roles) > 0 {
		narrowed, err := s.standAs(p.state, c, c.User, wire.Standpoint{Role: statement.Roles[0]})
		if err != nil {
			return wire.Result{}, s.refuseFrom(c, p, record, err)
		}
		p, role = narrowed, narrowed.Session.Role
		says = "acting in " + p.Model.Ref(role) + " until SET ROLE NONE"
	}
	if err := s.record(record); err != nil {
		return wire.Result{}, err
	}
	if err := s.actIn(ctx, c, role); err != nil {
		return wire.Result{}, err
	}
	return wire.Result{Columns: []wire.ResultColumn{{Name: "done", Type: "text"}}, Rows: [][]any{{says}}, Standing: p.words, Record: reference(record.ID)}, nil
}

// changedResult is what a change did, as rows.
func changedResult(c wire.Changed, standing string, took float64) wire.Result {
	r := wire.Result{Columns: []wire.ResultColumn{{Name: "done", Type: "text"}}, Rows: [][]any{}, TookMS: took, Standing: standing,
		Record: fmt.Sprintf("revision %d", c.Revision)}
	for _, line := range c.Says {
		r.Rows = append(r.Rows, []any{line})
	}
	for _, e := range c.Effects {
		for _, g := range e.Gains {
			r.Rows = append(r.Rows, []any{e.Subject + " gains " + g})
		}
		for _, l := range e.Loses {
			r.Rows = append(r.Rows, []any{e.Subject + " loses " + l})
		}
	}
	for _, n := range c.Notes {
		r.Rows = append(r.Rows, []any{"note: " + n})
	}
	return r
}

// commandOrder is the order that a statement comes to.
func (s *Service) commandOrder(p *standpoint, c Caller, statement *query.Command) (order, error) {
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
				request := wire.GrantRequest{Privileges: []string{right.Privilege}, Object: p.complete(path), Columns: right.Columns, Subjects: statement.Subjects,
					Option: statement.Option && !revoke, OptionOnly: statement.Option && revoke, Cascade: statement.Cascade}
				if err := add(s.grantOrder(p.state, c, request, revoke)); err != nil {
					return all, err
				}
			}
		}
		return all, nil
	}
	for _, path := range statement.Objects {
		var err error
		if statement.Kind == query.DropView {
			err = add(s.dropViewOrder(p, c, p.complete(path)))
		} else {
			v := statement.View
			err = add(s.viewOrder(p, c, wire.ViewRequest{Path: p.within(path), Text: v.Text, Columns: v.Columns, Rights: v.Rights, Sealed: v.Sealed, Replace: v.Replace}))
		}
		if err != nil {
			return all, err
		}
	}
	for _, name := range statement.Roles {
		role := "role:" + strings.TrimPrefix(name, "role:")
		if statement.Kind == query.GiveRole || statement.Kind == query.TakeRole {
			for _, member := range statement.Subjects {
				if err := s.mayJoin(p.state, c, wire.Member{Member: member, Of: role, Option: statement.Option}, statement.Kind == query.TakeRole); err != nil {
					return all, err
				}
			}
		} else if err := s.administers(p.state, c, role); err != nil {
			return all, err
		}
		switch statement.Kind {
		case query.CreateRole:
			add(order{changes: []change{access.AddSubject{Subject: role}}, says: []string{"added " + role}}, nil)
		case query.DropRole:
			if err := add(s.removalOrder(p.state, role)); err != nil {
				return all, err
			}
		default:
			for _, member := range statement.Subjects {
				in := wire.Member{Member: member, Of: role, Option: statement.Option}
				if statement.Kind == query.TakeRole && statement.Option {
					if err := add(s.optionOrder(p.state, in)); err != nil {
						return all, err
					}
					continue
				}
				if err := add(s.joinOrder(p.state, c, in, statement.Kind == query.TakeRole)); err != nil {
					return all, err
				}
			}
		}
	}
	return all, nil
}

// within puts the source before the path of something new that lacks it, where one
// source has the schema.
func (p *standpoint) within(path string) string {
	parts, err := access.ParsePath(path)
	if err != nil || len(parts) != 2 {
		return path
	}
	return p.complete(access.Quote(parts[0])) + "." + access.Quote(parts[1])
}

// complete puts the source, or the source and schema, before a path that lacks
// them, where only one object that the standpoint sees is meant. Another path
// stays as it is, for the refusal to name.
func (p *standpoint) complete(path string) string {
	parts, err := access.ParsePath(path)
	if err != nil {
		return path
	}
	if _, err := p.Model.Lookup(path); err == nil {
		return path
	}
	var found []string
	p.each(access.PlatformID, func(o *access.Object) {
		if full := p.Model.Path(o.ID); strings.HasSuffix(full, "."+access.JoinPath(parts...)) {
			found = append(found, full)
		}
	})
	if len(found) == 1 {
		return found[0]
	}
	return path
}
