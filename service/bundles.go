package service

import (
	"context"
	"fmt"
	"strings"

	"gneiss/core/access"
	"gneiss/wire"
)

// Bundles lists the bundles: everyone may know what they are made of.
func (s *Service) Bundles(c Caller) (wire.List[wire.Bundle], error) {
	st := s.state()
	out := wire.List[wire.Bundle]{Items: []wire.Bundle{}}
	for _, b := range st.model.Bundles() {
		w := wire.Bundle{Name: b.Name, Privileges: privilegeNames(b.Privileges), BuiltIn: b.BuiltIn()}
		if s.reviews(st, c) {
			w.Grants = len(st.model.GrantsOf(b))
		}
		out.Items = append(out.Items, w)
	}
	return out, nil
}

// PutBundle adds a bundle, or with Replace changes what it and its grants give.
func (s *Service) PutBundle(ctx context.Context, c Caller, in wire.BundleRequest) (wire.Changed, error) {
	st := s.state()
	if err := s.administers(st, c, "the bundle "+in.Name); err != nil {
		return wire.Changed{}, err
	}
	old, err := st.model.FindBundle(in.Name)
	switch {
	case err == nil && !in.Replace:
		return wire.Changed{}, problem(409, "exists", "Not possible", "there is a bundle %s already; to change it: gneiss bundle set %s PRIVILEGES", old.Name, old.Name)
	case err != nil && in.Replace:
		return wire.Changed{}, err
	}
	o := order{caller: c, Change: in.Change, changes: []change{access.PutBundle{Bundle: in.Name, Privileges: in.Privileges}}}
	after, err := st.apply(o.changes[0], s.now())
	if err != nil {
		return wire.Changed{}, err
	}
	b, err := after.model.FindBundle(in.Name)
	if err != nil {
		return wire.Changed{}, err
	}
	if old == nil {
		o.says = []string{fmt.Sprintf("added the bundle %s: %s", b.Name, b.Privileges)}
	} else {
		o.says = []string{fmt.Sprintf("changed the bundle %s from %s to %s, in %s", b.Name, old.Privileges, b.Privileges, count(len(st.model.GrantsOf(old)), "grant"))}
	}
	return s.make(ctx, o)
}

// RemoveBundle takes away a bundle that nothing is granted by.
func (s *Service) RemoveBundle(ctx context.Context, c Caller, name string, in wire.Change) (wire.Changed, error) {
	st := s.state()
	if err := s.administers(st, c, "the bundle "+name); err != nil {
		return wire.Changed{}, err
	}
	return s.make(ctx, order{caller: c, Change: in, changes: []change{access.RemoveBundle{Bundle: name}}, says: []string{"removed the bundle " + name}})
}

// SetOwner gives objects another owner.
func (s *Service) SetOwner(ctx context.Context, c Caller, in wire.OwnerRequest) (wire.Changed, error) {
	st := s.state()
	o := order{caller: c, Change: in.Change}
	if len(in.Objects) == 0 {
		return wire.Changed{}, problem(422, "nothing", "Not possible", "name at least one object")
	}
	own, err := s.own(st, c)
	if err != nil {
		return wire.Changed{}, err
	}
	owner := ""
	for _, path := range in.Objects {
		if err := manages(st, own, path); err != nil && c.User != 0 {
			return wire.Changed{}, s.notTold(st, c, wire.GrantRequest{Object: path}, s.refuse(c, "change", "the owner of "+path, err))
		}
		object, err := st.model.Lookup(path)
		if err != nil {
			return wire.Changed{}, err
		}
		if in.Owner != "" {
			subject, err := st.model.FindSubject(in.Owner)
			if err != nil {
				return wire.Changed{}, err
			}
			owner = subject.Ref()
		}
		before := st.model.Ref(st.model.Owner(object.ID))
		says := fmt.Sprintf("made %s the owner of %s", owner, st.model.Path(object.ID))
		if owner == "" {
			says = fmt.Sprintf("took the own owner from %s", st.model.Path(object.ID))
		}
		if before != "" {
			says += ", which was " + before + "'s"
		}
		if owner == "" && object.View != nil {
			o.notes = append(o.notes, "a view without an owner of its own has nobody's rights to lend: one with its owner's is closed until it has one")
		}
		o.says = append(o.says, says)
		o.changes = append(o.changes, access.SetOwner{Object: st.model.Path(object.ID), Owner: owner})
	}
	if strings.HasPrefix(owner, "user:") {
		o.notes = append(o.notes, "a role is the better owner: it stays when people go")
	}
	return s.make(ctx, o)
}
