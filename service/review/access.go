package review

import (
	"slices"
	"strings"
	"time"

	"gneiss/core/access"
	"gneiss/service/fault"
	"gneiss/service/identity"
	"gneiss/service/platform"
	"gneiss/service/say"
	"gneiss/wire"
)

// An AccessSearch asks for effective access: of a subject, or to an object.
type AccessSearch struct {
	Of      string
	At      wire.Standpoint // the role and purpose of the subject
	Below   string          // with Of: only at and below this object
	Columns bool            // with Of: column by column, too
	To      string
	Paths   bool   // with every way to each privilege
	After   string // a cursor
	Limit   int    // how many items; usualAccess when zero, mostAccess at the most
}

const (
	usualAccess = 1_000
	mostAccess  = 10_000
)

// AccessOf lists what one subject can do, object by object: containers where a
// privilege is held or a door is open, and all relations that can be used; with
// columns those, too. The cursor is the path of the last object.
func (s *Service) AccessOf(c identity.Caller, q AccessSearch) (wire.AccessList, error) {
	st, at := s.identity.State(c), q.At
	subject, err := s.identity.Reviewable(st, c, q.Of)
	if err != nil {
		return wire.AccessList{}, err
	}
	at.As = subject.Ref()
	p, err := s.identity.ViewerOf(st, c, subject.ID, at)
	if err != nil {
		return wire.AccessList{}, err
	}
	root, err := st.Model.Lookup(orPlatform(q.Below))
	if err != nil || !p.Reviews && !p.Sees(root.ID) {
		if root, err = s.identity.Seen(p, q.Below); err != nil {
			return wire.AccessList{}, err
		}
	}
	after := access.ObjectID(0) // up to which all was listed
	if q.After != "" {
		last, err := st.Model.Lookup(q.After)
		if err != nil || !st.Model.Within(root.ID, last.ID) || !p.Reviews && !p.Sees(last.ID) {
			return wire.AccessList{}, fault.New(fault.Invalid, "bad_cursor", "%.200q is no cursor of this list", q.After)
		}
		after = last.ID
	}
	out, limit := wire.AccessList{About: p.Words + p.Through, Items: []wire.Access{}, Revision: st.Revision}, bounded(q.Limit, usualAccess, mostAccess)
	var visit func(o *access.Object) bool
	visit = func(o *access.Object) bool {
		if o.Kind == access.Column && (!q.Columns && o.ID != root.ID || o.Missing || !p.Reviews && p.Absent(o.ID)) {
			return true
		}
		if after != 0 {
			if !st.Model.Within(o.ID, after) {
				return true // which was listed
			}
			if after == o.ID {
				after = 0
			}
		} else if v := p.Resolve(o.ID); v.Held != 0 && (p.Reviews || p.Sees(o.ID)) {
			if len(out.Items) == limit {
				out.Next = out.Items[len(out.Items)-1].Object
				return false
			}
			out.Items = append(out.Items, s.access(p, o, q.Paths))
		}
		if o.Missing && o.Kind.IsRelation() {
			return true // of which the columns are gone, too
		}
		for _, id := range o.Children {
			if !visit(st.Model.Object(id)) {
				return false
			}
		}
		return true
	}
	visit(root)
	return out, nil
}

func orPlatform(path string) string {
	if path == "" {
		return "platform"
	}
	return path
}

// access says what a standpoint can do with one object.
func (s *Service) access(p *identity.Viewer, o *access.Object, paths bool) wire.Access {
	v := p.Resolve(o.ID)
	a := wire.Access{
		Subject:    p.Words,
		Object:     p.Model.Path(o.ID),
		Kind:       o.Kind.String(),
		Privileges: privilegeNames(v.Allowed),
		Bands:      bandsOf(p, o.ID),
	}
	if o.Kind == access.View && v.Allowed.Has(access.Select) {
		a.Rows = leftBy(p, o).says
	} else if o.Kind.IsRelation() && v.Allowed.Has(access.Select) {
		g := p.State.Policies.Govern(p.Rights, o.ID)
		a.Rows, a.Columns = rowsSay(p, g), columnsSay(p, v, g)
	} else if o.Kind == access.Column && v.Allowed.Has(access.Select) {
		a.Columns = a.Bands.Says
		a.Rows = rowsSay(p, p.State.Policies.Govern(p.Rights, o.Parent))
	} else if len(v.Shut) > 0 {
		a.Rows = say.CannotEnterDoor.With(p.Model.Path(v.Shut[0]))
	}
	if paths {
		for _, privilege := range v.Held.Each() {
			if privilege == access.All || !v.Held.Has(access.All) {
				a.Paths = append(a.Paths, s.paths(p, privilege, o.ID)...)
			}
		}
	}
	return a
}

// holding lists the subjects that hold a privilege on an object, by kind and
// name.
func (s *Service) holding(st *platform.State, id access.ObjectID) []*access.Subject {
	census := st.Census(time.Now())
	set := census.Held(access.Usage, id)
	for p := access.Select; p < access.All; p++ {
		set.InPlaceUnion(census.Held(p, id))
	}
	subjects := census.Each(set)
	slices.SortFunc(subjects, access.CompareSubjects)
	return subjects
}

// AccessTo lists the subjects that can do something with an object. The cursor is the last subject.
func (s *Service) AccessTo(c identity.Caller, q AccessSearch) (wire.AccessList, error) {
	st, path := s.identity.State(c), q.To
	o, err := st.Model.Lookup(orPlatform(path))
	if err != nil || !s.identity.ReviewsObject(st, c, o.ID) {
		own, ownErr := s.identity.ViewerAt(st, c, wire.Standpoint{})
		if ownErr != nil {
			return wire.AccessList{}, ownErr
		}
		if _, err := s.identity.Seen(own, path); err != nil {
			return wire.AccessList{}, err
		}
		return wire.AccessList{}, fault.New(fault.Refused, "refused", "to ask who can use %s you need DESCRIBE or MANAGE on it", path)
	}
	out := wire.AccessList{About: st.Model.Path(o.ID), Items: []wire.Access{}, Revision: st.Revision}
	holding := s.holding(st, o.ID)
	if q.After != "" {
		holding = slices.DeleteFunc(holding, func(subject *access.Subject) bool { return access.CompareRefs(subject.Ref(), q.After) <= 0 })
	}
	limit, last := bounded(q.Limit, usualAccess, mostAccess), ""
	for _, subject := range holding {
		p, err := s.identity.ViewerOf(st, c, subject.ID, wire.Standpoint{})
		if err != nil {
			continue // disabled: can do nothing
		}
		if len(out.Items) == limit {
			out.Next = last
			break
		}
		last = subject.Ref()
		out.Items = append(out.Items, s.access(p, o, q.Paths))
	}
	return out, nil
}

func (s *Service) paths(p *identity.Viewer, privilege access.Privilege, id access.ObjectID) []wire.Path {
	out := []wire.Path{}
	for _, path := range p.Paths(privilege, id) {
		var w wire.Path
		for _, subject := range path.Subjects {
			w.Steps = append(w.Steps, p.Model.Ref(subject))
		}
		g := path.Grant
		w.Grant = s.grant(p.State, g)
		w.Says = say.PathSays.With(strings.Join(w.Steps, " → "), p.Model.GrantName(g), p.Model.Target(g.Target))
		if g.Grantor != 0 {
			w.Says += say.ByGrantor.With(p.Model.Ref(g.Grantor))
		}
		if !g.At.IsZero() {
			w.Says += say.OnDay.With(g.At.Format("2006-01-02"))
		} else {
			w.Says += say.BuiltIn.With()
		}
		if g.Ticket != "" {
			w.Says += say.Ticket.With(g.Ticket)
		}
		out = append(out, w)
	}
	return out
}
