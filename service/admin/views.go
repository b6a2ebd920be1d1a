package admin

import (
	"context"
	"slices"
	"strings"
	"time"

	"gneiss/core/access"
	"gneiss/core/query"
	"gneiss/service/audit"
	"gneiss/service/fault"
	"gneiss/service/identity"
	"gneiss/service/platform"
	"gneiss/service/say"
	"gneiss/wire"
)

// PutView makes a view, or with Replace replaces it.
func (s *Service) PutView(ctx context.Context, c identity.Caller, in wire.ViewRequest) (wire.Changed, error) {
	st := s.identity.State(c)
	p, err := s.identity.ViewerAt(st, c, wire.Standpoint{})
	if err != nil {
		return wire.Changed{}, err
	}
	o, err := s.viewOrder(p, c, in)
	if err != nil {
		return wire.Changed{}, err
	}
	return s.carryOut(ctx, o)
}

// viewOrder works out the change that makes a view. Who may is asked when it is
// made.
func (s *Service) viewOrder(p *identity.Viewer, c identity.Caller, in wire.ViewRequest) (order, error) {
	st := p.State
	o := order{caller: c, Change: in.Change}
	schema, err := s.viewPlace(p, in.Path)
	if err != nil {
		return o, err
	}
	put := access.PutView{
		Path:   in.Path,
		Text:   strings.TrimRight(strings.TrimSpace(in.Text), "; \t\n"),
		Rights: access.ViewRights(in.Rights),
		Sealed: in.Sealed,
		Owner:  in.Owner,
	}
	own, err := s.identity.Own(st, c)
	if err != nil {
		return o, err
	}
	refuse := func(err error) (order, error) { return o, s.identity.Refuse(c, audit.Change, "the view "+in.Path, err) }
	if !own.Resolve(schema.ID).Allowed.Has(access.Create) { // before it is told what the schema has
		return refuse(identity.Wants(st, access.Create, schema.ID))
	}
	verb := say.MadeView
	old, err := st.Model.Lookup(in.Path)
	switch {
	case err == nil && old.Kind != access.View:
		return o, fault.New(fault.Conflict, "exists", "%s is a %s already", in.Path, old.Kind)
	case err == nil && !old.Missing && !in.Replace:
		return o, fault.New(fault.Conflict, "exists", "there is a view %s already; to replace it: CREATE OR REPLACE VIEW, or --replace", in.Path)
	case err == nil && !old.Missing:
		verb = say.ReplacedView
		if put.Rights == "" {
			put.Rights = old.View.Rights
		}
		if put.Owner == "" {
			put.Owner = st.Model.Ref(old.Owner)
		}
	}
	if put.Rights == "" {
		put.Rights = access.OwnerRights
	}
	if put.Owner == "" {
		put.Owner = st.Model.Ref(c.User)
		if p.Standpoint.Role != 0 {
			put.Owner = st.Model.Ref(p.Standpoint.Role)
		}
	}
	if err := mayPlaceView(st, own, put); err != nil { // first, for the text is bound with its owner's rights
		return refuse(err)
	}
	rights, err := s.viewRights(st, c, put)
	if err != nil {
		return o, err
	}
	if put.Columns, put.Reads, err = query.CheckView(own, rights, st.Policies, put.Path, put.Text, in.Columns); err != nil {
		return refuse(err)
	}
	whose := say.ReadersRights.With()
	if put.Rights == access.OwnerRights {
		whose = say.OwnersRights.With(put.Owner)
	}
	o.changes = []platform.Change{put}
	o.says = []string{verb.With(in.Path, whose)}
	if put.Sealed {
		o.notes = append(o.notes, say.Sealed.With())
	}
	if strings.HasPrefix(put.Owner, "user:") {
		o.notes = append(o.notes, say.RolesStay.With())
	}
	return o, nil
}

// viewPlace finds the schema that a view is to stand in.
func (s *Service) viewPlace(p *identity.Viewer, path string) (*access.Object, error) {
	parts, err := access.ParsePath(path)
	if err != nil || len(parts) != 3 {
		return nil, fault.New(fault.Invalid, "bad_path", "a view stands in a schema: write SOURCE.SCHEMA.NAME, not %q", path)
	}
	return s.identity.Seen(p, access.JoinPath(parts[:2]...))
}

// viewRights is whose rights the text of a view is checked with.
func (s *Service) viewRights(st *platform.State, c identity.Caller, put access.PutView) (*access.Rights, error) {
	if put.Rights == access.ReaderRights {
		return s.identity.Own(st, c)
	}
	owner, err := st.Model.FindSubject(put.Owner)
	if err != nil {
		return nil, err
	}
	return st.Model.Rights(access.Standpoint{Subject: owner.ID}, time.Now())
}

// mayPutView wants CREATE on the schema; of a view that is there, its owner's
// rights; and those of who is to own it, so that nobody takes rights that they lack
// by writing what another's view reads. The text is checked again, for the state
// that the change is made on.
func (s *Service) mayPutView(st *platform.State, c identity.Caller, own *access.Rights, put access.PutView) error {
	if err := mayPlaceView(st, own, put); err != nil {
		return err
	}
	rights, err := s.viewRights(st, c, put)
	if err != nil {
		return err
	}
	columns, reads, err := query.CheckView(own, rights, st.Policies, put.Path, put.Text, given(put.Columns))
	if err == nil && (!slices.Equal(columns, put.Columns) || !slices.Equal(reads, put.Reads)) {
		err = fault.New(fault.Conflict, "stale", "the tables of %s have changed meanwhile; try again", put.Path)
	}
	return err
}

// mayPlaceView is mayPutView but for the text.
func mayPlaceView(st *platform.State, own *access.Rights, put access.PutView) error {
	parts, err := access.ParsePath(put.Path)
	if err != nil || len(parts) != 3 {
		return fault.New(fault.Invalid, "bad_path", "a view stands in a schema: write SOURCE.SCHEMA.NAME, not %q", put.Path)
	}
	schema, err := st.Model.Lookup(access.JoinPath(parts[:2]...))
	if err != nil {
		return err
	}
	if !own.Resolve(schema.ID).Allowed.Has(access.Create) {
		return identity.Wants(st, access.Create, schema.ID)
	}
	if old, err := st.Model.Lookup(put.Path); err == nil && old.Kind == access.View && !old.Missing && !own.Counts(old.Owner) {
		return fault.New(
			fault.Refused,
			"refused",
			"%s belongs to %s; only someone with the owner's rights can replace it",
			put.Path,
			st.Model.Ref(old.Owner),
		)
	}
	return mayOwn(st, own, put.Owner)
}

// mayOwn wants the rights of who is to own a view.
func mayOwn(st *platform.State, own *access.Rights, owner string) error {
	subject, err := st.Model.FindSubject(owner)
	if err != nil {
		return err
	}
	if !own.Counts(subject.ID) {
		return fault.New(
			fault.Refused,
			"refused",
			"a view lends its owner's rights, so its owner is you, or a role that you hold; you do not hold %s",
			owner,
		)
	}
	return nil
}

// given are the names of a view's columns.
func given(columns []access.ViewColumn) []string {
	names := make([]string, len(columns))
	for i, c := range columns {
		names[i] = c.Name
	}
	return names
}

// mayDropView wants the rights of a view's owner, or MANAGE on it.
func mayDropView(st *platform.State, own *access.Rights, path string) error {
	view, err := st.Model.Lookup(path)
	if err == nil && view.Owner != 0 && own.Counts(view.Owner) {
		return nil
	}
	return manages(st, own, path)
}

// DropView takes a view away.
func (s *Service) DropView(ctx context.Context, c identity.Caller, path string, in wire.Change) (wire.Changed, error) {
	st := s.identity.State(c)
	p, err := s.identity.ViewerAt(st, c, wire.Standpoint{})
	if err != nil {
		return wire.Changed{}, err
	}
	o, err := s.dropViewOrder(p, c, path)
	if err != nil {
		return wire.Changed{}, err
	}
	o.Change = in
	return s.carryOut(ctx, o)
}

func (s *Service) dropViewOrder(p *identity.Viewer, c identity.Caller, path string) (order, error) {
	o := order{caller: c}
	view, err := s.identity.Seen(p, path)
	if err != nil {
		return o, err
	}
	if view.Kind != access.View {
		return o, fault.New(fault.Invalid, "wrong_level", "%s is a %s, not a view", path, view.Kind)
	}
	if view.Missing {
		return o, fault.New(fault.NotFound, "not_found", "the view %s is gone already", path)
	}
	path = p.Model.Path(view.ID)
	o.changes, o.says = []platform.Change{access.DropView{Path: path}}, []string{say.RemovedView.With(path)}
	if n := len(p.Model.GrantsOn(view.ID)); n > 0 {
		o.notes = append(o.notes, say.StaysForView.With())
	}
	for _, other := range p.Model.Views(access.PlatformID) {
		if slices.Contains(other.View.Reads, view.ID) && s.identity.ReviewsObject(p.State, c, other.ID) {
			o.notes = append(o.notes, say.ViewClosed.With(p.Model.Path(other.ID)))
		}
	}
	return o, nil
}
