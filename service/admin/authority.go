package admin

import (
	"errors"
	"strings"
	"time"

	"gneiss/core/access"
	"gneiss/core/policy"
	"gneiss/core/query"
	"gneiss/service/fault"
	"gneiss/service/identity"
	"gneiss/service/platform"
	"gneiss/service/say"
)

// mayChange refuses changes that the caller has no right to make. Changes are
// the caller's own: a standpoint gives no rights.
func (s *Service) mayChange(st *platform.State, c identity.Caller, what platform.Change) error {
	if c.User == 0 {
		return nil // the service itself: the making of a platform
	}
	own, err := s.identity.Own(st, c)
	if err != nil {
		return err
	}
	switch what := what.(type) {
	case access.AddObject, access.MissObject:
		return nil // a scan's, which has asked
	case access.AddGrant:
		return s.mayGrant(st, c, what)
	case access.RemoveGrant:
		return s.mayRevoke(st, c, own, what)
	case access.SetOwner:
		if o, err := st.Model.Lookup(what.Object); err == nil && o.View != nil && what.Owner != "" {
			if err := mayOwn(st, own, what.Owner); err != nil {
				return err
			}
		}
		return manages(st, own, what.Object)
	case access.PutView:
		return s.mayPutView(st, c, own, what)
	case access.DropView:
		return mayDropView(st, own, what.Path)
	case access.PutLane:
		if _, err := st.Model.FindLane(what.Lane); err == nil {
			return manages(st, own, laneOf(what.Lane))
		}
	case access.Join:
		role, err := st.Model.FindSubject(what.Of)
		if err == nil && what.Passed && what.By == st.Model.Ref(c.User) && st.Model.MayGive(c.User, role.ID, time.Now()) && !what.Option {
			return nil
		}
	case access.Leave:
		if what.By == st.Model.Ref(c.User) && !what.Cascade && mayTake(st, c, what) {
			return nil
		}
	case policy.PutRowPolicy:
		if err := s.managesOld(st, own, what.Name); err != nil {
			return err
		}
		return manages(st, own, what.Table)
	case policy.PutColumnPolicy:
		if err := s.managesOld(st, own, what.Name); err != nil {
			return err
		}
		if what.Label != "" {
			return manages(st, own, labelOf(what.Label))
		}
		for _, path := range what.Columns {
			within, _ := access.CutPattern(path)
			o, err := st.Model.Lookup(within)
			if err != nil {
				return err
			}
			if !own.Resolve(o.ID).Allowed.Has(access.Manage) {
				return identity.Wants(st, access.Manage, o.ID)
			}
		}
		return nil
	case policy.PlaceLabel:
		return manages(st, own, what.Object)
	case policy.LiftLabel:
		return managesLabel(st, own, what.Label, what.Object)
	case policy.DismissTopic:
		return manages(st, own, what.Object)
	case policy.PutRelationship:
		return relates(st, own, what.From, what.To)
	case policy.RemoveRelationship:
		return relates(st, own, what.From, what.To)
	case policy.SetPolicyStatus:
		return s.managesOld(st, own, what.Name)
	case policy.RemovePolicy:
		return s.managesOld(st, own, what.Name)
	}
	return manages(st, own, "platform")
}

// manages wants MANAGE on the object that a target stands for or stands in.
func manages(st *platform.State, own *access.Rights, path string) error {
	target, err := st.Model.LookupTarget(path)
	if err != nil {
		return err
	}
	if !own.Resolve(target.Object).Allowed.Has(access.Manage) {
		return identity.Wants(st, access.Manage, target.Object)
	}
	return nil
}

// mayGrant wants a grant that entitles the caller.
func (s *Service) mayGrant(st *platform.State, c identity.Caller, what access.AddGrant) error {
	target, err := st.Model.LookupTarget(what.Object)
	if err != nil {
		return err
	}
	if err := s.columnThere(st, c, target.Object); err != nil {
		return err
	}
	p, b, err := st.Model.ParseRight(what.Privilege)
	if err != nil {
		return err
	}
	gives := st.Model.Gives(&access.Grant{Privilege: p, Bundle: b})
	if st.Model.Entitling(c.User, gives, target, time.Now()) == nil {
		return identity.Wants(st, access.Manage, target.Object)
	}
	if gives.Has(access.Reveal) {
		return s.mayReveal(st, c, target)
	}
	return nil
}

// columnThere refuses to grant on a column that does not exist for the caller.
func (s *Service) columnThere(st *platform.State, c identity.Caller, id access.ObjectID) error {
	o := st.Model.Object(id)
	if o.Kind != access.Column || s.identity.Reviews(st, c) {
		return nil
	}
	own, err := s.identity.Own(st, c)
	if err != nil {
		return err
	}
	if st.Policies.Govern(own, o.Parent).Columns[id].Treatment.Kind == policy.Absent {
		return &access.NotFound{Kind: "column", Name: st.Model.Path(id)}
	}
	return nil
}

// mayReveal refuses to grant REVEAL past a policy that the caller may not stop: who
// manages a schema does not lift what comes from a label above it.
func (s *Service) mayReveal(st *platform.State, c identity.Caller, target access.Target) error {
	own, err := s.identity.Own(st, c)
	if err != nil {
		return err
	}
	for _, p := range st.Policies.AllColumns() {
		if own.Resolve(p.At()).Allowed.Has(access.Manage) {
			continue
		}
		lifts := p.Label != 0 && p.Label == target.Object
		for _, column := range st.Policies.Treated(p, st.Model) {
			lifts = lifts || st.Model.Covers(target, column)
		}
		if !lifts {
			continue
		}
		refusal := identity.Wants(st, access.Manage, p.At())
		var q *query.Error
		if errors.As(refusal, &q) {
			q.Text = say.RevealLifts.With(st.Model.Target(target),
				p.Name,
				st.Model.Path(p.At()),
			)
			if !s.identity.Reviews(st, c) {
				q.Text = say.RevealLiftsOne.With(st.Model.Target(target))
			}
		}
		return refusal
	}
	return nil
}

// mayRevoke lets who made a grant take it back, and who manages its object take
// back anybody's.
func (s *Service) mayRevoke(st *platform.State, c identity.Caller, own *access.Rights, what access.RemoveGrant) error {
	if what.Grantor != "" && what.Grantor == st.Model.Ref(c.User) && !what.Cascade {
		return nil
	}
	return manages(st, own, what.Object)
}

// mayTake lets who gave a role on take it back.
func mayTake(st *platform.State, c identity.Caller, what access.Leave) bool {
	member, err := st.Model.FindSubject(what.Member)
	if err != nil {
		return false
	}
	for _, e := range member.Memberships {
		if st.Model.Ref(e.Of) == what.Of && e.By == c.User && st.Model.Subject(e.Of).Kind == access.Role {
			return true
		}
	}
	return false
}

// managesLabel wants MANAGE on the object, and on the label too where policies
// are about it: to take it off the object takes their protection off.
func managesLabel(st *platform.State, own *access.Rights, label, object string) error {
	if err := manages(st, own, object); err != nil {
		return err
	}
	l, err := st.Model.FindLabel(label)
	if err != nil || len(st.Policies.On(l.ID)) == 0 {
		return err
	}
	return manages(st, own, labelOf(label))
}

// relates wants MANAGE on the table whose rows the relationship can be followed
// for, and REFERENCES on the columns that it leads to (ISO/IEC 9075-2, 11.8).
func relates(st *platform.State, own *access.Rights, from, to []string) error {
	for _, path := range from {
		if err := manages(st, own, path); err != nil {
			return err
		}
	}
	for _, path := range to {
		o, err := st.Model.Lookup(path)
		if err == nil {
			err = references(st, own, o.ID)
		}
		if err != nil {
			return err
		}
	}
	return nil
}

func references(st *platform.State, own *access.Rights, column access.ObjectID) error {
	if !own.Resolve(column).Allowed.Any(access.Set(access.References, access.Manage)) {
		return identity.Wants(st, access.References, column)
	}
	return nil
}

// mayLend refuses a policy whose texts name a table that its writer does not
// manage, whatever the policy is about by now. The texts are run with the service's authority, so the values that
// they read are lent to all that the policy is for, the writer among them.
func (s *Service) mayLend(st *platform.State, c identity.Caller, what platform.Change) error {
	switch what.(type) {
	case policy.PutRowPolicy, policy.PutColumnPolicy:
	default:
		return nil
	}
	if c.User == 0 {
		return nil // the service itself
	}
	own, err := s.identity.Own(st, c)
	if err != nil {
		return err
	}
	var scope *policy.Scope
	var about []access.ObjectID // a column of each table, or each column, that the policy is about
	condition, expression := "", ""
	switch what := what.(type) {
	case policy.PutRowPolicy:
		row, _ := st.Policies.Find(what.Name)
		condition = row.Rule
		st.Model.Relations(access.PlatformID, func(table *access.Object) bool {
			if st.Policies.Covers(row, st.Model, table.ID) && len(table.Children) > 0 {
				about = append(about, table.Children[0])
			}
			return true
		})
		if row.Follow != nil {
			for _, id := range row.Follow.To {
				if err := references(st, own, id); err != nil {
					return err
				}
			}
			return nil
		}
		scope = &row.Scope
	case policy.PutColumnPolicy:
		_, column := st.Policies.Find(what.Name)
		scope, condition, expression = &column.Scope, column.When, column.Treatment.SQL
		about = st.Policies.Treated(column, st.Model)
	}
	for _, id := range scope.Reads {
		if !own.Sees(id) {
			return noSuchTable()
		}
		if !own.Resolve(id).Allowed.Has(access.Manage) {
			return identity.Wants(st, access.Manage, id)
		}
	}
	for _, id := range about {
		for _, read := range query.ColumnsRead(own, st.Model.Object(id), condition, expression) {
			if err := s.mayPublish(st, c, own, read, scope); err != nil {
				return err
			}
		}
	}
	return nil
}

// mayPublish refuses a policy's text that reads a column which another policy treats, where the
// writer may not stop that policy: what the text makes of the values, or which rows it keeps by
// them, would tell of them whole or one bit at a time. Who sees the column in clear may write it
// for themself alone.
func (s *Service) mayPublish(st *platform.State, c identity.Caller, own *access.Rights, column access.ObjectID, scope *policy.Scope) error {
	table := st.Model.Object(column).Parent
	for _, p := range st.Policies.ColumnPolicies(st.Model, table) {
		if p.Name == scope.Name || p.Status != policy.Live || !st.Policies.Treats(p, st.Model, column) ||
			own.Resolve(p.At()).Allowed.Has(access.Manage) {
			continue
		}
		decision := st.Policies.Govern(own, table).Columns[column]
		if len(scope.For) == 1 && scope.For[0] == c.User && decision.Treatment.Kind == policy.Clear {
			continue
		}
		refusal := identity.Wants(st, access.Manage, p.At())
		var q *query.Error
		if errors.As(refusal, &q) {
			q.Text = say.PolicyReads.With(st.Model.Path(column), p.Name, st.Model.Path(p.At()))
			if !s.identity.Reviews(st, c) {
				q.Text = say.PolicyReadsOne.With(st.Model.Path(column))
			}
		}
		return refusal
	}
	return nil
}

// noSuchTable says the same of a table that is not there.
func noSuchTable() error {
	return fault.New(fault.NotFound, string(query.Unknown), "the policy reads a table that does not exist or is not yours to use")
}

func labelOf(name string) string {
	return "label:" + strings.TrimPrefix(strings.ToLower(strings.TrimSpace(name)), "label:")
}

func laneOf(name string) string { return "lane:" + strings.TrimPrefix(strings.ToLower(name), "lane:") }

// managesOld wants MANAGE on the table that a policy is on now, if it is there.
func (s *Service) managesOld(st *platform.State, own *access.Rights, name string) error {
	table := access.ObjectID(0)
	if row, column := st.Policies.Find(name); row != nil {
		table = row.At()
	} else if column != nil {
		table = column.At()
	}
	if table != 0 && !own.Resolve(table).Allowed.Has(access.Manage) {
		return identity.Wants(st, access.Manage, table)
	}
	return nil
}
