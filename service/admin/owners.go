package admin

import (
	"context"
	"fmt"
	"strings"

	"gneiss/core/access"
	"gneiss/service/audit"
	"gneiss/service/fault"
	"gneiss/service/identity"
	"gneiss/wire"
)

// SetOwner gives objects another owner.
func (s *Service) SetOwner(ctx context.Context, c identity.Caller, in wire.OwnerRequest) (wire.Changed, error) {
	st := s.platform.Current()
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
		says := fmt.Sprintf("made %s the owner of %s", owner, st.Model.Path(object.ID))
		if owner == "" {
			says = fmt.Sprintf("made the owner of what %s is in its owner again", st.Model.Path(object.ID))
		}
		if before != "" {
			says += ", which was " + before + "'s"
		}
		if owner == "" && object.View != nil {
			o.notes = append(o.notes, "a view with its owner's rights needs an owner of its own; it is closed until it has one")
		}
		o.says = append(o.says, says)
		o.changes = append(o.changes, access.SetOwner{Object: st.Model.Path(object.ID), Owner: owner})
	}
	if strings.HasPrefix(owner, "user:") {
		o.notes = append(o.notes, "consider a role as the owner: roles stay when people leave")
	}
	return s.carryOut(ctx, o)
}
