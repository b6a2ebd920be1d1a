package admin

import (
	"context"
	"strings"

	"gneiss/core/access"
	"gneiss/service/audit"
	"gneiss/service/fault"
	"gneiss/service/identity"
	"gneiss/service/say"
	"gneiss/wire"
)

// SetOwner gives objects another owner.
func (s *Service) SetOwner(ctx context.Context, c identity.Caller, in wire.OwnerRequest) (wire.Changed, error) {
	st := s.identity.State(c)
	o := order{caller: c, Change: in.Change}
	if len(in.Objects) == 0 {
		return wire.Changed{}, fault.New(fault.Invalid, "nothing", "name at least one object")
	}
	own, err := s.identity.Own(st, c)
	if err != nil {
		return wire.Changed{}, err
	}
	owner := ""
	for _, path := range in.Objects {
		if err := manages(st, own, path); err != nil && c.User != 0 {
			return wire.Changed{}, s.notTold(st, c, wire.GrantRequest{Object: path}, s.identity.Refuse(c, audit.Change, "the owner of "+path, err))
		}
		object, err := st.Model.Lookup(path)
		if err != nil {
			return wire.Changed{}, err
		}
		if in.Owner != "" {
			subject, err := st.Model.FindSubject(in.Owner)
			if err != nil {
				return wire.Changed{}, err
			}
			owner = subject.Ref()
		}
		before := st.Model.Ref(st.Model.Owner(object.ID))
		says := say.MadeOwner.With(owner, st.Model.Path(object.ID))
		if owner == "" {
			says = say.MadeOwnerAbove.With(st.Model.Path(object.ID))
		}
		if before != "" {
			says += say.WhichWas.With(before)
		}
		if owner == "" && object.View != nil {
			o.notes = append(o.notes, say.ViewNeedsOwner.With())
		}
		o.says = append(o.says, says)
		o.changes = append(o.changes, access.SetOwner{Object: st.Model.Path(object.ID), Owner: owner})
	}
	if strings.HasPrefix(owner, "user:") {
		o.notes = append(o.notes, say.RolesStay.With())
	}
	return s.carryOut(ctx, o)
}
