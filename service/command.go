package service

import (
	"context"
	"fmt"
	"strings"

	"gneiss/core/access"
	"gneiss/core/query"
	"gneiss/wire"
)

// command runs a statement of ISO SQL that changes the model. It makes the same
// revision, with the same checks, as the request that it stands for; a statement
// with several parts is one revision.
func (s *Service) command(ctx context.Context, c Caller, p *standpoint, in wire.QueryRequest) (wire.Result, error) {
	record := s.newRecord(c, p, "query", in.SQL)
	started := s.now()
	if p.other {
		return wire.Result{}, s.refuseFrom(c, p, record, problem(422, "standpoint", "Not possible", "changes are made as yourself; step back from the standpoint of %s first", p.words))
	}
	statement, err := query.ParseCommand(in.SQL)
	if err != nil {
		return wire.Result{}, s.refuseFrom(c, p, record, err)
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
		return err
	}
	switch statement.Kind {
	case query.GrantPrivileges, query.RevokePrivileges:
		revoke := statement.Kind == query.RevokePrivileges
		for _, path := range statement.Objects {
			for _, right := range statement.Rights {
				request := wire.GrantRequest{Privileges: []string{right.Privilege}, Object: p.complete(path), Columns: right.Columns, Subjects: statement.Subjects, Option: statement.Option}
				if err := add(s.grantOrder(p.state, c, request, revoke)); err != nil {
					return all, err
				}
			}
		}
		return all, nil
	}
	if err := s.administers(p.state, c, strings.Join(statement.Roles, ", ")); err != nil {
		return all, err
	}
	for _, name := range statement.Roles {
		role := "role:" + strings.TrimPrefix(name, "role:")
		switch statement.Kind {
		case query.CreateRole:
			add(order{changes: []change{access.AddSubject{Subject: role}}, says: []string{"added " + role}}, nil)
		case query.DropRole:
			if err := add(s.removalOrder(p.state, role)); err != nil {
				return all, err
			}
		default:
			for _, member := range statement.Subjects {
				if err := add(s.joinOrder(p.state, c, wire.Member{Member: member, Of: role}, statement.Kind == query.TakeRole)); err != nil {
					return all, err
				}
			}
		}
	}
	return all, nil
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
